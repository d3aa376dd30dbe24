//! What an operator looks for: jobs by how they failed, what is to come, and why a job is late.

use kanzlei_model::run::JobPhase;
use kanzlei_model::time::Span;
use kanzlei_runtime::clock::now;
use serde_json::{Value as Json, json};
use uuid::Uuid;

use super::with;

/// What failed, when and how: the selection of a repair.
#[test]
fn jobs_are_selected_by_how_they_failed() {
    let breaks = "workflow: breaks\ninput: {n: {type: integer}}\nentries: [{endpoint: POST /breaks, access: open, answer: later}]\nsteps:\n  - {fail: 409, title: Taken, when: input.n === 1}\n  - {fail: 503, title: Unavailable, when: input.n === 2}\n  - {reply: 204}\n";
    with("how_failed", &[breaks], &[], async |bed| {
        bed.work();
        let before = now();
        for n in [1, 2, 3] {
            let job = bed.queue("/breaks", &format!("{{\"n\":{n}}}")).await;
            bed.ended(job).await;
        }
        let found = async |query: &str| -> usize {
            let answer = bed.control(&format!("GET /jobs?{query}"), &Json::Null).await;
            assert_eq!(answer.status, 200, "{query}: {answer:?}");
            answer.json()["jobs"].as_array().map_or(0, Vec::len)
        };
        let (begun, later) = (before.to_string(), (now() + Span::from_secs(60)).to_string());
        for (query, wanted) in [
            ("state=rejected,failed", 2),
            ("state=succeeded,failed,rejected", 3),
            ("failure=503", 1),
            ("failure=409&state=rejected", 1),
            ("step=2", 1),
            ("step=1&failure=503", 0),
            ("failure=timeout", 0),
            ("failure=503&revision=1", 1),
            ("failure=503&revision=2", 0),
            ("caller=nobody", 0),
            (&format!("ended_from={begun}"), 3),
            (&format!("ended_from={later}"), 0),
            (&format!("state=rejected,failed&ended_from={begun}&ended_until={later}"), 2),
        ] {
            assert_eq!(found(query).await, wanted, "{query}");
        }
        assert_eq!(bed.control("GET /jobs?failure=timout", &Json::Null).await.status, 422);
        let body = json!({"action": "retry", "from": "start", "select": {"failure": "503", "ended_from": begun}});
        let retried = bed.control("POST /jobs/actions", &body).await;
        assert_eq!(retried.json()["done"].as_array().map(Vec::len), Some(1), "{}", retried.body);
    });
}

#[test]
fn what_is_to_come_is_listed() {
    let waits = "workflow: waits\nentries: [{endpoint: POST /waits, access: open, answer: later}]\nsteps: [{pause: 20min}, {reply: 204}]\n";
    let nightly = "workflow: nightly\nentries: [{timetable: '0 * * * *'}]\nsteps: [{reply: 204}]\n";
    with("coming", &[waits, nightly], &[], async |bed| {
        bed.work();
        for _ in 0..2 {
            let job = bed.queue("/waits", "{}").await;
            bed.until(job, |job| job.waits_for.as_deref() == Some("pause")).await;
        }
        let third = bed.queue("/waits", "{}").await;
        bed.until(third, |job| job.waits_for.as_deref() == Some("pause")).await;
        let body = json!({"action": "cancel", "ids": [third.to_string()]});
        bed.control("POST /jobs/actions", &body).await;
        let coming = async |query: &str| -> Vec<(String, String, u64)> {
            let answer = bed.control(&format!("GET /coming{query}"), &Json::Null).await;
            assert_eq!(answer.status, 200, "{answer:?}");
            let text = |one: &Json, name: &str| one[name].as_str().unwrap_or_default().to_owned();
            let lines = answer.json()["coming"].as_array().cloned().expect("lines");
            let mut all: Vec<_> = lines
                .iter()
                .map(|one| (text(one, "kind"), text(one, "workflow"), one["count"].as_u64().unwrap_or(0)))
                .collect();
            all.sort();
            all
        };
        let hour = coming("").await;
        let of = |kind: &str| hour.iter().filter(|line| line.0 == kind).map(|line| line.2).sum::<u64>();
        assert_eq!((of("pause"), of("timetable")), (2, 1), "{hour:?}");
        assert_eq!(coming("?minutes=10").await.iter().filter(|line| line.0 == "pause").count(), 0);
        let day = coming("?minutes=1440").await;
        assert_eq!(day.iter().filter(|line| line.0 == "timetable").map(|line| line.2).sum::<u64>(), 24);
        for minutes in ["0", "10081"] {
            let refused = bed.control(&format!("GET /coming?minutes={minutes}"), &Json::Null).await;
            assert_eq!(refused.status, 422, "{minutes}");
        }
    });
}

#[test]
fn a_job_that_is_late_says_why() {
    let work = "workflow: work\ninput: {k: {type: string}}\nqueue: {lane: keyed}\nentries: [{endpoint: POST /work, access: open, answer: later}]\nsteps: [{pause: 20min}, {reply: 204}]\n";
    let plain =
        "workflow: plain\nentries: [{endpoint: POST /plain, access: open, answer: later}]\nsteps: [{reply: 204}]\n";
    with("late", &["lane: keyed\norder: {per: input.k}\n", work, plain], &[], async |bed| {
        let late = async |id: Uuid| -> String {
            let shown = bed.control(&format!("GET /jobs/{id}"), &Json::Null).await;
            assert_eq!(shown.status, 200, "{shown:?}");
            shown.json()["late"].as_str().unwrap_or_default().to_owned()
        };
        let first = bed.queue("/work", "{\"k\":\"a\"}").await;
        assert!(late(first).await.starts_with("no process runs jobs"), "{}", late(first).await);
        bed.work();
        bed.until(first, |job| job.waits_for.as_deref() == Some("pause")).await;
        assert_eq!(late(first).await, "", "it waits for itself");
        let second = bed.queue("/work", "{\"k\":\"a\"}").await;
        bed.until(second, |job| job.phase == JobPhase::Blocked).await;
        let why = late(second).await;
        assert!(why.contains("`keyed a`") && why.contains(&first.to_string()), "{why}");
        assert_eq!(bed.control("POST /lanes/main/hold", &Json::Null).await.status, 200);
        let held = bed.queue("/plain", "{}").await;
        assert!(late(held).await.contains("`kanzlei lane release main`"), "{}", late(held).await);
        bed.control("POST /lanes/main/release", &Json::Null).await;
        bed.ended(held).await;
        assert_eq!(late(held).await, "");
    });
}
