//! Files: archives that are bombs or lead elsewhere, rows without an end, names and paths, bytes that are two things at once, pages that fetch.

use std::io::{Cursor, Read, Write};
use std::net::TcpListener;

use zip::write::SimpleFileOptions;
use zip::{CompressionMethod, ZipWriter};

use super::raw::{Back, request, send};
use super::{Report, Target};

/// Memory that the service may have gained at most when all is over, in MiB; a body of these attacks has 100 MB.
const MOST_GAINED: u64 = 150;
/// Bytes of a row that has no end.
const ENDLESS: usize = 100 << 20;

/// What bounds the files of a request while it is attacked.
pub const SETTING: &str = "files.request=134217728";

/// What is attacked.
pub const WORKFLOWS: &[(&str, &str)] = &[
    (
        "file.yaml",
        "workflow: attack-file\ninput: {f: {type: file, max: 200 MiB}}\nentries: [{endpoint: PUT /attack/file, access: open}]\nsteps:\n  - {reply: 200, body: \"${input.f}\"}\n",
    ),
    (
        "unzip.yaml",
        "workflow: attack-unzip\ninput: {f: {type: file, max: 200 MiB}}\nentries: [{endpoint: PUT /attack/unzip, access: open}]\nsteps:\n  - {id: all, file: unzip, of: \"${input.f}\"}\n  - {reply: 200, body: {count: \"${all.length}\"}}\n",
    ),
    (
        "store.yaml",
        "workflow: attack-store\ninput: {p: {type: string}, f: {type: file}}\nentries: [{endpoint: POST /attack/store, access: open}]\nsteps:\n  - {file: store, of: \"${input.f}\", to: {archive: \"${input.p}\"}}\n  - {reply: 201}\n",
    ),
    (
        "fetch.yaml",
        "workflow: attack-fetch\ninput: {p: {type: string}}\nentries: [{endpoint: GET /attack/fetch, access: open}]\nsteps:\n  - {id: got, file: fetch, from: {archive: \"${input.p}\"}}\n  - {reply: 200, body: \"${got}\"}\n",
    ),
    (
        "page.yaml",
        "workflow: attack-page\ninput: {html: {type: string}}\nentries: [{endpoint: POST /attack/page, access: open}]\nsteps:\n  - {id: page, render: pdf, template: any.html, with: {markup: \"${input.html}\"}, pages: 20, within: 10s}\n  - {reply: 200, body: \"${page}\"}\n",
    ),
    ("any.html", "{{ markup | safe }}"),
    (
        "csv.yaml",
        "workflow: attack-csv\ninput: {f: {type: file, max: 200 MiB}}\nentries: [{endpoint: PUT /attack/csv, access: open}]\nsteps:\n  - {id: rows, file: read, of: \"${input.f}\", format: csv}\n  - {reply: 200, body: \"${rows}\"}\n",
    ),
];

/// The workflow that reads rows of a format; it stands for all but CSV, which is written out above.
fn rows_of(format: &str) -> String {
    WORKFLOWS.iter().find(|(path, _)| *path == "csv.yaml").map_or("", |(_, text)| text).replace("csv", format)
}

/// All documents of this area.
pub fn documents() -> Vec<(String, String)> {
    let others = ["json", "ndjson", "text", "xml", "yaml"].map(|format| (format!("{format}.yaml"), rows_of(format)));
    WORKFLOWS.iter().map(|(path, text)| ((*path).to_owned(), (*text).to_owned())).chain(others).collect()
}

fn put(target: &Target, path: &str, media: &str, body: &[u8]) -> Back {
    let headers = format!("Content-Type: {media}\r\nConnection: close\r\n");
    send(target.public, &request(&format!("PUT {path}"), &headers, body))
}

fn archive(fill: impl FnOnce(&mut ZipWriter<Cursor<Vec<u8>>>) -> zip::result::ZipResult<()>) -> Vec<u8> {
    let mut archive = ZipWriter::new(Cursor::new(Vec::new()));
    fill(&mut archive).and_then(|()| archive.finish()).map(Cursor::into_inner).expect("an archive")
}

