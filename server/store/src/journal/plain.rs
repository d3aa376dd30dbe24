//! Runs without a row in the index: those that succeeded soon after they began, which most do.
//!
//! Their segment has the first and the last of their ids, what lists show of them, and a row of `segment_workflow` for each of their
//! workflows. Because they began within [`SPREAD`] of each other, few segments can have the run of an id.

use std::cmp::Reverse;
use std::collections::{BTreeMap, BTreeSet};
use std::io;
use std::time::Instant;

use kanzlei_model::run::RunState;
use kanzlei_model::time::{Span, Timestamp};
use serde::{Deserialize, Serialize};
use sqlx::{MySql, QueryBuilder, Transaction};
use uuid::Uuid;

use super::codec::Encoded;
use super::{Filter, Narrow, Row, SEARCH, Wanted};
use crate::names::Called;
use crate::queue::{OfRequest, SEARCHED, portions};
use crate::{Doing, Error, Result, Store};

/// How long before the newest of them the runs of a segment may have begun.
const SPREAD: Span = Span::from_secs(10);
/// Segments that are read at first, and at a time at most: twice as many each time.
const FIRST: u32 = 8;
const AT_ONCE: u32 = 200;
/// Segments whose counts are read at a time.
const COUNTED: u32 = 500;
/// Ids of runs with one request id that are looked at.
const OF_REQUEST: u32 = 1000;
/// The most bytes of the lines of a segment.
const MOST_UNPACKED: usize = 8 << 20;
/// How hard lines are compressed.
const LEVEL: i32 = 1;

/// What lists show of a run, in a segment.
#[derive(Serialize, Deserialize)]
pub(super) struct Line<'l> {
    place: u16,
    id: (u64, u64),
    workflow: u32,
    revision: u32,
    entry: u32,
    status: Option<u16>,
    started: i64,
    duration: i64,
    #[serde(borrow)]
    caller: Option<std::borrow::Cow<'l, str>>,
}

/// The runs of a segment that need no row.
pub(super) struct Plain<'r> {
    pub runs: Vec<(usize, &'r Encoded)>,
    /// The instant from which on runs need none; nothing where those of the segment did not succeed.
    earliest: Option<Timestamp>,
}

/// What a segment has of its plain runs.
pub(super) struct Listed {
    pub low: Uuid,
    pub high: Uuid,
    pub lines: Vec<u8>,
    /// The highest id of each of their workflows.
    pub workflows: BTreeMap<u32, Uuid>,
}

impl<'r> Plain<'r> {
    /// Parts the runs of a segment: those that need no row, and the others.
    pub fn of(runs: &[&'r Encoded], succeeded: bool) -> (Self, Vec<(usize, &'r Encoded)>) {
        let newest = runs.iter().map(|run| run.row.id).max().unwrap_or_default();
        let earliest = at(newest) - SPREAD;
        let all = runs.iter().copied().enumerate();
        let (runs, others) = all.partition(|(_, run)| succeeded && at(run.row.id) >= earliest);
        (Plain { runs, earliest: succeeded.then_some(earliest) }, others)
    }

    /// Whether a run of the segment is one of them.
    pub fn has(&self, run: &Encoded) -> bool {
        self.earliest.is_some_and(|earliest| at(run.row.id) >= earliest)
    }

