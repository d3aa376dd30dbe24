use super::*;
use crate::coverage::Missing;
use kanzlei_compiler::check::{Bundle, Checked};

const API: &str = r##"openapi: 3.1.0
paths:
  /v/{imo}:
    get:
      operationId: get
      parameters: [{name: imo, in: path, required: true, schema: {type: string}}]
      responses:
        "200": {description: ok, content: {application/json: {schema: {$ref: "#/components/schemas/V"}}}}
        "404": {description: no}
  /v:
    post: {operationId: add, requestBody: {content: {application/json: {schema: {type: object}}}}, responses: {"201": {description: made}}}
components: {schemas: {V: {type: object, required: [name, size], properties: {name: {type: string, examples: [Havbris]}, size: {type: number}}}}}
"##;

const WORKFLOW: &str = r#"workflow: w
input: {imo: {type: string}, n: {type: integer, default: 1}}
entries: [{endpoint: "POST /w/{imo}", access: open, limits: {time: 5s}}]
steps:
  - id: v
    call: s.get
    send: {imo: "${input.imo}"}
    accept: [200, 404]
    within: 2s
    retry: {attempts: 2, first: 1s}
  - if: v.status === 404
    then: [{fail: 422, title: Unknown, detail: "No ${input.imo}"}]
  - {call: s.add, when: input.n > 1, send: {name: "${v.body.name}"}, catch: [{note: "${failure.kind}"}]}
  - match: input.n
    arms: {1: [{let: {word: one}}], 2: [{let: {word: two}}]}
    else: [{let: {word: many}}]
  - {each: x, in: "[1, 2]", steps: [{note: "${x}"}]}
  - {sql: harbour, id: rows, statement: "SELECT name FROM v WHERE n = :n", bind: {n: "${input.n}"}}
  - keep: {last: "${v.body.name}"}
  - {pause: 2s, when: input.n > 5}
  - reply: 201
    headers: {X-Word: "${word}"}
    body: {name: "${v.body.name}", size: "${v.body.size}", rows: "${rows.rows}"}
"#;

fn checked(cases: &str) -> (Checked, Vec<Prepared>) {
    let mut bundle = Bundle::default();
    bundle.add("s.yaml", "service: s\nbase: http://s\nopenapi: o.yaml\nidempotency_key: true\n");
    bundle.files.insert("o.yaml".into(), API.into());
    bundle.add("w.yaml", WORKFLOW);
    bundle.add("c.yaml", cases);
    check(&bundle)
}

/// Runs the cases; returns for each what was not as expected.
fn run(cases: &str) -> Vec<CaseResult> {
    let (checked, rehearsals) = checked(cases);
    assert_eq!(checked.errors(), 0, "{:?}", checked.diagnostics);
    let prepared = &rehearsals[0];
    (0..prepared.len()).map(|index| prepared.run(index)).collect()
}

const STUBS: &str = "cases: w\nclock: 2027-03-01T00:00:00Z\nstubs:\n  s.get: {body: {name: Havbris, size: 132}}\n  s.add: {status: 201}\n  sql.harbour: {rows: [{name: a}]}\nexamples:\n";

