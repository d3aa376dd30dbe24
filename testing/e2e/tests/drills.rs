//! What is kept when processes die or are only slow, when the database becomes unavailable, and when a clock jumps.
//! Longer ones are `cargo xtask drill`.

use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::time::Duration;

use kanzlei_e2e::calls::*;
use kanzlei_e2e::peer::{self, Peer};
use kanzlei_e2e::*;
use kanzlei_harness::office::{Databases, Office};
use kanzlei_harness::wait;
use serde_json::json;

/// Signals (signal(7)).
const STOP: i32 = 19;
const CONTINUE: i32 = 18;

#[test]
fn an_owner_that_is_only_slow_is_refused() {
    static CALLS: AtomicUsize = AtomicUsize::new(0);
    static GO: AtomicBool = AtomicBool::new(false);
    let office = office("slow", &["jobs.lease=1s"]);
    // The first request is answered on command, those after it at once.
    let peer = Peer::start(|_, stream| {
        if CALLS.fetch_add(1, Ordering::Relaxed) == 0 {
            wait::until(LONG, || GO.load(Ordering::Relaxed).then_some(()));
        }
        peer::answer(stream, "200 OK", "application/json", b"{}");
    });
    let ledger = format!("http://127.0.0.1:{}", office.ports.standins);
    let slow = format!("service: slow\nbase: http://127.0.0.1:{}\nnetwork: private\n", peer.port);
    let books = format!("service: ledger\nbase: {ledger}\nnetwork: private\n");
    let workflow = format!(
        "workflow: owned\nentries: [{{endpoint: POST /owned, access: open, answer: later}}]\nsteps:\n  - {{call: \"GET http://127.0.0.1:{}/slow\"}}\n  - {{call: \"POST {ledger}/ledger/entries\", headers: {{X-Entry: \"${{run.id}}-1\"}}, body: {{n: 1}}}}\n  - reply: 200\n",
        peer.port
    );
    let deployed = deploy_texts(&office, &[("a.yaml", &slow), ("b.yaml", &books), ("c.yaml", &workflow)]);
    assert_eq!(deployed.status, 200, "{deployed:?}");
    let id = id_of(&post(&office, "/owned", &[], &json!({})));
    wait::until(LONG, || (CALLS.load(Ordering::Relaxed) == 1).then_some(())).expect("the first call");
    office.service.signal(STOP);
    let (mut other, _) = office.another(2).expect("a second service");
    let row = || {
        let sql = "SELECT phase, fence, outcomes, changes, ended FROM job WHERE entry = 'POST /owned'";
        database().sql("kanzlei_slow", sql).expect("the job")
    };
    wait::until(LONG, || row().starts_with("11\t").then_some(()))
        .unwrap_or_else(|| panic!("not taken over: {}", row()));
    let ended = row();
    office.service.signal(CONTINUE);
    GO.store(true, Ordering::Relaxed);
    let log = || std::fs::read_to_string(&office.service.log).unwrap_or_default();
    wait::until(LONG, || log().contains("declared dead").then_some(())).unwrap_or_else(|| panic!("{}", log()));
    // It works again, under a new lease; what it came back with changed nothing.
    other.stop(LONG);
    let next = id_of(&post(&office, "/owned", &[], &json!({})));
    becomes(&office, &next, "succeeded");
    let first = row().lines().next().map(|line| format!("{line}\n"));
    assert_eq!(first.as_deref(), Some(ended.as_str()), "{}", log());
    let calls = http("GET", &format!("{ledger}/~/ledger"), &[], b"").json();
    let times: Vec<usize> = calls
        .as_object()
        .expect("keys")
        .iter()
        .filter(|(key, _)| key.starts_with(&id))
        .map(|(_, times)| times.as_array().map_or(0, Vec::len))
        .collect();
    assert_eq!(times, [1], "the step after it was done once: {calls}");
}

