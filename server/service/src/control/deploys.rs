//! Checking documents beside what is live, and putting them live.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use actix_web::HttpResponse;
use actix_web::web::{Data, Json};
use kanzlei_analysis::compare;
use kanzlei_api::deploys::{self as api, Deployed, DeployedDocument};
use kanzlei_api::drafts::DraftName;
use kanzlei_api::workflows::Endpoint;
use kanzlei_compiler::beside;
use kanzlei_compiler::check::{Bundle, Checked, Column, Known, check as check_bundle, relative};
use kanzlei_compiler::plan::Plan;
use kanzlei_lang::diagnostic::{Diagnostic, Place, Report, Severity};
use kanzlei_lang::document::{self, Source};
use kanzlei_model::gradual::Rules;
use kanzlei_model::hex;
use kanzlei_model::problem::Problem;
use kanzlei_runtime::clock::now;
use kanzlei_runtime::live::Live;
use kanzlei_store::databases::Refused;
use kanzlei_store::documents::{Deploy, LiveDocument, NewDocument};
use kanzlei_store::names::Rename;
use serde::Deserialize;
use serde_json::json;
use sha2::{Digest, Sha256};

use super::auth::Caller;
use super::workflows::endpoints;
use super::{LARGEST, gradual, libraries, settings, watches};
use crate::App;
use crate::error::{Error, Result};

/// Documents of one deploy.
const MOST_DOCUMENTS: usize = 2000;

/// Documents with what is live beside them, so that each sees the others.
pub(super) fn with_live(given: Bundle, live: &Live) -> Bundle {
    with_live_but(given, &live.documents, None)
}

