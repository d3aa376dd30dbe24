//! Requests made of bytes that a fuzzer thinks of: mostly well formed, with a piece here and there that is not.

/// Choices out of bytes; behind their end every choice is 0.
pub struct Choices<'b> {
    bytes: &'b [u8],
}

impl<'b> Choices<'b> {
    pub fn new(bytes: &'b [u8]) -> Self {
        Choices { bytes }
    }

    fn byte(&mut self) -> u8 {
        let (first, rest) = self.bytes.split_first().map_or((0, self.bytes), |(first, rest)| (*first, rest));
        self.bytes = rest;
        first
    }

    pub fn below(&mut self, n: usize) -> usize {
        usize::from(self.byte()) % n.max(1)
    }

    fn pick<T: Copy>(&mut self, from: &[T]) -> T {
        from[self.below(from.len())]
    }

    /// True once in `n` times.
    fn one_in(&mut self, n: usize) -> bool {
        self.below(n) + 1 == n
    }

    /// Some of the bytes as they are.
    fn raw(&mut self) -> &'b [u8] {
        let length = self.below(40).min(self.bytes.len());
        let (raw, rest) = self.bytes.split_at(length);
        self.bytes = rest;
        raw
    }
}

const METHODS: &[&str] = &["POST", "GET", "PUT", "DELETE", "HEAD", "OPTIONS", "PATCH", "TRACE", "post", "PROPFIND"];
const PATHS: &[&str] = &[
    "/typed/LIN",
    "/typed/NES/3",
    "/later",
    "/files",
    "/hook",
    "/typed/QUA",
    "/typed/%4cIN",
    "/~/jobs",
    "/~/jobs/0195a1b2-0000-7000-8000-000000000001",
    "/~/jobs/0195a1b2-0000-7000-8000-000000000001/result",
    "/~/jobs/0195a1b2-0000-7000-8000-000000000001/events",
    "/~/callbacks/",
    "/~/files",
    "/~/health",
    "/~/ready",
    "/~/live",
    "/~/openapi.json",
    "/~/previews/",
    "/~/",
    "/",
    "*",
    "//typed//LIN",
    "/typed/../later",
    "http://elsewhere/later",
];
const QUERIES: &[&str] = &[
    "n=3", "n=x", "x=1e5", "yes=true", "at=2027-03-04T06:00:00Z", "ports=LIN", "ports[]=NES", "stay[nights]=2",
    "stay={\"nights\":2}", "stay[from]=2027-03-04", "any=%00", "any=%ff", "token=tide+water", "challenge=1", "wait=1",
    "n=1&n=2", "%6e=3", "stay[a][b][c][d][e][f][g][h][i]=1", "ports[1]=LIN", "=", "&&", "pin=1",
];
const HEADERS: &[(&str, &[&str])] = &[
    ("Content-Type", &[
        "application/json", "application/x-www-form-urlencoded", "multipart/form-data; boundary=b", "text/plain",
        "text/csv", "application/json; charset=utf-16", "application/xml", "multipart/form-data", "application/pdf", ";",
    ]),
    ("Prefer", &["respond-async", "respond-async, wait=1", "wait=99999999999", "return=minimal; a=\"b\\\"c\"", ","]),
    ("Idempotency-Key", &["\"a\"", "b", "\"", "\"\u{e9}\"", ""]),
    ("Authorization", &["Bearer x", "Bearer a.b.c", "Basic eDp5", "Bearer", "DPoP x"]),
    ("X-Api-Key", &["kz_x", "", "\u{e9}"]),
    ("Accept", &["*/*", "text/html", "application/json;q=0", "a/b;q=2", ",,"]),
    ("Accept-Encoding", &["gzip", "br;q=1, *;q=0", "identity;q=0"]),
    ("If-None-Match", &["*", "W/\"a\"", "\"a\", \"b\"", "a"]),
    ("Range", &["bytes=0-1", "bytes=-1", "bytes=9-1", "lines=1"]),
    ("Content-Digest", &["sha-256=:AAAA:", "sha-256=x", "md5=:AAAA:"]),
    ("Content-Encoding", &["gzip", "identity"]),
    ("Content-Disposition", &["attachment; filename=\"crew.csv\"", "attachment; filename*=UTF-8''%e2%82%ac.csv", "x"]),
    ("Traceparent", &["00-0af7651916cd43dd8448eb211c80319c-b7ad6b7169203331-01", "00-0-0-0", "ff-x"]),
    ("Cookie", &["a=b; kanzlei_session=x", "=;=", "\"a\"=b"]),
    ("Origin", &["http://lindvik.example", "null"]),
    ("Access-Control-Request-Method", &["POST", "x y"]),
    ("Last-Event-ID", &["1", "-1", "x"]),
    ("Expect", &["100-continue", "200-ok"]),
    ("Connection", &["keep-alive", "close", "upgrade"]),
    ("Upgrade", &["websocket", "h2c"]),
    ("Forwarded", &["for=192.0.2.1", "for=\"[::1\""]),
    ("X-Forwarded-For", &["192.0.2.1", "x"]),
    ("X-Request-Id", &["abc", "a b", ""]),
    ("X-Agent", &["Tare Holm", "\u{e9}", "a\tb"]),
    ("Host", &["localhost", "lindvik.example:80", "a/b", ""]),
    ("Content-Length", &["0", "5", "-1", "99999999999999999999", "+3", "3, 3"]),
    ("Transfer-Encoding", &["chunked", "gzip, chunked", "identity"]),
];

