//! Steps of a workflow: from nodes to typed steps with positions.

use std::time::Duration;

use super::keys::*;
use super::reader::{KeySpec, MAX_NAME, Members, Named, is_document_name, is_identifier};
use super::retry::{self, Retry};
use super::workflow::{MAX_WITHIN, METHODS};
use super::yaml::{Kind, Node};
use crate::diagnostic::{Place, Report};
use crate::suggest;
use kanzlei_model::value::Value;

/// A step of a workflow.
#[derive(Clone, Debug)]
pub struct Step {
    /// The place of the key that says what the step does.
    pub at: Place,
    /// Where the step begins, in bytes.
    pub begins: u32,
    /// Name by which later steps read its result.
    pub id: Option<Named>,
    /// What it does, in the author's words.
    pub about: Option<String>,
    /// Condition under which it runs.
    pub when: Option<Node>,
    /// Whether the step is switched off.
    pub off: bool,
    /// Steps that run when it fails.
    pub catch: Vec<Step>,
    /// What it does.
    pub action: Action,
}

/// What a step does.
#[derive(Clone, Debug)]
pub enum Action {
    /// Calls a service.
    Call(Box<Call>),
    /// Names values.
    Let(Vec<(Named, Node)>),
    /// Branches on a condition.
    If {
        /// The condition.
        condition: Node,
        /// Steps for a true condition.
        then: Vec<Step>,
        /// Steps for all other cases.
        otherwise: Vec<Step>,
    },
    /// Branches on a value.
    Match {
        /// The value that is compared.
        subject: Node,
        /// The alternatives.
        arms: Vec<Arm>,
        /// Steps for all other cases.
        otherwise: Vec<Step>,
    },
    /// Runs steps for each item of a list.
    Each(Box<Each>),
    /// Runs branches concurrently.
    Together {
        /// The branches.
        branches: Vec<Branch>,
        /// Whether all are finished even when one fails.
        settle: bool,
    },
    /// Runs another workflow.
    Invoke {
        /// The workflow to run.
        workflow: Named,
        /// Input by name.
        send: Vec<(Named, Node)>,
    },
    /// Runs statements in a database.
    Sql(Box<Sql>),
    /// Keeps values for later runs.
    Keep(Vec<(Named, Node)>),
    /// Waits.
    Pause(Pause),
    /// Queues jobs.
    Enqueue(Box<Enqueue>),
    /// Cancels jobs.
    Cancel(Cancel),
    /// Waits for a callback.
    Await(Box<Await>),
    /// Writes a line to the journal.
    Note(Node),
    /// Reports the progress of a job.
    Progress(Node),
    /// Ends the run with a reply.
    Reply {
        /// The HTTP status.
        status: Node,
        /// Header fields by name.
        headers: Vec<(Named, Node)>,
        /// The body.
        body: Option<Node>,
    },
    /// Ends the run with a failure.
    Fail {
        /// The HTTP status.
        status: Node,
        /// Title of the problem.
        title: Option<Node>,
        /// Detail of the problem.
        detail: Option<Node>,
        /// Type of the problem, a URI.
        problem_type: Option<Node>,
        /// Further members of the problem.
        with: Option<Node>,
    },
}

/// An alternative of a `match` step.
#[derive(Clone, Debug)]
pub struct Arm {
    /// The label as written.
    pub label: Named,
    /// The value that selects it.
    pub value: Value,
    /// The steps, in order.
    pub steps: Vec<Step>,
}

/// A loop over a list.
#[derive(Clone, Debug)]
pub struct Each {
    /// Name of the item.
    pub item: Named,
    /// The list.
    pub list: Node,
    /// Name of the position, counted from 0.
    pub position: Option<Named>,
    /// The steps, in order.
    pub steps: Vec<Step>,
    /// Most items that run at the same time.
    pub at_once: u32,
    /// What each item contributes to the result.
    pub collect: Option<Node>,
    /// Whether all are finished even when one fails.
    pub settle: bool,
}

/// One branch of `together`, by the name of its result.
#[derive(Clone, Debug)]
pub struct Branch {
    /// The name of the branch.
    pub name: Named,
    /// The steps, in order.
    pub steps: Vec<Step>,
}