fn packed() -> SimpleFileOptions {
    SimpleFileOptions::default().compression_method(CompressionMethod::Deflated)
}

/// An archive of one entry of this name, written into it afterwards where the writer would correct it.
fn named(name: &str) -> Vec<u8> {
    let stand_in = "x".repeat(name.len());
    let mut bytes = archive(|archive| {
        archive.start_file(stand_in.as_str(), packed())?;
        Ok(archive.write_all(b"words")?)
    });
    let found = |bytes: &[u8]| bytes.windows(name.len()).position(|part| part == stand_in.as_bytes());
    while let Some(at) = found(&bytes) {
        bytes[at..at + name.len()].copy_from_slice(name.as_bytes());
    }
    bytes
}

fn archives(target: &Target, report: &mut Report) {
    let zeros = |archive: &mut ZipWriter<_>, name: &str, size: u64| {
        archive.start_file(name, packed())?;
        std::io::copy(&mut std::io::repeat(0).take(size), archive)?;
        zip::result::ZipResult::Ok(())
    };
    let copied = |archive: &mut ZipWriter<_>, count: usize| {
        zeros(archive, "0", 1 << 20)?;
        (1..count).try_for_each(|n| archive.deep_copy_file("0", &n.to_string()))
    };
    let mut cut = named("whole.txt");
    cut.truncate(cut.len() - 10);
    // The directory claims fewer bytes than there are.
    let mut claims = archive(|archive| zeros(archive, "claims", 8 << 20));
    let size = (8u32 << 20).to_le_bytes();
    while let Some(at) = claims.windows(4).position(|part| part == size) {
        claims[at..at + 4].copy_from_slice(&10u32.to_le_bytes());
    }
    let many =
        |count: usize| archive(|archive| (0..count).try_for_each(|n| archive.start_file(n.to_string(), packed())));
    for (name, bytes, wanted) in [
        ("an archive as it should be", named("crew/list.csv"), &[200][..]),
        ("9,000 entries", many(9_000), &[200]),
        ("100,000 entries", many(100_000), &[422]),
        ("an entry of 32 MiB of zeros", archive(|archive| zeros(archive, "bomb", 32 << 20)), &[422]),
        ("200 entries of 1 MiB of zeros", archive(|archive| copied(archive, 200)), &[422]),
        ("an entry that has more bytes than it claims", claims, &[422]),
        ("a link", archive(|archive| archive.add_symlink("link", "/etc/passwd", packed())), &[422, 500]),
        ("a cut one", cut, &[422]),
        ("no archive", b"words".to_vec(), &[422]),
        ("nothing", Vec::new(), &[422]),
        ("`../` before a name", named("../../../tmp/evil"), &[422, 500]),
        ("`/` before a name", named("/etc/kanzlei-evil"), &[422, 500]),
        ("`..` in the middle", named("a/../../evil"), &[422, 500]),
        ("backslashes", named("..\\..\\evil"), &[422, 500]),
        ("a drive", named("C:evil"), &[422, 500]),
        ("NUL in a name", named("a\0.txt"), &[422, 500]),
        ("a line end in a name", named("a\r\nX-Evil: 1"), &[422, 500]),
        ("no name", named(" "), &[200, 422, 500]),
    ] {
        let back = put(target, "/attack/unzip", "application/zip", &bytes);
        report.holds("archives", name, wanted.contains(&back.status()), &back);
    }
}

