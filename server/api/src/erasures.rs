//! Erasing what belongs to a caller, a tag or a value.

use kanzlei_model::time::Timestamp;
use uuid::Uuid;

use crate::api;

api! {
    /// What is to be erased: one of `caller`, `tag` and `text`.
    #[derive(Default)]
    pub struct NewErasure {
        /// The name of a key, the subject of a token, or an address.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        pub caller: Option<String>,
        /// A tag of jobs.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        pub tag: Option<String>,
        /// A text that occurs in inputs and messages.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        pub text: Option<String>,
        /// Counts, and erases nothing.
        #[serde(default, skip_serializing_if = "std::ops::Not::not")]
        pub preview: bool,
    }

    /// An erasure and what came of it; it goes on behind the answer.
    pub struct Erasure {
        pub id: Uuid,
        pub begun: Timestamp,
        pub preview: bool,
        pub ended: bool,
        /// Why it ended before its end.
        pub failure: Option<String>,
        /// Jobs with what is recorded of them.
        pub jobs: u64,
        /// Jobs that have not ended, and stay: cancel them and erase again.
        pub open: u64,
        /// Runs of the journal.
        pub runs: u64,
        /// Runs that were looked at so far.
        pub examined: u64,
        /// Messages of senders.
        pub deliveries: u64,
        /// Refused requests.
        pub refusals: u64,
        /// Files of jobs, and files that were sent for later requests.
        pub files: u64,
        /// Answers kept for repeated requests, values that were passed on, counts of the caller.
        pub others: u64,
        /// Jobs and messages whose values cannot be opened with the key of the secrets: they may be meant, and stay.
        pub sealed: u64,
    }
}
