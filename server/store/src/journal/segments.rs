//! Segments: many runs in one row, compressed. Names of workflows and entries are numbers in the index.
//!
//! [`write`](super::write) writes them; which of their runs have a row of their own in the index is said in [`plain`](super::plain).

use std::collections::{BTreeSet, HashMap};
use std::sync::{Arc, PoisonError, RwLock};

use kanzlei_model::time::Timestamp;
use sqlx::{MySql, QueryBuilder, Transaction};
use uuid::Uuid;

use super::codec::{self, Encoded};
use super::write::write_into;
use super::{Purged, Run};
use crate::queue::portions;
use crate::{Doing, Error, Result, Store};

/// Names that a process remembers; beyond them it forgets all and reads again.
const NAMES: usize = 20_000;
/// Dictionaries that are kept without searching for unused ones; one is trained a day.
const DICTIONARIES: i64 = 30;

/// What a process knows of the journal's numbers.
#[derive(Debug, Default)]
pub(crate) struct Known {
    numbers: HashMap<String, u32>,
    names: HashMap<u32, String>,
    dictionaries: HashMap<u32, Arc<Vec<u8>>>,
}

impl Known {
    fn learn(&mut self, number: u32, name: &str) {
        if self.numbers.len() >= NAMES {
            self.numbers.clear();
            self.names.clear();
        }
        self.numbers.insert(name.to_owned(), number);
        self.names.insert(number, name.to_owned());
    }
}

/// A dictionary for segments: what runs have in common.
#[derive(Clone, Debug)]
pub struct Dictionary {
    /// Its number.
    pub(super) id: u32,
    pub(super) prepared: Arc<codec::Prepared>,
}

impl Dictionary {
    fn new(id: u32, data: &[u8]) -> Self {
        Dictionary { id, prepared: Arc::new(codec::Prepared::of(data)) }
    }
}

impl Store {
    fn known(&self) -> &RwLock<Known> {
        &self.journal_names
    }

    /// The numbers of names; those that have none get one.
    async fn numbers(&self, names: &BTreeSet<&str>) -> Result<HashMap<String, u32>> {
        let mut found = HashMap::new();
        let mut missing = Vec::new();
        {
            let known = self.known().read().unwrap_or_else(PoisonError::into_inner);
            for name in names {
                match known.numbers.get(*name) {
                    Some(number) => _ = found.insert((*name).to_owned(), *number),
                    None => missing.push(*name),
                }
            }
        }
        for some in portions(&missing) {
            let mut query: QueryBuilder<MySql> = QueryBuilder::new("INSERT IGNORE INTO journal_name (name) ");
            query.push_values(some, |mut row, name| _ = row.push_bind(*name));
            query.build().execute(&self.pool).await.doing("numbering names")?;
            found.extend(self.numbers_of(some).await?);
        }
        Ok(found)
    }

    /// The numbers of names that have one.
    async fn numbers_of(&self, names: &[&str]) -> Result<HashMap<String, u32>> {
        let mut query: QueryBuilder<MySql> = QueryBuilder::new("SELECT number, name FROM journal_name WHERE name IN (");
        let mut list = query.separated(", ");
        names.iter().for_each(|name| _ = list.push_bind(*name));
        query.push(")");
        let rows: Vec<(u32, String)> =
            query.build_query_as().fetch_all(&self.pool).await.doing("reading the numbers of names")?;
        let mut known = self.known().write().unwrap_or_else(PoisonError::into_inner);
        rows.iter().for_each(|(number, name)| known.learn(*number, name));
        Ok(rows.into_iter().map(|(number, name)| (name, number)).collect())
    }

    /// The number of a name; nothing for one that no run has.
    pub(super) async fn number_of(&self, name: &str) -> Result<Option<u32>> {
        if let Some(number) = self.known().read().unwrap_or_else(PoisonError::into_inner).numbers.get(name) {
            return Ok(Some(*number));
        }
        Ok(self.numbers_of(&[name]).await?.remove(name))
    }

