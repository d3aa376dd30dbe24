//! Jobs that are cancelled, rescheduled and retried by hand, and how they are found.

use kanzlei_model::run::RunState;
use kanzlei_store::Store;
use kanzlei_store::queue::{Filter, HELD, JobPhase, JobRow, NewJob, OfRequest, Retry, Watched, WorkflowHold};
use uuid::Uuid;

use super::queue::{FREE, claim, ended, job, queue, write};
use super::{every_rank, time, with};

fn id(n: u128) -> Uuid {
    Uuid::from_u128(n)
}

fn retry<'r>(from_start: bool, operation: u128) -> Retry<'r> {
    let (now, due) = (time(1_000), time(2_000));
    Retry { from_start, withdraws: !from_start, now, due, operation: id(operation), with: None, history: "t" }
}

async fn read(store: &Store, n: u128) -> JobRow {
    store.job(id(n)).await.expect("reads").expect("the job")
}

#[test]
fn a_waiting_job_is_cancelled_and_a_running_one_is_asked_to_stop() {
    with("cancelled", async |bed| {
        let store = &bed.store;
        queue(store, &[job(1, "x"), job(2, "x")]).await;
        assert_eq!(claim(store, 4, "x", FREE, 1, 400).await.0, [1]);
        for (n, found, phase) in [
            (1, Some(JobPhase::Running), JobPhase::Running),
            (2, Some(JobPhase::Ready), JobPhase::Cancelled),
            (2, Some(JobPhase::Cancelled), JobPhase::Cancelled),
        ] {
            assert_eq!(store.cancel_job(id(n), time(500), "c;").await.expect("cancels"), found);
            assert_eq!(read(store, n).await.phase, phase);
        }
        assert_eq!(store.cancel_job(id(9), time(500), "c;").await.expect("asked"), None);
        assert_eq!(store.to_stop(id(4)).await.expect("reads"), [id(1)]);
        assert_eq!(read(store, 2).await.history.as_deref(), Some("c;"), "once");
    });
}

#[test]
fn a_cancelled_job_releases_its_ordering_key() {
    with("released", async |bed| {
        let store = &bed.store;
        let keyed = |n| NewJob { ordering_key: Some("k".into()), due: time(n as i64), ..job(n, "x") };
        queue(store, &[keyed(1), keyed(2), keyed(3)]).await;
        assert_eq!(claim(store, 4, "x", FREE, 9, 400).await.0, [1]);
        let mut pause = write(1, 1, Some(JobPhase::Ready));
        pause.end.as_mut().expect("an end").expires = None;
        store.write_jobs(&[&pause], time(500)).await.expect("it waits, and keeps the key");
        assert_eq!(store.free_turns(9).await.expect("frees"), 0);
        store.cancel_job(id(1), time(510), "").await.expect("cancels");
        assert_eq!(claim(store, 4, "x", FREE, 9, 600).await.0, [2], "one follows");
    });
}

#[test]
fn many_waiting_jobs_are_cancelled_at_once() {
    with("many_cancelled", async |bed| {
        let store = &bed.store;
        let keyed = NewJob { ordering_key: Some("k".into()), ..job(3, "x") };
        queue(store, &[job(1, "y"), job(2, "x"), keyed]).await;
        assert_eq!(claim(store, 4, "y", FREE, 1, 400).await.0, [1]);
        let all: Vec<Uuid> = [1, 2, 3, 9].map(id).into();
        assert_eq!(store.cancel_waiting(&all, time(500), "c").await.expect("cancels"), [id(2)]);
        assert_eq!(store.cancel_waiting(&all, time(500), "c").await.expect("cancels"), [] as [Uuid; 0]);
        assert_eq!(read(store, 2).await.phase, JobPhase::Cancelled);
    });
}

#[test]
fn only_a_job_that_waits_is_rescheduled() {
    with("rescheduled", async |bed| {
        let store = &bed.store;
        queue(store, &[job(1, "x"), job(2, "y")]).await;
        claim(store, 4, "y", FREE, 1, 400).await;
        assert!(store.reschedule(id(1), time(9_000), "r").await.expect("reschedules"));
        let row = read(store, 1).await;
        assert_eq!((row.due, row.ready_at, row.history.as_deref()), (time(9_000), time(9_000), Some("r")));
        for n in [2, 9] {
            assert!(!store.reschedule(id(n), time(9_000), "r").await.expect("asked"), "{n}");
        }
    });
}

