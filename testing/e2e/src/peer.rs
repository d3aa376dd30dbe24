//! A service that misbehaves on purpose: one raw answer for each request, on a port of its own.

use std::io::{Read, Write};
use std::net::{TcpListener, TcpStream};
use std::sync::{Arc, Mutex};
use std::time::Duration;

/// The head of a request and its body.
type Received = (String, Vec<u8>);

pub struct Peer {
    pub port: u16,
    seen: Arc<Mutex<Vec<Received>>>,
}

/// What a peer does with a request, by its path.
pub type Behave = fn(&str, &mut TcpStream);

impl Peer {
    pub fn start(behave: Behave) -> Self {
        let listener = TcpListener::bind("127.0.0.1:0").expect("port");
        let port = listener.local_addr().expect("address").port();
        let seen = Arc::new(Mutex::new(Vec::new()));
        let log = seen.clone();
        std::thread::spawn(move || {
            for stream in listener.incoming().filter_map(Result::ok) {
                let log = log.clone();
                std::thread::spawn(move || serve(stream, behave, &log));
            }
        });
        Peer { port, seen }
    }

    /// All requests so far as texts.
    pub fn requests(&self) -> Vec<String> {
        self.received().iter().map(|(head, body)| format!("{head}{}", String::from_utf8_lossy(body))).collect()
    }

    /// All requests so far: their heads and bodies.
    pub fn received(&self) -> Vec<Received> {
        self.seen.lock().expect("log").clone()
    }
}

fn serve(mut stream: TcpStream, behave: Behave, log: &Mutex<Vec<Received>>) {
    let _ = stream.set_read_timeout(Some(Duration::from_secs(10)));
    let mut head = Vec::new();
    let mut byte = [0];
    while !head.ends_with(b"\r\n\r\n") {
        match stream.read(&mut byte) {
            Ok(1) => head.push(byte[0]),
            _ => return,
        }
    }
    let head = String::from_utf8_lossy(&head).into_owned();
    let path = head.split(' ').nth(1).unwrap_or_default().to_owned();
    let length =
        head.lines().find_map(|line| line.to_ascii_lowercase().strip_prefix("content-length:")?.trim().parse().ok());
    let mut body = vec![0; length.unwrap_or(0)];
    if stream.read_exact(&mut body).is_err() {
        return;
    }
    log.lock().expect("log").push((head, body));
    behave(&path, &mut stream);
}

/// Sends a whole answer and closes.
pub fn answer(stream: &mut TcpStream, status: &str, media: &str, body: &[u8]) {
    let _ = write!(
        stream,
        "HTTP/1.1 {status}\r\nContent-Type: {media}\r\nContent-Length: {}\r\nConnection: close\r\n\r\n",
        body.len()
    );
    let _ = stream.write_all(body);
}