/// The same without a workflow that is renamed.
pub(super) fn with_live_but(given: Bundle, live: &[LiveDocument], renamed: Option<&str>) -> Bundle {
    let mut bundle = given;
    let names: Vec<Option<(&'static str, String)>> = bundle.documents.iter().map(|d| name_of(&d.text)).collect();
    let kept: Vec<LiveDocument> = live
        .iter()
        .filter(|document| document.kind != "workflow" || renamed != Some(&document.name))
        .filter(|document| !names.iter().flatten().any(|(kind, name)| *kind == document.kind && *name == document.name))
        .cloned()
        .collect();
    let others = kanzlei_runtime::live::bundle(&kept);
    bundle.documents.extend(others.documents);
    bundle.files.extend(others.files);
    bundle
}

/// Kind and name of a document, as far as they are known.
pub(super) fn name_of(text: &str) -> Option<(&'static str, String)> {
    let kind = document::kind_of(text)?;
    let mut report = Report::new("", text);
    let root = document::yaml::parse(&mut report)?;
    Some((kind, root.get(kind)?.as_text()?.to_owned()))
}

/// Warnings about documents that are live already are no news.
pub(super) fn news(diagnostics: Vec<Diagnostic>) -> Vec<Diagnostic> {
    diagnostics.into_iter().filter(|d| d.severity == Severity::Error || !d.path.starts_with("live/")).collect()
}

/// What a request brings: documents, and drafts that are read here.
#[derive(Debug, Deserialize)]
pub struct Given {
    #[serde(flatten)]
    bundle: Bundle,
    #[serde(default)]
    drafts: Vec<DraftName>,
    #[serde(default)]
    settings: BTreeMap<String, serde_json::Value>,
    #[serde(default)]
    over: bool,
    #[serde(default)]
    preview: bool,
    #[serde(default)]
    gradual: Option<Rules>,
}

/// Kind, name and version of drafts.
pub(super) type Taken = Vec<(String, String, u64)>;

impl Given {
    /// Documents and drafts that are tried.
    pub(super) fn of(
        documents: impl Iterator<Item = Source>,
        files: &BTreeMap<String, String>,
        drafts: &[DraftName],
    ) -> Self {
        let bundle = Bundle { documents: documents.collect(), files: files.clone(), ..Bundle::default() };
        Given { bundle, drafts: drafts.to_vec(), settings: BTreeMap::new(), over: true, preview: true, gradual: None }
    }

    /// The documents with the texts of the drafts.
    pub(super) async fn read(self, app: &App, live: &Live) -> Result<(Bundle, Taken)> {
        let mut bundle = self.bundle;
        let too_many = |what: String| Error::problem(422, "Too many drafts", format!("{what}; deploy them in parts"));
        if self.drafts.len() > MOST_DOCUMENTS {
            return Err(too_many(format!("at most {MOST_DOCUMENTS} drafts are read at once")));
        }
        if self.preview {
            let given = bundle.documents.iter().map(|source| (source.path.as_str(), source.text.as_str()));
            let beside = templates_of(app, given, &bundle.files).await?;
            bundle.files.extend(beside);
        }
        let mut taken = Vec::with_capacity(self.drafts.len());
        let mut bytes = 0;
        for DraftName { kind, name } in self.drafts {
            let Some(draft) = app.store.draft(&kind, &name).await? else {
                return Err(Error::not_found(format!("there is no draft of the {kind} `{name}`")));
            };
            bytes += draft.source.len() + draft.file.as_ref().map_or(0, String::len);
            if bytes > LARGEST {
                return Err(too_many(format!("together they have more than {LARGEST} bytes")));
            }
            let deployed = live.documents.iter().find(|document| document.kind == kind && document.name == name);
            let number = deployed.map(|deployed| deployed.number);
            if number.is_some() && number != draft.base && !self.over {
                let began = draft.base.map_or("before any was live".into(), |base| format!("from revision {base}"));
                let detail = format!(
                    "the draft of the {kind} `{name}` began {began}, and revision {} is live; compare them, and deploy it over that one",
                    number.unwrap_or_default()
                );
                return Err(Error::problem(409, "Another revision went live", detail));
            }
            let path = format!("draft/{kind}/{name}.yaml");
            for (name, text) in draft.file.iter().flat_map(|kept| beside::unpack(&draft.source, kept)) {
                bundle.files.insert(relative(&path, &name), text);
            }
            bundle.documents.push(Source::new(path, draft.source));
            taken.push((kind, name, draft.version));
        }
        settings::carry(&mut bundle, live, &self.settings)?;
        Ok((bundle, taken))
    }
}

/// The templates of workflows whose texts are given without them: those of the draft, or of what is live.
pub(super) async fn templates_of<'d>(
    app: &App,
    documents: impl IntoIterator<Item = (&'d str, &'d str)>,
    given: &BTreeMap<String, String>,
) -> Result<BTreeMap<String, String>> {
    let mut found = BTreeMap::new();
    for (path, text) in documents {
        let Some(("workflow", name)) = name_of(text).filter(|_| text.contains("template:")) else { continue };
        let live = app.live.load_full();
        let live = || live.documents.iter().find(|one| one.kind == "workflow" && one.name == name);
        let of_draft = app.store.draft("workflow", &name).await?.and_then(|draft| draft.file);
        let Some(kept) = of_draft.or_else(|| live()?.file.clone()) else { continue };
        for (beside, template) in beside::unpack(text, &kept) {
            let beside = relative(path, &beside);
            if !given.contains_key(&beside) {
                found.insert(beside, template);
            }
        }
    }
    Ok(found)
}

/// `POST /check`: diagnostics of documents together with what is live.
pub async fn check(app: Data<App>, body: Json<Given>) -> Result<HttpResponse> {
    let live = app.live.load_full();
    let (given, _) = body.into_inner().read(&app, &live).await?;
    let bundle = with_live(given, &live);
    let checked = check_here(&app, bundle).await?;
    Ok(HttpResponse::Ok().json(api::Checked { diagnostics: news(checked.diagnostics) }))
}

/// Statements that are shown to their databases in one check.
const MOST_STATEMENTS: usize = 2000;

/// What this service has beside documents, as far as it is known without asking databases.
pub(super) fn known(app: &App) -> Known {
    Known {
        secrets: app.effects.secrets.purposes(),
        network: app.jobs.network.as_ref().clone(),
        bases: app.bases.clone(),
        databases: app
            .effects
            .databases
            .iter()
            .map(|(name, outside)| (name.clone(), outside.allowed.clone()))
            .collect(),
        places: app.effects.files.names().map(str::to_owned).collect(),
        mail: app.effects.mailer.is_set(),
        ..Known::default()
    }
}

