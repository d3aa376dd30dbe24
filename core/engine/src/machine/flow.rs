//! Fibres: how a run moves through its blocks, forks for loops, branches and invoked workflows, joins
//! them again, and what a failure ends.
//!
//! A fibre is taken out of the machine while it runs, so that both can be changed; [`Machine::settle`]
//! puts it back or deals with its end. What a fibre knows of others is its parent's place only.

use std::sync::Arc;

use super::rows::Feed;
use super::{Closing, Effect, EffectId, Ended, Failure, Kept, Machine, Reply, State, StepRecord, problem_of};
use kanzlei_compiler::plan::{Action, BlockId, CALLER, FAILURE, FIXED, INPUT, KEPT, Plan, RUN, SETTINGS, Step};
use kanzlei_lang::expr::ops;
use kanzlei_model::problem::Problem;
use kanzlei_model::run::{FailureKind, RunState};
use kanzlei_model::value::Value;

/// Records that a loop makes room for when it begins.
const RECORDS: usize = 16_384;
/// The last bit of a set of slots.
const LAST: u32 = 63;

/// A plan that is part of the run, and where its paragraphs stand.
#[derive(Debug)]
pub(super) struct Level {
    pub plan: Arc<Plan>,
    /// `3.` where step 3 invokes it.
    pub prefix: String,
    /// The level and paragraph that invoke it.
    caller: Option<(u16, u32)>,
}

impl Level {
    pub fn root(plan: Arc<Plan>) -> Self {
        Level { plan, prefix: String::new(), caller: None }
    }
}

/// The plan of the fibres that ran last, at hand so that it is not looked up for each item of a loop.
#[derive(Debug)]
pub(super) struct Here {
    level: u16,
    plan: Arc<Plan>,
}

/// Where a fibre is: a step in a block, and the record of the step the block belongs to.
#[derive(Debug)]
pub(super) struct Frame {
    pub block: BlockId,
    pub at: usize,
    /// Index of the record of the step around.
    pub owner: Option<usize>,
}

#[derive(Debug)]
pub(super) struct Fibre {
    pub level: u16,
    /// The fibre that the workflow this one belongs to began with.
    pub invocation: usize,
    pub slots: Vec<Value>,
    /// Slots that were set since the fibre began, by bit; the last one stands for all behind it.
    touched: u64,
    pub frames: Vec<Frame>,
    pub awaits: Awaits,
    /// What it began and has not done yet; begun again where an evaluation was deferred.
    pub begun: Option<Begun>,
    /// The fibre that forked this one, and which of its children this is.
    parent: Option<(usize, usize)>,
    /// The record of the step that forked it.
    owner: Option<usize>,
    /// The position in a loop.
    item: Option<u32>,
    /// The record of the latest step, where it has a result: that of a branch or an item.
    pub(super) result: Option<usize>,
    /// Set on the fibre a workflow began with.
    pub own: Option<Box<Own>>,
}

impl Fibre {
    /// Sets what a name stands for.
    pub fn set(&mut self, slot: u32, value: Value) {
        self.touched |= 1 << slot.min(LAST);
        self.slots[slot as usize] = value;
    }

    /// Makes its names those of another fibre again, which has not changed since they were; but for one that is set next.
    fn restore(&mut self, from: &Fibre, but: Option<u32>) {
        if self.slots.is_empty() {
            self.slots.clone_from(&from.slots);
        }
        let behind = if self.touched >> LAST == 1 { LAST as usize.. } else { self.slots.len().. };
        let but = but.filter(|slot| *slot < LAST).map_or(0, |slot| 1 << slot);
        let mut left = self.touched & !(1 << LAST) & !but;
        while left != 0 {
            let slot = left.trailing_zeros() as usize;
            self.slots[slot].clone_from(&from.slots[slot]);
            left &= left - 1;
        }
        if let (Some(slots), Some(from)) = (self.slots.get_mut(behind.clone()), from.slots.get(behind)) {
            slots.clone_from_slice(from);
        }
        self.touched = 0;
    }
}

