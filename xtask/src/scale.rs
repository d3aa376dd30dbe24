//! `cargo xtask bench scale`: jobs a second with 1, 2 and 4 processes on 1 and 3 nodes, and what each job costs: processor time of services
//! and of databases, rows, bytes of the log, bytes that stay. All share this machine, so what is compared is the processor time.

use std::path::Path;
use std::process::{Child, Command, ExitCode, Stdio};
use std::time::{Duration, Instant};

use kanzlei_harness::cluster::Cluster;
use kanzlei_harness::mariadb::Mariadb;
use kanzlei_harness::office::{Databases, Office, Ports, control, get, harbour};
use kanzlei_harness::packages;
use kanzlei_harness::process::Process;
use kanzlei_harness::wait;

use crate::bench::{deploy_to, processor_time};
use crate::{Done, Fault, build, root, run};

const DATABASE: &str = "kanzlei_scale";
/// Connections of all clients together.
const CLIENTS: usize = 32;
/// Jobs wait for the lane while they are accepted.
const ACCEPTING: Duration = Duration::from_secs(6);

/// The database of one case.
enum Nodes {
    One(Mariadb),
    Three(Cluster),
}

impl Nodes {
    fn start(count: usize, dir: &Path) -> Result<Self, Fault> {
        Ok(match count {
            1 => Nodes::One(Mariadb::start(dir)?),
            count => Nodes::Three(Cluster::start(dir, count)?),
        })
    }

    fn all(&self) -> &[Mariadb] {
        match self {
            Nodes::One(node) => std::slice::from_ref(node),
            Nodes::Three(cluster) => &cluster.nodes,
        }
    }

    /// Addresses for a process: each begins with another node where the nodes are shared out, otherwise with the first one.
    fn urls(&self, process: usize, shared_out: bool) -> String {
        match self {
            Nodes::One(node) => node.url(DATABASE),
            Nodes::Three(cluster) if shared_out => cluster.urls(DATABASE, process % cluster.nodes.len()),
            Nodes::Three(cluster) => cluster.urls(DATABASE, 0),
        }
    }

    /// A number that the first node knows.
    fn number(&self, sql: &str) -> Result<f64, Fault> {
        let text = self.all()[0].sql(DATABASE, sql)?;
        Ok(text.trim().parse().map_err(|_| format!("{sql}: {text}"))?)
    }

    /// The sum of counters of the first node's status.
    fn status(&self, like: &str) -> Result<f64, Fault> {
        let sql = format!(
            "SELECT SUM(VARIABLE_VALUE) FROM information_schema.GLOBAL_STATUS WHERE VARIABLE_NAME LIKE '{like}'"
        );
        self.number(&sql)
    }
}

/// Counters at a moment.
struct Counters {
    at: Instant,
    services: f64,
    nodes: f64,
    rows: f64,
    log: f64,
}

/// What a phase did with each job.
struct Phase {
    per_second: f64,
    /// Microseconds of processor time.
    services: f64,
    nodes: f64,
    rows: f64,
    log: f64,
}

impl Phase {
    /// The phase as it is drawn.
    fn figure(&self) -> serde_json::Value {
        serde_json::json!({"per_second": self.per_second, "services": self.services, "databases": self.nodes})
    }
}

/// What is measured.
#[derive(Clone, Copy, PartialEq)]
struct Case {
    nodes: usize,
    processes: usize,
    /// Process *n* connects to node *n* (modulo the number of nodes) first; otherwise all connect to the first node.
    shared_out: bool,
}

impl Case {
    const fn new(nodes: usize, processes: usize, shared_out: bool) -> Self {
        Case { nodes, processes, shared_out }
    }

    fn name(self) -> String {
        let Case { nodes, processes, shared_out } = self;
        format!("{nodes} × {processes}{}", if shared_out { ", a node each" } else { "" })
    }
}

const CASES: [Case; 8] = [
    Case::new(1, 1, false),
    Case::new(1, 2, false),
    Case::new(1, 4, false),
    Case::new(3, 1, false),
    Case::new(3, 2, false),
    Case::new(3, 2, true),
    Case::new(3, 4, false),
    Case::new(3, 4, true),
];

/// Services on the nodes.
struct Bed {
    nodes: Nodes,
    office: Office,
    others: Vec<(Process, Ports)>,
}

