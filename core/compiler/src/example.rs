//! Example values that fit a JSON Schema, for the curl line a deploy prints.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};
use serde_json::{Map, Value as Json, json};

use kanzlei_lang::document::access::Access;

use crate::input::{Declared, From, InputPlan};
use crate::plan::Endpoint;

/// An example that fits a schema as well as possible without searching.
pub fn of(schema: &Json) -> Json {
    for key in ["const", "default"] {
        if let Some(value) = schema.get(key) {
            return value.clone();
        }
    }
    for key in ["examples", "enum"] {
        if let Some(first) = schema.get(key).and_then(Json::as_array).and_then(|list| list.first()) {
            return first.clone();
        }
    }
    let number = |key: &str| schema.get(key).and_then(Json::as_f64);
    let kind = match schema.get("type") {
        Some(Json::String(kind)) => kind.as_str(),
        Some(Json::Array(kinds)) => kinds.first().and_then(Json::as_str).unwrap_or("string"),
        _ if schema.get("properties").is_some() => "object",
        _ => "string",
    };
    match kind {
        "integer" => json!(number("minimum").unwrap_or(1.0).ceil() as i64),
        "number" => json!(number("minimum").unwrap_or(1.5)),
        "boolean" => json!(true),
        "null" => Json::Null,
        "array" => json!([of(schema.get("items").unwrap_or(&Json::Null))]),
        "object" => {
            let properties = schema.get("properties").and_then(Json::as_object);
            properties
                .into_iter()
                .flatten()
                .map(|(name, schema)| (name.clone(), of(schema)))
                .collect::<Map<_, _>>()
                .into()
        }
        _ => text(schema).into(),
    }
}

/// The same for a schema of an OpenAPI document, whose references are followed.
pub fn of_schema_in(document: &Json, schema: &Json) -> Json {
    of(&resolved(document, schema, 0))
}

/// A schema with its references replaced, as deep as examples need.
fn resolved(document: &Json, schema: &Json, depth: u32) -> Json {
    if depth > 12 {
        return json!({"const": null});
    }
    let target = schema.get("$ref").and_then(Json::as_str).and_then(|r| r.strip_prefix('#'));
    if let Some(target) = target.and_then(|pointer| document.pointer(pointer)) {
        return resolved(document, target, depth + 1);
    }
    for key in ["oneOf", "anyOf"] {
        if let Some(first) = schema.get(key).and_then(Json::as_array).and_then(|all| all.first()) {
            return resolved(document, first, depth + 1);
        }
    }
    let mut out = schema.clone();
    for one in schema.get("allOf").and_then(Json::as_array).into_iter().flatten() {
        let one = resolved(document, one, depth + 1);
        for (name, property) in one.get("properties").and_then(Json::as_object).into_iter().flatten() {
            out["properties"][name] = property.clone();
        }
    }
    if let Some(example) = schema.get("example") {
        out["const"] = example.clone();
    }
    if let Some(items) = schema.get("items") {
        out["items"] = resolved(document, items, depth + 1);
    }
    if let Some(properties) = out.get("properties").and_then(Json::as_object).cloned() {
        for (name, property) in properties {
            out["properties"][&name] = resolved(document, &property, depth + 1);
        }
    }
    out
}

fn text(schema: &Json) -> String {
    let known = match schema.get("format").and_then(Json::as_str) {
        Some("date-time") => "2027-03-04T06:00:00Z",
        Some("date") => "2027-03-04",
        Some("time") => "06:00:00Z",
        Some("duration") => "PT48H",
        Some("email") => "office@lindvik.example",
        Some("uri") => "https://lindvik.example/",
        Some("uuid") => "0195a1b2-0000-7000-8000-000000000001",
        _ => "",
    };
    if !known.is_empty() {
        return known.into();
    }
    if let Some(text) = schema.get("pattern").and_then(Json::as_str).and_then(from_pattern) {
        return text;
    }
    let least = schema.get("minLength").and_then(Json::as_u64).unwrap_or(0).min(1000) as usize;
    let most = schema.get("maxLength").and_then(Json::as_u64).unwrap_or(1000) as usize;
    let mut text: String = "text".chars().take(most).collect();
    while text.chars().count() < least {
        text.push('x');
    }
    text
}

