//! Questions about the demo office and about texts that are being typed; `|` marks the position.

mod begun;
mod compared;
mod explained;
mod names;
mod sheets;

use std::fmt::Write;

use crate::complete::{self, Suggestion};
use crate::{Workspace, extract, hover, outline, scope};

/// The demo office, and a document in which `|` marks the position.
fn office(path: &str, marked: &str) -> (Workspace, usize) {
    let at = marked.find('|').expect("a mark");
    let mut workspace = Workspace::of(kanzlei_samples::demo());
    workspace.set(path, &marked.replacen('|', "", 1));
    (workspace, at)
}

fn suggested(marked: &str) -> Vec<Suggestion> {
    let (workspace, at) = office("workflows/w.yaml", marked);
    complete::at(&workspace, "workflows/w.yaml", at)
}

fn labels(marked: &str) -> String {
    suggested(marked).into_iter().take(6).map(|one| one.label).collect::<Vec<_>>().join(" ")
}

const HEAD: &str = "workflow: w\ninput:\n  imo: {type: string}\n  nights: {type: integer}\n  vessels: {type: array, items: {type: object, properties: {name: {type: string}, length_m: {type: number}}}}\nsteps:\n  - id: vessel\n    call: registry.getVessel\n    send: {imo: \"${input.imo}\"}\n    accept: [200, 404]\n";

