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

/// The same for a script.
fn infer_script(text: &str) -> (String, Vec<String>) {
    let schema: serde_json::Value = serde_json::from_str(VESSEL).expect("schema");
    let mut scope = Scope::default();
    scope.define("v");
    let script = Expression::script(text, &scope).unwrap_or_else(|e| panic!("{text}: {e:?}"));
    let mut env = Env::default();
    env.set(0, schema::read(&schema));
    let (of, findings) = env.infer(&script);
    let found = findings
        .iter()
        .map(|f| format!("{}@{}", f.code, text.get(f.at.start as usize..f.at.end as usize).unwrap_or("?")));
    (of.to_string(), found.collect())
}

#[test]
fn types_of_scripts() {
    let mut differing = Vec::new();
    for (text, wanted) in [
        ("return v.name;", "string"),
        ("const a = v.flag; if (a) { return a; } return null;", "string | null"),
        ("let a = v.flag; if (a === undefined) a = 'none'; return a;", "string"),
        ("let a = v.flag; a ??= 'none'; return a.length;", "number"),
        ("const out = []; for (const c of v.calls) out.push(c.berth); return out;", "number[]"),
        ("const out = []; const same = out; same.push(v.name); out.push(1); return out;", "(string | 1)[]"),
        ("const o = {}; o.total = v.length; o.name = v.name; return o;", "{total: number, name: string}"),
        ("const o = {}; if (v.flag) { o.flag = v.flag; } return o;", "{flag?: string}"),
        ("const o = {a: 1}; o.a = 'x'; return o.a;", "'x'"),
        (
            "const counts = {}; for (const c of v.name) { counts[c] = (counts[c] ?? 0) + 1; } return counts;",
            "{…: number}",
        ),
        (
            "const by = {}; for (const c of v.calls) { (by[c.berth] ??= []).push(c); } return by;",
            "{…: {berth: number, note?: string}[]}",
        ),
        (
            "const by = {}; for (const c of v.calls) { const key = `${c.berth}`; if (!by[key]) by[key] = []; by[key].push(c.berth); } return by;",
            "{…: number[]}",
        ),
        ("let n = 0; while (n < 10) n++; return n;", "number"),
        ("let n = 0; for (let i = 0; i < v.calls.length; i++) n += v.calls[i].berth; return n;", "number"),
        (
            "const q = [v.calls]; while (q.length > 0) { const x = q.pop(); if (x.length > 3) return x[0]; } return null;",
            "{berth: number, note?: string} | undefined | null",
        ),
        ("for (const c of v.calls) { if (c.note) return c.note; } return 0;", "string | 0"),
        (
            "let a = null; for (const c of v.calls) { if (a === null || c.berth > a.berth) a = c; } return a;",
            "null | {berth: number, note?: string}",
        ),
        ("const k = v.kind ?? 'cargo'; switch (k) { case 'cargo': return 1; case 'ferry': return 2; }", "1 | 2"),
        (
            "let a; switch (v.kind) { case 'cargo': a = 1; break; default: a = v.kind; } return a;",
            "'ferry' | undefined | 1",
        ),
        ("try { return JSON.parse(v.name).x; } catch (e) { return 'bad'; }", "unknown"),
        ("let a = 1; try { a = v.name; v.more?.x.trim(); } catch { return a; } return 0;", "1 | string | 0"),
        ("let sum = 0; v.calls.forEach(c => { sum += c.berth; }); return sum;", "number"),
        ("const f = (x) => { if (x > 3) return 'big'; return x; }; return [f(v.length), f(1)];", "('big' | number)[]"),
        ("const rows: {id: number}[] = []; rows.push({id: v.length}); return rows;", "{id: number}[]"),
        ("let x: number | null = null; for (const c of v.calls) x = c.berth; return x;", "null | number"),
        ("let done = false; let i = 0; while (!done) { i++; done = i > 3; } return done;", "true"),
        (
            "const node = {v: 1, next: null}; let at = node; for (let i = 0; i < 3; i++) { at.next = {v: i, next: null}; at = at.next; } return at.v;",
            "number",
        ),
        ("let [a, b] = [1, 'x']; [a, b] = [b, a]; return a;", "'x'"),
        ("const copy = structuredClone(v); copy.calls.push({berth: 1}); copy.name = 'x'; return copy.name;", "'x'"),
        ("const a = {x: {y: 1}}; const b = {...a}; b.z = 1; return [a.x === b.x, b.z];", "(boolean | 1)[]"),
    ] {
        let found = infer_script(text);
        if found != (wanted.to_owned(), vec![]) {
            differing.push(format!("{text}\n    wanted {wanted}\n    got {found:?}"));
        }
    }
    assert!(differing.is_empty(), "{}", differing.join("\n"));
}

#[test]
fn findings_in_scripts() {
    let mut differing = Vec::new();
    for (text, wanted) in [
        ("const a = v.flag; return a.length;", "maybe-missing@a"),
        ("let a = v.flag ?? ''; a = v.owner; return a.length;", "maybe-missing@a"),
        ("let a = 'x'; for (const c of v.calls) { a.trim(); a = c.berth; } return a;", "unknown-method@a.trim()"),
        ("const list = v.calls; list.push({berth: 1}); return list;", "assignment@list"),
        ("const row = v.calls[0]; if (row) row.note = 'x'; return row;", "assignment@row"),
        ("const o = {a: 1}; return o.b;", "unknown-member@b"),
        ("const counts = {}; counts[v.name] += 1; return counts;", "maybe-missing@counts[v.name]"),
        ("const out = []; out.push(1); return out[0].x;", "maybe-missing@out[0]"),
        ("const x: number = v.name; return x;", "annotation@v.name"),
        ("const rows: number[] = []; rows.push('x'); return rows;", "annotation@[]"),
        ("const f = (a: number): string => a * 2; return f('x');", "annotation@a * 2"),
        ("const o = {a: 1}; delete o.a; return o.a.toFixed();", "maybe-missing@o.a"),
        ("const q = [{n: 1}]; return q.pop().n;", "maybe-missing@q.pop()"),
        ("let sum = 0; v.calls.forEach(c => { sum += c.bert; }); return sum;", "unknown-member@bert"),
        ("try { throw 1; } catch (e) { return v.nme; }", "unknown-member@nme"),
        ("const n = 5; for (const x of n) { } return 1;", "wrong-operand@n"),
        ("return v.name - 1;", "wrong-operand@v.name"),
    ] {
        let (of, found) = infer_script(text);
        if found.first().map(String::as_str) != Some(wanted) {
            differing.push(format!("{text}\n    wanted {wanted}\n    got {found:?} {of}"));
        }
    }
    assert!(differing.is_empty(), "{}", differing.join("\n"));
}
