//! Runs without a row of their own are listed, found and deleted like those that have one.

use std::cmp::Reverse;
use std::collections::BTreeSet;

use kanzlei_model::caller::Caller;
use kanzlei_model::run::RunState;
use kanzlei_model::time::Span;
use kanzlei_store::journal::{Filter, Run};
use kanzlei_store::queue::OfRequest;
use uuid::Uuid;

use super::{alone, request, time, with};

/// When the first batch is written, in milliseconds.
const BEGUN: i64 = 1_800_000_000_000;

/// The run at a place of a batch: of three workflows, some failed, some slow, some with a request id of their own.
fn run(batch: i64, at: i64) -> Run {
    let (number, slow) = (batch * 100 + at, (batch + at) % 11 == 0);
    let millisecond = BEGUN + batch * 200 + at * 37 % 190 - if slow { 20_000 } else { 0 };
    let failed = number % 9 == 0;
    // Ids of one millisecond are in the order of their numbers.
    let id = Uuid::from_u128(((millisecond as u128) << 80) | 7 << 76 | 2 << 62 | number as u128);
    Run {
        id,
        workflow: ["a", "b", "c"][(number % 3) as usize].into(),
        revision: 1,
        state: if failed { "failed" } else { "succeeded" }.into(),
        entry: format!("GET /{}", number % 2),
        status: Some(if number % 5 == 0 { 404 } else { 200 }),
        started: time(millisecond * 1000),
        duration: Span::from_micros(if slow { 20_000_000 } else { number }),
        request_id: if number % 4 == 0 { format!("r-{}", number % 8) } else { id.to_string() },
        caller: Caller::named(["bridge", "pilots"][(number % 2) as usize]),
        input: format!("{{\"n\":{number}}}"),
        failure: failed.then(|| "{\"kind\":\"timeout\",\"detail\":\"too late\"}".into()),
        ..Run::default()
    }
}

#[test]
fn runs_without_a_row_are_found_like_others() {
    with("plain_runs", async |bed| {
        let store = &bed.store;
        let mut all = Vec::new();
        for batch in 0..30 {
            let runs: Vec<Run> = (0..batch % 7 * 4 + 1).map(|at| run(batch, at)).collect();
            // Some are written again, as behind a connection that broke.
            for _ in 0..=(batch % 2) {
                store.write_runs(&runs).await.expect("writes");
            }
            all.extend(runs);
        }
        all.sort_by_key(|run| Reverse(run.id));
        let indexed = all.iter().filter(|run| run.state == "failed" || run.duration > Span::from_secs(10));
        // The first batch has one run: it is the newest of it, however slow it was, but failed.
        assert!(indexed.clone().count() > 20);
        assert_eq!(bed.sql("SELECT COUNT(*) FROM run"), indexed.count().to_string());
        assert_eq!(bed.sql("SELECT SUM(runs) FROM segment"), all.len().to_string());

        let of = |workflows: &[&str]| Filter {
            workflow: workflows.iter().map(|name| (*name).into()).collect(),
            ..Filter::default()
        };
        let middle = time((BEGUN + 3000) * 1000);
        let other =
            all.iter().find(|run| run.request_id == run.id.to_string() && run.state == "succeeded").expect("a run");
        let is = |state: &str| state.to_owned();
        type Wanted<'w> = Box<dyn Fn(&Run) -> bool + 'w>;
        let cases: Vec<(Filter, Wanted)> = vec![
            (Filter::default(), Box::new(|_| true)),
            (of(&["b"]), Box::new(|run| run.workflow == "b")),
            (of(&["a", "c"]), Box::new(|run| run.workflow != "b")),
            (of(&["none"]), Box::new(|_| false)),
            (
                Filter { state: Some(RunState::Succeeded), ..of(&["a"]) },
                Box::new(|run| run.workflow == "a" && run.state == is("succeeded")),
            ),
            (Filter { state: Some(RunState::Failed), ..of(&[]) }, Box::new(|run| run.state == "failed")),
            (Filter { status: Some(400..=499), ..of(&[]) }, Box::new(|run| run.status == Some(404))),
            (
                Filter { since: Some(middle), until: Some(middle + Span::from_secs(1)), ..of(&["c"]) },
                Box::new(|run| {
                    run.workflow == "c" && run.started >= middle && run.started < middle + Span::from_secs(1)
                }),
            ),
            (
                Filter { caller: Some("pilots".into()), ..of(&[]) },
                Box::new(|run| run.caller.name.as_deref() == Some("pilots")),
            ),
            (Filter { entry: Some("/1".into()), ..of(&[]) }, Box::new(|run| run.entry == "GET /1")),
            (Filter { kind: Some("timeout".into()), ..of(&[]) }, Box::new(|run| run.failure.is_some())),
            (Filter { request: Some(request("r-4")), ..of(&[]) }, Box::new(|run| run.request_id == "r-4")),
            (Filter { request: Some(request(&other.id.to_string())), ..of(&[]) }, Box::new(|run| run.id == other.id)),
            (
                Filter { request: Some(OfRequest { jobs: vec![other.id], ..request("leads there") }), ..of(&[]) },
                Box::new(|run| run.id == other.id),
            ),
            (
                Filter { text: Some("1}".into()), ..of(&["a"]) },
                Box::new(|run| run.workflow == "a" && run.input.contains("1}")),
            ),
        ];
        for (filter, wanted) in &cases {
            for limit in [1, 7, 1000] {
                let (mut found, mut before) = (Vec::new(), None);
                loop {
                    let page = store.runs(&Filter { limit, before, ..filter.clone() }).await.expect("lists");
                    assert!(page.runs.len() <= limit as usize, "{filter:?}");
                    found.extend(page.runs.iter().map(|line| line.id));
                    before = page.next;
                    if before.is_none() {
                        break;
                    }
                }
                let wanted: Vec<Uuid> = all.iter().filter(|run| wanted(run)).map(|run| run.id).collect();
                assert_eq!(found, wanted, "{filter:?} {limit}");
            }
        }
        let newest = store.latest_runs(&["a", "none", "c"], 3).await.expect("lists");
        let of = |name: &'static str| all.iter().filter(move |run| run.workflow == name).take(3).map(|run| run.id);
        let wanted: Vec<Uuid> = of("a").chain(of("c")).collect();
        assert_eq!(newest.iter().map(|line| line.id).collect::<Vec<_>>(), wanted);
        for run in &all {
            assert_eq!(store.run(run.id).await.expect("reads").as_ref(), Some(run));
        }

        // A segment that is replaced keeps the runs that it is to keep.
        let segments = store.segments_after(0).await.expect("reads");
        let segment = segments.iter().max_by_key(|segment| segment.runs.len()).expect("a segment");
        let kept: Vec<Run> = segment.runs.iter().skip(2).cloned().collect();
        store.replace_segment(segment, &kept).await.expect("replaces");
        let gone: BTreeSet<Uuid> = segment.runs.iter().take(2).map(|run| run.id).collect();
        let left = store.runs(&Filter { limit: 1000, ..Filter::default() }).await.expect("lists");
        let wanted: Vec<Uuid> = all.iter().map(|run| run.id).filter(|id| !gone.contains(id)).collect();
        assert_eq!(left.runs.iter().map(|line| line.id).collect::<Vec<_>>(), wanted);

        let end = time(i64::MAX);
        while store.purge_segments(end, end, 7).await.expect("purges").segments > 0 {}
        for table in ["segment", "segment_workflow", "run", "run_trouble", "run_request"] {
            assert_eq!(bed.sql(&format!("SELECT COUNT(*) FROM {table}")), "0", "{table}");
        }
    });
}

