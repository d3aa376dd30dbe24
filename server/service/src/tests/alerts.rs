//! Alerts: measured, begun, announced once over all processes, silenced and ended.

use kanzlei_model::time::{Span, Timestamp};
use kanzlei_runtime::clock::now;
use kanzlei_runtime::worker::alerts::round;
use serde_json::{Value as Json, json};

use super::{Bed, eventually, with};

const WORK: &str = "workflow: work
input: {n: {type: integer}}
entries: [{endpoint: POST /work, access: open}, {endpoint: POST /locked, access: {key: {header: X-Key}}}]
steps:
  - {fail: 409, title: Three, when: input.n === 3}
  - call: GET http://127.0.0.1:1/
    when: input.n === 4
  - {reply: 204}
";
const PEER: &str = "service: peer\nbase: http://127.0.0.1:1\nnetwork: private\n";
const NOTICE: &str = "workflow: notice
input: {alerts: {type: array}}
steps: [{note: '${input.alerts}'}, {reply: 204}]
";

fn alert(name: &str, rest: &str) -> String {
    format!("alert: {name}\nrun: notice\n{rest}\n")
}

/// Documents with these alerts.
fn documents(alerts: &[(&str, &str)]) -> Vec<String> {
    let own = alerts.iter().map(|(name, rest)| alert(name, rest));
    [WORK, PEER, NOTICE].map(str::to_owned).into_iter().chain(own).collect()
}

async fn step(bed: &Bed, at: Timestamp) {
    let app = &bed.service.app;
    round(&app.jobs, &app.live.load_full(), at).await.expect("a round");
}

async fn alerts(bed: &Bed) -> Json {
    let answer = bed.control("GET /alerts", &Json::Null).await;
    assert_eq!(answer.status, 200, "{answer:?}");
    answer.json()
}

/// The inputs of all notices, as `name state` each, in the order of their queueing.
async fn notices(bed: &Bed) -> Vec<String> {
    let listed = bed.control("GET /jobs?workflow=notice&limit=100", &Json::Null).await.json();
    let mut all = Vec::new();
    for job in listed["jobs"].as_array().expect("jobs").iter().rev() {
        let id = job["id"].as_str().expect("an id");
        let shown = bed.control(&format!("GET /jobs/{id}"), &Json::Null).await.json();
        let one = |one: &Json| {
            format!("{} {}", one["alert"].as_str().unwrap_or_default(), one["state"].as_str().unwrap_or_default())
        };
        let of: Vec<String> = shown["input"]["alerts"].as_array().expect("alerts").iter().map(one).collect();
        all.push(of.join(", "));
    }
    all.sort();
    all
}

/// Runs of `work`: what is sent, and how often.
async fn runs(bed: &Bed, n: u32, count: u32) {
    for _ in 0..count {
        bed.post("/work", &[], &format!("{{\"n\":{n}}}")).await;
    }
}

/// Waits until a measure of an alert has a value, or more: notices wait in the lane `main`, too.
async fn measured(bed: &Bed, name: &str, measure: &str, wanted: f64) {
    eventually(async || {
        step(bed, now()).await;
        let all = alerts(bed).await;
        let found = all["alerts"].as_array().expect("alerts").iter().find(|one| one["name"] == name).cloned();
        found.expect(name)["measures"][measure].as_f64().is_some_and(|found| found >= wanted)
    })
    .await;
}

