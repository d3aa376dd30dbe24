//! Ten times the load that a service has places for: one key sends nearly all of it, nine others send what they may.
//!
//! A short one is a test; `cargo xtask drill --overload` prints figures.

use std::collections::HashMap;
use std::io::{Read, Write};
use std::net::TcpStream;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

use kanzlei_harness::office::Office;
use serde_json::json;

use crate::{deploy_texts, http};

/// Places of requests in flight, and how long each is occupied.
const PLACES: usize = 32;
const TAKES: Duration = Duration::from_millis(200);
/// Settings of the office that is overloaded.
pub const SETTINGS: [&str; 1] = ["limits.in_flight=32"];
/// Keys that send little.
const MODEST: usize = 9;
/// Connections of the key that sends much.
const GREEDY: usize = 160;

const WORKFLOW: &str = "workflow: busy\nentries: [{endpoint: GET /busy, access: key}]\nsteps: [{call: 'GET BASE/windows/next?station=LIN&draught=5&after=2027-03-04T06:00:00Z'}, {reply: 200, body: {}}]\n";

/// What came of the requests of one key.
#[derive(Clone, Debug, Default)]
pub struct Served {
    pub answered: u32,
    pub busy: u32,
    pub other: u32,
    /// Longest times of an answer and of a refusal.
    pub longest: [Duration; 2],
}

/// What an overload found.
#[derive(Debug)]
pub struct Found {
    /// Requests a second that the places allow.
    pub capacity: f64,
    /// Requests a second that were sent.
    pub offered: f64,
    /// By key; the greedy one first.
    pub keys: Vec<Served>,
    /// From the end of the overload until requests were answered as before it.
    pub recovered: Duration,
    /// Bytes of the process in memory before and at the end of the overload.
    pub memory: [u64; 2],
}

impl Found {
    /// The share of a key's requests that was answered.
    pub fn share(&self, key: usize) -> f64 {
        let Served { answered, busy, other, .. } = &self.keys[key];
        f64::from(*answered) / f64::from((answered + busy + other).max(1))
    }
}

impl std::fmt::Display for Found {
    fn fmt(&self, f: &mut std::fmt::Formatter) -> std::fmt::Result {
        let answered: u32 = self.keys.iter().map(|key| key.answered).sum();
        let busy: u32 = self.keys.iter().map(|key| key.busy).sum();
        let other: u32 = self.keys.iter().map(|key| key.other).sum();
        let longest = |at: usize| self.keys.iter().map(|key| key.longest[at]).max().unwrap_or_default();
        writeln!(f, "{:.0} requests a second offered to places for {:.0}", self.offered, self.capacity)?;
        writeln!(f, "{answered} answered, {busy} refused with 503, {other} otherwise")?;
        writeln!(f, "longest answer {:?}, longest refusal {:?}", longest(0), longest(1))?;
        let modest = (1..self.keys.len()).map(|key| self.share(key));
        let (least, mean) = (modest.clone().fold(1.0, f64::min), modest.sum::<f64>() / (self.keys.len() - 1) as f64);
        writeln!(
            f,
            "of the greedy key {:.1} % answered, of the modest keys {:.1} % on average and {:.1} % at least",
            self.share(0) * 100.0,
            mean * 100.0,
            least * 100.0
        )?;
        write!(
            f,
            "recovered {:?} after the load; memory {:?} MiB",
            self.recovered,
            self.memory.map(|bytes| bytes >> 20)
        )
    }
}

/// A connection that is kept open.
struct Connection {
    port: u16,
    key: String,
    stream: Option<TcpStream>,
}

impl Connection {
    /// Sends a request and returns the status of its answer.
    fn ask(&mut self) -> u16 {
        let status = self.try_ask();
        if status.is_none() {
            self.stream = None;
        }
        status.unwrap_or(0)
    }

    fn try_ask(&mut self) -> Option<u16> {
        if self.stream.is_none() {
            let stream = TcpStream::connect(("127.0.0.1", self.port)).ok()?;
            stream.set_read_timeout(Some(Duration::from_secs(10))).ok()?;
            let _ = stream.set_nodelay(true);
            self.stream = Some(stream);
        }
        let stream = self.stream.as_mut()?;
        let request = format!("GET /busy HTTP/1.1\r\nHost: localhost\r\nAuthorization: Bearer {}\r\n\r\n", self.key);
        stream.write_all(request.as_bytes()).ok()?;
        let (mut read, mut part) = (Vec::new(), [0; 2048]);
        loop {
            let count = stream.read(&mut part).ok().filter(|count| *count > 0)?;
            read.extend_from_slice(&part[..count]);
            let Some(end) = read.windows(4).position(|four| four == b"\r\n\r\n") else { continue };
            let head = String::from_utf8_lossy(&read[..end]).to_ascii_lowercase();
            let length =
                head.lines().find_map(|line| line.strip_prefix("content-length:")?.trim().parse::<usize>().ok());
            if read.len() >= end + 4 + length.unwrap_or(0) {
                return head.split(' ').nth(1)?.parse().ok();
            }
        }
    }
}

