//! Databases of authors: which statements are sent, on which connections, and which databases are disabled.

use kanzlei_compiler::sql::columns;
use kanzlei_lang::document::{self, Document, Source};
use kanzlei_lang::types::row;
use serde_json::{Value as Json, json};

use super::{Answer, Bed, server, with};

fn workflow(step: &str) -> String {
    format!(
        "workflow: q\nentries: [{{endpoint: POST /q, access: open}}]\nsteps:\n  - {{id: r, {step}}}\n  - reply: 200\n    body: ${{r}}\n"
    )
}

/// The first diagnostic of a deploy, or what the endpoint answers.
async fn outcome(bed: &Bed, step: &str) -> String {
    let deployed = bed.deploy(&[&workflow(step)]).await;
    if deployed.status != 200 {
        let found = &deployed.json()["diagnostics"][0];
        return format!(
            "{} {}",
            found["code"].as_str().unwrap_or("none"),
            found["message"].as_str().unwrap_or_default()
        );
    }
    let Answer { status, body, .. } = bed.post("/q", &[], "").await;
    format!("{status} {body}")
}

#[test]
fn a_statement_is_sent_where_the_settings_allow_it() {
    let plain = server().authors("kanzlei_sent_plain").expect("a database");
    let tools = server().authors("kanzlei_sent_tools").expect("a database");
    let more = "GRANT DROP, EXECUTE ON `kanzlei\\_sent\\_tools`.* TO 'kanzlei_sent_tools'@'127.0.0.1'";
    server().sql("kanzlei_sent_tools", more).expect("rights");
    let procedure = "CREATE OR REPLACE PROCEDURE hold() SELECT GET_LOCK('held', 0) AS held";
    server().sql("kanzlei_sent_tools", procedure).expect("a procedure");
    let settings = [
        ("databases.plain.url", plain.as_str()),
        ("databases.tools.url", tools.as_str()),
        ("databases.tools.allow", "call, define"),
        ("databases.tools.functions", "SLEEP get_lock connection_id"),
    ];
    with("sent", &[], &settings, async |bed| {
        for (step, wanted) in [
            ("sql: plain, statement: SET autocommit = 0", "refused-statement `SET` is not sent to databases"),
            ("sql: tools, statement: LOCK TABLES t WRITE", "refused-statement `LOCK` is not sent"),
            ("sql: plain, statement: SELECT SLEEP(0) AS s", "not-allowed statements may not call `sleep` in"),
            ("sql: tools, statement: SELECT SLEEP(0) AS s", "200 {\"rows\":[{\"s\":0}]"),
            (
                "sql: plain, once: false, statement: CREATE TABLE t (n INT)",
                "not-allowed the settings of the database `plain`",
            ),
            ("sql: tools, statement: CREATE TABLE t (n INT)", "commits-by-itself CREATE may commit by itself"),
            ("sql: tools, once: false, statement: CREATE TABLE t (n INT)", "200 "),
            (
                "sql: plain, once: false, statement: CALL hold()",
                "not-allowed the settings of the database `plain` do not allow CALL",
            ),
            ("sql: tools, once: false, statement: CALL hold()", "200 {\"rows\":[{\"held\":1}]"),
            // What the procedure left was closed with its connection.
            ("sql: tools, statement: \"SELECT GET_LOCK('held', 5) AS held\"", "200 {\"rows\":[{\"held\":1}]"),
            (
                "sql: tools, once: false, statements: [{statement: CALL hold()}, {statement: SELECT 1}]",
                "commits-by-itself",
            ),
        ] {
            let found = outcome(bed, step).await;
            assert!(found.starts_with(wanted), "{step}: {found}");
        }
        server().sql("kanzlei_sent_plain", "CREATE TABLE t (n INT)").expect("a table");
        assert!(outcome(bed, "sql: plain, statement: INSERT INTO t VALUES (1)").await.starts_with("200 "));
        assert_eq!(server().sql("kanzlei_sent_plain", "SELECT n FROM t").expect("rows"), "1\n");
    });
}

#[test]
fn a_database_whose_user_sees_the_records_is_disabled() {
    let records = server().url("kanzlei_seen");
    let settings = [
        ("databases.open.url", records.as_str()),
        ("databases.allowed.url", records.as_str()),
        ("databases.allowed.allow", "service-schema"),
        ("rehearsal.url", records.as_str()),
    ];
    with("seen", &[], &settings, async |bed| {
        let disabled = "it is disabled, because its user kanzlei_seen@127.0.0.1 can see `kanzlei_seen`";
        for (step, wanted) in [
            ("sql: open, statement: SELECT hash FROM session", disabled),
            ("sql: allowed, statement: SELECT hash FROM session", "200 {\"rows\":[]"),
        ] {
            let found = outcome(bed, step).await;
            assert!(found.contains(wanted), "{step}: {found}");
        }
        let shown = bed.control("GET /databases/open", &Json::Null).await;
        assert!(shown.body.contains(disabled), "{}", shown.body);
        assert_eq!(bed.control("POST /databases/open/prepare", &Json::Null).await.status, 409);
        let lent = bed.control("POST /scratch", &json!({"seed": "SELECT 1"})).await;
        assert!(lent.status == 422 && lent.body.contains(disabled), "{lent:?}");
    });
}

