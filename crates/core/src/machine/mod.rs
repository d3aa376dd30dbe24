//! The machine: one run of one plan, without I/O.
//!
//! A run is a value. [`Machine::next`] says what is to be done; whoever holds the machine does it and
//! feeds the outcome back with the time at which it was had. Nothing in here reads a clock, a socket or
//! a random source, so the same outcomes give the same run: live, rehearsed, recovered or replayed.
//!
//! ```
//! use kanzlei_core::check::{Bundle, check};
//! use kanzlei_core::machine::{Machine, Next, Start};
//! use kanzlei_core::value::Value;
//!
//! let mut bundle = Bundle::default();
//! bundle.add("greet.yaml", "workflow: greet\ninput: {name: {type: string}}\nsteps:\n  - reply: 200\n    body: Hello ${input.name}\n");
//! let plan = check(&bundle).workflows.remove(0).1;
//! let input = Value::object([("name", Value::text("Tare"))]);
//! let mut machine = Machine::new(plan.into(), Start { id: "r1".into(), input, now: 0, caller: None });
//! let Next::Answer(answer) = machine.next() else { panic!() };
//! assert_eq!(answer.body, Value::text("Hello Tare"));
//! assert!(matches!(machine.next(), Next::Finished));
//! ```

mod call;
mod record;

#[cfg(test)]
mod tests;

use std::sync::Arc;

pub use call::{Answer, CallError, CallFault, Request};
pub use record::{Ended, State, StepRecord};

use crate::expr::{self, Limits, ops};
use crate::plan::{self, Action, BlockId, FAILURE, INPUT, Maker, Plan, RUN, Step};
use crate::problem::Problem;
use crate::value::Value;

/// Microseconds since 1970 UTC.
pub type Micros = i64;

/// The most steps one run may take.
pub const MAX_TAKEN: u32 = 100_000;

/// What a run begins with.
#[derive(Clone, Debug)]
pub struct Start {
    /// The run's id; also the seed of everything that looks random in it.
    pub id: String,
    pub input: Value,
    pub now: Micros,
    /// Who called, as far as known.
    pub caller: Option<String>,
}

/// What is to be done next.
#[derive(Debug)]
pub enum Next {
    /// Send this request and feed the answer, or why there is none.
    Call(Box<Request>),
    /// Do nothing until then, and feed [`Outcome::Waited`].
    Wait { until: Micros },
    /// The client's answer is ready; the run may go on behind it.
    Answer(Box<Reply>),
    /// The run has ended; [`Machine::ended`] says how.
    Finished,
}

/// What came of the effect last asked for.
#[derive(Debug)]
pub enum Outcome {
    Called(Result<Answer, CallFault>),
    Waited,
}

/// The answer to the client.
#[derive(Clone, Debug, PartialEq)]
pub struct Reply {
    pub status: u16,
    pub headers: Vec<(String, String)>,
    /// `undefined` for no body, text as it is, anything else as JSON.
    pub body: Value,
    /// Set when the answer is a problem (RFC 9457).
    pub problem: bool,
}

/// Why a step failed; what `failure` is in a rescue.
#[derive(Clone, Debug, PartialEq)]
pub struct Failure {
    pub kind: &'static str,
    pub status: Option<u16>,
    pub detail: String,
    pub body: Value,
}

impl Failure {
    fn expression(failure: &expr::Failure) -> Self {
        Failure { kind: "expression", status: None, detail: failure.message.clone(), body: Value::Undefined }
    }

    pub fn to_value(&self) -> Value {
        Value::object([
            ("kind", Value::text(self.kind)),
            ("status", self.status.map_or(Value::Null, |status| Value::Int(status.into()))),
            ("detail", Value::text(self.detail.as_str())),
            ("body", self.body.clone()),
        ])
    }
}

/// Where the run is: a step in a block, and the record of the step the block belongs to.
#[derive(Debug)]
struct Frame {
    block: BlockId,
    at: usize,
    /// Index of the record of the step around.
    owner: Option<usize>,
}

/// A call that is being made.
#[derive(Debug)]
struct Pending {
    record: usize,
    attempt: u32,
    waiting: bool,
}

#[derive(Debug)]
pub struct Machine {
    plan: Arc<Plan>,
    id: String,
    slots: Vec<Value>,
    frames: Vec<Frame>,
    pending: Option<Pending>,
    records: Vec<StepRecord>,
    reply: Option<Reply>,
    reply_given: bool,
    ended: Option<Ended>,
    now: Micros,
    taken: u32,
    limits: Limits,
}

