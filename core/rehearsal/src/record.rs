//! Recording: a past run, as the journal has it, becomes a case that shows the same.
//!
//! What was asked of services, databases and the queue becomes stubs; where one of them answered this
//! time so and that time so, a condition on what was asked distinguishes them, and where none does they
//! answer in turn. Ids of jobs and callbacks become those that a rehearsal makes. Knows nothing of
//! where journals are kept.
//!
//! ```
//! use kanzlei_rehearsal::record::{Past, record};
//! let past = Past { workflow: "w".into(), name: "a past run".into(), state: "succeeded".into(), ..Past::default() };
//! assert!(record(&past).text.starts_with("cases: w\nexamples:\n  - name: \"a past run\"\n"));
//! ```

mod places;

use serde_json::{Map, Value as Json, json};

use super::CaseRequest;
use super::case::{CALLBACK, CANCEL, MAIL, PUBLIC, QUEUE, WAKE};
use kanzlei_lang::document::reader::is_identifier;
use kanzlei_model::caller::Caller;

/// An answer that took this long or longer is slow in the case too; in microseconds.
const SLOW: i64 = 100_000;
/// The longest text that a condition compares, in bytes.
const LONGEST: usize = 200;

/// One run by the journal. Values are as they are shown: masked, and `{"$cut": …}` where too long.
#[derive(Clone, Debug, Default)]
pub struct Past {
    /// Its id.
    pub id: String,
    /// What its UUIDs were made from; empty where nobody knows.
    pub key: String,
    /// Who called, as far as known.
    pub caller: Caller,
    /// The name of the workflow.
    pub workflow: String,
    /// What the case is to be called.
    pub name: String,
    /// RFC 3339; nothing for the default of cases.
    pub started: String,
    /// Its input.
    pub input: Json,
    /// The request that leads to this input, where the run was entered by one.
    pub request: Option<CaseRequest>,
    /// Whether that is a message to a webhook.
    pub delivered: bool,
    /// What the workflow remembered when it began; null where it uses nothing of it.
    pub kept: Json,
    /// The settings that it read; null where it reads none.
    pub settings: Json,
    /// The name of its state.
    pub state: String,
    /// The status of its reply.
    pub status: Option<u16>,
    /// The body of its reply.
    pub reply: Json,
    /// Why it failed, or null.
    pub failure: Json,
    /// What its steps did, in order.
    pub steps: Vec<PastStep>,
}

/// What one step did, with the heading of its paragraph.
#[derive(Clone, Debug, Default)]
pub struct PastStep {
    /// Its number on the sheet.
    pub number: String,
    /// Positions in the loops around: `2.0`.
    pub items: Option<String>,
    /// The key that names the step.
    pub kind: String,
    /// What stands behind the kind on the sheet.
    pub title: String,
    /// The name of its state.
    pub state: String,
    /// Attempts made; 0 for steps that are not retried.
    pub attempts: u64,
    /// What came of the attempts before the last one.
    pub earlier_attempts: Vec<String>,
    /// Microseconds from the start of the run.
    pub started_us: i64,
    /// How long it took, in microseconds.
    pub duration_us: i64,
    /// What was sent.
    pub sent: Json,
    /// What came of it.
    pub outcome: Json,
    /// Why it failed, or null.
    pub failure: Json,
}

/// A document of cases, and what is left to be done by hand.
#[derive(Debug)]
pub struct Recorded {
    /// The document.
    pub text: String,
    /// What is left to be done by hand, each in a sentence.
    pub notes: Vec<String>,
}

