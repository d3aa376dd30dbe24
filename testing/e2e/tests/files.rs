//! Files on the demo office: sent by Node's own forms and by the client, kept in a folder and in a bucket, and answered.

use std::io::{Read, Write};
use std::net::TcpStream;
use std::path::PathBuf;
use std::process::Command;

use kanzlei_e2e::calls::{LONG, becomes, id_of};
use kanzlei_e2e::*;
use kanzlei_harness::office::Office;
use kanzlei_harness::wait;
use serde_json::{Value as Json, json};

/// Runs a script in Node, which has `fetch`, `FormData` and `Blob` of its own; it prints JSON.
fn by_node(script: &str) -> Json {
    let script = format!("(async () => {{ {script} }})().then((made) => console.log(JSON.stringify(made)))");
    let made = Command::new("node").args(["-e", &script]).current_dir(root().join("console")).output().expect("node");
    let text = said(&made, 0);
    serde_json::from_str(&text).unwrap_or_else(|error| panic!("{error}: {text}"))
}

#[test]
fn crew_lists_are_taken_in_kept_and_answered() {
    let office = office("crew", &[]);
    said(&client(&office, &["deploy", "demo/harbour"]), 0);
    let at = format!("{}/vessels/9074720/crew-list", office.public());
    let sent = by_node(&format!(
        "const form = new FormData();
         form.append('crew', new Blob(['name\\nTare Holm\\n'], {{ type: 'text/csv' }}), 'crew.csv');
         const put = await fetch('{at}', {{ method: 'PUT', body: form }});
         const kept = await put.json();
         const got = await fetch('{at}');
         const part = await fetch('{at}', {{ headers: {{ Range: 'bytes=5-8' }} }});
         const same = await fetch('{at}', {{ headers: {{ 'If-None-Match': got.headers.get('etag') }} }});
         const linked = await fetch(kept.link);
         const wrong = new FormData();
         wrong.append('crew', new Blob([new Uint8Array([0, 1, 2])]), 'crew.csv');
         const refused = await fetch('{at}', {{ method: 'PUT', body: wrong }});
         return [put.status, kept, got.headers.get('content-type'), await got.text(), part.status, await part.text(), same.status,
           await linked.text(), refused.status];"
    ));
    let list = "name\nTare Holm\n";
    assert_eq!((&sent[0], &sent[2], &sent[3]), (&json!(201), &json!("text/csv"), &json!(list)), "{sent}");
    assert_eq!((&sent[4], &sent[5], &sent[6]), (&json!(206), &json!("Tare"), &json!(304)), "{sent}");
    assert_eq!((&sent[7], &sent[8]), (&json!(list), &json!(422)), "{sent}");
    // The other place is a bucket.
    let path = sent[1]["stored"].as_str().expect("a path");
    let bucket = format!("http://127.0.0.1:{}/buckets/customs/incoming/from-harbour/{path}", office.ports.standins);
    let object = http("GET", &bucket, &[("authorization", "Credential=lindvik-office/")], b"");
    assert_eq!((object.status, object.body.as_str()), (200, list));
    // The client names a file by an at sign, and writes one.
    let (from, to) = (scratch().join("crew-client.csv"), scratch().join("crew-back.csv"));
    std::fs::write(&from, "name\nUna Strand\n").expect("a file");
    let given = format!("crew=@{}", from.display());
    assert!(said(&client(&office, &["call", "crew-list", "imo=9074720", &given]), 0).contains("201 Created"));
    let output = to.to_str().expect("UTF-8");
    said(&client(&office, &["call", "crew-list-copy", "imo=9074720", "--output", output]), 0);
    assert_eq!(std::fs::read_to_string(&to).expect("a file"), "name\nUna Strand\n");
    let curl = said(&client(&office, &["call", "crew-list", "imo=9074720", &given, "--curl"]), 0);
    assert!(curl.contains(&format!("-F '{given}'")), "{curl}");
}

