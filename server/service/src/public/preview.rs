//! Drafts at their preview addresses, below `/~/drafts/{token}/`: each call is a trial, which pages of any origin may make.
//!
//! Everything that is live can be called there too, as a trial: a front end changes its base address and nothing else. Every answer is
//! marked with `Trial-Id` and not cached; nothing is kept in the journal or counted. Messages to the webhooks of a draft are
//! kept as they arrive, proven or not, so that their author can look at them before mapping them.

use super::access::Caller;
use super::intake;
use kanzlei_runtime::files::Holder;
use std::sync::Arc;
use std::time::{Duration, Instant};

use actix_web::http::header::{
    ACCESS_CONTROL_ALLOW_HEADERS, ACCESS_CONTROL_ALLOW_METHODS, ACCESS_CONTROL_ALLOW_ORIGIN,
    ACCESS_CONTROL_EXPOSE_HEADERS, ACCESS_CONTROL_MAX_AGE, ACCESS_CONTROL_REQUEST_HEADERS, ALLOW, CACHE_CONTROL,
    HeaderMap, HeaderName, HeaderValue, LOCATION, RETRY_AFTER,
};
use actix_web::web::{Data, Payload};
use actix_web::{HttpRequest, HttpResponse};
use kanzlei_api::jobs::{JobDocument, JobLinks};
use kanzlei_engine::machine::{Machine, Reply, Start};
use kanzlei_lang::document::workflow::Answer;
use kanzlei_model::problem::Problem;
use kanzlei_model::run::RunState;
use kanzlei_model::trace::Trace;
use kanzlei_rehearsal::simulate::Simulation;
use kanzlei_runtime::clock::{fresh_id, now};
use kanzlei_runtime::trial::Trial;
use kanzlei_store::trials::Preview;
use uuid::Uuid;

use super::negotiate;
use super::prefer::Prefer;
use super::refusal::{Refusal, Sent};
use super::respond::{respond, respond_as};
use super::{admit, gather, read, route, webhooks};
use crate::App;
use crate::control::previews::Built;
use crate::control::trials::context;
use crate::control::trials::kept::{self, About};

/// How long a call may take, waits that it skips not counted.
const WITHIN: Duration = Duration::from_secs(60);
/// The longest list of headers that a page asks for.
const ASKED: usize = 2048;

/// Serves a path below `/~/drafts/`.
pub async fn serve(
    path: &str,
    request: &HttpRequest,
    payload: &mut Payload,
    app: &Data<App>,
) -> Result<HttpResponse, Refusal> {
    let (token, rest) = path.split_once('/').unwrap_or((path, ""));
    let closed = || {
        let detail = "no draft can be called at this address; it was closed, or its time is over";
        Problem::new(404, "Not found").detail(detail)
    };
    let found = app.previews.find(app, token).await.map_err(|error| Refusal::from(error.as_problem()))?;
    let preview = found.ok_or_else(closed)?;
    let id = fresh_id();
    let base = format!("/~/drafts/{token}");
    let mut response = match answer(&preview, &base, &format!("/{rest}"), request, payload, app, id).await {
        Ok(response) => response,
        Err(refusal) => refusal.response(),
    };
    let headers = response.headers_mut();
    for (name, value) in [
        (ACCESS_CONTROL_ALLOW_ORIGIN, "*"),
        (ACCESS_CONTROL_EXPOSE_HEADERS, "*"),
        (CACHE_CONTROL, "no-store"),
        (HeaderName::from_static("x-robots-tag"), "noindex"),
    ] {
        headers.insert(name, HeaderValue::from_static(value));
    }
    if let Ok(value) = HeaderValue::from_str(&id.to_string()) {
        headers.insert(HeaderName::from_static("trial-id"), value);
    }
    Ok(response)
}

async fn answer(
    preview: &Preview,
    base: &str,
    path: &str,
    request: &HttpRequest,
    payload: &mut Payload,
    app: &Data<App>,
    id: Uuid,
) -> Result<HttpResponse, Refusal> {
    let built = app.previews.built(app, preview).await.map_err(|error| Refusal::from(error.as_problem()))?;
    if let Some(job) = path.strip_prefix("/~/jobs/") {
        return result(app, job, request).await;
    }
    let mut sent = Sent::default();
    // A draft is called below its own path, whatever its host will be.
    let method = request.method().as_str();
    let host = built.table.host_of(method, path).to_owned();
    let routed = match route::find(&built.table, &host, method, path, &mut sent)? {
        route::Routed::Endpoint(routed) => routed,
        route::Routed::Methods(mut response) => {
            allow_pages(request.headers(), response.headers_mut());
            return Ok(response);
        }
    };
    let formats = &routed.declared().web.formats;
    let format = negotiate::format(request, formats)?.map(|format| (format, formats.clone()));
    let _places = app.previews.enter(&built).ok_or_else(|| Refusal {
        retry_after: Some(1),
        ..Problem::new(503, "Too many trials").detail("this draft is called too often at once").into()
    })?;
    let sender = Caller::of_address(app, request);
    let mut arrival = admit::arrive(app, request, &sender)?;
    let (arrived, within) = (Instant::now(), routed.declared().time.min(WITHIN));
    let files = Holder::direct(app.effects.files.clone());
    let plan = &routed.workflow.plan;
    let input = if intake::takes_files(plan, routed.declared()) {
        let (of, unknown, most) = ((&**plan, routed.declared()), Caller::default(), routed.declared().body);
        let taken = intake::take(app, request, payload, of, &unknown, most, &files, &mut arrival).await?;
        gather::gathered(request, &routed, taken.body, taken.files)?
    } else {
        let body = read::body(request, payload, routed.declared().body, arrived + within, &mut arrival).await?;
        match &routed.declared().webhook {
            None => gather::input(request, &routed, &body, &mut sent)?,
            Some(_) => match webhooks::capture(app, request, &routed, &body, id, &mut sent).await? {
                webhooks::Captured::Fits(input) => input,
                webhooks::Captured::Answered(response) => return Ok(response),
            },
        }
    };
    let _admitted = admit::enter(app, &sender, Instant::now(), within)?;
    drop(arrival);
    let (declared, entry) = (routed.declared().answer, routed.workflow.entries[routed.endpoint].to_string());
    let later = declared == Answer::Later || (declared == Answer::Either && Prefer::of(request.headers()).later);
    let (state, reply) = tried(app, preview, &built, &routed, input, entry, (id, within, files.clone())).await;
    if later {
        return Ok(accepted(app, base, &routed.workflow.plan.name, id, state, reply, files));
    }
    Ok(match reply {
        Some(reply) => respond_as(reply, request, &files, format.as_ref()).await,
        None => HttpResponse::NoContent().finish(),
    })
}

