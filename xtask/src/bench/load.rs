//! Load: what services are asked again and again, and what an answer costs them.
//!
//! The load comes from wrk, which takes the least of a machine that all share. It knows nothing of benches: those say whom to measure.

use std::path::{Path, PathBuf};
use std::process::Command;

use kanzlei_harness::office::Whole;
use kanzlei_harness::process::Process;

use crate::Fault;

/// Connections that ask at the same time.
pub const CONNECTIONS: u32 = 32;
const NOTICE: &str = r#"{"imo":"9074720","nights":2,"cargo":"UN1202 gas oil"}"#;
const QUOTE: &str = r#"{"imo":"9074720","nights":2,"currency":"NOK"}"#;

/// A request that is sent again and again.
pub struct Asked {
    pub name: &'static str,
    pub path: &'static str,
    /// What is posted; a GET where there is none.
    pub body: Option<&'static str>,
    /// The wanted share of what the service by hand answers.
    pub wanted: f64,
}

pub const NOTICES: Asked =
    Asked { name: "validate and reply", path: "/harbours/LIN/notices", body: Some(NOTICE), wanted: 0.85 };
pub const QUOTES: Asked =
    Asked { name: "two chained calls", path: "/harbours/LIN/quotes", body: Some(QUOTE), wanted: 1.0 };
pub const TOGETHER: Asked = Asked { name: "eight calls at once", path: "/bench/together", body: None, wanted: 1.0 };

impl Asked {
    /// Writes what wrk sends of it into a folder.
    pub fn script(&self, dir: &Path) -> Result<PathBuf, Fault> {
        let file = dir.join("request.lua");
        let text = match self.body {
            Some(body) => format!(
                "wrk.method = 'POST'\nwrk.headers['Content-Type'] = 'application/json'\nwrk.body = [==[{body}]==]\n"
            ),
            None => "wrk.method = 'GET'\n".to_owned(),
        };
        std::fs::write(&file, text)?;
        Ok(file)
    }

    /// Asks services by turns; returns the median of each.
    pub fn by_turns<const N: usize>(
        &self,
        servers: [Server; N],
        dir: &Path,
        (seconds, rounds): (u32, u32),
    ) -> Result<[Figure; N], Fault> {
        let script = self.script(dir)?;
        let mut figures = [const { Vec::new() }; N];
        for _ in 0..rounds {
            for (server, figures) in servers.iter().zip(&mut figures) {
                figures.push(measure(*server, self.path, &script, seconds)?);
            }
        }
        Ok(figures.map(median))
    }
}

/// One measurement.
#[derive(Clone, Copy)]
pub struct Figure {
    pub per_second: f64,
    pub p50: f64,
    pub p99: f64,
    /// Microseconds of processor time of the service per request.
    pub cpu: f64,
    /// The same of its database.
    pub database: f64,
}

/// What serves requests: a port, a process and its database.
#[derive(Clone, Copy)]
pub struct Server {
    pub port: u16,
    pub process: u32,
    pub database: Option<u32>,
}

impl Server {
    pub fn of(whole: &Whole) -> Self {
        let office = &whole.office;
        Server { port: office.ports.public, process: office.service.id(), database: Some(whole.database.id()) }
    }

    pub fn by_hand(port: u16, process: &Process) -> Self {
        Server { port, process: process.id(), database: None }
    }
}

/// Asks a service for so many seconds, behind one that does not count.
pub fn measure(server: Server, path: &str, script: &Path, seconds: u32) -> Result<Figure, Fault> {
    let url = format!("http://127.0.0.1:{}{path}", server.port);
    let wrk = |seconds: u32| {
        Command::new("wrk")
            .args(["-t1", &format!("-c{CONNECTIONS}"), &format!("-d{seconds}s"), "--latency", "-s"])
            .arg(script)
            .arg(&url)
            .output()
    };
    wrk(1)?;
    let used = || (processor_time(server.process), server.database.map_or(0.0, processor_time));
    let before = used();
    let output = String::from_utf8_lossy(&wrk(seconds)?.stdout).into_owned();
    let after = used();
    if output.contains("Non-2xx") {
        return Err(format!("{url} gave answers that are no success:\n{output}").into());
    }
    let field =
        |name: &str| output.lines().find_map(|l| l.trim().strip_prefix(name)).map(str::trim).unwrap_or("0").to_owned();
    let per_second: f64 = field("Requests/sec:").parse()?;
    let each = |seconds_used: f64| seconds_used / (per_second * f64::from(seconds)) * 1e6;
    Ok(Figure {
        per_second,
        p50: milliseconds(&field("50%")),
        p99: milliseconds(&field("99%")),
        cpu: each(after.0 - before.0),
        database: each(after.1 - before.1),
    })
}

fn milliseconds(text: &str) -> f64 {
    let digits = text.trim_end_matches(|c: char| c.is_ascii_alphabetic());
    let number: f64 = digits.parse().unwrap_or(0.0);
    match &text[digits.len()..] {
        "us" => number / 1000.0,
        "s" => number * 1000.0,
        _ => number,
    }
}

pub fn median(mut figures: Vec<Figure>) -> Figure {
    figures.sort_by(|a, b| a.per_second.total_cmp(&b.per_second));
    figures[figures.len() / 2]
}

/// Seconds of processor time a process used (proc(5), fields 14 and 15 of stat).
pub fn processor_time(process: u32) -> f64 {
    let stat = std::fs::read_to_string(format!("/proc/{process}/stat")).unwrap_or_default();
    let fields: Vec<&str> = stat.rsplit_once(") ").map_or("", |(_, rest)| rest).split(' ').collect();
    let ticks = |at: usize| fields.get(at).and_then(|f| f.parse::<f64>().ok()).unwrap_or(0.0);
    (ticks(11) + ticks(12)) / 100.0
}

/// Resident memory in megabytes.
pub fn resident(process: u32) -> f64 {
    let status = std::fs::read_to_string(format!("/proc/{process}/status")).unwrap_or_default();
    let kilobytes = status
        .lines()
        .find_map(|l| l.strip_prefix("VmRSS:"))
        .and_then(|l| l.trim().split(' ').next()?.parse::<f64>().ok());
    kilobytes.unwrap_or(0.0) / 1000.0
}
