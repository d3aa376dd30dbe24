//! Requests that are refused before a run begins: their answer, and what is kept of them.

use std::sync::Arc;

use actix_web::http::header::{ALLOW, HeaderValue, RETRY_AFTER, WWW_AUTHENTICATE};
use actix_web::web::Bytes;
use actix_web::{HttpRequest, HttpResponse};
use kanzlei_model::hex;
use kanzlei_model::problem::Problem;
use kanzlei_runtime::clock::now;
use kanzlei_runtime::journal;
use kanzlei_runtime::live::Workflow;
use kanzlei_runtime::places::Place;
use kanzlei_runtime::queue::accept::PATIENCE;
use kanzlei_store::database_is_full;
use kanzlei_store::refusals::Refusal as Row;
use sha2::{Digest, Sha256};
use uuid::Uuid;

use super::address;
use super::allow::Stands;
use crate::App;
use crate::error::problem_response;

/// Statuses of refusals that are kept; others are failures of the service.
const KEPT: [u16; 8] = [400, 401, 403, 405, 413, 415, 422, 429];

/// Statuses of refusals for what a request brought, which another revision may accept.
pub const BROUGHT: [u16; 4] = [400, 413, 415, 422];

/// Bytes of a media type that are kept.
const MEDIA: usize = 200;

/// A request that is refused.
pub struct Refusal {
    pub problem: Box<Problem>,
    pub allow: Option<HeaderValue>,
    /// Seconds.
    pub retry_after: Option<u32>,
    /// How a client shows who it is (RFC 9110 §11.6.1).
    pub challenge: Option<&'static str>,
}

impl Refusal {
    /// Sets the type of the problem where it has none: its title in lower case behind an address, `…/too-many-requests`.
    pub fn give_type(&mut self, before: &str) {
        if before.is_empty() || self.problem.problem_type.is_some() {
            return;
        }
        let words = self.problem.title.split(|c: char| !c.is_ascii_alphanumeric()).filter(|word| !word.is_empty());
        let name = words.map(str::to_ascii_lowercase).collect::<Vec<_>>().join("-");
        self.problem.problem_type = Some(format!("{before}{name}"));
    }

    /// The answer to the request.
    pub fn response(&self) -> HttpResponse {
        let mut response = problem_response(&self.problem);
        if let Some(allow) = &self.allow {
            response.headers_mut().insert(ALLOW, allow.clone());
        }
        if let Some(seconds) = self.retry_after {
            response.headers_mut().insert(RETRY_AFTER, seconds.into());
        }
        if let Some(challenge) = self.challenge {
            response.headers_mut().insert(WWW_AUTHENTICATE, HeaderValue::from_static(challenge));
        }
        response
    }

    pub fn not_allowed(methods: &'static str) -> Self {
        let problem = Problem::new(405, "Method not allowed").detail(format!("allowed methods: {methods}"));
        Refusal { allow: Some(HeaderValue::from_static(methods)), ..problem.into() }
    }
}

impl From<Problem> for Refusal {
    fn from(problem: Problem) -> Self {
        Refusal { problem: Box::new(problem), allow: None, retry_after: None, challenge: None }
    }
}

impl From<kanzlei_runtime::Error> for Refusal {
    fn from(error: kanzlei_runtime::Error) -> Self {
        Refusal { problem: Box::new(error.as_problem()), allow: None, retry_after: None, challenge: None }
    }
}

impl From<Box<Problem>> for Refusal {
    fn from(problem: Box<Problem>) -> Self {
        Refusal { problem, allow: None, retry_after: None, challenge: None }
    }
}

/// The database cannot be reached, so nothing was queued.
pub fn unavailable() -> Refusal {
    let title = if database_is_full() { "The database is full" } else { "The database is unavailable" };
    let problem = Problem::new(503, title).detail("nothing was queued; try again in a moment");
    Refusal { retry_after: Some(2), ..problem.into() }
}

/// What the database answers in time. One that hangs is unavailable.
pub async fn timely<T>(app: &App, asked: impl Future<Output = T>) -> Result<T, Refusal> {
    tokio::time::timeout(PATIENCE, asked).await.map_err(|_| {
        app.pulse.missed();
        let problem =
            Problem::new(503, "The database is unavailable").detail("it does not answer; try again in a moment");
        Refusal { retry_after: Some(2), ..problem.into() }
    })
}

