//! Tokens of callers (JWT, RFC 7519): verified with the keys of their issuer, and nothing of them believed before.
//!
//! Nothing in this file reads a clock or the network, so attacks are tested as tables; [`issuers`] holds the keys and remembers
//! tokens that were verified. The signature is checked by a package; which algorithms, keys and claims are allowed is decided here
//! (RFC 8725). Keys are public by construction, so that a token signed with a public key as a symmetric one proves nothing.

pub mod issuers;
pub mod openid;

use std::sync::Arc;

use base64::Engine;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use jsonwebtoken::jwk::{AlgorithmParameters, EllipticCurve, Jwk};
use jsonwebtoken::{Algorithm, DecodingKey};
use kanzlei_compiler::plan::Issuer;
use serde_json::Value as Json;

/// The longest token, in bytes.
pub const MOST: usize = 16 << 10;
/// The most keys of a set that are used.
const MOST_KEYS: usize = 64;
/// The most keys that are tried for a token that names none.
const MOST_TRIED: usize = 8;

/// A token that is valid.
#[derive(Clone, Debug, PartialEq)]
pub struct Valid {
    /// The caller it names.
    pub subject: String,
    /// The claims that the issuer's document lists.
    pub claims: Arc<Json>,
    /// Until when, in seconds.
    pub until: i64,
}

/// Why a token counts for nothing.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Rejected {
    /// A fault of the token, in a few words.
    Token(String),
    /// It names a key that the set does not have.
    UnknownKey,
    /// There is no set of keys: the issuer has not answered yet.
    NoKeys,
}

fn fault(why: impl Into<String>) -> Rejected {
    Rejected::Token(why.into())
}

/// Public keys of an issuer.
#[derive(Default)]
pub struct KeySet {
    keys: Vec<Key>,
}

struct Key {
    id: Option<String>,
    /// The algorithms that it is for.
    algorithms: Vec<Algorithm>,
    key: DecodingKey,
}

impl KeySet {
    /// The keys of a set that can check signatures; others are left out.
    pub fn of<'j>(keys: impl IntoIterator<Item = &'j Json>) -> Self {
        let keys = keys.into_iter().filter_map(key).take(MOST_KEYS).collect();
        KeySet { keys }
    }

    /// Whether there is none.
    pub fn is_empty(&self) -> bool {
        self.keys.is_empty()
    }

    fn fitting(&self, id: Option<&str>, algorithm: Algorithm) -> Result<Vec<&Key>, Rejected> {
        let named: Vec<&Key> = match id {
            None => self.keys.iter().collect(),
            Some(id) => self.keys.iter().filter(|key| key.id.as_deref() == Some(id)).collect(),
        };
        if named.is_empty() {
            return Err(if id.is_some() { Rejected::UnknownKey } else { Rejected::NoKeys });
        }
        let fitting: Vec<&Key> =
            named.into_iter().filter(|key| key.algorithms.contains(&algorithm)).take(MOST_TRIED).collect();
        if fitting.is_empty() { Err(fault("its key is not for its algorithm")) } else { Ok(fitting) }
    }
}

/// A key of a set, with the algorithms that it is for.
fn key(json: &Json) -> Option<Key> {
    if json.get("use").and_then(Json::as_str).is_some_and(|purpose| purpose != "sig") {
        return None;
    }
    let jwk: Jwk = serde_json::from_value(json.clone()).ok()?;
    let all: Vec<Algorithm> = match &jwk.algorithm {
        AlgorithmParameters::RSA(_) => vec![
            Algorithm::RS256,
            Algorithm::RS384,
            Algorithm::RS512,
            Algorithm::PS256,
            Algorithm::PS384,
            Algorithm::PS512,
        ],
        AlgorithmParameters::EllipticCurve(curve) => match curve.curve {
            EllipticCurve::P256 => vec![Algorithm::ES256],
            EllipticCurve::P384 => vec![Algorithm::ES384],
            _ => return None,
        },
        AlgorithmParameters::OctetKeyPair(_) => vec![Algorithm::EdDSA],
        AlgorithmParameters::OctetKey(_) => return None,
    };
    // A key that names its algorithm is for no other (RFC 7517 §4.4).
    let own = json.get("alg").and_then(Json::as_str);
    let algorithms = match own {
        None => all,
        Some(own) => all.into_iter().filter(|algorithm| format!("{algorithm:?}") == own).collect(),
    };
    let key = DecodingKey::from_jwk(&jwk).ok()?;
    (!algorithms.is_empty()).then_some(Key { id: jwk.common.key_id, algorithms, key })
}

