//! JSON Schemas of the kinds of documents, for editors: made from the tables that reading uses.
//!
//! ```
//! let schema = kanzlei_lang::document::schema::of("workflow").expect("a kind");
//! assert_eq!(schema["$defs"]["retry"]["properties"]["attempts"]["maximum"], 101);
//! ```

use serde_json::{Map, Value, json};

use super::reader::KeySpec;
use super::{alert, allowance, cases, credentials, database, file, issuer, keys, lane, library, service, settings};

/// The JSON Schema (2020-12) of a kind of document; nothing for a kind that does not exist.
pub fn of(kind: &str) -> Option<Value> {
    let (table, required, definitions): (_, &[&str], _) = match kind {
        "workflow" => (keys::WORKFLOW, &["workflow", "steps"], workflow()),
        "service" => (service::SERVICE, &["service", "base"], of_service()),
        "lane" => (lane::LANE, &["lane"], json!({"retry": object(&[keys::RETRY], &[])})),
        "allowance" => (allowance::ALLOWANCE, &["allowance"], json!({})),
        "alert" => (
            alert::ALERT,
            &["alert", "when"],
            json!({"quiet": object(&[alert::QUIET], &["from", "until"]), "example": object(&[alert::EXAMPLE], &["holds"])}),
        ),
        "issuer" => (issuer::ISSUER, &["issuer", "iss", "audience"], json!({})),
        "database" => (database::DATABASE, &["database", "tables"], json!({})),
        "settings" => (settings::SETTINGS, &["settings", "values"], json!({})),
        "library" => (library::LIBRARY, &["library"], workflow()),
        "cases" => (cases::CASES, &["cases", "examples"], of_cases()),
        _ => return None,
    };
    let mut schema = Map::new();
    schema.insert("$schema".into(), "https://json-schema.org/draft/2020-12/schema".into());
    schema.insert("title".into(), format!("Kanzlei {kind}").into());
    if let Value::Object(members) = object(&[table], required) {
        schema.extend(members);
    }
    schema.insert("$defs".into(), definitions);
    Some(Value::Object(schema))
}

fn workflow() -> Value {
    let mut definitions = json!({
        "steps": {"type": "array", "minItems": 1, "items": {"$ref": "#/$defs/step"}},
        "step": step(),
        "entry": {"oneOf": [
            object(&[keys::ENDPOINT], &["endpoint", "access"]),
            object(&[keys::WEBHOOK], &["webhook", "proof"]),
            object(&[keys::CHANGE], &["change", "database"]),
            object(&[keys::TIMETABLE], &["timetable"]),
            object(&[keys::EVERY, &keys::TIMETABLE[2..]], &["every"]),
        ]},
        "limits": object(&[keys::LIMITS], &[]),
        "access": one_of(keys::ACCESS),
        "key_place": object(&[keys::KEY_PLACE], &[]),
        "cors": object(&[keys::CORS], &["origins"]),
        "cache": object(&[keys::CACHE], &["for"]),
        "csv": object(&[keys::CSV], &[]),
        "file": object(&[file::FILE], &["type"]),
        "proof": one_of(keys::PROOF),
        "sign": one_of(keys::SIGN),
        "hmac": object(&[keys::HMAC], &["secret", "header"]),
        "in_query": object(&[keys::IN_QUERY], &["name", "secret"]),
        "once_per": object(&[keys::ONCE_PER], &["key"]),
        "retry": object(&[keys::RETRY], &[]),
        "arm": object(&[keys::ARM], &["steps"]),
        "unless": object(&[keys::UNLESS], &["call"]),
        "group": object(&[library::GROUP], &["steps"]),
        "statement": object(&[keys::STATEMENT], &["statement"]),
        "queue": object(&[keys::QUEUE], &[]),
        "notify": object(&[keys::NOTIFY], &["to", "secret"]),
        "mail": object(&[keys::MAIL_PARTS], &["subject"]),
    });
    for (name, table) in keys::STEP_KINDS {
        definitions[format!("step-{name}")] = object(&[table, keys::COMMON], &[name]);
    }
    definitions
}

/// A step: the key that names its kind decides what else it may hold, so that an editor distinguishes the one
/// thing that is wrong with it and not that it is none of all kinds.
fn step() -> Value {
    let first = |table: &'static [KeySpec], name: &str| table.iter().find(|spec| spec.name == name);
    let mut properties = Map::new();
    let mut kinds = Vec::new();
    for (name, table) in keys::STEP_KINDS {
        let about = first(table, name).map_or("", |spec| spec.about);
        properties.insert((*name).to_owned(), json!({"description": about}));
        // A key of another kind's table names no kind beside that kind.
        let beside: Vec<Value> = keys::STEP_KINDS
            .iter()
            .filter(|(other, table)| other != name && first(table, name).is_some())
            .map(|(other, _)| json!({"required": [other]}))
            .collect();
        let mut named = json!({"required": [name]});
        if !beside.is_empty() {
            named["not"] = json!({"anyOf": beside});
        }
        kinds.push(json!({"if": named, "then": {"$ref": format!("#/$defs/step-{name}")}}));
    }
    let named: Vec<Value> = keys::STEP_KINDS.iter().map(|(name, _)| json!({"required": [name]})).collect();
    json!({"type": "object", "properties": properties, "anyOf": named, "allOf": kinds})
}

