//! The desk at which a case's calls arrive: finds the stub that answers, remembers what was asked, and
//! says what stub is missing.

use std::collections::BTreeMap;

use super::Lent;
use super::case::{Answer, CALLBACK, CANCEL, Case, CompiledOutcome, MAIL, PUBLIC, Prepared, QUEUE, Stub, WAKE};
use super::shelf::{self, Shelf};
use kanzlei_compiler::example;
use kanzlei_compiler::input::described;
use kanzlei_compiler::plan::Maker;
use kanzlei_engine::machine::{
    self, Address, Arrival, Cancellation, Cancelling, Data, Effect, EffectError, Enqueue, Kept, Letter, Load, Outcome,
    Query, Queued, Request, Rows, Sql, Waking, shown_tags, tags_of,
};
use kanzlei_lang::document::service::{In, Operation};
use kanzlei_lang::expr::{Limits, ops};
use kanzlei_model::file::File;
use kanzlei_model::run::FailureKind;
use kanzlei_model::time::{Span, Timestamp};
use kanzlei_model::value::{ObjectBuilder, Value};

pub(super) struct Desk<'c> {
    prepared: &'c Prepared,
    case: &'c Case,
    /// How often each answer was given, by stub and position.
    used: BTreeMap<(usize, usize), u32>,
    /// Requests in order, by the name of their stub.
    pub asked: Vec<(String, Value)>,
    pub missing: Vec<String>,
    /// Effects that no stub answered.
    pub unanswered: usize,
    /// Jobs that were queued, by their workflow; those that were cancelled are marked.
    pub jobs: Vec<(String, Value)>,
    cancelled: Vec<bool>,
    callbacks: usize,
    /// Mails that were sent, as expectations see them.
    pub mails: Vec<(String, Value)>,
    /// What the workflows remember.
    pub kept: BTreeMap<String, (u64, Value)>,
    /// Databases that are real in this case.
    lent: Vec<(String, Box<dyn Lent>)>,
    /// The places of the case.
    pub shelf: Shelf,
}

impl<'c> Desk<'c> {
    pub fn new(prepared: &'c Prepared, case: &'c Case, lent: Vec<(String, Box<dyn Lent>)>) -> Self {
        let mut kept = BTreeMap::new();
        kept.insert(prepared.plan.name.clone(), (1, case.kept.clone()));
        Desk {
            prepared,
            case,
            used: BTreeMap::new(),
            asked: Vec::new(),
            missing: Vec::new(),
            unanswered: 0,
            jobs: Vec::new(),
            cancelled: Vec::new(),
            callbacks: 0,
            mails: Vec::new(),
            kept,
            lent,
            shelf: Shelf::new(&case.places),
        }
    }

    /// How long an effect takes, and what comes of it.
    pub fn answer(&mut self, effect: &Effect, now: Timestamp) -> (Span, Outcome) {
        match effect {
            Effect::Call(request) => self.call(request),
            Effect::Query(query) => self.query(query),
            Effect::File(task) => (Span::ZERO, Outcome::Filed(self.shelf.perform(&task.work, now))),
            Effect::Rows(task) => (Span::ZERO, Outcome::Rows(shelf::batch(task))),
            Effect::Mail(letter) => self.mail(letter),
            Effect::Wait { .. } => (Span::ZERO, Outcome::Waited),
            Effect::Enqueue(enqueue) => (Span::ZERO, Outcome::Queued(self.enqueue(enqueue, now))),
            Effect::Cancel(cancelling) => (Span::ZERO, Outcome::Cancelled(Ok(self.cancel(cancelling, now)))),
            Effect::Open { .. } => {
                self.callbacks += 1;
                let id = format!("callback-{}", self.callbacks);
                let url = format!("{PUBLIC}/~/callbacks/{id}");
                (Span::ZERO, Outcome::Opened(Ok(Address { id, url })))
            }
            Effect::Await { callback, until, .. } => self.wait(callback, *until, now),
            Effect::Wake(waking) => self.wake(waking),
            Effect::Recall { workflow } => (Span::ZERO, Outcome::Kept(Ok(self.remembered(workflow, false)))),
            Effect::Keep(keep) => {
                let (version, _) = self.kept.get(&keep.workflow).cloned().unwrap_or((0, Value::Undefined));
                let stored = version == keep.version;
                if stored {
                    self.kept.insert(keep.workflow.clone(), (version + 1, keep.values.clone()));
                }
                (Span::ZERO, Outcome::Kept(Ok(self.remembered(&keep.workflow, stored))))
            }
        }
    }

