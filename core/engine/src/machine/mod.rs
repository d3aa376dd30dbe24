//! The machine: one run of one plan, without I/O.
//!
//! A run is a value. [`Machine::next`] returns the next action; whoever holds the machine performs it and
//! feeds the outcome back with the time at which it came. Nothing in here reads a clock, a socket or
//! a random source, so the same outcomes give the same run: live, rehearsed, recovered or replayed.
//!
//! Inside, a run is made of *fibres*: one for the workflow, one for each item of a loop that is being
//! worked on, each branch of `together`, each invoked workflow (`flow`). A fibre runs steps until it
//! needs an effect; several effects can be under way at the same time, distinguished by their ids.
//!
//! ```
//! use kanzlei_model::time::Timestamp;
//! use kanzlei_compiler::check::{Bundle, check};
//! use kanzlei_engine::machine::{Machine, Next, Start};
//! use kanzlei_model::value::Value;
//!
//! let mut bundle = Bundle::default();
//! bundle.add("greet.yaml", "workflow: greet\ninput: {name: {type: string}}\nsteps:\n  - reply: 200\n    body: Hello ${input.name}\n");
//! let plan = check(&bundle).workflows.remove(0).1;
//! let input = Value::object([("name", Value::text("Tare"))]);
//! let mut machine = Machine::new(plan, Start::new("r1", input, Timestamp::EPOCH));
//! let Next::Answer(answer) = machine.next() else { panic!() };
//! assert_eq!(answer.body, Value::text("Hello Tare"));
//! assert!(matches!(machine.next(), Next::Finished));
//! ```

mod act;
mod answer;
mod body;
mod call;
mod effect;
mod file;
mod flow;
mod look;
mod memo;
mod query;
mod queue;
mod record;
mod report;
mod rows;

#[cfg(test)]
mod tests;

use std::collections::{HashMap, VecDeque};
use std::sync::Arc;

pub use answer::{Failure, Reply};
use answer::{header_value, problem_of, status_code};
pub use body::{Data, file_name, is_file};
pub use call::{Answer, Request};
pub use effect::{Effect, EffectError, EffectId, Keep, Kept, Key, Next, Outcome, Remark, Waking};
pub use file::{FileTask, FileWork, Rows as FileRows};
use flow::{Awaits, Fibre, Level, What};
pub use look::{Seen, Waiting};
pub use query::{FileInto, Filled, Load, Query, Rows, Sql};
pub use queue::{
    Address, Arrival, Cancellation, Cancelling, Enqueue, JobRequest, MAX_TAGS, Queued, shown_tags, tags as tags_of,
};
pub use record::{Ended, State, StepRecord};
pub use report::{Letter, MOST_ATTACHED_BYTES};
pub use rows::{Batch, RowsTask};

use kanzlei_compiler::plan::{CALLER, FAILURE, INPUT, KEPT, Plan, RUN, SETTINGS, Shown};
use kanzlei_lang::expr::{Limits, Marks, Watch};
use kanzlei_model::caller::Caller;
use kanzlei_model::problem::Problem;
use kanzlei_model::run::{FailureKind, RunState};
use kanzlei_model::time::Timestamp;
use kanzlei_model::value::Value;

/// The most steps one run may perform.
pub const MAX_TAKEN: u32 = 200_000;
/// The most items of one loop.
pub const MAX_ITEMS: usize = 100_000;
/// Steps of one budget, after which a run yields: [`Next::Yield`].
pub const YIELD_AFTER: u32 = 1000;
/// Units of work of one budget, after which a run yields: some milliseconds.
const YIELD_AFTER_WORK: u64 = 200_000;
/// Units of work that one evaluation may do where a run is driven; one that needs more is left to
/// [`Next::Compute`]. About a millisecond.
pub const INLINE_WORK: u64 = 20_000;
/// The first id of computations. They have their own count, so that their number changes no
/// id of an effect.
const COMPUTATIONS: EffectId = 1 << 63;
/// How often a `keep` is made anew because another run was faster.
pub const MAX_KEEP_TRIES: u32 = 50;

/// What a run begins with.
#[derive(Clone, Debug)]
pub struct Start {
    /// The run's id; also the seed of everything that looks random in it.
    pub id: String,
    /// The input as it was accepted.
    pub input: Value,
    /// When it begins.
    pub now: Timestamp,
    /// Who called, as far as known.
    pub caller: Caller,
    /// How often the run began from the start, this time included.
    pub attempt: u32,
    /// How many jobs stand between the run and what began the chain: each is queued by a run of the one before.
    pub generation: u32,
    /// The settings of the installation; nothing for those that the plan was compiled with.
    pub settings: Option<Value>,
}

