//! The public listener: a request goes through named stages from top to bottom, each in a file of its own.
//!
//! [`route`] finds the endpoint and the revision, [`access`] who calls it, [`allow`] how much it may ask for, [`negotiate`] the format of the answer, [`admit`] bounds what arrives and what is in flight, [`read`] reads the body in between ([`intake`] where files come in it), [`gather`] makes the input, [`idempotency`] claims the
//! request's key or replays its answer, [`execute`] runs the workflow or queues a job, [`respond`] writes the
//! answer ([`download`] one that is a file), [`web`] what browsers and caches learn. A message of a webhook goes through [`webhooks`] instead, once it has arrived. No stage calls one above it. A stage that refuses the request returns a [`Refusal`], which is
//! kept for the author to see. The service's own paths below `/~/` are in [`own`];
//! drafts at their addresses in [`preview`].

pub(crate) mod access;
mod address;
pub(crate) mod admit;
mod allow;
pub mod callbacks;
mod cookies;
mod download;
mod events;
mod execute;
mod gather;
mod idempotency;
mod intake;
mod jobs;
mod links;
mod negotiate;
mod own;
mod prefer;
mod preview;
mod read;
mod refusal;
mod respond;
mod route;
mod token;
pub(crate) mod uploads;
mod web;
mod webhooks;

use std::sync::Arc;
use std::time::Instant;

use actix_web::http::header::{HeaderName, HeaderValue, SERVER, X_CONTENT_TYPE_OPTIONS};
use actix_web::web::{Data, Payload};
use actix_web::{HttpRequest, HttpResponse};
use kanzlei_model::run::HEADER;
use kanzlei_model::value::Value;
use kanzlei_runtime::clock::{fresh_id, now};
use kanzlei_runtime::files::Holder;
use kanzlei_runtime::lines::{self, Lines};
use kanzlei_runtime::live::Live;
use kanzlei_runtime::metrics::class;
use kanzlei_runtime::usage::Became;
use refusal::{Refusal, Sent};
use uuid::Uuid;

use crate::{App, host};

/// Serves one request to the public listener.
pub fn serve(request: HttpRequest, mut payload: Payload, app: Data<App>) -> impl Future<Output = HttpResponse> {
    let id = fresh_id();
    let request_id = read::request_id(request.headers()).unwrap_or_else(|| id.to_string());
    // Around the whole, so that the future is not held twice.
    let lines = Lines::of_request(request_id.clone(), id);
    let served = async move {
        let begun = Instant::now();
        let mut sent = Sent::default();
        let answered = answer(&request, &mut payload, &app, id, &request_id, &mut sent).await;
        let (standing, used, entry) = (sent.standing.take(), sent.used.take(), sent.entry.clone());
        let _place = sent.place.take();
        let mut response = match answered {
            Ok(response) => response,
            Err(mut refusal) => {
                refusal.give_type(&app.problem_types);
                let response = refusal.response();
                if let Some((workflow, _)) = &entry
                    && refusal::BROUGHT.contains(&response.status().as_u16())
                {
                    let (revision, status) = (workflow.revision, response.status().as_u16());
                    workflow.counters.steps().add_refused(revision, status, begun.elapsed().into(), now());
                }
                refusal::keep(&app, &request, id, &request_id, sent, &refusal);
                response
            }
        };
        if let Some((workflow, endpoint)) = &entry {
            response = web::finish(&workflow.plan.endpoints[*endpoint], &request, response).await;
        }
        if let Some(standing) = &standing {
            allow::show(standing, &mut response);
        }
        if let Some((_, standing)) = &standing {
            app.jobs.totals.allowances.add(if standing.refused.is_some() { "refused" } else { "allowed" });
        }
        let answers =
            entry.as_ref().map_or(&app.jobs.totals.elsewhere, |(workflow, _)| &workflow.counters.metrics.answers);
        answers.add(class(response.status().as_u16()), begun.elapsed());
        if let (Some(key), Some((workflow, _))) = (used, &entry) {
            let refused = standing.is_some_and(|(_, standing)| standing.refused.is_some());
            let became = match response.status().is_server_error() {
                true => Became::Failed,
                false if refused => Became::Refused,
                false => Became::Answered,
            };
            app.usage.count(&key, &workflow.plan.name, now(), became);
        }
        name_run(&app.run_header, &mut response);
        if let (Ok(server), false) = (HeaderValue::from_str(&app.server), app.server.is_empty()) {
            response.headers_mut().insert(SERVER, server);
        }
        // What an answer is, its media type says, not a browser's guess.
        response.headers_mut().insert(X_CONTENT_TYPE_OPTIONS, HeaderValue::from_static("nosniff"));
        if let Ok(value) = HeaderValue::from_str(&request_id) {
            response.headers_mut().insert(read::REQUEST_ID.clone(), value);
        }
        response
    };
    lines::within(Some(lines), served)
}

