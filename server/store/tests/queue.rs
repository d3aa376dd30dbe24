//! The queue against a real MariaDB: who gets which job, and who may write what of it.

use kanzlei_harness::mariadb::Mariadb;
use kanzlei_model::time::{Span, Timestamp};
use kanzlei_store::Store;
use kanzlei_store::outside::{Outside, Refused, Statement};
use kanzlei_store::queue::{End, Filter, JobPhase, NewBatch, NewJob, NewOutcome, Room, SEARCHED, Write};
use uuid::Uuid;

fn time(micros: i64) -> Timestamp {
    Timestamp::from_micros(micros)
}

const FREE: Room = Room { at_once: None, gap: None, generation: 1 };
/// All places of a lane.
const ALL: &[u8] = &[0, 1, 2, 3, 4, 5, 6, 7, 8, 9];

fn job(n: u128, lane: &str) -> NewJob {
    NewJob {
        id: Uuid::from_u128(n),
        lane: lane.into(),
        workflow: "w".into(),
        revision: 1,
        generation: 1,
        priority: 5,
        tag: None,
        batch: None,
        ordering_key: None,
        entry: "POST /w".into(),
        caller: None,
        request_id: "r".into(),
        trace_id: "0".repeat(32),
        accepted: time(100),
        due: time(100),
        input: "{}".into(),
        sealed: false,
        kept_for: Span::from_micros(1),
        unattended: false,
    }
}

fn write(job: u128, fence: u32, phase: Option<JobPhase>) -> Write {
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
    let outcome = NewOutcome { seq: 0, effect: 7, at: time(800), data: format!("{fence}"), sealed: false };
    let outcomes = if phase.is_none() { vec![outcome] } else { Vec::new() };
    Write { job: Uuid::from_u128(job), fence, attempt: 1, outcomes, progress: None, notes: None, reply: None, end }
}

async fn claim(store: &Store, worker: u128, lane: &str, room: Room, most: u32, at: i64) -> (Vec<u128>, Option<i64>) {
    let taken = store.claim(Uuid::from_u128(worker), (lane, ALL), room, most, time(at)).await.expect("claims");
    (taken.jobs.iter().map(|job| job.id.as_u128()).collect(), taken.next.map(Timestamp::as_micros))
}

#[test]
fn jobs_are_taken_and_written() {
    let dir = kanzlei_harness::scratch::folder("queue");
    let server = Mariadb::start(&dir).expect("MariaDB starts");
    let url = server.fresh("kanzlei_queue").expect("database");
    let runtime = tokio::runtime::Runtime::new().expect("runtime");
    runtime.block_on(async {
        let store = Store::open(&url, 4).await.expect("opens");
        in_order(&store).await;
        under_fences(&store).await;
        within_limits(&store).await;
        by_turns(&store).await;
        old_ones_go(&store, &server).await;
        little_is_read(&store, &server).await;
        text_searches_continue_by_cursor(&store, &server).await;
        what_is_cut_is_away(&server).await;
    });
    drop(server);
    let _ = std::fs::remove_dir_all(dir);
}

async fn in_order(store: &Store) {
    let jobs = [
        job(1, "order"),
        NewJob { due: time(50), ..job(2, "order") },
        NewJob { priority: 1, due: time(200), ..job(3, "order") },
        NewJob { due: time(5000), ..job(4, "order") },
        // Of a later deploy, whose lanes this process does not know yet.
        NewJob { generation: 2, due: time(10), ..job(5, "order") },
    ];
    store.enqueue(&jobs, None).await.expect("queues");
    store.enqueue(&jobs[..2], None).await.expect("again changes nothing");
    let heads: Vec<(u8, Timestamp)> = store
        .heads()
        .await
        .expect("heads")
        .iter()
        .filter(|h| h.lane == "order")
        .map(|h| (h.claim_rank, h.ready_at))
        .collect();
    assert_eq!(heads, [(1, time(200)), (5, time(10))]);
    assert_eq!(claim(store, 1, "order", FREE, 2, 300).await.0, [3, 2], "by priority, then as due");
    assert_eq!(claim(store, 1, "order", FREE, 9, 301).await.0, [1], "what is not due or not known stays");
    assert_eq!(claim(store, 2, "order", Room { generation: 2, ..FREE }, 9, 302).await.0, [5]);
}

