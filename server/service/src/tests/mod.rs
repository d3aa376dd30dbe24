//! A whole service without listeners, on a database of its own: requests are handed to it in the process.
//!
//! ```text
//! with("name", &[WORKFLOW], &[("limits.in_flight", "1")], async |bed| {
//!     assert_eq!(bed.send("GET /x", &[], "").await.status, 200);
//! });
//! ```

mod accept;
mod access;
mod alerts;
mod allowances;
mod api;
mod clients;
mod control;
mod databases;
mod doctor;
mod drafts;
mod erasures;
mod files;
mod gradual;
mod histories;
mod jobs;
mod language;
mod libraries;
mod limits;
mod lists;
mod metrics;
mod operators;
mod pages;
mod previews;
mod pseudonyms;
mod public;
mod rehearsals;
mod rename;
mod repair;
mod retries;
mod rows;
mod schedules;
mod secrets;
mod settings;
mod statistics;
mod tokens;
mod trials;

mod watches;
mod webhooks;

use std::sync::OnceLock;
use std::time::Duration;

use actix_web::body::to_bytes;
use actix_web::dev::{Service as _, ServiceResponse};
use actix_web::test::{TestRequest, init_service};
use actix_web::web::{self, PayloadConfig};
use actix_web::{App as ActixApp, HttpResponse};
use kanzlei_harness::mariadb::Mariadb;
use kanzlei_harness::wait::Deadline;
use kanzlei_runtime::clock;
use kanzlei_store::Store;
use kanzlei_store::queue::JobRow;
use serde_json::{Value as Json, json};
use tokio::sync::watch;
use uuid::Uuid;

use crate::config::Config;
use crate::serve::{Service, put_together};
use crate::{control as control_api, public as public_api};

/// How long a condition may take to come true.
const LONG: Duration = Duration::from_secs(60);

/// Waits until something holds.
async fn eventually(holds: impl AsyncFn() -> bool) {
    let end = Deadline::after(LONG);
    while !holds().await {
        assert!(!end.is_over(), "not in time");
        tokio::time::sleep(Duration::from_millis(10)).await;
    }
}

/// One server for all tests of the program; it ends with the program.
fn server() -> &'static Mariadb {
    static SERVER: OnceLock<Mariadb> = OnceLock::new();
    let folder = || kanzlei_harness::scratch::folder("service");
    SERVER.get_or_init(|| Mariadb::start(&folder().join("database")).expect("MariaDB starts"))
}

/// The service and the means to use it.
struct Bed {
    service: Service,
    config: Config,
    token: String,
    stop_worker: watch::Sender<bool>,
}

/// An answer of either listener.
#[derive(Debug)]
struct Answer {
    status: u16,
    headers: Vec<(String, String)>,
    body: String,
}

impl Answer {
    fn header(&self, name: &str) -> Option<&str> {
        self.headers.iter().find(|(known, _)| known == name).map(|(_, value)| value.as_str())
    }

    fn json(&self) -> Json {
        serde_json::from_str(&self.body).unwrap_or_else(|error| panic!("{error}: {self:?}"))
    }

    /// Status and title of a problem, or of its first invalid value.
    fn problem(&self) -> (u16, String) {
        let problem = self.json();
        (self.status, problem["title"].as_str().unwrap_or_default().to_owned())
    }
}

