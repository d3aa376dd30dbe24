//! Live services: listed with who calls them and how that went, shown, retired.

use std::collections::BTreeMap;
use std::sync::Arc;

use actix_web::HttpResponse;
use actix_web::web::{Data, Path, Query};
use kanzlei_api::services::{Service, ServiceLine, ServiceSecret, ServiceToken, Services, ServicesQuery, described};
use kanzlei_compiler::plan::{Action, Plan};
use kanzlei_lang::document::alert::Subject;
use kanzlei_lang::document::purpose::Purpose;
use kanzlei_lang::document::reader::Named;
use kanzlei_runtime::clock::now;
use kanzlei_runtime::live::{self, Live};
use kanzlei_store::statistics::StepCount;

use super::auth::Caller;
use super::statistics::{SPAN, counted, place};
use super::workflows::retire_one;
use crate::App;
use crate::error::{Error, Result};

/// `GET /services`: what is live.
pub async fn services(app: Data<App>, query: Query<ServicesQuery>) -> Result<HttpResponse> {
    let live = app.live.load_full();
    let mut day = match query.day {
        true => Some(calls_of_a_day(&app, &live).await?),
        false => None,
    };
    let purposes = app.effects.secrets.purposes();
    let mut listed: Vec<_> = live.services.values().collect();
    listed.sort_by(|a, b| a.name.cmp(&b.name));
    let listed = listed.into_iter().map(|service| {
        let callers = live.workflows.values().filter(|workflow| workflow.plan.services.contains(&service.name));
        ServiceLine {
            name: service.name.clone(),
            about: service.about.clone(),
            base: service.base.clone(),
            hosts: hosts(service),
            network: network(service.private),
            operations: service.operations.len(),
            callers: callers.map(|workflow| workflow.plan.name.clone()).collect(),
            secrets: secrets(service, &purposes),
            token: token(service),
            day: day.as_mut().map(|day| counted(&day.remove(&service.name).unwrap_or_default())),
        }
    });
    Ok(HttpResponse::Ok().json(Services { services: listed.collect() }))
}

/// The calls of each service in the last 24 hours, by all revisions that ran.
async fn calls_of_a_day(app: &App, live: &Live) -> Result<BTreeMap<String, StepCount>> {
    let since = (now() - SPAN).as_minutes();
    let mut sums: BTreeMap<String, StepCount> = BTreeMap::new();
    app.journal.flush().await;
    for (name, workflow) in &live.workflows {
        // Only the live plan is at hand; a former one is read where it ran.
        for (revision, steps) in app.store.step_counts(&live.names_of(name), since).await? {
            let plan = match revision == workflow.revision {
                true => Some(workflow.plan.clone()),
                false => super::runs::plan_of(app, name, revision).await?,
            };
            let Some(plan) = plan else { continue };
            for step in &steps {
                if let Some(service) = called(&plan, &step.number) {
                    sums.entry(service.to_owned()).or_default().merge(step);
                }
            }
        }
    }
    Ok(sums)
}

/// The service that a step calls, by its number.
fn called<'p>(plan: &'p Plan, number: &str) -> Option<&'p str> {
    let (plan, paragraph) = place(plan, number)?;
    let mut steps = plan.blocks.iter().flatten();
    steps.find_map(|step| match &step.action {
        Action::Call(call) if step.paragraph == paragraph => Some(call.service.as_str()),
        _ => None,
    })
}

/// The secrets that a service is called with.
fn secrets(service: &live::Service, set: &BTreeMap<String, Vec<Purpose>>) -> Vec<ServiceSecret> {
    let one = |(name, purpose): (&Named, Purpose)| ServiceSecret {
        name: name.text.clone(),
        set: set.get(&name.text).is_some_and(|bound| bound.iter().any(|bound| bound.covers(&purpose))),
        purpose: purpose.to_string(),
    };
    service.secrets().map(one).collect()
}

/// The token of its calls.
fn token(service: &live::Service) -> Option<ServiceToken> {
    let standing = service.oauth.as_ref()?.standing();
    let valid_s = standing.valid.map(|valid| valid.as_secs());
    Some(ServiceToken { from: standing.from, valid_s, trouble: standing.trouble })
}

fn hosts(service: &live::Service) -> Vec<String> {
    service.hosts.as_ref().map(|hosts| hosts.shown()).unwrap_or_default()
}

fn network(private: bool) -> String {
    if private { "private" } else { "public" }.into()
}

/// `GET /services/{name}`: one service with what its operations accept and return.
pub async fn service(app: Data<App>, name: Path<String>) -> Result<HttpResponse> {
    let live = app.live.load();
    let Some(service) = live.services.get(name.as_str()) else {
        let near = kanzlei_lang::suggest::nearest(&name, live.services.keys().map(String::as_str));
        let hint = near.map(|near| format!("; did you mean `{near}`?")).unwrap_or_default();
        return Err(Error::not_found(format!("no service `{name}` is live{hint}")));
    };
    let operations = service.operations.iter().map(|(id, operation)| described(&service.api, id, operation));
    let limits = service.limiter.limits();
    Ok(HttpResponse::Ok().json(Service {
        name: service.name.clone(),
        about: service.about.clone(),
        base: service.base.clone(),
        hosts: hosts(service),
        network: network(service.private),
        secrets: secrets(service, &app.effects.secrets.purposes()),
        token: token(service),
        at_once: limits.at_once,
        pace: limits.pace.map(|(count, every)| format!("{count} in {}", kanzlei_model::duration::short(every))),
        shared: limits.shared.is_some(),
        operations: operations.collect(),
    }))
}

/// `DELETE /services/{name}`: retires a service that no live workflow calls.
pub async fn retire_service(app: Data<App>, caller: Caller, name: Path<String>) -> Result<HttpResponse> {
    caller.notes.changed(format!("service {name}"), None, Some("retired".into()));
    let live = app.live.load_full();
    let users: Vec<&str> =
        live.workflows.values().filter(|w| w.plan.services.contains(&name)).map(|w| w.plan.name.as_str()).collect();
    if !users.is_empty() {
        return Err(Error::problem(409, "The service is in use", format!("it is called by {}", users.join(", "))));
    }
    let issues_for =
        |service: &&Arc<live::Service>| service.oauth.as_ref().is_some_and(|grant| grant.standing().from == *name);
    if let Some(service) = live.services.values().find(issues_for) {
        let detail = format!("it issues the tokens of `{}`", service.name);
        return Err(Error::problem(409, "The service is in use", detail));
    }
    super::alerts::named_by_none(&live, |alert| alert.subject == Subject::Service && alert.of == *name)?;
    retire_one(&app, "service", &name, &caller.name).await
}
