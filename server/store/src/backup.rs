//! What a backup and a restored installation need of the records: whether they are empty, what they hold, and that nothing begins
//! until an operator says so.

use kanzlei_model::time::Timestamp;
use sqlx::mysql::MySqlPoolOptions;

use crate::{Doing, Error, Result, Store};

/// Tables whose rows a backup counts.
const COUNTED: [(&str, &str); 5] = [
    ("job", "SELECT COUNT(*) FROM job"),
    ("run", "SELECT CAST(COALESCE(SUM(runs), 0) AS SIGNED) FROM segment"),
    ("delivery", "SELECT COUNT(*) FROM delivery"),
    ("revision", "SELECT COUNT(*) FROM revision"),
    ("secret", "SELECT COUNT(*) FROM secret"),
];

impl Store {
    /// The number of tables of a database, whatever they are.
    ///
    /// # Errors
    /// When it cannot be reached.
    pub async fn tables_at(url: &str) -> Result<u64> {
        let pool = MySqlPoolOptions::new().max_connections(1).connect(url).await.map_err(Error::Unreachable)?;
        let count = "SELECT COUNT(*) FROM information_schema.TABLES WHERE TABLE_SCHEMA = DATABASE()";
        let count: i64 = sqlx::query_scalar(count).fetch_one(&pool).await.doing("counting tables")?;
        pool.close().await;
        Ok(count as u64)
    }

    /// The number of rows of some tables.
    pub async fn counts(&self) -> Result<Vec<(&'static str, u64)>> {
        let mut counts = Vec::new();
        for (table, sql) in COUNTED {
            let count: i64 = sqlx::query_scalar(sql).fetch_one(&self.pool).await.doing("counting records")?;
            counts.push((table, count as u64));
        }
        Ok(counts)
    }

    /// The number of the last change of the schema, and whether the server writes a binary log.
    pub async fn schema(&self) -> Result<(i64, bool)> {
        let last: Option<i64> = sqlx::query_scalar("SELECT MAX(version) FROM _sqlx_migrations WHERE success")
            .fetch_one(&self.pool)
            .await
            .doing("reading the schema's version")?;
        let log: i64 = sqlx::query_scalar("SELECT @@log_bin")
            .fetch_one(&self.pool)
            .await
            .doing("reading the server's settings")?;
        Ok((last.unwrap_or_default(), log != 0))
    }

    /// Since when the records are those of a backup, while nothing begins.
    pub async fn restored(&self) -> Result<Option<Timestamp>> {
        let at = sqlx::query_scalar!("SELECT restored FROM installation WHERE id = 1");
        Ok(at.fetch_one(&self.pool).await.doing("reading the installation")?.map(Timestamp::from_micros))
    }

    /// Says that the records are those of a backup, or that work begins again. False when it is so already.
    pub async fn set_restored(&self, at: Option<Timestamp>) -> Result<bool> {
        let done = sqlx::query!(
            "UPDATE installation SET restored = ? WHERE id = 1 AND (restored IS NULL) = ?",
            at.map(Timestamp::as_micros),
            at.is_some()
        );
        Ok(done.execute(&self.pool).await.doing("changing the installation")?.rows_affected() > 0)
    }
}
