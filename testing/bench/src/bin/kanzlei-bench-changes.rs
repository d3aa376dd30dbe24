//! `cargo xtask bench changes`: how much longer writers take at a table whose changed rows are watched.
//!
//! Four connections change 2,000 rows a second, each row in a transaction of its own, by turns at a watched table and at one of the same
//! form; then as many as they can. Arguments: the address of the database, the address of the service's records.

use std::time::{Duration, Instant};

use sqlx::{AssertSqlSafe, Connection, MySqlConnection, Row};

type Done<T> = Result<T, Box<dyn std::error::Error + Send + Sync>>;

const WRITERS: usize = 4;
const RATE: usize = 2000;
const SPAN: Duration = Duration::from_secs(8);
const ROUNDS: usize = 3;
const ROWS: usize = 1000;

/// Tables of one form, and what becomes of their changes.
const TABLES: [(&str, &str); 4] = [
    ("bench_plain", "not watched"),
    ("bench_seen", "watched, begins nothing"),
    ("bench_queued", "watched, queues a job each"),
    ("bench_run", "watched, runs a job each"),
];

#[tokio::main]
async fn main() -> Done<()> {
    let args: Vec<String> = std::env::args().skip(1).collect();
    let [url, records] = args.as_slice() else {
        return Err("usage: kanzlei-bench-changes DATABASE RECORDS".into());
    };
    println!("Four connections, one row a transaction, {} s a round, {ROUNDS} rounds by turns.\n", SPAN.as_secs());
    println!("{:<52} {:>8} {:>8} {:>10} {:>10}", "", "mean ms", "p99 ms", "rows/s", "longer");
    for (paced, what) in [(true, "2,000 rows a second"), (false, "as many as they can")] {
        let mut figures: [Vec<(Duration, Duration, f64)>; TABLES.len()] = Default::default();
        for _ in 0..ROUNDS {
            for ((table, _), figures) in TABLES.iter().zip(&mut figures) {
                figures.push(round(url, table, paced).await?);
                drained(url, records).await?;
            }
        }
        let mut plain = None;
        for ((_, becomes), figures) in TABLES.iter().zip(&mut figures) {
            figures.sort_by_key(|(mean, ..)| *mean);
            let (mean, p99, rate) = figures[figures.len() / 2];
            let longer = mean.as_secs_f64() / plain.get_or_insert(mean).as_secs_f64() - 1.0;
            let (mean, p99) = (mean.as_secs_f64() * 1000.0, p99.as_secs_f64() * 1000.0);
            let label = format!("{what}, {becomes}");
            println!("{label:<52} {mean:>8.2} {p99:>8.2} {rate:>10.0} {:>9.0}%", longer * 100.0);
        }
    }
    println!("\nwanted: writers at 2,000 rows a second take at most 20 % longer");
    Ok(())
}

/// Mean and 99th percentile of the time of a transaction, and rows a second.
async fn round(url: &str, table: &'static str, paced: bool) -> Done<(Duration, Duration, f64)> {
    let begun = Instant::now();
    let writers = (0..WRITERS).map(|writer| tokio::spawn(write(url.to_owned(), table, writer, paced)));
    let mut spans = Vec::new();
    for writer in futures_util::future::join_all(writers).await {
        spans.extend(writer??);
    }
    let rate = spans.len() as f64 / begun.elapsed().as_secs_f64();
    spans.sort();
    let mean = spans.iter().sum::<Duration>() / spans.len().max(1) as u32;
    Ok((mean, spans[spans.len() * 99 / 100], rate))
}

/// Changes rows of its own part of the table; the time of each transaction.
async fn write(url: String, table: &'static str, writer: usize, paced: bool) -> Done<Vec<Duration>> {
    let mut sql = MySqlConnection::connect(&url).await?;
    let statement = format!("UPDATE {table} SET n = n + 1 WHERE id = ?");
    let every = Duration::from_secs(1) * WRITERS as u32 / RATE as u32;
    let (begun, mut spans) = (Instant::now(), Vec::new());
    for turn in 0.. {
        if paced {
            tokio::time::sleep_until((begun + every * turn).into()).await;
        }
        if begun.elapsed() >= SPAN {
            break;
        }
        let id = (turn as usize % (ROWS / WRITERS)) * WRITERS + writer;
        let asked = Instant::now();
        sqlx::query(AssertSqlSafe(statement.clone())).bind(id as i64).execute(&mut sql).await?;
        spans.push(asked.elapsed());
    }
    Ok(spans)
}

/// Waits until all changes were accepted and their jobs have ended, so that no round pays for another.
async fn drained(url: &str, records: &str) -> Done<()> {
    let (mut rows, mut jobs) = (MySqlConnection::connect(url).await?, MySqlConnection::connect(records).await?);
    loop {
        let waiting: i64 = sqlx::query("SELECT COUNT(*) FROM kanzlei_change").fetch_one(&mut rows).await?.try_get(0)?;
        let busy = sqlx::query("SELECT 1 FROM job WHERE phase IN (1, 2, 3) AND lane <> 'bench-held' LIMIT 1")
            .fetch_optional(&mut jobs)
            .await?;
        if waiting == 0 && busy.is_none() {
            return Ok(());
        }
        tokio::time::sleep(Duration::from_millis(200)).await;
    }
}
