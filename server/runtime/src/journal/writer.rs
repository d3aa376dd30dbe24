//! The writer of the journal: it gathers encoded runs, encodes large ones, and writes them as segments.

use std::collections::{BTreeMap, VecDeque};
use std::sync::Arc;
use std::sync::atomic::Ordering;
use std::time::Duration;

use kanzlei_store::Store;
use kanzlei_store::journal::codec::{self, Encoded};
use kanzlei_store::journal::{Dictionary, Tally};
use tokio::sync::{mpsc, oneshot, watch};
use tokio::time::Instant;
use uuid::Uuid;

use super::{Journal, Ready};
use crate::clock::now;

/// Runs written in one transaction.
const BATCH: usize = 500;
/// Bytes of runs after which a batch is full: the segment and the statement are further copies.
const BATCH_BYTES: usize = 4 << 20;
/// How long a batch waits to fill.
const LINGER: Duration = Duration::from_millis(200);
/// How often the writer looks for runs while some wait: waking it for each costs more than writing it.
const GATHER: Duration = Duration::from_millis(10);
/// How often counts are written.
const COUNT_EVERY: Duration = Duration::from_secs(1);
/// How often counts of steps are written.
const COUNT_STEPS_EVERY: Duration = Duration::from_secs(5);
/// The longest pause between retries while the database is unavailable.
const LONGEST_PAUSE: Duration = Duration::from_secs(2);
/// Runs from which a dictionary learns, and the bytes of one that it looks at.
const SAMPLES: usize = 500;
const MOST_OF_SAMPLE: usize = 8 << 10;
/// The bytes of a dictionary.
const DICTIONARY: usize = 64 << 10;
/// How long a dictionary is used before another one is trained: workflows change.
const DICTIONARY_AGE: kanzlei_model::time::Span = kanzlei_model::time::Span::from_days(1);

/// What the writer receives.
pub(super) struct Received {
    pub successes: mpsc::Receiver<Ready>,
    pub failures: mpsc::Receiver<Ready>,
    pub flushes: mpsc::Receiver<oneshot::Sender<()>>,
}

/// Writes recorded runs; ends when it is stopped and everything is written.
pub struct Writer {
    store: Store,
    journal: Arc<Journal>,
    received: Received,
    pending: Pending,
    learned: Learned,
}

/// Runs as bytes, until they are written.
#[derive(Default)]
struct Pending {
    successes: VecDeque<Encoded>,
    failures: VecDeque<Encoded>,
}

impl Pending {
    fn len(&self) -> usize {
        self.successes.len() + self.failures.len()
    }

    /// The next runs that are written together, of at most about so many bytes.
    fn batch(&mut self, most: usize) -> Vec<Encoded> {
        let (mut batch, mut bytes) = (Vec::new(), 0);
        while batch.len() < BATCH
            && bytes < most
            && let Some(run) = self.failures.pop_front().or_else(|| self.successes.pop_front())
        {
            bytes += run.size();
            batch.push(run);
        }
        batch
    }
}

/// The dictionary of segments, and the runs that the next one learns from.
#[derive(Default)]
struct Learned {
    dictionary: Option<Dictionary>,
    /// Whether the one of the database was looked for.
    looked: bool,
    samples: Vec<Vec<u8>>,
    /// Whether the dictionary is recent, or was trained in this process.
    done: bool,
}

impl Writer {
    pub(super) fn new(store: Store, journal: Arc<Journal>, received: Received) -> Self {
        let (pending, learned) = (Pending::default(), Learned::default());
        Writer { store, journal, received, pending, learned }
    }

