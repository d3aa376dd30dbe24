//! Callers with tokens: who is let in, what expressions know of them, and to whom what they begin belongs.

use base64::Engine;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use jsonwebtoken::{Algorithm, EncodingKey, Header};
use ring::rand::SystemRandom;
use ring::signature::{Ed25519KeyPair, KeyPair};
use serde_json::{Value as Json, json};

use super::with;

/// An issuer whose key stands in its document, and how it signs.
fn issuer() -> (String, EncodingKey) {
    let made = Ed25519KeyPair::generate_pkcs8(&SystemRandom::new()).expect("a pair");
    let pair = Ed25519KeyPair::from_pkcs8(made.as_ref()).expect("a pair");
    let x = URL_SAFE_NO_PAD.encode(pair.public_key().as_ref());
    let text = format!(
        "issuer: office-id\niss: https://id.example\naudience: office\nkeys: [{{kty: OKP, crv: Ed25519, kid: a, x: {x}}}]\nclaims: {{scope: {{type: string}}, desk: {{type: integer, optional: true}}}}\nallowance: few\n"
    );
    (text, EncodingKey::from_ed_der(made.as_ref()))
}

fn token(key: &EncodingKey, subject: &str, claims: &Json) -> String {
    let at = kanzlei_runtime::clock::now().as_secs();
    let mut all =
        json!({"iss": "https://id.example", "aud": "office", "sub": subject, "exp": at + 600, "scope": "quotes"});
    claims.as_object().into_iter().flatten().for_each(|(name, value)| all[name] = value.clone());
    let header = Header { kid: Some("a".into()), ..Header::new(Algorithm::EdDSA) };
    format!("Bearer {}", jsonwebtoken::encode(&header, &all, key).expect("a token"))
}

const ALLOWANCE: &str = "allowance: few\nrate: 4/min\n";
const WORKFLOW: &str = "workflow: quotes
entries:
  - endpoint: POST /quotes
    access: {jwt: office-id}
    needs: caller.claims.scope.split(' ').includes('quotes')
    answer: either
  - endpoint: GET /desk
    access: {key: {header: X-Office-Key, query: key}}
    needs: caller.owner !== 'Nobody'
  - {webhook: /from/identity, proof: {jwt: office-id}, send: {}, answer: now}
queue: {tag: \"for-${caller.name}\"}
steps:
  - reply: 200
    body: {name: \"${caller.name}\", key: \"${caller.key}\", owner: \"${caller.owner}\", desk: \"${caller.claims?.desk ?? 0}\", run: \"${run.caller}\"}
";

#[test]
fn tokens_let_callers_in_and_own_what_they_begin() {
    let (document, key) = issuer();
    with("tokens", &[&document, ALLOWANCE, WORKFLOW], &[], async |bed| {
        let alda = token(&key, "alda", &json!({"desk": 7}));
        let quotes = async |bearer: &str| bed.post("/quotes", &[("authorization", bearer)], "{}").await;
        let let_in = quotes(&alda).await;
        let wanted = json!({"name": "office-id/alda", "key": null, "owner": null, "desk": 7, "run": "office-id/alda"});
        assert_eq!((let_in.status, let_in.json()), (200, wanted));
        let hour_ago = kanzlei_runtime::clock::now().as_secs() - 3600;
        for (bearer, status, title, challenge) in [
            ("", 401, "A token is needed", "Bearer"),
            ("Basic YTpi", 401, "A token is needed", "Bearer"),
            ("Bearer kzk_00", 401, "The token is not valid", "Bearer error=\"invalid_token\""),
            (
                &token(&key, "alda", &json!({"exp": hour_ago})),
                401,
                "The token is not valid",
                "Bearer error=\"invalid_token\"",
            ),
            (
                &token(&key, "alda", &json!({"aud": "desk"})),
                401,
                "The token is not valid",
                "Bearer error=\"invalid_token\"",
            ),
            (
                &token(&key, "alda", &json!({"desk": "one"})),
                401,
                "The token is not valid",
                "Bearer error=\"invalid_token\"",
            ),
            (
                &token(&key, "brim", &json!({"scope": "tides"})),
                403,
                "The caller is not allowed",
                "Bearer error=\"insufficient_scope\"",
            ),
        ] {
            let answer = quotes(bearer).await;
            assert_eq!(
                (answer.problem(), answer.header("www-authenticate")),
                ((status, title.into()), Some(challenge)),
                "{bearer}"
            );
        }
        // Its job is its own, also behind other tokens and keys of the same service.
        let answer = bed.post("/quotes", &[("authorization", &alda), ("prefer", "respond-async")], "{}").await;
        assert_eq!(answer.status, 202, "{}", answer.body);
        let job: uuid::Uuid = answer.json()["id"].as_str().and_then(|id| id.parse().ok()).expect("an id");
        let brim = token(&key, "brim", &json!({}));
        let made = bed.control("POST /keys", &json!({"name": "alda", "owner": "Pilots"})).await.json();
        let secret = made["key"].as_str().expect("a key").to_owned();
        let path = format!("GET /~/jobs/{job}");
        for (bearer, status) in [(alda.as_str(), 200), (&brim, 404), (&format!("Bearer {secret}"), 401), ("", 404)] {
            assert_eq!(bed.send(&path, &[("authorization", bearer)], "").await.status, status, "{bearer}");
        }
        bed.work();
        let ended = bed.ended(job).await;
        assert_eq!(ended.tags, ["for-office-id/alda"]);
        let reply: Json = serde_json::from_str(ended.reply.as_deref().unwrap_or_default()).unwrap_or_default();
        assert!(reply.to_string().contains("\"desk\":7"), "a job knows the claims of its caller: {reply}");
        // Each subject has an allowance of its own.
        assert_eq!(quotes(&token(&key, "cove", &json!({}))).await.header("ratelimit"), Some("\"few\";r=3;t=15"));
        // A key stands where its entry says.
        let secret = secret.as_str();
        let query = format!("GET /desk?key={secret}");
        for (line, headers, status) in [
            ("GET /desk", vec![("x-office-key", secret)], 200),
            (query.as_str(), vec![], 200),
            ("GET /desk", vec![("authorization", alda.as_str())], 401),
            ("GET /desk", vec![("x-api-key", secret)], 401),
        ] {
            let answer = bed.send(line, &headers, "").await;
            assert_eq!(answer.status, status, "{line} {headers:?}: {}", answer.body);
            if status == 200 {
                assert_eq!((&answer.json()["key"], &answer.json()["owner"]), (&json!("alda"), &json!("Pilots")));
            }
        }
        let nobody = bed.control("POST /keys", &json!({"name": "none", "owner": "Nobody"})).await.json();
        let nobody = nobody["key"].as_str().expect("a key").to_owned();
        assert_eq!(bed.send("GET /desk", &[("x-office-key", &nobody)], "").await.status, 403);
        // A token proves a message.
        for (bearer, status) in [(alda.as_str(), 200), ("Bearer none", 401), ("", 401)] {
            let answer = bed.post("/from/identity", &[("authorization", bearer)], "{}").await;
            assert_eq!(answer.status, status, "{}", answer.body);
        }
        // What keeps a refusal keeps nothing of the key in the query.
        bed.send(&format!("GET /desk?key={secret}x"), &[], "").await;
        bed.journaled().await;
        let kept = bed.control("GET /refusals", &Json::Null).await;
        assert!(kept.body.contains("GET /desk") && !kept.body.contains("kzk_"), "{}", kept.body);
    });
}
