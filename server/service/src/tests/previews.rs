//! Drafts at addresses of their own: called like an endpoint by pages of any origin, each call a trial.

use serde_json::{Value as Json, json};

use super::{Answer, Bed, with};

const LIVE: &str = "workflow: other\nentries: [{endpoint: GET /other, access: open}]\nsteps: [{keep: {n: 1}}, {reply: 200, body: live}]\n";
const DRAFT: &str = "workflow: quote\ninput: {n: {type: integer, minimum: 1}}\nentries:\n  - {endpoint: POST /quotes, access: open}\n  - {endpoint: POST /quotes/later, access: open, answer: later}\nsteps:\n  - pause: 20 s\n  - enqueue: other\n  - reply: 201\n    headers: {X-Own: yes}\n    body: {twice: '${input.n * 2}'}\n";

async fn save(bed: &Bed, condition: (&str, &str), text: &str) {
    let saved = bed.control_with("PUT /drafts/workflow/quote", &[condition], &json!({"text": text})).await;
    assert_eq!(saved.status, 200, "{saved:?}");
}

async fn open(bed: &Bed, more: Json) -> Answer {
    let mut asked = json!({"drafts": [{"kind": "workflow", "name": "quote"}]});
    more.as_object().into_iter().flatten().for_each(|(name, value)| asked[name] = value.clone());
    bed.control("POST /previews", &asked).await
}

#[test]
fn a_draft_is_called_at_its_address_before_it_is_live() {
    with("previews", &[LIVE], &[], async |bed| {
        save(bed, ("if-none-match", "*"), DRAFT).await;
        let opened = open(bed, json!({})).await.json();
        let url = opened["url"].as_str().expect("an address");
        let base = &url[url.find("/~/").expect("a path")..];
        assert_eq!(base.len(), "/~/drafts/".len() + 64);
        assert_eq!(opened["endpoints"][0]["url"], json!(format!("{url}/quotes")));
        let call = async |line: &str, body: &str| {
            let (method, path) = line.split_once(' ').expect("a line");
            let line = format!("{method} {base}{path}");
            bed.send(&line, &[("content-type", "application/json"), ("origin", "https://page.example")], body).await
        };

        // What pages of any origin need, and the mark, are on every answer.
        for (line, body, status, says) in [
            ("POST /quotes", "{\"n\":4}", 201, "{\"twice\":8}"),
            ("POST /quotes", "{\"n\":0}", 422, "Invalid input"),
            ("GET /quotes", "", 405, "allowed methods"),
            ("GET /nothing", "", 404, "nothing is deployed"),
            ("GET /other", "", 200, "live"),
        ] {
            let answer = call(line, body).await;
            assert!(answer.status == status && answer.body.contains(says), "{line}: {answer:?}");
            let headers = ["access-control-allow-origin", "cache-control", "run-id"].map(|name| answer.header(name));
            assert_eq!(headers, [Some("*"), Some("no-store"), None], "{line}");
            assert!(answer.header("trial-id").is_some(), "{line}");
        }
        let asked = [("origin", "https://page.example"), ("access-control-request-headers", "content-type, x-own")];
        let before = bed.send(&format!("OPTIONS {base}/quotes"), &asked, "").await;
        assert_eq!(
            (
                before.status,
                before.header("access-control-allow-methods"),
                before.header("access-control-allow-headers")
            ),
            (204, Some("POST, OPTIONS"), Some("content-type, x-own"))
        );

        // Calls are trials: nothing is queued, kept or counted, and what they did can be looked at.
        assert_eq!(call("POST /quotes", "{\"n\":5}").await.header("x-own"), Some("yes"));
        let trials = bed.control("GET /trials", &Json::Null).await.json();
        assert_eq!(trials["trials"][0]["entry"], "POST /quotes", "{trials}");
        let id = trials["trials"][0]["id"].as_str().expect("an id");
        let trial = bed.control(&format!("GET /trials/{id}"), &Json::Null).await.json();
        let modes: Vec<&str> =
            trial["effects"].as_array().expect("effects").iter().filter_map(|one| one["mode"].as_str()).collect();
        assert_eq!((modes, &trial["input"]), (vec!["simulated", "simulated"], &json!({"n": 5})), "{trial}");
        bed.journaled().await;
        let (runs, jobs) = (bed.control("GET /runs", &Json::Null).await, bed.control("GET /jobs", &Json::Null).await);
        assert_eq!((&runs.json()["runs"], &jobs.json()["jobs"]), (&json!([]), &json!([])));
        assert_eq!(bed.store().kept("other").await.expect("reads").version, 0);

        // An endpoint that answers later is polled as a live one is.
        let later = call("POST /quotes/later", "{\"n\":6}").await;
        let job = later.header("location").expect("an address").to_owned();
        assert_eq!((later.status, later.json()["state"].as_str()), (202, Some("succeeded")));
        assert_eq!(
            bed.send(&format!("GET {job}"), &[], "").await.json()["links"]["result"],
            json!(format!("{job}/result"))
        );
        assert_eq!(bed.send(&format!("GET {job}/result"), &[], "").await.body, "{\"twice\":12}");

        // The address follows the draft, also where it has errors.
        for (version, text, status, says) in [
            ("\"1\"", DRAFT.replace("* 2", "* 3"), 201, "{\"twice\":12}"),
            ("\"2\"", DRAFT.replace("input.n", "input.m"), 500, "The draft has errors"),
        ] {
            save(bed, ("if-match", version), &text).await;
            super::eventually(async || {
                let answer = call("POST /quotes", "{\"n\":4}").await;
                answer.status == status && answer.body.contains(says)
            })
            .await;
        }
        assert!(bed.control("GET /previews", &Json::Null).await.json()["previews"][0]["refused"].is_string());
        let closed = format!("DELETE /previews/{}", opened["id"].as_str().expect("an id"));
        for status in [204, 404] {
            assert_eq!(bed.control(&closed, &Json::Null).await.status, status);
        }
        assert_eq!(call("POST /quotes", "{\"n\":4}").await.status, 404);
    });
}

