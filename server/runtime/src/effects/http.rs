//! Performs calls: HTTP requests to declared services, each within its time and size.
//!
//! Every thread that performs calls has its own pooled client, because a connection belongs to
//! the thread that opened it. Private and link-local addresses are refused unless the service's
//! document says `network: private`; redirects are followed only within the service.

use std::cell::RefCell;
use std::error::Error as _;
use std::net::IpAddr;
use std::sync::Arc;
use std::time::{Duration, Instant};

use futures_util::FutureExt;
use kanzlei_engine::machine::{Answer, EffectError, Request};
use kanzlei_lang::document::service::Credentials;
use kanzlei_model::address::is_private;
use kanzlei_model::run::FailureKind;
use reqwest::dns::{Addrs, Name, Resolve, Resolving};
use reqwest::redirect::Policy;

use crate::live::Service;
use crate::secrets::Secrets;

/// Idle connections kept per service and thread.
const IDLE: usize = 512;
/// How long connecting may take, within the attempt's time.
const CONNECT: Duration = Duration::from_secs(5);
/// Redirects followed within one service.
const REDIRECTS: usize = 5;

thread_local! {
    static CLIENTS: RefCell<[Option<reqwest::Client>; 2]> = const { RefCell::new([None, None]) };
}

/// This thread's client for services in the public or in a private network.
fn client(private: bool) -> Result<reqwest::Client, EffectError> {
    CLIENTS.with_borrow_mut(|clients| {
        let slot = &mut clients[usize::from(private)];
        if let Some(client) = slot {
            return Ok(client.clone());
        }
        // The provider of TLS primitives is chosen once per process; a second choice changes nothing.
        let _ = rustls::crypto::ring::default_provider().install_default();
        let mut builder = reqwest::Client::builder()
            .no_proxy()
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
            }));
        if !private {
            builder = builder.dns_resolver(PublicOnly);
        }
        let client = builder.build().map_err(|error| fault(FailureKind::Unreachable, error.to_string()))?;
        Ok(slot.insert(client).clone())
    })
}

/// Makes this thread's clients before the first request needs them; it takes tens of milliseconds.
pub fn warm() {
    for private in [false, true] {
        if let Err(fault) = client(private) {
            tracing::error!("calls cannot be made: {}", fault.detail);
        }
    }
}

#[derive(Debug, thiserror::Error)]
#[error("redirected to {0}")]
struct Elsewhere(String);

#[derive(Debug, thiserror::Error)]
#[error("`{0}` is a private address")]
struct Private(String);

/// Resolves names and leaves out addresses that are not public.
struct PublicOnly;

