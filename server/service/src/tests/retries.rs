//! Repairs by hand: retries with another revision, at a pace and undone; waits that are moved, callbacks that are answered,
//! inputs that are corrected, workflows that are held.

use kanzlei_model::run::{JobPhase, RunState};
use kanzlei_runtime::clock::now;
use kanzlei_store::queue::{Filter, HELD};
use serde_json::{Value as Json, json};
use uuid::Uuid;

use super::{Bed, eventually, with};

const OTHER: &str = "workflow: other\ninput: {n: {type: integer}}\nsteps: [{reply: 204}]\n";

/// A workflow that queues a job, and then does something else.
fn work(sent: &str, more: &str) -> String {
    format!(
        "workflow: work\ninput: {{n: {{type: integer}}, x: {{type: string, default: y}}}}\nentries: [{{endpoint: POST /work, access: open, answer: later}}]\nsteps:\n  - enqueue: other\n    send: {{n: '{sent}'}}\n  - {more}\n"
    )
}

async fn acted(bed: &Bed, change: Json) -> Json {
    let answer = bed.control("POST /jobs/actions", &change).await;
    assert_eq!(answer.status, 200, "{change}: {answer:?}");
    answer.json()
}

/// Why a change did not change its only job; empty where it did.
async fn refusal(bed: &Bed, change: Json) -> String {
    let answer = acted(bed, change).await;
    answer["refused"][0]["why"].as_str().unwrap_or_default().to_owned()
}

async fn queued_others(bed: &Bed) -> usize {
    let filter = Filter { workflow: vec!["other".into()], limit: 100, ..Filter::default() };
    bed.store().job_ids(&filter, now()).await.expect("selects").len()
}

#[test]
fn a_retry_continues_with_the_live_revision_where_its_record_fits() {
    let broken = work("${input.n}", "{fail: 503, title: Unavailable}");
    with("live_retry", &[OTHER, &broken], &[], async |bed| {
        bed.work();
        let mut jobs = Vec::new();
        for _ in 0..3 {
            let job = bed.queue("/work", "{\"n\":1}").await;
            bed.ended(job).await;
            jobs.push(job);
        }
        let retry = |job: Uuid, more: Json| {
            let mut change = json!({"action": "retry", "ids": [job.to_string()]});
            change.as_object_mut().expect("object").extend(more.as_object().expect("object").clone());
            change
        };
        let why = refusal(bed, retry(jobs[0], json!({}))).await;
        assert!(why.contains("with the live revision"), "{why}");
        let live = json!({"revision": "live"});
        for (text, says) in [
            // The step that is done asks for something else.
            (
                work("${input.n + 1}", "{reply: 200, body: mended}"),
                "step 1 is done, and step 1 of this revision asks for otherwise",
            ),
            (
                work("${input.n}", "{reply: 200}")
                    .replace("enqueue: other\n    send: {n: '${input.n}'}", "pause: 10ms"),
                "a pause in place of jobs to be queued",
            ),
            (
                work("${input.n}", "{reply: 200}").replace("{type: integer}", "{type: integer, maximum: 0}"),
                "does not accept its input: /n",
            ),
        ] {
            assert_eq!(bed.deploy(&[&text]).await.status, 200, "{text}");
            let why = refusal(bed, retry(jobs[0], live.clone())).await;
            assert!(why.contains(says), "{why}");
            let previewed = acted(bed, retry(jobs[0], json!({"revision": "live", "preview": true}))).await;
            assert_eq!((&previewed["preview"]["total"], &previewed["preview"]["fit"]), (&json!(1), &json!(0)));
        }
        let mended = work("${input.n}", "{reply: 200, body: '${input.x}'}");
        assert_eq!(bed.deploy(&[&mended]).await.status, 200);
        let others = queued_others(bed).await;
        let previewed = acted(bed, retry(jobs[0], json!({"revision": "live", "preview": true}))).await;
        assert_eq!(previewed["preview"]["fit"], 1, "{previewed}");
        assert_eq!(bed.job(jobs[0]).await.phase, JobPhase::Failed, "a preview changes nothing");
        assert_eq!(refusal(bed, retry(jobs[0], live)).await, "");
        let job = bed.ended(jobs[0]).await;
        assert_eq!((job.phase, job.revision, job.status), (JobPhase::Succeeded, 5, Some(200)));
        assert_eq!(queued_others(bed).await, others, "the step that was done is not done again");
        assert!(job.history.expect("history").contains("with revision 5 in place of 1"));
        // From the start everything is done again.
        assert_eq!(refusal(bed, retry(jobs[1], json!({"revision": "live", "from": "start"}))).await, "");
        let job = bed.ended(jobs[1]).await;
        assert_eq!((job.phase, job.revision), (JobPhase::Succeeded, 5));
        assert_eq!(queued_others(bed).await, others + 1);
    });
}