/// Up to four requests on one connection, as they are sent.
pub fn requests(choices: &mut Choices) -> Vec<u8> {
    let mut out = Vec::new();
    for _ in 0..=choices.below(4) {
        request(choices, &mut out);
    }
    out
}

fn request(choices: &mut Choices, out: &mut Vec<u8>) {
    let mut line = format!("{} {}", choices.pick(METHODS), choices.pick(PATHS));
    for at in 0..choices.below(4) {
        line.push(if at == 0 { '?' } else { '&' });
        line.push_str(choices.pick(QUERIES));
    }
    out.extend_from_slice(line.as_bytes());
    if choices.one_in(8) {
        out.extend_from_slice(choices.raw());
    }
    let end = if choices.one_in(30) { "\n" } else { "\r\n" };
    out.extend_from_slice(format!(" HTTP/1.{}{end}", if choices.one_in(20) { "0" } else { "1" }).as_bytes());
    if !choices.one_in(20) {
        out.extend_from_slice(b"Host: localhost\r\n");
    }
    let mut framed = false;
    for _ in 0..choices.below(6) {
        let (name, values) = choices.pick(HEADERS);
        framed |= matches!(name, "Content-Length" | "Transfer-Encoding");
        out.extend_from_slice(name.as_bytes());
        out.extend_from_slice(b": ");
        match choices.one_in(8) {
            true => out.extend_from_slice(choices.raw()),
            false => out.extend_from_slice(choices.pick(values).as_bytes()),
        }
        out.extend_from_slice(end.as_bytes());
    }
    let (media, body) = body(choices);
    if let Some(media) = media {
        out.extend_from_slice(format!("Content-Type: {media}\r\n").as_bytes());
    }
    match (framed, choices.below(4)) {
        // A length of its own may contradict what was said.
        (true, 1..) => out.extend_from_slice(b"\r\n"),
        (_, 0) if !body.is_empty() => {
            out.extend_from_slice(b"Transfer-Encoding: chunked\r\n\r\n");
            for chunk in body.chunks(1 + choices.below(60)) {
                out.extend_from_slice(format!("{:x}\r\n", chunk.len()).as_bytes());
                out.extend_from_slice(chunk);
                out.extend_from_slice(b"\r\n");
            }
            out.extend_from_slice(b"0\r\n\r\n");
            return;
        }
        _ if body.is_empty() => out.extend_from_slice(end.as_bytes()),
        _ => out.extend_from_slice(format!("Content-Length: {}\r\n\r\n", body.len()).as_bytes()),
    }
    out.extend_from_slice(&body);
}

