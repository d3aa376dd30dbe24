//! The audit trail: who changed what, and who looked at runs with confidential values. Rows are added and never changed.

use kanzlei_model::time::Timestamp;
use sqlx::{MySql, QueryBuilder, Row};
use uuid::Uuid;

use crate::queue::portions;
use crate::{Doing, Result, Store};

/// The most bytes of what is kept of one side of a change.
pub const MOST_TEXT: usize = 64 << 10;

/// One line of the audit trail.
#[derive(Clone, Debug, Default, PartialEq, serde::Serialize)]
pub struct Audited {
    /// UUID, version 7: sorts by time.
    pub id: Uuid,
    /// When.
    pub at: Timestamp,
    /// Who: the name of a token, or of somebody signed in.
    pub who: String,
    /// With which role.
    pub role: String,
    /// How it was shown: `token` or `session`.
    pub via: String,
    /// From which address.
    pub address: Option<String>,
    /// What: the method and path of the control API.
    pub what: String,
    /// What it was about: `workflow berth-quote`.
    pub subject: String,
    /// The status of the answer.
    pub status: u16,
    /// How it was before, where that is known.
    pub before: Option<String>,
    /// How it is since.
    pub after: Option<String>,
}

/// Which lines to list; everything that is set must fit.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct AuditFilter {
    /// Only those of somebody.
    pub who: Option<String>,
    /// Only those whose subject or path has this text.
    pub text: Option<String>,
    /// Only those from an instant on.
    pub since: Option<Timestamp>,
    /// Only those before this one, for the next page.
    pub before: Option<Uuid>,
    /// Most rows to return.
    pub limit: u32,
}

fn cut(text: &Option<String>) -> Option<String> {
    let text = text.as_ref()?;
    let mut end = text.len().min(MOST_TEXT);
    while !text.is_char_boundary(end) {
        end -= 1;
    }
    Some(if end < text.len() { format!("{}…", &text[..end]) } else { text.clone() })
}

impl Store {
    /// Adds lines.
    pub async fn audit(&self, lines: &[Audited]) -> Result<()> {
        for chunk in portions(lines) {
            self.audit_portion(chunk).await?;
        }
        Ok(())
    }

    async fn audit_portion(&self, lines: &[Audited]) -> Result<()> {
        let mut query: QueryBuilder<MySql> =
            QueryBuilder::new("INSERT INTO audit (id, at, who, role, via, address, what, subject, status, was, now) ");
        query.push_values(lines, |mut row, line| {
            row.push_bind(line.id.as_bytes().as_slice())
                .push_bind(line.at.as_micros())
                .push_bind(&line.who)
                .push_bind(&line.role)
                .push_bind(&line.via)
                .push_bind(&line.address)
                .push_bind(line.what.chars().take(600).collect::<String>())
                .push_bind(line.subject.chars().take(300).collect::<String>())
                .push_bind(line.status)
                .push_bind(cut(&line.before))
                .push_bind(cut(&line.after));
        });
        query.build().execute(&self.pool).await.map(|_| ()).doing("writing the audit trail")
    }

    /// Lines, newest first.
    pub async fn audited(&self, filter: &AuditFilter) -> Result<Vec<Audited>> {
        let mut query: QueryBuilder<MySql> = QueryBuilder::new(
            "SELECT id, at, who, role, via, address, what, subject, status, was, now FROM audit WHERE 1 = 1",
        );
        if let Some(who) = &filter.who {
            query.push(" AND who = ").push_bind(who);
        }
        if let Some(text) = &filter.text {
            query.push(" AND (LOCATE(").push_bind(text).push(", subject) > 0 OR LOCATE(").push_bind(text);
            query.push(", what) > 0)");
        }
        if let Some(since) = filter.since {
            query.push(" AND at >= ").push_bind(since.as_micros());
        }
        if let Some(before) = filter.before {
            query.push(" AND id < ").push_bind(before.as_bytes().to_vec());
        }
        query.push(" ORDER BY id DESC LIMIT ").push_bind(filter.limit);
        let rows = query.build().fetch_all(&self.pool).await.doing("reading the audit trail")?;
        let line = |row: &sqlx::mysql::MySqlRow| {
            Ok(Audited {
                id: crate::queue::uuid(&row.try_get::<Vec<u8>, _>(0)?),
                at: Timestamp::from_micros(row.try_get(1)?),
                who: row.try_get(2)?,
                role: row.try_get(3)?,
                via: row.try_get(4)?,
                address: row.try_get(5)?,
                what: row.try_get(6)?,
                subject: row.try_get(7)?,
                status: row.try_get(8)?,
                before: row.try_get(9)?,
                after: row.try_get(10)?,
            })
        };
        rows.iter().map(line).collect::<std::result::Result<_, sqlx::Error>>().doing("reading the audit trail")
    }

    /// Deletes lines from before an instant; at most 5,000. Returns how many.
    pub async fn purge_audit(&self, before: Timestamp) -> Result<u64> {
        let done = sqlx::query!("DELETE FROM audit WHERE at < ? LIMIT 5000", before.as_micros())
            .execute(&self.pool)
            .await
            .doing("deleting old lines of the audit trail")?;
        Ok(done.rows_affected())
    }
}
