//! Keys of callers. Only hashes are kept. A key that was rotated is valid beside its successor for a while.

use kanzlei_model::time::Timestamp;

use crate::{Doing, Result, Store};

/// The most keys; all of them are held in the memory of each process.
pub const MOST_KEYS: u64 = 10_000;

/// A key, without the key.
#[derive(Clone, Debug, PartialEq)]
pub struct Key {
    /// Its name.
    pub name: String,
    /// Hash of the key.
    pub hash: String,
    /// Hash of the one before it, and until when that is valid.
    pub former: Option<(String, Timestamp)>,
    /// What lists show of it.
    pub prefix: String,
    /// Whose it is.
    pub owner: String,
    /// What it is for.
    pub note: String,
    /// The workflows it is for. Without any, and without tags, it is for all.
    pub workflows: Vec<String>,
    /// It is for workflows with one of these tags too.
    pub tags: Vec<String>,
    /// How much it may ask for; without one, as the entry says.
    pub allowance: Option<String>,
    /// When it was made.
    pub created: Timestamp,
    /// When it expires, if ever.
    pub expires: Option<Timestamp>,
    /// When it was last used, to a minute.
    pub used: Option<Timestamp>,
}

impl Store {
    /// Returns all keys by name.
    pub async fn keys(&self) -> Result<Vec<Key>> {
        let rows = sqlx::query!(
            "SELECT name, hash, former_hash AS `former_hash: String`, former_until, prefix, owner, note, workflows, tags, allowance, created, expires, used
             FROM access_key ORDER BY name"
        )
        .fetch_all(&self.pool)
        .await
        .doing("reading keys")?;
        Ok(rows
            .into_iter()
            .map(|row| Key {
                name: row.name,
                hash: row.hash,
                former: row.former_hash.zip(row.former_until.map(Timestamp::from_micros)),
                prefix: row.prefix,
                owner: row.owner,
                note: row.note,
                workflows: serde_json::from_str(&row.workflows).unwrap_or_default(),
                tags: serde_json::from_str(&row.tags).unwrap_or_default(),
                allowance: row.allowance,
                created: Timestamp::from_micros(row.created),
                expires: row.expires.map(Timestamp::from_micros),
                used: row.used.map(Timestamp::from_micros),
            })
            .collect())
    }

    /// Adds a key. Returns false when its name is taken, or when [`MOST_KEYS`] exist.
    pub async fn add_key(&self, key: &Key) -> Result<bool> {
        let added = sqlx::query!(
            "INSERT INTO access_key (name, hash, prefix, owner, note, workflows, tags, allowance, created, expires)
             SELECT ?, ?, ?, ?, ?, ?, ?, ?, ?, ? FROM (SELECT COUNT(*) AS n FROM access_key) known WHERE known.n < ?",
            key.name,
            key.hash,
            key.prefix,
            key.owner,
            key.note,
            serde_json::to_string(&key.workflows).unwrap_or_default(),
            serde_json::to_string(&key.tags).unwrap_or_default(),
            key.allowance,
            key.created.as_micros(),
            key.expires.map(Timestamp::as_micros),
            MOST_KEYS
        )
        .execute(&self.pool)
        .await;
        match added {
            Ok(done) => Ok(done.rows_affected() > 0),
            Err(sqlx::Error::Database(error)) if error.is_unique_violation() => Ok(false),
            Err(error) => Err(error).doing("saving a key"),
        }
    }

    /// Puts another key in place of the one of a name, which is valid until an instant beside it. False when there is none.
    pub async fn rotate_key(&self, key: &Key, until: Timestamp) -> Result<bool> {
        let done = sqlx::query!(
            "UPDATE access_key SET former_hash = hash, former_until = ?, hash = ?, prefix = ?, created = ?, expires = ?
             WHERE name = ?",
            until.as_micros(),
            key.hash,
            key.prefix,
            key.created.as_micros(),
            key.expires.map(Timestamp::as_micros),
            key.name
        );
        Ok(done.execute(&self.pool).await.doing("rotating a key")?.rows_affected() > 0)
    }

    /// Removes a key with the one before it. False when there is none of that name.
    pub async fn remove_key(&self, name: &str) -> Result<bool> {
        let done = sqlx::query!("DELETE FROM access_key WHERE name = ?", name);
        Ok(done.execute(&self.pool).await.doing("removing a key")?.rows_affected() > 0)
    }

    /// Records that a key was used.
    pub async fn key_used(&self, name: &str, now: Timestamp) -> Result<()> {
        sqlx::query!("UPDATE access_key SET used = ? WHERE name = ?", now.as_micros(), name)
            .execute(&self.pool)
            .await
            .map(|_| ())
            .doing("recording the use of a key")
    }
}
