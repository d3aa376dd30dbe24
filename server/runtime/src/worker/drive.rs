//! Drives one job: replays its recorded outcomes, performs the next effects, and records each outcome before
//! the run sees it. A job that only waits returns to the queue and is claimed again when its wait is over.

use std::collections::{BTreeMap, VecDeque};
use std::pin::pin;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

use futures_util::future::{AbortHandle, Abortable, BoxFuture, FutureExt};
use futures_util::stream::{FuturesUnordered, StreamExt};
use kanzlei_compiler::plan::Plan;
use kanzlei_engine::driver::{self, Event, Left, Performer, Recorded, Recorder};
use kanzlei_engine::machine::{
    Arrival, Effect, EffectId, Failure, Machine, Outcome, Remark, Reply, RowsTask, Start, StepRecord,
};
use kanzlei_lang::document::retry::Retry;
use kanzlei_model::file::of_record;
use kanzlei_model::problem::Problem;
use kanzlei_model::run::{FailureKind, RunState};
use kanzlei_model::time::{Span, Timestamp};
use kanzlei_model::value::Value;
use kanzlei_store::queue::{Claimed, End, JobPhase, NewOutcome, Notice, OutcomeRow, Write};
use serde_json::json;

use super::shared::Shared;
use super::write::Written;
use crate::clock::now;
use crate::effects::Context;
use crate::files::Holder;
use crate::files::rows::Readings;
use crate::journal::Finished;
use crate::live::Live;
use crate::queue::{hash, history_line, reply_json};

/// The longest wait for which a job keeps its worker; a longer one returns the job to the queue.
const SLEPT: Span = Span::from_secs(2);
/// The most notes of a job that clients see.
const NOTES: usize = 20;
/// How long a job waits whose files cannot be read again.
const REREAD: Span = Span::from_secs(5);
/// The default timeout of a step of a job.
const STEP: Duration = Duration::from_secs(15 * 60);

/// The kind of the last outcome.
#[derive(Clone, Copy, PartialEq)]
enum Fed {
    /// A retry may have another result.
    Passing,
    Final,
}

