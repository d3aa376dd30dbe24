//! What was done in each lane, counted here and written every few seconds as samples that people see as
//! pictures.

use std::collections::BTreeMap;
use std::sync::{Mutex, PoisonError};
use std::time::Duration;

use kanzlei_store::Store;
use kanzlei_store::queue::{Claimed, Phase, Sample};

use crate::clock::now;

/// The width of a sample of a lane, in microseconds.
const SAMPLE: i64 = 10_000_000;

/// Counts by lane since they were last written.
#[derive(Default)]
pub struct Tally(Mutex<BTreeMap<String, Sample>>);

impl Tally {
    fn with(&self, lane: &str, count: impl FnOnce(&mut Sample)) {
        let mut all = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        count(all.entry(lane.to_owned()).or_default());
    }

    pub fn ended(&self, lane: &str, phase: Phase) {
        self.with(lane, |sample| match phase {
            Phase::Failed => sample.failed += 1,
            _ => sample.done += 1,
        });
    }

    pub fn begun(&self, job: &Claimed, at: i64) {
        let late = (at - job.due).max(0) as u64;
        self.with(&job.lane, |sample| {
            sample.begun += 1;
            sample.late += late;
            sample.latest = sample.latest.max(late);
        });
    }

    /// What could not be written counts for the next sample.
    fn put_back(&self, old: Sample) {
        self.with(&old.lane.clone(), |sample| {
            sample.begun += old.begun;
            sample.done += old.done;
            sample.failed += old.failed;
            sample.late += old.late;
            sample.latest = sample.latest.max(old.latest);
        });
    }

    fn take(&self) -> BTreeMap<String, Sample> {
        std::mem::take(&mut self.0.lock().unwrap_or_else(PoisonError::into_inner))
    }
}

/// Writes samples of lanes for ever: what was done here, and how much waits.
pub async fn sample(store: &Store, tally: &Tally) {
    let mut every = tokio::time::interval(Duration::from_micros(SAMPLE as u64 / 2));
    loop {
        every.tick().await;
        let at = now() / SAMPLE * SAMPLE;
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
        for (lane, phase) in [("a", Phase::Succeeded), ("a", Phase::Failed), ("b", Phase::Cancelled)] {
            tally.ended(lane, phase);
        }
        let first = tally.take();
        assert_eq!((first["a"].done, first["a"].failed, first["b"].done), (1, 1, 1));
        tally.ended("a", Phase::Failed);
        first.into_iter().for_each(|(lane, sample)| tally.put_back(Sample { lane, latest: 7, ..sample }));
        let both = tally.take();
        assert_eq!((both["a"].done, both["a"].failed, both["a"].latest, both["b"].done), (1, 2, 7, 1));
        assert!(tally.take().is_empty());
    }
}
