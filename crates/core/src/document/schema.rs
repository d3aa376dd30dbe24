//! JSON Schemas of the kinds of documents, for editors: made from the tables that reading uses.

use serde_json::{Map, Value, json};

use super::reader::KeySpec;
use super::{cases, keys, lane, service};

/// The JSON Schema (2020-12) of a kind of document; nothing for a kind that does not exist.
pub fn of(kind: &str) -> Option<Value> {
    let (table, definitions) = match kind {
        "workflow" => {
            let kinds: Vec<Value> =
                keys::STEP_KINDS.iter().map(|(name, table)| object(&[table, keys::COMMON], &[name])).collect();
            let definitions = json!({
                "steps": {"type": "array", "minItems": 1, "items": {"oneOf": kinds}},
                "entry": {"oneOf": [
                    object(&[keys::ENDPOINT], &["endpoint", "access"]),
                    object(&[keys::TIMETABLE], &["timetable"]),
                    object(&[keys::EVERY, &keys::TIMETABLE[2..]], &["every"]),
                ]},
            });
            (object(&[keys::WORKFLOW], &["workflow", "steps"]), Some(definitions))
        }
        "service" => (object(&[service::SERVICE], &["service", "base"]), None),
        "lane" => (object(&[lane::LANE], &["lane"]), None),
        "cases" => {
            let definitions = json!({
                "case": object(&[cases::CASE], &["name", "expect"]),
                "expect": object(&[cases::EXPECT], &[]),
            });
            (object(&[cases::CASES], &["cases", "examples"]), Some(definitions))
        }
        _ => return None,
    };
    let mut schema = Map::new();
    schema.insert("$schema".into(), "https://json-schema.org/draft/2020-12/schema".into());
    schema.insert("title".into(), format!("Kanzlei {kind}").into());
    if let Value::Object(members) = table {
        schema.extend(members);
    }
    if let Some(definitions) = definitions {
        schema.insert("$defs".into(), definitions);
    }
    Some(Value::Object(schema))
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
    #[test]
    fn schemas_are_valid_and_accept_a_workflow() {
        for kind in super::super::KINDS {
            let schema = super::of(kind).expect(kind);
            jsonschema::meta::validate(&schema).expect("valid schema");
        }
        let schema = super::of("workflow").expect("workflow");
        let validator = jsonschema::validator_for(&schema).expect("schema");
        let good = serde_json::json!({"workflow": "a", "steps": [{"if": "x", "then": [{"reply": 200}]}]});
        assert!(validator.is_valid(&good));
        assert!(!validator.is_valid(&serde_json::json!({"workflow": "a", "steps": [{"reply": 200, "sen": 1}]})));
    }
}
