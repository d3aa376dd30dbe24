//! A service on loopback whose answers break where they are asked to.

use std::collections::VecDeque;
use std::io::{BufRead, BufReader, Read, Write};
use std::net::{TcpListener, TcpStream};
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex};
use std::time::Duration;

/// What becomes of a call.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Fate {
    Answered,
    /// The connection ends before the call had its effect.
    LostBefore,
    /// It had its effect, and the connection ends before the answer.
    LostBehind,
    /// It is refused with 503, and had no effect.
    Refused,
    /// It is answered late.
    Slow,
}

/// A call as it arrived.
#[derive(Debug)]
pub struct Call {
    pub path: String,
    /// Names in lower case.
    pub headers: Vec<(String, String)>,
}

impl Call {
    pub fn header(&self, name: &str) -> &str {
        self.headers.iter().find(|(known, _)| known == name).map_or("", |(_, value)| value)
    }
}

/// The fates of the next calls; behind their end calls are answered.
type Fates = Arc<Mutex<VecDeque<Fate>>>;

/// A service that runs until the process ends.
#[derive(Debug)]
pub struct Peer {
    pub port: u16,
    pub fates: Fates,
    open: Arc<AtomicUsize>,
}

impl Peer {
    /// Starts one that has `effect` for each call that is not lost before it.
    ///
    /// # Panics
    /// When there is no port.
    pub fn start(effect: impl Fn(&Call) + Send + Sync + 'static) -> Self {
        let listener = TcpListener::bind("127.0.0.1:0").expect("a port");
        let port = listener.local_addr().expect("an address").port();
        let peer = Peer { port, fates: Fates::default(), open: Arc::default() };
        let (fates, open, effect) = (peer.fates.clone(), peer.open.clone(), Arc::new(effect));
        std::thread::spawn(move || {
            for stream in listener.incoming().flatten() {
                open.fetch_add(1, Ordering::SeqCst);
                let (fates, open, effect) = (fates.clone(), open.clone(), effect.clone());
                std::thread::spawn(move || {
                    serve(&stream, &fates, &*effect);
                    open.fetch_sub(1, Ordering::SeqCst);
                });
            }
        });
        peer
    }

    /// Connections that are open.
    pub fn open(&self) -> usize {
        self.open.load(Ordering::SeqCst)
    }
}

/// Answers calls until the connection ends.
fn serve(stream: &TcpStream, fates: &Fates, effect: &dyn Fn(&Call)) -> Option<()> {
    let _ = stream.set_nodelay(true);
    let mut reader = BufReader::new(stream);
    loop {
        let call = read(&mut reader)?;
        let fate = fates.lock().ok()?.pop_front().unwrap_or(Fate::Answered);
        if fate == Fate::LostBefore {
            return None;
        }
        if fate != Fate::Refused {
            effect(&call);
        }
        let status = match fate {
            Fate::LostBehind => return None,
            Fate::Refused => "503 Service Unavailable",
            Fate::Slow => {
                std::thread::sleep(Duration::from_millis(5));
                "200 OK"
            }
            _ => "200 OK",
        };
        let head = format!("HTTP/1.1 {status}\r\nContent-Type: application/json\r\nContent-Length: 2\r\n\r\n{{}}");
        (&*stream).write_all(head.as_bytes()).ok()?;
    }
}

/// The next call with its body read.
fn read(reader: &mut BufReader<&TcpStream>) -> Option<Call> {
    let mut lines = Vec::new();
    loop {
        let mut line = String::new();
        if reader.read_line(&mut line).ok()? == 0 {
            return None;
        }
        match line.trim_end() {
            "" => break,
            line => lines.push(line.to_owned()),
        }
    }
    let path = lines.first()?.split(' ').nth(1)?.to_owned();
    let pair = |line: &String| line.split_once(':').map(|(name, value)| (name.to_lowercase(), value.trim().to_owned()));
    let headers: Vec<(String, String)> = lines.iter().skip(1).filter_map(pair).collect();
    let call = Call { path, headers };
    let length = call.header("content-length").parse().unwrap_or(0);
    let mut body = vec![0; length];
    reader.read_exact(&mut body).ok()?;
    Some(call)
}
