//! A client that sends what it is given and reads what comes back, byte for byte.

use std::io::{Read, Write};
use std::net::TcpStream;
use std::time::{Duration, Instant};

/// How long an answer is waited for.
const PATIENCE: Duration = Duration::from_secs(10);
/// How long the connection must be silent after an answer to be done.
const SILENCE: Duration = Duration::from_millis(120);
/// The most bytes that are read.
const MOST: usize = 4 << 20;

/// What came back on one connection.
#[derive(Clone, Debug)]
pub struct Back {
    /// Everything, with invalid UTF-8 replaced.
    pub text: String,
    /// Whether the service closed the connection.
    pub closed: bool,
}

impl Back {
    /// Statuses of the answers, in order; interim ones such as 100 are none.
    pub fn statuses(&self) -> Vec<u16> {
        let heads = self.text.match_indices("HTTP/1.").filter(|(at, _)| {
            *at == 0 || self.text[..*at].ends_with('\n') || !self.text[..*at].ends_with(|c: char| c.is_alphanumeric())
        });
        heads
            .filter_map(|(at, _)| self.text[at..].split(' ').nth(1)?.parse().ok())
            .filter(|status| *status >= 200)
            .collect()
    }

    /// The status of the first answer; 0 when there is none.
    pub fn status(&self) -> u16 {
        self.statuses().first().copied().unwrap_or(0)
    }

    /// The first answer's head.
    pub fn head(&self) -> &str {
        self.text.split("\r\n\r\n").next().unwrap_or_default()
    }

    /// The first answer's body, and whatever follows.
    pub fn body(&self) -> &str {
        self.text.split_once("\r\n\r\n").map_or("", |(_, body)| body)
    }
}

/// Sends bytes to a port of loopback and reads until the service closes, or says nothing more.
pub fn send(port: u16, bytes: &[u8]) -> Back {
    let mut back = Back { text: String::new(), closed: true };
    let Ok(mut stream) = TcpStream::connect(("127.0.0.1", port)) else { return back };
    let _ = stream.set_write_timeout(Some(PATIENCE));
    // A service that refuses early closes while the rest is sent.
    let _ = stream.write_all(bytes);
    read(&mut stream, &mut back);
    back
}

/// Reads what comes back on a connection.
pub fn read(stream: &mut TcpStream, back: &mut Back) {
    let (mut all, mut part) = (Vec::new(), [0; 65_536]);
    let begun = Instant::now();
    back.closed = false;
    while begun.elapsed() < PATIENCE && all.len() < MOST {
        let wait = if all.is_empty() { PATIENCE.saturating_sub(begun.elapsed()) } else { SILENCE };
        let _ = stream.set_read_timeout(Some(wait.max(Duration::from_millis(1))));
        match stream.read(&mut part) {
            Ok(0) => {
                back.closed = true;
                break;
            }
            Ok(count) => all.extend_from_slice(&part[..count]),
            Err(error) if matches!(error.kind(), std::io::ErrorKind::WouldBlock | std::io::ErrorKind::TimedOut) => {
                break;
            }
            Err(_) => {
                back.closed = true;
                break;
            }
        }
    }
    back.text = String::from_utf8_lossy(&all).into_owned();
}

/// A request with `Host`, and a body with its length.
pub fn request(line: &str, headers: &str, body: &[u8]) -> Vec<u8> {
    let length = if body.is_empty() { String::new() } else { format!("Content-Length: {}\r\n", body.len()) };
    [format!("{line} HTTP/1.1\r\nHost: localhost\r\n{headers}{length}\r\n").as_bytes(), body].concat()
}
