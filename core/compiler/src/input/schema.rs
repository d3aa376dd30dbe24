//! JSON Schema (draft 2020-12) over [`Value`]s: a validator reads of a body only what the schema speaks of.

use std::borrow::Cow;
use std::ops::Deref;

use jsonschema::JsonType;
use jsonschema::json::{Array, Json, JsonNumber, Node, NodeIdentity, Object};
use kanzlei_model::value::{self, Value};
use serde_json::{Number, Value as Serde};

/// A validator of values.
pub type Validator = jsonschema::Validator<Values>;

/// The validator of a schema.
///
/// # Errors
/// When the schema is not usable.
pub fn validator(schema: &Serde) -> Result<Validator, jsonschema::ValidationError<'static>> {
    jsonschema::options_for::<Values>()
        .with_draft(jsonschema::Draft::Draft202012)
        .should_validate_formats(true)
        .with_pattern_options(jsonschema::PatternOptions::regex())
        .build(schema)
}

/// Values as the JSON that a schema describes.
pub struct Values;

impl Json for Values {
    type Node<'a> = &'a Value;
    type PreparedKey = String;
    type StringBuffer = Value;

    const ACYCLIC: bool = true;

    fn prepare_key(key: &str) -> String {
        key.to_owned()
    }

    fn with_string_node<T>(buffer: &mut Value, string: &str, f: impl FnOnce(&Value) -> T) -> T {
        *buffer = Value::text(string);
        f(buffer)
    }
}

/// A number as a schema compares it.
#[derive(Clone, Copy)]
pub enum Numeric {
    Int(i64),
    Num(f64),
}

impl Numeric {
    fn number(self) -> Number {
        match self {
            Numeric::Int(int) => int.into(),
            Numeric::Num(num) => Number::from_f64(num).unwrap_or_else(|| 0.into()),
        }
    }
}

impl JsonNumber for Numeric {
    fn as_u64(&self) -> Option<u64> {
        self.number().as_u64()
    }

    fn as_i64(&self) -> Option<i64> {
        self.number().as_i64()
    }

    fn as_f64(&self) -> Option<f64> {
        Some(match self {
            Numeric::Int(int) => *int as f64,
            Numeric::Num(num) => *num,
        })
    }

    fn as_str(&self) -> Cow<'_, str> {
        self.number().to_string().into()
    }

    fn to_number(&self) -> Cow<'_, Number> {
        Cow::Owned(self.number())
    }

    fn is_integer(&self) -> bool {
        match self {
            Numeric::Int(_) => true,
            Numeric::Num(num) => num.fract() == 0.0,
        }
    }
}

impl<'a> Node<'a, Values> for &'a Value {
    type Object = Members<'a>;
    type Array = &'a [Value];
    type Number = Numeric;

    fn as_object(&self) -> Option<Members<'a>> {
        Value::as_object(self).map(Members)
    }

    fn as_array(&self) -> Option<&'a [Value]> {
        Value::as_list(self)
    }

    fn as_string(&self) -> Option<Cow<'a, str>> {
        Value::as_text(self).map(Cow::Borrowed)
    }

    fn as_number(&self) -> Option<Numeric> {
        match self {
            Value::Int(int) => Some(Numeric::Int(*int)),
            Value::Num(num) => Some(Numeric::Num(*num)),
            _ => None,
        }
    }

    fn as_boolean(&self) -> Option<bool> {
        match self {
            Value::Bool(bool) => Some(*bool),
            _ => None,
        }
    }

    fn is_null(&self) -> bool {
        self.is_nullish()
    }

    fn json_type(&self) -> JsonType {
        match self {
            Value::Undefined | Value::Null => JsonType::Null,
            Value::Bool(_) => JsonType::Boolean,
            Value::Int(_) | Value::Num(_) => JsonType::Number,
            Value::Text(_) => JsonType::String,
            Value::List(_) => JsonType::Array,
            Value::Object(_) => JsonType::Object,
        }
    }

    fn equals_value(&self, expected: &Serde) -> bool {
        match (self, expected) {
            (Value::Text(text), Serde::String(expected)) => **text == **expected,
            (Value::Text(_), _) | (_, Serde::String(_)) => false,
            _ => jsonschema::json::cmp::equal(&self.to_serde(), expected),
        }
    }

    fn to_value(&self) -> Cow<'a, Serde> {
        Cow::Owned(self.to_serde())
    }

    fn identity(&self) -> Option<NodeIdentity> {
        Some(NodeIdentity::new(std::ptr::from_ref::<Value>(self) as usize))
    }
}

/// The members of an object; those that are `undefined` are none, as in its JSON.
pub struct Members<'a>(&'a value::Object);

impl<'a> Object<'a, Values> for Members<'a> {
    type Node = &'a Value;
    type MemberName = &'a str;
    type MembersIter = MembersIter<'a>;

    fn len(&self) -> usize {
        self.members().count()
    }

    fn is_empty(&self) -> bool {
        self.members().next().is_none()
    }

    fn get(&self, key: &String) -> Option<&'a Value> {
        self.0.get(key).filter(|value| !matches!(value, Value::Undefined))
    }

    fn members(&self) -> MembersIter<'a> {
        MembersIter(self.0.iter())
    }
}

/// Iterates over members.
pub struct MembersIter<'a>(value::Iter<'a>);

impl<'a> Iterator for MembersIter<'a> {
    type Item = (&'a str, &'a Value);

    fn next(&mut self) -> Option<Self::Item> {
        let (name, value) = self.0.find(|(_, value)| !matches!(value, Value::Undefined))?;
        Some((name.deref(), value))
    }
}

impl<'a> Array<'a, Values> for &'a [Value] {
    type Node = &'a Value;
    type ElementsIter = std::slice::Iter<'a, Value>;

    fn len(&self) -> usize {
        <[Value]>::len(self)
    }

    fn elements(&self) -> std::slice::Iter<'a, Value> {
        (*self).iter()
    }
}
