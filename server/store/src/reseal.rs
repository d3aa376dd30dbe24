//! Sealed values of the records, page by page, and their replacement: for the rotation of the key that sealed them.
//!
//! This module knows no key. A value is replaced where it is still the one that was read.

use sqlx::{MySql, QueryBuilder, Row};
use uuid::Uuid;

use crate::erase::Segment;
use crate::journal::Run;
use crate::journal::codec::Encoded;
use crate::journal::write_into;
use crate::queue::uuid;
use crate::{Doing, Error, Result, Store};

/// Rows of one page.
const PAGE: u32 = 100;
/// What sealed texts begin with.
const SEALED: &str = "sealed:%";

/// A column with sealed texts.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Texts {
    /// Inputs of jobs.
    JobInputs,
    /// Replies of jobs.
    JobReplies,
    /// What came of effects.
    Outcomes,
    /// Inputs of jobs before they were retried.
    RetriedInputs,
    /// Replies of jobs before they were retried.
    RetriedReplies,
}

impl Texts {
    /// All of them.
    pub const ALL: [Texts; 5] =
        [Texts::JobInputs, Texts::JobReplies, Texts::Outcomes, Texts::RetriedInputs, Texts::RetriedReplies];

    /// Table, column and the column of the job.
    fn names(self) -> (&'static str, &'static str, &'static str) {
        match self {
            Texts::JobInputs => ("job", "input", "id"),
            Texts::JobReplies => ("job", "reply", "id"),
            Texts::Outcomes => ("outcome", "data", "job"),
            Texts::RetriedInputs => ("retried", "input", "job"),
            Texts::RetriedReplies => ("retried", "reply", "job"),
        }
    }
}

/// Parts of a message or of an answer that are sealed: texts, and bytes.
#[derive(Clone, Debug, PartialEq)]
pub struct SealedParts {
    /// Its key in its table.
    pub key: Vec<u8>,
    /// Texts, some of which may not be sealed.
    pub texts: Vec<String>,
    /// Bytes.
    pub bytes: Vec<u8>,
}

impl Store {
    /// The sealed texts of some jobs after an id, with the ids.
    pub async fn sealed_texts(&self, of: Texts, after: Option<Uuid>) -> Result<Vec<(Uuid, String)>> {
        let (table, column, id) = of.names();
        let mut query: QueryBuilder<MySql> = QueryBuilder::new(format!(
            "SELECT {id}, {column} FROM {table} WHERE {id} IN (SELECT {id} FROM (SELECT DISTINCT {id} FROM {table} WHERE {id} > "
        ));
        query.push_bind(after.unwrap_or_default().as_bytes().to_vec());
        query.push(format!(" AND {column} LIKE ")).push_bind(SEALED);
        query.push(format!(" ORDER BY {id} LIMIT ")).push_bind(PAGE);
        query.push(format!(") some) AND {column} LIKE ")).push_bind(SEALED).push(format!(" ORDER BY {id}"));
        let rows = query.build().fetch_all(&self.pool).await.doing("reading sealed values")?;
        let read = |row: &sqlx::mysql::MySqlRow| Ok((uuid(&row.try_get::<Vec<u8>, _>(0)?), row.try_get(1)?));
        rows.iter().map(read).collect::<sqlx::Result<_>>().doing("reading sealed values")
    }

    /// Replaces a sealed text of a job.
    pub async fn replace_text(&self, of: Texts, job: Uuid, was: &str, by: &str) -> Result<()> {
        let (table, column, id) = of.names();
        let mut query: QueryBuilder<MySql> = QueryBuilder::new(format!("UPDATE {table} SET {column} = "));
        query.push_bind(by).push(format!(" WHERE {id} = ")).push_bind(job.as_bytes().to_vec());
        query.push(format!(" AND {column} = ")).push_bind(was);
        query.build().execute(&self.pool).await.map(|_| ()).doing("sealing a value anew")
    }

