//! Reading jobs, lanes and groups, and changing them by hand: for clients, the command line, the console.

use sqlx::{MySql, QueryBuilder, Row};
use uuid::Uuid;

use super::write::give_turn_on;
use super::{Phase, TRIES, uuid};
use crate::{Doing, Error, Micros, Result, Store};

/// How long a search may take.
const SEARCH_SECONDS: &str = "SET STATEMENT max_statement_time = 3 FOR ";

/// A job as a whole, without the outcomes of its steps.
#[derive(Clone, Debug, PartialEq)]
pub struct JobRow {
    pub id: Uuid,
    pub phase: Phase,
    pub lane: String,
    pub wake: Micros,
    pub workflow: String,
    pub revision: u32,
    pub generation: u64,
    pub priority: u8,
    pub tag: Option<String>,
    pub batch: Option<Uuid>,
    pub turn: Option<String>,
    pub entry: String,
    pub caller: Option<String>,
    pub request_id: String,
    pub trace_id: String,
    pub accepted: Micros,
    pub due: Micros,
    pub started: Option<Micros>,
    pub ended: Option<Micros>,
    pub worker: Option<Uuid>,
    pub stop: bool,
    pub waits: Option<String>,
    pub attempt: u32,
    pub tries: u32,
    pub outcomes: u32,
    pub changes: u64,
    pub progress: Option<f64>,
    pub notes: Option<String>,
    pub status: Option<u16>,
    pub reply: Option<String>,
    pub failure: Option<String>,
    pub input: String,
    pub sealed: bool,
    pub past: Option<String>,
    pub expires: Option<Micros>,
}

impl JobRow {
    /// A job as it stands right after it was queued, its input left out.
    pub fn queued(job: &super::NewJob) -> Self {
        let job = super::NewJob { input: String::new(), ..job.clone() };
        JobRow {
            id: job.id,
            phase: Phase::Ready,
            lane: job.lane,
            wake: job.due,
            workflow: job.workflow,
            revision: job.revision,
            generation: job.generation,
            priority: job.priority,
            tag: job.tag,
            batch: job.batch,
            turn: job.turn,
            entry: job.entry,
            caller: job.caller,
            request_id: job.request_id,
            trace_id: job.trace_id,
            accepted: job.accepted,
            due: job.due,
            started: None,
            ended: None,
            worker: None,
            stop: false,
            waits: None,
            attempt: 1,
            tries: 0,
            outcomes: 0,
            changes: 1,
            progress: None,
            notes: None,
            status: None,
            reply: None,
            failure: None,
            input: job.input,
            sealed: job.sealed,
            past: None,
            expires: None,
        }
    }
}

/// A job in a listing.
#[derive(Clone, Debug, PartialEq)]
pub struct JobLine {
    pub id: Uuid,
    pub phase: Phase,
    pub lane: String,
    pub wake: Micros,
    pub workflow: String,
    pub revision: u32,
    pub priority: u8,
    pub tag: Option<String>,
    pub batch: Option<Uuid>,
    pub turn: Option<String>,
    pub entry: String,
    pub accepted: Micros,
    pub due: Micros,
    pub started: Option<Micros>,
    pub ended: Option<Micros>,
    pub stop: bool,
    pub waits: Option<String>,
    pub tries: u32,
    pub progress: Option<f64>,
    pub failure: Option<String>,
}

/// What somebody who follows a job looks for.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Watched {
    pub id: Uuid,
    pub phase: Phase,
    pub changes: u64,
    pub replied: bool,
}

/// Which jobs are meant; everything that is said must fit.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Filter {
    /// `scheduled`, `queued`, `running`, `waiting`, `succeeded`, `failed`, `cancelled`.
    pub state: Option<String>,
    pub lane: Option<String>,
    pub workflow: Option<String>,
    pub tag: Option<String>,
    pub batch: Option<Uuid>,
    pub due_from: Option<Micros>,
    pub due_until: Option<Micros>,
    /// Somewhere in the input.
    pub text: Option<String>,
    /// Only jobs before this one, for the next page.
    pub before: Option<Uuid>,
    pub limit: u32,
}

