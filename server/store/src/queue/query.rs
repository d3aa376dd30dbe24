//! Reading jobs and groups: for clients, the command line, the console.

use std::collections::BTreeMap;

use kanzlei_model::caller::Caller;
use kanzlei_model::time::{Span, Timestamp};
use kanzlei_model::trace::Trace;
use sqlx::{MySql, QueryBuilder, Row};
use uuid::Uuid;

use kanzlei_model::run::RunState;

use super::repair::{HELD, moved_waits};
use super::{JobPhase, uuid};
use crate::names::{self, Called};
use crate::{Doing, Result, Store};

/// The most jobs of one state that are counted.
pub const MOST_COUNTED: u64 = 10_000;
/// When a job is due next, for lists and filters.
const DUE: &str = " AND IF(phase = 1, ready_at, due)";
/// Selects the columns of a listing, in the order of [`line`].
const LINE: &str = "SELECT id, phase, lane, ready_at, workflow, revision, priority, tags, batch, ordering_key, entry, accepted, due, started, ended, stop, waits_for, retries, progress, failure, claim_rank FROM job WHERE 1 = 1";
/// Jobs or runs that one page of a search without an index reads; the next page continues there.
pub const SEARCHED: u32 = 20_000;
/// The timeout of a search.
pub(crate) const SEARCH_SECONDS: &str = "SET STATEMENT max_statement_time = 3 FOR ";

/// A job as a whole, without the outcomes of its steps.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct JobRow {
    /// UUID, version 7: sorts by creation time.
    pub id: Uuid,
    /// Phase, as stored.
    pub phase: JobPhase,
    /// Name of the lane.
    pub lane: String,
    /// 0 for a job that has begun, else its priority.
    pub claim_rank: u8,
    /// When it is ready; once claimed, when it was claimed; once ended, when it ended.
    pub ready_at: Timestamp,
    /// Name of the workflow.
    pub workflow: String,
    /// Revision of the workflow.
    pub revision: u32,
    /// Number of deploys and retirements at the time it was accepted; its plan comes from there.
    pub generation: u64,
    /// 1, the highest, to 9.
    pub priority: u8,
    /// Tags to find it by.
    pub tags: Vec<String>,
    /// Group of jobs that one step queued.
    pub batch: Option<Uuid>,
    /// Jobs of one key run one after another.
    pub ordering_key: Option<String>,
    /// Entry it came through: `POST /harbours/{harbour}/quotes`.
    pub entry: String,
    /// Whose credential the request carried.
    pub caller: Caller,
    /// `X-Request-Id` of the request that caused it.
    pub request_id: String,
    /// Trace id of W3C Trace Context, 32 hexadecimal digits.
    pub trace: Trace,
    /// When it was accepted.
    pub accepted: Timestamp,
    /// When it is due.
    pub due: Timestamp,
    /// When it started.
    pub started: Option<Timestamp>,
    /// When it ended.
    pub ended: Option<Timestamp>,
    /// Process that runs it.
    pub worker: Option<Uuid>,
    /// Whether a stop was requested.
    pub stop: bool,
    /// What it waits for: `pause`, `callback` or `retry`.
    pub waits_for: Option<String>,
    /// How often it was started from its first step.
    pub attempt: u32,
    /// How many jobs stand between it and what began the chain.
    pub depth: u32,
    /// How often its retry policy has retried it in this attempt.
    pub retries: u32,
    /// Number of outcomes recorded in this attempt.
    pub outcomes: u32,
    /// Incremented with each change, for those who follow it.
    pub changes: u64,
    /// 0 to 1.
    pub progress: Option<f64>,
    /// Notes as a JSON list.
    pub notes: Option<String>,
    /// HTTP status of the reply.
    pub status: Option<u16>,
    /// Reply as JSON, sealed where `sealed` says so.
    pub reply: Option<String>,
    /// Failure as JSON.
    pub failure: Option<String>,
    /// Input as JSON, sealed where `sealed` says so.
    pub input: String,
    /// Whether its values are sealed with the key of the secrets.
    pub sealed: bool,
    /// What happened to it, one JSON object a line.
    pub history: Option<String>,
    /// Until when the result is kept.
    pub expires: Option<Timestamp>,
    /// Effects whose waits were moved by hand, and until when they wait.
    pub moved: BTreeMap<u64, Timestamp>,
}

