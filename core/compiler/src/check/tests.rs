//! Every diagnostic has a document that earns it; the demo office earns none.

use super::*;

const SERVICE: &str =
    "service: registry\nbase: http://127.0.0.1:7090/registry\nnetwork: private\nopenapi: registry.openapi.yaml\n";
const OPENAPI: &str = r#"
openapi: 3.1.0
paths:
  /vessels/{imo}:
    get:
      operationId: getVessel
      parameters:
        - {name: imo, in: path, required: true, schema: {type: string}}
        - {name: fields, in: query, schema: {type: array}}
  /vessels:
    post: {operationId: addVessel, requestBody: {content: {application/json: {}}}}
"#;

fn bundle(text: &str) -> Bundle {
    let mut bundle = Bundle::default();
    bundle.add("services/registry.yaml", SERVICE);
    bundle.files.insert("services/registry.openapi.yaml".into(), OPENAPI.into());
    bundle.add("test.yaml", text);
    bundle
}

fn found(text: &str) -> Vec<String> {
    check(&bundle(text)).diagnostics.iter().map(|d| format!("{}@{}:{}", d.code, d.line, d.column)).collect()
}

#[test]
fn every_fault_is_found_at_its_place() {
    let head = "workflow: w\nsteps:\n"; // steps begin on line 3
    let endpoint = |path: &str| {
        let input = "input: {a: {type: string}, b: {type: array, optional: true}}";
        format!(
            "workflow: w\n{input}\nentries: [{{endpoint: '{path}', access: open}}]\nsteps: [{{reply: 200, body: '${{input}}'}}]\n"
        )
    };
    let mut differing = Vec::new();
    for (text, wanted) in [
        ("workflow: W w\nsteps: [{reply: 200}]\n".to_owned(), "bad-name@1:11"),
        ("workflow: w\nsteps: [{reply: 200}]\nentires: []\n".into(), "unknown-key@3:1"),
        ("workflow: w\n".into(), "missing-key@1:11"),
        ("wrkflow: w\n".into(), "unknown-kind@1:1"),
        ("issuer: w\niss: i\naudience: a\n".into(), "missing-key@1:9"),
        ("[1]".into(), "wrong-type@1:1"),
        (format!("{head}  - replay: 200\n"), "unknown-step@3:5"),
        (format!("{head}  - script: return x\n"), "unknown-name@3:20"),
        (format!("{head}  - script: const x = 1;\n"), "no-return@3:13"),
        (format!("{head}  - script: |\n      const x = 1;\n      x = 2; return x;\n"), "assignment@5:7"),
        (format!("{head}  - script: |\n      let x = y;\n      const y = 1; return x;\n"), "declaration@4:15"),
        (
            format!("{head}  - script: |\n      for (const k in run) {{ }} return 1;\n"),
            "expression-outside-language@4:7",
        ),
        (format!("{head}  - script: |\n      const x: number = run.id;\n      return x;\n"), "annotation@4:25"),
        (format!("{head}  - script: {{a: 1}}\n"), "wrong-type@3:13"),
        (format!("{head}  - reply: 200\n    note: x\n"), "two-steps@4:5"),
        (format!("{head}  - reply: 200\n    boddy: x\n"), "unknown-key@4:5"),
        (format!("{head}  - reply: 99\n"), "wrong-value@3:12"),
        (format!("{head}  - reply: {{body: \"${{run.id}}\"}}\n"), "wrong-value@3:12"),
        (format!("{head}  - reply: \"${{run.id === 'a' ? 99 : null}}\"\n"), "wrong-value@3:12"),
        (format!("{head}  - fail: 200\n"), "wrong-value@3:11"),
        (format!("{head}  - reply: 200\n    body: Hi ${{nme}}\n"), "unknown-name@4:16"),
        (format!("{head}  - reply: 200\n    body: {{a: [1, \"${{x}}\"]}}\n"), "unknown-name@4:22"),
        (format!("{head}  - if: ${{1}}\n    then: [{{reply: 200}}]\n"), "expression-syntax@3:9"),
        (format!("{head}  - if: 1 ===\n    then: [{{reply: 200}}]\n"), "expression-syntax@3:14"),
        (format!("{head}  - if: true\n    then: [{{reply: 200}}]\n"), "constant-condition@3:9"),
        (format!("{head}  - call: registry.getVesel\n"), "unknown-operation@3:11"),
        (format!("{head}  - call: regstry.getVessel\n"), "unknown-service@3:11"),
        (format!("{head}  - call: registry.getVessel\n"), "missing-parameter@3:11"),
        (format!("{head}  - call: registry.getVessel\n    send: {{imo: '1', x: 1}}\n"), "unknown-parameter@4:22"),
        (format!("{head}  - call: registry.getVessel\n    send: {{imo: '1'}}\n    body: x\n"), "wrong-value@5:11"),
        (format!("{head}  - call: registry.addVessel\n    retry: {{attempts: 2}}\n"), "unsafe-retry@4:5"),
        (
            format!("{head}  - call: registry.addVessel\n    unless: {{call: registry.addVessel}}\n"),
            "unsafe-retry@4:14",
        ),
        (format!("{head}  - call: registry.addVessel\n    unless: {{send: {{imo: '1'}}}}\n"), "missing-key@4:13"),
        (
            format!(
                "{head}  - call: registry.addVessel\n    unless: {{call: registry.getVessel, send: {{imo: '1'}}, done: x}}\n"
            ),
            "missing-key@4:64",
        ),
        (
            format!(
                "{head}  - call: registry.addVessel\n    unless: {{call: registry.getVessel, send: {{imo: '1'}}, id: e, done: e.bdy}}\n"
            ),
            "unknown-member@4:73",
        ),
        (
            format!(
                "{head}  - call: registry.addVessel\n    unless: {{call: registry.getVessel, send: {{imo: '1'}}, id: e}}\n  - note: ${{e}}\n"
            ),
            "unknown-name@5:13",
        ),
        (format!("{head}  - sql: d\n    statement: SELECT * FROM kanzlei_done\n"), "reserved-table@4:16"),
        (format!("{head}  - sql: d\n    statement: TRUNCATE t\n"), "commits-by-itself@4:16"),
        (format!("{head}  - sql: d\n    statement: SELECT 1\n    once: 1\n"), "wrong-type@5:11"),
        (format!("{head}  - call: GET https://elsewhere.example/x\n"), "unknown-service@3:11"),
        (format!("{head}  - call: GET http://127.0.0.1:7090/registry/v{{?q}}\n"), "missing-parameter@3:11"),
        (format!("{head}  - call: registry.getVessel\n    send: {{imo: '1'}}\n    within: soon\n"), "wrong-value@5:13"),
        (
            format!("{head}  - call: registry.getVessel\n    send: {{imo: '1'}}\n    accept: [2000]\n"),
            "wrong-value@5:14",
        ),
        (format!("{head}  - let: {{input: 1}}\n"), "bad-name@3:11"),
        (format!("{head}  - let: {{a: 1}}\n  - let: {{a: 2}}\n"), "name-taken@4:11"),
        (format!("{head}  - id: x\n    let: {{a: 1}}\n"), "no-result@3:9"),
        (format!("{head}  - fail: 400\n  - note: x\n"), "unreachable-step@4:5"),
        (
            format!("{head}  - if: run.id\n    then: [{{fail: 400}}]\n    else: [{{fail: 400}}]\n  - note: x\n"),
            "unreachable-step@6:5",
        ),
        (format!("{head}  - reply: 200\n  - reply: 200\n"), "second-reply@4:5"),
        (format!("{head}  - reply: 200\n    body: ${{failure.kind}}\n"), "unknown-name@4:13"),
        (
            format!("{head}  - if: run.id\n    then: [{{let: {{a: 1}}}}]\n    else: [{{note: \"${{a}}\"}}]\n"),
            "unknown-name@5:22",
        ),
        (
            "workflow: w\ninput: {a: {type: strin}}\nsteps: [{reply: 200, body: \"${input.a}\"}]\n".into(),
            "bad-schema@2:12",
        ),
        (
            "workflow: w\ninput: {a: {type: integer, default: x}}\nsteps: [{reply: 200, body: \"${input.a}\"}]\n"
                .into(),
            "bad-schema@2:12",
        ),
        (
            "workflow: w\ninput: {a: {type: string, pattern: '(?=x)'}}\nsteps: [{reply: 200, body: \"${input.a}\"}]\n"
                .into(),
            "bad-schema@2:12",
        ),
        ("workflow: w\ninput: {a: {type: string}}\nsteps: [{reply: 200}]\n".into(), "unused-input@2:9"),
        (
            "workflow: w\ninput: {a: {type: string}}\nsteps: [{reply: 200, body: \"${input.b}\"}]\n".into(),
            "unknown-input@3:37",
        ),
        (
            "workflow: w\nentries: [{endpoint: \"POST /x/{id}\", access: open}]\nsteps: [{reply: 200}]\n".into(),
            "unknown-input@2:22",
        ),
        (
            "workflow: w\nentries: [{endpoint: FETCH /x, access: open}]\nsteps: [{reply: 200}]\n".into(),
            "wrong-value@2:22",
        ),
        ("workflow: w\nentries: [{endpoint: GET /x, access: jwt}]\nsteps: [{reply: 200}]\n".into(), "wrong-value@2:38"),
        ("workflow: w\nentries: [{endpoint: GET /x, access: all}]\nsteps: [{reply: 200}]\n".into(), "wrong-value@2:38"),
        ("workflow: w\nentries: [{endpoint: GET /x}]\nsteps: [{reply: 200}]\n".into(), "missing-key@2:22"),
        (
            "workflow: w\nentries: [{endpoint: GET /~/x, access: open}]\nsteps: [{reply: 200}]\n".into(),
            "reserved-path@2:22",
        ),
        ("workflow: w\nentries: [{change: x}]\nsteps: [{reply: 200}]\n".into(), "missing-key@2:20"),
        (endpoint("GET /x/{a}/{a}"), "bad-path@3:22"),
        (endpoint("GET /x/{b}?a={a}"), "bad-path@3:22"),
        (endpoint("GET /x/{b}"), "bad-path@3:22"),
        (endpoint("GET /x/../{a}"), "bad-path@3:22"),
        (endpoint("GET /%2E%2e/{a}"), "bad-path@3:22"),
        (endpoint("GET /x*/{a}"), "bad-path@3:22"),
        (format!("{head}  - call: GET http://127.0.0.1:7090/registry/{{x\n"), "bad-template@3:11"),
        (format!("{head}  - call: GET http://127.0.0.1:7090/registry\n    service: other\n"), "unknown-service@4:14"),
        (
            format!("{head}  - call: registry.getVessel\n    send: {{imo: '1'}}\n    service: registry\n"),
            "wrong-value@5:14",
        ),
        ("service: s\nbase: http://10.0.0.1\n".into(), "private-address@1:10"),
        ("service: s\nbase: http://localhost:1\n".into(), "private-address@1:10"),
        ("service: s\n".into(), "missing-key@1:10"),
        ("service: s\nbase: nowhere\n".into(), "wrong-value@2:7"),
        ("service: s\nbase: http://h\nopenapi: gone.yaml\n".into(), "missing-file@3:10"),
        ("service: registry\nbase: http://h\n".into(), "duplicate-name@1:10"),
    ] {
        let got = found(&text);
        if got != [wanted] {
            differing.push(format!("{text}    wanted {wanted}, found {got:?}"));
        }
    }
    assert!(differing.is_empty(), "{}", differing.join("\n"));
}

