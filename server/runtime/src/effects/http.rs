//! Performs calls: HTTP requests to declared services, each within its time and size.
//!
//! Every thread that performs calls has its own pooled clients, because a connection belongs to
//! the thread that opened it: one for all services in public networks, one for those in private ones, and one for each service with
//! certificates of its own. Private and link-local addresses are refused unless the service's
//! document says `network: private` and the host's configuration allows them ([`super::network`]); redirects are
//! followed only within the service.

use std::cell::RefCell;
use std::collections::HashMap;
use std::error::Error as _;
use std::sync::Arc;
use std::time::{Duration, Instant};

use futures_util::stream::{self, StreamExt};
use kanzlei_engine::machine::{Answer, Data, EffectError, Request, file_name, is_file};
use kanzlei_lang::document::credentials::Credentials;
use kanzlei_lang::document::proof::Proof;
use kanzlei_lang::document::purpose::{Purpose, is_dots};
use kanzlei_model::address::{Allowed, literal_host};
use kanzlei_model::run::FailureKind;
use reqwest::redirect::Policy;

use super::network::{Blocked, Guarded, blocked, system};
use super::oauth::Token;
use crate::clock::now;
use crate::files::{self, Holder, incoming};
use crate::limiter::{HeldUp, Shared};
use crate::live::Service;
use crate::proof;
use crate::secrets::Secrets;

/// Idle connections kept per service and thread.
const IDLE: usize = 512;
/// How long connecting may take, within the attempt's time.
const CONNECT: Duration = Duration::from_secs(5);
/// Redirects followed within one service.
const REDIRECTS: usize = 5;

/// The most clients with certificates of their own in one thread; beyond them all are made anew.
const MOST_OWN: usize = 64;

/// The clients of a thread, and the networks that are allowed to them.
struct Clients {
    allowed: Arc<Allowed>,
    /// For services in public and in private networks.
    common: [Option<reqwest::Client>; 2],
    /// For services with certificates of their own, by name.
    own: HashMap<String, Own>,
}

/// A client with certificates of its own: that of the caller with its key, and those that are trusted.
struct Own {
    identity: Option<String>,
    authority: Option<String>,
    client: reqwest::Client,
}

thread_local! {
    static CLIENTS: RefCell<Option<Clients>> = const { RefCell::new(None) };
}

/// Makes or finds a client of this thread.
fn with_clients<T>(allowed: &Arc<Allowed>, find: impl FnOnce(&mut Clients) -> T) -> T {
    CLIENTS.with_borrow_mut(|known| {
        let clients = match known {
            // A process has one configuration; tests have several.
            Some(clients) if Arc::ptr_eq(&clients.allowed, allowed) => clients,
            other => other.insert(Clients { allowed: allowed.clone(), common: [None, None], own: HashMap::new() }),
        };
        find(clients)
    })
}

/// This thread's client for services in the public or in a private network.
fn client(allowed: &Arc<Allowed>, private: bool) -> Result<reqwest::Client, EffectError> {
    with_clients(allowed, |clients| {
        let slot = &mut clients.common[usize::from(private)];
        if let Some(client) = slot {
            return Ok(client.clone());
        }
        let client =
            builder(allowed, private).build().map_err(|error| fault(FailureKind::Unreachable, error.to_string()))?;
        Ok(slot.insert(client).clone())
    })
}

/// This thread's client for a service: the common one, or one with its certificates.
fn client_of(service: &Service, bounds: &Bounds<'_>) -> Result<reqwest::Client, EffectError> {
    let Some(tls) = &service.tls else { return client(bounds.allowed, service.private) };
    let identity = match &tls.certificate {
        Some(secret) => {
            let pem = bounds.secrets.get(&secret.text, Purpose::Signing);
            Some(pem.map_err(|withheld| fault(FailureKind::BlockedAddress, withheld.to_string()))?)
        }
        None => None,
    };
    with_clients(bounds.allowed, |clients| {
        let same = |own: &&Own| own.identity == identity && own.authority == tls.authority;
        if let Some(own) = clients.own.get(&service.name).filter(same) {
            return Ok(own.client.clone());
        }
        let unusable = |what: &str, error: reqwest::Error| {
            let why = deepest(&error);
            fault(FailureKind::Unreachable, format!("{} is not called: {what} cannot be used: {why}", service.name))
        };
        let mut builder = builder(bounds.allowed, service.private);
        if let Some(pem) = &identity {
            let identity = reqwest::Identity::from_pem(pem.as_bytes());
            builder = builder.identity(identity.map_err(|error| unusable("its certificate with the key", error))?);
        }
        if let Some(pem) = &tls.authority {
            let authorities = reqwest::Certificate::from_pem_bundle(pem.as_bytes());
            builder = builder.tls_certs_only(authorities.map_err(|error| unusable("its authority", error))?);
        }
        let client = builder.build().map_err(|error| unusable("what its document says of TLS", error))?;
        if clients.own.len() >= MOST_OWN {
            clients.own.clear();
        }
        let own = Own { identity, authority: tls.authority.clone(), client: client.clone() };
        clients.own.insert(service.name.clone(), own);
        Ok(client)
    })
}

