//! The journal of runs: written behind the answer, many together, through bounded buffers.
//!
//! Answers never wait for it. Every run is recorded whole, up to `journal.run` bytes. When the database is unavailable or slower
//! than the traffic, successful runs are dropped first and failed ones last; every run is counted, and so is what was
//! dropped. [`Journal::record`] makes machines bytes, most of them as they are ([`plain`]), the others by way of text ([`row`]), behind the answer and in the thread that ran them; the [`writer`]
//! does so with large ones, also while the database does not answer. So what waits is small. Runs on their way to the writer have at most
//! `journal.successes` and `journal.failures` places, and all that waits has at most `journal.bytes` bytes.

mod plain;
mod row;
mod sealed;
mod writer;

pub use row::{cut, row, shrink, steps};
pub use sealed::opened;
pub use writer::Writer;

use std::collections::{BTreeMap, HashMap};
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, AtomicUsize, Ordering};
use std::sync::{Mutex, PoisonError};
use std::time::{Duration, Instant};

use kanzlei_engine::machine::{Ended, Machine};
use kanzlei_model::caller::Caller;
use kanzlei_model::run::RunState;
use kanzlei_model::time::Timestamp;
use kanzlei_model::trace::Trace;
use kanzlei_model::value::Value;
use kanzlei_store::Store;
use kanzlei_store::journal::Tally;
use kanzlei_store::journal::codec::Encoded;
use tokio::sync::{mpsc, oneshot};
use uuid::Uuid;

use crate::clock::now;
use crate::metrics::OfWorkflow;
use crate::refusals::Refusals;
use crate::secrets::Secrets;
use crate::step_counts::Steps;
use crate::telemetry::Telemetry;

/// Bytes of a refused body, or of its problem, that are kept.
pub const MOST_REFUSED: usize = 16 << 10;
/// How long a count of what is kept is shown.
const COUNTED: Duration = Duration::from_secs(2);
/// Readers that may wait for the journal at once.
const FLUSHES: usize = 64;
/// How long a reader waits for runs that are not written yet.
const FLUSH_WAIT: Duration = Duration::from_millis(500);

/// An ended run, as the machine leaves it; turned into text after the answer. It is large, so that it is boxed and moved as a pointer.
#[derive(Debug)]
pub struct Finished {
    /// Its id.
    pub id: Uuid,
    /// The workflow's revision.
    pub revision: u32,
    /// What began it, such as `POST /harbours/{harbour}/quotes`.
    pub entry: Arc<str>,
    /// When it started.
    pub started: Timestamp,
    /// The `X-Request-Id` of the request.
    pub request_id: String,
    /// The trace it continues.
    pub trace: Trace,
    /// Its own span, where its spans are kept.
    pub span: u64,
    /// Who called, where that is known.
    pub caller: Caller,
    /// The gathered input.
    pub input: Value,
    /// How it ended.
    pub ended: Ended,
    /// With the reply and what each step did.
    pub machine: Box<Machine>,
    /// Bytes of the request's body.
    pub sent: usize,
    /// Whether it is the run of a job.
    pub job: bool,
    /// Whether it is listed under the id of its request, because its own does not follow from that.
    pub listed: bool,
}

impl Finished {
    /// Makes it bytes.
    fn encoded(&self, journal: &Journal) -> Box<Encoded> {
        let plain = plain::encoded(self, journal.most_of_run, &journal.secrets, &journal.process);
        let encoded = plain.unwrap_or_else(|| {
            let mut text = row(self, usize::MAX, &journal.secrets, &journal.process);
            shrink(&mut text, journal.most_of_run);
            Encoded::of(&text)
        });
        let encoded = encoded.of_job(self.job);
        Box::new(if self.listed { encoded } else { encoded.unlisted() })
    }

    /// The approximate number of bytes it holds.
    fn weight(&self) -> usize {
        self.machine.weight() + 2 * self.sent + 1024
    }
}

