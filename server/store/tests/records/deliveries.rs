//! Deliveries: how long they are kept, and how many.

use kanzlei_model::time::Timestamp;
use kanzlei_store::queue::{Delivery, DeliveryFilter, NewDelivery};
use uuid::Uuid;

use super::{time, with};

/// A delivery that arrived at an instant, with a body of so many bytes.
fn delivery(at: i64, size: usize) -> NewDelivery {
    let arrived = uuid::Timestamp::from_unix(uuid::NoContext, at as u64, 0);
    let delivery = Delivery {
        id: Uuid::new_v7(arrived),
        workflow: "w".into(),
        entry: "POST /w".into(),
        received: time(at),
        method: "POST".into(),
        headers: "[]".into(),
        body: vec![b'x'; size],
        size: size as u64,
        ..Delivery::default()
    };
    NewDelivery { delivery, key: Some((format!("{at:064}"), time(at + 100))) }
}

/// By age, by number and by bytes the oldest go first; what tells messages apart goes when it has expired.
#[test]
fn the_oldest_deliveries_go_first() {
    with("delivery_purge", async |bed| {
        let store = &bed.store;
        let left = async || -> Vec<i64> {
            let all =
                store.deliveries(&DeliveryFilter { limit: 100, ..DeliveryFilter::default() }).await.expect("a list");
            all.iter().rev().map(|one| one.received.as_micros()).collect()
        };
        for at in 1..=10 {
            let kept = store.keep_delivery(&delivery(at, 1000)).await.expect("kept");
            assert!(kept.is_empty());
        }
        let never = Timestamp::from_micros(0);
        for (before, most, bytes, gone, first) in [
            (never, 100, 1_000_000, 0, 1),
            (time(3), 100, 1_000_000, 2, 3),
            (never, 6, 1_000_000, 2, 5),
            (never, 100, 4500, 2, 7),
            (time(8), 3, 3500, 1, 8),
            (never, 100, 0, 3, 11),
        ] {
            let purged = store.purge_deliveries(before, most, bytes).await.expect("purged");
            assert_eq!((purged, left().await), (gone, (first..=10).collect()), "{before:?} {most} {bytes}");
        }
        // A repetition is known as long as its time lasts, also when the first message is gone.
        assert_eq!(store.keep_delivery(&delivery(5, 1)).await.expect("asked").len(), 1);
        assert_eq!(store.purge_delivery_keys(time(106)).await.expect("purged"), 5);
        assert_eq!(store.keep_delivery(&delivery(5, 1)).await.expect("asked").len(), 0);
        assert_eq!(store.keep_delivery(&delivery(6, 1)).await.expect("asked").len(), 1);
    });
}
