//! Types from JSON Schema and back.
//!
//! Reads what says something about kinds and members (JSON Schema 2020-12, and OpenAPI 3.0's `nullable`);
//! bounds, patterns and formats are left to validation. An object schema that lists properties is taken
//! to list all of them, unless it has `additionalProperties`: a service may send more, but nobody should
//! build on what is not described. References are followed within the document; a schema that contains
//! itself is unknown from there on.

use std::collections::HashMap;
use std::sync::Arc;

use serde_json::{Map, Value as Json, json};

use super::{Items, Member, Shape, Text, Type};
use kanzlei_model::value::Value;

/// How deep schemas may nest.
const DEEPEST: u32 = 40;
/// The most parts that the type of a schema may have; a larger one is unknown. What is referred to counts each time.
const MOST_PARTS: u64 = 20_000;

/// Reads schemas of one document.
pub struct Reader<'d> {
    root: &'d Json,
    /// Schemas that were referred to; none while they are being read.
    known: HashMap<String, Option<Type>>,
    /// Numbers of parts by the address of what is shared, which the type beside it keeps alive.
    parts: HashMap<usize, (Type, u64)>,
    depth: u32,
}

impl<'d> Reader<'d> {
    /// Makes a reader of schemas whose references point into `root`.
    pub fn new(root: &'d Json) -> Self {
        Reader { root, known: HashMap::new(), parts: HashMap::new(), depth: 0 }
    }

