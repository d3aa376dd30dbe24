//! `identity`: a simulated provider of identities (OpenID Connect Core and Discovery 1.0, RFC 6749, RFC 7636).
//!
//! Services get tokens with their client id and secret, people sign in by choosing an account. Its keys are made when it starts;
//! `POST /identity/~/rotate` makes another one, with `?drop=true` in place of those before.
//!
//! ```sh
//! curl -u northern-line:northern-secret -d grant_type=client_credentials -d scope=quotes http://127.0.0.1:7090/identity/token
//! ```

use std::collections::HashMap;
use std::sync::Mutex;

use actix_web::web::{Data, Form, Query, ServiceConfig, get, post};
use actix_web::{HttpRequest, HttpResponse};
use base64::Engine;
use base64::engine::general_purpose::{STANDARD, URL_SAFE_NO_PAD};
use jsonwebtoken::{Algorithm, DecodingKey, EncodingKey, Header, Validation};
use ring::rand::SystemRandom;
use ring::signature::{ECDSA_P256_SHA256_FIXED_SIGNING, EcdsaKeyPair, KeyPair};
use serde::Deserialize;
use serde_json::{Value, json};
use sha2::{Digest, Sha256};

use crate::{State, lock, problem};

/// Clients, their secrets, and the scopes that they may have.
const CLIENTS: [(&str, &str, &str); 4] = [
    ("harbour-office", "office-secret", "pilots"),
    ("office-console", "console-secret", "openid profile"),
    ("northern-line", "northern-secret", "quotes tides"),
    ("pilots-desk", "pilots-secret", "tides"),
];
/// People who sign in: account, name, and the groups that they are in.
const ACCOUNTS: [(&str, &str, &[&str]); 3] = [
    ("harbour-master", "The harbour master", &["operators"]),
    ("clerk", "A clerk of the office", &["authors"]),
    ("visitor", "A visitor", &[]),
];
/// How long tokens are valid, in seconds.
const VALID: i64 = 300;
/// The most codes that wait for their exchange.
const MOST_CODES: usize = 1000;

/// What it knows.
pub struct Identity {
    /// Its address.
    at: String,
    /// What its tokens have as `iss`.
    iss: String,
    keys: Mutex<Vec<Signing>>,
    codes: Mutex<HashMap<String, Granted>>,
}

struct Signing {
    id: String,
    private: Vec<u8>,
    public: Value,
}

/// A sign-in that waits for its exchange.
struct Granted {
    client: String,
    redirect: String,
    account: String,
    nonce: Option<String>,
    challenge: String,
    scope: String,
}

impl Identity {
    /// A provider at an address; its tokens are of `iss`, by default of that address.
    pub fn new(listen: &str, iss: Option<String>) -> Self {
        let at = format!("http://{listen}/identity");
        let keys = Mutex::new(vec![Signing::fresh()]);
        Identity { iss: iss.unwrap_or_else(|| at.clone()), at, keys, codes: Mutex::default() }
    }

    /// Signs claims with the newest key.
    fn token(&self, mut claims: Value) -> String {
        let now = jiff::Timestamp::now().as_second();
        claims["iss"] = self.iss.as_str().into();
        claims["iat"] = now.into();
        claims["exp"] = (now + VALID).into();
        let keys = lock(&self.keys);
        let Some(key) = keys.last() else { return String::new() };
        let header = Header { kid: Some(key.id.clone()), ..Header::new(Algorithm::ES256) };
        jsonwebtoken::encode(&header, &claims, &EncodingKey::from_ec_der(&key.private)).unwrap_or_default()
    }

    /// Whether a request shows a token of this provider that allows a scope.
    pub fn allows(&self, request: &HttpRequest, scope: &str) -> bool {
        let field = request.headers().get("authorization").and_then(|value| value.to_str().ok());
        let Some(token) = field.and_then(|field| field.strip_prefix("Bearer ")) else { return false };
        let mut rules = Validation::new(Algorithm::ES256);
        rules.set_audience(&["harbour-office"]);
        lock(&self.keys).iter().any(|key| {
            let part = |name: &str| key.public[name].as_str().unwrap_or_default().to_owned();
            let key = DecodingKey::from_ec_components(&part("x"), &part("y"));
            let claims = key.and_then(|key| jsonwebtoken::decode::<Value>(token, &key, &rules));
            let scopes = claims.map(|found| found.claims["scope"].as_str().unwrap_or_default().to_owned());
            scopes.is_ok_and(|scopes| scopes.split(' ').any(|one| one == scope))
        })
    }
}

