//! Real ECMAScript is the oracle: every expression is evaluated here and in Node over the same names;
//! the JSON of the results, and which of them are errors, must agree.

use std::io::Write;
use std::process::{Command, Stdio};

use kanzlei_lang::expr::{Expression, Limits, Scope};
use kanzlei_model::value::Value;
use kanzlei_samples::{Dice, in_batch, rounds};

const NAMES: &str = r#"{
    "n": 7, "f": 2.5, "s": "Lindvik havn", "u": "Ås 😀 ø", "items": [3, 1, 2], "nil": null, "dues": 1472.4861,
    "vessels": [{"name": "Havbris", "length_m": 132, "tags": ["dry", "ice"]}, {"name": "Tare", "length_m": 87.5}, {"name": "Kvikk", "length_m": 24, "tags": []}],
    "o": {"b": 1, "a": {"c": [1, 2]}, "2": "x", "1": "y"}
}"#;

const NODE: &str = r#"
const {names, expressions} = JSON.parse(require('fs').readFileSync(0, 'utf8'));
const keys = Object.keys(names);
const out = expressions.map(text => {
    try {
        const value = new Function(...keys, `"use strict"; return (${text}\n)`)(...keys.map(k => names[k]));
        // Half of a surrogate pair becomes U+FFFD here; see the handbook on expressions.
        const json = JSON.stringify(value, (_, v) => typeof v === 'string' ? v.toWellFormed() : v);
        return json === undefined ? 'undefined' : json;
    } catch (error) { return 'error'; }
});
process.stdout.write(JSON.stringify(out));
"#;

fn in_node(expressions: &[String]) -> Vec<String> {
    let mut node = Command::new("node")
        .args(["-e", NODE])
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .spawn()
        .expect("node is installed");
    let names: serde_json::Value = serde_json::from_str(NAMES).expect("names");
    let question = serde_json::json!({"names": names, "expressions": expressions}).to_string();
    node.stdin.take().expect("stdin").write_all(question.as_bytes()).expect("node reads");
    let output = node.wait_with_output().expect("node ends");
    assert!(output.status.success());
    serde_json::from_slice(&output.stdout).expect("node answers")
}

