//! Documents of kind `database`: the tables of a database and their columns, so that statements are typed without it.
//!
//! They are written by `kanzlei databases describe NAME` and stay beside the other documents; a service asks the database itself.
//!
//! ```
//! use kanzlei_lang::document::{self, Document, Source};
//! let text = "database: harbour\ntables:\n  bill: {id: INT UNSIGNED, paid_on: DATE NULL}\n";
//! let (document, findings) = document::read(&Source::new("harbour.database.yaml", text), &|_| None);
//! assert!(findings.is_empty());
//! assert!(matches!(document, Some(Document::Database(found)) if found.tables["bill"][1].nullable));
//! ```

use std::collections::BTreeMap;

use super::keys::keys;
use super::reader::{KeySpec, Members, Named, free_members, is_document_name};
use super::yaml::{Node, quoted};
use crate::diagnostic::Report;

/// A document that describes a database.
#[derive(Clone, Debug)]
pub struct Database {
    /// The name of the database, as `sql` steps name it.
    pub name: Named,
    /// What it holds, in the author's words.
    pub about: String,
    /// The columns of its tables and views, in order.
    pub tables: BTreeMap<String, Vec<Column>>,
}

/// A column of a table, or of what a statement returns.
#[derive(Clone, Debug, PartialEq)]
pub struct Column {
    /// The name.
    pub name: String,
    /// The database's name of the type: `VARCHAR`, `BIGINT UNSIGNED`; empty where it is not known.
    pub type_name: String,
    /// Whether it can be null.
    pub nullable: bool,
}

/// Keys of a document that describes a database.
pub const DATABASE: &[KeySpec] = keys! {
    "database", r#"{"type":"string","pattern":"^[a-z][a-z0-9-]*$"}"#, "The name of the database, as `sql` steps name it.";
    "about", r#"{"type":"string"}"#, "What it holds, in a sentence.";
    "tables", r#"{"type":"object","additionalProperties":{"type":"object","additionalProperties":{"type":"string"}}}"#, "The columns of each table: `id: INT UNSIGNED`, or `paid_on: DATE NULL` where it can be null.";
};

/// The most tables and columns of one document.
pub const MAX_TABLES: usize = 2_000;
/// See [`MAX_TABLES`].
pub const MAX_COLUMNS: usize = 20_000;

/// Reads a document that describes a database.
pub fn read(root: &Node, report: &mut Report) -> Option<Database> {
    let members = Members::new(root, "a description of a database", &[DATABASE], report)?;
    let name = members.text("database", report)?;
    if !is_document_name(&name.text) {
        report.error("bad-name", name.at, format!("`{}` cannot be the name of a database", name.text));
        report.help("lower-case letters, digits and hyphens, beginning with a letter: `harbour`");
    }
    if members.get("tables").is_none() {
        report.error("missing-key", name.at, "a description of a database needs `tables`");
        report.help(format!("`kanzlei databases describe {}` writes it", name.text));
    }
    let mut tables = BTreeMap::new();
    for (table, node) in members.mapping("tables", report) {
        let columns = free_members(node, &table.text, report);
        tables.insert(table.text, columns.iter().filter_map(|(name, node)| column(name, node, report)).collect());
    }
    let columns: usize = tables.values().map(Vec::len).sum();
    if tables.len() > MAX_TABLES || columns > MAX_COLUMNS {
        let message = format!("at most {MAX_TABLES} tables and {MAX_COLUMNS} columns are described");
        report.error("wrong-value", name.at, message);
    }
    Some(Database { name, about: members.text("about", report).map(|a| a.text).unwrap_or_default(), tables })
}

fn column(name: &Named, node: &Node, report: &mut Report) -> Option<Column> {
    let Some(text) = node.as_text() else {
        report.error("wrong-type", node.at, format!("a type is text, not {}", node.what()));
        report.help("the type as the database names it, then `NULL` where it can be null: `paid_on: DATE NULL`");
        return None;
    };
    let text = text.trim().to_uppercase();
    let (type_name, nullable) = match text.strip_suffix(" NULL") {
        Some(rest) => (rest.strip_suffix(" NOT").unwrap_or(rest), !rest.ends_with(" NOT")),
        None => (text.as_str(), false),
    };
    Some(Column { name: name.text.clone(), type_name: type_name.trim().to_owned(), nullable })
}

/// The document that describes a database.
pub fn write(name: &str, tables: &BTreeMap<String, Vec<Column>>) -> String {
    let mut text = format!(
        "database: {name}\nabout: What `kanzlei databases describe {name}` found; write it again when the tables change.\n\ntables:\n"
    );
    for (table, columns) in tables {
        text += &format!("  {}:\n", quoted(table));
        for column in columns {
            let null = if column.nullable { " NULL" } else { "" };
            text += &format!("    {}: {}{null}\n", quoted(&column.name), column.type_name);
        }
    }
    text
}