    /// What the segment has of them; nothing where there is none.
    pub fn listed(&self, number: impl Fn(&str) -> u32) -> Result<Option<Listed>> {
        let ids = || self.runs.iter().map(|(_, run)| run.row.id);
        let (Some(low), Some(high)) = (ids().min(), ids().max()) else { return Ok(None) };
        let line = |(place, run): &(usize, &'r Encoded)| Line {
            place: *place as u16,
            id: run.row.id.as_u64_pair(),
            workflow: number(&run.row.workflow),
            revision: run.row.revision,
            entry: number(&run.row.entry),
            status: run.row.status,
            started: run.row.started.as_micros(),
            duration: run.row.duration.as_micros(),
            caller: run.caller.as_deref().map(Into::into),
        };
        let lines: Vec<Line> = self.runs.iter().map(line).collect();
        let mut workflows = BTreeMap::new();
        for line in &lines {
            let highest = workflows.entry(line.workflow).or_insert(Uuid::nil());
            *highest = Uuid::from_u64_pair(line.id.0, line.id.1).max(*highest);
        }
        let lines = rmp_serde::to_vec(&lines).map_err(|why| Error::Segment(why.to_string()))?;
        let lines = zstd::bulk::compress(&lines, LEVEL).map_err(|why| Error::Segment(why.to_string()))?;
        Ok(Some(Listed { low, high, lines, workflows }))
    }
}

/// When the run of an id began, to the millisecond (RFC 9562, version 7).
fn at(id: Uuid) -> Timestamp {
    Timestamp::from_micros(((id.as_u128() >> 80) as i64).saturating_mul(1000))
}

/// The last id that a segment with this one can have as its highest.
fn highest_beside(id: Uuid) -> Uuid {
    let milliseconds = (id.as_u128() >> 80) + SPREAD.as_micros() as u128 / 1000 + 1;
    Uuid::from_u128((milliseconds << 80).wrapping_sub(1)).max(id)
}

/// Writes which workflows a segment has plain runs of.
pub(super) async fn write_workflows(tx: &mut Transaction<'_, MySql>, segment: u64, listed: &Listed) -> Result<()> {
    let workflows: Vec<(u32, Uuid)> = listed.workflows.iter().map(|(number, high)| (*number, *high)).collect();
    for some in portions(&workflows) {
        let mut query: QueryBuilder<MySql> =
            QueryBuilder::new("INSERT INTO segment_workflow (workflow, high, segment) ");
        query.push_values(some, |mut row, (workflow, high)| {
            row.push_bind(*workflow).push_bind(high.as_bytes().as_slice()).push_bind(segment);
        });
        query.build().execute(&mut **tx).await.doing("writing runs")?;
    }
    Ok(())
}

/// The lines of a segment as rows of the index, each with its caller.
fn rows(packed: &[u8], segment: u64) -> Result<Vec<(Row, Option<String>)>> {
    let broken = |why: io::Error| Error::Segment(why.to_string());
    let size = zstd::zstd_safe::get_frame_content_size(packed).ok().flatten().unwrap_or(0);
    let room = MOST_UNPACKED.min(size as usize);
    let bytes = zstd::bulk::decompress(packed, room).map_err(broken)?;
    let lines: Vec<Line> = rmp_serde::from_slice(&bytes).map_err(|why| broken(io::Error::other(why)))?;
    let row = |line: Line| {
        let row = Row {
            id: Uuid::from_u64_pair(line.id.0, line.id.1).as_bytes().to_vec(),
            workflow: line.workflow,
            revision: line.revision,
            state: RunState::Succeeded.name().into(),
            entry: line.entry,
            status: line.status,
            started: line.started,
            duration: line.duration,
            failed_at: None,
            kind: None,
            detail: None,
            segment,
            place: line.place,
        };
        (row, line.caller.map(Into::into))
    };
    Ok(lines.into_iter().map(row).collect())
}

/// A segment with plain runs.
#[derive(sqlx::FromRow)]
struct Found {
    id: u64,
    high: Vec<u8>,
    listed: Vec<u8>,
}

impl Found {
    fn high(&self) -> Uuid {
        Uuid::from_slice(&self.high).unwrap_or_default()
    }
}

impl Filter {
    /// Whether runs that succeeded can be among those that are wanted.
    fn wants_plain(&self) -> bool {
        self.state.is_none_or(|state| state == RunState::Succeeded) && self.kind.is_none()
    }

