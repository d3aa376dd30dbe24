//! The journal: runs with their steps, and the counts per workflow and minute.
//!
//! Runs are kept in [`segments`], many in one row. What lists and filters need of a run is a row of the index, or, for most that
//! succeeded, a line of its segment ([`plain`]). A search for text unpacks segments.

pub mod codec;
mod plain;
mod segments;
mod write;

use std::collections::{BTreeSet, HashMap};
use std::ops::RangeInclusive;
use std::time::{Duration, Instant};

use kanzlei_model::caller::Caller;
use kanzlei_model::run::RunState;
use kanzlei_model::time::{Span, Timestamp};
use sqlx::{MySql, QueryBuilder};
use uuid::Uuid;

pub use segments::Dictionary;
pub(crate) use segments::Known;
pub(crate) use write::write_into;

use crate::names::Called;
use crate::queue::{OfRequest, SEARCH_SECONDS, SEARCHED, containing, portions};
use crate::{Doing, Result, Store};

/// How long a search for text unpacks segments before it stops.
const SEARCH: Duration = Duration::from_secs(3);
/// Rows of the index that a search for text reads at a time.
const ROWS: u32 = 500;
/// Unpacked segments that a search for text keeps.
const KEPT: usize = 4;

/// One run as the journal keeps it. Values are JSON text.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Run {
    /// UUID, version 7: sorts by creation time.
    pub id: Uuid,
    /// Name of the workflow.
    pub workflow: String,
    /// Revision of the workflow.
    pub revision: u32,
    /// State, by the names of [`RunState`].
    pub state: String,
    /// How it was entered: `POST /harbours/{harbour}/quotes`.
    pub entry: String,
    /// HTTP status of the reply.
    pub status: Option<u16>,
    /// When it started.
    pub started: Timestamp,
    /// How long it took.
    pub duration: Span,
    /// `X-Request-Id` of the request that caused it.
    pub request_id: String,
    /// Trace id of W3C Trace Context, 32 hexadecimal digits.
    pub trace_id: String,
    /// Whose credential the request carried.
    pub caller: Caller,
    /// Input as JSON, masked.
    pub input: String,
    /// What the workflow remembered when the run began, where it uses that.
    pub kept: Option<String>,
    /// The settings that it read, as JSON.
    pub settings: Option<String>,
    /// Reply as JSON, masked.
    pub reply: Option<String>,
    /// Failure as JSON, masked.
    pub failure: Option<String>,
    /// The process that performed it.
    pub process: Option<String>,
    /// Whether some of its values are replaced by their size and digest, because it has too many bytes.
    pub incomplete: bool,
    /// Its values as they were, sealed, where it is confidential; those above are masked.
    pub sealed: Option<String>,
    /// Steps in the order they started.
    pub steps: Vec<Step>,
}

impl Run {
    /// What lists show of it.
    pub fn line(&self) -> RunLine {
        let failure: Option<serde_json::Value> =
            self.failure.as_deref().and_then(|failure| serde_json::from_str(failure).ok());
        let member = |name: &str| Some(failure.as_ref()?.get(name)?.as_str()?.to_owned());
        let failed = RunState::Failed.name();
        let at = self.steps.iter().rev().find(|step| step.state == failed && step.number.is_none());
        RunLine {
            id: self.id,
            workflow: self.workflow.clone(),
            revision: self.revision,
            state: self.state.clone(),
            entry: self.entry.clone(),
            status: self.status,
            started: self.started,
            duration: self.duration,
            failed_at: at.filter(|_| self.failure.is_some()).map(|step| step.paragraph),
            kind: member("kind"),
            detail: self.failure.as_ref().map(|failure| member("detail").unwrap_or_else(|| failure.clone())),
        }
    }

    /// Its values: all that can be large.
    pub fn values(&mut self) -> impl Iterator<Item = &mut String> {
        let own = [&mut self.kept, &mut self.settings, &mut self.reply, &mut self.failure];
        let of_steps = self.steps.iter_mut().flat_map(|step| [&mut step.sent, &mut step.outcome, &mut step.failure]);
        std::iter::once(&mut self.input).chain(own.into_iter().chain(of_steps).filter_map(Option::as_mut))
    }

    /// Bytes of all of it, about.
    pub fn bytes(&self) -> usize {
        let large = |text: &Option<String>| text.as_ref().map_or(0, String::len);
        let own = [&self.kept, &self.settings, &self.reply, &self.failure, &self.sealed]
            .into_iter()
            .map(large)
            .sum::<usize>();
        300 + self.input.len() + own + self.steps.iter().map(Step::bytes).sum::<usize>()
    }

