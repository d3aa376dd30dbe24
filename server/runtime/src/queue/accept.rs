//! Acceptance: a job is a row before its client receives an id. Jobs that arrive during a transaction share the
//! next one.

use std::collections::{BTreeMap, HashMap};
use std::sync::Arc;
use std::time::{Duration, Instant};

use kanzlei_store::queue::{Firsts, NewBatch, NewDelivery, NewJob, ROWS};
use tokio::sync::{mpsc, oneshot};
use uuid::Uuid;

use super::Jobs;
use crate::gathering::Gathering;

/// Bytes of inputs of one transaction: several statements, each below the server's `max_allowed_packet`.
const MOST_BYTES: usize = 4 << 20;
/// Copies of an input that exist while its job is accepted: the body, the parsed input, the row and its statement.
const COPIES: usize = 4;
/// Lanes that hold more jobs than this are counted at intervals; the others before each acceptance.
const COUNTED_EACH_TIME: u64 = 20_000;
/// How long the count of a large lane is used: while the lane is more than half full, and otherwise.
const BELIEVED: Duration = Duration::from_secs(5);
const BELIEVED_FAR: Duration = Duration::from_secs(60);

/// How long a client waits for one answer of the database, such as that its job is queued.
pub const PATIENCE: Duration = Duration::from_millis(2500);

/// Jobs to queue together.
pub struct Acceptance {
    asked: Asked,
    done: oneshot::Sender<Result<Option<Uuid>, NotQueued>>,
}

/// What is queued together.
#[derive(Default)]
struct Asked {
    rows: Vec<NewJob>,
    batch: Option<NewBatch>,
    /// The message that the job is for.
    delivery: Option<NewDelivery>,
    /// When its client stops waiting; `None` for a caller without a timeout.
    until: Option<Instant>,
}

impl Asked {
    /// Bytes of its rows.
    fn bytes(&self) -> usize {
        let delivery = self.delivery.as_ref().map_or(0, |one| one.delivery.body.len() + one.delivery.headers.len());
        self.rows.iter().map(|row| row.input.len()).sum::<usize>() + delivery
    }
}

/// Why jobs were not queued.
#[derive(Clone, Debug, PartialEq)]
pub enum NotQueued {
    /// The lane is full.
    Full {
        /// The status of the answer.
        status: u16,
        /// Which lane it is, and how full.
        detail: String,
    },
    /// The database is unavailable, or too many acceptances wait for it.
    Unavailable,
    /// The database did not answer in time; the jobs may be queued.
    Unanswered,
    /// The database rejects one of them.
    Failed(String),
}

impl From<NotQueued> for crate::error::Error {
    /// For what the service queues by itself, such as jobs of timetables.
    fn from(refused: NotQueued) -> Self {
        match refused {
            NotQueued::Full { status, detail } => Self::problem(status, "The queue is full", detail),
            NotQueued::Failed(detail) => Self::problem(500, "The job could not be queued", detail),
            NotQueued::Unavailable | NotQueued::Unanswered => {
                Self::problem(503, "The database is unavailable", "nothing was queued")
            }
        }
    }
}

impl Jobs {
    /// Queues jobs. They are in the database once this succeeds.
    pub async fn accept(&self, rows: Vec<NewJob>, batch: Option<NewBatch>) -> Result<(), NotQueued> {
        self.hand_in(Asked { rows, batch, ..Asked::default() }).await.map(|_| ())
    }

    /// The same for a client, who does not wait for a database that hangs.
    pub async fn accept_in_time(&self, rows: Vec<NewJob>) -> Result<(), NotQueued> {
        self.in_time(Asked { rows, ..Asked::default() }).await.map(|_| ())
    }

    /// Keeps a message and queues the job that processes it, in one transaction. Returns the first message where this one
    /// is a repetition; nothing is queued then.
    pub async fn accept_delivery(&self, row: NewJob, delivery: NewDelivery) -> Result<Option<Uuid>, NotQueued> {
        let kept = self.in_time(Asked { rows: vec![row], delivery: Some(delivery), ..Asked::default() }).await;
        if let Ok(first) = &kept {
            self.totals.deliveries.add(if first.is_some() { "repeated" } else { "accepted" });
        }
        kept
    }

    async fn in_time(&self, asked: Asked) -> Result<Option<Uuid>, NotQueued> {
        let until = Instant::now() + PATIENCE;
        let handed_in = self.hand_in(Asked { until: Some(until), ..asked });
        tokio::time::timeout_at(until.into(), handed_in).await.unwrap_or(Err(NotQueued::Unanswered))
    }

