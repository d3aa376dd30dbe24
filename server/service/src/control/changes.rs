//! Changes of jobs: cancel, run now, postpone, retry; of one, of some, or of a hundred thousand.
//!
//! A change of more than [`AT_ONCE`] jobs goes on behind its answer and is polled. It ends with the process: what it has
//! changed stays changed, and the same change can be asked for again.

use std::collections::HashMap;
use std::sync::{Arc, Mutex, PoisonError};

use actix_web::HttpResponse;
use actix_web::web::{Data, Json, Path};
use kanzlei_api::jobs::{JobAction, JobChange, JobsChanged, NotChanged, Operation, RetryFrom};
use kanzlei_model::run::FailureKind;
use kanzlei_model::time::{Span, Timestamp};
use kanzlei_runtime::clock::now;
use kanzlei_runtime::queue::{MOST_SELECTED, history_line};
use kanzlei_store::queue::JobPhase;
use serde_json::Value;
use uuid::Uuid;

use super::auth::Caller;
use super::jobs::{filter_of, read_id};
use crate::App;
use crate::error::{Error, Result};

/// Jobs that are changed before the answer; also the portion in which more are changed.
const AT_ONCE: usize = 500;
/// Changes of many jobs that go on at the same time.
const MOST_RUNNING: usize = 8;
/// How long the outcome of one can be polled.
const POLLED: Span = Span::from_secs(3600);

/// Why nothing was done to a job.
type Unchanged = &'static str;

/// Changes of many jobs.
#[derive(Default)]
pub struct Operations(Mutex<HashMap<Uuid, Arc<Mutex<JobsChanged>>>>);

impl Operations {
    /// Begins one, where there is room for it.
    fn begin(&self, operation: &Operation) -> Option<Arc<Mutex<JobsChanged>>> {
        let mut all = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let of = |one: &Arc<Mutex<JobsChanged>>| one.lock().ok().and_then(|one| one.operation.clone());
        all.retain(|_, one| of(one).is_some_and(|one| !one.ended || now().since(one.begun) < POLLED));
        if all.values().filter(|one| of(one).is_some_and(|one| !one.ended)).count() >= MOST_RUNNING {
            return None;
        }
        let changed = JobsChanged { done: Vec::new(), refused: Vec::new(), operation: Some(operation.clone()) };
        let shared = Arc::new(Mutex::new(changed));
        all.insert(operation.id, shared.clone());
        Some(shared)
    }

    fn find(&self, id: Uuid) -> Option<JobsChanged> {
        let all = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        all.get(&id).map(|one| one.lock().unwrap_or_else(PoisonError::into_inner).clone())
    }
}

/// The change to make to each job.
#[derive(Clone, Copy)]
struct Wanted {
    action: JobAction,
    due: Option<Timestamp>,
    from: RetryFrom,
    at: Timestamp,
}

/// `POST /jobs/actions`: does something to jobs, by id or by what they have in common.
pub async fn act(app: Data<App>, caller: Caller, body: Json<JobChange>) -> Result<HttpResponse> {
    let change = body.into_inner();
    caller.notes.changed("jobs", None, serde_json::to_string(&change).ok());
    let at = now();
    let due = match (change.action, change.due.as_deref()) {
        (JobAction::Postpone, None) => {
            let detail = "set `due` to an instant, or to a span such as `2h`";
            return Err(Error::problem(422, "Missing `due`", detail));
        }
        (_, due) => due.map(|text| due_of(text, at)).transpose()?,
    };
    let ids = match (&change.ids, change.select) {
        (ids, None) => ids.iter().map(|id| read_id(id)).collect::<Result<Vec<_>>>()?,
        (_, Some(selected)) => {
            let filter = filter_of(&app.live.load(), selected, |id| app.jobs.of_request(id), MOST_SELECTED)?;
            app.store.job_ids(&filter, at).await?
        }
    };
    let wanted = Wanted { action: change.action, due, from: change.from.unwrap_or_default(), at };
    if ids.len() <= AT_ONCE {
        let (done, refused) = change_some(&app, ids, wanted).await?;
        return Ok(HttpResponse::Ok().json(JobsChanged { done, refused, operation: None }));
    }
    let operation = Operation {
        id: Uuid::now_v7(),
        action: change.action,
        begun: at,
        total: ids.len() as u64,
        done: 0,
        refused: 0,
        ended: false,
        failure: None,
    };
    let Some(shared) = app.operations.begin(&operation) else {
        let detail = format!("{MOST_RUNNING} changes of many jobs go on already; wait for one of them");
        return Err(Error::problem(503, "Too many changes at once", detail));
    };
    let answer = shared.lock().unwrap_or_else(PoisonError::into_inner).clone();
    tracing::info!(jobs = operation.total, action = ?operation.action, "a change of many jobs begins");
    let behind = app.clone();
    app.runtime.spawn(async move { change_many(&behind, ids, wanted, &shared).await });
    Ok(HttpResponse::Accepted().json(answer))
}

