//! Runs, their steps and their counts.

use kanzlei_model::run::RunState;
use kanzlei_model::time::Span;
use kanzlei_store::Store;
use kanzlei_store::journal::{Filter, Run, Step, Tally};
use uuid::Uuid;

use super::{alone, time, with};

fn run(workflow: &str, state: &str, started: i64) -> Run {
    let step = Step {
        paragraph: 0,
        state: "succeeded".into(),
        started: time(started),
        duration: Span::from_micros(5),
        attempts: 2,
        earlier_attempts: Some("503".into()),
        sent: None,
        outcome: Some("{\"å\":1}".into()),
        failure: None,
        number: Some("2.1".into()),
        kind: Some("call".into()),
        title: Some("registry.getVessel".into()),
        items: None,
    };
    Run {
        id: Uuid::new_v7(uuid::Timestamp::from_unix(uuid::NoContext, (started / 1_000_000) as u64, 0)),
        workflow: workflow.into(),
        revision: 1,
        state: state.into(),
        entry: "GET /x".into(),
        status: Some(200),
        started: time(started),
        duration: Span::from_micros(10),
        request_id: "r".into(),
        trace_id: "0".repeat(32),
        caller: Default::default(),
        input: "{}".into(),
        kept: Some(r#"{"last":3}"#.into()),
        settings: None,
        reply: Some("\"😀\"".into()),
        failure: None,
        process: Some("p".into()),
        incomplete: false,
        sealed: Some("sealed".into()),
        steps: vec![step; 3],
    }
}

/// Writes 450 runs of two workflows, a second apart, each tenth failed.
async fn written(store: &Store) -> Vec<Run> {
    let each = |i: i64| {
        let state = if i % 10 == 0 { "failed" } else { "succeeded" };
        run(if i % 2 == 0 { "a" } else { "b" }, state, (i + 1) * 1_000_000)
    };
    let runs: Vec<Run> = (0..450).map(each).collect();
    store.write_runs(&runs).await.expect("writes");
    runs
}

#[test]
fn a_batch_of_runs_is_written_once() {
    with("batch", async |bed| {
        let runs = written(&bed.store).await;
        bed.store.write_runs(&runs).await.expect("the same ones again");
        assert_eq!(bed.sql("SELECT SUM(runs), COUNT(*) FROM segment"), "450\t2");
        // Those that failed, and those that began more than ten seconds before the newest one.
        assert_eq!(bed.sql("SELECT COUNT(*) FROM run"), "440");
        assert_eq!(bed.store.run(runs[7].id).await.expect("reads").as_ref(), Some(&runs[7]));
        assert_eq!(bed.store.run(Uuid::nil()).await.expect("reads"), None);
    });
}

#[test]
fn runs_are_listed_newest_first_and_filtered() {
    with("listed", async |bed| {
        let runs = written(&bed.store).await;
        let newest = bed.store.runs(&Filter { limit: 3, ..Filter::default() }).await.expect("lists");
        assert_eq!(newest.runs.iter().map(|r| r.id).collect::<Vec<_>>(), [runs[449].id, runs[448].id, runs[447].id]);
        let filter = Filter {
            workflow: vec!["a".into()],
            state: Some(RunState::Failed),
            before: Some(runs[100].id),
            limit: 100,
            ..Filter::default()
        };
        assert_eq!(bed.store.runs(&filter).await.expect("lists").runs.len(), 10);
        // A search reads a bounded number of runs, and says where the next page continues.
        let none = Filter { text: Some("nowhere".into()), limit: 100, ..Filter::default() };
        let page = bed.store.runs(&none).await.expect("searches");
        assert_eq!((page.runs.len(), page.next, page.searched_to), (0, None, None));
        let old = Run { input: "{\"text\":\"nowhere\"}".into(), ..run("old", "succeeded", 1) };
        let old: Vec<Run> = (1..=20_000).map(|n| Run { id: Uuid::from_u128(n), ..old.clone() }).collect();
        for some in old.chunks(4_000) {
            bed.store.write_runs(some).await.expect("writes");
        }
        let page = bed.store.runs(&none).await.expect("searches");
        assert_eq!((page.runs.len(), page.searched_to), (100, None), "{:?}", page.next);
        let late = Filter { since: Some(time(i64::MAX)), limit: 100, ..Filter::default() };
        let page = bed.store.runs(&late).await.expect("searches");
        assert_eq!((page.runs.len(), page.next), (0, Some(Uuid::from_u128(406))));
        assert_eq!(page.searched_to, page.next);
        let rest = bed.store.runs(&Filter { before: page.next, ..late }).await.expect("searches on");
        assert_eq!((rest.runs.len(), rest.next), (0, None));
    });
}

#[test]
fn tallies_of_a_minute_add_up() {
    with("tallies", async |bed| {
        let tally = |runs, failed| Tally {
            workflow: "a".into(),
            minute: 5,
            runs,
            rejected: 1,
            failed,
            dropped: 1,
            duration: 100,
        };
        for (runs, failed) in [(10, 1), (5, 2)] {
            bed.store.add_tallies(&[tally(runs, failed)]).await.expect("counts");
        }
        let summary = bed.store.summaries(0).await.expect("sums");
        assert_eq!(
            (summary[0].runs, summary[0].rejected, summary[0].failed, summary[0].dropped, summary[0].duration),
            (15, 2, 3, 2, 200)
        );
        assert_eq!(bed.store.summaries(6).await.expect("sums"), []);
    });
}

#[test]
fn old_runs_are_purged_by_segments() {
    with("purged", async |bed| {
        let all: Vec<Run> = written(&bed.store).await;
        // Ten segments more, each of ten runs that succeeded, and each with one that failed.
        for n in 0..10 {
            let each = |i: i64| run("c", if i == 0 { "failed" } else { "succeeded" }, (1000 + 100 * n + i) * 1_000_000);
            bed.store.write_runs(&(0..11).map(each).collect::<Vec<_>>()).await.expect("writes");
        }
        assert_eq!(bed.store.journal_size().await.expect("a size").0, 450 + 110);
        let size = async || bed.store.journal_size().await.expect("a size");
        let purge = async |succeeded: i64, others: i64, limit| {
            bed.store
                .purge_segments(time(succeeded * 1_000_000), time(others * 1_000_000), limit)
                .await
                .expect("purges")
        };
        for day in 0..31 {
            bed.store.keep_dictionary(vec![1; 100], time(day)).await.expect("a dictionary");
        }
        bed.sql("UPDATE segment SET dictionary = (SELECT MIN(id) + 3 FROM dictionary) ORDER BY last DESC LIMIT 1");
        // The first ones began within 450 seconds: two segments, by how they ended.
        assert_eq!((purge(400, 400, 9).await.runs, purge(460, 0, 9).await.runs), (0, 405));
        assert_eq!(bed.sql("SELECT COUNT(*) FROM dictionary"), "2", "the one in use, and the newest");
        bed.sql("UPDATE segment SET dictionary = NULL");
        assert_eq!(bed.store.run(all[1].id).await.expect("reads"), None);
        assert!(bed.store.run(all[10].id).await.expect("reads").is_some());
        assert_eq!((purge(1500, 0, 2).await.segments, purge(1500, 0, 9).await.segments, size().await.0), (2, 3, 105));
        assert_eq!(bed.sql("SELECT SUM(runs) FROM segment"), "105");
        // Too many, or too many bytes: those that succeeded go first.
        assert_eq!((bed.store.purge_beyond(100, u64::MAX, 9).await.expect("purges").runs, size().await.0), (10, 95));
        let bytes = size().await.1;
        assert_eq!(bed.store.purge_beyond(100, bytes - 1, 9).await.expect("purges").segments, 1);
        assert_eq!(bed.store.purge_beyond(55, u64::MAX, 9).await.expect("purges").segments, 3);
        assert_eq!(bed.sql("SELECT COUNT(*) FROM run WHERE state = 'failed'"), "55");
        assert_eq!(bed.sql("SELECT COUNT(*) FROM run_trouble"), "55");
        assert_eq!(bed.sql("SELECT COUNT(*) FROM run_request"), "55");
    });
}

/// The work of a list depends on its page, not on the number of runs or the rarity of matches.
#[test]
fn lists_of_runs_read_few_entries() {
    alone("many_runs", async |bed| {
        bed.sql(
            "INSERT INTO run (id, workflow, revision, state, entry, started, duration, segment, place)
             SELECT UNHEX(LPAD(HEX(seq), 32, '0')), IF(seq % 2, 1, 2), 1,
                    IF(seq IN (7, 8, 90), 'failed', 'succeeded'), 3, seq, 1, 1, 0
             FROM seq_1_to_60000",
        );
        bed.sql("INSERT INTO run_request (request_id, id) SELECT CONCAT('r', seq), UNHEX(LPAD(HEX(seq), 32, '0')) FROM seq_1_to_60000");
        bed.sql(
            "INSERT INTO run_trouble (state, id, workflow) SELECT state, id, workflow FROM run WHERE state = 'failed'",
        );
        bed.sql("INSERT INTO journal_name (number, name) VALUES (1, 'a'), (2, 'b'), (3, 'e')");
        // The server does so by itself, some seconds later.
        bed.sql("ANALYZE TABLE run, run_trouble, run_request");
        let read = || -> u64 {
            let sql = "SELECT SUM(VARIABLE_VALUE) FROM information_schema.GLOBAL_STATUS
                       WHERE VARIABLE_NAME IN ('HANDLER_READ_NEXT', 'HANDLER_READ_PREV', 'HANDLER_READ_RND_NEXT')";
            bed.sql(sql).parse::<f64>().expect("number") as u64
        };
        let of = |workflow: Option<&str>, state, before: Option<u128>| Filter {
            workflow: workflow.map(Into::into).into_iter().collect(),
            state,
            before: before.map(Uuid::from_u128),
            limit: 2,
            ..Filter::default()
        };
        let failed = Some(RunState::Failed);
        let request = Filter { request: Some(super::request("r500")), limit: 2, ..Filter::default() };
        // What reading the counter itself costs.
        let own = (read(), read());
        let own = own.1 - own.0;
        for (filter, wanted) in [
            (of(None, None, None), vec![60_000, 59_999]),
            (of(Some("a"), None, Some(1_000)), vec![999, 997]),
            (of(None, failed, None), vec![90, 8]),
            (of(None, failed, Some(8)), vec![7]),
            (of(Some("b"), failed, None), vec![90, 8]),
            (of(Some("a"), failed, None), vec![7]),
            (request, vec![500]),
        ] {
            let before = read();
            let found = bed.store.runs(&filter).await.expect("lists");
            let spent = read() - before - own;
            assert_eq!(found.runs.iter().map(|line| line.id.as_u128()).collect::<Vec<_>>(), wanted, "{filter:?}");
            assert!(spent < 50, "{spent} entries were read for {filter:?}");
        }
    });
}