/// Makes a case out of a past run.
pub fn record(past: &Past) -> Recorded {
    let mut notes = Vec::new();
    let (mut case, asked) = begun_and_ended(past, false);
    case.members(6, "steps", steps(&past.steps));
    let calls = asked.iter().filter(|(name, _)| is_request(name) && !name.starts_with("sql."));
    case.members(6, "calls", calls.map(|(name, entries)| (name.clone(), times_asked(entries).into())).collect());
    case.members(6, "jobs", jobs(&past.steps));
    mails(&mut case, &past.steps);
    case.members(6, "kept", kept_at_end(&past.steps, &mut notes));
    let text = case.0;
    if text.contains("$cut") {
        notes.push("some values were too long for the journal and are cut; complete them where `$cut` stands".into());
    }
    Recorded { text, notes }
}

/// A document with the same case that expects nothing of steps, and nothing beside what the reply was.
pub(super) fn for_retrace(past: &Past) -> String {
    let (mut case, _) = begun_and_ended(past, true);
    case.members(6, "jobs", jobs(&past.steps));
    mails(&mut case, &past.steps);
    case.members(6, "kept", kept_at_end(&past.steps, &mut Vec::new()));
    case.0
}

/// The stubs of a document of cases that answer as the run was answered: whatever was asked before a step began, and all that
/// was asked of the services, operations and databases that `recorded` names. Nothing where no such step began.
pub fn answers(past: &Past, before: Option<&str>, recorded: &[String]) -> Option<String> {
    let until = match before {
        Some(number) => past.steps.iter().position(|step| step.number == number)?,
        None => 0,
    };
    let ids = Ids::of(&past.steps);
    let named = |stub: &str| recorded.iter().any(|name| is_of(stub, name));
    let mut answers = asked(&past.steps, &ids);
    answers.retain(|(stub, _)| named(stub));
    answers.extend(asked(&past.steps[..until], &ids).into_iter().filter(|(stub, _)| !named(stub)));
    let mut lines = Lines(String::new());
    stubs(&answers, true, &mut lines);
    // From the indentation of a case to that of a document.
    let lines = lines.0.lines().skip(1).map(|line| line.get(6..).unwrap_or(line));
    Some(lines.collect::<Vec<_>>().join("\n"))
}

/// Whether a stub answers for what a name stands for: an operation, or the whole service.
fn is_of(stub: &str, name: &str) -> bool {
    stub.strip_prefix(name).is_some_and(|rest| rest.is_empty() || rest.starts_with(['.', ' ']))
}

/// What the run asked of others: names as stubs have them, with what can be compared.
pub(super) fn requests(past: &Past) -> Vec<(String, Vec<(String, Json)>)> {
    let asked = asked(&past.steps, &Ids::of(&past.steps)).into_iter();
    let asked = asked.filter(|(name, _)| is_request(name));
    let each = asked.flat_map(|(name, entries)| {
        let features = entries.into_iter().flat_map(|entry| vec![entry.asked; entry.answers.len()]);
        features.map(move |features| (name.clone(), features)).collect::<Vec<_>>()
    });
    each.collect()
}

/// Whether a stub of this name answers for a service or a database.
fn is_request(name: &str) -> bool {
    name.contains('.') || name.contains(' ')
}

/// The case up to how the run ended, and what it asked of others.
fn begun_and_ended(past: &Past, exactly: bool) -> (Lines, Vec<(String, Vec<Entry>)>) {
    let ids = Ids::of(&past.steps);
    let name = if past.name.is_empty() { "a past run" } else { &past.name };
    let mut case = Lines(format!("cases: {}\nexamples:\n  - name: {}\n", key(&past.workflow), quoted(name)));
    request(past, &mut case);
    let asked = asked(&past.steps, &ids);
    stubs(&asked, false, &mut case);
    case.line(4, "expect", "");
    ended(past, &ids, exactly, &mut case);
    (case, asked)
}

/// The text of a case, written line by line.
struct Lines(String);

impl Lines {
    fn line(&mut self, indent: usize, name: &str, value: &str) {
        let gap = if value.is_empty() || value.starts_with('\n') { "" } else { " " };
        self.0.push_str(&format!("{:indent$}{}:{gap}{value}\n", "", key(name)));
    }

