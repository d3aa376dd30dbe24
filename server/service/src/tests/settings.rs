//! Settings: set by a deploy, in force for what begins afterwards, pinned for jobs that wait.

use serde_json::{Value as Json, json};

use super::{Bed, with};

const OFFICE: &str = "settings: office\nvalues:\n  days: {type: integer, minimum: 1, default: 3}\n  lanes: {type: integer, default: 2}\n";
const ASK: &str = "workflow: ask\nentries: [{endpoint: GET /ask, access: open}]\nsteps: [{invoke: inner, id: inner}, {reply: 200, body: '${inner.body}'}]\n";
const INNER: &str = "workflow: inner\nqueue: {tag: 'in ${settings.days} days'}\nentries: [{endpoint: POST /later, access: open, answer: later}]\nsteps: [{reply: 200, body: 'days ${settings.days}'}]\n";
const LANE: &str = "lane: slow\nat_once: ${settings.lanes}\n";

async fn set(bed: &Bed, name: &str, value: Json) -> (u16, String) {
    let answer = bed.control("POST /deploys", &json!({"documents": [], "settings": {name: value}})).await;
    (answer.status, answer.body)
}

#[test]
fn a_value_is_set_by_a_deploy_and_kept_by_what_waits() {
    with("settings", &[OFFICE, ASK, INNER, LANE], &[], async |bed| {
        let asked = async || bed.send("GET /ask", &[], "").await.body;
        assert_eq!(asked().await, "days 3");
        let waits = bed.queue("/later", "").await;
        for (name, value, status, says) in [
            ("days", json!(5), 200, "\"revision\":2"),
            ("days", json!(0), 422, "less than the minimum of 1"),
            ("days", json!("many"), 422, "`days` is set to"),
            ("dais", json!(1), 422, "did you mean `days`?"),
            ("lanes", json!(0), 422, "whole number from 1"),
            ("lanes", json!(7), 200, "\"revision\":3"),
        ] {
            let (got, body) = set(bed, name, value.clone()).await;
            assert!(got == status && body.contains(says), "{name} {value}: {got} {body}");
        }
        assert_eq!(asked().await, "days 5");
        assert_eq!(bed.service.app.live.load().lane("slow").at_once, Some(7));
        let listed = bed.control("GET /settings", &Json::Null).await.json();
        let days = &listed["settings"][0];
        assert_eq!((&days["name"], &days["default"], &days["set"]), (&json!("days"), &json!(3), &json!(5)), "{listed}");
        assert_eq!(days["users"], json!(["workflow/ask", "workflow/inner"]));
        assert_eq!(listed["settings"][1]["users"], json!(["lane/slow"]));

        // Deploying the document again leaves what is set; a value that no longer fits stops it.
        assert_eq!(bed.deploy(&[&OFFICE.replace("default: 3", "default: 4")]).await.status, 200);
        assert_eq!(asked().await, "days 5");
        let narrow = bed.deploy(&[&OFFICE.replace("minimum: 1", "minimum: 6")]).await;
        assert!(narrow.status == 422 && narrow.body.contains("`days` is set to 5"), "{narrow:?}");
        assert_eq!(set(bed, "days", Json::Null).await.0, 200);
        assert_eq!(asked().await, "days 4");

        // The job was queued when it was three days; its run and those of requests can be made again.
        bed.work();
        assert_eq!(bed.ended(waits).await.tags, ["in 3 days"]);
        // The journal is written behind the end of a job.
        bed.journaled().await;
        let run = bed.control(&format!("GET /runs/{waits}"), &Json::Null).await.json();
        assert_eq!(run["reply"], "days 3", "{run}");
        let runs = bed.control("GET /runs?workflow=ask&limit=9", &Json::Null).await.json();
        let oldest = runs["runs"].as_array().and_then(|runs| runs.last()).expect("a run")["id"].clone();
        let oldest = oldest.as_str().expect("an id");
        let case = bed.control(&format!("GET /runs/{oldest}/case"), &Json::Null).await.json();
        assert!(case["document"].as_str().is_some_and(|text| text.contains("settings: {days: 3}")), "{case}");
        let scope =
            bed.control(&format!("GET /runs/{oldest}/scope?step=1.1&expression=settings.days"), &Json::Null).await;
        assert!(scope.body.contains("3"), "{scope:?}");
    });
}
