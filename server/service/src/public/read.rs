//! Reading what a request brings: its body within the endpoint's bounds, its ids.

use std::time::{Duration, Instant};

use actix_web::HttpRequest;
use actix_web::http::header::{CONTENT_LENGTH, HeaderMap, HeaderName};
use actix_web::web::{Bytes, BytesMut, Payload};
use futures_util::{FutureExt, StreamExt};
use kanzlei_model::problem::Problem;
use kanzlei_model::trace::Trace;

use super::admit::{self, Arrival};
use super::refusal::Refusal;

/// The field with the id of a request.
pub static REQUEST_ID: HeaderName = HeaderName::from_static("x-request-id");
static TRACEPARENT: HeaderName = HeaderName::from_static("traceparent");
/// The longest request id of a client that is adopted.
const LONGEST_ID: usize = 100;

/// How long a body may arrive slowly, and the bytes a second that it arrives with from then on, at least.
const GRACE: Duration = Duration::from_secs(5);
const PACE: usize = 1024;

/// Reads a body of at most so many bytes, until a deadline and at a least pace.
pub async fn body(
    request: &HttpRequest,
    payload: &mut Payload,
    most: usize,
    deadline: Instant,
    arrival: &mut Arrival,
) -> Result<Bytes, Refusal> {
    let too_large = || Problem::new(413, "Content too large").detail(format!("at most {most} bytes are allowed here"));
    let announced =
        request.headers().get(CONTENT_LENGTH).and_then(|v| v.to_str().ok()).and_then(|v| v.parse::<usize>().ok());
    if announced.is_some_and(|length| length > most) {
        return Err(too_large().into());
    }
    let (begun, mut body) = (Instant::now(), BytesMut::new());
    loop {
        let slowest = begun + GRACE + Duration::from_millis((body.len() * 1000 / PACE) as u64);
        // Most bodies arrive with their head: no timer for those.
        let next = match payload.next().now_or_never() {
            Some(next) => next,
            None => tokio::time::timeout_at(deadline.min(slowest).into(), payload.next())
                .await
                .map_err(|_| Problem::new(408, "The request took too long to arrive"))?,
        };
        let Some(chunk) = next else { return Ok(body.freeze()) };
        let chunk = chunk.map_err(|error| Problem::new(400, "Malformed body").detail(error.to_string()))?;
        if body.len() + chunk.len() > most {
            return Err(too_large().into());
        }
        if !arrival.received(chunk.len()) {
            return Err(admit::busy());
        }
        body.extend_from_slice(&chunk);
    }
}

/// The client's own request id, where it is one that can be logged and sent on.
pub fn request_id(headers: &HeaderMap) -> Option<String> {
    let id = headers.get(&REQUEST_ID)?.to_str().ok()?;
    let fits = (1..=LONGEST_ID).contains(&id.len())
        && id.bytes().all(|b| b.is_ascii_alphanumeric() || b"-_.:+/=".contains(&b));
    fits.then(|| id.to_owned())
}

/// The trace of a valid `traceparent`.
pub fn trace(headers: &HeaderMap) -> Option<Trace> {
    Trace::read(headers.get(&TRACEPARENT)?.to_str().ok()?)
}
