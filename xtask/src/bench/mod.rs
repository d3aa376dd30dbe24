//! `cargo xtask bench`: figures against hand-written equivalents, measured in one run.

mod compare;
mod idle;
mod instructions;
mod load;
mod summary;

use std::io::{Read, Write};
use std::net::TcpStream;
use std::path::Path;
use std::process::{Command, ExitCode};
use std::time::{Duration, Instant};

use kanzlei_harness::office::{Office, Ports, Whole, control, get};
use kanzlei_harness::packages;
use kanzlei_harness::ports;
use kanzlei_harness::process::Process;

use crate::{Done, Fault, build, root, run};
pub use load::processor_time;
use load::{CONNECTIONS, NOTICES, QUOTES, Server, TOGETHER, measure, median, resident};

#[derive(clap::Args)]
#[command(arg_required_else_help = true)]
pub struct Benches {
    #[command(subcommand)]
    what: Option<Bench>,
    /// Build a former revision, and measure its endpoints against those of the checkout, by turns
    #[arg(long, value_name = "REV")]
    compare: Option<String>,
}

#[derive(clap::Subcommand)]
enum Bench {
    /// Requests per second against a hand-written Actix service
    Endpoint {
        /// Seconds of each round
        #[arg(long, default_value_t = 8)]
        seconds: u32,
        /// Rounds, by turns
        #[arg(long, default_value_t = 3)]
        rounds: u32,
    },
    /// The queue against bare SQL: accepting, finishing, timers, a backlog of a million, followers
    Jobs {
        /// Only what is done per second and when it begins; draws nothing
        #[arg(long)]
        rates: bool,
        /// Set a variable of the database server before, such as `innodb_flush_log_at_trx_commit=2`
        #[arg(long = "set", value_name = "VARIABLE=VALUE")]
        sets: Vec<String>,
    },
    /// What keys and allowances cost a request, deliveries against bare inserts, a burst of messages
    Access {
        /// Seconds of each round
        #[arg(long, default_value_t = 5)]
        seconds: u32,
    },
    /// How much longer writers take at a table whose changed rows are watched
    Changes,
    /// Expressions against the same over serde_json values
    Expr,
    /// Loops of scripts against Node's interpreter without its compiler
    Script,
    /// Uploads and zips against a hand-written Actix service, a million rows as CSV, pages
    Files,
    /// Every run recorded: how many a second, bytes of each, reading them back, memory while the database is unavailable
    Journal {
        /// Runs that are recorded and read back
        #[arg(long, default_value_t = 1_000_000)]
        runs: u64,
        /// Seconds that the database is unavailable
        #[arg(long, default_value_t = 60)]
        away: u64,
    },
    /// Jobs with 1, 2 and 4 processes on 1 and 3 nodes, what each costs, and what stays of it
    Scale,
    /// Every row of docs/performance.md in one run
    Summary {
        /// Seconds of each round
        #[arg(long, default_value_t = 6)]
        seconds: u32,
        /// Write the table of docs/performance.md and draw it
        #[arg(long)]
        record: bool,
    },
    /// Memory with 100 workflows and with 10,000 connections, time until the service is ready with 1,000 workflows
    Idle,
    /// Instructions of the processor that a request costs, ours and by hand, and the parts of the program they go to
    Instructions {
        /// Only this scenario, such as `two chained calls`
        scenario: Option<String>,
        /// Name the functions with the most
        #[arg(long)]
        functions: bool,
        /// Add a row to docs/bench/instructions.md, and draw the parts
        #[arg(long)]
        record: bool,
    },
    /// Checking, loops, eight calls at once, a deploy of 500 workflows, 10,000 cases
    Language {
        /// Seconds of each round
        #[arg(long, default_value_t = 5)]
        seconds: u32,
    },
}

pub fn run_bench(benches: Benches) -> Done {
    match (benches.what, benches.compare) {
        (None, Some(revision)) => compare::compare(&revision),
        (Some(bench), None) => run_one(bench),
        _ => Err("either a bench or `--compare REV`".into()),
    }
}

