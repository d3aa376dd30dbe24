//! Files: how they come in, where they are kept, how they go out, and what is refused.

use kanzlei_harness::scratch;
use serde_json::json;

use super::{Answer, Bed, eventually, with};

const PAPERS: &str = "workflow: papers
input:
  crew: {type: file, media: [text/csv, application/pdf], max: 2 KiB}
  scans: {type: file, list: 3, optional: true}
  vessel: {type: string}
entries:
  - endpoint: POST /papers
    access: open
    answer: either
steps:
  - reply: 200
    body:
      crew: ${input.crew}
      scans: ${input.scans?.map(scan => scan.size) ?? []}
      vessel: ${input.vessel}
";

/// A multipart body: name, file name, media type and content of each part; a part without a file name is text.
fn form(parts: &[(&str, &str, &str, &str)]) -> String {
    let mut body = String::new();
    for (name, file, media, content) in parts {
        let named =
            if file.is_empty() { String::new() } else { format!("; filename=\"{file}\"\r\nContent-Type: {media}") };
        body.push_str(&format!("--b\r\nContent-Disposition: form-data; name=\"{name}\"{named}\r\n\r\n{content}\r\n"));
    }
    body + "--b--\r\n"
}

async fn send(bed: &Bed, line: &str, parts: &[(&str, &str, &str, &str)]) -> Answer {
    bed.send(line, &[("content-type", "multipart/form-data; boundary=b")], &form(parts)).await
}

#[test]
fn files_come_as_parts_of_a_body() {
    with("files_in", &[PAPERS], &[], async |bed| {
        let csv = ("crew", "../../crew.csv", "text/csv", "name\nTare Holm\n");
        let vessel = ("vessel", "", "", "Havbris");
        let whole = send(
            bed,
            "POST /papers",
            &[csv, vessel, ("scans", "1.png", "image/png", "\u{89}PNG"), ("scans", "2", "", "xx")],
        )
        .await;
        assert_eq!(whole.status, 200, "{}", whole.body);
        let crew = &whole.json()["crew"];
        assert_eq!(
            (&crew["name"], &crew["media"], &crew["size"]),
            (&json!("crew.csv"), &json!("text/csv"), &json!(15))
        );
        assert_eq!(crew["digest"], "9b2d470bcd8e9f6b5237925851be66f6c813da7fb6c54f546877f4898464e01e", "{crew}");
        assert_eq!(whole.json()["scans"], json!([5, 2]));
        let large = "x".repeat(2049);
        for (parts, status, says) in [
            (vec![vessel], 422, "/crew"),
            (vec![csv, csv, vessel], 422, "is one file; 2 were sent"),
            (
                vec![("crew", "a.csv", "text/csv", "\u{1}\u{2}"), vessel],
                422,
                "is application/octet-stream; allowed media types are text/csv, application/pdf",
            ),
            (vec![("crew", "a.pdf", "application/pdf", "<html>"), vessel], 422, "is text/html"),
            (vec![("crew", "a.csv", "text/csv", &large), vessel], 413, "more than 2048 bytes"),
            (
                vec![
                    csv,
                    vessel,
                    ("scans", "1", "", "x"),
                    ("scans", "2", "", "x"),
                    ("scans", "3", "", "x"),
                    ("scans", "4", "", "x"),
                ],
                422,
                "are 4 files; at most 3",
            ),
            (vec![csv, vessel, ("other", "a", "text/csv", "x")], 422, "/other"),
            (vec![csv, vessel, ("crow", "", "", "x")], 422, "/crow"),
        ] {
            let refused = send(bed, "POST /papers", &parts).await;
            assert!(refused.status == status && refused.body.contains(says), "{says}: {refused:?}");
        }
        for (media, body, status, says) in [
            ("multipart/form-data", "--b--", 400, "oundary"),
            (
                "multipart/form-data; boundary=b",
                "--b\r\nContent-Disposition: form-data; name=\"crew\"; filename=\"a\"\r\n\r\ncut",
                400,
                "ncomplete",
            ),
            ("text/csv", "name\n", 415, "multipart/form-data"),
            (
                "application/json",
                "{\"vessel\":\"Havbris\",\"crew\":{\"name\":\"x\",\"media\":\"text/csv\",\"size\":1,\"digest\":\"d\"}}",
                422,
                "token of an upload",
            ),
            (
                "application/json",
                "{\"vessel\":\"Havbris\",\"crew\":\"kzf_00000000000000000000000000000000\"}",
                422,
                "token of an upload",
            ),
        ] {
            let refused = bed.send("POST /papers", &[("content-type", media)], body).await;
            assert!(refused.status == status && refused.body.contains(says), "{says}: {refused:?}");
        }
        assert_eq!(bed.service.app.effects.files.spooled(), 0, "nothing is left on the disk");
    });
}

