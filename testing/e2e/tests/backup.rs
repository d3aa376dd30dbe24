//! A backup is taken while requests are accepted; everything is lost, and restored elsewhere.

use std::sync::Mutex;
use std::sync::atomic::{AtomicBool, Ordering};

use kanzlei_e2e::calls::*;
use kanzlei_e2e::*;
use kanzlei_harness::mariadb::Mariadb;
use kanzlei_harness::office::{Databases, Office, Ports, harbour};
use kanzlei_harness::wait;
use serde_json::json;

const WORK: &str = "workflow: work\ninput: {n: {type: integer}}\nqueue: {lane: quay}\nentries: [{endpoint: POST /work, access: open, answer: later}]\nsteps: [{reply: 200, body: '${input.n}'}]\n";
const PIN: &str = "workflow: pin\ninput: {pin: {type: string, confidential: true}}\nqueue: {lane: quay}\nentries: [{endpoint: POST /pins, access: open, answer: later}]\nsteps: [{reply: 200, body: '${input.pin.length}'}]\n";

#[test]
fn nothing_accepted_before_a_backup_is_missing_after_it_is_restored() {
    let mut office = office("backup", &[]);
    let deployed =
        deploy_texts(&office, &[("lane.yaml", "lane: quay\nat_once: 4\n"), ("a.yaml", WORK), ("b.yaml", PIN)]);
    assert_eq!(deployed.status, 200, "{deployed:?}");
    let accept = |path: &str, body: serde_json::Value| {
        let answer = post(&office, path, &[], &body);
        assert_eq!(answer.status, 202, "{answer:?}");
        id_of(&answer)
    };
    let ended = accept("/work", json!({"n": 0}));
    becomes(&office, &ended, "succeeded");
    assert_eq!(act(&office, "/lanes/quay/hold", json!(null)).status, 200);
    let pinned = accept("/pins", json!({"pin": "73519"}));
    let before: Vec<String> = (1..=30).map(|n| accept("/work", json!({"n": n}))).collect();
    // Others are accepted while it is taken.
    let (stop, during) = (AtomicBool::new(false), Mutex::new(Vec::new()));
    // Its programs run without rights, and own the folder of their office.
    let own = scratch().join("backup");
    let (folder, key) = (own.join("backups"), own.join("copy-of-the-key"));
    let taken = std::thread::scope(|scope| {
        scope.spawn(|| {
            while !stop.load(Ordering::Relaxed) {
                during.lock().expect("ids").push(accept("/work", json!({"n": 99})));
            }
        });
        wait::until(LONG, || (during.lock().expect("ids").len() > 5).then_some(())).expect("requests under way");
        let (folder, key) = (folder.to_str().expect("UTF-8"), key.to_str().expect("UTF-8"));
        let taken = office.command(&["backup", folder, "--key", key], &[]).expect("runs");
        stop.store(true, Ordering::Relaxed);
        taken
    });
    let made = said(&taken, 0).lines().next().expect("the folder").to_owned();
    office.service.kill();
    drop(taken);

    let elsewhere = database().fresh("kanzlei_backup_elsewhere").expect("a database");
    let settings = |url: &str| -> Vec<String> {
        let place = |name: &str| own.join(format!("elsewhere-{name}")).display().to_string();
        vec![
            format!("database.url={url}"),
            format!("files.work={}", place("work")),
            format!("files.spool={}", place("spool")),
            format!("secrets.key_file={}", place("key")),
        ]
    };
    // One that is damaged, one that is none, and a database that is in use are refused; nothing is changed then.
    let damaged = scratch().join("damaged");
    std::fs::create_dir_all(&damaged).expect("a folder");
    let restore = |from: &str, url: &str, code: i32| -> String {
        let key = key.to_str().expect("UTF-8");
        said(&office.command(&["restore", from, "--key", key], &settings(url)).expect("runs"), code)
    };
    assert!(restore(damaged.to_str().expect("UTF-8"), &elsewhere, 1).contains("no manifest.json"));
    for name in ["manifest.json", "records.sql.zst"] {
        let bytes = std::fs::read(std::path::Path::new(&made).join(name)).expect("reads");
        std::fs::write(damaged.join(name), bytes).expect("writes");
    }
    let records = damaged.join("records.sql.zst");
    let mut bytes = std::fs::read(&records).expect("reads");
    let middle = bytes.len() / 2;
    bytes[middle] ^= 1;
    std::fs::write(&records, bytes).expect("writes");
    assert!(restore(damaged.to_str().expect("UTF-8"), &elsewhere, 1).contains("is damaged"));
    assert!(restore(&made, &database().url("kanzlei_backup"), 1).contains("is restored into an empty one"));
    restore(&made, &elsewhere, 0);

    let settings = settings(&elsewhere);
    // Its processes run without rights of the superuser.
    let given: Vec<&str> = settings.iter().map(String::as_str).collect();
    let (mut second, ports) = office.another_with(7, &given, &[], None).expect("a service on what was restored");
    office.ports = ports;
    let shown = |id: &str| get(&office, &format!("/~/jobs/{id}"), &[]);
    let log = || std::fs::read_to_string(&second.log).unwrap_or_default();
    wait::until(LONG, || log().contains("restored from a backup").then_some(())).expect("it waits");
    assert!(api(&office, "/status")["restored"].is_string());
    assert_eq!(shown(&ended).json()["state"], "succeeded");
    for id in before.iter().chain([&pinned]) {
        assert_eq!(shown(id).json()["state"], "queued", "{id}");
    }
    assert_eq!(act(&office, "/lanes/quay/release", json!(null)).status, 200);
    said(&client(&office, &["resume"]), 0);
    assert!(said(&client(&office, &["resume"]), 1).contains("not restored, or was resumed already"));
    for id in before.iter().chain([&pinned]) {
        becomes(&office, id, "succeeded");
    }
    let result = get(&office, &format!("/~/jobs/{pinned}/result"), &[]);
    assert_eq!((result.status, result.json()), (200, json!(5)), "a sealed input is opened with the key");
    // Of those that came meanwhile some are there; the others were accepted after the snapshot.
    let there = during.lock().expect("ids").iter().filter(|id| shown(id).status == 200).count();
    println!("{there} of {} accepted meanwhile are in the backup", during.lock().expect("ids").len());
    second.stop(LONG);
}

