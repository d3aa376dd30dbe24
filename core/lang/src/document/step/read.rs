//! Reading steps: from nodes to typed steps, with what is wrong about them.

use std::time::Duration;

use super::super::keys::*;
use super::super::proof;
use super::super::reader::{KeySpec, MAX_NAME, Members, Named, is_document_name, is_identifier};
use super::super::retry;
use super::super::values::{MAX_WITHIN, METHODS, status_range};
use super::super::yaml::{Kind, Node};
use super::{
    Action, Await, Branch, Call, Cancel, Each, Encoding, Enqueue, Pause, Sql, Statement, Step, Target, Unless, Wake,
};
use crate::diagnostic::Report;
use crate::suggest;

pub(in crate::document) fn steps(node: &Node, name: &str, count: &mut usize, report: &mut Report) -> Vec<Step> {
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
            let (at, name) = keys.first().map_or((node.at, ""), |(key, _)| (key.at, key.name.as_str()));
            report.error("unknown-step", at, "this step does not say what it does");
            let kinds = STEP_KINDS.iter().map(|(name, _)| *name);
            match suggest::nearest(name, kinds.clone()) {
                Some(near) => report.did_you_mean(near),
                None => report.help(format!("steps: {}", kinds.collect::<Vec<_>>().join(", "))),
            };
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
pub(in crate::document) fn valid_name(name: &Named, report: &mut Report) -> bool {
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
        "call" => {
            let unless = members.get("unless").and_then(|node| unless(node, count, report));
            Action::Call(Box::new(call(members, unless, report)?))
        }
        "let" => {
            let values = members.mapping("let", report);
            if values.is_empty() {
                report.error("wrong-value", members.at, "`let` names at least one value: `let: {dues: …}`");
            }
            let values = values.into_iter().filter(|(name, _)| valid_name(name, report));
            Action::Let(values.map(|(name, node)| (name, node.clone())).collect::<Vec<_>>())
        }
        "script" => Action::Script(required("script")?),
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
        "file" => Action::File(Box::new(super::file::read(members, report)?)),
        "render" => Action::Render(Box::new(super::render::read(members, report)?)),
        "mail" => Action::Mail(Box::new(super::mail::read(members, report)?)),
        "keep" => {
            let values = members.mapping("keep", report).into_iter().filter(|(name, _)| valid_name(name, report));
            Action::Keep(values.map(|(name, node)| (name, node.clone())).collect::<Vec<_>>())
        }
        "pause" => Action::Pause(pause(members, report)?),
        "enqueue" => Action::Enqueue(Box::new(enqueue(members, report)?)),
        "cancel" => Action::Cancel(cancel(members, report)?),
        "await" => Action::Await(Box::new(wait(members, count, report)?)),
        "wake" => Action::Wake(Box::new(wake(members, report)?)),
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
    let arms = match members.get("arms") {
        Some(node) => super::arms::arms(node, count, report),
        None => {
            report.error("missing-key", members.at, "`match` needs `arms`: steps by value");
            Vec::new()
        }
    };
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
    let by = members.get("by").cloned();
    let body = match members.get("steps") {
        Some(node) => steps(node, "steps", count, report),
        // A `wake` step finds it by its key.
        None if by.is_some() => Vec::new(),
        None => {
            report.error("missing-key", members.at, "`await` needs `steps`, or `by` with a key");
            report.help(format!(
                "they pass on the address that is waited for: `send: {{reply_to: \"${{{}.url}}\"}}`",
                name.text
            ));
            Vec::new()
        }
    };
    let schema = members.get("schema").map(|node| (node.to_value().to_serde(), node.at));
    Some(Await { name, steps: body, by, schema, until: members.get("until").cloned() })
}

fn wake(members: &Members, report: &mut Report) -> Option<Wake> {
    let workflow = members.text("wake", report)?;
    let Some(by) = members.get("by").cloned() else {
        report.error("missing-key", members.at, "`wake` needs `by`, the key of the run that waits");
        return None;
    };
    let keeps = members.duration("for", MAX_WAKE, report);
    Some(Wake { workflow, by, body: members.get("body").cloned(), keeps })
}

/// The longest time for which a value is kept for a run that does not wait yet.
const MAX_WAKE: Duration = Duration::from_secs(30 * 86_400);

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
        until: members.get("until").cloned(),
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
        lane: members.get("lane").cloned(),
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
        from: alone("from", several, members, report).then(|| members.get("from").cloned()).flatten(),
        into: match alone("into", several, members, report) {
            true => super::rows::write("into", members, report),
            false => {
                for name in ["columns", "formulas", "name"] {
                    if let Some((key, _)) = members.entry(name) {
                        report.error("wrong-value", key.at, format!("`{name}` goes with `into`, the format of a file"));
                    }
                }
                None
            }
        },
    })
}

/// Whether a key of one statement is there; several statements have none.
fn alone(name: &str, several: bool, members: &Members, report: &mut Report) -> bool {
    let Some((key, _)) = members.entry(name) else { return false };
    if several {
        report.error("wrong-value", key.at, format!("`{name}` goes with one `statement`"));
    }
    !several
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
pub(in crate::document) fn is_header_name(name: &str) -> bool {
    !name.is_empty() && name.bytes().all(|b| b.is_ascii_alphanumeric() || b"!#$%&'*+-.^_`|~".contains(&b))
}

/// The question of a call: a call itself, with a name for its answer and what must hold of it.
fn unless(node: &Node, count: &mut usize, report: &mut Report) -> Option<Box<Unless>> {
    *count += 1;
    let members = Members::new(node, "`unless`", &[UNLESS], report)?;
    let Some((key, _)) = members.entry("call") else {
        report.error("missing-key", node.at, "`unless` needs `call`, the question whether the work is done");
        return None;
    };
    let at = key.at;
    let id = members.text("id", report).filter(|id| valid_name(id, report));
    let done = members.get("done").cloned();
    if let (Some(done), None) = (&done, &id) {
        report.error("missing-key", done.at, "`done` needs `id`, a name for the answer that it reads");
        report.help("for example `id: earlier`, and `done: earlier.body.length > 0`");
        return None;
    }
    let about = members.text("about", report).map(|about| about.text);
    let action = Action::Call(Box::new(call(&members, None, report)?));
    let step = Step { at, begins: node.at.start, id, about, when: None, off: false, catch: Vec::new(), action };
    Some(Box::new(Unless { step, done }))
}

fn call(members: &Members, unless: Option<Box<Unless>>, report: &mut Report) -> Option<Call> {
    let target = members.text("call", report)?;
    let at = target.at;
    let service = members.text("service", report);
    let target = match target.text.split_once(char::is_whitespace) {
        Some((method, template)) if METHODS.contains(&method) => {
            Target::Url { method: method.into(), template: template.trim().into(), service: service.clone(), at }
        }
        Some(_) => {
            report.error("wrong-value", at, "`call` names `service.operation`, or a method and a URI template");
            return None;
        }
        None => match target.text.split_once('.') {
            Some((name, operation)) => {
                if let Some(extra) = &service {
                    report.error("wrong-value", extra.at, format!("`call: {}` names its service already", target.text));
                    report.help("remove `service`; it is for calls by URI template");
                }
                Target::Operation { service: name.into(), operation: operation.into(), at }
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
            report.error(
                "wrong-value",
                name.at,
                "a body is written as `json`, `form`, `form-brackets`, `text` or `multipart`",
            );
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
        safe: members.boolean("safe", report),
        sign: members.get("sign").and_then(|node| proof::signing(node, report)),
        unless,
    })
}
