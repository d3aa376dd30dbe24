//! What could be chosen for a field: the values in scope, members of objects and first items of lists included, those that fit first.

use kanzlei_compiler::example;
use kanzlei_lang::document::Document;
use kanzlei_lang::document::reader::is_identifier;
use kanzlei_lang::edit::At;
use kanzlei_lang::types::{Type, contradiction, schema};
use serde::{Deserialize, Serialize};
use serde_json::Value as Json;

use super::form::wanted;
use super::short;
use crate::expression::{sight, type_of_name};
use crate::place::{nearest, read};
use crate::{Workspace, keys, symbols};

/// What could be chosen for a field.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Values {
    /// The type that is wanted, for people; empty where anything will do.
    pub wanted: String,
    /// The values, those that fit first.
    pub values: Vec<Choice>,
}

/// A value that could be chosen.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Choice {
    /// The expression that reads it.
    pub expression: String,
    /// The name it begins with, and the members and positions behind it: where the value lies in a sample.
    pub path: Vec<At>,
    /// Its type, for people.
    #[serde(rename = "type")]
    pub of: String,
    /// Why it does not fit; empty where it does.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub why: String,
    /// A value of its type.
    pub example: Json,
    /// What it comes from.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub origin: String,
}

/// How deep objects are opened.
const MOST_DEPTH: usize = 5;
/// The most values that are listed.
const MOST: usize = 300;

/// Finds the values for a field by its place in the tree; its step need not have it yet.
pub fn values(workspace: &Workspace, path: &str, at: &[At]) -> Option<Values> {
    let root = read(workspace.text(path)?)?;
    // What a step knows, or what the field itself does, such as the value of `collect`.
    let begins = nearest(&root, at)?.at.start;
    let sight = sight(workspace, path, begins, None)?;
    let wanted = wanted(workspace, &root, at);
    let label = at.last().map(keys::key_name).unwrap_or_default();
    let origins = symbols::Origins::of(workspace, path);
    let mut found = Found { wanted: &wanted, all: Vec::new() };
    let mut names: Vec<&str> = sight.scope.names().collect();
    names.reverse();
    let mut seen: Vec<&str> = Vec::new();
    for name in names {
        if seen.contains(&name) {
            continue;
        }
        seen.push(name);
        let of = type_of_name(&sight, name);
        let sample = sample(workspace, path, name, &of);
        let path = vec![At::Key(name.to_owned())];
        let reading = Reading { expression: name.to_owned(), path, own: of, chained: false, sample, depth: 0 };
        found.add(&reading, origins.get(name));
    }
    let mut all = found.all;
    // What fits comes first; then what is called like the field; then what was defined last; then what lies less deep.
    let of_the_office = |choice: &Choice| matches!(choice.path.first(), Some(At::Key(name)) if matches!(name.as_str(), "run" | "caller" | "settings" | "kept" | "failure"));
    let last = |choice: &Choice| {
        choice.path.last().map(keys::key_name).filter(|name| choice.path.len() > 1 && !name.is_empty())
    };
    let named = |choice: &Choice| match last(choice) {
        Some(name) if name == label => 0,
        Some(name) if label.len() > 2 && (name.contains(&label) || label.contains(&name)) => 1,
        // A status is seldom what is sent.
        Some(name) if name == "status" => 3,
        _ => 2,
    };
    all.sort_by_key(|(fit, choice)| (*fit, named(choice), of_the_office(choice)));
    all.truncate(MOST);
    let wanted = if wanted == Type::Unknown { String::new() } else { short(wanted.to_string()) };
    Some(Values { wanted, values: all.into_iter().map(|(_, choice)| choice).collect() })
}

/// How well a value fits, the best first.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
enum Fit {
    Exactly,
    Perhaps,
    Not,
}

