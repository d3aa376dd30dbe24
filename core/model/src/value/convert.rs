//! Values in and out of serde, and as values of serde_json.

use serde::de::{Deserialize, Deserializer, MapAccess, SeqAccess, Visitor};
use serde::ser::{Serialize, SerializeMap, SerializeSeq, Serializer};

use super::keys::key;
use super::{ObjectBuilder, Str, Value};

impl Value {
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
                for (name, value) in members {
                    builder.insert(key(name), Value::from_json(value));
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
            Value::List(list) => list.items().iter().map(Value::to_serde).collect(),
            Value::Object(object) => object
                .iter()
                .filter(|(_, value)| !matches!(value, Value::Undefined))
                .map(|(key, value)| (key.to_string(), value.to_serde()))
                .collect(),
        }
    }
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
                let mut seq = serializer.serialize_seq(Some(list.len()))?;
                for item in list.items() {
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
                while let Some((Name(name), value)) = map.next_entry()? {
                    builder.insert(name, value);
                }
                Ok(builder.finish())
            }
        }
        deserializer.deserialize_any(Reader)
    }
}

/// The name of a member, shared with others of the same text.
struct Name(Str);

impl<'de> Deserialize<'de> for Name {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        struct Reader;
        impl Visitor<'_> for Reader {
            type Value = Name;
            fn expecting(&self, f: &mut std::fmt::Formatter) -> std::fmt::Result {
                f.write_str("a name")
            }
            fn visit_str<E>(self, name: &str) -> Result<Name, E> {
                Ok(Name(key(name)))
            }
        }
        deserializer.deserialize_str(Reader)
    }
}
