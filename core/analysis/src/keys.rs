//! What a mapping may hold, by walking the JSON Schema of a kind of document along a path.
//!
//! The schemas are made from the tables that reading uses; this walks them with the values that are there, so that a step that
//! says what it does allows the keys of that kind alone.

use std::collections::BTreeMap;
use std::sync::OnceLock;

use kanzlei_lang::document::yaml::{Kind, Node};
use kanzlei_lang::document::{KINDS, keys, schema};
use kanzlei_lang::edit::At;
use kanzlei_lang::edit::steps::ON_FAILURE;
use serde_json::Value as Json;

use crate::place::{MARK, node};

/// How deep references are followed.
const MOST_DEPTH: u32 = 24;

/// A key that a mapping may hold.
#[derive(Clone, Debug, PartialEq)]
pub(crate) struct KeyAllowed<'s> {
    pub name: &'s str,
    pub about: &'s str,
    pub schema: &'s Json,
}

/// The schema of a kind of document.
fn schema_of(kind: &str) -> Option<&'static Json> {
    static ALL: OnceLock<BTreeMap<&'static str, Json>> = OnceLock::new();
    ALL.get_or_init(|| KINDS.iter().filter_map(|kind| Some((*kind, schema::of(kind)?))).collect()).get(kind)
}

/// The kind of a document by its first key.
pub(crate) fn kind_of(root: &Node) -> Option<&'static str> {
    let (key, _) = root.as_map()?.first()?;
    KINDS.iter().copied().find(|kind| *kind == key.name)
}

/// The schemas that hold at a path of a document, references and conditions resolved.
pub(crate) fn schemas(root: &Node, path: &[At]) -> Vec<&'static Json> {
    let Some(whole) = kind_of(root).and_then(schema_of) else { return Vec::new() };
    let mut found = vec![whole];
    let mut node = Some(root);
    for at in path {
        let mut open = Vec::new();
        found.iter().for_each(|schema| expand(whole, schema, node, 0, &mut open));
        found = open
            .iter()
            .filter_map(|schema| match at {
                At::Item(_) => schema.get("items"),
                At::Key(key) => {
                    let own = schema.get("properties").and_then(|properties| properties.get(key));
                    own.or_else(|| schema.get("additionalProperties").filter(|rest| rest.is_object()))
                }
            })
            .collect();
        node = node.and_then(|node| match (&node.kind, at) {
            (Kind::Map(members), At::Key(key)) => {
                members.iter().find(|(known, _)| known.name == *key).map(|(_, node)| node)
            }
            (Kind::List(items), At::Item(index)) => items.get(*index),
            _ => None,
        });
    }
    let mut open = Vec::new();
    found.iter().for_each(|schema| expand(whole, schema, node, 0, &mut open));
    open
}

/// A schema with all that it refers to and that applies to a value.
fn expand(whole: &'static Json, schema: &'static Json, node: Option<&Node>, depth: u32, out: &mut Vec<&'static Json>) {
    if depth > MOST_DEPTH || !schema.is_object() {
        return;
    }
    out.push(schema);
    let mut inside = |schema: &'static Json| expand(whole, schema, node, depth + 1, out);
    if let Some(target) = schema.get("$ref").and_then(Json::as_str).and_then(|target| target.strip_prefix('#'))
        && let Some(target) = whole.pointer(target)
    {
        inside(target);
    }
    if let Some(condition) = schema.get("if")
        && node.is_some_and(|node| holds(condition, node))
        && let Some(then) = schema.get("then")
    {
        inside(then);
    }
    for all in schema.get("allOf").and_then(Json::as_array).into_iter().flatten() {
        inside(all);
    }
    let alternatives = schema.get("oneOf").and_then(Json::as_array).map(Vec::as_slice).unwrap_or_default();
    let fitting: Vec<&Json> = alternatives.iter().filter(|one| node.is_none_or(|node| may_be(one, node))).collect();
    fitting.into_iter().for_each(inside);
}

/// Whether a mapping has the keys that a condition asks for.
fn holds(condition: &Json, node: &Node) -> bool {
    let has = |names: Option<&Json>| {
        names
            .and_then(Json::as_array)
            .is_none_or(|names| names.iter().filter_map(Json::as_str).all(|n| node.get(n).is_some()))
    };
    let excluded = condition.pointer("/not/anyOf").and_then(Json::as_array);
    has(condition.get("required"))
        && !excluded.into_iter().flatten().any(|one| one.get("required").is_some() && has(one.get("required")))
}

/// Whether a mapping may become one that a schema allows: it knows all keys that are there.
fn may_be(schema: &Json, node: &Node) -> bool {
    match (&node.kind, schema.get("properties").and_then(Json::as_object)) {
        (Kind::Map(members), Some(properties)) => {
            members.iter().all(|(key, _)| key.name == MARK || properties.contains_key(&key.name))
        }
        _ => true,
    }
}

