//! What browsers and caches learn: pages of other origins (Fetch standard, CORS protocol), freshness and validators (RFC 9111,
//! RFC 9110 §13), deprecation and sunset (RFC 9745, RFC 8594).

use actix_web::body::{BodySize, MessageBody};
use actix_web::http::header::{
    ACCESS_CONTROL_ALLOW_CREDENTIALS, ACCESS_CONTROL_ALLOW_HEADERS, ACCESS_CONTROL_ALLOW_METHODS,
    ACCESS_CONTROL_ALLOW_ORIGIN, ACCESS_CONTROL_EXPOSE_HEADERS, ACCESS_CONTROL_MAX_AGE, ACCESS_CONTROL_REQUEST_METHOD,
    CACHE_CONTROL, ETAG, HeaderMap, HeaderName, HeaderValue, IF_NONE_MATCH, ORIGIN, VARY,
};
use actix_web::http::{Method, StatusCode};
use actix_web::{HttpRequest, HttpResponse};
use kanzlei_compiler::plan::Endpoint;
use kanzlei_lang::document::access::Access;
use kanzlei_lang::document::web::{Cache, Cors};
use kanzlei_model::hex;
use kanzlei_model::time::Timestamp;
use kanzlei_runtime::live::{Found, Live};
use sha2::{Digest, Sha256};

/// Header fields of answers that pages may read beside the usual ones.
const EXPOSED: &str = "Location, Retry-After, RateLimit, RateLimit-Policy, X-Request-Id, ETag, Deprecation, Sunset";
/// The largest answer that gets a validator, in bytes.
const MOST_HASHED: u64 = 4 << 20;

/// Answers what a browser asks before a page's request: whether it may be sent. Nothing where the path allows no pages.
pub fn preflight(live: &Live, host: &str, request: &HttpRequest, response: &mut HttpResponse) {
    let asked = |name: &HeaderName| request.headers().get(name).and_then(|value| value.to_str().ok());
    let (Some(origin), Some(method)) = (asked(&ORIGIN), asked(&ACCESS_CONTROL_REQUEST_METHOD)) else { return };
    let Found::Endpoint { workflow, endpoint, .. } = live.find(host, method, request.uri().path()) else { return };
    let Some(cors) = &workflow.plan.endpoints[endpoint].web.cors else { return };
    if !allow(cors, origin, response.headers_mut()) {
        return;
    }
    let set = |response: &mut HttpResponse, name: HeaderName, text: &str| {
        if let Ok(value) = HeaderValue::from_str(text) {
            response.headers_mut().insert(name, value);
        }
    };
    set(response, ACCESS_CONTROL_ALLOW_METHODS, method);
    set(response, ACCESS_CONTROL_ALLOW_HEADERS, &cors.headers.join(", "));
    set(response, ACCESS_CONTROL_MAX_AGE, &cors.max_age.as_secs().to_string());
}

/// Finishes the answer of an endpoint.
pub async fn finish(endpoint: &Endpoint, request: &HttpRequest, mut response: HttpResponse) -> HttpResponse {
    let web = &endpoint.web;
    let headers = response.headers_mut();
    if let Some(cors) = &web.cors
        && let Some(origin) = request.headers().get(ORIGIN).and_then(|origin| origin.to_str().ok())
        && allow(cors, origin, headers)
    {
        headers.insert(ACCESS_CONTROL_EXPOSE_HEADERS, HeaderValue::from_static(EXPOSED));
    }
    if let Some(since) = web.deprecated {
        insert(headers, "deprecation", &format!("@{}", since.as_secs()));
    }
    if let Some(ends) = web.sunset {
        insert(headers, "sunset", &http_date(ends));
    }
    match &web.cache {
        Some(cache)
            if response.status() == StatusCode::OK && matches!(*request.method(), Method::GET | Method::HEAD) =>
        {
            Box::pin(cached(cache, &endpoint.access, request, response)).await
        }
        _ => response,
    }
}

/// Lets a page of an origin read the answer. Answers that depend on it say so.
fn allow(cors: &Cors, origin: &str, headers: &mut HeaderMap) -> bool {
    if !cors.origins.is_empty() {
        headers.append(VARY, HeaderValue::from_static("Origin"));
    }
    let allowed = cors.origins.is_empty() || cors.origins.iter().any(|known| *known == origin.to_ascii_lowercase());
    let shown = if cors.origins.is_empty() { "*" } else { origin };
    let Ok(value) = HeaderValue::from_str(shown) else { return false };
    if allowed {
        headers.insert(ACCESS_CONTROL_ALLOW_ORIGIN, value);
        if cors.credentials {
            headers.insert(ACCESS_CONTROL_ALLOW_CREDENTIALS, HeaderValue::from_static("true"));
        }
    }
    allowed
}

/// Says how long an answer is fresh, and answers 304 where the client has these bytes. What a workflow says itself stays.
async fn cached(cache: &Cache, access: &Access, request: &HttpRequest, response: HttpResponse) -> HttpResponse {
    let mut response = response;
    let headers = response.headers_mut();
    if !headers.contains_key(CACHE_CONTROL) {
        // Answers for a key are nobody else's.
        let whose = if access.is_open() { "public" } else { "private" };
        insert(headers, "cache-control", &format!("{whose}, max-age={}", cache.fresh.as_secs()));
    }
    if !cache.vary.is_empty()
        && let Ok(value) = HeaderValue::from_str(&cache.vary.join(", "))
    {
        headers.append(VARY, value);
    }
    let small = matches!(response.body().size(), BodySize::Sized(0..=MOST_HASHED));
    if !cache.etag || !small || response.headers().contains_key(ETAG) || request.method() == Method::HEAD {
        return response;
    }
    let (head, body) = response.into_parts();
    let Ok(bytes) = actix_web::body::to_bytes(body).await else {
        return HttpResponse::InternalServerError().finish();
    };
    let digest = Sha256::digest(&bytes);
    let tag = format!("\"{}\"", hex::of(&digest[..16]));
    let known = request.headers().get(IF_NONE_MATCH).and_then(|value| value.to_str().ok());
    let same = known.is_some_and(|known| {
        known.split(',').any(|one| matches!(one.trim(), "*") || one.trim().trim_start_matches("W/") == tag)
    });
    let mut response = match same {
        true => {
            let mut unchanged = HttpResponse::NotModified().finish();
            for (name, value) in head.headers() {
                // A body that is not sent has no type.
                if name != actix_web::http::header::CONTENT_TYPE {
                    unchanged.headers_mut().append(name.clone(), value.clone());
                }
            }
            unchanged
        }
        false => head.set_body(bytes).map_into_boxed_body(),
    };
    insert(response.headers_mut(), "etag", &tag);
    response
}

fn insert(headers: &mut HeaderMap, name: &'static str, text: &str) {
    if let Ok(value) = HeaderValue::from_str(text) {
        headers.insert(HeaderName::from_static(name), value);
    }
}

/// An instant as HTTP writes it (RFC 9110 §5.6.7).
fn http_date(at: Timestamp) -> String {
    let at = jiff::Timestamp::from(at).to_zoned(jiff::tz::TimeZone::UTC);
    at.strftime("%a, %d %b %Y %H:%M:%S GMT").to_string()
}
