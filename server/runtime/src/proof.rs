//! Proofs of messages: checking that a message comes from its sender, and signing one like its sender.
//!
//! Everything is compared on raw bytes and in constant time, before anything of a body is parsed. Nothing here reads a clock or
//! a secret by itself, so attacks are tested as tables.
//!
//! ```
//! use kanzlei_runtime::proof::{Message, check, sign};
//! use kanzlei_lang::document::proof::Proof;
//! # use kanzlei_lang::{diagnostic::Place, document::reader::Named};
//! # let name = Named { text: "customs".into(), at: Place::default() };
//! let proof = Proof::Standard(vec![name]);
//! let mut message = Message { body: b"{}", ..Message::default() };
//! let headers = sign(&proof, "whsec_c2VjcmV0", "msg_1", 1_804_140_000, &message).headers;
//! message.headers = headers;
//! let secret = |_: &str| Some("whsec_c2VjcmV0".to_owned());
//! assert!(check(&proof, &message, &secret, 1_804_140_060).is_ok());
//! assert!(check(&proof, &message, &secret, 1_804_150_000).is_err());
//! ```

use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use hmac::{Hmac, Mac};
use kanzlei_lang::document::proof::{Algorithm, Hmac as Scheme, Piece, Proof, Source, TOLERANCE, Writing};
use kanzlei_model::hex;
use sha1::Sha1;
use sha2::{Digest, Sha256, Sha512};
use subtle::ConstantTimeEq;

/// The most signatures of one message that are compared.
const MOST_SIGNATURES: usize = 8;

/// A message in the parts that can be signed.
#[derive(Clone, Debug, Default)]
pub struct Message<'a> {
    /// HTTP method.
    pub method: &'a str,
    /// The path as it was sent.
    pub path: &'a str,
    /// The query as it was sent.
    pub query: &'a str,
    /// The address of the public listener, without a slash at its end.
    pub base: &'a str,
    /// Header fields in their order; names in lower case.
    pub headers: Vec<(String, String)>,
    /// The body, byte for byte.
    pub body: &'a [u8],
}

impl Message<'_> {
    fn header(&self, name: &str) -> Option<&str> {
        self.headers.iter().find(|(known, _)| known.eq_ignore_ascii_case(name)).map(|(_, value)| value.as_str())
    }
}

/// Why a message does not count as its sender's.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Unproven {
    /// A fault of the message, in a few words that show nothing of a secret.
    Message(String),
    /// None of the secrets that it would be checked with is there.
    Secret(String),
}

