//! Repairs of single jobs: with which revision a retry continues, waits that are moved, callbacks that are answered by hand,
//! and inputs that are corrected before their job begins.

use std::sync::Arc;

use actix_web::HttpResponse;
use actix_web::web::{Data, Json, Path};
use kanzlei_api::jobs::{AwaitedCallback, CallbackAnswer, InputChange, RetryFrom, RetryWith};
use kanzlei_compiler::plan::Plan;
use kanzlei_engine::driver::adopt::{self, Known};
use kanzlei_engine::driver::{self, Nothing, Recorded, at_once};
use kanzlei_engine::machine::{Effect, EffectId, Machine, Start};
use kanzlei_lang::confidential::MASK;
use kanzlei_model::file::{files_of, of_record, to_record};
use kanzlei_model::problem::Problem;
use kanzlei_model::run::{FailureKind, JobPhase};
use kanzlei_model::time::Timestamp;
use kanzlei_model::value::Value;
use kanzlei_runtime::clock::now;
use kanzlei_runtime::live::Live;
use kanzlei_runtime::queue::{Origin, hash, history_line, outcome_of};
use kanzlei_store::queue::{Adopted, CallbackState, JobRow, NewJob, OutcomeRow};
use uuid::Uuid;

use super::auth::Caller;
use super::jobs::read_id;
use crate::App;
use crate::error::{Error, Result};
use crate::public::callbacks::accepted;

/// How a run of a job stands by what is recorded of it.
pub struct Standing {
    /// The run itself.
    pub machine: Box<Machine>,
    /// Effects without an outcome, with the waits that were moved.
    pub asked: Vec<(EffectId, Effect)>,
}

impl Standing {
    fn step_of(&self, effect: EffectId) -> String {
        self.machine.waiting(effect).map(|waiting| waiting.number).unwrap_or_default()
    }
}

fn start_of(job: &JobRow, input: Value, started: Timestamp) -> Start {
    Start {
        id: job.id.to_string(),
        input,
        now: started,
        caller: job.caller.clone(),
        attempt: job.attempt,
        generation: job.depth,
        settings: None,
    }
}

/// The run of a job as it stands; nothing where it has not begun, or where its outcomes are not kept any longer.
pub async fn standing(app: &App, job: &JobRow, plan: Arc<Plan>, input: Value) -> Result<Option<Standing>> {
    let Some(started) = job.started else { return Ok(None) };
    let start = start_of(job, input, started);
    let rows = app.store.outcomes(&[(job.id, job.attempt)]).await?;
    if rows.is_empty() && job.outcomes > 0 {
        // They went into the journal, which kept them for a shorter time than the job.
        return Ok(None);
    }
    let (secrets, key, moved) = (app.effects.secrets.clone(), app.jobs.key_of(job.id), job.moved.clone());
    let replay = move || {
        let mut machine = Machine::new(plan, start).with_key(key);
        let read = |row: &OutcomeRow| {
            let outcome = outcome_of(&secrets, row).ok_or_else(|| format!("outcome {}", row.seq))?;
            Ok((row.effect, outcome, row.at))
        };
        let mut recorded = Recorded::new(rows.iter().map(read));
        let Ok(_) = at_once(driver::drive(&mut machine, &mut recorded, &mut Nothing, started));
        let asked = recorded.asked.into_iter().map(|(id, effect)| match moved.get(&id) {
            Some(at) => (id, effect.moved(*at)),
            None => (id, effect),
        });
        Standing { machine, asked: asked.collect() }
    };
    Ok(Some(app.background.run(replay).await?))
}

/// The plan and the input of a job; nothing where one of them cannot be read.
async fn read(app: &App, live: &Live, job: &JobRow) -> Result<Option<(Arc<Plan>, Value)>> {
    let plan = app.jobs.plans.get(&app.store, live, &job.workflow, job.revision, job.generation).await?;
    let input = app.effects.secrets.unguard(&job.input).and_then(|text| of_record(&text));
    Ok(plan.zip(input))
}

/// How a job is to be retried.
#[derive(Clone, Copy, Debug)]
pub struct Retried {
    pub from: RetryFrom,
    pub with: RetryWith,
}

