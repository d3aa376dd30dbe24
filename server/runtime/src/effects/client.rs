//! The HTTP client of a thread: pooled connections to permitted addresses, where services are, and where redirects lead.
//!
//! It knows addresses, TLS and redirects, and nothing of services or runs; the only secrets it is passed are keys of certificates.
//! Connections belong to the thread that opened them. Names are resolved by [`Guarded`] alone; callers check literal addresses ([`Base::literal`]) before they send a request, and
//! the address that answered ([`answered_by`]) after it.
//!
//! ```text
//! let base = Base::of("https://registry.example/v1")?;
//! let request = http::Request::get(base.uri("/vessels/9074720")?).body(Body::default())?;
//! let response = client.request(request).await?;
//! ```

use std::net::{IpAddr, SocketAddr};
use std::sync::Arc;
use std::time::Duration;

use bytes::Bytes;
use futures_util::FutureExt;
use futures_util::future::BoxFuture;
use futures_util::stream::{BoxStream, StreamExt};
use http::header::LOCATION;
use http::uri::{Authority, PathAndQuery, Scheme};
use http::{HeaderMap, Method, Response, StatusCode, Uri};
use http_body_util::combinators::UnsyncBoxBody;
use http_body_util::{BodyExt, Either, Full, StreamBody};
use hyper::body::{Frame, Incoming};
use hyper_rustls::HttpsConnector;
use hyper_util::client::legacy;
use hyper_util::client::legacy::connect::{HttpConnector, HttpInfo};
use hyper_util::rt::{TokioExecutor, TokioTimer};
use kanzlei_lang::document::hosts::Hosts;
use kanzlei_model::address::{Allowed, literal_host};
use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateDer, PrivateKeyDer};
use rustls::{ClientConfig, RootCertStore};
use url::{Position, Url};

use super::network::{Guarded, system};

/// Idle connections kept per service and thread, and how long.
const IDLE: usize = 512;
const IDLE_FOR: Duration = Duration::from_secs(60);
/// How long connecting may take, within the attempt's time.
const CONNECT: Duration = Duration::from_secs(5);
/// Redirects followed within one service.
pub const REDIRECTS: usize = 5;

/// A client and the connections that it keeps.
#[derive(Clone)]
pub struct Client {
    kept: Pool,
    /// Keeps no connection, so that each request has a new one.
    fresh: Pool,
}

type Pool = legacy::Client<HttpsConnector<HttpConnector<Guarded<Lookup>>>, Body>;

impl Client {
    /// Sends a request over a kept connection, where there is one.
    pub fn request(&self, request: http::Request<Body>) -> legacy::ResponseFuture {
        self.kept.request(request)
    }

    /// Sends a request over a new connection: several kept ones may have been closed by the service at once.
    pub fn request_anew(&self, request: http::Request<Body>) -> legacy::ResponseFuture {
        self.fresh.request(request)
    }
}

/// How names are looked up.
pub type Lookup = fn(String) -> BoxFuture<'static, std::io::Result<Vec<SocketAddr>>>;

/// A body that is sent: whole, or as it is read.
pub type Body = Either<Full<Bytes>, UnsyncBoxBody<Bytes, std::io::Error>>;

/// A body that is sent as it is read.
pub fn streamed<E>(parts: BoxStream<'static, Result<Bytes, E>>) -> Body
where
    E: Into<Box<dyn std::error::Error + Send + Sync>> + 'static,
{
    let frames = parts.map(|part| part.map(Frame::data).map_err(std::io::Error::other));
    Either::Right(StreamBody::new(frames).boxed_unsync())
}

/// The certificates of a client, as PEM.
#[derive(Clone, Default, PartialEq)]
pub struct Certificates {
    /// The caller's own, with its key.
    pub identity: Option<String>,
    /// The authorities that it trusts; `None` for those of the operating system.
    pub authority: Option<String>,
}

/// A client for services in public or in private networks.
///
/// # Errors
/// Which of the certificates cannot be used, and why.
pub fn client(allowed: &Arc<Allowed>, private: bool, certificates: &Certificates) -> Result<Client, String> {
    // The provider of TLS primitives is chosen once per process; a second choice changes nothing.
    let _ = rustls::crypto::ring::default_provider().install_default();
    let mut http = HttpConnector::new_with_resolver(Guarded::new(allowed.clone(), private, lookup as Lookup));
    http.enforce_http(false);
    http.set_nodelay(true);
    http.set_connect_timeout(Some(CONNECT));
    let mut builder = legacy::Client::builder(TokioExecutor::new());
    builder.timer(TokioTimer::new()).pool_timer(TokioTimer::new());
    builder.pool_idle_timeout(IDLE_FOR);
    let connector = HttpsConnector::from((http, tls(certificates)?));
    let fresh = builder.pool_max_idle_per_host(0).build(connector.clone());
    Ok(Client { kept: builder.pool_max_idle_per_host(IDLE).build(connector), fresh })
}

fn lookup(host: String) -> BoxFuture<'static, std::io::Result<Vec<SocketAddr>>> {
    system(host).boxed()
}

