//! Running a workflow for a request, or queueing it as a job.

use std::sync::Arc;

use actix_web::http::header::{HeaderName, HeaderValue};
use actix_web::{HttpRequest, HttpResponse};
use kanzlei_engine::machine::{Machine, Start};
use kanzlei_lang::document::formats::Format;
use kanzlei_lang::document::workflow::{Answer, Beyond};
use kanzlei_model::problem::Problem;
use kanzlei_model::run::HEADER;
use kanzlei_model::time::Timestamp;
use kanzlei_model::trace::Trace;
use kanzlei_model::value::Value;
use kanzlei_runtime::clock::{fresh_id, now};
use kanzlei_runtime::direct::{Begun, DirectRun};
use kanzlei_runtime::files::Holder;
use kanzlei_runtime::lines;
use kanzlei_runtime::places::NoPlace;
use kanzlei_runtime::queue::Origin;
use tokio::sync::oneshot;
use uuid::Uuid;

use super::access::Caller;
use super::admit::Admitted;
use super::prefer::Prefer;
use super::refusal::{Refusal, unavailable};
use super::route::Route;
use super::{intake, jobs, read, respond};
use crate::App;

/// When a request to a workflow that is held is worth another attempt, in seconds.
const HELD: u32 = 30;

/// The request that runs.
pub struct About<'r> {
    pub id: Uuid,
    pub request_id: &'r str,
    pub caller: Caller,
    /// Bytes of its body.
    pub sent: usize,
    /// When it was admitted, in microseconds.
    pub started: Timestamp,
    /// Its files.
    pub files: Arc<Holder>,
    /// The format of its answer, where its endpoint has several.
    pub format: Option<Format>,
}

/// Runs the workflow, or queues a job where the endpoint or the client wants it later.
pub async fn run_or_queue(
    app: &App,
    request: &HttpRequest,
    route: Route<'_>,
    admitted: Admitted,
    input: Value,
    about: About<'_>,
) -> Result<HttpResponse, Refusal> {
    let prefer = Prefer::of(request.headers());
    let answer = route.declared().answer;
    if answer == Answer::Later || (answer == Answer::Either && prefer.later) {
        return Box::pin(queue(app, request, route, input, about, prefer)).await;
    }
    if app.jobs.is_held(&route.workflow.plan.name) {
        let problem = Problem::new(503, "On hold").detail("an operator holds this workflow; try again later");
        return Err(Refusal { retry_after: Some(HELD), ..problem.into() });
    }
    let caller = about.caller.known;
    let trace = trace_of(app, request);
    if app.jobs.telemetry.keeps(&trace) {
        lines::current().iter().for_each(|lines| lines.trace(trace.header(app.jobs.span_of(about.id))));
    }
    let entry = route.workflow.entries[route.endpoint].clone();
    let place = match route.declared().at_once {
        None => None,
        Some((most, beyond)) => {
            let until = (beyond == Beyond::Wait).then_some(admitted.deadline);
            let entered = Box::pin(app.effects.shared.places.enter(&entry, most, until)).await;
            Some(entered.map_err(|why| no_place(why, most, beyond))?)
        }
    };
    // A run that waited for its place begins now.
    let started = if place.is_some() { now() } else { about.started };
    let start = Start {
        id: about.id.to_string(),
        input: input.clone(),
        now: started,
        caller: caller.clone(),
        attempt: 1,
        generation: 0,
        settings: None,
    };
    let formats = about.format.map(|format| (format, route.declared().web.formats.clone()));
    let plan = &route.workflow.plan;
    let machine = Machine::new(plan.clone(), start);
    let run = Box::new(DirectRun {
        id: about.id,
        within: route.declared().time,
        // The key is for calls and UUIDs alone, and takes longer to make than a small run to end.
        machine: if plan.may_call() || plan.uses_run { machine.with_key(app.jobs.key_of(about.id)) } else { machine },
        entry,
        workflow: route.workflow,
        live: route.live,
        effects: app.effects.clone(),
        journal: app.journal.clone(),
        started,
        deadline: admitted.deadline,
        request_id: about.request_id.to_owned(),
        trace,
        caller,
        files: about.files.clone(),
        input,
        sent: about.sent,
        in_flight: admitted.in_flight,
        place,
        notes: app.notes.clone(),
    });
    let reply = match run.begin() {
        Begun::Over(reply, unrecorded) => {
            if let Some(unrecorded) = unrecorded {
                // In this thread, behind the answer.
                actix_web::rt::spawn(async move { unrecorded.record() });
            }
            reply
        }
        Begun::Waits(run, asked, Some(reply)) => {
            // The client has its answer; the rest runs without it.
            app.runtime.spawn(lines::within(lines::current(), run.go_on(asked, None)));
            Some(reply)
        }
        Begun::Waits(run, asked, None) => {
            // A task of its own, so that a client that disconnects does not stop the run halfway.
            let (sender, receiver) = oneshot::channel();
            actix_web::rt::spawn(lines::within(lines::current(), run.go_on(asked, Some(sender))));
            receiver.await.unwrap_or(None)
        }
    };
    let response = match reply {
        Some(reply) => respond::respond_as(reply, request, &about.files, formats.as_ref()).await,
        None => HttpResponse::NoContent().finish(),
    };
    Ok(with_run(response, about.id))
}

/// Queues a job.
async fn queue(
    app: &App,
    request: &HttpRequest,
    route: Route<'_>,
    input: Value,
    about: About<'_>,
    prefer: Prefer,
) -> Result<HttpResponse, Refusal> {
    let origin = Origin {
        entry: route.workflow.entries[route.endpoint].to_string(),
        caller: about.caller.known,
        request_id: about.request_id.to_owned(),
        trace: trace_of(app, request),
        generation: 0,
        drawn: true,
    };
    let id = app.jobs.id_of_request(about.id);
    let row = app.jobs.row(&route.live, &route.workflow, id, &input, &origin).map_err(Refusal::from)?;
    about.files.hand_over(&input, id).await.map_err(|why| intake::refused("", why))?;
    let job = row.id;
    Ok(with_run(jobs::answer_later(app, request, row, prefer).await?, job))
}

/// The trace that a request belongs to, or a new one.
fn trace_of(app: &App, request: &HttpRequest) -> Trace {
    read::trace(request.headers()).unwrap_or_else(|| app.jobs.telemetry.fresh(fresh_id()))
}

/// The answer to a request beyond the runs that may be at once.
fn no_place(why: NoPlace, most: u32, beyond: Beyond) -> Refusal {
    let runs = if most == 1 { "run" } else { "runs" };
    let problem = match (why, beyond) {
        (NoPlace::Unavailable, _) => return unavailable(),
        (NoPlace::Full, Beyond::Refuse) => Problem::new(429, "Too many runs at once")
            .detail(format!("at most {most} {runs} at once; try again in a moment")),
        (NoPlace::Full, Beyond::Wait) => Problem::new(503, "Too many runs at once")
            .detail(format!("at most {most} {runs} at once, and none ended in time")),
    };
    Refusal { retry_after: Some(1), ..problem.into() }
}

/// The answer with the id of its run.
pub fn with_run(mut response: HttpResponse, run: Uuid) -> HttpResponse {
    let mut text = Uuid::encode_buffer();
    if let Ok(value) = HeaderValue::from_str(run.hyphenated().encode_lower(&mut text)) {
        response.headers_mut().insert(HeaderName::from_static(HEADER), value);
    }
    response
}
