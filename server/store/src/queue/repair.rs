//! Repairs by hand: retries and their undoing, waits that are moved, inputs that are corrected, and workflows that are held.
//!
//! A retry keeps how its job stood before. While no process has claimed the job since, which its fence says, the retry can be
//! undone: an outcome that a retry withdrew has `void` 2 until then, others have 1.

use std::collections::{BTreeMap, BTreeSet};

use kanzlei_model::time::Timestamp;
use sqlx::{MySql, QueryBuilder, Row};
use uuid::Uuid;

use super::record::release_ordering_key;
use super::{NewJob, portions, push_ids, tags_json, uuid};
use crate::{Doing, Error, Result, Store};

/// When a job is ready whose workflow is held: never, and unlike one that waits without end.
pub const HELD: Timestamp = Timestamp::from_micros(Timestamp::NEVER.as_micros() - 1);

/// A retry by hand.
#[derive(Clone, Debug)]
pub struct Retry<'r> {
    /// From the first step with the same input, or from the failed step.
    pub from_start: bool,
    /// Whether the last outcome is of the failed step, so that it is withdrawn; a step that failed by itself has none.
    pub withdraws: bool,
    /// When it is asked for.
    pub now: Timestamp,
    /// When the job is due.
    pub due: Timestamp,
    /// The change that it belongs to, for [`Store::undo_retry`].
    pub operation: Uuid,
    /// The revision that continues, where it is another one.
    pub with: Option<Adopted>,
    /// A line of the job's history.
    pub history: &'r str,
}

/// Another revision for a job.
#[derive(Clone, Debug, PartialEq)]
pub struct Adopted {
    /// Name of the workflow.
    pub workflow: String,
    /// Its revision.
    pub revision: u32,
    /// The generation at which that is live.
    pub generation: u64,
    /// The input as that revision accepts it.
    pub input: String,
    /// Whether `input` is sealed.
    pub sealed: bool,
}

/// A workflow that is held.
#[derive(Clone, Debug, PartialEq)]
pub struct WorkflowHold {
    /// Name of the workflow.
    pub workflow: String,
    /// Since when.
    pub since: Timestamp,
    /// By whom.
    pub who: String,
    /// Why.
    pub reason: String,
}

impl Store {
    /// Retries a failed or rejected job from its failed step (earlier steps are not repeated), or from the start with
    /// the same input. A cancelled job is retried from the start only. False when the job is none of these.
    pub async fn retry(&self, id: Uuid, retry: &Retry<'_>) -> Result<bool> {
        super::repeated(|| self.try_retry(id, retry)).await
    }

