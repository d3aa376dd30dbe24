//! What each version recorded is continued by every later one: backups of an office with jobs in all states are kept in
//! `testing/histories/`, one for each version, restored here, and every job goes on where it stood.
//!
//! `KANZLEI_WRITE=1 cargo test -p kanzlei-e2e --test histories` keeps one of the version that is built.

use std::fs;
use std::path::{Path, PathBuf};

use kanzlei_e2e::calls::*;
use kanzlei_e2e::peer::{self, Peer};
use kanzlei_e2e::*;
use kanzlei_harness::office::Office;
use kanzlei_harness::wait;
use serde_json::{Value as Json, json};

const DOCUMENTS: &[(&str, &str)] = &[
    ("lane.yaml", "lane: quay\n"),
    ("other.yaml", "service: other\nbase: http://127.0.0.1:9\nnetwork: private\n"),
    (
        "paused.yaml",
        "workflow: paused\ninput: {n: {type: integer}}\nentries: [{endpoint: POST /paused, access: open, answer: later}]\nsteps:\n  - {id: q, enqueue: queued, send: {n: '${input.n}'}}\n  - each: x\n    in: '[1, 2]'\n    steps: [{pause: 20 days}]\n  - {reply: 200, body: {n: '${input.n}', queued: '${q.job.length > 0}'}}\n",
    ),
    (
        "called.yaml",
        "workflow: called\nentries: [{endpoint: POST /called, access: open, answer: later}]\nsteps:\n  - {id: v, await: verdict, steps: [{note: '${verdict.url}'}], until: 30 days}\n  - {reply: 200, body: '${v.ok}'}\n",
    ),
    (
        "broken.yaml",
        "workflow: broken\nentries: [{endpoint: POST /broken, access: open, answer: later}]\nsteps:\n  - keep: {n: '${(kept.n ?? 0) + 1}'}\n  - {id: c, call: 'GET http://127.0.0.1:9/x', within: 2s}\n  - {reply: 200, body: '${kept.n}'}\n",
    ),
    (
        "queued.yaml",
        "workflow: queued\ninput: {n: {type: integer}}\nqueue: {lane: quay}\nsteps: [{reply: 200, body: '${input.n * 2}'}]\n",
    ),
    (
        "sealed.yaml",
        "workflow: sealed\ninput: {pin: {type: string, confidential: true}}\nqueue: {lane: quay}\nentries: [{endpoint: POST /sealed, access: open, answer: later}]\nsteps: [{reply: 200, body: '${input.pin.length}'}]\n",
    ),
];

fn histories() -> PathBuf {
    root().join("testing/histories")
}

/// Makes an office with a job in each state, and keeps a backup of it.
fn write() {
    let office = office("history", &[]);
    assert_eq!(deploy_texts(&office, DOCUMENTS).status, 200);
    assert_eq!(act(&office, "/lanes/quay/hold", json!(null)).status, 200);
    let begun = |path: &str, body: Json| id_of(&post(&office, path, &[], &body));
    let ids = json!({
        "paused": begun("/paused", json!({"n": 7})),
        "called": begun("/called", json!({})),
        "broken": begun("/broken", json!({})),
        "sealed": begun("/sealed", json!({"pin": "73519"})),
    });
    for (name, state) in [("paused", "waiting"), ("called", "waiting"), ("broken", "failed"), ("sealed", "queued")] {
        becomes(&office, ids[name].as_str().expect("an id"), state);
    }
    let own = scratch().join("history");
    let (into, key) = (own.join("backups"), own.join("key"));
    let args = ["backup", into.to_str().expect("UTF-8"), "--key", key.to_str().expect("UTF-8")];
    let made = said(&office.command(&args, &[]).expect("runs"), 0);
    let folder = histories().join(env!("CARGO_PKG_VERSION"));
    fs::create_dir_all(&folder).expect("a folder");
    let made = Path::new(made.lines().next().expect("the folder"));
    for name in ["manifest.json", "records.sql.zst"] {
        fs::write(folder.join(name), fs::read(made.join(name)).expect("reads")).expect("writes");
    }
    fs::write(folder.join("key"), fs::read(key).expect("reads")).expect("writes");
    fs::write(folder.join("jobs.json"), format!("{ids:#}\n")).expect("writes");
}

