//! Simulated outside services of the demo office: `registry`, `tides`, `rates`, `pilots`, `texts`,
//! [`customs`], [`identity`], which issues tokens, [`buckets`], which stores objects, [`mail`], which keeps mails, and `ledger`, which counts how often it was called for each entry, and refuses another idempotency key for it.
//!
//! Each can be made slow or made to fail, so that retries and catches can be seen:
//!
//! ```sh
//! curl -X PUT 'http://127.0.0.1:7090/~/behaviour/tides?delay_ms=500&fail_next=2&status=503'
//! curl -X DELETE http://127.0.0.1:7090/~/behaviour/tides
//! ```

mod buckets;
mod customs;
mod identity;
mod mail;
mod notices;

use std::collections::HashMap;
use std::sync::{Mutex, PoisonError};
use std::time::Duration;

use actix_web::web::{self, Data, Path, Query};
use actix_web::{App, HttpRequest, HttpResponse, HttpServer};
use clap::Parser;
use serde::{Deserialize, Serialize};
use serde_json::json;

#[derive(Parser)]
#[command(name = "kanzlei-standins", version, about = "Simulated services of the demo harbour office")]
struct Args {
    /// Address to listen on
    #[arg(long, default_value = "127.0.0.1:7090")]
    listen: String,
    /// Address of the mail server
    #[arg(long, default_value = "127.0.0.1:7025")]
    mail: String,
    #[arg(long, default_value_t = 1)]
    workers: usize,
    /// What tokens of `identity` have as `iss`; default: its address
    #[arg(long)]
    iss: Option<String>,
}

/// How a stand-in behaves by default and after a change.
#[derive(Clone, Debug, Default, Deserialize, Serialize)]
#[serde(deny_unknown_fields)]
struct Behaviour {
    /// Wait before each answer.
    #[serde(default)]
    delay_ms: u64,
    /// How many of the next requests fail.
    #[serde(default)]
    fail_next: u32,
    /// The status of those that fail; 0 closes the connection, 200 answers with broken JSON.
    #[serde(default = "unavailable")]
    status: u16,
    /// Bytes of filling to add to each answer.
    #[serde(default)]
    padding: usize,
}

fn unavailable() -> u16 {
    503
}

#[derive(Default)]
struct State {
    behaviours: Mutex<HashMap<String, Behaviour>>,
    seen: Mutex<HashMap<String, u64>>,
    pilots_asked: Mutex<u64>,
    /// When the ledger was called, in microseconds, by entry.
    entries: Mutex<HashMap<String, Vec<i64>>>,
    /// The idempotency key of each entry.
    keys: Mutex<HashMap<String, String>>,
}

const SERVICES: [&str; 10] =
    ["registry", "tides", "rates", "pilots", "texts", "customs", "ledger", "identity", "mail", "notices"];
/// What `texts` asks for; the demo keeps it as the secret `texts-key`.
const TEXTS_KEY: &str = "lindvik-texts-7f3a";

/// IMO number, name, kind, length, draught, flag. All invented.
const VESSELS: [(&str, &str, &str, f64, f64, &str); 8] = [
    ("9074720", "Havbris", "cargo", 132.0, 6.2, "LIN"),
    ("9128533", "Tarestril", "cargo", 87.5, 4.9, "LIN"),
    ("9210219", "Nesholm Ferge", "ferry", 64.0, 3.1, "NES"),
    ("9305478", "Kvikk", "fishing", 24.4, 2.8, "LIN"),
    ("9417350", "Oljegard", "tanker", 183.2, 9.7, "NES"),
    ("9523644", "Skumring", "fishing", 31.0, 3.4, "NES"),
    ("9631073", "Lindvik Star", "tanker", 144.9, 7.8, "LIN"),
    ("9748694", "Morild", "cargo", 98.6, 5.5, "NES"),
];

