//! The worker: order, retries, stops, ordering keys, results, and jobs that others reclaim.

use std::time::Duration;

use kanzlei_harness::wait::Deadline;
use kanzlei_model::run::JobPhase;
use kanzlei_model::time::{Span, Timestamp};
use kanzlei_runtime::clock::now;
use kanzlei_runtime::worker::write::{Writer, Written};
use kanzlei_store::queue::{End, Write};
use serde_json::{Value as Json, json};
use uuid::Uuid;

use super::{Bed, peer, with};

const WORK: &str = "workflow: work
input: {n: {type: integer, default: 1}, key: {type: string, optional: true}}
queue: {lane: one, priority: '${5}', tag: 'n-${input.n}'}
entries: [{endpoint: POST /work, access: open, answer: later}]
steps:
  - if: input.n === 7
    then: [{fail: 409, title: Seven}]
  - if: input.n === 8
    then: [{let: {x: '${JSON.parse(`{`)}'}}]
  - if: input.n === 9
    then: [{pause: 1 day}]
  - reply: 200
    body: {n: '${input.n}'}
";
const ONE: &str = "lane: one\nat_once: 1\n";

fn work() -> String {
    WORK.replace("priority: '${5}', ", "")
}

async fn act(bed: &Bed, body: Json) -> Json {
    let answer = bed.control("POST /jobs/actions", &body).await;
    assert_eq!(answer.status, 200, "{}", answer.body);
    answer.json()
}

#[test]
fn a_job_runs_to_its_result() {
    with("result", &[ONE, &work()], &[], async |bed| {
        let accepted = bed.post("/work", &[], "{\"n\": 3}").await;
        let own = accepted.header("location").expect("a location").to_owned();
        assert_eq!((accepted.status, &accepted.json()["state"]), (202, &json!("queued")));
        bed.work();
        let waited = bed.send(&format!("GET {own}"), &[("prefer", "wait=20")], "").await;
        assert_eq!(
            (&waited.json()["state"], waited.header("preference-applied")),
            (&json!("succeeded"), Some("wait=20"))
        );
        let result = bed.send(&format!("GET {own}/result"), &[], "").await;
        assert_eq!((result.status, result.body.as_str()), (200, "{\"n\":3}"));
    });
}

#[test]
fn a_client_may_wait_for_the_result_with_its_request() {
    with("waiting", &[ONE, &work()], &[], async |bed| {
        bed.work();
        let answer = bed.post("/work", &[("prefer", "wait=20")], "{\"n\": 4}").await;
        assert_eq!((answer.status, answer.body.as_str()), (200, "{\"n\":4}"));
        assert_eq!(answer.header("preference-applied"), Some("wait=20"));
    });
}

#[test]
fn ends_have_states() {
    with("ends", &[ONE, &work()], &[], async |bed| {
        bed.work();
        for (n, phase, status) in
            [(1, JobPhase::Succeeded, Some(200)), (7, JobPhase::Rejected, Some(409)), (8, JobPhase::Failed, Some(500))]
        {
            let id = bed.queue("/work", &json!({"n": n}).to_string()).await;
            let job = bed.ended(id).await;
            assert_eq!((job.phase, job.status, job.retries), (phase, status, 0), "{n}: {:?}", job.failure);
            assert_eq!(job.failure.is_some(), phase != JobPhase::Succeeded, "{n}");
            assert_eq!(bed.performer(&job).await, "ends", "who performed it");
        }
    });
}

#[test]
fn a_lane_starts_jobs_by_priority_and_then_as_they_are_due() {
    let document = |name: &str, priority: u8| {
        format!(
            "workflow: {name}\nqueue: {{lane: one, priority: {priority}}}\nentries: [{{endpoint: POST /{name}, access: open, answer: later}}]\nsteps: [{{note: x}}]\n"
        )
    };
    with("order", &[ONE, &document("early", 2), &document("usual", 5)], &[], async |bed| {
        let mut ids = Vec::new();
        for path in ["/usual", "/usual", "/early", "/usual"] {
            ids.push(bed.queue(path, "").await);
        }
        bed.work();
        let mut started = Vec::new();
        for (at, id) in ids.iter().enumerate() {
            started.push((bed.ended(*id).await.started, at));
        }
        started.sort_unstable();
        assert_eq!(started.iter().map(|(_, at)| *at).collect::<Vec<_>>(), [2, 0, 1, 3]);
    });
}

