//! Commands and answers that say what an author can do next, one behaviour each.

use kanzlei_e2e::calls::{LONG, act, api, bearer, becomes, get, id_of, post};
use kanzlei_e2e::*;
use kanzlei_harness::office::Office;
use kanzlei_harness::wait;
use serde_json::{Value as Json, json};

fn control(office: &Office, method: &str, path: &str) -> Answer {
    http(method, &format!("{}{path}", office.control()), &[("authorization", &bearer(office))], b"")
}

const HELLO: &str = "workflow: hello\nentries: [{endpoint: GET /hello, access: open}]\nsteps:\n  - {note: never, off: true}\n  - {reply: 200, body: hei}\n";

#[test]
fn deploy_refuses_broken_cases() {
    let office = office("broken_cases", &[]);
    for cases in [
        "cases: hello\nexamples: [{name: a, expect: {reply: {status: soon}}}]\n",
        "cases: helo\nexamples: [{name: a, expect: {reply: {status: 200}}}]\n",
    ] {
        let folder = Folder::new("cases", &[("hello.yaml", HELLO), ("cases.yaml", cases)]);
        let refused = said(&client(&office, &["deploy", folder.path()]), 1);
        assert!(refused.contains("in cases; nothing was deployed"), "{refused}");
        assert_eq!(api(&office, "/workflows")["workflows"], json!([]));
        said(&client(&office, &["deploy", folder.path(), "--unrehearsed"]), 0);
        said(&client(&office, &["retire", "hello"]), 0);
    }
}

#[test]
fn a_finding_in_a_live_document_shows_its_place() {
    let office = office("live_finding", &[]);
    let outer = "workflow: outer\nsteps:\n  - {id: i, invoke: hello}\n  - {note: \"${i.body.length}\"}\n";
    assert_eq!(deploy_texts(&office, &[("h.yaml", HELLO), ("o.yaml", outer)]).status, 200);
    let folder = Folder::new("finding", &[("hello.yaml", &HELLO.replace("body: hei", "body: {a: 1}"))]);
    let refused = said(&client(&office, &["deploy", folder.path()]), 1);
    assert!(refused.contains("${i.body.length}") && refused.contains("`outer` is live"), "{refused}");
}

#[test]
fn a_step_that_is_off_shows_as_off() {
    let office = office("off", &[]);
    assert_eq!(deploy_texts(&office, &[("h.yaml", HELLO)]).status, 200);
    let run = get(&office, "/hello", &[]).header("run-id").expect("id").to_owned();
    let shown = wait::until(LONG, || {
        let output = client(&office, &["run", &run]);
        output.status.success().then(|| String::from_utf8_lossy(&output.stdout).into_owned())
    });
    let shown = shown.expect("a run");
    assert!(shown.contains("never — off") && !shown.contains("not reached"), "{shown}");
}

#[test]
fn runs_of_an_unknown_workflow_name_the_nearest() {
    let office = office("unknown_runs", &[]);
    assert_eq!(deploy_texts(&office, &[("h.yaml", HELLO)]).status, 200);
    let shown = said(&client(&office, &["runs", "helo"]), 1);
    assert!(shown.contains("did you mean `hello`?"), "{shown}");
    assert!(said(&client(&office, &["runs", "hello"]), 0).contains("No such runs"));
}

#[test]
fn services_are_retired_unless_they_are_called() {
    let office = office("retire", &[]);
    let service = "service: s\nbase: http://127.0.0.1:1\nnetwork: private\n";
    let caller = "workflow: c\nsteps: [{call: \"GET http://127.0.0.1:1/x\"}]\n";
    assert_eq!(deploy_texts(&office, &[("s.yaml", service), ("c.yaml", caller)]).status, 200);
    let used = said(&client(&office, &["service", "retire", "s"]), 1);
    assert!(used.contains("it is called by c"), "{used}");
    said(&client(&office, &["retire", "c"]), 0);
    said(&client(&office, &["service", "retire", "s"]), 0);
    assert_eq!(api(&office, "/services")["services"], json!([]));
}

#[test]
fn a_service_at_a_private_address_says_so_in_its_document() {
    let office = office("add_private", &[]);
    let folder = Folder::new(
        "add",
        &[(
            "api.yaml",
            "openapi: 3.0.3\ninfo: {title: T}\npaths: {/a: {get: {operationId: a, responses: {\"200\": {description: ok}}}}}\n",
        )],
    );
    let add = |name: &str, base: &str| {
        let api = format!("{}/api.yaml", folder.path());
        said(&client(&office, &["service", "add", name, &api, "--base", base, "--folder", folder.path()]), 0);
        std::fs::read_to_string(folder.0.join(format!("services/{name}.yaml"))).expect("a document")
    };
    assert!(add("here", "http://127.0.0.1:7090/a").contains("\nnetwork: private\n"));
    assert!(!add("there", "https://registry.lindvik.example/a").contains("network"));
}

