//! Allowances: counted for each key or address, over all processes, and shown to callers.

use kanzlei_compiler::plan::Allowance;
use kanzlei_lang::document::{self, Document, Source};
use kanzlei_runtime::allowances::Allowances;
use serde_json::{Value as Json, json};

use super::{Bed, eventually, with};

const TWO: &str = "allowance: two\nrate: 2/min\n";
const MANY: &str = "allowance: many\nrate: 1000/s\nquota: 5/day\nbody: 10 B\n";
const OPEN: &str =
    "workflow: open\nentries: [{endpoint: GET /open, access: open, allowance: two}]\nsteps: [{reply: 204}]\n";
const KEYED: &str = "workflow: keyed
input: {n: {type: integer, default: 1}}
entries: [{endpoint: POST /keyed, access: key, allowance: two}]
steps: [{reply: 200, body: '${input.n}'}]
";

async fn key(bed: &Bed, body: Json) -> String {
    let made = bed.control("POST /keys", &body).await;
    assert_eq!(made.status, 201, "{}", made.body);
    made.json()["key"].as_str().expect("a key").to_owned()
}

#[test]
fn callers_are_refused_beyond_their_allowance_and_see_what_is_left() {
    with("allowances", &[TWO, MANY, OPEN, KEYED], &[], async |bed| {
        let (first, second) = (key(bed, json!({"name": "first"})).await, key(bed, json!({"name": "second"})).await);
        let large = key(bed, json!({"name": "large", "allowance": "many"})).await;
        let asked = async |key: &str, body: &str| {
            let headers = [("x-api-key", key), ("content-type", "application/json")];
            bed.send("POST /keyed", &headers, body).await
        };
        for (status, left) in [(200, 1), (200, 0), (429, 0)] {
            let answer = asked(&first, "{}").await;
            assert_eq!(
                (answer.status, answer.header("ratelimit-policy")),
                (status, Some("\"two\";q=2;w=60")),
                "{answer:?}"
            );
            let shown = answer.header("ratelimit").unwrap_or_default();
            assert!(shown.starts_with(&format!("\"two\";r={left};t=")), "{shown}");
        }
        let refused = asked(&first, "{}").await;
        assert_eq!((refused.status, &refused.json()["violated-policies"]), (429, &json!(["two"])));
        let again: u32 = refused.header("retry-after").and_then(|text| text.parse().ok()).expect("seconds");
        assert!((1..=30).contains(&again), "{again}");
        assert_eq!(asked(&second, "{}").await.status, 200, "each key has its own");
        // One that names its own allowance has that, with its quota and its body.
        for status in [200, 200, 413, 200, 200, 429] {
            let answer = asked(&large, if status == 413 { "{\"n\": 1234567}" } else { "{}" }).await;
            assert_eq!(answer.status, status, "{answer:?}");
            assert!(answer.header("ratelimit").is_some_and(|text| text.contains("\"many-quota\";r=")), "{answer:?}");
        }
        // A caller without a valid key is not counted, and open endpoints count addresses.
        assert!(asked("kzk_x", "{}").await.header("ratelimit").is_none());
        let open = async || bed.send("GET /open", &[], "").await.status;
        assert_eq!([open().await, open().await, open().await], [204, 204, 429]);
        let missing = bed.control("POST /keys", &json!({"name": "third", "allowance": "tow"})).await;
        assert_eq!(
            (missing.problem(), missing.body.contains("did you mean `two`")),
            ((422, "Unknown allowance".into()), true)
        );

        // What keys asked for, by hour and as text.
        bed.service.app.usage.write(bed.store()).await;
        let usage = bed.control("GET /usage", &Json::Null).await.json();
        let sums: Vec<_> = usage["usage"]
            .as_array()
            .expect("rows")
            .iter()
            .map(|row| (row["key"].clone(), row["requests"].clone(), row["refused"].clone()))
            .collect();
        assert_eq!(
            sums,
            [
                (json!("first"), json!(4), json!(2)),
                (json!("large"), json!(6), json!(1)),
                (json!("second"), json!(1), json!(0))
            ],
            "{usage}"
        );
        let one = bed.control("GET /usage?key=large", &Json::Null).await.json();
        assert_eq!((&one["usage"][0]["workflow"], one["usage"].as_array().map(Vec::len)), (&json!("keyed"), Some(1)));
        let left = &usage["meters"]
            .as_array()
            .expect("meters")
            .iter()
            .find(|meter| meter["key"] == "large")
            .expect("its meter")["left"];
        assert_eq!(left[1], json!({"policy": "many-quota", "left": 0, "of": 5}), "{usage}");
    });
}

const ALONE: &str = "workflow: alone
input: {ms: {type: integer}, w: {type: boolean, default: false}}
entries:
  - {endpoint: POST /alone, access: open, limits: {at_once: 1}}
  - {endpoint: POST /patient, access: open, limits: {at_once: 1, beyond: wait, time: 20s}}
steps:
  - {pause: '${input.ms / 1000}s'}
  - {reply: 200, body: '${run.id}'}
";

