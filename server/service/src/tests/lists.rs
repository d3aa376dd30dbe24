//! Listings of the control API: pages, filters, groups of jobs, and what may be retired.

use kanzlei_harness::wait::Deadline;
use kanzlei_model::run::JobPhase;
use serde_json::{Value as Json, json};
use uuid::Uuid;

use super::{Bed, with};

const ECHO: &str = "workflow: echo
input: {n: {type: integer, default: 1}}
entries: [{endpoint: 'GET /echo', access: open}]
steps:
  - if: input.n > 9
    then: [{fail: 409, title: Too many}]
  - {reply: 200, body: '${input.n}'}
";
const CALLER: &str = "workflow: caller
entries: [{endpoint: GET /caller, access: open}]
steps:
  - {id: e, invoke: echo, send: {n: 2}}
  - {call: GET http://127.0.0.1:1/x, id: r, when: e.status === 500}
  - {reply: 200, body: '${e.body}'}
";
const SERVICE: &str = "service: peer\nbase: http://127.0.0.1:1\nnetwork: private\n";
const LIST: &str = "workflow: list
input: {count: {type: integer, default: 5}}
entries: [{endpoint: POST /list, access: open}]
steps:
  - {id: all, enqueue: item, each: n, in: 'list.range(input.count)', send: {n: '${n}'}, tag: 'of-a-list'}
  - {reply: 200, body: {group: '${all.group}', jobs: '${all.jobs}'}}
";
const LATER: &str = "workflow: later
entries: [{endpoint: POST /later, access: open, answer: later}]
steps: [{reply: 200}]
";
const ITEM: &str = "workflow: item
input: {n: {type: integer}}
steps:
  - if: input.n === 1
    then: [{fail: 422}]
  - {note: 'Item ${input.n}.'}
";

async fn pages(bed: &Bed, path: &str, member: &str) -> Vec<usize> {
    let mut sizes = Vec::new();
    let mut seen = std::collections::BTreeSet::new();
    let mut before = String::new();
    loop {
        let page = bed.control(&format!("GET {path}{before}"), &Json::Null).await.json();
        let found = page[member].as_array().cloned().unwrap_or_default();
        sizes.push(found.len());
        for one in &found {
            assert!(seen.insert(one["id"].to_string()), "{one} stands on two pages");
        }
        match page["next_before"].as_str() {
            Some(next) => before = format!("&before={next}"),
            None => return sizes,
        }
    }
}

#[test]
fn runs_are_listed_page_by_page_and_by_state() {
    with("run_pages", &[ECHO], &[], async |bed| {
        for n in 0..12 {
            bed.send(&format!("GET /echo?n={n}"), &[], "").await;
        }
        bed.journaled().await;
        for (path, sizes) in [
            ("/runs?limit=5", vec![5, 5, 2]),
            ("/runs?limit=5&state=rejected", vec![2]),
            ("/runs?limit=5&workflow=echo&state=succeeded", vec![5, 5]),
            ("/runs?limit=5&status=4xx", vec![2]),
            ("/runs?limit=5&status=200&since=1h", vec![5, 5]),
            ("/runs?status=201", vec![]),
            ("/runs?until=1h", vec![]),
            ("/runs?since=2020-01-01T00:00:00Z&until=2020-01-02T00:00:00Z", vec![]),
            ("/runs?limit=20&entry=/ech", vec![12]),
            // A wildcard of the database is text like any other.
            ("/runs?entry=/%25ch", vec![]),
            ("/runs?text=%22n%22:11", vec![1]),
            ("/runs?text=Too%20many", vec![2]),
        ] {
            let mut found = pages(bed, path, "runs").await;
            // A last page that is full is followed by an empty one.
            found.retain(|size| *size > 0);
            assert_eq!(found, sizes, "{path}");
        }
        for path in ["/runs?status=6xx", "/runs?status=42", "/runs?since=yesterday", "/runs?until=", "/runs?staus=422"]
        {
            let answer = bed.control(&format!("GET {path}"), &Json::Null).await;
            assert!(matches!(answer.status, 400 | 422), "{path}: {answer:?}");
        }
    });
}

#[test]
fn a_workflow_is_shown_with_its_counts_and_its_revisions() {
    with("shown", &[ECHO], &[], async |bed| {
        for n in [1, 2, 10] {
            bed.send(&format!("GET /echo?n={n}"), &[], "").await;
        }
        assert_eq!(bed.deploy(&[&ECHO.replace("Too many", "Too large")]).await.status, 200);
        let shown = bed.control("GET /workflows/echo", &Json::Null).await.json();
        let revisions: Vec<(&Json, &Json)> =
            shown["revisions"].as_array().expect("revisions").iter().map(|r| (&r["revision"], &r["live"])).collect();
        assert_eq!(revisions, [(&json!(2), &json!(true)), (&json!(1), &json!(false))]);
        assert!(shown["source"].as_str().is_some_and(|text| text.contains("Too large")), "{shown}");
        let end = Deadline::after(super::LONG);
        loop {
            let list = bed.control("GET /workflows", &Json::Null).await.json();
            let day = &list["workflows"][0]["day"];
            if (&day["runs"], &day["rejected"], &day["failed"]) == (&json!(3), &json!(1), &json!(0)) {
                break;
            }
            assert!(!end.is_over(), "the counts do not come: {list}");
            tokio::time::sleep(std::time::Duration::from_millis(50)).await;
        }
    });
}

#[test]
fn what_others_need_is_not_retired() {
    with("needed", &[SERVICE, ECHO, CALLER], &[], async |bed| {
        for (line, status, part) in [
            ("DELETE /workflows/echo", 409, "caller"),
            ("DELETE /services/peer", 409, "caller"),
            ("DELETE /workflows/caller", 204, ""),
            ("DELETE /workflows/caller", 404, "caller"),
            ("DELETE /services/peer", 204, ""),
            ("DELETE /workflows/echo", 204, ""),
        ] {
            let answer = bed.control(line, &Json::Null).await;
            assert!(answer.status == status && answer.body.contains(part), "{line}: {answer:?}");
        }
        assert_eq!(bed.send("GET /echo", &[], "").await.status, 404);
    });
}

/// Queues a list; returns its group and its jobs.
async fn list(bed: &Bed, count: usize) -> (String, Vec<Uuid>) {
    let answer = bed.post("/list", &[], &json!({"count": count}).to_string()).await.json();
    let jobs = answer["jobs"].as_array().expect("jobs").iter();
    let jobs = jobs.map(|id| id.as_str().and_then(|id| id.parse().ok()).expect("an id")).collect();
    (answer["group"].as_str().expect("a group").to_owned(), jobs)
}

#[test]
fn the_jobs_of_a_list_are_counted_as_a_group() {
    with("groups", &[LIST, ITEM], &[], async |bed| {
        let (group, jobs) = list(bed, 4).await;
        let counted = async || bed.control(&format!("GET /groups/{group}"), &Json::Null).await.json();
        let before = counted().await;
        assert_eq!(
            (&before["total"], &before["remaining"], &before["workflow"]),
            (&json!(4), &json!(4), &json!("item"))
        );
        assert_eq!(bed.send(&format!("DELETE /~/jobs/{}", jobs[3]), &[], "").await.status, 200);
        bed.work();
        for id in &jobs {
            bed.ended(*id).await;
        }
        let after = counted().await;
        let counts = ["succeeded", "rejected", "failed", "cancelled", "running", "remaining"].map(|name| &after[name]);
        assert_eq!(counts, [&json!(2), &json!(1), &json!(0), &json!(1), &json!(0), &json!(0)], "{after}");
        assert!(after["expected_end"].is_null(), "{after}");
    });
}

#[test]
fn jobs_are_listed_counted_and_selected_by_the_same_states() {
    with("job_pages", &[LIST, ITEM], &[], async |bed| {
        let (group, jobs) = list(bed, 6).await;
        let by_id: Vec<JobPhase> = {
            let mut phases = Vec::new();
            for id in &jobs {
                phases.push(bed.job(*id).await.phase);
            }
            phases
        };
        assert_eq!(by_id, [JobPhase::Ready; 6]);
        let listed = bed.control("GET /jobs", &Json::Null).await.json();
        assert_eq!((&listed["counts"]["queued"], &listed["counts"]["succeeded"]), (&json!(6), &json!(0)), "{listed}");
        for (filter, sizes) in [
            ("limit=4&state=queued", vec![4, 2]),
            ("limit=4&tag=of-a-list", vec![4, 2]),
            ("limit=4&tag_prefix=of-", vec![4, 2]),
            ("limit=4&tag_prefix=a-list", vec![0]),
            (&*format!("limit=4&group={group}"), vec![4, 2]),
            ("limit=10&text=%22n%22%3A3", vec![1]),
            ("limit=10&workflow=item&state=succeeded", vec![0]),
            ("limit=10&lane=main", vec![6]),
        ] {
            assert_eq!(pages(bed, &format!("/jobs?{filter}"), "jobs").await, sizes, "{filter}");
        }
        let select = json!({"action": "cancel", "select": {"group": group, "state": "queued"}});
        let done = bed.control("POST /jobs/actions", &select).await.json();
        assert_eq!(done["done"].as_array().map(Vec::len), Some(6), "{done}");
        let listed = bed.control("GET /jobs", &Json::Null).await.json();
        assert_eq!((&listed["counts"]["queued"], &listed["counts"]["cancelled"]), (&json!(0), &json!(6)), "{listed}");
    });
}

#[test]
fn one_id_finds_a_run_a_job_or_a_refusal() {
    with("found", &[ECHO, LIST, ITEM, LATER], &[], async |bed| {
        // The client's own id, and one that the service makes.
        let send = async |line: &str, id: &str, status: u16| {
            let own = bed.send(line, &[("x-request-id", id)], "").await;
            let made = bed.send(line, &[], "").await;
            assert_eq!((own.status, made.status), (status, status), "{line}");
            assert_eq!(own.header("x-request-id"), Some(id));
            [id.to_owned(), made.header("x-request-id").expect("an id").to_owned()]
        };
        let runs = send("GET /echo?n=3", "a-run", 200).await;
        let jobs = send("POST /list", "a-job", 200).await;
        let later = send("POST /later", "later", 202).await;
        let refusals = send("GET /echo?n=x", "a-refusal", 422).await;
        bed.work();
        bed.journaled().await;
        let all = [("runs", runs), ("jobs", jobs), ("jobs", later.clone()), ("runs", later), ("refusals", refusals)];
        for (member, id) in all.into_iter().flat_map(|(member, ids)| ids.map(|id| (member, id))) {
            let path = format!("/{member}");
            let end = Deadline::after(super::LONG);
            loop {
                let found = bed.control(&format!("GET {path}?request_id={id}"), &Json::Null).await.json();
                if found[member].as_array().is_some_and(|found| !found.is_empty()) {
                    // Services learn the id of the request, and the id of a job opens the job.
                    assert!(member != "jobs" || found[member][0]["id"] != *id, "{found}");
                    break;
                }
                assert!(!end.is_over(), "{path} {id}: {found}");
                tokio::time::sleep(std::time::Duration::from_millis(20)).await;
            }
        }
    });
}

#[test]
fn a_finished_run_becomes_a_case() {
    with("recorded", &[ECHO], &[], async |bed| {
        let answer = bed.send("GET /echo?n=3", &[], "").await;
        let run = answer.header("run-id").expect("a run").to_owned();
        bed.journaled().await;
        let case = bed.control(&format!("GET /runs/{run}/case?name=three"), &Json::Null).await;
        assert!(case.status == 200 && case.body.contains("cases: echo"), "{case:?}");
        assert!(case.body.contains("three") && case.body.contains("GET /echo?n=3"), "{}", case.body);
    });
}
