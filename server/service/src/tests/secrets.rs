//! Secrets: what they are bound to, what lies sealed in the records, and the key that opens it.

use kanzlei_store::Store;
use serde_json::{Value as Json, json};

use super::{Config, put_together, server, with};

#[test]
fn a_service_is_deployed_with_secrets_that_are_bound_to_it() {
    with("bound", &[], &[], async |bed| {
        let service = "service: rates\nbase: https://rates.example/v1\ncredentials: {bearer: rates-key}\n";
        let set = async |purposes: Json| {
            let body = json!({"value": "s3cret-value", "for": purposes});
            bed.control("PUT /secrets/rates-key", &body).await
        };
        for (purposes, wanted) in [
            (None, "missing-secret"),
            (Some(json!([])), "unbound-secret"),
            (Some(json!(["signing", "https://rates.example.evil"])), "unbound-secret"),
            (Some(json!(["https://rates.example"])), ""),
        ] {
            if let Some(purposes) = purposes.clone() {
                assert_eq!(set(purposes).await.status, 204);
            }
            let found = bed.deploy(&[service]).await.json()["diagnostics"][0]["code"].clone();
            assert_eq!(found.as_str().unwrap_or_default(), wanted, "{purposes:?}");
        }
        let listed = bed.control("GET /secrets", &Json::Null).await.json();
        assert_eq!(listed["secrets"][0]["for"], json!(["https://rates.example"]));
        let long = format!("https://{}.example", "h".repeat(4_000));
        for purposes in [json!(["everything"]), json!([long])] {
            assert_eq!(set(purposes).await.status, 422);
        }
    });
}

#[test]
fn an_answer_that_is_kept_for_repetitions_is_sealed() {
    let workflow = "workflow: w\ninput: {a: {type: string}}\nentries: [{endpoint: POST /w, access: open}]\nsteps:\n  - {reply: 201, headers: {X-Berth: \"berth ${input.a}\"}, body: {berth: \"${input.a}\"}}\n";
    with("sealed_answers", &[workflow], &[], async |bed| {
        let headers = [("idempotency-key", "\"k\"")];
        let first = bed.post("/w", &headers, r#"{"a":"Südkai 4711"}"#).await;
        let again = bed.post("/w", &headers, r#"{"a":"Südkai 4711"}"#).await;
        assert_eq!((first.status, &first.body, first.header("x-berth")), (201, &again.body, again.header("x-berth")));
        assert!(first.body.contains("Südkai 4711"));
        let kept = "SELECT CONCAT(headers, body) FROM idempotency";
        let kept = server().sql("kanzlei_sealed_answers", kept).expect("a row");
        assert!(kept.starts_with("sealed:") && !kept.contains("4711") && !kept.contains("berth"), "{kept}");
    });
}

#[test]
fn a_service_starts_with_the_key_that_sealed_its_records() {
    let url = server().fresh("kanzlei_keys").expect("a database");
    let (first, other) =
        ("AAECAwQFBgcICQoLDA0ODxAREhMUFRYXGBkaGxwdHh8=", "HwECAwQFBgcICQoLDA0ODxAREhMUFRYXGBkaGxwdHh8=");
    let begun = kanzlei_harness::scratch::folder("keys-begun");
    actix_web::rt::System::new().block_on(async {
        for (key, replace, wanted) in [
            ("", "false", ""),
            (first, "false", ""),
            (first, "false", ""),
            (other, "false", "is not the one that sealed what lies in the database"),
            ("", "false", "the settings name none"),
            (other, "true", ""),
            (first, "false", "is not the one that sealed"),
        ] {
            let flags = [
                ("database.url", url.as_str()),
                ("journal.begun", begun.to_str().expect("UTF-8")),
                ("secrets.key", key),
                ("secrets.replace_key", replace),
            ];
            let flags = flags.map(|(name, value)| (name.to_owned(), value.to_owned()));
            let config = Config::load(None, [], &flags).expect("settings");
            let store = Store::open(&url, 2).await.expect("records");
            let started = put_together(&config, store, tokio::runtime::Handle::current()).await;
            let found = started.err().map(|error| error.to_string()).unwrap_or_default();
            assert!(found.contains(wanted) && found.is_empty() == wanted.is_empty(), "{key} {replace}: {found}");
        }
    });
}

/// A service with a longer base takes calls by address over: the deploy says whose.
#[test]
fn a_deploy_lists_calls_that_change_their_service() {
    let service = |name: &str, base: &str| format!("service: {name}\nbase: {base}\n");
    let caller = "workflow: asks\nsteps:\n  - call: GET https://api.example/v1/berths\n  - reply: 204\n";
    let first = service("first", "https://api.example");
    with("taken_over", &[&first, caller], &[], async |bed| {
        let same = bed.deploy(&[&service("second", "https://api.example")]).await;
        assert_eq!((same.status, &same.json()["diagnostics"][0]["code"]), (422, &json!("ambiguous-service")));
        let longer = bed.deploy(&[&service("second", "https://api.example/v1")]).await;
        let warning = &longer.json()["warnings"][0];
        assert_eq!((longer.status, &warning["code"]), (200, &json!("other-service")), "{longer:?}");
        let message = warning["message"].as_str().unwrap_or_default();
        assert!(
            message.contains("`asks`") && message.contains("to `second`") && message.contains("to `first`"),
            "{message}"
        );
        let other = bed.deploy(&[&service("third", "https://api.example/v2")]).await;
        assert_eq!((other.status, &other.json()["warnings"]), (200, &json!([])), "{other:?}");
    });
}
