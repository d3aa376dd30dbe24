//! Documents of kind `issuer`: who issues the tokens (JWT, RFC 7519) that callers show, and what must be right about one.
//!
//! ```
//! use kanzlei_lang::document::{self, Document, Source};
//! let text = "issuer: harbour-identity\niss: https://identity.example\nservice: identity\naudience: quotes\nclaims:\n  scope: {type: string}\n";
//! let (document, findings) = document::read(&Source::new("identity.yaml", text), &|_| None);
//! assert!(findings.is_empty(), "{findings:?}");
//! assert!(matches!(document, Some(Document::Issuer(one)) if one.subject == "sub" && one.claims.len() == 1));
//! ```

use std::time::Duration;

use serde_json::Value as Json;

use super::keys::keys;
use super::reader::{KeySpec, Members, Named, is_document_name};
use super::workflow::{Property, property};
use super::yaml::Node;
use crate::diagnostic::Report;
use crate::suggest;

/// Where the discovery document of OpenID Connect stands by default.
pub const DISCOVERY: &str = "/.well-known/openid-configuration";
/// How far clocks may differ by default, and at most.
const SKEW: Duration = Duration::from_secs(60);
const MAX_SKEW: Duration = Duration::from_secs(600);
/// The most keys, and the most audiences, that a document lists.
const MOST: usize = 32;
/// The algorithms of signatures with a key pair (RFC 7518 §3.1, RFC 8037).
pub const ALGORITHMS: [&str; 9] = ["RS256", "RS384", "RS512", "PS256", "PS384", "PS512", "ES256", "ES384", "EdDSA"];
/// Those that are allowed by default.
pub const DEFAULT: [&str; 4] = ["RS256", "PS256", "ES256", "EdDSA"];

/// An issuer document.
#[derive(Clone, Debug)]
pub struct Issuer {
    /// Its name.
    pub name: Named,
    /// What it is, in the author's words.
    pub about: String,
    /// What its tokens have as `iss`.
    pub iss: String,
    /// Whom its tokens are for: one of these stands in `aud`.
    pub audience: Vec<String>,
    /// Where its keys come from.
    pub keys: Keys,
    /// The algorithms of signatures that are allowed.
    pub algorithms: Vec<String>,
    /// How far its clock may differ.
    pub skew: Duration,
    /// The claims that workflows know, as schemas by name.
    pub claims: Vec<Property>,
    /// The claim that names a caller.
    pub subject: String,
    /// How much each caller may ask for.
    pub allowance: Option<Named>,
}

/// Where the keys of an issuer come from.
#[derive(Clone, Debug, PartialEq)]
pub enum Keys {
    /// They stand in the document.
    Fixed(Vec<Json>),
    /// A service has them (JSON Web Key Set, RFC 7517 §5).
    Jwks {
        /// The service.
        service: Named,
        /// The path below its base.
        path: String,
    },
    /// A service describes where they are (OpenID Connect Discovery 1.0).
    Discovery {
        /// The service.
        service: Named,
        /// The path of the description below its base.
        path: String,
    },
}

impl Keys {
    /// The service that has them.
    pub fn service(&self) -> Option<&Named> {
        match self {
            Keys::Fixed(_) => None,
            Keys::Jwks { service, .. } | Keys::Discovery { service, .. } => Some(service),
        }
    }
}

/// Keys of an issuer document.
pub const ISSUER: &[KeySpec] = keys! {
    "issuer", r#"{"type":"string","pattern":"^[a-z][a-z0-9-]*$"}"#, "The name of the issuer.";
    "about", r#"{"type":"string"}"#, "What it is, in a sentence.";
    "iss", r#"{"type":"string"}"#, "What its tokens have as `iss`, letter for letter: `https://identity.example`.";
    "audience", r#"{"type":["string","array"],"items":{"type":"string"}}"#, "Whom its tokens are for: one of these stands in `aud`.";
    "service", r#"{"type":"string"}"#, "The service that has its keys, by the name of its document; it is asked where its discovery document says.";
    "discovery", r#"{"type":"string","pattern":"^/"}"#, "The path of the discovery document below the base of the service; default: `/.well-known/openid-configuration`.";
    "jwks", r#"{"type":"string","pattern":"^/"}"#, "The path of its key set below the base of the service, where it has no discovery document.";
    "keys", r#"{"type":"array","items":{"type":"object"}}"#, "Its public keys as JSON Web Keys, where no service has them.";
    "algorithms", r#"{"type":"array","items":{"enum":["RS256","RS384","RS512","PS256","PS384","PS512","ES256","ES384","EdDSA"]}}"#, "The algorithms of signatures that are allowed; default: `[RS256, PS256, ES256, EdDSA]`.";
    "skew", r#"{"type":"string"}"#, "How far its clock may differ; default: `60s`.";
    "claims", r#"{"type":"object","additionalProperties":{"type":"object"}}"#, "The claims that workflows know, as JSON Schema by name. Required unless one has `optional: true`.";
    "subject", r#"{"type":"string"}"#, "The claim that names a caller; default: `sub`.";
    "allowance", r#"{"type":"string"}"#, "How much each caller may ask for, by the name of an allowance.";
};

