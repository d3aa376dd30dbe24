//! The control API's part for deliveries: listing, looking, processing again, and what their values suggest.

use actix_web::HttpResponse;
use actix_web::web::{Data, Json, Path, Query};
use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use kanzlei_analysis::propose;
use kanzlei_api::deliveries::{
    CompareDeliveries, Delivery, DeliveryFilter, DeliveryLine, DeliveryPage, ProcessDeliveries, Processed,
    ProcessedDelivery, Proposed, ProposedInput, SignedMessage, Signing,
};
use kanzlei_compiler::plan::{Endpoint, Plan};
use kanzlei_lang::document::purpose::Purpose;
use kanzlei_model::problem::{Problem, phrase};
use kanzlei_model::value::Value;
use kanzlei_rehearsal::CaseRequest;
use kanzlei_runtime::clock::now;
use kanzlei_runtime::live::Live;
use kanzlei_runtime::proof;
use kanzlei_runtime::queue::deliveries::{understood, webhook_of};
use kanzlei_store::queue::{self as store, DeliveryState, MOST_PROCESSED};
use serde_json::Value as JsonValue;
use uuid::Uuid;

use super::auth::Caller;
use super::pseudonyms::Names;
use super::runs::past_of;
use crate::App;
use crate::error::{Error, Result};

/// The most deliveries in one listing.
const MOST: u32 = 500;
/// How many deliveries inputs are proposed from, by default and at most.
const COMPARED: u32 = 20;
const MOST_COMPARED: usize = 100;

/// `GET /deliveries`: messages as they arrived, newest first.
pub async fn list(app: Data<App>, which: Query<DeliveryFilter>) -> Result<HttpResponse> {
    let which = which.into_inner();
    let names = Names::of(&app, which.pseudonyms)?;
    let limit = which.limit.unwrap_or(50).clamp(1, MOST);
    let live = app.live.load_full();
    let filter = store::DeliveryFilter {
        sender_key: which.key,
        run: which.run,
        before: which.before,
        limit,
        ..filter(&live, which.workflow, which.state, (which.since, which.until))?
    };
    let found = app.store.deliveries(&filter).await?;
    Ok(HttpResponse::Ok().json(DeliveryPage {
        next_before: (found.len() as u32 == limit).then(|| found.last().map(|delivery| delivery.id)).flatten(),
        deliveries: found.iter().map(|delivery| hidden(line(&live, delivery), &names)).collect(),
    }))
}

/// `GET /deliveries/{id}`: one with its headers and body.
pub async fn show(app: Data<App>, caller: Caller, id: Path<String>) -> Result<HttpResponse> {
    let found = found(&app, &id).await?;
    if found.sealed {
        caller.notes.looked_at(format!("delivery {} to {}", found.id, found.workflow));
    }
    let live = app.live.load_full();
    let line = line(&live, &found);
    let message = app.jobs.message_of(&found).ok_or_else(sealed)?;
    let value = message.delivery().map_or(JsonValue::Null, |delivery| delivery.to_serde());
    let workflow = live.workflow(&line.workflow);
    let endpoint = workflow.and_then(|workflow| webhook_of(&workflow.plan, &found.entry));
    let tried = workflow.zip(endpoint).map(|(workflow, endpoint)| understood(&workflow.plan, endpoint, &message).input);
    let (input, unfit) = match (tried, workflow) {
        (Some(Ok(input)), Some(workflow)) => (Some(workflow.plan.input.masked(&input).to_serde()), None),
        (Some(Err(problem)), _) => (None, Some(*problem)),
        _ => (None, None),
    };
    let sealing = workflow.is_some_and(|workflow| workflow.plan.input.label.any());
    let text = std::str::from_utf8(&message.body).ok().map(str::to_owned);
    // A body that becomes a confidential input is shown to nobody.
    let hide = |shown: Option<String>| shown.filter(|_| !sealing).map(|text| app.effects.secrets.mask(text));
    Ok(HttpResponse::Ok().json(Delivery {
        command: format!("kanzlei redeliver {}", found.id),
        request_id: found.request_id.clone(),
        method: found.method.clone(),
        query: hide(Some(message.query.clone())).unwrap_or_default(),
        headers: message
            .headers
            .iter()
            .map(|(name, value)| (name.clone(), app.effects.secrets.mask(value.clone())))
            .collect(),
        digest: found.digest.clone(),
        base64: hide(text.is_none().then(|| STANDARD.encode(&message.body))),
        text: hide(text),
        value: if sealing { JsonValue::Null } else { masked(&app, value) },
        input,
        unfit,
        line,
    }))
}

