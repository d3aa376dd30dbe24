//! What the journal is made from: one record per step that began.

use std::borrow::Cow;
use std::num::NonZeroU32;

use super::Failure;
use kanzlei_compiler::plan::{BlockId, Plan};
use kanzlei_model::time::Timestamp;
use kanzlei_model::value::Value;

use kanzlei_model::run::RunState;
pub use kanzlei_model::run::StepState as State;

#[derive(Clone, Debug)]
/// What one step did.
pub struct StepRecord {
    /// Index in the plan's sheet.
    pub paragraph: u32,
    /// How it stands.
    pub state: State,
    /// When it began.
    pub started: Timestamp,
    /// When it ended; the same as `started` while it is under way.
    pub ended: Timestamp,
    /// Attempts made; 0 for steps that are not tried again.
    pub attempts: u32,
    /// What came of the attempts before the last one: a status, or a kind of failure.
    pub earlier_attempts: Box<[String]>,
    /// What was sent, for a call.
    pub sent: Value,
    /// What came of it; the value alone where `named` is set.
    pub(super) outcome: Value,
    /// The slot whose name the outcome has, for a `let` of one value.
    pub(super) named: Option<NonZeroU32>,
    /// Why it failed, or why an earlier attempt did.
    pub failure: Option<Box<Failure>>,
    /// The record of the step around it.
    pub owner: Option<u32>,
    /// The position of its item, on steps that stand directly in a loop.
    pub item: Option<u32>,
    /// Which of the run's plans it belongs to; 0 is the workflow itself.
    pub level: u16,
    /// The step in the plan: block and position.
    pub(super) place: (BlockId, u32),
}

impl StepRecord {
    pub(super) fn new(paragraph: u32, level: u16, place: (BlockId, u32), now: Timestamp) -> Self {
        StepRecord {
            paragraph,
            state: State::Running,
            started: now,
            ended: now,
            attempts: 0,
            earlier_attempts: Box::default(),
            sent: Value::Undefined,
            outcome: Value::Undefined,
            named: None,
            failure: None,
            owner: None,
            item: None,
            level,
            place,
        }
    }
}

impl StepRecord {
    /// The step in the plan: block and position.
    pub fn place(&self) -> (BlockId, usize) {
        (self.place.0, self.place.1 as usize)
    }

    /// What came of it, in a run of this plan. The object of a `let` with one value is made here: most are not looked at.
    pub fn outcome(&self, plan: &Plan) -> Cow<'_, Value> {
        match self.named.and_then(|slot| plan.slots.get(slot.get() as usize)) {
            Some(name) => Cow::Owned(Value::object([(name.clone(), self.outcome.clone())])),
            None => Cow::Borrowed(&self.outcome),
        }
    }

    /// Notes what came of an attempt that is not the last.
    pub(super) fn tried(&mut self, came: String) {
        let before = std::mem::take(&mut self.earlier_attempts);
        self.earlier_attempts = before.into_iter().chain([came]).collect();
    }
}

/// How a run ended.
#[derive(Clone, Debug)]
pub struct Ended {
    /// The final state.
    pub state: RunState,
    /// Why it failed, where it did.
    pub failure: Option<Failure>,
    /// When it ended.
    pub at: Timestamp,
}
