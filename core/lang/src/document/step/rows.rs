//! What `file: read` and `file: write` say of rows: their format, and what a row is.
//!
//! ```yaml
//! - id: lines
//!   file: read
//!   of: ${input.bills}
//!   format: csv
//!   row: {imo: {type: string}, weight: {type: number}}
//! ```

use super::super::formats::Format;
use super::super::reader::{Members, Named};
use super::super::workflow::{Property, property};
use super::super::yaml::Node;
use crate::diagnostic::Report;
use crate::suggest;

/// A format from which rows are read.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Readable {
    /// The items of a list, or one row.
    Json,
    /// A JSON value on each line.
    Ndjson,
    /// Objects by the names of the first line (RFC 4180).
    Csv,
    /// Lines.
    Text,
    /// Elements.
    Xml,
    /// The items of a list, or one row.
    Yaml,
}

impl Readable {
    /// All of them with their words.
    pub const ALL: [(Readable, &str); 6] = [
        (Readable::Json, "json"),
        (Readable::Ndjson, "ndjson"),
        (Readable::Csv, "csv"),
        (Readable::Text, "text"),
        (Readable::Xml, "xml"),
        (Readable::Yaml, "yaml"),
    ];

    /// The word of documents.
    pub fn word(self) -> &'static str {
        Self::ALL.iter().find(|(format, _)| *format == self).map_or("", |(_, word)| *word)
    }
}

/// How rows are read.
#[derive(Clone, Debug)]
pub struct Read {
    /// The format.
    pub format: Readable,
    /// What stands between the fields of a line.
    pub delimiter: u8,
    /// The label of its character encoding (Encoding standard), with its place; UTF-8 where it has none.
    pub encoding: Option<Named>,
    /// The name of the elements that are rows.
    pub element: Option<String>,
    /// The members of a row; nothing where anything may be in it.
    pub row: Option<Vec<Property>>,
    /// Whether the rows become a list.
    pub whole: bool,
}

/// How rows are written.
#[derive(Clone, Debug)]
pub struct Write {
    /// The format.
    pub format: Format,
    /// Columns of CSV; the members of the first row where it is empty.
    pub columns: Vec<Named>,
    /// Whether texts that a spreadsheet would compute stay as they are.
    pub keep_formulas: bool,
    /// The name of the new file.
    pub name: Option<Node>,
}

/// The keys that only some formats have.
const OF_FORMATS: &[(&str, &[Readable])] = &[
    ("delimiter", &[Readable::Csv]),
    ("element", &[Readable::Xml]),
    ("encoding", &[Readable::Json, Readable::Ndjson, Readable::Csv, Readable::Text, Readable::Xml, Readable::Yaml]),
];

/// Reads how rows are read.
pub(super) fn read(members: &Members, report: &mut Report) -> Option<Read> {
    let word = members.text("format", report)?;
    let Some((format, _)) = Readable::ALL.iter().find(|(_, known)| *known == word.text) else {
        unknown(&word, Readable::ALL.map(|(_, word)| word).as_slice(), report);
        return None;
    };
    for (name, formats) in OF_FORMATS {
        if let Some((key, _)) = members.entry(name).filter(|_| !formats.contains(format)) {
            report.error("wrong-value", key.at, format!("`format: {}` has no `{name}`", word.text));
        }
    }
    let delimiter = members.text("delimiter", report).map_or(b',', |text| match *text.text.as_bytes() {
        [one] if one.is_ascii() && !one.is_ascii_alphanumeric() && one != b'"' && one != b'\n' && one != b'\r' => one,
        _ => {
            report.error("wrong-value", text.at, "a delimiter is one character, such as `;` or a tab");
            b','
        }
    });
    let row = members.get("row").map(|_| {
        let found = members.mapping("row", report);
        found.into_iter().filter_map(|(name, node)| property("a member of a row", name, node, report)).collect()
    });
    if let Some(files) =
        row.iter().flatten().find(|one: &&Property| crate::document::file::FileInput::of(&one.schema).is_some())
    {
        report.error("wrong-value", files.at, "what stands in a row is no file");
    }
    Some(Read {
        format: *format,
        delimiter,
        encoding: members.text("encoding", report),
        element: members.text("element", report).map(|name| name.text),
        row,
        whole: members.boolean("whole", report),
    })
}

/// Reads how rows are written; `key` names the format.
pub(super) fn write(key: &str, members: &Members, report: &mut Report) -> Option<Write> {
    let word = members.text(key, report)?;
    let Some((format, ..)) = Format::ALL.iter().find(|(_, known, _)| *known == word.text) else {
        unknown(&word, Format::ALL.map(|(_, word, _)| word).as_slice(), report);
        return None;
    };
    for name in ["columns", "formulas"] {
        if let Some((key, _)) = members.entry(name).filter(|_| *format != Format::Csv) {
            report.error("wrong-value", key.at, format!("`{name}` is for CSV; `{}` has none", word.text));
        }
    }
    let mut columns = Vec::new();
    for node in members.list("columns", report) {
        match node.as_text() {
            Some(name) => columns.push(Named { text: name.to_owned(), at: node.at }),
            None => {
                report.error("wrong-type", node.at, format!("a column is named by text, not by {}", node.what()));
            }
        }
    }
    let keep_formulas = match members.text("formulas", report) {
        Some(word) if word.text == "keep" => true,
        Some(word) if word.text != "guard" => {
            report.error("wrong-value", word.at, "`formulas` is `guard` or `keep`");
            false
        }
        _ => false,
    };
    Some(Write { format: *format, columns, keep_formulas, name: members.get("name").cloned() })
}

fn unknown(word: &Named, known: &[&str], report: &mut Report) {
    report.error("wrong-value", word.at, format!("`{}` is no format of rows", word.text));
    match suggest::nearest(&word.text, known.iter().copied()) {
        Some(near) => report.did_you_mean(near),
        None => report.help(format!("it is one of {}", known.join(", "))),
    };
}
