//! How the sender of a webhook shows that a message comes from it: what an entry writes below `proof`.
//!
//! This reads the shape; checking a message against it is the service's business. A scheme of signatures is described by what
//! is signed (`over`), with what, and where the signature stands, so that any common one can be written:
//!
//! ```yaml
//! proof: {standard: customs-webhook}            # Standard Webhooks; two secrets while one replaces the other
//! proof:
//!   hmac: {secret: bank-webhook, header: X-Signature, part: v1, over: "${part.t}.${body}", time: part.t}
//! ```

use std::time::Duration;

use super::credentials::secret_name;
use super::keys::{HMAC, IN_QUERY, PROOF, SIGN};
use super::reader::{Members, Named};
use super::step::is_header_name;
use super::workflow::one_of;
use super::yaml::{Kind, Node};
use crate::diagnostic::{Place, Report};

/// How far the time of a message may be from now by default (Standard Webhooks).
pub const TOLERANCE: Duration = Duration::from_secs(300);
/// The most that it may be.
const MAX_TOLERANCE: Duration = Duration::from_secs(86_400);
/// The most secrets of one proof: the one in force, and those that replace it.
const MOST_SECRETS: usize = 3;
/// The most parts of a text that is signed.
const MOST_PIECES: usize = 32;

/// How a sender proves that a message is its own.
#[derive(Clone, Debug, Default, PartialEq)]
pub enum Proof {
    /// Not at all.
    #[default]
    None,
    /// As Standard Webhooks asks for, with symmetric signatures.
    Standard(Vec<Named>),
    /// By a keyed hash of another scheme.
    Hmac(Box<Hmac>),
    /// By user and password (RFC 7617); the secret is `user:password`.
    Basic(Vec<Named>),
    /// By a token in `Authorization` (RFC 6750).
    Bearer(Vec<Named>),
    /// By a token in the query.
    Query {
        /// The name of the parameter.
        name: String,
        /// The secrets that it may hold.
        secrets: Vec<Named>,
    },
    /// By a token of an issuer in `Authorization` (RFC 7519).
    Jwt(Named),
}

/// A scheme of signatures by keyed hash (RFC 2104).
#[derive(Clone, Debug, PartialEq)]
pub struct Hmac {
    /// The secrets, any of which may have signed.
    pub secrets: Vec<Named>,
    /// How the text of a secret is read.
    pub key: Writing,
    /// The hash.
    pub algorithm: Algorithm,
    /// The header field with the signature.
    pub header: String,
    /// The part of the field that is the signature, where it holds several: `t=…,v1=…`.
    pub part: Option<String>,
    /// What stands before the signature.
    pub prefix: String,
    /// How the signature is written.
    pub encoding: Writing,
    /// What is signed, in order.
    pub over: Vec<Piece>,
    /// Where the time of the message stands, where it has one.
    pub time: Option<Source>,
    /// How far that may be from now.
    pub within: Duration,
}

/// A hash of a keyed hash.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Algorithm {
    /// SHA-1, which only old senders still use.
    Sha1,
    /// SHA-256.
    #[default]
    Sha256,
    /// SHA-512.
    Sha512,
}

/// How bytes are written as text.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Writing {
    /// As they are.
    Text,
    /// In hexadecimal digits.
    #[default]
    Hex,
    /// In base64 (RFC 4648).
    Base64,
}

/// A part of the text that is signed.
#[derive(Clone, Debug, PartialEq)]
pub enum Piece {
    /// As it is.
    Text(String),
    /// Of the message.
    Of(Source),
}

/// What of a message is signed.
#[derive(Clone, Debug, PartialEq)]
pub enum Source {
    /// The body, byte for byte.
    Body,
    /// A header field.
    Header(String),
    /// A named part of the field with the signature.
    Part(String),
    /// The method.
    Method,
    /// The path as it was sent.
    Path,
    /// The query as it was sent, without its question mark.
    Query,
    /// The address by which the service is reached, with path and query.
    Url,
}

impl Proof {
    /// The secrets it is checked with.
    pub fn secrets(&self) -> &[Named] {
        match self {
            Proof::None | Proof::Jwt(_) => &[],
            Proof::Standard(secrets) | Proof::Basic(secrets) | Proof::Bearer(secrets) => secrets,
            Proof::Query { secrets, .. } => secrets,
            Proof::Hmac(hmac) => &hmac.secrets,
        }
    }

