//! `cargo xtask bench jobs`: the queue against bare SQL that makes the same changes to the same rows.
//!
//! The bare SQL stands here and not in the store: it is what somebody would write by hand, the yardstick.
//! Arguments: public port, control port, operator token, the service's database, an empty database, the
//! service's process id, a file for the figures.

use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::{Duration, Instant};

use kanzlei_model::time::{Span, Timestamp};
use kanzlei_store::Store;
use kanzlei_store::queue::NewJob;
use serde_json::{Value as Json, json};
use sqlx::{Connection, MySqlConnection, QueryBuilder, Row};
use uuid::Uuid;

type Done<T> = Result<T, Box<dyn std::error::Error + Send + Sync>>;

const BATCH: usize = 200;
const BACKLOG: usize = 1_000_000;
/// How long the database may take to clean up behind a load, and how many transactions it may be behind then.
const SETTLES: Duration = Duration::from_secs(60);
const SETTLED: u64 = 500;

struct Bench {
    public: String,
    control: String,
    token: String,
    client: reqwest::Client,
    store: Store,
    sql: MySqlConnection,
    process: String,
}

fn now() -> i64 {
    std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).map_or(0, |d| d.as_micros() as i64)
}

fn job(due: i64, generation: u64) -> NewJob {
    let at = now();
    NewJob {
        id: Uuid::new_v7(uuid::Timestamp::now(uuid::NoContext)),
        lane: "main".into(),
        workflow: "bench-job".into(),
        revision: 1,
        generation,
        priority: 5,
        tags: Vec::new(),
        batch: None,
        ordering_key: None,
        entry: "POST /bench/job".into(),
        caller: kanzlei_model::caller::Caller::named("127.0.0.1"),
        request_id: Uuid::new_v4().to_string(),
        listed: false,
        trace: Default::default(),
        accepted: Timestamp::from_micros(at),
        due: Timestamp::from_micros(due),
        input: "{\"n\":1}".into(),
        sealed: false,
        kept_for: Span::from_micros(86_400_000_000),
        unattended: false,
        depth: 0,
    }
}

/// Inserts, claims and completes in batches on one connection: jobs a second for each and for all.
async fn bare(url: &str, count: usize) -> Done<(f64, f64, f64, f64)> {
    let store = Store::open(url, 2).await?;
    let mut sql = MySqlConnection::connect(url).await?;
    let (mut inserting, mut claiming, mut completing) = (Duration::ZERO, Duration::ZERO, Duration::ZERO);
    for _ in 0..count / BATCH {
        let jobs: Vec<NewJob> = (0..BATCH).map(|_| job(now(), 1)).collect();
        let begun = Instant::now();
        store.enqueue(&jobs, None).await?;
        inserting += begun.elapsed();
        let begun = Instant::now();
        let stamp = now();
        sqlx::query(
            "UPDATE job SET phase = 2, ready_at = ?, worker = ?, fence = fence + 1, started = ?, changes = changes + 1 WHERE phase = 1 AND lane = 'main' AND claim_rank = 5 AND ready_at <= ? ORDER BY ready_at LIMIT 200",
        )
        .bind(stamp)
        .bind(&[7_u8; 16][..])
        .bind(stamp)
        .bind(stamp)
        .execute(&mut sql)
        .await?;
        let rows = sqlx::query("SELECT id, input FROM job WHERE phase = 2 AND lane = 'main' AND ready_at = ?")
            .bind(stamp)
            .fetch_all(&mut sql)
            .await?;
        claiming += begun.elapsed();
        let begun = Instant::now();
        let mut query: QueryBuilder<sqlx::MySql> = QueryBuilder::new("UPDATE job SET phase = 11, ended = ");
        query.push_bind(now()).push(", ready_at = ").push_bind(now());
        query.push(", worker = NULL, status = 200, reply = '{\"status\":200,\"headers\":[],\"problem\":false,\"body\":{\"n\":1}}', expires = ");
        query.push_bind(now()).push(", changes = changes + 1 WHERE id IN (");
        let mut list = query.separated(", ");
        for row in &rows {
            list.push_bind(row.try_get::<Vec<u8>, _>(0)?);
        }
        query.push(")");
        query.build().execute(&mut sql).await?;
        completing += begun.elapsed();
    }
    let rate = |took: Duration| count as f64 / took.as_secs_f64();
    Ok((rate(inserting), rate(claiming), rate(completing), rate(inserting + claiming + completing)))
}