/// An office on what a version recorded, and its jobs.
fn restored(version: &Path, number: usize) -> (Office, kanzlei_harness::process::Process, Json, Peer) {
    let peer = Peer::start(|_, stream| peer::answer(stream, "200 OK", "application/json", b"{}"));
    let name = format!("history_{number}");
    let mut office = office(&name, &[]);
    office.service.stop(LONG);
    let url = database().fresh(&format!("kanzlei_{name}_restored")).expect("a database");
    let own = scratch().join(&name);
    let place = |name: &str| own.join(format!("restored-{name}")).display().to_string();
    let settings = vec![
        format!("database.url={url}"),
        format!("files.work={}", place("work")),
        format!("secrets.key_file={}", place("key")),
        format!("services.other.base=http://127.0.0.1:{}", peer.port),
    ];
    let (from, key) = (version.to_str().expect("UTF-8"), version.join("key"));
    let key = key.to_str().expect("UTF-8");
    said(&office.command(&["restore", from, "--key", key], &settings).expect("runs"), 0);
    let given: Vec<&str> = settings.iter().map(String::as_str).collect();
    let (service, ports) = office.another_with(40 + number, &given, &[], None).expect("a service on what was restored");
    office.ports = ports;
    let ids = serde_json::from_str(&fs::read_to_string(version.join("jobs.json")).expect("reads")).expect("JSON");
    // Tokens are records: the office that was restored has those of the one that was kept.
    office.token = token_of(&url);
    (office, service, ids, peer)
}

/// Lets the token of these tests in, in place of that of the office that was kept.
fn token_of(url: &str) -> String {
    let token = "kzo_0000000000000000000000000000000000000000000000000000000000000000";
    let database_name = url.rsplit('/').next().expect("a name").split('?').next().expect("a name");
    let sql = format!("UPDATE operator_token SET hash = SHA2('{token}', 256) LIMIT 1");
    database().sql(database_name, &sql).expect("a token");
    token.to_owned()
}

#[test]
fn what_each_version_recorded_goes_on() {
    if std::env::var_os("KANZLEI_WRITE").is_some() {
        write();
    }
    let mut versions: Vec<PathBuf> =
        fs::read_dir(histories()).expect("histories").filter_map(|entry| Some(entry.ok()?.path())).collect();
    versions.retain(|path| path.join("manifest.json").exists());
    versions.sort();
    assert!(!versions.is_empty());
    for (number, version) in versions.iter().enumerate() {
        let (office, mut service, ids, _peer) = restored(version, number);
        let id = |name: &str| ids[name].as_str().expect("an id").to_owned();
        let run = |args: &[&str]| said(&client(&office, args), 0);
        let result = |name: &str| get(&office, &format!("/~/jobs/{}/result", id(name)), &[]).json();
        // Everything can be shown as it stood.
        for (name, state) in [("paused", "waiting"), ("called", "waiting"), ("broken", "failed"), ("sealed", "queued")]
        {
            let job = api(&office, &format!("/jobs/{}", id(name)));
            assert_eq!(job["state"], state, "{}: {job}", version.display());
            assert!(name == "sealed" || job["steps"].as_array().is_some_and(|steps| !steps.is_empty()), "{job}");
        }
        run(&["resume"]);
        run(&["lane", "release", "quay"]);
        becomes(&office, &id("sealed"), "succeeded");
        assert_eq!(result("sealed"), json!(5));
        // Two pauses, one after another.
        for _ in 0..2 {
            let waits = || {
                let job = api(&office, &format!("/jobs/{}", id("paused")));
                (job["state"] == "waiting").then_some(())
            };
            wait::until(LONG, waits).expect("it pauses");
            run(&["run-now", &id("paused")]);
        }
        becomes(&office, &id("paused"), "succeeded");
        assert_eq!(result("paused"), json!({"n": 7, "queued": true}));
        run(&["answer", &id("called"), "--body", "{\"ok\": true}"]);
        becomes(&office, &id("called"), "succeeded");
        assert_eq!(result("called"), json!(true));
        // The step that is done is not done again: it would count to two.
        run(&["retry", &id("broken")]);
        becomes(&office, &id("broken"), "succeeded");
        assert_eq!(result("broken"), json!(1));
        let queued = api(&office, "/jobs?workflow=queued&state=succeeded");
        assert_eq!(queued["jobs"].as_array().map(Vec::len), Some(1), "{queued}");
        service.stop(LONG);
    }
}
