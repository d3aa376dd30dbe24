//! Drives one run: does what the machine asks for and feeds back what came of it. Several effects of one
//! run are under way at the same time when its loops and branches ask for them.

use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::{Duration, Instant};

use futures_util::future::{AbortHandle, Abortable};
use futures_util::stream::{FuturesUnordered, StreamExt};
use kanzlei_engine::machine::{Effect, EffectId, Failure, Machine, Next, Outcome, Reply};
use kanzlei_model::problem::Problem;
use kanzlei_model::run::FailureKind;
use kanzlei_model::value::Value;
use tokio::sync::oneshot;
use uuid::Uuid;

use crate::clock::now;
use crate::journal::{Finished, Journal};
use crate::live::{Live, Workflow};
use crate::outside::{self, Outside};

/// A run with everything that stays the same while it goes on.
pub struct Run {
    pub id: Uuid,
    pub machine: Machine,
    pub workflow: Arc<Workflow>,
    pub live: Arc<Live>,
    pub outside: Arc<Outside>,
    pub journal: Arc<Journal>,
    pub entry: Arc<str>,
    pub started: i64,
    /// When its time is up.
    pub deadline: Instant,
    pub within: Duration,
    pub request_id: String,
    pub trace_id: String,
    pub caller: Option<String>,
    pub input: Value,
    /// Counted down when the run ends.
    pub in_flight: InFlight,
}

/// One of the requests being worked on; counts itself out when dropped.
pub struct InFlight(Arc<AtomicUsize>);

impl InFlight {
    /// Takes a place; nothing when all `most` are taken.
    pub fn enter(count: &Arc<AtomicUsize>, most: usize) -> Option<Self> {
        if count.fetch_add(1, Ordering::Relaxed) >= most {
            count.fetch_sub(1, Ordering::Relaxed);
            return None;
        }
        Some(InFlight(count.clone()))
    }
}

impl Drop for InFlight {
    fn drop(&mut self) {
        self.0.fetch_sub(1, Ordering::Relaxed);
    }
}

/// How far a run came without waiting for anything.
pub enum Begun {
    /// It is over; here is the answer, if it gave one.
    Over(Option<Reply>),
    /// It waits for these; the reply is there when it already answered.
    Waits(Box<Run>, Vec<(EffectId, Effect)>, Option<Reply>),
}

impl Run {
    /// Takes the run as far as it gets without I/O. Most short workflows end here.
    pub fn begin(mut self) -> Begun {
        let mut reply = None;
        let mut asked = Vec::new();
        loop {
            match self.machine.next() {
                Next::Answer(answer) => reply = Some(*answer),
                // Nobody follows a run that is answered at once.
                Next::Tell(_) => {}
                Next::Finished => {
                    self.finish();
                    return Begun::Over(reply);
                }
                Next::Do(id, effect) => asked.push((id, effect)),
                Next::Cancel(id) => asked.retain(|(known, _)| *known != id),
                // What takes long goes on in a task of its own.
                Next::Idle | Next::Breathe => return Begun::Waits(Box::new(self), asked, reply),
            }
        }
    }

    /// Takes the run to its end, beginning with what it waits for; the reply goes out as soon as it is
    /// there.
    pub async fn go_on(mut self, asked: Vec<(EffectId, Effect)>, mut answer: Option<oneshot::Sender<Option<Reply>>>) {
        // The span that calls see as their parent is this run's own (W3C Trace Context).
        let about = Arc::new(outside::Run {
            id: self.id,
            job: false,
            traceparent: format!("00-{}-{}-01", self.trace_id, &self.id.simple().to_string()[16..]),
            request_id: self.request_id.clone(),
            trace_id: self.trace_id.clone(),
        });
        let mut under_way = FuturesUnordered::new();
        let mut handles: Vec<(EffectId, AbortHandle)> = Vec::new();
        let begin = |id: EffectId, effect: Effect, run: &Run| {
            let (outside, live, for_run) = (run.outside.clone(), run.live.clone(), about.clone());
            let left = run.deadline.saturating_duration_since(Instant::now());
            let work = async move { (id, outside.perform(&live, &for_run, id, &effect, left).await) };
            let (handle, registration) = AbortHandle::new_pair();
            (handle, Abortable::new(work, registration))
        };
        for (id, effect) in asked {
            let (handle, work) = begin(id, effect, &self);
            handles.push((id, handle));
            under_way.push(work);
        }
        loop {
            match self.machine.next() {
                Next::Answer(reply) => {
                    if let Some(answer) = answer.take() {
                        let _ = answer.send(Some(*reply));
                    }
                }
                Next::Finished => break,
                Next::Tell(_) => {}
                Next::Breathe if self.deadline <= Instant::now() => self.time_is_up(),
                Next::Breathe => tokio::task::yield_now().await,
                Next::Do(id, effect) => {
                    let (handle, work) = begin(id, effect, &self);
                    handles.push((id, handle));
                    under_way.push(work);
                }
                Next::Cancel(id) => {
                    handles.retain(|(known, handle)| {
                        if *known == id {
                            handle.abort();
                        }
                        *known != id
                    });
                }
                Next::Idle => match tokio::time::timeout_at(self.deadline.into(), under_way.next()).await {
                    Ok(Some(Ok((id, outcome)))) => {
                        handles.retain(|(known, _)| *known != id);
                        if self.deadline <= Instant::now() && !succeeded(&outcome) {
                            self.time_is_up();
                        } else {
                            self.machine.feed(id, outcome, now());
                        }
                    }
                    // One that was cancelled.
                    Ok(Some(Err(_))) => {}
                    Ok(None) => self.stuck(),
                    Err(_) => self.time_is_up(),
                },
            }
        }
        drop(under_way);
        if let Some(answer) = answer.take() {
            let _ = answer.send(None);
        }
        self.finish();
    }

    fn time_is_up(&mut self) {
        self.machine.time_is_up(self.within, now());
    }

    /// Nothing is under way and the machine asks for nothing: a fault of ours, never of the workflow.
    fn stuck(&mut self) {
        tracing::error!(run = %self.id, "a run waits for nothing");
        let failure = Failure::new(FailureKind::Internal, "the run waits for nothing");
        self.machine.stop(failure, Problem::new(500, "Internal server error"), now());
    }

    fn finish(self) {
        let Some(ended) = self.machine.ended().cloned() else { return };
        let finished = Finished {
            id: self.id,
            revision: self.workflow.revision,
            entry: self.entry,
            started: self.started,
            request_id: self.request_id,
            trace_id: self.trace_id,
            caller: self.caller,
            input: self.input,
            ended,
            machine: self.machine,
        };
        self.journal.record(finished, &self.workflow.counters);
        drop(self.in_flight);
    }
}

fn succeeded(outcome: &Outcome) -> bool {
    match outcome {
        Outcome::Called(result) => result.is_ok(),
        Outcome::Queried(result) => result.is_ok(),
        Outcome::Kept(result) => result.is_ok(),
        Outcome::Queued(result) => result.is_ok(),
        Outcome::Cancelled(result) => result.is_ok(),
        Outcome::Opened(result) => result.is_ok(),
        Outcome::Arrived(arrival) => arrival.is_some(),
        Outcome::Waited => true,
    }
}