impl Machine {
    pub fn new(plan: Arc<Plan>, start: Start) -> Self {
        let mut slots = vec![Value::Undefined; plan.slots.len()];
        slots[INPUT as usize] = start.input;
        if plan.uses_run {
            slots[RUN as usize] = Value::object([
                ("id", Value::text(start.id.as_str())),
                ("attempt", Value::Int(1)),
                ("started", Value::text(instant(start.now))),
                ("caller", start.caller.map_or(Value::Null, Value::text)),
            ]);
        }
        let records = Vec::with_capacity(plan.blocks[0].len());
        Machine {
            plan,
            id: start.id,
            slots,
            frames: vec![Frame { block: 0, at: 0, owner: None }],
            pending: None,
            records,
            reply: None,
            reply_given: false,
            ended: None,
            now: start.now,
            taken: 0,
            limits: Limits::default(),
        }
    }

    pub fn plan(&self) -> &Arc<Plan> {
        &self.plan
    }

    /// What the steps did so far, in the order they began.
    pub fn records(&self) -> &[StepRecord] {
        &self.records
    }

    pub fn into_records(self) -> Vec<StepRecord> {
        self.records
    }

    pub fn ended(&self) -> Option<&Ended> {
        self.ended.as_ref()
    }

    pub fn reply(&self) -> Option<&Reply> {
        self.reply.as_ref()
    }

    /// Says what is to be done; asked again before an outcome is fed it says the same.
    #[allow(clippy::should_implement_trait)]
    pub fn next(&mut self) -> Next {
        loop {
            if self.reply.is_some() && !self.reply_given {
                self.reply_given = true;
                if let Some(reply) = &self.reply {
                    return Next::Answer(Box::new(reply.clone()));
                }
            }
            if self.ended.is_some() {
                return Next::Finished;
            }
            if let Some(pending) = &self.pending {
                let record = &self.records[pending.record];
                if pending.waiting {
                    return Next::Wait { until: record.resumes };
                }
                match self.request() {
                    Ok(request) => return Next::Call(Box::new(request)),
                    Err(failure) => {
                        let record = pending_record(&mut self.pending);
                        self.step_failed(record, failure);
                        continue;
                    }
                }
            }
            self.advance();
        }
    }

    /// Takes the outcome of what [`Machine::next`] asked for.
    pub fn feed(&mut self, outcome: Outcome, now: Micros) {
        self.now = self.now.max(now);
        let Some(pending) = &mut self.pending else { return };
        match outcome {
            Outcome::Waited => {
                pending.waiting = false;
                pending.attempt += 1;
                self.records[pending.record].attempts = pending.attempt;
            }
            Outcome::Called(result) => self.called(result),
        }
    }

    /// Ends the run from outside, for instance when its time is up.
    pub fn stop(&mut self, failure: Failure, problem: Problem, now: Micros) {
        self.now = self.now.max(now);
        if self.ended.is_some() {
            return;
        }
        if self.pending.is_some() {
            let record = pending_record(&mut self.pending);
            self.close(record, State::Failed, Value::Undefined, Some(failure.clone()));
        }
        self.end_failed(failure, problem);
    }

    /// Takes one step, or leaves a block that is done.
    fn advance(&mut self) {
        let Some(frame) = self.frames.last_mut() else {
            self.ended = Some(Ended { state: State::Succeeded, failure: None, at: self.now });
            return;
        };
        let plan = self.plan.clone();
        let Some(step) = plan.blocks[frame.block as usize].get(frame.at) else {
            let done = self.frames.pop();
            if let Some(owner) = done.and_then(|frame| frame.owner) {
                self.close(owner, State::Succeeded, Value::Undefined, None);
            }
            return;
        };
        let place = (frame.block, frame.at);
        frame.at += 1;
        if step.off {
            return;
        }
        self.taken += 1;
        if self.taken > MAX_TAKEN {
            let failure = Failure {
                kind: "expression",
                status: None,
                detail: format!("more than {MAX_TAKEN} steps"),
                body: Value::Undefined,
            };
            self.end_failed(failure, Problem::new(500, "The workflow takes too many steps"));
            return;
        }
        self.take(step, place);
    }

