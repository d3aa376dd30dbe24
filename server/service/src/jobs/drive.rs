//! Drives one job: feeds its run what was written down of it, does what it asks for next, and writes
//! each outcome down before the run sees it. A job that only waits is given back to the queue; it
//! comes again when what it waits for is there.

use std::collections::VecDeque;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

use futures_util::future::{AbortHandle, Abortable};
use futures_util::stream::{FuturesUnordered, StreamExt};
use kanzlei_compiler::plan::Plan;
use kanzlei_engine::machine::{
    Arrival, Effect, EffectId, Failure, Machine, Next, Outcome, Reply, Start, Told, instant,
};
use kanzlei_lang::document::retry::Retry;
use kanzlei_model::problem::Problem;
use kanzlei_model::run::{FailureKind, RunState};
use kanzlei_model::value::Value;
use kanzlei_store::queue::{Claimed, End, JobPhase, NewOutcome, Notice, OutcomeRow, Write};
use serde_json::json;

use super::worker::Shared;
use super::write::Written;
use super::{hash, past, reply_json};
use crate::clock::now;
use crate::journal::Finished;
use crate::outside::Run;

/// Waits up to this long are slept through; longer ones give the job back to the queue.
const SLEPT: i64 = 2_000_000;
/// Notes of a job that clients see.
const NOTES: usize = 20;
/// The time one step of a job may take, where it sets no limit of its own.
const STEP: Duration = Duration::from_secs(15 * 60);

/// A job that is being driven.
pub struct Driven {
    shared: Arc<Shared>,
    claimed: Claimed,
    plan: Arc<Plan>,
    machine: Machine,
    input: Value,
    stop: Arc<AtomicBool>,
    /// Effects that were asked for and have no outcome.
    asked: Vec<(EffectId, Effect)>,
    next_seq: u32,
    notes: VecDeque<serde_json::Value>,
    /// What is to be written with the next write.
    progress: Option<f64>,
    noted: bool,
    reply: Option<Reply>,
    last_fed: Option<Fed>,
}

/// What the outcome fed last was.
#[derive(Clone, Copy, PartialEq)]
enum Fed {
    /// A repetition may end otherwise.
    Passing,
    Final,
}

/// What a job does next.
enum Step {
    /// Ended, or given back: nothing more is to be done here.
    Over,
    Waits,
    /// What it did was not written.
    Lost(Written),
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
            tracing::warn!(%error, job = %id, "a job is given back: its workflow cannot be read");
            let end = End { wake: now() + 1_000_000, claim_rank: 0, ..left(&claimed, JobPhase::Ready) };
            shared.writer.write(write(&claimed, Some(end))).await;
            return;
        }
    };
    let input = shared.jobs.secrets.unguard(&claimed.input).and_then(|text| serde_json::from_str(&text).ok());
    let Some(input) = input else {
        return broken(&shared, &claimed, "its input cannot be read; is the key of the secrets still the same?").await;
    };
    let input: Value = input;
    let start = Start {
        id: id.to_string(),
        input: input.clone(),
        now: claimed.started,
        caller: claimed.caller.clone(),
        attempt: claimed.attempt,
    };
    let mut driven = Driven {
        machine: Machine::new(plan.clone(), start),
        shared,
        plan,
        input,
        stop,
        asked: Vec::new(),
        // Those that were taken back keep their numbers.
        next_seq: claimed.outcomes,
        notes: VecDeque::new(),
        progress: None,
        noted: false,
        reply: None,
        last_fed: None,
        claimed,
    };
    match driven.replay(outcomes).await {
        Err(detail) => broken(&driven.shared, &driven.claimed, &detail).await,
        Ok(()) => driven.go_on().await,
    }
    tracing::trace!(job = %id, fence, "left");
}

