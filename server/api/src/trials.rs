//! Trials: a workflow that need not be live, run once with what changes something simulated, and past runs answered by it.

use std::collections::BTreeMap;

use kanzlei_model::run::RunState;
use kanzlei_model::time::{Span, Timestamp};
use serde::{Deserialize, Serialize};
use uuid::Uuid;

use crate::deploys::Document;
use crate::drafts::DraftName;
use crate::runs::{Failure, NamedValue, RunDifference, RunFilter, Step};
use crate::sheet::Paragraph;
use crate::{Json, api};

api! {
    /// A trial that is asked for.
    pub struct TrialRequest {
        /// The documents that the author is working on; they stand in place of live ones.
        #[serde(default)]
        pub documents: Vec<Document>,
        /// Texts of other files by path, such as OpenAPI documents.
        #[serde(default)]
        pub files: BTreeMap<String, String>,
        /// Drafts on the server that it sees.
        #[serde(default)]
        pub drafts: Vec<DraftName>,
        /// The workflow.
        pub workflow: String,
        /// Its input; what is missing comes from a sample of its schema.
        #[serde(default)]
        pub input: Json,
        /// Whether the input is used as it is, without a sample.
        #[serde(default)]
        pub exact: bool,
        /// A past run whose input it has; `input` is put over it.
        #[serde(default)]
        pub run: Option<Uuid>,
        /// A delivery of which the workflow that is tried makes its input; `input` is put over it.
        #[serde(default)]
        pub delivery: Option<Uuid>,
        /// A changed row of which the workflow that is tried makes its input; `input` is put over it.
        #[serde(default)]
        pub change: Option<TrialChange>,
        /// The step of that run to continue from, by its number: what was asked before it is answered as then, and the clock begins where it did.
        #[serde(default)]
        pub from: String,
        /// Names of services, operations and databases that answer as they answered that run: `registry`, `rates.latest`,
        /// `sql.harbour`. What it did not ask of them is simulated or performed as otherwise.
        #[serde(default)]
        pub recorded: Vec<String>,
        /// Whether it stops before each effect and waits for a decision.
        #[serde(default)]
        pub stepwise: bool,
        /// The step that alone is performed, by number or id: what comes before it is simulated or answered as in `run`, and the trial ends with it.
        #[serde(default)]
        pub only: String,
        /// The step it ends with, by number or id; empty for all.
        #[serde(default)]
        pub until: String,
        /// Whether everything is performed as if it were live.
        #[serde(default)]
        pub live: bool,
        /// Names of what is performed although it may change something: `customs.request`, `sql.harbour`, `keep`.
        #[serde(default)]
        pub real: Vec<String>,
        /// Names of what is not performed although it only reads.
        #[serde(default)]
        pub simulated: Vec<String>,
        /// Stubs, as a document of cases has them: YAML.
        #[serde(default)]
        pub stubs: String,
        /// Who calls, as expressions know it; that of `run` by default.
        #[serde(default)]
        pub caller: Option<TrialCaller>,
    }

    /// A changed row, as a trial supposes it.
    pub struct TrialChange {
        /// The entry it is for, such as `harbour.bill`; empty for the first.
        #[serde(default)]
        pub table: String,
        /// The row before; null for one that is new.
        #[serde(default)]
        pub before: Json,
        /// The row after; null for one that is gone.
        #[serde(default)]
        pub after: Json,
    }

    /// Who calls in a trial; it counts as proven.
    pub struct TrialCaller {
        /// How records call it.
        #[serde(default)]
        pub name: Option<String>,
        /// The name of its key.
        #[serde(default)]
        pub key: Option<String>,
        /// Whose key it is.
        #[serde(default)]
        pub owner: Option<String>,
        /// The claims of its token.
        #[serde(default)]
        pub claims: Json,
    }

    /// What a trial did. Values are masked as those of runs are.
    pub struct Trial {
        pub id: Uuid,
        pub workflow: String,
        pub state: RunState,
        pub status: Option<u16>,
        pub started: Timestamp,
        /// On the trial's clock, which skips waits.
        pub duration_us: Span,
        /// `trial`, or the endpoint of a draft that was called at its preview address.
        pub entry: String,
        /// Until when it is kept.
        pub expires: Timestamp,
        /// Whose token asked for it.
        pub operator: String,
        pub input: Json,
        pub reply: Json,
        pub failure: Option<Failure>,
        pub sheet: Vec<Paragraph>,
        pub steps: Vec<Step>,
        /// What it asked of others, in order, and how that was answered.
        pub effects: Vec<TrialEffect>,
        /// Where it stopped and waits for a decision.
        pub stop: Option<TrialStop>,
    }

    /// An effect before which a trial stopped.
    pub struct TrialStop {
        /// The number of the step.
        pub step: String,
        /// Its positions in the loops around it.
        pub items: Option<String>,
        /// What it asks for; `mode` is what the trial does where nothing else is decided.
        pub effect: TrialEffect,
        /// The names that the step knows.
        pub names: Vec<NamedValue>,
        /// Why the last decision was not possible.
        pub refused: Option<String>,
    }

    /// What is decided about the effect before which a trial stopped.
    pub struct TrialDecision {
        /// `usual`, `perform`, `simulate`, `skip`, `answer`, `fail`, `set`, `finish` (stop no more) or `end`.
        pub decision: String,
        /// The status of an answer; 200 by default.
        #[serde(default)]
        pub status: Option<u16>,
        /// The headers of an answer.
        #[serde(default)]
        pub headers: BTreeMap<String, String>,
        /// The body of an answer, or the rows of a statement.
        #[serde(default)]
        pub body: Json,
        /// The kind of a failure, such as `timeout`.
        #[serde(default)]
        pub kind: String,
        /// Other values for names that the step knows.
        #[serde(default)]
        pub values: BTreeMap<String, Json>,
    }

    /// Something that a trial asked of others.
    pub struct TrialEffect {
        /// Its name: `rates.latest`, `sql.harbour`, `enqueue`, `wait`.
        pub name: String,
        /// What it is, on one line: `GET /latest?to=NOK`.
        pub what: String,
        /// `real`, `stubbed` or `simulated`.
        pub mode: String,
    }

    /// Trials, newest first: the last 200, and those that wait for a decision in this process.
    pub struct Trials {
        pub trials: Vec<TrialLine>,
    }

    /// A trial in the list.
    pub struct TrialLine {
        pub id: Uuid,
        pub workflow: String,
        pub state: RunState,
        pub status: Option<u16>,
        pub started: Timestamp,
        /// `trial`, or the endpoint of a draft that was called at its preview address.
        pub entry: String,
        /// Whose token asked for it, or opened the address.
        pub operator: String,
    }
}