    /// A mail is sent, unless a stub says otherwise.
    fn mail(&mut self, letter: &Letter) -> (Span, Outcome) {
        let shown = shelf::letter(letter);
        if let Some(Answer { outcome: CompiledOutcome::Fails { kind, detail }, takes, .. }) =
            self.find(|stub| stub == MAIL, &shown)
        {
            let kind = FailureKind::of(kind).unwrap_or(FailureKind::Mail);
            return (Span::from(*takes), Outcome::Filed(Err(EffectError { kind, detail: detail.clone() })));
        }
        self.mails.push((MAIL.to_owned(), shown));
        (Span::ZERO, Outcome::Filed(Ok(shelf::sent(letter, &format!("mail-{}", self.mails.len())))))
    }

    fn enqueue(&mut self, enqueue: &Enqueue, now: Timestamp) -> Result<Queued, EffectError> {
        let mut ids = Vec::with_capacity(enqueue.jobs.len());
        let before = self.jobs.len();
        for job in &enqueue.jobs {
            let due = job.due.unwrap_or(now);
            let shown = Value::object([
                ("input", job.input.clone()),
                ("due", Value::text(due.to_string())),
                ("tag", shown_tags(job.tags.as_deref().unwrap_or_default())),
                ("lane", job.lane.as_deref().map_or(Value::Null, Value::text)),
                ("priority", enqueue.priority.map_or(Value::Null, |p| Value::Int(p.into()))),
            ]);
            self.jobs.push((enqueue.workflow.clone(), shown));
            self.cancelled.push(false);
            ids.push(format!("job-{}", self.jobs.len()));
        }
        let request = Value::object([("workflow", Value::text(enqueue.workflow.as_str()))]);
        if let Some(Answer { outcome: CompiledOutcome::Fails { kind, detail }, .. }) =
            self.find(|stub| stub == QUEUE, &request)
        {
            self.jobs.truncate(before);
            self.cancelled.truncate(before);
            let kind = FailureKind::of(kind).unwrap_or(FailureKind::Full);
            return Err(EffectError { kind, detail: detail.clone() });
        }
        let group = enqueue.group.then(|| format!("group-{}", before + 1));
        Ok(Queued { ids, group, base: PUBLIC.into() })
    }

    /// Jobs of this case that are not due yet are cancelled; others are as the stub says.
    fn cancel(&mut self, cancelling: &Cancelling, now: Timestamp) -> Cancellation {
        let mut done = Cancellation::default();
        let request = match cancelling {
            Cancelling::Tag(tag) => Value::object([("tag", Value::text(tag.as_str()))]),
            Cancelling::Ids(ids) => {
                Value::object([("ids", Value::list(ids.iter().map(|id| Value::text(id.as_str())).collect()))])
            }
        };
        self.asked.push((CANCEL.to_owned(), request.clone()));
        if let Some(Answer { outcome: CompiledOutcome::Answer { body: Some(body), .. }, .. }) =
            self.find(|stub| stub == CANCEL, &request)
        {
            let body = made(body, &request);
            let ids = |name: &str| {
                let list = body.member(name).and_then(|list| list.as_list().map(<[Value]>::to_vec)).unwrap_or_default();
                list.iter().map(|id| ops::to_text(id).to_string()).collect()
            };
            return Cancellation {
                cancelled: ids("cancelled"),
                begun: ids("begun"),
                done: ids("done"),
                unknown: ids("unknown"),
            };
        }
        let ids: Vec<String> = match cancelling {
            Cancelling::Ids(ids) => ids.clone(),
            Cancelling::Tag(tag) => {
                let tagged = self.jobs.iter().enumerate();
                let tagged = tagged.filter(|(_, (_, job))| {
                    job.member("tag").and_then(|tags| tags_of(tags).ok()).is_some_and(|tags| tags.contains(tag))
                });
                tagged.map(|(at, _)| format!("job-{}", at + 1)).collect()
            }
        };
        for id in ids {
            let at = id.strip_prefix("job-").and_then(|number| number.parse::<usize>().ok()).map(|number| number - 1);
            let job = at.and_then(|at| Some((at, self.jobs.get(at)?)));
            let into = match job {
                None => &mut done.unknown,
                Some((at, (_, job))) => {
                    let due = job.member("due").and_then(Value::as_text).and_then(|due| due.parse::<Timestamp>().ok());
                    let later = due.is_some_and(|due| due > now);
                    let before = std::mem::replace(&mut self.cancelled[at], later);
                    if later && !before { &mut done.cancelled } else { &mut done.done }
                }
            };
            into.push(id);
        }
        done
    }

