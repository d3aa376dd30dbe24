//! Steps that have to do with jobs: queueing and cancelling them, and waiting for a callback. What a
//! lane is and where jobs are kept is known to whoever performs the effects.

use super::flow::{Awaits, Fibre, Flow, Frame, What};
use super::{Data, Effect, EffectError, Failure, Key, MAX_ITEMS, Machine, State, Waking, body};
use kanzlei_compiler::plan::{self, Action, Cancel, Due, Maker};
use kanzlei_lang::expr::{self, ops};
use kanzlei_model::run::FailureKind;
use kanzlei_model::time::{NotAnInstant, Span, Timestamp};
use kanzlei_model::value::{ObjectBuilder, Value};

/// Jobs to be queued, all or none.
#[derive(Clone, Debug, PartialEq)]
pub struct Enqueue {
    /// The workflow that they run.
    pub workflow: String,
    /// When the run asked: the same when it asks again after a crash.
    pub at: Timestamp,
    /// 1 goes first, 9 last.
    pub priority: Option<u8>,
    /// Whether they are one group: the jobs of a list.
    pub group: bool,
    /// The jobs, all or none of which are queued.
    pub jobs: Vec<JobRequest>,
}

/// One job to be queued.
#[derive(Clone, Debug, PartialEq)]
pub struct JobRequest {
    /// The input, not yet checked.
    pub input: Value,
    /// Due at once where it says nothing.
    pub due: Option<Timestamp>,
    /// The lane, when not the workflow's own.
    pub lane: Option<String>,
    /// The tags to find it by; none where the step names none.
    pub tags: Option<Vec<String>>,
}

/// Jobs that were queued.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Queued {
    /// Ids of the jobs, in order.
    pub ids: Vec<String>,
    /// The id of their group, where there was a list.
    pub group: Option<String>,
    /// The address below which jobs are found by their ids.
    pub base: String,
}

/// Which jobs are to be cancelled.
#[derive(Clone, Debug, PartialEq)]
pub enum Cancelling {
    /// These jobs.
    Ids(Vec<String>),
    /// All jobs with a tag.
    Tag(String),
}

/// What became of jobs that were to be cancelled, by id.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Cancellation {
    /// Jobs that were cancelled.
    pub cancelled: Vec<String>,
    /// Running: they stop before their next step.
    pub begun: Vec<String>,
    /// Jobs that ended before.
    pub done: Vec<String>,
    /// Ids of no job.
    pub unknown: Vec<String>,
}

/// An address at which something is waited for.
#[derive(Clone, Debug, PartialEq)]
pub struct Address {
    /// Its own id.
    pub id: String,
    /// The full address.
    pub url: String,
}

/// What came to it.
#[derive(Clone, Debug, PartialEq)]
pub struct Arrival {
    /// The media type of the body.
    pub media: String,
    /// The body as it came.
    pub body: Vec<u8>,
}

impl Arrival {
    /// What it is by its media type.
    ///
    /// # Errors
    /// Where the body is not what the media type says.
    pub fn value(self) -> Result<Value, String> {
        body::parse(&self.media.to_ascii_lowercase(), None, Data::Bytes(self.body))
    }
}

/// The longest key by which a run waits, in characters.
const MOST_KEY: usize = 1000;

/// By what a step of a workflow waits.
fn key(workflow: &str, value: &Value) -> Made<Key> {
    let key = match value {
        Value::Text(text) => text.to_string(),
        value if value.is_nullish() => String::new(),
        other => other.to_canonical_json(),
    };
    match key.chars().count() {
        0 => Err(wrong("the key has no value")),
        1..=MOST_KEY => Ok(Key { workflow: workflow.to_owned(), key }),
        long => Err(wrong(format!("the key has {long} characters; at most {MOST_KEY} are allowed"))),
    }
}

type Made<T> = Result<T, Box<expr::EvalError>>;

fn wrong(message: impl Into<String>) -> Box<expr::EvalError> {
    expr::EvalError::new(expr::ErrorKind::Range, message)
}

/// The most tags of a job.
pub const MAX_TAGS: usize = 8;
/// The longest tag, in characters; longer ones are cut.
const TAG_LENGTH: usize = 200;

