//! The journal: runs with their steps, and the counts per workflow and minute.

use std::ops::RangeInclusive;

use kanzlei_model::caller::Caller;
use kanzlei_model::run::RunState;
use kanzlei_model::time::{Span, Timestamp};
use sqlx::mysql::MySqlRow;
use sqlx::{MySql, QueryBuilder, Row};
use uuid::Uuid;

use crate::names::{self, Called};
use crate::queue::{SEARCH_SECONDS, SEARCHED, containing, portions, portions_within};
use crate::{Doing, Error, Result, Store};

/// One run as the journal keeps it. Values are JSON text.
#[derive(Clone, Debug, PartialEq)]
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
    /// Steps in the order they started.
    pub steps: Vec<Step>,
}

/// A step of a run.
#[derive(Clone, Debug, PartialEq)]
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
    pub request_id: Option<String>,
    /// Only runs whose reply has a status in this range.
    pub status: Option<RangeInclusive<u16>>,
    /// Only runs that began then or later.
    pub since: Option<Timestamp>,
    /// Only runs that began before.
    pub until: Option<Timestamp>,
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
        by_time || self.status.is_some() || self.entry.is_some() || self.text.is_some()
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
    /// Failure as JSON, masked.
    pub failure: Option<String>,
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

/// Selects the columns of a listing, in the order of [`run_line`].
const LINE: &str = "SELECT id, workflow, revision, state, entry, status, started, duration, failure FROM run";

fn run_line(row: &MySqlRow) -> std::result::Result<RunLine, sqlx::Error> {
    Ok(RunLine {
        id: Uuid::from_slice(&row.try_get::<Vec<u8>, _>(0)?).unwrap_or_default(),
        workflow: row.try_get(1)?,
        revision: row.try_get(2)?,
        state: row.try_get(3)?,
        entry: row.try_get(4)?,
        status: row.try_get(5)?,
        started: Timestamp::from_micros(row.try_get(6)?),
        duration: Span::from_micros(row.try_get(7)?),
        failure: row.try_get(8)?,
    })
}

impl Store {
    /// Writes runs and their steps in one transaction. An existing run stays as it is, so
    /// a batch may be written again after a connection broke.
    pub async fn write_runs(&self, runs: &[Run]) -> Result<()> {
        let mut tx = self.pool.begin().await.map_err(Error::Unreachable)?;
        let large = |text: &Option<String>| text.as_ref().map_or(0, String::len);
        let size = |run: &Run| {
            run.input.len() + large(&run.kept) + large(&run.settings) + large(&run.reply) + large(&run.failure)
        };
        for chunk in portions_within(runs, size) {
            let mut query: QueryBuilder<MySql> = QueryBuilder::new(
                "INSERT IGNORE INTO run (id, workflow, revision, state, entry, status, started, duration, request_id, trace_id, caller, caller_facts, input, kept, settings, reply, failure, process) ",
            );
            query.push_values(chunk, |mut row, run| {
                row.push_bind(run.id.as_bytes().as_slice())
                    .push_bind(&run.workflow)
                    .push_bind(run.revision)
                    .push_bind(&run.state)
                    .push_bind(&run.entry)
                    .push_bind(run.status)
                    .push_bind(run.started.as_micros())
                    .push_bind(run.duration.as_micros())
                    .push_bind(&run.request_id)
                    .push_bind(&run.trace_id)
                    .push_bind(&run.caller.name)
                    .push_bind(run.caller.facts())
                    .push_bind(&run.input)
                    .push_bind(&run.kept)
                    .push_bind(&run.settings)
                    .push_bind(&run.reply)
                    .push_bind(&run.failure)
                    .push_bind(&run.process);
            });
            query.build().execute(&mut *tx).await.doing("writing runs")?;
        }
        let steps: Vec<(&Run, usize, &Step)> =
            runs.iter().flat_map(|run| run.steps.iter().enumerate().map(move |(seq, step)| (run, seq, step))).collect();
        let size =
            |(_, _, step): &(&Run, usize, &Step)| large(&step.sent) + large(&step.outcome) + large(&step.failure);
        for chunk in portions_within(&steps, size) {
            let mut query: QueryBuilder<MySql> = QueryBuilder::new(
                "INSERT IGNORE INTO step (run, seq, paragraph, state, started, duration, attempts, earlier_attempts, sent, outcome, failure, number, kind, title, items) ",
            );
            query.push_values(chunk, |mut row, (run, seq, step)| {
                row.push_bind(run.id.as_bytes().as_slice())
                    .push_bind(*seq as u32)
                    .push_bind(step.paragraph)
                    .push_bind(&step.state)
                    .push_bind(step.started.as_micros())
                    .push_bind(step.duration.as_micros())
                    .push_bind(step.attempts)
                    .push_bind(&step.earlier_attempts)
                    .push_bind(&step.sent)
                    .push_bind(&step.outcome)
                    .push_bind(&step.failure)
                    .push_bind(&step.number)
                    .push_bind(&step.kind)
                    .push_bind(&step.title)
                    .push_bind(&step.items);
            });
            query.build().execute(&mut *tx).await.doing("writing steps")?;
        }
        tx.commit().await.doing("writing the journal")
    }

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

