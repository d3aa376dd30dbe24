//! Connections to authors' databases: how each begins, and that none can see the service's own tables.
//!
//! The rights of the user decide what a statement reaches. A user who can see the schema of the service's records
//! could read sessions and tokens, so a database with such a user is disabled, unless its settings allow it.
//! Each new connection is looked at: rights change.

use std::sync::{Arc, Mutex};

use sqlx::mysql::MySqlConnection;
use sqlx::{AssertSqlSafe, Row};

use crate::{Doing, Result, Store};

/// Modes in which the database cuts texts otherwise than the checker does.
const FOREIGN_MODES: [&str; 9] =
    ["ANSI", "ANSI_QUOTES", "NO_BACKSLASH_ESCAPES", "DB2", "MAXDB", "MSSQL", "ORACLE", "POSTGRESQL", "IGNORE_SPACE"];
/// What identifies a server; all nodes of a cluster are one.
const SERVER: &str = "SELECT CONCAT_WS(' ', IFNULL((SELECT VARIABLE_VALUE FROM information_schema.GLOBAL_STATUS \
    WHERE VARIABLE_NAME = 'wsrep_cluster_state_uuid' AND VARIABLE_VALUE NOT IN ('', '00000000-0000-0000-0000-000000000000')), \
    CONCAT_WS(' ', @@hostname, @@port, @@datadir)))";

/// The schema of the service's records.
#[derive(Clone, Debug, PartialEq)]
pub struct Own {
    schema: String,
    server: String,
}

/// What the last new connection of a database found.
#[derive(Debug)]
pub(super) struct Guard {
    own: Option<Own>,
    fault: Mutex<Option<String>>,
}

impl Store {
    /// Where the service's records lie.
    pub async fn own(&self) -> Result<Own> {
        let pool = &self.pool;
        let schema: Option<String> =
            sqlx::query_scalar("SELECT DATABASE()").fetch_one(pool).await.doing("asking for the schema")?;
        let server = sqlx::query_scalar(SERVER).fetch_one(pool).await.doing("asking for the server")?;
        Ok(Own { schema: schema.unwrap_or_default(), server })
    }
}

impl Guard {
    /// A guard of the service's records; of nothing where the settings allow to see them.
    pub fn new(own: Option<Own>) -> Arc<Self> {
        Arc::new(Guard { own, fault: Mutex::default() })
    }

    /// Why the database is disabled.
    pub fn fault(&self) -> Option<String> {
        self.fault.lock().ok().and_then(|fault| fault.clone())
    }

    /// Prepares a new connection, and looks at what its user can see.
    pub async fn begin(&self, connection: &mut MySqlConnection) -> std::result::Result<(), sqlx::Error> {
        let modes: String = sqlx::query_scalar("SELECT @@sql_mode").fetch_one(&mut *connection).await?;
        let kept: Vec<&str> = modes.split(',').filter(|mode| !FOREIGN_MODES.contains(mode)).collect();
        if kept.len() < modes.split(',').count() {
            let set = format!("SET SESSION sql_mode = '{}'", kept.join(","));
            sqlx::raw_sql(AssertSqlSafe(set)).execute(&mut *connection).await?;
        }
        let fault = match &self.own {
            Some(own) => fault(own, connection).await?,
            None => None,
        };
        if let Ok(mut last) = self.fault.lock() {
            *last = fault;
        }
        Ok(())
    }
}

/// What is wrong with the user of a connection.
async fn fault(own: &Own, connection: &mut MySqlConnection) -> std::result::Result<Option<String>, sqlx::Error> {
    let seen = sqlx::query("SELECT CURRENT_USER() FROM information_schema.SCHEMATA WHERE SCHEMA_NAME = ?")
        .bind(&own.schema)
        .fetch_optional(&mut *connection)
        .await?;
    let Some(row) = seen else { return Ok(None) };
    let server: String = sqlx::query_scalar(SERVER).fetch_one(&mut *connection).await?;
    if server != own.server {
        return Ok(None);
    }
    let user: String = row.try_get(0)?;
    Ok(Some(format!("its user {user} can see `{}`, the schema of the service's own records", own.schema)))
}