impl Bench {
    async fn act(&self, path: &str, body: Json) -> Done<Json> {
        let answer = self
            .client
            .post(format!("{}/api/v1{path}", self.control))
            .header("authorization", format!("Bearer {}", self.token))
            .header("content-type", "application/json")
            .body(body.to_string())
            .send()
            .await?;
        let (status, text) = (answer.status(), answer.text().await?);
        if !status.is_success() {
            return Err(format!("{path}: {status} {text}").into());
        }
        Ok(serde_json::from_str(&text)?)
    }

    /// Requests of 64 clients for some seconds: how many were accepted, and how many a second. The load
    /// comes from wrk, which takes the least of the two cores that all share.
    async fn accept(&mut self, seconds: u64) -> Done<(usize, f64)> {
        let script = std::env::temp_dir().join(format!("kanzlei-bench-{}.lua", std::process::id()));
        std::fs::write(
            &script,
            "wrk.method = 'POST'\nwrk.body = '{\"n\":1}'\nwrk.headers['Content-Type'] = 'application/json'\n",
        )?;
        let (since, begun) = (now(), Instant::now());
        let output = tokio::process::Command::new("wrk")
            .args(["-t1", "-c64", &format!("-d{seconds}s"), "-s"])
            .arg(&script)
            .arg(format!("{}/bench/job", self.public))
            .output()
            .await?;
        let took = begun.elapsed();
        std::fs::remove_file(&script)?;
        let said = String::from_utf8_lossy(&output.stdout);
        if !output.status.success() || said.contains("Non-2xx") {
            return Err(format!("requests were refused: {said}").into());
        }
        let row =
            sqlx::query("SELECT COUNT(*) FROM job WHERE accepted >= ?").bind(since).fetch_one(&mut self.sql).await?;
        let count: i64 = row.try_get(0)?;
        Ok((count as usize, count as f64 / took.as_secs_f64()))
    }

    /// Waits until no due job is left. Each poll reads one entry of the index.
    async fn drained(&mut self) -> Done<()> {
        let sql = "SELECT 1 FROM job FORCE INDEX (job_work) WHERE phase IN (1, 2, 3) AND lane = 'main' AND claim_rank IN (0, 5) AND ready_at < ? LIMIT 1";
        while sqlx::query(sql).bind(now() + 3_600_000_000).fetch_optional(&mut self.sql).await?.is_some() {
            tokio::time::sleep(Duration::from_millis(20)).await;
        }
        Ok(())
    }

    /// Waits until the server has removed what a load left in its indexes, for at most a minute.
    async fn settled(&mut self) -> Done<()> {
        let until = Instant::now() + SETTLES;
        while Instant::now() < until {
            let row =
                sqlx::query("SHOW GLOBAL STATUS LIKE 'Innodb_history_list_length'").fetch_one(&mut self.sql).await?;
            if row.try_get::<String, _>(1)?.parse::<u64>()? < SETTLED {
                break;
            }
            tokio::time::sleep(Duration::from_millis(200)).await;
        }
        Ok(())
    }

    /// Microseconds between two columns of the jobs that were queued since, sorted.
    async fn spans(&mut self, from: &'static str, to: &'static str, since: i64) -> Done<Vec<i64>> {
        let sql = format!("SELECT {to} - {from} FROM job WHERE accepted >= {since} AND phase = 11");
        let rows = sqlx::query(sqlx::AssertSqlSafe(sql)).fetch_all(&mut self.sql).await?;
        let mut spans: Vec<i64> = rows.iter().map(|row| row.try_get(0)).collect::<Result<_, _>>()?;
        spans.sort_unstable();
        Ok(spans)
    }

    /// A thousand timers a second for ten seconds: how late they began in microseconds, sorted.
    async fn timers(&mut self, generation: u64) -> Done<Vec<i64>> {
        let since = now();
        let first = since + 4_000_000;
        let jobs: Vec<NewJob> = (0..10_000).map(|n| job(first + n * 1000, generation)).collect();
        self.store.enqueue(&jobs, None).await?;
        tokio::time::sleep(Duration::from_secs(14)).await;
        self.drained().await?;
        self.spans("due", "started", since).await
    }

