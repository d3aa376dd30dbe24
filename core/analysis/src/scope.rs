//! The names that a step knows, with their types.

use kanzlei_compiler::check::watch::Question;
use kanzlei_lang::edit::steps;
use kanzlei_lang::types::schema;
use serde::{Deserialize, Serialize};

use crate::expression::type_of_name;
use crate::{Workspace, symbols};

/// What a step knows when it begins.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Scope {
    /// The step, by its number.
    pub step: String,
    /// The names, in the order in which they are defined.
    pub names: Vec<Name>,
    /// The functions of the document.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub functions: Vec<String>,
}

/// A name in scope.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Name {
    /// The name.
    pub name: String,
    /// Its type, for people.
    #[serde(rename = "type")]
    pub of: String,
    /// Its type as JSON Schema.
    pub schema: serde_json::Value,
    /// What it comes from.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub origin: String,
}

/// The scope of a step of a workflow; nothing where there is no such step, or the document cannot be read.
pub fn at_step(workspace: &Workspace, path: &str, number: &str) -> Option<Scope> {
    let found = steps::outline(workspace.text(path)?).ok()?;
    let step = found.into_iter().find(|step| step.number == number)?;
    at(workspace, path, step.place.start as usize)
}

/// The scope at a position.
pub fn at(workspace: &Workspace, path: &str, position: usize) -> Option<Scope> {
    let index = workspace.index(path)?;
    let watch = Some((index, position as u32));
    let sight = workspace.examine(None, Question { only: Some(index), watch, mentions: false }).sight?;
    let origins = symbols::Origins::of(workspace, path);
    let mut names: Vec<Name> = Vec::new();
    for name in sight.scope.names() {
        if names.iter().any(|known| known.name == name) {
            continue;
        }
        let of = type_of_name(&sight, name);
        names.push(Name {
            name: name.to_owned(),
            of: of.to_string(),
            schema: schema::write(&of),
            origin: origins.get(name).to_owned(),
        });
    }
    let functions = sight.scope.function_names().map(str::to_owned).collect();
    Some(Scope { step: sight.step.unwrap_or_default(), names, functions })
}
