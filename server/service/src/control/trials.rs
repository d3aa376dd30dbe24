//! Trials: drafts run once beside what is live, apart from the journal and its counts.
//!
//! What a trial did is kept for `journal.trial_days` in records of its own ([`kept`]); those that stop before each effect wait in
//! their process ([`super::stepwise`]).

pub mod kept;

use kanzlei_runtime::files::Holder;
use kanzlei_runtime::files::rows::Readings;
use std::collections::HashMap;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use actix_web::HttpResponse;
use actix_web::web::{Data, Json};
use kanzlei_api::trials as api;
use kanzlei_compiler::beside;
use kanzlei_compiler::check::{Bundle, Checked};
use kanzlei_compiler::example;
use kanzlei_compiler::input::InputPlan;
use kanzlei_compiler::plan::Plan;
use kanzlei_engine::machine::{Machine, Start};
use kanzlei_lang::confidential::MASK;
use kanzlei_lang::diagnostic::Severity;
use kanzlei_lang::document::{self, Document, Source};
use kanzlei_lang::edit::{self, At, Change};
use kanzlei_model::caller::Caller as Known;
use kanzlei_model::problem::Problem;
use kanzlei_model::time::Timestamp;
use kanzlei_model::trace::Trace;
use kanzlei_model::value::Value;
use kanzlei_rehearsal::Prepared;
use kanzlei_rehearsal::record::{self, Past};
use kanzlei_rehearsal::simulate::Simulation;
use kanzlei_runtime::clock::now;
use kanzlei_runtime::direct::InFlight;
use kanzlei_runtime::effects::Context;
use kanzlei_runtime::live::Live;
use kanzlei_runtime::trial::{Modes, Trial};
use kanzlei_store::documents::LiveDocument;
use serde_json::{Value as JsonValue, json};
use uuid::Uuid;

use super::auth::Caller;
use super::deploys::{Given, check_here, name_of, news, with_live};
use super::record::past;
use super::runs::{past_run, plan_of_run};
use super::stepwise::{Sessions, next};
use crate::App;
use crate::error::{Error, Result};
use kept::About;

/// Trials at the same time, of all operators and of one.
const AT_ONCE: usize = 8;
const AT_ONCE_OF_ONE: usize = 4;
/// How long a trial may take, waits that it skips not counted.
const WITHIN: Duration = Duration::from_secs(60);
/// Trials of this process.
#[derive(Debug, Default)]
pub struct Trials {
    under_way: Arc<AtomicUsize>,
    /// Those under way by operator.
    of_each: Mutex<HashMap<String, Arc<AtomicUsize>>>,
    /// Those that wait for decisions.
    pub(super) sessions: Sessions,
}

impl Trials {
    /// A place among those under way; the error says whose places are taken.
    fn enter(&self, operator: &str) -> std::result::Result<[InFlight; 2], String> {
        let mut of_each = self.of_each.lock().unwrap_or_else(PoisonError::into_inner);
        of_each.retain(|_, count| count.load(Ordering::Relaxed) > 0);
        let own = of_each.entry(operator.to_owned()).or_default();
        let own = InFlight::enter(own, AT_ONCE_OF_ONE)
            .ok_or_else(|| format!("an operator runs at most {AT_ONCE_OF_ONE} trials at once; wait until one ends"))?;
        let all = InFlight::enter(&self.under_way, AT_ONCE);
        Ok([own, all.ok_or_else(|| format!("{AT_ONCE} trials run at once; try again in a moment"))?])
    }
}

