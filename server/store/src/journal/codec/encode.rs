//! Runs as MessagePack, written member by member: a machine that has ended needs no [`Run`] in between.
//!
//! What is encoded implements [`Source`]: it has a [`Head`], steps, and values, each of which appends its JSON text to a buffer that
//! all of them share.
//!
//! ```
//! use kanzlei_store::journal::Run;
//! use kanzlei_store::journal::codec::Encoded;
//! let run = Run { workflow: "quote".into(), state: "succeeded".into(), ..Default::default() };
//! let encoded = Encoded::of(&run);
//! assert!(encoded.succeeded() && encoded.workflow() == "quote");
//! ```

use std::borrow::Cow;
use std::cell::RefCell;

use kanzlei_model::caller::Caller;
use kanzlei_model::run::RunState;
use kanzlei_model::time::{Span, Timestamp};
use rmp::encode::{write_array_len, write_bool, write_map_len, write_nil, write_sint, write_str, write_uint};
use uuid::Uuid;

use crate::journal::{Run, RunLine};

/// Members of a run and of a step in MessagePack.
const OF_RUN: u32 = 21;
const OF_STEP: u32 = 13;
/// The most bytes that a thread keeps between two runs to encode into.
const KEPT: usize = 256 << 10;

/// A run that can be encoded.
pub trait Source {
    /// All of it but its steps and values.
    fn head(&self) -> Head<'_>;
    /// How many steps it has.
    fn steps(&self) -> usize;
    /// One of them without its values.
    fn step(&self, at: usize) -> StepHead<'_>;
    /// Appends a value as JSON; returns false, and appends nothing, where there is none.
    fn value(&self, part: Part, into: &mut String) -> bool;
}

/// A value of a run or of the step at a place.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Part {
    /// The input; every run has one.
    Input,
    /// What the workflow remembered when the run began.
    Kept,
    /// The settings that it read.
    Settings,
    /// The body of its reply.
    Reply,
    /// Why it failed.
    Failure,
    /// What a step sent.
    Sent(usize),
    /// What came of a step.
    Outcome(usize),
    /// Why a step failed.
    StepFailure(usize),
}

/// A run without its steps and values.
#[derive(Debug)]
pub struct Head<'r> {
    /// What lists show of it.
    pub line: RunLine,
    /// `X-Request-Id` of the request that caused it.
    pub request_id: &'r str,
    /// The trace it belongs to.
    pub trace: TraceId<'r>,
    /// Who called.
    pub caller: Cow<'r, Caller>,
    /// The process that performed it.
    pub process: Option<&'r str>,
    /// Whether some of its values are replaced by marks.
    pub incomplete: bool,
    /// Its values as they were, sealed.
    pub sealed: Option<&'r str>,
}

/// The id of a trace.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum TraceId<'r> {
    /// 32 hexadecimal digits as a number.
    Digits(u128),
    /// Anything else.
    Text(&'r str),
}

impl<'r> TraceId<'r> {
    fn read(text: &'r str) -> Self {
        let digits = text.len() == 32 && text.bytes().all(|byte| matches!(byte, b'0'..=b'9' | b'a'..=b'f'));
        match u128::from_str_radix(text, 16) {
            Ok(number) if digits => TraceId::Digits(number),
            _ => TraceId::Text(text),
        }
    }
}

/// A step without its values.
#[derive(Debug, Default)]
pub struct StepHead<'r> {
    /// Index in the workflow's sheet.
    pub paragraph: u32,
    /// Its state, by the names of `StepState`.
    pub state: Cow<'r, str>,
    /// When it started.
    pub started: Timestamp,
    /// How long it took.
    pub duration: Span,
    /// Attempts made.
    pub attempts: u32,
    /// What came of the attempts before the last one.
    pub earlier_attempts: Option<Cow<'r, str>>,
    /// Number, kind and title of a step of an invoked workflow.
    pub number: Option<Cow<'r, str>>,
    /// Kind of the step.
    pub kind: Option<Cow<'r, str>>,
    /// Title of the step.
    pub title: Option<Cow<'r, str>>,
    /// Positions in the loops around.
    pub items: Option<Cow<'r, str>>,
}

