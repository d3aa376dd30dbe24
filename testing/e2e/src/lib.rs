//! Tests across processes: the service, the client and the console in Chromium, all real.
//!
//! What they share: one MariaDB for each test program with a fresh database for each office, free
//! ports, and a browser. See `tests/`.

pub mod attack;
pub mod browser;
pub mod calls;
pub mod charts;
pub mod desk;
pub mod drill;
pub mod faults;
pub mod node;
pub mod overload;
pub mod peer;

use std::path::{Path, PathBuf};
use std::process::{Command, Output};
use std::sync::OnceLock;
use std::sync::atomic::{AtomicUsize, Ordering};

use kanzlei_harness::mariadb::Mariadb;
use kanzlei_harness::office::{Databases, Office, Ports, harbour};

/// The folder with the programs under test: where this test program was built to. They are built first,
/// because `cargo test` alone does not build the programs of other packages.
pub fn bins() -> PathBuf {
    static BINS: OnceLock<PathBuf> = OnceLock::new();
    let find = || {
        let own = std::env::current_exe().expect("own path");
        let folder = own.ancestors().find(|dir| dir.join("deps").is_dir()).expect("target folder").to_path_buf();
        let mut build = kanzlei_harness::process::cargo();
        build.args(["build", "--workspace", "--bins", "--quiet"]).current_dir(root());
        build.env("CARGO_TARGET_DIR", folder.parent().expect("target"));
        if folder.ends_with("release") {
            build.arg("--release");
        }
        assert!(build.status().expect("cargo").success(), "the programs under test do not build");
        folder
    };
    BINS.get_or_init(find).clone()
}

/// The checkout that cargo runs the tests in.
pub fn root() -> PathBuf {
    let own = std::env::var("CARGO_MANIFEST_DIR").expect("run by cargo");
    Path::new(&own).ancestors().nth(2).expect("checkout").to_path_buf()
}

/// The folder of the offices of this program.
pub fn scratch() -> PathBuf {
    kanzlei_harness::scratch::folder("e2e")
}

/// The database server that the tests of this program share; it dies with the program.
pub fn database() -> &'static Mariadb {
    static SERVER: OnceLock<Mariadb> = OnceLock::new();
    SERVER.get_or_init(|| Mariadb::start(&scratch().join("database")).expect("MariaDB starts"))
}

/// An office of its own on a fresh database, with the demo not yet deployed.
pub fn office(name: &str, settings: &[&str]) -> Office {
    let url = database().fresh(&format!("kanzlei_{name}")).expect("database");
    office_on(name, &url, settings)
}

/// An office on a given database.
pub fn office_on(name: &str, database_url: &str, settings: &[&str]) -> Office {
    let ports = Ports::free().expect("ports");
    let harbour = harbour(database(), &format!("kanzlei_{name}_harbour")).expect("the harbour's records");
    let databases = Databases::with_harbour(database_url.to_owned(), &harbour, database());
    Office::start(&bins(), &scratch().join(name), databases, ports, settings).expect("office starts")
}

/// Runs the client against an office.
pub fn client(office: &Office, args: &[&str]) -> Output {
    client_in(Some(office), &root(), args)
}

/// Runs the client in a folder, against an office or none.
pub fn client_in(office: Option<&Office>, folder: &Path, args: &[&str]) -> Output {
    let mut command = Command::new(bins().join("kanzlei"));
    command.args(args).current_dir(folder);
    if let Some(office) = office {
        command.env("KANZLEI_URL", office.control()).env("KANZLEI_TOKEN", &office.token);
    }
    command.output().expect("client runs")
}

/// Documents of a test in a folder of its own, removed when it ends.
pub struct Folder(pub PathBuf);

