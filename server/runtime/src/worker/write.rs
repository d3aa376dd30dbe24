//! Writes outcomes and ends of running jobs. Writes that arrive during a transaction share the next one. While the
//! database is unavailable they wait, and no job continues before its outcome is written.

use std::sync::Arc;
use std::time::{Duration, Instant};

use kanzlei_store::queue::{End, ROWS, Write};
use tokio::sync::{mpsc, oneshot};

use crate::clock::now;
use crate::gathering::Gathering;
use crate::queue::Jobs;

/// The longest pause between retries while the database is unavailable.
const LONGEST_PAUSE: Duration = Duration::from_secs(1);

type Waiting = (Write, oneshot::Sender<Written>);

/// The result of a write.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Written {
    /// The write counts.
    Yes,
    /// The job belongs to another worker by now.
    NotOurs,
    /// The database rejects it.
    Refused,
}

/// Accepts the writes of running jobs.
#[derive(Clone)]
pub struct Writer {
    sender: mpsc::Sender<Waiting>,
    jobs: Arc<Jobs>,
}

impl Writer {
    /// A writer, and the receiver of its writes.
    pub fn new(jobs: &Arc<Jobs>) -> (Self, impl Future<Output = ()> + Send + 'static) {
        let (sender, receiver) = mpsc::channel(crate::queue::WAITING);
        (Writer { sender, jobs: jobs.clone() }, run(jobs.clone(), receiver))
    }

    /// Writes; waits while the database is unavailable.
    pub async fn write(&self, write: Write) -> Written {
        let bytes = write.outcomes.iter().map(|outcome| outcome.data.len()).sum::<usize>()
            + write.reply.as_ref().map_or(0, |(_, reply)| reply.len());
        // A step waits here while too many bytes wait for the database.
        let _held = self.jobs.hold(bytes).await;
        let (done, receiver) = oneshot::channel();
        if self.sender.send((write, done)).await.is_err() {
            return Written::NotOurs;
        }
        receiver.await.unwrap_or(Written::NotOurs)
    }
}

async fn run(jobs: Arc<Jobs>, mut received: mpsc::Receiver<Waiting>) {
    let mut gathering = Gathering::default();
    while let Some(first) = received.recv().await {
        gathering.pause().await;
        let begun = Instant::now();
        let mut together = vec![first];
        while together.len() < ROWS
            && let Ok(next) = received.try_recv()
        {
            together.push(next);
        }
        let written = write(&jobs, &together).await;
        gathering.done(begun, together.len());
        for ((write, done), written) in together.into_iter().zip(written) {
            jobs.followers.changed(write.job);
            // The next job of its ordering key may be ready, or the job itself.
            let ready = |end: &End| end.ordering_key.is_some() || (!end.phase.ended() && end.ready_at <= now());
            if write.end.as_ref().is_some_and(ready) {
                jobs.wake.notify_one();
            }
            let _ = done.send(written);
        }
    }
}

/// Writes with retries. Writes that the database rejects one by one are refused; the others are written.
async fn write(jobs: &Jobs, together: &[Waiting]) -> Vec<Written> {
    let mut pause = Duration::from_millis(50);
    loop {
        let writes: Vec<&Write> = together.iter().map(|(write, _)| write).collect();
        match jobs.store.write_jobs(&writes, now()).await {
            Ok(ours) => {
                return ours.into_iter().map(|ours| if ours { Written::Yes } else { Written::NotOurs }).collect();
            }
            Err(error) if error.is_contention() => {
                tracing::debug!(%error, jobs = together.len(), "running jobs are written again");
            }
            Err(error) if error.is_unreachable() => {
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
                tracing::error!(%error, "a job could not be written");
                return vec![Written::Refused];
            }
        }
        tokio::time::sleep(pause).await;
        pause = (pause * 2).min(LONGEST_PAUSE);
    }
}
