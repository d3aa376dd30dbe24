//! The values that workflows pass around: JSON plus ECMAScript's `undefined`.
//!
//! A value is cheap to clone (text, lists and objects are shared), never changes once made, and knows
//! how deep it is and how much it weighs, so that no program can build one that later overflows a stack or, written as
//! JSON, the memory. Two numbers exist:
//! [`Value::Int`] keeps all 64 bits of an integer that is only passed through, [`Value::Num`] is what
//! arithmetic works with. Objects list their members in ECMAScript's order (ECMA-262 §10.1.11.1):
//! integer keys first, ascending, then the others as they were added.
//!
//! This module may not know expressions, documents or HTTP.
//!
//! ```
//! use kanzlei_model::value::Value;
//! let value: Value = serde_json::from_str(r#"{"imo": 9074720, "name": "Havbris"}"#).unwrap();
//! assert_eq!(value.member("name"), Some(&Value::text("Havbris")));
//! assert_eq!(value.to_json(), r#"{"imo":9074720,"name":"Havbris"}"#);
//! ```

use std::sync::Arc;

use indexmap::IndexMap;
use serde::de::{Deserialize, Deserializer, MapAccess, SeqAccess, Visitor};
use serde::ser::{Serialize, SerializeMap, SerializeSeq, Serializer};

use crate::file::File;

/// Shared text.
pub type Str = Arc<str>;
type Members = IndexMap<Str, Value, ahash::RandomState>;

/// The deepest nesting a value may have; the same bound that serde_json puts on documents it reads.
pub const MAX_DEPTH: u16 = 127;
/// The most that a value may weigh, in bytes; see [`Value::weight`].
pub const MAX_WEIGHT: u64 = 64 << 20;

/// One value of the expression language.
#[derive(Clone, Debug, Default)]
pub enum Value {
    /// ECMAScript's `undefined`: an absent member, left out when written as JSON.
    #[default]
    Undefined,
    /// JSON null.
    Null,
    /// A boolean.
    Bool(bool),
    /// An integer as it came in, with all its bits.
    Int(i64),
    /// Any other number, as ECMAScript has it.
    Num(f64),
    /// A text.
    Text(Str),
    /// A list, shared.
    List(Arc<List>),
    /// An object with its members in order, shared.
    Object(Arc<Object>),
}

/// A list, its nesting depth and its weight.
#[derive(Debug)]
pub struct List {
    items: Vec<Value>,
    depth: u16,
    weight: u64,
    /// What a pattern match adds to its list of groups: `index`, `input`, `groups`.
    named: Option<Arc<Object>>,
}

/// An object's members, its nesting depth and its weight.
#[derive(Debug, Default)]
pub struct Object {
    members: Members,
    depth: u16,
    weight: u64,
    /// The file that it stands for. No JSON and no expression makes one.
    file: Option<Box<File>>,
}

/// Collects members; [`ObjectBuilder::finish`] puts them into ECMAScript's order once.
#[derive(Debug, Default)]
pub struct ObjectBuilder {
    members: Members,
    has_index_key: bool,
}

impl Value {
    /// A text.
    pub fn text(text: impl Into<Str>) -> Self {
        Value::Text(text.into())
    }

    /// A list of these items.
    pub fn list(items: Vec<Value>) -> Self {
        let (mut depth, mut weight) = (0, 2u64);
        for item in &items {
            depth = depth.max(item.depth());
            weight = weight.saturating_add(item.weight().saturating_add(1));
        }
        Value::List(Arc::new(List { items, depth: depth + 1, weight, named: None }))
    }

    /// The list a pattern match returns, with its further members by name.
    pub fn match_list(items: Vec<Value>, named: Arc<Object>) -> Self {
        let weight = items.iter().fold(2, |weight: u64, item| item.weight().saturating_add(weight).saturating_add(1));
        Value::List(Arc::new(List { items, depth: 1, weight, named: Some(named) }))
    }

    /// An object from members in the order given.
    pub fn object<K: Into<Str>>(members: impl IntoIterator<Item = (K, Value)>) -> Self {
        let mut builder = ObjectBuilder::default();
        for (key, value) in members {
            builder.insert(key.into(), value);
        }
        builder.finish()
    }

    /// How deep lists and objects are nested in it; 0 for anything else.
    pub fn depth(&self) -> u16 {
        match self {
            Value::List(list) => list.depth,
            Value::Object(object) => object.depth,
            _ => 0,
        }
    }

