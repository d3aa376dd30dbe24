//! Ended runs as text: what is confidential masked, what is too long cut.

use std::borrow::Cow;

use kanzlei_compiler::plan::Shown;
use kanzlei_engine::machine::{Machine, StepRecord};
use kanzlei_lang::confidential::Label;
use kanzlei_model::hex;
use kanzlei_model::value::Value;
use kanzlei_store::journal::codec::StepHead;
use kanzlei_store::journal::{Run, Step};
use ring::digest::{self, SHA256};

use super::{Finished, sealed};
use crate::secrets::Secrets;
use crate::secrets::mask::RunMask;

/// An ended run as it is kept: values masked, and cut beyond so many bytes of JSON. Where something is confidential, its values are sealed, too.
pub fn row(run: &Finished, limit: usize, secrets: &Secrets, process: &str) -> Run {
    let mask = secrets.of_run(&run.machine, &run.input);
    let masked = |label: &Label, value: &Value| cut(mask.text(label.mask(value).to_json()), limit);
    let mut row = rendered(run, process, &masked);
    if run.machine.plan().labels.any {
        // Secrets stay masked: they are what no record has.
        let plain = rendered(run, process, &|_, value| secrets.mask(value.to_json()));
        row.sealed = sealed::seal(&mut row, plain, secrets);
    }
    row
}

/// How a value with a label becomes text.
type Text<'t> = &'t dyn Fn(&Label, &Value) -> String;

fn rendered(run: &Finished, process: &str, text: Text) -> Run {
    let machine = &run.machine;
    let clear = |value: &Value| text(&Label::Clear, value);
    let some = |value: &Value| if matches!(value, Value::Undefined) { None } else { Some(clear(value)) };
    let (plan, reply) = (machine.plan(), machine.reply());
    Run {
        id: run.id,
        workflow: plan.name.clone(),
        revision: run.revision,
        state: run.ended.state.name().into(),
        entry: run.entry.to_string(),
        status: reply.map(|reply| reply.status),
        started: run.started,
        duration: run.ended.at - run.started,
        request_id: run.request_id.clone(),
        trace_id: run.trace.id_text(),
        caller: run.caller.kept(plan.uses_caller),
        input: text(&plan.input.label, &run.input),
        kept: machine.remembered().map(clear),
        settings: machine.settings().map(clear),
        reply: reply.and_then(|reply| some(&reply.body)),
        failure: run.ended.failure.as_ref().map(|failure| clear(&failure.to_value())),
        process: Some(process.to_owned()),
        incomplete: false,
        sealed: None,
        steps: machine.records().iter().map(|record| step(machine, record, text)).collect(),
    }
}

/// What the steps of a run did: values cut beyond so many bytes, what is confidential masked.
pub fn steps(machine: &Machine, limit: usize, mask: &RunMask) -> Vec<Step> {
    let text = |label: &Label, value: &Value| cut(mask.text(label.mask(value).to_json()), limit);
    machine.records().iter().map(|record| step(machine, record, &text)).collect()
}

fn step(machine: &Machine, record: &StepRecord, text: Text) -> Step {
    let nothing = Shown::default();
    let shown = machine.shown(record).unwrap_or(&nothing);
    let some = |label: &Label, value: &Value| match value {
        Value::Undefined => None,
        value => Some(text(label, value)),
    };
    let head = step_head(machine, record);
    let owned = |text: Option<Cow<'_, str>>| text.map(Cow::into_owned);
    Step {
        paragraph: head.paragraph,
        state: head.state.into_owned(),
        started: head.started,
        duration: head.duration,
        attempts: head.attempts,
        earlier_attempts: owned(head.earlier_attempts),
        sent: some(&shown.sent, &record.sent),
        outcome: some(&shown.outcome, &record.outcome(machine.plan_of(record))),
        failure: record.failure.as_ref().map(|failure| text(&Label::Clear, &failure.to_value())),
        number: owned(head.number),
        kind: owned(head.kind),
        title: owned(head.title),
        items: owned(head.items),
    }
}

