//! Documents of kind `cases`: examples of one workflow, with what services answer and what is expected.

use std::sync::Arc;
use std::time::Duration;

use super::change::Operation;
use super::keys::keys;
use super::reader::{KeySpec, Members, Named, free_members};
use super::yaml::{Kind, Node};
use crate::diagnostic::{Place, Report};
use crate::suggest;
use kanzlei_model::caller::Caller;
use kanzlei_model::time::Timestamp;
use kanzlei_model::value::Value;

/// The most cases in one document.
pub const MAX_CASES: usize = 10_000;
/// The longest an answer of a stub may take.
const MAX_TAKES: Duration = Duration::from_secs(366 * 24 * 3600);

/// A cases document.
#[derive(Clone, Debug)]
pub struct Cases {
    /// The workflow that the cases are for.
    pub workflow: Named,
    /// Databases that are real in these cases, each with the text that makes its tables and rows.
    pub databases: Vec<(Named, String)>,
    /// Stubs that all cases have, behind their own.
    pub stubs: Vec<Stub>,
    /// The cases, in order.
    pub cases: Vec<Case>,
}

/// One example with its stubs and expectations.
#[derive(Clone, Debug)]
pub struct Case {
    /// The name of the case.
    pub name: Named,
    /// How the run starts.
    pub entered: Entered,
    /// Microseconds since 1970 UTC.
    pub clock: Timestamp,
    /// Who calls.
    pub caller: Caller,
    /// What the workflow remembers from runs before.
    pub kept: Value,
    /// Files that are in places: place, path, and the file as it is described.
    pub places: Vec<(String, String, Value, Place)>,
    /// Settings that have another value than their default.
    pub settings: Vec<(Named, Value)>,
    /// What services, databases and timetables return.
    pub stubs: Vec<Stub>,
    /// What the run must do.
    pub expect: Expect,
}

/// How the workflow is entered.
#[derive(Clone, Debug)]
pub enum Entered {
    /// An HTTP request to one of the endpoints.
    Request {
        /// HTTP method.
        method: String,
        /// Path and query.
        target: String,
        /// Header fields by name.
        headers: Vec<(String, String)>,
        /// The body.
        body: Option<Value>,
        /// Whether it is a message to a webhook.
        delivered: bool,
        /// Where it stands in the text.
        at: Place,
    },
    /// A changed row of a watched table.
    Change {
        /// The table.
        table: String,
        /// What happened.
        of: Operation,
        /// The row before; null for a new one.
        before: Value,
        /// The row after; null for one that is gone.
        after: Value,
        /// Where it stands in the text.
        at: Place,
    },
    /// The input itself.
    Input(Value, Place),
}

/// The answers of one operation or database.
#[derive(Clone, Debug)]
pub struct Stub {
    /// `registry.getVessel`, `sql.harbour`, or `registry GET /vessels/{imo}` for calls by address.
    pub name: Named,
    /// The answers, one for each time it is asked; the last one repeats.
    pub answers: Vec<StubAnswer>,
}

/// One answer of a stub.
#[derive(Clone, Debug)]
pub struct StubAnswer {
    /// Where it stands in the text.
    pub at: Place,
    /// A bare expression over `request`.
    pub when: Option<Node>,
    /// How often it answers before the next one does; without a bound where it is the last.
    pub times: Option<u32>,
    /// How long it takes on the virtual clock.
    pub takes: Duration,
    /// What it returns.
    pub outcome: StubOutcome,
}

/// What a stub returns.
#[derive(Clone, Debug)]
pub enum StubOutcome {
    /// An HTTP answer.
    Answer {
        /// Status of the answer.
        status: u16,
        /// Header fields of the answer.
        headers: Vec<(String, String)>,
        /// Body of the answer.
        body: Option<Node>,
    },
    /// The result of a statement.
    Rows {
        /// Rows returned.
        rows: Option<Node>,
        /// Number of rows returned or changed.
        count: Option<u64>,
        /// Id made for an inserted row.
        id: Option<i64>,
    },
    /// A kind of failure, with its detail.
    Fails {
        /// Kind of the failure.
        kind: String,
        /// Detail of the failure.
        detail: String,
    },
}