/// How a job can be retried.
pub struct Retriable {
    /// The revision that continues, where it is another one.
    pub with: Option<Adopted>,
    /// Whether its last outcome is of the failed step.
    pub withdraws: bool,
}

/// How a job can be retried, or why it cannot be.
pub async fn retriable(
    app: &App,
    live: &Live,
    job: &JobRow,
    how: Retried,
) -> Result<std::result::Result<Retriable, String>> {
    let from_start = how.from == RetryFrom::Start;
    if !matches!(job.phase, JobPhase::Failed | JobPhase::Rejected | JobPhase::Cancelled) {
        return Ok(Err("it did not fail".into()));
    }
    let kind = job.failure.as_deref().and_then(|text| serde_json::from_str::<serde_json::Value>(text).ok());
    let kind = kind.and_then(|failure| failure["kind"].as_str().map(str::to_owned));
    let repeats = kind.as_deref().and_then(FailureKind::of).is_some_and(FailureKind::repeats);
    let adopted = match how.with {
        RetryWith::Own => None,
        RetryWith::Live => match adopted(app, live, job, (!from_start).then_some(!repeats)).await? {
            Ok(adopted) => adopted,
            Err(why) => return Ok(Err(why)),
        },
    };
    let retriable = Retriable { with: adopted, withdraws: !from_start && !repeats };
    if from_start {
        return Ok(Ok(retriable));
    }
    if job.phase == JobPhase::Cancelled || job.outcomes == 0 {
        return Ok(Err("no step of it is recorded as failed; retry it from the start".into()));
    }
    // Another revision may do otherwise what failed by itself.
    if repeats && retriable.with.is_none() {
        return Ok(Err(
            "its step failed by itself and would fail again; retry it from the start, or with the live revision".into(),
        ));
    }
    Ok(Ok(retriable))
}

/// The live revision for a job, where it is another one and what is recorded of the job fits it. `continues` says of a job that
/// continues whether its last outcome is of the failed step.
async fn adopted(
    app: &App,
    live: &Live,
    job: &JobRow,
    continues: Option<bool>,
) -> Result<std::result::Result<Option<Adopted>, String>> {
    let name = live.name_now(&job.workflow, job.id);
    let Some(workflow) = live.workflows.get(name) else {
        return Ok(Err(format!("`{name}` is not live any more")));
    };
    let same = workflow.revision == job.revision && job.generation == live.generation;
    if same {
        return Ok(Ok(None));
    }
    let Some((was, input)) = read(app, live, job).await? else {
        return Ok(Err("its input or its revision cannot be read".into()));
    };
    let other = workflow.plan.clone();
    let taken = match other.input.accept(&input) {
        Ok(taken) => taken,
        Err(problem) => {
            let first = problem.errors.first().map(|error| format!("{} {}", error.pointer, error.detail));
            let why = first.unwrap_or(problem.title);
            return Ok(Err(format!("revision {} does not accept its input: {why}", workflow.revision)));
        }
    };
    if let Some((withdraws, started)) = continues.zip(job.started) {
        let rows = kept_outcomes(app, job, withdraws).await?;
        let Some(known) = rows else {
            return Ok(Err("an outcome of it cannot be read; is the key of the secrets still the same?".into()));
        };
        let (start, key) = (start_of(job, taken.clone(), started), app.jobs.key_of(job.id));
        let plan = other.clone();
        let fits = app.background.run(move || adopt::fits(&was, &plan, &start, &key, &known)).await?;
        if let Err(why) = fits {
            let detail = format!(
                "what is recorded of it does not fit revision {}: {why}; retry it from the start",
                workflow.revision
            );
            return Ok(Err(detail));
        }
    }
    let json = to_record(&taken);
    let Some(kept) = app.effects.secrets.guard(json.clone(), other.labels.any) else {
        return Ok(Err("its input cannot be sealed: the service has no key for secrets".into()));
    };
    Ok(Ok(Some(Adopted {
        workflow: other.name.clone(),
        revision: workflow.revision,
        generation: live.generation,
        sealed: kept != json,
        input: kept,
    })))
}