/// What all clients have in common.
fn builder(allowed: &Arc<Allowed>, private: bool) -> reqwest::ClientBuilder {
    // The provider of TLS primitives is chosen once per process; a second choice changes nothing.
    let _ = rustls::crypto::ring::default_provider().install_default();
    reqwest::Client::builder()
        .no_proxy()
        .dns_resolver(Guarded::new(allowed.clone(), private, system))
        .connect_timeout(CONNECT)
        .pool_max_idle_per_host(IDLE)
        .pool_idle_timeout(Duration::from_secs(60))
        .tcp_nodelay(true)
        .user_agent(concat!("kanzlei/", env!("CARGO_PKG_VERSION")))
        .redirect(Policy::custom(|attempt| {
            let first = attempt.previous().first();
            let same = first.is_some_and(|first| first.origin() == attempt.url().origin());
            if !same {
                let to = attempt.url().to_string();
                attempt.error(Elsewhere(to))
            } else if attempt.previous().len() > REDIRECTS {
                attempt.error(Elsewhere("more than 5 times".into()))
            } else {
                attempt.follow()
            }
        }))
}

/// Makes this thread's clients before the first request needs them; it takes tens of milliseconds.
pub fn warm(allowed: &Arc<Allowed>) {
    for private in [false, true] {
        if let Err(fault) = client(allowed, private) {
            tracing::error!("calls cannot be made: {}", fault.detail);
        }
    }
}

#[derive(Debug, thiserror::Error)]
#[error("redirected to {0}")]
struct Elsewhere(String);

fn fault(kind: FailureKind, detail: impl Into<String>) -> EffectError {
    EffectError { kind, detail: detail.into() }
}

/// What every call of a run carries, so that its traces can be joined.
pub struct Correlation<'a> {
    /// The `traceparent` header (W3C Trace Context).
    pub traceparent: &'a str,
    /// The `X-Request-Id` header.
    pub request_id: &'a str,
}

/// Sends one request and reads the answer.
///
/// `within` is what is left of the run's time; the attempt ends at the earlier of the two bounds.
pub async fn call(
    service: Option<&Arc<Service>>,
    request: &Request,
    correlation: &Correlation<'_>,
    within: Duration,
    bounds: &Bounds<'_>,
) -> Result<Answer, EffectError> {
    let Some(service) = service else {
        return Err(fault(FailureKind::BlockedAddress, format!("the service `{}` is not live", request.service)));
    };
    let limit = request.within.min(within);
    let begun = Instant::now();
    let _place = service.limiter.enter(limit, bounds.shared).await.map_err(|held_up| {
        let why = match held_up {
            HeldUp::Full => "its limits let no more through",
            HeldUp::Unavailable => "its limits hold over all processes, and the database is unavailable",
        };
        let limit = kanzlei_model::duration::short(limit);
        fault(FailureKind::Timeout, format!("no turn for a call to {} within {limit}: {why}", service.name))
    })?;
    let left = limit.saturating_sub(begun.elapsed());
    match tokio::time::timeout(left, exchange(service, request, correlation, bounds)).await {
        Ok(result) => result.map_err(|fault| EffectError { detail: bounds.secrets.mask(fault.detail), ..fault }),
        Err(_) => Err(fault(
            FailureKind::Timeout,
            format!("{} did not answer within {}", service.name, kanzlei_model::duration::short(limit)),
        )),
    }
}

