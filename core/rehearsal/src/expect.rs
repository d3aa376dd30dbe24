//! What was expected against what happened.

use super::case::{At, Calls, Case, Expect, Expected, MAIL};
use super::shelf;
use super::stubs::{Desk, names_call};
use super::{Difference, milliseconds, numbered};
use kanzlei_engine::machine::{Machine, Reply};
use kanzlei_lang::expr::{Limits, ops};
use kanzlei_model::run::RunState;
use kanzlei_model::time::Timestamp;
use kanzlei_model::value::Value;

/// The longest value shown in a difference, in characters.
const LONGEST: usize = 300;
/// The most differences that are reported of one case.
const MOST: usize = 30;

impl Expected {
    fn at(&self) -> At {
        match self {
            Expected::Value(_, at) | Expected::Holds(_, at) | Expected::List(_, at) | Expected::Object(_, at) => *at,
        }
    }

    fn shown(&self) -> String {
        match self {
            Expected::Value(value, _) => show(value),
            Expected::Holds(test, _) => format!("${{{}}}", test.text()),
            Expected::List(items, _) => {
                format!("[{}]", items.iter().map(Expected::shown).collect::<Vec<_>>().join(","))
            }
            Expected::Object(members, _) => {
                let members: Vec<String> = members.iter().map(|(k, v)| format!("\"{k}\":{}", v.shown())).collect();
                format!("{{{}}}", members.join(","))
            }
        }
    }
}

fn show(value: &Value) -> String {
    let json = match value {
        Value::Undefined => "nothing".to_owned(),
        other => other.to_json(),
    };
    if json.chars().count() <= LONGEST {
        json
    } else {
        format!("{}…", json.chars().take(LONGEST).collect::<String>())
    }
}

fn differ(found: &mut Vec<Difference>, what: impl Into<String>, wanted: String, got: String, at: At) {
    if found.len() < MOST {
        found.push(Difference { what: what.into(), wanted, got, line: at.line, column: at.column });
    }
}

/// Compares a value; `exactly` allows objects no further members.
fn compare(what: &str, expected: &Expected, got: &Value, exactly: bool, found: &mut Vec<Difference>) {
    let differs = |found: &mut Vec<Difference>| differ(found, what, expected.shown(), show(got), expected.at());
    match expected {
        Expected::Value(wanted, _) => {
            if wanted != got {
                differs(found);
            }
        }
        Expected::Holds(test, at) => match test.eval(std::slice::from_ref(got), Limits::default()) {
            Ok(value) if ops::truthy(&value) => {}
            Ok(_) => differs(found),
            Err(failure) => {
                let got = format!("{} ({})", show(got), failure.message);
                differ(found, what, expected.shown(), got, *at);
            }
        },
        Expected::List(items, at) => match got.as_list() {
            None => differs(found),
            Some(list) => {
                if list.len() != items.len() {
                    let wanted = format!("{} items: {}", items.len(), expected.shown());
                    return differ(found, what, wanted, format!("{} items: {}", list.len(), show(got)), *at);
                }
                for (index, (expected, got)) in items.iter().zip(list).enumerate() {
                    compare(&format!("{what}[{index}]"), expected, got, exactly, found);
                }
            }
        },
        Expected::Object(members, at) => match got {
            Value::Object(object) => {
                for (name, expected) in members {
                    let member = object.get(name).cloned().unwrap_or_default();
                    compare(&format!("{what}.{name}"), expected, &member, exactly, found);
                }
                for (name, value) in object.iter().filter(|_| exactly) {
                    if !members.iter().any(|(known, _)| **known == **name) && !matches!(value, Value::Undefined) {
                        differ(found, format!("{what}.{name}"), "nothing".into(), show(value), *at);
                    }
                }
            }
            _ => differs(found),
        },
    }
}

