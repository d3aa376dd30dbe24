//! What browsers and caches learn of an endpoint.

use serde_json::{Value as Json, json};

use super::with;

const TIDES: &str = "workflow: tides
input: {n: {type: integer, default: 1}}
entries:
  - endpoint: GET /v1/tides
    access: open
    cors: {origins: [\"https://Desk.example\"], credentials: true, headers: [X-Own], max_age: 1h}
    cache: {for: 1min, vary: [Accept-Language]}
    deprecated: 2027-01-01
    sunset: 2027-06-30T12:00:00Z
  - {endpoint: POST /v1/tides, access: open, cors: any}
steps: [{reply: 200, body: {n: '${input.n}'}}]
";

#[test]
fn pages_of_listed_origins_may_call() {
    with("cors", &[TIDES], &[], async |bed| {
        let ask = async |origin: &str, method: &str| {
            bed.send("OPTIONS /v1/tides", &[("origin", origin), ("access-control-request-method", method)], "").await
        };
        for (origin, method, allowed, headers) in [
            ("https://desk.example", "GET", Some("https://desk.example"), Some("X-Own")),
            ("https://desk.example.evil", "GET", None, None),
            ("null", "GET", None, None),
            ("https://other.example", "POST", Some("*"), Some("Authorization, Content-Type")),
            ("https://desk.example", "DELETE", None, None),
        ] {
            let answer = ask(origin, method).await;
            let got = (answer.header("access-control-allow-origin"), answer.header("access-control-allow-headers"));
            assert_eq!((answer.status, got), (204, (allowed, headers)), "{origin} {method}");
        }
        let answer = bed.send("GET /v1/tides", &[("origin", "https://desk.example")], "").await;
        assert_eq!(answer.header("access-control-allow-credentials"), Some("true"));
        assert!(answer.headers.contains(&("vary".into(), "Origin".into())), "{answer:?}");
        // Refusals can be read by the page too; a page that may not call learns nothing.
        let refused = bed.send("GET /v1/tides?n=x", &[("origin", "https://desk.example")], "").await;
        assert_eq!(
            (refused.status, refused.header("access-control-allow-origin")),
            (422, Some("https://desk.example"))
        );
        let other = bed.send("GET /v1/tides", &[("origin", "https://evil.example")], "").await;
        assert_eq!(other.header("access-control-allow-origin"), None);
    });
}

#[test]
fn answers_are_fresh_for_a_while_and_validated() {
    with("cache", &[TIDES], &[], async |bed| {
        let first = bed.send("GET /v1/tides", &[], "").await;
        let tag = first.header("etag").expect("a validator").to_owned();
        assert_eq!(first.header("cache-control"), Some("public, max-age=60"));
        assert_eq!(
            (first.header("deprecation"), first.header("sunset")),
            (Some("@1798761600"), Some("Wed, 30 Jun 2027 12:00:00 GMT"))
        );
        let weak = format!("\"x\", W/{tag}");
        for (line, known, status) in [
            ("GET /v1/tides", tag.as_str(), 304),
            ("GET /v1/tides", weak.as_str(), 304),
            ("GET /v1/tides", "*", 304),
            ("GET /v1/tides?n=2", tag.as_str(), 200),
            ("GET /v1/tides", "\"x\"", 200),
        ] {
            let answer = bed.send(line, &[("if-none-match", known)], "").await;
            assert_eq!((answer.status, answer.body.is_empty()), (status, status == 304), "{line} {known}: {answer:?}");
            assert!(answer.header("etag").is_some() && answer.header("vary").is_some(), "{answer:?}");
        }
        let posted = bed.post("/v1/tides", &[], "{}").await;
        assert_eq!((posted.header("etag"), posted.header("cache-control")), (None, None));
    });
}

/// What an installation calls itself, where it wants that.
#[test]
fn answers_name_a_server_and_types_of_problems_as_configured() {
    let settings = [("listen.server", "Tide desk"), ("listen.problem_types", "https://api.example/problems/")];
    with("own_names", &[TIDES], &settings, async |bed| {
        for (line, kind) in [
            ("GET /v1/tides", Json::Null),
            ("GET /v1/tides?n=x", json!("https://api.example/problems/invalid-input")),
            ("GET /nowhere", json!("https://api.example/problems/not-found")),
        ] {
            let answer = bed.send(line, &[], "").await;
            assert_eq!((answer.header("server"), &answer.json()["type"]), (Some("Tide desk"), &kind), "{answer:?}");
        }
    });
}

/// Nothing in public answers names the product, and the id of the run is called as the configuration says.
#[test]
fn answers_call_the_id_of_the_run_as_configured() {
    for (database, name, shown) in
        [("run_default", None, Some("run-id")), ("run_own", Some("X-Own"), Some("x-own")), ("run_none", Some(""), None)]
    {
        let settings: Vec<(&str, &str)> = name.map(|name| ("listen.run_header", name)).into_iter().collect();
        with(database, &[TIDES], &settings, async |bed| {
            for (line, status) in [("GET /v1/tides", 200), ("GET /v1/tides?n=x", 422), ("GET /nowhere", 404)] {
                let answer = bed.send(line, &[], "").await;
                let ids = answer.headers.iter().filter(|(_, value)| value.parse::<uuid::Uuid>().is_ok());
                let names: Vec<&str> =
                    ids.map(|(name, _)| name.as_str()).filter(|name| *name != "x-request-id").collect();
                let wanted: Vec<&str> = shown.filter(|_| status == 200).into_iter().collect();
                assert_eq!((answer.status, names), (status, wanted), "{line}: {answer:?}");
                let all = format!("{answer:?}").to_lowercase();
                assert!(!all.contains("kanzlei"), "{all}");
            }
            let document = bed.send("GET /~/openapi.json", &[], "").await;
            let described = document.json()["components"]["headers"].as_object().map(|headers| headers.len());
            assert_eq!(described, Some(1 + usize::from(shown.is_some())));
            assert!(!document.body.to_lowercase().contains("kanzlei"), "{}", document.body);
        });
    }
}
