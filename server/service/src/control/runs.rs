//! Past runs: listed, and shown with the sheet of their revision.

use std::ops::RangeInclusive;
use std::sync::Arc;
use std::sync::atomic::Ordering;

use actix_web::HttpResponse;
use actix_web::web::{Data, Path, Query};
use kanzlei_api::runs::{Failure, Run, RunComparison, RunDifference, RunFilter, RunLine, RunPage, Step};
use kanzlei_compiler::check::{Bundle, Checked, check as check_bundle};
use kanzlei_compiler::plan::{Paragraph, Plan};
use kanzlei_lang::document::Source;
use kanzlei_model::run::{RunState, StepState};
use kanzlei_model::time::{Span, Timestamp};
use kanzlei_rehearsal::compare::compare;
use kanzlei_runtime::clock::now;
use kanzlei_runtime::live::Live;
use kanzlei_store::journal as kept;
use kanzlei_store::queue::OfRequest;
use serde_json::Value as Json;
use uuid::Uuid;

use super::auth::Caller;
use super::jobs::time_of;
use super::record::past;
use super::{poll_line, state_named};
use crate::App;
use crate::error::{Error, Result};

/// The most runs in one listing.
const MOST_RUNS: u32 = 500;

/// `GET /runs`: the journal, newest first.
pub async fn runs(app: Data<App>, query: Query<RunFilter>) -> Result<HttpResponse> {
    let query = query.into_inner();
    let limit = query.limit.unwrap_or(50).clamp(1, MOST_RUNS);
    let live = app.live.load_full();
    let wanted = query.workflow.clone();
    let filter = filter_of(&live, query, |id| app.jobs.of_request(id), limit)?;
    app.journal.flush().await;
    let found = app.store.runs(&filter).await?;
    if let Some(name) = wanted.filter(|name| found.runs.is_empty() && !live.workflows.contains_key(name)) {
        return Err(super::workflows::no_workflow(&live, &name, "is live or has runs"));
    }
    let (kept, bytes) = app.journal.size(&app.store).await?;
    Ok(HttpResponse::Ok().json(RunPage {
        next_before: found.next,
        searched_to: found.searched_to.as_ref().and_then(time_of),
        runs: found.runs.iter().map(|run| line(run, &live)).collect(),
        dropped: app.journal.dropped.load(Ordering::Relaxed),
        kept,
        bytes,
    }))
}

/// What the store is to search for.
pub(super) fn filter_of(
    live: &Live,
    query: RunFilter,
    of_request: impl FnOnce(String) -> OfRequest,
    limit: u32,
) -> Result<kept::Filter> {
    let at = now();
    let then = |text: Option<String>| text.map(|text| past_of(&text, at)).transpose();
    let given = |text: Option<String>| text.filter(|text| !text.is_empty());
    Ok(kept::Filter {
        workflow: query.workflow.map(|name| live.names_of(&name)).unwrap_or_default(),
        state: query.state.as_deref().map(state_named).transpose()?,
        request: query.request_id.map(of_request),
        status: query.status.as_deref().map(statuses_of).transpose()?,
        since: then(query.since)?,
        until: then(query.until)?,
        kind: given(query.kind),
        caller: given(query.caller),
        entry: given(query.entry),
        text: given(query.text),
        before: query.before,
        limit,
    })
}

/// The statuses that `422` or `5xx` stands for.
fn statuses_of(text: &str) -> Result<RangeInclusive<u16>> {
    let class =
        text.strip_suffix("xx").and_then(|class| class.parse::<u16>().ok()).filter(|class| (1..=5).contains(class));
    let one = || text.parse::<u16>().ok().filter(|status| (100..=599).contains(status));
    match (class, one()) {
        (Some(class), _) => Ok(class * 100..=class * 100 + 99),
        (None, Some(status)) => Ok(status..=status),
        (None, None) => Err(Error::problem(
            422,
            "Invalid status",
            format!("`{text}` is neither a status such as `422` nor a class such as `5xx`"),
        )),
    }
}

/// An instant, or a span before now.
pub(super) fn past_of(text: &str, at: Timestamp) -> Result<Timestamp> {
    if let Ok(span) = kanzlei_model::duration::parse(text) {
        return Ok(at - Span::from(span));
    }
    text.parse().map_err(|_| {
        let detail =
            format!("`{text}` is neither an instant such as 2027-03-04T06:00:00Z nor a span before now such as `2h`");
        Error::problem(422, "Invalid instant", detail)
    })
}

