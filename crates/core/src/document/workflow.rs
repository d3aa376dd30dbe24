//! Documents of kind `workflow`: from the tree of nodes to typed steps with positions.
//!
//! This knows the shape of the language, not its meaning: names in scope, services and expressions are
//! the checker's business ([`crate::check`]). Texts that hold expressions stay nodes.

use std::time::Duration;

use super::keys::{ENDPOINT, LATER, LIMITS, WORKFLOW};
use super::reader::{Members, Named, is_document_name, is_identifier};
use super::step::{Step, steps, valid_name};
use super::yaml::{Kind, Node};
use crate::diagnostic::{Place, Report};
use crate::value::Value;

/// The most steps of one workflow, those inside others included.
pub const MAX_STEPS: usize = 5000;
/// The longest a call may be told to wait for an answer.
pub const MAX_WITHIN: Duration = Duration::from_secs(15 * 60);
/// The longest an endpoint may be told to take.
pub const MAX_TIME: Duration = Duration::from_secs(15 * 60);

#[derive(Clone, Debug)]
pub struct Workflow {
    pub name: Named,
    pub about: String,
    pub input: Vec<Property>,
    /// `extra: allow`: members that are not declared are let in.
    pub extra: bool,
    pub entries: Vec<Endpoint>,
    /// Named arrow functions, in the order they are written; each may use those before it.
    pub functions: Vec<(Named, Node)>,
    /// JSON Schema of reply bodies by status.
    pub replies: Vec<(u16, serde_json::Value, Place)>,
    pub steps: Vec<Step>,
}

/// One declared input.
#[derive(Clone, Debug)]
pub struct Property {
    pub name: Named,
    /// JSON Schema, without the keys that are ours.
    pub schema: serde_json::Value,
    pub default: Option<Value>,
    pub optional: bool,
    pub secret: bool,
    pub at: Place,
}

/// An entry of kind `endpoint`.
#[derive(Clone, Debug)]
pub struct Endpoint {
    pub method: String,
    pub path: String,
    pub at: Place,
    pub from: Vec<(Named, Named)>,
    pub time: Option<Duration>,
    pub body: Option<u64>,
}

pub const METHODS: &[&str] = &["GET", "HEAD", "POST", "PUT", "PATCH", "DELETE"];
pub const FAILURE_KINDS: &[&str] =
    &["unreachable", "timeout", "broken", "unreadable", "too-large", "redirected", "status", "refused", "expression"];

/// Reads a workflow; nothing when the text is no mapping or has no usable name.
pub fn read(root: &Node, report: &mut Report) -> Option<Workflow> {
    let members = Members::new(root, "a workflow", &[WORKFLOW], report)?;
    let name = members.text("workflow", report)?;
    if !is_document_name(&name.text) {
        report.error("bad-name", name.at, format!("`{}` cannot be the name of a workflow", name.text));
        report.help("lower-case letters, digits and hyphens, beginning with a letter: `berth-quote`");
    }
    let about = members.text("about", report).map(|n| n.text).unwrap_or_default();
    let input =
        members.mapping("input", report).into_iter().filter_map(|(name, node)| property(name, node, report)).collect();
    let extra = match members.text("extra", report) {
        None => false,
        Some(extra) if extra.text == "allow" => true,
        Some(extra) => {
            if extra.text != "refuse" {
                report.error("wrong-value", extra.at, "`extra` is `refuse` or `allow`");
            }
            false
        }
    };
    let entries = members.list("entries", report).iter().filter_map(|node| endpoint(node, report)).collect();
    let functions = members.mapping("functions", report).into_iter();
    let functions: Vec<_> =
        functions.filter(|(name, _)| valid_name(name, report)).map(|(name, node)| (name, node.clone())).collect();
    let mut replies = Vec::new();
    for (name, node) in members.mapping("replies", report) {
        match name.text.parse().ok().filter(|status| (200..=599).contains(status)) {
            Some(status) => replies.push((status, node.to_value().to_serde(), node.at)),
            None => {
                report.error("wrong-value", name.at, "replies are listed by status, from 200 to 599");
            }
        }
    }
    let mut count = 0;
    let steps = match members.get("steps") {
        Some(node) => steps(node, "steps", &mut count, report),
        None => {
            report.error("missing-key", name.at, "a workflow needs `steps`");
            Vec::new()
        }
    };
    if count > MAX_STEPS {
        report.error("too-many-steps", name.at, format!("{count} steps; at most {MAX_STEPS} are allowed"));
    }
    Some(Workflow { name, about, input, extra, entries, functions, replies, steps })
}

