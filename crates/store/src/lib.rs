//! Records in MariaDB through SQLx. All SQL of the project lives here.
//!
//! Queries are checked against the schema when the crate is compiled; the answers the database gave
//! are kept in `.sqlx/` (`cargo xtask sqlx` renews them). Only the multi-row inserts of the journal are
//! put together at run time, and tested against a real server. This crate knows no HTTP and no
//! workflows: documents and values are text to it.
//!
//! The parts: [`documents`] (revisions and what is live), [`journal`] (runs, steps, tallies),
//! [`access`] (operator tokens and sessions), [`kept`] (what workflows remember, secrets), [`queue`] (jobs,
//! lanes, timetables, callbacks), [`outside`]
//! (the databases that builders' own statements go to).

pub mod access;
pub mod documents;
pub mod journal;
pub mod kept;
pub mod outside;
pub mod queue;

use std::time::Duration;

use sqlx::ConnectOptions;
use sqlx::mysql::{MySqlConnectOptions, MySqlPool, MySqlPoolOptions};

/// Microseconds since 1970 UTC.
pub type Micros = i64;

#[derive(Debug, thiserror::Error)]
pub enum Error {
    #[error("the database address is not usable: {0}")]
    Address(sqlx::Error),
    #[error("the database cannot be reached: {0}")]
    Unreachable(sqlx::Error),
    #[error("the schema could not be brought up to date: {0}")]
    Migration(#[from] sqlx::migrate::MigrateError),
    #[error("{doing}: {source}")]
    Query { doing: &'static str, source: sqlx::Error },
    #[error("others were faster too often; try again")]
    Contended,
}

pub type Result<T> = std::result::Result<T, Error>;

impl Error {
    /// Whether the database is away, rather than unhappy with what it was asked.
    pub fn is_unreachable(&self) -> bool {
        use sqlx::Error as E;
        let inner = match self {
            Error::Unreachable(_) => return true,
            Error::Query { source, .. } => source,
            _ => return false,
        };
        matches!(inner, E::Io(_) | E::PoolTimedOut | E::PoolClosed | E::Tls(_) | E::Protocol(_))
            || matches!(inner, E::Database(db) if ["1040", "1053", "1152", "1158", "1159", "1160", "1161"].contains(&db.code().as_deref().unwrap_or_default()) || db.message().contains("shutdown"))
    }
}

impl Error {
    /// Whether another transaction won (deadlock, lock wait, certification): nothing was done, and it
    /// can be done again.
    pub fn is_contention(&self) -> bool {
        match self {
            Error::Query { source: sqlx::Error::Database(error), .. } => {
                matches!(error.code().as_deref(), Some("40001" | "1213" | "1020" | "1205"))
            }
            Error::Contended => true,
            _ => false,
        }
    }
}

/// Says what was being done when a query failed.
trait Doing<T> {
    fn doing(self, doing: &'static str) -> Result<T>;
}

impl<T> Doing<T> for std::result::Result<T, sqlx::Error> {
    fn doing(self, doing: &'static str) -> Result<T> {
        self.map_err(|source| Error::Query { doing, source })
    }
}

/// The records. Cheap to clone.
#[derive(Clone, Debug)]
pub struct Store {
    pool: MySqlPool,
}

impl Store {
    /// Connects and brings the schema up to date. `connections` bounds the pool.
    pub async fn open(url: &str, connections: u32) -> Result<Self> {
        let store = Store::connect(url, connections)?;
        // Not through the pool, which would only say that it waited in vain.
        let mut connection = store.pool.connect_options().connect().await.map_err(Error::Unreachable)?;
        sqlx::migrate!().run(&mut connection).await?;
        Ok(store)
    }

    /// Prepares a pool without connecting yet. A caller waits at most two seconds for a connection.
    pub fn connect(url: &str, connections: u32) -> Result<Self> {
        let options: MySqlConnectOptions = url.parse().map_err(Error::Address)?;
        let pool = MySqlPoolOptions::new()
            .max_connections(connections)
            .acquire_timeout(Duration::from_secs(2))
            // Without gaps to lock, those who queue, take and finish jobs do not get in each other's way.
            // What is read is what was committed last, which is what each compare-and-set wants.
            .after_connect(|connection, _| {
                Box::pin(async move {
                    sqlx::Executor::execute(connection, "SET SESSION TRANSACTION ISOLATION LEVEL READ COMMITTED")
                        .await
                        .map(|_| ())
                })
            })
            .connect_lazy_with(options.charset("utf8mb4"));
        Ok(Store { pool })
    }

    /// Whether the database answers.
    pub async fn ping(&self) -> Result<()> {
        sqlx::query("SELECT 1").execute(&self.pool).await.map(|_| ()).doing("asking whether the database is there")
    }

    pub async fn close(&self) {
        self.pool.close().await;
    }
}
