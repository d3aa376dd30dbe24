//! Writing what came of running jobs. Writes that come while a transaction is under way share the next
//! one; while the database is away they wait, and nothing goes on that is not written.

use std::sync::Arc;
use std::time::Duration;

use kanzlei_store::queue::{ROWS, Write};
use tokio::sync::{mpsc, oneshot};

use super::Jobs;
use crate::journal::now;

/// The longest pause between tries when the database is away.
const LONGEST_PAUSE: Duration = Duration::from_secs(1);

type Waiting = (Write, oneshot::Sender<bool>);

/// Where running jobs hand in what is to be written.
#[derive(Clone)]
pub struct Writer(mpsc::Sender<Waiting>);

impl Writer {
    pub fn start(jobs: &Arc<Jobs>) -> Self {
        let (sender, receiver) = mpsc::channel(super::WAITING);
        tokio::spawn(run(jobs.clone(), receiver));
        Writer(sender)
    }

    /// Writes; false when the job is not this worker's any more.
    pub async fn write(&self, write: Write) -> bool {
        let (done, receiver) = oneshot::channel();
        if self.0.send((write, done)).await.is_err() {
            return false;
        }
        receiver.await.unwrap_or(false)
    }
}

async fn run(jobs: Arc<Jobs>, mut received: mpsc::Receiver<Waiting>) {
    while let Some(first) = received.recv().await {
        let mut together = vec![first];
        while together.len() < ROWS
            && let Ok(next) = received.try_recv()
        {
            together.push(next);
        }
        let ours = write(&jobs, &together).await;
        for ((write, done), ours) in together.into_iter().zip(ours) {
            jobs.followers.changed(write.job);
            if write.end.as_ref().is_some_and(|end| end.turn.is_some() || end.wake <= now()) {
                jobs.wake.notify_one();
            }
            let _ = done.send(ours);
        }
    }
}

/// Writes as often as needed. What the database refuses for itself is refused, and the rest written.
async fn write(jobs: &Jobs, together: &[Waiting]) -> Vec<bool> {
    let mut pause = Duration::from_millis(50);
    loop {
        let writes: Vec<&Write> = together.iter().map(|(write, _)| write).collect();
        match jobs.store.write_jobs(&writes, now()).await {
            Ok(ours) => return ours,
            Err(error) if error.is_unreachable() || error.is_contention() => {
                tracing::warn!(%error, jobs = together.len(), "running jobs wait for the database");
            }
            Err(error) if together.len() > 1 => {
                tracing::error!(%error, "a batch of jobs could not be written; each is tried by itself");
                let mut all = Vec::with_capacity(together.len());
                for one in together {
                    all.extend(Box::pin(write(jobs, std::slice::from_ref(one))).await);
                }
                return all;
            }
            Err(error) => {
                // Another worker takes it up when this one's lease ends, or finds the same.
                tracing::error!(%error, "a job could not be written");
                return vec![false];
            }
        }
        tokio::time::sleep(pause).await;
        pause = (pause * 2).min(LONGEST_PAUSE);
    }
}