    async fn hand_in(&self, asked: Asked) -> Result<Option<Uuid>, NotQueued> {
        if asked.rows.is_empty() && asked.batch.is_none() {
            return Ok(None);
        }
        let bytes = COPIES * asked.bytes() + 1024 * asked.rows.len();
        let Some(_held) = self.try_hold(bytes) else { return Err(NotQueued::Unavailable) };
        let (done, receiver) = oneshot::channel();
        if self.acceptances.try_send(Acceptance { asked, done }).is_err() {
            return Err(NotQueued::Unavailable);
        }
        receiver.await.unwrap_or(Err(NotQueued::Unavailable))
    }
}

/// The known lengths of lanes.
#[derive(Default)]
struct Lengths {
    /// When each lane was counted, in which round, and how many jobs were accepted since.
    known: HashMap<String, (Instant, u64, u64)>,
    /// Number of the round; acceptances of one round are not in the database yet while others of it are checked.
    round: u64,
}

/// Accepts jobs until all senders are dropped. `length` bounds lanes whose document sets no bound.
pub async fn run(jobs: Arc<Jobs>, mut received: mpsc::Receiver<Acceptance>, length: u64) {
    let (mut lengths, mut gathering) = (Lengths::default(), Gathering::default());
    while let Some(first) = received.recv().await {
        gathering.pause().await;
        let begun = Instant::now();
        lengths.round += 1;
        let (mut count, mut size) = (first.asked.rows.len(), first.asked.bytes());
        let mut together = vec![first];
        while count < ROWS
            && size < MOST_BYTES
            && let Ok(next) = received.try_recv()
        {
            count += next.asked.rows.len();
            size += next.asked.bytes();
            together.push(next);
        }
        let (mut plain, mut apart) = (Vec::new(), Vec::new());
        let ready = together.iter().flat_map(|one| one.asked.rows.iter().map(|row| row.due)).min();
        for acceptance in together {
            // Its client was told that the database does not answer.
            if acceptance.asked.until.is_some_and(|until| until < Instant::now()) {
                continue;
            }
            match lengths.room(&jobs, &acceptance.asked.rows, length).await {
                Err(refused) => _ = acceptance.done.send(Err(refused)),
                // A list of jobs is a transaction of its own: all or none.
                Ok(()) if acceptance.asked.batch.is_some() => apart.push(acceptance),
                Ok(()) => plain.push(acceptance),
            }
        }
        let asked: Vec<&Asked> = plain.iter().map(|one| &one.asked).collect();
        match queue(&jobs, &asked).await {
            // A job that the database rejects must not fail the others.
            Err(NotQueued::Failed(_)) if plain.len() > 1 => apart.extend(plain),
            outcome => plain.into_iter().for_each(|one| one.answer(outcome.as_ref())),
        }
        for acceptance in apart {
            let outcome = queue(&jobs, &[&acceptance.asked]).await;
            acceptance.answer(outcome.as_ref());
        }
        gathering.done(begun, count);
        ready.into_iter().for_each(|ready| jobs.wake.ready_from(ready));
    }
}

impl Acceptance {
    /// Answers who waits for it.
    fn answer(self, outcome: Result<&Firsts, &NotQueued>) {
        let delivery = self.asked.delivery.as_ref().map(|one| one.delivery.id);
        let first = |firsts: &Firsts| delivery.and_then(|id| firsts.get(&id).copied());
        let _ = self.done.send(outcome.map(first).map_err(Clone::clone));
    }
}

async fn queue(jobs: &Jobs, asked: &[&Asked]) -> Result<Firsts, NotQueued> {
    let rows: Vec<NewJob> = asked.iter().flat_map(|one| one.rows.iter().cloned()).collect();
    let deliveries: Vec<NewDelivery> = asked.iter().filter_map(|one| one.delivery.clone()).collect();
    let batch = asked.iter().find_map(|one| one.batch.as_ref());
    if rows.is_empty() && batch.is_none() {
        return Ok(Firsts::new());
    }
    jobs.store.enqueue_delivered(&rows, batch, &deliveries).await.map_err(|error| {
        tracing::warn!(%error, jobs = rows.len(), "jobs were not queued");
        match error.is_unreachable() || error.is_contention() {
            true => NotQueued::Unavailable,
            false => NotQueued::Failed(error.to_string()),
        }
    })
}

impl Lengths {
    /// Checks that the lanes have room for these jobs, and counts them.
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
