//! Performs calls: HTTP requests to declared services, each within its time and size.
//!
//! Every thread that performs calls has its own pooled clients ([`super::client`]): one for all services in public networks, one
//! for those in private ones, and one for each service with certificates of its own. Private and link-local addresses are refused unless the service's
//! document says `network: private` and the host's configuration allows them ([`super::network`]); redirects are
//! followed only within the service.

use std::cell::RefCell;
use std::collections::HashMap;
use std::sync::Arc;
use std::time::{Duration, Instant};

use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use bytes::Bytes;
use futures_util::stream::{self, StreamExt};
use http::header::{
    ACCEPT, AUTHORIZATION, CONTENT_ENCODING, CONTENT_LENGTH, CONTENT_TYPE, HeaderMap, HeaderName, HeaderValue,
    USER_AGENT,
};
use http::uri::Scheme;
use http::{Method, Response, StatusCode, Uri};
use http_body_util::BodyExt;
use hyper::body::{Body as _, Incoming};
use kanzlei_engine::machine::{Answer, Data, EffectError, Request, file_name, is_file};
use kanzlei_lang::document::credentials::Credentials;
use kanzlei_lang::document::hosts::HOST;
use kanzlei_lang::document::proof::Proof;
use kanzlei_lang::document::purpose::{Purpose, is_dots};
use kanzlei_model::address::Allowed;
use kanzlei_model::run::FailureKind;

use super::client::{self, Base, Body, Certificates, Client, REDIRECTS};
use super::network::{Blocked, blocked};
use super::oauth::{Grant, Token};
use crate::clock::now;
use crate::files::{self, Holder, incoming};
use crate::limiter::{HeldUp, Shared};
use crate::live::Service;
use crate::proof;
use crate::secrets::Secrets;

/// The most clients with certificates of their own in one thread; beyond them all are made anew.
const MOST_OWN: usize = 64;

/// How calls name their sender, unless the service's document or the call does.
const AGENT: HeaderValue = HeaderValue::from_static(concat!("kanzlei/", env!("CARGO_PKG_VERSION")));

const TRACEPARENT: HeaderName = HeaderName::from_static("traceparent");
const REQUEST_ID: HeaderName = HeaderName::from_static("x-request-id");

/// The clients of a thread, and the networks that are allowed to them.
struct Clients {
    allowed: Arc<Allowed>,
    /// For services in public and in private networks.
    common: [Option<Client>; 2],
    /// For services with certificates of their own, by name.
    own: HashMap<String, (Certificates, Client)>,
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
fn common(allowed: &Arc<Allowed>, private: bool) -> Result<Client, EffectError> {
    with_clients(allowed, |clients| {
        let slot = &mut clients.common[usize::from(private)];
        if let Some(client) = slot {
            return Ok(client.clone());
        }
        let made = client::client(allowed, private, &Certificates::default());
        Ok(slot.insert(made.map_err(|why| fault(FailureKind::Unreachable, why))?).clone())
    })
}

/// This thread's client for a service: the common one, or one with its certificates.
fn client_of(service: &Service, bounds: &Bounds<'_>) -> Result<Client, EffectError> {
    let Some(tls) = &service.tls else { return common(bounds.allowed, service.private) };
    let identity = match &tls.certificate {
        Some(secret) => {
            let pem = bounds.secrets.get(&secret.text, Purpose::Signing);
            Some(pem.map_err(|withheld| fault(FailureKind::BlockedAddress, withheld.to_string()))?)
        }
        None => None,
    };
    let certificates = Certificates { identity, authority: tls.authority.clone() };
    with_clients(bounds.allowed, |clients| {
        if let Some((known, client)) = clients.own.get(&service.name)
            && *known == certificates
        {
            return Ok(client.clone());
        }
        let made = client::client(bounds.allowed, service.private, &certificates);
        let unusable = |why| fault(FailureKind::Unreachable, format!("{} is not called: {why}", service.name));
        let client = made.map_err(unusable)?;
        if clients.own.len() >= MOST_OWN {
            clients.own.clear();
        }
        clients.own.insert(service.name.clone(), (certificates, client.clone()));
        Ok(client)
    })
}

/// Makes this thread's clients before the first request needs them; it takes tens of milliseconds.
pub fn warm(allowed: &Arc<Allowed>) {
    for private in [false, true] {
        if let Err(fault) = common(allowed, private) {
            tracing::error!("calls cannot be made: {}", fault.detail);
        }
    }
}

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
    Box::pin(exchange_with_token(grant, service, request, correlation, bounds)).await
}