#[test]
fn no_database_is_lent_until_a_server_is_named() {
    with("unlent", &[], &[], async |bed| {
        let lent = bed.control("POST /scratch", &json!({"seed": "SELECT 1"})).await;
        assert_eq!(lent.problem(), (422, "No database is lent".into()));
        assert!(lent.body.contains("rehearsal.url"));
    });
}

#[test]
fn descriptions_say_of_statements_what_the_database_says() {
    let url = server().authors("kanzlei_tables_of").expect("a database");
    let define = "CREATE TABLE bill (id INT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY, vessel VARCHAR(60) NOT NULL, dues DECIMAL(10,2) NOT NULL, made DATE NOT NULL, at DATETIME NULL, paid BOOLEAN NOT NULL, note TEXT NULL, doc JSON NULL, size DOUBLE NULL, kind ENUM('a','b') NOT NULL);
        CREATE TABLE hold (berth CHAR(3) NOT NULL, bill INT UNSIGNED NULL);
        CREATE VIEW due AS SELECT id, vessel FROM bill WHERE NOT paid;";
    server().sql("kanzlei_tables_of", define).expect("tables");
    with("described", &[], &[("databases.harbour.url", url.as_str())], async |bed| {
        let found = bed.control("GET /databases/harbour/description", &Json::Null).await.json();
        assert_eq!(found["tables"], 3, "{found}");
        let text = found["document"].as_str().expect("a document");
        let (document, faults) = document::read(&Source::new("harbour.database.yaml", text), &|_| None);
        assert!(faults.is_empty(), "{text}\n{faults:?}");
        let Some(Document::Database(described)) = document else { panic!("{text}") };
        let database = &bed.service.app.effects.databases["harbour"].database;
        for statement in [
            "SELECT * FROM bill",
            "SELECT d.*, h.bill, h.berth AS place FROM due d LEFT JOIN hold h ON h.bill = d.id",
            "SELECT COUNT(*) AS n, SUM(dues) AS total, AVG(size), MAX(made) AS last, MIN(vessel) AS first, MAX(paid) AS p FROM bill",
            "SELECT id + 1 AS next, id / 2 AS half, NOT paid AS open, dues > 5 AS large, size * 2 AS twice, -id AS less FROM bill",
            "SELECT COALESCE(note, vessel) AS c, IFNULL(size, 0.5) AS s, IF(paid, 1, 2) AS i, CASE WHEN paid THEN vessel END AS w FROM bill",
            "SELECT (SELECT COUNT(*) FROM hold WHERE bill = bill.id) AS holds, EXISTS (SELECT 1 FROM hold) AS any_hold FROM bill",
            "SELECT CONCAT(vessel, kind) AS t, UPPER(vessel) AS u, ROUND(dues, 1) AS r, LENGTH(note) AS l, NOW() AS now, CURDATE() AS today, YEAR(made) AS y FROM bill",
            "SELECT id, vessel FROM bill UNION SELECT bill, berth FROM hold",
            "WITH due_now AS (SELECT vessel, made FROM bill) SELECT made, vessel FROM due_now",
            "SELECT vessel, COUNT(*) AS c, GROUP_CONCAT(kind) AS kinds FROM bill GROUP BY vessel WITH ROLLUP",
            "SELECT 1 AS one, 'a' AS a, 1.5 AS f, NULL AS nothing, TRUE AS yes, ROW_NUMBER() OVER (ORDER BY id) AS n FROM bill",
            "SELECT kind, doc, at, JSON_VALUE(doc, '$.a') AS j FROM bill JOIN hold ON hold.bill = bill.id",
        ] {
            let real = database.clone();
            let asked = bed.service.app.runtime.spawn(async move { real.describe(statement).await });
            let real = asked.await.expect("the runtime").unwrap_or_else(|error| panic!("{statement}: {error:?}"));
            let ours = columns::described(statement, &described.tables);
            assert_eq!(ours.faults, [], "{statement}");
            let ours = ours.columns.expect("columns");
            assert_eq!(ours.len(), real.len(), "{statement}");
            for (ours, real) in ours.iter().zip(&real) {
                let of = |type_name: &str| row([("v", type_name, false)]).to_string();
                let known = ours.type_name.is_empty() || of(&ours.type_name) == of(&real.type_name);
                assert!(
                    ours.name == real.name && known && (ours.nullable || !real.nullable),
                    "{statement}: {ours:?} is not {} {}, nullable {}",
                    real.name,
                    real.type_name,
                    real.nullable
                );
            }
        }
    });
}