impl JobRow {
    /// Its state.
    pub fn state(&self, now: Timestamp) -> RunState {
        state(self.phase, self.ready_at, self.claim_rank, now)
    }

    /// Whether it was put aside because its workflow is held.
    pub fn is_held(&self) -> bool {
        self.phase == JobPhase::Ready && self.ready_at == HELD
    }

    /// A job directly after it was queued, without its input.
    pub fn queued(job: &super::NewJob) -> Self {
        let job = super::NewJob { input: String::new(), ..job.clone() };
        JobRow {
            id: job.id,
            phase: JobPhase::Ready,
            lane: job.lane,
            claim_rank: job.priority,
            ready_at: job.due,
            workflow: job.workflow,
            revision: job.revision,
            generation: job.generation,
            priority: job.priority,
            tags: job.tags,
            batch: job.batch,
            ordering_key: job.ordering_key,
            entry: job.entry,
            caller: job.caller,
            request_id: job.request_id,
            trace: job.trace,
            accepted: job.accepted,
            due: job.due,
            started: None,
            ended: None,
            worker: None,
            stop: false,
            waits_for: None,
            attempt: 1,
            depth: job.depth,
            retries: 0,
            outcomes: 0,
            changes: 1,
            progress: None,
            notes: None,
            status: None,
            reply: None,
            failure: None,
            input: job.input,
            sealed: job.sealed,
            history: None,
            expires: None,
            moved: BTreeMap::new(),
        }
    }
}

/// A job in a listing.
#[derive(Clone, Debug, PartialEq)]
pub struct JobLine {
    /// UUID, version 7: sorts by creation time.
    pub id: Uuid,
    /// Phase, as stored.
    pub phase: JobPhase,
    /// Name of the lane.
    pub lane: String,
    /// 0 for a job that has begun, else its priority.
    pub claim_rank: u8,
    /// When it is ready; once claimed, when it was claimed; once ended, when it ended.
    pub ready_at: Timestamp,
    /// Name of the workflow.
    pub workflow: String,
    /// Revision of the workflow.
    pub revision: u32,
    /// 1, the highest, to 9.
    pub priority: u8,
    /// Tags to find it by.
    pub tags: Vec<String>,
    /// Group of jobs that one step queued.
    pub batch: Option<Uuid>,
    /// Jobs of one key run one after another.
    pub ordering_key: Option<String>,
    /// Entry it came through: `POST /harbours/{harbour}/quotes`.
    pub entry: String,
    /// When it was accepted.
    pub accepted: Timestamp,
    /// When it is due.
    pub due: Timestamp,
    /// When it started.
    pub started: Option<Timestamp>,
    /// When it ended.
    pub ended: Option<Timestamp>,
    /// Whether a stop was requested.
    pub stop: bool,
    /// What it waits for: `pause`, `callback` or `retry`.
    pub waits_for: Option<String>,
    /// How often its retry policy has retried it in this attempt.
    pub retries: u32,
    /// 0 to 1.
    pub progress: Option<f64>,
    /// Failure as JSON.
    pub failure: Option<String>,
}

impl JobLine {
    /// Its state.
    pub fn state(&self, now: Timestamp) -> RunState {
        state(self.phase, self.ready_at, self.claim_rank, now)
    }

    /// When it is due next; nothing while it waits without end.
    pub fn next_due(&self) -> Option<Timestamp> {
        let ready = self.phase == JobPhase::Ready && self.ready_at != HELD;
        if ready { self.ready_at.finite() } else { self.due.finite() }
    }
}

