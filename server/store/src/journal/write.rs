//! Writing segments: the runs of a batch, packed, with what lists need of them.
//!
//! A batch has a digest of its runs. One that is written again, because the connection broke behind its commit, is found by it.

use std::collections::HashMap;
use std::hash::{DefaultHasher, Hasher};

use sqlx::{MySql, QueryBuilder, Transaction};

use super::codec::{self, Encoded};
use super::plain::{self, Listed, Plain};
use super::segments::Dictionary;
use crate::queue::portions;
use crate::{Doing, Error, Result};

/// Bytes of a detail in the index; the whole failure is in the segment.
const DETAIL: usize = 300;

/// Writes runs within a transaction.
pub(crate) async fn write_into<R: AsRef<Encoded>>(
    tx: &mut Transaction<'_, MySql>,
    runs: &[R],
    dictionary: Option<&Dictionary>,
    numbers: &HashMap<String, u32>,
) -> Result<()> {
    let runs = runs.iter().map(AsRef::as_ref);
    let (succeeded, others): (Vec<&Encoded>, Vec<&Encoded>) = runs.partition(|run| run.succeeded());
    for (some, succeeded) in [(succeeded, true), (others, false)] {
        if !some.is_empty() {
            segment(tx, &some, succeeded, dictionary, numbers).await?;
        }
    }
    Ok(())
}

/// Writes one segment and the rows of its runs.
async fn segment(
    tx: &mut Transaction<'_, MySql>,
    runs: &[&Encoded],
    succeeded: bool,
    dictionary: Option<&Dictionary>,
    numbers: &HashMap<String, u32>,
) -> Result<()> {
    let data = codec::pack(runs, dictionary.map(|dictionary| &*dictionary.prepared))
        .map_err(|why| Error::Segment(why.to_string()))?;
    let began = |run: &&Encoded| run.row.started.as_micros();
    let (first, last) = (runs.iter().map(began).min(), runs.iter().map(began).max());
    let number = |name: &str| numbers.get(name).copied().unwrap_or_default();
    let (plain, others) = Plain::of(runs, succeeded);
    let listed = plain.listed(number)?;
    let requests = runs.iter().filter(|run| run.request_id.is_some()).count();
    let row = NewSegment {
        succeeded,
        first: first.unwrap_or_default(),
        last: last.unwrap_or_default(),
        runs: runs.len() as u32,
        indexed: (others.len() + requests) as u32,
        batch: digest(runs),
        data,
        listed,
    };
    let Some(segment) = row.write(tx, dictionary).await? else { return Ok(()) };
    if let Some(listed) = &row.listed {
        plain::write_workflows(tx, segment, listed).await?;
    }
    let mut places = others;
    // Rows in the order of the index fill its pages.
    places.sort_by_key(|(_, run)| run.row.id);
    let mut written = 0;
    for some in portions(&places) {
        let mut query: QueryBuilder<MySql> = QueryBuilder::new(match succeeded {
            true => {
                "INSERT IGNORE INTO run (id, workflow, revision, entry, status, started, duration, caller, place, segment, state) "
            }
            false => {
                "INSERT IGNORE INTO run (id, workflow, revision, entry, status, started, duration, caller, place, segment, state, failed_at, kind, detail) "
            }
        });
        query.push_values(some, |mut row, (place, run)| {
            let line = &run.row;
            row.push_bind(line.id.as_bytes().as_slice())
                .push_bind(number(&line.workflow))
                .push_bind(line.revision)
                .push_bind(number(&line.entry))
                .push_bind(line.status)
                .push_bind(line.started.as_micros())
                .push_bind(line.duration.as_micros())
                .push_bind(&run.caller)
                .push_bind(*place as u16)
                .push_bind(segment);
            match succeeded {
                true => row.push("'succeeded'"),
                false => row
                    .push_bind(&line.state)
                    .push_bind(line.failed_at)
                    .push_bind(&line.kind)
                    .push_bind(line.detail.as_ref().map(|text| text.chars().take(DETAIL).collect::<String>())),
            };
        });
        written += query.build().execute(&mut **tx).await.doing("writing runs")?.rows_affected();
    }
    if !succeeded {
        for some in portions(runs) {
            let mut query: QueryBuilder<MySql> =
                QueryBuilder::new("INSERT IGNORE INTO run_trouble (state, id, workflow) ");
            query.push_values(some, |mut row, run| {
                row.push_bind(&run.row.state).push_bind(run.row.id.as_bytes().as_slice());
                row.push_bind(number(&run.row.workflow));
            });
            query.build().execute(&mut **tx).await.doing("writing runs")?;
        }
    }
    let without_row = |run: &Encoded| plain.has(run).then_some(segment);
    let requests: Vec<(&String, &Encoded)> =
        runs.iter().filter_map(|run| Some((run.request_id.as_ref()?, *run))).collect();
    for some in portions(&requests) {
        let mut query: QueryBuilder<MySql> = QueryBuilder::new("INSERT INTO run_request (request_id, id, segment) ");
        query.push_values(some, |mut row, (request_id, run)| {
            row.push_bind(*request_id).push_bind(run.row.id.as_bytes().as_slice()).push_bind(without_row(run));
        });
        // A job that was retried has had a row before.
        query.push(" ON DUPLICATE KEY UPDATE segment = VALUES(segment)");
        query.build().execute(&mut **tx).await.doing("writing runs")?;
    }
    if written == 0 && row.listed.is_none() {
        // All of them were written before.
        sqlx::query!("DELETE FROM segment WHERE id = ?", segment).execute(&mut **tx).await.doing("writing runs")?;
    }
    Ok(())
}

