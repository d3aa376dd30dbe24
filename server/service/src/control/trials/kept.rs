//! Trials that ended: written with what they did, as it is shown, and read again by every process.

use actix_web::HttpResponse;
use actix_web::web::{Data, Json, Path, Query};
use kanzlei_api::runs::{CaseName, RecordedCase};
use kanzlei_api::trials as api;
use kanzlei_engine::machine::Ended as EndOfRun;
use kanzlei_model::run::RunState;
use kanzlei_model::time::Timestamp;
use kanzlei_model::trace::Trace;
use kanzlei_model::value::Value;
use kanzlei_runtime::clock::now;
use kanzlei_runtime::journal::{self, Finished};
use kanzlei_runtime::trial::{Ended, Mode, Tried};
use kanzlei_store::trials::TrialRow;
use uuid::Uuid;

use crate::App;
use crate::control::auth::Caller;
use crate::control::record::{collected, recorded};
use crate::control::runs::{failure, shown_steps, value, with_invoked};
use crate::error::{Error, Result};

/// The longest value that is kept of a trial, in bytes of JSON, and that of one with many long values.
const LONGEST: [usize; 2] = [64 << 10, 1 << 10];
/// The most bytes that are kept of a trial with values of full length.
const MOST: usize = 4 << 20;
/// Trials in the list.
const LISTED: u32 = 200;

/// What is known of a trial beside what it did.
pub struct About {
    pub id: Uuid,
    pub begins: Timestamp,
    pub input: Value,
    pub trace: Trace,
    pub operator: String,
    /// `trial`, or the endpoint it was called at.
    pub entry: String,
    /// The step it was to end with; empty for all.
    pub until: String,
}

/// Writes what a trial did and returns it as it is shown. A trial that cannot be written is shown once, to who asked for it.
pub async fn keep(app: &App, tried: Ended, about: About) -> api::Trial {
    let machine = tried.machine;
    let plan = machine.plan().clone();
    let mask = app.effects.secrets.of_run(&machine, &about.input);
    let effects = tried.tried.into_iter().map(|tried| effect(Tried { what: mask.text(tried.what), ..tried }));
    let effects: Vec<api::TrialEffect> = effects.collect();
    let unfinished = || EndOfRun { state: RunState::Failed, failure: None, at: about.begins };
    let finished = Finished {
        id: about.id,
        revision: 0,
        entry: about.entry.as_str().into(),
        started: about.begins,
        request_id: about.id.to_string(),
        trace: about.trace,
        span: 0,
        caller: Default::default(),
        ended: machine.ended().cloned().unwrap_or_else(unfinished),
        input: about.input,
        machine,
        sent: 0,
        job: false,
        listed: true,
    };
    let expires = now() + app.trial_age;
    let shown = |longest: usize| {
        let run = journal::row(&finished, longest, &app.effects.secrets, "");
        let trial = api::Trial {
            id: run.id,
            workflow: run.workflow.clone(),
            state: RunState::of(&run.state).unwrap_or(RunState::Failed),
            status: run.status,
            started: run.started,
            entry: about.entry.clone(),
            expires,
            operator: about.operator.clone(),
            duration_us: run.duration,
            input: value(Some(&run.input)),
            reply: value(run.reply.as_deref()),
            failure: failure(run.failure.as_deref()),
            sheet: with_invoked(plan.sheet.clone(), &run.steps),
            steps: shown_steps(&run.steps, &plan.sheet, run.started),
            effects: effects.clone(),
            stop: None,
        };
        let text = serde_json::to_string(&trial).unwrap_or_default();
        (run, trial, text)
    };
    let mut found = shown(LONGEST[0]);
    if found.2.len() > MOST {
        found = shown(LONGEST[1]);
    }
    let (run, trial, text) = found;
    let mut case = recorded(&run, &plan, default_name(about.id), None);
    if !about.until.is_empty() {
        case.notes.push(format!("the trial ended with step {}; complete what the steps behind it do", about.until));
    }
    let row = TrialRow {
        id: trial.id,
        workflow: trial.workflow.clone(),
        entry: trial.entry.clone(),
        state: run.state,
        status: trial.status,
        started: trial.started,
        expires,
        operator: trial.operator.clone(),
        shown: text,
        recorded: serde_json::to_string(&case).unwrap_or_default(),
    };
    if let Err(error) = app.store.keep_trial(&row).await {
        tracing::warn!(%error, trial = %row.id, "a trial was not kept");
    }
    trial
}

