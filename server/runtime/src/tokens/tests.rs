//! Attacks on tokens, and those that are valid, as tables.

use base64::Engine;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use jsonwebtoken::{Algorithm, EncodingKey, Header};
use kanzlei_compiler::check::{Bundle, check};
use kanzlei_compiler::plan::Issuer;
use ring::rand::SystemRandom;
use ring::signature::{ECDSA_P256_SHA256_FIXED_SIGNING, EcdsaKeyPair, Ed25519KeyPair, KeyPair};
use serde_json::{Value as Json, json};
use std::sync::Arc;

use super::*;

const NOW: i64 = 1_804_140_000;

/// A pair of keys: how it signs, and its public half.
struct Pair {
    algorithm: Algorithm,
    private: EncodingKey,
    public: Json,
}

fn pair(algorithm: Algorithm, id: &str) -> Pair {
    let random = SystemRandom::new();
    let encoded = |part: &[u8]| URL_SAFE_NO_PAD.encode(part);
    match algorithm {
        Algorithm::ES256 => {
            let made = EcdsaKeyPair::generate_pkcs8(&ECDSA_P256_SHA256_FIXED_SIGNING, &random).expect("a pair");
            let pair = EcdsaKeyPair::from_pkcs8(&ECDSA_P256_SHA256_FIXED_SIGNING, made.as_ref(), &random);
            let public = pair.expect("a pair").public_key().as_ref().to_vec();
            let (x, y) = (encoded(&public[1..33]), encoded(&public[33..]));
            let public = json!({"kty": "EC", "crv": "P-256", "kid": id, "x": x, "y": y});
            Pair { algorithm, private: EncodingKey::from_ec_der(made.as_ref()), public }
        }
        _ => {
            let made = Ed25519KeyPair::generate_pkcs8(&random).expect("a pair");
            let pair = Ed25519KeyPair::from_pkcs8(made.as_ref()).expect("a pair");
            let public = json!({"kty": "OKP", "crv": "Ed25519", "kid": id, "x": encoded(pair.public_key().as_ref())});
            Pair { algorithm: Algorithm::EdDSA, private: EncodingKey::from_ed_der(made.as_ref()), public }
        }
    }
}

impl Pair {
    fn token(&self, id: Option<&str>, claims: &Json) -> String {
        let header = Header { kid: id.map(str::to_owned), ..Header::new(self.algorithm) };
        jsonwebtoken::encode(&header, claims, &self.private).expect("a token")
    }
}

fn issuer(more: &str) -> Arc<Issuer> {
    let text = format!(
        "issuer: identity\niss: https://identity.example\naudience: [office, desk]\nservice: s\nclaims:\n  scope: {{type: string}}\n  level: {{type: integer, optional: true}}\n{more}"
    );
    let service = "service: s\nbase: https://identity.example\n".to_owned();
    let checked = check(&Bundle::of([("i.yaml".to_owned(), text), ("s.yaml".to_owned(), service)]));
    assert!(checked.diagnostics.is_empty(), "{:?}", checked.diagnostics);
    checked.issuers["identity"].clone()
}

fn claims(change: &Json) -> Json {
    let mut claims = json!({
        "iss": "https://identity.example", "aud": "office", "sub": "alda", "scope": "quotes", "exp": NOW + 100, "other": 1,
    });
    for (name, value) in change.as_object().into_iter().flatten() {
        claims[name] = value.clone();
    }
    if let Some(without) = change.get("without").and_then(Json::as_str) {
        claims.as_object_mut().expect("claims").remove(without);
    }
    claims
}

fn why(result: Result<Valid, Rejected>) -> String {
    match result {
        Ok(valid) => format!("valid for {}", valid.subject),
        Err(Rejected::Token(why)) => why,
        Err(other) => format!("{other:?}"),
    }
}

#[test]
fn claims_decide_once_the_signature_fits() {
    let key = pair(Algorithm::ES256, "k1");
    let (set, issuer) = (KeySet::of([&key.public]), issuer(""));
    let valid = verify(&issuer, &set, &key.token(Some("k1"), &claims(&json!({}))), NOW).expect("valid");
    assert_eq!((valid.subject.as_str(), &*valid.claims), ("alda", &json!({"scope": "quotes"})), "listed claims alone");
    for (change, wanted) in [
        (json!({"aud": ["elsewhere", "desk"]}), "valid for alda"),
        (json!({"exp": NOW - 59}), "valid for alda"),
        (json!({"nbf": NOW + 59, "level": 3}), "valid for alda"),
        (json!({"exp": NOW - 60}), "it has expired"),
        (json!({"exp": NOW as f64 - 60.5}), "it has expired"),
        (json!({"without": "exp"}), "it has no `exp`"),
        (json!({"exp": "1904140000"}), "its `exp` is no instant"),
        (json!({"exp": null}), "its `exp` is no instant"),
        (json!({"nbf": NOW + 61}), "it is not valid yet"),
        (json!({"nbf": "soon"}), "its `nbf` is no instant"),
        (json!({"iss": "https://identity.example/"}), "it is of another issuer"),
        (json!({"iss": ["https://identity.example"]}), "it is of another issuer"),
        (json!({"aud": "offices"}), "it is for another audience"),
        (json!({"aud": []}), "it is for another audience"),
        (json!({"without": "aud"}), "it is for another audience"),
        (json!({"sub": ""}), "it has no `sub`"),
        (json!({"sub": 7}), "it has no `sub`"),
        (json!({"sub": "x".repeat(151)}), "its `sub` has more than 150 characters"),
        (json!({"without": "scope"}), "its claim `scope`: is required"),
        (json!({"level": "high"}), "its claim `level`: the value is not of type \"integer\""),
    ] {
        assert_eq!(why(verify(&issuer, &set, &key.token(Some("k1"), &claims(&change)), NOW)), wanted, "{change}");
    }
}