/// Sends the request with the credentials of the service; once more where it refuses a token that was issued before.
async fn exchange(
    service: &Service,
    request: &Request,
    correlation: &Correlation<'_>,
    bounds: &Bounds<'_>,
) -> Result<Answer, EffectError> {
    let Some(grant) = &service.oauth else { return send(service, request, correlation, bounds, None).await };
    let token = grant.token(correlation, bounds).await?;
    // What a failure repeats of a token is masked like what an answer repeats.
    let attempt = async |token: &Token| {
        let sent = send(service, request, correlation, bounds, Some(token)).await;
        sent.map_err(|fault| EffectError { detail: token.forms.mask(fault.detail), ..fault })
    };
    let answer = attempt(&token).await?;
    if answer.status != 401 {
        return Ok(answer);
    }
    grant.refused(&token);
    let next = grant.token(correlation, bounds).await?;
    match next.text == token.text {
        true => Ok(answer),
        false => attempt(&next).await,
    }
}

async fn send(
    service: &Service,
    request: &Request,
    correlation: &Correlation<'_>,
    bounds: &Bounds<'_>,
    token: Option<&Token>,
) -> Result<Answer, EffectError> {
    let Bounds { most, secrets, allowed, .. } = *bounds;
    let Some(mut url) = service.url.clone() else {
        return Err(fault(FailureKind::BlockedAddress, format!("`{}` is no address", service.base)));
    };
    let (path, query) =
        request.target.split_once('?').map_or((request.target.as_str(), None), |(path, query)| (path, Some(query)));
    let below = url.path().trim_end_matches('/');
    let whole = format!("{below}{path}");
    url.set_path(&whole);
    url.set_query(query);
    if let Some(ip) = literal_host(url.as_str())
        && let Some(why) = blocked(allowed, ip, &ip.to_string(), service.private)
    {
        return Err(refused(service, &why));
    }
    // What comes from a client stands in the path; it must not lead out of the base.
    if whole.split('/').any(is_dots) {
        let detail = format!("{} is not called: a segment of the path is `.` or `..`", service.name);
        return Err(fault(FailureKind::BlockedAddress, detail));
    }
    let secret = match &service.credentials {
        Some(credentials) if token.is_none() => {
            let secret = secrets.get(&credentials.secret().text, Purpose::address(&service.base));
            Some(secret.map_err(|withheld| fault(FailureKind::BlockedAddress, withheld.to_string()))?)
        }
        _ => None,
    };
    if let (Some(Credentials::Query { name, .. }), Some(secret)) = (&service.credentials, &secret) {
        url.query_pairs_mut().append_pair(name, secret);
    }
    let method = request.method.parse().map_err(|_| fault(FailureKind::BlockedAddress, "unknown method"))?;
    let mut builder = client_of(service, bounds)?.request(method, url);
    for (name, value) in &service.headers {
        if !request.headers.iter().any(|(given, _)| given.eq_ignore_ascii_case(name)) {
            builder = builder.header(name, value);
        }
    }
    for (name, value) in &request.headers {
        builder = builder.header(name, value);
    }
    if let Some(proof) = &request.sign {
        for (name, value) in signature(proof, request, service, secrets)? {
            builder = builder.header(name, value);
        }
    }
    builder = match (&service.credentials, &secret) {
        (Some(Credentials::Bearer(_)), Some(secret)) => builder.bearer_auth(secret),
        (Some(Credentials::Basic { user, .. }), Some(secret)) => builder.basic_auth(user, Some(secret)),
        (Some(Credentials::Header { name, .. }), Some(secret)) => builder.header(name, secret),
        _ => builder,
    };
    if let Some(token) = token {
        builder = builder.bearer_auth(&token.text);
    }
    builder = builder.header("traceparent", correlation.traceparent).header("x-request-id", correlation.request_id);
    if let Some(data) = &request.body {
        builder = with_body(builder, data, bounds.files).await?;
    }
    let mut response = builder.send().await.map_err(|error| failure(service, error))?;
    // The resolver left only permitted addresses; an answer from another one is used for nothing.
    let from = response.remote_addr().map(|address| address.ip());
    if let Some(why) = from.and_then(|ip| blocked(allowed, ip, &ip.to_string(), service.private)) {
        return Err(refused(service, &why));
    }
    let named = |name: &str| response.headers().get(name).and_then(|value| value.to_str().ok()).map(str::to_owned);
    let media = named("content-type").unwrap_or_default();
    // The bytes of files are shown nowhere, so that they are not looked through for secrets.
    if let (Some(files), true, true) = (bounds.files, is_file(&media), response.status().is_success()) {
        let name = named("content-disposition").as_deref().and_then(file_name).map(str::to_owned);
        return kept(service, files, response, name, &media).await;
    }
    let too_large = || fault(FailureKind::TooLarge, format!("{} answered with more than {most} bytes", service.name));
    if response.content_length().is_some_and(|length| length > most as u64) {
        return Err(too_large());
    }
    let mut body = Vec::with_capacity(response.content_length().unwrap_or(0) as usize);
    while let Some(chunk) = response.chunk().await.map_err(|error| failure(service, error))? {
        if body.len() + chunk.len() > most {
            return Err(too_large());
        }
        body.extend_from_slice(&chunk);
    }
    // Who was sent a secret may echo it: it goes no further.
    let sent = secret.is_some();
    if let Some(masked) = sent.then(|| secrets.mask_bytes(&body)).flatten() {
        body = masked;
    }
    if let Some(masked) = token.and_then(|token| token.forms.mask_bytes(&body)) {
        body = masked;
    }
    let text = |value: &[u8]| String::from_utf8_lossy(value).into_owned();
    let shown = |value: &[u8]| match token {
        Some(token) => token.forms.mask(text(value)),
        None if sent => secrets.mask(text(value)),
        None => text(value),
    };
    let headers = response.headers().iter();
    let headers = headers.map(|(name, value)| (name.as_str().to_owned(), shown(value.as_bytes()))).collect();
    Ok(Answer { status: response.status().as_u16(), headers, body: Data::Bytes(body) })
}

