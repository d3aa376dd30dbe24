//! Promise 2 for whole workflows: random steps of every kind inside each other, over random schemas. What
//! the check passes is run on inputs and answers that fit, with failures of every kind among them, and no
//! step may end for a name or a type. Run with `--nocapture` to see how many there were of what, and with
//! `KANZLEI_ROUNDS=100000` for more of them, other ones.

mod maker;

use std::collections::BTreeMap;

use kanzlei_compiler::check::{Bundle, Column, Known, check};
use kanzlei_engine::driver::on_virtual_clock;
use kanzlei_engine::machine::{
    Address, Answer, Arrival, Cancellation, Effect, EffectError, Kept, Machine, Outcome, Queued, Rows, Start,
};
use kanzlei_lang::expr::ErrorKind;
use kanzlei_model::run::FailureKind;
use kanzlei_model::time::{Span, Timestamp};
use kanzlei_model::value::Value;
use kanzlei_samples::{Dice, with_dice};
use maker::{Maker, Place, fitting, object_schema};
use serde_json::{Map, Value as Json, json};

const SELECT: &str = "SELECT id, name, paid FROM bill WHERE id > :id";
const CHILD: &str = r#"workflow: child
input: {n: {type: number}, word: {type: string, optional: true}}
steps:
  - if: input.n > 1
    then: [{reply: 200, body: {size: "${input.n}", word: "${input.word ?? null}"}}]
    else: [{reply: 404, body: {why: "${input.n} is too few"}}]
"#;

const WAITS: &str = r#"workflow: waits
steps:
  - await: word
    by: key
    schema: {type: object, required: [n], properties: {n: {type: number}, word: {type: string}}}
"#;

const RULES: &str = r#"library: rules
types: {Pair: {type: object, required: [n, word], properties: {n: {type: number}, word: {type: [string, "null"]}}}}
functions: {half: n => n / 2}
groups:
  told:
    input: {n: {type: number}, any: {optional: true}}
    steps:
      - if: half(input.n) > 2
        then: [{reply: 200, body: {double: "${input.n * 2}"}}]
        else: [{reply: 200, body: {double: "${half(input.n)}"}}]
"#;

fn place(text: String, schema: Json, maybe: bool) -> Place {
    Place { text, schema, maybe }
}

fn whole(text: &str) -> Json {
    format!("${{{text}}}").into()
}

/// Writes workflows; counts what it writes.
struct Writer<'d> {
    maker: Maker<'d>,
    answer: Json,
    named: usize,
    written: BTreeMap<&'static str, usize>,
}