    /// Replaces the sealed value of a secret.
    pub async fn replace_secret(&self, name: &str, was: &[u8], nonce: &[u8], sealed: &[u8]) -> Result<()> {
        sqlx::query!("UPDATE secret SET nonce = ?, sealed = ? WHERE name = ? AND nonce = ?", nonce, sealed, name, was)
            .execute(&self.pool)
            .await
            .map(|_| ())
            .doing("sealing a secret anew")
    }

    /// Sealed messages after a key.
    pub async fn sealed_deliveries(&self, after: &[u8]) -> Result<Vec<SealedParts>> {
        let rows = sqlx::query!(
            "SELECT id, query, headers, body FROM delivery WHERE id > ? AND sealed = 1 ORDER BY id LIMIT ?",
            after,
            PAGE
        );
        let rows = rows.fetch_all(&self.pool).await.doing("reading sealed messages")?;
        let parts = |row: (Vec<u8>, String, String, Vec<u8>)| SealedParts {
            key: row.0,
            texts: vec![row.1, row.2],
            bytes: row.3,
        };
        Ok(rows.into_iter().map(|row| parts((row.id, row.query, row.headers, row.body))).collect())
    }

    /// Replaces the parts of a message.
    pub async fn replace_delivery(&self, by: &SealedParts) -> Result<()> {
        let [query, headers] = by.texts.as_slice() else { return Ok(()) };
        sqlx::query!(
            "UPDATE delivery SET query = ?, headers = ?, body = ? WHERE id = ?",
            query,
            headers,
            by.bytes,
            by.key
        )
        .execute(&self.pool)
        .await
        .map(|_| ())
        .doing("sealing a message anew")
    }

    /// Sealed answers to repeated requests after a key.
    pub async fn sealed_answers(&self, after: &[u8]) -> Result<Vec<SealedParts>> {
        let rows = sqlx::query!(
            "SELECT hash, headers AS `headers!: String`, body AS `body: Vec<u8>` FROM idempotency WHERE hash > ? AND headers LIKE ? ORDER BY hash LIMIT ?",
            String::from_utf8_lossy(after),
            SEALED,
            PAGE
        );
        let rows = rows.fetch_all(&self.pool).await.doing("reading sealed answers")?;
        let parts = rows.into_iter().map(|row| SealedParts {
            key: row.hash.into_bytes(),
            texts: vec![row.headers],
            bytes: row.body.unwrap_or_default(),
        });
        Ok(parts.collect())
    }

    /// Replaces the parts of an answer.
    pub async fn replace_answer(&self, by: &SealedParts) -> Result<()> {
        let [headers] = by.texts.as_slice() else { return Ok(()) };
        let hash = String::from_utf8_lossy(&by.key);
        sqlx::query!("UPDATE idempotency SET headers = ?, body = ? WHERE hash = ?", headers, by.bytes, hash)
            .execute(&self.pool)
            .await
            .map(|_| ())
            .doing("sealing an answer anew")
    }

    /// Replaces a segment of the journal by one with these runs of it.
    pub async fn replace_segment(&self, segment: &Segment, by: &[Run]) -> Result<()> {
        let encoded: Vec<Encoded> = by.iter().map(Encoded::of).collect();
        let numbers = self.numbers_for(&encoded).await?;
        let mut tx = self.pool.begin().await.map_err(Error::Unreachable)?;
        let own = sqlx::query_scalar!("SELECT id FROM run WHERE segment = ?", segment.id);
        let own = own.fetch_all(&mut *tx).await.doing("reading a segment")?;
        // A run that was recorded again is elsewhere.
        let mut own: std::collections::BTreeSet<Uuid> = own.iter().map(|id| uuid(id)).collect();
        own.extend(self.plain_ids(&mut tx, segment.id).await?);
        let kept: Vec<Encoded> =
            by.iter().zip(encoded).filter(|(run, _)| own.contains(&run.id)).map(|(_, encoded)| encoded).collect();
        let runs: Vec<(Uuid, String)> = segment.runs.iter().map(|run| (run.id, run.request_id.clone())).collect();
        self.drop_runs(&mut tx, segment.id, &runs).await?;
        write_into(&mut tx, &kept, None, &numbers).await?;
        tx.commit().await.doing("replacing a segment")
    }
}
