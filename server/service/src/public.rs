//! The public listener: what workflows serve, and the service's own paths below `/~/`.

use std::sync::Arc;
use std::time::Instant;

use actix_web::http::StatusCode;
use actix_web::http::header::{ALLOW, CONTENT_LENGTH, CONTENT_TYPE, HeaderMap, HeaderName, HeaderValue, RETRY_AFTER};
use actix_web::web::{Bytes, BytesMut, Data, Payload};
use actix_web::{HttpRequest, HttpResponse};
use futures_util::StreamExt;
use kanzlei_compiler::input::{Body, Parts, form_pairs};
use kanzlei_engine::machine::{Machine, Reply, Start, file_bytes};
use kanzlei_lang::document::workflow::Answer;
use kanzlei_model::problem::Problem;
use kanzlei_model::value::Value;
use tokio::sync::oneshot;
use uuid::Uuid;

use crate::App;
use crate::clock::{fresh_id, now};
use crate::drive::{Begun, InFlight, Run};
use crate::error::problem_response;
use crate::jobs;
use crate::live::{Found, Live, Workflow};
use crate::public_jobs::{self, Prefer};

/// The longest request id that is taken over from a client.
const REQUEST_ID: usize = 100;

/// Serves one request to the public listener.
pub async fn serve(request: HttpRequest, mut payload: Payload, app: Data<App>) -> HttpResponse {
    let id = Uuid::now_v7();
    let request_id = taken_over(request.headers()).unwrap_or_else(|| id.to_string());
    let mut response = match answer(&request, &mut payload, &app, id, &request_id).await {
        Ok(response) => response,
        Err(refusal) => {
            let mut response = problem_response(&refusal.problem);
            if let Some(allow) = refusal.allow {
                response.headers_mut().insert(ALLOW, allow);
            }
            if let Some(seconds) = refusal.retry_after {
                response.headers_mut().insert(RETRY_AFTER, seconds.into());
            }
            response
        }
    };
    if let Ok(value) = HeaderValue::from_str(&request_id) {
        response.headers_mut().insert(HeaderName::from_static("x-request-id"), value);
    }
    response
}

/// A request that no run answers.
pub struct Refusal {
    problem: Box<Problem>,
    allow: Option<HeaderValue>,
    /// Seconds.
    pub retry_after: Option<u32>,
}

impl Refusal {
    pub fn not_allowed(methods: &'static str) -> Self {
        let problem = Problem::new(405, "Method not allowed").detail(format!("here are {methods}"));
        Refusal { allow: Some(HeaderValue::from_static(methods)), ..problem.into() }
    }
}

impl From<Problem> for Refusal {
    fn from(problem: Problem) -> Self {
        Refusal { problem: Box::new(problem), allow: None, retry_after: None }
    }
}

impl From<crate::error::Error> for Refusal {
    fn from(error: crate::error::Error) -> Self {
        Refusal { problem: Box::new(error.as_problem()), allow: None, retry_after: None }
    }
}

impl From<Box<Problem>> for Refusal {
    fn from(problem: Box<Problem>) -> Self {
        Refusal { problem, allow: None, retry_after: None }
    }
}

async fn answer(
    request: &HttpRequest,
    payload: &mut Payload,
    app: &Data<App>,
    id: Uuid,
    request_id: &str,
) -> Result<HttpResponse, Refusal> {
    let path = request.uri().path();
    if let Some(own) = path.strip_prefix("/~/") {
        return own_path(own, request, payload, app).await;
    }
    let live = app.live.load_full();
    let method = request.method().as_str();
    let (workflow, endpoint, path) = match live.find(method, path) {
        Found::Endpoint { workflow, endpoint, path } => (workflow.clone(), endpoint, path),
        Found::OtherMethods(methods) => {
            let allow = HeaderValue::from_str(&methods.join(", ")).ok();
            if method == "OPTIONS" {
                let mut response = HttpResponse::NoContent().finish();
                if let Some(allow) = allow {
                    response.headers_mut().insert(ALLOW, allow);
                }
                return Ok(response);
            }
            let problem = Problem::new(405, "Method not allowed").detail(format!("here are {}", methods.join(", ")));
            return Err(Refusal { allow, ..problem.into() });
        }
        Found::Malformed => {
            return Err(Problem::new(400, "Malformed path").detail("the path is not percent-encoded UTF-8").into());
        }
        Found::Nothing => {
            return Err(Problem::new(404, "Not found").detail(format!("nothing is deployed at {path}")).into());
        }
    };
    let Some(in_flight) = InFlight::enter(&app.in_flight, app.most_in_flight) else {
        return Err(Problem::new(503, "The service is busy").detail("try again in a moment").into());
    };
    let started = now();
    let declared = &workflow.plan.endpoints[endpoint];
    let deadline = Instant::now() + declared.time;
    let time = declared.time;
    let body = match tokio::time::timeout_at(deadline.into(), read_body(request, payload, declared.body)).await {
        Ok(body) => body?,
        Err(_) => return Err(Problem::new(408, "The request took too long to arrive").into()),
    };
    let repeatable = match public_jobs::repeated(app, request, &body, id, time).await? {
        Ok(repeatable) => repeatable,
        Err(answered) => return Ok(answered),
    };
    let answer = run_or_queue(
        request,
        app,
        id,
        request_id,
        body,
        Way { workflow, endpoint, path, live: live.clone(), in_flight, started, deadline },
    )
    .await;
    match repeatable {
        Some(repeatable) => repeatable.keep(app, answer).await,
        None => answer,
    }
}