#[test]
fn faults_are_reported_together() {
    let text = "workflow: w\nbogus: 1\nsteps:\n  - call: nobody.knows\n  - let: {a: \"${b}\", c: \"${1 +}\"}\n  - reply: 1000\n";
    assert_eq!(found(text).len(), 5, "{:?}", found(text));
}

#[test]
fn two_workflows_cannot_have_one_address() {
    let text = |name: &str, path: &str| {
        format!(
            "workflow: {name}\ninput: {{a: {{type: string}}, b: {{type: string}}}}\nentries: [{{endpoint: \"GET {path}\", access: open}}]\nsteps: [{{reply: 200, body: \"${{input}}\"}}]\n"
        )
    };
    let mut both = Bundle::default();
    both.add("one.yaml", &text("one", "/x/{a}"));
    both.add("two.yaml", &text("two", "/x/{b}"));
    let checked = check(&both);
    assert_eq!(
        checked.diagnostics.iter().map(|d| (d.code.as_str(), d.path.as_str())).collect::<Vec<_>>(),
        [("address-taken", "two.yaml")]
    );
}

#[test]
fn names_of_branches_are_known_behind_them() {
    let text = "workflow: w\nsteps:\n  - if: run.id\n    then: [{let: {a: 1}}]\n    else: [{let: {a: 2, b: 1}}]\n  - call: registry.getVessel\n    id: v\n    send: {imo: \"${a}${b ?? 0}\"}\n    catch: [{let: {v: \"${failure.kind}\"}}]\n  - reply: 200\n    body: ${v}\n";
    assert_eq!(found(text), Vec::<String>::new());
}