impl Bed {
    fn start(case: Case, bins: &Path, dir: &Path) -> Result<Self, Fault> {
        let nodes = Nodes::start(case.nodes, &dir.join("database"))?;
        nodes.all()[0].fresh(DATABASE)?;
        let records = harbour(&nodes.all()[0], "kanzlei_scale_harbour")?;
        let databases = Databases::with_harbour(nodes.urls(0, case.shared_out), &records, &nodes.all()[0]);
        let settings = ["workers=2", "log.level=error"];
        let office = Office::start(bins, &dir.join("office"), databases, Ports::free()?, &settings)?;
        let start = |process: usize| {
            office.another_with(
                process + 1,
                &[],
                &[("KANZLEI_DATABASE_URL", nodes.urls(process, case.shared_out))],
                None,
            )
        };
        let others = (1..case.processes).map(start).collect::<Result<Vec<_>, _>>()?;
        deploy_to(bins, &office, &root().join("testing/bench/workflows/job.yaml"))?;
        for (_, ports) in &others {
            let deployed = || get(ports.public, "/~/openapi.json", &[]).filter(|text| text.contains("/bench/job"));
            wait::until(Duration::from_secs(10), deployed).ok_or("a process does not follow the deploy")?;
        }
        Ok(Bed { nodes, office, others })
    }

    fn counters(&self) -> Result<Counters, Fault> {
        let services = std::iter::once(self.office.service.id()).chain(self.others.iter().map(|(other, _)| other.id()));
        Ok(Counters {
            at: Instant::now(),
            services: services.map(processor_time).sum(),
            nodes: self.nodes.all().iter().map(|node| processor_time(node.id())).sum(),
            rows: ["Handler\\_write", "Handler\\_update", "Handler\\_delete"]
                .iter()
                .map(|name| self.nodes.status(name))
                .sum::<Result<f64, _>>()?,
            log: self.nodes.status("Innodb\\_os\\_log\\_written")?,
        })
    }

    /// What was done since some counters, and took so long.
    fn phase(&self, from: &Counters, jobs: f64, took: Duration) -> Result<Phase, Fault> {
        let to = self.counters()?;
        Ok(Phase {
            per_second: jobs / took.as_secs_f64(),
            services: (to.services - from.services) / jobs * 1e6,
            nodes: (to.nodes - from.nodes) / jobs * 1e6,
            rows: (to.rows - from.rows) / jobs,
            log: (to.log - from.log) / jobs,
        })
    }

    fn lane(&self, action: &str) -> Result<(), Fault> {
        let path = format!("/lanes/main/{action}");
        Ok(control(self.office.ports.control, &self.office.token, "POST", &path, "")?)
    }

    /// Clients of every process at once, for a time.
    fn load(&self, script: &Path) -> Result<(), Fault> {
        let ports: Vec<u16> = std::iter::once(self.office.ports.public)
            .chain(self.others.iter().map(|(_, ports)| ports.public))
            .collect();
        let start = |port: &u16| -> Result<Child, Fault> {
            let connections = format!("-c{}", CLIENTS / ports.len());
            let mut command = Command::new("wrk");
            command.args(["-t1", &connections, &format!("-d{}s", ACCEPTING.as_secs()), "-s"]).arg(script);
            Ok(command.arg(format!("http://127.0.0.1:{port}/bench/job")).stdout(Stdio::piped()).spawn()?)
        };
        let clients = ports.iter().map(start).collect::<Result<Vec<_>, _>>()?;
        for client in clients {
            let said = String::from_utf8_lossy(&client.wait_with_output()?.stdout).into_owned();
            if said.contains("Non-2xx") {
                return Err(format!("requests were refused: {said}").into());
            }
        }
        Ok(())
    }

    /// Accepts jobs while the lane is held, then has them done.
    fn measure(&self, script: &Path) -> Result<(f64, Phase, Phase), Fault> {
        self.lane("hold")?;
        let from = self.counters()?;
        self.load(script)?;
        let jobs = self.nodes.number("SELECT COUNT(*) FROM job")?;
        let accepted = self.phase(&from, jobs, from.at.elapsed())?;
        let from = self.counters()?;
        self.lane("release")?;
        while self.nodes.number("SELECT EXISTS(SELECT 1 FROM job WHERE phase IN (1, 2, 3))")? > 0.0 {
            std::thread::sleep(Duration::from_millis(100));
        }
        let took = from.at.elapsed();
        // Writing their runs down is part of what they cost.
        let journaled = || self.number_of_runs().ok().filter(|runs| *runs >= jobs);
        wait::until(Duration::from_secs(60), journaled).ok_or("the runs do not come into the journal")?;
        Ok((jobs, accepted, self.phase(&from, jobs, took)?))
    }