    /// Whether a text is in its input, its reply or its failure.
    fn contains(&self, text: &str) -> bool {
        let has = |part: &Option<String>| part.as_ref().is_some_and(|part| part.contains(text));
        self.input.contains(text) || has(&self.reply) || has(&self.failure)
    }
}

/// A step of a run.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Step {
    /// Index in the workflow's sheet.
    pub paragraph: u32,
    /// State, by the names of [`RunState`].
    pub state: String,
    /// When it started.
    pub started: Timestamp,
    /// How long it took.
    pub duration: Span,
    /// Attempts made.
    pub attempts: u32,
    /// What came of the attempts before the last one: statuses and kinds of failure with spaces between.
    pub earlier_attempts: Option<String>,
    /// What it sent, as JSON, masked.
    pub sent: Option<String>,
    /// Its result as JSON, masked.
    pub outcome: Option<String>,
    /// Failure as JSON, masked.
    pub failure: Option<String>,
    /// Number, kind and title of a step of an invoked workflow, which has no paragraph in the sheet.
    pub number: Option<String>,
    /// Kind of the step.
    pub kind: Option<String>,
    /// Title of the step.
    pub title: Option<String>,
    /// Positions in the loops around: `2.0`.
    pub items: Option<String>,
}

impl Step {
    /// Bytes of all of it, about.
    pub fn bytes(&self) -> usize {
        let values = [&self.sent, &self.outcome, &self.failure, &self.title, &self.number, &self.items];
        60 + values.into_iter().flatten().map(String::len).sum::<usize>()
    }
}

/// Counts of one workflow in one minute.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Tally {
    /// Name of the workflow.
    pub workflow: String,
    /// Minutes since 1970 UTC.
    pub minute: i64,
    /// Number of runs.
    pub runs: u64,
    /// Of these, rejected.
    pub rejected: u64,
    /// Of these, failed.
    pub failed: u64,
    /// Of these, recorded without details because too many ended at once.
    pub dropped: u64,
    /// Microseconds, summed.
    pub duration: u64,
}

/// Which runs to list.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Filter {
    /// Only runs of this workflow, by its names.
    pub workflow: Vec<Called>,
    /// Only runs in this state.
    pub state: Option<RunState>,
    /// Only runs of this request.
    pub request: Option<OfRequest>,
    /// Only runs whose reply has a status in this range.
    pub status: Option<RangeInclusive<u16>>,
    /// Only runs that began then or later.
    pub since: Option<Timestamp>,
    /// Only runs that began before.
    pub until: Option<Timestamp>,
    /// Only runs that failed in this way, by the name of the kind.
    pub kind: Option<String>,
    /// Only runs of this caller.
    pub caller: Option<String>,
    /// Only runs with this text in what they were entered by.
    pub entry: Option<String>,
    /// Only runs with this text in the input, the reply or the failure, as they are recorded: masked, as JSON.
    pub text: Option<String>,
    /// Only runs before this one, for the next page.
    pub before: Option<Uuid>,
    /// Most rows to return.
    pub limit: u32,
}

impl Filter {
    /// Whether it selects by what no index has.
    fn scans(&self) -> bool {
        let by_time = self.since.is_some() || self.until.is_some();
        let by_text = self.entry.is_some() || self.text.is_some();
        let succeeded = self.state == Some(RunState::Succeeded);
        by_time || by_text || succeeded || self.status.is_some() || self.kind.is_some() || self.caller.is_some()
    }
}

/// A page of runs.
#[derive(Clone, Debug, PartialEq)]
pub struct RunsPage {
    /// The runs, newest first.
    pub runs: Vec<RunLine>,
    /// What `before` is for the next page.
    pub next: Option<Uuid>,
    /// Where a search stopped before the end and before the page was full.
    pub searched_to: Option<Uuid>,
}

/// A run without its input and its reply.
#[derive(Clone, Debug, PartialEq)]
pub struct RunLine {
    /// UUID, version 7: sorts by creation time.
    pub id: Uuid,
    /// Name of the workflow.
    pub workflow: String,
    /// Revision of the workflow.
    pub revision: u32,
    /// State, by the names of [`RunState`].
    pub state: String,
    /// Entry it came through: `POST /harbours/{harbour}/quotes`.
    pub entry: String,
    /// HTTP status of the reply.
    pub status: Option<u16>,
    /// When it started.
    pub started: Timestamp,
    /// How long it took.
    pub duration: Span,
    /// The paragraph of the step that failed last, where it failed.
    pub failed_at: Option<u32>,
    /// The kind of its failure.
    pub kind: Option<String>,
    /// The beginning of what happened, masked.
    pub detail: Option<String>,
}