    /// The names of numbers.
    pub(super) async fn names_of_numbers(&self, numbers: &BTreeSet<u32>) -> Result<HashMap<u32, String>> {
        let mut found = HashMap::new();
        let mut missing = Vec::new();
        {
            let known = self.known().read().unwrap_or_else(PoisonError::into_inner);
            for number in numbers {
                match known.names.get(number) {
                    Some(name) => _ = found.insert(*number, name.clone()),
                    None => missing.push(*number),
                }
            }
        }
        if missing.is_empty() {
            return Ok(found);
        }
        let mut query: QueryBuilder<MySql> =
            QueryBuilder::new("SELECT number, name FROM journal_name WHERE number IN (");
        let mut list = query.separated(", ");
        missing.iter().for_each(|number| _ = list.push_bind(*number));
        query.push(")");
        let rows: Vec<(u32, String)> = query.build_query_as().fetch_all(&self.pool).await.doing("reading names")?;
        let mut known = self.known().write().unwrap_or_else(PoisonError::into_inner);
        rows.iter().for_each(|(number, name)| known.learn(*number, name));
        found.extend(rows);
        Ok(found)
    }

    /// Writes runs as they are; see [`Store::write_segment`].
    ///
    /// # Errors
    /// When the database is unavailable or refuses them.
    pub async fn write_runs(&self, runs: &[Run]) -> Result<()> {
        let encoded: Vec<Encoded> = runs.iter().map(Encoded::of).collect();
        self.write_segment(&encoded, None).await.map(|_| ())
    }

    /// Writes runs as one segment, or as two: those that succeeded apart from the others, which may be kept longer. A batch that is
    /// there stays as it is, so that it may be written again after a connection broke. Returns whether the dictionary can be
    /// used further; without one, and where it was retired meanwhile, segments are packed without.
    ///
    /// # Errors
    /// When the database is unavailable or refuses them.
    pub async fn write_segment<R: AsRef<Encoded>>(&self, runs: &[R], dictionary: Option<&Dictionary>) -> Result<bool> {
        let numbers = self.numbers_for(runs).await?;
        let mut tx = self.pool.begin().await.map_err(Error::Unreachable)?;
        let (tx, usable) = match write_into(&mut tx, runs, dictionary, &numbers).await {
            Err(Error::DictionaryRetired) => {
                tx.rollback().await.doing("writing the journal")?;
                let mut again = self.pool.begin().await.map_err(Error::Unreachable)?;
                write_into(&mut again, runs, None, &numbers).await?;
                (again, false)
            }
            written => {
                written?;
                (tx, true)
            }
        };
        tx.commit().await.doing("writing the journal")?;
        Ok(usable)
    }

    /// The numbers of the names of runs.
    pub(crate) async fn numbers_for<R: AsRef<Encoded>>(&self, runs: &[R]) -> Result<HashMap<String, u32>> {
        let runs = runs.iter().map(AsRef::as_ref);
        let names: BTreeSet<&str> = runs.flat_map(|run| [run.row.workflow.as_str(), run.row.entry.as_str()]).collect();
        self.numbers(&names).await
    }

    /// One run with its steps.
    ///
    /// # Errors
    /// When the database is unavailable, or its segment cannot be read.
    pub async fn run(&self, id: Uuid) -> Result<Option<Run>> {
        let key = id.as_bytes().as_slice();
        let indexed = sqlx::query!("SELECT segment, place FROM run WHERE id = ?", key);
        let indexed = indexed.fetch_optional(&self.pool).await.doing("reading a run")?;
        let place = match indexed {
            Some(row) => Some((row.segment, row.place)),
            None => self.plain_place(id).await?,
        };
        let Some((segment, place)) = place else { return Ok(None) };
        let found = sqlx::query!("SELECT dictionary, data FROM segment WHERE id = ?", segment);
        let Some(row) = found.fetch_optional(&self.pool).await.doing("reading a run")? else { return Ok(None) };
        let dictionary = self.dictionary_of(row.dictionary).await?;
        let read = codec::unpack_one(&row.data, dictionary.as_ref().map(|d| d.as_slice()), place.into());
        read.map_err(|why| Error::Segment(why.to_string()))
    }

    /// The runs of a segment; none where it is gone.
    pub(crate) async fn unpacked(&self, segment: u64) -> Result<Vec<Run>> {
        let found = sqlx::query!("SELECT dictionary, data FROM segment WHERE id = ?", segment);
        let Some(row) = found.fetch_optional(&self.pool).await.doing("reading a segment")? else {
            return Ok(Vec::new());
        };
        let dictionary = self.dictionary_of(row.dictionary).await?;
        let read = codec::unpack(&row.data, dictionary.as_ref().map(|d| d.as_slice()));
        read.map_err(|why| Error::Segment(why.to_string()))
    }

