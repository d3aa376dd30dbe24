//! What clients meet of jobs: `Prefer: respond-async` (RFC 7240), the paths below `/~/jobs/` and
//! `/~/callbacks/`, and requests that are repeated under an `Idempotency-Key`.

use std::time::{Duration, Instant};

use actix_web::http::StatusCode;
use actix_web::http::header::{HeaderMap, HeaderName, HeaderValue};
use actix_web::web::{Bytes, Data, Payload};
use actix_web::{HttpRequest, HttpResponse};
use kanzlei_model::problem::Problem;
use kanzlei_model::run::RunState;
use kanzlei_store::queue::{JobPhase, JobRow, NewJob, Repeat, Stored};
use serde_json::Value as Json;
use sha2::{Digest, Sha256};
use uuid::Uuid;

use crate::App;
use crate::clock::now;
use crate::jobs::accept::Refused;
use crate::jobs::{event, hash, reply_of};
use crate::public::{Refusal, read_body, respond};

/// The longest a client may wait in one request.
const MOST_WAIT: Duration = Duration::from_secs(60);
/// How long an answer is kept for repetitions of its request.
const REPEATABLE: i64 = 86_400_000_000;
/// The largest answer that is kept for that, in bytes.
const MOST_KEPT: usize = 4 << 20;
/// The largest body of a callback.
const MOST_ARRIVES: usize = 1 << 20;
/// How often an event stream says that it is still there.
const ALIVE: Duration = Duration::from_secs(15);

/// What a client prefers (RFC 7240 §4).
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct Prefer {
    pub later: bool,
    pub wait: Option<Duration>,
}

impl Prefer {
    pub fn of(headers: &HeaderMap) -> Self {
        let mut prefer = Prefer::default();
        for value in headers.get_all("prefer").filter_map(|value| value.to_str().ok()) {
            for part in value.split(',').map(|part| part.split(';').next().unwrap_or_default().trim()) {
                let (name, value) =
                    part.split_once('=').map_or((part, ""), |(name, value)| (name.trim(), value.trim()));
                match name.to_ascii_lowercase().as_str() {
                    "respond-async" => prefer.later = true,
                    // Of a preference that comes twice the first counts (RFC 7240 §2).
                    "wait" if prefer.wait.is_none() => {
                        let seconds = value.trim_matches('"').parse::<u64>().ok();
                        prefer.wait = seconds.map(|seconds| Duration::from_secs(seconds).min(MOST_WAIT));
                    }
                    _ => {}
                }
            }
        }
        prefer
    }
}

pub fn away() -> Refusal {
    Problem::new(503, "The database is unavailable").detail("nothing was queued; try again in a moment").into()
}

/// Queues a request as a job and answers with its address, or with its result when that is there within
/// the time the client waits.
pub async fn answer_later(app: &App, row: NewJob, prefer: Prefer) -> Result<HttpResponse, Refusal> {
    let id = row.id;
    // As it was queued: what became of it since is for who asks again.
    let fresh = JobRow::queued(&row);
    app.jobs.accept(vec![row], None).await.map_err(|refused| match refused {
        Refused::Full { status, detail } => {
            let mut refusal = Refusal::from(Problem::new(status, "The queue is full").detail(detail));
            refusal.retry_after = Some(5);
            refusal
        }
        Refused::Away => away(),
    })?;
    let mut job = None;
    if let Some(wait) = prefer.wait {
        job = wait_for(app, id, wait, |job| job.phase.ended() || job.status.is_some()).await?;
    }
    let applied = match (prefer.later, prefer.wait) {
        (true, Some(wait)) => format!("respond-async, wait={}", wait.as_secs()),
        (true, None) => "respond-async".to_owned(),
        (false, Some(wait)) => format!("wait={}", wait.as_secs()),
        (false, None) => String::new(),
    };
    let mut response = match &job {
        Some(job) if job.phase.ended() || job.status.is_some() => result_of(app, job, false)?,
        _ => {
            let job = job.unwrap_or(fresh);
            let (document, remaining) = app.jobs.document(&job).await;
            HttpResponse::Accepted()
                .insert_header(("Location", format!("/~/jobs/{id}")))
                .insert_header(("Retry-After", crate::jobs::Jobs::retry_after(remaining).to_string()))
                .content_type("application/json")
                .body(document.to_string())
        }
    };
    if let Ok(value) = HeaderValue::from_str(&applied)
        && !applied.is_empty()
    {
        response.headers_mut().insert(HeaderName::from_static("preference-applied"), value);
    }
    Ok(response)
}

