//! The level of the log.

use serde::{Deserialize, Serialize};

use kanzlei_model::time::Span;

use crate::api;

api! {
    /// The level of the log of the process that answers.
    pub struct LogLevel {
        /// What is logged now: `info`, or a list for parts of the program: `info,sqlx=warn`.
        pub level: String,
        /// What the settings say.
        pub configured: String,
        /// How long until the level of the settings returns; null where it does not by itself.
        pub left_us: Option<Span>,
    }
}

/// Another level.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct NewLogLevel {
    /// `off`, `error`, `warn`, `info`, `debug`, `trace`, or a list for parts of the program.
    pub level: String,
    /// For how long, such as `10m`, at most a day; until the process ends by default.
    #[serde(default, rename = "for")]
    pub span: Option<String>,
}
