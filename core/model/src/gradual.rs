//! Gradual deploys: which requests and jobs a new revision serves beside the live one, and when it counts as worse.
//!
//! A draw is a number from 0 to 1 that follows from the workflow and from what is drawn, so that every process draws alike, and
//! what belongs to a share belongs to each larger one too. Nothing here knows a document, a request or a store.
//!
//! ```
//! use kanzlei_model::gradual::{Rules, Side, draw};
//! let rules = Rules { share: 10.0, margin: Some(2.0), ..Rules::default() };
//! let drawn = (0..1000).filter(|id| rules.draws("berth-quote", &id.to_string())).count();
//! assert!((80..120).contains(&drawn));
//! let live = Side { runs: 900, failed: 9, ..Side::default() };
//! let new = Side { runs: 100, failed: 8, ..Side::default() };
//! assert_eq!(rules.worse(&live, &new).as_deref(), Some("8 % of its runs failed, 1 % of those of the live revision; the margin is 2 %"));
//! ```

use serde::{Deserialize, Serialize};
use sha2::{Digest, Sha256};

/// The most keys, and the most tags, of one gradual deploy.
pub const MOST_NAMES: usize = 50;
/// The runs of each revision before they are compared, where the rules name no number.
pub const LEAST: u64 = 50;
/// Quantiles of times have an error of an eighth; a smaller difference means nothing.
pub const LEAST_SLOWER: f64 = 20.0;

/// What a share is counted by.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "lowercase")]
pub enum Per {
    /// Each request and each job is drawn by itself.
    #[default]
    Request,
    /// All requests of one key or token are served by the same revision; those without one are drawn by themselves.
    Caller,
}

/// A header field with the value that a request must have.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct Header {
    /// Name of the header field.
    pub name: String,
    /// Its value.
    pub value: String,
}

/// What the new revision serves, and when it is taken back. A request that meets one of the conditions goes to the new
/// revision, and so does the share of the others.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(default, deny_unknown_fields)]
pub struct Rules {
    /// The share in percent, from 0 to 100.
    pub share: f64,
    /// What the share is counted by.
    pub per: Per,
    /// Requests with this header field.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub header: Option<Header>,
    /// Requests with these keys.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub keys: Vec<String>,
    /// Jobs with one of these tags.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub tags: Vec<String>,
    /// By how many points of a percentage the shares of failures and of rejections may be above those of the live revision.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub margin: Option<f64>,
    /// By how many percent its 95 % quantile of times may be above that of the live revision.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub slower: Option<f64>,
    /// The runs of the new revision before it is compared.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub least: Option<u64>,
}

/// What one of the two revisions did.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Side {
    /// All runs.
    pub runs: u64,
    /// Those that failed.
    pub failed: u64,
    /// Those whose caller was at fault.
    pub rejected: u64,
    /// The 95 % quantile of their times, in microseconds.
    pub p95: Option<u64>,
}

/// A number from 0 to 1 for something that a workflow serves.
pub fn draw(workflow: &str, what: &str) -> f64 {
    let mut hash = Sha256::new();
    hash.update(workflow.as_bytes());
    hash.update([0]);
    hash.update(what.as_bytes());
    let first: [u8; 8] = hash.finalize()[..8].try_into().unwrap_or_default();
    // The upper 53 bits fit a number without rounding.
    (u64::from_be_bytes(first) >> 11) as f64 / (1u64 << 53) as f64
}

impl Rules {
    /// Whether a draw belongs to the share.
    pub fn draws(&self, workflow: &str, what: &str) -> bool {
        self.share > 0.0 && draw(workflow, what) * 100.0 < self.share
    }

