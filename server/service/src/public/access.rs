//! Who calls: the key or the token that a request shows, where its endpoint asks for one. Nothing of the body is read before.
//!
//! What a key or a subject begins belongs to it: its jobs answer nobody else, and its idempotency keys are its own.

use std::borrow::Cow;
use std::collections::HashMap;
use std::sync::Arc;
use std::sync::atomic::{AtomicI64, AtomicU64, Ordering};
use std::time::{Duration, Instant};

use actix_web::HttpRequest;
use actix_web::http::header::AUTHORIZATION;
use arc_swap::ArcSwapOption;
use kanzlei_compiler::plan::{NOT_ALLOWED, Plan};
use kanzlei_lang::document::access::{Access, KeyPlace};
use kanzlei_model::caller::Caller as Known;
use kanzlei_model::hex;
use kanzlei_model::problem::Problem;
use kanzlei_model::time::{Span, Timestamp};
use kanzlei_runtime::clock::now;
use kanzlei_runtime::live::Live;
use kanzlei_store::Store;
use kanzlei_store::keys::Key;
use sha2::{Digest, Sha256};

use super::address;
use super::refusal::{Refusal, timely, unavailable};
use super::route::Route;
use super::token;
use crate::App;

/// What keys begin with.
const BEGINS: &str = "kzk_";
/// How many random characters stand behind that, and the characters of the checksum behind them.
const RANDOM: usize = 40;
const CHECKSUM: usize = 8;
/// How long what is known of keys counts: one that is revoked elsewhere stops within twice this time.
const FRESH: Duration = Duration::from_secs(4);
/// How long it counts while the database is unavailable.
const STALE: Duration = Duration::from_secs(300);
/// How often the use of a key is recorded, in microseconds.
const RECORDED: Span = Span::from_secs(60);

/// Who sent a request.
#[derive(Clone, Debug, Default)]
pub struct Caller {
    /// What runs know of it. Its name is that of its key, `issuer/subject` of its token, else the address it calls from.
    pub known: Known,
    /// The name of its key.
    pub key: Option<Arc<str>>,
    /// Whether it showed a token.
    pub token: bool,
    /// How much it may ask for, where its key or its issuer says so.
    pub allowance: Option<String>,
}

impl Caller {
    pub fn of_address(app: &App, request: &HttpRequest) -> Self {
        let name = address::client(app, request).map(address::text);
        Caller { known: Known { name, ..Known::default() }, ..Caller::default() }
    }

    /// To whom what it begins belongs; nobody where it showed nothing.
    pub fn owner(&self) -> Option<&str> {
        self.known.name.as_deref().filter(|_| self.token || self.known.key.is_some())
    }

    /// Whom its requests in flight are counted for: its key or token, otherwise its address.
    pub fn counted_as(&self) -> &str {
        self.known.name.as_deref().unwrap_or("unknown")
    }

    /// Whom its allowance is counted for.
    pub fn subject(&self) -> String {
        let kind = match (&self.known.key, self.token) {
            (Some(_), _) => "key",
            (None, true) => "token",
            (None, false) => "address",
        };
        format!("{kind} {}", self.known.name.as_deref().unwrap_or("unknown"))
    }
}

/// The SHA-256 of a key.
type Print = [u8; 32];

/// A key as it is held in memory.
struct Held {
    key: Key,
    /// Its name, and what runs know of its callers.
    name: Arc<str>,
    known: Known,
    /// Of the key itself, and of the one before it.
    own: Option<Print>,
    former: Option<(Print, Timestamp)>,
    used: AtomicI64,
}

impl Held {
    fn new(key: Key) -> Self {
        let name = Some(key.name.clone());
        Held {
            name: key.name.as_str().into(),
            known: Known { name: name.clone(), key: name, owner: Some(key.owner.clone()), claims: None },
            own: print_of(&key.hash),
            former: key.former.as_ref().and_then(|(hash, until)| Some((print_of(hash)?, *until))),
            used: AtomicI64::new(key.used.map_or(0, Timestamp::as_micros)),
            key,
        }
    }