fn run_one(bench: Bench) -> Done {
    match bench {
        Bench::Expr => {
            let bins = build::programs(true)?;
            run(&mut Command::new(bins.join("kanzlei-bench-expr")))?;
            Ok(ExitCode::SUCCESS)
        }
        Bench::Script => {
            let bins = build::programs(true)?;
            run(&mut Command::new(bins.join("kanzlei-bench-script")))?;
            Ok(ExitCode::SUCCESS)
        }
        Bench::Endpoint { seconds, rounds } => endpoint(seconds, rounds),
        Bench::Jobs { rates, sets } => jobs(rates, &sets),
        Bench::Access { seconds } => access(seconds),
        Bench::Changes => changes(),
        Bench::Scale => crate::scale::scale(),
        Bench::Files => files(),
        Bench::Idle => idle::idle(),
        Bench::Summary { seconds, record } => summary::summary(seconds, record),
        Bench::Instructions { scenario, functions, record } => {
            instructions::instructions(scenario.as_deref(), functions, record)
        }
        Bench::Journal { runs, away } => journal(runs, away),
        Bench::Language { seconds } => language(seconds),
    }
}

fn changes() -> Done {
    packages::install(&[packages::MARIADB])?;
    build::console()?;
    let bins = build::programs(true)?;
    let dir = kanzlei_harness::scratch::folder("bench");
    let whole = Whole::start(&bins, &dir, Ports::free()?, &["log.level=warn"])?;
    for table in ["bench_plain", "bench_seen", "bench_queued", "bench_run"] {
        let make = format!(
            "CREATE TABLE {table} (id INT PRIMARY KEY, n INT NOT NULL, note VARCHAR(80) NOT NULL) ENGINE = InnoDB"
        );
        let fill = format!("INSERT INTO {table} SELECT seq, 0, REPEAT('x', 60) FROM seq_0_to_999");
        for statement in [make, fill] {
            whole.database.sql("kanzlei_harbour", &statement)?;
        }
    }
    deploy(&bins, &whole, &root().join("testing/bench/changes"))?;
    control(whole.office.ports.control, &whole.office.token, "POST", "/lanes/bench-held/hold", "")?;
    let mut command = Command::new(bins.join("kanzlei-bench-changes"));
    command.args([whole.database.url("kanzlei_harbour"), whole.database.url("kanzlei")]);
    run(&mut command)?;
    whole.stop();
    let _ = std::fs::remove_dir_all(&dir);
    Ok(ExitCode::SUCCESS)
}

fn files() -> Done {
    packages::install(&[packages::MARIADB, packages::WEASYPRINT])?;
    build::console()?;
    let bins = build::programs(true)?;
    let dir = kanzlei_harness::scratch::folder("bench");
    let whole = Whole::start(&bins, &dir, Ports::free()?, &["workers=2", "log.level=warn"])?;
    let table = "CREATE TABLE bench_line (manifest VARCHAR(60) NOT NULL, line INT NOT NULL, consignee VARCHAR(60) NOT NULL, \
                 goods VARCHAR(120) NOT NULL, weight_kg INT NOT NULL, PRIMARY KEY (manifest, line)) ENGINE = InnoDB";
    whole.database.sql("kanzlei_harbour", table)?;
    deploy(&bins, &whole, &root().join("testing/bench/files"))?;
    let (port, theirs) = (ports::free()?, dir.join("by-hand"));
    let program = bins.join("kanzlei-bench-files");
    let mut command = Command::new(&program);
    command.arg("serve").arg(port.to_string()).arg(&theirs).arg(whole.database.url("kanzlei_harbour"));
    let mut by_hand = Process::start("the hand-written service", command, &dir.join("by-hand.log"))?;
    by_hand.wait_for(Duration::from_secs(10), || std::net::TcpStream::connect(("127.0.0.1", port)).ok())?;
    let mut command = Command::new(&program);
    command.args([whole.office.public(), whole.office.service.id().to_string()]);
    command.args([format!("http://127.0.0.1:{port}"), by_hand.id().to_string()]);
    command.arg(dir.join("places/archive")).arg(&theirs);
    let measured = run(&mut command);
    by_hand.stop(Duration::from_secs(5));
    whole.stop();
    let _ = std::fs::remove_dir_all(&dir);
    measured?;
    Ok(ExitCode::SUCCESS)
}