/// Which past runs to answer again, and by what.
#[derive(Clone, Debug, Default, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(default, deny_unknown_fields)]
pub struct RetraceRequest {
    /// The documents that the author is working on; they stand in place of live ones.
    pub documents: Vec<Document>,
    /// Texts of other files by path, such as OpenAPI documents.
    pub files: BTreeMap<String, String>,
    /// Drafts on the server that stand in place of what is live.
    pub drafts: Vec<DraftName>,
    /// Its runs, the newest first; `workflow` must be set, and `limit` is 1 to 1000, 100 by default.
    pub runs: RunFilter,
}

api! {
    /// How past runs would be answered: from their recorded outcomes, performing nothing.
    pub struct Retrace {
        pub workflow: String,
        /// Runs that were answered as before.
        pub same: u32,
        /// Runs with another reply, other requests or another failure.
        pub differs: u32,
        /// Runs that ask for something of which nothing is recorded.
        pub diverged: u32,
        /// Runs that were recorded incompletely.
        pub skipped: u32,
        /// Whether more runs fit than were answered within the time for it.
        pub more: bool,
        /// All that were not answered as before, newest first.
        pub runs: Vec<RetracedRun>,
    }

    /// A past run that is not answered as before.
    pub struct RetracedRun {
        pub id: Uuid,
        pub revision: u32,
        pub entry: String,
        pub started: Timestamp,
        /// `differs`, `diverged` or `skipped`.
        pub verdict: String,
        /// Why it was skipped, or what it asks for.
        pub why: Option<String>,
        pub differences: Vec<RunDifference>,
    }
}
