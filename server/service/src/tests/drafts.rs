//! Drafts over the control API: saved over the version that was read, merged, deployed; revisions and comparisons.

use serde_json::{Value as Json, json};

use super::{Answer, Bed, with};

const LIVE: &str = "workflow: quote\nentries: [{endpoint: GET /quote, access: open}]\nsteps:\n  - note: first\n  - note: second\n  - note: third\n  - note: fourth\n  - reply: 200\n    body: one\n";

async fn save(bed: &Bed, condition: (&str, &str), text: &str) -> Answer {
    bed.control_with("PUT /drafts/workflow/quote", &[condition], &json!({"text": text})).await
}

#[test]
fn a_draft_is_saved_over_what_was_read_and_merged_with_what_was_not() {
    with("drafts", &[LIVE], &[], async |bed| {
        let first = LIVE.replace("note: first", "note: a first");
        for (condition, text, status, says) in [
            (("accept", "*/*"), first.as_str(), 428, "If-None-Match"),
            (("if-match", "\"1\""), &first, 412, "gone"),
            (("if-none-match", "*"), &first, 200, "differs from live by 1 step"),
            (("if-none-match", "*"), &LIVE.replace("note: first", "note: b first"), 412, "both changed the same lines"),
            (("if-match", "x"), &first, 400, "Malformed"),
            (("if-match", "\"0\""), &first, 400, "Malformed"),
            (("if-match", "\"18446744073709551615\""), &first, 400, "Malformed"),
            (("if-match", "\"18446744073709551614\""), &first, 412, "saved version 1"),
            (("if-match", "\"1\""), &first.replace("body: one", "body: two"), 200, "differs from live by 2 steps"),
            (("if-match", "\"2\""), &first.replace("workflow: quote", "workflow: other"), 422, "another name"),
            (("if-match", "\"2\""), "workflow: quote\nsteps: [", 200, "differs from live"),
        ] {
            let answer = save(bed, condition, text).await;
            assert!(answer.status == status && answer.body.contains(says), "{condition:?} {text}: {answer:?}");
        }
        assert_eq!(bed.control("DELETE /drafts/workflow/quote", &Json::Null).await.status, 204);

        // Two authors who touch different steps.
        assert_eq!(save(bed, ("if-none-match", "*"), LIVE).await.status, 200);
        assert_eq!(save(bed, ("if-match", "\"1\""), &first).await.status, 200);
        let theirs = LIVE.replace("body: one", "body: two");
        let refused = save(bed, ("if-match", "\"1\""), &theirs).await;
        let both = first.replace("body: one", "body: two");
        let problem = refused.json();
        assert_eq!(
            (refused.status, &problem["merged"], &problem["version"]),
            (412, &json!(both), &json!(2)),
            "{problem}"
        );
        assert_eq!((&problem["current"], &problem["yours"]), (&json!(first), &json!(theirs)));
    });
}

#[test]
fn drafts_are_checked_and_deployed_with_what_is_live() {
    with("draft_deploy", &[LIVE], &[], async |bed| {
        let changed = LIVE.replace("GET /quote", "GET /offer").replace("body: one", "body: two");
        assert_eq!(save(bed, ("if-none-match", "*"), &changed).await.status, 200);
        let list = bed.control("GET /drafts", &Json::Null).await.json();
        assert_eq!((&list["drafts"][0]["base"], &list["drafts"][0]["differs"]), (&json!(1), &json!(1)), "{list}");
        let named = json!({"documents": [], "drafts": [{"kind": "workflow", "name": "quote"}]});
        assert_eq!(bed.control("POST /check", &named).await.json(), json!({"diagnostics": []}));
        let many = json!({"documents": [], "drafts": vec![&named["drafts"][0]; 2001]});
        let refused = bed.control("POST /deploys", &many).await;
        assert!(refused.status == 422 && refused.body.contains("at most 2000 drafts"), "{refused:?}");
        let mut preview = named.clone();
        preview["preview"] = true.into();
        let shown = bed.control("POST /deploys", &preview).await.json();
        let one = &shown["deployed"][0];
        assert_eq!((&one["revision"], &one["steps"][0]["rows"][0]["after"]), (&json!(2), &json!("two")), "{shown}");
        assert_eq!(one["clients"][0], json!({"breaking": true, "text": "`GET /quote` is no longer there"}), "{shown}");
        assert_eq!(bed.send("GET /quote", &[], "").await.body, "one", "a preview changes nothing");

        // Another revision goes live: the draft no longer fits.
        assert_eq!(bed.deploy(&[&LIVE.replace("body: one", "body: three")]).await.status, 200);
        let refused = bed.control("POST /deploys", &named).await;
        assert!(refused.status == 409 && refused.body.contains("revision 2 is live"), "{refused:?}");
        let mut over = named.clone();
        over["over"] = true.into();
        assert_eq!(bed.control("POST /deploys", &over).await.status, 200);
        assert_eq!(bed.send("GET /offer", &[], "").await.body, "two");
        assert_eq!(bed.control("GET /drafts", &Json::Null).await.json(), json!({"drafts": []}));
        let gone = bed.control("POST /deploys", &named).await;
        assert_eq!(gone.status, 404, "{gone:?}");

        let revisions = bed.control("GET /revisions/workflow/quote", &Json::Null).await.json();
        let shown: Vec<_> =
            revisions["revisions"].as_array().expect("a list").iter().map(|r| (&r["revision"], &r["live"])).collect();
        assert_eq!(shown, [(&json!(3), &json!(true)), (&json!(2), &json!(false)), (&json!(1), &json!(false))]);
        let text = bed.control("GET /revisions/workflow/quote/1", &Json::Null).await.json();
        assert_eq!(text["text"], LIVE);
        for (path, status) in
            [("workflow/quote/9", 404), ("workflow/other", 404), ("nothing/quote", 404), ("workflow/quote/x", 404)]
        {
            assert_eq!(bed.control(&format!("GET /revisions/{path}"), &Json::Null).await.status, status, "{path}");
        }
        let compared = bed.control("POST /compare", &json!({"before": LIVE, "after": changed})).await.json();
        assert!(compared["diff"].as_str().is_some_and(|diff| diff.contains("+    body: two")), "{compared}");
    });
}