fn journal(runs: u64, away: u64) -> Done {
    packages::install(&[packages::MARIADB, packages::WRK])?;
    build::console()?;
    let bins = build::programs(true)?;
    let dir = kanzlei_harness::scratch::folder("bench");
    let port = ports::free()?;
    let bulk = format!("services.bulk.base=http://127.0.0.1:{port}");
    let whole = Whole::start(&bins, &dir, Ports::free()?, &["workers=1", "log.level=warn", &bulk])?;
    deploy(&bins, &whole, &root().join("demo/harbour/services"))?;
    deploy(&bins, &whole, &root().join("testing/bench/workflows"))?;
    deploy(&bins, &whole, &root().join("testing/bench/journal"))?;
    let program = bins.join("kanzlei-bench-journal");
    let office = &whole.office;
    let command = |what: &str| {
        let mut command = Command::new(&program);
        command.arg(what).args([office.public(), office.control(), office.token.clone()]);
        command
    };
    run(command("record").args([whole.database.url("kanzlei"), runs.to_string()]))?;
    // Two calls one after another at full speed: what is recorded of them, and what is dropped.
    let status = || -> Result<(u64, u64), Fault> {
        let text =
            get(office.ports.control, "/api/v1/status", &[("authorization", &format!("Bearer {}", office.token))]);
        let status = text.ok_or("no status")?;
        let number = |name: &str| -> u64 {
            let found = status.split(&format!("\"{name}\":")).nth(1).unwrap_or_default();
            found.chars().take_while(char::is_ascii_digit).collect::<String>().parse().unwrap_or_default()
        };
        Ok((number("runs"), number("dropped")))
    };
    let before = status()?;
    let figure = measure(Server::of(&whole), QUOTES.path, &QUOTES.script(&dir)?, 10)?;
    std::thread::sleep(Duration::from_secs(4));
    let after = status()?;
    println!(
        "{:<52} {:>10.0} req/s, {} recorded and {} dropped",
        "two chained calls for 10 s",
        figure.per_second,
        after.0 - before.0,
        after.1 - before.1
    );
    let mut large = Command::new(&program);
    large.arg("large").arg(port.to_string());
    let mut large = Process::start("the service with large answers", large, &dir.join("large.log"))?;
    large.wait_for(Duration::from_secs(10), || std::net::TcpStream::connect(("127.0.0.1", port)).ok())?;
    whole.database.freeze(true);
    let flooded = run(command("flood").arg(away.to_string()));
    println!("{:<52} {:>10.0} MB", "  memory of the service then", resident(office.service.id()));
    whole.database.freeze(false);
    large.stop(Duration::from_secs(5));
    whole.stop();
    let _ = std::fs::remove_dir_all(&dir);
    flooded?;
    Ok(ExitCode::SUCCESS)
}

/// The office with one worker, and the same by hand at a port.
struct Rivals {
    bins: std::path::PathBuf,
    dir: std::path::PathBuf,
    whole: Whole,
    by_hand: Process,
    port: u16,
}

fn rivals() -> Result<Rivals, Fault> {
    packages::install(&[packages::MARIADB, packages::WRK])?;
    build::console()?;
    let bins = build::programs(true)?;
    let dir = kanzlei_harness::scratch::folder("bench");
    let whole = Whole::start(&bins, &dir, Ports::free()?, &["workers=1", "log.level=warn"])?;
    let (by_hand, port) = by_hand(&bins, &dir, whole.office.ports.standins)?;
    deploy(&bins, &whole, &root().join("demo/harbour/services"))?;
    deploy(&bins, &whole, &root().join("testing/bench/workflows"))?;
    Ok(Rivals { bins, dir, whole, by_hand, port })
}

/// The service by hand with one worker, and its port.
fn by_hand(bins: &Path, dir: &Path, standins: u16) -> Result<(Process, u16), Fault> {
    let port = ports::free()?;
    let mut command = Command::new(bins.join("kanzlei-handwritten"));
    command.args([format!("127.0.0.1:{port}"), format!("http://127.0.0.1:{standins}"), "1".into()]);
    let mut by_hand = Process::start("the hand-written service", command, &dir.join("by-hand.log"))?;
    by_hand.wait_for(Duration::from_secs(10), || std::net::TcpStream::connect(("127.0.0.1", port)).ok())?;
    Ok((by_hand, port))
}

fn jobs(rates: bool, sets: &[String]) -> Done {
    packages::install(&[packages::MARIADB, packages::WRK, packages::CHROMIUM, packages::CHROMEDRIVER])?;
    build::console()?;
    let bins = build::programs(true)?;
    let dir = kanzlei_harness::scratch::folder("bench");
    let whole = Whole::start(&bins, &dir, Ports::free()?, &["log.level=warn"])?;
    for set in sets {
        whole.database.sql("kanzlei", &format!("SET GLOBAL {set}"))?;
    }
    deploy(&bins, &whole, &root().join("testing/bench/workflows/job.yaml"))?;
    deploy(&bins, &whole, &root().join("testing/bench/workflows/wait.yaml"))?;
    let figures = measure_jobs(&bins, &whole, &dir, rates)?;
    whole.stop();
    if !rates {
        let mut picture = Command::new(bins.join("kanzlei-shots"));
        picture.arg("figures").arg(&figures).arg(root().join("docs/bench-jobs.png"));
        run(&mut picture)?;
    }
    let _ = std::fs::remove_dir_all(&dir);
    Ok(ExitCode::SUCCESS)
}

