//! Jobs as clients and builders meet them: queued, polled, followed, cancelled, taken up again; lanes,
//! timetables, callbacks, notices.

use std::collections::BTreeMap;
use std::io::{BufRead, BufReader, Write};
use std::net::TcpStream;
use std::time::{Duration, Instant};

use kanzlei_e2e::calls::*;
use kanzlei_e2e::peer::{self, Peer};
use kanzlei_e2e::*;
use kanzlei_harness::office::Office;
use kanzlei_harness::wait;
use serde_json::{Value as Json, json};

const BASICS: &str = r#"workflow: basics
input: {n: {type: integer, default: 1}, wait: {type: string, default: 1ms}}
entries: [{endpoint: POST /basics, access: open, answer: either}, {endpoint: POST /later, access: open, answer: later}]
queue: {tag: "n-${input.n}", results: 5s}
steps:
  - note: Number ${input.n}.
  - progress: 0.25
  - pause: ${input.wait}
  - if: input.n > 90
    then: [{fail: 418, title: Too many, detail: "${input.n} is too many."}]
  - reply: 201
    headers: {X-N: "${input.n}"}
    body: {n: "${input.n}"}
"#;

#[test]
fn clients_poll_follow_and_cancel() {
    let office = office("clients", &[]);
    assert_eq!(deploy_texts(&office, &[("b.yaml", BASICS)]).status, 200);
    // As the client prefers.
    let now = post(&office, "/basics", &[], &json!({"n": 2}));
    assert_eq!((now.status, now.header("preference-applied"), now.body.as_str()), (201, None, r#"{"n":2}"#));
    let waited = post(&office, "/basics", &[("prefer", "respond-async, wait=20")], &json!({"n": 3}));
    assert_eq!((waited.status, waited.header("x-n"), waited.body.as_str()), (201, Some("3"), r#"{"n":3}"#));
    assert_eq!(waited.header("preference-applied"), Some("respond-async, wait=20"));
    let later = post(&office, "/basics", &[("prefer", "respond-async")], &json!({"n": 4, "wait": "1h"}));
    assert_eq!((later.status, later.header("preference-applied")), (202, Some("respond-async")));
    let id = id_of(&later);
    assert_eq!(later.header("location"), Some(format!("/~/jobs/{id}").as_str()));
    assert!(later.header("retry-after").is_some_and(|seconds| seconds.parse::<u32>().is_ok()), "{later:?}");
    // While it waits.
    let job = becomes(&office, &id, "waiting");
    assert_eq!(
        (&job["progress"], &job["note"], &job["waits_for"], &job["answered"]),
        (&json!(0.25), &json!("Number 4."), &json!("pause"), &json!(false))
    );
    let result = get(&office, &format!("/~/jobs/{id}/result"), &[]);
    assert_eq!((result.status, result.json()["state"].as_str()), (202, Some("waiting")));
    let polled = Instant::now();
    let still = get(&office, &format!("/~/jobs/{id}"), &[("prefer", "wait=1")]);
    assert!(polled.elapsed() >= Duration::from_millis(900) && still.header("preference-applied") == Some("wait=1"));
    // Cancelled, once and again.
    let gone = http("DELETE", &format!("{}/~/jobs/{id}", office.public()), &[], b"");
    assert_eq!((gone.status, gone.json()["state"].as_str()), (200, Some("cancelled")));
    assert!(said(&client(&office, &["record", &id]), 1).contains(&format!("kanzlei job {id}")), "it has no run");
    let again = http("DELETE", &format!("{}/~/jobs/{id}", office.public()), &[], b"");
    assert_eq!((again.status, again.json()["title"].as_str()), (409, Some("The job has ended")));
    assert_eq!(get(&office, &format!("/~/jobs/{id}/result"), &[]).status, 409);
    // A result as the direct answer, problems too; gone after its time.
    let failed = id_of(&post(&office, "/later", &[], &json!({"n": 99})));
    let result = get(&office, &format!("/~/jobs/{failed}/result"), &[("prefer", "wait=20")]);
    let direct = post(&office, "/basics", &[], &json!({"n": 99}));
    assert_eq!((result.status, &result.body), (418, &direct.body));
    assert_eq!(result.header("content-type"), direct.header("content-type"));
    assert_eq!(becomes(&office, &failed, "rejected")["answered"], true);
    let expired = wait::until(LONG, || {
        let answer = get(&office, &format!("/~/jobs/{failed}/result"), &[]);
        (answer.status == 410).then_some(answer)
    });
    assert!(expired.is_some(), "results are kept for five seconds here");
    // What is no job.
    for (method, path, status) in [
        ("GET", "/~/jobs/nonsense", 404),
        ("GET", "/~/jobs/0195a1b2-0000-7000-8000-000000000001", 404),
        ("DELETE", "/~/jobs/0195a1b2-0000-7000-8000-000000000001", 404),
        ("POST", &format!("/~/jobs/{id}"), 405),
        ("GET", &format!("/~/jobs/{id}/else"), 404),
        ("GET", "/~/callbacks/x", 405),
        ("POST", "/~/callbacks/x", 404),
    ] {
        assert_eq!(http(method, &format!("{}{path}", office.public()), &[], b"{}").status, status, "{method} {path}");
    }
}

/// The events of a stream until it ends or has as many: id, name, state.
fn events(office: &Office, id: &str, last: Option<&str>, most: usize) -> Vec<(u64, String, String)> {
    let mut stream = TcpStream::connect(("127.0.0.1", office.ports.public)).expect("connection");
    stream.set_read_timeout(Some(LONG)).expect("timeout");
    let last = last.map(|last| format!("Last-Event-ID: {last}\r\n")).unwrap_or_default();
    write!(stream, "GET /~/jobs/{id}/events HTTP/1.1\r\nHost: x\r\nConnection: close\r\n{last}\r\n").expect("sent");
    let (mut out, mut event_id, mut name) = (Vec::new(), 0, String::new());
    for line in BufReader::new(stream).lines().map_while(Result::ok) {
        if let Some(id) = line.strip_prefix("id: ") {
            event_id = id.parse().expect("id");
        } else if let Some(event) = line.strip_prefix("event: ") {
            name = event.to_owned();
        } else if let Some(data) = line.strip_prefix("data: ") {
            let data: Json = serde_json::from_str(data).expect("data");
            out.push((event_id, name.clone(), data["state"].as_str().unwrap_or_default().to_owned()));
            if out.len() == most {
                break;
            }
        }
    }
    out
}

#[test]
fn event_streams_are_resumed() {
    let office = office("events", &[]);
    assert_eq!(deploy_texts(&office, &[("b.yaml", BASICS)]).status, 200);
    let id = id_of(&post(&office, "/later", &[], &json!({"wait": "3s"})));
    let first = events(&office, &id, None, 2);
    let last = first.last().expect("events").0.to_string();
    let rest = events(&office, &id, Some(&last), 100);
    assert!(rest.iter().all(|(id, _, _)| *id > first[1].0), "only what was not seen: {rest:?}");
    assert_eq!(rest.last().map(|(_, name, state)| (name.as_str(), state.as_str())), Some(("ended", "succeeded")));
    let end = rest.last().expect("the end").0.to_string();
    let over = get(&office, &format!("/~/jobs/{id}/events"), &[("last-event-id", &end)]);
    assert_eq!(over.status, 204, "there is nothing to come back for");
}

#[test]
fn as_many_follow_as_may() {
    let office = office("followers", &["jobs.followers=2", "jobs.alive=200ms"]);
    assert_eq!(deploy_texts(&office, &[("b.yaml", BASICS)]).status, 200);
    let id = id_of(&post(&office, "/later", &[], &json!({"wait": "1h"})));
    becomes(&office, &id, "waiting");
    let open = || {
        let mut stream = TcpStream::connect(("127.0.0.1", office.ports.public)).expect("connects");
        stream.set_read_timeout(Some(LONG)).expect("timeout");
        write!(stream, "GET /~/jobs/{id}/events HTTP/1.1\r\nHost: x\r\n\r\n").expect("asks");
        let mut line = String::new();
        BufReader::new(stream.try_clone().expect("stream")).read_line(&mut line).expect("answers");
        (stream, line)
    };
    let both: Vec<(TcpStream, String)> = (0..2).map(|_| open()).collect();
    assert!(both.iter().all(|(_, line)| line.contains("200")), "{both:?}");
    let third = open();
    assert!(third.1.contains("503"), "{third:?}");
    // Polling without waiting continues, waiting does not.
    let poll = |headers: &[(&str, &str)]| get(&office, &format!("/~/jobs/{id}"), headers);
    assert_eq!(poll(&[]).status, 200);
    let refused = poll(&[("prefer", "wait=5")]);
    assert_eq!((refused.status, refused.json()["title"].as_str()), (503, Some("Too many clients follow")));
    drop(both);
    wait::until(LONG, || (poll(&[("prefer", "wait=1")]).status == 200).then_some(())).expect("there is room again");
}

#[test]
fn repeated_requests_are_answered_as_the_first() {
    let office = office("repeated", &[]);
    assert_eq!(deploy_texts(&office, &[("b.yaml", BASICS)]).status, 200);
    let key = [("idempotency-key", "order-17")];
    let first = post(&office, "/basics", &key, &json!({"n": 5}));
    let second = post(&office, "/basics", &key, &json!({"n": 5}));
    assert_eq!((first.status, &first.body, first.header("run-id")), (201, &second.body, second.header("run-id")));
    assert_eq!(second.header("x-n"), Some("5"));
    assert_eq!(post(&office, "/basics", &key, &json!({"n": 6})).status, 422, "another request under the same key");
    let job = post(&office, "/later", &key, &json!({"n": 7}));
    assert_eq!(job.status, 202, "a key belongs to one address");
    assert_eq!(id_of(&job), id_of(&post(&office, "/later", &key, &json!({"n": 7}))));
    assert_eq!(post(&office, "/basics", &[("idempotency-key", "")], &json!({})).status, 400);
    // One in flight.
    let slow = std::thread::spawn({
        let url = format!("{}/basics", office.public());
        move || {
            let headers = [("content-type", "application/json"), ("idempotency-key", "slow")];
            http("POST", &url, &headers, br#"{"wait":"1500ms"}"#)
        }
    });
    let taken =
        || database().sql("kanzlei_repeated", "SELECT COUNT(*) FROM idempotency WHERE status IS NULL").expect("keys");
    wait::until(LONG, || (taken().trim() == "1").then_some(())).expect("the key is taken");
    let busy = post(&office, "/basics", &[("idempotency-key", "slow")], &json!({"wait": "1500ms"}));
    assert!(busy.status == 409 && busy.header("retry-after").is_some(), "{busy:?}");
    assert_eq!(slow.join().expect("slow").status, 201);
    // What was refused may be sent again, mended.
    assert_eq!(post(&office, "/basics", &[("idempotency-key", "mended")], &json!({"n": "x"})).status, 422);
    assert_eq!(post(&office, "/basics", &[("idempotency-key", "mended")], &json!({"n": 1})).status, 201);
}

fn service(peer: &Peer) -> String {
    format!("service: s\nbase: http://127.0.0.1:{}\nnetwork: private\n", peer.port)
}

fn flaky(path: &str, stream: &mut TcpStream) {
    use std::sync::atomic::{AtomicUsize, Ordering};
    static CALLS: AtomicUsize = AtomicUsize::new(0);
    static STUCK: AtomicUsize = AtomicUsize::new(0);
    match path {
        // Good at the third time.
        "/flaky" if CALLS.fetch_add(1, Ordering::Relaxed) < 2 => {
            peer::answer(stream, "503 Service Unavailable", "text/plain", b"not yet");
        }
        // Good from the second time on.
        "/stuck" if STUCK.fetch_add(1, Ordering::Relaxed) < 1 => {
            peer::answer(stream, "500 Internal Server Error", "text/plain", b"no");
        }
        _ => peer::answer(stream, "200 OK", "application/json", b"{}"),
    }
}

#[test]
fn failed_jobs_are_retried() {
    let office = office("again", &[]);
    let peer = Peer::start(flaky);
    // The peer counts by job; of itself a call does not show its id.
    let call = |path: &str| {
        format!("{{call: \"POST http://127.0.0.1:{}{path}\", headers: {{X-Job: \"${{run.id}}\"}}}}", peer.port)
    };
    let workflow = |name: &str, path: &str, again: &str| {
        format!(
            "workflow: {name}\nentries: [{{endpoint: POST /{name}, access: open, answer: later}}]\nqueue: {{{again}}}\nsteps:\n  - {}\n  - {}\n  - reply: 200\n    body: {{attempt: \"${{run.attempt}}\"}}\n",
            call("/before"),
            call(path)
        )
    };
    let texts = [
        ("s.yaml", service(&peer)),
        ("f.yaml", workflow("flaky", "/flaky", "retry: {attempts: 4, first: 50ms}")),
        ("g.yaml", workflow("stuck", "/stuck", "tag: s")),
        ("h.yaml", "workflow: wrong\nentries: [{endpoint: POST /wrong, access: open, answer: later}]\nqueue: {retry: {attempts: 6, first: 1ms}}\nsteps: [{fail: 409, title: No}]\n".into()),
    ];
    let texts: Vec<(&str, &str)> = texts.iter().map(|(path, text)| (*path, text.as_str())).collect();
    let deployed = deploy_texts(&office, &texts);
    assert_eq!(deployed.status, 200, "{deployed:?}");
    let id = id_of(&post(&office, "/flaky", &[], &json!({})));
    becomes(&office, &id, "succeeded");
    let job = api(&office, &format!("/jobs/{id}"));
    assert_eq!((&job["retries"], job["history"].as_array().map(Vec::len)), (&json!(2), Some(2)), "{job}");
    assert!(job["history"][0]["detail"].as_str().expect("why").contains("retry in"), "{job}");
    let before = |id: &str| peer.requests().iter().filter(|r| r.contains("POST /before") && r.contains(id)).count();
    assert_eq!(before(&id), 1, "what was done is not done again");

    let id = id_of(&post(&office, "/stuck", &[], &json!({})));
    becomes(&office, &id, "failed");
    assert_eq!(get(&office, &format!("/~/jobs/{id}/result"), &[]).status, 502);
    let taken = said(&client(&office, &["retry", "--state", "failed", "--tag", "s"]), 0);
    assert!(taken.contains("retried"), "{taken}");
    becomes(&office, &id, "succeeded");
    assert_eq!((before(&id), get(&office, &format!("/~/jobs/{id}/result"), &[]).status), (1, 200));
    let refused = act(&office, "/jobs/actions", json!({"action": "retry", "ids": [id]})).json();
    assert_eq!(refused["refused"][0]["why"], "it did not fail");

    // A failure that is the workflow's own word is not tried again, and by hand from the start only.
    let id = id_of(&post(&office, "/wrong", &[], &json!({})));
    becomes(&office, &id, "rejected");
    let output = said(&client(&office, &["retry", &id]), 1);
    assert!(output.contains("retry it from the start"), "{output}");
    said(&client(&office, &["retry", &id, "--from-start"]), 0);
    wait::until(LONG, || (api(&office, &format!("/jobs/{id}"))["attempt"] == 2).then_some(()))
        .expect("a second attempt");
    becomes(&office, &id, "rejected");
}

const LANES: [(&str, &str); 8] = [
    ("one.yaml", "lane: one\nat_once: 1\n"),
    ("strict.yaml", "lane: strict\norder: strict\n"),
    ("per.yaml", "lane: per\norder: {per: input.k}\n"),
    ("paced.yaml", "lane: paced\npace: 10/s\n"),
    ("short.yaml", "lane: short\nlength: 3\nfull: 429\n"),
    (
        "w.yaml",
        "workflow: w\ninput: {n: {type: integer}, k: {type: string, default: a}}\nsteps:\n  - {sql: harbour, statement: \"INSERT INTO mark (job, n, k, what) VALUES (:j, :n, :k, 'in')\", bind: {j: \"${run.id}\", n: \"${input.n}\", k: \"${input.k}\"}}\n  - pause: 100ms\n  - {sql: harbour, statement: \"INSERT INTO mark (job, n, k, what) VALUES (:j, :n, :k, 'out')\", bind: {j: \"${run.id}\", n: \"${input.n}\", k: \"${input.k}\"}}\n",
    ),
    (
        "many.yaml",
        "workflow: many\ninput: {count: {type: integer}, lane: {type: string}, keys: {type: integer, default: 1}}\nentries: [{endpoint: POST /many, access: open, limits: {time: 2min}}]\nsteps:\n  - let: {items: \"${Array.from({length: input.count}, (_, i) => i)}\"}\n  - match: input.lane\n    arms:\n      one: [{id: a, enqueue: w, each: item, in: items, send: {n: \"${item}\"}, lane: one}, {reply: 200, body: \"${a}\"}]\n      strict: [{id: b, enqueue: w, each: item, in: items, send: {n: \"${item}\"}, lane: strict}, {reply: 200, body: \"${b}\"}]\n      per: [{id: c, enqueue: w, each: item, in: items, send: {n: \"${item}\", k: \"k${item % input.keys}\"}, lane: per}, {reply: 200, body: \"${c}\"}]\n      paced: [{id: d, enqueue: w, each: item, in: items, send: {n: \"${item}\"}, lane: paced}, {reply: 200, body: \"${d}\"}]\n      short: [{id: f, enqueue: w, each: item, in: items, send: {n: \"${item}\"}, lane: short}, {reply: 200, body: \"${f}\"}]\n    else: [{id: e, enqueue: w, each: item, in: items, send: {n: \"${item}\"}}, {reply: 200, body: \"${e}\"}]\n",
    ),
    (
        "noop.yaml",
        "workflow: noop\nentries: [{endpoint: POST /noop, access: open, answer: later}]\nsteps: [{reply: 204}]\n",
    ),
];

/// How the jobs of a lane went in and out: (n, k, what) in order.
fn marks(office_name: &str, group: &Json) -> Vec<(i64, String, String)> {
    let jobs: Vec<String> =
        group["jobs"].as_array().expect("jobs").iter().map(|id| format!("'{}'", id.as_str().expect("id"))).collect();
    let sql = format!("SELECT n, k, what FROM mark WHERE job IN ({}) ORDER BY id", jobs.join(","));
    let rows = database().sql(&format!("kanzlei_{office_name}_harbour"), &sql).expect("marks");
    rows.lines()
        .map(|row| {
            let parts: Vec<&str> = row.split('\t').collect();
            (parts[0].parse().expect("n"), parts[1].to_owned(), parts[2].to_owned())
        })
        .collect()
}

/// The most jobs that were in at the same time, by key where `by_key`.
fn most_at_once(marks: &[(i64, String, String)], by_key: bool) -> usize {
    let mut inside: BTreeMap<&str, usize> = BTreeMap::new();
    let mut most = 0;
    for (_, key, what) in marks {
        let count = inside.entry(if by_key { key } else { "" }).or_default();
        if what == "in" {
            *count += 1
        } else {
            *count -= 1
        }
        most = most.max(*count);
    }
    most
}

#[test]
fn lanes_keep_to_their_rules_over_two_processes() {
    let office = office("lanes", &[]);
    let (mut other, _) = office.another(2).expect("a second service");
    database()
        .sql(
            "kanzlei_lanes_harbour",
            "CREATE TABLE mark (id INT AUTO_INCREMENT PRIMARY KEY, job CHAR(36), n INT, k VARCHAR(9), what VARCHAR(3))",
        )
        .expect("table");
    let deployed = deploy_texts(&office, &LANES);
    assert_eq!(deployed.status, 200, "{deployed:?}");
    let many = |lane: &str, count: usize, keys: usize| {
        let answer = post(&office, "/many", &[], &json!({"lane": lane, "count": count, "keys": keys}));
        assert_eq!(answer.status, 200, "{answer:?}");
        answer.json()
    };
    let done = |group: &Json| {
        let id = group["group"].as_str().expect("group").to_owned();
        let ended = wait::until(Duration::from_secs(60), || {
            let state = api(&office, &format!("/groups/{id}"));
            (state["succeeded"] == state["total"]).then_some(state)
        });
        ended.unwrap_or_else(|| panic!("{}", api(&office, &format!("/groups/{id}"))))
    };
    // A stuck lane does not delay another.
    assert_eq!(act(&office, "/lanes/one/hold", json!(null)).status, 200);
    let held = many("one", 6, 1);
    let strict = many("strict", 6, 1);
    let per = many("per", 9, 3);
    let paced = many("paced", 8, 1);
    done(&strict);
    let order: Vec<(i64, String)> = marks("lanes", &strict).into_iter().map(|(n, _, what)| (n, what)).collect();
    let wanted: Vec<(i64, String)> = (0..6).flat_map(|n| [(n, "in".to_owned()), (n, "out".to_owned())]).collect();
    assert_eq!(order, wanted, "strictly one after another");
    done(&per);
    assert_eq!(most_at_once(&marks("lanes", &per), true), 1, "one at a time per key");
    done(&paced);
    let started: Vec<i64> = api(&office, &format!("/jobs?group={}", paced["group"].as_str().expect("group")))["jobs"]
        .as_array()
        .expect("jobs")
        .iter()
        .map(|job| {
            job["started"].as_str().expect("started").parse::<jiff::Timestamp>().expect("instant").as_millisecond()
        })
        .collect();
    let (first, last) = (started.iter().min().expect("jobs"), started.iter().max().expect("jobs"));
    assert!(last - first >= 500, "eight jobs at ten a second take most of a second: {started:?}");
    // What was held went nowhere, and no end is in sight; then one at a time, over both processes.
    let state = api(&office, &format!("/groups/{}", held["group"].as_str().expect("group")));
    assert_eq!((&state["remaining"], &state["succeeded"], &state["expected_end"]), (&json!(6), &json!(0), &Json::Null));
    assert_eq!(act(&office, "/lanes/one/release", json!(null)).status, 200);
    done(&held);
    assert_eq!(most_at_once(&marks("lanes", &held), false), 1);
    // Beyond the bound of a lane the step fails, and nothing is queued.
    act(&office, "/lanes/short/hold", json!(null));
    many("short", 3, 1);
    let full = post(&office, "/many", &[], &json!({"lane": "short", "count": 1}));
    assert_eq!((full.status, full.json()["title"].as_str()), (503, Some("The queue is full")));
    let emptied = act(&office, "/lanes/short/empty", json!(null)).json();
    assert_eq!(emptied["cancelled"], 3);
    // A group is cancelled as one, and a list of 100,000 is a group like any other.
    act(&office, "/lanes/main/hold", json!(null));
    let begun = Instant::now();
    let large = many("main", 100_000, 1);
    println!("100,000 jobs queued in {:?}", begun.elapsed());
    assert_eq!(large["count"], 100_000);
    let id = large["group"].as_str().expect("group");
    let cancelled = said(&client(&office, &["cancel", "--group", id, "--state", "queued"]), 0);
    assert!(cancelled.starts_with("100000 jobs cancelled"), "{cancelled}");
    println!("and cancelled, {:?} in all", begun.elapsed());
    let over = post(&office, "/many", &[], &json!({"lane": "main", "count": 100_001}));
    assert_eq!(over.status, 500, "a list is bounded");
    let listed = said(&client(&office, &["lanes"]), 0);
    assert!(["one", "strict", "per", "paced", "short", "main"].iter().all(|lane| listed.contains(lane)), "{listed}");
    other.stop(LONG);
}

#[test]
fn callbacks_come_once() {
    let office = office("callbacks", &[]);
    let workflow = "workflow: c\ninput: {until: {type: string, default: 1h}}\nentries: [{endpoint: POST /c, access: open, answer: later}]\nsteps:\n  - id: word\n    await: callback\n    until: ${input.until}\n    steps: [{note: \"${callback.url}\"}]\n    catch: [{fail: 504, title: \"${failure.kind}\"}]\n  - reply: 200\n    body: ${word}\n";
    assert_eq!(deploy_texts(&office, &[("c.yaml", workflow)]).status, 200);
    let waiting = |body: Json| {
        let id = id_of(&post(&office, "/c", &[], &body));
        let job = becomes(&office, &id, "waiting");
        (id, job["note"].as_str().expect("the address").to_owned())
    };
    let json_body = [("content-type", "application/json")];
    let (id, url) = waiting(json!({}));
    assert!(url.rsplit('/').next().is_some_and(|token| token.len() >= 40), "unguessable: {url}");
    assert_eq!(http("POST", &url, &json_body, br#"{"ok":true}"#).status, 202);
    assert_eq!(http("POST", &url, &json_body, br#"{"ok":true}"#).status, 202, "the same again is no news");
    assert_eq!(http("POST", &url, &json_body, br#"{"ok":false}"#).status, 409);
    becomes(&office, &id, "succeeded");
    assert_eq!(get(&office, &format!("/~/jobs/{id}/result"), &[]).body, r#"{"ok":true}"#);
    // Too late, and for nobody.
    let (id, url) = waiting(json!({"until": "3s"}));
    becomes(&office, &id, "failed");
    assert_eq!(get(&office, &format!("/~/jobs/{id}/result"), &[]).json()["title"], "timeout");
    assert_eq!(http("POST", &url, &json_body, b"{}").status, 410);
    let (id, url) = waiting(json!({}));
    http("DELETE", &format!("{}/~/jobs/{id}", office.public()), &[], b"");
    assert_eq!(http("POST", &url, &json_body, b"{}").status, 410);
}

#[test]
fn timetables_fire_once_over_all_processes() {
    let office = office("timetables", &[]);
    let (mut other, _) = office.another(2).expect("a second service");
    let each_second = "workflow: tick\ninput: {due: {type: string}}\nentries:\n  - {every: 1s, send: {due: \"${due}\"}}\n  - {timetable: \"0 6 * * MON-FRI\", zone: Europe/Oslo, send: {due: \"${due}\"}}\nsteps: [{reply: 200, body: {due: \"${input.due}\"}}]\n";
    let slow = "workflow: slow\nentries: [{every: 1s, overlap: skip}]\nsteps: [{pause: 1h}]\n";
    let queue = "workflow: queue\nentries: [{every: 1s, overlap: wait}]\nsteps: [{pause: 1h}]\n";
    let deployed = deploy_texts(&office, &[("a.yaml", each_second), ("b.yaml", slow), ("c.yaml", queue)]);
    assert_eq!(deployed.status, 200, "{deployed:?}");
    let find = |workflow: &str, number: u64| {
        let listed = api(&office, "/timetables");
        let listed = listed["timetables"].as_array().cloned().unwrap_or_default();
        listed.into_iter().find(|t| t["workflow"] == workflow && t["number"] == number).expect("timetable")
    };
    let ticks = wait::until(LONG, || {
        let last = find("tick", 1)["last"].as_array().cloned().unwrap_or_default();
        (last.len() >= 5).then_some(last)
    })
    .expect("five ticks");
    let due: Vec<i64> = ticks
        .iter()
        .map(|tick| tick["due"].as_str().expect("due").parse::<jiff::Timestamp>().expect("instant").as_microsecond())
        .collect();
    assert!(due.windows(2).all(|pair| pair[0] - pair[1] == 1_000_000), "one firing for each second: {due:?}");
    let jobs = api(&office, "/jobs?workflow=tick&limit=500")["jobs"].as_array().expect("jobs").clone();
    let mut instants: Vec<&str> = jobs.iter().map(|job| job["due"].as_str().expect("due")).collect();
    let all = instants.len();
    instants.sort_unstable();
    instants.dedup();
    assert_eq!(instants.len(), all, "no instant fired twice");
    // Overlap.
    let skipped = find("slow", 1)["last"].as_array().expect("last").iter().filter(|t| t["result"] == "skipped").count();
    assert!(skipped >= 2 && api(&office, "/jobs?workflow=slow")["jobs"].as_array().map(Vec::len) == Some(1));
    let running = api(&office, "/jobs?workflow=queue&state=waiting")["jobs"].as_array().map(Vec::len);
    let behind = api(&office, "/jobs?workflow=queue&state=queued")["jobs"].as_array().map_or(0, Vec::len);
    assert!(running == Some(1) && behind >= 1, "one runs, {behind} wait behind it");
    // By hand.
    said(&client(&office, &["timetable", "pause", "tick"]), 0);
    let fired = said(&client(&office, &["timetable", "fire", "tick", "2"]), 0);
    let id = fired.split("/~/jobs/").nth(1).and_then(|rest| rest.lines().next()).expect("id").to_owned();
    becomes(&office, &id, "succeeded");
    let shown = said(&client(&office, &["timetables"]), 0);
    assert!(shown.contains("succeeded by hand"), "{shown}");
    assert!(shown.contains("paused") && shown.contains("06:00:00 +0") && shown.contains("Monday"), "{shown}");
    assert_eq!(find("tick", 2)["next"].as_array().map(Vec::len), Some(5));
    said(&client(&office, &["timetable", "fire", "tick", "3"]), 1);
    other.stop(LONG);
}

#[test]
fn what_a_timetable_missed_is_made_up_for_as_it_says() {
    let mut office = office("missed", &[]);
    let each = |name: &str, more: &str| {
        format!("workflow: {name}\nentries: [{{every: 1min, {more}}}]\nsteps: [{{reply: 204}}]\n")
    };
    let texts = [
        ("skip", each("skip", "missed: skip")),
        ("once", each("once", "missed: once")),
        ("all", each("all", "missed: all")),
        ("over", each("over", "missed: all, until: \"2020-01-01T00:00:00Z\"")),
        ("later", each("later", "missed: all, from: \"2999-01-01T00:00:00Z\"")),
        ("held", each("held", "missed: all")),
    ];
    let documents: Vec<(&str, &str)> = texts.iter().map(|(name, text)| (*name, text.as_str())).collect();
    let deployed = deploy_texts(&office, &documents);
    assert_eq!(deployed.status, 200, "{deployed:?}");
    let sql = |sql: &str| database().sql("kanzlei_missed", sql).expect("sql");
    wait::until(LONG, || (sql("SELECT COUNT(*) FROM timetable").trim() == "6").then_some(())).expect("known");
    assert_eq!(act(&office, "/timetables/held/1/pause", json!(null)).status, 200);
    // As if nobody had looked for five minutes and a half, and nothing had been due before.
    office.service.stop(LONG);
    sql("DELETE FROM firing");
    sql("DELETE FROM job");
    sql("UPDATE timetable SET handled_until = UNIX_TIMESTAMP() DIV 60 * 60000000 - 330000000");
    office.restart_service().expect("starts again");
    let became = |workflow: &str| {
        let rows = sql(&format!("SELECT result, COUNT(*) FROM firing WHERE workflow = '{workflow}' GROUP BY result"));
        rows.lines().map(|line| line.replace('\t', " ")).collect::<Vec<_>>().join(", ")
    };
    let queued = |text: &str| -> u32 {
        let number = text.split(", ").find_map(|part| part.strip_prefix("queued "));
        number.and_then(|n| n.parse().ok()).unwrap_or(0)
    };
    // Each timetable writes how far it was read after all its firings, and only if any were due.
    let read = "SELECT COUNT(*) FROM timetable WHERE workflow IN ('skip', 'once', 'all') AND handled_until > (SELECT MIN(handled_until) FROM timetable)";
    wait::until(LONG, || (sql(read).trim() == "3").then_some(())).unwrap_or_else(|| panic!("{}", became("all")));
    // The latest of them may be due just now and not be missed at all.
    for (workflow, least, most) in
        [("skip", 0, 2), ("once", 1, 3), ("all", 5, 7), ("over", 0, 0), ("later", 0, 0), ("held", 0, 0)]
    {
        let found = became(workflow);
        let count = queued(&found);
        assert!((least..=most).contains(&count), "{workflow}: {found}");
        assert_eq!(found.contains("missed"), matches!(workflow, "skip" | "once"), "{workflow}: {found}");
    }
    let shown = said(&client(&office, &["timetables"]), 0);
    assert!(shown.contains("missed all") && shown.contains("none any more"), "{shown}");
}

#[test]
fn a_job_runs_what_was_live_when_it_was_queued() {
    let office = office("pinned", &[]);
    let inner = |word: &str| format!("workflow: inner\nsteps:\n  - reply: 200\n    body: {{inner: {word}}}\n");
    let outer = |word: &str| {
        format!(
            "workflow: outer\nentries: [{{endpoint: POST /outer, access: open, answer: later}}]\nsteps:\n  - {{id: i, invoke: inner}}\n  - reply: 200\n    body: {{outer: {word}, of: \"${{i.body.inner}}\"}}\n"
        )
    };
    let deploy = |word: &str| {
        let (inner, outer) = (inner(word), outer(word));
        let deployed = deploy_texts(&office, &[("i.yaml", &inner), ("o.yaml", &outer)]);
        assert_eq!(deployed.status, 200, "{deployed:?}");
    };
    let result = |id: &str| get(&office, &format!("/~/jobs/{id}/result"), &[]).body;
    deploy("old");
    act(&office, "/lanes/main/hold", json!(null));
    let before = id_of(&post(&office, "/outer", &[], &json!({})));
    deploy("new");
    let after = id_of(&post(&office, "/outer", &[], &json!({})));
    act(&office, "/lanes/main/release", json!(null));
    for (id, word) in [(&before, "old"), (&after, "new")] {
        becomes(&office, id, "succeeded");
        assert_eq!(result(id), format!("{{\"outer\":\"{word}\",\"of\":\"{word}\"}}"));
    }
    let shown = api(&office, &format!("/jobs/{before}"));
    assert_eq!((&shown["revision"], &shown["live"], &shown["retired"]), (&json!(1), &json!(false), &json!(false)));
}

#[test]
fn a_full_lane_refuses_clients() {
    let office = office("full", &[]);
    let lane = |name: &str, more: &str| format!("lane: {name}\nlength: 2\n{more}");
    let work = |name: &str| {
        format!(
            "workflow: {name}\nentries: [{{endpoint: POST /{name}, access: open, answer: later}}]\nqueue: {{lane: {name}}}\nsteps: [{{reply: 204}}]\n"
        )
    };
    let texts = [lane("calm", ""), lane("strictly", "full: 429\n"), work("calm"), work("strictly")];
    let names = ["a", "b", "c", "d"];
    let documents: Vec<(&str, &str)> = names.into_iter().zip(texts.iter().map(String::as_str)).collect();
    let deployed = deploy_texts(&office, &documents);
    assert_eq!(deployed.status, 200, "{deployed:?}");
    for (name, status) in [("calm", 503), ("strictly", 429)] {
        act(&office, &format!("/lanes/{name}/hold"), json!(null));
        let queued: Vec<String> = (0..2).map(|_| id_of(&post(&office, &format!("/{name}"), &[], &json!({})))).collect();
        let refused = post(&office, &format!("/{name}"), &[("idempotency-key", "once")], &json!({}));
        assert_eq!((refused.status, refused.json()["title"].as_str()), (status, Some("The queue is full")));
        assert!(refused.header("retry-after").is_some_and(|wait| wait.parse::<u32>().is_ok()), "{refused:?}");
        // The lane accepts jobs again when there is room; a refusal leaves its key free.
        http("DELETE", &format!("{}/~/jobs/{}", office.public(), queued[0]), &[], b"");
        let taken = post(&office, &format!("/{name}"), &[("idempotency-key", "once")], &json!({}));
        assert_eq!(taken.status, 202, "{taken:?}");
        act(&office, &format!("/lanes/{name}/release"), json!(null));
        becomes(&office, &id_of(&taken), "succeeded");
    }
}

#[test]
fn builders_find_and_change_jobs() {
    let office = office("builders", &["jobs.input=100000"]);
    let texts = [
        ("b.yaml", BASICS),
        (
            "big.yaml",
            "workflow: big\ninput: {text: {type: string}}\nentries: [{endpoint: POST /big, access: open, answer: later, limits: {body: 8 MiB}}]\nsteps: [{reply: 200, body: \"${input.text.length}\"}]\n",
        ),
    ];
    assert_eq!(deploy_texts(&office, &texts).status, 200);
    let id = id_of(&post(&office, "/later", &[], &json!({"n": 41, "wait": "1h"})));
    becomes(&office, &id, "waiting");
    act(&office, "/lanes/main/hold", json!(null));
    let queued = id_of(&post(&office, "/later", &[], &json!({"n": 42})));
    let found = |query: &str| {
        let jobs = api(&office, &format!("/jobs?{query}"))["jobs"].as_array().cloned().unwrap_or_default();
        jobs.iter().map(|job| job["id"].as_str().expect("id").to_owned()).collect::<Vec<_>>()
    };
    for (query, wanted) in [
        ("tag=n-41", vec![&id]),
        ("state=waiting", vec![&id]),
        ("state=queued&lane=main", vec![&queued]),
        ("workflow=basics&text=42", vec![&queued]),
        ("workflow=basics", vec![&queued, &id]),
        ("due_until=2020-01-01T00:00:00Z", vec![]),
        ("text=100%25", vec![]),
    ] {
        assert_eq!(found(query), wanted.into_iter().cloned().collect::<Vec<_>>(), "{query}");
    }
    for (query, says) in [
        ("state=runing", "did you mean `running`"),
        ("stat=x", "unknown field"),
        ("due_from=soon", "`due_from` is an instant"),
        ("group=7", "not the id of a group"),
    ] {
        let answer = http(
            "GET",
            &format!("{}/api/v1/jobs?{query}", office.control()),
            &[("authorization", &bearer(&office))],
            b"",
        );
        assert!(answer.status >= 400 && answer.body.contains(says), "{query}: {answer:?}");
    }
    // Postponed; invalid times are reported.
    let run = |args: &[&str], code: i32| said(&client(&office, args), code);
    run(&["postpone", "2h", &queued], 0);
    assert_eq!(found("state=scheduled"), std::slice::from_ref(&queued));
    for (due, says) in [("2020-01-01T00:00:00Z", "lies in the past"), ("2 fortnights", "neither an instant")] {
        let output = run(&["postpone", due, &queued], 1);
        assert!(output.contains(says), "{output}");
    }
    run(&["run-now", &queued], 0);
    assert_eq!(found("state=queued"), std::slice::from_ref(&queued));
    act(&office, "/lanes/main/release", json!(null));
    becomes(&office, &queued, "succeeded");
    assert!(run(&["run-now", &queued], 1).contains("does not wait for its time"));
    let shown = run(&["job", &queued], 0);
    for says in ["curl -s", &queued, "postponed", "run now", "n-42", "lane      main", "Number 42."] {
        assert!(shown.contains(says), "{says}: {shown}");
    }
    let listed = run(&["jobs", "--tag", "n-41"], 0);
    assert!(listed.contains(&id) && listed.contains("waiting"), "{listed}");
    assert!(run(&["cancel"], 2).contains("no jobs are selected"));
    assert!(run(&["cancel", "--tag", "n-41"], 0).contains(&id));
    assert!(run(&["cancel", &id], 1).contains("it has ended"));
    assert!(run(&["lane", "hold", "mian"], 1).contains("there is no lane"));
    // A job of a workflow that was retired meanwhile says so, and is run as it was queued.
    let kept = id_of(&post(&office, "/later", &[], &json!({"n": 43, "wait": "10s"})));
    becomes(&office, &kept, "waiting");
    run(&["retire", "basics"], 0);
    assert!(run(&["job", &kept], 0).contains("retired meanwhile"));
    becomes(&office, &kept, "succeeded");
    // Large inputs.
    let text = "x".repeat(5 << 20);
    let large = post(&office, "/big", &[], &json!({"text": text}));
    assert_eq!((large.status, large.json()["title"].as_str()), (413, Some("Content too large")));
}

#[test]
fn the_end_of_a_job_is_notified() {
    let office = office("notices", &[]);
    let peer = Peer::start(|path, stream| {
        use std::sync::atomic::{AtomicUsize, Ordering};
        static TRIES: AtomicUsize = AtomicUsize::new(0);
        match path {
            "/ended" if TRIES.fetch_add(1, Ordering::Relaxed) == 0 => {
                peer::answer(stream, "500 Internal Server Error", "text/plain", b"")
            }
            _ => peer::answer(stream, "204 No Content", "text/plain", b""),
        }
    });
    let workflow = "workflow: ended\ninput: {to: {type: string, optional: true}}\nentries: [{endpoint: POST /ended, access: open, answer: later}]\nqueue: {notify: {to: \"${input.to ?? null}\", secret: notify-key, network: private}}\nsteps: [{reply: 204}]\n";
    assert_eq!(deploy_texts(&office, &[("t.yaml", workflow)]).status, 200);
    let id = id_of(&post(&office, "/ended", &[], &json!({"to": format!("http://127.0.0.1:{}/ended", peer.port)})));
    let job = wait::until(LONG, || {
        let job = api(&office, &format!("/jobs/{id}"));
        job["notice"]["delivered"].is_string().then_some(job)
    });
    let job = job.unwrap_or_else(|| panic!("not notified: {}", api(&office, &format!("/jobs/{id}"))));
    assert_eq!(job["notice"]["attempts"], 2, "accepted at the second attempt");
    let request = peer.requests().pop().expect("a request");
    for says in
        [&format!("webhook-id: {id}"), "webhook-signature: v1,", "\"type\":\"job.ended\"", "\"state\":\"succeeded\""]
    {
        assert!(request.to_lowercase().contains(&says.to_lowercase()), "{says}: {request}");
    }
    let silent = id_of(&post(&office, "/ended", &[], &json!({})));
    becomes(&office, &silent, "succeeded");
    assert!(api(&office, &format!("/jobs/{silent}"))["notice"].is_null());
}
