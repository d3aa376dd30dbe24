//! Two revisions of a workflow side by side: which one serves what, how they are compared, and how that ends.

use kanzlei_runtime::worker::gradual::look;
use serde_json::{Value as Json, json};

use super::{Answer, Bed, with};

/// A workflow that answers with a word, and fails for some `n`.
fn work(word: &str, fails: &str) -> String {
    format!(
        "workflow: work\ninput: {{n: {{type: integer, default: 0}}}}\nqueue: {{tag: 'n-${{input.n}}'}}\nentries:\n  - {{endpoint: POST /work, access: open, answer: either}}\n  - {{endpoint: POST /keyed, access: key}}\nsteps:\n  - {{fail: 502, title: Broken, when: {fails}}}\n  - {{reply: 200, body: {word}}}\n"
    )
}

const QUEUES: &str = "workflow: queues\ninput: {n: {type: integer}}\nentries: [{endpoint: POST /queues, access: open}]\nsteps: [{enqueue: work, send: {n: '${input.n}'}}, {reply: 204}]\n";

async fn gradual(bed: &Bed, documents: &[&str], rules: Json, preview: bool) -> Answer {
    let path = |at: usize| format!("document-{at}.yaml");
    let documents: Vec<Json> =
        documents.iter().enumerate().map(|(at, text)| json!({"path": path(at), "text": text})).collect();
    let body = json!({"documents": documents, "gradual": rules, "preview": preview});
    bed.control("POST /deploys", &body).await
}

/// How many of so many requests the new revision answers.
async fn new_answers(bed: &Bed, requests: usize, path: &str, headers: &[(&str, &str)]) -> usize {
    let mut new = 0;
    for _ in 0..requests {
        let answer = bed.post(path, headers, "{}").await;
        assert_eq!(answer.status, 200, "{answer:?}");
        new += usize::from(answer.body.contains("new"));
    }
    new
}

async fn shown(bed: &Bed) -> Json {
    bed.journaled().await;
    bed.control("GET /workflows/work/gradual", &Json::Null).await.json()
}

