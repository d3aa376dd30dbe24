//! Promise 2: what the check passes does not fail with a name or type error on values that fit.
//!
//! Random schemas, random values that fit them, random expressions and workflows over them. Most of what
//! is generated has a fault and is refused; what passes is run. Beside not failing, every value must be
//! one of the type that was inferred for it.

mod dice;

use dice::Dice;
use kanzlei_core::check::{Bundle, check};
use kanzlei_core::expr::{Expression, FailureKind, Limits, Scope};
use kanzlei_core::machine::{Answer, Effect, Machine, Outcome, Start};
use kanzlei_core::rehearse::drive;
use kanzlei_core::types::{Env, Type, schema};
use kanzlei_core::value::Value;
use serde_json::{Value as Json, json};

/// A schema for a value that is nested no deeper than `depth`.
fn any_schema(dice: &mut Dice, depth: usize) -> Json {
    match dice.below(if depth == 0 { 6 } else { 11 }) {
        0 => json!({"type": "string"}),
        1 => json!({"type": "number"}),
        2 => json!({"type": "boolean"}),
        3 => json!({"enum": ["cargo", "ferry", "tanker"]}),
        4 => json!({"type": ["string", "null"]}),
        5 => json!({"type": ["number", "null"]}),
        6 | 7 => json!({"type": "array", "items": any_schema(dice, depth - 1)}),
        8 => json!({"anyOf": [
            {"type": "object", "required": ["kind", "a"], "properties": {"kind": {"const": "one"}, "a": {"type": "number"}}},
            {"type": "object", "required": ["kind", "b"], "properties": {"kind": {"const": "two"}, "b": {"type": "string"}}},
        ]}),
        _ => object_schema(dice, depth - 1),
    }
}

fn object_schema(dice: &mut Dice, depth: usize) -> Json {
    let mut properties = serde_json::Map::new();
    let mut required = Vec::new();
    for name in ["name", "size", "kind", "calls", "flag", "owner"] {
        if dice.one_in(2) {
            properties.insert(name.into(), any_schema(dice, depth));
            if !dice.one_in(3) {
                required.push(name);
            }
        }
    }
    if properties.is_empty() {
        properties.insert("name".into(), json!({"type": "string"}));
    }
    json!({"type": "object", "properties": properties, "required": required})
}

/// A value that fits a schema.
fn fitting(dice: &mut Dice, schema: &Json) -> Json {
    if let Some(values) = schema.get("enum").and_then(Json::as_array) {
        return dice.pick(values).clone();
    }
    if let Some(value) = schema.get("const") {
        return value.clone();
    }
    if let Some(several) = schema.get("anyOf").and_then(Json::as_array) {
        let one = dice.pick(several).clone();
        return fitting(dice, &one);
    }
    let kind = match &schema["type"] {
        Json::Array(kinds) => dice.pick(kinds).as_str().unwrap_or_default().to_owned(),
        kind => kind.as_str().unwrap_or_default().to_owned(),
    };
    match kind.as_str() {
        "string" => json!(*dice.pick(&["", "Havbris", "12", "a b c", "2027-03-04T06:00:00Z"])),
        "number" => json!(*dice.pick(&[0.0, 1.0, -2.5, 132.0, 1e9])),
        "boolean" => json!(dice.one_in(2)),
        "array" => (0..dice.below(4)).map(|_| fitting(dice, &schema["items"])).collect(),
        "object" => {
            let required: Vec<&str> =
                schema["required"].as_array().into_iter().flatten().filter_map(Json::as_str).collect();
            let properties = schema["properties"].as_object().expect("properties");
            let mut out = serde_json::Map::new();
            for (name, schema) in properties {
                if required.contains(&name.as_str()) || dice.one_in(2) {
                    out.insert(name.clone(), fitting(dice, schema));
                }
            }
            Json::Object(out)
        }
        _ => Json::Null,
    }
}

/// Something an expression can begin with: its text, its schema, whether it may be missing.
#[derive(Clone)]
struct Place {
    text: String,
    schema: Json,
    maybe: bool,
}

struct Maker<'d> {
    dice: &'d mut Dice,
    names: Vec<Place>,
    locals: usize,
}

