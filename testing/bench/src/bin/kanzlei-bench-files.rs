//! `cargo xtask bench files`: files against a hand-written Actix service, by turns in one run.
//!
//! `serve PORT FOLDER DATABASE` is the hand-written service; without it the arguments are the address of the service, its process, the address of
//! the hand-written one, its process, the folder of the place, and the database.

use std::io::{Cursor, Read, Write};
use std::path::PathBuf;
use std::time::{Duration, Instant};

use actix_web::web::{self, Data, Payload};
use actix_web::{App, HttpResponse, HttpServer};
use bytes::Bytes;
use futures_util::{StreamExt, stream};
use serde::Deserialize;
use sha2::{Digest, Sha256};
use sqlx::mysql::MySqlPool;
use tokio::io::AsyncWriteExt;

type Fault = Box<dyn std::error::Error + Send + Sync>;
type Done<T> = Result<T, Fault>;

const GIB: u64 = 1 << 30;
const PIECE: usize = 256 << 10;
const PARTS: usize = 1000;
const ROWS: usize = 1_000_000;
const ROUNDS: usize = 3;

#[derive(Deserialize)]
struct Manifest {
    manifest: String,
    consignee: String,
    goods: Vec<Goods>,
}

#[derive(Deserialize)]
struct Goods {
    name: String,
    weight_kg: i64,
}

struct Hand {
    folder: PathBuf,
    pool: MySqlPool,
}

/// Stores a body: a digest on the way, synced, visible when it is whole.
async fn upload(hand: Data<Hand>, mut body: Payload) -> actix_web::Result<HttpResponse> {
    let name = uuid::Uuid::new_v4().to_string();
    let (part, whole) = (hand.folder.join(format!("{name}.part")), hand.folder.join(&name));
    let mut file = tokio::fs::File::create(&part).await?;
    let (mut digest, mut size) = (Sha256::new(), 0);
    while let Some(chunk) = body.next().await {
        let chunk = chunk?;
        digest.update(&chunk);
        size += chunk.len();
        file.write_all(&chunk).await?;
    }
    file.flush().await?;
    file.sync_all().await?;
    tokio::fs::rename(&part, &whole).await?;
    Ok(HttpResponse::Created().json(serde_json::json!({"size": size, "digest": format!("{:x}", digest.finalize())})))
}

/// Keeps the lines of a zip of JSON files in one transaction.
async fn packed(hand: Data<Hand>, body: Bytes) -> actix_web::Result<HttpResponse> {
    let wrong = |error: &dyn std::fmt::Display| actix_web::error::ErrorUnprocessableEntity(error.to_string());
    let manifests = web::block(move || {
        let mut archive = zip::ZipArchive::new(Cursor::new(body)).map_err(|error| error.to_string())?;
        let mut all = Vec::with_capacity(archive.len());
        for at in 0..archive.len() {
            let mut text = String::new();
            archive.by_index(at).map_err(|e| e.to_string())?.read_to_string(&mut text).map_err(|e| e.to_string())?;
            all.push(serde_json::from_str::<Manifest>(&text).map_err(|error| error.to_string())?);
        }
        Ok::<_, String>(all)
    });
    let manifests = manifests.await?.map_err(|error| wrong(&error))?;
    let lines: Vec<_> = manifests
        .iter()
        .flat_map(|one| one.goods.iter().enumerate().map(move |(at, item)| (one, at as i64 + 1, item)))
        .collect();
    let mut tx = hand.pool.begin().await.map_err(|error| wrong(&error))?;
    for some in lines.chunks(500) {
        let mut insert =
            sqlx::QueryBuilder::new("INSERT INTO bench_line (manifest, line, consignee, goods, weight_kg) ");
        insert.push_values(some, |mut row, (one, line, item)| {
            row.push_bind(&one.manifest).push_bind(line).push_bind(&one.consignee);
            row.push_bind(&item.name).push_bind(item.weight_kg);
        });
        insert.push(" ON DUPLICATE KEY UPDATE weight_kg = VALUES(weight_kg)");
        insert.build().execute(&mut *tx).await.map_err(|error| wrong(&error))?;
    }
    tx.commit().await.map_err(|error| wrong(&error))?;
    let weight: i64 = lines.iter().map(|(_, _, item)| item.weight_kg).sum();
    Ok(HttpResponse::Ok().json(serde_json::json!({"lines": lines.len(), "weight_kg": weight})))
}

