//! Commands against a control API that answers what a test wants: what each asks for, and how it ends.

mod call;
mod documents;
mod parts;

use std::io::{BufRead, BufReader, Read, Write};
use std::net::TcpListener;
use std::sync::mpsc::{Receiver, channel};

use clap::Parser;
use serde_json::{Value as Json, json};

use crate::{Error, args, commands};

/// A request as the API received it: its first line, and its body.
type Asked = (String, Json);

/// A listener on loopback that answers each request with the next answer, and afterwards with the last one.
fn api(answers: Vec<(u16, Json)>) -> (String, Receiver<Asked>) {
    let listener = TcpListener::bind("127.0.0.1:0").expect("a port");
    let url = format!("http://{}", listener.local_addr().expect("an address"));
    let (sender, asked) = channel();
    std::thread::spawn(move || {
        let mut answers = answers.into_iter().peekable();
        let mut last = (404, Json::Null);
        for stream in listener.incoming() {
            let mut stream = BufReader::new(stream.expect("a connection"));
            let (mut line, mut length) = (String::new(), 0);
            stream.read_line(&mut line).expect("a line");
            loop {
                let mut header = String::new();
                stream.read_line(&mut header).expect("a header");
                let Some((name, value)) = header.trim().split_once(": ") else { break };
                if name.eq_ignore_ascii_case("content-length") {
                    length = value.parse().expect("a length");
                }
            }
            let mut body = vec![0; length];
            stream.read_exact(&mut body).expect("a body");
            last = answers.next().unwrap_or(last);
            let text = last.1.to_string();
            let line = line.trim().trim_end_matches(" HTTP/1.1").replacen("/api/v1", "", 1);
            let _ = sender.send((line, serde_json::from_slice(&body).unwrap_or(Json::Null)));
            let head = format!("HTTP/1.1 {} x\r\ncontent-length: {}\r\nconnection: close\r\n\r\n", last.0, text.len());
            let _ = stream.get_mut().write_all((head + &text).as_bytes());
        }
    });
    (url, asked)
}

/// Runs a command line against an API.
fn run(url: &str, line: &[&str]) -> Result<(), Error> {
    let place = ["kanzlei", "--url", url, "--token", "t"];
    commands::run(args::Args::try_parse_from(place.iter().chain(line).copied()).expect("a command line"))
}

fn absent() -> Vec<(u16, Json)> {
    vec![(404, json!({"title": "Not found", "detail": "there is none"}))]
}

const ID: &str = "0195a1b2-0000-7000-8000-000000000001";