impl Start {
    /// A run that nobody is known to have called, begun for the first time, with the settings of its plan.
    pub fn new(id: impl Into<String>, input: Value, now: Timestamp) -> Self {
        Start { id: id.into(), input, now, caller: Caller::default(), attempt: 1, generation: 0, settings: None }
    }
}

/// A failure that nothing caught.
#[derive(Debug)]
struct Closing {
    failure: Failure,
    /// Whether it is still to be decided if the failure stands.
    asked: bool,
    /// The fixed slots of the workflow, and what else its steps shared.
    fixed: Vec<Value>,
    own: Option<Box<flow::Own>>,
}

/// One run of one plan; see the module. It is large, so that it is boxed and moved as a pointer.
#[derive(Debug)]
pub struct Machine {
    id: String,
    /// What it identifies itself by to services.
    key: String,
    /// The workflow at 0, and each place at which one is invoked.
    levels: Vec<Level>,
    at_hand: Option<flow::Here>,
    fibres: Vec<Option<Box<Fibre>>>,
    free: Vec<usize>,
    /// Fibres that can perform a step.
    ready: VecDeque<usize>,
    /// Effects to be handed out.
    due: VecDeque<(EffectId, Effect)>,
    /// Reports that wait to be delivered.
    cancelled: Vec<EffectId>,
    /// Effects under way, and the fibre that waits for each.
    waited_for: Vec<(EffectId, usize)>,
    next_effect: EffectId,
    records: Vec<StepRecord>,
    /// What is to be let known.
    remarks: VecDeque<Remark>,
    /// Of the workflow itself; invoked ones have their own.
    reply: Option<Reply>,
    reply_given: bool,
    ended: Option<Ended>,
    /// The failure that the run ends with, while the steps of `on_failure` run.
    closing: Option<Box<Closing>>,
    /// What the workflow remembered when the run began, where it uses that.
    remembered: Option<Value>,
    now: Timestamp,
    taken: u32,
    /// Bytes of answers it was fed.
    fed: usize,
    /// The count of steps at which the budget is used up.
    yield_at: u32,
    /// The work at which it is used up.
    yield_at_work: u64,
    /// Counts the work of evaluations; interrupts them.
    watch: Arc<Watch>,
    /// Computations that were deferred so far.
    deferred: u64,
    /// Whether the first fibre that is ready has deferred an evaluation.
    computes: bool,
    /// Whether evaluations may do all the work that the language allows.
    unhurried: bool,
    /// Which points scripts reached, by record, where that is wanted.
    marks: Option<HashMap<usize, Vec<bool>>>,
    /// The same of functions.
    function_marks: Option<Marks>,
    /// A step that is looked at.
    look: Option<Box<look::Look>>,
    /// The settings in place of those that plans were compiled with.
    settings: Option<Value>,
}

impl Machine {
    /// A run that has not begun.
    pub fn new(plan: Arc<Plan>, start: Start) -> Box<Self> {
        let mut slots = vec![Value::Undefined; plan.slots.len()];
        slots[INPUT as usize] = start.input;
        if plan.uses_run {
            slots[RUN as usize] = Value::object([
                ("id", Value::text(start.id.as_str())),
                ("attempt", Value::Int(start.attempt.into())),
                ("generation", Value::Int(start.generation.into())),
                ("started", Value::text(start.now.to_string())),
                ("caller", start.caller.name.as_deref().map_or(Value::Null, Value::text)),
            ]);
        }
        if plan.uses_caller {
            slots[CALLER as usize] = start.caller.value();
        }
        let settings = start.settings;
        if let Some(own) = &plan.settings {
            slots[SETTINGS as usize] = settings.as_ref().unwrap_or(own).clone();
        }
        let records = Vec::with_capacity(plan.blocks[0].len());
        let mut machine = Box::new(Machine {
            key: start.id.clone(),
            id: start.id,
            levels: vec![Level::root(plan)],
            at_hand: None,
            fibres: Vec::with_capacity(1),
            free: Vec::new(),
            ready: VecDeque::with_capacity(1),
            due: VecDeque::new(),
            cancelled: Vec::new(),
            waited_for: Vec::new(),
            next_effect: 0,
            records,
            remarks: VecDeque::new(),
            reply: None,
            reply_given: false,
            ended: None,
            closing: None,
            remembered: None,
            now: start.now,
            taken: 0,
            fed: 0,
            yield_at: YIELD_AFTER,
            yield_at_work: YIELD_AFTER_WORK,
            watch: Arc::default(),
            deferred: 0,
            computes: false,
            unhurried: false,
            marks: None,
            function_marks: None,
            look: None,
            settings,
        });
        machine.start_invocation(0, slots, None);
        machine
    }