/// A `sql` step.
#[derive(Clone, Debug)]
pub struct Sql {
    /// Name of the database.
    pub database: Named,
    /// The statements, in order.
    pub statements: Vec<Statement>,
    /// Whether they were given as a list: one transaction.
    pub transaction: bool,
    /// Timeout of the statements.
    pub within: Option<Duration>,
    /// Whether a job performs it once, however often it is asked for.
    pub once: bool,
}

/// One statement.
#[derive(Clone, Debug)]
pub struct Statement {
    /// The node of the text, for places in it.
    pub text: Node,
    /// Values by parameter name.
    pub bind: Vec<(Named, Node)>,
}

/// Jobs of another workflow.
#[derive(Clone, Debug)]
pub struct Enqueue {
    /// The workflow to queue.
    pub workflow: Named,
    /// Input by name.
    pub send: Vec<(Named, Node)>,
    /// When the jobs are due.
    pub due: Option<Pause>,
    /// The lane they wait in.
    pub lane: Option<Named>,
    /// The tag to find them by.
    pub tag: Option<Node>,
    /// 1, the highest, to 9.
    pub priority: Option<u8>,
    /// The list and the name of its items.
    pub each: Option<(Node, Named)>,
    /// Span between the due times of two jobs.
    pub spacing: Option<Node>,
}

/// Which jobs a `cancel` step cancels.
#[derive(Clone, Debug)]
pub enum Cancel {
    /// Jobs by id, one or a list.
    Ids(Node),
    /// Jobs by tag.
    Tag(Node),
}

/// Waits for what comes to an address that its steps send out.
#[derive(Clone, Debug)]
pub struct Await {
    /// Name of the callback.
    pub name: Named,
    /// Steps that pass the address on.
    pub steps: Vec<Step>,
    /// How long, or until when, it waits.
    pub until: Option<Node>,
}

impl Step {
    /// The steps inside it, branch by branch, its catch last.
    pub fn inside(&self) -> Vec<&[Step]> {
        let mut out: Vec<&[Step]> = match &self.action {
            Action::If { then, otherwise, .. } => vec![then, otherwise],
            Action::Match { arms, otherwise, .. } => {
                arms.iter().map(|arm| arm.steps.as_slice()).chain([otherwise.as_slice()]).collect()
            }
            Action::Each(each) => vec![&each.steps],
            Action::Together { branches, .. } => branches.iter().map(|branch| branch.steps.as_slice()).collect(),
            Action::Await(wait) => vec![&wait.steps],
            _ => Vec::new(),
        };
        out.push(&self.catch);
        out
    }
}

/// How long a step waits.
#[derive(Clone, Debug)]
pub enum Pause {
    /// For a span.
    For(Node),
    /// Until an instant.
    Until(Node),
}

/// How a body is written.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Encoding {
    /// JSON.
    Json,
    /// `application/x-www-form-urlencoded`.
    Form,
    /// Plain text.
    Text,
    /// `multipart/form-data` (RFC 7578).
    Multipart,
}

impl Encoding {
    /// Names as documents write them.
    pub const NAMES: &[(&str, Encoding)] = &[
        ("json", Encoding::Json),
        ("form", Encoding::Form),
        ("text", Encoding::Text),
        ("multipart", Encoding::Multipart),
    ];
}

/// A `call` step.
#[derive(Clone, Debug)]
pub struct Call {
    /// What it calls.
    pub target: Target,
    /// Input by name.
    pub send: Vec<(Named, Node)>,
    /// Header fields to send.
    pub headers: Vec<(Named, Node)>,
    /// Body to send.
    pub body: Option<Node>,
    /// Encoding of the body.
    pub encoding: Option<Encoding>,
    /// Accepted status ranges, both ends included; empty for 200 to 299.
    pub accept: Vec<(u16, u16)>,
    /// Timeout of each attempt.
    pub within: Option<Duration>,
    /// When failures are retried.
    pub retry: Option<Retry>,
}

/// What a `call` step calls.
#[derive(Clone, Debug)]
pub enum Target {
    /// An operation of a service.
    Operation {
        /// Name of the service.
        service: String,
        /// Id of the operation.
        operation: String,
        /// Where it stands in the text.
        at: Place,
    },
    /// A URL below the base of a service.
    Url {
        /// HTTP method.
        method: String,
        /// Template of the URL.
        template: String,
        /// Where it stands in the text.
        at: Place,
    },
}