/// Calls the header field with the id of the run as the configuration does.
fn name_run(name: &str, response: &mut HttpResponse) {
    if name.eq_ignore_ascii_case(HEADER) {
        return;
    }
    let Some(run) = response.headers_mut().remove(HEADER).next() else { return };
    if let Ok(name) = HeaderName::try_from(name) {
        response.headers_mut().insert(name, run);
    }
}

async fn answer(
    request: &HttpRequest,
    payload: &mut Payload,
    app: &Data<App>,
    id: Uuid,
    request_id: &str,
    sent: &mut Sent,
) -> Result<HttpResponse, Refusal> {
    if let Some(path) = request.uri().path().strip_prefix("/~/") {
        return Box::pin(own::serve(path, request, payload, app)).await;
    }
    let live = app.live.load_full();
    let (host, path) = (host::of(request.uri(), request.headers()), request.uri().path());
    let routed = match route::find(&live, &host, request.method().as_str(), path, sent)? {
        route::Routed::Endpoint(routed) => routed,
        route::Routed::Methods(mut response) => {
            web::preflight(&live, &host, request, &mut response);
            return Ok(response);
        }
    };
    let caller = access::caller(app, request, &routed).await?;
    let (routed, caller) = match live.graduals.is_empty() {
        true => (routed, caller),
        // Rare, and so no part of the future.
        false => Box::pin(side_by_side(app, request, &live, (routed, caller), id, sent)).await?,
    };
    sent.used = caller.key.clone();
    let most = allow::count(app, &routed, &caller, sent).await?;
    // Nothing runs for a client that accepts none of what would come of it.
    let format = negotiate::format(request, &routed.declared().web.formats)?;
    let mut arrival = admit::arrive(app, request, &caller)?;
    let within = routed.declared().time;
    let files = Holder::direct(app.effects.files.clone());
    if intake::takes_files(&routed.workflow.plan, routed.declared()) {
        let of = (&*routed.workflow.plan, routed.declared());
        let taken = Box::pin(intake::take(app, request, payload, of, &caller, most, &files, &mut arrival)).await?;
        // Files take as long as they take; the run's time begins when they have come.
        let admitted = admit::enter(app, &caller, Instant::now(), within)?;
        drop(arrival);
        let sent = taken.held;
        let input = gather::gathered(request, &routed, taken.body, taken.files)?;
        let about = execute::About { id, request_id, caller, sent, started: now(), files, format };
        return Box::pin(perform(app, request, routed, admitted, input, about)).await;
    }
    let arrived = Instant::now();
    let body = read::body(request, payload, most, arrived + within, &mut arrival).await?;
    let admitted = admit::enter(app, &caller, arrived, within)?;
    drop(arrival);
    if routed.declared().webhook.is_some() {
        let about = execute::About { id, request_id, caller, sent: body.len(), started: now(), files, format };
        return Box::pin(webhooks::receive(app, request, routed, admitted, &body, about, sent)).await;
    }
    let input = gather::input(request, &routed, &body, sent)?;
    let about = execute::About { id, request_id, caller, sent: body.len(), started: now(), files, format };
    perform(app, request, routed, admitted, input, about).await
}

/// The endpoint and the caller of a request where revisions stand side by side: the other one may ask for more than the live one.
async fn side_by_side<'p>(
    app: &Data<App>,
    request: &HttpRequest,
    live: &'p Arc<Live>,
    (routed, caller): (route::Route<'p>, access::Caller),
    id: Uuid,
    sent: &mut Sent,
) -> Result<(route::Route<'p>, access::Caller), Refusal> {
    let Some(other) = route::gradual(live, &routed, request, &caller, id, sent) else { return Ok((routed, caller)) };
    let caller = access::caller(app, request, &other).await?;
    Ok((other, caller))
}

/// Claims the key of a request, and runs its workflow or queues it as a job.
async fn perform(
    app: &Data<App>,
    request: &HttpRequest,
    routed: route::Route<'_>,
    admitted: admit::Admitted,
    input: Value,
    about: execute::About<'_>,
) -> Result<HttpResponse, Refusal> {
    let key = match idempotency::claim(app, request, &routed, &about.caller, &input, about.id).await? {
        idempotency::Claim::Without => None,
        idempotency::Claim::Claimed(key) => Some(key),
        idempotency::Claim::Answered(response) => return Ok(response),
    };
    let answer = execute::run_or_queue(app, request, routed, admitted, input, about).await;
    match key {
        Some(key) => Box::pin(key.keep(app, answer)).await,
        None => answer,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// It is moved more than once; what is rare and large is not part of it.
    #[test]
    fn the_future_of_a_request_is_small() {
        fn size<A, B, C, F>(_: impl Fn(A, B, C) -> F) -> usize {
            size_of::<F>()
        }
        assert!(size(serve) < 3000, "{}", size(serve));
    }
}
