//! The service itself, and what is live on it.

pub use kanzlei_compiler::example::ExampleRequest;
use kanzlei_model::time::{Span, Timestamp};

use crate::deploys::DeployedDocument;
use crate::gradual::GradualLine;
use crate::runs::RunLine;
use crate::sheet::Paragraph;
use crate::{Json, api};

api! {
    /// How the service stands.
    pub struct Status {
        pub version: String,
        /// How clients reach the public listener.
        pub public_url: String,
        /// The header field with the id of a run in public answers; empty for none.
        #[serde(default)]
        pub run_header: String,
        pub started: Timestamp,
        /// Since when the records are those of a backup, while jobs, timetables and notices wait to be resumed.
        #[serde(default)]
        pub restored: Option<Timestamp>,
        /// `available` or `unavailable`.
        pub database: String,
        pub workflows: usize,
        pub services: usize,
        /// Requests being worked on.
        pub in_flight: usize,
        pub journal: JournalStatus,
    }

    /// How the journal stands.
    pub struct JournalStatus {
        /// Runs that were dropped under load since the start.
        pub dropped: u64,
        /// Runs that are kept.
        pub runs: u64,
        /// Bytes of what is kept of them, compressed.
        pub bytes: u64,
    }

    /// A workflow that is held: none of its jobs begins, and endpoints that answer at once refuse requests.
    pub struct Hold {
        pub workflow: String,
        pub since: Timestamp,
        /// Who holds it.
        pub by: String,
        pub reason: String,
    }

    /// Workflows that are held.
    pub struct Holds {
        pub holds: Vec<Hold>,
    }

    /// Why a workflow is to be held.
    pub struct HoldReason {
        pub reason: String,
    }

    /// A workflow that was released.
    pub struct Released {
        pub workflow: String,
        /// Its jobs that were put aside and go on now.
        pub jobs: u64,
    }

    /// A way in over HTTP.
    pub struct Endpoint {
        pub method: String,
        /// The host that leads to it, where not every host does.
        #[serde(default)]
        pub host: Option<String>,
        /// Its path template, with the prefix of its host.
        pub path: String,
        /// Its address as clients know it.
        pub url: String,
        /// Its address at the public listener itself; a request to it names the host in `Host`.
        #[serde(default)]
        pub reach: String,
        /// A line for a terminal that calls it.
        pub curl: String,
        /// The same request in its parts.
        #[serde(default)]
        pub request: ExampleRequest,
        /// Of a webhook: how its messages are proven, such as `standard`.
        #[serde(default)]
        pub proof: Option<String>,
    }

    /// How much a caller may ask for.
    pub struct AllowanceLine {
        pub name: String,
        pub about: String,
        /// Its limits in a few words: `120/min, 50000/month`.
        pub limits: String,
    }

    /// Everything that is live.
    pub struct Workflows {
        pub workflows: Vec<WorkflowLine>,
        /// Allowances that keys may have.
        #[serde(default)]
        pub allowances: Vec<AllowanceLine>,
        /// False while the database is unavailable; counts are 0 then.
        pub counts_known: bool,
    }

    /// A live workflow in a listing.
    pub struct WorkflowLine {
        pub name: String,
        pub about: String,
        /// What it belongs to.
        #[serde(default)]
        pub tags: Vec<String>,
        pub revision: u32,
        pub since: Timestamp,
        /// While it is held.
        #[serde(default)]
        pub hold: Option<Hold>,
        pub endpoints: Vec<Endpoint>,
        /// Names of the services that it calls.
        pub services: Vec<String>,
        pub day: Day,
        /// Its newest runs.
        pub last_runs: Vec<RunLine>,
    }

    /// Counts of the last 24 hours.
    pub struct Day {
        pub runs: u64,
        pub rejected: u64,
        pub failed: u64,
        /// Runs whose details were dropped under load.
        pub dropped: u64,
        pub mean_us: Option<Span>,
    }

    /// A live workflow.
    pub struct Workflow {
        pub name: String,
        pub about: String,
        pub revision: u32,
        pub since: Timestamp,
        /// While it is held.
        #[serde(default)]
        pub hold: Option<Hold>,
        /// While another revision serves a share.
        #[serde(default)]
        pub gradual: Option<GradualLine>,
        pub endpoints: Vec<Endpoint>,
        pub input: Vec<Input>,
        pub sheet: Vec<Paragraph>,
        /// Names of the services that it calls.
        pub services: Vec<String>,
        /// The document's text.
        pub source: String,
        /// Newest first.
        pub revisions: Vec<Revision>,
    }

    /// The new name of a workflow.
    pub struct NewName {
        /// Lower-case letters, digits and hyphens, beginning with a letter.
        pub to: String,
        /// Whether nothing is changed, and only the answer wanted.
        #[serde(default)]
        pub preview: bool,
    }

    /// What a rename did.
    pub struct Renamed {
        pub from: String,
        pub to: String,
        /// The workflow, and the documents that named it.
        pub deployed: Vec<DeployedDocument>,
        /// Drafts that still have the old name, as KIND/NAME.
        pub drafts: Vec<String>,
    }

    /// One declared input.
    pub struct Input {
        pub name: String,
        /// JSON Schema (2020-12).
        pub schema: Json,
        pub required: bool,
        /// Whether it is confidential.
        pub secret: bool,
    }

    /// One revision of a document.
    pub struct Revision {
        pub revision: u32,
        pub created: Timestamp,
        /// Whose token deployed it.
        pub operator: String,
        pub live: bool,
    }
}
