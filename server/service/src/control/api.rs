//! The control API: what the command line and the console ask for.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;
use std::sync::atomic::Ordering;

use actix_web::HttpResponse;
use actix_web::web::{Data, Json, Path, Query};
use kanzlei_compiler::check::{Bundle, Checked, Column, Known, check as check_bundle};
use kanzlei_compiler::example;
use kanzlei_compiler::plan::{Paragraph, Plan};
use kanzlei_engine::machine::instant;
use kanzlei_lang::diagnostic::{Diagnostic, Severity};
use kanzlei_lang::document::{self, Source};
use kanzlei_model::problem::Problem;
use kanzlei_store::documents::{LiveDocument, NewDocument};
use kanzlei_store::journal::{Filter, Run, RunLine, Step};
use kanzlei_store::outside::Refused;
use serde::Deserialize;
use serde_json::{Value as Json_, json};
use sha2::{Digest, Sha256};
use uuid::Uuid;

use crate::App;
use crate::clock::now;
use crate::error::{Error, Result};
use crate::live::{Live, Workflow, named_file};

/// The most runs in one listing.
const MOST_RUNS: u32 = 500;
/// Newest runs of a workflow in the list of workflows, and workflows asked for in one query.
const LATEST: u32 = 12;
const WORKFLOWS_AT_ONCE: usize = 200;
/// Documents of one deploy.
const MOST_DOCUMENTS: usize = 2000;

pub async fn nothing() -> Result<HttpResponse> {
    Err(Error::not_found("there is no such thing in the control API"))
}

pub async fn status(app: Data<App>) -> HttpResponse {
    let live = app.live.load();
    let there = app.store.ping().await.is_ok();
    HttpResponse::Ok().json(json!({
        "version": env!("CARGO_PKG_VERSION"),
        "public_url": app.public_url,
        "started": instant(app.started),
        "database": if there { "available" } else { "unavailable" },
        "workflows": live.workflows.len(),
        "services": live.services.len(),
        "in_flight": app.in_flight.load(Ordering::Relaxed),
        "journal": {"dropped": app.journal.dropped.load(Ordering::Relaxed)},
    }))
}