/// A run as bytes, and what its row in the index says.
#[derive(Clone, Debug)]
pub struct Encoded {
    pub(in crate::journal) row: RunLine,
    pub(in crate::journal) request_id: Option<String>,
    pub(in crate::journal) caller: Option<String>,
    job: bool,
    pub(super) bytes: Vec<u8>,
}

/// What a thread encodes into: the run, and one value.
#[derive(Default)]
struct Buffers {
    out: Vec<u8>,
    value: String,
}

thread_local! {
    static BUFFERS: RefCell<Buffers> = RefCell::default();
}

impl Encoded {
    /// A run as bytes.
    pub fn of(run: &impl Source) -> Self {
        BUFFERS.with(|buffers| match buffers.try_borrow_mut() {
            Ok(mut buffers) => Encoded::with(run, &mut buffers),
            // A value that encodes a run while it is written.
            Err(_) => Encoded::with(run, &mut Buffers::default()),
        })
    }

    fn with(run: &impl Source, buffers: &mut Buffers) -> Self {
        let head = run.head();
        let mut own = Uuid::encode_buffer();
        let own = head.line.id.hyphenated().encode_lower(&mut own);
        let request_id = Some(head.request_id).filter(|id| *id != own);
        buffers.out.clear();
        write(run, &head, request_id, buffers);
        let bytes = buffers.out.as_slice().to_vec();
        if buffers.out.capacity() > KEPT || buffers.value.capacity() > KEPT {
            *buffers = Buffers::default();
        }
        Encoded {
            request_id: request_id.map(|id| id.chars().take(100).collect()),
            caller: head.caller.name.as_ref().map(|name| name.chars().take(255).collect()),
            row: head.line,
            job: false,
            bytes,
        }
    }

    /// The same, of a run of a job.
    pub fn of_job(self, job: bool) -> Self {
        Encoded { job, ..self }
    }

    /// The same of a run that is found by what its request's id leads to, and so is not listed under it.
    pub fn unlisted(self) -> Self {
        Encoded { request_id: None, ..self }
    }

    /// The job whose outcomes are needed no longer once this is written: one that succeeded cannot be retried.
    pub fn ended_job(&self) -> Option<Uuid> {
        (self.job && self.succeeded()).then_some(self.row.id)
    }

    /// The bytes of memory that it holds, about.
    pub fn size(&self) -> usize {
        self.bytes.capacity() + self.row.entry.len() + 300
    }

    /// The bytes themselves, from which a dictionary learns.
    pub fn bytes(&self) -> &[u8] {
        &self.bytes
    }

    /// The name of its workflow.
    pub fn workflow(&self) -> &str {
        &self.row.workflow
    }

    /// Whether the run succeeded.
    pub fn succeeded(&self) -> bool {
        self.row.state == RunState::Succeeded.name()
    }
}

impl AsRef<Encoded> for Encoded {
    fn as_ref(&self) -> &Encoded {
        self
    }
}

