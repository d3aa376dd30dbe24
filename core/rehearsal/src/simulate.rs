//! Outcomes of effects that a trial does not perform: stubs answer first, then examples from descriptions, ids that are made up, and a memory that ends with the trial.
//!
//! Nothing here does I/O; who tries a run decides which effects come here ([`Simulation::outcome`]).

use std::collections::BTreeMap;

use kanzlei_compiler::example;
use kanzlei_compiler::sql::{Class, judge};
use kanzlei_engine::machine::{
    Address, Answer, Arrival, Cancellation, Cancelling, Data, Effect, EffectError, Enqueue, FileWork, Kept, Outcome,
    Query, Queued, Request, Rows,
};
use kanzlei_lang::document::service::Operation;
use kanzlei_model::run::FailureKind;
use kanzlei_model::time::{Span, Timestamp};
use kanzlei_model::value::Value;
use serde_json::Value as Json;

use super::case::{PUBLIC, Prepared};
use super::shelf::{self, Shelf};
use super::stubs::{Desk, http_answer};

/// What the description of a service says of a request: the operation, and the document for its references.
pub type Described<'d> = (&'d Operation, &'d Json);

/// Answers for the effects of one trial that are not performed.
pub struct Simulation<'p> {
    desk: Option<Desk<'p>>,
    kept: BTreeMap<String, (u64, Value)>,
    shelf: Shelf,
    made: usize,
}

impl<'p> Simulation<'p> {
    /// Begins without stubs, or with those of the first case of a document.
    pub fn new(stubs: Option<&'p Prepared>) -> Self {
        let desk = stubs.and_then(|prepared| Some(Desk::new(prepared, prepared.cases.first()?, Vec::new())));
        Simulation { desk, kept: BTreeMap::new(), shelf: Shelf::default(), made: 0 }
    }

    /// Remembers values of a workflow, as if the trial had kept them.
    pub fn remember(&mut self, workflow: &str, values: Value) {
        self.kept.insert(workflow.to_owned(), (1, values));
    }

    /// What a stub answers; nothing where none is for this effect. Only calls, statements and callbacks have stubs.
    pub fn stubbed(&mut self, effect: &Effect, now: Timestamp) -> Option<(Span, Outcome)> {
        let desk = self.desk.as_mut()?;
        if !matches!(effect, Effect::Call(_) | Effect::Query(_) | Effect::Await { .. }) {
            return None;
        }
        let before = desk.unanswered;
        let found = desk.answer(effect, now);
        (desk.unanswered == before).then_some(found)
    }

    /// What would come of an effect, as far as that can be said without performing it.
    pub fn outcome(&mut self, effect: &Effect, described: Option<Described>, now: Timestamp) -> Outcome {
        match effect {
            Effect::Call(request) => Outcome::Called(called(request, described)),
            Effect::Query(query) => match (&query.load, &query.into) {
                (Some(load), _) => Outcome::Queried(
                    shelf::values(&load.rows)
                        .map(|rows| vec![Rows { rows: Vec::new(), count: rows.len() as u64, id: None }]),
                ),
                (None, Some(into)) => {
                    Outcome::Filed(shelf::written(std::iter::empty(), &into.writing, Some(&into.name)))
                }
                (None, None) => Outcome::Queried(Ok(queried(query))),
            },
            Effect::File(task) => Outcome::Filed(self.shelf.perform(&task.work, now)),
            Effect::Rows(task) => Outcome::Rows(shelf::batch(task)),
            Effect::Mail(letter) => Outcome::Filed(Ok(shelf::sent(letter, "simulated"))),
            Effect::Wait { .. } => Outcome::Waited,
            Effect::Enqueue(enqueue) => Outcome::Queued(Ok(self.queued(enqueue))),
            Effect::Cancel(cancelling) => Outcome::Cancelled(Ok(cancelled(cancelling))),
            Effect::Open { .. } => {
                self.made += 1;
                let id = format!("trial-callback-{}", self.made);
                Outcome::Opened(Ok(Address { url: format!("{PUBLIC}/~/callbacks/{id}"), id }))
            }
            // Nobody knows the address: the step that waits meets its timeout.
            Effect::Await { .. } => Outcome::Arrived(None),
            // In a trial no run waits for the value.
            Effect::Wake(_) => Outcome::Woken(Ok(None)),
            Effect::Recall { workflow } => Outcome::Kept(Ok(self.remembered(workflow, false))),
            Effect::Keep(keep) => {
                let version = self.remembered(&keep.workflow, false).version;
                self.kept.insert(keep.workflow.clone(), (version + 1, keep.values.clone()));
                Outcome::Kept(Ok(self.remembered(&keep.workflow, true)))
            }
        }
    }

    /// Whether work with files reads what this trial has stored.
    pub fn holds(&self, work: &FileWork) -> bool {
        self.shelf.holds(work)
    }

    /// What a workflow remembers in this trial, where it has kept something in it.
    pub fn kept(&self, workflow: &str) -> bool {
        self.kept.contains_key(workflow)
    }