/// What belongs to one invocation of a workflow.
#[derive(Debug, Default)]
pub(super) struct Own {
    pub reply: Option<Reply>,
    pub kept: Option<Kept>,
}

#[derive(Debug)]
pub(super) enum Awaits {
    Nothing,
    Effect { id: EffectId, record: Option<usize>, what: What },
    Children(Box<Group>),
}

/// Something that evaluates, and so may have to be begun again: nothing else changes before its last evaluation.
#[derive(Clone, Copy, Debug)]
pub(super) enum Begun {
    /// The step of a record that was just opened.
    Step { record: usize },
    /// Another attempt of a call.
    Call { record: usize, attempt: u32 },
    /// A call whose question has its answer.
    Asked { record: usize },
    /// The wait for a callback, whose steps are done.
    Wait { record: usize },
    /// Another attempt to keep values.
    Keep { record: usize, tries: u32 },
}

/// What an effect is for.
#[derive(Clone, Copy, Debug)]
pub(super) enum What {
    Call {
        attempt: u32,
    },
    /// The pause before another attempt.
    Again {
        attempt: u32,
    },
    Pause,
    Query,
    File,
    Recall,
    Keep {
        tries: u32,
    },
    Enqueue,
    CancelJobs,
    /// The address of a callback.
    Open,
    Callback,
    Wake,
}

/// The children of one step.
#[derive(Debug)]
pub(super) struct Group {
    pub record: usize,
    /// Fibres at work.
    pub children: Vec<usize>,
    /// The next item or branch to begin.
    next: usize,
    /// The list of a loop.
    list: Value,
    results: Vec<Value>,
    /// Where rows come from, in place of the list.
    pub feed: Option<Box<Feed>>,
}

impl Group {
    /// The items of a loop over rows.
    pub fn fed(record: usize, feed: Feed) -> Self {
        Group { feed: Some(Box::new(feed)), ..Group::of(record, Vec::new(), 0) }
    }

    /// The rows that were asked for.
    fn asked(&self) -> Option<EffectId> {
        self.feed.as_ref().and_then(|feed| feed.asked)
    }

    fn of(record: usize, children: Vec<usize>, results: usize) -> Self {
        let results = vec![Value::Undefined; results];
        Group { record, next: children.len(), children, list: Value::Undefined, results, feed: None }
    }
}

/// How a fibre continues.
#[derive(Debug)]
pub(super) enum Flow {
    On,
    /// Lets the machine speak first: the client's answer is ready, or others are to have a turn.
    Yield,
    Waits,
    /// An evaluation was deferred or interrupted: the fibre begins it again.
    Deferred,
    Done,
    /// Boxed, as most steps do not fail and each returns this.
    Failed(Box<Failure>),
    /// A `fail` step: ends the workflow it stands in.
    Quit(Box<Failure>),
}

impl Machine {
    /// Begins a workflow: the run's own, or one that is invoked.
    pub(super) fn start_invocation(&mut self, level: u16, slots: Vec<Value>, from: Option<(usize, usize)>) -> usize {
        let at = self.start_fibre(level, slots, from, 0);
        let plan = self.levels[level as usize].plan.clone();
        if let Some(fibre) = &mut self.fibres[at] {
            fibre.invocation = at;
        }
        if plan.uses_kept {
            let id = self.ask(at, Effect::Recall { workflow: plan.name.clone() });
            if let Some(fibre) = &mut self.fibres[at] {
                fibre.awaits = Awaits::Effect { id, record: None, what: What::Recall };
            }
        } else {
            self.ready.push_back(at);
        }
        at
    }

    /// Begins a block of the workflow itself in a fibre of its own.
    pub(super) fn start_block(&mut self, block: BlockId, slots: Vec<Value>, own: Option<Box<Own>>) {
        let at = self.start_fibre(0, slots, None, block);
        if let Some(fibre) = &mut self.fibres[at] {
            fibre.invocation = at;
            fibre.own = own;
        }
        self.ready.push_back(at);
    }

