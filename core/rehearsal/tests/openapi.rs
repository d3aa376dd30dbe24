//! The published description: what it says of endpoints, and that rehearsed answers are among those it
//! describes.

use kanzlei_compiler::check::{Bundle, check};
use kanzlei_compiler::openapi;
use kanzlei_model::value::Value;
use serde_json::{Value as Json, json};

fn described(entries: &str, steps: &str) -> Json {
    let mut bundle = Bundle::default();
    bundle.add("s.yaml", "service: s\nbase: http://s\n");
    bundle.add(
        "w.yaml",
        &format!(
            "workflow: w\nabout: Does it.\ninput: {{id: {{type: integer, description: The number}}, q: {{type: string, optional: true}}, b: {{type: array, items: {{type: number}}, default: []}}}}\nentries: [{entries}]\nsteps:\n{steps}"
        ),
    );
    let checked = check(&bundle);
    assert_eq!(checked.errors(), 0, "{:?}", checked.diagnostics);
    openapi::document(checked.workflows.iter().map(|(_, plan)| &**plan), "http://localhost:7080", None, "Run-Id")
}

#[test]
fn inputs_stand_where_requests_have_them() {
    let get = described("{endpoint: 'GET /x/{id}', access: open, from: {b: header.X-B}}", "  - note: ${input}\n");
    let operation = &get["paths"]["/x/{id}"]["get"];
    assert_eq!(
        operation["parameters"],
        json!([
            {"name": "id", "in": "path", "schema": {"type": "integer", "description": "The number"}, "required": true, "description": "The number"},
            {"name": "q", "in": "query", "schema": {"type": "string"}},
            {"name": "X-B", "in": "header", "schema": {"type": "array", "items": {"type": "number"}, "default": []}},
        ])
    );
    assert_eq!((operation["operationId"].as_str(), operation["summary"].as_str()), (Some("w"), Some("Does it.")));
    assert!(operation["requestBody"].is_null());

    let both = described(
        "{endpoint: POST /x, access: open}, {endpoint: 'PUT /x/{id}', access: open, from: {q: query.search, b: body}}",
        "  - note: ${input}\n",
    );
    let post = &both["paths"]["/x"]["post"]["requestBody"];
    assert_eq!(post["content"]["application/json"]["schema"]["required"], json!(["id"]));
    assert_eq!(post["content"]["application/json"]["example"], json!({"id": 1}));
    assert!(post["content"]["application/x-www-form-urlencoded"].is_object() && post["required"] == true);
    let put = &both["paths"]["/x/{id}"]["put"];
    assert_eq!((put["operationId"].as_str(), put["parameters"][1]["name"].as_str()), (Some("w-2"), Some("search")));
    assert_eq!(put["requestBody"]["content"]["application/json"]["schema"]["type"], "array");
}

#[test]
fn answers_have_the_types_of_their_replies() {
    let all = "{endpoint: GET /x, access: open}";
    for (steps, status, media, schema) in [
        (
            "  - {reply: 200, body: {n: \"${input.id * 2}\"}}\n",
            "200",
            "application/json",
            json!({"type": "object", "properties": {"n": {"type": "number"}}, "required": ["n"], "additionalProperties": false}),
        ),
        ("  - {reply: 202, body: \"Hello ${input.id}\"}\n", "202", "text/plain", json!({"type": "string"})),
        ("  - {reply: 200, body: \"${input.q ?? null}\"}\n", "200", "application/json", json!({"type": "null"})),
        ("  - {reply: 200, body: \"${input.q ?? null}\"}\n", "200", "text/plain", json!({"type": "string"})),
        (
            "  - {reply: \"${input.id}\", body: [1]}\n",
            "default",
            "application/json",
            json!({"type": "array", "items": {"const": 1}}),
        ),
        (
            "  - if: input.id > 1\n    then: [{reply: 200, body: {a: 1}}]\n    else: [{reply: 200, body: {b: x}}]\n",
            "200",
            "application/json",
            json!({"anyOf": [
                {"type": "object", "properties": {"a": {"const": 1}}, "required": ["a"], "additionalProperties": false},
                {"type": "object", "properties": {"b": {"const": "x"}}, "required": ["b"], "additionalProperties": false},
            ]}),
        ),
        ("  - {reply: 200, headers: {Content-Type: text/html}, body: \"<p>\"}\n", "200", "*/*", Json::Null),
        (
            "  - {fail: 418, title: Teapot}\n",
            "418",
            "application/problem+json",
            json!({"$ref": "#/components/schemas/Problem"}),
        ),
    ] {
        let responses = &described(all, steps)["paths"]["/x"]["get"]["responses"];
        let content = &responses[status]["content"][media];
        assert!(content.is_object(), "{steps}: no {status} {media} in {responses}");
        assert_eq!(content["schema"], schema, "{steps}");
    }
    // What the service itself may answer, by what the workflow does.
    let statuses = |entries: &str, steps: &str| {
        let document = described(entries, steps);
        let path = document["paths"]["/x"].as_object().expect("path").values().next().expect("operation").clone();
        path["responses"].as_object().expect("responses").keys().cloned().collect::<Vec<_>>().join(" ")
    };
    assert_eq!(statuses(all, "  - note: x\n"), "204 400 422 500 503 504");
    assert_eq!(statuses(all, "  - {call: GET http://s/}\n  - reply: 200\n"), "200 400 422 500 502 503 504");
    assert_eq!(
        statuses("{endpoint: POST /x, access: open}", "  - reply: 201\n"),
        "201 400 408 409 413 415 422 500 503 504"
    );
}

#[test]
fn every_answer_of_the_demos_cases_is_described() {
    let (checked, rehearsals) = kanzlei_rehearsal::check(&Bundle::of(kanzlei_samples::demo()));
    let published =
        openapi::document(checked.workflows.iter().map(|(_, plan)| &**plan), "http://localhost", None, "Run-Id");
    let mut looked_at = 0;
    for prepared in &rehearsals {
        for index in 0..prepared.len() {
            let direct = prepared.request(index).is_some() && !prepared.is_delivery(index);
            let Some(endpoint) = prepared.plan().endpoints.first().filter(|_| direct) else { continue };
            let result = prepared.run(index);
            let status = result.status.expect("an answer").to_string();
            let responses = &published["paths"][&endpoint.address.path][endpoint.method.to_lowercase()]["responses"];
            let problem = result.body.member("title").is_some() && result.body.member("status").is_some();
            let media = match &result.body {
                _ if problem => "application/problem+json",
                Value::Text(_) => "text/plain",
                _ => "application/json",
            };
            // Bytes have no schema.
            if result.body.is_file() {
                let content = &responses[&status]["content"];
                let media = result.body.member("media").and_then(Value::as_text).expect("a media type");
                let described = content["*/*"].is_object() || content[media].is_object();
                assert!(described, "{} {status}: {content}", result.workflow);
                continue;
            }
            let mut schema = responses[&status]["content"][media]["schema"].clone();
            assert!(schema.is_object(), "{} {}: {status} {media} is not in {responses}", result.workflow, result.case);
            schema["components"] = published["components"].clone();
            let body = result.body.to_serde();
            assert!(
                jsonschema::is_valid(&schema, &body),
                "{} {}: {body} is not {schema}",
                result.workflow,
                result.case
            );
            looked_at += 1;
        }
    }
    assert!(looked_at >= 20, "{looked_at}");
}
