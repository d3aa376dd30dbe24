//! Arms of a `match` step: by value (`arms: {cargo: […]}`), or as a list whose arms have several values or a range:
//!
//! ```yaml
//! - match: input.draught
//!   arms:
//!     - below: 5
//!       steps: [{let: {quay: north}}]
//!     - from: 5
//!       to: 9.5
//!       steps: [{let: {quay: east}}]
//! ```
//!
//! The first arm that fits is taken. A range holds numbers or texts; a value of another kind is in none.

use std::cmp::Ordering;
use std::fmt;

use kanzlei_model::value::Value;

use super::super::keys::ARM;
use super::super::reader::{Members, Named, constant};
use super::super::yaml::{Kind, Node};
use super::{Step, read};
use crate::diagnostic::Report;
use crate::expr::ops;

/// The most values of an arm.
const MOST_VALUES: usize = 1000;

/// An alternative of a `match` step.
#[derive(Clone, Debug)]
pub struct Arm {
    /// The label as written, or what the test of a list's arm says.
    pub label: Named,
    /// What selects it.
    pub test: Test,
    /// The steps, in order.
    pub steps: Vec<Step>,
}

/// What selects an arm.
#[derive(Clone, Debug, PartialEq)]
pub enum Test {
    /// One of some values.
    Values(Vec<Value>),
    /// What lies between bounds, each with whether the bound itself belongs to it.
    Range {
        /// The lower bound.
        low: Option<(Value, bool)>,
        /// The upper bound.
        high: Option<(Value, bool)>,
    },
}

impl Test {
    /// Whether a value fits.
    pub fn fits(&self, value: &Value) -> bool {
        match self {
            Test::Values(values) => values.iter().any(|wanted| ops::strict_equal(wanted, value)),
            Test::Range { low, high } => {
                let inside = |bound: &Option<(Value, bool)>, side: Ordering| match bound {
                    None => true,
                    Some((bound, closed)) => match order(value, bound) {
                        Some(Ordering::Equal) => *closed,
                        found => found == Some(side),
                    },
                };
                inside(low, Ordering::Greater) && inside(high, Ordering::Less)
            }
        }
    }
}

/// The order of two numbers or two texts; nothing for other pairs.
fn order(a: &Value, b: &Value) -> Option<Ordering> {
    match (a.as_text().is_some(), b.as_text().is_some()) {
        (true, true) => ops::compare(a, b),
        (false, false) if is_number(a) && is_number(b) => ops::compare(a, b),
        _ => None,
    }
}

fn is_number(value: &Value) -> bool {
    matches!(value, Value::Int(_) | Value::Num(_))
}

impl fmt::Display for Test {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Test::Values(values) => {
                let texts: Vec<_> = values.iter().map(|value| ops::to_text(value).to_string()).collect();
                out.write_str(&texts.join(", "))
            }
            Test::Range { low, high } => {
                let low = low.as_ref().map(|(value, closed)| (if *closed { "from" } else { "above" }, value));
                let high = high.as_ref().map(|(value, closed)| (if *closed { "to" } else { "below" }, value));
                let words = low.into_iter().chain(high).map(|(word, value)| format!("{word} {}", ops::to_text(value)));
                out.write_str(&words.collect::<Vec<_>>().join(", "))
            }
        }
    }
}

/// Reads the arms of a `match` step.
pub(super) fn arms(node: &Node, count: &mut usize, report: &mut Report) -> Vec<Arm> {
    match &node.kind {
        Kind::Map(members) => members
            .iter()
            .map(|(key, node)| {
                let label = Named { text: key.name.clone(), at: key.at };
                let steps = read::steps(node, &key.name, count, report);
                Arm { label, test: Test::Values(vec![key.value.clone()]), steps }
            })
            .collect(),
        Kind::List(items) => {
            if items.is_empty() {
                report.error("wrong-value", node.at, "`arms` has no arm");
            }
            items.iter().filter_map(|item| arm(item, count, report)).collect()
        }
        _ => {
            report.error("wrong-type", node.at, format!("`arms` is a mapping or a list, not {}", node.what()));
            Vec::new()
        }
    }
}

fn arm(node: &Node, count: &mut usize, report: &mut Report) -> Option<Arm> {
    let members = Members::new(node, "an arm", &[ARM], report)?;
    let steps = match members.get("steps") {
        Some(node) => read::steps(node, "steps", count, report),
        None => {
            report.error("missing-key", members.at, "an arm needs `steps`");
            Vec::new()
        }
    };
    let mut bound = |first: &str, second: &str| {
        if let (Some(_), Some((key, _))) = (members.get(first), members.entry(second)) {
            report.error("wrong-value", key.at, format!("a range has `{first}` or `{second}`, not both"));
        }
        let (name, closed) = if members.get(first).is_some() { (first, true) } else { (second, false) };
        let node = constant(members.get(name)?, report)?;
        let value = node.to_value();
        if !is_number(&value) && value.as_text().is_none() {
            report.error("wrong-type", node.at, format!("`{name}` is a number or text, not {}", node.what()));
            return None;
        }
        Some((value, closed))
    };
    let (low, high) = (bound("from", "above"), bound("to", "below"));
    let ranged = ["from", "above", "to", "below"].iter().find_map(|name| members.entry(name));
    let (at, test) = match (members.entry("in"), ranged) {
        (Some(_), Some((key, _))) => {
            report.error("wrong-value", key.at, "an arm has either `in`, a list of values, or a range");
            return None;
        }
        (Some((key, _)), None) => {
            let mut values = Vec::new();
            for node in members.list("in", report) {
                let Some(node) = constant(node, report) else { continue };
                if matches!(node.kind, Kind::Map(_) | Kind::List(_)) {
                    report.error("wrong-type", node.at, format!("an arm compares single values, not {}", node.what()));
                    continue;
                }
                values.push(node.to_value());
            }
            let count = members.list("in", report).len();
            if count == 0 || count > MOST_VALUES {
                report.error("wrong-value", key.at, format!("`in` has 1 to {MOST_VALUES} values"));
            }
            (key.at, Test::Values(values))
        }
        (None, Some((key, _))) => (key.at, Test::Range { low, high }),
        (None, None) => {
            report.error("missing-key", node.at, "this arm does not say what it is for");
            report.help("`in: [cargo, tanker]`, or a range: `from` or `above`, `to` or `below`");
            return None;
        }
    };
    if let Test::Range { low: Some((low, from)), high: Some((high, to)) } = &test {
        let full = match order(low, high) {
            Some(Ordering::Less) => true,
            Some(Ordering::Equal) => *from && *to,
            _ => false,
        };
        if !full {
            report.error("wrong-value", at, format!("no value is {}", test.to_string().replace(',', " and")));
        }
    }
    Some(Arm { label: Named { text: test.to_string(), at }, test, steps })
}