impl Signing {
    fn fresh() -> Self {
        let random = SystemRandom::new();
        let made = EcdsaKeyPair::generate_pkcs8(&ECDSA_P256_SHA256_FIXED_SIGNING, &random)
            .ok()
            .and_then(|made| {
                let pair = EcdsaKeyPair::from_pkcs8(&ECDSA_P256_SHA256_FIXED_SIGNING, made.as_ref(), &random).ok()?;
                Some((made.as_ref().to_vec(), pair.public_key().as_ref().to_vec()))
            })
            .unwrap_or_default();
        let id: String = format!("{:x}", Sha256::digest(&made.1)).chars().take(12).collect();
        let part = |from: usize| URL_SAFE_NO_PAD.encode(made.1.get(from..from + 32).unwrap_or_default());
        let public =
            json!({"kty": "EC", "crv": "P-256", "use": "sig", "alg": "ES256", "kid": id, "x": part(1), "y": part(33)});
        Signing { id, private: made.0, public }
    }
}

/// Its routes.
pub fn routes(config: &mut ServiceConfig) {
    config
        .route("/identity/.well-known/openid-configuration", get().to(discovery))
        .route("/identity/keys", get().to(keys))
        .route("/identity/authorize", get().to(authorize))
        .route("/identity/token", post().to(token))
        .route("/identity/~/rotate", post().to(rotate));
}

async fn discovery(state: Data<State>, identity: Data<Identity>) -> HttpResponse {
    if let (Some(failure), _) = state.behave("identity").await {
        return failure;
    }
    let (iss, at) = (&identity.iss, &identity.at);
    HttpResponse::Ok().json(json!({
        "issuer": iss,
        "authorization_endpoint": format!("{at}/authorize"),
        "token_endpoint": format!("{at}/token"),
        "jwks_uri": format!("{iss}/keys"),
        "response_types_supported": ["code"],
        "subject_types_supported": ["public"],
        "id_token_signing_alg_values_supported": ["ES256"],
        "code_challenge_methods_supported": ["S256"],
        "grant_types_supported": ["authorization_code", "client_credentials"],
        "token_endpoint_auth_methods_supported": ["client_secret_basic", "client_secret_post"],
        "scopes_supported": ["openid", "profile", "quotes", "tides"],
    }))
}

async fn keys(state: Data<State>, identity: Data<Identity>) -> HttpResponse {
    if let (Some(failure), _) = state.behave("identity").await {
        return failure;
    }
    let keys: Vec<Value> = lock(&identity.keys).iter().map(|key| key.public.clone()).collect();
    HttpResponse::Ok().json(json!({"keys": keys}))
}

#[derive(Deserialize)]
struct Rotate {
    #[serde(default)]
    drop: bool,
}

async fn rotate(identity: Data<Identity>, how: Query<Rotate>) -> HttpResponse {
    let mut keys = lock(&identity.keys);
    if how.drop {
        keys.clear();
    }
    keys.push(Signing::fresh());
    HttpResponse::NoContent().finish()
}

#[derive(Deserialize)]
struct Authorize {
    client_id: String,
    redirect_uri: String,
    response_type: String,
    #[serde(default)]
    scope: String,
    #[serde(default)]
    state: String,
    nonce: Option<String>,
    #[serde(default)]
    code_challenge: String,
    #[serde(default)]
    code_challenge_method: String,
    /// The account, once it was chosen.
    login_hint: Option<String>,
}

/// Asks for an account, and returns to the client with a code.
async fn authorize(request: HttpRequest, identity: Data<Identity>, asked: Query<Authorize>) -> HttpResponse {
    let asked = asked.into_inner();
    if !CLIENTS.iter().any(|(id, ..)| *id == asked.client_id) {
        return problem(400, "No client has this id");
    }
    if asked.response_type != "code" || asked.code_challenge_method != "S256" || asked.code_challenge.is_empty() {
        return problem(400, "A sign-in needs response_type=code and code_challenge_method=S256");
    }
    let account = asked.login_hint.as_deref().filter(|hint| ACCOUNTS.iter().any(|(id, ..)| id == hint));
    let Some(account) = account else {
        let choose = |(id, name, _): &(&str, &str, &[&str])| {
            format!(
                "<p><a id=\"{id}\" href=\"?{}&amp;login_hint={id}\">{name}</a></p>",
                request.query_string().replace('&', "&amp;")
            )
        };
        let choices: String = ACCOUNTS.iter().map(choose).collect();
        let page = format!(
            "<!doctype html><html lang=\"en\"><meta charset=\"utf-8\"><title>Sign in</title><h1>Who signs in?</h1>{choices}</html>"
        );
        return HttpResponse::Ok().content_type("text/html; charset=utf-8").body(page);
    };
    let code = URL_SAFE_NO_PAD
        .encode(ring::rand::generate::<[u8; 24]>(&SystemRandom::new()).map(|made| made.expose()).unwrap_or_default());
    let granted = Granted {
        client: asked.client_id,
        redirect: asked.redirect_uri.clone(),
        account: account.to_owned(),
        nonce: asked.nonce,
        challenge: asked.code_challenge,
        scope: asked.scope,
    };
    let mut codes = lock(&identity.codes);
    if codes.len() >= MOST_CODES {
        codes.clear();
    }
    codes.insert(code.clone(), granted);
    let joint = if asked.redirect_uri.contains('?') { '&' } else { '?' };
    let state = percent_encoding::utf8_percent_encode(&asked.state, percent_encoding::NON_ALPHANUMERIC);
    let iss = percent_encoding::utf8_percent_encode(&identity.iss, percent_encoding::NON_ALPHANUMERIC);
    let to = format!("{}{joint}code={code}&state={state}&iss={iss}", asked.redirect_uri);
    HttpResponse::Found().insert_header(("Location", to)).finish()
}

