//! Lanes: their rules, how they stand, what they did.

use std::collections::BTreeMap;

use kanzlei_model::time::{Span, Timestamp};
use serde::{Deserialize, Serialize};

use crate::api;

/// How far back samples go.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(default, deny_unknown_fields)]
pub struct SampleFilter {
    /// 1 to 2880; 60 by default.
    pub minutes: Option<i64>,
}

/// Other rules for a forecast.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(default, deny_unknown_fields)]
pub struct ForecastQuery {
    /// Most jobs at the same time.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub at_once: Option<u32>,
    /// Most jobs that begin in an interval, such as `120/min`.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub pace: Option<String>,
    /// Jobs that arrive in a minute, in place of those of the last five minutes.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub arriving: Option<f64>,
}

/// What is done to a lane; to empty it cancels everything in it that has not begun.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "kebab-case")]
#[allow(missing_docs)]
pub enum LaneAction {
    Hold,
    Release,
    Empty,
}

api! {
    /// All lanes.
    pub struct Lanes {
        pub lanes: Vec<Lane>,
    }

    /// A lane with its rules and how it stands.
    pub struct Lane {
        pub name: String,
        pub about: String,
        /// Whether a document declares it.
        pub declared: bool,
        pub held: bool,
        /// Most jobs at the same time.
        pub at_once: Option<u32>,
        /// `60/min`.
        pub pace: Option<String>,
        /// `due`, `strict`, or the key that orders.
        pub order: String,
        /// Most jobs that may wait.
        pub length: Option<u64>,
        /// The status for requests that find no room.
        pub full: u16,
        pub scheduled: u64,
        pub queued: u64,
        pub running: u64,
        pub waiting: u64,
        /// How long the oldest queued job has been due.
        pub oldest_us: Option<Span>,
        pub last_5min: Recent,
    }

    /// What a lane did in the last five minutes.
    pub struct Recent {
        pub begun: u64,
        pub succeeded: u64,
        pub rejected: u64,
        pub failed: u64,
        pub mean_delay_us: Option<Span>,
        pub max_delay_us: Span,
    }

    /// What came of an action on a lane.
    pub struct LaneChanged {
        pub lane: String,
        pub action: LaneAction,
        pub cancelled: u64,
    }

    /// When a lane will be empty, as it is and with other rules.
    pub struct Forecast {
        pub lane: String,
        pub at: Timestamp,
        pub held: bool,
        /// Jobs that wait and are due, and jobs that run.
        pub waiting: u64,
        pub running: u64,
        /// Whether more jobs wait than are played; times are longer then.
        pub more: bool,
        /// Jobs that arrived in a minute, of the last five.
        pub arriving_per_min: f64,
        /// The mean time that a job occupies its place, and from how many runs it was measured.
        pub mean_us: Span,
        pub measured: u64,
        /// Jobs that all processes have room for.
        pub places: u32,
        pub as_is: Projection,
        /// With the rules of the query, where it has some.
        pub changed: Option<Projection>,
    }

    /// What is to be expected of a lane.
    pub struct Projection {
        pub at_once: Option<u32>,
        pub pace: Option<String>,
        /// When the last of the jobs that wait now begins.
        pub begun: Option<Timestamp>,
        /// When nothing that is due waits or runs any more; null where that is not within a day.
        pub empty: Option<Timestamp>,
        /// How much later than due the jobs that wait now begin.
        pub mean_delay_us: Span,
        pub max_delay_us: Span,
        pub curve: Vec<Depth>,
    }

    /// How many jobs wait at an instant.
    pub struct Depth {
        pub at: Timestamp,
        pub waiting: u64,
    }

    /// Depth, throughput and delay over time, by lane.
    pub struct Samples {
        /// Seconds between two samples.
        pub seconds: u32,
        pub lanes: BTreeMap<String, Vec<Sample>>,
    }

    /// A few seconds of a lane.
    pub struct Sample {
        /// Seconds since 1970-01-01T00:00:00Z.
        pub at: i64,
        /// Jobs that waited at its end.
        pub waiting: u64,
        pub begun: u64,
        pub succeeded: u64,
        pub rejected: u64,
        pub failed: u64,
        pub mean_delay_ms: u64,
        pub max_delay_ms: u64,
    }
}