#[test]
fn a_job_that_succeeds_after_a_retry_is_found_by_its_request() {
    with("retried_run", async |bed| {
        let failed = Run { state: "failed".into(), request_id: "of a client".into(), ..run(0, 1) };
        let succeeded = Run { state: "succeeded".into(), failure: None, ..failed.clone() };
        bed.store.write_runs(&[failed]).await.expect("writes");
        // What a retry does.
        bed.sql("DELETE r, t FROM run r JOIN run_trouble t ON t.id = r.id");
        let again = Run { duration: Span::from_micros(9), ..succeeded };
        bed.store.write_runs(std::slice::from_ref(&again)).await.expect("writes");
        let filter = Filter { request: Some(request("of a client")), limit: 9, ..Filter::default() };
        let found = bed.store.runs(&filter).await.expect("lists");
        assert_eq!(found.runs.iter().map(|line| line.id).collect::<Vec<_>>(), [again.id]);
    });
}

/// Deleting few runs among many reads the rows of these alone, and so locks no others.
#[test]
fn old_runs_are_deleted_without_reading_the_others() {
    alone("deleted_runs", async |bed| {
        let many = |batch| (0..500).map(move |at| run(batch, at)).map(|run| Run { request_id: "r".into(), ..run });
        let few = Run { request_id: "few".into(), started: time(0), ..run(900, 1) };
        for batch in (0..40).step_by(10) {
            bed.store.write_runs(&many(batch).collect::<Vec<_>>()).await.expect("writes");
        }
        bed.store.write_runs(&[few]).await.expect("writes");
        assert_eq!(bed.sql("SELECT COUNT(*) FROM run_request"), "2001");
        let read = "SELECT SUM(variable_value) FROM information_schema.global_status
                    WHERE variable_name IN ('HANDLER_READ_RND_NEXT', 'HANDLER_READ_NEXT')";
        // The query itself reads the table of the status.
        let rows = || bed.sql(read).parse::<f64>().expect("a number");
        let own = -(rows() - rows());
        let before = rows();
        let purged = bed.store.purge_segments(time(1), time(1), 7).await.expect("purges");
        let rows = rows() - before - own;
        assert_eq!((purged.runs, bed.sql("SELECT COUNT(*) FROM run_request").as_str()), (1, "2000"));
        assert!(rows < 500.0, "{rows} rows were read");
    });
}