#[test]
fn what_is_as_expected_passes() {
    let cases = format!(
        r#"{STUBS}
  - name: all of it
    request: POST /w/9074720
    body: {{n: 1}}
    kept: {{last: Kvikk}}
    expect:
      state: succeeded
      reply: {{status: 201, headers: {{x-word: one}}, exactly: true, body: {{name: Havbris, size: "${{it > 100}}", rows: [{{name: a}}]}}}}
      steps: {{1: {{state: succeeded, attempts: 1}}, v: succeeded, 2.1: untaken, 3: skipped, 5.1: {{times: 2}}, "5.1[1]": succeeded}}
      calls: {{s.add: 0, s.get: [{{params: {{imo: "9074720"}}, method: GET}}], sql.harbour: [{{bind: {{n: 1}}}}]}}
      kept: {{last: Havbris}}
      took: 0
  - name: in turn, with a pause between
    input: {{imo: x, n: 2}}
    stubs:
      s.get: [{{fails: unreachable, takes: 100ms}}, {{body: {{name: A, size: 1}}}}]
      s.add: [{{when: "request.body.name === 'B'", status: 200}}, {{status: 500}}]
    expect:
      reply: {{status: 201}}
      steps: {{1: {{attempts: 2}}, 3: caught, 4.2: succeeded}}
      took: "${{it > 600 && it <= 1100}}"
  - name: a timeout takes as long as it may
    input: {{imo: x}}
    stubs: {{s.get: {{fails: timeout}}}}
    expect: {{failure: {{kind: timeout}}, reply: {{status: 504}}, took: "${{it >= 4500}}"}}
  - name: longer than the endpoint may take
    request: POST /w/x
    body: {{n: 6}}
    stubs: {{s.get: [{{fails: timeout}}, {{takes: 1s, body: {{name: A, size: 1}}}}]}}
    expect: {{reply: {{status: 504, body: {{detail: "the request took longer than its limit of 5s"}}}}, took: 5000}}
  - name: refused
    request: POST /w/x
    body: {{n: many}}
    expect: {{reply: {{status: 422, body: {{errors: [{{pointer: /n}}]}}}}, steps: {{1: untaken}}}}
  - name: a problem
    input: {{imo: x, n: 3}}
    stubs: {{s.get: {{status: 404}}}}
    expect: {{reply: {{status: 422, body: {{detail: No x}}}}}}
"#
    );
    let results = run(&cases);
    for result in &results {
        assert!(result.passed(), "{}: {:?} {:?}", result.case, result.differences, result.missing_stubs);
    }
    // What the first two reach, and all of them together.
    let plan = checked(&cases).1[0].plan().clone();
    let coverage = |results: &[CaseResult]| {
        let mut reached = Reached::default();
        results.iter().for_each(|result| reached.add(&result.reached));
        Coverage::of(&plan, &reached)
    };
    let two = coverage(&results[..2]);
    let missing: Vec<_> = two.missing.iter().map(|m| (m.number.as_str(), m.branch.as_deref())).collect();
    assert_eq!(missing, [("2", Some("then")), ("2.1", None), ("4", Some("else")), ("4.3", None), ("8", None)]);
    assert_eq!((two.steps, two.steps_reached, two.branches, two.branches_reached), (15, 12, 10, 7));
    assert_eq!(two.paragraphs.iter().filter(|reached| **reached == Some(false)).count(), 3);
    assert_eq!((coverage(&results).percent(), coverage(&results).missing.len()), (100.0, 0));
}

#[test]
fn the_statements_of_functions_count_as_branches() {
    let workflow = r#"
workflow: w
input: {n: {type: integer}}
functions:
  fee: |
    (n: number): number => {
      if (n > 9) return 5;
      for (const x of [1, 2]) { if (x > n) { n += x; } }
      return n;
    }
  twice: "(n: number): number => [n, n].map(m => fee(m)).reduce((a, b) => a + b, 0)"
  never: "(a) => { return a; }"
steps:
  - {reply: 200, body: "${twice(input.n) + (input.n > 100 ? never(1) : 0)}"}
"#;
    for (inputs, covered, wanted) in [
        (&[3][..], (9, 6), &["fee line 2, column 14", "fee line 3, column 42", "never"][..]),
        (
            &[10],
            (9, 2),
            &[
                "fee line 2, not",
                "fee line 3",
                "fee line 3, column 29",
                "fee line 3, column 42",
                "fee line 3, not",
                "fee line 4",
                "never",
            ],
        ),
        (&[1, 10], (9, 8), &["never"]),
        (&[1, 101], (9, 9), &[]),
    ] {
        let mut bundle = Bundle::default();
        bundle.documents.push(Source { path: "w.yaml".into(), text: workflow.into() });
        let cases: String = inputs
            .iter()
            .map(|n| format!("  - {{name: with {n}, input: {{n: {n}}}, expect: {{reply: {{status: 200}}}}}}\n"))
            .collect();
        bundle.documents.push(Source { path: "c.yaml".into(), text: format!("cases: w\nexamples:\n{cases}") });
        let (checked, rehearsals) = check(&bundle);
        assert_eq!(checked.diagnostics, []);
        let mut reached = Reached::default();
        (0..inputs.len()).for_each(|at| reached.add(&rehearsals[0].run(at).reached));
        let coverage = Coverage::of(rehearsals[0].plan(), &reached);
        let name = |missing: &Missing| format!("{} {}", missing.number, missing.branch.as_deref().unwrap_or_default());
        let missing: Vec<String> = coverage.missing.iter().map(|one| name(one).trim().to_owned()).collect();
        assert_eq!(missing, wanted, "{inputs:?}");
        assert_eq!((coverage.branches, coverage.branches_reached), covered, "{inputs:?}");
    }
}