/// A request on its way: what it leads to, and what it has taken so far.
struct Way<'p> {
    workflow: Arc<Workflow>,
    endpoint: usize,
    path: Vec<(&'p str, String)>,
    live: Arc<Live>,
    in_flight: InFlight,
    started: i64,
    deadline: Instant,
}

async fn run_or_queue(
    request: &HttpRequest,
    app: &App,
    id: Uuid,
    request_id: &str,
    body: Bytes,
    way: Way<'_>,
) -> Result<HttpResponse, Refusal> {
    let Way { workflow, endpoint, path, live, in_flight, started, deadline } = way;
    let plan = workflow.plan.clone();
    let declared = &plan.endpoints[endpoint];
    let media = request.headers().get(CONTENT_TYPE).and_then(|v| v.to_str().ok()).unwrap_or_default();
    let parts = Parts { path, query: form_pairs(request.query_string().as_bytes()), body: Body::read(media, &body)? };
    let header = |name: &str| request.headers().get(name).and_then(|v| v.to_str().ok()).map(str::to_owned);
    let input = plan.input.gather(&declared.input, parts, &header)?;
    let caller = request.peer_addr().map(|address| address.ip().to_string());
    let trace_id = trace_id(request.headers()).unwrap_or_else(|| fresh_id().simple().to_string());
    let prefer = Prefer::of(request.headers());
    if declared.answer == Answer::Later || (declared.answer == Answer::Either && prefer.later) {
        let along = jobs::Along {
            entry: workflow.entries[endpoint].to_string(),
            caller,
            request_id: request_id.to_owned(),
            trace_id,
        };
        let row = app.jobs.row(&live, &workflow, fresh_id(), &input, &along).map_err(Refusal::from)?;
        let run = row.id;
        let mut response = public_jobs::answer_later(app, row, prefer).await?;
        if let Ok(value) = HeaderValue::from_str(&run.to_string()) {
            response.headers_mut().insert(HeaderName::from_static("kanzlei-run"), value);
        }
        return Ok(response);
    }
    let start = Start { id: id.to_string(), input: input.clone(), now: started, caller: caller.clone(), attempt: 1 };
    let run = Run {
        id,
        machine: Machine::new(plan.clone(), start),
        entry: workflow.entries[endpoint].clone(),
        workflow,
        live,
        outside: app.outside.clone(),
        journal: app.journal.clone(),
        started,
        deadline,
        within: declared.time,
        request_id: request_id.to_owned(),
        trace_id,
        caller,
        input,
        in_flight,
    };
    let reply = match run.begin() {
        Begun::Over(reply) => reply,
        Begun::Waits(run, asked, Some(reply)) => {
            // The client has its answer; the rest goes on without it.
            app.background.spawn(run.go_on(asked, None));
            Some(reply)
        }
        Begun::Waits(run, asked, None) => {
            // A task of its own, so that a client that goes away does not stop the run halfway.
            let (sender, receiver) = oneshot::channel();
            actix_web::rt::spawn(run.go_on(asked, Some(sender)));
            receiver.await.unwrap_or(None)
        }
    };
    let head = request.method() == actix_web::http::Method::HEAD;
    let mut response = match reply {
        Some(reply) => respond(reply, head),
        None => HttpResponse::NoContent().finish(),
    };
    if let Ok(value) = HeaderValue::from_str(&id.to_string()) {
        response.headers_mut().insert(HeaderName::from_static("kanzlei-run"), value);
    }
    Ok(response)
}

/// The client's own request id, where it is one that can be logged and sent on.
fn taken_over(headers: &HeaderMap) -> Option<String> {
    let id = headers.get("x-request-id")?.to_str().ok()?;
    let fits = (1..=REQUEST_ID).contains(&id.len())
        && id.bytes().all(|b| b.is_ascii_alphanumeric() || b"-_.:+/=".contains(&b));
    fits.then(|| id.to_owned())
}

/// The trace id of a valid `traceparent` (W3C Trace Context §3.2).
fn trace_id(headers: &HeaderMap) -> Option<String> {
    let mut parts = headers.get("traceparent")?.to_str().ok()?.split('-');
    let hex = |part: &str, length: usize| {
        part.len() == length && part.bytes().all(|b| b.is_ascii_digit() || (b'a'..=b'f').contains(&b))
    };
    let (version, trace, parent) = (parts.next()?, parts.next()?, parts.next()?);
    let zero = |part: &str| part.bytes().all(|b| b == b'0');
    (hex(version, 2) && version != "ff" && hex(trace, 32) && !zero(trace) && hex(parent, 16) && !zero(parent))
        .then(|| trace.to_owned())
}

