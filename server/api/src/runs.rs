//! Past runs, refused requests, and cases recorded from runs.

use kanzlei_model::problem::Problem;
use kanzlei_model::run::{RunState, StepState};
use kanzlei_model::time::{Span, Timestamp};
use serde::{Deserialize, Serialize};
use uuid::Uuid;

use crate::sheet::Paragraph;
use crate::{Json, api};

/// Which runs to list; everything that is set must fit.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(default, deny_unknown_fields)]
pub struct RunFilter {
    /// The name of a workflow.
    pub workflow: Option<String>,
    /// The name of a state.
    pub state: Option<String>,
    /// The `X-Request-Id` of the request.
    pub request_id: Option<String>,
    /// The status of the reply: `422`, or a class such as `5xx`.
    pub status: Option<String>,
    /// Only runs that began then or later: an instant (RFC 3339), or a span before now such as `2h`.
    pub since: Option<String>,
    /// Only runs that began before: an instant (RFC 3339), or a span before now such as `2h`.
    pub until: Option<String>,
    /// The kind of its failure, such as `timeout`.
    pub kind: Option<String>,
    /// Who called: the name of a key, `issuer/subject` of a token, or an address.
    pub caller: Option<String>,
    /// Text in what it was entered by: `/berths/`.
    pub entry: Option<String>,
    /// Text in the recorded input, reply or failure.
    pub text: Option<String>,
    /// Only runs before this one.
    pub before: Option<Uuid>,
    /// 1 to 500; 50 by default.
    pub limit: Option<u32>,
}

/// Which refusals to list; everything that is set must fit.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(default, deny_unknown_fields)]
pub struct RefusalFilter {
    /// The name of a workflow.
    pub workflow: Option<String>,
    /// The status that was answered.
    pub status: Option<u16>,
    /// The `X-Request-Id` of the request.
    pub request_id: Option<String>,
    /// Only refusals before this one.
    pub before: Option<Uuid>,
    /// Whether pseudonyms stand in the place of callers; what was sent is omitted.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub pseudonyms: Option<bool>,
    /// 1 to 500; 50 by default.
    pub limit: Option<u32>,
}

/// How a recorded case is called.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(default, deny_unknown_fields)]
pub struct CaseName {
    /// The name of the case; the run's id by default.
    pub name: Option<String>,
}

