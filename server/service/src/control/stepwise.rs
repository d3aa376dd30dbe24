//! Trials that stop before each effect: they wait in this process for what their operator decides.
//!
//! A trial that nobody decides about for [`PATIENCE`] ends as cancelled. It holds its places among the trials under way
//! as long as it lasts.

use std::collections::HashMap;
use std::sync::{Arc, Mutex, OnceLock, PoisonError};
use std::time::Duration;

use actix_web::HttpResponse;
use actix_web::web::{Data, Json, Path};
use kanzlei_api::runs::NamedValue;
use kanzlei_api::trials as api;
use kanzlei_compiler::plan::Plan;
use kanzlei_model::run::{FailureKind, RunState};
use kanzlei_model::time::{Span, Timestamp};
use kanzlei_model::value::Value;
use kanzlei_runtime::clock::now;
use kanzlei_runtime::trial::stepwise::{Command, Control, Paused};
use tokio::sync::mpsc;
use uuid::Uuid;

use super::auth::Caller;
use super::runs::{shown_steps, value, with_invoked};
use super::trials::kept::{self, effect};
use crate::App;
use crate::error::{Error, Result};

/// How long a trial waits for a decision.
const PATIENCE: Duration = Duration::from_secs(600);
/// The most values that one decision gives names.
const MOST_VALUES: usize = 50;

/// Trials that wait, by id.
#[derive(Debug, Default)]
pub struct Sessions(Mutex<HashMap<Uuid, Arc<Session>>>);

/// One trial that stops.
#[derive(Debug)]
pub struct Session {
    id: Uuid,
    operator: String,
    plan: Arc<Plan>,
    begins: Timestamp,
    input: Value,
    commands: mpsc::Sender<Command>,
    stops: tokio::sync::Mutex<mpsc::Receiver<Paused>>,
    /// The trial at its last stop, for who asks again.
    last: Mutex<Option<api::Trial>>,
    /// The trial at its end.
    ended: OnceLock<api::Trial>,
}

impl Sessions {
    /// A trial that begins to stop, and its ends of the channels.
    pub(super) fn open(
        &self,
        (id, begins): (Uuid, Timestamp),
        operator: &str,
        plan: &Arc<Plan>,
        input: &Value,
    ) -> (Arc<Session>, Control) {
        let ((stops, stopped), (commands, decided)) = (mpsc::channel(1), mpsc::channel(1));
        let session = Session {
            id,
            operator: operator.to_owned(),
            plan: plan.clone(),
            begins,
            input: plan.input.masked(input),
            commands,
            stops: tokio::sync::Mutex::new(stopped),
            last: Mutex::default(),
            ended: OnceLock::new(),
        };
        let session = Arc::new(session);
        self.lock().insert(id, session.clone());
        (session, Control { stops, commands: decided, input: input.clone(), patience: PATIENCE })
    }

    /// Those that wait for a decision, at their last stop.
    pub(super) fn waiting(&self) -> Vec<api::Trial> {
        let last = |session: &Arc<Session>| session.last.lock().unwrap_or_else(PoisonError::into_inner).clone();
        self.lock().values().filter_map(last).collect()
    }

    pub(super) fn close(&self, id: Uuid) {
        self.lock().remove(&id);
    }

