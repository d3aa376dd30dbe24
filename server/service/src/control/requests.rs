//! Requests that the console sends to the public listener for its user: the page has another origin.

use std::net::{IpAddr, Ipv4Addr, Ipv6Addr, SocketAddr};
use std::str::FromStr;
use std::time::{Duration, Instant};

use actix_web::HttpResponse;
use actix_web::web::{Data, Json};
use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use kanzlei_api::requests::{PlainAnswer, PlainRequest};
use kanzlei_model::time::Span;
use kanzlei_store::journal::Filter;
use reqwest::header::{HeaderMap, HeaderName, HeaderValue};
use uuid::Uuid;

use crate::App;
use crate::error::{Error, Result};

/// How long an answer may take.
const WITHIN: Duration = Duration::from_secs(60);
/// Bytes of a body that are returned.
const LONGEST: usize = 256 << 10;
/// Header fields of a request.
const MOST_HEADERS: usize = 50;

/// `POST /requests`: sends a request to the public listener and returns what came back.
pub async fn send(app: Data<App>, body: Json<PlainRequest>) -> Result<HttpResponse> {
    let asked = body.into_inner();
    let begun = Instant::now();
    let request_id = Uuid::now_v7().to_string();
    let scheme = if app.public_tls { "https" } else { "http" };
    let request = request(&asked, &request_id, (scheme, reachable(app.public_listener)))?;
    let unreachable = |error: reqwest::Error| {
        Error::problem(502, "The public listener did not answer", format!("{error}; is it listening?"))
    };
    let client = reqwest::Client::builder().redirect(reqwest::redirect::Policy::none()).no_proxy().timeout(WITHIN);
    // Its own listener, at its own address: the certificate is for the names that clients know.
    let client = client.danger_accept_invalid_certs(app.public_tls).build().map_err(unreachable)?;
    let mut response = client.execute(request).await.map_err(unreachable)?;
    let status = response.status().as_u16();
    let text = |value: &HeaderValue| String::from_utf8_lossy(value.as_bytes()).into_owned();
    let headers: Vec<(String, String)> =
        response.headers().iter().map(|(name, value)| (name.to_string(), text(value))).collect();
    let mut bytes = Vec::new();
    let mut cut = false;
    while let Some(chunk) = response.chunk().await.map_err(unreachable)? {
        bytes.extend_from_slice(&chunk);
        if bytes.len() > LONGEST {
            bytes.truncate(LONGEST);
            cut = true;
            break;
        }
    }
    let took = begun.elapsed();
    app.journal.flush().await;
    let filter = Filter { request: Some(app.jobs.of_request(request_id.clone())), limit: 1, ..Filter::default() };
    let run = app.store.runs(&filter).await?.runs.first().map(|run| run.id);
    let job = headers.iter().find(|(name, _)| name == "location" && status == 202);
    let job = job.and_then(|(_, at)| at.rsplit_once("/~/jobs/").map(|(_, id)| id.to_owned()));
    Ok(HttpResponse::Ok().json(PlainAnswer {
        status,
        headers,
        body: String::from_utf8_lossy(&bytes).into_owned(),
        cut,
        duration_us: Span::from(took),
        request_id,
        run,
        job,
    }))
}

/// The request as it is sent to an address of this process.
fn request(asked: &PlainRequest, request_id: &str, (scheme, to): (&str, SocketAddr)) -> Result<reqwest::Request> {
    let bad = |why: String| Error::problem(422, "The request cannot be sent", why);
    let method =
        reqwest::Method::from_str(&asked.method).map_err(|_| bad(format!("`{}` is no method", asked.method)))?;
    if !asked.target.starts_with('/') {
        return Err(bad(format!("`{}` is no path; it begins with `/`", asked.target)));
    }
    let url =
        reqwest::Url::parse(&format!("{scheme}://{to}{}", asked.target)).map_err(|error| bad(error.to_string()))?;
    if asked.headers.len() > MOST_HEADERS {
        return Err(bad(format!("{} header fields; at most {MOST_HEADERS} are sent", asked.headers.len())));
    }
    let mut headers = HeaderMap::new();
    for (name, value) in &asked.headers {
        let field =
            HeaderName::from_str(name).map_err(|_| bad(format!("`{name}` cannot be the name of a header field")))?;
        let value = HeaderValue::from_str(value).map_err(|_| bad(format!("`{name}` has no value that can be sent")))?;
        headers.insert(field, value);
    }
    if !asked.body.is_empty() && !headers.contains_key("content-type") {
        headers.insert("content-type", HeaderValue::from_static("application/json"));
    }
    if let Ok(id) = HeaderValue::from_str(request_id) {
        headers.insert("x-request-id", id);
    }
    let mut request = reqwest::Request::new(method, url);
    *request.headers_mut() = headers;
    if let Some(encoded) = &asked.base64 {
        let bytes = STANDARD.decode(encoded).map_err(|error| bad(format!("`base64` is not base64: {error}")))?;
        *request.body_mut() = Some(bytes.into());
    } else if !asked.body.is_empty() {
        *request.body_mut() = Some(asked.body.clone().into());
    }
    Ok(request)
}

/// Where a listener is reached from this machine: on loopback, if it listens on all addresses.
fn reachable(listener: SocketAddr) -> SocketAddr {
    let ip = match listener.ip() {
        IpAddr::V4(ip) if ip.is_unspecified() => Ipv4Addr::LOCALHOST.into(),
        IpAddr::V6(ip) if ip.is_unspecified() => Ipv6Addr::LOCALHOST.into(),
        ip => ip,
    };
    SocketAddr::new(ip, listener.port())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn requests_go_to_this_process_and_nowhere_else() {
        let to = || ("http", reachable("0.0.0.0:7080".parse().expect("an address")));
        let ask = |method: &str, target: &str, header: &str| PlainRequest {
            method: method.into(),
            target: target.into(),
            headers: [(header.to_owned(), "x".to_owned())].into(),
            body: "{}".into(),
            base64: None,
        };
        for (method, target, header, url) in [
            ("POST", "/a?b=c", "accept", Some("http://127.0.0.1:7080/a?b=c")),
            ("GET", "//elsewhere.example/a", "accept", Some("http://127.0.0.1:7080//elsewhere.example/a")),
            ("GET", "@elsewhere.example/a", "accept", None),
            ("GET", "http://elsewhere.example/", "accept", None),
            ("G ET", "/a", "accept", None),
            ("GET", "/a", "a b", None),
        ] {
            let made = request(&ask(method, target, header), "id", to()).ok();
            assert_eq!(made.as_ref().map(|made| made.url().as_str()), url, "{method} {target} {header}");
        }
        let made = request(&ask("POST", "/a", "host"), "id", to()).expect("a request");
        assert_eq!(made.headers()["content-type"], "application/json");
        assert_eq!(made.headers()["x-request-id"], "id");
    }
}
