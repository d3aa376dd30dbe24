//! Gradual deploys: begun by a deploy, compared, changed, finished and taken back.

use std::collections::BTreeMap;
use std::sync::Arc;

use actix_web::HttpResponse;
use actix_web::web::{Data, Json, Path};
use kanzlei_api::gradual::{AnswerCount, EndGradual, Gradual, GradualEnd, GradualLine, Graduals, NewRules, Side};
use kanzlei_compiler::check::Bundle;
use kanzlei_compiler::plan::Plan;
use kanzlei_lang::document::Source;
use kanzlei_lang::suggest;
use kanzlei_model::gradual::{Rules, percent};
use kanzlei_model::time::Span;
use kanzlei_runtime::clock::now;
use kanzlei_runtime::gradual::{Figures, beside, endpoints, figures};
use kanzlei_runtime::live::Live;
use kanzlei_store::documents::NewDocument;
use kanzlei_store::gradual::{self as store, End, MOST, Outcome};

use super::auth::Caller;
use super::deploys::{check_here, name_of, with_errors, with_live_but};
use crate::App;
use crate::error::{Error, Result};

/// The longest reason, in characters.
const REASON: usize = 500;

fn line(live: &Live, row: &store::Gradual) -> GradualLine {
    let in_force = live.gradual(&row.workflow).is_some_and(|one| one.workflow.revision == row.number);
    let fault = "it no longer passes the check beside what is live, or has other entries; the log says more";
    GradualLine {
        workflow: row.workflow.clone(),
        live: live.workflows.get(&row.workflow).map_or(0, |workflow| workflow.revision),
        revision: row.number,
        since: row.since,
        by: row.operator.clone(),
        rules: serde_json::from_str(&row.rules).unwrap_or_default(),
        fault: (row.end.is_none() && !in_force).then(|| fault.to_owned()),
    }
}

/// The gradual deploy of a workflow that is under way.
pub(super) async fn of(app: &App, live: &Live, workflow: &str) -> Result<Option<GradualLine>> {
    let row = app.store.gradual(workflow).await?.filter(|row| row.end.is_none());
    Ok(row.map(|row| line(live, &row)))
}

fn shown_end(End { at, outcome, by, reason }: End) -> GradualEnd {
    GradualEnd { at, outcome: outcome.name().into(), by, reason }
}

fn none(workflow: &str) -> Error {
    Error::not_found(format!(
        "no gradual deploy of `{workflow}` is under way; begin one with a deploy that names a share"
    ))
}

/// `GET /gradual`: gradual deploys that are under way.
pub async fn list(app: Data<App>) -> Result<HttpResponse> {
    let live = app.live.load_full();
    let graduals = app.store.graduals().await?.iter().map(|row| line(&live, row)).collect();
    Ok(HttpResponse::Ok().json(Graduals { graduals }))
}

/// `GET /workflows/{name}/gradual`: the last one of a workflow, with what both revisions did since.
pub async fn show(app: Data<App>, name: Path<String>) -> Result<HttpResponse> {
    let live = app.live.load_full();
    let row = app.store.gradual(&name).await?.ok_or_else(|| none(&name))?;
    let mut line = line(&live, &row);
    // What is live now may have become so later.
    line.live = app.store.live_before(&name, row.number).await?.unwrap_or(line.live);
    app.journal.flush().await;
    let [old, new] = figures(&app.store, &live, &name, row.since, [line.live, row.number]).await?;
    let worse = line.rules.worse(&old.side(), &new.side());
    let end = row.end.map(shown_end);
    let (old, new) = (side(line.live, &old), side(row.number, &new));
    Ok(HttpResponse::Ok().json(Gradual { line, end, old, new, worse }))
}