impl Writer<'_> {
    fn name(&mut self, prefix: &str) -> String {
        self.named += 1;
        format!("{prefix}{}", self.named)
    }

    /// A value whose schema is known.
    fn valued(&mut self) -> (Json, Json, bool) {
        match self.maker.dice.below(6) {
            0 => (whole(&self.maker.number(2)), json!({"type": "number"}), false),
            1 => (whole(&self.maker.text(2)), json!({"type": "string"}), false),
            2 => (whole(&self.maker.truth(2)), json!({"type": "boolean"}), false),
            3 => {
                let list = self.maker.list(2);
                (whole(&list.text), list.schema, false)
            }
            4 => {
                let place = self.maker.place();
                (whole(&place.text), place.schema, place.maybe)
            }
            _ => {
                let text = format!("{} of ${{{}}}", self.maker.dice.pick(&["a", "", "ü"]), self.maker.number(1));
                (text.into(), json!({"type": "string"}), false)
            }
        }
    }

    fn block(&mut self, depth: usize, most: usize) -> Vec<Json> {
        let count = 1 + self.maker.dice.below(most);
        (0..count).flat_map(|_| self.steps(depth)).collect()
    }

    /// Steps whose names are not known behind them.
    fn inner(&mut self, depth: usize, locals: &[Place]) -> Vec<Json> {
        let before = self.maker.names.len();
        self.maker.names.extend(locals.iter().chain(locals).cloned());
        let made = self.block(depth, 2);
        self.maker.names.truncate(before);
        made
    }

    /// Branches beside each other: what they name may be missing behind them, and is unknown beside them.
    fn branches(&mut self, depth: usize, count: usize) -> Vec<Vec<Json>> {
        let before = self.maker.names.len();
        let mut behind = Vec::new();
        let made = (0..count).map(|_| {
            let steps = self.block(depth, 2);
            behind.extend(self.maker.names.drain(before..).map(|name| Place { maybe: true, ..name }));
            steps
        });
        let made = made.collect();
        self.maker.names.extend(behind);
        made
    }

    fn keeps(&mut self, text: String, schema: Json, maybe: bool) {
        self.maker.names.push(place(text, schema, maybe));
    }

    /// One step, with what belongs to it.
    fn steps(&mut self, depth: usize) -> Vec<Json> {
        let (what, steps) = match self.maker.dice.below(if depth == 0 { 13 } else { 18 }) {
            0 | 1 => self.name_value(),
            2 => self.call(),
            3 => self.call_when(),
            4 => self.caught_call(),
            5 => self.query(),
            6 => self.invoke(),
            7 => self.keep(),
            8 => self.enqueue(),
            9 => self.note(),
            10 => self.script(),
            11 => self.shared(),
            12 => self.wake(),
            13 => self.condition(depth),
            14 => self.each(depth),
            15 => self.together(depth),
            16 => self.choice(depth),
            _ => self.wait(depth),
        };
        *self.written.entry(what).or_default() += 1;
        steps
    }

    fn name_value(&mut self) -> (&'static str, Vec<Json>) {
        let name = self.name("x");
        let (value, schema, maybe) = self.valued();
        self.keeps(name.clone(), schema, maybe);
        ("let", vec![json!({"let": {name: value}})])
    }

    /// Statements that collect, branch, throw and catch, over a list and over what else is known.
    fn script(&mut self) -> (&'static str, Vec<Json>) {
        let name = self.name("s");
        let list = self.maker.list(2);
        let (number, text) = (self.maker.number(2), self.maker.text(2));
        let (first, second) = (self.maker.truth(2), self.maker.truth(1));
        let lines = [
            "const rows = []; const counts = {}; let sum = 0; let words = '';".to_owned(),
            format!("for (const item of {}) {{", list.text),
            format!("  if ({first}) {{ sum += {number}; continue; }}"),
            "  const row = {item, sum, note: null};".to_owned(),
            format!("  try {{ if ({second}) throw new Error({text}); counts[words] = (counts[words] ?? 0) + 1; }}"),
            "  catch (e) { row.note = words; words += '!'; }".to_owned(),
            "  rows.push(row);".to_owned(),
            "}".to_owned(),
            "for (let i = 0; i < rows.length; i++) { rows[i].sum += i; }".to_owned(),
            "return {rows, sum, words, counts};".to_owned(),
        ];
        let item = list.schema.get("items").cloned().unwrap_or(json!({}));
        let row = json!({"type": "object", "required": ["item", "sum", "note"], "properties": {"item": item, "sum": {"type": "number"}, "note": {"type": ["string", "null"]}}});
        self.keeps(format!("{name}.rows"), json!({"type": "array", "items": row}), false);
        self.keeps(format!("{name}.sum"), json!({"type": "number"}), false);
        self.keeps(format!("{name}.words"), json!({"type": "string"}), false);
        ("script", vec![json!({"id": name, "script": lines.join("\n")})])
    }

    fn call(&mut self) -> (&'static str, Vec<Json>) {
        // Of two answers one ends the run; behind that the other is known.
        let name = self.name("r");
        let mut made =
            vec![json!({"id": name, "call": "s.get", "send": {"q": self.maker.text(1)}, "accept": [200, 404]})];
        let narrowed = match self.maker.dice.below(4) {
            0 => None,
            1 => Some(
                json!({"match": format!("{name}.status"), "arms": {"404": [{"fail": 422}]}, "else": [{"note": "${1}"}]}),
            ),
            _ => Some(
                json!({"if": format!("{name}.status === 404"), "then": [{"fail": 422, "detail": format!("${{{name}.body.title}}")}]}),
            ),
        };
        made.extend(narrowed);
        self.keeps(format!("{name}.body"), self.answer.clone(), false);
        ("call", made)
    }

    fn call_when(&mut self) -> (&'static str, Vec<Json>) {
        let name = self.name("r");
        let retry = json!({"attempts": 2, "first": "10ms", "on": ["timeout", "5xx"]});
        let mut made =
            json!({"id": name, "call": "s.get", "when": self.maker.truth(2), "send": {"q": "x"}, "retry": retry});
        if self.maker.dice.one_in(2) {
            let known = self.name("o");
            let done = format!("{known}.status === 200 && {}", self.maker.truth(1));
            made["unless"] = json!({"call": "s.get", "send": {"q": self.maker.text(1)}, "id": known, "done": done});
            *self.written.entry("unless").or_default() += 1;
        }
        self.keeps(format!("{name}?.body"), self.answer.clone(), true);
        ("call when", vec![made])
    }

    fn caught_call(&mut self) -> (&'static str, Vec<Json>) {
        let (name, other) = (self.name("r"), self.name("f"));
        let catch = json!([
            {"note": "${failure.kind} ${failure.detail} ${failure.status ?? '-'}"},
            {"let": {other.clone(): whole(&self.maker.number(1))}},
        ]);
        self.keeps(format!("{name}?.body"), self.answer.clone(), true);
        self.keeps(other, json!({"type": "number"}), true);
        ("catch", vec![json!({"id": name, "call": "s.get", "send": {"q": "y"}, "catch": catch})])
    }

    fn query(&mut self) -> (&'static str, Vec<Json>) {
        let name = self.name("q");
        let made =
            json!({"id": name, "sql": "harbour", "statement": SELECT, "bind": {"id": whole(&self.maker.number(1))}});
        let row = json!({"type": "object", "required": ["id", "name", "paid"], "properties": {"id": {"type": "number"}, "name": {"type": ["string", "null"]}, "paid": {"type": "boolean"}}});
        self.keeps(format!("{name}.rows"), json!({"type": "array", "items": row}), false);
        self.keeps(format!("{name}.count"), json!({"type": "number"}), false);
        ("sql", vec![made])
    }

    fn invoke(&mut self) -> (&'static str, Vec<Json>) {
        let (name, n) = (self.name("c"), self.maker.number(2));
        let mut made =
            vec![json!({"id": name, "invoke": "child", "send": {"n": whole(&n), "word": whole(&self.maker.text(1))}})];
        if !self.maker.dice.one_in(4) {
            made.push(json!({"if": format!("{name}.status !== 200"), "then": [{"fail": 409, "detail": format!("${{{name}.body.why}}")}]}));
        }
        let body = json!({"type": "object", "required": ["size", "word"], "properties": {"size": {"type": "number"}, "word": {"type": ["string", "null"]}}});
        self.keeps(format!("{name}.body"), body, false);
        ("invoke", made)
    }

    /// Functions, types and groups of steps of a library.
    fn shared(&mut self) -> (&'static str, Vec<Json>) {
        let number = self.maker.number(2);
        match self.maker.dice.below(3) {
            0 => {
                let name = self.name("h");
                self.keeps(name.clone(), json!({"type": "number"}), false);
                ("function of a library", vec![json!({"let": {name: whole(&format!("half({number})"))}})])
            }
            1 => {
                let (name, of) = (self.name("d"), self.maker.place().text);
                let body =
                    json!({"type": "object", "required": ["double"], "properties": {"double": {"type": "number"}}});
                self.keeps(format!("{name}.body"), body, false);
                (
                    "group of a library",
                    vec![json!({"id": name, "invoke": "rules.told", "send": {"n": whole(&number), "any": whole(&of)}})],
                )
            }
            _ => {
                let (name, of) = (self.name("p"), self.maker.place().text);
                let named = if self.maker.dice.one_in(2) { "Pair" } else { "{n: number, word: string | null}" };
                let pair = json!({"type": "object", "required": ["n", "word"], "properties": {"n": {"type": "number"}, "word": {"type": ["string", "null"]}}});
                // Where a value of nothing is known, it may be of the type or not.
                let value = format!("(JSON.parse(JSON.stringify({{n: {number}, word: {of}}})) as {named})");
                let made = json!({"let": {name.clone(): whole(&value)}, "catch": [{"note": "${failure.kind}"}]});
                self.keeps(name, pair, true);
                ("value of a named type", vec![made])
            }
        }
    }

    fn keep(&mut self) -> (&'static str, Vec<Json>) {
        let name = format!("k{}", self.maker.dice.below(3));
        let value = format!("Number(kept.{name} ?? 0) + {}", self.maker.number(1));
        (
            "keep",
            vec![
                json!({"keep": {name: whole(&value)}}),
                json!({"note": format!("${{kept.k1 ?? {}}}", self.maker.text(1))}),
            ],
        )
    }

    fn enqueue(&mut self) -> (&'static str, Vec<Json>) {
        let name = self.name("j");
        let list = self.maker.list(1);
        let mut made = json!({"id": name, "enqueue": "child", "send": {"n": whole(&self.maker.number(1))}, "tag": "t"});
        let id = match self.maker.dice.below(2) {
            0 => format!("{name}.job"),
            _ => {
                made["in"] = list.text.into();
                made["each"] = format!("{name}i").into();
                format!("{name}.jobs")
            }
        };
        let gone = self.name("g");
        self.keeps(format!("{gone}.cancelled"), json!({"type": "array", "items": {"type": "string"}}), false);
        ("enqueue and cancel", vec![made, json!({"id": gone, "cancel": whole(&id)})])
    }

    fn note(&mut self) -> (&'static str, Vec<Json>) {
        ("note", vec![json!({"note": self.valued().0})])
    }

    fn condition(&mut self, depth: usize) -> (&'static str, Vec<Json>) {
        let condition = match self.maker.dice.below(3) {
            0 => format!("{} == null", self.maker.place().text),
            _ => self.maker.truth(2),
        };
        let both = self.name("y");
        let mut step = json!({"if": condition});
        let (then, otherwise) = (self.valued(), self.valued());
        if self.maker.dice.one_in(3) {
            step["then"] = json!([{"fail": 409}]);
        } else {
            let mut made = self.branches(depth - 1, 2);
            made[0].push(json!({"let": {both.clone(): then.0}}));
            made[1].push(json!({"let": {both.clone(): otherwise.0}}));
            (step["then"], step["else"]) = (made[0].clone().into(), made[1].clone().into());
            let schema = if then.1 == otherwise.1 { then.1 } else { json!({"anyOf": [then.1, otherwise.1]}) };
            self.keeps(both, schema, then.2 || otherwise.2);
        }
        ("if", vec![step])
    }

    fn each(&mut self, depth: usize) -> (&'static str, Vec<Json>) {
        let (name, item, at) = (self.name("e"), self.name("i"), self.name("n"));
        let list = self.maker.list(1);
        let locals = [
            place(item.clone(), list.schema["items"].clone(), false),
            place(at.clone(), json!({"type": "number"}), false),
        ];
        let before = self.maker.names.len();
        let mut steps = self.inner(depth - 1, &locals);
        self.maker.names.truncate(before);
        let last = self.name("z");
        self.maker.names.extend(locals);
        let (value, schema, _) = (whole(&self.maker.number(2)), json!({"type": "number"}), false);
        self.maker.names.truncate(before);
        steps.push(json!({"let": {last.clone(): value}}));
        let mut made = json!({"each": item, "in": list.text, "position": at, "id": name, "at_once": 1 + self.maker.dice.below(3), "steps": steps, "collect": whole(&last)});
        if self.maker.dice.one_in(3) {
            made["settle"] = "all".into();
            let ok = format!("{name}.filter(p => p.ok).map(p => p.value)");
            self.keeps(ok, json!({"type": "array", "items": schema}), false);
        } else {
            self.keeps(name, json!({"type": "array", "items": schema}), false);
        }
        ("each", vec![made])
    }

    fn together(&mut self, depth: usize) -> (&'static str, Vec<Json>) {
        let (id, one, two, n) = (self.name("w"), self.name("t"), self.name("u"), self.name("m"));
        let (mut left, right) = (self.inner(depth - 1, &[]), self.inner(depth - 1, &[]));
        left.push(json!({"let": {n.clone(): whole(&self.maker.number(1))}}));
        let mut made = json!({"together": {one.clone(): left, two: right}});
        match self.maker.dice.below(3) {
            0 => {
                made["settle"] = "all".into();
                made["id"] = id.clone().into();
                let read = format!("({id}.{one}.ok ? {id}.{one}.value.{n} : null)");
                self.keeps(read, json!({"type": ["number", "null"]}), true);
            }
            1 => {
                made["catch"] = json!([{"note": "${failure.kind}"}]);
                self.keeps(format!("{one}?.{n}"), json!({"type": "number"}), true);
            }
            _ => self.keeps(format!("{one}.{n}"), json!({"type": "number"}), false),
        }
        ("together", vec![made])
    }

    fn choice(&mut self, depth: usize) -> (&'static str, Vec<Json>) {
        let subject = self.maker.place().text;
        let made = self.branches(depth - 1, 3);
        if self.maker.dice.one_in(2) {
            let arms = json!({"cargo": made[0], "ferry": made[1]});
            return ("match", vec![json!({"match": subject, "arms": arms, "else": made[2]})]);
        }
        let bound = if !self.maker.dice.one_in(3) { json!(3) } else { json!("cargo") };
        let arms = json!([{"in": ["cargo", 7, null], "steps": made[0]}, {"from": bound, "steps": made[1]}]);
        ("match by range", vec![json!({"match": subject, "arms": arms, "else": made[2]})])
    }

    fn wait(&mut self, depth: usize) -> (&'static str, Vec<Json>) {
        let name = self.name("a");
        let steps = self.inner(depth - 1, &[]);
        let catch = json!([{"note": "${failure.kind}"}]);
        let mut made = json!({"id": name, "await": self.name("b"), "until": "1h", "steps": steps, "catch": catch});
        if self.maker.dice.one_in(2) {
            made["by"] = whole(&self.maker.text(1));
            made["schema"] = self.answer.clone();
            self.keeps(name, self.answer.clone(), true);
            return ("await by a key", vec![made]);
        }
        ("await", vec![made])
    }

    fn wake(&mut self) -> (&'static str, Vec<Json>) {
        let (name, body) =
            (self.name("v"), json!({"n": whole(&self.maker.number(1)), "word": whole(&self.maker.text(1))}));
        self.keeps(format!("{name}.job"), json!({"type": ["string", "null"]}), false);
        let by = format!("k${{{}}}", self.maker.number(1));
        ("wake", vec![json!({"id": name, "wake": "waits", "by": by, "body": body})])
    }
}