/// Writes a run. Writing into memory cannot fail.
fn write(run: &impl Source, head: &Head<'_>, request_id: Option<&str>, Buffers { out, value }: &mut Buffers) {
    let line = &head.line;
    let _ = write_array_len(out, OF_RUN);
    let (high, low) = line.id.as_u64_pair();
    pair(out, high, low);
    let _ = write_str(out, &line.workflow);
    let _ = write_uint(out, line.revision.into());
    let _ = write_str(out, &line.state);
    let _ = write_str(out, &line.entry);
    let _ = match line.status {
        Some(status) => write_uint(out, status.into()).is_ok(),
        None => write_nil(out).is_ok(),
    };
    let _ = write_sint(out, line.started.as_micros());
    let _ = write_sint(out, line.duration.as_micros());
    text(out, request_id);
    let _ = write_map_len(out, 1);
    match head.trace {
        TraceId::Digits(id) => {
            let _ = write_str(out, "Digits");
            pair(out, (id >> 64) as u64, id as u64);
        }
        TraceId::Text(id) => {
            let _ = write_str(out, "Text");
            let _ = write_str(out, id);
        }
    }
    text(out, head.caller.name.as_deref());
    text(out, head.caller.facts().as_deref());
    let mut part = |out: &mut Vec<u8>, part: Part| {
        value.clear();
        let some = run.value(part, value);
        text(out, some.then_some(value.as_str()));
    };
    for own in [Part::Input, Part::Kept, Part::Settings, Part::Reply, Part::Failure] {
        part(out, own);
    }
    text(out, head.process);
    let _ = write_bool(out, head.incomplete);
    let steps = run.steps();
    let _ = write_array_len(out, steps as u32);
    for at in 0..steps {
        let step = run.step(at);
        let _ = write_array_len(out, OF_STEP);
        let _ = write_uint(out, step.paragraph.into());
        let _ = write_str(out, &step.state);
        let _ = write_sint(out, step.started.as_micros() - line.started.as_micros());
        let _ = write_sint(out, step.duration.as_micros());
        let _ = write_uint(out, step.attempts.into());
        text(out, step.earlier_attempts.as_deref());
        for of_step in [Part::Sent(at), Part::Outcome(at), Part::StepFailure(at)] {
            part(out, of_step);
        }
        for some in [&step.number, &step.kind, &step.title, &step.items] {
            text(out, some.as_deref());
        }
    }
    text(out, head.sealed);
}

fn pair(out: &mut Vec<u8>, high: u64, low: u64) {
    let _ = write_array_len(out, 2);
    let _ = write_uint(out, high);
    let _ = write_uint(out, low);
}

fn text(out: &mut Vec<u8>, text: Option<&str>) {
    let _ = match text {
        Some(text) => write_str(out, text).is_ok(),
        None => write_nil(out).is_ok(),
    };
}

impl Source for Run {
    fn head(&self) -> Head<'_> {
        Head {
            line: self.line(),
            request_id: &self.request_id,
            trace: TraceId::read(&self.trace_id),
            caller: Cow::Borrowed(&self.caller),
            process: self.process.as_deref(),
            incomplete: self.incomplete,
            sealed: self.sealed.as_deref(),
        }
    }

    fn steps(&self) -> usize {
        self.steps.len()
    }

    fn step(&self, at: usize) -> StepHead<'_> {
        let Some(step) = self.steps.get(at) else { return StepHead::default() };
        fn some(text: &Option<String>) -> Option<Cow<'_, str>> {
            text.as_deref().map(Cow::Borrowed)
        }
        StepHead {
            paragraph: step.paragraph,
            state: Cow::Borrowed(&step.state),
            started: step.started,
            duration: step.duration,
            attempts: step.attempts,
            earlier_attempts: some(&step.earlier_attempts),
            number: some(&step.number),
            kind: some(&step.kind),
            title: some(&step.title),
            items: some(&step.items),
        }
    }

    fn value(&self, part: Part, into: &mut String) -> bool {
        let of_step = |at: usize| self.steps.get(at);
        let value = match part {
            Part::Input => Some(&self.input),
            Part::Kept => self.kept.as_ref(),
            Part::Settings => self.settings.as_ref(),
            Part::Reply => self.reply.as_ref(),
            Part::Failure => self.failure.as_ref(),
            Part::Sent(at) => of_step(at).and_then(|step| step.sent.as_ref()),
            Part::Outcome(at) => of_step(at).and_then(|step| step.outcome.as_ref()),
            Part::StepFailure(at) => of_step(at).and_then(|step| step.failure.as_ref()),
        };
        value.inspect(|value| into.push_str(value)).is_some()
    }
}

#[cfg(test)]
mod tests {
    use super::super::{Entry, Line, Trace, pack, unpack};
    use super::*;
    use crate::journal::Step;

