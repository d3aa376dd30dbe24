//! Statements that are performed once, on a real MariaDB.

use std::time::Duration;

use kanzlei_harness::mariadb::Mariadb;
use kanzlei_store::outside::once::{Marker, Sealing, TABLE};
use kanzlei_store::outside::{Given, Outside, Refused, Statement};
use uuid::Uuid;

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

const WITHIN: Duration = Duration::from_secs(10);

fn statement(text: &str) -> Statement {
    Statement { text: text.into(), values: Vec::new() }
}

async fn count(database: &Outside, table: &str) -> u64 {
    let given = database.run(&[statement(&format!("SELECT COUNT(*) AS n FROM {table}"))], false, WITHIN).await;
    given.expect("counted")[0].rows[0]["n"].as_u64().expect("a number")
}

#[test]
fn writing_steps_are_performed_once() {
    let dir = kanzlei_harness::scratch::folder("once");
    let server = Mariadb::start(&dir).expect("MariaDB starts");
    let url = server.fresh("kanzlei_once").expect("database");
    let runtime = tokio::runtime::Builder::new_multi_thread().worker_threads(2).enable_all().build().expect("runtime");
    runtime.block_on(async {
        let database = Outside::connect(&url, 8).expect("pool");
        preparing(&server, &database).await;
        repeating(&database).await;
        failing(&database).await;
        racing(&database).await;
        purging(&database).await;
    });
    drop(server);
    let _ = std::fs::remove_dir_all(dir);
}

fn marker(job: Uuid, attempt: u32, effect: u64) -> Marker {
    Marker { installation: [7; 16], job, attempt, effect }
}

async fn preparing(server: &Mariadb, database: &Outside) {
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
    let reader = Outside::connect(&server.reader_url("kanzlei_once"), 1).expect("pool");
    let missing = lacks(reader.unprepared().await.expect("asked"));
    assert!(missing.contains("cannot INSERT") && missing.contains("cannot DELETE"), "{missing}");
    assert!(!missing.contains("cannot SELECT"), "{missing}");
    assert!(matches!(reader.prepare().await, Err(Refused::Sql(_))));
    assert!(TABLE.contains("InnoDB"));
}

async fn repeating(database: &Outside) {
    let make = "CREATE TABLE t (id INT AUTO_INCREMENT PRIMARY KEY, n INT UNIQUE)";
    database.run(&[statement(make)], false, WITHIN).await.expect("made");
    let job = Uuid::now_v7();
    let insert = [statement("INSERT INTO t (n) VALUES (1)"), statement("SELECT n, 'x' AS text FROM t")];
    let first = database.run_once(&marker(job, 1, 3), &insert, WITHIN, &Backwards).await.expect("done");
    assert_eq!((first[0].id, first[1].rows[0]["text"].as_str()), (Some(1), Some("x")));
    // Whoever asks again gets what was returned then.
    assert_eq!(database.run_once(&marker(job, 1, 3), &insert, WITHIN, &Backwards).await, Ok(first));
    assert_eq!(count(database, "t").await, 1);
    let kept = database.run(&[statement("SELECT result FROM kanzlei_done")], false, WITHIN).await.expect("kept");
    assert!(kept[0].rows[0]["result"].as_str().is_some_and(|kept| kept.starts_with(']')), "{kept:?}");
    // Another effect, and the same one of a job that began anew, are performed.
    for (other, n) in [(marker(job, 1, 4), 2), (marker(job, 2, 3), 3)] {
        let insert = [statement(&format!("INSERT INTO t (n) VALUES ({n})"))];
        database.run_once(&other, &insert, WITHIN, &Backwards).await.expect("done");
    }
    assert_eq!(count(database, "t").await, 3);
}

async fn failing(database: &Outside) {
    let (job, before) = (Uuid::now_v7(), count(database, "kanzlei_done").await);
    let many = format!("INSERT INTO t (n) VALUES (50) RETURNING REPEAT('x', {})", 2 << 20);
    for (statements, wanted) in [
        (vec![statement("INSERT INTO t (n) VALUES (40)"), statement("INSERT INTO t (n) VALUES (1)")], "duplicate"),
        (vec![statement("INSERT INTO t (n) VALUES (41)"), statement("SELEC 1")], "sql"),
        (vec![statement(&many)], "too-large"),
        (vec![statement("INSERT INTO t (n) VALUES (42)"), statement("SELECT 'unsealable' AS a")], "too-large"),
    ] {
        let refused = database.run_once(&marker(job, 1, 1), &statements, WITHIN, &Backwards).await.expect_err(wanted);
        assert_eq!(refused.told().0.name(), wanted);
    }
    // Nothing of them stays, so the same effect can be performed.
    assert_eq!((count(database, "t").await, count(database, "kanzlei_done").await), (3, before));
    let good = [statement("INSERT INTO t (n) VALUES (40)")];
    assert!(database.run_once(&marker(job, 1, 1), &good, WITHIN, &Backwards).await.is_ok());
}

async fn racing(database: &Outside) {
    let job = Uuid::now_v7();
    let insert = [statement("INSERT INTO t (n) SELECT 100 + COUNT(*) FROM t"), statement("DO SLEEP(0.05)")];
    let before = count(database, "t").await;
    let asked = (0..6).map(|_| {
        let (database, insert) = (database.clone(), insert.clone());
        tokio::spawn(async move { database.run_once(&marker(job, 1, 1), &insert, WITHIN, &Backwards).await })
    });
    let asked: Vec<_> = asked.collect();
    let mut ids: Vec<Vec<Given>> = Vec::new();
    for one in asked {
        ids.push(one.await.expect("no panic").expect("done"));
    }
    assert!(ids.iter().all(|given| *given == ids[0]), "{ids:?}");
    assert_eq!(count(database, "t").await, before + 1);
}

async fn purging(database: &Outside) {
    let marked = count(database, "kanzlei_done").await;
    let none = database.old_markers(&[7; 16], Duration::from_secs(60)).await.expect("asked");
    assert_eq!(none, Vec::<Uuid>::new());
    let old = "UPDATE kanzlei_done SET at = at - INTERVAL 2 DAY WHERE attempt = 1";
    database.run(&[statement(old)], false, WITHIN).await.expect("aged");
    let jobs = database.old_markers(&[7; 16], Duration::from_secs(86_400)).await.expect("asked");
    assert_eq!(jobs.len(), 3, "{marked} markers");
    assert_eq!(database.old_markers(&[8; 16], Duration::ZERO).await.expect("asked"), Vec::<Uuid>::new());
    database.remove_markers(&[7; 16], &jobs).await.expect("removed");
    assert_eq!(count(database, "kanzlei_done").await, 0);
}
