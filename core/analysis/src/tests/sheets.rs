//! The sheet of the demo's first workflow and of texts that are being written: paragraphs, forms, values, offers.

use std::collections::BTreeMap;

use kanzlei_lang::edit::parse_path;
use serde_json::json;

use crate::Workspace;
use crate::sheet::{self, Shape};

const QUOTE: &str = "workflows/berth-quote.yaml";

fn demo() -> Workspace {
    Workspace::of(kanzlei_samples::demo())
}

/// A workflow among the documents of the demo.
fn with(text: &str) -> Workspace {
    let mut workspace = demo();
    workspace.set("workflows/w.yaml", text);
    workspace
}

const UNFINISHED: &str = "workflow: w
input: {imo: {type: string}, at: {type: string, format: date-time}}
steps:
  - id: vessel
    call: registry.getVessel
    send: {imo: 9}
  - match: vessel.body.kind
    arms:
      ferry: []
      tanker:
        - pause: 5s
      404:
        - note: '404'
  - together:
      tide: {call: tides.nextWindow}
      calm:
        - {id: a, nothing: b}
    catch:
      - note: none
  - each: x
    in: input.list
    steps:
      - reply: ${x
";

#[test]
fn paragraphs_and_ends_of_lists_are_found_in_unfinished_texts_too() {
    let sheet = sheet::of(&with(UNFINISHED), "workflows/w.yaml").expect("a sheet");
    let parts: Vec<String> =
        sheet.parts.iter().map(|p| format!("{}|{}|{}|{}|{}", p.number, p.kind, p.title, p.name, p.branch)).collect();
    assert_eq!(
        parts,
        [
            "|input|||",
            "1|call|registry.getVessel|vessel|",
            "2|match|vessel.body.kind||",
            "2.1|pause|5s||tanker",
            "2.2|note|404||404",
            "3|together|||",
            "3.1|call|tides.nextWindow|tide|tide",
            "3.2|||a|calm",
            "3.3|note|none||catch",
            "4|each|x in input.list||",
            "4.1|reply|${x||",
        ]
    );
    let ends: Vec<String> = sheet
        .ends
        .iter()
        .map(|e| {
            format!(
                "{} behind {}{}{}",
                e.at,
                e.behind,
                if e.offered { ", offered" } else { "" },
                if e.branch.is_empty() { String::new() } else { format!(", {}", e.branch) }
            )
        })
        .collect();
    assert_eq!(
        ends,
        [
            "steps/1/arms/ferry/0 behind 2, ferry",
            "steps/1/arms/tanker/1 behind 3",
            "steps/1/arms/404/1 behind 4",
            "steps/1/else/0 behind 4, offered, else",
            "steps/2/together/calm/1 behind 7",
            "steps/2/catch/1 behind 8",
            "steps/3/steps/1 behind 10",
            "steps/4 behind 10",
            "on_failure/0 behind 10, offered, on_failure",
        ]
    );
    assert!(sheet::of(&with("workflow: w\nsteps: [\n"), "workflows/w.yaml").is_none());
}

#[test]
fn steps_on_failure_stand_behind_the_others() {
    let text = "workflow: w\nsteps:\n  - if: run.id\n    then: [{note: a}]\non_failure:\n  - note: ${failure.detail}\n  - {reply: 503, catch: [{note: x}]}\n";
    let workspace = with(text);
    let sheet = sheet::of(&workspace, "workflows/w.yaml").expect("a sheet");
    let parts: Vec<String> =
        sheet.parts.iter().map(|p| format!("{} {} {}|{}", p.number, p.at, p.branch, p.kind)).collect();
    assert_eq!(
        parts,
        [
            "1 steps/0 |if",
            "1.1 steps/0/then/0 then|note",
            "2 on_failure/0 on_failure|note",
            "3 on_failure/1 |reply",
            "3.1 on_failure/1/catch/0 catch|note"
        ]
    );
    let ends: Vec<_> = sheet.ends.iter().map(|end| format!("{} {}", end.at, end.behind)).collect();
    let wanted = ["steps/0/then/1 1", "steps/0/else/0 1", "on_failure/1/catch/1 4", "steps/1 1", "on_failure/2 4"];
    assert_eq!(ends, wanted);
    let form = sheet::form(&workspace, "workflows/w.yaml", &parse_path("on_failure/1")).expect("a form");
    assert_eq!((form.kind.as_str(), form.fields[0].at.as_str()), ("reply", "on_failure/1/reply"));
}

#[test]
fn arms_in_a_list_are_branches_of_the_sheet() {
    let text = "workflow: w\ninput: {n: {type: number}}\nsteps:\n  - match: input.n\n    arms:\n      - in: [1, 2]\n        steps:\n          - note: few\n      - from: 3\n        below: 9\n        steps:\n          - note: more\n          - pause: 1s\n";
    let workspace = with(text);
    let sheet = sheet::of(&workspace, "workflows/w.yaml").expect("a sheet");
    let parts: Vec<String> =
        sheet.parts.iter().map(|p| format!("{} {} {}|{}", p.number, p.at, p.branch, p.kind)).collect();
    assert_eq!(
        parts[1..],
        [
            "1 steps/0 |match",
            "1.1 steps/0/arms/0/steps/0 1, 2|note",
            "1.2 steps/0/arms/1/steps/0 from 3, below 9|note",
            "1.3 steps/0/arms/1/steps/1 |pause",
        ]
    );
    let ends: Vec<_> = sheet.ends.iter().map(|end| end.at.as_str()).collect();
    assert_eq!(ends, ["steps/0/arms/0/steps/1", "steps/0/arms/1/steps/2", "steps/0/else/0", "steps/1", "on_failure/0"]);
    let form = sheet::form(&workspace, "workflows/w.yaml", &parse_path("steps/0")).expect("a form");
    let fields: Vec<&str> = form.fields.iter().filter(|field| field.present).map(|field| field.at.as_str()).collect();
    let arms = ["arms", "arms/0", "arms/0/in", "arms/1", "arms/1/from", "arms/1/below"];
    let wanted: Vec<String> = arms.iter().map(|at| format!("steps/0/{at}")).collect();
    assert_eq!(fields, [vec!["steps/0/match"], wanted.iter().map(String::as_str).collect()].concat());
}

#[test]
fn inputs_of_a_sheet_bring_samples_that_fit() {
    let text = "workflow: w\ninput:\n  imo: {type: string, pattern: '^[0-9]{7}$'}\n  nights: {type: integer, minimum: 2, default: 3}\n  pin: {type: string, optional: true, secret: true}\nsteps: []\n";
    let workspace = Workspace::of([("w.yaml".to_owned(), text.to_owned())]);
    let inputs = sheet::of(&workspace, "w.yaml").expect("a sheet").inputs;
    let found: Vec<_> =
        inputs.iter().map(|one| (one.name.as_str(), one.required, one.secret, one.sample.to_string())).collect();
    let wanted = [("imo", true, false, "\"1234567\""), ("nights", false, false, "3"), ("pin", false, true, "\"text\"")];
    assert_eq!(found, wanted.map(|(name, required, secret, sample)| (name, required, secret, sample.to_owned())));
}

#[test]
fn forms_show_what_there_is_and_offer_what_could_be() {
    let workspace = demo();
    // The paragraph, a field of it, how it is edited, its value, what it wants.
    for (at, field, shape, value, expects) in [
        (
            "",
            "about",
            Shape::Constant,
            "Quotes the dues for one stay at a berth, with the first tide a vessel can use.",
            "",
        ),
        ("entries/0", "entries/0/endpoint", Shape::Constant, "POST /harbours/{harbour}/quotes", ""),
        ("entries/0", "entries/0/limits/time", Shape::Constant, "15s", ""),
        ("entries/0", "entries/0/answer", Shape::Choice, "", ""),
        ("steps/0", "steps/0/call", Shape::Choice, "registry.getVessel", ""),
        ("steps/0", "steps/0/send/imo", Shape::Value, "input.imo", "string"),
        ("steps/0", "steps/0/accept", Shape::Yaml, "[200, 404]", ""),
        ("steps/0", "steps/0/when", Shape::Expression, "", ""),
        ("steps/1", "steps/1/if", Shape::Expression, "vessel.status === 404", ""),
        (
            "steps/1/then/0",
            "steps/1/then/0/detail",
            Shape::Value,
            "No vessel carries the number ${input.imo}.",
            "string",
        ),
        ("steps/2", "steps/2/retry/attempts", Shape::Constant, "3", ""),
        ("steps/2", "steps/2/retry/max", Shape::Constant, "", ""),
        ("steps/2", "steps/2/send/station", Shape::Value, "input.harbour", "'LIN' | 'NES'"),
        (
            "steps/4",
            "steps/4/let/dues",
            Shape::Value,
            "vessel.body.length_m * 3.2 * input.nights * (rate?.body.rate ?? 1)",
            "",
        ),
        ("steps/5", "steps/5/body/dues/currency", Shape::Value, "input.currency", ""),
        ("input", "input/nights", Shape::Input, "{type: integer, minimum: 1, maximum: 30, default: 1}", ""),
    ] {
        let form = sheet::form(&workspace, QUOTE, &parse_path(at)).expect("a form");
        let found = form.fields.iter().find(|one| one.at == field).unwrap_or_else(|| panic!("{field}: {form:?}"));
        assert_eq!((found.shape, found.value.as_str(), found.expects.as_str()), (shape, value, expects), "{field}");
    }
    let form = sheet::form(&workspace, QUOTE, &parse_path("steps/1/then/0")).expect("a form");
    assert!(form.source.starts_with("fail: 422\ntitle: Unknown vessel\n"), "{}", form.source);
    let workspace = with(UNFINISHED);
    let form = sheet::form(&workspace, "workflows/w.yaml", &parse_path("steps/1/arms/404/0")).expect("a form");
    assert_eq!(form.fields[0].value, "\"404\"");
    // Branches by their names; a step that says nothing yet.
    for (at, fields) in [
        ("steps/1", "match arms arms/ferry arms/tanker arms/404"),
        ("steps/2", "together together/tide together/calm"),
        ("steps/2/together/tide", "call id send send/station send/draught send/after"),
    ] {
        let form = sheet::form(&workspace, "workflows/w.yaml", &parse_path(at)).expect("a form");
        let fields_of: Vec<&str> = form
            .fields
            .iter()
            .filter(|one| one.shown && !one.at.contains("retry/"))
            .map(|one| &one.at[at.len() + 1..])
            .collect();
        assert!(fields_of.join(" ").starts_with(fields), "{at}: {fields_of:?}");
    }
}

#[test]
fn values_that_fit_come_first_and_others_say_why_not() {
    let workspace = demo();
    for (at, wanted, first, unfit, why) in [
        (
            "steps/2/send/draught",
            "number",
            "vessel.body.draught_m vessel.body.length_m input.nights",
            "input.imo",
            "a string is not a number",
        ),
        ("steps/2/send/after", "instant", "input.arrives run.started", "vessel", "an object is not an instant"),
        (
            "steps/3/send/to",
            "'EUR' | 'NOK' | 'GBP'",
            "input.currency",
            "vessel.body.length_m",
            "a number is not one of 'EUR', 'NOK', 'GBP'",
        ),
        ("steps/5/body/dues", "", "dues", "vessel", ""),
    ] {
        let found = sheet::values(&workspace, QUOTE, &parse_path(at)).expect("values");
        let shown: Vec<&str> = found.values.iter().map(|one| one.expression.as_str()).collect();
        assert!(
            found.wanted == wanted && (shown.join(" ").starts_with(first) || shown[..6].contains(&first)),
            "{at} wants {}: {shown:?}",
            found.wanted
        );
        assert_eq!(found.values.iter().find(|one| one.expression == unfit).expect("it").why, why, "{at}");
    }
    let found = sheet::values(&workspace, QUOTE, &parse_path("steps/4/let/x")).expect("values");
    let rate =
        found.values.iter().find(|one| one.expression == "rate?.body.rate").expect("a value that may be missing");
    assert_eq!(json!(rate.path), json!(["rate", "body", "rate"]));
    let imo = found.values.iter().find(|one| one.expression == "input.imo").expect("an input");
    assert_eq!(imo.example, json!("9074720"));
}

#[test]
fn offers_fill_in_what_is_known() {
    let workspace = demo();
    let offers = sheet::offers(&workspace, QUOTE, &parse_path("steps/2")).expect("offers");
    for (label, value) in [
        (
            "call tides.nextWindow",
            "id: window\ncall: tides.nextWindow\nsend: {station: \"\", draught: \"${vessel.body.draught_m}\", after: \"${input.arrives}\"}",
        ),
        ("call registry.getVessel", "id: vessel2\ncall: registry.getVessel\nsend: {imo: \"${input.imo}\"}"),
        (
            "invoke harbour-tides",
            "id: tides\ninvoke: harbour-tides\nsend: {draught: \"${vessel.body.draught_m}\", after: \"${input.arrives}\"}",
        ),
        ("pause", "pause: 5s"),
    ] {
        let found = offers.iter().find(|one| one.label == label);
        assert_eq!(found.map(|one| one.value.as_str()), Some(value), "{label}");
    }
}

#[test]
fn expressions_are_evaluated_over_samples() {
    let workspace = demo();
    let values = BTreeMap::from([("vessel".to_owned(), json!({"status": 200, "body": {"length_m": 100}}))]);
    for (text, template, value, fault, made_up) in [
        ("vessel.body.length_m * 3.2", false, json!(320), "", ""),
        ("vessel.body.length_m * input.nights", false, json!(100), "", "input"),
        ("${vessel.status} and ${input.currency}", true, json!("200 and EUR"), "", "input"),
        ("vessel.body.lengths", false, json!(null), "lengths", ""),
        ("1 +", false, json!(null), "expression", ""),
    ] {
        let found = sheet::evaluate(&workspace, QUOTE, &parse_path("steps/4"), text, template, &values).expect("it");
        assert!(
            found.value == value
                && found.fault.contains(fault)
                && found.fault.is_empty() == fault.is_empty()
                && found.made_up.join(" ") == made_up,
            "{text}: {found:?}"
        );
    }
}
