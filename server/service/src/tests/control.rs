//! The control API: who may use it, and what a deploy does.

use kanzlei_harness::wait::Deadline;
use serde_json::{Value as Json, json};

use super::{Bed, with};

const GOOD: &str = "workflow: good\nentries: [{endpoint: GET /good, access: open}]\nsteps: [{reply: 200, body: one}]\n";

#[test]
fn only_a_token_or_a_session_opens_the_api() {
    with("auth", &[], &[], async |bed| {
        let bearer = format!("Bearer {}", bed.token);
        for (header, status) in
            [(None, 401), (Some("Bearer kzo_wrong"), 401), (Some("Basic abc"), 401), (Some(bearer.as_str()), 200)]
        {
            let headers: Vec<(&str, &str)> = header.into_iter().map(|value| ("authorization", value)).collect();
            let answer = bed.control_as("GET /api/v1/status", &headers, "").await;
            assert_eq!(answer.status, status, "{header:?}: {}", answer.body);
        }
    });
}

#[test]
fn an_answer_that_did_not_change_is_not_sent_again() {
    with("unchanged", &[GOOD], &[], async |bed| {
        let first = bed.control("GET /workflows/good", &Json::Null).await;
        let tag = first.header("etag").expect("a tag").to_owned();
        for (known, status) in [(tag.as_str(), 304), ("W/\"other\"", 200), (&*format!("\"x\", {tag}"), 304)] {
            let again = bed.control_with("GET /workflows/good", &[("if-none-match", known)], &Json::Null).await;
            assert_eq!((again.status, again.body.is_empty()), (status, status == 304), "{known}");
        }
        bed.deploy(&[&GOOD.replace("one", "two")]).await;
        let changed = bed.control_with("GET /workflows/good", &[("if-none-match", &tag)], &Json::Null).await;
        assert_eq!(changed.status, 200);
    });
}

#[test]
fn guessed_tokens_are_slowed_down_and_a_valid_one_is_not() {
    with("guesses", &[], &[], async |bed| {
        let mut statuses = Vec::new();
        for n in 0..40 {
            let wrong = format!("Bearer kzo_{n}");
            statuses.push(bed.control_as("GET /api/v1/status", &[("authorization", &wrong)], "").await.status);
        }
        assert!(statuses.contains(&429) && statuses.iter().all(|status| matches!(status, 401 | 429)), "{statuses:?}");
        assert_eq!(bed.control("GET /status", &Json::Null).await.status, 200, "shown for the first time");
    });
}

/// The status of a request that shows a token.
async fn shows(bed: &Bed, token: &str) -> u16 {
    let bearer = format!("Bearer {token}");
    bed.control_as("GET /api/v1/status", &[("authorization", &bearer)], "").await.status
}

#[test]
fn operators_have_tokens_of_their_own() {
    with("operators", &[], &[], async |bed| {
        for (body, status) in [
            (json!({"name": "berit", "days": 90}), 201),
            (json!({"name": "berit"}), 409),
            (json!({"name": "Berit"}), 422),
            (json!({"name": "anders", "days": 0}), 422),
            (json!({"name": "anders", "days": 4000}), 422),
            (json!({"nam": "anders"}), 400),
        ] {
            let answer = bed.control("POST /operators", &body).await;
            assert_eq!(answer.status, status, "{body}: {answer:?}");
        }
        let token = async |line: &str| {
            let issued = bed.control(line, &json!({"days": 1})).await.json();
            issued["token"].as_str().expect("a token").to_owned()
        };
        let first = token("POST /operators/berit/rotate").await;
        assert_eq!(shows(bed, &first).await, 200);
        let second = token("POST /operators/berit/rotate").await;
        assert_eq!((shows(bed, &first).await, shows(bed, &second).await), (401, 200));
        let listed = bed.control("GET /operators", &Json::Null).await.json();
        let berit = &listed["operators"][0];
        assert_eq!(
            (&berit["name"], &berit["yours"], &listed["operators"][1]["yours"]),
            (&json!("berit"), &json!(false), &json!(true))
        );
        assert!(berit["used"].is_string() && berit["expires"].is_string(), "{berit}");
        assert!(
            second.starts_with(berit["prefix"].as_str().expect("a prefix")) && !listed.to_string().contains(&second)
        );
        // A session ends with the token it was begun with.
        let signed = json!({"token": second}).to_string();
        let signed = bed.control_as("POST /api/v1/session", &[("content-type", "application/json")], &signed).await;
        let cookie =
            signed.header("set-cookie").and_then(|cookie| cookie.split(';').next()).expect("a cookie").to_owned();
        let session = async || bed.control_as("GET /api/v1/session", &[("cookie", &cookie)], "").await;
        assert_eq!(session().await.json()["name"], "berit");
        assert_eq!(bed.control("DELETE /operators/berit", &Json::Null).await.status, 204);
        assert_eq!((shows(bed, &second).await, session().await.status), (401, 401));
        for (name, status) in [("berit", 404), ("first", 409)] {
            assert_eq!(bed.control(&format!("DELETE /operators/{name}"), &Json::Null).await.status, status, "{name}");
        }
    });
}