/// Checks documents against what this service has: secrets, databases, and what those say of statements.
pub(super) async fn check_here(app: &App, mut bundle: Bundle) -> Result<Checked> {
    let mut known = known(app);
    bundle.known = Some(known.clone());
    let (mut bundle, checked) = checked_of(app, bundle).await?;
    if checked.workflows.iter().any(|(_, plan)| plan.prints()) {
        known.no_printer = app.effects.printer.engine().await.err();
    }
    let once: BTreeSet<&String> =
        checked.workflows.iter().flat_map(|(_, plan)| &plan.once).map(|database| &database.text).collect();
    for name in once {
        let Some(outside) = app.effects.databases.get(name) else { continue };
        let database = outside.database.clone();
        let asked = async move { (database.unprepared().await, database.without_transactions().await) };
        // One that is unavailable says nothing; its jobs fail until it is prepared.
        let Ok((unprepared, without)) = app.runtime.spawn(asked).await else { continue };
        if let Ok(missing) = unprepared
            && !missing.is_empty()
        {
            known.unprepared.insert(name.clone(), missing);
        }
        known.no_transactions.insert(name.clone(), without.unwrap_or_default());
    }
    let asked: BTreeSet<(String, String)> = checked
        .workflows
        .iter()
        .flat_map(|(_, plan)| &plan.statements)
        .map(|(database, statement)| (database.clone(), statement.prepared()))
        .take(MOST_STATEMENTS)
        .collect();
    known.watched = watches::reported(app, checked.workflows.iter().map(|(_, plan)| plan)).await;
    if asked.is_empty() && known.unprepared.is_empty() && known.watched.is_empty() && known.no_printer.is_none() {
        return Ok(checked);
    }
    for (name, text) in asked {
        let Some(outside) = app.effects.databases.get(&name) else { continue };
        let (database, statement) = (outside.database.clone(), text.clone());
        // Connections of databases belong to one runtime.
        let described = app.runtime.spawn(async move { database.describe(&statement).await }).await;
        let described = match described.unwrap_or_else(|error| Err(Refused::Unavailable(error.to_string()))) {
            Ok(columns) => Ok(columns
                .into_iter()
                .map(|c| Column { name: c.name, type_name: c.type_name, nullable: c.nullable })
                .collect()),
            Err(Refused::Sql(why)) => Err(why),
            Err(disabled @ Refused::Disabled(_)) => Err(disabled.reported().1),
            // A database that is unavailable reports nothing; the statement is accepted.
            Err(_) => continue,
        };
        known.statements.insert((name, text), described);
    }
    bundle.known = Some(known);
    Ok(checked_of(app, bundle).await?.1)
}

/// Calls by address of live workflows that this deploy sends to another service, with other credentials and limits.
fn taken_over(checked: &Checked, live: &Live, given: &[Source]) -> Vec<Diagnostic> {
    let mut found = Vec::new();
    for (_, plan) in checked.workflows.iter().filter(|(index, _)| *index >= given.len()) {
        let Some(before) = live.workflows.get(&plan.name) else { continue };
        for ((call, now), (_, was)) in plan.addressed.iter().zip(&before.plan.addressed) {
            let by = given
                .iter()
                .find(|source| name_of(&source.text).is_some_and(|(kind, name)| kind == "service" && name == *now));
            if let Some(source) = by.filter(|_| now != was) {
                let mut report = Report::new(&source.path, &source.text);
                let message = format!(
                    "`{}` calls `{call}` by address: it goes to `{now}` from now on, no longer to `{was}`",
                    plan.name
                );
                report.warning("other-service", Place::default(), message);
                report.help(format!("write `service: {was}` in that step if it is to stay"));
                found.extend(report.finish());
            }
        }
    }
    found
}

