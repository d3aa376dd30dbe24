//! Signing in through a provider of identities, as the second way beside a token.
//!
//! What belongs to a sign-in lies in a cookie of the browser that began it: a code that another browser was sent is worth nothing here.

use actix_web::cookie::time::Duration;
use actix_web::cookie::{Cookie, SameSite};
use actix_web::web::{Data, Query};
use actix_web::{HttpRequest, HttpResponse};
use base64::Engine;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use kanzlei_api::session::SignInWays;
use kanzlei_model::role::Role;
use kanzlei_runtime::clock::now;
use kanzlei_runtime::tokens::openid;
use serde::Deserialize;
use sha2::{Digest, Sha256};
use subtle::ConstantTimeEq;

use super::auth::{self, random};
use crate::App;
use crate::config::Config;

/// The cookie of a sign-in that was begun.
const COOKIE: &str = "kanzlei_sign_in";
/// How long somebody may take to sign in at the provider.
const WITHIN: i64 = 600;

/// The provider, and what its groups may do.
pub struct Provider {
    provider: openid::Provider,
    scope: String,
    roles: Vec<(String, Role)>,
    /// Where browsers come back to.
    back: String,
}

impl Provider {
    /// The provider that the configuration names.
    ///
    /// # Errors
    /// What is wrong with the settings.
    pub fn of(config: &Config) -> Result<Option<Self>, String> {
        let set = &config.sign_in;
        if set.issuer.is_empty() {
            return Ok(None);
        }
        if set.client_id.is_empty() || set.client_secret.is_empty() {
            return Err("`sign_in.client_id` and `sign_in.client_secret` are needed beside `sign_in.issuer`".into());
        }
        let mut roles = Vec::new();
        for pair in set.roles.split([',', ' ']).filter(|pair| !pair.is_empty()) {
            let role = pair.split_once('=').and_then(|(group, role)| Some((group.to_owned(), Role::of(role)?)));
            roles.push(role.ok_or_else(|| {
                format!("`sign_in.roles`: `{pair}` is no GROUP=ROLE; roles: viewer, author, operator")
            })?);
        }
        if roles.is_empty() {
            return Err("`sign_in.roles` says what groups may do: operators=operator, *=viewer".into());
        }
        let provider = openid::Provider::new(&openid::Settings {
            issuer: set.issuer.clone(),
            address: set.address.clone(),
            client_id: set.client_id.clone(),
            client_secret: set.client_secret.clone(),
            claim: set.claim.clone(),
            private: set.network == "private",
        })?;
        let back = format!("{}/sign-in/openid/return", config.control_url().trim_end_matches('/'));
        Ok(Some(Provider { provider, scope: set.scope.clone(), roles, back }))
    }

    /// The highest role of somebody in these groups.
    fn role(&self, groups: &[String]) -> Option<Role> {
        let fits = |group: &str| group == "*" || groups.iter().any(|one| one == group);
        self.roles.iter().filter(|(group, _)| fits(group)).map(|(_, role)| *role).max()
    }
}

/// `GET /sign-in` of the API: how one can sign in beside with a token.
pub async fn offered(app: Data<App>) -> HttpResponse {
    let provider = app.provider.as_ref().map(|one| one.provider.iss().to_owned());
    HttpResponse::Ok().json(SignInWays { openid: provider.is_some().then(|| "/sign-in/openid".to_owned()), provider })
}

/// The console, with the reason why a sign-in failed.
fn failed(why: &str) -> HttpResponse {
    tracing::warn!(why, "a sign-in through the provider of identities failed");
    let shown = kanzlei_compiler::input::encoded(why);
    HttpResponse::SeeOther().insert_header(("location", format!("/?sign-in={shown}"))).finish()
}

fn cookie(app: &App, value: String, age: i64) -> Cookie<'static> {
    // The browser comes back from another site, so that a strict cookie would stay behind.
    let cookie = Cookie::build(COOKIE, value).path("/sign-in").http_only(true).same_site(SameSite::Lax);
    cookie.secure(app.secure).max_age(Duration::seconds(age)).finish()
}

/// `GET /sign-in/openid`: sends the browser to the provider.
pub async fn begin(app: Data<App>) -> HttpResponse {
    let Some(provider) = &app.provider else { return failed("there is no provider of identities") };
    let (state, nonce, verifier) = (random(), random(), random());
    let challenge = URL_SAFE_NO_PAD.encode(Sha256::digest(&verifier));
    let (back, scope) = (provider.back.as_str(), provider.scope.as_str());
    match provider.provider.begin(&app.effects, (back, scope), (&state, &nonce, &challenge)).await {
        Ok(to) => HttpResponse::SeeOther()
            .cookie(cookie(&app, format!("{state}.{nonce}.{verifier}"), WITHIN))
            .insert_header(("location", to))
            .insert_header(("cache-control", "no-store"))
            .finish(),
        Err(why) => failed(&format!("the provider cannot be reached: {why}")),
    }
}

/// What the provider sends the browser back with.
#[derive(Deserialize)]
pub struct Returned {
    code: Option<String>,
    state: Option<String>,
    iss: Option<String>,
    error: Option<String>,
}

/// `GET /sign-in/openid/return`: begins a session for who signed in.
pub async fn returned(app: Data<App>, request: HttpRequest, found: Query<Returned>) -> HttpResponse {
    let Some(provider) = &app.provider else { return failed("there is no provider of identities") };
    let begun = request.cookie(COOKIE);
    let parts: Vec<&str> = begun.as_ref().map(|cookie| cookie.value().split('.').collect()).unwrap_or_default();
    let [state, nonce, verifier] = parts.as_slice() else {
        return failed("it was not begun in this browser, or took too long; sign in again");
    };
    if let Some(error) = &found.error {
        return failed(&format!("the provider refuses: {}", error.chars().take(100).collect::<String>()));
    }
    let shown = found.state.as_deref().unwrap_or_default();
    if !bool::from(shown.as_bytes().ct_eq(state.as_bytes())) {
        return failed("it was begun in another window; sign in again");
    }
    // The answer of another provider that the browser was led to (RFC 9207).
    if found.iss.as_deref().is_some_and(|iss| iss != provider.provider.iss()) {
        return failed("it is the answer of another provider");
    }
    let Some(code) = &found.code else { return failed("the provider sent no code") };
    let exchanged =
        provider.provider.exchange(&app.effects, (code, &provider.back), (nonce, verifier), now().as_secs()).await;
    let person = match exchanged {
        Ok(person) => person,
        Err(why) => return failed(&why),
    };
    let Some(role) = provider.role(&person.groups) else {
        return failed(&format!("{} is in no group that has a role here", person.subject));
    };
    match auth::begin(&app, &request, None, &format!("openid/{}", person.subject), role).await {
        Ok(session) => HttpResponse::SeeOther()
            .cookie(auth::cookie(&app, session))
            .cookie(cookie(&app, String::new(), 0))
            .insert_header(("location", "/"))
            .insert_header(("cache-control", "no-store"))
            .finish(),
        Err(error) => failed(&error.to_string()),
    }
}