#[test]
fn a_direct_run_that_a_crash_ends_leaves_a_trace() {
    static CALLS: AtomicUsize = AtomicUsize::new(0);
    static GO: AtomicBool = AtomicBool::new(false);
    let mut office = office("traced", &[]);
    let peer = Peer::start(|_, stream| {
        CALLS.fetch_add(1, Ordering::Relaxed);
        wait::until(LONG, || GO.load(Ordering::Relaxed).then_some(()));
        peer::answer(stream, "200 OK", "application/json", b"{}");
    });
    let service = format!("service: slow\nbase: http://127.0.0.1:{}\nnetwork: private\n", peer.port);
    let workflow = |name: &str, method: &str| {
        format!("workflow: {name}\nentries: [{{endpoint: POST /{name}, access: open}}]\nsteps:\n  - {{call: \"{method} http://127.0.0.1:{}/x\", body: {{}}}}\n  - reply: 204\n", peer.port)
            .replace(if method == "GET" { ", body: {}" } else { "none" }, "")
    };
    let (writes, reads) = (workflow("writes", "POST"), workflow("reads", "GET"));
    let deployed = deploy_texts(&office, &[("a.yaml", &service), ("b.yaml", &writes), ("c.yaml", &reads)]);
    assert_eq!(deployed.status, 200, "{deployed:?}");
    std::thread::scope(|scope| {
        for name in ["writes", "reads"] {
            let url = format!("{}/{name}", office.public());
            scope.spawn(move || try_http("POST", &url, &[("content-type", "application/json")], b"{}"));
        }
        wait::until(LONG, || (CALLS.load(Ordering::Relaxed) == 2).then_some(())).expect("both are under way");
        office.service.kill();
    });
    GO.store(true, Ordering::Relaxed);
    office.restart_service().expect("starts again");
    let failed = || {
        let runs = api(&office, "/runs?state=failed")["runs"].as_array().cloned().unwrap_or_default();
        (!runs.is_empty()).then_some(runs)
    };
    let runs = wait::until(LONG, failed).expect("a trace");
    assert_eq!((runs.len(), &runs[0]["workflow"]), (1, &json!("writes")), "what only read is not noted: {runs:?}");
    let run = api(&office, &format!("/runs/{}", runs[0]["id"].as_str().expect("an id")));
    let why = run["failure"]["detail"].as_str().expect("why");
    assert!(why.contains("it had begun a call of `slow` by POST"), "{run}");
    // One that ends is recorded by itself, and once.
    assert_eq!(post(&office, "/writes", &[], &json!({})).status, 204);
    office.service.stop(LONG);
    office.restart_service().expect("starts again");
    let all = api(&office, "/runs?workflow=writes")["runs"].as_array().map_or(0, Vec::len);
    assert_eq!(all, 2);
}

#[test]
fn a_clock_that_jumps_moves_nothing() {
    // This one accepts jobs and claims none; the other one's clock jumps, and it runs them all.
    let office = office("clocks", &["jobs.at_once=0", "jobs.lease=1s"]);
    let clock = office.service.log.with_file_name("clock");
    std::fs::write(&clock, "+0").expect("clock");
    let library = "/usr/lib/x86_64-linux-gnu/faketime/libfaketimeMT.so.1";
    let environment = [
        ("LD_PRELOAD", library.to_owned()),
        ("FAKETIME_TIMESTAMP_FILE", clock.display().to_string()),
        ("FAKETIME_NO_CACHE", "1".to_owned()),
        ("FAKETIME_DONT_FAKE_MONOTONIC", "1".to_owned()),
    ];
    let (mut other, ports) =
        office.another_with(2, &["jobs.at_once=64"], &environment, None).expect("a second service");
    let work = "workflow: work\ninput: {n: {type: integer, default: 1}}\nentries: [{endpoint: POST /work, access: open, answer: later}]\nsteps: [{pause: 10ms}, {reply: 204}]\n";
    let later = "workflow: ask\nentries: [{endpoint: POST /ask, access: open}]\nsteps: [{id: q, enqueue: work, after: 10m}, {reply: 200, body: \"${q}\"}]\n";
    let tick = "workflow: tick\nentries: [{every: 1s}]\nsteps: [{reply: 204}]\n";
    let deployed = deploy_texts(&office, &[("a.yaml", work), ("b.yaml", later), ("c.yaml", tick)]);
    assert_eq!(deployed.status, 200, "{deployed:?}");
    let asked = post(&office, "/ask", &[], &json!({})).json();
    let scheduled = asked["job"].as_str().unwrap_or_else(|| panic!("no id: {asked}")).to_owned();
    let ticks = || -> Vec<i64> {
        let sql = "SELECT due DIV 1000000 FROM firing WHERE workflow = 'tick' AND result = 'queued' ORDER BY due";
        let due = database().sql("kanzlei_clocks", sql).expect("firings");
        due.lines().map(|line| line.trim().parse().expect("instant")).collect()
    };
    for jump in ["+0", "+3600", "-7200", "+0"] {
        std::fs::write(&clock, jump).expect("clock");
        // The dates of its HTTP answers show that the machine's time jumped.
        let dated = || -> Option<i64> {
            let answer = try_http("GET", &format!("http://127.0.0.1:{}/~/health", ports.public), &[], b"")?;
            let date = jiff::fmt::rfc2822::parse(answer.header("date")?).ok()?;
            Some(date.timestamp().duration_since(jiff::Timestamp::now()).as_secs())
        };
        let offset: i64 = jump.parse().expect("seconds");
        wait::until(LONG, || dated().filter(|off| (off - offset).abs() < 10)).expect("the clock jumps");
        let before = ticks().len();
        wait::until(LONG, || (ticks().len() >= before + 3).then_some(()))
            .unwrap_or_else(|| panic!("{jump}: no more ticks after {:?}", ticks()));
        let id = id_of(&post(&office, "/work", &[], &json!({})));
        let done = becomes(&office, &id, "succeeded");
        let at = |name: &str| done[name].as_str().expect("instant").parse::<jiff::Timestamp>().expect("instant");
        let late = at("ended").duration_since(at("queued"));
        assert!(late.as_secs().abs() < 20, "{jump}: {done}");
    }
    let all = ticks();
    assert!(all.windows(2).all(|pair| pair[1] == pair[0] + 1), "one firing each second, none elsewhere: {all:?}");
    let still = get(&office, &format!("/~/jobs/{scheduled}"), &[]).json();
    assert_eq!(still["state"], "scheduled", "ten minutes are not over: {still}");
    let log = std::fs::read_to_string(&other.log).unwrap_or_default();
    assert!(!log.contains("declared dead"), "{log}");
    other.stop(LONG);
}