/// A mapping with exactly one of its keys.
fn one_of(table: &[KeySpec]) -> Value {
    let mut schema = object(&[table], &[]);
    schema["minProperties"] = 1.into();
    schema["maxProperties"] = 1.into();
    schema
}

fn of_service() -> Value {
    json!({
        "credentials": one_of(credentials::CREDENTIALS),
        "basic": object(&[credentials::BASIC], &["user", "password"]),
        "named": object(&[credentials::NAMED_VALUE], &["name", "value"]),
        "oauth": object(&[credentials::OAUTH], &["from", "client", "secret"]),
        "tls": object(&[credentials::TLS], &[]),
        "limits": object(&[service::SERVICE_LIMITS], &[]),
    })
}

fn of_cases() -> Value {
    json!({
        "caller": object(&[cases::CALLER], &[]),
        "case": object(&[cases::CASE], &["name", "expect"]),
        "answer": object(&[cases::ANSWER], &[]),
        "expect": object(&[cases::EXPECT], &[]),
        "reply": object(&[cases::REPLY], &[]),
        "step": object(&[cases::STEP], &[]),
    })
}

fn object(tables: &[&[KeySpec]], required: &[&str]) -> Value {
    let properties: Map<String, Value> = tables
        .iter()
        .flat_map(|table| table.iter())
        .map(|spec| {
            let mut schema: Value = serde_json::from_str(spec.schema).unwrap_or_default();
            if let Value::Object(members) = &mut schema {
                members.insert("description".into(), spec.about.into());
            }
            (spec.name.to_owned(), schema)
        })
        .collect();
    json!({"type": "object", "properties": properties, "required": required, "additionalProperties": false})
}

#[cfg(test)]
mod tests {
    use super::super::{KINDS, Source, kind_of, read, yaml};
    use super::*;
    use crate::diagnostic::Report;

    fn json_of(text: &str) -> Value {
        yaml::parse(&mut Report::new("d.yaml", text)).expect("YAML").to_value().to_serde()
    }

    /// The same document with one of its keys misspelt, for each of its keys.
    fn misspelt(value: &Value) -> Vec<Value> {
        match value {
            Value::Object(members) => {
                let mut all = Vec::new();
                for (at, (name, value)) in members.iter().enumerate() {
                    let with = |name: &str, value: &Value| {
                        let pair = (name.to_owned(), value.clone());
                        let mut pairs: Vec<(String, Value)> = members.clone().into_iter().collect();
                        pairs[at] = pair;
                        Value::Object(pairs.into_iter().collect())
                    };
                    all.push(with(&format!("{name}x"), value));
                    all.extend(misspelt(value).iter().map(|inner| with(name, inner)));
                }
                all
            }
            Value::Array(items) => {
                let inner = items.iter().enumerate().flat_map(|(at, item)| {
                    let with = move |inner: Value| {
                        let mut items = items.clone();
                        items[at] = inner;
                        Value::Array(items)
                    };
                    misspelt(item).into_iter().map(with)
                });
                inner.collect()
            }
            _ => Vec::new(),
        }
    }

    #[test]
    fn editors_and_the_checker_know_the_same_keys() {
        let validators: Vec<_> = KINDS
            .iter()
            .map(|kind| {
                let schema = of(kind).expect(kind);
                jsonschema::meta::validate(&schema).expect("a valid schema");
                (*kind, jsonschema::validator_for(&schema).expect("a usable schema"))
            })
            .collect();
        let demo: Vec<Source> = kanzlei_samples::demo()
            .into_iter()
            .filter(|(_, text)| kind_of(text).is_some())
            .map(|(path, text)| Source::new(path, text))
            .collect();
        let (mut documents, mut unknown) = (0, 0);
        for source in &demo {
            let kind = kind_of(&source.text).expect("a kind");
            let (_, validator) = validators.iter().find(|(known, _)| *known == kind).expect("its schema");
            let json = json_of(&source.text);
            let faults: Vec<String> = validator.iter_errors(&json).map(|fault| fault.to_string()).collect();
            assert_eq!(faults, Vec::<String>::new(), "{}", source.path);
            documents += 1;
            for wrong in misspelt(&json) {
                let text = wrong.to_string();
                let (_, found) = read(&Source::new("d.yaml", text.as_str()), &|_| Some(String::new()));
                if found.iter().any(|finding| finding.code == "unknown-key") {
                    unknown += 1;
                    assert!(!validator.is_valid(&wrong), "{}: the schema takes {text}", source.path);
                }
            }
        }
        assert!(documents > 35 && unknown > 800, "{documents} documents, {unknown} unknown keys");
    }
}
