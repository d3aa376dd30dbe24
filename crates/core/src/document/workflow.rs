//! Documents of kind `workflow`: from the tree of nodes to typed steps with positions.
//!
//! This knows the shape of the language, not its meaning: names in scope, services and expressions are
//! the checker's business ([`crate::check`]). Texts that hold expressions stay nodes.

use std::time::Duration;

use super::reader::{KeySpec, Members, Named, is_document_name, is_identifier};
use super::yaml::{Kind, Node};
use crate::diagnostic::{Place, Report};
use crate::suggest;
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

#[derive(Clone, Debug)]
pub struct Step {
    /// The place of the key that says what the step does.
    pub at: Place,
    /// Where the step begins, in bytes.
    pub begins: u32,
    pub id: Option<Named>,
    pub about: Option<String>,
    pub when: Option<Node>,
    pub off: bool,
    pub rescue: Vec<Step>,
    pub action: Action,
}

#[derive(Clone, Debug)]
pub enum Action {
    Call(Box<Call>),
    Let(Vec<(Named, Node)>),
    If { condition: Node, then: Vec<Step>, otherwise: Vec<Step> },
    Match { subject: Node, arms: Vec<Arm>, otherwise: Vec<Step> },
    Note(Node),
    Reply { status: Node, headers: Vec<(Named, Node)>, body: Option<Node> },
    Fail { status: Node, title: Option<Node>, detail: Option<Node>, problem_type: Option<Node>, with: Option<Node> },
}

#[derive(Clone, Debug)]
pub struct Arm {
    pub label: Named,
    pub value: Value,
    pub steps: Vec<Step>,
}

#[derive(Clone, Debug)]
pub struct Call {
    pub target: Target,
    pub send: Vec<(Named, Node)>,
    pub headers: Vec<(Named, Node)>,
    pub body: Option<Node>,
    /// Accepted status ranges, both ends included; empty for 200 to 299.
    pub accept: Vec<(u16, u16)>,
    pub within: Option<Duration>,
    pub retry: Option<Retry>,
}

#[derive(Clone, Debug)]
pub enum Target {
    Operation { service: String, operation: String, at: Place },
    Url { method: String, template: String, at: Place },
}

/// When and how often a call is tried again.
#[derive(Clone, Debug, PartialEq)]
pub struct Retry {
    /// Attempts in all, the first one included.
    pub times: u32,
    /// Pause before the second attempt.
    pub first: Duration,
    /// By how much each further pause is longer.
    pub factor: f64,
    /// The longest pause.
    pub most: Duration,
    /// What is tried again: kinds of failure and statuses.
    pub on: Vec<RetryOn>,
    pub at: Place,
}

#[derive(Clone, Debug, PartialEq)]
pub enum RetryOn {
    Failure(String),
    Status(u16, u16),
}

const ANY: &str = "{}";
const TEXT: &str = r#"{"type":"string"}"#;
const STEPS: &str = r##"{"$ref":"#/$defs/steps"}"##;
const VALUES: &str = r#"{"type":"object"}"#;
const DURATION: &str = r#"{"type":"string","examples":["200ms","2s","PT48H"]}"#;
const CONDITION: &str = r#"{"type":["string","boolean","number"],"description":"an expression"}"#;

macro_rules! keys {
    ($($name:literal, $schema:expr, $about:literal;)*) => { &[$(KeySpec { name: $name, about: $about, schema: $schema }),*] };
}

pub const WORKFLOW: &[KeySpec] = keys! {
    "workflow", r#"{"type":"string","pattern":"^[a-z][a-z0-9-]*$"}"#, "The name of the workflow.";
    "about", TEXT, "What it is for, in a sentence.";
    "input", r#"{"type":"object","additionalProperties":{"type":"object"}}"#, "What it takes: JSON Schema by name. Required unless it has a `default` or says `optional: true`.";
    "extra", r#"{"enum":["refuse","allow"]}"#, "Whether members that are not declared are let in; `refuse` unless said.";
    "entries", r##"{"type":"array","items":{"$ref":"#/$defs/entry"}}"##, "The ways in.";
    "steps", STEPS, "What it does, top to bottom.";
};

pub const ENDPOINT: &[KeySpec] = keys! {
    "endpoint", r#"{"type":"string","pattern":"^(GET|HEAD|POST|PUT|PATCH|DELETE) /"}"#, "Method and path template: `POST /harbours/{harbour}/quotes`.";
    "access", r#"{"enum":["open"]}"#, "Who may call: `open` for anybody.";
    "from", r#"{"type":"object","additionalProperties":{"type":"string"}}"#, "Where an input comes from, when not by convention: `header.X-Trace-Id`, `query.q`, `body`.";
    "limits", r#"{"type":"object","properties":{"time":{"type":"string"},"body":{"type":["string","integer"]}},"additionalProperties":false}"#, "The longest a request may take and the largest body.";
};

