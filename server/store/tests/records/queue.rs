//! The queue against a real MariaDB: which jobs a claim returns, and which writes count.

use kanzlei_faults::proxy::Fault;
use kanzlei_model::time::{Span, Timestamp};
use kanzlei_store::Store;
use kanzlei_store::queue::{End, Filter, JobPhase, NewBatch, NewJob, NewOutcome, OfRequest, Room, SEARCHED, Write};
use uuid::Uuid;

use super::{Bed, alone, every_rank, time, with};

pub(crate) const FREE: Room = Room { at_once: None, gap: None, generation: 1 };
/// All places of a lane.
const ALL: &[(u8, Timestamp)] = &every_rank();

pub(crate) fn job(n: u128, lane: &str) -> NewJob {
    NewJob {
        id: Uuid::from_u128(n),
        lane: lane.into(),
        workflow: "w".into(),
        revision: 1,
        generation: 1,
        priority: 5,
        tags: Vec::new(),
        batch: None,
        ordering_key: None,
        entry: "POST /w".into(),
        caller: Default::default(),
        request_id: "r".into(),
        listed: false,
        trace: Default::default(),
        accepted: time(100),
        due: time(100),
        input: "{}".into(),
        sealed: false,
        kept_for: Span::from_micros(1),
        unattended: false,
        depth: 0,
    }
}

pub(crate) fn write(job: u128, fence: u32, phase: Option<JobPhase>) -> Write {
    let end = phase.map(|phase| End {
        phase,
        claim_rank: 5,
        ready_at: time(900),
        waits_for: None,
        failure: None,
        retries: 0,
        expires: Some(time(1000)),
        void_last: false,
        history: None,
        ordering_key: None,
        notice: None,
    });
    let outcome =
        NewOutcome { seq: 0, effect: 7, at: time(800), data: format!("{fence}"), sealed: false, closing: false };
    let outcomes = if phase.is_none() { vec![outcome] } else { Vec::new() };
    Write { job: Uuid::from_u128(job), fence, attempt: 1, outcomes, progress: None, notes: None, reply: None, end }
}

pub(crate) async fn claim(
    store: &Store,
    worker: u128,
    lane: &str,
    room: Room,
    most: u32,
    at: i64,
) -> (Vec<u128>, Option<i64>) {
    let taken = store.claim(Uuid::from_u128(worker), (lane, ALL), room, most, time(at)).await.expect("claims");
    (taken.jobs.iter().map(|job| job.id.as_u128()).collect(), taken.next.map(Timestamp::as_micros))
}

/// Rows and entries of indexes that the server read so far.
fn entries_read(bed: &Bed<'_>) -> u64 {
    let sql = "SELECT SUM(VARIABLE_VALUE) FROM information_schema.GLOBAL_STATUS WHERE VARIABLE_NAME IN ('HANDLER_READ_NEXT', 'HANDLER_READ_PREV', 'HANDLER_READ_RND', 'HANDLER_READ_RND_NEXT')";
    bed.sql(sql).parse::<f64>().expect("number") as u64
}

/// Queues jobs.
pub(crate) async fn queue(store: &Store, jobs: &[NewJob]) {
    store.enqueue(jobs, None).await.expect("queues");
}

/// Writes and returns which of the writes counted.
async fn written(store: &Store, writes: &[&Write], at: i64) -> Vec<bool> {
    store.write_jobs(writes, time(at)).await.expect("writes")
}

#[test]
fn jobs_are_claimed_by_priority_and_due_time() {
    with("order", async |bed| {
        let store = &bed.store;
        let jobs = [
            job(1, "order"),
            NewJob { due: time(50), ..job(2, "order") },
            NewJob { priority: 1, due: time(200), ..job(3, "order") },
            NewJob { due: time(5000), ..job(4, "order") },
            // Of a later deploy, whose lanes this process does not know yet.
            NewJob { generation: 2, due: time(10), ..job(5, "order") },
        ];
        queue(store, &jobs).await;
        let (heads, _) = store.heads(time(0)).await.expect("heads");
        let heads: Vec<(u8, Timestamp)> = heads.iter().map(|head| (head.claim_rank, head.ready_at)).collect();
        assert_eq!(heads, [(1, time(200)), (5, time(10))]);
        assert_eq!(claim(store, 1, "order", FREE, 2, 300).await.0, [3, 2], "by priority, then by due time");
        assert_eq!(claim(store, 1, "order", FREE, 9, 301).await.0, [1], "what is not due or not known stays");
        assert_eq!(claim(store, 2, "order", Room { generation: 2, ..FREE }, 9, 302).await.0, [5]);
    });
}