/// Drives a claimed job to its end or its next long wait.
pub async fn drive(shared: Arc<Shared>, claimed: Claimed, outcomes: Vec<OutcomeRow>, stop: Arc<AtomicBool>) {
    let (id, fence) = (claimed.id, claimed.fence);
    let live = shared.jobs.live.load_full();
    let found =
        shared.jobs.plans.get(&shared.jobs.store, &live, &claimed.workflow, claimed.revision, claimed.generation).await;
    let plan = match found {
        Ok(Some(plan)) => plan,
        Ok(None) => {
            let detail = format!("`{}` as it was when this was queued cannot be compiled any more", claimed.workflow);
            return broken(&shared, &claimed, &detail).await;
        }
        Err(error) => {
            tracing::warn!(%error, "a job is released: its workflow cannot be read");
            let end = End { ready_at: now() + Span::from_secs(1), claim_rank: 0, ..left(&claimed, JobPhase::Ready) };
            shared.writer.write(write(&claimed, Some(end))).await;
            return;
        }
    };
    let input = shared.jobs.secrets.unguard(&claimed.input).and_then(|text| of_record(&text));
    let Some(input) = input else {
        return broken(&shared, &claimed, "its input cannot be read; is the key of the secrets still the same?").await;
    };
    let start = Start {
        id: id.to_string(),
        input: input.clone(),
        now: claimed.started,
        caller: claimed.caller.clone(),
        attempt: claimed.attempt,
        generation: claimed.depth,
        settings: None,
    };
    let mut machine = Machine::new(plan.clone(), start).with_key(shared.jobs.key_of(id));
    let mut journal = Journaled {
        shared: shared.clone(),
        // Void outcomes keep their numbers.
        next_seq: claimed.outcomes,
        replaying: true,
        notes: VecDeque::new(),
        progress: None,
        noted: false,
        reply: None,
        last_fed: None,
        closing: false,
        retries: None,
        confidential: plan.labels.any,
        claimed,
    };
    // First a replay of the recorded outcomes.
    let at = outcomes.last().map_or(journal.claimed.started, |row| row.at);
    let secrets = shared.jobs.secrets.clone();
    let read = |row: OutcomeRow| {
        let outcome = crate::queue::outcome_of(&secrets, &row);
        outcome
            .map(|outcome| (row.effect, outcome, row.at))
            .ok_or_else(|| format!("outcome {} cannot be read", row.seq))
    };
    let recorded = Recorded::new(outcomes.into_iter().map(read));
    let mut recorded = Replaying {
        recorded,
        shared: shared.clone(),
        stop: stop.clone(),
        holder: Holder::of_job(shared.effects.files.clone(), id),
        readings: Readings::default(),
        asked: Vec::new(),
        unread: None,
    };
    let begins = journal.claimed.started;
    let mut left = driver::drive(&mut machine, &mut recorded, &mut journal, begins).await;
    if let Some(why) = recorded.unread {
        tracing::warn!(why, "a job is released: the rows it has read cannot be read again");
        let end = End { ready_at: now() + REREAD, claim_rank: 0, ..self::left(&journal.claimed, JobPhase::Ready) };
        shared.writer.write(write(&journal.claimed, Some(end))).await;
        return;
    }
    let Recorded { asked, fault, .. } = recorded.recorded;
    if let Some(fault) = fault {
        let detail = format!("what is recorded of it does not fit its workflow: {fault}");
        return broken(&shared, &journal.claimed, &detail).await;
    }
    journal.replaying = false;
    // A reply that was recorded before is known.
    if journal.claimed.replied {
        journal.reply = None;
    }
    let mut steps = Steps::new(&shared, &journal.claimed, plan.labels.any, stop);
    if left == Ok(Left::Waiting) {
        // Another claim may have begun what was asked for; a call that can find out does so.
        let again = journal.claimed.fence > 1;
        for (id, effect) in asked {
            match again && machine.asks_before(id) {
                true => steps.interrupted.push(id),
                false => steps.begin(id, effect),
            }
        }
        left = driver::drive(&mut machine, &mut steps, &mut journal, at).await;
    }
    let waits = steps.waits();
    drop(steps);
    match left {
        Ok(Left::Ended) => journal.finish(machine, &plan, input).await,
        Ok(Left::Waiting) => journal.release(waits).await,
        Err(written) => journal.lost(written).await,
    }
    tracing::trace!(fence, "left");
}

/// An end of a job without anything recorded yet.
fn left(claimed: &Claimed, phase: JobPhase) -> End {
    End {
        phase,
        claim_rank: claimed.priority,
        ready_at: now(),
        waits_for: None,
        failure: None,
        retries: claimed.retries,
        expires: None,
        void_last: false,
        history: None,
        ordering_key: claimed.ordering_key.clone(),
        notice: None,
    }
}

fn write(claimed: &Claimed, end: Option<End>) -> Write {
    Write {
        job: claimed.id,
        fence: claimed.fence,
        attempt: claimed.attempt,
        outcomes: Vec::new(),
        progress: None,
        notes: None,
        reply: None,
        end,
    }
}

/// Ends a job that cannot run.
async fn broken(shared: &Shared, claimed: &Claimed, detail: &str) {
    tracing::error!(detail, "a job cannot be run");
    let end = End { expires: Some(now() + claimed.kept_for), ..left(claimed, JobPhase::Failed) };
    shared.writer.write(as_broken(write(claimed, Some(end)), detail)).await;
}

/// A failure as the row of its job keeps it, with the number of the step that failed.
fn failed(machine: &Machine, failure: &Failure) -> String {
    let of = |record: &&StepRecord| record.failure.as_deref() == Some(failure);
    // A `fail` step has done what it says; it is the last one.
    let records = machine.records();
    let step = records.iter().rev().find(of).or(records.last()).map(|record| machine.number(record));
    let Value::Object(members) = failure.to_value() else { return String::new() };
    let members = members.iter().map(|(name, value)| (name.clone(), value.clone()));
    let step = step.map(|number| ("step".into(), Value::text(number)));
    Value::object(members.chain(step)).to_json()
}

