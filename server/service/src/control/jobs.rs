//! Jobs and groups: listed, shown, changed.

use actix_web::HttpResponse;
use actix_web::web::{Data, Json, Path, Query};
use kanzlei_api::jobs::{Group, Job, JobFilter, JobLine, JobPage, JobStart, JobStarted, Notice};
use kanzlei_engine::machine::State;
use kanzlei_model::file::of_record;
use kanzlei_model::problem::Problem;
use kanzlei_model::run::{FailureKind, RunState};
use kanzlei_model::time::{Span, Timestamp};
use kanzlei_model::value::Value;
use kanzlei_runtime::clock::now;
use kanzlei_runtime::files::Holder;
use kanzlei_runtime::journal;
use kanzlei_runtime::queue::Origin;
use kanzlei_runtime::queue::accept::NotQueued;
use kanzlei_store::queue::{self, Fails, Filter, JobPhase, MOST_COUNTED, OfRequest};
use serde_json::Value as Json_;
use uuid::Uuid;

use super::auth::Caller;
use super::pseudonyms::Names;
use super::runs::{failure, shown_steps, with_invoked};
use super::{poll_line, repair, state_named, url_of};
use crate::App;
use crate::error::{Error, Result};

/// The most jobs in one listing.
const MOST_JOBS: u32 = 500;

/// The filter of the store for what a caller selects; `of_request` finds the jobs of a request.
pub fn filter_of(
    live: &kanzlei_runtime::live::Live,
    selected: JobFilter,
    of_request: impl Fn(String) -> OfRequest,
    most: u32,
) -> Result<Filter> {
    let states =
        selected.state.as_deref().unwrap_or_default().split(',').map(str::trim).filter(|word| !word.is_empty());
    let states = states.map(state_named).collect::<Result<Vec<_>>>()?;
    let failure = selected.failure.as_deref().map(fails).transpose()?;
    let id = |text: Option<String>, of: &str| -> Result<Option<Uuid>> {
        let wrong = |text: &str| Error::problem(422, "Malformed id", format!("`{text}` is not the id of a {of}"));
        text.map(|text| text.parse().map_err(|_| wrong(&text))).transpose()
    };
    let instant = |text: Option<String>, name: &str| -> Result<Option<Timestamp>> {
        let read = |text: String| match text.parse::<Timestamp>() {
            Ok(at) => Ok(at),
            Err(_) => {
                let detail = format!("`{name}` is an instant such as 2027-03-04T06:00:00Z, not `{text}`");
                Err(Error::problem(422, "Invalid instant", detail))
            }
        };
        text.map(read).transpose()
    };
    Ok(Filter {
        states,
        lane: selected.lane,
        workflow: selected.workflow.map(|name| live.names_of(&name)).unwrap_or_default(),
        tags: selected.tag.as_deref().map(repair::tags).unwrap_or_default(),
        tag_prefix: selected.tag_prefix,
        batch: id(selected.group, "group")?,
        due_from: instant(selected.due_from, "due_from")?,
        due_until: instant(selected.due_until, "due_until")?,
        ended_from: instant(selected.ended_from, "ended_from")?,
        ended_until: instant(selected.ended_until, "ended_until")?,
        caller: selected.caller,
        revision: selected.revision,
        failure,
        step: selected.step,
        text: selected.text.filter(|text| !text.is_empty()),
        request: selected.request_id.map(of_request),
        before: id(selected.before, "job")?,
        limit: selected.limit.unwrap_or(most).clamp(1, most),
    })
}

/// How a job failed, as a caller selects it: a kind of failure or a status.
fn fails(word: &str) -> Result<Fails> {
    if let Ok(status) = word.parse() {
        return Ok(Fails::Status(status));
    }
    let known = FailureKind::ALL.iter().map(|kind| kind.name());
    if known.clone().any(|name| name == word) {
        return Ok(Fails::Kind(word.to_owned()));
    }
    let hint = match kanzlei_lang::suggest::nearest(word, known.clone()) {
        Some(near) => format!("did you mean `{near}`?"),
        None => format!("kinds are {}; or give a status such as 503", known.collect::<Vec<_>>().join(", ")),
    };
    Err(Error::problem(422, "Unknown kind of failure", format!("nothing fails with `{word}`; {hint}")))
}

/// Bytes of a value of a job under way that are shown.
const SHOWN: usize = 16 << 10;