/// A text for simple patterns: classes and literals with fixed counts, such as `^[0-9]{7}$`.
fn from_pattern(pattern: &str) -> Option<String> {
    let mut rest = pattern.trim_start_matches('^').trim_end_matches('$');
    let mut out = String::new();
    while let Some(c) = rest.chars().next() {
        let (one, after) = if let Some(inside) = rest.strip_prefix('[') {
            let (class, after) = inside.split_once(']')?;
            (class.chars().next().filter(|c| *c != '^' && *c != '\\')?, after)
        } else if let Some(after) = rest.strip_prefix("\\d") {
            ('0', after)
        } else if c.is_ascii_alphanumeric() || "-_ /:".contains(c) {
            (c, &rest[c.len_utf8()..])
        } else {
            return None;
        };
        rest = after;
        let mut count = 1;
        if let Some(inside) = rest.strip_prefix('{') {
            let (counts, after) = inside.split_once('}')?;
            count = counts.split(',').next()?.parse().ok().filter(|n| *n <= 100)?;
            rest = after;
        } else if let Some(after) = rest.strip_prefix(['+', '*', '?']) {
            rest = after;
        }
        // Counting up looks more like a real number than the same digit over and over.
        for step in 0..count {
            out.push(if one == '0' { char::from(b'1' + (step % 9) as u8) } else { one });
        }
    }
    Some(out)
}

/// A request to an endpoint with example values.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct ExampleRequest {
    /// Its method.
    pub method: String,
    /// Path and query as they are sent.
    pub target: String,
    /// Values of the variables of the path.
    pub path: BTreeMap<String, String>,
    /// Parameters of the query.
    pub query: BTreeMap<String, String>,
    /// Header fields.
    pub headers: BTreeMap<String, String>,
    /// The body; null for none.
    pub body: Json,
    /// Files to be sent, by the names of their parts; one without a name is the whole body.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub files: BTreeMap<String, String>,
}

/// A request that an endpoint accepts, with examples for all that it requires.
pub fn request(input: &InputPlan, endpoint: &Endpoint) -> ExampleRequest {
    let mut out = ExampleRequest {
        method: endpoint.method.clone(),
        target: endpoint.address.path.clone(),
        ..ExampleRequest::default()
    };
    out.headers.extend(endpoint.address.host.clone().map(|host| ("Host".to_owned(), host)));
    if let Some(webhook) = &endpoint.webhook {
        if webhook.accepts(&endpoint.method) {
            out.body = webhook.example.clone();
        }
        return out;
    }
    let credential = match &endpoint.access {
        Access::Open => None,
        Access::Key(_) => Some("Bearer YOUR-KEY"),
        Access::Jwt(_) => Some("Bearer YOUR-TOKEN"),
    };
    out.headers.extend(credential.map(|credential| ("Authorization".to_owned(), credential.to_owned())));
    let mut body = Map::new();
    for (declared, from) in input.properties.iter().zip(&endpoint.input.sources) {
        let value = of(&declared.schema);
        let text = value.as_str().map_or_else(|| value.to_string(), str::to_owned);
        let wanted = declared.required;
        match from {
            From::Path(name) => {
                out.target = out.target.replace(&format!("{{{name}}}"), &encode(&text));
                out.path.insert(name.clone(), text);
            }
            From::Query(name) if wanted => _ = out.query.insert(name.clone(), text),
            From::Header(name) if wanted => _ = out.headers.insert(name.clone(), text),
            From::Member(name) if wanted => _ = body.insert(name.clone(), value),
            From::File(name) if wanted => _ = out.files.insert(name.clone(), file_name(declared)),
            From::Body if declared.file.is_some() => _ = out.files.insert(String::new(), file_name(declared)),
            From::Body => out.body = value,
            _ => {}
        }
    }
    let pairs = out.query.iter().map(|(name, text)| format!("{}={}", encode(name), encode(text)));
    let query = pairs.collect::<Vec<_>>().join("&");
    if !query.is_empty() {
        out.target = format!("{}?{query}", out.target);
    }
    if out.body.is_null() && !body.is_empty() {
        out.body = body.into();
    }
    out
}

/// The name of an example of a file.
fn file_name(declared: &Declared) -> String {
    let media = declared.file.as_ref().and_then(|file| file.media.first().cloned()).unwrap_or_default();
    let ending = match media.as_str() {
        "text/csv" => "csv",
        "text/plain" => "txt",
        "application/json" => "json",
        "application/pdf" => "pdf",
        "application/zip" => "zip",
        media if media.starts_with("image/") => "png",
        _ => "bin",
    };
    format!("{}.{ending}", declared.name)
}

