//! Drives one run: does what the machine asks for and feeds back what came of it.

use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::{Duration, Instant};

use kanzlei_core::machine::{Failure, Machine, Next, Outcome, Reply};
use kanzlei_core::problem::Problem;
use kanzlei_core::value::Value;
use tokio::sync::oneshot;
use uuid::Uuid;

use crate::journal::{Finished, Journal, now};
use crate::live::{Live, Workflow};
use crate::perform::{self, Along};

/// A run with everything that stays the same while it goes on.
pub struct Run {
    pub id: Uuid,
    pub machine: Machine,
    pub workflow: Arc<Workflow>,
    pub live: Arc<Live>,
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
    pub answer_limit: usize,
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
    /// It waits for this; the reply is there when it already answered.
    Waits(Box<Run>, Next, Option<Reply>),
}

impl Run {
    /// Takes the run as far as it gets without I/O. Most short workflows end here.
    pub fn begin(mut self) -> Begun {
        let mut reply = None;
        loop {
            match self.machine.next() {
                Next::Answer(answer) => reply = Some(*answer),
                Next::Finished => {
                    self.finish();
                    return Begun::Over(reply);
                }
                next @ (Next::Call(_) | Next::Wait { .. }) => return Begun::Waits(Box::new(self), next, reply),
            }
        }
    }

    /// Takes the run to its end, beginning with what it waits for; the reply goes out as soon as it is
    /// there.
    pub async fn go_on(mut self, mut next: Next, mut answer: Option<oneshot::Sender<Option<Reply>>>) {
        // The span that calls see as their parent is this run's own (W3C Trace Context).
        let traceparent = format!("00-{}-{}-01", self.trace_id, &self.id.simple().to_string()[16..]);
        loop {
            let left = self.deadline.saturating_duration_since(Instant::now());
            match next {
                Next::Answer(reply) => {
                    if let Some(answer) = answer.take() {
                        let _ = answer.send(Some(*reply));
                    }
                }
                Next::Finished => break,
                _ if left.is_zero() => self.time_is_up(),
                Next::Call(request) => {
                    let service = self.live.services.get(&request.service);
                    let along = Along { traceparent: &traceparent, request_id: &self.request_id };
                    let result = perform::call(service, &request, &along, left, self.answer_limit).await;
                    if result.is_err() && self.deadline <= Instant::now() {
                        self.time_is_up();
                    } else {
                        self.machine.feed(Outcome::Called(result), now());
                    }
                }
                Next::Wait { until } => {
                    let pause = Duration::from_micros((until - now()).max(0) as u64);
                    tokio::time::sleep(pause.min(left)).await;
                    if pause <= left {
                        self.machine.feed(Outcome::Waited, now());
                    }
                }
            }
            next = self.machine.next();
        }
        if let Some(answer) = answer.take() {
            let _ = answer.send(None);
        }
        self.finish();
    }

    fn time_is_up(&mut self) {
        let within = kanzlei_core::duration::short(self.within);
        let detail = format!("the request took longer than its limit of {within}");
        let failure = Failure { kind: "timeout", status: Some(504), detail: detail.clone(), body: Value::Undefined };
        self.machine.stop(failure, Problem::new(504, "The request took too long").detail(detail), now());
    }

    fn finish(self) {
        let Some(ended) = self.machine.ended().cloned() else { return };
        let reply = self.machine.reply().cloned();
        let plan = self.machine.plan().clone();
        let finished = Finished {
            id: self.id,
            plan,
            revision: self.workflow.revision,
            entry: self.entry,
            started: self.started,
            request_id: self.request_id,
            trace_id: self.trace_id,
            caller: self.caller,
            input: self.input,
            reply,
            ended,
            records: self.machine.into_records(),
        };
        self.journal.record(finished, &self.workflow.counters);
        drop(self.in_flight);
    }
}
