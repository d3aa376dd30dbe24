//! The public listener: messages that two readers could cut differently, and paths that lead elsewhere.

use std::io::{Read, Write};
use std::net::{TcpListener, TcpStream};

use super::raw::{Back, read, request, send};
use super::{Report, Target};

/// What must not come back: another request's answer, or something of the service's own.
const LEAKS: &[&str] = &["SMUGGLED", "\"csrf\"", "kzo_", "root:x:0", "<html", "panicked", "src/"];

/// Messages with a second request inside, or around them. Each must be refused, or read as one request.
fn smuggling() -> Vec<(&'static str, Vec<u8>)> {
    let inner = "GET /attack/smuggled HTTP/1.1\r\nHost: office\r\n\r\n";
    let with = |headers: &str, body: &str| {
        format!("POST /attack/echo HTTP/1.1\r\nHost: office\r\nContent-Type: application/json\r\n{headers}\r\n{body}")
            .into_bytes()
    };
    let length = |n: usize| format!("Content-Length: {n}\r\n");
    let chunked = "Transfer-Encoding: chunked\r\n";
    let zero = format!("0\r\n\r\n{inner}");
    vec![
        ("length and chunks", with(&format!("{}{chunked}", length(zero.len())), &zero)),
        ("chunks and length", with(&format!("{chunked}{}", length(4)), &zero)),
        ("two lengths", with(&format!("{}{}", length(2), length(inner.len())), &format!("{{}}{inner}"))),
        ("two lengths in one field", with("Content-Length: 2, 60\r\n", &format!("{{}}{inner}"))),
        ("the same length twice", with("Content-Length: 2, 2\r\n", &format!("{{}}{inner}"))),
        ("length with a sign", with("Content-Length: +2\r\n", &format!("{{}}{inner}"))),
        ("negative length", with("Content-Length: -2\r\n", inner)),
        ("hexadecimal length", with("Content-Length: 0x2\r\n", &format!("{{}}{inner}"))),
        ("length with letters", with("Content-Length: 2abc\r\n", &format!("{{}}{inner}"))),
        ("length with a space inside", with("Content-Length: 2 0\r\n", &format!("{{}}{inner}"))),
        ("length beyond 64 bits", with("Content-Length: 18446744073709551618\r\n", &format!("{{}}{inner}"))),
        ("empty length", with("Content-Length: \r\n", inner)),
        ("space before the colon of a length", with("Content-Length : 2\r\n", &format!("{{}}{inner}"))),
        ("tab before the colon of a coding", with("Transfer-Encoding\t: chunked\r\n", &zero)),
        ("unknown coding", with("Transfer-Encoding: xchunked\r\n", &zero)),
        ("chunked and another coding", with("Transfer-Encoding: chunked, identity\r\n", &zero)),
        ("gzip and chunked", with("Transfer-Encoding: gzip, chunked\r\n", &zero)),
        ("chunked twice", with(&format!("{chunked}{chunked}"), &format!("2\r\n{{}}\r\n{zero}"))),
        ("two codings in two fields", with(&format!("{chunked}Transfer-Encoding: x\r\n"), &zero)),
        ("coding in quotes", with("Transfer-Encoding: \"chunked\"\r\n", &zero)),
        ("vertical tab in a coding", with("Transfer-Encoding: \x0bchunked\r\n", &zero)),
        ("folded coding", with("Transfer-Encoding:\r\n chunked\r\n", &zero)),
        ("folded length", with("Content-Length:\r\n 2\r\n", &format!("{{}}{inner}"))),
        ("length behind a carriage return", with("X: y\rContent-Length: 2\r\n", &format!("{{}}{inner}"))),
        ("NUL in a field", with("X: a\0b\r\nContent-Length: 2\r\n", &format!("{{}}{inner}"))),
        ("chunk size beyond 64 bits", with(chunked, &format!("fffffffffffffffff\r\n{inner}"))),
        ("negative chunk size", with(chunked, &format!("-1\r\n{inner}"))),
        ("chunk size with a prefix", with(chunked, &format!("0x2\r\n{{}}\r\n{zero}"))),
        ("chunk size with letters", with(chunked, &format!("2z\r\n{{}}\r\n{zero}"))),
        ("chunk longer than its size", with(chunked, &format!("2\r\n{{}}xx\r\n{zero}"))),
        ("chunk without a line end", with(chunked, &format!("2\r\n{{}}{zero}"))),
        ("line feed in a chunk extension", with(chunked, &format!("2;a\nb\r\n{{}}\r\n{zero}"))),
        ("HTTP/1.0 with chunks", format!("POST /attack/echo HTTP/1.0\r\n{chunked}\r\n{zero}").into_bytes()),
        (
            "GET with a body of a request",
            format!("GET /attack/get HTTP/1.1\r\nHost: office\r\n{}\r\n{inner}", length(inner.len())).into_bytes(),
        ),
        ("request line in a header", with(&format!("X: y\r\n {inner}\r\n"), "")),
        (
            "request in the target",
            format!("GET /attack/get\r\n\r\n{inner} HTTP/1.1\r\n\r\n").replace("\r\n\r\nGET", "%0d%0aGET").into_bytes(),
        ),
        ("body behind Expect", with(&format!("Expect: 100-continue\r\n{}", length(inner.len())), inner)),
        (
            "upgrade to h2c",
            with(
                &format!(
                    "Connection: Upgrade, HTTP2-Settings\r\nUpgrade: h2c\r\nHTTP2-Settings: AAMAAABkAAQAAP__\r\n{}",
                    length(inner.len())
                ),
                inner,
            ),
        ),
    ]
}