    /// Whether a plain run is wanted, as far as the filter has no names.
    fn fits(&self, row: &Row, caller: Option<&str>) -> bool {
        let status = |range: &std::ops::RangeInclusive<u16>| row.status.is_some_and(|status| range.contains(&status));
        self.status.as_ref().is_none_or(status)
            && self.since.is_none_or(|since| row.started >= since.as_micros())
            && self.until.is_none_or(|until| row.started < until.as_micros())
            && self.caller.as_deref().is_none_or(|wanted| caller == Some(wanted))
    }
}

impl Narrow {
    /// Whether the workflow and the entry of a run are wanted.
    fn fits(&self, row: &Row) -> bool {
        let id = row.id();
        let holds =
            |called: &Called| called.from.is_none_or(|from| id >= from) && called.until.is_none_or(|until| id < until);
        let of = |(number, called): &(u32, Called)| *number == row.workflow && holds(called);
        (self.workflows.is_empty() || self.workflows.iter().any(of))
            && self.entries.as_ref().is_none_or(|entries| entries.contains(&row.entry))
    }
}

impl Store {
    /// Rows of plain runs, newest first.
    pub(super) async fn page_of_plain_runs(&self, page: &Wanted<'_>) -> Result<Vec<Row>> {
        let Wanted { filter, narrow, oldest, before, limit } = *page;
        if !filter.wants_plain() {
            return Ok(Vec::new());
        }
        let mut found = Page { newest: BTreeMap::new(), limit: limit as usize };
        let wanted = |row: &Row, caller: Option<&str>| {
            let id = row.id();
            let within = before.is_none_or(|before| id < before) && oldest.is_none_or(|oldest| id >= oldest);
            within && narrow.fits(row) && filter.fits(row, caller)
        };
        if let Some(request) = &filter.request {
            self.plain_runs_of_request(request, before, &wanted, &mut found).await?;
            return Ok(found.rows());
        }
        let begun = Instant::now();
        let numbers: BTreeSet<u32> = narrow.workflows.iter().map(|(number, _)| *number).collect();
        let numbers: Vec<Option<u32>> = match numbers.is_empty() {
            true => vec![None],
            false => numbers.into_iter().map(Some).collect(),
        };
        for number in numbers {
            let (mut high, mut last) = (before.map_or(Uuid::max(), highest_beside), u64::MAX);
            let mut at_once = FIRST;
            'segments: loop {
                let segments = self.segments_up_to(number, high, last, at_once).await?;
                for segment in &segments {
                    (high, last) = (segment.high(), segment.id);
                    if found.is_full_down_to(high) || oldest.is_some_and(|oldest| high < oldest) {
                        break 'segments;
                    }
                    for (row, caller) in rows(&segment.listed, segment.id)? {
                        if wanted(&row, caller.as_deref()) {
                            found.add(row);
                        }
                    }
                }
                if segments.len() < at_once as usize {
                    break;
                }
                // As long as a search in the index may take.
                if begun.elapsed() > SEARCH {
                    return Err(Error::TooSlow);
                }
                at_once = (at_once * 2).min(AT_ONCE);
            }
        }
        Ok(found.rows())
    }

    /// Segments with plain runs, of a workflow or all, whose highest id is this one at most; the highest first. `last` is the number of the one that came before, where it has this id.
    async fn segments_up_to(&self, workflow: Option<u32>, high: Uuid, last: u64, limit: u32) -> Result<Vec<Found>> {
        let high = high.as_bytes().as_slice();
        let found = match workflow {
            None => {
                sqlx::query_as!(
                    Found,
                    "SELECT id, high AS `high!: Vec<u8>`, listed AS `listed!: Vec<u8>` FROM segment
                     WHERE high <= ? AND (high < ? OR id < ?) ORDER BY high DESC, id DESC LIMIT ?",
                    high,
                    high,
                    last,
                    limit
                )
                .fetch_all(&self.pool)
                .await
            }
            Some(workflow) => {
                sqlx::query_as!(
                    Found,
                    "SELECT s.id, w.high AS `high!: Vec<u8>`, s.listed AS `listed!: Vec<u8>`
                     FROM segment_workflow w STRAIGHT_JOIN segment s ON s.id = w.segment
                     WHERE w.workflow = ? AND w.high <= ? AND (w.high < ? OR w.segment < ?)
                     ORDER BY w.high DESC, w.segment DESC LIMIT ?",
                    workflow,
                    high,
                    high,
                    last,
                    limit
                )
                .fetch_all(&self.pool)
                .await
            }
        };
        found.doing("listing runs")
    }

    /// Plain runs of a request.
    async fn plain_runs_of_request(
        &self,
        request: &OfRequest,
        before: Option<Uuid>,
        wanted: &(impl Fn(&Row, Option<&str>) -> bool + Sync),
        found: &mut Page,
    ) -> Result<()> {
        let before = before.unwrap_or(Uuid::max());
        let known = sqlx::query!(
            "SELECT id, segment AS `segment!: u64` FROM run_request
             WHERE request_id = ? AND id < ? AND segment IS NOT NULL ORDER BY id DESC LIMIT ?",
            request.id,
            before.as_bytes().as_slice(),
            OF_REQUEST
        );
        let known = known.fetch_all(&self.pool).await.doing("listing runs")?;
        let mut ids: BTreeMap<u64, BTreeSet<Vec<u8>>> = BTreeMap::new();
        known.into_iter().for_each(|row| _ = ids.entry(row.segment).or_default().insert(row.id));
        for id in request.runs() {
            if let Some((segment, _)) = self.plain_place(id).await? {
                ids.entry(segment).or_default().insert(id.as_bytes().to_vec());
            }
        }
        for (segment, ids) in ids.into_iter().rev() {
            let Some(listed) = self.listed_of(segment).await? else { continue };
            for (row, caller) in rows(&listed, segment)? {
                if ids.contains(&row.id) && wanted(&row, caller.as_deref()) {
                    found.add(row);
                }
            }
        }
        Ok(())
    }

    async fn listed_of(&self, segment: u64) -> Result<Option<Vec<u8>>> {
        let listed = sqlx::query_scalar!("SELECT listed FROM segment WHERE id = ?", segment);
        Ok(listed.fetch_optional(&self.pool).await.doing("reading a segment")?.flatten())
    }

    /// The segment of a plain run, and its place in there.
    pub(super) async fn plain_place(&self, id: Uuid) -> Result<Option<(u64, u16)>> {
        let (key, highest) = (id.as_bytes().as_slice(), highest_beside(id));
        let segments = sqlx::query_as!(
            Found,
            "SELECT id, high AS `high!: Vec<u8>`, listed AS `listed!: Vec<u8>` FROM segment
             WHERE high >= ? AND high <= ? AND low <= ?",
            key,
            highest.as_bytes().as_slice(),
            key
        );
        for segment in segments.fetch_all(&self.pool).await.doing("reading a run")? {
            let rows = rows(&segment.listed, segment.id)?;
            if let Some((row, _)) = rows.iter().find(|(row, _)| row.id == key) {
                return Ok(Some((segment.id, row.place)));
            }
        }
        Ok(None)
    }

    /// The ids of the plain runs of a segment.
    pub(crate) async fn plain_ids(&self, tx: &mut Transaction<'_, MySql>, segment: u64) -> Result<BTreeSet<Uuid>> {
        let listed = sqlx::query_scalar!("SELECT listed FROM segment WHERE id = ?", segment);
        let listed = listed.fetch_optional(&mut **tx).await.doing("reading a segment")?.flatten();
        let rows = listed.map(|listed| rows(&listed, segment)).transpose()?.unwrap_or_default();
        Ok(rows.iter().map(|(row, _)| row.id()).collect())
    }

    /// The oldest plain run that a search reads before it stops; `None` when it reaches the end.
    pub(super) async fn oldest_plain_run_searched(&self, before: Option<Uuid>) -> Result<Option<Uuid>> {
        let (mut high, mut last) = (before.map_or(Uuid::max(), highest_beside).as_bytes().to_vec(), u64::MAX);
        let mut read = 0;
        loop {
            let some = sqlx::query!(
                "SELECT id, high AS `high!: Vec<u8>`, low AS `low!: Vec<u8>`, runs FROM segment
                 WHERE high <= ? AND (high < ? OR id < ?) ORDER BY high DESC, id DESC LIMIT ?",
                high,
                high,
                last,
                COUNTED
            );
            let some = some.fetch_all(&self.pool).await.doing("bounding a search")?;
            for segment in &some {
                (high, last) = (segment.high.clone(), segment.id);
                let beyond = before.is_some_and(|before| segment.low.as_slice() >= before.as_bytes().as_slice());
                if beyond {
                    continue;
                }
                if read + segment.runs < SEARCHED {
                    read += segment.runs;
                    continue;
                }
                let listed = self.listed_of(segment.id).await?.unwrap_or_default();
                let mut ids: Vec<Uuid> = rows(&listed, segment.id)?.iter().map(|(row, _)| row.id()).collect();
                ids.retain(|id| before.is_none_or(|before| *id < before));
                ids.sort_unstable_by_key(|id| Reverse(*id));
                let oldest = ids.get((SEARCHED - read) as usize - 1).or(ids.last()).copied();
                return Ok(Some(oldest.unwrap_or(Uuid::from_slice(&high).unwrap_or_default())));
            }
            if some.len() < COUNTED as usize {
                return Ok(None);
            }
        }
    }

    /// The newest plain runs of each of these workflows, by their numbers; `each` of one.
    pub(super) async fn latest_plain_runs(&self, workflows: &[u32], each: u32) -> Result<Vec<Row>> {
        if workflows.is_empty() {
            return Ok(Vec::new());
        }
        let mut query: QueryBuilder<MySql> =
            QueryBuilder::new("SELECT s.id, s.high, s.listed FROM segment s JOIN (SELECT DISTINCT segment FROM (");
        for (index, workflow) in workflows.iter().enumerate() {
            query.push(if index > 0 { " UNION ALL (" } else { "(" });
            query.push("SELECT segment FROM segment_workflow WHERE workflow = ").push_bind(*workflow);
            query.push(" ORDER BY high DESC, segment DESC LIMIT ").push_bind(each).push(")");
        }
        query.push(") every) newest ON newest.segment = s.id");
        let segments: Vec<Found> =
            query.build_query_as().fetch_all(&self.pool).await.doing("listing the newest runs")?;
        let page = || Page { newest: BTreeMap::new(), limit: each as usize };
        let mut pages: BTreeMap<u32, Page> = workflows.iter().map(|workflow| (*workflow, page())).collect();
        for segment in segments {
            for (row, _) in rows(&segment.listed, segment.id)? {
                if let Some(page) = pages.get_mut(&row.workflow) {
                    page.add(row);
                }
            }
        }
        Ok(pages.into_values().flat_map(Page::rows).collect())
    }
}

/// The newest runs that were found.
struct Page {
    newest: BTreeMap<Reverse<Uuid>, Row>,
    limit: usize,
}

impl Page {
    fn add(&mut self, row: Row) {
        self.newest.insert(Reverse(row.id()), row);
        if self.newest.len() > self.limit {
            self.newest.pop_last();
        }
    }

    /// Whether no run of a segment with this highest id belongs to it.
    fn is_full_down_to(&self, high: Uuid) -> bool {
        self.newest.len() == self.limit && self.newest.last_key_value().is_none_or(|(Reverse(id), _)| *id >= high)
    }

    fn rows(self) -> Vec<Row> {
        self.newest.into_values().collect()
    }
}

/// Two pages as one: newest first, each run once, at most so many.
pub(super) fn merged(own: Vec<Row>, plain: Vec<Row>, limit: u32) -> Vec<Row> {
    let mut page = Page { newest: BTreeMap::new(), limit: limit as usize };
    // A run with a row is the one that counts.
    plain.into_iter().chain(own).for_each(|row| page.add(row));
    page.rows()
}