pub const LIMITS: &[KeySpec] = keys! {
    "time", DURATION, "How long a request may take.";
    "body", r#"{"type":["string","integer"]}"#, "The largest body: bytes, or `64 KiB`, `2 MiB`.";
};

pub const COMMON: &[KeySpec] = keys! {
    "id", r#"{"type":"string"}"#, "The name of the step's result.";
    "about", TEXT, "What the step is for.";
    "when", CONDITION, "The step is skipped unless this holds.";
    "off", r#"{"type":"boolean"}"#, "Kept but not run.";
    "rescue", STEPS, "Steps to take when the step fails; `failure` tells how.";
};

pub const CALL: &[KeySpec] = keys! {
    "call", TEXT, "`service.operation`, or a method and a URI template.";
    "send", VALUES, "Parameters and body members of the operation, or variables of the template.";
    "headers", VALUES, "Request headers.";
    "body", ANY, "The whole request body.";
    "accept", r#"{"type":"array","items":{"type":["integer","string"]}}"#, "Statuses that are no failure: `[200, 404]`, `[2xx]`. 2xx unless said.";
    "within", DURATION, "How long one attempt may take; 10s unless said.";
    "retry", r#"{"type":"object"}"#, "When and how often to try again.";
};

pub const RETRY: &[KeySpec] = keys! {
    "times", r#"{"type":"integer","minimum":1,"maximum":20}"#, "Attempts in all.";
    "first", DURATION, "Pause before the second attempt; 200ms unless said.";
    "factor", r#"{"type":"number"}"#, "By how much each further pause is longer; 2 unless said.";
    "most", DURATION, "The longest pause; 10s unless said.";
    "on", r#"{"type":"array"}"#, "What is tried again: `unreachable`, `timeout`, `broken`, statuses.";
};

pub const LET: &[KeySpec] = keys! { "let", VALUES, "Names values."; };
pub const IF: &[KeySpec] = keys! {
    "if", CONDITION, "Which branch is taken.";
    "then", STEPS, "Steps when it holds.";
    "else", STEPS, "Steps when it does not.";
};
pub const MATCH: &[KeySpec] = keys! {
    "match", CONDITION, "What is compared with each arm.";
    "arms", r##"{"type":"object","additionalProperties":{"$ref":"#/$defs/steps"}}"##, "Steps by value.";
    "else", STEPS, "Steps when no arm fits.";
};
pub const NOTE: &[KeySpec] = keys! { "note", ANY, "A line in the journal."; };
pub const REPLY: &[KeySpec] = keys! {
    "reply", r#"{"type":["integer","string"]}"#, "The status of the answer.";
    "headers", VALUES, "Its headers.";
    "body", ANY, "Its body: text, or anything else as JSON.";
};
pub const FAIL: &[KeySpec] = keys! {
    "fail", r#"{"type":["integer","string"]}"#, "The status of the problem (RFC 9457).";
    "title", TEXT, "What kind of problem this is.";
    "detail", TEXT, "What happened this time.";
    "type", TEXT, "A URI for the kind of problem.";
    "with", VALUES, "Further members of the problem.";
};

/// The step kinds: the key that names each, and its table.
pub const STEP_KINDS: &[(&str, &[KeySpec])] =
    &[("call", CALL), ("let", LET), ("if", IF), ("match", MATCH), ("note", NOTE), ("reply", REPLY), ("fail", FAIL)];

/// Step and entry kinds of the language that this version does not run yet.
const LATER: &[&str] = &[
    "each",
    "together",
    "invoke",
    "enqueue",
    "cancel",
    "pause",
    "await",
    "sql",
    "mail",
    "render",
    "file",
    "keep",
    "progress",
    "webhook",
    "timetable",
    "watch",
];

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
    Some(Workflow { name, about, input, extra, entries, steps })
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

fn steps(node: &Node, name: &str, count: &mut usize, report: &mut Report) -> Vec<Step> {
    let Kind::List(items) = &node.kind else {
        report.error("wrong-type", node.at, format!("`{name}` is a list of steps, not {}", node.what()));
        return Vec::new();
    };
    if items.is_empty() {
        report.error("wrong-value", node.at, format!("`{name}` has no steps"));
    }
    items.iter().filter_map(|item| step(item, count, report)).collect()
}

