//! Formats of an endpoint's answers: `formats: [json, csv, ndjson]`, of which the client chooses one by `Accept`, and what a CSV file holds.
//!
//! ```yaml
//! formats: [json, csv]
//! csv: {columns: [imo, vessel, dues_eur], file: bills.csv}
//! ```

use super::keys::CSV;
use super::reader::Members;
use super::yaml::Node;
use crate::diagnostic::{Place, Report};

/// A format of answers.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Format {
    /// JSON (RFC 8259).
    Json,
    /// Rows with a header (RFC 4180).
    Csv,
    /// A JSON value on each line.
    Ndjson,
}

impl Format {
    /// All of them, with the word of documents and the media type.
    pub const ALL: [(Format, &str, &str); 3] = [
        (Format::Json, "json", "application/json"),
        (Format::Csv, "csv", "text/csv"),
        (Format::Ndjson, "ndjson", "application/x-ndjson"),
    ];

    /// The word of documents.
    pub fn word(self) -> &'static str {
        Self::ALL.iter().find(|(format, ..)| *format == self).map_or("", |(_, word, _)| *word)
    }

    /// Its media type.
    pub fn media(self) -> &'static str {
        Self::ALL.iter().find(|(format, ..)| *format == self).map_or("", |(.., media)| *media)
    }
}

/// What an endpoint declares of its formats.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Formats {
    /// Those that a client may choose, the first one where it does not; JSON alone where it is empty.
    pub of: Vec<Format>,
    /// Columns of CSV with their places in the text; those of the rows where it is empty.
    pub columns: Vec<(String, Place)>,
    /// The name of the CSV file.
    pub file: Option<String>,
    /// Whether texts that a spreadsheet would compute stay as they are.
    pub keep_formulas: bool,
}

/// Reads what an endpoint declares.
pub(super) fn read(members: &Members, report: &mut Report) -> Formats {
    let mut out = Formats::default();
    for node in members.list("formats", report) {
        let word = node.as_text().unwrap_or_default();
        match Format::ALL.iter().find(|(_, known, _)| *known == word) {
            Some((format, ..)) if !out.of.contains(format) => out.of.push(*format),
            Some(_) => {}
            None => {
                report.error("wrong-value", node.at, "a format is `json`, `csv` or `ndjson`");
            }
        }
    }
    let Some(node) = members.get("csv") else { return out };
    if !out.of.contains(&Format::Csv) {
        report.error("wrong-value", node.at, "`csv` describes a format that the endpoint does not have");
        report.help("add it: `formats: [json, csv]`");
    }
    let Some(inner) = Members::new(node, "`csv`", &[CSV], report) else { return out };
    for node in inner.list("columns", report) {
        match node.as_text() {
            Some(name) => out.columns.push((name.to_owned(), node.at)),
            None => {
                report.error("wrong-type", node.at, format!("a column is named by text, not by {}", node.what()));
            }
        }
    }
    out.file = inner.text("file", report).map(|file| file.text);
    if let Some(file) = out.file.as_deref().filter(|file| kanzlei_model::file::plain_name(file) != Some(file)) {
        let at = inner.get("file").map_or(node.at, |node: &Node| node.at);
        report.error("wrong-value", at, format!("`{file}` cannot be the name of a file"));
    }
    out.keep_formulas = match inner.text("formulas", report) {
        Some(word) if word.text == "keep" => true,
        Some(word) if word.text != "guard" => {
            report.error("wrong-value", word.at, "`formulas` is `guard` or `keep`");
            false
        }
        _ => false,
    };
    out
}
