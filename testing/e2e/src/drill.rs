//! Drills: services are killed and the database becomes unavailable under load, and what was accepted is counted
//! afterwards. Short ones are tests; `cargo xtask drill` runs them as long as wanted.

use std::collections::{BTreeMap, HashMap, HashSet};
use std::path::PathBuf;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

use kanzlei_harness::mariadb::Mariadb;
use kanzlei_harness::network::Host;
use kanzlei_harness::office::{Office, Ports};
use kanzlei_harness::process::Process;
use kanzlei_harness::wait;
use serde_json::Value as Json;

use crate::{deploy_texts, try_http};

/// Two calls that the ledger counts by job and step, as a key of its own shows neither; and between them a row that must be written once, files that are read, written and stored, and
/// something that takes a moment, so that kills find jobs in all states.
const WORKFLOW: &str = "workflow: drill\ninput: {n: {type: integer}, wait: {type: string}, paper: {type: file}}\nentries: [{endpoint: PUT /drill, access: open, answer: later, from: {n: query.n, wait: query.wait}}]\nqueue: {retry: {attempts: 21, first: 100ms, max: 1s}}\nsteps:\n  - {call: \"POST LEDGER/ledger/entries\", headers: {X-Entry: \"${run.id}-1\"}, body: {n: \"${input.n}\"}}\n  - {sql: harbour, statement: \"INSERT INTO arrival (harbour, imo, arrives) VALUES ('LIN', '0000000', :job)\", bind: {job: \"${run.id.slice(0, 30)}\"}}\n  - {id: lines, file: read, of: \"${input.paper}\", format: ndjson}\n  - {id: copy, file: write, of: \"${lines}\", format: ndjson}\n  - pause: ${input.wait}\n  - {file: store, of: \"${copy}\", to: {archive: \"drill/${run.id}\"}}\n  - {call: \"POST LEDGER/ledger/entries\", headers: {X-Entry: \"${run.id}-2\"}, body: {n: \"${input.n}\"}}\n  - reply: 200\n    body: {n: \"${input.n}\"}\n";

/// What a drill found.
#[derive(Debug, Default)]
pub struct Found {
    pub accepted: usize,
    pub refused: u64,
    pub kills: usize,
    pub ended: BTreeMap<String, usize>,
    /// Why jobs failed, some of them.
    pub failures: Vec<String>,
    /// Jobs that did not end.
    pub stuck: Vec<String>,
    pub calls: usize,
    /// Keys that were called more than once: their first calls were never written down.
    pub repeated: usize,
    /// Keys that were called again after what came of them was written down.
    pub repeated_after_journaled: Vec<String>,
    /// Keys whose calls were compared with what was written down.
    pub compared: usize,
    /// Rows that jobs wrote into the harbour's database.
    pub rows: usize,
    /// Accepted jobs whose row is not there exactly once.
    pub not_once: Vec<String>,
    /// Accepted jobs whose file is not stored as it was sent, and files that belong to none.
    pub not_whole: Vec<String>,
    pub took: Duration,
}

impl Found {
    /// Whether nothing was lost, stuck, or done twice that must not be.
    pub fn good(&self) -> bool {
        self.stuck.is_empty()
            && self.repeated_after_journaled.is_empty()
            && self.not_once.is_empty()
            && self.not_whole.is_empty()
            && self.accepted > 0
            && self.compared >= 2 * self.accepted
            && self.ended.get("succeeded") == Some(&self.accepted)
    }
}

impl std::fmt::Display for Found {
    fn fmt(&self, f: &mut std::fmt::Formatter) -> std::fmt::Result {
        writeln!(
            f,
            "{} jobs accepted, {} requests refused, {} kills, {:?}",
            self.accepted, self.refused, self.kills, self.took
        )?;
        writeln!(f, "ended: {:?}; stuck: {}", self.ended, self.stuck.len())?;
        self.failures.iter().try_for_each(|why| writeln!(f, "failed: {why}"))?;
        write!(
            f,
            "{} calls for {} entries; {} entries called more than once, {} of them after what came of it was written down\n{} rows written by SQL steps; jobs without exactly one: {}\nfiles that are not stored as they were sent: {}",
            self.calls,
            self.compared,
            self.repeated,
            self.repeated_after_journaled.len(),
            self.rows,
            self.not_once.len(),
            self.not_whole.len()
        )
    }
}

/// What a client sends: the same number on each line; every other one is small enough to stay in memory.
fn paper(n: usize) -> String {
    format!("{n}\n").repeat(if n.is_multiple_of(2) { 100 } else { 20_000 })
}