/// Checks that a message comes from its sender, at an instant in seconds. `secret` returns the value of a secret by name.
///
/// Returns the name of the secret that it was proven with; an empty one without a proof.
///
/// # Errors
/// What the message lacks, or the secret that the service lacks.
pub fn check(
    proof: &Proof,
    message: &Message,
    secret: &dyn Fn(&str) -> Option<String>,
    now: i64,
) -> Result<String, Unproven> {
    let fault = |why: &str| Unproven::Message(why.to_owned());
    let names = proof.secrets().iter().map(|named| named.text.as_str());
    let secrets: Vec<(&str, String)> = names.filter_map(|name| Some((name, secret(name)?))).collect();
    if let (Some(first), true) = (proof.secrets().first(), secrets.is_empty()) {
        return Err(Unproven::Secret(first.text.clone()));
    }
    let shown = |given: &str| {
        let fitting = secrets.iter().filter(|(_, value)| same(value.as_bytes(), given.as_bytes()));
        fitting.map(|(name, _)| (*name).to_owned()).next()
    };
    match proof {
        Proof::None => Ok(String::new()),
        // Tokens are verified with the keys of their issuer ([`crate::tokens`]).
        Proof::Jwt(_) => Err(fault("its token was not verified")),
        Proof::Standard(_) => {
            let field =
                |name: &str| message.header(name).ok_or_else(|| Unproven::Message(format!("it has no `{name}`")));
            let (id, at, signatures) = (field("webhook-id")?, field("webhook-timestamp")?, field("webhook-signature")?);
            recent(at, TOLERANCE.as_secs(), now)?;
            let given: Vec<Vec<u8>> = signatures
                .split(' ')
                .filter_map(|one| STANDARD.decode(one.strip_prefix("v1,")?).ok())
                .take(MOST_SIGNATURES)
                .collect();
            let signed = |value: &str| {
                let mut mac = keyed::<Hmac<Sha256>>(&standard_key(value));
                [id.as_bytes(), b".", at.as_bytes(), b".", message.body].iter().for_each(|part| mac.update(part));
                given.iter().any(|given| mac.clone().verify_slice(given).is_ok())
            };
            let found = secrets.iter().find(|(_, value)| signed(value));
            found.map(|(name, _)| (*name).to_owned()).ok_or_else(|| fault("its signature does not fit"))
        }
        Proof::Hmac(scheme) => {
            let Some(field) = message.header(&scheme.header) else {
                return Err(Unproven::Message(format!("it has no `{}`", scheme.header)));
            };
            if let Some(time) = &scheme.time {
                let at = part_of(scheme, time, message);
                recent(&String::from_utf8_lossy(&at), scheme.within.as_secs(), now)?;
            }
            let given: Vec<Vec<u8>> = signatures(scheme, field).into_iter().take(MOST_SIGNATURES).collect();
            let pieces = signed(scheme, message);
            let fits = |value: &str| {
                let key = key_of(scheme.key, value);
                given.iter().any(|given| verified(scheme.algorithm, &key, &pieces, given))
            };
            let found = secrets.iter().find(|(_, value)| fits(value));
            found.map(|(name, _)| (*name).to_owned()).ok_or_else(|| fault("its signature does not fit"))
        }
        Proof::Bearer(_) => {
            let given = credential(message, "bearer").ok_or_else(|| fault("it has no `Authorization: Bearer`"))?;
            shown(given).ok_or_else(|| fault("its token does not fit"))
        }
        Proof::Basic(_) => {
            let given = credential(message, "basic").ok_or_else(|| fault("it has no `Authorization: Basic`"))?;
            let given = STANDARD.decode(given).ok().and_then(|given| String::from_utf8(given).ok());
            given.and_then(|given| shown(&given)).ok_or_else(|| fault("its user or password does not fit"))
        }
        Proof::Query { name, .. } => {
            let given = kanzlei_compiler::input::form_pairs(message.query.as_bytes());
            let given = given.into_iter().find(|(known, _)| known == name).map(|(_, value)| value);
            let given = given.ok_or_else(|| Unproven::Message(format!("its query has no `{name}`")))?;
            shown(&given).ok_or_else(|| Unproven::Message(format!("`{name}` in its query does not fit")))
        }
    }
}

/// What a sender adds to a message.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Signed {
    /// Header fields.
    pub headers: Vec<(String, String)>,
    /// A parameter of the query.
    pub query: Option<(String, String)>,
}

/// Signs a message like its sender, with a secret, an id and an instant in seconds.
pub fn sign(proof: &Proof, secret: &str, id: &str, at: i64, message: &Message) -> Signed {
    let headers = |headers: Vec<(String, String)>| Signed { headers, query: None };
    let field = |name: &str, value: String| (name.to_owned(), value);
    match proof {
        Proof::None | Proof::Jwt(_) => Signed::default(),
        Proof::Standard(_) => headers(vec![
            field("webhook-id", id.to_owned()),
            field("webhook-timestamp", at.to_string()),
            field("webhook-signature", standard_signature(secret, id, at, message.body)),
        ]),
        Proof::Bearer(_) => headers(vec![field("authorization", format!("Bearer {secret}"))]),
        Proof::Basic(_) => headers(vec![field("authorization", format!("Basic {}", STANDARD.encode(secret)))]),
        Proof::Query { name, .. } => Signed { headers: Vec::new(), query: Some((name.clone(), secret.to_owned())) },
        Proof::Hmac(scheme) => {
            let mut message = message.clone();
            let mut added = Vec::new();
            let mut first = String::new();
            match &scheme.time {
                Some(Source::Header(name)) => added.push((name.to_lowercase(), at.to_string())),
                Some(Source::Part(name)) => first = format!("{name}={at},"),
                _ => {}
            }
            message.headers.extend(added.iter().cloned());
            message.headers.insert(0, (scheme.header.to_lowercase(), first.trim_end_matches(',').to_owned()));
            let pieces = signed(scheme, &message);
            let made = made(scheme.algorithm, &key_of(scheme.key, secret), &pieces);
            let made = match scheme.encoding {
                Writing::Base64 => STANDARD.encode(made),
                Writing::Hex | Writing::Text => hex::of(&made),
            };
            let made = format!("{}{made}", scheme.prefix);
            let value = match &scheme.part {
                Some(part) => format!("{first}{part}={made}"),
                None => made,
            };
            added.push((scheme.header.to_lowercase(), value));
            headers(added)
        }
    }
}