/// A request with its body; files are sent as they are read.
async fn with_body(
    builder: reqwest::RequestBuilder,
    data: &[Data],
    files: Option<&Arc<Holder>>,
) -> Result<reqwest::RequestBuilder, EffectError> {
    if let Some(held) = data.iter().map(Data::held).collect::<Option<Vec<_>>>() {
        return Ok(builder.body(held.concat()));
    }
    let (mut parts, mut size) = (Vec::with_capacity(data.len()), 0);
    for part in data {
        match part {
            Data::Bytes(bytes) => {
                size += bytes.len() as u64;
                let bytes = bytes::Bytes::from(bytes.clone());
                parts.push(stream::once(async { Ok(bytes) }).boxed());
            }
            Data::File(file) => {
                size += file.size;
                let files = files.ok_or_else(|| fault(FailureKind::Missing, "files cannot be sent here"))?;
                parts.push(files.open(file, None).await?);
            }
        }
    }
    let whole = stream::iter(parts).flatten();
    Ok(builder.header("content-length", size).body(reqwest::Body::wrap_stream(whole)))
}

/// An answer that is a file, kept as it comes.
async fn kept(
    service: &Service,
    files: &Arc<Holder>,
    mut response: reqwest::Response,
    name: Option<String>,
    media: &str,
) -> Result<Answer, EffectError> {
    let own = |why: incoming::Fault| match why {
        incoming::Fault::TooLarge(most) => {
            fault(FailureKind::TooLarge, format!("{} answered with a file of more than {most} bytes", service.name))
        }
        other => files::Fault::from(other).into(),
    };
    let mut incoming = files.begin(u64::MAX)?;
    while let Some(chunk) = response.chunk().await.map_err(|error| failure(service, error))? {
        incoming.write(&chunk).await.map_err(own)?;
    }
    let file = files.keep(incoming.finish(name.as_deref(), Some(media)).await.map_err(own)?).await?;
    let text = |value: &[u8]| String::from_utf8_lossy(value).into_owned();
    let headers = response.headers().iter();
    let headers = headers.map(|(name, value)| (name.as_str().to_owned(), text(value.as_bytes()))).collect();
    Ok(Answer { status: response.status().as_u16(), headers, body: Data::File(file) })
}