    /// About how many bytes its JSON text has. What is shared inside counts each time it occurs, as it is written
    /// each time.
    pub fn weight(&self) -> u64 {
        match self {
            Value::Text(text) => text.len() as u64 + 2,
            Value::List(list) => list.weight,
            Value::Object(object) => object.weight,
            _ => 8,
        }
    }

    /// The same object, standing for a file; other values stay as they are.
    pub(crate) fn standing_for(self, file: File) -> Self {
        match self {
            Value::Object(object) => {
                let (members, depth, weight) = (object.members.clone(), object.depth, object.weight);
                Value::Object(Arc::new(Object { members, depth, weight, file: Some(Box::new(file)) }))
            }
            other => other,
        }
    }

    /// Whether it stands for a file.
    pub fn is_file(&self) -> bool {
        matches!(self, Value::Object(object) if object.file.is_some())
    }

    /// The same value with another one at a JSON Pointer (RFC 6901); nothing where it has nothing there.
    pub fn with_at(&self, pointer: &str, value: Value) -> Option<Value> {
        let Some(rest) = pointer.strip_prefix('/') else { return pointer.is_empty().then_some(value) };
        let (part, rest) = match rest.find('/') {
            Some(at) => rest.split_at(at),
            None => (rest, ""),
        };
        let name = part.replace("~1", "/").replace("~0", "~");
        match self {
            Value::List(list) => {
                let index: usize = name.parse().ok()?;
                let mut items = list.items.clone();
                let item = items.get_mut(index)?;
                *item = item.with_at(rest, value)?;
                Some(Value::list(items))
            }
            Value::Object(object) => {
                let inner = object.get(&name)?.with_at(rest, value)?;
                let mut builder = ObjectBuilder::with_capacity(object.len());
                builder.extend(object);
                builder.insert(name.as_str().into(), inner);
                Some(builder.finish())
            }
            _ => None,
        }
    }

    /// The member of that name, when this is an object that has it.
    pub fn member(&self, name: &str) -> Option<&Value> {
        match self {
            Value::Object(object) => object.get(name),
            _ => None,
        }
    }

    /// The text, if it is one.
    pub fn as_text(&self) -> Option<&str> {
        match self {
            Value::Text(text) => Some(text),
            _ => None,
        }
    }

    /// The items, if it is a list.
    pub fn as_list(&self) -> Option<&[Value]> {
        match self {
            Value::List(list) => Some(&list.items),
            _ => None,
        }
    }

    /// Whether it is `undefined` or null.
    pub fn is_nullish(&self) -> bool {
        matches!(self, Value::Undefined | Value::Null)
    }

