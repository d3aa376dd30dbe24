//! The queue: jobs are runs that were queued. [`Jobs`] accepts, cancels and follows them, and queues and cancels for
//! steps; [`crate::worker`] claims and drives them.
//!
//! Whatever must not be lost is a row before anybody depends on it. Bounds: waiting acceptances and writes
//! [`WAITING`], rows of one transaction [`kanzlei_store::queue::ROWS`], followers `jobs.followers`.
//!
//! ```text
//! let row = jobs.row(&live, &workflow, id, &input, &origin)?;
//! jobs.accept(vec![row], None).await?;      // in the database from here on
//! ```

pub mod accept;
pub mod deliveries;
pub mod follow;
pub mod plans;
pub mod view;
mod wake;
mod waking;

use std::collections::BTreeSet;
use std::sync::Arc;
use std::time::Duration;

use arc_swap::ArcSwap;
use base64::Engine;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use bytes::Bytes;
use hmac::{Hmac, Mac};
use kanzlei_compiler::plan::Plan;
use kanzlei_engine::machine::{
    Address, Cancellation, Cancelling, EffectError, Enqueue, JobRequest, Outcome, Queued, tags_of,
};
use kanzlei_model::caller::Caller;
use kanzlei_model::file::{files_of, of_record, to_record};
use kanzlei_model::hex;
use kanzlei_model::run::{FailureKind, RunState};
use kanzlei_model::time::Timestamp;
use kanzlei_model::trace::Trace;
use kanzlei_model::value::Value;
use kanzlei_store::Store;
use kanzlei_store::queue::{Filter, JobPhase, NewBatch, NewJob, OfRequest, OutcomeRow};
use sha2::{Digest, Sha256};
use tokio::sync::{Notify, Semaphore, SemaphorePermit, mpsc};
use uuid::Uuid;

use crate::background::Background;
use crate::clock::now;
use crate::error::{Error, Result};
use crate::files::Holder;
use crate::live::{Live, Workflow};
use crate::metrics::Totals;
use crate::secrets::Secrets;
use crate::tally::Tally;
use crate::telemetry::Telemetry;
use kanzlei_model::address::Allowed;
pub use wake::Wake;

/// Acceptances and writes that may wait for their transaction.
pub const WAITING: usize = 10_000;
/// How long results are kept by default.
const RESULTS: Duration = Duration::from_secs(86_400);
/// How often a restored installation asks whether it is resumed.
const RESUMED: Duration = Duration::from_millis(500);
/// The most jobs that one `cancel` step or one command selects.
pub const MOST_SELECTED: u32 = 100_000;

/// The longest chain of jobs of which each was queued by a run of the one before. A workflow that queues itself without
/// end fills the queue; it stops here.
pub const MOST_GENERATIONS: u32 = 1_000;

/// What is recorded of a job when it is queued.
#[derive(Clone, Debug, Default)]
pub struct Origin {
    /// What queued it, such as `POST /arrivals`.
    pub entry: String,
    /// Who called, where that is known.
    pub caller: Caller,
    /// The `X-Request-Id` of the request.
    pub request_id: String,
    /// The trace it continues.
    pub trace: Trace,
    /// How many jobs stand between it and what began the chain.
    pub generation: u32,
    /// Whether the request that queued it was drawn for one of two revisions already.
    pub drawn: bool,
}

/// Accepts, cancels and follows jobs.
pub struct Jobs {
    /// The records.
    pub store: Store,
    /// What is live now.
    pub live: Arc<ArcSwap<Live>>,
    /// Seals confidential inputs and signs notices.
    pub secrets: Arc<Secrets>,
    /// The address of the public listener as clients see it, without a slash at its end.
    pub public_url: String,
    /// The followers of jobs.
    pub followers: follow::Followers,
    /// What the process counts for monitoring.
    pub totals: Totals,
    /// Counts what lanes do.
    pub tally: Tally,
    /// Where traces go.
    pub telemetry: Arc<Telemetry>,
    /// Notifies the worker that there is something to claim.
    pub wake: Wake,
    /// Notifies runs that they are asked to stop.
    pub stops: Arc<Notify>,
    /// Notifies the worker that a job is asked to stop.
    pub stop_asked: Arc<Notify>,
    /// Names of workflows that operators hold, as last read.
    held: ArcSwap<BTreeSet<String>>,
    /// Networks that calls and notices reach beside the public one.
    pub network: Arc<Allowed>,
    /// The largest input, in bytes of JSON.
    pub most_input: usize,
    /// Kilobytes left for acceptances and writes that wait for the database.
    room: Semaphore,
    /// Their number in all.
    whole: u32,
    /// Plans, for running jobs and for showing them.
    pub plans: plans::Plans,
    usual: view::Usual,
    acceptances: mpsc::Sender<accept::Acceptance>,
    /// Keyed once, copied for each use.
    mac: Hmac<Sha256>,
}

