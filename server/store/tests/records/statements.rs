//! Statements of `sql` steps: values stay values, columns become JSON of their type, failures have kinds.

use std::time::Duration;

use kanzlei_store::databases::{Database, Refused, Statement, StatementResult};
use serde_json::Value as Json;

use super::{Bed, WITHIN, alone, statement, until_shown, with};

const TABLE: &str = "CREATE TABLE t (id INT AUTO_INCREMENT PRIMARY KEY, b BOOLEAN, n BIGINT, u BIGINT UNSIGNED, \
    d DECIMAL(8,2), f FLOAT, g DOUBLE, t VARCHAR(40) UNIQUE, at DATETIME(3), day DATE, clock TIME, j JSON, y BLOB)";
const INSERT: &str = "INSERT INTO t (b,n,u,d,f,g,t,at,day,clock,j,y) VALUES (?,?,?,?,?,?,?,?,?,?,?,?)";

fn row() -> Vec<Json> {
    vec![
        true.into(),
        (-5).into(),
        7.into(),
        "12.50".into(),
        1.1.into(),
        0.25.into(),
        "'; DROP TABLE t; --".into(),
        "2027-03-04 06:07:08.250".into(),
        "2027-03-04".into(),
        "-01:30:00".into(),
        r#"{"k":[1]}"#.into(),
        "x".into(),
    ]
}

async fn one(database: &Database, text: &str, values: &[Json]) -> Result<StatementResult, Refused> {
    let statement = Statement { text: text.into(), values: values.into() };
    database.run(&[statement], false, WITHIN).await.map(|mut all| all.remove(0))
}

/// A database with the table and one row.
async fn filled(bed: &Bed<'_>) -> Database {
    let database = bed.database(2);
    one(&database, TABLE, &[]).await.expect("table");
    let given = one(&database, INSERT, &row()).await.expect("inserted");
    assert_eq!((given.count, given.id, given.rows.len()), (1, Some(1), 0));
    database
}

#[test]
fn columns_become_json_of_their_type() {
    with("columns", async |bed| {
        let database = filled(bed).await;
        let given = one(&database, "SELECT *, NULL AS nothing FROM t WHERE id = ?", &[1.into()]).await.expect("rows");
        assert_eq!(
            given.rows[0].to_string(),
            r#"{"id":1,"b":true,"n":-5,"u":7,"d":12.5,"f":1.1,"g":0.25,"t":"'; DROP TABLE t; --","at":"2027-03-04T06:07:08.25Z","day":"2027-03-04","clock":"-01:30:00","j":"{\"k\":[1]}","y":"x","nothing":null}"#
        );
        assert_eq!((given.count, given.id), (1, None));
    });
}

#[test]
fn failures_have_kinds() {
    with("failures", async |bed| {
        let database = filled(bed).await;
        assert!(matches!(one(&database, INSERT, &row()).await, Err(Refused::Duplicate(_))));
        assert!(matches!(one(&database, "SELEC 1", &[]).await, Err(Refused::Sql(_))));
        let unreachable = Database::connect("mysql://k:k@127.0.0.1:1/d", 1, None).expect("pool");
        assert!(matches!(one(&unreachable, "SELECT 1", &[]).await, Err(Refused::Unavailable(_))));
    });
}

#[test]
fn a_statement_that_times_out_frees_its_connection() {
    with("slow", async |bed| {
        let single = bed.database(1);
        let brief = Duration::from_millis(50);
        for transaction in [false, true] {
            let hold = [statement("SELECT SLEEP(60)")];
            assert_eq!(single.run(&hold, transaction, brief).await, Err(Refused::Timeout));
            let after = one(&single, "SELECT 1 AS one", &[]).await.expect("free");
            assert_eq!(after.rows[0]["one"], 1);
        }
    });
}

#[test]
fn a_transaction_is_all_or_none() {
    with("transaction", async |bed| {
        let database = filled(bed).await;
        let both = [statement("DELETE FROM t"), statement("INSERT INTO nowhere VALUES (1)")];
        assert!(database.run(&both, true, WITHIN).await.is_err());
        assert_eq!(one(&database, "SELECT COUNT(*) AS n FROM t", &[]).await.expect("count").rows[0]["n"], 1);
        assert!(database.run(&both, false, WITHIN).await.is_err());
        assert_eq!(one(&database, "SELECT COUNT(*) AS n FROM t", &[]).await.expect("count").rows[0]["n"], 0);
    });
}

#[test]
fn a_statement_is_described_without_running() {
    with("described", async |bed| {
        let database = filled(bed).await;
        let columns = database.describe("SELECT id, t, NULL AS x FROM t WHERE t = ?").await.expect("described");
        let shown: Vec<_> = columns.iter().map(|c| (c.name.as_str(), c.type_name.as_str(), c.nullable)).collect();
        assert_eq!(shown[..2], [("id", "INT", false), ("t", "VARBINARY", true)]);
        database.describe("DELETE FROM t").await.expect("described");
        assert_eq!(bed.sql("SELECT COUNT(*) FROM t"), "1");
        let missing = database.describe("SELECT nowhere FROM t").await;
        assert!(matches!(missing, Err(Refused::Sql(why)) if why.contains("nowhere")));
    });
}