    fn take(&mut self, step: &Step, place: (BlockId, usize)) {
        let record = self.open(step, place);
        if let Some(when) = &step.when {
            match when.eval(&self.slots, self.limits) {
                Ok(value) if ops::truthy(&value) => {}
                Ok(_) => {
                    self.close(record, State::Skipped, Value::Undefined, None);
                    return;
                }
                Err(failure) => return self.step_failed(record, Failure::expression(&failure)),
            }
        }
        if let Err(failure) = self.act(step, record) {
            self.step_failed(record, Failure::expression(&failure));
        }
    }

    fn act(&mut self, step: &Step, record: usize) -> Result<(), Box<expr::Failure>> {
        match &step.action {
            Action::Call(_) => {
                self.records[record].attempts = 1;
                self.pending = Some(Pending { record, attempt: 1, waiting: false });
            }
            Action::Let(values) => {
                let mut out = Vec::with_capacity(values.len());
                for (slot, maker) in values {
                    let value = self.make(maker)?;
                    out.push((self.plan.slots[*slot as usize].as_str(), value.clone()));
                    self.slots[*slot as usize] = value;
                }
                let made = Value::object(out);
                self.close(record, State::Succeeded, made, None);
            }
            Action::If { condition, then, otherwise } => {
                let value = condition.eval(&self.slots, self.limits)?;
                let truth = ops::truthy(&value);
                self.records[record].outcome = Value::Bool(truth);
                self.enter(if truth { Some(*then) } else { *otherwise }, record);
            }
            Action::Match { subject, arms, otherwise } => {
                let value = subject.eval(&self.slots, self.limits)?;
                let arm = arms.iter().find(|(wanted, _)| ops::strict_equal(wanted, &value)).map(|(_, block)| *block);
                self.records[record].outcome = value;
                self.enter(arm.or(*otherwise), record);
            }
            Action::Note(maker) => {
                let value = self.make(maker)?;
                self.close(record, State::Succeeded, value, None);
            }
            Action::Reply(reply) => {
                let plan::Reply { status, headers, body } = &**reply;
                if self.reply.is_some() {
                    let failure = Failure {
                        kind: "expression",
                        status: None,
                        detail: "the client already had its answer".into(),
                        body: Value::Undefined,
                    };
                    self.step_failed(record, failure);
                    return Ok(());
                }
                let status = self.make(status)?;
                let code = status_code(&status, 200)?;
                let mut made = Vec::with_capacity(headers.len());
                for (name, maker) in headers {
                    let value = self.make(maker)?;
                    if !value.is_nullish() {
                        made.push((name.clone(), ops::to_text(&value).to_string()));
                    }
                }
                let body = match body {
                    Some(maker) => self.make(maker)?,
                    None => Value::Undefined,
                };
                self.records[record].outcome = Value::Int(code.into());
                self.reply = Some(Reply { status: code, headers: made, body, problem: false });
                self.close(record, State::Succeeded, Value::Int(code.into()), None);
            }
            Action::Fail(fail) => {
                let plan::Fail { status, title, detail, problem_type, with } = &**fail;
                let code = status_code(&self.make(status)?, 400)?;
                let text = |maker: &Option<Maker>| -> Result<Option<String>, Box<expr::Failure>> {
                    Ok(match maker {
                        Some(maker) => {
                            Some(self.make(maker)?).filter(|v| !v.is_nullish()).map(|v| ops::to_text(&v).to_string())
                        }
                        None => None,
                    })
                };
                let (title, detail, problem_type) = (text(title)?, text(detail)?, text(problem_type)?);
                let mut problem = Problem::new(code, title.unwrap_or_else(|| phrase(code).to_owned()));
                problem.detail = detail;
                problem.problem_type = problem_type;
                if let Some(with) = with
                    && let serde_json::Value::Object(members) = self.make(with)?.to_serde()
                {
                    problem.with = members;
                    for own in ["type", "title", "status", "detail", "errors"] {
                        problem.with.remove(own);
                    }
                }
                let failure = Failure {
                    kind: "fail",
                    status: Some(code),
                    detail: problem.detail.clone().unwrap_or_else(|| problem.title.clone()),
                    body: Value::Undefined,
                };
                self.close(record, State::Failed, problem.to_value(), None);
                self.end_failed(failure, problem);
            }
        }
        Ok(())
    }

    fn make(&self, maker: &Maker) -> Result<Value, Box<expr::Failure>> {
        maker.make(&self.slots, self.limits)
    }

    /// Goes into a branch of a step; the step is done when the branch is.
    fn enter(&mut self, block: Option<BlockId>, owner: usize) {
        match block {
            Some(block) => self.frames.push(Frame { block, at: 0, owner: Some(owner) }),
            None => {
                let outcome = std::mem::take(&mut self.records[owner].outcome);
                self.close(owner, State::Succeeded, outcome, None);
            }
        }
    }