#[test]
fn an_alert_begins_and_ends_and_is_announced_once() {
    let documents = documents(&[("fails", "workflow: work\nwhen: failed >= 2\nover: 1 min")]);
    let documents: Vec<&str> = documents.iter().map(String::as_str).collect();
    with("alerts", &documents, &[], async |bed| {
        step(bed, now()).await;
        assert_eq!(alerts(bed).await["alerts"][0]["state"], "off");
        runs(bed, 4, 2).await;
        measured(bed, "fails", "failed", 2.0).await;
        for _ in 0..3 {
            step(bed, now()).await;
        }
        let on = alerts(bed).await;
        assert_eq!((&on["alerts"][0]["state"], &on["spans"][0]["notices"]), (&json!("on"), &json!(1)), "{on}");
        assert!(on["alerts"][0]["announced"].is_string() || on["alerts"][0]["announced"].is_number(), "{on}");
        assert_eq!(notices(bed).await, ["fails began"]);
        // Two minutes later nothing has failed.
        let later = now() + Span::from_secs(180);
        step(bed, later).await;
        step(bed, later).await;
        assert_eq!(notices(bed).await, ["fails began", "fails ended"]);
        let over = alerts(bed).await;
        assert_eq!(over["alerts"][0]["state"], "off");
        assert!(!over["spans"][0]["ended"].is_null(), "{over}");
        // What an alert names stays; what lasts of a retired one ends.
        for name in ["work", "notice"] {
            assert_eq!(bed.control(&format!("DELETE /workflows/{name}"), &Json::Null).await.status, 409, "{name}");
        }
        runs(bed, 4, 2).await;
        measured(bed, "fails", "failed", 2.0).await;
        assert_eq!(bed.control("DELETE /alerts/fails", &Json::Null).await.status, 204);
        step(bed, now()).await;
        let gone = alerts(bed).await;
        assert_eq!((&gone["alerts"], gone["spans"][0]["ended"].is_null()), (&json!([]), false), "{gone}");
        assert_eq!(bed.control("DELETE /workflows/notice", &Json::Null).await.status, 204);
    });
}

#[test]
fn two_processes_announce_the_same_alert_once() {
    let documents = documents(&[("fails", "workflow: work\nwhen: failed >= 1\nover: 1 h")]);
    let documents: Vec<&str> = documents.iter().map(String::as_str).collect();
    with("alerts_twice", &documents, &[], async |bed| {
        let store = bed.store();
        let at = now();
        let claims =
            futures_util::future::join_all((0..8).map(|_| store.claim_alert_round(at, at - Span::from_secs(10))));
        let won = claims.await.into_iter().filter(|claimed| matches!(claimed, Ok(true))).count();
        assert_eq!(won, 1, "one process claims a round");
        runs(bed, 4, 1).await;
        bed.service.app.journal.flush().await;
        // Rounds that overlap, as after a pause of a process.
        eventually(async || {
            let later = now();
            futures_util::future::join_all((0..4).map(|_| step(bed, later))).await;
            !notices(bed).await.is_empty()
        })
        .await;
        assert_eq!(notices(bed).await, ["fails began"]);
        // A process that died before it wrote that it announced: the next round queues nothing new.
        super::server().sql("kanzlei_alerts_twice", "UPDATE alert SET announced = NULL").expect("an update");
        step(bed, now()).await;
        assert_eq!(notices(bed).await, ["fails began"]);
    });
}