    /// A line with a mapping; nothing where it has no members.
    fn members(&mut self, indent: usize, name: &str, members: Map<String, Json>) {
        if !members.is_empty() {
            self.line(indent, name, &flow(&members.into()));
        }
    }
}

/// What the run began with.
fn request(past: &Past, case: &mut Lines) {
    if !past.started.is_empty() {
        case.line(4, "clock", &past.started);
    }
    match &past.request {
        Some((method, target, headers, body)) => {
            let key = if past.delivered { "delivery" } else { "request" };
            case.line(4, key, &quoted(&format!("{method} {target}")));
            if !headers.is_empty() {
                let headers = headers.iter().map(|(name, value)| (name.clone(), Json::from(value.as_str())));
                case.line(4, "headers", &plain(&headers.collect::<Map<_, _>>().into()));
            }
            if let Some(body) = body {
                case.line(4, "body", &plain(&body.to_serde()));
            }
        }
        None => case.line(4, "input", &plain(&past.input)),
    }
    if let Some(facts) = past.caller.facts().and_then(|facts| serde_json::from_str::<Map<String, Json>>(&facts).ok()) {
        let name = past.caller.name.iter().filter(|_| past.caller.key.is_none());
        let name = name.map(|name| ("name".to_owned(), Json::from(name.as_str())));
        case.line(4, "caller", &plain(&Json::Object(name.chain(facts).collect())));
    }
    if past.kept.as_object().is_some_and(|kept| !kept.is_empty()) {
        case.line(4, "kept", &plain(&past.kept));
    }
    if past.settings.is_object() {
        case.line(4, "settings", &plain(&past.settings));
    }
    let places = places::places(&past.steps);
    if !places.is_empty() {
        case.line(4, "places", &plain(&places.into()));
    }
}

/// The answers that the run received; `bounded` ones are given as often as they came and no more.
fn stubs(asked: &[(String, Vec<Entry>)], bounded: bool, case: &mut Lines) {
    let mut headed = false;
    for (name, entries) in asked {
        let answers = distinct(name, entries, bounded);
        if !answers.is_empty() && !std::mem::replace(&mut headed, true) {
            case.line(4, "stubs", "");
        }
        match answers.as_slice() {
            [] => {}
            [one] => case.line(6, name, one),
            several => {
                let items: String = several.iter().map(|one| format!("\n        - {one}")).collect();
                case.line(6, name, &items);
            }
        }
    }
}

/// How the run ended, and what it answered.
fn ended(past: &Past, ids: &Ids, exactly: bool, case: &mut Lines) {
    case.line(6, "state", &past.state);
    if let Some(kind) = past.failure["kind"].as_str() {
        let mut failure = json!({"kind": kind});
        if !past.failure["status"].is_null() {
            failure["status"] = past.failure["status"].clone();
        }
        case.line(6, "failure", &flow(&failure));
    }
    if let Some(status) = past.status {
        let mut reply = json!({"status": status});
        if !past.reply.is_null() && !is_cut(&past.reply) {
            let body = ids.replaced(&past.reply);
            reply["body"] = if exactly { body } else { places::lasting(past, body) };
        }
        if exactly {
            reply["exactly"] = true.into();
        }
        case.line(6, "reply", &flow(&reply));
    }
}

/// What the workflow keeps after the run.
fn kept_at_end(steps: &[PastStep], notes: &mut Vec<String>) -> Map<String, Json> {
    let invoked = |number: &str| {
        let within = |step: &PastStep| step.kind == "invoke" && number.starts_with(&format!("{}.", step.number));
        steps.iter().any(within)
    };
    let mut kept = Map::new();
    for step in steps.iter().filter(|step| step.kind == "keep" && step.state == "succeeded") {
        if invoked(&step.number) {
            notes
                .push(format!("step {} keeps values of an invoked workflow, which a case begins without", step.number));
        } else if let Some(values) = step.outcome.as_object().filter(|_| !is_cut(&step.outcome)) {
            kept.extend(values.clone());
        }
    }
    kept
}