fn rows(target: &Target, report: &mut Report) {
    let laughs = |first: &str, line: &dyn Fn(u32) -> String, last: &str| {
        (1..10).fold(first.to_owned(), |text, n| text + &line(n)) + last
    };
    let entities = laughs(
        "<!DOCTYPE a [<!ENTITY e0 \"ha\">",
        &|n| format!("<!ENTITY e{n} \"{}\">", format!("&e{};", n - 1).repeat(10)),
        "]><a><b>&e9;</b></a>",
    );
    let aliases =
        laughs("a0: &a0 [ha]\n", &|n| format!("a{n}: &a{n} [{}]\n", vec![format!("*a{}", n - 1); 10].join(", ")), "");
    let faulty: &[u16] = &[413, 422];
    for (format, name, body, wanted) in [
        ("csv", "rows as they should be", b"a,b\n1,2\n".to_vec(), &[200][..]),
        ("csv", "a line of 100 MB", vec![b'x'; ENDLESS], faulty),
        ("csv", "a quote without an end", [&b"a\n\""[..], &vec![b'\n'; ENDLESS]].concat(), faulty),
        ("csv", "1,000,000 columns", ",".repeat(1_000_000).into_bytes(), faulty),
        ("csv", "invalid UTF-8", b"a,b\n\xff\xfe\xfd,\xc3\x28\n".to_vec(), faulty),
        ("csv", "half of UTF-16", b"\xff\xfea\0,\0b\0\n\0\x00\xd8".to_vec(), &[200, 422, 500]),
        ("csv", "NUL", b"a,b\n\0,\0\n".to_vec(), &[200, 422, 500]),
        ("ndjson", "a line of 100 MB", [&b"\""[..], &vec![b'x'; ENDLESS]].concat(), faulty),
        ("ndjson", "nesting of 100,000", "[".repeat(100_000).into_bytes(), faulty),
        ("ndjson", "duplicate members", b"{\"a\":1,\"a\":2}\n".to_vec(), &[200, 422, 500]),
        ("json", "a text of 100 MB", [&b"[\""[..], &vec![b'x'; ENDLESS]].concat(), faulty),
        ("json", "a list without an end", [&b"["[..], &b"1,".repeat(100)].concat(), faulty),
        ("json", "nesting of 100,000", "[".repeat(100_000).into_bytes(), faulty),
        ("text", "a line of 100 MB", vec![b'x'; ENDLESS], faulty),
        ("xml", "entities within entities", entities.into_bytes(), faulty),
        (
            "xml",
            "an entity of the file system",
            b"<!DOCTYPE a [<!ENTITY x SYSTEM \"file:///etc/passwd\">]><a><b>&x;</b></a>".to_vec(),
            faulty,
        ),
        ("xml", "nesting of 100,000", format!("<a>{}", "<b>".repeat(100_000)).into_bytes(), faulty),
        (
            "xml",
            "100,000 attributes",
            {
                let all: String = (0..100_000).map(|n| format!(" a{n}='1'")).collect();
                format!("<a><b{all}/></a>").into_bytes()
            },
            faulty,
        ),
        ("xml", "an element of 100 MB", [&b"<a><b>"[..], &vec![b'x'; ENDLESS]].concat(), faulty),
        ("yaml", "aliases of aliases", aliases.into_bytes(), faulty),
        ("yaml", "a tag", b"- !!python/object/apply:os.system [id]\n".to_vec(), &[200, 422, 500]),
        ("yaml", "nesting of 100,000", "[".repeat(100_000).into_bytes(), faulty),
    ] {
        let back = put(target, &format!("/attack/{format}"), "text/plain", &body);
        let safe = wanted.contains(&back.status()) && !back.text.contains("root:x:0");
        report.holds("rows", format!("{format}: {name}"), safe, &back);
    }
}

/// A form with a path and a file.
fn form(target: &Target, path: &str, disposition: &str) -> Back {
    let body = format!(
        "--cut\r\nContent-Disposition: form-data; name=\"p\"\r\n\r\n{path}\r\n--cut\r\nContent-Disposition: form-data; {disposition}\r\n\r\nwords\r\n--cut--\r\n"
    );
    let headers = "Content-Type: multipart/form-data; boundary=cut\r\nConnection: close\r\n";
    send(target.public, &request("POST /attack/store", headers, body.as_bytes()))
}