/// Accepted jobs without their file, or with another one than they were sent; and files of nothing that was begun, such as half of one.
fn not_whole(stored: &[PathBuf], accepted: &[String]) -> Vec<String> {
    let is_whole = |path: &PathBuf| {
        let text = std::fs::read_to_string(path).unwrap_or_default();
        let number = text.lines().next().and_then(|line| line.parse().ok());
        number.is_some_and(|n| text == paper(n))
    };
    // A process that is killed leaves what it was staging; a place lists and reads none of that.
    let staged = |path: &&PathBuf| path.file_name().is_some_and(|name| name.to_string_lossy().contains('#'));
    let (whole, broken): (Vec<_>, Vec<_>) = stored.iter().filter(|path| !staged(path)).partition(|path| is_whole(path));
    let names: HashSet<_> = whole.iter().filter_map(|path| path.file_name()?.to_str()).collect();
    let missing = accepted.iter().filter(|id| !names.contains(id.as_str())).cloned();
    missing.chain(broken.iter().map(|path| path.display().to_string())).collect()
}

/// A key of the ledger: the step's record, the key itself, and when it was called.
type Key<'l> = (u32, &'l String, &'l Vec<i64>);

/// A service beside the office's own.
#[derive(Clone, Debug, Default)]
pub struct Beside {
    /// What it has in its environment.
    pub environment: Vec<(&'static str, String)>,
    /// Where it runs; where the drill runs by default.
    pub host: Option<Host>,
}

/// Several services on one database, and clients that queue jobs at any of them.
pub struct Drill<'o> {
    office: &'o mut Office,
    others: Vec<(Process, Ports)>,
    /// How the others are started.
    beside: Vec<Beside>,
    public: Arc<Mutex<Vec<u16>>>,
    accepted: Arc<Mutex<Vec<String>>>,
    refused: Arc<AtomicU64>,
    stop: Arc<AtomicBool>,
    clients: Vec<std::thread::JoinHandle<()>>,
    begun: Instant,
    kills: usize,
}

impl<'o> Drill<'o> {
    /// Deploys the drill's workflow, starts more services and `clients` clients.
    pub fn start(office: &'o mut Office, beside: Vec<Beside>, clients: usize, pause: Duration) -> Self {
        let ledger = format!("http://127.0.0.1:{}", office.ports.standins);
        let service = format!("service: ledger\nbase: {ledger}\nnetwork: private\n");
        let deployed = deploy_texts(office, &[("s.yaml", &service), ("d.yaml", &WORKFLOW.replace("LEDGER", &ledger))]);
        assert_eq!(deployed.status, 200, "{deployed:?}");
        let start = |(at, beside): (usize, &Beside)| another(office, at + 2, beside);
        let others: Vec<_> = beside.iter().enumerate().map(start).collect();
        let public = std::iter::once(office.ports.public).chain(others.iter().map(|(_, ports)| ports.public));
        let mut drill = Drill {
            public: Arc::new(Mutex::new(public.collect())),
            office,
            others,
            beside,
            accepted: Arc::default(),
            refused: Arc::default(),
            stop: Arc::default(),
            clients: Vec::new(),
            begun: Instant::now(),
            kills: 0,
        };
        for client in 0..clients {
            let (public, accepted) = (drill.public.clone(), drill.accepted.clone());
            let (refused, stop) = (drill.refused.clone(), drill.stop.clone());
            drill.clients.push(std::thread::spawn(move || {
                let mut n = client;
                while !stop.load(Ordering::Relaxed) {
                    n += clients;
                    let port = {
                        let ports = public.lock().expect("ports");
                        ports[n % ports.len()]
                    };
                    let url = format!("http://127.0.0.1:{port}/drill?n={n}&wait={}ms", 1 + n % 50);
                    let answer = try_http("PUT", &url, &[("content-type", "text/plain")], paper(n).as_bytes());
                    match answer.filter(|answer| answer.status == 202) {
                        Some(answer) => {
                            let id = answer.json()["id"].as_str().expect("id").to_owned();
                            accepted.lock().expect("accepted").push(id);
                        }
                        None => _ = refused.fetch_add(1, Ordering::Relaxed),
                    }
                    std::thread::sleep(pause);
                }
            }));
        }
        drill
    }

    pub fn accepted(&self) -> usize {
        self.accepted.lock().expect("accepted").len()
    }

    /// Waits until so many more jobs were accepted.
    pub fn more(&self, count: usize) {
        let wanted = self.accepted() + count;
        wait::until(Duration::from_secs(60), || (self.accepted() >= wanted).then_some(())).unwrap_or_else(|| {
            panic!("no {count} more jobs are accepted; {} refused", self.refused.load(Ordering::Relaxed))
        });
    }