    fn remembered(&self, workflow: &str, stored: bool) -> Kept {
        let (version, values) = self.kept.get(workflow).cloned().unwrap_or((0, Value::object::<&str>([])));
        Kept { version, values, stored }
    }

    fn queued(&mut self, enqueue: &Enqueue) -> Queued {
        let ids = enqueue.jobs.iter().map(|_| {
            self.made += 1;
            format!("trial-job-{}", self.made)
        });
        let ids = ids.collect();
        Queued { ids, group: enqueue.group.then(|| "trial-group".to_owned()), base: PUBLIC.into() }
    }
}

/// What comes of an effect that an author answers by hand; nothing where only its performer can know it.
pub fn answered(effect: &Effect, status: u16, headers: &[(String, String)], body: Option<&Value>) -> Option<Outcome> {
    match effect {
        Effect::Call(_) => Some(Outcome::Called(Ok(http_answer(status, headers, body.cloned())))),
        Effect::Await { .. } => {
            let answer = http_answer(200, headers, body.cloned());
            let media = answer.headers.iter().find(|(name, _)| name.eq_ignore_ascii_case("content-type"));
            let media = media.map_or(String::new(), |(_, media)| media.clone());
            let body = answer.body.held().unwrap_or_default().to_vec();
            Some(Outcome::Arrived(Some(Arrival { media, body })))
        }
        Effect::Query(query) => {
            let all = query.statements.iter().map(|_| {
                let rows = body.and_then(Value::as_list).unwrap_or_default().to_vec();
                Rows { count: rows.len() as u64, rows, id: None }
            });
            Some(Outcome::Queried(Ok(all.collect())))
        }
        _ => None,
    }
}

/// What comes of an effect that is to fail; nothing where it cannot.
pub fn failed(effect: &Effect, kind: FailureKind, detail: &str) -> Option<Outcome> {
    let error = EffectError { kind, detail: detail.to_owned() };
    match effect {
        Effect::Call(_) => Some(Outcome::Called(Err(error))),
        Effect::Query(_) => Some(Outcome::Queried(Err(error))),
        Effect::File(_) | Effect::Mail(_) => Some(Outcome::Filed(Err(error))),
        Effect::Rows(_) => Some(Outcome::Rows(Err(error))),
        Effect::Enqueue(_) => Some(Outcome::Queued(Err(error))),
        Effect::Cancel(_) => Some(Outcome::Cancelled(Err(error))),
        Effect::Wake(_) => Some(Outcome::Woken(Err(error))),
        Effect::Await { .. } => Some(Outcome::Arrived(None)),
        _ => None,
    }
}

/// What comes of an effect that is skipped: nothing is performed, and nothing comes back.
pub fn skipped(effect: &Effect) -> Option<Outcome> {
    match effect {
        Effect::Call(_) => answered(effect, 204, &[], None),
        Effect::Query(_) => answered(effect, 200, &[], None),
        Effect::Wait { .. } => Some(Outcome::Waited),
        Effect::Await { .. } => Some(Outcome::Arrived(None)),
        _ => None,
    }
}

fn cancelled(cancelling: &Cancelling) -> Cancellation {
    let unknown = match cancelling {
        Cancelling::Ids(ids) => ids.clone(),
        Cancelling::Tag(_) => Vec::new(),
    };
    Cancellation { unknown, ..Cancellation::default() }
}

/// The answer that a service describes for success.
fn called(request: &Request, described: Option<Described>) -> Result<Answer, EffectError> {
    let Some((operation, api)) = described else {
        let detail = format!(
            "a trial does not send {} {}, and nothing describes its answer; stub it",
            request.method, request.target
        );
        return Err(EffectError { kind: FailureKind::BlockedAddress, detail });
    };
    let good = operation.responses.iter().filter_map(|response| Some((response.statuses()?.0, response)));
    let good = good.filter(|(status, _)| (200..300).contains(status)).min_by_key(|(status, _)| *status);
    let status = good.map_or(200, |(status, _)| status);
    let content = good.and_then(|(_, response)| {
        let (media, schema) = response.content.first()?;
        let body = response.example.clone().unwrap_or_else(|| example::of_schema_in(api, schema));
        Some((media.clone(), body))
    });
    let Some((media, body)) = content else { return Ok(Answer { status, headers: Vec::new(), body: Data::default() }) };
    let text = match &body {
        Json::String(text) if !media.contains("json") => text.clone(),
        body => body.to_string(),
    };
    Ok(Answer { status, headers: vec![("content-type".to_owned(), media)], body: Data::Bytes(text.into_bytes()) })
}

/// Statements that change rows report one row, those that read none.
fn queried(query: &Query) -> Vec<Rows> {
    let one = |sql: &kanzlei_engine::machine::Sql| {
        let inserts = sql.text.trim_start().get(..6).is_some_and(|verb| verb.eq_ignore_ascii_case("insert"));
        let judged = judge(&sql.text, sql.values.len(), query.transaction);
        let reads = judged.is_ok_and(|judged| judged.class == Class::Reads);
        Rows { rows: Vec::new(), count: u64::from(!reads), id: inserts.then_some(1) }
    };
    query.statements.iter().map(one).collect()
}
