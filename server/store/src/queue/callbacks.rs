//! Callbacks: addresses at which jobs wait for one message, and keys by which `wake` steps of other runs find them.
//!
//! Who waits writes its key, who brings a value writes the value, and both look for the other then: the later one finds the
//! earlier. A value is given to one job.

use kanzlei_model::time::Timestamp;
use kanzlei_model::trace::Trace;
use uuid::Uuid;

use super::uuid;
use crate::{Doing, Result, Store};

/// What is known of an address for a callback.
#[derive(Clone, Debug, PartialEq)]
pub struct CallbackState {
    /// Job that waits.
    pub job: Uuid,
    /// Number of the effect that waits.
    pub effect: u64,
    /// When something arrived.
    pub arrived: Option<Timestamp>,
    /// Media type of the body.
    pub media: Option<String>,
    /// Body as received.
    pub body: Option<Vec<u8>>,
    /// The JSON Schema of what it accepts.
    pub accepts: Option<String>,
    /// The phase of the job that waits.
    pub phase: u8,
    /// The trace of that job.
    pub trace: Trace,
}

/// A value that is passed on to a job that waits by a key.
#[derive(Clone, Copy, Debug)]
pub struct NewWaking<'w> {
    /// The run that passes it on.
    pub run: Uuid,
    /// Number of its effect.
    pub effect: u64,
    /// The workflow whose step waits.
    pub workflow: &'w str,
    /// Hash of the key.
    pub key: &'w str,
    /// When it was passed on.
    pub at: Timestamp,
    /// Until when it is kept.
    pub until: Timestamp,
    /// JSON.
    pub body: &'w [u8],
}

impl Store {
    /// Registers an address at which a job waits. Repeated calls change nothing.
    pub async fn open_callback(
        &self,
        hash: &str,
        job: Uuid,
        effect: u64,
        accepts: Option<&str>,
        now: Timestamp,
    ) -> Result<()> {
        sqlx::query!(
            "INSERT IGNORE INTO callback (hash, job, effect, accepts, opened) VALUES (?, ?, ?, ?, ?)",
            hash,
            job.as_bytes().as_slice(),
            effect,
            accepts,
            now.as_micros()
        )
        .execute(&self.pool)
        .await
        .map(|_| ())
        .doing("opening a callback")
    }

    /// Returns what is known of a callback address by its hash.
    pub async fn callback(&self, hash: &str) -> Result<Option<CallbackState>> {
        let row = sqlx::query!(
            "SELECT c.job, c.effect, c.arrived, c.media, c.body, c.accepts, j.phase, j.trace_id, j.trace_parent AS `trace_parent: String` FROM callback c JOIN job j ON j.id = c.job WHERE c.hash = ?",
            hash
        )
        .fetch_optional(&self.pool)
        .await
        .doing("reading a callback")?;
        Ok(row.map(|row| CallbackState {
            job: uuid(&row.job),
            effect: row.effect,
            arrived: row.arrived.map(Timestamp::from_micros),
            media: row.media,
            body: row.body,
            accepts: row.accepts,
            phase: row.phase,
            trace: Trace::of_columns(&row.trace_id, row.trace_parent.as_deref()),
        }))
    }

    /// Stores the body that arrived at an address and wakes its job; false when a body arrived before.
    pub async fn arrive(&self, hash: &str, job: Uuid, media: &str, body: &[u8], now: Timestamp) -> Result<bool> {
        let mut tx = self.pool.begin().await.map_err(crate::Error::Unreachable)?;
        let done = sqlx::query!(
            "UPDATE callback SET arrived = ?, media = ?, body = ? WHERE hash = ? AND arrived IS NULL",
            now.as_micros(),
            media,
            body,
            hash
        )
        .execute(&mut *tx)
        .await
        .doing("recording a callback")?;
        if done.rows_affected() > 0 {
            sqlx::query!(
                "UPDATE job SET ready_at = IF(phase = 1, LEAST(ready_at, ?), ready_at), signalled = 1, changes = changes + 1 WHERE id = ?",
                now.as_micros(),
                job.as_bytes().as_slice()
            )
            .execute(&mut *tx)
            .await
            .doing("waking a job")?;
        }
        tx.commit().await.doing("recording a callback")?;
        Ok(done.rows_affected() > 0)
    }

    /// How many values are kept for a key, and for all keys as far as `most`.
    pub async fn wakings_kept(&self, workflow: &str, key: &str, most: u64) -> Result<(u64, u64)> {
        let row = sqlx::query!(
            "SELECT (SELECT COUNT(*) FROM waking WHERE workflow = ? AND by_key = ? AND taken IS NULL) AS `of_key!: i64`,
                (SELECT COUNT(*) FROM (SELECT 1 FROM waking WHERE taken IS NULL LIMIT ?) AS kept) AS `all!: i64`",
            workflow,
            key,
            most
        )
        .fetch_one(&self.pool)
        .await
        .doing("counting what is passed on")?;
        Ok((row.of_key as u64, row.all as u64))
    }