/// The answer to an error of the store, which is logged; only an unavailable database is worth a retry.
pub fn from_store(doing: &str, error: kanzlei_store::Error) -> Refusal {
    if error.is_unreachable() || error.is_contention() {
        tracing::warn!(%error, doing, "the database is unavailable");
        return unavailable();
    }
    tracing::error!(%error, doing, "a request failed");
    Problem::new(500, "Internal server error").into()
}

/// What is known of a request by the time it is refused.
#[derive(Default)]
pub struct Sent {
    /// Whether its refusal is kept: it was for something that is deployed.
    pub expected: bool,
    pub entry: Option<(Arc<Workflow>, usize)>,
    body: Option<(String, Bytes)>,
    parsed: bool,
    /// How its caller stands, where it is counted.
    pub standing: Option<Stands>,
    /// The key that it showed.
    pub used: Option<Arc<str>>,
    /// Its place among those that its caller may ask for at once, until it is answered.
    pub place: Option<Place>,
}

impl Sent {
    /// It is for this endpoint.
    pub fn routed(&mut self, workflow: &Arc<Workflow>, endpoint: usize) {
        self.expected = true;
        self.entry = Some((workflow.clone(), endpoint));
    }

    /// Its body arrived whole.
    pub fn body(&mut self, media: &str, body: &Bytes) {
        self.body = Some((media[..media.floor_char_boundary(MEDIA)].to_owned(), body.clone()));
    }

    /// Its body is what it says it is.
    pub fn parsed(&mut self) {
        self.parsed = true;
    }
}

/// Keeps a refusal for the author, within the journal's bounds. Of the body the text only when it was parsed
/// and nothing confidential can be in it, else its size and digest.
pub fn keep(app: &App, request: &HttpRequest, id: Uuid, request_id: &str, sent: Sent, refusal: &Refusal) {
    let status = refusal.problem.status;
    if !sent.expected || !(KEPT.contains(&status) || status == 404) {
        return;
    }
    let Some(permit) = app.journal.refusals.admit() else { return };
    let confidential = sent.entry.as_ref().is_none_or(|(workflow, _)| workflow.plan.input.label.any());
    let text = sent.body.as_ref().filter(|_| sent.parsed && !confidential).and_then(|(_, body)| {
        let text = std::str::from_utf8(body).ok().filter(|text| !text.is_empty())?;
        Some(journal::cut(app.effects.secrets.mask(text.to_owned()), journal::MOST_REFUSED))
    });
    let size = sent.body.as_ref().map(|(_, body)| body.len() as u64);
    let problem = app.effects.secrets.mask(refusal.problem.to_json());
    let entry = match &sent.entry {
        Some((workflow, endpoint)) => workflow.entries[*endpoint].to_string(),
        None => format!("{} {}", request.method(), request.uri().path()),
    };
    permit.send(Row {
        id,
        at: now(),
        entry: Some(entry.chars().take(600).collect()),
        workflow: sent.entry.as_ref().map(|(workflow, _)| workflow.plan.name.clone()),
        request_id: request_id.to_owned(),
        caller: address::client(app, request).map(|address| address.to_string()),
        status,
        // With a confidential input a fault could show its value.
        problem: if confidential && sent.entry.is_some() {
            titled(&refusal.problem)
        } else {
            journal::cut(problem, journal::MOST_REFUSED)
        },
        media: sent.body.as_ref().map(|(media, _)| media.clone()).filter(|media| !media.is_empty()),
        size,
        digest: sent.body.as_ref().filter(|(_, body)| !body.is_empty()).map(|(_, body)| hex::of(&Sha256::digest(body))),
        body: text,
    });
}

/// A problem without what could quote the request.
fn titled(problem: &Problem) -> String {
    let places = problem.errors.iter().map(|error| serde_json::json!({"pointer": error.pointer}));
    serde_json::json!({"title": problem.title, "status": problem.status, "errors": places.collect::<Vec<_>>()})
        .to_string()
}
