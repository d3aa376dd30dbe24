//! The servers that hold the records: one, or the nodes of a cluster that all hold the same. Connections
//! go to one of them at a time; when it is unavailable, [`crate::Store::fail_over`] goes to the next that
//! answers.
//!
//! ```text
//! mysql://kanzlei:…@10.0.0.1/kanzlei mysql://kanzlei:…@10.0.0.2/kanzlei
//! ```

use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use sqlx::mysql::{MySqlConnectOptions, MySqlConnection, MySqlPool, MySqlPoolOptions};
use sqlx::{ConnectOptions, Connection, Executor};

use crate::pool::returning;
use crate::{Error, Result};

/// Connections that were idle for longer are asked whether they still live before they are used.
const TRUSTED: Duration = Duration::from_secs(1);
/// How long a server may take to answer.
const ANSWER: Duration = Duration::from_secs(2);

/// The most prepared statements of a connection; the crate has fewer texts. Four processes of 16 connections stay below the default
/// limit of a server (`max_prepared_stmt_count`, 16382).
const STATEMENTS: usize = 250;

#[derive(Debug)]
pub(crate) struct Servers {
    all: Vec<MySqlConnectOptions>,
    current: AtomicUsize,
    /// Connections from before this instant go to another server.
    since: Mutex<Instant>,
}

impl Servers {
    /// Reads addresses, separated by spaces.
    pub fn read(urls: &str) -> Result<Arc<Self>> {
        // What is bound has the collation of the tables. With another one `lane = ?` still finds the index,
        // but its order is not trusted: each claim sorted all jobs that are due.
        let read = |url: &str| -> Result<MySqlConnectOptions> {
            let options = url.parse::<MySqlConnectOptions>().map_err(Error::Address)?;
            Ok(options.charset("utf8mb4").collation("utf8mb4_bin").statement_cache_capacity(STATEMENTS))
        };
        let mut all = urls.split_whitespace().map(read).collect::<Result<Vec<_>>>()?;
        if all.is_empty() {
            all.push(read(urls)?);
        }
        Ok(Arc::new(Servers { all, current: AtomicUsize::new(0), since: Mutex::new(Instant::now()) }))
    }

    /// A pool that has not connected yet. A caller waits at most two seconds for a connection.
    pub fn pool(self: &Arc<Self>, connections: u32) -> MySqlPool {
        let servers = self.clone();
        returning(MySqlPoolOptions::new())
            .max_connections(connections)
            .acquire_timeout(ANSWER)
            .test_before_acquire(false)
            .before_acquire(move |connection, meta| {
                let here = meta.age <= servers.since().elapsed();
                Box::pin(async move {
                    if here && meta.idle_for > TRUSTED {
                        connection.ping().await?;
                    }
                    Ok(here)
                })
            })
            // Without gaps to lock, those who queue, claim and finish jobs do not block each other.
            // What is read is what was committed last, which is what each compare-and-set wants.
            .after_connect(|connection, _| {
                Box::pin(async move {
                    connection.execute("SET SESSION TRANSACTION ISOLATION LEVEL READ COMMITTED").await.map(|_| ())
                })
            })
            .connect_lazy_with(self.all[0].clone())
    }

    fn since(&self) -> Instant {
        *self.since.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// A separate connection to the first server that answers, beginning with the current one; the pool
    /// follows.
    pub async fn connect(&self, pool: &MySqlPool) -> Result<MySqlConnection> {
        let (count, current) = (self.all.len(), self.current.load(Ordering::Relaxed));
        let mut why = None;
        for index in (0..count).map(|offset| (current + offset) % count) {
            let trial = async {
                let mut connection = self.all[index].connect().await?;
                // A node that is cut off from its cluster answers nothing else.
                if says(&mut connection, "SHOW VARIABLES LIKE 'wsrep_on'").await?.as_deref() == Some("ON") {
                    let ready = says(&mut connection, "SHOW STATUS LIKE 'wsrep_ready'").await?;
                    let out = || sqlx::Error::Protocol("this node is not part of its cluster".into());
                    ready.filter(|ready| ready == "ON").ok_or_else(out)?;
                }
                Ok(connection)
            };
            match tokio::time::timeout(ANSWER, trial).await {
                Ok(Ok(connection)) => {
                    if index != current {
                        pool.set_connect_options(self.all[index].clone());
                        *self.since.lock().unwrap_or_else(PoisonError::into_inner) = Instant::now();
                        self.current.store(index, Ordering::Relaxed);
                    }
                    return Ok(connection);
                }
                Ok(Err(error)) => why = Some(error),
                Err(_) => why = Some(sqlx::Error::PoolTimedOut),
            }
        }
        Err(Error::Unreachable(why.unwrap_or(sqlx::Error::PoolClosed)))
    }

    /// Host and port of the current server.
    pub fn name(&self) -> String {
        let options = &self.all[self.current.load(Ordering::Relaxed)];
        format!("{}:{}", options.get_host(), options.get_port())
    }

    pub fn several(&self) -> bool {
        self.all.len() > 1
    }
}

/// The value of a variable.
async fn says(connection: &mut MySqlConnection, show: &'static str) -> sqlx::Result<Option<String>> {
    Ok(sqlx::query_as::<_, (String, String)>(show).fetch_optional(connection).await?.map(|(_, value)| value))
}

impl crate::Store {
    /// Where several servers are known: checks that the current one answers, and goes on to the next
    /// that is when not. Gives the new one's host and port.
    pub async fn fail_over(&self) -> Result<Option<String>> {
        if !self.servers.several() {
            return Ok(None);
        }
        let before = self.servers.name();
        // Read from a table: a node without its cluster still answers what needs none.
        if tokio::time::timeout(ANSWER, self.generation()).await.is_ok_and(|known| known.is_ok()) {
            return Ok(None);
        }
        let connection = self.servers.connect(&self.pool).await?;
        let _ = connection.close().await;
        let now = self.servers.name();
        Ok((now != before).then_some(now))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn addresses_are_read_one_by_one() {
        let one = Servers::read("mysql://k:p@h1:1/d").expect("one");
        assert!(!one.several());
        let two = Servers::read(" mysql://k:p@h1:1/d\n mysql://k:p@h2:2/d ").expect("two");
        assert_eq!((two.several(), two.name().as_str()), (true, "h1:1"));
        for wrong in ["", "nowhere", "mysql://k:p@h1:1/d nowhere"] {
            assert!(matches!(Servers::read(wrong), Err(Error::Address(_))), "{wrong}");
        }
    }
}
