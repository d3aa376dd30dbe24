//! `cargo xtask drill`: services killed at random moments, as often as wanted, under load; and with
//! `--cluster`, nodes of the database killed too; with `--upgrade`, services of a former version replaced; with `--overload`, ten times
//! the load that a service has places for.

use std::path::Path;
use std::time::Duration;

use kanzlei_e2e::drill::{Beside, Drill, Found};
use kanzlei_e2e::{bins, drill, faults, overload};
use kanzlei_harness::cluster::Cluster;
use kanzlei_harness::mariadb::Mariadb;
use kanzlei_harness::office::{Databases, Office, Ports, harbour};

/// How long jobs may take to end when the load is over.
const DRAIN: Duration = Duration::from_secs(180);
const SETTINGS: [&str; 2] = ["jobs.lease=2s", "log.level=warn"];

fn main() {
    let args: Vec<String> = std::env::args().skip(1).collect();
    let dir = kanzlei_harness::scratch::folder("drill");
    // Before anything starts a thread: some faults change what this process sees of disks and networks.
    let found = match args.iter().map(String::as_str).collect::<Vec<_>>().as_slice() {
        ["cluster"] => cluster(&dir),
        ["overload"] => return overload(&dir),
        ["fault", fault] if faults::OF_A_MACHINE.contains(fault) => faults::of_a_machine(fault, &dir),
        ["fault", fault] => faults::of_a_network(fault, &dir),
        ["upgrade", former] => upgrade(&dir, Path::new(former)),
        [kills, processes] => {
            let number = |text: &str| text.parse().expect("a number");
            services(&dir, number(kills), number(processes))
        }
        _ => panic!("usage: kanzlei-drill KILLS PROCESSES | cluster | fault NAME | upgrade FOLDER | overload"),
    };
    println!("{found}");
    let good = found.good();
    if good {
        let _ = std::fs::remove_dir_all(&dir);
    } else {
        eprintln!(
            "stuck: {:?}\nrepeated: {:?}\nlogs are in {}",
            found.stuck,
            found.repeated_after_journaled,
            dir.display()
        );
    }
    std::process::exit(i32::from(!good));
}

fn services(dir: &Path, kills: usize, processes: usize) -> Found {
    let mut server = Mariadb::start(&dir.join("database")).expect("MariaDB starts");
    let url = server.fresh("kanzlei_drill").expect("database");
    let records = harbour(&server, "kanzlei_drill_harbour").expect("records");
    let ports = Ports::free().expect("ports");
    let databases = Databases::with_harbour(url, &records, &server);
    let mut office = Office::start(&bins(), &dir.join("office"), databases, ports, &SETTINGS).expect("office");
    drill::keep_outcomes(&server, "kanzlei_drill");
    let beside = vec![Beside::default(); processes.saturating_sub(1)];
    let mut drilled = Drill::start(&mut office, beside, 8, Duration::from_millis(4));
    // A fixed seed: the same moments each time, as far as the machine allows.
    let mut dice: u64 = 0x5eed;
    for round in 0..kills {
        dice = dice.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1);
        std::thread::sleep(Duration::from_millis((dice >> 33) % 1200));
        if round % 10 == 9 {
            drill::cut(&mut server);
        }
        drilled.kill(round);
        if (round + 1) % 20 == 0 {
            eprintln!("{} of {kills} kills, {} jobs accepted", round + 1, drilled.accepted());
        }
    }
    let found = drilled.finish(&server, "kanzlei_drill", DRAIN);
    office.stop();
    found
}

/// Half a minute of ten times the load.
fn overload(dir: &Path) {
    let server = Mariadb::start(&dir.join("database")).expect("MariaDB starts");
    let url = server.fresh("kanzlei_drill").expect("database");
    let records = harbour(&server, "kanzlei_drill_harbour").expect("records");
    let ports = Ports::free().expect("ports");
    let databases = Databases::with_harbour(url, &records, &server);
    let settings: Vec<&str> = SETTINGS.into_iter().chain(overload::SETTINGS).collect();
    let mut office = Office::start(&bins(), &dir.join("office"), databases, ports, &settings).expect("office");
    println!("{}", overload::run(&office, Duration::from_secs(30)));
    office.stop();
    drop(server);
    let _ = std::fs::remove_dir_all(dir);
}