fn tls(certificates: &Certificates) -> Result<ClientConfig, String> {
    let unusable = |what: &'static str| move |why: String| format!("{what} cannot be used: {why}");
    let builder = ClientConfig::builder();
    let builder = match &certificates.authority {
        None => {
            let verifier = rustls_platform_verifier::Verifier::new(builder.crypto_provider().clone());
            let verifier = verifier.map_err(|error| error.to_string()).map_err(unusable("the system's authorities"))?;
            builder.dangerous().with_custom_certificate_verifier(Arc::new(verifier))
        }
        Some(pem) => builder.with_root_certificates(authorities(pem).map_err(unusable("its authority"))?),
    };
    let mut config = match &certificates.identity {
        None => builder.with_no_client_auth(),
        Some(pem) => identity(pem)
            .and_then(|(chain, key)| builder.with_client_auth_cert(chain, key).map_err(|error| error.to_string()))
            .map_err(unusable("its certificate with the key"))?,
    };
    config.alpn_protocols = vec![b"h2".to_vec(), b"http/1.1".to_vec()];
    Ok(config)
}

fn chain(pem: &str) -> Result<Vec<CertificateDer<'static>>, String> {
    let found = CertificateDer::pem_slice_iter(pem.as_bytes()).collect::<Result<Vec<_>, _>>();
    match found.map_err(|error| error.to_string())? {
        none if none.is_empty() => Err("there is no certificate in it".into()),
        found => Ok(found),
    }
}

fn authorities(pem: &str) -> Result<RootCertStore, String> {
    let mut store = RootCertStore::empty();
    for certificate in chain(pem)? {
        store.add(certificate).map_err(|error| error.to_string())?;
    }
    Ok(store)
}

fn identity(pem: &str) -> Result<(Vec<CertificateDer<'static>>, PrivateKeyDer<'static>), String> {
    let key = PrivateKeyDer::from_pem_slice(pem.as_bytes()).map_err(|error| error.to_string())?;
    Ok((chain(pem)?, key))
}

/// The address that an answer comes from.
pub fn answered_by(response: &Response<Incoming>) -> Option<IpAddr> {
    response.extensions().get::<HttpInfo>().map(|info| info.remote_addr().ip())
}

/// Where a service is: its base address, parsed once.
#[derive(Clone, Debug)]
pub struct Base {
    scheme: Scheme,
    authority: Authority,
    /// The path that those of operations are appended to, without a slash at its end.
    pub below: String,
    /// Scheme, host and port, such as `https://registry.example`.
    pub origin: String,
    /// The address of its host where that needs no resolution.
    pub literal: Option<IpAddr>,
}

impl Base {
    /// The base at an address; nothing where it is none of HTTP.
    pub fn of(address: &str) -> Option<Self> {
        Base::at(&address.parse().ok()?)
    }

    fn at(url: &Url) -> Option<Self> {
        let scheme = match url.scheme() {
            "http" => Scheme::HTTP,
            "https" => Scheme::HTTPS,
            _ => return None,
        };
        let host = url.host_str()?;
        let authority = url.port().map_or_else(|| host.to_owned(), |port| format!("{host}:{port}"));
        Some(Base {
            scheme,
            authority: authority.parse().ok()?,
            below: url.path().trim_end_matches('/').to_owned(),
            origin: url.origin().ascii_serialization(),
            // As it is parsed: a host has many forms.
            literal: literal_host(url.as_str()),
        })
    }

    /// The address of a path below it, with a query; characters that no address has are encoded.
    ///
    /// # Errors
    /// A path that is none.
    pub fn uri(&self, target: &str) -> Result<Uri, http::Error> {
        let whole = [&self.below, target].concat();
        let plain = whole.starts_with('/') && whole.bytes().all(is_plain);
        self.with(PathAndQuery::try_from(if plain { whole } else { self.encoded(&whole) })?)
    }

    fn encoded(&self, target: &str) -> String {
        let (path, query) = target.split_once('?').map_or((target, None), |(path, query)| (path, Some(query)));
        let Ok(mut url) = Url::parse(&self.origin) else { return target.to_owned() };
        url.set_path(path);
        url.set_query(query);
        url[Position::BeforePath..Position::AfterQuery].to_owned()
    }

    fn with(&self, target: PathAndQuery) -> Result<Uri, http::Error> {
        let mut parts = http::uri::Parts::default();
        parts.scheme = Some(self.scheme.clone());
        parts.authority = Some(self.authority.clone());
        parts.path_and_query = Some(target);
        Ok(Uri::from_parts(parts)?)
    }