/// What a run must do.
#[derive(Clone, Debug, Default)]
pub struct Expect {
    /// Where it stands in the text.
    pub at: Place,
    /// State in which it must end.
    pub state: Option<Named>,
    /// Members of the failure.
    pub failure: Option<Node>,
    /// The reply.
    pub reply: Option<ExpectReply>,
    /// By number or id of the step.
    pub steps: Vec<(Named, ExpectStep)>,
    /// By name of the stub.
    pub calls: Vec<(Named, ExpectCalls)>,
    /// Jobs queued, by their workflow.
    pub jobs: Vec<(Named, ExpectCalls)>,
    /// Mails that were sent.
    pub mails: Option<ExpectCalls>,
    /// What the workflow keeps at the end.
    pub kept: Option<Node>,
    /// Files in places at the end.
    pub places: Option<Node>,
    /// Milliseconds on the case's clock.
    pub took: Option<Node>,
}

/// What a reply must be.
#[derive(Clone, Debug)]
pub struct ExpectReply {
    /// Where it stands in the text.
    pub at: Place,
    /// Its status.
    pub status: Option<(u16, Place)>,
    /// Header fields it must have.
    pub headers: Vec<(Named, Node)>,
    /// Its body.
    pub body: Option<Node>,
    /// Whether the body has no further members.
    pub exactly: bool,
}

/// What a step must do.
#[derive(Clone, Debug)]
pub struct ExpectStep {
    /// Where it stands in the text.
    pub at: Place,
    /// State in which it must end.
    pub state: Option<Named>,
    /// How often it was performed.
    pub times: Option<usize>,
    /// Number of attempts.
    pub attempts: Option<u32>,
}

/// How often a service must be called.
#[derive(Clone, Debug)]
pub enum ExpectCalls {
    /// Exactly so often.
    Times(usize, Place),
    /// What each request is like, in order.
    Each(Vec<Node>, Place),
}

const ANY: &str = "{}";
const TEXT: &str = r#"{"type":"string"}"#;
const VALUES: &str = r#"{"type":"object"}"#;
const COUNTS: &str = r#"{"type":"object","additionalProperties":{"type":["integer","array"]}}"#;
const STUBS: &str = r##"{"type":"object","additionalProperties":{"oneOf":[{"$ref":"#/$defs/answer"},{"type":"array","items":{"$ref":"#/$defs/answer"}}]},"description":"Answers by `service.operation`, or by `sql.DATABASE`: one, or a list of answers in turn. `callback` is what comes to an address that is waited at; `queue` and `mail` can fail, `cancel` says what became of jobs."}"##;

