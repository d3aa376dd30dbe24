//! Acceptance: bounds of lanes, batches, and rows that the database does not accept.

use kanzlei_model::time::{Span, Timestamp};
use kanzlei_runtime::queue::accept::NotQueued;
use kanzlei_store::queue::{NewBatch, NewJob};
use uuid::Uuid;

use super::{Bed, with};

const DOCUMENTS: [&str; 2] = [
    "lane: narrow\nlength: 3\nfull: 429\n",
    "workflow: w\ninput: {n: {type: integer, default: 1}}\nqueue: {lane: narrow}\nentries: [{endpoint: POST /w, access: open, answer: later}]\nsteps: [{note: x}]\n",
];

fn job(id: u128, lane: &str) -> NewJob {
    NewJob {
        id: Uuid::from_u128(id),
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
        request_id: format!("r{id}"),
        listed: true,
        trace: Default::default(),
        accepted: Timestamp::EPOCH,
        due: Timestamp::EPOCH,
        input: "{}".into(),
        sealed: false,
        kept_for: Span::from_days(1),
        unattended: false,
        depth: 0,
    }
}

async fn waiting(bed: &Bed, lane: &str) -> u64 {
    bed.store().waiting_in(lane, 1000).await.expect("a count")
}

#[test]
fn a_full_lane_refuses_with_its_own_status() {
    with("full_lane", &DOCUMENTS, &[], async |bed| {
        for n in 0..3 {
            assert_eq!(bed.post("/w", &[], "{}").await.status, 202, "job {n}");
        }
        let refused = bed.post("/w", &[], "{}").await;
        assert_eq!(refused.problem(), (429, "The queue is full".into()));
        assert_eq!(refused.header("retry-after"), Some("5"));
        assert!(refused.body.contains("the lane `narrow` allows 3 waiting jobs and has 3"), "{}", refused.body);
    });
}

#[test]
fn acceptances_of_one_round_are_counted_together() {
    with("one_round", &DOCUMENTS, &[], async |bed| {
        let jobs = &bed.service.app.jobs;
        let all = (1..=8).map(|id| jobs.accept(vec![job(id, "narrow")], None));
        let outcomes = futures_util::future::join_all(all).await;
        assert_eq!(outcomes.iter().filter(|outcome| outcome.is_ok()).count(), 3, "{outcomes:?}");
        assert!(
            outcomes
                .iter()
                .filter_map(|outcome| outcome.as_ref().err())
                .all(|refused| { matches!(refused, NotQueued::Full { status: 429, .. }) })
        );
        assert_eq!(waiting(bed, "narrow").await, 3);
    });
}

#[test]
fn a_list_is_queued_as_a_whole_or_not_at_all() {
    with("lists", &DOCUMENTS, &[], async |bed| {
        let list = |first: u128, count: u128| (first..first + count).map(|id| job(id, "narrow")).collect::<Vec<_>>();
        let batch = |id: u128, total: u32| NewBatch {
            id: Uuid::from_u128(id),
            workflow: "w".into(),
            run: "r".into(),
            total,
            created: Timestamp::EPOCH,
        };
        let jobs = &bed.service.app.jobs;
        let refused = jobs.accept(list(1, 4), Some(batch(90, 4))).await;
        assert!(matches!(refused, Err(NotQueued::Full { status: 429, .. })), "{refused:?}");
        assert_eq!(waiting(bed, "narrow").await, 0);
        assert_eq!(jobs.accept(list(1, 3), Some(batch(91, 3))).await, Ok(()));
        assert_eq!(
            (waiting(bed, "narrow").await, bed.store().batch(Uuid::from_u128(91)).await.expect("a batch").is_some()),
            (3, true)
        );
    });
}

#[test]
fn a_row_that_the_database_rejects_leaves_the_others_alone() {
    with("bad_row", &DOCUMENTS, &[], async |bed| {
        let jobs = &bed.service.app.jobs;
        let bad = NewJob { tags: vec!["t".repeat(500)], ..job(2, "wide") };
        let all = [job(1, "wide"), bad, job(3, "wide")].map(|row| jobs.accept(vec![row], None));
        let outcomes = futures_util::future::join_all(all).await;
        assert!(outcomes[0].is_ok() && outcomes[2].is_ok(), "{outcomes:?}");
        let Err(NotQueued::Failed(cause)) = &outcomes[1] else { panic!("{outcomes:?}") };
        assert!(cause.contains("too long for column 'tag'"), "the true cause: {cause}");
        assert_eq!(waiting(bed, "wide").await, 2);
    });
}

#[test]
fn acceptances_hold_no_more_bytes_than_allowed() {
    with("bytes", &DOCUMENTS, &[("jobs.bytes", "240000")], async |bed| {
        let jobs = &bed.service.app.jobs;
        let large = |id: u128| NewJob { input: format!("\"{}\"", "x".repeat(40_000)), ..job(id, "wide") };
        let outcomes = futures_util::future::join_all((1..=3).map(|id| jobs.accept(vec![large(id)], None))).await;
        assert_eq!(outcomes, [Ok(()), Err(NotQueued::Unavailable), Err(NotQueued::Unavailable)], "one fits at a time");
        assert_eq!(jobs.accept(vec![large(9)], None).await, Ok(()), "later there is room again");
        // What is larger than all of it uses all of it.
        let whole = NewJob { input: format!("\"{}\"", "x".repeat(100_000)), ..job(10, "wide") };
        assert_eq!(jobs.accept(vec![whole], None).await, Ok(()));
    });
}