/// The requests to one service, database or queue, with the outcome of each attempt.
struct Entry {
    asked: Vec<(String, Json)>,
    answers: Vec<Json>,
}

/// By the names of stubs, in the order in which they were first asked.
fn asked(steps: &[PastStep], ids: &Ids) -> Vec<(String, Vec<Entry>)> {
    let mut all: Vec<(String, Vec<Entry>)> = Vec::new();
    let mut put = |name: String, sent: &Json, answers: Vec<Json>| {
        let entry =
            Entry { asked: features(&ids.replaced(sent)), answers: answers.iter().map(|a| ids.replaced(a)).collect() };
        match all.iter_mut().find(|(known, _)| *known == name) {
            Some((_, entries)) => entries.push(entry),
            None => all.push((name, vec![entry])),
        }
    };
    for step in steps {
        let kind = step.failure["kind"].as_str();
        match step.kind.as_str() {
            // What failed before it was sent was never asked.
            "call" if !step.sent["target"].is_null() => {
                let mut answers: Vec<Json> = step.earlier_attempts.iter().map(|tried| tried_answer(tried)).collect();
                // Where the question behind `unless` was answered, the last one was not made.
                if (answers.len() as u64) < step.attempts {
                    answers.push(answer(step));
                }
                put(stub_name(step), &step.sent, answers);
            }
            "sql" if !step.sent.is_null() => {
                let name = format!("sql.{}", step.title.split_whitespace().next().unwrap_or_default());
                let failed = match kind {
                    Some(kind) => Some(json!({"fails": kind, "detail": step.failure["detail"]})),
                    None => (step.state == "cancelled").then(never),
                };
                match (step.sent.as_array(), step.outcome.as_array()) {
                    (Some(several), Some(rows)) => {
                        several.iter().zip(rows).for_each(|(sent, rows)| put(name.clone(), sent, vec![selected(rows)]))
                    }
                    (Some(several), None) => {
                        put(name, several.first().unwrap_or(&Json::Null), vec![failed.unwrap_or_default()])
                    }
                    (None, _) => put(name, &step.sent, vec![failed.unwrap_or_else(|| selected(&step.outcome))]),
                }
            }
            "enqueue" if !step.sent.is_null() => {
                let answer = kind.map_or(json!({}), |kind| json!({"fails": kind, "detail": step.failure["detail"]}));
                put(QUEUE.into(), &json!({"workflow": step.title.split_whitespace().next()}), vec![answer]);
            }
            "mail" if !step.sent.is_null() => {
                let answer = kind.map_or(json!({}), |kind| json!({"fails": kind, "detail": step.failure["detail"]}));
                put(MAIL.into(), &json!({"subject": step.sent["subject"]}), vec![answer]);
            }
            "cancel" if step.outcome.is_object() => {
                put(CANCEL.into(), &Json::Null, vec![json!({"body": step.outcome})])
            }
            "await" if !step.sent.is_null() => {
                let answer = match kind {
                    None => json!({"takes": waited(step, steps), "body": step.outcome}),
                    Some(_) => json!({"fails": "timeout"}),
                };
                put(CALLBACK.into(), &Json::Null, vec![answer]);
            }
            "wake" if !step.sent.is_null() => {
                let answer = match kind {
                    None => json!({"body": step.outcome["job"]}),
                    Some(kind) => json!({"fails": kind, "detail": step.failure["detail"]}),
                };
                put(WAKE.into(), &json!({"by": step.sent["by"]}), vec![answer]);
            }
            _ => {}
        }
    }
    // A queue that always accepted everything needs no stub, nor does an address to which nothing came.
    all.retain(|(name, entries)| {
        let dull = |entry: &Entry| entry.answers.iter().all(|a| *a == json!({}) || a["fails"] == "timeout");
        ![QUEUE, MAIL, CALLBACK].contains(&name.as_str()) || !entries.iter().all(dull)
    });
    all
}

