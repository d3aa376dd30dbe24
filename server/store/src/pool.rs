//! Connections that are returned to a pool: one whose state is uncertain is closed.
//!
//! The future of a statement can be dropped at any time, as that of a client that disconnects is. What the server
//! still sends for it is then in the connection, and the driver cannot always know what that is: while a
//! statement is being prepared it waits for the wrong packets, without end, or leaves one of them to the next
//! statement.
//!
//! ```text
//! returning(MySqlPoolOptions::new().max_connections(4))
//! ```

use std::time::Duration;

use sqlx::Connection;
use sqlx::mysql::{MySqlPool, MySqlPoolOptions};

/// How long a connection may take to answer when it is returned. One that is still busy for longer is closed.
const SETTLED: Duration = Duration::from_secs(2);

/// Connections of a pool: idle, open, and at most.
pub(crate) fn connections(pool: &MySqlPool) -> (u32, u32, u32) {
    let idle = u32::try_from(pool.num_idle()).unwrap_or(u32::MAX);
    (idle.min(pool.size()), pool.size(), pool.options().get_max_connections())
}

/// Has connections closed that are returned in the middle of a transaction, or that do not answer.
pub(crate) fn returning(options: MySqlPoolOptions) -> MySqlPoolOptions {
    options.after_release(|connection, _| {
        Box::pin(async move {
            // A transaction that was dropped has its rollback queued, unsent.
            if connection.should_flush() {
                return Ok(false);
            }
            Ok(matches!(tokio::time::timeout(SETTLED, connection.ping()).await, Ok(Ok(()))))
        })
    })
}
