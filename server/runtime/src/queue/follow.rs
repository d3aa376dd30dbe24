//! Followers: clients that wait for a job to change. They learn of changes in this process at once; changes in
//! other processes are polled every [`POLL`], in one query for all followed jobs.
//!
//! Ten thousand may begin to follow in one moment. Those of one job share one read of each of its changes, and at most
//! [`READS`] jobs are read at the same time; the others wait for their turn.
//!
//! ```text
//! let mut follower = jobs.follow(id)?;
//! let job = follower.job().await?;      // as it is now
//! follower.changed(wait).await;         // it may have changed, or the service stops
//! ```

use std::collections::HashMap;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use kanzlei_store::Store;
use kanzlei_store::queue::JobRow;
use tokio::sync::{Semaphore, watch};
use tokio_util::sync::CancellationToken;
use uuid::Uuid;

/// How often changes in other processes are polled.
const POLL: Duration = Duration::from_millis(250);

/// Jobs that are read for followers at the same time.
const READS: usize = 8;

/// Event streams and long polls that wait for changes of jobs.
pub struct Followers {
    most: usize,
    all: AtomicUsize,
    /// By job: its signal, the number of its followers, and its last known count of changes.
    jobs: Mutex<HashMap<Uuid, Followed>>,
    reads: Semaphore,
    stopping: CancellationToken,
}

/// A job as it was read, with the number of the change it was read after.
type Read = tokio::sync::Mutex<Option<(u64, Option<Arc<JobRow>>)>>;

struct Followed {
    latest: Arc<Read>,
    changed: watch::Sender<u64>,
    count: usize,
    seen: u64,
}

/// One follower; dropping it ends the following.
pub struct Follower {
    of: Arc<super::Jobs>,
    id: Uuid,
    changed: watch::Receiver<u64>,
    latest: Arc<Read>,
}

impl Followers {
    /// Room for at most `most` followers.
    pub fn new(most: usize) -> Self {
        Followers {
            most,
            all: AtomicUsize::new(0),
            jobs: Mutex::default(),
            reads: Semaphore::new(READS),
            stopping: CancellationToken::new(),
        }
    }

    /// Wakes all followers for the last time: the process stops.
    pub fn stop(&self) {
        self.stopping.cancel();
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
        let followed = jobs.entry(id).or_insert_with(|| Followed {
            latest: Arc::default(),
            changed: watch::channel(0).0,
            count: 0,
            seen: 0,
        });
        followed.count += 1;
        Some(Follower { of: self.clone(), id, changed: followed.changed.subscribe(), latest: followed.latest.clone() })
    }
}

impl Follower {
    /// Waits until the job may have changed, at most for a given time, and not while the process stops.
    pub async fn changed(&mut self, within: Duration) {
        let changed = tokio::time::timeout(within, self.changed.changed());
        let _ = self.of.followers.stopping.run_until_cancelled(changed).await;
    }

    /// Whether the process stops.
    pub fn stopping(&self) -> bool {
        self.of.followers.stopping.is_cancelled()
    }

    /// The job as it is after its last known change; nothing when it is gone.
    ///
    /// # Errors
    /// When the database cannot be asked.
    pub async fn job(&mut self) -> kanzlei_store::Result<Option<Arc<JobRow>>> {
        let change = *self.changed.borrow_and_update();
        let mut latest = self.latest.lock().await;
        if let Some((_, job)) = latest.as_ref().filter(|(read, _)| *read >= change) {
            return Ok(job.clone());
        }
        // The semaphore is never closed.
        let _turn = self.of.followers.reads.acquire().await;
        let job = self.of.store.job(self.id).await?.map(Arc::new);
        *latest = Some((change, job.clone()));
        Ok(job)
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