/// What was purged.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct Purged {
    /// Segments.
    pub segments: u64,
    /// Their runs.
    pub runs: u64,
    /// Their bytes, packed.
    pub bytes: u64,
}

/// Portions are of segments.
impl From<Purged> for u64 {
    fn from(purged: Purged) -> u64 {
        purged.segments
    }
}

/// The latest run of a workflow and its counts since some time.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Summary {
    /// Name of the workflow.
    pub workflow: String,
    /// Number of runs.
    pub runs: u64,
    /// Of these, rejected.
    pub rejected: u64,
    /// Of these, failed.
    pub failed: u64,
    /// Of these, recorded without details because too many ended at once.
    pub dropped: u64,
    /// Microseconds, summed.
    pub duration: u64,
}

/// Selects the columns of a listing, in the order of [`Row`].
const LINE: &str = "SELECT r.id, r.workflow, r.revision, r.state, r.entry, r.status, r.started, r.duration, r.failed_at, r.kind, r.detail, r.segment, r.place FROM ";

/// A row of the index, or what a segment says in its place.
#[derive(Clone, sqlx::FromRow)]
struct Row {
    id: Vec<u8>,
    workflow: u32,
    revision: u32,
    state: String,
    entry: u32,
    status: Option<u16>,
    started: i64,
    duration: i64,
    failed_at: Option<u32>,
    kind: Option<String>,
    detail: Option<String>,
    segment: u64,
    place: u16,
}

impl Row {
    fn id(&self) -> Uuid {
        Uuid::from_slice(&self.id).unwrap_or_default()
    }
}

impl Store {
    /// Adds counts to the tallies.
    pub async fn add_tallies(&self, tallies: &[Tally]) -> Result<()> {
        for chunk in portions(tallies) {
            let mut query: QueryBuilder<MySql> =
                QueryBuilder::new("INSERT INTO tally (workflow, minute, runs, rejected, failed, dropped, duration) ");
            query.push_values(chunk, |mut row, tally| {
                row.push_bind(&tally.workflow)
                    .push_bind(tally.minute)
                    .push_bind(tally.runs)
                    .push_bind(tally.rejected)
                    .push_bind(tally.failed)
                    .push_bind(tally.dropped)
                    .push_bind(tally.duration);
            });
            query.push(
                " ON DUPLICATE KEY UPDATE runs = runs + VALUES(runs), rejected = rejected + VALUES(rejected), failed = failed + VALUES(failed), dropped = dropped + VALUES(dropped), duration = duration + VALUES(duration)",
            );
            query.build().execute(&self.pool).await.doing("counting runs")?;
        }
        Ok(())
    }

    /// Returns runs, newest first. A search that no index serves reads at most [`SEARCHED`] runs with a row and as many without; one for text also ends after [`SEARCH`].
    pub async fn runs(&self, filter: &Filter) -> Result<RunsPage> {
        let Some(narrow) = self.narrowed(filter).await? else {
            return Ok(RunsPage { runs: Vec::new(), next: None, searched_to: None });
        };
        let oldest = match filter.scans() {
            // Each of both is searched so far.
            true => {
                self.oldest_run_searched(filter.before).await?.max(self.oldest_plain_run_searched(filter.before).await?)
            }
            false => None,
        };
        if let Some(text) = &filter.text {
            return self.runs_with(text, filter, &narrow, oldest).await;
        }
        let rows = self
            .page_of_runs(&Wanted { filter, narrow: &narrow, oldest, before: filter.before, limit: filter.limit })
            .await?;
        let full = rows.len() as u32 == filter.limit;
        let next = if full { rows.last().map(Row::id) } else { oldest };
        Ok(RunsPage { searched_to: oldest.filter(|_| !full), runs: self.lines(rows).await?, next })
    }

    /// Runs with a text: their segments are unpacked, newest first.
    async fn runs_with(&self, text: &str, filter: &Filter, narrow: &Narrow, oldest: Option<Uuid>) -> Result<RunsPage> {
        let (begun, mut before, mut found) = (Instant::now(), filter.before, Vec::new());
        let mut open: Vec<(u64, Vec<Run>)> = Vec::new();
        loop {
            let rows = self.page_of_runs(&Wanted { filter, narrow, oldest, before, limit: ROWS }).await?;
            let last = rows.len() < ROWS as usize;
            for row in rows {
                let id = row.id();
                let at = match open.iter().position(|(segment, _)| *segment == row.segment) {
                    Some(at) => at,
                    None => {
                        open.truncate(KEPT - 1);
                        open.insert(0, (row.segment, self.unpacked(row.segment).await?));
                        0
                    }
                };
                if open[at].1.get(usize::from(row.place)).is_some_and(|run| run.contains(text)) {
                    found.push(row);
                }
                before = Some(id);
                let full = found.len() as u32 == filter.limit;
                if full || begun.elapsed() > SEARCH {
                    return Ok(RunsPage {
                        runs: self.lines(found).await?,
                        next: before,
                        searched_to: before.filter(|_| !full),
                    });
                }
            }
            if last {
                return Ok(RunsPage { runs: self.lines(found).await?, next: oldest, searched_to: oldest });
            }
        }
    }