/// A request that became no run has an answer and nothing else.
pub(super) fn without_run(case: &Case, name: &str, reply: &Reply, desk: &Desk, found: &mut Vec<Difference>) {
    let expect = &case.expect;
    let no_run = "no run: the request was refused";
    let shown = || format!("{no_run} with {} {}", reply.status, show(&reply.body));
    if let Some((state, at)) = &expect.state {
        differ(found, "state", state.clone(), shown(), *at);
    }
    for (name, step) in expect.steps.iter().filter(|(_, step)| step.state.as_deref() != Some("untaken")) {
        differ(found, format!("step {name}"), step.state.clone().unwrap_or_default(), shown(), step.at);
    }
    if let Some(failure) = &expect.failure {
        differ(found, "failure", failure.shown(), shown(), failure.at());
    }
    if expect.reply.is_none() && found.is_empty() {
        differ(found, "reply", "a run".into(), shown(), expect.at);
    }
    compare_reply(expect, Some(reply), found);
    judge_left(expect, name, desk, found);
}

/// Everything that is expected of a run that ended.
pub(super) fn judge(case: &Case, machine: &Machine, desk: &Desk, end: Timestamp, found: &mut Vec<Difference>) {
    let expect = &case.expect;
    let ended = machine.ended();
    let failure = ended.and_then(|ended| ended.failure.as_ref());
    let state = ended.map_or("running", |ended| ended.state.name());
    let shown = failure.map_or(state.to_owned(), |failure| format!("{state}: {}", failure.detail));
    judge_state(expect, &shown, found);
    if let Some(expected) = &expect.failure {
        let got = failure.map(|failure| failure.to_value()).unwrap_or_default();
        compare("failure", expected, &got, false, found);
    }
    let silent = Reply { status: 204, headers: Vec::new(), body: Value::Undefined, rows: None, problem: false };
    let succeeded = ended.is_some_and(|ended| ended.state == RunState::Succeeded);
    let reply = machine.reply().map(shelf::replied);
    compare_reply(expect, reply.as_ref().or(succeeded.then_some(&silent)), found);
    // A failure nobody expects is worth more than the reply it makes.
    let foreseen = expect.state.is_some()
        || expect.failure.is_some()
        || expect.reply.as_ref().is_some_and(|reply| reply.status.is_some_and(|(status, _)| status >= 400));
    if failure.is_some() && !foreseen {
        differ(found, "state", "succeeded".into(), shown.clone(), expect.at);
    }
    judge_steps(expect, &seen(machine), found);
    judge_left(expect, &machine.plan().name, desk, found);
    if let Some(expected) = &expect.took {
        compare("took", expected, &milliseconds(case.clock, end), false, found);
    }
}

/// What a workflow of this name asked of others, and what it left behind.
fn judge_left(expect: &Expect, name: &str, desk: &Desk, found: &mut Vec<Difference>) {
    for (called, calls) in &expect.calls {
        judge_made(&format!("calls of {called}"), called, calls, &desk.asked, found);
    }
    for (queued, jobs) in &expect.jobs {
        judge_made(&format!("jobs of {queued}"), queued, jobs, &desk.jobs, found);
    }
    if let Some(mails) = &expect.mails {
        judge_made("mails", MAIL, mails, &desk.mails, found);
    }
    if let Some(expected) = &expect.kept {
        let kept = desk.kept.get(name).map(|(_, values)| values.clone()).unwrap_or_default();
        compare("kept", expected, &kept, false, found);
    }
    if let Some(expected) = &expect.places {
        compare("places", expected, &desk.shelf.value(), false, found);
    }
}

/// Calls or jobs of one name, as many and as they were expected.
fn judge_made(what: &str, name: &str, calls: &Calls, all: &[(String, Value)], found: &mut Vec<Difference>) {
    let made: Vec<&Value> = all.iter().filter(|(known, _)| names_call(name, known)).map(|(_, one)| one).collect();
    let (wanted, at) = match calls {
        Calls::Times(times, at) => (*times, *at),
        Calls::Each(expected, at) => (expected.len(), *at),
    };
    if made.len() != wanted {
        differ(found, what, format!("{wanted}"), format!("{}", made.len()), at);
    }
    if let Calls::Each(expected, _) = calls {
        for (index, (expected, one)) in expected.iter().zip(made).enumerate() {
            compare(&format!("{name}[{index}]"), expected, one, false, found);
        }
    }
}

