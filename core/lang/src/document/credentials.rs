//! The credentials of a service's calls, and the certificates of its connections: what it writes below `credentials` and `tls`.
//!
//! ```yaml
//! credentials: {bearer: rates-token}            # a secret, by its name
//! credentials:
//!   oauth: {from: identity, client: harbour-office, secret: identity-client, scope: rates}
//! tls: {certificate: office-certificate}        # a secret with a certificate and its key (PEM)
//! ```

use super::keys::keys;
use super::reader::{KeySpec, Members, Named, is_document_name};
use super::yaml::Node;
use crate::diagnostic::Report;

/// The path at which a token is requested by default, below the base of the service that issues it.
const TOKEN_PATH: &str = "/token";
/// The largest list of trusted certificates, in bytes.
const MOST_AUTHORITY: usize = 64 << 10;

/// How the service knows who calls. Values are names of secrets, never the secrets themselves.
#[derive(Clone, Debug, PartialEq)]
pub enum Credentials {
    /// `Authorization: Bearer …` (RFC 6750).
    Bearer(Named),
    /// `Authorization: Basic …` (RFC 7617).
    Basic {
        /// User name.
        user: String,
        /// Secret that holds the password.
        password: Named,
    },
    /// A header field with a secret.
    Header {
        /// Name of the header field.
        name: String,
        /// Secret that holds the value.
        value: Named,
    },
    /// A query parameter with a secret.
    Query {
        /// Name of the query parameter.
        name: String,
        /// Secret that holds the value.
        value: Named,
    },
    /// A bearer token that another service issues (OAuth 2.0 client credentials, RFC 6749 §4.4).
    Oauth(Box<Oauth>),
}

/// A request for the token of OAuth client credentials.
#[derive(Clone, Debug, PartialEq)]
pub struct Oauth {
    /// The service that issues the token.
    pub from: Named,
    /// The path of its token endpoint, below its base.
    pub path: String,
    /// The client id.
    pub client: String,
    /// Secret that belongs to the client id.
    pub secret: Named,
    /// The requested scopes, separated by spaces.
    pub scope: Option<String>,
    /// Whom the token is for, where the issuer has several such services.
    pub audience: Option<String>,
    /// Where the client id and its secret stand in the request.
    pub send: Placement,
}

/// Where a client id and its secret stand in a request for a token (RFC 6749 §2.3.1).
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Placement {
    /// In `Authorization: Basic …`.
    #[default]
    Header,
    /// Among the parameters of the body.
    Body,
}

/// The certificates of a service's TLS connections, beside what the operating system trusts.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Tls {
    /// Secret that holds the certificate of the caller and its private key (PEM).
    pub certificate: Option<Named>,
    /// Certificates (PEM) one of which signs that of the service; they replace those of the operating system.
    pub authority: Option<String>,
}

impl Credentials {
    /// The secret that they need.
    pub fn secret(&self) -> &Named {
        match self {
            Credentials::Bearer(secret) => secret,
            Credentials::Basic { password, .. } => password,
            Credentials::Header { value, .. } | Credentials::Query { value, .. } => value,
            Credentials::Oauth(oauth) => &oauth.secret,
        }
    }

    /// The request for their token, where another service issues one.
    pub fn oauth(&self) -> Option<&Oauth> {
        match self {
            Credentials::Oauth(oauth) => Some(oauth),
            _ => None,
        }
    }
}

/// Keys of `credentials`.
pub const CREDENTIALS: &[KeySpec] = keys! {
    "bearer", r#"{"type":"string"}"#, "A secret sent as bearer token.";
    "basic", r##"{"$ref":"#/$defs/basic"}"##, "User, and the secret that is the password.";
    "header", r##"{"$ref":"#/$defs/named"}"##, "A header, and the secret that is its value.";
    "query", r##"{"$ref":"#/$defs/named"}"##, "A query parameter, and its secret.";
    "oauth", r##"{"$ref":"#/$defs/oauth"}"##, "A bearer token that another service issues for a client id and its secret (OAuth 2.0 client credentials).";
};
/// Keys of `credentials.basic`.
pub const BASIC: &[KeySpec] = keys! {
    "user", r#"{"type":"string"}"#, "The user.";
    "password", r#"{"type":"string"}"#, "The name of a secret.";
};
/// Keys of `credentials.header` and `credentials.query`.
pub const NAMED_VALUE: &[KeySpec] = keys! {
    "name", r#"{"type":"string"}"#, "The name.";
    "value", r#"{"type":"string"}"#, "The name of a secret.";
};
/// Keys of `credentials.oauth`.
pub const OAUTH: &[KeySpec] = keys! {
    "from", r#"{"type":"string"}"#, "The service that issues the token, by the name of its document.";
    "path", r#"{"type":"string","pattern":"^/"}"#, "The path of its token endpoint, below its base; default: `/token`.";
    "client", r#"{"type":"string"}"#, "The client id.";
    "secret", r#"{"type":"string"}"#, "The name of the secret that belongs to the client id.";
    "scope", r#"{"type":"string"}"#, "The requested scopes, separated by spaces.";
    "audience", r#"{"type":"string"}"#, "Whom the token is for, where its issuer asks for that.";
    "send", r#"{"enum":["header","body"]}"#, "Where client id and secret stand in the request: `header` (`Authorization: Basic`) or `body`; default: `header`.";
};
/// Keys of `tls`.
pub const TLS: &[KeySpec] = keys! {
    "certificate", r#"{"type":"string"}"#, "The name of the secret with the certificate by which the service knows the caller, and its private key (PEM).";
    "authority", r#"{"type":"string"}"#, "Certificates (PEM) one of which signs that of the service; default: those that the operating system trusts.";
};

