//! Jobs: accepted, claimed, journaled, ended. Whatever several processes must agree on is a row that is changed by
//! compare-and-set: a job under its fence, a lane under its version, an ordering key by its key. Nothing relies on
//! a lock that only one node of a cluster knows.
//!
//! [`claim`] claims jobs, [`record`] records outcomes, [`query`] reads and [`change`] changes them for
//! people, [`repair`] retries them and holds workflows, [`lanes`] counts lanes, [`purge`] deletes what is old,
//! [`schedule`] keeps timetables, [`callbacks`] what jobs wait for, [`deliveries`] keeps messages of senders, [`idempotency`] answers for repeated requests, [`notices`] who is notified.

mod callbacks;
mod change;
mod changes;
mod claim;
mod deliveries;
mod idempotency;
mod lanes;
mod notices;
mod purge;
mod query;
mod record;
mod repair;
mod schedule;

pub use callbacks::{CallbackState, NewWaking};
pub use changes::{AcceptedChange, Reading, WatchState};
pub use claim::{ClaimResult, Claimed, Head, LaneState, OutcomeRow, Room};
pub use deliveries::{Delivery, DeliveryFilter, DeliveryState, Firsts, MOST_PROCESSED, NewDelivery};
pub use idempotency::{Repeat, Stored};
pub use lanes::{BacklogRow, ComingRow, LaneDepth, Sample};
pub use notices::Notice;
pub use query::{BatchState, Fails, Filter, JobLine, JobRow, JobsPage, MOST_COUNTED, OfRequest, SEARCHED, Watched};
pub(crate) use query::{SEARCH_SECONDS, containing};
pub use record::{End, NewOutcome, Write};
pub use repair::{Adopted, HELD, Retry, WorkflowHold};
pub use schedule::{Firing, TimetableState};

use std::collections::{BTreeSet, HashSet};

use backon::{ExponentialBuilder, Retryable};
use kanzlei_model::caller::Caller;
use kanzlei_model::time::{Span, Timestamp};
use kanzlei_model::trace::Trace;
use sqlx::{MySql, QueryBuilder, Transaction};
use uuid::Uuid;

use crate::{Doing, Error, Result, Store};

/// Rows of one statement.
pub const ROWS: usize = 200;
/// Attempts of a transaction that loses against another one.
const TRIES: usize = 8;

pub use kanzlei_model::run::JobPhase;

/// A job to be queued. Values are JSON text.
#[derive(Clone, Debug, PartialEq)]
pub struct NewJob {
    /// UUID, version 7: sorts by creation time.
    pub id: Uuid,
    /// Name of the lane.
    pub lane: String,
    /// Name of the workflow.
    pub workflow: String,
    /// Revision of the workflow.
    pub revision: u32,
    /// Number of deploys and retirements at the time it was accepted; its plan comes from there.
    pub generation: u64,
    /// How many jobs stand between it and what began the chain.
    pub depth: u32,
    /// 1, the highest, to 9.
    pub priority: u8,
    /// Tags to find it by.
    pub tags: Vec<String>,
    /// Group of jobs that one step queued.
    pub batch: Option<Uuid>,
    /// Jobs of one key run one after another.
    pub ordering_key: Option<String>,
    /// Entry it came through: `POST /harbours/{harbour}/quotes`.
    pub entry: String,
    /// Whose credential the request carried.
    pub caller: Caller,
    /// `X-Request-Id` of the request that caused it.
    pub request_id: String,
    /// Whether the job is listed under that id, because its own id does not follow from it.
    pub listed: bool,
    /// Trace id of W3C Trace Context, 32 hexadecimal digits.
    pub trace: Trace,
    /// When it was accepted.
    pub accepted: Timestamp,
    /// When it is due.
    pub due: Timestamp,
    /// Input as JSON, sealed where `sealed` says so.
    pub input: String,
    /// Whether its values are sealed with the key of the secrets.
    pub sealed: bool,
    /// How long after its end the result is available.
    pub kept_for: Span,
    /// Whether a timetable queued it, so that there is no caller.
    pub unattended: bool,
}

/// Jobs of one list.
#[derive(Clone, Debug, PartialEq)]
pub struct NewBatch {
    /// UUID, version 7: sorts by creation time.
    pub id: Uuid,
    /// Name of the workflow.
    pub workflow: String,
    /// The run that queued them.
    pub run: String,
    /// Number of jobs in all.
    pub total: u32,
    /// When it was created.
    pub created: Timestamp,
}

