//! Messages of senders: proven on their raw bytes, kept, and only then acknowledged.
//!
//! A message that is not proven is a refusal and nothing more. One that is proven is a delivery: it is kept with its job in one
//! transaction before 202 is sent, or before the run begins where its sender waits for the reply.

use std::sync::Arc;

use actix_web::http::header::CONTENT_TYPE;
use actix_web::web::Bytes;
use actix_web::{HttpRequest, HttpResponse};
use kanzlei_compiler::plan::Webhook;
use kanzlei_compiler::plan::webhook::Message;
use kanzlei_lang::document::proof::Proof;
use kanzlei_lang::document::purpose::Purpose;
use kanzlei_lang::document::workflow::Answer;
use kanzlei_model::problem::Problem;
use kanzlei_model::time::Span;
use kanzlei_model::value::Value;
use kanzlei_runtime::clock::{fresh_id, now};
use kanzlei_runtime::live::Live;
use kanzlei_runtime::proof::{self, Unproven};
use kanzlei_runtime::queue::Origin;
use kanzlei_runtime::queue::deliveries::{Arrival, Understood, understood};
use kanzlei_store::queue::{Delivery, DeliveryState};

use super::access::Caller;
use super::admit::Admitted;
use super::execute::{self, About};
use super::refusal::{Refusal, Sent, from_store, timely};
use super::route::Route;
use super::{address, gather, idempotency, jobs, read, token};
use crate::App;

/// The longest value that is echoed, in bytes.
const MOST_ECHOED: usize = 4096;
/// Header fields that show who sends, which nobody needs to read again.
const CREDENTIALS: [&str; 4] = ["authorization", "cookie", "proxy-authorization", "x-api-key"];

/// Receives a message.
pub async fn receive(
    app: &App,
    request: &HttpRequest,
    route: Route<'_>,
    admitted: Admitted,
    body: &Bytes,
    about: About<'_>,
    sent: &mut Sent,
) -> Result<HttpResponse, Refusal> {
    let media = gather::media(request, body, sent)?;
    let Some(webhook) = route.declared().webhook.clone() else {
        return Err(Problem::new(404, "Not found").into());
    };
    let proven = prove(app, request, &route.live, &webhook, body).await;
    if proven.is_err() {
        app.jobs.totals.deliveries.add("unproven");
    }
    let (proven, sender) = proven?;
    let about = About { caller: sender.unwrap_or(about.caller), ..about };
    let message = message(request, &webhook, about.id.to_string(), media, body);
    if let Some(response) = echo(&webhook, &message)? {
        return Ok(response);
    }
    if !webhook.accepts(request.method().as_str()) {
        let detail = "the query has no value that is to be echoed";
        return Err(Problem::new(400, "Not a question").detail(detail).into());
    }
    let plan = &route.workflow.plan;
    let arrival = Arrival {
        id: about.id,
        received: about.started,
        entry: route.workflow.entries[route.endpoint].to_string(),
        caller: about.caller.known.name.clone(),
        request_id: about.request_id.to_owned(),
        proof: proof_shown(&webhook, &proven),
        revision: route.workflow.revision,
        generation: route.live.generation,
    };
    let kept = app.jobs.kept(plan, &arrival, &message).map_err(Refusal::from)?;
    let Understood { key, input } = understood(plan, route.declared(), &message);
    let input = match input {
        Ok(input) => input,
        Err(problem) => return Err(keep_unfit(app, kept, key.as_deref(), *problem, sent).await),
    };
    let remembered = webhook.once_per.as_ref().map(|(_, span)| *span);
    if route.declared().answer == Answer::Later {
        let id = app.jobs.id_of_request(about.id);
        let origin = Origin {
            entry: arrival.entry,
            caller: about.caller.known,
            request_id: about.request_id.to_owned(),
            trace: read::trace(request.headers()).unwrap_or_else(|| app.jobs.telemetry.fresh(fresh_id())),
            generation: 0,
            drawn: true,
        };
        let row = app.jobs.row(&route.live, &route.workflow, id, &input, &origin).map_err(Refusal::from)?;
        let delivery =
            app.jobs.told_apart(Delivery { run: Some(id), as_job: true, ..kept }, key.as_deref(), remembered);
        let first = app.jobs.accept_delivery(row, delivery).await.map_err(|refused| jobs::not_queued(app, refused))?;
        let document = serde_json::json!({"delivery": first.unwrap_or(about.id)});
        return Ok(HttpResponse::Accepted().json(document));
    }
    let told = app.jobs.told_apart(Delivery { run: Some(about.id), ..kept }, key.as_deref(), remembered);
    let claim = match &told.key {
        None => idempotency::Claim::Without,
        Some((hash, until)) => {
            let kept_for: Span = until.since(told.delivery.received);
            idempotency::claim_message(app, &route, hash, kept_for, about.id).await?
        }
    };
    // What tells it apart is claimed already, with the answer that belongs to it.
    let mut told = kanzlei_store::queue::NewDelivery { key: None, ..told };
    let key = match claim {
        idempotency::Claim::Without => None,
        idempotency::Claim::Claimed(key) => Some(key),
        idempotency::Claim::Answered(response) => {
            (told.delivery.state, told.delivery.run) = (DeliveryState::Repeated, None);
            timely(app, app.jobs.keep_only(&told)).await?.map_err(|error| from_store("keeping a delivery", error))?;
            return Ok(response);
        }
    };
    let answer = match timely(app, app.jobs.keep_only(&told)).await {
        Ok(Ok(_)) => execute::run_or_queue(app, request, route, admitted, input, about).await,
        Ok(Err(error)) => Err(from_store("keeping a delivery", error)),
        Err(refusal) => Err(refusal),
    };
    match key {
        Some(key) => key.keep(app, answer).await,
        None => answer,
    }
}

