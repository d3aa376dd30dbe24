//! Changed rows of watched tables that were accepted: their jobs, and that they are not accepted again.
//!
//! A change is read from its database and removed there in a transaction of its own. Between the two a process may end, so what was accepted
//! is remembered here in the transaction that queues its jobs.

use std::collections::{BTreeMap, HashSet};

use kanzlei_model::time::{Span, Timestamp};
use sqlx::{MySql, QueryBuilder, Row, Transaction};

use super::{NewJob, portions, repeated};
use crate::refusals::Refusal;
use crate::{Doing, Error, Result, Store};

/// How long a change is remembered: longer than a process hangs between reading it and accepting it. A change is removed from its
/// database at once, or when another process reads it again. At 2,000 changes a second these are 43 million rows.
const REMEMBERED: Span = Span::from_secs(6 * 3600);

/// A changed row with what comes of it.
#[derive(Clone, Debug, Default)]
pub struct AcceptedChange {
    /// What tells it apart from all others, as 64 hexadecimal digits.
    pub print: String,
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
    /// Queues the jobs of changes and keeps what is unfit, in one transaction; changes that were accepted before do nothing. Returns how many were new.
    pub async fn accept_changes(
        &self,
        database: &str,
        changes: &[AcceptedChange],
        process: &str,
        at: Timestamp,
    ) -> Result<usize> {
        repeated(|| self.try_accept_changes(database, changes, process, at)).await
    }

    async fn try_accept_changes(
        &self,
        database: &str,
        changes: &[AcceptedChange],
        process: &str,
        at: Timestamp,
    ) -> Result<usize> {
        let mut tx = self.pool.begin().await.map_err(Error::Unreachable)?;
        let known = remembered(&mut tx, changes).await?;
        let fresh: Vec<&AcceptedChange> = changes.iter().filter(|change| !known.contains(&change.print)).collect();
        for chunk in portions(&fresh) {
            let mut query: QueryBuilder<MySql> = QueryBuilder::new("INSERT INTO delivery_key (hash, delivery, until) ");
            query.push_values(chunk, |mut row, change| {
                row.push_bind(&change.print).push_bind([0_u8; 16].as_slice()).push_bind((at + REMEMBERED).as_micros());
            });
            query.build().execute(&mut *tx).await.doing("remembering changes")?;
        }
        let jobs: Vec<&NewJob> = fresh.iter().flat_map(|change| &change.jobs).collect();
        let lanes = self.insert_jobs(&mut tx, &jobs).await?;
        let unfit: Vec<&Refusal> = fresh.iter().flat_map(|change| &change.unfit).collect();
        for chunk in portions(&unfit) {
            Refusal::insert(chunk.iter().copied()).build().execute(&mut *tx).await.doing("keeping unfit changes")?;
        }
        let mut counts: BTreeMap<&str, (u64, u64, u64)> = BTreeMap::new();
        for change in &fresh {
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
        Ok(fresh.len())
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

/// Which of the changes were accepted before.
async fn remembered(tx: &mut Transaction<'_, MySql>, changes: &[AcceptedChange]) -> Result<HashSet<String>> {
    let mut known = HashSet::new();
    for chunk in portions(changes) {
        let mut query: QueryBuilder<MySql> = QueryBuilder::new("SELECT hash FROM delivery_key WHERE hash IN (");
        let mut list = query.separated(", ");
        for change in chunk {
            list.push_bind(&change.print);
        }
        query.push(")");
        let rows = query.build().fetch_all(&mut **tx).await.doing("looking for changes")?;
        known.extend(rows.iter().filter_map(|row| row.try_get::<String, _>(0).ok()));
    }
    Ok(known)
}
