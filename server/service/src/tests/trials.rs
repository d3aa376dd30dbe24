//! Trials over the control API: what is performed, what is simulated, and what they leave alone.

use serde_json::{Value as Json, json};

use super::{Answer, Bed, server, with};

const API: &str = "openapi: 3.1.0
info: {title: s, version: '1'}
paths:
  /things:
    get:
      operationId: read
      responses: {'200': {description: one, content: {application/json: {schema: {type: object, required: [name], properties: {name: {type: string, examples: [sample]}}}}}}}
    post:
      operationId: make
      responses: {'201': {description: made, content: {application/json: {schema: {type: object, required: [id], properties: {id: {type: integer, examples: [7]}}}}}}}
";
const DRAFT: &str = "workflow: draft
input: {n: {type: integer, minimum: 3}, who: {type: string, examples: [berit]}}
steps:
  - {id: made, call: s.make}
  - pause: 2 h
  - keep: {last: '${input.n}'}
  - id: queued
    enqueue: other
  - id: rows
    sql: office
    once: false
    statement: INSERT INTO thing (n) VALUES (:n)
    bind: {n: '${input.n}'}
  - id: read
    sql: office
    statement: SELECT n FROM thing
  - if: input.n > 100
    then: [{fail: 409, title: Too many}]
  - reply: 201
    body: {id: '${made.body.id}', n: '${input.n}', who: '${input.who}', rows: '${read.rows.length}', jobs: '${queued.job}'}
";

async fn tried(bed: &Bed, more: Json) -> Answer {
    let mut body = json!({
        "documents": [
            {"path": "services/s.yaml", "text": "service: s\nbase: http://127.0.0.1:9\nnetwork: private\nopenapi: s.openapi.yaml\n"},
            {"path": "workflows/other.yaml", "text": "workflow: other\nsteps: [{note: a}]\n"},
            {"path": "workflows/draft.yaml", "text": DRAFT},
        ],
        "files": {"services/s.openapi.yaml": API},
        "workflow": "draft",
    });
    for (name, value) in more.as_object().into_iter().flatten() {
        body[name] = value.clone();
    }
    bed.control("POST /trials", &body).await
}

fn modes(trial: &Json) -> String {
    let all = trial["effects"].as_array().expect("a list").iter();
    all.map(|effect| format!("{} {}", effect["name"].as_str().unwrap_or(""), effect["mode"].as_str().unwrap_or("")))
        .collect::<Vec<_>>()
        .join(", ")
}

#[test]
fn a_trial_performs_what_reads_and_simulates_what_changes() {
    let office = server().authors("kanzlei_trial_office").expect("a database");
    for statement in ["CREATE TABLE thing (n INT) ENGINE = InnoDB", "INSERT INTO thing VALUES (1), (2)"] {
        server().sql("kanzlei_trial_office", statement).expect(statement);
    }
    with("trials", &[], &[("databases.office.url", office.as_str()), ("network.allow", "127.0.0.0/8")], async |bed| {
        let trial = tried(bed, json!({})).await.json();
        assert_eq!((&trial["state"], &trial["status"]), (&json!("succeeded"), &json!(201)), "{trial}");
        let reply = json!({"id": 7, "n": 3, "who": "berit", "rows": 2, "jobs": "trial-job-1"});
        assert_eq!(trial["reply"], reply, "a sample is the input, and the database was read");
        let how = "s.make simulated, wait simulated, keep simulated, enqueue simulated, sql.office simulated, sql.office real";
        assert_eq!(modes(&trial), how);
        assert!(trial["duration_us"].as_i64() >= Some(7_200_000_000), "the wait was skipped: {trial}");

        for (more, status, says) in [
            (json!({"input": {"n": 200}}), 200, "Too many"),
            (json!({"input": {"n": 1}}), 422, "minimum"),
            (json!({"input": {"n": 5}, "exact": true}), 422, "who"),
            (json!({"until": "made"}), 200, "\"number\":\"1\""),
            (json!({"until": "nine"}), 422, "no step `nine`"),
            (json!({"simulated": ["sql.office"]}), 200, "\"rows\":0"),
            (json!({"stubs": "s.make: {status: 201, body: {id: 99}}"}), 200, "\"id\":99"),
            (json!({"stubs": "s.make: {status: 503}"}), 200, "\"failed\""),
            (json!({"stubs": "s.mak: {status: 503}"}), 422, "no operation `mak`"),
            (json!({"stubs": "["}), 422, "cannot be used"),
            (json!({"real": ["s.make"]}), 200, "unreachable"),
            (json!({"workflow": "none"}), 404, "no workflow `none`"),
            (
                json!({"documents": [{"path": "a.yaml", "text": "workflow: draft\nsteps: [{reply: 700}]\n"}]}),
                422,
                "a status from",
            ),
        ] {
            let answer = tried(bed, more.clone()).await;
            assert!(answer.status == status && answer.body.contains(says), "{more}: {answer:?}");
        }
        // A wait is skipped only where nothing real may come first.
        let both = "workflow: draft\nsteps:\n  - together:\n      read: {call: s.read, within: 2s}\n      wait: {pause: 2 h}\n";
        let changed = json!([
            {"path": "services/s.yaml", "text": "service: s\nbase: http://127.0.0.1:9\nnetwork: private\nopenapi: s.openapi.yaml\n"},
            {"path": "workflows/draft.yaml", "text": both},
        ]);
        let trial = tried(bed, json!({"documents": changed})).await.json();
        assert!(
            trial["failure"]["kind"] == "unreachable" && trial["duration_us"].as_i64() < Some(60_000_000),
            "{trial}"
        );
        let until = tried(bed, json!({"until": "rows"})).await.json();
        assert_eq!(until["steps"].as_array().map(Vec::len), Some(5), "{until}");
        let list = bed.control("GET /trials", &Json::Null).await.json();
        assert!(list["trials"].as_array().is_some_and(|all| all.len() > 5), "{list}");
        let id = list["trials"][0]["id"].as_str().expect("an id").to_owned();
        assert_eq!(bed.control(&format!("GET /trials/{id}"), &Json::Null).await.json()["id"], id.as_str());
        assert_eq!(bed.control("GET /trials/01900000-0000-7000-8000-000000000000", &Json::Null).await.status, 404);
        // Nothing of it is among the runs, and nothing was written.
        assert_eq!(bed.control("GET /runs", &Json::Null).await.json()["runs"], json!([]));
        let real = tried(bed, json!({"real": ["sql.office"]})).await.json();
        assert_eq!(real["reply"]["rows"], 3, "{real}");
    });
}
