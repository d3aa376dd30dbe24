//! Values that several kinds of documents share: methods, statuses, kinds of failures, times.

use std::time::Duration;

use super::yaml::{Kind, Node};
use crate::diagnostic::Report;

/// The longest time that a call may be given for an answer.
pub const MAX_WITHIN: Duration = Duration::from_secs(15 * 60);
/// HTTP methods an endpoint can have.
pub const METHODS: &[&str] = &["GET", "HEAD", "POST", "PUT", "PATCH", "DELETE"];
/// Names of the failure kinds that `retry.on` accepts.
pub const FAILURE_KINDS: &[&str] = &[
    "unreachable",
    "timeout",
    "broken",
    "unreadable",
    "too-large",
    "redirected",
    "status",
    "blocked-address",
    "expression",
    "database",
    "conflict",
    "sql",
    "full",
];

/// A status, or a class of statuses such as `2xx`.
pub(super) fn status_range(node: &Node, report: &mut Report) -> Option<(u16, u16)> {
    match &node.kind {
        Kind::Int(int) if (100..=599).contains(int) => return Some((*int as u16, *int as u16)),
        Kind::Text(text) => {
            if let Some(class) =
                text.text.strip_suffix("xx").and_then(|c| c.parse::<u16>().ok()).filter(|c| (1..=5).contains(c))
            {
                return Some((class * 100, class * 100 + 99));
            }
        }
        _ => {}
    }
    report.error("wrong-value", node.at, "a status is a number from 100 to 599 or a class such as `2xx`");
    None
}