pub async fn read_body(request: &HttpRequest, payload: &mut Payload, most: usize) -> Result<Bytes, Box<Problem>> {
    let too_large = || Problem::new(413, "Content too large").detail(format!("at most {most} bytes are taken here"));
    let announced =
        request.headers().get(CONTENT_LENGTH).and_then(|v| v.to_str().ok()).and_then(|v| v.parse::<usize>().ok());
    if announced.is_some_and(|length| length > most) {
        return Err(too_large().into());
    }
    let mut body = BytesMut::new();
    while let Some(chunk) = payload.next().await {
        let chunk = chunk.map_err(|error| Problem::new(400, "Malformed body").detail(error.to_string()))?;
        if body.len() + chunk.len() > most {
            return Err(too_large().into());
        }
        body.extend_from_slice(&chunk);
    }
    Ok(body.freeze())
}

/// Header fields that belong to the connection or to the service (RFC 9110 §7.6.1).
fn is_ours(name: &str) -> bool {
    [
        "connection",
        "content-length",
        "transfer-encoding",
        "keep-alive",
        "upgrade",
        "te",
        "trailer",
        "kanzlei-run",
        "x-request-id",
    ]
    .iter()
    .any(|own| name.eq_ignore_ascii_case(own))
}

pub fn respond(reply: Reply, head: bool) -> HttpResponse {
    let status = StatusCode::from_u16(reply.status).unwrap_or(StatusCode::INTERNAL_SERVER_ERROR);
    let mut response = HttpResponse::build(status);
    let mut typed = false;
    for (name, value) in &reply.headers {
        if is_ours(name) {
            continue;
        }
        typed |= name.eq_ignore_ascii_case("content-type");
        if let (Ok(name), Ok(value)) = (HeaderName::try_from(name.as_str()), HeaderValue::from_str(value)) {
            response.append_header((name, value));
        }
    }
    let file = file_bytes(&reply.body);
    let (media, body) = match &reply.body {
        Value::Undefined => return response.finish(),
        _ if file.is_some() => {
            let (media, name, bytes) = file.unwrap_or_default();
            if let Some(name) =
                name.filter(|_| !reply.headers.iter().any(|(n, _)| n.eq_ignore_ascii_case("content-disposition")))
            {
                let name = name.replace(|c: char| c == '"' || c.is_control(), "_");
                response.insert_header(("Content-Disposition", format!("attachment; filename=\"{name}\"")));
            }
            if !typed {
                response.content_type(media);
            }
            return if head { response.finish() } else { response.body(bytes) };
        }
        Value::Text(text) => ("text/plain; charset=utf-8", text.as_bytes().to_vec()),
        other => ("application/json", other.to_json().into_bytes()),
    };
    if !typed {
        response.content_type(if reply.problem { "application/problem+json" } else { media });
    }
    if head {
        return response.no_chunking(body.len() as u64).body(actix_web::body::SizedStream::new(
            body.len() as u64,
            futures_util::stream::empty::<Result<Bytes, std::io::Error>>(),
        ));
    }
    response.body(body)
}

/// Paths below `/~/`.
async fn own_path(
    path: &str,
    request: &HttpRequest,
    payload: &mut Payload,
    app: &Data<App>,
) -> Result<HttpResponse, Refusal> {
    if let Some(rest) = path.strip_prefix("jobs/") {
        return public_jobs::job_path(rest, request, app).await;
    }
    if let Some(token) = path.strip_prefix("callbacks/") {
        return public_jobs::callback(token, request, payload, app).await;
    }
    match (path, request.method().as_str()) {
        ("health", "GET" | "HEAD") => {
            let away = app.journal.database_away.load(std::sync::atomic::Ordering::Relaxed);
            let status = if away { "warn" } else { "pass" };
            let journal =
                serde_json::json!({"dropped": app.journal.dropped.load(std::sync::atomic::Ordering::Relaxed)});
            Ok(HttpResponse::Ok().content_type("application/json").body(
                serde_json::json!({"status": status, "database": if away { "unavailable" } else { "available" }, "journal": journal}).to_string(),
            ))
        }
        ("openapi.json", "GET" | "HEAD") => {
            let document = app.live.load().openapi.clone();
            Ok(HttpResponse::Ok()
                .content_type("application/json")
                .insert_header(("Cache-Control", "no-cache"))
                .body(document))
        }
        ("health" | "openapi.json", _) => Err(Refusal::not_allowed("GET, HEAD")),
        _ => Err(Problem::new(404, "Not found").detail(format!("there is no /~/{path}")).into()),
    }
}
