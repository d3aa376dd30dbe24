use super::*;
use crate::expr::functions::Method;
use crate::expr::{ErrorKind, Expression, Limits, Scope};

/// Infers over `v` of the type that a schema describes; returns the type and the codes of what is found.
fn infer(schema: &str, text: &str) -> (String, Vec<String>) {
    let schema: serde_json::Value = serde_json::from_str(schema).unwrap_or_else(|e| panic!("{schema}: {e}"));
    let mut scope = Scope::default();
    scope.define("v");
    let expression = Expression::compile(text, &scope).unwrap_or_else(|e| panic!("{text}: {e:?}"));
    let mut env = Env::default();
    env.set(0, schema::read(&schema));
    let (of, findings) = env.infer(&expression);
    let found = findings.iter().map(|f| format!("{}@{}", f.code, f.at.start)).collect();
    (of.to_string(), found)
}

const VESSEL: &str = r#"{"type": "object", "required": ["name", "length", "calls"], "properties": {
    "name": {"type": "string"}, "length": {"type": "number"}, "flag": {"type": "string"},
    "kind": {"enum": ["cargo", "ferry"]}, "owner": {"type": ["string", "null"]},
    "calls": {"type": "array", "items": {"type": "object", "required": ["berth"], "properties": {"berth": {"type": "integer"}, "note": {"type": "string"}}}},
    "more": {"type": "object"}}}"#;

#[test]
fn types_of_expressions() {
    for (text, wanted) in [
        ("v.name", "string"),
        ("v.flag", "string | undefined"),
        ("v.flag ?? 'none'", "string"),
        ("v.owner?.toUpperCase()", "string | undefined"),
        ("v.calls.length * 2", "number"),
        ("v.calls[0]", "{berth: number, note?: string} | undefined"),
        ("v.calls[0]?.berth", "number | undefined"),
        ("v.calls.map(c => c.berth)", "number[]"),
        ("v.calls.map(({berth, note = '-'}) => [berth, note])", "(number | string)[][]"),
        ("v.calls.filter(c => c.note).map(c => c.note.trim())", "string[]"),
        ("v.calls.find(c => c.berth > 3)?.note ?? null", "string | null"),
        ("v.calls.reduce((sum, c) => sum + c.berth, 0)", "number"),
        ("v.calls.reduce((all, c) => [...all, c.note ?? ''], [])", "string[]"),
        ("v.calls.reduce((all, c) => ({...all, [c.note ?? '']: c.berth}), {})", "{…: number}"),
        ("({...v, name: 1}).name", "1"),
        ("v.kind === 'cargo' ? v.length : null", "number | null"),
        ("v.more?.anything.goes", "unknown | undefined"),
        ("Object.keys(v).join()", "string"),
        ("list.group(v.calls, c => `${c.berth}`)", "{…: {berth: number, note?: string}[]}"),
        ("typeof v.name === 'string' && 1", "false | 1"),
        ("time.between('2027-01-01T00:00:00Z', v.name, 'hours') / 2", "number"),
        ("2 * 3 + 1", "7"),
        ("v.flag == null", "boolean"),
        ("JSON.parse(v.name) != null", "boolean"),
        // Items that are always there are known each by itself.
        ("[1, 'a'].at(0)", "1"),
        ("[1, 'a'].at(-2)", "1 | 'a'"),
        ("[1, 'a'][2]", "1 | 'a' | undefined"),
        ("[1, 'a'][-1]", "undefined"),
        ("[...v.calls, 1].at(0)", "{berth: number, note?: string} | 1 | undefined"),
        ("[[1, 'a']].map(([n, text, none]) => [text, none])[0]", "('a' | 1 | undefined)[] | undefined"),
    ] {
        assert_eq!(infer(VESSEL, text), (wanted.to_owned(), vec![]), "{text}");
    }
}

