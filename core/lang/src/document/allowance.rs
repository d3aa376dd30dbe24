//! Documents of kind `allowance`: how much a caller may ask for.
//!
//! ```
//! use kanzlei_lang::document::{self, Document, Source};
//! let source = Source::new("partners.yaml", "allowance: partners\nrate: 120/min\nquota: 50000/month\nzone: Europe/Oslo\n");
//! let (document, findings) = document::read(&source, &|_| None);
//! assert!(findings.is_empty());
//! assert!(matches!(document, Some(Document::Allowance(one)) if one.rate == Some((120, std::time::Duration::from_secs(60)))));
//! ```

use std::time::Duration;

use jiff::tz::TimeZone;

use super::keys::keys;
use super::reader::{KeySpec, Members, Named, constant, is_document_name};
use super::service::pace;
use super::workflow::{MOST_BODY, size};
use super::yaml::Node;
use crate::calendar;
use crate::diagnostic::Report;

/// The most requests of a quota.
const MAX_QUOTA: u64 = 1_000_000_000_000;

/// An allowance document.
#[derive(Clone, Debug)]
pub struct Allowance {
    /// Its name.
    pub name: Named,
    /// Whom it is for, in the author's words.
    pub about: String,
    /// So many requests in so long.
    pub rate: Option<(u32, Duration)>,
    /// How many requests may come at once of what was not used.
    pub burst: Option<u32>,
    /// So many requests in each period of the calendar.
    pub quota: Option<(u64, Period)>,
    /// The zone of that calendar.
    pub zone: TimeZone,
    /// The most requests of one caller that are answered at the same time.
    pub at_once: Option<u32>,
    /// The largest body in bytes.
    pub body: Option<u64>,
}

/// A period of the calendar.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Period {
    /// From full hour to full hour.
    Hour,
    /// From midnight to midnight.
    Day,
    /// From Monday to Monday.
    Week,
    /// From the first to the first.
    Month,
}

impl Period {
    /// Names as documents write them.
    pub const NAMES: [(&str, Period); 4] =
        [("hour", Period::Hour), ("day", Period::Day), ("week", Period::Week), ("month", Period::Month)];
}

/// Keys of an allowance document.
pub const ALLOWANCE: &[KeySpec] = keys! {
    "allowance", r#"{"type":"string","pattern":"^[a-z][a-z0-9-]*$"}"#, "The name of the allowance.";
    "about", r#"{"type":"string"}"#, "Whom it is for, in a sentence.";
    "rate", r#"{"type":"string","examples":["120/min","10/s"]}"#, "The most requests of one caller in an interval: `120/min`.";
    "burst", r#"{"type":"integer","minimum":1,"maximum":1000000}"#, "How many of them may come at once, of what was not used; default: as many as the rate has.";
    "quota", r#"{"type":"string","pattern":"^[0-9]+/(hour|day|week|month)$","examples":["50000/month"]}"#, "The most requests of one caller in a period of the calendar: `50000/month`.";
    "zone", r#"{"type":"string"}"#, "The time zone of that calendar, as the IANA names it; default: `UTC`.";
    "at_once", r#"{"type":"integer","minimum":1,"maximum":10000}"#, "The most requests of one caller that are answered at the same time, over all processes.";
    "body", r#"{"type":["string","integer"]}"#, "The largest body: bytes, or `64 KiB`, `2 MiB`; the entry's own bound holds too.";
};

/// Reads an allowance.
pub fn read(root: &Node, report: &mut Report) -> Option<Allowance> {
    let members = Members::new(root, "an allowance", &[ALLOWANCE], report)?;
    let name = members.text("allowance", report)?;
    if !is_document_name(&name.text) {
        report.error("bad-name", name.at, format!("`{}` cannot be the name of an allowance", name.text));
        report.help("lower-case letters, digits and hyphens, beginning with a letter: `partners`");
    }
    let rate = members.constant_text("rate", report).and_then(|text| pace(&text, report));
    let quota = members.constant_text("quota", report).and_then(|text| quota(&text, report));
    let burst = members.integer("burst", 1, 1_000_000, report).map(|burst| burst as u32);
    let body =
        members.get("body").and_then(|node| constant(node, report)).and_then(|node| size(&node, MOST_BODY, report));
    let at_once = members.integer("at_once", 1, 10_000, report).map(|most| most as u32);
    if ["rate", "quota", "at_once", "body"].iter().all(|name| members.get(name).is_none()) {
        report.error("missing-key", name.at, "an allowance limits something: `rate`, `quota`, `at_once` or `body`");
        report.help("for example `rate: 120/min`");
    }
    if let (Some(node), None) = (members.get("burst"), members.get("rate")) {
        report.error("wrong-value", node.at, "`burst` belongs to a `rate`");
    }
    let zone = match members.text("zone", report) {
        None => TimeZone::UTC,
        Some(zone) => calendar::zone(&zone.text).unwrap_or_else(|error| {
            report.error("unknown-zone", zone.at, error.to_string());
            TimeZone::UTC
        }),
    };
    let about = members.text("about", report).map(|about| about.text).unwrap_or_default();
    Some(Allowance { name, about, rate, burst, quota, zone, at_once, body })
}

/// A quota such as `50000/month`.
fn quota(text: &Named, report: &mut Report) -> Option<(u64, Period)> {
    let parsed = text.text.split_once('/').and_then(|(count, period)| {
        let count = count.trim().parse::<u64>().ok().filter(|count| (1..=MAX_QUOTA).contains(count))?;
        let period = Period::NAMES.iter().find(|(name, _)| *name == period.trim())?.1;
        Some((count, period))
    });
    if parsed.is_none() {
        report.error("wrong-value", text.at, format!("`{}` is no quota", text.text));
        report.help("a number for each `hour`, `day`, `week` or `month`: `50000/month`");
    }
    parsed
}
