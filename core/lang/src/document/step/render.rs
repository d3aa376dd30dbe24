//! A `render` step: a template filled with values.
//!
//! ```yaml
//! - id: report
//!   render: pdf
//!   template: reports/month.html
//!   with: {month: "${input.month}", bills: "${bills.rows}"}
//!   name: month.pdf
//! ```

use std::time::Duration;

use super::super::reader::{Members, Named};
use super::super::values::MAX_WITHIN;
use super::super::yaml::{Kind, Node};
use super::valid_name;
use crate::diagnostic::Report;
use crate::suggest;

/// What templates make, by the words of documents.
pub const WORDS: [&str; 4] = ["html", "text", "pdf", "csv"];

/// A `render` step.
#[derive(Clone, Debug)]
pub struct Render {
    /// What is made, one of [`WORDS`].
    pub word: Named,
    /// The path of the template, relative to the document.
    pub template: Named,
    /// Values by the name that the template knows.
    pub with: Vec<(Named, Node)>,
    /// Files that a page may show, by the name that the template knows.
    pub files: Option<Node>,
    /// The name of the new file.
    pub name: Option<Node>,
    /// The most pages.
    pub pages: Option<u32>,
    /// Timeout.
    pub within: Option<Duration>,
}

/// The most pages that a step may ask for.
const MOST_PAGES: i64 = 2000;

/// Reads a `render` step.
pub(super) fn read(members: &Members, report: &mut Report) -> Option<Render> {
    let word = members.text("render", report)?;
    if !WORDS.contains(&word.text.as_str()) {
        report.error("wrong-value", word.at, format!("`{}` is nothing that a template makes", word.text));
        match suggest::nearest(&word.text, WORDS) {
            Some(near) => report.did_you_mean(near),
            None => report.help(format!("it is one of {}", WORDS.join(", "))),
        };
        return None;
    }
    for name in ["files", "pages", "within"] {
        if let Some((key, _)) = members.entry(name).filter(|_| word.text != "pdf") {
            report.error("wrong-value", key.at, format!("`{name}` is for PDF; `render: {}` has none", word.text));
        }
    }
    let with = members.mapping("with", report).into_iter();
    let with = with.filter(|(name, _)| valid_name(name, report)).map(|(name, node)| (name, node.clone())).collect();
    Some(Render {
        template: members.text("template", report).or_else(|| {
            if members.get("template").is_none() {
                report.error("missing-key", members.at, "`render` needs `template`");
                report.help("name a file beside the document: `template: reports/month.html`");
            }
            None
        })?,
        word,
        with,
        files: members.get("files").cloned(),
        name: members.get("name").cloned(),
        pages: members.integer("pages", 1, MOST_PAGES, report).map(|pages| pages as u32),
        within: members.duration("within", MAX_WITHIN, report),
    })
}

/// The templates that the steps of a document name, relative to it.
pub fn templates(root: &Node) -> Vec<&str> {
    let mut found = Vec::new();
    let mut open = vec![root];
    while let Some(node) = open.pop() {
        match &node.kind {
            Kind::List(items) => open.extend(items),
            Kind::Map(members) => {
                if let (Some(_), Some(template)) = (node.get("render"), node.get("template").and_then(Node::as_text)) {
                    found.push(template);
                }
                open.extend(members.iter().map(|(_, node)| node));
            }
            _ => {}
        }
    }
    found.sort_unstable();
    found.dedup();
    found
}