    fn number_of_runs(&self) -> Result<f64, Fault> {
        self.nodes.number("SELECT COALESCE(SUM(runs), 0) FROM segment")
    }

    fn stop(mut self) {
        for (other, _) in &mut self.others {
            other.stop(Duration::from_secs(20));
        }
        self.office.stop();
    }
}

pub fn scale() -> Done {
    packages::install(&[packages::MARIADB, packages::WRK, packages::GALERA, packages::RSYNC, packages::LSOF])?;
    packages::install(&[packages::CHROMIUM, packages::CHROMEDRIVER])?;
    build::console()?;
    let bins = build::programs(true)?;
    let dir = kanzlei_harness::scratch::folder("scale");
    std::fs::create_dir_all(&dir)?;
    let script = dir.join("job.lua");
    std::fs::write(
        &script,
        "wrk.method = 'POST'\nwrk.body = '{\"n\":1}'\nwrk.headers['Content-Type'] = 'application/json'\n",
    )?;
    println!(
        "One job has one step. Processor time in microseconds for each job; rows and bytes are those of the first node.\n"
    );
    println!(
        "{:<38} {:>8} {:>10} {:>12} {:>13} {:>6} {:>10}",
        "nodes × processes", "jobs", "a second", "services µs", "databases µs", "rows", "log bytes"
    );
    let mut figures = Vec::new();
    for case in CASES {
        let own = dir.join(case.name().replace([' ', ','], "-"));
        let bed = Bed::start(case, &bins, &own)?;
        let (jobs, accepted, ended) = bed.measure(&script)?;
        figures.push(serde_json::json!({"case": case.name(), "accepted": accepted.figure(), "ended": ended.figure()}));
        for (what, phase) in [("accepted", accepted), ("begun and ended", ended)] {
            println!(
                "{:<38} {jobs:>8.0} {:>10.0} {:>12.0} {:>13.0} {:>6.1} {:>10.0}",
                format!("{}: {what}", case.name()),
                phase.per_second,
                phase.services,
                phase.nodes,
                phase.rows,
                phase.log
            );
        }
        if case == CASES[0] {
            stays(&bed, jobs)?;
        }
        bed.stop();
        let _ = std::fs::remove_dir_all(&own);
    }
    let file = dir.join("scale.json");
    std::fs::write(&file, serde_json::json!({"cases": figures}).to_string())?;
    let mut picture = Command::new(bins.join("kanzlei-shots"));
    run(picture.arg("costs").arg(&file).arg(root().join("docs/bench-scale.png")))?;
    let _ = std::fs::remove_dir_all(&dir);
    Ok(ExitCode::SUCCESS)
}

/// What ended jobs and their runs occupy, and how fast they are removed.
fn stays(bed: &Bed, jobs: f64) -> Result<(), Fault> {
    let size = |tables: &[&str]| -> Result<f64, Fault> {
        bed.nodes.all()[0].sql(DATABASE, &format!("ANALYZE TABLE {}", tables.join(", ")))?;
        bed.nodes.number(&format!(
            "SELECT COALESCE(SUM(data_length + index_length), 0) FROM information_schema.tables WHERE table_schema = '{DATABASE}' AND table_name IN ('{}')",
            tables.join("', '")
        ))
    };
    println!(
        "  of each job stay {:.0} bytes in the queue, {:.0} in the index of the journal, {:.0} of its contents",
        size(&["job", "outcome", "job_tag", "job_request"])? / jobs,
        size(&["run", "run_trouble", "run_request"])? / jobs,
        size(&["segment"])? / jobs
    );
    // A process that keeps few removes the others as soon as it starts.
    let before = bed.counters()?;
    let (mut remover, _) = bed.office.another_with(9, &["jobs.most=100", "journal.most=100"], &[], None)?;
    let begun = Instant::now();
    // Jobs that ended in the same instant as the last one that is kept stay, too.
    while bed.nodes.number("SELECT (SELECT COUNT(*) FROM job) + (SELECT COALESCE(SUM(runs), 0) FROM segment)")? > 1000.0
    {
        std::thread::sleep(Duration::from_millis(50));
    }
    let removed = bed.phase(&before, jobs, begun.elapsed())?;
    remover.stop(Duration::from_secs(20));
    println!(
        "  {:.0} ended jobs a second are removed with their runs, {:.0} µs of the database, {:.1} rows and {:.0} bytes of the log each",
        removed.per_second, removed.nodes, removed.rows, removed.log
    );
    Ok(())
}