/// How the jobs of a list stand.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct BatchState {
    pub workflow: String,
    pub run: String,
    pub created: Micros,
    pub total: u32,
    pub done: u64,
    pub failed: u64,
    pub cancelled: u64,
    pub running: u64,
    pub left: u64,
    /// The lane of those that are left.
    pub lane: Option<String>,
    /// When the last one that is left is due, and when the first one began.
    pub last_due: Option<Micros>,
    pub first_started: Option<Micros>,
}

/// How a lane stands.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct LaneDepth {
    pub lane: String,
    pub scheduled: u64,
    pub queued: u64,
    pub running: u64,
    /// When the longest-waiting one was due.
    pub oldest: Option<Micros>,
}

/// Ten seconds of a lane.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Sample {
    pub lane: String,
    pub at: Micros,
    pub waiting: u64,
    pub begun: u64,
    pub done: u64,
    pub failed: u64,
    /// Microseconds between due and begun, summed and at most.
    pub late: u64,
    pub latest: u64,
}

fn phase(code: u8) -> Phase {
    Phase::of(code).unwrap_or(Phase::Failed)
}

impl Store {
    pub async fn job(&self, id: Uuid) -> Result<Option<JobRow>> {
        let row = sqlx::query!(
            "SELECT id, phase, lane, wake, workflow, revision, generation, priority, tag, batch, turn, entry, caller, request_id, trace_id,
                    accepted, due, started, ended, worker AS `worker: Vec<u8>`, stop AS `stop: bool`, waits, attempt, tries, outcomes, changes, progress,
                    notes, status, reply, failure, input, sealed AS `sealed: bool`, past, expires
             FROM job WHERE id = ?",
            id.as_bytes().as_slice()
        )
        .fetch_optional(&self.pool)
        .await
        .doing("reading a job")?;
        Ok(row.map(|row| JobRow {
            id: uuid(&row.id),
            phase: phase(row.phase),
            lane: row.lane,
            wake: row.wake,
            workflow: row.workflow,
            revision: row.revision,
            generation: row.generation,
            priority: row.priority,
            tag: row.tag,
            batch: row.batch.as_deref().map(uuid),
            turn: row.turn,
            entry: row.entry,
            caller: row.caller,
            request_id: row.request_id,
            trace_id: row.trace_id,
            accepted: row.accepted,
            due: row.due,
            started: row.started,
            ended: row.ended,
            worker: row.worker.as_deref().map(uuid),
            stop: row.stop,
            waits: row.waits,
            attempt: row.attempt,
            tries: row.tries,
            outcomes: row.outcomes,
            changes: row.changes,
            progress: row.progress,
            notes: row.notes,
            status: row.status,
            reply: row.reply,
            failure: row.failure,
            input: row.input,
            sealed: row.sealed,
            past: row.past,
            expires: row.expires,
        }))
    }

    /// How jobs that are followed stand.
    pub async fn watched(&self, ids: &[Uuid]) -> Result<Vec<Watched>> {
        let mut out = Vec::with_capacity(ids.len());
        for chunk in super::portions(ids) {
            let mut query: QueryBuilder<MySql> =
                QueryBuilder::new("SELECT id, phase, changes, status IS NOT NULL FROM job WHERE id IN (");
            super::push_ids(&mut query, chunk);
            query.push(")");
            for row in query.build().fetch_all(&self.pool).await.doing("following jobs")? {
                let id: Vec<u8> = row.try_get(0).doing("following jobs")?;
                out.push(Watched {
                    id: uuid(&id),
                    phase: phase(row.try_get(1).doing("following jobs")?),
                    changes: row.try_get(2).doing("following jobs")?,
                    replied: row.try_get::<i64, _>(3).doing("following jobs")? != 0,
                });
            }
        }
        Ok(out)
    }

