//! Changed rows of watched tables that were accepted: their jobs, and that they are not accepted again.
//!
//! A change is read from its database and removed there in a transaction of its own. Between the two a process may end, so the changes that were
//! accepted last are kept here, in the transaction that queues their jobs: the next reader removes them without accepting them again. A reader
//! that was replaced while it was paused accepts nothing: each reader has a number of its own, and only the last one counts.

use std::collections::{BTreeMap, HashSet};

use kanzlei_model::time::Timestamp;

use super::{NewJob, portions, repeated};
use crate::refusals::Refusal;
use crate::{Doing, Error, Result, Store};

/// The identity of a change in its database: its number, and its instant in microseconds, because a table that is emptied or recreated
/// numbers from the beginning.
pub type Mark = (u64, i64);

/// A reader of the changes of a database.
#[derive(Clone, Debug, PartialEq)]
pub struct Reading {
    turn: u64,
    /// Changes that the reader before it accepted and perhaps did not remove.
    pub accepted: HashSet<Mark>,
}

/// A changed row with what comes of it.
#[derive(Clone, Debug, Default)]
pub struct AcceptedChange {
    /// Its identity.
    pub mark: Mark,
    /// The table.
    pub table: String,
    /// Jobs that it begins.
    pub jobs: Vec<NewJob>,
    /// Workflows that do not accept it.
    pub unfit: Vec<Refusal>,
}

/// How a watched table stands.
#[derive(Clone, Debug, PartialEq)]
pub struct WatchState {
    /// The database.
    pub database: String,
    /// The table.
    pub table: String,
    /// Changes that were accepted.
    pub accepted: u64,
    /// Jobs that came of them.
    pub jobs: u64,
    /// Workflows that did not accept one, each time.
    pub unfit: u64,
    /// When the last one was accepted.
    pub last: Timestamp,
    /// The process that accepted it.
    pub process: String,
}

impl Store {
    /// Begins to read the changes of a database; a reader before it accepts nothing from now on.
    pub async fn begin_reading(&self, database: &str) -> Result<Reading> {
        repeated(|| self.try_begin_reading(database)).await
    }

    async fn try_begin_reading(&self, database: &str) -> Result<Reading> {
        let mut tx = self.pool.begin().await.map_err(Error::Unreachable)?;
        sqlx::query!(
            "INSERT INTO change_reader (name, turn, accepted) VALUES (?, 1, '') ON DUPLICATE KEY UPDATE turn = turn + 1",
            database
        )
        .execute(&mut *tx)
        .await
        .doing("beginning to read changes")?;
        let row = sqlx::query!("SELECT turn, accepted FROM change_reader WHERE name = ?", database)
            .fetch_one(&mut *tx)
            .await
            .doing("beginning to read changes")?;
        tx.commit().await.doing("beginning to read changes")?;
        Ok(Reading { turn: row.turn, accepted: unpacked(&row.accepted) })
    }

    /// Queues the jobs of changes and keeps what is unfit, in one transaction. Returns whether it did: not when another reader has begun.
    pub async fn accept_changes(
        &self,
        database: &str,
        reading: &Reading,
        changes: &[AcceptedChange],
        process: &str,
        at: Timestamp,
    ) -> Result<bool> {
        repeated(|| self.try_accept_changes(database, reading, changes, process, at)).await
    }

    async fn try_accept_changes(
        &self,
        database: &str,
        reading: &Reading,
        changes: &[AcceptedChange],
        process: &str,
        at: Timestamp,
    ) -> Result<bool> {
        let mut tx = self.pool.begin().await.map_err(Error::Unreachable)?;
        let accepted = packed(changes.iter().map(|change| change.mark));
        let turn = sqlx::query!(
            "UPDATE change_reader SET accepted = ? WHERE name = ? AND turn = ?",
            accepted,
            database,
            reading.turn
        )
        .execute(&mut *tx)
        .await
        .doing("keeping what was accepted")?;
        if turn.rows_affected() == 0 {
            return Ok(false);
        }
        let jobs: Vec<&NewJob> = changes.iter().flat_map(|change| &change.jobs).collect();
        let lanes = self.insert_jobs(&mut tx, &jobs).await?;
        let unfit: Vec<&Refusal> = changes.iter().flat_map(|change| &change.unfit).collect();
        for chunk in portions(&unfit) {
            Refusal::insert(chunk.iter().copied()).build().execute(&mut *tx).await.doing("keeping unfit changes")?;
        }
        let mut counts: BTreeMap<&str, (u64, u64, u64)> = BTreeMap::new();
        for change in changes {
            let count = counts.entry(&change.table).or_default();
            *count = (count.0 + 1, count.1 + change.jobs.len() as u64, count.2 + change.unfit.len() as u64);
        }
        for (table, (accepted, jobs, unfit)) in counts {
            sqlx::query!(
                "INSERT INTO watched (name, tab, accepted, jobs, unfit, last, process) VALUES (?, ?, ?, ?, ?, ?, ?)
                 ON DUPLICATE KEY UPDATE accepted = accepted + VALUES(accepted), jobs = jobs + VALUES(jobs), unfit = unfit + VALUES(unfit),
                    last = VALUES(last), process = VALUES(process)",
                database,
                table,
                accepted,
                jobs,
                unfit,
                at.as_micros(),
                process
            )
            .execute(&mut *tx)
            .await
            .doing("counting changes")?;
        }
        tx.commit().await.doing("accepting changes")?;
        self.lanes.learn(lanes);
        Ok(true)
    }

    /// How watched tables stand.
    pub async fn watched_tables(&self) -> Result<Vec<WatchState>> {
        let rows =
            sqlx::query!("SELECT name, tab, accepted, jobs, unfit, last, process FROM watched ORDER BY name, tab")
                .fetch_all(&self.pool)
                .await
                .doing("listing watched tables")?;
        let states = rows.into_iter().map(|row| WatchState {
            database: row.name,
            table: row.tab,
            accepted: row.accepted,
            jobs: row.jobs,
            unfit: row.unfit,
            last: Timestamp::from_micros(row.last),
            process: row.process,
        });
        Ok(states.collect())
    }
}

fn packed(marks: impl Iterator<Item = Mark>) -> Vec<u8> {
    marks.flat_map(|(id, at)| [id.to_be_bytes(), at.to_be_bytes()]).flatten().collect()
}

fn unpacked(bytes: &[u8]) -> HashSet<Mark> {
    let (marks, _) = bytes.as_chunks::<16>();
    let number = |half: &[u8]| half.iter().fold(0, |all: u64, byte| all << 8 | u64::from(*byte));
    marks.iter().map(|mark| (number(&mark[..8]), number(&mark[8..]) as i64)).collect()
}