/// Sends requests of one key at an interval until it is stopped. Returns what came of them.
fn send(port: u16, key: String, every: Duration, first: Duration, stop: &AtomicBool) -> Served {
    let mut connection = Connection { port, key, stream: None };
    let (mut served, mut next) = (Served::default(), Instant::now() + first);
    while !stop.load(Ordering::Relaxed) {
        std::thread::sleep(next.saturating_duration_since(Instant::now()));
        // Who had to wait for an answer does not catch up.
        next = (next + every).max(Instant::now());
        let begun = Instant::now();
        let status = connection.ask();
        let took = begun.elapsed();
        match status {
            200 => {
                served.answered += 1;
                served.longest[0] = served.longest[0].max(took);
            }
            503 => {
                served.busy += 1;
                served.longest[1] = served.longest[1].max(took);
            }
            _ => served.other += 1,
        }
    }
    served
}

/// Overloads an office for a time.
pub fn run(office: &Office, lasting: Duration) -> Found {
    let base = format!("http://127.0.0.1:{}/tides", office.ports.standins);
    let tides = format!("service: tides\nbase: {base}\nnetwork: private\n");
    let deployed = deploy_texts(office, &[("s.yaml", &tides), ("w.yaml", &WORKFLOW.replace("BASE", &base))]);
    assert_eq!(deployed.status, 200, "{deployed:?}");
    let standins =
        format!("http://127.0.0.1:{}/~/behaviour/tides?delay_ms={}", office.ports.standins, TAKES.as_millis());
    assert!(http("PUT", &standins, &[], b"").status < 300, "the stand-in is slow");
    let keys: Vec<String> = (0..=MODEST)
        .map(|at| {
            let body = json!({"name": format!("key-{at}")}).to_string();
            let (url, bearer) = (format!("{}/api/v1/keys", office.control()), format!("Bearer {}", office.token));
            let headers = [("authorization", bearer.as_str()), ("content-type", "application/json")];
            let made = http("POST", &url, &headers, body.as_bytes());
            made.json()["key"].as_str().expect("a key").to_owned()
        })
        .collect();
    let port = office.ports.public;
    let mut probe = Connection { port, key: keys[1].clone(), stream: None };
    // The first request reads the keys and connects to the service.
    let usual = (0..5).map(|_| timed(&mut probe).1).min().unwrap_or_default();
    let memory = office.service.memory();
    let capacity = PLACES as f64 / usual.as_secs_f64();
    let stop = Arc::new(AtomicBool::new(false));
    let served: Arc<Mutex<HashMap<usize, Served>>> = Arc::default();
    // The greedy key sends 9.5 times the capacity; the modest keys send half of the capacity together.
    let greedy = Duration::from_secs_f64(GREEDY as f64 / (9.5 * capacity));
    let modest = Duration::from_secs_f64(2.0 * MODEST as f64 / (0.5 * capacity));
    let senders = (0..GREEDY).map(|_| (0, greedy)).chain((1..=MODEST).flat_map(|key| [(key, modest), (key, modest)]));
    let begun = Instant::now();
    let threads: Vec<_> = senders
        .enumerate()
        .map(|(at, (key, every))| {
            let (stop, served, text) = (stop.clone(), served.clone(), keys[key].clone());
            std::thread::spawn(move || {
                let one = send(port, text, every, every.mul_f64((at % 97) as f64 / 97.0), &stop);
                let mut all = served.lock().expect("no panic");
                let sum = all.entry(key).or_default();
                sum.answered += one.answered;
                sum.busy += one.busy;
                sum.other += one.other;
                sum.longest = [0, 1].map(|at| sum.longest[at].max(one.longest[at]));
            })
        })
        .collect();
    std::thread::sleep(lasting);
    let full = office.service.memory();
    stop.store(true, Ordering::Relaxed);
    let ended = Instant::now();
    // Answered as before, ten times in a row.
    let mut row = 0;
    while row < 10 && ended.elapsed() < Duration::from_secs(60) {
        let (status, took) = timed(&mut probe);
        row = if status == 200 && took < usual * 2 { row + 1 } else { 0 };
    }
    let recovered = ended.elapsed().saturating_sub(usual * 10);
    threads.into_iter().for_each(|thread| thread.join().expect("a sender"));
    let served = served.lock().expect("no panic");
    let keys: Vec<Served> = (0..=MODEST).map(|key| served.get(&key).cloned().unwrap_or_default()).collect();
    let all: u32 = keys.iter().map(|key| key.answered + key.busy + key.other).sum();
    let offered = f64::from(all) / (ended - begun).as_secs_f64();
    Found { capacity, offered, keys, recovered, memory: [memory, full] }
}

fn timed(connection: &mut Connection) -> (u16, Duration) {
    let begun = Instant::now();
    (connection.ask(), begun.elapsed())
}
