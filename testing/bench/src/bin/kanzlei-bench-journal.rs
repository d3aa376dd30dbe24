//! `cargo xtask bench journal`: every run recorded whole. How many a second, what they occupy, and whether they are read as they were answered.
//!
//! `large PORT` serves answers of four megabytes; `record …` sends runs and reads them; `flood …` sends those with large answers for a while.

use std::time::{Duration, Instant};

use actix_web::{App, HttpResponse, HttpServer, web};
use bytes::Bytes;
use futures_util::{StreamExt, stream};
use serde_json::{Value, json};
use sqlx::mysql::MySqlPool;

type Fault = Box<dyn std::error::Error + Send + Sync>;
type Done<T> = Result<T, Fault>;

const LARGE: usize = 4 << 20;
const AT_ONCE: usize = 24;
/// Answers that are compared with what is recorded of them.
const COMPARED: usize = 1000;

async fn large(port: u16) -> Done<()> {
    let items = vec![json!({"name": "Havbris", "note": "x".repeat(80)}); LARGE / 110];
    let body = Bytes::from(serde_json::to_vec(&items)?);
    let app = move || {
        let body = body.clone();
        let answer = move || std::future::ready(HttpResponse::Ok().content_type("application/json").body(body.clone()));
        App::new().route("/large", web::get().to(answer))
    };
    HttpServer::new(app).workers(1).bind(("127.0.0.1", port))?.run().await?;
    Ok(())
}

struct Service {
    client: reqwest::Client,
    public: String,
    control: String,
    token: String,
}

impl Service {
    async fn api(&self, path: &str) -> Done<(Value, f64)> {
        let begun = Instant::now();
        let answer = self.client.get(format!("{}/api/v1{path}", self.control)).bearer_auth(&self.token).send().await?;
        let status = answer.status();
        let text = answer.text().await?;
        let took = begun.elapsed().as_secs_f64() * 1000.0;
        if !status.is_success() {
            return Err(format!("{path}: {status} {text}").into());
        }
        Ok((serde_json::from_str(&text)?, took))
    }

    /// Sends one run; returns its id and the answer.
    async fn run(&self, n: u64) -> Done<(String, Value)> {
        let body = json!({"n": n, "text": format!("berth {} of {}", n % 17, n / 3)}).to_string();
        let sent = self.client.post(format!("{}/bench/record", self.public));
        let answer = sent.header("content-type", "application/json").body(body).send().await?;
        let id = answer.headers().get("run-id").and_then(|id| id.to_str().ok()).unwrap_or_default().to_owned();
        Ok((id, serde_json::from_str(&answer.text().await?)?))
    }
}

fn percentile(figures: &mut [f64], share: f64) -> f64 {
    figures.sort_by(f64::total_cmp);
    figures[((figures.len() - 1) as f64 * share) as usize]
}

/// What tables occupy on the disk, in bytes for each run.
async fn occupied(pool: &MySqlPool, runs: f64) -> Done<String> {
    let sql = "SELECT TABLE_NAME, CAST(DATA_LENGTH + INDEX_LENGTH AS SIGNED) FROM information_schema.TABLES
               WHERE TABLE_SCHEMA = DATABASE() AND TABLE_NAME IN ('run', 'segment', 'run_trouble', 'run_request') ORDER BY 2 DESC";
    let tables: Vec<(String, i64)> = sqlx::query_as(sql).fetch_all(pool).await?;
    let all: i64 = tables.iter().map(|(_, bytes)| bytes).sum();
    let each: Vec<String> = tables.iter().map(|(name, bytes)| format!("{name} {:.0}", *bytes as f64 / runs)).collect();
    Ok(format!("{:.0} ({})", all as f64 / runs, each.join(", ")))
}