#[test]
fn a_batch_that_is_queued_again_changes_nothing() {
    with("again", async |bed| {
        let jobs = [job(1, "a"), job(2, "a")];
        queue(&bed.store, &jobs).await;
        queue(&bed.store, &jobs[..1]).await;
        assert_eq!(claim(&bed.store, 1, "a", FREE, 9, 300).await.0, [1, 2]);
        queue(&bed.store, &jobs).await;
        assert_eq!(claim(&bed.store, 2, "a", FREE, 9, 300).await.0, [0; 0], "they run");
    });
}

/// Groups are rounded to the numbers that have a statement.
#[test]
fn groups_of_any_size_are_queued_once() {
    with("groups", async |bed| {
        // The first one opens the lane.
        queue(&bed.store, &[job(1, "g")]).await;
        let (mut first, mut wanted) = (2, 1);
        for count in [0, 1, 7, 8, 9, 23, 63, 64, 65] {
            let jobs: Vec<NewJob> = (first..first + count).map(|n| job(n, "g")).collect();
            first += count;
            wanted += count;
            for _ in 0..2 {
                queue(&bed.store, &jobs).await;
                let found = bed.sql("SELECT CONCAT(COUNT(*), ' ', SUM(phase = 1)) FROM job WHERE lane = 'g'");
                assert_eq!(found.trim(), format!("{wanted} {wanted}"), "{count}");
            }
        }
    });
}

#[test]
fn writes_of_an_owner_that_lost_its_job_are_refused() {
    with("fence", async |bed| {
        let store = &bed.store;
        queue(store, &[job(10, "fence")]).await;
        assert_eq!(claim(store, 1, "fence", FREE, 1, 400).await.0, [10]);
        // Twice: as when the connection broke while the transaction was ending.
        for at in [410, 411] {
            assert_eq!(written(store, &[&write(10, 1, None)], at).await, [true]);
        }
        // It was slow, was declared dead, and another has the job by now.
        assert_eq!(store.reclaim(Uuid::from_u128(1), time(500)).await.expect("reclaims"), 1);
        let taken = store.claim(Uuid::from_u128(2), ("fence", ALL), FREE, 1, time(501)).await.expect("claims");
        assert_eq!((taken.jobs[0].id.as_u128(), taken.jobs[0].fence, taken.jobs[0].outcomes), (10, 3, 1));
        for (old, new) in [(None, None), (Some(JobPhase::Succeeded), Some(JobPhase::Failed))] {
            let late = Write { outcomes: Vec::new(), ..write(10, 1, old) };
            let fresh = Write { outcomes: Vec::new(), ..write(10, 3, new) };
            assert_eq!(written(store, &[&late, &fresh], 600).await, [false, true], "the old owner is refused");
        }
        let row = store.job(Uuid::from_u128(10)).await.expect("reads").expect("job");
        assert_eq!((row.phase, row.outcomes), (JobPhase::Failed, 1));
        let kept = store.outcomes(&[(Uuid::from_u128(10), 1)]).await.expect("outcomes");
        assert_eq!(kept.iter().map(|outcome| outcome.data.as_str()).collect::<Vec<_>>(), ["1"]);
    });
}

#[test]
fn an_end_that_is_written_again_counts_and_another_does_not() {
    with("ends", async |bed| {
        let store = &bed.store;
        queue(store, &[job(10, "ends")]).await;
        claim(store, 1, "ends", FREE, 1, 400).await;
        let failed = Write { outcomes: Vec::new(), ..write(10, 1, Some(JobPhase::Failed)) };
        let succeeded = write(10, 1, Some(JobPhase::Succeeded));
        let unfinished = write(10, 1, None);
        assert_eq!(written(store, &[&failed], 600).await, [true]);
        assert_eq!(written(store, &[&failed], 700).await, [true], "the job ended by this");
        assert_eq!(written(store, &[&succeeded, &unfinished], 700).await, [false, false]);
    });
}

