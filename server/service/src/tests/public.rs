//! The stages of the public listener, one after another.

use kanzlei_harness::wait::Deadline;
use serde_json::json;

use super::with;

const ECHO: &str = "workflow: echo
input:
  id: {type: integer}
  text: {type: string, maxLength: 5, optional: true}
  pin: {type: string, optional: true, secret: true}
entries:
  - {endpoint: 'GET /echo/{id}', access: open}
  - {endpoint: POST /echo, access: open, limits: {body: 200 B}}
steps:
  - if: input.id === 7
    then: [{fail: 409, title: Seven}]
  - reply: 200
    body: {id: '${input.id}', text: '${input.text ?? null}', at: '${run.id}'}
";

#[test]
fn routing_names_what_is_wrong_with_a_path_or_a_method() {
    with("routing", &[ECHO], &[], async |bed| {
        for (line, status, allow) in [
            ("GET /echo/5", 200, None),
            ("HEAD /echo/5", 200, None),
            ("GET /echo/5?text=abc", 200, None),
            ("GET /other", 404, None),
            ("GET /echo/5/more", 404, None),
            ("GET /~/jobs", 404, None),
            ("GET /~/jobs/7", 404, None),
            ("DELETE /echo/5", 405, Some("GET, HEAD, OPTIONS")),
            ("PUT /echo", 405, Some("POST, OPTIONS")),
            ("OPTIONS /echo", 204, Some("POST, OPTIONS")),
        ] {
            let answer = bed.send(line, &[], "").await;
            assert_eq!((answer.status, answer.header("allow")), (status, allow), "{line}: {}", answer.body);
            assert!(answer.header("x-request-id").is_some(), "{line}");
            assert_eq!(line.starts_with("HEAD") || status == 204, answer.body.is_empty(), "{line}: {}", answer.body);
        }
    });
}

#[test]
fn a_body_is_read_within_its_bounds() {
    let long = format!("{{\"id\": 1, \"text\": \"{}\"}}", "x".repeat(200));
    with("bodies", &[ECHO], &[], async |bed| {
        for (media, body, status, title) in [
            ("application/json", "{\"id\": 1}", 200, ""),
            ("application/json; charset=utf-8", "{\"id\": 1}", 200, ""),
            ("application/x-www-form-urlencoded", "id=1&text=a", 200, ""),
            ("application/json", "{\"id\": ", 400, "Malformed body"),
            ("application/json", "[1]", 422, "Invalid input"),
            ("image/png", "abc", 415, "Unsupported media type"),
            ("application/json", long.as_str(), 413, "Content too large"),
        ] {
            let answer = bed.send("POST /echo", &[("content-type", media)], body).await;
            assert_eq!(answer.status, status, "{media} {body}: {}", answer.body);
            if !title.is_empty() {
                assert_eq!(answer.problem(), (status, title.to_owned()), "{media} {body}");
            }
        }
    });
}

#[test]
fn invalid_input_is_named_by_pointers() {
    with("input", &[ECHO], &[], async |bed| {
        for (body, pointers) in [
            ("{}", vec!["/id"]),
            ("{\"id\": \"x\"}", vec!["/id"]),
            ("{\"id\": 1, \"text\": \"abcdef\"}", vec!["/text"]),
            ("{\"id\": 1.5, \"text\": 5}", vec!["/id", "/text"]),
            ("{\"id\": 1, \"other\": 5}", vec!["/other"]),
        ] {
            let answer = bed.post("/echo", &[], body).await;
            let errors = answer.json()["errors"].as_array().cloned().unwrap_or_default();
            let mut found: Vec<&str> = errors.iter().filter_map(|error| error["pointer"].as_str()).collect();
            found.sort_unstable();
            assert_eq!((answer.status, found), (422, pointers), "{body}: {}", answer.body);
        }
    });
}

#[test]
fn a_repeated_request_gets_the_answer_of_the_first() {
    with("repeats", &[ECHO], &[], async |bed| {
        let first = bed.post("/echo", &[("idempotency-key", "\"k1\"")], "{\"id\": 1, \"text\": \"a\"}").await;
        assert_eq!(first.status, 200, "{}", first.body);
        for (key, body, status, same) in [
            ("\"k1\"", "{\"id\": 1, \"text\": \"a\"}", 200, true),
            ("k1", "{ \"text\" : \"a\", \"id\": 1.0 }", 200, true),
            ("\"k2\"", "{\"id\": 1, \"text\": \"a\"}", 200, false),
            ("\"k1\"", "{\"id\": 2}", 422, false),
            ("\"open", "{\"id\": 2}", 400, false),
        ] {
            let answer = bed.post("/echo", &[("idempotency-key", key)], body).await;
            assert_eq!((answer.status, answer.body == first.body), (status, same), "{key} {body}: {}", answer.body);
        }
    });
}

