//! Who may use the control listener. Tokens and session ids are random and long, so a plain SHA-256
//! is kept of them; comparisons take constant time.

use std::num::NonZeroU32;

use actix_web::body::MessageBody;
use actix_web::cookie::{Cookie, SameSite};
use actix_web::dev::{ServiceRequest, ServiceResponse};
use actix_web::middleware::Next;
use actix_web::web::{Data, Json};
use actix_web::{HttpRequest, HttpResponse};
use kanzlei_api::session::{Session, SignIn};
use kanzlei_runtime::clock::now;
use kanzlei_runtime::queue::hash;
use kanzlei_store::Store;
use subtle::ConstantTimeEq;
use uuid::Uuid;

use crate::App;
use crate::error::{Error, Result};

const COOKIE: &str = "kanzlei_session";
const CSRF: &str = "x-csrf-token";
/// Wrong tokens a second before all further ones are refused.
pub const GUESSES: NonZeroU32 = NonZeroU32::new(10).expect("not zero");

/// The CSRF token of a session follows from its id, which scripts cannot read.
fn csrf_of(session: &str) -> String {
    hash(&format!("csrf {session}"))
}

fn random() -> String {
    // 122 random bits each.
    format!("{}{}", Uuid::new_v4().simple(), Uuid::new_v4().simple())
}

fn same(a: &str, b: &str) -> bool {
    a.as_bytes().ct_eq(b.as_bytes()).into()
}

/// Makes the operator token at the very first start; nothing when there is one.
pub async fn first_token(store: &Store) -> Result<Option<String>> {
    if !store.token_hashes().await?.is_empty() {
        return Ok(None);
    }
    let token = format!("kzo_{}", random());
    store.add_token(&hash(&token), &token[..8], now()).await?;
    Ok(Some(token))
}

async fn is_token(app: &App, token: &str) -> Result<bool> {
    let hashed = hash(token);
    // What is known to be good needs no database.
    if app.tokens.lock().is_ok_and(|known| known.iter().any(|h| same(h, &hashed))) {
        return Ok(true);
    }
    if app.guesses.check().is_err() {
        return Err(Error::problem(429, "Too many wrong tokens", "wait a second"));
    }
    let good = app.store.token_hashes().await?.iter().any(|known| same(known, &hashed));
    if good && let Ok(mut known) = app.tokens.lock() {
        known.push(hashed);
    }
    Ok(good)
}

/// `POST /session`: sets a session cookie for an operator token.
pub async fn sign_in(app: Data<App>, body: Json<SignIn>) -> Result<HttpResponse> {
    if !is_token(&app, body.token.trim()).await? {
        return Err(Error::problem(401, "Wrong token", "the token was printed at the first start of the service"));
    }
    let id = random();
    app.store.add_session(&hash(&id), now(), now() + app.session).await?;
    let cookie = Cookie::build(COOKIE, id.clone()).path("/").http_only(true).same_site(SameSite::Strict).finish();
    Ok(HttpResponse::Ok().cookie(cookie).json(Session { csrf: Some(csrf_of(&id)), role: "operator".into() }))
}

/// `GET /session`: who is signed in.
pub async fn session(request: HttpRequest) -> HttpResponse {
    let csrf = request.cookie(COOKIE).map(|cookie| csrf_of(cookie.value()));
    HttpResponse::Ok().json(Session { csrf, role: "operator".into() })
}

/// `DELETE /session`: signs out.
pub async fn sign_out(app: Data<App>, request: HttpRequest) -> Result<HttpResponse> {
    if let Some(cookie) = request.cookie(COOKIE) {
        app.store.end_session(&hash(cookie.value())).await?;
    }
    let mut gone = Cookie::build(COOKIE, "").path("/").finish();
    gone.make_removal();
    Ok(HttpResponse::NoContent().cookie(gone).finish())
}

/// Lets a request through that shows a token, or a session with its CSRF token.
pub async fn require(
    app: Data<App>,
    request: ServiceRequest,
    next: Next<impl MessageBody>,
) -> std::result::Result<ServiceResponse<impl MessageBody>, actix_web::Error> {
    match allowed(&app, &request).await {
        Ok(()) => next.call(request).await,
        Err(error) => Err(error.into()),
    }
}

async fn allowed(app: &App, request: &ServiceRequest) -> Result<()> {
    let header = |name: &str| request.headers().get(name).and_then(|value| value.to_str().ok());
    if let Some(token) = header("authorization").and_then(|value| value.strip_prefix("Bearer ")) {
        return match is_token(app, token.trim()).await? {
            true => Ok(()),
            false => Err(unauthorized("this token is not known")),
        };
    }
    let Some(cookie) = request.cookie(COOKIE) else {
        return Err(unauthorized("show an operator token, or sign in"));
    };
    if !app.store.has_session(&hash(cookie.value()), now()).await? {
        return Err(unauthorized("the session has ended; sign in again"));
    }
    let changes = !matches!(request.method().as_str(), "GET" | "HEAD");
    if changes && !header(CSRF).is_some_and(|shown| same(shown, &csrf_of(cookie.value()))) {
        return Err(Error::problem(
            403,
            "Forbidden",
            format!("the header `{CSRF}` of the session is missing or wrong"),
        ));
    }
    Ok(())
}

fn unauthorized(detail: &str) -> Error {
    Error::problem(401, "Unauthorized", detail)
}