/// `v1,` and the HMAC-SHA256 of id, time and body in base64 (Standard Webhooks, symmetric signatures).
pub fn standard_signature(secret: &str, id: &str, at: i64, body: &[u8]) -> String {
    let mut mac = keyed::<Hmac<Sha256>>(&standard_key(secret));
    [format!("{id}.{at}.").as_bytes(), body].iter().for_each(|part| mac.update(part));
    format!("v1,{}", STANDARD.encode(mac.finalize().into_bytes()))
}

/// The key of a secret: one that begins with `whsec_` is base64, any other is used as it is.
fn standard_key(secret: &str) -> Vec<u8> {
    let encoded = secret.strip_prefix("whsec_").and_then(|encoded| STANDARD.decode(encoded).ok());
    encoded.unwrap_or_else(|| secret.as_bytes().to_vec())
}

/// A keyed hash; keys of any length are allowed.
fn keyed<M: Mac + hmac::digest::KeyInit>(key: &[u8]) -> M {
    <M as Mac>::new_from_slice(key).unwrap_or_else(|_| <M as Mac>::new(&Default::default()))
}

fn key_of(writing: Writing, secret: &str) -> Vec<u8> {
    let decoded = match writing {
        Writing::Text => None,
        Writing::Hex => unhex(secret),
        Writing::Base64 => STANDARD.decode(secret).ok(),
    };
    decoded.unwrap_or_else(|| secret.as_bytes().to_vec())
}

fn unhex(text: &str) -> Option<Vec<u8>> {
    let digit = |byte: u8| (byte as char).to_digit(16).map(|digit| digit as u8);
    let pairs = text.as_bytes().chunks(2);
    pairs.map(|pair| Some(digit(*pair.first()?)? << 4 | digit(*pair.get(1)?)?)).collect()
}

/// The signatures in a header field: the field itself, or those of its parts that have the name.
fn signatures(scheme: &Scheme, field: &str) -> Vec<Vec<u8>> {
    let texts: Vec<&str> = match &scheme.part {
        None => vec![field],
        Some(wanted) => parts(field).filter(|(name, _)| name == wanted).map(|(_, value)| value).collect(),
    };
    let decoded = |text: &str| {
        let text = text.trim().strip_prefix(scheme.prefix.as_str())?;
        match scheme.encoding {
            Writing::Base64 => STANDARD.decode(text).ok(),
            Writing::Hex | Writing::Text => unhex(text),
        }
    };
    texts.into_iter().filter_map(decoded).collect()
}

/// The named parts of a field such as `t=1804140000,v1=5d41`.
fn parts(field: &str) -> impl Iterator<Item = (&str, &str)> {
    field.split([',', ';', ' ']).filter_map(|part| part.trim().split_once('='))
}

/// The bytes that are signed, in order.
fn signed(scheme: &Scheme, message: &Message) -> Vec<Vec<u8>> {
    let piece = |piece: &Piece| match piece {
        Piece::Text(text) => text.as_bytes().to_vec(),
        Piece::Of(source) => part_of(scheme, source, message),
    };
    scheme.over.iter().map(piece).collect()
}

fn part_of(scheme: &Scheme, source: &Source, message: &Message) -> Vec<u8> {
    let text = |text: Option<&str>| text.unwrap_or_default().as_bytes().to_vec();
    match source {
        Source::Body => message.body.to_vec(),
        Source::Header(name) => text(message.header(name)),
        Source::Part(name) => {
            let field = message.header(&scheme.header).unwrap_or_default();
            text(parts(field).find(|(known, _)| known == name).map(|(_, value)| value))
        }
        Source::Method => text(Some(message.method)),
        Source::Path => text(Some(message.path)),
        Source::Query => text(Some(message.query)),
        Source::Url => {
            let query = if message.query.is_empty() { String::new() } else { format!("?{}", message.query) };
            format!("{}{}{query}", message.base, message.path).into_bytes()
        }
    }
}

fn made(algorithm: Algorithm, key: &[u8], pieces: &[Vec<u8>]) -> Vec<u8> {
    fn over<M: Mac + hmac::digest::KeyInit>(key: &[u8], pieces: &[Vec<u8>]) -> Vec<u8> {
        let mut mac = keyed::<M>(key);
        pieces.iter().for_each(|piece| mac.update(piece));
        mac.finalize().into_bytes().to_vec()
    }
    match algorithm {
        Algorithm::Sha1 => over::<Hmac<Sha1>>(key, pieces),
        Algorithm::Sha256 => over::<Hmac<Sha256>>(key, pieces),
        Algorithm::Sha512 => over::<Hmac<Sha512>>(key, pieces),
    }
}

