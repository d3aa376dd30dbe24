//! Futures that are dropped in the middle of a statement, as those of clients that disconnect are.

use std::pin::pin;

use kanzlei_store::Store;
use uuid::Uuid;

use super::{Bed, WITHIN, statement, time, until_shown, with};
use crate::queue::job;

/// Runs `blocked` while statements that name `table` cannot be prepared.
async fn while_altered(bed: &Bed<'_>, table: &str, blocked: impl AsyncFnOnce()) {
    let (reader, changer) = (bed.database(1), bed.database(1));
    let read = [statement(&format!("SELECT COUNT(*) FROM {table}")), statement("DO SLEEP(600)")];
    let reading = tokio::spawn(async move { reader.run(&read, true, 60 * WITHIN).await });
    until_shown(bed, "SLEEP(600)", "").await;
    let alter = statement(&format!("ALTER TABLE {table} ADD COLUMN altered INT"));
    let altering = tokio::spawn(async move { changer.run(&[alter], false, 60 * WITHIN).await });
    until_shown(bed, "ALTER TABLE", "metadata lock").await;
    blocked().await;
    let sleeping = "SELECT id FROM information_schema.processlist WHERE info = 'DO SLEEP(600)' AND db = DATABASE()";
    bed.sql(&format!("KILL {}", bed.sql(sleeping)));
    assert!(reading.await.expect("ends").is_err(), "it was killed");
    altering.await.expect("ends").expect("altered");
}

/// Drops a future once its statement waits for the table.
async fn dropped<T>(bed: &Bed<'_>, statement: &str, future: impl Future<Output = T>) {
    let (future, shown) = (pin!(future), pin!(until_shown(bed, statement, "metadata lock")));
    tokio::select! {
        _ = future => panic!("{statement} is not blocked"),
        () = shown => {}
    }
}

/// The only connection of a pool is usable, and what it answers belongs to what was asked.
async fn usable(store: &Store, job: Uuid) {
    for round in 0..3 {
        let read = tokio::time::timeout(WITHIN, store.job(job)).await.expect("a connection");
        assert_eq!(read.expect("an answer"), None, "round {round}");
        assert!(store.clock().await.expect("the time") > time(1_000_000), "round {round}");
    }
}

#[test]
fn a_transaction_that_is_dropped_while_it_prepares_leaves_no_broken_connection() {
    with("dropped_transaction", async |bed| {
        let store = Store::open(&bed.url, 1).await.expect("opens");
        let jobs = [job(1, "x")];
        while_altered(bed, "job", async || dropped(bed, "INSERT INTO job", store.enqueue(&jobs, None)).await).await;
        usable(&store, jobs[0].id).await;
        store.enqueue(&jobs, None).await.expect("accepted");
        assert_eq!(store.job(jobs[0].id).await.expect("an answer").expect("the job").due, time(100));
        tokio::time::timeout(WITHIN, store.close()).await.expect("all connections are returned");
    });
}

#[test]
fn a_statement_that_is_dropped_while_it_prepares_leaves_no_broken_connection() {
    with("dropped_statement", async |bed| {
        let store = Store::open(&bed.url, 1).await.expect("opens");
        let absent = Uuid::from_u128(7);
        while_altered(bed, "job", async || dropped(bed, "FROM job", store.job(absent)).await).await;
        usable(&store, absent).await;
        tokio::time::timeout(WITHIN, store.close()).await.expect("all connections are returned");
    });
}
