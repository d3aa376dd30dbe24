//! Operator tokens and console sessions. Only hashes are kept. A session ends with the token it was begun with.

use crate::{Doing, Result, Store};
use kanzlei_model::time::Timestamp;

/// The most operator tokens.
pub const MOST_TOKENS: u64 = 100;

/// An operator token, without the token.
#[derive(Clone, Debug, PartialEq)]
pub struct Token {
    /// Hash of the token.
    pub hash: String,
    /// Whose it is.
    pub name: String,
    /// What lists show of it.
    pub prefix: String,
    /// When it was made.
    pub created: Timestamp,
    /// When it expires, if ever.
    pub expires: Option<Timestamp>,
    /// When it was last used, to a minute.
    pub used: Option<Timestamp>,
}

impl Store {
    /// Returns all operator tokens by name.
    pub async fn tokens(&self) -> Result<Vec<Token>> {
        let rows = sqlx::query!("SELECT hash, name, prefix, created, expires, used FROM operator_token ORDER BY name")
            .fetch_all(&self.pool)
            .await
            .doing("reading tokens")?;
        Ok(rows
            .into_iter()
            .map(|row| Token {
                hash: row.hash,
                name: row.name,
                prefix: row.prefix,
                created: Timestamp::from_micros(row.created),
                expires: row.expires.map(Timestamp::from_micros),
                used: row.used.map(Timestamp::from_micros),
            })
            .collect())
    }

    /// Adds an operator token by its hash. Returns false when its name is taken, or when [`MOST_TOKENS`] exist.
    pub async fn add_token(&self, token: &Token) -> Result<bool> {
        let added = sqlx::query!(
            "INSERT INTO operator_token (hash, name, prefix, created, expires)
             SELECT ?, ?, ?, ?, ? FROM (SELECT COUNT(*) AS n FROM operator_token) known WHERE known.n < ?",
            token.hash,
            token.name,
            token.prefix,
            token.created.as_micros(),
            token.expires.map(Timestamp::as_micros),
            MOST_TOKENS
        )
        .execute(&self.pool)
        .await;
        match added {
            Ok(done) => Ok(done.rows_affected() > 0),
            Err(sqlx::Error::Database(error)) if error.is_unique_violation() => Ok(false),
            Err(error) => Err(error).doing("saving a token"),
        }
    }

    /// Replaces the token of a name and ends its sessions. False when there is none of that name.
    pub async fn replace_token(&self, token: &Token) -> Result<bool> {
        const DOING: &str = "replacing a token";
        let mut tx = self.pool.begin().await.doing(DOING)?;
        sqlx::query!("DELETE s FROM session s JOIN operator_token t ON t.hash = s.token WHERE t.name = ?", token.name)
            .execute(&mut *tx)
            .await
            .doing(DOING)?;
        let done = sqlx::query!(
            "UPDATE operator_token SET hash = ?, prefix = ?, created = ?, expires = ?, used = NULL WHERE name = ?",
            token.hash,
            token.prefix,
            token.created.as_micros(),
            token.expires.map(Timestamp::as_micros),
            token.name
        )
        .execute(&mut *tx)
        .await
        .doing(DOING)?;
        tx.commit().await.doing(DOING)?;
        Ok(done.rows_affected() > 0)
    }

    /// Removes the token of a name and ends its sessions. False when there is none of that name.
    pub async fn remove_token(&self, name: &str) -> Result<bool> {
        const DOING: &str = "removing a token";
        let mut tx = self.pool.begin().await.doing(DOING)?;
        sqlx::query!("DELETE s FROM session s JOIN operator_token t ON t.hash = s.token WHERE t.name = ?", name)
            .execute(&mut *tx)
            .await
            .doing(DOING)?;
        let done =
            sqlx::query!("DELETE FROM operator_token WHERE name = ?", name).execute(&mut *tx).await.doing(DOING)?;
        tx.commit().await.doing(DOING)?;
        Ok(done.rows_affected() > 0)
    }

    /// Records that a token was used.
    pub async fn token_used(&self, hash: &str, now: Timestamp) -> Result<()> {
        sqlx::query!("UPDATE operator_token SET used = ? WHERE hash = ?", now.as_micros(), hash)
            .execute(&self.pool)
            .await
            .map(|_| ())
            .doing("recording the use of a token")
    }

    /// Adds a session of the console by the hash of its cookie, begun with a token.
    pub async fn add_session(&self, hash: &str, token: &str, now: Timestamp, expires: Timestamp) -> Result<()> {
        sqlx::query!("DELETE FROM session WHERE expires < ? LIMIT 1000", now.as_micros())
            .execute(&self.pool)
            .await
            .doing("clearing sessions")?;
        sqlx::query!(
            "INSERT INTO session (hash, token, created, expires) VALUES (?, ?, ?, ?)",
            hash,
            token,
            now.as_micros(),
            expires.as_micros()
        )
        .execute(&self.pool)
        .await
        .map(|_| ())
        .doing("saving a session")
    }

    /// Returns whose session it is: nothing when it has ended, or its token was removed or has expired.
    pub async fn session_of(&self, hash: &str, now: Timestamp) -> Result<Option<String>> {
        sqlx::query_scalar!(
            "SELECT t.name FROM session s JOIN operator_token t ON t.hash = s.token
             WHERE s.hash = ? AND s.expires > ? AND (t.expires IS NULL OR t.expires > ?)",
            hash,
            now.as_micros(),
            now.as_micros()
        )
        .fetch_optional(&self.pool)
        .await
        .doing("reading a session")
    }

    /// Ends a session.
    pub async fn end_session(&self, hash: &str) -> Result<()> {
        sqlx::query!("DELETE FROM session WHERE hash = ?", hash)
            .execute(&self.pool)
            .await
            .map(|_| ())
            .doing("ending a session")
    }
}