impl Maker<'_> {
    /// A name, or something read from one.
    fn place(&mut self) -> Place {
        let mut place = self.dice.pick(&self.names).clone();
        for _ in 0..self.dice.below(4) {
            let schema = match place.schema.get("anyOf").and_then(Json::as_array) {
                Some(several) => several[self.dice.below(several.len())].clone(),
                None => place.schema.clone(),
            };
            if let Some(properties) = schema.get("properties").and_then(Json::as_object) {
                let names: Vec<&String> = properties.keys().collect();
                let name = (*self.dice.pick(&names)).clone();
                let required = schema["required"].as_array().is_some_and(|all| all.iter().any(|r| *r == json!(name)));
                let dot = if place.maybe && !self.dice.one_in(6) { "?." } else { "." };
                let shown = if self.dice.one_in(40) { format!("{name}x") } else { name.clone() };
                place.text = format!("{}{dot}{shown}", place.text);
                place.maybe |= !required;
                place.schema = properties[&name].clone();
            } else if schema["type"] == "array" {
                place.text = match self.dice.below(3) {
                    0 if !place.maybe => format!("{}[0]", place.text),
                    1 => format!("{}?.at(-1)", place.text),
                    _ => {
                        let test = self.dice.pick(&["x => x", "x => true", "(x, i) => i > 0"]);
                        let dot = if place.maybe { "?." } else { "." };
                        format!("{}{dot}find({test})", place.text)
                    }
                };
                place.maybe = true;
                place.schema = schema["items"].clone();
            } else {
                break;
            }
        }
        place
    }

    fn of_kind(&mut self, kind: &str) -> Option<Place> {
        for _ in 0..12 {
            let place = self.place();
            let fits = match kind {
                "array" | "object" => place.schema["type"] == kind,
                _ => place.schema["type"] == kind || place.schema["type"].as_array().is_some_and(|k| k[0] == kind),
            };
            if fits {
                let null = place.schema["type"].is_array();
                return Some(Place { maybe: place.maybe || null, ..place });
            }
        }
        None
    }

    /// A place of a kind, guarded where it may be missing; sometimes not.
    fn guarded(&mut self, kind: &str, otherwise: &str) -> String {
        match self.of_kind(kind) {
            Some(place) if place.maybe && !self.dice.one_in(12) => format!("({} ?? {otherwise})", place.text),
            Some(place) => place.text,
            None => otherwise.to_owned(),
        }
    }

    fn number(&mut self, depth: usize) -> String {
        if depth == 0 {
            return self.guarded("number", "1");
        }
        let d = depth - 1;
        match self.dice.below(12) {
            0 => (*self.dice.pick(&["0", "1", "2.5", "-3", "100"])).to_owned(),
            1 => {
                format!("({} {} {})", self.number(d), self.dice.pick(&["+", "-", "*", "/", "%", "**"]), self.number(d))
            }
            2 => format!("{}.length", self.text(d)),
            3 => format!("Math.{}({}, {})", self.dice.pick(&["max", "min"]), self.number(d), self.number(d)),
            4 => format!("({} ? {} : {})", self.truth(d), self.number(d), self.number(d)),
            5 => {
                let list = self.list(d);
                format!("{}.length", list.text)
            }
            6 => {
                let (list, body) = self.mapped(d, |maker, d| maker.number(d));
                format!("{list}.map({body}).reduce((s, n) => s + n, {})", self.number(0))
            }
            7 => format!("Number({})", self.text(d)),
            8 => format!("list.sum([{}, {}])", self.number(d), self.number(d)),
            9 => format!("{}.indexOf({})", self.text(d), self.text(0)),
            10 => format!("(-{})", self.number(d)),
            _ => self.guarded("number", "0"),
        }
    }

    fn text(&mut self, depth: usize) -> String {
        if depth == 0 {
            return self.guarded("string", "''");
        }
        let d = depth - 1;
        match self.dice.below(11) {
            0 => (*self.dice.pick(&["'cargo'", "'x'", "''"])).to_owned(),
            1 => format!("({} + {})", self.text(d), if self.dice.one_in(2) { self.text(d) } else { self.number(d) }),
            2 => format!("`${{{}}} ${{{}}}`", self.text(d), self.number(d)),
            3 => format!("{}.{}()", self.text(d), self.dice.pick(&["trim", "toUpperCase", "toLowerCase", "trimEnd"])),
            4 => format!("{}.slice({}, {})", self.text(d), self.number(0), self.number(0)),
            5 => {
                let (list, body) = self.mapped(d, |maker, d| maker.text(d));
                format!("{list}.map({body}).join('-')")
            }
            6 => format!("({} ? {} : {})", self.truth(d), self.text(d), self.text(d)),
            7 => format!("String({})", self.number(d)),
            8 => format!("({}).toFixed(1)", self.number(0)),
            9 => format!("({}.split(' ')[0] ?? '')", self.text(d)),
            _ => self.guarded("string", "'none'"),
        }
    }

    fn truth(&mut self, depth: usize) -> String {
        if depth == 0 {
            return self.guarded("boolean", "true");
        }
        let d = depth - 1;
        match self.dice.below(10) {
            0 => format!("({} {} {})", self.number(d), self.dice.pick(&["<", ">", "<=", "===", "!=="]), self.number(d)),
            1 => format!("({} {} {})", self.text(d), self.dice.pick(&["<", "===", "!=="]), self.text(d)),
            2 => format!("(!{})", self.truth(d)),
            3 => format!("({} {} {})", self.truth(d), self.dice.pick(&["&&", "||"]), self.truth(d)),
            4 => {
                let (list, body) = self.mapped(d, |maker, d| maker.truth(d));
                format!("{list}.{}({body})", self.dice.pick(&["some", "every"]))
            }
            5 => format!("{}.includes({})", self.text(d), self.text(0)),
            6 => {
                let place = self.place();
                format!(
                    "({} {} {})",
                    place.text,
                    self.dice.pick(&["===", "!==", "==", "!="]),
                    self.dice.pick(&["null", "undefined", "'one'", "'cargo'"])
                )
            }
            7 => {
                let place = self.place();
                format!("(typeof {} === {})", place.text, self.dice.pick(&["'string'", "'number'", "'object'"]))
            }
            8 => format!("Boolean({})", self.place().text),
            _ => self.guarded("boolean", "false"),
        }
    }

    /// A list, with the schema of its items.
    fn list(&mut self, depth: usize) -> Place {
        let base = match self.of_kind("array") {
            Some(place) if place.maybe && !self.dice.one_in(12) => {
                Place { text: format!("({} ?? [])", place.text), maybe: false, ..place }
            }
            Some(place) => place,
            None => Place {
                text: "[1, 2]".into(),
                schema: json!({"type": "array", "items": {"type": "number"}}),
                maybe: false,
            },
        };
        if depth == 0 {
            return base;
        }
        let text = match self.dice.below(5) {
            0 => {
                let local = self.local(&base);
                let body = self.within(&local, |maker| maker.truth(depth - 1));
                format!("{}.filter({} => {body})", base.text, local.text)
            }
            1 => format!("[...{}, ...{}]", base.text, base.text),
            2 => format!("{}.slice({})", base.text, self.number(0)),
            3 => format!("{}.toReversed()", base.text),
            _ => base.text.clone(),
        };
        Place { text, ..base }
    }

    fn local(&mut self, list: &Place) -> Place {
        self.locals += 1;
        Place { text: format!("p{}", self.locals), schema: list.schema["items"].clone(), maybe: false }
    }

    fn within(&mut self, local: &Place, make: impl FnOnce(&mut Self) -> String) -> String {
        let before = self.names.len();
        for _ in 0..3 {
            self.names.push(local.clone());
        }
        let made = make(self);
        self.names.truncate(before);
        made
    }

    fn mapped(&mut self, depth: usize, make: impl FnOnce(&mut Self, usize) -> String) -> (String, String) {
        let list = self.list(depth);
        let local = self.local(&list);
        let body = self.within(&local, |maker| make(maker, depth.saturating_sub(1)));
        (list.text, format!("{} => {body}", local.text))
    }

    /// Narrowing by a test, and a use that needs it.
    fn tested(&mut self) -> String {
        let place = self.place();
        let (path, tests) = (
            place.text,
            [
                "{p} ? {u} : null",
                "{p} !== undefined && {p} !== null ? {u} : null",
                "{p} == null ? null : {u}",
                "!{p} ? null : {u}",
                "{p} && {u}",
            ],
        );
        let uses = match place.schema["type"].as_str() {
            Some("array") => "{p}.length",
            Some("object") => "{p}.name",
            Some("number") => "{p} * 2",
            Some("string") => "{p}.trim()",
            _ => "{p}",
        };
        let uses =
            if place.schema.get("anyOf").is_some() { "({p}.kind === 'one' ? {p}.a : {p}.b.trim())" } else { uses };
        self.dice.pick(&tests).replace("{u}", uses).replace("{p}", &path)
    }

    fn anything(&mut self, depth: usize) -> String {
        match self.dice.below(8) {
            0 => self.number(depth),
            1 => self.text(depth),
            2 => self.truth(depth),
            3 => self.list(depth).text,
            4 => self.tested(),
            5 => format!("({{a: {}, b: {}, ...{}}})", self.number(1), self.text(1), self.guarded("object", "{}")),
            6 => {
                let (list, body) = self.mapped(depth, |maker, d| maker.number(d));
                format!("list.sortBy({list}, {body})")
            }
            _ => self.place().text,
        }
    }
}

