//! Who may call an endpoint: what it writes below `access`.
//!
//! ```yaml
//! access: open                          # anybody
//! access: key                           # callers with a key, in `Authorization: Bearer` or `X-Api-Key`
//! access: {key: {header: X-Office-Key}} # in a header field of another name
//! access: {jwt: harbour-identity}       # callers with a token of an issuer
//! ```

use super::keys::{ACCESS, KEY_PLACE};
use super::reader::{Members, Named};
use super::step::is_header_name;
use super::yaml::Node;
use crate::diagnostic::Report;
use crate::edit;

/// Who may call an endpoint.
#[derive(Clone, Debug, Default, PartialEq)]
pub enum Access {
    /// Anybody.
    #[default]
    Open,
    /// Callers with a key.
    Key(KeyPlace),
    /// Callers with a token of an issuer.
    Jwt(Named),
}

/// Where a key stands, beside `Authorization` and `X-Api-Key`.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct KeyPlace {
    /// A header field in place of `X-Api-Key`.
    pub header: Option<String>,
    /// A parameter of the query, for callers that can do nothing else.
    pub query: Option<String>,
}

impl Access {
    /// Its kind, as documents write it.
    pub fn kind(&self) -> &'static str {
        match self {
            Access::Open => "open",
            Access::Key(_) => "key",
            Access::Jwt(_) => "jwt",
        }
    }

    /// Whether anybody may call.
    pub fn is_open(&self) -> bool {
        *self == Access::Open
    }

    /// The issuer whose tokens it asks for.
    pub fn issuer(&self) -> Option<&Named> {
        match self {
            Access::Jwt(issuer) => Some(issuer),
            _ => None,
        }
    }

    /// Where keys stand, where it asks for one.
    pub fn key(&self) -> Option<&KeyPlace> {
        match self {
            Access::Key(place) => Some(place),
            _ => None,
        }
    }
}

/// Reads who may call an endpoint.
pub(super) fn read(entry: &Node, members: &Members, target: &Named, report: &mut Report) -> Access {
    let Some(node) = members.get("access") else {
        report.error("missing-key", target.at, "an endpoint says who may call it");
        report.help("add `access: open` for anybody, or `access: key` for callers with a key");
        let (at, text) = edit::behind(report.text(), entry, "endpoint", "access: open");
        report.fix("add `access: open`", at, text);
        return Access::Open;
    };
    match node.as_text() {
        Some("open") => return Access::Open,
        Some("key") => return Access::Key(KeyPlace::default()),
        Some("jwt") => {
            report.error("wrong-value", node.at, "tokens are those of an issuer");
            report.help("write `access: {jwt: ISSUER}`, and a document `issuer: ISSUER`");
            return Access::Open;
        }
        Some(_) => {
            report.error("wrong-value", node.at, "`access` is `open` or `key` or `{jwt: ISSUER}`");
            return Access::Open;
        }
        None => {}
    }
    let Some(inner) = Members::new(node, "`access`", &[ACCESS], report) else { return Access::Open };
    let issuer = inner.text("jwt", report);
    match (issuer, inner.get("key")) {
        (Some(issuer), None) => Access::Jwt(issuer),
        (None, Some(node)) => Access::Key(place(node, report)),
        _ => {
            report.error("wrong-value", node.at, "access is of one kind: `{jwt: ISSUER}` or `{key: {header: NAME}}`");
            Access::Open
        }
    }
}

fn place(node: &Node, report: &mut Report) -> KeyPlace {
    let Some(members) = Members::new(node, "`key`", &[KEY_PLACE], report) else { return KeyPlace::default() };
    let header = members.text("header", report);
    if let Some(name) = header.as_ref().filter(|name| !is_header_name(&name.text)) {
        report.error("wrong-value", name.at, format!("`{}` is no name of a header field", name.text));
    }
    let query = members.text("query", report);
    if let Some(name) = &query {
        report.warning("key-in-query", name.at, "a key in the query stays in logs and histories of others");
        report.help("for old callers only; others send it as `Authorization: Bearer KEY`");
    }
    KeyPlace { header: header.map(|name| name.text), query: query.map(|name| name.text) }
}
