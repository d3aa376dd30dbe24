//! Live workflows and services: listed, shown, retired.

use std::cmp::Reverse;
use std::collections::BTreeMap;

use actix_web::HttpResponse;
use actix_web::web::{Data, Path};
use kanzlei_api::workflows::{AllowanceLine, Day, Endpoint, Input, Workflow, WorkflowLine, Workflows};
use kanzlei_compiler::example;
use kanzlei_lang::document::address::Address;
use kanzlei_lang::document::alert::Subject;
use kanzlei_model::time::Span;
use kanzlei_runtime::clock::now;
use kanzlei_runtime::live;
use kanzlei_store::journal::RunLine;

use super::auth::Caller;
use super::runs::line;
use crate::App;
use crate::error::{Error, Result};

/// Newest runs of a workflow in the list of workflows, and workflows asked for in one query.
const LATEST: u32 = 12;
const WORKFLOWS_AT_ONCE: usize = 200;

/// The ways in to a workflow, with their full addresses.
pub fn endpoints(workflow: &live::Workflow, public_url: &str) -> Vec<Endpoint> {
    let plan = &workflow.plan;
    // Where the listener is known by an address, names of hosts may lead nowhere yet: its own lines name them in `Host`.
    let by_address = crate::host::of_url(public_url).parse::<std::net::IpAddr>().is_ok();
    let endpoints = plan.endpoints.iter().map(|endpoint| {
        let request = example::request(&plan.input, endpoint);
        let address = &endpoint.address;
        let curl = || {
            let mut sent = request.clone();
            if address.host.is_none() || by_address {
                return example::curl(&sent, public_url);
            }
            sent.headers.remove("Host");
            example::curl(&sent, &Address { host: address.host.clone(), path: String::new() }.url(public_url))
        };
        // A question by GET is asked by anybody; a message is signed.
        let webhook = endpoint.webhook.as_ref().filter(|webhook| webhook.accepts(&endpoint.method));
        Endpoint {
            proof: endpoint.webhook.as_ref().map(|webhook| webhook.proof.kind().to_owned()),
            method: endpoint.method.clone(),
            host: address.host.clone(),
            path: address.path.clone(),
            url: address.url(public_url),
            reach: format!("{public_url}{}", address.path),
            curl: match webhook {
                Some(_) => format!("kanzlei send-webhook {} --body message.json", plan.name),
                None => curl(),
            },
            request,
        }
    });
    endpoints.collect()
}

/// `GET /workflows`: what is live, with counts of the last 24 hours.
pub async fn workflows(app: Data<App>) -> HttpResponse {
    let live = app.live.load_full();
    let counts = app.store.summaries(now().as_minutes() - 24 * 60).await;
    let by_name: BTreeMap<String, _> =
        counts.as_ref().map(|c| c.iter().map(|s| (s.workflow.clone(), s.clone())).collect()).unwrap_or_default();
    // Runs from before a rename have the name of their time.
    let former = live.former.iter().map(|one| one.former.as_str());
    let mut names: Vec<&str> = live.workflows.keys().map(String::as_str).chain(former).collect();
    names.sort_unstable();
    names.dedup();
    let mut latest: BTreeMap<String, Vec<RunLine>> = BTreeMap::new();
    if counts.is_ok() {
        for part in names.chunks(WORKFLOWS_AT_ONCE) {
            for run in app.store.latest_runs(part, LATEST).await.unwrap_or_default() {
                latest.entry(live.name_now(&run.workflow, run.id).to_owned()).or_default().push(run);
            }
        }
    }
    for runs in latest.values_mut() {
        runs.sort_by_key(|run| Reverse(run.id));
        runs.truncate(LATEST as usize);
    }
    let holds = app.store.workflow_holds().await.unwrap_or_default();
    let mut listed = Vec::with_capacity(live.workflows.len());
    for (name, workflow) in &live.workflows {
        let counted = by_name.get(name).cloned().unwrap_or_default();
        let last = latest.remove(name).unwrap_or_default();
        listed.push(WorkflowLine {
            name: name.clone(),
            about: workflow.plan.about.clone(),
            tags: workflow.plan.tags.clone(),
            revision: workflow.revision,
            since: workflow.since,
            hold: holds.iter().find(|hold| hold.workflow == *name).cloned().map(super::holds::shown),
            endpoints: endpoints(workflow, &app.public_url),
            services: workflow.plan.services.clone(),
            day: Day {
                runs: counted.runs,
                rejected: counted.rejected,
                failed: counted.failed,
                dropped: counted.dropped,
                mean_us: counted.duration.checked_div(counted.runs).map(|mean| Span::from_micros(mean as i64)),
            },
            last_runs: last.iter().map(|run| line(run, &live)).collect(),
        });
    }
    let allowances = live.allowances.values().map(|one| AllowanceLine {
        name: one.name.clone(),
        about: one.about.clone(),
        limits: one.limits(),
    });
    HttpResponse::Ok().json(Workflows {
        allowances: allowances.collect(),
        workflows: listed,
        counts_known: counts.is_ok(),
    })
}