/// The failure of a job that cannot continue because of an internal error.
fn as_broken(write: Write, detail: &str) -> Write {
    let problem = Problem::new(500, "The job cannot be run").detail(detail);
    let reply = Reply { status: 500, headers: Vec::new(), body: problem.to_value(), rows: None, problem: true };
    let failure = Some(Failure::new(FailureKind::Internal, detail).to_value().to_json());
    let end = write.end.map(|end| End {
        phase: JobPhase::Failed,
        ready_at: now(),
        waits_for: None,
        notice: None,
        failure,
        ..end
    });
    Write { outcomes: Vec::new(), progress: None, notes: None, reply: Some((500, reply_json(&reply))), end, ..write }
}

/// Records the outcomes of a job before its run sees them.
struct Journaled {
    shared: Arc<Shared>,
    claimed: Claimed,
    next_seq: u32,
    /// Whether the outcomes come from the record.
    replaying: bool,
    notes: VecDeque<serde_json::Value>,
    /// Progress and notes for the next write.
    progress: Option<f64>,
    noted: bool,
    reply: Option<Reply>,
    last_fed: Option<Fed>,
    /// Whether the steps of `on_failure` run.
    closing: bool,
    /// How the run is retried whose failure was asked about.
    retries: Option<Option<Retry>>,
    /// Whether the workflow handles confidential values; its outcomes are sealed then.
    confidential: bool,
}

impl Recorder for Journaled {
    type Error = Written;

    fn reply(&mut self, reply: Reply) {
        self.reply = Some(match reply.rows {
            None => reply,
            // The checker refuses what it can see; a job may also be begun by hand.
            Some(_) => {
                let detail = "the reply is rows of files, which are sent while they are read; write them into a file";
                let problem = Problem::new(500, "A job has no rows as its result").detail(detail);
                Reply { status: 500, headers: Vec::new(), body: problem.to_value(), rows: None, problem: true }
            }
        });
    }

    fn stands(&mut self, machine: &Machine) -> bool {
        let retry = machine.failing().and_then(|failure| self.retry(machine.plan(), failure));
        self.closing = retry.is_none();
        self.retries = Some(retry);
        self.closing
    }

    fn remark(&mut self, remark: Remark, at: Timestamp) {
        match remark {
            Remark::Progress(progress) => self.progress = Some(progress),
            Remark::Note(note) => {
                let text = kanzlei_lang::expr::ops::to_text(&note).chars().take(500).collect::<String>();
                self.notes.push_back(json!({"at": at, "text": text}));
                if self.notes.len() > NOTES {
                    self.notes.pop_front();
                }
                self.noted = true;
            }
        }
    }

    /// Writes notes and progress, so that clients see them while the next step runs.
    async fn settle(&mut self) -> Result<(), Written> {
        if self.replaying || !(self.noted || self.progress.is_some() || self.reply.is_some()) {
            return Ok(());
        }
        let write = self.write(None);
        self.send(write).await
    }

    async fn record(&mut self, id: EffectId, outcome: &Outcome, at: Timestamp) -> Result<(), Written> {
        if !self.replaying {
            let (data, sealed) = self.guarded(outcome.to_json().to_string());
            let mut write = self.write(None);
            let closing = self.closing;
            write.outcomes.push(NewOutcome { seq: self.next_seq, effect: id, at, data, sealed, closing });
            self.send(write).await?;
            self.next_seq += 1;
            self.claimed.outcomes += 1;
        }
        let waited = matches!(outcome, Outcome::Waited | Outcome::Arrived(None) | Outcome::Opened(Ok(_)));
        self.last_fed = Some(if waited { Fed::Final } else { Fed::Passing });
        Ok(())
    }
}

/// Replays recorded outcomes, and leaves the run behind the last one: what follows is not a replay.
struct Replaying<I: Iterator> {
    recorded: Recorded<I>,
    shared: Arc<Shared>,
    stop: Arc<AtomicBool>,
    /// Of rows only their number is recorded: they are read again from the files, which have not changed.
    holder: Arc<Holder>,
    readings: Readings,
    asked: Vec<(EffectId, RowsTask)>,
    /// Why they cannot be read at the moment.
    unread: Option<String>,
}