const COPY: &str = "workflow: copy
input: {scan: {type: file, max: 1 MiB}}
entries:
  - endpoint: POST /copy
    access: open
    answer: either
steps:
  - reply: 200
    body: ${input.scan}
";

/// A file comes as the whole body, and goes out as it came: whole, in part, not at all.
/// What waits for the journal is bounded in bytes, and bytes of files are none of them.
#[test]
fn runs_over_large_files_are_recorded() {
    let text = "workflow: large\ninput: {paper: {type: file}}\nentries: [{endpoint: PUT /large, access: open}]\nsteps: [{reply: 201}]\n";
    with("files_recorded", &[text], &[("journal.bytes", "65536")], async |bed| {
        let body = "x".repeat(300_000);
        let raw = bed.send("PUT /large", &[("content-type", "text/plain")], &body).await;
        let parts = send(bed, "PUT /large", &[("paper", "paper.txt", "text/plain", &body)]).await;
        assert_eq!((raw.status, parts.status), (201, 201), "{} {}", raw.body, parts.body);
        bed.journaled().await;
        let found = bed.control("GET /runs", &serde_json::Value::Null).await.json();
        assert_eq!((found["runs"].as_array().map(Vec::len), &found["dropped"]), (Some(2), &json!(0)), "{found}");
    });
}

