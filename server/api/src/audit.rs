//! The audit trail: who changed what, and who looked at runs with confidential values.

use kanzlei_model::time::Timestamp;
use serde::{Deserialize, Serialize};
use uuid::Uuid;

use crate::api;

/// Which lines of the trail; everything that is set must fit.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(default, deny_unknown_fields)]
pub struct AuditFilter {
    /// Only those of somebody.
    pub who: Option<String>,
    /// Only those whose subject, method or path has this text.
    pub text: Option<String>,
    /// Only those from an instant on.
    pub since: Option<String>,
    /// Only those before this line, for the next page.
    pub before: Option<Uuid>,
    /// 1 to 1000; 100 by default.
    pub limit: Option<u32>,
}

api! {
    /// Lines of the audit trail, newest first.
    pub struct Audit {
        pub lines: Vec<AuditLine>,
        /// The id of the last line when older ones follow; null at the end.
        pub next: Option<Uuid>,
    }

    /// A line of the audit trail.
    pub struct AuditLine {
        pub id: Uuid,
        pub at: Timestamp,
        /// The name of a token, or of somebody whom a provider of identities signed in.
        pub who: String,
        pub role: String,
        /// `token` or `session`.
        pub via: String,
        pub address: Option<String>,
        /// Method and path.
        pub what: String,
        /// What it was about.
        pub subject: String,
        /// The status of the answer.
        pub status: u16,
        /// How it was before, where that is known.
        pub before: Option<String>,
        /// How it is since.
        pub after: Option<String>,
    }
}
