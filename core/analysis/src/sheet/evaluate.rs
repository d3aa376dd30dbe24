//! The value of an expression over sample values, while it is being written.

use std::collections::BTreeMap;

use kanzlei_lang::edit::At;
use kanzlei_lang::expr::template::Template;
use kanzlei_lang::expr::{Expression, Limits};
use kanzlei_model::value::Value;
use serde::{Deserialize, Serialize};
use serde_json::Value as Json;

use super::short;
use super::values::sample;
use crate::expression::{sight, type_of_name};
use crate::place::{nearest, read};
use crate::{Workspace, keys};

/// The value of an expression over samples.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Evaluated {
    /// The value; null where there is none.
    pub value: Json,
    /// Its type, for people.
    #[serde(rename = "type")]
    pub of: String,
    /// Why it has no value.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub fault: String,
    /// The names whose values are made up from their types.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub made_up: Vec<String>,
}

/// Steps of one evaluation; far less than a run may take.
const MOST_WORK: u64 = 500_000;

/// Evaluates a text at a place of the tree: an expression, or a template. Names that `values` does not have are made up from their types.
pub fn evaluate(
    workspace: &Workspace,
    path: &str,
    at: &[At],
    text: &str,
    template: bool,
    values: &BTreeMap<String, Json>,
) -> Option<Evaluated> {
    let root = read(workspace.text(path)?)?;
    let begins = nearest(&root, at)?.at.start;
    let sight = sight(workspace, path, begins, None)?;
    let fault = |faults: Vec<kanzlei_lang::expr::Fault>| {
        let texts = faults.into_iter().map(|fault| match fault.help {
            Some(help) => format!("{}; {help}", fault.message),
            None => fault.message,
        });
        let fault = texts.collect::<Vec<_>>().join("; ");
        Evaluated { value: Json::Null, of: String::new(), fault, made_up: Vec::new() }
    };
    let script = keys::is_script(&root, at);
    let (expression, made) = match template {
        true => match Template::compile(text, &sight.scope) {
            Ok(made) => (None, Some(made)),
            Err(faults) => return Some(fault(faults)),
        },
        false if script => match Expression::script(text, &sight.scope) {
            Ok(script) => (Some(script), None),
            Err(faults) => return Some(fault(faults)),
        },
        false => match Expression::compile(text, &sight.scope) {
            Ok(expression) => (Some(expression), None),
            Err(faults) => return Some(fault(faults)),
        },
    };
    let parts: Vec<&Expression> =
        expression.iter().chain(made.iter().flat_map(|made| made.expressions().iter())).collect();
    let (of, mut findings) = match (&expression, &made) {
        (Some(expression), _) => sight.env.infer(expression),
        (None, Some(made)) => sight.env.template(made),
        (None, None) => return None,
    };
    let mut slots = vec![Value::Undefined; sight.env.slots.len()];
    let mut made_up = Vec::new();
    for name in sight.scope.names() {
        let Some(slot) = sight.scope.slot(name).map(|slot| slot as usize) else { continue };
        if slot >= slots.len() {
            slots.resize(slot + 1, Value::Undefined);
        }
        slots[slot] = match values.get(name) {
            Some(value) => Value::from_json(value),
            None => {
                if parts.iter().any(|part| part.uses().iter().any(|used| used.slot as usize == slot)) {
                    made_up.push(name.to_owned());
                }
                Value::from_json(&sample(workspace, path, name, &type_of_name(&sight, name)))
            }
        };
    }
    let limits = || Limits { work: MOST_WORK, ..Limits::default() };
    let value = match (&expression, &made) {
        (Some(expression), _) => expression.eval(&slots, limits()),
        (None, Some(made)) => made.eval(&slots, limits()),
        (None, None) => return None,
    };
    let (value, fault) = match value {
        Ok(value) => (serde_json::from_str(&value.to_json()).unwrap_or_default(), String::new()),
        Err(failure) => (Json::Null, failure.message),
    };
    let fault = match (fault.is_empty(), findings.is_empty()) {
        (true, false) => findings.remove(0).message,
        _ => fault,
    };
    Some(Evaluated { value, of: short(of.to_string()), fault, made_up })
}