/// Whether a value is of a type.
fn holds(value: &Value, of: &Type) -> bool {
    of.alternatives().iter().any(|one| match (one, value) {
        (Type::Unknown, _) => true,
        (Type::Undefined, Value::Undefined) | (Type::Null, Value::Null) => true,
        (Type::Bool(wanted), Value::Bool(b)) => wanted.is_none_or(|wanted| wanted == *b),
        (Type::Number(wanted), Value::Int(n)) => wanted.is_none_or(|wanted| wanted == *n as f64),
        (Type::Number(wanted), Value::Num(n)) => wanted.is_none_or(|wanted| wanted == *n || wanted.is_nan()),
        (Type::Text(wanted), Value::Text(text)) => wanted.as_ref().is_none_or(|wanted| wanted == text),
        (Type::List(item), Value::List(list)) => list.items().iter().all(|value| holds(value, item)),
        (Type::Object(shape), Value::Object(object)) => {
            shape.members.iter().all(|member| match object.get(&member.name) {
                None => member.optional || holds(&Value::Undefined, &member.value),
                Some(value) => holds(value, &member.value) || (member.optional && matches!(value, Value::Undefined)),
            })
        }
        _ => false,
    })
}

/// Whether all numbers in it can be written as JSON numbers.
fn finite(value: &Value) -> bool {
    match value {
        Value::Num(n) => n.is_finite(),
        Value::List(list) => list.items().iter().all(finite),
        Value::Object(object) => object.iter().all(|(_, value)| finite(value)),
        _ => true,
    }
}