#[test]
fn records_are_brought_forward_to_an_instant_with_the_binary_log() {
    let own = scratch().join("forward");
    let log = ["--log-bin=binlog", "--server-id=1"];
    let server = Mariadb::start_with(&own.join("database"), &log).expect("MariaDB starts");
    let url = server.fresh("kanzlei_forward").expect("a database");
    let records = harbour(&server, "kanzlei_forward_harbour").expect("records");
    let databases = Databases::with_harbour(url, &records, &server);
    let ports = Ports::free().expect("ports");
    let mut office = Office::start(&bins(), &own.join("office"), databases, ports, &[]).expect("office starts");
    let deployed = deploy_texts(&office, &[("lane.yaml", "lane: quay\n"), ("a.yaml", WORK)]);
    assert_eq!(deployed.status, 200, "{deployed:?}");
    assert_eq!(act(&office, "/lanes/quay/hold", json!(null)).status, 200);
    let accept = |count: usize| -> Vec<String> {
        (0..count).map(|n| id_of(&post(&office, "/work", &[], &json!({"n": n})))).collect()
    };
    let before = accept(5);
    let folder = own.join("office/backups");
    // The service's own user sees where the log stands.
    let taken = office.command(&["backup", folder.to_str().expect("UTF-8")], &[]).expect("runs");
    let taken = said(&taken, 0);
    let made = taken.lines().next().expect("the folder").to_owned();
    let noted = taken.lines().find_map(|line| line.strip_prefix("binary log: ")).expect("where the log stood");
    let (first, start) = noted.split_once(" at ").expect("a file and a position");
    let later = accept(5);
    let stop = server.sql("kanzlei", "SHOW BINARY LOG STATUS").or_else(|_| server.sql("kanzlei", "SHOW MASTER STATUS"));
    let stop = stop.expect("the log").split('\t').nth(1).expect("a position").to_owned();
    let after = accept(2);
    office.service.kill();

    let elsewhere = server.fresh("kanzlei_forwarded").expect("a database");
    let settings = [
        format!("database.url={elsewhere}"),
        format!("files.work={}", own.join("office/work-again").display()),
        format!("files.spool={}", own.join("office/spool-again").display()),
    ];
    said(&office.command(&["restore", &made], &settings).expect("runs"), 0);
    let changes = std::process::Command::new("mariadb-binlog")
        .args([&format!("--start-position={start}"), &format!("--stop-position={stop}")])
        .args(["--rewrite-db=kanzlei_forward->kanzlei_forwarded", "--database=kanzlei_forward"])
        .arg(own.join("database/data").join(first))
        .output()
        .expect("runs");
    assert!(changes.status.success(), "{}", String::from_utf8_lossy(&changes.stderr));
    let file = own.join("changes.sql");
    std::fs::write(&file, changes.stdout).expect("writes");
    server.sql("kanzlei_forwarded", &format!("source {}", file.display())).expect("applies");

    let given: Vec<&str> = settings.iter().map(String::as_str).collect();
    let (mut second, ports) = office.another_with(7, &given, &[], None).expect("a service on what was restored");
    office.ports = ports;
    assert_eq!(act(&office, "/lanes/quay/release", json!(null)).status, 200);
    said(&client(&office, &["resume"]), 0);
    for id in before.iter().chain(&later) {
        becomes(&office, id, "succeeded");
    }
    for id in &after {
        assert_eq!(get(&office, &format!("/~/jobs/{id}"), &[]).status, 404, "accepted after the instant");
    }
    second.stop(LONG);
}