    /// What a message calls this kind of value.
    pub fn kind(&self) -> &'static str {
        match self {
            Value::Undefined => "undefined",
            Value::Null => "null",
            Value::Bool(_) => "a boolean",
            Value::Int(_) | Value::Num(_) => "a number",
            Value::Text(_) => "a string",
            Value::List(_) => "an array",
            Value::Object(_) => "an object",
        }
    }

    /// JSON text, as `JSON.stringify` writes it, except that integers keep their 64 bits and
    /// `undefined` at the top returns `null`.
    pub fn to_json(&self) -> String {
        let mut out = String::new();
        self.write_json(&mut out);
        out
    }

    /// JSON text in canonical form (RFC 8785): members sorted by UTF-16 code units, no white space, numbers as
    /// ECMAScript writes them. Equal values have equal texts, however they were written.
    pub fn to_canonical_json(&self) -> String {
        fn write(value: &Value, out: &mut String) {
            match value {
                Value::List(list) => {
                    out.push('[');
                    for (index, item) in list.items.iter().enumerate() {
                        if index > 0 {
                            out.push(',');
                        }
                        write(item, out);
                    }
                    out.push(']');
                }
                Value::Object(members) => {
                    let mut sorted: Vec<_> =
                        members.iter().filter(|(_, value)| !matches!(value, Value::Undefined)).collect();
                    sorted.sort_by(|(a, _), (b, _)| a.encode_utf16().cmp(b.encode_utf16()));
                    out.push('{');
                    for (index, (name, value)) in sorted.into_iter().enumerate() {
                        if index > 0 {
                            out.push(',');
                        }
                        write_json_text(name, out);
                        out.push(':');
                        write(value, out);
                    }
                    out.push('}');
                }
                // A whole number is the same with and without a fraction.
                Value::Num(num) if num.fract() == 0.0 && num.abs() < 9e15 => Value::Int(*num as i64).write_json(out),
                plain => plain.write_json(out),
            }
        }
        let mut out = String::new();
        write(self, &mut out);
        out
    }

    /// Appends the JSON text of this value.
    pub fn write_json(&self, out: &mut String) {
        match self {
            Value::Undefined | Value::Null => out.push_str("null"),
            Value::Bool(true) => out.push_str("true"),
            Value::Bool(false) => out.push_str("false"),
            Value::Int(int) => {
                use std::fmt::Write;
                let _ = write!(out, "{int}");
            }
            Value::Num(num) if num.is_finite() => {
                out.push_str(ryu_js::Buffer::new().format_finite(*num));
            }
            Value::Num(_) => out.push_str("null"),
            Value::Text(text) => write_json_text(text, out),
            Value::List(list) => {
                out.push('[');
                for (index, item) in list.items.iter().enumerate() {
                    if index > 0 {
                        out.push(',');
                    }
                    item.write_json(out);
                }
                out.push(']');
            }
            Value::Object(object) => {
                out.push('{');
                let mut first = true;
                for (key, value) in object.iter() {
                    if matches!(value, Value::Undefined) {
                        continue;
                    }
                    if !std::mem::take(&mut first) {
                        out.push(',');
                    }
                    write_json_text(key, out);
                    out.push(':');
                    value.write_json(out);
                }
                out.push('}');
            }
        }
    }

    /// Returns the object, where it is one.
    pub fn as_object(&self) -> Option<&Object> {
        match self {
            Value::Object(object) => Some(object),
            _ => None,
        }
    }

    /// Takes over a serde_json value.
    pub fn from_json(json: &serde_json::Value) -> Self {
        match json {
            serde_json::Value::Null => Value::Null,
            serde_json::Value::Bool(b) => Value::Bool(*b),
            serde_json::Value::Number(n) => match n.as_i64() {
                Some(int) => Value::Int(int),
                None => Value::Num(n.as_f64().unwrap_or(f64::NAN)),
            },
            serde_json::Value::String(text) => Value::text(text.as_str()),
            serde_json::Value::Array(items) => Value::list(items.iter().map(Value::from_json).collect()),
            serde_json::Value::Object(members) => {
                let mut builder = ObjectBuilder::with_capacity(members.len());
                for (key, value) in members {
                    builder.insert(key.as_str().into(), Value::from_json(value));
                }
                builder.finish()
            }
        }
    }

    /// The same as a serde_json value; `undefined` members are left out, as in JSON text.
    pub fn to_serde(&self) -> serde_json::Value {
        match self {
            Value::Undefined | Value::Null => serde_json::Value::Null,
            Value::Bool(b) => (*b).into(),
            Value::Int(int) => (*int).into(),
            Value::Num(num) if num.fract() == 0.0 && num.abs() < 9e15 => (*num as i64).into(),
            Value::Num(num) => {
                serde_json::Number::from_f64(*num).map_or(serde_json::Value::Null, serde_json::Value::Number)
            }
            Value::Text(text) => text.as_ref().into(),
            Value::List(list) => list.items.iter().map(Value::to_serde).collect(),
            Value::Object(object) => object
                .iter()
                .filter(|(_, value)| !matches!(value, Value::Undefined))
                .map(|(key, value)| (key.to_string(), value.to_serde()))
                .collect(),
        }
    }
}

/// Equal in content. Unlike `===` this compares lists and objects member by member.
impl PartialEq for Value {
    fn eq(&self, other: &Self) -> bool {
        match (self, other) {
            (Value::Undefined, Value::Undefined) | (Value::Null, Value::Null) => true,
            (Value::Bool(a), Value::Bool(b)) => a == b,
            (Value::Int(a), Value::Int(b)) => a == b,
            (Value::Num(a), Value::Num(b)) => a == b,
            (Value::Int(a), Value::Num(b)) | (Value::Num(b), Value::Int(a)) => *a as f64 == *b,
            (Value::Text(a), Value::Text(b)) => a == b,
            (Value::List(a), Value::List(b)) => a.items == b.items,
            (Value::Object(a), Value::Object(b)) => a.members == b.members,
            _ => false,
        }
    }
}

impl List {
    /// The items in order.
    pub fn items(&self) -> &[Value] {
        &self.items
    }

