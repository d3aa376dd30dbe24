//! Steps by their numbers on the sheet: where each stands in the tree of a workflow's document.
//!
//! ```
//! use kanzlei_lang::edit::{path_text, steps};
//! let text = "workflow: w\nsteps:\n  - if: input.a\n    then:\n      - note: a\n  - reply: 200\n";
//! let found = steps::outline(text).unwrap();
//! let shown: Vec<String> = found.iter().map(|step| format!("{} {}", step.number, path_text(&step.at))).collect();
//! assert_eq!(shown, ["1 steps/0", "1.1 steps/0/then/0", "2 steps/1"]);
//! ```

use super::{At, Error};
use crate::diagnostic::{Place, Report};
use crate::document::keys::STEP_KINDS;
use crate::document::yaml::{self, Kind, Node};
use crate::expr::ops;

/// A step of a document, whether or not it is sound.
#[derive(Clone, Debug, PartialEq)]
pub struct Outlined {
    /// Its number on the sheet.
    pub number: String,
    /// Where it stands in the tree.
    pub at: Vec<At>,
    /// The key that says what it does; empty where none does.
    pub kind: String,
    /// The name of its result.
    pub id: Option<String>,
    /// Its text, from its first key on.
    pub place: Place,
    /// The branch it begins, on its first step: `then`, `else`, an arm, `catch`.
    pub branch: Option<String>,
}

/// The key of the steps that run when a run fails; their numbers follow those of the others.
pub const ON_FAILURE: &str = "on_failure";

/// The steps of a workflow in the order of the sheet.
pub fn outline(text: &str) -> Result<Vec<Outlined>, Error> {
    let mut report = Report::new("", text);
    let root = yaml::parse(&mut report).ok_or_else(|| {
        let why = report.finish().into_iter().next();
        Error::Unreadable(why.map_or_else(String::new, |fault| fault.message))
    })?;
    let mut out = Vec::new();
    let mut next = 0;
    for (key, branch) in [("steps", None), (ON_FAILURE, Some(ON_FAILURE))] {
        if let Some(steps) = root.get(key) {
            list(steps, &[At::Key(key.into())], "", &mut next, branch, &mut out);
        }
    }
    Ok(out)
}

/// The paths to the lists of steps in a step, in the order in which the sheet numbers them.
pub(crate) fn lists(step: &Node) -> Vec<(Vec<At>, String, &Node)> {
    let Some(members) = step.as_map() else { return Vec::new() };
    let kind = kind(step);
    let mut out = Vec::new();
    let of = |name: &str| members.iter().find(|(key, _)| key.name == name).map(|(_, node)| node);
    let mut add = |name: &str| {
        if let Some(node) = of(name) {
            out.push((vec![At::Key(name.to_owned())], name.to_owned(), node));
        }
    };
    match kind {
        "if" => ["then", "else"].into_iter().for_each(&mut add),
        "each" | "await" => add("steps"),
        "call" => add("unless"),
        "match" => {
            let arms = of("arms");
            for (key, node) in arms.and_then(Node::as_map).unwrap_or_default() {
                out.push((vec![At::Key("arms".into()), At::Key(key.name.clone())], key.name.clone(), node));
            }
            for (index, arm) in arms.and_then(Node::as_list).unwrap_or_default().iter().enumerate() {
                if let Some(node) = arm.get("steps") {
                    let at = vec![At::Key("arms".into()), At::Item(index), At::Key("steps".into())];
                    out.push((at, label(arm), node));
                }
            }
            if let Some(node) = of("else") {
                out.push((vec![At::Key("else".into())], "else".into(), node));
            }
        }
        "together" => {
            for (key, node) in of("together").and_then(Node::as_map).unwrap_or_default() {
                out.push((vec![At::Key("together".into()), At::Key(key.name.clone())], key.name.clone(), node));
            }
        }
        _ => {}
    }
    if let Some(node) = of("catch") {
        out.push((vec![At::Key("catch".into())], "catch".into(), node));
    }
    out
}

/// What an arm of a list of arms is for, in its own words: `in cargo, tanker`, `from 5, to 9`.
pub fn label(arm: &Node) -> String {
    let word = |name: &str| match &arm.get(name)?.kind {
        Kind::List(values) => {
            let values: Vec<_> = values.iter().map(|value| ops::to_text(&value.to_value()).to_string()).collect();
            Some(values.join(", "))
        }
        _ => Some(format!("{name} {}", ops::to_text(&arm.get(name)?.to_value()))),
    };
    ["in", "from", "above", "to", "below"].into_iter().filter_map(word).collect::<Vec<_>>().join(", ")
}

/// The key of a step that says what it does.
pub fn kind(step: &Node) -> &'static str {
    let members = step.as_map().unwrap_or_default();
    let named = |name: &str| members.iter().any(|(key, _)| key.name == name);
    let kinds: Vec<_> = STEP_KINDS.iter().filter(|(name, _)| named(name)).collect();
    // `each` also is a key of `enqueue`.
    let beside =
        |name: &str| kinds.iter().any(|(kind, table)| *kind != name && table.iter().any(|spec| spec.name == name));
    kinds.iter().find(|(name, _)| !beside(name)).map_or("", |(name, _)| name)
}

fn list(node: &Node, at: &[At], prefix: &str, next: &mut u32, branch: Option<&str>, out: &mut Vec<Outlined>) {
    match &node.kind {
        Kind::List(items) => {
            for (index, item) in items.iter().enumerate() {
                let at = [at, &[At::Item(index)]].concat();
                step(item, &at, prefix, next, branch.filter(|_| index == 0), out);
            }
        }
        // A branch of `together` may be a single step, and a question is one.
        Kind::Map(_) => step(node, at, prefix, next, branch, out),
        _ => {}
    }
}

fn step(node: &Node, at: &[At], prefix: &str, next: &mut u32, branch: Option<&str>, out: &mut Vec<Outlined>) {
    *next += 1;
    let number = format!("{prefix}{next}");
    out.push(Outlined {
        number: number.clone(),
        at: at.to_vec(),
        kind: kind(node).to_owned(),
        id: node.get("id").and_then(Node::as_text).map(str::to_owned),
        place: node.at,
        branch: branch.map(str::to_owned),
    });
    let mut inside = 0;
    for (path, label, steps) in lists(node) {
        list(steps, &[at, &path].concat(), &format!("{number}."), &mut inside, Some(&label), out);
    }
}
