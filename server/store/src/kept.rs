//! What workflows remember between runs, and secrets as sealed bytes. This module knows no key: sealing
//! and opening is the service's business.

use crate::{Doing, Result, Store};
use kanzlei_model::time::Timestamp;

/// What a workflow remembers.
#[derive(Clone, Debug, PartialEq)]
pub struct Kept {
    /// 0 while nothing was ever kept.
    pub version: u64,
    /// A JSON object.
    pub value: String,
}

/// A secret as it lies in the database.
#[derive(Clone, Debug, PartialEq)]
pub struct Sealed {
    /// Name of the secret, authenticated with the sealed value.
    pub name: String,
    /// Nonce of XChaCha20-Poly1305, 24 bytes.
    pub nonce: Vec<u8>,
    /// Sealed value.
    pub sealed: Vec<u8>,
    /// What it may be used for, separated by spaces; authenticated with the sealed value.
    pub purposes: String,
    /// When it was created.
    pub created: Timestamp,
    /// When it was last set.
    pub changed: Timestamp,
}

impl Store {
    /// Returns what a workflow keeps; version 0 when nothing was kept yet.
    pub async fn kept(&self, workflow: &str) -> Result<Kept> {
        let row = sqlx::query!("SELECT version, value FROM kept WHERE workflow = ?", workflow)
            .fetch_optional(&self.pool)
            .await
            .doing("reading what is kept")?;
        Ok(row.map_or(Kept { version: 0, value: "{}".into() }, |row| Kept { version: row.version, value: row.value }))
    }

    /// Keeps a value if the version is still the one given; false when another was faster.
    pub async fn keep(&self, workflow: &str, version: u64, value: &str, now: Timestamp) -> Result<bool> {
        let done = if version == 0 {
            sqlx::query!(
                "INSERT IGNORE INTO kept (workflow, version, value, changed) VALUES (?, 1, ?, ?)",
                workflow,
                value,
                now.as_micros()
            )
            .execute(&self.pool)
            .await
        } else {
            sqlx::query!(
                "UPDATE kept SET version = version + 1, value = ?, changed = ? WHERE workflow = ? AND version = ?",
                value,
                now.as_micros(),
                workflow,
                version
            )
            .execute(&self.pool)
            .await
        };
        Ok(done.doing("keeping values")?.rows_affected() > 0)
    }

    /// Returns what is known of the key of the secrets.
    pub async fn key_print(&self) -> Result<Option<Vec<u8>>> {
        sqlx::query_scalar!("SELECT key_print AS `key_print: Vec<u8>` FROM installation WHERE id = 1")
            .fetch_one(&self.pool)
            .await
            .doing("reading what is known of the key")
    }

    /// Records what is known of the key; the first one stays unless it is to be replaced.
    pub async fn set_key_print(&self, print: &[u8; 32], replace: bool) -> Result<()> {
        sqlx::query!(
            "UPDATE installation SET key_print = ? WHERE id = 1 AND (key_print IS NULL OR ?)",
            print.as_slice(),
            replace
        )
        .execute(&self.pool)
        .await
        .map(|_| ())
        .doing("recording what is known of the key")
    }

    /// Returns all secrets, sealed, by name.
    pub async fn secrets(&self) -> Result<Vec<Sealed>> {
        sqlx::query_as!(Sealed, "SELECT name, nonce, sealed, purposes, created, changed FROM secret ORDER BY name")
            .fetch_all(&self.pool)
            .await
            .doing("reading secrets")
    }

    /// Sets a secret, or replaces its value.
    pub async fn set_secret(
        &self,
        name: &str,
        nonce: &[u8],
        sealed: &[u8],
        purposes: &str,
        now: Timestamp,
    ) -> Result<()> {
        sqlx::query!(
            "INSERT INTO secret (name, nonce, sealed, purposes, created, changed) VALUES (?, ?, ?, ?, ?, ?)
             ON DUPLICATE KEY UPDATE nonce = VALUES(nonce), sealed = VALUES(sealed), purposes = VALUES(purposes),
                 changed = VALUES(changed)",
            name,
            nonce,
            sealed,
            purposes,
            now.as_micros(),
            now.as_micros()
        )
        .execute(&self.pool)
        .await
        .map(|_| ())
        .doing("keeping a secret")
    }

    /// False when there was none of that name.
    pub async fn remove_secret(&self, name: &str) -> Result<bool> {
        let done = sqlx::query!("DELETE FROM secret WHERE name = ?", name)
            .execute(&self.pool)
            .await
            .doing("removing a secret")?;
        Ok(done.rows_affected() > 0)
    }
}