fn default_name(id: Uuid) -> String {
    format!("trial {id}")
}

/// An effect as it is listed.
pub(in crate::control) fn effect(tried: Tried) -> api::TrialEffect {
    let mode = match tried.mode {
        Mode::Real => "real",
        Mode::Stubbed => "stubbed",
        Mode::Simulated => "simulated",
    };
    api::TrialEffect { name: tried.name, what: tried.what, mode: mode.to_owned() }
}

fn gone(id: Uuid) -> Error {
    Error::not_found(format!("no trial {id} is kept; trials are kept for `journal.trial_days` days"))
}

/// A trial that ended.
pub(in crate::control) async fn one(app: &App, id: Uuid) -> Result<api::Trial> {
    let kept = app.store.trial(id, now()).await?.ok_or_else(|| gone(id))?;
    serde_json::from_str(&kept.0).map_err(|_| gone(id))
}

/// `GET /trials`: newest first; those that wait for a decision in this process too.
pub async fn list(app: Data<App>) -> Result<HttpResponse> {
    let waiting = app.trials.sessions.waiting().into_iter().map(|trial| api::TrialLine {
        id: trial.id,
        workflow: trial.workflow,
        state: trial.state,
        status: trial.status,
        started: trial.started,
        entry: trial.entry,
        operator: trial.operator,
    });
    let mut trials: Vec<api::TrialLine> = waiting.collect();
    trials.extend(app.store.trials(now(), LISTED).await?.into_iter().map(|row| api::TrialLine {
        id: row.id,
        workflow: row.workflow,
        state: RunState::of(&row.state).unwrap_or(RunState::Failed),
        status: row.status,
        started: row.started,
        entry: row.entry,
        operator: row.operator,
    }));
    trials.sort_by_key(|trial| std::cmp::Reverse(trial.id));
    Ok(HttpResponse::Ok().json(api::Trials { trials }))
}

/// `GET /trials/{id}`: one with what each step did.
pub async fn show(app: Data<App>, id: Path<Uuid>) -> Result<HttpResponse> {
    if let Some(trial) = app.trials.sessions.waiting().into_iter().find(|trial| trial.id == *id) {
        return Ok(HttpResponse::Ok().json(trial));
    }
    Ok(HttpResponse::Ok().json(one(&app, *id).await?))
}

/// `GET /trials/{id}/case`: a document of cases with one that shows what the trial did.
pub async fn case(app: Data<App>, id: Path<Uuid>, named: Query<CaseName>) -> Result<HttpResponse> {
    Ok(HttpResponse::Ok().json(case_of(&app, *id, named.into_inner()).await?))
}

/// `POST /trials/{id}/case`: adds the case to the draft of the workflow's cases.
pub async fn add_case(app: Data<App>, id: Path<Uuid>, caller: Caller, named: Json<CaseName>) -> Result<HttpResponse> {
    let trial = one(&app, *id).await?;
    let case = case_of(&app, *id, named.into_inner()).await?;
    collected(&app, &caller, &trial.workflow, case).await
}

async fn case_of(app: &App, id: Uuid, named: CaseName) -> Result<RecordedCase> {
    let kept = app.store.trial(id, now()).await?.ok_or_else(|| gone(id))?;
    let mut case: RecordedCase = serde_json::from_str(&kept.1).map_err(|_| gone(id))?;
    if let Some(name) = named.name {
        let name = kanzlei_lang::document::yaml::quoted(&name);
        case.document = case.document.replacen(&default_name(id), &name, 1);
    }
    Ok(case)
}
