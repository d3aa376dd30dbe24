//! Requests to a whole service on loopback: each is answered with HTTP that says what is wrong, none with an internal error, none hangs, and
//! nothing panics. The service runs in this process, so that the fuzzer sees what it reaches.

#![no_main]

use std::io::{Read, Write};
use std::net::{Shutdown, TcpStream};
use std::path::Path;
use std::sync::OnceLock;
use std::time::Duration;

use kanzlei_fuzz::requests::{Choices, requests};
use kanzlei_harness::mariadb::Mariadb;
use kanzlei_harness::{office, ports, scratch, wait};
use libfuzzer_sys::fuzz_target;

/// How long an answer may take.
const ANSWERS: Duration = Duration::from_secs(4);

struct Office {
    public: u16,
    _server: Mariadb,
}

fn office() -> &'static Office {
    static OFFICE: OnceLock<Office> = OnceLock::new();
    OFFICE.get_or_init(|| {
        let folder = scratch::folder("fuzz");
        std::fs::create_dir_all(&folder).expect("a folder");
        let server = Mariadb::start(&folder.join("database")).expect("MariaDB starts");
        let port = || ports::free().expect("a port");
        let (public, control) = (port(), port());
        let path = |name: &str| folder.join(name).display().to_string();
        let flags = [
            ("listen.public", format!("127.0.0.1:{public}")),
            ("listen.control", format!("127.0.0.1:{control}")),
            ("database.url", server.url("kanzlei")),
            ("token_file", path("token")),
            ("secrets.key_file", path("key")),
            ("files.spool", path("spool")),
            ("files.work", path("work")),
            ("journal.begun", path("begun")),
            ("workers", "1".to_owned()),
        ];
        let flags: Vec<(String, String)> = flags.into_iter().map(|(name, value)| (name.to_owned(), value)).collect();
        let config = kanzleid::config::Config::load(None, [], &flags).expect("settings");
        let _ = rustls::crypto::ring::default_provider().install_default();
        std::thread::spawn(move || {
            let runtime = tokio::runtime::Builder::new_multi_thread().worker_threads(1).enable_all().build();
            let runtime = runtime.expect("threads");
            let ended = runtime.block_on(kanzleid::serve::serve(config, runtime.handle().clone()));
            panic!("the service ended: {ended:?}");
        });
        let ready = || office::get(public, "/~/health", &[]);
        wait::until(Duration::from_secs(60), ready).expect("the service is ready");
        let token = std::fs::read_to_string(folder.join("token")).expect("the token");
        let secret = r#"{"value":"tide water","for":["signing"]}"#;
        office::control(control, token.trim(), "PUT", "/secrets/bank", secret).expect("a secret");
        let root = Path::new(concat!(env!("CARGO_MANIFEST_DIR"), "/office"));
        let documents: Vec<serde_json::Value> = std::fs::read_dir(root)
            .expect("documents")
            .map(|entry| entry.expect("an entry").path())
            .map(|path| serde_json::json!({"path": path.file_name().map(|name| name.to_string_lossy()), "text": std::fs::read_to_string(&path).expect("text")}))
            .collect();
        let body = serde_json::json!({"documents": documents}).to_string();
        office::control(control, token.trim(), "POST", "/deploys", &body).expect("a deploy");
        Office { public, _server: server }
    })
}

fuzz_target!(init: {
    // Starting takes longer than an input may.
    office();
}, |bytes: &[u8]| {
    let sent = requests(&mut Choices::new(bytes));
    let shown = || String::from_utf8_lossy(&sent).into_owned();
    let mut stream = TcpStream::connect(("127.0.0.1", office().public)).expect("the listener accepts");
    stream.set_read_timeout(Some(ANSWERS)).expect("a timeout");
    stream.set_write_timeout(Some(ANSWERS)).expect("a timeout");
    // It may close before it has read all.
    let _ = stream.write_all(&sent);
    let _ = stream.shutdown(Shutdown::Write);
    let mut answer = Vec::new();
    match stream.read_to_end(&mut answer) {
        Ok(_) => {}
        Err(error) if error.kind() == std::io::ErrorKind::ConnectionReset => {}
        Err(error) => panic!("no end of the answers: {error}\n{}\n{}", shown(), String::from_utf8_lossy(&answer)),
    }
    let text = String::from_utf8_lossy(&answer);
    if !text.is_empty() {
        assert!(text.starts_with("HTTP/1."), "no HTTP: {text}\n{}", shown());
    }
    for line in text.split("\r\n").filter(|line| line.starts_with("HTTP/1.1 5")) {
        assert!(line.starts_with("HTTP/1.1 503"), "{line}\n{}\n{text}", shown());
    }
});