pub(super) fn compare_reply(expect: &Expect, reply: Option<&Reply>, found: &mut Vec<Difference>) {
    let Some(expected) = &expect.reply else { return };
    let Some(reply) = reply else {
        return differ(found, "reply", "a reply".into(), "none".into(), expected.at);
    };
    if let Some((status, at)) = expected.status
        && status != reply.status
    {
        let got = format!("{} {}", reply.status, show(&reply.body));
        // The body of another status would only say the same again.
        return differ(found, "reply.status", status.to_string(), got, at);
    }
    for (name, expected) in &expected.headers {
        let got = reply.headers.iter().find(|(known, _)| known.eq_ignore_ascii_case(name));
        let got = got.map(|(_, value)| Value::text(value.as_str())).unwrap_or_default();
        compare(&format!("reply.headers.{name}"), expected, &got, false, found);
    }
    if let Some(body) = &expected.body {
        compare("reply.body", body, &reply.body, expected.exactly, found);
    }
}

/// Compares the final state, behind which a reason may stand.
pub(super) fn judge_state(expect: &Expect, state: &str, found: &mut Vec<Difference>) {
    if let Some((wanted, at)) = &expect.state
        && !state.starts_with(wanted.as_str())
    {
        differ(found, "state", wanted.clone(), state.to_owned(), *at);
    }
}

/// A step as it was performed, in rehearsal or by a run that is in a journal.
#[derive(Clone, Debug, Default)]
pub struct StepSeen {
    /// Its number on the sheet.
    pub number: String,
    /// With the positions in the loops around: `3.1[2]`.
    pub numbered: String,
    /// The name of its result.
    pub id: Option<String>,
    /// The name of its state.
    pub state: String,
    /// Attempts made; 0 for steps that are not retried.
    pub attempts: u32,
    /// Why it failed.
    pub failure: Option<String>,
}

fn seen(machine: &Machine) -> Vec<StepSeen> {
    let records = machine.records().iter();
    records
        .map(|record| {
            let paragraph = machine.plan_of(record).sheet.get(record.paragraph as usize);
            StepSeen {
                number: machine.number(record),
                numbered: numbered(machine, record),
                id: paragraph.filter(|_| record.level == 0).and_then(|p| p.name.clone()),
                state: record.state.name().to_owned(),
                attempts: record.attempts,
                failure: record.failure.as_ref().map(|failure| failure.detail.clone()),
            }
        })
        .collect()
}

pub(super) fn judge_steps(expect: &Expect, seen: &[StepSeen], found: &mut Vec<Difference>) {
    for (name, wanted) in &expect.steps {
        let taken: Vec<&StepSeen> = seen
            .iter()
            .filter(|step| step.number == *name || step.numbered == *name || step.id.as_ref() == Some(name))
            .collect();
        let what = format!("step {name}");
        match wanted.state.as_deref() {
            Some("untaken") => {
                if let Some(step) = taken.first() {
                    differ(found, &what, "untaken".into(), step.state.clone(), wanted.at);
                }
            }
            Some(state) => {
                let other = taken.iter().find(|step| step.state != state);
                if let Some(step) = other {
                    let detail = step.failure.as_ref().map(|failure| format!(": {failure}"));
                    let got = format!("{}{}", step.state, detail.unwrap_or_default());
                    differ(found, &what, state.into(), got, wanted.at);
                } else if taken.is_empty() {
                    differ(found, &what, state.into(), "untaken".into(), wanted.at);
                }
            }
            None => {}
        }
        if let Some(times) = wanted.times.filter(|times| *times != taken.len()) {
            differ(found, &what, format!("taken {times} times"), format!("{} times", taken.len()), wanted.at);
        }
        if let Some(attempts) = wanted.attempts {
            let got: u32 = taken.iter().map(|step| step.attempts).sum();
            if got != attempts {
                differ(found, &what, format!("{attempts} attempts"), format!("{got}"), wanted.at);
            }
        }
    }
}