#[test]
fn nothing_is_lost_when_services_are_killed_and_the_database_restarts() {
    let server = drill_server();
    let mut server = server.lock().expect("server");
    let url = server.fresh("kanzlei_drill").expect("database");
    // Its own server: it is stopped and started again.
    let harbour = kanzlei_harness::office::harbour(&server, "kanzlei_drill_harbour").expect("records");
    let dir = kanzlei_harness::scratch::folder("drill");
    let ports = kanzlei_harness::office::Ports::free().expect("ports");
    let settings = ["jobs.lease=2s", "log.level=info"];
    let databases = Databases::with_harbour(url, &harbour, &server);
    let mut office = Office::start(&bins(), &dir.join("office"), databases, ports, &settings).expect("office");
    drill::keep_outcomes(&server, "kanzlei_drill");
    let mut drill = drill::Drill::start(&mut office, vec![drill::Beside::default()], 4, Duration::from_millis(5));
    for round in 0..8 {
        drill.more(20);
        if round % 2 == 1 {
            drill::cut(&mut server);
        }
        drill.kill(round);
    }
    for _ in 0..5 {
        drill.more(10);
        drill::cut(&mut server);
    }
    // The database stops and starts again: accepting answers 503, workers wait.
    server.stop();
    drill.refusal();
    server.run().expect("the database starts again");
    drill.more(50);
    let found = drill.finish(&server, "kanzlei_drill", Duration::from_secs(60));
    println!("{found}");
    assert!(found.good(), "{found}\n{:?} {:?} {:?}", found.stuck, found.repeated_after_journaled, found.not_whole);
    assert!(found.refused > 0, "the database was unavailable");
}

fn drill_server() -> &'static std::sync::Mutex<kanzlei_harness::mariadb::Mariadb> {
    static SERVER: std::sync::OnceLock<std::sync::Mutex<kanzlei_harness::mariadb::Mariadb>> =
        std::sync::OnceLock::new();
    let dir = kanzlei_harness::scratch::folder("drill");
    SERVER
        .get_or_init(|| kanzlei_harness::mariadb::Mariadb::start(&dir.join("database")).expect("MariaDB starts").into())
}

#[test]
fn a_stop_in_the_middle_of_jobs_writes_no_row_twice() {
    let mut office = office("stop", &["workers=2", "databases.harbour.functions=sleep"]);
    let sql = |sql: &str| database().sql("kanzlei_stop_harbour", sql).expect("sql");
    sql("CREATE TABLE done (n INT NOT NULL)");
    let insert = "{sql: harbour, statement: \"INSERT INTO done (n) SELECT :n FROM (SELECT SLEEP(0.15)) slept\", bind: {n: \"${input.n}\"}}";
    let workflow = |name: &str, how: &str| {
        format!(
            "workflow: {name}\ninput: {{n: {{type: integer}}}}\nentries: [{{endpoint: POST /{name}, access: open{how}}}]\nsteps: [{insert}, {{reply: 204}}]\n"
        )
    };
    let (direct, later) = (workflow("direct", ""), workflow("later", ", answer: later"));
    let deployed = deploy_texts(&office, &[("d.yaml", &direct), ("l.yaml", &later)]);
    assert_eq!(deployed.status, 200, "{deployed:?}");
    // Direct requests leave connections behind that jobs use after the listeners have ended.
    std::thread::scope(|scope| {
        (0..16).for_each(|_| _ = scope.spawn(|| post(&office, "/direct", &[], &json!({"n": -1}))));
    });
    let ids: Vec<String> = (0..50).map(|n| id_of(&post(&office, "/later", &[], &json!({"n": n})))).collect();
    let rows = || sql("SELECT COUNT(*) FROM done WHERE n >= 0").trim().parse::<usize>().expect("count");
    wait::until(LONG, || (rows() > 0).then_some(())).expect("some are done");
    office.service.stop(LONG);
    office.restart_service().expect("starts again");
    ids.iter().for_each(|id| _ = becomes(&office, id, "succeeded"));
    assert_eq!((rows(), sql("SELECT COUNT(DISTINCT n) FROM done WHERE n >= 0").trim()), (50, "50"));
}
