//! Scripts: written ones and generated ones.

use kanzlei_lang::expr::{ErrorKind, Expression, Limits};
use kanzlei_lang::types::{Env, Type, contradiction};
use kanzlei_samples::{Dice, in_batch, rounds, with_dice};

use super::{Kind, compare, differences};

#[test]
fn written_scripts_agree_with_node() {
    let scripts: Vec<String> = include_str!("scripts.txt").split("\n---\n").map(str::to_owned).collect();
    assert!(scripts.len() > 60, "{}", scripts.len());
    compare(&scripts, Kind::Scripts);
}

/// What a name holds.
#[derive(Clone, Copy, PartialEq)]
enum Of {
    Number,
    Text,
    Numbers,
    Rows,
    Counts,
}

/// Makes scripts of all statements: names of known kinds, loops that end, everything that was made is returned.
struct Generator<'d> {
    dice: &'d mut Dice,
    names: Vec<(String, Of, bool)>,
    functions: Vec<String>,
    made: u32,
    loops: u32,
}

impl Generator<'_> {
    fn below(&mut self, n: usize) -> usize {
        self.dice.below(n)
    }

    fn pick<'a>(&mut self, from: &[&'a str]) -> &'a str {
        from[self.dice.below(from.len())]
    }

    fn fresh(&mut self, of: Of, changes: bool) -> String {
        self.made += 1;
        let name = format!("v{}", self.made);
        self.names.push((name.clone(), of, changes));
        name
    }

    /// A name of a kind that can be assigned to, where that is asked for.
    fn name(&mut self, of: Of, changes: bool) -> Option<String> {
        let known: Vec<&(String, Of, bool)> =
            self.names.iter().filter(|(_, kind, can)| *kind == of && (*can || !changes)).collect();
        if known.is_empty() { None } else { Some(known[self.dice.below(known.len())].0.clone()) }
    }

    fn number(&mut self, depth: u32) -> String {
        if depth == 0 || self.below(3) == 0 {
            let fixed = self.pick(&["n", "f", "0", "1", "7", "-3", "items[1]", "s.length"]).to_owned();
            return self.name(Of::Number, false).filter(|_| self.dice.below(4) > 0).unwrap_or(fixed);
        }
        let d = depth - 1;
        match self.below(9) {
            0 | 1 => format!("({} {} {})", self.number(d), self.pick(&["+", "-", "*", "%", "&", "|"]), self.number(d)),
            2 => format!("({} ? {} : {})", self.truth(d), self.number(d), self.number(d)),
            3 => format!("{}.length", self.numbers(d)),
            4 => format!("{}.length", self.text(d)),
            5 => format!("({}[{}] ?? {})", self.numbers(d), self.number(0), self.number(d)),
            6 => format!("Math.{}({}, 9)", self.pick(&["max", "min"]), self.number(d)),
            7 if !self.functions.is_empty() => {
                let at = self.below(self.functions.len());
                format!("{}({}, {})", self.functions[at].clone(), self.number(d), self.number(d))
            }
            7 => format!("Number({})", self.text(d)),
            _ => format!("{}.reduce((a, x) => a + x, {})", self.numbers(d), self.number(d)),
        }
    }

    fn text(&mut self, depth: u32) -> String {
        if depth == 0 || self.below(3) == 0 {
            let fixed = self.pick(&["s", "'a'", "''", "'Ås ø'", "vessels[0].name"]).to_owned();
            return self.name(Of::Text, false).filter(|_| self.dice.below(4) > 0).unwrap_or(fixed);
        }
        let d = depth - 1;
        match self.below(5) {
            0 => format!("`${{{}}}-${{{}}}`", self.number(d), self.text(d)),
            1 => format!("({} + {})", self.text(d), self.text(d)),
            2 => format!("{}.slice({}, {})", self.text(d), self.number(0), self.number(0)),
            3 => format!("{}.join('/')", self.numbers(d)),
            _ => format!("JSON.stringify({})", self.rows(d)),
        }
    }

    fn truth(&mut self, depth: u32) -> String {
        let d = depth.saturating_sub(1);
        match self.below(5) {
            0 => format!("{} {} {}", self.number(d), self.pick(&["<", ">", "===", "!==", "<="]), self.number(d)),
            1 => format!("{}.includes({})", self.numbers(d), self.number(d)),
            2 => format!("({} {} {})", self.truth(0), self.pick(&["&&", "||"]), self.number(d)),
            3 => format!("'k{}' in {}", self.below(3), self.counts()),
            _ => format!("{}.length % 2 === 0", self.text(d)),
        }
    }

    fn numbers(&mut self, depth: u32) -> String {
        if depth == 0 || self.below(3) == 0 {
            let fixed = self.pick(&["items", "[4, 5, 6]", "[]", "o.a.c"]).to_owned();
            return self.name(Of::Numbers, false).filter(|_| self.dice.below(4) > 0).unwrap_or(fixed);
        }
        let d = depth - 1;
        match self.below(6) {
            0 => format!("{}.map((x, i) => x {} i)", self.numbers(d), self.pick(&["+", "*"])),
            1 => format!("{}.filter(x => x {} {})", self.numbers(d), self.pick(&[">", "<"]), self.number(0)),
            2 => format!("[...{}, {}]", self.numbers(d), self.number(d)),
            3 => format!("{}.concat({})", self.numbers(d), self.numbers(d)),
            4 => format!("{}.slice({})", self.numbers(d), self.number(0)),
            _ => format!("{}.map(r => r.a)", self.rows(d)),
        }
    }

    fn rows(&mut self, depth: u32) -> String {
        let known = self.name(Of::Rows, false).filter(|_| self.dice.below(4) > 0);
        match (known, self.below(4)) {
            (Some(name), 0) => format!("{name}.filter(r => r.a > 1)"),
            (Some(name), 1) => format!("{name}.toSorted((x, y) => x.a - y.a)"),
            (Some(name), _) => name,
            (None, _) => format!("[{{a: {}, b: {}}}]", self.number(depth.min(1)), self.text(0)),
        }
    }

    fn counts(&mut self) -> String {
        self.name(Of::Counts, false).unwrap_or_else(|| "({k1: 1})".to_owned())
    }

    fn block(&mut self, depth: u32) -> String {
        let names = self.names.len();
        let functions = self.functions.len();
        let count = 1 + self.below(3);
        let statements: Vec<String> = (0..count).map(|_| self.statement(depth)).collect();
        self.names.truncate(names);
        self.functions.truncate(functions);
        format!("{{ {} }}", statements.join(" "))
    }

    fn declaration(&mut self) -> String {
        let changes = self.below(2) == 0;
        let word = if changes { "let" } else { "const" };
        let (of, value) = match self.below(6) {
            0 | 1 => (Of::Number, self.number(2)),
            2 => (Of::Text, self.text(2)),
            3 => (Of::Numbers, format!("[...{}]", self.numbers(2))),
            4 => (Of::Rows, format!("[{{a: {}, b: {}}}, {{a: 2, b: 'z'}}]", self.number(1), self.text(1))),
            _ => (Of::Counts, format!("{{k1: {}}}", self.number(1))),
        };
        let name = self.fresh(of, changes);
        format!("{word} {name} = {value};")
    }

    fn change(&mut self) -> String {
        let of = [Of::Number, Of::Text, Of::Numbers, Of::Rows, Of::Counts][self.below(5)];
        let assigned = matches!(of, Of::Number | Of::Text);
        let Some(name) = self.name(of, assigned) else { return self.declaration() };
        match (of, self.below(7)) {
            (Of::Number, 0) => format!("{name}++;"),
            (Of::Number, 1) => format!("{name} = {};", self.number(2)),
            (Of::Number, _) => format!("{name} {}= {};", self.pick(&["+", "-", "*", "??", "||"]), self.number(1)),
            (Of::Text, 0) => format!("{name} = {};", self.text(2)),
            (Of::Text, _) => format!("{name} += {};", self.text(1)),
            (Of::Numbers, 0) => format!("{name}.push({}, {});", self.number(1), self.number(0)),
            (Of::Numbers, 1) => format!("if ({name}.length > 0) {{ {name}[0] += {}; }}", self.number(1)),
            (Of::Numbers, 2) => format!("{name}.splice({}, 1, {});", self.below(3), self.number(1)),
            (Of::Numbers, 3) => format!("{name}.sort((x, y) => (y || 0) - (x || 0));"),
            (Of::Numbers, 4) => format!("{name}.{}();", self.pick(&["pop", "shift", "reverse"])),
            (Of::Numbers, _) => format!("{name}.push({});", self.number(1)),
            (Of::Rows, 0) => format!("{name}.push({{a: {}, b: {}}});", self.number(1), self.text(1)),
            (Of::Rows, 1) => format!("for (const r of {name}) {{ r.a += {}; }}", self.number(0)),
            (Of::Rows, 2) => format!("{name}.forEach(r => {{ r.c = {}; }});", self.number(1)),
            (Of::Rows, 3) => {
                let other = self.fresh(Of::Rows, false);
                format!("const {other} = {name};")
            }
            (Of::Rows, 4) => {
                let other = self.fresh(Of::Rows, false);
                format!("const {other} = structuredClone({name});")
            }
            (Of::Rows, _) => format!("if ({name}[0]) {{ {name}[0].b += {}; }}", self.text(0)),
            (Of::Counts, 0) => format!("delete {name}.k{};", self.below(3)),
            (Of::Counts, _) => {
                let key = self.below(3);
                format!("{name}.k{key} = ({name}.k{key} ?? 0) + {};", self.number(1))
            }
        }
    }

    fn statement(&mut self, depth: u32) -> String {
        if depth == 0 {
            return if self.below(3) == 0 { self.declaration() } else { self.change() };
        }
        let d = depth - 1;
        match self.below(13) {
            0 => self.declaration(),
            1..=4 => self.change(),
            5 => format!("if ({}) {} else {}", self.truth(1), self.block(d), self.block(d)),
            6 => format!("if ({}) {}", self.truth(1), self.block(d)),
            7 if self.loops < 3 => {
                self.loops += 1;
                let (names, list) = (self.names.len(), self.numbers(1));
                let item = self.fresh(Of::Number, false);
                let out = format!("for (const {item} of [...{list}].slice(0, 6)) {}", self.loop_body(d));
                self.names.truncate(names);
                self.loops -= 1;
                out
            }
            8 if self.loops < 3 => {
                self.loops += 1;
                let names = self.names.len();
                let at = self.fresh(Of::Number, false);
                let out = format!("for (let {at} = 0; {at} < {}; {at}++) {}", 1 + self.below(5), self.loop_body(d));
                self.names.truncate(names);
                self.loops -= 1;
                out
            }
            9 => {
                let cases: Vec<String> = (0..3)
                    .map(|case| {
                        let ends = self.pick(&["break;", ""]);
                        format!("case {case}: {} {ends}", self.block(d))
                    })
                    .collect();
                let last = if self.below(2) == 0 { format!("default: {}", self.block(d)) } else { String::new() };
                format!("switch ({} % 3) {{ {} {last} }}", self.number(1), cases.join(" "))
            }
            10 => {
                let last = if self.below(3) == 0 { format!("finally {}", self.block(d)) } else { String::new() };
                let fails = self.pick(&["nil.x;", "throw {a: 1};", "throw 'x';", "", "items.push(1);"]).to_owned();
                // What cannot run is refused before it does.
                let fails = if fails == "items.push(1);" { "const w = items; w.push(1);".to_owned() } else { fails };
                let names = self.names.len();
                let tried = self.change();
                self.names.truncate(names);
                format!("try {{ {tried} {fails} }} catch (e) {} {last}", self.block(d))
            }
            11 => {
                let names = self.names.len();
                self.made += 1;
                let name = format!("g{}", self.made);
                let (a, b) = (self.fresh(Of::Number, true), self.fresh(Of::Number, true));
                let body = self.block(d);
                let of = self.number(1);
                self.names.truncate(names);
                self.functions.push(name.clone());
                format!("const {name} = ({a}, {b} = 2) => {{ {body} return {of}; }};")
            }
            _ => format!("{{ {} }}", self.block(d)),
        }
    }

    /// The body of a loop, which may end or go on early.
    fn loop_body(&mut self, depth: u32) -> String {
        let block = self.block(depth);
        let early = self.pick(&["break;", "continue;", ""]);
        format!("{{ if ({}) {{ {early} }} {block} }}", self.truth(0))
    }

    fn script(&mut self) -> String {
        let mut statements: Vec<String> = vec![self.declaration(), self.declaration()];
        let count = 2 + self.below(5);
        for _ in 0..count {
            let depth = self.below(4) as u32;
            statements.push(self.statement(depth));
        }
        let all: Vec<String> = self.names.iter().map(|(name, _, _)| name.clone()).collect();
        format!("{} return [{}];", statements.join(" "), all.join(", "))
    }
}

