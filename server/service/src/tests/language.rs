//! What editors ask the control API, on documents among those that are live.

use serde_json::{Value as Json, json};

use super::with;

const SERVICE: &str = "service: registry\nbase: https://registry.example\n";
const LIVE: &str = "workflow: dues
input: {imo: {type: string}}
steps:
  - {id: vessel, call: 'GET https://registry.example/vessels'}
  - {reply: 200, body: '${input.imo}'}
";
const DRAFT: &str = "workflow: quote
input: {imo: {type: string}, nights: {type: integer}}
steps:
  - id: bill
    invoke: dues
    send: {imo: \"${input.imo}\"}
  - note: ${input.nights} nights
  - reply: 200
    body: ${bill.status}
";

/// A question about a place of the draft, with further members.
fn question(before: &str, more: Json) -> Json {
    let position = DRAFT.find(before).map_or(0, |at| at + before.len());
    let mut body =
        json!({"documents": [{"path": "quote.yaml", "text": DRAFT}], "path": "quote.yaml", "position": position});
    for (name, value) in more.as_object().into_iter().flatten() {
        body[name] = value.clone();
    }
    body
}

#[test]
fn editors_are_answered_about_drafts_among_what_is_live() {
    with("language", &[SERVICE, LIVE], &[], async |bed| {
        for (call, before, more, pointer, wanted) in [
            ("completion", "${input.n", json!({}), "/suggestions/0/label", json!("nights")),
            ("completion", "invoke: d", json!({}), "/suggestions/0/label", json!("dues")),
            (
                "completion",
                "",
                json!({"at": "steps/2/body", "expression": "bill.st", "position": 7}),
                "/suggestions/0/label",
                json!("status"),
            ),
            ("definition", "invoke: du", json!({}), "/locations/0/path", json!("live/workflow/dues/document-1.yaml")),
            ("references", "id: bi", json!({}), "/locations/1/path", json!("quote.yaml")),
            ("rename", "id: bi", json!({"name": "dues_of"}), "/edits/quote.yaml/1/text", json!("dues_of")),
            ("outline", "", json!({}), "/steps/2/kind", json!("reply")),
            ("scope", "", json!({"step": "2"}), "/names/5/name", json!("bill")),
            ("diagnostics", "", json!({}), "/diagnostics", json!([])),
            ("sheet", "", json!({}), "/sheet/parts/2/title", json!("${input.nights} nights")),
            (
                "sheet",
                "",
                json!({"changes": [{"change": "text", "at": ["steps", 1, "note"], "text": "${input.night}"}], "at": "steps/1"}),
                "/form/fields/0/value",
                json!("input.night"),
            ),
            (
                "sheet",
                "",
                json!({"changes": [{"change": "set", "at": ["steps", 1, "note"], "value": "${input.night}"}]}),
                "/diagnostics/0/code",
                json!("unknown-input"),
            ),
            (
                "offers",
                "",
                json!({"at": "steps/1"}),
                "/offers/0/value",
                json!("id: dues\ninvoke: dues\nsend: {imo: \"${input.imo}\"}"),
            ),
            ("values", "", json!({"at": "steps/0/send/imo"}), "/values/0/expression", json!("input.imo")),
            (
                "evaluate",
                "",
                json!({"at": "steps/2", "expression": "bill.status + input.nights", "values": {"input": {"nights": 2}}}),
                "/made_up",
                json!(["bill"]),
            ),
        ] {
            let answer = bed.control(&format!("POST /language/{call}"), &question(before, more)).await;
            let found = answer.json().pointer(pointer).cloned();
            assert_eq!((answer.status, found), (200, Some(wanted)), "{call}: {}", answer.body);
        }
        let hover = bed.control("POST /language/hover", &question("${bill.st", json!({}))).await.json();
        assert!(hover["hover"]["text"].as_str().is_some_and(|text| text.contains("status: 200")), "{hover}");
        let taken = json!({"at": "steps/0", "count": 2, "name": "billing"});
        let extracted = bed.control("POST /language/extract", &question("", taken)).await.json();
        assert!(extracted["document"].as_str().is_some_and(|text| text.contains("workflow: billing")), "{extracted}");
    });
}

#[test]
fn what_cannot_be_answered_is_said() {
    with("language_faults", &[SERVICE, LIVE], &[], async |bed| {
        for (call, body, status, says) in [
            ("rename", question("id: bi", json!({"name": "input"})), 409, "cannot be"),
            ("scope", question("", json!({"step": "9"})), 404, "no step 9"),
            ("extract", question("", json!({"at": "steps/2", "name": "tail"})), 409, "replies"),
            ("hover", question("", json!({"path": "other.yaml"})), 404, "none of the documents"),
            ("hover", json!({"documents": 1}), 400, "Malformed"),
            ("begin", json!({"name": "w", "example": "[1]"}), 422, "no JSON object"),
            ("edit", json!({"text": "a: [", "change": {"change": "remove", "at": ["a"]}}), 422, "cannot be read"),
            ("edit", json!({"text": "a: 1\n", "change": {"change": "forget", "at": ["a"]}}), 400, "Malformed"),
        ] {
            let answer = bed.control(&format!("POST /language/{call}"), &body).await;
            assert!(answer.status == status && answer.body.contains(says), "{call}: {answer:?}");
        }
        let change = json!({"change": "set", "at": ["steps", 1, "note"], "value": "${input.nights} long"});
        let edited = bed.control("POST /language/edit", &json!({"text": DRAFT, "change": change})).await.json();
        assert_eq!(edited["text"], DRAFT.replace("nights} nights", "nights} long"));
        assert_eq!(edited["undo"][0]["text"], "${input.nights} nights");
        let all = bed.control("GET /language/findings", &Json::Null).await.json();
        assert!(all["findings"].as_array().is_some_and(|all| all.len() > 80), "{all}");
    });
}
