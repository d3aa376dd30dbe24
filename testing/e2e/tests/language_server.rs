//! `kanzlei language-server`, driven by a client library of another language.

use std::process::Command;

use serde_json::{Value as Json, json};

/// What the client in `language-client` sees on a copy of the demo office.
fn answers() -> Json {
    let folder = kanzlei_e2e::node::folder("language-client");
    let office = kanzlei_harness::scratch::folder("language-server");
    std::fs::create_dir_all(&office).expect("folder");
    let demo = kanzlei_e2e::root().join("demo/harbour");
    let copied = Command::new("cp").arg("-r").arg(&demo).arg(&office).status().expect("cp");
    assert!(copied.success());
    let output = Command::new("node")
        .arg("client.mjs")
        .arg(kanzlei_e2e::bins().join("kanzlei"))
        .arg(office.join("harbour"))
        .current_dir(&folder)
        .output()
        .expect("node");
    let said = String::from_utf8_lossy(&output.stderr);
    assert!(output.status.success(), "{said}");
    let _ = std::fs::remove_dir_all(office);
    serde_json::from_slice(&output.stdout).expect("JSON")
}

#[test]
fn an_editor_is_served() {
    let answers = answers();
    let of = |name: &str| answers[name].clone();
    assert_eq!(of("clean"), 0);
    assert!(
        of("hover").as_str().is_some_and(|text| text.contains("From step 3: `call tides.nextWindow`")),
        "{answers}"
    );
    assert_eq!(of("definition"), json!(["registry.openapi.yaml"]));
    assert!(of("references").as_u64() >= Some(5), "{answers}");
    assert_eq!(of("renamed"), json!({"workflows/berth-quote.yaml": 2, "cases/berth-quote.yaml": 2}));
    assert!(of("refused").as_str().is_some_and(|why| why.contains("it would break")), "{answers}");
    assert_eq!(of("symbols")[1], json!(["2 if vessel.status === 404", ["2.1 then: fail 422"]]));
    assert!(of("folds").as_u64() >= Some(6), "{answers}");
    assert_eq!(of("finding")["code"], "unknown-name");
    assert_eq!(of("fix"), json!([["write `tide`", "tide"]]));
    assert_eq!(of("members")[0], "station");
    assert_eq!(of("step"), json!({"format": 2, "text": "call: ${1:service.operation}\n    send: {$2}"}));
    assert_eq!(of("exit"), 0);
}