    /// Its kind, as documents write it.
    pub fn kind(&self) -> &'static str {
        match self {
            Proof::None => "none",
            Proof::Standard(_) => "standard",
            Proof::Hmac(_) => "hmac",
            Proof::Basic(_) => "basic",
            Proof::Bearer(_) => "bearer",
            Proof::Query { .. } => "query",
            Proof::Jwt(_) => "jwt",
        }
    }

    /// Whether it covers the body: only then is the whole message the sender's.
    pub fn signs(&self) -> bool {
        matches!(self, Proof::Standard(_) | Proof::Hmac(_))
    }
}

/// Reads a proof.
pub(super) fn read(node: &Node, report: &mut Report) -> Option<Proof> {
    if let Some(word) = node.as_text() {
        if word != "none" {
            report.error("wrong-value", node.at, format!("`{word}` is no proof"));
            report.help("write `{standard: SECRET}`, `{hmac: {…}}`, `{bearer: SECRET}`, `{jwt: ISSUER}`, or `none`");
            return None;
        }
        return Some(Proof::None);
    }
    let members = Members::new(node, "`proof`", &[PROOF], report)?;
    let given = node.as_map().unwrap_or_default();
    let [(kind, value)] = given else {
        report.error("wrong-value", node.at, "a proof is of one kind: `{standard: SECRET}`");
        return None;
    };
    match kind.name.as_str() {
        "standard" => secrets(value, report).map(Proof::Standard),
        "basic" => secrets(value, report).map(Proof::Basic),
        "bearer" => secrets(value, report).map(Proof::Bearer),
        "query" => {
            let inner = Members::new(value, "`query`", &[IN_QUERY], report)?;
            let name = inner.text("name", report);
            let secrets = inner.get("secret").and_then(|node| secrets(node, report));
            if name.is_none() || inner.get("secret").is_none() {
                report.error("missing-key", value.at, "a proof in the query needs `name` and `secret`");
            }
            Some(Proof::Query { name: name?.text, secrets: secrets? })
        }
        "jwt" => members.text("jwt", report).map(Proof::Jwt),
        "hmac" => hmac(members.get("hmac")?, report).map(|hmac| Proof::Hmac(Box::new(hmac))),
        _ => None,
    }
}

/// Reads how a message is signed that a step sends.
pub(super) fn signing(node: &Node, report: &mut Report) -> Option<Proof> {
    let members = Members::new(node, "`sign`", &[SIGN], report)?;
    let proof = match (members.get("standard"), members.get("hmac")) {
        (Some(secret), None) => secrets(secret, report).map(Proof::Standard),
        (None, Some(scheme)) => hmac(scheme, report).map(|hmac| Proof::Hmac(Box::new(hmac))),
        _ => {
            report.error("wrong-value", node.at, "a message is signed in one way: `{standard: SECRET}`");
            None
        }
    }?;
    if proof.secrets().len() > 1 {
        report.error("wrong-value", node.at, "a message is signed with one secret");
        return None;
    }
    Some(proof)
}

/// One secret, or several of which any may be used.
pub(super) fn secrets(node: &Node, report: &mut Report) -> Option<Vec<Named>> {
    let nodes = match &node.kind {
        Kind::List(items) => items.iter().collect(),
        _ => vec![node],
    };
    let named = |node: &&Node| node.as_text().map(|text| Named { text: text.to_owned(), at: node.at });
    let secrets: Vec<Named> = nodes.iter().filter_map(named).collect();
    if secrets.is_empty() || secrets.len() != nodes.len() || secrets.len() > MOST_SECRETS {
        let message = format!("a secret by its name, or a list of at most {MOST_SECRETS} while one replaces another");
        report.error("wrong-value", node.at, message);
        return None;
    }
    secrets.iter().all(|secret| secret_name(secret, report)).then_some(secrets)
}