    /// Follows references, at most sixteen in a row.
    pub fn resolve(&self, schema: &'d Json) -> &'d Json {
        let mut at = schema;
        for _ in 0..16 {
            let target = at.get("$ref").and_then(Json::as_str).and_then(|r| r.strip_prefix('#'));
            match target.and_then(|pointer| self.root.pointer(pointer)) {
                Some(target) => at = target,
                None => break,
            }
        }
        at
    }

    /// Returns the type that a schema describes.
    pub fn read(&mut self, schema: &'d Json) -> Type {
        if self.depth >= DEEPEST {
            return Type::Unknown;
        }
        self.depth += 1;
        let read = self.one(schema);
        self.depth -= 1;
        if self.parts(&read) > MOST_PARTS { Type::Unknown } else { read }
    }

    /// The number of parts of a type.
    fn parts(&mut self, of: &Type) -> u64 {
        let (address, inner): (usize, Vec<&Type>) = match of {
            Type::List(items) => (Arc::as_ptr(items) as usize, items.first.iter().chain([&items.of]).collect()),
            Type::Object(shape) => {
                let members = shape.members.iter().map(|member| &member.value);
                (Arc::as_ptr(shape) as usize, members.chain(&shape.rest).collect())
            }
            Type::Union(several) => (several.as_ptr() as usize, several.iter().collect()),
            _ => return 1,
        };
        if let Some((_, parts)) = self.parts.get(&address) {
            return *parts;
        }
        let parts = inner.into_iter().fold(1, |sum: u64, one| sum.saturating_add(self.parts(one)));
        self.parts.insert(address, (of.clone(), parts));
        parts
    }

    fn one(&mut self, schema: &'d Json) -> Type {
        let Json::Object(members) = schema else {
            return match schema {
                Json::Bool(false) => Type::Never,
                _ => Type::Unknown,
            };
        };
        if let Some(reference) = members.get("$ref").and_then(Json::as_str) {
            if let Some(known) = self.known.get(reference) {
                return known.clone().unwrap_or(Type::Unknown);
            }
            let Some(target) = reference.strip_prefix('#').and_then(|pointer| self.root.pointer(pointer)) else {
                return Type::Unknown;
            };
            self.known.insert(reference.to_owned(), None);
            let read = self.read(target);
            self.known.insert(reference.to_owned(), Some(read.clone()));
            return read;
        }
        if let Some(constant) = members.get("const") {
            return Type::of(&Value::from_json(constant));
        }
        let mut read = match members.get("enum") {
            Some(Json::Array(values)) => Type::union(values.iter().map(|value| Type::of(&Value::from_json(value)))),
            _ => self.by_type(members),
        };
        for key in ["oneOf", "anyOf"] {
            if let Some(Json::Array(several)) = members.get(key) {
                let one_of = Type::union(several.iter().map(|one| self.read(one)).collect::<Vec<_>>());
                read = both(&read, &one_of);
            }
        }
        if let Some(Json::Array(all)) = members.get("allOf") {
            for one in all {
                let one = self.read(one);
                read = both(&read, &one);
            }
        }
        if members.get("nullable") == Some(&Json::Bool(true)) {
            read = read.or(Type::Null);
        }
        read
    }

    fn by_type(&mut self, members: &'d Map<String, Json>) -> Type {
        let mut kinds: Vec<&str> = match members.get("type") {
            Some(Json::String(one)) => vec![one],
            Some(Json::Array(several)) => several.iter().filter_map(Json::as_str).collect(),
            _ => Vec::new(),
        };
        if kinds.is_empty() {
            // A schema without a type that speaks of members or items means objects or lists.
            if members.contains_key("properties") {
                kinds.push("object");
            } else if members.contains_key("items") {
                kinds.push("array");
            } else {
                return Type::Unknown;
            }
        }
        Type::union(
            kinds
                .into_iter()
                .map(|kind| match kind {
                    "null" => Type::Null,
                    "boolean" => Type::BOOL,
                    "number" | "integer" => Type::NUMBER,
                    "string" => {
                        Type::Text(members.get("format").and_then(Json::as_str).map_or(Text::Any, Text::of_format))
                    }
                    "array" => self.list(members),
                    "object" => self.object(members),
                    _ => Type::Unknown,
                })
                .collect::<Vec<_>>(),
        )
    }

    fn list(&mut self, members: &'d Map<String, Json>) -> Type {
        let rest = members.get("items").map_or(Type::Unknown, |items| self.read(items));
        let least =
            members.get("minItems").and_then(Json::as_u64).map_or(0, |least| least.min(super::MOST_FIRST as u64))
                as usize;
        let prefix: Vec<Type> = match members.get("prefixItems").and_then(Json::as_array) {
            Some(prefix) => prefix.iter().map(|item| self.read(item)).collect(),
            None => Vec::new(),
        };
        let first: Vec<Type> = prefix.iter().chain(std::iter::repeat(&rest)).take(least).cloned().collect();
        Type::beginning(first, Type::union(prefix.into_iter().chain([rest])))
    }

    fn object(&mut self, members: &'d Map<String, Json>) -> Type {
        let required: Vec<&str> = match members.get("required") {
            Some(Json::Array(names)) => names.iter().filter_map(Json::as_str).collect(),
            _ => Vec::new(),
        };
        let properties = members.get("properties").and_then(Json::as_object);
        let mut shape = Shape { file: members.contains_key(FILE), ..Shape::default() };
        for (name, schema) in properties.into_iter().flatten() {
            let value = self.read(schema);
            let optional = !required.contains(&name.as_str());
            shape.members.push(Member { name: name.as_str().into(), value, optional });
        }
        for name in required.iter().filter(|name| shape.get(name).is_none()).collect::<Vec<_>>() {
            shape.members.push(Member { name: (*name).into(), value: Type::Unknown, optional: false });
        }
        shape.rest = match members.get("additionalProperties") {
            Some(Json::Bool(false)) => None,
            Some(Json::Bool(true)) => Some(Type::Unknown),
            Some(schema) => Some(self.read(schema)),
            None if members.contains_key("patternProperties") => Some(Type::Unknown),
            None if shape.members.is_empty() => Some(Type::Unknown),
            None => None,
        };
        Type::Object(Arc::new(shape))
    }
}

/// What is of both types, as `allOf` asks: members of both objects, the narrower of two kinds.
fn both(a: &Type, b: &Type) -> Type {
    match (a, b) {
        (Type::Unknown, other) | (other, Type::Unknown) => other.clone(),
        (Type::Object(a), Type::Object(b)) => {
            let mut shape = (**a).clone();
            for member in &b.members {
                let (value, optional) = match shape.get(&member.name) {
                    Some(known) => (both(&known.value, &member.value), known.optional && member.optional),
                    None => (member.value.clone(), member.optional),
                };
                shape.set(member.name.clone(), value, optional);
            }
            shape.rest = match (&shape.rest, &b.rest) {
                (Some(a), Some(b)) => Some(both(a, b)),
                _ => None,
            };
            Type::Object(Arc::new(shape))
        }
        (Type::Union(_), _) | (_, Type::Union(_)) => {
            let pairs = a.alternatives().iter().flat_map(|a| b.alternatives().iter().map(move |b| both(a, b)));
            Type::union(pairs.collect::<Vec<_>>())
        }
        (Type::List(a), Type::List(b)) => {
            let least = a.first.len().max(b.first.len());
            let at = |list: &Items, at: usize| list.first.get(at).unwrap_or(&list.of).clone();
            Type::beginning((0..least).map(|n| both(&at(a, n), &at(b, n))).collect::<Vec<_>>(), both(&a.of, &b.of))
        }
        (a, b) if a.covers(b) => b.clone(),
        (a, b) if b.covers(a) => a.clone(),
        _ => Type::Never,
    }
}

/// The key of a schema that is one of a file. No author's schema has it.
pub const FILE: &str = "x-file";

/// The type that a schema describes, that refers to nothing outside itself.
pub fn read(schema: &Json) -> Type {
    Reader::new(schema).read(schema)
}

/// The JSON Schema (2020-12) of a type.
pub fn write(of: &Type) -> Json {
    match of {
        Type::Unknown => json!({}),
        Type::Never => Json::Bool(false),
        // `undefined` is written as JSON like null where something must stand.
        Type::Undefined | Type::Null => json!({"type": "null"}),
        Type::Bool(None) => json!({"type": "boolean"}),
        Type::Bool(Some(b)) => json!({"const": b}),
        Type::Number(None) => json!({"type": "number"}),
        Type::Number(Some(n)) if n.fract() == 0.0 && n.abs() < 9e15 => json!({"const": *n as i64}),
        Type::Number(Some(n)) => json!({"const": n}),
        Type::Text(Text::One(text)) => json!({"const": &**text}),
        Type::Text(text) => match text.format() {
            Some(format) => json!({"type": "string", "format": format}),
            None => json!({"type": "string"}),
        },
        Type::List(item) => match &item.of {
            Type::Unknown => json!({"type": "array", "items": {}}),
            Type::Never => json!({"type": "array", "maxItems": 0}),
            item => json!({"type": "array", "items": write(&or_null(item))}),
        },
        Type::Object(shape) => {
            let mut properties = Map::new();
            let mut required = Vec::new();
            for member in &shape.members {
                // A member that is `undefined` is left out.
                let value = member.value.keep(|one| *one != Type::Undefined);
                if value == Type::Never {
                    continue;
                }
                properties.insert(member.name.to_string(), write(&value));
                if !member.optional && !may_be_undefined(&member.value) {
                    required.push(Json::from(&*member.name));
                }
            }
            let mut schema = json!({"type": "object"});
            if !properties.is_empty() {
                schema["properties"] = Json::Object(properties);
            }
            if !required.is_empty() {
                schema["required"] = required.into();
            }
            match &shape.rest {
                None => schema["additionalProperties"] = false.into(),
                Some(Type::Unknown) if shape.members.is_empty() => {}
                Some(Type::Unknown) => schema["additionalProperties"] = true.into(),
                Some(rest) => schema["additionalProperties"] = write(rest),
            }
            schema
        }
        // Both ways of being missing are null once they are written.
        Type::Union(several) if several.contains(&Type::Undefined) => match or_null(of) {
            Type::Union(several) => union(&several),
            one => write(&one),
        },
        Type::Union(several) => union(several),
    }
}

fn may_be_undefined(of: &Type) -> bool {
    of.alternatives().iter().any(|one| matches!(one, Type::Undefined | Type::Unknown))
}

/// In a list `undefined` is written as null.
fn or_null(of: &Type) -> Type {
    of.map(|one| if *one == Type::Undefined { Type::Null } else { one.clone() })
}

fn union(several: &[Type]) -> Json {
    if several.contains(&Type::Unknown) {
        return json!({});
    }
    let literals: Option<Vec<Json>> = several.iter().map(|one| write(one).get("const").cloned()).collect();
    if let Some(values) = literals {
        return json!({"enum": values});
    }
    let kinds: Option<Vec<Json>> = several
        .iter()
        .map(|one| match write(one) {
            Json::Object(mut schema) if schema.len() == 1 => schema.remove("type"),
            _ => None,
        })
        .collect();
    match kinds {
        Some(kinds) => json!({"type": kinds}),
        None => json!({"anyOf": several.iter().map(write).collect::<Vec<_>>()}),
    }
}
