//! Records running jobs, many in one transaction: outcomes, progress, and how a job leaves its worker. Every job is
//! checked under its fence first; a writer with an old fence is refused.

use std::collections::HashMap;

use kanzlei_model::time::Timestamp;
use sqlx::{MySql, QueryBuilder, Row};
use uuid::Uuid;

use super::{JobPhase, portions, push_ids, uuid};
use crate::{Doing, Error, Result, Store};

/// An outcome to record.
#[derive(Clone, Debug, PartialEq)]
pub struct NewOutcome {
    /// Position among the outcomes of its attempt.
    pub seq: u32,
    /// Number of the effect in its run.
    pub effect: u64,
    /// When the outcome was fed to the run.
    pub at: Timestamp,
    /// Outcome as JSON, sealed where the job is.
    pub data: String,
    /// Whether `data` is sealed.
    pub sealed: bool,
    /// Whether it came behind the failure of the run, to the steps that handle it.
    pub closing: bool,
}

/// How a job leaves its worker.
#[derive(Clone, Debug, PartialEq)]
pub struct End {
    /// Phase, as stored.
    pub phase: JobPhase,
    /// 0 for a job that has started, otherwise its priority, 1 to 9.
    pub claim_rank: u8,
    /// When it is ready again, or when it ended.
    pub ready_at: Timestamp,
    /// What it waits for: `pause`, `callback` or `retry`.
    pub waits_for: Option<&'static str>,
    /// Failure as JSON, masked.
    pub failure: Option<String>,
    /// How often its retry policy has retried it in this attempt.
    pub retries: u32,
    /// Until when the result is available.
    pub expires: Option<Timestamp>,
    /// Makes the latest outcome void, because the failed step is retried.
    pub void_last: bool,
    /// A line for the job's own history.
    pub history: Option<String>,
    /// Ordering key that the end frees for the next job.
    pub ordering_key: Option<String>,
    /// Who is notified, kept in the same transaction.
    pub notice: Option<Box<super::Notice>>,
}

/// The write of one running job.
#[derive(Clone, Debug, PartialEq)]
pub struct Write {
    /// Id of the job.
    pub job: Uuid,
    /// Incremented at each claim and reclaim; a write with an older one is refused.
    pub fence: u32,
    /// How often it was started from its first step.
    pub attempt: u32,
    /// Outcomes to add, in order.
    pub outcomes: Vec<NewOutcome>,
    /// 0 to 1.
    pub progress: Option<f64>,
    /// All notes to be shown, as JSON.
    pub notes: Option<String>,
    /// Status, and the answer as JSON.
    pub reply: Option<(u16, String)>,
    /// How the job leaves its worker, where it does.
    pub end: Option<End>,
}

impl Store {
    /// Deletes the outcomes of jobs that ended and cannot be retried: their runs are in the journal.
    ///
    /// # Errors
    /// When the database is unavailable.
    pub async fn drop_outcomes(&self, jobs: &[Uuid]) -> Result<()> {
        for some in portions(jobs) {
            let mut query: QueryBuilder<MySql> = QueryBuilder::new("DELETE FROM outcome WHERE job IN (");
            super::push_ids(&mut query, some);
            query.push(")");
            query.build().execute(&self.pool).await.doing("deleting outcomes")?;
        }
        Ok(())
    }

    /// Records jobs in one transaction; returns for each whether this worker still owns it. Writes for other jobs are
    /// dropped. The call can be repeated when its success is unknown (a connection broke during the commit): existing
    /// records stay as they are.
    pub async fn write_jobs(&self, writes: &[&Write], now: Timestamp) -> Result<Vec<bool>> {
        super::repeated(|| self.try_write(writes, now)).await
    }