#[test]
fn a_key_outlives_a_rejection_and_not_a_refusal() {
    with("refused_keys", &[ECHO], &[], async |bed| {
        let post = async |key: &str, body: &str| bed.post("/echo", &[("idempotency-key", key)], body).await;
        let rejected = post("\"r\"", "{\"id\": 7}").await;
        assert_eq!(rejected.problem(), (409, "Seven".into()));
        assert_eq!(post("\"r\"", "{\"id\": 7}").await.body, rejected.body);
        // What never became a run may be corrected and sent again.
        assert_eq!(post("\"s\"", "{\"id\": \"x\"}").await.status, 422);
        assert_eq!(post("\"s\"", "{\"id\": 3}").await.status, 200);
    });
}

#[test]
fn refusals_are_kept_without_confidential_bodies() {
    let plain = ECHO.replace("echo", "plain").replace("  pin: {type: string, optional: true, secret: true}\n", "");
    with("refusals", &[ECHO, &plain], &[], async |bed| {
        let id = [("x-request-id", "mine-1"), ("content-type", "application/json")];
        for (line, body) in [
            ("POST /plain", "{\"id\": \"x\"}"),
            ("POST /echo", "{\"id\": \"x\", \"pin\": \"1234\"}"),
            ("POST /plain", "{\"id\""),
            ("DELETE /echo/5", ""),
            ("GET /echo/5/6", ""),
            ("GET /nowhere", ""),
        ] {
            assert!(bed.send(line, &id, body).await.status >= 400, "{line} {body}");
        }
        let kept = async || {
            let filter =
                kanzlei_store::refusals::Filter { request_id: Some("mine-1".into()), limit: 50, ..Default::default() };
            bed.store().refusals(&filter).await.expect("refusals")
        };
        let end = Deadline::after(super::LONG);
        let mut found = kept().await;
        while found.len() < 5 && !end.is_over() {
            tokio::time::sleep(std::time::Duration::from_millis(10)).await;
            found = kept().await;
        }
        found.reverse();
        let shown: Vec<(u16, Option<&str>)> =
            found.iter().map(|refusal| (refusal.status, refusal.body.as_deref())).collect();
        // Of a path that no workflow has anything of, nothing is kept.
        assert_eq!(shown, [(422, Some("{\"id\": \"x\"}")), (422, None), (400, None), (405, None), (404, None)]);
        assert!(found[1].size == Some(26) && found[1].digest.as_ref().is_some_and(|digest| digest.len() == 64));
    });
}

#[test]
fn requests_beyond_the_bound_are_refused() {
    with("full", &[ECHO], &[("limits.in_flight", "1")], async |bed| {
        let in_flight = &bed.service.app.in_flight;
        let held = in_flight.enter("someone").expect("a place");
        let refused = bed.send("GET /echo/5", &[], "").await;
        assert_eq!((refused.status, refused.header("retry-after")), (503, Some("1")), "{}", refused.body);
        drop(held);
        assert_eq!(bed.send("GET /echo/5", &[], "").await.status, 200);
        assert_eq!(in_flight.count(), 0, "both have ended");
    });
}

#[test]
fn bodies_that_arrive_are_bounded_in_bytes() {
    with("arriving", &[ECHO], &[("limits.arriving_bytes", "100")], async |bed| {
        let body = |length: usize| json!({"id": 1, "pin": "1".repeat(length)}).to_string();
        assert_eq!(bed.post("/echo", &[], &body(10)).await.status, 200);
        let refused = bed.post("/echo", &[], &body(120)).await;
        assert_eq!((refused.status, refused.header("retry-after")), (503, Some("1")), "{}", refused.body);
        assert_eq!(bed.post("/echo", &[], &body(10)).await.status, 200, "the place is free again");
    });
}