/// The keys that the mapping at a path may hold; schemas that forbid other keys decide, if any do.
pub(crate) fn allowed(root: &Node, path: &[At]) -> Vec<KeyAllowed<'static>> {
    let found = schemas(root, path);
    let closes = |schema: &&&Json| schema.get("additionalProperties") == Some(&Json::Bool(false));
    let closed: Vec<&Json> = found.iter().filter(closes).copied().collect();
    let undecided = closed.is_empty() && found.iter().any(|schema| schema.get("anyOf").is_some());
    let mut out: Vec<KeyAllowed> = Vec::new();
    for schema in if closed.is_empty() { found } else { closed } {
        for (name, schema) in schema.get("properties").and_then(Json::as_object).into_iter().flatten() {
            if !out.iter().any(|known| known.name == *name) {
                let about = schema.get("description").and_then(Json::as_str).unwrap_or_default();
                out.push(KeyAllowed { name, about, schema });
            }
        }
    }
    if undecided {
        // A step that does not say yet what it does.
        out.extend(keys::COMMON.iter().map(|spec| KeyAllowed {
            name: spec.name,
            about: spec.about,
            schema: &Json::Null,
        }));
    }
    out
}

/// What the key at the end of a path means.
pub(crate) fn about(root: &Node, path: &[At]) -> Option<KeyAllowed<'static>> {
    let (At::Key(name), map) = path.split_last()? else { return None };
    allowed(root, map).into_iter().find(|key| key.name == name)
}

/// The values that a schema lists.
pub(crate) fn values(root: &Node, path: &[At]) -> Vec<String> {
    let mut out = Vec::new();
    for schema in schemas(root, path) {
        for key in ["enum", "examples"] {
            for value in schema.get(key).and_then(Json::as_array).into_iter().flatten() {
                out.push(value.as_str().map_or_else(|| value.to_string(), str::to_owned));
            }
        }
        if schema.get("type").and_then(Json::as_str) == Some("boolean") {
            out.extend(["true".to_owned(), "false".to_owned()]);
        }
    }
    out.dedup();
    out
}

/// Whether mappings are wanted at a path, and no scalars.
pub(crate) fn wants_mapping(root: &Node, path: &[At]) -> bool {
    let found = schemas(root, path);
    let scalar = |schema: &&Json| {
        let kind = schema.get("type");
        let named = |kind: &Json| kind.as_str().is_some_and(|kind| kind != "object" && kind != "array");
        schema.get("enum").is_some()
            || kind.is_some_and(|kind| named(kind) || kind.as_array().is_some_and(|kinds| kinds.iter().any(named)))
    };
    found.iter().any(|schema| schema.get("properties").is_some()) && !found.iter().any(scalar)
}

/// Where the innermost step of a path ends, and the path within it; nothing outside steps.
pub(crate) fn step_of<'p>(root: &Node, path: &'p [At]) -> Option<(usize, &'p [At])> {
    let mut step = None;
    let mut node = root;
    let mut index = match (path.first(), path.get(2)) {
        (Some(At::Key(key)), _) if key == "steps" || key == ON_FAILURE => 0,
        // The steps of a group of a library.
        (Some(At::Key(key)), Some(At::Key(steps))) if key == "groups" && steps == "steps" => {
            node = crate::place::node(root, &path[..2])?;
            2
        }
        _ => return None,
    };
    let key = |at: Option<&At>| match at {
        Some(At::Key(key)) => key.as_str().to_owned(),
        _ => String::new(),
    };
    while index < path.len() {
        let list = match key(path.get(index)).as_str() {
            "steps" | "then" | "else" | "catch" | ON_FAILURE => index + 1,
            // A list of arms has the steps of each below a key of their own.
            "arms" if node.get("arms").is_some_and(|arms| arms.as_list().is_some()) => index + 3,
            "arms" | "together" => index + 2,
            "unless" => index + 1,
            _ => break,
        };
        let Some(inner) = crate::place::node(node, &path[index..list.min(path.len())]) else { break };
        node = inner;
        match path.get(list) {
            Some(At::Item(item)) => {
                step = Some(list + 1);
                match &node.kind {
                    Kind::List(items) if *item < items.len() => node = &items[*item],
                    _ => break,
                }
                index = list + 1;
            }
            // A branch of `together` may be one step, and a question is one.
            Some(At::Key(_)) if matches!(key(path.get(index)).as_str(), "together" | "unless") => {
                step = Some(list);
                index = list;
            }
            None if matches!(key(path.get(index)).as_str(), "together" | "unless")
                && list == path.len()
                && node.as_map().is_some() =>
            {
                step = Some(list);
                break;
            }
            _ => break,
        }
    }
    step.map(|end| (end, &path[end..]))
}

/// Whether the value at a path is a bare expression.
pub(crate) fn is_bare(root: &Node, path: &[At]) -> bool {
    let Some(At::Key(key)) = path.last() else { return false };
    match step_of(root, path) {
        Some((_, [_])) => match key.as_str() {
            "from" => node(root, &path[..path.len() - 1]).is_some_and(|step| step.get("sql").is_some()),
            "until" => node(root, &path[..path.len() - 1]).is_some_and(|step| step.get("each").is_some()),
            key => matches!(key, "if" | "when" | "match" | "in" | "done"),
        },
        _ => key == "per" && kind_of(root) == Some("lane"),
    }
}

/// Whether the value at a path is a script.
pub(crate) fn is_script(root: &Node, path: &[At]) -> bool {
    matches!(step_of(root, path), Some((_, [At::Key(key)])) if key == "script")
}

/// Whether the value at a path is a function of a document.
pub(crate) fn is_function(root: &Node, path: &[At]) -> bool {
    matches!(kind_of(root), Some("workflow" | "library"))
        && matches!(path, [At::Key(functions), At::Key(_)] if functions == "functions")
}

/// The key of a step of a path; empty for a position.
pub(crate) fn key_name(at: &At) -> String {
    match at {
        At::Key(key) => key.clone(),
        At::Item(_) => String::new(),
    }
}
