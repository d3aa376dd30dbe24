//! The time of a check grows with its text: a text four times as long takes about four times as long, whatever its shape.
//! Shapes are those of which checkers are afraid: nesting, aliases, unions, repeated names, long texts.
//!
//! A ratio of processor times of one thread is compared, the least of some runs, so that a busy machine changes nothing.

use cpu_time::ThreadTime;
use kanzlei_compiler::check::{Bundle, check};

/// A text of one shape and about a size, and files beside it.
type Shape = (&'static str, fn(usize) -> (String, Vec<(&'static str, String)>));

fn plain(text: String) -> (String, Vec<(&'static str, String)>) {
    (text, Vec::new())
}

/// A workflow that calls an operation whose answer has this schema, and reads it.
fn answered(schema: String) -> (String, Vec<(&'static str, String)>) {
    let api = format!(
        "openapi: 3.1.0\npaths: {{/a: {{get: {{operationId: a, responses: {{'200': {{content: {{application/json: {{schema: {schema}}}}}}}}}}}}}}}\n"
    );
    let workflow =
        "workflow: w\nsteps:\n  - {id: r, call: s.a}\n  - reply: 200\n    body: ${[r.body, r.body].map(b => b)}\n";
    (workflow.to_owned(), vec![("s.openapi.yaml", api)])
}

const SHAPES: &[Shape] = &[
    ("steps", |size| plain(format!("workflow: w\nsteps:\n{}", "  - let: {a: 1}\n".repeat(size / 17)))),
    ("names", |size| {
        let lets: String = (0..size / 24).map(|n| format!("  - let: {{name{n}: {n}}}\n")).collect();
        plain(format!("workflow: w\nsteps:\n{lets}"))
    }),
    ("reads", |size| plain(format!("workflow: w\nsteps:\n{}", "  - note: ${run.id} ${run.ids}\n".repeat(size / 32)))),
    ("keys", |size| {
        let keys: String = (0..size / 14).map(|n| format!("key{n}: {n}, ")).collect();
        plain(format!("workflow: w\nsteps: [{{reply: 200, body: {{{keys}}}}}]\n"))
    }),
    ("same keys", |size| {
        plain(format!("workflow: w\nsteps: [{{reply: 200, body: {{{}}}}}]\n", "key: 1, ".repeat(size / 8)))
    }),
    ("unknown keys", |size| {
        let keys: String = (0..size / 14).map(|n| format!("key{n}: {n}\n")).collect();
        plain(format!("workflow: w\nsteps: []\n{keys}"))
    }),
    ("inputs", |size| {
        let inputs: String = (0..size / 30).map(|n| format!("  i{n}: {{type: string}}\n")).collect();
        plain(format!("workflow: w\ninput:\n{inputs}steps: [{{reply: 200, body: \"${{input}}\"}}]\n"))
    }),
    ("long text", |size| plain(format!("workflow: w\nsteps: [{{reply: 200, body: '{}'}}]\n", "x".repeat(size)))),
    ("holes", |size| plain(format!("workflow: w\nsteps: [{{reply: 200, body: '{}'}}]\n", "${1}".repeat(size / 4)))),
    ("open holes", |size| plain(format!("workflow: w\nsteps: [{{reply: 200, body: '{}'}}]\n", "${ ".repeat(size / 3)))),
    ("sum", |size| plain(format!("workflow: w\nsteps: [{{reply: 200, body: '${{{}1}}'}}]\n", "1+".repeat(size / 2)))),
    ("list", |size| {
        plain(format!("workflow: w\nsteps: [{{reply: 200, body: '${{[{}1]}}'}}]\n", "1,".repeat(size / 2)))
    }),
    ("braces", |size| plain(format!("workflow: w\nsteps: {}", "[".repeat(size)))),
    ("anchors", |size| {
        let lets: String = (0..size / 22).map(|n| format!("  - &a{n} {{note: x}}\n")).collect();
        plain(format!("workflow: w\nsteps:\n{lets}"))
    }),
    ("comments", |size| plain(format!("workflow: w\n{}steps: []\n", "# x\n".repeat(size / 4)))),
    ("statement", |size| {
        plain(format!("workflow: w\nsteps: [{{sql: d, statement: 'SELECT {}1'}}]\n", "1+".repeat(size / 2)))
    }),
    ("statements", |size| {
        plain(format!("workflow: w\nsteps:\n{}", "  - {sql: d, statement: SELECT 1}\n".repeat(size / 34)))
    }),
    ("cases", |size| plain(format!("cases: w\nexamples:\n{}", "  - {name: x, request: GET /x}\n".repeat(size / 32)))),
    ("union", |size| {
        let parts: Vec<String> = (0..size / 110)
            .map(|n| {
                format!(
                    "{{type: object, properties: {{a{n}: {{type: string}}, kind: {{const: k{n}}}}}, required: [kind]}}"
                )
            })
            .collect();
        answered(format!("{{anyOf: [{}]}}", parts.join(", ")))
    }),
    ("all of unions", |size| {
        let union = |k: usize| {
            let parts: Vec<String> = (0..size / 160)
                .map(|n| format!("{{type: object, properties: {{a{n}b{k}: {{type: string}}}}}}"))
                .collect();
            format!("{{oneOf: [{}]}}", parts.join(", "))
        };
        answered(format!("{{allOf: [{}, {}, {}]}}", union(1), union(2), union(3)))
    }),
    ("properties", |size| {
        let parts: String = (0..size / 30).map(|n| format!("p{n}: {{type: string}}, ")).collect();
        answered(format!("{{type: object, properties: {{{parts}}}}}"))
    }),
    ("enumeration", |size| {
        let parts: String = (0..size / 10).map(|n| format!("e{n}, ")).collect();
        answered(format!("{{enum: [{parts}]}}"))
    }),
    ("nested schema", |size| {
        let depth = (size / 40).min(200);
        answered(format!("{}{{type: string}}{}", "{type: array, items: ".repeat(depth), "}".repeat(depth)))
    }),
];

fn time(shape: &Shape, size: usize) -> f64 {
    let (text, files) = shape.1(size);
    let mut bundle = Bundle::default();
    bundle.add("w.yaml", &text);
    if !files.is_empty() {
        bundle.add("s.yaml", "service: s\nbase: https://s.example\nopenapi: s.openapi.yaml\n");
    }
    bundle.files.extend(files.into_iter().map(|(path, text)| (path.to_owned(), text)));
    let once = || {
        let begun = ThreadTime::now();
        let checked = check(&bundle);
        assert!(checked.diagnostics.len() < 100_000);
        begun.elapsed().as_secs_f64()
    };
    // A stack as the service's pool has it.
    (0..2).map(|_| once()).fold(f64::MAX, f64::min)
}

#[test]
fn the_time_of_a_check_grows_with_its_text() {
    const SMALL: usize = 24 << 10;
    let mut slow = Vec::new();
    for shape in SHAPES {
        let (small, large) = (time(shape, SMALL), time(shape, 4 * SMALL));
        let ratio = large / small.max(0.000_5);
        if std::env::var_os("KANZLEI_GROWTH").is_some() {
            println!("{:<16} {:>8.1} ms {:>8.1} ms  {ratio:.1}", shape.0, small * 1e3, large * 1e3);
        }
        if ratio > 9.0 {
            slow.push(format!("{}: {ratio:.1} times for four times the text", shape.0));
        }
    }
    assert!(slow.is_empty(), "{}", slow.join("\n"));
}