#[test]
fn a_run_is_journaled_with_its_request() {
    with("journaled", &[ECHO], &[], async |bed| {
        let answer = bed.post("/echo", &[("x-request-id", "mine-2")], "{\"id\": 1, \"pin\": \"1234\"}").await;
        let run = answer.json()["at"].as_str().expect("the run").to_owned();
        bed.journaled().await;
        let found = bed.control(&format!("GET /runs/{run}"), &json!(null)).await.json();
        assert_eq!((&found["request_id"], &found["state"]), (&json!("mine-2"), &json!("succeeded")), "{found}");
        assert!(!found.to_string().contains("1234") && found["process"] == "journaled", "{found}");
    });
}

/// Finding all matches reads to the end for each of them; the sum of many items is as much work.
const HEAVY: &str = "workflow: heavy
input: {text: {type: string}}
entries: [{endpoint: POST /heavy, access: open, limits: {time: 2s}}]
steps:
  - {reply: 200, body: {n: '${(input.text.match(/<[^>]*>|</g) ?? []).length}'}}
";

#[test]
fn an_evaluation_that_takes_long_keeps_nobody_waiting() {
    with("heavy", &[HEAVY, ECHO], &[], async |bed| {
        let body = json!({"text": "<".repeat(300_000)}).to_string();
        let heavy = std::pin::pin!(bed.post("/heavy", &[], &body));
        // Both are served by one thread; the second begins when the first is under way.
        let quick = std::pin::pin!(async {
            for _ in 0..10 {
                assert_eq!(bed.send("GET /echo/5", &[], "").await.status, 200);
            }
        });
        match futures_util::future::select(heavy, quick).await {
            futures_util::future::Either::Right(((), heavy)) => {
                let ended = heavy.await;
                assert!(matches!(ended.status, 500 | 504), "it is bounded: {ended:?}");
            }
            futures_util::future::Either::Left((ended, _)) => panic!("the quick ones had to wait: {ended:?}"),
        }
        let plain = json!({"text": "<b>fat</b> <i>thin</i>"}).to_string();
        assert_eq!(bed.post("/heavy", &[], &plain).await.body, "{\"n\":4}");
    });
}

#[test]
fn a_run_of_much_work_ends_with_its_time() {
    let long = "workflow: long\nentries: [{endpoint: POST /long, access: open, limits: {time: 300ms}}]\nsteps:\n  - {each: n, in: list.range(5000), id: all, steps: [{let: {x: '${list.range(20000).map(i => i * n).length}'}}]}\n  - {reply: 200}\n";
    with("long", &[long], &[], async |bed| {
        let answer = bed.post("/long", &[], "").await;
        assert_eq!(answer.problem(), (504, "The request took too long".into()));
        bed.journaled().await;
        let run = bed.control("GET /runs?limit=1", &json!(null)).await.json()["runs"][0].clone();
        assert_eq!((&run["state"], &run["status"]), (&json!("failed"), &json!(504)), "{run}");
    });
}

#[test]
fn a_key_belongs_to_an_input_wherever_it_stands() {
    let document = "workflow: h\ninput: {who: {type: string}}\nentries: [{endpoint: POST /h, access: open, from: {who: header.X-Who}}]\nsteps: [{reply: 200, body: '${input.who}'}]\n";
    with("header_input", &[document], &[], async |bed| {
        let send = async |who: &str| bed.send("POST /h", &[("idempotency-key", "one"), ("x-who", who)], "").await;
        assert_eq!(send("anna").await.body, "anna");
        assert_eq!(send("anna").await.body, "anna");
        assert_eq!(send("bert").await.problem(), (422, "The Idempotency-Key was used before".into()));
    });
}

#[test]
fn json_that_looks_like_a_file_is_answered_as_json() {
    let echo = "workflow: echo-body\nextra: allow\nentries: [{endpoint: POST /echo-body, access: open}]\nsteps: [{reply: 200, body: '${input}'}]\n";
    with("forged", &[echo], &[], async |bed| {
        let forged = json!({"name": "a.html", "media": "text/html", "size": 3, "base64": "PGI+"});
        let answer = bed.post("/echo-body", &[], &forged.to_string()).await;
        assert_eq!((answer.header("content-type"), answer.json()), (Some("application/json"), forged));
        assert_eq!(answer.header("content-disposition"), None);
        for line in ["GET /nowhere", "POST /echo-body", "GET /~/health"] {
            let answer = bed.send(line, &[], "").await;
            assert_eq!(answer.header("x-content-type-options"), Some("nosniff"), "{line}");
        }
    });
}