/// The header fields that sign a message. Its id is the same for each attempt, its time is that of the attempt.
fn signature(
    proof: &Proof,
    request: &Request,
    service: &Service,
    secrets: &Secrets,
) -> Result<Vec<(String, String)>, EffectError> {
    let Some(name) = proof.secrets().first() else { return Ok(Vec::new()) };
    let secret = secrets.get(&name.text, Purpose::Signing);
    let secret = secret.map_err(|withheld| fault(FailureKind::BlockedAddress, withheld.to_string()))?;
    let (path, query) = request.target.split_once('?').unwrap_or((&request.target, ""));
    let path = format!("{}{path}", service.url.as_ref().map_or("", |url| url.path().trim_end_matches('/')));
    let base = service.url.as_ref().map(|url| url.origin().ascii_serialization()).unwrap_or_default();
    let held = request.body.iter().flatten().map(Data::held).collect::<Option<Vec<_>>>();
    let body = held.ok_or_else(|| fault(FailureKind::Input, "a message with a file cannot be signed"))?.concat();
    let message = proof::Message {
        method: &request.method,
        path: &path,
        query,
        base: &base,
        headers: request.headers.clone(),
        body: &body,
    };
    let key = request.headers.iter().find(|(name, _)| name.eq_ignore_ascii_case("idempotency-key"));
    let id = format!("msg_{}", key.map_or("", |(_, key)| key.trim_matches('"')));
    Ok(proof::sign(proof, &secret, &id, now().as_secs(), &message).headers)
}

/// What bounds every call of a process.
#[derive(Clone, Copy)]
pub struct Bounds<'a> {
    /// The largest answer in bytes.
    pub most: usize,
    /// Credentials come from here, and are masked in what is reported.
    pub secrets: &'a Secrets,
    /// Networks that may be called beside the public one.
    pub allowed: &'a Arc<Allowed>,
    /// Counts calls of services whose limits hold over all processes.
    pub shared: &'a Shared,
    /// The files of the run; where there are none, no answer becomes one.
    pub files: Option<&'a Arc<Holder>>,
}

/// Sends a body of JSON to an address that is no service's; returns the status of the answer.
pub async fn post(
    allowed: &Arc<Allowed>,
    address: &str,
    private_too: bool,
    headers: &[(&str, String)],
    body: &str,
    within: Duration,
) -> Result<u16, String> {
    let url: reqwest::Url = address.parse().map_err(|error| format!("`{address}` is no address: {error}"))?;
    if !matches!(url.scheme(), "http" | "https") {
        return Err(format!("`{address}` is no HTTP address"));
    }
    if let Some(ip) = literal_host(url.as_str())
        && let Some(why) = blocked(allowed, ip, &ip.to_string(), private_too)
    {
        return Err(why.to_string());
    }
    let mut builder = client(allowed, private_too).map_err(|fault| fault.detail)?.post(url);
    for (name, value) in headers {
        builder = builder.header(*name, value);
    }
    let sent = builder.header("content-type", "application/json").body(body.to_owned()).send();
    match tokio::time::timeout(within, sent).await {
        Ok(Ok(answer)) => Ok(answer.status().as_u16()),
        Ok(Err(error)) => Err(cause::<Blocked>(&error).map_or_else(|| error.to_string(), Blocked::to_string)),
        Err(_) => Err("no answer in time".into()),
    }
}

fn refused(service: &Service, why: &Blocked) -> EffectError {
    fault(FailureKind::BlockedAddress, format!("{} is not called: {why}", service.name))
}

/// The cause of an error that has a type.
fn cause<E: std::error::Error + 'static>(error: &reqwest::Error) -> Option<&E> {
    std::iter::successors(error.source(), |cause| (*cause).source()).find_map(|cause| cause.downcast_ref::<E>())
}

/// What began the chain of causes of an error.
fn deepest(error: &reqwest::Error) -> String {
    let last = std::iter::successors(error.source(), |cause| (*cause).source()).last();
    last.map_or_else(|| error.to_string(), |cause| cause.to_string())
}

/// Distinguishes the kinds of failure.
fn failure(service: &Service, error: reqwest::Error) -> EffectError {
    if let Some(elsewhere) = cause::<Elsewhere>(&error) {
        return fault(FailureKind::Redirected, format!("{} {elsewhere}, which is refused", service.name));
    }
    if let Some(why) = cause::<Blocked>(&error) {
        return refused(service, why);
    }
    let deepest = deepest(&error);
    if error.is_timeout() {
        return fault(FailureKind::Timeout, format!("{} did not answer in time", service.name));
    }
    if error.is_connect() {
        return fault(
            FailureKind::Unreachable,
            format!("{} cannot be reached at {}: {deepest}", service.name, service.base),
        );
    }
    fault(FailureKind::Broken, format!("the exchange with {} broke: {deepest}", service.name))
}

#[cfg(test)]
mod tests;
