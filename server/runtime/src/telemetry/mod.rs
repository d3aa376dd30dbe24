//! Traces and logs for a collector, by the OpenTelemetry protocol over HTTP (OTLP 1, protobuf), where the settings name one.
//!
//! A run is a span, each of its steps is one below it, and each call of a service is one below its step. Spans of runs and steps
//! are made from what the journal records, when the run ends; those of calls when the call ends. Ids of spans of runs and steps
//! follow from the run, so that a job continues its trace in every process. No span has a value of a run: what is confidential
//! stays in the journal.
//!
//! The service that begins a trace decides whether it is kept, and the flag of `traceparent` passes that on. What waits for the collector
//! has at most [`WAITING`] items and [`MOST_BYTES`] bytes; beyond them items are dropped and counted. A request never waits.
//!
//! ```
//! use kanzlei_runtime::telemetry::{Telemetry, span_of_step};
//! let none = Telemetry::none();
//! assert!(!none.fresh(uuid::Uuid::from_u128(7)).sampled, "nothing is kept where no collector is named");
//! assert_ne!(span_of_step(1, 0), span_of_step(1, 1));
//! ```

mod export;
mod spans;

pub use export::Sending;
pub use spans::{Callback, Called};

use std::collections::HashMap;
use std::sync::atomic::{AtomicU64, AtomicUsize, Ordering};
use std::sync::{Arc, PoisonError};
use std::time::Duration;

use kanzlei_model::trace::Trace;
use opentelemetry::InstrumentationScope;
use opentelemetry_sdk::logs::SdkLogRecord;
use opentelemetry_sdk::trace::SpanData;
use tokio::sync::mpsc;
use uuid::Uuid;

use crate::journal::Finished;

/// Items that wait for the collector, runs with their steps and log lines each.
const WAITING: usize = 4096;
/// Bytes of them, about.
const MOST_BYTES: usize = 16 << 20;

/// Where traces and logs go.
#[derive(Clone, Debug)]
pub struct Collector {
    /// The address below which `/v1/traces` and `/v1/logs` are.
    pub endpoint: String,
    /// Header fields of every request, such as a key.
    pub headers: HashMap<String, String>,
    /// The share of traces that begin here and are kept, from 0 to 1.
    pub ratio: f64,
    /// How long the collector has for an answer.
    pub within: Duration,
    /// The name of this process among those of the installation.
    pub process: String,
    /// The version of the service.
    pub version: &'static str,
}

/// What is sent together.
#[derive(Debug)]
pub(crate) enum Item {
    Spans(Vec<SpanData>),
    Log(Box<SdkLogRecord>, InstrumentationScope),
}

impl Item {
    /// Its approximate size in bytes.
    fn weight(&self) -> usize {
        match self {
            Item::Spans(spans) => spans.iter().map(spans::weight).sum(),
            Item::Log(record, _) => 512 + export::text_of(record),
        }
    }
}

/// Collects spans and log lines for the collector.
#[derive(Debug)]
pub struct Telemetry {
    items: Option<mpsc::Sender<Item>>,
    held: Arc<AtomicUsize>,
    /// Traces that begin here and are kept: those whose id has a lower number.
    below: u64,
    /// Items that were dropped, since the start of the process.
    pub dropped: AtomicU64,
}

/// What the collector receives, on its way.
#[derive(Debug)]
pub struct Outbox {
    items: mpsc::Receiver<Item>,
    held: Arc<AtomicUsize>,
}

/// The bits of a trace id that decide whether it is kept (W3C Trace Context 2 §5.3: they are random).
const RANDOM: u128 = (1 << 56) - 1;

impl Telemetry {
    /// Keeps nothing.
    pub fn none() -> Arc<Self> {
        Arc::new(Telemetry { items: None, held: Arc::default(), below: 0, dropped: AtomicU64::new(0) })
    }

    /// Keeps what the outbox sends to a collector.
    pub fn begin(ratio: f64) -> (Arc<Self>, Outbox) {
        let (sender, items) = mpsc::channel(WAITING);
        let held: Arc<AtomicUsize> = Arc::default();
        let below = (ratio.clamp(0.0, 1.0) * (1u64 << 56) as f64) as u64;
        let telemetry = Telemetry { items: Some(sender), held: held.clone(), below, dropped: AtomicU64::new(0) };
        (Arc::new(telemetry), Outbox { items, held })
    }

