//! Supervision of the tasks that run as long as the process.
//!
//! A task that can be recreated restarts after a panic. A task that holds something unique, such as the receiving
//! end of a queue, ends the process with a clear message, so that a restart yields a complete process. A shutdown
//! waits for all tasks.

use std::panic::AssertUnwindSafe;
use std::time::{Duration, Instant};

use futures_util::FutureExt;
use tokio::sync::watch;
use tokio_util::sync::CancellationToken;
use tokio_util::task::TaskTracker;

/// The pause before a task restarts after a panic.
const PAUSE: Duration = Duration::from_secs(1);
/// Panics of one task within [`SPAN`] that end the process.
const MOST: usize = 5;
const SPAN: Duration = Duration::from_secs(60);

/// All long-running tasks of the process. Cheap to clone.
#[derive(Clone)]
pub struct Supervisor {
    tasks: TaskTracker,
    stop: CancellationToken,
    fatal: watch::Sender<Option<String>>,
}

impl Supervisor {
    pub fn new() -> Self {
        Supervisor { tasks: TaskTracker::new(), stop: CancellationToken::new(), fatal: watch::channel(None).0 }
    }

    /// Cancelled when tasks are to end.
    pub fn stop(&self) -> CancellationToken {
        self.stop.clone()
    }

    /// Runs a task until the shutdown; recreates it after a panic.
    pub fn keep<F>(&self, name: &'static str, make: impl Fn() -> F + Send + 'static)
    where
        F: Future<Output = ()> + Send + 'static,
    {
        let this = self.clone();
        self.tasks.spawn(async move {
            let mut panics: Vec<Instant> = Vec::new();
            loop {
                let ended = tokio::select! {
                    ended = AssertUnwindSafe(make()).catch_unwind() => ended,
                    () = this.stop.cancelled() => return,
                };
                let Err(panic) = ended else { return };
                panics.retain(|at| at.elapsed() < SPAN);
                panics.push(Instant::now());
                if panics.len() >= MOST {
                    return this
                        .fail(format!("the task `{name}` panicked {MOST} times in a minute: {}", said(&*panic)));
                }
                tracing::error!(task = name, panic = said(&*panic), "a task panicked and begins anew");
                tokio::time::sleep(PAUSE).await;
            }
        });
    }

    /// Runs a task that cannot be recreated: if it ends before the shutdown, the process ends.
    pub fn vital(&self, name: &'static str, task: impl Future<Output = ()> + Send + 'static) {
        let this = self.clone();
        self.tasks.spawn(async move {
            match AssertUnwindSafe(task).catch_unwind().await {
                Ok(()) if this.stop.is_cancelled() => {}
                Ok(()) => this.fail(format!("the task `{name}` ended")),
                Err(panic) => this.fail(format!("the task `{name}` panicked: {}", said(&*panic))),
            }
        });
    }

    /// Ends the process, with a reason.
    pub fn fail(&self, why: String) {
        tracing::error!(why, "the process cannot go on");
        self.fatal.send_if_modified(|known| known.is_none() && known.replace(why).is_none());
    }

    /// Waits until a task ends that the process depends on; returns the reason.
    pub async fn failed(&self) -> String {
        let mut fatal = self.fatal.subscribe();
        match fatal.wait_for(Option::is_some).await {
            Ok(why) => why.clone().unwrap_or_default(),
            Err(_) => std::future::pending().await,
        }
    }

    /// Ends all tasks and waits for them; false when some have not ended after `most`.
    pub async fn end(&self, most: Duration) -> bool {
        self.stop.cancel();
        self.tasks.close();
        tokio::time::timeout(most, self.tasks.wait()).await.is_ok()
    }
}

/// The message of a panic.
fn said(panic: &(dyn std::any::Any + Send)) -> &str {
    let text = panic.downcast_ref::<String>().map(String::as_str);
    text.or_else(|| panic.downcast_ref::<&str>().copied()).unwrap_or("no message")
}

#[cfg(test)]
mod tests {
    use std::sync::Arc;
    use std::sync::atomic::{AtomicUsize, Ordering};

    use super::*;

    #[tokio::test(start_paused = true)]
    async fn a_task_that_panics_begins_anew_until_it_does_so_too_often() {
        let supervisor = Supervisor::new();
        let begun = Arc::new(AtomicUsize::new(0));
        let count = begun.clone();
        supervisor.keep("work", move || {
            let count = count.clone();
            async move {
                assert!(count.fetch_add(1, Ordering::Relaxed) < 2, "too much");
                std::future::pending().await
            }
        });
        tokio::time::sleep(Duration::from_secs(1)).await;
        assert_eq!(begun.load(Ordering::Relaxed), 1);
        let panics = Arc::new(AtomicUsize::new(0));
        let count = panics.clone();
        supervisor.keep("broken", move || {
            count.fetch_add(1, Ordering::Relaxed);
            async { panic!("always") }
        });
        assert_eq!(supervisor.failed().await, "the task `broken` panicked 5 times in a minute: always");
        assert_eq!(panics.load(Ordering::Relaxed), MOST);
        assert!(supervisor.end(Duration::from_secs(1)).await);
    }

    #[tokio::test]
    async fn a_vital_task_takes_the_process_down_unless_it_is_stopped() {
        let supervisor = Supervisor::new();
        let stop = supervisor.stop();
        supervisor.vital("queue", async move { stop.cancelled().await });
        assert!(supervisor.end(Duration::from_secs(5)).await);
        let other = Supervisor::new();
        other.vital("queue", async {});
        assert_eq!(other.failed().await, "the task `queue` ended");
        let third = Supervisor::new();
        third.vital("queue", async { panic!("no more") });
        assert_eq!(third.failed().await, "the task `queue` panicked: no more");
    }

    #[tokio::test]
    async fn a_shutdown_waits_for_what_is_left_to_do() {
        let supervisor = Supervisor::new();
        let (stop, done) = (supervisor.stop(), Arc::new(AtomicUsize::new(0)));
        let count = done.clone();
        supervisor.vital("slow", async move {
            stop.cancelled().await;
            tokio::time::sleep(Duration::from_millis(50)).await;
            count.store(1, Ordering::Relaxed);
        });
        assert!(supervisor.end(Duration::from_secs(10)).await);
        assert_eq!(done.load(Ordering::Relaxed), 1);
    }
}