    /// Whether the steps of `on_failure` run for a failure: a `fail` ends the run as its author wants.
    fn is_closed_by(&self, failure: &Failure) -> bool {
        self.levels[0].plan.on_failure.is_some() && failure.kind != FailureKind::Fail
    }

    fn start_fibre(&mut self, level: u16, slots: Vec<Value>, from: Option<(usize, usize)>, block: BlockId) -> usize {
        let fibre = Fibre {
            level,
            invocation: 0,
            slots,
            touched: 0,
            frames: vec![Frame { block, at: 0, owner: from.map(|(_, record)| record) }],
            awaits: Awaits::Nothing,
            begun: None,
            parent: from.map(|(parent, _)| (parent, 0)),
            owner: from.map(|(_, record)| record),
            item: None,
            result: None,
            own: Some(Box::default()),
        };
        self.add(Box::new(fibre))
    }

    pub(super) fn add(&mut self, fibre: Box<Fibre>) -> usize {
        match self.free.pop() {
            Some(at) => {
                self.fibres[at] = Some(fibre);
                at
            }
            None => {
                self.fibres.push(Some(fibre));
                self.fibres.len() - 1
            }
        }
    }

    /// Puts an effect in line for a fibre.
    pub(super) fn ask(&mut self, fibre: usize, effect: Effect) -> EffectId {
        let id = self.next_effect;
        self.next_effect += 1;
        self.due.push_back((id, effect));
        self.waited_for.push((id, fibre));
        id
    }

    /// Runs the steps of a fibre for as long as it can.
    pub(super) fn run_fibre(&mut self, at: usize) {
        if let Some(fibre) = self.fibres.get_mut(at).and_then(Option::take) {
            self.settle(at, fibre, Flow::On);
        }
    }

    /// Continues a fibre that was taken out, until it waits or ends; then with its parent.
    pub(super) fn settle(&mut self, at: usize, fibre: Box<Fibre>, flow: Flow) {
        let known = self.at_hand.take().filter(|known| known.level == fibre.level);
        let mut here = known.unwrap_or_else(|| self.here(fibre.level));
        self.settle_here(&mut here, at, fibre, flow);
        self.at_hand = Some(here);
    }

    fn here(&self, level: u16) -> Here {
        Here { level, plan: self.levels[level as usize].plan.clone() }
    }

    fn settle_here(&mut self, here: &mut Here, at: usize, fibre: Box<Fibre>, flow: Flow) {
        let (mut at, mut fibre, mut flow) = (at, fibre, flow);
        loop {
            if fibre.level != here.level {
                *here = self.here(fibre.level);
            }
            while let Flow::On = flow {
                flow = if self.budget_used_up() { Flow::Yield } else { self.advance(&here.plan, at, &mut fibre) };
            }
            let result = match flow {
                Flow::On | Flow::Waits => {
                    self.fibres[at] = Some(fibre);
                    return;
                }
                Flow::Yield => {
                    self.fibres[at] = Some(fibre);
                    self.ready.push_front(at);
                    return;
                }
                Flow::Deferred => {
                    self.fibres[at] = Some(fibre);
                    self.ready.push_front(at);
                    self.computes = true;
                    return;
                }
                Flow::Done => Ok(()),
                Flow::Failed(failure) => Err(failure),
                Flow::Quit(failure) => {
                    // The workflow around ends, whatever loops and branches lie between.
                    let root = fibre.invocation;
                    if root != at {
                        self.cancel_records(&fibre);
                        self.fibres[at] = None;
                        self.free.push(at);
                        let Some(of) = self.fibres.get_mut(root).and_then(Option::take) else { return };
                        self.cancel(&of);
                        (at, fibre) = (root, of);
                    }
                    Err(failure)
                }
            };
            let Some((parent, _)) = fibre.parent else {
                if result.is_err() {
                    self.cancel(&fibre);
                }
                // What fails while a failure is handled does not replace it; a `fail` step does.
                let known = self.closing.take().map(|closing| Box::new(closing.failure));
                match result {
                    Ok(()) if known.is_none() => {
                        self.ended = Some(Ended { state: RunState::Succeeded, failure: None, at: self.now });
                    }
                    Err(failure) if known.is_none() && self.is_closed_by(&failure) => {
                        let fixed = fibre.slots[..FIXED.len()].to_vec();
                        let own = fibre.own.take();
                        self.closing = Some(Box::new(Closing { failure: *failure, asked: true, fixed, own }));
                    }
                    result => {
                        let own = result.err();
                        let ends = own.as_ref().is_some_and(|failure| failure.kind == FailureKind::Fail);
                        if let Some(failure) = own.filter(|_| ends || known.is_none()).or(known) {
                            let problem = problem_of(&failure);
                            self.end_failed(*failure, problem);
                        }
                    }
                }
                return;
            };
            let Some(mut over) = self.fibres.get_mut(parent).and_then(Option::take) else { return };
            let result = match result {
                Ok(()) => match self.collected(&over, &mut fibre) {
                    Collected::Value(value) => Ok(value),
                    Collected::Last(value) => {
                        // Those that began are finished, and no others begin.
                        if let Awaits::Children(group) = &mut over.awaits {
                            group.results.truncate(group.next);
                        }
                        Ok(value)
                    }
                    Collected::Failed(failure) => Err(failure),
                    Collected::Deferred => {
                        // The item has no step left: it collects again when it is run again.
                        self.fibres[parent] = Some(over);
                        flow = Flow::Deferred;
                        continue;
                    }
                },
                Err(failure) => Err(failure),
            };
            if over.level != here.level {
                *here = self.here(over.level);
            }
            flow = self.child_ended(&here.plan, parent, &mut over, at, fibre, result);
            (at, fibre) = (parent, over);
        }
    }

