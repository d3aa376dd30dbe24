//! Databases that workflows ask by name, which are not the service's own: statements of builders, with
//! values only in their places, and rows as JSON values.
//!
//! Rows come in MariaDB's binary protocol; [`json`] turns each column into the JSON type it stands for:
//! numbers as numbers (a DECIMAL as the nearest double), TINYINT(1) and BOOLEAN as booleans, dates as
//! `2027-03-04`, instants as RFC 3339 in UTC, JSON columns as what they hold, bytes that are no text as
//! base64.

pub mod changes;
pub mod load;
pub mod once;
mod session;

use std::sync::Arc;
use std::time::Duration;

use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use futures_util::TryStreamExt;
use kanzlei_model::run::FailureKind;
use serde_json::{Map, Value as Json};
use sqlx::mysql::{MySqlArguments, MySqlConnectOptions, MySqlPool, MySqlPoolOptions, MySqlRow};
use sqlx::pool::PoolConnection;
use sqlx::query::Query;
use sqlx::{AssertSqlSafe, Column, Either, Executor, MySql, Row, SqlSafeStr, TypeInfo};

pub use session::Own;

use crate::pool::returning;
use crate::{Error, Result};
use session::Guard;

/// The most rows one statement may return.
pub const MAX_ROWS: usize = 50_000;
/// The most bytes of values one statement may return.
pub const MAX_BYTES: usize = 32 << 20;
/// How much longer than its time a statement is waited for before its connection is given up.
const GRACE: Duration = Duration::from_millis(250);
/// How often a transaction that met another one is tried in all.
const TRIES: u32 = 4;

/// A pool of connections to a builder's database. Cheap to clone.
#[derive(Clone, Debug)]
pub struct Database {
    pool: MySqlPool,
    guard: Arc<Guard>,
}

/// A statement with `?` in place of each value.
#[derive(Clone, Debug, PartialEq)]
pub struct Statement {
    /// Statement, with `?` in place of each value.
    pub text: String,
    /// Null, booleans, numbers and texts.
    pub values: Vec<Json>,
}

/// What a step does in a database.
#[derive(Clone, Copy)]
pub enum Work<'w> {
    /// Statements, one after another.
    Statements(&'w [Statement]),
    /// One statement for each of many rows, in one transaction.
    Load(&'w load::Load),
}

impl<'w, T: AsRef<[Statement]> + ?Sized> From<&'w T> for Work<'w> {
    fn from(statements: &'w T) -> Self {
        Work::Statements(statements.as_ref())
    }
}

/// What a statement returned.
#[derive(Clone, Debug, Default, PartialEq, serde::Serialize, serde::Deserialize)]
pub struct StatementResult {
    /// Objects by column name.
    pub rows: Vec<Json>,
    /// Rows returned, or changed.
    pub count: u64,
    /// The id made for an inserted row.
    pub id: Option<i64>,
}

/// A column that a statement returns.
#[derive(Clone, Debug, PartialEq)]
pub struct Described {
    /// Name of the column.
    pub name: String,
    /// MariaDB's name of the type: `VARCHAR`, `BIGINT UNSIGNED`.
    pub type_name: String,
    /// Whether it can be null.
    pub nullable: bool,
}

/// Why statements returned nothing.
#[derive(Clone, Debug, PartialEq)]
pub enum Refused {
    /// The database is unavailable.
    Unavailable(String),
    /// The statements took longer than allowed.
    Timeout,
    /// A row with this key exists.
    Duplicate(String),
    /// Too many rows or bytes.
    TooLarge(String),
    /// The database rejects the statement.
    Sql(String),
    /// The rows that a statement is performed for: the kind of failure and its detail.
    Unread(FailureKind, String),
    /// No statement is sent: its user can see the service's own records.
    Disabled(String),
}

impl Refused {
    /// The kind of failure that workflows see, and its detail.
    pub fn reported(self) -> (FailureKind, String) {
        match self {
            Refused::Unavailable(why) => (FailureKind::Database, why),
            Refused::Timeout => (FailureKind::Timeout, "the database did not answer in time".into()),
            Refused::Duplicate(why) => (FailureKind::Duplicate, why),
            Refused::TooLarge(why) => (FailureKind::TooLarge, why),
            Refused::Sql(why) => (FailureKind::Sql, why),
            Refused::Unread(kind, why) => (kind, why),
            Refused::Disabled(why) => {
                let detail = format!("it is disabled, because {why}; name a user with rights to its own schema only");
                (FailureKind::Sql, detail)
            }
        }
    }
}

