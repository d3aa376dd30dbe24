//! Changes of the tree as edits of the text.
//!
//! Each change is worked out twice: on the lines of the text, and on the tree. What the new text is read as must be the
//! changed tree, else the change is refused; so a layout that was not foreseen costs an error and never the document.

mod text;
mod tree;

use std::fmt::Write;

use serde::{Deserialize, Serialize};

pub use text::{Piece, piece};

use self::text::Changing;
use super::{Edit, Error, apply};
use crate::diagnostic::{Place, Report};
use crate::document::yaml::{self, Kind, Node};

/// One step from a node of a document to one inside it.
#[derive(Clone, Debug, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(untagged)]
pub enum At {
    /// A position in a list, from 0.
    Item(usize),
    /// A key of a mapping.
    Key(String),
}

/// A change to the tree of a document.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(tag = "change", rename_all = "snake_case")]
pub enum Change {
    /// Writes the value of a key, which need not be there yet, or of an item.
    Set {
        /// Where.
        at: Vec<At>,
        /// The value, as YAML.
        value: String,
    },
    /// Writes a text as the value of a key or an item: without quotes where it reads as the same text, on lines of
    /// its own where it has several.
    Text {
        /// Where.
        at: Vec<At>,
        /// The text.
        text: String,
    },
    /// Gives a key another name.
    Rename {
        /// The key.
        at: Vec<At>,
        /// Its new name.
        name: String,
    },
    /// Removes a key with its value, or an item; comment lines right above go along.
    Remove {
        /// Where.
        at: Vec<At>,
    },
    /// Writes an item into a list.
    Insert {
        /// The list and the position the item will have.
        at: Vec<At>,
        /// The item, as YAML.
        value: String,
    },
    /// Moves an item within its list or to another one; comment lines right above go along.
    Move {
        /// The item.
        from: Vec<At>,
        /// The list and the position before which it will stand, both as they are now.
        to: Vec<At>,
    },
    /// Writes an item once more, behind itself.
    Duplicate {
        /// The item.
        at: Vec<At>,
    },
    /// Puts items that follow each other into a new item.
    Wrap {
        /// The first of them.
        at: Vec<At>,
        /// How many.
        count: usize,
        /// The members of the new item before them, as YAML: `if: vessel.status === 404`.
        with: String,
        /// The key of the new item that holds them: `then`.
        under: String,
    },
    /// Puts the items of a list in place of the item that it is part of.
    Unwrap {
        /// The list, at a key of the item.
        at: Vec<At>,
    },
}

/// A path as text: `steps/2/then/0`.
pub fn path_text(path: &[At]) -> String {
    let mut out = String::new();
    for (index, at) in path.iter().enumerate() {
        let _ = match at {
            At::Item(item) => write!(out, "{}{item}", if index > 0 { "/" } else { "" }),
            At::Key(key) => write!(out, "{}{key}", if index > 0 { "/" } else { "" }),
        };
    }
    out
}

/// A path from its text; a part of digits alone is a position.
pub fn parse_path(text: &str) -> Vec<At> {
    let parts = text.split('/').filter(|part| !part.is_empty());
    parts.map(|part| part.parse().map_or_else(|_| At::Key(part.to_owned()), At::Item)).collect()
}

/// Whether something stands at a path of a text.
pub fn exists(text: &str, path: &[At]) -> bool {
    read(text).is_ok_and(|root| node_at(&root, path).is_ok())
}

const UNFORESEEN: &str = "the layout of the text around this does not allow the change; edit it as text";

/// The edits that make a change.
pub fn change(text: &str, change: &Change) -> Result<Vec<Edit>, Error> {
    let root = read(text).map_err(Error::Unreadable)?;
    if let Some(change) = with_parents(&root, change) {
        return self::change(text, &change);
    }
    let wanted = tree::changed(&root, change)?;
    if let Change::Text { at, text: value } = change {
        return written(text, &root, &wanted, at, value);
    }
    let edits = Changing { text, root: &root, flow_values: false }.edits(change)?;
    if fits(text, &edits, &wanted) {
        return Ok(edits);
    }
    // Values that do not fit into the text as they were given may do so in the form of JSON.
    let edits = Changing { text, root: &root, flow_values: true }.edits(change)?;
    match fits(text, &edits, &wanted) {
        true => Ok(edits),
        false => Err(Error::Refused(UNFORESEEN)),
    }
}

/// Mappings that are begun with their members on lines of their own.
const IN_LINES: &[&str] = &["input", "functions", "queue", "replies", "let", "keep", "body", "with"];

