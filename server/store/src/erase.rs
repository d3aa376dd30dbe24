//! Erasing what belongs to a caller, a tag or a value: pages of what may be meant, and their deletion.
//!
//! Nothing here decides what is meant where values are sealed: callers open them with the key of the secrets.

use sqlx::{MySql, QueryBuilder, Row};
use uuid::Uuid;

use crate::journal::Run;
use crate::queue::{JobPhase, containing, portions, uuid};
use crate::{Doing, Result, Store};

/// Rows of one page.
const PAGE: u32 = 500;
/// Segments of one page; each has up to some hundred runs.
const SEGMENTS: u32 = 10;

/// Whose records are meant.
#[derive(Clone, Debug, PartialEq)]
pub enum Whose {
    /// Of a caller: the name of a key, the subject of a token, an address.
    Caller(String),
    /// With a tag.
    Tag(String),
    /// With a text in the input.
    Text(String),
}

impl Whose {
    /// The text itself.
    pub fn text(&self) -> &str {
        match self {
            Whose::Caller(text) | Whose::Tag(text) | Whose::Text(text) => text,
        }
    }
}

/// A job or a message that may be meant.
#[derive(Clone, Debug, PartialEq)]
pub struct Candidate {
    /// Its id.
    pub id: Uuid,
    /// Whether it is a job that has not ended.
    pub open: bool,
    /// What is sealed of it, where only that can show whether it is meant.
    pub sealed: Option<Vec<u8>>,
}

/// A segment of the journal.
#[derive(Clone, Debug)]
pub struct Segment {
    /// Its id.
    pub id: u64,
    /// Its runs.
    pub runs: Vec<Run>,
}

impl Store {
    /// Jobs that may be meant, after an id.
    pub async fn jobs_to_erase(&self, whose: &Whose, after: Option<Uuid>) -> Result<Vec<Candidate>> {
        let mut query: QueryBuilder<MySql> =
            QueryBuilder::new("SELECT id, phase, IF(sealed = 1, input, NULL) FROM job WHERE id > ");
        query.push_bind(after.unwrap_or_default().as_bytes().to_vec());
        match whose {
            Whose::Caller(name) => query.push(" AND caller = ").push_bind(name),
            Whose::Tag(tag) => query.push(" AND id IN (SELECT job FROM job_tag WHERE tag = ").push_bind(tag).push(")"),
            Whose::Text(text) => query.push(" AND (sealed = 1 OR input LIKE ").push_bind(containing(text)).push(")"),
        };
        query.push(" ORDER BY id LIMIT ").push_bind(PAGE);
        let by_text = matches!(whose, Whose::Text(_));
        let rows = query.build().fetch_all(&self.pool).await.doing("searching for jobs to erase")?;
        let read = |row: &sqlx::mysql::MySqlRow| -> sqlx::Result<Candidate> {
            let phase = JobPhase::of_code(row.try_get(1)?);
            Ok(Candidate {
                id: uuid(&row.try_get::<Vec<u8>, _>(0)?),
                open: !phase.is_some_and(JobPhase::ended),
                sealed: row.try_get::<Option<String>, _>(2)?.filter(|_| by_text).map(String::into_bytes),
            })
        };
        rows.iter().map(read).collect::<sqlx::Result<_>>().doing("searching for jobs to erase")
    }

    /// Messages of senders that may be meant, after an id: by caller or text.
    pub async fn deliveries_to_erase(&self, whose: &Whose, after: Option<Uuid>) -> Result<Vec<Candidate>> {
        let mut query: QueryBuilder<MySql> =
            QueryBuilder::new("SELECT id, IF(sealed = 1, body, NULL) FROM delivery WHERE id > ");
        query.push_bind(after.unwrap_or_default().as_bytes().to_vec());
        match whose {
            Whose::Caller(name) => query.push(" AND caller = ").push_bind(name),
            Whose::Tag(_) => return Ok(Vec::new()),
            Whose::Text(text) => {
                query.push(" AND (sealed = 1 OR body LIKE ").push_bind(containing(text));
                query.push(" OR query LIKE ").push_bind(containing(text)).push(")")
            }
        };
        query.push(" ORDER BY id LIMIT ").push_bind(PAGE);
        let by_text = matches!(whose, Whose::Text(_));
        let rows = query.build().fetch_all(&self.pool).await.doing("searching for messages to erase")?;
        let read = |row: &sqlx::mysql::MySqlRow| -> sqlx::Result<Candidate> {
            let sealed = row.try_get::<Option<Vec<u8>>, _>(1)?.filter(|_| by_text);
            Ok(Candidate { id: uuid(&row.try_get::<Vec<u8>, _>(0)?), open: false, sealed })
        };
        rows.iter().map(read).collect::<sqlx::Result<_>>().doing("searching for messages to erase")
    }

    /// Messages that these runs or jobs were for.
    pub async fn deliveries_of_runs(&self, runs: &[Uuid]) -> Result<Vec<Uuid>> {
        let mut found = Vec::new();
        for chunk in portions(runs) {
            let mut query: QueryBuilder<MySql> = QueryBuilder::new("SELECT id FROM delivery WHERE run IN (");
            push(&mut query, chunk);
            let rows = query.build().fetch_all(&self.pool).await.doing("searching for messages to erase")?;
            found.extend(rows.iter().filter_map(|row| row.try_get::<Vec<u8>, _>(0).ok()).map(|id| uuid(&id)));
        }
        Ok(found)
    }