impl Database {
    /// Prepares a pool without connecting yet. A user who can see the schema `own` disables the database.
    pub fn connect(url: &str, connections: u32, own: Option<Own>) -> Result<Self> {
        let options: MySqlConnectOptions = url.parse().map_err(Error::Address)?;
        let options = options.charset("utf8mb4").timezone(Some("+00:00".into()));
        Ok(Database::with(options, connections, Guard::new(own)))
    }

    /// Connections of the pool: idle, open, and at most.
    pub fn connections(&self) -> (u32, u32, u32) {
        crate::pool::connections(&self.pool)
    }

    fn with(options: MySqlConnectOptions, connections: u32, guard: Arc<Guard>) -> Self {
        let begins = guard.clone();
        let pool = returning(MySqlPoolOptions::new())
            .max_connections(connections)
            .acquire_timeout(Duration::from_secs(3))
            .after_connect(move |connection, _| {
                let guard = begins.clone();
                Box::pin(async move { guard.begin(connection).await })
            })
            .connect_lazy_with(options);
        Database { pool, guard }
    }

    /// A connection whose user may see nothing of the service's.
    async fn connection(&self) -> std::result::Result<PoolConnection<MySql>, Refused> {
        let mut connection = self.pool.acquire().await.map_err(refused)?;
        match self.guard.fault() {
            None => Ok(connection),
            Some(fault) => {
                // The next one looks again.
                connection.close_on_drop();
                Err(Refused::Disabled(fault))
            }
        }
    }

    /// A fresh database on the same server, with tables and rows made by these statements; it exists until
    /// [`Database::discard`].
    pub async fn fresh(&self, name: &str, seed: &str) -> std::result::Result<Self, Refused> {
        let create = format!("CREATE DATABASE `{}` CHARACTER SET utf8mb4", plain_name(name)?);
        sqlx::raw_sql(AssertSqlSafe(create)).execute(&mut *self.connection().await?).await.map_err(refused)?;
        let options = (*self.pool.connect_options()).clone().database(name);
        let fresh = Database::with(options, 1, self.guard.clone());
        let seeded = sqlx::raw_sql(AssertSqlSafe(seed.to_owned())).execute(&fresh.pool).await;
        match seeded {
            Ok(_) => Ok(fresh),
            Err(error) => {
                let _ = fresh.discard(name).await;
                Err(refused(error))
            }
        }
    }