/// Messages that are no requests of HTTP/1.1.
fn malformed() -> Vec<(&'static str, Vec<u8>)> {
    let get = |rest: &str| format!("GET /attack/get HTTP/1.1\r\n{rest}\r\n").into_bytes();
    vec![
        ("no Host", get("")),
        ("two Hosts", get("Host: a\r\nHost: b\r\n")),
        ("header without a colon", get("Host: a\r\nnonsense\r\n")),
        ("empty header name", get("Host: a\r\n: x\r\n")),
        ("space in a header name", get("Host: a\r\nX Y: z\r\n")),
        ("non-ASCII header name", get("Host: a\r\nXé: z\r\n")),
        ("header line before the others is folded", b"GET /attack/get HTTP/1.1\r\n X: y\r\nHost: a\r\n\r\n".to_vec()),
        ("head of 1 MiB", get(&format!("Host: a\r\nX: {}\r\n", "x".repeat(1 << 20)))),
        ("5,000 headers", get(&format!("Host: a\r\n{}", "X: y\r\n".repeat(5_000)))),
        ("target of 256 KiB", format!("GET /{} HTTP/1.1\r\nHost: a\r\n\r\n", "a".repeat(256 << 10)).into_bytes()),
        ("version 9.9", b"GET /attack/get HTTP/9.9\r\nHost: a\r\n\r\n".to_vec()),
        ("version 0.9", b"GET /attack/get\r\n\r\n".to_vec()),
        ("method of 10 KiB", format!("{} /attack/get HTTP/1.1\r\nHost: a\r\n\r\n", "M".repeat(10 << 10)).into_bytes()),
        ("lower-case method", b"get /attack/get HTTP/1.1\r\nHost: a\r\n\r\n".to_vec()),
        ("CONNECT", b"CONNECT 127.0.0.1:22 HTTP/1.1\r\nHost: 127.0.0.1:22\r\n\r\n".to_vec()),
        ("TRACE", b"TRACE /attack/get HTTP/1.1\r\nHost: a\r\nX-Secret: s\r\n\r\n".to_vec()),
        ("target of another host", b"GET http://evil.example/attack/none HTTP/1.1\r\nHost: a\r\n\r\n".to_vec()),
        ("no target", b"GET  HTTP/1.1\r\nHost: a\r\n\r\n".to_vec()),
        ("target with a space", b"GET /attack/ get HTTP/1.1\r\nHost: a\r\n\r\n".to_vec()),
        ("bytes that are no text", b"\xff\xfe\xfd\r\n\r\n".to_vec()),
        ("a TLS greeting", b"\x16\x03\x01\x02\x00\x01\x00\x01\xfc\x03\x03".to_vec()),
        (
            "the preface of HTTP/2 and nonsense",
            b"PRI * HTTP/2.0\r\n\r\nSM\r\n\r\n\xff\xff\xff\xff\xff\xff\xff\xff\xff".to_vec(),
        ),
        ("another protocol", b"EHLO office\r\nQUIT\r\n".to_vec()),
    ]
}