async fn found(app: &App, id: Uuid) -> Result<JobRow, Refusal> {
    match app.jobs.store.job(id).await {
        Ok(Some(job)) => Ok(job),
        Ok(None) => Err(unknown(&id.to_string())),
        Err(_) => Err(away()),
    }
}

fn unknown(id: &str) -> Refusal {
    Problem::new(404, "No such job").detail(format!("there is no job {id} here, or not any more")).into()
}

/// Waits until a job is as wanted, at most so long; gives it as it is then.
async fn wait_for(
    app: &App,
    id: Uuid,
    within: Duration,
    wanted: impl Fn(&JobRow) -> bool,
) -> Result<Option<JobRow>, Refusal> {
    let until = Instant::now() + within;
    let Some(mut follower) = app.jobs.follow(id) else {
        return Err(Problem::new(503, "Too many clients wait").detail("poll without `Prefer: wait`").into());
    };
    loop {
        let job = found(app, id).await?;
        let left = until.saturating_duration_since(Instant::now());
        if wanted(&job) || left.is_zero() {
            return Ok(Some(job));
        }
        follower.changed(left).await;
    }
}

/// The result of a job, exactly as the direct answer would have been.
fn result_of(app: &App, job: &JobRow, head: bool) -> Result<HttpResponse, Refusal> {
    if job.expires.is_some_and(|expires| expires < now()) {
        return Err(Problem::new(410, "The result is gone").detail("results are kept for a while only").into());
    }
    let mut response = match (&job.reply, job.phase) {
        (Some(reply), _) => {
            let reply = app.jobs.secrets.unguard(reply).and_then(|text| reply_of(&text));
            match reply {
                Some(reply) => respond(reply, head),
                None => return Err(Problem::new(500, "The result cannot be read").into()),
            }
        }
        (None, JobPhase::Cancelled) => {
            return Err(Problem::new(409, "The job was cancelled").detail("it has no result").into());
        }
        _ => HttpResponse::NoContent().finish(),
    };
    if let Ok(value) = HeaderValue::from_str(&job.id.to_string()) {
        response.headers_mut().insert(HeaderName::from_static("kanzlei-run"), value);
    }
    Ok(response)
}

/// Paths below `/~/jobs/`.
pub async fn job_path(rest: &str, request: &HttpRequest, app: &Data<App>) -> Result<HttpResponse, Refusal> {
    let (text, part) = rest.split_once('/').unwrap_or((rest, ""));
    let Ok(id) = text.parse::<Uuid>() else {
        return Err(Problem::new(404, "No such job").detail(format!("`{text}` is not the id of a job")).into());
    };
    let method = request.method().as_str();
    match (part, method) {
        ("", "GET" | "HEAD") => status(app, id, request).await,
        ("", "DELETE") => cancel(app, id).await,
        ("result", "GET" | "HEAD") => result(app, id, request).await,
        ("events", "GET") => events(app, id, request).await,
        ("", _) => Err(Refusal::not_allowed("GET, HEAD, DELETE")),
        ("result", _) => Err(Refusal::not_allowed("GET, HEAD")),
        ("events", _) => Err(Refusal::not_allowed("GET")),
        _ => Err(Problem::new(404, "Not found").detail(format!("there is no /~/jobs/{rest}")).into()),
    }
}