    /// Returns runs, newest first. A search that no index serves reads at most [`SEARCHED`] runs.
    pub async fn runs(&self, filter: &Filter) -> Result<RunsPage> {
        let oldest = if filter.scans() { self.oldest_run_searched(filter.before).await? } else { None };
        let runs = self.page_of_runs(filter, oldest).await?;
        let full = runs.len() as u32 == filter.limit;
        let next = if full { runs.last().map(|run| run.id) } else { oldest };
        Ok(RunsPage { searched_to: oldest.filter(|_| !full), runs, next })
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

    /// Runs from the oldest id on.
    async fn page_of_runs(&self, filter: &Filter, oldest: Option<Uuid>) -> Result<Vec<RunLine>> {
        let mut query: QueryBuilder<MySql> = QueryBuilder::new(if filter.scans() { SEARCH_SECONDS } else { "" });
        query.push(LINE).push(" WHERE 1 = 1");
        if let Some(oldest) = oldest {
            query.push(" AND id >= ").push_bind(oldest.as_bytes().to_vec());
        }
        if let Some(status) = &filter.status {
            query.push(" AND status BETWEEN ").push_bind(*status.start()).push(" AND ").push_bind(*status.end());
        }
        if let Some(since) = filter.since {
            query.push(" AND started >= ").push_bind(since.as_micros());
        }
        if let Some(until) = filter.until {
            query.push(" AND started < ").push_bind(until.as_micros());
        }
        if let Some(entry) = &filter.entry {
            query.push(" AND entry LIKE ").push_bind(containing(entry));
        }
        if let Some(text) = &filter.text {
            let pattern = containing(text);
            query.push(" AND (input LIKE ").push_bind(pattern.clone());
            query.push(" OR reply LIKE ").push_bind(pattern.clone());
            query.push(" OR failure LIKE ").push_bind(pattern).push(")");
        }
        names::narrow(&mut query, &filter.workflow);
        if let Some(state) = filter.state {
            query.push(" AND state = ").push_bind(state.name());
        }
        if let Some(request_id) = &filter.request_id {
            query.push(" AND request_id = ").push_bind(request_id);
        }
        if let Some(before) = &filter.before {
            query.push(" AND id < ").push_bind(before.as_bytes().to_vec());
        }
        query.push(" ORDER BY id DESC LIMIT ").push_bind(filter.limit);
        let rows = query.build().fetch_all(&self.pool).await.doing("listing runs")?;
        rows.iter().map(run_line).collect::<std::result::Result<_, _>>().doing("listing runs")
    }

    /// The newest runs of each of these workflows, in one query; `each` of one.
    pub async fn latest_runs(&self, workflows: &[&str], each: u32) -> Result<Vec<RunLine>> {
        if workflows.is_empty() {
            return Ok(Vec::new());
        }
        let mut query: QueryBuilder<MySql> = QueryBuilder::new("");
        for (index, workflow) in workflows.iter().enumerate() {
            query.push(if index == 0 { "(" } else { " UNION ALL (" });
            query.push(LINE).push(" WHERE workflow = ");
            query.push_bind(*workflow).push(" ORDER BY id DESC LIMIT ").push_bind(each).push(")");
        }
        let rows = query.build().fetch_all(&self.pool).await.doing("listing the newest runs")?;
        rows.iter().map(run_line).collect::<std::result::Result<_, _>>().doing("listing the newest runs")
    }

    /// One run with its steps.
    pub async fn run(&self, id: Uuid) -> Result<Option<Run>> {
        let key = id.as_bytes().as_slice();
        let Some(row) = sqlx::query!(
            "SELECT workflow, revision, state, entry, status, started, duration, request_id, trace_id, caller, caller_facts, input, kept, settings, reply, failure, process FROM run WHERE id = ?",
            key
        )
        .fetch_optional(&self.pool)
        .await
        .doing("reading a run")?
        else {
            return Ok(None);
        };
        let steps = sqlx::query_as!(
            Step,
            "SELECT paragraph, state, started, duration, attempts, earlier_attempts, sent, outcome, failure, number, kind, title, items FROM step WHERE run = ? ORDER BY seq",
            key
        )
        .fetch_all(&self.pool)
        .await
        .doing("reading steps")?;
        Ok(Some(Run {
            id,
            workflow: row.workflow,
            revision: row.revision,
            state: row.state,
            entry: row.entry,
            status: row.status,
            started: Timestamp::from_micros(row.started),
            duration: Span::from_micros(row.duration),
            request_id: row.request_id,
            trace_id: row.trace_id,
            caller: Caller::of(row.caller, row.caller_facts.as_deref()),
            input: row.input,
            kept: row.kept,
            settings: row.settings,
            reply: row.reply,
            failure: row.failure,
            process: row.process,
            steps,
        }))
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

    /// Deletes runs that began before an instant, at most `limit` of them; returns how many.
    pub async fn purge_runs(&self, before: Timestamp, limit: u32) -> Result<u64> {
        let ids = sqlx::query_scalar!(
            "SELECT id FROM run WHERE started < ? ORDER BY started LIMIT ?",
            before.as_micros(),
            limit
        )
        .fetch_all(&self.pool)
        .await
        .doing("searching for old runs")?;
        for id in &ids {
            sqlx::query!("DELETE FROM step WHERE run = ?", id).execute(&self.pool).await.doing("deleting old steps")?;
            sqlx::query!("DELETE FROM run WHERE id = ?", id).execute(&self.pool).await.doing("deleting old runs")?;
        }
        Ok(ids.len() as u64)
    }
}
