//! Keys of issuers, and the tokens that were verified with them.
//!
//! A set of keys is read when the first token comes, again after [`REFRESH`] beside the requests, and at once for a token that names an
//! unknown key, at most each [`PAUSE`]. While an issuer does not answer, its last good set counts. A token that was verified is
//! remembered until it expires, the set changes or another revision of the issuer is live.
//!
//! Bounds: [`MOST_VERIFIED`] bytes of tokens; [`MOST_SET`] bytes for each answer of an issuer.

use std::collections::HashMap;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use arc_swap::ArcSwapOption;
use kanzlei_compiler::plan::Issuer;
use kanzlei_engine::machine::Request;
use kanzlei_lang::document::issuer::Keys as Source;
use moka::sync::Cache;
use serde_json::Value as Json;

use super::{KeySet, Rejected, Valid, verify};
use crate::clock::now;
use crate::effects::Effects;
use crate::effects::http::{self, Correlation};
use crate::live::{Live, Service};

/// How long a set of keys counts as fresh.
const REFRESH: Duration = Duration::from_secs(600);
/// The least time between two reads of one set.
const PAUSE: Duration = Duration::from_secs(10);
/// How long an issuer may take to answer.
pub(super) const WITHIN: Duration = Duration::from_secs(5);
/// The largest answer of an issuer, in bytes.
const MOST_SET: usize = 256 << 10;
/// The most bytes of tokens that are remembered.
const MOST_VERIFIED: u64 = 32 << 20;
/// The bytes that a remembered token costs beside its text.
const BESIDE: u32 = 500;

/// What is known of issuers.
pub struct Issuers {
    held: Mutex<HashMap<String, Arc<Held>>>,
    /// By the text itself: a hash of it costs more than all the rest of a request with a token that is known.
    verified: Cache<String, Arc<Verified>, ahash::RandomState>,
}

struct Held {
    source: Source,
    base: Option<String>,
    keys: ArcSwapOption<(Instant, KeySet)>,
    /// One request reads; others wait for it where there is no set yet. When it was last tried.
    reading: tokio::sync::Mutex<Option<Instant>>,
    /// Why the last read failed.
    trouble: Mutex<Option<String>>,
}

struct Verified {
    issuer: Arc<Issuer>,
    keys: Arc<(Instant, KeySet)>,
    valid: Valid,
}

/// How an issuer stands, for operators.
#[derive(Clone, Debug)]
pub struct Standing {
    /// How many keys are known.
    pub keys: usize,
    /// How long ago they were read.
    pub age: Option<Duration>,
    /// Why the last read failed.
    pub trouble: Option<String>,
}

impl Default for Issuers {
    fn default() -> Self {
        let weigh =
            |token: &String, _: &Arc<Verified>| u32::try_from(token.len()).unwrap_or(u32::MAX).saturating_add(BESIDE);
        let verified = Cache::builder().max_capacity(MOST_VERIFIED).weigher(weigh);
        let verified = verified.build_with_hasher(ahash::RandomState::default());
        Issuers { held: Mutex::default(), verified }
    }
}

impl Issuers {
    /// Verifies a token of an issuer.
    ///
    /// # Errors
    /// What is wrong with it, or that the keys of its issuer are not known.
    pub async fn verify(
        self: &Arc<Self>,
        effects: &Arc<Effects>,
        live: &Arc<Live>,
        issuer: &Arc<Issuer>,
        token: &str,
    ) -> Result<Valid, Rejected> {
        let at = now().as_secs();
        let held = self.held(live, issuer);
        let known = held.keys.load_full();
        if let (Some(found), Some(keys)) = (self.verified.get(token), &known)
            && Arc::ptr_eq(&found.issuer, issuer)
            && Arc::ptr_eq(&found.keys, keys)
            && at < found.valid.until
            && keys.0.elapsed() < REFRESH
        {
            return Ok(found.valid.clone());
        }
        let keys = match known {
            Some(keys) => {
                if keys.0.elapsed() >= REFRESH && held.may_read() {
                    let (held, effects, live, issuer) = (held.clone(), effects.clone(), live.clone(), issuer.clone());
                    tokio::spawn(async move { held.read(&effects, &live, &issuer, None).await });
                }
                keys
            }
            None => held.read(effects, live, issuer, None).await.ok_or(Rejected::NoKeys)?,
        };
        let (keys, verified) = match verify(issuer, &keys.1, token, at) {
            Err(Rejected::UnknownKey) => {
                let newer = held.read(effects, live, issuer, Some(&keys)).await.ok_or(Rejected::UnknownKey)?;
                let verified = verify(issuer, &newer.1, token, at);
                (newer, verified)
            }
            verified => (keys, verified),
        };
        let valid = verified?;
        let remembered = Verified { issuer: issuer.clone(), keys, valid: valid.clone() };
        self.verified.insert(token.to_owned(), Arc::new(remembered));
        Ok(valid)
    }

    /// How an issuer stands.
    pub fn standing(&self, live: &Live, issuer: &Issuer) -> Standing {
        let held = self.held(live, issuer);
        let keys = held.keys.load();
        let trouble = held.trouble.lock().unwrap_or_else(PoisonError::into_inner).clone();
        Standing {
            keys: keys.as_ref().map_or(0, |keys| keys.1.keys.len()),
            age: keys.as_ref().filter(|_| issuer.keys.service().is_some()).map(|keys| keys.0.elapsed()),
            trouble,
        }
    }

