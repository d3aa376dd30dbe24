//! Changes of jobs by hand or by a step: cancelled, rescheduled. Only waiting and ended jobs are changed;
//! a running job is asked to stop.

use kanzlei_model::time::Timestamp;
use sqlx::{MySql, QueryBuilder, Row};
use uuid::Uuid;

use super::query::phase;
use super::record::release_ordering_key;
use super::{JobPhase, uuid};
use crate::{Doing, Error, Result, Store};

impl Store {
    /// Cancels a waiting job, or asks a running one to stop. Returns its phase before.
    pub async fn cancel_job(&self, id: Uuid, now: Timestamp, history: &str) -> Result<Option<JobPhase>> {
        super::repeated(|| self.try_cancel(id, now, history)).await
    }

    async fn try_cancel(&self, id: Uuid, now: Timestamp, history: &str) -> Result<Option<JobPhase>> {
        let mut tx = self.pool.begin().await.map_err(Error::Unreachable)?;
        let key = id.as_bytes().as_slice();
        let Some(row) = sqlx::query!("SELECT phase, ordering_key FROM job WHERE id = ? FOR UPDATE", key)
            .fetch_optional(&mut *tx)
            .await
            .doing("cancelling a job")?
        else {
            return Ok(None);
        };
        let found = phase(row.phase);
        match found {
            JobPhase::Ready | JobPhase::Blocked => {
                sqlx::query!(
                    "UPDATE job SET phase = 13, ready_at = ?, ended = ?, waits_for = NULL, stop = 1, fence = fence + 1, changes = changes + 1,
                            expires = ? + kept_for, history = CONCAT(COALESCE(history, ''), ?) WHERE id = ?",
                    now.as_micros(), now.as_micros(), now.as_micros(), history, key
                )
                .execute(&mut *tx)
                .await
                .doing("cancelling a job")?;
                if let Some(ordering_key) = &row.ordering_key {
                    release_ordering_key(&mut tx, ordering_key, id).await?;
                }
            }
            JobPhase::Running => {
                sqlx::query!(
                    "UPDATE job SET stop = 1, changes = changes + 1, history = CONCAT(COALESCE(history, ''), ?) WHERE id = ? AND stop = 0",
                    history, key
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

    /// Cancels those of many jobs that wait and belong to no ordering key, in one transaction; returns which. The
    /// others are for [`Store::cancel_job`].
    pub async fn cancel_waiting(&self, ids: &[Uuid], now: Timestamp, history: &str) -> Result<Vec<Uuid>> {
        let mut tx = self.pool.begin().await.map_err(Error::Unreachable)?;
        let mut query: QueryBuilder<MySql> =
            QueryBuilder::new("SELECT id FROM job WHERE phase = 1 AND ordering_key IS NULL AND id IN (");
        super::push_ids(&mut query, ids);
        query.push(") FOR UPDATE");
        let rows = query.build().fetch_all(&mut *tx).await.doing("cancelling jobs")?;
        let found: Vec<Uuid> = rows
            .iter()
            .map(|row| row.try_get::<Vec<u8>, _>(0).map(|id| uuid(&id)))
            .collect::<std::result::Result<_, _>>()
            .doing("cancelling jobs")?;
        if !found.is_empty() {
            let mut query: QueryBuilder<MySql> = QueryBuilder::new(
                "UPDATE job SET phase = 13, waits_for = NULL, stop = 1, fence = fence + 1, changes = changes + 1, ready_at = ",
            );
            query
                .push_bind(now.as_micros())
                .push(", ended = ")
                .push_bind(now.as_micros())
                .push(", expires = kept_for + ")
                .push_bind(now.as_micros());
            query.push(", history = CONCAT(COALESCE(history, ''), ").push_bind(history).push(") WHERE id IN (");
            super::push_ids(&mut query, &found);
            query.push(")");
            query.build().execute(&mut *tx).await.doing("cancelling jobs")?;
        }
        tx.commit().await.doing("cancelling jobs")?;
        Ok(found)
    }

    /// Sets the due time of a job that has not started or that waits; false when it does neither.
    pub async fn reschedule(&self, id: Uuid, due: Timestamp, history: &str) -> Result<bool> {
        let done = sqlx::query!(
            "UPDATE job SET ready_at = ?, due = IF(claim_rank = 0, due, ?), changes = changes + 1, history = CONCAT(COALESCE(history, ''), ?)
             WHERE id = ? AND phase IN (1, 3) AND (waits_for IS NULL OR waits_for = 'retry')",
            due.as_micros(), due.as_micros(), history, id.as_bytes().as_slice()
        )
        .execute(&self.pool)
        .await
        .doing("rescheduling a job")?;
        Ok(done.rows_affected() > 0)
    }
}
