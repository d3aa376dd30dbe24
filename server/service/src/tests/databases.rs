//! Databases of authors: which statements are sent, on which connections, and which databases are disabled.

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
