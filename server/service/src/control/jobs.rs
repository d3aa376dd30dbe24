//! The control API's part for jobs: finding, looking into and changing them; lanes; timetables.

use actix_web::HttpResponse;
use actix_web::web::{Data, Json, Path, Query};
use jiff::Timestamp;
use kanzlei_compiler::plan::Order;
use kanzlei_engine::driver::{self, Nothing, Recorded, at_once};
use kanzlei_engine::machine::{Machine, Start, State, instant};
use kanzlei_lang::document::lane::MAIN;
use kanzlei_lang::document::workflow::{Missed, Overlap};
use kanzlei_model::run::{FailureKind, RunState};
use kanzlei_model::value::Value;
use kanzlei_store::queue::{Filter, JobLine, JobPhase, JobRow, MOST_COUNTED, OutcomeRow, Sample};
use serde::Deserialize;
use serde_json::{Value as Json_, json};
use uuid::Uuid;

use super::api::{steps_json, with_invoked};
use crate::App;
use crate::clock::now;
use crate::error::{Error, Result};
use crate::jobs::{MOST_MEANT, outcome_of, past, timetables};
use crate::journal;

/// The most jobs in one listing.
const MOST_JOBS: u32 = 500;
/// Due times of a timetable that are told.
const NEXT: usize = 5;

#[derive(Clone, Debug, Default, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Meant {
    state: Option<String>,
    lane: Option<String>,
    workflow: Option<String>,
    tag: Option<String>,
    group: Option<String>,
    due_from: Option<String>,
    due_until: Option<String>,
    text: Option<String>,
    request_id: Option<String>,
    before: Option<String>,
    limit: Option<u32>,
}

impl Meant {
    fn filter(self, most: u32) -> Result<Filter> {
        let state = self.state.as_deref().map(state_named).transpose()?;
        let id = |text: Option<String>, of: &str| -> Result<Option<Uuid>> {
            let wrong = |text: &str| Error::problem(422, "Malformed id", format!("`{text}` is not the id of a {of}"));
            text.map(|text| text.parse().map_err(|_| wrong(&text))).transpose()
        };
        let instant = |text: Option<String>, name: &str| -> Result<Option<i64>> {
            let read = |text: String| match text.parse::<Timestamp>() {
                Ok(at) => Ok(at.as_microsecond()),
                Err(_) => {
                    let detail = format!("`{name}` is an instant such as 2027-03-04T06:00:00Z, not `{text}`");
                    Err(Error::problem(422, "Invalid instant", detail))
                }
            };
            text.map(read).transpose()
        };
        Ok(Filter {
            state,
            lane: self.lane,
            workflow: self.workflow,
            tag: self.tag,
            batch: id(self.group, "group")?,
            due_from: instant(self.due_from, "due_from")?,
            due_until: instant(self.due_until, "due_until")?,
            text: self.text.filter(|text| !text.is_empty()),
            request_id: self.request_id,
            before: id(self.before, "job")?,
            limit: self.limit.unwrap_or(most).clamp(1, most),
        })
    }
}

/// The state of a name, for filters.
pub fn state_named(name: &str) -> Result<RunState> {
    RunState::of(name).ok_or_else(|| {
        let near = kanzlei_lang::suggest::nearest(name, RunState::NAMES.iter().copied());
        let hint = near.map_or_else(|| RunState::NAMES.join(", "), |near| format!("did you mean `{near}`?"));
        Error::problem(422, "Unknown state", format!("there is no state `{name}`; {hint}"))
    })
}

