//! Bodies and headers of requests: what they are taken for, and what comes back of them.

use super::raw::{request, send};
use super::{Report, Target};

fn json(target: &Target, path: &str, headers: &str, body: &[u8]) -> super::raw::Back {
    let headers = format!("Content-Type: application/json\r\nConnection: close\r\n{headers}");
    send(target.public, &request(&format!("POST {path}"), &headers, body))
}

/// Runs all attacks of this area.
pub fn run(target: &Target, report: &mut Report) {
    let nested = |n: usize| format!("{{\"any\":{}{}}}", "[".repeat(n), "]".repeat(n)).into_bytes();
    let long = |n: usize| format!("{{\"text\":\"{}\"}}", "x".repeat(n)).into_bytes();
    for (name, body, wanted) in [
        ("nesting of 100,000", nested(100_000), vec![400, 422]),
        ("nesting of 10,000", nested(10_000), vec![400, 422]),
        ("16 MiB", long(16 << 20), vec![413]),
        ("duplicate members", br#"{"any":1,"any":2}"#.to_vec(), vec![200, 400]),
        ("invalid UTF-8", b"{\"text\":\"\xff\"}".to_vec(), vec![400]),
        ("lone surrogate", br#"{"text":"\ud800"}"#.to_vec(), vec![400]),
        ("NaN", b"{\"any\":NaN}".to_vec(), vec![400]),
        ("number of 100,000 digits", format!("{{\"any\":{}}}", "1".repeat(100_000)).into_bytes(), vec![200, 400, 422]),
        ("exponent", br#"{"any":1e999999999}"#.to_vec(), vec![200, 400, 422]),
        ("text behind the end", b"{} {}".to_vec(), vec![400]),
        ("byte order mark", b"\xef\xbb\xbf{}".to_vec(), vec![400]),
        ("comment", b"{/* */}".to_vec(), vec![400]),
        ("a list where an object is due", b"[1]".to_vec(), vec![400, 422]),
        ("unknown member", br#"{"isAdmin":true}"#.to_vec(), vec![200, 422]),
        ("prototype", br#"{"__proto__":{"text":"polluted"},"constructor":1}"#.to_vec(), vec![200, 422]),
        (
            "100,000 members",
            format!("{{\"any\":{{{}\"z\":1}}}}", (0..100_000).map(|n| format!("\"k{n}\":1,")).collect::<String>())
                .into_bytes(),
            vec![200, 413, 422],
        ),
    ] {
        let back = json(target, "/attack/echo", "", &body);
        let safe = wanted.contains(&back.status()) && !back.text.contains("polluted");
        report.holds("bodies", name, safe, (back.status(), back.body().chars().take(200).collect::<String>()));
    }
    // What a client sends is data, never a file, markup or another header.
    for (name, body) in [
        (
            "JSON that looks like a file",
            r#"{"any":{"media":"text/html","base64":"PHNjcmlwdD5hbGVydCgxKTwvc2NyaXB0Pg=="}}"#,
        ),
        ("the same with a name", r#"{"any":{"media":"text/html","base64":"PGI+","name":"a\"\r\nX-Evil: 1"}}"#),
        ("a list of them", r#"{"any":[{"media":"text/html","base64":"PGI+"}]}"#),
        ("markup", r#"{"any":{"a":"<script>alert(1)</script>"}}"#),
    ] {
        let back = json(target, "/attack/echo", "", body.as_bytes());
        let head = back.head().to_ascii_lowercase();
        let safe = back.status() == 200
            && head.contains("content-type: application/json")
            && head.contains("x-content-type-options: nosniff")
            && !head.contains("x-evil")
            && !head.contains("content-disposition");
        report.holds("bodies", name, safe, &back);
    }
    for (name, text) in [
        ("CR LF", "a\\r\\nSet-Cookie: evil=1"),
        ("LF", "a\\nX-Evil: 1"),
        ("CR", "a\\rX-Evil: 1"),
        ("NUL", "a\\u0000b"),
        ("unit separator", "a\\u001fb"),
        ("next line", "a\\u0085X-Evil: 1"),
        ("line separator", "a\\u2028X-Evil: 1"),
        ("two line ends and a body", "a\\r\\n\\r\\n<script>"),
    ] {
        let back = json(target, "/attack/header", "", format!("{{\"text\":\"{text}\"}}").as_bytes());
        let head = back.head().to_ascii_lowercase();
        let safe =
            !head.contains("\r\nset-cookie") && !head.contains("\r\nx-evil") && !back.body().contains("<script>");
        report.holds("headers", format!("reply with {name}"), safe, &back);
    }
    let back = send(
        target.public,
        &request("GET /attack/cookie", "Cookie: a=1; kanzlei_session=s\r\nConnection: close\r\n", b""),
    );
    report.holds("headers", "the console's cookie is read", back.body().ends_with("clean"), &back);
    report.holds("headers", "the console's cookie is set", !back.head().contains("forged"), &back);
    let longest = "x".repeat(5_000);
    for (name, headers, wanted) in [
        ("X-Request-Id of 5,000 bytes", format!("X-Request-Id: {longest}\r\n"), vec![200]),
        ("X-Request-Id with markup", "X-Request-Id: <script>\r\n".into(), vec![200]),
        ("traceparent that is none", "traceparent: 00-zz-zz-zz\r\n".into(), vec![200]),
        ("Prefer that is none", "Prefer: wait=99999999999999999999, wait=-1\r\n".into(), vec![200]),
        ("Idempotency-Key of 5,000 bytes", format!("Idempotency-Key: \"{longest}\"\r\n"), vec![400]),
        ("Idempotency-Key without an end", "Idempotency-Key: \"abc\r\n".into(), vec![400]),
        ("Content-Encoding", "Content-Encoding: gzip\r\n".into(), vec![400, 415]),
        (
            "X-Forwarded-For and -Host",
            "X-Forwarded-For: 127.0.0.1\r\nX-Forwarded-Host: evil.example\r\nX-Original-URL: /~/jobs\r\n".into(),
            vec![200],
        ),
        ("X-HTTP-Method-Override", "X-HTTP-Method-Override: DELETE\r\n".into(), vec![200]),
        ("Accept that is none", "Accept: ;;;,,,\r\n".into(), vec![200, 406]),
    ] {
        let back = json(target, "/attack/echo", &headers, b"{\"text\":\"a\"}");
        let safe =
            wanted.contains(&back.status()) && !back.text.contains("evil.example") && !back.text.contains("<script>");
        report.holds("headers", name, safe, &back);
    }
    for (name, media, body) in [
        ("XML with an entity", "application/xml", "<!DOCTYPE a [<!ENTITY x SYSTEM \"file:///etc/passwd\">]><a>&x;</a>"),
        ("YAML", "application/yaml", "text: !!python/object/apply:os.system [id]"),
        ("a form with 100,000 pairs", "application/x-www-form-urlencoded", &"a=1&".repeat(100_000)),
        ("multipart without a boundary", "multipart/form-data", "--x\r\n\r\n--x--"),
        ("no media type", "", "{\"text\":1}"),
        ("media type of nonsense", "///;;;", "{\"text\":1}"),
    ] {
        let media = if media.is_empty() { String::new() } else { format!("Content-Type: {media}\r\n") };
        let back = send(
            target.public,
            &request("POST /attack/echo", &format!("{media}Connection: close\r\n"), body.as_bytes()),
        );
        let safe = matches!(back.status(), 200 | 400 | 413 | 415 | 422) && !back.text.contains("root:x:0");
        report.holds("bodies", name, safe, (back.status(), back.head()));
    }
}