    /// Waits until each service accepts so many more jobs, now that nothing is wrong.
    pub fn everywhere(&self, count: usize) {
        let ports = self.public.lock().expect("ports").clone();
        for port in ports {
            let accepts = || {
                let url = format!("http://127.0.0.1:{port}/drill?n=1&wait=1ms");
                let answer = try_http("PUT", &url, &[("content-type", "text/plain")], paper(1).as_bytes())?;
                let id = (answer.status == 202).then(|| answer.json()["id"].as_str().expect("id").to_owned())?;
                self.accepted.lock().expect("accepted").push(id);
                Some(())
            };
            wait::until(Duration::from_secs(60), accepts)
                .unwrap_or_else(|| panic!("the service at port {port} accepts nothing"));
        }
        self.more(count);
    }

    /// The first service.
    pub fn service(&self) -> &Process {
        &self.office.service
    }

    /// Its public port.
    pub fn service_port(&self) -> u16 {
        self.office.ports.public
    }

    /// Whether the first service has ended.
    pub fn died(&mut self) -> bool {
        self.office.service.ended().is_some()
    }

    /// Waits until a request is refused: whoever accepts notices that the database is unavailable.
    pub fn refusal(&self) {
        let before = self.refused.load(Ordering::Relaxed);
        wait::until(Duration::from_secs(60), || (self.refused.load(Ordering::Relaxed) > before).then_some(()))
            .expect("a request is refused");
    }

    /// Has services that start from now on run another program.
    pub fn upgrade(&mut self, program: &std::path::Path) {
        self.office.replace_program(program);
    }

    /// Stops one of the services as an upgrade does, and starts it again.
    pub fn restart(&mut self, which: usize) {
        match which % (1 + self.others.len()) {
            0 => self.office.service.stop(Duration::from_secs(35)),
            at => self.others[at - 1].0.stop(Duration::from_secs(35)),
        };
        self.kill(which);
        self.kills -= 1;
    }

    /// Kills one of the services as a crash would, and starts it again.
    pub fn kill(&mut self, which: usize) {
        self.kills += 1;
        match which % (1 + self.others.len()) {
            0 => {
                self.office.service.kill();
                self.office.restart_service().expect("the service starts again");
            }
            at => {
                self.others[at - 1].0.kill();
                self.others[at - 1] = another(self.office, at + 1, &self.beside[at - 1]);
                let mut ports = self.public.lock().expect("ports");
                ports[at] = self.others[at - 1].1.public;
            }
        }
    }

