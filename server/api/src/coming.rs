//! What is to come: jobs that become due, waits that end, and timetables.

use kanzlei_model::time::{Span, Timestamp};
use serde::{Deserialize, Serialize};

use crate::api;

/// How far to look ahead.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(default, deny_unknown_fields)]
pub struct ComingQuery {
    /// Minutes from now on, from 1 to 10080; 60 by default.
    pub minutes: Option<u32>,
}

/// What comes.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum ComingKind {
    /// A timetable queues a job.
    Timetable,
    /// A scheduled job becomes due.
    Due,
    /// A pause of a job ends.
    Pause,
    /// The time to wait for a callback, or for a value, is up.
    Callback,
    /// A failed job is tried again.
    Retry,
}

api! {
    /// What is to come, in slots of equal length.
    pub struct Coming {
        pub from: Timestamp,
        pub until: Timestamp,
        /// The length of a slot.
        pub slot_us: Span,
        /// In the order of their time.
        pub coming: Vec<ComingLine>,
        /// Whether there is more than is shown.
        pub more: bool,
    }

    /// What comes in a slot, of one kind and workflow.
    pub struct ComingLine {
        /// The first instant.
        pub first: Timestamp,
        pub kind: ComingKind,
        pub workflow: String,
        pub lane: String,
        pub count: u64,
    }
}