/// A value of a type, for a name of a workflow: of the input what its schemas show.
pub(super) fn sample(workspace: &Workspace, path: &str, name: &str, of: &Type) -> Json {
    match workspace.document(path) {
        Some(Document::Workflow(workflow)) if name == "input" => {
            let members = workflow.input.iter().map(|input| {
                let value =
                    input.default.as_ref().map(|value| serde_json::from_str(&value.to_json()).unwrap_or_default());
                (input.name.text.clone(), value.unwrap_or_else(|| example::of(&input.schema)))
            });
            Json::Object(members.collect())
        }
        // Of several alternatives the first: answers are listed with the one that is meant to be usual.
        _ => match of.without_nullish().alternatives().first() {
            Some(first) => example::of(&schema::write(first)),
            None => Json::Null,
        },
    }
}

struct Found<'t> {
    wanted: &'t Type,
    all: Vec<(Fit, Choice)>,
}

impl Found<'_> {
    fn add(&mut self, reading: &Reading, origin: &str) {
        if self.all.len() >= 4 * MOST {
            return;
        }
        let Reading { expression, path, own, sample, depth, .. } = reading;
        let of = if reading.chained { own.clone().or(Type::Undefined) } else { own.clone() };
        let wrong = contradiction(&of, self.wanted);
        // A whole object is seldom meant where nothing says what is wanted.
        let whole = *self.wanted == Type::Unknown && matches!(of.without_nullish(), Type::Object(_)) && *depth == 0;
        let why = wrong.map(|(_, why)| why).unwrap_or_default();
        let choice = Choice {
            expression: expression.clone(),
            path: path.clone(),
            of: short(of.to_string()),
            why: short(why),
            example: sample.clone(),
            origin: if *depth == 0 { origin.to_owned() } else { String::new() },
        };
        let fit = match () {
            () if !choice.why.is_empty() || whole => Fit::Not,
            () if of.alternatives().iter().all(|one| self.wanted.alternatives().contains(one)) => Fit::Exactly,
            () => Fit::Perhaps,
        };
        self.all.push((fit, choice));
        if *depth >= MOST_DEPTH {
            return;
        }
        for inner in reading.inside() {
            if !self.all.iter().any(|(_, known)| known.expression == inner.expression) {
                self.add(&inner, origin);
            }
        }
    }
}

/// A value as it is read.
struct Reading {
    expression: String,
    path: Vec<At>,
    /// Its type where all before it is there.
    own: Type,
    /// Whether something before it may be missing, so that the whole is `undefined` then.
    chained: bool,
    sample: Json,
    depth: usize,
}

impl Reading {
    /// The members of an object, and the first item of a list.
    fn inside(&self) -> Vec<Reading> {
        let Reading { expression, path, own, sample, depth, .. } = self;
        // A chain ends at the first part that is missing, so only what may be missing itself is asked.
        let asks = own.may_be_missing();
        let chained = self.chained || asks;
        let mut out = Vec::new();
        for one in own.alternatives() {
            match one {
                Type::Object(shape) => {
                    for member in &shape.members {
                        if *depth == 1 && &*member.name == "headers" {
                            continue;
                        }
                        let name = &member.name;
                        let expression = match (is_identifier(name), asks) {
                            (true, true) => format!("{expression}?.{name}"),
                            (true, false) => format!("{expression}.{name}"),
                            (false, true) => format!("{expression}?.{}", bracketed(name)),
                            (false, false) => format!("{expression}{}", bracketed(name)),
                        };
                        let own = match member.optional {
                            true => member.value.clone().or(Type::Undefined),
                            false => member.value.clone(),
                        };
                        let path = [path.as_slice(), &[At::Key(name.to_string())]].concat();
                        let sample = sample.get(&**name).cloned().unwrap_or_default();
                        out.push(Reading { expression, path, own, chained, sample, depth: depth + 1 });
                    }
                }
                Type::List(items) => {
                    let expression = format!("{expression}{}[0]", if asks { "?." } else { "" });
                    let path = [path.as_slice(), &[At::Item(0)]].concat();
                    let own = items.of.clone().or(Type::Undefined);
                    let sample = sample.get(0).cloned().unwrap_or_default();
                    out.push(Reading { expression, path, own, chained, sample, depth: depth + 1 });
                }
                _ => {}
            }
        }
        out
    }
}

fn bracketed(name: &str) -> String {
    format!("['{}']", name.replace('\\', "\\\\").replace('\'', "\\'"))
}