    /// Jobs, newest first.
    pub async fn jobs(&self, filter: &Filter, now: Micros) -> Result<Vec<JobLine>> {
        let mut query: QueryBuilder<MySql> = QueryBuilder::new(SEARCH_SECONDS);
        query.push(
            "SELECT id, phase, lane, wake, workflow, revision, priority, tag, batch, turn, entry, accepted, due, started, ended, stop, waits, tries, progress, failure FROM job WHERE 1 = 1",
        );
        narrow(&mut query, filter, now);
        query.push(" ORDER BY id DESC LIMIT ").push_bind(filter.limit);
        let rows = query.build().persistent(false).fetch_all(&self.pool).await.doing("listing jobs")?;
        rows.into_iter()
            .map(|row| {
                let get = |at: usize| row.try_get::<Vec<u8>, _>(at);
                Ok(JobLine {
                    id: uuid(&get(0)?),
                    phase: phase(row.try_get(1)?),
                    lane: row.try_get(2)?,
                    wake: row.try_get(3)?,
                    workflow: row.try_get(4)?,
                    revision: row.try_get(5)?,
                    priority: row.try_get(6)?,
                    tag: row.try_get(7)?,
                    batch: row.try_get::<Option<Vec<u8>>, _>(8)?.as_deref().map(uuid),
                    turn: row.try_get(9)?,
                    entry: row.try_get(10)?,
                    accepted: row.try_get(11)?,
                    due: row.try_get(12)?,
                    started: row.try_get(13)?,
                    ended: row.try_get(14)?,
                    stop: row.try_get::<u8, _>(15)? != 0,
                    waits: row.try_get(16)?,
                    tries: row.try_get(17)?,
                    progress: row.try_get(18)?,
                    failure: row.try_get(19)?,
                })
            })
            .collect::<std::result::Result<_, sqlx::Error>>()
            .doing("listing jobs")
    }

    /// Ids of the jobs that a filter means, oldest first.
    pub async fn job_ids(&self, filter: &Filter, now: Micros) -> Result<Vec<Uuid>> {
        let mut query: QueryBuilder<MySql> = QueryBuilder::new(SEARCH_SECONDS);
        query.push("SELECT id FROM job WHERE 1 = 1");
        narrow(&mut query, filter, now);
        query.push(" ORDER BY id LIMIT ").push_bind(filter.limit);
        let rows = query.build().persistent(false).fetch_all(&self.pool).await.doing("selecting jobs")?;
        rows.iter().map(|row| row.try_get::<Vec<u8>, _>(0).map(|id| uuid(&id)).doing("selecting jobs")).collect()
    }