async fn status(app: &App, id: Uuid, request: &HttpRequest) -> Result<HttpResponse, Refusal> {
    let prefer = Prefer::of(request.headers());
    let mut job = found(app, id).await?;
    if let (Some(wait), false) = (prefer.wait, job.phase.ended()) {
        job = wait_for(app, id, wait, |job| job.phase.ended()).await?.unwrap_or(job);
    }
    let mut response = document(app, &job, StatusCode::OK).await;
    if let Some(wait) = prefer.wait
        && let Ok(value) = HeaderValue::from_str(&format!("wait={}", wait.as_secs()))
    {
        response.headers_mut().insert(HeaderName::from_static("preference-applied"), value);
    }
    Ok(response)
}

async fn document(app: &App, job: &JobRow, status: StatusCode) -> HttpResponse {
    let (document, remaining) = app.jobs.document(job).await;
    let mut response = HttpResponse::build(status);
    if !job.phase.ended() {
        response.insert_header(("Retry-After", crate::jobs::Jobs::retry_after(remaining).to_string()));
    }
    response.insert_header(("Cache-Control", "no-store"));
    response.content_type("application/json").body(document.to_string())
}

async fn result(app: &App, id: Uuid, request: &HttpRequest) -> Result<HttpResponse, Refusal> {
    let head = request.method() == actix_web::http::Method::HEAD;
    let mut job = found(app, id).await?;
    let there = |job: &JobRow| job.phase.ended() || job.status.is_some();
    if let (Some(wait), false) = (Prefer::of(request.headers()).wait, there(&job)) {
        job = wait_for(app, id, wait, there).await?.unwrap_or(job);
    }
    match there(&job) {
        true => result_of(app, &job, head),
        false => Ok(document(app, &job, StatusCode::ACCEPTED).await),
    }
}

async fn cancel(app: &App, id: Uuid) -> Result<HttpResponse, Refusal> {
    let before = found(app, id).await?;
    let phase = app.jobs.cancel_one(id, "the client").await.map_err(|_| away())?;
    match phase {
        None => Err(unknown(&id.to_string())),
        Some(JobPhase::Ready | JobPhase::Blocked) => Ok(document(app, &found(app, id).await?, StatusCode::OK).await),
        // It stops before its next step.
        Some(JobPhase::Running) => Ok(document(app, &found(app, id).await?, StatusCode::ACCEPTED).await),
        Some(phase) => {
            let state = phase.state(false, true);
            let ended = before.ended.map(kanzlei_engine::machine::instant).unwrap_or_default();
            Err(Problem::new(409, "The job has ended").detail(format!("it {} at {ended}", ended_as(state))).into())
        }
    }
}

fn ended_as(state: RunState) -> &'static str {
    match state {
        RunState::Cancelled => "was cancelled",
        RunState::Rejected => "was rejected",
        state => state.name(),
    }
}

/// An event stream: one event for each change, which carries the whole document. Its id is the number of
/// changes so far, so a client that comes back with `Last-Event-ID` gets what it has not seen.
async fn events(app: &Data<App>, id: Uuid, request: &HttpRequest) -> Result<HttpResponse, Refusal> {
    let last = request.headers().get("last-event-id").and_then(|v| v.to_str().ok()).and_then(|v| v.parse::<u64>().ok());
    let job = found(app, id).await?;
    if job.phase.ended() && last.is_some_and(|last| last >= job.changes) {
        // Tells an EventSource not to come back.
        return Ok(HttpResponse::NoContent().finish());
    }
    let Some(follower) = app.jobs.follow(id) else {
        return Err(Problem::new(503, "Too many clients follow").detail("poll the job instead").into());
    };
    let app = app.clone();
    let stream = futures_util::stream::unfold(Some((follower, last, false)), move |state| {
        let app = app.clone();
        async move {
            let (mut follower, mut last, begun) = state?;
            if !begun {
                // The first line goes out at once, so that the client knows it is heard.
                return Some((Bytes::from_static(b"retry: 2000\n\n"), Some((follower, last, true))));
            }
            loop {
                match app.jobs.store.job(id).await {
                    Ok(Some(job)) if last.is_none_or(|last| last < job.changes) => {
                        last = Some(job.changes);
                        let (document, _) = app.jobs.document(&job).await;
                        let ended = job.phase.ended();
                        let name = if ended { "ended" } else { "changed" };
                        let bytes = event(job.changes, name, &document.to_string());
                        return Some((bytes, (!ended).then_some((follower, last, true))));
                    }
                    Ok(Some(_)) => {}
                    Ok(None) => return None,
                    Err(_) => tokio::time::sleep(Duration::from_millis(500)).await,
                }
                let before = Instant::now();
                follower.changed(ALIVE).await;
                if before.elapsed() >= ALIVE {
                    return Some((Bytes::from_static(b": still there\n\n"), Some((follower, last, true))));
                }
            }
        }
    });
    let stream = futures_util::StreamExt::map(stream, Ok::<_, std::io::Error>);
    Ok(HttpResponse::Ok()
        .content_type("text/event-stream")
        .insert_header(("Cache-Control", "no-store"))
        .insert_header(("X-Accel-Buffering", "no"))
        .streaming(stream))
}