#[test]
fn retries_have_a_pace_and_are_undone_while_they_have_not_begun() {
    let broken = work("${input.n}", "{fail: 503, title: Unavailable}");
    with("undone_retry", &[OTHER, &broken], &[], async |bed| {
        bed.work();
        for n in [1, 2, 3] {
            let job = bed.queue("/work", &format!("{{\"n\":{n}}}")).await;
            bed.ended(job).await;
        }
        bed.journaled().await;
        let select = json!({"state": "failed", "workflow": "work"});
        let change = |more: Json| {
            let mut change = json!({"action": "retry", "from": "start", "select": select, "pace": "1/h"});
            change.as_object_mut().expect("object").extend(more.as_object().expect("object").clone());
            change
        };
        let previewed = acted(bed, change(json!({"preview": true}))).await["preview"].clone();
        assert_eq!((&previewed["total"], &previewed["fit"]), (&json!(3), &json!(3)));
        assert_eq!(previewed["first"].as_array().map(Vec::len), Some(3));
        let retried = acted(bed, change(json!({}))).await;
        let ids: Vec<Uuid> = retried["done"]
            .as_array()
            .expect("ids")
            .iter()
            .map(|id| id.as_str().expect("id").parse().expect("id"))
            .collect();
        let (first, second) = (bed.ended(ids[0]).await, bed.job(ids[1]).await);
        assert_eq!((first.attempt, second.state(now())), (2, RunState::Scheduled));
        let apart = (bed.job(ids[2]).await.due - second.due).as_micros();
        assert_eq!(apart, 3_600_000_000);
        let undone = acted(bed, json!({"action": "undo", "change": retried["change"]})).await;
        assert_eq!(undone["done"].as_array().map(Vec::len), Some(2), "{undone}");
        assert!(undone["refused"][0]["why"].as_str().expect("why").contains("it has begun again"), "{undone}");
        let job = bed.job(ids[1]).await;
        assert_eq!((job.phase, job.attempt), (JobPhase::Failed, 1));
        assert_eq!(bed.control(&format!("GET /runs/{}", ids[1]), &Json::Null).await.status, 200, "its run is back");
        let failed = bed.control("GET /runs?state=failed&workflow=work", &Json::Null).await.json();
        assert_eq!(failed["runs"].as_array().map(Vec::len), Some(3), "{failed}");
        for (change, says) in [
            (json!({"action": "undo"}), "Missing `change`"),
            (json!({"action": "undo", "change": "x"}), "Malformed id"),
            (change(json!({"pace": "often"})), "Invalid pace"),
            (json!({"action": "cancel", "ids": [], "pace": "1/s"}), "Unfit `pace`"),
            (json!({"action": "retry", "change": retried["change"]}), "Unfit `change`"),
        ] {
            assert_eq!(bed.control("POST /jobs/actions", &change).await.problem(), (422, says.to_owned()));
        }
    });
}