    /// Takes one step, or leaves a block that is done.
    fn advance(&mut self, plan: &Plan, at: usize, fibre: &mut Fibre) -> Flow {
        let begun = match fibre.begun.take() {
            Some(begun) => begun,
            None => match self.begin_step(plan, fibre) {
                Ok(begun) => begun,
                Err(flow) => return flow,
            },
        };
        let flow = match begun {
            Begun::Step { record } => {
                let (block, place) = self.records[record].place();
                match plan.blocks.get(block as usize).and_then(|block| block.get(place)) {
                    Some(step) => self.begin_action(at, fibre, step, record),
                    None => Flow::On,
                }
            }
            Begun::Call { record, attempt } => self.start_call(at, fibre, record, attempt),
            Begun::Asked { record } => self.asked(at, fibre, record),
            Begun::Wait { record } => self.start_wait(at, fibre, record),
            Begun::Keep { record, tries } => self.keep_again(at, fibre, record, tries),
        };
        if matches!(flow, Flow::Deferred) {
            fibre.begun = Some(begun);
        }
        flow
    }

    /// Opens the record of the next step, or leaves a block that is done.
    fn begin_step(&mut self, plan: &Plan, fibre: &mut Fibre) -> Result<Begun, Flow> {
        let Some(frame) = fibre.frames.last_mut() else { return Err(Flow::Done) };
        let Some(step) = plan.blocks[frame.block as usize].get(frame.at) else {
            let owner = frame.owner;
            fibre.frames.pop();
            if let Some(owner) = owner.filter(|_| !fibre.frames.is_empty()) {
                if self.records[owner].state == State::Running {
                    match self.step_of(owner).map(|step| &step.action) {
                        Some(Action::Await(_)) => return Ok(Begun::Wait { record: owner }),
                        Some(Action::Call(_)) => return Ok(Begun::Asked { record: owner }),
                        _ => {}
                    }
                }
                self.close(fibre, owner, State::Succeeded, Value::Undefined);
            }
            return Err(Flow::On);
        };
        let place = (frame.block, frame.at as u32);
        let owner = frame.owner;
        frame.at += 1;
        if step.off {
            return Err(Flow::On);
        }
        self.taken += 1;
        if self.taken > super::MAX_TAKEN {
            let mut failure = Failure::new(FailureKind::Expression, format!("more than {} steps", super::MAX_TAKEN));
            failure.problem = Some(Box::new(Problem::new(500, "The workflow ran too many steps")));
            let problem = problem_of(&failure);
            self.end_failed(failure, problem);
            return Err(Flow::Waits);
        }
        let mut record = StepRecord::new(step.paragraph, fibre.level, place, self.now);
        record.owner = owner.map(|owner| owner as u32);
        record.item = fibre.item.filter(|_| fibre.frames.len() == 1);
        if self.look.is_some() {
            self.notice(&record, &fibre.slots);
        }
        self.records.push(record);
        Ok(Begun::Step { record: self.records.len() - 1 })
    }