#[test]
fn a_held_lane_starts_nothing_until_it_is_released() {
    with("held", &[ONE, &work()], &[], async |bed| {
        bed.work();
        assert_eq!(bed.control("POST /lanes/one/hold", &Json::Null).await.status, 200);
        let held = bed.queue("/work", "{}").await;
        // A job of another lane that was queued later ends: the worker has looked at the held one.
        let lanes = bed.control("GET /lanes", &Json::Null).await.json();
        let lane = lanes["lanes"].as_array().and_then(|all| all.iter().find(|lane| lane["name"] == "one")).cloned();
        let lane = lane.expect("the lane");
        assert_eq!((&lane["held"], &lane["queued"]), (&json!(true), &json!(1)), "{lane}");
        assert_eq!(bed.job(held).await.phase, JobPhase::Ready);
        assert_eq!(bed.control("POST /lanes/one/release", &Json::Null).await.status, 200);
        assert_eq!(bed.ended(held).await.phase, JobPhase::Succeeded);
    });
}

const CALLER: &str = "workflow: caller
queue: {retry: {attempts: 3, first: 1ms, max: 10ms, on: [5xx]}}
entries: [{endpoint: POST /caller, access: open, answer: later}]
steps:
  - {call: GET BASE/x, id: r}
  - reply: 200
    body: done
";

async fn deploy_caller(bed: &Bed, statuses: &'static [&'static str]) {
    let base = peer(statuses);
    let service = format!("service: peer\nbase: {base}\nnetwork: private\n");
    let answer = bed.deploy(&[&service, &CALLER.replace("BASE", &base)]).await;
    assert_eq!(answer.status, 200, "{}", answer.body);
}

#[test]
fn a_failed_call_is_retried_by_the_policy_of_the_workflow() {
    for (name, statuses, phase, retries) in [
        ("recovers", &["503 No", "503 No", "200 OK"][..], JobPhase::Succeeded, 2),
        ("gives_up", &["503 No"], JobPhase::Failed, 2),
        ("not_covered", &["404 Not Found"], JobPhase::Failed, 0),
    ] {
        with(name, &[], &[], async |bed| {
            deploy_caller(bed, statuses).await;
            bed.work();
            let id = bed.queue("/caller", "").await;
            let job = bed.ended(id).await;
            assert_eq!((job.phase, job.retries), (phase, retries), "{name}: {:?}", job.failure);
            let history = job.history.unwrap_or_default();
            let failed = history.lines().filter(|line| line.contains("\"what\":\"failed\"")).count();
            assert_eq!(failed as u32, retries + u32::from(phase == JobPhase::Failed), "{name}: {history}");
        });
    }
}

#[test]
fn an_operator_retries_a_failed_job_from_the_step_that_failed() {
    with("by_hand", &[], &[], async |bed| {
        deploy_caller(bed, &["404 Not Found", "200 OK"]).await;
        bed.work();
        let id = bed.queue("/caller", "").await;
        assert_eq!(bed.ended(id).await.phase, JobPhase::Failed);
        let done = act(bed, json!({"action": "retry", "ids": [id.to_string()]})).await;
        assert_eq!(done["done"], json!([id.to_string()]), "{done}");
        let job = bed.until(id, |job| job.phase == JobPhase::Succeeded).await;
        assert_eq!(job.attempt, 1, "it went on where it was");
    });
}

