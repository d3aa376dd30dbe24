//! The control API subject by subject: check, services, databases, scratch, lanes, actions on jobs.

use serde_json::{Value as Json, json};
use uuid::Uuid;

use super::{Bed, server, with};

const SERVICE: &str = "service: registry\nbase: https://registry.example\n";
const ASKS: &str = "workflow: asks
entries: [{endpoint: GET /asks, access: open}]
steps:
  - {id: vessel, call: 'GET https://registry.example/vessels'}
  - {reply: 200, body: '${vessel.body}'}
";
const LATER: &str = "workflow: later
input: {n: {type: integer, default: 1}}
queue: {lane: berths, tag: 'n-${input.n}'}
entries: [{endpoint: POST /later, access: open, answer: later}]
steps:
  - if: input.n === 2
    then: [{fail: 409, title: Two}]
  - {note: 'n is ${input.n}'}
";
const LANE: &str = "lane: berths\nabout: One at a time.\nat_once: 1\npace: 60/min\nlength: 50\n";

fn documents(texts: &[&str]) -> Json {
    let all = texts.iter().enumerate().map(|(at, text)| json!({"path": format!("{at}.yaml"), "text": text}));
    json!({"documents": all.collect::<Vec<_>>()})
}

#[test]
fn a_check_reports_and_changes_nothing() {
    with("checks", &[SERVICE], &[], async |bed| {
        for (texts, status, errors) in
            [(vec![ASKS], 200, 0), (vec![ASKS, "workflow: x\n"], 200, 1), (vec!["[1]"], 200, 1), (vec![], 200, 0)]
        {
            let answer = bed.control("POST /check", &documents(&texts)).await;
            let found = answer.json()["diagnostics"].as_array().cloned().unwrap_or_default();
            let bad = found.iter().filter(|finding| finding["severity"] == "error").count();
            assert_eq!((answer.status, bad), (status, errors), "{texts:?}: {}", answer.body);
        }
        assert_eq!(bed.send("GET /asks", &[], "").await.status, 404, "nothing is live");
        for body in [json!({}), json!({"documents": 1}), json!({"documents": [{"path": "a.yaml"}]})] {
            let answer = bed.control("POST /check", &body).await;
            assert!((400..500).contains(&answer.status), "{body}: {answer:?}");
        }
    });
}

#[test]
fn a_service_is_shown_with_its_callers_and_retired_without() {
    with("services", &[SERVICE, ASKS], &[], async |bed| {
        let list = bed.control("GET /services", &Json::Null).await.json();
        assert_eq!(list["services"][0]["name"], "registry", "{list}");
        let shown = bed.control("GET /services/registry", &Json::Null).await;
        assert!(shown.status == 200 && shown.body.contains("https://registry.example"), "{shown:?}");
        let called = bed.control("DELETE /services/registry", &Json::Null).await;
        assert!(called.status == 409 && called.body.contains("asks"), "{called:?}");
        assert_eq!(bed.control("DELETE /workflows/asks", &Json::Null).await.status, 204);
        assert_eq!(bed.control("DELETE /services/registry", &Json::Null).await.status, 204);
        let gone = bed.control("GET /services/registy", &Json::Null).await;
        assert_eq!(gone.status, 404, "{gone:?}");
    });
}

#[test]
fn a_workflow_that_is_not_there_names_the_nearest() {
    with("nearest", &[SERVICE, ASKS], &[], async |bed| {
        for line in ["GET /workflows/askes", "DELETE /workflows/askes"] {
            let answer = bed.control(line, &Json::Null).await;
            assert!(answer.status == 404 && answer.body.contains("askes"), "{line}: {answer:?}");
        }
    });
}

#[test]
fn a_secret_has_a_name_and_a_bounded_value() {
    with("secret_names", &[], &[], async |bed| {
        for (name, body, status) in [
            ("registry-key", json!({"value": "v"}), 204),
            ("Registry", json!({"value": "v"}), 422),
            ("registry-key", json!({"value": ""}), 422),
            ("registry-key", json!({"value": "v".repeat(20_000)}), 422),
            ("registry-key", json!({"value": "v\nw"}), 422),
            ("registry-key", json!({"value": "-----BEGIN CERTIFICATE-----\nv"}), 204),
            ("registry-key", json!({"valu": "v"}), 400),
        ] {
            let answer = bed.control(&format!("PUT /secrets/{name}"), &body).await;
            assert_eq!(answer.status, status, "{name} {}: {answer:?}", body.to_string().len());
        }
    });
}

