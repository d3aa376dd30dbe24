//! Jobs and groups of jobs: listed, shown, changed.

use std::collections::BTreeMap;

use kanzlei_model::run::RunState;
use kanzlei_model::time::{Span, Timestamp};
use serde::{Deserialize, Serialize};
use uuid::Uuid;

use crate::runs::{Failure, Step};
use crate::sheet::Paragraph;
use crate::{Json, api};

/// Which jobs are selected; everything that is set must fit.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(default, deny_unknown_fields)]
pub struct JobFilter {
    /// The name of a state, or of several: `failed,rejected`.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub state: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    /// The name of a lane.
    pub lane: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    /// The name of a workflow.
    pub workflow: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    /// A whole tag, or several: `imo-9155028,hold`. A job has all of them. A comma in a tag is written `\,`.
    pub tag: Option<String>,
    /// How a tag begins.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub tag_prefix: Option<String>,
    /// The id of a group.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub group: Option<String>,
    /// An instant.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub due_from: Option<String>,
    /// An instant.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub due_until: Option<String>,
    /// An instant: jobs that ended then or later.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub ended_from: Option<String>,
    /// An instant: jobs that ended before.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub ended_until: Option<String>,
    /// The name of the key, or the subject of the token, that queued them.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub caller: Option<String>,
    /// The revision of the workflow.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub revision: Option<u32>,
    /// How they failed: a kind of failure such as `timeout`, or a status such as 503.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub failure: Option<String>,
    /// The number of the step that failed: `2.1`.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub step: Option<String>,
    /// Whether pseudonyms stand in the place of tags and of ordering keys in the list.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub pseudonyms: Option<bool>,
    /// Somewhere in the input.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub text: Option<String>,
    /// The `X-Request-Id` of the request.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub request_id: Option<String>,
    /// Only jobs before this one.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub before: Option<String>,
    /// 1 to 500; 50 by default.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub limit: Option<u32>,
}

/// What is done to jobs.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "kebab-case")]
#[allow(missing_docs)]
pub enum JobAction {
    Cancel,
    RunNow,
    Postpone,
    Retry,
    /// Undoes a retry, of jobs that have not begun again.
    Undo,
}

/// With which revision a retry continues.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum RetryWith {
    /// The one that the job has.
    #[default]
    Own,
    /// The live one, where what is recorded of the job fits it.
    Live,
}

/// Where a retry begins.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "kebab-case")]
#[allow(missing_docs)]
pub enum RetryFrom {
    #[default]
    FailedStep,
    Start,
}

/// Does something to jobs, by id or by what they have in common.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct JobChange {
    /// What is done.
    pub action: JobAction,
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    /// The jobs.
    pub ids: Vec<String>,
    /// In place of ids: all jobs that fit.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub select: Option<JobFilter>,
    /// For `postpone`: the new due time, or a span from now.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub due: Option<String>,
    /// For `retry`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub from: Option<RetryFrom>,
    /// For `retry`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub revision: Option<RetryWith>,
    /// For `retry` and `run-now`: how many become due in an interval, such as `10/s`; all at once by default.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub pace: Option<String>,
    /// For `undo`: the change whose retries are undone, in place of ids.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub change: Option<String>,
    /// Changes nothing: returns what would be done.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub preview: bool,
}