/// A workflow of random steps.
fn workflow(writer: &mut Writer, input: &Json) -> Json {
    let required = |name: &str| input["required"].as_array().is_some_and(|all| all.iter().any(|known| known == name));
    let properties = input["properties"].as_object().expect("properties");
    let mut declared = Map::new();
    for (name, schema) in properties {
        writer.maker.names.push(place(format!("input.{name}"), schema.clone(), !required(name)));
        let mut schema = schema.clone();
        if !required(name) {
            schema["optional"] = true.into();
        }
        declared.insert(name.clone(), schema);
    }
    let known = writer.maker.names.clone();
    let mut steps = writer.block(2, 7);
    let (value, _, _) = writer.valued();
    steps.push(
        json!({"reply": 200, "body": {"value": value, "twice": whole(&format!("twice({})", writer.maker.number(1)))}}),
    );
    let mut made = json!({"workflow": "w", "use": ["rules"], "input": declared, "functions": {"twice": "(n, by = 2) => n * by"}, "steps": steps});
    if writer.maker.dice.one_in(2) {
        // Any step may have failed: nothing is known but the input, and how.
        writer.maker.names = known;
        writer.maker.names.push(place("failure.status".into(), json!({"type": ["number", "null"]}), false));
        let mut closing = writer.block(1, 3);
        closing.push(json!({"reply": 503, "body": "${failure.kind}"}));
        made["on_failure"] = closing.into();
        *writer.written.entry("on_failure").or_default() += 1;
    }
    made
}

