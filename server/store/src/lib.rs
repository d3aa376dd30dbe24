//! Records in MariaDB through SQLx. All SQL of the project lives here.
//!
//! Queries are checked against the schema when the crate is compiled; the database's answers are kept in
//! `.sqlx/` (`cargo xtask sqlx` renews them). Statements with many rows or optional filters are put together at
//! run time, and tested against a real server. This crate knows no HTTP and no
//! workflows: documents and values are text to it.
//!
//! The parts: [`documents`] (revisions and what is live), [`gradual`] (revisions beside the live ones), [`drafts`], [`journal`] (runs, steps, tallies),
//! [`access`] (operator tokens and sessions), [`kept`] (what workflows remember, secrets), [`queue`] (jobs,
//! lanes, timetables, callbacks), [`keys`] and [`meters`] (who may call, and how much), [`databases`]
//! (the databases that builders' own statements go to), and where the records lie (`servers`).

#![warn(missing_docs)]

pub mod access;
pub mod alerts;
pub mod audit;
pub mod backup;
pub mod databases;
pub mod documents;
pub mod drafts;
pub mod erase;
pub mod examine;
pub mod gradual;
pub mod journal;
pub mod kept;
pub mod keys;
pub mod meters;
pub mod names;
mod paces;
pub mod places;
mod pool;
pub mod queue;
pub mod refusals;
pub mod reseal;
mod servers;
pub mod statistics;
pub mod trials;
pub mod uploads;

use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, LazyLock};
use std::time::{Duration, Instant};

use kanzlei_model::time::Timestamp;
use servers::Servers;
use sqlx::migrate::MigrateError;
use sqlx::mysql::MySqlPool;

/// Why the records could not be read or written.
#[derive(Debug, thiserror::Error)]
pub enum Error {
    /// The address of the database is invalid.
    #[error("the database address is not usable: {0}")]
    Address(sqlx::Error),
    /// The database does not answer.
    #[error("the database cannot be reached: {0}")]
    Unreachable(sqlx::Error),
    /// An earlier version of Kanzlei made the schema.
    #[error(
        "the database was made by an earlier version of Kanzlei, whose records this one cannot read; set database.url to an empty database"
    )]
    EarlierVersion,
    /// A later version of Kanzlei changed the schema so that this one cannot work with it.
    #[error(
        "the database was changed by a later version of Kanzlei (change {0} of the schema), which this one cannot work beside; use that version or a later one"
    )]
    LaterVersion(i64),
    /// The schema could not be created or changed.
    #[error("the schema could not be brought up to date: {0}")]
    Migration(#[from] sqlx::migrate::MigrateError),
    /// The database reports an error for a statement.
    #[error("{doing}: {source}")]
    Query {
        /// What was being done.
        doing: &'static str,
        /// The database's own error.
        source: sqlx::Error,
    },
    /// A draft that was to be deployed changed in the meantime.
    #[error("the draft of the {0} was changed in the meantime")]
    DraftChanged(String),
    /// A workflow cannot have a name under which another one was deployed.
    #[error("another workflow was deployed as `{0}` before")]
    NameTaken(String),
    /// A segment of the journal cannot be packed or unpacked.
    #[error("a segment of the journal cannot be read or written: {0}")]
    Segment(String),
    /// The dictionary of a segment is retired.
    #[error("the dictionary of the journal is retired")]
    DictionaryRetired,
    /// A search took too long.
    #[error("the search took too long")]
    TooSlow,
    /// Other transactions won every attempt.
    #[error("too many conflicting changes; try again")]
    Contended,
}

/// Result of an access to the records.
pub type Result<T> = std::result::Result<T, Error>;

impl Error {
    /// Whether the database is unavailable, as opposed to rejecting a statement.
    pub fn is_unreachable(&self) -> bool {
        use sqlx::Error as E;
        let inner = match self {
            Error::Unreachable(_) => return true,
            Error::Query { source, .. } => source,
            _ => return false,
        };
        is_full(inner)
            || matches!(inner, E::Io(_) | E::PoolTimedOut | E::PoolClosed | E::Tls(_) | E::Protocol(_))
            || number(inner).is_some_and(|number| UNAVAILABLE.contains(&number))
    }
}

/// Error numbers of a server that is unavailable: too many connections; not part of its cluster; shutting down;
/// network errors; read only; statement interrupted or connection killed.
const UNAVAILABLE: [u16; 12] = [1040, 1047, 1053, 1152, 1158, 1159, 1160, 1161, 1290, 1317, 1836, 1927];
/// Error numbers of a transaction that lost against another: lock wait, deadlock, a row changed since it was read.
const CONTENTION: [u16; 3] = [1020, 1205, 1213];

/// Error numbers of a full disk, or of tables that may not grow; and those that name the cause in their text.
const FULL: [u16; 2] = [1021, 1114];
const FULL_IN_WORDS: [u16; 4] = [3, 1026, 1030, 1878];

/// Whether the database has no room for what is written.
fn is_full(error: &sqlx::Error) -> bool {
    number(error).is_some_and(|number| {
        let says = || error.to_string().contains("No space left") || error.to_string().contains("error 28");
        FULL.contains(&number) || FULL_IN_WORDS.contains(&number) && says()
    })
}