/// The state of a job. One whose workflow is held waits for its turn like others.
fn state(phase: JobPhase, ready_at: Timestamp, claim_rank: u8, now: Timestamp) -> RunState {
    phase.state(ready_at > now && ready_at != HELD, claim_rank == 0)
}

/// A page of jobs.
#[derive(Clone, Debug, PartialEq)]
pub struct JobsPage {
    /// The jobs, newest first.
    pub jobs: Vec<JobLine>,
    /// Where the next page continues; `None` after the last one.
    pub next: Option<Uuid>,
    /// The oldest job that a search has read, where it stopped before the end.
    pub searched_to: Option<Uuid>,
}

/// What a follower of a job polls.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Watched {
    /// UUID, version 7: sorts by creation time.
    pub id: Uuid,
    /// Phase, as stored.
    pub phase: JobPhase,
    /// Incremented with each change, for those who follow it.
    pub changes: u64,
    /// Whether its reply is recorded.
    pub replied: bool,
}

/// Which jobs are selected; everything that is set must fit.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Filter {
    /// Only jobs in one of these states; of every state by default.
    pub states: Vec<RunState>,
    /// Only jobs of this lane.
    pub lane: Option<String>,
    /// Only jobs of this workflow, by its names.
    pub workflow: Vec<Called>,
    /// Only jobs with all of these tags.
    pub tags: Vec<String>,
    /// Only jobs with a tag that begins like this.
    pub tag_prefix: Option<String>,
    /// Only jobs of this group.
    pub batch: Option<Uuid>,
    /// Only jobs due at this instant or later.
    pub due_from: Option<Timestamp>,
    /// Only jobs due before this instant.
    pub due_until: Option<Timestamp>,
    /// Only jobs that ended at this instant or later.
    pub ended_from: Option<Timestamp>,
    /// Only jobs that ended before this instant.
    pub ended_until: Option<Timestamp>,
    /// Only jobs of this caller.
    pub caller: Option<String>,
    /// Only jobs of this revision of their workflow.
    pub revision: Option<u32>,
    /// Only jobs that failed so: a kind of failure, or a status.
    pub failure: Option<Fails>,
    /// Only jobs that failed at the step with this number.
    pub step: Option<String>,
    /// Somewhere in the input.
    pub text: Option<String>,
    /// Only jobs of this request.
    pub request: Option<OfRequest>,
    /// Only jobs before this one, for the next page.
    pub before: Option<Uuid>,
    /// Most rows to return.
    pub limit: u32,
}

/// How a job failed.
#[derive(Clone, Debug, PartialEq)]
pub enum Fails {
    /// With a failure of this kind.
    Kind(String),
    /// With an answer of this status.
    Status(u16),
}

/// How the jobs and the runs of a request are found.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct OfRequest {
    /// Its `X-Request-Id`; jobs and runs that are listed under it are found.
    pub id: String,
    /// Ids of jobs that follow from that id; neither such jobs nor their runs are listed.
    pub jobs: Vec<Uuid>,
}

impl OfRequest {
    /// Ids of runs that are not listed: those of the jobs, and the id itself, which a run has whose request brought none.
    pub(crate) fn runs(&self) -> impl Iterator<Item = Uuid> {
        self.id.parse().into_iter().chain(self.jobs.iter().copied())
    }
}

impl Filter {
    /// Whether no index finds what it selects.
    fn scans(&self) -> bool {
        let selective =
            !self.tags.is_empty() || self.tag_prefix.is_some() || self.batch.is_some() || self.request.is_some();
        let times = [self.due_from, self.due_until, self.ended_from, self.ended_until];
        let searches = self.text.is_some()
            || times.iter().any(Option::is_some)
            || self.caller.is_some()
            || self.revision.is_some()
            || self.failure.is_some()
            || self.step.is_some();
        let combined = !self.workflow.is_empty() && (!self.states.is_empty() || self.lane.is_some());
        !selective && (searches || combined || self.is_lane_only())
    }