/// `POST /trials`: runs a workflow once and shows what it did.
pub async fn run(app: Data<App>, caller: Caller, body: Json<api::TrialRequest>) -> Result<HttpResponse> {
    let asked = body.into_inner();
    let place = app.trials.enter(&caller.name);
    let place = place.map_err(|detail| Error::problem(503, "Too many trials", detail))?;
    let live = app.live.load_full();
    let documents = asked.documents.iter().map(|document| Source::new(&document.path, &document.text));
    let given = Given::of(documents, &asked.files, &asked.drafts);
    let ends = format!("{}{}", asked.until, asked.from);
    if !asked.only.is_empty() && !ends.is_empty() {
        return Err(Error::problem(
            422,
            "Two ends",
            "`only` names a step by itself: `from` and `until` do not go with it",
        ));
    }
    let until = if asked.only.is_empty() { asked.until.clone() } else { asked.only.clone() };
    let (plan, checked, bundle) = prepare(&app, &live, given, &asked.workflow, &until).await?;
    let named = |step: &str| plan.sheet.iter().find(|p| p.number == step || p.name.as_deref() == Some(step));
    let only = named(&asked.only).filter(|_| !asked.only.is_empty()).map(|paragraph| paragraph.number.clone());
    let before = match asked.run {
        Some(run) => Some(before(&app, run, only.as_deref().unwrap_or(&asked.from), &asked.recorded).await?),
        None if !asked.recorded.is_empty() => {
            return Err(Error::problem(
                422,
                "Missing run",
                "`recorded` needs a past run that was answered: name it with `run`",
            ));
        }
        None if !asked.from.is_empty() => {
            return Err(Error::problem(422, "Missing run", "`from` is a step of a past run: name it with `run`"));
        }
        None => None,
    };
    let answers = before.as_ref().and_then(|before| before.answers.as_deref()).filter(|text| !text.trim().is_empty());
    let own = asked.stubs.trim().to_owned();
    let stubs = match (own.as_str(), answers) {
        ("", None) => None,
        ("", Some(text)) | (text, None) => Some(stubs(&asked.workflow, text, &checked)?),
        // What the author writes comes first.
        (own, Some(then)) => Some(stubs(&asked.workflow, &format!("{own}\n{then}"), &checked)?),
    };
    let table = table(&app, live, checked, bundle).await?;
    let delivered = match (asked.delivery, &asked.change) {
        (Some(id), _) => Some(super::deliveries::input_of(&app, id, &plan).await?),
        (None, Some(change)) => Some(super::watches::input_of(&plan, change)?),
        (None, None) => None,
    };
    let given = delivered.as_ref().or(before.as_ref().map(|before| &before.past.input));
    let input = input(&plan.input, &asked, given)?;
    let past_caller = before.as_ref().map(|before| before.past.caller.clone());
    let id = Uuid::now_v7();
    let mut begins = now();
    let mut remembered = None;
    if let Some(before) = before.filter(|before| before.answers.is_some()) {
        begins = before.started;
        remembered = before.past.kept.is_object().then(|| Value::from_json(&before.past.kept));
    }
    let calls = match (asked.caller, &past_caller) {
        (Some(own), _) => {
            let claims = Some(own.claims).filter(|claims| !claims.is_null());
            Known {
                name: own.name.or_else(|| own.key.clone()),
                key: own.key,
                owner: own.owner,
                claims: claims.map(Arc::new),
            }
        }
        (None, past) => past.clone().unwrap_or_default(),
    };
    let start = Start { caller: calls, ..Start::new(id.to_string(), input.clone(), begins) };
    let trace = Trace { id: Uuid::new_v4().as_u128(), ..Trace::default() };
    let opened = asked.stepwise.then(|| app.trials.sessions.open((id, begins), &caller.name, &plan, &input));
    let (session, control) = opened.unzip();
    let about = context(&app, id, trace, &plan, Holder::direct(app.effects.files.clone()));
    let modes = Modes { all: asked.live, real: asked.real, simulated: asked.simulated };
    let machine = Machine::new(plan.clone(), start).with_key(app.jobs.key_of(id));
    // Who waits for the next stop learns of the end once the trial is kept.
    let open = control.as_ref().map(|control| control.stops.clone());
    let here = app.clone();
    let operator = caller.name.clone();
    let ends_session = session.clone();
    let performed = async move {
        let _place = place;
        let mut simulation = Simulation::new(stubs.as_ref());
        if let Some(values) = remembered {
            simulation.remember(&plan.name, values);
        }
        let effects = here.effects.clone();
        let trial =
            Trial { machine, live: table, effects, about, modes, simulation, begins, within: WITHIN, control, only };
        let ended = trial.run().await;
        let about = About { id, begins, input, trace, operator, entry: "trial".into(), until };
        let kept = kept::keep(&here, ended, about).await;
        if let Some(session) = ends_session {
            session.end(kept.clone());
        }
        drop(open);
        kept
    };
    let Some(session) = session else { return Ok(HttpResponse::Ok().json(performed.await)) };
    // It goes on when this request has its answer.
    let sessions = app.clone();
    actix_web::rt::spawn(async move {
        performed.await;
        sessions.trials.sessions.close(id);
    });
    next(&app, &session).await
}

