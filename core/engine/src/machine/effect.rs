//! What a run asks of the world outside, and what comes back.

use std::sync::Arc;

use super::{
    Address, Answer, Arrival, Batch, Cancellation, Cancelling, Enqueue, FileTask, Letter, Query, Queued, Reply,
    Request, Rows, RowsTask,
};
use kanzlei_model::run::FailureKind;
use kanzlei_model::time::Timestamp;
use kanzlei_model::value::Value;

/// Distinguishes the effects of one run.
pub type EffectId = u64;

/// What the driver of a run does next.
#[derive(Debug)]
pub enum Next {
    /// Perform this effect and feed its outcome; others may be in progress at the same time.
    Do(EffectId, Effect),
    /// The outcome of this effect is not needed any more.
    Cancel(EffectId),
    /// The client's answer is ready; the run may continue behind it.
    Answer(Box<Reply>),
    /// A note or the progress of the run, for its followers.
    Remark(Remark),
    /// The step budget is used up: yield to other tasks, then ask again.
    Yield,
    /// An evaluation needs more work than fits between two effects: call [`Machine::compute`] where that may take
    /// its time. The same in every drive of the run, so that its interruption can be recorded by this id.
    Compute(EffectId),
    /// A step failed and nothing caught it, in a workflow with `on_failure`: [`Machine::close_with`] goes on.
    Failing,
    /// Everything that can be begun is under way: feed an outcome.
    Idle,
    /// The run has ended; [`Machine::ended`] says how.
    Finished,
}

/// What a run reports while it is under way.
#[derive(Clone, Debug, PartialEq)]
pub enum Remark {
    /// The value of a `note` step.
    Note(Value),
    /// From 0 to 1.
    Progress(f64),
}

/// Something outside the machine.
#[derive(Clone, Debug, PartialEq)]
#[allow(missing_docs)]
pub enum Effect {
    /// Send this request: [`Outcome::Called`].
    Call(Box<Request>),
    /// Do nothing until then: [`Outcome::Waited`].
    Wait { until: Timestamp },
    /// Ask a database: [`Outcome::Queried`].
    Query(Box<Query>),
    /// Work with files and places: [`Outcome::Filed`].
    File(Box<FileTask>),
    /// Send a mail: [`Outcome::Filed`].
    Mail(Box<Letter>),
    /// Read the next rows of files: [`Outcome::Rows`].
    Rows(Box<RowsTask>),
    /// Return what the workflow remembers: [`Outcome::Kept`].
    Recall { workflow: String },
    /// Remember these values if the version is still the same: [`Outcome::Kept`].
    Keep(Box<Keep>),
    /// Queue these jobs: [`Outcome::Queued`].
    Enqueue(Box<Enqueue>),
    /// Cancel jobs: [`Outcome::Cancelled`].
    Cancel(Box<Cancelling>),
    /// Make an address for a callback, to which what fits a JSON Schema may come: [`Outcome::Opened`].
    Open { accepts: Option<Arc<str>> },
    /// Wait until something comes to it: [`Outcome::Arrived`].
    Await { callback: String, by: Option<Key>, until: Option<Timestamp> },
    /// Pass a value on to a run that waits by a key: [`Outcome::Woken`].
    Wake(Box<Waking>),
}

impl Effect {
    /// What it is, in words.
    pub fn what(&self) -> &'static str {
        match self {
            Effect::Call(_) => "a call",
            Effect::Wait { .. } => "a pause",
            Effect::Query(_) => "statements of a database",
            Effect::File(_) => "work with files",
            Effect::Mail(_) => "a mail",
            Effect::Rows(_) => "rows",
            Effect::Recall { .. } => "what is remembered",
            Effect::Keep(_) => "values to be remembered",
            Effect::Enqueue(_) => "jobs to be queued",
            Effect::Cancel(_) => "jobs to be cancelled",
            Effect::Open { .. } => "an address",
            Effect::Await { .. } => "a message",
            Effect::Wake(_) => "a value to be passed on",
        }
    }

    /// Until when it waits, where it waits for a time or for a callback until one.
    pub fn until(&self) -> Option<Timestamp> {
        match self {
            Effect::Wait { until } => Some(*until),
            Effect::Await { until, .. } => *until,
            _ => None,
        }
    }

    /// The same with another end of its wait; others stay as they are.
    pub fn moved(self, at: Timestamp) -> Effect {
        match self {
            Effect::Wait { .. } => Effect::Wait { until: at },
            Effect::Await { callback, by, until: Some(_) } => Effect::Await { callback, by, until: Some(at) },
            other => other,
        }
    }
}

/// By what a run waits: the workflow whose step waits, and its key.
#[derive(Clone, Debug, PartialEq)]
pub struct Key {
    /// The workflow.
    pub workflow: String,
    /// The key: text as it is, anything else as JSON with sorted members.
    pub key: String,
}

/// A value for a run that waits by a key.
#[derive(Clone, Debug, PartialEq)]
pub struct Waking {
    /// By what it waits.
    pub by: Key,
    /// What its step returns.
    pub body: Value,
    /// When the run asked: the same when it asks again after a crash.
    pub at: Timestamp,
    /// How long it is kept for a run that does not wait yet.
    pub keeps: std::time::Duration,
}

/// Values to be remembered, in place of all that were.
#[derive(Clone, Debug, PartialEq)]
pub struct Keep {
    /// The workflow that remembers.
    pub workflow: String,
    /// The version these values were made from.
    pub version: u64,
    /// All that it remembers from now on: an object.
    pub values: Value,
}

/// What a workflow remembers between runs.
#[derive(Clone, Debug, PartialEq)]
pub struct Kept {
    /// 0 while nothing was ever remembered.
    pub version: u64,
    /// An object.
    pub values: Value,
    /// For [`Effect::Keep`]: whether its values are these.
    pub stored: bool,
}

/// Why an effect failed.
#[derive(Clone, Debug, PartialEq)]
pub struct EffectError {
    /// The kind of failure that workflows see.
    pub kind: FailureKind,
    /// What happened, for people.
    pub detail: String,
}

/// What came of an effect.
#[derive(Clone, Debug, PartialEq)]
pub enum Outcome {
    /// Of a call.
    Called(Result<Answer, EffectError>),
    /// Of a wait that is over.
    Waited,
    /// Of statements, one result each.
    Queried(Result<Vec<Rows>, EffectError>),
    /// Of work with files, or of a mail: the value of the step.
    Filed(Result<Value, EffectError>),
    /// Of rows that a loop goes through.
    Rows(Result<Batch, EffectError>),
    /// Of values to remember, or of what is remembered.
    Kept(Result<Kept, String>),
    /// Of jobs to be queued.
    Queued(Result<Queued, EffectError>),
    /// Of jobs to be cancelled.
    Cancelled(Result<Cancellation, EffectError>),
    /// Of a one-time address.
    Opened(Result<Address, EffectError>),
    /// Nothing when the time was up before.
    Arrived(Option<Arrival>),
    /// Of a value that was passed on: the job that it woke, where one waited.
    Woken(Result<Option<String>, EffectError>),
    /// Of a computation that was interrupted; one that was completed has no outcome, as it is the same each time.
    /// Also of a call that nobody saw the end of ([`Machine::asks_before`]).
    Interrupted,
}