    /// Whether it selects the jobs of a lane and nothing else.
    fn is_lane_only(&self) -> bool {
        let plain = Filter { lane: self.lane.clone(), before: self.before, limit: self.limit, ..Filter::default() };
        self.lane.is_some() && *self == plain
    }
}

/// The state of a group of jobs.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct BatchState {
    /// Workflow whose step queued them.
    pub workflow: String,
    /// Run that queued them.
    pub run: String,
    /// When it was created.
    pub created: Timestamp,
    /// Number of jobs in all.
    pub total: u32,
    /// Of these, succeeded.
    pub succeeded: u64,
    /// Of these, rejected.
    pub rejected: u64,
    /// Of these, failed.
    pub failed: u64,
    /// Of these, cancelled.
    pub cancelled: u64,
    /// Running now.
    pub running: u64,
    /// Those that have not ended.
    pub remaining: u64,
    /// The lane of those that wait.
    pub lane: Option<String>,
    /// When the last remaining job is due.
    pub last_due: Option<Timestamp>,
    /// When the first one started.
    pub first_started: Option<Timestamp>,
}

pub(super) fn phase(code: u8) -> JobPhase {
    JobPhase::of_code(code).unwrap_or(JobPhase::Failed)
}

impl Store {
    /// Returns one job.
    pub async fn job(&self, id: Uuid) -> Result<Option<JobRow>> {
        let row = sqlx::query!(
            "SELECT id, phase, lane, claim_rank, ready_at, workflow, revision, generation, priority, tags, batch, ordering_key, entry, caller, caller_facts, request_id, trace_id, trace_parent AS `trace_parent: String`,
                    accepted, due, started, ended, worker AS `worker: Vec<u8>`, stop AS `stop: bool`, waits_for, attempt, depth, retries, outcomes, changes, progress,
                    notes, status, reply, failure, input, sealed AS `sealed: bool`, history, expires, moved
             FROM job WHERE id = ?",
            id.as_bytes().as_slice()
        )
        .fetch_optional(&self.pool)
        .await
        .doing("reading a job")?;
        Ok(row.map(|row| JobRow {
            id: uuid(&row.id),
            phase: phase(row.phase),
            lane: row.lane,
            claim_rank: row.claim_rank,
            ready_at: Timestamp::from_micros(row.ready_at),
            workflow: row.workflow,
            revision: row.revision,
            generation: row.generation,
            priority: row.priority,
            tags: super::tags_of(row.tags),
            batch: row.batch.as_deref().map(uuid),
            ordering_key: row.ordering_key,
            entry: row.entry,
            caller: Caller::of(row.caller, row.caller_facts.as_deref()),
            request_id: row.request_id,
            trace: Trace::of_columns(&row.trace_id, row.trace_parent.as_deref()),
            accepted: Timestamp::from_micros(row.accepted),
            due: Timestamp::from_micros(row.due),
            started: row.started.map(Timestamp::from_micros),
            ended: row.ended.map(Timestamp::from_micros),
            worker: row.worker.as_deref().map(uuid),
            stop: row.stop,
            waits_for: row.waits_for,
            attempt: row.attempt,
            depth: row.depth,
            retries: row.retries,
            outcomes: row.outcomes,
            changes: row.changes,
            progress: row.progress,
            notes: row.notes,
            status: row.status,
            reply: row.reply,
            failure: row.failure,
            input: row.input,
            sealed: row.sealed,
            history: row.history,
            expires: row.expires.map(Timestamp::from_micros),
            moved: moved_waits(row.moved.as_deref()),
        }))
    }

    /// Whether there is a job of this id.
    pub async fn has_job(&self, id: Uuid) -> Result<bool> {
        sqlx::query_scalar!("SELECT COUNT(*) FROM job WHERE id = ?", id.as_bytes().as_slice())
            .fetch_one(&self.pool)
            .await
            .map(|count| count > 0)
            .doing("searching for a job")
    }

