//! Workflows that are begun from an example check, but for their steps.

use serde_json::json;

use crate::Workspace;
use crate::begin::{Beginning, Changed, begin};

fn wanted(endpoint: &str, example: &str) -> Beginning {
    Beginning {
        name: "w".into(),
        about: "Quotes: dues.".into(),
        endpoint: endpoint.into(),
        example: example.into(),
        ..Beginning::default()
    }
}

#[test]
fn examples_become_typed_inputs() {
    for (endpoint, example, made, input) in [
        (
            "POST /harbours/{harbour}/quotes",
            r#"{"imo": "9074720", "arrives": "2027-03-04T06:00:00Z", "nights": 1, "tags": ["a"], "more": null}"#,
            "POST /harbours/{harbour}/quotes",
            json!({
                "harbour": {"type": "string"},
                "imo": {"type": "string", "examples": ["9074720"]},
                "arrives": {"type": "string", "format": "date-time", "examples": ["2027-03-04T06:00:00Z"]},
                "nights": {"type": "integer", "examples": [1]},
                "tags": {"type": "array", "items": {"type": "string"}, "examples": [["a"]]},
                "more": {"type": "string", "optional": true},
            }),
        ),
        (
            "",
            "curl -sS -X PUT 'https://office.example/berths/B4?dry=true' \\\n  -H 'X-Office: Lindvik' --data-raw '{\"x-berth\": 2.5}'",
            "PUT /berths/B4",
            json!({"dry": {"type": "boolean", "examples": [true]}, "x_berth": {"type": "number", "examples": [2.5]}}),
        ),
        (
            "",
            "curl http://127.0.0.1:7080/tide?draught=6.2&zip=0123",
            "GET /tide",
            json!({"draught": {"type": "number", "examples": [6.2]}, "zip": {"type": "string", "examples": ["0123"]}}),
        ),
        ("GET /x", "curl http://h/y -d a=1", "GET /x", json!({"a": {"type": "integer", "examples": [1]}})),
        ("", "", "", json!({})),
    ] {
        let begun = begin(&wanted(endpoint, example)).unwrap_or_else(|why| panic!("{example}: {why}"));
        assert_eq!((begun.endpoint.as_str(), &begun.input), (made, &input), "{example}");
        let workspace = Workspace::of([("w.yaml".to_owned(), begun.text.clone())]);
        let codes: Vec<String> = workspace
            .diagnostics("w.yaml")
            .into_iter()
            .filter(|one| one.line < begun.text.lines().count() as u32)
            .map(|one| format!("{} {}", one.code, one.message))
            .collect();
        assert!(codes.iter().all(|code| code.starts_with("unused")), "{}\n{codes:?}", begun.text);
    }
    let member = begin(&wanted("POST /berths", r#"{"x-berth": 2}"#)).expect("a body");
    assert!(member.text.contains("    from: {x_berth: body.x-berth}\n"), "{}", member.text);
    let dashed = begin(&wanted("", "curl 'http://h/tide?at-least=6'")).expect("a query");
    assert!(dashed.text.contains("    from: {at_least: query.at-least}\n"), "{}", dashed.text);
    for (name, example, says) in [
        ("W", "", "cannot be the name"),
        ("w", "[1]", "no JSON object"),
        ("w", "a", "neither JSON nor"),
        ("w", "curl -d 'a", "cannot be read"),
        ("w", "curl -s", "no address"),
    ] {
        let why = begin(&Beginning { name: name.into(), ..wanted("", example) }).expect_err(says);
        assert!(why.contains(says), "{example}: {why}");
    }
    let change =
        Some(Changed { table: "bill".into(), database: "harbour".into(), of: vec!["insert".into(), "update".into()] });
    let changed = begin(&Beginning { change, ..wanted("", "{\"id\": 7, \"paid\": false}") }).expect("a document").text;
    let entry = "\nentries:\n  - change: bill\n    database: harbour\n    of: [insert, update]\n";
    assert!(changed.contains(entry) && changed.contains("  id: {type: integer, examples: [7]}\n"), "{changed}");
    let timed = Beginning { timetable: "0 2 * * *".into(), zone: "Europe/Oslo".into(), ..wanted("", "{\"a\": 1}") };
    assert!(begin(&timed).expect("a timetable").text.contains("  - timetable: 0 2 * * *\n    zone: Europe/Oslo\n"));
}

#[test]
fn a_workflow_may_begin_with_a_message_of_a_sender() {
    let wanted = Beginning { webhook: "from/yard".into(), ..wanted("", r#"{"id": "E-1", "data": {"berth": 7}}"#) };
    let begun = begin(&wanted).expect("a webhook");
    assert!(
        begun.text.contains("entries:\n  - webhook: /from/yard\n    proof: none\n    send:\n      id: "),
        "{}",
        begun.text
    );
    assert!(begun.text.contains("      berth: \"${delivery.body.data.berth}\"\n"), "{}", begun.text);
    assert_eq!((begun.endpoint.as_str(), &begun.input["berth"]["type"]), ("POST /from/yard", &json!("integer")));
}
