//! Lanes: their rules, how they stand, what they did.

use std::collections::BTreeMap;

use kanzlei_model::time::Span;
use serde::{Deserialize, Serialize};

use crate::api;

/// How far back samples go.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(default, deny_unknown_fields)]
pub struct SampleFilter {
    /// 1 to 2880; 60 by default.
    pub minutes: Option<i64>,
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