    /// Runs until `stop` says so and nothing is left, or the database stays unavailable for some seconds then.
    pub async fn run(mut self, mut stop: watch::Receiver<bool>) {
        let mut tallies = BTreeMap::new();
        let mut count = tokio::time::interval(COUNT_EVERY);
        let mut waiting: Vec<oneshot::Sender<()>> = Vec::new();
        let (mut counted, mut tallied) = (Instant::now(), Instant::now());
        let source = Uuid::now_v7().as_u64_pair().0 ^ Uuid::new_v4().as_u64_pair().1;
        loop {
            let stopping = *stop.borrow();
            self.take_waiting();
            if self.pending.len() == 0 && waiting.is_empty() && !stopping {
                tokio::select! {
                    biased;
                    Some(reader) = self.received.flushes.recv() => waiting.push(reader),
                    Some(run) = self.received.failures.recv() => self.take(run),
                    Some(run) = self.received.successes.recv() => self.take(run),
                    _ = count.tick() => {}
                    _ = stop.changed() => {}
                }
            }
            // Few runs wait for more: a segment costs a row, and compresses the better the more runs it has.
            if self.pending.len() > 0 && !stopping {
                self.linger(&mut waiting, &mut stop).await;
            }
            self.take_waiting();
            // Readers wait for the runs that came before they asked. Where more wait than one batch has, they wait on.
            // What is being written cannot be dropped, so it leaves room for runs that did not succeed.
            let batch = self.pending.batch(BATCH_BYTES.min(self.journal.most_bytes / 4));
            let (idle, all) = (batch.is_empty(), self.pending.len() == 0);
            if !idle {
                if !self.write(batch, &stop).await {
                    return;
                }
                self.learn().await;
            }
            // Also while runs come without a pause.
            let asked = all && !waiting.is_empty();
            if asked || (stopping && idle) || counted.elapsed() >= COUNT_STEPS_EVERY {
                counted = Instant::now();
                let (journal, store) = (self.journal.clone(), self.store.clone());
                self.receiving(async move { journal.write_step_counts(&store, source).await }).await;
            }
            if all {
                waiting.drain(..).for_each(|reader| _ = reader.send(()));
            }
            if idle || tallied.elapsed() >= COUNT_EVERY {
                tallied = Instant::now();
                self.journal.drain(now().as_minutes(), &mut tallies);
                let written: Vec<Tally> = tallies.values().cloned().collect();
                let store = self.store.clone();
                let adding = async move { written.is_empty() || store.add_tallies(&written).await.is_ok() };
                if self.receiving(adding).await {
                    tallies.clear();
                }
            }
            if stopping && idle {
                return;
            }
        }
    }

    /// Waits up to [`LINGER`] for a full batch, unless a reader waits.
    async fn linger(&mut self, waiting: &mut Vec<oneshot::Sender<()>>, stop: &mut watch::Receiver<bool>) {
        let until = Instant::now() + LINGER;
        while waiting.is_empty() && self.pending.len() < BATCH && Instant::now() < until {
            tokio::select! {
                biased;
                Some(reader) = self.received.flushes.recv() => waiting.push(reader),
                _ = tokio::time::sleep_until(until.min(Instant::now() + GATHER)) => self.take_waiting(),
                _ = stop.changed() => return,
            }
        }
    }

    /// Receives all runs that wait now.
    fn take_all(&mut self) {
        while let Ok(run) = self.received.failures.try_recv() {
            self.take(run);
        }
        while let Ok(run) = self.received.successes.try_recv() {
            self.take(run);
        }
    }

    /// Receives the runs that wait now, as far as a batch has room.
    fn take_waiting(&mut self) {
        while let Ok(run) = self.received.failures.try_recv() {
            self.take(run);
        }
        while self.pending.len() < BATCH
            && let Ok(run) = self.received.successes.try_recv()
        {
            self.take(run);
        }
    }

    /// Adds a run to those that are written next. When all that waits has too many bytes, runs are dropped.
    fn take(&mut self, run: Ready) {
        let journal = &self.journal;
        let encoded = match run {
            Ready::Encoded(encoded) => *encoded,
            Ready::Large(run) => {
                let encoded = *run.encoded(journal);
                journal.held.fetch_add(encoded.size(), Ordering::Relaxed);
                journal.held.fetch_sub(run.weight(), Ordering::Relaxed);
                encoded
            }
        };
        match encoded.succeeded() {
            true => self.pending.successes.push_back(encoded),
            false => self.pending.failures.push_back(encoded),
        }
        let bounded = |waiting: &mut VecDeque<Encoded>, most: usize| {
            while journal.held.load(Ordering::Relaxed) > most
                && let Some(dropped) = waiting.pop_front()
            {
                journal.held.fetch_sub(dropped.size(), Ordering::Relaxed);
                journal.drop_one(dropped.workflow());
            }
        };
        bounded(&mut self.pending.successes, journal.most_of_successes());
        bounded(&mut self.pending.failures, journal.most_bytes);
    }

