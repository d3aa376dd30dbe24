//! Uploads: files that callers sent for a later request. Their bytes are in the work place.

use kanzlei_model::file::File;
use kanzlei_model::time::Timestamp;
use sqlx::{MySql, QueryBuilder};
use uuid::Uuid;

use crate::queue::{portions, uuid};
use crate::{Doing, Result, Store};

/// An upload.
#[derive(Clone, Debug, PartialEq)]
pub struct Upload {
    /// Random: its token is made of it.
    pub id: Uuid,
    /// The caller it belongs to.
    pub owner: String,
    /// What is known of the file.
    pub file: File,
    /// Until when it can be used.
    pub expires: Timestamp,
}

impl Store {
    /// Keeps uploads, all or none.
    pub async fn add_uploads(&self, uploads: &[Upload]) -> Result<()> {
        let mut tx = self.pool.begin().await.map_err(crate::Error::Unreachable)?;
        for chunk in portions(uploads) {
            let mut query: QueryBuilder<MySql> =
                QueryBuilder::new("INSERT INTO upload (id, owner, name, media, size, digest, expires) ");
            query.push_values(chunk, |mut row, upload| {
                row.push_bind(upload.id.as_bytes().as_slice()).push_bind(&upload.owner);
                row.push_bind(upload.file.name.as_deref()).push_bind(&*upload.file.media).push_bind(upload.file.size);
                row.push_bind(&*upload.file.digest).push_bind(upload.expires.as_micros());
            });
            query.build().execute(&mut *tx).await.doing("keeping uploads")?;
        }
        tx.commit().await.doing("keeping uploads")
    }

    /// The upload of an id, of any owner, expired or not.
    pub async fn upload(&self, id: Uuid) -> Result<Option<Upload>> {
        let row = sqlx::query!(
            "SELECT owner, name, media, size, digest, expires FROM upload WHERE id = ?",
            id.as_bytes().as_slice()
        )
        .fetch_optional(&self.pool)
        .await
        .doing("looking for an upload")?;
        Ok(row.map(|row| Upload {
            id,
            owner: row.owner,
            file: File {
                id: id.to_string().into(),
                name: row.name.map(Into::into),
                media: row.media.into(),
                size: row.size,
                digest: row.digest.into(),
                held: None,
            },
            expires: Timestamp::from_micros(row.expires),
        }))
    }

    /// Bytes of all uploads of a caller that are not over.
    pub async fn upload_bytes(&self, owner: &str, at: Timestamp) -> Result<u64> {
        let bytes = sqlx::query_scalar!(
            "SELECT CAST(COALESCE(SUM(size), 0) AS UNSIGNED) AS `bytes!: u64` FROM upload WHERE owner = ? AND expires > ?",
            owner,
            at.as_micros()
        )
        .fetch_one(&self.pool)
        .await
        .doing("counting uploads")?;
        Ok(bytes)
    }

    /// Uploads whose time is over, at most so many.
    pub async fn uploads_over(&self, at: Timestamp, most: u32) -> Result<Vec<Uuid>> {
        let rows =
            sqlx::query!("SELECT id FROM upload WHERE expires <= ? ORDER BY expires LIMIT ?", at.as_micros(), most)
                .fetch_all(&self.pool)
                .await
                .doing("looking for uploads that are over")?;
        Ok(rows.iter().map(|row| uuid(&row.id)).collect())
    }

    /// Forgets uploads.
    pub async fn remove_uploads(&self, ids: &[Uuid]) -> Result<()> {
        for id in ids {
            sqlx::query!("DELETE FROM upload WHERE id = ?", id.as_bytes().as_slice())
                .execute(&self.pool)
                .await
                .doing("forgetting uploads")?;
        }
        Ok(())
    }
}