api! {
    /// A page of jobs, newest first.
    pub struct JobPage {
        pub jobs: Vec<JobLine>,
        /// The number of jobs in each state; present only when the list has no other filter.
        pub counts: BTreeMap<String, u64>,
        /// Where counts stop.
        pub counted_to: u64,
        /// Where the next page continues.
        pub next_before: Option<Uuid>,
        /// Where a search that no index serves stopped before it found enough: it has read the jobs accepted since then.
        pub searched_to: Option<Timestamp>,
    }

    /// A job in a listing.
    pub struct JobLine {
        pub id: Uuid,
        /// Where clients poll it.
        pub url: String,
        /// A line for a terminal that polls it.
        pub curl: String,
        pub workflow: String,
        pub revision: u32,
        /// Whether its workflow is not live any more.
        pub retired: bool,
        pub state: RunState,
        /// Whether it stops before its next step.
        pub stopping: bool,
        /// The ordering key of the job that goes first.
        pub blocked_by: Option<String>,
        /// `pause`, `callback` or `retry`.
        pub waits_for: Option<String>,
        pub lane: String,
        pub priority: u8,
        pub tags: Vec<String>,
        pub group: Option<Uuid>,
        pub entry: String,
        pub queued: Timestamp,
        /// When it is due next; null while it waits without end.
        pub due: Option<Timestamp>,
        pub started: Option<Timestamp>,
        pub ended: Option<Timestamp>,
        /// How much later than due it began.
        pub delay_us: Option<Span>,
        pub duration_us: Option<Span>,
        /// How often its retry policy has retried it.
        pub retries: u32,
        /// 0 to 1.
        pub progress: Option<f64>,
        /// Why it failed.
        pub failure: Option<String>,
    }

    /// A job with what each step did, and its history.
    pub struct Job {
        pub id: Uuid,
        pub url: String,
        pub curl: String,
        pub workflow: String,
        pub revision: u32,
        pub retired: bool,
        /// Whether its revision is live.
        pub live: bool,
        pub state: RunState,
        pub stopping: bool,
        pub lane: String,
        /// Whether its lane is held.
        pub held: bool,
        /// Whether it waits because its workflow is held.
        pub workflow_held: bool,
        /// Callbacks that it waits for.
        pub callbacks: Vec<AwaitedCallback>,
        /// Whether its input can be changed.
        pub editable: bool,
        pub priority: u8,
        pub tags: Vec<String>,
        pub group: Option<Uuid>,
        pub ordering_key: Option<String>,
        /// Why it has not begun, where it is due.
        pub late: Option<String>,
        pub entry: String,
        pub queued: Timestamp,
        pub due: Timestamp,
        pub started: Option<Timestamp>,
        pub ended: Option<Timestamp>,
        /// `pause`, `callback` or `retry`.
        pub waits_for: Option<String>,
        /// Until when it waits.
        pub until: Option<Timestamp>,
        pub caller: Option<String>,
        pub request_id: String,
        pub trace_id: String,
        /// The process that runs it, or performed it.
        pub process: Option<String>,
        /// How often it began from the start.
        pub attempt: u32,
        pub retries: u32,
        pub delay_us: Option<Span>,
        pub duration_us: Option<Span>,
        /// An estimate of the time until its end.
        pub remaining_us: Option<Span>,
        pub progress: Option<f64>,
        pub notes: Vec<Note>,
        pub input: Json,
        /// Whether it has a reply.
        pub answered: bool,
        /// The status of its reply.
        pub status: Option<u16>,
        pub reply: Json,
        /// Until when its result is available.
        pub result_until: Option<Timestamp>,
        pub failure: Option<Failure>,
        pub history: Vec<Event>,
        pub notice: Option<Notice>,
        pub sheet: Option<Vec<Paragraph>>,
        pub steps: Option<Vec<Step>>,
        /// Counted up with each change.
        pub changes: u64,
    }

    /// The text of a `note` step.
    pub struct Note {
        pub at: Timestamp,
        pub text: String,
    }

    /// Something that happened to a job.
    pub struct Event {
        pub at: Timestamp,
        pub what: String,
        pub by: String,
        #[serde(default, skip_serializing_if = "Option::is_none")]
        pub detail: Option<String>,
    }

    /// Who is notified of a job's end.
    pub struct Notice {
        pub url: String,
        /// Attempts made.
        pub attempts: u32,
        /// The status of the last answer.
        pub status: Option<u16>,
        pub detail: Option<String>,
        /// When it arrived.
        pub delivered: Option<Timestamp>,
        /// When the next attempt is due.
        pub next: Option<Timestamp>,
    }

    /// How the jobs of a list stand.
    pub struct Group {
        pub id: Uuid,
        pub workflow: String,
        /// The run that queued them.
        pub run: String,
        pub created: Timestamp,
        pub total: u32,
        pub succeeded: u64,
        pub rejected: u64,
        pub failed: u64,
        pub cancelled: u64,
        pub running: u64,
        /// Those that have not ended.
        pub remaining: u64,
        pub expected_end: Option<Timestamp>,
    }

    /// What came of a change.
    pub struct JobsChanged {
        /// Empty for a change of many jobs.
        pub done: Vec<Uuid>,
        /// At most 500.
        pub refused: Vec<NotChanged>,
        /// A change of many jobs goes on behind the answer; poll `/jobs/actions/{id}`.
        pub operation: Option<Operation>,
        /// The id of a retry, by which it can be undone.
        pub change: Option<Uuid>,
        /// What a preview has found.
        pub preview: Option<Preview>,
    }

    /// What a change would do.
    pub struct Preview {
        /// How many jobs are selected.
        pub total: u64,
        /// How many of them were examined, the oldest first.
        pub examined: u64,
        /// How many of those would be changed.
        pub fit: u64,
        /// When the last one would be due.
        pub last_due: Option<Timestamp>,
        /// The first of those that would be changed.
        pub first: Vec<JobLine>,
    }

    /// Another input for a job that has not begun.
    pub struct InputChange {
        /// The whole input; null where `members` are changed.
        #[serde(default)]
        pub input: Json,
        /// Members of the input to be changed: a merge patch (RFC 7396), in which null removes.
        #[serde(default)]
        pub members: Json,
    }

    /// An answer to a callback that a job waits for, by hand.
    pub struct CallbackAnswer {
        /// The number of the step that waits, where several wait.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        pub step: Option<String>,
        /// What the step returns.
        pub body: Json,
    }

    /// A callback that a job waits for.
    pub struct AwaitedCallback {
        /// The number of its step.
        pub step: String,
        /// Until when.
        pub until: Option<Timestamp>,
        /// The JSON Schema of what it accepts.
        pub accepts: Json,
    }

    /// A change of many jobs.
    pub struct Operation {
        pub id: Uuid,
        pub action: JobAction,
        pub begun: Timestamp,
        /// How many jobs it is for.
        pub total: u64,
        pub done: u64,
        pub refused: u64,
        pub ended: bool,
        /// Why it ended before its end.
        pub failure: Option<String>,
    }

    /// A job that was not changed.
    pub struct NotChanged {
        pub id: Uuid,
        pub why: String,
    }
}