#[test]
fn an_address_is_opened_with_care() {
    with("previews_opened", &[LIVE], &[], async |bed| {
        save(bed, ("if-none-match", "*"), DRAFT).await;
        for (more, status, says) in [
            (json!({"drafts": []}), 422, "name 1 to 50 drafts"),
            (json!({"drafts": [{"kind": "workflow", "name": "none"}]}), 404, "no draft"),
            (json!({"hours": 169}), 422, "1 to 168 hours"),
            (json!({"stubs": "s.make: {bodyy: 1}"}), 422, "stubs"),
            (json!({"real": ["enqueue"], "hours": 1}), 200, "/~/drafts/"),
        ] {
            let answer = open(bed, more.clone()).await;
            assert!(answer.status == status && answer.body.contains(says), "{more}: {answer:?}");
        }
        // What was asked to be real is.
        let listed = bed.control("GET /previews", &Json::Null).await.json();
        let url = listed["previews"][0]["url"].as_str().expect("an address").to_owned();
        let base = &url[url.find("/~/").expect("a path")..];
        let called = bed.post(&format!("{base}/quotes"), &[("content-type", "application/json")], "{\"n\":1}").await;
        assert_eq!(called.status, 201, "{called:?}");
        assert_eq!(bed.control("GET /jobs", &Json::Null).await.json()["jobs"].as_array().map(Vec::len), Some(1));
        for token in ["", "0", &"0".repeat(64), &base["/~/drafts/".len()..][..63]] {
            assert_eq!(bed.send(&format!("GET /~/drafts/{token}/other"), &[], "").await.status, 404, "{token}");
        }
        save(bed, ("if-match", "\"1\""), "workflow: quote\nsteps: [").await;
        let refused = open(bed, json!({})).await;
        assert!(refused.status == 422 && refused.body.contains("line 2"), "{refused:?}");
    });
}
