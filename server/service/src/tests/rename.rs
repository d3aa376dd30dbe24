//! Renaming a live workflow: its address, runs, jobs, revisions and drafts follow, and who names it is deployed with it.

use serde_json::{Value as Json, json};

use super::{Bed, with};

const OLD: &str = "workflow: old\nqueue: {tag: 'n-${input.n}'}\ninput: {n: {type: integer, default: 1}}\nentries: [{endpoint: POST /old, access: open, answer: either}]\nsteps:\n  - let: {was: '${kept.last ?? 0}'}\n  - keep: {last: '${input.n}'}\n  - enqueue: late\n    when: input.n === 7\n  - reply: 200\n    body: '${was}'\n";
const LATE: &str = "workflow: late\nsteps: [{reply: 200}]\n";
const CALLER: &str = "workflow: caller\nentries: [{endpoint: GET /caller, access: open}]\nsteps: [{invoke: old, id: r}, {reply: 200, body: '${r.body}'}]\n";

async fn rename(bed: &Bed, from: &str, to: &str) -> (u16, Json) {
    let answer = bed.control(&format!("POST /workflows/{from}/rename"), &json!({"to": to})).await;
    (answer.status, answer.json())
}

async fn ids(bed: &Bed, what: &str, workflow: &str) -> Vec<String> {
    let found = bed.control(&format!("GET /{what}?workflow={workflow}"), &Json::Null).await.json();
    let rows = found[what].as_array().cloned().unwrap_or_default();
    rows.iter()
        .map(|row| format!("{} {}", row["workflow"].as_str().unwrap_or("?"), row["id"].as_str().unwrap_or("?")))
        .collect()
}

#[test]
fn everything_follows_a_renamed_workflow() {
    with("rename", &[OLD, LATE, CALLER], &[], async |bed| {
        assert_eq!(bed.post("/old", &[], "{\"n\":5}").await.status, 200);
        let waits = bed.queue("/old", "{\"n\":7}").await;
        let draft = json!({"text": OLD.replace("default: 1", "default: 2")});
        assert_eq!(bed.control_with("PUT /drafts/workflow/old", &[("if-none-match", "*")], &draft).await.status, 200);
        let other = json!({"text": "workflow: other\nsteps: [{invoke: old}, {reply: 200}]\n"});
        assert_eq!(bed.control_with("PUT /drafts/workflow/other", &[("if-none-match", "*")], &other).await.status, 200);
        bed.journaled().await;
        let run = ids(bed, "runs", "old").await.pop().expect("a run").replace("old ", "");

        for (from, to, status, says) in [
            ("nothing", "new", 404, "no workflow `nothing` is live"),
            ("old", "caller", 409, "is live"),
            ("old", "other", 409, "draft"),
            ("old", "No good", 409, "cannot be its name"),
        ] {
            let (got, problem) = rename(bed, from, to).await;
            assert!(got == status && problem.to_string().contains(says), "{from} to {to}: {got} {problem}");
        }
        let (status, done) = rename(bed, "old", "new").await;
        assert_eq!(status, 200, "{done}");
        let deployed: Vec<(&str, u64)> = done["deployed"]
            .as_array()
            .expect("documents")
            .iter()
            .map(|one| (one["name"].as_str().unwrap_or("?"), one["revision"].as_u64().unwrap_or(0)))
            .collect();
        assert_eq!(deployed, [("caller", 2), ("new", 2)]);
        assert_eq!(done["drafts"], json!(["workflow/other"]));

        // The address and what is kept stay; callers call it by its new name.
        assert_eq!(bed.send("GET /caller", &[], "").await.body, "5");
        assert_eq!(bed.post("/old", &[], "{\"n\":6}").await.body, "1");
        // Runs and jobs from before are found and shown under the new name only.
        bed.journaled().await;
        let runs = ids(bed, "runs", "new").await;
        assert_eq!((runs.len(), runs.last()), (2, Some(&format!("new {run}"))), "{runs:?}");
        let gone = bed.control("GET /runs?workflow=old", &Json::Null).await;
        assert!(gone.status == 404 && gone.body.contains("it is called `new` now"), "{gone:?}");
        assert_eq!(ids(bed, "jobs", "new").await, [format!("new {waits}")]);
        let shown = bed.control(&format!("GET /runs/{run}"), &Json::Null).await.json();
        assert_eq!((&shown["workflow"], &shown["sheet"][0]["kind"]), (&json!("new"), &json!("let")), "{shown}");
        let case = bed.control(&format!("GET /runs/{run}/case"), &Json::Null).await.json();
        assert!(case["document"].as_str().is_some_and(|text| text.starts_with("cases: new")), "{case}");
        let retrace = json!({"runs": {"workflow": "new"}, "documents": [], "drafts": []});
        let retraced = bed.control("POST /retraces", &retrace).await.json();
        assert_eq!(retraced["runs"].as_array().map(Vec::len).unwrap_or(0), 0, "{retraced}");
        // A job that was queued before runs what it was queued with, and finds what was renamed since.
        assert_eq!(rename(bed, "late", "later").await.0, 200);
        bed.work();
        bed.ended(waits).await;
        let jobs = ids(bed, "jobs", "later").await;
        assert_eq!(jobs.len(), 1, "{jobs:?}");
        // Revisions and the draft follow.
        let history = bed.control("GET /revisions/workflow/new", &Json::Null).await.json();
        assert_eq!(history["revisions"].as_array().map(Vec::len), Some(3), "{history}");
        let draft = bed.control("GET /drafts/workflow/new", &Json::Null).await.json();
        assert!(draft["text"].as_str().is_some_and(|text| text.starts_with("workflow: new\n")), "{draft}");
        // The old name is free for another workflow, whose runs are its own; and a rename can be undone.
        assert_eq!(
            bed.deploy(&[&OLD.replace("POST /old", "POST /another").replace("enqueue: late", "enqueue: later")])
                .await
                .status,
            200
        );
        bed.post("/another", &[], "{}").await;
        bed.journaled().await;
        assert_eq!((ids(bed, "runs", "old").await.len(), ids(bed, "runs", "new").await.len()), (1, 3));
        let taken = rename(bed, "new", "old").await;
        assert_eq!(taken.0, 409);
        assert_eq!(rename(bed, "later", "late").await.0, 200);
        assert_eq!(ids(bed, "jobs", "late").await.len(), 1);
    });
}