    /// Stops the clients, waits until every accepted job has ended, and counts.
    pub fn finish(self, server: &Mariadb, database: &str, most: Duration) -> Found {
        self.stop.store(true, Ordering::Relaxed);
        for client in self.clients {
            client.join().expect("client");
        }
        let accepted = self.accepted.lock().expect("accepted").clone();
        let open = || -> usize {
            let sql = "SELECT COUNT(*) FROM job WHERE phase < 10";
            server.sql(database, sql).ok().and_then(|count| count.trim().parse().ok()).unwrap_or(usize::MAX)
        };
        let _ = wait::until(most, || (open() == 0).then_some(()));
        let rows = server.sql(database, "SELECT HEX(id), phase FROM job").expect("jobs");
        let phases: HashMap<String, u8> = rows
            .lines()
            .filter_map(|row| row.split_once('\t'))
            .map(|(id, phase)| (id.to_lowercase(), phase.trim().parse().expect("phase")))
            .collect();
        let failures = "SELECT CONCAT(retries, ' retries: ', failure) FROM job WHERE phase = 12 LIMIT 3";
        let failures = server.sql(database, failures).expect("failures").lines().map(str::to_owned).collect();
        let mut found = Found {
            failures,
            accepted: accepted.len(),
            refused: self.refused.load(Ordering::Relaxed),
            kills: self.kills,
            took: self.begun.elapsed(),
            ..Found::default()
        };
        for id in &accepted {
            let state = match phases.get(&id.replace('-', "")) {
                Some(11) => "succeeded",
                Some(12) => "failed",
                Some(13) => "cancelled",
                _ => {
                    found.stuck.push(id.clone());
                    "open"
                }
            };
            *found.ended.entry(state.to_owned()).or_default() += 1;
        }
        let sql = "SELECT arrives, COUNT(*) FROM arrival WHERE imo = '0000000' GROUP BY arrives";
        let written = server.sql(&format!("{database}_harbour"), sql).expect("rows");
        let written: HashMap<&str, usize> = written
            .lines()
            .filter_map(|row| row.split_once('\t'))
            .map(|(job, count)| (job, count.trim().parse().expect("count")))
            .collect();
        found.rows = written.values().sum();
        let once = |id: &&String| written.get(&id[..30]) == Some(&1);
        found.not_once = accepted.iter().filter(|id| !once(id)).cloned().collect();
        let folder = self.office.service.log.with_file_name("places").join("archive/drill");
        let stored = crate::files_below(&folder);
        found.not_whole = not_whole(&stored, &accepted);
        // What came of calls, by job in the order of its steps; the ledger's calls by job likewise.
        let sql = "SELECT HEX(job), at FROM (SELECT * FROM outcome UNION ALL SELECT * FROM outcome_of_drill) written
                   WHERE void = 0 AND data LIKE '{\"called\"%' ORDER BY job, seq";
        let mut written: HashMap<String, Vec<i64>> = HashMap::new();
        for (job, at) in server.sql(database, sql).expect("outcomes").lines().filter_map(|row| row.split_once('\t')) {
            written.entry(job.to_lowercase()).or_default().push(at.trim().parse().expect("instant"));
        }
        let url = format!("http://127.0.0.1:{}/~/ledger", self.office.ports.standins);
        let ledger: BTreeMap<String, Vec<i64>> =
            serde_json::from_value(try_http("GET", &url, &[], b"").map_or(Json::Null, |a| a.json())).expect("ledger");
        let mut by_job: HashMap<String, Vec<Key>> = HashMap::new();
        for (key, times) in &ledger {
            found.calls += times.len();
            found.repeated += usize::from(times.len() > 1);
            let Some((job, record)) = key.rsplit_once('-') else { continue };
            by_job.entry(job.replace('-', "")).or_default().push((record.parse().expect("record"), key, times));
        }
        for (job, mut keys) in by_job {
            keys.sort();
            let written = written.get(&job).cloned().unwrap_or_default();
            for ((_, key, times), at) in keys.into_iter().zip(written) {
                found.compared += 1;
                // A call that was made once was not made again, whatever the clocks say.
                let late = times.iter().max().map_or(0, |last| last - at);
                if times.len() > 1 && late > UNDER_WAY {
                    found.repeated_after_journaled.push(format!("{key}, {} ms later", late / 1000));
                }
            }
        }
        for (mut process, _) in self.others {
            process.stop(Duration::from_secs(20));
        }
        found
    }
}

fn another(office: &Office, number: usize, beside: &Beside) -> (Process, Ports) {
    let started = office.another_with(number, &[], &beside.environment, beside.host.as_ref());
    started.expect("another service")
}

/// How long a call that was sent before its owner was declared dead may be under way on a starved machine,
/// in microseconds: it may arrive behind the outcome of who took over. A step that is begun again although
/// its outcome was written shows later than this: nobody reclaims within a second of a kill.
const UNDER_WAY: i64 = 1_000_000;

/// Keeps outcomes that the service deletes when a job has succeeded: a drill compares them with the calls that arrived.
pub fn keep_outcomes(server: &Mariadb, database: &str) {
    let columns = "job, attempt, seq, effect, at, data, sealed, void";
    let old: Vec<String> = columns.split(", ").map(|column| format!("OLD.{column}")).collect();
    let sql = format!(
        "CREATE TABLE outcome_of_drill LIKE outcome;
         CREATE TRIGGER outcome_is_kept BEFORE DELETE ON outcome FOR EACH ROW
         INSERT IGNORE INTO outcome_of_drill ({columns}) VALUES ({})",
        old.join(", ")
    );
    server.sql(database, &sql).expect("a trigger");
}

/// Cuts all connections to a server, and returns when they have ended.
///
/// MariaDB 10.11 can crash when `KILL` ends a statement that is building a temporary table
/// (`ha_maria::drop_table`). A crashed server is reported and started again: a crash of the database must
/// not lose a job either.
pub fn cut(server: &mut Mariadb) {
    let sql = "SELECT id FROM information_schema.processlist WHERE id <> CONNECTION_ID() AND user = 'kanzlei'";
    let ids = |server: &Mariadb| -> Option<Vec<String>> {
        Some(server.sql("kanzlei", sql).ok()?.lines().map(|id| id.trim().to_owned()).collect())
    };
    let cut = ids(server).expect("connections");
    for id in &cut {
        // Some are gone by now.
        let _ = server.sql("kanzlei", &format!("KILL {id}"));
    }
    let ended = wait::until(Duration::from_secs(30), || match ids(server) {
        Some(open) => open.iter().all(|id| !cut.contains(id)).then_some(true),
        None => Some(false),
    });
    if !ended.expect("the cut connections end") {
        println!("MariaDB crashed while its connections were cut; it is started again");
        server.stop();
        server.run().expect("the database starts again");
    }
}