#[test]
fn a_claimed_job_that_never_began_is_returned_under_its_fence() {
    with("unbegun", async |bed| {
        let store = &bed.store;
        let (worker, id) = (Uuid::from_u128(3), Uuid::from_u128(11));
        queue(store, &[job(11, "unbegun")]).await;
        assert_eq!(claim(store, 3, "unbegun", FREE, 1, 700).await.0, [11]);
        assert_eq!(store.claimed_before(worker, time(701)).await.expect("reads"), [(id, 1)]);
        for (fence, phase) in [(9, JobPhase::Running), (1, JobPhase::Ready)] {
            store.release(worker, &[(id, fence)], time(702)).await.expect("returns");
            assert_eq!(store.job(id).await.expect("reads").expect("job").phase, phase);
        }
    });
}

#[test]
fn a_lane_keeps_its_pace() {
    with("pace", async |bed| {
        let many: Vec<NewJob> = (20..30).map(|n| job(n, "pace")).collect();
        queue(&bed.store, &many).await;
        let paced = Room { gap: Some(Span::from_micros(1_000_000)), ..FREE };
        let second = 1_000_000_000;
        for (at, count, next) in [
            (second, 1, second + 750_000),
            (second + 10, 0, second + 750_000),
            (second + 750_000, 1, second + 1_750_000),
            // Slots that nobody used are not made up for.
            (second + 9_000_000, 1, second + 9_750_000),
        ] {
            let (taken, open) = claim(&bed.store, 4, "pace", paced, 9, at).await;
            assert_eq!((taken.len(), open), (count, Some(next)), "at {at}");
        }
    });
}

/// Slots that pass while jobs are claimed are not lost to a fast pace, and those of a pause are.
#[test]
fn a_fast_lane_makes_up_for_a_tenth_of_a_second() {
    with("fast_pace", async |bed| {
        let many: Vec<NewJob> = (0..400).map(|n| job(1000 + n, "fast")).collect();
        queue(&bed.store, &many).await;
        let paced = Room { gap: Some(Span::from_micros(1_000)), ..FREE };
        let second = 1_000_000_000;
        for (at, count) in [(second, 101), (second + 20_000, 20), (second + 60_000, 40), (second + 9_000_000, 101)] {
            let (taken, _) = claim(&bed.store, 4, "fast", paced, 256, at).await;
            assert_eq!(taken.len(), count, "at {at}");
        }
    });
}

#[test]
fn a_lane_runs_no_more_jobs_than_it_may() {
    with("at_once", async |bed| {
        let many: Vec<NewJob> = (20..30).map(|n| job(n, "few")).collect();
        queue(&bed.store, &many).await;
        let few = Room { at_once: Some(5), ..FREE };
        for (worker, most, count) in [(4, 3, 3), (5, 9, 2), (4, 9, 0)] {
            assert_eq!(claim(&bed.store, worker, "few", few, most, 1_000).await.0.len(), count);
        }
    });
}

#[test]
fn a_held_lane_gives_out_no_jobs() {
    with("held", async |bed| {
        let store = &bed.store;
        queue(store, &(20..25).map(|n| job(n, "held")).collect::<Vec<_>>()).await;
        // A lane without a bound is claimed from only where its heads are not held.
        let room = Room { at_once: Some(50), ..FREE };
        for (held, count) in [(true, 0), (false, 2)] {
            store.hold_lane("held", held).await.expect("holds");
            let (heads, _) = store.heads(time(0)).await.expect("heads");
            assert_eq!(heads.iter().map(|head| head.held).collect::<Vec<_>>(), [held]);
            assert_eq!(claim(store, 5, "held", room, 2, 1_000).await.0.len(), count);
        }
        assert_eq!(store.waiting_in("held", 100).await.expect("counts"), 3);
        assert_eq!(store.waiting_in("held", 2).await.expect("counts"), 2, "counting is bounded");
    });
}

#[test]
fn jobs_of_an_ordering_key_run_one_after_another() {
    with("keys", async |bed| {
        let store = &bed.store;
        let keyed = |n| NewJob { ordering_key: Some("quay-1".into()), due: time(n as i64), ..job(n, "keys") };
        queue(store, &[keyed(40), keyed(41), keyed(42), job(43, "keys")]).await;
        assert_eq!(claim(store, 6, "keys", FREE, 9, 900).await.0, [40, 43]);
        assert_eq!(claim(store, 7, "keys", FREE, 9, 901).await.0, [0; 0], "the others are blocked by it");
        let mut done = write(40, 1, Some(JobPhase::Succeeded));
        done.end.as_mut().expect("end").ordering_key = Some("quay-1".into());
        assert_eq!(written(store, &[&done], 902).await, [true]);
        assert_eq!(claim(store, 7, "keys", FREE, 9, 903).await.0, [41]);
    });
}

