//! Gradual deploys: two revisions of a workflow that serve it side by side, compared.

use kanzlei_model::gradual::Rules;
use kanzlei_model::time::{Span, Timestamp};

use crate::api;

api! {
    /// Gradual deploys that are under way.
    pub struct Graduals {
        pub graduals: Vec<GradualLine>,
    }

    /// A gradual deploy.
    pub struct GradualLine {
        pub workflow: String,
        /// The live revision.
        pub live: u32,
        /// The revision that serves a share.
        pub revision: u32,
        pub since: Timestamp,
        /// Who deployed it.
        pub by: String,
        /// What it serves, and when it is taken back by itself.
        pub rules: Rules,
        /// Why it serves nothing although it should, such as a check that it no longer passes.
        pub fault: Option<String>,
    }

    /// The last gradual deploy of a workflow with what both revisions did since it began.
    pub struct Gradual {
        #[serde(flatten)]
        pub line: GradualLine,
        /// How it ended; null while it is under way.
        pub end: Option<GradualEnd>,
        /// What the revision did that is live, or was while the new one served a share.
        pub old: Side,
        /// What the revision did that serves a share.
        pub new: Side,
        /// Why the new revision is worse by more than its margins allow.
        pub worse: Option<String>,
    }

    /// The end of a gradual deploy.
    pub struct GradualEnd {
        pub at: Timestamp,
        /// `finished`, `taken-back` or `replaced`.
        pub outcome: String,
        pub by: String,
        pub reason: String,
    }

    /// What a revision did.
    pub struct Side {
        pub revision: u32,
        /// Its runs, and the requests to it that were refused for what they brought.
        pub runs: u64,
        pub failed: u64,
        /// Runs whose caller was at fault, and those refused requests.
        pub rejected: u64,
        pub p50_us: Option<Span>,
        pub p95_us: Option<Span>,
        pub p99_us: Option<Span>,
        /// How its runs ended and what they answered, most frequent first.
        pub answers: Vec<AnswerCount>,
    }

    /// Runs with the same end and the same answer.
    pub struct AnswerCount {
        /// The state of the run; `refused` where no run began.
        pub state: String,
        /// The status of the answer; null for a run that did not answer.
        pub status: Option<u16>,
        pub count: u64,
    }

    /// Other rules for a gradual deploy.
    pub struct NewRules {
        /// The revision that they are for.
        pub revision: u32,
        pub rules: Rules,
    }

    /// The end of a gradual deploy, as it is asked for.
    pub struct EndGradual {
        /// The revision that serves a share.
        pub revision: u32,
        /// Why; up to 500 characters.
        #[serde(default)]
        pub reason: String,
    }
}