async fn serve(port: u16, folder: PathBuf, database: &str) -> Done<()> {
    std::fs::create_dir_all(&folder)?;
    let hand = Data::new(Hand { folder, pool: MySqlPool::connect(database).await? });
    let app = move || {
        App::new()
            .app_data(hand.clone())
            .app_data(web::PayloadConfig::new(64 << 20))
            .route("/bench/upload", web::put().to(upload))
            .route("/bench/packed", web::put().to(packed))
    };
    HttpServer::new(app).workers(2).bind(("127.0.0.1", port))?.run().await?;
    Ok(())
}

/// The most memory that a process had since it was asked last, in MiB.
fn most_memory(process: &str) -> Done<f64> {
    let status = std::fs::read_to_string(format!("/proc/{process}/status"))?;
    let line = status.lines().find(|line| line.starts_with("VmHWM")).ok_or("no VmHWM")?;
    let kib: f64 = line.split_whitespace().nth(1).ok_or("no number")?.parse()?;
    Ok(kib / 1024.0)
}

fn forget_memory(process: &str) -> Done<()> {
    Ok(std::fs::write(format!("/proc/{process}/clear_refs"), "5")?)
}

fn median(mut figures: Vec<f64>) -> f64 {
    figures.sort_by(f64::total_cmp);
    figures[figures.len() / 2]
}

async fn send_gib(client: &reqwest::Client, base: &str) -> Done<f64> {
    let piece = Bytes::from(vec![7u8; PIECE]);
    let pieces = stream::iter((0..GIB as usize / PIECE).map(move |_| Ok::<_, std::io::Error>(piece.clone())));
    let begun = Instant::now();
    let sent = client
        .put(format!("{base}/bench/upload"))
        .header("content-type", "application/octet-stream")
        .header("content-length", GIB)
        .body(reqwest::Body::wrap_stream(pieces));
    let answer = sent.send().await?;
    let (status, text) = (answer.status(), answer.text().await?);
    if status != 201 || !text.contains(&GIB.to_string()) {
        return Err(format!("{base}: {status} {text}").into());
    }
    Ok(1024.0 / begun.elapsed().as_secs_f64())
}

fn archive() -> Done<Bytes> {
    let mut packed = zip::ZipWriter::new(Cursor::new(Vec::new()));
    for at in 0..PARTS {
        packed.start_file(format!("{at}.json"), zip::write::SimpleFileOptions::default())?;
        let goods: Vec<_> =
            (0..10).map(|n| serde_json::json!({"name": format!("goods {n}"), "weight_kg": at + n + 1})).collect();
        let one = serde_json::json!({"manifest": format!("M-{at}"), "consignee": "Nesholm Trading", "goods": goods});
        packed.write_all(one.to_string().as_bytes())?;
    }
    Ok(packed.finish()?.into_inner().into())
}

async fn send_packed(client: &reqwest::Client, base: &str, packed: &Bytes) -> Done<f64> {
    let begun = Instant::now();
    let sent = client.put(format!("{base}/bench/packed")).header("content-type", "application/zip");
    let answer = sent.body(packed.clone()).send().await?;
    let (status, text) = (answer.status(), answer.text().await?);
    if status != 200 || !text.contains("\"lines\":10000") {
        return Err(format!("{base}: {status} {text}").into());
    }
    Ok(begun.elapsed().as_secs_f64() * 1000.0)
}

/// Milliseconds to the first byte and to the last one.
async fn fetch(client: &reqwest::Client, url: &str) -> Done<(f64, f64, u64)> {
    let begun = Instant::now();
    let answer = client.get(url).header("accept", "text/csv, application/pdf").send().await?;
    if answer.status() != 200 {
        return Err(format!("{url}: {} {}", answer.status(), answer.text().await?).into());
    }
    let mut pieces = answer.bytes_stream();
    let (mut first, mut bytes) = (None, 0);
    while let Some(piece) = pieces.next().await {
        first.get_or_insert_with(|| begun.elapsed());
        bytes += piece?.len() as u64;
    }
    let first = first.unwrap_or_default();
    Ok((first.as_secs_f64() * 1000.0, begun.elapsed().as_secs_f64() * 1000.0, bytes))
}

