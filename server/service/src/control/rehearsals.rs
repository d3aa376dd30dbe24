//! Cases run here, as `kanzlei rehearse` runs them in a terminal: on a virtual clock, with stubs for everything outside.

use std::sync::Arc;
use std::time::{Duration, Instant};

use actix_web::HttpResponse;
use actix_web::web::{Data, Json};
use kanzlei_api::rehearsals as api;
use kanzlei_compiler::plan::Plan;
use kanzlei_engine::machine::Machine;
use kanzlei_lang::diagnostic::Diagnostic;
use kanzlei_lang::document::Source;
use kanzlei_model::run::RunState;
use kanzlei_model::time::Timestamp;
use kanzlei_rehearsal::{CaseResult, Coverage, Prepared, Reached, prepare_cases};
use kanzlei_runtime::journal::{self, Finished};
use uuid::Uuid;

use super::deploys::Given;
use super::runs::{shown_steps, value};
use super::scratch::Here;
use super::trials::prepare;
use crate::App;
use crate::error::{Error, Result};

/// How long the cases of one request may take together.
const WITHIN: Duration = Duration::from_secs(30);
/// The longest value of a step that is shown, in bytes of JSON.
const LONGEST: usize = 64 << 10;

/// `POST /rehearsals`: runs the cases of a workflow.
pub async fn rehearse(app: Data<App>, body: Json<api::RehearsalRequest>) -> Result<HttpResponse> {
    let begun = Instant::now();
    let asked = body.into_inner();
    let live = app.live.load_full();
    let brings_cases = asked.documents.iter().any(|document| is_cases_of(&document.text, &asked.workflow));
    let mut documents: Vec<Source> =
        asked.documents.iter().map(|document| Source::new(&document.path, &document.text)).collect();
    if !brings_cases && let Some(draft) = app.store.draft("cases", &asked.workflow).await? {
        documents.push(Source::new(format!("cases/{}.yaml", asked.workflow), draft.source));
    }
    let given = Given::of(documents.into_iter(), &asked.files, &asked.drafts);
    let (plan, checked, bundle) = prepare(&app, &live, given, &asked.workflow, "").await?;
    let here = app.clone();
    let work = move || {
        let mut found: Vec<Diagnostic> = Vec::new();
        let mut prepared: Vec<Prepared> = Vec::new();
        for (index, cases) in checked.cases.iter().filter(|(_, cases)| cases.workflow.text == plan.name) {
            let Some(source) = bundle.documents.get(*index) else { continue };
            let (ready, more) = prepare_cases(source, cases, &checked);
            found.extend(checked.diagnostics.iter().filter(|one| one.path == source.path).cloned());
            found.extend(more);
            prepared.extend(ready);
        }
        found.dedup();
        rehearsed(&here, &plan, &prepared, &asked.only, begun, found)
    };
    let answer = app.background.run(work).await?;
    match answer {
        Some(answer) => Ok(HttpResponse::Ok().json(answer)),
        None => Err(Error::not_found("there is no case of this name")),
    }
}

/// Whether a text is a document of cases for this workflow.
fn is_cases_of(text: &str, workflow: &str) -> bool {
    super::deploys::name_of(text).is_some_and(|(kind, name)| kind == "cases" && name == workflow)
}

/// Runs the cases; nothing where none has the name that is wanted.
fn rehearsed(
    app: &Data<App>,
    plan: &Arc<Plan>,
    prepared: &[Prepared],
    only: &str,
    begun: Instant,
    diagnostics: Vec<Diagnostic>,
) -> Option<api::Rehearsal> {
    let all = prepared.iter().flat_map(|prepared| (0..prepared.len()).map(move |index| (prepared, index)));
    let chosen: Vec<_> = all.filter(|(prepared, index)| only.is_empty() || prepared.name(*index) == only).collect();
    if chosen.is_empty() && !only.is_empty() && diagnostics.is_empty() {
        return None;
    }
    let lender = Here(app.clone());
    let mut reached = Reached::default();
    let mut cases = Vec::with_capacity(chosen.len());
    for (prepared, index) in &chosen {
        if begun.elapsed() > WITHIN {
            break;
        }
        let (result, machine) = prepared.play(*index, Some(&lender));
        reached.add(&result.reached);
        let run = machine.filter(|_| !only.is_empty()).and_then(|machine| finished(prepared, *index, machine));
        cases.push(shown(app, result, run));
    }
    let left = (chosen.len() - cases.len()) as u32;
    let whole = only.is_empty() && left == 0 && !cases.is_empty();
    Some(api::Rehearsal {
        workflow: plan.name.clone(),
        coverage: whole.then(|| covered(&Coverage::of(plan, &reached))),
        cases,
        diagnostics,
        left,
    })
}

/// The run of a case as the journal would have it.
fn finished(prepared: &Prepared, index: usize, machine: Box<Machine>) -> Option<Finished> {
    Some(Finished {
        id: Uuid::nil(),
        revision: 0,
        entry: "case".into(),
        started: prepared.begins(index),
        request_id: String::new(),
        trace: Default::default(),
        span: 0,
        caller: Default::default(),
        ended: machine.ended().cloned()?,
        input: prepared.given(index).ok()?,
        machine,
        sent: 0,
        job: false,
        listed: true,
    })
}

fn shown(app: &App, result: CaseResult, run: Option<Finished>) -> api::RehearsedCase {
    let passed = result.passed();
    let run = run.map(|run| (journal::row(&run, LONGEST, &app.effects.secrets, ""), run.machine.plan().clone()));
    let steps = run.as_ref().map(|(run, plan)| shown_steps(&run.steps, &plan.sheet, run.started));
    let input = run.map(|(run, _)| value(Some(&run.input)));
    api::RehearsedCase {
        passed,
        name: result.case,
        line: result.line,
        differences: result
            .differences
            .into_iter()
            .map(|one| api::CaseDifference { what: one.what, wanted: one.wanted, got: one.got, line: one.line })
            .collect(),
        missing_stubs: result.missing_stubs,
        state: result.state.and_then(RunState::of),
        status: result.status,
        reply: result.body.to_serde(),
        duration_us: Timestamp::from_micros((result.duration_ms * 1000.0) as i64) - Timestamp::EPOCH,
        input: input.unwrap_or_default(),
        steps: steps.unwrap_or_default(),
    }
}

fn covered(of: &Coverage) -> api::Covered {
    api::Covered {
        steps: of.steps as u32,
        steps_reached: of.steps_reached as u32,
        branches: of.branches as u32,
        branches_reached: of.branches_reached as u32,
        missing: of
            .missing
            .iter()
            .map(|missing| api::NotReached { number: missing.number.clone(), branch: missing.branch.clone() })
            .collect(),
    }
}