/// Takes what comes to an address that a job waits at.
pub async fn callback(
    token: &str,
    request: &HttpRequest,
    payload: &mut Payload,
    app: &App,
) -> Result<HttpResponse, Refusal> {
    if !matches!(request.method().as_str(), "POST" | "PUT") {
        return Err(Refusal::not_allowed("POST, PUT"));
    }
    let known = app.jobs.store.callback(&hash(token)).await.map_err(|_| away())?;
    let Some(known) = known else {
        return Err(Problem::new(404, "No such address").detail("nobody waits here, or not any more").into());
    };
    let body = read_body(request, payload, MOST_ARRIVES).await?;
    let media = request.headers().get("content-type").and_then(|v| v.to_str().ok()).unwrap_or_default();
    if known.arrived.is_some() {
        if known.body.as_deref() == Some(&body[..]) {
            // The sender did not hear of the first answer.
            return Ok(taken());
        }
        return Err(Problem::new(409, "Something came before").detail("this address takes one message").into());
    }
    if JobPhase::of_code(known.phase).is_none_or(JobPhase::ended) {
        return Err(Problem::new(410, "Nobody waits any more").detail("the run that waited here has ended").into());
    }
    let media: String = media.chars().take(200).collect();
    let first = app.jobs.store.arrive(&hash(token), known.job, &media, &body, now()).await.map_err(|_| away())?;
    if !first {
        return Err(Problem::new(409, "Something came before").detail("this address takes one message").into());
    }
    app.jobs.wake.notify_one();
    app.jobs.followers.changed(known.job);
    Ok(taken())
}

fn taken() -> HttpResponse {
    HttpResponse::Accepted().content_type("application/json").body("{\"received\":true}")
}

/// A request that may be repeated.
pub struct Repeatable {
    hash: String,
}

/// Looks at the `Idempotency-Key` of a request: nothing without one, else what the request is, or the
/// answer that the first one had.
pub async fn repeated(
    app: &App,
    request: &HttpRequest,
    body: &Bytes,
    run: Uuid,
    time: Duration,
) -> Result<Result<Option<Repeatable>, HttpResponse>, Refusal> {
    if !matches!(request.method().as_str(), "POST" | "PATCH") {
        return Ok(Ok(None));
    }
    let Some(key) = request.headers().get("idempotency-key") else { return Ok(Ok(None)) };
    let fits = key.to_str().ok().filter(|key| (1..=255).contains(&key.len()));
    let Some(key) = fits else {
        return Err(Problem::new(400, "Malformed Idempotency-Key").detail("1 to 255 visible characters").into());
    };
    let method = request.method().as_str();
    let target = request.uri().to_string();
    let path = request.uri().path();
    let hash = hash(&format!("{method} {path}\n{key}"));
    let media = request.headers().get("content-type").and_then(|v| v.to_str().ok()).unwrap_or_default();
    let mut print = Sha256::new();
    print.update(format!("{method} {target}\n{media}\n"));
    print.update(body);
    let print: String = print.finalize().iter().map(|byte| format!("{byte:02x}")).collect();
    let at = now();
    let until = at + time.as_micros() as i64 + 30_000_000;
    match app.jobs.store.repeat(&hash, &print, run, at, until).await {
        Err(_) => Err(away()),
        Ok(Repeat::First) => Ok(Ok(Some(Repeatable { hash }))),
        Ok(Repeat::InFlight) => {
            let mut refusal = Refusal::from(
                Problem::new(409, "The first request is still being worked on").detail("try again in a moment"),
            );
            refusal.retry_after = Some(1);
            Err(refusal)
        }
        Ok(Repeat::Other) => {
            let detail = "another request came under the same Idempotency-Key; a key belongs to one request";
            Err(Problem::new(422, "The Idempotency-Key was used before").detail(detail).into())
        }
        Ok(Repeat::Answered(stored)) => Ok(Err(answered(stored))),
    }
}