    fn wait(&mut self, callback: &str, until: Option<Timestamp>, now: Timestamp) -> (Span, Outcome) {
        let request = Value::object([("id", Value::text(callback))]);
        let left = until.map(|until| until.since(now));
        let found = self.find(|stub| stub == CALLBACK, &request).map(|answer| {
            let arrival = match &answer.outcome {
                CompiledOutcome::Answer { headers, body, .. } => {
                    let body = body.as_ref().map(|maker| made(maker, &request));
                    let answer = http_answer(200, headers, body);
                    let media = answer.headers.iter().find(|(name, _)| name.eq_ignore_ascii_case("content-type"));
                    let media = media.map_or(String::new(), |(_, media)| media.clone());
                    Some(Arrival { media, body: answer.body.held().unwrap_or_default().to_vec() })
                }
                _ => None,
            };
            (Span::from(answer.takes), arrival)
        });
        match (found, left) {
            (Some((takes, Some(arrival))), left) if left.is_none_or(|left| takes <= left) => {
                (takes, Outcome::Arrived(Some(arrival)))
            }
            (_, Some(left)) => (left, Outcome::Arrived(None)),
            (_, None) => {
                let stub = "callback: {takes: 1s, body: {}}".to_owned();
                self.unanswered += 1;
                if !self.missing.contains(&stub) {
                    self.missing.push(stub);
                }
                (Span::ZERO, Outcome::Arrived(None))
            }
        }
    }

    /// A run waits for it, unless a stub says otherwise: `wake: {body: null}`.
    fn wake(&mut self, waking: &Waking) -> (Span, Outcome) {
        let request = Value::object([
            ("workflow", Value::text(waking.by.workflow.as_str())),
            ("by", Value::text(waking.by.key.as_str())),
            ("body", waking.body.clone()),
        ]);
        self.asked.push((WAKE.to_owned(), request.clone()));
        let job = match self.find(|stub| stub == WAKE, &request) {
            Some(Answer { outcome: CompiledOutcome::Fails { kind, detail }, takes, .. }) => {
                let kind = FailureKind::of(kind).unwrap_or(FailureKind::Full);
                return (Span::from(*takes), Outcome::Woken(Err(EffectError { kind, detail: detail.clone() })));
            }
            Some(Answer { outcome: CompiledOutcome::Answer { body: Some(body), .. }, .. }) => {
                let body = made(body, &request);
                (!body.is_nullish()).then(|| ops::to_text(&body).to_string())
            }
            _ => Some("job-woken".to_owned()),
        };
        (Span::ZERO, Outcome::Woken(Ok(job)))
    }

    fn remembered(&self, workflow: &str, stored: bool) -> Kept {
        let (version, values) = self.kept.get(workflow).cloned().unwrap_or((0, Value::object::<&str>([])));
        Kept { version, values, stored }
    }