    /// The process that runs a job, or that performed it once it has ended.
    pub async fn process_of(&self, job: Uuid, worker: Option<Uuid>) -> Result<Option<String>> {
        let worker = worker.unwrap_or_default();
        let name = sqlx::query_scalar!("SELECT name FROM worker WHERE id = ?", worker.as_bytes().as_slice());
        match name.fetch_optional(&self.pool).await.doing("reading which process performs a job")? {
            Some(name) => Ok(Some(name)),
            None => Ok(self.run(job).await?.and_then(|run| run.process)),
        }
    }

    /// The state of followed jobs.
    pub async fn watched(&self, ids: &[Uuid]) -> Result<Vec<Watched>> {
        let mut out = Vec::with_capacity(ids.len());
        for chunk in super::portions(ids) {
            let mut query: QueryBuilder<MySql> =
                QueryBuilder::new("SELECT id, phase, changes, status IS NOT NULL FROM job WHERE id IN (");
            super::push_ids(&mut query, chunk);
            query.push(")");
            for row in query.build().fetch_all(&self.pool).await.doing("following jobs")? {
                let id: Vec<u8> = row.try_get(0).doing("following jobs")?;
                out.push(Watched {
                    id: uuid(&id),
                    phase: phase(row.try_get(1).doing("following jobs")?),
                    changes: row.try_get(2).doing("following jobs")?,
                    replied: row.try_get::<i64, _>(3).doing("following jobs")? != 0,
                });
            }
        }
        Ok(out)
    }

    /// The job that goes before another one with the same ordering key: one that runs, else the first that is due.
    pub async fn goes_first(&self, ordering_key: &str, other: Uuid) -> Result<Option<(Uuid, JobPhase)>> {
        let row = sqlx::query!(
            "SELECT id, phase FROM job WHERE ordering_key = ? AND phase IN (1, 2) AND id <> ? ORDER BY phase DESC, claim_rank, ready_at LIMIT 1",
            ordering_key,
            other.as_bytes().as_slice()
        )
        .fetch_optional(&self.pool)
        .await
        .doing("searching for the job that goes first")?;
        Ok(row.map(|row| (uuid(&row.id), phase(row.phase))))
    }

    /// Returns jobs, newest first. A search that no index serves reads at most [`SEARCHED`] jobs.
    pub async fn jobs(&self, filter: &Filter, now: Timestamp) -> Result<JobsPage> {
        let mut oldest = if filter.scans() { self.oldest_searched(filter.before).await? } else { None };
        let mut jobs = self.page(filter, now, oldest, false).await?;
        let full = |jobs: &[JobLine]| jobs.len() as u32 == filter.limit;
        if !full(&jobs) && oldest.is_some() && filter.is_lane_only() {
            // A lane with few jobs among many: its own index has them.
            jobs = self.page(filter, now, None, true).await?;
            oldest = None;
        }
        let next = if full(&jobs) { jobs.last().map(|job| job.id) } else { oldest };
        Ok(JobsPage { searched_to: oldest.filter(|_| !full(&jobs)), jobs, next })
    }

    /// Jobs from the oldest id on, or those of a lane by its index.
    async fn page(&self, filter: &Filter, now: Timestamp, oldest: Option<Uuid>, of_lane: bool) -> Result<Vec<JobLine>> {
        let mut query: QueryBuilder<MySql> = QueryBuilder::new(SEARCH_SECONDS);
        query.push(LINE);
        narrow(&mut query, filter, now);
        if let Some(oldest) = oldest {
            query.push(" AND id >= ").push_bind(oldest.as_bytes().to_vec());
        }
        if of_lane {
            query.push(" AND id IN (SELECT id FROM (SELECT id FROM job FORCE INDEX (job_work) WHERE 1 = 1");
            in_phases(&mut query, JobPhase::ALL.iter().copied());
            narrow(&mut query, filter, now);
            query.push(" ORDER BY id DESC LIMIT ").push_bind(filter.limit).push(") newest)");
        }
        query.push(" ORDER BY id DESC LIMIT ").push_bind(filter.limit);
        let rows = query.build().fetch_all(&self.pool).await.doing("listing jobs")?;
        rows.iter().map(line).collect::<std::result::Result<_, sqlx::Error>>().doing("listing jobs")
    }