    pub(crate) async fn dictionary_of(&self, id: Option<u32>) -> Result<Option<Arc<Vec<u8>>>> {
        let Some(id) = id else { return Ok(None) };
        if let Some(known) = self.known().read().unwrap_or_else(PoisonError::into_inner).dictionaries.get(&id) {
            return Ok(Some(known.clone()));
        }
        let data = sqlx::query_scalar!("SELECT data FROM dictionary WHERE id = ?", id);
        let data = data.fetch_optional(&self.pool).await.doing("reading a dictionary")?.map(Arc::new);
        if let Some(data) = &data {
            self.known().write().unwrap_or_else(PoisonError::into_inner).dictionaries.insert(id, data.clone());
        }
        Ok(data)
    }

    /// The newest dictionary, and when it was made.
    ///
    /// # Errors
    /// When the database is unavailable.
    pub async fn newest_dictionary(&self) -> Result<Option<(Dictionary, Timestamp)>> {
        let row = sqlx::query!("SELECT id, made, data FROM dictionary WHERE retired = 0 ORDER BY id DESC LIMIT 1");
        let row = row.fetch_optional(&self.pool).await.doing("reading a dictionary")?;
        Ok(row.map(|row| (Dictionary::new(row.id, &row.data), Timestamp::from_micros(row.made))))
    }

    /// Keeps a dictionary, for the segments that are written from now on.
    ///
    /// # Errors
    /// When the database is unavailable.
    pub async fn keep_dictionary(&self, data: Vec<u8>, now: Timestamp) -> Result<Dictionary> {
        let made = sqlx::query!("INSERT INTO dictionary (made, data) VALUES (?, ?)", now.as_micros(), data);
        let made = made.execute(&self.pool).await.doing("keeping a dictionary")?;
        Ok(Dictionary::new(made.last_insert_id() as u32, &data))
    }

    /// How many runs and bytes the journal has on disk, packed.
    ///
    /// # Errors
    /// When the database is unavailable.
    pub async fn journal_size(&self) -> Result<(u64, u64)> {
        let row = sqlx::query!(
            "SELECT CAST(COALESCE(SUM(runs), 0) AS UNSIGNED) AS `runs!: u64`, CAST(COALESCE(SUM(bytes), 0) AS UNSIGNED) AS `bytes!: u64` FROM segment"
        );
        let row = row.fetch_one(&self.pool).await.doing("measuring the journal")?;
        Ok((row.runs, row.bytes))
    }

    /// Drops segments whose runs all began before an instant, those that succeeded and the others, at most so many of each; returns how many.
    ///
    /// # Errors
    /// When the database is unavailable.
    pub async fn purge_segments(&self, succeeded: Timestamp, others: Timestamp, limit: u32) -> Result<Purged> {
        let mut purged = Purged::default();
        for (kind, before) in [(true, succeeded), (false, others)] {
            let found = sqlx::query!(
                "SELECT id, runs, bytes FROM segment WHERE succeeded = ? AND last < ? ORDER BY last LIMIT ?",
                kind,
                before.as_micros(),
                limit
            );
            for row in found.fetch_all(&self.pool).await.doing("searching for old runs")? {
                self.drop_segment(row.id).await?;
                purged.segments += 1;
                purged.runs += u64::from(row.runs);
                purged.bytes += u64::from(row.bytes);
            }
        }
        if purged.segments > 0 {
            self.drop_dictionaries().await?;
        }
        Ok(purged)
    }

    /// Deletes unused dictionaries once more than [`DICTIONARIES`] are kept.
    async fn drop_dictionaries(&self) -> Result<()> {
        let count = sqlx::query_scalar!("SELECT COUNT(*) FROM dictionary");
        if count.fetch_one(&self.pool).await.doing("counting dictionaries")? <= DICTIONARIES {
            return Ok(());
        }
        let unused = sqlx::query!(
            "DELETE FROM dictionary WHERE id < (SELECT newest FROM (SELECT MAX(id) AS newest FROM dictionary) own)
             AND id NOT IN (SELECT dictionary FROM segment WHERE dictionary IS NOT NULL)"
        );
        unused.execute(&self.pool).await.doing("deleting dictionaries")?;
        Ok(())
    }

