//! Confidential values: where the check follows them, what it refuses, what is masked of each step.

use kanzlei_compiler::check::{Bundle, Checked, check};
use kanzlei_model::value::Value;

const SERVICE: &str =
    "service: registry\nbase: http://127.0.0.1:7090/registry\nnetwork: private\nopenapi: registry.openapi.yaml\n";
const OPENAPI: &str = r#"
openapi: 3.1.0
paths:
  /badges/{pin}:
    post:
      operationId: addBadge
      parameters: [{name: pin, in: path, required: true, schema: {type: string}}]
      requestBody: {content: {application/json: {schema: {type: object, properties: {pin: {type: string}, name: {type: string}}}}}}
      responses:
        '200': {description: made, content: {application/json: {schema: {type: object, required: [key, id], properties: {key: {type: string, secret: true}, id: {type: string}}}}}}
"#;

/// A workflow with the confidential inputs `pin`, a text, and `who.code` inside an object.
fn checked(entries: &str, steps: &str) -> Checked {
    let mut bundle = Bundle::default();
    bundle.add("registry.yaml", SERVICE);
    bundle.files.insert("registry.openapi.yaml".into(), OPENAPI.into());
    bundle.add(
        "open.yaml",
        "workflow: open\ninput: {pin: {type: string}}\nsteps: [{reply: 200, body: '${input.pin}'}]\n",
    );
    bundle.add(
        "closed.yaml",
        "workflow: closed\ninput: {pin: {type: string, secret: true}}\nsteps: [{reply: 200, body: {made: 'x${input.pin}', ok: true}}]\n",
    );
    bundle.add("lane.yaml", "lane: badges\norder: {per: input.pin}\n");
    let head = "workflow: w\nfunctions: {wrap: '(text) => `<${text}>`'}\ninput:\n  pin: {type: string, secret: true}\n  name: {type: string, default: n}\n  who: {type: object, optional: true, properties: {code: {type: string, secret: true}, port: {type: string}}}\n";
    bundle.add("w.yaml", &format!("{head}{entries}\nsteps:\n{steps}\n"));
    check(&bundle)
}

const ENDPOINT: &str = "entries: [{endpoint: POST /w, access: open}]";

fn codes(checked: &Checked) -> Vec<&str> {
    let found = checked.diagnostics.iter().filter(|found| found.path == "w.yaml" && found.code != "unused-input");
    found.map(|found| found.code.as_ref()).collect()
}

/// Whether an expression over the inputs is confidential, by what the check says of a note of it.
fn is_confidential(expression: &str) -> bool {
    let checked =
        checked(ENDPOINT, &format!("  - let: {{made: \"${{{expression}}}\"}}\n  - note: ${{JSON.stringify(made)}}"));
    match codes(&checked).as_slice() {
        [] => false,
        ["shows-confidential"] => true,
        other => panic!("{expression}: {other:?} {:?}", checked.diagnostics),
    }
}

#[test]
fn labels_follow_values_through_expressions() {
    for confidential in [
        "input.pin",
        "input",
        "'x' + input.pin",
        "`${input.pin}!`",
        "input.pin.slice(1).toUpperCase()",
        "input.pin.split('')",
        "input.pin[0]",
        "Number(input.pin) + 1",
        "{a: [input.pin]}",
        "{...input}.pin",
        "{a: {pin: input.pin, n: 1}}.a",
        "[1, input.pin].map(one => one)",
        "[input.pin].find(one => one !== 'x') ?? ''",
        "['a', 'b'].map(one => one + input.pin).join()",
        "['a'].reduce((all, one) => all + input.pin, '')",
        "input.name === 'a' ? input.pin : ''",
        "input.who?.code ?? ''",
        "Object.values(input).length > 1 && input.pin",
        "wrap(input.pin)",
        "[{k: input.pin}].map(({k}) => k)[0] ?? ''",
        "JSON.parse(JSON.stringify({a: input.pin}))",
        "digest.base64(input.pin)",
        "input.name.replace('a', input.pin)",
        "encodeURIComponent(input.pin)",
        "Object.entries({a: input.pin})",
        "list.group([input], one => one.name)",
    ] {
        assert!(is_confidential(confidential), "{confidential}");
    }
    for clear in [
        "input.name",
        "input.pin.length",
        "input.pin === '1234'",
        "input.pin.startsWith('1')",
        "input.pin > '1'",
        "!input.pin",
        "digest.sha256(input.pin)",
        "digest.hmacSha256(input.pin, 'k')",
        "reveal(input.pin)",
        "reveal(input).pin",
        "input.who?.port ?? ''",
        "{pin: input.pin, n: 1}.n",
        "[input.pin].length",
        "[input.pin].map(one => one.length)",
        "[input.pin].includes('a')",
        "/^[0-9]+$/.test(input.pin)",
        "wrap(input.name)",
        "input.pin === 'a' ? 'yes' : 'no'",
        "{...input, pin: ''}.pin",
        "Object.keys(input)",
    ] {
        assert!(!is_confidential(clear), "{clear}");
    }
}