/// Verifies a token at an instant in seconds.
///
/// # Errors
/// What is wrong with it; [`Rejected::UnknownKey`] where newer keys could tell.
pub fn verify(issuer: &Issuer, keys: &KeySet, token: &str, now: i64) -> Result<Valid, Rejected> {
    if token.len() > MOST {
        return Err(fault(format!("it has more than {MOST} bytes")));
    }
    let mut parts = token.split('.');
    let (Some(head), Some(payload), Some(signature), None) = (parts.next(), parts.next(), parts.next(), parts.next())
    else {
        return Err(fault("it is no signed token"));
    };
    let header = object(head).ok_or_else(|| fault("its header cannot be read"))?;
    let text = |name: &str| header.get(name).and_then(Json::as_str);
    let word = text("alg").unwrap_or_default();
    if !issuer.algorithms.iter().any(|allowed| allowed == word) {
        return Err(fault("its algorithm is not allowed"));
    }
    let algorithm: Algorithm = word.parse().map_err(|_| fault("its algorithm is not allowed"))?;
    // Extensions that must be understood (RFC 7515 §4.1.11); none is.
    if header.get("crit").is_some() {
        return Err(fault("its header has extensions that are not known"));
    }
    if header.get("kid").is_some_and(|id| !id.is_string()) {
        return Err(fault("its header cannot be read"));
    }
    let signed = &token[..head.len() + 1 + payload.len()];
    let fitting = keys.fitting(text("kid"), algorithm)?;
    let genuine =
        |key: &&Key| jsonwebtoken::crypto::verify(signature, signed.as_bytes(), &key.key, algorithm).unwrap_or(false);
    if !fitting.iter().any(genuine) {
        return Err(fault("its signature does not fit"));
    }
    let claims = object(payload).ok_or_else(|| fault("its claims cannot be read"))?;
    timely(issuer, &claims, now).and_then(|until| {
        if claims.get("iss").and_then(Json::as_str) != Some(issuer.iss.as_str()) {
            return Err(fault("it is of another issuer"));
        }
        let ours = |audience: &Json| audience.as_str().is_some_and(|one| issuer.audience.iter().any(|own| own == one));
        let audience = claims.get("aud").is_some_and(|audience| match audience {
            Json::Array(several) => several.iter().any(ours),
            one => ours(one),
        });
        if !audience {
            return Err(fault("it is for another audience"));
        }
        let (subject, claims) = issuer.accept(&claims).map_err(fault)?;
        Ok(Valid { subject, claims: Arc::new(claims), until })
    })
}

/// Until when a token is valid, if it is now.
fn timely(issuer: &Issuer, claims: &Json, now: i64) -> Result<i64, Rejected> {
    let skew = i64::try_from(issuer.skew.as_secs()).unwrap_or_default();
    // Instants are numbers (RFC 7519 §2); anything else is a fault, not a missing claim.
    let instant = |name: &str| match claims.get(name) {
        None => Ok(None),
        Some(at) => at.as_f64().map(|at| Some(at as i64)).ok_or_else(|| fault(format!("its `{name}` is no instant"))),
    };
    let until = instant("exp")?.ok_or_else(|| fault("it has no `exp`"))?.saturating_add(skew);
    if now >= until {
        return Err(fault("it has expired"));
    }
    if instant("nbf")?.is_some_and(|from| now < from.saturating_sub(skew)) {
        return Err(fault("it is not valid yet"));
    }
    Ok(until)
}

fn object(part: &str) -> Option<Json> {
    let bytes = URL_SAFE_NO_PAD.decode(part).ok()?;
    serde_json::from_slice::<Json>(&bytes).ok().filter(Json::is_object)
}

#[cfg(test)]
mod tests;