fn verified(algorithm: Algorithm, key: &[u8], pieces: &[Vec<u8>], given: &[u8]) -> bool {
    made(algorithm, key, pieces).ct_eq(given).into()
}

/// Whether two texts are the same, in a time that does not depend on them.
fn same(one: &[u8], other: &[u8]) -> bool {
    Sha256::digest(one).ct_eq(&Sha256::digest(other)).into()
}

/// The credential of `Authorization` for a scheme (RFC 9110 §11.6.2).
fn credential<'m>(message: &'m Message, scheme: &str) -> Option<&'m str> {
    let (given, credential) = message.header("authorization")?.trim().split_once(' ')?;
    given.eq_ignore_ascii_case(scheme).then(|| credential.trim())
}

/// Refuses a message whose time lies too far from now: seconds or milliseconds since 1970, or RFC 3339.
fn recent(at: &str, tolerance: u64, now: i64) -> Result<(), Unproven> {
    let at = at.trim();
    let seconds = match at.parse::<i64>() {
        Ok(number) if number > 100_000_000_000 => Some(number / 1000),
        Ok(number) => Some(number),
        Err(_) => at.parse::<jiff::Timestamp>().ok().map(|at| at.as_second()),
    };
    let Some(seconds) = seconds else { return Err(Unproven::Message("its time cannot be read".into())) };
    match now.abs_diff(seconds) > tolerance {
        true => Err(Unproven::Message(format!("its time is more than {tolerance} s from now"))),
        false => Ok(()),
    }
}

#[cfg(test)]
mod tests {
    use kanzlei_lang::document::{self, Document, Source as Text};

    use super::*;

    const NOW: i64 = 1_614_265_330;

    /// The proof of a document.
    fn proof(text: &str) -> Proof {
        let text = format!("workflow: w\nentries:\n  - {{webhook: /w, proof: {text}}}\nsteps: [{{reply: 204}}]\n");
        let (document, findings) = document::read(&Text::new("w.yaml", text.as_str()), &|_| None);
        assert!(findings.iter().all(|one| one.code == "unsigned-body"), "{findings:?}");
        let Some(Document::Workflow(workflow)) = document else { panic!("a workflow") };
        workflow.webhooks[0].proof.clone()
    }

    fn with<'m>(headers: &[(&str, &str)], query: &'m str, body: &'m str) -> Message<'m> {
        let headers = headers.iter().map(|(name, value)| ((*name).to_owned(), (*value).to_owned())).collect();
        Message { method: "POST", path: "/w", query, base: "https://api.example", headers, body: body.as_bytes() }
    }

    fn of(name: &str) -> Option<String> {
        match name {
            "old" => Some("whsec_MfKQ9r8GKYqrTwjUPD8ILPZIo2LaLaSw".into()),
            "new" => Some("It's a Secret to Everybody".into()),
            "pass" => Some("bank:tide water".into()),
            _ => None,
        }
    }