/// What a trial identifies itself by to services.
pub fn context(app: &App, id: Uuid, trace: Trace, plan: &Plan, files: Arc<Holder>) -> Context {
    Context {
        id,
        job: false,
        attempt: 1,
        generation: 0,
        readings: Readings::default(),
        files,
        caller: Known::default(),
        confidential: plan.labels.any,
        trace,
        span: app.jobs.span_of(id),
        request_id: id.to_string(),
    }
}

/// A past run that a trial begins with.
struct Before {
    past: Past,
    started: Timestamp,
    /// Stubs that answer as the run was answered; nothing where none are asked for.
    answers: Option<String>,
}

async fn before(app: &App, run: Uuid, from: &str, recorded: &[String]) -> Result<Before> {
    let run = past_run(app, &run.to_string()).await?;
    let plan = plan_of_run(app, &run).await?;
    let past = past(app.jobs.key_of(run.id), &run, &plan, String::new());
    let from = Some(from).filter(|from| !from.is_empty());
    let answers = match from.is_some() || !recorded.is_empty() {
        false => None,
        true => Some(record::answers(&past, from, recorded).ok_or_else(|| {
            let detail = format!("the run did not get to a step {}", from.unwrap_or_default());
            Error::problem(422, "The trial cannot continue there", detail)
        })?),
    };
    Ok(Before { past, started: run.started, answers })
}

/// The plan that is tried, with all it sees: what is live, with the documents and drafts of the author.
pub(super) async fn prepare(
    app: &App,
    live: &Live,
    given: Given,
    name: &str,
    until: &str,
) -> Result<(Arc<Plan>, Checked, Bundle)> {
    let (given, _) = given.read(app, live).await?;
    let mut bundle = with_live(given, live);
    let wanted =
        |source: &&mut Source| name_of(&source.text).is_some_and(|(kind, of)| kind == "workflow" && of == name);
    let Some(source) = bundle.documents.iter_mut().find(wanted) else {
        let detail = format!("there is no workflow `{name}` among the documents, the drafts and what is live");
        return Err(Error::not_found(detail));
    };
    if !until.is_empty() {
        let (text, until) = (source.text.clone(), until.to_owned());
        source.text = app.background.run(move || up_to(&text, &until)).await??;
    }
    let path = source.path.clone();
    let checked = check_here(app, bundle.clone()).await?;
    if let Some(plan) = checked.plan(name).cloned() {
        return Ok((plan, checked, bundle));
    }
    let mut found = news(checked.diagnostics);
    found.retain(|found| found.path == path || found.severity == Severity::Error);
    let mut problem = Problem::new(422, "The workflow has errors").detail("mend them, and try again".to_owned());
    problem.with.insert("diagnostics".into(), json!(found));
    Err(Error::Runtime(kanzlei_runtime::Error::Problem(Box::new(problem))))
}

/// The text of a workflow without the steps behind one, which is known by its number or id.
fn up_to(text: &str, until: &str) -> Result<String> {
    let bad = |why: String| Error::problem(422, "The trial cannot end there", why);
    let outline = edit::steps::outline(text).map_err(|error| bad(error.to_string()))?;
    let step = outline.iter().find(|step| step.number == until || step.id.as_deref() == Some(until));
    let step = step.ok_or_else(|| bad(format!("the workflow has no step `{until}`")))?;
    let mut text = text.to_owned();
    // From the innermost list outwards, in each the steps behind, the last one first.
    for length in (1..=step.at.len()).rev() {
        let (list, At::Item(index)) = (&step.at[..length - 1], &step.at[length - 1]) else { continue };
        let item = |item: usize| [list, &[At::Item(item)]].concat();
        let last = outline.iter().filter(|other| other.at.len() == length && other.at.starts_with(list));
        let last = last.filter_map(|other| match other.at.last() {
            Some(At::Item(at)) => Some(*at),
            _ => None,
        });
        let last = last.max().unwrap_or(*index);
        if last == *index {
            continue;
        }
        // Lines go at once; what stands between brackets, one by one.
        if let Ok(lines) = edit::piece(&text, &item(index + 1), last - index) {
            text.replace_range(lines.start..lines.end, "");
            continue;
        }
        for behind in (index + 1..=last).rev() {
            let edits =
                edit::change(&text, &Change::Remove { at: item(behind) }).map_err(|error| bad(error.to_string()))?;
            text = edit::apply(&text, &edits).map_err(|error| bad(error.to_string()))?;
        }
    }
    Ok(text)
}