/// Runs the workflow as a trial; returns how it ended and what it replied.
async fn tried(
    app: &Data<App>,
    preview: &Preview,
    built: &Built,
    routed: &route::Route<'_>,
    input: kanzlei_model::value::Value,
    entry: String,
    (id, within, files): (Uuid, Duration, Arc<Holder>),
) -> (RunState, Option<Reply>) {
    let (plan, begins) = (routed.workflow.plan.clone(), now());
    let trace = Trace { id: Uuid::new_v4().as_u128(), ..Trace::default() };
    let start = Start::new(id.to_string(), input.clone(), begins);
    let trial = Trial {
        machine: Machine::new(plan.clone(), start).with_key(app.jobs.key_of(id)),
        live: built.table.clone(),
        effects: app.effects.clone(),
        about: context(app, id, trace, &plan, files),
        modes: built.modes.clone(),
        simulation: Simulation::new(built.stubs.get(&plan.name)),
        begins,
        within,
        control: None,
        only: None,
    };
    let ended = trial.run().await;
    let state = ended.machine.ended().map_or(RunState::Failed, |ended| ended.state);
    let reply = ended.machine.reply().cloned();
    let operator = preview.operator.clone();
    kept::keep(app, ended, About { id, begins, input, trace, operator, entry, until: String::new() }).await;
    (state, reply)
}

/// The answer 202 of an endpoint that answers later. Waits are skipped, so the job has ended already.
fn accepted(
    app: &App,
    base: &str,
    workflow: &str,
    id: Uuid,
    state: RunState,
    reply: Option<Reply>,
    files: Arc<Holder>,
) -> HttpResponse {
    let (own, at) = (format!("{base}/~/jobs/{id}"), now());
    let document = JobDocument {
        id,
        workflow: workflow.to_owned(),
        state,
        queued: at,
        due: at,
        started: Some(at),
        ended: Some(at),
        progress: None,
        note: None,
        notes: Vec::new(),
        remaining_s: None,
        answered: reply.is_some(),
        links: JobLinks { result: format!("{own}/result"), events: format!("{own}/events"), own: own.clone() },
        stopping: false,
        waits_for: None,
        until: None,
        result_until: None,
    };
    app.previews.ended(id, document.clone(), reply, files);
    HttpResponse::Accepted().insert_header((LOCATION, own)).insert_header((RETRY_AFTER, "1")).json(document)
}

/// A job of a draft, or its result, as polled at `Location`.
async fn result(app: &App, rest: &str, request: &HttpRequest) -> Result<HttpResponse, Refusal> {
    if !matches!(request.method().as_str(), "GET" | "HEAD") {
        return Err(Refusal::not_allowed("GET, HEAD"));
    }
    let (id, part) = rest.split_once('/').unwrap_or((rest, ""));
    let found = id.parse().ok().and_then(|id| app.previews.result(id));
    let (document, reply, files) = found.ok_or_else(|| {
        let detail = "jobs of drafts are held for a while, by the process that ran them; see `kanzlei trials`";
        Refusal::from(Problem::new(404, "No such job").detail(detail))
    })?;
    match part {
        "" => Ok(HttpResponse::Ok().json(document)),
        "result" => Ok(match reply {
            Some(reply) => respond(reply, request, &files).await,
            None => HttpResponse::NoContent().finish(),
        }),
        _ => Err(Problem::new(404, "Not found").detail("a job of a draft has a `result`, and no events").into()),
    }
}

/// What a page may send: the methods of the path, and the headers it asks for (Fetch standard, CORS protocol).
fn allow_pages(asked: &HeaderMap, answer: &mut HeaderMap) {
    if let Some(allow) = answer.get(ALLOW).cloned() {
        answer.insert(ACCESS_CONTROL_ALLOW_METHODS, allow);
    }
    let wanted = asked.get(ACCESS_CONTROL_REQUEST_HEADERS).filter(|wanted| wanted.len() <= ASKED).cloned();
    answer.insert(ACCESS_CONTROL_ALLOW_HEADERS, wanted.unwrap_or_else(|| HeaderValue::from_static("*")));
    answer.insert(ACCESS_CONTROL_MAX_AGE, HeaderValue::from_static("600"));
}