/// What comes of an effect: mostly what fits, sometimes a failure of its own.
fn outcome(dice: &mut Dice, effect: &Effect, answer: &Json) -> Outcome {
    let fails = dice.one_in(9);
    match effect {
        Effect::File(_) | Effect::Mail(_) | Effect::Rows(_) => panic!("no generated workflow has files"),
        Effect::Call(_) if fails => {
            let kind = *dice.pick(&[FailureKind::Timeout, FailureKind::Unreachable, FailureKind::Broken]);
            Outcome::Called(Err(EffectError { kind, detail: "unavailable".into() }))
        }
        Effect::Call(_) => {
            let (status, body) = match dice.below(8) {
                6 => (404, json!({"title": "gone"})),
                7 => (500, json!({})),
                _ => (200, fitting(dice, answer)),
            };
            let headers = vec![("content-type".into(), "application/json".into())];
            Outcome::Called(Ok(Answer {
                status,
                headers,
                body: kanzlei_engine::machine::Data::Bytes(body.to_string().into_bytes()),
            }))
        }
        Effect::Query(_) if fails => {
            Outcome::Queried(Err(EffectError { kind: FailureKind::Database, detail: "unavailable".into() }))
        }
        Effect::Query(query) => {
            let row = |dice: &mut Dice| {
                let name = if dice.one_in(2) { Value::Null } else { Value::text("Havbris") };
                Value::object([
                    ("id", Value::Int(dice.below(9) as i64)),
                    ("name", name),
                    ("paid", Value::Bool(dice.one_in(2))),
                ])
            };
            let rows: Vec<Value> = (0..dice.below(3)).map(|_| row(dice)).collect();
            let rows = Rows { count: rows.len() as u64, rows, id: None };
            Outcome::Queried(Ok(vec![rows; query.statements.len()]))
        }
        Effect::Wait { .. } => Outcome::Waited,
        Effect::Recall { .. } => {
            let values = match dice.below(2) {
                0 => Value::object::<&str>([]),
                _ => Value::object([("k0", Value::Int(4)), ("k1", Value::Num(1.5))]),
            };
            Outcome::Kept(Ok(Kept { version: 3, values, stored: false }))
        }
        Effect::Keep(keep) => {
            let stored = !dice.one_in(4);
            Outcome::Kept(Ok(Kept { version: keep.version + 1, values: keep.values.clone(), stored }))
        }
        Effect::Enqueue(_) if fails => {
            Outcome::Queued(Err(EffectError { kind: FailureKind::Full, detail: "full".into() }))
        }
        Effect::Enqueue(enqueue) => {
            let ids = (0..enqueue.jobs.len()).map(|at| format!("job-{at}")).collect();
            Outcome::Queued(Ok(Queued { ids, group: enqueue.group.then(|| "g".into()), base: "http://h".into() }))
        }
        Effect::Cancel(_) => {
            Outcome::Cancelled(Ok(Cancellation { cancelled: vec!["job-0".into()], ..Default::default() }))
        }
        Effect::Wake(_) => Outcome::Woken(Ok((dice.below(2) == 0).then(|| "j".to_owned()))),
        Effect::Open { .. } => Outcome::Opened(Ok(Address { id: "c".into(), url: "http://h/c".into() })),
        Effect::Await { by, .. } => {
            let body = if by.is_some() { fitting(dice, answer) } else { json!({"is": 1}) };
            let arrival = Arrival { media: "application/json".into(), body: body.to_string().into_bytes() };
            Outcome::Arrived((!fails).then_some(arrival))
        }
    }
}