/// Keys of a cases document.
pub const CASES: &[KeySpec] = keys! {
    "cases", r#"{"type":"string"}"#, "The workflow these are cases of.";
    "about", TEXT, "What they show.";
    "clock", TEXT, "The instant at which each case begins, unless it says its own.";
    "databases", r#"{"type":"object","additionalProperties":{"type":"string"}}"#, "Databases that are real here: by name a file of SQL beside this document. Each case begins with a fresh one; the service lends them.";
    "stubs", STUBS, "Answers for all cases, behind the case's own.";
    "examples", r##"{"type":"array","items":{"$ref":"#/$defs/case"}}"##, "The cases.";
};
/// Keys of a case.
pub const CASE: &[KeySpec] = keys! {
    "name", TEXT, "What the case shows, in a few words.";
    "request", TEXT, "Method and path as a client sends them: `POST /harbours/LIN/quotes?q=1`.";
    "delivery", TEXT, "The path of a webhook, in place of a request: its message arrives there, and counts as proven.";
    "change", TEXT, "A watched table, in place of a request: a row of it changed.";
    "of", r#"{"enum":["insert","update","delete"]}"#, "What happened to the row; by default what `before` and `after` show.";
    "before", VALUES, "The row before the change.";
    "after", VALUES, "The row after the change.";
    "headers", VALUES, "Headers of the request or the message.";
    "body", ANY, "The body of the request or the message, as JSON.";
    "input", VALUES, "The input itself, in place of a request.";
    "clock", TEXT, "The instant at which the case begins.";
    "caller", r##"{"$ref":"#/$defs/caller"}"##, "Who calls: `{key: bridge, owner: Pilots}` or `{name: alda, claims: {scope: quotes}}`; it counts as proven.";
    "kept", VALUES, "What the workflow remembers from before.";
    "places", r#"{"type":"object","additionalProperties":{"type":"object","additionalProperties":{"type":"object"}}}"#, "Files that are in places, by path: `{archive: {crew/7.csv: {text: \"name\"}}}`; `text` or `base64`, with `media` where it matters.";
    "settings", VALUES, "Settings with another value than their default.";
    "stubs", STUBS, "What services and databases answer.";
    "expect", r##"{"$ref":"#/$defs/expect"}"##, "What is expected.";
};
/// Keys of a case's caller.
pub const CALLER: &[KeySpec] = keys! {
    "name", TEXT, "How records call it; default: the name of its key.";
    "key", TEXT, "The name of its key.";
    "owner", TEXT, "Whose key it is.";
    "claims", VALUES, "The claims of its token.";
};
/// Keys of a stub's answer.
pub const ANSWER: &[KeySpec] = keys! {
    "when", r#"{"type":["string","boolean"]}"#, "Answers only where this holds of `request`: its `method`, `path`, `params`, `query`, `headers`, `body`; `statement` and `bind` for SQL.";
    "times", r#"{"type":"integer","minimum":1}"#, "How often it answers before the next one does.";
    "takes", TEXT, "How long the answer takes: `300ms`.";
    "status", r#"{"type":"integer"}"#, "The status; default: 200.";
    "headers", VALUES, "Headers of the answer.";
    "body", ANY, "The body: text as it is, anything else as JSON; texts may hold `${request…}`.";
    "rows", r#"{"type":"array"}"#, "Rows that a statement returns.";
    "count", r#"{"type":"integer"}"#, "Rows a statement changed.";
    "id", r#"{"type":"integer"}"#, "The id made for an inserted row.";
    "fails", TEXT, "In place of an answer: `timeout`, `unreachable`, `broken`, …; for SQL `database`, `timeout`, `duplicate`, `sql`.";
    "detail", TEXT, "The detail of the failure.";
};
/// Keys of `expect`.
pub const EXPECT: &[KeySpec] = keys! {
    "state", r#"{"enum":["succeeded","rejected","failed"]}"#, "How the run ends.";
    "failure", VALUES, "How it failed: `{kind: status, status: 503}`.";
    "reply", r##"{"$ref":"#/$defs/reply"}"##, "`status`, `headers` and `body` of the answer; of objects the members that are named, unless `exactly: true`.";
    "steps", r##"{"type":"object","additionalProperties":{"oneOf":[{"type":"string"},{"$ref":"#/$defs/step"}]}}"##, "Steps by number or id: a state, or `{state, times, attempts}`.";
    "calls", COUNTS, "By operation: how often it was called, or a list of what each request was like.";
    "jobs", COUNTS, "Jobs queued, by workflow: how many, or a list of what each is like: its `input`, `due`, `tag`, `lane`, `priority`.";
    "mails", r#"{"type":["integer","array"]}"#, "Mails sent: how many, or a list of what each is like: its `to`, `cc`, `bcc`, `subject`, `text`, `html`, `attach`.";
    "kept", VALUES, "What the workflow remembers afterwards.";
    "places", VALUES, "Files in places afterwards, by path: `{archive: {crew/7.csv: {text: \"name\"}}}`.";
    "took", ANY, "Milliseconds on the case's clock.";
};
/// Keys of an expected reply.
pub const REPLY: &[KeySpec] = keys! {
    "status", r#"{"type":"integer"}"#, "The status.";
    "headers", VALUES, "Headers.";
    "body", ANY, "The body.";
    "exactly", r#"{"type":"boolean"}"#, "Whether the body has no further members.";
};
/// Keys of an expected step.
pub const STEP: &[KeySpec] = keys! {
    "state", TEXT, "`succeeded`, `skipped`, `caught`, `failed`, `cancelled`, or `untaken`.";
    "times", r#"{"type":"integer"}"#, "How often it was performed.";
    "attempts", r#"{"type":"integer"}"#, "Attempts in all.";
};