    #[test]
    fn signatures_are_those_of_the_standards() {
        // The example of Standard Webhooks.
        let standard = [
            ("webhook-id", "msg_p5jXN8AQM9LWM0D4loKWxJek"),
            ("webhook-timestamp", "1614265330"),
            ("webhook-signature", "v1,bm9ldHU= v1a,xx v1,g0hM9SsE+OTPJTGt/tmIKtSyZlE3uFJELVlNIOLJ1OE="),
        ];
        let body = r#"{"test": 2432232314}"#;
        let only = proof("{standard: old}");
        let both = proof("{standard: [new, old]}");
        assert_eq!(check(&only, &with(&standard, "", body), &of, NOW).as_deref(), Ok("old"));
        assert_eq!(check(&both, &with(&standard, "", body), &of, NOW + 299).as_deref(), Ok("old"));
        // HMAC-SHA256 of `Hello, World!` in hexadecimal digits.
        let hex = [("x-sig", "sha256=757107ea0eb2509fc211221cce984b8a37570b6d7586c22c46f4379c8b043e17")];
        let prefixed = proof("{hmac: {secret: new, header: X-Sig, prefix: sha256=}}");
        assert_eq!(check(&prefixed, &with(&hex, "", "Hello, World!"), &of, NOW).as_deref(), Ok("new"));
        let unproven = |proof: &Proof, message: Message, now| match check(proof, &message, &of, now) {
            Err(Unproven::Message(why)) => why,
            other => panic!("{other:?}"),
        };
        for (change, now, why) in [
            (("webhook-id", "msg_other"), NOW, "its signature does not fit"),
            (("webhook-timestamp", "1614265331"), NOW, "its signature does not fit"),
            (("webhook-signature", "v1,"), NOW, "its signature does not fit"),
            (("webhook-signature", "v1,g0hM9SsE+OTPJTGt/tmIKtSyZlE3uFJELVlNIOLJ1O"), NOW, "its signature does not fit"),
            (
                ("webhook-signature", "v2,g0hM9SsE+OTPJTGt/tmIKtSyZlE3uFJELVlNIOLJ1OE="),
                NOW,
                "its signature does not fit",
            ),
            (("webhook-timestamp", "soon"), NOW, "its time cannot be read"),
            (("x", ""), NOW + 301, "its time is more than 300 s from now"),
            (("x", ""), NOW - 301, "its time is more than 300 s from now"),
        ] {
            let headers: Vec<(&str, &str)> = standard
                .iter()
                .map(|(name, value)| (*name, if *name == change.0 { change.1 } else { value }))
                .collect();
            assert_eq!(unproven(&only, with(&headers, "", body), now), why, "{change:?}");
        }
        assert_eq!(unproven(&only, with(&standard, "", "{\"test\":2432232314}"), NOW), "its signature does not fit");
        assert_eq!(unproven(&only, with(&standard[..2], "", body), NOW), "it has no `webhook-signature`");
        // SHA-1 of the same length as nothing else, an empty signature, and one in upper case with another prefix.
        for given in
            ["", "sha256=", "sha1=757107ea", "757107ea0eb2509fc211221cce984b8a37570b6d7586c22c46f4379c8b043e17"]
        {
            assert_eq!(
                unproven(&prefixed, with(&[("x-sig", given)], "", "Hello, World!"), NOW),
                "its signature does not fit"
            );
        }
        assert_eq!(
            check(&proof("{standard: gone}"), &with(&standard, "", body), &of, NOW),
            Err(Unproven::Secret("gone".into()))
        );
    }

    #[test]
    fn what_is_signed_is_proven_and_what_is_changed_is_not() {
        for text in [
            "{standard: old}",
            "{bearer: new}",
            "{basic: pass}",
            "{query: {name: token, secret: new}}",
            "{hmac: {secret: new, header: X-Sig, algorithm: sha1}}",
            "{hmac: {secret: new, header: X-Sig, algorithm: sha512, encoding: base64, prefix: \"v0=\"}}",
            "{hmac: {secret: new, header: X-Sig, over: \"v0:${header.X-Time}:${body}\", time: header.X-Time}}",
            "{hmac: {secret: new, header: X-Sig, part: v1, over: \"${part.t}.${body}\", time: part.t, within: 10s}}",
            "{hmac: {secret: old, header: X-Sig, over: \"${method}${url}${path}?${query}\"}}",
        ] {
            let proof = proof(text);
            let body = "{\"bill\": \"B-1\"}";
            let secret = of(&proof.secrets()[0].text).expect("a value");
            let made = sign(&proof, &secret, "msg_1", NOW, &with(&[], "a=1", body));
            let query = made.query.as_ref().map_or("a=1".to_owned(), |(name, value)| {
                format!("a=1&{name}={}", kanzlei_compiler::input::encoded(value))
            });
            let headers: Vec<(&str, &str)> = made.headers.iter().map(|(n, v)| (n.as_str(), v.as_str())).collect();
            assert!(check(&proof, &with(&headers, &query, body), &of, NOW + 9).is_ok(), "{text}");
            assert!(check(&proof, &with(&[], "a=1", body), &of, NOW).is_err(), "{text}: nothing shown");
            let other = with(&headers, &query, "{\"bill\": \"B-2\"}");
            let bound = proof.signs() && !text.contains("${method}");
            assert_eq!(check(&proof, &other, &of, NOW).is_err(), bound, "{text}: another body");
            let wrong = |_: &str| Some("another secret".to_owned());
            assert!(check(&proof, &with(&headers, &query, body), &wrong, NOW).is_err(), "{text}: another secret");
            if text.contains("time:") {
                assert!(check(&proof, &with(&headers, &query, body), &of, NOW + 400).is_err(), "{text}: too late");
            }
        }
    }
}
