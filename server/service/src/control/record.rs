//! Past runs as cases: what the journal has of a run, given to the core, which writes the document.
//! Values are those of the journal, so what is secret stays masked.

use actix_web::HttpResponse;
use actix_web::web::{Data, Json, Path, Query};
use kanzlei_api::runs::{AddedCase, CaseName, RecordedCase};
use kanzlei_compiler::plan::{Paragraph, Plan};
use kanzlei_lang::document::yaml::MAX_SIZE;
use kanzlei_model::time::Timestamp;
use kanzlei_model::value::Value;
use kanzlei_rehearsal::CaseRequest;
use kanzlei_rehearsal::collect::collect;
use kanzlei_rehearsal::record::{Past, PastStep, record};
use kanzlei_runtime::clock::now;
use kanzlei_store::drafts::Draft;
use kanzlei_store::journal::{Run, Step};
use serde_json::Value as JsonValue;

use super::auth::Caller;
use super::deliveries;
use super::runs::{past_run, plan_of_run};
use crate::App;
use crate::error::{Error, Result};

/// `GET /runs/{id}/case`: a document of cases with one that shows what the run did.
pub async fn case(app: Data<App>, id: Path<String>, named: Query<CaseName>) -> Result<HttpResponse> {
    let run = past_run(&app, &id).await?;
    let plan = plan_of_run(&app, &run).await?;
    let name = named.into_inner().name.unwrap_or_else(|| format!("run {}", run.id));
    let delivery = deliveries::message_for_case(&app, run.id).await?;
    Ok(HttpResponse::Ok().json(recorded(&run, &plan, name, delivery)))
}

/// `POST /runs/{id}/case`: adds the case to the draft of the workflow's cases.
pub async fn add_case(app: Data<App>, id: Path<String>, caller: Caller, named: Json<CaseName>) -> Result<HttpResponse> {
    let run = past_run(&app, &id).await?;
    let plan = plan_of_run(&app, &run).await?;
    let name = named.into_inner().name.unwrap_or_else(|| format!("run {}", run.id));
    let delivery = deliveries::message_for_case(&app, run.id).await?;
    collected(&app, &caller, &run.workflow, recorded(&run, &plan, name, delivery)).await
}

/// `POST /deliveries/{id}/case`: adds a case with the message to the draft of its workflow's cases; with what came of it, where
/// a run did.
pub async fn add_case_of_delivery(
    app: Data<App>,
    id: Path<String>,
    caller: Caller,
    named: Json<CaseName>,
) -> Result<HttpResponse> {
    let (delivery, request) = deliveries::delivered(&app, &id).await?;
    let name = named.into_inner().name.unwrap_or_else(|| format!("delivery {}", delivery.id));
    app.journal.flush().await;
    if let Some(run) = delivery.run
        && let Some(run) = super::runs::recorded(&app, run).await?
    {
        let plan = plan_of_run(&app, &run).await?;
        return collected(&app, &caller, &run.workflow, recorded(&run, &plan, name, Some(request))).await;
    }
    let workflow = app.live.load().name_now(&delivery.workflow, delivery.id).to_owned();
    let past = Past {
        workflow: workflow.clone(),
        name,
        started: delivery.received.to_string(),
        request: Some(request),
        delivered: true,
        state: "succeeded".into(),
        ..Past::default()
    };
    let case = record(&past);
    let note = "no run came of this message yet: the case expects one that succeeds".to_owned();
    let notes = case.notes.into_iter().chain([note]).collect();
    collected(&app, &caller, &workflow, RecordedCase { document: case.text, notes }).await
}