/// An answer as it is kept: as bytes, with the headers that belong to it.
fn answered(stored: Stored) -> HttpResponse {
    let status = StatusCode::from_u16(stored.status).unwrap_or(StatusCode::INTERNAL_SERVER_ERROR);
    let mut response = HttpResponse::build(status);
    let headers: Vec<(String, String)> = serde_json::from_str(&stored.headers).unwrap_or_default();
    for (name, value) in headers {
        if let (Ok(name), Ok(value)) = (HeaderName::try_from(name), HeaderValue::from_str(&value)) {
            response.append_header((name, value));
        }
    }
    response.body(stored.body)
}

impl Repeatable {
    /// Keeps an answer for repetitions and gives it back to be sent. What was turned away before it
    /// became a run is not kept: the request may be mended and sent again.
    pub async fn keep(self, app: &App, answer: Result<HttpResponse, Refusal>) -> Result<HttpResponse, Refusal> {
        let response = match answer {
            Ok(response) => response,
            Err(refusal) => {
                let _ = app.jobs.store.forget_answer(&self.hash).await;
                return Err(refusal);
            }
        };
        let (head, body) = response.into_parts();
        let bytes = match actix_web::body::to_bytes_limited(body, MOST_KEPT).await {
            Ok(Ok(bytes)) => bytes,
            _ => {
                let _ = app.jobs.store.forget_answer(&self.hash).await;
                return Err(Problem::new(500, "The answer is too large to be kept").into());
            }
        };
        let headers: Vec<(&str, &str)> =
            head.headers().iter().filter_map(|(name, value)| Some((name.as_str(), value.to_str().ok()?))).collect();
        let stored = Stored {
            status: head.status().as_u16(),
            headers: Json::from(headers.iter().map(|(n, v)| Json::from(vec![*n, *v])).collect::<Vec<_>>()).to_string(),
            body: bytes.to_vec(),
        };
        if app.jobs.store.keep_answer(&self.hash, &stored, now() + REPEATABLE).await.is_err() {
            tracing::warn!("an answer could not be kept for repetitions of its request");
        }
        Ok(answered(stored))
    }
}

#[cfg(test)]
mod tests {
    use kanzlei_engine::machine::Reply;
    use kanzlei_model::value::Value;

    use super::*;
    use crate::jobs::reply_json;

    #[test]
    fn preferences_are_read_as_the_rfc_says() {
        for (values, later, wait) in [
            (&["respond-async"][..], true, None),
            (&["respond-async, wait=5"], true, Some(5)),
            (&["return=minimal", "Wait=\"7\"; x=1, RESPOND-ASYNC"], true, Some(7)),
            (&["wait=100000"], false, Some(60)),
            (&["wait=3, wait=9"], false, Some(3)),
            (&["wait=soon, handling=lenient"], false, None),
        ] {
            let mut headers = HeaderMap::new();
            for value in values {
                headers.append(HeaderName::from_static("prefer"), HeaderValue::from_static(value));
            }
            assert_eq!(Prefer::of(&headers), Prefer { later, wait: wait.map(Duration::from_secs) }, "{values:?}");
        }
    }

    #[test]
    fn replies_come_back_as_they_were() {
        for body in [Value::Undefined, Value::Null, Value::text("hei"), Value::object([("n", Value::Int(1))])] {
            let reply = Reply { status: 201, headers: vec![("X-A".into(), "b".into())], body, problem: true };
            assert_eq!(reply_of(&reply_json(&reply)), Some(reply));
        }
    }
}
