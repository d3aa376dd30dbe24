//! What can stand at a position: keys, values, and names in expressions.

mod expressions;
mod keys_of;
mod values;

use kanzlei_lang::diagnostic::Place;
use kanzlei_lang::edit::At;
use serde::{Deserialize, Serialize};

use crate::place::{What, floor, locate, nearest, read};
use crate::{Workspace, expression, keys};

/// Something that can stand at a position.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Suggestion {
    /// What it is called.
    pub label: String,
    /// What kind of thing it is.
    pub kind: Kind,
    /// Its type or signature, on one line.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub detail: String,
    /// What it does, as Markdown.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub about: String,
    /// What is written: a text, in which `$1`, `${2:text}` and `$0` are places to fill in where `snippet` is set.
    pub insert: String,
    /// Whether `insert` holds places to fill in.
    #[serde(default)]
    pub snippet: bool,
    /// The byte range that is replaced.
    pub replace: Range,
}

/// A byte range of a document.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Range {
    /// Where it begins.
    pub start: u32,
    /// Where it ends.
    pub end: u32,
}

impl From<Place> for Range {
    fn from(place: Place) -> Self {
        Range { start: place.start, end: place.end }
    }
}

/// Kinds of suggestions.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "snake_case")]
pub enum Kind {
    /// A key of a mapping.
    Key,
    /// A step, by the key that names its kind.
    Step,
    /// One of the values a key allows.
    Value,
    /// An operation of a service.
    Operation,
    /// A service, workflow, lane, secret or database by its name.
    Reference,
    /// An input or a parameter.
    Input,
    /// A name of the workflow in an expression.
    Name,
    /// A member of a value.
    Member,
    /// A method of a value.
    Method,
    /// A function.
    Function,
}

/// The most suggestions for one place.
const MOST: usize = 400;

/// What can stand at a position of a document, given in bytes; what fits best comes first.
pub fn at(workspace: &Workspace, path: &str, position: usize) -> Vec<Suggestion> {
    let Some(text) = workspace.text(path) else { return Vec::new() };
    let Some(spot) = locate(text, position) else { return Vec::new() };
    let site = Site { workspace, document: path, text, spot: &spot };
    let mut found = match &spot.what {
        What::Key { typed, replace, item, colon } => ranked(keys_of::suggest(&site, *replace, *item, *colon), typed),
        What::Value { at: place, typed } => {
            match expression::at_value(workspace, path, text, &spot, *place, position, None) {
                Some((within, sight)) => return cut(expressions::suggest(&site, &within, &sight)),
                // A word where a mapping belongs is the beginning of a key.
                None if keys::wants_mapping(&spot.root, &spot.path) && !typed.contains(['{', '[', ' ']) => {
                    ranked(keys_of::suggest(&site, *place, false, false), typed)
                }
                None => ranked(values::suggest(&site, *place), typed),
            }
        }
    };
    found.truncate(MOST);
    found
}

/// What can stand at a position of an expression that is being written for a place of the tree; ranges are those of the expression.
pub fn within(workspace: &Workspace, path: &str, at: &[At], expression: &str, position: usize) -> Vec<Suggestion> {
    let Some(text) = workspace.text(path) else { return Vec::new() };
    let Some(root) = read(text) else { return Vec::new() };
    let Some(begins) = nearest(&root, at).map(|node| node.at.start) else { return Vec::new() };
    let (Some(spot), Some(sight)) = (locate(text, begins as usize), expression::sight(workspace, path, begins, None))
    else {
        return Vec::new();
    };
    let site = Site { workspace, document: path, text: expression, spot: &spot };
    let position = floor(expression, position);
    let within = expression::Within {
        text: expression.to_owned(),
        at: position,
        begins: 0,
        script: keys::is_script(&root, at),
        function: false,
    };
    cut(expressions::suggest(&site, &within, &sight))
}

fn cut(mut found: Vec<Suggestion>) -> Vec<Suggestion> {
    found.truncate(MOST);
    found
}

/// Those that begin with what is typed, then those that hold it; all where nothing is typed.
fn ranked(found: Vec<Suggestion>, typed: &str) -> Vec<Suggestion> {
    let typed = typed.to_lowercase();
    let rank = |label: &str| {
        let label = label.to_lowercase();
        if label.starts_with(&typed) {
            Some(0)
        } else if label.split(['.', '-', '_', ' ']).any(|part| part.starts_with(&typed)) {
            Some(1)
        } else {
            label.contains(&typed).then_some(2)
        }
    };
    let mut ranked: Vec<_> = found.into_iter().filter_map(|one| Some((rank(&one.label)?, one))).collect();
    ranked.sort_by_key(|(rank, _)| *rank);
    ranked.into_iter().map(|(_, one)| one).collect()
}

/// Where suggestions are wanted.
struct Site<'s> {
    workspace: &'s Workspace,
    document: &'s str,
    text: &'s str,
    spot: &'s crate::place::Spot,
}

impl Suggestion {
    fn new(kind: Kind, label: impl Into<String>, replace: Place) -> Self {
        let label = label.into();
        let insert = label.clone();
        let replace = replace.into();
        Suggestion { label, kind, detail: String::new(), about: String::new(), insert, snippet: false, replace }
    }

    fn detail(mut self, detail: impl Into<String>) -> Self {
        self.detail = detail.into();
        self
    }

    fn about(mut self, about: impl Into<String>) -> Self {
        self.about = about.into();
        self
    }

    fn insert(mut self, text: impl Into<String>) -> Self {
        self.insert = text.into();
        self
    }

    fn snippet(mut self, text: impl Into<String>) -> Self {
        self.insert = text.into();
        self.snippet = true;
        self
    }
}
