//! Load: expensive requests, slow ones, many at once. The service goes on serving others meanwhile.

use std::io::Write;
use std::net::TcpStream;
use std::time::{Duration, Instant};

use super::raw::{Back, read, request, send};
use super::{Report, Target};

/// How long an ordinary request may take beside an attack.
const BESIDE: Duration = Duration::from_secs(3);

/// Whether ordinary requests are answered, each within [`BESIDE`].
fn is_served(target: &Target) -> bool {
    (0..5).all(|_| {
        let begun = Instant::now();
        target.serves() && begun.elapsed() < BESIDE
    })
}

/// Connections that sent the beginning of something.
fn open(target: &Target, count: usize, bytes: &[u8]) -> Vec<TcpStream> {
    let mut streams = Vec::with_capacity(count);
    for _ in 0..count {
        let Ok(mut stream) = TcpStream::connect(("127.0.0.1", target.public)) else { break };
        let _ = stream.write_all(bytes);
        streams.push(stream);
    }
    streams
}

/// Runs all attacks of this area.
pub fn run(target: &Target, report: &mut Report) {
    let body = |times: usize| format!("{{\"text\":\"{}\"}}", "<".repeat(times));
    let headers = "Content-Type: application/json\r\nConnection: close\r\n";
    for times in [100_000, 300_000] {
        let bytes = request("POST /attack/match", headers, body(times).as_bytes());
        let mut streams = open(target, 3, &bytes);
        report.holds(
            "load",
            format!("three patterns over {times} bytes: others are served"),
            is_served(target),
            "slow",
        );
        for stream in &mut streams {
            let mut back = Back { text: String::new(), closed: false };
            read(stream, &mut back);
            report.holds("load", format!("a pattern over {times} bytes ends"), back.status() >= 200, &back);
        }
    }
    let half = b"POST /attack/echo HTTP/1.1\r\nHost: office\r\nContent-Type: application/json\r\nContent-Length: 1000\r\n\r\n{";
    for (name, count, bytes) in [
        ("500 idle connections", 500, &b""[..]),
        ("500 heads without an end", 500, b"GET /attack/get HTTP/1.1\r\nHost: office\r\nX: "),
        ("500 bodies without an end", 500, half),
        ("500 bytes of nothing", 500, b"\r"),
    ] {
        let streams = open(target, count, bytes);
        report.holds(
            "load",
            format!("{name}: others are served"),
            streams.len() == count && is_served(target),
            streams.len(),
        );
    }
    let many = request("GET /attack/get?n=1", "", b"").repeat(2_000);
    let back = send(target.public, &many);
    report.holds(
        "load",
        "2,000 requests in one packet",
        back.statuses().iter().all(|s| *s == 200) && is_served(target),
        back.statuses().len(),
    );
    let before = std::fs::metadata(&target.log).map_or(0, |meta| meta.len());
    let head = format!("GET /attack/get HTTP/1.1\r\nHost: a\r\nX: {}\r\n\r\n", "x".repeat(300 << 10));
    for _ in 0..50 {
        send(target.public, head.as_bytes());
    }
    let grown = std::fs::metadata(&target.log).map_or(0, |meta| meta.len()) - before;
    report.holds("load", "50 heads of 300 KiB do not flood the log", grown < 100 << 10, grown);
    for _ in 0..500 {
        // Reset at once.
        drop(open(target, 1, b"POST /attack/echo HTTP/1.1\r\n"));
    }
    report.holds("load", "500 connections that are cut", is_served(target), "slow");
}