#[test]
fn clean_expressions_give_values_of_their_type() {
    let mut dice = Dice(0x50_0D);
    let (mut clean, mut refused) = (0, 0);
    for _ in 0..12_000 {
        let schemas: Vec<Json> = (0..3).map(|_| object_schema(&mut dice, 2)).collect();
        let mut scope = Scope::default();
        let mut env = Env::default();
        let mut names = Vec::new();
        for (name, schema) in ["v", "w", "u"].iter().zip(&schemas) {
            let slot = scope.define(name);
            env.set(slot, schema::read(schema));
            names.push(Place { text: (*name).into(), schema: schema.clone(), maybe: false });
        }
        let mut maker = Maker { dice: &mut dice, names, locals: 0 };
        let depth = 1 + maker.dice.below(3);
        let text = maker.anything(depth);
        let Ok(expression) = Expression::compile(&text, &scope) else { panic!("{text}") };
        let (of, findings) = env.infer(&expression);
        if findings.iter().any(|finding| !finding.warning) {
            refused += 1;
            continue;
        }
        clean += 1;
        for _ in 0..4 {
            let values: Vec<Value> = schemas.iter().map(|s| Value::from_json(&fitting(&mut dice, s))).collect();
            match expression.eval(&values, Limits::default()) {
                Ok(value) if holds(&value, &of) => {
                    // What is published of the type is true of what goes out as JSON.
                    let written = schema::write(&of);
                    let sent = value.to_serde();
                    assert!(
                        !finite(&value) || jsonschema::is_valid(&written, &sent),
                        "{text}\n gives {sent} which is not {written}"
                    );
                }
                Ok(value) => assert!(
                    holds(&value, &of),
                    "{text}\n gives {} which is not {of}\n over {:?}\n of {schemas:?}",
                    value.to_json(),
                    values.iter().map(Value::to_json).collect::<Vec<_>>()
                ),
                Err(failure) => assert!(
                    failure.kind != FailureKind::Type,
                    "{text}\n fails: {failure}\n over {:?}\n of {schemas:?}",
                    values.iter().map(Value::to_json).collect::<Vec<_>>()
                ),
            }
        }
    }
    println!("{clean} clean expressions run 4 times each, {refused} refused");
    assert!(clean > 3000 && refused > 500, "{clean} clean, {refused} refused");
}

