//! Places: of each name at most so many are held at once, over all processes. A holder renews its places before they expire.
//!
//! A place is claimed by compare-and-set, so nothing relies on a lock that only one node of a cluster knows.

use kanzlei_model::time::Timestamp;
use uuid::Uuid;

use crate::{Doing, Result, Store};

/// Attempts to claim a place against other processes.
const ATTEMPTS: usize = 4;

impl Store {
    /// Claims one of so many places of a name until an instant; returns its number, or nothing where all are held.
    pub async fn claim_place(
        &self,
        name: &str,
        most: u32,
        holder: Uuid,
        now: Timestamp,
        until: Timestamp,
    ) -> Result<Option<u32>> {
        let holder = holder.as_bytes().as_slice();
        for _ in 0..ATTEMPTS {
            let known =
                sqlx::query!("SELECT slot, until FROM place WHERE name = ? AND slot < ? ORDER BY slot", name, most)
                    .fetch_all(&self.pool)
                    .await
                    .doing("looking for a place")?;
            let expired = known.iter().find(|place| place.until < now.as_micros());
            let fresh = (0..most).find(|slot| known.iter().all(|place| place.slot != *slot));
            let (slot, claimed) = match (expired, fresh) {
                (Some(place), _) => {
                    let claimed = sqlx::query!(
                        "UPDATE place SET holder = ?, until = ? WHERE name = ? AND slot = ? AND until = ?",
                        holder,
                        until.as_micros(),
                        name,
                        place.slot,
                        place.until
                    );
                    (place.slot, claimed.execute(&self.pool).await)
                }
                (None, Some(slot)) => {
                    let claimed = sqlx::query!(
                        "INSERT IGNORE INTO place (name, slot, holder, until) VALUES (?, ?, ?, ?)",
                        name,
                        slot,
                        holder,
                        until.as_micros()
                    );
                    (slot, claimed.execute(&self.pool).await)
                }
                (None, None) => return Ok(None),
            };
            match claimed.doing("claiming a place") {
                Ok(done) if done.rows_affected() > 0 => return Ok(Some(slot)),
                Ok(_) => {}
                Err(error) if error.is_contention() => {}
                Err(error) => return Err(error),
            }
        }
        Ok(None)
    }

    /// Holds all places of a holder until an instant.
    pub async fn renew_places(&self, holder: Uuid, until: Timestamp) -> Result<()> {
        sqlx::query!("UPDATE place SET until = ? WHERE holder = ?", until.as_micros(), holder.as_bytes().as_slice())
            .execute(&self.pool)
            .await
            .map(|_| ())
            .doing("renewing places")
    }

    /// Returns a place that a holder has.
    pub async fn return_place(&self, name: &str, slot: u32, holder: Uuid) -> Result<()> {
        let holder = holder.as_bytes().as_slice();
        sqlx::query!("DELETE FROM place WHERE name = ? AND slot = ? AND holder = ?", name, slot, holder)
            .execute(&self.pool)
            .await
            .map(|_| ())
            .doing("returning a place")
    }
}
