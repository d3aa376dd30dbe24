//! Documents: from text to a typed tree with positions.
//!
//! A document is YAML 1.2 whose first key names its kind. [`yaml`] returns a tree of nodes, [`reader`]
//! reads mappings by tables of keys, [`workflow`], [`service`], [`lane`], [`allowance`], [`alert`], [`issuer`], [`cases`], [`settings`], [`library`] and [`database`] hold the kinds. Nothing here looks
//! into expressions or knows other documents; that is [`kanzlei_compiler::check`].
//!
//! ```
//! use kanzlei_lang::document::{self, Document, Source};
//! let source = Source::new("hello.yaml", "workflow: hello\nsteps:\n  - reply: 200\n");
//! let (document, findings) = document::read(&source, &|_| None);
//! assert!(findings.is_empty());
//! assert!(matches!(document, Some(Document::Workflow(w)) if w.name.text == "hello"));
//! ```

pub mod access;
pub mod address;
pub mod alert;
pub mod allowance;
pub mod cases;
pub mod change;
pub mod credentials;
pub mod database;
pub mod file;
pub mod formats;
pub mod hosts;
pub mod issuer;
pub mod keys;
pub mod lane;
pub mod library;
pub mod proof;
pub mod purpose;
pub mod reader;
pub mod retry;
pub mod schema;
pub mod service;
pub mod settings;
pub mod step;
pub mod values;
pub mod web;
pub mod webhook;
pub mod workflow;
pub mod yaml;

use std::sync::Arc;

use serde::{Deserialize, Serialize};

pub use alert::Alert;
pub use allowance::Allowance;
pub use cases::Cases;
pub use database::Database;
pub use issuer::Issuer;
pub use lane::Lane;
pub use library::Library;
pub use service::Service;
pub use settings::Settings;
pub use workflow::Workflow;

use crate::diagnostic::{Diagnostic, Report};
use crate::suggest;

/// The text of a document and the path it is known by.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Source {
    /// Path of the document.
    pub path: String,
    /// Text of the document.
    pub text: String,
}

impl Source {
    /// Makes a source from a path and a text.
    pub fn new(path: impl Into<String>, text: impl Into<String>) -> Self {
        Source { path: path.into(), text: text.into() }
    }
}

/// A document of any kind.
#[derive(Clone, Debug)]
pub enum Document {
    /// A workflow.
    Workflow(Arc<Workflow>),
    /// A service.
    Service(Arc<Service>),
    /// Cases of a workflow.
    Cases(Arc<Cases>),
    /// A lane.
    Lane(Arc<Lane>),
    /// An allowance.
    Allowance(Arc<Allowance>),
    /// An alert.
    Alert(Arc<Alert>),
    /// An issuer of tokens.
    Issuer(Arc<Issuer>),
    /// Settings.
    Settings(Arc<Settings>),
    /// The tables of a database.
    Database(Arc<Database>),
    /// Functions, types and groups of steps.
    Library(Arc<Library>),
}

/// The kinds of documents this version reads.
pub const KINDS: &[&str] =
    &["workflow", "service", "cases", "lane", "allowance", "issuer", "settings", "database", "library", "alert"];
/// The kinds that stay beside the others: they are checked with them, and never live.
pub const BESIDE: &[&str] = &["cases", "database"];
/// What helps where a document does not begin with its kind.
pub(crate) const FIRST_KEY: &str = "the first key names the kind: `workflow`, `service`, `lane`, `allowance`, `issuer`, `database`, `settings`, `library`, `alert`: each with a NAME, or `cases: WORKFLOW`";

/// The kind a text says it is, when it is one of ours; distinguishes our documents from other YAML.
pub fn kind_of(text: &str) -> Option<&'static str> {
    let first = text
        .lines()
        .map(str::trim_end)
        .find(|line| !line.trim().is_empty() && !line.trim_start().starts_with('#') && *line != "---")?;
    let (key, _) = first.split_once(':')?;
    KINDS.iter().copied().find(|kind| *kind == key)
}

