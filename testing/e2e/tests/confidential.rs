//! Confidential values in the running service: used in full, kept sealed, masked wherever they are shown.

use kanzlei_e2e::calls::*;
use kanzlei_e2e::peer::{self, Peer};
use kanzlei_e2e::*;
use kanzlei_harness::office::Office;
use serde_json::json;

const PIN: &str = "pin-73519";

/// A workflow that makes a badge out of a confidential input and sends it to a service.
fn deploy(office: &Office, base: &str, more: &str) {
    let service = format!("service: peer\nbase: {base}\nnetwork: private\n");
    let answer = if more.is_empty() { "now" } else { "later" };
    let workflow = format!(
        "workflow: badge\ninput: {{pin: {{type: string, secret: true}}}}\nentries: [{{endpoint: POST /badge, access: open, answer: {answer}}}]\nsteps:\n  - let: {{made: \"<${{input.pin}}>\"}}\n{more}  - id: sent\n    call: POST {base}/badges{{?made}}\n    send: {{made: '${{made}}'}}\n    body: {{badge: '${{made}}', port: LIN}}\n  - reply: 200\n    body: {{port: '${{sent.body.port}}'}}\n"
    );
    let deployed = deploy_texts(office, &[("peer.yaml", &service), ("badge.yaml", &workflow)]);
    assert_eq!(deployed.status, 200, "{deployed:?}");
}

/// Everything that the service keeps in its database, as one text; runs are compressed, and tested where they are written.
fn everything_kept(name: &str) -> String {
    let tables = ["job", "outcome", "refusal", "kept", "callback", "notice", "idempotency"];
    let existing = database().sql(name, "SHOW TABLES").expect("tables");
    let kept = tables.iter().filter(|table| existing.lines().any(|line| line == **table));
    let texts: Vec<String> =
        kept.map(|table| database().sql(name, &format!("SELECT * FROM `{table}`")).expect("rows")).collect();
    texts.join("\n")
}

#[test]
fn what_is_made_from_a_confidential_input_is_masked() {
    let office = office("confidential", &[]);
    let peer = Peer::start(|path, stream| match path.contains("fail") {
        true => peer::answer(
            stream,
            "422 Unprocessable Content",
            "application/json",
            format!("{{\"detail\":\"no badge <{PIN}>\"}}").as_bytes(),
        ),
        false => peer::answer(stream, "200 OK", "application/json", br#"{"port":"NES"}"#),
    });
    deploy(&office, &format!("http://127.0.0.1:{}", peer.port), "");
    let answer = post(&office, "/badge", &[], &json!({"pin": PIN}));
    assert_eq!((answer.status, answer.json()), (200, json!({"port": "NES"})));
    // The service got the value itself.
    assert!(peer.requests()[0].contains("%3Cpin-73519%3E"), "{:?}", peer.requests());
    let run = api(&office, &format!("/runs/{}", answer.header("run-id").expect("a run")));
    assert_eq!(run["input"], json!({"pin": "•••"}));
    assert_eq!(run["steps"][0]["outcome"], json!({"made": "•••"}));
    assert_eq!(run["steps"][1]["sent"]["target"], json!("•••"));
    assert_eq!(run["steps"][1]["sent"]["body"], json!({"badge": "•••", "port": "LIN"}));
    assert_eq!(run["steps"][1]["outcome"]["body"], json!({"port": "NES"}));
    let case = said(&client(&office, &["record", run["id"].as_str().expect("id")]), 0);
    assert!(!case.contains("73519"), "{case}");
    // It is made again with the value that is sealed; what differs is named without values.
    let retraced = |workflow: &str, documents: serde_json::Value| {
        let body = json!({"runs": {"workflow": workflow}, "documents": documents, "drafts": []});
        let headers = [("authorization", &*format!("Bearer {}", office.token)), ("content-type", "application/json")];
        http("POST", &format!("{}/api/v1/retraces", office.control()), &headers, body.to_string().as_bytes()).json()
    };
    assert_eq!(retraced("badge", json!([]))["same"], 1);
    let changed = "workflow: badge\ninput: {pin: {type: string, secret: true}}\nentries: [{endpoint: POST /badge, access: open}]\nsteps: [{reply: 201, body: {length: '${reveal(input.pin)}'}}]\n";
    let differs = retraced("badge", json!([{"path": "badge.yaml", "text": changed}]));
    let named: Vec<&str> = differs["runs"][0]["differences"]
        .as_array()
        .into_iter()
        .flatten()
        .filter_map(|one| one["what"].as_str())
        .collect();
    assert!(differs["differs"] == 1 && named.contains(&"reply.status"), "{differs}");
    assert!(!differs.to_string().contains("73519"), "{differs}");
    // A boolean has no text that could be searched for: no value is shown at all.
    let flag = "workflow: flag\ninput: {ok: {type: boolean, secret: true}}\nentries: [{endpoint: POST /flag, access: open}]\nsteps: [{reply: 200, body: {n: BODY}}]\n";
    assert_eq!(deploy_texts(&office, &[("flag.yaml", &flag.replace("BODY", "1"))]).status, 200);
    assert_eq!(post(&office, "/flag", &[], &json!({"ok": true})).status, 200);
    let text = flag.replace("BODY", "'${reveal(input.ok)}'");
    let differs = retraced("flag", json!([{"path": "flag.yaml", "text": text}]));
    assert_eq!(differs["runs"][0]["differences"][0]["now"], "•••", "{differs}");
    assert!(!everything_kept("kanzlei_confidential").contains("73519"));

    // A service that says the value back in a failure.
    deploy(&office, &format!("http://127.0.0.1:{}/fail", peer.port), "");
    let failed = post(&office, "/badge", &[], &json!({"pin": PIN}));
    assert_eq!(failed.status, 502, "{failed:?}");
    let run = api(&office, &format!("/runs/{}", failed.header("run-id").expect("a run")));
    assert!(run["failure"]["detail"].as_str().is_some_and(|detail| detail.contains("no badge •••")), "{run}");
    assert!(!everything_kept("kanzlei_confidential").contains("73519"));
}

#[test]
fn a_job_goes_on_with_the_confidential_value_after_a_restart() {
    let mut office = office("sealed", &[]);
    let peer = Peer::start(|_, stream| peer::answer(stream, "200 OK", "application/json", br#"{"port":"NES"}"#));
    deploy(&office, &format!("http://127.0.0.1:{}", peer.port), "  - pause: 5s\n");
    let queued = post(&office, "/badge", &[], &json!({"pin": PIN}));
    let id = id_of(&queued);
    becomes(&office, &id, "waiting");
    office.restart_service().expect("restarts");
    becomes(&office, &id, "succeeded");
    assert!(peer.requests()[0].contains("%3Cpin-73519%3E"), "{:?}", peer.requests());
    let job = api(&office, &format!("/jobs/{id}"));
    assert_eq!((&job["input"], &job["steps"][0]["outcome"]), (&json!({"pin": "•••"}), &json!({"made": "•••"})));
    assert_eq!(job["steps"][2]["sent"]["target"], json!("•••"));
    let kept = everything_kept("kanzlei_sealed");
    assert!(!kept.contains("73519") && kept.contains("sealed:"));
}
