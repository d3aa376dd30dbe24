//! How lanes stand: what waits in them, whether they are held, and samples of what was done in them.

use sqlx::{MySql, QueryBuilder};

use super::Phase;
use super::look::phase;
use crate::{Doing, Micros, Result, Store};

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

impl Store {
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
}
