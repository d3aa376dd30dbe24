//! Documents of kind `workflow`: from the tree of nodes to typed steps with positions.
//!
//! This knows the shape of the language, not its meaning: names in scope, services and expressions are
//! the checker's business ([`kanzlei_compiler::check`]). Texts that hold expressions stay nodes.

use std::time::Duration;

use super::access::{self, Access};
use super::address::{self, Address};
use super::change::{self, Watch};
use super::file;
use super::keys::{ENDPOINT, EVERY, LIMITS, NOTIFY, QUEUE, TIMETABLE, WORKFLOW};
use super::library::{NamedType, Use};
use super::reader::{MAX_NAME, Members, Named, constant, is_document_name, is_identifier};
use super::retry::{self, Retry};
use super::step::{Step, steps, valid_name};
use super::values::METHODS;
use super::web::{self, Web};
use super::webhook::{self, Webhook};
use super::yaml::{Kind, Node};
use crate::calendar::{self, Calendar};
use crate::diagnostic::{Place, Report};
use crate::types::schema::FILE as MARK;
use kanzlei_model::value::Value;

/// The most steps of one workflow, those inside others included.
pub const MAX_STEPS: usize = 5000;
/// The most tags of a workflow.
const MOST_TAGS: usize = 20;
/// The shortest and the longest interval of an `every` timetable.
const LEAST_EVERY: Duration = Duration::from_secs(1);
const MAX_EVERY: Duration = Duration::from_secs(366 * 86_400);
/// The longest that results of jobs are kept.
const MAX_RESULTS: Duration = Duration::from_secs(366 * 86_400);
/// The longest time that an endpoint may be given.
pub const MAX_TIME: Duration = Duration::from_secs(15 * 60);
/// The largest body that is read into memory, in bytes.
pub const MOST_BODY: u64 = 64 << 20;

/// A workflow document.
#[derive(Clone, Debug)]
pub struct Workflow {
    /// The name of the workflow.
    pub name: Named,
    /// What it does, in the author's words.
    pub about: String,
    /// What it belongs to.
    pub tags: Vec<String>,
    /// Declared inputs.
    pub input: Vec<Property>,
    /// `extra: allow`: members that are not declared are let in.
    pub extra: bool,
    /// Endpoints.
    pub entries: Vec<Endpoint>,
    /// Webhooks.
    pub webhooks: Vec<Webhook>,
    /// Tables whose rows are watched.
    pub watches: Vec<Watch>,
    /// Timetables.
    pub timetables: Vec<Timetable>,
    /// How its jobs are queued.
    pub queue: Queue,
    /// Named arrow functions, in the order they are written; each may use those before it.
    pub functions: Vec<(Named, Node)>,
    /// JSON Schema of reply bodies by status.
    pub replies: Vec<(u16, serde_json::Value, Place)>,
    /// The steps, in order.
    pub steps: Vec<Step>,
    /// Steps that run when one of them fails and nothing catches it.
    pub on_failure: Vec<Step>,
    /// The libraries that it uses.
    pub uses: Vec<Use>,
    /// JSON Schemas by name.
    pub types: Vec<NamedType>,
}

impl Workflow {
    /// A workflow that does nothing yet.
    pub(super) fn named(name: Named) -> Self {
        Workflow {
            name,
            about: String::new(),
            tags: Vec::new(),
            input: Vec::new(),
            extra: false,
            entries: Vec::new(),
            webhooks: Vec::new(),
            watches: Vec::new(),
            timetables: Vec::new(),
            queue: Queue::default(),
            functions: Vec::new(),
            replies: Vec::new(),
            steps: Vec::new(),
            on_failure: Vec::new(),
            uses: Vec::new(),
            types: Vec::new(),
        }
    }

    /// Its lists of steps: those that do the work, and those that run when it fails.
    pub fn lists(&self) -> impl Iterator<Item = &[Step]> {
        [self.steps.as_slice(), self.on_failure.as_slice()].into_iter()
    }
}