/// What becomes of a message to a draft.
pub enum Captured {
    /// The draft accepts it: it is tried.
    Fits(Value),
    /// It is answered.
    Answered(HttpResponse),
}

/// Keeps a message to a draft, whether it is proven or not and whether the draft accepts it or not.
pub async fn capture(
    app: &App,
    request: &HttpRequest,
    route: &Route<'_>,
    body: &Bytes,
    id: uuid::Uuid,
    sent: &mut Sent,
) -> Result<Captured, Refusal> {
    let media = gather::media(request, body, sent)?;
    let Some(webhook) = &route.declared().webhook else { return Err(Problem::new(404, "Not found").into()) };
    let message = message(request, webhook, id.to_string(), media, body);
    if let Some(response) = echo(webhook, &message)? {
        return Ok(Captured::Answered(response));
    }
    let proof = match prove(app, request, &route.live, webhook, body).await {
        Ok((secret, _)) => proof_shown(webhook, &secret),
        Err(refusal) => {
            let why = refusal.problem.detail.clone().unwrap_or_default();
            format!("{}, not proven: {why}", webhook.proof.kind())
        }
    };
    let plan = &route.workflow.plan;
    let arrival = Arrival {
        id,
        received: now(),
        entry: route.workflow.entries[route.endpoint].to_string(),
        caller: address::client(app, request).map(|address| address.to_string()),
        request_id: id.to_string(),
        proof,
        revision: route.workflow.revision,
        generation: route.live.generation,
    };
    let kept = app.jobs.kept(plan, &arrival, &message).map_err(Refusal::from)?;
    let Understood { key, input } = understood(plan, route.declared(), &message);
    let problem = input.as_ref().err().map(|problem| problem.to_json());
    let delivery = Delivery { state: DeliveryState::Captured, problem, ..kept };
    let delivery = app.jobs.told_apart(delivery, key.as_deref(), None);
    timely(app, app.jobs.keep_only(&delivery)).await?.map_err(|error| from_store("keeping a delivery", error))?;
    Ok(match input {
        Ok(input) => Captured::Fits(input),
        // The sender is content: the message is what its author wants to see.
        Err(_) => Captured::Answered(HttpResponse::Accepted().json(serde_json::json!({"delivery": id}))),
    })
}

/// How a message was proven, for people.
fn proof_shown(webhook: &Webhook, secret: &str) -> String {
    match secret {
        "" => webhook.proof.kind().to_owned(),
        secret => format!("{}, {secret}", webhook.proof.kind()),
    }
}