/// Tags as they stand with a job.
fn tags_json(tags: &[String]) -> Option<String> {
    (!tags.is_empty()).then(|| serde_json::to_string(tags).unwrap_or_default())
}

/// Reads the tags of a job.
fn tags_of(json: Option<String>) -> Vec<String> {
    json.and_then(|json| serde_json::from_str(&json).ok()).unwrap_or_default()
}

impl Store {
    /// The installation's own bytes.
    pub async fn installation(&self) -> Result<Vec<u8>> {
        sqlx::query_scalar!("SELECT secret FROM installation WHERE id = 1")
            .fetch_one(&self.pool)
            .await
            .doing("reading the installation's secret")
    }

    /// Queues jobs in one transaction. An existing job stays as it is, so that the call can be repeated after a
    /// connection broke.
    pub async fn enqueue(&self, jobs: &[NewJob], batch: Option<&NewBatch>) -> Result<()> {
        self.enqueue_delivered(jobs, batch, &[]).await.map(|_| ())
    }

    /// The same with the messages that jobs are for: none is queued for a repetition. Returns the firsts of those.
    pub async fn enqueue_delivered(
        &self,
        jobs: &[NewJob],
        batch: Option<&NewBatch>,
        deliveries: &[NewDelivery],
    ) -> Result<Firsts> {
        repeated(|| self.try_enqueue(jobs, batch, deliveries)).await
    }

    async fn try_enqueue(
        &self,
        jobs: &[NewJob],
        batch: Option<&NewBatch>,
        deliveries: &[NewDelivery],
    ) -> Result<Firsts> {
        if batch.is_none() && deliveries.is_empty() && self.is_one_statement(jobs) {
            let mut connection = self.pool.acquire().await.map_err(Error::Unreachable)?;
            insert_rows(&mut connection, &rounded(jobs)).await?;
            return Ok(Firsts::new());
        }
        let mut tx = self.pool.begin().await.map_err(Error::Unreachable)?;
        let firsts = match deliveries {
            [] => Firsts::new(),
            deliveries => self.keep_deliveries(&mut tx, deliveries).await?,
        };
        let repeated = deliveries.iter().filter(|one| firsts.contains_key(&one.delivery.id));
        let left_out: HashSet<Uuid> = repeated.filter_map(|one| one.delivery.run).collect();
        let jobs: Vec<&NewJob> = jobs.iter().filter(|job| !left_out.contains(&job.id)).collect();
        if let Some(batch) = batch {
            sqlx::query!(
                "INSERT IGNORE INTO batch (id, workflow, run, total, created) VALUES (?, ?, ?, ?, ?)",
                batch.id.as_bytes().as_slice(),
                batch.workflow,
                batch.run,
                batch.total,
                batch.created.as_micros()
            )
            .execute(&mut *tx)
            .await
            .doing("queueing a group")?;
        }
        let fresh = self.insert_jobs(&mut tx, &jobs).await?;
        tx.commit().await.doing("queueing jobs")?;
        self.lanes.learn(fresh);
        Ok(firsts)
    }

    /// Writes jobs within a transaction; returns the lanes that are new, to be learned once it is committed.
    pub(super) async fn insert_jobs(
        &self,
        tx: &mut Transaction<'_, MySql>,
        jobs: &[&NewJob],
    ) -> Result<BTreeSet<String>> {
        let fresh = self.lanes.unknown(jobs.iter().map(|job| job.lane.as_str()));
        for lane in &fresh {
            sqlx::query!("INSERT IGNORE INTO lane_state (name) VALUES (?)", lane)
                .execute(&mut **tx)
                .await
                .doing("opening a lane")?;
        }
        for chunk in portions_within(jobs, |job| job.input.len()) {
            insert_rows(tx, chunk).await?;
        }
        let tagged: Vec<(&NewJob, &String)> =
            jobs.iter().flat_map(|job| job.tags.iter().map(move |tag| (*job, tag))).collect();
        for chunk in portions(&tagged) {
            let mut query: QueryBuilder<MySql> = QueryBuilder::new("INSERT INTO job_tag (tag, job) ");
            query.push_values(chunk, |mut row, (job, tag)| {
                row.push_bind(*tag).push_bind(job.id.as_bytes().as_slice());
            });
            query.push(" ON DUPLICATE KEY UPDATE job = VALUES(job)");
            query.build().execute(&mut **tx).await.doing("tagging jobs")?;
        }
        let listed: Vec<&NewJob> = jobs.iter().copied().filter(|job| job.listed).collect();
        for chunk in portions(&listed) {
            let mut query: QueryBuilder<MySql> = QueryBuilder::new("INSERT INTO job_request (job, request_id) ");
            query.push_values(chunk, |mut row, job| {
                row.push_bind(job.id.as_bytes().as_slice()).push_bind(&job.request_id);
            });
            query.push(" ON DUPLICATE KEY UPDATE job = VALUES(job)");
            query.build().execute(&mut **tx).await.doing("listing the requests of jobs")?;
        }
        Ok(fresh)
    }