fn step(node: &Node, count: &mut usize, report: &mut Report) -> Option<Step> {
    *count += 1;
    let Some(keys) = node.as_map() else {
        report.error("wrong-type", node.at, format!("a step is a mapping, not {}", node.what()));
        return None;
    };
    let kinds: Vec<_> = keys
        .iter()
        .filter_map(|(key, _)| STEP_KINDS.iter().find(|(name, _)| *name == key.name).map(|kind| (key, kind)))
        .collect();
    let (key, (kind, table)) = match kinds.as_slice() {
        [] => {
            if let Some((key, _)) = keys.iter().find(|(key, _)| LATER.contains(&key.name.as_str())) {
                report.error("not-yet", key.at, format!("steps of kind `{}` are not part of this version", key.name));
            } else {
                let (at, name) = keys.first().map_or((node.at, ""), |(key, _)| (key.at, key.name.as_str()));
                report.error("unknown-step", at, "this step does not say what it does");
                let kinds = STEP_KINDS.iter().map(|(name, _)| *name);
                match suggest::nearest(name, kinds.clone()) {
                    Some(near) => report.help(format!("did you mean `{near}`?")),
                    None => report.help(format!("steps: {}", kinds.collect::<Vec<_>>().join(", "))),
                };
            }
            return None;
        }
        [one] => *one,
        [first, second, ..] => {
            report.error("two-steps", second.0.at, format!("one step is `{}` and `{}`", first.0.name, second.0.name));
            report.help("make them two steps: each begins with its own hyphen");
            return None;
        }
    };
    let members = Members::new(node, &format!("a `{kind}` step"), &[table, COMMON], report)?;
    let id = members.text("id", report).filter(|id| valid_name(id, report));
    let about = members.text("about", report).map(|about| about.text);
    let when = members.get("when").cloned();
    let off = members.boolean("off", report);
    let rescue = members.get("rescue").map(|node| steps(node, "rescue", count, report)).unwrap_or_default();
    let action = action(kind, &members, count, report)?;
    Some(Step { at: key.at, begins: node.at.start, id, about, when, off, rescue, action })
}

/// Whether a step's id or a `let` name can be used in expressions; says why not.
fn valid_name(name: &Named, report: &mut Report) -> bool {
    const TAKEN: &[&str] = &[
        "input",
        "run",
        "failure",
        "kept",
        "undefined",
        "null",
        "true",
        "false",
        "NaN",
        "Infinity",
        "in",
        "typeof",
        "void",
    ];
    if !is_identifier(&name.text) {
        report.error("bad-name", name.at, format!("`{}` cannot be a name in expressions", name.text));
        report.help("letters, digits and underscores, beginning with a letter");
        return false;
    }
    if TAKEN.contains(&name.text.as_str())
        || crate::expr::functions::is_namespace(&name.text)
        || crate::expr::functions::is_callable(&name.text)
    {
        report.error("bad-name", name.at, format!("`{}` already means something in expressions", name.text));
        return false;
    }
    true
}

fn action(kind: &str, members: &Members, count: &mut usize, report: &mut Report) -> Option<Action> {
    let required = |name: &str| members.get(name).cloned();
    let mut branch = |name: &str, report: &mut Report| {
        members.get(name).map(|node| steps(node, name, count, report)).unwrap_or_default()
    };
    Some(match kind {
        "call" => Action::Call(Box::new(call(members, report)?)),
        "let" => {
            let values = members.mapping("let", report);
            if values.is_empty() {
                report.error("wrong-value", members.at, "`let` names at least one value: `let: {dues: …}`");
            }
            let values = values.into_iter().filter(|(name, _)| valid_name(name, report));
            Action::Let(values.map(|(name, node)| (name, node.clone())).collect::<Vec<_>>())
        }
        "if" => {
            if members.get("then").is_none() {
                report.error("missing-key", members.at, "`if` needs `then`");
            }
            Action::If { condition: required("if")?, then: branch("then", report), otherwise: branch("else", report) }
        }
        "match" => {
            let mut arms = Vec::new();
            match members.get("arms").and_then(Node::as_map) {
                Some(found) => {
                    for (key, node) in found {
                        let label = Named { text: key.name.clone(), at: key.at };
                        arms.push(Arm {
                            label,
                            value: key.value.clone(),
                            steps: steps(node, &key.name, count, report),
                        });
                    }
                }
                None => {
                    report.error("missing-key", members.at, "`match` needs `arms`: steps by value");
                }
            }
            let otherwise = members.get("else").map(|node| steps(node, "else", count, report)).unwrap_or_default();
            Action::Match { subject: required("match")?, arms, otherwise }
        }
        "note" => Action::Note(required("note")?),
        "reply" => {
            Action::Reply { status: required("reply")?, headers: headers(members, report), body: required("body") }
        }
        "fail" => Action::Fail {
            status: required("fail")?,
            title: required("title"),
            detail: required("detail"),
            problem_type: required("type"),
            with: required("with"),
        },
        _ => return None,
    })
}

