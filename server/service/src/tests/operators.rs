//! Who may use the control API for what, what is kept of it, and under which names it answers.

use serde_json::{Value as Json, json};

use super::{Answer, Bed, with};

const OPEN: &str = "workflow: open\nentries: [{endpoint: GET /open, access: open}]\nsteps: [{reply: 204}]\n";
const SEALED: &str = "workflow: sealed\ninput: {pin: {type: string, secret: true}}\nentries: [{endpoint: POST /sealed, access: open}]\nsteps: [{if: \"input.pin === ''\", then: [{fail: 401}]}, {reply: 204}]\n";

async fn token(bed: &Bed, name: &str, role: &str) -> String {
    let made = bed.control("POST /operators", &json!({"name": name, "role": role})).await;
    assert_eq!(made.status, 201, "{}", made.body);
    format!("Bearer {}", made.json()["token"].as_str().expect("a token"))
}

async fn ask(bed: &Bed, bearer: &str, line: &str, body: &Json) -> Answer {
    let (method, path) = line.split_once(' ').expect("METHOD /path");
    let headers = [("authorization", bearer), ("content-type", "application/json")];
    let text = if body.is_null() { String::new() } else { body.to_string() };
    bed.control_as(&format!("{method} /api/v1{path}"), &headers, &text).await
}

/// Each line of the trail stands in the file too, as one line of JSON that is appended.
#[test]
fn the_trail_is_appended_to_a_file() {
    let file = kanzlei_harness::scratch::folder("audit").join(format!("trail-{}.jsonl", std::process::id()));
    std::fs::create_dir_all(file.parent().expect("a folder")).expect("a folder");
    std::fs::write(&file, "{\"before\":1}\n").expect("a file");
    with("audit_file", &[OPEN], &[("audit.file", &file.display().to_string())], async |bed| {
        let viewer = token(bed, "vera", "viewer").await;
        assert_eq!(ask(bed, &viewer, "DELETE /workflows/open", &Json::Null).await.status, 403);
        let written = || std::fs::read_to_string(&file).expect("the file");
        super::eventually(async || written().lines().count() >= 3).await;
        let lines: Vec<Json> = written().lines().map(|line| serde_json::from_str(line).expect("JSON")).collect();
        assert_eq!(lines[0], json!({"before": 1}), "what stood there stays");
        let line = lines.iter().find(|line| line["who"] == "vera").expect("the refused request");
        assert_eq!((&line["what"], &line["status"]), (&json!("DELETE /workflows/open"), &json!(403)), "{line}");
    });
    std::fs::remove_file(&file).expect("the file");
}

#[test]
fn a_role_allows_what_it_is_for_and_the_trail_says_who_did_what() {
    with("operator_roles", &[OPEN, SEALED], &[], async |bed| {
        let (viewer, author) = (token(bed, "vera", "viewer").await, token(bed, "arne", "author").await);
        let deploy = json!({"documents": [{"path": "open.yaml", "text": OPEN.replace("204", "200")}]});
        let secret = json!({"value": "x", "purposes": ["signing"]});
        for (line, body, of_viewer, of_author) in [
            ("GET /workflows", &Json::Null, 200, 200),
            ("GET /secrets", &Json::Null, 200, 200),
            ("GET /audit", &Json::Null, 403, 403),
            ("GET /operators", &Json::Null, 403, 403),
            ("POST /check", &deploy, 200, 200),
            ("POST /deploys", &deploy, 403, 200),
            ("PUT /secrets/pin", &secret, 403, 403),
            ("POST /keys", &json!({"name": "k"}), 403, 403),
            ("POST /lanes/main/hold", &Json::Null, 403, 403),
            ("DELETE /workflows/open", &Json::Null, 403, 204),
        ] {
            let statuses = (ask(bed, &viewer, line, body).await.status, ask(bed, &author, line, body).await.status);
            assert_eq!(statuses, (of_viewer, of_author), "{line}");
        }
        let refused = ask(bed, &viewer, "POST /deploys", &deploy).await;
        assert!(refused.body.contains("this needs the role author; vera has the role viewer"), "{}", refused.body);
        // A look at a run with confidential values is a line of its own; one at another run is none.
        assert_eq!(bed.post("/sealed", &[], "{\"pin\": \"4711\"}").await.status, 204);
        bed.journaled().await;
        let runs = bed.control("GET /runs", &Json::Null).await.json();
        let run = runs["runs"][0]["id"].as_str().expect("a run").to_owned();
        assert_eq!(ask(bed, &viewer, &format!("GET /runs/{run}"), &Json::Null).await.status, 200);
        let trail = bed.control("GET /audit", &Json::Null).await.json();
        let lines: Vec<String> = trail["lines"]
            .as_array()
            .expect("lines")
            .iter()
            .map(|line| {
                format!("{} {} {} {} {}", line["who"], line["what"], line["status"], line["subject"], line["after"])
                    .replace('"', "")
            })
            .collect();
        for wanted in [
            format!("vera GET /runs/{run} 200 run {run} of sealed null"),
            "arne POST /deploys 200 workflow open revision 2".into(),
            "vera POST /deploys 403  null".into(),
            "arne DELETE /workflows/open 204 workflow open retired".into(),
            "arne PUT /secrets/pin 403  null".into(),
            "first POST /operators 201 operator arne made, with the role author".into(),
        ] {
            assert!(lines.contains(&wanted), "{wanted} is not in {lines:#?}");
        }
        assert!(!trail.to_string().contains("4711"), "nothing confidential: {trail}");
        for (filter, count) in
            [("?who=arne&text=deploys", 1), ("?who=nobody", 0), ("?since=2100-01-01T00:00:00Z", 0), ("?limit=1", 1)]
        {
            let found = bed.control(&format!("GET /audit{filter}"), &Json::Null).await.json();
            assert_eq!(found["lines"].as_array().map(Vec::len), Some(count), "{filter}");
        }
        assert_eq!(bed.control("GET /audit?since=soon", &Json::Null).await.status, 422);
        // The last token with the role operator cannot be revoked, even while viewers and authors have tokens.
        assert_eq!(bed.control("DELETE /operators/first", &Json::Null).await.status, 409);
    });
}