/// No workflow of that name `is live`; perhaps it was renamed, or another is meant.
pub(super) fn no_workflow(live: &kanzlei_runtime::live::Live, name: &str, is: &str) -> Error {
    let renamed = live.workflow(name).map(|workflow| &workflow.plan.name);
    let hint = match (renamed, kanzlei_lang::suggest::nearest(name, live.workflows.keys().map(String::as_str))) {
        (Some(now), _) => format!("; it is called `{now}` now"),
        (None, Some(near)) => format!("; did you mean `{near}`?"),
        (None, None) => String::new(),
    };
    Error::not_found(format!("no workflow `{name}` {is}{hint}"))
}

/// `GET /workflows/{name}`: one workflow with its sheet, source and revisions.
pub async fn workflow(app: Data<App>, name: Path<String>) -> Result<HttpResponse> {
    let live = app.live.load_full();
    let Some(workflow) = live.workflows.get(name.as_str()) else {
        return Err(no_workflow(&live, &name, "is live"));
    };
    let revisions = app.store.revisions("workflow", &name).await.unwrap_or_default();
    let holds = app.store.workflow_holds().await.unwrap_or_default();
    let declared = workflow.plan.input.properties.iter().map(|d| Input {
        name: d.name.clone(),
        schema: d.schema.clone(),
        required: d.required,
        secret: d.secret,
    });
    Ok(HttpResponse::Ok().json(Workflow {
        name: workflow.plan.name.clone(),
        about: workflow.plan.about.clone(),
        revision: workflow.revision,
        since: workflow.since,
        hold: holds.into_iter().find(|hold| hold.workflow == *name).map(super::holds::shown),
        gradual: super::gradual::of(&app, &live, &name).await.unwrap_or_default(),
        endpoints: endpoints(workflow, &app.public_url),
        input: declared.collect(),
        sheet: workflow.plan.sheet.clone(),
        services: workflow.plan.services.clone(),
        source: workflow.source.to_string(),
        revisions: revisions.into_iter().map(super::drafts::revision).collect(),
    }))
}

/// `DELETE /workflows/{name}`: retires a workflow; its revisions are kept.
pub async fn retire(app: Data<App>, caller: Caller, name: Path<String>) -> Result<HttpResponse> {
    let live = app.live.load_full();
    let revision = live.workflows.get(name.as_str()).map(|workflow| format!("revision {}", workflow.revision));
    caller.notes.changed(format!("workflow {name}"), revision, Some("retired".into()));
    let graduals = live.graduals.values().map(|gradual| &gradual.workflow).filter(|w| w.plan.name != *name);
    let mut callers: Vec<&str> = live
        .workflows
        .values()
        .chain(graduals)
        .filter(|w| w.plan.invokes.contains(&name))
        .map(|w| w.plan.name.as_str())
        .collect();
    callers.dedup();
    if !callers.is_empty() {
        let detail = format!("it is invoked by {}; retire them first", callers.join(", "));
        return Err(Error::problem(409, "The workflow is in use", detail));
    }
    super::alerts::named_by_none(&live, |alert| {
        let looked_at = matches!(alert.subject, Subject::Workflow | Subject::Timetable) && alert.of == *name;
        looked_at || alert.run.as_deref() == Some(name.as_str())
    })?;
    retire_one(&app, "workflow", &name, &caller.name).await
}

pub(super) async fn retire_one(app: &App, kind: &str, name: &str, by: &str) -> Result<HttpResponse> {
    let _turn = app.deploying.lock().await;
    if !app.store.retire(kind, name, by, now()).await? {
        return Err(Error::not_found(format!("no {kind} `{name}` is live")));
    }
    app.reload().await?;
    tracing::info!(kind, name, "retired");
    Ok(HttpResponse::NoContent().finish())
}
