//! Timetables: when they are due next and what became of the last times.

use kanzlei_model::run::RunState;
use kanzlei_model::time::Timestamp;
use serde::{Deserialize, Serialize};
use uuid::Uuid;

use crate::api;

/// What is done to a timetable; to fire it queues a job now.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "kebab-case")]
#[allow(missing_docs)]
pub enum TimetableAction {
    Pause,
    Resume,
    Fire,
}

api! {
    /// All timetables.
    pub struct Timetables {
        pub timetables: Vec<Timetable>,
    }

    /// A timetable of a workflow.
    pub struct Timetable {
        pub workflow: String,
        /// Which of the workflow's timetables it is, from 1.
        pub number: u16,
        /// Its pattern or span.
        pub when: String,
        /// The same in words.
        pub words: String,
        /// IANA name of its time zone.
        pub zone: String,
        /// `skip`, `last` or `all`.
        pub missed: String,
        /// `skip`, `wait` or `allow`.
        pub overlap: String,
        pub paused: bool,
        pub next: Vec<Due>,
        /// Newest first.
        pub last: Vec<Firing>,
    }

    /// A time at which it is due.
    pub struct Due {
        pub due: Timestamp,
        /// The same on the clocks of its zone.
        pub zone: String,
    }

    /// What became of a due time.
    pub struct Firing {
        pub due: Timestamp,
        /// `queued`, `by-hand`, or why it was left out.
        pub result: String,
        pub job: Option<Uuid>,
        pub curl: Option<String>,
        pub state: Option<RunState>,
    }

    /// What came of an action on a timetable.
    pub struct TimetableChanged {
        pub workflow: String,
        pub number: u16,
        pub action: TimetableAction,
        pub job: Option<Uuid>,
        pub url: Option<String>,
    }
}