    /// Waits for `work`, and receives the runs that are recorded meanwhile: large ones hold whole machines until they are encoded.
    async fn receiving<T>(&mut self, work: impl Future<Output = T>) -> T {
        tokio::pin!(work);
        loop {
            tokio::select! {
                biased;
                done = &mut work => return done,
                _ = tokio::time::sleep(GATHER) => self.take_all(),
            }
        }
    }

    /// Writes a batch, with retries; false when the service stops while the database is unavailable.
    async fn write(&mut self, batch: Vec<Encoded>, stop: &watch::Receiver<bool>) -> bool {
        let weight: usize = batch.iter().map(Encoded::size).sum();
        if !self.learned.done {
            let some = batch.iter().filter(|run| run.bytes().len() <= MOST_OF_SAMPLE).map(|run| run.bytes().to_vec());
            self.learned.samples.extend(some.take(SAMPLES - self.learned.samples.len()));
        }
        let (store, journal, stop) = (self.store.clone(), self.journal.clone(), stop.clone());
        if self.journal.dictionary_retired.swap(false, Ordering::Relaxed) {
            self.learned = Learned::default();
        }
        if !self.learned.looked {
            let looking = store.clone();
            if let Ok(newest) = self.receiving(async move { looking.newest_dictionary().await }).await {
                self.learned.looked = true;
                self.learned.done = newest.as_ref().is_some_and(|(_, made)| *made > now() - DICTIONARY_AGE);
                self.learned.dictionary = newest.map(|(dictionary, _)| dictionary);
            }
        }
        let dictionary = self.learned.dictionary.clone();
        let writing = async move { write(&store, &journal, &batch, dictionary.as_ref(), &stop).await };
        let written = self.receiving(writing).await;
        self.journal.held.fetch_sub(weight, Ordering::Relaxed);
        written
    }

    /// Trains a dictionary once [`SAMPLES`] runs were written.
    async fn learn(&mut self) {
        if self.learned.done || self.learned.samples.len() < SAMPLES {
            return;
        }
        self.learned.done = true;
        let samples = std::mem::take(&mut self.learned.samples);
        let store = self.store.clone();
        let making = async move {
            let made = tokio::task::spawn_blocking(move || codec::dictionary(&samples, DICTIONARY)).await;
            let Ok(Some(data)) = made else { return None };
            store
                .keep_dictionary(data, now())
                .await
                .inspect_err(|error| tracing::debug!(%error, "no dictionary for the journal was kept"))
                .ok()
        };
        if let Some(dictionary) = self.receiving(making).await {
            self.learned.dictionary = Some(dictionary);
        }
    }
}

/// Writes runs, with retries; false when the service stops while the database is unavailable.
async fn write(
    store: &Store,
    journal: &Journal,
    runs: &[Encoded],
    dictionary: Option<&Dictionary>,
    stop: &watch::Receiver<bool>,
) -> bool {
    let mut pause = Duration::from_millis(100);
    let mut tries_when_stopping = 5;
    loop {
        match store.write_segment(runs, dictionary).await {
            Ok(usable) => {
                if !usable {
                    journal.dictionary_retired.store(true, Ordering::Relaxed);
                }
                let ended: Vec<Uuid> = runs.iter().filter_map(Encoded::ended_job).collect();
                if let Err(error) = store.drop_outcomes(&ended).await {
                    tracing::debug!(%error, "outcomes of ended jobs stay until the jobs are purged");
                }
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
                tracing::error!(%error, runs = runs.len(), "a batch of the journal was dropped");
                journal.dropped.fetch_add(runs.len() as u64, Ordering::Relaxed);
                return true;
            }
        }
        if *stop.borrow() {
            tries_when_stopping -= 1;
            if tries_when_stopping == 0 {
                let runs = runs.len();
                tracing::error!(
                    runs,
                    "the service stops and the database is unavailable: the end of the journal is lost"
                );
                return false;
            }
        }
        tokio::time::sleep(pause).await;
        pause = (pause * 2).min(LONGEST_PAUSE);
    }
}