    /// Goes into a branch of a step; the step is done when the branch is.
    pub(super) fn enter(&mut self, fibre: &mut Fibre, block: Option<BlockId>, owner: usize) -> Flow {
        match block {
            Some(block) => fibre.frames.push(Frame { block, at: 0, owner: Some(owner) }),
            None => {
                let outcome = std::mem::take(&mut self.records[owner].outcome);
                self.close(fibre, owner, State::Succeeded, outcome);
            }
        }
        Flow::On
    }

    /// Ends a step that did not fail, and binds its result to its name.
    pub(super) fn close(&mut self, fibre: &mut Fibre, record: usize, state: State, outcome: Value) {
        let now = self.now;
        let plan = &self.levels[fibre.level as usize].plan;
        let at = record;
        let record = &mut self.records[record];
        // A caught step stays caught; its branch's end is not its own success.
        if record.state == State::Running {
            record.state = state;
            let (block, place) = record.place();
            if let Some(step) = plan.blocks.get(block as usize).and_then(|block| block.get(place)) {
                let has_result = step.action.has_result() && state == State::Succeeded;
                if let Some(slot) = step.id.filter(|_| has_result) {
                    fibre.set(slot, outcome.clone());
                }
                if fibre.frames.len() == 1 {
                    fibre.result = has_result.then_some(at);
                }
            }
        }
        record.ended = now;
        if !matches!(outcome, Value::Undefined) {
            record.outcome = outcome;
        }
    }

    /// A step failed: its catch runs, or that of a step around it, or the fibre ends.
    pub(super) fn step_failed(&mut self, fibre: &mut Fibre, record: usize, failure: Failure) -> Flow {
        let mut failed = record;
        loop {
            let catch = self.step_of(failed).and_then(|step| step.catch);
            let now = self.now;
            let record = &mut self.records[failed];
            let in_catch = record.state == State::Caught;
            record.ended = now;
            if let Some(block) = catch.filter(|_| !in_catch) {
                record.state = State::Caught;
                record.failure = Some(Box::new(failure.clone()));
                if fibre.frames.len() == 1 {
                    fibre.result = None;
                }
                fibre.set(FAILURE, failure.to_value());
                fibre.frames.push(Frame { block, at: 0, owner: Some(failed) });
                return Flow::On;
            }
            if in_catch {
                record.state = State::Failed;
            } else {
                if record.state == State::Running {
                    record.state = State::Failed;
                }
                record.failure = Some(Box::new(failure.clone()));
            }
            let owner = fibre.frames.pop().and_then(|frame| frame.owner);
            match owner.filter(|_| !fibre.frames.is_empty()) {
                Some(owner) => failed = owner,
                None => return Flow::Failed(Box::new(failure)),
            }
        }
    }

    /// The step a record belongs to.
    pub fn step_of(&self, record: usize) -> Option<&Step> {
        let record = self.records.get(record)?;
        let (block, at) = record.place();
        self.levels.get(record.level as usize)?.plan.blocks.get(block as usize)?.get(at)
    }