#[test]
fn forged_confused_and_mangled_tokens_are_refused() {
    let (own, other, newer) =
        (pair(Algorithm::ES256, "k1"), pair(Algorithm::ES256, "k1"), pair(Algorithm::EdDSA, "k2"));
    let (set, issuer) = (KeySet::of([&own.public]), issuer(""));
    let good = own.token(Some("k1"), &claims(&json!({})));
    let parts: Vec<&str> = good.split('.').collect();
    let encoded = |json: Json| URL_SAFE_NO_PAD.encode(json.to_string());
    let headed = |header: Json| format!("{}.{}.{}", encoded(header), parts[1], parts[2]);
    // HMAC with the public key as the secret.
    let shared = EncodingKey::from_secret(own.public["x"].as_str().expect("text").as_bytes());
    let header = Header { kid: Some("k1".into()), ..Header::new(Algorithm::HS256) };
    let confused = jsonwebtoken::encode(&header, &claims(&json!({})), &shared).expect("a token");
    let forged = encoded(claims(&json!({"sub": "harbour-master"})));
    for (token, wanted) in [
        (good.clone(), "valid for alda"),
        (other.token(Some("k1"), &claims(&json!({}))), "its signature does not fit"),
        (own.token(None, &claims(&json!({}))), "valid for alda"),
        (own.token(Some("k9"), &claims(&json!({}))), "UnknownKey"),
        (newer.token(Some("k2"), &claims(&json!({}))), "UnknownKey"),
        (newer.token(Some("k1"), &claims(&json!({}))), "its key is not for its algorithm"),
        (confused, "its algorithm is not allowed"),
        (headed(json!({"alg": "none"})), "its algorithm is not allowed"),
        (headed(json!({"alg": "NONE", "kid": "k1"})), "its algorithm is not allowed"),
        (headed(json!({"alg": "ES384", "kid": "k1"})), "its algorithm is not allowed"),
        (headed(json!({"alg": "ES256", "kid": 1})), "its header cannot be read"),
        (
            headed(json!({"alg": "ES256", "kid": "k1", "crit": ["b64"], "b64": false})),
            "its header has extensions that are not known",
        ),
        (headed(json!({"alg": "ES256", "kid": "k1", "jwk": other.public})), "its signature does not fit"),
        (format!("{}.{forged}.{}", parts[0], parts[2]), "its signature does not fit"),
        (format!("{}.{}.", parts[0], parts[1]), "its signature does not fit"),
        (format!("{}.{}", parts[0], parts[1]), "it is no signed token"),
        (format!("{good}.x"), "it is no signed token"),
        (good[..good.len() - 2].to_owned(), "its signature does not fit"),
        (format!("{good}="), "its signature does not fit"),
        (format!("{}A", &good[..good.len() - 1]), "its signature does not fit"),
        (format!("x{good}"), "its header cannot be read"),
        ("..".into(), "its header cannot be read"),
        (format!("{}{}", good, "A".repeat(MOST)), "it has more than 16384 bytes"),
    ] {
        let result = why(verify(&issuer, &set, &token, NOW));
        // The last character of a signature may hold unused bits.
        assert!(result == wanted || token == good && result == "valid for alda", "{token}: {result}, not {wanted}");
    }
}

#[test]
fn keys_are_for_their_algorithm_and_use_alone() {
    let es = pair(Algorithm::ES256, "k1");
    let ed = pair(Algorithm::EdDSA, "k2");
    let with = |mut public: Json, name: &str, value: &str| {
        public[name] = value.into();
        public
    };
    let token = es.token(Some("k1"), &claims(&json!({})));
    let allowed = issuer("algorithms: [ES256]\n");
    for (keys, wanted) in [
        (vec![es.public.clone(), ed.public.clone()], "valid for alda"),
        (vec![with(es.public.clone(), "alg", "ES256")], "valid for alda"),
        (vec![with(es.public.clone(), "alg", "ES384")], "UnknownKey"),
        (vec![with(es.public.clone(), "use", "enc")], "UnknownKey"),
        (vec![json!({"kty": "oct", "kid": "k1", "k": "c2VjcmV0"})], "UnknownKey"),
        (vec![json!({"kty": "EC", "crv": "P-256", "kid": "k1", "x": "AA", "y": "AA"})], "its signature does not fit"),
        (vec![json!("k1"), json!({})], "UnknownKey"),
        (vec![], "UnknownKey"),
    ] {
        assert_eq!(why(verify(&allowed, &KeySet::of(&keys), &token, NOW)), wanted, "{keys:?}");
    }
    let other = ed.token(Some("k2"), &claims(&json!({})));
    assert_eq!(why(verify(&allowed, &KeySet::of([&ed.public]), &other, NOW)), "its algorithm is not allowed");
    assert_eq!(why(verify(&issuer(""), &KeySet::of([&ed.public]), &other, NOW)), "valid for alda");
}