/// Adds a case to the draft of a workflow's cases, or begins one.
pub(super) async fn collected(
    app: &Data<App>,
    caller: &Caller,
    workflow: &str,
    case: RecordedCase,
) -> Result<HttpResponse> {
    let RecordedCase { document, notes } = case;
    let before = app.store.draft("cases", workflow).await?;
    let work = move || match before {
        Some(before) => collect(&before.source, &document).map(|(text, name)| (Some(before), text, name)),
        None => collect("cases: x\nexamples: []\n", &document).map(|(_, name)| (None, document, name)),
    };
    let (before, text, name) = app.background.run(work).await?.map_err(|error| {
        let detail = format!(
            "the draft of the cases of `{workflow}` cannot be changed: {error}; mend it, or add the case by hand"
        );
        Error::problem(409, "The case cannot be added", detail)
    })?;
    if text.len() > MAX_SIZE {
        let detail = format!("with this case the document has more than {MAX_SIZE} bytes; remove others");
        return Err(Error::problem(422, "The case is too large", detail));
    }
    let draft = Draft {
        kind: "cases".into(),
        name: workflow.to_owned(),
        version: before.as_ref().map_or(1, |before| before.version + 1),
        base: None,
        path: before.map_or_else(|| format!("cases/{workflow}.yaml"), |before| before.path),
        source: text,
        file: None,
        changed: now(),
        operator: caller.name.clone(),
    };
    if !app.store.save_draft(&draft).await? {
        let detail = "another author saved these cases at the same time; try again";
        return Err(Error::problem(409, "The case was not added", detail));
    }
    Ok(HttpResponse::Ok().json(AddedCase { workflow: draft.name, name, version: draft.version, notes }))
}

/// The case of a run or a trial.
pub(super) fn recorded(run: &Run, plan: &Plan, name: String, delivery: Option<CaseRequest>) -> RecordedCase {
    let past = past(String::new(), run, plan, name);
    let case = record(&match delivery {
        None => past,
        delivery => Past { request: delivery, delivered: true, ..past },
    });
    RecordedCase { document: case.text, notes: case.notes }
}

/// A run by the journal; `key` is what its UUIDs were made from.
pub(super) fn past(key: String, run: &Run, plan: &Plan, name: String) -> Past {
    let value = |text: Option<&str>| text.and_then(|text| serde_json::from_str(text).ok()).unwrap_or(JsonValue::Null);
    Past {
        id: run.id.to_string(),
        key,
        caller: run.caller.clone(),
        workflow: run.workflow.clone(),
        name,
        started: run.started.to_string(),
        input: value(Some(&run.input)),
        request: request(run, plan),
        delivered: false,
        kept: value(run.kept.as_deref()),
        settings: match &run.settings {
            Some(settings) => value(Some(settings)),
            // Jobs run the plan of their generation, which has the settings of that time.
            None => plan.settings.as_ref().map(Value::to_serde).unwrap_or_default(),
        },
        state: run.state.clone(),
        status: run.status,
        reply: value(run.reply.as_deref()),
        failure: value(run.failure.as_deref()),
        steps: run.steps.iter().map(|step| past_step(step, run.started, &plan.sheet)).collect(),
    }
}

fn past_step(step: &Step, began: Timestamp, sheet: &[Paragraph]) -> PastStep {
    let value = |text: &Option<String>| text.as_deref().and_then(|text| serde_json::from_str(text).ok());
    // Steps of invoked workflows bring their own heading.
    let own = if step.number.is_none() { sheet.get(step.paragraph as usize) } else { None };
    let heading =
        |own: Option<&String>, brought: &Option<String>| own.or(brought.as_ref()).cloned().unwrap_or_default();
    PastStep {
        number: heading(own.map(|p| &p.number), &step.number),
        items: step.items.clone(),
        kind: heading(own.map(|p| &p.kind), &step.kind),
        title: heading(own.map(|p| &p.title), &step.title),
        state: step.state.clone(),
        attempts: step.attempts.into(),
        earlier_attempts: step.earlier_attempts.iter().flat_map(|tries| tries.split(' ')).map(str::to_owned).collect(),
        started_us: (step.started - began).as_micros(),
        duration_us: step.duration.as_micros(),
        sent: value(&step.sent).unwrap_or_default(),
        outcome: value(&step.outcome).unwrap_or_default(),
        failure: value(&step.failure).unwrap_or_default(),
    }
}

/// The request that a run came in by, as far as its input shows.
fn request(run: &Run, plan: &Plan) -> Option<CaseRequest> {
    let named = |endpoint: &&kanzlei_compiler::plan::Endpoint| endpoint.label() == run.entry;
    // The message of a webhook is a delivery of its own.
    let endpoint = plan.endpoints.iter().find(named).filter(|endpoint| endpoint.webhook.is_none())?;
    let input = Value::from_json(&serde_json::from_str::<JsonValue>(&run.input).ok()?);
    let (target, headers, body) = plan.input.request(&endpoint.address.path, &endpoint.input, &input)?;
    Some((endpoint.method.clone(), target, headers, body.map(|body| Value::from_json(&body))))
}
