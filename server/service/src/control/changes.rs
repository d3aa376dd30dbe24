//! Changes of jobs: cancel, run now, postpone, retry, undo; of one, of some, or of a hundred thousand.
//!
//! A change of more than [`AT_ONCE`] jobs goes on behind its answer and is polled. It ends with the process: what it has
//! changed stays changed, and the same change can be asked for again.

use std::collections::HashMap;
use std::sync::{Arc, Mutex, PoisonError};

use actix_web::HttpResponse;
use actix_web::web::{Data, Json, Path};
use kanzlei_api::jobs::{JobAction, JobChange, JobsChanged, NotChanged, Operation, Preview, RetryFrom};
use kanzlei_model::time::{Span, Timestamp};
use kanzlei_runtime::clock::now;
use kanzlei_runtime::live::Live;
use kanzlei_runtime::queue::{MOST_SELECTED, history_line};
use kanzlei_store::queue::{JobPhase, Retry};
use uuid::Uuid;

use super::auth::Caller;
use super::jobs::{filter_of, line, read_id};
use super::pace_given;
use super::repair::{self, Retriable, Retried};
use crate::App;
use crate::error::{Error, Result};

/// Jobs that are changed before the answer; also the portion in which more are changed.
const AT_ONCE: usize = 500;
/// Changes of many jobs that go on at the same time.
const MOST_RUNNING: usize = 8;
/// Jobs that a preview lists.
const SHOWN: usize = 10;
/// How long the outcome of one can be polled.
const POLLED: Span = Span::from_secs(3600);

/// Why nothing was done to a job.
type Unchanged = String;

const NO_JOB: &str = "there is no such job";
const NOT_WAITING: &str = "it does not wait for its time";
const BEGUN: &str = "it has begun again or ended since, or was not retried by this change";

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
        let changed = JobsChanged {
            done: Vec::new(),
            refused: Vec::new(),
            operation: Some(operation.clone()),
            change: Some(operation.id),
            preview: None,
        };
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
#[derive(Clone)]
struct Wanted {
    action: JobAction,
    due: Option<Timestamp>,
    how: Retried,
    /// Between the due times of two jobs.
    gap: Span,
    at: Timestamp,
    /// Of this change; of the one that is undone.
    change: Uuid,
    by: String,
}

impl Wanted {
    /// When the job is due before which so many were changed.
    fn due_after(&self, done: u64) -> Timestamp {
        self.at + self.gap * i64::try_from(done).unwrap_or(i64::MAX)
    }
}