#[derive(Deserialize)]
struct Exchange {
    grant_type: String,
    code: Option<String>,
    redirect_uri: Option<String>,
    code_verifier: Option<String>,
    client_id: Option<String>,
    client_secret: Option<String>,
    scope: Option<String>,
    audience: Option<String>,
}

fn refused(status: u16, error: &str) -> HttpResponse {
    let code = actix_web::http::StatusCode::from_u16(status).unwrap_or_default();
    HttpResponse::build(code).json(json!({"error": error}))
}

/// The client that a request shows, in `Authorization: Basic` or in its form.
fn client(request: &HttpRequest, form: &Exchange) -> Option<&'static (&'static str, &'static str, &'static str)> {
    let basic = request.headers().get("authorization").and_then(|value| value.to_str().ok()?.strip_prefix("Basic "));
    let basic = basic.and_then(|given| String::from_utf8(STANDARD.decode(given).ok()?).ok());
    let shown = match &basic {
        Some(given) => given.split_once(':')?,
        None => (form.client_id.as_deref()?, form.client_secret.as_deref()?),
    };
    CLIENTS.iter().find(|(id, secret, _)| (*id, *secret) == shown)
}

async fn token(
    state: Data<State>,
    identity: Data<Identity>,
    request: HttpRequest,
    form: Form<Exchange>,
) -> HttpResponse {
    if let (Some(failure), _) = state.behave("identity").await {
        return failure;
    }
    let form = form.into_inner();
    let Some((id, _, scopes)) = client(&request, &form) else { return refused(401, "invalid_client") };
    match form.grant_type.as_str() {
        "client_credentials" => {
            let wanted = form.scope.as_deref().unwrap_or(scopes);
            if !wanted.split(' ').all(|one| scopes.split(' ').any(|own| own == one)) {
                return refused(400, "invalid_scope");
            }
            let audience = form.audience.as_deref().unwrap_or("harbour-office");
            let token = identity.token(json!({"sub": id, "aud": audience, "scope": wanted, "client_id": id}));
            HttpResponse::Ok()
                .json(json!({"access_token": token, "token_type": "Bearer", "expires_in": VALID, "scope": wanted}))
        }
        "authorization_code" => {
            let granted = form.code.as_ref().and_then(|code| lock(&identity.codes).remove(code));
            let Some(granted) = granted else { return refused(400, "invalid_grant") };
            let verifier = form.code_verifier.as_deref().unwrap_or_default();
            let fits = URL_SAFE_NO_PAD.encode(Sha256::digest(verifier)) == granted.challenge;
            if granted.client != *id || Some(&granted.redirect) != form.redirect_uri.as_ref() || !fits {
                return refused(400, "invalid_grant");
            }
            let account = ACCOUNTS.iter().find(|(account, ..)| *account == granted.account);
            let (_, name, groups) = account.copied().unwrap_or_default();
            let mut claims = json!({"sub": granted.account, "aud": id, "name": name, "groups": groups});
            if let Some(nonce) = &granted.nonce {
                claims["nonce"] = nonce.as_str().into();
            }
            let access =
                identity.token(json!({"sub": granted.account, "aud": "harbour-office", "scope": granted.scope}));
            let token = identity.token(claims);
            HttpResponse::Ok()
                .json(json!({"access_token": access, "id_token": token, "token_type": "Bearer", "expires_in": VALID}))
        }
        _ => refused(400, "unsupported_grant_type"),
    }
}