#[test]
fn steps_are_numbered_like_a_deed() {
    let text = "workflow: w\nsteps:\n  - note: a\n  - match: run.id\n    arms:\n      x: [{note: b}, {if: run.id, then: [{note: c}]}]\n    else: [{note: d}]\n  - reply: 204\n";
    let checked = check(&bundle(text));
    let sheet = &checked.workflows[0].1.sheet;
    let shown: Vec<_> = sheet.iter().map(|p| (p.number.as_str(), p.branch.as_deref().unwrap_or(""))).collect();
    assert_eq!(shown, [("1", ""), ("2", ""), ("2.1", "x"), ("2.2", ""), ("2.2.1", "then"), ("2.3", "else"), ("3", "")]);
}

/// A service whose operation answers with a vessel (200), a problem (404), or CSV rows.
const API: &str = r##"openapi: 3.0.3
paths:
  /v/{imo}:
    get:
      operationId: get
      parameters: [{name: imo, in: path, required: true, schema: {type: string}}, {name: fields, in: query, schema: {type: array, items: {type: string}}}]
      responses:
        "200": {description: ok, content: {application/json: {schema: {$ref: "#/components/schemas/Vessel"}}}}
        "404": {description: no, content: {application/problem+json: {schema: {type: object, required: [title], properties: {title: {type: string}}}}}}
  /v:
    get: {operationId: list, responses: {"200": {description: ok, content: {text/csv: {schema: {type: string}}}}}}
    post:
      operationId: add
      requestBody: {required: true, content: {application/json: {schema: {$ref: "#/components/schemas/Vessel"}}}}
      responses: {"201": {description: made}}
components:
  schemas:
    Vessel: {type: object, required: [name, length], properties: {name: {type: string}, length: {type: number}, flag: {type: string, nullable: true}}}
"##;

/// Codes and places in a workflow with this input that follows `v: get → 200 or 404`.
fn typed(steps: &str) -> Vec<String> {
    let mut bundle = Bundle::default();
    bundle.add("s.yaml", "service: s\nbase: http://s\nopenapi: o.yaml\n");
    bundle.files.insert("o.yaml".into(), API.into());
    bundle.add("child.yaml", "workflow: child\ninput: {n: {type: integer}, t: {type: string, optional: true}}\nsteps:\n  - if: input.n > 1\n    then: [{reply: 201, body: {n: \"${input.n}\"}}]\n    else: [{reply: 200, body: \"${input.t ?? ''}\"}]\n");
    bundle.add("waits.yaml", "workflow: waits\nsteps: [{await: c, by: k, schema: {type: object, properties: {n: {type: integer}}, required: [n]}}]\n");
    let head = "workflow: w\ninput: {n: {type: integer}, t: {type: string, optional: true}, k: {enum: [a, b]}, list: {type: array, items: {type: string}}}\nreplies: {200: {type: object, required: [x], properties: {x: {type: number}}}, 202: true}\nsteps:\n  - {id: v, call: s.get, send: {imo: x}, accept: [200, 404]}\n";
    bundle.add("w.yaml", &format!("{head}{steps}  - note: ${{input}}\n"));
    check(&bundle).diagnostics.iter().map(|d| format!("{}@{}:{}", d.code, d.line, d.column)).collect()
}

/// Findings in documents as `path code@line:column`.
fn together(documents: &[&str]) -> Vec<String> {
    let mut bundle = Bundle::default();
    for (index, text) in documents.iter().enumerate() {
        bundle.add(&format!("d{index}"), text);
    }
    check(&bundle).diagnostics.iter().map(|d| format!("{} {}@{}:{}", d.path, d.code, d.line, d.column)).collect()
}

#[test]
fn a_service_whose_host_each_call_names_is_checked() {
    let service = "service: web\nbase: \"https://{host}\"\n";
    let call = |send: &str| {
        format!(
            "workflow: w\ninput: {{h: {{type: string}}}}\nsteps: [{{call: \"GET https://{{host}}/x{{?q}}\", send: {{{send}}}}}, {{note: \"${{input}}\"}}]\n"
        )
    };
    for (more, send, wanted) in [
        ("hosts: any\n", "host: \"${input.h}\", q: 1", vec![]),
        ("hosts: [\"*.lindvik.example\"]\n", "host: board.lindvik.example, q: 1", vec![]),
        ("hosts: [\"*.lindvik.example\"]\n", "host: board.nesholm.example, q: 1", vec!["d1 wrong-argument@3:16"]),
        ("hosts: any\n", "q: 1", vec!["d1 missing-parameter@3:16"]),
        ("", "host: \"${input.h}\", q: 1", vec!["d0 missing-key@1:10"]),
        ("hosts: some\n", "host: \"${input.h}\", q: 1", vec!["d0 wrong-value@3:8"]),
        ("hosts: [\"*.\"]\n", "host: \"${input.h}\", q: 1", vec!["d0 wrong-value@3:9"]),
        ("hosts: any\nnetwork: private\n", "host: \"${input.h}\", q: 1", vec!["d0 wrong-value@4:1"]),
        ("hosts: any\ncredentials: {bearer: key}\n", "host: \"${input.h}\", q: 1", vec!["d0 wrong-value@4:1"]),
    ] {
        let found = together(&[&format!("{service}{more}"), &call(send)]);
        let own: Vec<&str> = found
            .iter()
            .map(String::as_str)
            .filter(|found| wanted.is_empty() || found.starts_with(&wanted[0][..2]))
            .collect();
        assert_eq!(own.first(), wanted.first(), "{more} {send}: {found:?}");
    }
    let fixed = "service: web\nbase: https://lindvik.example\nhosts: any\n";
    assert_eq!(together(&[fixed]), ["d0 wrong-value@3:1"]);
}

