//! Notices: addresses to notify when a job ends, and the attempts to deliver them.

use kanzlei_model::time::Timestamp;
use uuid::Uuid;

use super::uuid;
use crate::{Doing, Result, Store};

/// An address that is notified of the end of a job.
#[derive(Clone, Debug, PartialEq)]
pub struct Notice {
    /// Id of the job.
    pub job: Uuid,
    /// Address that receives the notice.
    pub url: String,
    /// Name of the secret that signs it.
    pub secret: String,
    /// Whether the address may be private.
    pub private: bool,
    /// Body of the notice, JSON.
    pub body: String,
    /// When the job ended.
    pub created: Timestamp,
    /// When it is attempted next; nothing once delivered or given up.
    pub next: Option<Timestamp>,
    /// Attempts made.
    pub attempts: u32,
    /// Status of the last answer.
    pub status: Option<u16>,
    /// Why the last attempt failed.
    pub detail: Option<String>,
    /// When it was delivered.
    pub delivered: Option<Timestamp>,
}

impl Store {
    /// Claims notices that are due, postponing them so that no other process claims them too.
    pub async fn due_notices(&self, now: Timestamp, until: Timestamp, limit: u32) -> Result<Vec<Notice>> {
        let due =
            sqlx::query_scalar!("SELECT job FROM notice WHERE next <= ? ORDER BY next LIMIT ?", now.as_micros(), limit)
                .fetch_all(&self.pool)
                .await
                .doing("searching for notices")?;
        let mut claimed = Vec::new();
        for job in due {
            let done = sqlx::query!(
                "UPDATE notice SET next = ? WHERE job = ? AND next <= ?",
                until.as_micros(),
                job,
                now.as_micros()
            )
            .execute(&self.pool)
            .await
            .doing("claiming a notice")?;
            if done.rows_affected() > 0 {
                claimed.extend(self.notice(uuid(&job)).await?);
            }
        }
        Ok(claimed)
    }

    /// Returns the notice of a job.
    pub async fn notice(&self, job: Uuid) -> Result<Option<Notice>> {
        let row = sqlx::query!(
            "SELECT job, url, secret, private AS `private: bool`, body, created, next, attempts, status, detail, delivered FROM notice WHERE job = ?",
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
            created: Timestamp::from_micros(row.created),
            next: row.next.map(Timestamp::from_micros),
            attempts: row.attempts,
            status: row.status,
            detail: row.detail,
            delivered: row.delivered.map(Timestamp::from_micros),
        }))
    }

    /// Records an attempt; without `next` it was the last one.
    pub async fn notice_attempted(
        &self,
        job: Uuid,
        next: Option<Timestamp>,
        status: Option<u16>,
        detail: Option<&str>,
        delivered: Option<Timestamp>,
    ) -> Result<()> {
        sqlx::query!(
            "UPDATE notice SET next = ?, attempts = attempts + 1, status = ?, detail = ?, delivered = ? WHERE job = ?",
            next.map(Timestamp::as_micros),
            status,
            detail,
            delivered.map(Timestamp::as_micros),
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
         ON DUPLICATE KEY UPDATE body = VALUES(body), next = VALUES(next), delivered = NULL, attempts = 0",
        notice.job.as_bytes().as_slice(),
        notice.url,
        notice.secret,
        notice.private,
        notice.body,
        notice.created.as_micros(),
        notice.next.map(Timestamp::as_micros)
    )
    .execute(tx)
    .await
    .map(|_| ())
    .doing("keeping a notice")
}