#[test]
fn only_what_a_step_accepts_uses_its_address_up() {
    let waits = "workflow: waits\nentries: [{endpoint: POST /waits, access: open, answer: later}]\nsteps:\n  - id: got\n    await: word\n    schema: {type: object, required: [n], properties: {n: {type: integer}}}\n    steps: [{note: '${word.url}'}]\n  - {reply: 200, body: {n: '${got.n}'}}\n";
    with("accepts", &[waits], &[], async |bed| {
        bed.work();
        let id = bed.queue("/waits", "").await;
        let job = bed.until(id, |job| job.waits_for.is_some()).await;
        let notes = job.notes.unwrap_or_default();
        let at = notes.find("/~/callbacks/").expect("an address");
        let address = notes[at..].split('"').next().unwrap_or_default().to_owned();
        for (body, status, pointer) in [
            ("{\"n\": \"x\"}", 422, "/n"),
            ("{}", 422, "/n"),
            ("{\"n\"", 422, ""),
            ("{\"n\": 7}", 202, ""),
            ("{\"n\": 8}", 409, ""),
        ] {
            let answer = bed.post(&address, &[], body).await;
            let found = answer.json()["errors"][0]["pointer"].as_str().unwrap_or_default().to_owned();
            assert_eq!((answer.status, found.as_str()), (status, pointer), "{body}: {}", answer.body);
        }
        let job = bed.ended(id).await;
        assert_eq!((job.phase, job.status), (JobPhase::Succeeded, Some(200)), "{:?}", job.failure);
    });
}

#[test]
fn a_webhook_wakes_the_job_that_waits_by_its_key() {
    let waits = "workflow: waits\ninput: {k: {type: string}}\nentries: [{endpoint: POST /waits, access: open, answer: later}]\nsteps:\n  - {id: got, await: word, by: 'k-${input.k}'}\n  - {reply: 200, body: '${got.said}'}\n";
    let wakes = "workflow: wakes\ninput: {k: {type: string}, said: {type: string}}\nentries: [{webhook: /from/there, proof: none, answer: now}]\nsteps:\n  - {id: told, wake: waits, by: 'k-${input.k}', body: {said: '${input.said}'}}\n  - {reply: 200, body: '${told}'}\n";
    with("wakes", &[waits, wakes], &[], async |bed| {
        bed.work();
        let wake = async |k: &str, said: &str| {
            let answer = bed.post("/from/there", &[], &json!({"k": k, "said": said}).to_string()).await;
            assert_eq!(answer.status, 200, "{}", answer.body);
            answer.json()
        };
        // Before anybody waits, while somebody waits, and for another key.
        assert_eq!(wake("a", "early").await, json!({"woken": false, "job": null}));
        let late = bed.queue("/waits", "{\"k\": \"b\"}").await;
        let early = bed.queue("/waits", "{\"k\": \"a\"}").await;
        bed.until(late, |job| job.waits_for.is_some()).await;
        assert_eq!(wake("b", "late").await, json!({"woken": true, "job": late.to_string()}));
        for (id, said) in [(early, "early"), (late, "late")] {
            let job = bed.ended(id).await;
            assert!(
                job.reply.as_deref().is_some_and(|reply| reply.contains(said)),
                "{:?} {:?}",
                job.reply,
                job.failure
            );
        }
        assert_eq!(wake("b", "again").await["woken"], false);
    });
}

#[test]
fn a_job_that_continues_asks_first_whether_its_call_is_done() {
    with("asked_first", &[], &[], async |bed| {
        // The call and its two attempts of the policy, each behind the question, and that of the retry by hand.
        let base = peer(&["500 No", "404 Not Found", "500 No", "203 Known"]);
        let service = format!("service: peer\nbase: {base}\nnetwork: private\n");
        let workflow = "workflow: caller\nqueue: {retry: {attempts: 2, first: 1ms, on: [status]}}\nentries: [{endpoint: POST /caller, access: open, answer: later}]\nsteps:\n  - id: r\n    call: POST BASE/x\n    accept: [201]\n    unless: {call: GET BASE/x}\n  - {reply: 200, body: \"${r.status}\"}\n";
        let answer = bed.deploy(&[&service, &workflow.replace("BASE", &base)]).await;
        assert_eq!(answer.status, 200, "{}", answer.body);
        bed.work();
        let id = bed.queue("/caller", "").await;
        let job = bed.ended(id).await;
        assert_eq!((job.phase, job.retries), (JobPhase::Failed, 1), "{:?}", job.failure);
        act(bed, json!({"action": "retry", "ids": [id.to_string()]})).await;
        let job = bed.until(id, |job| job.phase == JobPhase::Succeeded).await;
        assert_eq!(job.reply.map(|reply| reply.contains("203")), Some(true));
    });
}