/// `POST /deliveries/process`: queues jobs for them again.
pub async fn process(app: Data<App>, caller: Caller, body: Json<ProcessDeliveries>) -> Result<HttpResponse> {
    let asked = body.into_inner();
    if asked.ids.len() > MOST_PROCESSED as usize {
        let detail = format!("one call processes at most {MOST_PROCESSED}");
        return Err(Error::problem(422, "Too many deliveries", detail));
    }
    let live = app.live.load_full();
    let ids = match asked.ids.is_empty() {
        false => asked.ids,
        true if asked.workflow.is_none() && asked.state.is_none() && asked.since.is_none() => {
            let detail = "name deliveries by their ids, or select them: by workflow, state or time";
            return Err(Error::problem(422, "Nothing is selected", detail));
        }
        true => {
            let selected = filter(&live, asked.workflow, asked.state, (asked.since, asked.until))?;
            let selected = store::DeliveryFilter { limit: MOST_PROCESSED, ..selected };
            app.store.deliveries_to_process(&selected).await?
        }
    };
    let found = ids.len() as u32;
    let mut deliveries = Vec::new();
    for id in ids.into_iter().take(if asked.dry_run { 0 } else { usize::MAX }) {
        let by = format!("operator {}", caller.name);
        let (job, problem) = match app.jobs.process_again(id, !asked.as_received, &by).await {
            Ok(job) => (Some(job), None),
            Err(error) => (None, Some(error.as_problem())),
        };
        // What is unavailable for one is for the others too.
        let stop = problem.as_ref().is_some_and(|problem| problem.status == 503);
        deliveries.push(ProcessedDelivery { delivery: id, job, problem });
        if stop {
            break;
        }
    }
    let done = deliveries.iter().filter(|one| one.job.is_some()).count();
    if done > 0 {
        tracing::info!(deliveries = done, by = caller.name, "deliveries are processed again");
    }
    Ok(HttpResponse::Ok().json(Processed { deliveries, found, more: found == MOST_PROCESSED }))
}

/// `POST /deliveries/input`: inputs that messages suggest.
pub async fn propose(app: Data<App>, body: Json<CompareDeliveries>) -> Result<HttpResponse> {
    let asked = body.into_inner();
    let live = app.live.load_full();
    let ids = match asked.ids.is_empty() {
        false => asked.ids,
        true => {
            let selected = filter(&live, asked.workflow, None, (None, None))?;
            let selected = store::DeliveryFilter { limit: COMPARED, ..selected };
            app.store.deliveries(&selected).await?.into_iter().map(|delivery| delivery.id).collect()
        }
    };
    let mut bodies = Vec::new();
    for id in ids.into_iter().take(MOST_COMPARED) {
        let Some(delivery) = app.store.delivery(id).await? else { continue };
        let Some(message) = app.jobs.message_of(&delivery) else { continue };
        if let Ok(value) = message.delivery() {
            bodies.push(value.to_serde()["body"].take());
        }
    }
    if bodies.is_empty() {
        let detail = "no message has arrived yet; open the draft's address, have the sender send one, and ask again";
        return Err(Error::problem(422, "No messages to compare", detail));
    }
    let propose::Proposed { inputs, input, send } = propose::propose(&bodies);
    let inputs = inputs.into_iter().map(|(name, schema, from)| ProposedInput { name, schema, from });
    let messages = bodies.len() as u32;
    Ok(HttpResponse::Ok().json(Proposed { messages, inputs: inputs.collect(), input, send }))
}