impl Resolve for PublicOnly {
    fn resolve(&self, name: Name) -> Resolving {
        let host = name.as_str().to_owned();
        async move {
            let found: Vec<_> = tokio::net::lookup_host((host.as_str(), 0)).await?.collect();
            let public: Vec<_> = found.into_iter().filter(|address| !is_private(address.ip())).collect();
            if public.is_empty() {
                return Err(Private(host).into());
            }
            Ok(Box::new(public.into_iter()) as Addrs)
        }
        .boxed()
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
/// `most` is the largest answer in bytes.
pub async fn call(
    service: Option<&Arc<Service>>,
    request: &Request,
    correlation: &Correlation<'_>,
    within: Duration,
    most: usize,
    secrets: &Secrets,
) -> Result<Answer, EffectError> {
    let Some(service) = service else {
        return Err(fault(FailureKind::BlockedAddress, format!("the service `{}` is not live", request.service)));
    };
    let limit = request.within.min(within);
    let begun = Instant::now();
    let Some(_place) = service.limiter.enter(limit).await else {
        let detail = format!(
            "no turn for a call to {} within {}: its limits let no more through",
            service.name,
            kanzlei_model::duration::short(limit)
        );
        return Err(fault(FailureKind::Timeout, detail));
    };
    let left = limit.saturating_sub(begun.elapsed());
    match tokio::time::timeout(left, exchange(service, request, correlation, most, secrets)).await {
        Ok(result) => result.map_err(|fault| EffectError { detail: secrets.mask(fault.detail), ..fault }),
        Err(_) => Err(fault(
            FailureKind::Timeout,
            format!("{} did not answer within {}", service.name, kanzlei_model::duration::short(limit)),
        )),
    }
}

async fn exchange(
    service: &Service,
    request: &Request,
    correlation: &Correlation<'_>,
    most: usize,
    secrets: &Secrets,
) -> Result<Answer, EffectError> {
    let Some(mut url) = service.url.clone() else {
        return Err(fault(FailureKind::BlockedAddress, format!("`{}` is no address", service.base)));
    };
    let (path, query) =
        request.target.split_once('?').map_or((request.target.as_str(), None), |(path, query)| (path, Some(query)));
    let below = url.path().trim_end_matches('/');
    let whole = format!("{below}{path}");
    url.set_path(&whole);
    url.set_query(query);
    if !service.private
        && let Some(ip) = url.host_str().and_then(|host| host.trim_matches(['[', ']']).parse::<IpAddr>().ok())
        && is_private(ip)
    {
        return Err(private(service, &ip.to_string()));
    }
    let secret = match &service.credentials {
        Some(credentials) => {
            let name = &credentials.secret().text;
            let detail = || format!("there is no secret `{name}`; set it with `kanzlei secrets set {name}`");
            Some(secrets.get(name).ok_or_else(|| fault(FailureKind::BlockedAddress, detail()))?)
        }
        None => None,
    };
    if let (Some(Credentials::Query { name, .. }), Some(secret)) = (&service.credentials, &secret) {
        url.query_pairs_mut().append_pair(name, secret);
    }
    let method = request.method.parse().map_err(|_| fault(FailureKind::BlockedAddress, "unknown method"))?;
    let mut builder = client(service.private)?.request(method, url);
    for (name, value) in &service.headers {
        if !request.headers.iter().any(|(given, _)| given.eq_ignore_ascii_case(name)) {
            builder = builder.header(name, value);
        }
    }
    for (name, value) in &request.headers {
        builder = builder.header(name, value);
    }
    builder = match (&service.credentials, &secret) {
        (Some(Credentials::Bearer(_)), Some(secret)) => builder.bearer_auth(secret),
        (Some(Credentials::Basic { user, .. }), Some(secret)) => builder.basic_auth(user, Some(secret)),
        (Some(Credentials::Header { name, .. }), Some(secret)) => builder.header(name, secret),
        _ => builder,
    };
    builder = builder.header("traceparent", correlation.traceparent).header("x-request-id", correlation.request_id);
    if let Some(body) = &request.body {
        builder = builder.body(body.clone());
    }
    let mut response = builder.send().await.map_err(|error| failure(service, error))?;
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
    let headers = response
        .headers()
        .iter()
        .map(|(name, value)| (name.as_str().to_owned(), String::from_utf8_lossy(value.as_bytes()).into_owned()))
        .collect();
    Ok(Answer { status: response.status().as_u16(), headers, body })
}

/// Sends a body of JSON to an address that is no service's; returns the status of the answer.
pub async fn post(
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
    let ip = url.host_str().and_then(|host| host.trim_matches(['[', ']']).parse::<IpAddr>().ok());
    if let Some(ip) = ip.filter(|ip| !private_too && is_private(*ip)) {
        return Err(format!("{ip} is a private address; if that is meant, say `network: private`"));
    }
    let mut builder = client(private_too).map_err(|fault| fault.detail)?.post(url);
    for (name, value) in headers {
        builder = builder.header(*name, value);
    }
    let sent = builder.header("content-type", "application/json").body(body.to_owned()).send();
    match tokio::time::timeout(within, sent).await {
        Ok(Ok(answer)) => Ok(answer.status().as_u16()),
        Ok(Err(error)) => Err(error.to_string()),
        Err(_) => Err("no answer in time".into()),
    }
}

fn private(service: &Service, host: &str) -> EffectError {
    fault(
        FailureKind::BlockedAddress,
        format!("{host} is a private address; if {} is there, say `network: private` in its document", service.name),
    )
}

/// Distinguishes the kinds of failure.
fn failure(service: &Service, error: reqwest::Error) -> EffectError {
    let mut inner: Option<&(dyn std::error::Error + 'static)> = error.source();
    let mut deepest = error.to_string();
    while let Some(cause) = inner {
        if let Some(elsewhere) = cause.downcast_ref::<Elsewhere>() {
            return fault(FailureKind::Redirected, format!("{} {elsewhere}, which is refused", service.name));
        }
        if let Some(Private(host)) = cause.downcast_ref::<Private>() {
            return private(service, host);
        }
        deepest = cause.to_string();
        inner = cause.source();
    }
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
