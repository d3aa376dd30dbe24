//! The control listener: every operation without a token, with a wrong one, and from another site.

use serde_json::{Value, json};

use super::raw::{request, send};
use super::{Report, Target};

/// Methods and paths of the API, from its own description.
fn routes(target: &Target) -> Vec<(String, String)> {
    let description = target.api("GET", "/openapi.json", &Value::Null).json();
    let paths = description["paths"].as_object().cloned().unwrap_or_default();
    let mut routes = Vec::new();
    for (path, item) in paths {
        for method in item.as_object().into_iter().flatten().map(|(method, _)| method.to_uppercase()) {
            if ["GET", "PUT", "POST", "DELETE", "PATCH"].contains(&method.as_str()) {
                let filled = path.replace("{name}", "x").replace("{id}", "00000000-0000-0000-0000-000000000000");
                let filled = filled.replace("{workflow}", "x").replace("{number}", "1").replace("{action}", "pause");
                routes.push((method, filled));
            }
        }
    }
    routes
}

/// A session cookie and its CSRF token.
fn session(target: &Target) -> (String, String) {
    let body = json!({"token": target.token}).to_string();
    let back = send(
        target.control,
        &request("POST /api/v1/session", "Content-Type: application/json\r\nConnection: close\r\n", body.as_bytes()),
    );
    let head = back.head();
    let cookie = head.lines().find_map(|line| line.strip_prefix("set-cookie: ")).unwrap_or_default();
    let csrf =
        serde_json::from_str::<Value>(back.body()).unwrap_or_default()["csrf"].as_str().unwrap_or_default().to_owned();
    (cookie.split(';').next().unwrap_or_default().to_owned(), csrf)
}