/// `registry.getVessel`, or `registry GET /vessels/1` for a call by address.
fn stub_name(step: &PastStep) -> String {
    match (step.sent["service"].as_str(), step.sent["target"].as_str()) {
        (Some(service), Some(target)) => {
            format!("{service} {}", target.split('?').next().unwrap_or_default())
        }
        _ => step.title.clone(),
    }
}

fn took(step: &PastStep) -> String {
    format!("{}ms", step.duration_us / 1000)
}

/// How long a callback was waited for, from the end of the steps that passed its address on.
fn waited(step: &PastStep, steps: &[PastStep]) -> String {
    let below = format!("{}.", step.number);
    let inner = steps.iter().filter(|inner| inner.number.starts_with(&below) && inner.items == step.items);
    let began = inner.map(|inner| inner.started_us + inner.duration_us).max().unwrap_or(step.started_us);
    format!("{}ms", (step.started_us + step.duration_us - began).max(0) / 1000)
}

/// What was called off before it answered.
fn never() -> Json {
    json!({"takes": "1h"})
}

/// What an attempt before the last one got.
fn tried_answer(tried: &str) -> Json {
    match tried.parse::<u16>() {
        Ok(status) => json!({"status": status}),
        // A call whose end nobody saw: the service may have done its work.
        Err(_) if tried == "interrupted" => failing("broken", &Json::Null),
        Err(_) => failing(tried, &Json::Null),
    }
}

/// A failure of a call that a stub can produce.
fn failing(kind: &str, detail: &Json) -> Json {
    match kind {
        // What cannot be read has come.
        "unreadable" => json!({"headers": {"content-type": "application/json"}, "body": "{"}),
        kind if detail.is_null() => json!({"fails": kind}),
        kind => json!({"fails": kind, "detail": detail}),
    }
}

/// What the last attempt of a call got.
fn answer(step: &PastStep) -> Json {
    let slow = step.duration_us >= SLOW && step.earlier_attempts.is_empty();
    let mut answer = json!({});
    if step.state == "cancelled" {
        return never();
    }
    match step.failure["kind"].as_str().filter(|_| step.outcome.is_null()) {
        Some("status") => {
            answer["status"] = step.failure["status"].clone();
            if !step.failure["body"].is_null() {
                answer["body"] = step.failure["body"].clone();
            }
        }
        Some("timeout") => return failing("timeout", &step.failure["detail"]),
        Some(kind) => return failing(kind, &step.failure["detail"]),
        None => {
            if step.outcome["status"] != 200 {
                answer["status"] = step.outcome["status"].clone();
            }
            let headers: Map<String, Json> = headers_shown(&step.outcome["headers"]);
            if !headers.is_empty() {
                answer["headers"] = headers.into();
            }
            match is_cut(&step.outcome) {
                true => answer["body"] = step.outcome.clone(),
                false if step.outcome.get("body").is_some() => answer["body"] = step.outcome["body"].clone(),
                false => {}
            }
        }
    }
    if slow {
        answer["takes"] = took(step).into();
    }
    answer
}

/// Headers of an answer that say something about it; the others only say how it was sent.
fn headers_shown(headers: &Json) -> Map<String, Json> {
    const DULL: &[&str] = &[
        "connection",
        "content-disposition",
        "content-length",
        "content-type",
        "date",
        "keep-alive",
        "server",
        "transfer-encoding",
        "vary",
    ];
    let shown = headers.as_object().into_iter().flatten().filter(|(name, _)| !DULL.contains(&name.as_str()));
    shown.map(|(name, value)| (name.clone(), value.clone())).collect()
}

