//! Rehearsal: cases run without anything outside, on a virtual clock, by the machine that runs them live.
//!
//! [`prepare`] compiles a document of cases against the workflow it is for; [`Prepared::run`] runs one
//! case and says what was not as expected and which steps and branches it reached ([`coverage`]). Stubs
//! answer for services and databases; a call that no stub answers fails the case and brings the stub to
//! paste. Cases know nothing of each other, so they can run in parallel.
//!
//! ```
//! use kanzlei_compiler::check::Bundle;
//! let mut bundle = Bundle::default();
//! bundle.add("w.yaml", "workflow: wait\nsteps: [{pause: 7 days}, {reply: 204}]\n");
//! bundle.add("c.yaml", "cases: wait\nexamples: [{name: a week, expect: {reply: {status: 204}, took: 604800000}}]\n");
//! let (_, rehearsals) = kanzlei_rehearsal::check(&bundle);
//! assert!(rehearsals[0].run(0).differences.is_empty());
//! ```

#![warn(missing_docs)]

mod case;
pub mod collect;
pub mod compare;
pub mod coverage;
mod expect;
pub mod known;
mod prepare;
pub mod record;
pub mod retrace;
pub mod shelf;
pub mod simulate;
mod stubs;

#[cfg(test)]
mod tests;

use std::sync::Arc;

use serde::Serialize;

pub use case::Prepared;
pub use coverage::{Coverage, Reached};
pub use expect::StepSeen;
pub use prepare::prepare;

use case::{Case, Entered};
use kanzlei_compiler::check::{Bundle, Checked};
use kanzlei_compiler::input::{Body, Parts, encoded, form_pairs};
use kanzlei_compiler::plan::watch::NOT_MEANT;
use kanzlei_compiler::plan::webhook::Message;
use kanzlei_compiler::plan::{NOT_ALLOWED, Plan};
use kanzlei_engine::driver;
use kanzlei_engine::machine::{EffectError, Machine, Query, Reply, Rows, Start};
use kanzlei_lang::diagnostic::{Diagnostic, Report, Severity};
use kanzlei_lang::document::workflow::Answer;
use kanzlei_lang::document::{Cases, Source};
use kanzlei_lang::suggest;
use kanzlei_model::caller::Caller;
use kanzlei_model::problem::Problem;
use kanzlei_model::run::RunState;
use kanzlei_model::time::Timestamp;
use kanzlei_model::value::Value;

/// Checks a bundle and prepares its cases; findings about both are in the order of the documents.
pub fn check(bundle: &Bundle) -> (Checked, Vec<Prepared>) {
    let mut checked = kanzlei_compiler::check::check(bundle);
    let mut rehearsals = Vec::new();
    let mut found = Vec::new();
    for (index, cases) in &checked.cases {
        let (prepared, more) = prepare_cases(&bundle.documents[*index], cases, &checked);
        rehearsals.extend(prepared);
        found.extend(more);
    }
    if !found.is_empty() {
        checked.diagnostics.extend(found);
        let place = |path: &str| bundle.documents.iter().position(|source| source.path == path);
        checked.diagnostics.sort_by_cached_key(|d| (place(&d.path), d.start, d.severity));
        checked.diagnostics.dedup();
    }
    (checked, rehearsals)
}

/// Prepares one document of cases beside the workflows that were checked, with what is wrong with it.
pub fn prepare_cases(source: &Source, cases: &Cases, checked: &Checked) -> (Option<Prepared>, Vec<Diagnostic>) {
    let name = &cases.workflow;
    let mut report = Report::new(&source.path, &source.text);
    let mut sound = None;
    match checked.plans.get(&name.text) {
        Some(plan) => {
            let prepared = prepare(&source.path, cases, plan, &checked.services, &checked.settings, &mut report);
            let fits = |d: &Diagnostic| d.path != source.path || d.severity != Severity::Error;
            sound = (!report.has_errors() && checked.diagnostics.iter().all(fits)).then_some(prepared);
        }
        // Its own document says why there is no plan.
        None if checked.names.contains(&name.text) => {}
        None => {
            report.error("unknown-workflow", name.at, format!("there is no workflow `{}`", name.text));
            if let Some(near) = suggest::nearest(&name.text, checked.names.iter().map(String::as_str)) {
                report.did_you_mean(near);
            }
        }
    }
    (sound, report.finish())
}

/// Prepares stubs that are no cases: what an example is given or expects does not matter.
pub fn prepare_stubs(source: &Source, cases: &Cases, checked: &Checked) -> (Option<Prepared>, Vec<Diagnostic>) {
    let mut report = Report::new(&source.path, &source.text);
    let plan = checked.plans.get(&cases.workflow.text);
    let prepared =
        plan.map(|plan| prepare(&source.path, cases, plan, &checked.services, &checked.settings, &mut report));
    let mut found = report.finish();
    found.retain(|found| found.code != "wrong-input");
    (prepared, found)
}

