//! Statements that are performed once, on a real MariaDB.

use std::time::Duration;

use kanzlei_store::databases::once::{Marker, Sealing, TABLE};
use kanzlei_store::databases::{Database, Refused, StatementResult};
use uuid::Uuid;

use super::{Bed, WITHIN, statement, with};

/// Writes texts backwards, so that a kept result differs from the result.
struct Backwards;

impl Sealing for Backwards {
    fn seal(&self, text: String) -> Option<String> {
        (!text.contains("unsealable")).then(|| text.chars().rev().collect())
    }

    fn open(&self, text: &str) -> Option<String> {
        Some(text.chars().rev().collect())
    }
}

async fn count(database: &Database, table: &str) -> u64 {
    let given = database.run(&[statement(&format!("SELECT COUNT(*) AS n FROM {table}"))], false, WITHIN).await;
    given.expect("counted")[0].rows[0]["n"].as_u64().expect("a number")
}

/// A database with the table of markers and a table `t`.
async fn prepared(bed: &Bed<'_>) -> Database {
    let database = bed.database(8);
    database.prepare().await.expect("prepared");
    let make = "CREATE TABLE t (id INT AUTO_INCREMENT PRIMARY KEY, n INT UNIQUE)";
    database.run(&[statement(make)], false, WITHIN).await.expect("made");
    database
}

fn marker(job: Uuid, attempt: u32, effect: u64) -> Marker {
    Marker { installation: [7; 16], job, attempt, effect }
}

#[test]
fn a_database_is_prepared_where_the_user_may() {
    with("preparing", async |bed| {
        let database = bed.database(2);
        let lacks = |missing: Vec<String>| missing.join("; ");
        assert!(lacks(database.unprepared().await.expect("asked")).contains("no table `kanzlei_done`"));
        let plain = "CREATE TABLE kanzlei_done (a INT) ENGINE = MyISAM";
        database.run(&[statement(plain)], false, WITHIN).await.expect("made");
        assert!(lacks(database.unprepared().await.expect("asked")).contains("stored by MyISAM"));
        assert_eq!(
            database.without_transactions().await.expect("asked"),
            [("kanzlei_done".to_owned(), "MyISAM".to_owned())]
        );
        database.run(&[statement("DROP TABLE kanzlei_done")], false, WITHIN).await.expect("dropped");
        database.prepare().await.expect("prepared");
        database.prepare().await.expect("again");
        assert_eq!(database.unprepared().await, Ok(Vec::new()));
        // A user who may read only.
        let reader = Database::connect(&bed.server.reader_url(&bed.name), 1, None).expect("pool");
        let missing = lacks(reader.unprepared().await.expect("asked"));
        assert!(missing.contains("cannot INSERT") && missing.contains("cannot DELETE"), "{missing}");
        assert!(!missing.contains("cannot SELECT"), "{missing}");
        assert!(matches!(reader.prepare().await, Err(Refused::Sql(_))));
        assert!(TABLE.contains("InnoDB"));
    });
}

#[test]
fn a_repeated_effect_returns_the_first_result() {
    with("repeating", async |bed| {
        let database = prepared(bed).await;
        let job = Uuid::now_v7();
        let insert = [statement("INSERT INTO t (n) VALUES (1)"), statement("SELECT n, 'x' AS text FROM t")];
        let first = database.run_once(&marker(job, 1, 3), &insert, WITHIN, &Backwards).await.expect("done");
        assert_eq!((first[0].id, first[1].rows[0]["text"].as_str()), (Some(1), Some("x")));
        // A repetition returns the first result.
        assert_eq!(database.run_once(&marker(job, 1, 3), &insert, WITHIN, &Backwards).await, Ok(first));
        assert_eq!(count(&database, "t").await, 1);
        let kept = database.run(&[statement("SELECT result FROM kanzlei_done")], false, WITHIN).await.expect("kept");
        assert!(kept[0].rows[0]["result"].as_str().is_some_and(|kept| kept.starts_with(']')), "{kept:?}");
        // Another effect, and the same one of a job that began anew, are performed.
        for (other, n) in [(marker(job, 1, 4), 2), (marker(job, 2, 3), 3)] {
            let insert = [statement(&format!("INSERT INTO t (n) VALUES ({n})"))];
            database.run_once(&other, &insert, WITHIN, &Backwards).await.expect("done");
        }
        assert_eq!(count(&database, "t").await, 3);
    });
}