/// `GET /jobs`: jobs by state, lane, workflow, tag, group, due time and text of the input, newest first.
pub async fn list(app: Data<App>, query: Query<JobFilter>) -> Result<HttpResponse> {
    let mut selected = query.into_inner();
    selected.limit = Some(selected.limit.unwrap_or(50).min(MOST_JOBS));
    let names = Names::of(&app, selected.pseudonyms)?;
    let filter = filter_of(&app.live.load(), selected, |id| app.jobs.of_request(id), MOST_JOBS)?;
    let at = now();
    let found = app.store.jobs(&filter, at).await?;
    // Counts are of all jobs: beside a narrower list they would mislead.
    let only_state =
        Filter { states: filter.states.clone(), before: filter.before, limit: filter.limit, ..Filter::default() };
    let counts = if filter == only_state { app.store.job_counts(at).await? } else { Vec::new() };
    let live = app.live.load_full();
    Ok(HttpResponse::Ok().json(JobPage {
        next_before: found.next,
        searched_to: found.searched_to.as_ref().and_then(time_of),
        jobs: found.jobs.into_iter().map(|job| hidden(line(job, &app, &live, at), &names)).collect(),
        counts: counts.into_iter().map(|(state, n)| (state.name().to_owned(), n)).collect(),
        counted_to: MOST_COUNTED,
    }))
}

/// A line with names as they are shown.
fn hidden(mut line: JobLine, names: &Names) -> JobLine {
    line.tags = line.tags.into_iter().map(|tag| names.show(tag)).collect();
    line.blocked_by = line.blocked_by.map(|key| names.show(key));
    line
}

/// When a job was accepted or a run began, by its id (RFC 9562, version 7).
pub(super) fn time_of(id: &Uuid) -> Option<Timestamp> {
    let (seconds, nanoseconds) = id.get_timestamp()?.to_unix();
    Some(Timestamp::from_micros(i64::try_from(seconds).ok()? * 1_000_000 + i64::from(nanoseconds / 1000)))
}

/// How much later than due something began.
fn delay(started: Option<Timestamp>, due: Timestamp) -> Option<Span> {
    started.map(|started| started.since(due))
}

pub(super) fn line(job: queue::JobLine, app: &App, live: &kanzlei_runtime::live::Live, at: Timestamp) -> JobLine {
    let (state, due) = (job.state(at), job.next_due());
    JobLine {
        id: job.id,
        url: url_of(app, job.id),
        curl: poll_line(app, job.id),
        retired: !live.workflows.contains_key(live.name_now(&job.workflow, job.id)),
        workflow: live.name_now(&job.workflow, job.id).to_owned(),
        revision: job.revision,
        state,
        stopping: job.stop && !job.phase.ended(),
        blocked_by: job.ordering_key.filter(|_| job.phase == JobPhase::Blocked),
        waits_for: job.waits_for,
        lane: job.lane,
        priority: job.priority,
        tags: job.tags,
        group: job.batch,
        entry: job.entry,
        queued: job.accepted,
        due,
        started: job.started,
        ended: job.ended,
        delay_us: delay(job.started, job.due),
        duration_us: job.started.zip(job.ended).map(|(started, ended)| ended - started),
        retries: job.retries,
        progress: job.progress,
        failure: failure(job.failure.as_deref()).map(|failure| failure.detail),
    }
}

pub fn read_id(id: &str) -> Result<Uuid> {
    id.parse().map_err(|_| Error::problem(400, "Malformed id", format!("`{id}` is not the id of a job")))
}

