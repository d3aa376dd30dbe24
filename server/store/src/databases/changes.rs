//! Rows of tables that change: triggers write them down in a table of the watched database, and one process at a time reads it.
//!
//! A trigger runs in the transaction of the writer, so what is rolled back is never seen and what is committed never missed. Rows are read and
//! deleted, never remembered by a number: numbers are given out before commits. Changes of one row have ascending numbers, because its lock
//! orders their transactions. Only the connection that holds the lock of the installation reads ([`Reader`]); it takes no locks on rows, so writers
//! never wait for it.
//!
//! ```no_run
//! # async fn example(database: kanzlei_store::databases::Database) -> Result<(), kanzlei_store::databases::Refused> {
//! let mark = [7; 16];
//! let wanted = [("bill".to_owned(), ["insert", "update"].into())].into();
//! database.install_watches(&mark, &wanted).await?;
//! if let Some(mut reader) = database.read_changes(&mark).await? {
//!     let changes = reader.next(500).await?;
//!     reader.remove(&changes.iter().map(|change| change.id).collect::<Vec<_>>()).await?;
//! }
//! # Ok(())
//! # }
//! ```

use kanzlei_model::hex;
use std::collections::{BTreeMap, BTreeSet};
use std::time::Duration;

use sha2::{Digest, Sha256};
use sqlx::pool::PoolConnection;
use sqlx::{AssertSqlSafe, Connection, MySql, MySqlConnection, Row};

use super::{Database, Described, Refused, describe_on, refused};

/// The table of changes, by the statement that makes it.
pub const TABLE: &str = "CREATE TABLE IF NOT EXISTS kanzlei_change (
    id           BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
    installation BINARY(16)      NOT NULL,
    at           DATETIME(6)     NOT NULL DEFAULT UTC_TIMESTAMP(6),
    tab          VARCHAR(64)     NOT NULL,
    op           CHAR(6)         NOT NULL,
    row_key      VARCHAR(1000)   NOT NULL,
    was          LONGTEXT        NULL,
    now          LONGTEXT        NULL
) ENGINE = InnoDB DEFAULT CHARSET = utf8mb4 COLLATE = utf8mb4_bin";

/// Operations by table.
pub type Wanted = BTreeMap<String, BTreeSet<&'static str>>;

/// How long a question of this module may take.
const PROBE: Duration = Duration::from_secs(5);
/// How long making a trigger waits for transactions that use its table, in seconds.
const LOCK_WAIT: u32 = 5;
/// Bytes of one answer of [`Reader::next`], about.
const MOST_BYTES: usize = 8 << 20;

/// A table that is to be watched, as its database reports it.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Watchable {
    /// The columns that changes have.
    pub columns: Vec<Described>,
    /// Their types, as the schema names them.
    types: Vec<String>,
    /// The columns of its primary key, in order.
    pub key: Vec<String>,
    /// Why it cannot be watched, each in a sentence.
    pub faults: Vec<String>,
}

/// A row that changed.
#[derive(Clone, Debug, PartialEq)]
pub struct Changed {
    /// Its number; of one row they ascend.
    pub id: u64,
    /// When, in microseconds by the clock of the database.
    pub at: i64,
    /// The table.
    pub table: String,
    /// `insert`, `update` or `delete`.
    pub of: String,
    /// The primary key as JSON.
    pub key: String,
    /// The row before and after, as JSON.
    pub before: Option<String>,
    /// See `before`.
    pub after: Option<String>,
}

/// Changes of a table that wait.
#[derive(Clone, Debug, PartialEq)]
pub struct Backlog {
    /// The table.
    pub table: String,
    /// How many wait.
    pub count: u64,
    /// For how many microseconds the oldest has waited.
    pub waited: i64,
}

/// A name between backquotes.
fn quoted(name: &str) -> String {
    format!("`{}`", name.replace('`', "``"))
}

/// A text between quotes.
fn text(text: &str) -> String {
    format!("'{}'", text.replace('\\', "\\\\").replace('\'', "''"))
}