/// Bounds of the queue in this process.
pub struct Bounds {
    /// The largest input, in bytes of JSON.
    pub input: usize,
    /// Event streams and long polls at the same time.
    pub followers: usize,
    /// Bytes of jobs and outcomes that wait for the database.
    pub bytes: usize,
    /// Networks that calls and notices reach beside the public one.
    pub network: Arc<Allowed>,
    /// Where traces go.
    pub telemetry: Arc<Telemetry>,
}

impl Jobs {
    /// Creates the queue; the receiver is for [`accept`].
    pub fn new(
        store: Store,
        live: Arc<ArcSwap<Live>>,
        secrets: Arc<Secrets>,
        public_url: String,
        key: &[u8],
        bounds: &Bounds,
        background: Background,
    ) -> (Arc<Self>, mpsc::Receiver<accept::Acceptance>) {
        let (acceptances, received) = mpsc::channel(WAITING);
        let whole = kilobytes(bounds.bytes).max(1);
        let jobs = Jobs {
            followers: follow::Followers::new(bounds.followers),
            store,
            live,
            secrets,
            public_url,
            totals: Totals::default(),
            tally: Tally::default(),
            telemetry: bounds.telemetry.clone(),
            wake: Wake::default(),
            stops: Arc::default(),
            stop_asked: Arc::default(),
            held: ArcSwap::default(),
            network: bounds.network.clone(),
            most_input: bounds.input,
            room: Semaphore::new(whole as usize),
            whole,
            plans: plans::Plans::new(background),
            usual: view::Usual::default(),
            acceptances,
            // Keys of any length are taken.
            mac: Hmac::new_from_slice(key).unwrap_or_else(|_| Hmac::new(&Default::default())),
        };
        (Arc::new(jobs), received)
    }

    /// Bytes of jobs that wait for the database, and their bound.
    pub fn waiting(&self) -> (usize, usize) {
        let whole = self.whole as usize;
        (whole.saturating_sub(self.room.available_permits()) << 10, whole << 10)
    }

    /// Waits until this installation may begin work: one that was restored from a backup does so when it is resumed.
    pub async fn until_resumed(&self) {
        let mut announced = false;
        loop {
            match self.store.restored().await {
                Ok(None) => return,
                Ok(Some(at)) if !announced => {
                    tracing::warn!(%at, "restored from a backup: jobs, timetables and notices wait; `kanzlei resume` begins them");
                    announced = true;
                }
                Ok(Some(_)) | Err(_) => {}
            }
            tokio::time::sleep(RESUMED).await;
        }
    }

    /// Whether an operator holds a workflow. Workers ask the database itself before a job begins.
    pub fn is_held(&self, workflow: &str) -> bool {
        self.held.load().contains(workflow)
    }

    /// Reads which workflows are held.
    ///
    /// # Errors
    /// When the database is unavailable; the last answer remains.
    pub async fn follow_holds(&self) -> kanzlei_store::Result<()> {
        let held = self.store.workflow_holds().await?.into_iter().map(|hold| hold.workflow).collect::<BTreeSet<_>>();
        if **self.held.load() != held {
            self.held.store(Arc::new(held));
        }
        Ok(())
    }

