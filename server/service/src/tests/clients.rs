//! The service's own paths below `/~/`: jobs for those who queued them, callbacks, health and description.

use kanzlei_harness::wait::Deadline;
use kanzlei_model::run::JobPhase;
use serde_json::{Value as Json, json};
use uuid::Uuid;

use super::{Bed, with};

const LATER: &str = "workflow: later
input: {n: {type: integer, default: 1}}
entries: [{endpoint: POST /later, access: open, answer: later}]
queue: {results: 1ms}
steps:
  - if: input.n === 2
    then: [{pause: 1 day}]
  - if: input.n < 3
    then: [{reply: 201, headers: {X-Made: here}, body: {n: '${input.n}'}}]
";
const AWAITS: &str = "workflow: awaits
entries: [{endpoint: POST /awaits, access: open, answer: later}]
steps:
  - {id: word, await: verdict, until: 1h, steps: [{note: '${verdict.url}'}]}
  - {reply: 200, body: '${word}'}
";

/// The results of `later` stay for a day.
fn later() -> String {
    LATER.replace("1ms", "1 day")
}

#[test]
fn a_path_of_a_job_answers_by_what_the_job_is() {
    with("paths", &[&later()], &[], async |bed| {
        let waits = bed.queue("/later", "").await;
        let none = Uuid::from_u128(7);
        for (line, status, part) in [
            (format!("GET /~/jobs/{waits}"), 200, "\"state\":\"queued\""),
            (format!("HEAD /~/jobs/{waits}"), 200, ""),
            (format!("GET /~/jobs/{waits}/result"), 202, "\"state\":\"queued\""),
            (format!("PUT /~/jobs/{waits}"), 405, "GET, HEAD, DELETE"),
            (format!("POST /~/jobs/{waits}/result"), 405, "GET, HEAD"),
            (format!("POST /~/jobs/{waits}/events"), 405, "GET"),
            (format!("GET /~/jobs/{waits}/steps"), 404, "there is no /~/jobs/"),
            (format!("GET /~/jobs/{none}"), 404, "there is no job"),
            (format!("DELETE /~/jobs/{none}"), 404, "there is no job"),
            (format!("GET /~/jobs/{none}/events"), 404, "there is no job"),
            ("GET /~/jobs/seven".into(), 404, "`seven` is not the id of a job"),
            ("GET /~/jobs/".into(), 404, "`` is not the id of a job"),
        ] {
            let answer = bed.send(&line, &[], "").await;
            assert!(answer.status == status && answer.body.contains(part), "{line}: {answer:?}");
            let more = answer.header("retry-after").is_some();
            assert_eq!(more, status < 300, "{line}: it says when to poll again");
        }
    });
}

#[test]
fn a_result_is_answered_as_the_direct_answer_would_have_been() {
    with("results", &[&later()], &[], async |bed| {
        bed.work();
        let id = bed.queue("/later", "").await;
        bed.ended(id).await;
        let result = bed.send(&format!("GET /~/jobs/{id}/result"), &[], "").await;
        assert_eq!((result.status, result.body.as_str(), result.header("x-made")), (201, "{\"n\":1}", Some("here")));
        assert_eq!(result.header("run-id"), Some(id.to_string().as_str()));
        let head = bed.send(&format!("HEAD /~/jobs/{id}/result"), &[], "").await;
        assert_eq!((head.status, head.body.as_str()), (201, ""));
        // Without a reply there is nothing to answer with.
        let silent = bed.queue("/later", "{\"n\": 3}").await;
        bed.ended(silent).await;
        assert_eq!(bed.send(&format!("GET /~/jobs/{silent}/result"), &[], "").await.status, 204);
    });
}

#[test]
fn an_expired_result_is_gone() {
    with("expired", &[LATER], &[], async |bed| {
        bed.work();
        let id = bed.queue("/later", "").await;
        let job = bed.ended(id).await;
        assert!(job.expires <= job.ended.map(|at| at + kanzlei_model::time::Span::from_micros(1000)), "{job:?}");
        let end = Deadline::after(super::LONG);
        while bed.send(&format!("GET /~/jobs/{id}/result"), &[], "").await.status != 410 {
            assert!(!end.is_over(), "the result stays");
        }
    });
}

#[test]
fn a_client_cancels_its_job_once() {
    with("cancels", &[&later()], &[], async |bed| {
        let queued = bed.queue("/later", "").await;
        let cancelled = bed.send(&format!("DELETE /~/jobs/{queued}"), &[], "").await;
        assert_eq!((cancelled.status, &cancelled.json()["state"]), (200, &json!("cancelled")));
        let again = bed.send(&format!("DELETE /~/jobs/{queued}"), &[], "").await;
        assert!(again.status == 409 && again.body.contains("it was cancelled at 20"), "{again:?}");
        let result = bed.send(&format!("GET /~/jobs/{queued}/result"), &[], "").await;
        assert_eq!(result.problem(), (409, "The job was cancelled".into()));
        // One that waits in a pause ends at once, too.
        bed.work();
        let pauses = bed.queue("/later", "{\"n\": 2}").await;
        bed.until(pauses, |job| job.waits_for.is_some() && job.phase == JobPhase::Ready).await;
        assert_eq!(bed.send(&format!("DELETE /~/jobs/{pauses}"), &[], "").await.status, 200);
        assert_eq!(bed.job(pauses).await.phase, JobPhase::Cancelled);
    });
}