/// The service, the child, the database, and a workflow.
fn bundle(workflow: &Json, answer: &Json) -> Bundle {
    let mut bundle = Bundle::default();
    bundle.add("w.yaml", &workflow.to_string());
    bundle.add("child.yaml", CHILD);
    bundle.add("rules.yaml", RULES);
    bundle.add("waits.yaml", WAITS);
    bundle.add("s.yaml", "service: s\nbase: http://s\nopenapi: o.json\n");
    let problem = json!({"type": "object", "required": ["title"], "properties": {"title": {"type": "string"}}});
    let described = |schema: &Json| json!({"description": "so", "content": {"application/json": {"schema": schema}}});
    let api = json!({"openapi": "3.1.0", "paths": {"/x": {"get": {
        "operationId": "get",
        "parameters": [{"name": "q", "in": "query", "schema": {"type": "string"}}],
        "responses": {"200": described(answer), "404": described(&problem)},
    }}}});
    bundle.files.insert("o.json".into(), api.to_string());
    let column =
        |name: &str, type_name: &str, nullable| Column { name: name.into(), type_name: type_name.into(), nullable };
    let columns =
        vec![column("id", "BIGINT", false), column("name", "VARCHAR", true), column("paid", "BOOLEAN", false)];
    let statement = ("harbour".to_owned(), SELECT.replace(":id", "?"));
    bundle.known = Some(Known {
        databases: [("harbour".to_owned(), Default::default())].into(),
        statements: [(statement, Ok(columns))].into(),
        ..Known::default()
    });
    bundle
}

