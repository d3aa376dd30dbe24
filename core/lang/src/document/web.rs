//! What an endpoint declares for browsers, caches and the time after it: `cors`, `cache`, `formats`, `deprecated`, `sunset`.
//!
//! ```yaml
//! cors: {origins: [https://desk.lindvik.example], max_age: 1h}
//! cache: {for: 1min, vary: [Accept-Language]}
//! deprecated: 2027-01-01
//! sunset: 2027-06-30
//! ```

use std::time::Duration;

use super::formats::{self, Formats};
use super::keys::{CACHE, CORS};
use super::reader::Members;
use super::step::is_header_name;
use crate::diagnostic::Report;
use kanzlei_model::time::Timestamp;

/// How long a browser remembers what is allowed, by default and at most.
const REMEMBERED: Duration = Duration::from_secs(600);
const MAX_REMEMBERED: Duration = Duration::from_secs(86_400);
/// The longest that an answer is fresh.
const MAX_FRESH: Duration = Duration::from_secs(366 * 86_400);
/// The most origins, and the most names of a list.
const MOST: usize = 100;

/// What an endpoint declares for browsers, caches and the time after it.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Web {
    /// Which pages may call it.
    pub cors: Option<Cors>,
    /// How long its answers may be kept.
    pub cache: Option<Cache>,
    /// Since when it is deprecated (RFC 9745).
    pub deprecated: Option<Timestamp>,
    /// When it ends (RFC 8594).
    pub sunset: Option<Timestamp>,
    /// The formats of its answers.
    pub formats: Formats,
}

/// Pages of other origins that may call (Fetch standard, CORS protocol).
#[derive(Clone, Debug, PartialEq)]
pub struct Cors {
    /// Their origins; any where there is none.
    pub origins: Vec<String>,
    /// Header fields that they may send.
    pub headers: Vec<String>,
    /// Whether cookies and HTTP authentication may come along.
    pub credentials: bool,
    /// How long a browser may remember this.
    pub max_age: Duration,
}

/// How long answers may be kept (RFC 9111).
#[derive(Clone, Debug, PartialEq)]
pub struct Cache {
    /// How long an answer is fresh.
    pub fresh: Duration,
    /// Header fields of the request that choose between answers.
    pub vary: Vec<String>,
    /// Whether answers carry a validator.
    pub etag: bool,
}

/// Reads what an endpoint declares.
pub(super) fn read(members: &Members, method: &str, report: &mut Report) -> Web {
    let cache = members.get("cache").and_then(|node| {
        if method != "GET" {
            report.error("wrong-value", node.at, "answers to GET alone are kept");
            return None;
        }
        let inner = Members::new(node, "`cache`", &[CACHE], report)?;
        let fresh = inner.duration("for", MAX_FRESH, report);
        if inner.get("for").is_none() {
            report.error("missing-key", node.at, "`cache` needs `for`, how long an answer is fresh");
        }
        let etag = inner.get("etag").is_none() || inner.boolean("etag", report);
        Some(Cache { fresh: fresh?, vary: names(&inner, "vary", report), etag })
    });
    let (deprecated, sunset) = (instant(members, "deprecated", report), instant(members, "sunset", report));
    if let (Some(since), Some(ends), Some(node)) = (deprecated, sunset, members.get("sunset"))
        && ends < since
    {
        report.error("wrong-value", node.at, "it ends before it is deprecated");
    }
    let formats = formats::read(members, report);
    Web { cors: cors(members, report), cache, deprecated, sunset, formats }
}

fn cors(members: &Members, report: &mut Report) -> Option<Cors> {
    let node = members.get("cors")?;
    let usual = || vec!["Authorization".to_owned(), "Content-Type".to_owned()];
    if let Some(word) = node.as_text() {
        if word != "any" {
            report.error(
                "wrong-value",
                node.at,
                format!("`{word}` allows no pages; write `any` or `{{origins: […]}}`"),
            );
            return None;
        }
        return Some(Cors { origins: Vec::new(), headers: usual(), credentials: false, max_age: REMEMBERED });
    }
    let inner = Members::new(node, "`cors`", &[CORS], report)?;
    let mut origins = Vec::new();
    for node in inner.list("origins", report) {
        match node.as_text().filter(|text| is_origin(text)) {
            Some(origin) => origins.push(origin.to_ascii_lowercase()),
            None => {
                report.error(
                    "wrong-value",
                    node.at,
                    "an origin is a scheme and a host, without a path: `https://app.example`",
                );
            }
        }
    }
    let given = inner.list("origins", report).len();
    if given == 0 || given > MOST {
        report.error("missing-key", node.at, format!("`cors` names 1 to {MOST} `origins`, or is `any`"));
        return None;
    }
    // Without one that can be read, no page is allowed.
    if origins.is_empty() {
        return None;
    }
    let headers = names(&inner, "headers", report);
    Some(Cors {
        origins,
        headers: if inner.get("headers").is_some() { headers } else { usual() },
        credentials: inner.boolean("credentials", report),
        max_age: inner.duration("max_age", MAX_REMEMBERED, report).unwrap_or(REMEMBERED),
    })
}

/// Whether a text is an origin (RFC 6454).
fn is_origin(text: &str) -> bool {
    let host = text.strip_prefix("https://").or_else(|| text.strip_prefix("http://"));
    host.is_some_and(|host| {
        !host.is_empty() && host.bytes().all(|b| b.is_ascii_alphanumeric() || b".-:[]".contains(&b))
    })
}

/// A list of names of header fields.
fn names(members: &Members, key: &str, report: &mut Report) -> Vec<String> {
    let mut names = Vec::new();
    for node in members.list(key, report).iter().take(MOST) {
        match node.as_text().filter(|name| is_header_name(name)) {
            Some(name) => names.push(name.to_owned()),
            None => {
                report.error("wrong-value", node.at, "this is no name of a header field");
            }
        }
    }
    names
}

/// An instant, or a date for its first moment.
fn instant(members: &Members, key: &str, report: &mut Report) -> Option<Timestamp> {
    let text = members.text(key, report)?;
    let date = || text.text.parse::<jiff::civil::Date>().ok()?.to_zoned(jiff::tz::TimeZone::UTC).ok();
    let found = text.text.parse().ok().or_else(|| date().map(|at| at.timestamp().into()));
    if found.is_none() {
        report.error("wrong-value", text.at, format!("`{key}` is a date or an instant, such as `2027-06-30`"));
    }
    found
}