#[test]
fn what_cannot_work_is_reported_at_its_place() {
    for (text, wanted) in [
        ("v.nam", "unknown-member@2"),
        ("v.calls[0].berth", "maybe-missing@0"),
        ("v.owner.length", "maybe-missing@0"),
        ("v.flag.trim()", "maybe-missing@0"),
        ("v.name * 2", "wrong-operand@0"),
        ("v.length + v.flag", "maybe-missing@11"),
        ("v.name < v.length", "wrong-operand@0"),
        ("v.name === v.length", "never-equal@0"),
        ("v.kind === 'tanker'", "constant-condition@0"),
        ("v.length == null", "constant-condition@0"),
        ("undefined != v.name", "constant-condition@0"),
        ("v.name.map(x => x)", "unknown-method@0"),
        ("v.calls.map(c => c.bert)", "unknown-member@19"),
        ("v.calls.reduce((a, c) => a)", "maybe-missing@0"),
        ("[...v.length]", "wrong-operand@4"),
        ("Math.max(v.name)", "wrong-operand@9"),
        ("Object.keys(v.owner)", "maybe-missing@12"),
        ("time.add(v.flag, '1h')", "maybe-missing@9"),
        ("v.calls.map(({beth}) => beth)", "unknown-member@14"),
        ("'x' in v.name", "wrong-operand@7"),
        ("-v.calls", "wrong-operand@1"),
        ("`${v.flag}`", "odd-text@3"),
    ] {
        assert_eq!(infer(VESSEL, text).1, [wanted], "{text}");
    }
}

#[test]
fn tests_narrow() {
    for text in [
        "v.flag ? v.flag.trim() : ''",
        "v.flag && v.flag.trim()",
        "v.flag !== undefined && v.flag.trim()",
        "!v.flag || v.flag.trim()",
        "v.owner == null ? '' : v.owner.trim()",
        "v.calls[0] ? 1 : 2",
        "(v.owner && v.flag) ? v.owner + v.flag.trim() : ''",
        "!(v.owner === null || v.owner === undefined) ? v.owner.trim() : ''",
        "'flag' in v ? v.flag.trim() : ''",
        "typeof v.owner === 'string' ? v.owner.trim() : v.owner",
        "['cargo'].includes(v.kind) ? v.kind === 'cargo' : v.kind === 'ferry'",
        "v.calls.filter(c => c.note !== undefined).map(c => c.note.length)",
        "v.owner ?? v.name.trim()",
        "v.flag?.trim().length > 3 || true",
    ] {
        let found = infer(VESSEL, text).1;
        let wanted: &[&str] = if text.contains("?.trim().length > 3") { &["maybe-missing@0"] } else { &[] };
        assert_eq!(found, wanted, "{text}");
    }
    // The value of one member decides which form the whole has.
    let answer = r#"{"anyOf": [
        {"type": "object", "required": ["status", "body"], "properties": {"status": {"const": 200}, "body": {"type": "object", "required": ["name"], "properties": {"name": {"type": "string"}}}}},
        {"type": "object", "required": ["status", "body"], "properties": {"status": {"const": 404}, "body": {"type": "object", "required": ["title"], "properties": {"title": {"type": "string"}}}}}]}"#;
    for (text, of, found) in [
        ("v.status", "200 | 404", vec![]),
        ("v.body.name", "string", vec!["unknown-member@7"]),
        ("v.status === 404 ? v.body.title : v.body.name", "string", vec![]),
        ("v.status !== 200 ? null : v.body.name", "null | string", vec![]),
        ("v.status === 404 ? v.body.name : ''", "unknown", vec!["unknown-member@26"]),
        ("v.status === 500", "false", vec!["constant-condition@0"]),
        ("v.body?.name", "string | undefined", vec![]),
    ] {
        let found: Vec<String> = found.into_iter().map(str::to_owned).collect();
        assert_eq!(infer(answer, text), (of.to_owned(), found), "{text}");
    }
}