#[test]
fn keys_values_and_names_are_suggested_while_typing() {
    let mut wrong = Vec::new();
    for (typed, begins) in [
        // Keys of the document, of steps, and of what they hold.
        ("  - |", "call let script if match each"),
        ("  - ca|", "call cancel catch"),
        ("  - reply: 200\n    |", "headers body id about when off"),
        ("  - reply: 200\n    bo|", "body about"),
        ("  - call: tides.nextWindow\n    retry: {|}", "attempts first factor max on"),
        ("  - call: tides.nextWindow\n    retry: {attempts: 3, |", "first factor max on"),
        ("  - call: tides.nextWindow\n    send:\n      |", "station draught after"),
        ("  - call: tides.nextWindow\n    send: {station: LIN, |}", "draught after"),
        ("  - invoke: vessel-dues\n    send: {|}", "imo nights"),
        ("  - if: input.nights > 1\n    |", "then else id about when off"),
        ("  - if: input.nights > 1\n    then:\n      - re|", "render reply progress"),
        ("  - match: vessel.status\n    arms:\n      |", "200 404"),
        ("  - sql: harbour\n    statement: SELECT 1 WHERE 1 = :one AND 2 = :two\n    bind: {|}", "one two"),
        // Values.
        ("  - call: tid|", "tides.nextWindow"),
        (
            "  - call: |",
            "customs.findRequest customs.request GET http://127.0.0.1:7090/identity/ GET http://127.0.0.1:7090/notices/ pilots.listReports pilots.nextPilot",
        ),
        ("  - invoke: vessel|", "vessel-dues"),
        ("  - enqueue: dues-reminder\n    lane: |", "reminders vessels"),
        ("  - call: tides.nextWindow\n    retry: {on: [time|]}", "timeout"),
        ("  - each: v\n    in: input.vessels\n    settle: |", "all"),
        // Expressions.
        ("  - reply: 200\n    body: ${|}", "vessel caller settings kept run input"),
        ("  - reply: 200\n    body: ${settings.|}", "remind_from reminders_pace"),
        ("  - reply: 200\n    body: ${inp|", "input"),
        ("  - reply: 200\n    body: ${input.|}", "imo nights vessels"),
        ("  - reply: 200\n    body: {a: \"${input.n|}\"}", "nights"),
        ("  - reply: 200\n    body: {a: \"${input.|", "imo nights vessels"),
        ("  - reply: 200\n    body: ${vessel.body.na|}", "name"),
        ("  - if: vessel.status === 404 && vessel.|", "status body headers"),
        ("  - if: vessel.status === 200\n    then:\n      - reply: 200\n        body: ${vessel.body.dr|}", "draught_m"),
        ("  - reply: 200\n    body: ${input.vessels.map(v => v.|)}", "name length_m"),
        ("  - reply: 200\n    body: ${input.vessels.map(v => v.le|", "length_m"),
        ("  - reply: 200\n    body: ${input.vessels.filter(ship => sh|)}", "ship"),
        ("  - reply: 200\n    body: ${input.vessels.fi|}", "filter find findIndex findLast findLastIndex"),
        ("  - reply: 200\n    body: ${Math.ro|}", "round"),
        ("  - reply: 200\n    body: ${input.imo.to|}", "toLowerCase toString toUpperCase toWellFormed"),
        ("  - id: names\n    each: v\n    in: input.vessels\n    collect: ${v.|}", "name length_m"),
        ("  - each: v\n    in: input.v|", "vessels"),
        // Scripts.
        (
            "  - id: n\n    script: >-\n      const rows = [];\n      for (const ship of input.vessels) { rows.push(ship.|); }\n      return rows;",
            "name length_m",
        ),
        ("  - id: n\n    script: >-\n      const rows = [1];\n      rows.pu|\n      return rows;", "push"),
        // Functions: their own names, the others of the document, and what annotations say.
        (
            "  - note: x\nfunctions: {twice: \"(n: number) => n.to|\"}",
            "toExponential toFixed toLocaleString toPrecision toString",
        ),
        ("  - note: x\nfunctions: {twice: \"(weight, n) => we|\"}", "weight"),
        (
            "  - note: x\nfunctions:\n  sum: >-\n    (ships: {name: string}[]) => {\n      const names = ships.map(ship => ship.|);\n      return names;\n    }",
            "name",
        ),
        ("  - note: x\nfunctions:\n  one: n => n\n  two: n => on|", "one"),
        ("  - id: n\n    script: >-\n      const rows = [];\n      return ro|", "rows"),
    ] {
        let marked = format!("{HEAD}{typed}\n");
        if !labels(&marked).starts_with(begins) {
            wrong.push(format!("{typed}\n=> {}", labels(&marked)));
        }
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
}

/// In a text below an indicator the mark is another one.
#[test]
fn names_are_suggested_in_block_texts() {
    let text = format!("{HEAD}  - note: |-\n      first line\n      then ${{input.ni}} more\n");
    let mut workspace = Workspace::of(kanzlei_samples::demo());
    workspace.set("workflows/w.yaml", &text);
    let at = text.rfind("ni}").expect("the name") + 2;
    let found = complete::at(&workspace, "workflows/w.yaml", at);
    assert_eq!(found.iter().map(|one| one.label.as_str()).collect::<Vec<_>>(), ["nights"]);
}

#[test]
fn keys_of_other_documents_are_suggested() {
    let mut wrong = Vec::new();
    for (path, marked, begins) in [
        ("workflows/w.yaml", "workflow: w\nuse: [|]\nsteps: [{note: a}]\n", "harbour-rules"),
        ("libraries/l.yaml", "library: l\ngroups:\n  g:\n    steps:\n      - |\n", "call let script if match"),
        ("workflows/w.yaml", "workflow: w\n|", "about tags input extra use types"),
        (
            "workflows/w.yaml",
            "workflow: w\nentries:\n  - |\nsteps:\n  - reply: 200\n",
            "endpoint access host needs allowance from",
        ),
        ("workflows/w.yaml", "workflow: w\nentries:\n  - endpoint: |\nsteps:\n  - reply: 200\n", "GET HEAD POST"),
        (
            "workflows/w.yaml",
            "workflow: w\nentries:\n  - endpoint: GET /a\n    answer: |\nsteps:\n  - reply: 200\n",
            "now later either",
        ),
        ("workflows/w.yaml", "workflow: w\ninput:\n  a: {ty|}\nsteps:\n  - reply: 200\n", "type"),
        ("workflows/w.yaml", "workflow: w\ninput:\n  a: {type: |}\nsteps:\n  - reply: 200\n", "string integer number"),
        ("workflows/w.yaml", "workflow: w\nqueue: {lane: |}\nsteps:\n  - reply: 200\n", "reminders vessels"),
        (
            "services/s.yaml",
            "service: s\nbase: http://s.example\n|",
            "about hosts openapi network idempotency_key safe",
        ),
        ("services/s.yaml", "service: s\nbase: http://s.example\ncredentials: {oauth: {from: rat|}}\n", "rates"),
        ("services/s.yaml", "service: s\nbase: http://s.example\nopenapi: ti|\n", "tides.openapi.yaml"),
        ("lanes/l.yaml", "lane: l\n|", "about at_once pace order length full"),
        ("cases/c.yaml", "cases: berth-|\nexamples: []\n", "berth-confirm berth-hold berth-quote"),
        ("cases/c.yaml", "cases: berth-quote\nstubs:\n  |\n", "rates.latest registry.getVessel tides.nextWindow"),
        (
            "cases/c.yaml",
            "cases: berth-quote\nexamples:\n  - name: a\n    input: {|}\n    expect: {}\n",
            "harbour imo arrives",
        ),
        (
            "cases/c.yaml",
            "cases: berth-quote\nexamples:\n  - name: a\n    input: {}\n    expect: {steps: {|}}\n",
            "vessel 2 2.1 tide rate",
        ),
    ] {
        let (workspace, at) = office(path, marked);
        let found = complete::at(&workspace, path, at);
        let labels = found.into_iter().take(6).map(|one| one.label).collect::<Vec<_>>().join(" ");
        if !labels.starts_with(begins) {
            wrong.push(format!("{marked}\n=> {labels}"));
        }
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
}

#[test]
fn what_is_inserted_fits_its_place() {
    for (typed, label, wanted) in [
        ("  - ca|", "call", "call: ${1:service.operation}\n    send: {$2}"),
        ("    th|", "then", "then:\n      - $0"),
        ("  - invoke: vessel-dues\n    send: {|}", "imo", "imo: $1"),
        ("  - reply: 200\n    body: ${input.im|}", "imo", "imo"),
        ("  - reply: 200\n    body: ${input.vessels.ma|}", "map", "map($1)"),
    ] {
        let typed = typed.replace("    th|", "  - if: input.nights > 1\n    th|");
        let found = suggested(&format!("{HEAD}{typed}\n"));
        let one = found.iter().find(|one| one.label == label).unwrap_or_else(|| panic!("{typed}: {found:?}"));
        assert_eq!(one.insert, wanted, "{typed}");
    }
}

#[test]
fn every_position_of_every_document_can_be_asked_about() {
    let workspace = Workspace::of(kanzlei_samples::demo());
    let paths: Vec<String> = workspace.paths().map(str::to_owned).collect();
    let (mut suggested, mut hovered) = (0, 0);
    for path in paths.iter().filter(|path| !path.starts_with("cases/")) {
        let text = workspace.text(path).expect("its text").to_owned();
        // Each third position, and the text cut off there: what is being typed ends anywhere.
        for at in (0..text.len()).step_by(127).filter(|at| text.is_char_boundary(*at)) {
            hovered += usize::from(hover::at(&workspace, path, at).is_some());
            let mut cut = Workspace::of(kanzlei_samples::demo());
            cut.set(path, &text[..at]);
            suggested += complete::at(&cut, path, at).len();
        }
    }
    assert!(suggested > 200 && hovered > 50, "{suggested} suggestions, {hovered} hovers");
}

/// Positions are bytes that clients count, so they lie within characters and behind the end too.
#[test]
fn positions_within_characters_can_be_asked_about() {
    let text = "workflow: w\ninput: {å: {type: string, title: Øre}}\nsteps:\n  - let: {b: \"${input.å + 'ø'}\"}\n  - reply: 200\n    body: ${b}æ\n";
    let workspace = Workspace::of([("w.yaml".to_owned(), text.to_owned())]);
    for at in (0..text.len() + 3).chain([usize::MAX]) {
        hover::at(&workspace, "w.yaml", at);
        complete::at(&workspace, "w.yaml", at);
        crate::symbols::references(&workspace, "w.yaml", at, true);
        crate::scope::at(&workspace, "w.yaml", at);
    }
}

/// What fuzzing found worth keeping, as documents that are being typed.
#[test]
fn odd_documents_can_be_asked_about() {
    let corpus = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../../fuzz/corpus");
    let mut asked = 0;
    for folder in ["documents", "cases"] {
        for entry in std::fs::read_dir(corpus.join(folder)).expect("the corpus").filter_map(Result::ok) {
            let text = std::fs::read_to_string(entry.path()).expect("a text");
            let mut workspace = Workspace::of(kanzlei_samples::demo());
            workspace.set_document("workflows/w.yaml", &text);
            for at in [text.len() / 3, text.len() / 2, text.len()] {
                let places = complete::at(&workspace, "workflows/w.yaml", at).into_iter().map(|one| one.replace);
                assert!(places.into_iter().all(|place| place.end as usize <= text.len()), "{text}");
            }
            asked += 1;
        }
    }
    assert!(asked > 50, "{asked} documents");
}

#[test]
fn hovers_say_what_stands_there() {
    for (path, marked, says) in [
        ("workflows/w.yaml", "  - reply: 200\n    bo|dy: a\n", "**`body`**: Its body"),
        ("workflows/w.yaml", "  - call: registry.get|Vessel\n    send: {imo: \"1\"}\n", "GET /vessels/{imo}"),
        ("workflows/w.yaml", "  - call: reg|istry.getVessel\n    send: {imo: \"1\"}\n", "service **registry**"),
        ("workflows/w.yaml", "  - invoke: vessel-|dues\n    send: {imo: \"1\"}\n", "workflow **vessel-dues**"),
        ("workflows/w.yaml", "  - invoke: vessel-dues\n    send: {i|mo: \"1\"}\n", "Input of `vessel-dues`, required"),
        ("workflows/w.yaml", "  - reply: 200\n    body: ${ves|sel.status}\n", "From step 1: `call registry.getVessel`"),
        ("workflows/w.yaml", "  - reply: 200\n    body: ${vessel.sta|tus}\n", "status: 200 | 404"),
        ("workflows/w.yaml", "  - reply: 200\n    body: ${input.n|ights}\n", "nights: number"),
        ("workflows/w.yaml", "  - reply: 200\n    body: ${input.vessels.m|ap(v => v.name)}\n", "map(change) → list"),
        ("workflows/w.yaml", "  - reply: 200\n    body: ${input.vessels.map(v => v|.name)}\n", "v: {name"),
        ("workflows/w.yaml", "  - reply: 200\n    body: ${Math.ro|und(1.5)}\n", "Math.round(number) → number"),
        ("workflows/w.yaml", "  - reply: 200\n    body: ${inpt|u.imo}\n", "`unknown-name`"),
    ] {
        let (workspace, at) = office(path, &format!("{HEAD}{marked}"));
        let found = hover::at(&workspace, path, at).map(|found| found.text).unwrap_or_default();
        assert!(found.contains(says), "{marked}: {found}");
    }
}

#[test]
fn steps_know_names_with_types_and_origins() {
    let workspace = Workspace::of(kanzlei_samples::demo());
    let outline: Vec<String> = outline::of(&workspace, "workflows/berth-quote.yaml")
        .into_iter()
        .map(|entry| format!("{} {} {}", entry.number, entry.kind, entry.title))
        .collect();
    assert_eq!(outline[..3], ["1 call registry.getVessel", "2 if vessel.status === 404", "2.1 fail 422"]);
    let cases = outline::of(&workspace, "cases/berth-quote.yaml");
    assert_eq!((cases[1].title.as_str(), cases[1].at.as_str()), ("another currency needs a rate", "examples/1"));
    let text = workspace.text("cases/berth-quote.yaml").expect("a text");
    assert!(text[..cases[1].range.end as usize].ends_with("calls: {rates.latest: [{params: {to: NOK}}]}"), "{cases:?}");
    let scope = scope::at_step(&workspace, "workflows/berth-quote.yaml", "3").expect("a scope");
    let mut shown = String::new();
    for name in &scope.names {
        let _ = writeln!(shown, "{}: {} ({})", name.name, name.of, name.origin);
    }
    assert!(shown.contains("vessel: {status: 200, body: {"), "{shown}");
    assert!(shown.contains("From step 1: `call registry.getVessel`"), "{shown}");
    assert!(scope::at_step(&workspace, "workflows/berth-quote.yaml", "9").is_none());
}

#[test]
fn steps_become_a_workflow_of_their_own() {
    let workspace = Workspace::of(kanzlei_samples::demo());
    let path = "workflows/berth-quote.yaml";
    let at = kanzlei_lang::edit::parse_path("steps/2");
    let found = extract(&workspace, path, &at, 2, "tide-and-rate").expect("extracted");
    assert!(found.document.contains("# The tide office is sometimes slow"), "{}", found.document);
    assert!(found.document.contains("draught: \"${input.vessel.body.draught_m}\""), "{}", found.document);
    assert!(found.document.contains("body: {rate: \"${rate}\", tide: \"${tide}\"}"), "{}", found.document);
    let text = kanzlei_lang::edit::apply(workspace.text(path).expect("a text"), &found.edits).expect("edits");
    assert!(text.contains("  - id: tide_and_rate\n    invoke: tide-and-rate\n"), "{text}");
    assert!(text.contains("tide: ${tide_and_rate.body.tide.body.window}"), "{text}");
    for (at, count, name, says) in [
        ("steps/5", 1, "tail", "a step among them replies"),
        ("steps/2", 1, "vessel-dues", "there is already a workflow"),
        ("steps/2", 1, "Tail", "cannot be the name"),
        ("steps/9", 1, "tail", "there is nothing at"),
    ] {
        let refused = extract(&workspace, path, &kanzlei_lang::edit::parse_path(at), count, name).expect_err(says);
        assert!(refused.contains(says), "{refused}");
    }
}