#[test]
fn a_failure_is_handled_behind_the_last_attempt_and_the_job_can_be_retried() {
    with("handled", &[], &[], async |bed| {
        // Three attempts, the call that handles the failure, and the attempt by hand.
        let base = peer(&["503 No", "503 No", "503 No", "201 Created", "200 OK"]);
        let service = format!("service: peer\nbase: {base}\nnetwork: private\n");
        let closing = "on_failure:\n  - {id: told, call: GET BASE/failed}\n  - note: told ${told.status}\n  - reply: 503\n    body: after ${failure.status}\n";
        let answer = bed.deploy(&[&service, &format!("{CALLER}{closing}").replace("BASE", &base)]).await;
        assert_eq!(answer.status, 200, "{}", answer.body);
        bed.work();
        let id = bed.queue("/caller", "").await;
        let job = bed.ended(id).await;
        assert_eq!((job.phase, job.retries, job.status), (JobPhase::Failed, 2, Some(503)), "{:?}", job.failure);
        let told = job.notes.as_deref().unwrap_or_default().matches("told 201").count();
        assert_eq!((told, job.reply.as_deref().is_some_and(|reply| reply.contains("after 503"))), (1, true));
        act(bed, json!({"action": "retry", "ids": [id.to_string()]})).await;
        let job = bed.until(id, |job| job.phase == JobPhase::Succeeded).await;
        assert_eq!((job.attempt, job.status), (1, Some(200)), "{:?}", job.reply);
    });
}

#[test]
fn outcomes_of_jobs_that_succeeded_move_into_the_journal() {
    with("moved", &[], &[], async |bed| {
        deploy_caller(bed, &["404 Not Found", "200 OK"]).await;
        bed.work();
        let rows = async |id| bed.store().outcomes(&[(id, 1)]).await.expect("records").len();
        let shown = async |id: Uuid| bed.control(&format!("GET /jobs/{id}"), &Json::Null).await.json();
        let id = bed.queue("/caller", "").await;
        assert_eq!(bed.ended(id).await.phase, JobPhase::Failed);
        bed.journaled().await;
        assert_eq!(rows(id).await, 1, "it may be retried");
        assert_eq!(shown(id).await["steps"][0]["failure"]["status"], 404);
        act(bed, json!({"action": "retry", "ids": [id.to_string()]})).await;
        bed.until(id, |job| job.phase == JobPhase::Succeeded).await;
        bed.journaled().await;
        assert_eq!(rows(id).await, 0);
        let job = shown(id).await;
        assert_eq!(
            (&job["steps"][0]["state"], &job["steps"][0]["outcome"]["status"]),
            (&json!("succeeded"), &json!(200))
        );
        assert_eq!(job["sheet"][0]["number"], "1");
    });
}

#[test]
fn jobs_are_cancelled_where_they_stand() {
    with("cancelled", &[ONE, &work()], &[], async |bed| {
        let waiting = bed.queue("/work", "{\"n\": 1}").await;
        let answer = bed.send(&format!("DELETE /~/jobs/{waiting}"), &[], "").await;
        assert_eq!((answer.status, &answer.json()["state"]), (200, &json!("cancelled")));
        let again = bed.send(&format!("DELETE /~/jobs/{waiting}"), &[], "").await;
        assert_eq!(again.problem(), (409, "The job has ended".into()));
        bed.work();
        let paused = bed.queue("/work", "{\"n\": 9}").await;
        let job = bed.until(paused, |job| job.waits_for.is_some()).await;
        assert_eq!((job.phase, job.waits_for.as_deref()), (JobPhase::Ready, Some("pause")));
        assert_eq!(bed.send(&format!("DELETE /~/jobs/{paused}"), &[], "").await.status, 200);
        assert_eq!(bed.ended(paused).await.phase, JobPhase::Cancelled);
    });
}

