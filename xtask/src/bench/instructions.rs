//! `cargo xtask bench instructions`: what a request costs in instructions of the processor, ours and written by hand, and where
//! they go.
//!
//! The programs run below valgrind's callgrind, which counts what they execute. A count is repeatable within some per cent, whatever else the
//! machine does; it has no system calls, no database and no caches in it. What a program does without requests is measured for as long and
//! taken off.

use std::collections::BTreeMap;
use std::fs;
use std::os::unix::fs::{PermissionsExt, symlink};
use std::path::{Path, PathBuf};
use std::process::{Command, ExitCode};
use std::time::{Duration, Instant};

use kanzlei_harness::office::{Ports, Whole};
use kanzlei_harness::process::Process;
use kanzlei_harness::{packages, ports, rights, scratch};
use serde_json::json;

use super::deploy;
use super::load::{Asked, NOTICES, QUOTES, TOGETHER};
use crate::{Done, Fault, build, root, run};

/// How long the program is measured without requests.
const IDLE: Duration = Duration::from_secs(8);
/// How long requests are sent at a time, and how many times at most.
const ROUND: Duration = Duration::from_secs(4);
const ROUNDS: u32 = 12;
/// Requests before the program is measured: the journal has learned its dictionary then, of 500 runs.
const BEFORE: u64 = 800;
/// Requests after which it has been measured long enough.
const ENOUGH: u64 = 1500;
/// Connections that send requests, and those that queue jobs: below callgrind more of these are refused.
const CONNECTIONS: u32 = 16;
const QUEUEING: u32 = 2;
/// Copies and clears memory of any size with vector instructions: callgrind counts each byte of a repeated string instruction as one.
const STRINGS: &str = "glibc.cpu.x86_rep_movsb_threshold=1000000000:glibc.cpu.x86_rep_stosb_threshold=1000000000";
/// Functions that are named with `--functions`.
const FUNCTIONS: usize = 40;

/// What is asked for again and again.
struct Scenario {
    asked: Asked,
    /// Whether a job comes of each request, and is waited for.
    queued: bool,
}

const JOB: Asked =
    Asked { name: "a job, accepted and finished", path: "/bench/job", body: Some("{\"n\":1}"), wanted: 0.8 };
const SCENARIOS: [Scenario; 4] = [
    Scenario { asked: NOTICES, queued: false },
    Scenario { asked: QUOTES, queued: false },
    Scenario { asked: TOGETHER, queued: false },
    Scenario { asked: JOB, queued: true },
];

/// A program whose instructions are counted.
struct Counted<'p> {
    process: &'p Process,
    port: u16,
    folder: PathBuf,
}

/// What a request costs.
struct Cost {
    requests: u64,
    /// Instructions of one, without what the program does without requests.
    each: f64,
    /// All of them by function, with those that the program executes without requests.
    functions: BTreeMap<String, u64>,
}

