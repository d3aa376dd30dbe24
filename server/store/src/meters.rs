//! What callers have used of their allowances, over all processes; and the requests of keys by hour.
//!
//! A meter is changed by compare-and-set on its version, so nothing relies on a lock that only one node of a cluster knows.

use kanzlei_model::time::Timestamp;
use sqlx::{MySql, QueryBuilder};

use crate::queue::portions;
use crate::{Doing, Error, Result, Store};

/// Attempts to change a meter against other processes.
const ATTEMPTS: usize = 16;

/// What one caller has used, as the records keep it.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Row {
    /// What is in the bucket, in millionths of a request.
    pub bucket: i64,
    /// When that was so.
    pub at: Timestamp,
    /// When the period began that is counted.
    pub period: Timestamp,
    /// Requests in it.
    pub used: u64,
}

/// Requests of a key in an hour.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Usage {
    /// The name of the key.
    pub name: String,
    /// The workflow that was asked.
    pub workflow: String,
    /// Hours since 1970.
    pub hour: i64,
    /// Requests.
    pub requests: u64,
    /// Of these: refused for its allowance.
    pub refused: u64,
    /// Of these: answered with 500 to 599.
    pub failed: u64,
}

impl Store {
    /// Changes the meter of a caller; `change` may be called several times. Returns what the last call returned.
    pub async fn change_meter<T>(
        &self,
        allowance: &str,
        subject: &str,
        fresh: Row,
        mut change: impl FnMut(&mut Row) -> T,
    ) -> Result<T> {
        for _ in 0..ATTEMPTS {
            let found = sqlx::query!(
                "SELECT bucket, at, period, used, version FROM meter WHERE allowance = ? AND subject = ?",
                allowance,
                subject
            )
            .fetch_optional(&self.pool)
            .await
            .doing("reading a meter")?;
            let version = found.as_ref().map(|row| row.version);
            let mut row = found.map_or(fresh, |row| Row {
                bucket: row.bucket,
                at: Timestamp::from_micros(row.at),
                period: Timestamp::from_micros(row.period),
                used: row.used,
            });
            let outcome = change(&mut row);
            let changed = match version {
                Some(version) => {
                    sqlx::query!(
                        "UPDATE meter SET bucket = ?, at = ?, period = ?, used = ?, version = version + 1
                     WHERE allowance = ? AND subject = ? AND version = ?",
                        row.bucket,
                        row.at.as_micros(),
                        row.period.as_micros(),
                        row.used,
                        allowance,
                        subject,
                        version
                    )
                    .execute(&self.pool)
                    .await
                }
                None => sqlx::query!(
                    "INSERT IGNORE INTO meter (allowance, subject, bucket, at, period, used) VALUES (?, ?, ?, ?, ?, ?)",
                    allowance,
                    subject,
                    row.bucket,
                    row.at.as_micros(),
                    row.period.as_micros(),
                    row.used
                )
                .execute(&self.pool)
                .await,
            };
            match changed.doing("changing a meter") {
                Ok(done) if done.rows_affected() > 0 => return Ok(outcome),
                Ok(_) => {}
                Err(error) if error.is_contention() => {}
                Err(error) => return Err(error),
            }
        }
        Err(Error::Contended)
    }

    /// The meters of callers by allowance and subject: those that begin with a text, at most so many.
    pub async fn meters(&self, subject: &str, limit: u32) -> Result<Vec<(String, String, Row)>> {
        let rows = sqlx::query!(
            "SELECT allowance, subject, bucket, at, period, used FROM meter WHERE subject LIKE CONCAT(?, '%') ORDER BY allowance, subject LIMIT ?",
            subject,
            limit
        )
        .fetch_all(&self.pool)
        .await
        .doing("reading meters")?;
        let read = rows.into_iter().map(|row| {
            let (at, period) = (Timestamp::from_micros(row.at), Timestamp::from_micros(row.period));
            (row.allowance, row.subject, Row { bucket: row.bucket, at, period, used: row.used })
        });
        Ok(read.collect())
    }

    /// Deletes meters that nobody used since an instant, at most 5,000; returns how many.
    pub async fn purge_meters(&self, before: Timestamp) -> Result<u64> {
        sqlx::query!("DELETE FROM meter WHERE at < ? LIMIT 5000", before.as_micros())
            .execute(&self.pool)
            .await
            .map(|done| done.rows_affected())
            .doing("deleting old meters")
    }

    /// Adds requests of keys to what is known of their hours.
    pub async fn add_usage(&self, usage: &[Usage]) -> Result<()> {
        for chunk in portions(usage) {
            let mut query: QueryBuilder<MySql> =
                QueryBuilder::new("INSERT INTO key_usage (name, workflow, hour, requests, refused, failed) ");
            query.push_values(chunk, |mut row, one| {
                row.push_bind(&one.name)
                    .push_bind(&one.workflow)
                    .push_bind(one.hour)
                    .push_bind(one.requests)
                    .push_bind(one.refused)
                    .push_bind(one.failed);
            });
            query.push(
                " ON DUPLICATE KEY UPDATE requests = requests + VALUES(requests), refused = refused + VALUES(refused), failed = failed + VALUES(failed)",
            );
            query.build().execute(&self.pool).await.doing("adding usage")?;
        }
        Ok(())
    }

    /// Requests of keys from an hour on, by key, workflow and hour; of one key where it is named.
    pub async fn usage(&self, name: Option<&str>, since: i64, limit: u32) -> Result<Vec<Usage>> {
        let rows = sqlx::query!(
            "SELECT name, workflow, hour, requests, refused, failed FROM key_usage
             WHERE hour >= ? AND (? IS NULL OR name = ?) ORDER BY hour, name, workflow LIMIT ?",
            since,
            name,
            name,
            limit
        )
        .fetch_all(&self.pool)
        .await
        .doing("reading usage")?;
        let read = rows.into_iter().map(|row| Usage {
            name: row.name,
            workflow: row.workflow,
            hour: row.hour,
            requests: row.requests,
            refused: row.refused,
            failed: row.failed,
        });
        Ok(read.collect())
    }

    /// Deletes usage before an hour, at most 5,000 rows; returns how many.
    pub async fn purge_usage(&self, before: i64) -> Result<u64> {
        sqlx::query!("DELETE FROM key_usage WHERE hour < ? LIMIT 5000", before)
            .execute(&self.pool)
            .await
            .map(|done| done.rows_affected())
            .doing("deleting old usage")
    }
}