impl Folder {
    pub fn new(name: &str, documents: &[(&str, &str)]) -> Self {
        static MADE: AtomicUsize = AtomicUsize::new(0);
        // Tests of one program run beside each other and may use the same name.
        let number = MADE.fetch_add(1, Ordering::Relaxed);
        let folder = kanzlei_harness::scratch::folder(&format!("commands-{name}-{number}"));
        std::fs::create_dir_all(&folder).expect("folder");
        for (path, text) in documents {
            std::fs::write(folder.join(path), text).expect("document");
        }
        Folder(folder)
    }

    pub fn path(&self) -> &str {
        self.0.to_str().expect("path")
    }
}

impl Drop for Folder {
    fn drop(&mut self) {
        let _ = std::fs::remove_dir_all(&self.0);
    }
}

/// Regular files below a folder, without locks.
pub fn files_below(folder: &Path) -> Vec<PathBuf> {
    let entries = std::fs::read_dir(folder).into_iter().flatten().flatten();
    let (folders, files): (Vec<_>, Vec<_>) = entries.map(|entry| entry.path()).partition(|path| path.is_dir());
    let own = files.into_iter().filter(|path| path.extension().is_none_or(|ending| ending != "lock"));
    own.chain(folders.iter().flat_map(|folder| files_below(folder))).collect()
}

/// What the client printed; it must have ended with `code`.
pub fn said(output: &Output, code: i32) -> String {
    let text = format!("{}{}", String::from_utf8_lossy(&output.stdout), String::from_utf8_lossy(&output.stderr));
    assert_eq!(output.status.code(), Some(code), "{text}");
    text
}

/// Puts documents given as texts live; each is (path, text). Templates are files beside them.
pub fn deploy_texts(office: &Office, documents: &[(&str, &str)]) -> Answer {
    let (documents, files): (Vec<_>, Vec<_>) = documents.iter().partition(|(path, _)| !path.ends_with(".html"));
    let documents: Vec<_> =
        documents.iter().map(|(path, text)| serde_json::json!({"path": path, "text": text})).collect();
    let files: serde_json::Map<_, _> = files.iter().map(|(path, text)| ((*path).to_owned(), (*text).into())).collect();
    http(
        "POST",
        &format!("{}/api/v1/deploys", office.control()),
        &[("authorization", &format!("Bearer {}", office.token)), ("content-type", "application/json")],
        serde_json::json!({"documents": documents, "files": files}).to_string().as_bytes(),
    )
}

/// An HTTP answer.
#[derive(Debug)]
pub struct Answer {
    pub status: u16,
    pub headers: Vec<(String, String)>,
    pub body: String,
}

impl Answer {
    pub fn header(&self, name: &str) -> Option<&str> {
        self.headers.iter().find(|(known, _)| known.eq_ignore_ascii_case(name)).map(|(_, value)| value.as_str())
    }

    pub fn json(&self) -> serde_json::Value {
        serde_json::from_str(&self.body).unwrap_or_else(|error| panic!("{error}: {self:?}"))
    }
}

/// One request, whatever the status of its answer.
pub fn http(method: &str, url: &str, headers: &[(&str, &str)], body: &[u8]) -> Answer {
    try_http(method, url, headers, body).expect("an answer")
}

/// One request; nothing when there is no answer.
pub fn try_http(method: &str, url: &str, headers: &[(&str, &str)], body: &[u8]) -> Option<Answer> {
    static AGENT: OnceLock<ureq::Agent> = OnceLock::new();
    let agent = AGENT.get_or_init(|| {
        ureq::Agent::config_builder()
            .http_status_as_error(false)
            .max_redirects(0)
            .allow_non_standard_methods(true)
            .build()
            .into()
    });
    let mut request = ureq::http::Request::builder().method(method).uri(url);
    for (name, value) in headers {
        request = request.header(*name, *value);
    }
    let mut response = agent.run(request.body(body).ok()?).ok()?;
    let headers = response
        .headers()
        .iter()
        .map(|(n, v)| (n.to_string(), String::from_utf8_lossy(v.as_bytes()).into_owned()))
        .collect();
    let status = response.status().as_u16();
    Some(Answer { status, headers, body: response.body_mut().read_to_string().ok()? })
}