/// The table that the trial sees.
pub(super) async fn table(app: &App, live: Arc<Live>, checked: Checked, bundle: Bundle) -> Result<Arc<Live>> {
    let (bases, journal, public) = (app.bases.clone(), app.journal.clone(), app.public());
    let build = move || {
        let documents = bundle.documents.iter().map(|source| as_live(source, &bundle, &live)).collect();
        Live::from_checked(checked, documents, &bases, &journal, &live, &public)
    };
    Ok(Arc::new(app.background.run(build).await?))
}

/// A document as it would be live; one that cannot be read is there without a name.
fn as_live(source: &Source, bundle: &Bundle, live: &Live) -> LiveDocument {
    let (kind, name) = name_of(&source.text).unwrap_or_default();
    let known = live.documents.iter().find(|document| document.kind == kind && document.name == name);
    LiveDocument {
        number: known.map_or(0, |known| known.number),
        since: known.map_or_else(now, |known| known.since),
        path: source.path.clone(),
        source: source.text.clone(),
        file: beside::pack(&source.text, &|name| bundle.file(&source.path, name)),
        kind: kind.to_owned(),
        name,
    }
}

/// The stubs of a text, prepared as those of a case.
pub(super) fn stubs(name: &str, text: &str, checked: &Checked) -> Result<Prepared> {
    let indented: String = text.lines().map(|line| format!("  {line}\n")).collect();
    let case = format!(
        "cases: {name}\nstubs:\n{indented}examples: [{{name: trial, input: {{}}, expect: {{state: succeeded}}}}]\n"
    );
    let source = Source::new("stubs.yaml", case);
    let (found, mut findings) = document::read(&source, &|_| None);
    let mut prepared = None;
    if let Some(Document::Cases(cases)) = &found {
        let (ready, more) = kanzlei_rehearsal::prepare_stubs(&source, cases, checked);
        findings.extend(more);
        prepared = ready;
    }
    match (prepared, findings.iter().find(|found| found.severity == Severity::Error)) {
        (Some(prepared), None) => Ok(prepared),
        (_, fault) => {
            let why = fault.map(|fault| format!("{} (line {})", fault.message, fault.line.saturating_sub(2)));
            Err(Error::problem(422, "The stubs cannot be used", why.unwrap_or_default()))
        }
    }
}

/// The input of a trial: what is given, over that of a past run or a sample of the schema.
fn input(plan: &InputPlan, asked: &api::TrialRequest, past: Option<&JsonValue>) -> Result<Value> {
    let mut whole = serde_json::Map::new();
    if let Some(members) = past.and_then(JsonValue::as_object) {
        whole.extend(members.clone());
    } else if !asked.exact {
        whole.extend(plan.properties.iter().map(|property| (property.name.clone(), example::of(&property.schema))));
    }
    match &asked.input {
        JsonValue::Null => {}
        JsonValue::Object(members) => whole.extend(members.clone()),
        _ => return Err(Error::problem(422, "Malformed input", "the input of a workflow is an object")),
    }
    let refused = |problem: Box<Problem>| Error::Runtime(kanzlei_runtime::Error::Problem(problem));
    let masked = |value: &JsonValue| value.to_string().contains(MASK) || value.get("$cut").is_some();
    if let Some((name, _)) = whole.iter().find(|(_, value)| past.is_some() && masked(value)) {
        let detail = format!("`{name}` of that run is masked or cut in the journal; give it yourself");
        return Err(Error::problem(422, "The input is not known", detail));
    }
    plan.accept(&plan.hold(&Value::from_json(&JsonValue::Object(whole)))).map_err(refused)
}