/// Documents with what is live beside them, so that each sees the others.
fn with_live(given: Bundle, live: &Live) -> Bundle {
    let mut bundle = given;
    let names: Vec<Option<(&'static str, String)>> = bundle.documents.iter().map(|d| name_of(&d.text)).collect();
    let kept: Vec<LiveDocument> = live
        .documents
        .iter()
        .filter(|document| !names.iter().flatten().any(|(kind, name)| *kind == document.kind && *name == document.name))
        .cloned()
        .collect();
    let others = crate::live::bundle(&kept);
    bundle.documents.extend(others.documents);
    bundle.files.extend(others.files);
    bundle
}

/// Kind and name of a document, as far as they can be told.
fn name_of(text: &str) -> Option<(&'static str, String)> {
    let kind = document::kind_of(text)?;
    let mut report = kanzlei_lang::diagnostic::Report::new("", text);
    let root = document::yaml::parse(&mut report)?;
    Some((kind, root.get(kind)?.as_text()?.to_owned()))
}

/// Warnings about documents that are live already are no news.
fn news(diagnostics: Vec<Diagnostic>) -> Vec<Diagnostic> {
    diagnostics.into_iter().filter(|d| d.severity == Severity::Error || !d.path.starts_with("live/")).collect()
}

/// `POST /check`: diagnostics of documents together with what is live.
pub async fn check(app: Data<App>, body: Json<Bundle>) -> HttpResponse {
    let live = app.live.load_full();
    let bundle = with_live(body.into_inner(), &live);
    let checked = check_here(&app, bundle).await;
    HttpResponse::Ok().json(json!({"diagnostics": news(checked.diagnostics)}))
}

/// Statements that are shown to their databases in one check.
const MOST_STATEMENTS: usize = 2000;

/// Checks documents against what this service has: secrets, databases, and what those say of statements.
async fn check_here(app: &App, mut bundle: Bundle) -> Checked {
    let mut known = Known {
        secrets: app.outside.secrets.names().into_iter().collect(),
        databases: app.outside.databases.keys().cloned().collect(),
        statements: Default::default(),
    };
    bundle.known = Some(known.clone());
    let checked = check_bundle(&bundle);
    let asked: BTreeSet<(String, String)> = checked
        .workflows
        .iter()
        .flat_map(|(_, plan)| &plan.statements)
        .map(|(database, statement)| (database.clone(), statement.prepared()))
        .take(MOST_STATEMENTS)
        .collect();
    if asked.is_empty() {
        return checked;
    }
    for (name, text) in asked {
        let Some(database) = app.outside.databases.get(&name) else { continue };
        let (database, statement) = (database.clone(), text.clone());
        // Connections of databases belong to one runtime.
        let described = app.background.spawn(async move { database.describe(&statement).await }).await;
        let described = match described.unwrap_or_else(|error| Err(Refused::Away(error.to_string()))) {
            Ok(columns) => Ok(columns
                .into_iter()
                .map(|c| Column { name: c.name, type_name: c.type_name, nullable: c.nullable })
                .collect()),
            Err(Refused::Sql(why)) => Err(why),
            // A database that is away says nothing; the statement is taken as it is.
            Err(_) => continue,
        };
        known.statements.insert((name, text), described);
    }
    bundle.known = Some(known);
    check_bundle(&bundle)
}

/// `POST /deploys`: checks documents and puts them live, all or none.
pub async fn deploy(app: Data<App>, body: Json<Bundle>) -> Result<HttpResponse> {
    // One deploy at a time in this process; the store orders those of several.
    let _turn = app.deploying.lock().await;
    let given = body.into_inner();
    if given.documents.is_empty() || given.documents.len() > MOST_DOCUMENTS {
        return Err(Error::problem(422, "Nothing to deploy", format!("send 1 to {MOST_DOCUMENTS} documents")));
    }
    let documents: Vec<Source> = given.documents.clone();
    let files = given.files.clone();
    let live = app.live.load_full();
    let bundle = with_live(given, &live);
    let others: Vec<Source> = bundle.documents[documents.len()..].to_vec();
    let checked = check_here(&app, bundle).await;
    let warnings: Vec<Diagnostic> =
        checked.diagnostics.iter().filter(|d| d.severity == Severity::Warning).cloned().collect();
    if checked.errors() > 0 {
        let mut problem = Problem::new(422, "The documents have errors")
            .detail(match checked.errors() {
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
        return Err(Error::Problem(Box::new(problem)));
    }
    let new: Vec<NewDocument> = documents
        .iter()
        .filter_map(|source| {
            let (kind, name) = name_of(&source.text)?;
            let file = named_file(&source.text)
                .and_then(|named| files.get(&kanzlei_compiler::check::relative(&source.path, &named)).cloned());
            let mut digest = Sha256::new();
            digest.update(source.text.as_bytes());
            digest.update([0]);
            digest.update(file.as_deref().unwrap_or_default().as_bytes());
            let digest = digest.finalize().iter().map(|byte| format!("{byte:02x}")).collect();
            let path = source.path.chars().rev().take(500).collect::<Vec<_>>().into_iter().rev().collect();
            Some(NewDocument { kind: kind.into(), name, path, source: source.text.clone(), file, digest })
        })
        .collect();
    let deployed = app.store.deploy(&new, now()).await?;
    app.reload().await?;
    let live = app.live.load();
    let listed: Vec<Json_> = deployed
        .iter()
        .map(|d| {
            let workflow = (d.kind == "workflow").then(|| live.workflows.get(&d.name)).flatten();
            json!({
                "kind": d.kind,
                "name": d.name,
                "revision": d.number,
                "unchanged": d.unchanged,
                "endpoints": workflow.map(|w| endpoints(w, &app.public_url)).unwrap_or_default(),
            })
        })
        .collect();
    for d in deployed.iter().filter(|d| !d.unchanged) {
        tracing::info!(kind = d.kind, name = d.name, revision = d.number, "deployed");
    }
    Ok(HttpResponse::Ok().json(json!({"deployed": listed, "warnings": news(warnings)})))
}

fn endpoints(workflow: &Workflow, public_url: &str) -> Vec<Json_> {
    let plan = &workflow.plan;
    plan.endpoints
        .iter()
        .map(|endpoint| {
            json!({
                "method": endpoint.method,
                "path": endpoint.path,
                "url": format!("{public_url}{}", endpoint.path),
                "curl": example::curl(&plan.input, endpoint, public_url),
            })
        })
        .collect()
}

/// `GET /workflows`: what is live, with counts of the last 24 hours.
pub async fn workflows(app: Data<App>) -> HttpResponse {
    let live = app.live.load_full();
    let counts = app.store.summaries(now() / 60_000_000 - 24 * 60).await;
    let by_name: BTreeMap<String, _> =
        counts.as_ref().map(|c| c.iter().map(|s| (s.workflow.clone(), s.clone())).collect()).unwrap_or_default();
    let mut listed = Vec::new();
    let names: Vec<&str> = live.workflows.keys().map(String::as_str).collect();
    let mut latest: BTreeMap<String, Vec<RunLine>> = BTreeMap::new();
    if counts.is_ok() {
        for part in names.chunks(WORKFLOWS_AT_ONCE) {
            for run in app.store.latest_runs(part, LATEST).await.unwrap_or_default() {
                latest.entry(run.workflow.clone()).or_default().push(run);
            }
        }
    }
    for (name, workflow) in &live.workflows {
        let counted = by_name.get(name).cloned().unwrap_or_default();
        let last = latest.remove(name).unwrap_or_default();
        listed.push(json!({
            "name": name,
            "about": workflow.plan.about,
            "revision": workflow.revision,
            "since": instant(workflow.since),
            "endpoints": endpoints(workflow, &app.public_url),
            "day": {"runs": counted.runs, "rejected": counted.rejected, "failed": counted.failed, "dropped": counted.dropped, "mean_us": counted.duration.checked_div(counted.runs)},
            "last_runs": last.iter().map(|run| line(run, &live)).collect::<Vec<_>>(),
        }));
    }
    HttpResponse::Ok().json(json!({"workflows": listed, "counts_known": counts.is_ok()}))
}

/// Nothing of that name is live; perhaps another is meant.
fn not_live<'n>(kind: &str, name: &str, names: impl Iterator<Item = &'n str>) -> Error {
    let hint = kanzlei_lang::suggest::nearest(name, names).map(|near| format!("; did you mean `{near}`?"));
    Error::not_found(format!("no {kind} `{name}` is live{}", hint.unwrap_or_default()))
}

/// `GET /workflows/{name}`: one workflow with its sheet, source and revisions.
pub async fn workflow(app: Data<App>, name: Path<String>) -> Result<HttpResponse> {
    let live = app.live.load_full();
    let Some(workflow) = live.workflows.get(name.as_str()) else {
        return Err(not_live("workflow", &name, live.workflows.keys().map(String::as_str)));
    };
    let revisions = app.store.revisions("workflow", &name).await.unwrap_or_default();
    let revisions: Vec<Json_> = revisions
        .iter()
        .map(|r| json!({"revision": r.number, "created": instant(r.created), "live": r.live}))
        .collect();
    Ok(HttpResponse::Ok().json(json!({
        "name": workflow.plan.name,
        "about": workflow.plan.about,
        "revision": workflow.revision,
        "since": instant(workflow.since),
        "endpoints": endpoints(workflow, &app.public_url),
        "input": inputs(workflow),
        "sheet": workflow.plan.sheet,
        "services": workflow.plan.services,
        "source": workflow.source,
        "revisions": revisions,
    })))
}

fn inputs(workflow: &Workflow) -> Vec<Json_> {
    let declared = workflow.plan.input.properties.iter();
    declared.map(|d| json!({"name": d.name, "schema": d.schema, "required": d.required, "secret": d.secret})).collect()
}

/// `DELETE /workflows/{name}`: takes a workflow off the air; its revisions stay.
pub async fn retire(app: Data<App>, name: Path<String>) -> Result<HttpResponse> {
    let live = app.live.load_full();
    let callers: Vec<&str> =
        live.workflows.values().filter(|w| w.plan.invokes.contains(&name)).map(|w| w.plan.name.as_str()).collect();
    if !callers.is_empty() {
        let detail = format!("it is invoked by {}; retire them first", callers.join(", "));
        return Err(Error::problem(409, "The workflow is in use", detail));
    }
    retire_one(&app, "workflow", &name).await
}

/// `DELETE /services/{name}`: takes a service off when no live workflow calls it.
pub async fn retire_service(app: Data<App>, name: Path<String>) -> Result<HttpResponse> {
    let live = app.live.load_full();
    let users: Vec<&str> =
        live.workflows.values().filter(|w| w.plan.services.contains(&name)).map(|w| w.plan.name.as_str()).collect();
    if !users.is_empty() {
        return Err(Error::problem(409, "The service is in use", format!("it is called by {}", users.join(", "))));
    }
    retire_one(&app, "service", &name).await
}

async fn retire_one(app: &App, kind: &str, name: &str) -> Result<HttpResponse> {
    let _turn = app.deploying.lock().await;
    if !app.store.retire(kind, name).await? {
        return Err(Error::not_found(format!("no {kind} `{name}` is live")));
    }
    app.reload().await?;
    tracing::info!(kind, name, "retired");
    Ok(HttpResponse::NoContent().finish())
}

pub async fn services(app: Data<App>) -> HttpResponse {
    let live = app.live.load();
    let mut listed: Vec<_> = live.services.values().collect();
    listed.sort_by(|a, b| a.name.cmp(&b.name));
    let listed: Vec<Json_> = listed
        .into_iter()
        .map(|s| json!({"name": s.name, "about": s.about, "base": s.base, "network": if s.private { "private" } else { "public" }, "operations": s.operations.len()}))
        .collect();
    HttpResponse::Ok().json(json!({"services": listed}))
}

/// `GET /services/{name}`: one service with what its operations take and give.
pub async fn service(app: Data<App>, name: Path<String>) -> Result<HttpResponse> {
    let live = app.live.load();
    let Some(service) = live.services.get(name.as_str()) else {
        return Err(not_live("service", &name, live.services.keys().map(String::as_str)));
    };
    let operations = service.operations.iter();
    let operations: Vec<Json_> =
        operations.map(|(id, operation)| document::service::described(&service.api, id, operation)).collect();
    Ok(HttpResponse::Ok().json(json!({
        "name": service.name,
        "about": service.about,
        "base": service.base,
        "network": if service.private { "private" } else { "public" },
        "secret": service.credentials.as_ref().map(|credentials| &credentials.secret().text),
        "at_once": service.at_once,
        "pace": service.pace.map(|(count, every)| format!("{count} in {}", kanzlei_model::duration::short(every))),
        "operations": operations,
    })))
}

/// `GET /openapi`: the OpenAPI document of all endpoints, as clients read it.
pub async fn openapi(app: Data<App>) -> HttpResponse {
    HttpResponse::Ok().content_type("application/json").body(app.live.load().openapi.clone())
}

#[derive(Deserialize)]
pub struct RunsQuery {
    workflow: Option<String>,
    state: Option<String>,
    request_id: Option<String>,
    before: Option<Uuid>,
    limit: Option<u32>,
}

/// `GET /runs`: the journal, newest first.
pub async fn runs(app: Data<App>, query: Query<RunsQuery>) -> Result<HttpResponse> {
    let query = query.into_inner();
    let limit = query.limit.unwrap_or(50).clamp(1, MOST_RUNS);
    let state = query.state.as_deref().map(super::jobs::state_named).transpose()?;
    let filter = Filter { workflow: query.workflow, state, request_id: query.request_id, before: query.before, limit };
    app.journal.flush().await;
    let found = app.store.runs(&filter).await?;
    let live = app.live.load_full();
    if let Some(name) =
        filter.workflow.as_deref().filter(|name| found.is_empty() && !live.workflows.contains_key(*name))
    {
        let near = kanzlei_lang::suggest::nearest(name, live.workflows.keys().map(String::as_str));
        let hint = near.map(|near| format!("; did you mean `{near}`?")).unwrap_or_default();
        return Err(Error::not_found(format!("no workflow `{name}` is live or has runs{hint}")));
    }
    let next = (found.len() as u32 == limit).then(|| found.last().map(|run| run.id)).flatten();
    Ok(HttpResponse::Ok().json(json!({
        "runs": found.iter().map(|run| line(run, &live)).collect::<Vec<_>>(),
        "next_before": next,
        "dropped": app.journal.dropped.load(Ordering::Relaxed),
    })))
}

fn line(run: &RunLine, live: &Live) -> Json_ {
    let detail = run
        .failure
        .as_deref()
        .and_then(|f| serde_json::from_str::<Json_>(f).ok())
        .and_then(|f| f.get("detail").cloned());
    json!({
        "id": run.id,
        "workflow": run.workflow,
        "revision": run.revision,
        "live": live.workflows.get(&run.workflow).is_some_and(|w| w.revision == run.revision),
        "state": run.state,
        "entry": run.entry,
        "status": run.status,
        "started": instant(run.started),
        "duration_us": run.duration,
        "failure": detail,
    })
}

/// `GET /runs/{id}`: one run with the sheet of its revision and what each step did.
pub async fn run(app: Data<App>, id: Path<String>) -> Result<HttpResponse> {
    let run = past_run(&app, &id).await?;
    let value = |text: &Option<String>| text.as_deref().and_then(|t| serde_json::from_str::<Json_>(t).ok());
    let plan = plan_of(&app, &run.workflow, run.revision).await?;
    let own = plan.as_ref().map(|plan| plan.sheet.clone()).unwrap_or_default();
    let sheet = with_invoked(own.clone(), &run.steps);
    let steps = steps_json(&run.steps, &own, run.started);
    let queued = app.store.job(run.id).await?.is_some();
    Ok(HttpResponse::Ok().json(json!({
        "id": run.id,
        // Where it was a job that is still there: how it is polled.
        "curl": queued.then(|| super::jobs::poll_line(&app, run.id)),
        "workflow": run.workflow,
        "revision": run.revision,
        "state": run.state,
        "entry": run.entry,
        "status": run.status,
        "started": instant(run.started),
        "duration_us": run.duration,
        "request_id": run.request_id,
        "process": run.process,
        "trace_id": run.trace_id,
        "caller": run.caller,
        "input": value(&Some(run.input.clone())),
        "kept": value(&run.kept),
        "reply": value(&run.reply),
        "failure": value(&run.failure),
        "sheet": sheet,
        "steps": steps,
    })))
}

/// A run by the text of its id, once what is on its way to the journal is written.
pub async fn past_run(app: &App, id: &str) -> Result<Run> {
    let Ok(uuid) = id.parse::<Uuid>() else {
        return Err(Error::problem(400, "Malformed id", format!("`{id}` is not the id of a run")));
    };
    app.journal.flush().await;
    if let Some(run) = app.store.run(uuid).await? {
        return Ok(run);
    }
    Err(Error::not_found(match app.store.job(uuid).await? {
        Some(_) => format!(
            "{uuid} is a job without a run in the journal: it has not ended, or it was cancelled; `kanzlei job {uuid}` shows it"
        ),
        None => format!(
            "the journal has no run {uuid}; details of successful runs are dropped under load, and old runs are purged"
        ),
    }))
}

/// What steps did, each by its number on the sheet.
pub fn steps_json(steps: &[Step], own: &[Paragraph], started: i64) -> Vec<Json_> {
    let value = |text: &Option<String>| text.as_deref().and_then(|t| serde_json::from_str::<Json_>(t).ok());
    let steps = steps.iter();
    steps
        .map(|step| {
            json!({
                "number": step.number.as_deref().or(own.get(step.paragraph as usize).map(|p| p.number.as_str())),
                "items": step.items,
                "state": step.state,
                "started_us": step.started - started,
                "duration_us": step.duration,
                "attempts": step.attempts,
                "tries": step.tries.as_deref().map(|tries| tries.split(' ').collect::<Vec<_>>()),
                "sent": value(&step.sent),
                "outcome": value(&step.outcome),
                "failure": value(&step.failure),
            })
        })
        .collect()
}

/// A run's sheet with the steps of the workflows it invoked, below the steps that did.
pub fn with_invoked(mut sheet: Vec<Paragraph>, steps: &[Step]) -> Vec<Paragraph> {
    for step in steps {
        let (Some(number), Some(kind)) = (&step.number, &step.kind) else { continue };
        if sheet.iter().any(|paragraph| paragraph.number == *number) {
            continue;
        }
        // Behind all that stands below the same step, in the order they were taken.
        let parts: Vec<u32> = numbers(number);
        let at = sheet.iter().rposition(|paragraph| numbers(&paragraph.number) < parts).map_or(0, |at| at + 1);
        let paragraph = Paragraph {
            number: number.clone(),
            depth: number.matches('.').count() as u8,
            kind: kind.clone(),
            title: step.title.clone().unwrap_or_default(),
            name: None,
            branch: None,
            rows: Vec::new(),
            about: None,
            when: None,
            off: false,
            line: 0,
        };
        sheet.insert(at, paragraph);
    }
    sheet
}

fn numbers(number: &str) -> Vec<u32> {
    number.split('.').filter_map(|part| part.parse().ok()).collect()
}

/// The plan of a revision: the live one's, or made again from its source.
pub async fn plan_of(app: &App, name: &str, revision: u32) -> Result<Option<Arc<Plan>>> {
    let live: Arc<Live> = app.live.load_full();
    if let Some(workflow) = live.workflows.get(name).filter(|w| w.revision == revision) {
        return Ok(Some(workflow.plan.clone()));
    }
    let Some((source, _)) = app.store.source("workflow", name, revision).await? else { return Ok(None) };
    // Beside what is live now: what the revision refers to need not be there any more as it was.
    let known = crate::live::bundle(&live.documents);
    let documents = vec![Source::new("revision.yaml", source)];
    let bundle = Bundle { documents, context: known.documents, files: known.files, known: None };
    Ok(check_bundle(&bundle).plan(name).cloned())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn steps_of_invoked_workflows_stand_below_the_step_that_invokes() {
        let paragraph = |number: &str| Paragraph {
            number: number.into(),
            depth: number.matches('.').count() as u8,
            kind: "note".into(),
            title: String::new(),
            name: None,
            branch: None,
            rows: Vec::new(),
            about: None,
            when: None,
            off: false,
            line: 1,
        };
        let step = |number: Option<&str>| Step {
            paragraph: 0,
            state: "succeeded".into(),
            started: 0,
            duration: 0,
            attempts: 0,
            tries: None,
            sent: None,
            outcome: None,
            failure: None,
            number: number.map(str::to_owned),
            kind: number.map(|_| "call".to_owned()),
            title: None,
            items: None,
        };
        let own = ["1", "2", "2.1", "3", "10"].map(paragraph).to_vec();
        let steps = [None, Some("1.2"), Some("1.10"), Some("1.2"), Some("3.1"), Some("3.1.1"), Some("10.1")].map(step);
        let sheet = with_invoked(own, &steps);
        let numbers: Vec<&str> = sheet.iter().map(|paragraph| paragraph.number.as_str()).collect();
        assert_eq!(numbers, ["1", "1.2", "1.10", "2", "2.1", "3", "3.1", "3.1.1", "10", "10.1"]);
        assert_eq!((sheet[7].depth, sheet[7].kind.as_str()), (2, "call"));
    }
}