#[test]
fn patterns_are_previewed_offline() {
    let office = office("preview", &[]);
    let args = ["timetables", "preview", "45 2,14 * * *", "--zone", "Europe/Oslo", "--from", "2027-03-27T20:00:00Z"];
    let shown = said(&client(&office, &args), 0);
    assert!(
        shown.starts_with("At 02:45 and 14:45 every day.") && shown.contains("Sun 2027-03-28 03:00:00 +02:00"),
        "{shown}"
    );
    let listed = said(&client(&office, &[&args[..], &["--count", "2", "--json"]].concat()), 0);
    let listed: Json = serde_json::from_str(&listed).expect("json");
    assert_eq!(listed["due"], json!(["2027-03-28T01:00:00Z", "2027-03-28T12:45:00Z"]));
    let refused = said(&client(&office, &["timetables", "preview", "*/90 * * * *"]), 2);
    assert!(refused.contains("minute: the step 90"), "{refused}");
}

#[test]
fn the_control_listener_keeps_its_answers_to_itself() {
    let office = office("headers", &[]);
    for (path, status) in
        [("/api/v1/status", 200), ("/api/v1/nothing", 404), ("/api/v1/runs?limit=x", 400), ("/metrics", 200)]
    {
        let answer = control(&office, "GET", path);
        assert_eq!(answer.status, status, "{path}: {answer:?}");
        for (name, value) in
            [("cache-control", "no-store"), ("x-content-type-options", "nosniff"), ("x-frame-options", "DENY")]
        {
            assert_eq!(answer.header(name), Some(value), "{path} {name}");
        }
    }
    for (path, status) in [("/", 200), ("/jobs/x", 200), ("/metric", 404), ("/api", 404), ("/favicon.ico", 404)] {
        assert_eq!(control(&office, "GET", path).status, status, "{path}");
    }
}

#[test]
fn a_held_lane_is_emptied_of_jobs_that_wait_in_a_pause() {
    let office = office("empty_lane", &[]);
    let workflow = "workflow: p\nentries: [{endpoint: POST /p, access: open, answer: later}]\nqueue: {lane: q}\nsteps: [{pause: 1h}, {reply: 204}]\n";
    assert_eq!(deploy_texts(&office, &[("l.yaml", "lane: q\n"), ("p.yaml", workflow)]).status, 200);
    let id = id_of(&post(&office, "/p", &[], &json!({})));
    becomes(&office, &id, "waiting");
    act(&office, "/lanes/q/hold", json!(null));
    // One state on every page, in every count and in every filter.
    let lane = api(&office, "/lanes")["lanes"].as_array().expect("lanes").iter().find(|l| l["name"] == "q").cloned();
    assert_eq!(lane.map(|lane| (lane["waiting"].clone(), lane["scheduled"].clone())), Some((json!(1), json!(0))));
    let counts = api(&office, "/jobs")["counts"].clone();
    assert_eq!((&counts["waiting"], &counts["scheduled"], &counts["queued"]), (&json!(1), &json!(0), &json!(0)));
    assert_eq!(api(&office, "/jobs?state=waiting")["jobs"][0]["id"], id);
    // Filters go by the time that is shown: when its wait ends, not when it was queued.
    let due = api(&office, "/jobs")["jobs"][0]["due"].as_str().expect("due").to_owned();
    let within = |from: &str, until: &str| {
        api(&office, &format!("/jobs?due_from={from}&due_until={until}"))["jobs"].as_array().map(Vec::len)
    };
    assert_eq!((within(&due, &due), within("2020-01-01T00:00:00Z", "2026-01-01T00:00:00Z")), (Some(1), Some(0)));
    assert_eq!(act(&office, "/lanes/q/empty", json!(null)).json()["cancelled"], 1);
    becomes(&office, &id, "cancelled");
}