    /// The oldest job that a search reads before it stops; `None` when it reaches the end.
    async fn oldest_searched(&self, before: Option<Uuid>) -> Result<Option<Uuid>> {
        let before = before.unwrap_or(Uuid::max());
        let oldest = sqlx::query_scalar!(
            "SELECT id FROM job WHERE id < ? ORDER BY id DESC LIMIT 1 OFFSET ?",
            before.as_bytes().as_slice(),
            SEARCHED - 1
        );
        let oldest = oldest.fetch_optional(&self.pool).await.doing("bounding a search")?;
        Ok(oldest.map(|id| uuid(&id)))
    }

    /// Some jobs by their ids, as in a listing.
    pub async fn job_lines(&self, ids: &[Uuid]) -> Result<Vec<JobLine>> {
        if ids.is_empty() {
            return Ok(Vec::new());
        }
        let mut query: QueryBuilder<MySql> = QueryBuilder::new(LINE);
        query.push(" AND id IN (");
        super::push_ids(&mut query, ids);
        query.push(") ORDER BY id");
        let rows = query.build().fetch_all(&self.pool).await.doing("listing jobs")?;
        rows.iter().map(line).collect::<std::result::Result<_, sqlx::Error>>().doing("listing jobs")
    }

    /// Ids of the jobs that a filter selects, oldest first.
    pub async fn job_ids(&self, filter: &Filter, now: Timestamp) -> Result<Vec<Uuid>> {
        let mut query: QueryBuilder<MySql> = QueryBuilder::new(SEARCH_SECONDS);
        query.push("SELECT id FROM job WHERE 1 = 1");
        narrow(&mut query, filter, now);
        query.push(" ORDER BY id LIMIT ").push_bind(filter.limit);
        let rows = query.build().fetch_all(&self.pool).await.doing("selecting jobs")?;
        rows.iter().map(|row| row.try_get::<Vec<u8>, _>(0).map(|id| uuid(&id)).doing("selecting jobs")).collect()
    }

    /// The number of jobs in each state, counted up to [`MOST_COUNTED`]: a count reads a bounded part of the
    /// index.
    pub async fn job_counts(&self, now: Timestamp) -> Result<Vec<(RunState, u64)>> {
        let mut counts = Vec::with_capacity(RunState::ALL.len());
        for state in RunState::ALL {
            let mut query: QueryBuilder<MySql> =
                QueryBuilder::new("SELECT COUNT(*) FROM (SELECT 1 AS one FROM job WHERE 1 = 1");
            in_state(&mut query, *state, now);
            query.push(" LIMIT ").push_bind(MOST_COUNTED).push(") counted");
            let row = query.build().fetch_one(&self.pool).await.doing("counting jobs")?;
            counts.push((*state, row.try_get::<i64, _>(0).doing("counting jobs")? as u64));
        }
        Ok(counts)
    }

