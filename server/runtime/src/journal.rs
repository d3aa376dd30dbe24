//! The journal of direct runs: written behind the answer, in batches, through bounded buffers.
//!
//! Answers never wait for it. When the database is unavailable or slower than the traffic, details of
//! successful runs are dropped first and failed runs last; every run is counted, and so is
//! what was dropped. Buffers hold at most `journal.successes` and `journal.failures` runs and `journal.bytes` bytes, batches
//! [`BATCH`]; details of at most `journal.pace` successful runs a second are kept.

use std::collections::{BTreeMap, HashMap};
use std::num::NonZeroU32;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, AtomicUsize, Ordering};
use std::sync::{Mutex, PoisonError};
use std::time::Duration;

use governor::{DefaultDirectRateLimiter, Quota, RateLimiter};
use kanzlei_compiler::plan::Shown;
use kanzlei_engine::machine::{Ended, Machine, State, StepRecord};
use kanzlei_lang::confidential::Label;
use kanzlei_model::caller::Caller;
use kanzlei_model::run::RunState;
use kanzlei_model::time::Timestamp;
use kanzlei_model::value::Value;
use kanzlei_store::Store;
use kanzlei_store::journal::{Run, Step, Tally};
use tokio::sync::{mpsc, oneshot, watch};
use uuid::Uuid;

use crate::clock::now;
use crate::refusals::Refusals;
use crate::secrets::Secrets;
use crate::secrets::mask::RunMask;
use crate::step_counts::Steps;

/// Runs written in one transaction.
const BATCH: usize = 200;
/// Bytes of runs after which a batch is full: their text and the statement are further copies.
const BATCH_BYTES: usize = 4 << 20;
/// How long a batch waits to fill.
const LINGER: Duration = Duration::from_millis(20);
/// How often counts are written.
const COUNT_EVERY: Duration = Duration::from_secs(1);
/// How often counts of steps are written.
const COUNT_STEPS_EVERY: Duration = Duration::from_secs(5);
/// The longest pause between retries while the database is unavailable.
const LONGEST_PAUSE: Duration = Duration::from_secs(2);

/// Steps of one run that are kept; beyond them only those that failed, up to as many again.
const STEPS: usize = 1000;

/// Bytes of a refused body, or of its problem, that are kept.
pub const MOST_REFUSED: usize = 16 << 10;
/// Readers that may wait for the journal at once.
const FLUSHES: usize = 64;
/// How long a reader waits for runs that are not written yet.
const FLUSH_WAIT: Duration = Duration::from_millis(500);

/// An ended run, as the machine leaves it; turned into text after the answer.
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
    /// The trace it belongs to, 32 hexadecimal digits.
    pub trace_id: String,
    /// Who called, where that is known.
    pub caller: Caller,
    /// The gathered input.
    pub input: Value,
    /// How it ended.
    pub ended: Ended,
    /// With the reply and what each step did.
    pub machine: Machine,
    /// Bytes of the request's body.
    pub sent: usize,
}

impl Finished {
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
}

/// Counts runs and passes ended ones to the writer.
#[derive(Debug)]
pub struct Journal {
    successes: mpsc::Sender<Finished>,
    failures: mpsc::Sender<Finished>,
    flushes: mpsc::Sender<oneshot::Sender<()>>,
    counters: Mutex<HashMap<String, Arc<Counters>>>,
    /// Since the start of the process.
    pub dropped: AtomicU64,
    pace: Option<DefaultDirectRateLimiter>,
    /// Bytes of runs that wait to be written, and their bound.
    held: AtomicUsize,
    most_bytes: usize,
    /// Requests that were refused before a run began.
    pub refusals: Refusals,
    /// Bytes of a value that are shown.
    pub value_limit: usize,
    /// Whether the last write succeeded.
    pub database_unavailable: std::sync::atomic::AtomicBool,
}

/// Writes recorded runs; ends when it is stopped and everything is written.
pub struct Writer {
    store: Store,
    successes: mpsc::Receiver<Finished>,
    failures: mpsc::Receiver<Finished>,
    flushes: mpsc::Receiver<oneshot::Sender<()>>,
    value_limit: usize,
    secrets: Arc<Secrets>,
    process: String,
}