    /// Whether jobs are queued by one statement, which is a transaction by itself: nothing is begun and committed around it.
    fn is_one_statement(&self, jobs: &[NewJob]) -> bool {
        let rows_only = jobs.iter().all(|job| job.tags.is_empty() && !job.listed);
        rows_only
            && (1..=TOGETHER).contains(&jobs.len())
            && jobs.iter().map(|job| job.input.len()).sum::<usize>() <= STATEMENT_BYTES
            && self.lanes.unknown(jobs.iter().map(|job| job.lane.as_str())).is_empty()
    }

    /// How many jobs wait in a lane, counted up to `most`.
    pub async fn waiting_in(&self, lane: &str, most: u64) -> Result<u64> {
        let counted = sqlx::query_scalar!(
            "SELECT COUNT(*) FROM (SELECT 1 AS one FROM job WHERE phase IN (1, 3) AND lane = ? LIMIT ?) waiting",
            lane,
            most
        )
        .fetch_one(&self.pool)
        .await
        .doing("counting a lane")?;
        Ok(counted as u64)
    }
}

/// Jobs up to the next number that has a statement: the one with the shortest input is repeated, which changes nothing.
fn rounded(jobs: &[NewJob]) -> Vec<&NewJob> {
    let wanted = if jobs.len() <= FEW { jobs.len() } else { jobs.len().next_multiple_of(FEW) };
    let shortest = jobs.iter().min_by_key(|job| job.input.len());
    let repeated = shortest.into_iter().flat_map(|job| std::iter::repeat_n(job, wanted - jobs.len()));
    jobs.iter().chain(repeated).collect()
}

/// Writes the rows of jobs in one statement.
async fn insert_rows(connection: &mut sqlx::MySqlConnection, jobs: &[&NewJob]) -> Result<()> {
    let mut query: QueryBuilder<MySql> = QueryBuilder::new(
        "INSERT INTO job (id, phase, lane, claim_rank, ready_at, workflow, revision, generation, depth, priority, tags, batch, ordering_key, entry, caller, caller_facts, request_id, trace_id, trace_parent, accepted, due, input, sealed, kept_for, unattended) ",
    );
    query.push_values(jobs, |mut row, job| {
        row.push_bind(job.id.as_bytes().as_slice())
            .push_bind(JobPhase::Ready as u8)
            .push_bind(&job.lane)
            .push_bind(job.priority)
            .push_bind(job.due.as_micros())
            .push_bind(&job.workflow)
            .push_bind(job.revision)
            .push_bind(job.generation)
            .push_bind(job.depth)
            .push_bind(job.priority)
            .push_bind(tags_json(&job.tags))
            .push_bind(job.batch.as_ref().map(|id| id.as_bytes().as_slice()))
            .push_bind(&job.ordering_key)
            .push_bind(&job.entry)
            .push_bind(&job.caller.name)
            .push_bind(job.caller.facts())
            .push_bind(&job.request_id)
            .push_bind(job.trace.id_text())
            .push_bind(job.trace.parent_text())
            .push_bind(job.accepted.as_micros())
            .push_bind(job.due.as_micros())
            .push_bind(&job.input)
            .push_bind(job.sealed)
            .push_bind(job.kept_for.as_micros())
            .push_bind(job.unattended);
    });
    // A repetition changes nothing; a value that does not fit is an error, not cut.
    query.push(" ON DUPLICATE KEY UPDATE id = VALUES(id)");
    query.build().execute(connection).await.doing("queueing jobs")?;
    Ok(())
}