#[test]
fn sessions_are_listed_and_ended_everywhere() {
    with("sessions_of", &[], &[], async |bed| {
        let viewer = token(bed, "vera", "viewer").await;
        let sign_in = async |bearer: &str| {
            let body = json!({"token": bearer.trim_start_matches("Bearer ")}).to_string();
            let headers = [("content-type", "application/json"), ("user-agent", "a browser")];
            let answer = bed.control_as("POST /api/v1/session", &headers, &body).await;
            assert_eq!(answer.status, 200, "{}", answer.body);
            let cookie = answer.header("set-cookie").and_then(|cookie| cookie.split(';').next()).expect("a cookie");
            (cookie.to_owned(), answer.json())
        };
        let (cookie, signed) = sign_in(&viewer).await;
        assert_eq!((&signed["name"], &signed["role"]), (&json!("vera"), &json!("viewer")));
        let (other, _) = sign_in(&viewer).await;
        let (first, _) = sign_in(&format!("Bearer {}", bed.token)).await;
        let seen = async |cookie: &str| bed.control_as("GET /api/v1/sessions", &[("cookie", cookie)], "").await;
        let own = seen(&cookie).await.json();
        let shown: Vec<_> = own["sessions"]
            .as_array()
            .expect("a list")
            .iter()
            .map(|one| (one["name"].clone(), one["yours"].clone()))
            .collect();
        assert_eq!(
            shown,
            [(json!("vera"), json!(false)), (json!("vera"), json!(true))],
            "newest first, others are not seen"
        );
        assert_eq!(seen(&first).await.json()["sessions"].as_array().map(Vec::len), Some(3), "an operator sees all");
        let csrf = signed["csrf"].as_str().expect("a token").to_owned();
        let end = async |path: &str, headers: &[(&str, &str)]| {
            bed.control_as(&format!("DELETE /api/v1{path}"), headers, "").await.status
        };
        let with_token = [("cookie", cookie.as_str()), ("x-csrf-token", csrf.as_str())];
        let foreign = seen(&first).await.json()["sessions"][0]["id"].as_str().expect("an id").to_owned();
        assert_eq!(end(&format!("/sessions/{foreign}"), &with_token).await, 404, "somebody else's");
        assert_eq!(end("/sessions", &[("cookie", cookie.as_str())]).await, 403, "without the CSRF token");
        assert_eq!(end("/sessions", &with_token).await, 200);
        assert_eq!((seen(&cookie).await.status, seen(&other).await.status, seen(&first).await.status), (401, 401, 200));
    });
}

#[test]
fn the_control_listener_answers_under_its_names_alone() {
    let settings = [("listen.control_url", "https://office.example"), ("listen.control_hosts", "desk.example")];
    with("hosts", &[], &settings, async |bed| {
        for (host, status) in [
            ("127.0.0.1:7081", 200),
            ("office.example", 200),
            ("desk.example:7081", 200),
            ("rebound.example:7081", 421),
            ("127.0.0.1.nip.example", 421),
        ] {
            let bearer = format!("Bearer {}", bed.token);
            let headers = [("host", host), ("authorization", bearer.as_str())];
            assert_eq!(bed.control_as("GET /api/v1/status", &headers, "").await.status, status, "{host}");
            let body = json!({"token": bed.token}).to_string();
            let headers = [("host", host), ("content-type", "application/json")];
            assert_eq!(bed.control_as("POST /api/v1/session", &headers, &body).await.status, status, "{host}");
            assert_eq!(
                bed.control_as("GET /sign-in/openid", &[("host", host)], "").await.status,
                if status == 200 { 303 } else { 421 },
                "{host}"
            );
        }
    });
}