/// States that a step can be expected in; `untaken` is one that was never reached.
pub const STEP_STATES: &[&str] = &["succeeded", "skipped", "caught", "failed", "cancelled", "untaken"];
const CALL_FAILURES: &[&str] = &["unreachable", "timeout", "broken", "too-large", "redirected", "blocked-address"];
const QUERY_FAILURES: &[&str] = &["database", "timeout", "duplicate", "sql"];
const QUEUE_FAILURES: &[&str] = &["full", "database"];
const MAIL_FAILURES: &[&str] = &["mail", "refused", "timeout"];

/// The files with SQL that a document of cases names, without reading the rest.
pub fn seed_files(root: &Node) -> Vec<&str> {
    let named = root.get("cases").and_then(|_| root.get("databases")).and_then(Node::as_map).unwrap_or_default();
    named.iter().filter_map(|(_, node)| node.as_text()).collect()
}

/// Reads cases; `file` returns the text of a file named relative to the document.
pub fn read(root: &Node, file: &dyn Fn(&str) -> Option<String>, report: &mut Report) -> Option<Cases> {
    let members = Members::new(root, "a document of cases", &[CASES], report)?;
    let workflow = members.text("cases", report)?;
    let clock = clock(&members, report).unwrap_or(DEFAULT_CLOCK);
    let stubs = stubs(&members, report);
    let mut databases = Vec::new();
    for (name, node) in members.mapping("databases", report) {
        match node.as_text().map(|path| (path, file(path))) {
            Some((_, Some(text))) => databases.push((name, text)),
            Some((path, None)) => {
                report.error("missing-file", node.at, format!("there is no file `{path}` beside this document"));
            }
            None => {
                report.error("wrong-type", node.at, "a database is given by the file with its SQL");
            }
        }
    }
    let mut cases = Vec::new();
    match members.get("examples") {
        None => {
            report.error("missing-key", workflow.at, "cases stand under `examples`");
            report.help("for example `examples: [{name: a ferry, input: {…}, expect: {reply: {status: 200}}}]`");
        }
        Some(_) => {
            for node in members.list("examples", report) {
                cases.extend(case(node, clock, report));
            }
        }
    }
    if cases.len() > MAX_CASES {
        report.error("too-many-cases", workflow.at, format!("{} cases; at most {MAX_CASES}", cases.len()));
    }
    let mut names = std::collections::HashSet::new();
    for case in &cases {
        let case: &Case = case;
        if !names.insert(case.name.text.as_str()) {
            report.error("duplicate-name", case.name.at, format!("there are two cases `{}`", case.name.text));
        }
    }
    Some(Cases { workflow, databases, stubs, cases })
}

/// 2027-01-01T00:00:00Z.
const DEFAULT_CLOCK: Timestamp = Timestamp::from_micros(1_798_761_600_000_000);

fn clock(members: &Members, report: &mut Report) -> Option<Timestamp> {
    let text = members.text("clock", report)?;
    match text.text.parse() {
        Ok(at) => Some(at),
        Err(_) => {
            report.error("wrong-value", text.at, "`clock` is an instant such as `2027-03-04T06:00:00Z`");
            None
        }
    }
}