#[test]
fn libraries_share_functions_types_and_groups() {
    let stays = "library: stays\nversion: 1.4.0\nuse: [money]\ntypes:\n  Stay: {type: object, required: [nights, at], properties: {nights: {type: integer}, at: {$ref: \"#/types/Berth\"}}}\n  Berth: {type: string}\nfunctions:\n  dues: (stay) => cents((stay as Stay).nights * 3.2)\ngroups:\n  announce:\n    input: {stay: {$ref: \"#/types/Stay\"}}\n    steps:\n      - note: ${dues(input.stay)}\n      - reply: 200\n        body: ${input.stay.nights * 2}\n";
    let money = "library: money\nfunctions:\n  cents: n => Math.round(n * 100)\n";
    let ok: Vec<String> = Vec::new();
    let user = "workflow: w\nuse: [stays@1.2]\ninput: {stay: {$ref: \"#/types/Stay\"}, raw: {}}\nsteps:\n  - {id: told, invoke: stays.announce, send: {stay: \"${input.stay}\"}}\n  - let: {d: \"${dues(input.raw) + told.body}\", b: \"${(input.raw as Stay).at.trim()}\"}\n  - note: ${d + b + input.stay.nights}\n";
    assert_eq!(together(&[user, stays, money]), ok);
    let mut wrong = Vec::new();
    for (documents, wanted) in [
        (vec![user, money], vec!["d0 unknown-library@2:7", "d0 bad-schema@3:9"]),
        (vec![&*user.replace("@1.2", "@2"), stays, money], vec!["d0 library-version@2:7"]),
        (vec![&*user.replace("stay.nights", "stay.night"), stays, money], vec!["d0 unknown-member@7:32"]),
        (vec![&*user.replace("stay: \"${input.stay}\"", "stay: 3"), stays, money], vec!["d0 wrong-argument@5:53"]),
        (
            vec![&*user.replace("use: [stays@1.2]\n", ""), stays, money],
            vec!["d0 bad-schema@2:9", "d0 unknown-workflow@4:24"],
        ),
        // What a library uses is not passed on.
        (vec![&*user.replace("dues(input.raw)", "cents(3)"), stays, money], vec!["d0 unknown-function@6:17"]),
        (
            vec![
                "workflow: w\nsteps: [{enqueue: stays.announce, send: {stay: {nights: 1, at: x}}}]\nuse: [stays]\n",
                stays,
                money,
            ],
            vec!["d0 unknown-workflow@2:19"],
        ),
        (
            vec![stays, &*money.replace("library: money", "library: money\nuse: [stays]")],
            vec!["d0 library-cycle@3:7", "d1 library-cycle@2:7"],
        ),
        (
            vec!["library: a\ntypes: {T: {$ref: \"#/types/T\"}}\nfunctions: {f: \"x => y\"}\n"],
            vec!["d0 bad-schema@2:12", "d0 unknown-name@3:22"],
        ),
        (
            vec![
                "workflow: w\nuse: [a, b]\nsteps: [{note: \"${f(1)}\"}]\n",
                "library: a\nfunctions: {f: x => x}\n",
                "library: b\nfunctions: {f: x => 2}\n",
            ],
            vec!["d0 name-taken@2:10"],
        ),
        (
            vec!["workflow: w\nsteps: [{note: \"${(1 as T)}\"}]\ntypes: {T: {type: string}}\n"],
            vec!["d0 wrong-operand@2:20"],
        ),
    ] {
        let got = together(&documents);
        if !wanted.iter().all(|one| got.iter().any(|found| found == one)) {
            wrong.push(format!("wanted {wanted:?}, gives {got:?}"));
        }
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
}

#[test]
fn types_flow_through_a_workflow() {
    // None of these is worth a word.
    for steps in [
        "  - if: v.status === 404\n    then: [{fail: 422, detail: \"${v.body.title}\"}]\n  - let: {a: \"${v.body.length * 2}\"}\n",
        "  - match: v.status\n    arms: {200: [{let: {a: \"${v.body.name}\"}}], 404: [{let: {a: \"${v.body.title}\"}}]}\n  - let: {b: \"${a.trim()}\"}\n",
        "  - match: v.status\n    arms: [{in: [200], steps: [{let: {a: \"${v.body.name}\"}}]}, {from: 400, below: 500, steps: [{let: {a: x}}]}]\n  - let: {b: \"${a?.trim()}\"}\n",
        "  - {together: {a: [{reply: 202}, {note: x}], b: [{call: s.get, send: {imo: y}}]}}\n",
        "  - note: x\non_failure:\n  - let: {a: \"${failure.status ?? 0}\"}\n  - reply: 202\n    when: a > 499\n",
        // A range holds numbers only, or texts only.
        "  - match: input.t\n    arms: [{from: '2026-01-01', steps: [{note: \"${input.t.trim()}\"}]}]\n    else: [{note: \"${input.t ?? '-'}\"}]\n",
        "  - {id: w, call: s.get, when: v.status === 404, send: {imo: y}}\n  - let: {a: \"${w?.body.name ?? '-'}\"}\n",
        "  - {id: w, call: s.get, send: {imo: y}, catch: [{let: {w: null}}]}\n  - let: {a: \"${w?.body.length}\"}\n",
        "  - {each: x, in: input.list, position: i, id: all, steps: [{let: {y: \"${x.trim()}\"}}], collect: \"${y.length + i}\"}\n  - let: {a: \"${Math.max(...all)}\"}\n",
        "  - {each: x, in: input.list, id: all, settle: all, steps: [{id: r, call: s.get, send: {imo: \"${x}\"}}]}\n  - let: {a: \"${all.filter(one => one.ok).map(one => one.value.body.name)}\"}\n",
        "  - together: {a: {call: s.list}, b: [{let: {c: 1}}]}\n  - let: {d: \"${a.body.map(row => row.imo ?? '')}\", e: \"${b.c * 2}\"}\n",
        "  - {id: c, invoke: child, send: {n: \"${input.n}\"}}\n  - if: c.status === 201\n    then: [{let: {a: \"${c.body.n * 2}\"}}]\n    else: [{let: {a: \"${c.body.length}\"}}]\n",
        "  - keep: {seen: \"${[...(kept.seen ?? []), input.n]}\"}\n",
        // Each statement of a transaction has its result.
        "  - {sql: d, id: two, statements: [{statement: \"DELETE FROM a\"}, {statement: \"SELECT 1 AS n\"}]}\n  - let: {a: \"${two[0].count + two[1].rows.length}\"}\n",
        "  - {call: s.add, send: {name: x, length: 2, flag: null}}\n",
        "  - reply: 200\n    body: {x: \"${input.n}\"}\n",
        "  - reply: 202\n    body: anything\n",
        "  - note: x\n    when: input.t\n  - let: {a: \"${input.t ? input.t.trim() : ''}\"}\n",
    ] {
        assert_eq!(typed(steps), Vec::<String>::new(), "{steps}");
    }
    let mut wrong = Vec::new();
    for (steps, wanted) in [
        ("  - let: {a: \"${v.body.length * 2}\"}\n", "unknown-member@6:24"),
        ("  - let: {a: \"${v.status === 404 ? v.body.nam : v.body.name}\"}\n", "unknown-member@6:43"),
        (
            "  - if: v.status === 404\n    then: [{note: x}]\n  - let: {a: \"${v.body.length}\"}\n",
            "unknown-member@8:24",
        ),
        ("  - if: v.status === 500\n    then: [{note: x}]\n", "constant-condition@6:9"),
        ("  - match: input.k\n    arms: {a: [{note: x}], c: [{note: y}]}\n", "constant-condition@7:28"),
        (
            "  - match: input.k\n    arms: {a: [{note: x}], b: [{note: y}]}\n    else: [{note: z}]\n",
            "constant-condition@8:13",
        ),
        (
            "  - match: input.k\n    arms: [{in: [a, b], steps: [{note: x}]}]\n    else: [{note: z}]\n",
            "constant-condition@8:13",
        ),
        ("  - match: input.k\n    arms: [{above: 3, steps: [{note: x}]}]\n", "constant-condition@7:13"),
        ("  - match: v.status\n    arms: [{from: 201, to: 299, steps: [{note: x}]}]\n", "constant-condition@7:13"),
        ("  - if: input.list\n    then: [{note: x}]\n", "constant-condition@6:9"),
        (
            "  - {id: w, call: s.get, when: v.status === 404, send: {imo: y}}\n  - let: {a: \"${w.body}\"}\n",
            "maybe-missing@7:17",
        ),
        ("  - {each: x, in: input.t, steps: [{note: \"${x}\"}]}\n", "maybe-missing@6:19"),
        // A branch that never runs does not hide what the other returns.
        (
            "  - let: {o: {count: \"${input.list.length}\", rows: [a]}}\n  - if: o.count == null\n    then: [{let: {y: \"${o.rows.filter(r => r)}\"}}]\n    else: [{let: {y: \"${o.count}\"}}]\n  - note: ${y?.at(-1)}\n",
            "unknown-method@10:13",
        ),
        ("  - {each: x, in: input.list, id: all, steps: [{let: {y: \"${x * 2}\"}}]}\n", "wrong-operand@6:61"),
        ("  - {id: c, invoke: child, send: {n: \"${input.k}\"}}\n", "wrong-argument@6:38"),
        ("  - {id: c, invoke: child}\n", "missing-input@6:21"),
        ("  - {id: c, invoke: child, send: {n: 1, m: 2}}\n", "unknown-input@6:41"),
        ("  - {invoke: w}\n", "invoke-cycle@6:14"),
        ("  - let: {a: \"${kept.seen}\"}\n", "unknown-member@6:22"),
        ("  - {call: s.add, send: {name: x}}\n", "wrong-argument@6:12"),
        ("  - {call: s.add, send: {name: 1, length: 2}}\n", "wrong-argument@6:32"),
        ("  - {call: s.add}\n", "missing-parameter@6:12"),
        ("  - {call: s.get, send: {imo: \"${input.t}\"}}\n", "maybe-missing@6:31"),
        ("  - {call: s.get, send: {imo: \"${input.list}\"}}\n", "wrong-argument@6:31"),
        ("  - reply: 200\n    body: {x: \"${input.k}\"}\n", "wrong-reply@7:11"),
        ("  - reply: 201\n", "undeclared-reply@6:12"),
        ("  - let: {a: \"${input.list.map(v => v)}\"}\n", "shadowed-name@6:32"),
        ("  - {each: x, in: input.list, steps: [{reply: 200, body: {x: 1}}]}\n", "reply-apart@6:40"),
        // Any step may have failed.
        ("on_failure:\n  - note: ${failure.kind} ${v.status}\n", "unknown-name@7:29"),
        ("  - {together: {a: [{reply: 202}], b: [{fail: 500}]}}\n", "reply-apart@6:22"),
        ("  - {together: {a: [{reply: 202}], b: [{note: x}]}}\n  - reply: 202\n", "second-reply@7:5"),
        ("  - {sql: d, statement: \"SELECT ${input.n}\"}\n", "pasted-value@6:33"),
        ("  - {sql: d, statement: SELECT :n}\n", "missing-parameter@6:32"),
        ("  - {sql: d, statement: SELECT 1, bind: {m: 1}}\n", "unknown-parameter@6:42"),
        ("  - {keep: {a: 1}, id: x}\n", "no-result@6:24"),
        ("  - {enqueue: chidl}\n", "unknown-workflow@6:15"),
        ("  - {enqueue: child}\n", "missing-input@6:15"),
        ("  - {enqueue: child, send: {n: x}}\n", "wrong-argument@6:32"),
        ("  - {enqueue: child, send: {n: 1}, after: soon}\n", "wrong-value@6:43"),
        ("  - {enqueue: child, send: {n: 1}, at: tomorrow}\n", "wrong-value@6:40"),
        ("  - {enqueue: child, send: {n: 1}, after: 1s, at: 2027-03-04T06:00:00Z}\n", "wrong-value@6:51"),
        ("  - {enqueue: child, send: {n: 1}, lane: slow}\n", "unknown-lane@6:42"),
        ("  - {enqueue: child, send: {n: 1}, spacing: 2s}\n", "wrong-value@6:36"),
        ("  - {enqueue: child, send: {n: \"${item}\"}, each: item, in: input.k}\n", "wrong-operand@6:60"),
        ("  - {enqueue: child, send: {n: \"${x.y}\"}, each: x, in: \"input.list ?? []\"}\n", "unknown-member@6:37"),
        ("  - {enqueue: child, id: e, send: {n: 1}}\n  - let: {a: \"${e.jobs}\"}\n", "unknown-member@7:19"),
        ("  - {cancel: {tga: x}}\n", "unknown-key@6:15"),
        ("  - {cancel: x, id: c}\n  - let: {a: \"${c.gone}\"}\n", "unknown-member@7:19"),
        ("  - {await: callback}\n", "missing-key@6:5"),
        ("  - {await: c, until: soon, steps: [{note: \"${c.url}\"}]}\n", "wrong-value@6:23"),
        ("  - {await: c, steps: [{note: \"${c.address}\"}]}\n", "unknown-member@6:36"),
        ("  - {await: c, steps: [{note: x}]}\n  - note: ${c.url}\n", "unknown-name@7:13"),
        ("  - {await: c, by: \"${input.t}\"}\n", "maybe-missing@6:20"),
        ("  - {await: c, by: k, schema: {type: odd}}\n", "bad-schema@6:31"),
        ("  - {await: c, by: k, schema: {$ref: \"#/types/Odd\"}}\n", "bad-schema@6:31"),
        (
            "  - {await: c, id: a, by: k, schema: {type: object, properties: {n: {type: integer}}, required: [n], additionalProperties: false}}\n  - note: ${a.m}\n",
            "unknown-member@7:15",
        ),
        ("  - {wake: chidl, by: k}\n", "unknown-workflow@6:12"),
        ("  - {wake: child, by: k}\n", "wakes-nothing@6:12"),
        ("  - {wake: child}\n", "missing-key@6:5"),
        ("  - {wake: waits, by: k, body: {n: x}}\n", "wrong-argument@6:32"),
        ("  - {wake: waits, by: k}\n", "wrong-argument@6:12"),
        ("  - {wake: waits, by: k, body: {n: 1}, id: t}\n  - note: ${t.it}\n", "unknown-member@7:15"),
        ("  - {progress: 2}\n", "wrong-value@6:16"),
        ("  - {progress: \"${input.t}\"}\n", "wrong-value@6:16"),
    ] {
        let found = typed(steps);
        if !found.iter().any(|found| found == wanted) {
            wrong.push(format!("{steps} wanted {wanted}, gives {found:?}"));
        }
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
}

#[test]
fn lanes_timetables_and_answers_are_checked() {
    let mut wrong = Vec::new();
    for (text, wanted) in [
        ("lane: slow\nat_once: 0\n", "wrong-value@2:10"),
        ("lane: slow\npace: often\n", "wrong-value@2:7"),
        ("lane: slow\norder: random\n", "wrong-value@2:8"),
        ("lane: slow\norder: {per: inptu.imo}\n", "unknown-name@2:14"),
        ("lane: slow\nfull: 404\n", "wrong-value@2:7"),
        ("lane: slow\nretry: {attempts: 0}\n", "wrong-value@2:19"),
        ("workflow: w\nqueue: {lane: fast}\nsteps: [{note: x}]\n", "unknown-lane@2:15"),
        // There is no run yet when a job is queued.
        ("workflow: w\nqueue: {tag: \"${run.id}\"}\nsteps: [{note: x}]\n", "unknown-name@2:17"),
        ("workflow: w\nqueue: {tag: \"${digest.uuid('x')}\"}\nsteps: [{note: x}]\n", "unknown-function@2:17"),
        (
            "workflow: w\nfunctions: {f: \"n => digest.uuid(n)\"}\nsteps: [{note: \"${f('x')}\"}]\n",
            "unknown-function@2:22",
        ),
        (
            "workflow: w\ninput: {k: {enum: [main, slow]}, t: {type: string}}\nqueue: {lane: \"${input.t}\"}\nsteps: [{note: \"${input}\"}]\n",
            "unknown-lane@3:15",
        ),
        (
            "workflow: w\ninput: {k: {enum: [main, slow]}}\nqueue: {lane: \"${input.k}\"}\nsteps: [{note: \"${input}\"}]\n",
            "unknown-lane@3:15",
        ),
        ("workflow: w\nqueue: {tag: \"${v}\"}\nsteps: [{note: x}]\n", "unknown-name@2:17"),
        ("workflow: w\nqueue: {retry: {first: soon}}\nsteps: [{note: x}]\n", "wrong-value@2:24"),
        ("workflow: w\nqueue: {notify: {to: x}}\nsteps: [{note: x}]\n", "missing-key@2:17"),
        ("workflow: w\nentries: [{timetable: \"0 6 * *\"}]\nsteps: [{note: x}]\n", "bad-pattern@2:23"),
        (
            "workflow: w\nentries: [{timetable: \"0 6 * * *\", zone: Europe/Olso}]\nsteps: [{note: x}]\n",
            "unknown-zone@2:42",
        ),
        ("workflow: w\nentries: [{every: 1ms}]\nsteps: [{note: x}]\n", "wrong-value@2:11"),
        ("workflow: w\nentries: [{every: 1h, missed: never}]\nsteps: [{note: x}]\n", "wrong-value@2:31"),
        ("workflow: w\nentries: [{every: 1h, from: today}]\nsteps: [{note: x}]\n", "wrong-value@2:29"),
        (
            "workflow: w\ninput: {n: {type: integer}}\nentries: [{every: 1h}]\nsteps: [{note: \"${input.n}\"}]\n",
            "missing-input@3:11",
        ),
        (
            "workflow: w\ninput: {n: {type: integer}}\nentries: [{every: 1h, send: {n: x}}]\nsteps: [{note: \"${input.n}\"}]\n",
            "wrong-argument@3:33",
        ),
        (
            "workflow: w\nentries: [{endpoint: GET /w, access: open, answer: soon}]\nsteps: [{note: x}]\n",
            "wrong-value@2:52",
        ),
        (
            "workflow: w\nentries: [{endpoint: GET /w, access: open}]\nsteps: [{await: c, steps: [{note: x}]}]\n",
            "needs-a-job@2:22",
        ),
        (
            "workflow: w\nentries: [{endpoint: GET /w, access: open, answer: either}]\nsteps: [{pause: 2 days}]\n",
            "pause-too-long@3:17",
        ),
    ] {
        let found = found(text);
        if found.first().map(String::as_str) != Some(wanted) {
            wrong.push(format!("{text} wanted {wanted}, gives {found:?}"));
        }
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
    let mut good = Bundle::default();
    good.add("lane.yaml", "lane: slow\nat_once: 2\npace: 30/min\norder: {per: input.imo}\nlength: 500\nfull: 429\nretry: {attempts: 5, first: 1s, max: 1min}\n");
    good.add("w.yaml", "workflow: w\ninput: {imo: {type: string}, due: {type: string, optional: true}}\nqueue: {lane: slow, priority: 2, tag: \"v-${input.imo}\", results: 2 days}\nentries:\n  - {endpoint: POST /w, access: open, answer: later}\n  - {timetable: [\"0 6 * * MON-FRI\", \"0 9 L * *\"], zone: Europe/Oslo, missed: once, overlap: wait, send: {imo: \"9074720\", due: \"${due}\"}}\nsteps:\n  - {await: c, until: 2 days, steps: [{note: \"${c.url}\"}]}\n  - {pause: 30 days, when: input.due != null}\n");
    let checked = check(&good);
    assert_eq!(checked.diagnostics, Vec::new());
    let (plan, lane) = (checked.plan("w").expect("plan"), &checked.lanes["slow"]);
    assert!(plan.durable && plan.timetables.len() == 1);
    let input = kanzlei_model::value::Value::object([("imo", kanzlei_model::value::Value::text("9074720"))]);
    assert_eq!(lane.ordering_key(&input).as_deref(), Some("slow 9074720"));
    let given = plan.timetables[0].input("2027-03-04T06:00:00Z").expect("input");
    assert_eq!(given.to_json(), r#"{"imo":"9074720","due":"2027-03-04T06:00:00Z"}"#);
    let pauses: Vec<u64> =
        (2..=9).map(|attempt| lane.retry.as_ref().expect("retry").pause_before(attempt).as_secs()).collect();
    assert_eq!(pauses, [1, 2, 4, 8, 16, 32, 60, 60]);
}

#[test]
fn settings_are_values_and_constants() {
    let office = "settings: office\nvalues:\n  days: {type: integer, minimum: 1, default: 3}\n  far: {type: string, default: 'https://far.example'}\n  night: {type: object, properties: {within: {type: string}}, required: [within], default: {within: 2s}}\n";
    let workflow = |body: &str| format!("workflow: w\nsteps: [{{reply: 200, body: '{body}'}}]\n");
    for (office, other, wanted) in [
        (office, workflow("${settings.days + 1}"), ""),
        (office, workflow("${settings.dais}"), "unknown-setting@2:40"),
        (office, workflow("${settings.days.toUpperCase()}"), "unknown-method@2:31"),
        (office, "service: far\nbase: ${settings.far}\nwithin: ${settings.night.within}\nlimits: {at_once: \"${settings.days}\"}\n".into(), ""),
        (office, "service: far\nbase: ${settings.near}\n".into(), "unknown-setting@2:7"),
        (office, "service: far\nbase: ${settings.days}\n".into(), "wrong-type@2:7"),
        (office, "service: far\nbase: ${settings.far}\nwithin: ${settings.night.without}\n".into(), "unknown-setting@3:9"),
        (office, "lane: slow\nat_once: ${settings.days}\npace: ${settings.far}\n".into(), "wrong-value@3:7"),
        (office, "settings: two\nvalues: {days: {type: integer, default: 1}}\n".into(), "name-taken@2:10"),
        ("settings: x\nvalues: {a: {type: integer, default: one}}\n", workflow("ok"), "bad-schema@2:13"),
        ("settings: x\nvalues: {a: {type: string, secret: true}}\n", workflow("ok"), "wrong-value@2:28"),
        ("settings: x\nvalues: {a-b: {type: string}}\n", workflow("ok"), "bad-name@2:10"),
        ("settings: x\n", workflow("ok"), "missing-key@1:11"),
    ] {
        let mut bundle = Bundle::default();
        bundle.add("office.yaml", office);
        bundle.add("other.yaml", &other);
        let found: Vec<String> = check(&bundle).diagnostics.iter().map(|d| format!("{}@{}:{}", d.code, d.line, d.column)).collect();
        assert_eq!(found.first().map_or("", String::as_str), wanted, "{other}: {found:?}");
    }
    // What an installation has set is in force, and must fit.
    let mut bundle = Bundle { known: Some(Known::default()), ..Bundle::default() };
    bundle.add("office.yaml", &office.replace(", default: 3", ""));
    bundle.add("far.yaml", "service: far\nbase: ${settings.far}\n");
    for (values, wanted) in [
        ("{}", "`days` is not set here and has no default"),
        (r#"{"days": 0}"#, "`days` is set to 0: the value is less than the minimum of 1"),
        (r#"{"days": 5, "far": "https://elsewhere.example"}"#, ""),
    ] {
        bundle.files.insert("office.values.json".into(), values.into());
        let checked = check(&bundle);
        assert_eq!(checked.diagnostics.first().map_or("", |d| d.message.as_str()), wanted);
        let far = if wanted.is_empty() { "https://elsewhere.example" } else { "https://far.example" };
        assert_eq!(checked.services["far"].base, far);
    }
}

#[test]
fn an_earlier_key_names_its_successor() {
    for (text, at, help) in [
        ("workflow: w\njobs: {lane: main}\nsteps: [{note: x}]\n", "2:1", "queue"),
        ("workflow: w\nqueue: {again: {}}\nsteps: [{note: x}]\n", "2:9", "retry"),
        ("workflow: w\nsteps: [{note: x, rescue: [{note: y}]}]\n", "2:19", "catch"),
        ("workflow: w\nsteps: [{each: x, in: \"[]\", index: i, steps: [{note: x}]}]\n", "2:29", "position"),
        ("workflow: w\nsteps: [{call: \"GET http://s/v\", retry: {times: 2, most: 1s}}]\n", "2:42", "attempts"),
        ("workflow: w\nsteps: [{enqueue: w, for_each: \"[1]\", item: n}]\n", "2:22", "each` and `in"),
        ("lane: l\nagain: {}\n", "2:1", "retry"),
    ] {
        let mut bundle = Bundle::default();
        bundle.add("d.yaml", text);
        let found = check(&bundle).diagnostics;
        let first = found.iter().find(|d| d.code == "renamed-key").unwrap_or_else(|| panic!("{text}: {found:?}"));
        assert_eq!(format!("{}:{}", first.line, first.column), at, "{text}");
        assert_eq!(first.help, Some(format!("write `{help}`")), "{text}");
    }
}

/// Two services with one base: a call by address names the one it means, and a service elsewhere takes none over.
#[test]
fn a_call_by_address_goes_to_one_service() {
    let call = |service: &str| {
        format!("workflow: w\nsteps:\n  - call: GET http://127.0.0.1:7090/registry/v1/x\n{service}  - reply: 204\n")
    };
    for (base, service, wanted) in [
        ("http://127.0.0.1:7090/registry", "", Err("ambiguous-service@3:11")),
        ("http://127.0.0.1:7090/registry", "    service: second\n", Ok("second")),
        ("http://127.0.0.1:7090/registry", "    service: registry\n", Ok("registry")),
        ("http://127.0.0.1:7090/registry/v1", "", Ok("second")),
        ("http://127.0.0.1:7090/registry/v1", "    service: registry\n", Ok("registry")),
        ("http://127.0.0.1:7090/reg", "", Ok("registry")),
        ("http://127.0.0.1:7090/reg", "    service: second\n", Err("wrong-value@4:14")),
    ] {
        let mut bundle = bundle(&call(service));
        bundle.add("services/second.yaml", &format!("service: second\nbase: {base}\nnetwork: private\n"));
        let checked = check(&bundle);
        let found: Vec<String> =
            checked.diagnostics.iter().map(|d| format!("{}@{}:{}", d.code, d.line, d.column)).collect();
        match wanted {
            Err(wanted) => assert_eq!(found, [wanted], "{base} {service}"),
            Ok(name) => {
                assert!(found.is_empty(), "{base} {service}: {found:?}");
                assert_eq!(checked.plan("w").expect("a plan").addressed[0].1, name, "{base} {service}");
            }
        }
    }
}

/// What the host that will run a service makes of it: secrets and what they are for, networks, other bases.
#[test]
fn services_are_checked_against_their_host() {
    use kanzlei_model::address::Allowed;
    let known = Known {
        secrets: [
            ("bound".to_owned(), vec![Purpose::address("https://api.example")]),
            ("unbound".to_owned(), Vec::new()),
            ("proof".to_owned(), vec![Purpose::Signing]),
        ]
        .into(),
        network: Allowed::read(["10.1.0.0/16"]).expect("a network"),
        bases: [("moved".to_owned(), "http://10.1.0.1".to_owned())].into(),
        ..Known::default()
    };
    let oauth = |from: &str, secret: &str| {
        format!(
            "service: s\nbase: https://s.example\ncredentials: {{oauth: {{from: {from}, client: c, secret: {secret}}}}}\n"
        )
    };
    for (text, wanted) in [
        ("service: s\nbase: https://api.example/v1\ncredentials: {bearer: bound}\n", ""),
        ("service: s\nbase: https://evil.example\ncredentials: {bearer: bound}\n", "unbound-secret@3:23"),
        ("service: s\nbase: https://api.example\ncredentials: {bearer: unbound}\n", "unbound-secret@3:23"),
        ("service: s\nbase: https://api.example\ncredentials: {bearer: gone}\n", "missing-secret@3:23"),
        ("service: s\nbase: http://10.1.2.3\nnetwork: private\n", ""),
        ("service: s\nbase: http://10.2.2.3\nnetwork: private\n", "private-address@1:10"),
        ("service: moved\nbase: https://api.example\n", "private-address@1:10"),
        ("service: moved\nbase: https://api.example\nnetwork: private\n", ""),
        (
            "service: moved\nbase: https://api.example\nnetwork: private\ncredentials: {bearer: bound}\n",
            "unbound-secret@4:23",
        ),
        // The secret of a client id goes to the service that issues the token.
        (&oauth("idp", "bound"), ""),
        (&oauth("idp", "unbound"), "unbound-secret@3:53"),
        (&oauth("ipd", "bound"), "unknown-service@3:29"),
        (&oauth("s", "bound"), "wrong-value@3:29 unbound-secret@3:51"),
        ("service: s\nbase: https://s.example\ntls: {certificate: proof}\n", ""),
        ("service: s\nbase: https://s.example\ntls: {certificate: bound}\n", "unbound-secret@3:20"),
        (
            "workflow: w\nqueue: {notify: {to: https://h, secret: bound}}\nsteps: [{reply: 204}]\n",
            "unbound-secret@2:41",
        ),
    ] {
        let mut bundle = Bundle { known: Some(known.clone()), ..Bundle::default() };
        bundle.add("test.yaml", text);
        bundle.context.push(Source::new("idp.yaml", "service: idp\nbase: https://api.example\n"));
        let found = check(&bundle).diagnostics;
        let found: Vec<String> = found.iter().map(|d| format!("{}@{}:{}", d.code, d.line, d.column)).collect();
        assert_eq!(found.join(" "), wanted, "{text}");
    }
}

#[test]
fn workflows_that_queue_themselves_are_found() {
    let workflow = |name: &str, queues: &str, until: &str| {
        format!("workflow: {name}\nsteps:\n  - if: run.{until} < 9\n    then: [{{enqueue: {queues}}}]\n")
    };
    for (texts, wanted) in [
        (vec![workflow("a", "a", "attempt")], vec!["a"]),
        (vec![workflow("a", "a", "generation")], vec![]),
        (vec![workflow("a", "b", "attempt"), workflow("b", "a", "generation")], vec!["a"]),
        (vec![workflow("a", "b", "attempt"), "workflow: b\nsteps: [{invoke: a}]\n".into()], vec!["b"]),
        (vec![workflow("a", "b", "attempt"), "workflow: b\nsteps: [{reply: 204}]\n".into()], vec![]),
    ] {
        let paths = ["a", "b"].map(str::to_owned);
        let checked = check(&Bundle::of(paths.into_iter().zip(texts.clone())));
        let found = checked.diagnostics.iter().filter(|d| d.code == "endless-chain");
        let found: Vec<&str> = found.map(|d| d.path.as_str()).collect();
        assert_eq!(found, wanted, "{texts:?} {:?}", checked.diagnostics);
    }
}

#[test]
fn templates_know_the_values_of_their_step() {
    let found = |step: &str| {
        let mut bundle = Bundle::default();
        bundle.files.insert("a/base.html".into(), "{{ office }}{% block rows %}{% endblock %}".into());
        let page = "{% extends 'base.html' %}\n{% block rows %}{% for row in rows %}{{ row.n }}{% endfor %}\n{{ one.n }}{% endblock %}";
        bundle.files.insert("a/page.html".into(), page.into());
        bundle.files.insert("broken.html".into(), "\n{% if %}".into());
        let head = "workflow: w\ninput: {n: {type: integer}, list: {type: file, optional: true}}\nsteps:\n";
        bundle.add("w.yaml", &format!("{head}  - {step}\n  - note: ${{input}}\n"));
        let shown = check(&bundle).diagnostics.into_iter();
        shown.map(|one| format!("{}: {}", one.code, one.message)).collect::<Vec<_>>().join("; ")
    };
    let with = "rows: '${[{n: 1}]}', one: {n: 1}, office: '${input.n}'";
    for (step, wanted) in [
        (format!("{{render: html, template: a/page.html, with: {{{with}}}}}"), ""),
        (
            format!("{{render: html, template: a/page.html, with: {{{with}, more: 1}}}}"),
            "unused-value: no template mentions `more`",
        ),
        (
            "{render: html, template: a/page.html, with: {rows: [], one: {m: 1}}}".into(),
            "unknown-value: a/base.html, line 1 mentions `office`, which is no value; unknown-value: a/page.html, line 3 mentions `one.n`, which it does not have",
        ),
        ("{render: html, template: none.html}".into(), "broken-template: there is no template `none.html`"),
        (
            "{render: html, template: ../a/page.html}".into(),
            "broken-template: `../a/page.html` lies outside of the folder",
        ),
        ("{render: text, template: broken.html}".into(), "broken-template: broken.html, line 2: syntax error"),
        (
            format!("{{render: pdf, template: a/page.html, with: {{{with}}}, files: '${{input.list}}'}}"),
            "maybe-missing: this may be undefined, and a file is needed",
        ),
        ("{mail: {to: '${input.n}', subject: x, text: x}}".into(), "wrong-type: an address is a text, not a number"),
        ("{mail: {to: a@b.example, subject: x, text: x, attach: x}}".into(), "wrong-type: this is"),
    ] {
        let shown = found(&step);
        assert!(shown.starts_with(wanted) && shown.is_empty() == wanted.is_empty(), "{step}: {shown}");
    }
}
