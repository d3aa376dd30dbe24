//! What editors ask about documents: the core's answers, and the questions.
//!
//! A question brings the documents that its author is working on; each stands in place of the live one of its kind and name, and
//! sees all others that are live. Positions are bytes of the text.

use std::collections::BTreeMap;

use crate::deploys::Document;
use kanzlei_model::time::Timestamp;

use crate::{Json, api};

pub use kanzlei_analysis::Extracted;
pub use kanzlei_analysis::begin::{Beginning, Begun};
pub use kanzlei_analysis::complete::{Kind, Range, Suggestion};
pub use kanzlei_analysis::hover::Hover;
pub use kanzlei_analysis::outline::Entry;
pub use kanzlei_analysis::scope::{Name, Scope};
pub use kanzlei_analysis::sheet::{Choice, Evaluated, Field, Form, Offer, Page, Part, Shape, Sheet, Values, Wanted};
pub use kanzlei_analysis::symbols::Location;
pub use kanzlei_lang::edit::{Change, Edit};

api! {
    /// A question about a document or a place in it.
    pub struct Question {
        /// The documents that the author is working on.
        #[serde(default)]
        pub documents: Vec<Document>,
        /// Texts of other files by path, such as OpenAPI documents.
        #[serde(default)]
        pub files: BTreeMap<String, String>,
        /// The document that is asked about.
        pub path: String,
        /// A byte of its text, or of `expression` where `at` is given; for questions about a place.
        #[serde(default)]
        pub position: u32,
        /// The number of a step; for its scope.
        #[serde(default)]
        pub step: String,
        /// A new name; for renaming and extracting.
        #[serde(default)]
        pub name: String,
        /// A place in its tree, such as `steps/2`; for extracting, forms, values, offers, completion and evaluating.
        #[serde(default)]
        pub at: String,
        /// Changes that are made to the document first, one after the other.
        #[serde(default)]
        pub changes: Vec<Change>,
        /// A text with expressions, or an expression; for evaluating, and for completing one that is being written at `at`.
        #[serde(default)]
        pub expression: String,
        /// Whether `expression` is a text whose expressions stand between `${` and `}`.
        #[serde(default)]
        pub template: bool,
        /// Sample values by name; for evaluating.
        #[serde(default)]
        pub values: BTreeMap<String, Json>,
        /// How many steps; for extracting.
        #[serde(default)]
        pub count: u32,
    }

    /// What can stand at a place, the best first.
    pub struct Suggestions {
        pub suggestions: Vec<Suggestion>,
    }

    /// What stands at a place; nothing where nothing is known of it.
    pub struct Hovered {
        pub hover: Option<Hover>,
    }

    /// Places in documents. Paths of live ones begin with `live/`.
    pub struct Locations {
        pub locations: Vec<Location>,
    }

    /// The edits of a renaming, by document.
    pub struct RenameEdits {
        pub edits: BTreeMap<String, Vec<Edit>>,
    }

    /// The steps of a workflow, in order.
    pub struct Outline {
        pub steps: Vec<Entry>,
    }

    /// A document as a sheet, after the changes.
    pub struct Composed {
        /// The text after the changes.
        pub text: String,
        /// Its paragraphs; null where the text is no YAML.
        pub sheet: Option<Sheet>,
        /// The form of the paragraph at the place that was asked for.
        pub form: Option<Form>,
        /// The next times of its timetables, by the place of each.
        pub due: BTreeMap<String, Vec<Timestamp>>,
        /// What is wrong with it.
        pub diagnostics: Vec<crate::sheet::Diagnostic>,
    }

    /// What could be added at a place.
    pub struct Offers {
        pub offers: Vec<Offer>,
    }

    /// A change of a text.
    pub struct EditRequest {
        pub text: String,
        pub change: Change,
    }

    /// A changed text.
    pub struct Edited {
        /// The text after the change.
        pub text: String,
        /// The edits that make it, in the text before.
        pub edits: Vec<Edit>,
        /// The edits that lead back, in the text after.
        pub undo: Vec<Edit>,
    }

    /// The codes of findings, explained.
    pub struct Explanations {
        pub findings: Vec<Explanation>,
    }

    /// What the code of a finding means.
    pub struct Explanation {
        pub code: String,
        /// What it means and what to do, as Markdown.
        pub about: String,
        /// A document that has the finding; empty where none is shown.
        pub wrong: String,
        /// The same corrected.
        pub corrected: String,
    }
}
