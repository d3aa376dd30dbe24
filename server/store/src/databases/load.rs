//! A statement that is performed for each of many rows, and a query whose rows go somewhere as they come. Neither holds all rows.
//!
//! Rows of an insert are sent many at a time, as one statement. Where the database refuses such a statement, it is undone
//! and its rows are sent one by one, so that the first wrong one is known.

use std::ops::Range;
use std::time::Duration;

use futures_util::TryStreamExt;
use kanzlei_model::run::FailureKind;
use serde_json::Value as Json;
use sqlx::{AssertSqlSafe, Either, Executor, MySqlConnection};
use tokio::sync::mpsc;

use super::{Database, Refused, Statement, StatementResult, Stop, bound, object, one, refused};

/// Rows that are sent together.
pub const TOGETHER: usize = 500;
/// Values that are sent together; MariaDB accepts 65,535.
pub const VALUES: usize = 10_000;
/// Rows of a query that are passed on together.
const PASSED: usize = 200;

/// A row for a statement.
#[derive(Clone, Debug, PartialEq)]
pub struct Loaded {
    /// The name of the file it comes from when several are read.
    pub file: Option<std::sync::Arc<str>>,
    /// The number of its line or row.
    pub line: u64,
    /// Its values, one for each placeholder.
    pub values: Vec<Json>,
}

/// Some rows, at most [`TOGETHER`] and [`VALUES`], or why no more of them can be read.
pub type Chunk = Result<Vec<Loaded>, (FailureKind, String)>;

/// A statement and the rows it is performed for.
pub struct Load {
    /// Statement, with `?` in place of each value.
    pub text: String,
    /// Where the values of a row stand in it, when several can stand there.
    pub tuple: Option<Range<usize>>,
    /// What the numbers of rows count: `line`, `row`.
    pub what: &'static str,
    /// Begins to read the rows; again where the transaction met another one.
    pub open: Box<dyn Fn() -> mpsc::Receiver<Chunk> + Send + Sync>,
}

impl Load {
    /// The statement for so many rows at once.
    fn for_rows(&self, count: usize) -> String {
        match &self.tuple {
            Some(tuple) if count > 1 => {
                let (before, after) = (&self.text[..tuple.end], &self.text[tuple.end..]);
                let more = format!(", {}", &self.text[tuple.clone()]).repeat(count - 1);
                format!("{before}{more}{after}")
            }
            _ => self.text.clone(),
        }
    }
}

/// Performs the statement for all rows; the caller begins the transaction and ends it.
pub(super) async fn load(connection: &mut MySqlConnection, load: &Load) -> Result<StatementResult, Stop> {
    let mut rows = (load.open)();
    let mut count = 0;
    while let Some(chunk) = rows.recv().await {
        let chunk = chunk.map_err(|(kind, detail)| Stop::Unread(kind, detail))?;
        count += match load.tuple.is_some() && chunk.len() > 1 {
            false => one_by_one(connection, load, &chunk).await?,
            true => {
                sqlx::raw_sql("SAVEPOINT kanzlei_rows").execute(&mut *connection).await?;
                let values = chunk.iter().flat_map(|row| row.values.iter().cloned()).collect();
                match one(connection, &Statement { text: load.for_rows(chunk.len()), values }).await {
                    Ok(done) => done.count,
                    // The transaction is undone already.
                    Err(Stop::Sql(error)) if crate::number(&error) == Some(1213) => return Err(error.into()),
                    Err(Stop::Sql(error @ sqlx::Error::Database(_))) => {
                        sqlx::raw_sql("ROLLBACK TO SAVEPOINT kanzlei_rows").execute(&mut *connection).await?;
                        one_by_one(connection, load, &chunk).await?;
                        // Alone each of them fits.
                        return Err(error.into());
                    }
                    Err(other) => return Err(other),
                }
            }
        };
    }
    Ok(StatementResult { rows: Vec::new(), count, id: None })
}

async fn one_by_one(connection: &mut MySqlConnection, load: &Load, rows: &[Loaded]) -> Result<u64, Stop> {
    let mut count = 0;
    for row in rows {
        let done = one(connection, &Statement { text: load.text.clone(), values: row.values.clone() }).await;
        count += match done {
            Ok(done) => done.count,
            Err(Stop::Sql(error @ sqlx::Error::Database(_))) if crate::number(&error) != Some(1213) => {
                let (kind, detail) = refused(error).reported();
                let file = row.file.as_ref().map_or_else(String::new, |file| format!("{file}, "));
                return Err(Stop::Unread(kind, format!("{file}{} {}: {detail}", load.what, row.line)));
            }
            Err(other) => return Err(other),
        };
    }
    Ok(count)
}

impl Database {
    /// Passes on the rows of a query as they come, in a transaction that can do nothing else. Ends early where they are not taken.
    ///
    /// # Errors
    /// When the database refuses the query, or it takes too long.
    pub async fn pass(
        &self,
        statement: &Statement,
        within: Duration,
        rows: mpsc::Sender<Vec<Json>>,
    ) -> Result<(), Refused> {
        let until = tokio::time::Instant::now() + within;
        let mut connection = self.connection_until(until).await?;
        let time = format!("SET max_statement_time = {:.3}", within.as_secs_f64().max(0.001));
        let work = async {
            sqlx::raw_sql(AssertSqlSafe(time)).execute(&mut *connection).await?;
            let mut tx = sqlx::Connection::begin_with(&mut *connection, "START TRANSACTION READ ONLY").await?;
            let mut some = Vec::with_capacity(PASSED);
            {
                let mut found = tx.fetch_many(bound(statement));
                while let Some(item) = found.try_next().await? {
                    let Either::Right(row) = item else { continue };
                    some.push(object(&row, &mut 0));
                    if some.len() >= PASSED && rows.send(std::mem::take(&mut some)).await.is_err() {
                        return Ok(false);
                    }
                }
            }
            let _ = rows.send(some).await;
            tx.rollback().await?;
            Ok(true)
        };
        match tokio::time::timeout_at(until, work).await {
            Ok(Ok(true)) => Ok(()),
            Ok(Err(error)) => Err(refused(error)),
            // It is still busy with rows that are not taken.
            Ok(Ok(false)) => {
                connection.close_on_drop();
                Ok(())
            }
            Err(_) => {
                connection.close_on_drop();
                Err(Refused::Timeout)
            }
        }
    }
}
