//! Requests under an `Idempotency-Key`: the first is answered, repetitions get its answer
//! (draft-ietf-httpapi-idempotency-key-header).

use actix_web::body::{BodySize, MessageBody};
use actix_web::http::StatusCode;
use actix_web::http::header::{HeaderName, HeaderValue};
use actix_web::{HttpRequest, HttpResponse};
use kanzlei_model::hex;
use kanzlei_model::problem::Problem;
use kanzlei_model::run::HEADER;
use kanzlei_model::time::Span;
use kanzlei_model::value::Value;
use kanzlei_runtime::clock::now;
use kanzlei_runtime::queue::hash;
use kanzlei_store::queue::{Repeat, Stored};
use serde_json::Value as Json;
use sha2::{Digest, Sha256};
use uuid::Uuid;

use super::access::Caller;
use super::refusal::{Refusal, from_store, timely};
use super::route::Route;
use crate::App;

static IDEMPOTENCY_KEY: HeaderName = HeaderName::from_static("idempotency-key");
/// How long an answer is kept for repetitions of its request, in microseconds.
const REPEATABLE: Span = Span::from_days(1);
/// How long after its deadline a request in flight keeps its key.
const IN_FLIGHT: Span = Span::from_secs(30);
/// The largest answer that is kept for that, in bytes.
const MOST_KEPT: u64 = 4 << 20;

/// What is known of a request's key.
pub enum Claim {
    /// It has none.
    Without,
    /// It is the first under its key.
    Claimed(Key),
    /// The answer to the first one.
    Answered(HttpResponse),
}

/// A key that this request holds until it is answered, and how long its answer is kept.
pub struct Key {
    hash: String,
    kept: Span,
}

/// A key as the header writes it: a quoted string (RFC 8941 §3.3.3), or bare as in earlier drafts.
fn key_of(text: &str) -> Option<String> {
    let text = text.trim();
    let Some(quoted) = text.strip_prefix('"') else {
        return (1..=255).contains(&text.len()).then(|| text.to_owned());
    };
    let (mut key, mut escaped, mut closed) = (String::new(), false, false);
    for c in quoted.chars() {
        match c {
            _ if closed => return None,
            '"' | '\\' if escaped => key.push(c),
            _ if escaped => return None,
            '\\' => {
                escaped = true;
                continue;
            }
            '"' => closed = true,
            c => key.push(c),
        }
        escaped = false;
    }
    (closed && (1..=255).contains(&key.len())).then_some(key)
}

/// Claims the key of a request, or returns the answer to the first one. Requests are the same when
/// method, endpoint and gathered input are (in canonical form, RFC 8785), however they were written.
pub async fn claim(
    app: &App,
    request: &HttpRequest,
    route: &Route<'_>,
    caller: &Caller,
    input: &Value,
    run: Uuid,
) -> Result<Claim, Refusal> {
    let method = request.method().as_str();
    if !matches!(method, "POST" | "PATCH") {
        return Ok(Claim::Without);
    }
    let Some(key) = request.headers().get(&IDEMPOTENCY_KEY) else { return Ok(Claim::Without) };
    let Some(key) = key.to_str().ok().and_then(key_of) else {
        let detail = "a key is 1 to 255 visible characters, as a quoted string: \"6e0f…\"";
        return Err(Problem::new(400, "Malformed Idempotency-Key").detail(detail).into());
    };
    // Keys of different callers are different ones, though they read the same.
    let of = caller.owner().unwrap_or_default();
    let address = format!("{}{}", route.declared().address.host.as_deref().unwrap_or_default(), request.uri().path());
    let hash = match of {
        "" => hash(&format!("{method} {address}\n{key}")),
        of => hash(&format!("{method} {address}\n{of}\n{key}")),
    };
    let mut print = Sha256::new();
    print.update(format!("{method} {}\n", route.declared().address));
    print.update(input.to_canonical_json());
    let print = hex::of(&print.finalize());
    Box::pin(claim_as(app, route, Key { hash, kept: REPEATABLE }, &print, run)).await
}

/// Claims what tells a message of a sender apart: whoever has the same is answered like the first.
pub async fn claim_message(app: &App, route: &Route<'_>, hash: &str, kept: Span, run: Uuid) -> Result<Claim, Refusal> {
    claim_as(app, route, Key { hash: hash.to_owned(), kept }, hash, run).await
}