/// The tags of a job: a text, or a list of texts; what has no value is left out.
pub fn tags(value: &Value) -> Made<Vec<String>> {
    let one = std::slice::from_ref(value);
    let mut out: Vec<String> = Vec::new();
    for tag in value.as_list().unwrap_or(one).iter().filter(|tag| !tag.is_nullish()) {
        let tag: String = ops::to_text(tag).chars().take(TAG_LENGTH).collect();
        if !tag.is_empty() && !out.contains(&tag) {
            out.push(tag);
        }
    }
    if out.len() > MAX_TAGS {
        return Err(wrong(format!("a job has at most {MAX_TAGS} tags, not {}", out.len())));
    }
    Ok(out)
}

/// Tags as documents write them: one is a text.
pub fn shown_tags(tags: &[String]) -> Value {
    match tags {
        [] => Value::Null,
        [one] => Value::text(one.as_str()),
        all => Value::list(all.iter().map(|tag| Value::text(tag.as_str())).collect()),
    }
}

/// Reads a span such as `2 days`.
fn span(value: &Value) -> Made<Span> {
    let span = kanzlei_model::duration::parse(&ops::to_text(value)).map_err(|error| wrong(error.to_string()))?;
    Ok(span.into())
}

/// Reads an instant in RFC 3339.
pub(super) fn instant(value: &Value) -> Made<Timestamp> {
    let text = ops::to_text(value);
    text.parse().map_err(|error: NotAnInstant| wrong(error.to_string()))
}

impl Machine {
    pub(super) fn start_enqueue(
        &mut self,
        at: usize,
        fibre: &mut Fibre,
        enqueue: &plan::Enqueue,
        record: usize,
    ) -> Made<Flow> {
        let mut jobs = Vec::new();
        match &enqueue.each {
            None => jobs.push(self.new_job(fibre, enqueue, Span::ZERO)?),
            Some((list, slot)) => {
                let list = list.eval(&fibre.slots, self.limits())?;
                let Some(items) = list.as_list() else {
                    return Err(wrong(format!("`in` is {}, not an array", list.kind())));
                };
                if items.len() > MAX_ITEMS {
                    let detail = format!("the list has {} items; at most {MAX_ITEMS} are queued at once", items.len());
                    return Ok(self.step_failed(fibre, record, Failure::new(FailureKind::Expression, detail)));
                }
                let spacing =
                    enqueue.spacing.as_ref().map(|maker| maker.make(&fibre.slots, self.limits())).transpose()?;
                let spacing = spacing.as_ref().map(span).transpose()?.unwrap_or_default();
                let before = std::mem::take(&mut fibre.slots[*slot as usize]);
                for (index, item) in items.iter().enumerate() {
                    fibre.set(*slot, item.clone());
                    jobs.push(self.new_job(fibre, enqueue, spacing * index as i64)?);
                }
                fibre.set(*slot, before);
            }
        }
        let group = enqueue.each.is_some();
        self.records[record].sent = match (group, jobs.first()) {
            (false, Some(job)) => shown(job),
            _ => Value::object([
                ("count", Value::Int(jobs.len() as i64)),
                ("first", Value::list(jobs.iter().take(3).map(shown).collect())),
            ]),
        };
        let (workflow, priority) = (enqueue.workflow.clone(), enqueue.priority);
        let effect = Effect::Enqueue(Box::new(Enqueue { workflow, at: self.now, priority, group, jobs }));
        Ok(self.wait_for(at, fibre, record, effect, What::Enqueue))
    }

    fn new_job(&self, fibre: &Fibre, enqueue: &plan::Enqueue, later: Span) -> Made<JobRequest> {
        let make = |maker: &Maker| maker.make(&fibre.slots, self.limits());
        let mut input = ObjectBuilder::with_capacity(enqueue.send.len());
        for (name, maker) in &enqueue.send {
            let value = make(maker)?;
            if !matches!(value, Value::Undefined) {
                input.insert(name.clone(), value);
            }
        }
        let due = match &enqueue.due {
            Some(Due::After(maker)) => Some(self.now + span(&make(maker)?)?),
            Some(Due::At(maker)) => Some(instant(&make(maker)?)?),
            None => (later > Span::ZERO).then_some(self.now),
        };
        let tags = enqueue.tag.as_ref().map(make).transpose()?.map(|tag| tags(&tag)).transpose()?;
        let lane = enqueue.lane.as_ref().map(|lane| make(&lane.by)).transpose()?;
        Ok(JobRequest {
            input: input.finish(),
            lane: lane.map(|lane| ops::to_text(&lane).to_string()),
            due: due.map(|due| due + later),
            tags: tags.filter(|tags| !tags.is_empty()),
        })
    }