    /// What is written member by member is what the reader's types would write.
    #[test]
    fn bytes_are_those_of_the_types_that_are_read() {
        let text = |text: &str| Some(text.to_owned());
        let step = Step {
            paragraph: 300,
            state: "succeeded".into(),
            started: Timestamp::from_micros(1_800_000_000_000_200),
            duration: Span::from_micros(-3),
            attempts: 2,
            earlier_attempts: text("503 timeout"),
            sent: text(r#"{"a":1}"#),
            outcome: text(&format!("\"{}\"", "x".repeat(70_000))),
            failure: text("{}"),
            number: text("3.1"),
            kind: text("call"),
            title: text("Ask the registry"),
            items: text("2.0"),
        };
        let full = Run {
            id: Uuid::from_u128(0x0190_0000_0000_7000_8000_0000_0000_0001),
            workflow: "quote".into(),
            revision: 70_000,
            state: "succeeded".into(),
            entry: "POST /harbours/{harbour}/quotes".into(),
            status: Some(201),
            started: Timestamp::from_micros(1_800_000_000_000_000),
            duration: Span::from_micros(1_234),
            request_id: "of the client".into(),
            trace_id: "0af7651916cd43dd8448eb211c80319c".into(),
            caller: Caller { name: text("bridge"), key: text("bridge"), owner: text("Pilots"), claims: None },
            input: "{}".into(),
            kept: text("1"),
            settings: text("2"),
            reply: text("3"),
            failure: text("{\"kind\":\"call\"}"),
            process: text("a:7080"),
            incomplete: true,
            sealed: text("sealed"),
            steps: vec![step, Step { started: Timestamp::from_micros(1_799_999_999_999_000), ..Step::default() }],
        };
        let own = Run { request_id: full.id.to_string(), trace_id: "none".into(), steps: Vec::new(), ..full.clone() };
        for run in [full, own, Run { request_id: Uuid::nil().to_string(), ..Run::default() }] {
            let encoded = Encoded::of(&run);
            assert_eq!(encoded.bytes, by_types(&run));
            assert_eq!(unpack(&pack(&[encoded], None).expect("packed"), None).expect("a segment"), [run]);
        }
    }

    fn line(step: &Step, begun: Timestamp) -> Line<'_> {
        Line {
            paragraph: step.paragraph,
            state: &step.state,
            after: step.started.as_micros() - begun.as_micros(),
            duration: step.duration.as_micros(),
            attempts: step.attempts,
            earlier_attempts: step.earlier_attempts.as_deref(),
            sent: step.sent.as_deref(),
            outcome: step.outcome.as_deref(),
            failure: step.failure.as_deref(),
            number: step.number.as_deref(),
            kind: step.kind.as_deref(),
            title: step.title.as_deref(),
            items: step.items.as_deref(),
        }
    }

    fn by_types(run: &Run) -> Vec<u8> {
        let entry = Entry {
            id: run.id.as_u64_pair(),
            workflow: &run.workflow,
            revision: run.revision,
            state: &run.state,
            entry: &run.entry,
            status: run.status,
            started: run.started.as_micros(),
            duration: run.duration.as_micros(),
            request_id: Some(run.request_id.as_str()).filter(|id| **id != run.id.to_string()),
            trace_id: match TraceId::read(&run.trace_id) {
                TraceId::Digits(id) => Trace::Digits((id >> 64) as u64, id as u64),
                TraceId::Text(text) => Trace::Text(text),
            },
            caller: run.caller.name.as_deref(),
            caller_facts: run.caller.facts().map(Into::into),
            input: &run.input,
            kept: run.kept.as_deref(),
            settings: run.settings.as_deref(),
            reply: run.reply.as_deref(),
            failure: run.failure.as_deref(),
            process: run.process.as_deref(),
            incomplete: run.incomplete,
            steps: run.steps.iter().map(|step| line(step, run.started)).collect(),
            sealed: run.sealed.as_deref(),
        };
        rmp_serde::to_vec(&entry).expect("MessagePack")
    }
}
