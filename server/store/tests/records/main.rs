//! Every query against a real MariaDB. One server serves all tests of the program; each test has a database of
//! its own.
//!
//! ```text
//! with("name", async |bed| assert!(bed.store.live().await.expect("live").is_empty()));
//! ```

mod answers;
mod cancelled;
mod change;
mod changes;
mod deliveries;
mod documents;
mod drafts;
mod histories;
mod journal;
mod kept;
mod lanes;
mod once;
mod plain_runs;
mod queue;
mod schedule;
mod servers;
mod statements;
mod trials;
mod versions;

use std::sync::OnceLock;
use std::time::Duration;

use kanzlei_harness::mariadb::Mariadb;
use kanzlei_model::time::Timestamp;
use kanzlei_store::Store;
use kanzlei_store::databases::{Database, Statement};
use kanzlei_store::queue::OfRequest;

/// How long a statement of a test may take.
const WITHIN: Duration = Duration::from_secs(10);

/// The server of the program; it ends with the program.
fn server() -> &'static Mariadb {
    static SERVER: OnceLock<Mariadb> = OnceLock::new();
    SERVER.get_or_init(|| Mariadb::start(&kanzlei_harness::scratch::folder("records")).expect("MariaDB starts"))
}

/// A database with the records' tables.
struct Bed<'a> {
    server: &'a Mariadb,
    name: String,
    url: String,
    store: Store,
}

impl Bed<'_> {
    /// Runs a statement as the administrator and returns its output.
    fn sql(&self, sql: &str) -> String {
        self.server.sql(&self.name, sql).expect("a statement").trim().to_owned()
    }

    /// The same database as `sql` steps see it.
    fn database(&self, connections: u32) -> Database {
        Database::connect(&self.url, connections, None).expect("a pool")
    }
}

/// Runs a test on a database of its own.
fn with(name: &str, test: impl AsyncFnOnce(&Bed<'_>)) {
    on(server(), name, test);
}

/// Runs a test on a database of its own, on a server that no other test uses.
fn alone(name: &str, test: impl AsyncFnOnce(&Bed<'_>)) {
    let dir = kanzlei_harness::scratch::folder(name);
    let server = Mariadb::start(&dir).expect("MariaDB starts");
    on(&server, name, test);
    drop(server);
    let _ = std::fs::remove_dir_all(dir);
}

fn on(server: &Mariadb, name: &str, test: impl AsyncFnOnce(&Bed<'_>)) {
    let name = format!("kanzlei_{name}");
    let url = server.fresh(&name).expect("a database");
    let runtime = tokio::runtime::Builder::new_multi_thread().worker_threads(2).enable_all().build().expect("runtime");
    runtime.block_on(async {
        let store = Store::open(&url, 4).await.expect("opens");
        let bed = Bed { server, name, url, store };
        test(&bed).await;
        tokio::time::timeout(WITHIN, bed.store.close()).await.expect("all connections are returned");
    });
}

/// Every rank of claims, searched from the beginning.
const fn every_rank() -> [(u8, Timestamp); 10] {
    let mut all = [(0, Timestamp::EPOCH); 10];
    let mut rank = 0;
    while rank < all.len() {
        all[rank].0 = rank as u8;
        rank += 1;
    }
    all
}

/// The runs that are listed under the id of a request.
fn request(id: &str) -> OfRequest {
    OfRequest { id: id.into(), ..OfRequest::default() }
}

fn time(micros: i64) -> Timestamp {
    Timestamp::from_micros(micros)
}

fn statement(text: &str) -> Statement {
    Statement { text: text.into(), values: Vec::new() }
}

/// Waits until a statement of the server that contains a text is in a state.
async fn until_shown(bed: &Bed<'_>, text: &str, state: &str) {
    let query = format!(
        "SELECT COUNT(*) FROM information_schema.processlist
         WHERE db = '{}' AND info LIKE '%{text}%' AND state LIKE '%{state}%' AND id <> CONNECTION_ID()",
        bed.name
    );
    while bed.sql(&query) == "0" {
        tokio::task::yield_now().await;
    }
}