pub(super) fn steps(node: &Node, name: &str, count: &mut usize, report: &mut Report) -> Vec<Step> {
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
    // `each` also is a key of `enqueue`: beside a kind whose table has it, a key names no kind.
    let is_key =
        |name: &str| kinds.iter().any(|(_, (kind, table))| *kind != name && table.iter().any(|spec| spec.name == name));
    let kinds: Vec<_> = kinds.iter().filter(|(key, _)| !is_key(&key.name)).copied().collect();
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
    let members = Members::new(node, &format!("the step `{kind}`"), &[table, COMMON], report)?;
    let id = members.text("id", report).filter(|id| valid_name(id, report));
    let about = members.text("about", report).map(|about| about.text);
    let when = members.get("when").cloned();
    let off = members.boolean("off", report);
    let catch = members.get("catch").map(|node| steps(node, "catch", count, report)).unwrap_or_default();
    let action = action(kind, &members, count, report)?;
    Some(Step { at: key.at, begins: node.at.start, id, about, when, off, catch, action })
}

/// Whether a step's id or a `let` name can be used in expressions; says why not.
pub(super) fn valid_name(name: &Named, report: &mut Report) -> bool {
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
        if name.text.chars().count() > MAX_NAME {
            report.help(format!("it has {} characters; at most {MAX_NAME} are allowed", name.text.chars().count()));
        } else {
            report.help("letters, digits and underscores, beginning with a letter");
        }
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
        "match" => choice(members, count, report)?,
        "each" => Action::Each(Box::new(each(members, count, report)?)),
        "together" => together(members, count, report),
        "invoke" => {
            let send = members.mapping("send", report).into_iter().map(|(name, node)| (name, node.clone())).collect();
            Action::Invoke { workflow: members.text("invoke", report)?, send }
        }
        "sql" => Action::Sql(Box::new(sql(members, report)?)),
        "keep" => {
            let values = members.mapping("keep", report).into_iter().filter(|(name, _)| valid_name(name, report));
            Action::Keep(values.map(|(name, node)| (name, node.clone())).collect::<Vec<_>>())
        }
        "pause" => Action::Pause(pause(members, report)?),
        "enqueue" => Action::Enqueue(Box::new(enqueue(members, report)?)),
        "cancel" => Action::Cancel(cancel(members, report)?),
        "await" => Action::Await(Box::new(wait(members, count, report)?)),
        "note" => Action::Note(required("note")?),
        "progress" => Action::Progress(required("progress")?),
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

fn choice(members: &Members, count: &mut usize, report: &mut Report) -> Option<Action> {
    let mut arms = Vec::new();
    match members.get("arms").and_then(Node::as_map) {
        Some(found) => {
            for (key, node) in found {
                let label = Named { text: key.name.clone(), at: key.at };
                arms.push(Arm { label, value: key.value.clone(), steps: steps(node, &key.name, count, report) });
            }
        }
        None => {
            report.error("missing-key", members.at, "`match` needs `arms`: steps by value");
        }
    }
    let otherwise = members.get("else").map(|node| steps(node, "else", count, report)).unwrap_or_default();
    Some(Action::Match { subject: members.get("match").cloned()?, arms, otherwise })
}

fn together(members: &Members, count: &mut usize, report: &mut Report) -> Action {
    let mut branches = Vec::new();
    for (name, node) in members.mapping("together", report) {
        if !valid_name(&name, report) {
            continue;
        }
        let steps = match &node.kind {
            Kind::Map(_) => step(node, count, report).into_iter().collect(),
            _ => steps(node, &name.text, count, report),
        };
        branches.push(Branch { name, steps });
    }
    if branches.len() > MAX_BRANCHES {
        report.error("wrong-value", members.at, format!("at most {MAX_BRANCHES} branches run together"));
    }
    Action::Together { branches, settle: settle(members, report) }
}

fn pause(members: &Members, report: &mut Report) -> Option<Pause> {
    let node = members.get("pause")?;
    Some(match node.as_map() {
        None => Pause::For(node.clone()),
        Some(_) => {
            let inner = Members::new(node, "`pause`", &[UNTIL], report)?;
            let Some(until) = inner.get("until") else {
                report.error("missing-key", node.at, "`pause` is a duration or `{until: instant}`");
                return None;
            };
            Pause::Until(until.clone())
        }
    })
}

fn cancel(members: &Members, report: &mut Report) -> Option<Cancel> {
    let node = members.get("cancel")?;
    Some(match node.as_map() {
        None => Cancel::Ids(node.clone()),
        Some(_) => {
            let inner = Members::new(node, "`cancel`", &[TAG], report)?;
            let Some(tag) = inner.get("tag") else {
                if node.as_map().is_some_and(|members| !members.is_empty()) {
                    return None;
                }
                report.error("missing-key", node.at, "`cancel` is a job's id, a list of ids, or `{tag: …}`");
                return None;
            };
            Cancel::Tag(tag.clone())
        }
    })
}

fn wait(members: &Members, count: &mut usize, report: &mut Report) -> Option<Await> {
    let name = members.text("await", report).filter(|name| valid_name(name, report))?;
    let body = match members.get("steps") {
        Some(node) => steps(node, "steps", count, report),
        None => {
            report.error("missing-key", members.at, "`await` needs `steps`");
            report.help(format!(
                "they pass on the address that is waited for: `send: {{reply_to: \"${{{}.url}}\"}}`",
                name.text
            ));
            Vec::new()
        }
    };
    Some(Await { name, steps: body, until: members.get("until").cloned() })
}

/// The most branches that run together.
pub const MAX_BRANCHES: usize = 64;
/// The most items of a loop that are worked on at once.
pub const MAX_AT_ONCE: i64 = 64;
/// The most statements of one transaction.
pub const MAX_STATEMENTS: usize = 100;

const UNTIL: &[KeySpec] =
    &[KeySpec { name: "until", about: "The instant to wait for, RFC 3339.", schema: r#"{"type":"string"}"# }];

fn settle(members: &Members, report: &mut Report) -> bool {
    match members.text("settle", report) {
        None => false,
        Some(settle) => {
            if settle.text != "all" {
                report.error("wrong-value", settle.at, "`settle` is `all`, or left out: then the first failure counts");
            }
            true
        }
    }
}

fn each(members: &Members, count: &mut usize, report: &mut Report) -> Option<Each> {
    let item = members.text("each", report).filter(|name| valid_name(name, report));
    let position = members.text("position", report).filter(|name| valid_name(name, report));
    let list = members.get("in").cloned();
    if list.is_none() {
        report.error("missing-key", members.at, "`each` needs `in`, the list it goes through");
    }
    let body = match members.get("steps") {
        Some(node) => steps(node, "steps", count, report),
        None => {
            if members.get("collect").is_none() {
                report.error("missing-key", members.at, "`each` needs `steps`");
            }
            Vec::new()
        }
    };
    Some(Each {
        item: item?,
        list: list?,
        position,
        steps: body,
        at_once: members.integer("at_once", 1, MAX_AT_ONCE, report).unwrap_or(1) as u32,
        collect: members.get("collect").cloned(),
        settle: settle(members, report),
    })
}

const TAG: &[KeySpec] = &[KeySpec { name: "tag", about: "The tag of the jobs.", schema: r#"{"type":"string"}"# }];

fn enqueue(members: &Members, report: &mut Report) -> Option<Enqueue> {
    let workflow = members.text("enqueue", report)?;
    let send = members.mapping("send", report).into_iter().map(|(name, node)| (name, node.clone())).collect();
    let due = match (members.get("after"), members.get("at")) {
        (Some(_), Some(at)) => {
            report.error("wrong-value", at.at, "a job is due either `after` a span or `at` an instant");
            None
        }
        (Some(after), None) => Some(Pause::For(after.clone())),
        (None, at) => at.map(|at| Pause::Until(at.clone())),
    };
    let item = members.text("each", report);
    let list = members.get("in");
    let each = list.cloned().zip(item);
    match (members.entry("each"), members.entry("in")) {
        (Some((key, _)), None) => {
            report.error("missing-key", key.at, "`each` needs `in`, the list that has a job for each item");
        }
        (None, Some((key, _))) => {
            report.error("missing-key", key.at, "`in` needs `each`, the name of the item");
        }
        _ => {}
    }
    if let (None, Some((key, _))) = (list, members.entry("spacing")) {
        report.error("wrong-value", key.at, "`spacing` goes with `each` and `in`, the list of items");
    }
    Some(Enqueue {
        workflow,
        send,
        due,
        lane: members.text("lane", report),
        tag: members.get("tag").cloned(),
        priority: members.integer("priority", 1, 9, report).map(|priority| priority as u8),
        each: each.filter(|(_, item)| valid_name(item, report)),
        spacing: members.get("spacing").cloned(),
    })
}

fn sql(members: &Members, report: &mut Report) -> Option<Sql> {
    let database = members.text("sql", report)?;
    if !is_document_name(&database.text) {
        report.error("bad-name", database.at, format!("`{}` cannot be the name of a database", database.text));
    }
    let one = |members: &Members, report: &mut Report| {
        let text = members.get("statement").filter(|node| {
            let fits = node.as_text().is_some();
            if !fits {
                report.error("wrong-type", node.at, format!("`statement` is text, not {}", node.what()));
            }
            fits
        })?;
        let bind = members.mapping("bind", report).into_iter().map(|(name, node)| (name, node.clone())).collect();
        Some(Statement { text: text.clone(), bind })
    };
    let several = members.get("statements").is_some();
    let mut statements = Vec::new();
    if let Some(node) = members.get("statement") {
        if several {
            report.error("wrong-value", node.at, "a step has either `statement` or `statements`");
        }
        statements.extend(one(members, report));
    } else if several {
        if let Some((key, _)) = members.entry("bind") {
            report.error("wrong-value", key.at, "each of several statements has its own `bind`");
        }
        for node in members.list("statements", report) {
            let Some(inner) = Members::new(node, "a statement", &[STATEMENT], report) else { continue };
            if inner.get("statement").is_none() {
                report.error("missing-key", node.at, "write `statement: …` for each of them");
            }
            statements.extend(one(&inner, report));
        }
        if statements.len() > MAX_STATEMENTS {
            report.error("wrong-value", members.at, format!("at most {MAX_STATEMENTS} statements in one transaction"));
        }
    } else {
        report.error("missing-key", members.at, "`sql` needs `statement`, or `statements` for a transaction");
    }
    Some(Sql {
        database,
        statements,
        transaction: several,
        within: members.duration("within", MAX_WITHIN, report),
        once: members.get("once").is_none() || members.boolean("once", report),
    })
}

fn headers(members: &Members, report: &mut Report) -> Vec<(Named, Node)> {
    let found = members.mapping("headers", report);
    found
        .into_iter()
        .filter_map(|(name, node)| {
            let token = is_header_name(&name.text);
            if !token {
                report.error("bad-name", name.at, format!("`{}` cannot be the name of a header", name.text));
            }
            token.then(|| (name, node.clone()))
        })
        .collect()
}

/// RFC 9110 §5.6.2: a field name is a token.
pub(super) fn is_header_name(name: &str) -> bool {
    !name.is_empty() && name.bytes().all(|b| b.is_ascii_alphanumeric() || b"!#$%&'*+-.^_`|~".contains(&b))
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
    let encoding = members.text("as", report).and_then(|name| {
        let found = Encoding::NAMES.iter().find(|(known, _)| *known == name.text).map(|(_, encoding)| *encoding);
        if found.is_none() {
            report.error("wrong-value", name.at, "a body is written as `json`, `form`, `text` or `multipart`");
        }
        found
    });
    let within = members.duration("within", MAX_WITHIN, report);
    let retry = members.entry("retry").and_then(|(key, node)| retry::read(key.at, node, &retry::CALL, report));
    Some(Call {
        target,
        send,
        headers: headers(members, report),
        body: members.get("body").cloned(),
        encoding,
        accept,
        within,
        retry,
    })
}

/// A status, or a class of statuses such as `2xx`.
pub(super) fn status_range(node: &Node, report: &mut Report) -> Option<(u16, u16)> {
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