    /// Reserves room for bytes that wait for the database; more than the whole room counts as the whole. `None` when
    /// there is not enough at present.
    fn try_hold(&self, bytes: usize) -> Option<SemaphorePermit<'_>> {
        self.room.try_acquire_many(kilobytes(bytes).min(self.whole)).ok()
    }

    /// Waits for the same.
    pub(crate) async fn hold(&self, bytes: usize) -> Option<SemaphorePermit<'_>> {
        self.room.acquire_many(kilobytes(bytes).min(self.whole)).await.ok()
    }

    /// A code that only this installation can compute, the same for the same words.
    pub(crate) fn made(&self, words: &str) -> [u8; 32] {
        let mut mac = self.mac.clone();
        mac.update(words.as_bytes());
        mac.finalize().into_bytes().into()
    }

    /// The same for a word, a space and an id.
    fn made_for(&self, word: &str, id: Uuid) -> [u8; 32] {
        let mut mac = self.mac.clone();
        mac.update(word.as_bytes());
        mac.update(b" ");
        mac.update(id.hyphenated().encode_lower(&mut Uuid::encode_buffer()).as_bytes());
        mac.finalize().into_bytes().into()
    }

    /// The id of a job that a run queues: the same when the run repeats the step after a crash.
    pub(crate) fn id_of(&self, run: Uuid, effect: u64, index: usize, at: Timestamp) -> Uuid {
        let bytes = self.made(&format!("job {run} {effect} {index}"));
        let mut random = [0; 10];
        random.copy_from_slice(&bytes[..10]);
        // The first 17 bits are the position in the list, so that ids sort like the list; 57 bits remain.
        let place = index.min(0x1_ffff);
        random[0] = (place >> 13) as u8;
        random[1] = (place >> 5) as u8;
        random[2] = ((place & 0x1f) << 1) as u8 | (random[2] & 1);
        uuid::Builder::from_unix_timestamp_millis((at.as_micros() / 1000).max(0) as u64, &random).into_uuid()
    }

    /// An id as of the same instant that also depends on the workflow, because two timetables may be due at once.
    pub(crate) fn id_for(&self, of: &str, id: Uuid) -> Uuid {
        let made = self.made_for(of, id);
        let mut bytes = id.into_bytes();
        bytes[8..].copy_from_slice(&made[..8]);
        uuid::Builder::from_bytes(bytes).with_variant(uuid::Variant::RFC4122).into_uuid()
    }

    /// The id of the job that a request queues. It follows from the id that the service gave the request, so that
    /// no index has to find it, and only this installation can compute it: services learn the id of the request.
    pub fn id_of_request(&self, request: Uuid) -> Uuid {
        self.id_for("request", request)
    }

    /// What a run identifies itself by to services, in `Idempotency-Key`: they cannot compute its id from it.
    pub fn key_of(&self, run: Uuid) -> String {
        hex::of(&self.made_for("key", run)[..16])
    }

    /// The secret part of a draft's address: nobody can compute it from the address's id.
    pub fn token_of(&self, preview: Uuid) -> String {
        hex::of(&self.made_for("preview", preview))
    }

    /// The span of a run; its id cannot be computed back from it either.
    pub fn span_of(&self, run: Uuid) -> u64 {
        let made = self.made_for("span", run);
        made.first_chunk().map_or(1, |bytes| u64::from_be_bytes(*bytes).max(1))
    }

    /// The span of a run whose spans are kept; zero otherwise, because it takes longer to make than a small run to end.
    pub fn span_if_kept(&self, trace: &Trace, run: Uuid) -> u64 {
        if self.telemetry.keeps(trace) { self.span_of(run) } else { 0 }
    }

    /// Whether the id of a job follows from the id of its request. Both are of the same instant then.
    pub fn follows(&self, job: Uuid, request_id: &str) -> bool {
        let request = Uuid::parse_str(request_id).ok().filter(|request| request.as_bytes()[..8] == job.as_bytes()[..8]);
        request.is_some_and(|request| self.id_of_request(request) == job)
    }

    /// How the jobs of an `X-Request-Id` are found.
    pub fn of_request(&self, id: String) -> OfRequest {
        let jobs = Uuid::parse_str(&id).map_or_else(|_| Vec::new(), |given| vec![self.id_of_request(given)]);
        OfRequest { id, jobs }
    }

    /// The row of a job of a live workflow, or of its revision that serves a share.
    pub fn row(&self, live: &Live, workflow: &Workflow, id: Uuid, input: &Value, origin: &Origin) -> Result<NewJob> {
        let row = self.row_at(live, &workflow.plan, (workflow.revision, live.generation), id, input, origin)?;
        match live.gradual(&workflow.plan.name) {
            Some(gradual) if gradual.workflow.revision == workflow.revision => Ok(row),
            Some(gradual) if gradual.serves_job(&id.to_string(), &row.tags, origin.drawn) => {
                let workflow = &gradual.workflow;
                let input = workflow.plan.input.accept(input).map_err(Error::Problem)?;
                self.row_at(live, &workflow.plan, (workflow.revision, live.generation), id, &input, origin)
            }
            _ => Ok(row),
        }
    }

    /// The row of a job of a revision that was live at a generation; its lane is the one of today.
    ///
    /// # Errors
    /// When the input is too large or cannot be sealed.
    pub fn row_at(
        &self,
        live: &Live,
        plan: &Plan,
        (revision, generation): (u32, u64),
        id: Uuid,
        input: &Value,
        origin: &Origin,
    ) -> Result<NewJob> {
        let slots = plan.slots_around(input, &origin.caller);
        let lane = live.lane_of(plan, &slots);
        let accepted = now();
        let json = to_record(input);
        if json.len() > self.most_input {
            let detail =
                format!("the input has {} bytes of JSON; a job allows at most {}", json.len(), self.most_input);
            return Err(Error::problem(413, "Content too large", detail));
        }
        let kept = self.secrets.guard(json.clone(), plan.labels.any).ok_or_else(|| {
            Error::problem(500, "The input cannot be kept", "the workflow handles confidential values, and the service has no key for secrets: set `secrets.key_file` in its configuration")
        })?;
        let tags =
            plan.queue.tag.as_ref().map(|tag| tag.make(&slots, Default::default()).and_then(|tag| tags_of(&tag)));
        // A job is not lost because of its tags, but nobody finds it by them.
        let tags = tags.transpose().unwrap_or_else(|error| {
            tracing::warn!(%error, workflow = plan.name, job = %id, "a job is queued without its tags");
            None
        });
        Ok(NewJob {
            id,
            lane: lane.name.clone(),
            workflow: plan.name.clone(),
            revision,
            generation,
            depth: origin.generation,
            priority: plan.queue.priority.unwrap_or(5),
            tags: tags.unwrap_or_default(),
            batch: None,
            ordering_key: lane.ordering_key(input).map(|ordering_key| short(&ordering_key, 300)),
            entry: short(&origin.entry, 300),
            caller: origin.caller.kept(plan.uses_caller),
            request_id: origin.request_id.clone(),
            listed: !self.follows(id, &origin.request_id),
            trace: origin.trace,
            accepted,
            due: accepted,
            sealed: kept != json,
            input: kept,
            kept_for: plan.queue.results.unwrap_or(RESULTS).into(),
            unattended: false,
        })
    }

    /// Queues the jobs of an `enqueue` step, all or none.
    pub async fn enqueue(
        &self,
        run: Uuid,
        effect: u64,
        asked: &Enqueue,
        origin: &Origin,
        files: &Holder,
    ) -> std::result::Result<Queued, EffectError> {
        let fault = |kind, detail: String| EffectError { kind, detail };
        let (live, at) = (self.live.load_full(), asked.at);
        let Some(workflow) = live.workflow(&asked.workflow) else {
            return Err(fault(FailureKind::Input, format!("the workflow `{}` is not live", asked.workflow)));
        };
        if origin.generation > MOST_GENERATIONS {
            let detail = format!(
                "a chain of jobs that queue each other has at most {MOST_GENERATIONS}; end it with a condition on `run.generation`"
            );
            return Err(fault(FailureKind::Full, detail));
        }
        let batch = asked.group.then(|| self.id_of(run, effect, usize::MAX, at));
        let mut rows = Vec::with_capacity(asked.jobs.len());
        for (index, job) in asked.jobs.iter().enumerate() {
            let id = self.id_of(run, effect, index, at);
            let row = self.asked_row(&live, workflow, id, job, asked, origin)?;
            files.hand_over(&job.input, id).await?;
            rows.push(NewJob { batch, ..row });
        }
        let queued = Queued {
            ids: rows.iter().map(|row| row.id.to_string()).collect(),
            group: batch.map(|id| id.to_string()),
            base: self.public_url.clone(),
        };
        let batch = batch.map(|id| NewBatch {
            id,
            workflow: asked.workflow.clone(),
            run: run.to_string(),
            total: rows.len() as u32,
            created: at,
        });
        match self.accept(rows, batch).await {
            Ok(()) => Ok(queued),
            Err(accept::NotQueued::Full { detail, .. }) => Err(fault(FailureKind::Full, detail)),
            Err(accept::NotQueued::Failed(detail)) => Err(fault(FailureKind::Database, detail)),
            Err(accept::NotQueued::Unavailable | accept::NotQueued::Unanswered) => {
                Err(fault(FailureKind::Database, "the database is unavailable".into()))
            }
        }
    }

    fn asked_row(
        &self,
        live: &Live,
        workflow: &Workflow,
        id: Uuid,
        job: &JobRequest,
        asked: &Enqueue,
        origin: &Origin,
    ) -> std::result::Result<NewJob, EffectError> {
        let input = workflow.plan.input.accept(&job.input).map_err(|problem| {
            let first = problem.errors.first();
            let detail = first.map_or(problem.title.clone(), |error| format!("{} {}", error.pointer, error.detail));
            EffectError {
                kind: FailureKind::Input,
                detail: format!("`{}` does not accept this input: {detail}", asked.workflow),
            }
        })?;
        let mut row = self
            .row(live, workflow, id, &input, origin)
            .map_err(|error| EffectError { kind: FailureKind::Input, detail: error.to_string() })?;
        if let Some(name) = &job.lane {
            let lane = live.lane(name);
            row.ordering_key = lane.ordering_key(&input).map(|ordering_key| short(&ordering_key, 300));
            row.lane = lane.name.clone();
        }
        row.priority = asked.priority.unwrap_or(row.priority);
        row.due = job.due.unwrap_or(row.accepted).max(row.accepted);
        row.tags = job.tags.clone().unwrap_or(row.tags);
        Ok(row)
    }

    /// Cancels the jobs that a `cancel` step selects; unknown ids are listed separately.
    pub async fn cancel(&self, asked: &Cancelling, by: &str) -> std::result::Result<Cancellation, EffectError> {
        let unavailable =
            |error: kanzlei_store::Error| EffectError { kind: FailureKind::Database, detail: error.to_string() };
        let mut done = Cancellation::default();
        let ids: Vec<(String, Option<Uuid>)> = match asked {
            Cancelling::Ids(ids) => ids.iter().map(|id| (id.clone(), id.parse().ok())).collect(),
            Cancelling::Tag(tag) => {
                let mut found = Vec::new();
                for state in RunState::ALL.iter().filter(|state| !state.ended()) {
                    let filter = Filter {
                        tags: vec![tag.clone()],
                        states: vec![*state],
                        limit: MOST_SELECTED,
                        ..Filter::default()
                    };
                    found.extend(self.store.job_ids(&filter, now()).await.map_err(unavailable)?);
                }
                found.into_iter().map(|id| (id.to_string(), Some(id))).collect()
            }
        };
        let known: Vec<Uuid> = ids.iter().filter_map(|(_, id)| *id).collect();
        let (cancelled, _) = self.cancel_most(known, by).await.map_err(unavailable)?;
        let cancelled: std::collections::HashSet<Uuid> = cancelled.into_iter().collect();
        for (text, id) in ids {
            if id.is_some_and(|id| cancelled.contains(&id)) {
                done.cancelled.push(text);
                continue;
            }
            let found = match id {
                Some(id) => self.cancel_one(id, by).await.map_err(unavailable)?,
                None => None,
            };
            let into = match found {
                Some(JobPhase::Ready | JobPhase::Blocked) => &mut done.cancelled,
                Some(JobPhase::Running) => &mut done.begun,
                Some(_) => &mut done.done,
                None => &mut done.unknown,
            };
            into.push(text);
        }
        Ok(done)
    }

    /// Cancels those of many jobs that one statement can cancel; returns the others.
    pub async fn cancel_most(&self, ids: Vec<Uuid>, by: &str) -> kanzlei_store::Result<(Vec<Uuid>, Vec<Uuid>)> {
        let (mut done, mut left) = (Vec::new(), Vec::new());
        for chunk in ids.chunks(500) {
            let cancelled = match self.store.cancel_waiting(chunk, now(), &history_line("cancelled", by, None)).await {
                Ok(cancelled) => cancelled,
                Err(error) if error.is_contention() => Vec::new(),
                Err(error) => return Err(error),
            };
            let known: std::collections::HashSet<Uuid> = cancelled.iter().copied().collect();
            left.extend(chunk.iter().filter(|id| !known.contains(id)));
            cancelled.iter().for_each(|id| self.followers.changed(*id));
            done.extend(cancelled);
        }
        Ok((done, left))
    }

    /// Cancels one job; returns its phase before.
    pub async fn cancel_one(&self, id: Uuid, by: &str) -> kanzlei_store::Result<Option<JobPhase>> {
        let found = self.store.cancel_job(id, now(), &history_line("cancelled", by, None)).await?;
        if found == Some(JobPhase::Running) {
            self.stop_asked.notify_one();
        }
        self.wake.notify_one();
        self.followers.changed(id);
        Ok(found)
    }

    /// Creates the address of a callback: the same when the run repeats the step after a crash.
    pub async fn open(
        &self,
        run: Uuid,
        effect: u64,
        accepts: Option<&str>,
    ) -> std::result::Result<Address, EffectError> {
        let token = URL_SAFE_NO_PAD.encode(self.made(&format!("callback {run} {effect}")));
        let opened = self.store.open_callback(&hash(&token), run, effect, accepts, now()).await;
        opened.map_err(|error| EffectError { kind: FailureKind::Database, detail: error.to_string() })?;
        let url = format!("{}/~/callbacks/{token}", self.public_url);
        Ok(Address { id: token, url })
    }
}