#[test]
fn a_share_of_what_comes_is_served_by_the_new_revision() {
    let (old, new) = (work("old", "false"), work("new", "false"));
    with("gradual", &[&old, QUEUES], &[], async |bed| {
        let key = bed.control("POST /keys", &json!({"name": "bridge"})).await.json()["key"].clone();
        let other = bed.control("POST /keys", &json!({"name": "other"})).await.json()["key"].clone();
        let keyed = |key: &Json| format!("Bearer {}", key.as_str().expect("a key"));
        let (bridge, other) = (keyed(&key), keyed(&other));
        let previewed = gradual(bed, &[&new, QUEUES], json!({"share": 50}), true).await.json();
        assert_eq!(
            (&previewed["deployed"][0]["revision"], &previewed["deployed"][0]["gradual"]),
            (&json!(2), &json!(true))
        );
        assert_eq!(bed.control("GET /gradual", &Json::Null).await.json(), json!({"graduals": []}), "a preview");
        let begun = gradual(bed, &[&new, QUEUES], json!({"share": 50}), false).await;
        assert_eq!(begun.json()["deployed"].as_array().map(Vec::len), Some(1), "{begun:?}");
        let half = new_answers(bed, 60, "/work", &[]).await;
        assert!((10..50).contains(&half), "{half} of 60");
        let change = async |rules: Json| {
            let answer = bed.control("PUT /workflows/work/gradual", &json!({"revision": 2, "rules": rules})).await;
            assert_eq!(answer.status, 200, "{answer:?}");
        };
        let ring = [("x-ring", "new")];
        let header = json!({"name": "X-Ring", "value": "new"});
        for (rules, path, headers, wanted) in [
            (json!({"share": 100}), "/work", &[][..], 4),
            (json!({"header": header}), "/work", &[], 0),
            (json!({"header": header}), "/work", &ring, 4),
            (json!({"header": header}), "/work", &[("x-ring", "newer")], 0),
            (json!({"keys": ["bridge"]}), "/keyed", &[("authorization", bridge.as_str())], 4),
            (json!({"keys": ["bridge"]}), "/keyed", &[("authorization", other.as_str())], 0),
            (json!({"tags": ["n-0"]}), "/work", &[], 0),
        ] {
            change(rules.clone()).await;
            assert_eq!(new_answers(bed, 4, path, headers).await, wanted, "{rules} {headers:?}");
        }
        // A key stays with the revision that it was drawn for.
        change(json!({"share": 50, "per": "caller"})).await;
        for key in [&bridge, &other] {
            let new = new_answers(bed, 12, "/keyed", &[("authorization", key)]).await;
            assert!(matches!(new, 0 | 12), "{new}");
        }
        // Jobs by their tags, whether a request or a step queues them; each keeps its revision.
        change(json!({"tags": ["n-7"]})).await;
        let [seven, eight] = [bed.queue("/work", "{\"n\":7}").await, bed.queue("/work", "{\"n\":8}").await];
        assert_eq!(bed.post("/queues", &[], "{\"n\":7}").await.status, 204);
        assert_eq!((bed.job(seven).await.revision, bed.job(eight).await.revision), (2, 1));
        let listed = bed.control("GET /jobs?workflow=work&revision=2", &Json::Null).await.json();
        assert_eq!(listed["jobs"].as_array().map(Vec::len), Some(2), "{listed}");
        let taken =
            bed.control("POST /workflows/work/gradual/take-back", &json!({"revision": 2, "reason": "a test"})).await;
        assert_eq!(taken.status, 200, "{taken:?}");
        assert_eq!(new_answers(bed, 4, "/work", &ring).await, 0);
        bed.work();
        assert!(bed.ended(seven).await.reply.is_some_and(|reply| reply.contains("new")));
        let page = shown(bed).await;
        assert_eq!(
            (&page["end"]["outcome"], &page["end"]["reason"]),
            (&json!("taken-back"), &json!("a test")),
            "{page}"
        );
        // What was taken back goes live whole under a number of its own.
        assert_eq!(bed.deploy(&[&new]).await.json()["deployed"][0]["revision"], 3);
    });
}

#[test]
fn what_cannot_stand_beside_the_live_revision_is_refused() {
    let (old, new) = (work("old", "false"), work("new", "false"));
    let elsewhere = new.replace("POST /work", "POST /elsewhere");
    let lane = "lane: slow\nat_once: 1\n";
    with("gradual_refused", &[&old, QUEUES], &[], async |bed| {
        let queues = QUEUES.replace("204", "202");
        let first = QUEUES.replace("workflow: queues", "workflow: first").replace("/queues", "/first");
        let share = || json!({"share": 10});
        for (documents, rules, says) in [
            (&[&*new, &queues][..], share(), "workflow `work`, workflow `queues`"),
            (&[lane], share(), "a lane is live for all at once"),
            (&[&first], share(), "no revision of `first` is live"),
            (&[&elsewhere], share(), "its endpoints are others"),
            (&[&old], share(), "nothing differs"),
            (&[&new], json!({"share": 0}), "nothing would reach"),
            (&[&new], json!({"share": 101}), "`share` is a percentage"),
            (&[&new], json!({"keys": ["brigde"]}), "there is no key `brigde`"),
            (&["workflow: work\nsteps: [{reply: '${nothing}'}]\n"], share(), "nothing was deployed"),
        ] {
            let answer = gradual(bed, documents, rules, false).await;
            assert!(answer.status == 422 && answer.body.contains(says), "{says}: {answer:?}");
        }
        assert_eq!(bed.control("GET /workflows/work/gradual", &Json::Null).await.status, 404);
        // Later deploys must leave the gradual revision sound.
        let uses = new.replace("steps:\n", "use: [words]\nsteps:\n").replace("body: new", "body: '${hello()}'");
        let words = |name: &str| format!("library: words\nfunctions: {{{name}: \"() => 'new'\"}}\n");
        let library = bed.deploy(&[&words("hello")]).await;
        assert_eq!(library.status, 200, "{library:?}");
        let begun = gradual(bed, &[&uses], json!({"share": 100}), false).await;
        assert_eq!(begun.status, 200, "{begun:?}");
        let broken = bed.deploy(&[&words("greet")]).await;
        assert!(broken.status == 422 && broken.body.contains("which serves 100 %"), "{broken:?}");
        // Also beside the text of the live revision, which changes nothing of it.
        let broken = bed.deploy(&[&old, &words("greet")]).await;
        assert!(broken.status == 422 && broken.body.contains("which serves 100 %"), "{broken:?}");
        let wrong = bed.control("POST /workflows/work/gradual/finish", &json!({"revision": 1})).await;
        assert_eq!(wrong.status, 409, "{wrong:?}");
        let finished = bed.control("POST /workflows/work/gradual/finish", &json!({"revision": 2})).await;
        assert_eq!(finished.status, 200, "{finished:?}");
        let workflow = bed.control("GET /workflows/work", &Json::Null).await.json();
        assert_eq!((&workflow["revision"], &workflow["gradual"]), (&json!(2), &Json::Null));
        assert_eq!(new_answers(bed, 3, "/work", &[]).await, 3);
    });
}