#[test]
fn due_times_are_moved_by_hand() {
    with("moved", &[ONE, &work()], &[], async |bed| {
        let id = bed.queue("/work", "{}").await;
        let done = act(bed, json!({"action": "postpone", "ids": [id.to_string()], "due": "2h"})).await;
        assert_eq!(done["done"], json!([id.to_string()]), "{done}");
        let due = bed.job(id).await.due - now();
        assert!(due > Span::from_secs(7_100) && due <= Span::from_secs(7_200), "{due:?}");
        bed.work();
        act(bed, json!({"action": "run-now", "ids": [id.to_string()]})).await;
        assert_eq!(bed.ended(id).await.phase, JobPhase::Succeeded);
    });
}

const BY_KEY: &str = "lane: by-key
order: {per: input.key}
";
const KEYED: &str = "workflow: keyed
input: {key: {type: string}}
queue: {lane: by-key}
entries: [{endpoint: POST /keyed, access: open, answer: later}]
steps: [{pause: 20ms}, {note: x}]
";

#[test]
fn jobs_of_one_ordering_key_run_one_after_another() {
    with("keys", &[BY_KEY, KEYED], &[], async |bed| {
        let mut ids = Vec::new();
        for key in ["a", "a", "b", "a"] {
            ids.push(bed.queue("/keyed", &json!({"key": key}).to_string()).await);
        }
        bed.work();
        let mut ends = Vec::new();
        for id in &ids {
            let job = bed.ended(*id).await;
            ends.push((job.started.expect("started"), job.ended.expect("ended")));
        }
        assert!(ends[1].0 >= ends[0].1 && ends[3].0 >= ends[1].1, "{ends:?}");
    });
}

#[test]
fn a_write_with_an_old_fence_is_refused() {
    with("fences", &[ONE, &work()], &[], async |bed| {
        let id = bed.queue("/work", "{}").await;
        let store = bed.store();
        let (first, second) = (Uuid::new_v4(), Uuid::new_v4());
        let room = kanzlei_store::queue::Room { at_once: None, gap: None, generation: u64::MAX };
        let claim = async |worker: Uuid, after: i64| {
            store
                .begin_worker(worker, &worker.to_string(), now(), now() + Span::from_secs(10))
                .await
                .expect("registers");
            let at = now() + Span::from_micros(after);
            let taken = store
                .claim(worker, ("one", &[(0, Timestamp::EPOCH), (5, Timestamp::EPOCH)]), room, 9, at)
                .await
                .expect("claims");
            taken.jobs.into_iter().next().map(|job| (job.id, job.fence))
        };
        let Some((claimed, fence)) = claim(first, 0).await else { panic!("nothing to claim") };
        assert_eq!(claimed, id);
        assert_eq!(claim(second, 1).await, None, "it is claimed");
        assert_eq!(store.reclaim(first, now()).await.expect("reclaims"), 1);
        let Some((_, renewed)) = claim(second, 2).await else { panic!("it is free again") };
        let (writer, writing) = Writer::new(&bed.service.app.jobs);
        let task = tokio::spawn(writing);
        let end = |fence: u32| Write {
            job: id,
            fence,
            attempt: 1,
            outcomes: Vec::new(),
            progress: None,
            notes: None,
            reply: None,
            end: Some(End {
                phase: JobPhase::Succeeded,
                claim_rank: 0,
                ready_at: now(),
                waits_for: None,
                failure: None,
                retries: 0,
                expires: None,
                void_last: false,
                history: None,
                ordering_key: None,
                notice: None,
            }),
        };
        let (old, new) = tokio::join!(writer.write(end(fence)), writer.write(end(renewed)));
        assert_eq!((old, new), (Written::NotOurs, Written::Yes));
        assert_eq!(bed.job(id).await.phase, JobPhase::Succeeded);
        task.abort();
    });
}