    /// What is wrong with the rules, and what to do.
    pub fn fault(&self) -> Option<String> {
        let percent = |value: f64, most: f64| value.is_finite() && (0.0..=most).contains(&value);
        if !percent(self.share, 100.0) {
            return Some("`share` is a percentage from 0 to 100".into());
        }
        if self.share == 0.0 && self.header.is_none() && self.keys.is_empty() && self.tags.is_empty() {
            return Some("nothing would reach the new revision: name a share, a header field, a key or a tag".into());
        }
        if self.keys.len() > MOST_NAMES || self.tags.len() > MOST_NAMES {
            return Some(format!("at most {MOST_NAMES} keys and {MOST_NAMES} tags are named"));
        }
        if self.keys.iter().chain(&self.tags).any(|name| name.is_empty() || name.len() > 300) {
            return Some("keys and tags have 1 to 300 bytes".into());
        }
        if let Some(Header { name, value }) = &self.header {
            let token = |byte: u8| byte.is_ascii_alphanumeric() || b"!#$%&'*+-.^_`|~".contains(&byte);
            if name.is_empty() || name.len() > 100 || !name.bytes().all(token) {
                return Some(format!("`{name}` is no name of a header field"));
            }
            if value.len() > 300 || value.trim() != value || value.bytes().any(|byte| byte < b' ') {
                return Some(
                    "the value of the header field has at most 300 bytes, no line break and no space around it".into(),
                );
            }
        }
        if self.margin.is_some_and(|margin| !percent(margin, 100.0)) {
            return Some("`margin` is a number of percentage points from 0 to 100".into());
        }
        if self.slower.is_some_and(|slower| !percent(slower, 10_000.0) || slower < LEAST_SLOWER) {
            return Some(format!(
                "`slower` is a percentage from {LEAST_SLOWER} to 10,000; times are measured with an error of an eighth"
            ));
        }
        if self.least == Some(0) {
            return Some("`least` is at least 1 run".into());
        }
        None
    }

    /// Why the new revision is worse than the live one by more than the rules allow. Both need enough runs for times, the new one
    /// for failures and rejections; a live revision without runs has none of those.
    pub fn worse(&self, live: &Side, new: &Side) -> Option<String> {
        let least = self.least.unwrap_or(LEAST);
        if new.runs < least {
            return None;
        }
        let share = |count: u64, side: &Side| count as f64 * 100.0 / side.runs.max(1) as f64;
        for (word, of) in [("failed", Side::failed as fn(&Side) -> u64), ("were rejected", Side::rejected)] {
            let (was, is) = (share(of(live), live), share(of(new), new));
            if let Some(margin) = self.margin.filter(|margin| is - was > *margin) {
                let (was, is, margin) = (percent(was), percent(is), percent(margin));
                return Some(format!(
                    "{is} of its runs {word}, {was} of those of the live revision; the margin is {margin}"
                ));
            }
        }
        let (slower, was, is) = (self.slower?, live.p95?, new.p95?);
        (live.runs >= least && is as f64 > was as f64 * (1.0 + slower / 100.0)).then(|| {
            let ms = |us: u64| {
                crate::duration::short(crate::time::Span::from_micros(us.try_into().unwrap_or(i64::MAX)).into())
            };
            format!(
                "95 % of its runs took up to {}, those of the live revision {}; the margin is {}",
                ms(is),
                ms(was),
                percent(slower)
            )
        })
    }
}

impl Side {
    fn failed(&self) -> u64 {
        self.failed
    }

    fn rejected(&self) -> u64 {
        self.rejected
    }
}