/// A change of a key whose mapping is not there yet, as one of the mapping around it.
fn with_parents(root: &Node, change: &Change) -> Option<Change> {
    let (at, value) = match change {
        Change::Set { at, value } => (at, value.trim_end().to_owned()),
        Change::Text { at, text } => (at, yaml::quoted(text)),
        _ => return None,
    };
    let (last, parent) = at.split_last()?;
    let (At::Key(_), [.., At::Key(holder)]) = (last, parent) else { return None };
    if node_at(root, parent).is_ok_and(|found| !matches!(found.kind, Kind::Null)) {
        return None;
    }
    let key = yaml::quoted(&key_of(last));
    let scalar = !matches!(read_value(&value).ok()?.kind, Kind::Map(_) | Kind::List(_));
    let value = if value.is_empty() { "\"\"".to_owned() } else { value };
    let short = !value.contains('\n') && (scalar || value.starts_with(['{', '[']));
    let value = match (short, IN_LINES.contains(&holder.as_str())) {
        (true, false) => format!("{{{key}: {value}}}"),
        (true, true) => format!("{key}: {value}"),
        (false, _) if value.starts_with(['|', '>']) => {
            let (first, rest) = value.split_once('\n').unwrap_or((&value, ""));
            format!("{key}: {first}\n{}", super::layout::shifted(rest, 2))
        }
        (false, _) => format!("{key}:\n{}", super::layout::shifted(&value, 2)),
    };
    Some(Change::Set { at: parent.to_vec(), value })
}

/// The edits that write a text, in the plainest form that reads as the same.
fn written(text: &str, root: &Node, wanted: &Node, at: &[At], value: &str) -> Result<Vec<Edit>, Error> {
    let mut forms = Vec::new();
    if value.contains('\n') {
        let keep = if value.ends_with('\n') { "|" } else { "|-" };
        forms.push(format!("{keep}\n{}", super::layout::shifted(value, 2)));
    } else {
        forms.push(value.to_owned());
    }
    forms.push(serde_json::to_string(value).unwrap_or_default());
    for value in forms {
        let set = Change::Set { at: at.to_vec(), value };
        if let Ok(edits) = (Changing { text, root, flow_values: false }).edits(&set)
            && fits(text, &edits, wanted)
        {
            return Ok(edits);
        }
    }
    Err(Error::Refused(UNFORESEEN))
}

fn fits(text: &str, edits: &[Edit], wanted: &Node) -> bool {
    apply(text, edits).ok().and_then(|text| read(&text).ok()).is_some_and(|found| same(&found, wanted))
}

/// Reads a text, or says what is wrong with it.
fn read(text: &str) -> Result<Node, String> {
    let mut report = Report::new("", text);
    let found = yaml::parse(&mut report);
    let faults = report.finish();
    match (found, faults.first()) {
        (Some(root), None) => Ok(root),
        (_, Some(fault)) => Err(format!("{} (line {})", fault.message, fault.line)),
        (None, None) => Err("it is empty".into()),
    }
}

fn read_value(value: &str) -> Result<Node, Error> {
    match value.trim() {
        "" => Ok(Node { kind: Kind::Null, at: Place::default() }),
        _ => read(value).map_err(Error::BadValue),
    }
}

/// Whether two trees are the same, wherever their nodes stand.
fn same(a: &Node, b: &Node) -> bool {
    match (&a.kind, &b.kind) {
        (Kind::List(a), Kind::List(b)) => a.len() == b.len() && a.iter().zip(b).all(|(a, b)| same(a, b)),
        (Kind::Map(a), Kind::Map(b)) => {
            a.len() == b.len() && a.iter().zip(b).all(|((ka, a), (kb, b))| ka.name == kb.name && same(a, b))
        }
        (Kind::Float(a), Kind::Float(b)) => a.to_bits() == b.to_bits(),
        (Kind::List(_) | Kind::Map(_), _) | (_, Kind::List(_) | Kind::Map(_)) => false,
        _ => a.to_value() == b.to_value() && a.what() == b.what(),
    }
}

fn missing(path: &[At]) -> Error {
    Error::Missing(path_text(path))
}

fn node_at<'n>(root: &'n Node, path: &[At]) -> Result<&'n Node, Error> {
    let mut node = root;
    for (index, at) in path.iter().enumerate() {
        let found = match (&node.kind, at) {
            (Kind::Map(members), At::Key(key)) => members.iter().find(|(known, _)| known.name == *key).map(|(_, n)| n),
            // `404: …` is a key although it looks like a position.
            (Kind::Map(members), At::Item(item)) => {
                let name = item.to_string();
                members.iter().find(|(known, _)| known.name == name).map(|(_, n)| n)
            }
            (Kind::List(items), At::Item(item)) => items.get(*item),
            _ => None,
        };
        node = found.ok_or_else(|| missing(&path[..=index]))?;
    }
    Ok(node)
}

fn key_of(at: &At) -> String {
    match at {
        At::Key(key) => key.clone(),
        At::Item(item) => item.to_string(),
    }
}

fn split(path: &[At]) -> Result<(&At, &[At]), Error> {
    path.split_last().ok_or(Error::Refused("the whole document cannot be changed like this"))
}

fn position(path: &[At]) -> Result<(usize, &[At]), Error> {
    match split(path)? {
        (At::Item(item), list) => Ok((*item, list)),
        (At::Key(_), _) => Err(Error::WrongKind { at: path_text(path), wanted: "an item of a list" }),
    }
}