/// Decodes a recorded outcome; `None` when it is unreadable.
pub fn outcome_of(secrets: &Secrets, row: &OutcomeRow) -> Option<Outcome> {
    Outcome::from_json(&serde_json::from_str(&secrets.unguard(&row.data)?).ok()?)
}

/// The hash under which a token is stored.
pub fn hash(token: &str) -> String {
    hex::of(&Sha256::digest(token.as_bytes()))
}

fn kilobytes(bytes: usize) -> u32 {
    u32::try_from(bytes.div_ceil(1024)).unwrap_or(u32::MAX).min(1 << 24)
}

fn short(text: &str, most: usize) -> String {
    text.chars().take(most).collect()
}

/// A line of a job's history: JSON and a line feed.
pub fn history_line(what: &str, by: &str, detail: Option<&str>) -> String {
    let mut line = serde_json::json!({"at": now(), "what": what, "by": by});
    if let Some(detail) = detail {
        line["detail"] = detail.into();
    }
    format!("{line}\n")
}

/// Encodes the reply of a run as JSON.
pub fn reply_json(reply: &kanzlei_engine::machine::Reply) -> String {
    let mut json = serde_json::json!({"status": reply.status, "headers": reply.headers, "problem": reply.problem});
    if !matches!(reply.body, Value::Undefined) {
        json["body"] = reply.body.to_serde();
        if !files_of(&reply.body).is_empty() {
            json["record"] = to_record(&reply.body).into();
        }
    }
    json.to_string()
}

