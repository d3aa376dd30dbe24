//! Two past runs side by side: what went in, what each step sent, what came of it, and how they ended.
//!
//! Steps are paired by number where both runs are of the same revision, else by what they are.
//!
//! ```
//! use kanzlei_rehearsal::{compare::compare, record::Past};
//! let one = Past { input: serde_json::json!({"nights": 1}), ..Past::default() };
//! let two = Past { input: serde_json::json!({"nights": 2}), ..Past::default() };
//! let found = compare(&one, &two, true);
//! assert_eq!((found[0].what.as_str(), found[0].wanted.as_str(), found[0].got.as_str()), ("input.nights", "1", "2"));
//! ```

use std::collections::HashMap;

use serde_json::Value as Json;

use super::Difference;
use super::record::{Past, PastStep};

/// The most differences that are listed.
const MOST: usize = 500;
/// The longest value shown, in characters.
const LONGEST: usize = 300;

/// What differs from one run to another: `wanted` is of the first, `got` of the second.
pub fn compare(before: &Past, after: &Past, same_revision: bool) -> Vec<Difference> {
    let mut found = Found(Vec::new());
    found.values("input", &before.input, &after.input);
    found.values("kept", &before.kept, &after.kept);
    found.values("settings", &before.settings, &after.settings);
    let (first, second) = (keyed(&before.steps, same_revision), keyed(&after.steps, same_revision));
    let places: HashMap<&Key, &PastStep> = second.iter().map(|(key, step)| (key, *step)).collect();
    let known: HashMap<&Key, &PastStep> = first.iter().map(|(key, step)| (key, *step)).collect();
    for (key, step) in &first {
        match places.get(key) {
            Some(other) => found.step(step, other),
            None => found.differ(name(step), performed(step), "not performed".into()),
        }
    }
    for (key, step) in &second {
        if !known.contains_key(key) {
            found.differ(name(step), "not performed".into(), performed(step));
        }
    }
    found.values("state", &before.state.as_str().into(), &after.state.as_str().into());
    found.values("failure", &before.failure, &after.failure);
    found.values("reply.status", &before.status.into(), &after.status.into());
    found.values("reply.body", &before.reply, &after.reply);
    found.0
}

/// Number or what it is, positions in loops, and how many like it came before.
type Key = (String, String, usize);

fn keyed(steps: &[PastStep], by_number: bool) -> Vec<(Key, &PastStep)> {
    let mut counts: HashMap<(String, String), usize> = HashMap::new();
    let keyed = steps.iter().map(|step| {
        let what = if by_number { step.number.clone() } else { format!("{} {}", step.kind, step.title) };
        let place = (what, step.items.clone().unwrap_or_default());
        let count = counts.entry(place.clone()).or_default();
        *count += 1;
        ((place.0, place.1, *count), step)
    });
    keyed.collect()
}

fn name(step: &PastStep) -> String {
    let items = step.items.as_deref().unwrap_or_default();
    let items: String = items.split('.').filter(|item| !item.is_empty()).map(|item| format!("[{item}]")).collect();
    format!("step {}{items} {} {}", step.number, step.kind, step.title).trim_end().to_owned()
}

fn performed(step: &PastStep) -> String {
    match step.failure["detail"].as_str() {
        Some(detail) => format!("{}: {detail}", step.state),
        None => step.state.clone(),
    }
}

struct Found(Vec<Difference>);

impl Found {
    fn differ(&mut self, what: String, wanted: String, got: String) {
        if self.0.len() < MOST {
            self.0.push(Difference { what, wanted, got, line: 0, column: 0 });
        }
    }

    fn step(&mut self, before: &PastStep, after: &PastStep) {
        let name = name(after);
        if before.state != after.state {
            self.differ(name.clone(), performed(before), performed(after));
        }
        if before.attempts != after.attempts {
            self.differ(format!("{name} attempts"), before.attempts.to_string(), after.attempts.to_string());
        }
        self.values(&format!("{name} sent"), &before.sent, &after.sent);
        self.values(&format!("{name} outcome"), &before.outcome, &after.outcome);
    }