/// Lanes that are known to have a row of their own; as many as there are documents, and names that jobs
/// were queued under.
#[derive(Debug, Default)]
pub(crate) struct Lanes(std::sync::Mutex<HashSet<String>>);

impl Lanes {
    fn known(&self) -> std::sync::MutexGuard<'_, HashSet<String>> {
        self.0.lock().unwrap_or_else(std::sync::PoisonError::into_inner)
    }

    fn unknown<'l>(&self, names: impl Iterator<Item = &'l str>) -> BTreeSet<String> {
        let known = self.known();
        names.filter(|name| !known.contains(*name)).map(str::to_owned).collect()
    }

    fn learn(&self, names: BTreeSet<String>) {
        self.known().extend(names);
    }
}

/// The pauses before a transaction that lost against another one is repeated.
fn pauses() -> ExponentialBuilder {
    let (least, most) = (std::time::Duration::from_millis(1), std::time::Duration::from_millis(50));
    ExponentialBuilder::default().with_min_delay(least).with_max_delay(most).with_jitter().with_max_times(TRIES - 1)
}

/// Repeats a transaction as long as it loses against others, [`TRIES`] times in all.
async fn repeated<T, F: Future<Output = Result<T>>>(transaction: impl FnMut() -> F) -> Result<T> {
    transaction.retry(pauses()).when(Error::is_contention).await
}

/// Splits rows into parts of 128, 64, 32, 16 or 8 and a last one of up to [`FEW`], so that few different statements exist: a connection prepares
/// each once and keeps it. Preparing one of a thousand parameters costs more than executing it, and dropping one delays the next statement of its
/// connection by up to 40 ms: the server acknowledges that late, and the client waits for it (Nagle's algorithm).
pub(crate) fn portions<T>(rows: &[T]) -> impl Iterator<Item = &[T]> {
    let mut left = rows;
    std::iter::from_fn(move || {
        let most = left.len().min(128);
        if most == 0 {
            return None;
        }
        let (portion, rest) = left.split_at(if most <= FEW { most } else { 1 << most.ilog2() });
        left = rest;
        Some(portion)
    })
}

/// Rows up to which each number has a statement of its own.
const FEW: usize = 8;

/// Jobs up to which multiples of [`FEW`] have one.
const TOGETHER: usize = 64;

/// Bytes of values in one statement; a server accepts 16 MiB by default (`max_allowed_packet`).
const STATEMENT_BYTES: usize = 4 << 20;

/// The same, each with no more bytes than a statement may have, or one row.
pub(crate) fn portions_within<T>(rows: &[T], size: impl Fn(&T) -> usize) -> impl Iterator<Item = &[T]> {
    let mut left = rows;
    std::iter::from_fn(move || {
        let mut bytes = 0;
        let fitting = left.iter().take(128).take_while(|row| {
            bytes += size(row);
            bytes <= STATEMENT_BYTES
        });
        let most = fitting.count().max(1).min(left.len());
        if most == 0 {
            return None;
        }
        let (portion, rest) = left.split_at(if most <= FEW { most } else { 1 << most.ilog2() });
        left = rest;
        Some(portion)
    })
}

/// Binds the ids of a list. The last id repeats up to the next power of two, which keeps the number of different statements small.
fn push_ids(query: &mut QueryBuilder<MySql>, ids: &[Uuid]) {
    let mut list = query.separated(", ");
    let repeated = ids.last().map(|last| std::iter::repeat_n(last, ids.len().next_power_of_two() - ids.len()));
    for id in ids.iter().chain(repeated.into_iter().flatten()) {
        list.push_bind(id.as_bytes().to_vec());
    }
}

pub(crate) fn uuid(bytes: &[u8]) -> Uuid {
    Uuid::from_slice(bytes).unwrap_or_default()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn portions_are_bounded_in_rows_and_bytes() {
        let sizes = |rows: &[usize]| portions_within(rows, |row| *row).map(<[usize]>::len).collect::<Vec<_>>();
        assert_eq!(sizes(&[1; 200]), [128, 64, 8]);
        assert_eq!(sizes(&[3 << 20; 3]), [1, 1, 1]);
        assert_eq!(sizes(&[9 << 20, 1, 1]), [1, 2]);
        assert_eq!(sizes(&[]), [0; 0]);
    }
}