/// A connection that somebody cuts, or a statement that is interrupted, is no fault of the statement: it is
/// worth a retry.
#[test]
fn a_killed_connection_or_statement_counts_as_unavailable() {
    with("killed", async |bed| {
        for how in ["KILL", "KILL QUERY"] {
            let database = bed.database(1);
            let asked = tokio::spawn(async move { one(&database, "SELECT SLEEP(60) AS killed", &[]).await });
            until_shown(bed, "AS killed", "").await;
            let sleeping =
                "SELECT id FROM information_schema.processlist WHERE info LIKE '%AS killed' AND id <> CONNECTION_ID()";
            let id = bed.sql(sleeping);
            bed.sql(&format!("{how} {id}"));
            let refused = asked.await.expect("ends");
            assert!(matches!(refused, Err(Refused::Unavailable(_))), "{how}: {refused:?}");
        }
    });
}

/// A user who can see the schema of the service's records gets no connection, on any of them, until that ends.
#[test]
fn a_user_who_can_see_the_records_disables_the_database() {
    let mut records = None;
    with("guarded", async |bed| {
        let own = Some(bed.store.own().await.expect("a schema"));
        let url = bed.server.authors("kanzlei_guarded_authors").expect("a database");
        let database = Database::connect(&url, 2, own.clone()).expect("a pool");
        assert_eq!(one(&database, "SELECT 1 AS one", &[]).await.expect("its own").rows[0]["one"], 1);
        let user = "'kanzlei_guarded_authors'@'127.0.0.1'";
        bed.sql(&format!("GRANT SELECT (hash) ON kanzlei_guarded.session TO {user}"));
        let fresh = || Database::connect(&url, 2, own.clone()).expect("a pool");
        let refused = fresh();
        for _ in 0..2 {
            match one(&refused, "SELECT 1 AS one", &[]).await {
                Err(Refused::Disabled(why)) => {
                    assert!(why.contains("kanzlei_guarded_authors@127.0.0.1 can see `kanzlei_guarded`"), "{why}");
                }
                other => panic!("{other:?}"),
            }
        }
        assert!(matches!(refused.describe("SELECT 1").await, Err(Refused::Disabled(_))));
        assert!(matches!(refused.prepare().await, Err(Refused::Disabled(_))));
        assert!(matches!(refused.unprepared().await, Err(Refused::Disabled(_))));
        let allowed = Database::connect(&url, 2, None).expect("a pool");
        assert!(one(&allowed, "SELECT 1 AS one", &[]).await.is_ok(), "the settings allow it");
        bed.sql(&format!("REVOKE SELECT (hash) ON kanzlei_guarded.session FROM {user}"));
        assert!(one(&refused, "SELECT 1 AS one", &[]).await.is_ok(), "a new connection looks again");
        let mine = Database::connect(&bed.url, 1, own.clone()).expect("a pool");
        assert!(matches!(one(&mine, "SELECT 1 AS one", &[]).await, Err(Refused::Disabled(_))));
        records = own;
    });
    // A schema of the same name on another server holds nothing of the service's.
    alone("guarded", async |other| {
        let there = Database::connect(&other.url, 1, records).expect("a pool");
        assert!(one(&there, "SELECT 1 AS one", &[]).await.is_ok());
    });
}

/// What a statement leaves in its connection is gone with it, and the pool's connections stay as they were.
#[test]
fn statements_that_run_apart_share_no_connection() {
    with("apart", async |bed| {
        let database = bed.database(1);
        let id = "SELECT CONNECTION_ID() AS id, @@autocommit AS auto";
        let pooled = one(&database, id, &[]).await.expect("an id");
        let set = [statement("SET autocommit = 0"), statement(id)];
        let apart = database.run_apart(&set, false, WITHIN).await.expect("an id");
        assert_ne!(apart[1].rows[0]["id"], pooled.rows[0]["id"]);
        assert_eq!(one(&database, id, &[]).await.expect("the pool's"), pooled);
        let open = format!("SELECT COUNT(*) FROM information_schema.processlist WHERE id = {}", apart[1].rows[0]["id"]);
        while bed.sql(&open) != "0" {
            tokio::task::yield_now().await;
        }
        let slow = [statement("SELECT SLEEP(60)")];
        assert_eq!(database.run_apart(&slow, false, Duration::from_millis(50)).await, Err(Refused::Timeout));
        assert_eq!(one(&database, id, &[]).await.expect("the pool's"), pooled);
    });
}

/// A server whose modes change what is a string does not change it here.
#[test]
fn quotes_mean_the_same_on_every_server() {
    alone("modes", async |bed| {
        bed.sql("SET GLOBAL sql_mode = 'ANSI,NO_BACKSLASH_ESCAPES,STRICT_TRANS_TABLES'");
        let read = one(&bed.database(1), r#"SELECT "a\"b" AS text, @@sql_mode AS modes"#, &[]).await;
        let read = read.expect("a string").rows.remove(0);
        assert_eq!(read["text"], "a\"b");
        assert!(read["modes"].as_str().is_some_and(|modes| modes.contains("STRICT_TRANS_TABLES")), "{read}");
    });
}