impl State {
    /// Behaves as configured; returns the answer to send instead of the real one.
    async fn behave(&self, service: &str) -> (Option<HttpResponse>, usize) {
        *lock(&self.seen).entry(service.to_owned()).or_default() += 1;
        let (behaviour, fail) = {
            let mut all = lock(&self.behaviours);
            let Some(behaviour) = all.get_mut(service) else { return (None, 0) };
            let fail = behaviour.fail_next > 0;
            behaviour.fail_next = behaviour.fail_next.saturating_sub(1);
            (behaviour.clone(), fail)
        };
        if behaviour.delay_ms > 0 {
            tokio::time::sleep(Duration::from_millis(behaviour.delay_ms)).await;
        }
        let failure = fail.then(|| match behaviour.status {
            0 => HttpResponse::Ok().no_chunking(1000).body(actix_web::body::SizedStream::new(1000, Broken)),
            200 => HttpResponse::Ok().content_type("application/json").body("{\"window\": oops"),
            302 => HttpResponse::Found().insert_header(("Location", "http://elsewhere.example/")).finish(),
            status => problem(status, "The stand-in is set to fail"),
        });
        (failure, behaviour.padding)
    }
}

impl State {
    /// Waits as configured; returns the status of a failure that is due.
    async fn stumble(&self, service: &str) -> Option<u16> {
        let (delay, fails) = {
            let mut all = lock(&self.behaviours);
            let behaviour = all.get_mut(service)?;
            let fails = (behaviour.fail_next > 0).then_some(behaviour.status);
            behaviour.fail_next = behaviour.fail_next.saturating_sub(1);
            (behaviour.delay_ms, fails)
        };
        tokio::time::sleep(Duration::from_millis(delay)).await;
        fails
    }
}

/// A body that breaks off.
struct Broken;

impl futures_core::Stream for Broken {
    type Item = Result<web::Bytes, std::io::Error>;
    fn poll_next(
        self: std::pin::Pin<&mut Self>,
        _: &mut std::task::Context<'_>,
    ) -> std::task::Poll<Option<Self::Item>> {
        std::task::Poll::Ready(Some(Err(std::io::Error::other("set to break"))))
    }
}

fn lock<T>(mutex: &Mutex<T>) -> std::sync::MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

fn problem(status: u16, title: &str) -> HttpResponse {
    let code =
        actix_web::http::StatusCode::from_u16(status).unwrap_or(actix_web::http::StatusCode::SERVICE_UNAVAILABLE);
    HttpResponse::build(code)
        .content_type("application/problem+json")
        .body(json!({"title": title, "status": status}).to_string())
}

fn answer(mut body: serde_json::Value, padding: usize) -> HttpResponse {
    if padding > 0 {
        body["padding"] = "x".repeat(padding).into();
    }
    HttpResponse::Ok().json(body)
}

async fn vessel(state: Data<State>, imo: Path<String>) -> HttpResponse {
    let (failure, padding) = state.behave("registry").await;
    if let Some(failure) = failure {
        return failure;
    }
    match VESSELS.iter().find(|vessel| vessel.0 == imo.as_str()) {
        Some((imo, name, kind, length, draught, flag)) => answer(
            json!({"imo": imo, "name": name, "kind": kind, "length_m": length, "draught_m": draught, "flag": flag}),
            padding,
        ),
        None => problem(404, "No vessel carries this number"),
    }
}

#[derive(Deserialize)]
struct Window {
    station: String,
    draught: f64,
    after: String,
}

/// High water every 12 h 25 min; the deeper the vessel, the shorter the window around it.
async fn window(state: Data<State>, query: Query<Window>) -> HttpResponse {
    let (failure, padding) = state.behave("tides").await;
    if let Some(failure) = failure {
        return failure;
    }
    let Ok(after) = query.after.parse::<jiff::Timestamp>() else { return problem(400, "`after` is not an instant") };
    let phase = match query.station.as_str() {
        "LIN" => 0,
        "NES" => 95 * 60,
        _ => return problem(404, "There is no such station"),
    };
    const PERIOD: i64 = 745 * 60;
    let half = ((3.0 - (query.draught - 4.0).clamp(0.0, 2.8)) * 3600.0) as i64;
    let since = (after.as_second() - phase).rem_euclid(PERIOD);
    let mut high = after.as_second() - since + PERIOD / 2;
    if high + half <= after.as_second() {
        high += PERIOD;
    }
    let at = |second: i64| jiff::Timestamp::from_second(second).map(|t| t.to_string()).unwrap_or_default();
    let from = (high - half).max(after.as_second());
    answer(json!({"station": query.station, "window": {"from": at(from), "to": at(high + half)}}), padding)
}