/// Reads `credentials`.
pub(super) fn read(node: &Node, report: &mut Report) -> Option<Credentials> {
    let members = Members::new(node, "`credentials`", &[CREDENTIALS], report)?;
    let count = node.as_map().map_or(0, <[_]>::len);
    if count != 1 {
        report.error(
            "wrong-value",
            node.at,
            "`credentials` is one of `bearer`, `basic`, `header`, `query` and `oauth`",
        );
        return None;
    }
    if members.get("bearer").is_some() {
        return members.text("bearer", report).filter(|s| secret_name(s, report)).map(Credentials::Bearer);
    }
    if let Some(node) = members.get("basic") {
        let inner = Members::new(node, "`basic`", &[BASIC], report)?;
        let (user, password) = (inner.text("user", report), inner.text("password", report));
        if user.is_none() || password.is_none() {
            report.error("missing-key", node.at, "`basic` needs `user` and `password`");
        }
        return Some(Credentials::Basic { user: user?.text, password: password.filter(|s| secret_name(s, report))? });
    }
    if let Some(node) = members.get("oauth") {
        return oauth(node, report).map(|oauth| Credentials::Oauth(Box::new(oauth)));
    }
    let (key, in_header) = if members.get("header").is_some() { ("header", true) } else { ("query", false) };
    let node = members.get(key)?;
    let inner = Members::new(node, &format!("`{key}`"), &[NAMED_VALUE], report)?;
    let (name, value) = (inner.text("name", report), inner.text("value", report));
    if name.is_none() || value.is_none() {
        report.error("missing-key", node.at, format!("`{key}` needs `name` and `value`"));
    }
    let (name, value) = (name?.text, value.filter(|s| secret_name(s, report))?);
    Some(if in_header { Credentials::Header { name, value } } else { Credentials::Query { name, value } })
}

fn oauth(node: &Node, report: &mut Report) -> Option<Oauth> {
    let members = Members::new(node, "`oauth`", &[OAUTH], report)?;
    for name in ["from", "client", "secret"] {
        if members.get(name).is_none() {
            report.error("missing-key", node.at, format!("`oauth` needs `{name}`"));
            report.help("for example `{from: identity, client: harbour-office, secret: identity-client}`");
        }
    }
    let path = members.text("path", report);
    if let Some(path) = path.as_ref().filter(|path| !path.text.starts_with('/')) {
        report.error("wrong-value", path.at, "`path` is a path below the base of the service that issues the token");
    }
    let send = match members.text("send", report) {
        Some(send) if send.text == "body" => Placement::Body,
        Some(send) if send.text != "header" => {
            report.error("wrong-value", send.at, "`send` is `header` or `body`");
            Placement::Header
        }
        _ => Placement::Header,
    };
    let text = |name: &str, report: &mut Report| members.constant_text(name, report).map(|text| text.text);
    let (scope, audience) = (text("scope", report), text("audience", report));
    let client = text("client", report);
    let secret = members.text("secret", report).filter(|secret| secret_name(secret, report));
    Some(Oauth {
        from: members.text("from", report)?,
        path: path.map_or_else(|| TOKEN_PATH.to_owned(), |path| path.text),
        client: client?,
        secret: secret?,
        scope,
        audience,
        send,
    })
}

/// Reads `tls`.
pub(super) fn tls(node: &Node, report: &mut Report) -> Option<Tls> {
    let members = Members::new(node, "`tls`", &[TLS], report)?;
    let certificate = members.text("certificate", report).filter(|secret| secret_name(secret, report));
    let authority = members.constant_text("authority", report);
    if let Some(found) = &authority {
        if found.text.contains("PRIVATE KEY") {
            report.error("private-key", found.at, "`authority` holds certificates alone, never a private key");
        } else if !found.text.contains("-----BEGIN CERTIFICATE-----") || found.text.len() > MOST_AUTHORITY {
            let message =
                format!("`authority` is one certificate or several in PEM, {} KiB at most", MOST_AUTHORITY >> 10);
            report.error("wrong-value", found.at, message);
            report.help("write `authority: |` and the lines from `-----BEGIN CERTIFICATE-----`, or `${settings.NAME}`");
        }
    }
    Some(Tls { certificate, authority: authority.map(|found| found.text) })
}

/// Whether this is the name of a secret; reports one that is not.
pub(super) fn secret_name(name: &Named, report: &mut Report) -> bool {
    let fits = is_document_name(&name.text);
    if !fits {
        report.error("bad-name", name.at, "this is not the name of a secret");
        report.help("the secret itself is set with `kanzlei secrets set NAME`; its name stands here: `rates-token`");
    }
    fits
}