/// A run in a listing.
pub fn line(run: &kept::RunLine, live: &Live) -> RunLine {
    RunLine {
        id: run.id,
        workflow: live.name_now(&run.workflow, run.id).to_owned(),
        revision: run.revision,
        live: live.workflows.get(live.name_now(&run.workflow, run.id)).is_some_and(|w| w.revision == run.revision),
        state: state(&run.state),
        entry: run.entry.clone(),
        status: run.status,
        started: run.started,
        duration_us: run.duration,
        failure: run.detail.clone(),
        kind: run.kind.clone(),
    }
}

/// The state of a record; an unknown one counts as failed.
fn state(name: &str) -> RunState {
    RunState::of(name).unwrap_or(RunState::Failed)
}

/// Steps of a run that are shown; beyond them only those that failed, up to as many again.
const STEPS: usize = 1000;

/// A failure as it is kept.
pub fn failure(text: Option<&str>) -> Option<Failure> {
    let text = text?;
    Some(serde_json::from_str(text).unwrap_or_else(|_| Failure {
        kind: kanzlei_model::run::FailureKind::Internal.name().into(),
        status: None,
        detail: "how it failed cannot be read any more".into(),
        step: None,
        body: Json::String(text.to_owned()),
    }))
}

pub(super) fn value(text: Option<&str>) -> Json {
    text.and_then(|text| serde_json::from_str(text).ok()).unwrap_or_default()
}

/// `GET /runs/{id}`: one run with the sheet of its revision and what each step did.
pub async fn run(app: Data<App>, caller: Caller, id: Path<String>) -> Result<HttpResponse> {
    let run = past_run(&app, &id).await?;
    let plan = plan_of(&app, &run.workflow, run.revision).await?;
    if plan.as_ref().is_some_and(|plan| plan.labels.any) {
        caller.notes.looked_at(format!("run {} of {}", run.id, run.workflow));
    }
    let own = plan.as_ref().map(|plan| plan.sheet.clone()).unwrap_or_default();
    let queued = app.store.has_job(run.id).await?;
    Ok(HttpResponse::Ok().json(Run {
        id: run.id,
        curl: queued.then(|| poll_line(&app, run.id)),
        sheet: with_invoked(own.clone(), &run.steps),
        steps: shown_steps(&run.steps, &own, run.started),
        state: state(&run.state),
        status: run.status,
        started: run.started,
        duration_us: run.duration,
        input: value(Some(&run.input)),
        kept: value(run.kept.as_deref()),
        settings: value(run.settings.as_deref()),
        reply: value(run.reply.as_deref()),
        failure: failure(run.failure.as_deref()),
        incomplete: run.incomplete,
        workflow: run.workflow,
        revision: run.revision,
        entry: run.entry,
        request_id: run.request_id,
        process: run.process,
        trace_id: run.trace_id,
        caller: run.caller.name,
    }))
}

/// `GET /runs/{id}/comparison/{other}`: what differs from one run to another.
pub async fn comparison(app: Data<App>, ids: Path<(String, String)>) -> Result<HttpResponse> {
    let (before, after) = (past_run(&app, &ids.0).await?, past_run(&app, &ids.1).await?);
    let live = app.live.load_full();
    let lines = (line_of(&before, &live), line_of(&after, &live));
    let same_revision = (&before.workflow, before.revision) == (&after.workflow, after.revision);
    let mut pasts = Vec::with_capacity(2);
    for run in [before, after] {
        pasts.push(past(String::new(), &run, &*plan_of_run(&app, &run).await?, String::new()));
    }
    let compared = move || compare(&pasts[0], &pasts[1], same_revision);
    let differences = app.background.run(compared).await?.into_iter().map(difference).collect();
    Ok(HttpResponse::Ok().json(RunComparison { before: lines.0, after: lines.1, differences }))
}

pub(super) fn difference(found: kanzlei_rehearsal::Difference) -> RunDifference {
    RunDifference { what: found.what, before: found.wanted, now: found.got }
}

fn line_of(run: &kept::Run, live: &Live) -> RunLine {
    line(&run.line(), live)
}

