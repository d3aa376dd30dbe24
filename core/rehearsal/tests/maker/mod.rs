//! Random schemas, values that fit them, and expressions over them, for the tests of promise 2.
#![allow(dead_code)]

use serde_json::{Value as Json, json};

use kanzlei_samples::Dice;

/// A schema for a value that is nested no deeper than `depth`.
pub fn any_schema(dice: &mut Dice, depth: usize) -> Json {
    match dice.below(if depth == 0 { 6 } else { 11 }) {
        0 => json!({"type": "string"}),
        1 => json!({"type": "number"}),
        2 => json!({"type": "boolean"}),
        3 => json!({"enum": ["cargo", "ferry", "tanker"]}),
        4 => json!({"type": ["string", "null"]}),
        5 => json!({"type": ["number", "null"]}),
        6 => json!({"type": "array", "items": any_schema(dice, depth - 1)}),
        7 => json!({"type": "array", "items": any_schema(dice, depth - 1), "minItems": 1 + dice.below(2)}),
        8 => json!({"anyOf": [
            {"type": "object", "required": ["kind", "a"], "properties": {"kind": {"const": "one"}, "a": {"type": "number"}}},
            {"type": "object", "required": ["kind", "b"], "properties": {"kind": {"const": "two"}, "b": {"type": "string"}}},
        ]}),
        _ => object_schema(dice, depth - 1),
    }
}

pub fn object_schema(dice: &mut Dice, depth: usize) -> Json {
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
pub fn fitting(dice: &mut Dice, schema: &Json) -> Json {
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
        "array" => (0..dice.below(4).max(schema["minItems"].as_u64().unwrap_or(0) as usize))
            .map(|_| fitting(dice, &schema["items"]))
            .collect(),
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
pub struct Place {
    pub text: String,
    pub schema: Json,
    pub maybe: bool,
}

pub struct Maker<'d> {
    pub dice: &'d mut Dice,
    pub names: Vec<Place>,
    pub locals: usize,
    /// One in so many places is used without the care it needs.
    pub slips: usize,
}

impl Maker<'_> {
    /// A name, or something read from one.
    pub fn place(&mut self) -> Place {
        let mut place = self.dice.pick(&self.names).clone();
        for _ in 0..self.dice.below(4) {
            let schema = match place.schema.get("anyOf").and_then(Json::as_array) {
                Some(_) if !self.dice.one_in(2) && !self.dice.one_in(self.slips / 6) => break,
                Some(several) => several[self.dice.below(several.len())].clone(),
                None => place.schema.clone(),
            };
            if let Some(properties) = schema.get("properties").and_then(Json::as_object) {
                let names: Vec<&String> = properties.keys().collect();
                let name = (*self.dice.pick(&names)).clone();
                let required = schema["required"].as_array().is_some_and(|all| all.iter().any(|r| *r == json!(name)));
                let dot = if place.maybe && !self.dice.one_in(self.slips / 2) { "?." } else { "." };
                let shown = if self.dice.one_in(self.slips * 3) { format!("{name}x") } else { name.clone() };
                place.text = format!("{}{dot}{shown}", place.text);
                place.maybe |= !required;
                place.schema = properties[&name].clone();
            } else if schema["type"] == "array" && !place.maybe && schema["minItems"].is_u64() && self.dice.one_in(2) {
                // The first one is always there.
                place.text = format!("{}{}", place.text, self.dice.pick(&["[0]", ".at(0)", ".at(-1)"]));
                place.schema = schema["items"].clone();
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

    pub fn of_kind(&mut self, kind: &str) -> Option<Place> {
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
            Some(place) if place.maybe && !self.dice.one_in(self.slips) => format!("({} ?? {otherwise})", place.text),
            Some(place) => place.text,
            None => otherwise.to_owned(),
        }
    }

    pub fn number(&mut self, depth: usize) -> String {
        if depth == 0 {
            return self.guarded("number", "1");
        }
        let d = depth - 1;
        match self.dice.below(12) {
            0 => (*self.dice.pick(&["0", "1", "2.5", "(-3)", "100"])).to_owned(),
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
            10 => format!("(- {})", self.number(d)),
            _ => self.guarded("number", "0"),
        }
    }

    pub fn text(&mut self, depth: usize) -> String {
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

    pub fn truth(&mut self, depth: usize) -> String {
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
    pub fn list(&mut self, depth: usize) -> Place {
        let base = match self.of_kind("array") {
            Some(place) if place.maybe && !self.dice.one_in(self.slips) => {
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
            1 => match self.dice.below(3) {
                0 if base.schema["minItems"].is_u64() => format!("[{}[0], ...{}]", base.text, base.text),
                _ => format!("[...{}, ...{}]", base.text, base.text),
            },
            2 => format!("{}.slice({})", base.text, self.number(0)),
            3 => format!("{}.toReversed()", base.text),
            _ => base.text.clone(),
        };
        Place { text, ..base }
    }

    pub fn local(&mut self, list: &Place) -> Place {
        self.locals += 1;
        Place { text: format!("p{}", self.locals), schema: list.schema["items"].clone(), maybe: false }
    }

    pub fn within(&mut self, local: &Place, make: impl FnOnce(&mut Self) -> String) -> String {
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

    pub fn anything(&mut self, depth: usize) -> String {
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
