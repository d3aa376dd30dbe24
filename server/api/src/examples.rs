//! Worked examples that others begin from.

use serde::{Deserialize, Serialize};

use crate::api;

/// Which examples are listed.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(default, deny_unknown_fields)]
pub struct ExampleQuery {
    /// What is needed, in words; all where it is missing.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub need: Option<String>,
}

/// How an example is shown.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(default, deny_unknown_fields)]
pub struct ExampleName {
    /// The name that its workflow and cases get; its own where it is missing.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub name: Option<String>,
}

api! {
    /// Examples, the best for a need first.
    pub struct Examples {
        pub examples: Vec<ExampleLine>,
    }

    /// An example in the list.
    pub struct ExampleLine {
        pub name: String,
        /// What it shows.
        pub about: String,
        /// The kinds of its entries and steps.
        pub kinds: Vec<String>,
    }

    /// An example with its texts.
    pub struct Example {
        pub name: String,
        pub about: String,
        pub kinds: Vec<String>,
        pub workflow: String,
        pub cases: String,
        /// What else it needs.
        pub needs: Vec<ExampleFile>,
    }

    /// A document, or a file that documents name.
    pub struct ExampleFile {
        pub path: String,
        pub text: String,
        /// The kind of the document; null for other files.
        pub kind: Option<String>,
        /// The name of the document; null for other files.
        pub name: Option<String>,
        /// Whether a document of this kind and name is live.
        pub live: bool,
    }
}