    /// Whether one of its two hashes is valid at an instant.
    fn is_valid(&self, print: &Print, at: Timestamp) -> bool {
        let own = self.own.as_ref() == Some(print) && self.key.expires.is_none_or(|expires| expires > at);
        let former = self.former.as_ref().is_some_and(|(former, until)| former == print && *until > at);
        own || former
    }

    /// Whether it is for a workflow: by one of its tags, by its name, or by a name that it had.
    fn is_for(&self, live: &Live, plan: &Plan) -> bool {
        let same =
            |name: &String| *name == plan.name || live.workflow(name).is_some_and(|found| found.plan.name == plan.name);
        let Key { workflows, tags, .. } = &self.key;
        workflows.is_empty() && tags.is_empty()
            || workflows.iter().any(same)
            || tags.iter().any(|tag| plan.tags.contains(tag))
    }
}

/// All keys, by their hashes and those of the keys before them.
type ByHash = HashMap<Print, Arc<Held>>;

/// A hash as records have it, in hexadecimal digits.
fn print_of(hash: &str) -> Option<Print> {
    let mut print = [0; 32];
    let digits = hash.as_bytes();
    if digits.len() != 2 * print.len() {
        return None;
    }
    for (byte, pair) in print.iter_mut().zip(digits.chunks(2)) {
        *byte = u8::from_str_radix(std::str::from_utf8(pair).ok()?, 16).ok()?;
    }
    Some(print)
}

/// What is known of keys.
#[derive(Default)]
pub struct Keys {
    known: ArcSwapOption<(Instant, ByHash)>,
    reading: tokio::sync::Mutex<()>,
    /// Counts changes of keys by this process.
    changes: AtomicU64,
}

impl Keys {
    /// Has the next key compared with what the database holds.
    pub fn forget(&self) {
        self.changes.fetch_add(1, Ordering::SeqCst);
        self.known.store(None);
    }

    /// Reads all keys where what is known of them is old. One request reads, others go on with what is known.
    async fn fresh(&self, app: &App) -> Result<Arc<(Instant, ByHash)>, Refusal> {
        let known = self.known.load_full();
        if let Some(known) = known.as_ref().filter(|known| known.0.elapsed() < FRESH) {
            return Ok(known.clone());
        }
        let _turn = match (&known, self.reading.try_lock()) {
            (_, Ok(turn)) => turn,
            (Some(known), Err(_)) if known.0.elapsed() < STALE => return Ok(known.clone()),
            (_, Err(_)) => self.reading.lock().await,
        };
        if let Some(known) = self.known.load_full().filter(|known| known.0.elapsed() < FRESH) {
            return Ok(known);
        }
        let changes = self.changes.load(Ordering::SeqCst);
        match timely(app, read(&app.store)).await {
            Ok(Ok(by_hash)) => {
                let read = Arc::new((Instant::now(), by_hash));
                self.known.store(Some(read.clone()));
                // What was read while a key was revoked may still hold it.
                if self.changes.load(Ordering::SeqCst) != changes {
                    self.known.store(None);
                }
                Ok(read)
            }
            // Callers keep their access while the database is unavailable.
            _ => known.filter(|known| known.0.elapsed() < STALE).ok_or_else(unavailable),
        }
    }
}

async fn read(store: &Store) -> kanzlei_store::Result<ByHash> {
    let mut by_hash = ByHash::new();
    for key in store.keys().await? {
        let held = Arc::new(Held::new(key));
        let prints = held.own.into_iter().chain(held.former.map(|(print, _)| print));
        by_hash.extend(prints.map(|print| (print, held.clone())));
    }
    Ok(by_hash)
}

