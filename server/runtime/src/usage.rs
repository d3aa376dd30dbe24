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

/// Of one workflow by hours since 1970: requests, refused, failed.
type Hours = HashMap<i64, [u64; 3]>;

/// By key and workflow, with the number of these pairs.
#[derive(Default)]
struct Counts {
    by_key: HashMap<String, HashMap<String, Hours>>,
    pairs: usize,
}

impl Counts {
    /// The hours of a key and a workflow; nothing where too many others wait.
    fn of(&mut self, key: &str, workflow: &str) -> Option<&mut Hours> {
        let known = self.by_key.get(key).is_some_and(|workflows| workflows.contains_key(workflow));
        if !known {
            if self.pairs >= MOST {
                return None;
            }
            self.pairs += 1;
            self.by_key.entry(key.to_owned()).or_default().entry(workflow.to_owned()).or_default();
        }
        self.by_key.get_mut(key)?.get_mut(workflow)
    }
}

/// Counts that wait to be written.
#[derive(Default)]
pub struct UsageCounts(Mutex<Counts>);

impl UsageCounts {
    /// Counts a request.
    pub fn count(&self, key: &str, workflow: &str, at: Timestamp, became: Became) {
        let mut counts = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let Some(hours) = counts.of(key, workflow) else { return };
        let [requests, refused, failed] = hours.entry(at.as_secs() / 3600).or_default();
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
        if taken.pairs == 0 {
            return;
        }
        let pairs = taken.by_key.iter().flat_map(|(name, workflows)| workflows.iter().map(move |one| (name, one)));
        let rows = pairs.flat_map(|(name, (workflow, hours))| {
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
            for (key, workflows) in taken.by_key {
                for (workflow, hours) in workflows {
                    let Some(known) = counts.of(&key, &workflow) else { continue };
                    for (hour, more) in hours {
                        let sums = known.entry(hour).or_default();
                        sums.iter_mut().zip(more).for_each(|(sum, more)| *sum += more);
                    }
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