#[test]
fn requests_are_read_as_a_service_reads_them() {
    let cases = format!(
        r#"{STUBS}
  - name: parts of the path are decoded, and encoded again for the call
    request: POST /w/a%2Fb%20%C3%A5
    body: {{n: 1}}
    expect: {{reply: {{status: 201}}, calls: {{s.get: [{{target: /v/a%2Fb%20%C3%A5, params: {{imo: a/b å}}}}]}}}}
  - name: a form
    request: POST /w/x
    headers: {{Content-Type: application/x-www-form-urlencoded}}
    body: n=2
    expect: {{steps: {{4.2: succeeded}}}}
  - name: no body
    request: POST /w/x
    expect: {{steps: {{4.1: succeeded}}}}
  - name: what is no JSON
    request: POST /w/x
    headers: {{content-type: text/csv}}
    body: "n;2"
    expect: {{reply: {{status: 415}}}}
"#
    );
    for result in run(&cases) {
        assert!(result.passed(), "{}: {:?} {:?}", result.case, result.differences, result.missing_stubs);
    }
}

#[test]
fn a_refused_request_makes_nothing_that_is_expected_of_a_run() {
    for (expected, what) in [
        ("failure: {kind: fail}", "failure"),
        ("calls: {s.get: 1}", "calls of s.get"),
        ("kept: {last: B}", "kept.last"),
        ("places: {archive: {a.csv: {size: 1}}}", "places.archive"),
    ] {
        let case =
            format!("request: POST /w/x\n    body: {{n: many}}\n    expect: {{reply: {{status: 422}}, {expected}}}");
        let results = run(&format!("{STUBS}  - name: refused\n    {case}\n"));
        let found: Vec<_> = results[0].differences.iter().map(|one| one.what.as_str()).collect();
        assert!(found.first().is_some_and(|first| first.starts_with(what)), "{expected}: {found:?}");
    }
}

#[test]
fn what_differs_is_reported_with_its_place() {
    for (case, wanted) in [
        (
            "expect: {reply: {status: 200}}",
            "reply.status 200|201 {\"name\":\"Havbris\",\"size\":132,\"rows\":[{\"name\":\"a\"}]}",
        ),
        ("expect: {reply: {body: {name: B}}}", "reply.body.name \"B\"|\"Havbris\""),
        ("expect: {reply: {body: {rows: []}}}", "reply.body.rows 0 items: []|1 items: [{\"name\":\"a\"}]"),
        ("expect: {reply: {body: {size: '${it > 200}'}}}", "reply.body.size ${it > 200}|132"),
        ("expect: {reply: {exactly: true, body: {name: Havbris}}}", "reply.body.size nothing|132"),
        ("expect: {state: failed}", "state failed|succeeded"),
        ("expect: {steps: {3: succeeded}}", "step 3 succeeded|skipped"),
        ("expect: {steps: {2.1: failed}}", "step 2.1 failed|untaken"),
        ("expect: {calls: {s.get: 2}}", "calls of s.get 2|1"),
        ("expect: {calls: {s.get: [{params: {imo: y}}]}}", "s.get[0].params.imo \"y\"|\"x\""),
        ("expect: {kept: {last: B}}", "kept.last \"B\"|\"Havbris\""),
        ("stubs: {s.get: {status: 500}}\n    expect: {steps: {2: untaken}}", "state succeeded|failed: s answered 500"),
    ] {
        let results = run(&format!("{STUBS}  - name: one\n    input: {{imo: x}}\n    {case}\n"));
        let found: Vec<_> =
            results[0].differences.iter().map(|d| format!("{} {}|{}", d.what, d.wanted, d.got)).collect();
        assert_eq!(found.first().map(String::as_str), Some(wanted), "{case}: {found:?}");
        assert!(results[0].differences[0].line >= 10, "{:?}", results[0].differences);
    }
}