    /// The state of a group of jobs; `None` for an unknown group.
    pub async fn batch(&self, id: Uuid) -> Result<Option<BatchState>> {
        let key = id.as_bytes().as_slice();
        let Some(row) = sqlx::query!("SELECT workflow, run, total, created FROM batch WHERE id = ?", key)
            .fetch_optional(&self.pool)
            .await
            .doing("reading a group")?
        else {
            return Ok(None);
        };
        let mut state = BatchState {
            workflow: row.workflow,
            run: row.run,
            created: Timestamp::from_micros(row.created),
            total: row.total,
            ..BatchState::default()
        };
        let rows = sqlx::query!(
            "SELECT phase, COUNT(*) AS `n!: i64`, MAX(due) AS last_due, MIN(started) AS first_started, MIN(lane) AS lane FROM job WHERE batch = ? GROUP BY phase",
            key
        )
        .fetch_all(&self.pool)
        .await
        .doing("counting a group")?;
        for row in rows {
            let n = row.n as u64;
            match phase(row.phase) {
                JobPhase::Succeeded => state.succeeded = n,
                JobPhase::Rejected => state.rejected = n,
                JobPhase::Failed => state.failed = n,
                JobPhase::Cancelled => state.cancelled = n,
                JobPhase::Running => {
                    state.running = n;
                    state.remaining += n;
                }
                JobPhase::Ready | JobPhase::Blocked => {
                    state.remaining += n;
                    state.lane = row.lane;
                    state.last_due = state.last_due.max(row.last_due.map(Timestamp::from_micros));
                }
            }
            state.first_started = match (state.first_started, row.first_started) {
                (Some(one), Some(other)) => Some(one.min(Timestamp::from_micros(other))),
                (one, other) => one.or(other.map(Timestamp::from_micros)),
            };
        }
        Ok(Some(state))
    }

    /// The mean duration of the last 50 successful jobs of a workflow.
    pub async fn usual_time(&self, workflow: &str) -> Result<Option<Span>> {
        let mean = sqlx::query_scalar!(
            "SELECT CAST(AVG(duration) AS SIGNED) AS mean FROM (
                 SELECT ended - started AS duration FROM job WHERE workflow = ? AND phase = 11 ORDER BY id DESC LIMIT 50) recent",
            workflow
        )
        .fetch_one(&self.pool)
        .await
        .doing("reading ended jobs")?;
        Ok(mean.map(Span::from_micros))
    }
}

/// Reads a row of [`LINE`].
fn line(row: &sqlx::mysql::MySqlRow) -> std::result::Result<JobLine, sqlx::Error> {
    let get = |at: usize| row.try_get::<Vec<u8>, _>(at);
    Ok(JobLine {
        id: uuid(&get(0)?),
        phase: phase(row.try_get(1)?),
        lane: row.try_get(2)?,
        ready_at: Timestamp::from_micros(row.try_get(3)?),
        workflow: row.try_get(4)?,
        revision: row.try_get(5)?,
        priority: row.try_get(6)?,
        tags: super::tags_of(row.try_get(7)?),
        batch: row.try_get::<Option<Vec<u8>>, _>(8)?.as_deref().map(uuid),
        ordering_key: row.try_get(9)?,
        entry: row.try_get(10)?,
        accepted: Timestamp::from_micros(row.try_get(11)?),
        due: Timestamp::from_micros(row.try_get(12)?),
        started: row.try_get::<Option<i64>, _>(13)?.map(Timestamp::from_micros),
        ended: row.try_get::<Option<i64>, _>(14)?.map(Timestamp::from_micros),
        stop: row.try_get::<u8, _>(15)? != 0,
        waits_for: row.try_get(16)?,
        retries: row.try_get(17)?,
        progress: row.try_get(18)?,
        failure: row.try_get(19)?,
        claim_rank: row.try_get(20)?,
    })
}

/// Narrows to one state, as [`JobPhase::state`] has it.
fn in_state(query: &mut QueryBuilder<MySql>, state: RunState, now: Timestamp) {
    let stands = |phase: &JobPhase| [(false, false), (true, false), (true, true)].map(|(a, b)| phase.state(a, b));
    let phases: Vec<JobPhase> = JobPhase::ALL.iter().copied().filter(|phase| stands(phase).contains(&state)).collect();
    match state {
        RunState::Scheduled | RunState::Waiting => {
            let begun = if state == RunState::Scheduled { " AND claim_rank > 0" } else { " AND claim_rank = 0" };
            query.push(begun).push(" AND ready_at > ").push_bind(now.as_micros());
            query.push(" AND ready_at <> ").push_bind(HELD.as_micros());
        }
        RunState::Queued => {
            _ = query
                .push(" AND (phase <> ")
                .push_bind(JobPhase::Ready.code())
                .push(" OR ready_at <= ")
                .push_bind(now.as_micros())
                .push(" OR ready_at = ")
                .push_bind(HELD.as_micros())
                .push(")")
        }
        _ => {}
    }
    in_phases(query, phases.into_iter());
}