    fn call(&mut self, request: &Request) -> (Span, Outcome) {
        let operation = request.operation.as_ref().and_then(|name| {
            self.prepared.services.get(&request.service).and_then(|service| service.operations.get(name))
        });
        let name = match &request.operation {
            Some(operation) => format!("{}.{operation}", request.service),
            None => format!("{} {}", request.service, request.method),
        };
        let shown = shown(request, operation);
        let name = match request.operation {
            Some(_) => name,
            None => format!("{name} {}", request.target.split('?').next().unwrap_or_default()),
        };
        let fits = |stub: &str| names_call(stub, &name);
        let within = Span::from(request.within);
        self.asked.push((name.clone(), shown.clone()));
        let Some(answer) = self.find(fits, &shown) else {
            self.unanswered += 1;
            self.miss_call(request, &name, operation);
            let detail = format!("no stub answers {name}");
            return (Span::ZERO, Outcome::Called(Err(EffectError { kind: FailureKind::BlockedAddress, detail })));
        };
        let takes = Span::from(answer.takes);
        let outcome = match &answer.outcome {
            _ if takes > within => Err(EffectError {
                kind: FailureKind::Timeout,
                detail: format!(
                    "{} did not answer within {}",
                    request.service,
                    kanzlei_model::duration::short(request.within)
                ),
            }),
            CompiledOutcome::Fails { kind, detail } => {
                let kind = FailureKind::of(kind).unwrap_or(FailureKind::Broken);
                // What does not answer in time takes all of that time.
                let takes = if kind == FailureKind::Timeout { within } else { takes };
                return (takes, Outcome::Called(Err(EffectError { kind, detail: detail.clone() })));
            }
            CompiledOutcome::Answer { status, headers, body } => {
                let made = body.as_ref().map(|maker| made(maker, &shown));
                Ok(http_answer(*status, headers, made))
            }
            CompiledOutcome::Rows { .. } => Ok(http_answer(200, &[], None)),
        };
        (takes.min(within), Outcome::Called(outcome))
    }

    fn query(&mut self, query: &Query) -> (Span, Outcome) {
        if let Some(load) = &query.load {
            return match shelf::values(&load.rows) {
                Ok(rows) => self.load(query, load, rows),
                Err(fault) => (Span::ZERO, Outcome::Queried(Err(fault))),
            };
        }
        let (took, outcome) = self.statements(query, None);
        match (&query.into, outcome) {
            (Some(into), Outcome::Queried(Ok(all))) => {
                let rows = all.into_iter().flat_map(|rows| rows.rows);
                (
                    took,
                    Outcome::Filed(Ok(
                        shelf::written(rows.map(Ok), &into.writing, Some(&into.name)).unwrap_or_default()
                    )),
                )
            }
            (_, outcome) => (took, outcome),
        }
    }

    /// A statement for each of many rows: a lent database performs all of them, a stub answers once for all, and counts the rows by default.
    fn load(&mut self, query: &Query, load: &Load, rows: Vec<Value>) -> (Span, Outcome) {
        let Some(first) = query.statements.first() else { return (Span::ZERO, Outcome::Queried(Ok(Vec::new()))) };
        let lends = self.lent.iter().any(|(known, _)| *known == query.database);
        if !lends {
            return self.statements(query, Some(Value::list(rows)));
        }
        let one = |row: &Value| Sql { values: load.of(row), ..first.clone() };
        let all = Query { statements: rows.iter().map(one).collect(), load: None, ..query.clone() };
        let (took, outcome) = self.statements(&all, None);
        match outcome {
            Outcome::Queried(Ok(all)) => {
                let count = all.iter().map(|rows| rows.count).sum();
                (took, Outcome::Queried(Ok(vec![Rows { rows: Vec::new(), count, id: None }])))
            }
            other => (took, other),
        }
    }