#[test]
fn a_token_that_is_removed_in_the_database_stops() {
    with("removed_tokens", &[], &[], async |bed| {
        let issued = bed.control("POST /operators", &json!({"name": "berit"})).await.json();
        let token = issued["token"].as_str().expect("a token").to_owned();
        assert_eq!(shows(bed, &token).await, 200);
        super::server()
            .sql("kanzlei_removed_tokens", "DELETE FROM operator_token WHERE name = 'berit'")
            .expect("removed");
        let end = Deadline::after(std::time::Duration::from_secs(10));
        while shows(bed, &token).await == 200 {
            assert!(!end.is_over(), "it still opens the API");
            tokio::time::sleep(std::time::Duration::from_millis(100)).await;
        }
    });
}

/// Where the console's address is HTTPS, its cookie is sent encrypted and belongs to this host alone.
#[test]
fn the_cookie_of_an_https_console_is_secure() {
    with("secure_cookie", &[], &[("listen.control_url", "https://office.example/")], async |bed| {
        let body = json!({"token": bed.token}).to_string();
        let answer = bed.control_as("POST /api/v1/session", &[("content-type", "application/json")], &body).await;
        let cookie = answer.header("set-cookie").expect("a cookie").to_owned();
        assert!(cookie.starts_with("__Host-kanzlei_session=") && cookie.contains("; Secure"), "{cookie}");
        assert!(cookie.contains("Path=/") && !cookie.contains("Domain"), "{cookie}");
        let value = cookie.split([';', '=']).nth(1).expect("a value");
        for (name, status) in [("__Host-kanzlei_session", 200), ("kanzlei_session", 401)] {
            let pair = format!("{name}={value}");
            assert_eq!(bed.control_as("GET /api/v1/session", &[("cookie", &pair)], "").await.status, status, "{name}");
        }
    });
}

/// Signs in; returns the cookie and the CSRF token.
async fn sign_in(bed: &Bed) -> (String, String) {
    let body = json!({"token": bed.token}).to_string();
    let answer = bed.control_as("POST /api/v1/session", &[("content-type", "application/json")], &body).await;
    let cookie = answer.header("set-cookie").expect("a cookie").to_owned();
    assert!(cookie.contains("HttpOnly") && cookie.contains("SameSite=Strict"), "{cookie}");
    let pair = cookie.split(';').next().expect("a pair").to_owned();
    (pair, answer.json()["csrf"].as_str().expect("a token").to_owned())
}

#[test]
fn a_session_changes_things_only_with_its_csrf_token() {
    with("csrf", &[GOOD], &[], async |bed| {
        let (cookie, csrf) = sign_in(bed).await;
        let send = async |line: &str, token: Option<&str>| {
            let mut headers = vec![("cookie", cookie.as_str())];
            headers.extend(token.map(|token| ("x-csrf-token", token)));
            bed.control_as(line, &headers, "").await.status
        };
        for (line, token, status) in [
            ("GET /api/v1/workflows", None, 200),
            ("DELETE /api/v1/workflows/good", None, 403),
            ("DELETE /api/v1/workflows/good", Some("wrong"), 403),
            ("DELETE /api/v1/workflows/good", Some(csrf.as_str()), 204),
        ] {
            assert_eq!(send(line, token).await, status, "{line} {token:?}");
        }
    });
}