api! {
    /// A page of the journal, newest first.
    pub struct RunPage {
        pub runs: Vec<RunLine>,
        /// What `before` is for the next page; null on the last one.
        pub next_before: Option<Uuid>,
        /// Where a search stopped before the page was full; `next_before` continues it.
        pub searched_to: Option<Timestamp>,
        /// Runs that were dropped under load since the start.
        pub dropped: u64,
        /// Runs that are kept, whatever the filter.
        pub kept: u64,
        /// Bytes of what is kept of them, compressed.
        pub bytes: u64,
    }

    /// A run in a listing.
    pub struct RunLine {
        pub id: Uuid,
        pub workflow: String,
        pub revision: u32,
        /// Whether that revision is live.
        pub live: bool,
        pub state: RunState,
        /// How it was entered: `POST /harbours/{harbour}/quotes`.
        pub entry: String,
        /// The status of its reply.
        pub status: Option<u16>,
        pub started: Timestamp,
        pub duration_us: Span,
        /// Why it failed.
        pub failure: Option<String>,
        /// The kind of its failure.
        pub kind: Option<String>,
    }

    /// A run with what each step did. Values are masked.
    pub struct Run {
        pub id: Uuid,
        /// Where it was a job that is still there: the line that polls it.
        pub curl: Option<String>,
        pub workflow: String,
        pub revision: u32,
        pub state: RunState,
        pub entry: String,
        pub status: Option<u16>,
        pub started: Timestamp,
        pub duration_us: Span,
        pub request_id: String,
        /// The process that performed it.
        pub process: Option<String>,
        pub trace_id: String,
        pub caller: Option<String>,
        pub input: Json,
        /// What the workflow remembered when the run began.
        pub kept: Json,
        /// The settings that it read, null where it reads none.
        pub settings: Json,
        pub reply: Json,
        pub failure: Option<Failure>,
        /// Whether it had more bytes than are kept: its largest values are `{"$cut": {bytes, digest, begins}}` then.
        pub incomplete: bool,
        pub sheet: Vec<Paragraph>,
        pub steps: Vec<Step>,
    }

    /// Why a run or a step failed.
    pub struct Failure {
        /// A kind of failure, such as `timeout`.
        pub kind: String,
        pub status: Option<u16>,
        pub detail: String,
        /// The number of the step that failed; of jobs.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        pub step: Option<String>,
        /// The body of the answer that was a failure.
        #[serde(default, skip_serializing_if = "Json::is_null")]
        pub body: Json,
    }

    /// What a step did.
    pub struct Step {
        /// Its number on the sheet.
        pub number: String,
        /// Positions in the loops around: `2.0`.
        pub items: Option<String>,
        pub state: StepState,
        /// Since the start of the run.
        pub started_us: Span,
        pub duration_us: Span,
        /// Attempts made; 0 for steps that are not retried.
        pub attempts: u32,
        /// What came of the attempts before the last one: statuses and kinds of failure.
        pub earlier_attempts: Option<Vec<String>>,
        pub sent: Json,
        pub outcome: Json,
        pub failure: Option<Failure>,
    }

    /// A document of cases with one that shows what a run did.
    pub struct RecordedCase {
        pub document: String,
        /// What is left to be done by hand.
        pub notes: Vec<String>,
    }

    /// A case that was added to the draft of a workflow's cases.
    pub struct AddedCase {
        pub workflow: String,
        /// Its name there: with a number behind it where the name was used.
        pub name: String,
        /// The version of the draft.
        pub version: u64,
        /// What is left to be done by hand.
        pub notes: Vec<String>,
    }

    /// A page of refused requests, newest first.
    pub struct RefusalPage {
        pub refusals: Vec<Refusal>,
        pub next_before: Option<Uuid>,
        /// Refusals that were only counted, under load, since the start.
        pub dropped: u64,
    }

    /// A request that was refused before a run began.
    pub struct Refusal {
        pub id: Uuid,
        pub at: Timestamp,
        /// The entry it would have used, or its method and path.
        pub entry: Option<String>,
        pub workflow: Option<String>,
        pub request_id: String,
        pub caller: Option<String>,
        pub status: u16,
        /// What was answered (RFC 9457).
        pub problem: Problem,
        pub body: RefusedBody,
    }

    /// The body of a refused request.
    pub struct RefusedBody {
        pub media: Option<String>,
        /// Bytes, where it arrived whole.
        pub size: Option<u64>,
        /// SHA-256 in hexadecimal digits.
        pub digest: Option<String>,
        /// Only where nothing confidential can be in it.
        pub text: Option<String>,
    }
}

api! {
    /// Two runs side by side.
    pub struct RunComparison {
        pub before: RunLine,
        pub after: RunLine,
        /// What differs, in the order of the run; up to 500.
        pub differences: Vec<RunDifference>,
    }

    /// Something that differs from one run to another.
    pub struct RunDifference {
        /// What: `input.nights`, `step 2 call rates.latest sent.target`, `reply.body.dues`, `state`.
        pub what: String,
        /// In the first run, or as it was.
        pub before: String,
        /// In the second run, or as it would be.
        pub now: String,
    }
}

/// A step of a past run to look at.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(default, deny_unknown_fields)]
pub struct ScopeQuery {
    /// The step, by its number on the sheet of the run.
    pub step: String,
    /// Its positions in the loops around it, from 0: `2.0`; where it began first by default.
    pub items: Option<String>,
    /// An expression to evaluate there.
    pub expression: Option<String>,
}

api! {
    /// What a step of a past run knew when it began. What is masked in the journal is masked here.
    pub struct RunScope {
        /// The number of the step.
        pub step: String,
        /// Its positions in the loops around it.
        pub items: Option<String>,
        /// The names that have values, in the order in which the workflow defines them.
        pub names: Vec<NamedValue>,
        /// The value of the expression; null where it is `undefined` too.
        pub value: Json,
        /// Why the expression has no value.
        pub fault: Option<String>,
        /// What is not as it was.
        pub notes: Vec<String>,
    }

    /// A name with its value.
    pub struct NamedValue {
        pub name: String,
        pub value: Json,
    }
}