#[test]
fn each_command_asks_for_what_it_means() {
    for (line, wanted) in [
        (vec!["list"], "GET /workflows"),
        (vec!["show", "a b"], "GET /workflows/a%20b"),
        (vec!["call", "w"], "GET /workflows/w"),
        (vec!["retire", "w"], "DELETE /workflows/w"),
        (vec!["services"], "GET /services?day=true"),
        (vec!["service", "show", "s"], "GET /services/s"),
        (vec!["service", "retire", "s"], "DELETE /services/s"),
        (vec!["openapi"], "GET /openapi"),
        (vec!["runs"], "GET /runs?limit=20"),
        (vec!["runs", "w", "--failed", "--limit", "5"], "GET /runs?workflow=w&state=failed&limit=5"),
        (
            vec!["runs", "--state", "rejected", "--before", ID],
            &format!("GET /runs?state=rejected&before={ID}&limit=20"),
        ),
        (
            vec!["runs", "--since", "2h", "--status", "5xx", "--text", "a b", "--entry", "/quotes"],
            "GET /runs?status=5xx&since=2h&entry=%2Fquotes&text=a+b&limit=20",
        ),
        (vec!["run", ID], &format!("GET /runs/{ID}")),
        (vec!["run", "last"], "GET /runs?limit=1"),
        (vec!["record", ID], &format!("GET /runs/{ID}/case")),
        (vec!["record", ID, "--draft"], &format!("POST /runs/{ID}/case")),
        (vec!["refusals", "--status", "422"], "GET /refusals?status=422&limit=20"),
        (
            vec!["deliveries", "w", "--state", "unfit", "--since", "2h"],
            "GET /deliveries?workflow=w&state=unfit&since=2h&limit=20",
        ),
        (vec!["delivery", ID], &format!("GET /deliveries/{ID}")),
        (vec!["delivery", "last"], "GET /deliveries?limit=1"),
        (vec!["redeliver", "--workflow", "w"], "POST /deliveries/process"),
        (vec!["propose", "w"], "POST /deliveries/input"),
        (vec!["send-webhook", "w", "--body", "Cargo.toml"], "POST /deliveries/sign"),
        (vec!["usage", "k", "--days", "30"], "GET /usage?key=k&days=30"),
        (vec!["find", "a/b"], "GET /jobs?request_id=a%2Fb"),
        (vec!["jobs", "--lane", "main", "--text", "x y"], "GET /jobs?lane=main&text=x+y&limit=20"),
        (vec!["jobs", "--due-from", "2027-03-04T00:00:00Z"], "GET /jobs?due_from=2027-03-04T00%3A00%3A00Z&limit=20"),
        (
            vec!["jobs", "--state", "failed,rejected", "--ended-from", "2027-03-04T12:00:00Z", "--failure", "503"],
            "GET /jobs?state=failed%2Crejected&ended_from=2027-03-04T12%3A00%3A00Z&failure=503&limit=20",
        ),
        (vec!["job", ID], &format!("GET /jobs/{ID}")),
        (vec!["job", "last"], "GET /jobs?limit=1"),
        (vec!["lanes"], "GET /lanes"),
        (vec!["lane", "empty", "a"], "POST /lanes/a/empty"),
        (vec!["alerts"], "GET /alerts"),
        (vec!["coming"], "GET /coming?minutes=60"),
        (vec!["coming", "week"], "GET /coming?minutes=10080"),
        (vec!["alert", "silence", "a", "--for", "2h", "--reason", "r"], "PUT /alerts/a/silence"),
        (vec!["alert", "retire", "a"], "DELETE /alerts/a"),
        (vec!["alert", "speak", "a"], "DELETE /alerts/a/silence"),
        (vec!["timetables"], "GET /timetables"),
        (vec!["timetable", "fire", "w", "2"], "POST /timetables/w/2/fire"),
        (vec!["databases"], "GET /databases"),
        (vec!["databases", "prepare", "d"], "GET /databases/d"),
        (vec!["databases", "prepare", "d", "--apply"], "POST /databases/d/prepare"),
        (vec!["secrets"], "GET /secrets"),
        (vec!["operators", "revoke", "o"], "DELETE /operators/o"),
        (vec!["secrets", "remove", "s"], "DELETE /secrets/s"),
    ] {
        let (url, asked) = api(absent());
        let ended = run(&url, &line);
        assert_eq!(asked.try_recv().map(|(line, _)| line).as_deref(), Ok(wanted), "{line:?}: {ended:?}");
    }
}

#[test]
fn a_change_of_jobs_names_them_or_selects_them() {
    for (line, wanted) in [
        (vec!["cancel", ID], json!({"action": "cancel", "ids": [ID]})),
        (vec!["cancel", "--tag", "t"], json!({"action": "cancel", "select": {"tag": "t"}})),
        (vec!["run-now", ID, ID], json!({"action": "run-now", "ids": [ID, ID]})),
        (vec!["postpone", "2h", ID], json!({"action": "postpone", "ids": [ID], "due": "2h"})),
        (vec!["retry", ID], json!({"action": "retry", "ids": [ID], "from": "failed-step"})),
        (
            vec!["retry", "--state", "failed", "--from-start"],
            json!({"action": "retry", "select": {"state": "failed"}, "from": "start"}),
        ),
    ] {
        let (url, asked) = api(vec![(200, json!({"done": [ID], "refused": []}))]);
        run(&url, &line).expect("changes");
        let (asked, mut body) = asked.try_recv().expect("a request");
        // What is not set is null or absent.
        let object = body.as_object_mut().expect("an object");
        object.retain(|_, value| !value.is_null());
        if let Some(select) = object.get_mut("select").and_then(Json::as_object_mut) {
            select.retain(|_, value| !value.is_null());
        }
        assert_eq!((asked.as_str(), body), ("POST /jobs/actions", wanted), "{line:?}");
    }
    let (url, asked) = api(absent());
    assert!(matches!(run(&url, &["cancel"]), Err(Error::Usage(why)) if why.contains("--tag")));
    assert!(asked.try_recv().is_err(), "nothing is asked");
}

