//! Paces: turns at regular intervals, over all processes. Each process claims some turns at a time.
//!
//! Turns are claimed by compare-and-set, so nothing relies on a lock that only one node of a cluster knows.

use kanzlei_model::time::{Span, Timestamp};

use crate::{Doing, Result, Store};

/// Attempts to claim turns against other processes.
const ATTEMPTS: usize = 50;

impl Store {
    /// Claims `count` turns of a name, `apart` from each other and from all others; returns the first, which is not before `now`.
    /// Nothing is claimed where that would be after `until`, or where other processes are faster again and again.
    pub async fn claim_turns(
        &self,
        name: &str,
        apart: Span,
        count: u32,
        now: Timestamp,
        until: Timestamp,
    ) -> Result<Option<Timestamp>> {
        for _ in 0..ATTEMPTS {
            let next = sqlx::query_scalar!("SELECT next FROM pace WHERE name = ?", name)
                .fetch_optional(&self.pool)
                .await
                .doing("reading a pace")?;
            let first = next.map_or(now, |next| Timestamp::from_micros(next).max(now));
            if first > until {
                return Ok(None);
            }
            let behind = (first + apart * i64::from(count)).as_micros();
            let claimed = match next {
                Some(next) => {
                    let claimed =
                        sqlx::query!("UPDATE pace SET next = ? WHERE name = ? AND next = ?", behind, name, next);
                    claimed.execute(&self.pool).await
                }
                None => {
                    let claimed = sqlx::query!("INSERT IGNORE INTO pace (name, next) VALUES (?, ?)", name, behind);
                    claimed.execute(&self.pool).await
                }
            };
            match claimed.doing("claiming turns") {
                Ok(done) if done.rows_affected() > 0 => return Ok(Some(first)),
                Ok(_) => {}
                Err(error) if error.is_contention() => {}
                Err(error) => return Err(error),
            }
        }
        Ok(None)
    }

    /// Deletes paces whose last turn was before an instant: their names belong to nothing any more.
    pub async fn purge_paces(&self, before: Timestamp) -> Result<u64> {
        let done = sqlx::query!("DELETE FROM pace WHERE next < ?", before.as_micros()).execute(&self.pool).await;
        Ok(done.doing("deleting old paces")?.rows_affected())
    }
}
