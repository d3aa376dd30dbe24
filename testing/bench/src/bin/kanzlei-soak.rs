//! `cargo xtask soak`: hours at half of what the machine can do. Memory, handles and latency must stay flat.
//!
//! Capacity is measured first, by clients that send a request as soon as the one before is answered; the time until the jobs that
//! they queued have ended counts, too. Then the same
//! clients keep a schedule of half that rate; a latency counts from the moment a request is due, so that one which
//! waits for a slow answer before it is not counted as fast. Of ten requests six validate and reply, three make two
//! calls one after another, and one is a job. The journal and ended jobs are cut at their bounds all the time.
//!
//! Arguments: public port, the service's database, process ids of service and database, minutes, a file for the figures.

use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

use serde_json::{Value as Json, json};
use sqlx::{Connection, MySqlConnection, Row};

type Done<T> = Result<T, Box<dyn std::error::Error + Send + Sync>>;

/// Clients, each with one connection.
const CLIENTS: u32 = 64;
/// Idle timeout of a client's connection: shorter than the service's, which could otherwise close it under a request.
const IDLE: Duration = Duration::from_secs(3);
/// How long clients send before capacity is measured: the bounds of the journal and of ended jobs are met then, and removing what is
/// beyond them is part of it.
const BEFORE: Duration = Duration::from_secs(60);
/// How long capacity is measured.
const CALIBRATING: Duration = Duration::from_secs(60);
/// The time between two samples.
const EVERY: Duration = Duration::from_secs(15);
/// What one client sends, again and again.
const MIX: [&Kind; 10] = [NOTICE, NOTICE, QUOTE, NOTICE, JOB, NOTICE, QUOTE, NOTICE, NOTICE, QUOTE];

/// A kind of request, with the status of its answer.
struct Kind {
    path: &'static str,
    body: &'static str,
    status: u16,
}