#[test]
fn a_run_that_refuses_its_caller_is_rejected() {
    let office = office("rejected", &[]);
    let inner = "workflow: inner\nsteps: [{fail: 422, title: No}]\n";
    let texts = [
        ("i.yaml", inner.to_owned()),
        ("o.yaml", "workflow: outer\nentries: [{endpoint: POST /outer, access: open, answer: either}]\nsteps: [{invoke: inner}]\n".to_owned()),
        ("t.yaml", "workflow: timed\nentries: [{every: 1h}]\nsteps: [{invoke: inner}]\n".to_owned()),
        ("b.yaml", "workflow: broken\nentries: [{endpoint: POST /broken, access: open}]\nsteps: [{fail: 503}]\n".to_owned()),
    ];
    let texts: Vec<(&str, &str)> = texts.iter().map(|(path, text)| (*path, text.as_str())).collect();
    assert_eq!(deploy_texts(&office, &texts).status, 200);
    assert_eq!(post(&office, "/outer", &[("x-request-id", "r-7")], &json!({})).status, 422);
    let found = wait::until(LONG, || {
        let runs = api(&office, "/runs?request_id=r-7")["runs"].clone();
        (runs.as_array().map(Vec::len) == Some(1)).then(|| runs[0].clone())
    });
    assert_eq!(found.expect("by its request id")["state"], "rejected");
    assert_eq!(post(&office, "/broken", &[], &json!({})).status, 503);
    let later = id_of(&post(&office, "/outer", &[("prefer", "respond-async")], &json!({})));
    becomes(&office, &later, "rejected");
    // A timetable has no caller to refuse.
    let fired = act(&office, "/timetables/timed/1/fire", json!(null)).json();
    becomes(&office, fired["job"].as_str().expect("id"), "failed");
    let day = wait::until(LONG, || {
        let listed = api(&office, "/workflows")["workflows"].as_array().cloned().unwrap_or_default();
        let day = |name: &str| listed.iter().find(|w| w["name"] == name).map(|w| w["day"].clone()).unwrap_or_default();
        (day("outer")["rejected"] == 2 && day("broken")["failed"] == 1 && day("timed")["failed"] == 1).then_some(())
    });
    day.expect("counted by state");
    let process = api(&office, "/runs?state=rejected&limit=1")["runs"][0]["id"].as_str().expect("id").to_owned();
    assert!(api(&office, &format!("/runs/{process}"))["process"].as_str().is_some_and(|name| !name.is_empty()));
}