/// Targets that lead to something of the service's own, or out of a folder.
const PATHS: &[&str] = &[
    "/../",
    "/..",
    "//",
    "///attack/get",
    "/./attack/get/.",
    "/attack/../~/jobs",
    "/attack/%2e%2e/%7e/health/x",
    "/%2e%2e/%2e%2e/etc/passwd",
    "/attack/path/..%2f..%2f..%2fetc%2fpasswd",
    "/attack/path/%00",
    "/attack/path/a%00b",
    "/attack/path/%c0%ae%c0%ae%c0%af",
    "/attack/path/%ff",
    "/attack/path/%",
    "/attack/path/%zz",
    "/attack/path/%u002e",
    "/attack\\get",
    "/attack/get;jsessionid=1",
    "/attack/get%20",
    "/attack/get/",
    "/ATTACK/GET",
    "/attack/get%23x",
    "/~",
    "/~/",
    "/~/../api/v1/status",
    "/~/%2e%2e/api/v1/operators",
    "/~/jobs",
    "/~/jobs/",
    "/~/jobs/../health/x",
    "/~/jobs/00000000-0000-0000-0000-000000000000",
    "/~/jobs/%00",
    "/~/jobs/1%27%20OR%20%271%27=%271",
    "/~/callbacks/",
    "/~/callbacks/a",
    "/~/callbacks/%27;DROP%20TABLE%20job;--",
    "/~/nothing",
    "/api/v1/status",
    "/api/v1/operators",
    "/index.html",
    "/.git/config",
    "/.env",
    "/metrics",
    "/attack/path/",
    "/attack/path/a/b",
    "/?a=%00",
];

/// Runs all attacks of this area.
pub fn run(target: &Target, report: &mut Report) {
    for (name, bytes) in smuggling() {
        let back = send(target.public, &bytes);
        let one = back.statuses().len() <= 1 || back.statuses()[1..].iter().all(|status| *status == 400);
        let safe = !back.text.contains("SMUGGLED") && one;
        report.holds("smuggling", name, safe, &back);
    }
    // RFC 9112, section 2.2 permits a bare line feed as a line end, and the service reads it so. A proxy in front that
    // keeps to CR LF refuses such a message; whatever else it forwards, the service must answer as often as it was asked.
    let mut all = smuggling();
    let lf = "GET /attack/smuggled HTTP/1.1\nHost: office\n\n";
    let head = "POST /attack/echo HTTP/1.1\r\nHost: office\r\n";
    all.push((
        "bare line feeds",
        format!("{}Content-Length: {}\n\n{lf}", head.replace('\r', ""), lf.len()).into_bytes(),
    ));
    all.push(("length behind a line feed", format!("{head}X: y\nContent-Length: 2\r\n\r\n{{}}{lf}").into_bytes()));
    all.push(("end of the head by line feeds", format!("{head}X: y\n\n{lf}").into_bytes()));
    for (name, bytes) in all {
        match through_proxy(target, &bytes) {
            Some((asked, back)) => {
                let safe = back.statuses().len() <= asked;
                report.holds("smuggling", format!("behind a proxy: {name}"), safe, &back);
            }
            None => report.record("smuggling", format!("behind a proxy: {name}"), Err("no connection".into())),
        }
    }
    for (name, bytes) in malformed() {
        let back = send(target.public, &bytes);
        let refused = back.statuses().iter().all(|status| (400..600).contains(status) && *status != 500);
        let safe = refused && !LEAKS.iter().any(|leak| back.text.contains(leak));
        report.holds("malformed", name, safe, &back);
    }
    for path in PATHS {
        let back = send(target.public, &request(&format!("GET {path}"), "Connection: close\r\n", b""));
        let found = back.status() == 200 && !back.body().starts_with("{\"p\":") && !back.body().starts_with("{\"n\":");
        let safe = !found && back.status() != 500 && !LEAKS.iter().any(|leak| back.text.contains(leak));
        report.holds("paths", *path, safe, &back);
    }
    for (method, path) in [
        ("DELETE", "/attack/get"),
        ("PUT", "/attack/echo"),
        ("PATCH", "/~/health"),
        ("POST", "/~/openapi.json"),
        ("POST", "/~/jobs/00000000-0000-0000-0000-000000000000"),
        ("PROPFIND", "/attack/get"),
        ("DELETE", "/~/health"),
        ("GET", "/~/callbacks/x"),
    ] {
        let back = send(target.public, &request(&format!("{method} {path}"), "Connection: close\r\n", b""));
        report.holds("methods", format!("{method} {path}"), matches!(back.status(), 404 | 405 | 501), &back);
    }
    report.holds("smuggling", "ordinary requests are served afterwards", target.serves(), "not served");
}