/// When a statement last met a full disk, in milliseconds since [`CLOCK`]; 0 for never.
static MET_FULL: AtomicU64 = AtomicU64::new(0);
static CLOCK: LazyLock<Instant> = LazyLock::new(Instant::now);
/// How long a full disk is reported after it was met. Who writes tries again sooner.
const REPORTED: Duration = Duration::from_secs(10);

/// Whether the database has no room, by what statements met lately.
pub fn database_is_full() -> bool {
    let met = MET_FULL.load(Ordering::Relaxed);
    met > 0 && CLOCK.elapsed() < Duration::from_millis(met) + REPORTED
}

/// Error number of a statement that exceeded `max_statement_time`.
const TOO_SLOW: u16 = 1969;

/// The server's number of an error.
fn number(error: &sqlx::Error) -> Option<u16> {
    let error = error.as_database_error()?;
    error.try_downcast_ref::<sqlx::mysql::MySqlDatabaseError>().map(|error| error.number())
}

impl Error {
    /// Whether a search was ended because it took too long.
    pub fn is_too_slow(&self) -> bool {
        match self {
            Error::Query { source, .. } => number(source) == Some(TOO_SLOW),
            other => matches!(other, Error::TooSlow),
        }
    }

    /// Whether another transaction won (deadlock, lock wait, certification): nothing was changed, and the
    /// transaction can be repeated.
    pub fn is_contention(&self) -> bool {
        match self {
            Error::Query { source, .. } => number(source).is_some_and(|number| CONTENTION.contains(&number)),
            Error::Contended => true,
            _ => false,
        }
    }
}

/// Reports what was being done when a query failed.
trait Doing<T> {
    fn doing(self, doing: &'static str) -> Result<T>;
}

impl<T> Doing<T> for std::result::Result<T, sqlx::Error> {
    fn doing(self, doing: &'static str) -> Result<T> {
        self.map_err(|source| {
            if is_full(&source) {
                MET_FULL.store(CLOCK.elapsed().as_millis() as u64 + 1, Ordering::Relaxed);
            }
            Error::Query { doing, source }
        })
    }
}

/// The records. Cheap to clone.
#[derive(Clone, Debug)]
pub struct Store {
    pool: MySqlPool,
    servers: Arc<Servers>,
    lanes: Arc<queue::Lanes>,
    journal_names: Arc<std::sync::RwLock<journal::Known>>,
}

impl Store {
    /// Connects and brings the schema up to date. Records of a later version are used as they are, unless that version says that
    /// this one cannot: processes of both work at the same time while an installation is upgraded. `urls` are the address of a server, or those of the nodes
    /// of a cluster, separated by spaces; `connections` bounds the pool.
    pub async fn open(urls: &str, connections: u32) -> Result<Self> {
        let store = Store::connect(urls, connections)?;
        // Not through the pool, which would only say that it waited in vain.
        let mut connection = store.servers.connect(&store.pool).await?;
        let migrator = sqlx::migrate!();
        let own = migrator.iter().map(|change| change.version).max().unwrap_or_default();
        // A database without this table is new.
        let newest: Option<i64> = sqlx::query_scalar("SELECT MAX(version) FROM _sqlx_migrations WHERE success")
            .fetch_one(&mut connection)
            .await
            .unwrap_or_default();
        if newest.is_some_and(|newest| newest > own) {
            let least: i64 = sqlx::query_scalar("SELECT least FROM installation WHERE id = 1")
                .fetch_one(&mut connection)
                .await
                .doing("reading which versions may use the records")?;
            if least > own {
                return Err(Error::LaterVersion(least));
            }
            tracing::warn!(own, newest, "the records are of a later version; this one works beside it");
            return Ok(store);
        }
        migrator.run(&mut connection).await.map_err(|error| match error {
            MigrateError::VersionMissing(_) | MigrateError::VersionMismatch(_) => Error::EarlierVersion,
            other => Error::Migration(other),
        })?;
        Ok(store)
    }

    /// Prepares a pool without connecting yet.
    pub fn connect(urls: &str, connections: u32) -> Result<Self> {
        let servers = Servers::read(urls)?;
        Ok(Store { pool: servers.pool(connections), servers, lanes: Arc::default(), journal_names: Arc::default() })
    }

    /// Whether the database answers.
    pub async fn ping(&self) -> Result<()> {
        sqlx::query("SELECT 1").execute(&self.pool).await.map(|_| ()).doing("asking whether the database is there")
    }

    /// Connections of the pool: idle, open, and at most.
    pub fn connections(&self) -> (u32, u32, u32) {
        crate::pool::connections(&self.pool)
    }

    /// The database's own time.
    pub async fn clock(&self) -> Result<Timestamp> {
        sqlx::query_scalar!("SELECT TIMESTAMPDIFF(MICROSECOND, '1970-01-01', UTC_TIMESTAMP(6)) AS `at!: i64`")
            .fetch_one(&self.pool)
            .await
            .map(Timestamp::from_micros)
            .doing("asking for the time")
    }

    /// Closes all connections and waits for them.
    pub async fn close(&self) {
        self.pool.close().await;
    }
}
