//! Acceptance: jobs become rows before anybody is told that they are queued. Those that come while a
//! transaction is under way share the next one.

use std::collections::{BTreeMap, HashMap};
use std::sync::Arc;
use std::time::{Duration, Instant};

use kanzlei_store::queue::{NewBatch, NewJob, ROWS};
use tokio::sync::{mpsc, oneshot};

use super::Jobs;

/// Lanes with more than this many places are counted now and then, others each time.
const COUNTED_EACH_TIME: u64 = 20_000;
/// How long the count of a large lane is believed, when it is more than half full and when it is not.
const BELIEVED: Duration = Duration::from_secs(5);
const BELIEVED_FAR: Duration = Duration::from_secs(60);

/// Jobs that are to be queued together.
pub struct Acceptance {
    rows: Vec<NewJob>,
    batch: Option<NewBatch>,
    done: oneshot::Sender<Result<(), Refused>>,
}

/// Why jobs were not queued.
#[derive(Clone, Debug, PartialEq)]
pub enum Refused {
    /// The lane takes no more; the status that clients see.
    Full { status: u16, detail: String },
    /// The database is unavailable, or too many wait for it.
    Away,
}

impl Jobs {
    /// Queues jobs; when this returns well they are in the database.
    pub async fn accept(&self, rows: Vec<NewJob>, batch: Option<NewBatch>) -> Result<(), Refused> {
        if rows.is_empty() && batch.is_none() {
            return Ok(());
        }
        let (done, receiver) = oneshot::channel();
        if self.acceptances.try_send(Acceptance { rows, batch, done }).is_err() {
            return Err(Refused::Away);
        }
        receiver.await.unwrap_or(Err(Refused::Away))
    }
}

/// What is known of the lengths of lanes.
#[derive(Default)]
struct Lengths(HashMap<String, (Instant, u64)>);

/// Takes acceptances as long as there are any senders. `length` bounds lanes that do not say.
pub async fn run(jobs: Arc<Jobs>, mut received: mpsc::Receiver<Acceptance>, length: u64) {
    let mut lengths = Lengths::default();
    while let Some(first) = received.recv().await {
        let mut count = first.rows.len();
        let mut together = vec![first];
        while count < ROWS
            && let Ok(next) = received.try_recv()
        {
            count += next.rows.len();
            together.push(next);
        }
        let (mut plain, mut apart) = (Vec::new(), Vec::new());
        for acceptance in together {
            match lengths.room(&jobs, &acceptance.rows, length).await {
                Err(refused) => _ = acceptance.done.send(Err(refused)),
                // A list of jobs is a transaction of its own: all of it or nothing.
                Ok(()) if acceptance.batch.is_some() => apart.push(acceptance),
                Ok(()) => plain.push(acceptance),
            }
        }
        let (rows, waiting): (Vec<_>, Vec<_>) = plain.into_iter().map(|one| (one.rows, one.done)).unzip();
        let rows: Vec<NewJob> = rows.into_iter().flatten().collect();
        if !rows.is_empty() {
            let outcome = queue(&jobs, &rows, None).await;
            waiting.into_iter().for_each(|done| _ = done.send(outcome.clone()));
        }
        for acceptance in apart {
            let outcome = queue(&jobs, &acceptance.rows, acceptance.batch.as_ref()).await;
            let _ = acceptance.done.send(outcome);
        }
        jobs.wake.notify_one();
    }
}

async fn queue(jobs: &Jobs, rows: &[NewJob], batch: Option<&NewBatch>) -> Result<(), Refused> {
    jobs.store.enqueue(rows, batch).await.map_err(|error| {
        tracing::warn!(%error, jobs = rows.len(), "jobs were not queued");
        Refused::Away
    })
}

impl Lengths {
    /// Whether the lanes have room for these, counting them in.
    async fn room(&mut self, jobs: &Jobs, rows: &[NewJob], unsaid: u64) -> Result<(), Refused> {
        let mut by_lane: BTreeMap<&str, u64> = BTreeMap::new();
        for row in rows {
            *by_lane.entry(&row.lane).or_default() += 1;
        }
        let live = jobs.live.load();
        for (name, more) in &by_lane {
            let lane = live.lanes.get(*name);
            let most = lane.and_then(|lane| lane.length).unwrap_or(unsaid);
            let believed = |count: u64| if count > most / 2 { BELIEVED } else { BELIEVED_FAR };
            let fresh = |(at, count): &&(Instant, u64)| most > COUNTED_EACH_TIME && at.elapsed() < believed(*count);
            let known = self.0.get(*name).filter(fresh);
            let count = match known {
                Some((_, count)) => *count,
                None => {
                    let counted = jobs.store.waiting_in(name, most.saturating_add(1)).await;
                    let count = counted.map_err(|_| Refused::Away)?;
                    self.0.insert((*name).to_owned(), (Instant::now(), count));
                    count
                }
            };
            if count + more > most {
                let status = lane.map_or(503, |lane| lane.full);
                let detail = format!("the lane `{name}` takes at most {most} waiting jobs and has {count}");
                return Err(Refused::Full { status, detail });
            }
        }
        for (name, more) in by_lane {
            if let Some((_, count)) = self.0.get_mut(name) {
                *count += more;
            }
        }
        Ok(())
    }
}
