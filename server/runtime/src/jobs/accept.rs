//! Acceptance: jobs become rows before the client gets an id. Those that come while a
//! transaction is under way share the next one.

use std::collections::{BTreeMap, HashMap};
use std::sync::Arc;
use std::time::{Duration, Instant};

use kanzlei_store::queue::{NewBatch, NewJob, ROWS};
use tokio::sync::{mpsc, oneshot};

use super::Jobs;

/// Bytes of inputs of one transaction: several statements, each below the server's `max_allowed_packet`.
const MOST_BYTES: usize = 4 << 20;
/// Copies of an input that exist while its job is accepted: the body, the parsed input, the row and its statement.
const COPIES: usize = 4;
/// Lanes with more than this many places are counted now and then, others each time.
const COUNTED_EACH_TIME: u64 = 20_000;
/// How long the count of a large lane is believed, when it is more than half full and when it is not.
const BELIEVED: Duration = Duration::from_secs(5);
const BELIEVED_FAR: Duration = Duration::from_secs(60);

/// Jobs that are to be queued together.
pub struct Acceptance {
    rows: Vec<NewJob>,
    batch: Option<NewBatch>,
    done: oneshot::Sender<Result<(), NotQueued>>,
}

/// Why jobs were not queued.
#[derive(Clone, Debug, PartialEq)]
pub enum NotQueued {
    /// The lane is full; the status that clients see.
    Full {
        /// The status of the answer.
        status: u16,
        /// Which lane it is, and how full.
        detail: String,
    },
    /// The database is unavailable, or too many wait for it.
    Unavailable,
    /// The database does not accept one of them.
    Failed(String),
}

impl Jobs {
    /// Queues jobs; when this returns well they are in the database.
    pub async fn accept(&self, rows: Vec<NewJob>, batch: Option<NewBatch>) -> Result<(), NotQueued> {
        if rows.is_empty() && batch.is_none() {
            return Ok(());
        }
        let bytes = rows.iter().map(|row| COPIES * row.input.len() + 1024).sum::<usize>();
        let Some(_held) = self.try_hold(bytes) else { return Err(NotQueued::Unavailable) };
        let (done, receiver) = oneshot::channel();
        if self.acceptances.try_send(Acceptance { rows, batch, done }).is_err() {
            return Err(NotQueued::Unavailable);
        }
        receiver.await.unwrap_or(Err(NotQueued::Unavailable))
    }
}

/// What is known of the lengths of lanes.
#[derive(Default)]
struct Lengths {
    /// When each was counted, in which round, and with how many since.
    known: HashMap<String, (Instant, u64, u64)>,
    /// Acceptances of one round are not in the database yet when the next of them is counted in.
    round: u64,
}

/// Takes acceptances as long as there are any senders. `length` bounds lanes that do not say.
pub async fn run(jobs: Arc<Jobs>, mut received: mpsc::Receiver<Acceptance>, length: u64) {
    let mut lengths = Lengths::default();
    while let Some(first) = received.recv().await {
        lengths.round += 1;
        let bytes = |acceptance: &Acceptance| acceptance.rows.iter().map(|row| row.input.len()).sum::<usize>();
        let (mut count, mut size) = (first.rows.len(), bytes(&first));
        let mut together = vec![first];
        while count < ROWS
            && size < MOST_BYTES
            && let Ok(next) = received.try_recv()
        {
            count += next.rows.len();
            size += bytes(&next);
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
        let rows: Vec<NewJob> = plain.iter().flat_map(|one| one.rows.iter().cloned()).collect();
        match queue(&jobs, &rows, None).await {
            // One that the database does not accept must not fail the others.
            Err(NotQueued::Failed(_)) if plain.len() > 1 => apart.extend(plain),
            outcome => plain.into_iter().for_each(|one| _ = one.done.send(outcome.clone())),
        }
        for acceptance in apart {
            let outcome = queue(&jobs, &acceptance.rows, acceptance.batch.as_ref()).await;
            let _ = acceptance.done.send(outcome);
        }
        jobs.wake.notify_one();
    }
}

async fn queue(jobs: &Jobs, rows: &[NewJob], batch: Option<&NewBatch>) -> Result<(), NotQueued> {
    if rows.is_empty() && batch.is_none() {
        return Ok(());
    }
    jobs.store.enqueue(rows, batch).await.map_err(|error| {
        tracing::warn!(%error, jobs = rows.len(), "jobs were not queued");
        match error.is_unreachable() || error.is_contention() {
            true => NotQueued::Unavailable,
            false => NotQueued::Failed(error.to_string()),
        }
    })
}

impl Lengths {
    /// Whether the lanes have room for these, counting them in.
    async fn room(&mut self, jobs: &Jobs, rows: &[NewJob], unsaid: u64) -> Result<(), NotQueued> {
        let mut by_lane: BTreeMap<&str, u64> = BTreeMap::new();
        for row in rows {
            *by_lane.entry(&row.lane).or_default() += 1;
        }
        let live = jobs.live.load();
        for (name, more) in &by_lane {
            let lane = live.lanes.get(*name);
            let most = lane.and_then(|lane| lane.length).unwrap_or(unsaid);
            let believed = |count: u64| if count > most / 2 { BELIEVED } else { BELIEVED_FAR };
            let fresh = |(at, round, count): &&(Instant, u64, u64)| {
                *round == self.round || most > COUNTED_EACH_TIME && at.elapsed() < believed(*count)
            };
            let known = self.known.get(*name).filter(fresh);
            let count = match known {
                Some((_, _, count)) => *count,
                None => {
                    let counted = jobs.store.waiting_in(name, most.saturating_add(1)).await;
                    let count = counted.map_err(|_| NotQueued::Unavailable)?;
                    self.known.insert((*name).to_owned(), (Instant::now(), self.round, count));
                    count
                }
            };
            if count + more > most {
                let status = lane.map_or(503, |lane| lane.full);
                let detail = format!("the lane `{name}` allows {most} waiting jobs and has {count}");
                return Err(NotQueued::Full { status, detail });
            }
        }
        for (name, more) in by_lane {
            if let Some((_, _, count)) = self.known.get_mut(name) {
                *count += more;
            }
        }
        Ok(())
    }
}
