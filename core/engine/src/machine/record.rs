//! What the journal is made from: one record per step that began.

use kanzlei_model::time::Timestamp;

use super::Failure;
use kanzlei_compiler::plan::BlockId;
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
    pub earlier_attempts: Vec<String>,
    /// What was sent, for a call.
    pub sent: Value,
    /// What came of it.
    pub outcome: Value,
    /// Why it failed, or why an earlier attempt did.
    pub failure: Option<Box<Failure>>,
    /// The record of the step around it.
    pub owner: Option<u32>,
    /// The position of its item, on steps that stand directly in a loop.
    pub item: Option<u32>,
    /// Which of the run's plans it belongs to; 0 is the workflow itself.
    pub level: u16,
    /// The step in the plan: block and position.
    pub(super) place: (BlockId, usize),
}

impl StepRecord {
    pub(super) fn new(paragraph: u32, level: u16, place: (BlockId, usize), now: Timestamp) -> Self {
        StepRecord {
            paragraph,
            state: State::Running,
            started: now,
            ended: now,
            attempts: 0,
            earlier_attempts: Vec::new(),
            sent: Value::Undefined,
            outcome: Value::Undefined,
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
        self.place
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
