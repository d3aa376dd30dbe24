//! Who may call: keys are made, shown once, asked for, rotated and revoked; what they begin is theirs.

use serde_json::{Value as Json, json};

use super::{Bed, with};

const OPEN: &str =
    "workflow: open\nentries: [{endpoint: GET /open, access: open}]\nsteps: [{reply: 200, body: '${run.caller}'}]\n";
const GUARDED: &str = "workflow: guarded
input: {n: {type: integer, default: 1}}
entries:
  - {endpoint: POST /guarded, access: key, answer: either}
steps:
  - reply: 200
    body: {caller: '${run.caller}', n: '${input.n}', run: '${run.id}'}
";
const OTHER: &str =
    "workflow: other\ntags: [partners]\nentries: [{endpoint: GET /other, access: key}]\nsteps: [{reply: 204}]\n";

async fn made(bed: &Bed, body: Json) -> String {
    let answer = bed.control("POST /keys", &body).await;
    assert_eq!(answer.status, 201, "{}", answer.body);
    answer.json()["key"].as_str().expect("a key").to_owned()
}

fn bearer(key: &str) -> String {
    format!("Bearer {key}")
}

#[test]
fn endpoints_ask_for_a_key_that_fits() {
    with("access", &[OPEN, GUARDED, OTHER], &[], async |bed| {
        let partner = made(bed, json!({"name": "partner", "owner": "Northern Line", "workflows": ["guarded"]})).await;
        let all = made(bed, json!({"name": "all", "days": 1})).await;
        // By a tag of the workflow, whatever its name.
        let tagged = made(bed, json!({"name": "tagged", "tags": ["partners"]})).await;
        let unknown = bed.control("POST /keys", &json!({"name": "x", "tags": ["partner"]})).await;
        assert_eq!(unknown.problem(), (422, "Unknown tag".into()));
        assert!(unknown.body.contains("did you mean `partners`?"), "{}", unknown.body);
        let slip = format!("{}x", &partner[..51]);
        for (path, header, value, status, challenge) in [
            ("POST /guarded", "accept", "*/*".to_owned(), 401, Some("Bearer")),
            ("POST /guarded", "authorization", bearer(&partner), 200, None),
            ("POST /guarded", "authorization", format!("bearer  {partner} "), 200, None),
            ("POST /guarded", "x-api-key", partner.clone(), 200, None),
            ("POST /guarded", "authorization", bearer(&all), 200, None),
            ("POST /guarded", "authorization", format!("Basic {partner}"), 401, Some("Bearer")),
            ("POST /guarded", "authorization", bearer(&slip), 401, Some("Bearer error=\"invalid_token\"")),
            ("POST /guarded", "authorization", bearer(&bed.token), 401, Some("Bearer error=\"invalid_token\"")),
            ("POST /guarded", "x-api-key", String::new(), 401, Some("Bearer")),
            ("GET /other", "authorization", bearer(&partner), 403, None),
            ("GET /other", "authorization", bearer(&all), 204, None),
            ("GET /other", "authorization", bearer(&tagged), 204, None),
            ("POST /guarded", "authorization", bearer(&tagged), 403, None),
            ("GET /open", "authorization", "Bearer nonsense".to_owned(), 200, None),
        ] {
            let answer = bed.send(path, &[(header, &value), ("content-type", "application/json")], "").await;
            assert_eq!(
                (answer.status, answer.header("www-authenticate")),
                (status, challenge),
                "{path} {header}: {answer:?}"
            );
        }
        let answer = bed.send("POST /guarded", &[("x-api-key", &partner)], "").await;
        assert_eq!(answer.json()["caller"], "partner", "{answer:?}");
        // A key in the query is no key, and refusals say nothing of keys that exist.
        let query = bed.send(&format!("POST /guarded?key={partner}"), &[], "").await;
        assert_eq!(query.problem(), (401, "A key is needed".into()));
        // Lists have no key in them, and the use of one is recorded.
        super::eventually(async || {
            let keys = bed.control("GET /keys", &Json::Null).await;
            assert!(!keys.body.contains(&partner) && !keys.body.contains(&all), "{}", keys.body);
            keys.json()["keys"][1]["used"].is_string()
        })
        .await;
        let document = bed.send("GET /~/openapi.json", &[], "").await.json();
        assert_eq!(document["paths"]["/guarded"]["post"]["security"], json!([{"bearer": []}, {"header": []}]));
        assert!(
            document["paths"]["/guarded"]["post"]["responses"]["401"].is_object()
                && document["paths"]["/open"]["get"]["security"].is_null()
        );
        assert_eq!(document["components"]["securitySchemes"]["bearer"]["scheme"], "bearer");
        assert_eq!(document["paths"]["/other"]["get"]["tags"], json!(["partners"]));
    });
}