fn hmac(node: &Node, report: &mut Report) -> Option<Hmac> {
    let members = Members::new(node, "`hmac`", &[HMAC], report)?;
    for name in ["secret", "header"] {
        if members.get(name).is_none() {
            report.error("missing-key", node.at, format!("`hmac` needs `{name}`"));
            report.help("for example `{secret: bank-webhook, header: X-Signature, prefix: \"sha256=\"}`");
        }
    }
    let secrets = members.get("secret").and_then(|node| secrets(node, report));
    let header = members.text("header", report);
    if let Some(header) = header.as_ref().filter(|header| !is_header_name(&header.text)) {
        report.error("wrong-value", header.at, format!("`{}` is no name of a header field", header.text));
        return None;
    }
    let algorithms = [("sha256", Algorithm::Sha256), ("sha512", Algorithm::Sha512), ("sha1", Algorithm::Sha1)];
    let algorithm = one_of(&members, "algorithm", &algorithms, report);
    let writings = [("hex", Writing::Hex), ("base64", Writing::Base64)];
    let encoding = one_of(&members, "encoding", &writings, report);
    let keys = [("text", Writing::Text), ("hex", Writing::Hex), ("base64", Writing::Base64)];
    let key = members.get("key").map_or(Writing::Text, |_| one_of(&members, "key", &keys, report));
    let part = members.text("part", report).map(|part| part.text);
    let over = match members.text("over", report) {
        Some(text) => pieces(&text, report)?,
        None => vec![Piece::Of(Source::Body)],
    };
    if let Some(at) = members.get("over").map(|node| node.at)
        && !over.contains(&Piece::Of(Source::Body))
    {
        report.warning(
            "unsigned-body",
            at,
            "the signature does not cover the body: anybody who sees one message can send others",
        );
        report.help("add `${body}` where the sender signs it");
    }
    let time = match members.text("time", report) {
        Some(text) => Some(source(&text, report)?),
        None => None,
    };
    let within = members.duration("within", MAX_TOLERANCE, report).unwrap_or(TOLERANCE);
    let prefix = members.text("prefix", report).map(|prefix| prefix.text).unwrap_or_default();
    Some(Hmac { secrets: secrets?, key, algorithm, header: header?.text, part, prefix, encoding, over, time, within })
}

/// A text with `${…}` for parts of the message.
fn pieces(text: &Named, report: &mut Report) -> Option<Vec<Piece>> {
    let (mut out, mut rest) = (Vec::new(), text.text.as_str());
    while let Some(start) = rest.find("${") {
        let Some(end) = rest[start..].find('}') else {
            report.error("wrong-value", text.at, "`${` is not closed");
            return None;
        };
        if start > 0 {
            out.push(Piece::Text(rest[..start].to_owned()));
        }
        let inner = Named { text: rest[start + 2..start + end].trim().to_owned(), at: text.at };
        out.push(Piece::Of(source(&inner, report)?));
        rest = &rest[start + end + 1..];
    }
    if !rest.is_empty() {
        out.push(Piece::Text(rest.to_owned()));
    }
    if out.len() > MOST_PIECES {
        report.error("wrong-value", text.at, format!("`over` has at most {MOST_PIECES} parts"));
        return None;
    }
    Some(out)
}

fn source(text: &Named, report: &mut Report) -> Option<Source> {
    let (kind, name) = text.text.split_once('.').unwrap_or((&text.text, ""));
    let found = match (kind, name) {
        ("body", "") => Some(Source::Body),
        ("method", "") => Some(Source::Method),
        ("path", "") => Some(Source::Path),
        ("query", "") => Some(Source::Query),
        ("url", "") => Some(Source::Url),
        ("header", name) if is_header_name(name) => Some(Source::Header(name.to_owned())),
        ("part", name) if !name.is_empty() => Some(Source::Part(name.to_owned())),
        _ => None,
    };
    if found.is_none() {
        report.error("wrong-value", text.at, format!("`{}` is no part of a message", text.text));
        report.help("parts are `body`, `header.Name`, `part.name` of the field with the signature, `method`, `path`, `query`, `url`");
    }
    found
}

/// The place of a proof that is none, for the warning about it.
pub(super) fn warn_of_none(at: Place, report: &mut Report) {
    report.warning(
        "unproven-webhook",
        at,
        "anybody who knows this address can send messages that look like the sender's",
    );
    report.help("say how its sender proves itself: `proof: {standard: SECRET}`; or at least `from: [NETWORK]`");
}
