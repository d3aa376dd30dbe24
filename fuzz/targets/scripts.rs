//! Any text as a script and as a function with statements: never a panic, bounded work and memory.
#![no_main]

use kanzlei_lang::confidential::{Label, Labels};
use kanzlei_lang::expr::{Expression, Limits, Scope};
use kanzlei_lang::types::{Env, schema};
use kanzlei_model::value::Value;

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| {
    let Ok(text) = std::str::from_utf8(bytes) else { return };
    let mut scope = Scope::default();
    let _ = scope.define_function("f", "(a, b = 2) => { const out = []; for (const x of a.items ?? []) { out.push([x, b]); } return out; }");
    let _ = scope.define_function("g", text);
    let json = serde_json::json!({"name": "Havbris", "n": 3, "items": [{"k": "a", "x": 1.5}, {"k": "b"}], "none": null});
    let mut env = Env::default();
    let mut labels = Labels::default();
    let described = serde_json::json!({"type": "object", "required": ["name", "n", "items"], "properties": {
        "name": {"type": "string", "secret": true}, "n": {"type": "number"}, "none": {"type": "null"},
        "items": {"type": "array", "items": {"type": "object", "required": ["k"], "properties": {"k": {"type": "string"}, "x": {"type": "number"}}}}}});
    let mut values = Vec::new();
    // The names that written scripts read.
    for name in ["v", "n", "s", "items", "vessels", "o", "u", "nil"] {
        let slot = scope.define(name);
        env.set(slot, schema::read(&described));
        labels.set(slot, Label::of_schema(&described));
        values.push(Value::from_json(&json));
    }
    let limits = Limits { work: 300_000, bytes: 8 << 20, ..Limits::default() };
    if let Ok(script) = Expression::script(text, &scope) {
        let (_, _) = env.infer(&script);
        let _ = (labels.of(&script), labels.thrown(&script));
        let mut reached = Vec::new();
        let plain = script.eval_marking(&values, limits, &mut reached);
        if let Ok(value) = &plain
            && value.weight() < 1 << 20
        {
            assert!(!holds_open(value, 0), "a list or object that can change leaves its script");
        }
    }
});

fn holds_open(value: &Value, depth: u32) -> bool {
    value.open().is_some()
        || depth < 130
            && match value {
                Value::List(list) => list.items().iter().any(|item| holds_open(item, depth + 1)),
                Value::Object(object) => object.iter().any(|(_, member)| holds_open(member, depth + 1)),
                _ => false,
            }
}