/// `GET /jobs`: jobs by state, lane, workflow, tag, group, due time and text of the input, newest first.
pub async fn list(app: Data<App>, query: Query<Meant>) -> Result<HttpResponse> {
    let mut meant = query.into_inner();
    meant.limit = Some(meant.limit.unwrap_or(50).min(MOST_JOBS));
    let filter = meant.filter(MOST_JOBS)?;
    let at = now();
    let found = app.store.jobs(&filter, at).await?;
    // They are of all jobs: beside a narrower list they would mislead, and they cost a look at each.
    let only_state = Filter { state: filter.state, before: filter.before, limit: filter.limit, ..Filter::default() };
    let counts = if filter == only_state { app.store.job_counts(at).await? } else { Vec::new() };
    let live = app.live.load_full();
    let next = (found.len() as u32 == filter.limit).then(|| found.last().map(|job| job.id)).flatten();
    let listed: Vec<Json_> = found.iter().map(|job| line(job, &app, &live, at)).collect();
    let counts: serde_json::Map<String, Json_> =
        counts.into_iter().map(|(state, n)| (state.name().to_owned(), n.into())).collect();
    Ok(HttpResponse::Ok()
        .json(json!({"jobs": listed, "counts": counts, "counted_to": MOST_COUNTED, "next_before": next})))
}

fn failure_of(text: Option<&str>) -> Option<Json_> {
    serde_json::from_str::<Json_>(text?).ok()?.get("detail").cloned()
}

/// The line that polls a job in a terminal.
pub fn poll_line(app: &App, id: Uuid) -> String {
    format!("curl -s '{}/~/jobs/{id}' -H 'Prefer: wait=30'", app.public_url)
}

/// When a job is due next; nothing while it waits for a callback without end.
fn due_next(phase: JobPhase, wake: i64, due: i64) -> Option<String> {
    let next = if phase == JobPhase::Ready { wake } else { due };
    (next < i64::MAX / 4).then(|| instant(next))
}

fn line(job: &JobLine, app: &App, live: &crate::live::Live, at: i64) -> Json_ {
    let state = job.phase.state(job.wake > at, job.claim_rank == 0);
    json!({
        "id": job.id,
        "url": format!("{}/~/jobs/{}", app.public_url, job.id),
        "curl": poll_line(app, job.id),
        "workflow": job.workflow,
        "revision": job.revision,
        "retired": !live.workflows.contains_key(&job.workflow),
        "state": state,
        "stopping": job.stop && !job.phase.ended(),
        "blocked_by": (job.phase == JobPhase::Blocked).then(|| job.ordering_key.clone()),
        "waits_for": job.waits,
        "lane": job.lane,
        "priority": job.priority,
        "tag": job.tag,
        "group": job.batch,
        "entry": job.entry,
        "queued": instant(job.accepted),
        "due": due_next(job.phase, job.wake, job.due),
        "started": job.started.map(instant),
        "ended": job.ended.map(instant),
        "delay_us": job.started.map(|started| (started - job.due).max(0)),
        "duration_us": job.started.zip(job.ended).map(|(started, ended)| ended - started),
        "tries": job.tries,
        "progress": job.progress,
        "failure": failure_of(job.failure.as_deref()),
    })
}

fn read_id(id: &str) -> Result<Uuid> {
    id.parse().map_err(|_| Error::problem(400, "Malformed id", format!("`{id}` is not the id of a job")))
}

