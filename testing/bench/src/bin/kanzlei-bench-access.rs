//! `cargo xtask bench access`: deliveries accepted against bare inserts of the same rows, and a burst that is kept whole.
//!
//! Arguments: public and control port, the operator's token, the service's database, an empty database.

use std::sync::Arc;
use std::time::{Duration, Instant};

use kanzlei_store::Store;
use sqlx::{Connection, MySqlConnection, QueryBuilder, Row};
use tokio::sync::Semaphore;
use uuid::Uuid;

type Done<T> = Result<T, Box<dyn std::error::Error + Send + Sync>>;

const BATCH: usize = 200;
const BURST: usize = 10_000;
const BODY: &str = "{\"n\":1}";

#[tokio::main]
async fn main() -> Done<()> {
    let _ = rustls::crypto::ring::default_provider().install_default();
    let args: Vec<String> = std::env::args().skip(1).collect();
    let [public, control, token, url, empty] = args.as_slice() else {
        return Err("usage: kanzlei-bench-access PUBLIC CONTROL TOKEN DATABASE EMPTY".into());
    };
    let lane = |what: &str| {
        let client = reqwest::Client::builder().no_proxy().build()?;
        let request = client.post(format!("http://127.0.0.1:{control}/api/v1/lanes/bench/{what}")).bearer_auth(token);
        Ok::<_, reqwest::Error>(async move { request.send().await?.error_for_status() })
    };
    let public = format!("http://127.0.0.1:{public}/bench/message");
    let mut sql = MySqlConnection::connect(url).await?;
    let bare = bare(empty, 20_000).await?;
    println!("{:<52} {bare:>10.0} /s", "bare inserts of message and job, batches of 200");
    for (held, what) in [(true, "deliveries accepted over HTTP, 200 clients"), (false, "the same while their jobs run")]
    {
        lane(if held { "hold" } else { "release" })?.await?;
        let (before, begun) = (kept(&mut sql).await?, Instant::now());
        flood(&public, 6).await?;
        let rate = (kept(&mut sql).await? - before) as f64 / begun.elapsed().as_secs_f64();
        let wanted = if held { " (wanted 0.5)" } else { "" };
        println!("{what:<52} {rate:>10.0} /s   {:.2} of bare{wanted}", rate / bare);
    }
    burst(&public, &mut sql).await
}

/// Inserts messages with their keys and jobs on one connection; how many a second.
async fn bare(url: &str, count: usize) -> Done<f64> {
    Store::open(url, 2).await?;
    let mut sql = MySqlConnection::connect(url).await?;
    let begun = Instant::now();
    for _ in 0..count / BATCH {
        let ids: Vec<Uuid> = (0..BATCH).map(|_| Uuid::now_v7()).collect();
        let mut tx = sql.begin().await?;
        let mut query: QueryBuilder<sqlx::MySql> =
            QueryBuilder::new("INSERT INTO delivery_key (hash, delivery, until) ");
        query.push_values(&ids, |mut row, id| {
            row.push_bind(format!("{:064x}", id.as_u128())).push_bind(id.as_bytes().to_vec()).push_bind(1_i64);
        });
        query.build().execute(&mut *tx).await?;
        let mut query: QueryBuilder<sqlx::MySql> = QueryBuilder::new(
            "INSERT INTO delivery (id, workflow, entry, received, state, request_id, proof, method, query, headers, media, size, digest, body, sealed, revision, generation, run, processed) ",
        );
        query.push_values(&ids, |mut row, id| {
            row.push_bind(id.as_bytes().to_vec())
                .push_bind("bench-message")
                .push_bind("POST /bench/message")
                .push_bind(1_i64);
            row.push_bind(1_u8)
                .push_bind(id.to_string())
                .push_bind("bearer, bench-secret")
                .push_bind("POST")
                .push_bind("");
            row.push_bind(
                "[[\"host\",\"127.0.0.1:7080\"],[\"content-type\",\"application/json\"],[\"content-length\",\"7\"]]",
            );
            row.push_bind("application/json").push_bind(7_u64).push_bind(format!("{:064x}", id.as_u128()));
            row.push_bind(BODY.as_bytes()).push_bind(0_u8).push_bind(1_u32).push_bind(1_u64);
            row.push_bind(id.as_bytes().to_vec()).push_bind(1_u32);
        });
        query.build().execute(&mut *tx).await?;
        let mut query: QueryBuilder<sqlx::MySql> = QueryBuilder::new(
            "INSERT INTO job (id, phase, lane, claim_rank, ready_at, workflow, revision, generation, depth, priority, entry, caller, request_id, trace_id, accepted, due, input, sealed, kept_for, unattended) ",
        );
        query.push_values(&ids, |mut row, id| {
            row.push_bind(id.as_bytes().to_vec()).push_bind(1_u8).push_bind("bench").push_bind(5_u8).push_bind(1_i64);
            row.push_bind("bench-message").push_bind(1_u32).push_bind(1_u64).push_bind(0_u32).push_bind(5_u8);
            row.push_bind("POST /bench/message").push_bind("127.0.0.1").push_bind(id.to_string());
            row.push_bind(id.simple().to_string()).push_bind(1_i64).push_bind(1_i64).push_bind(BODY).push_bind(0_u8);
            row.push_bind(86_400_000_000_i64).push_bind(0_u8);
        });
        query.build().execute(&mut *tx).await?;
        tx.commit().await?;
    }
    Ok(count as f64 / begun.elapsed().as_secs_f64())
}

