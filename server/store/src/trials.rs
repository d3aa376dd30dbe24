//! Trials, apart from the journal of live runs and its counts, and the addresses at which drafts can be called.

use kanzlei_model::time::Timestamp;
use uuid::Uuid;

use crate::{Doing, Result, Store};

/// A trial that ended.
#[derive(Clone, Debug, PartialEq)]
pub struct TrialRow {
    /// Its id.
    pub id: Uuid,
    /// The workflow that was tried.
    pub workflow: String,
    /// `trial`, or the endpoint it was called at.
    pub entry: String,
    /// The name of its state.
    pub state: String,
    /// The status of its reply.
    pub status: Option<u16>,
    /// When it began.
    pub started: Timestamp,
    /// Until when it is kept.
    pub expires: Timestamp,
    /// Whose token asked for it, or opened the address it was called at.
    pub operator: String,
    /// What it did, as JSON: masked and cut as it is shown.
    pub shown: String,
    /// The same as a document of cases, and what is to be completed in it, as JSON.
    pub recorded: String,
}

/// An address at which drafts can be called before they are deployed.
#[derive(Clone, Debug, PartialEq)]
pub struct Preview {
    /// Its id, from which the address is computed.
    pub id: Uuid,
    /// SHA-256 of the secret part of the address.
    pub hash: String,
    /// The drafts, and what is performed in a trial of them, as JSON.
    pub about: String,
    /// Whose token opened it.
    pub operator: String,
    /// When it was opened.
    pub created: Timestamp,
    /// When it closes.
    pub expires: Timestamp,
}

/// Deleted in one statement.
const ROWS: u32 = 500;

impl Store {
    /// Keeps a trial.
    pub async fn keep_trial(&self, trial: &TrialRow) -> Result<()> {
        sqlx::query!(
            "INSERT INTO trial (id, workflow, entry, state, status, started, expires, operator, shown, recorded)
             VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
            trial.id.as_bytes().as_slice(),
            trial.workflow,
            trial.entry,
            trial.state,
            trial.status,
            trial.started.as_micros(),
            trial.expires.as_micros(),
            trial.operator,
            trial.shown,
            trial.recorded
        )
        .execute(&self.pool)
        .await
        .map(|_| ())
        .doing("keeping a trial")
    }

    /// A trial by its id: what it did and its case, both as JSON.
    pub async fn trial(&self, id: Uuid, now: Timestamp) -> Result<Option<(String, String)>> {
        let row = sqlx::query!(
            "SELECT shown, recorded FROM trial WHERE id = ? AND expires > ?",
            id.as_bytes().as_slice(),
            now.as_micros()
        );
        let row = row.fetch_optional(&self.pool).await.doing("reading a trial")?;
        Ok(row.map(|row| (row.shown, row.recorded)))
    }

    /// Trials without what they did, newest first.
    pub async fn trials(&self, now: Timestamp, limit: u32) -> Result<Vec<TrialRow>> {
        let rows = sqlx::query!(
            "SELECT id, workflow, entry, state, status, started, expires, operator FROM trial WHERE expires > ? ORDER BY id DESC LIMIT ?",
            now.as_micros(),
            limit
        );
        let rows = rows.fetch_all(&self.pool).await.doing("listing trials")?;
        let one = rows.into_iter().map(|row| TrialRow {
            id: Uuid::from_slice(&row.id).unwrap_or_default(),
            workflow: row.workflow,
            entry: row.entry,
            state: row.state,
            status: row.status,
            started: Timestamp::from_micros(row.started),
            expires: Timestamp::from_micros(row.expires),
            operator: row.operator,
            shown: String::new(),
            recorded: String::new(),
        });
        Ok(one.collect())
    }

    /// Deletes trials whose time is over, and the oldest beyond so many; returns how many.
    pub async fn purge_trials(&self, now: Timestamp, most: u64) -> Result<u64> {
        let beyond = sqlx::query_scalar!("SELECT id FROM trial ORDER BY id DESC LIMIT 1 OFFSET ?", most)
            .fetch_optional(&self.pool)
            .await
            .doing("counting trials")?
            .unwrap_or_default();
        let gone =
            sqlx::query!("DELETE FROM trial WHERE expires <= ? OR id <= ? LIMIT ?", now.as_micros(), beyond, ROWS);
        Ok(gone.execute(&self.pool).await.doing("deleting old trials")?.rows_affected())
    }

    /// Opens an address for drafts.
    pub async fn open_preview(&self, preview: &Preview) -> Result<()> {
        sqlx::query!(
            "INSERT INTO preview (id, hash, about, operator, created, expires) VALUES (?, ?, ?, ?, ?, ?)",
            preview.id.as_bytes().as_slice(),
            preview.hash,
            preview.about,
            preview.operator,
            preview.created.as_micros(),
            preview.expires.as_micros()
        )
        .execute(&self.pool)
        .await
        .map(|_| ())
        .doing("opening an address for drafts")
    }

    /// The addresses that are open, newest first.
    pub async fn previews(&self, now: Timestamp, limit: u32) -> Result<Vec<Preview>> {
        let rows = sqlx::query!(
            "SELECT id, hash, about, operator, created, expires FROM preview WHERE expires > ? ORDER BY id DESC LIMIT ?",
            now.as_micros(),
            limit
        );
        let rows = rows.fetch_all(&self.pool).await.doing("listing addresses of drafts")?;
        let one = rows.into_iter().map(|row| Preview {
            id: Uuid::from_slice(&row.id).unwrap_or_default(),
            hash: row.hash,
            about: row.about,
            operator: row.operator,
            created: Timestamp::from_micros(row.created),
            expires: Timestamp::from_micros(row.expires),
        });
        Ok(one.collect())
    }

    /// Closes an address; false when it was not open.
    pub async fn close_preview(&self, id: Uuid) -> Result<bool> {
        let gone = sqlx::query!("DELETE FROM preview WHERE id = ?", id.as_bytes().as_slice());
        Ok(gone.execute(&self.pool).await.doing("closing an address of drafts")?.rows_affected() > 0)
    }

    /// Deletes addresses whose time is over.
    pub async fn purge_previews(&self, now: Timestamp) -> Result<u64> {
        let gone = sqlx::query!("DELETE FROM preview WHERE expires <= ?", now.as_micros());
        Ok(gone.execute(&self.pool).await.doing("deleting addresses of drafts")?.rows_affected())
    }
}