/// Two services of a former version, upgraded one after the other under load: the first one of today brings the schema up to date
/// while the former works, each works beside the other, and both are killed meanwhile.
fn upgrade(dir: &Path, former: &Path) -> Found {
    let server = Mariadb::start(&dir.join("database")).expect("MariaDB starts");
    let url = server.fresh("kanzlei_drill").expect("database");
    let records = harbour(&server, "kanzlei_drill_harbour").expect("records");
    let ports = Ports::free().expect("ports");
    let databases = Databases::with_harbour(url, &records, &server);
    let mut office = Office::start(former, &dir.join("office"), databases, ports, &SETTINGS).expect("office");
    let (former, own) = (former.join("kanzleid"), bins().join("kanzleid"));
    drill::keep_outcomes(&server, "kanzlei_drill");
    let changes = || -> u32 {
        let count = server.sql("kanzlei_drill", "SELECT COUNT(*) FROM _sqlx_migrations").expect("migrations");
        count.trim().parse().expect("a number")
    };
    let before = changes();
    let mut drilled = Drill::start(&mut office, vec![Beside::default()], 6, Duration::from_millis(8));
    let say = |what: &str, drilled: &Drill| eprintln!("{what}; {} jobs accepted", drilled.accepted());
    drilled.more(300);
    drilled.upgrade(&own);
    drilled.restart(1);
    let after = changes();
    let schema = match after - before {
        0 => "which changes nothing in the schema".to_owned(),
        _ => format!("the schema has {after} changes instead of {before}"),
    };
    say(&format!("one service is upgraded, {schema}"), &drilled);
    drilled.more(300);
    drilled.kill(1);
    say("the upgraded service was killed beside the former one", &drilled);
    drilled.more(300);
    drilled.upgrade(&former);
    drilled.kill(0);
    say("the former service was killed and started again on the new schema", &drilled);
    drilled.more(300);
    drilled.upgrade(&own);
    drilled.restart(0);
    say("both services are upgraded", &drilled);
    drilled.more(300);
    let found = drilled.finish(&server, "kanzlei_drill", DRAIN);
    office.stop();
    found
}

/// Two services and three nodes: a node is killed, then a service, then the node comes back and the one
/// that the other service uses is killed.
fn cluster(dir: &Path) -> Found {
    let mut cluster = Cluster::start(&dir.join("database"), 3).expect("three nodes");
    eprintln!("three nodes hold the same records");
    cluster.nodes[0].fresh("kanzlei_drill").expect("database");
    // The harbour's own records lie with the node that is not killed.
    let records = harbour(&cluster.nodes[2], "kanzlei_drill_harbour").expect("records");
    let ports = Ports::free().expect("ports");
    let databases = Databases::with_harbour(cluster.urls("kanzlei_drill", 0), &records, &cluster.nodes[2]);
    let mut office = Office::start(&bins(), &dir.join("office"), databases, ports, &SETTINGS).expect("office");
    // The other one begins with another node: both claim jobs, and their transactions meet.
    drill::keep_outcomes(&cluster.nodes[0], "kanzlei_drill");
    let environment = vec![("KANZLEI_DATABASE_URL", cluster.urls("kanzlei_drill", 1))];
    let second = Beside { environment, host: None };
    let mut drilled = Drill::start(&mut office, vec![second], 6, Duration::from_millis(10));
    let say = |what: &str, drilled: &Drill| eprintln!("{what}; {} jobs accepted", drilled.accepted());
    drilled.more(300);
    cluster.nodes[0].kill();
    say("the first node was killed", &drilled);
    drilled.more(300);
    drilled.kill(0);
    say("the first service was killed and started again", &drilled);
    drilled.more(300);
    cluster.restart(0).expect("the first node joins again");
    say("the first node holds the records again", &drilled);
    drilled.more(300);
    cluster.nodes[1].kill();
    say("the second node was killed", &drilled);
    drilled.more(300);
    drilled.kill(1);
    say("the second service was killed and started again", &drilled);
    drilled.more(300);
    let found = drilled.finish(&cluster.nodes[2], "kanzlei_drill", DRAIN);
    office.stop();
    found
}