pub fn instructions(only: Option<&str>, functions: bool, record: bool) -> Done {
    packages::install(&[
        packages::MARIADB,
        packages::WRK,
        packages::VALGRIND,
        packages::CHROMIUM,
        packages::CHROMEDRIVER,
    ])?;
    let chosen: Vec<&Scenario> =
        SCENARIOS.iter().filter(|known| only.is_none_or(|only| known.asked.name == only)).collect();
    if chosen.is_empty() {
        let known: Vec<&str> = SCENARIOS.iter().map(|known| known.asked.name).collect();
        return Err(format!("there is no such scenario; scenarios: {}", known.join(", ")).into());
    }
    build::console()?;
    let bins = build::programs(true)?;
    let dir = scratch::folder("instructions");
    let programs = dir.join("programs");
    let (ours, theirs) = (dir.join("kanzleid-counts"), dir.join("by-hand-counts"));
    counting(&bins, &programs, "kanzleid", &ours)?;
    counting(&bins, &programs, "kanzlei-handwritten", &theirs)?;
    let whole = Whole::start(&programs, &dir.join("office"), Ports::free()?, &["workers=1", "log.level=warn"])?;
    let port = ports::free()?;
    let mut command = rights::without_rights(&programs.join("kanzlei-handwritten"), &theirs)?;
    let standins = format!("http://127.0.0.1:{}", whole.office.ports.standins);
    command.args([format!("127.0.0.1:{port}"), standins, "1".into()]);
    let mut by_hand = Process::start("the hand-written service", command, &dir.join("by-hand.log"))?;
    by_hand.wait_for(Duration::from_secs(30), || std::net::TcpStream::connect(("127.0.0.1", port)).ok())?;
    deploy(&programs, &whole, &root().join("demo/harbour/services"))?;
    deploy(&programs, &whole, &root().join("testing/bench/workflows"))?;

    let ours = Counted { process: &whole.office.service, port: whole.office.ports.public, folder: ours };
    let by_hand = Counted { process: &by_hand, port, folder: theirs };
    println!("One worker each, {CONNECTIONS} connections; thousands of instructions a request.\n");
    let (mut row, mut drawn) = (Vec::new(), Vec::new());
    for scenario in chosen {
        let cost = ours.cost(scenario, &whole)?;
        let hand = (!scenario.queued).then(|| by_hand.cost(scenario, &whole)).transpose()?;
        println!("{} ({} requests)", scenario.asked.name, cost.requests);
        println!("  {:<44} {:>9.1}", "Kanzlei, all threads", cost.each / 1e3);
        if let Some(hand) = &hand {
            println!("  {:<44} {:>9.1}", "by hand", hand.each / 1e3);
        }
        let parts = parts(&cost);
        for (part, share) in &parts {
            println!("    {part:<42} {share:>9.1}");
        }
        if functions {
            for (name, share) in largest(&cost) {
                println!("    {share:>9.1}  {name}");
            }
        }
        println!();
        let by_hand = hand.map(|hand| hand.each);
        drawn.push(json!({"name": scenario.asked.name, "each": cost.each / 1e3, "by_hand": by_hand.map(|n| n / 1e3), "parts": parts}));
        row.push((scenario.asked.name, cost.each, by_hand));
    }
    whole.stop();
    if record {
        keep(&row)?;
        let figures = dir.join("parts.json");
        fs::write(&figures, json!({"scenarios": drawn}).to_string())?;
        let mut picture = Command::new(bins.join("kanzlei-shots"));
        run(picture.arg("parts").arg(&figures).arg(root().join("docs/bench-parts.png")))?;
    }
    let _ = fs::remove_dir_all(&dir);
    Ok(ExitCode::SUCCESS)
}

/// Puts a program into a folder, started below callgrind, beside links to the other programs.
fn counting(bins: &Path, programs: &Path, name: &str, counts: &Path) -> Result<(), Fault> {
    for folder in [programs, counts] {
        fs::create_dir_all(folder)?;
    }
    // The program writes its counts as another user.
    fs::set_permissions(counts, fs::Permissions::from_mode(0o777))?;
    let (own, script) = (programs.join(format!("{name}.counted")), programs.join(name));
    fs::copy(bins.join(name), &own)?;
    let _ = fs::remove_file(&script);
    let text = format!(
        "#!/bin/sh\nexport TMPDIR={0} GLIBC_TUNABLES={STRINGS}\nexec valgrind -q --tool=callgrind --instr-atstart=no --fair-sched=yes --callgrind-out-file={0}/counts {1} \"$@\"\n",
        counts.display(),
        own.display()
    );
    fs::write(&script, text)?;
    fs::set_permissions(&script, fs::Permissions::from_mode(0o755))?;
    for other in ["kanzlei", "kanzlei-standins"] {
        let link = programs.join(other);
        if !link.exists() {
            symlink(bins.join(other), link)?;
        }
    }
    Ok(())
}

