//! Drafts: one of each document at most, which authors save without putting it live.
//!
//! Each change counts a version up, and who saves names the version that was read; so nobody overwrites what another saved
//! in between.

use kanzlei_model::time::Timestamp;

use crate::{Doing, Result, Store};

/// A draft as it is kept.
#[derive(Clone, Debug, PartialEq)]
pub struct Draft {
    /// Kind of the document: `workflow`, `service`, `lane`, `cases`.
    pub kind: String,
    /// Name of the document.
    pub name: String,
    /// Counts up with each change, from 1.
    pub version: u64,
    /// The revision it began from; nothing for a document that is new.
    pub base: Option<u32>,
    /// Path of the file it comes from.
    pub path: String,
    /// Text of the document.
    pub source: String,
    /// Text of the file that the document names.
    pub file: Option<String>,
    /// When it was saved last.
    pub changed: Timestamp,
    /// Whose token saved it.
    pub operator: String,
}

impl Store {
    /// The next drafts behind a kind and name, in the order of both: at most eight, because each may be of 9 MiB.
    pub async fn drafts_behind(&self, kind: &str, name: &str) -> Result<Vec<Draft>> {
        sqlx::query_as!(
            Draft,
            "SELECT kind, name, version, base, path, source, file, changed, operator
             FROM draft WHERE (kind, name) > (?, ?) ORDER BY kind, name LIMIT 8",
            kind,
            name
        )
        .fetch_all(&self.pool)
        .await
        .doing("reading drafts")
    }

    /// The draft of a document.
    pub async fn draft(&self, kind: &str, name: &str) -> Result<Option<Draft>> {
        sqlx::query_as!(
            Draft,
            "SELECT kind, name, version, base, path, source, file, changed, operator
             FROM draft WHERE kind = ? AND name = ?",
            kind,
            name
        )
        .fetch_optional(&self.pool)
        .await
        .doing("reading a draft")
    }

    /// Saves a draft in place of the version before its own, or a first one; false where another one is there.
    pub async fn save_draft(&self, draft: &Draft) -> Result<bool> {
        let done = match draft.version {
            0 | 1 => {
                sqlx::query!(
                    "INSERT IGNORE INTO draft (kind, name, version, base, path, source, file, changed, operator)
                 VALUES (?, ?, 1, ?, ?, ?, ?, ?, ?)",
                    draft.kind,
                    draft.name,
                    draft.base,
                    draft.path,
                    draft.source,
                    draft.file,
                    draft.changed.as_micros(),
                    draft.operator
                )
                .execute(&self.pool)
                .await
            }
            version => {
                sqlx::query!(
                    "UPDATE draft SET version = ?, base = ?, path = ?, source = ?, file = ?, changed = ?, operator = ?
                 WHERE kind = ? AND name = ? AND version = ?",
                    version,
                    draft.base,
                    draft.path,
                    draft.source,
                    draft.file,
                    draft.changed.as_micros(),
                    draft.operator,
                    draft.kind,
                    draft.name,
                    version - 1
                )
                .execute(&self.pool)
                .await
            }
        };
        Ok(done.doing("saving a draft")?.rows_affected() > 0)
    }

    /// Discards a draft of a version, or of any; false where there is none.
    pub async fn discard_draft(&self, kind: &str, name: &str, version: Option<u64>) -> Result<bool> {
        let done = sqlx::query!(
            "DELETE FROM draft WHERE kind = ? AND name = ? AND version = COALESCE(?, version)",
            kind,
            name,
            version
        )
        .execute(&self.pool)
        .await
        .doing("discarding a draft")?;
        Ok(done.rows_affected() > 0)
    }
}