    fn lock(&self) -> std::sync::MutexGuard<'_, HashMap<Uuid, Arc<Session>>> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

/// The trial at its next stop, or at its end.
pub(super) async fn next(app: &App, session: &Session) -> Result<HttpResponse> {
    let mut stops = session.stops.lock().await;
    let trial = match stops.recv().await {
        Some(paused) => {
            let trial = stopped(session, paused);
            *session.last.lock().unwrap_or_else(PoisonError::into_inner) = Some(trial.clone());
            trial
        }
        None => match session.ended.get() {
            Some(trial) => trial.clone(),
            None => kept::one(app, session.id).await?,
        },
    };
    Ok(HttpResponse::Ok().json(trial))
}

/// `POST /trials/{id}/decisions`: what comes of the effect before which the trial stopped.
pub async fn decide(
    app: Data<App>,
    caller: Caller,
    id: Path<Uuid>,
    body: Json<api::TrialDecision>,
) -> Result<HttpResponse> {
    let session = app.trials.sessions.lock().get(&*id).cloned();
    let Some(session) = session.filter(|session| session.operator == caller.name) else {
        // One that ended has nothing left to decide.
        return Ok(HttpResponse::Ok().json(kept::one(&app, *id).await?));
    };
    let mut commands = commands(body.into_inner())?;
    let last = commands.pop();
    for command in commands {
        session.decide(command).await;
        session.stops.lock().await.recv().await;
    }
    if let Some(last) = last {
        session.decide(last).await;
    }
    next(&app, &session).await
}

impl Session {
    /// Sets what came of it.
    pub(super) fn end(&self, trial: api::Trial) {
        let _ = self.ended.set(trial);
    }

    /// What cannot be sent any more is decided by the end of the trial.
    async fn decide(&self, command: Command) {
        let _ = self.commands.send(command).await;
    }
}

/// Values are set one after another, before anything else.
fn commands(decision: api::TrialDecision) -> Result<Vec<Command>> {
    let refused = |why: String| Error::problem(422, "Invalid decision", why);
    if decision.values.len() > MOST_VALUES {
        return Err(refused(format!("one decision sets at most {MOST_VALUES} values")));
    }
    let values = decision.values.iter();
    let mut commands: Vec<Command> =
        values.map(|(name, value)| Command::Set { name: name.clone(), value: Value::from_json(value) }).collect();
    commands.push(match decision.decision.as_str() {
        "set" if commands.is_empty() => return Err(refused("`values` says which names have other values".into())),
        "set" => return Ok(commands),
        "usual" => Command::Usual,
        "perform" => Command::Perform,
        "simulate" => Command::Simulate,
        "skip" => Command::Skip,
        "finish" => Command::Finish,
        "end" => Command::End,
        "answer" => {
            let status = decision.status.unwrap_or(200);
            if !(100..=599).contains(&status) {
                return Err(refused(format!("{status} is no status of HTTP")));
            }
            let body = (!decision.body.is_null()).then(|| Value::from_json(&decision.body));
            Command::Answer { status, headers: decision.headers.into_iter().collect(), body }
        }
        "fail" => {
            let kind = if decision.kind.is_empty() { "timeout" } else { &decision.kind };
            let kind = FailureKind::of(kind).ok_or_else(|| {
                let known = FailureKind::NAMES.join(", ");
                refused(format!("there is no kind of failure `{kind}`; there are {known}"))
            })?;
            Command::Fail { kind, detail: "the trial's author let it fail".into() }
        }
        other => {
            let known = "usual, perform, simulate, skip, answer, fail, set, finish, end";
            return Err(refused(format!("`{other}` is no decision; there are {known}")));
        }
    });
    Ok(commands)
}

fn stopped(session: &Session, paused: Paused) -> api::Trial {
    let items: Vec<String> = paused.items.iter().map(u32::to_string).collect();
    let names = paused.names.into_iter().map(|(name, json)| NamedValue { name, value: value(Some(&json)) });
    api::Trial {
        id: session.id,
        workflow: session.plan.name.clone(),
        state: RunState::Running,
        status: None,
        started: session.begins,
        duration_us: (now() - session.begins).max(Span::ZERO),
        entry: "trial".into(),
        expires: now() + Span::from(PATIENCE),
        operator: session.operator.clone(),
        input: session.input.to_serde(),
        reply: Default::default(),
        failure: None,
        sheet: with_invoked(session.plan.sheet.clone(), &paused.steps),
        steps: shown_steps(&paused.steps, &session.plan.sheet, session.begins),
        effects: paused.tried.into_iter().map(effect).collect(),
        stop: Some(api::TrialStop {
            step: paused.number,
            items: (!items.is_empty()).then(|| items.join(".")),
            effect: effect(paused.effect),
            names: names.collect(),
            refused: paused.refused,
        }),
    }
}
