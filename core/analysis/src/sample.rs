//! Schemas from samples: what JSON values have in common, and an OpenAPI document of answers that were seen.
//!
//! Members that all samples of an object have are required; numbers are integers where all of them are; texts have a
//! format where all of them fit it. Nothing is an enumeration: a sample says what was, not what may be.
//!
//! ```
//! use kanzlei_analysis::sample::schema_of;
//! use serde_json::json;
//! let schema = schema_of(&[json!({"id": 1, "name": "a"}), json!({"id": 2})]);
//! assert_eq!(schema["required"], json!(["id"]));
//! assert_eq!(schema["properties"]["id"], json!({"type": "integer"}));
//! ```

use std::collections::BTreeMap;

use serde_json::{Map, Value as Json, json};

/// An answer that a service gave.
#[derive(Clone, Debug, PartialEq)]
pub struct Seen {
    /// `GET`.
    pub method: String,
    /// The path below the base, with `{…}` where it differs from call to call.
    pub path: String,
    /// The status.
    pub status: u16,
    /// The body; null where there was none.
    pub body: Json,
}

/// The JSON Schema (2020-12) that all samples fit.
pub fn schema_of(samples: &[Json]) -> Json {
    let borrowed: Vec<&Json> = samples.iter().collect();
    merged(&borrowed)
}

fn merged(samples: &[&Json]) -> Json {
    let mut alternatives: Vec<Json> = Vec::new();
    let of = |wanted: fn(&Json) -> bool| -> Vec<&Json> { samples.iter().copied().filter(|one| wanted(one)).collect() };
    if !of(Json::is_boolean).is_empty() {
        alternatives.push(json!({"type": "boolean"}));
    }
    let numbers = of(Json::is_number);
    if !numbers.is_empty() {
        let whole = numbers.iter().all(|number| number.is_i64() || number.is_u64());
        alternatives.push(json!({"type": if whole { "integer" } else { "number" }}));
    }
    let texts = of(Json::is_string);
    if !texts.is_empty() {
        alternatives.push(text(&texts));
    }
    let lists = of(Json::is_array);
    if !lists.is_empty() {
        let items: Vec<&Json> = lists.iter().filter_map(|list| list.as_array()).flatten().collect();
        let mut list = json!({"type": "array"});
        if !items.is_empty() {
            list["items"] = merged(&items);
        }
        alternatives.push(list);
    }
    let objects = of(Json::is_object);
    if !objects.is_empty() {
        alternatives.push(object(&objects));
    }
    let empty = samples.iter().any(|one| one.is_null());
    match (alternatives.len(), empty) {
        (0, true) => json!({"type": "null"}),
        (0, false) => json!({}),
        (1, false) => alternatives.remove(0),
        (1, true) => {
            let mut one = alternatives.remove(0);
            one["type"] = json!([one["type"], "null"]);
            one
        }
        _ => {
            alternatives.extend(empty.then(|| json!({"type": "null"})));
            json!({"anyOf": alternatives})
        }
    }
}

fn object(samples: &[&Json]) -> Json {
    let mut members: BTreeMap<&str, Vec<&Json>> = BTreeMap::new();
    let mut order: Vec<&str> = Vec::new();
    for (name, value) in samples.iter().filter_map(|one| one.as_object()).flatten() {
        let known = members.entry(name).or_default();
        if known.is_empty() {
            order.push(name);
        }
        known.push(value);
    }
    let (mut properties, mut required) = (Map::new(), Vec::new());
    for name in order {
        let values = &members[name];
        properties.insert(name.to_owned(), merged(values));
        if values.len() == samples.len() {
            required.push(name);
        }
    }
    let mut schema = json!({"type": "object", "properties": properties});
    if !required.is_empty() {
        schema["required"] = json!(required);
    }
    schema
}

/// A text, with a format that all samples fit.
fn text(samples: &[&Json]) -> Json {
    let all = |fits: &dyn Fn(&str) -> bool| samples.iter().filter_map(|one| one.as_str()).all(fits);
    let digits = |text: &str| text.bytes().all(|byte| byte.is_ascii_digit());
    let date = |text: &str| {
        let parts: Vec<&str> = text.split('-').collect();
        parts.len() == 3
            && [4, 2, 2] == [parts[0].len(), parts[1].len(), parts[2].len()]
            && parts.iter().all(|p| digits(p))
    };
    let uuid = |text: &str| {
        let lengths: Vec<usize> = text.split('-').map(str::len).collect();
        lengths == [8, 4, 4, 4, 12] && text.bytes().all(|byte| byte == b'-' || byte.is_ascii_hexdigit())
    };
    let format = if all(&|text| text.parse::<kanzlei_model::time::Timestamp>().is_ok()) {
        "date-time"
    } else if all(&date) {
        "date"
    } else if all(&uuid) {
        "uuid"
    } else {
        return json!({"type": "string"});
    };
    json!({"type": "string", "format": format})
}

