//! The service as clients and operators meet it.

use std::io::{BufRead, BufReader, Read, Write};
use std::net::TcpStream;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::time::Duration;

use kanzlei_e2e::peer::{self, Peer};
use kanzlei_e2e::*;
use kanzlei_harness::wait;
use serde_json::{Value as Json, json};

fn api(office: &kanzlei_harness::office::Office, path: &str) -> Json {
    let bearer = format!("Bearer {}", office.token);
    http("GET", &format!("{}/api/v1{path}", office.control()), &[("authorization", &bearer)], b"").json()
}

/// Waits until the journal has as many runs as wanted, newest first.
fn runs(office: &kanzlei_harness::office::Office, query: &str, wanted: usize) -> Vec<Json> {
    let found = wait::until(Duration::from_secs(15), || {
        let listed = api(office, &format!("/runs?limit=100{query}"))["runs"].as_array().cloned().unwrap_or_default();
        (listed.len() >= wanted).then_some(listed)
    });
    found.unwrap_or_else(|| panic!("the journal does not get {wanted} runs: {}", api(office, "/runs")))
}

const ECHO: &str = "workflow: echo\ninput: {id: {type: integer}, text: {type: string, default: none}}\nentries:\n  - {endpoint: 'GET /echo/{id}', access: open}\n  - {endpoint: 'POST /echo/{id}', access: open, limits: {body: 100}}\nsteps:\n  - reply: 200\n    headers: {X-Id: '${input.id}', Content-Length: '5'}\n    body: {id: '${input.id}', text: '${input.text}'}\n";