/// `GET /jobs/actions/{id}`: how a change of many jobs stands.
pub async fn operation(app: Data<App>, id: Path<String>) -> Result<HttpResponse> {
    let id = read_id(&id)?;
    let gone =
        || Error::not_found("this change is not known here: it ended long ago, or with its process; ask for it again");
    Ok(HttpResponse::Ok().json(app.operations.find(id).ok_or_else(gone)?))
}

/// Changes jobs portion by portion, and says how far it is.
async fn change_many(app: &App, ids: Vec<Uuid>, wanted: Wanted, shared: &Mutex<JobsChanged>) {
    let mut failure = None;
    for portion in ids.chunks(AT_ONCE) {
        match change_some(app, portion.to_vec(), wanted).await {
            Ok((done, refused)) => {
                let mut changed = shared.lock().unwrap_or_else(PoisonError::into_inner);
                if let Some(operation) = &mut changed.operation {
                    operation.done += done.len() as u64;
                    operation.refused += refused.len() as u64;
                }
                let room = AT_ONCE - changed.refused.len();
                changed.refused.extend(refused.into_iter().take(room));
            }
            Err(error) => {
                failure = Some(error.to_string());
                break;
            }
        }
    }
    if let Some(operation) = &mut shared.lock().unwrap_or_else(PoisonError::into_inner).operation {
        (operation.ended, operation.failure) = (true, failure);
        tracing::info!(done = operation.done, refused = operation.refused, "a change of many jobs ended");
    }
}

async fn change_some(app: &App, mut ids: Vec<Uuid>, wanted: Wanted) -> Result<(Vec<Uuid>, Vec<NotChanged>)> {
    let mut done = Vec::new();
    let mut refused = Vec::new();
    if wanted.action == JobAction::Cancel {
        (done, ids) = app.jobs.cancel_most(ids, "an operator").await?;
    }
    for id in ids {
        match act_on(app, id, wanted).await? {
            Ok(()) => {
                app.jobs.followers.changed(id);
                done.push(id);
            }
            Err(why) => refused.push(NotChanged { id, why: why.into() }),
        }
    }
    app.jobs.wake.notify_one();
    Ok((done, refused))
}

async fn act_on(app: &App, id: Uuid, wanted: Wanted) -> Result<std::result::Result<(), Unchanged>> {
    let Wanted { action, due, from, at } = wanted;
    let by = "an operator";
    let moved = |moved: bool| if moved { Ok(()) } else { Err("it does not wait for its time") };
    Ok(match action {
        JobAction::Cancel => match app.jobs.cancel_one(id, by).await? {
            None => Err("there is no such job"),
            Some(phase) if phase.ended() => Err("it has ended"),
            Some(_) => Ok(()),
        },
        JobAction::RunNow => moved(app.store.reschedule(id, at, &history_line("run now", by, None)).await?),
        JobAction::Postpone => {
            let due = due.unwrap_or(at);
            moved(app.store.reschedule(id, due, &history_line("postponed", by, Some(&due.to_string()))).await?)
        }
        JobAction::Retry => retry(app, id, from == RetryFrom::Start, at).await?,
    })
}

/// A new due time: an instant that lies ahead, or a span from now.
fn due_of(text: &str, at: Timestamp) -> Result<Timestamp> {
    if let Ok(span) = kanzlei_model::duration::parse(text) {
        return Ok(at + span);
    }
    let wrong = |detail: String| Error::problem(422, "Invalid due time", detail);
    let due = text.parse::<Timestamp>().map_err(|_| {
        wrong(format!("`{text}` is neither an instant such as 2027-03-04T06:00:00Z nor a span such as `2h`"))
    })?;
    if due < at {
        return Err(wrong(format!("{due} lies in the past; to begin at once, use run-now")));
    }
    Ok(due)
}

async fn retry(app: &App, id: Uuid, from_start: bool, at: Timestamp) -> Result<std::result::Result<(), Unchanged>> {
    let Some(job) = app.store.job(id).await? else { return Ok(Err("there is no such job")) };
    if !matches!(job.phase, JobPhase::Failed | JobPhase::Rejected | JobPhase::Cancelled) {
        return Ok(Err("it did not fail"));
    }
    let kind = job.failure.as_deref().and_then(|text| serde_json::from_str::<Value>(text).ok());
    let kind = kind.and_then(|failure| failure["kind"].as_str().map(str::to_owned));
    let repeats = kind.as_deref().and_then(FailureKind::of).is_some_and(FailureKind::repeats);
    if !from_start && (repeats || job.outcomes == 0 || job.phase == JobPhase::Cancelled) {
        return Ok(Err("its step failed by itself and would fail again; retry it from the start"));
    }
    let what = if from_start { "retried from the start" } else { "retried from the failed step" };
    // Its failed run makes room for the one to come, so it must be written before.
    app.journal.flush().await;
    match app.store.retry(id, from_start, at, &history_line(what, "an operator", None)).await? {
        true => Ok(Ok(())),
        false => Ok(Err("it did not fail")),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

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
            assert_eq!(due_of(text, Timestamp::from_micros(at)).ok(), wanted.map(Timestamp::from_micros), "{text}");
        }
    }
}