fn in_phases(query: &mut QueryBuilder<MySql>, phases: impl Iterator<Item = JobPhase>) {
    query.push(" AND phase IN (");
    let mut list = query.separated(", ");
    for phase in phases {
        list.push_bind(phase.code());
    }
    query.push(")");
}

/// The pattern of `LIKE` for what contains a text.
pub(crate) fn containing(text: &str) -> String {
    format!("%{}", beginning(text))
}

/// The pattern of `LIKE` for what begins with a text.
fn beginning(text: &str) -> String {
    let escaped = text.replace('\\', "\\\\").replace('%', "\\%").replace('_', "\\_");
    format!("{escaped}%")
}

fn narrow(query: &mut QueryBuilder<MySql>, filter: &Filter, now: Timestamp) {
    if !filter.states.is_empty() {
        query.push(" AND (");
        for (at, state) in filter.states.iter().enumerate() {
            query.push(if at == 0 { "(1 = 1" } else { " OR (1 = 1" });
            in_state(query, *state, now);
            query.push(")");
        }
        query.push(")");
    }
    if let Some(lane) = &filter.lane {
        query.push(" AND lane = ").push_bind(lane.clone());
    }
    for tag in &filter.tags {
        query.push(" AND id IN (SELECT job FROM job_tag WHERE tag = ").push_bind(tag.clone()).push(")");
    }
    if let Some(prefix) = &filter.tag_prefix {
        query.push(" AND id IN (SELECT job FROM job_tag WHERE tag LIKE ").push_bind(beginning(prefix)).push(")");
    }
    names::narrow(query, &filter.workflow);
    if let Some(batch) = filter.batch {
        query.push(" AND batch = ").push_bind(batch.as_bytes().to_vec());
    }
    if let Some(from) = filter.due_from {
        query.push(DUE).push(" >= ").push_bind(from.as_micros());
    }
    if let Some(until) = filter.due_until {
        query.push(DUE).push(" <= ").push_bind(until.as_micros());
    }
    if let Some(from) = filter.ended_from {
        query.push(" AND ended >= ").push_bind(from.as_micros());
    }
    if let Some(until) = filter.ended_until {
        query.push(" AND ended < ").push_bind(until.as_micros());
    }
    if let Some(caller) = &filter.caller {
        query.push(" AND caller = ").push_bind(caller.clone());
    }
    if let Some(revision) = filter.revision {
        query.push(" AND revision = ").push_bind(revision);
    }
    match &filter.failure {
        None => {}
        Some(Fails::Kind(kind)) => {
            query.push(" AND JSON_VALUE(failure, '$.kind') = ").push_bind(kind.clone());
        }
        Some(Fails::Status(status)) => {
            query.push(" AND JSON_VALUE(failure, '$.status') = ").push_bind(status.to_string());
        }
    }
    if let Some(step) = &filter.step {
        query.push(" AND JSON_VALUE(failure, '$.step') = ").push_bind(step.clone());
    }
    if let Some(request) = &filter.request {
        query.push(" AND request_id = ").push_bind(request.id.clone());
        query.push(" AND id IN (SELECT job FROM (SELECT job FROM job_request WHERE request_id = ");
        query.push_bind(request.id.clone());
        for job in &request.jobs {
            query.push(" UNION SELECT ").push_bind(job.as_bytes().to_vec());
        }
        query.push(") of_request)");
    }
    if let Some(text) = &filter.text {
        query.push(" AND sealed = 0 AND input LIKE ").push_bind(containing(text));
    }
    if let Some(before) = filter.before {
        query.push(" AND id < ").push_bind(before.as_bytes().to_vec());
    }
}