#[test]
fn answers_follow_the_http_contract() {
    let office = office("contract", &[]);
    assert_eq!(deploy_texts(&office, &[("echo.yaml", ECHO)]).status, 200);
    let url = |path: &str| format!("{}{path}", office.public());
    let json = [("content-type", "application/json")];
    for (method, path, headers, body, status, media) in [
        ("GET", "/echo/5", &[][..], "", 200, "application/json"),
        ("HEAD", "/echo/5", &[], "", 200, "application/json"),
        ("POST", "/echo/5", &json, r#"{"text":"hi"}"#, 200, "application/json"),
        (
            "POST",
            "/echo/5",
            &[("content-type", "application/x-www-form-urlencoded")],
            "text=hi",
            200,
            "application/json",
        ),
        ("GET", "/nowhere", &[], "", 404, "application/problem+json"),
        ("GET", "/~/nowhere", &[], "", 404, "application/problem+json"),
        ("GET", "/echo/%ff", &[], "", 400, "application/problem+json"),
        ("GET", "/echo/five", &[], "", 422, "application/problem+json"),
        ("DELETE", "/echo/5", &[], "", 405, "application/problem+json"),
        ("POST", "/echo/5", &json, "{oops", 400, "application/problem+json"),
        ("POST", "/echo/5", &[("content-type", "text/csv")], "a,b", 415, "application/problem+json"),
        ("POST", "/echo/5", &json, &format!("{{\"text\":\"{}\"}}", "x".repeat(200)), 413, "application/problem+json"),
        ("OPTIONS", "/echo/5", &[], "", 204, ""),
        ("GET", "/~/health", &[], "", 200, "application/json"),
    ] {
        let answer = http(method, &url(path), headers, body.as_bytes());
        assert_eq!(
            (answer.status, answer.header("content-type").unwrap_or("")),
            (status, media),
            "{method} {path}: {answer:?}"
        );
        assert!(answer.header("x-request-id").is_some(), "{method} {path}");
        assert!(!answer.body.contains("panicked"), "{}", answer.body);
    }
    let head = http("HEAD", &url("/echo/5"), &[], b"");
    let get = http("GET", &url("/echo/5"), &[], b"");
    assert_eq!((head.body.as_str(), head.header("content-length")), ("", get.header("content-length")));
    assert_eq!((get.header("x-id"), get.body.as_str()), (Some("5"), r#"{"id":5,"text":"none"}"#));
    assert_eq!(http("DELETE", &url("/echo/5"), &[], b"").header("allow"), Some("GET, POST, HEAD, OPTIONS"));
    let own = http("GET", &url("/echo/5"), &[("x-request-id", "mine-1")], b"");
    assert_eq!(own.header("x-request-id"), Some("mine-1"));
    assert_eq!(runs(&office, "", 1)[0]["workflow"], "echo");
}

fn misbehave(path: &str, stream: &mut std::net::TcpStream) {
    match path.trim_start_matches("/x/") {
        "slow" => std::thread::sleep(Duration::from_millis(1500)),
        "broken" => {
            let _ = stream
                .write_all(b"HTTP/1.1 200 OK\r\nContent-Type: application/json\r\nContent-Length: 100\r\n\r\n{\"a\":");
        }
        "garbage" => {
            let _ = stream.write_all(b"\x00\x01\x02 what\r\n\r\n");
        }
        "not-json" => peer::answer(stream, "200 OK", "application/json", b"{oops"),
        "not-text" => peer::answer(stream, "200 OK", "text/plain", b"\xff\xfe\x00"),
        "large" => peer::answer(stream, "200 OK", "text/plain", &vec![b'x'; 3000]),
        "elsewhere" => {
            let _ = stream
                .write_all(b"HTTP/1.1 302 Found\r\nLocation: http://192.0.2.1/secret\r\nContent-Length: 0\r\n\r\n");
        }
        "within" => {
            let _ = stream.write_all(
                b"HTTP/1.1 302 Found\r\nLocation: /x/good\r\nContent-Length: 0\r\nConnection: close\r\n\r\n",
            );
        }
        "refusal" => {
            peer::answer(stream, "409 Conflict", "application/problem+json", br#"{"detail":"the berth is taken"}"#)
        }
        _ => peer::answer(stream, "200 OK", "application/json", br#"{"ok":true}"#),
    }
}

const OPENAPI: &str = "openapi: 3.1.0\npaths:\n  /x/{what}:\n    get: {operationId: get, parameters: [{name: what, in: path, required: true}]}\n    post: {operationId: post, parameters: [{name: what, in: path, required: true}]}\n";

fn deploy_caller(office: &kanzlei_harness::office::Office, base: &str, network: &str, step: &str) -> Answer {
    let service = format!("service: peer\nbase: {base}\nopenapi: peer.openapi.yaml\nnetwork: {network}\n");
    let workflow = format!(
        "workflow: caller\ninput: {{what: {{type: string}}}}\nentries: [{{endpoint: 'GET /call/{{what}}', access: open, limits: {{time: 5s}}}}]\nsteps:\n{step}\n  - reply: 200\n    body: ${{r.body}}\n"
    );
    let body = json!({"documents": [{"path": "peer.yaml", "text": service}, {"path": "caller.yaml", "text": workflow}], "files": {"peer.openapi.yaml": OPENAPI}});
    let bearer = format!("Bearer {}", office.token);
    http(
        "POST",
        &format!("{}/api/v1/deploys", office.control()),
        &[("authorization", &bearer), ("content-type", "application/json")],
        body.to_string().as_bytes(),
    )
}

#[test]
fn failures_of_services_have_kinds() {
    let office = office("faults", &["limits.answer=2000"]);
    let peer = Peer::start(misbehave);
    let base = format!("http://127.0.0.1:{}", peer.port);
    let step = "  - id: r\n    call: peer.get\n    send: {what: '${input.what}'}\n    within: 500ms";
    assert_eq!(deploy_caller(&office, &base, "private", step).status, 200);
    let call = |what: &str| http("GET", &format!("{}/call/{what}", office.public()), &[], b"");
    assert_eq!(call("good").body, r#"{"ok":true}"#);
    assert_eq!(call("within").body, r#"{"ok":true}"#, "a redirect within the service is followed");
    let cases = [
        ("slow", "timeout", 504, "did not answer within 500ms"),
        ("broken", "broken", 502, "broke"),
        ("garbage", "broken", 502, "broke"),
        ("not-json", "unreadable", 502, "says it is JSON and is not"),
        ("not-text", "unreadable", 502, "says it is text/plain and is not UTF-8"),
        ("large", "too-large", 502, "more than 2000 bytes"),
        ("elsewhere", "redirected", 502, "http://192.0.2.1/secret"),
        ("refusal", "status", 502, "answered 409: the berth is taken"),
    ];
    for (what, _, status, _) in &cases {
        let answer = call(what);
        assert_eq!(answer.status, *status, "{what}: {answer:?}");
        assert!(!answer.body.contains("192.0.2.1"), "what is inside stays inside: {}", answer.body);
    }
    let listed = runs(&office, "&state=failed", cases.len());
    for (run, (what, kind, _, says)) in listed.iter().rev().zip(&cases) {
        let run = api(&office, &format!("/runs/{}", run["id"].as_str().expect("id")));
        assert_eq!(run["failure"]["kind"], *kind, "{what}: {run}");
        assert!(run["failure"]["detail"].as_str().expect("detail").contains(says), "{what}: {}", run["failure"]);
    }

    // A private address that the document does not declare; nobody there; and a network that the host does not allow.
    let refused = deploy_caller(&office, &base, "public", step);
    assert_eq!((refused.status, &refused.json()["diagnostics"][0]["code"]), (422, &json!("private-address")));
    let nobody = kanzlei_harness::ports::free().expect("port");
    for (base, kind) in
        [(format!("http://127.0.0.1:{nobody}"), "unreachable"), ("http://[::1]:9".to_owned(), "blocked-address")]
    {
        let deployed = deploy_caller(&office, &base, "private", step);
        let warned = deployed.body.contains("network.allow");
        assert_eq!((deployed.status, warned), (200, kind == "blocked-address"), "{}", deployed.body);
        assert_eq!(call("good").status, 502);
        let newest = wait::until(Duration::from_secs(10), || {
            let run = api(&office, "/runs?state=failed&limit=1")["runs"][0].clone();
            let run = api(&office, &format!("/runs/{}", run["id"].as_str()?));
            (run["failure"]["kind"] == kind).then_some(run)
        });
        assert!(newest.is_some(), "{kind}: {}", api(&office, "/runs?state=failed&limit=1"));
    }
}

#[test]
fn calls_are_tried_again_and_carry_trace_and_key() {
    let office = office("retry", &[]);
    static COUNT: AtomicUsize = AtomicUsize::new(0);
    let peer = Peer::start(|_, stream| match COUNT.fetch_add(1, Ordering::SeqCst) {
        0 => peer::answer(stream, "503 Service Unavailable", "text/plain", b"later"),
        _ => peer::answer(stream, "200 OK", "application/json", br#"{"ok":true}"#),
    });
    let step =
        "  - id: r\n    call: peer.post\n    send: {what: '${input.what}'}\n    retry: {attempts: 3, first: 10ms}";
    let base = format!("http://127.0.0.1:{}", peer.port);
    let refused = deploy_caller(&office, &base, "private", step);
    assert_eq!(refused.json()["diagnostics"][0]["code"], "unsafe-retry");
    let service =
        format!("service: peer\nbase: {base}\nopenapi: peer.openapi.yaml\nnetwork: private\nidempotency_key: true\n");
    let workflow = format!(
        "workflow: caller\ninput: {{what: {{type: string}}}}\nentries: [{{endpoint: 'GET /call/{{what}}', access: open}}]\nsteps:\n{step}\n  - reply: 200\n    body: ${{r.body}}\n"
    );
    let body = json!({"documents": [{"path": "peer.yaml", "text": service}, {"path": "caller.yaml", "text": workflow}], "files": {"peer.openapi.yaml": OPENAPI}});
    let bearer = format!("Bearer {}", office.token);
    let deployed = http(
        "POST",
        &format!("{}/api/v1/deploys", office.control()),
        &[("authorization", &bearer), ("content-type", "application/json")],
        body.to_string().as_bytes(),
    );
    assert_eq!(deployed.status, 200, "{deployed:?}");

    let trace = "0af7651916cd43dd8448eb211c80319c";
    let answer = http(
        "GET",
        &format!("{}/call/a", office.public()),
        &[("traceparent", &format!("00-{trace}-b7ad6b7169203331-01")), ("x-request-id", "req-7")],
        b"",
    );
    assert_eq!(answer.status, 200, "{answer:?}");
    let heads: Vec<String> = peer.requests().iter().map(|head| head.to_lowercase()).collect();
    assert_eq!(heads.len(), 2);
    let line = |head: &str, name: &str| {
        head.lines().find_map(|line| line.strip_prefix(&format!("{name}: ")).map(str::to_owned))
    };
    for head in &heads {
        assert!(line(head, "traceparent").is_some_and(|t| t.starts_with(&format!("00-{trace}-"))), "{head}");
        assert_eq!(line(head, "x-request-id").as_deref(), Some("req-7"));
        assert_eq!(line(head, "idempotency-key"), line(&heads[0], "idempotency-key"));
    }
    let run = api(&office, &format!("/runs/{}", runs(&office, "", 1)[0]["id"].as_str().expect("id")));
    assert_eq!(
        (run["trace_id"].as_str(), run["request_id"].as_str(), &run["steps"][0]["attempts"]),
        (Some(trace), Some("req-7"), &json!(2))
    );
}

#[test]
fn deploys_are_all_or_nothing_and_outlive_a_restart() {
    let mut office = office("deploys", &[]);
    let workflow = |name: &str, path: &str, body: &str| {
        format!(
            "workflow: {name}\nentries: [{{endpoint: 'GET {path}', access: open}}]\nsteps: [{{reply: 200, body: {body}}}]\n"
        )
    };
    let get = |office: &kanzlei_harness::office::Office, path: &str| {
        http("GET", &format!("{}{path}", office.public()), &[], b"")
    };
    let one = workflow("one", "/one", "1");
    let two = workflow("two", "/two", "2");
    assert_eq!(deploy_texts(&office, &[("one.yaml", &one), ("two.yaml", &two)]).status, 200);

    let broken = deploy_texts(
        &office,
        &[("one.yaml", &workflow("one", "/one", "changed")), ("three.yaml", "workflow: three\nsteps: [{replay: 1}]\n")],
    );
    assert_eq!((broken.status, broken.header("content-type")), (422, Some("application/problem+json")));
    assert_eq!(broken.json()["diagnostics"][0]["code"], "unknown-step");
    assert_eq!(get(&office, "/one").body, "1", "nothing of a refused deploy is live");
    let taken = deploy_texts(&office, &[("thief.yaml", &workflow("thief", "/two", "3"))]);
    assert_eq!(
        (taken.status, taken.json()["diagnostics"][0]["code"].as_str()),
        (422, Some("address-taken")),
        "{taken:?}"
    );

    let again = deploy_texts(&office, &[("one.yaml", &one)]).json();
    assert_eq!((&again["deployed"][0]["revision"], &again["deployed"][0]["unchanged"]), (&json!(1), &json!(true)));
    assert_eq!(
        deploy_texts(&office, &[("one.yaml", &workflow("one", "/uno", "1"))]).json()["deployed"][0]["revision"],
        2
    );
    assert_eq!((get(&office, "/one").status, get(&office, "/uno").status), (404, 200));

    let bearer = format!("Bearer {}", office.token);
    let retired =
        http("DELETE", &format!("{}/api/v1/workflows/two", office.control()), &[("authorization", &bearer)], b"");
    assert_eq!((retired.status, get(&office, "/two").status), (204, 404));
    office.restart_service().expect("restarts");
    assert_eq!((get(&office, "/uno").status, get(&office, "/two").status), (200, 404), "what was live is live");
}

#[test]
fn deploys_under_load_drop_and_mix_nothing() {
    let office = office("load", &[]);
    let text = |n: u32| {
        format!(
            "workflow: w\nentries: [{{endpoint: 'GET /w', access: open}}]\nsteps:\n  - let: {{a: {n}}}\n  - reply: 200\n    body: '${{a}}-{n}'\n"
        )
    };
    assert_eq!(deploy_texts(&office, &[("w.yaml", &text(0))]).status, 200);
    let (stop, answers) = (AtomicBool::new(false), AtomicUsize::new(0));
    let url = format!("{}/w", office.public());
    std::thread::scope(|scope| {
        for _ in 0..4 {
            scope.spawn(|| {
                let mut last = 0;
                while !stop.load(Ordering::Relaxed) {
                    let answer = http("GET", &url, &[], b"");
                    assert_eq!(answer.status, 200, "{answer:?}");
                    let (a, b) = answer.body.split_once('-').expect("two parts");
                    assert_eq!(a, b, "one answer from two revisions");
                    let n: u32 = a.parse().expect("number");
                    assert!(n >= last, "an older revision after a newer one");
                    last = n;
                    answers.fetch_add(1, Ordering::Relaxed);
                }
            });
        }
        for n in 1..=40 {
            assert_eq!(deploy_texts(&office, &[("w.yaml", &text(n))]).status, 200);
            assert_eq!(
                http("GET", &url, &[], b"").body,
                format!("{n}-{n}"),
                "a deploy is in force when it is answered"
            );
        }
        stop.store(true, Ordering::Relaxed);
    });
    assert!(answers.load(Ordering::Relaxed) > 40, "{answers:?}");
}

#[test]
fn endpoints_answer_while_the_database_is_unavailable() {
    // A server of its own, because this test stops it.
    let dir = kanzlei_harness::scratch::folder("unavailable");
    let mut server = kanzlei_harness::mariadb::Mariadb::start(&dir).expect("MariaDB");
    let office = office_on("unavailable", &server.url("kanzlei"), &["journal.bytes=65536"]);
    let text = "workflow: w\ninput: {n: {type: integer}}\nentries: [{endpoint: 'GET /w/{n}', access: open}]\nsteps:\n  - if: input.n < 0\n    then: [{fail: 409, title: Negative}]\n  - reply: 200\n";
    assert_eq!(deploy_texts(&office, &[("w.yaml", text)]).status, 200);
    server.stop();
    for n in 0..600 {
        assert_eq!(http("GET", &format!("{}/w/{n}", office.public()), &[], b"").status, 200);
        if n % 30 == 0 {
            assert_eq!(http("GET", &format!("{}/w/-{}", office.public(), n + 1), &[], b"").status, 409);
        }
    }
    let refused = deploy_texts(&office, &[("w.yaml", &text.replace("Negative", "Below zero"))]);
    assert_eq!(refused.status, 503, "{refused:?}");
    let health = wait::until(Duration::from_secs(10), || {
        let health = http("GET", &format!("{}/~/health", office.public()), &[], b"").json();
        (health["database"] == "unavailable").then_some(health)
    });
    assert!(health.expect("it is known to be unavailable")["journal"]["dropped"].as_u64().expect("count") > 100);
    server.run().expect("starts again");
    let failed = runs(&office, "&state=rejected", 20);
    assert_eq!(failed.len(), 20, "no rejected run is dropped");
    let counted = wait::until(Duration::from_secs(15), || {
        let day = api(&office, "/workflows")["workflows"][0]["day"].clone();
        (day["runs"] == 620).then_some(day)
    });
    assert_eq!(counted.expect("every run is counted")["rejected"], 20);
    drop(office);
    drop(server);
    let _ = std::fs::remove_dir_all(dir);
}

#[test]
fn runs_are_counted_while_others_arrive_without_a_pause() {
    let office = office("pause", &[]);
    assert_eq!(deploy_texts(&office, &[("echo.yaml", ECHO)]).status, 200);
    let done = std::sync::atomic::AtomicBool::new(false);
    let counted = std::thread::scope(|scope| {
        for sender in 0..3 {
            let (done, url) = (&done, format!("{}/echo/{sender}", office.public()));
            scope.spawn(move || {
                while !done.load(std::sync::atomic::Ordering::Relaxed) {
                    http("GET", &url, &[], b"");
                }
            });
        }
        let counted = wait::until(Duration::from_secs(20), || {
            let day = api(&office, "/workflows")["workflows"][0]["day"]["runs"].as_u64().unwrap_or_default();
            let steps =
                api(&office, "/workflows/echo/statistics")["steps"][0]["counted"]["runs"].as_u64().unwrap_or_default();
            (day > 20 && steps > 20).then_some(())
        });
        done.store(true, std::sync::atomic::Ordering::Relaxed);
        counted
    });
    assert!(counted.is_some(), "counts grow while senders send");
}

/// Resident memory of a process in MiB.
fn resident(process: u32) -> u64 {
    let status = std::fs::read_to_string(format!("/proc/{process}/status")).expect("a process");
    let line = status.lines().find_map(|line| line.strip_prefix("VmRSS:")).expect("its memory");
    line.trim().trim_end_matches(" kB").trim().parse::<u64>().expect("a number") / 1024
}

#[test]
fn a_database_that_hangs_takes_no_more_memory_than_configured() {
    const LARGE: usize = 300 << 10;
    let dir = kanzlei_harness::scratch::folder("hangs");
    let server = kanzlei_harness::mariadb::Mariadb::start(&dir).expect("MariaDB");
    let bounds = ["journal.bytes=16777216", "jobs.bytes=16777216"];
    let office = office_on("hangs", &server.url("kanzlei"), &bounds);
    let text = "workflow: NAME\ninput: {text: {type: string}}\nentries: [{endpoint: POST /NAME, access: open, answer: HOW}]\nsteps:\n  - {let: {twice: '${input.text}'}}\n  - {reply: 200, body: '${input.text}'}\n";
    let (direct, queued) =
        (text.replace("NAME", "direct").replace("HOW", "now"), text.replace("NAME", "queued").replace("HOW", "later"));
    assert_eq!(deploy_texts(&office, &[("direct.yaml", &direct), ("queued.yaml", &queued)]).status, 200);
    let body = serde_json::json!({"text": "x".repeat(LARGE)}).to_string();
    let send = |path: &str| {
        let url = format!("{}/{path}", office.public());
        http("POST", &url, &[("content-type", "application/json")], body.as_bytes()).status
    };
    for _ in 0..30 {
        assert_eq!((send("direct"), send("queued")), (200, 202));
    }
    let peer = Peer::start(|_, stream| {
        let answer = format!("\"{}\"", "x".repeat(4 << 20));
        peer::answer(stream, "200 OK", "application/json", answer.as_bytes());
    });
    let asks = "workflow: asks\nentries: [{endpoint: POST /asks, access: open}]\nsteps:\n  - {id: r, call: 'GET BASE/x'}\n  - {reply: 200, body: '${r.status}'}\n";
    let base = format!("http://127.0.0.1:{}", peer.port);
    let service = format!("service: large\nbase: {base}\nnetwork: private\n");
    let asks = asks.replace("BASE", &base);
    assert_eq!(deploy_texts(&office, &[("s.yaml", &service), ("asks.yaml", &asks)]).status, 200);
    let ask = || http("POST", &format!("{}/asks", office.public()), &[], b"").status;
    for _ in 0..4 {
        assert_eq!(ask(), 200);
    }
    let before = resident(office.service.id());
    server.freeze(true);
    // 180 MB of direct runs, 160 MB of answers, and jobs of 30 MB whose clients come at the same time.
    for n in 0..600 {
        assert_eq!(send("direct"), 200);
        if n % 15 == 0 {
            assert_eq!(ask(), 200);
        }
    }
    let statuses = std::thread::scope(|scope| {
        let clients: Vec<_> = (0..100).map(|_| scope.spawn(|| send("queued"))).collect();
        wait::until(Duration::from_secs(60), || {
            clients.iter().filter(|one| one.is_finished()).count().gt(&50).then_some(())
        })
        .expect("those beyond the bound are refused at once");
        let during = resident(office.service.id());
        println!("{before} MiB before, {during} MiB while the database hangs");
        assert!(during < before + 130, "{before} MiB before, {during} MiB while the database hangs");
        server.freeze(false);
        clients.into_iter().map(|client| client.join().expect("a client")).collect::<Vec<_>>()
    });
    let accepted = statuses.iter().filter(|status| **status == 202).count();
    assert!(statuses.iter().all(|status| matches!(status, 202 | 503)) && accepted > 0, "{statuses:?}");
    let dropped = wait::until(Duration::from_secs(20), || {
        let health = http("GET", &format!("{}/~/health", office.public()), &[], b"").json();
        (health["database"] == "available").then(|| health["journal"]["dropped"].as_u64().expect("a count"))
    });
    assert!(dropped.expect("it is back") > 300, "{dropped:?}: details beyond the bound are dropped and counted");
    drop(office);
    drop(server);
    let _ = std::fs::remove_dir_all(dir);
}

#[test]
fn a_database_that_hangs_is_said_to() {
    let dir = kanzlei_harness::scratch::folder("silent");
    let server = kanzlei_harness::mariadb::Mariadb::start(&dir).expect("MariaDB");
    let office = office_on("silent", &server.url("kanzlei"), &[]);
    let text = "workflow: later\nentries: [{endpoint: POST /later, access: open, answer: later}]\nsteps: [{pause: 1h}, {reply: 204}]\n";
    assert_eq!(deploy_texts(&office, &[("later.yaml", text)]).status, 200);
    let url = |path: &str| format!("{}{path}", office.public());
    let job = http("POST", &url("/later"), &[], b"").json()["id"].as_str().expect("an id").to_owned();
    server.freeze(true);
    // All of these are answered while it hangs.
    let key = [("idempotency-key", "\"k\"")];
    for (method, path, headers) in [
        ("GET", format!("/~/jobs/{job}"), &[][..]),
        ("GET", format!("/~/jobs/{job}/result"), &[]),
        ("GET", format!("/~/jobs/{job}/events"), &[]),
        ("DELETE", format!("/~/jobs/{job}"), &[]),
        ("POST", "/later".into(), &[]),
        ("POST", "/later".into(), &key),
        ("POST", "/~/callbacks/none".into(), &[]),
    ] {
        let answer = http(method, &url(&path), headers, b"");
        let title = answer.json()["title"].as_str().unwrap_or_default().to_owned();
        assert_eq!((answer.status, title.as_str()), (503, "The database is unavailable"), "{method} {path}");
        assert_eq!(answer.header("retry-after"), Some("2"), "{method} {path}");
    }
    let health = || http("GET", &url("/~/health"), &[], b"").json();
    assert_eq!((&health()["status"], &health()["database"]), (&json!("warn"), &json!("unavailable")));
    server.freeze(false);
    wait::until(Duration::from_secs(20), || (health()["status"] == "pass").then_some(())).expect("it answers again");
    assert_eq!(http("GET", &url(&format!("/~/jobs/{job}")), &[], b"").status, 200);
    drop(office);
    drop(server);
    let _ = std::fs::remove_dir_all(dir);
}

/// A database without room: the cause is in the answer, the log and the health, and nothing that was accepted is lost.
#[test]
fn a_full_database_is_named_and_recovers() {
    let dir = kanzlei_harness::scratch::folder("full");
    let size = |most: &str| {
        ["--innodb-file-per-table=0".to_owned(), format!("--innodb-data-file-path=ibdata1:12M:autoextend:max:{most}")]
    };
    let small = size("48M");
    let mut server =
        kanzlei_harness::mariadb::Mariadb::start_with(&dir, &small.each_ref().map(String::as_str)).expect("MariaDB");
    let office = office_on("full", &server.url("kanzlei"), &["jobs.at_once=0"]);
    let text = "workflow: later\ninput: {text: {type: string}}\nentries: [{endpoint: POST /later, access: open, answer: later}]\nsteps: [{reply: 204}]\n";
    assert_eq!(deploy_texts(&office, &[("later.yaml", text)]).status, 200);
    let body = json!({"text": "x".repeat(900 << 10)}).to_string();
    let send = || {
        let headers = [("content-type", "application/json")];
        http("POST", &format!("{}/later", office.public()), &headers, body.as_bytes())
    };
    let mut accepted = 0;
    let refused = loop {
        let answer = send();
        if answer.status != 202 {
            break answer;
        }
        accepted += 1;
        assert!(accepted < 100, "it does not fill");
    };
    let title = refused.json()["title"].as_str().unwrap_or_default().to_owned();
    assert_eq!((refused.status, title.as_str()), (503, "The database is full"), "{refused:?}");
    let health = || http("GET", &format!("{}/~/health", office.public()), &[], b"").json();
    assert_eq!((&health()["status"], &health()["database"]), (&json!("warn"), &json!("full")));
    assert_eq!(api(&office, "/status")["database"], "full");
    let log = std::fs::read_to_string(&office.service.log).expect("a log");
    assert!(log.contains("is full"), "{log}");
    // There is room again.
    server.stop();
    server.args = size("400M").to_vec();
    server.run().expect("starts again");
    let again = wait::until(Duration::from_secs(30), || (send().status == 202).then_some(()));
    again.expect("jobs are accepted again");
    wait::until(Duration::from_secs(30), || (health()["status"] == "pass").then_some(())).expect("all is well again");
    let kept = server.sql("kanzlei", "SELECT COUNT(*) FROM job").expect("a count");
    assert!(kept.trim().parse::<u32>().is_ok_and(|kept| kept > accepted), "{kept} of {accepted} and one more");
    drop(office);
    drop(server);
    let _ = std::fs::remove_dir_all(dir);
}

/// Open event streams end first when the service stops, with a hint to come back; it does not wait for them.
#[test]
fn stopping_ends_event_streams() {
    let mut office = office("streams", &["limits.shutdown=60s"]);
    let text = "workflow: later\nentries: [{endpoint: POST /later, access: open, answer: later}]\nsteps: [{pause: 1h}, {reply: 204}]\n";
    assert_eq!(deploy_texts(&office, &[("later.yaml", text)]).status, 200);
    let job =
        http("POST", &format!("{}/later", office.public()), &[], b"").json()["id"].as_str().expect("an id").to_owned();
    let streams: Vec<_> = (0..200)
        .map(|_| {
            let mut stream = std::net::TcpStream::connect(("127.0.0.1", office.ports.public)).expect("connects");
            stream.set_read_timeout(Some(Duration::from_secs(30))).expect("a timeout");
            write!(stream, "GET /~/jobs/{job}/events HTTP/1.1\r\nHost: office\r\n\r\n").expect("asks");
            let mut status = [0; 12];
            stream.read_exact(&mut status).expect("answers");
            assert_eq!(&status, b"HTTP/1.1 200");
            stream
        })
        .collect();
    let url = format!("{}/~/jobs/{job}", office.public());
    let poll = std::thread::spawn(move || http("GET", &url, &[("prefer", "wait=30")], b""));
    let readers: Vec<_> = streams
        .into_iter()
        .map(|mut stream| {
            std::thread::spawn(move || {
                let mut all = String::new();
                stream.read_to_string(&mut all).map(|_| all)
            })
        })
        .collect();
    wait::until(Duration::from_secs(20), || {
        let followed = api(&office, &format!("/jobs/{job}"));
        (followed["state"] == "waiting").then_some(())
    })
    .expect("the job waits");
    office.service.stop(Duration::from_secs(20));
    for reader in readers {
        let all = reader.join().expect("a reader").expect("the stream ends");
        assert!(all.contains("retry: 1000") && all.contains("come back"), "{all}");
    }
    assert!(poll.join().is_ok_and(|answer| answer.status == 200));
}

#[test]
fn stopping_finishes_what_is_in_flight() {
    let mut office = office("stopping", &[]);
    let peer = Peer::start(|_, stream| {
        std::thread::sleep(Duration::from_millis(700));
        peer::answer(stream, "200 OK", "application/json", br#"{"ok":true}"#);
    });
    let step = "  - id: r\n    call: peer.get\n    send: {what: '${input.what}'}";
    assert_eq!(deploy_caller(&office, &format!("http://127.0.0.1:{}", peer.port), "private", step).status, 200);
    let url = format!("{}/call/a", office.public());
    let request = std::thread::spawn(move || http("GET", &url, &[], b""));
    wait::until(Duration::from_secs(10), || (!peer.requests().is_empty()).then_some(()))
        .expect("the call is on its way");
    office.service.stop(Duration::from_secs(20));
    assert_eq!(request.join().expect("answered").body, r#"{"ok":true}"#);
    office.restart_service().expect("restarts");
    assert_eq!(runs(&office, "", 1)[0]["status"], 200, "the journal was flushed");
}

/// A process that drains says so, and still answers; a second signal ends that.
#[test]
fn stopping_is_announced_before_requests_are_refused() {
    let mut office = office("draining", &["limits.drain=10m"]);
    let text = "workflow: quick\nentries: [{endpoint: GET /quick, access: open}]\nsteps: [{reply: 200, body: here}]\n";
    assert_eq!(deploy_texts(&office, &[("quick.yaml", text)]).status, 200);
    let (public, control) = (office.public(), office.control());
    let ready = |listener: &str| {
        let answer = http("GET", &format!("{listener}/~/ready"), &[], b"");
        (answer.status, answer.json()["status"].as_str().unwrap_or_default().to_owned())
    };
    assert_eq!(ready(&public), (200, "ready".to_owned()));
    office.service.terminate();
    wait::until(Duration::from_secs(10), || (ready(&public).0 == 503).then_some(())).expect("it says that it stops");
    assert_eq!(ready(&control), (503, "stopping".to_owned()));
    assert_eq!(http("GET", &format!("{public}/quick"), &[], b"").body, "here");
    assert_eq!(http("GET", &format!("{public}/~/live"), &[], b"").status, 200);
    office.service.terminate();
    wait::until(Duration::from_secs(20), || office.service.ended()).expect("it ends");
}

/// A connection without a request is closed after its time, and at once when the service stops.
#[test]
fn idle_connections_are_closed() {
    for (settings, stops) in [(&["limits.idle=1s"][..], false), (&[], true)] {
        let mut office = office("idle", settings);
        let mut connection = TcpStream::connect(("127.0.0.1", office.ports.public)).expect("connects");
        connection.set_read_timeout(Some(Duration::from_secs(20))).expect("a timeout");
        connection.write_all(b"GET /~/live HTTP/1.1\r\nHost: x\r\n\r\n").expect("asks");
        let mut first = [0];
        connection.read_exact(&mut first).expect("an answer");
        if stops {
            office.service.terminate();
        }
        connection.read_to_end(&mut Vec::new()).expect("the service closes it");
        if stops {
            wait::until(Duration::from_secs(10), || office.service.ended()).expect("it ends");
        }
    }
}

#[test]
fn a_run_has_its_time_and_goes_on_without_its_client() {
    let office = office("time", &[]);
    let peer = Peer::start(|path, stream| {
        std::thread::sleep(Duration::from_millis(if path.ends_with("long") { 2500 } else { 300 }));
        peer::answer(stream, "200 OK", "application/json", br#"{"ok":true}"#);
    });
    let step = "  - id: r\n    call: peer.get\n    send: {what: '${input.what}'}";
    let base = format!("http://127.0.0.1:{}", peer.port);
    assert_eq!(deploy_caller(&office, &base, "private", step).status, 200);
    let short = "workflow: caller\ninput: {what: {type: string}}\nentries: [{endpoint: 'GET /call/{what}', access: open, limits: {time: 1s}}]\nsteps:\n  - id: r\n    call: peer.get\n    send: {what: '${input.what}'}\n  - reply: 200\n    body: ${r.body}\n";
    assert_eq!(deploy_texts(&office, &[("caller.yaml", short)]).status, 200);
    let answer = http("GET", &format!("{}/call/long", office.public()), &[], b"");
    assert_eq!((answer.status, answer.json()["title"].as_str()), (504, Some("The request took too long")));

    // This client hangs up before the answer is there.
    let mut impatient = std::net::TcpStream::connect(("127.0.0.1", office.ports.public)).expect("connects");
    impatient.write_all(b"GET /call/soon HTTP/1.1\r\nHost: x\r\n\r\n").expect("asks");
    wait::until(Duration::from_secs(10), || (peer.requests().len() >= 2).then_some(()))
        .expect("the call is on its way");
    drop(impatient);
    assert_eq!(runs(&office, "&state=succeeded", 1).len(), 1);
}

#[test]
fn a_long_run_lets_others_have_their_turn() {
    // One thread for all requests, and a run that takes a hundred thousand steps on it.
    let office = office("turns", &["workers=1"]);
    let long = "workflow: long\nentries: [{endpoint: GET /long, access: open}]\nsteps:\n  - {each: x, in: list.range(100000), steps: [{let: {y: '${x}'}}]}\n  - {reply: 200, body: done}\n";
    let quick = "workflow: quick\nentries: [{endpoint: GET /quick, access: open}]\nsteps: [{reply: 200, body: here}]\n";
    assert_eq!(deploy_texts(&office, &[("long.yaml", long), ("quick.yaml", quick)]).status, 200);
    let mut stream = std::net::TcpStream::connect(("127.0.0.1", office.ports.public)).expect("connects");
    stream.write_all(b"GET /long HTTP/1.1\r\nHost: x\r\nConnection: close\r\n\r\n").expect("asks");
    assert_eq!(http("GET", &format!("{}/quick", office.public()), &[], b"").body, "here");
    stream.set_nonblocking(true).expect("set");
    let early = stream.read(&mut [0; 16]);
    assert!(
        early.is_err_and(|e| e.kind() == std::io::ErrorKind::WouldBlock),
        "the long run ended before the quick one"
    );
    stream.set_nonblocking(false).expect("set");
    let mut answer = String::new();
    stream.read_to_string(&mut answer).expect("an answer");
    assert!(answer.starts_with("HTTP/1.1 200") && answer.ends_with("done"), "{answer}");
}

#[test]
fn the_control_listener_lets_only_operators_in() {
    let office = office("access", &[]);
    let url = |path: &str| format!("{}/api/v1{path}", office.control());
    for headers in [&[][..], &[("authorization", "Bearer wrong")], &[("cookie", "kanzlei_session=wrong")]] {
        for (method, path) in
            [("GET", "/workflows"), ("POST", "/deploys"), ("DELETE", "/workflows/x"), ("GET", "/nothing")]
        {
            assert_eq!(http(method, &url(path), headers, b"{}").status, 401, "{method} {path} {headers:?}");
        }
    }
    let json = ("content-type", "application/json");
    assert_eq!(http("POST", &url("/session"), &[json], br#"{"token":"wrong"}"#).status, 401);
    let signed_in = http("POST", &url("/session"), &[json], json!({"token": office.token}).to_string().as_bytes());
    let cookie = signed_in.header("set-cookie").expect("cookie").to_owned();
    assert!(cookie.contains("HttpOnly") && cookie.contains("SameSite=Strict"), "{cookie}");
    let cookie = cookie.split(';').next().expect("value");
    let csrf = signed_in.json()["csrf"].as_str().expect("csrf").to_owned();
    let own = ("cookie", cookie);
    assert_eq!(http("GET", &url("/workflows"), &[own], b"").status, 200);
    let body = json!({"documents": [{"path": "e.yaml", "text": ECHO}]}).to_string();
    assert_eq!(http("POST", &url("/deploys"), &[own, json], body.as_bytes()).status, 403, "no CSRF token");
    assert_eq!(http("POST", &url("/deploys"), &[own, json, ("x-csrf-token", &csrf)], body.as_bytes()).status, 200);
    assert_eq!(http("DELETE", &url("/session"), &[own, ("x-csrf-token", &csrf)], b"").status, 204);
    assert_eq!(http("GET", &url("/workflows"), &[own], b"").status, 401);
    let shown = database().sql("kanzlei_access", "SELECT hash FROM operator_token").expect("sql");
    assert!(!shown.contains(office.token.trim()), "tokens are kept as hashes");
}

#[test]
fn too_many_requests_at_once_are_refused() {
    let office = office("crowd", &["limits.in_flight=2"]);
    let peer = Peer::start(|_, stream| {
        std::thread::sleep(Duration::from_millis(600));
        peer::answer(stream, "200 OK", "application/json", b"{}");
    });
    let step = "  - id: r\n    call: peer.get\n    send: {what: '${input.what}'}";
    assert_eq!(deploy_caller(&office, &format!("http://127.0.0.1:{}", peer.port), "private", step).status, 200);
    let url = format!("{}/call/a", office.public());
    let busy: Vec<_> = (0..2)
        .map(|_| {
            let url = url.clone();
            std::thread::spawn(move || http("GET", &url, &[], b"").status)
        })
        .collect();
    wait::until(Duration::from_secs(10), || (peer.requests().len() >= 2).then_some(()))
        .expect("both are being worked on");
    let turned_away = http("GET", &url, &[], b"");
    assert_eq!((turned_away.status, turned_away.header("retry-after")), (503, Some("1")));
    assert!(busy.into_iter().all(|thread| thread.join().expect("ends") == 200));
    assert_eq!(http("GET", &url, &[], b"").status, 200, "there is room again");
}

#[test]
fn slow_bodies_occupy_no_place_of_others() {
    let office = office("slow", &["limits.in_flight=2", "limits.arriving=4", "limits.arriving_of_peer=3"]);
    let echo = "workflow: echo\ninput: {n: {type: integer}}\nentries: [{endpoint: POST /echo, access: open}]\nsteps: [{reply: 200, body: '${input.n}'}]\n";
    assert_eq!(deploy_texts(&office, &[("echo.yaml", echo)]).status, 200);
    let slow = || {
        let mut stream = TcpStream::connect(("127.0.0.1", office.ports.public)).expect("connects");
        stream.set_read_timeout(Some(Duration::from_secs(30))).expect("a timeout");
        let head = "POST /echo HTTP/1.1\r\nHost: x\r\nContent-Type: application/json\r\nContent-Length: 9\r\n\r\n{";
        stream.write_all(head.as_bytes()).expect("sends");
        stream
    };
    let status = |stream: &TcpStream| {
        let mut line = String::new();
        BufReader::new(stream).read_line(&mut line).expect("an answer");
        line.split(' ').nth(1).unwrap_or_default().to_owned()
    };
    let echoed =
        || http("POST", &format!("{}/echo", office.public()), &[("content-type", "application/json")], b"{\"n\": 7}");
    // Two that send slowly are as many as may be in flight, and are not in flight.
    let mut two = [slow(), slow()];
    for _ in 0..5 {
        assert_eq!(echoed().status, 200);
    }
    // A third from the same address, and then there is no place for more.
    let third = slow();
    wait::until(Duration::from_secs(10), || (echoed().status == 503).then_some(())).expect("three arrive");
    // One that goes on to its end is answered; the others do not arrive in time.
    two[0].write_all(b"\"n\": 12}").expect("sends");
    assert_eq!(status(&two[0]), "200");
    assert_eq!((status(&two[1]), status(&third)), ("408".into(), "408".into()), "less than a kilobyte a second");
    assert_eq!(echoed().status, 200);
}