    /// Members beside the items, on the result of a pattern match.
    pub fn named(&self) -> Option<&Object> {
        self.named.as_deref()
    }
}

impl Object {
    /// The member of a name.
    pub fn get(&self, name: &str) -> Option<&Value> {
        // Few members are found faster by looking at each: lengths differ before any text is read.
        if self.members.len() <= 8 {
            return self
                .members
                .iter()
                .find(|(key, _)| key.len() == name.len() && &***key == name)
                .map(|(_, value)| value);
        }
        self.members.get(name)
    }

    /// The number of members.
    pub fn len(&self) -> usize {
        self.members.len()
    }

    /// The file that it stands for.
    pub fn file(&self) -> Option<&File> {
        self.file.as_deref()
    }

    /// Whether it has no members.
    pub fn is_empty(&self) -> bool {
        self.members.is_empty()
    }

    /// The members in order.
    pub fn iter(&self) -> impl Iterator<Item = (&Str, &Value)> {
        self.members.iter()
    }
}

impl ObjectBuilder {
    /// An empty object with room for so many members.
    pub fn with_capacity(capacity: usize) -> Self {
        ObjectBuilder { members: Members::with_capacity_and_hasher(capacity, Default::default()), has_index_key: false }
    }

    /// Adds a member, or replaces the value of an existing one.
    pub fn insert(&mut self, key: Str, value: Value) {
        self.has_index_key |= array_index(&key).is_some();
        self.members.insert(key, value);
    }

    /// The member of a name, to be changed.
    pub fn get_mut(&mut self, key: &str) -> Option<&mut Value> {
        self.members.get_mut(key)
    }

    /// Takes a member out again.
    pub fn remove(&mut self, key: &str) -> Option<Value> {
        self.members.shift_remove(key)
    }

    /// Adds all members of an object, later ones replacing earlier ones of the same name.
    pub fn extend(&mut self, object: &Object) {
        for (key, value) in object.iter() {
            self.insert(key.clone(), value.clone());
        }
    }

    /// The object.
    pub fn finish(mut self) -> Value {
        if self.has_index_key {
            // Stable, and text keys all compare equal, so only the integer keys move.
            self.members.sort_by(|a, _, b, _| {
                let rank = |key: &str| array_index(key).map_or(u64::MAX, u64::from);
                rank(a).cmp(&rank(b))
            });
        }
        let (mut depth, mut weight) = (0, 2u64);
        for (key, value) in &self.members {
            depth = depth.max(value.depth());
            weight = weight.saturating_add(value.weight().saturating_add(key.len() as u64 + 4));
        }
        Value::Object(Arc::new(Object { members: self.members, depth: depth + 1, weight, file: None }))
    }
}

/// The array index a key stands for, if it is one in canonical form (ECMA-262 §6.1.7).
pub fn array_index(key: &str) -> Option<u32> {
    let first = *key.as_bytes().first()?;
    if !first.is_ascii_digit() || (first == b'0' && key.len() > 1) || key.len() > 10 {
        return None;
    }
    key.parse().ok().filter(|&index| index != u32::MAX)
}

/// Appends a JSON string literal with the escapes `JSON.stringify` uses.
pub fn write_json_text(text: &str, out: &mut String) {
    out.push('"');
    let mut plain_from = 0;
    for (at, byte) in text.bytes().enumerate() {
        let escape = match byte {
            b'"' => "\\\"",
            b'\\' => "\\\\",
            b'\n' => "\\n",
            b'\r' => "\\r",
            b'\t' => "\\t",
            0x08 => "\\b",
            0x0c => "\\f",
            0..=0x1f => "",
            _ => continue,
        };
        out.push_str(&text[plain_from..at]);
        if escape.is_empty() {
            use std::fmt::Write;
            let _ = write!(out, "\\u{byte:04x}");
        } else {
            out.push_str(escape);
        }
        plain_from = at + 1;
    }
    out.push_str(&text[plain_from..]);
    out.push('"');
}