#[test]
fn what_would_show_a_confidential_value_is_refused() {
    let queue = |queue: &str| format!("{ENDPOINT}\nqueue: {queue}");
    for (entries, steps) in [
        (ENDPOINT.to_owned(), "  - reply: 200\n    body: {pin: '${input.pin}'}"),
        (ENDPOINT.into(), "  - reply: 200\n    headers: {X-Pin: '${input.pin}'}"),
        (ENDPOINT.into(), "  - fail: 403\n    detail: Not ${input.pin}."),
        (ENDPOINT.into(), "  - keep: {last: '${input.pin}'}"),
        (ENDPOINT.into(), "  - note: ${input.pin}"),
        (ENDPOINT.into(), "  - each: one\n    in: '[input.pin]'\n    steps: [{note: '${one}'}]"),
        (ENDPOINT.into(), "  - invoke: open\n    send: {pin: '${input.pin}'}"),
        (ENDPOINT.into(), "  - enqueue: open\n    send: {pin: '${input.pin}'}"),
        (ENDPOINT.into(), "  - enqueue: closed\n    send: {pin: a}\n    tag: ${input.pin}"),
        // Another workflow's reply, and a service's answer.
        (ENDPOINT.into(), "  - {id: made, invoke: closed, send: {pin: '${input.pin}'}}\n  - note: ${made.body.made}"),
        (ENDPOINT.into(), "  - {id: made, call: registry.addBadge, send: {pin: a}}\n  - note: ${made.body.key}"),
        (queue("{tag: '${input.pin}'}"), "  - reply: 204"),
        (queue("{lane: badges}"), "  - reply: 204"),
        // A client that polls the job of `closed` can read its reply.
        (ENDPOINT.into(), "  - enqueue: closed\n    send: {pin: a}"),
    ] {
        let checked = checked(&entries, steps);
        assert!(codes(&checked).contains(&"shows-confidential"), "{entries} {steps}: {:?}", checked.diagnostics);
        assert!(checked.plan("w").is_none());
    }
    for steps in [
        "  - {id: made, invoke: closed, send: {pin: '${input.pin}'}}\n  - note: ${made.body.ok}",
        "  - {id: made, call: registry.addBadge, send: {pin: '${input.pin}'}}\n  - note: ${made.body.id}",
        "  - reply: 200\n    body: ${reveal(input.pin)}",
        "  - if: input.pin === 'a'\n    then: [{note: Right.}]",
    ] {
        assert_eq!(codes(&checked(ENDPOINT, steps)), Vec::<&str>::new(), "{steps}");
    }
    // Only other workflows see the reply.
    assert_eq!(codes(&checked("", "  - reply: 200\n    body: ${input.pin}")), Vec::<&str>::new());
}

#[test]
fn values_of_steps_are_masked_where_they_are_confidential() {
    let text = |text: &str| Value::text(text);
    let steps = "  - let: {badge: 'B${input.pin}', n: 1}\n  - {id: made, call: registry.addBadge, send: {pin: '${badge}', name: '${input.name}'}}\n  - note: Done.";
    let checked = checked(ENDPOINT, steps);
    let plan = checked.plan("w").expect("a plan");
    assert!(plan.labels.any);
    let badge = plan.labels.of(0, 0).expect("labels");
    assert_eq!(
        badge.outcome.mask(&Value::object([("badge", text("B1")), ("n", Value::Int(1))])).to_json(),
        r#"{"badge":"•••","n":1}"#
    );
    let call = plan.labels.of(0, 1).expect("labels");
    let sent = Value::object([("target", text("POST /badges/B1")), ("body", Value::object([("name", text("n"))]))]);
    assert_eq!(call.sent.mask(&sent).to_json(), r#"{"target":"•••","body":{"name":"n"}}"#);
    let answer =
        Value::object([("status", Value::Int(200)), ("body", Value::object([("key", text("k")), ("id", text("i"))]))]);
    assert_eq!(call.outcome.mask(&answer).to_json(), r#"{"status":200,"body":{"key":"•••","id":"i"}}"#);
    assert_eq!(plan.labels.of(0, 2), None);
    let who = Value::object([("who", Value::object([("code", text("c")), ("port", text("LIN"))]))]);
    assert_eq!(plan.input.masked(&who).to_json(), r#"{"who":{"code":"•••","port":"LIN"}}"#);
}