/// What pilots reported: id, harbour, instant, text. All invented.
const REPORTS: [(u32, &str, &str, &str); 9] = [
    (109, "NES", "2027-03-03T22:10:00Z", "Fog at the outer mole"),
    (108, "LIN", "2027-03-03T20:00:00Z", "Two yachts crossing the fairway"),
    (107, "LIN", "2027-03-03T16:40:00Z", "Crane two is stuck over berth four"),
    (106, "NES", "2027-03-03T11:05:00Z", "Drifting log north of Nesholm"),
    (105, "LIN", "2027-03-02T21:15:00Z", "Wind from the south-west, gusts of 38 knots"),
    (104, "LIN", "2027-03-02T13:30:00Z", "Buoy seven has no light"),
    (103, "NES", "2027-03-02T08:20:00Z", "Fishing boats in the narrows"),
    (102, "LIN", "2027-03-01T19:45:00Z", "Ice in the inner basin"),
    (101, "NES", "2027-03-01T07:00:00Z", "A pallet lost from the quay"),
];
const PAGE: usize = 4;

#[derive(Deserialize)]
struct Next {
    harbour: String,
    after: String,
}

/// Slow as pilots are; each fifth request comes at a bad time.
async fn pilot(
    state: Data<State>,
    identity: Data<identity::Identity>,
    request: HttpRequest,
    query: Query<Next>,
) -> HttpResponse {
    let (failure, padding) = state.behave("pilots").await;
    if let Some(failure) = failure {
        return failure;
    }
    if !identity.allows(&request, "pilots") {
        return problem(401, "A token of the identity service with the scope `pilots` is needed");
    }
    tokio::time::sleep(Duration::from_millis(120)).await;
    let asked = {
        let mut asked = lock(&state.pilots_asked);
        *asked += 1;
        *asked
    };
    if asked % 5 == 0 {
        return HttpResponse::ServiceUnavailable().insert_header(("Retry-After", "1")).finish();
    }
    let Ok(after) = query.after.parse::<jiff::Timestamp>() else { return problem(400, "`after` is not an instant") };
    let (pilot, minutes) = match query.harbour.as_str() {
        "LIN" => ("Runa Teglvik", 30),
        "NES" => ("Aslak Myrstad", 45),
        _ => return problem(404, "There is no such harbour"),
    };
    let at = jiff::Timestamp::from_second(after.as_second() + minutes * 60).map(|t| t.to_string()).unwrap_or_default();
    answer(json!({"pilot": pilot, "at": at, "boat": null}), padding)
}

#[derive(Deserialize)]
struct PageNumber {
    page: Option<usize>,
}

async fn reports(
    state: Data<State>,
    identity: Data<identity::Identity>,
    request: HttpRequest,
    query: Query<PageNumber>,
) -> HttpResponse {
    let (failure, padding) = state.behave("pilots").await;
    if let Some(failure) = failure {
        return failure;
    }
    if !identity.allows(&request, "pilots") {
        return problem(401, "A token of the identity service with the scope `pilots` is needed");
    }
    let page = query.page.unwrap_or(1).max(1);
    let items: Vec<_> = REPORTS
        .chunks(PAGE)
        .nth(page - 1)
        .unwrap_or_default()
        .iter()
        .map(|(id, harbour, at, text)| json!({"id": id, "harbour": harbour, "at": at, "text": text, "vessel": null}))
        .collect();
    answer(json!({"page": page, "pages": REPORTS.len().div_ceil(PAGE), "items": items}), padding)
}

#[derive(Deserialize)]
struct Text {
    text: String,
}

/// Sorts by words from a fixed table.
async fn classify(state: Data<State>, request: HttpRequest, body: web::Json<Text>) -> HttpResponse {
    let (failure, padding) = state.behave("texts").await;
    if let Some(failure) = failure {
        return failure;
    }
    if request.headers().get("x-api-key").and_then(|key| key.to_str().ok()) != Some(TEXTS_KEY) {
        return problem(401, "The key is wrong");
    }
    const WORDS: [(&str, &str); 9] = [
        ("fog", "weather"),
        ("wind", "weather"),
        ("ice", "weather"),
        ("yacht", "traffic"),
        ("boats", "traffic"),
        ("log", "traffic"),
        ("stuck", "damage"),
        ("no light", "damage"),
        ("lost", "damage"),
    ];
    let lower = body.text.to_lowercase();
    let kind = WORDS.iter().find(|(word, _)| lower.contains(word)).map_or("other", |(_, kind)| kind);
    let short: String = body.text.split(',').next().unwrap_or_default().chars().take(40).collect();
    answer(json!({"kind": kind, "short": short}), padding)
}