/// The outcomes that a retry of a failed step keeps: all but one that is withdrawn, and without those of steps that handle the failure.
async fn kept_outcomes(app: &App, job: &JobRow, withdraws: bool) -> Result<Option<Vec<Known>>> {
    let mut rows = app.store.outcomes(&[(job.id, job.attempt)]).await?;
    rows.retain(|row| !row.closing);
    if withdraws {
        rows.pop();
    }
    let secrets = &app.effects.secrets;
    Ok(rows.iter().map(|row| Some((row.effect, outcome_of(secrets, row)?, row.at))).collect())
}

/// Moves the wait of a job that ends first: to an instant, or to now where it is a pause. Returns why not.
pub async fn move_wait(
    app: &App,
    live: &Live,
    job: &JobRow,
    to: Option<Timestamp>,
    by: &str,
) -> Result<std::result::Result<(), String>> {
    if job.is_held() {
        return Ok(Err("its workflow is held; release it first".into()));
    }
    let Some((plan, input)) = read(app, live, job).await? else {
        return Ok(Err("its input or its revision cannot be read".into()));
    };
    let Some(standing) = standing(app, job, plan, input).await? else {
        return Ok(Err("its run cannot be read".into()));
    };
    let movable = |effect: &Effect| match effect {
        Effect::Wait { .. } => true,
        Effect::Await { until, .. } => to.is_some() && until.is_some(),
        _ => false,
    };
    let waits = standing.asked.iter().filter(|(_, effect)| movable(effect));
    let Some((id, _)) = waits.min_by_key(|(_, effect)| effect.until()) else {
        let why = match to {
            None => format!("it waits for a callback; answer it with `kanzlei answer {} --body …`", job.id),
            Some(_) => "it waits for a callback without an end".to_owned(),
        };
        return Ok(Err(why));
    };
    let at = to.unwrap_or_else(now);
    let mut moved = job.moved.clone();
    moved.insert(*id, at);
    let untils =
        standing.asked.iter().filter_map(|(other, effect)| if other == id { Some(at) } else { effect.until() });
    let ready_at = untils.min().unwrap_or(at);
    let step = standing.step_of(*id);
    let (what, detail) = match to {
        None => ("wait ended", format!("of step {step}")),
        Some(at) => ("wait moved", format!("of step {step}, until {at}")),
    };
    let done =
        app.store.move_waits(job.id, job.changes, &moved, ready_at, &history_line(what, by, Some(&detail))).await?;
    Ok(if done { Ok(()) } else { Err("it has changed in the meantime; look at it again".into()) })
}

/// A callback that a job waits for.
struct Awaited {
    step: String,
    until: Option<Timestamp>,
    hash: String,
    known: CallbackState,
}

async fn awaited(app: &App, standing: &Standing) -> Result<Vec<Awaited>> {
    let mut found = Vec::new();
    for (id, effect) in &standing.asked {
        let Effect::Await { callback, until, .. } = effect else { continue };
        let hash = hash(callback);
        if let Some(known) = app.store.callback(&hash).await?.filter(|known| known.arrived.is_none()) {
            found.push(Awaited { step: standing.step_of(*id), until: *until, hash, known });
        }
    }
    found.sort_by(|a, b| a.step.cmp(&b.step));
    Ok(found)
}

/// The callbacks that a job waits for, for its page.
pub async fn callbacks(app: &App, standing: &Standing) -> Result<Vec<AwaitedCallback>> {
    let shown = |one: Awaited| AwaitedCallback {
        step: one.step,
        until: one.until.and_then(Timestamp::finite),
        accepts: one.known.accepts.and_then(|text| serde_json::from_str(&text).ok()).unwrap_or_default(),
    };
    Ok(awaited(app, standing).await?.into_iter().map(shown).collect())
}

async fn known_job(app: &App, id: &str) -> Result<JobRow> {
    let id = read_id(id)?;
    let job = app.store.job(id).await?;
    job.ok_or_else(|| Error::not_found(format!("there is no job {id}; ended jobs are purged after a while")))
}

