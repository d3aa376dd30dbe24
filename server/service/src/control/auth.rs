//! Who may use the control listener. Tokens and session ids are random and long, so a plain SHA-256
//! is kept of them; comparisons take constant time.
//!
//! A token is compared before anything is counted, so a valid one always gets in, whatever others guess. Wrong
//! ones are counted by peer.

use std::collections::HashMap;
use std::net::{IpAddr, Ipv6Addr};
use std::sync::Mutex;
use std::time::{Duration, Instant};

use actix_web::body::MessageBody;
use actix_web::cookie::{Cookie, SameSite};
use actix_web::dev::{ServiceRequest, ServiceResponse};
use actix_web::middleware::Next;
use actix_web::web::{Data, Json};
use actix_web::{HttpMessage, HttpRequest, HttpResponse};
use kanzlei_api::session::{Session, SignIn};
use kanzlei_model::role::Role;
use kanzlei_model::time::{Span, Timestamp};
use kanzlei_runtime::clock::now;
use kanzlei_runtime::queue::accept::PATIENCE;
use kanzlei_runtime::queue::hash;
use kanzlei_store::Store;
use kanzlei_store::access::{Session as Row, Token};
use subtle::ConstantTimeEq;
use uuid::Uuid;

use super::audit::{self, Notes};
use super::roles;
use crate::App;
use crate::error::{Error, Result};

/// The cookie of a session.
pub const COOKIE: &str = "kanzlei_session";
/// The same where the console's address is HTTPS: browsers accept it from this host alone, and send it encrypted.
pub const HOST_COOKIE: &str = "__Host-kanzlei_session";
const CSRF: &str = "x-csrf-token";
/// How long what is known of tokens counts: one that is removed in the database stops within twice this time.
const FRESH: Duration = Duration::from_secs(4);
/// How long it counts while the database is unavailable.
const STALE: Duration = Duration::from_secs(300);
/// How often the use of a token is recorded.
const RECORDED: Span = Span::from_secs(60);
/// Wrong tokens that one peer may show in [`WINDOW`].
const GUESSES: u32 = 10;
const WINDOW: Duration = Duration::from_secs(1);
/// Peers whose wrong tokens are counted; beyond them wrong tokens are refused uncounted.
const PEERS: usize = 10_000;

/// Who sent a request.
#[derive(Clone, Debug)]
pub struct Caller {
    /// The name of the token, or of somebody whom a provider of identities signed in.
    pub name: String,
    /// What it may do.
    pub role: Role,
    /// How it was shown: `token` or `session`.
    pub via: &'static str,
    /// What is noted for the audit trail.
    pub notes: Notes,
}

impl actix_web::FromRequest for Caller {
    type Error = Error;
    type Future = std::future::Ready<Result<Self>>;

    /// The caller that [`require`] found.
    fn from_request(request: &HttpRequest, _: &mut actix_web::dev::Payload) -> Self::Future {
        let found = request.extensions().get::<Caller>().cloned();
        std::future::ready(found.ok_or_else(|| Error::problem(401, "Not signed in", "this needs an operator token")))
    }
}

/// What is known of operator tokens.
#[derive(Default)]
pub struct Tokens(Mutex<Option<(Instant, Vec<Token>)>>);

impl Tokens {
    /// Has the next token compared with what the database holds.
    pub fn forget(&self) {
        if let Ok(mut known) = self.0.lock() {
            *known = None;
        }
    }

    /// The valid token that has a hash.
    async fn find(&self, store: &Store, hash: &str) -> Result<Option<Token>> {
        let known = self.0.lock().ok().and_then(|known| known.clone());
        let tokens = match known {
            Some((at, tokens)) if at.elapsed() < FRESH => tokens,
            known => match store.tokens().await {
                Ok(tokens) => {
                    if let Ok(mut known) = self.0.lock() {
                        *known = Some((Instant::now(), tokens.clone()));
                    }
                    tokens
                }
                // An operator can still look at how things stand.
                Err(error) => match known {
                    Some((at, tokens)) if at.elapsed() < STALE => tokens,
                    _ => return Err(error.into()),
                },
            },
        };
        // All are compared, so that the time says nothing about them.
        let mut found = None;
        for token in tokens {
            if same(&token.hash, hash) && token.expires.is_none_or(|expires| expires > now()) {
                found = Some(token);
            }
        }
        Ok(found)
    }

    /// Records the use of a token, at most once a minute.
    async fn used(&self, store: &Store, token: &Token, at: Timestamp) {
        if token.used.is_some_and(|used| at.since(used) < RECORDED) {
            return;
        }
        if let Ok(mut known) = self.0.lock()
            && let Some(known) = known.iter_mut().flat_map(|(_, all)| all).find(|known| known.hash == token.hash)
        {
            known.used = Some(at);
        }
        if let Err(error) = store.token_used(&token.hash, at).await {
            tracing::debug!(%error, "the use of a token could not be recorded");
        }
    }
}