/// Checks where a message comes from and that it is its sender's; returns the secret that proved it, and the sender that a token
/// names.
async fn prove(
    app: &App,
    request: &HttpRequest,
    live: &Arc<Live>,
    webhook: &Webhook,
    body: &[u8],
) -> Result<(String, Option<Caller>), Refusal> {
    let peer = address::client(app, request);
    if let Some(networks) = &webhook.networks
        && !peer.is_some_and(|peer| networks.contains(peer))
    {
        let detail = "messages are allowed from other networks only";
        return Err(Problem::new(403, "The sender is not allowed").detail(detail).into());
    }
    // A question by GET has no body that could be signed.
    if webhook.proof.signs() && !webhook.accepts(request.method().as_str()) {
        return Ok((String::new(), None));
    }
    if let Proof::Jwt(issuer) = &webhook.proof {
        let sender = token::caller(app, request, live, &issuer.text).await?;
        return Ok((issuer.text.clone(), Some(sender)));
    }
    let message = proof::Message {
        method: request.method().as_str(),
        path: request.uri().path(),
        query: request.query_string(),
        base: &app.jobs.public_url,
        headers: fields(request),
        body,
    };
    let secret = |name: &str| app.effects.secrets.get(name, Purpose::Signing).ok();
    let proven = proof::check(&webhook.proof, &message, &secret, now().as_secs());
    proven.map(|secret| (secret, None)).map_err(|unproven| match unproven {
        Unproven::Message(why) => {
            let challenge = match webhook.proof {
                Proof::Bearer(_) => Some("Bearer"),
                Proof::Basic(_) => Some("Basic realm=\"webhook\""),
                _ => None,
            };
            Refusal { challenge, ..Problem::new(401, "The message is not proven").detail(why).into() }
        }
        Unproven::Secret(name) => {
            tracing::error!(secret = name, "a message cannot be proven: the secret is not set, or may not sign");
            let problem = Problem::new(503, "The message cannot be proven").detail("try again later");
            Refusal { retry_after: Some(60), ..problem.into() }
        }
    })
}

/// All header fields that are text, in their order.
fn fields(request: &HttpRequest) -> Vec<(String, String)> {
    let text = |value: &actix_web::http::header::HeaderValue| String::from_utf8_lossy(value.as_bytes()).into_owned();
    request.headers().iter().map(|(name, value)| (name.as_str().to_owned(), text(value))).collect()
}

/// The message without credentials.
fn message(request: &HttpRequest, webhook: &Webhook, id: String, media: &str, body: &[u8]) -> Message {
    let secret = match &webhook.proof {
        Proof::Query { name, .. } => Some(name.as_str()),
        _ => None,
    };
    let named = |pair: &&str| {
        let pairs = kanzlei_compiler::input::form_pairs(pair.as_bytes());
        pairs.first().is_some_and(|(name, _)| Some(name.as_str()) == secret)
    };
    let query: Vec<&str> = request.query_string().split('&').filter(|pair| !named(pair)).collect();
    let mut headers: Vec<(String, String)> = Vec::new();
    for (name, value) in fields(request).into_iter().filter(|(name, _)| !CREDENTIALS.contains(&name.as_str())) {
        // Fields of one name are one list (RFC 9110 §5.2).
        match headers.iter_mut().find(|(known, _)| *known == name) {
            Some((_, known)) => known.push_str(&format!(", {value}")),
            None => headers.push((name, value)),
        }
    }
    headers.sort();
    Message {
        id,
        at: now().to_string(),
        method: request.method().as_str().to_owned(),
        query: query.join("&"),
        headers,
        media: media.to_owned(),
        body: body.to_vec(),
    }
}

/// The answer to a sender that verifies the address; nothing where the message is none of this kind.
fn echo(webhook: &Webhook, message: &Message) -> Result<Option<HttpResponse>, Refusal> {
    if webhook.echo.is_none() {
        return Ok(None);
    }
    let unfit = |detail: String| Refusal::from(Problem::new(422, "Unfit message").detail(detail));
    let delivery = message.delivery()?;
    let value = webhook.echo(&delivery).map_err(|error| unfit(format!("`echo` cannot be worked out: {error}")))?;
    let Some(value) = value else { return Ok(None) };
    let (media, text) = match &value {
        Value::Text(text) => ("text/plain; charset=utf-8", text.to_string()),
        other => (CONTENT_TYPE_JSON, other.to_json()),
    };
    if text.len() > MOST_ECHOED {
        return Err(unfit(format!("a value that is echoed has at most {MOST_ECHOED} bytes")));
    }
    Ok(Some(HttpResponse::Ok().insert_header((CONTENT_TYPE, media)).body(text)))
}

const CONTENT_TYPE_JSON: &str = "application/json";

/// Keeps a message that its workflow does not accept, and refuses it: its sender may send it again when the workflow does.
async fn keep_unfit(app: &App, kept: Delivery, key: Option<&str>, problem: Problem, sent: &mut Sent) -> Refusal {
    // It is kept whole, so it is no refusal as well.
    sent.expected = false;
    let delivery = Delivery { state: DeliveryState::Unfit, problem: Some(problem.to_json()), ..kept };
    let delivery = app.jobs.told_apart(delivery, key, None);
    match timely(app, app.jobs.keep_only(&delivery)).await {
        Ok(Ok(_)) => problem.into(),
        Ok(Err(error)) => from_store("keeping a delivery", error),
        Err(refusal) => refusal,
    }
}