/// Lends fresh databases to cases that want real ones.
pub trait Lender: Sync {
    /// A database with these tables and rows; it is gone when it is dropped.
    fn lend(&self, seed: &str) -> Result<Box<dyn Lent>, String>;
}

/// A database of a case's own.
pub trait Lent {
    /// Runs statements; a refusal is a failure of the step.
    fn query(&mut self, query: &Query) -> Result<Vec<Rows>, EffectError>;
}

/// The number of a step and its positions in the loops around it.
type Look<'n> = (&'n str, Option<Vec<u32>>);

/// Method, path with query, headers and body.
pub type CaseRequest = (String, String, Vec<(String, String)>, Option<Value>);

/// What came of one case.
#[derive(Debug, Serialize)]
pub struct CaseResult {
    /// The name of the workflow.
    pub workflow: String,
    /// The name of the case.
    pub case: String,
    /// The document of cases.
    pub path: String,
    /// The line of the case, from 1.
    pub line: u32,
    /// What was not as expected; empty when the case passes.
    pub differences: Vec<Difference>,
    /// Stubs to paste for calls that none answered, as YAML.
    pub missing_stubs: Vec<String>,
    /// Steps as they were performed: number, state, attempts.
    pub steps: Vec<StepTaken>,
    /// What the client would have got: status and body.
    pub status: Option<u16>,
    /// The body of the reply.
    pub body: Value,
    /// How the run ended; nothing when the request led to none.
    pub state: Option<&'static str>,
    /// Milliseconds on the case's clock.
    pub duration_ms: f64,
    /// Requests to services and databases, by the names of their stubs, in order.
    #[serde(skip)]
    pub asked: Vec<(String, Value)>,
    #[serde(skip)]
    /// Steps and branches that were reached.
    pub reached: Reached,
}

#[derive(Debug, Serialize)]
/// A step as a case performed it.
pub struct StepTaken {
    /// Its number on the sheet.
    pub number: String,
    /// Its state at the end.
    pub state: &'static str,
    #[serde(skip_serializing_if = "is_zero")]
    /// Attempts made; 0 for steps that are not retried.
    pub attempts: u32,
}

fn is_zero(n: &u32) -> bool {
    *n == 0
}

/// One thing that was not as expected, and where the expectation stands.
#[derive(Debug, PartialEq, Serialize)]
pub struct Difference {
    /// `reply.body.dues.amount`.
    pub what: String,
    /// What was expected.
    pub wanted: String,
    /// What came instead.
    pub got: String,
    /// The line of the expectation, from 1.
    pub line: u32,
    /// Its column, from 1.
    pub column: u32,
}

impl CaseResult {
    /// Whether nothing differs.
    pub fn passed(&self) -> bool {
        self.differences.is_empty() && self.missing_stubs.is_empty()
    }
}

impl Prepared {
    /// Whether its cases want real databases.
    pub fn wants_databases(&self) -> bool {
        !self.databases.is_empty()
    }

    /// Runs one case. Each repetition has the same result.
    pub fn run(&self, index: usize) -> CaseResult {
        self.run_with(index, None)
    }

    /// The same with a lender of databases.
    pub fn run_with(&self, index: usize, lender: Option<&dyn Lender>) -> CaseResult {
        self.play(index, lender).0
    }

    /// The same, with the run itself where the case led to one: all its steps did, for a closer reading.
    pub fn play(&self, index: usize, lender: Option<&dyn Lender>) -> (CaseResult, Option<Box<Machine>>) {
        self.play_as(index, lender, None, None)
    }

    /// Runs a case that was made out of a past run, with its id and for its caller, looking at a step.
    fn play_past(&self, index: usize, past: &record::Past, look: Option<Look>) -> (CaseResult, Option<Box<Machine>>) {
        self.play_as(index, None, Some(past), look)
    }

