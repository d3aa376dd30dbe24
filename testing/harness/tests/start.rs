//! Starting a private database: what a crash left behind, and data that is kept.

use std::path::PathBuf;
use std::time::Duration;

use kanzlei_harness::mariadb::Mariadb;
use kanzlei_harness::office::{Ports, port_taken};
use kanzlei_harness::process::Process;

fn folder(name: &str) -> PathBuf {
    let dir = kanzlei_harness::scratch::folder(name);
    let _ = std::fs::remove_dir_all(&dir);
    dir
}

#[test]
fn a_half_made_data_directory_is_made_again_and_a_whole_one_kept() {
    let dir = folder("half-made");
    std::fs::create_dir_all(dir.join("data/mysql")).expect("folder");
    std::fs::write(dir.join("data/ibdata1"), b"half").expect("file");
    let server = Mariadb::start(&dir).expect("starts in spite of what was left");
    server.sql("kanzlei", "CREATE TABLE kept (n INT); INSERT INTO kept VALUES (7)").expect("sql");
    drop(server);
    let server = Mariadb::start(&dir).expect("starts again");
    assert_eq!(server.sql("kanzlei", "SELECT n FROM kept").expect("sql").trim(), "7");
    let second = Mariadb::start(&dir).expect_err("two servers cannot share a data directory").to_string();
    assert!(second.contains("MariaDB") && second.contains("mariadb.log"), "{second}");
    drop(server);
    let _ = std::fs::remove_dir_all(dir);
}

#[test]
fn a_port_in_use_and_an_early_end_are_reported() {
    let ports = Ports::free().expect("ports");
    assert_eq!(ports.taken(), None);
    let holder = std::net::TcpListener::bind(("127.0.0.1", ports.control)).expect("port");
    let (port, what) = ports.taken().expect("taken");
    let message = port_taken(port, what, "--control-port").to_string();
    assert!(
        message.contains(&ports.control.to_string())
            && message.contains("--control-port")
            && message.contains("the control listener"),
        "{message}"
    );
    drop(holder);

    let dir = folder("early-end");
    std::fs::create_dir_all(&dir).expect("folder");
    let mut command = std::process::Command::new("bash");
    command.args(["-c", "echo the disk is full; exit 3"]);
    let mut process = Process::start("a program", command, &dir.join("log")).expect("starts");
    let message = process.wait_for(Duration::from_secs(10), || None::<()>).expect_err("ended").to_string();
    assert!(message.contains("ended early") && message.contains("the disk is full"), "{message}");
    let _ = std::fs::remove_dir_all(dir);
}