#[test]
fn waits_are_moved_and_ended_by_hand() {
    let waits = "workflow: waits\nentries: [{endpoint: POST /waits, access: open, answer: later}]\nsteps:\n  - together:\n      short: {if: 'true', then: [{pause: 20min}, {note: short}]}\n      long: {if: 'true', then: [{pause: 30min}, {note: long}]}\n  - {reply: 204}\n";
    let calls = "workflow: calls\nentries: [{endpoint: POST /calls, access: open, answer: later}]\nsteps:\n  - {id: c, await: c, steps: [{note: '${c.url}'}], until: 1h}\n  - {reply: 200, body: '${c.ok}'}\n";
    with("moved", &[waits, calls], &[], async |bed| {
        bed.work();
        let job = bed.queue("/waits", "{}").await;
        bed.until(job, |job| job.waits_for.as_deref() == Some("pause")).await;
        let later = now() + kanzlei_model::time::Span::from_secs(7200);
        let postpone = json!({"action": "postpone", "ids": [job.to_string()], "due": later.to_string()});
        assert_eq!(refusal(bed, postpone).await, "");
        // Now the other one ends first.
        let row = bed.job(job).await;
        assert!(row.ready_at < later && row.history.clone().expect("history").contains("of step 1"), "{row:?}");
        let hasten = json!({"action": "run-now", "ids": [job.to_string()]});
        assert_eq!(refusal(bed, hasten.clone()).await, "");
        let row = bed.until(job, |row| row.notes.as_deref().is_some_and(|notes| notes.contains("long"))).await;
        assert!(!row.notes.expect("notes").contains("short"));
        let row = bed.until(job, |row| row.waits_for.as_deref() == Some("pause") && row.phase == JobPhase::Ready).await;
        assert_eq!(row.ready_at, later);
        assert_eq!(refusal(bed, hasten).await, "");
        assert_eq!(bed.ended(job).await.phase, JobPhase::Succeeded);

        let job = bed.queue("/calls", "{}").await;
        bed.until(job, |row| row.waits_for.as_deref() == Some("callback")).await;
        let hasten = json!({"action": "run-now", "ids": [job.to_string()]});
        assert!(refusal(bed, hasten).await.contains("kanzlei answer"));
        let postpone = json!({"action": "postpone", "ids": [job.to_string()], "due": later.to_string()});
        assert_eq!(refusal(bed, postpone).await, "", "its end is moved");
        assert_eq!(bed.job(job).await.ready_at, later);
    });
}

#[test]
fn a_callback_is_answered_by_hand() {
    let calls = "workflow: calls\nentries: [{endpoint: POST /calls, access: open, answer: later}]\nsteps:\n  - together:\n      a: {await: x, steps: [{note: '${x.url}'}], schema: {type: object, properties: {ok: {type: boolean}}, required: [ok]}}\n      b: {await: y, steps: [{note: '${y.url}'}]}\n  - {reply: 200, body: {a: '${a.ok}', b: '${b}'}}\n";
    with("answered", &[calls], &[], async |bed| {
        bed.work();
        let job = bed.queue("/calls", "{}").await;
        bed.until(job, |row| row.waits_for.as_deref() == Some("callback")).await;
        let shown = bed.control(&format!("GET /jobs/{job}"), &Json::Null).await.json();
        let steps: Vec<&str> =
            shown["callbacks"].as_array().expect("list").iter().filter_map(|one| one["step"].as_str()).collect();
        assert_eq!(steps.len(), 2, "{shown}");
        let answer = async |body: Json| bed.control(&format!("PUT /jobs/{job}/callback"), &body).await;
        for (body, status) in [
            (json!({"body": {"ok": true}}), 422),
            (json!({"step": "9", "body": {}}), 422),
            (json!({"step": steps[0], "body": {"ok": "perhaps"}}), 422),
            (json!({"step": steps[0], "body": {"ok": true}}), 204),
            (json!({"step": steps[0], "body": {"ok": true}}), 422),
            (json!({"body": "by hand"}), 204),
        ] {
            let answered = answer(body.clone()).await;
            assert_eq!(answered.status, status, "{body}: {answered:?}");
        }
        let row = bed.ended(job).await;
        assert_eq!(row.phase, JobPhase::Succeeded);
        assert!(row.reply.expect("a reply").contains("by hand"));
        assert!(row.history.expect("history").contains("callback answered"));
        assert_eq!(answer(json!({"body": 1})).await.status, 409);
    });
}

