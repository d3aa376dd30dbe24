//! Limits of services that hold over all processes: each has its own counts, and the same database.

use std::time::Duration;

use kanzlei_model::time::{Span, Timestamp};
use kanzlei_runtime::limiter::{HeldUp, Limiter, Limits, Shared};

use super::with;

fn limits(at_once: Option<u32>, pace: Option<(u32, Duration)>) -> Limits {
    Limits { at_once, pace, shared: Some("service rates".into()) }
}

#[test]
fn calls_at_once_are_those_of_all_processes() {
    with("shared_places", &[], &[], async |bed| {
        let store = &bed.service.app.store;
        let (here, there) = (Shared::new(store.clone()), Shared::new(store.clone()));
        let limiter = Limiter::new(limits(Some(2), None));
        let first = limiter.enter(Duration::ZERO, &here).await.expect("a place");
        let _second = limiter.enter(Duration::ZERO, &there).await.expect("a place");
        assert_eq!(limiter.enter(Duration::ZERO, &there).await.err(), Some(HeldUp::Full));
        drop(first);
        here.places.leave().await;
        assert!(limiter.enter(Duration::from_secs(20), &there).await.is_ok(), "the place of the other process");
        // Limits of each process count apart.
        let own = Limiter::new(Limits { shared: None, ..limits(Some(1), None) });
        assert!(own.enter(Duration::ZERO, &here).await.is_ok());
    });
}

#[test]
fn turns_of_a_pace_are_claimed_once() {
    with("shared_pace", &[], &[], async |bed| {
        let store = &bed.service.app.store;
        let (at, apart) = (kanzlei_runtime::clock::now() + Span::from_secs(60), Span::from_micros(250));
        let claim = async |now: Timestamp, until: Timestamp| {
            let first = store.claim_turns("service rates", apart, 4, now, until).await.expect("the database");
            first.map(|first| first.since(at).as_micros())
        };
        // Sixteen processes at once: their turns neither overlap nor leave gaps.
        let far = at + Span::from_secs(60);
        let mut firsts: Vec<i64> =
            futures_util::future::join_all((0..16).map(|_| claim(at, far))).await.into_iter().flatten().collect();
        firsts.sort_unstable();
        assert_eq!(firsts, (0..16).map(|n| n * 1000).collect::<Vec<_>>());
        // A turn that would come too late is not claimed; one after a pause begins at once.
        assert_eq!(claim(at, at + Span::from_micros(15_999)).await, None);
        assert_eq!(claim(at, at + Span::from_micros(16_000)).await, Some(16_000));
        assert_eq!(claim(far, far).await, Some(60_000_000));
        let slow =
            Limits { shared: Some("service pilots".into()), ..limits(None, Some((1, Duration::from_secs(3600)))) };
        let paced = Limiter::new(slow);
        let (here, there) = (Shared::new(store.clone()), Shared::new(store.clone()));
        assert!(paced.enter(Duration::from_secs(20), &here).await.is_ok());
        assert_eq!(paced.enter(Duration::from_secs(20), &there).await.err(), Some(HeldUp::Full));
        assert_eq!(paced.enter(Duration::from_secs(20), &here).await.err(), Some(HeldUp::Full));
    });
}