/// Types of columns that changes do not have: large objects and shapes.
const LEFT_OUT: [&str; 12] = [
    "tinyblob",
    "blob",
    "mediumblob",
    "longblob",
    "geometry",
    "point",
    "linestring",
    "polygon",
    "multipoint",
    "multilinestring",
    "multipolygon",
    "geometrycollection",
];

/// A column of a row as the JSON value that statements return for it; `side` is `NEW` or `OLD`.
fn value_of(side: &str, column: &Described, of: &str) -> String {
    let name = format!("{side}.{}", quoted(&column.name));
    let trimmed =
        |text: String| format!("IF({text} LIKE '%.%', TRIM(TRAILING '.' FROM TRIM(TRAILING '0' FROM {text})), {text})");
    match of {
        _ if column.type_name == "BOOLEAN" => format!("({name} <> 0)"),
        "bit" => format!("({name} + 0)"),
        // Columns of JSON are text to statements.
        "longtext" => format!("CONCAT({name}, '')"),
        "date" => format!("CAST({name} AS CHAR)"),
        "time" => trimmed(format!("CAST({name} AS CHAR)")),
        "datetime" => format!("CONCAT(REPLACE({}, ' ', 'T'), 'Z')", trimmed(format!("CAST({name} AS CHAR)"))),
        "timestamp" => {
            let utc = format!("CAST(CONVERT_TZ({name}, @@session.time_zone, '+00:00') AS CHAR)");
            format!("CONCAT(REPLACE({}, ' ', 'T'), 'Z')", trimmed(utc))
        }
        "binary" | "varbinary" => format!("REPLACE(TO_BASE64({name}), '\\n', '')"),
        _ => name,
    }
}

/// The name of a trigger: names of tables may be as long as names of triggers.
fn trigger_name(mark: &[u8; 16], table: &str, of: &str) -> String {
    format!("{}{}_{of}", prefix(mark), hex::of(&Sha256::digest(table.as_bytes())[..6]))
}

fn prefix(mark: &[u8; 16]) -> String {
    format!("kanzlei_{}_", hex::of(&mark[..6]))
}

/// What a trigger does: one row in the table of changes. An update that changes nothing is no change.
fn body(mark: &[u8; 16], table: &str, of: &str, watchable: &Watchable) -> String {
    let row = |side: &str| {
        let members = watchable.columns.iter().zip(&watchable.types);
        let members = members.map(|(one, of)| format!("{}, {}", text(&one.name), value_of(side, one, of)));
        format!("JSON_OBJECT({})", members.collect::<Vec<_>>().join(", "))
    };
    let side = if of == "delete" { "OLD" } else { "NEW" };
    let key: Vec<String> = watchable.key.iter().map(|name| format!("{side}.{}", quoted(name))).collect();
    let (was, now) = match of {
        "insert" => ("NULL".to_owned(), row("NEW")),
        "delete" => (row("OLD"), "NULL".to_owned()),
        _ => (row("OLD"), row("NEW")),
    };
    let insert = format!(
        "INSERT INTO kanzlei_change (installation, tab, op, row_key, was, now) VALUES (x'{}', {}, '{of}', LEFT(JSON_ARRAY({}), 1000), {was}, {now})",
        hex::of(mark),
        text(table),
        key.join(", ")
    );
    if of != "update" {
        return insert;
    }
    let same = watchable.columns.iter().map(|one| format!("OLD.{0} <=> NEW.{0}", quoted(&one.name)));
    format!("IF NOT ({}) THEN {insert}; END IF", same.collect::<Vec<_>>().join(" AND "))
}

impl Database {
    /// What can be said of a table that is to be watched for these operations.
    ///
    /// # Errors
    /// When the database cannot be asked.
    pub async fn watchable(&self, table: &str) -> Result<Watchable, Refused> {
        let asked = async {
            let mut connection = self.connection().await?;
            look_at(&mut connection, table).await
        };
        tokio::time::timeout(PROBE, asked).await.unwrap_or(Err(Refused::Timeout))
    }

