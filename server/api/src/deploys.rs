//! Checking documents and putting them live.

use std::collections::BTreeMap;

use kanzlei_model::gradual::Rules;

use crate::drafts::{ClientChange, DraftName, StepChange};
use crate::sheet::Diagnostic;
use crate::workflows::Endpoint;
use crate::{Json, api};

api! {
    /// Documents that belong together.
    pub struct Documents {
        pub documents: Vec<Document>,
        /// Documents that others refer to.
        #[serde(default, skip_serializing_if = "Vec::is_empty")]
        pub context: Vec<Document>,
        /// Texts of other files by path, such as OpenAPI documents.
        #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
        pub files: BTreeMap<String, String>,
        /// Drafts on the server that go along.
        #[serde(default, skip_serializing_if = "Vec::is_empty")]
        pub drafts: Vec<DraftName>,
        /// Values of settings that the installation sets; null removes one, so that the default is in force again.
        #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
        pub settings: BTreeMap<String, Json>,
        /// Whether a draft is deployed although another revision went live since it began.
        #[serde(default)]
        pub over: bool,
        /// Whether nothing is put live, and only the answer wanted.
        #[serde(default)]
        pub preview: bool,
        /// What the new revision serves, where the live one stays beside it; of one workflow that is live.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        pub gradual: Option<Rules>,
    }

    /// A document and where it is from.
    pub struct Document {
        pub path: String,
        pub text: String,
    }

    /// What is wrong with documents.
    pub struct Checked {
        pub diagnostics: Vec<Diagnostic>,
    }

    /// What a deploy put live.
    pub struct Deployed {
        pub deployed: Vec<DeployedDocument>,
        pub warnings: Vec<Diagnostic>,
    }

    /// One document that is live now.
    pub struct DeployedDocument {
        /// `workflow`, `service`, `library` or another kind.
        pub kind: String,
        pub name: String,
        pub revision: u32,
        /// Whether it was live like this before.
        pub unchanged: bool,
        /// Whether it serves a share beside the live revision.
        #[serde(default)]
        pub gradual: bool,
        pub endpoints: Vec<Endpoint>,
        /// The steps that differ from what was live.
        pub steps: Vec<StepChange>,
        /// What those who call it see of the change.
        pub clients: Vec<ClientChange>,
        /// What it does in databases: triggers of tables that it watches.
        #[serde(default)]
        pub databases: Vec<String>,
        /// The live workflows that invoke or queue it; those that use a library.
        pub callers: Vec<String>,
    }
}
