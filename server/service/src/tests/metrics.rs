//! Metrics, probes and the overview of operation.

use std::collections::BTreeMap;

use serde_json::{Value as Json, json};

use super::{Bed, eventually, with};

const SERVICE: &str = "service: peer\nbase: http://127.0.0.1:1\nnetwork: private\n";
const WORK: &str = r#"
workflow: work
input: {n: {type: integer}}
entries:
  - {endpoint: POST /work, access: open, answer: either, allowance: three}
steps:
  - {fail: 409, title: Three, when: input.n === 3}
  - call: GET http://127.0.0.1:1/
    when: input.n === 4
  - {reply: 200, body: "${input.n}"}
"#;
const THREE: &str = "allowance: three\nrate: 5/h\n";
const HOOK: &str =
    "workflow: hook\nentries: [{webhook: /hook, proof: {query: {name: token, secret: bank}}}]\nsteps: [{note: came}]\n";

/// All samples of an OpenMetrics text. Every one belongs to a family that is declared before it, and `# EOF` is the end.
fn samples(text: &str) -> BTreeMap<String, f64> {
    let (mut out, mut family, mut kind) = (BTreeMap::new(), "", "");
    let whole = text.strip_suffix("# EOF\n").unwrap_or_else(|| panic!("no end: {text}"));
    for line in whole.lines() {
        match line.split(' ').collect::<Vec<_>>()[..] {
            ["#", "TYPE", name, of] => (family, kind) = (name, of),
            ["#", ..] => {}
            _ => {
                let (name, value) = line.rsplit_once(' ').unwrap_or_else(|| panic!("{line}"));
                let plain = name.split('{').next().unwrap_or_default();
                let ends: &[&str] = match kind {
                    "counter" => &["_total"],
                    "info" => &["_info"],
                    "histogram" => &["_bucket", "_sum", "_count"],
                    _ => &[""],
                };
                assert!(ends.iter().any(|end| plain == format!("{family}{end}")), "{line} is no {kind} {family}");
                let known = out.insert(name.to_owned(), value.parse().unwrap_or_else(|_| panic!("{line}")));
                assert_eq!(known, None, "{line} is there twice");
            }
        }
    }
    out
}

async fn scraped(bed: &Bed) -> BTreeMap<String, f64> {
    let bearer = format!("Bearer {}", bed.token);
    let answer = bed.control_as("GET /metrics", &[("authorization", &bearer)], "").await;
    assert_eq!(answer.status, 200, "{answer:?}");
    assert_eq!(answer.header("content-type"), Some("application/openmetrics-text; version=1.0.0; charset=utf-8"));
    samples(&answer.body)
}

#[test]
fn what_happens_is_counted_once_and_by_its_kind() {
    with("metrics", &[SERVICE, THREE, WORK], &[], async |bed| {
        let set = bed.control("PUT /secrets/bank", &json!({"value": "tide water", "for": ["signing"]})).await;
        assert_eq!((set.status, bed.deploy(&[HOOK]).await.status), (204, 200));
        let before = scraped(bed).await;
        assert_eq!(before.get("kanzlei_runs_total{workflow=\"work\",state=\"succeeded\"}"), None);
        for n in ["1", "2", "3", "4", "\"many\"", "6"] {
            bed.post("/work", &[], &format!("{{\"n\":{n}}}")).await;
        }
        bed.send("GET /nowhere", &[], "").await;
        bed.post("/hook?token=wrong", &[], "{}").await;
        let again = bed.service.app.jobs.totals.allowances.all();
        assert_eq!(again, [("allowed", 5), ("refused", 1)]);
        let found = scraped(bed).await;
        for (sample, wanted) in [
            ("runs_total{workflow=\"work\",state=\"succeeded\"}", 2.0),
            ("runs_total{workflow=\"work\",state=\"rejected\"}", 1.0),
            ("runs_total{workflow=\"work\",state=\"failed\"}", 1.0),
            ("run_duration_seconds_count{workflow=\"work\"}", 4.0),
            ("run_duration_seconds_bucket{le=\"+Inf\",workflow=\"work\"}", 4.0),
            ("answers_total{workflow=\"work\",status=\"2xx\"}", 2.0),
            // Rejected by the workflow, by its input, and by the allowance.
            ("answers_total{workflow=\"work\",status=\"4xx\"}", 3.0),
            ("answers_total{workflow=\"work\",status=\"5xx\"}", 1.0),
            ("answers_total{workflow=\"\",status=\"4xx\"}", 1.0),
            ("calls_total{service=\"peer\",outcome=\"unreachable\"}", 1.0),
            ("allowance_requests_total{result=\"refused\"}", 1.0),
            ("deliveries_total{state=\"unproven\"}", 1.0),
            ("database_available", 1.0),
            ("left_out", 0.0),
            ("dropped_total{what=\"runs\"}", 0.0),
            ("used{bound=\"requests\"}", 0.0),
        ] {
            assert_eq!(found.get(&format!("kanzlei_{sample}")), Some(&wanted), "{sample} of {found:#?}");
        }
        assert!(found["kanzlei_resident_memory_bytes"] > 1e6 && found["kanzlei_bound{bound=\"connections\"}"] > 0.0);
        // Deploying again keeps what was counted.
        bed.deploy(&[&WORK.replace("title: Three", "title: It is three")]).await;
        let kept = scraped(bed).await;
        assert_eq!(kept["kanzlei_runs_total{workflow=\"work\",state=\"succeeded\"}"], 2.0);
        assert_eq!(kept["kanzlei_calls_total{service=\"peer\",outcome=\"unreachable\"}"], 1.0);
    });
}

