//! Inputs that several messages suggest: their values by name, with a schema that all of them fit.
//!
//! ```
//! use kanzlei_analysis::propose::propose;
//! let messages = [serde_json::json!({"id": "e-1", "data": {"bill": "B-17", "paid": true}})];
//! let proposed = propose(&messages);
//! assert_eq!(proposed.input, "id: {type: string}\nbill: {type: string}\npaid: {type: boolean}\n");
//! assert!(proposed.send.contains("bill: \"${delivery.body.data.bill}\"\n"));
//! ```

use std::fmt::Write;

use kanzlei_lang::document::reader::is_identifier;
use kanzlei_lang::document::yaml::{flow, quoted};
use serde_json::Value as Json;

use crate::begin::name_of;
use crate::sample::schema_of;

/// How deep objects are opened, and the most inputs.
const DEPTH: usize = 4;
const MOST: usize = 60;

/// What is proposed.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Proposed {
    /// Name, JSON Schema, and the expression that takes it from a message.
    pub inputs: Vec<(String, Json, String)>,
    /// The inputs as a document writes them.
    pub input: String,
    /// How they are taken, as a document writes it.
    pub send: String,
}

/// Proposes inputs from bodies of messages.
pub fn propose(bodies: &[Json]) -> Proposed {
    let mut paths: Vec<Vec<String>> = Vec::new();
    for body in bodies {
        leaves(body, &mut Vec::new(), &mut paths);
    }
    paths.truncate(MOST);
    let last = |path: &[String]| path.last().cloned().unwrap_or_default();
    let mut out = Proposed::default();
    for path in &paths {
        // The last name alone where it is the only one of its kind.
        let alone = paths.iter().filter(|other| last(other) == last(path)).count() == 1;
        let name = name_of(&if alone { last(path) } else { path.join("_") });
        let values: Vec<Json> = bodies.iter().filter_map(|body| at(body, path)).cloned().collect();
        let mut schema = schema_of(&values);
        let missing = values.len() < bodies.len();
        if missing {
            schema["optional"] = true.into();
        }
        let mut from = "delivery.body".to_owned();
        let mut open = false;
        for (depth, part) in path.iter().enumerate() {
            // Where a message lacks something on the way, the input is missing.
            let lacking = bodies.iter().any(|body| at(body, &path[..depth]).is_none_or(|found| !found.is_object()));
            open |= lacking;
            let link = if open { "?." } else { "." };
            match is_identifier(part) {
                true => _ = write!(from, "{link}{part}"),
                false => {
                    _ = write!(
                        from,
                        "{}[{}]",
                        if open { "?." } else { "" },
                        Json::from(part.as_str()).to_string().replace('"', "'")
                    )
                }
            }
        }
        let _ = writeln!(out.input, "{name}: {}", flow(&schema));
        let _ = writeln!(out.send, "{name}: {}", quoted(&format!("${{{from}}}")));
        out.inputs.push((name, schema, from));
    }
    out
}

/// The paths to everything in a body that is no object.
fn leaves(body: &Json, path: &mut Vec<String>, out: &mut Vec<Vec<String>>) {
    match body {
        Json::Object(members) if path.len() < DEPTH && !members.is_empty() => {
            for (name, value) in members {
                path.push(name.clone());
                leaves(value, path, out);
                path.pop();
            }
        }
        _ if path.is_empty() || out.contains(path) => {}
        _ => out.push(path.clone()),
    }
}

fn at<'j>(body: &'j Json, path: &[String]) -> Option<&'j Json> {
    path.iter().try_fold(body, |value, name| value.get(name))
}

#[cfg(test)]
mod tests {
    use serde_json::json;

    use super::*;

    #[test]
    fn what_differs_is_optional_and_names_are_told_apart() {
        let proposed = propose(&[
            json!({"id": 1, "data": {"id": "B-1", "x-berth": 7, "tags": ["a"]}}),
            json!({"id": 2, "data": {"id": "B-2", "tags": []}, "extra": {"note": null}}),
        ]);
        let lines: Vec<&str> = proposed.input.lines().collect();
        assert_eq!(lines[0], "id: {type: integer}", "{}", proposed.input);
        assert!(lines[1].starts_with("data_id: {type: string"), "{}", proposed.input);
        assert!(lines.contains(&"x_berth: {type: integer, optional: true}"), "{}", proposed.input);
        assert!(proposed.send.contains("\"${delivery.body.data['x-berth']}\""), "{}", proposed.send);
        assert!(proposed.send.contains("delivery.body.extra?.note"), "{}", proposed.send);
        assert_eq!(propose(&[json!([1]), json!(null)]), Proposed::default());
    }
}