    pub(super) fn queued(&mut self, fibre: &mut Fibre, record: usize, result: Result<Queued, EffectError>) -> Flow {
        let group = matches!(
            self.step_of(record).map(|step| &step.action),
            Some(Action::Enqueue(enqueue)) if enqueue.each.is_some()
        );
        match result {
            Ok(queued) => {
                let url = |id: &str| Value::text(format!("{}/~/jobs/{id}", queued.base));
                let value = match (group, queued.ids.first()) {
                    (false, Some(id)) => Value::object([("job", Value::text(id.as_str())), ("url", url(id))]),
                    _ => Value::object([
                        ("jobs", Value::list(queued.ids.iter().map(|id| Value::text(id.as_str())).collect())),
                        ("group", queued.group.as_deref().map_or(Value::Null, Value::text)),
                        ("count", Value::Int(queued.ids.len() as i64)),
                    ]),
                };
                self.close(fibre, record, State::Succeeded, value);
                Flow::On
            }
            Err(fault) => self.step_failed(fibre, record, Failure::new(fault.kind, fault.detail)),
        }
    }

    pub(super) fn start_cancel(&mut self, at: usize, fibre: &mut Fibre, cancel: &Cancel, record: usize) -> Made<Flow> {
        let (maker, by_tag) = match cancel {
            Cancel::Ids(maker) => (maker, false),
            Cancel::Tag(maker) => (maker, true),
        };
        let value = maker.make(&fibre.slots, self.limits())?;
        self.records[record].sent = value.clone();
        let cancelling = if by_tag {
            Cancelling::Tag(ops::to_text(&value).to_string())
        } else {
            let ids = match value.as_list() {
                Some(ids) => ids.iter().map(|id| ops::to_text(id).to_string()).collect(),
                None => vec![ops::to_text(&value).to_string()],
            };
            Cancelling::Ids(ids)
        };
        Ok(self.wait_for(at, fibre, record, Effect::Cancel(Box::new(cancelling)), What::CancelJobs))
    }

    pub(super) fn jobs_cancelled(
        &mut self,
        fibre: &mut Fibre,
        record: usize,
        result: Result<Cancellation, EffectError>,
    ) -> Flow {
        match result {
            Ok(done) => {
                let ids = |ids: Vec<String>| Value::list(ids.into_iter().map(Value::text).collect());
                let value = Value::object([
                    ("cancelled", ids(done.cancelled)),
                    ("begun", ids(done.begun)),
                    ("done", ids(done.done)),
                    ("unknown", ids(done.unknown)),
                ]);
                self.close(fibre, record, State::Succeeded, value);
                Flow::On
            }
            Err(fault) => self.step_failed(fibre, record, Failure::new(fault.kind, fault.detail)),
        }
    }

    /// The address exists: its steps pass it on.
    pub(super) fn opened(&mut self, fibre: &mut Fibre, record: usize, result: Result<Address, EffectError>) -> Flow {
        let address = match result {
            Ok(address) => address,
            Err(fault) => return self.step_failed(fibre, record, Failure::new(fault.kind, fault.detail)),
        };
        let Some(Action::Await(wait)) = self.step_of(record).map(|step| &step.action) else { return Flow::On };
        let (slot, block) = (wait.slot, wait.block);
        let value = Value::object([("url", Value::text(address.url)), ("id", Value::text(address.id))]);
        self.records[record].sent = value.clone();
        fibre.set(slot, value);
        fibre.frames.push(Frame { block, at: 0, owner: Some(record) });
        Flow::On
    }

