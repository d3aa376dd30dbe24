//! Statistics of steps: what each process counted of a workflow's steps in a minute.

use std::collections::BTreeMap;

use kanzlei_model::histogram::Histogram;
use kanzlei_model::time::Timestamp;
use sqlx::{MySql, QueryBuilder};

use crate::names::Called;
use crate::queue::portions_within;
use crate::{Doing, Result, Store};

/// Begins the number of what is no step: `=succeeded 201`, `=refused 422`.
pub const ANSWER: char = '=';

/// What one step did.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct StepCount {
    /// Its number on the sheet of the run; empty for the run itself.
    pub number: String,
    /// How often it was performed.
    pub runs: u64,
    /// How often it failed, caught or not.
    pub failures: u64,
    /// How long it took.
    pub times: Histogram,
}

impl StepCount {
    /// Adds the counts of the same step.
    pub fn merge(&mut self, other: &StepCount) {
        self.runs += other.runs;
        self.failures += other.failures;
        self.times.merge(&other.times);
    }
}

/// What the steps of a revision did in a minute.
#[derive(Clone, Debug, PartialEq)]
pub struct StepCounts {
    /// The workflow.
    pub workflow: String,
    /// Its revision.
    pub revision: u32,
    /// Minutes since 1970.
    pub minute: i64,
    /// The steps.
    pub steps: Vec<StepCount>,
}

/// Runs that ended in a minute.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct MinuteRuns {
    /// Minutes since 1970.
    pub minute: i64,
    /// All of them.
    pub runs: u64,
    /// Those whose caller was at fault.
    pub rejected: u64,
    /// Those that failed.
    pub failed: u64,
}

/// A row of counts.
struct StepRow {
    minute: i64,
    revision: u32,
    source: u64,
    steps: String,
}

/// Counts of steps by number, by revision.
type Sums = BTreeMap<u32, BTreeMap<String, StepCount>>;

/// A step as it is stored: number, runs, failures, buckets with their counts.
type Stored = (String, u64, u64, Vec<(u8, u64)>);

impl Store {
    /// Writes what a process has counted of minutes so far; `source` distinguishes it from others and from its own earlier starts.
    pub async fn write_step_counts(&self, source: u64, counts: &[StepCounts]) -> Result<()> {
        for chunk in portions_within(counts, |counts| counts.steps.len() * 400) {
            let mut query: QueryBuilder<MySql> =
                QueryBuilder::new("INSERT INTO step_count (workflow, minute, revision, source, steps) ");
            query.push_values(chunk, |mut row, counts| {
                let steps: Vec<Stored> = counts
                    .steps
                    .iter()
                    .map(|step| (step.number.clone(), step.runs, step.failures, step.times.counts().to_vec()))
                    .collect();
                row.push_bind(&counts.workflow)
                    .push_bind(counts.minute)
                    .push_bind(counts.revision)
                    .push_bind(source)
                    .push_bind(serde_json::to_string(&steps).unwrap_or_default());
            });
            query.push(" ON DUPLICATE KEY UPDATE steps = VALUES(steps)");
            query.build().execute(&self.pool).await.doing("writing counts of steps")?;
        }
        Ok(())
    }

    /// What was counted of a workflow, by its names, from a minute on: by revision and step, added up.
    pub async fn step_counts(&self, names: &[Called], since_minute: i64) -> Result<Vec<(u32, Vec<StepCount>)>> {
        let mut all = self.all_counts(names, since_minute).await?;
        all.iter_mut().for_each(|(_, steps)| steps.retain(|step| !step.number.starts_with(ANSWER)));
        Ok(all)
    }

    /// The same, and how its runs ended and what they answered: numbers that begin with [`ANSWER`].
    pub async fn all_counts(&self, names: &[Called], since_minute: i64) -> Result<Vec<(u32, Vec<StepCount>)>> {
        let mut revisions = Sums::new();
        for called in names {
            let (from, until) = called.minutes();
            self.add_step_counts(&called.name, from.max(since_minute), until, &mut revisions).await?;
        }
        Ok(revisions.into_iter().map(|(revision, steps)| (revision, steps.into_values().collect())).collect())
    }