#[test]
fn refused_requests_are_kept_and_found() {
    let office = office("refusals", &[]);
    let open = "workflow: open\ninput: {n: {type: integer}}\nentries: [{endpoint: POST /open, access: open}]\nsteps: [{reply: 200, body: \"${input.n}\"}]\n";
    let secret = "workflow: sealed\ninput: {who: {type: object, required: [pin], properties: {pin: {type: string, minLength: 4, secret: true}}}}\nentries: [{endpoint: POST /sealed, access: open}]\nsteps: [{reply: 204, when: input.who.pin != ''}]\n";
    assert_eq!(deploy_texts(&office, &[("o.yaml", open), ("s.yaml", secret)]).status, 200);
    let send = |method: &str, path: &str, id: &str, body: &str| {
        let headers = [("content-type", "application/json"), ("x-request-id", id)];
        http(method, &format!("{}{path}", office.public()), &headers, body.as_bytes()).status
    };
    for (method, path, id, body, status) in [
        ("POST", "/open", "r-1", r#"{"n":"x"}"#, 422),
        ("POST", "/open", "r-2", "{oops", 400),
        ("POST", "/sealed", "r-3", r#"{"who":{"pin":"17"}}"#, 422),
        ("DELETE", "/open", "r-4", "", 405),
        ("GET", "/open/deeper", "r-5", "", 404),
        ("GET", "/nowhere", "r-6", "", 404),
    ] {
        assert_eq!(send(method, path, id, body), status, "{id}");
    }
    let all = wait::until(LONG, || {
        let all = api(&office, "/refusals")["refusals"].as_array().cloned().unwrap_or_default();
        (all.len() >= 5).then_some(all)
    })
    .expect("kept");
    let ids: Vec<&str> = all.iter().filter_map(|refusal| refusal["request_id"].as_str()).collect();
    assert_eq!(ids, ["r-5", "r-4", "r-3", "r-2", "r-1"], "a stranger's 404 is not kept");
    let of = |id: &str| all.iter().find(|refusal| refusal["request_id"] == id).expect(id);
    assert_eq!((&of("r-1")["workflow"], &of("r-1")["body"]["text"]), (&json!("open"), &json!(r#"{"n":"x"}"#)));
    // A body that is not what it says, or may hold a secret, is size and digest only.
    for id in ["r-2", "r-3"] {
        let body = &of(id)["body"];
        assert!(body["text"].is_null() && body["size"].as_u64() > Some(0) && body["digest"].is_string(), "{body}");
    }
    assert!(!of("r-3").to_string().contains("17\""), "{}", of("r-3"));
    let shown = said(&client(&office, &["refusals", "open", "--status", "422"]), 0);
    assert!(shown.contains("r-1") && !shown.contains("r-2"), "{shown}");
    // One id finds a run, a job or a refusal.
    assert_eq!(send("POST", "/open", "r-7", r#"{"n":1}"#), 200);
    let found = wait::until(LONG, || {
        let output = client(&office, &["find", "r-7"]);
        output.status.success().then(|| String::from_utf8_lossy(&output.stdout).into_owned())
    });
    assert!(found.expect("a run").starts_with("run  open succeeded  kanzlei run "));
    assert!(said(&client(&office, &["find", "r-3"]), 0).contains("POST /sealed"));
    said(&client(&office, &["find", "r-99"]), 1);
}

#[test]
fn a_repeated_request_is_recognised_however_it_is_written() {
    let office = office("repeats", &[]);
    let workflow = "workflow: w\ninput: {a: {type: integer}, b: {type: number, default: 2}}\nentries: [{endpoint: POST /w, access: open}]\nsteps: [{reply: 201, body: \"${run.id}\"}]\n";
    let large = "workflow: large\nentries: [{endpoint: POST /large, access: open}]\nsteps: [{reply: 200, body: \"${'x'.repeat(1000000).repeat(5)}\"}]\n";
    let deployed = deploy_texts(&office, &[("w.yaml", workflow), ("l.yaml", large)]);
    assert_eq!(deployed.status, 200, "{deployed:?}");
    let send = |key: &str, body: &str| {
        let headers = [("content-type", "application/json"), ("idempotency-key", key)];
        http("POST", &format!("{}/w", office.public()), &headers, body.as_bytes())
    };
    let first = send("\"k-1\"", r#"{"a":1,"b":2}"#);
    assert_eq!(first.status, 201);
    // A bare key is the same key; members in another order, spaces, 2.0 and a default are the same input.
    for (key, body) in [("k-1", r#"{ "b": 2.0, "a": 1 }"#), ("\"k-1\"", r#"{"a":1}"#)] {
        let again = send(key, body);
        assert_eq!((again.status, &again.body), (201, &first.body), "{key} {body}");
    }
    assert_eq!(send("k-1", r#"{"a":3}"#).status, 422);
    // An answer that is too large to keep is sent, and is not made a second time.
    let call = || http("POST", &format!("{}/large", office.public()), &[("idempotency-key", "l")], b"");
    let first = call();
    assert_eq!((first.status, first.body.len()), (200, 5_000_000));
    let again = call();
    assert_eq!(again.status, 409, "{again:?}");
    assert_eq!(again.header("run-id"), first.header("run-id"));
}

#[test]
fn a_lane_is_never_overfilled_by_what_comes_at_once() {
    let office = office("overshoot", &[]);
    let workflow = "workflow: w\nentries: [{endpoint: POST /w, access: open, answer: later}]\nqueue: {lane: narrow}\nsteps: [{reply: 204}]\n";
    assert_eq!(deploy_texts(&office, &[("l.yaml", "lane: narrow\nlength: 5\n"), ("w.yaml", workflow)]).status, 200);
    act(&office, "/lanes/narrow/hold", json!(null));
    let statuses: Vec<u16> = std::thread::scope(|scope| {
        let sending: Vec<_> = (0..40).map(|_| scope.spawn(|| post(&office, "/w", &[], &json!({})).status)).collect();
        sending.into_iter().map(|one| one.join().expect("sends")).collect()
    });
    let accepted = statuses.iter().filter(|status| **status == 202).count();
    assert_eq!((accepted, statuses.iter().filter(|status| **status == 503).count()), (5, 35), "{statuses:?}");
    let waiting =
        api(&office, "/lanes")["lanes"].as_array().expect("lanes").iter().find(|l| l["name"] == "narrow").cloned();
    assert_eq!(waiting.map(|lane| lane["queued"].clone()), Some(json!(5)));
}

#[test]
fn databases_that_a_crash_left_behind_are_dropped() {
    let mut office = office("orphans", &[]);
    let old = format!("kanzlei_scratch_{}", "01900000-0000-7000-8000-000000000001".replace('-', ""));
    database().sql("kanzlei_orphans", &format!("CREATE DATABASE {old}")).expect("made");
    office.service.stop(LONG);
    office.restart_service().expect("starts again");
    let left = || database().sql("kanzlei_orphans", &format!("SHOW DATABASES LIKE '{old}'")).expect("listed");
    wait::until(LONG, || left().trim().is_empty().then_some(())).expect("dropped");
}

#[test]
fn a_database_is_prepared_before_jobs_write_into_it() {
    let office = office("prepare", &[]);
    let write = |more: &str| {
        format!(
            "workflow: write\nentries: [{{endpoint: POST /write, access: open, answer: later}}]\nsteps:\n  - sql: harbour\n    statement: INSERT INTO hold (harbour, imo, berth) VALUES ('LIN', '0000000', 'A1')\n{more}  - reply: 204\n"
        )
    };
    database().sql("kanzlei_prepare_harbour", "DROP TABLE kanzlei_done").expect("dropped");
    let listed = said(&client(&office, &["databases"]), 0);
    assert!(
        listed.contains("no table `kanzlei_done`") && listed.contains("kanzlei databases prepare harbour"),
        "{listed}"
    );
    let refused = deploy_texts(&office, &[("w.yaml", &write(""))]);
    assert_eq!((refused.status, &refused.json()["diagnostics"][0]["code"]), (422, &json!("unprepared-database")));
    // Whoever may repeat it needs no table, and neither does a direct request.
    assert_eq!(deploy_texts(&office, &[("w.yaml", &write("    once: false\n"))]).status, 200);
    assert_eq!(deploy_texts(&office, &[("w.yaml", &write("").replace(", answer: later", ""))]).status, 200);
    let printed = said(&client(&office, &["databases", "prepare", "harbour"]), 0);
    assert!(printed.contains("CREATE TABLE IF NOT EXISTS kanzlei_done"), "{printed}");
    let unknown = said(&client(&office, &["databases", "prepare", "harbor"]), 1);
    assert!(unknown.contains("did you mean `harbour`?"), "{unknown}");
    let applied = said(&client(&office, &["databases", "prepare", "harbour", "--apply"]), 0);
    assert!(applied.contains("harbour is prepared"), "{applied}");
    assert_eq!(deploy_texts(&office, &[("w.yaml", &write(""))]).status, 200);
    becomes(&office, &id_of(&post(&office, "/write", &[], &json!({}))), "succeeded");
    let kept =
        database().sql("kanzlei_prepare_harbour", "SELECT COUNT(*), MAX(result LIKE '%count%') FROM kanzlei_done");
    assert_eq!(kept.expect("markers").trim(), "1\t1");
    // A table without transactions cannot be written once.
    database().sql("kanzlei_prepare_harbour", "ALTER TABLE hold ENGINE = MyISAM").expect("altered");
    let refused = deploy_texts(&office, &[("w.yaml", &write("    within: 2s\n"))]);
    assert_eq!(refused.json()["diagnostics"][0]["code"], "no-transactions", "{refused:?}");
}

/// A key is made for a workflow, shown once, used by `call`, rotated and revoked.
#[test]
fn keys_are_made_used_and_revoked() {
    let office = office("keys_used", &[]);
    let guarded = "workflow: guarded\nentries: [{endpoint: GET /guarded, access: key}]\nsteps: [{reply: 200, body: {for: '${run.caller}'}}]\n";
    assert_eq!(deploy_texts(&office, &[("guarded.yaml", guarded)]).status, 200);
    assert!(said(&client(&office, &["keys"]), 0).contains("There are no keys."));
    // The key alone stands on standard output.
    let shown = |args: &[&str]| {
        let made = client(&office, args);
        said(&made, 0);
        String::from_utf8_lossy(&made.stdout).trim().to_owned()
    };
    let key = shown(&["keys", "add", "northern-line", "--owner", "Northern Line", "--for", "guarded"]);
    assert!(key.starts_with("kzk_") && key.len() == 52, "{key}");
    assert!(said(&client(&office, &["call", "guarded"]), 1).contains("A key is needed"));
    assert!(said(&client(&office, &["call", "guarded", "--key", &key]), 0).contains("northern-line"));
    let curl = said(&client(&office, &["call", "guarded", "--key", &key, "--curl"]), 0);
    assert!(curl.contains(&format!("-H 'Authorization: Bearer {key}'")), "{curl}");
    let listed = said(&client(&office, &["keys"]), 0);
    assert!(listed.contains("Northern Line") && !listed.contains(&key), "{listed}");
    let next = shown(&["keys", "rotate", "northern-line", "--overlap", "0"]);
    assert!(said(&client(&office, &["call", "guarded", "--key", &key]), 1).contains("The key is not valid"));
    said(&client(&office, &["call", "guarded", "--key", &next]), 0);
    said(&client(&office, &["keys", "revoke", "northern-line"]), 0);
    said(&client(&office, &["call", "guarded", "--key", &next]), 1);
}