/// `POST /deliveries/sign`: a message as its sender sends it.
pub async fn sign(app: Data<App>, caller: Caller, body: Json<Signing>) -> Result<HttpResponse> {
    let asked = body.into_inner();
    caller.notes.changed(format!("a message to {}", asked.workflow), None, Some("signed".into()));
    let live = app.live.load_full();
    let unknown = || Error::not_found(format!("no workflow `{}` is live", asked.workflow));
    let workflow = live.workflow(&asked.workflow).ok_or_else(unknown)?;
    let bad = |title: &str, detail: String| Error::problem(422, title, detail);
    let endpoint = webhook_named(&workflow.plan.endpoints, asked.entry.as_deref()).ok_or_else(|| {
        let detail = match &asked.entry {
            Some(entry) => format!("`{}` has no webhook `{entry}`", asked.workflow),
            None => format!("`{}` has no webhook", asked.workflow),
        };
        bad("No webhook", detail)
    })?;
    let body = match &asked.base64 {
        Some(base64) => STANDARD.decode(base64).map_err(|error| bad("Not base64", error.to_string()))?,
        None => asked.body.into_bytes(),
    };
    let Some(webhook) = &endpoint.webhook else { return Err(bad("No webhook", asked.workflow)) };
    let given = asked.headers.iter().map(|(name, value)| (name.to_lowercase(), value.clone()));
    let message = proof::Message {
        method: &endpoint.method,
        path: &endpoint.address.path,
        query: &asked.query,
        base: &app.public_url,
        headers: given.clone().collect(),
        body: &body,
    };
    let id = asked.id.clone().unwrap_or_else(|| format!("msg_{}", Uuid::now_v7().simple()));
    let signed = match webhook.proof.secrets().first() {
        None => proof::Signed::default(),
        Some(name) => {
            let secret = app.effects.secrets.get(&name.text, Purpose::Signing);
            let secret = secret.map_err(|withheld| bad("The secret cannot be used", withheld.to_string()))?;
            tracing::info!(workflow = asked.workflow, by = caller.name, "a message was signed");
            proof::sign(&webhook.proof, &secret, &id, now().as_secs(), &message)
        }
    };
    let mut query = asked.query.clone();
    if let Some((name, value)) = &signed.query {
        let separator = if query.is_empty() { "" } else { "&" };
        query.push_str(&format!("{separator}{name}={}", kanzlei_compiler::input::encoded(value)));
    }
    let path = &endpoint.address.path;
    let target = if query.is_empty() { path.clone() } else { format!("{path}?{query}") };
    let host = endpoint.address.host.iter().map(|host| ("host".to_owned(), host.clone()));
    Ok(HttpResponse::Ok().json(SignedMessage {
        id,
        method: endpoint.method.clone(),
        url: format!("{}{target}", app.public_url),
        target,
        headers: given.chain(signed.headers).chain(host).collect(),
    }))
}

/// A webhook by its entry; the first one without a name.
fn webhook_named<'p>(endpoints: &'p [Endpoint], entry: Option<&str>) -> Option<&'p Endpoint> {
    let accepts = |one: &&Endpoint| one.webhook.as_ref().is_some_and(|webhook| webhook.accepts(&one.method));
    let named = |one: &&Endpoint| {
        let names = [one.address.path.clone(), format!("{} {}", one.method, one.address.path), one.label()];
        entry.is_none_or(|entry| names.iter().any(|name| name == entry))
    };
    endpoints.iter().filter(accepts).find(named)
}

type Span = (Option<String>, Option<String>);

fn filter(live: &Live, workflow: Option<String>, state: Option<String>, span: Span) -> Result<store::DeliveryFilter> {
    let state = state.map(|name| state_named(&name)).transpose()?;
    let workflow = workflow.map(|name| live.names_of(&name)).unwrap_or_default();
    let at = now();
    let then = |text: Option<String>| text.map(|text| past_of(&text, at)).transpose();
    Ok(store::DeliveryFilter {
        workflow,
        state,
        since: then(span.0)?,
        until: then(span.1)?,
        ..store::DeliveryFilter::default()
    })
}

fn state_named(name: &str) -> Result<DeliveryState> {
    let found = DeliveryState::ALL.iter().find(|(.., known)| *known == name).map(|(state, ..)| *state);
    found.ok_or_else(|| {
        let names: Vec<&str> = DeliveryState::ALL.iter().map(|(.., name)| *name).collect();
        Error::problem(422, "Unknown state", format!("there is no state `{name}`; states are {}", names.join(", ")))
    })
}

async fn found(app: &App, id: &str) -> Result<store::Delivery> {
    let unknown = || Error::not_found(format!("there is no delivery {id}, or not any more"));
    let parsed: Uuid = id.parse().map_err(|_| unknown())?;
    app.store.delivery(parsed).await?.ok_or_else(unknown)
}

fn sealed() -> Error {
    Error::problem(409, "The delivery is sealed", "it was sealed with a key of the secrets that is not there any more")
}