/// A new key: characters from a secure source, and a checksum that finds slips before anything is looked up.
pub fn fresh_key(random: &str) -> String {
    let random: String = random.chars().filter(char::is_ascii_alphanumeric).take(RANDOM).collect();
    format!("{BEGINS}{random}{}", checksum(&random))
}

fn checksum(random: &str) -> String {
    let digest = hex::of(&Sha256::digest(random.as_bytes()));
    digest.chars().take(CHECKSUM).collect()
}

/// The random part and the checksum of a text that has the form of a key.
fn parts(text: &str) -> Option<(&str, &str)> {
    let rest = text.strip_prefix(BEGINS)?;
    (rest.is_ascii() && rest.len() == RANDOM + CHECKSUM).then(|| rest.split_at(RANDOM))
}

/// Whether a text is a key that was made, by its checksum.
fn is_whole(text: &str) -> bool {
    parts(text).is_some_and(|(random, sum)| checksum(random) == sum)
}

fn field<'r>(request: &'r HttpRequest, name: &str) -> Option<&'r str> {
    request.headers().get(name).and_then(|value| value.to_str().ok()).map(str::trim)
}

/// The credential of `Authorization: Bearer` (RFC 6750).
pub fn bearer(request: &HttpRequest) -> Option<&str> {
    let (scheme, credential) = field(request, AUTHORIZATION.as_str())?.split_once(' ')?;
    Some(credential.trim()).filter(|credential| scheme.eq_ignore_ascii_case("bearer") && !credential.is_empty())
}

/// The key that a request shows: in `Authorization`, in a header field of its own, or where its entry says so in the query.
fn shown<'r>(request: &'r HttpRequest, place: &KeyPlace) -> Option<Cow<'r, str>> {
    let own = || field(request, place.header.as_deref().unwrap_or("x-api-key")).filter(|key| !key.is_empty());
    let in_query = || {
        let name = place.query.as_ref()?;
        let pairs = kanzlei_compiler::input::form_pairs(request.query_string().as_bytes());
        pairs.into_iter().find(|(known, _)| known == name).map(|(_, key)| key)
    };
    bearer(request).or_else(own).map(Cow::Borrowed).or_else(|| in_query().map(Cow::Owned))
}

pub(super) fn refused(status: u16, title: &str, detail: &str, challenge: &'static str) -> Refusal {
    Refusal { challenge: Some(challenge), ..Problem::new(status, title).detail(detail.to_owned()).into() }
}

/// Finds out who calls an endpoint.
///
/// # Errors
/// 401 without a valid key where one is needed, 403 where it is for other workflows, 503 while keys cannot be read.
pub async fn caller(app: &App, request: &HttpRequest, route: &Route<'_>) -> Result<Caller, Refusal> {
    let declared = route.declared();
    let caller = match &declared.access {
        Access::Open => return Ok(Caller::of_address(app, request)),
        Access::Key(place) => Box::pin(keyed(app, request, route, place)).await?,
        Access::Jwt(issuer) => Box::pin(token::caller(app, request, &route.live, &issuer.text)).await?,
    };
    if !Plan::admits(declared, &caller.known) {
        let detail = "what its key or its token says is not enough for this endpoint";
        return Err(refused(403, NOT_ALLOWED, detail, "Bearer error=\"insufficient_scope\""));
    }
    Ok(caller)
}

async fn keyed(app: &App, request: &HttpRequest, route: &Route<'_>, place: &KeyPlace) -> Result<Caller, Refusal> {
    let held = key_of(app, request, place).await?;
    if !held.is_for(&route.live, &route.workflow.plan) {
        let detail = "it is for other workflows; ask its operator for one that fits";
        return Err(Problem::new(403, "The key does not fit").detail(detail).into());
    }
    let (known, key) = (held.known.clone(), Some(held.name.clone()));
    Ok(Caller { known, key, allowance: held.key.allowance.clone(), token: false })
}