    /// Begins the items of a loop.
    pub(super) fn fork_each(&mut self, at: usize, fibre: &mut Fibre, step: &Step, record: usize, list: Value) -> Flow {
        let Action::Each(each) = &step.action else { return Flow::On };
        let count = list.as_list().map_or(0, <[Value]>::len);
        if count == 0 {
            self.close(fibre, record, State::Succeeded, Value::list(Vec::new()));
            return Flow::On;
        }
        // One step of each item, at least, and those behind the loop.
        let behind = self.levels[0].plan.blocks[0].len();
        self.records.reserve(count.min(RECORDS) + behind);
        let mut group = Group {
            record,
            children: Vec::with_capacity(count.min(each.at_once as usize)),
            next: 0,
            list,
            results: vec![Value::Undefined; count],
            feed: None,
        };
        while group.next < count.min(each.at_once as usize) {
            let child = self.child(at, fibre, each.block, record, group.next);
            let child = self.add(Box::new(child));
            let item = group.list.as_list().and_then(|items| items.get(group.next));
            self.begin_item(fibre, child, each, (record, group.next), item);
            group.children.push(child);
            group.next += 1;
        }
        fibre.awaits = Awaits::Children(Box::new(group));
        Flow::Waits
    }

    /// Lets a fibre work on an item: of a record, at a position.
    pub(super) fn begin_item(
        &mut self,
        parent: &Fibre,
        child: usize,
        each: &kanzlei_compiler::plan::Each,
        (record, index): (usize, usize),
        item: Option<&Value>,
    ) {
        let Some(fibre) = &mut self.fibres[child] else { return };
        fibre.restore(parent, item.map(|_| each.item));
        fibre.frames.clear();
        fibre.frames.push(Frame { block: each.block, at: 0, owner: Some(record) });
        fibre.parent = fibre.parent.map(|(parent, _)| (parent, index));
        fibre.item = Some(index as u32);
        fibre.result = None;
        if let Some(item) = item {
            fibre.set(each.item, item.clone());
        }
        if let Some(slot) = each.position {
            fibre.set(slot, Value::Int(index as i64));
        }
        self.ready.push_back(child);
    }

    pub(super) fn child(&self, at: usize, parent: &Fibre, block: BlockId, record: usize, index: usize) -> Fibre {
        Fibre {
            level: parent.level,
            invocation: parent.invocation,
            slots: Vec::new(),
            touched: 0,
            frames: vec![Frame { block, at: 0, owner: Some(record) }],
            awaits: Awaits::Nothing,
            begun: None,
            parent: Some((at, index)),
            owner: Some(record),
            item: None,
            result: None,
            own: None,
        }
    }

    /// Begins the branches of `together`.
    pub(super) fn fork_branches(&mut self, at: usize, fibre: &mut Fibre, step: &Step, record: usize) -> Flow {
        let Action::Together { branches, .. } = &step.action else { return Flow::On };
        let mut children = Vec::with_capacity(branches.len());
        for (index, branch) in branches.iter().enumerate() {
            let mut child = self.child(at, fibre, branch.block, record, index);
            child.slots.clone_from(&fibre.slots);
            let child = self.add(Box::new(child));
            self.ready.push_back(child);
            children.push(child);
        }
        let group = Group::of(record, children, branches.len());
        fibre.awaits = Awaits::Children(Box::new(group));
        Flow::Waits
    }

    /// Begins an invoked workflow.
    pub(super) fn fork_invoke(
        &mut self,
        at: usize,
        fibre: &mut Fibre,
        plan: &Arc<Plan>,
        record: usize,
        input: Value,
    ) -> Flow {
        let caller = (fibre.level, self.records[record].paragraph);
        let level = match self.levels.iter().position(|level| level.caller == Some(caller)) {
            Some(level) => level,
            None => {
                let prefix = format!("{}.", self.number(&self.records[record]));
                self.levels.push(Level { plan: plan.clone(), prefix, caller: Some(caller) });
                self.levels.len() - 1
            }
        };
        let mut slots = vec![Value::Undefined; plan.slots.len()];
        slots[INPUT as usize] = input;
        slots[RUN as usize] = fibre.slots[RUN as usize].clone();
        slots[CALLER as usize] = fibre.slots[CALLER as usize].clone();
        if let Some(own) = &plan.settings {
            slots[SETTINGS as usize] = self.settings.as_ref().unwrap_or(own).clone();
        }
        let child = self.start_invocation(level as u16, slots, Some((at, record)));
        fibre.awaits = Awaits::Children(Box::new(Group::of(record, vec![child], 1)));
        Flow::Waits
    }

