//! Exports: what is live with all that it needs, and what workflows remember.

use std::collections::{BTreeMap, BTreeSet};

use actix_web::HttpResponse;
use actix_web::web::{Data, Json, Path, Query};
use kanzlei_api::transfer::{Export, ExportQuery, ExportedDocument, ExportedSecret, KeptValues};
use kanzlei_compiler::beside;
use kanzlei_compiler::check::relative;
use kanzlei_compiler::plan::{Action, LaneChoice, Plan};
use kanzlei_runtime::clock::now;
use kanzlei_runtime::effects::MOST_KEPT;
use kanzlei_runtime::live::Live;
use kanzlei_store::documents::LiveDocument;
use serde_json::Value as JsonValue;

use super::auth::Caller;
use crate::App;
use crate::error::{Error, Result};

/// Names of documents that are wanted, by kind.
type Wanted = BTreeSet<(&'static str, String)>;

/// `GET /export`: documents with the files that they name, what is remembered, and which secrets are needed.
pub async fn export(app: Data<App>, query: Query<ExportQuery>) -> Result<HttpResponse> {
    let query = query.into_inner();
    let live = app.live.load_full();
    let names = query.names.as_deref().unwrap_or_default();
    let names: Vec<&str> = names.split(',').map(str::trim).filter(|name| !name.is_empty()).collect();
    let wanted = match names.is_empty() {
        true => None,
        false => Some(with_all_they_need(&live, &names)?),
    };
    let needs = |document: &LiveDocument, of: &str| {
        let declared = live.settings.declared.iter().filter(|(_, setting)| setting.document == of);
        declared.into_iter().any(|(name, _)| super::settings::mentions(&document.source, name))
    };
    let chosen = |kind: &str, name: &str| {
        let named = |kind: &str, name: &str| {
            wanted.as_ref().is_some_and(|wanted| wanted.iter().any(|(of, known)| *of == kind && known == name))
        };
        let used = || live.documents.iter().any(|one| named(&one.kind, &one.name) && needs(one, name));
        wanted.is_none() || named(kind, name) || (kind == "settings" && used())
    };
    let mut export =
        Export { documents: Vec::new(), files: BTreeMap::new(), kept: BTreeMap::new(), secrets: Vec::new() };
    for document in live.documents.iter().filter(|document| chosen(&document.kind, &document.name)) {
        add(&mut export, &document.kind, &document.name, &document.source, document.file.as_deref())?;
    }
    // Cases are never live: those that authors saved come along with their workflows.
    for name in live.workflows.keys().filter(|name| chosen("workflow", name)) {
        if let Some(draft) = app.store.draft("cases", name).await? {
            add(&mut export, "cases", name, &draft.source, None)?;
        }
    }
    for name in live.workflows.keys().filter(|name| query.kept && chosen("workflow", name)) {
        let kept = app.store.kept(name).await?;
        if kept.version > 0 {
            export.kept.insert(name.clone(), serde_json::from_str(&kept.value).unwrap_or_default());
        }
    }
    let purposes = app.effects.store.secrets().await?;
    for (name, users) in secrets(&live, &chosen) {
        let known = purposes.iter().find(|secret| secret.name == name);
        let purposes = known.map(|secret| secret.purposes.split_whitespace().map(str::to_owned).collect());
        export.secrets.push(ExportedSecret { name, purposes: purposes.unwrap_or_default(), users });
    }
    Ok(HttpResponse::Ok().json(export))
}

/// Adds a document below the folder of its kind, with the file that it names.
fn add(export: &mut Export, kind: &str, name: &str, text: &str, file: Option<&str>) -> Result<()> {
    let folder = match kind {
        "cases" => "cases",
        "service" => "services",
        "lane" => "lanes",
        "library" => "libraries",
        "allowance" => "allowances",
        "alert" => "alerts",
        "issuer" => "issuers",
        "settings" => "settings",
        _ => "workflows",
    };
    let path = format!("{folder}/{name}.yaml");
    // What an installation has set stays there.
    let file = file.filter(|_| kind != "settings");
    for (named, content) in file.into_iter().flat_map(|kept| beside::unpack(text, kept)) {
        let at = relative(&path, &named);
        if at.starts_with("..") || at.starts_with('/') {
            let detail = format!("`{name}` names {named}, which lies outside of the folder of its documents");
            return Err(Error::problem(422, "The file cannot be exported", detail));
        }
        export.files.insert(at, content);
    }
    let document = ExportedDocument { kind: kind.to_owned(), name: name.to_owned(), path, text: text.to_owned() };
    export.documents.push(document);
    Ok(())
}

/// Workflows with those that they invoke and queue, their services and lanes.
fn with_all_they_need(live: &Live, names: &[&str]) -> Result<Wanted> {
    let mut wanted = Wanted::new();
    let mut open: Vec<String> = names.iter().map(|name| (*name).to_owned()).collect();
    while let Some(name) = open.pop() {
        let Some(workflow) = live.workflows.get(&name) else {
            let near = kanzlei_lang::suggest::nearest(&name, live.workflows.keys().map(String::as_str));
            let hint = near.map(|near| format!("; did you mean `{near}`?")).unwrap_or_default();
            return Err(Error::not_found(format!("no workflow `{name}` is live{hint}")));
        };
        if !wanted.insert(("workflow", name)) {
            continue;
        }
        let plan = &workflow.plan;
        wanted.extend(plan.libraries.iter().map(|library| ("library", library.clone())));
        // Groups of steps come with their libraries; what they call and queue is needed all the same.
        let mut own: Vec<&Plan> = vec![plan];
        let mut next = 0;
        while let Some(plan) = own.get(next).copied() {
            // A library is checked as a whole, with all its groups of steps.
            let of = |name: &str| plan.libraries.iter().any(|one| name.split('.').next() == Some(one));
            let known = |name: &str| own.iter().any(|known| known.name == name);
            let groups: Vec<&Plan> = (live.groups.values().map(|group| &**group))
                .filter(|group| of(&group.name) && !known(&group.name))
                .collect();
            own.extend(groups);
            next += 1;
        }
        let named = own.iter().flat_map(|plan| plan.invokes.iter().chain(&plan.enqueues).chain(&plan.wakes));
        open.extend(named.filter(|name| !name.contains('.')).cloned());
        let services = own.iter().flat_map(|plan| &plan.services);
        wanted.extend(services.map(|service| ("service", service.clone())));
        let allowances = plan.endpoints.iter().filter_map(|endpoint| endpoint.allowance.clone());
        wanted.extend(allowances.map(|name| ("allowance", name)));
        for issuer in plan.issuers().filter_map(|name| live.issuers.get(name)) {
            wanted.insert(("issuer", issuer.name.clone()));
            wanted.extend(issuer.keys.service().map(|service| ("service", service.text.clone())));
            wanted.extend(issuer.allowance.clone().map(|name| ("allowance", name)));
        }
        let lanes =
            |choice: &Option<LaneChoice>| choice.iter().flat_map(|choice| choice.lanes.clone()).collect::<Vec<_>>();
        wanted.extend(lanes(&plan.queue.lane).into_iter().map(|lane| ("lane", lane)));
        for step in own.iter().flat_map(|plan| plan.blocks.iter().flatten()) {
            if let Action::Enqueue(enqueue) = &step.action {
                wanted.extend(lanes(&enqueue.lane).into_iter().map(|lane| ("lane", lane)));
            }
        }
    }
    Ok(wanted)
}

/// Secrets by name, with the services and workflows that use them.
fn secrets(live: &Live, chosen: &dyn Fn(&str, &str) -> bool) -> BTreeMap<String, Vec<String>> {
    let mut users: BTreeMap<String, Vec<String>> = BTreeMap::new();
    for service in live.services.values().filter(|service| chosen("service", &service.name)) {
        if let Some(credentials) = &service.credentials {
            users.entry(credentials.secret().text.clone()).or_default().push(service.name.clone());
        }
    }
    for (name, workflow) in live.workflows.iter().filter(|(name, _)| chosen("workflow", name)) {
        for secret in workflow.plan.secrets() {
            users.entry(secret.to_owned()).or_default().push(name.clone());
        }
    }
    users
}

/// `GET /kept/{workflow}`: what a workflow remembers between runs.
pub async fn kept(app: Data<App>, workflow: Path<String>) -> Result<HttpResponse> {
    let kept = app.store.kept(&live_name(&app, &workflow)?).await?;
    let values = serde_json::from_str(&kept.value).unwrap_or_default();
    Ok(HttpResponse::Ok().json(KeptValues { version: kept.version, values }))
}

/// `PUT /kept/{workflow}`: puts values in place of those of the version that was read.
pub async fn keep(
    app: Data<App>,
    caller: Caller,
    workflow: Path<String>,
    body: Json<KeptValues>,
) -> Result<HttpResponse> {
    let workflow = live_name(&app, &workflow)?;
    caller.notes.changed(format!("what {workflow} remembers"), None, None);
    let JsonValue::Object(values) = &body.values else {
        return Err(Error::problem(422, "Malformed values", "what a workflow remembers is an object"));
    };
    let text = serde_json::to_string(values).unwrap_or_default();
    if text.len() > MOST_KEPT {
        let detail = format!("{} bytes to keep; at most {MOST_KEPT} are kept for one workflow", text.len());
        return Err(Error::problem(422, "Too much to keep", detail));
    }
    if !app.store.keep(&workflow, body.version, &text, now()).await? {
        let detail = format!("`{workflow}` remembers another version than {}; read it again", body.version);
        return Err(Error::problem(409, "It changed in between", detail));
    }
    Ok(HttpResponse::Ok().json(KeptValues { version: body.version + 1, values: body.values.clone() }))
}

fn live_name(app: &App, name: &str) -> Result<String> {
    match app.live.load().workflows.contains_key(name) {
        true => Ok(name.to_owned()),
        false => Err(Error::not_found(format!("no workflow `{name}` is live"))),
    }
}