const NOTICE: &Kind = &Kind {
    path: "/harbours/LIN/notices",
    body: r#"{"imo":"9074720","nights":2,"cargo":"UN1202 gas oil"}"#,
    status: 201,
};
const QUOTE: &Kind =
    &Kind { path: "/harbours/LIN/quotes", body: r#"{"imo":"9074720","nights":2,"currency":"NOK"}"#, status: 201 };
const JOB: &Kind = &Kind { path: "/bench/job", body: r#"{"n":1}"#, status: 202 };

/// Answers since the last sample.
#[derive(Default)]
struct Answers {
    /// Microseconds from the moment a request was due.
    took: Vec<u32>,
    failed: u32,
    /// What one failure was.
    example: Option<String>,
}

/// Sends requests until it is stopped: by a schedule, or each as soon as the one before is answered.
async fn client(
    http: reqwest::Client,
    base: String,
    first: Duration,
    every: Option<Duration>,
    answers: Arc<Mutex<Answers>>,
    stop: Arc<AtomicBool>,
) {
    let mut due = Instant::now() + first;
    for kind in MIX.iter().cycle() {
        match every {
            Some(_) => tokio::time::sleep_until(due.into()).await,
            None => due = Instant::now(),
        }
        if stop.load(Ordering::Relaxed) {
            return;
        }
        let request = http.post(format!("{base}{}", kind.path)).header("content-type", "application/json");
        let failure = match request.body(kind.body).send().await {
            Ok(answer) => {
                let status = answer.status().as_u16();
                match answer.bytes().await {
                    Ok(_) if status == kind.status => None,
                    Ok(body) => Some(format!("{}: {status} {}", kind.path, String::from_utf8_lossy(&body))),
                    Err(error) => Some(format!("{}: {error}", kind.path)),
                }
            }
            Err(error) => Some(format!("{}: {error}: {}", kind.path, cause(&error))),
        };
        let took = u32::try_from(due.elapsed().as_micros()).unwrap_or(u32::MAX);
        if let Ok(mut answers) = answers.lock() {
            match failure {
                None => answers.took.push(took),
                Some(example) => {
                    answers.failed += 1;
                    answers.example = Some(example);
                }
            }
        }
        due += every.unwrap_or_default();
    }
}

/// What is behind an error.
fn cause(error: &dyn std::error::Error) -> String {
    std::iter::successors(error.source(), |error| error.source())
        .map(ToString::to_string)
        .collect::<Vec<_>>()
        .join(": ")
}

/// Clients that send.
struct Load {
    answers: Arc<Mutex<Answers>>,
    stop: Arc<AtomicBool>,
    tasks: Vec<tokio::task::JoinHandle<()>>,
}

impl Load {
    /// Starts the clients: at `rate` requests a second of all, or as fast as answers come.
    fn start(base: &str, rate: Option<f64>) -> Done<Self> {
        let every = rate.map(|rate| Duration::from_secs_f64(f64::from(CLIENTS) / rate));
        let (answers, stop) = (Arc::<Mutex<Answers>>::default(), Arc::<AtomicBool>::default());
        let start = |at: u32| {
            let first = every.unwrap_or_default() * at / CLIENTS;
            let http =
                reqwest::Client::builder().no_proxy().pool_max_idle_per_host(1).pool_idle_timeout(IDLE).build()?;
            Ok(tokio::spawn(client(http, base.to_owned(), first, every, answers.clone(), stop.clone())))
        };
        let tasks = (0..CLIENTS).map(start).collect::<Done<_>>()?;
        Ok(Load { answers, stop, tasks })
    }

    /// What was answered since the last call.
    fn take(&self) -> Answers {
        self.answers.lock().map(|mut answers| std::mem::take(&mut *answers)).unwrap_or_default()
    }

    async fn end(self) {
        self.stop.store(true, Ordering::Relaxed);
        for task in self.tasks {
            let _ = task.await;
        }
    }
}

/// Resident memory of a process in MiB (proc(5)).
fn memory(process: &str) -> f64 {
    let text = std::fs::read_to_string(format!("/proc/{process}/statm")).unwrap_or_default();
    let pages: f64 = text.split(' ').nth(1).and_then(|pages| pages.parse().ok()).unwrap_or(0.0);
    pages * 4.0 / 1024.0
}

/// Open descriptors of a process: connections, files, timers.
fn handles(process: &str) -> f64 {
    std::fs::read_dir(format!("/proc/{process}/fd")).map_or(0.0, |entries| entries.count() as f64)
}

/// Seconds of processor time of a process.
fn processor(process: &str) -> f64 {
    let stat = std::fs::read_to_string(format!("/proc/{process}/stat")).unwrap_or_default();
    let fields: Vec<&str> = stat.rsplit_once(") ").map_or("", |(_, rest)| rest).split(' ').collect();
    let ticks = |at: usize| fields.get(at).and_then(|field| field.parse::<f64>().ok()).unwrap_or(0.0);
    (ticks(11) + ticks(12)) / 100.0
}

/// The longest time in microseconds by which a short sleep was too long since this was last set to 0: while a virtual machine gets no
/// processor, nothing in it answers.
fn stalls() -> Arc<AtomicU64> {
    const SLEEP: Duration = Duration::from_millis(5);
    let longest = Arc::<AtomicU64>::default();
    let shared = longest.clone();
    std::thread::spawn(move || {
        loop {
            let begun = Instant::now();
            std::thread::sleep(SLEEP);
            let late = begun.elapsed().saturating_sub(SLEEP).as_micros();
            shared.fetch_max(u64::try_from(late).unwrap_or(u64::MAX), Ordering::Relaxed);
        }
    });
    longest
}

/// Hundredths of seconds that the host gave to other machines, and of all, summed over the processors (proc(5)).
fn taken() -> (f64, f64) {
    let stat = std::fs::read_to_string("/proc/stat").unwrap_or_default();
    let fields = stat.lines().next().unwrap_or_default().split_whitespace().skip(1);
    let fields: Vec<f64> = fields.filter_map(|field| field.parse().ok()).collect();
    (fields.get(7).copied().unwrap_or(0.0), fields.iter().take(8).sum())
}

/// Jobs that have not ended.
async fn jobs_under_way(sql: &mut MySqlConnection) -> Done<i64> {
    Ok(sqlx::query("SELECT COUNT(*) FROM job WHERE phase IN (1, 2, 3)").fetch_one(sql).await?.try_get(0)?)
}

/// Milliseconds within which a share of sorted microseconds lies.
fn within(sorted: &[u32], share: f64) -> f64 {
    let index = ((sorted.len() as f64 * share) as usize).min(sorted.len().saturating_sub(1));
    f64::from(sorted.get(index).copied().unwrap_or(0)) / 1000.0
}

/// The series that are sampled: name, unit, and how much the last quarter may exceed the second one.
const SERIES: [(&str, &str, Option<f64>); 10] = [
    ("memory of the service", "MiB", Some(1.1)),
    ("memory of the database", "MiB", None),
    ("open descriptors", "", Some(1.1)),
    ("threads", "", Some(1.0)),
    ("p50", "ms", Some(1.5)),
    ("p99", "ms", Some(2.0)),
    ("longest stall of the machine", "ms", None),
    ("processor taken by the host", "%", None),
    ("jobs under way", "", None),
    ("processor of the service", "%", Some(1.3)),
];

fn median(values: &[f64]) -> f64 {
    let mut sorted = values.to_vec();
    sorted.sort_by(f64::total_cmp);
    sorted.get(sorted.len() / 2).copied().unwrap_or(0.0)
}

#[tokio::main]
async fn main() -> Done<()> {
    let _ = rustls::crypto::ring::default_provider().install_default();
    let args: Vec<String> = std::env::args().skip(1).collect();
    let [port, url, service, database, minutes, file] = args.as_slice() else {
        return Err("usage: kanzlei-soak PUBLIC DATABASE PID PID MINUTES FILE".into());
    };
    let lasting = Duration::from_secs_f64(minutes.parse::<f64>()? * 60.0);
    let base = format!("http://127.0.0.1:{port}");
    let mut sql = MySqlConnection::connect(url).await?;

    let load = Load::start(&base, None)?;
    tokio::time::sleep(BEFORE).await;
    load.take();
    let begun = Instant::now();
    tokio::time::sleep(CALIBRATING).await;
    let measured = load.take();
    load.end().await;
    if let Some(example) = measured.example {
        return Err(format!("{} requests failed, such as {example}", measured.failed).into());
    }
    while jobs_under_way(&mut sql).await? > 0 {
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    let capacity = measured.took.len() as f64 / begun.elapsed().as_secs_f64();
    let rate = capacity / 2.0;
    println!("{capacity:.0} requests/s are answered at most; {rate:.0}/s are sent for {minutes} minutes");

    let stall = stalls();
    let load = Load::start(&base, Some(rate))?;
    let begun = Instant::now();
    let (mut at, mut series) = (Vec::new(), vec![Vec::new(); SERIES.len()]);
    let (mut answered, mut failed, mut example) = (0, 0, None);
    let (mut used, mut before) = (processor(service), taken());
    while begun.elapsed() < lasting {
        tokio::time::sleep(EVERY).await;
        let mut answers = load.take();
        answers.took.sort_unstable();
        answered += answers.took.len();
        failed += answers.failed as usize;
        let stalled = stall.swap(0, Ordering::Relaxed) as f64 / 1000.0;
        if let Some(what) = &answers.example {
            let at = begun.elapsed().as_secs_f64() / 60.0;
            println!(
                "{at:>6.1} min  {} failed, such as {what}; the machine stalled for {stalled:.0} ms",
                answers.failed
            );
        }
        example = answers.example.take().or(example);
        let open = jobs_under_way(&mut sql).await?;
        let tasks = std::fs::read_dir(format!("/proc/{service}/task")).map_or(0.0, |tasks| tasks.count() as f64);
        let (now, host) = (processor(service), taken());
        let sample = [
            memory(service),
            memory(database),
            handles(service),
            tasks,
            within(&answers.took, 0.5),
            within(&answers.took, 0.99),
            stalled,
            100.0 * (host.0 - before.0) / (host.1 - before.1).max(1.0),
            open as f64,
            100.0 * (now - used) / EVERY.as_secs_f64(),
        ];
        (used, before) = (now, host);
        at.push(begun.elapsed().as_secs_f64() / 60.0);
        series.iter_mut().zip(sample).for_each(|(series, value)| series.push(value));
        if at.len() % 20 == 0 || begun.elapsed() >= lasting {
            println!(
                "{:>6.1} min  {:>6.1} MiB  {:>4} descriptors  p50 {:.1} ms  p99 {:.1} ms  {answered} answered, {failed} failed",
                at.last().copied().unwrap_or(0.0),
                sample[0],
                sample[2],
                sample[4],
                sample[5]
            );
        }
    }
    load.end().await;
    report(file, capacity, &at, &series, (answered, failed))?;
    match example {
        Some(example) => Err(format!("{failed} requests failed, such as {example}").into()),
        None => Ok(()),
    }
}

/// Writes the figures, and compares the second quarter of the time with the last one: in the first one caches fill.
fn report(file: &str, capacity: f64, at: &[f64], series: &[Vec<f64>], (answered, failed): (usize, usize)) -> Done<()> {
    let quarter = at.len() / 4;
    let (mut rows, mut grown): (Vec<Json>, Vec<&str>) = (Vec::new(), Vec::new());
    for ((name, unit, most), values) in SERIES.iter().zip(series) {
        let (early, late) = (median(&values[quarter..2 * quarter]), median(&values[values.len() - quarter..]));
        println!("{name:<26} {early:>9.1} {late:>9.1} {unit}");
        if most.is_some_and(|most| late > early * most) {
            grown.push(name);
        }
        rows.push(json!({"name": name, "unit": unit, "values": values, "early": early, "late": late}));
    }
    let figures = json!({"capacity": capacity, "minutes": at, "series": rows, "answered": answered, "failed": failed});
    std::fs::write(file, figures.to_string())?;
    match grown.as_slice() {
        [] => Ok(()),
        grown => Err(format!("not flat: {}", grown.join(", ")).into()),
    }
}
