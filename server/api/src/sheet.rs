//! Sheets and diagnostics: the core's own types, with the schemas that describe them.

use schemars::{JsonSchema, Schema, SchemaGenerator};
use serde::{Deserialize, Serialize};

pub use kanzlei_compiler::plan::Paragraph;
pub use kanzlei_lang::diagnostic::{Diagnostic, Severity};

/// Describes types of the core by twins of theirs, which a test holds to the same JSON.
macro_rules! described {
    ($function:ident: $twin:ty) => {
        pub(crate) fn $function(generator: &mut SchemaGenerator) -> Schema {
            Vec::<$twin>::json_schema(generator)
        }
    };
}

described!(sheet: twin::Paragraph);
described!(diagnostics: twin::Diagnostic);

/// The schema of a sheet that may be missing.
pub(crate) fn maybe_sheet(generator: &mut SchemaGenerator) -> Schema {
    Option::<Vec<twin::Paragraph>>::json_schema(generator)
}

mod twin {
    use super::*;

    /// One step as it is shown.
    #[derive(Serialize, Deserialize, JsonSchema)]
    #[serde(deny_unknown_fields)]
    pub struct Paragraph {
        /// `2.1`: the first step inside the second.
        pub number: String,
        /// How far it is indented; 0 at the top.
        pub depth: u8,
        /// The key that names the step: `call`, `if`, …
        pub kind: String,
        /// What stands behind the kind: an operation, a condition, a status.
        pub title: String,
        /// The name of its result.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        #[schemars(with = "String")]
        pub name: Option<String>,
        /// Set on the first step of a branch: `then`, `else`, `catch`, or the arm's value.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        #[schemars(with = "String")]
        pub branch: Option<String>,
        /// Names and what they are given.
        #[serde(default, skip_serializing_if = "Vec::is_empty")]
        pub rows: Vec<(String, String)>,
        #[serde(default, skip_serializing_if = "Option::is_none")]
        #[schemars(with = "String")]
        pub about: Option<String>,
        #[serde(default, skip_serializing_if = "Option::is_none")]
        #[schemars(with = "String")]
        pub when: Option<String>,
        #[serde(default, skip_serializing_if = "std::ops::Not::not")]
        pub off: bool,
        /// Line in the document, from 1.
        pub line: u32,
    }

    /// Something that is wrong with a document.
    #[derive(Serialize, Deserialize, JsonSchema)]
    #[serde(deny_unknown_fields)]
    pub struct Diagnostic {
        /// A stable name, such as `unknown-key`.
        pub code: String,
        pub severity: Severity,
        pub path: String,
        /// From 1.
        pub line: u32,
        /// From 1, in characters.
        pub column: u32,
        /// Byte range in the document.
        pub start: u32,
        pub end: u32,
        pub message: String,
        #[serde(default, skip_serializing_if = "Option::is_none")]
        #[schemars(with = "String")]
        pub help: Option<String>,
        /// Changes of the text that would mend it, each on its own.
        #[serde(default, skip_serializing_if = "Vec::is_empty")]
        pub fixes: Vec<Fix>,
    }

    /// A change that mends a finding.
    #[derive(Serialize, Deserialize, JsonSchema)]
    #[serde(deny_unknown_fields)]
    pub struct Fix {
        /// What it does, in a few words.
        pub title: String,
        pub edit: Edit,
    }

    /// A change of a text.
    #[derive(Serialize, Deserialize, JsonSchema)]
    #[serde(deny_unknown_fields)]
    pub struct Edit {
        /// Byte range that is replaced.
        pub start: u32,
        pub end: u32,
        /// What is written there.
        pub text: String,
    }

    #[derive(Serialize, Deserialize, JsonSchema)]
    #[serde(rename_all = "lowercase")]
    pub enum Severity {
        Error,
        Warning,
    }
}

#[cfg(test)]
mod tests {
    use kanzlei_lang::diagnostic::Fix;
    use kanzlei_lang::edit::Edit;

    use super::{Diagnostic as Found, Paragraph as Core, *};

    #[test]
    fn twins_have_the_json_of_the_core() {
        let text = |text: &str| Some(text.to_owned());
        let full = Core {
            number: "2.1".into(),
            depth: 1,
            kind: "call".into(),
            title: "tides.nextWindow".into(),
            name: text("tide"),
            branch: text("then"),
            rows: vec![("harbour".into(), "input.harbour".into())],
            about: text("a"),
            when: text("true"),
            off: true,
            line: 7,
        };
        let bare =
            Core { name: None, branch: None, rows: Vec::new(), about: None, when: None, off: false, ..full.clone() };
        for core in [full, bare] {
            let json = serde_json::to_value(&core).expect("json");
            let twin: twin::Paragraph = serde_json::from_value(json.clone()).expect("the same members");
            assert_eq!(serde_json::to_value(&twin).expect("json"), json);
        }
        let found = Found {
            code: "unknown-key".into(),
            severity: Severity::Warning,
            path: "w.yaml".into(),
            line: 1,
            column: 2,
            start: 1,
            end: 3,
            message: "m".into(),
            help: text("h"),
            fixes: vec![Fix { title: "t".into(), edit: Edit { start: 1, end: 3, text: "x".into() } }],
        };
        for found in [found.clone(), Found { help: None, fixes: Vec::new(), ..found }] {
            let json = serde_json::to_value(&found).expect("json");
            let twin: twin::Diagnostic = serde_json::from_value(json.clone()).expect("the same members");
            assert_eq!(serde_json::to_value(&twin).expect("json"), json);
        }
    }
}