    fn statements(&mut self, query: &Query, rows: Option<Value>) -> (Span, Outcome) {
        let counted = rows.as_ref().and_then(Value::as_list).map_or(0, <[Value]>::len) as u64;
        let name = format!("sql.{}", query.database);
        let within = Span::from(query.within);
        if let Some((_, database)) = self.lent.iter_mut().find(|(known, _)| *known == query.database) {
            for sql in &query.statements {
                let request =
                    Value::object([("statement", Value::text(sql.text.as_str())), ("bind", sql.bound.clone())]);
                self.asked.push((name.clone(), request));
            }
            // However long it took, the case's clock stands still.
            return (Span::ZERO, Outcome::Queried(database.query(query)));
        }
        let mut all = Vec::with_capacity(query.statements.len());
        let mut took = Span::ZERO;
        for sql in &query.statements {
            let mut request = vec![("statement", Value::text(sql.text.as_str())), ("bind", sql.bound.clone())];
            request.extend(rows.clone().map(|rows| ("rows", rows)));
            let request = Value::object(request);
            self.asked.push((name.clone(), request.clone()));
            let Some(answer) = self.find(|stub| stub == name, &request) else {
                self.unanswered += 1;
                let first: String = sql.text.split_whitespace().take(3).collect::<Vec<_>>().join(" ");
                self.missing
                    .push(format!("{name}: {{when: \"request.statement.startsWith('{first}')\", rows: [], count: 0}}"));
                let detail = format!("no stub answers {}", sql.text);
                return (took, Outcome::Queried(Err(EffectError { kind: FailureKind::Sql, detail })));
            };
            took += Span::from(answer.takes);
            if took > within {
                let detail = format!("{} did not answer in time", query.database);
                return (within, Outcome::Queried(Err(EffectError { kind: FailureKind::Timeout, detail })));
            }
            match &answer.outcome {
                CompiledOutcome::Fails { kind, detail } => {
                    let kind = FailureKind::of(kind).unwrap_or(FailureKind::Sql);
                    let fault = EffectError { kind, detail: detail.clone() };
                    return (took, Outcome::Queried(Err(fault)));
                }
                CompiledOutcome::Rows { rows, count, id } => {
                    let rows = rows.as_ref().map(|maker| made(maker, &request));
                    let rows = rows.as_ref().and_then(Value::as_list).unwrap_or_default().to_vec();
                    let count = count.unwrap_or(if rows.is_empty() { counted } else { rows.len() as u64 });
                    all.push(Rows { rows, count, id: *id });
                }
                CompiledOutcome::Answer { .. } => all.push(Rows::default()),
            }
        }
        (took, Outcome::Queried(Ok(all)))
    }

    /// The answer whose turn it is: the case's own stubs before those of all cases, in the order they
    /// are written; one with a condition where that holds, one without until it was given as often as
    /// it says, or once where another without a condition stands behind it.
    fn find(&mut self, fits: impl Fn(&str) -> bool, request: &Value) -> Option<&'c Answer> {
        let prepared = self.prepared;
        let stubs: Vec<&'c Stub> = self.case.stubs.iter().chain(&prepared.stubs).collect();
        for (stub_at, stub) in stubs.iter().enumerate().filter(|(_, stub)| fits(&stub.name)) {
            for (at, answer) in stub.answers.iter().enumerate() {
                let holds = answer.when.as_ref().is_none_or(|when| {
                    let value = when.eval(std::slice::from_ref(request), Limits::default());
                    value.is_ok_and(|value| ops::truthy(&value))
                });
                let another = stub.answers[at + 1..].iter().any(|later| later.when.is_none());
                let most = answer.times.or((another && answer.when.is_none()).then_some(1));
                let used = self.used.entry((stub_at, at)).or_default();
                if holds && most.is_none_or(|most| *used < most) {
                    *used += 1;
                    return Some(answer);
                }
            }
        }
        None
    }

    /// Writes the stub that is missing, with what the operation's description says it answers.
    fn miss_call(&mut self, request: &Request, name: &str, operation: Option<&Operation>) {
        // That of a call by address ends with its path.
        let name = if request.operation.is_some() { name.to_owned() } else { format!("\"{name}\"") };
        let good = operation.and_then(|operation| {
            let api = &self.prepared.services.get(&request.service)?.api;
            let good = operation
                .responses
                .iter()
                .find(|r| r.statuses().is_some_and(|(from, _)| (200..300).contains(&from)))?;
            let example = good.example.clone().or_else(|| {
                let (_, schema) = good.content.iter().find(|(media, _)| media.contains("json"))?;
                Some(example::of_schema_in(api, schema))
            });
            Some((good.statuses().map_or(200, |(from, _)| from), example))
        });
        let (status, body) = good.unwrap_or((200, Some(serde_json::json!({}))));
        let status = if status == 200 { String::new() } else { format!("status: {status}, ") };
        let body = body.map_or("null".to_owned(), |body| body.to_string());
        let stub = format!("{name}: {{{status}body: {body}}}");
        if !self.missing.contains(&stub) {
            self.missing.push(stub);
        }
    }
}

fn made(maker: &Maker, request: &Value) -> Value {
    maker.make(std::slice::from_ref(request), Limits::default()).unwrap_or_else(|failure| {
        // The text shows in whatever the workflow makes of it.
        Value::text(format!("the stub's body failed: {}", failure.message))
    })
}