/// A body with its media type.
fn body(choices: &mut Choices) -> (Option<&'static str>, Vec<u8>) {
    match choices.below(6) {
        0 => (None, Vec::new()),
        1 | 2 => {
            let mut text = Vec::new();
            json(choices, 0, &mut text);
            (Some("application/json"), text)
        }
        3 => {
            let pieces: Vec<&str> = (0..choices.below(5)).map(|_| choices.pick(QUERIES)).collect();
            (Some("application/x-www-form-urlencoded"), pieces.join("&").into_bytes())
        }
        4 => (Some("multipart/form-data; boundary=b"), multipart(choices)),
        _ => (Some("text/csv"), choices.raw().to_vec()),
    }
}

const NAMES: &[&str] = &["n", "x", "yes", "at", "ports", "stay", "nights", "from", "agent", "pin", "any", "id", "list", "", "\\u0000"];
const VALUES: &[&str] = &[
    "1", "0", "-1", "1.5", "1e400", "99999999999999999999", "true", "null", "\"LIN\"", "\"\"", "\"2027-03-04\"",
    "\"2027-03-04T06:00:00Z\"", "\"\\ud800\"", "\"\\u0000\"", "-", "NaN", "0x1",
];

fn json(choices: &mut Choices, depth: usize, out: &mut Vec<u8>) {
    match choices.below(if depth > 5 { 2 } else { 5 }) {
        0 => out.extend_from_slice(choices.pick(VALUES).as_bytes()),
        1 if choices.one_in(6) => out.extend_from_slice(choices.raw()),
        1 => out.extend_from_slice(choices.pick(VALUES).as_bytes()),
        2 => {
            out.push(b'[');
            for at in 0..choices.below(4) {
                if at > 0 {
                    out.push(b',');
                }
                json(choices, depth + 1, out);
            }
            out.push(b']');
        }
        _ => {
            out.push(b'{');
            for at in 0..choices.below(5) {
                if at > 0 {
                    out.push(b',');
                }
                out.extend_from_slice(format!("\"{}\":", choices.pick(NAMES)).as_bytes());
                json(choices, depth + 1, out);
            }
            out.push(b'}');
        }
    }
}

const PARTS: &[&str] = &[
    "Content-Disposition: form-data; name=\"crew\"; filename=\"crew.csv\"",
    "Content-Disposition: form-data; name=\"note\"",
    "Content-Disposition: form-data; name=\"crew\"; filename*=UTF-8''%41.pdf",
    "Content-Disposition: form-data",
    "Content-Disposition: attachment; name=crew",
    "Content-Type: text/csv",
    "Content-Type: application/json",
    "Content-Transfer-Encoding: base64",
    "Content-Length: 3",
];

fn multipart(choices: &mut Choices) -> Vec<u8> {
    let mut out = Vec::new();
    for _ in 0..choices.below(4) {
        out.extend_from_slice(if choices.one_in(10) { b"--c\r\n" } else { b"--b\r\n" });
        for _ in 0..choices.below(3) {
            out.extend_from_slice(choices.pick(PARTS).as_bytes());
            out.extend_from_slice(b"\r\n");
        }
        if !choices.one_in(12) {
            out.extend_from_slice(b"\r\n");
        }
        match choices.below(3) {
            0 => out.extend_from_slice(b"name,rank\nTare Holm,mate\n"),
            1 => out.extend_from_slice(b"%PDF-1.7"),
            _ => out.extend_from_slice(choices.raw()),
        }
        out.extend_from_slice(b"\r\n");
    }
    if !choices.one_in(6) {
        out.extend_from_slice(b"--b--\r\n");
    }
    out
}
