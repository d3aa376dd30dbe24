//! Counts of what each lane does in this process: written every few seconds as samples for the charts, and summed since its start for monitoring.

use std::collections::BTreeMap;
use std::sync::{Mutex, PoisonError};
use std::time::Duration;

use kanzlei_model::time::{Span, Timestamp};
use kanzlei_store::Store;
use kanzlei_store::queue::{Claimed, JobPhase, Sample};

use crate::clock::now;

/// The width of a sample of a lane, in microseconds.
const SAMPLE: Span = Span::from_secs(10);

/// The most lanes that are counted since the start; those of documents, so that they are few.
const MOST: usize = 1000;

/// Counts by lane.
#[derive(Default)]
pub struct Tally {
    /// Since they were last written.
    recent: Mutex<BTreeMap<String, Sample>>,
    /// Since the start of the process.
    whole: Mutex<BTreeMap<String, Whole>>,
}

/// What a lane did since the start of the process.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct Whole {
    /// Jobs that began.
    pub begun: u64,
    /// Jobs that succeeded, were rejected, and failed.
    pub ended: [u64; 3],
    /// Jobs that are under way.
    pub running: u64,
}

impl Tally {
    fn with(&self, lane: &str, count: impl FnOnce(&mut Sample)) {
        let mut all = self.recent.lock().unwrap_or_else(PoisonError::into_inner);
        count(all.entry(lane.to_owned()).or_default());
    }

    fn sum(&self, lane: &str, count: impl FnOnce(&mut Whole)) {
        let mut all = self.whole.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(whole) = all.get_mut(lane) {
            count(whole);
        } else if all.len() < MOST {
            count(all.entry(lane.to_owned()).or_default());
        }
    }

    /// What lanes did since the start of the process.
    pub fn since_start(&self) -> BTreeMap<String, Whole> {
        self.whole.lock().unwrap_or_else(PoisonError::into_inner).clone()
    }

    /// Counts a job that this process runs from now on.
    pub fn entered(&self, lane: &str) {
        self.sum(lane, |whole| whole.running += 1);
    }

    /// Counts a job that this process has no more: it ended, or waits for something.
    pub fn left(&self, lane: &str) {
        self.sum(lane, |whole| whole.running = whole.running.saturating_sub(1));
    }

    /// Counts a job that ended.
    pub fn ended(&self, lane: &str, phase: JobPhase) {
        self.with(lane, |sample| match phase {
            JobPhase::Failed => sample.failed += 1,
            JobPhase::Rejected => sample.rejected += 1,
            _ => sample.succeeded += 1,
        });
        let became = match phase {
            JobPhase::Failed => 2,
            JobPhase::Rejected => 1,
            _ => 0,
        };
        self.sum(lane, |whole| whole.ended[became] += 1);
    }

    /// Counts a job that begins, with its delay.
    pub fn begun(&self, job: &Claimed, at: Timestamp) {
        let delay = at.since(job.due).as_micros() as u64;
        self.with(&job.lane, |sample| {
            sample.begun += 1;
            sample.delay += delay;
            sample.max_delay = sample.max_delay.max(delay);
        });
        self.sum(&job.lane, |whole| whole.begun += 1);
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
        std::mem::take(&mut self.recent.lock().unwrap_or_else(PoisonError::into_inner))
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
        assert_eq!((tally.since_start()["a"].ended, tally.since_start()["b"].ended), ([1, 0, 2], [1, 0, 0]));
    }
}
