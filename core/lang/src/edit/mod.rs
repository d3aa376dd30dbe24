//! Edits: changes of a document's text that keep what they do not touch.
//!
//! [`change`] turns what an author wants done to the tree of a document (set a key, move a step) into [`Edit`]s of
//! its text: comments, order, quoting and layout of all other lines stay byte for byte. [`apply`] makes the new text,
//! [`undo`] the edits that lead back. Nothing here knows what keys mean; [`steps`] knows which of them hold steps.
//!
//! ```
//! use kanzlei_lang::edit::{self, At, Change};
//! let text = "workflow: w\nsteps:\n  - note: a # first\n  - reply: 200\n";
//! let at = vec![At::Key("steps".into()), At::Item(0), At::Key("note".into())];
//! let edits = edit::change(text, &Change::Set { at, value: "b".into() }).unwrap();
//! assert_eq!(edit::apply(text, &edits).unwrap(), "workflow: w\nsteps:\n  - note: b # first\n  - reply: 200\n");
//! ```

mod change;
mod layout;
pub mod steps;

#[cfg(test)]
mod tests;

use serde::{Deserialize, Serialize};

pub use change::{At, Change, Piece, change, exists, parse_path, path_text, piece};
pub use layout::{behind, key_lines, shifted};

/// A replacement of a range of a text.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Edit {
    /// Byte offset of the start.
    pub start: u32,
    /// Byte offset of the end.
    pub end: u32,
    /// What is written there.
    pub text: String,
}

/// Why a text cannot be changed as asked.
#[derive(Clone, Debug, PartialEq, thiserror::Error)]
pub enum Error {
    /// The text is no document that can be read.
    #[error("the text cannot be read: {0}")]
    Unreadable(String),
    /// Nothing stands at the path.
    #[error("there is nothing at `{0}`")]
    Missing(String),
    /// What stands at the path is of another kind.
    #[error("`{at}` is not {wanted}")]
    WrongKind {
        /// The path.
        at: String,
        /// What it would have to be.
        wanted: &'static str,
    },
    /// The value that is to be written is not YAML.
    #[error("the new value cannot be read: {0}")]
    BadValue(String),
    /// Ranges overlap or lie outside the text.
    #[error("the edits overlap, or lie outside the text")]
    BadRange,
    /// The change makes no sense.
    #[error("{0}")]
    Refused(&'static str),
}

/// The text after edits, whose ranges are those of the text before and do not overlap.
pub fn apply(text: &str, edits: &[Edit]) -> Result<String, Error> {
    let mut sorted: Vec<&Edit> = edits.iter().collect();
    sorted.sort_by_key(|edit| (edit.start, edit.end));
    let mut out = String::with_capacity(text.len());
    let mut from = 0;
    for edit in sorted {
        out.push_str(text.get(from..edit.start as usize).ok_or(Error::BadRange)?);
        out.push_str(&edit.text);
        from = (edit.end as usize).max(edit.start as usize);
    }
    out.push_str(text.get(from..).ok_or(Error::BadRange)?);
    Ok(out)
}

/// The edits that turn the text after `edits` into the one before them.
pub fn undo(text: &str, edits: &[Edit]) -> Vec<Edit> {
    let mut sorted: Vec<&Edit> = edits.iter().collect();
    sorted.sort_by_key(|edit| (edit.start, edit.end));
    let mut shift = 0_i64;
    sorted
        .into_iter()
        .map(|edit| {
            let start = (i64::from(edit.start) + shift) as u32;
            shift += edit.text.len() as i64 - i64::from(edit.end - edit.start);
            let before = text.get(edit.start as usize..edit.end as usize).unwrap_or_default();
            Edit { start, end: start + edit.text.len() as u32, text: before.to_owned() }
        })
        .collect()
}