/// What a statement returned, without defaults.
fn selected(rows: &Json) -> Json {
    if is_cut(rows) {
        return json!({"rows": [rows]});
    }
    let mut out = Map::new();
    let list = rows["rows"].as_array().filter(|list| !list.is_empty());
    if let Some(list) = list {
        out.insert("rows".into(), list.clone().into());
    }
    if rows["count"] != list.map_or(0, Vec::len) {
        out.insert("count".into(), rows["count"].clone());
    }
    if !rows["id"].is_null() {
        out.insert("id".into(), rows["id"].clone());
    }
    out.into()
}

/// What can be compared of what was asked: by path, `target`, `body.text`, `statement`, `bind.id`.
pub(super) fn features(sent: &Json) -> Vec<(String, Json)> {
    let comparable = |value: &Json| match value {
        Json::String(text) => text.len() <= LONGEST && !text.contains("•••"),
        Json::Number(_) | Json::Bool(_) => true,
        _ => false,
    };
    let mut out = Vec::new();
    if let Some(target) = sent["target"].as_str() {
        let target = target.split_once(' ').map_or(target, |(_, target)| target);
        out.push(("target".to_owned(), target.into()));
    }
    if let Some(statement) = sent["statement"].as_str() {
        out.push(("statement".to_owned(), statement.into()));
    }
    out.extend(sent.get("workflow").map(|name| ("workflow".to_owned(), name.clone())));
    for within in ["body", "bind"] {
        for (name, value) in sent[within].as_object().into_iter().flatten() {
            if is_identifier(name) {
                out.push((format!("{within}.{name}"), value.clone()));
            }
        }
    }
    out.retain(|(path, value)| path == "statement" || comparable(value));
    out
}

/// How often it was asked, each attempt counted.
fn times_asked(entries: &[Entry]) -> usize {
    entries.iter().map(|entry| entry.answers.len()).sum()
}

/// The answers of one stub, as lines: with conditions where they need them, else in turn.
fn distinct(name: &str, entries: &[Entry], bounded: bool) -> Vec<String> {
    let mut groups = Vec::new();
    part(entries, (0..entries.len()).collect(), &[], &mut groups);
    let mut out = Vec::new();
    for (conditions, group) in &groups {
        let mut turns: Vec<(&Json, usize)> = Vec::new();
        for answer in group.iter().flat_map(|at| &entries[*at].answers) {
            match turns.last_mut() {
                Some((known, times)) if *known == answer => *times += 1,
                _ => turns.push((answer, 1)),
            }
        }
        let last = turns.len() - 1;
        for (at, (answer, times)) in turns.into_iter().enumerate() {
            let mut members = Vec::new();
            if !conditions.is_empty() {
                members.push(format!("when: {}", Json::from(conditions.join(" && "))));
            }
            if bounded || at < last && (times > 1 || !conditions.is_empty()) {
                members.push(format!("times: {times}"));
            }
            members.extend(answer.as_object().into_iter().flatten().map(|(name, value)| {
                let template = ["body", "rows"].contains(&name.as_str());
                format!("{}: {}", key(name), if template { flow(value) } else { plain(value) })
            }));
            out.push(format!("{{{}}}", members.join(", ")));
        }
    }
    // What the queue accepts needs no answer where a condition separates it from what it did not accept.
    if name == QUEUE && groups.len() > 1 {
        out.retain(|answer| answer.contains("fails"));
    }
    out
}

