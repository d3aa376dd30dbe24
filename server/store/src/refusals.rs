//! Requests that were refused before a run began.

use kanzlei_model::time::Timestamp;
use sqlx::mysql::MySqlRow;
use sqlx::{MySql, QueryBuilder, Row};
use uuid::Uuid;

use crate::names::{self, Called};
use crate::queue::portions;
use crate::{Doing, Result, Store};

/// One refused request.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Refusal {
    /// UUID, version 7: sorts by creation time.
    pub id: Uuid,
    /// When it was refused.
    pub at: Timestamp,
    /// How it would have been entered: `POST /harbours/{harbour}/quotes`, or its method and path.
    pub entry: Option<String>,
    /// Workflow of the entry, where the path is deployed.
    pub workflow: Option<String>,
    /// `X-Request-Id` of the request that caused it.
    pub request_id: String,
    /// Whose credential the request carried.
    pub caller: Option<String>,
    /// HTTP status of the answer.
    pub status: u16,
    /// The problem that was answered, as JSON (RFC 9457).
    pub problem: String,
    /// Media type of the body.
    pub media: Option<String>,
    /// Bytes of the body, where it arrived whole.
    pub size: Option<u64>,
    /// SHA-256 of the body, in hexadecimal digits.
    pub digest: Option<String>,
    /// The body, only where nothing confidential can be in it.
    pub body: Option<String>,
}

/// Which refusals to list; everything that is set must fit.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Filter {
    /// Only refusals of this workflow, by its names.
    pub workflow: Vec<Called>,
    /// Only refusals with this status.
    pub status: Option<u16>,
    /// Only the refusal of this request.
    pub request_id: Option<String>,
    /// Only refusals before this one, for the next page.
    pub before: Option<Uuid>,
    /// Most rows to return.
    pub limit: u32,
}

impl Refusal {
    /// The statement that writes refusals. An existing one stays as it is.
    pub(crate) fn insert<'r>(refusals: impl IntoIterator<Item = &'r Refusal>) -> QueryBuilder<MySql> {
        let mut query: QueryBuilder<MySql> = QueryBuilder::new(
            "INSERT IGNORE INTO refusal (id, at, entry, workflow, request_id, caller, status, problem, media, size, digest, body) ",
        );
        query.push_values(refusals, |mut row, refusal| {
            row.push_bind(refusal.id.as_bytes().as_slice())
                .push_bind(refusal.at.as_micros())
                .push_bind(&refusal.entry)
                .push_bind(&refusal.workflow)
                .push_bind(&refusal.request_id)
                .push_bind(&refusal.caller)
                .push_bind(refusal.status)
                .push_bind(&refusal.problem)
                .push_bind(&refusal.media)
                .push_bind(refusal.size)
                .push_bind(&refusal.digest)
                .push_bind(&refusal.body);
        });
        query
    }
}

impl Store {
    /// Writes refusals. An existing one stays as it is.
    pub async fn write_refusals(&self, refusals: &[Refusal]) -> Result<()> {
        for chunk in portions(refusals) {
            Refusal::insert(chunk).build().execute(&self.pool).await.doing("writing refusals")?;
        }
        Ok(())
    }

    /// Refusals, newest first.
    pub async fn refusals(&self, filter: &Filter) -> Result<Vec<Refusal>> {
        let mut query: QueryBuilder<MySql> = QueryBuilder::new(
            "SELECT id, at, entry, workflow, request_id, caller, status, problem, media, size, digest, body FROM refusal WHERE 1 = 1",
        );
        names::narrow(&mut query, &filter.workflow);
        if let Some(status) = filter.status {
            query.push(" AND status = ").push_bind(status);
        }
        if let Some(request_id) = &filter.request_id {
            query.push(" AND request_id = ").push_bind(request_id);
        }
        if let Some(before) = &filter.before {
            query.push(" AND id < ").push_bind(before.as_bytes().to_vec());
        }
        query.push(" ORDER BY id DESC LIMIT ").push_bind(filter.limit);
        let rows = query.build().fetch_all(&self.pool).await.doing("listing refusals")?;
        rows.iter().map(refusal).collect::<std::result::Result<_, _>>().doing("listing refusals")
    }

    /// Deletes refusals before an instant, at most 5,000; returns how many.
    pub async fn purge_refusals(&self, before: Timestamp) -> Result<u64> {
        sqlx::query!("DELETE FROM refusal WHERE at < ? ORDER BY at LIMIT 5000", before.as_micros())
            .execute(&self.pool)
            .await
            .map(|done| done.rows_affected())
            .doing("deleting old refusals")
    }
}

fn refusal(row: &MySqlRow) -> std::result::Result<Refusal, sqlx::Error> {
    Ok(Refusal {
        id: Uuid::from_slice(&row.try_get::<Vec<u8>, _>(0)?).unwrap_or_default(),
        at: Timestamp::from_micros(row.try_get(1)?),
        entry: row.try_get(2)?,
        workflow: row.try_get(3)?,
        request_id: row.try_get(4)?,
        caller: row.try_get(5)?,
        status: row.try_get(6)?,
        problem: row.try_get(7)?,
        media: row.try_get(8)?,
        size: row.try_get(9)?,
        digest: row.try_get(10)?,
        body: row.try_get(11)?,
    })
}
