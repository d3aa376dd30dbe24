//! Refusals on their way to the database: kept behind the answer, bounded by a pace, by count and by bytes.
//!
//! A flood of bad requests costs at most [`PACE`] rows a second of at most [`crate::journal::MOST_REFUSED`] bytes
//! of body; [`WAITING`] wait at most. What does not fit is counted and dropped.

use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Duration;

use kanzlei_store::Store;
use kanzlei_store::refusals::Refusal;
use tokio::sync::mpsc;

use crate::journal::Pace;

/// Refusals a second that are kept.
const PACE: i64 = 50;
/// Refusals that may wait to be written.
const WAITING: usize = 500;
/// Rows of one statement.
const BATCH: usize = 100;

/// Accepts refusals to be written, as many as fit.
#[derive(Debug)]
pub struct Refusals {
    sender: mpsc::Sender<Refusal>,
    pace: Pace,
    /// Since the start of the process.
    pub dropped: AtomicU64,
}

/// Room for one refusal.
pub struct Permit<'r>(mpsc::Permit<'r, Refusal>);

impl Permit<'_> {
    /// Sends it to be written.
    pub fn send(self, refusal: Refusal) {
        self.0.send(refusal);
    }
}

impl Refusals {
    /// The sending and the receiving end.
    pub fn new() -> (Self, mpsc::Receiver<Refusal>) {
        let (sender, receiver) = mpsc::channel(WAITING);
        (Refusals { sender, pace: Pace::new(PACE), dropped: AtomicU64::new(0) }, receiver)
    }

    /// Room for one more, asked for before anything is copied; nothing when it would be too many.
    pub fn admit(&self, now: i64) -> Option<Permit<'_>> {
        let permit = self.pace.take(now).then(|| self.sender.try_reserve().ok()).flatten();
        if permit.is_none() {
            self.dropped.fetch_add(1, Ordering::Relaxed);
        }
        permit.map(Permit)
    }
}

/// Writes refusals until the process ends, in batches; one that the database does not accept is logged and dropped.
pub async fn write(store: Store, mut received: mpsc::Receiver<Refusal>) {
    let mut batch = Vec::with_capacity(BATCH);
    while received.recv_many(&mut batch, BATCH).await > 0 {
        loop {
            match store.write_refusals(&batch).await {
                Ok(()) => break,
                Err(error) if error.is_unreachable() || error.is_contention() => {
                    tokio::time::sleep(Duration::from_secs(1)).await;
                }
                Err(error) => {
                    tracing::error!(%error, refusals = batch.len(), "refusals could not be written");
                    break;
                }
            }
        }
        batch.clear();
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_flood_is_bounded() {
        let (refusals, _receiver) = Refusals::new();
        for second in 0..20 {
            for _ in 0..1000 {
                if let Some(permit) = refusals.admit(second * 1_000_000) {
                    permit.send(Refusal::default());
                }
            }
        }
        assert_eq!(refusals.dropped.load(Ordering::Relaxed), 20_000 - WAITING as u64);
    }
}
