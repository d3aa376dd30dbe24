//! What a process counts for monitoring: answers, runs, calls, timetables and deliveries, with histograms of durations.
//!
//! Counts stand beside what they count, those of a workflow with its counters of the journal, those of a service with its
//! limits, so that nothing is looked up while a request runs. They begin at zero with the process, and are kept when
//! a document is deployed again. The service reads them when it is scraped; nothing here knows their format.
//!
//! ```
//! use std::time::Duration;
//! use kanzlei_runtime::metrics::Timed;
//! let calls = Timed::default();
//! calls.add("2xx", Duration::from_millis(12));
//! assert_eq!(calls.words.all(), [("2xx", 1)]);
//! ```

use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Mutex, PoisonError};
use std::time::Duration;

use prometheus_client::metrics::histogram::Histogram;

/// Upper bounds of the buckets of durations, in seconds.
pub const SECONDS: [f64; 16] =
    [0.001, 0.0025, 0.005, 0.01, 0.025, 0.05, 0.1, 0.25, 0.5, 1.0, 2.5, 5.0, 10.0, 30.0, 60.0, 300.0];

/// Counts by words of a fixed vocabulary, such as states and kinds of failures.
#[derive(Debug, Default)]
pub struct Words(Mutex<Vec<(&'static str, u64)>>);

impl Words {
    /// Counts one.
    pub fn add(&self, word: &'static str) {
        let mut all = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        match all.iter_mut().find(|(known, _)| *known == word) {
            Some((_, count)) => *count += 1,
            None => all.push((word, 1)),
        }
    }

    /// All counts, in the order in which their words first came.
    pub fn all(&self) -> Vec<(&'static str, u64)> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).clone()
    }
}

/// How something ended, and how long it took.
#[derive(Debug)]
pub struct Timed {
    /// How often it ended in which way.
    pub words: Words,
    /// How long it took, in seconds.
    pub times: Histogram,
    took_us: AtomicU64,
}

impl Default for Timed {
    fn default() -> Self {
        Timed { words: Words::default(), times: Histogram::new(SECONDS), took_us: AtomicU64::new(0) }
    }
}

impl Timed {
    /// Counts one that ended so and took so long.
    pub fn add(&self, word: &'static str, took: Duration) {
        self.words.add(word);
        self.times.observe(took.as_secs_f64());
        self.took_us.fetch_add(took.as_micros() as u64, Ordering::Relaxed);
    }

    /// How often it ended, in whichever way.
    pub fn count(&self) -> u64 {
        self.words.all().iter().map(|(_, count)| count).sum()
    }

    /// How long it took on average.
    pub fn mean(&self) -> Duration {
        Duration::from_micros(self.took_us.load(Ordering::Relaxed) / self.count().max(1))
    }
}

/// What is counted of a workflow.
#[derive(Debug, Default)]
pub struct OfWorkflow {
    /// Answers of its endpoints, by the class of their status.
    pub answers: Timed,
    /// Runs that answered a request, by the state they ended in.
    pub runs: Timed,
    /// Runs of jobs, by the state they ended in; time in the queue does not count.
    pub jobs: Timed,
}

/// What is counted of the process as a whole.
#[derive(Debug, Default)]
pub struct Totals {
    /// Due instants of timetables, by what became of them: `queued`, `missed`, `skipped`, `refused`, `by-hand`.
    pub timetables: Words,
    /// Messages that webhooks received, by their states; `unproven` are those that were refused.
    pub deliveries: Words,
    /// Requests that allowances counted, `allowed` or `refused`.
    pub allowances: Words,
    /// Answers to requests that no endpoint has.
    pub elsewhere: Timed,
}

/// The class of a status: `2xx`.
pub fn class(status: u16) -> &'static str {
    match status {
        100..=199 => "1xx",
        200..=299 => "2xx",
        300..=399 => "3xx",
        400..=499 => "4xx",
        _ => "5xx",
    }
}