    /// Drops the oldest segments until the journal has at most so many runs and bytes; at most `limit` segments.
    ///
    /// # Errors
    /// When the database is unavailable.
    pub async fn purge_beyond(&self, most_runs: u64, most_bytes: u64, limit: u32) -> Result<Purged> {
        let (mut runs, mut bytes) = self.journal_size().await?;
        let mut purged = Purged::default();
        if runs <= most_runs && bytes <= most_bytes {
            return Ok(purged);
        }
        // Those of successful runs go first.
        let found = sqlx::query!("SELECT id, runs, bytes FROM segment ORDER BY succeeded DESC, last LIMIT ?", limit);
        for row in found.fetch_all(&self.pool).await.doing("searching for old runs")? {
            if runs <= most_runs && bytes <= most_bytes {
                break;
            }
            self.drop_segment(row.id).await?;
            runs = runs.saturating_sub(row.runs.into());
            bytes = bytes.saturating_sub(row.bytes.into());
            purged.segments += 1;
            purged.runs += u64::from(row.runs);
            purged.bytes += u64::from(row.bytes);
        }
        Ok(purged)
    }

    /// Drops a segment with the rows of its runs. A run of the same id that was recorded again, as that of a job that was retried, stays.
    async fn drop_segment(&self, id: u64) -> Result<()> {
        let indexed = sqlx::query_scalar!("SELECT indexed FROM segment WHERE id = ?", id);
        let indexed = indexed.fetch_optional(&self.pool).await.doing("searching for old runs")?.flatten();
        if indexed == Some(0) {
            let dropped = sqlx::query!("DELETE FROM segment WHERE id = ?", id).execute(&self.pool).await;
            return dropped.map(|_| ()).doing("deleting old runs");
        }
        let runs = match self.unpacked(id).await {
            Ok(runs) => runs.into_iter().map(|run| (run.id, run.request_id)).collect(),
            Err(Error::Segment(why)) => {
                tracing::warn!(%why, segment = id, "a segment cannot be read; its runs are searched in the index");
                let found = sqlx::query_scalar!("SELECT id FROM run WHERE segment = ?", id);
                let found = found.fetch_all(&self.pool).await.doing("searching for old runs")?;
                found.iter().map(|id| (Uuid::from_slice(id).unwrap_or_default(), String::new())).collect::<Vec<_>>()
            }
            Err(error) => return Err(error),
        };
        let mut tx = self.pool.begin().await.map_err(Error::Unreachable)?;
        self.drop_runs(&mut tx, id, &runs).await?;
        tx.commit().await.doing("deleting old runs")
    }

    /// Deletes a segment and the rows of its runs, which are given with the ids of their requests.
    pub(crate) async fn drop_runs(
        &self,
        tx: &mut Transaction<'_, MySql>,
        id: u64,
        runs: &[(Uuid, String)],
    ) -> Result<()> {
        let plain = self.plain_ids(tx, id).await?;
        for some in portions(runs) {
            let ids = |query: &mut QueryBuilder<MySql>| {
                query.push(" (");
                let mut list = query.separated(", ");
                some.iter().for_each(|(id, _)| _ = list.push_bind(id.as_bytes().to_vec()));
                query.push(")");
            };
            let mut own = QueryBuilder::new("SELECT id FROM run WHERE segment = ");
            own.push_bind(id).push(" AND id IN");
            ids(&mut own);
            let own: Vec<Vec<u8>> =
                own.build_query_scalar().fetch_all(&mut **tx).await.doing("searching for old runs")?;
            let own: BTreeSet<&[u8]> = own.iter().map(Vec::as_slice).collect();
            let requests: Vec<_> = some
                .iter()
                .filter(|(id, request)| {
                    (plain.contains(id) || own.contains(id.as_bytes().as_slice())) && *request != id.to_string()
                })
                .collect();
            for requests in portions(&requests) {
                // Pairs compared with `IN` are no range of an index where there is one of them: the table would be read, and locked.
                let mut query = QueryBuilder::new("DELETE FROM run_request WHERE ");
                let mut pairs = query.separated(" OR ");
                for (id, request) in requests {
                    pairs.push("(request_id = ").push_bind_unseparated(request);
                    pairs.push_unseparated(" AND id = ").push_bind_unseparated(id.as_bytes().as_slice());
                    pairs.push_unseparated(")");
                }
                query.build().execute(&mut **tx).await.doing("deleting old runs")?;
            }
            let mut query = QueryBuilder::new(
                "DELETE r, t FROM run r LEFT JOIN run_trouble t ON t.state = r.state AND t.id = r.id WHERE r.segment = ",
            );
            query.push_bind(id).push(" AND r.id IN");
            ids(&mut query);
            query.build().execute(&mut **tx).await.doing("deleting old runs")?;
        }
        sqlx::query!("DELETE FROM segment WHERE id = ?", id).execute(&mut **tx).await.doing("deleting old runs")?;
        Ok(())
    }
}