impl Counted<'_> {
    /// What a scenario costs: measured with requests and without.
    fn cost(&self, scenario: &Scenario, whole: &Whole) -> Result<Cost, Fault> {
        self.send(scenario, BEFORE, whole)?;
        let (idle, _) = self.counted(|| {
            std::thread::sleep(IDLE);
            Ok(0)
        })?;
        let begun = Instant::now();
        let (functions, requests) = self.counted(|| self.send(scenario, ENOUGH, whole))?;
        let took = begun.elapsed().as_secs_f64() / IDLE.as_secs_f64();
        let sum = |functions: &BTreeMap<String, u64>| functions.values().sum::<u64>() as f64;
        let each = (sum(&functions) - sum(&idle) * took).max(0.0) / requests.max(1) as f64;
        Ok(Cost { requests, each, functions })
    }

    /// Counts while something is done; returns instructions by function, and what it returned.
    fn counted(&self, work: impl FnOnce() -> Result<u64, Fault>) -> Result<(BTreeMap<String, u64>, u64), Fault> {
        self.control(&["-i", "on"])?;
        let done = work();
        self.control(&["-i", "off"])?;
        self.control(&["-d"])?;
        let newest = fs::read_dir(&self.folder)?
            .flatten()
            .filter_map(|entry| entry.file_name().to_str()?.strip_prefix("counts.")?.parse::<u32>().ok())
            .max()
            .ok_or("callgrind wrote no counts")?;
        let text = fs::read_to_string(self.folder.join(format!("counts.{newest}")))?;
        Ok((functions(&text), done?))
    }

    fn control(&self, args: &[&str]) -> Result<(), Fault> {
        // It finds the program by files that only its own user reads.
        let mut command = rights::without_rights(Path::new("/usr/bin/callgrind_control"), &self.folder)?;
        command.args(args).arg(self.process.id().to_string());
        let output = command.env("TMPDIR", &self.folder).output()?;
        match output.status.success() {
            true => Ok(()),
            false => Err(format!("callgrind_control: {}", String::from_utf8_lossy(&output.stderr)).into()),
        }
    }

    /// Sends requests until so many were answered, or for a time; returns how many were. Jobs have ended then.
    fn send(&self, scenario: &Scenario, enough: u64, whole: &Whole) -> Result<u64, Fault> {
        let mut answered = 0;
        for _ in 0..ROUNDS {
            answered += self.send_once(scenario)?;
            if answered >= enough {
                break;
            }
        }
        let under_way = "SELECT COUNT(*) FROM job WHERE phase IN (1, 2, 3)";
        while scenario.queued && whole.database.sql("kanzlei", under_way)?.trim() != "0" {
            std::thread::sleep(Duration::from_millis(100));
        }
        Ok(answered)
    }

    fn send_once(&self, scenario: &Scenario) -> Result<u64, Fault> {
        let script = scenario.asked.script(&self.folder)?;
        let connections = if scenario.queued { QUEUEING } else { CONNECTIONS };
        let output = Command::new("wrk")
            .args(["-t1", &format!("-c{connections}"), &format!("-d{}s", ROUND.as_secs()), "--timeout=30s", "-s"])
            .arg(&script)
            .arg(format!("http://127.0.0.1:{}{}", self.port, scenario.asked.path))
            .output()?;
        let output = String::from_utf8_lossy(&output.stdout);
        let requests = output.lines().find_map(|line| line.trim().split_once(" requests in ")?.0.parse().ok());
        requests.filter(|_| !output.contains("Non-2xx")).ok_or_else(|| format!("wrk: {output}").into())
    }
}

/// Instructions by function, each without those of the functions that it calls, from a file of callgrind.
fn functions(text: &str) -> BTreeMap<String, u64> {
    let (mut names, mut of, mut counts) = (BTreeMap::new(), String::new(), BTreeMap::new());
    let mut of_a_call = false;
    for line in text.lines() {
        if let Some((key, name)) = line.split_once('=').filter(|(key, _)| matches!(*key, "fn" | "cfn")) {
            // `(12) name` where it comes first, `(12)` behind that.
            let (number, text) = name.split_once(' ').unwrap_or((name, ""));
            if !text.is_empty() {
                names.insert(number.to_owned(), text.to_owned());
            }
            if key == "fn" {
                of = number.to_owned();
            }
        } else if line.starts_with("calls=") {
            of_a_call = true;
        } else if line.starts_with(|first: char| first.is_ascii_digit() || matches!(first, '+' | '-' | '*')) {
            let count = line.split(' ').nth(1).and_then(|count| count.parse::<u64>().ok());
            if let (Some(count), false) = (count, std::mem::take(&mut of_a_call)) {
                *counts.entry(of.clone()).or_insert(0) += count;
            }
        }
    }
    let named = |(number, count)| (names.get(&number).cloned().unwrap_or(number), count);
    let mut all = BTreeMap::new();
    counts.into_iter().map(named).for_each(|(name, count)| *all.entry(name).or_insert(0) += count);
    all
}