    fn memory(&self) -> f64 {
        let status = std::fs::read_to_string(format!("/proc/{}/status", self.process)).unwrap_or_default();
        let line = status.lines().find_map(|line| line.strip_prefix("VmRSS:"));
        line.and_then(|text| text.trim().trim_end_matches(" kB").trim().parse::<f64>().ok()).unwrap_or(0.0) / 1024.0
    }
}

/// Milliseconds at each hundredth of sorted microseconds, for the picture.
fn curve(label: &str, wanted: f64, sorted: &[i64]) -> Json {
    let values: Vec<f64> = (0..=100).map(|percent| at(sorted, f64::from(percent) / 100.0)).collect();
    json!({"label": label, "wanted": wanted, "values": values})
}

fn at(sorted: &[i64], share: f64) -> f64 {
    let index = ((sorted.len() as f64 * share) as usize).min(sorted.len().saturating_sub(1));
    sorted.get(index).copied().unwrap_or(0) as f64 / 1000.0
}

#[tokio::main]
async fn main() -> Done<()> {
    let _ = rustls::crypto::ring::default_provider().install_default();
    let args: Vec<String> = std::env::args().skip(1).collect();
    let [public, control, token, url, empty, process, file, rates @ ..] = args.as_slice() else {
        return Err("usage: kanzlei-bench-jobs PUBLIC CONTROL TOKEN DATABASE EMPTY PID FILE [rates]".into());
    };
    let mut bench = Bench {
        public: format!("http://127.0.0.1:{public}"),
        control: format!("http://127.0.0.1:{control}"),
        token: token.clone(),
        client: reqwest::Client::builder().no_proxy().pool_max_idle_per_host(6000).build()?,
        store: Store::connect(url, 2)?,
        sql: MySqlConnection::connect(url).await?,
        process: process.clone(),
    };
    let mut found = Figures::default();
    throughput(&mut bench, empty, &mut found).await?;
    low_load(&mut bench, &mut found).await?;
    if rates.is_empty() {
        timers(&mut bench, &mut found).await?;
        followers(&bench, &mut found).await?;
    }
    std::fs::write(file, json!({"figures": found.figures, "curves": found.curves}).to_string())?;
    Ok(())
}

/// What was measured.
#[derive(Default)]
struct Figures {
    figures: Vec<Json>,
    curves: Vec<Json>,
}

impl Figures {
    /// Prints a figure and keeps it.
    fn add(&mut self, what: &str, value: f64, unit: &str, more: &str) {
        println!("{what:<58} {value:>10.1} {unit:<8} {more}");
        self.figures.push(json!({"what": what, "value": value, "unit": unit, "more": more}));
    }
}

/// Jobs a second, against bare SQL.
async fn throughput(bench: &mut Bench, empty: &str, found: &mut Figures) -> Done<()> {
    let (insert, claim, complete, whole) = bare(empty, 20_000).await?;
    let alone = format!("each alone {insert:.0}, {claim:.0}, {complete:.0}");
    found.add("bare SQL: insert, claim, complete", whole, "jobs/s", &alone);
    bench.act("/lanes/main/hold", Json::Null).await?;
    let (count, rate) = bench.accept(6).await?;
    let share = format!("{:.2} of bare inserts in batches", rate / insert);
    found.add("accepted over HTTP, 64 clients", rate, "jobs/s", &share);
    let begun = Instant::now();
    bench.act("/lanes/main/release", Json::Null).await?;
    bench.drained().await?;
    let finished = count as f64 / begun.elapsed().as_secs_f64();
    let share = finished / (1.0 / (1.0 / claim + 1.0 / complete));
    let share = format!("{count} jobs; {share:.2} of bare claim and complete");
    found.add("begun and finished, one step", finished, "jobs/s", &share);
    let begun = Instant::now();
    let (count, _) = bench.accept(6).await?;
    bench.drained().await?;
    let both = count as f64 / begun.elapsed().as_secs_f64();
    let share = format!("{:.2} of bare (wanted 0.5)", both / whole);
    found.add("accepted to finished at the same time", both, "jobs/s", &share);
    Ok(())
}

