//! What belongs to a caller, a tag or a value is erased everywhere, and nothing else.

use kanzlei_runtime::clock::now;
use kanzlei_store::queue::Filter;
use serde_json::{Value as Json, json};

use super::{Bed, eventually, server, with};

const WORK: &str = "workflow: work\ninput: {imo: {type: string}, n: {type: integer, default: 0}}\nqueue: {tag: 'imo-${input.imo}'}\nentries:\n  - {endpoint: POST /work, access: open, answer: either}\n  - {endpoint: POST /held, access: open, answer: later}\n  - {endpoint: POST /keyed, access: key, answer: either}\nsteps:\n  - {fail: 409, title: Taken, when: input.n === 9}\n  - {reply: 200, body: '${input.imo}'}\n";
const SECRET: &str = "workflow: secret\ninput: {pin: {type: string, confidential: true}}\nentries: [{endpoint: POST /secret, access: open, answer: either}]\nsteps: [{reply: 204}]\n";

async fn erased(bed: &Bed, what: Json) -> Json {
    let begun = bed.control("POST /erasures", &what).await;
    assert_eq!(begun.status, 202, "{begun:?}");
    let id = begun.json()["id"].as_str().expect("an id").to_owned();
    let shown = async || bed.control(&format!("GET /erasures/{id}"), &Json::Null).await.json();
    eventually(async || shown().await["ended"] == true).await;
    let report = shown().await;
    assert_eq!(report["failure"], Json::Null, "{report}");
    report
}

/// Tables of the records in which a text occurs.
fn places_of(name: &str, text: &str) -> Vec<String> {
    let database = format!("kanzlei_{name}");
    let sql = |sql: &str| server().sql(&database, sql).expect("SQL");
    let columns = sql(&format!(
        "SELECT CONCAT(TABLE_NAME, ' ', COLUMN_NAME) FROM information_schema.COLUMNS WHERE TABLE_SCHEMA = '{database}' AND DATA_TYPE IN ('varchar', 'text', 'mediumtext', 'longtext', 'char', 'blob', 'mediumblob', 'longblob')"
    ));
    let has = |column: &&str| {
        let (table, column) = column.split_once(' ').expect("two names");
        sql(&format!("SELECT COUNT(*) FROM `{table}` WHERE INSTR(`{column}`, CAST('{text}' AS BINARY)) > 0")).trim()
            != "0"
    };
    columns.lines().filter(has).map(str::to_owned).collect()
}