    /// Makes the table of changes and the triggers that are missing or differ; others stay. Returns what it made, each in a few words.
    ///
    /// # Errors
    /// When a table cannot be watched, or a right is missing; what was made before stays.
    pub async fn install_watches(&self, mark: &[u8; 16], wanted: &Wanted) -> Result<Vec<String>, Refused> {
        let mut connection = self.connection().await?;
        wait_briefly(&mut connection).await?;
        sqlx::raw_sql(TABLE).execute(&mut *connection).await.map_err(|error| right("CREATE", error))?;
        let known = triggers(&mut connection, mark).await?;
        let mut made = Vec::new();
        for (table, operations) in wanted {
            let watchable = look_at(&mut connection, table).await?;
            if let Some(fault) = watchable.faults.first() {
                return Err(Refused::Sql(format!("`{table}` cannot be watched: {fault}")));
            }
            for of in operations {
                let (name, body) = (trigger_name(mark, table, of), body(mark, table, of, &watchable));
                if known.get(&name).is_some_and(|known| *known == body) {
                    continue;
                }
                let make = format!(
                    "CREATE OR REPLACE TRIGGER {} AFTER {} ON {} FOR EACH ROW {body}",
                    quoted(&name),
                    of.to_uppercase(),
                    quoted(table)
                );
                let done = sqlx::raw_sql(AssertSqlSafe(make)).execute(&mut *connection).await;
                done.map_err(|error| right("TRIGGER", error))?;
                made.push(format!("watches {table} for {of}"));
            }
        }
        Ok(made)
    }

    /// Removes the triggers of an installation that are not wanted. Returns how many.
    ///
    /// # Errors
    /// When the database cannot be asked, or a right is missing.
    pub async fn remove_watches(&self, mark: &[u8; 16], wanted: &Wanted) -> Result<usize, Refused> {
        let mut connection = self.connection().await?;
        wait_briefly(&mut connection).await?;
        let names: BTreeSet<String> = wanted
            .iter()
            .flat_map(|(table, operations)| operations.iter().map(|of| trigger_name(mark, table, of)))
            .collect();
        let mut removed = 0;
        for name in triggers(&mut connection, mark).await?.into_keys().filter(|name| !names.contains(name)) {
            let drop = format!("DROP TRIGGER IF EXISTS {}", quoted(&name));
            sqlx::raw_sql(AssertSqlSafe(drop)).execute(&mut *connection).await.map_err(refused)?;
            removed += 1;
        }
        Ok(removed)
    }

    /// Which operations of a table have their trigger as it should be.
    ///
    /// # Errors
    /// When the database cannot be asked.
    pub async fn watches(
        &self,
        mark: &[u8; 16],
        wanted: &Wanted,
    ) -> Result<BTreeMap<String, BTreeSet<String>>, Refused> {
        let asked = async {
            let mut connection = self.connection().await?;
            let known = triggers(&mut connection, mark).await?;
            let mut found = BTreeMap::new();
            for (table, operations) in wanted {
                let watchable = look_at(&mut connection, table).await?;
                let fits = |of: &&&str| {
                    known
                        .get(&trigger_name(mark, table, of))
                        .is_some_and(|known| *known == body(mark, table, of, &watchable))
                };
                let fitting = operations.iter().filter(fits).map(|of| (*of).to_owned()).collect();
                found.insert(table.clone(), fitting);
            }
            Ok(found)
        };
        tokio::time::timeout(PROBE, asked).await.unwrap_or(Err(Refused::Timeout))
    }

    /// Changes of an installation that wait, by table.
    ///
    /// # Errors
    /// When the database cannot be asked.
    pub async fn backlog(&self, mark: &[u8; 16]) -> Result<Vec<Backlog>, Refused> {
        let asked = async {
            let mut connection = self.connection().await?;
            let rows = sqlx::query(
                "SELECT tab, COUNT(*), CAST(TIMESTAMPDIFF(MICROSECOND, MIN(at), UTC_TIMESTAMP(6)) AS SIGNED) FROM kanzlei_change
                 WHERE installation = ? GROUP BY tab",
            )
            .bind(mark.as_slice())
            .fetch_all(&mut *connection)
            .await;
            let rows = match rows {
                Ok(rows) => rows,
                // There is no such table yet.
                Err(error) if crate::number(&error) == Some(1146) => return Ok(Vec::new()),
                Err(error) => return Err(refused(error)),
            };
            let backlog = |row: &sqlx::mysql::MySqlRow| {
                let count: i64 = row.try_get(1)?;
                let waited: Option<i64> = row.try_get(2)?;
                Ok(Backlog { table: row.try_get(0)?, count: count.unsigned_abs(), waited: waited.unwrap_or(0).max(0) })
            };
            rows.iter().map(backlog).collect::<Result<_, sqlx::Error>>().map_err(refused)
        };
        tokio::time::timeout(PROBE, asked).await.unwrap_or(Err(Refused::Timeout))
    }

