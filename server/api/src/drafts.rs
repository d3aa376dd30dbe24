//! Drafts and revisions of documents.

use kanzlei_model::time::Timestamp;

use crate::api;

pub use kanzlei_analysis::compare::{Changed, ClientChange, Row, StepChange};

api! {
    /// The drafts on the server.
    pub struct Drafts {
        pub drafts: Vec<DraftLine>,
    }

    /// A draft in the list.
    pub struct DraftLine {
        /// `workflow`, `service`, `lane` or `cases`.
        pub kind: String,
        pub name: String,
        /// Counts up with each change; the `ETag`.
        pub version: u64,
        /// The revision it began from; null for a document that is new.
        pub base: Option<u32>,
        /// The live revision; null where none is live.
        pub live: Option<u32>,
        /// How many steps differ from what is live; null where nothing is live, or the document has no steps.
        pub differs: Option<u32>,
        /// In words: `not deployed`, `differs from live by 2 steps`.
        pub state: String,
        pub changed: Timestamp,
        /// Whose token saved it.
        pub operator: String,
    }

    /// A draft with its text.
    pub struct Draft {
        pub line: DraftLine,
        pub path: String,
        pub text: String,
        /// The text of the file it names, such as an OpenAPI document.
        pub file: Option<String>,
    }

    /// A draft to be saved, with `If-Match: "version"`, or with `If-None-Match: *` where there is none yet.
    pub struct DraftText {
        #[serde(default)]
        pub path: String,
        pub text: String,
        #[serde(default)]
        pub file: Option<String>,
        /// The text that the author began from, for merging; by default that of the live revision it is based on.
        #[serde(default)]
        pub ancestor: Option<String>,
    }

    /// Which drafts are meant.
    pub struct DraftName {
        pub kind: String,
        pub name: String,
    }

    /// The revisions of a document, newest first.
    pub struct Revisions {
        pub kind: String,
        pub name: String,
        pub revisions: Vec<crate::workflows::Revision>,
    }

    /// One revision with its text.
    pub struct RevisionText {
        pub kind: String,
        pub name: String,
        pub revision: u32,
        pub text: String,
        /// The text of the file it names.
        pub file: Option<String>,
    }

    /// Two texts of a document.
    pub struct Texts {
        pub before: String,
        pub after: String,
    }

    /// How two texts differ.
    pub struct Comparison {
        /// The steps that differ, in order.
        pub steps: Vec<StepChange>,
        /// What differs, as a unified diff.
        pub diff: String,
    }
}