#[test]
fn a_failed_effect_leaves_no_marker() {
    with("failing", async |bed| {
        let database = prepared(bed).await;
        let job = Uuid::now_v7();
        database.run(&[statement("INSERT INTO t (n) VALUES (1)")], false, WITHIN).await.expect("a row");
        let many = format!("INSERT INTO t (n) VALUES (50) RETURNING REPEAT('x', {})", 2 << 20);
        for (statements, wanted) in [
            (vec![statement("INSERT INTO t (n) VALUES (40)"), statement("INSERT INTO t (n) VALUES (1)")], "duplicate"),
            (vec![statement("INSERT INTO t (n) VALUES (41)"), statement("SELEC 1")], "sql"),
            (vec![statement(&many)], "too-large"),
            (vec![statement("INSERT INTO t (n) VALUES (42)"), statement("SELECT 'unsealable' AS a")], "too-large"),
        ] {
            let refused =
                database.run_once(&marker(job, 1, 1), &statements, WITHIN, &Backwards).await.expect_err(wanted);
            assert_eq!(refused.reported().0.name(), wanted);
        }
        // Nothing of them stays, so the same effect can be performed.
        assert_eq!((count(&database, "t").await, count(&database, "kanzlei_done").await), (1, 0));
        let good = [statement("INSERT INTO t (n) VALUES (40)")];
        assert!(database.run_once(&marker(job, 1, 1), &good, WITHIN, &Backwards).await.is_ok());
    });
}

#[test]
fn concurrent_repetitions_are_performed_once() {
    with("racing", async |bed| {
        let database = prepared(bed).await;
        let job = Uuid::now_v7();
        let insert = [statement("INSERT INTO t (n) SELECT 100 + COUNT(*) FROM t"), statement("DO SLEEP(0.05)")];
        let asked = (0..6).map(|_| {
            let (database, insert) = (database.clone(), insert.clone());
            tokio::spawn(async move { database.run_once(&marker(job, 1, 1), &insert, WITHIN, &Backwards).await })
        });
        let asked: Vec<_> = asked.collect();
        let mut ids: Vec<Vec<StatementResult>> = Vec::new();
        for one in asked {
            ids.push(one.await.expect("no panic").expect("done"));
        }
        assert!(ids.iter().all(|given| *given == ids[0]), "{ids:?}");
        assert_eq!(count(&database, "t").await, 1);
    });
}

#[test]
fn markers_are_removed_once_their_jobs_are_old() {
    with("purging", async |bed| {
        let database = prepared(bed).await;
        let job = Uuid::now_v7();
        for (of, attempt) in [(job, 1), (job, 2), (Uuid::now_v7(), 1)] {
            let insert = [statement("INSERT INTO t (n) VALUES (NULL)")];
            database.run_once(&marker(of, attempt, 1), &insert, WITHIN, &Backwards).await.expect("done");
        }
        let old = async |installation: u8, age| database.old_markers(&[installation; 16], age).await.expect("asked");
        assert_eq!(old(7, Duration::from_secs(60)).await, Vec::<Uuid>::new(), "all are new");
        let age = "UPDATE kanzlei_done SET at = at - INTERVAL 2 DAY WHERE attempt = 1";
        database.run(&[statement(age)], false, WITHIN).await.expect("aged");
        let jobs = old(7, Duration::from_secs(86_400)).await;
        assert_eq!(jobs.len(), 2);
        assert_eq!(old(8, Duration::ZERO).await, Vec::<Uuid>::new(), "of another installation");
        database.remove_markers(&[7; 16], &[job]).await.expect("removed");
        assert_eq!(count(&database, "kanzlei_done").await, 1, "both of the job are removed");
    });
}