#[test]
fn jobs_of_a_silent_process_are_reclaimed() {
    with("silent", &[ONE, &work()], &[("jobs.lease", "1s")], async |bed| {
        let id = bed.queue("/work", "{}").await;
        let store = bed.store();
        let dead = Uuid::new_v4();
        store.begin_worker(dead, "dead", now(), now()).await.expect("registers");
        let room = kanzlei_store::queue::Room { at_once: None, gap: None, generation: u64::MAX };
        let taken = store
            .claim(dead, ("one", &[(0, Timestamp::EPOCH), (5, Timestamp::EPOCH)]), room, 9, now())
            .await
            .expect("claims");
        assert_eq!(taken.jobs.len(), 1);
        bed.work();
        let job = bed.ended(id).await;
        assert_eq!((job.phase, job.attempt), (JobPhase::Succeeded, 1));
        assert_eq!(bed.performer(&job).await, "silent");
    });
}

#[test]
fn old_results_are_purged_and_failed_jobs_are_kept_longer() {
    with("purged", &[ONE, &work()], &[], async |bed| {
        bed.work();
        let (good, bad) = (bed.queue("/work", "{}").await, bed.queue("/work", "{\"n\": 8}").await);
        for id in [good, bad] {
            bed.ended(id).await;
        }
        let later = now() + Duration::from_secs(1);
        assert_eq!(bed.store().purge_jobs(later, Timestamp::EPOCH, 100).await.expect("purges"), 1);
        let left =
            [bed.store().has_job(good).await, bed.store().has_job(bad).await].map(|found| found.expect("records"));
        assert_eq!(left, [false, true]);
    });
}

#[test]
fn one_purge_removes_more_than_a_portion_of_each_kind() {
    with("overdue", &[], &[], async |bed| {
        let sql = |sql: &str| super::server().sql("kanzlei_overdue", sql).expect("SQL");
        let tables = [
            ("idempotency", "(hash, fingerprint, run, until)", "seq, '', UNHEX(MD5(seq)), 1"),
            ("firing", "(workflow, entry, due, result, at)", "'w', 1, seq, 'queued', 1"),
            ("batch", "(id, workflow, run, total, created)", "UNHEX(MD5(seq)), 'w', '', 1, 1"),
        ];
        for (table, columns, row) in tables {
            sql(&format!("INSERT INTO {table} {columns} SELECT {row} FROM seq_1_to_11000"));
        }
        let kept = crate::purge::Kept::new(&bed.config);
        crate::purge::records(bed.store(), &bed.service.app.effects, &kept).await;
        let left = tables.map(|(table, ..)| sql(&format!("SELECT COUNT(*) FROM {table}")).trim().to_owned());
        assert_eq!(left, ["0", "0", "0"]);
    });
}

#[test]
fn a_job_is_stopped_in_the_middle_of_an_evaluation() {
    let long = "workflow: long\nentries: [{endpoint: POST /long, access: open, answer: later}]\nsteps:\n  - {let: {x: '${list.range(30000).map(i => list.range(20)).length}'}}\n  - {each: n, in: list.range(100), id: all, steps: [{let: {y: '${list.range(30000).map(i => list.range(20)).length}'}}]}\n";
    with("stopped", &[long], &[], async |bed| {
        bed.work();
        let id = bed.queue("/long", "").await;
        bed.until(id, |job| job.phase == JobPhase::Running).await;
        let stopped = bed.send(&format!("DELETE /~/jobs/{id}"), &[], "").await;
        assert!(matches!(stopped.status, 200 | 202), "{stopped:?}");
        let ended = bed.ended(id).await;
        assert_eq!(ended.phase, JobPhase::Cancelled, "{stopped:?} {ended:?}");
        // What is shown of it is the run as it was, not as it would have continued.
        let shown = bed.control(&format!("GET /jobs/{id}"), &Json::Null).await.json();
        let states: Vec<&str> =
            shown["steps"].as_array().into_iter().flatten().filter_map(|step| step["state"].as_str()).collect();
        assert!(states.contains(&"cancelled") && !states.contains(&"running"), "{states:?}");
    });
}