/// A workflow of random steps; gives its text.
fn workflow(dice: &mut Dice, input: &Json, answer: &Json) -> String {
    let place = |text: &str, schema: &Json, maybe| Place { text: text.into(), schema: schema.clone(), maybe };
    let names: Vec<Place> = input["properties"]
        .as_object()
        .expect("properties")
        .iter()
        .map(|(name, schema)| {
            let required = input["required"].as_array().is_some_and(|all| all.contains(&json!(name)));
            place(&format!("input.{name}"), schema, !required)
        })
        .collect();
    let mut maker = Maker { dice, names, locals: 0 };
    let mut out = String::from("workflow: w\ninput:\n");
    for (name, schema) in input["properties"].as_object().expect("properties") {
        let required = input["required"].as_array().is_some_and(|all| all.contains(&json!(name)));
        let mut schema = schema.clone();
        if !required {
            schema["optional"] = true.into();
        }
        out.push_str(&format!("  {name}: {schema}\n"));
    }
    out.push_str("steps:\n");
    let quoted = |text: &str| Json::from(text).to_string();
    let whole = |text: &str| Json::from(format!("${{{text}}}")).to_string();
    let count = 3 + maker.dice.below(6);
    for at in 0..count {
        match maker.dice.below(9) {
            0 | 1 => {
                out.push_str(&format!("  - let: {{x{at}: {}}}\n", whole(&maker.anything(2))));
                maker.names.push(place(&format!("x{at}"), &json!({}), true));
            }
            2 => {
                out.push_str(&format!("  - {{id: r{at}, call: s.get, send: {{q: x}}, accept: [200, 404]}}\n"));
                if !maker.dice.one_in(4) {
                    out.push_str(&format!(
                        "  - if: r{at}.status === 404\n    then: [{{fail: 422, detail: \"${{r{at}.body.title}}\"}}]\n"
                    ));
                }
                maker.names.push(place(&format!("r{at}.body"), answer, false));
            }
            3 => {
                let condition = maker.truth(2);
                out.push_str(&format!(
                    "  - {{id: r{at}, call: s.get, when: {}, send: {{q: x}}}}\n",
                    quoted(&condition)
                ));
                maker.names.push(place(&format!("r{at}?.body"), answer, true));
            }
            4 => {
                let (condition, then, otherwise) = (maker.truth(2), maker.anything(2), maker.anything(1));
                out.push_str(&format!(
                    "  - if: {}\n    then: [{{let: {{y{at}: {}}}}}]\n    else: [{{let: {{y{at}: {}}}}}]\n",
                    quoted(&condition),
                    whole(&then),
                    whole(&otherwise)
                ));
            }
            5 => {
                let list = maker.list(1);
                let local = Place { text: format!("i{at}"), schema: list.schema["items"].clone(), maybe: false };
                let body = maker.within(&local, |maker| maker.anything(2));
                out.push_str(&format!(
                    "  - {{each: i{at}, in: {}, id: e{at}, at_once: {}, steps: [{{let: {{z{at}: {}}}}}], collect: {}}}\n",
                    quoted(&list.text), 1 + maker.dice.below(3), whole(&body), whole(&format!("z{at}"))
                ));
                maker.names.push(place(&format!("e{at}"), &json!({"type": "array", "items": {}}), false));
            }
            6 => {
                // Narrowed by what ends the run.
                let place = maker.place();
                out.push_str(&format!(
                    "  - if: {}\n    then: [{{fail: 409}}]\n",
                    quoted(&format!("{} == null", place.text))
                ));
                maker.names.push(Place { maybe: false, ..place });
            }
            7 => {
                let (a, b) = (maker.anything(2), maker.number(2));
                out.push_str(&format!(
                    "  - together: {{t{at}: [{{let: {{q: {}}}}}], s{at}: [{{id: r, call: s.get, send: {{q: x}}}}, {{let: {{n: {}}}}}]}}\n    rescue: [{{note: away}}]\n",
                    whole(&a), whole(&b)
                ));
                maker.names.push(place(&format!("s{at}?.n"), &json!({"type": "number"}), true));
            }
            _ => {
                let (subject, one, two) = (maker.place().text, maker.anything(1), maker.anything(1));
                out.push_str(&format!(
                    "  - match: {}\n    arms: {{cargo: [{{let: {{m{at}: {}}}}}], ferry: [{{let: {{m{at}: {}}}}}]}}\n    else: [{{note: none}}]\n",
                    quoted(&subject), whole(&one), whole(&two)
                ));
            }
        }
    }
    out.push_str(&format!("  - reply: 200\n    body: {}\n", whole(&maker.anything(2))));
    out
}