/// `GET /jobs/{id}`: one job with its sheet, what each step did, its history, and who is notified of its end.
pub async fn show(app: Data<App>, id: Path<String>) -> Result<HttpResponse> {
    let id = read_id(&id)?;
    let Some(job) = app.store.job(id).await? else {
        return Err(Error::not_found(format!("there is no job {id}; ended jobs are purged after a while")));
    };
    let at = now();
    let (mut document, remaining) = app.jobs.document(&job).await;
    let live = app.live.load_full();
    let plan = app.jobs.plans.get(&app.store, &live, &job.workflow, job.revision, job.generation).await?;
    let (mut sheet, mut steps) = (Json_::Null, Json_::Null);
    let given = app.outside.secrets.unguard(&job.input).and_then(|text| serde_json::from_str::<Value>(&text).ok());
    // Without its plan nobody knows what of a sealed input may be shown.
    let input = match (&plan, &given) {
        (Some(plan), Some(given)) => plan.input.masked(given).to_serde(),
        (None, Some(given)) if !job.sealed => given.to_serde(),
        _ => Json_::String(crate::secrets::MASK.into()),
    };
    if let (Some(plan), Some(given)) = (plan, given) {
        let machine = replayed(&app, &job, plan, given.clone()).await?;
        if let Some(machine) = machine {
            let mask = app.outside.secrets.of_run(&machine, &given);
            let mut rows = journal::steps(&machine, app.journal.value_limit, &mask);
            let under_way = rows.iter_mut().filter(|row| row.state == State::Running.name());
            under_way.for_each(|row| row.duration = at - row.started);
            let own = machine.plan().sheet.clone();
            steps = steps_json(&rows, &own, job.started.unwrap_or(job.accepted)).into();
            sheet = json!(with_invoked(own, &rows));
        }
    }
    let text =
        |text: &str| serde_json::from_str::<Json_>(&app.outside.secrets.mask(text.to_owned())).unwrap_or_default();
    let opened = |kept: &str| app.outside.secrets.unguard(kept).map(|plain| text(&plain)).unwrap_or_default();
    let history: Vec<Json_> =
        job.past.as_deref().unwrap_or_default().lines().filter_map(|line| serde_json::from_str(line).ok()).collect();
    let notice = app.store.notice(id).await?.map(|notice| {
        json!({
            "url": notice.url, "tries": notice.tries, "status": notice.status, "detail": notice.detail,
            "told": notice.told.map(instant), "next": notice.next.map(instant),
        })
    });
    let address = format!("{}/~/jobs/{id}", app.public_url);
    let process = app.store.process_of(id, job.worker).await?;
    let more = json!({
        "process": process,
        "url": address,
        "curl": poll_line(&app, id),
        "revision": job.revision,
        "retired": !live.workflows.contains_key(&job.workflow),
        "live": live.workflows.get(&job.workflow).is_some_and(|w| w.revision == job.revision),
        "lane": job.lane,
        "held": app.store.lane_states().await?.iter().any(|lane| lane.held && lane.name == job.lane),
        "priority": job.priority,
        "tag": job.tag,
        "group": job.batch,
        "ordering_key": job.ordering_key,
        "blocked": job.phase == JobPhase::Blocked,
        "entry": job.entry,
        "caller": job.caller,
        "request_id": job.request_id,
        "trace_id": job.trace_id,
        "attempt": job.attempt,
        "tries": job.tries,
        "delay_us": job.started.map(|started| (started - job.due).max(0)),
        "duration_us": job.started.map(|started| job.ended.unwrap_or(at) - started),
        "remaining_us": remaining,
        "input": text(&input.to_string()),
        "status": job.status,
        "reply": job.reply.as_deref().map(&opened).map(|reply| reply["body"].clone()),
        "failure": job.failure.as_deref().map(text),
        "history": history,
        "notice": notice,
        "sheet": sheet,
        "steps": steps,
        "changes": job.changes,
    });
    if let (Json_::Object(document), Json_::Object(more)) = (&mut document, more) {
        document.extend(more);
    }
    Ok(HttpResponse::Ok().json(document))
}

/// The run of a job as it stands, made again from what is written down of it.
async fn replayed(
    app: &App,
    job: &JobRow,
    plan: std::sync::Arc<kanzlei_compiler::plan::Plan>,
    input: Value,
) -> Result<Option<Machine>> {
    let Some(started) = job.started else { return Ok(None) };
    let start = Start { id: job.id.to_string(), input, now: started, caller: job.caller.clone(), attempt: job.attempt };
    let mut machine = Machine::new(plan, start);
    let rows = app.store.outcomes(&[(job.id, job.attempt)]).await?;
    let read = |row: &OutcomeRow| {
        let outcome = outcome_of(&app.outside.secrets, row).ok_or_else(|| format!("outcome {}", row.seq))?;
        Ok((row.effect, outcome, row.at))
    };
    let mut recorded = Recorded::new(rows.iter().map(read));
    let Ok(_) = at_once(driver::drive(&mut machine, &mut recorded, &mut Nothing, started));
    Ok(Some(machine))
}

#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Act {
    /// `cancel`, `run-now`, `postpone`, `retry`.
    action: String,
    #[serde(default)]
    ids: Vec<String>,
    /// In place of ids: all jobs that are meant.
    meant: Option<Meant>,
    /// For `postpone`: the new due time, or how much later.
    due: Option<String>,
    /// For `retry`: `failed-step` or `start`.
    #[serde(default)]
    from: Option<String>,
}