    /// A whole address, as a base without a path and the address of the rest.
    pub fn split(address: &str) -> Option<(Self, Uri)> {
        let url: Url = address.parse().ok()?;
        let base = Base { below: String::new(), ..Base::at(&url)? };
        let uri = base.uri(&url[Position::BeforePath..Position::AfterQuery]).ok()?;
        Some((base, uri))
    }

    /// The method and the address that an answer redirects to (RFC 9110 §15.4); nothing where it does not. A body is sent again
    /// only with the same method.
    ///
    /// # Errors
    /// An address that is not within this base's origin, and not at one of the hosts that a service may be at. To these only requests
    /// without a body are redirected, and never from HTTPS to HTTP.
    pub fn redirected(
        &self,
        from: &Uri,
        method: &Method,
        (status, headers): (StatusCode, &HeaderMap),
        hosts: Option<&Hosts>,
    ) -> Result<Option<(Method, Uri)>, String> {
        let method = match status {
            StatusCode::MOVED_PERMANENTLY | StatusCode::FOUND if *method == Method::POST => Method::GET,
            StatusCode::SEE_OTHER if *method != Method::HEAD => Method::GET,
            StatusCode::MOVED_PERMANENTLY
            | StatusCode::FOUND
            | StatusCode::SEE_OTHER
            | StatusCode::TEMPORARY_REDIRECT
            | StatusCode::PERMANENT_REDIRECT => method.clone(),
            _ => return Ok(None),
        };
        let Some(location) = headers.get(LOCATION).and_then(|value| value.to_str().ok()) else {
            return Ok(None);
        };
        let Ok(to) = Url::parse(&from.to_string()).and_then(|from| from.join(location)) else { return Ok(None) };
        if to.origin().ascii_serialization() != self.origin {
            let admitted = hosts.is_some_and(|hosts| {
                let name = to.host_str().unwrap_or_default();
                method.is_safe()
                    && to.port().is_none()
                    && to.username().is_empty()
                    && (to.scheme() == "https" || to.scheme() == "http" && self.scheme == Scheme::HTTP)
                    && hosts.admit(name).is_ok()
            });
            let uri = Base::split(to.as_str()).filter(|_| admitted).map(|(_, uri)| uri);
            return uri.map(|uri| Some((method, uri))).ok_or_else(|| to.to_string());
        }
        let uri = self.with(to[Position::BeforePath..Position::AfterQuery].parse().map_err(|_| to.to_string())?);
        Ok(Some((method, uri.map_err(|_| to.to_string())?)))
    }
}

/// Whether a byte stands in paths and queries as it is (RFC 3986 §3.3, §3.4).
fn is_plain(byte: u8) -> bool {
    byte.is_ascii_alphanumeric() || b"-._~!$&'()*+,;=:@/?%".contains(&byte)
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Where a redirect leads from `http://board.lindvik.example/a/b`, or from the same with HTTPS: within the origin, or to the hosts of
    /// the service.
    #[test]
    fn redirects_stay_with_the_hosts_of_a_service() {
        let some = Hosts::Named(vec!["*.lindvik.example".into()]);
        for (secure, method, location, alone, named) in [
            (
                true,
                "GET",
                "../c?d",
                Some("https://board.lindvik.example/c?d"),
                Some("https://board.lindvik.example/c?d"),
            ),
            (true, "GET", "https://www.lindvik.example/x", None, Some("https://www.lindvik.example/x")),
            (false, "GET", "https://board.lindvik.example/", None, Some("https://board.lindvik.example/")),
            (true, "GET", "//www.lindvik.example", None, Some("https://www.lindvik.example/")),
            (true, "PUT", "https://www.lindvik.example/x", None, None),
            (true, "GET", "http://www.lindvik.example/x", None, None),
            (true, "GET", "https://lindvik.example/x", None, None),
            (true, "GET", "https://evil.example/?.lindvik.example", None, None),
            (true, "GET", "https://a@www.lindvik.example/", None, None),
            (true, "GET", "https://www.lindvik.example:8443/", None, None),
            (true, "GET", "https://127.0.0.1/", None, None),
            (true, "GET", "https://169.254.169.254/latest", None, None),
            (true, "GET", "https://[::1]/", None, None),
            (true, "GET", "ftp://www.lindvik.example/", None, None),
        ] {
            let scheme = if secure { "https" } else { "http" };
            let base = Base::of(&format!("{scheme}://board.lindvik.example")).expect("a base");
            let from = base.uri("/a/b").expect("an address");
            let headers = HeaderMap::from_iter([(LOCATION, location.parse().expect("a value"))]);
            let method: Method = method.parse().expect("a method");
            for (hosts, wanted) in [(None, alone), (Some(&some), named)] {
                let next = base.redirected(&from, &method, (StatusCode::TEMPORARY_REDIRECT, &headers), hosts);
                let to = next.ok().flatten().map(|(_, uri)| uri.to_string());
                assert_eq!(to.as_deref(), wanted, "{location} {hosts:?}");
            }
        }
    }
}
