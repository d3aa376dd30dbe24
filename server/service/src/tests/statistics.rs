//! Statistics of steps: every run is counted where it ends, with the steps of what it invokes.

use serde_json::{Value as Json, json};

use super::with;

const INNER: &str =
    "workflow: inner\ninput: {n: {type: integer}}\nsteps:\n  - if: input.n < 0\n    then: [{fail: 422, title: Less}]\n";
const OUTER: &str = "workflow: outer\ninput: {n: {type: integer}}\nentries: [{endpoint: POST /outer, access: open, answer: either}]\nsteps:\n  - invoke: inner\n    send: {n: \"${input.n}\"}\n  - each: item\n    in: \"Array.from({length: Math.abs(input.n)}, (none, at) => at)\"\n    steps: [{note: \"${item}\"}]\n  - fail: 409\n    title: Three\n    when: input.n === 3\n  - reply: 200\n";

#[test]
fn steps_are_counted_with_every_run() {
    with("statistics", &[INNER, OUTER], &[("journal.successes", "1")], async |bed| {
        for n in [1, 2, 3, -1, 100] {
            bed.send("POST /outer", &[("content-type", "application/json")], &format!("{{\"n\":{n}}}")).await;
        }
        let job = bed.queue("/outer", "{\"n\":2}").await;
        bed.work();
        bed.ended(job).await;
        let found = bed.control("GET /workflows/outer/statistics?since=1h", &Json::Null).await.json();
        let count = |number: &str| {
            let step = found["steps"].as_array().expect("steps").iter().find(|step| step["number"] == number);
            step.map(|step| {
                (step["counted"]["runs"].as_u64(), step["counted"]["failures"].as_u64(), step["title"].clone())
            })
        };
        let of = |runs, failures, title: &str| Some((Some(runs), Some(failures), json!(title)));
        assert_eq!((found["runs"]["runs"].as_u64(), found["runs"]["failures"].as_u64()), (Some(6), Some(2)), "{found}");
        for (number, wanted) in [
            ("1", of(6, 1, "inner")),
            ("1.1", of(6, 1, "input.n < 0")),
            ("1.1.1", of(1, 1, "422 Less")),
            ("2.1", of(1 + 2 + 3 + 100 + 2, 0, "item")),
            ("3", of(1, 1, "409 Three")),
            ("4", of(4, 0, "200")),
            ("9", None),
        ] {
            assert_eq!(count(number), wanted, "{number} of {found}");
        }
        assert!(found["steps"][0]["counted"]["p95_us"].is_u64(), "{found}");
        // Another revision has counts of its own, and what a span does not cover is not counted.
        bed.deploy(&[&OUTER.replace("title: Three", "title: It is three")]).await;
        let next = bed.control("GET /workflows/outer/statistics", &Json::Null).await.json();
        assert_eq!((&next["runs"]["runs"], &next["others"]), (&json!(0), &json!([{"revision": 1, "runs": 6}])));
        let before = bed.control("GET /workflows/outer/statistics?revision=1", &Json::Null).await.json();
        assert_eq!(before["runs"], found["runs"]);
        let later =
            bed.control("GET /workflows/outer/statistics?since=2999-01-01T00:00:00Z&revision=1", &Json::Null).await;
        assert_eq!(later.json()["runs"]["runs"], 0);
        for (query, status) in [("nothing/statistics", 404), ("outer/statistics?since=soon", 422)] {
            assert_eq!(bed.control(&format!("GET /workflows/{query}"), &Json::Null).await.status, status, "{query}");
        }
    });
}