#[test]
fn runs_that_may_not_overlap_are_refused_or_wait() {
    with("alone", &[ALONE], &[], async |bed| {
        let refused = async || bed.post("/alone", &[], "{\"ms\": 1}").await;
        let (long, others) = futures_util::join!(bed.post("/alone", &[], "{\"ms\": 600}"), async {
            let held = "SELECT COUNT(*) FROM place WHERE name = 'POST /alone'";
            eventually(async || super::server().sql("kanzlei_alone", held).is_ok_and(|count| count.trim() == "1"))
                .await;
            [refused().await, refused().await]
        });
        assert_eq!(long.status, 200, "{long:?}");
        for other in others {
            assert_eq!(
                (other.problem(), other.header("retry-after")),
                ((429, "Too many runs at once".into()), Some("1"))
            );
        }
        assert_eq!(refused().await.status, 200, "the place is free again");
        let begun = std::time::Instant::now();
        let patient = futures_util::future::join_all((0..4).map(|_| bed.post("/patient", &[], "{\"ms\": 100}"))).await;
        assert!(patient.iter().all(|answer| answer.status == 200), "{patient:?}");
        assert!(begun.elapsed() >= std::time::Duration::from_millis(400), "one after another");
        // Another process takes what is returned, or what expires.
        let (other, at) = (uuid::Uuid::new_v4(), kanzlei_runtime::clock::now());
        bed.service.app.effects.shared.places.leave().await;
        let hour = at + kanzlei_model::time::Span::from_secs(3600);
        assert_eq!(bed.store().claim_place("POST /alone", 1, other, at, hour).await.expect("records"), Some(0));
        assert_eq!(refused().await.status, 429);
        assert_eq!(
            bed.store()
                .claim_place("POST /alone", 1, uuid::Uuid::nil(), hour + kanzlei_model::time::Span::from_secs(1), hour)
                .await
                .expect("records"),
            Some(0)
        );
    });
}

const CAREFUL: &str = "allowance: careful\nat_once: 1\n";
const SLOW: &str = "workflow: slow
input: {ms: {type: integer, default: 0}}
entries: [{endpoint: POST /slow, access: key, allowance: careful}]
steps: [{pause: '${input.ms / 1000}s'}, {reply: 204}]
";

/// Requests of one caller at the same time are bounded, those of others are not; a refused one is not lost for the next.
#[test]
fn requests_at_once_are_those_of_one_caller() {
    with("careful", &[CAREFUL, SLOW], &[], async |bed| {
        let (first, second) = (key(bed, json!({"name": "first"})).await, key(bed, json!({"name": "second"})).await);
        let asked = async |key: &str, body: &str| {
            let headers = [("x-api-key", key), ("content-type", "application/json")];
            bed.send("POST /slow", &headers, body).await
        };
        let (long, others) = futures_util::join!(asked(&first, "{\"ms\": 600}"), async {
            let held = "SELECT COUNT(*) FROM place WHERE name LIKE 'allowance careful %'";
            eventually(async || super::server().sql("kanzlei_careful", held).is_ok_and(|count| count.trim() == "1"))
                .await;
            [asked(&first, "{}").await, asked(&second, "{}").await]
        });
        assert_eq!((long.status, others[1].status), (204, 204), "{long:?} {others:?}");
        let refused = &others[0];
        assert_eq!(
            (refused.problem(), refused.json()["violated-policies"].clone(), refused.header("retry-after")),
            ((429, "Too many requests".into()), json!(["careful-at-once"]), Some("1"))
        );
        let policy = Some("\"careful-at-once\";q=1;qu=\"concurrent-requests\"");
        assert_eq!((refused.header("ratelimit-policy"), refused.header("ratelimit")), (policy, None));
        let after = asked(&first, "{}").await;
        assert_eq!((after.status, after.header("ratelimit-policy")), (204, policy), "the place is free again");
    });
}

/// Several processes on one database: none of them gives out what another one did.
#[test]
fn the_sum_over_processes_stays_within_the_allowance() {
    with("sum", &[], &[], async |bed| {
        let source = Source::new("a.yaml", "allowance: a\nquota: 100/day\n");
        let (Some(Document::Allowance(document)), _) = document::read(&source, &|_| None) else { panic!("a document") };
        let allowance = Allowance::of(&document);
        let processes: Vec<Allowances> = (0..4).map(|_| Allowances::default()).collect();
        let mut tries = Vec::new();
        for index in 0..200 {
            tries.push(processes[index % 4].count(bed.store(), &allowance, "key x"));
        }
        let answers = futures_util::future::join_all(tries).await;
        let given = answers.iter().filter(|standing| standing.refused.is_none()).count();
        // A portion of a quota this small is one request, so nothing is held back. Only what a process counted by itself, because
        // the database did not answer it in time, comes on top.
        let alone: u64 = processes.iter().map(|one| one.alone.load(std::sync::atomic::Ordering::Relaxed)).sum();
        assert!((100..=100 + alone as usize).contains(&given), "{given} given, {alone} of them by one process alone");
        let used = bed.store().meters("key x", 5).await.expect("records")[0].2.used;
        assert!(used <= 100 && used as usize + alone as usize >= given, "{used} counted, {given} given");
    });
}
