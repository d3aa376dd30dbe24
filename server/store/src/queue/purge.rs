//! Purges ended jobs, in small batches.

use kanzlei_model::time::Timestamp;
use sqlx::{MySql, QueryBuilder};
use uuid::Uuid;

use super::JobPhase;
use super::portions;
use crate::{Doing, Result, Store};

/// The largest bound for which ended jobs are counted each minute without asking for the estimate first.
const COUNTED: u64 = 4_000_000;

impl Store {
    /// Deletes jobs that ended before an instant, those that did not succeed before another one, at most
    /// `limit` of each kind; returns how many.
    pub async fn purge_jobs(&self, before: Timestamp, failed_before: Timestamp, limit: u32) -> Result<u64> {
        let mut all = 0;
        // The first of each lane, claim_rank and outcome, as in [`Store::heads`].
        let heads = sqlx::query!(
            "SELECT l.name AS lane, p.claim_rank AS `claim_rank!: u8`, e.phase AS `phase!: u8`,
                    (SELECT j.ready_at FROM job j FORCE INDEX (job_work)
                     WHERE j.phase = e.phase AND j.lane = l.name AND j.claim_rank = p.claim_rank ORDER BY j.ready_at LIMIT 1) AS `ready_at: i64`
             FROM lane_state l CROSS JOIN (SELECT 11 AS phase UNION ALL SELECT 12 UNION ALL SELECT 13 UNION ALL SELECT 14) e
             CROSS JOIN (SELECT 0 AS claim_rank UNION ALL SELECT 1 UNION ALL SELECT 2 UNION ALL SELECT 3 UNION ALL SELECT 4
                         UNION ALL SELECT 5 UNION ALL SELECT 6 UNION ALL SELECT 7 UNION ALL SELECT 8 UNION ALL SELECT 9) p"
        )
        .fetch_all(&self.pool)
        .await
        .doing("searching for old jobs")?;
        let limits = |phase: u8| match JobPhase::of_code(phase) {
            Some(JobPhase::Failed | JobPhase::Rejected) => failed_before,
            _ => before,
        };
        let heads = heads
            .into_iter()
            .filter(|head| head.ready_at.is_some_and(|ready_at| ready_at < limits(head.phase).as_micros()));
        for head in heads {
            let ids = sqlx::query_scalar!(
                "SELECT id FROM job FORCE INDEX (job_work) WHERE phase = ? AND lane = ? AND claim_rank = ? AND ready_at < ? LIMIT ?",
                head.phase,
                head.lane,
                head.claim_rank,
                limits(head.phase).as_micros(),
                limit
            )
            .fetch_all(&self.pool)
            .await
            .doing("searching for old jobs")?;
            for chunk in portions(&ids) {
                all += self.delete_jobs_of(chunk).await?;
            }
        }
        Ok(all)
    }

    /// Deletes some jobs with all that stands beside them; returns how many.
    pub(crate) async fn delete_jobs(&self, ids: &[Uuid]) -> Result<u64> {
        let ids: Vec<Vec<u8>> = ids.iter().map(|id| id.as_bytes().to_vec()).collect();
        self.delete_jobs_of(&ids).await
    }

    async fn delete_jobs_of(&self, ids: &[Vec<u8>]) -> Result<u64> {
        let mut deleted = 0;
        for table in [
            "DELETE FROM outcome WHERE job IN (",
            "DELETE FROM callback WHERE job IN (",
            "DELETE FROM notice WHERE job IN (",
            "DELETE FROM retried WHERE job IN (",
            "DELETE FROM job_request WHERE job IN (",
            "DELETE FROM job_tag WHERE job IN (",
            "DELETE FROM job WHERE id IN (",
        ] {
            // Under load there is always other work that locks rows of the same tables.
            deleted = super::repeated(|| async {
                let mut query: QueryBuilder<MySql> = QueryBuilder::new(table);
                let mut list = query.separated(", ");
                ids.iter().for_each(|id| _ = list.push_bind(id.clone()));
                query.push(")");
                Ok(query.build().execute(&self.pool).await.doing("deleting jobs")?.rows_affected())
            })
            .await?;
        }
        Ok(deleted)
    }

    /// Deletes groups created before an instant that have no jobs left, at most 500.
    pub async fn purge_groups(&self, before: Timestamp) -> Result<u64> {
        let empty = sqlx::query_scalar!(
            "SELECT b.id FROM batch b WHERE b.created < ? AND NOT EXISTS (SELECT 1 FROM job j WHERE j.batch = b.id) LIMIT 500",
            before.as_micros()
        )
        .fetch_all(&self.pool)
        .await
        .doing("searching for old groups")?;
        for chunk in portions(&empty) {
            let mut query: QueryBuilder<MySql> = QueryBuilder::new("DELETE FROM batch WHERE id IN (");
            let mut list = query.separated(", ");
            chunk.iter().for_each(|id| _ = list.push_bind(id.clone()));
            query.push(")");
            query.build().execute(&self.pool).await.doing("deleting old groups")?;
        }
        Ok(empty.len() as u64)
    }

    /// The instant before which ended jobs are too many: of all that ended, the newest `most` stay.
    ///
    /// Counting reads one entry of an index for each job. Above [`COUNTED`] it is done only where the server's estimate, which costs nothing
    /// and errs by less than a half, comes near the bound.
    pub async fn ended_beyond(&self, most: u64) -> Result<Option<Timestamp>> {
        if most > COUNTED && self.about_all_jobs().await? < most / 2 {
            return Ok(None);
        }
        let all = sqlx::query_scalar!("SELECT COUNT(*) FROM job WHERE phase > 10")
            .fetch_one(&self.pool)
            .await
            .doing("counting ended jobs")?;
        // Sorting them is worthwhile only above the bound.
        if all as u64 <= most {
            return Ok(None);
        }
        sqlx::query_scalar!(
            "SELECT ready_at FROM job FORCE INDEX (job_work) WHERE phase > 10 ORDER BY ready_at DESC LIMIT 1 OFFSET ?",
            most
        )
        .fetch_optional(&self.pool)
        .await
        .map(|ended| ended.map(Timestamp::from_micros))
        .doing("counting ended jobs")
    }

    /// The server's estimate of the number of rows in `job`.
    async fn about_all_jobs(&self) -> Result<u64> {
        let sql = "SELECT CAST(COALESCE(MAX(TABLE_ROWS), 0) AS UNSIGNED) FROM information_schema.TABLES WHERE TABLE_SCHEMA = DATABASE() AND TABLE_NAME = 'job'";
        sqlx::query_scalar(sql).fetch_one(&self.pool).await.doing("estimating the number of jobs")
    }
}
