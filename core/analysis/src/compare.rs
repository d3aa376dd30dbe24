//! Two texts of a workflow: which steps differ, and what that means for those who call it.
//!
//! Steps are the same where they have the same name, or else do the same thing; so one that moved is not one that went away and another
//! that came. What clients see is compared by types: a change is *breaking* where a request or an answer that was fine may not be any more.

use std::collections::{HashMap, HashSet, VecDeque};

use kanzlei_compiler::plan::{Plan, sheet};
use kanzlei_lang::document::access::Access;
use kanzlei_lang::document::yaml::{Kind, Node};
use kanzlei_lang::edit::steps::{self, Outlined};
use kanzlei_lang::types::{Type, contradiction, schema};
use serde::{Deserialize, Serialize};

use crate::place::{node, read};

/// A step that differs.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct StepChange {
    /// What became of it.
    pub change: Changed,
    /// Its number before; empty for one that is new.
    pub before: String,
    /// Its number now; empty for one that is gone.
    pub after: String,
    /// What it does, on one line.
    pub title: String,
    /// The keys that differ.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub rows: Vec<Row>,
}

/// What became of a step.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "lowercase")]
pub enum Changed {
    /// It is new.
    Added,
    /// It is gone.
    Removed,
    /// Its keys differ.
    Changed,
    /// It stands elsewhere among those around it.
    Moved,
}

/// A key that differs.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Row {
    /// The key.
    pub key: String,
    /// Its value before, on one line; empty for none.
    pub before: String,
    /// Its value now.
    pub after: String,
}

/// A difference that those who call a workflow may see.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct ClientChange {
    /// Whether a request or an answer that was fine may not be any more.
    pub breaking: bool,
    /// What differs, in a sentence.
    pub text: String,
}

/// A step as it is compared.
struct Compared<'n> {
    step: Outlined,
    node: &'n Node,
    title: String,
}

fn compared<'n>(text: &str, root: Option<&'n Node>) -> Vec<Compared<'n>> {
    let Some(root) = root else { return Vec::new() };
    let outline = steps::outline(text).unwrap_or_default();
    let found = outline.into_iter().filter_map(|step| {
        let node = node(root, &step.at)?;
        let behind = node.get(&step.kind).map(sheet::inline).unwrap_or_default();
        let title = format!("{} {behind}", step.kind).trim().to_owned();
        Some(Compared { step, node, title })
    });
    found.collect()
}

/// The steps that differ between two texts, in the order of the new one; those that are gone stand where they stood.
pub fn steps_of(before: &str, after: &str) -> Vec<StepChange> {
    let (old_root, new_root) = (read(before), read(after));
    let (old, new) = (compared(before, old_root.as_ref()), compared(after, new_root.as_ref()));
    let pairs = pairs(&old, &new);
    let mut in_order = vec![false; new.len()];
    longest_rising(&pairs).into_iter().for_each(|at| in_order[at] = true);
    let mut out: Vec<(usize, StepChange)> = Vec::new();
    for (at, step) in new.iter().enumerate() {
        let change = |change, before: &str, rows| StepChange {
            change,
            before: before.to_owned(),
            after: step.step.number.clone(),
            title: step.title.clone(),
            rows,
        };
        match pairs[at] {
            None => out.push((at, change(Changed::Added, "", Vec::new()))),
            Some(from) => {
                let rows = rows(old[from].node, step.node);
                let was = &old[from].step.number;
                if !rows.is_empty() {
                    out.push((at, change(Changed::Changed, was, rows)));
                } else if !in_order[at] {
                    out.push((at, change(Changed::Moved, was, rows)));
                }
            }
        }
    }
    let mut now_at = vec![None; old.len()];
    pairs.iter().enumerate().for_each(|(at, from)| from.iter().for_each(|from| now_at[*from] = Some(at)));
    // Behind the last step before it that is still there.
    let mut behind = 0;
    for (step, now_at) in old.iter().zip(now_at) {
        if let Some(at) = now_at {
            behind = at + 1;
            continue;
        }
        let gone = StepChange {
            change: Changed::Removed,
            before: step.step.number.clone(),
            after: String::new(),
            title: step.title.clone(),
            rows: Vec::new(),
        };
        out.push((behind, gone));
    }
    out.sort_by_key(|(at, change)| (*at, change.change != Changed::Removed));
    out.into_iter().map(|(_, change)| change).collect()
}