const CLAIM: &str = "workflow: claim
input: {scan: {type: file, media: [application/pdf]}, note: {type: string}}
entries: [{endpoint: POST /claims, access: key, answer: later}]
steps:
  - file: store
    of: ${input.scan}
    to: {customs: \"claims/${run.id}.pdf\"}
  - reply: 200
    body: ${input.scan}
";

/// An upload is one caller's, serves jobs also on another process, and ends.
#[test]
fn uploads_belong_to_their_callers_and_outlive_processes() {
    let mut office = office("uploads", &["jobs.lease=1s"]);
    let path = scratch().join("claim.yaml");
    std::fs::write(&path, CLAIM).expect("a document");
    said(&client(&office, &["deploy", path.to_str().expect("UTF-8")]), 0);
    let key = |name: &str| {
        let made = said(&client(&office, &["keys", "add", name, "--owner", "agents", "--json"]), 0);
        let made: Json = serde_json::from_str(&made).expect("JSON");
        made["key"].as_str().unwrap_or_else(|| panic!("{made}")).to_owned()
    };
    let (mine, other) = (key("tare"), key("una"));
    let (public, uploads) = (office.public(), format!("{}/~/uploads", office.public()));
    said(&client(&office, &["lane", "hold", "main"]), 0);
    let sent = by_node(&format!(
        "const own = {{ Authorization: 'Bearer {mine}' }}, others = {{ Authorization: 'Bearer {other}' }};
         const form = new FormData();
         form.append('a', new Blob(['%PDF-1.7 claim'], {{ type: 'application/pdf' }}), 'claim.pdf');
         form.append('b', new Blob(['words']), 'b.txt');
         const upload = await fetch('{uploads}', {{ method: 'POST', headers: own, body: form }});
         const {{ files }} = await upload.json();
         const claim = (headers, scan) => fetch('{public}/claims', {{ method: 'POST', headers: {{ ...headers, 'Content-Type': 'application/json' }},
           body: JSON.stringify({{ scan, note: 'n' }}) }});
         const queued = await claim(own, files[0].token);
         const statuses = [];
         for (const [headers, token] of [[others, files[0].token], [own, files[1].token], [own, 'kzf_00000000000000000000000000000000']]) {{
           statuses.push((await claim(headers, token)).status);
         }}
         for (const headers of [others, {{}}, own]) statuses.push((await fetch('{uploads}/' + files[0].token, {{ headers }})).status);
         statuses.push((await fetch('{uploads}/' + files[0].token, {{ method: 'DELETE', headers: own }})).status);
         statuses.push((await claim(own, files[0].token)).status);
         statuses.push((await fetch('{uploads}', {{ method: 'POST', body: 'x' }})).status);
         return [upload.status, files, queued.status, queued.headers.get('location'), statuses];"
    ));
    assert_eq!((&sent[0], &sent[2]), (&json!(201), &json!(202)), "{sent}");
    assert_eq!(sent[1][0]["media"], "application/pdf");
    assert_eq!(sent[4], json!([422, 422, 422, 404, 401, 200, 204, 422, 401]), "{sent}");
    // The upload is gone and the process is another one; the job has its file.
    office.restart_service().expect("a restart");
    said(&client(&office, &["lane", "release", "main"]), 0);
    let result = format!("{public}{}/result", sent[3].as_str().expect("an address"));
    let own = format!("Bearer {mine}");
    let fetched = wait::until(LONG, || {
        let answer = http("GET", &result, &[("authorization", &own)], b"");
        (answer.status != 202).then_some(answer)
    });
    let fetched = fetched.expect("a result");
    assert_eq!((fetched.status, fetched.body.as_str()), (200, "%PDF-1.7 claim"), "{fetched:?}");
    assert_eq!(fetched.header("content-type"), Some("application/pdf"));
}

/// A client that stops in the middle, and a process that is killed in the middle, leave nothing behind.
#[test]
fn bodies_that_stop_leave_nothing() {
    let mut office = office("stopped", &[]);
    said(&client(&office, &["deploy", "demo/harbour"]), 0);
    let spool = scratch().join("stopped/files/spool");
    let begin = |office: &Office| {
        let mut stream = TcpStream::connect(("127.0.0.1", office.ports.public)).expect("a connection");
        let head = "PUT /vessels/9074720/crew-list HTTP/1.1\r\nHost: localhost\r\nContent-Type: text/csv\r\nContent-Length: 900000\r\n\r\nname\n";
        stream.write_all(head.as_bytes()).expect("sent");
        stream.write_all("Tare Holm\n".repeat(70_000).as_bytes()).expect("sent");
        assert!(wait::until(LONG, || (!files_below(&spool).is_empty()).then_some(())).is_some(), "it arrives");
        stream
    };
    drop(begin(&office));
    assert!(wait::until(LONG, || files_below(&spool).is_empty().then_some(())).is_some(), "{:?}", files_below(&spool));
    let stream = begin(&office);
    office.service.kill();
    office.restart_service().expect("a restart");
    drop(stream);
    // The next process removes what the one before left, as soon as it needs the spool itself.
    let from = scratch().join("crew-after.csv");
    std::fs::write(&from, "name\n").expect("a file");
    let given = format!("crew=@{}", from.display());
    assert!(said(&client(&office, &["call", "crew-list", "imo=9074720", &given]), 0).contains("201 Created"));
    assert!(wait::until(LONG, || files_below(&spool).is_empty().then_some(())).is_some(), "{:?}", files_below(&spool));
    let places = files_below(&scratch().join("stopped/places/archive"));
    assert_eq!(places.len(), 1, "{places:?}");
}

const ROWS: &str = "workflow: all-rows
input: {rows: {type: file, max: 64 MiB}}
entries: [{endpoint: PUT /all-rows, access: open}]
steps:
  - {id: rows, file: read, of: '${input.rows}', format: text}
  - {reply: 200, body: '${rows}'}
";

/// A client that stops reading is dropped, with all that was held for it.
#[test]
fn clients_that_stop_reading_are_dropped() {
    let office = office("stalled", &["limits.stalled=1s"]);
    assert_eq!(deploy_texts(&office, &[("rows.yaml", ROWS)]).status, 200);
    let body = "Tare Holm\n".repeat(4 << 20);
    let head = format!(
        "PUT /all-rows HTTP/1.1\r\nHost: localhost\r\nContent-Type: text/plain\r\nContent-Length: {}\r\n\r\n",
        body.len()
    );
    let mut stream = TcpStream::connect(("127.0.0.1", office.ports.public)).expect("a connection");
    stream.write_all(head.as_bytes()).and_then(|()| stream.write_all(body.as_bytes())).expect("sent");
    stream.read_exact(&mut [0; 15]).expect("the beginning of an answer");
    let open = || -> Vec<String> {
        let found = std::fs::read_dir(format!("/proc/{}/fd", office.service.id())).into_iter().flatten().flatten();
        let paths = found.filter_map(|entry| std::fs::read_link(entry.path()).ok());
        paths.map(|path| path.display().to_string()).filter(|path| path.contains("files/spool/")).collect()
    };
    let files = |path: &String| !path.contains(".lock");
    assert!(open().iter().any(files), "{:?}", open());
    assert!(wait::until(LONG, || (!open().iter().any(files)).then_some(())).is_some(), "{:?}", open());
    // It was closed before all was sent.
    let mut rest = Vec::new();
    let read = stream.read_to_end(&mut rest);
    assert!(read.is_err() || rest.len() < body.len(), "{read:?}");
}

const KEEP: &str = "workflow: keep-rows
input: {rows: {type: file}}
entries: [{endpoint: PUT /rows, access: open, answer: later}]
steps:
  - {id: rows, file: read, of: '${input.rows}', format: csv, row: {line: {type: integer}}}
  - id: loop
    each: row
    in: rows
    at_once: 4
    steps: [{sql: harbour, statement: INSERT INTO kept_row (line) VALUES (:line), bind: {line: '${row.line}'}}]
  - {id: table, sql: harbour, statement: SELECT line FROM kept_row ORDER BY line, into: csv, name: kept.csv}
  - {file: store, of: '${table}', to: {archive: kept.csv}}
  - {reply: 200, body: '${loop}'}
";

/// A job that reads rows goes on where it was when its process is killed: each row is kept once, and nothing is left behind.
#[test]
fn loops_over_rows_go_on_after_kills() {
    let mut office = office("rows_kill", &["jobs.lease=1s"]);
    let harbour = "kanzlei_rows_kill_harbour";
    database().sql(harbour, "CREATE TABLE kept_row (line INT NOT NULL) ENGINE = InnoDB").expect("a table");
    let path = scratch().join("keep-rows.yaml");
    std::fs::write(&path, KEEP).expect("a document");
    said(&client(&office, &["deploy", path.to_str().expect("UTF-8")]), 0);
    let rows = (1..=900).fold("line\n".to_owned(), |text, line| text + &format!("{line}\n"));
    let sent = http("PUT", &format!("{}/rows", office.public()), &[("content-type", "text/csv")], rows.as_bytes());
    assert_eq!(sent.status, 202, "{sent:?}");
    let count = || -> usize {
        let count = database().sql(harbour, "SELECT COUNT(*) FROM kept_row").expect("a count");
        count.trim().parse().expect("a number")
    };
    for most in [50, 300, 450, 700] {
        assert!(wait::until(LONG, || (count() >= most).then_some(())).is_some(), "{} rows", count());
        office.service.kill();
        office.restart_service().expect("a restart");
    }
    let job = becomes(&office, &id_of(&sent), "succeeded");
    assert_eq!(count(), 900, "{job}");
    let distinct = database().sql(harbour, "SELECT COUNT(DISTINCT line) FROM kept_row").expect("a count");
    assert_eq!(distinct.trim(), "900");
    let stored = std::fs::read_to_string(scratch().join("rows_kill/places/archive/kept.csv")).expect("a file");
    assert_eq!(stored.replace("\r\n", "\n"), rows);
    assert_eq!(files_below(&scratch().join("rows_kill/files/spool")), Vec::<PathBuf>::new());
}