/// Runs all attacks of this area.
pub fn run(target: &Target, report: &mut Report) {
    let close = "Connection: close\r\nContent-Type: application/json\r\n";
    let routes = routes(target);
    report.holds("control", "the description lists its operations", routes.len() > 30, routes.len());
    let (cookie, csrf) = session(target);
    report.holds("control", "a session begins", !cookie.is_empty() && csrf.len() > 32, &cookie);
    for (method, path) in &routes {
        // Signing in, and how one can, is for everybody.
        if path == "/session" && method == "POST" || path == "/sign-in" {
            continue;
        }
        let line = format!("{method} /api/v1{path}");
        let body: &[u8] = if matches!(method.as_str(), "POST" | "PUT") { b"{}" } else { b"" };
        let back = send(target.control, &request(&line, close, body));
        report.holds("without a token", &line, back.status() == 401, &back);
        if method != "GET" {
            let back = send(target.control, &request(&line, &format!("{close}Cookie: {cookie}\r\n"), body));
            report.holds("from another site", &line, back.status() == 403, &back);
        }
    }
    for host in ["rebound.example", "127.0.0.1.rebound.example", "localhost.rebound.example:7081", ""] {
        let bytes =
            format!("GET /api/v1/status HTTP/1.1\r\nHost: {host}\r\nConnection: close\r\nCookie: {cookie}\r\n\r\n");
        let back = send(target.control, bytes.as_bytes());
        report.holds(
            "from another site",
            format!("a name that was rebound: {host}"),
            matches!(back.status(), 400 | 421),
            &back,
        );
    }
    for (name, header) in [
        ("wrong token", "Authorization: Bearer kzo_0000".to_owned()),
        ("token of 100 KiB", format!("Authorization: Bearer {}", "x".repeat(60_000))),
        ("empty token", "Authorization: Bearer ".into()),
        ("token in another scheme", format!("Authorization: Basic {}", target.token)),
        ("token in lower-case scheme with NUL", "Authorization: bearer\0x".into()),
        ("token in the query", String::new()),
        ("SQL as a token", "Authorization: Bearer ' OR '1'='1".into()),
        ("a session that is none", "Cookie: kanzlei_session=0000".into()),
        ("SQL as a session", "Cookie: kanzlei_session=' OR '1'='1".into()),
        ("a session under another name", format!("Cookie: __Host-{cookie}")),
        ("hash of the token as a token", format!("Authorization: Bearer {}", "a".repeat(64))),
    ] {
        let header = if header.is_empty() { header } else { format!("{header}\r\n") };
        let line = format!("GET /api/v1/status?token={}", target.token);
        let back = send(target.control, &request(&line, &format!("{header}Connection: close\r\n"), b""));
        report.holds("tokens", name, matches!(back.status(), 0 | 400 | 401 | 429 | 431), &back);
    }
    for (name, shown) in [
        ("no CSRF token", ""),
        ("another session's", "x".repeat(64).as_str()),
        ("the cookie itself", cookie.split('=').nth(1).unwrap_or_default()),
    ] {
        let headers = format!("{close}Cookie: {cookie}\r\nX-CSRF-Token: {shown}\r\n");
        let back = send(target.control, &request("DELETE /api/v1/workflows/attack-get", &headers, b""));
        report.holds("from another site", format!("{name} as CSRF token"), back.status() == 403, &back);
    }
    // Many wrong ones do not keep the right one out.
    let wrong = request("GET /api/v1/status", "Authorization: Bearer kzo_1\r\nConnection: close\r\n", b"");
    let statuses: Vec<u16> = (0..60).map(|_| send(target.control, &wrong).status()).collect();
    report.holds(
        "tokens",
        "60 guesses in a row",
        statuses.contains(&429) && statuses.iter().all(|s| matches!(s, 401 | 429)),
        &statuses,
    );
    let status = target.api("GET", "/status", &Value::Null).status;
    report.holds("tokens", "the right one among guesses", status == 200, status);
    for path in [
        "/../Cargo.toml",
        "/%2e%2e/Cargo.toml",
        "/assets/../../Cargo.toml",
        "/assets/%2e%2e%2f%2e%2e%2fCargo.toml",
        "/..%5c..%5cCargo.toml",
        "/api/v1/../../etc/passwd",
        "/index.html%00.js",
        "/~/health",
        "/attack/get",
    ] {
        let back = send(target.control, &request(&format!("GET {path}"), "Connection: close\r\n", b""));
        let safe =
            !back.text.contains("[workspace") && !back.text.contains("root:x:0") && !back.text.contains("{\"n\":1}");
        report.holds("control paths", path, safe && back.status() != 500, (back.status(), back.head()));
    }
    let page = send(target.control, &request("GET /", "Connection: close\r\n", b""));
    let head = page.head().to_ascii_lowercase();
    for wanted in [
        "content-security-policy: default-src 'none'",
        "script-src 'self'",
        "frame-ancestors 'none'",
        "x-content-type-options: nosniff",
        "x-frame-options: deny",
        "referrer-policy: no-referrer",
    ] {
        report.holds("control paths", format!("the console says {wanted}"), head.contains(wanted), &head);
    }
    for (name, path) in [
        ("SQL in a filter", "/jobs?tag=%27%20OR%20%271%27%3D%271"),
        ("SQL in a state", "/jobs?state=ready%27--"),
        ("a limit below zero", "/jobs?limit=-1"),
        ("a limit beyond all", "/runs?limit=99999999999"),
        ("a cursor of nonsense", "/runs?before=%27"),
        ("text of wildcards", "/jobs?text=%25%25%25"),
        ("an unknown parameter", "/jobs?isAdmin=1"),
    ] {
        let answer = target.api("GET", path, &Value::Null);
        report.holds("control paths", name, answer.status < 500, (answer.status, &answer.body));
    }
    let secret = "s3cret-attack-value";
    target.api("PUT", "/secrets/attack-key", &json!({"value": secret, "for": ["https://api.example"]}));
    for path in
        ["/secrets", "/services", "/status", "/workflows", "/openapi", "/runs", "/jobs", "/refusals", "/operators"]
    {
        let answer = target.api("GET", path, &Value::Null);
        report.holds(
            "secrets",
            format!("GET {path}"),
            !answer.body.contains(secret) && !answer.body.contains(&target.token),
            path,
        );
    }
    let log = std::fs::read_to_string(&target.log).unwrap_or_default();
    report.holds("secrets", "the log", !log.contains(secret) && !log.contains(&target.token), "it holds one");
    let out = send(
        target.control,
        &request("DELETE /api/v1/session", &format!("{close}Cookie: {cookie}\r\nX-CSRF-Token: {csrf}\r\n"), b""),
    );
    let again = send(target.control, &request("GET /api/v1/session", &format!("{close}Cookie: {cookie}\r\n"), b""));
    report.holds("tokens", "a cookie after signing out", (out.status(), again.status()) == (204, 401), &again);
}