/// Reads the reply that a job recorded.
pub fn reply_of(text: &str) -> Option<kanzlei_engine::machine::Reply> {
    let json: serde_json::Value = serde_json::from_str(text).ok()?;
    let headers = json.get("headers")?.as_array()?.iter().map(|pair| {
        let [name, value] = pair.as_array()?.as_slice() else { return None };
        Some((name.as_str()?.to_owned(), value.as_str()?.to_owned()))
    });
    let body = match json.get("record") {
        Some(record) => of_record(record.as_str()?)?,
        None => json.get("body").map_or(Value::Undefined, Value::from_json),
    };
    Some(kanzlei_engine::machine::Reply {
        status: u16::try_from(json.get("status")?.as_u64()?).ok()?,
        headers: headers.collect::<Option<_>>()?,
        body,
        rows: None,
        problem: json.get("problem")?.as_bool()?,
    })
}

/// An event of an event stream (HTML Living Standard, server-sent events).
pub fn event(id: u64, name: &str, data: &str) -> Bytes {
    format!("id: {id}\nevent: {name}\ndata: {data}\n\n").into()
}

#[cfg(test)]
mod tests {
    use kanzlei_engine::machine::Reply;
    use kanzlei_model::file::File;

    use super::*;

    #[test]
    fn replies_come_back_as_they_were() {
        for body in [Value::Undefined, Value::Null, Value::text("hei"), Value::object([("n", Value::Int(1))])] {
            let reply =
                Reply { status: 201, headers: vec![("X-A".into(), "b".into())], body, rows: None, problem: true };
            assert_eq!(reply_of(&reply_json(&reply)), Some(reply));
        }
        let file: Value = File::held("a.png", "image/png", *b"\x89P").into();
        for (body, is) in [(Value::from_json(&file.to_serde()), false), (file, true)] {
            let reply = Reply { status: 200, headers: Vec::new(), body, rows: None, problem: false };
            assert_eq!(reply_of(&reply_json(&reply)).map(|reply| reply.body.is_file()), Some(is));
        }
    }
}