    /// A reader of the changes of an installation, on a connection of its own; nothing while another process has one.
    ///
    /// # Errors
    /// When the database cannot be asked.
    pub async fn read_changes(&self, mark: &[u8; 16]) -> Result<Option<Reader>, Refused> {
        let opened = async {
            let options = self.pool.connect_options();
            let mut connection = sqlx::ConnectOptions::connect(&*options).await.map_err(refused)?;
            self.guard.begin(&mut connection).await.map_err(refused)?;
            if let Some(fault) = self.guard.fault() {
                return Err(Refused::Disabled(fault));
            }
            // A server that lost its client ends its session soon, and with it the lock.
            let schema: Option<String> =
                sqlx::query_scalar("SELECT DATABASE()").fetch_one(&mut connection).await.map_err(refused)?;
            let schema = hex::of(&Sha256::digest(schema.unwrap_or_default().as_bytes())[..8]);
            let lock = format!("{}{schema}", prefix(mark));
            let held: Option<i64> = sqlx::query_scalar("SELECT CAST(GET_LOCK(?, 0) AS SIGNED)")
                .bind(lock)
                .fetch_one(&mut connection)
                .await
                .map_err(refused)?;
            if held != Some(1) {
                let _ = connection.close().await;
                return Ok(None);
            }
            Ok(Some(Reader { connection, mark: *mark }))
        };
        tokio::time::timeout(PROBE, opened).await.unwrap_or(Err(Refused::Timeout))
    }
}

/// Reads changes in their order while its connection lives.
pub struct Reader {
    connection: MySqlConnection,
    mark: [u8; 16],
}

impl Reader {
    /// The first changes that wait, at most so many and about 8 MiB.
    ///
    /// # Errors
    /// When the connection broke: the lock may be another process's then.
    pub async fn next(&mut self, most: u32) -> Result<Vec<Changed>, Refused> {
        let asked = async {
            let lengths = sqlx::query(
                "SELECT id, CAST(COALESCE(LENGTH(was), 0) + COALESCE(LENGTH(now), 0) AS SIGNED) FROM kanzlei_change WHERE installation = ? ORDER BY id LIMIT ?",
            )
            .bind(self.mark.as_slice())
            .bind(most)
            .fetch_all(&mut self.connection)
            .await?;
            let (mut count, mut bytes) = (0, 0);
            let mut ids: Vec<u64> = Vec::with_capacity(lengths.len());
            for row in &lengths {
                let length: i64 = row.try_get(1)?;
                bytes += length.unsigned_abs() as usize;
                if count > 0 && bytes > MOST_BYTES {
                    break;
                }
                ids.push(row.try_get(0)?);
                count += 1;
            }
            if ids.is_empty() {
                return Ok(Vec::new());
            }
            // The last id repeats up to a power of two, which keeps the number of different statements small.
            let more = ids.len().next_power_of_two() - ids.len();
            ids.extend(std::iter::repeat_n(ids[ids.len() - 1], more));
            let places = vec!["?"; ids.len()].join(", ");
            let read = format!(
                "SELECT id, CAST(TIMESTAMPDIFF(MICROSECOND, '1970-01-01', at) AS SIGNED), tab, op, row_key, was, now FROM kanzlei_change WHERE id IN ({places}) ORDER BY id"
            );
            let mut query = sqlx::query(AssertSqlSafe(read));
            for id in &ids {
                query = query.bind(*id);
            }
            let changed = |row: &sqlx::mysql::MySqlRow| {
                Ok(Changed {
                    id: row.try_get(0)?,
                    at: row.try_get(1)?,
                    table: row.try_get(2)?,
                    of: row.try_get(3)?,
                    key: row.try_get(4)?,
                    before: row.try_get(5)?,
                    after: row.try_get(6)?,
                })
            };
            query.fetch_all(&mut self.connection).await?.iter().map(changed).collect::<Result<Vec<_>, sqlx::Error>>()
        };
        match tokio::time::timeout(PROBE, asked).await {
            Ok(Ok(changes)) => Ok(changes),
            // There is no such table yet.
            Ok(Err(error)) if crate::number(&error) == Some(1146) => Ok(Vec::new()),
            Ok(Err(error)) => Err(refused(error)),
            Err(_) => Err(Refused::Timeout),
        }
    }