    /// Drops databases named `PREFIX` and a UUID (version 7) that were made longer ago than `age`: what a process
    /// that crashed left behind. Returns their names.
    pub async fn sweep(&self, prefix: &str, age: Duration) -> std::result::Result<Vec<String>, Refused> {
        let names: Vec<String> = sqlx::query_scalar("SELECT SCHEMA_NAME FROM information_schema.SCHEMATA")
            .fetch_all(&mut *self.connection().await?)
            .await
            .map_err(refused)?;
        let now = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).unwrap_or_default();
        let old = |name: &str| {
            let made = name.strip_prefix(prefix)?.parse::<uuid::Uuid>().ok()?.get_timestamp()?.to_unix().0;
            (Duration::from_secs(made) + age < now).then_some(())
        };
        let mut swept = Vec::new();
        for name in names.into_iter().filter(|name| old(name).is_some()) {
            let drop = format!("DROP DATABASE IF EXISTS `{}`", plain_name(&name)?);
            sqlx::raw_sql(AssertSqlSafe(drop)).execute(&self.pool).await.map_err(refused)?;
            swept.push(name);
        }
        Ok(swept)
    }

    /// Drops a database that [`Database::fresh`] made.
    pub async fn discard(&self, name: &str) -> std::result::Result<(), Refused> {
        let drop = format!("DROP DATABASE IF EXISTS `{}`", plain_name(name)?);
        sqlx::raw_sql(AssertSqlSafe(drop)).execute(&self.pool).await.map_err(refused)?;
        self.pool.close().await;
        Ok(())
    }

    /// The columns that a statement returns, or why the database rejects it.
    pub async fn describe(&self, text: &str) -> std::result::Result<Vec<Described>, Refused> {
        describe_on(&mut *self.connection().await?, text).await
    }

    /// Every table and view with its columns as statements return them, by name; at most `most` tables.
    pub async fn tables(&self, most: usize) -> std::result::Result<Vec<(String, Vec<Described>)>, Refused> {
        let mut connection = self.connection().await?;
        let names: Vec<String> = sqlx::query_scalar(
            "SELECT CAST(table_name AS CHAR) FROM information_schema.tables WHERE table_schema = DATABASE() ORDER BY table_name LIMIT ?",
        )
        .bind(most as u64)
        .fetch_all(&mut *connection)
        .await
        .map_err(refused)?;
        drop(connection);
        let mut tables = Vec::with_capacity(names.len());
        for name in names.into_iter().filter(|name| !matches!(name.as_str(), "kanzlei_done" | "kanzlei_change")) {
            let text = format!("SELECT * FROM `{}` LIMIT 0", name.replace('`', "``"));
            let columns = self.describe(&text).await?;
            tables.push((name, columns));
        }
        Ok(tables)
    }

    /// Does its work, in one transaction if so asked.
    pub async fn run(
        &self,
        work: impl Into<Work<'_>>,
        transaction: bool,
        within: Duration,
    ) -> std::result::Result<Vec<StatementResult>, Refused> {
        let until = tokio::time::Instant::now() + within;
        let mut connection = self.connection_until(until).await?;
        match timely(&mut connection, work.into(), transaction, until).await {
            Ok(done) => done,
            Err(_) => {
                // It is still busy with an abandoned statement.
                connection.close_on_drop();
                Err(Refused::Timeout)
            }
        }
    }

    /// Runs statements that read in a transaction that can do nothing else, and is undone.
    pub async fn read(
        &self,
        statements: &[Statement],
        within: Duration,
    ) -> std::result::Result<Vec<StatementResult>, Refused> {
        let until = tokio::time::Instant::now() + within;
        let mut connection = self.connection_until(until).await?;
        let work = async {
            let mut tx = sqlx::Connection::begin_with(&mut *connection, "START TRANSACTION READ ONLY").await?;
            let all = each(&mut tx, Work::Statements(statements)).await?;
            tx.rollback().await?;
            Ok::<_, Stop>(all)
        };
        match tokio::time::timeout_at(until, work).await {
            Ok(done) => done.map_err(Refused::from),
            Err(_) => {
                connection.close_on_drop();
                Err(Refused::Timeout)
            }
        }
    }

    /// Runs statements that may leave state in a connection on a new one, which is closed afterwards. It holds a place
    /// of the pool until then, so at most as many of these are open as the pool has connections.
    pub async fn run_apart(
        &self,
        work: impl Into<Work<'_>>,
        transaction: bool,
        within: Duration,
    ) -> std::result::Result<Vec<StatementResult>, Refused> {
        let until = tokio::time::Instant::now() + within;
        let _place = self.connection_until(until).await?;
        let opened = async {
            let options = self.pool.connect_options();
            let mut connection = sqlx::ConnectOptions::connect(&*options).await?;
            self.guard.begin(&mut connection).await?;
            Ok(connection)
        };
        let mut connection =
            tokio::time::timeout_at(until, opened).await.map_err(|_| Refused::Timeout)?.map_err(refused)?;
        let done = timely(&mut connection, work.into(), transaction, until).await.unwrap_or(Err(Refused::Timeout));
        // The statements are done; a server that does not say goodbye changes nothing.
        let _ = tokio::time::timeout(GRACE, sqlx::Connection::close(connection)).await;
        done
    }

    async fn connection_until(
        &self,
        until: tokio::time::Instant,
    ) -> std::result::Result<PoolConnection<MySql>, Refused> {
        tokio::time::timeout_at(until, self.connection()).await.unwrap_or(Err(Refused::Timeout))
    }
}

/// Runs statements on a connection; an error when the connection is still busy at the end of their time.
async fn timely(
    connection: &mut sqlx::MySqlConnection,
    work: Work<'_>,
    transaction: bool,
    until: tokio::time::Instant,
) -> std::result::Result<std::result::Result<Vec<StatementResult>, Refused>, tokio::time::error::Elapsed> {
    // The database ends what takes too long by itself; the client's own bound is for one that hangs.
    let left = until.saturating_duration_since(tokio::time::Instant::now()).as_secs_f64().max(0.001);
    let bound = format!("SET max_statement_time = {left:.3}");
    let transaction = transaction || matches!(work, Work::Load(_));
    let work = async {
        sqlx::raw_sql(AssertSqlSafe(bound)).execute(&mut *connection).await.map_err(refused)?;
        let mut tries = 1;
        loop {
            let done = if transaction { all_or_none(connection, work).await } else { each(connection, work).await };
            match done {
                // Another transaction won; nothing of this one was done.
                Err(Stop::Sql(error)) if crate::number(&error) == Some(1213) && tries < TRIES => tries += 1,
                done => return done.map_err(Refused::from),
            }
        }
    };
    tokio::time::timeout_at(until + GRACE, work).await
}

