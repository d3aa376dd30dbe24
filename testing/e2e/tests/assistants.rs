//! The Model Context Protocol over standard input and output and over HTTP, driven by the protocol's own client library.

use std::process::Command;

use kanzlei_e2e::calls::bearer;
use kanzlei_e2e::*;
use kanzlei_harness::office::Office;
use serde_json::{Value as Json, json};

/// What the client in `assistant-client` sees.
fn answers(arguments: &[&str]) -> Json {
    let folder = node::folder("assistant-client");
    let output = Command::new("node").arg("client.mjs").args(arguments).current_dir(&folder).output().expect("node");
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    serde_json::from_slice(&output.stdout).expect("JSON")
}

fn demo(name: &str) -> Office {
    let office = office(name, &[]);
    let deployed = client(
        &office,
        &[
            "deploy",
            "--unrehearsed",
            "demo/harbour/services",
            "demo/harbour/settings",
            "demo/harbour/lanes",
            "demo/harbour/issuers",
            "demo/harbour/allowances",
            "demo/harbour/libraries",
            "demo/harbour/workflows/berth-quote.yaml",
            "demo/harbour/workflows/berth-quote-v2.yaml",
        ],
    );
    said(&deployed, 0);
    office
}

fn looked_at(answers: &Json, deploys: bool) {
    let of = |name: &str| answers[name].clone();
    let text = |name: &str| answers[name].as_str().unwrap_or_default().to_owned();
    assert_eq!(of("server")["name"], "kanzlei");
    let tools: Vec<&str> = answers["tools"].as_array().into_iter().flatten().filter_map(Json::as_str).collect();
    assert_eq!((tools.len(), tools.contains(&"deploy")), (if deploys { 13 } else { 12 }, deploys), "{tools:?}");
    let resources = of("resources").to_string();
    for uri in
        ["handbook/assistants", "schema/library", "example/statement-totals", "workflow/berth-quote", "service/tides"]
    {
        assert!(resources.contains(&format!("\"kanzlei://{uri}\"")), "{uri} in {resources}");
    }
    assert_eq!(of("prompts"), json!(["draft_workflow(wish)", "explain_failure(run)", "write_cases(workflow)"]));
    for (uri, begins) in [
        ("kanzlei://handbook/language", "# "),
        ("kanzlei://schema/workflow", "{"),
        ("kanzlei://example/iban-check", "workflow: iban-check"),
        ("kanzlei://finding/maybe-missing", "# maybe-missing"),
        ("kanzlei://workflow/berth-quote", "workflow: berth-quote"),
        ("kanzlei://service/tides", "{"),
        ("kanzlei://workflow/nothing", "error: "),
        ("file:///etc/passwd", "error: "),
    ] {
        let read = answers["read"][uri].as_str().unwrap_or_default();
        assert!(read.starts_with(begins), "{uri}: {read}");
    }
    assert_eq!((of("search"), of("wrong"), of("right")), (json!("iban-check"), json!(["unknown-member"]), json!([])));
    assert!(of("complete").to_string().contains("\"name\""), "{}", of("complete"));
    // Nothing outside was asked: the answer is the example of the service's description.
    assert_eq!(of("tried")["state"], "succeeded", "{}", of("tried"));
    assert_eq!(
        (&answers["saved"]["version"], &answers["again"]["version"]),
        (&json!(1), &json!(2)),
        "{} {}",
        of("saved"),
        of("again")
    );
    assert!(text("conflict").contains("read it with read_draft"), "{}", text("conflict"));
    let rehearsed = of("rehearsed");
    assert_eq!(
        (&rehearsed["cases"][0]["passed"], rehearsed["coverage"]["missing"].as_array().map(|all| !all.is_empty())),
        (&json!(true), Some(true)),
        "{rehearsed}"
    );
    for (prompt, parts) in [
        ("draft", &["> Check an IBAN", "tides.nextWindow", "workflow: iban-check", "## The language"][..]),
        ("cover", &["workflow: assisted", "name: known", "How cases are written"]),
    ] {
        let made = text(prompt);
        assert!(parts.iter().all(|part| made.contains(part)), "{prompt}: {made}");
    }
    assert!(text("long").contains("too long"), "{}", text("long"));
    match deploys {
        true => {
            assert!(text("deployed").contains("\"revision\""), "{}", text("deployed"));
            assert!(of("shared").to_string().contains("\"gradual\":true"), "{}", of("shared"));
        }
        false => assert!(text("deployed").contains("not allowed"), "{}", text("deployed")),
    }
}

#[test]
fn assistants_are_served_over_standard_input_and_output() {
    let office = demo("assistants_stdio");
    let program = bins().join("kanzlei").display().to_string();
    let (url, token) = (office.control(), bearer(&office).trim_start_matches("Bearer ").to_owned());
    looked_at(&answers(&["stdio", &program, &url, &token]), false);
    said(&client(&office, &["draft", "discard", "assisted"]), 0);
    looked_at(&answers(&["stdio", &program, &url, &token, "--allow-deploy"]), true);
}

#[test]
fn assistants_are_served_over_http_with_the_role_of_their_token() {
    let office = demo("assistants_http");
    let (url, token) = (office.control(), bearer(&office).trim_start_matches("Bearer ").to_owned());
    looked_at(&answers(&["http", &url, &token]), false);
    said(&client(&office, &["draft", "discard", "assisted"]), 0);
    looked_at(&answers(&["http", &url, &token, "deploy"]), true);
    // Without a token nothing is served.
    let address = format!("{url}/api/v1/mcp");
    let message = br#"{"jsonrpc":"2.0","id":1,"method":"tools/list"}"#;
    let fields = [("content-type", "application/json"), ("accept", "application/json, text/event-stream")];
    assert_eq!(http("POST", &address, &fields, message).status, 401);
    let bearer = bearer(&office);
    let with_token = [fields[0], fields[1], ("authorization", bearer.as_str())];
    let malformed = http("POST", &address, &with_token, b"{oops").status;
    assert!((400..500).contains(&malformed), "{malformed}");
}