/// Wrong tokens by peer.
#[derive(Default)]
pub struct Guesses(Mutex<HashMap<IpAddr, (Instant, u32)>>);

impl Guesses {
    /// Counts a wrong token; false when its peer has shown too many.
    fn count(&self, peer: Option<IpAddr>) -> bool {
        // Who has an IPv6 address has its whole network.
        let peer = match peer.map(|peer| peer.to_canonical()) {
            Some(IpAddr::V6(v6)) => Ipv6Addr::from_bits(v6.to_bits() & !(u128::MAX >> 64)).into(),
            Some(v4) => v4,
            None => Ipv6Addr::UNSPECIFIED.into(),
        };
        let Ok(mut peers) = self.0.lock() else { return false };
        if peers.len() >= PEERS {
            peers.retain(|_, (since, _)| since.elapsed() < WINDOW);
        }
        if peers.len() >= PEERS && !peers.contains_key(&peer) {
            return false;
        }
        let (since, count) = peers.entry(peer).or_insert_with(|| (Instant::now(), 0));
        if since.elapsed() >= WINDOW {
            (*since, *count) = (Instant::now(), 0);
        }
        *count += 1;
        *count <= GUESSES
    }
}

/// The CSRF token of a session follows from its id, which scripts cannot read.
fn csrf_of(session: &str) -> String {
    hash(&format!("csrf {session}"))
}

pub(super) fn random() -> String {
    // 122 random bits each.
    format!("{}{}", Uuid::new_v4().simple(), Uuid::new_v4().simple())
}

fn same(a: &str, b: &str) -> bool {
    a.as_bytes().ct_eq(b.as_bytes()).into()
}

/// A token for a name, and its row.
pub fn made(name: &str, expires: Option<Timestamp>, role: Role) -> (String, Token) {
    let token = format!("kzo_{}", random());
    let prefix = token[..8].to_owned();
    let row = Token { hash: hash(&token), name: name.to_owned(), prefix, created: now(), expires, used: None, role };
    (token, row)
}

/// Makes the operator token at the very first start; nothing when there is one.
pub async fn first_token(store: &Store) -> Result<Option<String>> {
    if !store.tokens().await?.is_empty() {
        return Ok(None);
    }
    let (token, row) = made("first", None, Role::Operator);
    store.add_token(&row).await?;
    Ok(Some(token))
}

/// The operator token that a request shows.
///
/// # Errors
/// 401 for a wrong one; 429 for a wrong one of a peer that has shown many.
async fn token_of(app: &App, token: &str, peer: Option<IpAddr>, title: &str) -> Result<Token> {
    match app.tokens.find(&app.store, &hash(token)).await? {
        Some(token) => {
            app.tokens.used(&app.store, &token, now()).await;
            Ok(token)
        }
        None if app.guesses.count(peer) => {
            Err(Error::problem(401, title, "this token is not known, was revoked, or has expired"))
        }
        None => Err(Error::problem(429, "Too many wrong tokens", "wait a second")),
    }
}

/// The session cookie of a request.
pub(super) fn cookie_of(app: &App, request: &HttpRequest) -> Option<Cookie<'static>> {
    request.cookie(if app.secure { HOST_COOKIE } else { COOKIE })
}

pub(super) fn cookie(app: &App, value: String) -> Cookie<'static> {
    let name = if app.secure { HOST_COOKIE } else { COOKIE };
    Cookie::build(name, value).path("/").http_only(true).same_site(SameSite::Strict).secure(app.secure).finish()
}

/// `POST /session`: sets a session cookie for an operator token.
pub async fn sign_in(app: Data<App>, request: HttpRequest, body: Json<SignIn>) -> Result<HttpResponse> {
    let peer = request.peer_addr().map(|peer| peer.ip());
    let token = token_of(&app, body.token.trim(), peer, "Wrong token").await?;
    let (name, role) = (token.name.clone(), token.role);
    let id = begin(&app, &request, Some(token.hash), &name, role).await?;
    let session = Session { csrf: Some(csrf_of(&id)), name, role };
    Ok(HttpResponse::Ok().cookie(cookie(&app, id)).json(session))
}

/// Begins a session; returns the value of its cookie.
pub async fn begin(app: &App, request: &HttpRequest, token: Option<String>, name: &str, role: Role) -> Result<String> {
    let id = random();
    let agent = request.headers().get("user-agent").and_then(|value| value.to_str().ok()).unwrap_or_default();
    let row = Row {
        hash: hash(&id),
        token,
        name: name.to_owned(),
        role,
        address: request.peer_addr().map(|peer| peer.ip().to_string()),
        agent: agent.to_owned(),
        created: now(),
        expires: now() + app.session,
    };
    app.store.add_session(&row).await?;
    let who = Caller { name: name.to_owned(), role, via: "session", notes: Notes::default() };
    audit::write(app, &who, row.address.clone(), "POST /session".into(), 200, true).await;
    Ok(id)
}

