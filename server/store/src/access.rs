//! Operator tokens and console sessions. Only hashes are kept.

use crate::{Doing, Result, Store};
use kanzlei_model::time::Timestamp;

impl Store {
    /// Hashes of all operator tokens, at most 100.
    pub async fn token_hashes(&self) -> Result<Vec<String>> {
        sqlx::query_scalar!("SELECT hash FROM operator_token LIMIT 100")
            .fetch_all(&self.pool)
            .await
            .doing("reading tokens")
    }

    /// Adds an operator token by its hash; `prefix` is what lists show of it.
    pub async fn add_token(&self, hash: &str, prefix: &str, now: Timestamp) -> Result<()> {
        sqlx::query!(
            "INSERT INTO operator_token (hash, prefix, created) VALUES (?, ?, ?)",
            hash,
            prefix,
            now.as_micros()
        )
        .execute(&self.pool)
        .await
        .doing("saving a token")?;
        Ok(())
    }

    /// Adds a session of the console by the hash of its cookie.
    pub async fn add_session(&self, hash: &str, now: Timestamp, expires: Timestamp) -> Result<()> {
        sqlx::query!("DELETE FROM session WHERE expires < ? LIMIT 1000", now.as_micros())
            .execute(&self.pool)
            .await
            .doing("clearing sessions")?;
        sqlx::query!(
            "INSERT INTO session (hash, created, expires) VALUES (?, ?, ?)",
            hash,
            now.as_micros(),
            expires.as_micros()
        )
        .execute(&self.pool)
        .await
        .doing("saving a session")?;
        Ok(())
    }

    /// Whether a session exists and has not expired.
    pub async fn has_session(&self, hash: &str, now: Timestamp) -> Result<bool> {
        let found = sqlx::query_scalar!(
            "SELECT 1 AS `one!: i32` FROM session WHERE hash = ? AND expires > ?",
            hash,
            now.as_micros()
        )
        .fetch_optional(&self.pool)
        .await
        .doing("reading a session")?;
        Ok(found.is_some())
    }

    /// Ends a session.
    pub async fn end_session(&self, hash: &str) -> Result<()> {
        sqlx::query!("DELETE FROM session WHERE hash = ?", hash).execute(&self.pool).await.doing("ending a session")?;
        Ok(())
    }
}
