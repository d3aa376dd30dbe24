//! Jobs for clients: the answer 202, and the paths below `/~/jobs/`.

use std::sync::Arc;
use std::time::{Duration, Instant};

use actix_web::http::StatusCode;
use actix_web::http::header::{HeaderName, HeaderValue};
use actix_web::web::Data;
use actix_web::{HttpRequest, HttpResponse};
use kanzlei_model::problem::Problem;
use kanzlei_model::run::{HEADER, RunState};
use kanzlei_runtime::clock::now;
use kanzlei_runtime::files::Holder;
use kanzlei_runtime::queue::accept::NotQueued;
use kanzlei_runtime::queue::follow::Follower;
use kanzlei_runtime::queue::reply_of;
use kanzlei_store::queue::{JobPhase, JobRow, NewJob};
use uuid::Uuid;

use super::access;
use super::events::events;
use super::prefer::Prefer;
use super::refusal::{Refusal, from_store, timely, unavailable};
use super::respond::respond;
use crate::App;

/// Queues a request as a job and answers with its address, or with its result when that is available within
/// the time the client waits.
pub async fn answer_later(
    app: &App,
    request: &HttpRequest,
    row: NewJob,
    prefer: Prefer,
) -> Result<HttpResponse, Refusal> {
    let id = row.id;
    // As it was queued; a later poll shows its progress.
    let fresh = JobRow::queued(&row);
    app.jobs.accept_in_time(vec![row]).await.map_err(|refused| not_queued(app, refused))?;
    let mut job = None;
    if let Some(wait) = prefer.wait {
        job = Some(wait_for(app, id, wait, |job| job.phase.ended() || job.status.is_some()).await?);
    }
    let applied = match (prefer.later, prefer.wait) {
        (true, Some(wait)) => format!("respond-async, wait={}", wait.as_secs()),
        (true, None) => "respond-async".to_owned(),
        (false, Some(wait)) => format!("wait={}", wait.as_secs()),
        (false, None) => String::new(),
    };
    let mut response = match &job {
        Some(job) if job.phase.ended() || job.status.is_some() => result_of(app, job, request).await?,
        _ => {
            let job = job.unwrap_or_else(|| Arc::new(fresh));
            let (document, remaining) = app.jobs.document(&job).await;
            HttpResponse::Accepted()
                .insert_header(("Location", format!("/~/jobs/{id}")))
                .insert_header(("Retry-After", kanzlei_runtime::queue::Jobs::retry_after(remaining).to_string()))
                .json(document)
        }
    };
    if let Ok(value) = HeaderValue::from_str(&applied)
        && !applied.is_empty()
    {
        response.headers_mut().insert(HeaderName::from_static("preference-applied"), value);
    }
    Ok(response)
}

/// The answer to what was not queued.
pub fn not_queued(app: &App, refused: NotQueued) -> Refusal {
    match refused {
        NotQueued::Full { status, detail } => {
            let mut refusal = Refusal::from(Problem::new(status, "The queue is full").detail(detail));
            refusal.retry_after = Some(5);
            refusal
        }
        NotQueued::Unavailable => unavailable(),
        NotQueued::Unanswered => {
            app.pulse.missed();
            let detail = "it does not answer; whether the job was queued is not known, so repeat the request with its X-Request-Id";
            let problem = Problem::new(503, "The database is unavailable").detail(detail);
            Refusal { retry_after: Some(2), ..problem.into() }
        }
        // The author finds the cause in the log; it may quote records.
        NotQueued::Failed(_) => Problem::new(500, "The job could not be queued").into(),
    }
}

pub async fn found(app: &App, id: Uuid) -> Result<JobRow, Refusal> {
    match timely(app, app.jobs.store.job(id)).await? {
        Ok(Some(job)) => Ok(job),
        Ok(None) => Err(unknown(&id.to_string())),
        Err(error) => Err(from_store("reading a job", error)),
    }
}

fn unknown(id: &str) -> Refusal {
    Problem::new(404, "No such job").detail(format!("there is no job {id} here, or not any more")).into()
}

/// Follows a job, where there is room for a follower.
pub fn followed(app: &App, id: Uuid) -> Result<Follower, Refusal> {
    let full = || Problem::new(503, "Too many clients follow").detail("poll without `Prefer: wait`, in a moment");
    app.jobs.follow(id).ok_or_else(|| Refusal { retry_after: Some(2), ..full().into() })
}

