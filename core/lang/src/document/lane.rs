//! Documents of kind `lane`: named queues with their own concurrency, pace and order.
//!
//! ```
//! use kanzlei_lang::document::{self, Document, Source};
//! let source = Source::new("slow.yaml", "lane: slow\nat_once: 2\npace: 30/min\norder: {per: input.imo}\n");
//! let (document, findings) = document::read(&source, &|_| None);
//! assert!(findings.is_empty());
//! assert!(matches!(document, Some(Document::Lane(lane)) if lane.at_once == Some(2)));
//! ```

use std::time::Duration;

use super::keys::keys;
use super::reader::{KeySpec, Members, Named, is_document_name};
use super::retry::{self, Retry};
use super::service::pace;
use super::yaml::{Kind, Node};
use crate::diagnostic::Report;

/// The lane of jobs that name none.
pub const MAIN: &str = "main";
/// The largest `length` of a lane.
pub const MAX_LENGTH: i64 = 100_000_000;

/// A lane document.
#[derive(Clone, Debug)]
pub struct Lane {
    /// The name of the lane.
    pub name: Named,
    /// What it does, in the author's words.
    pub about: String,
    /// The most jobs that run at the same time, over all processes.
    pub at_once: Option<u32>,
    /// The most jobs that begin in an interval.
    pub pace: Option<(u32, Duration)>,
    /// Which of several due jobs starts first.
    pub order: Order,
    /// The most jobs that wait.
    pub length: Option<u64>,
    /// The status of the answer to those beyond: 503 or 429.
    pub full: u16,
    /// The retry policy of jobs whose workflow has none.
    pub retry: Option<Retry>,
}

/// Which of several due jobs starts first.
#[derive(Clone, Debug)]
pub enum Order {
    /// As they are due.
    Due,
    /// Strictly one after another.
    Strict,
    /// One at a time of those with the same value of this expression over `input`.
    Per(Node),
}

/// Keys of a lane document.
pub const LANE: &[KeySpec] = keys! {
    "lane", r#"{"type":"string","pattern":"^[a-z][a-z0-9-]*$"}"#, "The name of the lane; `main` is the one of jobs that name none.";
    "about", r#"{"type":"string"}"#, "What it is for, in a sentence.";
    "at_once", r#"{"type":"integer","minimum":1,"maximum":10000}"#, "The most jobs that run at the same time, over all processes.";
    "pace", r#"{"type":"string"}"#, "The most jobs that begin in an interval, spread evenly: `30/min`.";
    "order", r#"{"oneOf":[{"enum":["due","strict"]},{"type":"object","properties":{"per":{"type":"string"}},"required":["per"],"additionalProperties":false}]}"#, "`due`: as they are due; `strict`: one after another, each to its end; `{per: input.imo}`: one at a time of those with the same value. Default: `due`.";
    "length", r#"{"type":"integer","minimum":1}"#, "The most jobs that wait in it; beyond them `full` is answered.";
    "full", r#"{"enum":[503,429]}"#, "The status that clients see when it is full; default: 503.";
    "retry", r##"{"$ref":"#/$defs/retry"}"##, "Which failed jobs are retried, when and how often, where their workflow has no policy.";
};
const PER: &[KeySpec] = keys! { "per", r#"{"type":"string"}"#, "An expression over `input`."; };

/// Reads a lane.
pub fn read(root: &Node, report: &mut Report) -> Option<Lane> {
    let members = Members::new(root, "a lane", &[LANE], report)?;
    let name = members.text("lane", report)?;
    if !is_document_name(&name.text) {
        report.error("bad-name", name.at, format!("`{}` cannot be the name of a lane", name.text));
        report.help("lower-case letters, digits and hyphens, beginning with a letter: `slow-mail`");
    }
    let order = match members.get("order") {
        None => Order::Due,
        Some(node) => match (&node.kind, node.as_text()) {
            (_, Some("due")) => Order::Due,
            (_, Some("strict")) => Order::Strict,
            (Kind::Map(_), _) => match Members::new(node, "`order`", &[PER], report)?.get("per") {
                Some(per) => Order::Per(per.clone()),
                None => Order::Due,
            },
            _ => {
                report.error("wrong-value", node.at, "`order` is `due`, `strict` or `{per: expression}`");
                report.help("for example `order: {per: input.imo}`: one at a time for each vessel");
                Order::Due
            }
        },
    };
    let full = match members.get("full").map(|node| (&node.kind, node.at)) {
        None => 503,
        Some((Kind::Int(status @ (503 | 429)), _)) => *status as u16,
        Some((_, at)) => {
            report.error("wrong-value", at, "`full` is 503 or 429");
            503
        }
    };
    Some(Lane {
        name,
        about: members.text("about", report).map(|about| about.text).unwrap_or_default(),
        at_once: members.integer("at_once", 1, 10_000, report).map(|n| n as u32),
        pace: members.constant_text("pace", report).and_then(|text| pace(&text, report)),
        order,
        length: members.integer("length", 1, MAX_LENGTH, report).map(|n| n as u64),
        full,
        retry: members.entry("retry").and_then(|(key, node)| retry::read(key.at, node, &retry::JOB, report)),
    })
}
