//! Past runs as cases: what the journal has of a run, given to the core, which writes the document.
//! Values are those of the journal, so what is secret stays masked.

use actix_web::HttpResponse;
use actix_web::web::{Data, Path, Query};
use kanzlei_api::runs::{CaseName, RecordedCase};
use kanzlei_compiler::plan::{Paragraph, Plan};
use kanzlei_model::time::Timestamp;
use kanzlei_model::value::Value;
use kanzlei_rehearsal::CaseRequest;
use kanzlei_rehearsal::record::{Past, PastStep, record};
use kanzlei_store::journal::{Run, Step};
use serde_json::Value as Json;

use super::runs::{past_run, plan_of_run};
use crate::App;
use crate::error::Result;

/// `GET /runs/{id}/case`: a document of cases with one that shows what the run did.
pub async fn case(app: Data<App>, id: Path<String>, named: Query<CaseName>) -> Result<HttpResponse> {
    let run = past_run(&app, &id).await?;
    let plan = plan_of_run(&app, &run).await?;
    let name = named.into_inner().name.unwrap_or_else(|| format!("run {}", run.id));
    Ok(HttpResponse::Ok().json(recorded(&run, &plan, name)))
}

/// The case of a run or a trial.
pub(super) fn recorded(run: &Run, plan: &Plan, name: String) -> RecordedCase {
    let case = record(&past(run, plan, name));
    RecordedCase { document: case.text, notes: case.notes }
}

pub(super) fn past(run: &Run, plan: &Plan, name: String) -> Past {
    let value = |text: Option<&str>| text.and_then(|text| serde_json::from_str(text).ok()).unwrap_or(Json::Null);
    Past {
        id: run.id.to_string(),
        caller: run.caller.clone(),
        workflow: run.workflow.clone(),
        name,
        started: run.started.to_string(),
        input: value(Some(&run.input)),
        request: request(run, plan),
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
    let (method, path) = run.entry.split_once(' ')?;
    let endpoint = plan.endpoints.iter().find(|endpoint| endpoint.method == method && endpoint.path == path)?;
    let input = Value::from_json(&serde_json::from_str::<Json>(&run.input).ok()?);
    let (target, headers, body) = plan.input.request(path, &endpoint.input, &input)?;
    Some((method.to_owned(), target, headers, body.map(|body| Value::from_json(&body))))
}
