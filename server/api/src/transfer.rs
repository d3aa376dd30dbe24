//! What is live, as a whole that another installation can take over: documents, never secrets.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

use crate::{Json, api};

/// What to export.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(default, deny_unknown_fields)]
pub struct ExportQuery {
    /// Names of workflows, separated by commas, with all that they need; everything by default.
    pub names: Option<String>,
    /// Whether what the workflows remember comes along.
    pub kept: bool,
}

api! {
    /// Documents with the files that they name, by paths in one folder.
    pub struct Export {
        pub documents: Vec<ExportedDocument>,
        /// Texts of other files by path, such as OpenAPI documents.
        pub files: BTreeMap<String, String>,
        /// What the workflows remember, where it was asked for.
        pub kept: BTreeMap<String, Json>,
        /// Secrets that another installation must set before it can take this over.
        pub secrets: Vec<ExportedSecret>,
    }

    /// A document of an export.
    pub struct ExportedDocument {
        /// `workflow`, `service`, `lane` or `cases`.
        pub kind: String,
        pub name: String,
        /// `workflows/berth-quote.yaml`.
        pub path: String,
        pub text: String,
    }

    /// A secret that is needed; its value is never contained.
    pub struct ExportedSecret {
        pub name: String,
        /// What it may be used for here.
        pub purposes: Vec<String>,
        /// The services and workflows that use it.
        pub users: Vec<String>,
    }

    /// What a workflow remembers between runs.
    pub struct KeptValues {
        /// Counts up with each change; 0 while nothing was ever kept.
        pub version: u64,
        /// An object. To set it, give the version that was read.
        pub values: Json,
    }
}
