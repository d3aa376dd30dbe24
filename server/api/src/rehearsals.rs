//! Rehearsals: the cases of a workflow, run by the service for authors in a browser.

use std::collections::BTreeMap;

use kanzlei_model::run::RunState;
use kanzlei_model::time::Span;

use crate::deploys::Document;
use crate::drafts::DraftName;
use crate::runs::Step;
use crate::{Json, api};

api! {
    /// Cases that are to be run. Nothing outside is asked but databases that cases name.
    pub struct RehearsalRequest {
        /// The documents that the author is working on; they stand in place of live ones.
        #[serde(default)]
        pub documents: Vec<Document>,
        /// Texts of other files by path, such as OpenAPI documents.
        #[serde(default)]
        pub files: BTreeMap<String, String>,
        /// Drafts on the server that it sees.
        #[serde(default)]
        pub drafts: Vec<DraftName>,
        /// The workflow whose cases are run: those of a document of the request, otherwise those of its draft of cases.
        pub workflow: String,
        /// The name of the only case to run; with it comes what each step did. Empty for all.
        #[serde(default)]
        pub only: String,
    }

    /// What came of cases.
    pub struct Rehearsal {
        pub workflow: String,
        /// Those that were run, in the order of their document.
        pub cases: Vec<RehearsedCase>,
        /// What all of them reached; null where only one was run or time ran out.
        pub coverage: Option<Covered>,
        /// What is wrong with the documents of cases; cases of one with errors are not run.
        pub diagnostics: Vec<crate::sheet::Diagnostic>,
        /// Cases for which there was no time.
        pub left: u32,
    }

    /// What came of one case.
    pub struct RehearsedCase {
        pub name: String,
        /// The line of the case, from 1.
        pub line: u32,
        pub passed: bool,
        /// What was not as expected.
        pub differences: Vec<CaseDifference>,
        /// Stubs to paste for calls that none answered, as YAML.
        pub missing_stubs: Vec<String>,
        /// How the run ended; null when the request led to none.
        pub state: Option<RunState>,
        /// What the client would have received.
        pub status: Option<u16>,
        pub reply: Json,
        /// On the clock of the case.
        pub duration_us: Span,
        /// The input, where the request led to a run and only this case was asked for.
        pub input: Json,
        /// What each step did, where only this case was asked for.
        pub steps: Vec<Step>,
    }

    /// Something that was not as a case expects.
    pub struct CaseDifference {
        /// `reply.body.dues.amount`, `step rate`, `calls of rates.latest`.
        pub what: String,
        pub wanted: String,
        pub got: String,
        /// The line of the expectation, from 1.
        pub line: u32,
    }

    /// How much of a workflow cases reached.
    pub struct Covered {
        /// All its steps but those that are off.
        pub steps: u32,
        pub steps_reached: u32,
        pub branches: u32,
        pub branches_reached: u32,
        /// What none reached, in the order of the sheet.
        pub missing: Vec<NotReached>,
    }

    /// A step or branch that no case reached.
    pub struct NotReached {
        /// The step's number on the sheet, or the name of a function.
        pub number: String,
        /// `then`, `else`, `skipped`, `catch`, a value of `match` or `line 3` of a script or function; null where the step itself
        /// was not reached.
        pub branch: Option<String>,
    }
}