/// One declared input.
#[derive(Clone, Debug)]
pub struct Property {
    /// The name of the input.
    pub name: Named,
    /// JSON Schema, without the keys that are ours.
    pub schema: serde_json::Value,
    /// Value when it is missing.
    pub default: Option<Value>,
    /// Whether it may be missing.
    pub optional: bool,
    /// Whether its value is confidential.
    pub secret: bool,
    /// Where it stands in the text.
    pub at: Place,
}

/// An entry of kind `endpoint`.
#[derive(Clone, Debug)]
pub struct Endpoint {
    /// HTTP method.
    pub method: String,
    /// Host and whole path template.
    pub address: Address,
    /// Where it stands in the text.
    pub at: Place,
    /// Who may call.
    pub access: Access,
    /// What must hold of the caller.
    pub needs: Option<Node>,
    /// How much each caller may ask for.
    pub allowance: Option<Named>,
    /// Where inputs come from, where not from their default place.
    pub from: Vec<(Named, Named)>,
    /// When it answers.
    pub answer: Answer,
    /// How long a request may take.
    pub time: Option<Duration>,
    /// Most bytes of a request body.
    pub body: Option<u64>,
    /// How many of its runs there may be at once over all processes, and what becomes of others.
    pub at_once: Option<(u32, Beyond)>,
    /// What it declares for browsers, caches and the time after it.
    pub web: Web,
}

/// What becomes of a request beyond the runs that may be at once.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Beyond {
    /// It is refused.
    #[default]
    Refuse,
    /// It waits, within its time.
    Wait,
}

/// When a client has its answer.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Answer {
    /// With the reply of the run.
    #[default]
    Now,
    /// At once, with the address of a job.
    Later,
    /// As the client prefers (RFC 7240).
    Either,
}

impl Answer {
    /// Names as documents write them.
    pub const NAMES: &[(&str, Answer)] = &[("now", Answer::Now), ("later", Answer::Later), ("either", Answer::Either)];
}

/// An entry of kind `timetable`.
#[derive(Clone, Debug)]
pub struct Timetable {
    /// Where it stands in the text.
    pub at: Place,
    /// When it is due.
    pub calendar: Calendar,
    /// What happens to due times that were missed.
    pub missed: Missed,
    /// What happens when the previous job has not ended.
    pub overlap: Overlap,
    /// Input of the jobs.
    pub send: Vec<(Named, Node)>,
}

/// What becomes of due times that passed while nothing ran.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Missed {
    /// They are left out.
    #[default]
    Skip,
    /// One job is queued for all of them.
    Once,
    /// A job is queued for each of them.
    All,
}

/// What becomes of a due time at which the job before has not ended.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Overlap {
    /// Both run.
    #[default]
    Allow,
    /// The due time is left out.
    Skip,
    /// The job waits for the previous one.
    Wait,
}

/// How a workflow runs as a job.
#[derive(Clone, Debug, Default)]
pub struct Queue {
    /// Lane of the jobs.
    pub lane: Option<Node>,
    /// 1, the highest, to 9.
    pub priority: Option<u8>,
    /// Tag to find the jobs by.
    pub tag: Option<Node>,
    /// When failed jobs are retried.
    pub retry: Option<Retry>,
    /// How long results are kept.
    pub results: Option<Duration>,
    /// Who is notified at the end.
    pub notify: Option<Notify>,
}

/// Who is notified that a job has ended.
#[derive(Clone, Debug)]
pub struct Notify {
    /// Address that receives the notice.
    pub to: Node,
    /// Secret that signs it.
    pub secret: Named,
    /// Whether the address may be private.
    pub private: bool,
}