/// A step without its values.
pub(super) fn step_head<'m>(machine: &'m Machine, record: &'m StepRecord) -> StepHead<'m> {
    // Steps of the workflow itself are known by their paragraph; those of others bring their heading.
    let foreign = (record.level > 0).then(|| machine.plan_of(record).sheet.get(record.paragraph as usize)).flatten();
    let short = |text: &str, most: usize| Cow::Owned(text.chars().take(most).collect::<String>());
    let in_loop = record.item.is_some() || record.owner.is_some();
    let items = if in_loop { machine.items(record) } else { Vec::new() };
    let items = items.iter().map(u32::to_string).collect::<Vec<_>>().join(".");
    StepHead {
        paragraph: record.paragraph,
        state: Cow::Borrowed(record.state.name()),
        started: record.started,
        duration: record.ended - record.started,
        attempts: record.attempts,
        earlier_attempts: (!record.earlier_attempts.is_empty()).then(|| short(&record.earlier_attempts.join(" "), 300)),
        number: foreign.map(|_| short(&machine.number(record), 100)),
        kind: foreign.map(|paragraph| Cow::Borrowed(paragraph.kind.as_str())),
        title: foreign.map(|paragraph| short(&paragraph.title, 300)),
        items: (!items.is_empty()).then(|| short(&items, 100)),
    }
}

/// Cuts JSON text that is too long; what stands for it has its size, its digest (SHA-256) and its beginning.
pub fn cut(json: String, limit: usize) -> String {
    if json.len() <= limit {
        return json;
    }
    let mut end = limit / 2;
    while !json.is_char_boundary(end) {
        end -= 1;
    }
    let digest = hex::of(digest::digest(&SHA256, json.as_bytes()).as_ref());
    serde_json::json!({"$cut": {"bytes": json.len(), "digest": digest, "begins": &json[..end]}}).to_string()
}

/// Replaces the largest values of a run until it has at most so many bytes; it is incomplete then.
pub fn shrink(run: &mut Run, most: usize) {
    let mut bytes = run.bytes();
    if bytes <= most {
        return;
    }
    run.incomplete = true;
    run.sealed = None;
    bytes = run.bytes();
    let mut values: Vec<&mut String> = run.values().filter(|value| value.len() > REMAINS).collect();
    values.sort_by_key(|value| std::cmp::Reverse(value.len()));
    for value in values {
        if bytes <= most {
            return;
        }
        let before = value.len();
        *value = cut(std::mem::take(value), REMAINS);
        bytes = bytes - before + value.len();
    }
    // So many steps that even their marks are too much: the last ones are left out.
    while bytes > most
        && let Some(step) = run.steps.pop()
    {
        bytes = bytes.saturating_sub(step.bytes());
    }
}

/// Bytes that remain of a value that is replaced, about: its mark and its beginning.
const REMAINS: usize = 600;

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn long_values_are_cut_with_a_mark() {
        let long = format!("\"{}\"", "å".repeat(100));
        let shown: serde_json::Value = serde_json::from_str(&cut(long.clone(), 51)).expect("json");
        assert_eq!((&shown["$cut"]["bytes"], shown["$cut"]["digest"].as_str().map(str::len)), (&202.into(), Some(64)));
        assert_eq!(cut(long.clone(), 202), long);
    }

    #[test]
    fn the_largest_values_of_a_run_are_replaced() {
        let value = |length: usize| Some(format!("\"{}\"", "x".repeat(length)));
        let step = |outcome| Step { outcome, ..Step::default() };
        let whole = Run {
            input: "{}".into(),
            reply: value(2_000),
            steps: vec![step(value(50_000)), step(value(3_000)), step(None)],
            ..Run::default()
        };
        for (most, reply, outcomes, steps) in [
            (100_000, false, [false, false], 3),
            (20_000, false, [true, false], 3),
            (5_000, false, [true, true], 3),
            (3_000, true, [true, true], 3),
            (1_500, true, [true, true], 1),
        ] {
            let mut run = whole.clone();
            shrink(&mut run, most);
            let is_cut = |value: &Option<String>| value.as_ref().is_some_and(|value| value.contains("$cut"));
            let cut: Vec<bool> = run.steps.iter().take(2).map(|step| is_cut(&step.outcome)).collect();
            assert_eq!((is_cut(&run.reply), run.steps.len(), run.incomplete), (reply, steps, most < 100_000), "{most}");
            assert_eq!(cut, outcomes[..cut.len()], "{most}");
            assert!(run.bytes() <= most, "{most}");
        }
    }
}