#[test]
fn groups_share_a_notice_and_silences_have_none() {
    let documents = documents(&[
        ("fails", "workflow: work\nwhen: failed >= 1\nover: 1 h\ngroup: work"),
        ("rejects", "workflow: work\nwhen: rejected >= 1\nover: 1 h\ngroup: work"),
        ("silent", "workflow: work\nwhen: runs >= 1\nover: 1 h"),
        ("slow", "workflow: work\nwhen: runs >= 1\nover: 1 h\nlasting: 10 min"),
    ]);
    let documents: Vec<&str> = documents.iter().map(String::as_str).collect();
    with("alerts_groups", &documents, &[], async |bed| {
        let silence =
            async |name: &str, body: &Json| bed.control(&format!("PUT /alerts/{name}/silence"), body).await.status;
        let good = json!({"for": "2h", "reason": "the registry is moved"});
        assert_eq!(silence("silent", &good).await, 409, "it was not looked at yet");
        step(bed, now()).await;
        for (name, body, status) in [
            ("silent", json!({"for": "31d", "reason": "x"}), 422),
            ("silent", json!({"for": "2h", "reason": " "}), 422),
            ("other", good.clone(), 404),
            ("silent", good.clone(), 200),
        ] {
            assert_eq!(silence(name, &body).await, status, "{name} {body}");
        }
        // Both counts are there before the first round that sees one.
        runs(bed, 3, 1).await;
        runs(bed, 4, 1).await;
        eventually(async || {
            let counted = bed.control("GET /overview", &Json::Null).await.json();
            counted["workflows"][0]["ended"]["runs"] == 2
        })
        .await;
        step(bed, now()).await;
        assert_eq!(notices(bed).await, ["fails began, rejects began"], "{:#}", alerts(bed).await);
        let all = alerts(bed).await;
        let state = |name: &str| {
            let found = all["alerts"].as_array().expect("alerts").iter().find(|one| one["name"] == name);
            found.expect(name)["state"].clone()
        };
        assert_eq!((state("silent"), state("slow")), (json!("on"), json!("rising")));
        let ended = bed.control("DELETE /alerts/silent/silence", &Json::Null).await;
        assert_eq!(ended.status, 204);
        step(bed, now()).await;
        assert_eq!(notices(bed).await, ["fails began, rejects began", "silent began"]);
        step(bed, now() + Span::from_secs(601)).await;
        assert!(notices(bed).await.contains(&"slow began".to_owned()));
    });
}

#[test]
fn each_subject_is_measured_over_all_processes() {
    let timetable = "workflow: nightly\nentries: [{timetable: '0 2 * * *'}]\nsteps: [{reply: 204}]\n";
    let later =
        "workflow: later\nentries: [{endpoint: POST /later, access: open, answer: later}]\nsteps: [{reply: 204}]\n";
    let few = "allowance: few\nquota: 4/day\n";
    let mut documents = documents(&[
        ("a-workflow", "workflow: work\nwhen: denied > 0"),
        ("a-service", "service: peer\nwhen: failed > 0"),
        ("a-lane", "lane: main\nwhen: queued > 0"),
        ("a-timetable", "timetable: nightly\nwhen: missed > 0"),
        ("an-allowance", "allowance: few\nwhen: used >= 0.5"),
    ]);
    documents.extend([timetable, later, few].map(str::to_owned));
    let documents: Vec<&str> = documents.iter().map(String::as_str).collect();
    with("alerts_subjects", &documents, &[], async |bed| {
        bed.deploy(&[&WORK.replace("access: open}", "access: open, allowance: few}")]).await;
        runs(bed, 4, 1).await;
        runs(bed, 1, 1).await;
        assert_eq!(bed.post("/locked", &[], "{\"n\":1}").await.status, 401);
        bed.queue("/later", "{}").await;
        let due = (now() - Span::from_secs(60)).as_micros();
        let sql = format!(
            "INSERT INTO firing (workflow, entry, due, result, at) VALUES ('nightly', 0, {due}, 'missed', {due})"
        );
        super::server().sql("kanzlei_alerts_subjects", &sql).expect("a row");
        for (name, measure, wanted) in [
            ("a-workflow", "failed", 1.0),
            ("a-workflow", "succeeded", 1.0),
            ("a-workflow", "denied", 1.0),
            ("a-service", "calls", 1.0),
            ("a-service", "failed", 1.0),
            ("a-lane", "queued", 1.0),
            ("a-timetable", "missed", 1.0),
            ("an-allowance", "callers", 1.0),
        ] {
            measured(bed, name, measure, wanted).await;
        }
        let all = alerts(bed).await;
        let states: Vec<&Json> = all["alerts"].as_array().expect("alerts").iter().map(|one| &one["state"]).collect();
        assert!(states[..4].iter().all(|state| **state == "on"), "{all}");
    });
}