/// `POST /jobs/actions`: does something to jobs, by id or by what they have in common.
pub async fn act(app: Data<App>, body: Json<Act>) -> Result<HttpResponse> {
    let act = body.into_inner();
    let known = ["cancel", "run-now", "postpone", "retry"];
    if !known.contains(&act.action.as_str()) {
        let detail = format!("there is no action `{}`; actions: {}", act.action, known.join(", "));
        return Err(Error::problem(422, "Unknown action", detail));
    }
    let at = now();
    let ids = match (&act.ids, act.meant) {
        (ids, None) => ids.iter().map(|id| read_id(id)).collect::<Result<Vec<_>>>()?,
        (_, Some(meant)) => app.store.job_ids(&meant.filter(MOST_MEANT)?, at).await?,
    };
    let due = act.due.as_deref().map(|text| due_of(text, at)).transpose()?;
    let mut done = Vec::new();
    let mut refused = Vec::new();
    let mut ids = ids;
    if act.action == "cancel" {
        (done, ids) = app.jobs.cancel_most(ids, "an operator").await?;
    }
    for id in ids {
        let outcome = match act.action.as_str() {
            "cancel" => match app.jobs.cancel_one(id, "an operator").await? {
                None => Err("there is no such job"),
                Some(phase) if phase.ended() => Err("it has ended"),
                Some(_) => Ok(()),
            },
            "run-now" => match app.store.reschedule(id, at, &past("run now", "an operator", None)).await? {
                true => Ok(()),
                false => Err("it does not wait for its time"),
            },
            "postpone" => {
                let Some(due) = due else {
                    return Err(Error::problem(
                        422,
                        "Missing `due`",
                        "set `due` to an instant, or to a span such as `2h`",
                    ));
                };
                let line = past("postponed", "an operator", Some(&instant(due)));
                match app.store.reschedule(id, due, &line).await? {
                    true => Ok(()),
                    false => Err("it does not wait for its time"),
                }
            }
            "retry" => {
                let from_start = match act.from.as_deref() {
                    Some("start") => true,
                    None | Some("failed-step") => false,
                    Some(other) => {
                        let detail = format!("`from` is `failed-step` or `start`, not `{other}`");
                        return Err(Error::problem(422, "Invalid `from`", detail));
                    }
                };
                retry(&app, id, from_start, at).await?
            }
            _ => Err("there is no such action"),
        };
        match outcome {
            Ok(()) => {
                app.jobs.followers.changed(id);
                done.push(id);
            }
            Err(why) => refused.push(json!({"id": id, "why": why})),
        }
    }
    app.jobs.wake.notify_one();
    Ok(HttpResponse::Ok().json(json!({"done": done, "refused": refused})))
}

/// A new due time: an instant that lies ahead, or a span from now.
fn due_of(text: &str, at: i64) -> Result<i64> {
    if let Ok(span) = kanzlei_model::duration::parse(text) {
        return Ok(at.saturating_add(span.as_micros() as i64));
    }
    let wrong = |detail: String| Error::problem(422, "Invalid due time", detail);
    let due = text.parse::<Timestamp>().map_err(|_| {
        wrong(format!("`{text}` is neither an instant such as 2027-03-04T06:00:00Z nor a span such as `2h`"))
    })?;
    if due.as_microsecond() < at {
        return Err(wrong(format!("{due} lies in the past; to begin at once, use run-now")));
    }
    Ok(due.as_microsecond())
}

