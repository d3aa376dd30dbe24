//! Refusals on their way to the database: kept behind the answer, bounded by a pace, by count and by bytes.
//!
//! A flood of bad requests costs at most [`PACE`] rows a second of at most [`crate::journal::MOST_REFUSED`] bytes
//! of body; [`WAITING`] wait at most. What does not fit is counted and dropped.

use std::num::NonZeroU32;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Duration;

use governor::{DefaultDirectRateLimiter, Quota, RateLimiter};
use kanzlei_store::Store;
use kanzlei_store::refusals::Refusal;
use tokio::sync::mpsc;
use tokio_util::sync::CancellationToken;

/// Refusals a second that are kept.
const PACE: NonZeroU32 = NonZeroU32::new(50).expect("not zero");
/// Refusals that may wait to be written.
const WAITING: usize = 500;
/// Rows of one statement.
const BATCH: usize = 100;

/// Accepts refusals to be written, as many as fit.
#[derive(Debug)]
pub struct Refusals {
    sender: mpsc::Sender<Refusal>,
    pace: DefaultDirectRateLimiter,
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
        (Refusals { sender, pace: RateLimiter::direct(Quota::per_second(PACE)), dropped: AtomicU64::new(0) }, receiver)
    }

    /// Room for one more, asked for before anything is copied; nothing when it would be too many.
    pub fn admit(&self) -> Option<Permit<'_>> {
        let permit = self.pace.check().ok().and_then(|()| self.sender.try_reserve().ok());
        if permit.is_none() {
            self.dropped.fetch_add(1, Ordering::Relaxed);
        }
        permit.map(Permit)
    }
}

/// Writes refusals until the process ends, in batches; one that the database does not accept is logged and dropped.
/// What was received by then is written once more if the database is available.
pub async fn write(store: Store, mut received: mpsc::Receiver<Refusal>, stop: CancellationToken) {
    let mut batch = Vec::with_capacity(BATCH);
    loop {
        let more = tokio::select! {
            more = received.recv_many(&mut batch, BATCH) => more,
            () = stop.cancelled(), if !received.is_closed() => {
                received.close();
                continue;
            }
        };
        if more == 0 {
            return;
        }
        loop {
            match store.write_refusals(&batch).await {
                Ok(()) => break,
                Err(error) if error.is_unreachable() || error.is_contention() => {
                    if stop.is_cancelled() {
                        return tracing::warn!(%error, refusals = batch.len(), "refusals were not written");
                    }
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
        let (refusals, mut received) = Refusals::new();
        let mut sent = 0;
        for _ in 0..20_000 {
            if let Some(permit) = refusals.admit() {
                permit.send(Refusal::default());
                sent += 1;
            }
        }
        assert!((PACE.get() as usize..WAITING).contains(&sent), "{sent}");
        assert_eq!(refusals.dropped.load(Ordering::Relaxed), 20_000 - sent as u64);
        assert_eq!(std::iter::from_fn(|| received.try_recv().ok()).count(), sent);
    }
}