#[test]
fn an_ended_job_is_retried_from_its_failed_step_or_from_the_start() {
    with("retried", async |bed| {
        let store = &bed.store;
        for (n, phase, from_start, retried, attempt, outcomes) in [
            (1, JobPhase::Failed, false, true, 1, 1),
            (2, JobPhase::Failed, true, true, 2, 0),
            (3, JobPhase::Rejected, false, true, 1, 1),
            (4, JobPhase::Cancelled, false, false, 1, 1),
            (5, JobPhase::Cancelled, true, true, 2, 0),
            (6, JobPhase::Succeeded, true, false, 1, 1),
        ] {
            ended(store, n, phase).await;
            assert_eq!(store.retry(id(n), &retry(from_start, 7)).await.expect("asked"), retried, "{n}");
            let row = read(store, n).await;
            let wanted = if retried { JobPhase::Ready } else { phase };
            assert_eq!((row.phase, row.attempt, row.outcomes), (wanted, attempt, outcomes), "{n}");
            // What failed is done again: the last outcome is void.
            let left = store.outcomes(&[(id(n), attempt)]).await.expect("reads").len();
            assert_eq!(left, usize::from(!retried), "{n}");
        }
    });
}

#[test]
fn a_retry_is_undone_until_its_job_begins() {
    with("undone", async |bed| {
        let store = &bed.store;
        for (n, phase, from_start) in
            [(1, JobPhase::Failed, false), (2, JobPhase::Rejected, true), (3, JobPhase::Cancelled, true)]
        {
            ended(store, n, phase).await;
            let before = read(store, n).await;
            let outcomes = store.outcomes(&[(id(n), 1)]).await.expect("reads");
            for operation in [7, 8] {
                assert!(store.retry(id(n), &retry(from_start, operation)).await.expect("retries"), "{n}");
                assert_eq!(read(store, n).await.ready_at, time(2_000));
                assert_eq!(store.retried_by(id(operation), 9).await.expect("reads"), [id(n)]);
                assert!(!store.undo_retry(id(n), id(9), "u").await.expect("asked"), "another change");
                assert!(store.undo_retry(id(n), id(operation), "u").await.expect("undoes"), "{n}");
                assert!(!store.undo_retry(id(n), id(operation), "u").await.expect("asked"), "twice");
                let JobRow { history, changes, .. } = read(store, n).await;
                assert_eq!(read(store, n).await, JobRow { history, changes, ..before.clone() }, "{n}");
                assert_eq!(store.outcomes(&[(id(n), 1)]).await.expect("reads"), outcomes, "{n}");
            }
            store.retry(id(n), &retry(from_start, 9)).await.expect("retries");
            let lane = before.lane.as_str();
            let ranks = &every_rank();
            let claimed = store.claim(id(4), (lane, ranks), FREE, 9, time(3_000)).await.expect("claims");
            assert_eq!(claimed.jobs.len(), 1);
            assert!(!store.undo_retry(id(n), id(9), "u").await.expect("asked"), "it has begun");
        }
        assert_eq!(store.purge_retried(time(1_001)).await.expect("purges"), 3);
    });
}

#[test]
fn jobs_of_a_held_workflow_are_put_aside_and_come_back() {
    with("workflow_held", async |bed| {
        let store = &bed.store;
        let keyed = |n| NewJob { ordering_key: Some("k".into()), due: time(n as i64), ..job(n, "x") };
        queue(store, &[job(1, "x"), keyed(2), NewJob { workflow: "v".into(), ..keyed(3) }]).await;
        let hold = || WorkflowHold { workflow: "w".into(), since: time(1), who: "o".into(), reason: "r".into() };
        assert!(!store.put_aside(id(4), "w", &[id(1)]).await.expect("asked"), "it is not held");
        assert!(store.hold_workflow(&hold()).await.expect("holds"));
        assert!(!store.hold_workflow(&hold()).await.expect("asked"), "once");
        assert_eq!(store.workflow_holds().await.expect("reads"), [hold()]);
        assert_eq!(store.heads(time(0)).await.expect("heads").1.into_iter().collect::<Vec<_>>(), ["w"]);
        let mut taken = claim(store, 4, "x", FREE, 9, 400).await.0;
        taken.sort_unstable();
        assert_eq!(taken, [1, 2], "3 waits for its key");
        assert!(store.put_aside(id(4), "w", &[id(1), id(2)]).await.expect("puts aside"));
        let row = read(store, 1).await;
        assert_eq!((row.ready_at, row.started, row.state(time(500))), (HELD, None, RunState::Queued));
        let queued = Filter { states: vec![RunState::Queued], limit: 9, ..Filter::default() };
        assert_eq!(store.job_ids(&queued, time(500)).await.expect("selects").len(), 3);
        assert_eq!(claim(store, 4, "x", FREE, 9, 600).await.0, [3], "the key is free for others");
        let names = ["w".to_owned()];
        assert_eq!(store.release_workflow("w", &names, time(700)).await.expect("releases"), Some(2));
        assert_eq!(store.release_workflow("w", &names, time(700)).await.expect("asked"), None);
        assert_eq!(claim(store, 4, "x", FREE, 9, 800).await.0, [1], "2 waits for its key");
    });
}

