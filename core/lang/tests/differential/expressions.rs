//! Expressions: written ones, all pairs of operands, generated ones.

use kanzlei_samples::{Dice, in_batch, rounds};

use super::{Kind, compare, differences};

#[test]
fn written_expressions_agree_with_node() {
    let lines: Vec<String> =
        include_str!("expressions.txt").lines().filter(|l| !l.starts_with('#')).map(str::to_owned).collect();
    assert!(lines.len() > 350, "{}", lines.len());
    compare(&lines, Kind::Expressions);
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
    compare(&expressions, Kind::Expressions);
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
        let found = differences(expressions, Kind::Expressions, true);
        refused += found.refused;
        found.differences
    });
    let total = rounds(6000);
    assert!(refused * 20 < total as usize, "too many are refused: {refused} of {total}");
}