/// Counts of one workflow since they were last written.
#[derive(Debug, Default)]
pub struct Counters {
    runs: AtomicU64,
    rejected: AtomicU64,
    failed: AtomicU64,
    dropped: AtomicU64,
    took: AtomicU64,
    steps: Steps,
    /// What is counted for monitoring, since the start of the process.
    pub metrics: OfWorkflow,
}

impl Counters {
    /// Counts of its steps and of what it answered.
    pub fn steps(&self) -> &Steps {
        &self.steps
    }
}

/// Bytes of a run from which the writer encodes it, because it would hold up others in the thread that ran it.
const LARGE: usize = 256 << 10;

/// A run on its way to the writer.
#[derive(Debug)]
enum Ready {
    Encoded(Box<Encoded>),
    Large(Box<Finished>),
}

/// A run that has ended and is recorded soon: readers wait until this is dropped.
pub struct Announced(Arc<Journal>);

impl Drop for Announced {
    fn drop(&mut self) {
        self.0.recorded.fetch_add(1, Ordering::Release);
    }
}

/// Counts runs and passes ended ones to the writer.
pub struct Journal {
    successes: mpsc::Sender<Ready>,
    failures: mpsc::Sender<Ready>,
    flushes: mpsc::Sender<oneshot::Sender<()>>,
    counters: Mutex<HashMap<String, Arc<Counters>>>,
    /// Since the start of the process.
    pub dropped: AtomicU64,
    /// Bytes of runs that wait to be written, and their bound.
    held: AtomicUsize,
    most_bytes: usize,
    /// Requests that were refused before a run began.
    pub refusals: Refusals,
    /// Bytes of a run that are kept.
    pub most_of_run: usize,
    secrets: Arc<Secrets>,
    process: String,
    telemetry: Arc<Telemetry>,
    /// Runs that are recorded behind their answer: how many were announced, and how many of them are recorded.
    announced: AtomicU64,
    recorded: AtomicU64,
    /// Runs and bytes that are kept, and when they were counted.
    size: Mutex<Option<(Instant, (u64, u64))>>,
    /// Whether the last write succeeded.
    pub database_unavailable: std::sync::atomic::AtomicBool,
    /// Whether the dictionary that the writer uses was retired.
    dictionary_retired: std::sync::atomic::AtomicBool,
}

/// Bounds of the journal.
pub struct Bounds {
    /// Successful runs that may wait to be written.
    pub successes: usize,
    /// Failed and rejected runs that may wait to be written.
    pub failures: usize,
    /// Bytes of runs that may wait to be written, of both kinds.
    pub most_bytes: usize,
    /// Bytes of a run that are kept.
    pub most_of_run: usize,
}

impl Journal {
    /// A journal and its writer. `process` is the name of this process.
    pub fn new(
        store: Store,
        bounds: &Bounds,
        secrets: Arc<Secrets>,
        process: String,
        refusals: Refusals,
        telemetry: Arc<Telemetry>,
    ) -> (Arc<Self>, Writer) {
        let Bounds { successes, failures, most_bytes, most_of_run } = *bounds;
        let (success_sender, success_receiver) = mpsc::channel(successes.max(1));
        let (failure_sender, failure_receiver) = mpsc::channel(failures.max(1));
        let (flush_sender, flush_receiver) = mpsc::channel(FLUSHES);
        let journal = Journal {
            successes: success_sender,
            failures: failure_sender,
            flushes: flush_sender,
            counters: Mutex::default(),
            dropped: AtomicU64::new(0),
            held: AtomicUsize::new(0),
            most_bytes,
            refusals,
            most_of_run,
            secrets,
            process,
            telemetry,
            announced: AtomicU64::new(0),
            recorded: AtomicU64::new(0),
            size: Mutex::default(),
            database_unavailable: Default::default(),
            dictionary_retired: Default::default(),
        };
        let journal = Arc::new(journal);
        let received =
            writer::Received { successes: success_receiver, failures: failure_receiver, flushes: flush_receiver };
        (journal.clone(), Writer::new(store, journal, received))
    }