/// Messages of 200 clients for some seconds, each with an id of its own.
async fn flood(public: &str, seconds: u64) -> Done<()> {
    let script = std::env::temp_dir().join(format!("kanzlei-bench-{}.lua", std::process::id()));
    std::fs::write(
        &script,
        "wrk.method = 'POST'\nwrk.body = '{\"n\":1}'\nwrk.headers['Content-Type'] = 'application/json'\nwrk.headers['Authorization'] = 'Bearer bench'\n
         local n = 0\nlocal first = os.time() .. '-'\nrequest = function() n = n + 1; wrk.headers['X-Id'] = first .. n; return wrk.format() end\n",
    )?;
    let output = tokio::process::Command::new("wrk")
        .args(["-t1", "-c200", &format!("-d{seconds}s"), "-s"])
        .arg(&script)
        .arg(public)
        .output()
        .await?;
    std::fs::remove_file(&script)?;
    let said = String::from_utf8_lossy(&output.stdout);
    if !output.status.success() || said.contains("Non-2xx") {
        return Err(format!("messages were refused: {said}").into());
    }
    Ok(())
}

/// Ten thousand messages within two seconds: all are kept, and processed at the pace of their lane.
async fn burst(public: &str, sql: &mut MySqlConnection) -> Done<()> {
    drained(sql).await?;
    let before = kept(sql).await?;
    let client = reqwest::Client::builder().no_proxy().pool_max_idle_per_host(512).build()?;
    let places = Arc::new(Semaphore::new(256));
    let begun = Instant::now();
    let mut sent = Vec::with_capacity(BURST);
    for _ in 0..BURST {
        let (client, places, public) = (client.clone(), places.clone(), public.to_owned());
        sent.push(tokio::spawn(async move {
            let _place = places.acquire_owned().await;
            let request =
                client.post(public).header("authorization", "Bearer bench").header("content-type", "application/json");
            request.body(BODY).send().await.map(|answer| answer.status().as_u16()).unwrap_or(0)
        }));
    }
    let mut accepted = 0;
    for one in sent {
        accepted += usize::from(one.await? == 202);
    }
    let took = begun.elapsed();
    let found = kept(sql).await? - before;
    println!("{:<52} {accepted:>10} of {BURST} acknowledged in {:.1} s, {found} kept", "a burst", took.as_secs_f64());
    drained(sql).await?;
    let all = begun.elapsed().as_secs_f64();
    println!("{:<52} {:>10.0} /s   (the lane allows 1000)", "processed", BURST as f64 / all);
    Ok(())
}

async fn kept(sql: &mut MySqlConnection) -> Done<i64> {
    Ok(sqlx::query("SELECT COUNT(*) FROM delivery").fetch_one(sql).await?.try_get(0)?)
}

/// Waits until no job of the lane is left.
async fn drained(sql: &mut MySqlConnection) -> Done<()> {
    let waiting = "SELECT 1 FROM job WHERE phase IN (1, 2, 3) AND lane = 'bench' LIMIT 1";
    while sqlx::query(waiting).fetch_optional(&mut *sql).await?.is_some() {
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    Ok(())
}
