//! Libraries: a deploy that changes one puts its users live again, or says which would break.

use serde_json::{Value as Json, json};

use super::with;

const RULES: &str = "library: rules\nabout: What stays cost.\nversion: 1.0.0\nuse: [money]\ntypes: {Stay: {type: object, required: [nights], properties: {nights: {type: integer}}}}\nfunctions:\n  dues: (stay) => cents(stay.nights * 2)\ngroups:\n  told:\n    input: {stay: {$ref: \"#/types/Stay\"}}\n    steps:\n      - note: A stay of ${input.stay.nights}.\n      - reply: 200\n        body: ${dues(input.stay)}\n";
const MONEY: &str = "library: money\nfunctions: {cents: n => n * 100}\n";
const USER: &str = "workflow: user\nuse: [rules@1]\ninput: {stay: {$ref: \"#/types/Stay\"}}\nentries: [{endpoint: POST /user, access: open}]\nsteps:\n  - {id: told, invoke: rules.told, send: {stay: \"${input.stay}\"}}\n  - reply: 200\n    body: {dues: \"${dues(input.stay)}\", told: \"${told.body}\"}\n";
const OTHER: &str = "workflow: other\nentries: [{endpoint: GET /other, access: open}]\nsteps: [{reply: 204}]\n";

#[test]
fn users_of_a_library_follow_it_or_are_named() {
    with("libraries", &[MONEY, RULES, USER, OTHER], &[], async |bed| {
        let asked = || bed.post("/user", &[], "{\"stay\": {\"nights\": 3}}");
        assert_eq!(asked().await.json(), json!({"dues": 600, "told": 600}));
        let wrong = bed.post("/user", &[], "{\"stay\": {}}").await;
        assert_eq!((wrong.status, &wrong.json()["errors"][0]["pointer"]), (422, &json!("/stay/nights")));
        let shown = bed.control("GET /libraries", &Json::Null).await.json();
        let line = shown["libraries"].as_array().and_then(|all| all.iter().find(|one| one["name"] == "rules")).cloned();
        let line = line.expect("the library");
        assert_eq!(
            (&line["workflows"], &line["groups"], &line["version"]),
            (&json!(["user"]), &json!(["rules.told"]), &json!("1.0.0"))
        );
        // A library that one uses through another counts too.
        let changed = MONEY.replace("n * 100", "n * 10");
        let done = bed.deploy(&[&changed]).await.json();
        let listed: Vec<(Json, Json)> = done["deployed"]
            .as_array()
            .expect("a list")
            .iter()
            .map(|one| (one["name"].clone(), one["revision"].clone()))
            .collect();
        assert_eq!(listed, [(json!("money"), json!(2)), (json!("user"), json!(2))], "{done}");
        assert_eq!(asked().await.json(), json!({"dues": 60, "told": 60}));
        let again = bed.deploy(&[&changed]).await.json();
        assert_eq!(again["deployed"].as_array().map(Vec::len), Some(1), "nothing changes: {again}");
        // What would break is named, and nothing changes.
        for (broken, path) in [
            (RULES.replace("dues: (stay)", "fees: (stay)").replace("dues(input", "fees(input"), "live/workflow/user"),
            (RULES.replace("1.0.0", "2.0.0"), "live/workflow/user"),
        ] {
            let refused = bed.deploy(&[&broken]).await;
            let found = refused.json()["diagnostics"].to_string();
            assert!(refused.status == 422 && found.contains(path), "{found}");
        }
        assert_eq!(asked().await.json(), json!({"dues": 60, "told": 60}));
        for (name, status) in [("rules", 409), ("money", 409), ("none", 404)] {
            assert_eq!(bed.control(&format!("DELETE /libraries/{name}"), &Json::Null).await.status, status, "{name}");
        }
        assert_eq!(bed.control("DELETE /workflows/user", &Json::Null).await.status, 204);
        for name in ["rules", "money"] {
            assert_eq!(bed.control(&format!("DELETE /libraries/{name}"), &Json::Null).await.status, 204, "{name}");
        }
    });
}