/// The console's cookie comes with requests of the same host: no workflow sees it, and none sets it.
#[test]
fn the_consoles_cookie_stays_out_of_workflows() {
    let workflow = "workflow: w\ninput: {c: {type: string, optional: true, secret: true}}\nentries: [{endpoint: POST /w, access: open, from: {c: header.Cookie}}]\nsteps:\n  - {reply: 200, headers: {Set-Cookie: \"${(input.c ?? '').startsWith('own') ? 'kanzlei_session=forged; Path=/' : 'a=1'}\"}, body: {length: \"${(input.c ?? '').length}\"}}\n";
    with("own_cookies", &[workflow], &[], async |bed| {
        for (cookie, length, set) in [
            ("a=1; kanzlei_session=s3cret; b=2", 8, Some("a=1")),
            ("kanzlei_session=s3cret", 0, Some("a=1")),
            ("own=1", 5, None),
        ] {
            let answer = bed.post("/w", &[("cookie", cookie)], "{}").await;
            assert_eq!(
                (answer.json()["length"].as_u64(), answer.header("set-cookie")),
                (Some(length), set),
                "{cookie}"
            );
        }
        let plain = workflow.replace(", secret: true", "");
        let refused = bed.deploy(&[&plain]).await.json();
        assert_eq!(refused["diagnostics"][0]["code"], "credential-input", "{refused}");
    });
}

const ROWS: &str = "workflow: rows
input: {n: {type: integer, default: 2}}
entries:
  - endpoint: GET /rows
    access: open
    formats: [json, csv, ndjson]
    csv: {columns: [n, note], file: rows-${0}.csv}
steps:
  - if: input.n === 0
    then: [{fail: 404}]
  - reply: 200
    body: \"${list.range(input.n).map(n => ({n, square: n * n, note: '=n,' + n}))}\"
";

/// A list is answered in the format that the client chooses; what is no list of rows stays what it is.
#[test]
fn lists_are_answered_in_several_formats() {
    let rows = ROWS.replace("rows-${0}.csv", "rows of n.csv");
    with("formats", &[&rows], &[], async |bed| {
        let csv = "n,note\r\n0,\"'=n,0\"\r\n1,\"'=n,1\"\r\n";
        let lines = "{\"n\":0,\"square\":0,\"note\":\"=n,0\"}\n{\"n\":1,\"square\":1,\"note\":\"=n,1\"}\n";
        for (accept, media, body) in [
            ("text/csv", "text/csv; charset=utf-8; header=present", csv),
            ("application/x-ndjson", "application/x-ndjson", lines),
            ("application/json;q=0.1, text/csv", "text/csv; charset=utf-8; header=present", csv),
        ] {
            let answer = bed.send("GET /rows", &[("accept", accept)], "").await;
            assert_eq!((answer.status, answer.header("content-type"), answer.body.as_str()), (200, Some(media), body));
            assert_eq!(answer.header("vary"), Some("Accept"), "{answer:?}");
        }
        let saved = bed.send("GET /rows", &[("accept", "text/csv")], "").await;
        assert_eq!(saved.header("content-disposition"), Some("attachment; filename=\"rows of n.csv\""));
        for accept in ["", "*/*", "application/json"] {
            let answer = bed.send("GET /rows", &[("accept", accept)], "").await;
            assert_eq!(answer.json()[1]["square"], 1, "{answer:?}");
        }
        let before = bed.control("GET /runs?workflow=rows", &json!(null)).await.json()["runs"].as_array().map(Vec::len);
        let refused = bed.send("GET /rows", &[("accept", "image/png")], "").await;
        assert_eq!(refused.problem(), (406, "Not acceptable".to_owned()));
        let after = bed.control("GET /runs?workflow=rows", &json!(null)).await.json()["runs"].as_array().map(Vec::len);
        assert_eq!(before, after, "nothing ran");
        let failed = bed.send("GET /rows?n=0", &[("accept", "text/csv")], "").await;
        assert_eq!((failed.status, failed.header("content-type")), (404, Some("application/problem+json")));
        let large = bed.send("GET /rows?n=20000", &[("accept", "text/csv")], "").await;
        assert_eq!((large.body.lines().count(), large.body.lines().last()), (20_001, Some("19999,\"'=n,19999\"")));
        let wrong = bed.deploy(&[&rows.replace("[n, note]", "[n, nite]")]).await;
        assert!(wrong.status == 422 && wrong.body.contains("did you mean `note`?"), "{wrong:?}");
    });
}