/// `PUT /jobs/{id}/callback`: answers a callback that a job waits for.
pub async fn answer(
    app: Data<App>,
    caller: Caller,
    id: Path<String>,
    body: Json<CallbackAnswer>,
) -> Result<HttpResponse> {
    let job = known_job(&app, &id).await?;
    let CallbackAnswer { step, body } = body.into_inner();
    let live = app.live.load_full();
    let none = || Error::problem(409, "No callback", "this job waits for no callback; its page says what it waits for");
    if job.phase.ended() {
        return Err(none());
    }
    let (plan, input) = read(&app, &live, &job).await?.ok_or_else(none)?;
    let sealed = plan.labels.any;
    let standing = standing(&app, &job, plan, input).await?.ok_or_else(none)?;
    let waits = awaited(&app, &standing).await?;
    let steps: Vec<&str> = waits.iter().map(|one| one.step.as_str()).collect();
    let chosen = match (&step, waits.as_slice()) {
        (_, []) => return Err(none()),
        (None, [one]) => one,
        (Some(step), all) => all.iter().find(|one| one.step == *step).ok_or_else(|| {
            Error::problem(
                422,
                "No such step",
                format!("step {step} waits for no callback; these do: {}", steps.join(", ")),
            )
        })?,
        (None, _) => {
            let detail = format!("several steps wait for a callback: {}; name one with `step`", steps.join(", "));
            return Err(Error::problem(422, "Several callbacks", detail));
        }
    };
    let bytes = body.to_string().into_bytes();
    if let Some(schema) = &chosen.known.accepts {
        let refused = |problem: Box<Problem>| Error::Runtime(kanzlei_runtime::Error::Problem(problem));
        accepted(schema, "application/json", &bytes).map_err(refused)?;
    }
    let shown = if sealed { MASK.to_owned() } else { app.effects.secrets.mask(body.to_string()) };
    caller.notes.changed(format!("callback of job {}, step {}", job.id, chosen.step), None, Some(shown));
    let first = app.store.arrive(&chosen.hash, job.id, "application/json", &bytes, now()).await?;
    if !first {
        return Err(Error::problem(409, "Already called", "a message arrived in the meantime"));
    }
    let line = history_line("callback answered", &caller.name, Some(&format!("of step {}", chosen.step)));
    app.store.add_history(job.id, &line).await?;
    app.jobs.wake.notify_one();
    app.jobs.followers.changed(job.id);
    Ok(HttpResponse::NoContent().finish())
}

/// Whether the input of a job can be changed.
pub fn is_editable(job: &JobRow) -> bool {
    matches!(job.phase, JobPhase::Ready | JobPhase::Blocked) && job.started.is_none() && job.claim_rank > 0
}

/// `PUT /jobs/{id}/input`: gives a job that has not begun another input.
pub async fn change_input(
    app: Data<App>,
    caller: Caller,
    id: Path<String>,
    body: Json<InputChange>,
) -> Result<HttpResponse> {
    let job = known_job(&app, &id).await?;
    let begun = || {
        Error::problem(
            409,
            "The job has begun",
            "only the input of a job that has not begun can be changed; cancel it and start another one",
        )
    };
    if !is_editable(&job) {
        return Err(begun());
    }
    let live = app.live.load_full();
    let Some((plan, was)) = read(&app, &live, &job).await? else {
        return Err(Error::problem(409, "The job cannot be read", "its input or its revision cannot be read"));
    };
    if !files_of(&was).is_empty() {
        let detail = "its input has files, which cannot be given here; cancel it and send the request again";
        return Err(Error::problem(409, "The input has files", detail));
    }
    let refused = |problem: Box<Problem>| Error::Runtime(kanzlei_runtime::Error::Problem(problem));
    let InputChange { mut input, members } = body.into_inner();
    if input.is_null() {
        input = was.to_serde();
        merge(&mut input, members);
    }
    let given = plan.input.hold(&Value::from_json(&input));
    let input = plan.input.accept(&given).map_err(refused)?;
    let before = row_of(&app, &live, &plan, &job, &was)?;
    let after = row_of(&app, &live, &plan, &job, &input)?;
    // What its request or its step chose in place of its workflow stays.
    let row = NewJob {
        lane: if before.lane == job.lane { after.lane } else { job.lane.clone() },
        tags: if before.tags == job.tags { after.tags } else { job.tags.clone() },
        ordering_key: if before.lane == job.lane { after.ordering_key } else { job.ordering_key.clone() },
        ..after
    };
    let shown = |value: &Value| app.effects.secrets.mask(plan.input.masked(value).to_serde().to_string());
    let text = |value: &Value| if plan.labels.any { MASK.to_owned() } else { shown(value) };
    caller.notes.changed(format!("input of job {}", job.id), Some(text(&was)), Some(text(&input)));
    let line = history_line("input changed", &caller.name, None);
    if !app.store.change_input(&row, job.changes, &line).await? {
        return Err(begun());
    }
    app.jobs.wake.notify_one();
    app.jobs.followers.changed(job.id);
    Ok(HttpResponse::NoContent().finish())
}