    /// How many jobs there are by state, over all that a filter without a state means; each counted up
    /// to a million.
    pub async fn job_counts(&self, now: Micros) -> Result<Vec<(String, u64)>> {
        let rows = sqlx::query!(
            "SELECT state AS `state!: String`, CAST(SUM(n) AS UNSIGNED) AS `n!: u64` FROM (
                 SELECT CASE WHEN phase = 1 AND place = 0 THEN 'waiting' WHEN phase = 1 THEN 'scheduled' WHEN phase = 2 THEN 'running'
                             WHEN phase = 3 THEN 'queued' WHEN phase = 11 THEN 'succeeded' WHEN phase = 12 THEN 'failed' ELSE 'cancelled' END AS state,
                        COUNT(*) AS n FROM job GROUP BY phase, place
                 UNION ALL SELECT 'due', COUNT(*) FROM job WHERE phase = 1 AND place > 0 AND wake <= ?) counted
             GROUP BY state",
            now
        )
        .fetch_all(&self.pool)
        .await
        .doing("counting jobs")?;
        let mut counts: std::collections::BTreeMap<String, u64> =
            rows.into_iter().map(|row| (row.state, row.n)).collect();
        let due = counts.remove("due").unwrap_or(0);
        if let Some(scheduled) = counts.get_mut("scheduled") {
            *scheduled = scheduled.saturating_sub(due);
        }
        *counts.entry("queued".into()).or_default() += due;
        Ok(counts.into_iter().collect())
    }

    /// Cancels a job that waits, or asks one that runs to stop. Gives the phase in which it was found.
    pub async fn cancel_job(&self, id: Uuid, now: Micros, past: &str) -> Result<Option<Phase>> {
        for attempt in 1.. {
            match self.try_cancel(id, now, past).await {
                Err(error) if error.is_contention() && attempt < TRIES => super::again(attempt).await,
                other => return other,
            }
        }
        Err(Error::Contended)
    }

    async fn try_cancel(&self, id: Uuid, now: Micros, past: &str) -> Result<Option<Phase>> {
        let mut tx = self.pool.begin().await.map_err(Error::Unreachable)?;
        let key = id.as_bytes().as_slice();
        let Some(row) = sqlx::query!("SELECT phase, turn FROM job WHERE id = ? FOR UPDATE", key)
            .fetch_optional(&mut *tx)
            .await
            .doing("cancelling a job")?
        else {
            return Ok(None);
        };
        let found = phase(row.phase);
        match found {
            Phase::Ready | Phase::Behind => {
                sqlx::query!(
                    "UPDATE job SET phase = 13, wake = ?, ended = ?, waits = NULL, stop = 1, fence = fence + 1, changes = changes + 1,
                            expires = ? + kept_for, past = CONCAT(COALESCE(past, ''), ?) WHERE id = ?",
                    now, now, now, past, key
                )
                .execute(&mut *tx)
                .await
                .doing("cancelling a job")?;
                if let Some(turn) = &row.turn {
                    give_turn_on(&mut tx, turn, id).await?;
                }
            }
            Phase::Running => {
                sqlx::query!(
                    "UPDATE job SET stop = 1, changes = changes + 1, past = CONCAT(COALESCE(past, ''), ?) WHERE id = ? AND stop = 0",
                    past, key
                )
                .execute(&mut *tx)
                .await
                .doing("stopping a job")?;
            }
            _ => {}
        }
        tx.commit().await.doing("cancelling a job")?;
        Ok(Some(found))
    }

    /// Cancels those of many jobs that wait and belong to no turn, in one transaction; gives which. The
    /// others are for [`Store::cancel_job`].
    pub async fn cancel_waiting(&self, ids: &[Uuid], now: Micros, past: &str) -> Result<Vec<Uuid>> {
        let mut tx = self.pool.begin().await.map_err(Error::Unreachable)?;
        let mut query: QueryBuilder<MySql> =
            QueryBuilder::new("SELECT id FROM job WHERE phase = 1 AND turn IS NULL AND id IN (");
        super::push_ids(&mut query, ids);
        query.push(") FOR UPDATE");
        let rows = query.build().persistent(false).fetch_all(&mut *tx).await.doing("cancelling jobs")?;
        let found: Vec<Uuid> = rows
            .iter()
            .map(|row| row.try_get::<Vec<u8>, _>(0).map(|id| uuid(&id)))
            .collect::<std::result::Result<_, _>>()
            .doing("cancelling jobs")?;
        if !found.is_empty() {
            let mut query: QueryBuilder<MySql> = QueryBuilder::new(
                "UPDATE job SET phase = 13, waits = NULL, stop = 1, fence = fence + 1, changes = changes + 1, wake = ",
            );
            query.push_bind(now).push(", ended = ").push_bind(now).push(", expires = kept_for + ").push_bind(now);
            query.push(", past = CONCAT(COALESCE(past, ''), ").push_bind(past).push(") WHERE id IN (");
            super::push_ids(&mut query, &found);
            query.push(")");
            query.build().persistent(false).execute(&mut *tx).await.doing("cancelling jobs")?;
        }
        tx.commit().await.doing("cancelling jobs")?;
        Ok(found)
    }

    /// Sets when a job that has not begun, or that waits, is due; false when it is neither.
    pub async fn reschedule(&self, id: Uuid, due: Micros, past: &str) -> Result<bool> {
        let done = sqlx::query!(
            "UPDATE job SET wake = ?, due = IF(place = 0, due, ?), changes = changes + 1, past = CONCAT(COALESCE(past, ''), ?)
             WHERE id = ? AND phase IN (1, 3) AND (waits IS NULL OR waits = 'again')",
            due, due, past, id.as_bytes().as_slice()
        )
        .execute(&self.pool)
        .await
        .doing("rescheduling a job")?;
        Ok(done.rows_affected() > 0)
    }

    /// Takes a failed job up again: from its failed step (what was done before is not done again), or
    /// from the start with what it was given. Cancelled ones are taken up from the start only. False when
    /// it is not failed or cancelled.
    pub async fn take_up(&self, id: Uuid, from_start: bool, now: Micros, past: &str) -> Result<bool> {
        let mut tx = self.pool.begin().await.map_err(Error::Unreachable)?;
        let key = id.as_bytes().as_slice();
        let done = sqlx::query!(
            "UPDATE job SET phase = 1, place = IF(?, priority, 0), wake = ?, due = ?, ended = NULL, started = IF(?, NULL, started), worker = NULL, fence = fence + 1,
                    stop = 0, waits = NULL, attempt = attempt + IF(?, 1, 0), outcomes = IF(?, 0, outcomes), tries = 0, progress = NULL,
                    status = NULL, reply = NULL, failure = NULL, expires = NULL, changes = changes + 1, past = CONCAT(COALESCE(past, ''), ?)
             WHERE id = ? AND (phase = 12 OR (phase = 13 AND ?))",
            from_start, now, now, from_start, from_start, from_start, past, key, from_start
        )
        .execute(&mut *tx)
        .await
        .doing("taking a job up again")?;
        if done.rows_affected() > 0 && !from_start {
            sqlx::query!(
                "UPDATE outcome o JOIN job j ON j.id = o.job AND j.attempt = o.attempt SET o.void = 1
                 WHERE o.job = ? AND o.seq = (SELECT seq FROM (SELECT MAX(seq) AS seq FROM outcome x JOIN job y ON y.id = x.job AND y.attempt = x.attempt WHERE x.job = ? AND x.void = 0) last)",
                key, key
            )
            .execute(&mut *tx)
            .await
            .doing("taking an outcome back")?;
        }
        if done.rows_affected() > 0 {
            // The journal shows the run as it ends in the end.
            sqlx::query!("DELETE FROM step WHERE run = ?", key)
                .execute(&mut *tx)
                .await
                .doing("taking a job up again")?;
            sqlx::query!("DELETE FROM run WHERE id = ?", key).execute(&mut *tx).await.doing("taking a job up again")?;
        }
        tx.commit().await.doing("taking a job up again")?;
        Ok(done.rows_affected() > 0)
    }

    /// How the jobs of a list stand; nothing for a list that is not known.
    pub async fn batch(&self, id: Uuid) -> Result<Option<BatchState>> {
        let key = id.as_bytes().as_slice();
        let Some(row) = sqlx::query!("SELECT workflow, run, total, created FROM batch WHERE id = ?", key)
            .fetch_optional(&self.pool)
            .await
            .doing("reading a group")?
        else {
            return Ok(None);
        };
        let mut state = BatchState {
            workflow: row.workflow,
            run: row.run,
            created: row.created,
            total: row.total,
            ..BatchState::default()
        };
        let rows = sqlx::query!(
            "SELECT phase, COUNT(*) AS `n!: i64`, MAX(due) AS last_due, MIN(started) AS first_started, MIN(lane) AS lane FROM job WHERE batch = ? GROUP BY phase",
            key
        )
        .fetch_all(&self.pool)
        .await
        .doing("counting a group")?;
        for row in rows {
            let n = row.n as u64;
            match phase(row.phase) {
                Phase::Succeeded => state.done = n,
                Phase::Failed => state.failed = n,
                Phase::Cancelled => state.cancelled = n,
                Phase::Running => {
                    state.running = n;
                    state.left += n;
                }
                Phase::Ready | Phase::Behind => {
                    state.left += n;
                    state.lane = row.lane;
                    state.last_due = state.last_due.max(row.last_due);
                }
            }
            state.first_started = match (state.first_started, row.first_started) {
                (Some(one), Some(other)) => Some(one.min(other)),
                (one, other) => one.or(other),
            };
        }
        Ok(Some(state))
    }

    /// How all lanes stand that have jobs.
    pub async fn lane_depths(&self, now: Micros) -> Result<Vec<LaneDepth>> {
        let rows = sqlx::query!(
            "SELECT lane, phase, COUNT(*) AS `n!: i64`, MIN(wake) AS `oldest!: i64` FROM job WHERE phase IN (1, 2, 3) GROUP BY lane, phase"
        )
        .fetch_all(&self.pool)
        .await
        .doing("counting lanes")?;
        let due = sqlx::query!(
            "SELECT lane, COUNT(*) AS `n!: i64` FROM job WHERE phase = 1 AND wake <= ? GROUP BY lane",
            now
        )
        .fetch_all(&self.pool)
        .await
        .doing("counting lanes")?;
        let mut lanes: std::collections::BTreeMap<String, LaneDepth> = Default::default();
        for row in rows {
            let lane =
                lanes.entry(row.lane.clone()).or_insert_with(|| LaneDepth { lane: row.lane, ..LaneDepth::default() });
            match phase(row.phase) {
                Phase::Running => lane.running = row.n as u64,
                Phase::Behind => lane.queued += row.n as u64,
                _ => lane.scheduled = row.n as u64,
            }
            if row.phase != Phase::Running as u8 && row.oldest <= now {
                lane.oldest = Some(lane.oldest.map_or(row.oldest, |oldest| oldest.min(row.oldest)));
            }
        }
        for row in due {
            if let Some(lane) = lanes.get_mut(&row.lane) {
                lane.scheduled = lane.scheduled.saturating_sub(row.n as u64);
                lane.queued += row.n as u64;
            }
        }
        Ok(lanes.into_values().collect())
    }

    /// How many jobs of each lane are due and wait. Reads no jobs that are due later.
    pub async fn lanes_waiting(&self, now: Micros) -> Result<std::collections::BTreeMap<String, u64>> {
        let behind = sqlx::query!("SELECT lane, COUNT(*) AS `n!: i64` FROM job WHERE phase = 3 GROUP BY lane")
            .fetch_all(&self.pool)
            .await
            .doing("counting lanes")?;
        let mut lanes: std::collections::BTreeMap<String, u64> =
            behind.into_iter().map(|row| (row.lane, row.n as u64)).collect();
        for head in self.heads().await? {
            let waiting = lanes.entry(head.lane.clone()).or_default();
            if head.wake <= now {
                let due = sqlx::query_scalar!(
                    "SELECT COUNT(*) FROM job FORCE INDEX (job_work) WHERE phase = 1 AND lane = ? AND place = ? AND wake <= ?",
                    head.lane,
                    head.place,
                    now
                );
                *waiting += due.fetch_one(&self.pool).await.doing("counting lanes")? as u64;
            }
        }
        Ok(lanes)
    }

    /// Holds a lane or lets it go on.
    pub async fn hold_lane(&self, lane: &str, held: bool) -> Result<()> {
        sqlx::query!(
            "INSERT INTO lane_state (name, held, version) VALUES (?, ?, 1) ON DUPLICATE KEY UPDATE held = VALUES(held), version = version + 1",
            lane,
            held
        )
        .execute(&self.pool)
        .await
        .map(|_| ())
        .doing("holding a lane")
    }

    /// Adds to the samples of lanes.
    pub async fn add_samples(&self, samples: &[Sample]) -> Result<()> {
        if samples.is_empty() {
            return Ok(());
        }
        let mut query: QueryBuilder<MySql> =
            QueryBuilder::new("INSERT INTO lane_sample (lane, at, waiting, begun, done, failed, late, latest) ");
        query.push_values(samples, |mut row, sample| {
            row.push_bind(&sample.lane)
                .push_bind(sample.at)
                .push_bind(sample.waiting)
                .push_bind(sample.begun)
                .push_bind(sample.done)
                .push_bind(sample.failed)
                .push_bind(sample.late)
                .push_bind(sample.latest);
        });
        query.push(
            " ON DUPLICATE KEY UPDATE waiting = GREATEST(waiting, VALUES(waiting)), begun = begun + VALUES(begun), done = done + VALUES(done),
              failed = failed + VALUES(failed), late = late + VALUES(late), latest = GREATEST(latest, VALUES(latest))",
        );
        query.build().persistent(false).execute(&self.pool).await.doing("sampling lanes")?;
        Ok(())
    }

    pub async fn samples(&self, since: Micros) -> Result<Vec<Sample>> {
        sqlx::query_as!(
            Sample,
            "SELECT lane, at, waiting, begun, done, failed, late, latest FROM lane_sample WHERE at >= ? ORDER BY lane, at LIMIT 200000",
            since
        )
        .fetch_all(&self.pool)
        .await
        .doing("reading samples")
    }

    pub async fn purge_samples(&self, before: Micros) -> Result<()> {
        sqlx::query!("DELETE FROM lane_sample WHERE at < ? LIMIT 5000", before)
            .execute(&self.pool)
            .await
            .map(|_| ())
            .doing("deleting old samples")
    }

    /// How long the last successful jobs of a workflow took, in microseconds: mean over at most 50.
    pub async fn usual_time(&self, workflow: &str) -> Result<Option<i64>> {
        let mean = sqlx::query_scalar!(
            "SELECT CAST(AVG(took) AS SIGNED) AS mean FROM (
                 SELECT ended - started AS took FROM job WHERE workflow = ? AND phase = 11 ORDER BY id DESC LIMIT 50) recent",
            workflow
        )
        .fetch_one(&self.pool)
        .await
        .doing("looking at past jobs")?;
        Ok(mean)
    }

    /// Deletes jobs that ended before an instant, at most `limit` of each kind; gives how many.
    pub async fn purge_jobs(&self, before: Micros, limit: u32) -> Result<u64> {
        let mut all = 0;
        // The first of each lane, place and outcome, as in [`Store::heads`].
        let places = sqlx::query!(
            "SELECT l.name AS lane, p.place AS `place!: u8`, e.phase AS `phase!: u8`,
                    (SELECT j.wake FROM job j FORCE INDEX (job_work)
                     WHERE j.phase = e.phase AND j.lane = l.name AND j.place = p.place ORDER BY j.wake LIMIT 1) AS `wake: i64`
             FROM lane_state l CROSS JOIN (SELECT 11 AS phase UNION ALL SELECT 12 UNION ALL SELECT 13) e
             CROSS JOIN (SELECT 0 AS place UNION ALL SELECT 1 UNION ALL SELECT 2 UNION ALL SELECT 3 UNION ALL SELECT 4
                         UNION ALL SELECT 5 UNION ALL SELECT 6 UNION ALL SELECT 7 UNION ALL SELECT 8 UNION ALL SELECT 9) p"
        )
        .fetch_all(&self.pool)
        .await
        .doing("looking for old jobs")?;
        let places = places.into_iter().filter(|place| place.wake.is_some_and(|wake| wake < before));
        for place in places {
            let ids = sqlx::query_scalar!(
                "SELECT id FROM job FORCE INDEX (job_work) WHERE phase = ? AND lane = ? AND place = ? AND wake < ? LIMIT ?",
                place.phase,
                place.lane,
                place.place,
                before,
                limit
            )
            .fetch_all(&self.pool)
            .await
            .doing("looking for old jobs")?;
            for chunk in ids.chunks(100) {
                for table in ["outcome", "callback", "notice", "job"] {
                    let mut query: QueryBuilder<MySql> = QueryBuilder::new(match table {
                        "outcome" => "DELETE FROM outcome WHERE job IN (",
                        "callback" => "DELETE FROM callback WHERE job IN (",
                        "notice" => "DELETE FROM notice WHERE job IN (",
                        _ => "DELETE FROM job WHERE id IN (",
                    });
                    let mut list = query.separated(", ");
                    for id in chunk {
                        list.push_bind(id.clone());
                    }
                    query.push(")");
                    query.build().persistent(false).execute(&self.pool).await.doing("deleting old jobs")?;
                }
                all += chunk.len() as u64;
            }
        }
        Ok(all)
    }

    /// Forgets groups made before an instant of which no job is left, at most 500.
    pub async fn purge_groups(&self, before: Micros) -> Result<u64> {
        let empty = sqlx::query_scalar!(
            "SELECT b.id FROM batch b WHERE b.created < ? AND NOT EXISTS (SELECT 1 FROM job j WHERE j.batch = b.id) LIMIT 500",
            before
        )
        .fetch_all(&self.pool)
        .await
        .doing("looking for old groups")?;
        for id in &empty {
            sqlx::query!("DELETE FROM batch WHERE id = ?", id).execute(&self.pool).await.doing("forgetting a group")?;
        }
        Ok(empty.len() as u64)
    }

    /// The instant before which ended jobs are too many: of all that ended, the newest `most` stay.
    pub async fn ended_beyond(&self, most: u64) -> Result<Option<Micros>> {
        // Sorting them is for when there are too many.
        let all = sqlx::query_scalar!("SELECT COUNT(*) FROM job WHERE phase IN (11, 12, 13)")
            .fetch_one(&self.pool)
            .await
            .doing("counting ended jobs")?;
        if all as u64 <= most {
            return Ok(None);
        }
        sqlx::query_scalar!("SELECT ended AS `ended!` FROM job WHERE phase > 10 AND ended IS NOT NULL ORDER BY ended DESC LIMIT 1 OFFSET ?", most)
            .fetch_optional(&self.pool)
            .await
            .doing("counting ended jobs")
    }
}