#[test]
fn a_database_is_prepared_by_name() {
    let url = server().authors("kanzlei_authors").expect("a database");
    with("prepares", &[], &[("databases.harbour.url", &url)], async |bed| {
        let list = bed.control("GET /databases", &Json::Null).await.json();
        assert_eq!(
            (&list["databases"][0]["name"], &list["databases"][0]["prepared"]),
            (&json!("harbour"), &json!(false))
        );
        let prepared = bed.control("POST /databases/harbour/prepare", &Json::Null).await;
        assert_eq!((prepared.status, &prepared.json()["prepared"]), (200, &json!(true)), "{prepared:?}");
        let again = bed.control("POST /databases/harbour/prepare", &Json::Null).await;
        assert_eq!(again.status, 200, "it can be repeated: {again:?}");
        let near = bed.control("GET /databases/harbor", &Json::Null).await;
        assert!(near.status == 404 && near.body.contains("did you mean `harbour`?"), "{near:?}");
    });
}

#[test]
fn a_lent_database_answers_until_it_is_returned() {
    with("lending", &[], &[("rehearsal.url", &server().scratch_url())], async |bed| {
        let seed = json!({"seed": "CREATE TABLE t (n INT); INSERT INTO t VALUES (1), (2)"});
        let lent = bed.control("POST /scratch", &seed).await;
        assert_eq!(lent.status, 201, "{lent:?}");
        let name = lent.json()["database"].as_str().expect("a name").to_owned();
        let ask = async |text: &str| {
            let statements =
                json!({"statements": [{"text": text, "values": []}], "transaction": false, "within_ms": 5000});
            bed.control(&format!("POST /scratch/{name}"), &statements).await
        };
        let rows = ask("SELECT SUM(n) AS n FROM t").await;
        assert!(rows.status == 200 && rows.body.contains("\"n\":3"), "{rows:?}");
        let refused = ask("SELECT x FROM t").await;
        assert!(refused.status == 200 && refused.body.contains("\"kind\":\"sql\""), "{refused:?}");
        for _ in 0..2 {
            assert_eq!(bed.control(&format!("DELETE /scratch/{name}"), &Json::Null).await.status, 204);
        }
        assert_eq!(ask("SELECT 1").await.status, 404);
        for seed in [
            "CREATE TABEL t (n INT)",
            "SELECT * FROM mysql.user",
            "CREATE DATABASE kanzlei_other",
            "SET GLOBAL max_connections = 1",
        ] {
            let broken = bed.control("POST /scratch", &json!({"seed": seed})).await;
            assert_eq!(broken.problem(), (422, "The database refused it".into()), "{seed}");
        }
    });
}

#[test]
fn a_lane_shows_its_rules_and_how_it_stands() {
    with("lane_rules", &[LANE, LATER], &[], async |bed| {
        bed.queue("/later", "").await;
        let lanes = bed.control("GET /lanes", &Json::Null).await.json();
        let lanes = lanes["lanes"].as_array().cloned().unwrap_or_default();
        let names: Vec<&Json> = lanes.iter().map(|lane| &lane["name"]).collect();
        assert_eq!(names, ["berths", "main"]);
        for (member, wanted) in [
            ("about", json!("One at a time.")),
            ("declared", json!(true)),
            ("held", json!(false)),
            ("at_once", json!(1)),
            ("pace", json!("60/min")),
            ("order", json!("due")),
            ("length", json!(50)),
            ("queued", json!(1)),
            ("running", json!(0)),
        ] {
            assert_eq!(lanes[0][member], wanted, "{member}");
        }
        let samples = bed.control("GET /lanes/samples?minutes=1", &Json::Null).await;
        assert_eq!((samples.status, &samples.json()["seconds"]), (200, &json!(10)));
    });
}

#[test]
fn a_lane_is_held_released_and_emptied_by_name() {
    with("lane_changes", &[LANE, LATER], &[], async |bed| {
        bed.queue("/later", "").await;
        for (line, status, part) in [
            ("POST /lanes/berths/hold", 200, "\"action\":\"hold\""),
            ("POST /lanes/berths/release", 200, "\"cancelled\":0"),
            ("POST /lanes/berths/empty", 200, "\"cancelled\":1"),
            ("POST /lanes/berths/empty", 200, "\"cancelled\":0"),
            ("POST /lanes/berth/hold", 404, "did you mean `berths`?"),
            ("POST /lanes/berths/drain", 404, "it can hold, release and empty"),
        ] {
            let answer = bed.control(line, &Json::Null).await;
            assert!(answer.status == status && answer.body.contains(part), "{line}: {answer:?}");
        }
    });
}