    fn play_as(
        &self,
        index: usize,
        lender: Option<&dyn Lender>,
        past: Option<&record::Past>,
        look: Option<Look>,
    ) -> (CaseResult, Option<Box<Machine>>) {
        let case = &self.cases[index];
        let mut result = CaseResult {
            workflow: self.plan.name.clone(),
            case: case.name.clone(),
            path: self.path.clone(),
            line: case.line,
            differences: Vec::new(),
            missing_stubs: Vec::new(),
            steps: Vec::new(),
            status: None,
            body: Value::Undefined,
            state: None,
            duration_ms: 0.0,
            reached: Reached::default(),
            asked: Vec::new(),
        };
        match self.input(case) {
            Ok((input, limit)) => {
                let mut lent = Vec::new();
                for (name, seed) in &self.databases {
                    let nobody =
                        || Err("nobody lends databases here; a service does, where one can be reached".to_owned());
                    match lender.map_or_else(nobody, |lender| lender.lend(seed)) {
                        Ok(database) => lent.push((name.clone(), database)),
                        Err(why) => {
                            let what = format!("database {name}");
                            let wanted = "a fresh database".to_owned();
                            let difference = Difference { what, wanted, got: why, line: case.line, column: 1 };
                            result.differences.push(difference);
                            return (result, None);
                        }
                    }
                }
                let start = Start {
                    id: past.map_or_else(|| format!("case-{}", case.line), |past| past.id.clone()),
                    input,
                    now: case.clock,
                    caller: past.map_or(&case.caller, |past| &past.caller).clone(),
                    attempt: 1,
                    generation: 0,
                    settings: case.settings.clone(),
                };
                let mut machine = Machine::new(self.plan.clone(), start);
                // The UUIDs of a case are the same wherever it stands in its document.
                let named: String = case.name.chars().filter(char::is_ascii_alphanumeric).take(40).collect();
                let known = past.map(|past| past.key.clone()).filter(|key| !key.is_empty());
                machine = machine.with_key(known.unwrap_or_else(|| format!("case-{named}")));
                if let Some((number, items)) = look {
                    machine.look_at(number, items);
                }
                let machine = self.run_on(case, machine, limit, lent, &mut result);
                (result, Some(machine))
            }
            Err(problem) => {
                // The request never becomes a run: its answer is all there is to compare.
                let reply = Reply {
                    status: problem.status,
                    headers: Vec::new(),
                    body: problem.to_value(),
                    rows: None,
                    problem: true,
                };
                let desk = stubs::Desk::new(self, case, Vec::new());
                expect::without_run(case, &self.plan.name, &reply, &desk, &mut result.differences);
                (result.status, result.body) = (Some(reply.status), reply.body);
                (result, None)
            }
        }
    }

    fn run_on(
        &self,
        case: &Case,
        mut machine: Box<Machine>,
        limit: Option<std::time::Duration>,
        lent: Vec<(String, Box<dyn Lent>)>,
        result: &mut CaseResult,
    ) -> Box<Machine> {
        machine.mark_points();
        let mut desk = stubs::Desk::new(self, case, lent);
        let end =
            driver::on_virtual_clock_within(&mut machine, case.clock, limit, |effect, now| desk.answer(effect, now));
        expect::judge(case, &machine, &desk, end, &mut result.differences);
        result.missing_stubs = desk.missing;
        result.asked = desk.asked;
        result.reached = coverage::reached(&machine);
        result.duration_ms = (end - case.clock).as_micros() as f64 / 1000.0;
        result.state = machine.ended().map(|ended| ended.state.name());
        let silent = machine.ended().is_some_and(|ended| ended.state == RunState::Succeeded).then_some(204);
        let reply = machine.reply().map(shelf::replied);
        result.status = reply.as_ref().map(|reply| reply.status).or(silent);
        result.body = reply.map(|reply| reply.body).unwrap_or_default();
        result.steps = machine
            .records()
            .iter()
            .map(|record| StepTaken {
                number: numbered(&machine, record),
                state: record.state.name(),
                attempts: record.attempts,
            })
            .collect();
        machine
    }

    /// The input of a case, and how long the run may take.
    fn input(&self, case: &Case) -> Result<(Value, Option<std::time::Duration>), Box<Problem>> {
        match &case.entered {
            Entered::Input(input) => Ok((self.plan.input.accept(&self.plan.input.hold(input))?, None)),
            Entered::Change(watch, change) => match self.plan.watches[*watch].input(&self.plan, change)? {
                Some(input) => Ok((input, None)),
                None => Err(Box::new(Problem::new(412, NOT_MEANT))),
            },
            Entered::Request { endpoint, path, query, headers, body } => {
                let declared = &self.plan.endpoints[*endpoint];
                if !Plan::admits(declared, &case.caller) {
                    return Err(Box::new(Problem::new(403, NOT_ALLOWED)));
                }
                let (left, files) = self.plan.input.described(&declared.input, body.as_ref());
                let (media, bytes) = body_of(headers, left.as_ref());
                let limit = (declared.answer == Answer::Now).then_some(declared.time);
                if let Some(webhook) = &declared.webhook {
                    let message = Message {
                        id: DELIVERY.to_owned(),
                        at: case.clock.to_string(),
                        method: declared.method.clone(),
                        query: query.clone(),
                        headers: headers.iter().map(|(name, value)| (name.to_lowercase(), value.clone())).collect(),
                        media,
                        body: bytes,
                    };
                    let delivery = message.delivery()?;
                    return Ok((webhook.input(&self.plan.input, &declared.input, &message, &delivery)?, limit));
                }
                let body = Body::read(&media, &bytes)?;
                let path = path.iter().map(|(name, value)| (name.as_str(), value.clone())).collect();
                let parts = Parts { path, query: form_pairs(query.as_bytes()), body, files };
                let header = |name: &str| {
                    headers.iter().find(|(known, _)| known.eq_ignore_ascii_case(name)).map(|(_, value)| value.clone())
                };
                Ok((self.plan.input.gather(&declared.input, parts, &header)?, limit))
            }
        }
    }