fn case(node: &Node, clock_of_all: Timestamp, report: &mut Report) -> Option<Case> {
    let members = Members::new(node, "a case", &[CASE], report)?;
    let name = match members.text("name", report) {
        Some(name) if !name.text.trim().is_empty() => name,
        _ => {
            report.error("missing-key", node.at, "a case has a `name`: what it shows, in a few words");
            return None;
        }
    };
    let texts = |name: &str, report: &mut Report| -> Vec<(String, String)> {
        let members = members.mapping(name, report).into_iter();
        members.map(|(name, node)| (name.text, crate::expr::ops::to_text(&node.to_value()).to_string())).collect()
    };
    if let Some(table) = members.text("change", report) {
        return changed(&members, name, table, clock_of_all, report);
    }
    let entered = match (members.text("request", report), members.text("delivery", report), members.get("input")) {
        (Some(sent), None, None) | (None, Some(sent), None) => {
            let delivered = members.get("delivery").is_some();
            let (method, target) = match sent.text.split_once(' ') {
                Some((method, target)) => (method, target.trim()),
                None if delivered => ("POST", sent.text.as_str()),
                None => {
                    report.error("wrong-value", sent.at, "a request is a method and a path: `GET /tides?draught=6`");
                    return None;
                }
            };
            let (method, target) = (method.to_owned(), target.to_owned());
            let body = members.get("body").map(Node::to_value);
            Entered::Request { method, target, headers: texts("headers", report), body, delivered, at: sent.at }
        }
        (None, None, input) => {
            for key in ["headers", "body"] {
                if let Some((key, _)) = members.entry(key) {
                    report.error(
                        "wrong-value",
                        key.at,
                        format!("`{}` belongs to a `request` or a `delivery`", key.name),
                    );
                }
            }
            Entered::Input(input.map_or(Value::object::<&str>([]), Node::to_value), input.map_or(name.at, |n| n.at))
        }
        (_, _, input) => {
            let at = input.map_or(name.at, |input| input.at);
            report.error("wrong-value", at, "a case has either a `request`, a `delivery` or an `input`");
            return None;
        }
    };
    around(&members, name, entered, clock_of_all, report)
}

/// A case that begins with a changed row.
fn changed(members: &Members, name: Named, table: Named, clock_of_all: Timestamp, report: &mut Report) -> Option<Case> {
    for key in ["request", "delivery", "input", "headers", "body", "caller"] {
        if let Some((key, _)) = members.entry(key) {
            report.error("wrong-value", key.at, format!("a changed row has no `{}`", key.name));
        }
    }
    let row = |key: &str| members.get(key).map(Node::to_value);
    let (before, after) = (row("before"), row("after"));
    let shown = match (&before, &after) {
        (None, Some(_)) => Operation::Insert,
        (Some(_), None) => Operation::Delete,
        (Some(_), Some(_)) => Operation::Update,
        (None, None) => {
            report.error("missing-key", table.at, "a changed row has `before`, `after` or both");
            return None;
        }
    };
    let of = match members.text("of", report) {
        None => shown,
        Some(of) if Operation::of_name(&of.text) == Some(shown) => shown,
        Some(of) => {
            let message = format!("`before` and `after` show that this is `{}`", shown.name());
            report.error("wrong-value", of.at, message);
            return None;
        }
    };
    let (before, after) = (before.unwrap_or(Value::Null), after.unwrap_or(Value::Null));
    let entered = Entered::Change { table: table.text, of, before, after, at: table.at };
    around(members, name, entered, clock_of_all, report)
}