/// Reads an issuer.
pub fn read(root: &Node, report: &mut Report) -> Option<Issuer> {
    let members = Members::new(root, "an issuer", &[ISSUER], report)?;
    let name = members.text("issuer", report)?;
    if !is_document_name(&name.text) {
        report.error("bad-name", name.at, format!("`{}` cannot be the name of an issuer", name.text));
        report.help("lower-case letters, digits and hyphens, beginning with a letter: `harbour-identity`");
    }
    let iss = members.constant_text("iss", report);
    if members.get("iss").is_none() {
        report.error("missing-key", name.at, "an issuer needs `iss`, what its tokens have as `iss`");
        report.help("for example `iss: https://identity.example`");
    }
    let audience = texts(&members, "audience", report);
    if members.get("audience").is_none_or(|node| node.as_text().is_none() && audience.is_empty()) {
        report.error("missing-key", name.at, "an issuer needs `audience`, whom its tokens are for");
        report.help("without it, a token for any other service of the issuer would be valid here");
    }
    let keys = source(&members, &name, report);
    let algorithms = algorithms(&members, report);
    let skew = members.duration("skew", MAX_SKEW, report).unwrap_or(SKEW);
    let claims: Vec<Property> = members
        .mapping("claims", report)
        .into_iter()
        .filter_map(|(name, node)| property("a claim", name, node, report))
        .collect();
    let about = members.text("about", report).map(|about| about.text).unwrap_or_default();
    let subject = members.text("subject", report).map_or_else(|| "sub".to_owned(), |subject| subject.text);
    let allowance = members.text("allowance", report);
    Some(Issuer { name, about, iss: iss?.text, audience, keys: keys?, algorithms, skew, claims, subject, allowance })
}

fn texts(members: &Members, name: &str, report: &mut Report) -> Vec<String> {
    let nodes = match members.get(name) {
        Some(node) if node.as_text().is_some() => std::slice::from_ref(node),
        _ => members.list(name, report),
    };
    if let Some(node) = nodes.get(MOST) {
        report.error("wrong-value", node.at, format!("`{name}` has at most {MOST}"));
    }
    let mut texts = Vec::with_capacity(nodes.len());
    for node in nodes {
        match super::reader::constant(node, report).and_then(|node| node.as_text().map(str::to_owned)) {
            Some(text) if !text.is_empty() => texts.push(text),
            _ => _ = report.error("wrong-type", node.at, format!("`{name}` is text or a list of texts")),
        }
    }
    texts
}

/// Where the keys come from: of the document, a key set, or discovery.
fn source(members: &Members, name: &Named, report: &mut Report) -> Option<Keys> {
    let service = members.text("service", report);
    let path = |key: &str, report: &mut Report| {
        let path = members.text(key, report)?;
        if !path.text.starts_with('/') {
            report.error("wrong-value", path.at, format!("`{key}` is a path below the base of the service"));
        }
        Some(path)
    };
    let (discovery, jwks) = (path("discovery", report), path("jwks", report));
    if let (Some(_), Some(jwks)) = (&discovery, &jwks) {
        report.error("wrong-value", jwks.at, "an issuer has either `discovery` or `jwks`");
    }
    match (service, members.get("keys")) {
        (Some(service), None) => Some(match jwks {
            Some(path) => Keys::Jwks { service, path: path.text },
            None => Keys::Discovery { service, path: discovery.map_or_else(|| DISCOVERY.to_owned(), |path| path.text) },
        }),
        (None, Some(node)) => {
            let nodes = members.list("keys", report);
            if nodes.is_empty() || nodes.len() > MOST {
                report.error("wrong-value", node.at, format!("`keys` has 1 to {MOST} keys"));
            }
            Some(Keys::Fixed(nodes.iter().filter_map(|node| public_key(node, report)).collect()))
        }
        (Some(_), Some(node)) => {
            report.error("wrong-value", node.at, "the keys stand in the document, or a service has them");
            None
        }
        (None, None) => {
            report.error("missing-key", name.at, "an issuer needs `service`, which has its keys, or `keys`");
            report.help("write `service: NAME` for OpenID discovery, with `jwks: /path` for a key set alone");
            None
        }
    }
}

/// A public key; what could sign tokens does not stand in a document.
fn public_key(node: &Node, report: &mut Report) -> Option<Json> {
    let key = node.to_value().to_serde();
    let text = |name: &str| key.get(name).and_then(Json::as_str);
    if key.get("d").is_some() || key.get("k").is_some() || text("kty") == Some("oct") {
        report.error("private-key", node.at, "this key could sign tokens; a document holds public keys alone");
        report.help("leave out `d`, `p`, `q` and the others; symmetric keys are not allowed");
        return None;
    }
    let needed: &[&str] = match text("kty") {
        Some("RSA") => &["n", "e"],
        Some("EC") => &["crv", "x", "y"],
        Some("OKP") => &["crv", "x"],
        _ => {
            report.error("wrong-value", node.at, "a key is a JSON Web Key of `kty` RSA, EC or OKP");
            return None;
        }
    };
    if let Some(missing) = needed.iter().find(|name| text(name).is_none()) {
        report.error("missing-key", node.at, format!("a key of this `kty` needs `{missing}`"));
        return None;
    }
    Some(key)
}

fn algorithms(members: &Members, report: &mut Report) -> Vec<String> {
    let mut found = Vec::new();
    for node in members.list("algorithms", report) {
        let word = node.as_text().unwrap_or_default();
        if ALGORITHMS.contains(&word) {
            found.push(word.to_owned());
            continue;
        }
        report.error("wrong-value", node.at, format!("`{word}` is no algorithm of signatures with a key pair"));
        match word {
            "none" => report.help("a token without a signature proves nothing"),
            _ if word.starts_with("HS") => {
                report.help("with a symmetric algorithm, whoever can check a token could make one")
            }
            _ => match suggest::nearest(word, ALGORITHMS) {
                Some(near) => report.did_you_mean(near),
                None => report.help(format!("algorithms: {}", ALGORITHMS.join(", "))),
            },
        };
    }
    if found.is_empty() { DEFAULT.map(str::to_owned).to_vec() } else { found }
}