fn side(revision: u32, figures: &Figures) -> Side {
    let quantile = |share| figures.times.quantile(share).map(|us| Span::from_micros(us.try_into().unwrap_or(i64::MAX)));
    let answer = |(state, status, count): &(String, u16, u64)| AnswerCount {
        state: state.clone(),
        status: Some(*status).filter(|status| *status != 0),
        count: *count,
    };
    Side {
        revision,
        runs: figures.runs,
        failed: figures.failed,
        rejected: figures.rejected,
        p50_us: quantile(0.5),
        p95_us: quantile(0.95),
        p99_us: quantile(0.99),
        answers: figures.answers.iter().map(answer).collect(),
    }
}

/// `PUT /workflows/{name}/gradual`: other rules.
pub async fn change(app: Data<App>, caller: Caller, name: Path<String>, body: Json<NewRules>) -> Result<HttpResponse> {
    let NewRules { revision, rules } = body.into_inner();
    sound(&app, &rules).await?;
    let _turn = app.deploying.lock().await;
    let row = under_way(&app, &name, revision).await?;
    let text = serde_json::to_string(&rules).unwrap_or_default();
    caller.notes.changed(format!("gradual deploy of {name}"), Some(row.rules), Some(text.clone()));
    if !app.store.change_gradual(&name, revision, &text).await? {
        return Err(none(&name));
    }
    app.reload().await?;
    tracing::info!(
        workflow = name.as_str(),
        revision,
        rules = text,
        operator = caller.name,
        "a gradual deploy changed"
    );
    Ok(HttpResponse::Ok().json(of(&app, &app.live.load_full(), &name).await?.ok_or_else(|| none(&name))?))
}

/// `POST /workflows/{name}/gradual/finish`: its revision becomes the live one.
pub async fn finish(
    app: Data<App>,
    caller: Caller,
    name: Path<String>,
    body: Json<EndGradual>,
) -> Result<HttpResponse> {
    end(&app, &caller, &name, body.into_inner(), Outcome::Finished).await
}

/// `POST /workflows/{name}/gradual/take-back`: the live revision serves everything again.
pub async fn take_back(
    app: Data<App>,
    caller: Caller,
    name: Path<String>,
    body: Json<EndGradual>,
) -> Result<HttpResponse> {
    end(&app, &caller, &name, body.into_inner(), Outcome::TakenBack).await
}

async fn end(app: &App, caller: &Caller, name: &str, asked: EndGradual, outcome: Outcome) -> Result<HttpResponse> {
    if asked.reason.chars().count() > REASON {
        return Err(Error::problem(422, "Too long", format!("a reason has at most {REASON} characters")));
    }
    let _turn = app.deploying.lock().await;
    let row = under_way(app, name, asked.revision).await?;
    let live = app.live.load_full();
    if outcome == Outcome::Finished && live.gradual(name).is_none() {
        let detail = "the revision no longer passes the check beside what is live; take it back, and deploy it anew";
        return Err(Error::problem(409, "The revision serves nothing", detail));
    }
    let end = End { at: now(), outcome, by: caller.name.clone(), reason: asked.reason.trim().to_owned() };
    let after = format!("{}: {}", outcome.name(), end.reason);
    caller.notes.changed(format!("gradual deploy of {name}"), Some(format!("revision {}", row.number)), Some(after));
    if !app.store.end_gradual(name, row.number, &end).await? {
        return Err(none(name));
    }
    app.reload().await?;
    let (revision, outcome) = (row.number, outcome.name());
    tracing::info!(workflow = name, revision, outcome, operator = caller.name, "a gradual deploy ended");
    Ok(HttpResponse::Ok().json(shown_end(end)))
}

/// The gradual deploy that a request is about, when it is of that revision and under way.
async fn under_way(app: &App, name: &str, revision: u32) -> Result<store::Gradual> {
    let row = app.store.gradual(name).await?.filter(|row| row.end.is_none()).ok_or_else(|| none(name))?;
    if row.number == revision {
        return Ok(row);
    }
    let detail = format!("revision {} serves a share, not {revision}; look at it again", row.number);
    Err(Error::problem(409, "Another revision serves a share", detail))
}