    /// The counters of a workflow; the same ones for all its revisions.
    pub fn counters(&self, workflow: &str) -> Arc<Counters> {
        let mut all = self.counters.lock().unwrap_or_else(PoisonError::into_inner);
        all.entry(workflow.to_owned()).or_default().clone()
    }

    /// All counters, by workflow.
    pub fn all_counters(&self) -> Vec<(String, Arc<Counters>)> {
        let all = self.counters.lock().unwrap_or_else(PoisonError::into_inner);
        all.iter().map(|(workflow, counters)| (workflow.clone(), counters.clone())).collect()
    }

    /// Bytes of runs that wait to be written, and their bound.
    pub fn waiting(&self) -> (usize, usize) {
        (self.held.load(Ordering::Relaxed), self.most_bytes)
    }

    /// Records an ended run. Never waits.
    pub fn record(&self, run: Box<Finished>, counters: &Counters) {
        let state = run.ended.state;
        let failed = state != RunState::Succeeded;
        counters.runs.fetch_add(1, Ordering::Relaxed);
        counters.took.fetch_add(run.ended.at.since(run.started).as_micros() as u64, Ordering::Relaxed);
        match state {
            RunState::Succeeded => {}
            RunState::Rejected => _ = counters.rejected.fetch_add(1, Ordering::Relaxed),
            _ => _ = counters.failed.fetch_add(1, Ordering::Relaxed),
        }
        let took = run.ended.at.since(run.started);
        let answered = (state, run.machine.reply().map_or(0, |reply| reply.status));
        counters.steps.add(&run.machine, run.revision, answered, took, run.ended.at);
        let of_kind = if run.job { &counters.metrics.jobs } else { &counters.metrics.runs };
        of_kind.add(state.name(), took.into());
        self.telemetry.add_run(&run);
        let (most, sender) = match failed {
            true => (self.most_bytes, &self.failures),
            false => (self.most_of_successes(), &self.successes),
        };
        // What does not fit is not worth encoding.
        let mut kept = self.held.load(Ordering::Relaxed) < most;
        if kept {
            let (weight, ready) = match run.weight() {
                weight if weight >= LARGE => (weight, Ready::Large(run)),
                _ => {
                    let encoded = run.encoded(self);
                    (encoded.size(), Ready::Encoded(encoded))
                }
            };
            let fits = self.held.fetch_add(weight, Ordering::Relaxed) + weight <= most;
            kept = fits && sender.try_send(ready).is_ok();
            if !kept {
                self.held.fetch_sub(weight, Ordering::Relaxed);
            }
        }
        if !kept {
            counters.dropped.fetch_add(1, Ordering::Relaxed);
            self.dropped.fetch_add(1, Ordering::Relaxed);
        }
    }

    /// Says that a run has ended whose answer is sent before it is recorded.
    pub fn announce(self: &Arc<Self>) -> Announced {
        self.announced.fetch_add(1, Ordering::Relaxed);
        Announced(self.clone())
    }

    /// Bytes that may wait when a run that succeeded comes: the rest is room for those that did not.
    fn most_of_successes(&self) -> usize {
        self.most_bytes - self.most_bytes / 8
    }

    /// Counts a run that was recorded and is dropped before it is written.
    fn drop_one(&self, workflow: &str) {
        self.counters(workflow).dropped.fetch_add(1, Ordering::Relaxed);
        self.dropped.fetch_add(1, Ordering::Relaxed);
    }

    /// Writes what was counted of steps.
    async fn write_step_counts(&self, store: &Store, source: u64) {
        let minute = now().as_minutes();
        for (workflow, counters) in self.all_counters() {
            let changed = counters.steps.changed(&workflow);
            if changed.is_empty() {
                continue;
            }
            match store.write_step_counts(source, &changed).await {
                Ok(()) => counters.steps.written(minute),
                Err(error) => {
                    tracing::debug!(%error, "counts of steps are written later");
                    counters.steps.not_written();
                    return;
                }
            }
        }
    }