    /// Deletes messages, and what tells repetitions of them apart. Returns how many.
    pub async fn erase_deliveries(&self, ids: &[Uuid]) -> Result<u64> {
        let mut erased = 0;
        for chunk in portions(ids) {
            for table in ["DELETE FROM delivery_key WHERE delivery IN (", "DELETE FROM delivery WHERE id IN ("] {
                let mut query: QueryBuilder<MySql> = QueryBuilder::new(table);
                push(&mut query, chunk);
                let done = query.build().execute(&self.pool).await.doing("erasing messages")?;
                erased += if table.contains("delivery_key") { 0 } else { done.rows_affected() };
            }
        }
        Ok(erased)
    }

    /// Deletes jobs with all that stands beside them; returns how many.
    pub async fn erase_jobs(&self, ids: &[Uuid]) -> Result<u64> {
        let mut erased = 0;
        for chunk in portions(ids) {
            erased += self.delete_jobs(chunk).await?;
        }
        Ok(erased)
    }

    /// Deletes what was kept to answer repeated requests of runs, and values that they passed on; returns how many.
    pub async fn erase_beside_runs(&self, runs: &[Uuid]) -> Result<u64> {
        let mut erased = 0;
        for chunk in portions(runs) {
            for table in ["DELETE FROM idempotency WHERE run IN (", "DELETE FROM waking WHERE run IN ("] {
                let mut query: QueryBuilder<MySql> = QueryBuilder::new(table);
                push(&mut query, chunk);
                erased += query.build().execute(&self.pool).await.doing("erasing answers")?.rows_affected();
            }
        }
        Ok(erased)
    }

    /// How many refused requests are meant; deletes them unless it is a preview.
    pub async fn erase_refusals(&self, whose: &Whose, preview: bool) -> Result<u64> {
        let mut all = 0;
        loop {
            let mut query: QueryBuilder<MySql> =
                QueryBuilder::new(if preview { "SELECT COUNT(*) FROM refusal" } else { "DELETE FROM refusal" });
            match whose {
                Whose::Caller(name) => query.push(" WHERE caller = ").push_bind(name),
                Whose::Tag(_) => return Ok(0),
                Whose::Text(text) => query.push(" WHERE body LIKE ").push_bind(containing(text)),
            };
            if preview {
                let count: i64 = query.build_query_scalar().fetch_one(&self.pool).await.doing("counting refusals")?;
                return Ok(count as u64);
            }
            query.push(" LIMIT ").push_bind(PAGE);
            let some = query.build().execute(&self.pool).await.doing("erasing refusals")?.rows_affected();
            all += some;
            if some < u64::from(PAGE) {
                return Ok(all);
            }
        }
    }

    /// Deletes what is counted of a caller: its meters and its usage by hour.
    pub async fn erase_counts(&self, caller: &str) -> Result<u64> {
        let meters = sqlx::query!("DELETE FROM meter WHERE subject = ?", caller);
        let meters = meters.execute(&self.pool).await.doing("erasing counts")?.rows_affected();
        let usage = sqlx::query!("DELETE FROM key_usage WHERE name = ?", caller);
        Ok(meters + usage.execute(&self.pool).await.doing("erasing counts")?.rows_affected())
    }

    /// Files that a caller sent for later requests.
    pub async fn uploads_of(&self, owner: &str) -> Result<Vec<Uuid>> {
        let ids = sqlx::query_scalar!("SELECT id FROM upload WHERE owner = ?", owner);
        let ids = ids.fetch_all(&self.pool).await.doing("searching for uploads")?;
        Ok(ids.iter().map(|id| uuid(id)).collect())
    }

    /// Segments of the journal after an id, unpacked.
    pub async fn segments_after(&self, id: u64) -> Result<Vec<Segment>> {
        let ids = sqlx::query_scalar!("SELECT id FROM segment WHERE id > ? ORDER BY id LIMIT ?", id, SEGMENTS);
        let mut segments = Vec::new();
        for id in ids.fetch_all(&self.pool).await.doing("reading the journal")? {
            segments.push(Segment { id, runs: self.unpacked(id).await? });
        }
        Ok(segments)
    }

    /// Retires dictionaries that have a text: no further segment is packed with them.
    pub async fn retire_dictionaries(&self, text: &str) -> Result<()> {
        let done = sqlx::query!("UPDATE dictionary SET retired = 1 WHERE INSTR(data, CAST(? AS BINARY)) > 0", text);
        done.execute(&self.pool).await.map(|_| ()).doing("retiring dictionaries")
    }

    /// Segments that are packed with a retired dictionary.
    pub async fn segments_of_retired(&self) -> Result<Vec<Segment>> {
        let rows = sqlx::query_scalar!(
            "SELECT s.id FROM segment s JOIN dictionary d ON d.id = s.dictionary WHERE d.retired = 1 LIMIT ?",
            SEGMENTS
        );
        let mut segments = Vec::new();
        for id in rows.fetch_all(&self.pool).await.doing("reading the journal")? {
            segments.push(Segment { id, runs: self.unpacked(id).await? });
        }
        Ok(segments)
    }

    /// Deletes retired dictionaries that no segment uses; returns how many.
    pub async fn erase_dictionaries(&self) -> Result<u64> {
        let done = sqlx::query!(
            "DELETE FROM dictionary WHERE retired = 1 AND id NOT IN (SELECT dictionary FROM segment WHERE dictionary IS NOT NULL)"
        );
        Ok(done.execute(&self.pool).await.doing("erasing dictionaries")?.rows_affected())
    }
}

fn push(query: &mut QueryBuilder<MySql>, ids: &[Uuid]) {
    let mut list = query.separated(", ");
    ids.iter().for_each(|id| _ = list.push_bind(id.as_bytes().to_vec()));
    query.push(")");
}