async fn retry(app: &App, id: Uuid, from_start: bool, at: i64) -> Result<std::result::Result<(), &'static str>> {
    let Some(job) = app.store.job(id).await? else { return Ok(Err("there is no such job")) };
    if !matches!(job.phase, JobPhase::Failed | JobPhase::Rejected | JobPhase::Cancelled) {
        return Ok(Err("it did not fail"));
    }
    let kind = job.failure.as_deref().and_then(|text| serde_json::from_str::<Json_>(text).ok());
    let kind = kind.and_then(|failure| failure["kind"].as_str().map(str::to_owned));
    let repeats = kind.as_deref().and_then(FailureKind::of).is_some_and(FailureKind::repeats);
    if !from_start && (repeats || job.outcomes == 0 || job.phase == JobPhase::Cancelled) {
        return Ok(Err("its step failed by itself and would fail again; retry it from the start"));
    }
    let what = if from_start { "retried from the start" } else { "retried from the failed step" };
    match app.store.retry(id, from_start, at, &past(what, "an operator", None)).await? {
        true => Ok(Ok(())),
        false => Ok(Err("it did not fail")),
    }
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
    let paced = lane.pace.map(|(count, span)| at + span.as_micros() as i64 / i64::from(count.max(1)) * remaining);
    let expected = (remaining > 0 && !held).then(|| until_now.max(paced).max(state.last_due)).flatten();
    Ok(HttpResponse::Ok().json(json!({
        "id": id, "workflow": state.workflow, "run": state.run, "created": instant(state.created),
        "total": state.total, "succeeded": state.succeeded, "rejected": state.rejected, "failed": state.failed,
        "cancelled": state.cancelled, "running": state.running, "remaining": state.remaining, "expected_end": expected.map(instant),
    })))
}

/// `GET /lanes`: every lane with its rules, how it stands, and what it did in the last minutes.
pub async fn lanes(app: Data<App>) -> Result<HttpResponse> {
    let at = now();
    let live = app.live.load_full();
    let depths = app.store.lane_depths(at).await?;
    let states = app.store.lane_states().await?;
    let recent = app.store.samples(at - 5 * 60_000_000).await?;
    let mut names: Vec<String> = vec![MAIN.to_owned()];
    names.extend(live.lanes.keys().cloned());
    names.extend(depths.iter().map(|depth| depth.lane.clone()));
    names.sort();
    names.dedup();
    let listed: Vec<Json_> = names
        .iter()
        .map(|name| {
            let lane = live.lane(name);
            let depth = depths.iter().find(|depth| depth.lane == *name).cloned().unwrap_or_default();
            let held = states.iter().any(|state| state.name == *name && state.held);
            let sum = recent.iter().filter(|sample| sample.lane == *name).fold(Sample::default(), |sum, one| Sample {
                begun: sum.begun + one.begun,
                succeeded: sum.succeeded + one.succeeded,
                rejected: sum.rejected + one.rejected,
                failed: sum.failed + one.failed,
                delay: sum.delay + one.delay,
                max_delay: sum.max_delay.max(one.max_delay),
                ..sum
            });
            json!({
                "name": name,
                "about": lane.about,
                "declared": live.lanes.contains_key(name),
                "held": held,
                "at_once": lane.at_once,
                "pace": lane.pace.map(|(count, span)| pace_text(count, span)),
                "order": match &lane.order {
                    Order::Due => "due".to_owned(),
                    Order::Strict => "strict".to_owned(),
                    Order::Per(key) => format!("one at a time per {}", key.text()),
                },
                "length": lane.length,
                "full": lane.full,
                "scheduled": depth.scheduled,
                "queued": depth.queued,
                "running": depth.running,
                "waiting": depth.waiting,
                "oldest_us": depth.oldest.map(|oldest| (at - oldest).max(0)),
                "last_5min": {
                    "begun": sum.begun, "succeeded": sum.succeeded, "rejected": sum.rejected, "failed": sum.failed,
                    "mean_delay_us": sum.delay.checked_div(sum.begun), "max_delay_us": sum.max_delay,
                },
            })
        })
        .collect();
    Ok(HttpResponse::Ok().json(json!({"lanes": listed})))
}

/// A pace as people write it: `60/min`, `5 in 10s`.
fn pace_text(count: u32, span: std::time::Duration) -> String {
    match span.as_secs_f64() {
        1.0 => format!("{count}/s"),
        60.0 => format!("{count}/min"),
        3600.0 => format!("{count}/h"),
        _ => format!("{count} in {}", kanzlei_model::duration::short(span)),
    }
}