#[test]
fn a_session_ends_by_hand_and_by_time() {
    with("sessions", &[], &[("console.session", "1s")], async |bed| {
        for by_hand in [true, false] {
            let (cookie, csrf) = sign_in(bed).await;
            let headers = [("cookie", cookie.as_str()), ("x-csrf-token", csrf.as_str())];
            let status = async || bed.control_as("GET /api/v1/session", &headers, "").await.status;
            assert_eq!(status().await, 200);
            if by_hand {
                assert_eq!(bed.control_as("DELETE /api/v1/session", &headers, "").await.status, 204);
                assert_eq!(status().await, 401, "signed out");
            }
            let end = Deadline::after(super::LONG);
            while status().await != 401 {
                assert!(!end.is_over(), "the session does not end");
                tokio::time::sleep(std::time::Duration::from_millis(50)).await;
            }
        }
    });
}

#[test]
fn answers_of_the_api_are_never_stored() {
    with("headers", &[], &[], async |bed| {
        for line in ["GET /status", "GET /nothing", "GET /jobs?state=odd", "GET /runs/7"] {
            let answer = bed.control(line, &Json::Null).await;
            assert_eq!(answer.header("cache-control"), Some("no-store"), "{line}");
            assert_eq!(answer.header("x-content-type-options"), Some("nosniff"), "{line}");
            assert!(answer.header("content-type").is_some_and(|media| media.contains("json")), "{line}: {answer:?}");
        }
    });
}

#[test]
fn a_deploy_with_an_error_changes_nothing() {
    with("refused", &[GOOD], &[], async |bed| {
        let bad = GOOD.replace("reply: 200", "reply: 200, boddy: 2");
        let other = GOOD.replace("good", "other");
        let answer = bed.deploy(&[&other, &bad]).await;
        assert_eq!(answer.problem(), (422, "The documents have errors".into()));
        let found = answer.json()["diagnostics"].as_array().cloned().unwrap_or_default();
        assert!(found.iter().any(|finding| finding["code"] == "unknown-key" && finding["line"] == 3), "{found:?}");
        assert_eq!(bed.send("GET /good", &[], "").await.body, "one");
        assert_eq!(bed.send("GET /other", &[], "").await.status, 404);
    });
}

#[test]
fn a_deploy_is_in_force_for_the_next_request_and_can_be_taken_back() {
    with("deploys", &[GOOD], &[], async |bed| {
        let steps = [("one", 1), ("two", 2), ("one", 3)];
        for (text, number) in steps {
            let answer = bed.deploy(&[&GOOD.replace("body: one", &format!("body: {text}"))]).await.json();
            let deployed = &answer["deployed"][0];
            // The first is live already.
            assert_eq!(
                (&deployed["revision"], &deployed["unchanged"]),
                (&json!(number), &json!(number == 1)),
                "{answer}"
            );
            assert_eq!(bed.send("GET /good", &[], "").await.body, text);
        }
        assert_eq!(bed.control("DELETE /workflows/good", &Json::Null).await.status, 204);
        assert_eq!(bed.send("GET /good", &[], "").await.status, 404);
    });
}

#[test]
fn secrets_are_set_and_never_shown() {
    with("secrets", &[], &[], async |bed| {
        let put = bed.control("PUT /secrets/registry-key", &json!({"value": "s3cret-value"})).await;
        assert!(put.status < 300, "{put:?}");
        let list = bed.control("GET /secrets", &Json::Null).await;
        assert!(list.body.contains("registry-key") && !list.body.contains("s3cret-value"), "{}", list.body);
        assert!(bed.control("DELETE /secrets/registry-key", &Json::Null).await.status < 300);
        assert_eq!(bed.control("DELETE /secrets/registry-key", &Json::Null).await.status, 404);
    });
}

#[test]
fn filters_and_ids_that_are_malformed_are_refused_by_name() {
    with("filters", &[], &[], async |bed| {
        for (line, status, part) in [
            ("GET /jobs?state=odd", 422, "there is no state `odd`"),
            ("GET /jobs?due_from=soon", 422, "`due_from` is an instant"),
            ("GET /jobs/7", 400, "`7` is not the id of a job"),
            ("GET /runs?state=odd", 422, "odd"),
            ("GET /workflows/none", 404, "none"),
            ("POST /lanes/main/explode", 404, ""),
            ("POST /timetables/none/1/pause", 404, "none"),
        ] {
            let answer = bed.control(line, &Json::Null).await;
            assert!(answer.status == status && answer.body.contains(part), "{line}: {answer:?}");
        }
    });
}