    /// Passes a value on, once; returns the job that waited for it.
    pub async fn pass_on(&self, new: &NewWaking<'_>, now: Timestamp) -> Result<Option<Uuid>> {
        sqlx::query!(
            "INSERT IGNORE INTO waking (run, effect, workflow, by_key, at, until, body) VALUES (?, ?, ?, ?, ?, ?, ?)",
            new.run.as_bytes().as_slice(),
            new.effect,
            new.workflow,
            new.key,
            new.at.as_micros(),
            new.until.as_micros(),
            new.body
        )
        .execute(&self.pool)
        .await
        .doing("passing a value on")?;
        self.meet(new.workflow, new.key, now).await?;
        let row = sqlx::query!(
            "SELECT taken AS `taken: Vec<u8>` FROM waking WHERE run = ? AND effect = ?",
            new.run.as_bytes().as_slice(),
            new.effect
        )
        .fetch_optional(&self.pool)
        .await
        .doing("passing a value on")?;
        Ok(row.and_then(|row| row.taken).map(|job| uuid(&job)))
    }

    /// Lets a callback wait by a key too, and brings it what is kept for that key.
    pub async fn wait_by(&self, hash: &str, workflow: &str, key: &str, now: Timestamp) -> Result<()> {
        sqlx::query!(
            "UPDATE callback SET workflow = ?, by_key = ? WHERE hash = ? AND by_key IS NULL",
            workflow,
            key,
            hash
        )
        .execute(&self.pool)
        .await
        .doing("waiting by a key")?;
        // Also where it waits by it already: a value may have come while its job had failed.
        self.meet(workflow, key, now).await
    }

    /// Brings values that are kept for a key to the jobs that wait by it, the oldest to who has waited longest.
    async fn meet(&self, workflow: &str, key: &str, now: Timestamp) -> Result<()> {
        while super::repeated(|| self.meet_one(workflow, key, now)).await? {}
        Ok(())
    }

    async fn meet_one(&self, workflow: &str, key: &str, now: Timestamp) -> Result<bool> {
        let mut tx = self.pool.begin().await.map_err(crate::Error::Unreachable)?;
        let kept = sqlx::query!(
            "SELECT run, effect, body FROM waking WHERE workflow = ? AND by_key = ? AND taken IS NULL AND until > ? ORDER BY at, run LIMIT 1 FOR UPDATE",
            workflow,
            key,
            now.as_micros()
        )
        .fetch_optional(&mut *tx)
        .await
        .doing("looking for what is passed on")?;
        let Some(kept) = kept else { return Ok(false) };
        // Phases up to 3 are those of jobs that have not ended.
        let waits = sqlx::query!(
            "SELECT c.hash, c.job FROM callback c JOIN job j ON j.id = c.job WHERE c.workflow = ? AND c.by_key = ? AND c.arrived IS NULL AND j.phase <= 3 ORDER BY c.opened LIMIT 1 FOR UPDATE",
            workflow,
            key
        )
        .fetch_optional(&mut *tx)
        .await
        .doing("looking for who waits by a key")?;
        let Some(waits) = waits else { return Ok(false) };
        sqlx::query!(
            "UPDATE callback SET arrived = ?, media = 'application/json', body = ? WHERE hash = ?",
            now.as_micros(),
            kept.body,
            waits.hash
        )
        .execute(&mut *tx)
        .await
        .doing("bringing a value")?;
        sqlx::query!("UPDATE waking SET taken = ? WHERE run = ? AND effect = ?", waits.job, kept.run, kept.effect)
            .execute(&mut *tx)
            .await
            .doing("bringing a value")?;
        sqlx::query!(
            "UPDATE job SET ready_at = IF(phase = 1, LEAST(ready_at, ?), ready_at), signalled = 1, changes = changes + 1 WHERE id = ?",
            now.as_micros(),
            waits.job
        )
        .execute(&mut *tx)
        .await
        .doing("waking a job")?;
        tx.commit().await.doing("bringing a value")?;
        Ok(true)
    }

    /// Deletes values that are not kept any longer; at most 5000. Returns how many.
    pub async fn purge_wakings(&self, now: Timestamp) -> Result<u64> {
        let done = sqlx::query!("DELETE FROM waking WHERE until < ? LIMIT 5000", now.as_micros());
        Ok(done.execute(&self.pool).await.doing("deleting what was passed on")?.rows_affected())
    }
}