    /// Members and items that differ, each with its path.
    fn values(&mut self, what: &str, before: &Json, after: &Json) {
        if before == after || self.0.len() >= MOST {
            return;
        }
        match (before, after) {
            (Json::Object(first), Json::Object(second)) => {
                let added = second.keys().filter(|name| !first.contains_key(*name));
                for name in first.keys().chain(added) {
                    let of = |members: &serde_json::Map<String, Json>| members.get(name).cloned().unwrap_or_default();
                    self.values(&format!("{what}.{name}"), &of(first), &of(second));
                }
            }
            (Json::Array(first), Json::Array(second)) => {
                for index in 0..first.len().max(second.len()) {
                    let of = |items: &[Json]| items.get(index).cloned().unwrap_or_default();
                    self.values(&format!("{what}[{index}]"), &of(first), &of(second));
                }
            }
            _ => self.differ(what.to_owned(), shown(before), shown(after)),
        }
    }
}

fn shown(value: &Json) -> String {
    let text = if value.is_null() { "nothing".to_owned() } else { value.to_string() };
    match text.char_indices().nth(LONGEST) {
        Some((end, _)) => format!("{}…", &text[..end]),
        None => text,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    fn step(number: &str, title: &str, items: Option<&str>, sent: Json, outcome: Json) -> PastStep {
        PastStep {
            number: number.into(),
            kind: "call".into(),
            title: title.into(),
            items: items.map(str::to_owned),
            state: "succeeded".into(),
            sent,
            outcome,
            ..PastStep::default()
        }
    }

    #[test]
    fn runs_are_compared_by_steps_and_values() {
        let get = |to: &str| json!({"target": format!("GET /latest?to={to}")});
        let rate = |rate: f64| json!({"status": 200, "body": {"rates": [rate, 2]}});
        let before = Past {
            steps: vec![
                step("1", "rates.latest", None, get("NOK"), rate(11.5)),
                step("2.1", "s.a", Some("0"), Json::Null, json!(1)),
                step("2.1", "s.a", Some("1"), Json::Null, json!(1)),
            ],
            state: "succeeded".into(),
            status: Some(200),
            ..Past::default()
        };
        let mut after = before.clone();
        after.steps[0] = step("1", "rates.latest", None, get("GBP"), rate(0.86));
        after.steps[2].items = Some("3".into());
        after.steps[1].state = "failed".into();
        after.steps[1].failure = json!({"kind": "status", "detail": "s answered 500"});
        (after.state, after.status) = ("failed".into(), Some(502));
        let lines = |found: Vec<Difference>| -> Vec<String> {
            found.into_iter().map(|one| format!("{}: {} → {}", one.what, one.wanted, one.got)).collect()
        };
        assert_eq!(
            lines(compare(&before, &after, true)),
            [
                r#"step 1 call rates.latest sent.target: "GET /latest?to=NOK" → "GET /latest?to=GBP""#,
                "step 1 call rates.latest outcome.body.rates[0]: 11.5 → 0.86",
                "step 2.1[0] call s.a: succeeded → failed: s answered 500",
                "step 2.1[1] call s.a: succeeded → not performed",
                "step 2.1[3] call s.a: not performed → succeeded",
                r#"state: "succeeded" → "failed""#,
                "reply.status: 200 → 502",
            ]
        );
        // Another revision with a step before: paired by what they are.
        after = before.clone();
        after.steps.iter_mut().for_each(|step| step.number = format!("9.{}", step.number));
        after.steps.insert(0, step("1", "s.new", None, Json::Null, Json::Null));
        assert_eq!(lines(compare(&before, &after, false)), ["step 1 call s.new: not performed → succeeded"]);
        assert!(compare(&before, &before, true).is_empty());
    }
}