/// What all cases have beside how they begin.
fn around(
    members: &Members,
    name: Named,
    entered: Entered,
    clock_of_all: Timestamp,
    report: &mut Report,
) -> Option<Case> {
    let caller = members.get("caller").and_then(|node| caller(node, report)).unwrap_or_default();
    let kept = members.get("kept").map_or(Value::object::<&str>([]), Node::to_value);
    let places = places(members, report);
    let settings =
        members.mapping("settings", report).into_iter().map(|(name, node)| (name, node.to_value())).collect();
    let clock = clock(members, report).unwrap_or(clock_of_all);
    let stubs = stubs(members, report);
    let expect = match members.get("expect") {
        Some(node) => expect(node, report)?,
        None => {
            report.error("missing-key", name.at, "a case says what it expects");
            report.help("for example `expect: {reply: {status: 200}}`");
            return None;
        }
    };
    Some(Case { name, entered, clock, caller, kept, places, settings, stubs, expect })
}

fn places(members: &Members, report: &mut Report) -> Vec<(String, String, Value, Place)> {
    let mut all = Vec::new();
    for (place, node) in members.mapping("places", report) {
        for (path, file) in free_members(node, "a place", report) {
            all.push((place.text.clone(), path.text, file.to_value(), file.at));
        }
    }
    all
}

fn caller(node: &Node, report: &mut Report) -> Option<Caller> {
    let members = Members::new(node, "`caller`", &[CALLER], report)?;
    let mut text = |name: &str| members.text(name, report).map(|named| named.text);
    let (name, key, owner) = (text("name"), text("key"), text("owner"));
    let claims = members.get("claims").map(|node| Arc::new(node.to_value().to_serde()));
    Some(Caller { name: name.or_else(|| key.clone()), key, owner, claims })
}

fn stubs(members: &Members, report: &mut Report) -> Vec<Stub> {
    let mut all = Vec::new();
    for (name, node) in members.mapping("stubs", report) {
        let answers = match &node.kind {
            Kind::List(items) => items.iter().filter_map(|item| answer(item, &name.text, report)).collect(),
            _ => answer(node, &name.text, report).into_iter().collect(),
        };
        all.push(Stub { name, answers });
    }
    all
}

fn answer(node: &Node, name: &str, report: &mut Report) -> Option<StubAnswer> {
    let sql = name.starts_with("sql.");
    let members = Members::new(node, "an answer", &[ANSWER], report)?;
    let misplaced: &[&str] = if sql { &["status", "headers", "body"] } else { &["rows", "count", "id"] };
    for (key, _) in misplaced.iter().filter_map(|name| members.entry(name)) {
        let what = if sql {
            "a statement returns `rows`, `count` and `id`"
        } else {
            "a call returns `status`, `headers` and `body`"
        };
        report.error("wrong-value", key.at, what);
    }
    let outcome = match members.text("fails", report) {
        Some(kind) => {
            let known = match name {
                "queue" => QUEUE_FAILURES,
                "mail" => MAIL_FAILURES,
                _ if sql => QUERY_FAILURES,
                _ => CALL_FAILURES,
            };
            if !known.contains(&kind.text.as_str()) {
                report.error("wrong-value", kind.at, format!("there is no failure `{}` here", kind.text));
                match suggest::nearest(&kind.text, known.iter().copied()) {
                    Some(near) => report.did_you_mean(near),
                    None => report.help(format!("failures: {}; a bad status is `status: 503`", known.join(", "))),
                };
            }
            let detail = members.text("detail", report).map_or("as the case says".to_owned(), |d| d.text);
            StubOutcome::Fails { kind: kind.text, detail }
        }
        None if sql => StubOutcome::Rows {
            rows: members.get("rows").cloned(),
            count: members.integer("count", 0, i64::MAX, report).map(|count| count as u64),
            id: members.integer("id", 0, i64::MAX, report),
        },
        None => StubOutcome::Answer {
            status: members.integer("status", 100, 599, report).unwrap_or(200) as u16,
            headers: members
                .mapping("headers", report)
                .into_iter()
                .map(|(name, node)| (name.text, crate::expr::ops::to_text(&node.to_value()).to_string()))
                .collect(),
            body: members.get("body").cloned(),
        },
    };
    Some(StubAnswer {
        at: node.at,
        when: members.get("when").cloned(),
        times: members.integer("times", 1, 1_000_000, report).map(|times| times as u32),
        takes: members.duration("takes", MAX_TAKES, report).unwrap_or_default(),
        outcome,
    })
}