#[test]
fn schemas_are_read_and_written() {
    for (schema, wanted) in [
        (r#"{"type": "string", "nullable": true}"#, "string | null"),
        (r#"{"enum": [1, "a", null]}"#, "1 | 'a' | null"),
        (r#"{"type": "array"}"#, "unknown[]"),
        (r#"{"type": "object", "additionalProperties": {"type": "number"}}"#, "{…: number}"),
        (
            r##"{"$defs": {"n": {"type": "object", "properties": {"next": {"$ref": "#/$defs/n"}}}}, "$ref": "#/$defs/n"}"##,
            "{next?: unknown}",
        ),
        (
            r#"{"allOf": [{"type": "object", "required": ["a"], "properties": {"a": {"type": "string"}}}, {"properties": {"b": {"type": "number"}}}]}"#,
            "{a: string, b?: number}",
        ),
        (r#"{"oneOf": [{"type": "string"}, {"type": "array", "items": {"type": "boolean"}}]}"#, "string | boolean[]"),
        ("true", "unknown"),
        (r#"{"type": "object", "properties": {"a": {}}, "additionalProperties": true}"#, "{a?: unknown, …: unknown}"),
    ] {
        let read = schema::read(&serde_json::from_str(schema).expect(schema));
        assert_eq!(read.to_string(), wanted, "{schema}");
        let again = schema::read(&schema::write(&read));
        assert_eq!(again.to_string(), wanted, "written and read retry: {schema}");
    }
}

#[test]
fn contradictions_are_found_where_they_are() {
    let wanted = schema::read(&serde_json::from_str(VESSEL).expect("schema"));
    let call = |berth: Type| Type::list(Type::object([("berth", berth)]));
    let vessel = |name: Type, calls: Type| Type::object([("name", name), ("length", Type::NUMBER), ("calls", calls)]);
    for (given, found) in [
        (vessel(Type::TEXT, call(Type::NUMBER)), None),
        (vessel(Type::Unknown, Type::Unknown), None),
        (vessel(Type::TEXT.or(Type::Null), call(Type::NUMBER)), Some("/name null is not a string")),
        (vessel(Type::TEXT.or(Type::Undefined), call(Type::NUMBER)), Some("/name may not be there")),
        (vessel(Type::TEXT, call(Type::TEXT)), Some("/calls/0/berth a string is not a number")),
        (Type::object([("name", Type::TEXT)]), Some("/length is not there")),
        (Type::TEXT, Some(" a string is not an object")),
    ] {
        let got = contradiction(&given, &wanted).map(|(at, why)| format!("{at} {why}"));
        assert_eq!(got.as_deref(), found, "{given}");
    }
}

/// What the types know of methods is what the evaluator does.
#[test]
fn methods_are_known_on_the_values_that_have_them() {
    let mut scope = Scope::default();
    scope.define("v");
    for name in Method::names() {
        let method = Method::by_name(name).expect(name);
        let (least, _) = method.arity();
        let args = match (method.takes_function(), least) {
            (crate::expr::functions::FunctionArg::Required(_), _) => "x => x".to_owned(),
            (_, count) => vec!["1"; count].join(", "),
        };
        let text = format!("v.{name}({args})");
        let expression = Expression::compile(&text, &scope).unwrap_or_else(|e| panic!("{text}: {e:?}"));
        for value in [
            Value::text("abc"),
            Value::Int(5),
            Value::Bool(true),
            Value::list(vec![Value::text("a")]),
            Value::object([("a", Value::Int(1))]),
        ] {
            let lacks = match expression.eval(std::slice::from_ref(&value), Limits::default()) {
                Err(failure) => failure.kind == ErrorKind::Type && failure.message.contains("no such method"),
                Ok(_) => false,
            };
            assert_eq!(!lacks, super::calls::has_method(&Type::of(&value).widened(), method), "{text} on {value:?}");
        }
    }
}

#[test]
fn what_grows_without_bound_in_a_schema_is_unknown() {
    // Each definition has the next one twice: two to the power of thirty parts.
    let chain: serde_json::Map<String, serde_json::Value> = (0..30)
        .map(|n| {
            let next = serde_json::json!({"$ref": format!("#/$defs/d{}", n + 1)});
            (format!("d{n}"), serde_json::json!({"type": "object", "properties": {"a": next, "b": next}}))
        })
        .chain([("d30".to_owned(), serde_json::json!({"type": "string"}))])
        .collect();
    let schema = serde_json::json!({"$ref": "#/$defs/d0", "$defs": chain});
    // What has too many parts is unknown, so that what is around it can be compared and written.
    let of = schema::read(&schema);
    assert!(of != Type::Unknown && of == schema::read(&schema));
    assert!(schema::write(&of).to_string().len() < 4_000_000);
    let inner = schema::write(&schema::Reader::new(&schema).read(&schema["$defs"]["d25"])).to_string();
    assert_eq!(inner.matches("\"string\"").count(), 32, "{inner}");
    let objects = |count: usize| -> serde_json::Value {
        let one = |n| serde_json::json!({"type": "object", "properties": {(format!("m{n}")): {"type": "string"}}});
        serde_json::json!({"anyOf": (0..count).map(one).collect::<Vec<_>>()})
    };
    assert_eq!(schema::read(&objects(5_000)), Type::Unknown);
    assert_eq!(schema::read(&objects(50)).alternatives().len(), 50);
}
