//! Operator tokens and console sessions. Only hashes are kept. A session ends with the token it was begun with.

use crate::{Doing, Result, Store};
use kanzlei_model::role::Role;
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
    /// What it allows.
    pub role: Role,
}

/// A session of the console.
#[derive(Clone, Debug, PartialEq)]
pub struct Session {
    /// Hash of its cookie.
    pub hash: String,
    /// Hash of the token it was begun with; nothing for somebody whom a provider of identities signed in.
    pub token: Option<String>,
    /// Whose it is.
    pub name: String,
    /// What it allows: of a token, what that allows now.
    pub role: Role,
    /// From which address it was begun.
    pub address: Option<String>,
    /// What the browser calls itself.
    pub agent: String,
    /// When it was begun.
    pub created: Timestamp,
    /// When it ends.
    pub expires: Timestamp,
}

impl Store {
    /// Returns all operator tokens by name.
    pub async fn tokens(&self) -> Result<Vec<Token>> {
        let rows =
            sqlx::query!("SELECT hash, name, prefix, created, expires, used, role FROM operator_token ORDER BY name")
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
                role: Role::of(&row.role).unwrap_or_default(),
            })
            .collect())
    }

    /// Adds an operator token by its hash. Returns false when its name is taken, or when [`MOST_TOKENS`] exist.
    pub async fn add_token(&self, token: &Token) -> Result<bool> {
        let added = sqlx::query!(
            "INSERT INTO operator_token (hash, name, prefix, created, expires, role)
             SELECT ?, ?, ?, ?, ?, ? FROM (SELECT COUNT(*) AS n FROM operator_token) known WHERE known.n < ?",
            token.hash,
            token.name,
            token.prefix,
            token.created.as_micros(),
            token.expires.map(Timestamp::as_micros),
            token.role.name(),
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

    /// Adds a session of the console.
    pub async fn add_session(&self, session: &Session) -> Result<()> {
        sqlx::query!("DELETE FROM session WHERE expires < ? LIMIT 1000", session.created.as_micros())
            .execute(&self.pool)
            .await
            .doing("clearing sessions")?;
        sqlx::query!(
            "INSERT INTO session (hash, token, name, role, address, agent, created, expires) VALUES (?, ?, ?, ?, ?, ?, ?, ?)",
            session.hash,
            session.token,
            session.name,
            session.role.name(),
            session.address,
            session.agent.chars().take(200).collect::<String>(),
            session.created.as_micros(),
            session.expires.as_micros()
        )
        .execute(&self.pool)
        .await
        .map(|_| ())
        .doing("saving a session")
    }

    /// Sessions that have not ended, or the one with a hash, newest first: none whose token was removed or has expired.
    pub async fn sessions(&self, hash: Option<&str>, now: Timestamp) -> Result<Vec<Session>> {
        let rows = sqlx::query!(
            "SELECT s.hash, s.token AS `token: String`, s.name, COALESCE(t.role, s.role) AS `role!`, s.address, s.agent, s.created, s.expires
             FROM session s LEFT JOIN operator_token t ON t.hash = s.token
             WHERE (? IS NULL OR s.hash = ?) AND s.expires > ? AND (s.token IS NULL OR t.hash IS NOT NULL) AND (t.expires IS NULL OR t.expires > ?)
             ORDER BY s.created DESC LIMIT 1000",
            hash,
            hash,
            now.as_micros(),
            now.as_micros()
        )
        .fetch_all(&self.pool)
        .await
        .doing("reading sessions")?;
        let sessions = rows.into_iter().map(|row| Session {
            hash: row.hash,
            token: row.token,
            name: row.name,
            role: Role::of(&row.role).unwrap_or_default(),
            address: row.address,
            agent: row.agent,
            created: Timestamp::from_micros(row.created),
            expires: Timestamp::from_micros(row.expires),
        });
        Ok(sessions.collect())
    }

    /// Ends all sessions of somebody. Returns how many.
    pub async fn end_sessions(&self, name: &str) -> Result<u64> {
        let done = sqlx::query!("DELETE FROM session WHERE name = ?", name)
            .execute(&self.pool)
            .await
            .doing("ending sessions")?;
        Ok(done.rows_affected())
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
