//! Retracing: a past run is answered again by another text of its workflow, from the outcomes that it recorded, and what
//! differs is listed.
//!
//! Nothing is performed. A request that the run did not make, or not as often, has no recorded outcome: the retrace
//! diverges there. One that is made with other values receives what the run received, and is listed. Runs whose values were masked or cut when
//! they were recorded cannot be made again and are skipped.
//!
//! ```
//! use kanzlei_compiler::check::{Bundle, check};
//! use kanzlei_rehearsal::record::Past;
//! use kanzlei_rehearsal::retrace::{Verdict, retrace};
//! let checked = check(&Bundle::of([("w.yaml".to_owned(), "workflow: w\nsteps: [{reply: 204}]\n".to_owned())]));
//! let past = Past { workflow: "w".into(), state: "succeeded".into(), status: Some(200), ..Past::default() };
//! let retraced = retrace(&past, &checked);
//! assert_eq!((retraced.verdict, retraced.differences[0].what.as_str()), (Verdict::Differs, "reply.status"));
//! ```

use std::collections::BTreeMap;

use kanzlei_compiler::check::Checked;
use kanzlei_lang::confidential::MASK;
use kanzlei_lang::document::{self, Document, Source};
use kanzlei_model::value::Value;
use serde_json::Value as Json;

use super::record::{self, Past};
use super::stubs::names_call;
use super::{Difference, prepare_stubs};

/// Steps of a run that the journal keeps; behind them only failed ones.
const MOST_STEPS: usize = 1000;
/// The most differences of one run that are listed.
const MOST: usize = 20;

/// How another text answers a past run.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Verdict {
    /// As the run did.
    Same,
    /// With another reply, other requests or another failure.
    Differs,
    /// It asks for something that the run did not ask for.
    Diverged,
    /// The run was recorded incompletely.
    Skipped,
}

impl Verdict {
    /// Its name.
    pub fn name(self) -> &'static str {
        match self {
            Verdict::Same => "same",
            Verdict::Differs => "differs",
            Verdict::Diverged => "diverged",
            Verdict::Skipped => "skipped",
        }
    }
}

/// What came of retracing one run.
#[derive(Debug)]
pub struct Retraced {
    /// Whether it is the same.
    pub verdict: Verdict,
    /// Why it was skipped, or what it asked for.
    pub why: Option<String>,
    /// What is not as it was: `wanted` is what the run did, `got` what the other text does.
    pub differences: Vec<Difference>,
}

/// Answers a past run by the workflow of the same name.
pub fn retrace(past: &Past, checked: &Checked) -> Retraced {
    let ended = |verdict, why| Retraced { verdict, why, differences: Vec::new() };
    if let Some(why) = incomplete(past) {
        return ended(Verdict::Skipped, Some(why));
    }
    let source = Source::new("past.yaml", record::for_retrace(past));
    let (read, _) = document::read(&source, &|_| None);
    let Some(Document::Cases(cases)) = &read else {
        return ended(Verdict::Skipped, Some("what is recorded of the run cannot be read".into()));
    };
    // What does not fit any more shows as a difference.
    let (Some(prepared), _) = prepare_stubs(&source, cases, checked) else {
        return ended(Verdict::Skipped, Some(format!("there is no workflow `{}` to answer it", past.workflow)));
    };
    if prepared.is_empty() {
        return ended(Verdict::Skipped, Some("no endpoint of the workflow takes its request any more".into()));
    }
    let mut result = prepared.play_past(0, past, None).0;
    if let Some(missing) = result.missing_stubs.first() {
        let what = missing.split(": ").next().unwrap_or(missing);
        return ended(Verdict::Diverged, Some(format!("it asks for {what}, of which nothing is recorded")));
    }
    let mut differences = std::mem::take(&mut result.differences);
    requests(past, &result.asked, &mut differences);
    differences.truncate(MOST);
    let verdict = if differences.is_empty() { Verdict::Same } else { Verdict::Differs };
    Retraced { verdict, why: None, differences }
}

/// Why a run cannot be made again from what is recorded of it.
fn incomplete(past: &Past) -> Option<String> {
    if past.steps.len() >= MOST_STEPS {
        return Some(format!("it performed more than the {MOST_STEPS} steps that are kept of a run"));
    }
    let whole = [
        ("input", &past.input),
        ("what it remembered", &past.kept),
        ("settings", &past.settings),
        ("reply", &past.reply),
    ];
    if let Some((what, why)) = whole.into_iter().find_map(|(what, value)| Some((what, unknown(value)?))) {
        return Some(format!("its {what} is {why}"));
    }
    past.steps.iter().find_map(|step| {
        let why = unknown(&step.outcome).or_else(|| unknown(&step.failure))?;
        Some(format!("the outcome of step {} is {why}", step.number))
    })
}

/// Whether parts of a value are not known.
fn unknown(value: &Json) -> Option<&'static str> {
    match value {
        Json::String(text) => text.contains(MASK).then_some("masked"),
        Json::Array(items) => items.iter().find_map(unknown),
        Json::Object(members) if members.contains_key("$cut") => Some("too long to be kept whole"),
        Json::Object(members) => members.values().find_map(unknown),
        _ => None,
    }
}

/// Compares what was asked of others, by name, in whatever order.
fn requests(past: &Past, asked: &[(String, Value)], differences: &mut Vec<Difference>) {
    let mut by_name: BTreeMap<&str, (Vec<Features>, Vec<Features>)> = BTreeMap::new();
    let before = record::requests(past);
    for (name, features) in &before {
        by_name.entry(name).or_default().0.push(features.clone());
    }
    for (name, request) in asked {
        // Stubs name a call by address with its path; what was recorded, too.
        let known = before.iter().map(|(known, _)| known.as_str()).find(|known| names_call(known, name));
        by_name.entry(known.unwrap_or(name)).or_default().1.push(record::features(&request.to_serde()));
    }
    for (name, (before, mut after)) in by_name {
        let mut changed = Vec::new();
        for features in before {
            match after.iter().position(|other| alike(&features, other)) {
                Some(at) => _ = after.remove(at),
                None => changed.push(features),
            }
        }
        for pair in 0..changed.len().max(after.len()) {
            let (was, is) = (changed.get(pair), after.get(pair));
            differences.push(difference(name, was, is));
        }
    }
}

type Features = Vec<(String, Json)>;

/// Whether a request is as one that is recorded; what is masked there is not compared.
fn alike(recorded: &Features, made: &Features) -> bool {
    recorded.iter().all(|(path, value)| made.iter().any(|(known, other)| known == path && other == value))
}

fn difference(name: &str, was: Option<&Features>, is: Option<&Features>) -> Difference {
    let none = "no request".to_owned();
    let shown = |features: &Features| {
        let parts: Vec<String> = features.iter().map(|(path, value)| format!("{path}: {value}")).collect();
        parts.join(", ")
    };
    let (what, wanted, got) = match (was, is) {
        (Some(was), Some(is)) => {
            let other = was.iter().find(|(path, value)| !is.iter().any(|known| (&known.0, &known.1) == (path, value)));
            let (path, value) = other.cloned().unwrap_or_default();
            let now = is.iter().find(|(known, _)| *known == path).map_or("nothing".into(), |(_, now)| now.to_string());
            (format!("request {name} {path}"), value.to_string(), now)
        }
        (was, is) => (format!("request {name}"), was.map_or(none.clone(), shown), is.map_or(none, shown)),
    };
    Difference { what, wanted, got, line: 0, column: 0 }
}

#[cfg(test)]
mod tests;