    /// Sets what the `Idempotency-Key` of its calls, the boundaries of their bodies and its UUIDs are made from, its id by default: a
    /// service that could compute the id of a job could read its result and cancel it.
    pub fn with_key(mut self: Box<Self>, key: String) -> Box<Self> {
        self.key = key;
        self
    }

    /// Takes the run out, for instance to compute on another thread; what is left has its plan and nothing else.
    pub fn take_out(&mut self) -> Machine {
        let start = Start::new(String::new(), Value::Undefined, self.now);
        let left = Machine::new(self.plan().clone(), start);
        std::mem::replace(self, *left)
    }

    /// The plan of the workflow itself.
    pub fn plan(&self) -> &Arc<Plan> {
        &self.levels[0].plan
    }

    /// The settings that the run reads; nothing where it reads none.
    pub fn settings(&self) -> Option<&Value> {
        let own = self.plan().settings.as_ref()?;
        Some(self.settings.as_ref().unwrap_or(own))
    }

    /// What the steps did so far, in the order they began.
    pub fn records(&self) -> &[StepRecord] {
        &self.records
    }

    /// The number of a record's step on the sheet of the run: those of an invoked workflow stand below
    /// the number of the step that invokes it.
    pub fn number(&self, record: &StepRecord) -> String {
        let level = &self.levels[record.level as usize];
        let own = level.plan.sheet.get(record.paragraph as usize).map_or("", |p| p.number.as_str());
        format!("{}{own}", level.prefix)
    }

    /// The plan that a record's step belongs to.
    pub fn plan_of(&self, record: &StepRecord) -> &Arc<Plan> {
        &self.levels[record.level as usize].plan
    }

    /// What of a record's values is masked where they are shown; nothing where all of them may be.
    pub fn shown(&self, record: &StepRecord) -> Option<&Shown> {
        let (block, position) = record.place();
        self.plan_of(record).labels.of(block, position)
    }

    /// The positions in the loops around a record, outermost first.
    pub fn items(&self, record: &StepRecord) -> Vec<u32> {
        let mut items = Vec::new();
        let mut at = Some(record);
        while let Some(record) = at {
            items.extend(record.item);
            at = record.owner.and_then(|owner| self.records.get(owner as usize));
        }
        items.reverse();
        items
    }

    /// How it ended; nothing while it is under way.
    pub fn ended(&self) -> Option<&Ended> {
        self.ended.as_ref()
    }

    /// The reply, once there is one.
    pub fn reply(&self) -> Option<&Reply> {
        self.reply.as_ref()
    }

    /// What the workflow remembered when the run began; nothing where it does not use that.
    pub fn remembered(&self) -> Option<&Value> {
        self.remembered.as_ref()
    }

    /// Returns what the run wants next; each effect comes once.
    #[allow(clippy::should_implement_trait)]
    pub fn next(&mut self) -> Next {
        loop {
            if self.reply.is_some() && !self.reply_given {
                self.reply_given = true;
                if let Some(reply) = &self.reply {
                    return Next::Answer(Box::new(reply.clone()));
                }
            }
            if let Some(remark) = self.remarks.pop_front() {
                return Next::Remark(remark);
            }
            if self.ended.is_some() {
                return Next::Finished;
            }
            if self.closing.as_ref().is_some_and(|closing| closing.asked) {
                return Next::Failing;
            }
            if let Some(id) = self.cancelled.pop() {
                return Next::Cancel(id);
            }
            if let Some((id, effect)) = self.due.pop_front() {
                return Next::Do(id, effect);
            }
            if self.computes {
                return Next::Compute(COMPUTATIONS + self.deferred);
            }
            if self.budget_used_up() {
                self.renew_budget();
                return Next::Yield;
            }
            match self.ready.pop_front() {
                Some(fibre) => self.run_fibre(fibre),
                None => return Next::Idle,
            }
        }
    }

    /// The failure behind which the run ends, once a step failed that nothing caught in a workflow with `on_failure`.
    pub fn failing(&self) -> Option<&Failure> {
        self.closing.as_ref().map(|closing| &closing.failure)
    }

