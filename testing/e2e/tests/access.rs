//! Callers with tokens on the demo office: the simulated provider of identities, and tokens made by a library of another language.

use std::process::Command;

use kanzlei_e2e::*;
use kanzlei_harness::office::Office;
use serde_json::{Value as Json, json};

/// A token of the office's provider.
fn token(office: &Office, client: &str, form: &str) -> String {
    let (id, secret) = client.split_once(':').expect("an id and a secret");
    let form = format!("{form}&client_id={id}&client_secret={secret}");
    let headers = [("content-type", "application/x-www-form-urlencoded")];
    let answer = http("POST", &format!("{}/token", identity(office)), &headers, form.as_bytes());
    assert_eq!(answer.status, 200, "{answer:?}");
    format!("Bearer {}", answer.json()["access_token"].as_str().expect("a token"))
}

fn identity(office: &Office) -> String {
    format!("http://127.0.0.1:{}/identity", office.ports.standins)
}

fn quote(office: &Office, bearer: &str) -> Answer {
    let headers = [("content-type", "application/json"), ("authorization", bearer)];
    http("POST", &format!("{}/v2/harbours/LIN/quotes", office.public()), &headers, br#"{"imo":"9074720","nights":2}"#)
}

/// Keys are discovered, read again when the provider has another one, and count on while it is down.
#[test]
fn tokens_of_the_provider_are_verified_with_its_keys() {
    let office = office("tokens", &[]);
    said(&client(&office, &["deploy", "demo/harbour"]), 0);
    let listed = said(&client(&office, &["issuers"]), 0);
    assert!(listed.contains("harbour-identity") && listed.contains("not yet"), "{listed}");
    let line = "northern-line:northern-secret";
    let grant = "grant_type=client_credentials";
    let first = token(&office, line, grant);
    let answer = quote(&office, &first);
    assert_eq!((answer.status, &answer.json()["for"]), (201, &json!("northern-line")), "{answer:?}");
    assert_eq!(answer.header("ratelimit-policy").map(|policy| policy.contains("partners")), Some(true));
    let narrow = token(&office, line, &format!("{grant}&scope=tides"));
    let elsewhere = token(&office, line, &format!("{grant}&audience=elsewhere"));
    for (bearer, status) in [
        (narrow.as_str(), 403),
        (&token(&office, "pilots-desk:pilots-secret", grant), 403),
        (&elsewhere, 401),
        (&first[..first.len() - 4], 401),
        ("Bearer x.y.z", 401),
    ] {
        assert_eq!(quote(&office, bearer).status, status, "{bearer}");
    }
    // Another key of the provider is read once: the next unknown one waits for its turn.
    let behaviour = format!("http://127.0.0.1:{}/~/behaviour", office.ports.standins);
    let asked = || http("GET", &behaviour, &[], b"").json()["seen"]["identity"].as_u64().unwrap_or_default();
    let restart = said(&client(&office, &["issuers", "--json"]), 0);
    let known: Json = serde_json::from_str(&restart).expect("JSON");
    assert_eq!((&known["issuers"][0]["keys"], &known["issuers"][0]["trouble"]), (&json!(1), &Json::Null), "{known}");
    http("POST", &format!("{}/~/rotate", identity(&office)), &[], b"");
    let second = token(&office, line, grant);
    let before = asked();
    let statuses: Vec<u16> = (0..20).map(|_| quote(&office, &second).status).collect();
    assert!(asked() - before <= 2, "the provider is asked at a bounded rate: {statuses:?}");
    kanzlei_harness::wait::until(std::time::Duration::from_secs(30), || {
        (quote(&office, &second).status == 201).then_some(())
    })
    .expect("the new key is read");
    // While it is down its keys count on.
    http("PUT", &format!("{behaviour}/identity?fail_next=1000"), &[], b"");
    assert_eq!((quote(&office, &first).status, quote(&office, &second).status), (201, 201));
}

/// Tokens of a library that shares no code with the service, by every algorithm that it offers.
#[test]
fn tokens_of_an_independent_library_are_verified() {
    let script = "
        const jose = require('jose');
        (async () => {
          const keys = [], tokens = {};
          for (const alg of ['RS256', 'RS512', 'PS256', 'ES256', 'ES384', 'EdDSA', 'RS384']) {
            const pair = await jose.generateKeyPair(alg, {extractable: true});
            const kid = alg.toLowerCase();
            keys.push({...await jose.exportJWK(pair.publicKey), kid});
            const token = (change) => new jose.SignJWT({scope: 'quotes', ...change}).setProtectedHeader({alg, kid}).setIssuer('https://id.example')
              .setAudience(['desk', 'office']).setSubject('alda').setExpirationTime('10m').setIssuedAt().sign(pair.privateKey);
            tokens[alg] = [await token({}), await token({iss: 'https://other.example'})];
          }
          console.log(JSON.stringify({keys, tokens}));
        })();";
    let made = Command::new("node").args(["-e", script]).current_dir(root().join("console")).output().expect("node");
    let made: Json = serde_json::from_str(&said(&made, 0)).expect("JSON");
    let office = office("jose", &[]);
    let issuer = format!(
        "issuer: id\niss: https://id.example\naudience: office\nalgorithms: [RS256, RS512, PS256, ES256, ES384, EdDSA]\nkeys: {}\nclaims: {{scope: {{type: string}}}}\n",
        made["keys"]
    );
    let workflow = "workflow: who\nentries: [{endpoint: GET /who, access: {jwt: id}}]\nsteps: [{reply: 200, body: \"${caller}\"}]\n";
    let deployed = deploy_texts(&office, &[("id.yaml", &issuer), ("who.yaml", workflow)]);
    assert_eq!(deployed.status, 200, "{deployed:?}");
    for (algorithm, tokens) in made["tokens"].as_object().expect("tokens") {
        let who = |which: usize| {
            let bearer = format!("Bearer {}", tokens[which].as_str().expect("a token"));
            http("GET", &format!("{}/who", office.public()), &[("authorization", &bearer)], b"")
        };
        let wanted = if algorithm == "RS384" { 401 } else { 200 };
        let answer = who(0);
        assert_eq!(answer.status, wanted, "{algorithm}: {answer:?}");
        if wanted == 200 {
            assert_eq!(
                answer.json(),
                json!({"name": "id/alda", "key": null, "owner": null, "claims": {"scope": "quotes"}})
            );
        }
    }
}