async fn under_fences(store: &Store) {
    let slow = Uuid::from_u128(1);
    store.enqueue(&[job(10, "fence"), job(11, "fence")], None).await.expect("queues");
    assert_eq!(claim(store, 1, "fence", FREE, 1, 400).await.0, [10]);
    // Twice: as when the connection broke while the transaction was ending.
    for at in [410, 411] {
        assert_eq!(store.write_jobs(&[&write(10, 1, None)], time(at)).await.expect("writes"), [true]);
    }
    // It was slow, was declared dead, and another has the job by now.
    assert!(store.reclaim(slow, time(500)).await.expect("reclaims") >= 1);
    let taken = store.claim(Uuid::from_u128(2), ("fence", ALL), FREE, 1, time(501)).await.expect("claims");
    assert_eq!((taken.jobs[0].id.as_u128(), taken.jobs[0].fence, taken.jobs[0].outcomes), (10, 3, 1));
    for (old, new) in [(None, None), (Some(JobPhase::Succeeded), Some(JobPhase::Failed))] {
        let late = Write { outcomes: Vec::new(), ..write(10, 1, old) };
        let fresh = Write { outcomes: Vec::new(), ..write(10, 3, new) };
        let both = store.write_jobs(&[&late, &fresh], time(600)).await.expect("writes");
        assert_eq!(both, [false, true], "the old owner is refused");
    }
    let again =
        store.write_jobs(&[&Write { outcomes: Vec::new(), ..write(10, 3, Some(JobPhase::Failed)) }], time(700)).await;
    assert_eq!(again.expect("writes"), [true], "it is known that it left by this");
    let other = store.write_jobs(&[&write(10, 3, Some(JobPhase::Succeeded)), &write(10, 3, None)], time(700)).await;
    assert_eq!(other.expect("writes"), [false, false]);
    let row = store.job(Uuid::from_u128(10)).await.expect("reads").expect("job");
    assert_eq!((row.phase, row.outcomes), (JobPhase::Failed, 1));
    let kept = store.outcomes(&[(Uuid::from_u128(10), 1)]).await.expect("outcomes");
    assert_eq!(kept.iter().map(|o| o.data.as_str()).collect::<Vec<_>>(), ["1"]);
    // What was taken and not begun goes back once, under its fence.
    let (worker, id) = (Uuid::from_u128(3), Uuid::from_u128(11));
    assert_eq!(claim(store, 3, "fence", FREE, 1, 700).await.0, [11]);
    assert_eq!(store.taken_before(worker, time(701)).await.expect("looks"), [(id, 1)]);
    for (fence, phase) in [(9, JobPhase::Running), (1, JobPhase::Ready)] {
        store.give_back(worker, &[(id, fence)], time(702)).await.expect("gives back");
        assert_eq!(store.job(id).await.expect("reads").expect("job").phase, phase);
    }
}

async fn within_limits(store: &Store) {
    let many: Vec<NewJob> = (20..30).map(|n| job(n, "limits")).collect();
    store.enqueue(&many, None).await.expect("queues");
    let paced = Room { gap: Some(Span::from_micros(1_000_000)), ..FREE };
    let second = 1_000_000_000;
    for (at, count, next) in [
        (second, 1, second + 750_000),
        (second + 10, 0, second + 750_000),
        (second + 750_000, 1, second + 1_750_000),
        // Slots that nobody used are not made up for.
        (second + 9_000_000, 1, second + 9_750_000),
    ] {
        let (taken, open) = claim(store, 4, "limits", paced, 9, at).await;
        assert_eq!((taken.len(), open), (count, Some(next)), "at {at}");
    }
    let few = Room { at_once: Some(5), ..FREE };
    assert_eq!(claim(store, 4, "limits", few, 9, second * 2).await.0.len(), 2, "three run already");
    assert_eq!(claim(store, 5, "limits", few, 9, second * 2 + 1).await.0.len(), 0);
    store.hold_lane("limits", true).await.expect("holds");
    assert_eq!(claim(store, 5, "limits", Room { at_once: Some(50), ..FREE }, 9, second * 3).await.0.len(), 0);
    assert_eq!(store.waiting_in("limits", 100).await.expect("counts"), 5);
}

async fn by_turns(store: &Store) {
    let ordering_key = |n| NewJob { ordering_key: Some("turns quay-1".into()), due: time(n as i64), ..job(n, "turns") };
    store.enqueue(&[ordering_key(40), ordering_key(41), ordering_key(42)], None).await.expect("queues");
    assert_eq!(claim(store, 6, "turns", FREE, 9, 900).await.0, [40]);
    assert_eq!(claim(store, 7, "turns", FREE, 9, 901).await.0, [0; 0], "the others are behind it");
    let mut done = write(40, 1, Some(JobPhase::Succeeded));
    done.end.as_mut().expect("end").ordering_key = Some("turns quay-1".into());
    assert_eq!(store.write_jobs(&[&done], time(902)).await.expect("writes"), [true]);
    assert_eq!(claim(store, 7, "turns", FREE, 9, 903).await.0, [41]);
}