impl Serialize for Value {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        match self {
            Value::Undefined | Value::Null => serializer.serialize_unit(),
            Value::Bool(b) => serializer.serialize_bool(*b),
            Value::Int(int) => serializer.serialize_i64(*int),
            Value::Num(num) if num.fract() == 0.0 && num.abs() < 9e15 => serializer.serialize_i64(*num as i64),
            Value::Num(num) => serializer.serialize_f64(*num),
            Value::Text(text) => serializer.serialize_str(text),
            Value::List(list) => {
                let mut seq = serializer.serialize_seq(Some(list.items.len()))?;
                for item in &list.items {
                    seq.serialize_element(item)?;
                }
                seq.end()
            }
            Value::Object(object) => {
                let mut map = serializer.serialize_map(None)?;
                for (key, value) in object.iter() {
                    if !matches!(value, Value::Undefined) {
                        map.serialize_entry(key.as_ref(), value)?;
                    }
                }
                map.end()
            }
        }
    }
}

impl<'de> Deserialize<'de> for Value {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        struct Reader;
        impl<'de> Visitor<'de> for Reader {
            type Value = Value;
            fn expecting(&self, f: &mut std::fmt::Formatter) -> std::fmt::Result {
                f.write_str("a JSON value")
            }
            fn visit_unit<E>(self) -> Result<Value, E> {
                Ok(Value::Null)
            }
            fn visit_bool<E>(self, b: bool) -> Result<Value, E> {
                Ok(Value::Bool(b))
            }
            fn visit_i64<E>(self, int: i64) -> Result<Value, E> {
                Ok(Value::Int(int))
            }
            fn visit_u64<E>(self, int: u64) -> Result<Value, E> {
                Ok(i64::try_from(int).map_or(Value::Num(int as f64), Value::Int))
            }
            fn visit_f64<E>(self, num: f64) -> Result<Value, E> {
                Ok(Value::Num(num))
            }
            fn visit_str<E>(self, text: &str) -> Result<Value, E> {
                Ok(Value::text(text))
            }
            fn visit_seq<A: SeqAccess<'de>>(self, mut seq: A) -> Result<Value, A::Error> {
                let mut items = Vec::new();
                while let Some(item) = seq.next_element()? {
                    items.push(item);
                }
                Ok(Value::list(items))
            }
            fn visit_map<A: MapAccess<'de>>(self, mut map: A) -> Result<Value, A::Error> {
                let mut builder = ObjectBuilder::default();
                while let Some((key, value)) = map.next_entry::<String, Value>()? {
                    builder.insert(key.into(), value);
                }
                Ok(builder.finish())
            }
        }
        deserializer.deserialize_any(Reader)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn json_goes_in_and_out_unchanged() {
        for json in [
            "null",
            "true",
            "[1,-2,3.5,1e+21,9007199254740993]",
            r#"{"b":1,"a":"x\"\\\n\u0001é😀"}"#,
            r#"{"":[{}],"nested":{"deep":[[]]}}"#,
            "9223372036854775807",
        ] {
            let value: Value = serde_json::from_str(json).expect(json);
            assert_eq!(value.to_json(), json);
            assert_eq!(Value::from_json(&serde_json::from_str(json).expect(json)).to_json(), json);
            assert_eq!(serde_json::from_str::<Value>(&value.to_serde().to_string()).expect(json), value);
        }
    }

    #[test]
    fn members_stand_in_ecmascript_order() {
        let value: Value = serde_json::from_str(r#"{"b":1,"10":2,"a":3,"9":4,"01":5}"#).expect("json");
        assert_eq!(value.to_json(), r#"{"9":4,"10":2,"b":1,"a":3,"01":5}"#);
    }

    #[test]
    fn undefined_members_are_left_out_and_depth_is_known() {
        let value = Value::object([("gone", Value::Undefined), ("here", Value::list(vec![Value::list(vec![])]))]);
        assert_eq!(value.to_json(), r#"{"here":[[]]}"#);
        assert_eq!(value.depth(), 3);
    }

    #[test]
    fn a_value_weighs_about_what_its_json_has_in_bytes() {
        for json in [r#"{"name":"Havbris","calls":[{"berth":4},{"berth":2}]}"#, r#"["a","bc",[]]"#, r#""text""#] {
            let value: Value = serde_json::from_str(json).expect(json);
            let (weight, bytes) = (value.weight() as f64, json.len() as f64);
            assert!((0.7..1.6).contains(&(weight / bytes)), "{json}: {weight}");
        }
        // Twice the same inside counts twice: two to the power of a hundred.
        let doubled = (0..100).fold(Value::text("x"), |value, _| Value::list(vec![value.clone(), value]));
        assert_eq!((doubled.depth(), doubled.weight()), (100, u64::MAX));
    }
}