/// The row of a segment that is to be written.
struct NewSegment {
    succeeded: bool,
    first: i64,
    last: i64,
    runs: u32,
    indexed: u32,
    batch: [u8; 16],
    data: Vec<u8>,
    listed: Option<Listed>,
}

impl NewSegment {
    /// Writes it; returns its number, and nothing where its batch was written before.
    async fn write(&self, tx: &mut Transaction<'_, MySql>, dictionary: Option<&Dictionary>) -> Result<Option<u64>> {
        let listed = self.listed.as_ref();
        let (low, high) = (listed.map(|l| l.low.as_bytes().to_vec()), listed.map(|l| l.high.as_bytes().to_vec()));
        let lines = listed.map(|listed| listed.lines.as_slice());
        let bytes = (self.data.len() + lines.map_or(0, <[u8]>::len)) as u32;
        let dictionary = dictionary.map(|dictionary| dictionary.id);
        let made = sqlx::query!(
            "INSERT INTO segment (succeeded, first, last, runs, bytes, data, low, high, listed, indexed, batch, dictionary)
             SELECT ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, d.id FROM (SELECT 1 AS one) only LEFT JOIN dictionary d ON d.id = ?
             WHERE ? IS NULL OR d.retired = 0",
            self.succeeded,
            self.first,
            self.last,
            self.runs,
            bytes,
            self.data,
            low,
            high,
            lines,
            self.indexed,
            self.batch.as_slice(),
            dictionary,
            dictionary
        );
        let made = made.execute(&mut **tx).await;
        match made {
            Ok(made) if made.rows_affected() == 0 => Err(Error::DictionaryRetired),
            Ok(made) => Ok(Some(made.last_insert_id())),
            Err(error) if error.as_database_error().is_some_and(|error| error.is_unique_violation()) => Ok(None),
            Err(error) => Err(error).doing("writing a segment"),
        }
    }
}

/// A digest of runs: the same ones have the same, however they are packed. Only the process that made it, which writes a batch again,
/// compares it; the ids of the runs are random.
fn digest(runs: &[&Encoded]) -> [u8; 16] {
    let (mut digest, mut ids) = (DefaultHasher::new(), 0);
    for run in runs {
        let id = run.row.id.as_u128();
        ids ^= id as u64;
        digest.write_u128(id);
        digest.write_i64(run.row.started.as_micros());
        digest.write_i64(run.row.duration.as_micros());
    }
    (u128::from(digest.finish()) << 64 | u128::from(ids)).to_be_bytes()
}