/// The time from acceptance to the first step while there is little to do.
async fn low_load(bench: &mut Bench, found: &mut Figures) -> Done<()> {
    bench.settled().await?;
    let since = now();
    for _ in 0..300 {
        let url = format!("{}/bench/job", bench.public);
        bench.client.post(url).header("content-type", "application/json").body("{\"n\":1}").send().await?;
        tokio::time::sleep(Duration::from_millis(15)).await;
    }
    bench.drained().await?;
    let begin = bench.spans("accepted", "started", since).await?;
    let median = format!("p50 {:.1} (wanted p99 under 30)", at(&begin, 0.5));
    found.add("202 to first step at low load, p99", at(&begin, 0.99), "ms", &median);
    found.curves.push(curve("from 202 to the first step, low load", 30.0, &begin));
    Ok(())
}

/// The delay of timers, alone and beside a million scheduled jobs.
async fn timers(bench: &mut Bench, found: &mut Figures) -> Done<()> {
    let generation = bench.store.generation().await?;
    let late = bench.timers(generation).await?;
    let (p50, alone) = (at(&late, 0.5), at(&late, 0.99));
    found.curves.push(curve("1,000 timers a second", 100.0, &late));
    found.add("1,000 timers a second, late, p99", alone, "ms", &format!("p50 {p50:.1} (wanted p99 under 100)"));
    let before = bench.memory();
    let begun = Instant::now();
    let far = now() + 365 * 86_400_000_000;
    for from in (0..BACKLOG).step_by(5000) {
        let jobs: Vec<NewJob> = (0..5000).map(|n| job(far + (from + n) as i64, generation)).collect();
        bench.store.enqueue(&jobs, None).await?;
    }
    println!("{:<58} {:>10.1} s", "1,000,000 jobs scheduled", begun.elapsed().as_secs_f64());
    let late = bench.timers(generation).await?;
    let (p50, loaded) = (at(&late, 0.5), at(&late, 0.99));
    found.curves.push(curve("the same with 1,000,000 scheduled jobs", 100.0, &late));
    let share = format!("p50 {p50:.1}, {:.2} times (wanted within 1.3)", loaded / alone);
    found.add("the same with 1,000,000 scheduled jobs, p99", loaded, "ms", &share);
    let after = bench.memory();
    let growth = format!("{:+.1} (wanted no growth)", after - before);
    found.add("memory of the service with that backlog", after, "MB", &growth);
    Ok(())
}

/// Follows a job until its end; counts streams that opened and those that ended.
async fn follow(client: reqwest::Client, url: String, opened: Arc<AtomicUsize>, ended: Arc<AtomicUsize>) {
    let Ok(mut stream) = client.get(url).send().await else { return };
    let mut seen = false;
    while let Ok(Some(chunk)) = stream.chunk().await {
        let text = String::from_utf8_lossy(&chunk);
        if !seen && text.contains("event: changed") {
            seen = true;
            opened.fetch_add(1, Ordering::Relaxed);
        }
        if text.contains("event: ended") {
            ended.fetch_add(1, Ordering::Relaxed);
            return;
        }
    }
}

/// Followers of one job that waits: how long until all know of its end.
async fn followers(bench: &Bench, found: &mut Figures) -> Done<()> {
    let answer = bench
        .client
        .post(format!("{}/bench/wait", bench.public))
        .header("content-type", "application/json")
        .body("{}")
        .send()
        .await?;
    let id = serde_json::from_str::<Json>(&answer.text().await?)?["id"].as_str().unwrap_or_default().to_owned();
    let (opened, ended) = (Arc::new(AtomicUsize::new(0)), Arc::new(AtomicUsize::new(0)));
    let begun = Instant::now();
    let url = format!("{}/~/jobs/{id}/events", bench.public);
    let followers: Vec<_> = (0..5000)
        .map(|_| tokio::spawn(follow(bench.client.clone(), url.clone(), opened.clone(), ended.clone())))
        .collect();
    while opened.load(Ordering::Relaxed) < 5000 && begun.elapsed() < Duration::from_secs(60) {
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
    let opening = begun.elapsed();
    let begun = Instant::now();
    bench.client.delete(format!("{}/~/jobs/{id}", bench.public)).send().await?;
    for follower in followers {
        let _ = tokio::time::timeout(Duration::from_secs(60), follower).await;
    }
    let more = format!(
        "{} opened in {:.1} s, {} notified; service {:.0} MB",
        opened.load(Ordering::Relaxed),
        opening.as_secs_f64(),
        ended.load(Ordering::Relaxed),
        bench.memory()
    );
    let whole = begun.elapsed().as_secs_f64() * 1000.0;
    found.add("5,000 event streams: until all know of the end", whole, "ms", &more);
    Ok(())
}