    async fn try_write(&self, writes: &[&Write], now: Timestamp) -> Result<Vec<bool>> {
        let mut tx = self.pool.begin().await.map_err(Error::Unreachable)?;
        let mut found = HashMap::with_capacity(writes.len());
        for chunk in portions(writes) {
            let mut query: QueryBuilder<MySql> = QueryBuilder::new("SELECT id, fence, phase FROM job WHERE id IN (");
            push_ids(&mut query, &chunk.iter().map(|write| write.job).collect::<Vec<_>>());
            query.push(") FOR UPDATE");
            for row in query.build().fetch_all(&mut *tx).await.doing("reading fences")? {
                let id: Vec<u8> = row.try_get(0).doing("reading fences")?;
                let fence: u32 = row.try_get(1).doing("reading fences")?;
                found.insert(uuid(&id), (fence, row.try_get::<u8, _>(2).doing("reading fences")?));
            }
        }
        let running = JobPhase::Running as u8;
        let stands =
            |write: &Write| found.get(&write.job).filter(|(fence, _)| *fence == write.fence).map(|(_, at)| *at);
        let left = |write: &Write, at: u8| write.end.as_ref().is_some_and(|end| end.phase as u8 == at);
        // A job that left under this fence did so by an earlier call with this write.
        let ours =
            writes.iter().map(|write| stands(write).is_some_and(|at| at == running || left(write, at))).collect();
        let good: Vec<&Write> = writes.iter().filter(|write| stands(write) == Some(running)).copied().collect();
        let outcomes: Vec<(&Write, &NewOutcome)> =
            good.iter().flat_map(|write| write.outcomes.iter().map(move |outcome| (*write, outcome))).collect();
        for chunk in portions(&outcomes) {
            let mut query: QueryBuilder<MySql> =
                QueryBuilder::new("INSERT IGNORE INTO outcome (job, attempt, seq, effect, at, data, sealed, closing) ");
            query.push_values(chunk, |mut row, (write, outcome)| {
                row.push_bind(write.job.as_bytes().as_slice())
                    .push_bind(write.attempt)
                    .push_bind(outcome.seq)
                    .push_bind(outcome.effect)
                    .push_bind(outcome.at.as_micros())
                    .push_bind(&outcome.data)
                    .push_bind(outcome.sealed)
                    .push_bind(outcome.closing);
            });
            query.build().execute(&mut *tx).await.doing("writing outcomes")?;
        }
        for chunk in portions(&good) {
            update(&mut tx, chunk, now).await?;
        }
        for write in &good {
            let Some(end) = &write.end else { continue };
            if end.void_last {
                sqlx::query!(
                    "UPDATE outcome SET void = 1 WHERE job = ? AND attempt = ? AND void = 0 ORDER BY seq DESC LIMIT 1",
                    write.job.as_bytes().as_slice(),
                    write.attempt
                )
                .execute(&mut *tx)
                .await
                .doing("taking an outcome back")?;
            }
            if let Some(notice) = &end.notice {
                super::notices::add_notice(&mut tx, notice).await?;
            }
            if let Some(ordering_key) = end.ordering_key.as_deref().filter(|_| end.phase.ended()) {
                release_ordering_key(&mut tx, ordering_key, write.job).await?;
            }
        }
        tx.commit().await.doing("writing jobs")?;
        Ok(ours)
    }
}

/// Makes the next job of an ordering key ready once its predecessor has ended.
pub(super) async fn release_ordering_key(tx: &mut sqlx::MySqlConnection, ordering_key: &str, job: Uuid) -> Result<()> {
    sqlx::query!("DELETE FROM ordering_holder WHERE name = ? AND job = ?", ordering_key, job.as_bytes().as_slice())
        .execute(&mut *tx)
        .await
        .doing("giving an ordering key on")?;
    sqlx::query!(
        "UPDATE job SET phase = 1 WHERE ordering_key = ? AND phase = 3 ORDER BY claim_rank, ready_at LIMIT 1",
        ordering_key
    )
    .execute(&mut *tx)
    .await
    .doing("giving an ordering key on")?;
    Ok(())
}

