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
    // Another process reads the keys for itself, and refuses what this one refuses.
    let (_other, ports) = office.another(2).expect("a second process");
    let at_other = |bearer: &str| {
        let headers = [("content-type", "application/json"), ("authorization", bearer)];
        let url = format!("http://127.0.0.1:{}/v2/harbours/LIN/quotes", ports.public);
        http("POST", &url, &headers, br#"{"imo":"9074720","nights":2}"#).status
    };
    assert_eq!((at_other(&second), at_other(&first), at_other(&elsewhere)), (201, 201, 401));
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

/// The simulated provider serves a relying party of another language: discovery, PKCE and the token's checks are that library's own.
#[test]
fn an_independent_library_signs_in_at_the_provider() {
    let office = office("relying", &[]);
    let script = format!(
        "
        const client = require('openid-client');
        (async () => {{
          const at = new URL('{}');
          const config = new client.Configuration(await (await fetch(at + '/.well-known/openid-configuration')).json(), 'office-console', 'console-secret');
          client.allowInsecureRequests(config);
          const verifier = client.randomPKCECodeVerifier(), state = client.randomState(), nonce = client.randomNonce();
          const to = client.buildAuthorizationUrl(config, {{redirect_uri: 'http://127.0.0.1:1/back', scope: 'openid', state, nonce, login_hint: 'clerk',
            code_challenge: await client.calculatePKCECodeChallenge(verifier), code_challenge_method: 'S256'}});
          const sent = await fetch(to, {{redirect: 'manual'}});
          const tokens = await client.authorizationCodeGrant(config, new URL(sent.headers.get('location')), {{pkceCodeVerifier: verifier, expectedState: state, expectedNonce: nonce}});
          console.log(JSON.stringify(tokens.claims()));
        }})();",
        identity(&office)
    );
    let made = Command::new("node").args(["-e", &script]).current_dir(root().join("console")).output().expect("node");
    let claims: Json = serde_json::from_str(&said(&made, 0)).expect("JSON");
    assert_eq!((&claims["sub"], &claims["groups"]), (&json!("clerk"), &json!(["authors"])));
}

/// Somebody signs in through the provider in a browser, and may do what the groups allow; a code of another browser is worth nothing.
#[tokio::test(flavor = "multi_thread")]
async fn people_sign_in_through_the_provider() {
    let office = tokio::task::spawn_blocking(|| office("sign_in", &[])).await.expect("an office");
    let folder = kanzlei_harness::scratch::folder("browser-sign-in");
    let browser = kanzlei_e2e::browser::Browser::start(&folder).await;
    browser.goto(&format!("{}/", office.control())).await;
    browser.click("#openid").await;
    browser.see("Who signs in?").await;
    browser.click("#clerk").await;
    browser.see("openid/clerk").await;
    let asked = |method: &str, path: &str| {
        format!(
            "return fetch('/api/v1/session').then((r) => r.json()).then((s) => fetch('/api/v1{path}', {{method: '{method}', headers: {{'x-csrf-token': s.csrf}}}})).then((r) => 's' + r.status)"
        )
    };
    for (method, path, status) in [("GET", "/workflows", "s200"), ("GET", "/audit", "s403"), ("POST", "/keys", "s403")]
    {
        assert_eq!(browser.until(&asked(method, path)).await, json!(status), "{method} {path}");
    }
    browser.goto(&format!("{}/audit", office.control())).await;
    browser.see("The audit trail is for operators").await;
    browser.see("by the provider of identities").await;
    // Who is in no group with a role, and a code that another browser was sent.
    browser.until("return fetch('/api/v1/session').then((r) => r.json()).then((s) => fetch('/api/v1/session', {method: 'DELETE', headers: {'x-csrf-token': s.csrf}})).then(() => true)").await;
    browser.goto(&format!("{}/sign-in/openid", office.control())).await;
    browser.click("#visitor").await;
    browser.see("visitor is in no group that has a role here").await;
    browser.goto(&format!("{}/sign-in/openid/return?code=x&state=y", office.control())).await;
    browser.see("it was begun in another window").await;
    let trail =
        tokio::task::spawn_blocking(move || (said(&client(&office, &["audit", "--who", "openid/clerk"]), 0), office));
    let (trail, office) = trail.await.expect("the trail");
    assert!(trail.contains("POST /session") && trail.contains("author"), "{trail}");
    browser.close().await;
    tokio::task::spawn_blocking(move || drop(office)).await.expect("stopped");
}
