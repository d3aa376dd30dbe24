//! Watched tables, on a real MariaDB: what triggers write down, and who reads it.

use std::collections::BTreeMap;

use kanzlei_store::databases::changes::{Changed, Wanted};
use kanzlei_store::databases::{Database, Refused};
use kanzlei_store::queue::{AcceptedChange, NewJob, Reading};
use serde_json::Value as Json;

use super::queue::job;
use super::{WITHIN, statement, time, with};

const MARK: [u8; 16] = [9; 16];

fn wanted(table: &str, of: &[&'static str]) -> Wanted {
    [(table.to_owned(), of.iter().copied().collect())].into()
}

/// A database of authors, whose user may make triggers.
fn authors(bed: &super::Bed, connections: u32) -> Database {
    let url = bed.server.authors(&format!("{}_office", bed.name)).expect("a database");
    Database::connect(&url, connections, None).expect("a pool")
}

async fn run(database: &Database, text: &str) {
    database.run(&[statement(text)], false, WITHIN).await.unwrap_or_else(|why| panic!("{text}: {why:?}"));
}

fn row(text: Option<&String>) -> Json {
    text.map_or(Json::Null, |text| serde_json::from_str(text).unwrap_or_else(|error| panic!("{error}: {text}")))
}

fn briefly(changes: &[Changed]) -> Vec<String> {
    changes.iter().map(|one| format!("{} {} {}", one.of, one.key, row(one.after.as_ref())["n"])).collect()
}

/// A changed row has the values that a statement returns for it.
#[test]
fn rows_are_written_down_as_statements_return_them() {
    with("watched_rows", async |bed| {
        let database = authors(bed, 3);
        run(&database, "CREATE TABLE t (id INT UNSIGNED PRIMARY KEY, paid BOOLEAN, small TINYINT, big BIGINT UNSIGNED, dues DECIMAL(9,2), part DOUBLE, f FLOAT, d DATE, dt DATETIME, fine DATETIME(6), ts TIMESTAMP(3) NULL, span TIME, y YEAR, j JSON, c CHAR(3), l VARCHAR(20) CHARACTER SET latin1, e ENUM('a','b'), b BINARY(4), large BLOB, long_text LONGTEXT, `odd ``name'` INT)").await;
        database.install_watches(&MARK, &wanted("t", &["insert"])).await.expect("installed");
        let elsewhere = authors(bed, 1);
        run(&elsewhere, "SET time_zone = '+02:00'").await;
        run(&elsewhere, r#"INSERT INTO t VALUES (7, TRUE, -5, 18446744073709551615, 879.30, 0.1, 1.5, '2027-03-04', '2027-03-04 06:00:00', '2027-03-04 06:00:00.120000', '2027-03-04 06:00:00.5', '-26:00:01', 2027, '{"a": [1, null, "ø"]}', 'LIN', 'ø é', 'b', x'00ff10fe', 'xx', 'He said: "it''s \\ ok"\n', 3), (8, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL)"#).await;
        let selected = database.run(&[statement("SELECT * FROM t ORDER BY id")], false, WITHIN).await.expect("rows");
        let mut reader = database.read_changes(&MARK).await.expect("asked").expect("the only one");
        let changes = reader.next(10).await.expect("read");
        for (change, mut selected) in changes.iter().zip(selected[0].rows.clone()) {
            assert!(selected.as_object_mut().is_some_and(|row| row.remove("large").is_some()), "left out");
            assert_eq!(row(change.after.as_ref()), selected);
            assert_eq!(row(change.before.as_ref()), Json::Null);
        }
        assert_eq!(changes.iter().map(|change| change.key.as_str()).collect::<Vec<_>>(), ["[7]", "[8]"]);
    });
}

#[test]
fn what_is_committed_is_read_once_and_in_the_order_of_each_row() {
    with("watched_order", async |bed| {
        let database = authors(bed, 6);
        run(&database, "CREATE TABLE t (id INT PRIMARY KEY, n INT)").await;
        let all = wanted("t", &["insert", "update", "delete"]);
        let made = database.install_watches(&MARK, &all).await.expect("installed");
        assert_eq!(made, ["watches t for delete", "watches t for insert", "watches t for update"]);
        assert!(database.install_watches(&MARK, &all).await.expect("again").is_empty(), "nothing differs");
        run(&database, "INSERT INTO t VALUES (1, 1), (2, 1)").await;
        run(&database, "UPDATE t SET n = 1").await; // No change.
        run(&database, "UPDATE t SET n = n + 1 WHERE id = 2").await;
        run(&database, "DELETE FROM t WHERE id = 1").await;
        // A transaction that began first ends last, another is rolled back.
        let open = authors(bed, 1);
        run(&open, "SET autocommit = 0").await;
        run(&open, "INSERT INTO t VALUES (3, 1)").await;
        run(&database, "INSERT INTO t VALUES (4, 1)").await;
        let undone = authors(bed, 1);
        run(&undone, "SET autocommit = 0").await;
        run(&undone, "INSERT INTO t VALUES (5, 1)").await;
        run(&undone, "ROLLBACK").await;
        let mut reader = database.read_changes(&MARK).await.expect("asked").expect("the only one");
        let first = reader.next(100).await.expect("read");
        assert_eq!(
            briefly(&first),
            ["insert [1] 1", "insert [2] 1", "update [2] 2", "delete [1] null", "insert [4] 1"]
        );
        reader.remove(&first.iter().map(|change| change.id).collect::<Vec<_>>()).await.expect("removed");
        run(&open, "COMMIT").await;
        let late = reader.next(100).await.expect("read");
        assert_eq!(briefly(&late), ["insert [3] 1"], "its number is below those that were read before");
        assert!(late[0].id < first[4].id);
        // One reader at a time; another one when its connection ends.
        assert!(database.read_changes(&MARK).await.expect("asked").is_none());
        let backlog = database.backlog(&MARK).await.expect("asked");
        assert_eq!(backlog.iter().map(|one| (one.table.as_str(), one.count)).collect::<Vec<_>>(), [("t", 1)]);
        drop(reader);
        let mut again = None;
        while again.is_none() {
            again = database.read_changes(&MARK).await.expect("asked");
        }
        assert_eq!(briefly(&again.expect("a reader").next(1).await.expect("read")), ["insert [3] 1"]);
        // Fewer operations, then none; another installation keeps its own.
        let other = [1; 16];
        database.install_watches(&other, &wanted("t", &["delete"])).await.expect("installed");
        assert_eq!(database.remove_watches(&MARK, &wanted("t", &["insert"])).await, Ok(2));
        let standing = database.watches(&MARK, &all).await.expect("asked");
        assert_eq!(standing, BTreeMap::from([("t".to_owned(), ["insert".to_owned()].into())]));
        assert_eq!(database.remove_watches(&MARK, &Wanted::new()).await, Ok(1));
        assert_eq!(
            bed.sql(
                "SELECT COUNT(*) FROM information_schema.TRIGGERS WHERE TRIGGER_SCHEMA = CONCAT(DATABASE(), '_office')"
            ),
            "1"
        );
    });
}

#[test]
fn tables_that_would_miss_changes_are_refused() {
    with("unwatchable", async |bed| {
        let database = authors(bed, 2);
        for make in [
            "CREATE TABLE parent (id INT PRIMARY KEY)",
            "CREATE TABLE child (id INT PRIMARY KEY, parent INT, FOREIGN KEY (parent) REFERENCES parent (id) ON DELETE CASCADE)",
            "CREATE TABLE firm (id INT PRIMARY KEY, parent INT, FOREIGN KEY (parent) REFERENCES parent (id))",
            "CREATE TABLE keyless (n INT)",
            "CREATE TABLE plain (id INT PRIMARY KEY) ENGINE = Aria TRANSACTIONAL = 0",
        ] {
            run(&database, make).await;
        }
        bed.sql(&format!("CREATE VIEW {0}_office.seen AS SELECT * FROM {0}_office.parent", bed.name));
        for (table, fault) in [
            ("parent", ""),
            ("firm", ""),
            ("child", "cascading foreign key"),
            ("keyless", "no primary key"),
            ("plain", "no transactions"),
            ("seen", "no table but a view"),
            ("gone", "no such table"),
        ] {
            let faults = database.watchable(table).await.expect("asked").faults.join("; ");
            assert!(if fault.is_empty() { faults.is_empty() } else { faults.contains(fault) }, "{table}: {faults}");
        }
        let refused = database.install_watches(&MARK, &wanted("child", &["insert"])).await;
        assert!(matches!(&refused, Err(Refused::Sql(why)) if why.contains("cascading")), "{refused:?}");
        let reader = Database::connect(&bed.server.reader_url(&format!("{}_office", bed.name)), 1, None).expect("pool");
        let faults = reader.watchable("parent").await.expect("asked").faults.join("; ");
        assert!(faults.contains("lacks the right TRIGGER"), "{faults}");
    });
}

/// A reader that another one replaced accepts nothing, and the other one learns what it accepted before.
#[test]
fn only_the_last_reader_accepts_changes() {
    with("readers", async |bed| {
        let change = |id: u64, at| AcceptedChange {
            mark: (id, at),
            table: "bill".into(),
            jobs: vec![NewJob { accepted: time(at), ..job(id as u128, "x") }],
            ..AcceptedChange::default()
        };
        let store = &bed.store;
        let accept = async |reading: &Reading, changes: &[AcceptedChange]| {
            store.accept_changes("office", reading, changes, "p", time(9)).await.expect("accepted")
        };
        let first = store.begin_reading("office").await.expect("begun");
        assert!(first.accepted.is_empty());
        assert!(accept(&first, &[change(1, 5)]).await);
        assert!(accept(&first, &[change(2, 6), change(u64::MAX, -3)]).await);
        let elsewhere = store.begin_reading("yard").await.expect("begun");
        assert!(elsewhere.accepted.is_empty(), "each database has its own reader");
        let second = store.begin_reading("office").await.expect("begun");
        assert_eq!(second.accepted, [(2, 6), (u64::MAX, -3)].into());
        assert!(!accept(&first, &[change(3, 7)]).await, "it was replaced");
        assert!(accept(&second, &[change(4, 8)]).await);
        assert_eq!(bed.sql("SELECT COUNT(*) FROM job"), "4");
        assert_eq!(bed.sql("SELECT accepted, jobs FROM watched"), "4\t4");
    });
}