/// Refuses rules that cannot be meant.
async fn sound(app: &App, rules: &Rules) -> Result<()> {
    let refused = |detail: String| Err(Error::problem(422, "Not rules of a gradual deploy", detail));
    if let Some(fault) = rules.fault() {
        return refused(fault);
    }
    if rules.keys.is_empty() {
        return Ok(());
    }
    let known: Vec<String> = app.store.keys().await?.into_iter().map(|key| key.name).collect();
    match rules.keys.iter().find(|key| !known.contains(key)) {
        None => Ok(()),
        Some(unknown) => {
            let near = suggest::nearest(unknown, known.iter().map(String::as_str));
            let hint = near.map(|near| format!("; did you mean `{near}`?")).unwrap_or_default();
            refused(format!("there is no key `{unknown}`{hint}"))
        }
    }
}

/// Leaves the one workflow that changes among the documents of a gradual deploy, and refuses what cannot stand beside what is live.
pub(super) async fn fits(
    app: &App,
    live: &Live,
    rules: &Rules,
    new: &mut Vec<NewDocument>,
    plans: &BTreeMap<String, Arc<Plan>>,
) -> Result<()> {
    sound(app, rules).await?;
    let refused = |detail: String| Err(Error::problem(422, "Not a gradual deploy", detail));
    let unchanged = |document: &NewDocument| {
        let live = live.documents.iter().find(|one| one.kind == document.kind && one.name == document.name);
        live.is_some_and(|live| live.source == document.source && live.file == document.file)
    };
    new.retain(|document| !unchanged(document));
    let [document] = new.as_slice() else {
        let names: Vec<String> = new.iter().map(|document| format!("{} `{}`", document.kind, document.name)).collect();
        return refused(match names.is_empty() {
            true => "nothing differs from what is live".into(),
            false => {
                format!("one workflow is deployed at a time, and these differ from what is live: {}", names.join(", "))
            }
        });
    };
    let name = &document.name;
    if document.kind != "workflow" {
        return refused(format!("a {} is live for all at once; deploy `{name}` without a share", document.kind));
    }
    let Some((before, after)) = live.workflows.get(name).zip(plans.get(name)) else {
        return refused(format!(
            "no revision of `{name}` is live that could serve the rest; deploy it without a share"
        ));
    };
    if let Err(why) = endpoints(&before.plan, after) {
        return refused(format!(
            "the new revision of `{name}` cannot stand beside the live one: {why}; deploy it without a share"
        ));
    }
    if live.graduals.keys().filter(|other| *other != name).count() >= MOST {
        return refused(format!("at most {MOST} gradual deploys are under way at once; end one of them"));
    }
    Ok(())
}

/// Checks that the revisions which serve a share pass the check beside what a deploy changes.
pub(super) async fn stay_sound(app: &App, live: &Arc<Live>, given: &Bundle, renamed: Option<&str>) -> Result<()> {
    for (name, gradual) in &live.graduals {
        let is =
            |source: &Source| name_of(&source.text).is_some_and(|(kind, given)| kind == "workflow" && given == *name);
        let before = live.workflows.get(name).map(|workflow| workflow.source.as_str());
        let replaced = given.documents.iter().any(|source| is(source) && Some(source.text.as_str()) != before);
        if replaced || renamed == Some(name) {
            continue;
        }
        // What is given as it is live stays beside the gradual revision.
        let mut given = given.clone();
        given.documents.retain(|source| !is(source));
        let bundle = with_live_but(given.clone(), &beside(&live.documents, &gradual.document), renamed);
        let others = bundle.documents[given.documents.len()..].to_vec();
        let checked = check_here(app, bundle).await?;
        if checked.errors() > 0 {
            let (revision, share) = (gradual.workflow.revision, percent(gradual.rules.share));
            let title = format!("Revision {revision} of {name}, which serves {share}, does not fit the documents");
            return Err(with_errors(&title, checked, &others));
        }
    }
    Ok(())
}
