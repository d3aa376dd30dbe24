//! The state of lanes: how many jobs wait, whether the lane is held, and samples of past activity.

use kanzlei_model::time::{Span, Timestamp};
use sqlx::{MySql, QueryBuilder, Row};

use kanzlei_model::run::RunState;

use super::query::phase;
use super::repair::HELD;
use super::{JobPhase, portions};
use crate::{Doing, Result, Store};

/// The depth of a lane.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct LaneDepth {
    /// Name of the lane.
    pub lane: String,
    /// Not due yet.
    pub scheduled: u64,
    /// Due, or blocked by another job of their ordering key.
    pub queued: u64,
    /// Running now.
    pub running: u64,
    /// Started, and waiting for a time or a callback.
    pub waiting: u64,
    /// When the longest-waiting one was due.
    pub oldest: Option<Timestamp>,
}

/// Ten seconds of a lane.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Sample {
    /// Name of the lane.
    pub lane: String,
    /// Start of the ten seconds.
    pub at: Timestamp,
    /// Due jobs that waited at the end.
    pub waiting: u64,
    /// Jobs started.
    pub begun: u64,
    /// Jobs that succeeded.
    pub succeeded: u64,
    /// Jobs that were rejected.
    pub rejected: u64,
    /// Jobs that failed.
    pub failed: u64,
    /// Sum of the delays between due time and start, in microseconds.
    pub delay: u64,
    /// Longest delay in microseconds.
    pub max_delay: u64,
}

/// What comes in a slot of time, of one workflow.
#[derive(Clone, Debug, PartialEq)]
pub struct ComingRow {
    /// The workflow.
    pub workflow: String,
    /// The lane of its jobs.
    pub lane: String,
    /// What they wait for; nothing where they are due for the first time.
    pub waits_for: Option<String>,
    /// How many.
    pub count: u64,
    /// When the first one is due.
    pub first: Timestamp,
}

/// A job of a lane, for a forecast.
#[derive(Clone, Debug, PartialEq)]
pub struct BacklogRow {
    /// Whether it runs.
    pub running: bool,
    /// 0 for a job that has begun, else its priority.
    pub rank: u8,
    /// When it is due; of one that runs when it was claimed.
    pub ready_at: Timestamp,
    /// Name of the workflow.
    pub workflow: String,
    /// Jobs of one key run one after another.
    pub ordering_key: Option<String>,
}

impl Store {
    /// The depths of all lanes that have jobs. Reads the index only.
    pub async fn lane_depths(&self, now: Timestamp) -> Result<Vec<LaneDepth>> {
        let rows = sqlx::query!(
            "SELECT lane, phase, claim_rank = 0 AS `begun!: bool`, ready_at > ? AND ready_at <> ? AS `ahead!: bool`, COUNT(*) AS `n!: i64`,
                    MIN(ready_at) AS `oldest!: i64`
             FROM job WHERE phase IN (1, 2, 3) GROUP BY lane, phase, claim_rank = 0, ready_at > ? AND ready_at <> ?",
            now.as_micros(),
            HELD.as_micros(),
            now.as_micros(),
            HELD.as_micros()
        )
        .fetch_all(&self.pool)
        .await
        .doing("counting lanes")?;
        let mut lanes: std::collections::BTreeMap<String, LaneDepth> = Default::default();
        for row in rows {
            let lane =
                lanes.entry(row.lane.clone()).or_insert_with(|| LaneDepth { lane: row.lane, ..LaneDepth::default() });
            let state = phase(row.phase).state(row.ahead, row.begun);
            *match state {
                RunState::Running => &mut lane.running,
                RunState::Waiting => &mut lane.waiting,
                RunState::Scheduled => &mut lane.scheduled,
                _ => &mut lane.queued,
            } += row.n as u64;
            if state == RunState::Queued {
                lane.oldest = Some(lane.oldest.map_or(Timestamp::from_micros(row.oldest), |oldest| {
                    oldest.min(Timestamp::from_micros(row.oldest))
                }));
            }
        }
        Ok(lanes.into_values().collect())
    }

    /// How many jobs of each lane are due and wait. Reads no jobs that are due later.
    pub async fn lanes_waiting(&self, now: Timestamp) -> Result<std::collections::BTreeMap<String, u64>> {
        let behind = sqlx::query!("SELECT lane, COUNT(*) AS `n!: i64` FROM job WHERE phase = 3 GROUP BY lane")
            .fetch_all(&self.pool)
            .await
            .doing("counting lanes")?;
        let mut lanes: std::collections::BTreeMap<String, u64> =
            behind.into_iter().map(|row| (row.lane, row.n as u64)).collect();
        for head in self.heads(Timestamp::EPOCH).await?.0 {
            let waiting = lanes.entry(head.lane.clone()).or_default();
            if head.ready_at <= now {
                let due = sqlx::query_scalar!(
                    "SELECT COUNT(*) FROM job FORCE INDEX (job_work) WHERE phase = 1 AND lane = ? AND claim_rank = ? AND ready_at <= ?",
                    head.lane,
                    head.claim_rank,
                    now.as_micros()
                );
                *waiting += due.fetch_one(&self.pool).await.doing("counting lanes")? as u64;
            }
        }
        Ok(lanes)
    }