#[test]
fn keys_are_rotated_with_an_overlap_and_revoked_at_once() {
    with("rotation", &[GUARDED], &[], async |bed| {
        let first = made(bed, json!({"name": "partner"})).await;
        for (body, status, says) in [
            (json!({"name": "partner"}), 409, "already"),
            (json!({"name": "No Name"}), 422, "Not a name"),
            (json!({"name": "a", "workflows": ["guarde"]}), 422, "did you mean `guarded`?"),
            (json!({"name": "a", "days": 0}), 422, "1 to"),
            (json!({"name": "a", "owner": "x".repeat(201)}), 422, "at most 200"),
        ] {
            let answer = bed.control("POST /keys", &body).await;
            assert!(answer.status == status && answer.body.contains(says), "{body}: {answer:?}");
        }
        let status = async |key: &str| bed.send("POST /guarded", &[("x-api-key", key)], "").await.status;
        let rotated = bed.control("POST /keys/partner/rotate", &json!({})).await.json();
        let second = rotated["key"].as_str().expect("a key").to_owned();
        assert!(rotated["former_until"].is_string(), "{rotated}");
        assert_eq!((status(&first).await, status(&second).await), (200, 200), "both are valid for a day");
        let third = bed.control("POST /keys/partner/rotate", &json!({"overlap_hours": 0})).await.json();
        let third = third["key"].as_str().expect("a key").to_owned();
        assert_eq!((status(&first).await, status(&second).await, status(&third).await), (401, 401, 200));
        assert_eq!(bed.control("POST /keys/nobody/rotate", &json!({})).await.status, 404);
        assert_eq!(bed.control("POST /keys/partner/rotate", &json!({"overlap_hours": 721})).await.status, 422);
        assert_eq!(bed.control("DELETE /keys/partner", &Json::Null).await.status, 204);
        assert_eq!((status(&third).await, bed.control("DELETE /keys/partner", &Json::Null).await.status), (401, 404));
    });
}

#[test]
fn what_a_key_begins_is_its_own() {
    with("owned", &[GUARDED, OPEN], &[], async |bed| {
        let (mine, theirs) = (made(bed, json!({"name": "mine"})).await, made(bed, json!({"name": "theirs"})).await);
        let later = [("x-api-key", mine.as_str()), ("prefer", "respond-async"), ("content-type", "application/json")];
        let queued = bed.send("POST /guarded", &later, "{}").await;
        assert_eq!(queued.status, 202, "{queued:?}");
        let job = queued.header("location").expect("an address").to_owned();
        for (line, key, status) in [
            (format!("GET {job}"), None, 404),
            (format!("GET {job}"), Some(&theirs), 404),
            (format!("GET {job}/result"), Some(&theirs), 404),
            (format!("GET {job}/events"), None, 404),
            (format!("DELETE {job}"), Some(&theirs), 404),
            (format!("GET {job}"), Some(&mine), 200),
            (format!("DELETE {job}"), Some(&mine), 200),
        ] {
            let headers: Vec<(&str, &str)> = key.iter().map(|key| ("x-api-key", key.as_str())).collect();
            assert_eq!(bed.send(&line, &headers, "").await.status, status, "{line} {key:?}");
        }
        // The same idempotency key of two callers stands for two requests.
        let mut runs = Vec::new();
        for key in [&mine, &theirs, &mine] {
            let headers =
                [("x-api-key", key.as_str()), ("idempotency-key", "\"one\""), ("content-type", "application/json")];
            runs.push(bed.send("POST /guarded", &headers, "{}").await.json()["run"].clone());
        }
        assert!(runs[0] == runs[2] && runs[0] != runs[1], "{runs:?}");
        let run = bed.control("GET /runs?workflow=guarded", &Json::Null).await.json();
        assert!(run["runs"].as_array().is_some_and(|runs| runs.len() >= 2), "{run}");
    });
}