/// For each new step the old one that it is: of the same name, else the next one that does the same, else of the same kind where both stand alone.
fn pairs(old: &[Compared], new: &[Compared]) -> Vec<Option<usize>> {
    let mut taken = vec![false; old.len()];
    let mut found: Vec<Option<usize>> = vec![None; new.len()];
    let mut pair = |key: &dyn Fn(&Compared) -> Option<String>| {
        let mut waiting: HashMap<String, VecDeque<usize>> = HashMap::new();
        for (at, step) in old.iter().enumerate().filter(|(at, _)| !taken[*at]) {
            if let Some(key) = key(step) {
                waiting.entry(key).or_default().push_back(at);
            }
        }
        for (at, step) in new.iter().enumerate() {
            if found[at].is_some() {
                continue;
            }
            let next = key(step).and_then(|key| waiting.get_mut(&key).and_then(VecDeque::pop_front));
            if let Some(from) = next {
                found[at] = Some(from);
                taken[from] = true;
            }
        }
    };
    pair(&|step| step.step.id.clone());
    pair(&|step| Some(step.title.clone()).filter(|_| step.step.id.is_none()));
    pair(&|step| Some(step.title.clone()));
    // What is left over and of one kind within one list is the same step with another purpose.
    pair(&|step| {
        let list = step.step.at.split_last().map(|(_, list)| kanzlei_lang::edit::path_text(list)).unwrap_or_default();
        Some(format!("{} {list}", step.step.kind))
    });
    found
}

/// Of the new steps that were there before, those whose order among each other is the old one: the most of them.
fn longest_rising(pairs: &[Option<usize>]) -> Vec<usize> {
    let known: Vec<(usize, usize)> = pairs.iter().enumerate().filter_map(|(at, from)| Some((at, (*from)?))).collect();
    // Patience: the smallest end of a rising row of each length, and from where it was reached.
    let mut ends: Vec<usize> = Vec::new();
    let mut back: Vec<Option<usize>> = vec![None; known.len()];
    for (index, (_, from)) in known.iter().enumerate() {
        let place = ends.partition_point(|end| known[*end].1 < *from);
        back[index] = place.checked_sub(1).map(|before| ends[before]);
        match ends.get_mut(place) {
            Some(end) => *end = index,
            None => ends.push(index),
        }
    }
    let mut row = Vec::new();
    let mut at = ends.last().copied();
    while let Some(index) = at {
        row.push(known[index].0);
        at = back[index];
    }
    row
}

/// The keys of a step that differ, but those that hold other steps.
fn rows(before: &Node, after: &Node) -> Vec<Row> {
    let inner = |name: &str, node: &Node| {
        matches!(name, "then" | "else" | "steps" | "catch" | "arms" | "unless")
            && matches!(node.kind, Kind::List(_) | Kind::Map(_))
            || name == "together"
    };
    let members = |node: &Node| -> Vec<(String, String, String)> {
        let all = node.as_map().unwrap_or_default().iter().filter(|(key, node)| !inner(&key.name, node));
        let mut out = Vec::new();
        all.for_each(|(key, node)| leaves(&key.name, node, &mut out));
        let arms = node.get("arms").and_then(Node::as_list).unwrap_or_default();
        for (index, arm) in arms.iter().enumerate() {
            let tests = arm.as_map().unwrap_or_default().iter().filter(|(key, _)| key.name != "steps");
            tests.for_each(|(key, node)| leaves(&format!("arms.{index}.{}", key.name), node, &mut out));
        }
        out
    };
    let (old, new) = (members(before), members(after));
    let known: HashMap<&str, (&str, &str)> =
        old.iter().map(|(key, json, text)| (key.as_str(), (json.as_str(), text.as_str()))).collect();
    let row =
        |key: &str, before: &str, after: &str| Row { key: key.into(), before: before.into(), after: after.into() };
    let mut out = Vec::new();
    for (key, json, text) in &new {
        match known.get(key.as_str()) {
            Some((was, _)) if was == json => {}
            Some((_, was)) => out.push(row(key, was, text)),
            None => out.push(row(key, "", text)),
        }
    }
    let kept: HashSet<&str> = new.iter().map(|(key, ..)| key.as_str()).collect();
    out.extend(old.iter().filter(|(key, ..)| !kept.contains(key.as_str())).map(|(key, _, was)| row(key, was, "")));
    out
}