/// A run from the journal, with the name that its workflow has today.
pub(super) async fn recorded(app: &App, id: Uuid) -> Result<Option<kept::Run>> {
    let run = app.store.run(id).await?;
    let live = app.live.load();
    Ok(run.map(|run| kept::Run { workflow: live.name_now(&run.workflow, run.id).to_owned(), ..run }))
}

/// A run by the text of its id, once what is on its way to the journal is written.
pub async fn past_run(app: &App, id: &str) -> Result<kept::Run> {
    let Ok(uuid) = id.parse::<Uuid>() else {
        return Err(Error::problem(400, "Malformed id", format!("`{id}` is not the id of a run")));
    };
    app.journal.flush().await;
    if let Some(run) = recorded(app, uuid).await? {
        return Ok(run);
    }
    Err(Error::not_found(match app.store.has_job(uuid).await? {
        true => format!(
            "{uuid} is a job without a run in the journal: it has not ended, or it was cancelled; `kanzlei job {uuid}` shows it"
        ),
        false => {
            format!("the journal has no run {uuid}; successful runs are dropped under load, and old runs are purged")
        }
    }))
}

/// What steps did, each by its number on the sheet.
pub fn shown_steps(steps: &[kept::Step], own: &[Paragraph], started: Timestamp) -> Vec<Step> {
    // Of very many steps the first are shown, and those that failed.
    let shown = steps.iter().enumerate().filter(|(at, step)| *at < STEPS || step.state == StepState::Failed.name());
    let steps = shown.take(2 * STEPS).map(|(_, step)| Step {
        number: match (&step.number, own.get(step.paragraph as usize)) {
            (Some(number), _) => number.clone(),
            (None, own) => own.map(|paragraph| paragraph.number.clone()).unwrap_or_default(),
        },
        items: step.items.clone(),
        state: StepState::of(&step.state).unwrap_or(StepState::Failed),
        started_us: step.started - started,
        duration_us: step.duration,
        attempts: step.attempts,
        earlier_attempts: step.earlier_attempts.as_deref().map(|tries| tries.split(' ').map(str::to_owned).collect()),
        sent: value(step.sent.as_deref()),
        outcome: value(step.outcome.as_deref()),
        failure: failure(step.failure.as_deref()),
    });
    steps.collect()
}

/// A run's sheet with the steps of the workflows it invoked, below the steps that did.
pub fn with_invoked(mut sheet: Vec<Paragraph>, steps: &[kept::Step]) -> Vec<Paragraph> {
    for step in steps {
        let (Some(number), Some(kind)) = (&step.number, &step.kind) else { continue };
        if sheet.iter().any(|paragraph| paragraph.number == *number) {
            continue;
        }
        // Behind all that stands below the same step, in the order they were performed.
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
    // A revision from before a rename has the name of its time.
    let own = |checked: Checked| checked.workflows.into_iter().find(|(at, _)| *at == 0).map(|(_, plan)| plan);
    Ok(checked_of(app, name, revision).await?.and_then(own))
}

/// The plan that a past run was made of; 404 where it cannot be read any more.
pub(super) async fn plan_of_run(app: &App, run: &kept::Run) -> Result<Arc<Plan>> {
    plan_of(app, &run.workflow, run.revision).await?.ok_or_else(|| gone(run))
}

/// The answer where the revision of a past run cannot be read any more.
pub(super) fn gone(run: &kept::Run) -> Error {
    Error::not_found(format!("revision {} of `{}` cannot be read any more", run.revision, run.workflow))
}

/// A revision checked again beside what is live now.
pub(super) async fn checked_of(app: &App, name: &str, revision: u32) -> Result<Option<Checked>> {
    let live: Arc<Live> = app.live.load_full();
    let Some((source, _)) = app.store.source("workflow", name, revision).await? else { return Ok(None) };
    // Beside what is live now: what the revision refers to need not be there any more as it was.
    let known = kanzlei_runtime::live::bundle(&live.documents);
    let documents = vec![Source::new("revision.yaml", source)];
    let bundle = Bundle { documents, context: known.documents, files: known.files, known: None };
    Ok(Some(app.background.run(move || check_bundle(&bundle)).await?))
}

#[cfg(test)]
mod tests {
    use super::*;
    use kept::Step;

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
            started: Timestamp::EPOCH,
            duration: kanzlei_model::time::Span::ZERO,
            attempts: 0,
            earlier_attempts: None,
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