/// Runs a test on a service with these workflows live. Nothing claims jobs until [`Bed::work`].
fn with(name: &str, documents: &[&str], settings: &[(&str, &str)], test: impl AsyncFnOnce(&Bed)) {
    let url = server().fresh(&format!("kanzlei_{name}")).expect("a database");
    let key = "AAECAwQFBgcICQoLDA0ODxAREhMUFRYXGBkaGxwdHh8=";
    let folder = kanzlei_harness::scratch::folder(&format!("files-{name}"));
    let (spool, work, begun) = (folder.join("spool"), folder.join("work"), folder.join("begun"));
    let base = [
        ("files.spool", spool.to_str().expect("UTF-8")),
        ("files.work", work.to_str().expect("UTF-8")),
        ("journal.begun", begun.to_str().expect("UTF-8")),
        ("database.url", url.as_str()),
        ("database.connections", "4"),
        ("secrets.key", key),
        ("process", name),
        ("network.allow", "127.0.0.0/8"),
    ];
    let flags: Vec<(String, String)> =
        base.iter().chain(settings).map(|(name, value)| ((*name).to_owned(), (*value).to_owned())).collect();
    let config = Config::load(None, [], &flags).expect("settings");
    actix_web::rt::System::new().block_on(async {
        let store = Store::open(&url, 4).await.expect("records");
        clock::compare(&store).await.expect("the time");
        let token = control_api::first_token(&store).await.expect("a token").expect("the first");
        let service = put_together(&config, store, tokio::runtime::Handle::current()).await.expect("a service");
        let (stop_worker, _) = watch::channel(false);
        let bed = Bed { service, config, token, stop_worker };
        if !documents.is_empty() {
            let answer = bed.deploy(documents).await;
            assert_eq!(answer.status, 200, "{}", answer.body);
        }
        test(&bed).await;
        bed.end().await;
    });
    let _ = std::fs::remove_dir_all(&folder);
}

async fn answer(response: ServiceResponse<impl actix_web::body::MessageBody>) -> Answer {
    let (_, response) = response.into_parts();
    let (head, body) = response.into_parts();
    let text = |value: &actix_web::http::header::HeaderValue| String::from_utf8_lossy(value.as_bytes()).into_owned();
    let headers = head.headers().iter().map(|(name, value)| (name.to_string(), text(value))).collect();
    let Ok(body) = to_bytes(body).await else { panic!("the body broke") };
    Answer { status: head.status().as_u16(), headers, body: String::from_utf8_lossy(&body).into_owned() }
}

/// `METHOD /path` with headers and a body.
fn request(line: &str, headers: &[(&str, &str)], body: impl AsRef<[u8]>) -> TestRequest {
    let (method, path) = line.split_once(' ').expect("METHOD /path");
    let body = body.as_ref();
    let request = TestRequest::with_uri(path).method(method.parse().expect("a method"));
    let mut request = request.insert_header(("host", "localhost"));
    for (name, value) in headers {
        request = request.insert_header((*name, *value));
    }
    if !body.is_empty() {
        request = request.insert_header(("content-length", body.len())).set_payload(body.to_owned());
    }
    request
}

impl Bed {
    /// A request to the public listener.
    async fn send(&self, line: &str, headers: &[(&str, &str)], body: impl AsRef<[u8]>) -> Answer {
        let app = ActixApp::new()
            .app_data(self.service.app.clone())
            .app_data(PayloadConfig::new(usize::MAX))
            .default_service(web::to(public_api::serve));
        let service = init_service(app).await;
        answer(service.call(request(line, headers, body.as_ref()).to_request()).await.expect("an answer")).await
    }

    /// A request with a JSON body to the public listener.
    async fn post(&self, path: &str, headers: &[(&str, &str)], body: &str) -> Answer {
        let headers: Vec<(&str, &str)> =
            headers.iter().copied().chain([("content-type", "application/json")]).collect();
        self.send(&format!("POST {path}"), &headers, body).await
    }

    /// A request to the control listener, as anybody.
    async fn control_as(&self, line: &str, headers: &[(&str, &str)], body: &str) -> Answer {
        let app = ActixApp::new().app_data(self.service.app.clone()).configure(control_api::configure);
        let service = init_service(app).await;
        match service.call(request(line, headers, body).to_request()).await {
            Ok(response) => answer(response).await,
            Err(error) => {
                let response: HttpResponse = error.error_response();
                answer(ServiceResponse::new(TestRequest::default().to_http_request(), response)).await
            }
        }
    }

    /// A request to the control API as the operator.
    async fn control(&self, line: &str, body: &Json) -> Answer {
        self.control_with(line, &[], body).await
    }

