//! The control API against its own description.

use kanzlei_e2e::calls::*;
use kanzlei_e2e::*;
use serde_json::{Value as Json, json};

/// Schemas of the document, with one of them at the root.
fn schema_of(document: &Json, schema: &Json) -> Json {
    let mut root = json!({"$ref": "#/components/schemas/none", "components": document["components"]});
    root.as_object_mut().expect("an object").remove("$ref");
    match schema.as_object() {
        Some(members) => root.as_object_mut().expect("an object").extend(members.clone()),
        None => return schema.clone(),
    }
    root
}

#[test]
fn every_described_operation_exists_and_answers_as_described() {
    let office = office("described", &[]);
    said(&client(&office, &["deploy", "demo/harbour", "--unrehearsed"]), 0);
    let queued =
        post(&office, "/clearances", &[], &json!({"imo": "9417350", "cargo": "diesel oil", "code": "tide-4417"}));
    becomes(&office, &id_of(&queued), "waiting");
    let refused = post(&office, "/clearances", &[], &json!({"imo": 7}));
    assert_eq!(refused.status, 422);
    let hello = "workflow: hello\nentries: [{endpoint: GET /hello, access: open}]\nsteps: [{reply: 200, body: hei}]\n";
    assert_eq!(deploy_texts(&office, &[("hello.yaml", hello)]).status, 200);
    let run = get(&office, "/hello", &[]).header("run-id").expect("a run").to_owned();
    let document = api(&office, "/openapi.json");
    let mut answered = 0;
    for (path, operations) in document["paths"].as_object().expect("paths") {
        for (method, operation) in operations.as_object().expect("operations") {
            let id = match path.as_str() {
                "/jobs/{id}" => id_of(&queued),
                "/runs/{id}" | "/runs/{id}/case" => run.clone(),
                _ => "01a21390-ab4c-7b9f-aabc-2b74d9903c0c".into(),
            };
            let name = if path.starts_with("/services") { "customs" } else { "customs-clearance" };
            // Nothing is changed for good: what would be is asked of names that do not exist.
            let name = if method == "get" { name } else { "no-such-thing" };
            let url = path.replace("{id}", &id).replace("{name}", name).replace("{workflow}", name);
            let url = url.replace("{number}", "1").replace("{action}", "hold");
            if path == "/session" {
                continue;
            }
            let answer = http(
                &method.to_uppercase(),
                &format!("{}/api/v1{url}", office.control()),
                &[("authorization", &bearer(&office)), ("content-type", "application/json")],
                b"{}",
            );
            assert!(!answer.body.contains("no such thing in the control API"), "{method} {path}: {answer:?}");
            let described = &operation["responses"][answer.status.to_string()];
            assert!(described.is_object(), "{method} {path} answers {}: {answer:?}", answer.status);
            let schema = &described["content"]["application/json"]["schema"];
            if answer.status == 200 && !schema.is_null() {
                let schema = schema_of(&document, schema);
                let validator = jsonschema::validator_for(&schema).expect("a schema");
                let found: Vec<String> =
                    validator.iter_errors(&answer.json()).map(|e| format!("{}: {e}", e.instance_path())).collect();
                assert_eq!(found, Vec::<String>::new(), "{method} {path}");
                answered += 1;
            }
        }
    }
    assert!(answered >= 15, "{answered} operations answered");
}
