//! Workflows that an operator holds: their jobs wait, and their endpoints that answer at once refuse requests.

use actix_web::HttpResponse;
use actix_web::web::{Data, Json, Path};
use kanzlei_api::workflows::{Hold, HoldReason, Holds, Released};
use kanzlei_runtime::clock::now;
use kanzlei_store::queue::WorkflowHold;

use super::auth::Caller;
use crate::App;
use crate::error::{Error, Result};

/// The longest reason, in characters.
const REASON: usize = 500;

/// A hold as interfaces have it.
pub fn shown(hold: WorkflowHold) -> Hold {
    Hold { workflow: hold.workflow, since: hold.since, by: hold.who, reason: hold.reason }
}

/// `GET /holds`: workflows that are held.
pub async fn list(app: Data<App>) -> Result<HttpResponse> {
    let holds = app.store.workflow_holds().await?.into_iter().map(shown);
    Ok(HttpResponse::Ok().json(Holds { holds: holds.collect() }))
}

/// `PUT /holds/{workflow}`: holds a workflow.
pub async fn hold(app: Data<App>, caller: Caller, name: Path<String>, body: Json<HoldReason>) -> Result<HttpResponse> {
    let live = app.live.load_full();
    if !live.workflows.contains_key(name.as_str()) {
        return Err(super::workflows::no_workflow(&live, &name, "is live"));
    }
    let reason = body.into_inner().reason.trim().to_owned();
    if reason.is_empty() || reason.chars().count() > REASON {
        let detail = format!("`reason` says why the workflow is held, in 1 to {REASON} characters");
        return Err(Error::problem(422, "Missing reason", detail));
    }
    caller.notes.changed(format!("hold of workflow {name}"), None, Some(reason.clone()));
    let hold = WorkflowHold { workflow: name.into_inner(), since: now(), who: caller.name.clone(), reason };
    if !app.store.hold_workflow(&hold).await? {
        let detail = format!("`{}` is held already; release it to give another reason", hold.workflow);
        return Err(Error::problem(409, "The workflow is held", detail));
    }
    app.jobs.follow_holds().await?;
    tracing::info!(workflow = hold.workflow, reason = hold.reason, operator = caller.name, "held");
    Ok(HttpResponse::Ok().json(shown(hold)))
}

/// `DELETE /holds/{workflow}`: releases a workflow.
pub async fn release(app: Data<App>, caller: Caller, name: Path<String>) -> Result<HttpResponse> {
    let live = app.live.load_full();
    caller.notes.changed(format!("hold of workflow {name}"), None, Some("released".into()));
    let names: Vec<String> = live.names_of(&name).into_iter().map(|called| called.name).collect();
    let Some(jobs) = app.store.release_workflow(&name, &names, now()).await? else {
        return Err(Error::not_found(format!("the workflow `{name}` is not held")));
    };
    app.jobs.follow_holds().await?;
    app.jobs.wake.notify_one();
    tracing::info!(workflow = name.as_str(), jobs, operator = caller.name, "released");
    Ok(HttpResponse::Ok().json(Released { workflow: name.into_inner(), jobs }))
}
