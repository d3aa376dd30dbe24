//! What clients are promised: that a repeated request is answered as the first one was, and that they
//! are notified of the end of a job.

use uuid::Uuid;

use super::uuid;
use crate::{Doing, Micros, Result, Store};

/// An answer that is kept for repetitions of its request.
#[derive(Clone, Debug, PartialEq)]
pub struct Stored {
    pub status: u16,
    /// JSON: names and values.
    pub headers: String,
    pub body: Vec<u8>,
}

/// What is known of a request with an idempotency key.
#[derive(Clone, Debug, PartialEq)]
pub enum Repeat {
    /// It is the first.
    First,
    /// The same was answered; so is this.
    Answered(Stored),
    /// The same is being worked on.
    InFlight,
    /// Another request came under the same key.
    Other,
}

/// An address that is notified of the end of a job.
#[derive(Clone, Debug, PartialEq)]
pub struct Notice {
    pub job: Uuid,
    pub url: String,
    pub secret: String,
    pub private: bool,
    pub body: String,
    pub created: Micros,
    pub next: Option<Micros>,
    pub tries: u32,
    pub status: Option<u16>,
    pub detail: Option<String>,
    pub told: Option<Micros>,
}

impl Store {
    /// Takes an idempotency key for a request, or says what is known of it. One that was in flight when
    /// its process died is free after `until`.
    pub async fn repeat(&self, hash: &str, fingerprint: &str, run: Uuid, now: Micros, until: Micros) -> Result<Repeat> {
        sqlx::query!("DELETE FROM idempotency WHERE hash = ? AND until < ?", hash, now)
            .execute(&self.pool)
            .await
            .doing("taking an idempotency key")?;
        let done = sqlx::query!(
            "INSERT IGNORE INTO idempotency (hash, fingerprint, run, until) VALUES (?, ?, ?, ?)",
            hash,
            fingerprint,
            run.as_bytes().as_slice(),
            until
        )
        .execute(&self.pool)
        .await
        .doing("taking an idempotency key")?;
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
    pub async fn keep_answer(&self, hash: &str, answer: &Stored, until: Micros) -> Result<()> {
        sqlx::query!(
            "UPDATE idempotency SET status = ?, headers = ?, body = ?, until = ? WHERE hash = ?",
            answer.status,
            answer.headers,
            answer.body,
            until,
            hash
        )
        .execute(&self.pool)
        .await
        .map(|_| ())
        .doing("keeping an answer")
    }

    /// Frees a key whose request came to nothing.
    pub async fn forget_answer(&self, hash: &str) -> Result<()> {
        sqlx::query!("DELETE FROM idempotency WHERE hash = ? AND status IS NULL", hash)
            .execute(&self.pool)
            .await
            .map(|_| ())
            .doing("freeing an idempotency key")
    }

    pub async fn purge_answers(&self, now: Micros) -> Result<u64> {
        sqlx::query!("DELETE FROM idempotency WHERE until < ? LIMIT 5000", now)
            .execute(&self.pool)
            .await
            .map(|done| done.rows_affected())
            .doing("deleting old answers")
    }

    /// Claims notices that are due, postponing them so that no other process claims them too.
    pub async fn due_notices(&self, now: Micros, until: Micros, limit: u32) -> Result<Vec<Notice>> {
        let due = sqlx::query_scalar!("SELECT job FROM notice WHERE next <= ? ORDER BY next LIMIT ?", now, limit)
            .fetch_all(&self.pool)
            .await
            .doing("looking for notices")?;
        let mut taken = Vec::new();
        for job in due {
            let done = sqlx::query!("UPDATE notice SET next = ? WHERE job = ? AND next <= ?", until, job, now)
                .execute(&self.pool)
                .await
                .doing("taking a notice")?;
            if done.rows_affected() > 0 {
                taken.extend(self.notice(uuid(&job)).await?);
            }
        }
        Ok(taken)
    }

    pub async fn notice(&self, job: Uuid) -> Result<Option<Notice>> {
        let row = sqlx::query!(
            "SELECT job, url, secret, private AS `private: bool`, body, created, next, tries, status, detail, told FROM notice WHERE job = ?",
            job.as_bytes().as_slice()
        )
        .fetch_optional(&self.pool)
        .await
        .doing("reading a notice")?;
        Ok(row.map(|row| Notice {
            job: uuid(&row.job),
            url: row.url,
            secret: row.secret,
            private: row.private,
            body: row.body,
            created: row.created,
            next: row.next,
            tries: row.tries,
            status: row.status,
            detail: row.detail,
            told: row.told,
        }))
    }

    /// Writes down how telling went; without `next` it is over.
    pub async fn notice_told(
        &self,
        job: Uuid,
        next: Option<Micros>,
        status: Option<u16>,
        detail: Option<&str>,
        told: Option<Micros>,
    ) -> Result<()> {
        sqlx::query!(
            "UPDATE notice SET next = ?, tries = tries + 1, status = ?, detail = ?, told = ? WHERE job = ?",
            next,
            status,
            detail,
            told,
            job.as_bytes().as_slice()
        )
        .execute(&self.pool)
        .await
        .map(|_| ())
        .doing("writing a notice")
    }
}

pub(super) async fn add_notice(tx: &mut sqlx::MySqlConnection, notice: &Notice) -> Result<()> {
    sqlx::query!(
        "INSERT INTO notice (job, url, secret, private, body, created, next) VALUES (?, ?, ?, ?, ?, ?, ?)
         ON DUPLICATE KEY UPDATE body = VALUES(body), next = VALUES(next), told = NULL, tries = 0",
        notice.job.as_bytes().as_slice(),
        notice.url,
        notice.secret,
        notice.private,
        notice.body,
        notice.created,
        notice.next
    )
    .execute(tx)
    .await
    .map(|_| ())
    .doing("keeping a notice")
}