    /// The same with further headers.
    async fn control_with(&self, line: &str, more: &[(&str, &str)], body: &Json) -> Answer {
        let bearer = format!("Bearer {}", self.token);
        let text = if body.is_null() { String::new() } else { body.to_string() };
        let (method, path) = line.split_once(' ').expect("METHOD /path");
        let own = [("authorization", bearer.as_str()), ("content-type", "application/json")];
        let headers: Vec<(&str, &str)> = own.into_iter().chain(more.iter().copied()).collect();
        self.control_as(&format!("{method} /api/v1{path}"), &headers, &text).await
    }

    async fn deploy(&self, documents: &[&str]) -> Answer {
        let path = |at: usize| format!("document-{at}.yaml");
        let documents: Vec<Json> =
            documents.iter().enumerate().map(|(at, text)| json!({"path": path(at), "text": text})).collect();
        self.control("POST /deploys", &json!({"documents": documents})).await
    }

    fn store(&self) -> &Store {
        &self.service.app.store
    }

    /// Begins to claim jobs.
    fn work(&self) {
        self.service.work(&self.config, self.stop_worker.subscribe()).expect("a worker");
    }

    /// Queues a job by a request and returns its id.
    async fn queue(&self, path: &str, body: &str) -> Uuid {
        let answer = self.post(path, &[("prefer", "respond-async")], body).await;
        assert_eq!(answer.status, 202, "{}", answer.body);
        answer.json()["id"].as_str().and_then(|id| id.parse().ok()).unwrap_or_else(|| panic!("no id: {answer:?}"))
    }

    async fn job(&self, id: Uuid) -> JobRow {
        self.store().job(id).await.expect("records").expect("the job")
    }

    /// Waits until something holds for a job.
    async fn until(&self, id: Uuid, holds: impl Fn(&JobRow) -> bool) -> JobRow {
        let end = Deadline::after(LONG);
        loop {
            let job = self.job(id).await;
            if holds(&job) {
                return job;
            }
            assert!(!end.is_over(), "not in time: {job:?}");
            tokio::time::sleep(Duration::from_millis(10)).await;
        }
    }

    /// Waits for the end of a job.
    async fn ended(&self, id: Uuid) -> JobRow {
        self.until(id, |job| job.phase.ended()).await
    }

    /// Waits until what ended so far is in the journal.
    async fn journaled(&self) {
        // A flush waits half a second at most.
        for _ in 0..20 {
            self.service.app.journal.flush().await;
        }
    }

    /// Waits until the records name the process that performed a job.
    async fn performer(&self, job: &JobRow) -> String {
        let end = Deadline::after(LONG);
        loop {
            if let Some(process) = self.store().process_of(job.id, job.worker).await.expect("records") {
                return process;
            }
            assert!(!end.is_over(), "no process of {job:?}");
            tokio::time::sleep(Duration::from_millis(10)).await;
        }
    }

    async fn end(self) {
        let _ = self.stop_worker.send(true);
        // Jobs that still run hold connections.
        self.service.worker.leave().await;
        self.service.supervisor.stop().cancel();
        let _ = self.service.stop_journal.send(true);
        assert!(self.service.supervisor.end(LONG).await, "the tasks end");
        let closed = tokio::time::timeout(LONG, self.service.app.store.close()).await;
        closed.expect("all connections are returned");
    }
}

/// A service on loopback that answers each request with the next status, and then with the last one.
fn peer(statuses: &'static [&'static str]) -> String {
    use std::io::{BufRead, BufReader, Write};
    let listener = std::net::TcpListener::bind("127.0.0.1:0").expect("a port");
    let base = format!("http://{}", listener.local_addr().expect("an address"));
    std::thread::spawn(move || {
        let mut next = statuses.iter();
        let mut last = "200 OK";
        for stream in listener.incoming() {
            let Ok(mut stream) = stream else { continue };
            let mut lines = BufReader::new(&stream).lines();
            while lines.next().is_some_and(|line| line.is_ok_and(|line| !line.is_empty())) {}
            last = next.next().unwrap_or(&last);
            let head = format!("HTTP/1.1 {last}\r\nContent-Type: application/json\r\nConnection: close\r\n");
            let _ = stream.write_all(format!("{head}Content-Length: 2\r\n\r\n{{}}").as_bytes());
        }
    });
    base
}