/// A service on loopback that answers 200, and reports the head of each request.
fn listening() -> (String, std::sync::mpsc::Receiver<String>) {
    use std::io::{BufRead, BufReader, Write};
    let listener = std::net::TcpListener::bind("127.0.0.1:0").expect("a port");
    let base = format!("http://{}", listener.local_addr().expect("an address"));
    let (sender, heads) = std::sync::mpsc::channel();
    std::thread::spawn(move || {
        for stream in listener.incoming() {
            let Ok(mut stream) = stream else { continue };
            let lines = BufReader::new(&stream).lines().map_while(Result::ok).take_while(|line| !line.is_empty());
            let _ = sender.send(lines.collect::<Vec<_>>().join("\n"));
            let head =
                "HTTP/1.1 200 OK\r\nContent-Type: application/json\r\nConnection: close\r\nContent-Length: 2\r\n\r\n{}";
            let _ = stream.write_all(head.as_bytes());
        }
    });
    (base, heads)
}

#[test]
fn a_called_service_learns_nothing_of_the_id_of_a_job() {
    let (base, heads) = listening();
    let service = format!("service: s\nbase: {base}\nnetwork: private\nidempotency_key: true\n");
    let calls = format!(
        "workflow: calls\nentries:\n  - {{endpoint: POST /calls, access: open, answer: later}}\n  - {{every: 1s}}\nsteps:\n  - {{call: 'POST {base}/x', body: {{a: 1}}}}\n"
    );
    with("learns", &[&service, &calls], &[], async |bed| {
        bed.work();
        let asked = bed.queue("/calls", "").await;
        bed.ended(asked).await;
        for _ in 0..2 {
            let end = Deadline::after(super::LONG);
            let head = loop {
                match heads.try_recv() {
                    Ok(head) => break head.to_ascii_lowercase(),
                    Err(_) => assert!(!end.is_over(), "no call came"),
                }
                tokio::time::sleep(Duration::from_millis(10)).await;
            };
            assert!(head.contains("idempotency-key: \"") && head.contains("traceparent: 00-"), "{head}");
            // Also of one that a timetable queued.
            let jobs = bed.control("GET /jobs?workflow=calls", &Json::Null).await.json();
            for job in jobs["jobs"].as_array().expect("jobs") {
                let id = job["id"].as_str().expect("an id").replace('-', "");
                // The time in it is no secret; the last 62 bits are.
                assert!(!head.replace('-', "").contains(&id[17..]), "{id}: {head}");
            }
        }
    });
}

/// A burst of followers: those of one job share its reads, those of many wait for their turn, and all are served.
#[test]
fn ten_thousand_followers_are_served() {
    let lane = "lane: held\nabout: x\n";
    let workflow = "workflow: w\nentries: [{endpoint: POST /w, access: open, answer: later}]\nqueue: {lane: held}\nsteps: [{reply: 204}]\n";
    with("followers", &[lane, workflow], &[("jobs.followers", "10000")], async |bed| {
        let mut ids = Vec::new();
        for _ in 0..100 {
            ids.push(bed.queue("/w", "").await);
        }
        let jobs = &bed.service.app.jobs;
        let mut followers: Vec<_> = (0..10_000)
            .map(|n| jobs.follow(if n % 2 == 0 { ids[0] } else { ids[n % 100] }).expect("a place"))
            .collect();
        assert!(jobs.follow(ids[0]).is_none(), "no more than the bound");
        let read = futures_util::future::join_all(followers.iter_mut().map(|follower| follower.job())).await;
        let read: Vec<_> = read.into_iter().filter_map(|job| job.ok().flatten()).collect();
        assert_eq!(read.len(), 10_000, "all are served");
        let rows: std::collections::BTreeSet<_> = read.iter().map(std::sync::Arc::as_ptr).collect();
        assert!(rows.len() < 300, "{} reads of 51 jobs", rows.len());
        // Who follows is woken for the last time when the service stops.
        jobs.followers.stop();
        futures_util::future::join_all(followers.iter_mut().map(|follower| follower.changed(super::LONG))).await;
        assert!(followers.iter().all(|follower| follower.stopping()));
    });
}