impl<I: Iterator> Replaying<I> {
    /// An outcome with its rows.
    async fn with_rows(&mut self, id: EffectId, outcome: Outcome, at: Timestamp) -> Event {
        let known = self.asked.iter().position(|(known, _)| *known == id).map(|at| self.asked.swap_remove(at).1);
        let (Outcome::Rows(Ok(recorded)), Some(task)) = (&outcome, known) else {
            return Event::Outcome { id, outcome, at };
        };
        match self.readings.batch(&self.holder, &task).await {
            Ok(batch) if (batch.count, batch.last) == (recorded.count, recorded.last) => {
                Event::Outcome { id, outcome: Outcome::Rows(Ok(batch)), at }
            }
            Ok(batch) => {
                let detail = format!("{} rows were read where {} are recorded", batch.count, recorded.count);
                Event::Broken { detail, at }
            }
            Err(why) => {
                self.unread = Some(why.to_string());
                Event::Leave
            }
        }
    }
}

impl<I: Iterator<Item = Result<(EffectId, Outcome, Timestamp), String>>> Performer for Replaying<I> {
    fn begin(&mut self, id: EffectId, effect: Effect) {
        if let Effect::Rows(task) = &effect {
            self.asked.push((id, (**task).clone()));
        }
        self.recorded.begin(id, effect);
    }

    fn cancel(&mut self, id: EffectId) {
        self.asked.retain(|(known, _)| *known != id);
        self.recorded.cancel(id);
    }

    async fn wait(&mut self) -> Event {
        match self.recorded.wait().await {
            Event::Outcome { id, outcome, at } => self.with_rows(id, outcome, at).await,
            other => other,
        }
    }

    async fn yield_now(&mut self) -> Option<Event> {
        if self.recorded.is_exhausted() {
            return Some(Event::Leave);
        }
        tokio::task::yield_now().await;
        None
    }

    async fn compute(&mut self, id: EffectId, machine: &mut Machine) -> Option<Event> {
        if let Some(at) = self.recorded.interrupted(id) {
            return Some(Event::Stop { at });
        }
        if self.recorded.is_exhausted() {
            return Some(Event::Leave);
        }
        let shared = self.shared.clone();
        shared.effects.computing.compute(machine, stopped(&shared, &self.stop)).await
    }
}

/// Waits until a job is asked to stop.
async fn stopped(shared: &Shared, stop: &AtomicBool) -> Event {
    loop {
        let mut notified = pin!(shared.jobs.stops.notified());
        // Before the flag is read, so that no notification is missed.
        notified.as_mut().enable();
        if stop.load(Ordering::Relaxed) {
            return Event::Stop { at: now() };
        }
        notified.await;
    }
}

type Work = Abortable<BoxFuture<'static, (EffectId, Outcome)>>;

/// Performs the effects of a job, and stops where it only has long waits left.
struct Steps {
    shared: Arc<Shared>,
    live: Arc<Live>,
    run: Arc<Context>,
    stop: Arc<AtomicBool>,
    /// Effects that are not in progress: new ones, and waits that are too long for a worker.
    pending: Vec<(EffectId, Effect)>,
    under_way: FuturesUnordered<Work>,
    handles: Vec<(EffectId, AbortHandle)>,
    /// Calls that an earlier claim may have performed, each to be reported as interrupted.
    interrupted: Vec<EffectId>,
    /// Waits that an operator moved, and until when they wait.
    moved: BTreeMap<EffectId, Timestamp>,
}

impl Steps {
    fn new(shared: &Arc<Shared>, claimed: &Claimed, confidential: bool, stop: Arc<AtomicBool>) -> Self {
        let run = Context {
            id: claimed.id,
            job: true,
            attempt: claimed.attempt,
            generation: claimed.depth,
            readings: Readings::default(),
            files: Holder::of_job(shared.effects.files.clone(), claimed.id),
            caller: claimed.caller.clone(),
            confidential,
            trace: claimed.trace,
            span: shared.jobs.span_of(claimed.id),
            request_id: claimed.request_id.clone(),
        };
        Steps {
            shared: shared.clone(),
            live: shared.jobs.live.load_full(),
            run: Arc::new(run),
            stop,
            pending: Vec::new(),
            under_way: FuturesUnordered::new(),
            handles: Vec::new(),
            interrupted: Vec::new(),
            moved: claimed.moved.clone(),
        }
    }