    fn open(&mut self, step: &Step, place: (BlockId, usize)) -> usize {
        self.records.push(StepRecord::new(step.paragraph, place, self.now));
        self.records.len() - 1
    }

    fn close(&mut self, record: usize, state: State, outcome: Value, failure: Option<Failure>) {
        let record = &mut self.records[record];
        // A rescued step stays rescued; its branch's end is not its own success.
        if record.state == State::Running {
            record.state = state;
        }
        record.ended = self.now;
        if !matches!(outcome, Value::Undefined) {
            record.outcome = outcome;
        }
        if failure.is_some() {
            record.failure = failure;
        }
    }

    /// A step failed: its rescue takes over, or that of a step around it, or the run ends.
    fn step_failed(&mut self, record: usize, failure: Failure) {
        let mut failed = record;
        loop {
            let rescue = self.step_of(failed).and_then(|step| step.rescue);
            let in_rescue = self.records[failed].state == State::Rescued;
            if let Some(block) = rescue.filter(|_| !in_rescue) {
                self.close(failed, State::Rescued, Value::Undefined, Some(failure.clone()));
                self.slots[FAILURE as usize] = failure.to_value();
                self.frames.push(Frame { block, at: 0, owner: Some(failed) });
                return;
            }
            if in_rescue {
                self.records[failed].state = State::Failed;
                self.records[failed].ended = self.now;
            } else {
                self.close(failed, State::Failed, Value::Undefined, Some(failure.clone()));
            }
            match self.frames.pop().and_then(|frame| frame.owner) {
                Some(owner) => failed = owner,
                None => break,
            }
        }
        let problem = problem_of(&failure);
        self.end_failed(failure, problem);
    }

    /// The step a record belongs to.
    fn step_of(&self, record: usize) -> Option<&Step> {
        let (block, at) = self.records.get(record)?.place;
        self.plan.blocks.get(block as usize)?.get(at)
    }

    fn end_failed(&mut self, failure: Failure, problem: Problem) {
        let now = self.now;
        for record in self.records.iter_mut().filter(|r| r.state == State::Running) {
            record.state = State::Failed;
            record.ended = now;
        }
        self.frames.clear();
        if self.reply.is_none() {
            let body = problem.to_value();
            self.reply = Some(Reply { status: problem.status, headers: Vec::new(), body, problem: true });
        }
        self.ended = Some(Ended { state: State::Failed, failure: Some(failure), at: now });
    }
}

fn pending_record(pending: &mut Option<Pending>) -> usize {
    pending.take().map_or(0, |pending| pending.record)
}

/// A status an expression gave.
fn status_code(value: &Value, least: u16) -> Result<u16, Box<expr::Failure>> {
    let number = ops::to_number(value);
    if number.fract() == 0.0 && (f64::from(least)..=599.0).contains(&number) {
        return Ok(number as u16);
    }
    Err(Box::new(expr::Failure {
        kind: expr::FailureKind::Range,
        message: format!("{} is not a status from {least} to 599", ops::to_text(value)),
        at: None,
    }))
}

/// What the client is told when a step fails and nothing rescues it (never what was inside).
fn problem_of(failure: &Failure) -> Problem {
    match failure.kind {
        "timeout" => Problem::new(504, "A service did not answer in time"),
        "expression" => Problem::new(500, "The workflow failed"),
        _ => Problem::new(502, "A service failed"),
    }
}

/// The reason phrase of a status (RFC 9110 §15), as title of a problem without one.
pub fn phrase(status: u16) -> &'static str {
    match status {
        400 => "Bad request",
        401 => "Unauthorized",
        403 => "Forbidden",
        404 => "Not found",
        405 => "Method not allowed",
        406 => "Not acceptable",
        409 => "Conflict",
        410 => "Gone",
        412 => "Precondition failed",
        413 => "Content too large",
        415 => "Unsupported media type",
        422 => "Unprocessable content",
        429 => "Too many requests",
        500 => "Internal server error",
        501 => "Not implemented",
        502 => "Bad gateway",
        503 => "Service unavailable",
        504 => "Gateway timeout",
        _ => "Problem",
    }
}

/// RFC 3339 in UTC.
pub fn instant(micros: Micros) -> String {
    jiff::Timestamp::from_microsecond(micros).map(|at| at.to_string()).unwrap_or_default()
}