/// Sends a message through a proxy that keeps to RFC 9112 by the letter, and reuses its connection to the service.
/// Returns how many requests it forwarded, and what came back for them.
fn through_proxy(target: &Target, bytes: &[u8]) -> Option<(usize, Back)> {
    let listener = TcpListener::bind("127.0.0.1:0").ok()?;
    let port = listener.local_addr().ok()?.port();
    let service = target.public;
    let proxy = std::thread::spawn(move || {
        let (mut client, _) = listener.accept().ok()?;
        client.set_read_timeout(Some(std::time::Duration::from_millis(100))).ok()?;
        let (mut all, mut part) = (Vec::new(), [0; 4096]);
        while let Ok(count) = client.read(&mut part) {
            all.extend_from_slice(&part[..count]);
            if count == 0 {
                break;
            }
        }
        let mut upstream = TcpStream::connect(("127.0.0.1", service)).ok()?;
        let mut asked = 0;
        let mut rest = &all[..];
        while let Some(length) = strict_length(rest) {
            upstream.write_all(&rest[..length]).ok()?;
            rest = &rest[length..];
            asked += 1;
        }
        let mut back = Back { text: String::new(), closed: false };
        if asked > 0 {
            read(&mut upstream, &mut back);
        }
        Some((asked, back))
    });
    TcpStream::connect(("127.0.0.1", port)).ok()?.write_all(bytes).ok()?;
    proxy.join().ok()?
}

/// The length of the first request, by CR LF and `Content-Length` alone; nothing for what a strict proxy refuses.
fn strict_length(bytes: &[u8]) -> Option<usize> {
    let end = bytes.windows(4).position(|four| four == b"\r\n\r\n")? + 4;
    let head = std::str::from_utf8(&bytes[..end]).ok()?;
    let lines: Vec<&str> = head.trim_end().split("\r\n").collect();
    let bad = |line: &&str| line.contains(['\r', '\n', '\0', '\x0b']) || line.starts_with([' ', '\t']);
    if lines.iter().any(bad) {
        return None;
    }
    let mut length = 0;
    for line in &lines[1..] {
        let (name, value) = line.split_once(':')?;
        if name.is_empty() || name.contains([' ', '\t']) || name.eq_ignore_ascii_case("transfer-encoding") {
            return None;
        }
        if name.eq_ignore_ascii_case("content-length") {
            let value = value.trim();
            let digits = !value.is_empty() && value.bytes().all(|b| b.is_ascii_digit());
            length = value.parse::<usize>().ok().filter(|_| digits && length == 0)?;
        }
    }
    (bytes.len() >= end + length).then_some(end + length)
}
