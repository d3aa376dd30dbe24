//! Jobs and repeated requests: other people's results, guessed addresses, actions out of order.

use super::raw::{Back, request, send};
use super::{Report, Target};

fn public(target: &Target, line: &str, headers: &str, body: &[u8]) -> Back {
    send(
        target.public,
        &request(line, &format!("Content-Type: application/json\r\nConnection: close\r\n{headers}"), body),
    )
}

fn id_of(back: &Back) -> String {
    serde_json::from_str::<serde_json::Value>(back.body()).unwrap_or_default()["id"]
        .as_str()
        .unwrap_or_default()
        .to_owned()
}

/// Runs all attacks of this area.
pub fn run(target: &Target, report: &mut Report) {
    let queue = |headers: &str| public(target, "POST /attack/job", headers, b"{}");
    let first = queue("X-Request-Id: attack-17\r\n");
    let id = id_of(&first);
    report.holds("jobs", "a job is queued", first.status() == 202 && id.len() == 36, &first);
    let neighbour = |id: &str, change: &dyn Fn(u8) -> u8| {
        let mut bytes = id.as_bytes().to_vec();
        if let Some(last) = bytes.last_mut() {
            *last = change(*last);
        }
        String::from_utf8(bytes).unwrap_or_default()
    };
    let guesses = [
        (
            "the next id",
            neighbour(&id, &|c| {
                if c == b'f' {
                    b'0'
                } else if c == b'9' {
                    b'a'
                } else {
                    c + 1
                }
            }),
        ),
        ("its request's id", "attack-17".into()),
        ("nil", "00000000-0000-0000-0000-000000000000".into()),
        ("upper case of nothing", "FFFFFFFF-FFFF-FFFF-FFFF-FFFFFFFFFFFF".into()),
        ("a wildcard", "%25".into()),
        ("SQL", "'%20OR%201=1".into()),
        ("a list", format!("{id},{id}")),
    ];
    for (name, guess) in &guesses {
        for (method, part) in [("GET", ""), ("GET", "/result"), ("GET", "/events"), ("DELETE", "")] {
            let back = public(target, &format!("{method} /~/jobs/{guess}{part}"), "", b"");
            report.holds("jobs", format!("{method} {name}{part}"), back.status() == 404, &back);
        }
    }
    for (name, headers, wanted) in [
        ("an endless wait", "Prefer: wait=0.000001\r\n", vec![200]),
        ("an event id of nonsense", "Last-Event-ID: -1\r\n", vec![200]),
        ("a range", "Range: bytes=0-99999999\r\n", vec![200, 206, 416]),
    ] {
        let back = public(target, &format!("GET /~/jobs/{id}"), headers, b"");
        report.holds("jobs", name, wanted.contains(&back.status()), &back);
    }
    let cancelled = public(target, &format!("DELETE /~/jobs/{id}"), "", b"");
    report.holds("jobs", "a job is cancelled", matches!(cancelled.status(), 200 | 202), &cancelled);
    let ends = || {
        let ended = public(target, &format!("GET /~/jobs/{id}"), "Prefer: wait=5\r\n", b"");
        ended.body().contains("\"cancelled\"").then_some(())
    };
    report.holds(
        "jobs",
        "it ends",
        kanzlei_harness::wait::until(std::time::Duration::from_secs(20), ends).is_some(),
        &id,
    );
    let again = public(target, &format!("DELETE /~/jobs/{id}"), "", b"");
    report.holds("jobs", "cancelled twice", again.status() == 409, &again);
    let result = public(target, &format!("GET /~/jobs/{id}/result"), "", b"");
    report.holds("jobs", "the result of a cancelled job", result.status() == 409, &result);
    // One key, two clients: inputs of headers count.
    let key = |who: &str, path: &str| {
        public(target, &format!("POST {path}"), &format!("Idempotency-Key: \"attack\"\r\nX-Who: {who}\r\n"), b"{}")
    };
    let (berit, anders, again) =
        (key("berit", "/attack/quick"), key("anders", "/attack/quick"), key("berit", "/attack/quick"));
    report.holds(
        "repetitions",
        "a key with another client's header",
        berit.status() == 200 && anders.status() == 422,
        &anders,
    );
    report.holds("repetitions", "a key with the same", again.body() == berit.body(), &again);
    let (one, other) = (key("berit", "/attack/job"), key("anders", "/attack/job"));
    report.holds(
        "repetitions",
        "a key of a job with another client's header",
        one.status() == 202 && other.status() == 422,
        &other,
    );
    let same = queue("X-Request-Id: attack-17\r\n");
    report.holds("repetitions", "a request id that was used", id_of(&same) != id, &same);
    report.holds("jobs", "ordinary requests are served afterwards", target.serves(), "not served");
}