fn paths(target: &Target, report: &mut Report) {
    let plain = "name=\"f\"; filename=\"a.txt\"";
    for path in ["../evil", "/etc/kanzlei-evil", "a/../../evil", "a//b", ".", "a\\..\\evil", "a\0b", "x#1", "", "a/"] {
        let back = form(target, path, plain);
        report.holds("paths", format!("store at {path:?}"), back.status() >= 400, &back);
        let query: String = path.bytes().map(|byte| format!("%{byte:02x}")).collect();
        let line = format!("GET /attack/fetch?p={query}");
        let back = send(target.public, &request(&line, "Connection: close\r\n", b""));
        let safe = back.status() >= 400 && !back.text.contains("root:x:0");
        report.holds("paths", format!("fetch from {path:?}"), safe, &back);
    }
    for (name, disposition) in [
        ("a name with a path", "name=\"f\"; filename=\"../../evil\""),
        ("a name of 100,000 bytes", &format!("name=\"f\"; filename=\"{}\"", "x".repeat(100_000))),
        ("a name with a quote", "name=\"f\"; filename=\"a\\\"; x=\\\"b\""),
        ("no name of the part", "filename=\"a\""),
        ("another part", "name=\"g\"; filename=\"a\""),
    ] {
        let back = form(target, "forms/one.txt", disposition);
        report.holds("paths", name, (200..500).contains(&back.status()), &back);
    }
    let parts = "--cut\r\nContent-Disposition: form-data; name=\"p\"\r\n\r\nx\r\n".repeat(10_000);
    let headers = "Content-Type: multipart/form-data; boundary=cut\r\nConnection: close\r\n";
    let back = send(target.public, &request("POST /attack/store", headers, format!("{parts}--cut--\r\n").as_bytes()));
    report.holds("paths", "a form of 10,000 parts", (400..500).contains(&back.status()), &back);
    let folder = target.log.with_file_name("places");
    let evil = std::fs::read_dir(&folder)
        .into_iter()
        .flatten()
        .flatten()
        .any(|entry| entry.file_name().to_string_lossy().contains("evil"));
    report.holds("paths", "nothing is stored beside the places", !evil, folder);
}

fn media(target: &Target, report: &mut Report) {
    let pdf_and_page = b"%PDF-1.7\n<script>alert(1)</script>";
    let gif_and_script = b"GIF89a/*\x00\x00*/=1;alert(1)//";
    for (name, media, body) in [
        ("a page", "text/html", &b"<script>alert(1)</script>"[..]),
        ("a drawing with a script", "image/svg+xml", b"<svg xmlns='http://www.w3.org/2000/svg' onload='alert(1)'/>"),
        ("a page that claims to be an image", "image/png", b"<html><script>alert(1)</script>"),
        ("a PDF that is a page", "application/pdf", pdf_and_page),
        ("an image that is a script", "image/gif", gif_and_script),
        ("a media type with a line end", "text/html;\tx=\"a", b"x"),
    ] {
        let back = put(target, "/attack/file", media, body);
        let head = back.head().to_ascii_lowercase();
        // A browser keeps it as a file and reads it as nothing else.
        let safe = back.status() >= 400
            || head.contains("content-disposition: attachment") && head.contains("x-content-type-options: nosniff");
        report.holds("media types", name, safe, &back);
    }
    let digest = "Content-Type: text/plain\r\nContent-Digest: sha-256=:AAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA=:\r\nConnection: close\r\n";
    let back = send(target.public, &request("PUT /attack/file", digest, b"words"));
    report.holds("media types", "another digest than it says", (400..500).contains(&back.status()), &back);
}

