//! What the benchmark's workflows do, written by hand: the measure for `cargo xtask bench endpoint`.
//!
//! `kanzlei-handwritten LISTEN STANDINS WORKERS`

use std::time::Duration;

use actix_web::web::{self, Data, Json, Path};
use actix_web::{App, HttpResponse, HttpServer};
use serde::{Deserialize, Serialize};

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Notice {
    imo: String,
    nights: u32,
    cargo: String,
}

#[derive(Serialize)]
struct Accepted<'a> {
    harbour: &'a str,
    imo: &'a str,
    dues: f64,
    hazardous: bool,
}

fn valid(harbour: &str, notice: &Notice) -> bool {
    ["LIN", "NES"].contains(&harbour)
        && notice.imo.len() == 7
        && notice.imo.bytes().all(|b| b.is_ascii_digit())
        && (1..=30).contains(&notice.nights)
        && notice.cargo.chars().count() <= 100
}

/// Validate and reply.
async fn notice(harbour: Path<String>, notice: Json<Notice>) -> HttpResponse {
    if !valid(&harbour, &notice) {
        return HttpResponse::UnprocessableEntity().finish();
    }
    let dues = (f64::from(notice.nights) * 122.5 * 100.0).round() / 100.0;
    HttpResponse::Created().json(Accepted {
        harbour: &harbour,
        imo: &notice.imo,
        dues,
        hazardous: notice.cargo.starts_with("UN"),
    })
}

#[derive(Deserialize)]
struct Vessel {
    name: String,
    length_m: f64,
    draught_m: f64,
}

#[derive(Deserialize)]
struct Rate {
    rate: f64,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Quote {
    imo: String,
    nights: u32,
    currency: String,
}

struct Services {
    client: reqwest::Client,
    base: String,
}

async fn get<T: for<'a> Deserialize<'a>>(services: &Services, path: &str) -> Option<T> {
    let response =
        services.client.get(format!("{}{path}", services.base)).timeout(Duration::from_secs(10)).send().await.ok()?;
    if !response.status().is_success() {
        return None;
    }
    serde_json::from_slice(&response.bytes().await.ok()?).ok()
}

/// Validate, two calls one after another, reply.
async fn quote(services: Data<Services>, harbour: Path<String>, quote: Json<Quote>) -> HttpResponse {
    let fits = ["LIN", "NES"].contains(&harbour.as_str())
        && quote.imo.len() == 7
        && quote.imo.bytes().all(|b| b.is_ascii_digit())
        && (1..=30).contains(&quote.nights)
        && ["EUR", "NOK", "GBP"].contains(&quote.currency.as_str());
    if !fits {
        return HttpResponse::UnprocessableEntity().finish();
    }
    let Some(vessel) = get::<Vessel>(&services, &format!("/registry/vessels/{}", quote.imo)).await else {
        return HttpResponse::BadGateway().finish();
    };
    let Some(rate) = get::<Rate>(&services, &format!("/rates/latest?to={}", quote.currency)).await else {
        return HttpResponse::BadGateway().finish();
    };
    let dues = vessel.length_m * 3.2 * f64::from(quote.nights) * rate.rate;
    HttpResponse::Created().json(serde_json::json!({
        "vessel": vessel.name,
        "draught": vessel.draught_m,
        "dues": {"amount": (dues * 100.0).round() / 100.0, "currency": quote.currency},
    }))
}

/// Eight calls at once.
async fn together(services: Data<Services>) -> HttpResponse {
    let numbers = ["9074720", "9128533", "9210219", "9305478", "9417350", "9523644", "9631073", "9748694"];
    let calls = numbers.map(|imo| {
        let services = services.clone();
        async move { get::<Vessel>(&services, &format!("/registry/vessels/{imo}")).await }
    });
    let vessels = futures_util::future::join_all(calls).await;
    match vessels.into_iter().collect::<Option<Vec<_>>>() {
        Some(vessels) => HttpResponse::Ok()
            .json(serde_json::json!({"metres": vessels.iter().map(|vessel| vessel.length_m).sum::<f64>()})),
        None => HttpResponse::BadGateway().finish(),
    }
}

#[actix_web::main]
async fn main() -> std::io::Result<()> {
    let _ = rustls::crypto::ring::default_provider().install_default();
    let args: Vec<String> = std::env::args().collect();
    let [_, listen, standins, workers] = args.as_slice() else {
        return Err(std::io::Error::other("usage: kanzlei-handwritten LISTEN STANDINS WORKERS"));
    };
    let base = standins.clone();
    HttpServer::new(move || {
        // One client for each worker, as the service under test has.
        let client = reqwest::Client::builder().no_proxy().tcp_nodelay(true).build().unwrap_or_default();
        App::new()
            .app_data(Data::new(Services { client, base: base.clone() }))
            .route("/harbours/{harbour}/notices", web::post().to(notice))
            .route("/harbours/{harbour}/quotes", web::post().to(quote))
            .route("/bench/together", web::get().to(together))
    })
    .workers(workers.parse().unwrap_or(1))
    .bind(listen)?
    .run()
    .await
}
