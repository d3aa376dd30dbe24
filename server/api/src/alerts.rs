//! Alerts: how they stand, when they lasted, and their silences.

use std::collections::BTreeMap;

use kanzlei_model::time::{Span, Timestamp};
use serde::{Deserialize, Serialize};

use crate::api;

/// How an alert stands.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum AlertState {
    /// Its condition does not hold.
    Off,
    /// Its condition holds, but not for as long as `lasting` says.
    Rising,
    /// It has begun.
    On,
}

api! {
    /// All live alerts.
    pub struct Alerts {
        pub alerts: Vec<Alert>,
        /// When a process looked at them last; null before the first time.
        pub checked: Option<Timestamp>,
        /// When alerts lasted, newest first.
        pub spans: Vec<AlertSpan>,
    }

    /// A live alert.
    pub struct Alert {
        pub name: String,
        /// What it means and what to do.
        pub about: String,
        /// What it looks at: `workflow`, `lane`, `service`, `timetable` or `allowance`.
        pub kind: String,
        /// The name of that.
        pub of: String,
        /// The condition over the measures.
        pub when: String,
        /// The span that the measures cover.
        pub over_us: Span,
        pub state: AlertState,
        /// Since when its condition holds, or since when it lasts.
        pub since: Option<Timestamp>,
        /// When it was announced last since it began.
        pub announced: Option<Timestamp>,
        /// The measures of the last look.
        pub measures: BTreeMap<String, f64>,
        /// Why it could not be measured.
        pub fault: Option<String>,
        /// The workflow that is its notice.
        pub run: Option<String>,
        /// The alerts it is announced with.
        pub group: Option<String>,
        /// Whether its quiet hours are now.
        pub quiet: bool,
        pub silence: Option<AlertSilence>,
    }

    /// A time in which an alert announces nothing.
    pub struct AlertSilence {
        pub until: Timestamp,
        pub by: String,
        pub reason: String,
    }

    /// A time in which an alert lasted.
    pub struct AlertSpan {
        pub alert: String,
        pub began: Timestamp,
        /// Null while it lasts.
        pub ended: Option<Timestamp>,
        /// The measures when it began.
        pub measures: BTreeMap<String, f64>,
        /// How often it was announced.
        pub notices: u32,
    }
}

/// A silence of an alert.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct NewSilence {
    /// For how long, such as `2h`, at most 30 days.
    #[serde(rename = "for")]
    pub span: String,
    /// Why, for the others.
    pub reason: String,
}