async fn claim_as(app: &App, route: &Route<'_>, key: Key, print: &str, run: Uuid) -> Result<Claim, Refusal> {
    let at = now();
    let until = at + route.declared().time + IN_FLIGHT;
    match timely(app, app.jobs.store.repeat(&key.hash, print, run, at, until)).await? {
        Err(error) => Err(from_store("claiming an idempotency key", error)),
        Ok(Repeat::First) => Ok(Claim::Claimed(key)),
        Ok(Repeat::InFlight) => {
            let problem = Problem::new(409, "The first request is still in flight").detail("try again in a moment");
            Err(Refusal { retry_after: Some(1), ..problem.into() })
        }
        Ok(Repeat::Other) => {
            let detail = "another request came under the same Idempotency-Key; a key belongs to one request";
            Err(Problem::new(422, "The Idempotency-Key was used before").detail(detail).into())
        }
        Ok(Repeat::Answered(stored)) => match opened(app, stored) {
            Some(stored) => Ok(Claim::Answered(answered(stored))),
            None => {
                let detail = "its answer was sealed with another key of the secrets; see its run";
                Err(Problem::new(409, "The request was answered before").detail(detail).into())
            }
        },
    }
}

/// An answer as it is kept: as bytes, with the headers that belong to it.
fn answered(stored: Stored) -> HttpResponse {
    let status = StatusCode::from_u16(stored.status).unwrap_or(StatusCode::INTERNAL_SERVER_ERROR);
    let mut response = HttpResponse::build(status);
    let headers: Vec<(String, String)> = serde_json::from_str(&stored.headers).unwrap_or_default();
    for (name, value) in headers {
        if let (Ok(name), Ok(value)) = (HeaderName::try_from(name), HeaderValue::from_bytes(value.as_bytes())) {
            response.append_header((name, value));
        }
    }
    response.body(stored.body)
}

impl Key {
    /// Keeps an answer for repetitions and returns it to be sent. What was refused before it became a run
    /// is not kept: the request may be mended and sent again.
    pub async fn keep(self, app: &App, answer: Result<HttpResponse, Refusal>) -> Result<HttpResponse, Refusal> {
        let response = match answer {
            Ok(response) => response,
            Err(refusal) => {
                if let Err(error) = app.jobs.store.forget_answer(&self.hash).await {
                    tracing::warn!(%error, "an idempotency key stays claimed until it expires");
                }
                return Err(refusal);
            }
        };
        let small = matches!(response.body().size(), BodySize::None | BodySize::Sized(0..=MOST_KEPT));
        let (sent, stored) = if small {
            let (head, body) = response.into_parts();
            let bytes = actix_web::body::to_bytes(body).await.unwrap_or_default();
            let stored = Stored { status: head.status().as_u16(), headers: headers(&head), body: bytes.to_vec() };
            (answered(stored.clone()), stored)
        } else {
            // The run happened: the client gets its answer, and a repetition is refused.
            let detail = format!("the answer has more than {MOST_KEPT} bytes and was not kept; see its run");
            let problem = Problem::new(409, "The request was answered before").detail(detail);
            let mut names: Vec<Json> = vec![Json::from(vec!["content-type", "application/problem+json"])];
            if let Some(run) = response.headers().get(HEADER).and_then(|run| run.to_str().ok()) {
                names.push(Json::from(vec![HEADER, run]));
            }
            let headers = Json::from(names).to_string();
            (response, Stored { status: 409, headers, body: problem.to_json().into_bytes() })
        };
        let stored = sealed(app, stored);
        if let Err(error) = app.jobs.store.keep_answer(&self.hash, &stored, now() + self.kept).await {
            tracing::warn!(%error, "an answer could not be kept for repetitions of its request");
        }
        Ok(sent)
    }
}

/// An answer as it lies in the records: sealed, where there is a key. The headers say which, since JSON begins otherwise.
fn sealed(app: &App, answer: Stored) -> Stored {
    let secrets = &app.effects.secrets;
    match (secrets.guard(answer.headers.clone(), true), secrets.seal(&answer.body)) {
        (Some(headers), Some(body)) => Stored { status: answer.status, headers, body },
        _ => answer,
    }
}

/// The answer that was sealed; nothing when it cannot be opened.
fn opened(app: &App, stored: Stored) -> Option<Stored> {
    let secrets = &app.effects.secrets;
    let headers = secrets.unguard(&stored.headers)?;
    let body = if headers == stored.headers { stored.body } else { secrets.unseal(&stored.body)? };
    Some(Stored { status: stored.status, headers, body })
}

fn headers(head: &HttpResponse<()>) -> String {
    let pairs = head
        .headers()
        .iter()
        .filter_map(|(name, value)| Some((name.as_str(), std::str::from_utf8(value.as_bytes()).ok()?)));
    Json::from(pairs.map(|(name, value)| Json::from(vec![name, value])).collect::<Vec<_>>()).to_string()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_quoted_and_a_bare_key_are_one() {
        let long = "k".repeat(256);
        for (text, key) in [
            ("abc", Some("abc")),
            ("\"abc\"", Some("abc")),
            (" \"a b\" ", Some("a b")),
            (r#""a\"b\\c""#, Some(r#"a"b\c"#)),
            (r#""a\b""#, None),
            ("\"open", None),
            ("\"a\"b", None),
            ("\"\"", None),
            ("", None),
            (&long, None),
        ] {
            assert_eq!(key_of(text).as_deref(), key, "{text}");
        }
    }
}
