//! The lease of this process from its own point of view: until when it can rely on owning its jobs.
//!
//! The owner is stricter than the others: it starts nothing more once it has failed to renew its lease for half
//! the lease's length. A process that is slow, or cut off from the database, therefore does not call services for
//! jobs that others have reclaimed.
//!
//! ```text
//! lease.sure().await;      // before each step that reaches out
//! ```

use std::time::{Duration, Instant};

use tokio::sync::watch;

/// Share of the lease after which its owner starts nothing more.
const SURE: f64 = 0.5;
/// Share of the lease without a renewal after which others may declare its owner dead.
pub const SILENT: f64 = 0.6;
const _: () = assert!(SURE < SILENT, "its owner stops before others take over");

/// Until when this process can rely on owning its jobs, by its monotonic clock.
pub struct Lease {
    /// Its length after each renewal.
    pub length: Duration,
    until: watch::Sender<Instant>,
}

impl Lease {
    /// A lease without a renewal.
    pub fn new(length: Duration) -> Self {
        Lease { length, until: watch::channel(Instant::now()).0 }
    }

    /// Records a renewal whose request was sent at this instant.
    pub fn renewed(&self, sent: Instant) {
        self.until.send_replace(sent + self.length.mul_f64(SURE));
    }

    fn is_sure(&self) -> bool {
        Instant::now() < *self.until.borrow()
    }

    /// Waits until ownership is certain. The callers are dropped when the process is declared dead.
    pub async fn sure(&self) {
        if !self.is_sure() {
            let _ = self.until.subscribe().wait_for(|until| Instant::now() < *until).await;
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn it_is_sure_for_half_its_length() {
        let lease = Lease::new(Duration::from_secs(10));
        assert!(!lease.is_sure(), "before it is renewed");
        for (ago, sure) in [(0, true), (4, true), (6, false), (3600, false)] {
            lease.renewed(Instant::now() - Duration::from_secs(ago));
            assert_eq!(lease.is_sure(), sure, "renewed {ago} seconds ago");
        }
    }

    #[tokio::test]
    async fn who_waits_goes_on_when_it_is_renewed() {
        let lease = std::sync::Arc::new(Lease::new(Duration::from_secs(10)));
        let waiting = tokio::spawn({
            let lease = lease.clone();
            async move { lease.sure().await }
        });
        tokio::task::yield_now().await;
        assert!(!waiting.is_finished());
        lease.renewed(Instant::now());
        waiting.await.expect("goes on");
    }
}