/// A curl line that calls an endpoint with example values; line ends are escaped for pasting.
pub fn curl(request: &ExampleRequest, public: &str) -> String {
    let mut line = String::from("curl -sS");
    if request.method == "HEAD" {
        line.push_str(" -I");
    } else if request.method != "GET" || !request.body.is_null() {
        // `--json` alone would make it a POST.
        line.push_str(&format!(" -X {}", request.method));
    }
    line.push_str(&format!(" {}", quote(&format!("{public}{}", request.target))));
    for (name, value) in &request.headers {
        line.push_str(&format!(" -H {}", quote(&format!("{name}: {value}"))));
    }
    if let Some(file) = request.files.get("") {
        line.push_str(&format!(" --data-binary {}", quote(&format!("@{file}"))));
    } else if !request.files.is_empty() {
        for (name, value) in request.body.as_object().into_iter().flatten() {
            let text = value.as_str().map_or_else(|| value.to_string(), str::to_owned);
            line.push_str(&format!(" -F {}", quote(&format!("{name}={text}"))));
        }
        for (name, file) in &request.files {
            line.push_str(&format!(" -F {}", quote(&format!("{name}=@{file}"))));
        }
    } else if !request.body.is_null() {
        line.push_str(&format!(" --json {}", quote(&request.body.to_string())));
    }
    line
}

/// Quotes for a POSIX shell where needed.
fn quote(text: &str) -> String {
    if text.bytes().all(|b| b.is_ascii_alphanumeric() || b"-_./:,=@%+".contains(&b)) {
        return text.into();
    }
    format!("'{}'", text.replace('\'', r"'\''"))
}

fn encode(text: &str) -> String {
    let mut out = String::new();
    for byte in text.bytes() {
        if byte.is_ascii_alphanumeric() || b"-_.~:".contains(&byte) {
            out.push(char::from(byte));
        } else {
            out.push_str(&format!("%{byte:02X}"));
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_line_of_curl_sends_the_request_it_shows() {
        let bodiless =
            ExampleRequest { method: "GET".into(), target: "/tides?at=LIN".into(), ..ExampleRequest::default() };
        let body = json!({"imo": "9074720"});
        let file = |part: &str| [(part.to_owned(), "crew.csv".to_owned())].into();
        for (request, line) in [
            (bodiless.clone(), "curl -sS 'http://h/tides?at=LIN'"),
            (
                ExampleRequest { body: body.clone(), ..bodiless.clone() },
                r#"curl -sS -X GET 'http://h/tides?at=LIN' --json '{"imo":"9074720"}'"#,
            ),
            (
                ExampleRequest { method: "POST".into(), body: body.clone(), ..bodiless.clone() },
                r#"curl -sS -X POST 'http://h/tides?at=LIN' --json '{"imo":"9074720"}'"#,
            ),
            (
                ExampleRequest { method: "PUT".into(), body, files: file("crew"), ..bodiless.clone() },
                "curl -sS -X PUT 'http://h/tides?at=LIN' -F imo=9074720 -F crew=@crew.csv",
            ),
            (
                ExampleRequest { method: "PUT".into(), files: file(""), ..bodiless },
                "curl -sS -X PUT 'http://h/tides?at=LIN' --data-binary @crew.csv",
            ),
        ] {
            assert_eq!(curl(&request, "http://h"), line);
        }
    }

    #[test]
    fn examples_fit_their_schemas() {
        for schema in [
            json!({"type": "string", "pattern": "^[0-9]{7}$"}),
            json!({"type": "string", "enum": ["LIN", "NES"]}),
            json!({"type": "integer", "minimum": 3, "maximum": 30}),
            json!({"type": "string", "format": "date-time"}),
            json!({"type": "string", "minLength": 6, "maxLength": 8}),
            json!({"type": "array", "items": {"type": "number", "minimum": 2}}),
            json!({"type": "object", "properties": {"a": {"type": "boolean"}}, "required": ["a"]}),
            json!({"type": "string", "pattern": "^[A-Z]{2}-\\d{4}$"}),
        ] {
            let example = of(&schema);
            assert!(jsonschema::is_valid(&schema, &example), "{schema}: {example}");
        }
    }
}
