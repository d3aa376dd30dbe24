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

/// Before each effect the author decides what comes of it; one step is performed alone.
#[test]
fn a_trial_stops_before_each_effect() {
    let office = server().authors("kanzlei_step_office").expect("a database");
    server().sql("kanzlei_step_office", "CREATE TABLE thing (n INT) ENGINE = InnoDB").expect("a table");
    with("steps", &[], &[("databases.office.url", office.as_str()), ("network.allow", "127.0.0.0/8")], async |bed| {
        let mut trial = tried(bed, json!({"stepwise": true})).await.json();
        let id = trial["id"].as_str().expect("an id").to_owned();
        let names = |trial: &Json| -> Vec<String> {
            let all = trial["stop"]["names"].as_array().cloned().unwrap_or_default();
            all.iter().map(|name| format!("{} {}", name["name"].as_str().unwrap_or(""), name["value"])).collect()
        };
        assert_eq!((&trial["state"], &trial["stop"]["step"]), (&json!("running"), &json!("1")), "{trial}");
        assert_eq!(names(&trial), [r#"input {"n":3,"who":"berit"}"#, r#"kept {}"#]);
        let again = bed.control(&format!("GET /trials/{id}"), &Json::Null).await.json();
        assert_eq!(again, trial, "who asks again sees the same stop");
        let list = bed.control("GET /trials", &Json::Null).await.json();
        assert_eq!((&list["trials"][0]["id"], &list["trials"][0]["state"]), (&trial["id"], &json!("running")));
        // What is decided, the step it stops at next, and what is shown then.
        for (decision, step, shown) in [
            (json!({"decision": "answer", "status": 201, "body": {"id": 8}}), "2", "\"status\":201"),
            (json!({"decision": "perform"}), "2", "performs no waits"),
            (json!({"decision": "answer"}), "2", "only calls"),
            (json!({"decision": "set", "values": {"nothing": 1}}), "2", "knows no `nothing`"),
            (json!({"decision": "set", "values": {"input": {"n": 9, "who": "x"}}}), "2", "{\"n\":9,\"who\":\"x\"}"),
            (json!({"decision": "skip"}), "3", "for later runs"),
            (json!({"decision": "fail"}), "3", "cannot fail"),
            (json!({"decision": "usual"}), "4", "enqueue"),
            (json!({"decision": "simulate"}), "5", "INSERT"),
            (json!({"decision": "fail", "kind": "sql"}), "", "\"failed\""),
        ] {
            let answer = bed.control(&format!("POST /trials/{id}/decisions"), &decision).await;
            trial = answer.json();
            let at = trial["stop"]["step"].as_str().unwrap_or_default();
            assert!(at == step && answer.body.contains(shown), "{decision}: {answer:?}");
        }
        assert_eq!(trial["failure"]["kind"], "sql", "{trial}");
        assert_eq!(
            modes(&trial),
            "s.make stubbed, wait simulated, keep simulated, enqueue simulated, sql.office stubbed"
        );
        let mut values = json!({"decision": "finish", "values": {"input": {"n": 41, "who": "x"}}});
        let second = tried(bed, json!({"stepwise": true})).await.json();
        let path = format!("POST /trials/{}/decisions", second["id"].as_str().expect("an id"));
        let whole = bed.control(&path, &values).await.json();
        assert_eq!((&whole["reply"]["n"], &whole["stop"]), (&json!(41), &Json::Null), "{whole}");
        // What has ended is shown, and what is no decision refused.
        assert_eq!(bed.control(&path, &values).await.json()["state"], "succeeded");
        values["decision"] = "end".into();
        let third = tried(bed, json!({"stepwise": true})).await.json();
        let path = format!("POST /trials/{}/decisions", third["id"].as_str().expect("an id"));
        for (decision, says) in [("go", "is no decision"), ("set", "which names")] {
            let answer = bed.control(&path, &json!({"decision": decision})).await;
            assert!(answer.status == 422 && answer.body.contains(says), "{answer:?}");
        }
        assert_eq!(bed.control(&path, &values).await.json()["state"], "cancelled");
        // One step alone: what comes before is simulated, also where it only reads.
        for (only, how, status) in [
            (
                "read",
                "s.make simulated, wait simulated, keep simulated, enqueue simulated, sql.office simulated, sql.office real",
                200,
            ),
            ("made", "s.make simulated", 200),
            ("nine", "", 422),
        ] {
            let answer = tried(bed, json!({"only": only})).await;
            assert_eq!(answer.status, status, "{answer:?}");
            if status == 200 {
                assert_eq!(modes(&answer.json()), how);
            }
        }
        assert_eq!(tried(bed, json!({"only": "read", "until": "made"})).await.status, 422);
    });
}
