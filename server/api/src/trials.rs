//! Trials: a workflow that need not be live, run once with what changes something simulated.

use std::collections::BTreeMap;

use kanzlei_model::run::RunState;
use kanzlei_model::time::{Span, Timestamp};
use uuid::Uuid;

use crate::deploys::Document;
use crate::drafts::DraftName;
use crate::runs::{Failure, Step};
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
        /// Whose token asked for it.
        pub operator: String,
        pub input: Json,
        pub reply: Json,
        pub failure: Option<Failure>,
        pub sheet: Vec<Paragraph>,
        pub steps: Vec<Step>,
        /// What it asked of others, in order, and how that was answered.
        pub effects: Vec<TrialEffect>,
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

    /// Trials of this process, newest first.
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
        pub operator: String,
    }
}