/// A value with every secret in it masked.
fn masked(app: &App, value: JsonValue) -> JsonValue {
    serde_json::from_str(&app.effects.secrets.mask(value.to_string())).unwrap_or(JsonValue::Null)
}

fn line(live: &Live, delivery: &store::Delivery) -> DeliveryLine {
    let problem = delivery.problem.as_deref();
    DeliveryLine {
        id: delivery.id,
        workflow: live.name_now(&delivery.workflow, delivery.id).to_owned(),
        entry: delivery.entry.clone(),
        received: delivery.received,
        state: delivery.state.name().to_owned(),
        key: delivery.sender_key.clone(),
        caller: delivery.caller.clone(),
        proof: delivery.proof.clone(),
        media: delivery.media.clone(),
        size: delivery.size,
        run: delivery.run,
        as_job: delivery.as_job,
        processed: delivery.processed,
        first: delivery.first,
        problem: problem.map(|text| serde_json::from_str(text).unwrap_or_else(|_| Problem::new(422, phrase(422)))),
        revision: delivery.revision,
    }
}

/// A line with names as they are shown; a problem may quote what was sent.
fn hidden(mut line: DeliveryLine, names: &Names) -> DeliveryLine {
    line.key = line.key.map(|key| names.show(key));
    line.caller = line.caller.map(|caller| names.show(caller));
    if names.hidden() {
        line.problem = line.problem.map(|problem| Problem::new(problem.status, problem.title));
    }
    line
}

/// The input that a workflow makes of a delivery.
pub(super) async fn input_of(app: &App, id: Uuid, plan: &Plan) -> Result<JsonValue> {
    let delivery = found(app, &id.to_string()).await?;
    let endpoint = webhook_of(plan, &delivery.entry);
    let detail = || format!("`{}` has no webhook that could receive it", plan.name);
    let endpoint = endpoint.ok_or_else(|| Error::problem(422, "No webhook", detail()))?;
    let message = app.jobs.message_of(&delivery).ok_or_else(sealed)?;
    let refused = |problem| Error::Runtime(kanzlei_runtime::Error::Problem(problem));
    Ok(understood(plan, endpoint, &message).input.map_err(refused)?.to_serde())
}

/// Header fields that a case does not need.
const LEFT_OUT: [&str; 10] = [
    "host",
    "user-agent",
    "accept",
    "accept-encoding",
    "connection",
    "content-length",
    "traceparent",
    "x-request-id",
    "webhook-signature",
    "webhook-timestamp",
];

/// A delivery, and its message as a case writes it.
pub(super) async fn delivered(app: &App, id: &str) -> Result<(store::Delivery, CaseRequest)> {
    let delivery = found(app, id).await?;
    let message = app.jobs.message_of(&delivery).ok_or_else(sealed)?;
    let path = delivery.entry.split_once(' ').map_or(delivery.entry.as_str(), |(_, path)| path);
    let target = if message.query.is_empty() { path.to_owned() } else { format!("{path}?{}", message.query) };
    let needed = |(name, value): &(String, String)| {
        let json = name == "content-type" && value == "application/json";
        !json && !LEFT_OUT.contains(&name.as_str())
    };
    let headers: Vec<(String, String)> = message.headers.iter().filter(|field| needed(field)).cloned().collect();
    let live = app.live.load();
    let confidential = live.workflow(&delivery.workflow).is_some_and(|workflow| workflow.plan.input.label.any());
    let body = match message.delivery() {
        _ if confidential => JsonValue::from(kanzlei_lang::confidential::MASK),
        Ok(value) => masked(app, value.to_serde()["body"].take()),
        Err(_) => JsonValue::from(app.effects.secrets.mask(String::from_utf8_lossy(&message.body).into_owned())),
    };
    let body = (!body.is_null()).then(|| Value::from_json(&body));
    Ok((delivery, (message.method, target, headers, body)))
}

/// The message of which a run came, as a case writes it.
pub(super) async fn message_for_case(app: &App, run: Uuid) -> Result<Option<CaseRequest>> {
    let filter = store::DeliveryFilter { run: Some(run), limit: 1, ..store::DeliveryFilter::default() };
    match app.store.deliveries(&filter).await?.first() {
        Some(delivery) => Ok(Some(delivered(app, &delivery.id.to_string()).await?.1)),
        None => Ok(None),
    }
}