/// `GET /jobs/{id}`: one job with its sheet, what each step did, its history, and who is notified of its end.
pub async fn show(app: Data<App>, caller: Caller, id: Path<String>) -> Result<HttpResponse> {
    let id = read_id(&id)?;
    let Some(job) = app.store.job(id).await? else {
        return Err(Error::not_found(format!("there is no job {id}; ended jobs are purged after a while")));
    };
    let at = now();
    let live = app.live.load_full();
    let plan = app.jobs.plans.get(&app.store, &live, &job.workflow, job.revision, job.generation).await?;
    if job.sealed {
        caller.notes.looked_at(format!("job {id} of {}", job.workflow));
    }
    let given = app.effects.secrets.unguard(&job.input).and_then(|text| of_record(&text));
    // Without its plan it is unknown what of a sealed input may be shown.
    let input = match (&plan, &given) {
        (Some(plan), Some(given)) => plan.input.masked(given).to_serde(),
        (None, Some(given)) if !job.sealed => given.to_serde(),
        _ => Json_::String(kanzlei_runtime::secrets::MASK.into()),
    };
    let (mut sheet, mut steps, mut callbacks) = (None, None, Vec::new());
    // The outcomes of one that succeeded are in the journal.
    let recorded = match job.phase {
        JobPhase::Succeeded => {
            app.journal.flush().await;
            app.store.run(id).await?
        }
        _ => None,
    };
    if let (Some(plan), Some(mut run)) = (&plan, recorded) {
        run.values().for_each(|value| *value = journal::cut(std::mem::take(value), SHOWN));
        let own = plan.sheet.clone();
        steps = Some(shown_steps(&run.steps, &own, run.started));
        sheet = Some(with_invoked(own, &run.steps));
    } else if let (Some(plan), Some(given)) = (plan, given)
        && let Some(standing) = repair::standing(&app, &job, plan, given.clone()).await?
    {
        if !job.phase.ended() {
            callbacks = repair::callbacks(&app, &standing).await?;
        }
        let machine = standing.machine;
        let mask = app.effects.secrets.of_run(&machine, &given);
        let mut rows = journal::steps(&machine, SHOWN, &mask);
        let under_way = rows.iter_mut().filter(|row| row.state == State::Running.name());
        under_way.for_each(|row| row.duration = at - row.started);
        let own = machine.plan().sheet.clone();
        steps = Some(shown_steps(&rows, &own, job.started.unwrap_or(job.accepted)));
        sheet = Some(with_invoked(own, &rows));
    }
    let secrets = &app.effects.secrets;
    let masked = |text: &str| serde_json::from_str::<Json_>(&secrets.mask(text.to_owned())).unwrap_or_default();
    let notice = app.store.notice(id).await?.map(|notice| Notice {
        url: notice.url,
        attempts: notice.attempts,
        status: notice.status,
        detail: notice.detail,
        delivered: notice.delivered,
        next: notice.next,
    });
    let reply = job.reply.as_deref().and_then(|kept| secrets.unguard(kept)).map(|plain| masked(&plain)["body"].clone());
    let history = job.history.as_deref().unwrap_or_default().lines();
    let state = job.state(at);
    let remaining = app.jobs.remaining(&job).await;
    let held = app.store.lane_states().await?.iter().any(|lane| lane.held && lane.name == job.lane);
    let late = super::late::why(&app, &live, &job, held, at).await?;
    let named = live.name_now(&job.workflow, id).to_owned();
    Ok(HttpResponse::Ok().json(Job {
        url: url_of(&app, id),
        curl: poll_line(&app, id),
        retired: !live.workflows.contains_key(&named),
        live: live.workflows.get(&named).is_some_and(|w| w.revision == job.revision),
        state,
        stopping: job.stop && !job.phase.ended(),
        held,
        workflow_held: !job.phase.ended() && app.jobs.is_held(&named),
        callbacks,
        editable: repair::is_editable(&job),
        late,
        queued: job.accepted,
        due: job.due,
        started: job.started,
        ended: job.ended,
        until: job.ready_at.finite().filter(|_| state == RunState::Waiting),
        waits_for: job.waits_for.filter(|_| state == RunState::Waiting),
        process: app.store.process_of(id, job.worker).await?,
        delay_us: delay(job.started, job.due),
        duration_us: job.started.map(|started| job.ended.unwrap_or(at) - started),
        remaining_us: remaining,
        notes: job.notes.as_deref().and_then(|text| serde_json::from_str(text).ok()).unwrap_or_default(),
        input: masked(&input.to_string()),
        answered: job.status.is_some(),
        reply: reply.unwrap_or_default(),
        result_until: job.expires,
        failure: failure(job.failure.map(|text| secrets.mask(text)).as_deref()),
        history: history.filter_map(|line| serde_json::from_str(line).ok()).collect(),
        notice,
        sheet,
        steps,
        id,
        workflow: named,
        revision: job.revision,
        lane: job.lane,
        priority: job.priority,
        tags: job.tags,
        group: job.batch,
        ordering_key: job.ordering_key,
        entry: job.entry,
        caller: job.caller.name,
        request_id: job.request_id,
        trace_id: job.trace.id_text(),
        attempt: job.attempt,
        retries: job.retries,
        progress: job.progress,
        status: job.status,
        changes: job.changes,
    }))
}

