//! Real ECMAScript is the oracle: every expression and every script runs here and in Node over the same names;
//! the JSON of the results, and which of them are errors, must agree.

mod expressions;
mod scripts;

use std::io::Write;
use std::process::{Command, Stdio};

use kanzlei_lang::expr::{Expression, Limits, Scope};
use kanzlei_model::value::Value;

const NAMES: &str = r#"{
    "n": 7, "f": 2.5, "s": "Lindvik havn", "u": "Ås 😀 ø", "items": [3, 1, 2], "nil": null, "dues": 1472.4861,
    "vessels": [{"name": "Havbris", "length_m": 132, "tags": ["dry", "ice"]}, {"name": "Tare", "length_m": 87.5}, {"name": "Kvikk", "length_m": 24, "tags": []}],
    "o": {"b": 1, "a": {"c": [1, 2]}, "2": "x", "1": "y"}
}"#;

const NODE: &str = r#"
const {names, sources, scripts} = JSON.parse(require('fs').readFileSync(0, 'utf8'));
const keys = Object.keys(names);
// What comes from outside of a script never changes.
const frozen = value => {
    if (value && typeof value === 'object') Object.values(Object.freeze(value)).forEach(frozen);
    return value;
};
frozen(names);
const out = sources.map(text => {
    try {
        const body = scripts ? `"use strict"; ${text}\n` : `"use strict"; return (${text}\n)`;
        const value = new Function(...keys, body)(...keys.map(k => names[k]));
        // Half of a surrogate pair becomes U+FFFD here; see the handbook on expressions.
        const json = JSON.stringify(value, (_, v) => typeof v === 'string' ? v.toWellFormed() : v);
        return json === undefined ? 'undefined' : json;
    } catch (error) { return 'error'; }
});
process.stdout.write(JSON.stringify(out));
"#;

/// What is compared.
#[derive(Clone, Copy, PartialEq)]
enum Kind {
    Expressions,
    Scripts,
}

fn in_node(sources: &[String], kind: Kind) -> Vec<String> {
    let mut node = Command::new("node")
        .args(["-e", NODE])
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .spawn()
        .expect("node is installed");
    let names: serde_json::Value = serde_json::from_str(NAMES).expect("names");
    let question =
        serde_json::json!({"names": names, "sources": sources, "scripts": kind == Kind::Scripts}).to_string();
    node.stdin.take().expect("stdin").write_all(question.as_bytes()).expect("node reads");
    let output = node.wait_with_output().expect("node ends");
    assert!(output.status.success());
    serde_json::from_slice(&output.stdout).expect("node answers")
}

fn here(text: &str, kind: Kind, scope: &Scope, slots: &[Value]) -> Result<String, String> {
    let compiled = match kind {
        Kind::Expressions => Expression::compile(text, scope),
        Kind::Scripts => Expression::script(text, scope),
    };
    let compiled = compiled.map_err(|faults| format!("refused: {faults:?}"))?;
    let limits = if kind == Kind::Scripts { Limits::script() } else { Limits::default() };
    Ok(match compiled.eval(slots, limits) {
        Ok(Value::Undefined) => "undefined".into(),
        Ok(value) => value.to_json(),
        Err(_) => "error".into(),
    })
}

fn names() -> (Scope, Vec<Value>) {
    let names: Value = serde_json::from_str(NAMES).expect("names");
    let Value::Object(names) = names else { panic!("names") };
    let mut scope = Scope::default();
    let slots = names.iter().map(|(name, value)| {
        scope.define(name);
        value.clone()
    });
    let slots = slots.collect();
    (scope, slots)
}

/// The same JSON; numbers may differ in the last place, where libraries of functions do.
fn agree(ours: &str, theirs: &str) -> bool {
    fn close(a: &serde_json::Value, b: &serde_json::Value) -> bool {
        use serde_json::Value::*;
        match (a, b) {
            (Number(a), Number(b)) => {
                let (a, b) = (a.as_f64().unwrap_or(0.0), b.as_f64().unwrap_or(0.0));
                a == b || (a - b).abs() <= 4.0 * f64::EPSILON * a.abs().max(b.abs())
            }
            (Array(a), Array(b)) => a.len() == b.len() && a.iter().zip(b).all(|(a, b)| close(a, b)),
            (Object(a), Object(b)) => {
                a.len() == b.len() && a.iter().zip(b).all(|((k, a), (l, b))| k == l && close(a, b))
            }
            _ => a == b,
        }
    }
    if ours == theirs {
        return true;
    }
    match (serde_json::from_str(ours), serde_json::from_str(theirs)) {
        (Ok(a), Ok(b)) => close(&a, &b),
        _ => false,
    }
}

#[derive(Default)]
struct Found {
    /// Index of the source, and how it differs.
    differences: Vec<(usize, String)>,
    refused: usize,
}

/// Compares with Node; what does not compile differs, or counts as refused where that is allowed.
fn differences(sources: &[String], kind: Kind, refusals_allowed: bool) -> Found {
    let (scope, slots) = names();
    let theirs = in_node(sources, kind);
    assert_eq!(theirs.len(), sources.len());
    let mut found = Found::default();
    for (index, (text, theirs)) in sources.iter().zip(&theirs).enumerate() {
        match here(text, kind, &scope, &slots) {
            Ok(ours) if agree(&ours, theirs) => {}
            Ok(ours) => found.differences.push((index, format!("{text}\n    here {ours}\n    node {theirs}"))),
            Err(_) if refusals_allowed => found.refused += 1,
            Err(why) => found.differences.push((index, format!("{text}\n    {why}\n    node {theirs}"))),
        }
    }
    println!("{} compared, {} refused, {} differences", sources.len(), found.refused, found.differences.len());
    found
}

fn compare(sources: &[String], kind: Kind) {
    let differ: Vec<String> = differences(sources, kind, false).differences.into_iter().map(|(_, how)| how).collect();
    let shown = differ[..differ.len().min(40)].join("\n");
    assert!(differ.is_empty(), "{} of {} differ:\n{shown}", differ.len(), sources.len());
}