#[derive(Deserialize)]
pub struct Since {
    minutes: Option<i64>,
}

/// `GET /lanes/samples`: depth, throughput and lateness over time, by lane.
pub async fn samples(app: Data<App>, query: Query<Since>) -> Result<HttpResponse> {
    let minutes = query.minutes.unwrap_or(60).clamp(1, 2880);
    let found = app.store.samples(now() - minutes * 60_000_000).await?;
    let mut lanes: std::collections::BTreeMap<&str, Vec<Json_>> = Default::default();
    for sample in &found {
        lanes.entry(&sample.lane).or_default().push(json!({
            "at": sample.at / 1_000_000, "waiting": sample.waiting, "begun": sample.begun,
            "succeeded": sample.succeeded, "rejected": sample.rejected, "failed": sample.failed, "mean_delay_ms": sample.delay.checked_div(sample.begun).unwrap_or(0) / 1000,
            "max_delay_ms": sample.max_delay / 1000,
        }));
    }
    Ok(HttpResponse::Ok().json(json!({"seconds": 10, "lanes": lanes})))
}

/// `POST /lanes/{name}/{hold|release|empty}`.
pub async fn lane_act(app: Data<App>, path: Path<(String, String)>) -> Result<HttpResponse> {
    let (name, action) = path.into_inner();
    let live = app.live.load_full();
    let known = name == MAIN || live.lanes.contains_key(&name);
    if !known && !app.store.lane_depths(now()).await?.iter().any(|depth| depth.lane == name) {
        let near = kanzlei_lang::suggest::nearest(&name, live.lanes.keys().map(String::as_str));
        let hint = near.map(|near| format!("; did you mean `{near}`?")).unwrap_or_default();
        return Err(Error::not_found(format!("there is no lane `{name}`{hint}")));
    }
    let mut cancelled = 0;
    match action.as_str() {
        "hold" => app.store.hold_lane(&name, true).await?,
        "release" => app.store.hold_lane(&name, false).await?,
        "empty" => {
            for state in [RunState::Queued, RunState::Scheduled, RunState::Waiting] {
                let filter =
                    Filter { lane: Some(name.clone()), state: Some(state), limit: MOST_MEANT, ..Filter::default() };
                let ids = app.store.job_ids(&filter, now()).await?;
                let (done, left) = app.jobs.cancel_most(ids, "an operator, emptying the lane").await?;
                cancelled += done.len() as u64;
                for id in left {
                    let by = "an operator, emptying the lane";
                    cancelled += u64::from(app.jobs.cancel_one(id, by).await?.is_some_and(|phase| !phase.ended()));
                }
            }
        }
        other => {
            return Err(Error::not_found(format!("a lane cannot `{other}`; it can hold, release and empty")));
        }
    }
    app.jobs.wake.notify_one();
    Ok(HttpResponse::Ok().json(json!({"lane": name, "action": action, "cancelled": cancelled})))
}

/// `GET /timetables`: every timetable with its next due times and what became of the last ones.
pub async fn timetables_list(app: Data<App>) -> Result<HttpResponse> {
    let live = app.live.load_full();
    let states = app.store.timetables().await?;
    let at = Timestamp::from_microsecond(now()).unwrap_or(Timestamp::UNIX_EPOCH);
    let far = Timestamp::MAX;
    let mut listed = Vec::new();
    for workflow in live.workflows.values() {
        for (index, timetable) in workflow.plan.timetables.iter().enumerate() {
            let (name, entry) = (&workflow.plan.name, index as u16);
            let state = states.iter().find(|state| state.workflow == *name && state.entry == entry);
            let paused = state.is_some_and(|state| state.paused);
            let zone = &timetable.calendar.zone;
            let next: Vec<Json_> = timetable
                .calendar
                .between(at, far, NEXT)
                .into_iter()
                .map(|due| json!({"due": due, "zone": due.to_zoned(zone.clone()).strftime("%a %Y-%m-%d %H:%M:%S %:z").to_string()}))
                .collect();
            let last: Vec<Json_> = app
                .store
                .firings(name, entry, 10)
                .await?
                .into_iter()
                .map(|firing| {
                    let phase = firing.phase.and_then(JobPhase::of_code);
                    json!({
                        "due": instant(firing.due),
                        "became": firing.became,
                        "job": firing.job,
                        "curl": firing.job.map(|job| poll_line(&app, job)),
                        "state": phase.map(|phase| phase.state(false, false)),
                    })
                })
                .collect();
            listed.push(json!({
                "workflow": name,
                "number": index + 1,
                "when": timetable.calendar.text(),
                "words": timetable.calendar.words(),
                "zone": timetable.calendar.zone_name(),
                "missed": match timetable.missed { Missed::Skip => "skip", Missed::Once => "once", Missed::All => "all" },
                "overlap": match timetable.overlap { Overlap::Allow => "allow", Overlap::Skip => "skip", Overlap::Wait => "wait" },
                "paused": paused,
                "next": if paused { Vec::new() } else { next },
                "last": last,
            }));
        }
    }
    Ok(HttpResponse::Ok().json(json!({"timetables": listed})))
}