    /// An effect as an operator has moved it.
    fn as_moved(&self, id: EffectId, effect: Effect) -> Effect {
        match self.moved.get(&id) {
            None => effect,
            Some(at) => effect.moved(*at),
        }
    }

    /// Whether a job waits for an effect in the queue.
    fn long(effect: &Effect) -> Option<(Timestamp, &'static str)> {
        match effect {
            Effect::Wait { until } if *until - now() > SLEPT => Some((*until, "pause")),
            Effect::Await { until, .. } => Some((until.unwrap_or(Timestamp::NEVER), "callback")),
            _ => None,
        }
    }

    /// When the first of the long waits ends, and its kind.
    fn waits(&self) -> Option<(Timestamp, &'static str)> {
        self.pending.iter().filter_map(|(_, effect)| Steps::long(effect)).min()
    }

    fn start(&mut self, id: EffectId, effect: Effect) {
        let (shared, live, run) = (self.shared.clone(), self.live.clone(), self.run.clone());
        let work = async move {
            shared.lease.sure().await;
            let outcome = shared.effects.perform(&live, &run, id, &effect, STEP).await;
            (id, outcome)
        };
        let (handle, registration) = AbortHandle::new_pair();
        self.under_way.push(Abortable::new(work.boxed(), registration));
        self.handles.push((id, handle));
    }

    /// What arrived at the callbacks that the job waits for.
    ///
    /// # Errors
    /// When the database is unavailable.
    async fn arrived(&mut self) -> kanzlei_store::Result<Option<Event>> {
        for (id, effect) in self.pending.clone() {
            let Effect::Await { callback, by, until } = effect else { continue };
            if let Some(by) = &by {
                self.shared.jobs.wait_by(self.run.id, &callback, by).await?;
            }
            let known = self.shared.jobs.store.callback(&hash(&callback)).await?;
            let arrival = known
                .filter(|known| known.arrived.is_some())
                .map(|known| Arrival { media: known.media.unwrap_or_default(), body: known.body.unwrap_or_default() });
            let over = until.is_some_and(|until| until <= now());
            if arrival.is_some() || over {
                return Ok(Some(Event::Outcome { id, outcome: Outcome::Arrived(arrival), at: now() }));
            }
        }
        Ok(None)
    }
}

impl Performer for Steps {
    fn begin(&mut self, id: EffectId, effect: Effect) {
        self.pending.push((id, self.as_moved(id, effect)));
    }

    fn cancel(&mut self, id: EffectId) {
        self.pending.retain(|(known, _)| *known != id);
        self.interrupted.retain(|known| *known != id);
        self.handles.retain(|(known, handle)| {
            if *known == id {
                handle.abort();
            }
            *known != id
        });
    }

    async fn wait(&mut self) -> Event {
        loop {
            // A job stops between steps.
            if self.stop.load(Ordering::Relaxed) && (!self.pending.is_empty() || self.handles.is_empty()) {
                return Event::Stop { at: now() };
            }
            if let Some(id) = self.interrupted.pop() {
                return Event::Outcome { id, outcome: Outcome::Interrupted, at: now() };
            }
            let (long, ready): (Vec<_>, Vec<_>) =
                std::mem::take(&mut self.pending).into_iter().partition(|(_, effect)| Steps::long(effect).is_some());
            self.pending = long;
            ready.into_iter().for_each(|(id, effect)| self.start(id, effect));
            if self.handles.is_empty() {
                if self.pending.is_empty() {
                    return Event::Broken { detail: "the run waits for nothing".into(), at: now() };
                }
                match self.arrived().await {
                    Ok(Some(event)) => {
                        if let Event::Outcome { id, .. } = &event {
                            self.pending.retain(|(known, _)| known != id);
                        }
                        return event;
                    }
                    Ok(None) => return Event::Leave,
                    Err(error) => {
                        tracing::warn!(%error, "a job waits for the database");
                        tokio::time::sleep(Duration::from_millis(500)).await;
                        continue;
                    }
                }
            }
            let (id, outcome) = tokio::select! {
                done = self.under_way.next() => match done {
                    Some(Ok(done)) => done,
                    // A cancelled effect.
                    Some(Err(_)) | None => continue,
                },
                () = self.shared.jobs.stops.notified() => continue,
            };
            self.handles.retain(|(known, _)| *known != id);
            return Event::Outcome { id, outcome, at: now() };
        }
    }