    /// Goes on behind [`Next::Failing`]: where the failure stands, the steps of `on_failure` run; else the run ends
    /// with it at once.
    pub fn close_with(&mut self, stands: bool) {
        let Some(closing) = self.closing.as_mut().filter(|closing| closing.asked) else { return };
        closing.asked = false;
        let failure = closing.failure.clone();
        let plan = self.levels[0].plan.clone();
        match plan.on_failure.filter(|_| stands) {
            Some(block) => {
                let mut slots = vec![Value::Undefined; plan.slots.len()];
                slots[..closing.fixed.len()].clone_from_slice(&closing.fixed);
                slots[FAILURE as usize] = failure.to_value();
                let own = closing.own.take();
                self.start_block(block, slots, own);
            }
            None => {
                let problem = problem_of(&failure);
                self.end_failed(failure, problem);
            }
        }
    }

    /// About how many bytes it holds: what it was fed, and its records.
    pub fn weight(&self) -> usize {
        self.fed.saturating_mul(2) + self.records.len() * 512
    }

    fn budget_used_up(&self) -> bool {
        self.taken >= self.yield_at || self.watch.work() >= self.yield_at_work
    }

    fn renew_budget(&mut self) {
        self.yield_at = self.taken + YIELD_AFTER;
        self.yield_at_work = self.watch.work().saturating_add(YIELD_AFTER_WORK);
    }

    /// Performs the evaluation that was deferred, from its beginning and with all the work that the language allows:
    /// up to some tenths of a second. The run then continues with [`Machine::next`]. Interrupted by the watch, it ends
    /// early and the run stands where it stood.
    pub fn compute(&mut self) {
        self.computes = false;
        let Some(fibre) = self.ready.pop_front() else { return };
        // What the attempt before cost is not counted: this one gets to its end.
        self.renew_budget();
        self.unhurried = true;
        self.run_fibre(fibre);
        self.unhurried = false;
        if !self.computes {
            self.deferred += 1;
        }
    }

    /// Counts the work of this run's evaluations, and interrupts them from another thread. An interrupted run is
    /// ended afterwards: by [`Machine::time_is_up`] or [`Machine::call_off`].
    pub fn watch(&self) -> &Arc<Watch> {
        &self.watch
    }

    /// Marks from now on which points of scripts and functions are reached.
    pub fn mark_points(&mut self) {
        self.marks.get_or_insert_default();
        self.function_marks.get_or_insert_default();
    }

    /// Which points of functions were reached, where that is wanted.
    pub fn function_marks(&self) -> Option<&Marks> {
        self.function_marks.as_ref()
    }

    /// Which points of its script a record's step reached.
    pub fn marks(&self, record: usize) -> Option<&[bool]> {
        self.marks.as_ref()?.get(&record).map(Vec::as_slice)
    }