    async fn add_step_counts(&self, workflow: &str, from: i64, until: i64, revisions: &mut Sums) -> Result<()> {
        let mut after = (from, 0, 0);
        // Page by page: a row may hold thousands of steps.
        loop {
            let rows = self.step_rows(workflow, after, until).await?;
            let Some(last) = rows.last() else { return Ok(()) };
            after = (last.minute, last.revision, last.source);
            for row in rows {
                let steps: Vec<Stored> = serde_json::from_str(&row.steps).unwrap_or_default();
                let known = revisions.entry(row.revision).or_default();
                for (number, runs, failures, times) in steps {
                    let step = StepCount { number: number.clone(), runs, failures, times: Histogram::of(times) };
                    known
                        .entry(number.clone())
                        .or_insert_with(|| StepCount { number, ..StepCount::default() })
                        .merge(&step);
                }
            }
        }
    }

    /// Runs that ended in each minute since one, of all workflows or of these: minute, runs, rejected, failed.
    pub async fn minutes(&self, names: Option<&[Called]>, since_minute: i64) -> Result<Vec<MinuteRuns>> {
        let mut query: QueryBuilder<MySql> = QueryBuilder::new(
            "SELECT minute, CAST(SUM(runs) AS UNSIGNED), CAST(SUM(rejected) AS UNSIGNED), CAST(SUM(failed) AS UNSIGNED)
             FROM tally WHERE minute >= ",
        );
        query.push_bind(since_minute);
        for (index, called) in names.unwrap_or_default().iter().enumerate() {
            let (from, until) = called.minutes();
            query.push(if index == 0 { " AND (" } else { " OR " });
            query.push("workflow = ").push_bind(&called.name);
            query.push(" AND minute BETWEEN ").push_bind(from).push(" AND ").push_bind(until);
        }
        query.push(if names.is_some_and(|names| !names.is_empty()) { ")" } else { "" });
        query.push(" GROUP BY minute ORDER BY minute");
        let rows: Vec<(i64, u64, u64, u64)> =
            query.build_query_as().fetch_all(&self.pool).await.doing("reading counts by minute")?;
        let row = |(minute, runs, rejected, failed)| MinuteRuns { minute, runs, rejected, failed };
        Ok(rows.into_iter().map(row).collect())
    }

    /// How long the runs of a workflow took, by its names, in each minute since one.
    pub async fn run_times(&self, names: &[Called], since_minute: i64) -> Result<BTreeMap<i64, Histogram>> {
        let mut out: BTreeMap<i64, Histogram> = BTreeMap::new();
        for called in names {
            let (from, until) = called.minutes();
            let mut after = (from.max(since_minute), 0, 0);
            loop {
                let rows = self.step_rows(&called.name, after, until).await?;
                let Some(last) = rows.last() else { break };
                after = (last.minute, last.revision, last.source);
                for row in rows {
                    let steps: Vec<Stored> = serde_json::from_str(&row.steps).unwrap_or_default();
                    for (.., times) in steps.into_iter().filter(|(number, ..)| number.is_empty()) {
                        out.entry(row.minute).or_default().merge(&Histogram::of(times));
                    }
                }
            }
        }
        Ok(out)
    }

    /// A page of the rows of a workflow behind one.
    async fn step_rows(&self, workflow: &str, after: (i64, u32, u64), until: i64) -> Result<Vec<StepRow>> {
        sqlx::query_as!(
            StepRow,
            "SELECT minute, revision, source, steps FROM step_count
             WHERE workflow = ? AND minute BETWEEN ? AND ? AND (minute, revision, source) > (?, ?, ?)
             ORDER BY minute, revision, source LIMIT 200",
            workflow,
            after.0,
            until,
            after.0,
            after.1,
            after.2
        )
        .fetch_all(&self.pool)
        .await
        .doing("reading counts of steps")
    }

    /// Deletes counts of minutes before an instant; returns how many rows.
    pub async fn purge_step_counts(&self, before: Timestamp) -> Result<u64> {
        let gone = sqlx::query!("DELETE FROM step_count WHERE minute < ? LIMIT 5000", before.as_minutes());
        Ok(gone.execute(&self.pool).await.doing("deleting old counts of steps")?.rows_affected())
    }
}