    async fn yield_now(&mut self) -> Option<Event> {
        // A job stops between steps, also in a run that never waits.
        if self.stop.load(Ordering::Relaxed) && self.handles.is_empty() {
            return Some(Event::Stop { at: now() });
        }
        tokio::task::yield_now().await;
        None
    }

    async fn compute(&mut self, _: EffectId, machine: &mut Machine) -> Option<Event> {
        let (shared, stop) = (self.shared.clone(), self.stop.clone());
        shared.effects.computing.compute(machine, stopped(&shared, &stop)).await
    }
}

impl Journaled {
    /// Writes what is recorded.
    ///
    /// # Errors
    /// When the write does not count.
    async fn send(&self, write: Write) -> Result<(), Written> {
        match self.shared.writer.write(write).await {
            Written::Yes => Ok(()),
            other => Err(other),
        }
    }

    fn write(&mut self, end: Option<End>) -> Write {
        let mut write = write(&self.claimed, end);
        write.progress = self.progress.take();
        if std::mem::take(&mut self.noted) {
            let notes = serde_json::Value::from(self.notes.iter().cloned().collect::<Vec<_>>()).to_string();
            write.notes = Some(self.shared.jobs.secrets.mask(notes));
        }
        write.reply = self.reply.take().map(|reply| (reply.status, self.guarded(reply_json(&reply)).0));
        write
    }

    /// A text for the database, and whether it is sealed. A text that cannot be sealed is masked.
    fn guarded(&self, text: String) -> (String, bool) {
        let secrets = &self.shared.jobs.secrets;
        match secrets.guard(text.clone(), self.confidential) {
            Some(kept) => {
                let sealed = kept != text;
                (kept, sealed)
            }
            None => (secrets.mask(text), false),
        }
    }