/// `GET /groups/{id}`: how the jobs of a list stand.
pub async fn group(app: Data<App>, id: Path<String>) -> Result<HttpResponse> {
    let id = read_id(&id)?;
    let Some(state) = app.store.batch(id).await? else {
        return Err(Error::not_found(format!("there is no group {id}")));
    };
    let at = now();
    let ended = state.succeeded + state.rejected + state.failed + state.cancelled;
    let remaining = state.remaining as i64;
    // As fast as until now or as the lane lets them through, and not before the last is due. What waits in
    // a lane that is held has no end in sight.
    let name = state.lane.clone().unwrap_or_default();
    let held = app.store.lane_states().await?.iter().any(|lane| lane.held && lane.name == name);
    let lane = app.live.load().lane(&name);
    let until_now = state.first_started.filter(|_| ended > 0).map(|first| at + (at - first) / ended as i64 * remaining);
    let paced = lane.pace.map(|(count, span)| at + Span::from(span) / i64::from(count) * remaining);
    let expected = (remaining > 0 && !held).then(|| until_now.max(paced).max(state.last_due)).flatten();
    Ok(HttpResponse::Ok().json(Group {
        id,
        workflow: state.workflow,
        run: state.run,
        created: state.created,
        total: state.total,
        succeeded: state.succeeded,
        rejected: state.rejected,
        failed: state.failed,
        cancelled: state.cancelled,
        running: state.running,
        remaining: state.remaining,
        expected_end: expected,
    }))
}

/// `POST /jobs`: starts a live workflow as a job, whether or not it has an entry.
pub async fn start(app: Data<App>, caller: Caller, body: Json<JobStart>) -> Result<HttpResponse> {
    let JobStart { workflow: name, input } = body.into_inner();
    caller.notes.changed(format!("a job of {name}"), None, None);
    let live = app.live.load_full();
    let Some(workflow) = live.workflows.get(&name) else {
        return Err(super::workflows::no_workflow(&live, &name, "is live"));
    };
    let given = if input.is_null() { serde_json::json!({}) } else { input };
    let refused = |problem: Box<Problem>| Error::Runtime(kanzlei_runtime::Error::Problem(problem));
    let input = workflow.plan.input.accept(&workflow.plan.input.hold(&Value::from_json(&given))).map_err(refused)?;
    let request = Uuid::now_v7();
    let origin = Origin {
        entry: format!("started by {}", caller.name),
        caller: Default::default(),
        request_id: request.to_string(),
        trace: app.jobs.telemetry.fresh(Uuid::new_v4()),
        generation: 0,
        drawn: false,
    };
    let id = app.jobs.id_of_request(request);
    let row = app.jobs.row(&live, workflow, id, &input, &origin)?;
    let kept = Holder::direct(app.effects.files.clone()).hand_over(&input, id).await;
    kept.map_err(|why| Error::problem(507, "Files cannot be kept", why.to_string()))?;
    app.jobs.accept_in_time(vec![row]).await.map_err(|refused| match refused {
        NotQueued::Full { status, detail } => Error::problem(status, "The queue is full", detail),
        NotQueued::Unavailable | NotQueued::Unanswered => {
            let detail = "it does not answer; `kanzlei jobs` shows whether the job was queued";
            Error::problem(503, "The database is unavailable", detail)
        }
        NotQueued::Failed(_) => Error::problem(500, "The job could not be queued", "the log of the service says why"),
    })?;
    tracing::info!(workflow = name, job = %id, operator = caller.name, "started");
    Ok(HttpResponse::Ok().json(JobStarted { id, curl: poll_line(&app, id) }))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_selected_is_checked() {
        let of_request = |id| OfRequest { id, jobs: Vec::new() };
        let live = kanzlei_runtime::live::Live::default();
        for (selected, says) in [
            (JobFilter { state: Some("faild".into()), ..JobFilter::default() }, "did you mean `failed`?"),
            (JobFilter { group: Some("7".into()), ..JobFilter::default() }, "`7` is not the id of a group"),
            (JobFilter { due_until: Some("soon".into()), ..JobFilter::default() }, "`due_until` is an instant"),
            (JobFilter { ended_from: Some("noon".into()), ..JobFilter::default() }, "`ended_from` is an instant"),
            (JobFilter { state: Some("failed,runing".into()), ..JobFilter::default() }, "did you mean `running`?"),
            (JobFilter { failure: Some("timout".into()), ..JobFilter::default() }, "did you mean `timeout`?"),
        ] {
            let error = filter_of(&live, selected, of_request, 10).expect_err("refused").to_string();
            assert!(error.contains(says), "{error}");
        }
        let open = JobFilter { limit: Some(5000), text: Some(String::new()), ..JobFilter::default() };
        let filter = filter_of(&live, open, of_request, 10);
        let filter = filter.expect("good");
        assert_eq!((filter.limit, filter.text), (10, None));
    }
}
