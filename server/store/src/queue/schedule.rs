//! Timetables and callbacks: events that must happen once over all processes.

use kanzlei_model::time::Timestamp;
use uuid::Uuid;

use super::uuid;
use crate::{Doing, Result, Store};

/// How far a timetable has been handled.
#[derive(Clone, Debug, PartialEq)]
pub struct TimetableState {
    /// Name of the workflow.
    pub workflow: String,
    /// Index among the workflow's entries.
    pub entry: u16,
    /// Pattern and zone when it was last read.
    pub definition: String,
    /// Due instants up to this one are handled.
    pub handled_until: Timestamp,
    /// Whether an operator paused it.
    pub paused: bool,
}

/// The result of one due instant.
#[derive(Clone, Debug, PartialEq)]
pub struct Firing {
    /// Due instant.
    pub due: Timestamp,
    /// `queued`, `missed`, `skipped`, `by-hand`.
    pub result: String,
    /// Job that was queued for it.
    pub job: Option<Uuid>,
    /// The phase of the job, when it is still there.
    pub phase: Option<u8>,
    /// When it was handled.
    pub at: Timestamp,
}

impl Store {
    /// Returns the state of every timetable.
    pub async fn timetables(&self) -> Result<Vec<TimetableState>> {
        sqlx::query_as!(
            TimetableState,
            "SELECT workflow, entry, definition, handled_until, paused AS `paused: bool` FROM timetable"
        )
        .fetch_all(&self.pool)
        .await
        .doing("reading timetables")
    }

    /// Registers a timetable; one whose definition has changed restarts from now.
    pub async fn begin_timetable(&self, workflow: &str, entry: u16, definition: &str, now: Timestamp) -> Result<()> {
        sqlx::query!(
            "INSERT INTO timetable (workflow, entry, definition, handled_until) VALUES (?, ?, ?, ?)
             ON DUPLICATE KEY UPDATE handled_until = IF(definition = VALUES(definition), handled_until, VALUES(handled_until)), definition = VALUES(definition)",
            workflow,
            entry,
            definition,
            now.as_micros()
        )
        .execute(&self.pool)
        .await
        .map(|_| ())
        .doing("beginning a timetable")
    }

    /// Records that due instants up to one are handled.
    pub async fn timetable_handled(&self, workflow: &str, entry: u16, handled_until: Timestamp) -> Result<()> {
        sqlx::query!(
            "UPDATE timetable SET handled_until = GREATEST(handled_until, ?) WHERE workflow = ? AND entry = ?",
            handled_until.as_micros(),
            workflow,
            entry
        )
        .execute(&self.pool)
        .await
        .map(|_| ())
        .doing("writing a timetable")
    }

    /// Pauses a timetable or resumes it from now; false for one that is not known.
    pub async fn pause_timetable(&self, workflow: &str, entry: u16, paused: bool, now: Timestamp) -> Result<bool> {
        let done = sqlx::query!(
            "UPDATE timetable SET handled_until = IF(paused = 1 AND ? = 0, ?, handled_until), paused = ? WHERE workflow = ? AND entry = ?",
            paused,
            now.as_micros(),
            paused,
            workflow,
            entry
        )
        .execute(&self.pool)
        .await
        .doing("pausing a timetable")?;
        let known =
            sqlx::query_scalar!("SELECT entry FROM timetable WHERE workflow = ? AND entry = ?", workflow, entry);
        Ok(done.rows_affected() > 0 || known.fetch_optional(&self.pool).await.doing("pausing a timetable")?.is_some())
    }

    /// Records a due instant as handled; true for the one process that came first.
    pub async fn fire(
        &self,
        workflow: &str,
        entry: u16,
        due: Timestamp,
        result: &str,
        job: Option<Uuid>,
        now: Timestamp,
    ) -> Result<bool> {
        let done = sqlx::query!(
            "INSERT IGNORE INTO firing (workflow, entry, due, result, job, at) VALUES (?, ?, ?, ?, ?, ?)",
            workflow,
            entry,
            due.as_micros(),
            result,
            job.map(|id| id.as_bytes().to_vec()),
            now.as_micros()
        )
        .execute(&self.pool)
        .await
        .doing("firing a timetable")?;
        Ok(done.rows_affected() > 0)
    }

    /// The latest due instants of a timetable with their results, newest first.
    pub async fn firings(&self, workflow: &str, entry: u16, limit: u32) -> Result<Vec<Firing>> {
        let rows = sqlx::query!(
            "SELECT f.due, f.result, f.job AS `job: Vec<u8>`, f.at, j.phase AS `phase?` FROM firing f LEFT JOIN job j ON j.id = f.job
             WHERE f.workflow = ? AND f.entry = ? ORDER BY f.due DESC LIMIT ?",
            workflow,
            entry,
            limit
        )
        .fetch_all(&self.pool)
        .await
        .doing("reading firings")?;
        Ok(rows
            .into_iter()
            .map(|row| Firing {
                due: Timestamp::from_micros(row.due),
                result: row.result,
                job: row.job.as_deref().map(uuid),
                phase: row.phase,
                at: Timestamp::from_micros(row.at),
            })
            .collect())
    }

    /// Deletes firings before an instant, at most 5,000; returns how many.
    pub async fn purge_firings(&self, before: Timestamp) -> Result<u64> {
        sqlx::query!("DELETE FROM firing WHERE due < ? LIMIT 5000", before.as_micros())
            .execute(&self.pool)
            .await
            .map(|done| done.rows_affected())
            .doing("deleting old firings")
    }
}