#[test]
fn a_value_is_erased_everywhere() {
    with("erased", &[WORK, SECRET], &[], async |bed| {
        bed.work();
        let mut ended = Vec::new();
        for (imo, n) in [("9074720", 1), ("9074720", 9), ("9417350", 1)] {
            let job = bed.queue("/work", &format!("{{\"imo\":\"{imo}\",\"n\":{n}}}")).await;
            ended.push(bed.ended(job).await.id);
            let direct = bed
                .post(
                    "/work",
                    &[("idempotency-key", &format!("k{imo}{n}"))],
                    &format!("{{\"imo\":\"{imo}\",\"n\":{n}}}"),
                )
                .await;
            assert!(matches!(direct.status, 200 | 409), "{direct:?}");
        }
        assert_eq!(bed.post("/work", &[], "{\"imo\":\"9074720\",\"other\":1}").await.status, 422);
        let sealed = bed.queue("/secret", "{\"pin\":\"pin-9074720\"}").await;
        bed.ended(sealed).await;
        bed.control("PUT /holds/work", &json!({"reason": "a test"})).await;
        let open = bed.queue("/held", "{\"imo\":\"9074720\"}").await;
        bed.journaled().await;
        let text = |preview: bool| json!({"text": "9074720", "preview": preview});
        let counts = |report: &Json| -> Vec<u64> {
            ["jobs", "open", "runs", "refusals", "sealed"]
                .iter()
                .map(|name| report[*name].as_u64().expect(name))
                .collect()
        };
        let previewed = erased(bed, text(true)).await;
        assert_eq!(counts(&previewed), [3, 1, 5, 1, 0], "{previewed}");
        assert!(bed.store().job(ended[0]).await.expect("reads").is_some(), "a preview erases nothing");
        let report = erased(bed, text(false)).await;
        assert_eq!(counts(&report), counts(&previewed), "{report}");
        for job in [ended[0], ended[1], sealed] {
            assert!(bed.store().job(job).await.expect("reads").is_none());
            assert_eq!(bed.control(&format!("GET /runs/{job}"), &Json::Null).await.status, 404);
        }
        assert_eq!(
            bed.control(&format!("GET /runs/{}", ended[2]), &Json::Null).await.json()["input"]["imo"],
            "9417350"
        );
        let runs = bed.control("GET /runs?workflow=work", &Json::Null).await.json();
        assert_eq!(runs["runs"].as_array().map(Vec::len), Some(2), "others stay: {runs}");
        // What has not ended stays until it is cancelled.
        let cancel = json!({"action": "cancel", "ids": [open.to_string()]});
        assert_eq!(bed.control("POST /jobs/actions", &cancel).await.status, 200);
        let report = erased(bed, text(false)).await;
        assert_eq!(counts(&report), [1, 0, 0, 0, 0], "{report}");
        assert_eq!(places_of("erased", "9074720"), [] as [String; 0]);
        let trail = bed.control("GET /audit", &Json::Null).await.body;
        assert!(trail.contains("erasure by text") && !trail.contains("9074720"), "{trail}");
    });
}

#[test]
fn a_caller_and_a_tag_are_erased() {
    with("erased_callers", &[WORK], &[], async |bed| {
        bed.work();
        for imo in ["9074720", "9417350"] {
            let job = bed.queue("/work", &format!("{{\"imo\":\"{imo}\"}}")).await;
            bed.ended(job).await;
            let direct = bed.post("/work", &[], &format!("{{\"imo\":\"{imo}\"}}")).await;
            assert_eq!(direct.status, 200);
        }
        bed.journaled().await;
        let report = erased(bed, json!({"tag": "imo-9417350"})).await;
        assert_eq!((&report["jobs"], &report["runs"]), (&json!(1), &json!(1)), "{report}");
        let filter = |tag: &str| Filter { tags: vec![tag.into()], limit: 9, ..Filter::default() };
        assert_eq!(bed.store().job_ids(&filter("imo-9417350"), now()).await.expect("selects").len(), 0);
        assert_eq!(bed.store().job_ids(&filter("imo-9074720"), now()).await.expect("selects").len(), 1);
        let key = bed.control("POST /keys", &json!({"name": "pilots"})).await.json();
        let key = key["key"].as_str().expect("a key").to_owned();
        for prefer in ["respond-async", "wait=1"] {
            let keyed = bed.post("/keyed", &[("x-api-key", &key), ("prefer", prefer)], "{\"imo\":\"1\"}").await;
            assert!(keyed.status < 300, "{keyed:?}");
        }
        let queued = filter("imo-1");
        let queued = bed.store().job_ids(&queued, now()).await.expect("selects")[0];
        bed.ended(queued).await;
        bed.journaled().await;
        let report = erased(bed, json!({"caller": "pilots"})).await;
        assert_eq!((&report["jobs"], &report["runs"]), (&json!(1), &json!(2)), "{report}");
        assert_eq!(bed.control("GET /runs", &Json::Null).await.json()["runs"].as_array().map(Vec::len), Some(3));
        for (what, status) in
            [(json!({}), 422), (json!({"text": "abc"}), 422), (json!({"caller": "a", "tag": "b"}), 422)]
        {
            assert_eq!(bed.control("POST /erasures", &what).await.status, status, "{what}");
        }
    });
}