    /// Removes changes that were accepted.
    ///
    /// # Errors
    /// When the connection broke; they are read again then.
    pub async fn remove(&mut self, ids: &[u64]) -> Result<(), Refused> {
        if ids.is_empty() {
            return Ok(());
        }
        // Each is looked up by itself: a list of them could be looked for in the whole table, and wait for rows that writers hold.
        let rows: Vec<String> = ids.iter().map(|id| format!("({id})")).collect();
        let all = AssertSqlSafe(format!(
            "DELETE one FROM (WITH ids (id) AS (VALUES {}) SELECT id FROM ids) ids STRAIGHT_JOIN kanzlei_change one ON one.id = ids.id",
            rows.join(", ")
        ));
        let done = tokio::time::timeout(PROBE, sqlx::raw_sql(all).execute(&mut self.connection)).await;
        done.map_err(|_| Refused::Timeout)?.map(|_| ()).map_err(refused)
    }
}

/// Has the triggers of a connection wait briefly for a table that others use. It ends afterwards: the setting is not for others.
async fn wait_briefly(connection: &mut PoolConnection<MySql>) -> Result<(), Refused> {
    connection.close_on_drop();
    let settings = format!("SET SESSION lock_wait_timeout = {LOCK_WAIT}");
    sqlx::raw_sql(AssertSqlSafe(settings)).execute(&mut **connection).await.map(|_| ()).map_err(refused)
}

/// The right that is missing, where that is why a statement failed.
fn right(name: &str, error: sqlx::Error) -> Refused {
    let denied = matches!(crate::number(&error), Some(1142 | 1044 | 1227 | 1419 | 1370));
    match refused(error) {
        Refused::Sql(why) if denied => Refused::Sql(format!("its user lacks the right {name}: {why}")),
        other => other,
    }
}

/// The triggers of an installation with what they do.
async fn triggers(connection: &mut MySqlConnection, mark: &[u8; 16]) -> Result<BTreeMap<String, String>, Refused> {
    let rows = sqlx::query(
        "SELECT TRIGGER_NAME, ACTION_STATEMENT FROM information_schema.TRIGGERS WHERE TRIGGER_SCHEMA = DATABASE() AND LEFT(TRIGGER_NAME, ?) = ?",
    )
    .bind(prefix(mark).len() as u32)
    .bind(prefix(mark))
    .fetch_all(connection)
    .await
    .map_err(refused)?;
    let pair = |row: &sqlx::mysql::MySqlRow| Ok((row.try_get(0)?, row.try_get(1)?));
    rows.iter().map(pair).collect::<Result<_, sqlx::Error>>().map_err(refused)
}