#[test]
fn files_go_out_as_they_came() {
    let echo = COPY.replace("POST /copy", "PUT /copy").replace("workflow: copy", "workflow: put");
    let again = "workflow: again\ninput: {n: {type: integer}}\nentries: [{endpoint: GET /again, access: open}]\nsteps:\n  - id: made\n    file: zip\n    of: {}\n  - reply: 200\n    body: ${made}\n";
    with("files_out", &[COPY, &echo, again], &[], async |bed| {
        let pdf = "%PDF-1.7 harbour";
        let headers =
            [("content-type", "application/pdf"), ("content-disposition", "attachment; filename=\"plan.pdf\"")];
        let whole = bed.send("POST /copy", &headers, pdf).await;
        assert_eq!((whole.status, whole.body.as_str()), (200, pdf), "{whole:?}");
        let tag = whole.header("etag").expect("a validator").to_owned();
        for (name, wanted) in [
            ("content-type", "application/pdf"),
            ("content-disposition", "attachment; filename=\"plan.pdf\""),
            ("content-digest", "sha-256=:q4bzYkj9N5Jn2vsWGgv/z77WjXvP9SbWXPYpRzD/zS8=:"),
        ] {
            assert_eq!(whole.header(name), Some(wanted), "{whole:?}");
        }
        for (digest, status) in [
            ("sha-256=:q4bzYkj9N5Jn2vsWGgv/z77WjXvP9SbWXPYpRzD/zS8=:", 200),
            ("sha-256=:AAAX1EcsJaDh1vIDDvrTjvj2zT1mlxE4zVyXY1DFbvw=:", 400),
            ("sha-256=abc", 400),
            ("sha-512=:AAAA:", 200),
        ] {
            let headers = [headers[0], ("content-digest", digest)];
            assert_eq!(bed.send("PUT /copy", &headers, pdf).await.status, status, "{digest}");
        }
        let made = bed.send("GET /again?n=1", &[], "").await;
        assert_eq!((made.status, made.header("accept-ranges"), made.body.len()), (200, Some("bytes"), 22), "{made:?}");
        let etag = made.header("etag").expect("a validator").to_owned();
        for (name, value, status, body) in [
            ("range", "bytes=0-1", 206, "PK"),
            ("range", "bytes=99-", 416, "22 bytes"),
            ("if-none-match", etag.as_str(), 304, ""),
            ("if-none-match", tag.as_str(), 200, "PK"),
        ] {
            let answer = bed.send("GET /again?n=1", &[(name, value)], "").await;
            assert!(answer.status == status && answer.body.contains(body), "{value}: {answer:?}");
        }
        // A job keeps its files until its result is fetched, and longer.
        let later = [headers[0], headers[1], ("prefer", "respond-async")];
        let queued = bed.send("POST /copy", &later, pdf).await;
        assert_eq!(queued.status, 202, "{}", queued.body);
        bed.work();
        let result = format!("GET /~/jobs/{}/result", queued.json()["id"].as_str().expect("an id"));
        eventually(async || bed.send(&result, &[], "").await.status == 200).await;
        for _ in 0..2 {
            let fetched = bed.send(&result, &[], "").await;
            assert_eq!((fetched.body.as_str(), fetched.header("content-type")), (pdf, Some("application/pdf")));
        }
        let part = bed.send(&result, &[("range", "bytes=1-3")], "").await;
        assert_eq!((part.status, part.body.as_str(), part.header("content-range")), (206, "PDF", Some("bytes 1-3/16")));
        // The journal knows of the file, and not its bytes.
        let runs = bed.control("GET /runs?workflow=copy", &json!(null)).await.body;
        assert!(runs.contains("copy") && !runs.contains("harbour\""), "{runs}");
        assert_eq!(bed.service.app.effects.files.spooled(), 0);
        // A job that exists no more leaves nothing behind.
        let files = &bed.service.app.effects.files;
        let work = files.work().expect("a place");
        assert_eq!(work.list("jobs", 10).await.expect("a list").len(), 1);
        let none = |_| std::future::ready(Ok::<_, String>(Vec::new()));
        assert_eq!(files.sweep(0, none).await.expect("swept"), 0, "it is young");
        assert_eq!(files.sweep(i64::MAX, none).await.expect("swept"), 1);
        assert_eq!(bed.send(&result, &[], "").await.status, 410);
    });
}