    /// A trace that begins here, with this id.
    pub fn fresh(&self, id: Uuid) -> Trace {
        // Ids that follow from the time are random in their last bits; others are spread.
        let random = (id.as_u128() & RANDOM) as u64;
        Trace { id: id.as_u128(), parent: None, sampled: self.items.is_some() && random < self.below }
    }

    /// Whether spans of a trace are kept.
    pub fn keeps(&self, trace: &Trace) -> bool {
        trace.sampled && self.items.is_some()
    }

    /// Adds the spans of an ended run and its steps.
    pub fn add_run(&self, run: &Finished) {
        if self.keeps(&run.trace) {
            self.add(Item::Spans(spans::of_run(run)));
        }
    }

    /// Adds the span of a call of a service.
    pub fn add_call(&self, call: &Called<'_>) {
        if self.keeps(&call.trace) {
            self.add(Item::Spans(vec![spans::of_call(call)]));
        }
    }

    /// Adds the span of a message that arrived for a waiting job, linked with its run.
    pub fn add_callback(&self, callback: &Callback<'_>) {
        if self.keeps(&callback.trace) {
            self.add(Item::Spans(vec![spans::of_callback(callback)]));
        }
    }

    pub(crate) fn add(&self, item: Item) {
        let Some(sender) = &self.items else { return };
        let weight = item.weight();
        let fits = self.held.fetch_add(weight, Ordering::Relaxed) + weight <= MOST_BYTES;
        if !fits || sender.try_send(item).is_err() {
            self.held.fetch_sub(weight, Ordering::Relaxed);
            self.dropped.fetch_add(1, Ordering::Relaxed);
        }
    }

    /// Bytes that wait, and their bound.
    pub fn waiting(&self) -> (usize, usize) {
        (self.held.load(Ordering::Relaxed), MOST_BYTES)
    }
}

/// The span of a step, by that of its run and its position among the run's records; not zero.
pub fn span_of_step(run: u64, record: usize) -> u64 {
    // SplitMix64: a permutation, so that no two steps share a span.
    let mut z = run.wrapping_add((record as u64 + 1).wrapping_mul(0x9e37_79b9_7f4a_7c15));
    z = (z ^ (z >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
    z = (z ^ (z >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
    (z ^ (z >> 31)).max(1)
}

/// A span that follows from nothing; not zero.
pub fn fresh_span() -> u64 {
    // The last eight bytes of a random UUID but for its variant.
    (Uuid::new_v4().as_u128() as u64).max(1)
}

/// Telemetry of the process, for its log.
static OF_LOG: std::sync::RwLock<Option<Arc<Telemetry>>> = std::sync::RwLock::new(None);

/// Sends lines of the log through this from now on.
pub fn follow_log(telemetry: &Arc<Telemetry>) {
    *OF_LOG.write().unwrap_or_else(PoisonError::into_inner) = Some(telemetry.clone());
}

/// Passes lines of the log on to [`follow_log`]; the log begins before the settings are known whole.
#[derive(Debug)]
pub struct LogLines;

impl opentelemetry_sdk::logs::LogProcessor for LogLines {
    fn emit(&self, record: &mut SdkLogRecord, scope: &InstrumentationScope) {
        if let Some(telemetry) = &*OF_LOG.read().unwrap_or_else(PoisonError::into_inner) {
            export::join_trace(record);
            telemetry.add(Item::Log(Box::new(record.clone()), scope.clone()));
        }
    }

    fn force_flush(&self) -> opentelemetry_sdk::error::OTelSdkResult {
        Ok(())
    }

    fn shutdown_with_timeout(&self, _: Duration) -> opentelemetry_sdk::error::OTelSdkResult {
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_share_of_new_traces_is_kept() {
        for (ratio, least, most) in [(0.0, 0, 0), (0.25, 200, 300), (1.0, 1000, 1000)] {
            let (telemetry, _outbox) = Telemetry::begin(ratio);
            let kept = (0..1000).filter(|_| telemetry.fresh(crate::clock::fresh_id()).sampled).count();
            assert!((least..=most).contains(&kept), "{kept} of 1000 at {ratio}");
        }
    }

    #[test]
    fn what_waits_is_bounded_and_dropped_beyond() {
        let (telemetry, _outbox) = Telemetry::begin(1.0);
        for _ in 0..WAITING + 10 {
            telemetry.add(Item::Spans(Vec::new()));
        }
        assert_eq!(telemetry.dropped.load(Ordering::Relaxed), 10);
    }
}
