//! The key `retry` of calls, workflows and lanes: which failures are retried, when and how often.
//!
//! ```yaml
//! retry: {attempts: 3, first: 200ms, factor: 2, max: 10s, on: [timeout, unreachable, 429, 5xx]}
//! ```

use std::time::Duration;

use super::keys::RETRY;
use super::reader::Members;
use super::values::{FAILURE_KINDS, status_range};
use super::yaml::{Kind, Node};
use crate::diagnostic::{Place, Report};
use crate::suggest;

/// A retry policy.
#[derive(Clone, Debug, PartialEq)]
pub struct Retry {
    /// All attempts, the first one included.
    pub attempts: u32,
    /// The pause before the second attempt.
    pub first: Duration,
    /// By how much each further pause is longer.
    pub factor: f64,
    /// The longest pause.
    pub max: Duration,
    /// What is retried; nothing stands for what the one that retries does by default.
    pub on: Option<Vec<RetryOn>>,
    /// Where it stands in the text.
    pub at: Place,
}

/// A failure that is retried.
#[derive(Clone, Debug, PartialEq)]
pub enum RetryOn {
    /// A kind of failure.
    Failure(String),
    /// Statuses from the first to the last.
    Status(u16, u16),
}

impl Retry {
    /// The pause before an attempt, counted from 1; the first one that has a pause is the second.
    pub fn pause_before(&self, attempt: u32) -> Duration {
        let grown = self.first.as_secs_f64() * self.factor.powi(attempt.saturating_sub(2).min(1000) as i32);
        Duration::from_secs_f64(grown.min(self.max.as_secs_f64()))
    }

    /// Whether a failure is retried; `default` decides where the policy has no `on`.
    pub fn covers(&self, kind: &str, status: Option<u16>, default: bool) -> bool {
        self.on.as_ref().map_or(default, |on| {
            on.iter().any(|on| match on {
                RetryOn::Failure(known) => known == kind,
                RetryOn::Status(from, to) => status.is_some_and(|status| (*from..=*to).contains(&status)),
            })
        })
    }
}

/// What a policy is where its document leaves something out, and how far it may go.
pub(super) struct Bounds {
    attempts: u32,
    most_attempts: i64,
    first: Duration,
    max: Duration,
    longest: Duration,
}

/// The bounds of a call.
pub(super) const CALL: Bounds = Bounds {
    attempts: 3,
    most_attempts: 20,
    first: Duration::from_millis(200),
    max: Duration::from_secs(10),
    longest: Duration::from_secs(3600),
};

/// The bounds of a job.
pub(super) const JOB: Bounds = Bounds {
    attempts: 4,
    most_attempts: 101,
    first: Duration::from_secs(10),
    max: Duration::from_secs(3600),
    longest: Duration::from_secs(30 * 86_400),
};

/// Reads a policy; faults go to the report.
pub(super) fn read(at: Place, node: &Node, bounds: &Bounds, report: &mut Report) -> Option<Retry> {
    let members = Members::new(node, "`retry`", &[RETRY], report)?;
    let factor = match members.get("factor").map(|node| (&node.kind, node.at)) {
        None => 2.0,
        Some((Kind::Int(int), _)) if (1..=10).contains(int) => *int as f64,
        Some((Kind::Float(factor), _)) if (1.0..=10.0).contains(factor) => *factor,
        Some((_, at)) => {
            report.error("wrong-value", at, "`factor` is a number from 1 to 10");
            2.0
        }
    };
    let attempts = members.integer("attempts", 1, bounds.most_attempts, report);
    Some(Retry {
        attempts: attempts.map_or(bounds.attempts, |attempts| attempts as u32),
        first: members.duration("first", bounds.longest, report).unwrap_or(bounds.first),
        factor,
        max: members.duration("max", bounds.longest, report).unwrap_or(bounds.max),
        on: members
            .get("on")
            .map(|_| members.list("on", report).iter().filter_map(|node| retry_on(node, report)).collect()),
        at,
    })
}

fn retry_on(node: &Node, report: &mut Report) -> Option<RetryOn> {
    match node.as_text() {
        Some(kind) if FAILURE_KINDS.contains(&kind) => Some(RetryOn::Failure(kind.into())),
        Some(text) if !text.ends_with("xx") => {
            report.error("wrong-value", node.at, format!("there is no failure `{text}`"));
            match suggest::nearest(text, FAILURE_KINDS.iter().copied()) {
                Some(near) => report.did_you_mean(near),
                None => report.help(format!("failures: {}", FAILURE_KINDS.join(", "))),
            };
            None
        }
        _ => status_range(node, report).map(|(from, to)| RetryOn::Status(from, to)),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn pauses_grow_to_the_longest() {
        let retry = Retry {
            attempts: 9,
            first: Duration::from_secs(1),
            factor: 3.0,
            max: Duration::from_secs(20),
            on: None,
            at: Place::default(),
        };
        let pauses: Vec<u64> = (2..=6).map(|attempt| retry.pause_before(attempt).as_secs()).collect();
        assert_eq!(pauses, [1, 3, 9, 20, 20]);
    }

    #[test]
    fn a_policy_covers_what_it_lists_or_the_default() {
        let listed = vec![RetryOn::Failure("timeout".into()), RetryOn::Status(500, 599)];
        let policy = |on| Retry {
            attempts: 2,
            first: Duration::ZERO,
            factor: 1.0,
            max: Duration::ZERO,
            on,
            at: Place::default(),
        };
        for (on, kind, status, default, covered) in [
            (None, "timeout", None, true, true),
            (None, "timeout", None, false, false),
            (Some(listed.clone()), "timeout", None, false, true),
            (Some(listed.clone()), "status", Some(503), false, true),
            (Some(listed), "status", Some(404), true, false),
        ] {
            assert_eq!(policy(on).covers(kind, status, default), covered, "{kind} {status:?}");
        }
    }
}