#[derive(Deserialize)]
struct To {
    to: String,
}

async fn rate(state: Data<State>, query: Query<To>) -> HttpResponse {
    let (failure, padding) = state.behave("rates").await;
    if let Some(failure) = failure {
        return failure;
    }
    let rate = match query.to.as_str() {
        "EUR" => 1.0,
        "NOK" => 11.62,
        "GBP" => 0.86,
        _ => return problem(404, "There is no such currency"),
    };
    answer(json!({"to": query.to, "rate": rate}), padding)
}

/// Writes an entry; every call is counted under `X-Entry`, or else under its idempotency key. One entry has one key.
async fn entry(state: Data<State>, request: HttpRequest) -> HttpResponse {
    let (failure, padding) = state.behave("ledger").await;
    let header = |name: &str| request.headers().get(name).and_then(|value| value.to_str().ok());
    let key = header("idempotency-key").unwrap_or("none").trim_matches('"');
    let entry = header("x-entry").unwrap_or(key).to_owned();
    let first = lock(&state.keys).entry(entry.clone()).or_insert_with(|| key.to_owned()).clone();
    lock(&state.entries).entry(entry).or_default().push(jiff::Timestamp::now().as_microsecond());
    if first != key {
        return problem(409, "Another key for the same entry");
    }
    failure.unwrap_or_else(|| answer(json!({"written": true}), padding))
}

/// When the ledger was called, by entry.
async fn entries(state: Data<State>) -> HttpResponse {
    HttpResponse::Ok().json(&*lock(&state.entries))
}

async fn set(state: Data<State>, service: Path<String>, query: Query<Behaviour>) -> HttpResponse {
    if !SERVICES.contains(&service.as_str()) {
        return problem(404, "There is no such stand-in");
    }
    lock(&state.behaviours).insert(service.into_inner(), query.into_inner());
    HttpResponse::NoContent().finish()
}

async fn reset(state: Data<State>, service: Path<String>) -> HttpResponse {
    lock(&state.behaviours).remove(service.as_str());
    HttpResponse::NoContent().finish()
}

/// How each stand-in behaves and how often it was asked.
async fn show(state: Data<State>) -> HttpResponse {
    HttpResponse::Ok().json(json!({"behaviours": *lock(&state.behaviours), "seen": *lock(&state.seen)}))
}

async fn nothing(request: HttpRequest) -> HttpResponse {
    problem(404, &format!("The stand-ins have no {}", request.path()))
}

#[actix_web::main]
async fn main() -> std::io::Result<()> {
    let args = Args::parse();
    let state = Data::new(State::default());
    let identity = Data::new(identity::Identity::new(&args.listen, args.iss.clone()));
    let customs = Data::new(customs::Customs::default());
    let objects = Data::new(buckets::Buckets::default());
    let mailbox = Data::new(mail::Mailbox::default());
    mail::listen(args.mail.clone(), mailbox.clone(), state.clone()).await?;
    let server = HttpServer::new(move || {
        App::new()
            .app_data(state.clone())
            .app_data(identity.clone())
            .app_data(objects.clone())
            .app_data(mailbox.clone())
            .app_data(customs.clone())
            .configure(customs::routes)
            .configure(notices::routes)
            .configure(identity::routes)
            .configure(buckets::routes)
            .configure(mail::routes)
            .route("/registry/vessels/{imo}", web::get().to(vessel))
            .route("/tides/windows/next", web::get().to(window))
            .route("/rates/latest", web::get().to(rate))
            .route("/pilots/next", web::get().to(pilot))
            .route("/pilots/reports", web::get().to(reports))
            .route("/texts/classify", web::post().to(classify))
            .route("/ledger/entries", web::post().to(entry))
            .route("/~/ledger", web::get().to(entries))
            .route("/~/behaviour", web::get().to(show))
            .route("/~/behaviour/{service}", web::put().to(set))
            .route("/~/behaviour/{service}", web::delete().to(reset))
            .default_service(web::to(nothing))
    })
    .workers(args.workers)
    .shutdown_timeout(1)
    .bind(&args.listen)
    .map_err(|error| {
        std::io::Error::new(error.kind(), format!("{}: {error}; choose another with --listen", args.listen))
    })?;
    eprintln!("Stand-ins at http://{}: {}", args.listen, SERVICES.join(", "));
    server.run().await
}