/// The values of a mapping and of those in it, each with the keys that lead to it: `send.draught`.
fn leaves(key: &str, node: &Node, out: &mut Vec<(String, String, String)>) {
    match node.as_map() {
        Some(members) if !members.is_empty() => {
            members.iter().for_each(|(inner, node)| leaves(&format!("{key}.{}", inner.name), node, out));
        }
        _ => out.push((key.to_owned(), node.to_value().to_json(), shown(node))),
    }
}

fn shown(node: &Node) -> String {
    match &node.kind {
        Kind::Map(_) | Kind::List(_) => kanzlei_lang::document::yaml::flow(&node.to_value().to_serde()),
        _ => sheet::inline(node),
    }
}

/// What differs for those who call a workflow over HTTP or invoke it.
pub fn clients(before: &Plan, after: &Plan) -> Vec<ClientChange> {
    let mut out = Vec::new();
    let mut say = |breaking: bool, text: String| out.push(ClientChange { breaking, text });
    let ways = |plan: &Plan| -> Vec<String> { plan.endpoints.iter().map(|endpoint| endpoint.label()).collect() };
    let (old, new) = (ways(before), ways(after));
    old.iter().filter(|way| !new.contains(way)).for_each(|way| say(true, format!("`{way}` is no longer there")));
    new.iter().filter(|way| !old.contains(way)).for_each(|way| say(false, format!("`{way}` is new")));
    for endpoint in &after.endpoints {
        let same = |other: &&kanzlei_compiler::plan::Endpoint| other.label() == endpoint.label();
        let Some(before) = before.endpoints.iter().find(same) else { continue };
        let way = format!("`{}`", endpoint.label());
        match (&before.access, &endpoint.access) {
            (was, now) if was == now => {}
            (_, Access::Open) => say(false, format!("{way} is open to anybody now")),
            (Access::Key(_), Access::Key(_)) => say(true, format!("{way} wants its key in another place now")),
            (_, Access::Key(_)) => say(true, format!("{way} wants a key now")),
            (_, Access::Jwt(issuer)) => say(true, format!("{way} wants a token of `{}` now", issuer.text)),
        }
    }
    let declared_in = |plan: &'_ Plan, name: &str| plan.input.properties.iter().find(|p| p.name == name).cloned();
    for declared in &before.input.properties {
        let name = &declared.name;
        let Some(now) = declared_in(after, name) else {
            say(!after.input.extra, format!("the input `{name}` is no longer there"));
            continue;
        };
        let (was, of) = (schema::read(&declared.schema), schema::read(&now.schema));
        if let Some((pointer, why)) = contradiction(&was, &of) {
            say(true, format!("the input `{name}{pointer}` does not accept what it did: {why}"));
        } else if narrower(&declared.schema, &now.schema) {
            say(true, format!("the input `{name}` accepts less than before: {of}"));
        } else if was != of {
            say(false, format!("the input `{name}` is another one: {of}"));
        }
        if now.required && !declared.required {
            say(true, format!("the input `{name}` is required now"));
        }
    }
    for declared in &after.input.properties {
        if declared_in(before, &declared.name).is_none() {
            let needed = if declared.required { "required" } else { "optional" };
            say(declared.required, format!("the input `{}` is new, and {needed}", declared.name));
        }
    }
    replies(before, after, &mut say);
    out
}

