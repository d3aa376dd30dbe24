//! What wakes the worker: jobs that are ready from an instant on, or anything that may have made others due.
//!
//! The worker searches from the earliest of these instants. What other processes queue it finds at intervals.
//!
//! ```
//! use kanzlei_model::time::Timestamp;
//! use kanzlei_runtime::queue::Wake;
//! let wake = Wake::default();
//! wake.ready_from(Timestamp::from_micros(7));
//! wake.ready_from(Timestamp::from_micros(9));
//! assert_eq!(wake.reset(), Timestamp::from_micros(7));
//! wake.notify_one();
//! assert_eq!(wake.reset(), Timestamp::EPOCH);
//! ```

use std::sync::atomic::{AtomicI64, Ordering};

use kanzlei_model::time::Timestamp;
use tokio::sync::Notify;

/// Wakes the worker of this process.
pub struct Wake {
    notify: Notify,
    from: AtomicI64,
}

impl Default for Wake {
    fn default() -> Self {
        Wake { notify: Notify::new(), from: AtomicI64::new(Timestamp::NEVER.as_micros()) }
    }
}

impl Wake {
    /// Any job may be due.
    pub fn notify_one(&self) {
        self.ready_from(Timestamp::EPOCH);
    }

    /// Jobs were queued of which none is ready before an instant.
    pub fn ready_from(&self, from: Timestamp) {
        self.from.fetch_min(from.as_micros(), Ordering::AcqRel);
        self.notify.notify_one();
    }

    /// Waits for one of these.
    pub async fn notified(&self) {
        self.notify.notified().await;
    }

    /// The earliest instant since the last call; [`Timestamp::NEVER`] where there was none.
    pub fn reset(&self) -> Timestamp {
        Timestamp::from_micros(self.from.swap(Timestamp::NEVER.as_micros(), Ordering::AcqRel))
    }
}
