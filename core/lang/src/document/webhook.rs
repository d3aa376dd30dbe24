//! Entries of kind `webhook`: the address at which messages of one sender arrive.
//!
//! ```yaml
//! entries:
//!   - webhook: /from/customs
//!     proof: {standard: customs-webhook}
//!     once_per: "${delivery.headers['webhook-id']}"
//!     send: {declaration: "${delivery.body.declaration}"}
//! ```

use std::time::Duration;

use super::address::{self, Address};
use super::keys::{ONCE_PER, WEBHOOK};
use super::proof::{self, Proof};
use super::reader::{Members, Named};
use super::workflow::{Answer, limits, one_of};
use super::yaml::Node;
use crate::diagnostic::{Place, Report};
use crate::edit;
use kanzlei_model::address::Allowed;

/// How long a message is remembered by default, so that it is not processed again.
pub const REMEMBERED: Duration = Duration::from_secs(7 * 86_400);
/// The longest that it may be.
const MAX_REMEMBERED: Duration = Duration::from_secs(90 * 86_400);
/// The methods that messages may arrive by.
const METHODS: [&str; 3] = ["POST", "PUT", "PATCH"];

/// An entry of kind `webhook`.
#[derive(Clone, Debug)]
pub struct Webhook {
    /// Host and whole path, without names.
    pub address: Address,
    /// Where that stands in the text.
    pub at: Place,
    /// The methods of its messages.
    pub methods: Vec<String>,
    /// How a sender proves that a message is its own.
    pub proof: Proof,
    /// The networks that messages may come from; without any, every address is allowed.
    pub networks: Option<Allowed>,
    /// The input, from the message; by convention where there is none.
    pub send: Option<Vec<(Named, Node)>>,
    /// What tells messages apart, and how long one is remembered.
    pub once_per: Option<(Node, Duration)>,
    /// What a sender wants back when it verifies the address.
    pub echo: Option<Node>,
    /// When it answers.
    pub answer: Answer,
    /// How long a message may take.
    pub time: Option<Duration>,
    /// Most bytes of a body.
    pub body: Option<u64>,
}

/// Reads a webhook.
pub(super) fn read(node: &Node, report: &mut Report) -> Option<Webhook> {
    let members = Members::new(node, "a webhook", &[WEBHOOK], report)?;
    let path = members.text("webhook", report)?;
    if !path.text.starts_with('/') || path.text.contains(['{', '}', ' ']) {
        report.error("wrong-value", path.at, "a webhook has a path without names, such as `/from/customs`");
        report.help("what differs from message to message stands in its body, query or headers");
        return None;
    }
    let address = address::read(&members, path.clone(), report);
    let networks = networks(&members, report);
    let proof = match members.get("proof") {
        Some(node) => {
            let proof = proof::read(node, report);
            if proof == Some(Proof::None) && networks.is_none() {
                proof::warn_of_none(node.at, report);
            }
            proof
        }
        None => {
            report.error("missing-key", path.at, "a webhook says how its sender proves that a message is its own");
            report.help("add `proof: {standard: SECRET}`, or `proof: none` where the sender signs nothing");
            let (at, text) = edit::behind(report.text(), node, "webhook", "proof: none");
            report.fix("add `proof: none`", at, text);
            None
        }
    };
    let mut methods: Vec<String> = Vec::new();
    for node in members.list("methods", report) {
        match node.as_text().filter(|method| METHODS.contains(method)) {
            Some(method) if methods.iter().all(|known| known != method) => methods.push(method.to_owned()),
            Some(_) => {}
            None => {
                let message = format!("messages arrive by {}", METHODS.join(", "));
                report.error("wrong-value", node.at, message);
            }
        }
    }
    if methods.is_empty() {
        methods.push("POST".to_owned());
    }
    let once_per = members.get("once_per").and_then(|node| match node.as_map() {
        None => Some((node.clone(), REMEMBERED)),
        Some(_) => {
            let inner = Members::new(node, "`once_per`", &[ONCE_PER], report)?;
            let span = inner.duration("for", MAX_REMEMBERED, report).unwrap_or(REMEMBERED);
            if inner.get("key").is_none() {
                report.error("missing-key", node.at, "`once_per` needs `key`, what tells messages apart");
            }
            Some((inner.get("key")?.clone(), span))
        }
    });
    let answers = [("later", Answer::Later), ("now", Answer::Now)];
    let answer = members.get("answer").map_or(Answer::Later, |_| one_of(&members, "answer", &answers, report));
    let (time, body) = limits(&members, report);
    let send = members.get("send").is_some().then(|| members.mapping("send", report));
    Some(Webhook {
        address,
        at: path.at,
        methods,
        proof: proof?,
        networks,
        send: send.map(|send| send.into_iter().map(|(name, node)| (name, node.clone())).collect()),
        once_per,
        echo: members.get("echo").cloned(),
        answer,
        time,
        body,
    })
}

/// The networks that messages may come from.
fn networks(members: &Members, report: &mut Report) -> Option<Allowed> {
    let nodes = members.list("from", report);
    let mut texts = Vec::with_capacity(nodes.len());
    for node in nodes {
        match node.as_text().filter(|text| Allowed::read([*text]).is_ok()) {
            Some(text) => texts.push(text),
            None => {
                report.error("wrong-value", node.at, "a network is written as `192.0.2.0/24` or `2001:db8::/32`");
            }
        }
    }
    (!texts.is_empty()).then(|| Allowed::read(texts).unwrap_or_default())
}