fn headers(members: &Members, report: &mut Report) -> Vec<(Named, Node)> {
    let found = members.mapping("headers", report);
    found
        .into_iter()
        .filter_map(|(name, node)| {
            // RFC 9110 §5.6.2: a field name is a token.
            let token = !name.text.is_empty()
                && name.text.bytes().all(|b| b.is_ascii_alphanumeric() || b"!#$%&'*+-.^_`|~".contains(&b));
            if !token {
                report.error("bad-name", name.at, format!("`{}` cannot be the name of a header", name.text));
            }
            token.then(|| (name, node.clone()))
        })
        .collect()
}

fn call(members: &Members, report: &mut Report) -> Option<Call> {
    let target = members.text("call", report)?;
    let at = target.at;
    let target = match target.text.split_once(char::is_whitespace) {
        Some((method, template)) if METHODS.contains(&method) => {
            Target::Url { method: method.into(), template: template.trim().into(), at }
        }
        Some(_) => {
            report.error("wrong-value", at, "`call` names `service.operation`, or a method and a URI template");
            return None;
        }
        None => match target.text.split_once('.') {
            Some((service, operation)) => {
                Target::Operation { service: service.into(), operation: operation.into(), at }
            }
            None => {
                report.error("wrong-value", at, format!("`{}` names no operation", target.text));
                report.help("write `service.operation`, such as `registry.getVessel`");
                return None;
            }
        },
    };
    let send = members.mapping("send", report).into_iter().map(|(name, node)| (name, node.clone())).collect();
    let accept = members.list("accept", report).iter().filter_map(|node| status_range(node, report)).collect();
    let within = members.duration("within", MAX_WITHIN, report);
    let retry = members.entry("retry").and_then(|(key, node)| retry(key.at, node, report));
    Some(Call {
        target,
        send,
        headers: headers(members, report),
        body: members.get("body").cloned(),
        accept,
        within,
        retry,
    })
}

fn retry(at: Place, node: &Node, report: &mut Report) -> Option<Retry> {
    let members = Members::new(node, "`retry`", &[RETRY], report)?;
    let most_wait = Duration::from_secs(3600);
    let times = members.integer("times", 1, 20, report).unwrap_or(3) as u32;
    let factor = match members.get("factor").map(|node| (&node.kind, node.at)) {
        None => 2.0,
        Some((Kind::Int(int), _)) if (1..=10).contains(int) => *int as f64,
        Some((Kind::Float(factor), _)) if (1.0..=10.0).contains(factor) => *factor,
        Some((_, at)) => {
            report.error("wrong-value", at, "`factor` is a number from 1 to 10");
            2.0
        }
    };
    let on: Vec<RetryOn> = match members.get("on") {
        None => ["unreachable", "timeout", "broken"]
            .into_iter()
            .map(|kind| RetryOn::Failure(kind.into()))
            .chain([429, 502, 503, 504].map(|status| RetryOn::Status(status, status)))
            .collect(),
        Some(_) => members
            .list("on", report)
            .iter()
            .filter_map(|node| match node.as_text() {
                Some(kind) if FAILURE_KINDS.contains(&kind) => Some(RetryOn::Failure(kind.into())),
                Some(text) if !text.ends_with("xx") => {
                    report.error("wrong-value", node.at, format!("there is no failure `{text}`"));
                    match suggest::nearest(text, FAILURE_KINDS.iter().copied()) {
                        Some(near) => report.help(format!("did you mean `{near}`?")),
                        None => report.help(format!("failures: {}", FAILURE_KINDS.join(", "))),
                    };
                    None
                }
                _ => status_range(node, report).map(|(from, to)| RetryOn::Status(from, to)),
            })
            .collect(),
    };
    Some(Retry {
        times,
        first: members.duration("first", most_wait, report).unwrap_or(Duration::from_millis(200)),
        factor,
        most: members.duration("most", most_wait, report).unwrap_or(Duration::from_secs(10)),
        on,
        at,
    })
}

/// A status, or a class of statuses such as `2xx`.
fn status_range(node: &Node, report: &mut Report) -> Option<(u16, u16)> {
    match &node.kind {
        Kind::Int(int) if (100..=599).contains(int) => return Some((*int as u16, *int as u16)),
        Kind::Text(text) => {
            if let Some(class) =
                text.text.strip_suffix("xx").and_then(|c| c.parse::<u16>().ok()).filter(|c| (1..=5).contains(c))
            {
                return Some((class * 100, class * 100 + 99));
            }
        }
        _ => {}
    }
    report.error("wrong-value", node.at, "a status is a number from 100 to 599 or a class such as `2xx`");
    None
}