/// Reads a workflow; nothing when the text is no mapping or has no usable name.
pub fn read(root: &Node, report: &mut Report) -> Option<Workflow> {
    let members = Members::new(root, "a workflow", &[WORKFLOW], report)?;
    let name = members.text("workflow", report)?;
    if !is_document_name(&name.text) {
        report.error("bad-name", name.at, format!("`{}` cannot be the name of a workflow", name.text));
        report.help("lower-case letters, digits and hyphens, beginning with a letter: `berth-quote`");
    }
    let about = members.text("about", report).map(|n| n.text).unwrap_or_default();
    let input = members
        .mapping("input", report)
        .into_iter()
        .filter_map(|(name, node)| property("an input", name, node, report))
        .collect();
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
    let (mut entries, mut webhooks, mut timetables) = (Vec::new(), Vec::new(), Vec::new());
    let mut watches = Vec::new();
    for node in members.list("entries", report) {
        let has = |name: &str| node.as_map().is_some_and(|members| members.iter().any(|(key, _)| key.name == name));
        if has("timetable") || has("every") {
            timetables.extend(timetable(node, report));
        } else if has("webhook") {
            webhooks.extend(webhook::read(node, report));
        } else if has("change") {
            watches.extend(change::read(node, report));
        } else {
            entries.extend(endpoint(node, report));
        }
    }
    let queue = members.get("queue").map(|node| queue(node, report)).unwrap_or_default();
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
    let on_failure = match members.get("on_failure") {
        Some(node) => self::steps(node, "on_failure", &mut count, report),
        None => Vec::new(),
    };
    if count > MAX_STEPS {
        report.error("too-many-steps", name.at, format!("{count} steps; at most {MAX_STEPS} are allowed"));
    }
    let tags = tags(&members, report);
    Some(Workflow {
        name,
        about,
        tags,
        input,
        extra,
        entries,
        webhooks,
        watches,
        timetables,
        queue,
        functions,
        replies,
        steps,
        on_failure,
        uses: super::library::uses(&members, report),
        types: super::library::types(&members, report),
    })
}

/// What a workflow belongs to.
fn tags(members: &Members, report: &mut Report) -> Vec<String> {
    let nodes = members.list("tags", report);
    if let Some(node) = nodes.get(MOST_TAGS) {
        report.error("wrong-value", node.at, format!("a workflow has at most {MOST_TAGS} tags"));
    }
    let mut tags: Vec<String> = Vec::with_capacity(nodes.len());
    for node in nodes {
        match node.as_text().filter(|text| is_document_name(text)) {
            Some(tag) if tags.iter().all(|known| known != tag) => tags.push(tag.to_owned()),
            Some(_) => {}
            None => {
                report.error("bad-name", node.at, "this cannot be a tag");
                report.help("lower-case letters, digits and hyphens, beginning with a letter: `partners`");
            }
        }
    }
    tags
}