/// Changes jobs; returns how many were, and why others were not.
async fn act(bed: &Bed, body: Json) -> (usize, Vec<String>) {
    let answer = bed.control("POST /jobs/actions", &body).await;
    assert_eq!(answer.status, 200, "{body}: {}", answer.body);
    let json = answer.json();
    let refused = json["refused"].as_array().cloned().unwrap_or_default();
    let why = refused.iter().filter_map(|one| one["why"].as_str()).map(str::to_owned).collect();
    (json["done"].as_array().map_or(0, Vec::len), why)
}

#[test]
fn an_action_says_why_a_job_stays_as_it_is() {
    with("unchanged", &[LANE, LATER], &[], async |bed| {
        let waits = bed.queue("/later", "").await;
        bed.control("POST /lanes/berths/hold", &Json::Null).await;
        let none = Uuid::from_u128(9);
        for (body, done, why) in [
            (json!({"action": "retry", "ids": [waits]}), 0, vec!["it did not fail"]),
            (json!({"action": "retry", "ids": [none]}), 0, vec!["there is no such job"]),
            (json!({"action": "cancel", "ids": [none]}), 0, vec!["there is no such job"]),
            (json!({"action": "postpone", "ids": [waits, none], "due": "2h"}), 1, vec!["there is no such job"]),
            (json!({"action": "run-now", "ids": [waits]}), 1, vec![]),
            (json!({"action": "cancel", "select": {"tag": "n-1"}}), 1, vec![]),
            (json!({"action": "cancel", "ids": [waits]}), 0, vec!["it has ended"]),
            (json!({"action": "run-now", "ids": [waits]}), 0, vec!["it does not wait for its time"]),
        ] {
            let wanted: Vec<String> = why.into_iter().map(str::to_owned).collect();
            assert_eq!(act(bed, body.clone()).await, (done, wanted), "{body}");
        }
    });
}

#[test]
fn an_action_that_is_not_complete_is_refused() {
    with("incomplete", &[LANE, LATER], &[], async |bed| {
        for (body, status) in [
            (json!({"action": "explode", "ids": []}), 400),
            (json!({"action": "postpone", "ids": []}), 422),
            (json!({"action": "postpone", "ids": [], "due": "tomorrow"}), 422),
            (json!({"action": "postpone", "ids": [], "due": "2001-01-01T00:00:00Z"}), 422),
            (json!({"action": "cancel", "ids": ["7"]}), 400),
            (json!({"action": "cancel", "select": {"state": "odd"}}), 422),
        ] {
            let answer = bed.control("POST /jobs/actions", &body).await;
            assert_eq!(answer.status, status, "{body}: {answer:?}");
        }
    });
}

#[test]
fn a_rejected_job_is_retried_from_its_start_only() {
    with("from_start", &[LANE, LATER], &[], async |bed| {
        bed.work();
        let id = bed.queue("/later", "{\"n\": 2}").await;
        assert_eq!(bed.ended(id).await.attempt, 1);
        let (done, why) = act(bed, json!({"action": "retry", "ids": [id]})).await;
        assert!(done == 0 && why[0].contains("retry it from the start"), "{why:?}");
        assert_eq!(act(bed, json!({"action": "retry", "ids": [id], "from": "start"})).await, (1, vec![]));
        let again = bed.until(id, |job| job.attempt == 2 && job.phase.ended()).await;
        assert_eq!(again.status, Some(409));
        let history = bed.control(&format!("GET /jobs/{id}"), &Json::Null).await.json()["history"].to_string();
        assert!(history.contains("retried from the start"), "{history}");
    });
}

#[test]
fn a_job_is_shown_with_its_steps_and_notes() {
    with("shown_job", &[LANE, LATER], &[], async |bed| {
        bed.work();
        let id = bed.queue("/later", "{\"n\": 5}").await;
        bed.ended(id).await;
        let shown = bed.control(&format!("GET /jobs/{id}"), &Json::Null).await.json();
        for (pointer, wanted) in [
            ("/state", json!("succeeded")),
            ("/lane", json!("berths")),
            ("/tags", json!(["n-5"])),
            ("/input", json!({"n": 5})),
            ("/retired", json!(false)),
            ("/sheet/0/number", json!("1")),
            ("/steps/0/state", json!("succeeded")),
        ] {
            assert_eq!(shown.pointer(pointer), Some(&wanted), "{pointer}: {shown}");
        }
        assert!(shown["notes"].to_string().contains("n is 5"), "{shown}");
        assert!(shown["curl"].as_str().is_some_and(|curl| curl.contains(&id.to_string())), "{shown}");
    });
}