/// Bounds of the journal.
pub struct Bounds {
    /// Successful runs that may wait to be written.
    pub successes: usize,
    /// Failed and rejected runs that may wait to be written.
    pub failures: usize,
    /// Bytes of runs that may wait to be written, of both kinds.
    pub most_bytes: usize,
    /// Successful runs a second whose details are kept; 0 for no bound.
    pub pace: usize,
    /// Bytes of a value that are kept.
    pub value_limit: usize,
}

impl Journal {
    /// A journal and its writer. `process` is the name of this process.
    pub fn new(
        store: Store,
        bounds: &Bounds,
        secrets: Arc<Secrets>,
        process: String,
        refusals: Refusals,
    ) -> (Arc<Self>, Writer) {
        let Bounds { successes, failures, most_bytes, pace, value_limit } = *bounds;
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
            pace: NonZeroU32::new(pace as u32).map(|pace| RateLimiter::direct(Quota::per_second(pace))),
            refusals,
            value_limit,
            database_unavailable: Default::default(),
        };
        (
            Arc::new(journal),
            Writer {
                store,
                successes: success_receiver,
                failures: failure_receiver,
                flushes: flush_receiver,
                value_limit,
                secrets,
                process,
            },
        )
    }

    /// The counters of a workflow; the same ones for all its revisions.
    pub fn counters(&self, workflow: &str) -> Arc<Counters> {
        let mut all = self.counters.lock().unwrap_or_else(PoisonError::into_inner);
        all.entry(workflow.to_owned()).or_default().clone()
    }

    /// Records an ended run. Never waits.
    pub fn record(&self, run: Finished, counters: &Counters) {
        let state = run.ended.state;
        let failed = state != RunState::Succeeded;
        counters.runs.fetch_add(1, Ordering::Relaxed);
        counters.took.fetch_add(run.ended.at.since(run.started).as_micros() as u64, Ordering::Relaxed);
        match state {
            RunState::Succeeded => {}
            RunState::Rejected => _ = counters.rejected.fetch_add(1, Ordering::Relaxed),
            _ => _ = counters.failed.fetch_add(1, Ordering::Relaxed),
        }
        counters.steps.add(&run.machine, run.revision, state, run.ended.at.since(run.started), run.ended.at);
        let weight = run.weight();
        let fits = self.held.fetch_add(weight, Ordering::Relaxed) + weight <= self.most_bytes;
        let kept = fits
            && if failed {
                self.failures.try_send(run).is_ok()
            } else {
                let in_pace = self.pace.as_ref().is_none_or(|pace| pace.check().is_ok());
                in_pace && self.successes.try_send(run).is_ok()
            };
        if !kept {
            self.held.fetch_sub(weight, Ordering::Relaxed);
            counters.dropped.fetch_add(1, Ordering::Relaxed);
            self.dropped.fetch_add(1, Ordering::Relaxed);
        }
    }

    /// Writes what was counted of steps.
    async fn write_step_counts(&self, store: &Store, source: u64) {
        let all: Vec<(String, Arc<Counters>)> = {
            let all = self.counters.lock().unwrap_or_else(PoisonError::into_inner);
            all.iter().map(|(workflow, counters)| (workflow.clone(), counters.clone())).collect()
        };
        let minute = now().as_minutes();
        for (workflow, counters) in all {
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
        let (done, written) = oneshot::channel();
        if self.flushes.try_send(done).is_ok() {
            let _ = tokio::time::timeout(FLUSH_WAIT, written).await;
        }
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

impl Writer {
    /// Runs until `stop` says so and nothing is left, or the database stays unavailable for five seconds then.
    pub async fn run(mut self, journal: Arc<Journal>, mut stop: watch::Receiver<bool>) {
        let mut tallies = BTreeMap::new();
        let mut count = tokio::time::interval(COUNT_EVERY);
        let mut waiting: Vec<oneshot::Sender<()>> = Vec::new();
        let mut counted = tokio::time::Instant::now();
        let source = Uuid::now_v7().as_u64_pair().0 ^ Uuid::new_v4().as_u64_pair().1;
        loop {
            let stopping = *stop.borrow();
            let mut batch = Batch::default();
            if stopping {
                batch.take_waiting(&mut self.failures);
                batch.take_waiting(&mut self.successes);
            } else {
                tokio::select! {
                    biased;
                    Some(reader) = self.flushes.recv() => waiting.push(reader),
                    Some(run) = self.failures.recv() => batch.push(run),
                    Some(run) = self.successes.recv() => batch.push(run),
                    _ = count.tick() => {}
                    _ = stop.changed() => continue,
                }
                if !batch.runs.is_empty() || !waiting.is_empty() {
                    if waiting.is_empty() {
                        tokio::time::sleep(LINGER).await;
                    }
                    batch.take_waiting(&mut self.failures);
                    batch.take_waiting(&mut self.successes);
                }
            }
            if batch.runs.is_empty() {
                if stopping || !waiting.is_empty() || counted.elapsed() >= COUNT_STEPS_EVERY {
                    counted = tokio::time::Instant::now();
                    journal.write_step_counts(&self.store, source).await;
                }
                waiting.drain(..).for_each(|reader| _ = reader.send(()));
                journal.drain(now().as_minutes(), &mut tallies);
                let written: Vec<Tally> = tallies.values().cloned().collect();
                if !written.is_empty() && self.store.add_tallies(&written).await.is_ok() {
                    tallies.clear();
                }
                if stopping {
                    return;
                }
                continue;
            }
            let emptied = !batch.is_full();
            let (limit, weight) = (self.value_limit, batch.bytes);
            let rows: Vec<Run> = batch.runs.iter().map(|run| row(run, limit, &self.secrets, &self.process)).collect();
            let written = self.write(&journal, &rows, &stop).await;
            journal.held.fetch_sub(weight, Ordering::Relaxed);
            if !written {
                return;
            }
            if emptied {
                waiting.drain(..).for_each(|reader| _ = reader.send(()));
            }
        }
    }

    /// Writes a batch with retries; false when the service stops while the database is unavailable.
    async fn write(&self, journal: &Journal, rows: &[Run], stop: &watch::Receiver<bool>) -> bool {
        let mut pause = Duration::from_millis(100);
        let mut tries_when_stopping = 5;
        loop {
            match self.store.write_runs(rows).await {
                Ok(()) => {
                    if journal.database_unavailable.swap(false, Ordering::Relaxed) {
                        tracing::info!("the journal is being written again");
                    }
                    return true;
                }
                Err(error) if error.is_unreachable() => {
                    if !journal.database_unavailable.swap(true, Ordering::Relaxed) {
                        tracing::warn!(%error, "the journal waits for the database");
                    }
                }
                Err(error) => {
                    // A retry does not help against a rejection.
                    tracing::error!(%error, runs = rows.len(), "a batch of the journal was dropped");
                    journal.dropped.fetch_add(rows.len() as u64, Ordering::Relaxed);
                    return true;
                }
            }
            if *stop.borrow() {
                tries_when_stopping -= 1;
                if tries_when_stopping == 0 {
                    tracing::error!(
                        runs = rows.len(),
                        "the service stops and the database is unavailable: the end of the journal is lost"
                    );
                    return false;
                }
            }
            tokio::time::sleep(pause).await;
            pause = (pause * 2).min(LONGEST_PAUSE);
        }
    }
}

/// Runs that are written together, and their bytes.
#[derive(Default)]
struct Batch {
    runs: Vec<Finished>,
    bytes: usize,
}

impl Batch {
    fn is_full(&self) -> bool {
        self.runs.len() >= BATCH || self.bytes >= BATCH_BYTES
    }

    fn push(&mut self, run: Finished) {
        self.bytes += run.weight();
        self.runs.push(run);
    }

    fn take_waiting(&mut self, from: &mut mpsc::Receiver<Finished>) {
        while !self.is_full()
            && let Ok(run) = from.try_recv()
        {
            self.push(run);
        }
    }
}

/// An ended run as it is kept: values masked, and cut beyond so many bytes of JSON.
pub fn row(run: &Finished, limit: usize, secrets: &Secrets, process: &str) -> Run {
    let machine = &run.machine;
    let mask = secrets.of_run(machine, &run.input);
    let text = |value: &Value| cut(mask.text(value.to_json()), limit);
    let some = |value: &Value| if matches!(value, Value::Undefined) { None } else { Some(text(value)) };
    let steps = steps(machine, limit, &mask);
    let (plan, reply) = (machine.plan(), machine.reply());
    Run {
        id: run.id,
        workflow: plan.name.clone(),
        revision: run.revision,
        state: run.ended.state.name().into(),
        entry: run.entry.to_string(),
        status: reply.map(|reply| reply.status),
        started: run.started,
        duration: run.ended.at - run.started,
        request_id: run.request_id.clone(),
        trace_id: run.trace_id.clone(),
        caller: run.caller.kept(plan.uses_caller),
        input: text(&plan.input.masked(&run.input)),
        kept: machine.remembered().map(&text),
        settings: machine.settings().map(&text),
        reply: reply.and_then(|reply| some(&reply.body)),
        failure: run.ended.failure.as_ref().map(|failure| text(&failure.to_value())),
        process: Some(process.to_owned()),
        steps,
    }
}

/// What the steps of a run did, as it is shown: values cut, what is confidential masked, of very many
/// steps the first.
pub fn steps(machine: &Machine, limit: usize, mask: &RunMask) -> Vec<Step> {
    let text = |value: &Value| cut(mask.text(value.to_json()), limit);
    let records = machine.records().iter().enumerate();
    let kept = records.filter(|(at, record)| *at < STEPS || record.state == State::Failed).take(2 * STEPS);
    kept.map(|(_, record)| step(machine, record, &text)).collect()
}

fn step(machine: &Machine, record: &StepRecord, text: &dyn Fn(&Value) -> String) -> Step {
    let nothing = Shown::default();
    let shown = machine.shown(record).unwrap_or(&nothing);
    let some = |label: &Label, value: &Value| match value {
        Value::Undefined => None,
        value => Some(text(&label.mask(value))),
    };
    // Steps of the workflow itself are known by their paragraph; those of others bring their heading.
    let foreign = (record.level > 0).then(|| machine.plan_of(record).sheet.get(record.paragraph as usize)).flatten();
    let short = |text: &str, most: usize| text.chars().take(most).collect::<String>();
    let items = machine.items(record);
    let items = items.iter().map(u32::to_string).collect::<Vec<_>>().join(".");
    Step {
        paragraph: record.paragraph,
        state: record.state.name().into(),
        started: record.started,
        duration: record.ended - record.started,
        attempts: record.attempts,
        earlier_attempts: (!record.earlier_attempts.is_empty()).then(|| short(&record.earlier_attempts.join(" "), 300)),
        sent: some(&shown.sent, &record.sent),
        outcome: some(&shown.outcome, &record.outcome),
        failure: record.failure.as_ref().map(|failure| text(&failure.to_value())),
        number: foreign.map(|_| short(&machine.number(record), 100)),
        kind: foreign.map(|paragraph| paragraph.kind.clone()),
        title: foreign.map(|paragraph| short(&paragraph.title, 300)),
        items: (!items.is_empty()).then(|| short(&items, 100)),
    }
}

/// Cuts JSON text that is too long; the remainder has a mark and the beginning.
pub fn cut(json: String, limit: usize) -> String {
    if json.len() <= limit {
        return json;
    }
    let mut end = limit / 2;
    while !json.is_char_boundary(end) {
        end -= 1;
    }
    serde_json::json!({"$cut": {"bytes": json.len(), "begins": &json[..end]}}).to_string()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn long_values_are_cut_with_a_mark() {
        let long = format!("\"{}\"", "å".repeat(100));
        let shown: serde_json::Value = serde_json::from_str(&cut(long.clone(), 51)).expect("json");
        assert_eq!(shown["$cut"]["bytes"], 202);
        assert_eq!(cut(long.clone(), 202), long);
    }

    #[tokio::test]
    async fn runs_that_wait_are_bounded_in_bytes() {
        let store = Store::connect("mysql://nobody:x@127.0.0.1:1/none", 1).expect("a pool");
        let secrets = Arc::new(Secrets::new("", "", false).expect("secrets"));
        let bounds = Bounds { successes: 100, failures: 100, most_bytes: 10 << 20, pace: 0, value_limit: 100 };
        let (journal, _writer) = Journal::new(store, &bounds, secrets, "p".into(), Refusals::new().0);
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
                trace_id: String::new(),
                caller: Default::default(),
                input: Value::Undefined,
                ended: Ended { state: RunState::Failed, failure: None, at: Timestamp::EPOCH },
                machine: Machine::new(plan.clone(), start),
                sent: 1 << 20,
            };
            journal.record(run, &counters);
        }
        // Four of two megabytes fit, the others are counted only.
        assert_eq!(journal.dropped.load(Ordering::Relaxed), 16);
        assert_eq!(counters.failed.load(Ordering::Relaxed), 20);
    }
}