#[test]
fn a_call_without_a_stub_brings_the_stub_to_paste() {
    let results = run("cases: w\nexamples: [{name: none, input: {imo: x}, expect: {state: succeeded}}]\n");
    assert_eq!(results[0].missing_stubs, [r#"s.get: {body: {"name":"Havbris","size":1.5}}"#]);
    assert!(!results[0].passed());
    // Pasted, the case continues to the next one that is missing.
    let stub = &results[0].missing_stubs[0];
    let results = run(&format!(
        "cases: w\nstubs:\n  {stub}\nexamples: [{{name: one, input: {{imo: x}}, expect: {{state: succeeded}}}}]\n"
    ));
    assert_eq!(
        results[0].missing_stubs,
        ["sql.harbour: {when: \"request.statement.startsWith('SELECT name FROM')\", rows: [], count: 0}"]
    );
    // A call by address has a stub by its path.
    let mut bundle = Bundle::default();
    bundle.add("s.yaml", "service: s\nbase: http://s/base\n");
    bundle.add("w.yaml", "workflow: w\nsteps: [{call: GET http://s/base/x}]\n");
    for (stubs, wanted) in [("", vec!["\"s GET /x\": {body: {}}"]), ("stubs: {\"s GET /x\": {body: {}}}\n", vec![])] {
        let text = format!("cases: w\n{stubs}examples: [{{name: one, input: {{}}, expect: {{state: succeeded}}}}]\n");
        bundle.add("c.yaml", &text);
        assert_eq!(check(&bundle).1[0].run(0).missing_stubs, wanted, "{stubs}");
        bundle.documents.pop();
    }
}

#[test]
fn wrong_cases_are_reported() {
    for (text, wanted) in [
        ("cases: nobody\nexamples: []\n", "unknown-workflow@1:8"),
        ("cases: w\n", "missing-key@1:8"),
        ("cases: w\nexamples: [{name: a}]\n", "missing-key@2:19"),
        ("cases: w\nexamples: [{name: a, expect: {}}]\n", "wrong-value@2:30"),
        ("cases: w\nexamples: [{name: a, input: {imox: x}, expect: {state: failed}}]\n", "wrong-input@2:29"),
        ("cases: w\nexamples: [{name: a, request: GET /w/x, expect: {state: failed}}]\n", "unknown-endpoint@2:31"),
        ("cases: w\nstubs: {s.gett: {body: 1}}\nexamples: []\n", "unknown-operation@2:9"),
        ("cases: w\nstubs: {x.get: {body: 1}}\nexamples: []\n", "unknown-service@2:9"),
        ("cases: w\nstubs: {s.get: {fails: later}}\nexamples: []\n", "wrong-value@2:24"),
        ("cases: w\nstubs: {s.get: {when: requst.body, body: 1}}\nexamples: []\n", "unknown-name@2:23"),
        ("cases: w\nstubs: {s.get: {body: {name: 1}}}\nexamples: []\n", "odd-stub@2:23"),
        ("cases: w\nexamples: [{name: a, input: {imo: x}, expect: {steps: {19: failed}}}]\n", "unknown-step@2:56"),
        (
            "cases: w\nexamples: [{name: a, input: {imo: x}, expect: {reply: {body: \"x ${it}\"}}}]\n",
            "wrong-value@2:62",
        ),
    ] {
        let found: Vec<String> =
            checked(text).0.diagnostics.iter().map(|d| format!("{}@{}:{}", d.code, d.line, d.column)).collect();
        assert!(found.iter().any(|found| found == wanted), "{text} wanted {wanted}, found {found:?}");
    }
}

#[test]
fn jobs_and_callbacks_are_rehearsed() {
    let workflow = r#"workflow: q
input: {n: {type: integer}}
steps:
  - {id: later, enqueue: child, send: {n: "${input.n}"}, after: 2 days, tag: t, catch: [{fail: 503, detail: "${failure.kind}"}]}
  - {id: all, enqueue: child, each: item, in: "[1, 2, 3]", send: {n: "${item}"}, spacing: 1min, lane: slow}
  - {progress: 0.5}
  - id: word
    await: callback
    until: 1 day
    steps: [{call: s.add, send: {name: "${callback.url}"}}]
    catch: [{cancel: "${[later.job, 'else']}", id: gone}, {fail: 504, detail: "${gone.cancelled[0]} ${gone.unknown[0]}"}]
  - reply: 200
    body: {word: "${word}", jobs: "${all.jobs.length}"}
"#;
    let head = "cases: q\nclock: 2027-03-01T00:00:00Z\nstubs: {s.add: {status: 201}}\nexamples:\n";
    let run = |case: &str| {
        let mut bundle = Bundle::default();
        bundle.add("s.yaml", "service: s\nbase: http://s\nopenapi: o.yaml\n");
        bundle.files.insert("o.yaml".into(), API.into());
        bundle.add("lane.yaml", "lane: slow\n");
        bundle.add("child.yaml", "workflow: child\ninput: {n: {type: integer}}\nsteps: [{note: \"${input.n}\"}]\n");
        bundle.add("q.yaml", workflow);
        bundle.add("c.yaml", &format!("{head}  - {{name: a, input: {{n: 1}}, {case}}}\n"));
        let (checked, rehearsals) = check(&bundle);
        assert_eq!(checked.errors(), 0, "{case}: {:?}", checked.diagnostics);
        let result = rehearsals[0].run(0);
        let what: Vec<String> = result.differences.iter().map(|d| format!("{}: {}", d.what, d.got)).collect();
        (what, result.missing_stubs)
    };
    for (case, wanted) in [
        (
            "stubs: {callback: {takes: 3h, body: {ok: true}}}, expect: {reply: {status: 200, body: {word: {ok: true}, jobs: 3}}, took: 10800000}",
            &[][..],
        ),
        (
            "stubs: {callback: {takes: 3h, body: 1}}, expect: {jobs: {child: [{input: {n: 1}, due: 2027-03-03T00:00:00Z, tag: t}, {due: 2027-03-01T00:00:00Z}, {due: 2027-03-01T00:01:00Z, lane: slow}, {input: {n: 3}}]}}",
            &[],
        ),
        ("expect: {reply: {status: 504, body: {detail: job-1 else}}, took: 86400000}", &[]),
        (
            "stubs: {callback: {takes: 25h}, cancel: {body: {cancelled: [x], unknown: [y]}}}, expect: {reply: {status: 504, body: {detail: x y}}}",
            &[],
        ),
        ("stubs: {queue: {fails: full}}, expect: {reply: {status: 503, body: {detail: full}}, jobs: {child: 0}}", &[]),
        ("stubs: {callback: {body: 1}}, expect: {jobs: {child: 3}}", &["jobs of child: 4"]),
        (
            "stubs: {callback: {body: 1}}, expect: {jobs: {child: [{}, {}, {}, {input: {n: 4}}]}}",
            &["child[3].input.n: 3"],
        ),
    ] {
        assert_eq!(run(case), (wanted.iter().map(|s| s.to_string()).collect(), Vec::new()), "{case}");
    }
}

#[test]
fn the_demo_office_is_clean() {
    let (checked, rehearsals) = check(&Bundle::of(kanzlei_samples::demo()));
    assert_eq!(checked.diagnostics, []);
    assert_eq!((checked.workflows.len(), rehearsals.len()), (33, 33));
    // Its cases pass and reach every step and branch.
    let mut reached = Reached::default();
    for prepared in &rehearsals {
        for index in 0..prepared.len() {
            let result = prepared.run(index);
            assert!(result.passed(), "{} {}: {:?}", result.workflow, result.case, result.differences);
            reached.add(&result.reached);
        }
    }
    for (_, plan) in &checked.workflows {
        assert_eq!(Coverage::of(plan, &reached).missing, [], "{}", plan.name);
    }
    assert_eq!(checked.alerts.len(), 5);
    assert_eq!(checked.libraries.keys().collect::<Vec<_>>(), ["harbour-rules"]);
    let rules = Coverage::of_library("harbour-rules", &checked.libraries["harbour-rules"], &reached);
    assert_eq!((rules.branches, rules.branches_reached, rules.missing.len()), (5, 5, 0));
}

#[test]
fn calls_by_address_are_expected_and_a_stub_that_nothing_calls_is_a_finding() {
    let run = |stubs: &str, expect: &str| {
        let mut bundle = Bundle::default();
        bundle.add("s.yaml", "service: s\nbase: http://s\nopenapi: o.yaml\n");
        bundle.files.insert("o.yaml".into(), API.into());
        bundle.add("w.yaml", "workflow: w\nsteps:\n  - {call: \"GET http://s/x/7\"}\n  - {call: \"GET http://s/x/8\"}\n  - {reply: 204}\n");
        bundle.add(
            "c.yaml",
            &format!("cases: w\nstubs: {{s GET: {{body: {{}}}}{stubs}}}\nexamples: [{{name: a, expect: {{calls: {expect}}}}}]\n"),
        );
        let (checked, rehearsals) = check(&bundle);
        let codes: Vec<String> = checked.diagnostics.iter().map(|d| d.code.clone()).collect();
        let what = rehearsals.first().map(|one| one.run(0).differences).unwrap_or_default();
        (
            codes,
            what.into_iter().map(|difference| format!("{} {}", difference.what, difference.got)).collect::<Vec<_>>(),
        )
    };
    let none = Vec::<String>::new;
    for (stubs, expect, codes, differences) in [
        ("", "{s GET /x/7: 1}", none(), none()),
        ("", "{s GET: 2}", none(), none()),
        ("", "{\"s GET /x/{n}\": 3}", none(), vec!["calls of s GET /x/{n} 2".to_owned()]),
        ("", "{s POST /x/7: 0}", vec!["unused-stub".to_owned()], none()),
        (", s.add: {status: 201}", "{s GET: 2}", vec!["unused-stub".to_owned()], none()),
        (", sql.books: {rows: []}", "{s GET: 2}", vec!["unused-stub".to_owned()], none()),
    ] {
        assert_eq!(run(stubs, expect), (codes, differences), "{stubs} {expect}");
    }
}