/// Measures the queue against bare SQL; returns the file with its figures.
fn measure_jobs(bins: &Path, whole: &Whole, dir: &Path, rates: bool) -> Result<std::path::PathBuf, Fault> {
    let figures = dir.join("jobs.json");
    let mut command = Command::new(bins.join("kanzlei-bench-jobs"));
    command.args([
        whole.office.ports.public.to_string(),
        whole.office.ports.control.to_string(),
        whole.office.token.clone(),
    ]);
    command.args([whole.database.url("kanzlei"), whole.database.fresh("kanzlei_bare")?]);
    command.args([whole.office.service.id().to_string(), figures.display().to_string()]);
    command.args(rates.then_some("rates"));
    run(&mut command)?;
    Ok(figures)
}

/// A token of the simulated provider of identities.
fn token(port: u16) -> Result<String, Box<dyn std::error::Error>> {
    let form = "grant_type=client_credentials&client_id=northern-line&client_secret=northern-secret";
    let mut stream = TcpStream::connect(("127.0.0.1", port))?;
    write!(
        stream,
        "POST /identity/token HTTP/1.1\r\nHost: 127.0.0.1\r\nConnection: close\r\nContent-Type: application/x-www-form-urlencoded\r\nContent-Length: {}\r\n\r\n{form}",
        form.len()
    )?;
    let mut answer = String::new();
    stream.read_to_string(&mut answer)?;
    let token = answer.split("\"access_token\":\"").nth(1).and_then(|rest| rest.split('"').next());
    token.map(str::to_owned).ok_or_else(|| format!("no token: {answer}").into())
}

fn access(seconds: u32) -> Done {
    packages::install(&[packages::MARIADB, packages::WRK])?;
    build::console()?;
    let bins = build::programs(true)?;
    let dir = kanzlei_harness::scratch::folder("bench");
    let whole = Whole::start(&bins, &dir, Ports::free()?, &["workers=1", "log.level=warn"])?;
    let body = "{\"value\":\"bench\",\"for\":[\"signing\"]}";
    control(whole.office.ports.control, &whole.office.token, "PUT", "/secrets/bench-secret", body)?;
    deploy(&bins, &whole, &root().join("testing/bench/access"))?;
    let made = crate::demo::client(&bins, &whole.office.control(), &whole.office.token)
        .args(["keys", "add", "bench", "--for", "bench-access"])
        .output()?;
    let key = String::from_utf8_lossy(&made.stdout).trim().to_owned();
    let script = dir.join("key.lua");
    std::fs::write(&script, format!("wrk.method = 'GET'\nwrk.headers['X-Api-Key'] = '{key}'\n"))?;
    let bearer = dir.join("token.lua");
    let token = token(whole.office.ports.standins)?;
    std::fs::write(&bearer, format!("wrk.method = 'GET'\nwrk.headers['Authorization'] = 'Bearer {token}'\n"))?;
    let paths =
        [("/bench/open", &script), ("/bench/key", &script), ("/bench/allowed", &script), ("/bench/token", &bearer)];
    let mut found = [const { Vec::new() }; 4];
    for _ in 0..3 {
        for ((path, script), figures) in paths.iter().zip(&mut found) {
            figures.push(measure(Server::of(&whole), path, script, seconds)?);
        }
    }
    println!("One worker, {CONNECTIONS} connections, {seconds} s a round, three rounds by turns.\n");
    let [open, key, allowed, token] = found.map(median);
    let all = [
        ("open", open, open.cpu),
        ("a key", key, open.cpu),
        ("a key and an allowance", allowed, key.cpu),
        ("a token", token, open.cpu),
    ];
    for (what, figure, without) in all {
        println!(
            "{what:<28} {:>9.0} req/s {:>8.1} CPU µs/req {:>8.1} more than without (wanted under 4)",
            figure.per_second,
            figure.cpu,
            figure.cpu - without
        );
    }
    println!();
    let mut command = Command::new(bins.join("kanzlei-bench-access"));
    command.args([
        whole.office.ports.public.to_string(),
        whole.office.ports.control.to_string(),
        whole.office.token.clone(),
    ]);
    command.args([whole.database.url("kanzlei"), whole.database.fresh("kanzlei_bare")?]);
    run(&mut command)?;
    whole.stop();
    let _ = std::fs::remove_dir_all(&dir);
    Ok(ExitCode::SUCCESS)
}