#[test]
fn jobs_and_lanes_are_seen_by_every_process() {
    with("lanes_seen", &[WORK.replace(", allowance: three", "").as_str(), SERVICE], &[], async |bed| {
        let job = bed.queue("/work", "{\"n\":2}").await;
        let waits = scraped(bed).await;
        assert_eq!(waits["kanzlei_lane_jobs{lane=\"main\",state=\"queued\"}"], 1.0, "{waits:#?}");
        assert!(waits.contains_key("kanzlei_lane_oldest_seconds{lane=\"main\"}"));
        bed.work();
        bed.ended(job).await;
        eventually(async || {
            let all = scraped(bed).await;
            let of = |name: &str| all.get(&format!("kanzlei_{name}")).copied();
            of("lane_begun_total{lane=\"main\"}") == Some(1.0)
                && of("lane_ended_total{lane=\"main\",state=\"succeeded\"}") == Some(1.0)
                && of("lane_running{lane=\"main\"}") == Some(0.0)
                && of("pool_bound{pool=\"records\"}") == Some(4.0)
        })
        .await;
        let done = "kanzlei_jobs_total{workflow=\"work\",state=\"succeeded\"}";
        eventually(async || scraped(bed).await.get(done) == Some(&1.0)).await;
    });
}

#[test]
fn probes_need_no_token_and_metrics_do() {
    with("probes", &[WORK.replace(", allowance: three", "").as_str(), SERVICE], &[], async |bed| {
        for (path, stopping, status) in
            [("/~/live", false, 200), ("/~/ready", false, 200), ("/~/live", true, 200), ("/~/ready", true, 503)]
        {
            bed.service.app.stopping.store(stopping, std::sync::atomic::Ordering::Relaxed);
            let public = bed.send(&format!("GET {path}"), &[], "").await;
            let control = bed.control_as(&format!("GET {path}"), &[], "").await;
            assert_eq!((public.status, control.status), (status, status), "{path}");
            assert_eq!(public.json(), control.json());
        }
        assert_eq!(bed.control_as("GET /metrics", &[], "").await.status, 401);
        assert_eq!(bed.send("GET /metrics", &[], "").await.status, 404);
    });
}

#[test]
fn the_overview_adds_up_minutes_and_workflows() {
    with("overview", &[WORK.replace(", allowance: three", "").as_str(), SERVICE], &[], async |bed| {
        let nothing = bed.control("GET /overview", &Json::Null).await.json();
        assert_eq!((&nothing["minutes"], &nothing["workflows"]), (&json!([]), &json!([])));
        for n in [1, 2, 3, 4] {
            bed.post("/work", &[], &format!("{{\"n\":{n}}}")).await;
        }
        // Counts of minutes are written behind the runs.
        let counted =
            async || bed.control("GET /overview", &Json::Null).await.json()["workflows"][0]["ended"]["runs"] == 4;
        eventually(counted).await;
        for query in ["", "?minutes=5", "?workflow=work"] {
            let found = bed.control(&format!("GET /overview{query}"), &Json::Null).await.json();
            let sum = |member: &str| -> u64 {
                let minutes = found["minutes"].as_array().expect("minutes");
                minutes.iter().filter_map(|minute| minute["ended"][member].as_u64()).sum()
            };
            assert_eq!((sum("runs"), sum("rejected"), sum("failed")), (4, 1, 1), "{found}");
            let of = &found["workflows"][0];
            assert_eq!((&of["workflow"], &of["ended"]["runs"]), (&json!("work"), &json!(4)));
            let time = |name: &str| of["ended"][name].as_u64().expect("a time");
            assert!(time("p50_us") <= time("p95_us") && time("p95_us") <= time("p99_us"), "{of}");
            assert_eq!(found["services"][0]["failures"], 1, "{found}");
            assert_eq!(found["bounds"].as_array().map(Vec::len), Some(7));
        }
        for (query, status) in [("minutes=0", 422), ("minutes=1441", 422), ("workflow=other", 404)] {
            assert_eq!(bed.control(&format!("GET /overview?{query}"), &Json::Null).await.status, status, "{query}");
        }
    });
}