/// What a deploy changes about one document.
#[derive(Default)]
struct Change {
    steps: Vec<compare::StepChange>,
    clients: Vec<compare::ClientChange>,
    callers: Vec<String>,
    databases: Vec<String>,
}

impl Change {
    fn of(document: &NewDocument, live: &Live, plans: &BTreeMap<String, Arc<Plan>>) -> Self {
        let of_kind = document.kind == "workflow";
        let plan = live.workflows.get(&document.name).map(|workflow| &workflow.plan).filter(|_| of_kind);
        let after = plans.get(&document.name).filter(|_| of_kind);
        let databases = watches::consequences(plan.map(|plan| &**plan), after.map(|plan| &**plan));
        let before = live.documents.iter().find(|d| d.kind == document.kind && d.name == document.name);
        let Some(before) = before.filter(|before| document.kind == "workflow" && before.source != document.source)
        else {
            let uses = |plan: &&Arc<Plan>| document.kind == "library" && plan.libraries.contains(&document.name);
            let users = plans.values().filter(|plan| !plan.is_group()).filter(uses);
            return Change { databases, callers: users.map(|plan| plan.name.clone()).collect(), ..Change::default() };
        };
        let clients = plan.zip(plans.get(&document.name)).map(|(before, after)| compare::clients(before, after));
        let calls = |plan: &&Arc<Plan>| {
            [&plan.invokes, &plan.enqueues, &plan.wakes].iter().any(|names| names.contains(&document.name))
        };
        Change {
            steps: compare::steps_of(&before.source, &document.source),
            clients: clients.unwrap_or_default(),
            databases,
            callers: plans
                .values()
                .filter(calls)
                .map(|plan| plan.name.clone())
                .filter(|name| *name != document.name)
                .collect(),
        }
    }

    fn listed(
        self,
        kind: String,
        name: String,
        revision: u32,
        unchanged: bool,
        endpoints: Vec<Endpoint>,
    ) -> DeployedDocument {
        let Change { steps, clients, callers, databases } = self;
        DeployedDocument {
            kind,
            name,
            revision,
            unchanged,
            gradual: false,
            endpoints,
            steps,
            clients,
            databases,
            callers,
        }
    }
}

/// The refusal of documents that have errors.
pub(super) fn with_errors(title: &str, checked: Checked, others: &[Source]) -> Error {
    let mut problem = Problem::new(422, title).detail(match checked.errors() {
        1 => "1 error; nothing was deployed".to_owned(),
        errors => format!("{errors} errors; nothing was deployed"),
    });
    let found = news(checked.diagnostics);
    // Findings about live documents point into texts that the caller does not have.
    let texts: BTreeMap<&str, &str> = others
        .iter()
        .filter(|source| found.iter().any(|finding| finding.path == source.path))
        .map(|source| (source.path.as_str(), source.text.as_str()))
        .collect();
    problem.with.insert("sources".into(), json!(texts));
    problem.with.insert("diagnostics".into(), json!(found));
    Error::Runtime(kanzlei_runtime::Error::Problem(Box::new(problem)))
}

/// The numbers of the last revisions of workflows that a deploy changes; one that was taken back is behind the live one.
async fn last_revisions(app: &App, live: &Live, new: &[NewDocument]) -> Result<BTreeMap<String, u32>> {
    let mut last = BTreeMap::new();
    for document in new.iter().filter(|document| document.kind == "workflow") {
        let same = |live: &&LiveDocument| live.kind == document.kind && live.name == document.name;
        if live.documents.iter().find(same).is_none_or(|live| live.source != document.source)
            && let Some(newest) = app.store.revisions("workflow", &document.name).await?.first()
        {
            last.insert(document.name.clone(), newest.number);
        }
    }
    Ok(last)
}

/// Checks on a thread that serves no requests.
async fn checked_of(app: &App, bundle: Bundle) -> Result<(Bundle, Checked)> {
    let check = move || {
        let checked = check_bundle(&bundle);
        (bundle, checked)
    };
    Ok(app.background.run(check).await?)
}

