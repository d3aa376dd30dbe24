//! Rows of files: into a database, out of it, through loops and back to clients.

use kanzlei_model::run::JobPhase;

use super::{Bed, server, with};

const LOAD: &str = "workflow: load
input: {lines: {type: file, media: [text/csv]}, by: {type: string}}
entries: [{endpoint: 'PUT /cargo/{by}', access: open}]
steps:
  - id: rows
    file: read
    of: ${input.lines}
    format: csv
    row: {line: {type: integer}, goods: {type: string}}
  - id: done
    sql: cargo
    statement: INSERT INTO t (line, goods, kept_by) VALUES (:line, :goods, :by)
    from: rows
    bind: {by: '${input.by}'}
    catch: [{fail: 422, title: No cargo, detail: '${failure.kind}: ${failure.detail}'}]
  - {reply: 200, body: '${done.count}'}
";

const LIST: &str = "workflow: list
input: {most: {type: integer}}
entries: [{endpoint: GET /cargo, access: open}]
steps:
  - id: table
    sql: cargo
    statement: SELECT line, goods FROM t WHERE line <= :most ORDER BY line
    bind: {most: '${input.most}'}
    into: csv
    name: cargo.csv
  - {reply: 200, body: '${table}'}
";

const LOOP: &str = "workflow: loop
input: {lines: {type: file}}
entries: [{endpoint: PUT /looped, access: open, answer: later}]
steps:
  - {id: rows, file: read, of: '${input.lines}', format: csv, row: {line: {type: integer}}}
  - id: each
    each: row
    in: rows
    at_once: 8
    steps:
      - {sql: cargo, statement: 'INSERT INTO t (line, goods, kept_by) VALUES (:line, :goods, :by)', bind: {line: '${row.line}', goods: looped, by: loop}}
  - {reply: 200, body: '${each}'}
";

const CONVERT: &str = "workflow: convert
input: {lines: {type: file}}
entries: [{endpoint: PUT /converted, access: open, formats: [ndjson, json]}]
steps:
  - {id: rows, file: read, of: '${input.lines}', format: csv, delimiter: ';', encoding: windows-1252, row: {name: {type: string}, n: {type: integer}}}
  - {reply: 200, body: '${rows}'}
";

fn csv(from: usize, to: usize) -> String {
    (from..=to).fold("line,goods\n".to_owned(), |text, line| text + &format!("{line},crate {line}\n"))
}

async fn put(bed: &Bed, path: &str, body: &str) -> (u16, String) {
    let sent = bed.send(&format!("PUT {path}"), &[("content-type", "text/csv")], body).await;
    (sent.status, sent.body)
}

#[test]
fn rows_go_into_a_database_and_out_of_it() {
    let url = server().authors("kanzlei_cargo").expect("a database");
    server()
        .sql("kanzlei_cargo", "CREATE TABLE t (line INT PRIMARY KEY, goods VARCHAR(20) NOT NULL, kept_by VARCHAR(9))")
        .expect("a table");
    let count = || server().sql("kanzlei_cargo", "SELECT COUNT(*) FROM t").expect("a count").trim().to_owned();
    with("rows", &[], &[("databases.cargo.url", &url)], async |bed| {
        assert_eq!(bed.control("POST /databases/cargo/prepare", &serde_json::Value::Null).await.status, 200);
        let deployed = bed.deploy(&[LOAD, LIST, LOOP]).await;
        assert_eq!(deployed.status, 200, "{}", deployed.body);
        assert_eq!(put(bed, "/cargo/me", &csv(1, 1200)).await, (200, "1200".into()));
        // All of them or none, and the faulty line is known: in the database, of the schema, of the format.
        for (body, says) in [
            (
                csv(1201, 1900) + "7,again\n" + &csv(2000, 2001).replace("line,goods\n", ""),
                "duplicate: cargo: line 702: ",
            ),
            (csv(3000, 3600) + "3601,much too long for its column\n", "sql: cargo: line 603: "),
            (csv(4000, 4001) + "x,crate\n4003,crate,more\n", "line 4: /line"),
            ("line\n5000\n".into(), "line 2"),
        ] {
            let (status, body) = put(bed, "/cargo/me", &body).await;
            assert!(status == 422 && body.contains(says), "{says}: {status} {body}");
            assert_eq!(count(), "1200");
        }
        let table = bed.send("GET /cargo?most=1000", &[], "").await;
        assert_eq!(table.header("content-type"), Some("text/csv"), "{table:?}");
        assert_eq!(table.body.replace("\r\n", "\n"), csv(1, 1000));
        assert_eq!(bed.service.app.effects.files.spooled(), 0, "nothing is left on the disk");
        // Loops ask for more rows as their items end.
        let (status, body) = put(bed, "/looped", &csv(10_001, 10_450)).await;
        assert_eq!(status, 202);
        bed.work();
        let id = serde_json::from_str::<serde_json::Value>(&body).expect("JSON")["id"].as_str().map(str::parse);
        let job = bed.ended(id.expect("an id").expect("a UUID")).await;
        assert_eq!((job.phase, count().as_str()), (JobPhase::Succeeded, "1650"), "{job:?}");
    });
}

#[test]
fn rows_are_answered_while_they_are_read() {
    with("rows_out", &[CONVERT], &[], async |bed| {
        let sent = |body: &'static [u8], accept: &'static str| async move {
            let headers = [("content-type", "text/csv"), ("accept", accept)];
            let answer = bed.send("PUT /converted", &headers, body).await;
            (answer.status, answer.body)
        };
        let lines = b"name;n\nK\xe5re;1\n\"a;b\";2\n";
        let (status, body) = sent(lines, "application/x-ndjson").await;
        assert_eq!((status, body.as_str()), (200, "{\"name\":\"K\u{e5}re\",\"n\":1}\n{\"name\":\"a;b\",\"n\":2}\n"));
        let (_, body) = sent(lines, "application/json").await;
        assert_eq!(body, "[{\"name\":\"K\u{e5}re\",\"n\":1},{\"name\":\"a;b\",\"n\":2}]");
        let (status, body) = sent(b"name;n\na;many\n", "*/*").await;
        assert!(status == 422 && body.contains("line 2: /n"), "{status} {body}");
        assert_eq!(bed.service.app.effects.files.spooled(), 0, "nothing is left on the disk");
    });
}