#[test]
fn the_last_job_is_the_newest() {
    let line = json!({
        "id": ID, "url": "u", "curl": "c", "workflow": "w", "revision": 1, "retired": false, "state": "queued",
        "stopping": false, "lane": "main", "priority": 5, "tags": [], "entry": "e", "queued": "2027-03-04T00:00:00Z", "retries": 0
    });
    for (jobs, then) in [(json!([line]), Some(format!("GET /jobs/{ID}"))), (json!([]), None)] {
        let page = json!({"jobs": jobs, "counts": {}, "counted_to": 100, "next_before": null, "searched_to": null});
        let (url, asked) = api(vec![(200, page), absent().remove(0)]);
        let Err(Error::Failed(why)) = run(&url, &["job", "last"]) else { panic!("it is not there") };
        assert_eq!(asked.recv().expect("asked").0, "GET /jobs?limit=1");
        assert_eq!(asked.try_recv().ok().map(|(line, _)| line), then, "{why}");
        assert!(then.is_some() || why.contains("no jobs yet"), "{why}");
    }
}

#[test]
fn answers_lead_to_exit_codes() {
    let problem = |title: &str, detail: &str| json!({"title": title, "detail": detail});
    for (status, body, wanted) in [
        (404, problem("Not found", "no `w`"), Error::Failed("Not found: no `w`".into())),
        (422, problem("No", ""), Error::Failed("No (422)".into())),
        (503, problem("Busy", "later"), Error::Unavailable("Busy: later".into())),
        (
            401,
            problem("Who?", "a token"),
            Error::Usage("Who?: a token; set KANZLEI_TOKEN, or check .kanzlei/client.toml".into()),
        ),
    ] {
        let (url, _asked) = api(vec![(status, body)]);
        let ended = run(&url, &["lanes"]).expect_err("it is refused");
        assert_eq!(format!("{ended:?}"), format!("{wanted:?}"));
    }
    let (url, _asked) = api(vec![(200, json!("nonsense"))]);
    assert!(matches!(run(&url, &["lanes"]), Err(Error::Failed(why)) if why.contains("of one version")));
    let nobody = TcpListener::bind("127.0.0.1:0").expect("a port").local_addr().expect("an address");
    let unreachable = run(&format!("http://{nobody}"), &["lanes"]);
    assert!(matches!(unreachable, Err(Error::Unavailable(why)) if why.contains("is kanzleid running?")));
}

#[test]
fn some_jobs_that_are_not_changed_make_the_command_fail() {
    let refused = json!([{"id": ID, "why": "it has ended"}]);
    for (done, refused, good) in [(json!([ID]), json!([]), true), (json!([ID]), refused.clone(), false)] {
        let (url, _asked) = api(vec![(200, json!({"done": done, "refused": refused}))]);
        let ended = run(&url, &["cancel", ID]);
        assert_eq!(ended.is_ok(), good, "{ended:?}");
        assert!(good || matches!(ended, Err(Error::Bad)));
    }
}

#[test]
fn local_commands_need_no_service() {
    for (line, wanted) in [
        (vec!["eval", "1 + 2"], "Ok(())"),
        (vec!["eval", "1 +"], "Err(Bad)"),
        (vec!["eval", "nowhere"], "Err(Bad)"),
        (vec!["schema", "workflow"], "Ok(())"),
        (vec!["timetables", "preview", "45 2 * * *", "--zone", "Europe/Oslo"], "Ok(())"),
    ] {
        assert_eq!(format!("{:?}", run("http://127.0.0.1:1", &line)), wanted, "{line:?}");
    }
    for (line, says) in [
        (vec!["schema", "nothing"], "nothing"),
        (vec!["timetables", "preview", "61 * * * *"], "minute"),
        (vec!["timetables", "preview", "* * * * *", "--zone", "Nowhere/Land"], "Nowhere/Land"),
    ] {
        let Err(Error::Usage(why)) = run("http://127.0.0.1:1", &line) else { panic!("{line:?} is accepted") };
        assert!(why.contains(says), "{line:?}: {why}");
    }
}