    /// Names of a filter as the numbers that the index has; nothing where no run can have them.
    async fn narrowed(&self, filter: &Filter) -> Result<Option<Narrow>> {
        let mut narrow = Narrow { workflows: Vec::new(), entries: None };
        for called in &filter.workflow {
            if let Some(number) = self.number_of(&called.name).await? {
                narrow.workflows.push((number, called.clone()));
            }
        }
        if narrow.workflows.is_empty() && !filter.workflow.is_empty() {
            return Ok(None);
        }
        if let Some(entry) = &filter.entry {
            let numbers =
                sqlx::query_scalar!("SELECT number FROM journal_name WHERE name LIKE ? LIMIT 1000", containing(entry));
            let numbers = numbers.fetch_all(&self.pool).await.doing("searching for entries")?;
            if numbers.is_empty() {
                return Ok(None);
            }
            narrow.entries = Some(numbers);
        }
        Ok(Some(narrow))
    }

    /// The oldest run that a search reads before it stops; `None` when it reaches the end.
    async fn oldest_run_searched(&self, before: Option<Uuid>) -> Result<Option<Uuid>> {
        let before = before.unwrap_or(Uuid::max());
        let oldest = sqlx::query_scalar!(
            "SELECT id FROM run WHERE id < ? ORDER BY id DESC LIMIT 1 OFFSET ?",
            before.as_bytes().as_slice(),
            SEARCHED - 1
        );
        let oldest = oldest.fetch_optional(&self.pool).await.doing("bounding a search")?;
        Ok(oldest.map(|id| Uuid::from_slice(&id).unwrap_or_default()))
    }

    /// Rows of runs, newest first.
    async fn page_of_runs(&self, wanted: &Wanted<'_>) -> Result<Vec<Row>> {
        let own = self.page_of_indexed_runs(wanted).await?;
        let plain = self.page_of_plain_runs(wanted).await?;
        Ok(plain::merged(own, plain, wanted.limit))
    }

    /// The same of runs with a row of their own.
    async fn page_of_indexed_runs(&self, wanted: &Wanted<'_>) -> Result<Vec<Row>> {
        let Wanted { filter, narrow, oldest, before, limit } = *wanted;
        let mut query: QueryBuilder<MySql> = QueryBuilder::new(if filter.scans() { SEARCH_SECONDS } else { "" });
        // Few runs are in trouble, or have a request id: their tables come first.
        let trouble = filter.state.filter(|state| *state != RunState::Succeeded);
        let by = if trouble.is_some() { "t" } else { "r" };
        query.push(LINE).push(match trouble {
            Some(_) => "run_trouble t STRAIGHT_JOIN run r ON r.id = t.id WHERE 1 = 1",
            None => "run r WHERE 1 = 1",
        });
        if let Some(state) = filter.state {
            query.push(format_args!(" AND {by}.state = ")).push_bind(state.name());
        }
        if let Some(oldest) = oldest {
            query.push(format_args!(" AND {by}.id >= ")).push_bind(oldest.as_bytes().to_vec());
        }
        if let Some(before) = before {
            query.push(format_args!(" AND {by}.id < ")).push_bind(before.as_bytes().to_vec());
        }
        narrow.push(&mut query, by);
        if let Some(request) = &filter.request {
            query.push(" AND r.id IN (SELECT id FROM run_request WHERE request_id = ").push_bind(&request.id);
            for id in request.runs() {
                query.push(" UNION SELECT id FROM run WHERE id = ").push_bind(id.as_bytes().to_vec());
            }
            query.push(")");
        }
        if let Some(status) = &filter.status {
            query.push(" AND r.status BETWEEN ").push_bind(*status.start()).push(" AND ").push_bind(*status.end());
        }
        if let Some(since) = filter.since {
            query.push(" AND r.started >= ").push_bind(since.as_micros());
        }
        if let Some(until) = filter.until {
            query.push(" AND r.started < ").push_bind(until.as_micros());
        }
        if let Some(kind) = &filter.kind {
            query.push(" AND r.kind = ").push_bind(kind);
        }
        if let Some(caller) = &filter.caller {
            query.push(" AND r.caller = ").push_bind(caller);
        }
        if let Some(entries) = &narrow.entries {
            query.push(" AND r.entry IN (");
            let mut list = query.separated(", ");
            entries.iter().for_each(|number| _ = list.push_bind(*number));
            query.push(")");
        }
        query.push(format_args!(" ORDER BY {by}.id DESC LIMIT ")).push_bind(limit);
        query.build_query_as().fetch_all(&self.pool).await.doing("listing runs")
    }