fn narrow(query: &mut QueryBuilder<MySql>, filter: &Filter, now: Micros) {
    match filter.state.as_deref() {
        Some("scheduled") => {
            _ = query.push(" AND phase = 1 AND waits IS NULL AND place > 0 AND wake > ").push_bind(now)
        }
        Some("queued") => {
            query.push(" AND (phase = 3 OR (phase = 1 AND waits IS NULL AND (place = 0 OR wake <= ");
            query.push_bind(now).push(")))");
        }
        Some("waiting") => _ = query.push(" AND phase = 1 AND waits IS NOT NULL"),
        Some("running") => _ = query.push(" AND phase = 2"),
        Some("succeeded") => _ = query.push(" AND phase = 11"),
        Some("failed") => _ = query.push(" AND phase = 12"),
        Some("cancelled") => _ = query.push(" AND phase = 13"),
        Some(_) => _ = query.push(" AND 1 = 0"),
        None => {}
    }
    for (column, value) in [("lane", &filter.lane), ("workflow", &filter.workflow), ("tag", &filter.tag)] {
        if let Some(value) = value {
            query.push(match column {
                "lane" => " AND lane = ",
                "workflow" => " AND workflow = ",
                _ => " AND tag = ",
            });
            query.push_bind(value.clone());
        }
    }
    if let Some(batch) = filter.batch {
        query.push(" AND batch = ").push_bind(batch.as_bytes().to_vec());
    }
    if let Some(from) = filter.due_from {
        query.push(" AND due >= ").push_bind(from);
    }
    if let Some(until) = filter.due_until {
        query.push(" AND due <= ").push_bind(until);
    }
    if let Some(text) = &filter.text {
        let escaped = text.replace('\\', "\\\\").replace('%', "\\%").replace('_', "\\_");
        query.push(" AND sealed = 0 AND input LIKE ").push_bind(format!("%{escaped}%"));
    }
    if let Some(before) = filter.before {
        query.push(" AND id < ").push_bind(before.as_bytes().to_vec());
    }
}