    /// The input that a case gives its workflow; the problem that its request is refused with.
    pub fn given(&self, index: usize) -> Result<Value, Box<Problem>> {
        self.input(&self.cases[index]).map(|(input, _)| input)
    }

    /// When a case begins, on its clock.
    pub fn begins(&self, index: usize) -> Timestamp {
        self.cases[index].clock
    }

    /// Returns how the reply, steps and final state of a run elsewhere differ from those a case expects.
    pub fn judge(&self, index: usize, reply: &Reply, run: Option<(&str, &[StepSeen])>) -> Vec<Difference> {
        let mut found = Vec::new();
        let expect = &self.cases[index].expect;
        expect::compare_reply(expect, Some(reply), &mut found);
        if let Some((state, steps)) = run {
            expect::judge_state(expect, state, &mut found);
            expect::judge_steps(expect, steps, &mut found);
        }
        found
    }

    /// The request of a case: method, path with query, headers, body; nothing for one that has its
    /// input itself.
    pub fn request(&self, index: usize) -> Option<CaseRequest> {
        let Entered::Request { endpoint, path, query, headers, body } = &self.cases[index].entered else { return None };
        let declared = &self.plan.endpoints[*endpoint];
        let mut target = declared.address.path.clone();
        for (name, value) in path {
            target = target.replace(&format!("{{{name}}}"), &encoded(value));
        }
        if !query.is_empty() {
            target = format!("{target}?{query}");
        }
        let host = declared.address.host.iter().map(|host| ("host".to_owned(), host.clone()));
        let headers = headers.iter().cloned().chain(host).collect();
        Some((declared.method.clone(), target, headers, body.clone()))
    }

    /// Who calls in a case.
    pub fn caller(&self, index: usize) -> &Caller {
        &self.cases[index].caller
    }

    /// Whether the request of a case is a message to a webhook.
    pub fn is_delivery(&self, index: usize) -> bool {
        match &self.cases[index].entered {
            Entered::Request { endpoint, .. } => self.plan.endpoints[*endpoint].webhook.is_some(),
            Entered::Input(_) | Entered::Change(..) => false,
        }
    }

    /// The line of a case, from 1.
    pub fn line(&self, index: usize) -> u32 {
        self.cases[index].line
    }

    /// The plan that its cases run.
    pub fn plan(&self) -> &Arc<Plan> {
        &self.plan
    }

    /// The number of cases.
    pub fn len(&self) -> usize {
        self.cases.len()
    }

    /// Returns whether there are no cases.
    pub fn is_empty(&self) -> bool {
        self.cases.is_empty()
    }

    /// The name of a case.
    pub fn name(&self, index: usize) -> &str {
        &self.cases[index].name
    }
}

/// The id that `delivery.id` has in cases.
const DELIVERY: &str = "01987a00-0000-7000-8000-000000000001";

/// The media type and the bytes of a case's body: JSON, unless it is a text and the headers say what.
pub fn body_of(headers: &[(String, String)], body: Option<&Value>) -> (String, Vec<u8>) {
    let said = headers.iter().find(|(name, _)| name.eq_ignore_ascii_case("content-type")).map(|(_, media)| media);
    match (said, body) {
        (_, None) => (String::new(), Vec::new()),
        (Some(media), Some(Value::Text(text))) if !media.contains("json") => (media.clone(), text.as_bytes().to_vec()),
        (said, Some(body)) => (said.cloned().unwrap_or_else(|| "application/json".into()), body.to_json().into_bytes()),
    }
}

/// A step's number with the positions in the loops around it: `3.1[2]`.
fn numbered(machine: &Machine, record: &kanzlei_engine::machine::StepRecord) -> String {
    let items: String = machine.items(record).iter().map(|item| format!("[{item}]")).collect();
    format!("{}{items}", machine.number(record))
}

/// Milliseconds between two instants.
fn milliseconds(from: Timestamp, to: Timestamp) -> Value {
    match (to - from).as_micros() {
        micros if micros % 1000 == 0 => Value::Int(micros / 1000),
        micros => Value::Num(micros as f64 / 1000.0),
    }
}