#[test]
fn a_worse_revision_is_taken_back_by_itself() {
    // Every other request fails, and one kind of input is not accepted any more.
    let new = work("new", "input.n > 3").replace("type: integer,", "type: integer, maximum: 8,");
    with("gradual_worse", &[&work("old", "input.n > 8")], &[], async |bed| {
        let ring = json!({"header": {"name": "X-Ring", "value": "new"}, "margin": 50, "least": 10});
        assert_eq!(gradual(bed, &[&new], ring, false).await.status, 200);
        let send =
            async |ring: &str, n: usize| bed.post("/work", &[("x-ring", ring)], &format!("{{\"n\":{n}}}")).await.status;
        let looked = async || {
            bed.journaled().await;
            let live = bed.service.app.live.load_full();
            let gradual = live.gradual("work")?;
            look(&bed.service.app.jobs, &live, gradual).await.expect("compares")
        };
        for n in 0..9 {
            assert_eq!((send("old", n).await, send("new", n).await), (200, if n > 3 { 502 } else { 200 }), "{n}");
        }
        assert_eq!(looked().await, None, "9 runs are too few");
        assert_eq!((send("old", 9).await, send("new", 9).await), (502, 422));
        let page = shown(bed).await;
        let side = |name: &str| {
            ["revision", "runs", "failed", "rejected"].map(|member| page[name][member].as_u64().expect("a number"))
        };
        assert_eq!((side("old"), side("new")), ([1, 10, 1, 0], [2, 10, 5, 1]), "{page}");
        assert_eq!(page["new"]["answers"][0], json!({"state": "failed", "status": 502, "count": 5}), "{page}");
        assert_eq!(looked().await, None, "50 % against 10 % is within a margin of 50");
        let stricter = json!({"revision": 2, "rules": {"share": 100, "margin": 20, "least": 10}});
        assert_eq!(bed.control("PUT /workflows/work/gradual", &stricter).await.status, 200);
        let why = looked().await.expect("it is worse");
        assert!(why.starts_with("50 % of its runs failed, 10 %"), "{why}");
        assert_eq!(looked().await, None, "it is taken back once");
        bed.service.app.reload().await.expect("reloads");
        assert_eq!(send("new", 9).await, 502, "the live revision serves everything");
        let page = shown(bed).await;
        assert_eq!((&page["end"]["by"], &page["end"]["reason"]), (&json!("the service"), &json!(why)), "{page}");
        let trail = bed.control("GET /audit?who=the%20service", &Json::Null).await.json();
        assert_eq!(trail["lines"][0]["subject"], "workflow work", "{trail}");
    });
}