/// The valid key of a request.
async fn key_of(app: &App, request: &HttpRequest, place: &KeyPlace) -> Result<Arc<Held>, Refusal> {
    let Some(key) = shown(request, place) else {
        let field = place.header.as_deref().unwrap_or("X-Api-Key");
        let detail = format!("send it as `Authorization: Bearer KEY`, or in `{field}`");
        return Err(refused(401, "A key is needed", &detail, "Bearer"));
    };
    let wrong = || {
        let why = if is_whole(&key) { "it is expired or revoked" } else { "it is misspelled or cut off" };
        refused(401, "The key is not valid", why, "Bearer error=\"invalid_token\"")
    };
    if parts(&key).is_none() {
        return Err(wrong());
    }
    let (print, at) = (Print::from(Sha256::digest(key.as_bytes())), now());
    let known = app.keys.fresh(app).await?;
    let held = known.1.get(&print).filter(|held| held.is_valid(&print, at)).cloned().ok_or_else(wrong)?;
    record_use(app, &held, at);
    Ok(held)
}

/// Who sends a request that is for no endpoint: by its key, or by a token of some issuer.
///
/// # Errors
/// 401 where it shows neither, 503 while keys cannot be read.
pub async fn any_caller(app: &App, request: &HttpRequest) -> Result<Caller, Refusal> {
    let place = KeyPlace::default();
    let live = app.live.load_full();
    if let Some(token) = bearer(request).filter(|token| !token.starts_with(BEGINS))
        && let Some(issuer) = token::issuer_of(&live, token)
    {
        return token::caller(app, request, &live, &issuer).await;
    }
    let held = key_of(app, request, &place).await?;
    let (known, key) = (held.known.clone(), Some(held.name.clone()));
    Ok(Caller { known, key, allowance: held.key.allowance.clone(), token: false })
}

/// Records the use of a key beside the request, at most once a minute for each process.
fn record_use(app: &App, held: &Arc<Held>, at: Timestamp) {
    let before = held.used.load(Ordering::Relaxed);
    let due = at.since(Timestamp::from_micros(before)) >= RECORDED;
    if due && held.used.compare_exchange(before, at.as_micros(), Ordering::Relaxed, Ordering::Relaxed).is_ok() {
        let (store, name) = (app.store.clone(), held.key.name.clone());
        app.runtime.spawn(async move {
            if let Err(error) = store.key_used(&name, at).await {
                tracing::debug!(%error, "the use of a key could not be recorded");
            }
        });
    }
}

/// Whether a request may see what a caller began: anybody what was begun without a key or a token, others their own.
///
/// # Errors
/// 401 where the request shows no valid key or token, 503 while keys cannot be read.
pub async fn may_see(app: &App, request: &HttpRequest, caller: Option<&str>) -> Result<bool, Refusal> {
    // An address is no name of a key.
    let Some(owner) = caller.filter(|caller| caller.parse::<std::net::IpAddr>().is_err()) else { return Ok(true) };
    // Names of keys have no slash.
    if let Some((issuer, _)) = owner.split_once('/') {
        if bearer(request).is_none() {
            return Ok(false);
        }
        let caller = token::caller(app, request, &app.live.load_full(), issuer).await?;
        return Ok(caller.known.name.as_deref() == Some(owner));
    }
    let place = KeyPlace::default();
    match shown(request, &place) {
        None => Ok(false),
        Some(_) => Ok(key_of(app, request, &place).await?.key.name == owner),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn keys_are_known_by_their_form() {
        let key = fresh_key("0123456789abcdefghijklmnopqrstuvwxyz0123456789");
        assert_eq!((key.len(), &key[..14]), (52, "kzk_0123456789"));
        let slip = key.replacen('5', "6", 1);
        for (text, is) in
            [(key.as_str(), true), (&slip, false), (&key[..51], false), ("kzk_", false), ("", false), ("kzk_ø", false)]
        {
            assert_eq!(is_whole(text), is, "{text}");
        }
    }
}