async fn each(
    connection: &mut sqlx::MySqlConnection,
    work: Work<'_>,
) -> std::result::Result<Vec<StatementResult>, Stop> {
    let statements = match work {
        Work::Statements(statements) => statements,
        Work::Load(rows) => return Ok(vec![load::load(connection, rows).await?]),
    };
    let mut all = Vec::with_capacity(statements.len());
    for statement in statements {
        all.push(one(connection, statement).await?);
    }
    Ok(all)
}

async fn all_or_none(
    connection: &mut sqlx::MySqlConnection,
    work: Work<'_>,
) -> std::result::Result<Vec<StatementResult>, Stop> {
    let mut tx = sqlx::Connection::begin(connection).await?;
    let all = each(&mut tx, work).await?;
    tx.commit().await?;
    Ok(all)
}

enum Stop {
    Sql(sqlx::Error),
    TooLarge(String),
    Unread(FailureKind, String),
}

impl From<Stop> for Refused {
    fn from(stop: Stop) -> Self {
        match stop {
            Stop::Sql(error) => refused(error),
            Stop::TooLarge(what) => Refused::TooLarge(what),
            Stop::Unread(kind, detail) => Refused::Unread(kind, detail),
        }
    }
}

impl From<sqlx::Error> for Stop {
    fn from(error: sqlx::Error) -> Self {
        Stop::Sql(error)
    }
}

async fn one(
    connection: &mut sqlx::MySqlConnection,
    statement: &Statement,
) -> std::result::Result<StatementResult, Stop> {
    let mut given = StatementResult::default();
    let mut bytes = 0;
    let mut found = connection.fetch_many(bound(statement));
    while let Some(item) = found.try_next().await? {
        match item {
            Either::Left(done) => {
                given.count += done.rows_affected();
                given.id = i64::try_from(done.last_insert_id()).ok().filter(|id| *id > 0);
            }
            Either::Right(row) => {
                given.rows.push(object(&row, &mut bytes));
                if given.rows.len() > MAX_ROWS {
                    return Err(Stop::TooLarge(format!("more than {MAX_ROWS} rows; ask for fewer with LIMIT")));
                }
                if bytes > MAX_BYTES {
                    return Err(Stop::TooLarge(format!("more than {} MiB of values", MAX_BYTES >> 20)));
                }
            }
        }
    }
    if !given.rows.is_empty() {
        given.count = given.rows.len() as u64;
    }
    Ok(given)
}

/// A statement with its values. The text is a builder's own; what a run adds to it are bound values.
fn bound(statement: &Statement) -> Query<'_, MySql, MySqlArguments> {
    let mut query: Query<'_, MySql, MySqlArguments> = sqlx::query(AssertSqlSafe(statement.text.clone()).into_sql_str());
    for value in &statement.values {
        query = match value {
            Json::Null => query.bind(None::<String>),
            Json::Bool(b) => query.bind(*b),
            Json::Number(n) => match n.as_i64() {
                Some(int) => query.bind(int),
                None => query.bind(n.as_f64()),
            },
            Json::String(text) => query.bind(text.clone()),
            other => query.bind(other.to_string()),
        };
    }
    query
}

/// The columns that a statement returns.
async fn describe_on(
    connection: &mut sqlx::MySqlConnection,
    text: &str,
) -> std::result::Result<Vec<Described>, Refused> {
    let described = connection.describe(AssertSqlSafe(text.to_owned()).into_sql_str()).await.map_err(refused)?;
    let column = |(index, column): (usize, &sqlx::mysql::MySqlColumn)| Described {
        name: column.name().to_owned(),
        type_name: column.type_info().name().to_owned(),
        nullable: described.nullable(index).unwrap_or(true),
    };
    Ok(described.columns.iter().enumerate().map(column).collect())
}

/// A name made of letters, digits and underscores, as ours are.
fn plain_name(name: &str) -> std::result::Result<&str, Refused> {
    let plain = !name.is_empty() && name.bytes().all(|b| b.is_ascii_alphanumeric() || b == b'_');
    if plain { Ok(name) } else { Err(Refused::Sql(format!("`{name}` is no name for a database"))) }
}

fn refused(error: sqlx::Error) -> Refused {
    match &error {
        // Longer than max_statement_time.
        error if crate::number(error) == Some(1969) => Refused::Timeout,
        sqlx::Error::Database(database) if database.is_unique_violation() => {
            Refused::Duplicate(database.message().to_owned())
        }
        sqlx::Error::Database(database) => {
            let message = database.message().to_owned();
            let unavailable = Error::Query { doing: "asking", source: error }.is_unreachable();
            if unavailable { Refused::Unavailable(message) } else { Refused::Sql(message) }
        }
        _ => Refused::Unavailable(error.to_string()),
    }
}