fn pages(target: &Target, report: &mut Report) {
    let listener = TcpListener::bind("127.0.0.1:0").expect("a listener");
    listener.set_nonblocking(true).expect("a listener");
    let port = listener.local_addr().expect("an address").port();
    let here = format!("http://127.0.0.1:{port}");
    let deep = format!("{}x", "<div>".repeat(5_000));
    for (name, html, wanted) in [
        ("a page as it should be", "<p>words</p>".to_owned(), &[200][..]),
        ("an image of the network", format!("<img src='{here}/a.png'>"), &[422, 500, 502]),
        ("a style of the network", format!("<link rel=stylesheet href='{here}/a.css'>"), &[422, 500, 502]),
        (
            "a style within a style",
            format!("<style>@import '{here}/a.css'; p {{ background: url({here}/b) }}</style><p>x"),
            &[422, 500, 502],
        ),
        (
            "a font of the network",
            format!("<style>@font-face {{ font-family: f; src: url({here}/f) }} p {{ font-family: f }}</style><p>x"),
            &[200, 422, 500, 502],
        ),
        ("a base", format!("<base href='{here}/'><img src='a.png'>"), &[422, 500, 502]),
        ("a file of the machine", "<img src='file:///etc/passwd'><p>x".to_owned(), &[422, 500, 502]),
        (
            "an attachment of the machine",
            "<link rel=attachment href='file:///etc/passwd'>x".to_owned(),
            &[422, 500, 502],
        ),
        (
            "a frame",
            format!("<iframe src='{here}/'></iframe><object data='{here}/'></object><embed src='{here}/'>x"),
            &[200, 422, 500, 502],
        ),
        (
            "a drawing of the network",
            format!("<svg><image href='{here}/a' width=9 height=9 /><use href='{here}/b#c'/></svg>"),
            &[200, 422, 500, 502],
        ),
        ("a script", format!("<script>fetch('{here}/')</script>x"), &[200]),
        ("5,000 boxes in boxes", deep, &[200, 413, 422, 500, 502, 504]),
        ("1,000 pages", "<p style='page-break-after: always'>x".repeat(1_000), &[413, 422, 500, 502, 504]),
        (
            "a box of a billion pixels",
            "<div style='width:1e9px;height:1e9px;background:red'>x</div>".to_owned(),
            &[200, 413, 422, 500, 502, 504],
        ),
    ] {
        let body = serde_json::json!({"html": html}).to_string();
        let headers = "Content-Type: application/json\r\nConnection: close\r\n";
        let mut stream = std::net::TcpStream::connect(("127.0.0.1", target.public)).expect("a connection");
        stream.set_read_timeout(Some(std::time::Duration::from_secs(20))).expect("a time");
        stream.write_all(&request("POST /attack/page", headers, body.as_bytes())).expect("sent");
        let mut bytes = Vec::new();
        let _ = stream.read_to_end(&mut bytes);
        let back = Back { text: String::from_utf8_lossy(&bytes).into_owned(), closed: true };
        let safe = wanted.contains(&back.status()) && !back.text.contains("root:x:0");
        report.holds("pages", name, safe, (back.status(), back.text.chars().take(600).collect::<String>()));
        report.holds("pages", format!("{name}: nothing is fetched"), listener.accept().is_err(), port);
    }
}

/// Memory of a process, in MiB.
fn memory(process: u32) -> u64 {
    let status = std::fs::read_to_string(format!("/proc/{process}/status")).unwrap_or_default();
    let line = status.lines().find_map(|line| line.strip_prefix("VmRSS:"));
    line.and_then(|line| line.split_whitespace().next()?.parse::<u64>().ok()).unwrap_or_default() / 1024
}

/// Runs all attacks of this area.
pub fn run(target: &Target, report: &mut Report) {
    let before = memory(target.process);
    archives(target, report);
    rows(target, report);
    paths(target, report);
    media(target, report);
    pages(target, report);
    let gained = memory(target.process).saturating_sub(before);
    report.holds("files", "memory stays bounded", before > 0 && gained < MOST_GAINED, gained);
    let spool = target.log.with_file_name("files").join("spool");
    let left = || crate::files_below(&spool);
    let empty = kanzlei_harness::wait::until(std::time::Duration::from_secs(10), || left().is_empty().then_some(()));
    report.holds("files", "nothing is left in the spool", empty.is_some(), left());
    report.holds("files", "others are served", target.serves(), "no");
}