/// What is put live together.
pub(super) struct Wish {
    /// The documents, with the files that they name.
    pub given: Bundle,
    /// Drafts among them, by kind, name and version.
    pub drafts: Taken,
    /// A workflow among them that gets another name, with drafts that move along.
    pub rename: Option<Renaming>,
    /// Nothing is put live.
    pub preview: bool,
    /// What the workflow among them serves beside its live revision.
    pub gradual: Option<Rules>,
}

/// A workflow that gets another name.
pub(super) struct Renaming {
    pub from: String,
    pub to: String,
    /// Kind, version and text of its drafts.
    pub drafts: Vec<(String, u64, String)>,
}

/// `POST /deploys`: checks documents and puts them live, all or none.
pub async fn deploy(app: Data<App>, caller: Caller, body: Json<Given>) -> Result<HttpResponse> {
    // One deploy at a time in this process; the store orders those of several.
    let _turn = app.deploying.lock().await;
    let given = body.into_inner();
    let (preview, gradual) = (given.preview, given.gradual.clone());
    let live = app.live.load_full();
    let (given, drafts) = given.read(&app, &live).await?;
    if given.documents.is_empty() || given.documents.len() > MOST_DOCUMENTS {
        return Err(Error::problem(422, "Nothing to deploy", format!("send 1 to {MOST_DOCUMENTS} documents")));
    }
    let wish = Wish { given, drafts, rename: None, preview, gradual };
    Ok(HttpResponse::Ok().json(perform(&app, &caller, &live, wish).await?))
}

/// What a document is, as a digest: its text, the file that it names, and the libraries that it uses.
fn digest(document: &NewDocument, new: &[NewDocument], live: &Live, plans: &BTreeMap<String, Arc<Plan>>) -> String {
    let mut digest = Sha256::new();
    digest.update(document.source.as_bytes());
    digest.update([0]);
    digest.update(document.file.as_deref().unwrap_or_default().as_bytes());
    if document.kind == "workflow" {
        for text in libraries::texts(&document.name, new, live, plans) {
            digest.update([0]);
            digest.update(text.as_bytes());
        }
    }
    hex::of(&digest.finalize())
}