fn here(text: &str, scope: &Scope, slots: &[Value]) -> Result<String, String> {
    let expression = Expression::compile(text, scope).map_err(|faults| format!("refused: {faults:?}"))?;
    Ok(match expression.eval(slots, Limits::default()) {
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
    /// Index of the expression, and how it differs.
    differences: Vec<(usize, String)>,
    refused: usize,
}

/// Compares expressions with Node; one that does not compile differs, or counts as refused where that is allowed.
fn differences(expressions: &[String], refusals_allowed: bool) -> Found {
    let (scope, slots) = names();
    let theirs = in_node(expressions);
    assert_eq!(theirs.len(), expressions.len());
    let mut found = Found::default();
    for (index, (text, theirs)) in expressions.iter().zip(&theirs).enumerate() {
        match here(text, &scope, &slots) {
            Ok(ours) if agree(&ours, theirs) => {}
            Ok(ours) => found.differences.push((index, format!("{text}\n    here {ours}\n    node {theirs}"))),
            Err(_) if refusals_allowed => found.refused += 1,
            Err(why) => found.differences.push((index, format!("{text}\n    {why}\n    node {theirs}"))),
        }
    }
    println!("{} expressions, {} refused, {} differences", expressions.len(), found.refused, found.differences.len());
    found
}

fn compare(expressions: &[String]) {
    let differ: Vec<String> = differences(expressions, false).differences.into_iter().map(|(_, how)| how).collect();
    let shown = differ[..differ.len().min(40)].join("\n");
    assert!(differ.is_empty(), "{} of {} differ:\n{shown}", differ.len(), expressions.len());
}

#[test]
fn written_expressions_agree_with_node() {
    let lines: Vec<String> =
        include_str!("expressions.txt").lines().filter(|l| !l.starts_with('#')).map(str::to_owned).collect();
    assert!(lines.len() > 350, "{}", lines.len());
    compare(&lines);
}

#[test]
fn operators_agree_with_node_on_all_pairs_of_values() {
    let values = [
        "0",
        "-0",
        "1",
        "-7",
        "2.5",
        "NaN",
        "Infinity",
        "9007199254740992",
        "''",
        "'7'",
        "'a'",
        "null",
        "undefined",
        "true",
        "false",
        "[]",
        "[2]",
        "[1,2]",
        "({})",
        "4294967297",
    ];
    let operators = [
        "+", "-", "*", "/", "%", "**", "&", "|", "^", "<<", ">>", ">>>", "<", "<=", ">", ">=", "==", "!=", "===",
        "!==", "&&", "||", "??",
    ];
    let mut expressions = Vec::new();
    for a in values {
        for b in values {
            for op in operators {
                // A unary minus needs brackets before `**`; `===` on integers beyond 2^53 is exact here.
                expressions.push(format!("({a}) {op} ({b})"));
            }
        }
    }
    compare(&expressions);
}

/// Makes expressions of all constructs, mostly of fitting types.
struct Generator<'d>(&'d mut Dice);

impl Generator<'_> {
    fn below(&mut self, n: usize) -> usize {
        self.0.below(n)
    }

    fn pick<'a>(&mut self, from: &[&'a str]) -> &'a str {
        from[self.0.below(from.len())]
    }

    fn number(&mut self, depth: u32) -> String {
        if depth == 0 {
            return self
                .pick(&["n", "f", "0", "1", "3", "-2", "10", "0.5", "items[0]", "s.length", "items.length", "dues"])
                .into();
        }
        let d = depth - 1;
        match self.below(12) {
            0 => format!("({} {} {})", self.number(d), self.pick(&["+", "-", "*", "/", "%"]), self.number(d)),
            1 => format!(
                "Math.{}({})",
                self.pick(&["round", "floor", "ceil", "abs", "trunc", "sign", "sqrt"]),
                self.number(d)
            ),
            2 => format!("Math.{}({}, {})", self.pick(&["max", "min"]), self.number(d), self.number(d)),
            3 => format!("({} ? {} : {})", self.truth(d), self.number(d), self.number(d)),
            4 => format!("{}.length", self.list(d)),
            5 => format!("{}.length", self.text(d)),
            6 => format!("{}.reduce((a, x) => a + x, {})", self.numbers(d), self.number(d)),
            7 => format!("Number({})", self.any(d)),
            8 => format!("{}.indexOf({})", self.text(d), self.text(0)),
            9 => format!("({} {} {})", self.number(d), self.pick(&["&", "|", "^", "<<", ">>", ">>>"]), self.number(d)),
            10 => format!("(-{})", self.number(d)),
            _ => format!("({}[{}] ?? {})", self.numbers(d), self.number(0), self.number(d)),
        }
    }

    fn text(&mut self, depth: u32) -> String {
        if depth == 0 {
            return self.pick(&["s", "'a'", "''", "'Nesholm 7'", "vessels[0].name", "o[1]", "'b,c,d'"]).into();
        }
        let d = depth - 1;
        match self.below(12) {
            0 => format!("`${{{}}}-${{{}}}`", self.any(d), self.text(d)),
            1 => format!("({} + {})", self.text(d), self.any(d)),
            2 => format!("{}.{}()", self.text(d), self.pick(&["toUpperCase", "toLowerCase", "trim", "toString"])),
            3 => format!("{}.slice({}, {})", self.text(d), self.number(0), self.number(0)),
            4 => format!(
                "{}.replace(/{}/{}, {})",
                self.text(d),
                self.pick(&["[a-m]", "i", "\\\\d+", "(.)(.)"]).replace("\\\\", "\\"),
                self.pick(&["g", "", "gi"]),
                self.pick(&["'$&$&'", "'-'", "m => m + '!'", "'$1'"])
            ),
            5 => format!("{}.padStart({}, '*')", self.text(d), self.pick(&["3", "8", "n"])),
            6 => format!("{}.join({})", self.list(d), self.text(0)),
            7 => format!("String({})", self.any(d)),
            8 => format!("({} || {})", self.text(d), self.text(d)),
            9 => format!("({}[{}] ?? '')", self.text(d), self.number(0)),
            10 => format!("JSON.stringify({})", self.any(d)) + " + ''",
            _ => format!("{}.charAt({})", self.text(d), self.number(0)),
        }
    }

    fn truth(&mut self, depth: u32) -> String {
        if depth == 0 {
            return self.pick(&["true", "false", "n > 5", "s === 'x'", "!nil"]).into();
        }
        let d = depth - 1;
        match self.below(8) {
            0 => format!(
                "({} {} {})",
                self.number(d),
                self.pick(&["<", "<=", ">", ">=", "===", "!==", "=="]),
                self.number(d)
            ),
            1 => format!("({} {} {})", self.text(d), self.pick(&["<", "===", "!==", ">="]), self.text(d)),
            2 => format!("({} {} {})", self.truth(d), self.pick(&["&&", "||"]), self.truth(d)),
            3 => format!("!{}", self.truth(d)),
            4 => format!("{}.includes({})", self.text(d), self.text(0)),
            5 => format!("{}.{}(x => x > {})", self.numbers(d), self.pick(&["some", "every"]), self.number(0)),
            6 => format!("/{}/.test({})", self.pick(&["a", "^[A-Z]", "k$", "."]), self.text(d)),
            _ => format!("Boolean({})", self.any(d)),
        }
    }

    fn numbers(&mut self, depth: u32) -> String {
        if depth == 0 {
            return self.pick(&["items", "[5, 6]", "[]", "[1.5, -1, 0]", "o.a.c"]).into();
        }
        let d = depth - 1;
        match self.below(7) {
            0 => format!(
                "{}.map((x, i) => x {} {})",
                self.numbers(d),
                self.pick(&["+", "*", "-"]),
                self.pick(&["i", "2", "x"])
            ),
            1 => format!("{}.filter(x => x {} {})", self.numbers(d), self.pick(&[">", "<", "!=="]), self.number(0)),
            2 => format!("[...{}, {}]", self.numbers(d), self.number(d)),
            3 => format!("{}.toSorted((a, b) => {})", self.numbers(d), self.pick(&["a - b", "b - a"])),
            4 => format!("{}.slice({})", self.numbers(d), self.number(0)),
            5 => format!("vessels.map(v => v.length_m {} {})", self.pick(&["+", "*"]), self.number(d)),
            _ => format!("{}.concat({})", self.numbers(d), self.numbers(d)),
        }
    }

    fn list(&mut self, depth: u32) -> String {
        if depth == 0 {
            return self.pick(&["items", "vessels", "['x', 1, null]", "s.split(' ')"]).into();
        }
        let d = depth - 1;
        match self.below(8) {
            0 => self.numbers(d),
            1 => format!("{}.split({})", self.text(d), self.pick(&["''", "' '", "'i'", "/[ai]/"])),
            2 => format!("[{}, {}]", self.any(d), self.any(d)),
            3 => format!("Object.{}({})", self.pick(&["keys", "values", "entries"]), self.object(d)),
            4 => format!("{}.map(x => [x, {}])", self.list(d), self.any(d)),
            5 => format!("{}.toReversed()", self.list(d)),
            6 => format!("{}.flatMap(x => [x, {}])", self.list(d), self.number(d)),
            _ => format!(
                "vessels.filter(v => {}).map(({{name, tags = []}}) => ({{name, t: tags.length}}))",
                self.truth(d)
            ),
        }
    }

    fn object(&mut self, depth: u32) -> String {
        if depth == 0 {
            return self.pick(&["o", "vessels[0]", "({})", "({k: n})"]).into();
        }
        let d = depth - 1;
        match self.below(4) {
            0 => format!("({{a: {}, b: {}, 3: {}}})", self.any(d), self.any(d), self.any(d)),
            1 => format!("({{...{}, [{}]: {}}})", self.object(d), self.text(0), self.any(d)),
            2 => format!("Object.fromEntries({}.map((x, i) => ['k' + i, x]))", self.list(d)),
            _ => format!("({} ? {} : {})", self.truth(d), self.object(d), self.object(d)),
        }
    }

    fn any(&mut self, depth: u32) -> String {
        match self.below(9) {
            0 | 1 => self.number(depth),
            2 | 3 => self.text(depth),
            4 => self.truth(depth),
            5 => self.list(depth),
            6 => self.object(depth),
            7 => format!("{}.zz?.q", self.object(depth)),
            _ => self.pick(&["nil", "undefined", "nil.x", "o.zz.q", "nil?.x"]).into(),
        }
    }
}

#[test]
fn generated_expressions_agree_with_node() {
    let generate = |dice: &mut Dice| {
        let depth = 1 + dice.below(5) as u32;
        Generator(dice).any(depth)
    };
    let mut refused = 0;
    in_batch(6000, 60, generate, |expressions| {
        let found = differences(expressions, true);
        refused += found.refused;
        found.differences
    });
    let total = rounds(6000);
    assert!(refused * 20 < total as usize, "too many are refused: {refused} of {total}");
}
