//! What is refused, what fails and how, and that nothing runs without bound. Agreement with ECMAScript itself is
//! tested in `tests/differential.rs`.

use super::template::Template;
use super::*;

fn scope() -> Scope {
    let mut scope = Scope::default();
    for name in ["input", "vessel", "items"] {
        scope.define(name);
    }
    scope
}

fn slots() -> Vec<Value> {
    vec![
        serde_json::from_str(r#"{"imo": "9074720", "big": 9007199254740993}"#).expect("json"),
        serde_json::from_str(r#"{"status": 200, "body": {"length_m": 132}}"#).expect("json"),
        Value::list((0..1000).map(Value::Int).collect()),
    ]
}

fn eval(text: &str) -> Result<String, String> {
    let expression = Expression::compile(text, &scope()).map_err(|f| format!("{f:?}"))?;
    expression.eval(&slots(), Limits::default()).map(|v| v.to_json()).map_err(|f| f.message)
}

#[test]
fn what_is_outside_the_language_is_refused_by_name_and_position() {
    for (text, code, start, says) in [
        ("a = 1", "expression-outside-language", 0, "assignment"),
        ("items.sort()", "unknown-function", 6, "`sort`"),
        ("items.push(1)", "unknown-function", 6, "`push`"),
        ("new Date()", "expression-outside-language", 0, "`new`"),
        ("1 + this.x", "expression-outside-language", 4, "`this`"),
        ("(() => 1)()", "expression-outside-language", 0, "calling"),
        ("x => x", "expression-outside-language", 0, "arrow"),
        ("items.map(x => { return x })", "expression-outside-language", 10, "statements"),
        ("Math.random()", "unknown-function", 0, "`Math.random`"),
        ("Math.flor(1)", "unknown-function", 0, "`Math.flor`"),
        ("vesel.body", "unknown-name", 0, "`vesel`"),
        ("fetch('x')", "expression-outside-language", 0, "`fetch`"),
        ("/(a)\\1/.test('a')", "pattern", 0, "back reference"),
        ("vessel.body.lenth()", "unknown-function", 12, "`lenth`"),
        ("items.map(1)", "wrong-arguments", 10, "function"),
        ("Math.round()", "wrong-arguments", 0, "1 argument"),
        ("'a'.replaceAll(/a/, 'b')", "pattern", 15, "flag `g`"),
        ("10n", "expression-outside-language", 0, "BigInt"),
        ("1 +", "expression-syntax", 3, "ends too early"),
        ("Math", "expression-outside-language", 0, "not a value"),
        ("{...input, get a() { return 1 }}", "expression-outside-language", 11, "accessor"),
        ("items instanceof 1", "expression-outside-language", 0, "instanceof"),
        ("(1, 2)", "expression-outside-language", 1, "comma"),
    ] {
        let faults = Expression::compile(text, &scope()).expect_err(text);
        assert_eq!((faults[0].code, faults[0].at.start), (code, start), "{text}: {faults:?}");
        assert!(faults[0].message.contains(says), "{text}: {}", faults[0].message);
    }
}

#[test]
fn all_faults_of_an_expression_are_reported() {
    let faults = Expression::compile("vesel.a + inptu.b + Math.flor(1)", &scope()).expect_err("faults");
    let helps: Vec<_> = faults.iter().filter_map(|f| f.help.as_deref()).collect();
    assert_eq!(helps, ["did you mean `vessel`?", "did you mean `input`?", "did you mean `Math.floor`?"]);
}

#[test]
fn failures_say_what_met_what() {
    for (text, says) in [
        ("vessel.headers.etag", "`vessel.headers` is undefined, which has no member `etag`"),
        ("vessel.body.map(x => x)", "`map` was called on an object, which has no such method"),
        ("[...5]", "`5` is a number, which cannot be spread"),
        ("JSON.parse('{')", "not JSON"),
        ("html.select('<p>', 'p >')", "`p >` is no CSS selector"),
        ("html.text('<div>'.repeat(600))", "nested deeper than 512"),
        ("html.rows('<p>', 'p', null)", "takes fields by name"),
        ("html.text(7)", "takes the text of a page"),
        ("time.add('soon', '1h')", "neither an RFC 3339 instant"),
        ("'a' in 'b'", "`in` needs an object"),
    ] {
        let message = eval(text).expect_err(text);
        assert!(message.contains(says), "{text}: {message}");
    }
}

#[test]
fn integers_keep_their_bits_when_passed_through() {
    assert_eq!(eval("9007199254740993"), Ok("9007199254740993".into()), "written out, too");
    assert_eq!(eval("input.big"), Ok("9007199254740993".into()));
    assert_eq!(eval("`${input.big}`"), Ok("\"9007199254740993\"".into()));
    assert_eq!(
        eval("{id: input.big, same: input.big === input.big}"),
        Ok(r#"{"id":9007199254740993,"same":true}"#.into())
    );
}

#[test]
fn our_own_functions_work() {
    for (text, wanted) in [
        ("time.add('2027-03-04T06:00:00Z', '2 days')", r#""2027-03-06T06:00:00Z""#),
        ("time.add('2027-03-27T12:00:00+01:00', 'P1D', 'Europe/Oslo')", r#""2027-03-28T12:00:00+02:00""#),
        ("time.subtract('2027-03-31T00:00:00Z', '1 month')", r#""2027-02-28T00:00:00Z""#),
        ("time.between('2027-03-04T06:00:00Z', '2027-03-04T18:00:00Z', 'hours')", "12"),
        ("time.compare('2027-03-04T06:00:00Z', '2027-03-04T07:00:00+01:00')", "0"),
        ("time.format('2027-03-04T06:00:00Z', '%d.%m.%Y %H:%M', 'Europe/Oslo')", r#""04.03.2027 07:00""#),
        ("time.startOf('2027-03-04T06:30:00Z', 'week')", r#""2027-03-01T00:00:00Z""#),
        ("time.in('2027-07-04T06:30:00Z', 'Europe/Oslo')", r#""2027-07-04T08:30:00+02:00""#),
        ("time.toUnix(time.fromUnix(1804226400))", "1804226400"),
        ("digest.sha256('abc').slice(0, 8)", r#""ba7816bf""#),
        ("digest.hmacSha256('key', 'The quick brown fox jumps over the lazy dog').slice(0, 8)", r#""f7bc83f4""#),
        ("digest.fromBase64(digest.base64('Nesholm'))", r#""Nesholm""#),
        ("list.group([1, 2, 3], x => x % 2 ? 'odd' : 'even')", r#"{"odd":[1,3],"even":[2]}"#),
        ("list.unique([{a: 1}, {a: 1}, {a: '1'}])", r#"[{"a":1},{"a":"1"}]"#),
        ("list.sum(items)", "499500"),
        ("list.sum([{n: 1}, {n: 2.5}], x => x.n)", "3.5"),
        ("list.chunk([1, 2, 3], 2)", "[[1,2],[3]]"),
        ("list.range(1, 4)", "[1,2,3]"),
        ("list.zip([1, 2], ['a', 'b'])", r#"[[1,"a"],[2,"b"]]"#),
        ("list.sortBy([{n: 3}, {n: 1}], x => x.n)", r#"[{"n":1},{"n":3}]"#),
    ] {
        assert_eq!(eval(text), Ok(wanted.into()), "{text}");
    }
}

#[test]
fn nothing_runs_away() {
    let nested = "items.map(a => items.map(b => items.map(c => c)))";
    let doubling = "items.reduce((a, x) => a + a, 'xxxxxxxx')";
    let growing = "items.reduce((a, x) => [...a, ...a], [1, 2])";
    let deep = "items.reduce((a, x) => [a], [])";
    let padded = "'x'.padEnd(1e15)";
    let sorted = "list.range(0, 4e6).toSorted((a, b) => a - b)";
    let units = "items.map(i => 'x'.repeat(5e7)[i])";
    for (text, says) in [
        (nested, "units of work"),
        (doubling, "and was ended"),
        (growing, "and was ended"),
        (deep, "deeper"),
        (padded, "MiB"),
        (sorted, "and was ended"),
        (units, "and was ended"),
    ] {
        let message = eval(text).expect_err(text);
        assert!(message.contains(says), "{text}: {message}");
    }
}

#[test]
fn hostile_texts_are_refused_not_fatal() {
    let deep = |open: &str, close: &str| format!("{}1{}", open.repeat(3000), close.repeat(3000));
    for text in [
        deep("(", ")"),
        deep("[", "]"),
        deep("-(", ")"),
        deep("!", ""),
        deep("- ", ""),
        deep("`${", "}`"),
        deep("{a:", "}"),
        "1+".repeat(8000),
        format!("1{}", "+1".repeat(8000)),
        "x=>".repeat(5000),
        "1?1:".repeat(4000),
        format!("items{}", ".a".repeat(5000)),
        format!("items{}", "[0".repeat(5000)),
        "\u{0}".into(),
        "9".repeat(20_000),
        "(".repeat(16_000),
    ] {
        assert!(Expression::compile(&text, &scope()).is_err(), "{}", &text[..20.min(text.len())]);
    }
}

#[test]
fn the_parts_of_a_text_share_one_budget() {
    let big = Value::text("x".repeat(1 << 20));
    let most = Limits { work: 200_000, ..Limits::default() };
    // What is done in one part is missing in the others; what is written is charged for; the whole is bounded.
    let cases = [
        ("${items.map(n => n).length}".repeat(20), 5_000, "units of work"),
        ("${big}".repeat(100), u64::MAX, "MiB"),
        ("${big}".repeat(20), 200_000, "units of work"),
    ];
    for (text, work, says) in cases {
        let mut scope = Scope::default();
        scope.define("items");
        scope.define("big");
        let items = Value::list((0..1_000).map(Value::Int).collect());
        let template = Template::compile(&text, &scope).expect("a text");
        let slots = [items, big.clone()];
        let error = template.eval(&slots, Limits { work, ..most }).expect_err(says);
        assert_eq!(error.kind, ErrorKind::Budget);
        assert!(error.message.contains(says), "{}", error.message);
    }
}

/// What is converted without a charge is work that no budget ends; the conversions of `ops::charged` are the only ones
/// that evaluations may use.
#[test]
fn evaluations_convert_nothing_without_a_charge() {
    let folder = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("src/expr");
    let inside = |name: &str| std::fs::read_dir(folder.join(name)).expect("a folder");
    let inside = inside("methods").chain(inside("script"));
    let files = inside.map(|entry| entry.expect("a file").path()).chain([folder.join("eval.rs")]);
    let mut read = 0;
    for file in files {
        let text = std::fs::read_to_string(&file).expect("a source");
        read += 1;
        for free in ["ops::to_text", "ops::to_number", "ops::write_text", "ops::primitive"] {
            assert!(!text.contains(free), "{}: {free} is not charged for", file.display());
        }
    }
    assert_eq!(read, 16);
}

/// Operators over all kinds of values, computed without an evaluation and by one.
#[test]
fn quick_values_are_those_of_the_evaluation() {
    let values =
        ["input.big", "-1", "0", "2.5", "1e300", "''", "'a'", "'10'", "true", "null", "undefined", "input.imo"];
    let operators = ["===", "!==", "==", "!=", "<", "<=", ">", ">=", "+", "-", "*", "/", "%", "**", "&", "<<", ">>>"];
    let pairs = values.iter().flat_map(|a| values.iter().map(move |b| (a, b)));
    let both = pairs.flat_map(|(a, b)| operators.iter().map(move |op| format!("({a}) {op} ({b})")));
    let more = [
        "vessel.body.length_m * 3.2 > 400 && vessel.status === 200",
        "vessel.body?.length_m ?? 7",
        "vessel.mast?.height ?? 7",
        "!vessel.body",
        "items[3] < items[4] ? vessel.body : items[0]",
        "items[-1] || items[1000]",
        "items > 1",
        "vessel.body === vessel.body",
        "input.imo && input.big",
        "input.imo > 1 || input.big > 1",
        "!(vessel.status > 1) && input.imo === '1' || vessel.body.length_m / 2 >= 1",
        "vessel.body.length_m + 1 - 2 * 3 / 4 % 5 + 6 + 7 + 8 > 10",
        "input.imo + 1 + 2 + 3 + 4 + 5 + 6 === 'a'",
        "(input.big - 1) * 2 < 2 ** 60 && input.big * 0 === 0",
    ];
    let mut quick = 0;
    for text in both.chain(more.map(str::to_owned)) {
        let Ok(expression) = Expression::compile(&text, &scope()) else { continue };
        let slots = slots();
        let found = quick::value(&expression.expr, &quick::Names::of(&slots), &mut 0).filter(|_| expression.quick);
        let (whole, _) =
            eval::run(&text, &expression.expr, expression.locals, &slots, Meter::new(Limits::default()), None);
        if let Some(found) = found {
            quick += 1;
            // NaN is not equal to itself; as text it is.
            assert_eq!(Ok(format!("{:?}", found.into_value())), whole.map(|value| format!("{value:?}")), "{text}");
        }
    }
    assert!(quick > 1000, "{quick}");
}

/// A function of one parameter is computed without an evaluation, one of two by one.
#[test]
fn quick_functions_return_what_an_evaluation_does() {
    let list = "[1, -2.5, 'ab', null, true, [1, 2], {n: 3, of: {m: 'x'}}, {n: '3'}, {of: null}, {}]";
    let bodies = [
        "x",
        "7",
        "x.n",
        "x?.n",
        "x?.of?.m",
        "x?.of.m",
        "x[0]",
        "x.n > 2",
        "x?.n === 3 && x?.of?.m === 'x'",
        "x?.n ?? vessel.status",
        "!x || x.n",
        "x > 0 ? x * 2 : vessel.body.length_m",
        "x + 1",
        "x === x",
        "x * x - 1 < 2",
        "items.some(y => y === x)",
        "items.filter(y => y > x).length",
    ];
    for body in bodies {
        let whole = eval(&format!("{list}.map((x, i) => {body})"));
        assert_eq!(eval(&format!("{list}.map(x => {body})")), whole, "{body}");
    }
    assert_eq!(eval("list.sum([{n: 1}, {n: 2.5}, {n: '4'}], x => x.n)"), Ok("7.5".into()));
}