    /// Rows with the names of their workflows and entries.
    async fn lines(&self, rows: Vec<Row>) -> Result<Vec<RunLine>> {
        let numbers: BTreeSet<u32> = rows.iter().flat_map(|row| [row.workflow, row.entry]).collect();
        let names: HashMap<u32, String> = self.names_of_numbers(&numbers).await?;
        let name = |number: u32| names.get(&number).cloned().unwrap_or_default();
        let line = |row: Row| RunLine {
            id: row.id(),
            workflow: name(row.workflow),
            revision: row.revision,
            entry: name(row.entry),
            state: row.state,
            status: row.status,
            started: Timestamp::from_micros(row.started),
            duration: Span::from_micros(row.duration),
            failed_at: row.failed_at,
            kind: row.kind,
            detail: row.detail,
        };
        Ok(rows.into_iter().map(line).collect())
    }

    /// The newest runs of each of these workflows, in two queries; `each` of one.
    pub async fn latest_runs(&self, workflows: &[&str], each: u32) -> Result<Vec<RunLine>> {
        let mut numbers = Vec::new();
        for workflow in workflows {
            numbers.extend(self.number_of(workflow).await?);
        }
        if numbers.is_empty() {
            return Ok(Vec::new());
        }
        let mut query: QueryBuilder<MySql> = QueryBuilder::new("");
        for (index, number) in numbers.iter().enumerate() {
            query.push(if index > 0 { " UNION ALL (" } else { "(" });
            query.push(LINE).push("run r WHERE r.workflow = ");
            query.push_bind(*number).push(" ORDER BY r.id DESC LIMIT ").push_bind(each).push(")");
        }
        let own: Vec<Row> = query.build_query_as().fetch_all(&self.pool).await.doing("listing the newest runs")?;
        let plain = self.latest_plain_runs(&numbers, each).await?;
        let mut newest = Vec::new();
        for number in numbers {
            let of = |rows: &[Row]| rows.iter().filter(|row| row.workflow == number).cloned().collect();
            newest.extend(plain::merged(of(&own), of(&plain), each));
        }
        self.lines(newest).await
    }

    /// Counts by workflow since a minute.
    pub async fn summaries(&self, since_minute: i64) -> Result<Vec<Summary>> {
        let rows = sqlx::query!(
            "SELECT workflow, CAST(SUM(runs) AS UNSIGNED) AS `runs!: u64`, CAST(SUM(rejected) AS UNSIGNED) AS `rejected!: u64`,
                    CAST(SUM(failed) AS UNSIGNED) AS `failed!: u64`,
                    CAST(SUM(dropped) AS UNSIGNED) AS `dropped!: u64`, CAST(SUM(duration) AS UNSIGNED) AS `duration!: u64`
             FROM tally WHERE minute >= ? GROUP BY workflow",
            since_minute
        )
        .fetch_all(&self.pool)
        .await
        .doing("reading counts")?;
        Ok(rows
            .into_iter()
            .map(|row| Summary {
                workflow: row.workflow,
                runs: row.runs,
                rejected: row.rejected,
                failed: row.failed,
                dropped: row.dropped,
                duration: row.duration,
            })
            .collect())
    }
}

/// Which runs are read: from the oldest id on and before another one, so many at most.
struct Wanted<'f> {
    filter: &'f Filter,
    narrow: &'f Narrow,
    oldest: Option<Uuid>,
    before: Option<Uuid>,
    limit: u32,
}

/// What a filter selects by numbers.
struct Narrow {
    workflows: Vec<(u32, Called)>,
    entries: Option<Vec<u32>>,
}

impl Narrow {
    /// Restricts a query to the runs of a workflow by its names; `by` is the table that it goes by.
    fn push(&self, query: &mut QueryBuilder<MySql>, by: &str) {
        for (index, (number, called)) in self.workflows.iter().enumerate() {
            query.push(if index == 0 { " AND ((" } else { " OR (" });
            query.push(format_args!("{by}.workflow = ")).push_bind(*number);
            called.within(query, by);
            query.push(if index + 1 == self.workflows.len() { "))" } else { ")" });
        }
    }
}
