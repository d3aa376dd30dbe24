//! Answers kept for repetitions of requests, and requests that were refused.

use kanzlei_store::queue::{Repeat, Stored};
use kanzlei_store::refusals::{Filter, Refusal};
use uuid::Uuid;

use super::{Bed, time, with};

/// Asks for the key `h` at a time; it is free again 100 µs later.
async fn repeat(bed: &Bed<'_>, fingerprint: &str, at: i64) -> Repeat {
    let run = Uuid::from_u128(at as u128);
    bed.store.repeat("h", fingerprint, run, time(at), time(at + 100)).await.expect("asked")
}

fn answer() -> Stored {
    Stored { status: 201, headers: r#"[["etag","x"]]"#.into(), body: vec![0, 255] }
}

#[test]
fn a_key_answers_the_same_request_and_refuses_another() {
    with("repeats", async |bed| {
        assert_eq!(repeat(bed, "same", 10).await, Repeat::First);
        for (fingerprint, wanted) in [("same", Repeat::InFlight), ("other", Repeat::Other)] {
            assert_eq!(repeat(bed, fingerprint, 20).await, wanted);
        }
        bed.store.keep_answer("h", &answer(), time(1_000)).await.expect("keeps");
        bed.store.forget_answer("h").await.expect("an answered one stays");
        for (fingerprint, wanted) in [("same", Repeat::Answered(answer())), ("other", Repeat::Other)] {
            assert_eq!(repeat(bed, fingerprint, 30).await, wanted);
        }
        assert_eq!(repeat(bed, "other", 1_001).await, Repeat::First, "it has expired");
    });
}

#[test]
fn a_key_whose_request_came_to_nothing_is_free() {
    with("freed", async |bed| {
        assert_eq!(repeat(bed, "same", 10).await, Repeat::First);
        bed.store.forget_answer("h").await.expect("frees");
        assert_eq!(repeat(bed, "other", 20).await, Repeat::First);
        assert_eq!(repeat(bed, "same", 121).await, Repeat::First, "its process died");
    });
}

#[test]
fn expired_answers_are_purged() {
    with("expired", async |bed| {
        repeat(bed, "same", 10).await;
        for (now, gone) in [(110, 0), (111, 1), (112, 0)] {
            assert_eq!(bed.store.purge_answers(time(now)).await.expect("purges"), gone, "at {now}");
        }
    });
}

fn refusal(n: u128, workflow: Option<&str>, status: u16) -> Refusal {
    Refusal {
        id: Uuid::from_u128(n),
        at: time(n as i64),
        entry: Some("POST /w".into()),
        workflow: workflow.map(Into::into).into_iter().collect(),
        request_id: format!("r{n}"),
        status,
        problem: "{}".into(),
        size: Some(3),
        body: Some("å".into()),
        ..Refusal::default()
    }
}

#[test]
fn refusals_are_listed_newest_first_by_any_of_their_members() {
    with("refusals", async |bed| {
        let all = [refusal(1, Some("a"), 400), refusal(2, None, 404), refusal(3, Some("a"), 422)];
        bed.store.write_refusals(&all).await.expect("writes");
        bed.store.write_refusals(&[Refusal { status: 500, ..all[0].clone() }]).await.expect("stays as it is");
        let of = |workflow: Option<&str>, status, request: Option<&str>, before: Option<u128>| Filter {
            workflow: workflow.map(Into::into).into_iter().collect(),
            status,
            request_id: request.map(str::to_owned),
            before: before.map(Uuid::from_u128),
            limit: 2,
        };
        for (filter, wanted) in [
            (of(None, None, None, None), vec![3, 2]),
            (of(None, None, None, Some(2)), vec![1]),
            (of(Some("a"), None, None, None), vec![3, 1]),
            (of(Some("a"), Some(400), None, None), vec![1]),
            (of(None, Some(500), None, None), vec![]),
            (of(None, None, Some("r2"), None), vec![2]),
        ] {
            let found = bed.store.refusals(&filter).await.expect("lists");
            assert_eq!(found.iter().map(|one| one.id.as_u128()).collect::<Vec<_>>(), wanted, "{filter:?}");
        }
        let found = bed.store.refusals(&of(None, None, Some("r1"), None)).await.expect("lists");
        assert_eq!(found, all[..1]);
        for gone in [2, 0] {
            assert_eq!(bed.store.purge_refusals(time(3)).await.expect("purges"), gone);
        }
    });
}