#[test]
fn clean_workflows_never_fail_with_a_name_or_type_error() {
    let (mut clean, mut refused, mut runs, mut taken) = (0, 0, 0, 0);
    let mut ended: BTreeMap<String, usize> = BTreeMap::new();
    let mut kinds: BTreeMap<&str, usize> = BTreeMap::new();
    let mut codes: BTreeMap<String, usize> = BTreeMap::new();
    with_dice(1500, 1200, |dice| {
        let (input, answer) = (object_schema(dice, 2), object_schema(dice, 1));
        let maker = Maker { dice, names: Vec::new(), locals: 0, slips: 90 };
        let mut writer = Writer { maker, answer: answer.clone(), named: 0, written: BTreeMap::new() };
        let written = workflow(&mut writer, &input);
        let counted = writer.written;
        let checked = check(&bundle(&written, &answer));
        let Some((_, plan)) = checked.workflows.first().filter(|_| checked.errors() == 0) else {
            refused += 1;
            for found in checked.diagnostics.iter().filter(|d| d.severity == kanzlei_lang::diagnostic::Severity::Error)
            {
                *codes.entry(found.code.clone()).or_default() += 1;
            }
            return;
        };
        clean += 1;
        counted.into_iter().for_each(|(kind, count)| *kinds.entry(kind).or_default() += count);
        for _ in 0..4 {
            let given = Value::from_json(&fitting(dice, &input));
            let accepted = plan.input.accept(&given).unwrap_or_else(|problem| panic!("{problem:?}\n{written}"));
            let start = Start::new("r", accepted, Timestamp::EPOCH);
            let mut machine = Machine::new(plan.clone(), start);
            on_virtual_clock(&mut machine, Timestamp::EPOCH, |effect, _| {
                (Span::from_micros(dice.below(50) as i64), outcome(dice, effect, &answer))
            });
            runs += 1;
            taken += machine.records().len();
            let end = machine.ended().expect("ended");
            *ended
                .entry(end.failure.as_ref().map_or("succeeded", |failure| failure.kind.name()).to_owned())
                .or_default() += 1;
            for failure in machine.records().iter().filter_map(|record| record.failure.as_deref()).chain(&end.failure) {
                let by_name_or_type = failure.cause == Some(ErrorKind::Type)
                    || failure.kind == FailureKind::Expression && failure.cause.is_none();
                assert!(!by_name_or_type, "{}\n{written}\nover {}", failure.detail, given.to_json());
            }
        }
    });
    println!("{clean} clean workflows, {runs} runs of {taken} steps, {refused} refused");
    println!("ended: {ended:?}\nsteps written: {kinds:?}\nrefused for: {codes:?}");
    assert!(clean > 500 && kinds.len() == 23, "{clean} clean, {refused} refused, {kinds:?} {codes:?}");
    assert!(kinds.values().all(|count| *count > 15), "{kinds:?}");
}
