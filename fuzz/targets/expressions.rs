//! Any text as an expression and as a template: never a panic, and bounded work.
#![no_main]

use kanzlei_lang::expr::{Expression, Limits, Scope, template::Template};
use kanzlei_lang::types::{Env, schema};
use kanzlei_model::value::Value;

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| {
    let Ok(text) = std::str::from_utf8(bytes) else { return };
    let mut scope = Scope::default();
    scope.define("v");
    let _ = scope.define_function("f", "(a, b = 2) => [a, ...b.items ?? [], `${a}`]");
    let json =
        serde_json::json!({"name": "Havbris", "n": 3, "items": [{"k": "a", "x": 1.5}, {"k": "b"}], "none": null});
    let value = Value::from_json(&json);
    let mut env = Env::default();
    env.set(0, schema::read(&serde_json::json!({"type": "object", "required": ["name", "n", "items"], "properties": {
        "name": {"type": "string"}, "n": {"type": "number"}, "none": {"type": "null"},
        "items": {"type": "array", "items": {"type": "object", "required": ["k"], "properties": {"k": {"type": "string"}, "x": {"type": "number"}}}}}})));
    let limits = Limits { work: 200_000, bytes: 4 << 20, ..Limits::default() };
    if let Ok(expression) = Expression::compile(text, &scope) {
        let (_, _) = env.infer(&expression);
        let _ = env.assuming(&expression, true);
        let _ = expression.eval(std::slice::from_ref(&value), limits);
    }
    if let Ok(template) = Template::compile(text, &scope) {
        let _ = env.template(&template);
        let _ = template.eval(std::slice::from_ref(&value), limits);
    }
});
