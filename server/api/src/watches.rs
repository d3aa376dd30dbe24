//! Watched tables: whose changed rows begin jobs, and how far behind that is.

use kanzlei_model::time::{Span, Timestamp};

use crate::api;

api! {
    /// All watched tables.
    pub struct Watches {
        pub watches: Vec<Watch>,
    }

    /// A table that live workflows watch.
    pub struct Watch {
        pub database: String,
        pub table: String,
        /// What must happen to a row: `insert`, `update`, `delete`.
        pub of: Vec<String>,
        /// The workflows that watch it.
        pub workflows: Vec<String>,
        /// The operations of `of` whose trigger is installed and up to date; null when the database was not asked.
        pub installed: Option<Vec<String>>,
        /// Changes that wait; null where the database was not asked.
        pub backlog: Option<u64>,
        /// For how long the oldest of them has waited.
        pub lag_us: Option<Span>,
        /// Changes that were accepted so far.
        pub accepted: u64,
        /// Jobs that came of them.
        pub jobs: u64,
        /// How often a workflow did not accept one.
        pub unfit: u64,
        pub last: Option<Timestamp>,
        /// The process that accepted the last one.
        pub process: Option<String>,
        /// Why the database was not asked.
        pub trouble: Option<String>,
    }
}