/// Reads what is declared by a name and a JSON Schema; `what` is what messages call it.
pub(super) fn property(what: &str, name: Named, node: &Node, report: &mut Report) -> Option<Property> {
    if !is_identifier(&name.text) {
        report.error("bad-name", name.at, format!("`{}` cannot be the name of {what}", name.text));
        if name.text.chars().count() > MAX_NAME {
            report.help(format!("it has {} characters; at most {MAX_NAME} are allowed", name.text.chars().count()));
        } else {
            report.help("letters, digits and underscores, so that expressions can use it");
        }
        return None;
    }
    let Value::Object(_) = node.to_value() else {
        report.error("wrong-type", node.at, format!("{what} is described by a JSON Schema, not by {}", node.what()));
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
    if let Some(declared) = file::read(node, report) {
        let about = schema.get("description").cloned();
        schema = declared.schema();
        if let Some(about) = about {
            schema["description"] = about;
        }
    } else if has_key(&schema, MARK) {
        report.error("unknown-key", node.at, format!("`{MARK}` is no keyword of JSON Schema"));
        report.help("an input that is a file is declared as `{type: file}`");
    }
    Some(Property { name, schema, default, optional, secret, at: node.at })
}

fn has_key(schema: &serde_json::Value, key: &str) -> bool {
    match schema {
        serde_json::Value::Object(members) => members.iter().any(|(name, value)| name == key || has_key(value, key)),
        serde_json::Value::Array(items) => items.iter().any(|item| has_key(item, key)),
        _ => false,
    }
}

fn endpoint(node: &Node, report: &mut Report) -> Option<Endpoint> {
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
    let address = address::read(&members, Named { text: path, at: target.at }, report);
    let access = access::read(node, &members, &target, report);
    let needs = members.get("needs").cloned();
    if let (Access::Open, Some(node)) = (&access, &needs) {
        report.error("wrong-value", node.at, "`needs` is about a caller, and this endpoint asks for none");
        report.help("write `access: key`, or `access: {jwt: ISSUER}`");
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
    let answer = one_of(&members, "answer", Answer::NAMES, report);
    let (time, body) = limits(&members, report);
    let allowance = members.text("allowance", report);
    let at_once = at_once(&members, answer, report);
    let web = web::read(&members, &method, report);
    Some(Endpoint { method, address, at: target.at, access, needs, allowance, from, answer, time, body, at_once, web })
}

/// How long a request may take, and the most bytes of its body.
pub(super) fn limits(members: &Members, report: &mut Report) -> (Option<Duration>, Option<u64>) {
    let limits = members.get("limits").and_then(|node| Members::new(node, "limits", &[LIMITS], report));
    let time = limits.as_ref().and_then(|limits| limits.duration("time", MAX_TIME, report));
    let body = limits.as_ref().and_then(|limits| limits.get("body")).and_then(|node| size(node, MOST_BODY, report));
    (time, body)
}

/// How many runs there may be at once, and what becomes of others.
fn at_once(members: &Members, answer: Answer, report: &mut Report) -> Option<(u32, Beyond)> {
    let node = members.get("limits")?;
    // What is wrong with its keys was reported with the other limits.
    let inner = Members::new(node, "limits", &[LIMITS], &mut Report::new("", ""))?;
    let beyond = one_of(&inner, "beyond", &[("refuse", Beyond::Refuse), ("wait", Beyond::Wait)], report);
    let most = inner.integer("at_once", 1, 10_000, report).map(|most| most as u32);
    if let (Some(node), None) = (inner.get("beyond"), inner.get("at_once")) {
        report.error("wrong-value", node.at, "`beyond` belongs to `at_once`");
    }
    if let (Some(node), Answer::Later | Answer::Either) = (inner.get("at_once"), answer) {
        report.error("wrong-value", node.at, "jobs are bounded by their lane, not by the endpoint");
        report.help("write a document `lane: NAME` with `at_once`, and name it in `queue: {lane: NAME}`");
    }
    most.map(|most| (most, beyond))
}

/// The value of a key that allows a few words.
pub(super) fn one_of<T: Copy + Default>(members: &Members, name: &str, words: &[(&str, T)], report: &mut Report) -> T {
    let Some(text) = members.text(name, report) else { return T::default() };
    let found = words.iter().find(|(word, _)| *word == text.text);
    if found.is_none() {
        let words: Vec<String> = words.iter().map(|(word, _)| format!("`{word}`")).collect();
        report.error("wrong-value", text.at, format!("`{name}` is {}", words.join(" or ")));
    }
    found.map(|(_, value)| *value).unwrap_or_default()
}

fn timetable(node: &Node, report: &mut Report) -> Option<Timetable> {
    let members = Members::new(node, "a timetable", &[TIMETABLE, EVERY], report)?;
    let (at, when) = match (members.get("timetable"), members.duration("every", MAX_EVERY, report)) {
        (Some(_), Some(_)) => {
            report.error("wrong-value", node.at, "an entry is either a `timetable` of patterns or `every` so often");
            return None;
        }
        (Some(patterns), None) => {
            let patterns = constant(patterns, report)?;
            let nodes = match &patterns.kind {
                Kind::List(items) => items.iter().collect(),
                _ => vec![&*patterns],
            };
            let mut parsed = Vec::new();
            for node in nodes {
                let Some(text) = node.as_text() else {
                    report.error("wrong-type", node.at, format!("a pattern is text, not {}", node.what()));
                    continue;
                };
                match calendar::Pattern::parse(text) {
                    Ok(pattern) => parsed.push(pattern),
                    Err(error) => {
                        report.error("bad-pattern", node.at, error.to_string());
                        report
                            .help("minute, hour, day of month, month, weekday: `0 6 * * MON-FRI` is 06:00 on workdays");
                    }
                }
            }
            if parsed.is_empty() {
                return None;
            }
            (patterns.at, calendar::When::Patterns(parsed))
        }
        (None, Some(every)) if every < LEAST_EVERY => {
            report.error("wrong-value", node.at, "`every` is at least a second");
            return None;
        }
        (None, Some(every)) => (node.at, calendar::When::Every(every)),
        (None, None) => return None,
    };
    let zone = match members.text("zone", report) {
        None => None,
        Some(name) => match calendar::zone(&name.text) {
            Ok(zone) => Some(zone),
            Err(error) => {
                report.error("unknown-zone", name.at, error.to_string());
                None
            }
        },
    };
    let mut instant = |name: &str| {
        let text = members.text(name, report)?;
        let parsed = text.text.parse::<jiff::Timestamp>();
        if parsed.is_err() {
            report.error("wrong-value", text.at, format!("`{name}` is an instant such as `2027-03-04T06:00:00Z`"));
        }
        parsed.ok()
    };
    let (from, until) = (instant("from"), instant("until"));
    if let (Some(from), Some(until)) = (from, until)
        && until < from
    {
        report.error("wrong-value", at, "`until` lies before `from`");
    }
    let missed = [("skip", Missed::Skip), ("once", Missed::Once), ("all", Missed::All)];
    let overlap = [("allow", Overlap::Allow), ("skip", Overlap::Skip), ("wait", Overlap::Wait)];
    Some(Timetable {
        at,
        calendar: Calendar { when, zone: zone.unwrap_or(jiff::tz::TimeZone::UTC), from, until },
        missed: one_of(&members, "missed", &missed, report),
        overlap: one_of(&members, "overlap", &overlap, report),
        send: members.mapping("send", report).into_iter().map(|(name, node)| (name, node.clone())).collect(),
    })
}

fn queue(node: &Node, report: &mut Report) -> Queue {
    let Some(members) = Members::new(node, "`queue`", &[QUEUE], report) else { return Queue::default() };
    let notify = members.get("notify").and_then(|node| {
        let inner = Members::new(node, "`notify`", &[NOTIFY], report)?;
        let (to, secret) = (inner.get("to").cloned(), inner.text("secret", report));
        if to.is_none() || secret.is_none() {
            report.error("missing-key", node.at, "`notify` needs `to`, the address, and `secret`, what signs it");
        }
        let private = one_of(&inner, "network", &[("public", false), ("private", true)], report);
        Some(Notify { to: to?, secret: secret?, private })
    });
    Queue {
        lane: members.get("lane").cloned(),
        priority: members.integer("priority", 1, 9, report).map(|n| n as u8),
        tag: members.get("tag").cloned(),
        retry: members.entry("retry").and_then(|(key, node)| retry::read(key.at, node, &retry::JOB, report)),
        results: members.duration("results", MAX_RESULTS, report),
        notify,
    }
}

/// A size in bytes: a number, or text such as `64 KiB`.
pub(super) fn size(node: &Node, most: u64, report: &mut Report) -> Option<u64> {
    let bytes = match &node.kind {
        Kind::Int(int) => u64::try_from(*int).ok(),
        Kind::Text(text) => {
            let text = text.text.trim();
            let digits = text.trim_end_matches(|c: char| !c.is_ascii_digit());
            let unit = match text[digits.len()..].trim() {
                "B" | "" => Some(1),
                "KiB" => Some(1 << 10),
                "MiB" => Some(1 << 20),
                "GiB" => Some(1 << 30),
                "kB" => Some(1000),
                "MB" => Some(1_000_000),
                "GB" => Some(1_000_000_000),
                _ => None,
            };
            digits.parse::<u64>().ok().zip(unit).and_then(|(count, unit)| count.checked_mul(unit))
        }
        _ => None,
    };
    let bytes = bytes.filter(|bytes| (1..=most).contains(bytes));
    if bytes.is_none() {
        let most = if most < 1 << 30 { format!("{} MiB", most >> 20) } else { format!("{} GiB", most >> 30) };
        let message = format!("a size is a number of bytes or text such as `64 KiB`, at most `{most}`");
        report.error("wrong-value", node.at, message);
    }
    bytes
}