/// What is left when a job ends between the claim of others and their turn: nobody holds the key, and a newer job is claimed first.
#[test]
fn no_job_of_an_ordering_key_overtakes_an_older_one() {
    with("overtaking", async |bed| {
        let store = &bed.store;
        let keyed = |n| NewJob { ordering_key: Some("quay-1".into()), due: time(n as i64), ..job(n, "keys") };
        queue(store, &[keyed(40), keyed(41), keyed(42)]).await;
        bed.sql("UPDATE job SET phase = 3 WHERE due < 42");
        assert_eq!(claim(store, 6, "keys", FREE, 9, 900).await.0, [0; 0], "two older ones are blocked");
        assert_eq!(claim(store, 6, "keys", FREE, 9, 901).await.0, [40], "the oldest has its turn");
        // Another process claims an older job and has not asked for its turn yet.
        bed.sql("DELETE FROM ordering_holder");
        bed.sql("UPDATE job SET phase = 1, ready_at = due WHERE due = 42");
        assert_eq!(claim(store, 7, "keys", FREE, 9, 902).await.0, [0; 0]);
        // One that a process had claimed when it died, before it asked for its turn.
        store.reclaim(Uuid::from_u128(6), time(950)).await.expect("reclaimed");
        bed.sql("UPDATE job SET phase = 1, ready_at = due WHERE due = 42");
        assert_eq!(bed.sql("SELECT claim_rank, ready_at FROM job WHERE due = 40"), "0\t950");
        assert_eq!(
            claim(store, 7, "keys", FREE, 9, 903).await.0,
            [0; 0],
            "it is not due yet for this claim, and is older"
        );
        assert_eq!(claim(store, 7, "keys", FREE, 9, 951).await.0, [40]);
        bed.sql("DELETE FROM ordering_holder");
        // One that is due earlier and less urgent blocks nobody.
        bed.sql("UPDATE job SET phase = 1, ready_at = due, priority = 9, claim_rank = 9, worker = NULL WHERE due < 42");
        bed.sql("UPDATE job SET phase = 1, ready_at = due WHERE due = 42");
        assert_eq!(claim(store, 7, "keys", FREE, 1, 903).await.0, [42]);
    });
}

/// Queues one job in a lane of its own and ends it in a phase, at 900.
pub(crate) async fn ended(store: &Store, n: u128, phase: JobPhase) {
    let lane = format!("ended-{n}");
    queue(store, &[job(n, &lane)]).await;
    assert_eq!(claim(store, 9, &lane, FREE, 9, 800).await.0, [n]);
    for write in [write(n, 1, None), write(n, 1, Some(phase))] {
        assert_eq!(written(store, &[&write], 850).await, [true]);
    }
}

#[test]
fn ended_jobs_are_purged_by_age_failed_ones_later() {
    with("purged_jobs", async |bed| {
        let store = &bed.store;
        ended(store, 1, JobPhase::Succeeded).await;
        ended(store, 2, JobPhase::Cancelled).await;
        ended(store, 3, JobPhase::Failed).await;
        for (most, beyond) in [(3, None), (2, Some(900)), (0, Some(900)), (10_000_000, None)] {
            let ended = store.ended_beyond(most).await.expect("counts");
            assert_eq!(ended, beyond.map(Timestamp::from_micros), "of {most}");
        }
        for (before, failed_before, gone) in
            [(900, 900, 0), (901, 0, 2), (901, 900, 0), (901, 901, 1), (2_000, 2_000, 0)]
        {
            let purged = store.purge_jobs(time(before), time(failed_before), 500).await.expect("purges");
            assert_eq!(purged, gone, "before {before}, failed ones before {failed_before}");
        }
        assert_eq!(bed.sql("SELECT (SELECT COUNT(*) FROM job), (SELECT COUNT(*) FROM outcome)"), "0\t0");
    });
}

