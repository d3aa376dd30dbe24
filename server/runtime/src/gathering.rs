//! Gathering: under some load a writer pauses between two transactions for as long as the last one took, so that more work shares the next.
//!
//! A transaction costs about the same whether it has one job or ten. A writer that begins the next one at once has few in each, and keeps
//! the database busy with transactions as long as there is any work. Work that comes one by one never waits, and neither does so much work
//! that transactions are large anyway: who waits for it would only send less.
//!
//! ```
//! use kanzlei_runtime::gathering::Gathering;
//! use std::time::{Duration, Instant};
//! let mut gathering = Gathering::default();
//! let begun = Instant::now() - Duration::from_millis(2);
//! (0..20).for_each(|_| gathering.done(begun, 1));
//! assert!(!gathering.gathers());
//! (0..20).for_each(|_| gathering.done(begun, 3));
//! assert!(gathering.gathers());
//! (0..20).for_each(|_| gathering.done(begun, 50));
//! assert!(!gathering.gathers());
//! ```

use std::time::{Duration, Instant};

/// The longest pause.
const LONGEST: Duration = Duration::from_millis(5);
/// How much the size of the last transaction counts in the average.
const SHARE: f64 = 0.1;
/// The average sizes between which transactions are spaced.
const SEVERAL: f64 = 1.2;
const MANY: f64 = 12.0;

/// How one writer spaces its transactions.
#[derive(Debug, Default)]
pub struct Gathering {
    ended: Option<Instant>,
    took: Duration,
    /// How much the last transactions had, on average.
    size: f64,
}

impl Gathering {
    /// Waits until the next transaction may begin.
    pub async fn pause(&self) {
        if let Some(ended) = self.ended.filter(|_| self.gathers()) {
            let until = ended + self.took.min(LONGEST);
            if until > Instant::now() {
                tokio::time::sleep_until(until.into()).await;
            }
        }
    }

    /// Notes a transaction that has ended, with the number of jobs in it.
    pub fn done(&mut self, begun: Instant, size: usize) {
        let ended = Instant::now();
        self.took = ended - begun;
        self.ended = Some(ended);
        self.size += (size as f64 - self.size) * SHARE;
    }

    /// Whether transactions are spaced.
    pub fn gathers(&self) -> bool {
        (SEVERAL..MANY).contains(&self.size)
    }
}