#[test]
fn clean_workflows_never_fail_with_a_name_or_type_error() {
    let mut dice = Dice(0x000C_1EA2);
    let (mut clean, mut refused, mut runs) = (0, 0, 0);
    for _ in 0..3000 {
        let input = object_schema(&mut dice, 2);
        let answer = object_schema(&mut dice, 1);
        let text = workflow(&mut dice, &input, &answer);
        let mut bundle = Bundle::default();
        bundle.add("s.yaml", "service: s\nbase: http://s\nopenapi: o.json\n");
        let api = json!({"openapi": "3.1.0", "paths": {"/x": {"get": {"operationId": "get",
        "parameters": [{"name": "q", "in": "query", "schema": {"type": "string"}}],
        "responses": {
            "200": {"description": "ok", "content": {"application/json": {"schema": answer}}},
            "404": {"description": "no", "content": {"application/json": {"schema": {"type": "object", "required": ["title"], "properties": {"title": {"type": "string"}}}}}},
        }}}}});
        bundle.files.insert("o.json".into(), api.to_string());
        bundle.add("w.yaml", &text);
        let checked = check(&bundle);
        let Some((_, plan)) = checked.workflows.first().filter(|_| checked.errors() == 0) else {
            refused += 1;
            continue;
        };
        clean += 1;
        for _ in 0..4 {
            let given = Value::from_json(&fitting(&mut dice, &input));
            let accepted = plan.input.accept(&given).unwrap_or_else(|problem| panic!("{problem:?}\n{text}"));
            let mut machine =
                Machine::new(plan.clone(), Start { id: "r".into(), input: accepted, now: 0, caller: None, attempt: 1 });
            drive(&mut machine, 0, |effect, _| {
                let Effect::Call(_) = effect else { panic!("{effect:?}") };
                let (status, body) = match dice.below(8) {
                    0 => (404, json!({"title": "gone"})),
                    1 => (500, json!({})),
                    _ => (200, fitting(&mut dice, &answer)),
                };
                let headers = vec![("content-type".into(), "application/json".into())];
                (
                    dice.below(50) as i64,
                    Outcome::Called(Ok(Answer { status, headers, body: body.to_string().into_bytes() })),
                )
            });
            runs += 1;
            let ended = machine.ended().expect("ended");
            let failures = machine.records().iter().filter_map(|record| record.failure.as_ref()).chain(&ended.failure);
            for failure in failures {
                assert!(
                    failure.cause != Some(FailureKind::Type)
                        && (failure.kind != "expression" || failure.cause.is_some()),
                    "{}\n{text}\nover {}",
                    failure.detail,
                    given.to_json()
                );
            }
        }
    }
    println!("{clean} clean workflows, {runs} runs, {refused} refused");
    assert!(clean > 300, "{clean} clean, {refused} refused");
}
