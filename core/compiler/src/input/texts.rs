//! Texts as values: parameters, forms and fields of files become what their schemas ask for.

use kanzlei_model::value::Value;
use percent_encoding::{AsciiSet, NON_ALPHANUMERIC, percent_decode_str, utf8_percent_encode};
use serde_json::{Map, Value as Json};

/// Pairs of a query or form (application/x-www-form-urlencoded, as the URL standard reads it).
pub fn form_pairs(bytes: &[u8]) -> Vec<(String, String)> {
    form_urlencoded::parse(bytes).into_owned().collect()
}

/// A part of a path without its percent-encoding (RFC 3986 §2.1).
pub fn decoded(part: &str) -> String {
    percent_decode_str(part).decode_utf8_lossy().into_owned()
}

/// What stands in a part of a path or query as it is, beside letters and digits (RFC 3986 §2.3).
const RESERVED: &AsciiSet = &NON_ALPHANUMERIC.remove(b'-').remove(b'.').remove(b'_').remove(b'~');

/// A text as a part of a path or query: everything but unreserved characters is percent-encoded.
pub fn encoded(text: &str) -> String {
    utf8_percent_encode(text, RESERVED).to_string()
}

/// The types a schema names; all of them when it names none.
pub(super) fn types(schema: &Json) -> Vec<&str> {
    match schema.get("type") {
        Some(Json::String(one)) => vec![one],
        Some(Json::Array(several)) => several.iter().filter_map(Json::as_str).collect(),
        _ => Vec::new(),
    }
}

/// Turns text into the type a schema asks for; text it stays when it cannot be that.
pub(super) fn coerce(schema: &Json, text: String) -> Json {
    for wanted in types(schema) {
        let value = match wanted {
            "integer" => text.parse::<i64>().ok().map(Json::from),
            "number" => text.parse::<i64>().ok().map(Json::from).or_else(|| {
                let number = kanzlei_lang::expr::ops::text_to_number(&text);
                (!text.is_empty() && number.is_finite()).then(|| Json::from(number))
            }),
            "boolean" => match text.as_str() {
                "true" => Some(true.into()),
                "false" => Some(false.into()),
                _ => None,
            },
            "null" if text.is_empty() => Some(Json::Null),
            "object" => serde_json::from_str(&text).ok().filter(Json::is_object),
            _ => None,
        };
        if let Some(value) = value {
            return value;
        }
    }
    Json::String(text)
}

/// What stands in a file as text, as a schema wants it; one value where a list is wanted is a list of it.
pub(super) fn fitted(schema: &Json, value: Json) -> Json {
    let wants = |what: &str| types(schema).contains(&what);
    match value {
        Json::String(text) if wants("array") && !wants("string") => {
            let items = schema.get("items").unwrap_or(&Json::Null);
            if text.is_empty() { Json::Array(Vec::new()) } else { Json::Array(vec![fitted(items, text.into())]) }
        }
        Json::String(text) if text.is_empty() && wants("object") => Json::Object(Map::new()),
        Json::String(text) => coerce(schema, text),
        Json::Array(items) => {
            let schema = schema.get("items").unwrap_or(&Json::Null);
            items.into_iter().map(|item| fitted(schema, item)).collect()
        }
        Json::Object(_) if wants("array") => {
            Json::Array(vec![fitted(schema.get("items").unwrap_or(&Json::Null), value)])
        }
        Json::Object(members) => {
            let of = |name: &str| schema.get("properties").and_then(|all| all.get(name)).unwrap_or(&Json::Null);
            let fit = members.into_iter().map(|(name, value)| {
                let value = fitted(of(&name), value);
                (name, value)
            });
            Json::Object(fit.collect())
        }
        other => other,
    }
}

/// A parameter given several times is a list where the schema says so; else the first counts.
pub(super) fn from_texts(schema: &Json, given: Vec<&String>) -> Option<Value> {
    if types(schema).contains(&"array") && !given.is_empty() {
        let items = schema.get("items").unwrap_or(&Json::Null);
        return Some(Value::list(given.into_iter().map(|text| value(items, text.clone())).collect()));
    }
    given.first().map(|text| value(schema, (*text).clone()))
}

/// Text as the value a schema asks for.
pub(super) fn value(schema: &Json, text: String) -> Value {
    Value::from_json(&coerce(schema, text))
}
