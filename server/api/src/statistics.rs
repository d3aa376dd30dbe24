//! Statistics of steps over a span.

use kanzlei_model::time::{Span, Timestamp};
use serde::{Deserialize, Serialize};

use crate::api;

/// Which statistics of a workflow are wanted.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(default, deny_unknown_fields)]
pub struct StatisticsQuery {
    /// From when on: an instant (RFC 3339), or a span before now such as `24h`, which is the default.
    pub since: Option<String>,
    /// A revision; the live one by default.
    pub revision: Option<u32>,
}

api! {
    /// What the steps of one revision did over a span. Every run is counted in the minute of its end, jobs too.
    pub struct Statistics {
        pub workflow: String,
        pub revision: u32,
        pub since: Timestamp,
        /// The runs themselves.
        pub runs: Counted,
        /// The steps by number, those of invoked workflows too.
        pub steps: Vec<StepStatistics>,
        /// Other revisions that ran in the span, newest first.
        pub others: Vec<OtherRevision>,
    }

    /// What one step did.
    pub struct StepStatistics {
        pub number: String,
        /// Empty where its revision can no longer be read.
        pub kind: String,
        pub title: String,
        pub depth: u8,
        pub counted: Counted,
    }

    /// How often, and how long.
    pub struct Counted {
        pub runs: u64,
        /// Those that failed, caught or not; of runs also those that were rejected or cancelled.
        pub failures: u64,
        /// The time that half of them did not exceed, with an error of at most an eighth.
        pub p50_us: Option<Span>,
        /// The time that 95 of 100 did not exceed.
        pub p95_us: Option<Span>,
    }

    /// Runs of another revision.
    pub struct OtherRevision {
        pub revision: u32,
        pub runs: u64,
    }
}