    /// Waits until what was recorded so far is written, at most [`FLUSH_WAIT`]: a reader right after an
    /// answer finds its run.
    pub async fn flush(&self) {
        let flushed = async {
            let announced = self.announced.load(Ordering::Acquire);
            while self.recorded.load(Ordering::Acquire) < announced {
                tokio::time::sleep(Duration::from_millis(1)).await;
            }
            let (done, written) = oneshot::channel();
            if self.flushes.try_send(done).is_ok() {
                let _ = written.await;
            }
        };
        let _ = tokio::time::timeout(FLUSH_WAIT, flushed).await;
    }

    /// How many runs and bytes are kept, as of some moments ago: counting looks at every segment.
    ///
    /// # Errors
    /// When the database is unavailable.
    pub async fn size(&self, store: &Store) -> kanzlei_store::Result<(u64, u64)> {
        let known = *self.size.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some((_, size)) = known.filter(|(counted, _)| counted.elapsed() < COUNTED) {
            return Ok(size);
        }
        let size = store.journal_size().await?;
        *self.size.lock().unwrap_or_else(PoisonError::into_inner) = Some((Instant::now(), size));
        Ok(size)
    }

    fn drain(&self, minute: i64, into: &mut BTreeMap<(String, i64), Tally>) {
        let all = self.counters.lock().unwrap_or_else(PoisonError::into_inner);
        for (workflow, counters) in all.iter() {
            let runs = counters.runs.swap(0, Ordering::Relaxed);
            let dropped = counters.dropped.swap(0, Ordering::Relaxed);
            if runs + dropped == 0 {
                continue;
            }
            let tally = into.entry((workflow.clone(), minute)).or_insert_with(|| Tally {
                workflow: workflow.clone(),
                minute,
                ..Tally::default()
            });
            tally.runs += runs;
            tally.dropped += dropped;
            tally.rejected += counters.rejected.swap(0, Ordering::Relaxed);
            tally.failed += counters.failed.swap(0, Ordering::Relaxed);
            tally.duration += counters.took.swap(0, Ordering::Relaxed);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test]
    async fn runs_that_wait_are_bounded_in_bytes() {
        let store = Store::connect("mysql://nobody:x@127.0.0.1:1/none", 1).expect("a pool");
        let secrets = Arc::new(Secrets::new("", "", false).expect("secrets"));
        let bounds = Bounds { successes: 100, failures: 100, most_bytes: 10 << 20, most_of_run: 100 };
        let (journal, _writer) =
            Journal::new(store, &bounds, secrets, "p".into(), Refusals::new().0, Telemetry::none());
        let text = "workflow: w\nsteps: [{reply: 204}]\n".to_owned();
        let checked =
            kanzlei_compiler::check::check(&kanzlei_compiler::check::Bundle::of([("w.yaml".to_owned(), text)]));
        let plan = checked.workflows[0].1.clone();
        let counters = Counters::default();
        for _ in 0..20 {
            let start = kanzlei_engine::machine::Start::new("r", Value::Undefined, Timestamp::EPOCH);
            let run = Finished {
                id: Uuid::nil(),
                revision: 1,
                entry: "GET /w".into(),
                started: Timestamp::EPOCH,
                request_id: String::new(),
                trace: Trace::default(),
                span: 0,
                caller: Default::default(),
                input: Value::Undefined,
                ended: Ended { state: RunState::Failed, failure: None, at: Timestamp::EPOCH },
                machine: Machine::new(plan.clone(), start),
                sent: 1 << 20,
                job: false,
                listed: true,
            };
            journal.record(Box::new(run), &counters);
        }
        // Four of two megabytes fit, the others are counted only.
        assert_eq!(journal.dropped.load(Ordering::Relaxed), 16);
        assert_eq!(counters.failed.load(Ordering::Relaxed), 20);
    }
}
