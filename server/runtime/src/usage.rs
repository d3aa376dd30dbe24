//! Requests of keys by workflow and hour, counted in memory and written behind the answers.
//!
//! Bounds: [`MOST`] counts wait; while the database is unavailable further ones are added to those that wait, and new ones dropped.
//! A crash loses what was not written yet, ten seconds of it.

use std::collections::HashMap;
use std::sync::{Mutex, PoisonError};
use std::time::Duration;

use kanzlei_model::time::Timestamp;
use kanzlei_store::Store;
use kanzlei_store::meters::Usage;

/// The most counts that wait to be written.
const MOST: usize = 50_000;
/// How often they are written.
const EVERY: Duration = Duration::from_secs(10);

/// What became of a request.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Became {
    /// It was answered.
    Answered,
    /// It was refused for its allowance.
    Refused,
    /// It was answered with 500 to 599.
    Failed,
}

/// By key and workflow, and hours since 1970: requests, refused, failed.
type Counts = HashMap<(String, String), HashMap<i64, [u64; 3]>>;

/// Counts that wait to be written.
#[derive(Default)]
pub struct UsageCounts(Mutex<Counts>);

impl UsageCounts {
    /// Counts a request.
    pub fn count(&self, key: &str, workflow: &str, at: Timestamp, became: Became) {
        let mut counts = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let of = (key.to_owned(), workflow.to_owned());
        if counts.len() >= MOST && !counts.contains_key(&of) {
            return;
        }
        let [requests, refused, failed] = counts.entry(of).or_default().entry(at.as_secs() / 3600).or_default();
        *requests += 1;
        match became {
            Became::Answered => {}
            Became::Refused => *refused += 1,
            Became::Failed => *failed += 1,
        }
    }

    /// Writes what waits; it waits on where the database is unavailable.
    pub async fn write(&self, store: &Store) {
        let taken = std::mem::take(&mut *self.0.lock().unwrap_or_else(PoisonError::into_inner));
        if taken.is_empty() {
            return;
        }
        let rows = taken.iter().flat_map(|((name, workflow), hours)| {
            hours.iter().map(|(hour, [requests, refused, failed])| Usage {
                name: name.clone(),
                workflow: workflow.clone(),
                hour: *hour,
                requests: *requests,
                refused: *refused,
                failed: *failed,
            })
        });
        if let Err(error) = store.add_usage(&rows.collect::<Vec<_>>()).await {
            tracing::debug!(%error, "the usage of keys could not be written; the next attempt is soon");
            let mut counts = self.0.lock().unwrap_or_else(PoisonError::into_inner);
            for (of, hours) in taken {
                let known = counts.entry(of).or_default();
                for (hour, more) in hours {
                    let sums = known.entry(hour).or_default();
                    sums.iter_mut().zip(more).for_each(|(sum, more)| *sum += more);
                }
            }
        }
    }
}

/// Writes counts until the process ends.
pub async fn run(counts: std::sync::Arc<UsageCounts>, store: Store) {
    loop {
        tokio::time::sleep(EVERY).await;
        counts.write(&store).await;
    }
}