    async fn try_retry(&self, id: Uuid, retry: &Retry<'_>) -> Result<bool> {
        let mut tx = self.pool.begin().await.map_err(Error::Unreachable)?;
        let (key, from_start) = (id.as_bytes().as_slice(), retry.from_start);
        let found = sqlx::query_scalar!(
            "SELECT fence FROM job WHERE id = ? AND (phase IN (12, 14) OR (phase = 13 AND ?)) FOR UPDATE",
            key,
            from_start
        );
        if found.fetch_optional(&mut *tx).await.doing("retrying a job")?.is_none() {
            return Ok(false);
        }
        sqlx::query!(
            "REPLACE INTO retried (job, operation, at, fence, phase, claim_rank, ready_at, due, workflow, revision, generation, started, ended, stop, attempt, retries, outcomes, progress, status,
                reply, failure, input, sealed, expires, run_workflow, run_revision, run_state, run_entry, run_status, run_started, run_duration, run_caller, run_failed_at, run_kind, run_detail, run_segment, run_place)
             SELECT j.id, ?, ?, j.fence + 1, j.phase, j.claim_rank, j.ready_at, j.due, j.workflow, j.revision, j.generation, j.started, j.ended, j.stop, j.attempt, j.retries, j.outcomes, j.progress, j.status,
                j.reply, j.failure, j.input, j.sealed, j.expires, r.workflow, r.revision, r.state, r.entry, r.status, r.started, r.duration, r.caller, r.failed_at, r.kind, r.detail, r.segment, r.place
             FROM job j LEFT JOIN run r ON r.id = j.id WHERE j.id = ?",
            retry.operation.as_bytes().as_slice(),
            retry.now.as_micros(),
            key
        )
        .execute(&mut *tx)
        .await
        .doing("keeping how a job stood")?;
        let due = retry.due.as_micros();
        sqlx::query!(
            "UPDATE job SET phase = 1, claim_rank = IF(?, priority, 0), ready_at = ?, due = ?, ended = NULL, started = IF(?, NULL, started), worker = NULL, fence = fence + 1,
                    stop = 0, waits_for = IF(?, 'retry', NULL), attempt = attempt + IF(?, 1, 0), outcomes = IF(?, 0, outcomes), retries = 0, progress = NULL, moved = NULL,
                    status = NULL, reply = NULL, failure = NULL, expires = NULL, changes = changes + 1, history = CONCAT(COALESCE(history, ''), ?)
             WHERE id = ?",
            from_start, due, due, from_start, !from_start && retry.due > retry.now, from_start, from_start, retry.history, key
        )
        .execute(&mut *tx)
        .await
        .doing("retrying a job")?;
        if let Some(with) = &retry.with {
            sqlx::query!(
                "UPDATE job SET workflow = ?, revision = ?, generation = ?, input = ?, sealed = ? WHERE id = ?",
                with.workflow,
                with.revision,
                with.generation,
                with.input,
                with.sealed,
                key
            )
            .execute(&mut *tx)
            .await
            .doing("giving a job another revision")?;
        }
        sqlx::query!("UPDATE outcome SET void = 1 WHERE job = ? AND void = 2", key)
            .execute(&mut *tx)
            .await
            .doing("withdrawing an outcome")?;
        if !from_start {
            sqlx::query!(
                "UPDATE outcome o JOIN job j ON j.id = o.job AND j.attempt = o.attempt SET o.void = 2
                 WHERE o.job = ? AND o.void = 0 AND (o.closing = 1 OR ? AND o.seq = (SELECT seq FROM (SELECT MAX(seq) AS seq FROM outcome x JOIN job y ON y.id = x.job AND y.attempt = x.attempt WHERE x.job = ? AND x.void = 0 AND x.closing = 0) last))",
                key,
                retry.withdraws,
                key
            )
            .execute(&mut *tx)
            .await
            .doing("withdrawing an outcome")?;
        }
        // The journal shows the run by its final end.
        sqlx::query!(
            "DELETE r, t FROM run r LEFT JOIN run_trouble t ON t.state = r.state AND t.id = r.id WHERE r.id = ?",
            key
        )
        .execute(&mut *tx)
        .await
        .doing("retrying a job")?;
        tx.commit().await.doing("retrying a job")?;
        Ok(true)
    }

    /// Undoes a retry: the job stands as it did before. False when it has begun or ended since, or was retried by another change.
    pub async fn undo_retry(&self, id: Uuid, operation: Uuid, history: &str) -> Result<bool> {
        super::repeated(|| self.try_undo(id, operation, history)).await
    }

    async fn try_undo(&self, id: Uuid, operation: Uuid, history: &str) -> Result<bool> {
        let mut tx = self.pool.begin().await.map_err(Error::Unreachable)?;
        let (key, operation) = (id.as_bytes().as_slice(), operation.as_bytes().as_slice());
        let found = sqlx::query!(
            "SELECT j.ordering_key FROM job j JOIN retried r ON r.job = j.id WHERE j.id = ? AND r.operation = ? AND j.phase IN (1, 3) AND j.fence = r.fence FOR UPDATE",
            key,
            operation
        );
        let Some(found) = found.fetch_optional(&mut *tx).await.doing("undoing a retry")? else { return Ok(false) };
        sqlx::query!(
            "UPDATE job j JOIN retried r ON r.job = j.id SET j.phase = r.phase, j.claim_rank = r.claim_rank, j.ready_at = r.ready_at, j.due = r.due, j.workflow = r.workflow, j.revision = r.revision,
                j.generation = r.generation, j.started = r.started, j.ended = r.ended, j.stop = r.stop, j.waits_for = NULL, j.attempt = r.attempt, j.retries = r.retries, j.outcomes = r.outcomes,
                j.progress = r.progress, j.status = r.status, j.reply = r.reply, j.failure = r.failure, j.input = r.input, j.sealed = r.sealed, j.expires = r.expires, j.fence = j.fence + 1,
                j.changes = j.changes + 1, j.history = CONCAT(COALESCE(j.history, ''), ?)
             WHERE j.id = ?",
            history,
            key
        )
        .execute(&mut *tx)
        .await
        .doing("undoing a retry")?;
        sqlx::query!("UPDATE outcome SET void = 0 WHERE job = ? AND void = 2", key)
            .execute(&mut *tx)
            .await
            .doing("undoing a retry")?;
        sqlx::query!(
            "INSERT IGNORE INTO run (id, workflow, revision, state, entry, status, started, duration, caller, failed_at, kind, detail, segment, place)
             SELECT job, run_workflow, run_revision, run_state, run_entry, run_status, run_started, run_duration, run_caller, run_failed_at, run_kind, run_detail, run_segment, run_place
             FROM retried WHERE job = ? AND run_segment IS NOT NULL",
            key
        )
        .execute(&mut *tx)
        .await
        .doing("undoing a retry")?;
        sqlx::query!(
            "INSERT IGNORE INTO run_trouble (state, id, workflow) SELECT run_state, job, run_workflow FROM retried
             WHERE job = ? AND run_segment IS NOT NULL AND run_state <> 'succeeded'",
            key
        )
        .execute(&mut *tx)
        .await
        .doing("undoing a retry")?;
        sqlx::query!("DELETE FROM retried WHERE job = ?", key).execute(&mut *tx).await.doing("undoing a retry")?;
        if let Some(ordering_key) = &found.ordering_key {
            release_ordering_key(&mut tx, ordering_key, id).await?;
        }
        tx.commit().await.doing("undoing a retry")?;
        Ok(true)
    }

    /// The jobs that a change retried, oldest first, at most so many.
    pub async fn retried_by(&self, operation: Uuid, most: u32) -> Result<Vec<Uuid>> {
        let ids = sqlx::query_scalar!(
            "SELECT job FROM retried WHERE operation = ? ORDER BY job LIMIT ?",
            operation.as_bytes().as_slice(),
            most
        );
        let ids = ids.fetch_all(&self.pool).await.doing("reading what was retried")?;
        Ok(ids.iter().map(|id| uuid(id)).collect())
    }

    /// Forgets how jobs stood that were retried before an instant, at most 5000. Returns how many.
    pub async fn purge_retried(&self, before: Timestamp) -> Result<u64> {
        let done = sqlx::query!("DELETE FROM retried WHERE at < ? LIMIT 5000", before.as_micros());
        Ok(done.execute(&self.pool).await.doing("forgetting retries")?.rows_affected())
    }

    /// Moves waits of a job that waits for a time: `moved` maps effects to instants, `ready_at` is the earliest of all that it
    /// waits for. False when the job has changed since it was read.
    pub async fn move_waits(
        &self,
        id: Uuid,
        changes: u64,
        moved: &BTreeMap<u64, Timestamp>,
        ready_at: Timestamp,
        history: &str,
    ) -> Result<bool> {
        let moved: BTreeMap<u64, i64> = moved.iter().map(|(effect, at)| (*effect, at.as_micros())).collect();
        let done = sqlx::query!(
            "UPDATE job SET moved = ?, ready_at = ?, changes = changes + 1, history = CONCAT(COALESCE(history, ''), ?)
             WHERE id = ? AND changes = ? AND phase = 1 AND waits_for IN ('pause', 'callback')",
            serde_json::to_string(&moved).unwrap_or_default(),
            ready_at.as_micros(),
            history,
            id.as_bytes().as_slice(),
            changes
        );
        Ok(done.execute(&self.pool).await.doing("moving a wait")?.rows_affected() > 0)
    }

    /// Gives a job that has not begun another input, with the lane, the tags and the ordering key of `row`. False when it has
    /// begun or changed since it was read.
    pub async fn change_input(&self, row: &NewJob, changes: u64, history: &str) -> Result<bool> {
        super::repeated(|| self.try_change_input(row, changes, history)).await
    }

    async fn try_change_input(&self, row: &NewJob, changes: u64, history: &str) -> Result<bool> {
        let mut tx = self.pool.begin().await.map_err(Error::Unreachable)?;
        let key = row.id.as_bytes().as_slice();
        let found = sqlx::query!(
            "SELECT ordering_key FROM job WHERE id = ? AND changes = ? AND phase IN (1, 3) AND started IS NULL AND claim_rank > 0 FOR UPDATE",
            key,
            changes
        );
        let Some(found) = found.fetch_optional(&mut *tx).await.doing("changing an input")? else { return Ok(false) };
        sqlx::query!("INSERT IGNORE INTO lane_state (name) VALUES (?)", row.lane)
            .execute(&mut *tx)
            .await
            .doing("opening a lane")?;
        sqlx::query!(
            "UPDATE job SET phase = 1, input = ?, sealed = ?, lane = ?, tags = ?, ordering_key = ?, changes = changes + 1, history = CONCAT(COALESCE(history, ''), ?) WHERE id = ?",
            row.input,
            row.sealed,
            row.lane,
            tags_json(&row.tags),
            row.ordering_key,
            history,
            key
        )
        .execute(&mut *tx)
        .await
        .doing("changing an input")?;
        sqlx::query!("DELETE FROM job_tag WHERE job = ?", key).execute(&mut *tx).await.doing("tagging a job")?;
        for tag in &row.tags {
            sqlx::query!("INSERT IGNORE INTO job_tag (tag, job) VALUES (?, ?)", tag, key)
                .execute(&mut *tx)
                .await
                .doing("tagging a job")?;
        }
        if let Some(former) = found.ordering_key.filter(|former| row.ordering_key.as_ref() != Some(former)) {
            release_ordering_key(&mut tx, &former, row.id).await?;
        }
        tx.commit().await.doing("changing an input")?;
        Ok(true)
    }

    /// Adds a line to the history of a job.
    pub async fn add_history(&self, id: Uuid, history: &str) -> Result<()> {
        sqlx::query!(
            "UPDATE job SET changes = changes + 1, history = CONCAT(COALESCE(history, ''), ?) WHERE id = ?",
            history,
            id.as_bytes().as_slice()
        )
        .execute(&self.pool)
        .await
        .map(|_| ())
        .doing("writing the history of a job")
    }

    /// Holds a workflow: none of its jobs begins or continues. One that is held already keeps its reason.
    pub async fn hold_workflow(&self, hold: &WorkflowHold) -> Result<bool> {
        let done = sqlx::query!(
            "INSERT IGNORE INTO workflow_hold (workflow, since, who, reason) VALUES (?, ?, ?, ?)",
            hold.workflow,
            hold.since.as_micros(),
            hold.who,
            hold.reason
        );
        Ok(done.execute(&self.pool).await.doing("holding a workflow")?.rows_affected() > 0)
    }

    /// Releases a workflow with the jobs that were put aside under any of its names; returns how many, or `None` when it is not held.
    pub async fn release_workflow(&self, workflow: &str, names: &[String], now: Timestamp) -> Result<Option<u64>> {
        let done = sqlx::query!("DELETE FROM workflow_hold WHERE workflow = ?", workflow);
        if done.execute(&self.pool).await.doing("releasing a workflow")?.rows_affected() == 0 {
            return Ok(None);
        }
        let mut released = 0;
        for name in names {
            released += self.release_put_aside(name, now).await?;
        }
        Ok(Some(released))
    }

    async fn release_put_aside(&self, name: &str, now: Timestamp) -> Result<u64> {
        let mut released = 0;
        loop {
            let some = super::repeated(|| async {
                sqlx::query!(
                    "UPDATE job SET ready_at = IF(claim_rank = 0, ?, due), changes = changes + 1 WHERE workflow = ? AND phase = 1 AND ready_at = ? LIMIT 1000",
                    now.as_micros(),
                    name,
                    HELD.as_micros()
                )
                .execute(&self.pool)
                .await
                .doing("releasing the jobs of a workflow")
            });
            let some = some.await?.rows_affected();
            released += some;
            if some < 1000 {
                return Ok(released);
            }
        }
    }

    /// Workflows that are held.
    pub async fn workflow_holds(&self) -> Result<Vec<WorkflowHold>> {
        let rows = sqlx::query!("SELECT workflow, since, who, reason FROM workflow_hold ORDER BY workflow")
            .fetch_all(&self.pool)
            .await
            .doing("reading held workflows")?;
        let holds = rows.into_iter().map(|row| WorkflowHold {
            workflow: row.workflow,
            since: Timestamp::from_micros(row.since),
            who: row.who,
            reason: row.reason,
        });
        Ok(holds.collect())
    }

    /// Puts claimed jobs of a workflow aside until it is released. False, and nothing is done, when it is not held any more.
    pub async fn put_aside(&self, worker: Uuid, workflow: &str, jobs: &[Uuid]) -> Result<bool> {
        super::repeated(|| self.try_put_aside(worker, workflow, jobs)).await
    }

    async fn try_put_aside(&self, worker: Uuid, workflow: &str, jobs: &[Uuid]) -> Result<bool> {
        let mut tx = self.pool.begin().await.map_err(Error::Unreachable)?;
        // A release conflicts with this row, on one node by its lock and over several nodes by certification.
        let held = sqlx::query!("UPDATE workflow_hold SET version = version + 1 WHERE workflow = ?", workflow);
        if held.execute(&mut *tx).await.doing("putting jobs aside")?.rows_affected() == 0 {
            return Ok(false);
        }
        for chunk in portions(jobs) {
            let mut query: QueryBuilder<MySql> = QueryBuilder::new(
                "UPDATE job SET phase = 1, worker = NULL, fence = fence + 1, started = IF(claim_rank = 0, started, NULL), ready_at = ",
            );
            query.push_bind(HELD.as_micros()).push(" WHERE phase = 2 AND worker = ");
            query.push_bind(worker.as_bytes().to_vec()).push(" AND id IN (");
            push_ids(&mut query, chunk);
            query.push(")");
            query.build().execute(&mut *tx).await.doing("putting jobs aside")?;
            // Those that have not begun make way for others of their ordering key.
            let mut query: QueryBuilder<MySql> = QueryBuilder::new(
                "SELECT id, ordering_key FROM job WHERE ordering_key IS NOT NULL AND claim_rank > 0 AND phase = 1 AND ready_at = ",
            );
            query.push_bind(HELD.as_micros()).push(" AND id IN (");
            push_ids(&mut query, chunk);
            query.push(")");
            for row in query.build().fetch_all(&mut *tx).await.doing("putting jobs aside")? {
                let id: Vec<u8> = row.try_get(0).doing("putting jobs aside")?;
                let key: String = row.try_get(1).doing("putting jobs aside")?;
                release_ordering_key(&mut tx, &key, uuid(&id)).await?;
            }
        }
        tx.commit().await.doing("putting jobs aside")?;
        Ok(true)
    }
}

/// The names in the list of held workflows that [`Store::heads`] reads.
pub(super) fn held_names(list: Option<&str>) -> BTreeSet<String> {
    list.into_iter().flat_map(|list| list.split(',')).map(str::to_owned).collect()
}

/// Waits that were moved by hand, as their column has them.
pub(super) fn moved_waits(json: Option<&str>) -> BTreeMap<u64, Timestamp> {
    let read = json.and_then(|json| serde_json::from_str::<BTreeMap<u64, i64>>(json).ok()).unwrap_or_default();
    read.into_iter().map(|(effect, at)| (effect, Timestamp::from_micros(at))).collect()
}
