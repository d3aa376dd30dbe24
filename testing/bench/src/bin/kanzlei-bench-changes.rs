//! `cargo xtask bench changes`: how much longer writers take at a table whose changed rows are watched.
//!
//! Four connections change 2,000 rows a second, each row in a transaction of its own, by turns at a watched table and at one of the same
//! form; then as many as they can. Arguments: the address of the database, the address of the service's records.

use std::time::{Duration, Instant};

use sqlx::{Connection, MySqlConnection, Row};

type Done<T> = Result<T, Box<dyn std::error::Error + Send + Sync>>;

const WRITERS: usize = 4;
const RATE: usize = 2000;
const SPAN: Duration = Duration::from_secs(8);
const ROUNDS: usize = 3;
const ROWS: usize = 1000;

#[tokio::main]
async fn main() -> Done<()> {
    let args: Vec<String> = std::env::args().skip(1).collect();
    let [url, records] = args.as_slice() else {
        return Err("usage: kanzlei-bench-changes DATABASE RECORDS".into());
    };
    let mut figures: [Vec<(Duration, Duration, f64)>; 4] = Default::default();
    for _ in 0..ROUNDS {
        for (index, (table, paced)) in
            [("bench_plain", true), ("bench_row", true), ("bench_plain", false), ("bench_row", false)]
                .into_iter()
                .enumerate()
        {
            figures[index].push(round(url, table, paced).await?);
            drained(url, records).await?;
        }
    }
    let median = |of: &mut Vec<(Duration, Duration, f64)>| {
        of.sort_by_key(|(mean, ..)| *mean);
        of[of.len() / 2]
    };
    let [plain, watched, most_plain, most_watched] = figures.each_mut().map(median);
    let ms = |span: Duration| span.as_secs_f64() * 1000.0;
    println!(
        "Four connections, one row a transaction, {} s a round, {ROUNDS} rounds by turns; each change begins a job.\n",
        SPAN.as_secs()
    );
    println!("{:<44} {:>10} {:>10} {:>12}", "", "mean ms", "p99 ms", "rows/s");
    for (what, (mean, p99, rate)) in [
        ("2,000 rows a second, not watched", plain),
        ("2,000 rows a second, watched", watched),
        ("as many as they can, not watched", most_plain),
        ("as many as they can, watched", most_watched),
    ] {
        println!("{what:<44} {:>10.2} {:>10.2} {rate:>12.0}", ms(mean), ms(p99));
    }
    let (more, fewer) = (watched.0.as_secs_f64() / plain.0.as_secs_f64() - 1.0, most_watched.2 / most_plain.2);
    println!(
        "\nwriters at 2,000 rows a second take {:.0} % longer (wanted at most 20 %); at most {fewer:.2} of the rows a second",
        more * 100.0
    );
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
    let statement = match table {
        "bench_row" => "UPDATE bench_row SET n = n + 1 WHERE id = ?",
        _ => "UPDATE bench_plain SET n = n + 1 WHERE id = ?",
    };
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
        sqlx::query(statement).bind(id as i64).execute(&mut sql).await?;
        spans.push(asked.elapsed());
    }
    Ok(spans)
}

/// Waits until all changes were accepted and their jobs have ended, so that no round pays for another.
async fn drained(url: &str, records: &str) -> Done<()> {
    let (mut rows, mut jobs) = (MySqlConnection::connect(url).await?, MySqlConnection::connect(records).await?);
    loop {
        let waiting: i64 = sqlx::query("SELECT COUNT(*) FROM kanzlei_change").fetch_one(&mut rows).await?.try_get(0)?;
        let busy = sqlx::query("SELECT 1 FROM job WHERE phase IN (1, 2, 3) LIMIT 1").fetch_optional(&mut jobs).await?;
        if waiting == 0 && busy.is_none() {
            return Ok(());
        }
        tokio::time::sleep(Duration::from_millis(200)).await;
    }
}