    /// The result of the latest step of a fibre, for branches and items.
    fn result_of(&self, fibre: &Fibre) -> Value {
        let record = fibre.result.and_then(|record| self.records.get(record));
        record.map(|record| record.outcome(self.plan_of(record)).into_owned()).unwrap_or_default()
    }

    /// What a child that succeeded is worth to the step that forked it.
    fn collected(&self, parent: &Fibre, child: &mut Fibre) -> Collected {
        let Awaits::Children(group) = &parent.awaits else { return Collected::Value(Value::Undefined) };
        match self.step_of(group.record).map(|step| &step.action) {
            Some(Action::Each(each)) if each.collect.is_some() || each.until.is_some() => {
                let made = each.collect.as_ref().map(|collect| collect.make(&child.slots, self.limits())).transpose();
                let ends = each.until.as_ref().map(|until| until.eval(&child.slots, self.limits())).transpose();
                match (made, ends) {
                    (Ok(made), Ok(ends)) => {
                        let value = made.unwrap_or_else(|| self.result_of(child));
                        match ends.is_some_and(|ends| ops::truthy(&ends)) {
                            true => Collected::Last(value),
                            false => Collected::Value(value),
                        }
                    }
                    (Err(failure), _) | (_, Err(failure)) if failure.kind.is_outcome() => {
                        Collected::Failed(Box::new(Failure::expression(&failure)))
                    }
                    _ => Collected::Deferred,
                }
            }
            Some(Action::Invoke(_)) => Collected::Value(invoked(child.own.as_mut().and_then(|own| own.reply.take()))),
            _ => Collected::Value(self.result_of(child)),
        }
    }

    /// A child ended: its result is kept, the next item begins, or the step around ends.
    fn child_ended(
        &mut self,
        plan: &Plan,
        at: usize,
        parent: &mut Fibre,
        child_at: usize,
        child: Box<Fibre>,
        given: Result<Value, Box<Failure>>,
    ) -> Flow {
        let Awaits::Children(mut group) = std::mem::replace(&mut parent.awaits, Awaits::Nothing) else {
            return Flow::Waits;
        };
        let index = child.parent.map_or(0, |(_, index)| index);
        let (block, place) = self.records[group.record].place();
        let Some(step) = plan.blocks.get(block as usize).and_then(|block| block.get(place)) else {
            return Flow::Waits;
        };
        let settle = match &step.action {
            Action::Each(each) => each.settle,
            Action::Together { settle, .. } => *settle,
            _ => false,
        };
        if group.feed.is_some() {
            return self.row_ended(at, parent, child_at, group, given.map(drop), settle);
        }
        group.results[index] = match given {
            Ok(value) if settle => Value::object([("ok", Value::Bool(true)), ("value", value)]),
            Ok(value) => value,
            Err(failure) if settle => Value::object([("ok", Value::Bool(false)), ("failure", failure.to_value())]),
            Err(failure) => {
                self.free_fibre(child_at);
                group.children.retain(|other| *other != child_at);
                self.cancel_group(&group);
                return self.step_failed(parent, group.record, *failure);
            }
        };
        if let Action::Each(each) = &step.action
            && group.next < group.results.len()
        {
            self.fibres[child_at] = Some(child);
            let item = group.list.as_list().and_then(|items| items.get(group.next));
            self.begin_item(parent, child_at, each, (group.record, group.next), item);
            group.next += 1;
            parent.awaits = Awaits::Children(group);
            return Flow::Waits;
        }
        self.free_fibre(child_at);
        group.children.retain(|other| *other != child_at);
        if !group.children.is_empty() {
            parent.awaits = Awaits::Children(group);
            return Flow::Waits;
        }
        let outcome = match &step.action {
            Action::Together { branches, .. } => {
                for (branch, value) in branches.iter().zip(&group.results) {
                    parent.set(branch.slot, value.clone());
                }
                Value::object(branches.iter().map(|branch| branch.name.clone()).zip(group.results))
            }
            Action::Invoke(_) => group.results.pop().unwrap_or_default(),
            _ => Value::list(group.results),
        };
        if let Err(failure) = kanzlei_lang::expr::EvalError::check_size(&outcome) {
            return self.step_failed(parent, group.record, Failure::expression(&failure));
        }
        // What the children kept is what this fibre sees from here on.
        self.see_kept(parent);
        self.close(parent, group.record, State::Succeeded, outcome);
        Flow::On
    }