#[test]
fn a_job_that_is_released_goes_before_later_ones_of_its_key() {
    with("released", async |bed| {
        let store = &bed.store;
        let keyed = |n: u128| NewJob {
            ordering_key: Some("quay".into()),
            due: time(100 + n as i64),
            accepted: time(100 + n as i64),
            ..job(n, "main")
        };
        queue(store, &[keyed(1), keyed(2)]).await;
        // It was marked as claimed, and the connection broke before its worker knew and asked for its turn.
        let worker = Uuid::from_u128(9);
        bed.sql(
            "UPDATE job SET phase = 2, worker = UNHEX(LPAD('9', 32, '0')), fence = 1, ready_at = 200 WHERE due = 101",
        );
        store.release(worker, &[(Uuid::from_u128(1), 1)], time(300)).await.expect("releases");
        assert_eq!(claim(store, 9, "main", FREE, 1, 400).await.0, [1]);
        assert_eq!(claim(store, 9, "main", FREE, 9, 401).await.0, [0; 0], "the other one waits for its turn");
    });
}

#[test]
fn jobs_are_purged_although_other_work_wins() {
    with("purged_beside", async |bed| {
        let (store, plan) = super::histories::behind(bed).await;
        // A deadlock and a lock that is not released in time, at each statement. What only searches has changed nothing.
        let mut repeated = 0;
        for (number, error) in [1213, 1205].into_iter().enumerate() {
            for at in 0..9 {
                ended(&bed.store, 100 * number as u128 + u128::from(at), JobPhase::Succeeded).await;
                plan.set(Some((Fault::Error(error), at)));
                match store.purge_jobs(time(901), time(901), 500).await {
                    Ok(purged) => repeated += purged,
                    Err(why) => {
                        assert!(why.to_string().contains("searching"), "error {error} at statement {at}: {why}");
                        assert_eq!(store.purge_jobs(time(901), time(901), 500).await.expect("purges"), 1);
                    }
                }
            }
        }
        assert!(repeated >= 10, "{repeated} of 14 deletions are repeated");
        assert!(plan.happened.load(std::sync::atomic::Ordering::Relaxed) > 10);
        plan.set(None);
        store.close().await;
    });
}

#[test]
fn a_group_is_purged_once_it_has_no_jobs() {
    with("groups", async |bed| {
        let store = &bed.store;
        let group = |n: u128| NewBatch {
            id: Uuid::from_u128(n),
            workflow: "w".into(),
            run: "r".into(),
            total: 1,
            created: time(100),
        };
        let (empty, open) = (group(700), group(701));
        store.enqueue(&[], Some(&empty)).await.expect("queues");
        store.enqueue(&[NewJob { batch: Some(open.id), ..job(51, "x") }], Some(&open)).await.expect("queues");
        for (before, gone) in [(100, 0), (101, 1)] {
            assert_eq!(store.purge_groups(time(before)).await.expect("purges"), gone);
        }
        assert!(store.batch(open.id).await.expect("reads").is_some(), "it has a job");
    });
}

/// A plan that sorts all waiting jobs would show in the counters of the server.
#[test]
fn claiming_reads_few_entries_however_many_jobs_wait() {
    alone("read", async |bed| {
        let store = &bed.store;
        let many: Vec<NewJob> = (1000..6000).map(|n| NewJob { due: time(n as i64), ..job(n, "many") }).collect();
        store.enqueue(&many, None).await.expect("queues");
        let read = || entries_read(bed);
        let before = read();
        store.heads(time(0)).await.expect("heads");
        assert_eq!(claim(store, 8, "many", FREE, 10, 10_000).await.0, (1000..1010).collect::<Vec<_>>());
        assert_eq!(claim(store, 8, "many", Room { at_once: Some(20), ..FREE }, 20, 10_001).await.0.len(), 10);
        let spent = read() - before;
        assert!(spent < 500, "{spent} entries were read");
    });
}

