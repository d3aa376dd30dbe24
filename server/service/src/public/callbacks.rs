//! Callbacks: bodies that arrive at the one-time addresses of waiting jobs.

use std::time::{Duration, Instant};

use actix_web::web::Payload;
use actix_web::{HttpRequest, HttpResponse};
use kanzlei_compiler::input::{fits, validator};
use kanzlei_engine::machine::Arrival;
use kanzlei_model::problem::Problem;
use kanzlei_runtime::clock::now;
use kanzlei_runtime::queue::hash;
use kanzlei_runtime::telemetry::{Callback, fresh_span};
use kanzlei_store::queue::JobPhase;

use super::access::Caller;
use super::refusal::{Refusal, from_store, timely};
use super::{admit, read};
use crate::App;

/// The largest body of a callback.
const MOST_ARRIVES: usize = 1 << 20;
/// How long one may take to arrive.
const TIME: Duration = Duration::from_secs(30);

/// Receives a body for a waiting job.
pub async fn arrive(
    token: &str,
    request: &HttpRequest,
    payload: &mut Payload,
    app: &App,
) -> Result<HttpResponse, Refusal> {
    if !matches!(request.method().as_str(), "POST" | "PUT") {
        return Err(Refusal::not_allowed("POST, PUT"));
    }
    let came = now();
    let known = timely(app, app.jobs.store.callback(&hash(token))).await?;
    let known = known.map_err(|error| from_store("finding a callback", error))?;
    let Some(known) = known else {
        return Err(Problem::new(404, "No such address").detail("nothing waits here, or not any more").into());
    };
    let mut arrival = admit::arrive(app, request, &Caller::of_address(app, request))?;
    let body = read::body(request, payload, MOST_ARRIVES, Instant::now() + TIME, &mut arrival).await?;
    drop(arrival);
    let media = request.headers().get("content-type").and_then(|v| v.to_str().ok()).unwrap_or_default();
    if known.arrived.is_some() {
        if known.body.as_deref() == Some(&body[..]) {
            // The sender missed the first answer.
            return Ok(received());
        }
        return Err(Problem::new(409, "Already called").detail("this address receives one message").into());
    }
    if JobPhase::of_code(known.phase).is_none_or(JobPhase::ended) {
        return Err(Problem::new(410, "The run has ended").detail("the run that waited here has ended").into());
    }
    let media: String = media.chars().take(200).collect();
    if let Some(schema) = &known.accepts {
        accepted(schema, &media, &body).map_err(|problem| *problem)?;
    }
    let token = hash(token);
    let first = timely(app, app.jobs.store.arrive(&token, known.job, &media, &body, now())).await?;
    let first = first.map_err(|error| from_store("receiving a callback", error))?;
    if !first {
        return Err(Problem::new(409, "Already called").detail("this address receives one message").into());
    }
    app.jobs.wake.notify_one();
    app.jobs.followers.changed(known.job);
    let run = app.jobs.span_of(known.job);
    app.jobs.telemetry.add_callback(&Callback {
        trace: read::trace(request.headers()).unwrap_or_else(|| known.trace.within(run)),
        span: fresh_span(),
        waits: (known.trace, run),
        job: known.job,
        method: request.method().as_str(),
        times: (came, now()),
    });
    Ok(received())
}

/// Whether a body is what the step that waits accepts. The address is not used up by others.
///
/// # Errors
/// What does not fit.
pub fn accepted(schema: &str, media: &str, body: &[u8]) -> Result<(), Box<Problem>> {
    let unfit = |detail: String| Box::new(Problem::new(422, "Unfit message").detail(detail));
    let value = Arrival { media: media.to_owned(), body: body.to_vec() }.value().map_err(unfit)?;
    // It was compiled when the workflow was checked.
    let schema = serde_json::from_str(schema).map_err(|error| unfit(error.to_string()))?;
    let validator = validator(&schema).map_err(|error| unfit(error.to_string()))?;
    fits(&validator, &value).map_err(|problem| Box::new(Problem { title: "Unfit message".into(), ..*problem }))
}

fn received() -> HttpResponse {
    HttpResponse::Accepted().content_type("application/json").body("{\"received\":true}")
}