    /// Brings what the workflow remembers by now into a fibre's sight.
    pub(super) fn see_kept(&self, fibre: &mut Fibre) {
        let own = match &fibre.own {
            Some(own) => Some(own),
            None => self.fibres.get(fibre.invocation).and_then(Option::as_ref).and_then(|root| root.own.as_ref()),
        };
        if let Some(kept) = own.and_then(|own| own.kept.as_ref()) {
            fibre.set(KEPT, kept.values.clone());
        }
    }

    /// Ends what a fibre that was taken out waits for, and all it forked.
    fn cancel(&mut self, fibre: &Fibre) {
        self.cancel_records(fibre);
        match &fibre.awaits {
            Awaits::Nothing => {}
            Awaits::Effect { id, .. } => self.cancel_effect(*id),
            Awaits::Children(group) => self.cancel_group(group),
        }
    }

    pub(super) fn cancel_group(&mut self, group: &Group) {
        let mut left: Vec<usize> = group.children.clone();
        let mut asked: Vec<EffectId> = group.asked().into_iter().collect();
        while let Some(at) = left.pop() {
            let Some(fibre) = self.fibres.get_mut(at).and_then(Option::take) else { continue };
            self.free.push(at);
            self.ready.retain(|ready| *ready != at);
            self.cancel_records(&fibre);
            match &fibre.awaits {
                Awaits::Nothing => {}
                Awaits::Effect { id, .. } => self.cancel_effect(*id),
                Awaits::Children(group) => {
                    left.extend(&group.children);
                    asked.extend(group.asked());
                }
            }
        }
        asked.into_iter().for_each(|id| self.cancel_effect(id));
    }

    /// Makes the place of a fibre that has ended free.
    pub(super) fn free_fibre(&mut self, at: usize) {
        self.fibres[at] = None;
        self.free.push(at);
    }

    fn cancel_effect(&mut self, id: EffectId) {
        self.waited_for.retain(|(known, _)| *known != id);
        let before = self.due.len();
        self.due.retain(|(known, _)| *known != id);
        if self.due.len() == before {
            self.cancelled.push(id);
        }
    }

    fn cancel_records(&mut self, fibre: &Fibre) {
        let awaited = match &fibre.awaits {
            Awaits::Effect { record, .. } => *record,
            Awaits::Children(group) => Some(group.record),
            Awaits::Nothing => None,
        };
        let own = fibre.frames.iter().filter_map(|frame| frame.owner).filter(|owner| Some(*owner) != fibre.owner);
        for record in own.chain(awaited) {
            let record = &mut self.records[record];
            if record.state == State::Running {
                record.state = State::Cancelled;
                record.ended = self.now;
            }
        }
    }
}

/// What became of the result of a child.
enum Collected {
    Value(Value),
    /// Behind it no further item begins.
    Last(Value),
    Failed(Box<Failure>),
    /// Its evaluation was deferred.
    Deferred,
}

/// What an `invoke` step returns: the reply of the workflow.
fn invoked(reply: Option<Reply>) -> Value {
    let reply =
        reply.unwrap_or(Reply { status: 204, headers: Vec::new(), body: Value::Undefined, rows: None, problem: false });
    let headers = reply.headers.into_iter().map(|(name, value)| (name.to_ascii_lowercase(), Value::text(value)));
    Value::object([
        ("status", Value::Int(reply.status.into())),
        ("body", reply.body),
        ("headers", Value::object(headers)),
    ])
}