/// Parts entries that were answered differently by what was asked, as long as that distinguishes them.
fn part(entries: &[Entry], group: Vec<usize>, conditions: &[String], into: &mut Vec<(Vec<String>, Vec<usize>)>) {
    let first = &entries[group[0]].asked;
    let path = first.iter().map(|(path, _)| path).find(|path| {
        let values: Vec<Option<&Json>> = group.iter().map(|at| value_at(&entries[*at], path)).collect();
        values.iter().all(Option::is_some) && values.iter().any(|value| *value != values[0])
    });
    let Some(path) = path.filter(|_| differ(entries, &group)) else {
        into.push((conditions.to_vec(), group));
        return;
    };
    let mut parts: Vec<(&Json, Vec<usize>)> = Vec::new();
    for at in &group {
        let Some(value) = value_at(&entries[*at], path) else { continue };
        match parts.iter_mut().find(|(known, _)| *known == value) {
            Some((_, part)) => part.push(*at),
            None => parts.push((value, vec![*at])),
        }
    }
    let others: Vec<&Json> = parts.iter().map(|(value, _)| *value).collect();
    for (value, inner) in &parts {
        let conditions = [conditions, &[condition(path, value, &others)]].concat();
        part(entries, inner.clone(), &conditions, into);
    }
}

fn value_at<'e>(entry: &'e Entry, path: &str) -> Option<&'e Json> {
    entry.asked.iter().find(|(known, _)| known == path).map(|(_, value)| value)
}

/// Whether entries were answered differently, or one of them attempt by attempt.
fn differ(entries: &[Entry], group: &[usize]) -> bool {
    let mut answers = group.iter().flat_map(|at| &entries[*at].answers);
    let first = answers.next();
    answers.any(|answer| Some(answer) != first)
}

/// A condition that holds where a path has this value, and for none of the others.
fn condition(path: &str, value: &Json, others: &[&Json]) -> String {
    if path == "statement"
        && let Some(text) = value.as_str()
    {
        // As many words as distinguish this statement from the others.
        let others = || others.iter().filter_map(|other| other.as_str()).filter(|other| *other != text);
        let starts = text.match_indices(' ').map(|(end, _)| &text[..end]).skip(2);
        let short = starts.into_iter().find(|start| !others().any(|other| other.starts_with(start)));
        if let Some(start) = short {
            return format!("request.statement.startsWith({})", literal(start));
        }
    }
    match value {
        Json::String(text) => format!("request.{path} === {}", literal(text)),
        other => format!("request.{path} === {other}"),
    }
}

/// A text as an ECMAScript literal; in single quotes where it can be.
fn literal(text: &str) -> String {
    match text.contains(['\'', '\\', '\n', '\r']) || text.chars().any(char::is_control) {
        true => Json::from(text).to_string(),
        false => format!("'{text}'"),
    }
}

/// How steps ended, by number; those in loops with how often they were performed.
fn steps(steps: &[PastStep]) -> Map<String, Json> {
    let mut out = Map::new();
    for step in steps.iter().filter(|step| !step.number.is_empty()) {
        if out.contains_key(&step.number) {
            continue;
        }
        let same: Vec<&PastStep> = steps.iter().filter(|other| other.number == step.number).collect();
        let mut expected = Map::new();
        if same.iter().all(|other| other.state == step.state) {
            expected.insert("state".into(), step.state.as_str().into());
        }
        if step.items.is_some() {
            expected.insert("times".into(), same.len().into());
        }
        if !step.earlier_attempts.is_empty() && same.len() == 1 {
            expected.insert("attempts".into(), step.attempts.into());
        }
        let expected = match expected.get("state") {
            Some(state) if expected.len() == 1 => state.clone(),
            _ => expected.into(),
        };
        out.insert(step.number.clone(), expected);
    }
    out
}

/// The number of mails sent, for runs with `mail` steps.
fn mails(case: &mut Lines, steps: &[PastStep]) {
    let mails = || steps.iter().filter(|step| step.kind == "mail");
    if mails().next().is_some() {
        let sent = mails().filter(|step| step.state == "succeeded").count();
        case.line(6, "mails", &sent.to_string());
    }
}