    /// Returns the job to the queue until its wait is over.
    async fn release(mut self, waits: Option<(Timestamp, &'static str)>) {
        let (ready_at, why) = waits.unwrap_or((now(), "pause"));
        let end = End {
            claim_rank: 0,
            ready_at,
            waits_for: Some(why),
            ordering_key: None,
            ..left(&self.claimed, JobPhase::Ready)
        };
        let write = self.write(Some(end));
        self.shared.writer.write(write).await;
    }

    /// Handles a write that does not count. If another worker owns the job, that one continues it; a job whose
    /// record the database rejects fails, so that it does not stay running forever.
    async fn lost(self, written: Written) {
        if written == Written::NotOurs {
            tracing::info!("a job is another worker's by now; what was done of it last is not written");
        } else {
            broken(&self.shared, &self.claimed, "what it did last could not be written down").await;
        }
    }

    async fn finish(mut self, machine: Box<Machine>, plan: &Plan, input: Value) {
        let Some(mut ended) = machine.ended().cloned() else { return };
        // A timetable has no caller to refuse.
        if ended.state == RunState::Rejected && self.claimed.unattended {
            ended.state = RunState::Failed;
        }
        let at = now();
        if let Some(reply) = machine.reply().filter(|_| !self.claimed.replied && ended.state != RunState::Succeeded) {
            self.reply = Some(reply.clone());
        }
        if ended.state == RunState::Failed
            && let Some(failure) = &ended.failure
            && let Some(retry) = self.retries.take().unwrap_or_else(|| self.retry(plan, failure))
        {
            // The attempts made so far; the next attempt is one more.
            let made = self.claimed.retries + 1;
            let mask = self.shared.jobs.secrets.of_run(&machine, &input);
            let asked = failure.retry_after.unwrap_or_default();
            let pause = retry.pause_before(made + 1).max(asked).min(retry.max);
            let detail = format!(
                "{}; retry in {} (attempt {} of {})",
                failure.detail,
                kanzlei_model::duration::short(pause),
                made + 1,
                retry.attempts
            );
            self.reply = None;
            let end = End {
                claim_rank: 0,
                ready_at: at + pause,
                waits_for: Some("retry"),
                failure: Some(mask.text(failed(&machine, failure))),
                retries: made,
                void_last: true,
                history: Some(history_line("failed", "the run", Some(&mask.text(detail))).trim_end().to_owned()),
                ordering_key: None,
                ..left(&self.claimed, JobPhase::Ready)
            };
            let write = self.write(Some(end));
            self.shared.writer.write(write).await;
            return;
        }
        let phase = match ended.state {
            RunState::Succeeded => JobPhase::Succeeded,
            RunState::Cancelled => JobPhase::Cancelled,
            RunState::Rejected => JobPhase::Rejected,
            _ => JobPhase::Failed,
        };
        let mask = self.shared.jobs.secrets.of_run(&machine, &input);
        let failure = ended.failure.as_ref().map(|failure| mask.text(failed(&machine, failure)));
        let detail = ended.failure.as_ref().map(|failure| mask.text(failure.detail.clone()));
        let end = End {
            failure,
            ready_at: at,
            expires: Some(at + self.claimed.kept_for),
            history: (phase != JobPhase::Succeeded).then(|| {
                let what = match phase {
                    JobPhase::Cancelled => "stopped",
                    JobPhase::Rejected => "rejected",
                    _ => "failed",
                };
                history_line(what, "the run", detail.as_deref()).trim_end().to_owned()
            }),
            notice: self.notice(plan, &input, phase, at),
            ..left(&self.claimed, phase)
        };
        let write = self.write(Some(end));
        let written = self.shared.writer.write(write).await;
        if written != Written::Yes {
            return self.lost(written).await;
        }
        self.shared.jobs.tally.ended(&self.claimed.lane, phase);
        let counters = self.shared.journal.counters(&self.claimed.workflow);
        let listed = !self.shared.jobs.follows(self.claimed.id, &self.claimed.request_id);
        let finished = Box::new(Finished {
            id: self.claimed.id,
            revision: self.claimed.revision,
            entry: self.claimed.entry.as_str().into(),
            started: self.claimed.started,
            request_id: self.claimed.request_id,
            trace: self.claimed.trace,
            span: self.shared.jobs.span_of(self.claimed.id),
            caller: self.claimed.caller,
            sent: self.claimed.input.len(),
            job: true,
            listed,
            input,
            ended,
            machine,
        });
        self.shared.journal.record(finished, &counters);
    }

    /// The retry policy for a job that has just failed; `None` when no policy covers the failure or all attempts
    /// are used.
    fn retry(&self, plan: &Plan, failure: &Failure) -> Option<Retry> {
        let lane = self.shared.jobs.live.load().lane(&self.claimed.lane);
        let policy = plan.queue.retry.clone().or_else(|| lane.retry.clone())?;
        let passing = !failure.kind.repeats() && self.last_fed == Some(Fed::Passing);
        let status = failure.status.filter(|_| failure.kind == FailureKind::Status);
        let covered = passing && policy.covers(failure.kind.name(), status, true);
        (covered && self.claimed.retries + 1 < policy.attempts).then_some(policy)
    }

    /// The notice of the job's end, where its workflow names an address.
    fn notice(&self, plan: &Plan, input: &Value, phase: JobPhase, at: Timestamp) -> Option<Box<Notice>> {
        let notify = plan.queue.notify.as_ref()?;
        let slots = plan.slots_around(input, &self.claimed.caller);
        let to = notify.to.make(&slots, Default::default()).ok().filter(|to| !to.is_nullish())?;
        let url = kanzlei_lang::expr::ops::to_text(&to).to_string();
        let state = phase.state(false, true);
        let address = format!("{}/~/jobs/{}", self.shared.jobs.public_url, self.claimed.id);
        let body = json!({
            "type": "job.ended",
            "timestamp": at,
            "data": {"job": self.claimed.id, "state": state, "url": address, "result": format!("{address}/result")},
        });
        Some(Box::new(Notice {
            job: self.claimed.id,
            url: url.chars().take(2000).collect(),
            secret: notify.secret.clone(),
            private: notify.private,
            body: body.to_string(),
            created: at,
            next: Some(at),
            attempts: 0,
            status: None,
            detail: None,
            delivered: None,
        }))
    }
}
