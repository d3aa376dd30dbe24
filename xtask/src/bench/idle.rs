//! `cargo xtask bench idle`: what the service needs when nothing is asked of it: memory with 100 workflows and with 10,000 connections, those
//! beside what they need of a service by hand, and the time until it is ready with 1,000 workflows.

use std::io::{Read, Write};
use std::net::TcpStream;
use std::path::Path;
use std::process::ExitCode;
use std::time::{Duration, Instant};

use kanzlei_harness::office::{Ports, Whole};
use kanzlei_harness::{packages, scratch, wait};

use super::deploy;
use crate::{Done, Fault, build, root};

/// Workflows of an installation that is small, and of one that is large.
const FEW: usize = 100;
const MANY: usize = 1000;
/// Connections that are kept without a request.
const CONNECTIONS: usize = 10_000;
/// Starts, of which the median counts.
const STARTS: usize = 5;
/// How long memory may take to stand still.
const SETTLES: Duration = Duration::from_secs(20);

/// What an idle service needs.
pub struct Idle {
    pub few: Memory,
    pub connected: Memory,
    /// Kilobytes of a connection, ours and by hand.
    pub each: [f64; 2],
    /// Milliseconds until it is ready with [`MANY`] workflows, and those of its processor.
    pub ready: (f64, f64),
    pub many: Memory,
}

pub fn idle() -> Done {
    packages::install(&[packages::MARIADB])?;
    build::console()?;
    let bins = build::programs(true)?;
    let found = measured(&bins)?;
    row(&format!("memory with {FEW} workflows, idle"), &found.few.to_string(), "40 MB");
    row(&format!("memory with {CONNECTIONS} idle connections"), &found.connected.to_string(), "150 MB");
    let [ours, by_hand] = found.each;
    row("  of each of them", &format!("{ours:.1} KB, by hand {by_hand:.1} KB"), "");
    let (took, used) = found.ready;
    let ready = format!("{took:.0} ms, {used:.0} of them its processor");
    row(&format!("ready after start with {MANY} workflows"), &ready, "500 ms");
    row(&format!("memory with {MANY} workflows, idle"), &found.many.to_string(), "");
    Ok(ExitCode::SUCCESS)
}

/// Measures an office of its own.
pub fn measured(bins: &Path) -> Result<Idle, Fault> {
    let dir = scratch::folder("bench");
    let mut whole = Whole::start(bins, &dir, Ports::free()?, &["log.level=warn"])?;
    deploy(bins, &whole, &root().join("demo/harbour/services"))?;
    deploy_many(bins, &whole, &dir, 0..FEW)?;
    whole.office.restart_service()?;
    let (few, connected, ours) =
        with_connections(whole.office.ports.public, ("/~/live", 200), whole.office.service.id())?;

    let by_hand = super::by_hand(bins, &dir, whole.office.ports.standins)?;
    let (.., hand) = with_connections(by_hand.1, ("/bench/nothing", 404), by_hand.0.id())?;
    drop(by_hand);

    deploy_many(bins, &whole, &dir, FEW..MANY)?;
    let mut starts = Vec::with_capacity(STARTS);
    for _ in 0..STARTS {
        let begun = Instant::now();
        whole.office.restart_service()?;
        let took = begun.elapsed().as_secs_f64() * 1000.0;
        starts.push((took, super::processor_time(whole.office.service.id()) * 1000.0));
    }
    starts.sort_by(|a, b| a.0.total_cmp(&b.0));
    let many = settled(whole.office.service.id());
    whole.stop();
    let _ = std::fs::remove_dir_all(&dir);
    Ok(Idle { few, connected, each: [ours, hand], ready: starts[STARTS / 2], many })
}

/// Memory of a process without connections and with them, and kilobytes of each of them.
fn with_connections(port: u16, asked: (&str, u16), process: u32) -> Result<(Memory, Memory, f64), Fault> {
    let before = settled(process);
    let kept = connections(port, asked)?;
    let connected = settled(process);
    Ok((before, connected, (connected.all() - before.all()) * 1000.0 / kept.len() as f64))
}

fn row(what: &str, found: &str, wanted: &str) {
    let wanted = if wanted.is_empty() { String::new() } else { format!("  (wanted under {wanted})") };
    println!("{what:<44} {found}{wanted}");
}

/// Deploys copies of a workflow with two calls, each with an endpoint of its own.
fn deploy_many(bins: &Path, whole: &Whole, dir: &Path, which: std::ops::Range<usize>) -> Result<(), Fault> {
    let many = dir.join(format!("many-{}", which.start));
    std::fs::create_dir_all(&many)?;
    let text = std::fs::read_to_string(root().join("testing/bench/workflows/quotes.yaml"))?;
    for n in which {
        let renamed = text
            .replace("workflow: bench-quotes", &format!("workflow: many-{n}"))
            .replace("/harbours/{harbour}/quotes", &format!("/many/{n}/{{harbour}}"));
        std::fs::write(many.join(format!("many-{n}.yaml")), renamed)?;
    }
    deploy(bins, whole, &many)
}

/// Opens connections, each of which has had one answer with this status.
fn connections(port: u16, (path, status): (&str, u16)) -> Result<Vec<TcpStream>, Fault> {
    let open = |at: usize| -> Result<TcpStream, Fault> {
        let failed = |error: std::io::Error| {
            format!(
                "connection {at} failed: {error}; `ulimit -n` must allow {CONNECTIONS} in this process and in the service"
            )
        };
        let mut stream = TcpStream::connect(("127.0.0.1", port)).map_err(failed)?;
        write!(stream, "GET {path} HTTP/1.1\r\nHost: 127.0.0.1\r\n\r\n").map_err(failed)?;
        let mut answer = [0; 1024];
        let read = stream.read(&mut answer).map_err(failed)?;
        match answer[..read].starts_with(format!("HTTP/1.1 {status}").as_bytes()) {
            true => Ok(stream),
            false => Err(format!("connection {at} is refused: {}", String::from_utf8_lossy(&answer[..read])).into()),
        }
    };
    (0..CONNECTIONS).map(open).collect()
}

/// Resident memory of a process in megabytes (proc(5)).
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Memory {
    /// What it has allocated.
    own: f64,
    /// Parts of the program and of libraries, which other processes share and the system can drop.
    files: f64,
}

impl Memory {
    fn of(process: u32) -> Self {
        let status = std::fs::read_to_string(format!("/proc/{process}/status")).unwrap_or_default();
        let field = |name: &str| {
            let found = status.lines().find_map(|line| line.strip_prefix(name));
            found.and_then(|rest| rest.trim().split(' ').next()?.parse::<f64>().ok()).unwrap_or(0.0) / 1000.0
        };
        Memory { own: field("RssAnon:"), files: field("RssFile:") + field("RssShmem:") }
    }

    pub fn all(&self) -> f64 {
        self.own + self.files
    }

    pub fn parts(&self) -> String {
        format!("{:.1} MB allocated, {:.1} of the program", self.own, self.files)
    }
}

impl std::fmt::Display for Memory {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{:.1} MB: {}", self.all(), self.parts())
    }
}

/// Memory once it stands still: what starting needed is returned within moments.
fn settled(process: u32) -> Memory {
    let mut before = Memory::of(process);
    let same = || {
        std::thread::sleep(Duration::from_secs(4));
        let now = Memory::of(process);
        let still = (now.all() - before.all()).abs() < 0.5;
        before = now;
        still.then_some(now)
    };
    wait::until(SETTLES, same).unwrap_or_else(|| Memory::of(process))
}