/// Jobs that queue each other know how many came before them, and their chain has an end.
#[test]
fn a_chain_of_jobs_has_an_end() {
    let workflow = "workflow: w\nentries: [{endpoint: POST /w, access: open, answer: later}]\nsteps:\n  - if: run.generation < 3\n    then: [{enqueue: w}]\n  - {reply: 200, body: \"${run.generation}\"}\n";
    let endless = "workflow: e\nentries: [{endpoint: POST /e, access: open, answer: later}]\nsteps: [{id: n, enqueue: e}, {reply: 204}]\n";
    with("chains", &[workflow, endless], &[], async |bed| {
        bed.work();
        bed.queue("/w", "").await;
        let depths = "SELECT GROUP_CONCAT(depth ORDER BY depth) FROM job WHERE workflow = 'w' AND ended IS NOT NULL";
        let end = Deadline::after(super::LONG);
        while super::server().sql("kanzlei_chains", depths).expect("depths").trim() != "0,1,2,3" {
            assert!(!end.is_over(), "the chain does not end");
            tokio::time::sleep(std::time::Duration::from_millis(20)).await;
        }
        // As if a thousand had queued each other.
        bed.control("POST /lanes/main/hold", &Json::Null).await;
        let id = bed.queue("/e", "").await;
        super::server().sql("kanzlei_chains", "UPDATE job SET depth = 1000 WHERE workflow = 'e'").expect("aged");
        bed.control("POST /lanes/main/release", &Json::Null).await;
        let failed = bed.ended(id).await.failure.unwrap_or_default();
        assert!(failed.contains("run.generation"), "{failed}");
    });
}

/// A change of many jobs goes on behind its answer, and says how far it is.
#[test]
fn many_jobs_are_cancelled_behind_the_answer() {
    let lane = "lane: held\nabout: x\n";
    let workflow = "workflow: w\nentries: [{endpoint: POST /w, access: open, answer: later}]\nqueue: {lane: held, tag: many}\nsteps: [{reply: 204}]\n";
    with("many", &[lane, workflow], &[], async |bed| {
        for _ in 0..3 {
            bed.queue("/w", "").await;
        }
        let copies = "INSERT INTO job SELECT RANDOM_BYTES(16), j.phase, j.lane, j.claim_rank, j.ready_at, j.workflow, j.revision, j.generation, j.depth, j.priority, j.tags, j.batch, j.ordering_key, j.entry, j.caller, j.caller_facts, j.request_id, j.trace_id, j.accepted, j.due, j.started, j.ended, j.worker, j.fence, j.stop, j.signalled, j.waits_for, j.attempt, j.retries, j.outcomes, j.changes, j.progress, j.notes, j.status, j.reply, j.failure, j.input, j.sealed, j.history, j.kept_for, j.unattended, j.expires, j.trace_parent, j.moved FROM job j JOIN seq_1_to_400";
        super::server().sql("kanzlei_many", copies).expect("copies");
        let tags = "INSERT IGNORE INTO job_tag SELECT 'many', id FROM job";
        super::server().sql("kanzlei_many", tags).expect("tags of the copies");
        let few =
            bed.control("POST /jobs/actions", &json!({"action": "cancel", "ids": [bed.queue("/w", "").await]})).await;
        assert_eq!((few.status, &few.json()["operation"]), (200, &Json::Null));
        let many = bed.control("POST /jobs/actions", &json!({"action": "cancel", "select": {"tag": "many"}})).await;
        let begun = many.json()["operation"].clone();
        assert_eq!((many.status, &begun["total"], &begun["ended"]), (202, &json!(1204), &json!(false)), "{many:?}");
        let line = format!("GET /jobs/actions/{}", begun["id"].as_str().expect("an id"));
        let end = Deadline::after(super::LONG);
        let ended = loop {
            let operation = bed.control(&line, &Json::Null).await.json()["operation"].clone();
            if operation["ended"] == true {
                break operation;
            }
            assert!(!end.is_over(), "it does not end: {operation}");
            tokio::time::sleep(std::time::Duration::from_millis(20)).await;
        };
        assert_eq!((&ended["done"], &ended["refused"], &ended["failure"]), (&json!(1203), &json!(1), &Json::Null));
        let left = "SELECT COUNT(*) FROM job WHERE phase <> 13";
        assert_eq!(super::server().sql("kanzlei_many", left).expect("a count").trim(), "0");
        let unknown = format!("GET /jobs/actions/{}", uuid::Uuid::nil());
        assert_eq!(bed.control(&unknown, &Json::Null).await.status, 404);
    });
}