#[test]
fn generated_scripts_agree_with_node() {
    let generate =
        |dice: &mut Dice| Generator { dice, names: Vec::new(), functions: Vec::new(), made: 0, loops: 0 }.script();
    let mut refused = 0;
    in_batch(3000, 400, generate, |scripts| {
        let found = differences(scripts, Kind::Scripts, true);
        refused += found.refused;
        found.differences
    });
    let total = rounds(3000);
    assert!(refused * 20 < total as usize, "too many are refused: {refused} of {total}");
}

/// A script without findings meets no value of the wrong type, and returns what its type says.
#[test]
fn types_of_generated_scripts_hold() {
    let (scope, slots) = super::names();
    let mut env = Env::default();
    for (slot, value) in slots.iter().enumerate() {
        env.set(slot as u32, Type::of(value));
    }
    let mut clean = 0;
    with_dice(3000, 400, |dice| {
        let text = Generator { dice, names: Vec::new(), functions: Vec::new(), made: 0, loops: 0 }.script();
        let Ok(script) = Expression::script(&text, &scope) else { return };
        let (of, findings) = env.infer(&script);
        if findings.iter().any(|finding| !finding.warning) {
            return;
        }
        clean += 1;
        match script.eval(&slots, Limits::script()) {
            Ok(value) => {
                let found = contradiction(&Type::of(&value), &of);
                assert!(found.is_none(), "{text}\n{} is not {of}: {found:?}", value.to_json());
            }
            Err(failure) => assert_ne!(failure.kind, ErrorKind::Type, "{text}\n{failure}"),
        }
    });
    println!("{clean} scripts without findings");
    assert!(clean * 20 > rounds(3000), "too few have no findings: {clean}");
}
