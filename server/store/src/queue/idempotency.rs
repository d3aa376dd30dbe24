//! Requests with an idempotency key and the answers kept for their repetitions.

use kanzlei_model::time::Timestamp;
use uuid::Uuid;

use crate::{Doing, Result, Store};

/// An answer that is kept for repetitions of its request.
#[derive(Clone, Debug, PartialEq)]
pub struct Stored {
    /// HTTP status of the reply.
    pub status: u16,
    /// JSON: names and values.
    pub headers: String,
    /// Body as received.
    pub body: Vec<u8>,
}

/// What is known of a request with an idempotency key.
#[derive(Clone, Debug, PartialEq)]
pub enum Repeat {
    /// It is the first.
    First,
    /// The same request was answered, with this answer.
    Answered(Stored),
    /// The same request is in progress.
    InFlight,
    /// Another request used the same key.
    Other,
}

impl Store {
    /// Claims an idempotency key for a request, or returns what is known of it. A key whose process died in flight is
    /// free after `until`.
    pub async fn repeat(
        &self,
        hash: &str,
        fingerprint: &str,
        run: Uuid,
        now: Timestamp,
        until: Timestamp,
    ) -> Result<Repeat> {
        sqlx::query!("DELETE FROM idempotency WHERE hash = ? AND until < ?", hash, now.as_micros())
            .execute(&self.pool)
            .await
            .doing("claiming an idempotency key")?;
        let done = sqlx::query!(
            "INSERT IGNORE INTO idempotency (hash, fingerprint, run, until) VALUES (?, ?, ?, ?)",
            hash,
            fingerprint,
            run.as_bytes().as_slice(),
            until.as_micros()
        )
        .execute(&self.pool)
        .await
        .doing("claiming an idempotency key")?;
        if done.rows_affected() > 0 {
            return Ok(Repeat::First);
        }
        let row = sqlx::query!("SELECT fingerprint, status, headers, body FROM idempotency WHERE hash = ?", hash)
            .fetch_optional(&self.pool)
            .await
            .doing("reading an idempotency key")?;
        Ok(match row {
            Some(row) if row.fingerprint != fingerprint => Repeat::Other,
            Some(row) => match row.status {
                Some(status) => Repeat::Answered(Stored {
                    status,
                    headers: row.headers.unwrap_or_default(),
                    body: row.body.unwrap_or_default(),
                }),
                None => Repeat::InFlight,
            },
            None => Repeat::InFlight,
        })
    }

    /// Keeps the answer to a request with an idempotency key.
    pub async fn keep_answer(&self, hash: &str, answer: &Stored, until: Timestamp) -> Result<()> {
        sqlx::query!(
            "UPDATE idempotency SET status = ?, headers = ?, body = ?, until = ? WHERE hash = ?",
            answer.status,
            answer.headers,
            answer.body,
            until.as_micros(),
            hash
        )
        .execute(&self.pool)
        .await
        .map(|_| ())
        .doing("keeping an answer")
    }

    /// Frees a key whose request had no result.
    pub async fn forget_answer(&self, hash: &str) -> Result<()> {
        sqlx::query!("DELETE FROM idempotency WHERE hash = ? AND status IS NULL", hash)
            .execute(&self.pool)
            .await
            .map(|_| ())
            .doing("freeing an idempotency key")
    }

    /// Deletes answers that have expired, at most 5,000; returns how many.
    pub async fn purge_answers(&self, now: Timestamp) -> Result<u64> {
        sqlx::query!("DELETE FROM idempotency WHERE until < ? LIMIT 5000", now.as_micros())
            .execute(&self.pool)
            .await
            .map(|done| done.rows_affected())
            .doing("deleting old answers")
    }
}