/// Columns, key and faults of a table.
async fn look_at(connection: &mut MySqlConnection, table: &str) -> Result<Watchable, Refused> {
    let found = sqlx::query(
        "SELECT t.TABLE_TYPE, COALESCE(t.ENGINE, ''), COALESCE(e.TRANSACTIONS, 'NO') FROM information_schema.TABLES t
         LEFT JOIN information_schema.ENGINES e ON e.ENGINE = t.ENGINE WHERE t.TABLE_SCHEMA = DATABASE() AND t.TABLE_NAME = ?",
    )
    .bind(table)
    .fetch_optional(&mut *connection)
    .await
    .map_err(refused)?;
    let mut watchable = Watchable::default();
    let Some(found) = found else {
        watchable.faults.push("there is no such table, or its user may not see it".to_owned());
        return Ok(watchable);
    };
    let text = |index: usize| found.try_get::<String, _>(index).unwrap_or_default();
    if text(0) != "BASE TABLE" {
        watchable.faults.push(format!("it is no table but a {}", text(0).to_lowercase()));
        return Ok(watchable);
    }
    if text(2) != "YES" {
        watchable.faults.push(format!("it is stored by {}, which has no transactions", text(1)));
    }
    let cascades: Vec<String> = sqlx::query_scalar(
        "SELECT CAST(CONCAT(CONSTRAINT_NAME, ' to ', REFERENCED_TABLE_NAME) AS CHAR) FROM information_schema.REFERENTIAL_CONSTRAINTS
         WHERE CONSTRAINT_SCHEMA = DATABASE() AND TABLE_NAME = ? AND (DELETE_RULE IN ('CASCADE', 'SET NULL') OR UPDATE_RULE IN ('CASCADE', 'SET NULL'))",
    )
    .bind(table)
    .fetch_all(&mut *connection)
    .await
    .map_err(refused)?;
    for foreign in cascades {
        let fault = format!("its rows change by the cascading foreign key {foreign}, which runs no triggers");
        watchable.faults.push(fault);
    }
    watchable.key = sqlx::query_scalar(
        "SELECT COLUMN_NAME FROM information_schema.STATISTICS WHERE TABLE_SCHEMA = DATABASE() AND TABLE_NAME = ? AND INDEX_NAME = 'PRIMARY' ORDER BY SEQ_IN_INDEX",
    )
    .bind(table)
    .fetch_all(&mut *connection)
    .await
    .map_err(refused)?;
    if watchable.key.is_empty() {
        watchable.faults.push("it has no primary key, so that its rows cannot be told apart".to_owned());
    }
    let granted: Vec<String> = sqlx::query_scalar(
        "SELECT PRIVILEGE_TYPE FROM information_schema.USER_PRIVILEGES WHERE PRIVILEGE_TYPE IN ('TRIGGER', 'CREATE')
         UNION SELECT PRIVILEGE_TYPE FROM information_schema.SCHEMA_PRIVILEGES WHERE DATABASE() LIKE TABLE_SCHEMA AND PRIVILEGE_TYPE IN ('TRIGGER', 'CREATE')
         UNION SELECT PRIVILEGE_TYPE FROM information_schema.TABLE_PRIVILEGES WHERE TABLE_SCHEMA = DATABASE() AND TABLE_NAME = ? AND PRIVILEGE_TYPE = 'TRIGGER'
         UNION SELECT 'CREATE' FROM information_schema.TABLES WHERE TABLE_SCHEMA = DATABASE() AND TABLE_NAME = 'kanzlei_change'",
    )
    .bind(table)
    .fetch_all(&mut *connection)
    .await
    .map_err(refused)?;
    for (name, what) in [("TRIGGER", "for the table"), ("CREATE", "to make the table `kanzlei_change`")] {
        if !granted.iter().any(|granted| granted == name) {
            watchable.faults.push(format!("its user lacks the right {name} {what}"));
        }
    }
    let types = sqlx::query(
        "SELECT COLUMN_NAME, CAST(DATA_TYPE AS CHAR) FROM information_schema.COLUMNS WHERE TABLE_SCHEMA = DATABASE() AND TABLE_NAME = ?",
    )
    .bind(table)
    .fetch_all(&mut *connection)
    .await
    .map_err(refused)?;
    let pair = |row: &sqlx::mysql::MySqlRow| Ok((row.try_get(0)?, row.try_get(1)?));
    let types: BTreeMap<String, String> =
        types.iter().map(pair).collect::<Result<_, sqlx::Error>>().map_err(refused)?;
    for column in describe_on(connection, &format!("SELECT * FROM {} LIMIT 0", quoted(table))).await? {
        let of = types.get(&column.name).map(String::as_str).unwrap_or_default();
        if !LEFT_OUT.contains(&of) {
            watchable.types.push(of.to_owned());
            watchable.columns.push(column);
        }
    }
    Ok(watchable)
}