#[test]
fn the_input_of_a_job_is_corrected_before_it_begins() {
    let keyed = "workflow: keyed\ninput: {k: {type: string}, n: {type: integer, default: 3}}\nqueue: {lane: keyed, tag: 'k-${input.k}'}\nentries: [{endpoint: POST /keyed, access: open, answer: later}]\nsteps: [{reply: 200, body: '${input}'}]\n";
    let other = "workflow: chosen\nsteps:\n  - {enqueue: keyed, send: {k: a}, tag: mine, lane: main}\nentries: [{endpoint: POST /chosen, access: open, answer: now}]\n";
    with("corrected", &["lane: keyed\norder: {per: input.k}\n", keyed, other], &[], async |bed| {
        let job = bed.queue("/keyed", "{\"k\":\"a\"}").await;
        let change = async |job: Uuid, input: Json| {
            bed.control(&format!("PUT /jobs/{job}/input"), &json!({"input": input})).await.status
        };
        assert_eq!(change(job, json!({"k": 7})).await, 422);
        assert_eq!(change(job, json!({"k": "b", "unknown": 1})).await, 422);
        assert_eq!(change(job, json!({"k": "a", "n": 9})).await, 204);
        let members = json!({"members": {"k": "b", "n": null}});
        assert_eq!(bed.control(&format!("PUT /jobs/{job}/input"), &members).await.status, 204);
        assert_eq!(change(Uuid::now_v7(), json!({"k": "b"})).await, 404);
        let row = bed.job(job).await;
        assert_eq!((row.tags, row.ordering_key.as_deref()), (vec!["k-b".to_owned()], Some("keyed b")));
        assert_eq!(bed.send("POST /chosen", &[], "").await.status, 204);
        let filter = Filter { tags: vec!["mine".into()], limit: 9, ..Filter::default() };
        let chosen = bed.store().job_ids(&filter, now()).await.expect("selects")[0];
        assert_eq!(change(chosen, json!({"k": "c"})).await, 204);
        let row = bed.job(chosen).await;
        assert_eq!((row.lane.as_str(), row.tags, row.ordering_key), ("main", vec!["mine".to_owned()], None));
        bed.work();
        let row = bed.ended(job).await;
        assert!(row.reply.expect("a reply").contains("\"k\":\"b\",\"n\":3"));
        assert_eq!(change(job, json!({"k": "c"})).await, 409);
        let trail = bed.control("GET /audit", &Json::Null).await.body;
        assert!(trail.contains(&format!("input of job {job}")), "{trail}");
    });
}

#[test]
fn a_held_workflow_begins_nothing() {
    let work = "workflow: work\nentries:\n  - {endpoint: POST /work, access: open, answer: either}\n  - {endpoint: POST /other, access: open, answer: later}\nsteps: [{pause: 3s, when: false}, {reply: 204}]\n";
    with("held_workflow", &[work], &[], async |bed| {
        bed.work();
        for (body, status) in
            [(json!({"reason": " "}), 422), (json!({"reason": "a bug"}), 200), (json!({"reason": "again"}), 409)]
        {
            assert_eq!(bed.control("PUT /holds/work", &body).await.status, status, "{body}");
        }
        assert_eq!(bed.control("PUT /holds/wrok", &json!({"reason": "a bug"})).await.status, 404);
        let refused = bed.send("POST /work", &[], "").await;
        assert_eq!((refused.status, refused.header("retry-after")), (503, Some("30")));
        let job = bed.queue("/other", "{}").await;
        eventually(async || bed.job(job).await.ready_at == HELD).await;
        let shown = bed.control(&format!("GET /jobs/{job}"), &Json::Null).await.json();
        assert_eq!((&shown["state"], &shown["workflow_held"]), (&json!("queued"), &json!(true)));
        assert!(shown["late"].as_str().expect("late").contains("`kanzlei release work`"), "{shown}");
        let listed = bed.control("GET /workflows", &Json::Null).await.json();
        assert_eq!(listed["workflows"][0]["hold"]["reason"], "a bug");
        let released = bed.control("DELETE /holds/work", &Json::Null).await;
        assert_eq!((released.status, &released.json()["jobs"]), (200, &json!(1)));
        assert_eq!(bed.ended(job).await.phase, JobPhase::Succeeded);
        assert_eq!(bed.send("POST /work", &[], "").await.status, 204);
        assert_eq!(bed.control("DELETE /holds/work", &Json::Null).await.status, 404);
    });
}
