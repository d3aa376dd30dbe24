use super::*;
use crate::check;
use crate::record::tests::past;
use kanzlei_compiler::check::{Bundle, check as checked_of};
use serde_json::json;

const WORKFLOW: &str = r#"workflow: w
input: {imo: {type: string}, nights: {type: integer, default: 1}}
entries: [{endpoint: "GET /w/{imo}", access: open}]
steps:
  - {id: vessel, call: "GET http://s/v/{imo}", send: {imo: "${input.imo}"}}
  - {id: made, call: s.add, send: {name: "${vessel.body.name}", nights: "${input.nights}"}}
  - {id: rows, sql: harbour, statement: "SELECT a FROM t WHERE x = :x", bind: {x: 1}}
  - {id: later, enqueue: child, send: {name: a}, after: 1h}
  - keep: {seen: "${(kept.seen ?? 0) + 1}"}
  - {reply: 200, body: {name: "${vessel.body.name}", rows: "${rows.rows.length}", job: "${later.job}", run: "${run.id}"}}
"#;
const CHILD: &str = "workflow: child\ninput: {name: {type: string}}\nsteps: [{note: \"${input.name}\"}]\n";
const SERVICE: &str = "service: s\nbase: http://s\nopenapi: api.yaml\n";
const API: &str = r#"openapi: 3.1.0
paths:
  /v: {post: {operationId: add, requestBody: {content: {application/json: {schema: {type: object}}}}, responses: {"201": {description: made}}}}
"#;
const CASES: &str = r#"cases: w
examples:
  - name: all goes well
    request: GET /w/9074720?nights=2
    kept: {seen: 3}
    stubs:
      s GET /v/9074720: {body: {name: Nordvik}}
      s.add: {status: 201}
      sql.harbour: {rows: [{a: 1}]}
    expect: {state: succeeded}
"#;

fn bundle(workflow: &str) -> Bundle {
    let mut bundle = Bundle::default();
    for (path, text) in [("w.yaml", workflow), ("child.yaml", CHILD), ("s.yaml", SERVICE)] {
        bundle.add(path, text);
    }
    bundle.files.insert("api.yaml".into(), API.into());
    bundle
}

/// What the journal holds of the run of the case.
fn recorded() -> Past {
    let mut bundle = bundle(WORKFLOW);
    bundle.add("c.yaml", CASES);
    let (checked, rehearsals) = check(&bundle);
    assert_eq!(checked.errors(), 0, "{:?}", checked.diagnostics);
    let (result, machine) = rehearsals[0].play(0, None);
    assert_eq!((result.status, result.missing_stubs.len()), (Some(200), 0), "{:?}", result.differences);
    past(&machine.expect("a run"), &rehearsals[0], 0)
}

#[test]
fn what_differs_is_listed_and_what_was_not_recorded_diverges() {
    let past = recorded();
    // What is put in place of what, the verdict, what differs, and how.
    for (from, to, verdict, what, how) in [
        ("", "", Verdict::Same, "", ""),
        ("steps:\n", "steps:\n  - note: new\n", Verdict::Same, "", ""),
        ("rows.rows.length}\"", "rows.rows.length + 1}\"", Verdict::Differs, "reply.body.rows", "1 2"),
        ("rows: \"${rows", "more: 1, rows: \"${rows", Verdict::Differs, "reply.body.more", "nothing 1"),
        ("reply: 200", "reply: 201", Verdict::Differs, "reply.status", "200 201"),
        ("?? 0) + 1", "?? 0) + 2", Verdict::Differs, "kept.seen", "4 5"),
        ("bind: {x: 1}", "bind: {x: 2}", Verdict::Differs, "request sql.harbour bind.x", "1 2"),
        (", nights: \"${input.nights}\"", "", Verdict::Differs, "request s.add body.nights", "2 nothing"),
        ("  - {id: later", "  - fail: 409\n  - {id: later", Verdict::Differs, "state", "succeeded rejected"),
        (
            "nights: {type: integer, default: 1}",
            "nights: {type: integer, maximum: 1}",
            Verdict::Differs,
            "state",
            "succeeded no run",
        ),
        ("  - keep:", "  - {enqueue: child, send: {name: b}}\n  - keep:", Verdict::Differs, "jobs of child", "1 2"),
        ("GET http://s/v/{imo}", "GET http://s/w/{imo}", Verdict::Diverged, "s GET /w/9074720", ""),
        (
            "  - keep:",
            "  - {call: s.add, send: {name: again}}\n  - keep:",
            Verdict::Differs,
            "request s.add",
            "no request",
        ),
        ("sql: harbour", "sql: other", Verdict::Diverged, "sql.other", ""),
        ("GET /w/{imo}", "GET /x/{imo}", Verdict::Skipped, "no endpoint", ""),
    ] {
        let text = WORKFLOW.replacen(from, to, usize::from(!from.is_empty()));
        let checked = checked_of(&bundle(&text));
        assert!(checked.plan("w").is_some(), "{to}: {:?}", checked.diagnostics);
        let found = retrace(&past, &checked);
        assert_eq!(found.verdict, verdict, "{to}: {found:?}");
        let shown = match found.differences.first() {
            Some(one) => format!("{} {} {}", one.what, one.wanted, one.got),
            None => found.why.unwrap_or_default(),
        };
        assert!(shown.contains(what) && shown.contains(how), "{to}: {shown}");
    }
}

#[test]
fn runs_that_were_recorded_incompletely_are_skipped() {
    let checked = checked_of(&bundle(WORKFLOW));
    let cut = json!({"$cut": 70_000, "start": "…"});
    type Change = fn(&mut Past, Json);
    let change: [(&str, Change); 4] = [
        ("input", |past, value| past.input = value),
        ("remembered", |past, value| past.kept = json!({"seen": value})),
        ("reply", |past, value| past.reply = json!([value])),
        ("step 1", |past, value| past.steps[0].outcome = json!({"status": 200, "body": {"name": value}})),
    ];
    for (what, change) in change {
        for (value, why) in [(cut.clone(), "too long"), (json!("•••"), "masked")] {
            let mut past = recorded();
            change(&mut past, value);
            let found = retrace(&past, &checked);
            let shown = found.why.unwrap_or_default();
            assert!(found.verdict == Verdict::Skipped && shown.contains(what) && shown.contains(why), "{shown}");
        }
    }
    let elsewhere = Past { workflow: "x".into(), ..recorded() };
    assert_eq!(retrace(&elsewhere, &checked).verdict, Verdict::Skipped);
}