pub(super) fn http_answer(status: u16, headers: &[(String, String)], body: Option<Value>) -> machine::Answer {
    let mut headers = headers.to_vec();
    let typed = headers.iter().any(|(name, _)| name.eq_ignore_ascii_case("content-type"));
    let bytes = match &body {
        None | Some(Value::Undefined) => Vec::new(),
        Some(value) => match (described(value).as_ref().and_then(File::of), value) {
            (Some(file), _) => {
                if !typed {
                    headers.push(("content-type".into(), file.media.to_string()));
                }
                return machine::Answer { status, headers, body: Data::File(file.clone()) };
            }
            (None, Value::Text(text)) => {
                if !typed {
                    headers.push(("content-type".into(), "text/plain; charset=utf-8".into()));
                }
                text.as_bytes().to_vec()
            }
            (None, other) => {
                if !typed {
                    headers.push(("content-type".into(), "application/json".into()));
                }
                other.to_json().into_bytes()
            }
        },
    };
    machine::Answer { status, headers, body: Data::Bytes(bytes) }
}

/// What conditions of stubs and expectations of calls see of a request.
fn shown(request: &Request, operation: Option<&Operation>) -> Value {
    let (path, query) = request.target.split_once('?').unwrap_or((&request.target, ""));
    let mut by_query = ObjectBuilder::default();
    let mut params = ObjectBuilder::default();
    for (name, value) in kanzlei_compiler::input::form_pairs(query.as_bytes()) {
        by_query.insert(name.as_str().into(), Value::text(value.as_str()));
        params.insert(name.as_str().into(), Value::text(value));
    }
    if let Some(operation) = operation {
        for (template, given) in operation.path.split('/').zip(path.split('/')) {
            if let Some(name) = template.strip_prefix('{').and_then(|t| t.strip_suffix('}')) {
                params.insert(name.into(), Value::text(kanzlei_compiler::input::decoded(given)));
            }
        }
        for parameter in operation.parameters.iter().filter(|p| p.within == In::Header) {
            let given = request.headers.iter().find(|(name, _)| name.eq_ignore_ascii_case(&parameter.name));
            if let Some((_, value)) = given {
                params.insert(parameter.name.as_str().into(), Value::text(value.as_str()));
            }
        }
    }
    let body = match request.body.as_deref() {
        None => Value::Undefined,
        Some([Data::File(file)]) => Value::from(file.clone()),
        Some(data) => {
            let bytes: Vec<u8> = data.iter().filter_map(Data::held).flatten().copied().collect();
            match serde_json::from_slice(&bytes) {
                Ok(json) => json,
                Err(_) => Value::text(String::from_utf8_lossy(&bytes).into_owned()),
            }
        }
    };
    let headers = request.headers.iter().map(|(name, value)| (name.to_ascii_lowercase(), Value::text(value.as_str())));
    Value::object([
        ("method", Value::text(request.method.as_str())),
        ("host", request.host.as_deref().map_or(Value::Undefined, Value::text)),
        ("path", Value::text(path)),
        ("target", Value::text(request.target.as_str())),
        ("params", params.finish()),
        ("query", by_query.finish()),
        ("headers", Value::object(headers)),
        ("body", body),
        ("attempt", Value::Int(request.attempt.into())),
    ])
}

/// Whether the name of a stub or an expectation means a call: `service.operation`, or for a call by address
/// `service METHOD` with or without a path, whose parts in braces stand for anything.
pub(super) fn names_call(written: &str, call: &str) -> bool {
    if written == call {
        return true;
    }
    let mut parts = call.splitn(3, ' ');
    let (Some(service), Some(method), Some(path)) = (parts.next(), parts.next(), parts.next()) else { return false };
    let mut written = written.splitn(3, ' ');
    written.next() == Some(service)
        && written.next() == Some(method)
        && written.next().is_none_or(|wanted| path_fits(wanted, path))
}

fn path_fits(wanted: &str, path: &str) -> bool {
    let (wanted, path): (Vec<&str>, Vec<&str>) = (wanted.split('/').collect(), path.split('/').collect());
    wanted.len() == path.len()
        && wanted.iter().zip(&path).all(|(wanted, part)| wanted.starts_with('{') || wanted == part)
}