/// Applies a merge patch (RFC 7396).
fn merge(target: &mut serde_json::Value, patch: serde_json::Value) {
    let serde_json::Value::Object(patch) = patch else {
        if !patch.is_null() {
            *target = patch;
        }
        return;
    };
    if !target.is_object() {
        *target = serde_json::json!({});
    }
    let Some(members) = target.as_object_mut() else { return };
    for (name, value) in patch {
        match value {
            serde_json::Value::Null => _ = members.remove(&name),
            value => merge(members.entry(name).or_insert(serde_json::Value::Null), value),
        }
    }
}

/// The row that a job would have with an input, by its own revision.
fn row_of(app: &App, live: &Live, plan: &Plan, job: &JobRow, input: &Value) -> Result<NewJob> {
    let origin = Origin {
        entry: job.entry.clone(),
        caller: job.caller.clone(),
        request_id: job.request_id.clone(),
        trace: job.trace,
        generation: job.depth,
        drawn: true,
    };
    Ok(app.jobs.row_at(live, plan, (job.revision, job.generation), job.id, input, &origin)?)
}

/// The ids of the jobs that a change retried.
pub async fn of_change(app: &App, change: &str, most: u32) -> Result<(Uuid, Vec<Uuid>)> {
    let unknown = || Error::problem(422, "Malformed id", format!("`{change}` is not the id of a change"));
    let id = change.parse::<Uuid>().map_err(|_| unknown())?;
    Ok((id, app.store.retried_by(id, most).await?))
}

/// Names of tags, separated by commas; a comma in a tag is written `\,`.
pub fn tags(text: &str) -> Vec<String> {
    let mut all = vec![String::new()];
    let mut letters = text.chars().peekable();
    while let Some(letter) = letters.next() {
        match (letter, letters.peek()) {
            ('\\', Some(',')) => all.last_mut().into_iter().for_each(|tag| tag.extend(letters.next_if_eq(&','))),
            (',', _) => all.push(String::new()),
            _ => all.last_mut().into_iter().for_each(|tag| tag.push(letter)),
        }
    }
    all.iter().map(|tag| tag.trim().to_owned()).filter(|tag| !tag.is_empty()).collect()
}

#[cfg(test)]
mod tests {
    use serde_json::json;

    #[test]
    fn members_are_merged() {
        for (members, wanted) in [
            (json!({"a": 1}), json!({"a": 1, "b": {"c": 2}})),
            (json!({"b": {"c": null, "d": [1]}}), json!({"a": 0, "b": {"d": [1]}})),
            (json!({"b": null, "n": {"x": null}}), json!({"a": 0, "n": {}})),
            (json!(null), json!({"a": 0, "b": {"c": 2}})),
        ] {
            let mut input = json!({"a": 0, "b": {"c": 2}});
            super::merge(&mut input, members.clone());
            assert_eq!(input, wanted, "{members}");
        }
    }

    #[test]
    fn several_tags_are_separated_by_commas() {
        for (text, wanted) in [
            ("imo-9155028", vec!["imo-9155028"]),
            ("a, b", vec!["a", "b"]),
            (r"a\,b,c", vec!["a,b", "c"]),
            (r"a\b", vec![r"a\b"]),
            (",", vec![]),
        ] {
            assert_eq!(super::tags(text), wanted, "{text}");
        }
    }
}
