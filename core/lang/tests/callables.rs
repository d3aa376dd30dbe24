//! What each method and function returns: the type that the checker infers, and the value.
//!
//! Names: s="Lindvik havn", n=7, f=2.5, items=[3,1,2], calls=[{berth:4,note:"ice"},{berth:2}], o={b:1,a:2}.

use kanzlei_lang::expr::functions::{Method, Static};
use kanzlei_lang::expr::{Expression, Limits, Scope};
use kanzlei_lang::types::{Env, schema};
use kanzlei_model::value::Value;
use serde_json::{Value as Json, json};

/// Names with their schemas and values.
fn names() -> [(&'static str, Json, Json); 7] {
    let call = json!({"type": "object", "required": ["berth"], "properties": {"berth": {"type": "integer"}, "note": {"type": "string"}}});
    let number = json!({"type": "number"});
    [
        ("s", json!({"type": "string"}), json!("Lindvik havn")),
        ("n", json!({"type": "integer"}), json!(7)),
        ("f", number.clone(), json!(2.5)),
        ("items", json!({"type": "array", "items": number}), json!([3, 1, 2])),
        ("calls", json!({"type": "array", "items": call}), json!([{"berth": 4, "note": "ice"}, {"berth": 2}])),
        ("o", json!({"type": "object", "additionalProperties": number}), json!({"b": 1, "a": 2})),
        ("run", json!({"type": "object"}), json!({})),
    ]
}

/// The inferred type and the value as JSON.
fn both(text: &str) -> (String, String) {
    let (mut scope, mut env, mut slots) = (Scope::default(), Env::default(), Vec::new());
    for (name, schema, value) in names() {
        env.set(scope.define(name), schema::read(&schema));
        slots.push(Value::from_json(&value));
    }
    let expression = Expression::compile(text, &scope).unwrap_or_else(|faults| panic!("{text}: {faults:?}"));
    let (of, findings) = env.infer(&expression);
    assert!(findings.is_empty(), "{text}: {findings:?}");
    let value = expression
        .eval(&slots, Limits { seed: Some("k"), ..Limits::default() })
        .unwrap_or_else(|error| panic!("{text}: {error:?}"));
    (of.to_string(), if value == Value::Undefined { "undefined".into() } else { value.to_json() })
}

fn hold(table: &[(&str, &str, &str)]) {
    let wrong: Vec<String> = table
        .iter()
        .map(|(text, of, value)| (text, both(text), (of.to_string(), value.to_string())))
        .filter(|(_, found, wanted)| found != wanted)
        .map(|(text, (of, value), _)| format!("(r#\"{text}\"#, r#\"{of}\"#, r#\"{value}\"#),"))
        .collect();
    assert!(wrong.is_empty(), "found:\n{}", wrong.join("\n"));
}

/// Fails where a table leaves out a name; `call` makes what is searched for of it.
fn covers(table: &[(&str, &str, &str)], names: impl Iterator<Item = &'static str>, call: impl Fn(&str) -> String) {
    let absent: Vec<&str> = names.filter(|name| !table.iter().any(|row| row.0.contains(&call(name)))).collect();
    assert!(absent.is_empty(), "no row calls {absent:?}");
}

const METHODS: &[(&str, &str, &str)] = &[
    ("items.at(-1)", "number | undefined", "2"),
    ("s.at(0)", "string | undefined", r#""L""#),
    ("s.charAt(3)", "string", r#""d""#),
    ("s.charCodeAt(0)", "number", "76"),
    ("'😀'.codePointAt(0)", "number | undefined", "128512"),
    ("items.concat([4], 5)", "number[]", "[3,1,2,4,5]"),
    ("s.concat('!', n)", "string", r#""Lindvik havn!7""#),
    ("s.endsWith('havn')", "boolean", "true"),
    ("items.entries()", "number[][]", "[[0,3],[1,1],[2,2]]"),
    ("items.every(i => i > 0)", "boolean", "true"),
    ("calls.filter(c => c.note)", "{berth: number, note: string}[]", r#"[{"berth":4,"note":"ice"}]"#),
    ("calls.find(c => c.berth === 2)", "{berth: 2, note?: string} | undefined", r#"{"berth":2}"#),
    ("items.findIndex(i => i === 9)", "number", "-1"),
    ("items.findLast(i => i > 1)", "number | undefined", "2"),
    ("items.findLastIndex(i => i > 1)", "number", "2"),
    ("[items, [4]].flat()", "number[]", "[3,1,2,4]"),
    ("[[items], [[4]]].flat(2)", "unknown[]", "[3,1,2,4]"),
    ("calls.flatMap(c => [c.berth, c.note ?? '-'])", "(number | string)[]", r#"[4,"ice",2,"-"]"#),
    ("o.hasOwnProperty('b')", "boolean", "true"),
    ("'å'.localeCompare('z', 'nb')", "number", "1"),
    ("1234.5.toLocaleString('de', {minimumFractionDigits: 2})", "string", r#""1.234,50""#),
    ("items.includes(2)", "boolean", "true"),
    ("s.includes('vik')", "boolean", "true"),
    ("items.indexOf(2)", "number", "2"),
    ("s.indexOf('n', 3)", "number", "11"),
    ("s.isWellFormed()", "boolean", "true"),
    ("items.join('-')", "string", r#""3-1-2""#),
    ("items.keys()", "number[]", "[0,1,2]"),
    ("items.lastIndexOf(3)", "number", "0"),
    ("s.lastIndexOf('n')", "number", "11"),
    ("items.map((i, at) => i * at)", "number[]", "[0,1,4]"),
    ("calls.map(c => c.note)", "(string | undefined)[]", r#"["ice",null]"#),
    ("s.match(/(l)i(n)/i)", "(string | undefined)[] | null", r#"["Lin","L","n"]"#),
    ("s.match(/[aeiou]/g)", "(string | undefined)[] | null", r#"["i","i","a"]"#),
    ("s.matchAll(/n(.)/g)", "(string | undefined)[][]", r#"[["nd","d"]]"#),
    (r#"'A\u030a'.normalize().length"#, "number", "1"),
    ("s.padEnd(14, '.')", "string", r#""Lindvik havn..""#),
    ("'7'.padStart(3, '0')", "string", r#""007""#),
    ("items.reduce((sum, i) => sum + i, 0)", "number", "6"),
    ("calls.reduce((all, c) => all + c.berth, 0)", "number", "6"),
    ("items.reduceRight((all, i) => `${all}${i}`, '')", "string", r#""213""#),
    ("'ab'.repeat(n - 5)", "string", r#""abab""#),
    ("s.replace('n', 'N')", "string", r#""LiNdvik havn""#),
    ("s.replace(/n/g, found => found.toUpperCase())", "string", r#""LiNdvik havN""#),
    ("s.replaceAll('n', '')", "string", r#""Lidvik hav""#),
    ("s.search(/v/)", "number", "4"),
    ("items.slice(1)", "number[]", "[1,2]"),
    ("s.slice(-4)", "string", r#""havn""#),
    ("items.some(i => i > 2)", "boolean", "true"),
    ("s.split(' ')", "string[]", r#"["Lindvik","havn"]"#),
    ("s.split(/i/, 2)", "string[]", r#"["L","ndv"]"#),
    ("s.startsWith('Lind')", "boolean", "true"),
    ("s.substring(4, 0)", "string", r#""Lind""#),
    ("f.toExponential(1)", "string", r#""2.5e+0""#),
    ("f.toFixed(2)", "string", r#""2.50""#),
    ("s.toLowerCase()", "string", r#""lindvik havn""#),
    ("f.toPrecision(3)", "string", r#""2.50""#),
    ("items.toReversed()", "number[]", "[2,1,3]"),
    ("items.toSorted()", "number[]", "[1,2,3]"),
    (
        "calls.toSorted((a, b) => a.berth - b.berth)",
        "{berth: number, note?: string}[]",
        r#"[{"berth":2},{"berth":4,"note":"ice"}]"#,
    ),
    ("items.toSpliced(1, 1, 8, 9)", "number[]", "[3,8,9,2]"),
    ("n.toString(2)", "string", r#""111""#),
    ("items.toString()", "string", r#""3,1,2""#),
    ("s.toUpperCase()", "string", r#""LINDVIK HAVN""#),
    ("s.toWellFormed()", "string", r#""Lindvik havn""#),
    ("'  a '.trim()", "string", r#""a""#),
    ("'  a '.trimEnd()", "string", r#""  a""#),
    ("'  a '.trimStart()", "string", r#""a ""#),
    ("items.values()", "number[]", "[3,1,2]"),
    ("n.valueOf()", "number", "7"),
    ("items.with(0, 9)", "number[]", "[9,1,2]"),
];

#[test]
fn methods_return_what_their_types_say() {
    hold(METHODS);
    covers(METHODS, Method::names(), |name| format!(".{name}("));
}

const FUNCTIONS: &[(&str, &str, &str)] = &[
    ("Boolean(s)", "boolean", "true"),
    ("Number('12')", "number", "12"),
    ("String(n)", "string", r#""7""#),
    ("parseInt('1f', 16)", "number", "31"),
    ("parseFloat('2.5 m')", "number", "2.5"),
    ("isNaN(f)", "boolean", "false"),
    ("isFinite(f)", "boolean", "true"),
    ("encodeURIComponent('a/b å')", "string", r#""a%2Fb%20%C3%A5""#),
    ("decodeURIComponent('a%2Fb')", "string", r#""a/b""#),
    ("encodeURI('a/b å')", "string", r#""a/b%20%C3%A5""#),
    ("decodeURI('a%20b')", "string", r#""a b""#),
    ("Array.isArray(items)", "boolean", "true"),
    ("Array.of(n, s)", "(number | string)[]", r#"[7,"Lindvik havn"]"#),
    ("Array.from(items)", "number[]", "[3,1,2]"),
    ("Array.from(s, c => c.length)", "number[]", "[1,1,1,1,1,1,1,1,1,1,1,1]"),
    ("Array.from({length: 2}, (none, at) => at)", "number[]", "[0,1]"),
    ("Number.isFinite(s)", "boolean", "false"),
    ("Number.isInteger(f)", "boolean", "false"),
    ("Number.isNaN(n)", "boolean", "false"),
    ("Number.isSafeInteger(n)", "boolean", "true"),
    ("Number.parseFloat('1e3')", "number", "1000"),
    ("Number.parseInt('12 m')", "number", "12"),
    ("Object.entries(o)", "unknown[][]", r#"[["b",1],["a",2]]"#),
    ("Object.fromEntries([['a', n]])", "{…: unknown}", r#"{"a":7}"#),
    ("Object.hasOwn(o, 'c')", "boolean", "false"),
    ("Object.is(n, 7)", "boolean", "true"),
    ("Object.keys(o)", "string[]", r#"["b","a"]"#),
    ("Object.values(o)", "number[]", "[1,2]"),
    ("String.fromCharCode(65, 66)", "string", r#""AB""#),
    ("String.fromCodePoint(128512)", "string", r#""😀""#),
    (r#"JSON.parse('{"a": [1]}')"#, "unknown", r#"{"a":[1]}"#),
    ("JSON.stringify(o)", "string", r#""{\"b\":1,\"a\":2}""#),
    ("JSON.stringify(items, null, 1)", "string", r#""[\n 3,\n 1,\n 2\n]""#),
    ("Math.abs(-f)", "number", "2.5"),
    ("Math.acos(1)", "number", "0"),
    ("Math.acosh(1)", "number", "0"),
    ("Math.asin(0)", "number", "0"),
    ("Math.asinh(0)", "number", "0"),
    ("Math.atan(0)", "number", "0"),
    ("Math.atan2(0, n)", "number", "0"),
    ("Math.atanh(0)", "number", "0"),
    ("Math.cbrt(27)", "number", "3"),
    ("Math.ceil(f)", "number", "3"),
    ("Math.clz32(n)", "number", "29"),
    ("Math.cos(0)", "number", "1"),
    ("Math.cosh(0)", "number", "1"),
    ("Math.exp(0)", "number", "1"),
    ("Math.expm1(0)", "number", "0"),
    ("Math.floor(-f)", "number", "-3"),
    ("Math.fround(5.5)", "number", "5.5"),
    ("Math.hypot(3, 4)", "number", "5"),
    ("Math.imul(n, 6)", "number", "42"),
    ("Math.log(1)", "number", "0"),
    ("Math.log10(1000)", "number", "3"),
    ("Math.log1p(0)", "number", "0"),
    ("Math.log2(8)", "number", "3"),
    ("Math.max(...items)", "number", "3"),
    ("Math.min(n, f)", "number", "2.5"),
    ("Math.pow(n, 2)", "number", "49"),
    ("Math.round(f)", "number", "3"),
    ("Math.sign(-f)", "number", "-1"),
    ("Math.sin(0)", "number", "0"),
    ("Math.sinh(0)", "number", "0"),
    ("Math.sqrt(n + 2)", "number", "3"),
    ("Math.tan(0)", "number", "0"),
    ("Math.tanh(0)", "number", "0"),
    ("Math.trunc(-f)", "number", "-2"),
    ("time.add('2027-03-04T06:00:00Z', '36h')", "instant", r#""2027-03-05T18:00:00Z""#),
    ("time.subtract('2027-03-31T00:00:00Z', '1 month')", "instant", r#""2027-02-28T00:00:00Z""#),
    ("time.between('2027-03-04T06:00:00Z', '2027-03-04T07:30:00Z', 'minutes')", "number", "90"),
    ("time.compare('2027-03-04T06:00:00Z', '2027-03-04T07:00:00+01:00')", "number", "0"),
    ("time.format('2027-03-04T06:00:00Z', '%d.%m.%Y')", "string", r#""04.03.2027""#),
    ("time.fromUnix(0)", "instant", r#""1970-01-01T00:00:00Z""#),
    ("time.toUnix('1970-01-02T00:00:00Z')", "number", "86400"),
    ("time.in('2027-03-04T06:00:00Z', 'Europe/Oslo')", "instant", r#""2027-03-04T07:00:00+01:00""#),
    ("time.startOf('2027-03-04T06:30:00Z', 'day')", "instant", r#""2027-03-04T00:00:00Z""#),
    ("time.date('2026-12-24T23:30:00Z', 'Europe/Oslo')", "date", r#""2026-12-25""#),
    ("time.parse('24.12.2026', '%d.%m.%Y')", "date", r#""2026-12-24""#),
    ("time.parse('24.12.2026 18:30', '%d.%m.%Y %H:%M', 'Europe/Oslo')", "instant", r#""2026-12-24T18:30:00+01:00""#),
    ("time.week('2027-01-03')", "number", "53"),
    ("time.weekday('2027-01-03')", "number", "7"),
    ("time.addWorkingDays('2026-12-23', 2, ['2026-12-24', '2026-12-25'])", "date", r#""2026-12-29""#),
    ("time.isWorkingDay('2026-12-26')", "boolean", "false"),
    ("time.workingDays('2026-12-21', '2026-12-28', ['2026-12-25'])", "number", "4"),
    ("time.add('2026-01-31', '1 month')", "date", r#""2026-02-28""#),
    ("time.between('2026-12-24', '2027-01-03')", "number", "10"),
    ("time.compare('2026-12-24', '2027-01-03')", "number", "-1"),
    ("time.format('2026-12-24', '%d.%m.%Y')", "string", r#""24.12.2026""#),
    ("time.startOf('2026-12-24', 'week')", "date", r#""2026-12-21""#),
    ("digest.hash('SHA-1', 'abc')", "string", r#""a9993e364706816aba3e25717850c26c9cd0d89d""#),
    ("digest.hash('md5', 'abc', 'base64')", "string", r#""kAFQmDzST7DWlj99KOF/cg==""#),
    (
        "digest.hmac('sha-256', 'key', s)",
        "string",
        r#""94406e9041b7342f7edeecca63abb1d445d948a99b51783e7ccf06f72bd33d49""#,
    ),
    ("digest.base64url('a?>')", "string", r#""YT8-""#),
    ("digest.fromBase64url('YT8-')", "string", r#""a?>""#),
    (
        "html.links('<a href=b>B</a>', 'https://h.example/a')",
        "{text: string, url: string}[]",
        r#"[{"text":"B","url":"https://h.example/b"}]"#,
    ),
    ("html.main('<nav>x</nav><p>y')", "string", r#""y""#),
    ("html.meta('<title>T</title>').title", "string | null", r#""T""#),
    (
        "html.rows('<li><b>1</b><li>', 'li', {b: 'b', c: '@c'})",
        "{b: string | null, c: string | null}[]",
        r#"[{"b":"1","c":null},{"b":null,"c":null}]"#,
    ),
    (
        "html.select('<p class=x>a<p>b', 'p.x').map(p => [p.tag, p.text, p.attributes.class])",
        "(string | undefined)[][]",
        r#"[["p","a","x"]]"#,
    ),
    ("html.text('<p>a<p>b')", "string", r#""a\nb""#),
    ("html.text(['<p>a', '<p>b'])", "string", r#""a\nb""#),
    ("html.url('/x?y', 'https://h.example/')?.path", "string | undefined", r#""/x""#),
    ("digest.uuid(s)", "string", r#""71f50c7c-ace9-447a-8508-8cc2a706fb2a""#),
    ("list.scan(items, (sum, x) => sum + x, 0)", "number[]", "[3,4,6]"),
    ("digest.base64('a')", "string", r#""YQ==""#),
    ("digest.fromBase64('YQ==')", "string", r#""a""#),
    ("digest.hmacSha256('key', s)", "string", r#""94406e9041b7342f7edeecca63abb1d445d948a99b51783e7ccf06f72bd33d49""#),
    ("digest.sha256('')", "string", r#""e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855""#),
    ("list.chunk(items, 2)", "number[][]", "[[3,1],[2]]"),
    (
        "list.group(calls, c => `${c.berth}`)",
        "{…: {berth: number, note?: string}[]}",
        r#"{"2":[{"berth":2}],"4":[{"berth":4,"note":"ice"}]}"#,
    ),
    ("list.range(3)", "number[]", "[0,1,2]"),
    ("list.range(1, 9, 4)", "number[]", "[1,5]"),
    (
        "list.sortBy(calls, c => c.berth)",
        "{berth: number, note?: string}[]",
        r#"[{"berth":2},{"berth":4,"note":"ice"}]"#,
    ),
    ("list.sum(items)", "number", "6"),
    ("list.sum(calls, c => c.berth)", "number", "6"),
    ("list.unique([1, 1, 2])", "(1 | 2)[]", "[1,2]"),
    (
        "list.unique(calls, c => c.note)",
        "{berth: number, note?: string}[]",
        r#"[{"berth":4,"note":"ice"},{"berth":2}]"#,
    ),
    ("list.zip(items, [s])", "(number | string | undefined)[][]", r#"[[3,"Lindvik havn"]]"#),
    ("reveal(s)", "string", r#""Lindvik havn""#),
    ("structuredClone(items)", "number[]", "[3,1,2]"),
];

#[test]
fn functions_return_what_their_types_say() {
    hold(FUNCTIONS);
    covers(FUNCTIONS, Static::names(), |name| format!("{name}("));
}