    /// Jobs that are due later, and waits that end, until an instant: counted by workflow, lane, kind and slot, at most so many.
    pub async fn coming(&self, now: Timestamp, until: Timestamp, slot: Span, most: u32) -> Result<Vec<ComingRow>> {
        let mut query: QueryBuilder<MySql> = QueryBuilder::new(super::query::SEARCH_SECONDS);
        query.push("SELECT workflow, lane, waits_for, CAST(COUNT(*) AS UNSIGNED), CAST(MIN(ready_at) AS SIGNED), FLOOR((ready_at - ");
        query.push_bind(now.as_micros()).push(") / ").push_bind(slot.as_micros().max(1));
        query.push(") slot FROM job WHERE phase = 1 AND ready_at > ").push_bind(now.as_micros());
        query.push(" AND ready_at <= ").push_bind(until.as_micros());
        query.push(" GROUP BY workflow, lane, waits_for, slot ORDER BY slot, workflow LIMIT ").push_bind(most);
        let rows = query.build().fetch_all(&self.pool).await.doing("reading what is to come")?;
        let read = |row: &sqlx::mysql::MySqlRow| -> sqlx::Result<ComingRow> {
            Ok(ComingRow {
                workflow: row.try_get(0)?,
                lane: row.try_get(1)?,
                waits_for: row.try_get(2)?,
                count: row.try_get(3)?,
                first: Timestamp::from_micros(row.try_get(4)?),
            })
        };
        rows.iter().map(read).collect::<sqlx::Result<_>>().doing("reading what is to come")
    }

    /// Jobs of a lane that wait until an instant or run, in the order of claims, at most so many.
    pub async fn lane_backlog(&self, lane: &str, until: Timestamp, most: u32) -> Result<Vec<BacklogRow>> {
        let rows = sqlx::query!(
            "SELECT phase, claim_rank, ready_at, workflow, ordering_key FROM job FORCE INDEX (job_work)
             WHERE phase IN (1, 2, 3) AND lane = ? AND ready_at <= ? ORDER BY phase DESC, claim_rank, ready_at LIMIT ?",
            lane,
            until.as_micros(),
            most
        );
        let rows = rows.fetch_all(&self.pool).await.doing("reading a lane")?;
        let read = rows.into_iter().map(|row| BacklogRow {
            running: phase(row.phase) == JobPhase::Running,
            rank: row.claim_rank,
            ready_at: Timestamp::from_micros(row.ready_at),
            workflow: row.workflow,
            ordering_key: row.ordering_key,
        });
        Ok(read.collect())
    }

    /// Holds or releases a lane.
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
        for chunk in portions(samples) {
            self.add_portion_of_samples(chunk).await?;
        }
        Ok(())
    }

    async fn add_portion_of_samples(&self, samples: &[Sample]) -> Result<()> {
        let mut query: QueryBuilder<MySql> = QueryBuilder::new(
            "INSERT INTO lane_sample (lane, at, waiting, begun, succeeded, rejected, failed, delay, max_delay) ",
        );
        query.push_values(samples, |mut row, sample| {
            row.push_bind(&sample.lane)
                .push_bind(sample.at.as_micros())
                .push_bind(sample.waiting)
                .push_bind(sample.begun)
                .push_bind(sample.succeeded)
                .push_bind(sample.rejected)
                .push_bind(sample.failed)
                .push_bind(sample.delay)
                .push_bind(sample.max_delay);
        });
        query.push(
            " ON DUPLICATE KEY UPDATE waiting = GREATEST(waiting, VALUES(waiting)), begun = begun + VALUES(begun), succeeded = succeeded + VALUES(succeeded), rejected = rejected + VALUES(rejected),
              failed = failed + VALUES(failed), delay = delay + VALUES(delay), max_delay = GREATEST(max_delay, VALUES(max_delay))",
        );
        query.build().execute(&self.pool).await.doing("sampling lanes")?;
        Ok(())
    }

    /// Returns the samples since an instant, at most 200,000.
    pub async fn samples(&self, since: Timestamp) -> Result<Vec<Sample>> {
        sqlx::query_as!(
            Sample,
            "SELECT lane, at, waiting, begun, succeeded, rejected, failed, delay, max_delay FROM lane_sample WHERE at >= ? ORDER BY lane, at LIMIT 200000",
            since.as_micros()
        )
        .fetch_all(&self.pool)
        .await
        .doing("reading samples")
    }

    /// Deletes samples before an instant; returns how many.
    pub async fn purge_samples(&self, before: Timestamp) -> Result<u64> {
        sqlx::query!("DELETE FROM lane_sample WHERE at < ? LIMIT 5000", before.as_micros())
            .execute(&self.pool)
            .await
            .map(|done| done.rows_affected())
            .doing("deleting old samples")
    }
}