/// An OpenAPI document (3.1) of a service that answered like this, with one operation for each method and path.
pub fn openapi_of(service: &str, seen: &[Seen]) -> Json {
    let mut calls: BTreeMap<(&str, &str), BTreeMap<u16, Vec<&Json>>> = BTreeMap::new();
    for one in seen {
        calls.entry((&one.path, &one.method)).or_default().entry(one.status).or_default().push(&one.body);
    }
    let mut paths = Map::new();
    for ((path, method), statuses) in calls {
        let responses = statuses.into_iter().map(|(status, bodies)| {
            let bodies: Vec<&Json> = bodies.into_iter().filter(|body| !body.is_null()).collect();
            let mut response = json!({"description": format!("seen {}", times(bodies.len()))});
            if let Some(first) = bodies.first() {
                response["content"] = json!({"application/json": {"schema": merged(&bodies), "example": first}});
            }
            (status.to_string(), response)
        });
        let mut operation = json!({"operationId": operation_id(method, path)});
        let parameters: Vec<Json> = parameters(path)
            .map(|name| json!({"name": name, "in": "path", "required": true, "schema": {"type": "string"}}))
            .collect();
        if !parameters.is_empty() {
            operation["parameters"] = parameters.into();
        }
        operation["responses"] = Json::Object(responses.collect());
        let entry = paths.entry(path.to_owned()).or_insert_with(|| json!({}));
        entry[method.to_ascii_lowercase()] = operation;
    }
    json!({
        "openapi": "3.1.0",
        "info": {"title": service, "version": "1", "description": "Inferred from samples; complete it by hand."},
        "paths": paths,
    })
}

fn times(count: usize) -> String {
    if count == 1 { "once".to_owned() } else { format!("{count} times") }
}

/// The names between braces.
fn parameters(path: &str) -> impl Iterator<Item = &str> {
    path.split('{').skip(1).filter_map(|rest| rest.split_once('}')).map(|(name, _)| name)
}

/// `getVesselsImo` for `GET /vessels/{imo}`.
fn operation_id(method: &str, path: &str) -> String {
    let words = path.split(|c: char| !c.is_ascii_alphanumeric()).filter(|word| !word.is_empty());
    let capital = |word: &str| format!("{}{}", word[..1].to_ascii_uppercase(), &word[1..]);
    format!("{}{}", method.to_ascii_lowercase(), words.map(capital).collect::<String>())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn schemas_are_what_samples_have_in_common() {
        for (samples, schema) in [
            (json!([1, 2]), json!({"type": "integer"})),
            (json!([1, 2.5]), json!({"type": "number"})),
            (json!([true, null]), json!({"type": ["boolean", "null"]})),
            (json!(["a", 1]), json!({"anyOf": [{"type": "integer"}, {"type": "string"}]})),
            (json!(["2027-03-04T06:00:00Z"]), json!({"type": "string", "format": "date-time"})),
            (json!(["2027-03-04", "x"]), json!({"type": "string"})),
            (json!(["2027-03-04"]), json!({"type": "string", "format": "date"})),
            (json!(["0195a1b2-0000-7000-8000-000000000001"]), json!({"type": "string", "format": "uuid"})),
            (json!([[], [1]]), json!({"type": "array", "items": {"type": "integer"}})),
            (json!([[]]), json!({"type": "array"})),
            (json!([]), json!({})),
            (json!([null]), json!({"type": "null"})),
            (
                json!([{"b": 1, "a": null}, {"b": 2, "a": "x", "c": {}}]),
                json!({"type": "object", "properties": {"b": {"type": "integer"}, "a": {"type": ["string", "null"]}, "c": {"type": "object", "properties": {}}}, "required": ["b", "a"]}),
            ),
        ] {
            let samples = samples.as_array().expect("samples").clone();
            assert_eq!(schema_of(&samples), schema, "{samples:?}");
        }
    }

    #[test]
    fn answers_become_a_description_that_can_be_read() {
        let seen =
            |method: &str, path: &str, status, body| Seen { method: method.into(), path: path.into(), status, body };
        let all = [
            seen("GET", "/now/{place}", 200, json!({"wind": 12.5})),
            seen("GET", "/now/{place}", 200, json!({"wind": 3, "from": "SW"})),
            seen("GET", "/now/{place}", 404, json!({"title": "No"})),
            seen("POST", "/orders", 204, Json::Null),
        ];
        let document = openapi_of("weather", &all);
        let operation = &document["paths"]["/now/{place}"]["get"];
        assert_eq!(operation["operationId"], "getNowPlace");
        assert_eq!(operation["parameters"][0]["name"], "place");
        let answer = &operation["responses"]["200"]["content"]["application/json"];
        assert_eq!(answer["schema"]["required"], json!(["wind"]));
        assert_eq!(document["paths"]["/orders"]["post"]["responses"]["204"]["content"], Json::Null);
        let text = serde_json::to_string_pretty(&document).expect("JSON");
        let mut bundle = kanzlei_compiler::check::Bundle::default();
        bundle.add("services/weather.yaml", "service: weather\nbase: http://weather\nopenapi: weather.openapi.json\n");
        bundle.add("w.yaml", "workflow: w\nsteps:\n  - {id: now, call: weather.getNowPlace, send: {place: LIN}}\n  - {reply: 200, body: \"${now.body.wind + 1}\"}\n");
        bundle.files.insert("services/weather.openapi.json".into(), text);
        let checked = kanzlei_compiler::check::check(&bundle);
        assert_eq!(checked.diagnostics.len(), 0, "{:?}", checked.diagnostics);
    }
}