/// Whether a schema of an input has rules that the one before had not, or tighter ones.
fn narrower(before: &serde_json::Value, after: &serde_json::Value) -> bool {
    let number = |of: &serde_json::Value, key: &str| of.get(key).and_then(serde_json::Value::as_f64);
    let tighter = |key: &str, least: bool| match (number(before, key), number(after, key)) {
        (None, Some(_)) => true,
        (Some(was), Some(now)) => {
            if least {
                now > was
            } else {
                now < was
            }
        }
        _ => false,
    };
    let enumerated = |of: &serde_json::Value| of.get("enum").and_then(serde_json::Value::as_array).cloned();
    let fewer = match (enumerated(before), enumerated(after)) {
        (None, Some(_)) => true,
        (Some(was), Some(now)) => was.iter().any(|value| !now.contains(value)),
        _ => false,
    };
    let other = |key: &str| after.get(key).is_some() && after.get(key) != before.get(key);
    fewer
        || tighter("minimum", true)
        || tighter("minLength", true)
        || tighter("minItems", true)
        || tighter("maximum", false)
        || tighter("maxLength", false)
        || tighter("maxItems", false)
        || other("pattern")
        || other("format")
        || other("type")
}

fn replies(before: &Plan, after: &Plan, say: &mut dyn FnMut(bool, String)) {
    let by_status = |plan: &Plan| {
        let mut all: Vec<(String, Type)> = Vec::new();
        for reply in &plan.replies {
            let status = reply.status.map_or("any status".to_owned(), |status| status.to_string());
            let of = reply.declared.as_ref().map(schema::read).unwrap_or_else(|| reply.body.clone());
            match all.iter_mut().find(|(known, _)| *known == status) {
                Some((_, known)) => *known = known.clone().or(of),
                None => all.push((status, of)),
            }
        }
        all
    };
    let (old, new) = (by_status(before), by_status(after));
    for (status, was) in &old {
        match new.iter().find(|(known, _)| known == status) {
            None => say(true, format!("{status} is no longer answered")),
            Some((_, of)) if of != was => match missing(was, of, "") {
                Some(what) => say(true, format!("the body of {status} {what}")),
                None => say(false, format!("the body of {status} is {of}")),
            },
            _ => {}
        }
    }
    new.iter().filter(|(status, _)| !old.iter().any(|(known, _)| known == status)).for_each(|(status, _)| {
        say(false, format!("{status} may be answered now"));
    });
}

/// What a client that reads an answer of the old type may miss in one of the new type.
fn missing(was: &Type, of: &Type, pointer: &str) -> Option<String> {
    for one in of.alternatives() {
        let like =
            was.alternatives().iter().find(|known| std::mem::discriminant(*known) == std::mem::discriminant(one));
        match (like, one) {
            (_, Type::Unknown) => {}
            (None, _) if was.alternatives().contains(&Type::Unknown) => {}
            (None, _) => {
                let place = if pointer.is_empty() { String::new() } else { format!(" at `{pointer}`") };
                return Some(format!("may be {} now{place}", one.what()));
            }
            (Some(Type::Object(was)), Type::Object(of)) => {
                for member in &was.members {
                    let at = format!("{pointer}/{}", member.name);
                    match of.get(&member.name) {
                        None if of.rest.is_none() => return Some(format!("no longer has `{at}`")),
                        Some(now) if now.optional && !member.optional => return Some(format!("may lack `{at}` now")),
                        Some(now) => {
                            if let Some(found) = missing(&member.value, &now.value, &at) {
                                return Some(found);
                            }
                        }
                        None => {}
                    }
                }
            }
            (Some(Type::List(was)), Type::List(of)) => {
                if let Some(found) = missing(&was.of, &of.of, &format!("{pointer}/0")) {
                    return Some(found);
                }
            }
            _ => {}
        }
    }
    None
}