async fn exchange_with_token(
    grant: &Grant,
    service: &Service,
    request: &Request,
    correlation: &Correlation<'_>,
    bounds: &Bounds<'_>,
) -> Result<Answer, EffectError> {
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
    // Whether the service may be at a host is asked again: its document may have changed since the run began.
    let named = match (&service.hosts, &request.host) {
        (Some(hosts), Some(host)) => {
            let host = hosts
                .admit(host)
                .map_err(|why| fault(FailureKind::BlockedAddress, format!("{} is not called: {why}", service.name)))?;
            Base::of(&service.base.replace(HOST, &host))
        }
        _ => None,
    };
    let Some(base) = named.as_ref().or(service.at.as_ref()) else {
        return Err(fault(FailureKind::BlockedAddress, format!("`{}` is no address", service.base)));
    };
    if let Some(ip) = base.literal
        && let Some(why) = blocked(allowed, ip, ip, service.private)
    {
        return Err(refused(service, &why));
    }
    // What comes from a client stands in the path; it must not lead out of the base.
    let path = request.target.split('?').next().unwrap_or_default();
    if base.below.split('/').chain(path.split('/')).any(is_dots) {
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
    let uri = match (&service.credentials, &secret) {
        (Some(Credentials::Query { name, .. }), Some(secret)) => {
            let pair = url::form_urlencoded::Serializer::new(String::new()).append_pair(name, secret).finish();
            let before = if request.target.contains('?') { '&' } else { '?' };
            base.uri(&format!("{}{before}{pair}", request.target))
        }
        _ => base.uri(&request.target),
    };
    let unfit = |why: http::Error| fault(FailureKind::Broken, format!("{} is not called: {why}", service.name));
    let mut uri = uri.map_err(unfit)?;
    let mut method: Method =
        request.method.parse().map_err(|_| fault(FailureKind::BlockedAddress, "unknown method"))?;
    let shown = Shown { secret: secret.as_deref(), token };
    let mut held = held(request.body.as_deref().unwrap_or_default());
    let client = client_of(service, bounds)?;
    let (mut redirects, mut bare, mut again) = (0, false, true);
    let mut response = loop {
        let mut headers = headers(service, request, correlation, &shown, secrets)?;
        if bare {
            for name in [CONTENT_TYPE, CONTENT_ENCODING, CONTENT_LENGTH] {
                headers.remove(name);
            }
        }
        let body = match &held {
            Some(bytes) => Body::Left(bytes.clone().into()),
            None => {
                let data = request.body.as_deref().unwrap_or_default();
                let (body, size) = Box::pin(streamed(data, bounds.files)).await?;
                headers.insert(CONTENT_LENGTH, size.into());
                body
            }
        };
        let outgoing = outgoing(&method, &uri, headers, body);
        let answered = if again { client.request(outgoing) } else { client.request_anew(outgoing) }.await;
        let repeatable = again && method.is_safe() && held.is_some();
        let response = match answered {
            // No request came over a kept connection in time, while this one was on its way (RFC 9110 §15.5.9).
            Ok(response) if repeatable && response.status() == StatusCode::REQUEST_TIMEOUT => {
                again = false;
                continue;
            }
            Ok(response) => response,
            // A kept connection may be closed by the service while the request is on its way.
            Err(error) if repeatable && closed(&error) => {
                again = false;
                continue;
            }
            Err(error) => return Err(failure(service, error.is_connect(), &error)),
        };
        // The resolver left only permitted addresses; an answer from another one is used for nothing.
        let from = client::answered_by(&response);
        if let Some(why) = from.and_then(|ip| blocked(allowed, ip, ip, service.private)) {
            return Err(refused(service, &why));
        }
        let elsewhere =
            |to: &str| fault(FailureKind::Redirected, format!("{} redirected to {to}, which is refused", service.name));
        let answered = (response.status(), response.headers());
        // Behind a redirect to another host the base is that one.
        let own = service.hosts.as_ref().and_then(|_| Base::split(&uri.to_string())).map(|(base, _)| base);
        let base = own.as_ref().unwrap_or(base);
        let next = base.redirected(&uri, &method, answered, service.hosts.as_ref()).map_err(|to| elsewhere(&to))?;
        // Files are sent once.
        let Some(next) = next.filter(|(next, _)| held.is_some() || *next != method) else { break response };
        if redirects == REDIRECTS {
            return Err(elsewhere(&format!("more than {REDIRECTS} times")));
        }
        redirects += 1;
        // Another method is one without a body.
        if next.0 != method {
            (held, bare) = (Some(Bytes::new()), true);
        }
        (method, uri) = next;
    };
    let named = |name: &str| response.headers().get(name).and_then(|value| value.to_str().ok()).map(str::to_owned);
    let media = named("content-type").unwrap_or_default();
    // The bytes of files are shown nowhere, so that they are not looked through for secrets.
    if let (Some(files), true, true) = (bounds.files, is_file(&media), response.status().is_success()) {
        let name = named("content-disposition").as_deref().and_then(file_name).map(str::to_owned);
        return Box::pin(kept(service, files, response, name, &media)).await;
    }
    let too_large = || fault(FailureKind::TooLarge, format!("{} answered with more than {most} bytes", service.name));
    let length = response.body().size_hint().exact().unwrap_or(0);
    if length > most as u64 {
        return Err(too_large());
    }
    let mut body = Vec::with_capacity(length as usize);
    while let Some(chunk) = chunk(service, response.body_mut()).await? {
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

/// The next bytes of an answer; nothing at its end.
async fn chunk(service: &Service, body: &mut Incoming) -> Result<Option<Bytes>, EffectError> {
    while let Some(frame) = body.frame().await {
        // Trailers are not looked at.
        if let Ok(data) = frame.map_err(|error| failure(service, false, &error))?.into_data() {
            return Ok(Some(data));
        }
    }
    Ok(None)
}

/// A request without what its body is made of.
fn outgoing(method: &Method, uri: &Uri, mut headers: HeaderMap, body: Body) -> http::Request<Body> {
    // The client would compose it anew for each request; with TLS it knows first whether the connection speaks HTTP/2, which has none.
    if uri.scheme() == Some(&Scheme::HTTP)
        && let Some(host) = uri.authority().and_then(|at| HeaderValue::from_str(at.as_str()).ok())
    {
        headers.entry(http::header::HOST).or_insert(host);
    }
    let mut outgoing = http::Request::new(body);
    *outgoing.method_mut() = method.clone();
    *outgoing.uri_mut() = uri.clone();
    *outgoing.headers_mut() = headers;
    outgoing
}

/// What shows a service who calls: its secret, or the token that was issued for it.
struct Shown<'s> {
    secret: Option<&'s str>,
    token: Option<&'s Token>,
}

/// The header fields of a request: what the service's document says, unless the call says it itself, then what proves the caller.
fn headers(
    service: &Service,
    request: &Request,
    correlation: &Correlation<'_>,
    shown: &Shown<'_>,
    secrets: &Secrets,
) -> Result<HeaderMap, EffectError> {
    let mut headers = HeaderMap::with_capacity(16);
    let unfit = |why: http::Error| fault(FailureKind::Broken, format!("{} is not called: {why}", service.name));
    let mut add = |name: &str, value: &str| -> Result<(), EffectError> {
        let name = HeaderName::from_bytes(name.as_bytes()).map_err(|why| unfit(why.into()))?;
        let mut value = HeaderValue::from_str(value).map_err(|why| unfit(why.into()))?;
        // Compression of headers keeps no credentials (RFC 7541 §7.1.3).
        value.set_sensitive(proves_caller(&name, service));
        headers.append(name, value);
        Ok(())
    };
    for (name, value) in &service.headers {
        if !request.headers.iter().any(|(given, _)| given.eq_ignore_ascii_case(name)) {
            add(name, value)?;
        }
    }
    for (name, value) in &request.headers {
        add(name, value)?;
    }
    if let Some(proof) = &request.sign {
        for (name, value) in signature(proof, request, service, secrets)? {
            add(&name, &value)?;
        }
    }
    match (&service.credentials, shown.secret) {
        (Some(Credentials::Bearer(_)), Some(secret)) => add("authorization", &format!("Bearer {secret}"))?,
        (Some(Credentials::Basic { user, .. }), Some(secret)) => {
            add("authorization", &format!("Basic {}", STANDARD.encode(format!("{user}:{secret}"))))?;
        }
        (Some(Credentials::Header { name, .. }), Some(secret)) => add(name, secret)?,
        _ => {}
    }
    if let Some(token) = shown.token {
        add("authorization", &format!("Bearer {}", token.text))?;
    }
    for (name, value) in [(TRACEPARENT, correlation.traceparent), (REQUEST_ID, correlation.request_id)] {
        headers.append(name, HeaderValue::from_str(value).map_err(|why| unfit(why.into()))?);
    }
    headers.entry(ACCEPT).or_insert(HeaderValue::from_static("*/*"));
    headers.entry(USER_AGENT).or_insert(AGENT);
    Ok(headers)
}

/// Whether a header field holds what proves the caller.
fn proves_caller(name: &HeaderName, service: &Service) -> bool {
    let own = match &service.credentials {
        Some(Credentials::Header { name: own, .. }) => name.as_str().eq_ignore_ascii_case(own),
        _ => false,
    };
    own || *name == AUTHORIZATION
}

/// A body in memory; nothing where it has files.
fn held(data: &[Data]) -> Option<Bytes> {
    Some(data.iter().map(Data::held).collect::<Option<Vec<_>>>()?.concat().into())
}

/// A body with files, which are sent as they are read, and its size in bytes.
async fn streamed(data: &[Data], files: Option<&Arc<Holder>>) -> Result<(Body, u64), EffectError> {
    let (mut parts, mut size) = (Vec::with_capacity(data.len()), 0);
    for part in data {
        match part {
            Data::Bytes(bytes) => {
                size += bytes.len() as u64;
                let bytes = Bytes::from(bytes.clone());
                parts.push(stream::once(async { Ok(bytes) }).boxed());
            }
            Data::File(file) => {
                size += file.size;
                let files = files.ok_or_else(|| fault(FailureKind::Missing, "files cannot be sent here"))?;
                parts.push(files.open(file, None).await?);
            }
        }
    }
    Ok((client::streamed(stream::iter(parts).flatten().boxed()), size))
}

/// An answer that is a file, kept as it comes.
async fn kept(
    service: &Service,
    files: &Arc<Holder>,
    mut response: Response<Incoming>,
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
    while let Some(chunk) = chunk(service, response.body_mut()).await? {
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
    let named = request.host.as_ref().and_then(|host| Base::of(&service.base.replace(HOST, host)));
    let (below, base) = named.as_ref().or(service.at.as_ref()).map_or(("", ""), |at| (&at.below, &at.origin));
    let path = format!("{below}{path}");
    let held = request.body.iter().flatten().map(Data::held).collect::<Option<Vec<_>>>();
    let body = held.ok_or_else(|| fault(FailureKind::Input, "a message with a file cannot be signed"))?.concat();
    let message = proof::Message {
        method: &request.method,
        path: &path,
        query,
        base,
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
    let Some((base, uri)) = Base::split(address) else { return Err(format!("`{address}` is no HTTP address")) };
    if let Some(ip) = base.literal
        && let Some(why) = blocked(allowed, ip, ip, private_too)
    {
        return Err(why.to_string());
    }
    let client = common(allowed, private_too).map_err(|fault| fault.detail)?;
    let mut builder = http::Request::post(uri).header(CONTENT_TYPE, "application/json").header(USER_AGENT, AGENT);
    for (name, value) in headers {
        builder = builder.header(*name, value);
    }
    let request = builder.body(Body::Left(body.to_owned().into())).map_err(|error| error.to_string())?;
    match tokio::time::timeout(within, client.request(request)).await {
        Ok(Ok(answer)) => Ok(answer.status().as_u16()),
        Ok(Err(error)) => Err(cause::<Blocked>(&error).map_or_else(|| deepest(&error), Blocked::to_string)),
        Err(_) => Err("no answer in time".into()),
    }
}

fn refused(service: &Service, why: &Blocked) -> EffectError {
    fault(FailureKind::BlockedAddress, format!("{} is not called: {why}", service.name))
}

type Cause = dyn std::error::Error + 'static;

/// What led to an error, from the nearest to what began it.
fn causes(error: &Cause) -> impl Iterator<Item = &Cause> {
    std::iter::successors(error.source(), |cause| cause.source())
}

/// The cause of an error that has a type.
fn cause<E: std::error::Error + 'static>(error: &Cause) -> Option<&E> {
    causes(error).find_map(|cause| cause.downcast_ref::<E>())
}

/// What began the chain of causes of an error.
fn deepest(error: &Cause) -> String {
    causes(error).last().unwrap_or(error).to_string()
}

/// Whether the connection was closed before the head of an answer had come: a safe request may be sent again (RFC 9110 §9.2.2).
fn closed(error: &Cause) -> bool {
    use std::io::ErrorKind::{BrokenPipe, ConnectionAborted, ConnectionReset};
    let gone = |error: &std::io::Error| matches!(error.kind(), BrokenPipe | ConnectionAborted | ConnectionReset);
    cause::<hyper::Error>(error).is_some_and(hyper::Error::is_incomplete_message)
        || cause::<std::io::Error>(error).is_some_and(gone)
}

/// Distinguishes the kinds of failure; `connecting` is whether nothing was sent yet.
fn failure(service: &Service, connecting: bool, error: &Cause) -> EffectError {
    if let Some(why) = cause::<Blocked>(error) {
        return refused(service, why);
    }
    let timed_out = |error: &std::io::Error| error.kind() == std::io::ErrorKind::TimedOut;
    if cause::<std::io::Error>(error).is_some_and(timed_out) {
        return fault(FailureKind::Timeout, format!("{} did not answer in time", service.name));
    }
    let deepest = deepest(error);
    if connecting {
        return fault(
            FailureKind::Unreachable,
            format!("{} cannot be reached at {}: {deepest}", service.name, service.base),
        );
    }
    fault(FailureKind::Broken, format!("the exchange with {} broke: {deepest}", service.name))
}

#[cfg(test)]
mod tests;