/// `GET /session`: who is signed in.
pub async fn session(app: Data<App>, request: HttpRequest) -> HttpResponse {
    let csrf = cookie_of(&app, &request).map(|cookie| csrf_of(cookie.value()));
    let caller = request.extensions().get::<Caller>().cloned();
    let (name, role) = caller.map(|caller| (caller.name, caller.role)).unwrap_or_default();
    HttpResponse::Ok().json(Session { csrf, name, role })
}

/// `DELETE /session`: signs out.
pub async fn sign_out(app: Data<App>, request: HttpRequest) -> Result<HttpResponse> {
    if let Some(cookie) = cookie_of(&app, &request) {
        app.store.end_session(&hash(cookie.value())).await?;
    }
    let mut gone = cookie(&app, String::new());
    gone.make_removal();
    Ok(HttpResponse::NoContent().cookie(gone).finish())
}

/// Lets a request through that shows a token, or a session with its CSRF token.
pub async fn require(
    app: Data<App>,
    request: ServiceRequest,
    next: Next<impl MessageBody>,
) -> std::result::Result<ServiceResponse<impl MessageBody>, actix_web::Error> {
    let known = tokio::time::timeout(PATIENCE, allowed(&app, &request)).await;
    let silent = || Error::problem(503, "The database is unavailable", "it does not answer; try again in a moment");
    match known.unwrap_or_else(|_| Err(silent())) {
        Ok(caller) => {
            let (method, path) = (request.method().as_str().to_owned(), request.path().to_owned());
            let below = path.strip_prefix("/api/v1").unwrap_or(&path);
            let needed = roles::needed(&method, below);
            let changes = roles::changes(&method, below);
            let what = format!("{method} {below}");
            let address = request.peer_addr().map(|peer| peer.ip().to_string());
            if !caller.role.may(needed) {
                if changes {
                    audit::write(&app, &caller, address, what, 403, true).await;
                }
                let detail = format!(
                    "this needs the role {}; {} has the role {}",
                    needed.name(),
                    caller.name,
                    caller.role.name()
                );
                return Err(Error::problem(403, "The role does not allow this", detail).into());
            }
            request.extensions_mut().insert(caller.clone());
            let answered = next.call(request).await;
            let status = answered
                .as_ref()
                .map_or_else(|error| error.as_response_error().status_code(), |answer| answer.status());
            audit::write(&app, &caller, address, what, status.as_u16(), changes).await;
            answered
        }
        Err(error) => Err(error.into()),
    }
}

/// Who sent a request.
async fn allowed(app: &App, request: &ServiceRequest) -> Result<Caller> {
    let header = |name: &str| request.headers().get(name).and_then(|value| value.to_str().ok());
    if let Some(token) = header("authorization").and_then(|value| value.strip_prefix("Bearer ")) {
        let token = token_of(app, token.trim(), request.peer_addr().map(|peer| peer.ip()), "Unauthorized").await?;
        return Ok(Caller { name: token.name, role: token.role, via: "token", notes: Notes::default() });
    }
    let Some(cookie) = cookie_of(app, request.request()) else {
        return Err(unauthorized("show an operator token, or sign in"));
    };
    let Some(session) = app.store.sessions(Some(&hash(cookie.value())), now()).await?.pop() else {
        return Err(unauthorized("the session has ended; sign in again"));
    };
    let changes = !matches!(request.method().as_str(), "GET" | "HEAD");
    if changes && !header(CSRF).is_some_and(|shown| same(shown, &csrf_of(cookie.value()))) {
        return Err(Error::problem(
            403,
            "Forbidden",
            format!("the header `{CSRF}` of the session is missing or wrong"),
        ));
    }
    Ok(Caller { name: session.name, role: session.role, via: "session", notes: Notes::default() })
}

fn unauthorized(detail: &str) -> Error {
    Error::problem(401, "Unauthorized", detail)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn wrong_tokens_are_counted_by_peer() {
        let guesses = Guesses::default();
        let peer = |text: &str| text.parse().ok();
        let tries = |text: &str, n: usize| (0..n).filter(|_| guesses.count(peer(text))).count();
        assert_eq!((tries("192.0.2.1", 15), tries("192.0.2.2", 3)), (GUESSES as usize, 3));
        // One network, many addresses; and an IPv4 address in other clothes.
        assert_eq!((tries("2001:db8::1", 6), tries("2001:db8::2", 9), tries("2001:db8:0:1::1", 1)), (6, 4, 1));
        assert_eq!(tries("::ffff:192.0.2.1", 1), 0);
        for n in 0..PEERS as u32 {
            guesses.count(Some(IpAddr::V4(n.into())));
        }
        assert!(guesses.0.lock().expect("peers").len() <= PEERS);
    }
}