/// `POST /timetables/{workflow}/{number}/{pause|resume|fire}`.
pub async fn timetable_act(app: Data<App>, path: Path<(String, u16, String)>) -> Result<HttpResponse> {
    let (workflow, number, action) = path.into_inner();
    let entry = number.checked_sub(1);
    let live = app.live.load_full();
    let known = live.workflows.get(&workflow).map(|w| w.plan.timetables.len()).unwrap_or(0);
    let Some(entry) = entry.filter(|entry| usize::from(*entry) < known) else {
        return Err(Error::not_found(format!("`{workflow}` has no timetable {number}")));
    };
    let mut job = None;
    match action.as_str() {
        "pause" | "resume" => {
            app.store.pause_timetable(&workflow, entry, action == "pause", now()).await?;
        }
        "fire" => job = Some(timetables::fire_now(&app.jobs, &workflow, entry).await?),
        other => {
            return Err(Error::not_found(format!("a timetable cannot `{other}`; it can pause, resume and fire")));
        }
    }
    let url = job.map(|id| format!("{}/~/jobs/{id}", app.public_url));
    Ok(HttpResponse::Ok()
        .json(json!({"workflow": workflow, "number": number, "action": action, "job": job, "url": url})))
}

#[cfg(test)]
mod tests {
    use std::time::Duration;

    use super::*;

    #[test]
    fn paces_are_written_as_people_do() {
        for (count, seconds, text) in [(5, 1, "5/s"), (60, 60, "60/min"), (7, 3600, "7/h"), (2, 90, "2 in 1m30s")] {
            assert_eq!(pace_text(count, Duration::from_secs(seconds)), text);
        }
    }

    #[test]
    fn due_times_lie_ahead() {
        let at = 1_800_000_000_000_000;
        for (text, wanted) in [
            ("2h", Some(at + 7_200_000_000)),
            ("PT1M", Some(at + 60_000_000)),
            ("2027-03-04T06:00:00Z", Some(1_804_140_000_000_000)),
            ("2027-03-04T07:00:00+01:00", Some(1_804_140_000_000_000)),
            ("2020-01-01T00:00:00Z", None),
            ("tomorrow", None),
            ("-2h", None),
            ("", None),
        ] {
            assert_eq!(due_of(text, at).ok(), wanted, "{text}");
        }
    }

    #[test]
    fn what_is_meant_is_checked() {
        for (meant, says) in [
            (Meant { state: Some("faild".into()), ..Meant::default() }, "did you mean `failed`?"),
            (Meant { group: Some("7".into()), ..Meant::default() }, "`7` is not the id of a group"),
            (Meant { due_until: Some("soon".into()), ..Meant::default() }, "`due_until` is an instant"),
        ] {
            let error = meant.filter(10).expect_err("refused").to_string();
            assert!(error.contains(says), "{error}");
        }
        let filter = Meant { limit: Some(5000), text: Some(String::new()), ..Meant::default() }.filter(10);
        let filter = filter.expect("good");
        assert_eq!((filter.limit, filter.text), (10, None));
    }
}