/// Nothing written yet of a job that leaves.
fn left(claimed: &Claimed, phase: JobPhase) -> End {
    End {
        phase,
        claim_rank: claimed.priority,
        wake: now(),
        waits: None,
        failure: None,
        tries: claimed.tries,
        expires: None,
        void_last: false,
        past: None,
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

/// Ends a job that cannot be run at all.
async fn broken(shared: &Shared, claimed: &Claimed, detail: &str) {
    tracing::error!(job = %claimed.id, detail, "a job cannot be run");
    let end = End { expires: Some(now() + claimed.kept_for), ..left(claimed, JobPhase::Failed) };
    shared.writer.write(as_broken(write(claimed, Some(end)), detail)).await;
}

/// What is written of a job that cannot go on for a fault of ours.
fn as_broken(write: Write, detail: &str) -> Write {
    let problem = Problem::new(500, "The job cannot be run").detail(detail);
    let reply = Reply { status: 500, headers: Vec::new(), body: problem.to_value(), problem: true };
    let failure = Some(Failure::new(FailureKind::Internal, detail).to_value().to_json());
    let end =
        write.end.map(|end| End { phase: JobPhase::Failed, wake: now(), waits: None, notice: None, failure, ..end });
    Write { outcomes: Vec::new(), progress: None, notes: None, reply: Some((500, reply_json(&reply))), end, ..write }
}

impl Driven {
    /// Brings the run to where it stood.
    async fn replay(&mut self, outcomes: Vec<OutcomeRow>) -> Result<(), String> {
        let mut at = self.claimed.started;
        for row in outcomes {
            self.listen(at).await;
            if !self.asked.iter().any(|(id, _)| *id == row.effect) {
                return Err(format!("what is written down of it does not fit its workflow (outcome {})", row.seq));
            }
            let Some(outcome) = super::outcome_of(&self.shared.jobs.secrets, &row) else {
                return Err(format!("what is written down of it cannot be read (outcome {})", row.seq));
            };
            self.feed(row.effect, outcome, row.at);
            at = row.at;
        }
        self.listen(at).await;
        // What was told before is known already.
        if self.claimed.replied {
            self.reply = None;
        }
        Ok(())
    }

    /// Takes the run as far as it gets by itself.
    async fn listen(&mut self, at: i64) {
        loop {
            match self.machine.next() {
                Next::Do(id, effect) => self.asked.push((id, effect)),
                Next::Cancel(id) => self.asked.retain(|(known, _)| *known != id),
                Next::Answer(reply) => self.reply = Some(*reply),
                Next::Tell(Told::Progress(progress)) => {
                    self.progress = Some(progress);
                }
                Next::Tell(Told::Note(note)) => {
                    let text = kanzlei_lang::expr::ops::to_text(&note).chars().take(500).collect::<String>();
                    self.notes.push_back(json!({"at": instant(at), "text": text}));
                    if self.notes.len() > NOTES {
                        self.notes.pop_front();
                    }
                    self.noted = true;
                }
                Next::Breathe => tokio::task::yield_now().await,
                Next::Idle | Next::Finished => return,
            }
        }
    }

    fn feed(&mut self, id: EffectId, outcome: Outcome, at: i64) {
        self.asked.retain(|(known, _)| *known != id);
        let waited = matches!(outcome, Outcome::Waited | Outcome::Arrived(None) | Outcome::Opened(Ok(_)));
        self.last_fed = Some(if waited { Fed::Final } else { Fed::Passing });
        self.machine.feed(id, outcome, at);
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

    /// A text for the database, and whether it is sealed. What cannot be sealed is masked.
    fn guarded(&self, text: String) -> (String, bool) {
        let secrets = &self.shared.jobs.secrets;
        match secrets.guard(text.clone(), false) {
            Some(kept) => {
                let sealed = kept != text;
                (kept, sealed)
            }
            None => (secrets.mask(text), false),
        }
    }

    async fn go_on(mut self) {
        let traceparent = format!("00-{}-{}-01", self.claimed.trace_id, &self.claimed.id.simple().to_string()[16..]);
        let run = Arc::new(Run {
            id: self.claimed.id,
            job: true,
            traceparent,
            request_id: self.claimed.request_id.clone(),
            trace_id: self.claimed.trace_id.clone(),
        });
        let live = self.shared.jobs.live.load_full();
        let mut under_way = FuturesUnordered::new();
        let mut handles: Vec<(EffectId, AbortHandle)> = Vec::new();
        loop {
            if self.machine.ended().is_some() {
                break;
            }
            // Before its next step, not in the middle of one.
            let fresh = self.asked.iter().any(|(id, _)| !handles.iter().any(|(known, _)| known == id));
            if self.stop.load(Ordering::Relaxed) && (fresh || handles.is_empty()) {
                self.machine.call_off(now());
                break;
            }
            handles.retain(|(id, handle)| {
                let wanted = self.asked.iter().any(|(known, _)| known == id);
                if !wanted {
                    handle.abort();
                }
                wanted
            });
            let mut waits = Vec::new();
            for (id, effect) in &self.asked {
                if handles.iter().any(|(known, _)| known == id) {
                    continue;
                }
                match effect {
                    Effect::Wait { until } if *until - now() > SLEPT => waits.push((*until, "pause")),
                    Effect::Await { until, .. } => waits.push((until.unwrap_or(i64::MAX / 2), "callback")),
                    effect => {
                        let (shared, live, run) = (self.shared.clone(), live.clone(), run.clone());
                        let (id, effect) = (*id, effect.clone());
                        let work = async move {
                            shared.lease.sure().await;
                            let outcome = shared.outside.perform(&live, &run, id, &effect, STEP).await;
                            (id, outcome)
                        };
                        let (handle, registration) = AbortHandle::new_pair();
                        under_way.push(Abortable::new(work, registration));
                        handles.push((id, handle));
                    }
                }
            }
            // Clients see notes and progress while the step behind them is under way.
            if self.noted || self.progress.is_some() || self.reply.is_some() {
                let write = self.write(None);
                let written = self.shared.writer.write(write).await;
                if written != Written::Yes {
                    return self.lost(written).await;
                }
            }
            if handles.is_empty() {
                match self.rest(waits).await {
                    Step::Over => return,
                    Step::Lost(written) => return self.lost(written).await,
                    Step::Waits => continue,
                }
            }
            let (id, outcome) = tokio::select! {
                done = under_way.next() => match done {
                    Some(Ok(done)) => done,
                    // One that was cancelled.
                    Some(Err(_)) | None => continue,
                },
                () = self.shared.jobs.stops.notified() => continue,
            };
            handles.retain(|(known, _)| *known != id);
            if !self.asked.iter().any(|(known, _)| *known == id) {
                continue;
            }
            let written = self.take(id, outcome).await;
            if written != Written::Yes {
                return self.lost(written).await;
            }
        }
        drop(under_way);
        self.finish().await;
    }

    /// Writes an outcome down, and then feeds it.
    async fn take(&mut self, id: EffectId, outcome: Outcome) -> Written {
        let at = now();
        let (data, sealed) = self.guarded(outcome.to_json().to_string());
        let mut write = self.write(None);
        write.outcomes.push(NewOutcome { seq: self.next_seq, effect: id, at, data, sealed });
        let written = self.shared.writer.write(write).await;
        if written != Written::Yes {
            return written;
        }
        self.next_seq += 1;
        self.claimed.outcomes += 1;
        self.feed(id, outcome, at);
        self.listen(at).await;
        Written::Yes
    }

    /// Nothing but long waits is left: takes what has come meanwhile, or gives the job back.
    async fn rest(&mut self, waits: Vec<(i64, &'static str)>) -> Step {
        let Some(waits_for) = waits.iter().min().copied() else {
            let failure = Failure::new(FailureKind::Internal, "the run waits for nothing");
            self.machine.stop(failure, Problem::new(500, "Internal server error"), now());
            return Step::Waits;
        };
        let awaited: Vec<(EffectId, String, Option<i64>)> = self
            .asked
            .iter()
            .filter_map(|(id, effect)| match effect {
                Effect::Await { callback, until } => Some((*id, callback.clone(), *until)),
                _ => None,
            })
            .collect();
        for (id, callback, until) in awaited {
            let known = match self.shared.jobs.store.callback(&hash(&callback)).await {
                Ok(known) => known,
                Err(error) => {
                    tracing::warn!(%error, job = %self.claimed.id, "a job waits for the database");
                    tokio::time::sleep(Duration::from_millis(500)).await;
                    return Step::Waits;
                }
            };
            let arrival = known
                .filter(|known| known.arrived.is_some())
                .map(|known| Arrival { media: known.media.unwrap_or_default(), body: known.body.unwrap_or_default() });
            let over = until.is_some_and(|until| until <= now());
            if arrival.is_some() || over {
                return match self.take(id, Outcome::Arrived(arrival)).await {
                    Written::Yes => Step::Waits,
                    written => Step::Lost(written),
                };
            }
        }
        let (wake, why) = waits_for;
        let end =
            End { claim_rank: 0, wake, waits: Some(why), ordering_key: None, ..left(&self.claimed, JobPhase::Ready) };
        let write = self.write(Some(end));
        self.shared.writer.write(write).await;
        Step::Over
    }

    /// What it did last was not written. Another worker that has the job goes on with it; one that the
    /// database does not take must not stay running for ever.
    async fn lost(self, written: Written) {
        if written == Written::NotOurs {
            tracing::info!(job = %self.claimed.id, "a job is another worker's by now; what was done of it last is not written");
        } else {
            broken(&self.shared, &self.claimed, "what it did last could not be written down").await;
        }
    }

    async fn finish(mut self) {
        let Some(mut ended) = self.machine.ended().cloned() else { return };
        // Nobody is there to be turned away.
        if ended.state == RunState::Rejected && self.claimed.unattended {
            ended.state = RunState::Failed;
        }
        let at = now();
        if let Some(reply) =
            self.machine.reply().filter(|_| !self.claimed.replied && ended.state != RunState::Succeeded)
        {
            self.reply = Some(reply.clone());
        }
        if ended.state == RunState::Failed
            && let Some((retry, failure)) = self.retry().zip(ended.failure.as_ref())
        {
            // Attempts made so far; the next one is one more.
            let made = self.claimed.tries + 1;
            let pause = retry.pause_before(made + 1);
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
                wake: at + pause.as_micros() as i64,
                waits: Some("retry"),
                failure: Some(self.shared.jobs.secrets.mask(failure.to_value().to_json())),
                tries: made,
                void_last: true,
                past: Some(
                    past("failed", "the run", Some(&self.shared.jobs.secrets.mask(detail))).trim_end().to_owned(),
                ),
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
        let failure = ended.failure.as_ref().map(|failure| self.shared.jobs.secrets.mask(failure.to_value().to_json()));
        let detail = ended.failure.as_ref().map(|failure| self.shared.jobs.secrets.mask(failure.detail.clone()));
        let end = End {
            failure,
            wake: at,
            expires: Some(at + self.claimed.kept_for),
            past: (phase != JobPhase::Succeeded).then(|| {
                let what = match phase {
                    JobPhase::Cancelled => "stopped",
                    JobPhase::Rejected => "rejected",
                    _ => "failed",
                };
                past(what, "the run", detail.as_deref()).trim_end().to_owned()
            }),
            notice: self.notice(phase, at),
            ..left(&self.claimed, phase)
        };
        let write = self.write(Some(end));
        let written = self.shared.writer.write(write).await;
        if written != Written::Yes {
            return self.lost(written).await;
        }
        self.shared.tally.ended(&self.claimed.lane, phase);
        let counters = self.shared.journal.counters(&self.claimed.workflow);
        let finished = Finished {
            id: self.claimed.id,
            revision: self.claimed.revision,
            entry: self.claimed.entry.as_str().into(),
            started: self.claimed.started,
            request_id: self.claimed.request_id,
            trace_id: self.claimed.trace_id,
            caller: self.claimed.caller,
            input: self.input,
            ended,
            machine: self.machine,
        };
        self.shared.journal.record(finished, &counters);
    }

    /// The policy by which a job that failed just now is retried; nothing when no policy covers its failure
    /// or all attempts are made.
    fn retry(&self) -> Option<Retry> {
        let lane = self.shared.jobs.live.load().lane(&self.claimed.lane);
        let policy = self.plan.queue.retry.clone().or_else(|| lane.retry.clone())?;
        let failure = self.machine.ended()?.failure.as_ref()?;
        let passing = !failure.kind.repeats() && self.last_fed == Some(Fed::Passing);
        let status = failure.status.filter(|_| failure.kind == FailureKind::Status);
        let covered = passing && policy.covers(failure.kind.name(), status, true);
        (covered && self.claimed.tries + 1 < policy.attempts).then_some(policy)
    }

    /// Who is to be told of the end.
    fn notice(&self, phase: JobPhase, at: i64) -> Option<Box<Notice>> {
        let notify = self.plan.queue.notify.as_ref()?;
        let slots = [self.input.clone(), Value::Undefined, Value::Undefined, Value::Undefined];
        let to = notify.to.make(&slots, Default::default()).ok().filter(|to| !to.is_nullish())?;
        let url = kanzlei_lang::expr::ops::to_text(&to).to_string();
        let state = phase.state(false, true);
        let address = format!("{}/~/jobs/{}", self.shared.jobs.public_url, self.claimed.id);
        let body = json!({
            "type": "job.ended",
            "timestamp": instant(at),
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
            tries: 0,
            status: None,
            detail: None,
            told: None,
        }))
    }
}
