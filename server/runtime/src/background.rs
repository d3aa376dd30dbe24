//! A bounded pool for CPU-bound work: checking and compiling documents, and replaying jobs for their page. Threads
//! that serve requests or renew the lease never do such work.
//!
//! A configured number of pieces runs at once; at most [`WAITING`] more wait, and others are refused.

use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};

use tokio::sync::Semaphore;

use crate::error::{Error, Result};

/// Pieces of work that may wait for a thread.
const WAITING: usize = 64;

/// The bounded pool. Cheap to clone.
#[derive(Clone, Debug)]
pub struct Background {
    places: Arc<Semaphore>,
    threads: usize,
    waiting: Arc<AtomicUsize>,
    after: fn(),
}

/// Counts a waiting piece of work until it is dropped.
struct Waits(Arc<AtomicUsize>);

impl Drop for Waits {
    fn drop(&mut self) {
        self.0.fetch_sub(1, Ordering::Relaxed);
    }
}

impl Background {
    /// A pool of so many threads; 0 for one per core.
    pub fn new(threads: usize) -> Self {
        let threads = match threads {
            0 => std::thread::available_parallelism().map_or(1, |n| n.get()),
            n => n,
        };
        Background { places: Arc::new(Semaphore::new(threads)), threads, waiting: Arc::default(), after: || () }
    }

    /// Runs something on the thread of each piece of work behind it, such as returning what it allocated.
    pub fn after_each(self, after: fn()) -> Self {
        Background { after, ..self }
    }

    /// Pieces of work that run or wait, and the number of threads.
    pub fn busy(&self) -> (usize, usize) {
        let running = self.threads.saturating_sub(self.places.available_permits());
        (running + self.waiting.load(Ordering::Relaxed), self.threads)
    }

    /// Runs a piece of work on one of the threads.
    ///
    /// # Errors
    /// 503 when too many pieces wait, 500 when the work panics.
    pub async fn run<T: Send + 'static>(&self, work: impl FnOnce() -> T + Send + 'static) -> Result<T> {
        let waits = Waits(self.waiting.clone());
        if self.waiting.fetch_add(1, Ordering::Relaxed) >= WAITING {
            let detail = format!("{WAITING} others wait to be checked or compiled; try again in a moment");
            return Err(Error::problem(503, "Too much to check at once", detail));
        }
        let place = self.places.clone().acquire_owned().await;
        drop(waits);
        let after = self.after;
        let done = tokio::task::spawn_blocking(move || {
            let _place = place;
            let done = work();
            after();
            done
        });
        done.await.map_err(|error| {
            tracing::error!(%error, "work in the background failed");
            Error::problem(500, "Internal server error", "the work could not be finished; the log says why")
        })
    }
}

#[cfg(test)]
mod tests {
    use std::sync::mpsc;

    use super::*;

    #[tokio::test]
    async fn work_is_bounded_and_a_panic_is_an_error() {
        let background = Background::new(1);
        assert_eq!(background.run(|| 1 + 1).await.expect("done"), 2);
        assert!(background.run(|| panic!("no")).await.is_err());
        let (go, wait) = mpsc::channel::<()>();
        let first = tokio::spawn({
            let background = background.clone();
            async move { background.run(move || wait.recv().is_ok()).await }
        });
        while background.places.available_permits() > 0 {
            tokio::task::yield_now().await;
        }
        let queued: Vec<_> = (0..WAITING)
            .map(|_| {
                let background = background.clone();
                tokio::spawn(async move { background.run(|| ()).await.is_ok() })
            })
            .collect();
        while background.waiting.load(Ordering::Relaxed) < WAITING {
            tokio::task::yield_now().await;
        }
        let refused = background.run(|| ()).await.expect_err("full").to_string();
        assert!(refused.contains("others wait"), "{refused}");
        go.send(()).expect("it waits");
        assert!(first.await.expect("no panic").expect("done"));
        for one in queued {
            assert!(one.await.expect("no panic"));
        }
        assert_eq!(background.waiting.load(Ordering::Relaxed), 0);
    }
}