fn object(row: &MySqlRow, bytes: &mut usize) -> Json {
    let mut members = Map::new();
    for (index, column) in row.columns().iter().enumerate() {
        let raw = row.try_get_unchecked::<Option<&[u8]>, _>(index).ok().flatten();
        *bytes += raw.map_or(0, <[u8]>::len) + column.name().len() + 16;
        members.insert(column.name().to_owned(), raw.map_or(Json::Null, |raw| json(column.type_info().name(), raw)));
    }
    Json::Object(members)
}

/// A column's bytes as the JSON value they stand for.
fn json(type_name: &str, raw: &[u8]) -> Json {
    let unsigned = type_name.ends_with("UNSIGNED");
    let text = || match std::str::from_utf8(raw) {
        Ok(text) => Json::from(text),
        Err(_) => Json::from(STANDARD.encode(raw)),
    };
    match type_name.trim_end_matches(" UNSIGNED") {
        "BOOLEAN" => Json::Bool(raw.first().is_some_and(|b| *b != 0)),
        "TINYINT" | "SMALLINT" | "MEDIUMINT" | "INT" | "BIGINT" | "YEAR" => {
            let mut wide = [if !unsigned && raw.last().is_some_and(|b| b & 0x80 != 0) { 0xff } else { 0 }; 8];
            wide[..raw.len().min(8)].copy_from_slice(&raw[..raw.len().min(8)]);
            match unsigned || type_name == "YEAR" {
                true => u64::from_le_bytes(wide).into(),
                false => i64::from_le_bytes(wide).into(),
            }
        }
        "FLOAT" => match raw.try_into() {
            // By way of its shortest text, so that 1.1 is 1.1.
            Ok(four) => f32::from_le_bytes(four).to_string().parse::<f64>().map_or(Json::Null, Json::from),
            Err(_) => Json::Null,
        },
        "DOUBLE" => raw.try_into().map_or(Json::Null, |eight| Json::from(f64::from_le_bytes(eight))),
        "DECIMAL" => {
            let written = std::str::from_utf8(raw).unwrap_or_default();
            match written.parse::<i64>() {
                Ok(int) => int.into(),
                Err(_) => written.parse::<f64>().map_or(Json::Null, Json::from),
            }
        }
        "DATE" => instant(raw).map_or(Json::Null, |(date, _)| date.into()),
        "DATETIME" | "TIMESTAMP" => instant(raw).map_or(Json::Null, |(date, time)| format!("{date}T{time}Z").into()),
        "TIME" => time(raw).map_or(Json::Null, Json::from),
        "JSON" => serde_json::from_slice(raw).unwrap_or_else(|_| text()),
        _ => text(),
    }
}

/// Date and time of day: length, year, month, day, hour, minute, second, microseconds.
fn instant(raw: &[u8]) -> Option<(String, String)> {
    let (length, raw) = raw.split_first()?;
    let raw = raw.get(..*length as usize)?;
    if raw.is_empty() {
        return None;
    }
    let year = u16::from_le_bytes([*raw.first()?, *raw.get(1)?]);
    let at = |index: usize| raw.get(index).copied().unwrap_or(0);
    let date = format!("{year:04}-{:02}-{:02}", at(2), at(3));
    Some((date, clock(at(4).into(), at(5), at(6), raw.get(7..11))))
}

/// A span of time: length, sign, days, hours, minutes, seconds, microseconds.
fn time(raw: &[u8]) -> Option<String> {
    let (length, raw) = raw.split_first()?;
    let raw = raw.get(..*length as usize)?;
    let at = |index: usize| raw.get(index).copied().unwrap_or(0);
    let days = u32::from_le_bytes([at(1), at(2), at(3), at(4)]);
    let sign = if at(0) == 1 { "-" } else { "" };
    Some(format!("{sign}{}", clock(days * 24 + u32::from(at(5)), at(6), at(7), raw.get(8..12))))
}

fn clock(hours: u32, minutes: u8, seconds: u8, micros: Option<&[u8]>) -> String {
    let micros = micros.and_then(|raw| raw.try_into().ok()).map_or(0, u32::from_le_bytes);
    let plain = format!("{hours:02}:{minutes:02}:{seconds:02}");
    if micros == 0 { plain } else { format!("{plain}.{micros:06}").trim_end_matches('0').to_owned() }
}