    /// What is held of an issuer; begun anew when its keys come from elsewhere.
    fn held(&self, live: &Live, issuer: &Issuer) -> Arc<Held> {
        let service = issuer.keys.service().and_then(|name| live.services.get(&name.text));
        let base = service.map(|service| service.base.as_str());
        let mut all = self.held.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(held) = all.get(&issuer.name)
            && held.base.as_deref() == base
            && held.source == issuer.keys
        {
            return held.clone();
        }
        // Issuers that are no longer live are forgotten.
        all.retain(|name, _| live.issuers.contains_key(name));
        let fixed = match &issuer.keys {
            Source::Fixed(keys) => Some(Arc::new((Instant::now(), KeySet::of(keys)))),
            _ => None,
        };
        let held = Arc::new(Held {
            source: issuer.keys.clone(),
            base: base.map(str::to_owned),
            keys: ArcSwapOption::new(fixed),
            reading: tokio::sync::Mutex::default(),
            trouble: Mutex::default(),
        });
        all.insert(issuer.name.clone(), held.clone());
        held
    }
}

impl Held {
    /// Whether nobody reads, and the last read is long enough ago.
    fn may_read(&self) -> bool {
        self.reading.try_lock().is_ok_and(|tried| tried.is_none_or(|tried| tried.elapsed() >= PAUSE))
    }

    /// Reads the set of keys, unless another request did since `known`; nothing where none is known.
    async fn read(
        &self,
        effects: &Effects,
        live: &Live,
        issuer: &Issuer,
        known: Option<&Arc<(Instant, KeySet)>>,
    ) -> Option<Arc<(Instant, KeySet)>> {
        let mut tried = self.reading.lock().await;
        let current = self.keys.load_full();
        let newer = match (&current, known) {
            (Some(current), Some(known)) => !Arc::ptr_eq(current, known),
            (Some(current), None) => current.0.elapsed() < REFRESH,
            (None, _) => false,
        };
        let Some(service) = issuer.keys.service().and_then(|name| live.services.get(&name.text)) else {
            return current;
        };
        if newer || tried.is_some_and(|tried| tried.elapsed() < PAUSE) {
            return current;
        }
        *tried = Some(Instant::now());
        let read = ask(effects, service, issuer).await;
        let trouble = match read {
            Ok(keys) if !keys.is_empty() => {
                self.keys.store(Some(Arc::new((Instant::now(), keys))));
                None
            }
            Ok(_) => Some("it has no key that can check signatures".to_owned()),
            Err(why) => Some(why),
        };
        if let Some(why) = &trouble {
            tracing::warn!(issuer = issuer.name, why, "the keys of an issuer cannot be read; those it had count on");
        }
        *self.trouble.lock().unwrap_or_else(PoisonError::into_inner) = trouble;
        self.keys.load_full()
    }
}

/// Asks the service of an issuer for its keys.
pub(super) async fn ask(effects: &Effects, service: &Arc<Service>, issuer: &Issuer) -> Result<KeySet, String> {
    let path = match &issuer.keys {
        Source::Fixed(_) => return Err("its keys stand in its document".into()),
        Source::Jwks { path, .. } => path.clone(),
        Source::Discovery { path, .. } => {
            let found = fetch(effects, service, path).await?;
            let text = |name: &str| found.get(name).and_then(Json::as_str).unwrap_or_default();
            if text("issuer") != issuer.iss {
                return Err(format!("its discovery document is of `{}`, not of `{}`", text("issuer"), issuer.iss));
            }
            let uri = text("jwks_uri");
            // What is below its own address is asked of the service, wherever an installation has that.
            let below = [service.base.as_str(), issuer.iss.as_str()].into_iter();
            let below = below.filter_map(|base| uri.strip_prefix(base)).find(|path| path.starts_with('/'));
            let elsewhere = || {
                format!(
                    "its keys are at `{uri}`, which the service `{}` does not have; name the one that has, and `jwks`",
                    service.name
                )
            };
            below.ok_or_else(elsewhere)?.to_owned()
        }
    };
    let found = fetch(effects, service, &path).await?;
    let keys = found.get("keys").and_then(Json::as_array).ok_or("its answer is no set of keys")?;
    Ok(KeySet::of(keys))
}

/// Reads JSON from a path of the service.
pub(super) async fn fetch(effects: &Effects, service: &Arc<Service>, path: &str) -> Result<Json, String> {
    let request = Request {
        service: service.name.clone(),
        operation: None,
        host: None,
        method: "GET".into(),
        target: path.to_owned(),
        headers: vec![("accept".into(), "application/json".into())],
        body: None,
        within: WITHIN,
        attempt: 1,
        sign: None,
        step: 0,
    };
    send(effects, service, request).await
}

/// Sends a request to the service and reads JSON.
pub(super) async fn send(effects: &Effects, service: &Arc<Service>, request: Request) -> Result<Json, String> {
    let path = request.target.clone();
    let bounds = effects.bounds(MOST_SET);
    let id = crate::clock::fresh_id();
    let trace = effects.jobs.telemetry.fresh(id);
    let traceparent = trace.header(effects.jobs.span_of(id));
    let correlation = Correlation { traceparent: &traceparent, request_id: &id.to_string() };
    let answer = http::call(Some(service), &request, &correlation, WITHIN, &bounds).await;
    let answer = answer.map_err(|fault| fault.detail)?;
    if answer.status != 200 {
        return Err(format!("`{path}` of {} answered {}", service.name, answer.status));
    }
    serde_json::from_slice(answer.body.held().unwrap_or_default())
        .map_err(|error| format!("`{path}` of {} is no JSON: {error}", service.name))
}