/// Checks documents beside what is live and puts them live, all or none.
pub(super) async fn perform(app: &App, caller: &Caller, live: &Arc<Live>, wish: Wish) -> Result<Deployed> {
    let Wish { given, drafts, rename, preview, gradual } = wish;
    let documents: Vec<Source> = given.documents.clone();
    let files = given.files.clone();
    let renamed = rename.as_ref().map(|rename| rename.from.as_str());
    let bundle = with_live_but(given.clone(), &live.documents, renamed);
    let others: Vec<Source> = bundle.documents[documents.len()..].to_vec();
    let checked = check_here(app, bundle).await?;
    let mut warnings: Vec<Diagnostic> =
        checked.diagnostics.iter().filter(|d| d.severity == Severity::Warning).cloned().collect();
    warnings.extend(taken_over(&checked, live, &documents));
    if checked.errors() > 0 {
        return Err(with_errors("The documents have errors", checked, &others));
    }
    if gradual.is_none() {
        gradual::stay_sound(app, live, &given, renamed).await?;
    }
    // What stays beside the others was checked with them.
    let mut new: Vec<NewDocument> = documents
        .iter()
        .filter_map(|source| {
            let (kind, name) = name_of(&source.text).filter(|(kind, _)| !document::BESIDE.contains(kind))?;
            let file = beside::pack(&source.text, &|name| files.get(&relative(&source.path, name)).cloned());
            let path = source.path.chars().rev().take(500).collect::<Vec<_>>().into_iter().rev().collect();
            let source = source.text.clone();
            Some(NewDocument { kind: kind.into(), name, path, source, file, digest: String::new() })
        })
        .collect();
    if let Some(rules) = &gradual {
        gradual::fits(app, live, rules, &mut new, &checked.plans).await?;
    }
    let given_count = new.len();
    new.extend(libraries::redeployed(&new, live, &checked.plans));
    let digests: Vec<String> = new.iter().map(|document| digest(document, &new, live, &checked.plans)).collect();
    for (document, digest) in new.iter_mut().zip(digests) {
        document.digest = digest;
    }
    if new.is_empty() {
        let detail = "cases and descriptions of databases stay beside the documents; they are never live";
        return Err(Error::problem(422, "Nothing to deploy", detail));
    }
    let (before, plans) = (live.clone(), Arc::new(checked.plans));
    let watched = plans.clone();
    let compared = before.clone();
    let work = move || {
        let changes: Vec<Change> = new.iter().map(|document| Change::of(document, &compared, &plans)).collect();
        (new, changes)
    };
    let (new, changes) = app.background.run(work).await?;
    if preview {
        let last = last_revisions(app, live, &new).await?;
        let again: BTreeSet<String> = libraries::redeployed(&new[..given_count], live, &watched)
            .into_iter()
            .map(|document| document.name)
            .collect();
        let listed = new.into_iter().zip(changes).map(|(document, change)| {
            let live = live.documents.iter().find(|d| d.kind == document.kind && d.name == document.name);
            let same = live.is_some_and(|live| live.source == document.source && live.file == document.file);
            let unchanged = same && !again.contains(&document.name);
            let from = rename.as_ref().filter(|rename| document.kind == "workflow" && rename.to == document.name);
            let from = from.and_then(|rename| before.workflows.get(&rename.from)).map(|from| from.revision + 1);
            let number = live.map_or(from.unwrap_or(1), |live| live.number + u32::from(!unchanged));
            let last = last.get(&document.name).filter(|_| document.kind == "workflow" && !unchanged);
            let revision = last.map_or(number, |last| number.max(last + 1));
            let gradual = gradual.is_some() && !unchanged;
            DeployedDocument { gradual, ..change.listed(document.kind, document.name, revision, unchanged, Vec::new()) }
        });
        return Ok(Deployed { deployed: listed.collect(), warnings: news(warnings) });
    }
    if gradual.is_none() {
        watches::install(app, &watched).await?;
    }
    let rules = gradual.as_ref().map(|rules| json!(rules).to_string());
    let renamed = rename.as_ref().map(|rename| Rename { from: &rename.from, to: &rename.to, drafts: &rename.drafts });
    let deploy = Deploy {
        documents: &new,
        drafts: &drafts,
        gradual: rules.as_deref(),
        rename: renamed,
        operator: &caller.name,
        now: now(),
    };
    let deployed = app.store.deploy(&deploy).await.map_err(|error| match error {
        kanzlei_store::Error::NameTaken(_) => {
            Error::problem(409, "The name was used before", format!("{error}; choose another one"))
        }
        kanzlei_store::Error::DraftChanged(_) => {
            Error::problem(409, "A draft changed in the meantime", format!("{error}; nothing was deployed"))
        }
        error => error.into(),
    })?;
    app.reload().await?;
    let live = app.live.load();
    let listed = deployed
        .iter()
        .zip(changes)
        .map(|(d, change)| {
            let workflow = (d.kind == "workflow").then(|| live.workflows.get(&d.name)).flatten();
            let serves_share = live
                .gradual(&d.name)
                .is_some_and(|gradual| d.kind == "workflow" && gradual.workflow.revision == d.number);
            let endpoints = workflow.map(|w| endpoints(w, &app.public_url)).unwrap_or_default();
            let listed = change.listed(d.kind.clone(), d.name.clone(), d.number, d.unchanged, endpoints);
            DeployedDocument { gradual: serves_share, ..listed }
        })
        .collect();
    for d in deployed.iter().filter(|d| !d.unchanged) {
        let before = d.number.checked_sub(1).filter(|number| *number > 0).map(|number| format!("revision {number}"));
        let share = rules.as_ref().map(|rules| format!(", which serves a share: {rules}")).unwrap_or_default();
        caller.notes.changed(format!("{} {}", d.kind, d.name), before, Some(format!("revision {}{share}", d.number)));
        tracing::info!(kind = d.kind, name = d.name, revision = d.number, "deployed");
    }
    Ok(Deployed { deployed: listed, warnings: news(warnings) })
}