/// A percentage with at most two digits behind the point.
pub fn percent(value: f64) -> String {
    let rounded = (value * 100.0).round() / 100.0;
    format!("{rounded} %")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn shares_grow_and_keep_what_they_had() {
        let of = |share: f64| Rules { share, ..Rules::default() };
        let drawn =
            |share: f64| (0..10_000).filter(|id| of(share).draws("quote", &format!("run-{id}"))).collect::<Vec<_>>();
        let (mut before, mut last) = (Vec::new(), 0.0);
        for share in [0.0, 0.5, 10.0, 50.0, 99.0, 100.0] {
            let now = drawn(share);
            let wanted = share * 100.0;
            assert!(
                (now.len() as f64 - wanted).abs() <= 4.0 * (wanted * (1.0 - share / 100.0)).sqrt(),
                "{share}: {}",
                now.len()
            );
            assert!(before.iter().all(|id| now.contains(id)), "{last} % is part of {share} %");
            (before, last) = (now, share);
        }
        let other = (0..10_000).filter(|id| {
            of(50.0).draws("other", &format!("run-{id}")) == of(50.0).draws("quote", &format!("run-{id}"))
        });
        assert!((4700..5300).contains(&other.count()), "workflows draw independently of each other");
    }

    #[test]
    fn a_worse_revision_is_found() {
        let side =
            |runs, failed, rejected, ms: u64| Side { runs, failed, rejected, p95: (ms > 0).then_some(ms * 1000) };
        let rules = Rules { share: 10.0, margin: Some(2.0), slower: Some(50.0), ..Rules::default() };
        for (live, new, wanted) in [
            // As good; better; too few runs to say.
            (side(1000, 10, 20, 10), side(100, 1, 2, 10), None),
            (side(1000, 100, 0, 90), side(100, 0, 0, 10), None),
            (side(1000, 0, 0, 10), side(49, 49, 0, 10), None),
            // Exactly the margin is allowed.
            (side(1000, 10, 0, 10), side(100, 3, 0, 10), None),
            (side(1000, 10, 0, 10), side(100, 4, 0, 10), Some("4 % of its runs failed, 1 %")),
            (side(1000, 0, 0, 10), side(80, 0, 7, 10), Some("8.75 % of its runs were rejected, 0 %")),
            // A live revision without runs counts as one without failures, and has no times.
            (side(0, 0, 0, 0), side(50, 2, 0, 900), Some("4 % of its runs failed")),
            (side(0, 0, 0, 0), side(50, 1, 0, 900), None),
            (side(1000, 0, 0, 10), side(100, 0, 0, 15), None),
            (
                side(1000, 0, 0, 10),
                side(100, 0, 0, 16),
                Some("95 % of its runs took up to 16ms, those of the live revision 10ms"),
            ),
        ] {
            let found = rules.worse(&live, &new);
            match wanted {
                None => assert_eq!(found, None, "{live:?} {new:?}"),
                Some(wanted) => assert!(found.as_deref().is_some_and(|found| found.starts_with(wanted)), "{found:?}"),
            }
        }
        let none = Rules { share: 10.0, ..Rules::default() };
        assert_eq!(
            none.worse(&side(1000, 0, 0, 1), &side(100, 100, 0, 99)),
            None,
            "without a margin nothing is taken back"
        );
    }

    #[test]
    fn rules_with_faults_are_refused() {
        let header = |name: &str, value: &str| Some(Header { name: name.into(), value: value.into() });
        let share = |share| Rules { share, ..Rules::default() };
        for (rules, wanted) in [
            (share(10.0), None),
            (Rules { header: header("X-Ring", "new"), ..Rules::default() }, None),
            (share(0.0), Some("nothing would reach")),
            (share(100.5), Some("`share`")),
            (share(f64::NAN), Some("`share`")),
            (Rules { keys: vec![String::new()], ..Rules::default() }, Some("1 to 300")),
            (Rules { tags: vec!["a".into(); 51], ..Rules::default() }, Some("at most 50")),
            (Rules { header: header("X Ring", "new"), ..Rules::default() }, Some("`X Ring`")),
            (Rules { header: header("X-Ring", "a\nb"), ..Rules::default() }, Some("line break")),
            (Rules { margin: Some(-1.0), ..share(1.0) }, Some("`margin`")),
            (Rules { slower: Some(5.0), ..share(1.0) }, Some("`slower`")),
            (Rules { least: Some(0), ..share(1.0) }, Some("`least`")),
        ] {
            let fault = rules.fault();
            assert_eq!(fault.is_some(), wanted.is_some(), "{rules:?}: {fault:?}");
            assert!(fault.unwrap_or_default().contains(wanted.unwrap_or_default()), "{rules:?}");
        }
    }
}