/// Parts of the program, by what the names of their functions have in them; the first that fits counts.
const PARTS: [(&str, &[&str]); 12] = [
    ("journal", &["kanzlei_runtime::journal", "kanzlei_store::journal", "rmp"]),
    ("compression", &["ZSTD", "HUF_", "FSE_", "zstd", "XXH", "HIST_"]),
    ("language and machine", &["kanzlei_engine", "kanzlei_lang", "kanzlei_model"]),
    ("input", &["kanzlei_compiler", "jsonschema", "regex", "serde_json"]),
    ("effects", &["kanzlei_runtime::effects", "reqwest", "hyper", "h2::", "rustls", "tower"]),
    ("queue", &["kanzlei_runtime::queue", "kanzlei_runtime::worker", "kanzlei_store::queue"]),
    ("rest of Kanzlei", &["kanzlei_", "kanzleid"]),
    ("database client", &["sqlx"]),
    ("HTTP server", &["actix", "httparse", "http::"]),
    ("logging", &["tracing", "sharded_slab"]),
    ("scheduling", &["tokio", "mio::", "futures", "crossbeam"]),
    ("memory", &["mi_", "mem", "malloc", "free", "realloc"]),
];

/// Thousands of instructions of a request by part of the program, largest first.
fn parts(cost: &Cost) -> Vec<(&'static str, f64)> {
    let part_of = |name: &str| {
        let known = PARTS.iter().find(|(_, marks)| marks.iter().any(|mark| name.contains(mark)));
        known.map_or("everything else", |(part, _)| part)
    };
    let mut parts: BTreeMap<&str, u64> = BTreeMap::new();
    cost.functions.iter().for_each(|(name, count)| *parts.entry(part_of(name)).or_default() += count);
    sorted(parts, cost.requests)
}

/// Thousands of instructions of a request of the functions with the most.
fn largest(cost: &Cost) -> Vec<(&str, f64)> {
    let mut all = sorted(cost.functions.iter().map(|(name, count)| (name.as_str(), *count)), cost.requests);
    all.truncate(FUNCTIONS);
    all
}

fn sorted<'n>(counts: impl IntoIterator<Item = (&'n str, u64)>, requests: u64) -> Vec<(&'n str, f64)> {
    let each = |count: u64| count as f64 / requests.max(1) as f64 / 1e3;
    let mut all: Vec<(&str, f64)> = counts.into_iter().map(|(name, count)| (name, each(count))).collect();
    all.sort_by(|a, b| b.1.total_cmp(&a.1));
    all
}

/// Adds a row to the table over time.
fn keep(row: &[(&str, f64, Option<f64>)]) -> Result<(), Fault> {
    let file = root().join("docs/bench/instructions.md");
    let text = fs::read_to_string(&file)?;
    let revision = output(Command::new("git").args(["describe", "--always", "--dirty"]).current_dir(root()))?;
    let date = output(Command::new("date").arg("+%F"))?;
    let cell = |scenario: &Scenario| {
        let found = row.iter().find(|(name, ..)| *name == scenario.asked.name);
        found.map_or("".into(), |(_, ours, hand)| match hand {
            Some(hand) => format!("{:.1} ({:.1})", ours / 1e3, hand / 1e3),
            None => format!("{:.1}", ours / 1e3),
        })
    };
    let cells: Vec<String> = SCENARIOS.iter().map(cell).collect();
    fs::write(&file, format!("{}\n| {date} | {revision} | {} |\n", text.trim_end(), cells.join(" | ")))?;
    println!("added to {}", file.display());
    Ok(())
}

fn output(command: &mut Command) -> Result<String, Fault> {
    Ok(String::from_utf8_lossy(&command.output()?.stdout).trim().to_owned())
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Costs of calls belong to what is called; positions may be relative.
    #[test]
    fn costs_are_those_of_the_functions_themselves() {
        let text = "events: Ir\n\nfl=(1) a.rs\nfn=(1) kanzlei_engine::run\n10 40\n+2 2\ncfn=(2) mi_malloc\ncalls=3 7\n12 300\n* 8\n\nfn=(2)\n7 300\nfn=(3) ZSTD_fast\n-3 5\nfn=(1)\n9 50\n\ntotals: 405\n";
        let counts = functions(text);
        let wanted = [("ZSTD_fast", 5), ("kanzlei_engine::run", 100), ("mi_malloc", 300)];
        assert_eq!(counts, wanted.map(|(name, count)| (name.to_owned(), count)).into());
        let cost = Cost { requests: 5, each: 81.0, functions: counts };
        let wanted = [("memory", 0.06), ("language and machine", 0.02), ("compression", 0.001)];
        assert_eq!(parts(&cost), wanted);
    }
}