fn emptied(folder: &PathBuf) -> Done<()> {
    for entry in std::fs::read_dir(folder)?.flatten() {
        if entry.file_name() != "rows.ndjson" && entry.path().is_file() {
            std::fs::remove_file(entry.path())?;
        }
    }
    Ok(())
}

async fn measure(args: &[String]) -> Done<()> {
    let [ours, our_process, hand, their_process, place, theirs] = args else {
        return Err("usage: kanzlei-bench-files SERVICE PROCESS BY-HAND PROCESS PLACE FOLDER".into());
    };
    let client = reqwest::Client::builder().no_proxy().timeout(Duration::from_secs(300)).build()?;
    let (stored, theirs) = (PathBuf::from(place).join("bench"), PathBuf::from(theirs));
    println!("{:<44} {:>12} {:>12} {:>8}", "", "Kanzlei", "by hand", "ratio");

    let (mut our_rate, mut their_rate, mut memory) = (Vec::new(), Vec::new(), (0.0f64, 0.0f64));
    for _ in 0..ROUNDS {
        forget_memory(our_process)?;
        our_rate.push(send_gib(&client, ours).await?);
        memory.0 = memory.0.max(most_memory(our_process)?);
        forget_memory(their_process)?;
        their_rate.push(send_gib(&client, hand).await?);
        memory.1 = memory.1.max(most_memory(their_process)?);
        emptied(&stored)?;
        emptied(&theirs)?;
    }
    let (ours_of, theirs_of) = (median(our_rate), median(their_rate));
    println!("{:<44} {ours_of:>12.0} {theirs_of:>12.0} {:>8.2}", "upload and store 1 GiB, MiB/s", ours_of / theirs_of);
    println!("{:<44} {:>12.0} {:>12.0}", "  most memory, MiB", memory.0, memory.1);

    let packed = archive()?;
    let (mut our_time, mut their_time) = (Vec::new(), Vec::new());
    for _ in 0..ROUNDS + 2 {
        our_time.push(send_packed(&client, ours, &packed).await?);
        their_time.push(send_packed(&client, hand, &packed).await?);
    }
    let (ours_of, theirs_of) = (median(our_time), median(their_time));
    println!(
        "{:<44} {ours_of:>12.0} {theirs_of:>12.0} {:>8.2}",
        "zip of 1,000 JSON files to 10,000 rows, ms",
        theirs_of / ours_of
    );

    let mut file = std::io::BufWriter::new(std::fs::File::create(stored.join("rows.ndjson"))?);
    for id in 0..ROWS {
        writeln!(file, "{{\"id\":{id},\"vessel\":\"Havbris {id}\",\"dues_eur\":{}.5}}", id % 900)?;
    }
    file.into_inner()?.sync_all()?;
    let (mut first, mut last, mut bytes) = (Vec::new(), Vec::new(), 0);
    forget_memory(our_process)?;
    for _ in 0..ROUNDS {
        let (begins, ends, size) = fetch(&client, &format!("{ours}/bench/rows")).await?;
        (bytes, first, last) = (size, [first, vec![begins]].concat(), [last, vec![ends]].concat());
    }
    println!("{:<44} {:>12.0}", "CSV reply of 1,000,000 rows, first byte, ms", median(first));
    println!("{:<44} {:>12.0}", format!("  last of {} MiB, ms", bytes >> 20), median(last));
    println!("{:<44} {:>12.0}", "  most memory, MiB", most_memory(our_process)?);

    let mut pages = Vec::new();
    for _ in 0..ROUNDS {
        pages.push(fetch(&client, &format!("{ours}/bench/page")).await?.1);
    }
    println!("{:<44} {:>12.0}", "PDF of three pages, ms", median(pages));
    println!("\nwanted: upload at least 0.8, under 100 MiB; zip at least 0.7; first byte under 200 ms");
    Ok(())
}

#[actix_web::main]
async fn main() -> Done<()> {
    let args: Vec<String> = std::env::args().skip(1).collect();
    match args.as_slice() {
        [serves, port, folder, database] if serves == "serve" => serve(port.parse()?, folder.into(), database).await,
        args => {
            let _ = rustls::crypto::ring::default_provider().install_default();
            measure(args).await
        }
    }
}