/// Stands for a number that a write leaves unchanged; no job has these values.
const UNCHANGED_READY: Timestamp = Timestamp::from_micros(-1);
const UNCHANGED_RANK: u8 = u8::MAX;
const UNCHANGED_RETRIES: u32 = u32::MAX;

/// Updates all rows in one statement.
///
/// Every row exists and is locked, so each insert meets its primary key and turns into an update; what a
/// row must have but this does not change is filled with nothing. A join with a derived table would do the
/// same, but its texts make it a table on disk, for each batch anew.
async fn update(tx: &mut sqlx::MySqlConnection, writes: &[&Write], now: Timestamp) -> Result<()> {
    let mut query: QueryBuilder<MySql> = QueryBuilder::new(
        "INSERT INTO job (id, phase, claim_rank, ready_at, waits_for, failure, retries, expires, outcomes, progress, notes, status, reply, history,
         lane, workflow, revision, generation, priority, entry, request_id, trace_id, accepted, due, input, kept_for) ",
    );
    query.push_values(writes, |mut row, write| {
        let end = write.end.as_ref();
        row.push_bind(write.job.as_bytes().to_vec())
            .push_bind(end.map_or(JobPhase::Running, |end| end.phase) as u8)
            .push_bind(end.map_or(UNCHANGED_RANK, |end| end.claim_rank))
            .push_bind(end.map_or(UNCHANGED_READY, |end| end.ready_at).as_micros())
            .push_bind(end.and_then(|end| end.waits_for))
            .push_bind(end.and_then(|end| end.failure.as_deref()))
            .push_bind(end.map_or(UNCHANGED_RETRIES, |end| end.retries))
            .push_bind(end.and_then(|end| end.expires).map(Timestamp::as_micros))
            .push_bind(write.outcomes.last().map_or(0, |outcome| outcome.seq + 1))
            .push_bind(write.progress)
            .push_bind(write.notes.as_deref())
            .push_bind(write.reply.as_ref().map(|(status, _)| *status))
            .push_bind(write.reply.as_ref().map(|(_, reply)| reply.as_str()))
            .push_bind(end.and_then(|end| end.history.as_deref()))
            .push("'', '', 0, 0, 0, '', '', '', 0, 0, '', 0");
    });
    query
        .push(" ON DUPLICATE KEY UPDATE ready_at = CASE VALUES(ready_at) WHEN ")
        .push_bind(UNCHANGED_READY.as_micros());
    query
        .push(" THEN ready_at ELSE IF(VALUES(phase) = 1 AND signalled = 1, LEAST(VALUES(ready_at), ")
        .push_bind(now.as_micros());
    query.push("), VALUES(ready_at)) END, claim_rank = IF(VALUES(claim_rank) = ").push_bind(UNCHANGED_RANK);
    query.push(", claim_rank, VALUES(claim_rank)), retries = IF(VALUES(retries) = ").push_bind(UNCHANGED_RETRIES);
    query.push(
        ", retries, VALUES(retries)), phase = VALUES(phase),
         worker = IF(VALUES(phase) = 2, worker, NULL), waits_for = VALUES(waits_for),
         failure = IF(VALUES(phase) = 2, failure, VALUES(failure)), expires = VALUES(expires),
         ended = IF(VALUES(phase) > 10, VALUES(ready_at), NULL), outcomes = GREATEST(outcomes, VALUES(outcomes)),
         progress = COALESCE(VALUES(progress), progress), notes = COALESCE(VALUES(notes), notes),
         status = COALESCE(VALUES(status), status), reply = COALESCE(VALUES(reply), reply),
         history = IF(VALUES(history) IS NULL, history, CONCAT(COALESCE(history, ''), VALUES(history), '\\n')),
         changes = changes + 1",
    );
    query.build().execute(&mut *tx).await.doing("writing jobs")?;
    Ok(())
}