#[test]
fn jobs_are_selected_by_what_is_known_of_them() {
    with("selected", async |bed| {
        let store = &bed.store;
        let due = |n, at| NewJob { due: time(at), ..job(n, "x") };
        queue(
            store,
            &[
                NewJob { tags: vec!["t-1".into(), "of-x".into(), "t-1_".into()], ..due(1, 5_000) },
                NewJob { workflow: "v".into(), ..due(2, 100) },
                NewJob { request_id: "q".into(), listed: true, ..due(3, 100) },
                NewJob { input: r#"{"a":"needle"}"#.into(), ..due(4, 100) },
                job(5, "y"),
            ],
        )
        .await;
        claim(store, 4, "y", FREE, 1, 400).await;
        let all = || Filter { limit: 9, ..Filter::default() };
        let of = |id: &str, jobs: &[u128]| {
            Some(OfRequest { id: id.into(), jobs: jobs.iter().copied().map(Uuid::from_u128).collect() })
        };
        for (filter, wanted) in [
            (all(), vec![1, 2, 3, 4, 5]),
            (Filter { limit: 2, ..all() }, vec![1, 2]),
            (Filter { before: Some(id(3)), ..all() }, vec![1, 2]),
            (Filter { tags: vec!["of-x".into()], ..all() }, vec![1]),
            (Filter { tags: vec!["of-".into()], ..all() }, vec![]),
            (Filter { tags: vec!["of-x".into(), "t-1".into()], ..all() }, vec![1]),
            (Filter { tags: vec!["of-x".into(), "t-2".into()], ..all() }, vec![]),
            (Filter { tag_prefix: Some("t-".into()), ..all() }, vec![1]),
            (Filter { tag_prefix: Some("t_".into()), ..all() }, vec![]),
            (Filter { workflow: vec!["v".into()], ..all() }, vec![2]),
            (Filter { request: of("q", &[]), ..all() }, vec![3]),
            (Filter { request: of("q", &[1]), ..all() }, vec![3]),
            (Filter { request: of("r", &[2, 4]), ..all() }, vec![2, 4]),
            (Filter { request: of("r", &[3]), ..all() }, vec![]),
            (Filter { text: Some("needle".into()), ..all() }, vec![4]),
            (Filter { lane: Some("y".into()), ..all() }, vec![5]),
            (Filter { states: vec![RunState::Running], ..all() }, vec![5]),
            (Filter { states: vec![RunState::Scheduled], ..all() }, vec![1]),
            (Filter { states: vec![RunState::Queued], ..all() }, vec![2, 3, 4]),
            (Filter { states: vec![RunState::Running, RunState::Scheduled], ..all() }, vec![1, 5]),
            (Filter { due_from: Some(time(101)), ..all() }, vec![1]),
            (Filter { ended_from: Some(time(0)), ..all() }, vec![]),
            (Filter { revision: Some(9), ..all() }, vec![]),
            (Filter { caller: Some("pilots".into()), ..all() }, vec![]),
            (Filter { due_until: Some(time(101)), lane: Some("x".into()), ..all() }, vec![2, 3, 4]),
            (Filter { tags: vec!["t-1".into()], workflow: vec!["v".into()], ..all() }, vec![]),
        ] {
            let found = store.job_ids(&filter, time(500)).await.expect("selects");
            assert_eq!(found.iter().map(|id| id.as_u128()).collect::<Vec<_>>(), wanted, "{filter:?}");
            let mut page = store.jobs(&filter, time(500)).await.expect("lists").jobs;
            page.reverse();
            if filter.limit == 9 {
                assert_eq!(page.iter().map(|line| line.id.as_u128()).collect::<Vec<_>>(), wanted, "{filter:?}");
            }
        }
        let counts = store.job_counts(time(500)).await.expect("counts");
        let counts: Vec<_> = counts.into_iter().filter(|(_, n)| *n > 0).collect();
        assert_eq!(counts, [(RunState::Scheduled, 1), (RunState::Queued, 3), (RunState::Running, 1)]);
    });
}

#[test]
fn followed_jobs_count_their_changes() {
    with("followed", async |bed| {
        let store = &bed.store;
        ended(store, 1, JobPhase::Succeeded).await;
        queue(store, &[job(2, "x")]).await;
        assert!(store.has_job(id(1)).await.expect("asked") && !store.has_job(id(9)).await.expect("asked"));
        let mut watched = store.watched(&[id(1), id(2), id(9)]).await.expect("reads");
        watched.sort_by_key(|one| one.id);
        let changes = watched[0].changes;
        let wanted = |n, phase, changes| Watched { id: id(n), phase, changes, replied: false };
        assert_eq!(watched, [wanted(1, JobPhase::Succeeded, changes), wanted(2, JobPhase::Ready, watched[1].changes)]);
        assert!(changes > watched[1].changes);
    });
}