/// A text whose document has another name, also one that cannot be read yet; as it is where its first key has no name.
///
/// ```
/// use kanzlei_lang::document::with_name;
/// assert_eq!(with_name("workflow: old  # it\nsteps: [", "new"), "workflow: new  # it\nsteps: [");
/// ```
pub fn with_name(text: &str, name: &str) -> String {
    let Some(kind) = kind_of(text) else { return text.to_owned() };
    let lines = text.split_inclusive('\n').scan(0, |at, line| {
        *at += line.len();
        Some((*at - line.len(), line))
    });
    let head = lines.into_iter().find(|(_, line)| line.strip_prefix(kind).is_some_and(|rest| rest.starts_with(':')));
    let Some((begins, line)) = head else { return text.to_owned() };
    let value = line.split_once(" #").map_or(line, |(line, _)| line).get(kind.len() + 1..).unwrap_or_default();
    let bare = value.trim().trim_matches(['"', '\'']);
    match value.find(bare).filter(|_| !bare.is_empty()) {
        Some(at) => {
            let at = begins + kind.len() + 1 + at;
            format!("{}{name}{}", &text[..at], &text[at + bare.len()..])
        }
        None => text.to_owned(),
    }
}

/// Reads one document and everything that is wrong with its shape.
///
/// `file` returns the text of a file named relative to the document.
pub fn read(source: &Source, file: &dyn Fn(&str) -> Option<String>) -> (Option<Document>, Vec<Diagnostic>) {
    let mut report = Report::new(&source.path, &source.text);
    let document = read_into(&mut report, file);
    (document, report.finish())
}

/// Reads a document and adds what is wrong to a report; `file` returns the text of a file that the document names.
pub fn read_into(report: &mut Report, file: &dyn Fn(&str) -> Option<String>) -> Option<Document> {
    let root = yaml::parse(report)?;
    let Some((key, _)) = root.as_map().and_then(|members| members.first()) else {
        let message = match root.as_map() {
            Some(_) => "the document has no key that names its kind".to_owned(),
            None => format!("a document is a mapping, not {}", root.what()),
        };
        report.error("wrong-type", root.at, message);
        report.help(FIRST_KEY);
        return None;
    };
    match key.name.as_str() {
        "workflow" => workflow::read(&root, report).map(|w| Document::Workflow(Arc::new(w))),
        "service" => service::read(&root, file, report).map(|s| Document::Service(Arc::new(s))),
        "cases" => cases::read(&root, file, report).map(|c| Document::Cases(Arc::new(c))),
        "lane" => lane::read(&root, report).map(|l| Document::Lane(Arc::new(l))),
        "allowance" => allowance::read(&root, report).map(|a| Document::Allowance(Arc::new(a))),
        "alert" => alert::read(&root, report).map(|a| Document::Alert(Arc::new(a))),
        "issuer" => issuer::read(&root, report).map(|i| Document::Issuer(Arc::new(i))),
        "database" => database::read(&root, report).map(|d| Document::Database(Arc::new(d))),
        "library" => library::read(&root, report).map(|l| Document::Library(Arc::new(l))),
        "settings" => settings::read(&root, file, report).map(|s| Document::Settings(Arc::new(s))),
        other => {
            report.error("unknown-kind", key.at, format!("there is no kind of document `{other}`"));
            match suggest::nearest(other, KINDS.iter().copied()) {
                Some(near) => report.did_you_mean(near),
                None => report.help(FIRST_KEY),
            };
            None
        }
    }
}

#[cfg(test)]
mod tests {
    use super::with_name;

    #[test]
    fn a_document_is_given_another_name() {
        for (text, wanted) in [
            ("# old\nworkflow: \"old\"\nabout: old\n", "# old\nworkflow: \"new\"\nabout: old\n"),
            ("cases:   workflow\nexamples: []", "cases:   new\nexamples: []"),
            ("workflow:\nsteps: []\n", "workflow:\nsteps: []\n"),
            ("notes: old\n", "notes: old\n"),
            ("lane: é\u{a0}", "lane: new\u{a0}"),
        ] {
            assert_eq!(with_name(text, "new"), wanted, "{text}");
        }
    }
}