/// A job as clients of the public listener poll it.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct JobDocument {
    /// The id, which is also the key to the job on open endpoints.
    pub id: Uuid,
    /// The workflow that it runs.
    pub workflow: String,
    /// How it stands.
    pub state: RunState,
    /// When it was accepted.
    pub queued: Timestamp,
    /// When it was to begin.
    pub due: Timestamp,
    /// When it began.
    pub started: Option<Timestamp>,
    /// When it ended.
    pub ended: Option<Timestamp>,
    /// 0 to 1.
    pub progress: Option<f64>,
    /// The text of the last note.
    pub note: Option<String>,
    /// The newest notes, oldest first.
    pub notes: Vec<Note>,
    /// An estimate, in seconds.
    pub remaining_s: Option<f64>,
    /// Whether the reply is available.
    pub answered: bool,
    /// Addresses of the job.
    pub links: JobLinks,
    /// Present while it is asked to stop.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub stopping: bool,
    /// Present while it waits: `pause`, `callback` or `retry`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub waits_for: Option<String>,
    /// Present while it waits for a time.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub until: Option<Timestamp>,
    /// Present once it has ended.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub result_until: Option<Timestamp>,
}

/// Where a job and its result are.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct JobLinks {
    #[serde(rename = "self")]
    /// The job itself.
    pub own: String,
    /// Its reply.
    pub result: String,
    /// Its event stream.
    pub events: String,
}

api! {
    /// A live workflow to be started as a job.
    pub struct JobStart {
        pub workflow: String,
        /// Its input, as an object.
        #[serde(default)]
        pub input: Json,
    }

    /// A job that was started.
    pub struct JobStarted {
        pub id: Uuid,
        /// The line that polls it.
        pub curl: String,
    }
}
