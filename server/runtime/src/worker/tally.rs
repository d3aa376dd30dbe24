//! Counts of what each lane does, written every few seconds as samples for the charts.

use std::collections::BTreeMap;
use std::sync::{Mutex, PoisonError};
use std::time::Duration;

use kanzlei_model::time::{Span, Timestamp};
use kanzlei_store::Store;
use kanzlei_store::queue::{Claimed, JobPhase, Sample};

use crate::clock::now;

/// The width of a sample of a lane, in microseconds.
const SAMPLE: Span = Span::from_secs(10);

/// Counts by lane since they were last written.
#[derive(Default)]
pub struct Tally(Mutex<BTreeMap<String, Sample>>);

impl Tally {
    fn with(&self, lane: &str, count: impl FnOnce(&mut Sample)) {
        let mut all = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        count(all.entry(lane.to_owned()).or_default());
    }

    /// Counts a job that ended.
    pub fn ended(&self, lane: &str, phase: JobPhase) {
        self.with(lane, |sample| match phase {
            JobPhase::Failed => sample.failed += 1,
            JobPhase::Rejected => sample.rejected += 1,
            _ => sample.succeeded += 1,
        });
    }

    /// Counts a job that begins, with its delay.
    pub fn begun(&self, job: &Claimed, at: Timestamp) {
        let delay = at.since(job.due).as_micros() as u64;
        self.with(&job.lane, |sample| {
            sample.begun += 1;
            sample.delay += delay;
            sample.max_delay = sample.max_delay.max(delay);
        });
    }

    /// Adds counts that could not be written to the next sample.
    fn put_back(&self, old: Sample) {
        self.with(&old.lane.clone(), |sample| {
            sample.begun += old.begun;
            sample.succeeded += old.succeeded;
            sample.rejected += old.rejected;
            sample.failed += old.failed;
            sample.delay += old.delay;
            sample.max_delay = sample.max_delay.max(old.max_delay);
        });
    }

    fn take(&self) -> BTreeMap<String, Sample> {
        std::mem::take(&mut self.0.lock().unwrap_or_else(PoisonError::into_inner))
    }
}

/// Writes samples of lanes until the process ends: counts of this process, and how many jobs wait.
pub async fn sample(store: &Store, tally: &Tally) {
    let mut every = tokio::time::interval(Duration::from(SAMPLE) / 2);
    loop {
        every.tick().await;
        let at = now().floor(SAMPLE);
        let mut samples = tally.take();
        for (lane, waiting) in store.lanes_waiting(now()).await.unwrap_or_default() {
            samples.entry(lane).or_default().waiting = waiting;
        }
        let samples: Vec<Sample> = samples.into_iter().map(|(lane, sample)| Sample { lane, at, ..sample }).collect();
        if let Err(error) = store.add_samples(&samples).await {
            tracing::debug!(%error, "samples of lanes are written later");
            samples.into_iter().for_each(|sample| tally.put_back(sample));
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_was_not_written_counts_later() {
        let tally = Tally::default();
        for (lane, phase) in [("a", JobPhase::Succeeded), ("a", JobPhase::Failed), ("b", JobPhase::Cancelled)] {
            tally.ended(lane, phase);
        }
        let first = tally.take();
        assert_eq!((first["a"].succeeded, first["a"].failed, first["b"].succeeded), (1, 1, 1));
        tally.ended("a", JobPhase::Failed);
        first.into_iter().for_each(|(lane, sample)| tally.put_back(Sample { lane, max_delay: 7, ..sample }));
        let both = tally.take();
        assert_eq!((both["a"].succeeded, both["a"].failed, both["a"].max_delay, both["b"].succeeded), (1, 2, 7, 1));
        assert!(tally.take().is_empty());
    }
}