const STORE: &str = "workflow: store
input: {scan: {type: file}, path: {type: string}, existing: {type: string, default: refuse}}
entries: [{endpoint: POST /store, access: open}]
steps:
  - id: stored
    when: input.existing === 'refuse'
    file: store
    of: ${input.scan}
    to: {archive: \"${input.path}\", office: \"copies/${input.path}\"}
  - when: input.existing !== 'refuse'
    file: store
    of: ${input.scan}
    to: {archive: \"${input.path}\"}
    existing: replace
  - id: found
    file: list
    from: {archive: \"${input.path.split('/')[0] ?? 'crew'}\"}
  - id: link
    file: link
    from: {archive: \"${input.path}\"}
    for: 1h
  - id: packed
    file: zip
    of: \"${({[input.path]: input.scan, 'second/copy.txt': input.scan})}\"
    name: papers.zip
  - id: parts
    file: unzip
    of: ${packed}
  - reply: 200
    body:
      stored: ${stored}
      found: ${found.map(one => one.path)}
      link: ${link.url}
      parts: \"${parts.map(part => ({path: part.path, name: part.file.name, same: part.file.digest === input.scan.digest}))}\"
";
const FETCH: &str = "workflow: fetch
input: {path: {type: string}}
entries: [{endpoint: GET /fetch, access: open}, {endpoint: DELETE /fetch, access: open}]
steps:
  - id: crew
    file: fetch
    from: {archive: \"${input.path}\"}
    catch:
      - fail: 404
        title: ${failure.kind}
        detail: ${failure.detail}
  - if: input.path.startsWith('gone/')
    then:
      - id: gone
        file: remove
        from: {archive: \"${input.path}\"}
      - reply: 200
        body: ${gone}
    else:
      - reply: 200
        body: ${crew}
";

#[test]
fn files_are_stored_in_places() {
    let folder = scratch::folder("places");
    let (archive, office) = (folder.join("archive"), folder.join("office"));
    let settings = [
        ("places.archive.url", archive.to_str().expect("UTF-8")),
        ("places.office.url", office.to_str().expect("UTF-8")),
    ];
    with("places", &[STORE, FETCH], &settings, async |bed| {
        let store = async |path: &str, content: &str, existing: &str| {
            let parts =
                [("scan", "crew.txt", "text/plain", content), ("path", "", "", path), ("existing", "", "", existing)];
            send(bed, "POST /store", &parts).await
        };
        let stored = store("crew/7.txt", "Tare Holm", "refuse").await;
        assert_eq!(stored.status, 200, "{}", stored.body);
        let body = stored.json();
        assert_eq!(body["stored"], json!({"archive": "crew/7.txt", "office": "copies/crew/7.txt"}));
        assert_eq!(body["found"], json!(["crew/7.txt"]));
        let part = |path: &str, name: &str| json!({"path": path, "name": name, "same": true});
        assert_eq!(body["parts"], json!([part("crew/7.txt", "7.txt"), part("second/copy.txt", "copy.txt")]));
        let read = |at: &std::path::Path| std::fs::read_to_string(at).expect("a file");
        assert_eq!(
            (read(&archive.join("crew/7.txt")), read(&office.join("copies/crew/7.txt"))),
            ("Tare Holm".into(), "Tare Holm".into())
        );
        for (path, content, existing, status, says) in [
            ("crew/7.txt", "Tare Holm", "refuse", 200, "copies/crew"),
            ("crew/7.txt", "another", "refuse", 500, ""),
            ("crew/7.txt", "another", "replace", 200, "crew/7.txt"),
            ("../7.txt", "x", "refuse", 500, ""),
            ("/etc/7.txt", "x", "refuse", 500, ""),
        ] {
            let answer = store(path, content, existing).await;
            assert!(answer.status == status && answer.body.contains(says), "{path}: {answer:?}");
        }
        assert!(!folder.join("7.txt").exists(), "nothing leaves its place");
        let fetched = bed.send("GET /fetch?path=crew/7.txt", &[], "").await;
        assert_eq!((fetched.status, fetched.body.as_str()), (200, "another"), "{fetched:?}");
        let missing = bed.send("GET /fetch?path=crew/8.txt", &[], "").await;
        assert_eq!(missing.problem(), (404, "missing".to_owned()), "{missing:?}");
        let link =
            body["link"].as_str().and_then(|url| url.find("/~/").map(|at| url[at..].to_owned())).expect("a link");
        let linked = bed.send(&format!("GET {link}"), &[], "").await;
        assert_eq!((linked.status, linked.body.as_str()), (200, "another"), "{linked:?}");
        assert_eq!(linked.header("content-disposition"), Some("attachment; filename=\"7.txt\""));
        for (change, status) in
            [(link.replacen("files/", "files/x", 1), 404), (format!("{link}A"), 404), (link.clone() + ".", 404)]
        {
            assert_eq!(bed.send(&format!("GET {change}"), &[], "").await.status, status, "{change}");
        }
        assert_eq!(store("gone/1.txt", "x", "refuse").await.status, 200);
        assert_eq!(bed.send("DELETE /fetch?path=gone/1.txt", &[], "").await.json(), json!({"removed": 1}));
        assert!(!archive.join("gone/1.txt").exists());
        // Unknown places are reported before anything is live.
        let refused = bed.deploy(&[&STORE.replace("office:", "offise:")]).await;
        assert!(refused.status == 422 && refused.body.contains("unknown-place"), "{refused:?}");
        let left: Vec<_> = std::fs::read_dir(bed.service.app.effects.files.bounds.spool.clone())
            .expect("the spool")
            .flatten()
            .filter(|found| found.path().is_dir())
            .flat_map(|found| std::fs::read_dir(found.path()).expect("a folder").flatten())
            .collect();
        assert!(left.is_empty(), "{left:?}");
    });
    let _ = std::fs::remove_dir_all(&folder);
}