#[test]
fn the_events_of_an_ended_job_end() {
    with("events", &[&later()], &[], async |bed| {
        bed.work();
        let id = bed.queue("/later", "").await;
        let changes = bed.ended(id).await.changes;
        let path = format!("GET /~/jobs/{id}/events");
        let stream = bed.send(&path, &[], "").await;
        assert_eq!((stream.status, stream.header("content-type")), (200, Some("text/event-stream")));
        let (first, rest) = stream.body.split_once("\n\n").expect("two parts");
        assert_eq!(first, "retry: 2000");
        assert!(rest.starts_with(&format!("id: {changes}\nevent: ended\ndata: {{")), "{rest}");
        for (last, status) in [("0", 200), ("x", 200), (&changes.to_string(), 204), ("99999", 204)] {
            assert_eq!(bed.send(&path, &[("last-event-id", last)], "").await.status, status, "{last}");
        }
    });
}

/// Queues a job that waits for a callback; returns it with the path to call.
async fn awaits(bed: &Bed) -> (Uuid, String) {
    let id = bed.queue("/awaits", "").await;
    let job = bed.until(id, |job| job.waits_for.as_deref() == Some("callback") && job.phase == JobPhase::Ready).await;
    let notes = job.notes.expect("a note");
    let at = notes.find("/~/callbacks/").expect("an address");
    let path = notes[at..].chars().take_while(|c| !matches!(c, '"' | '\n' | '\\')).collect();
    (id, path)
}

#[test]
fn a_callback_receives_one_message() {
    with("callbacks", &[AWAITS], &[], async |bed| {
        bed.work();
        let (id, path) = awaits(bed).await;
        let json = [("content-type", "application/json")];
        for (line, body, status, part) in [
            (format!("GET {path}"), "", 405, "POST, PUT"),
            (format!("POST {path}x"), "1", 404, "nothing waits here"),
            (format!("POST {path}"), "{\"ok\":true}", 202, "received"),
            (format!("POST {path}"), "{\"ok\":true}", 202, "received"),
            (format!("PUT {path}"), "{\"ok\":false}", 409, "this address receives one message"),
        ] {
            let answer = bed.send(&line, &json, body).await;
            assert!(answer.status == status && answer.body.contains(part), "{line} {body}: {answer:?}");
        }
        bed.ended(id).await;
        let result = bed.send(&format!("GET /~/jobs/{id}/result"), &[], "").await;
        assert_eq!((result.status, result.body.as_str()), (200, "{\"ok\":true}"));
    });
}

#[test]
fn a_callback_of_an_ended_job_is_gone() {
    with("gone", &[AWAITS], &[], async |bed| {
        bed.work();
        let (id, path) = awaits(bed).await;
        assert_eq!(bed.send(&format!("DELETE /~/jobs/{id}"), &[], "").await.status, 200);
        let answer = bed.send(&format!("POST {path}"), &[], "late").await;
        assert_eq!(answer.problem(), (410, "The run has ended".into()));
    });
}

#[test]
fn a_callback_has_a_largest_body() {
    with("large_callback", &[AWAITS], &[], async |bed| {
        bed.work();
        let (id, path) = awaits(bed).await;
        let large = "x".repeat((1 << 20) + 1);
        assert_eq!(bed.send(&format!("POST {path}"), &[], &large).await.status, 413);
        assert_eq!(bed.send(&format!("POST {path}"), &[("content-type", "text/plain")], &large[1..]).await.status, 202);
        bed.ended(id).await;
        let result = bed.send(&format!("GET /~/jobs/{id}/result"), &[], "").await;
        assert_eq!((result.status, result.body.len()), (200, 1 << 20));
    });
}

#[test]
fn health_and_description_are_open_and_read_only() {
    with("own", &[&later()], &[], async |bed| {
        let health = bed.send("GET /~/health", &[], "").await;
        let wanted = json!({"status": "pass", "database": "available", "journal": {"dropped": 0}});
        assert_eq!((health.status, health.json()), (200, wanted));
        let described = bed.send("GET /~/openapi.json", &[], "").await.json();
        assert!(described["paths"]["/later"]["post"]["responses"]["202"].is_object(), "{described}");
        for (line, status) in [
            ("HEAD /~/health", 200),
            ("POST /~/health", 405),
            ("DELETE /~/openapi.json", 405),
            ("GET /~/", 404),
            ("GET /~/metrics", 404),
        ] {
            assert_eq!(bed.send(line, &[], "").await.status, status, "{line}");
        }
    });
}

#[test]
fn a_description_follows_each_deploy() {
    with("described", &[&later()], &[], async |bed| {
        let paths = async || {
            let described = bed.send("GET /~/openapi.json", &[], "").await.json();
            described["paths"].as_object().map(|paths| paths.keys().cloned().collect::<Vec<_>>()).unwrap_or_default()
        };
        assert_eq!(paths().await, ["/later"]);
        assert_eq!(bed.deploy(&[AWAITS]).await.status, 200);
        assert_eq!(paths().await, ["/awaits", "/later"]);
        assert_eq!(bed.control("DELETE /workflows/later", &Json::Null).await.status, 204);
        assert_eq!(paths().await, ["/awaits"]);
    });
}