/// Jobs are claimed and ended at the same time all the time; neither waits for the other in a circle.
#[test]
fn claims_and_ends_lock_in_one_order() {
    alone("locks", async |bed| {
        const JOBS: u128 = 900;
        let (sender, receiver) = tokio::sync::mpsc::channel::<Vec<(u128, u32)>>(4);
        let receiver = std::sync::Arc::new(tokio::sync::Mutex::new(receiver));
        let enders: Vec<_> = (0..3)
            .map(|_| {
                let (store, receiver) = (bed.store.clone(), receiver.clone());
                tokio::spawn(async move {
                    loop {
                        let Some(claimed) = receiver.lock().await.recv().await else { return };
                        let ends: Vec<Write> =
                            claimed.iter().map(|(id, fence)| write(*id, *fence, Some(JobPhase::Succeeded))).collect();
                        let written = written(&store, &ends.iter().collect::<Vec<_>>(), 900).await;
                        assert!(written.iter().all(|ours| *ours));
                    }
                })
            })
            .collect();
        for first in (1..=JOBS).step_by(3) {
            // Fewer are due than may be claimed, so that a claim meets those that run.
            queue(&bed.store, &[job(first, "many"), job(first + 1, "many"), job(first + 2, "many")]).await;
            let at = time(1000 + first as i64);
            let claimed = bed.store.claim(Uuid::from_u128(8), ("many", ALL), FREE, 50, at).await.expect("claims");
            assert_eq!(claimed.jobs.len(), 3);
            sender.send(claimed.jobs.iter().map(|job| (job.id.as_u128(), job.fence)).collect()).await.expect("sends");
        }
        drop(sender);
        for ender in enders {
            ender.await.expect("ends");
        }
        let deadlocks =
            "SELECT variable_value FROM information_schema.global_status WHERE variable_name = 'INNODB_DEADLOCKS'";
        assert_eq!(bed.sql(deadlocks), "0");
        assert_eq!(bed.sql("SELECT COUNT(*) FROM job WHERE phase = 11"), JOBS.to_string());
    });
}

#[test]
fn the_jobs_of_a_request_are_found_without_a_scan() {
    alone("of_request", async |bed| {
        let store = &bed.store;
        let listed = |n| NewJob { listed: n % 1000 == 7, request_id: format!("r{}", n % 1000), ..job(n, "x") };
        let all: Vec<NewJob> = (1..=5000).map(listed).collect();
        queue(store, &all).await;
        let before = entries_read(bed);
        for (request, jobs, wanted) in [
            ("r7", vec![], vec![4007, 3007, 2007, 1007, 7]),
            ("r8", vec![8, 2008, 9, 99_999], vec![2008, 8]),
            ("r7", vec![7, 2007], vec![4007, 3007, 2007, 1007, 7]),
            ("none", vec![], vec![]),
        ] {
            let request = OfRequest { id: request.into(), jobs: jobs.into_iter().map(Uuid::from_u128).collect() };
            let filter = Filter { request: Some(request), limit: 50, ..Filter::default() };
            let page = store.jobs(&filter, time(1)).await.expect("a page");
            let found: Vec<u128> = page.jobs.iter().map(|job| job.id.as_u128()).collect();
            assert_eq!((found, page.next), (wanted, None), "{filter:?}");
        }
        let spent = entries_read(bed) - before;
        assert!(spent < 500, "{spent} entries were read");
    });
}

#[test]
fn text_searches_continue_by_cursor() {
    with("searched", async |bed| {
        let store = &bed.store;
        let base = 1_000_000_u128;
        let insert = format!(
            "INSERT INTO job (id, phase, lane, claim_rank, ready_at, workflow, revision, generation, priority, entry, request_id, trace_id, accepted, due, input, kept_for)
             SELECT UNHEX(LPAD(HEX({base} + seq), 32, '0')), 11, 'ended', 0, seq, 'w', 1, 1, 5, 'e', 'r', '0', seq, seq, IF(seq IN (5, 30000), '{{\"t\":\"needle\"}}', '{{}}'), 1
             FROM seq_1_to_45000"
        );
        bed.sql(&insert);
        let mut filter = Filter { text: Some("needle".into()), limit: 50, ..Filter::default() };
        let mut pages = Vec::new();
        loop {
            let page = store.jobs(&filter, time(1)).await.expect("a page");
            let found: Vec<u128> = page.jobs.iter().map(|job| job.id.as_u128() - base).collect();
            assert_eq!(page.searched_to, page.next, "it says how far it got");
            pages.push((found, page.next.map(|id| id.as_u128() - base)));
            filter.before = page.next;
            if filter.before.is_none() {
                break;
            }
        }
        let searched = u128::from(SEARCHED);
        assert_eq!(
            pages,
            [(vec![30_000], Some(45_001 - searched)), (vec![], Some(45_001 - 2 * searched)), (vec![5], None)]
        );
        // A page that is full continues behind its last job.
        let full = store.jobs(&Filter { limit: 1, before: None, ..filter }, time(1)).await.expect("a page");
        assert_eq!((full.next, full.searched_to), (Some(Uuid::from_u128(base + 30_000)), None));
    });
}
