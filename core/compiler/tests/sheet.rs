//! How a workflow is shown: a numbered paragraph for each step, whatever its kind.

use kanzlei_compiler::check::{Bundle, check};
use kanzlei_compiler::plan::sheet::Paragraph;

const API: &str = r#"{"openapi": "3.1.0", "paths": {"/x": {"post": {"operationId": "add",
    "parameters": [{"name": "q", "in": "query", "schema": {"type": "string"}}],
    "requestBody": {"content": {"application/json": {"schema": {"type": "object"}}}}}}}}"#;

fn sheet(steps: &str) -> Vec<Paragraph> {
    let mut bundle = Bundle::default();
    bundle.add("s.yaml", "service: s\nbase: http://s\nopenapi: api.json\n");
    bundle.files.insert("api.json".into(), API.into());
    bundle.add("child.yaml", "workflow: child\ninput: {n: {type: integer}}\nsteps: [{reply: 204}]\n");
    let head = "input: {n: {type: integer}, list: {type: array, items: {type: string}}}";
    bundle.add("w.yaml", &format!("workflow: w\n{head}\nsteps:\n{steps}  - note: ${{input}}\n"));
    let mut checked = check(&bundle);
    assert_eq!(checked.errors(), 0, "{:?}", checked.diagnostics);
    let at = checked.workflows.iter().position(|(_, plan)| plan.name == "w").expect("it is compiled");
    checked.workflows.remove(at).1.sheet.clone()
}

/// Number, indentation, branch, kind, title and name of a paragraph on one line, its rows behind them.
fn line(of: &Paragraph) -> String {
    let branch = of.branch.as_ref().map(|branch| format!("[{branch}] ")).unwrap_or_default();
    let name = of.name.as_ref().map(|name| format!(" → {name}")).unwrap_or_default();
    let rows: String = of.rows.iter().map(|(label, value)| format!(" · {label}: {value}")).collect();
    format!("{} {branch}{} {}{name}{rows}", of.number, of.kind, of.title)
}

#[test]
fn each_kind_of_step_is_a_paragraph() {
    let mut wrong = Vec::new();
    for (steps, wanted) in [
        (
            "  - {id: a, call: s.add, send: {q: x, n: \"${input.n}\"}, headers: {X-A: b}, within: 2s}\n",
            "1 call s.add → a · q: x · n: input.n · X-A:: b",
        ),
        ("  - {call: POST http://s/x, body: [1, \"${input.n}\"]}\n", "1 call POST http://s/x · body: [1, input.n]"),
        ("  - let: {a: \"${input.n * 2}\", b: text}\n", "1 let  · a: input.n * 2 · b: text"),
        (
            "  - if: input.n > 1\n    then: [{note: a}]\n    else: [{note: b}]\n",
            "1 if input.n > 1 / 1.1 [then] note a / 1.2 [else] note b",
        ),
        (
            "  - match: input.n\n    arms: {1: [{note: a}]}\n    else: [{note: b}]\n",
            "1 match input.n / 1.1 [1] note a / 1.2 [else] note b",
        ),
        (
            "  - {each: one, in: input.list, position: at, at_once: 3, id: all, steps: [{note: \"${one}\"}], collect: \"${at}\"}\n",
            "1 each one in input.list → all · at once: 3 · collect: at / 1.1 [each one] note one",
        ),
        (
            "  - together: {a: {note: x}, b: [{note: y}, {note: z}]}\n",
            "1 together  / 1.1 [a] note x / 1.2 [b] note y / 1.3 note z",
        ),
        ("  - {id: c, invoke: child, send: {n: 1}}\n", "1 invoke child → c · n: 1"),
        (
            "  - {id: r, sql: d, statement: 'SELECT :n AS n', bind: {n: \"${input.n}\"}}\n",
            "1 sql d → r · statement: SELECT :n AS n · :n: input.n",
        ),
        (
            "  - {sql: d, statements: [{statement: 'DELETE FROM t'}, {statement: 'SELECT 1 AS n'}]}\n",
            "1 sql d (transaction of 2) · statement: DELETE FROM t · statement: SELECT 1 AS n",
        ),
        ("  - keep: {last: \"${input.n}\"}\n", "1 keep  · last: input.n"),
        ("  - pause: 500ms\n", "1 pause 500ms"),
        ("  - {id: j, enqueue: child, send: {n: 1}, after: 2h}\n", "1 enqueue child → j · n: 1 · after: 2h"),
        (
            "  - {id: j, enqueue: child, each: one, in: input.list, send: {n: \"${one.length}\"}}\n",
            "1 enqueue child for each one in input.list → j · n: one.length",
        ),
        ("  - cancel: {tag: t}\n", "1 cancel tag t"),
        ("  - progress: ${input.n / 10}\n", "1 progress input.n / 10"),
        ("  - {reply: 201, headers: {X-A: b}, body: {n: \"${input.n}\"}}\n", "1 reply 201 · X-A:: b · n: input.n"),
        ("  - {fail: 422, title: No, detail: \"of ${input.n}\"}\n", "1 fail 422 No · detail: of ${input.n}"),
    ] {
        let found: Vec<String> = sheet(steps).iter().map(line).filter(|line| !line.ends_with("note input")).collect();
        if found.join(" / ") != wanted {
            wrong.push(format!("({steps:?}, {:?}),", found.join(" / ")));
        }
    }
    assert!(wrong.is_empty(), "found:\n{}", wrong.join("\n"));
}

#[test]
fn a_paragraph_has_what_is_said_about_its_step() {
    let shown = sheet("  - {note: a, about: Why., when: input.n > 1}\n  - {note: b, off: true}\n");
    let (first, second) = (&shown[0], &shown[1]);
    assert_eq!((first.about.as_deref(), first.when.as_deref(), first.off), (Some("Why."), Some("input.n > 1"), false));
    assert_eq!((second.number.as_str(), second.off, second.line), ("2", true, 5));
}

#[test]
fn depth_grows_with_each_block() {
    let nested = "  - if: input.n > 1\n    then: [{each: one, in: input.list, steps: [{note: \"${one}\"}]}]\n";
    let shown: Vec<(String, u8)> = sheet(nested).into_iter().map(|one| (one.number, one.depth)).collect();
    let wanted = [("1", 0), ("1.1", 1), ("1.1.1", 2), ("2", 0)].map(|(number, depth)| (number.to_owned(), depth));
    assert_eq!(shown, wanted);
}
