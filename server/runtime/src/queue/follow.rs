//! Followers: clients that wait for a job to change. They learn of changes in this process at once; changes in
//! other processes are polled every [`POLL`], in one query for all followed jobs.

use std::collections::HashMap;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use kanzlei_store::Store;
use tokio::sync::watch;
use uuid::Uuid;

/// How often changes in other processes are polled.
const POLL: Duration = Duration::from_millis(250);

/// Event streams and long polls that wait for changes of jobs.
pub struct Followers {
    most: usize,
    all: AtomicUsize,
    /// By job: its signal, the number of its followers, and its last known count of changes.
    jobs: Mutex<HashMap<Uuid, Followed>>,
}

struct Followed {
    changed: watch::Sender<u64>,
    count: usize,
    seen: u64,
}

/// One follower; dropping it ends the following.
pub struct Follower {
    of: Arc<super::Jobs>,
    id: Uuid,
    changed: watch::Receiver<u64>,
}

impl Followers {
    /// Room for at most `most` followers.
    pub fn new(most: usize) -> Self {
        Followers { most, all: AtomicUsize::new(0), jobs: Mutex::default() }
    }

    /// Reports that a job changed.
    pub fn changed(&self, id: Uuid) {
        let jobs = self.jobs.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(followed) = jobs.get(&id) {
            followed.changed.send_modify(|n| *n += 1);
        }
    }
}

impl super::Jobs {
    /// Begins to follow a job; `None` when the number of followers is exhausted.
    pub fn follow(self: &Arc<Self>, id: Uuid) -> Option<Follower> {
        let mut jobs = self.followers.jobs.lock().unwrap_or_else(PoisonError::into_inner);
        // Counted under the lock, so that the bound holds.
        if self.followers.all.load(Ordering::Relaxed) >= self.followers.most {
            return None;
        }
        self.followers.all.fetch_add(1, Ordering::Relaxed);
        let followed = jobs.entry(id).or_insert_with(|| Followed { changed: watch::channel(0).0, count: 0, seen: 0 });
        followed.count += 1;
        Some(Follower { of: self.clone(), id, changed: followed.changed.subscribe() })
    }
}

impl Follower {
    /// Waits until the job may have changed, at most for a given time.
    pub async fn changed(&mut self, within: Duration) {
        let _ = tokio::time::timeout(within, self.changed.changed()).await;
    }
}

impl Drop for Follower {
    fn drop(&mut self) {
        let mut jobs = self.of.followers.jobs.lock().unwrap_or_else(PoisonError::into_inner);
        self.of.followers.all.fetch_sub(1, Ordering::Relaxed);
        if let Some(followed) = jobs.get_mut(&self.id) {
            followed.count -= 1;
            if followed.count == 0 {
                jobs.remove(&self.id);
            }
        }
    }
}

/// Polls changes in other processes until the process ends.
pub async fn run(store: Store, jobs: Arc<super::Jobs>) {
    let mut every = tokio::time::interval(POLL);
    every.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Delay);
    loop {
        every.tick().await;
        let ids: Vec<Uuid> = {
            let followed = jobs.followers.jobs.lock().unwrap_or_else(PoisonError::into_inner);
            followed.keys().copied().collect()
        };
        if ids.is_empty() {
            continue;
        }
        let Ok(found) = store.watched(&ids).await else { continue };
        let mut followed = jobs.followers.jobs.lock().unwrap_or_else(PoisonError::into_inner);
        for job in found {
            if let Some(followed) = followed.get_mut(&job.id)
                && followed.seen != job.changes
            {
                followed.seen = job.changes;
                followed.changed.send_modify(|n| *n += 1);
            }
        }
    }
}