/// How many jobs were queued, by workflow.
fn jobs(steps: &[PastStep]) -> Map<String, Json> {
    let mut out: Map<String, Json> = Map::new();
    for step in steps.iter().filter(|step| step.kind == "enqueue" && step.outcome.is_object()) {
        let count = step.outcome["count"].as_u64().unwrap_or(1);
        let workflow = step.title.split_whitespace().next().unwrap_or_default();
        let before = out.get(workflow).and_then(Json::as_u64).unwrap_or(0);
        out.insert(workflow.to_owned(), (before + count).into());
    }
    out
}

/// Ids and addresses that the service made, and those of a rehearsal in their place.
struct Ids(Vec<(String, String)>);

impl Ids {
    fn of(steps: &[PastStep]) -> Self {
        let (mut out, mut jobs, mut callbacks) = (Vec::new(), 0, 0);
        let base = |url: &Json, end: &str| {
            let url = url.as_str()?;
            url.find(end).map(|at| (format!("{}/~/", &url[..at]), format!("{PUBLIC}/~/")))
        };
        for step in steps {
            match step.kind.as_str() {
                "enqueue" if step.outcome.is_object() => {
                    let outcome = &step.outcome;
                    out.extend(outcome["group"].as_str().map(|id| (id.to_owned(), format!("group-{}", jobs + 1))));
                    let one = outcome["job"].as_str();
                    for id in outcome["jobs"].as_array().into_iter().flatten().filter_map(Json::as_str).chain(one) {
                        jobs += 1;
                        out.push((id.to_owned(), format!("job-{jobs}")));
                    }
                    out.extend(base(&outcome["url"], "/~/jobs/"));
                }
                "await" => {
                    callbacks += 1;
                    out.extend(step.sent["id"].as_str().map(|id| (id.to_owned(), format!("callback-{callbacks}"))));
                    out.extend(base(&step.sent["url"], "/~/callbacks/"));
                }
                "file" => out.extend(places::link(&step.sent, &step.outcome)),
                _ => {}
            }
        }
        out.retain(|(from, _)| !from.is_empty());
        Ids(out)
    }

    fn replaced(&self, value: &Json) -> Json {
        match value {
            Json::String(text) => {
                let replace = |text: String, (from, to): &(String, String)| text.replace(from, to);
                self.0.iter().fold(text.clone(), replace).into()
            }
            Json::Array(items) => items.iter().map(|item| self.replaced(item)).collect(),
            Json::Object(members) => {
                members.iter().map(|(name, value)| (name.clone(), self.replaced(value))).collect::<Map<_, _>>().into()
            }
            other => other.clone(),
        }
    }
}

fn is_cut(value: &Json) -> bool {
    value.get("$cut").is_some()
}

/// A key of a mapping: plain where YAML 1.2 reads it as the text it is.
fn key(name: &str) -> String {
    let plain = name.starts_with(|c: char| c.is_ascii_alphabetic())
        && name.chars().all(|c| c.is_ascii_alphanumeric() || "_-.".contains(c))
        && !["true", "false", "null"].contains(&name.to_ascii_lowercase().as_str());
    if plain { name.to_owned() } else { quoted(name) }
}

fn quoted(text: &str) -> String {
    Json::from(text).to_string()
}

/// A value in one line of YAML whose texts are templates: `${` of a value is no expression.
fn flow(value: &Json) -> String {
    written(value, &|text| quoted(&text.replace("${", "$${")))
}

/// A value in one line of YAML whose texts are texts.
fn plain(value: &Json) -> String {
    written(value, &quoted)
}

fn written(value: &Json, text: &dyn Fn(&str) -> String) -> String {
    let joined = |items: Vec<String>| items.join(", ");
    match value {
        Json::String(string) => text(string),
        Json::Array(items) => format!("[{}]", joined(items.iter().map(|item| written(item, text)).collect())),
        Json::Object(members) => {
            let member = |(name, value): (&String, &Json)| format!("{}: {}", key(name), written(value, text));
            format!("{{{}}}", joined(members.iter().map(member).collect()))
        }
        other => other.to_string(),
    }
}

#[cfg(test)]
pub(crate) mod tests;