async fn record(service: &Service, database: &str, count: u64) -> Done<()> {
    let begun = Instant::now();
    let every = (count / COMPARED as u64).max(1);
    let mut known = Vec::new();
    let mut sent = stream::iter(0..count).map(|n| async move { (n, service.run(n).await) }).buffer_unordered(AT_ONCE);
    while let Some((n, answered)) = sent.next().await {
        let (id, answer) = answered?;
        if n % every == 0 || n % 1000 == 999 && known.len() < 2 * COMPARED {
            known.push((n, id, answer));
        }
        if n > 0 && n % 100_000 == 0 {
            eprintln!("{n} sent …");
        }
    }
    let rate = count as f64 / begun.elapsed().as_secs_f64();
    println!("{:<52} {rate:>10.0}", format!("{count} runs, each recorded, runs/s"));
    let (page, _) = service.api("/runs?limit=1").await?;
    let (kept, dropped) = (page["kept"].as_u64().unwrap_or(0), page["dropped"].as_u64().unwrap_or(0));
    println!("{:<52} {kept:>10} and {dropped} dropped", "  kept");
    let pool = MySqlPool::connect(database).await?;
    println!("{:<52} {:>10}", "  bytes on disk of each run, whole tables", occupied(&pool, kept as f64).await?);
    println!("{:<52} {:>10.0}", "  bytes of values of each run", page["bytes"].as_f64().unwrap_or(0.0) / kept as f64);

    let (mut reads, mut wrong, mut missing) = (Vec::new(), 0, 0);
    for (n, id, answer) in &known {
        match service.api(&format!("/runs/{id}")).await {
            Ok((run, took)) => {
                reads.push(took);
                let same = match n % 1000 == 999 {
                    true => run["state"] == "rejected",
                    false => run["reply"] == *answer && run["steps"].as_array().is_some_and(|steps| steps.len() == 3),
                };
                wrong += usize::from(!same || run["input"]["n"] != *n);
            }
            Err(_) => missing += 1,
        }
    }
    println!("{:<52} {:>10} of {}, {missing} missing", "  recorded otherwise than answered", wrong, known.len());
    println!(
        "{:<52} {:>10.1} {:.1}",
        "  one run read, ms p50 and p99",
        percentile(&mut reads, 0.5),
        percentile(&mut reads, 0.99)
    );
    let id = &known[known.len() / 2].1;
    for path in [
        "/runs?limit=50".to_owned(),
        "/runs?limit=50&workflow=bench-record&state=rejected".to_owned(),
        format!("/runs?limit=50&before={id}"),
        "/runs?limit=50&text=BERTH%203%20OF%2099".to_owned(),
        format!("/runs?limit=50&text=nowhere&before={id}"),
    ] {
        let mut took = Vec::new();
        for _ in 0..5 {
            took.push(service.api(&path).await?.1);
        }
        println!("{:<52} {:>10.1}", format!("  GET {}, ms", &path[..path.len().min(40)]), percentile(&mut took, 0.5));
    }
    Ok(())
}

async fn flood(service: &Service, seconds: u64) -> Done<()> {
    let until = Instant::now() + Duration::from_secs(seconds);
    let one = || async {
        let sent = service.client.post(format!("{}/bench/large", service.public)).send();
        sent.await.is_ok_and(|answer| answer.status() == 200)
    };
    let mut sent = stream::iter(0..)
        .take_while(|_| std::future::ready(Instant::now() < until))
        .map(|_: u64| one())
        .buffer_unordered(8);
    let (mut answered, mut failed) = (0, 0);
    while let Some(good) = sent.next().await {
        if good { answered += 1 } else { failed += 1 }
    }
    println!("{:<52} {answered:>10} and {failed} others", "runs with answers of 4 MB while the database is away");
    Ok(())
}

#[actix_web::main]
async fn main() -> Done<()> {
    let args: Vec<String> = std::env::args().skip(1).collect();
    let _ = rustls::crypto::ring::default_provider().install_default();
    let service = |public: &str, control: &str, token: &str| {
        let client = reqwest::Client::builder().no_proxy().timeout(Duration::from_secs(60)).build()?;
        Done::Ok(Service { client, public: public.into(), control: control.into(), token: token.into() })
    };
    match args.iter().map(String::as_str).collect::<Vec<_>>().as_slice() {
        ["large", port] => large(port.parse()?).await,
        ["record", public, control, token, database, count] => {
            record(&service(public, control, token)?, database, count.parse()?).await
        }
        ["flood", public, control, token, seconds] => flood(&service(public, control, token)?, seconds.parse()?).await,
        _ => Err("usage: kanzlei-bench-journal large|record|flood …".into()),
    }
}