/// Values that are sealed: of secrets, jobs, messages, kept answers and runs.
#[test]
fn everything_is_sealed_anew_when_the_key_is_rotated() {
    const SECRET: &str = "workflow: sealed\ninput: {pin: {type: string, confidential: true}}\nqueue: {lane: quay}\nentries:\n  - {endpoint: POST /sealed, access: open, answer: either}\n  - {endpoint: POST /later, access: open, answer: later}\nsteps: [{pause: 10ms}, {reply: 200, body: '${input.pin.length}'}]\n";
    let mut office = office("rotation", &[]);
    assert_eq!(deploy_texts(&office, &[("a.yaml", SECRET), ("b.yaml", "lane: quay\n")]).status, 200);
    let pins = |n: usize| json!({"pin": "7".repeat(n)});
    let ended = id_of(&post(&office, "/later", &[], &pins(4)));
    becomes(&office, &ended, "succeeded");
    let direct = post(&office, "/sealed", &[("idempotency-key", "k1")], &pins(6));
    assert_eq!((direct.status, direct.json()), (200, json!(6)));
    assert_eq!(act(&office, "/lanes/quay/hold", json!(null)).status, 200);
    let waits = id_of(&post(&office, "/later", &[], &pins(5)));
    assert!(said(&client(&office, &["secrets", "rotate-key"]), 1).contains("No key to rotate to"));
    // The new key opens what it seals, and the former one what it sealed.
    let own = scratch().join("rotation");
    let key = |name: &str| own.join(name).display().to_string();
    let fresh = "QUFBQUFBQUFBQUFBQUFBQUFBQUFBQUFBQUFBQUFBQUE=";
    let (new, former) = (format!("secrets.key={fresh}"), format!("secrets.other_key_file={}", key("secrets.key")));
    office.service.stop(LONG);
    let (mut both, ports) = office.another_with(8, &[&new, &former], &[], None).expect("a service with both keys");
    office.ports = ports;
    let sealed = id_of(&post(&office, "/later", &[], &pins(7)));
    let rotated = said(&client(&office, &["secrets", "rotate-key"]), 0);
    assert!(rotated.contains("sealed anew"), "{rotated}");
    let again = said(&client(&office, &["secrets", "rotate-key"]), 0);
    assert!(again.contains(" 0 sealed anew"), "{again}");
    both.stop(LONG);
    let (mut alone, ports) = office.another_with(9, &[&new], &[], None).expect("a service with the new key alone");
    office.ports = ports;
    assert_eq!(act(&office, "/lanes/quay/release", json!(null)).status, 200);
    for (id, length) in [(&ended, 4), (&waits, 5), (&sealed, 7)] {
        becomes(&office, id, "succeeded");
        assert_eq!(get(&office, &format!("/~/jobs/{id}/result"), &[]).json(), json!(length));
    }
    let repeated = post(&office, "/sealed", &[("idempotency-key", "k1")], &pins(6));
    assert_eq!((repeated.status, repeated.json()), (200, json!(6)), "{repeated:?}");
    let secrets = said(&client(&office, &["secrets"]), 0);
    assert!(secrets.contains("mail-login") && !secrets.contains("cannot be opened"), "{secrets}");
    alone.stop(LONG);
    // The former key opens nothing any more.
    let refused = office.command(&["doctor"], &[]).expect("runs");
    assert!(said(&refused, 1).contains("the key is not the one"), "the records know the new key");
}
