//! How all workflows did over the last minutes, and how full the process is.

use kanzlei_model::time::{Span, Timestamp};
use serde::{Deserialize, Serialize};

use crate::api;

/// Over how long an overview looks.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(default, deny_unknown_fields)]
pub struct OverviewQuery {
    /// Minutes up to now, from 1 to 1440; 60 by default.
    pub minutes: Option<u32>,
    /// One workflow; all of them by default.
    pub workflow: Option<String>,
}

api! {
    /// Runs minute by minute and by workflow, of all processes; what is used of the bounds of the one that answers.
    pub struct Overview {
        /// The first minute.
        pub since: Timestamp,
        /// Minutes in which runs ended, in order.
        pub minutes: Vec<Minute>,
        /// Workflows with runs in the span, the busiest first.
        pub workflows: Vec<WorkflowMinutes>,
        /// Workflows whose times are not part of the percentiles: those of the busiest 20 are.
        pub without_times: u32,
        /// The bounds of the process that answers.
        pub bounds: Vec<Bound>,
        /// Calls of services by the process that answers, since it began.
        pub services: Vec<ServiceCalls>,
        /// `available`, `unavailable` or `full`.
        pub database: String,
        /// How long the database took for its last sign of life.
        pub ping_us: Span,
        /// Details that the process dropped instead of writing them.
        pub dropped: u64,
        /// When the process began.
        pub started: Timestamp,
    }

    /// Runs that ended in a minute.
    pub struct Minute {
        /// Seconds since 1970.
        pub at: i64,
        pub ended: Ended,
    }

    /// Runs of a workflow.
    pub struct WorkflowMinutes {
        pub workflow: String,
        pub ended: Ended,
    }

    /// Runs that ended, jobs too, and the times that so many of a hundred did not exceed, with an error of at most an eighth.
    pub struct Ended {
        pub runs: u64,
        /// Those whose caller was at fault.
        pub rejected: u64,
        pub failed: u64,
        pub p50_us: Option<Span>,
        pub p95_us: Option<Span>,
        pub p99_us: Option<Span>,
    }

    /// A bound of the process.
    pub struct Bound {
        /// `requests`, `background`, `computing`, `connections`, `journal` or `acceptances`.
        pub name: String,
        pub used: u64,
        pub bound: u64,
        /// `bytes`, or empty for a count.
        pub unit: String,
    }

    /// Calls of a service.
    pub struct ServiceCalls {
        pub service: String,
        pub calls: u64,
        /// Those without an answer, or with a status from 500 on.
        pub failures: u64,
        pub mean_us: Span,
    }
}
