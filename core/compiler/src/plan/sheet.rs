//! The sheet: a workflow as a column of numbered paragraphs, for people.

use serde::{Deserialize, Serialize};

use kanzlei_lang::document::reader::Named;
use kanzlei_lang::document::yaml::{Kind, Node};

/// One step as it is shown.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
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
    #[cfg_attr(feature = "schema", schemars(with = "String"))]
    pub name: Option<String>,
    /// Set on the first step of a branch: `then`, `else`, `catch`, or the arm's value.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[cfg_attr(feature = "schema", schemars(with = "String"))]
    pub branch: Option<String>,
    /// Names and what they are given.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub rows: Vec<(String, String)>,
    /// What it does, in the author's words.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[cfg_attr(feature = "schema", schemars(with = "String"))]
    pub about: Option<String>,
    /// Condition under which it runs, as written.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[cfg_attr(feature = "schema", schemars(with = "String"))]
    pub when: Option<String>,
    /// Whether it is switched off.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub off: bool,
    /// Line in the document, from 1.
    pub line: u32,
}

/// A value of a document on one line: the bare expression where it is a single one.
pub fn inline(node: &Node) -> String {
    match &node.kind {
        Kind::Text(text) => {
            let text = text.text.trim();
            match text.strip_prefix("${").and_then(|t| t.strip_suffix('}')) {
                Some(inner) if !inner.contains("${") && !inner.contains('}') => inner.trim().to_owned(),
                _ => text.replace('\n', " "),
            }
        }
        Kind::List(items) => format!("[{}]", items.iter().map(inline).collect::<Vec<_>>().join(", ")),
        Kind::Map(members) => {
            let names: Vec<_> = members.iter().map(|(key, _)| key.name.as_str()).collect();
            format!("{{ {} }}", names.join(", "))
        }
        _ => node.to_value().to_json(),
    }
}

/// Rows of a value: one per member of an object, else one with the given label.
pub fn rows(label: &str, node: &Node) -> Vec<(String, String)> {
    match node.as_map() {
        Some(members) => members.iter().map(|(key, node)| (key.name.clone(), inline(node))).collect(),
        None => vec![(label.to_owned(), inline(node))],
    }
}

/// Rows of header fields; a colon behind the name tells them from members.
pub fn header_rows(headers: &[(Named, Node)]) -> Vec<(String, String)> {
    headers.iter().map(|(name, node)| (format!("{}:", name.text), inline(node))).collect()
}