fn language(seconds: u32) -> Done {
    let Rivals { bins, dir, whole, by_hand, port } = rivals()?;
    run(&mut Command::new(bins.join("kanzlei-bench-language")))?;
    let both = [Server::by_hand(port, &by_hand), Server::of(&whole)];
    let [hand, ours] = TOGETHER.by_turns(both, &dir, (seconds, 3))?;
    println!(
        "{:<52} {:>9.0} req/s   by hand {:.0} req/s, ratio {:.2}; p99 {:.1} ms against {:.1} ms",
        "together, eight calls, 32 connections",
        ours.per_second,
        hand.per_second,
        ours.per_second / hand.per_second,
        ours.p99,
        hand.p99
    );
    let many = dir.join("many");
    std::fs::create_dir_all(&many)?;
    let text = std::fs::read_to_string(root().join("testing/bench/workflows/quotes.yaml"))?;
    for n in 0..500 {
        let renamed = text
            .replace("workflow: bench-quotes", &format!("workflow: many-{n}"))
            .replace("/harbours/{harbour}/quotes", &format!("/many/{n}/{{harbour}}"));
        std::fs::write(many.join(format!("many-{n}.yaml")), renamed)?;
    }
    for what in ["the first time", "unchanged"] {
        let begun = Instant::now();
        deploy(&bins, &whole, &many)?;
        let label = format!("check and deploy 500 workflows, {what}");
        println!("{label:<52} {:>9.0} ms", begun.elapsed().as_secs_f64() * 1000.0);
    }
    println!("{:<52} {:>9.1} MB", "memory of the service after that", resident(whole.office.service.id()));
    drop(by_hand);
    whole.stop();
    let _ = std::fs::remove_dir_all(&dir);
    Ok(ExitCode::SUCCESS)
}

fn endpoint(seconds: u32, rounds: u32) -> Done {
    let Rivals { dir, whole, by_hand, port, .. } = rivals()?;

    println!(
        "One worker each, {CONNECTIONS} connections, {seconds} s a round, {rounds} rounds by turns; wrk, database and stand-ins share the machine.\n"
    );
    println!("{:<44} {:>8} {:>8} {:>8} {:>11} {:>11}", "", "req/s", "p50 ms", "p99 ms", "CPU µs/req", "of database");
    for asked in [NOTICES, QUOTES] {
        let both = [Server::by_hand(port, &by_hand), Server::of(&whole)];
        let [hand, ours] = asked.by_turns(both, &dir, (seconds, rounds))?;
        for (name, figure) in [("hand-written", hand), ("Kanzlei", ours)] {
            println!(
                "{:<44} {:>8.0} {:>8.2} {:>8.2} {:>11.1} {:>11.1}",
                format!("{}: {name}", asked.name),
                figure.per_second,
                figure.p50,
                figure.p99,
                figure.cpu,
                figure.database
            );
        }
        println!("{:<44} {:>8.2}   (wanted at least {})\n", "  ratio", ours.per_second / hand.per_second, asked.wanted);
    }
    let health = get(whole.office.ports.public, "/~/health", &[]).unwrap_or_default();
    println!("journal after that: {}", health.split("\r\n").find(|l| l.contains("journal")).unwrap_or(&health));
    drop(by_hand);
    whole.stop();
    let _ = std::fs::remove_dir_all(&dir);
    Ok(ExitCode::SUCCESS)
}

/// Deploys a folder with the client.
pub fn deploy(bins: &Path, whole: &Whole, folder: &Path) -> Result<(), Fault> {
    deploy_to(bins, &whole.office, folder)
}

/// The same to an office without the database that the start command makes.
pub fn deploy_to(bins: &Path, office: &Office, folder: &Path) -> Result<(), Fault> {
    let output = Command::new(bins.join("kanzlei"))
        .arg("deploy")
        .arg(folder)
        .env("KANZLEI_URL", office.control())
        .env("KANZLEI_TOKEN", &office.token)
        .output()?;
    if output.status.success() {
        Ok(())
    } else {
        Err(format!("{}{}", String::from_utf8_lossy(&output.stdout), String::from_utf8_lossy(&output.stderr)).into())
    }
}