/// `POST /jobs/actions`: does something to jobs, by id or by what they have in common.
pub async fn act(app: Data<App>, caller: Caller, body: Json<JobChange>) -> Result<HttpResponse> {
    let change = body.into_inner();
    if !change.preview {
        caller.notes.changed("jobs", None, serde_json::to_string(&change).ok());
    }
    let at = now();
    let due = match (change.action, change.due.as_deref()) {
        (JobAction::Postpone, None) => {
            let detail = "set `due` to an instant, or to a span such as `2h`";
            return Err(Error::problem(422, "Missing `due`", detail));
        }
        (_, due) => due.map(|text| due_of(text, at)).transpose()?,
    };
    let gap = gap_of(change.action, change.pace.as_deref())?;
    let mut id = Uuid::now_v7();
    let ids = match (&change.ids, change.select, change.change) {
        (_, _, Some(undone)) if change.action == JobAction::Undo => {
            let (undone, ids) = repair::of_change(&app, &undone, MOST_SELECTED).await?;
            id = undone;
            let asked = change.ids.iter().map(|id| read_id(id)).collect::<Result<Vec<_>>>()?;
            ids.into_iter().filter(|id| asked.is_empty() || asked.contains(id)).collect()
        }
        (.., None) if change.action == JobAction::Undo => {
            let detail = "`change` is the id that the retry returned; `ids` narrows it to some of its jobs";
            return Err(Error::problem(422, "Missing `change`", detail));
        }
        (_, _, Some(_)) => return Err(Error::problem(422, "Unfit `change`", "only `undo` undoes a change")),
        (ids, None, None) => ids.iter().map(|id| read_id(id)).collect::<Result<Vec<_>>>()?,
        (_, Some(selected), None) => {
            let filter = filter_of(&app.live.load(), selected, |id| app.jobs.of_request(id), MOST_SELECTED)?;
            app.store.job_ids(&filter, at).await?
        }
    };
    let how = Retried { from: change.from.unwrap_or_default(), with: change.revision.unwrap_or_default() };
    let wanted = Wanted { action: change.action, due, how, gap, at, change: id, by: caller.name.clone() };
    if change.preview {
        return preview(&app, &ids, &wanted).await;
    }
    if ids.len() <= AT_ONCE {
        let (done, refused) = change_some(&app, ids, &wanted, 0).await?;
        let undoable = (wanted.action == JobAction::Retry && !done.is_empty()).then_some(id);
        return Ok(HttpResponse::Ok().json(JobsChanged {
            done,
            refused,
            operation: None,
            change: undoable,
            preview: None,
        }));
    }
    let operation = Operation {
        id,
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

/// The time between the due times of two jobs; none where they are due at once.
fn gap_of(action: JobAction, pace: Option<&str>) -> Result<Span> {
    let Some(text) = pace else { return Ok(Span::ZERO) };
    if !matches!(action, JobAction::Retry | JobAction::RunNow) {
        return Err(Error::problem(422, "Unfit `pace`", "only retries and `run-now` have a pace"));
    }
    let (count, span) = pace_given(text)?;
    Ok(Span::from(span) / i64::from(count))
}

/// What a change would do: which of the first jobs it fits, and why it does not fit others.
async fn preview(app: &App, ids: &[Uuid], wanted: &Wanted) -> Result<HttpResponse> {
    let live = app.live.load_full();
    let (mut fit, mut refused) = (Vec::new(), Vec::new());
    let examined = &ids[..ids.len().min(AT_ONCE)];
    for id in examined {
        match fits(app, &live, *id, wanted).await? {
            Ok(()) => fit.push(*id),
            Err(why) => refused.push(NotChanged { id: *id, why }),
        }
    }
    // Those that were not examined are counted as if they fit.
    let behind = (ids.len() - examined.len()) as u64;
    let last = (fit.len() as u64 + behind).checked_sub(1);
    let first: Vec<Uuid> = fit.iter().copied().take(SHOWN).collect();
    let lines = app.store.job_lines(&first).await?;
    let preview = Preview {
        total: ids.len() as u64,
        examined: examined.len() as u64,
        fit: fit.len() as u64,
        last_due: last.filter(|_| wanted.gap > Span::ZERO).map(|last| wanted.due_after(last)),
        first: lines.into_iter().map(|one| line(one, app, &live, wanted.at)).collect(),
    };
    let answer = JobsChanged { done: Vec::new(), refused, operation: None, change: None, preview: Some(preview) };
    Ok(HttpResponse::Ok().json(answer))
}

/// Whether a change fits a job, without changing it.
async fn fits(app: &App, live: &Live, id: Uuid, wanted: &Wanted) -> Result<std::result::Result<(), Unchanged>> {
    let Some(job) = app.store.job(id).await? else { return Ok(Err(NO_JOB.into())) };
    let waits = matches!(job.phase, JobPhase::Ready | JobPhase::Blocked);
    Ok(match wanted.action {
        JobAction::Cancel if job.phase.ended() => Err("it has ended".into()),
        JobAction::RunNow | JobAction::Postpone if !waits => Err(NOT_WAITING.into()),
        JobAction::Undo if !waits => Err(BEGUN.into()),
        JobAction::Retry => repair::retriable(app, live, &job, wanted.how).await?.map(|_| ()),
        _ => Ok(()),
    })
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
    let mut before = 0;
    for portion in ids.chunks(AT_ONCE) {
        match change_some(app, portion.to_vec(), &wanted, before).await {
            Ok((done, refused)) => {
                before += done.len() as u64;
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

/// Changes jobs one after another; `before` says how many the same change has changed already.
async fn change_some(
    app: &App,
    mut ids: Vec<Uuid>,
    wanted: &Wanted,
    before: u64,
) -> Result<(Vec<Uuid>, Vec<NotChanged>)> {
    let mut done = Vec::new();
    let mut refused = Vec::new();
    if wanted.action == JobAction::Cancel {
        (done, ids) = app.jobs.cancel_most(ids, &wanted.by).await?;
    }
    if wanted.action == JobAction::Retry {
        // The failed runs make room for those to come, so they must be written before.
        app.journal.flush().await;
    }
    let live = app.live.load_full();
    for id in ids {
        match act_on(app, &live, id, wanted, wanted.due_after(before + done.len() as u64)).await? {
            Ok(()) => {
                app.jobs.followers.changed(id);
                done.push(id);
            }
            Err(why) => refused.push(NotChanged { id, why }),
        }
    }
    app.jobs.wake.notify_one();
    Ok((done, refused))
}

async fn act_on(
    app: &App,
    live: &Live,
    id: Uuid,
    wanted: &Wanted,
    at: Timestamp,
) -> Result<std::result::Result<(), Unchanged>> {
    let by = wanted.by.as_str();
    Ok(match wanted.action {
        JobAction::Cancel => match app.jobs.cancel_one(id, by).await? {
            None => Err(NO_JOB.into()),
            Some(phase) if phase.ended() => Err("it has ended".into()),
            Some(_) => Ok(()),
        },
        JobAction::RunNow => {
            let history = history_line("run now", by, None);
            reschedule(app, live, id, at, None, history, by).await?
        }
        JobAction::Postpone => {
            let due = wanted.due.unwrap_or(at);
            let history = history_line("postponed", by, Some(&due.to_string()));
            reschedule(app, live, id, due, Some(due), history, by).await?
        }
        JobAction::Retry => retry(app, live, id, wanted, at).await?,
        JobAction::Undo => {
            let history = history_line("retry undone", by, None);
            let undone = app.store.undo_retry(id, wanted.change, &history).await?;
            if undone { Ok(()) } else { Err(BEGUN.into()) }
        }
    })
}

/// Sets the due time of a job, or the end of the wait that it is in.
async fn reschedule(
    app: &App,
    live: &Live,
    id: Uuid,
    due: Timestamp,
    wait: Option<Timestamp>,
    history: String,
    by: &str,
) -> Result<std::result::Result<(), Unchanged>> {
    if app.store.reschedule(id, due, &history).await? {
        return Ok(Ok(()));
    }
    let Some(job) = app.store.job(id).await? else { return Ok(Err(NO_JOB.into())) };
    if job.phase != JobPhase::Ready || job.waits_for.is_none() {
        return Ok(Err(NOT_WAITING.into()));
    }
    repair::move_wait(app, live, &job, wait, by).await
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

async fn retry(
    app: &App,
    live: &Live,
    id: Uuid,
    wanted: &Wanted,
    due: Timestamp,
) -> Result<std::result::Result<(), Unchanged>> {
    let Some(job) = app.store.job(id).await? else { return Ok(Err(NO_JOB.into())) };
    let Retriable { with, withdraws } = match repair::retriable(app, live, &job, wanted.how).await? {
        Ok(how) => how,
        Err(why) => return Ok(Err(why)),
    };
    let from_start = wanted.how.from == RetryFrom::Start;
    let what = if from_start { "retried from the start" } else { "retried from the failed step" };
    let other = with.as_ref().map(|with| format!("with revision {} in place of {}", with.revision, job.revision));
    let history = history_line(what, &wanted.by, other.as_deref());
    let retry = Retry { from_start, withdraws, now: wanted.at, due, operation: wanted.change, with, history: &history };
    match app.store.retry(id, &retry).await? {
        true => Ok(Ok(())),
        false => Ok(Err("it did not fail".into())),
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
