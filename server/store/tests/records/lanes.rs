//! How lanes and workers stand.

use kanzlei_model::time::Timestamp;
use kanzlei_store::queue::{JobPhase, LaneDepth, NewJob, Sample};
use uuid::Uuid;

use super::queue::{FREE, claim, job, queue, write};
use super::{time, with};

#[test]
fn depths_count_jobs_by_state() {
    with("depths", async |bed| {
        let store = &bed.store;
        let keyed = |n| NewJob { ordering_key: Some("k".into()), ..job(n, "a") };
        let later = NewJob { due: time(5_000), ..job(5, "a") };
        queue(store, &[job(1, "a"), keyed(2), keyed(3), later, job(4, "a"), job(6, "b")]).await;
        assert_eq!(claim(store, 1, "a", FREE, 2, 400).await.0, [1, 2]);
        assert_eq!(claim(store, 2, "a", FREE, 1, 401).await.0, [0; 0], "the key is held");
        // One of them waits for an instant.
        let mut pause = write(1, 1, Some(JobPhase::Ready));
        pause.end.as_mut().expect("an end").claim_rank = 0;
        pause.end.as_mut().expect("an end").ready_at = time(7_000);
        pause.end.as_mut().expect("an end").expires = None;
        assert_eq!(store.write_jobs(&[&pause], time(500)).await.expect("writes"), [true]);
        let depth = |lane: &str, numbers: [u64; 4], oldest: Option<i64>| LaneDepth {
            lane: lane.into(),
            scheduled: numbers[0],
            queued: numbers[1],
            running: numbers[2],
            waiting: numbers[3],
            oldest: oldest.map(Timestamp::from_micros),
        };
        let depths = store.lane_depths(time(600)).await.expect("depths");
        assert_eq!(depths, [depth("a", [1, 2, 1, 1], Some(100)), depth("b", [0, 1, 0, 0], Some(100))]);
        let waiting = store.lanes_waiting(time(600)).await.expect("counts");
        assert_eq!(waiting.into_iter().collect::<Vec<_>>(), [("a".to_owned(), 2), ("b".to_owned(), 1)]);
        let waiting = store.lanes_waiting(time(8_000)).await.expect("counts");
        assert_eq!(waiting.get("a"), Some(&4), "those that waited for a time are due too");
    });
}

#[test]
fn samples_of_the_same_ten_seconds_add_up() {
    with("samples", async |bed| {
        let sample = |at, waiting, begun, delay| Sample {
            lane: "a".into(),
            at: time(at),
            waiting,
            begun,
            succeeded: 1,
            delay,
            max_delay: delay,
            ..Sample::default()
        };
        bed.store.add_samples(&[]).await.expect("nothing to add");
        bed.store.add_samples(&[sample(10, 5, 1, 7), sample(20, 1, 1, 1)]).await.expect("adds");
        bed.store.add_samples(&[sample(10, 3, 2, 4)]).await.expect("adds");
        let summed = Sample { begun: 3, succeeded: 2, delay: 11, max_delay: 7, ..sample(10, 5, 0, 0) };
        assert_eq!(bed.store.samples(time(0)).await.expect("reads"), [summed, sample(20, 1, 1, 1)]);
        assert_eq!(bed.store.samples(time(11)).await.expect("reads").len(), 1);
        for gone in [1, 0] {
            assert_eq!(bed.store.purge_samples(time(20)).await.expect("purges"), gone);
        }
    });
}

#[test]
fn a_worker_is_known_until_it_is_declared_dead() {
    with("workers", async |bed| {
        let store = &bed.store;
        let (one, two) = (Uuid::from_u128(1), Uuid::from_u128(2));
        store.begin_worker(one, "p", time(10), time(20)).await.expect("begins");
        assert!(store.heartbeat(one, time(30)).await.expect("renews"));
        assert_eq!(store.workers().await.expect("reads"), [(one, "p".to_owned(), 1, time(30))]);
        queue(store, &[job(1, "x"), job(2, "x")]).await;
        assert_eq!(claim(store, 1, "x", FREE, 1, 400).await.0, [1]);
        assert_eq!(store.process_of(Uuid::from_u128(1), Some(one)).await.expect("reads").as_deref(), Some("p"));
        // A process of the same name follows it: what its predecessor had is free at once.
        store.begin_worker(two, "p", time(410), time(420)).await.expect("begins");
        assert!(!store.heartbeat(one, time(500)).await.expect("asked"), "it is declared dead");
        assert_eq!(store.job(Uuid::from_u128(1)).await.expect("reads").expect("job").phase, JobPhase::Ready);
    });
}

#[test]
fn jobs_of_unknown_workers_are_found() {
    with("unknown", async |bed| {
        let store = &bed.store;
        let worker = Uuid::from_u128(3);
        queue(store, &[job(1, "x")]).await;
        assert_eq!(store.expired_workers().await.expect("reads"), [] as [Uuid; 0]);
        assert_eq!(claim(store, 3, "x", FREE, 1, 400).await.0, [1]);
        assert_eq!(store.expired_workers().await.expect("reads"), [worker], "it never registered");
        assert_eq!(store.reclaim(worker, time(500)).await.expect("reclaims"), 1);
        assert_eq!(store.expired_workers().await.expect("reads"), [] as [Uuid; 0]);
    });
}