fn property(name: Named, node: &Node, report: &mut Report) -> Option<Property> {
    if !is_identifier(&name.text) {
        report.error("bad-name", name.at, format!("`{}` cannot be the name of an input", name.text));
        report.help("letters, digits and underscores, so that expressions can use it");
        return None;
    }
    let Value::Object(_) = node.to_value() else {
        report.error("wrong-type", node.at, format!("an input is described by a JSON Schema, not by {}", node.what()));
        report.help("for example `{type: string}`");
        return None;
    };
    let mut schema = node.to_value().to_serde();
    let mut flag = |key: &str, report: &mut Report| match schema.as_object_mut().and_then(|s| s.remove(key)) {
        None => false,
        Some(serde_json::Value::Bool(b)) => b,
        Some(_) => {
            report.error("wrong-type", node.get(key).map_or(node.at, |n| n.at), format!("`{key}` is true or false"));
            false
        }
    };
    let optional = flag("optional", report);
    let secret = flag("secret", report);
    let default = node.get("default").map(Node::to_value);
    Some(Property { name, schema, default, optional, secret, at: node.at })
}

fn endpoint(node: &Node, report: &mut Report) -> Option<Endpoint> {
    if let Some(later) = node.as_map().and_then(|m| m.iter().find(|(key, _)| LATER.contains(&key.name.as_str()))) {
        report.error("not-yet", later.0.at, format!("entries of kind `{}` are not part of this version", later.0.name));
        return None;
    }
    let members = Members::new(node, "an entry", &[ENDPOINT], report)?;
    let Some(target) = members.text("endpoint", report) else {
        if members.get("endpoint").is_none() {
            report.error("missing-key", node.at, "an entry says what it is: `endpoint: POST /path`");
        }
        return None;
    };
    let (method, path) = match target.text.split_once(' ') {
        Some((method, path)) => (method.trim().to_owned(), path.trim().to_owned()),
        None => (String::new(), String::new()),
    };
    if !METHODS.contains(&method.as_str()) || !path.starts_with('/') {
        report.error(
            "wrong-value",
            target.at,
            "an endpoint is a method and a path, such as `POST /harbours/{harbour}/quotes`",
        );
        report.help(format!("methods: {}", METHODS.join(", ")));
        return None;
    }
    if path == "/-" || path.starts_with("/-/") {
        report.error("reserved-path", target.at, "paths below `/-/` belong to the service");
    }
    match members.text("access", report) {
        Some(access) if access.text == "open" => {}
        Some(access) => {
            let known = ["key", "jwt"].contains(&access.text.as_str());
            report.error(
                if known { "not-yet" } else { "wrong-value" },
                access.at,
                if known {
                    format!("`access: {}` is not part of this version", access.text)
                } else {
                    "`access` is `open`".into()
                },
            );
            report.help("until keys exist, say `access: open`: anybody who reaches the service may call");
        }
        None => {
            report.error("missing-key", target.at, "an endpoint says who may call it");
            report.help("add `access: open`");
        }
    }
    let from = members
        .mapping("from", report)
        .into_iter()
        .filter_map(|(name, node)| match node.as_text() {
            Some(text) => Some((name, Named { text: text.to_owned(), at: node.at })),
            None => {
                report.error("wrong-type", node.at, "where an input comes from is text, such as `header.X-Trace-Id`");
                None
            }
        })
        .collect();
    let limits = members.get("limits").and_then(|node| Members::new(node, "limits", &[LIMITS], report));
    let time = limits.as_ref().and_then(|limits| limits.duration("time", MAX_TIME, report));
    let body = limits.as_ref().and_then(|limits| limits.get("body")).and_then(|node| size(node, report));
    Some(Endpoint { method, path, at: target.at, from, time, body })
}

/// A size in bytes: a number, or text such as `64 KiB`. At most 64 MiB.
fn size(node: &Node, report: &mut Report) -> Option<u64> {
    let bytes = match &node.kind {
        Kind::Int(int) => u64::try_from(*int).ok(),
        Kind::Text(text) => {
            let text = text.text.trim();
            let digits = text.trim_end_matches(|c: char| !c.is_ascii_digit());
            let unit = match text[digits.len()..].trim() {
                "B" | "" => Some(1),
                "KiB" => Some(1 << 10),
                "MiB" => Some(1 << 20),
                "kB" => Some(1000),
                "MB" => Some(1_000_000),
                _ => None,
            };
            digits.parse::<u64>().ok().zip(unit).and_then(|(count, unit)| count.checked_mul(unit))
        }
        _ => None,
    };
    let bytes = bytes.filter(|bytes| (1..=64 << 20).contains(bytes));
    if bytes.is_none() {
        report.error("wrong-value", node.at, "a size is a number of bytes or text such as `64 KiB`, at most `64 MiB`");
    }
    bytes
}