fn expect(node: &Node, report: &mut Report) -> Option<Expect> {
    let members = Members::new(node, "`expect`", &[EXPECT], report)?;
    if node.as_map().is_some_and(<[_]>::is_empty) {
        report.error("wrong-value", node.at, "nothing is expected here, so the case cannot fail");
    }
    let state = members.text("state", report).filter(|state| {
        let known = ["succeeded", "rejected", "failed"].contains(&state.text.as_str());
        if !known {
            report.error("wrong-value", state.at, "a run ends as `succeeded`, `rejected` or `failed`");
        }
        known
    });
    let reply = members.get("reply").and_then(|node| {
        let inner = Members::new(node, "an expected reply", &[REPLY], report)?;
        let status = inner.get("status").map(|node| node.at);
        Some(ExpectReply {
            at: node.at,
            status: inner.integer("status", 100, 599, report).map(|s| s as u16).zip(status),
            headers: inner.mapping("headers", report).into_iter().map(|(name, node)| (name, node.clone())).collect(),
            body: inner.get("body").cloned(),
            exactly: inner.boolean("exactly", report),
        })
    });
    let mut steps = Vec::new();
    for (name, node) in members.mapping("steps", report) {
        steps.extend(expect_step(node, report).map(|step| (name, step)));
    }
    let made = |key: &str, report: &mut Report| -> Vec<(Named, ExpectCalls)> {
        let found = members.mapping(key, report);
        found.into_iter().filter_map(|(name, node)| Some((name, expect_calls(node, report)?))).collect()
    };
    let (calls, jobs) = (made("calls", report), made("jobs", report));
    let mails = members.get("mails").and_then(|node| expect_calls(node, report));
    for name in ["kept", "places"] {
        if let Some(kept) = members.get(name) {
            free_members(kept, name, report);
        }
    }
    let (failure, kept, took) = (members.get("failure"), members.get("kept"), members.get("took"));
    Some(Expect {
        at: node.at,
        state,
        failure: failure.cloned(),
        reply,
        steps,
        calls,
        jobs,
        mails,
        kept: kept.cloned(),
        places: members.get("places").cloned(),
        took: took.cloned(),
    })
}

fn expect_calls(node: &Node, report: &mut Report) -> Option<ExpectCalls> {
    match &node.kind {
        Kind::Int(times) if *times >= 0 => Some(ExpectCalls::Times(*times as usize, node.at)),
        Kind::List(items) => Some(ExpectCalls::Each(items.clone(), node.at)),
        _ => {
            report.error("wrong-type", node.at, "write how many, or a list of what each was like");
            None
        }
    }
}

fn expect_step(node: &Node, report: &mut Report) -> Option<ExpectStep> {
    let mut known = |state: &Named| {
        let known = STEP_STATES.contains(&state.text.as_str());
        if !known {
            report.error("wrong-value", state.at, format!("steps end as {}", STEP_STATES.join(", ")));
        }
        known
    };
    if let Some(text) = node.as_text() {
        let state = Named { text: text.to_owned(), at: node.at };
        let fits = known(&state);
        return fits.then_some(ExpectStep { at: node.at, state: Some(state), times: None, attempts: None });
    }
    let inner = Members::new(node, "an expected step", &[STEP], report)?;
    Some(ExpectStep {
        at: node.at,
        state: inner.text("state", report),
        times: inner.integer("times", 0, 1_000_000, report).map(|times| times as usize),
        attempts: inner.integer("attempts", 0, 1000, report).map(|attempts| attempts as u32),
    })
}