    /// Its steps are done: from here on it waits.
    pub(super) fn start_wait(&mut self, at: usize, fibre: &mut Fibre, record: usize) -> Flow {
        let plan = self.levels[fibre.level as usize].plan.clone();
        let (block, place) = self.records[record].place();
        let step = plan.blocks.get(block as usize).and_then(|block| block.get(place));
        let Some(Action::Await(wait)) = step.map(|step| &step.action) else { return Flow::On };
        let by = match wait.by.as_ref().map(|maker| maker.make(&fibre.slots, self.limits())) {
            None => None,
            Some(made) => match made.and_then(|value| key(&plan.name, &value)) {
                Ok(key) => Some(key),
                Err(failure) => return self.not_evaluated(fibre, record, &failure),
            },
        };
        let until = match wait.until.as_ref().map(|maker| maker.make(&fibre.slots, self.limits())) {
            None => None,
            Some(made) => {
                let began = self.records[record].started;
                let made = made.and_then(|value| instant(&value).or_else(|_| Ok(began + span(&value)?)));
                match made {
                    Ok(until) => Some(until),
                    Err(failure) => return self.not_evaluated(fibre, record, &failure),
                }
            }
        };
        let callback = self.records[record].sent.member("id").and_then(Value::as_text).unwrap_or_default().to_string();
        self.wait_for(at, fibre, record, Effect::Await { callback, by, until }, What::Callback)
    }

    pub(super) fn start_wake(&mut self, at: usize, fibre: &mut Fibre, wake: &plan::Wake, record: usize) -> Made<Flow> {
        let by = key(&wake.workflow, &wake.by.make(&fibre.slots, self.limits())?)?;
        let body = wake.body.as_ref().map(|body| body.make(&fibre.slots, self.limits())).transpose()?;
        let body = body.unwrap_or_default();
        self.records[record].sent = Value::object([("by", Value::text(by.key.as_str())), ("body", body.clone())]);
        let waking = Waking { by, body, at: self.now, keeps: wake.keeps };
        Ok(self.wait_for(at, fibre, record, Effect::Wake(Box::new(waking)), What::Wake))
    }

    pub(super) fn woken(&mut self, fibre: &mut Fibre, record: usize, job: Result<Option<String>, EffectError>) -> Flow {
        match job {
            Ok(job) => {
                let woken = Value::Bool(job.is_some());
                let value = Value::object([("woken", woken), ("job", job.map_or(Value::Null, Value::text))]);
                self.close(fibre, record, State::Succeeded, value);
                Flow::On
            }
            Err(fault) => self.step_failed(fibre, record, Failure::new(fault.kind, fault.detail)),
        }
    }

    /// Something came, or the time is up.
    pub(super) fn arrived(&mut self, fibre: &mut Fibre, record: usize, arrival: Option<Arrival>) -> Flow {
        match arrival {
            Some(arrival) => match self.accepted(record, arrival) {
                Ok(value) => {
                    self.close(fibre, record, State::Succeeded, value);
                    Flow::On
                }
                Err(detail) => self.step_failed(fibre, record, Failure::new(FailureKind::Unreadable, detail)),
            },
            None => {
                let detail = "nothing came to the address in time";
                self.step_failed(fibre, record, Failure::new(FailureKind::Timeout, detail))
            }
        }
    }

    /// The value of what came, where the step accepts it; others are refused before as a rule.
    fn accepted(&self, record: usize, arrival: Arrival) -> Result<Value, String> {
        let value = arrival.value()?;
        let Some(Action::Await(wait)) = self.step_of(record).map(|step| &step.action) else { return Ok(value) };
        let Some(accepts) = &wait.accepts else { return Ok(value) };
        match kanzlei_compiler::input::fits(&accepts.validator, &value) {
            Ok(()) => Ok(value),
            Err(problem) => {
                let faults = problem.errors.iter().map(|fault| format!("{} {}", fault.pointer, fault.detail));
                let faults = faults.collect::<Vec<_>>().join("; ");
                Err(format!("what came does not fit the schema of the step: {}", faults.trim_start()))
            }
        }
    }

    /// Asks for an effect that belongs to a step.
    pub(super) fn wait_for(&mut self, at: usize, fibre: &mut Fibre, record: usize, effect: Effect, what: What) -> Flow {
        let id = self.ask(at, effect);
        fibre.awaits = Awaits::Effect { id, record: Some(record), what };
        Flow::Waits
    }
}

fn shown(job: &JobRequest) -> Value {
    let due = job.due.map_or(Value::Null, |due| Value::text(due.to_string()));
    Value::object([
        ("input", job.input.clone()),
        ("due", due),
        ("tag", shown_tags(job.tags.as_deref().unwrap_or_default())),
    ])
}
