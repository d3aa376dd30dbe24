//! What the journal is made from: one record per step that began.

use serde::{Deserialize, Serialize};

use super::{Failure, Micros};
use crate::plan::BlockId;
use crate::value::Value;

#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum State {
    Running,
    Succeeded,
    /// `when` did not hold.
    Skipped,
    /// Failed, and its rescue took over.
    Rescued,
    Failed,
}

impl State {
    pub fn name(self) -> &'static str {
        match self {
            State::Running => "running",
            State::Succeeded => "succeeded",
            State::Skipped => "skipped",
            State::Rescued => "rescued",
            State::Failed => "failed",
        }
    }
}

#[derive(Clone, Debug)]
pub struct StepRecord {
    /// Index in the plan's sheet.
    pub paragraph: u32,
    pub state: State,
    pub started: Micros,
    pub ended: Micros,
    /// Attempts made; 0 for steps that are not tried again.
    pub attempts: u32,
    /// What was sent, for a call.
    pub sent: Value,
    /// What came of it.
    pub outcome: Value,
    pub failure: Option<Failure>,
    /// When the next attempt is due, while one is waited for.
    pub(super) resumes: Micros,
    /// The step in the plan: block and position.
    pub(super) place: (BlockId, usize),
}

impl StepRecord {
    pub(super) fn new(paragraph: u32, place: (BlockId, usize), now: Micros) -> Self {
        StepRecord {
            paragraph,
            state: State::Running,
            started: now,
            ended: now,
            attempts: 0,
            sent: Value::Undefined,
            outcome: Value::Undefined,
            failure: None,
            resumes: now,
            place,
        }
    }
}

/// How a run ended.
#[derive(Clone, Debug)]
pub struct Ended {
    pub state: State,
    pub failure: Option<Failure>,
    pub at: Micros,
}