async fn old_ones_go(store: &Store, server: &Mariadb) {
    let batch = |n: u128| NewBatch {
        id: Uuid::from_u128(n),
        workflow: "w".into(),
        run: "r".into(),
        total: 1,
        created: time(100),
    };
    let (old, open) = (batch(700), batch(701));
    store.enqueue(&[NewJob { batch: Some(old.id), ..job(50, "old") }], Some(&old)).await.expect("queues");
    store.enqueue(&[NewJob { batch: Some(open.id), ..job(51, "open") }], Some(&open)).await.expect("queues");
    assert_eq!(claim(store, 9, "old", FREE, 9, 1_000).await.0, [50]);
    for write in [write(50, 1, None), write(50, 1, Some(JobPhase::Cancelled))] {
        assert_eq!(store.write_jobs(&[&write], time(1_000)).await.expect("writes"), [true]);
    }
    // Three ended until now, at 900 all of them: the fenced one, that of an ordering key, and this.
    for (most, beyond) in [(3, None), (2, Some(900)), (0, Some(900))] {
        assert_eq!(store.ended_beyond(most).await.expect("counts"), beyond.map(Timestamp::from_micros), "of {most}");
    }
    // The failed one is kept longer.
    for (before, failed_before, gone) in [(900, 900, 0), (901, 0, 2), (901, 900, 0), (901, 901, 1), (2_000, 2_000, 0)] {
        let purged = store.purge_jobs(time(before), time(failed_before), 500).await.expect("purges");
        assert_eq!(purged, gone, "before {before}, failed ones before {failed_before}");
    }
    let left = "SELECT (SELECT COUNT(*) FROM job WHERE phase > 10), (SELECT COUNT(*) FROM outcome)";
    assert_eq!(server.sql("kanzlei_queue", left).expect("counts").trim(), "0\t0");
    assert_eq!(
        (store.purge_groups(time(100)).await.ok(), store.purge_groups(time(101)).await.ok()),
        (Some(0), Some(1))
    );
    assert!(store.batch(open.id).await.expect("reads").is_some(), "it has a job");
}

/// Looking and taking read a few entries, however many jobs wait: a plan that sorts them all would show.
async fn little_is_read(store: &Store, server: &Mariadb) {
    let many: Vec<NewJob> = (1000..6000).map(|n| NewJob { due: time(n as i64), ..job(n, "many") }).collect();
    store.enqueue(&many, None).await.expect("queues");
    let read = || -> u64 {
        let sql = "SELECT SUM(VARIABLE_VALUE) FROM information_schema.GLOBAL_STATUS WHERE VARIABLE_NAME IN ('HANDLER_READ_NEXT', 'HANDLER_READ_RND')";
        server.sql("kanzlei_queue", sql).expect("status").trim().parse::<f64>().expect("number") as u64
    };
    let before = read();
    store.heads().await.expect("heads");
    assert_eq!(claim(store, 8, "many", FREE, 10, 10_000).await.0, (1000..1010).collect::<Vec<_>>());
    assert_eq!(claim(store, 8, "many", Room { at_once: Some(20), ..FREE }, 20, 10_001).await.0.len(), 10);
    let spent = read() - before;
    assert!(spent < 500, "{spent} entries were read");
}

async fn text_searches_continue_by_cursor(store: &Store, server: &Mariadb) {
    let base = 1_000_000_u128;
    let insert = format!(
        "INSERT INTO job (id, phase, lane, claim_rank, ready_at, workflow, revision, generation, priority, entry, request_id, trace_id, accepted, due, input, kept_for)
         SELECT UNHEX(LPAD(HEX({base} + seq), 32, '0')), 11, 'ended', 0, seq, 'w', 1, 1, 5, 'e', 'r', '0', seq, seq, IF(seq IN (5, 30000), '{{\"t\":\"needle\"}}', '{{}}'), 1
         FROM seq_1_to_45000"
    );
    server.sql("kanzlei_queue", &insert).expect("many jobs");
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
}

/// A connection that somebody cuts, or a statement that is interrupted, is no fault of the statement: it is
/// worth trying again.
async fn what_is_cut_is_away(server: &Mariadb) {
    for how in ["KILL", "KILL QUERY"] {
        let database = Outside::connect(&server.url("kanzlei_queue"), 1).expect("pool");
        let asked = tokio::spawn(async move {
            let sleep = Statement { text: "SELECT 1 FROM job WHERE SLEEP(60) LIMIT 1".into(), values: Vec::new() };
            database.run(&[sleep], false, std::time::Duration::from_secs(60)).await
        });
        let sleeping = "SELECT id FROM information_schema.processlist WHERE info LIKE '%job WHERE SLEEP%' AND id <> CONNECTION_ID()";
        let id = loop {
            let found = server.sql("kanzlei_queue", sleeping).expect("connections");
            if let Some(id) = found.lines().next() {
                break id.to_owned();
            }
            tokio::task::yield_now().await;
        };
        server.sql("kanzlei_queue", &format!("{how} {id}")).expect("cut");
        let refused = asked.await.expect("ends");
        assert!(matches!(refused, Err(Refused::Away(_))), "{how}: {refused:?}");
    }
}