/// The job of a follower.
pub async fn job_of(app: &App, follower: &mut Follower, id: Uuid) -> Result<Arc<JobRow>, Refusal> {
    match timely(app, follower.job()).await? {
        Ok(Some(job)) => Ok(job),
        Ok(None) => Err(unknown(&id.to_string())),
        Err(error) => Err(from_store("reading a job", error)),
    }
}

/// Waits for a condition of a job, at most for a given time and not while the process stops; returns the job at that
/// moment.
async fn wait_for(
    app: &App,
    id: Uuid,
    within: Duration,
    wanted: impl Fn(&JobRow) -> bool,
) -> Result<Arc<JobRow>, Refusal> {
    let until = Instant::now() + within;
    let mut follower = followed(app, id)?;
    loop {
        let job = job_of(app, &mut follower, id).await?;
        let left = until.saturating_duration_since(Instant::now());
        if wanted(&job) || left.is_zero() || follower.stopping() {
            return Ok(job);
        }
        follower.changed(left).await;
    }
}

/// The result of a job, exactly as the direct answer would have been.
async fn result_of(app: &App, job: &JobRow, request: &HttpRequest) -> Result<HttpResponse, Refusal> {
    if job.expires.is_some_and(|expires| expires < now()) {
        return Err(Problem::new(410, "The result is gone").detail("results are kept for a while only").into());
    }
    let mut response = match (&job.reply, job.phase) {
        (Some(reply), _) => {
            let reply = app.jobs.secrets.unguard(reply).and_then(|text| reply_of(&text));
            match reply {
                Some(reply) => respond(reply, request, &Holder::of_job(app.effects.files.clone(), job.id)).await,
                None => return Err(Problem::new(500, "The result cannot be read").into()),
            }
        }
        (None, JobPhase::Cancelled) => {
            return Err(Problem::new(409, "The job was cancelled").detail("it has no result").into());
        }
        _ => HttpResponse::NoContent().finish(),
    };
    if let Ok(value) = HeaderValue::from_str(&job.id.to_string()) {
        response.headers_mut().insert(HeaderName::from_static(HEADER), value);
    }
    Ok(response)
}

/// Paths below `/~/jobs/`.
pub async fn path(rest: &str, request: &HttpRequest, app: &Data<App>) -> Result<HttpResponse, Refusal> {
    let (text, part) = rest.split_once('/').unwrap_or((rest, ""));
    let Ok(id) = text.parse::<Uuid>() else {
        return Err(Problem::new(404, "No such job").detail(format!("`{text}` is not the id of a job")).into());
    };
    let caller = found(app, id).await?.caller.name;
    if !access::may_see(app, request, caller.as_deref()).await? {
        // As if it were not there: ids of others are not confirmed.
        return Err(unknown(&id.to_string()));
    }
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
    let job = match prefer.wait {
        Some(wait) => wait_for(app, id, wait, |job| job.phase.ended()).await?,
        None => Arc::new(found(app, id).await?),
    };
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
        response.insert_header(("Retry-After", kanzlei_runtime::queue::Jobs::retry_after(remaining).to_string()));
    }
    response.insert_header(("Cache-Control", "no-store"));
    response.json(document)
}

async fn result(app: &App, id: Uuid, request: &HttpRequest) -> Result<HttpResponse, Refusal> {
    let there = |job: &JobRow| job.phase.ended() || job.status.is_some();
    let job = match Prefer::of(request.headers()).wait {
        Some(wait) => wait_for(app, id, wait, there).await?,
        None => Arc::new(found(app, id).await?),
    };
    match there(&job) {
        true => result_of(app, &job, request).await,
        false => Ok(document(app, &job, StatusCode::ACCEPTED).await),
    }
}

async fn cancel(app: &App, id: Uuid) -> Result<HttpResponse, Refusal> {
    let before = found(app, id).await?;
    let phase = timely(app, app.jobs.cancel_one(id, "the client"))
        .await?
        .map_err(|error| from_store("cancelling a job", error))?;
    match phase {
        None => Err(unknown(&id.to_string())),
        Some(JobPhase::Ready | JobPhase::Blocked) => Ok(document(app, &found(app, id).await?, StatusCode::OK).await),
        // It stops before its next step.
        Some(JobPhase::Running) => Ok(document(app, &found(app, id).await?, StatusCode::ACCEPTED).await),
        Some(phase) => {
            let state = phase.state(false, true);
            let ended = before.ended.map(|at| at.to_string()).unwrap_or_default();
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
