//! Words for how runs, jobs and steps stand, the same in the store, the API, the client and the console.
//!
//! ```
//! use kanzlei_model::run::{FailureKind, RunState};
//! assert_eq!(RunState::Rejected.name(), "rejected");
//! assert_eq!(FailureKind::of("too-large"), Some(FailureKind::TooLarge));
//! ```

use serde::{Deserialize, Serialize};

/// The header field with the id of the run that answers, as it is called until it leaves the service.
pub const HEADER: &str = "run-id";

/// Defines an enum whose variants have names and numbers, which records and interfaces share.
macro_rules! words {
    ($(#[$about:meta])* $name:ident { $($(#[$doc:meta])* $variant:ident = $code:literal $word:literal,)* }) => {
        $(#[$about])*
        #[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
        #[repr(u8)]
        // The word of a variant says what it is, where it has no comment.
        #[allow(missing_docs)]
        pub enum $name {
            $($(#[$doc])* #[serde(rename = $word)] $variant = $code,)*
        }

        impl $name {
            /// All of them, in the order of a life.
            pub const ALL: &[$name] = &[$($name::$variant),*];
            /// Their names.
            pub const NAMES: &[&str] = &[$($word),*];

            /// The name in documents, answers and screens.
            pub fn name(self) -> &'static str {
                match self {
                    $($name::$variant => $word,)*
                }
            }

            /// The number in records.
            pub fn code(self) -> u8 {
                self as u8
            }

            /// What a name stands for.
            pub fn of(name: &str) -> Option<Self> {
                match name {
                    $($word => Some($name::$variant),)*
                    _ => None,
                }
            }

            /// What a number in a record stands for.
            pub fn of_code(code: u8) -> Option<Self> {
                match code {
                    $($code => Some($name::$variant),)*
                    _ => None,
                }
            }
        }

        #[cfg(feature = "schema")]
        impl schemars::JsonSchema for $name {
            fn schema_name() -> std::borrow::Cow<'static, str> {
                stringify!($name).into()
            }

            fn json_schema(_: &mut schemars::SchemaGenerator) -> schemars::Schema {
                schemars::json_schema!({"type": "string", "enum": $name::NAMES})
            }
        }

        impl std::fmt::Display for $name {
            fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
                f.pad(self.name())
            }
        }
    };
}

words! {
    /// How a run stands; a job is a run that is queued, and has the same states.
    RunState {
        /// A job whose due time has not come.
        Scheduled = 1 "scheduled",
        /// A job that can begin as soon as its lane lets it.
        Queued = 2 "queued",
        Running = 3 "running",
        /// Begun, and waiting for a time, a callback or its next attempt.
        Waiting = 4 "waiting",
        Succeeded = 11 "succeeded",
        /// Ended by a `fail` step with a 4xx status: the caller is at fault.
        Rejected = 12 "rejected",
        Failed = 13 "failed",
        Cancelled = 14 "cancelled",
    }
}

impl RunState {
    /// Whether it has ended, so that nothing more happens unless somebody retries it.
    pub fn ended(self) -> bool {
        self.code() > 10
    }
}

words! {
    /// How a job stands in the queue: what claims, counts and indexes go by.
    #[derive(Default)]
    JobPhase {
        /// Can be claimed once its time has come.
        #[default]
        Ready = 1 "ready",
        Running = 2 "running",
        /// Another job with its ordering key goes first.
        Blocked = 3 "blocked",
        Succeeded = 11 "succeeded",
        Failed = 12 "failed",
        Cancelled = 13 "cancelled",
        Rejected = 14 "rejected",
    }
}

impl JobPhase {
    /// Whether it has ended, so that nothing more happens unless somebody retries it.
    pub fn ended(self) -> bool {
        self.code() > 10
    }

    /// The one state that a job has on every page, in every count and in every filter.
    ///
    /// `ahead` says whether its time is still to come, `begun` whether it has begun and resumes then.
    pub fn state(self, ahead: bool, begun: bool) -> RunState {
        match self {
            JobPhase::Ready if ahead && begun => RunState::Waiting,
            JobPhase::Ready if ahead => RunState::Scheduled,
            JobPhase::Ready | JobPhase::Blocked => RunState::Queued,
            JobPhase::Running => RunState::Running,
            JobPhase::Succeeded => RunState::Succeeded,
            JobPhase::Rejected => RunState::Rejected,
            JobPhase::Failed => RunState::Failed,
            JobPhase::Cancelled => RunState::Cancelled,
        }
    }
}

words! {
    /// How a step stands.
    StepState {
        Running = 1 "running",
        Succeeded = 11 "succeeded",
        /// `when` did not hold.
        Skipped = 12 "skipped",
        /// Failed, and its `catch` ran.
        Caught = 13 "caught",
        Failed = 14 "failed",
        /// Ended because a branch or item beside it failed.
        Cancelled = 15 "cancelled",
    }
}

words! {
    /// Why a step failed.
    FailureKind {
        Unreachable = 1 "unreachable",
        Timeout = 2 "timeout",
        /// The connection broke before the answer was whole.
        Broken = 3 "broken",
        Unreadable = 4 "unreadable",
        TooLarge = 5 "too-large",
        /// The service sends elsewhere.
        Redirected = 6 "redirected",
        /// The address is private or special-purpose, or a value leads to another path.
        BlockedAddress = 7 "blocked-address",
        /// A status that is not accepted.
        Status = 8 "status",
        Expression = 9 "expression",
        Input = 10 "input",
        Sql = 11 "sql",
        /// A row with this key exists.
        Duplicate = 12 "duplicate",
        Database = 13 "database",
        Conflict = 14 "conflict",
        /// The lane has no room.
        Full = 15 "full",
        /// A `fail` step.
        Fail = 16 "fail",
        /// A fault of Kanzlei itself.
        Internal = 17 "internal",
        /// There is no such file in a place, or its bytes are gone.
        Missing = 18 "missing",
        /// A file of another content has the path.
        Exists = 19 "exists",
        /// A place or the local disk is unavailable.
        Place = 20 "place",
        /// The mail server is unavailable, or refuses for now.
        Mail = 21 "mail",
        /// The mail server refuses for good.
        Refused = 22 "refused",
        /// A page cannot be printed.
        Print = 23 "print",
        /// A script threw a value.
        Thrown = 24 "thrown",
    }
}

impl FailureKind {
    /// Whether a repetition fails in the same way, because nothing outside the run brought it about.
    pub fn repeats(self) -> bool {
        matches!(
            self,
            FailureKind::Fail
                | FailureKind::Expression
                | FailureKind::Input
                | FailureKind::Internal
                | FailureKind::Refused
                | FailureKind::Print
                | FailureKind::Thrown
        )
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_and_codes_lead_back() {
        for state in RunState::ALL {
            assert_eq!((RunState::of(state.name()), RunState::of_code(state.code())), (Some(*state), Some(*state)));
        }
        assert_eq!((FailureKind::of("declined"), JobPhase::of_code(4)), (None, None));
        assert_eq!(serde_json::to_string(&FailureKind::BlockedAddress).ok().as_deref(), Some("\"blocked-address\""));
    }

    #[test]
    fn a_job_has_one_state() {
        for (phase, ahead, begun, state) in [
            (JobPhase::Ready, true, false, RunState::Scheduled),
            (JobPhase::Ready, false, false, RunState::Queued),
            (JobPhase::Ready, true, true, RunState::Waiting),
            (JobPhase::Ready, false, true, RunState::Queued),
            (JobPhase::Blocked, false, false, RunState::Queued),
            (JobPhase::Rejected, false, true, RunState::Rejected),
        ] {
            assert_eq!(phase.state(ahead, begun), state, "{phase}");
        }
    }
}