    /// What one evaluation may use.
    fn limits(&self) -> Limits<'_> {
        let defer_after = (!self.unhurried).then_some(INLINE_WORK);
        let (watch, seed, marks) = (Some(&*self.watch), Some(self.key.as_str()), self.function_marks.as_ref());
        Limits { defer_after, watch, seed, marks, ..Limits::default() }
    }

    /// Feeds the outcome of an effect; one that nothing waits for is dropped.
    pub fn feed(&mut self, id: EffectId, outcome: Outcome, now: Timestamp) {
        self.now = self.now.max(now);
        if self.ended.is_some() {
            return;
        }
        self.fed += match &outcome {
            Outcome::Called(Ok(answer)) => answer.body.weight(),
            Outcome::Arrived(Some(arrival)) => arrival.body.len(),
            // Rows are values already; a cell has some tens of bytes.
            Outcome::Queried(Ok(all)) => all.iter().map(|rows| rows.rows.len() * 512).sum(),
            _ => 0,
        };
        let Some(at) = self.waited_for.iter().position(|(known, _)| *known == id) else { return };
        let (_, at) = self.waited_for.swap_remove(at);
        let Some(mut fibre) = self.fibres[at].take() else { return };
        let flow = match std::mem::replace(&mut fibre.awaits, Awaits::Nothing) {
            Awaits::Effect { record, what, .. } => self.outcome(at, &mut fibre, record, what, outcome),
            Awaits::Children(group) if group.feed.as_ref().is_some_and(|feed| feed.asked == Some(id)) => {
                self.rows_came(at, &mut fibre, group, outcome)
            }
            other => {
                fibre.awaits = other;
                flow::Flow::Waits
            }
        };
        self.settle(at, fibre, flow);
    }

    /// Ends the run from outside, for instance when its time is up.
    pub fn stop(&mut self, failure: Failure, problem: Problem, now: Timestamp) {
        self.now = self.now.max(now);
        if self.ended.is_some() {
            return;
        }
        for record in self.records.iter_mut().filter(|r| r.state == State::Running && r.attempts > 0) {
            record.failure = Some(Box::new(failure.clone()));
        }
        self.end_failed(failure, problem);
    }

    /// Ends the run because it is not wanted any more.
    pub fn call_off(&mut self, now: Timestamp) {
        self.now = self.now.max(now);
        if self.ended.is_some() {
            return;
        }
        let now = self.now;
        for record in self.records.iter_mut().filter(|r| r.state == State::Running) {
            record.state = State::Cancelled;
            record.ended = now;
        }
        self.ended = Some(Ended { state: RunState::Cancelled, failure: None, at: now });
    }

    /// Ends a run that took longer than it may.
    pub fn time_is_up(&mut self, within: std::time::Duration, now: Timestamp) {
        let detail = format!("the request took longer than its limit of {}", kanzlei_model::duration::short(within));
        let failure = Failure { status: Some(504), ..Failure::new(FailureKind::Timeout, detail.clone()) };
        self.stop(failure, Problem::new(504, "The request took too long").detail(detail), now);
    }

    fn outcome(
        &mut self,
        at: usize,
        fibre: &mut Fibre,
        record: Option<usize>,
        what: What,
        outcome: Outcome,
    ) -> flow::Flow {
        match (what, outcome, record) {
            (What::Call { attempt }, Outcome::Called(result), Some(record)) => {
                self.called(at, fibre, record, attempt, result)
            }
            (What::Again { attempt }, Outcome::Waited, Some(record)) => self.repeat_call(fibre, record, attempt),
            (What::Call { attempt }, Outcome::Interrupted, Some(record)) => {
                self.records[record].tried("interrupted".to_owned());
                self.repeat_call(fibre, record, attempt + 1)
            }
            (What::Pause, Outcome::Waited, Some(record)) => {
                self.close(fibre, record, State::Succeeded, Value::Undefined);
                flow::Flow::On
            }
            (What::Query, Outcome::Queried(result), Some(record)) => self.queried(fibre, record, result),
            (What::File | What::Query, Outcome::Filed(result), Some(record)) => self.filed(fibre, record, result),
            (What::Recall, Outcome::Kept(result), _) => match result {
                Ok(kept) => {
                    if fibre.level == 0 {
                        self.remembered = Some(kept.values.clone());
                    }
                    fibre.set(KEPT, kept.values.clone());
                    if let Some(own) = &mut fibre.own {
                        own.kept = Some(kept);
                    }
                    flow::Flow::On
                }
                Err(detail) => flow::Flow::Failed(Box::new(Failure::new(FailureKind::Database, detail))),
            },
            (What::Keep { tries }, Outcome::Kept(result), Some(record)) => self.kept(fibre, record, tries, result),
            (What::Enqueue, Outcome::Queued(result), Some(record)) => self.queued(fibre, record, result),
            (What::CancelJobs, Outcome::Cancelled(result), Some(record)) => self.jobs_cancelled(fibre, record, result),
            (What::Open, Outcome::Opened(result), Some(record)) => self.opened(fibre, record, result),
            (What::Callback, Outcome::Arrived(arrival), Some(record)) => self.arrived(fibre, record, arrival),
            (What::Wake, Outcome::Woken(job), Some(record)) => self.woken(fibre, record, job),
            // An outcome of another kind than the effect: treated as broken.
            (_, _, Some(record)) => self.step_failed(
                fibre,
                record,
                Failure::new(FailureKind::Internal, "the outcome is not what was asked for"),
            ),
            (_, _, None) => {
                let detail = "the outcome is not what was asked for";
                flow::Flow::Failed(Box::new(Failure::new(FailureKind::Internal, detail)))
            }
        }
    }

    fn end_failed(&mut self, failure: Failure, problem: Problem) {
        let now = self.now;
        for record in self.records.iter_mut().filter(|r| r.state == State::Running) {
            record.state = State::Failed;
            record.ended = now;
        }
        if self.reply.is_none() {
            let body = problem.to_value();
            self.reply = Some(Reply { status: problem.status, headers: Vec::new(), body, rows: None, problem: true });
        }
        // A workflow that rejects its caller works as intended: it is no failure of ours.
        let rejects = failure.kind == FailureKind::Fail && (400..500).contains(&problem.status);
        let state = if rejects { RunState::Rejected } else { RunState::Failed };
        self.ended = Some(Ended { state, failure: Some(failure), at: now });
    }
}
