//! What the machine does to an office: a database that may not write, full and slow disks, little memory, clocks that differ,
//! networks that part. Jobs are accepted meanwhile where they can be; afterwards nothing may be lost.
//!
//! Each runs in a process of its own, because some change what the process sees of disks and networks:
//! `cargo xtask drill --faults` and `--partition`.

use std::path::Path;
use std::time::{Duration, Instant};

use kanzlei_harness::cluster::Cluster;
use kanzlei_harness::disks::{Bound, Disk};
use kanzlei_harness::mariadb::Mariadb;
use kanzlei_harness::network::{Member, Network};
use kanzlei_harness::office::{Databases, Office, Ports, harbour};
use kanzlei_harness::wait;

use crate::drill::{self, Beside, Drill, Found};
use crate::{bins, try_http};

/// The faults of a machine, in the order they are drilled.
pub const OF_A_MACHINE: [&str; 6] = ["read-only", "full-database", "full-office", "slow-disk", "memory", "clocks"];
/// The faults of a network between two services and three nodes.
pub const OF_A_NETWORK: [&str; 5] = ["lost-node", "minority", "one-way", "slow-links", "lost-services"];

const DRAIN: Duration = Duration::from_secs(180);
const SETTINGS: [&str; 2] = ["jobs.lease=2s", "log.level=warn"];
/// How long a fault lasts.
const LASTS: Duration = Duration::from_secs(6);

/// One service on one server, and what is beside it.
struct Bed {
    server: Mariadb,
    office: Office,
}

impl Bed {
    fn start(dir: &Path) -> Self {
        let server = Mariadb::start(&dir.join("database")).expect("MariaDB starts");
        let url = server.fresh("kanzlei_drill").expect("database");
        let records = harbour(&server, "kanzlei_drill_harbour").expect("records");
        let databases = Databases::with_harbour(url, &records, &server);
        let ports = Ports::free().expect("ports");
        let office = Office::start(&bins(), &dir.join("office"), databases, ports, &SETTINGS).expect("office");
        drill::keep_outcomes(&server, "kanzlei_drill");
        Bed { server, office }
    }

    /// Runs two services under load, has something happen, and counts afterwards.
    fn drill(mut self, beside: Beside, happens: impl FnOnce(&mut Drill, &mut Mariadb)) -> Found {
        let mut drilled = Drill::start(&mut self.office, vec![beside], 6, Duration::from_millis(8));
        drilled.more(200);
        happens(&mut drilled, &mut self.server);
        let over = Instant::now();
        drilled.more(200);
        println!("200 more jobs are accepted {:.1?} after it is over", over.elapsed());
        let found = drilled.finish(&self.server, "kanzlei_drill", DRAIN);
        self.office.stop();
        found
    }
}

/// Drills one fault of a machine.
pub fn of_a_machine(fault: &str, dir: &Path) -> Found {
    match fault {
        "read-only" => Bed::start(dir).drill(Beside::default(), |drilled, server| {
            server.sql("kanzlei", "SET GLOBAL read_only = 1").expect("read only");
            drilled.refusal();
            std::thread::sleep(LASTS);
            server.sql("kanzlei", "SET GLOBAL read_only = 0").expect("writes again");
        }),
        "full-database" => {
            let disk = Disk::start(&dir.join("database"), 640).expect("a disk");
            Bed::start(dir).drill(Beside::default(), |drilled, server| {
                disk.fill().expect("full");
                drilled.refusal();
                std::thread::sleep(LASTS);
                disk.free().expect("free");
                server.again().expect("the database runs");
            })
        }
        "full-office" => {
            let disk = Disk::start(&dir.join("office"), 96).expect("a disk");
            Bed::start(dir).drill(Beside::default(), |drilled, _| {
                disk.fill().expect("full");
                drilled.refusal();
                std::thread::sleep(LASTS);
                disk.free().expect("free");
            })
        }
        "slow-disk" => Bed::start(dir).drill(Beside::default(), |drilled, server| {
            let bound = Bound::disk(dir, 20, 256 << 10).expect("a bound");
            bound.hold(server.id()).expect("bound");
            let before = drilled.accepted();
            std::thread::sleep(LASTS);
            println!("{} jobs accepted in {LASTS:?} on the slow disk", drilled.accepted() - before);
        }),
        "memory" => Bed::start(dir).drill(Beside::default(), |drilled, _| {
            for _ in 0..3 {
                let process = drilled.service();
                let bound = Bound::memory(process.memory() + (8 << 20)).expect("a bound");
                bound.hold(process.id()).expect("bound");
                flood(drilled);
                println!("the service was {}", if drilled.died() { "killed for its memory" } else { "not killed" });
                drilled.kill(0);
            }
        }),
        "clocks" => {
            let library = "/usr/lib/x86_64-linux-gnu/faketime/libfaketimeMT.so.1";
            let environment = vec![
                ("LD_PRELOAD", library.to_owned()),
                ("FAKETIME", "-300s".to_owned()),
                ("FAKETIME_DONT_FAKE_MONOTONIC", "1".to_owned()),
            ];
            Bed::start(dir).drill(Beside { environment, host: None }, |drilled, _| {
                drilled.more(300);
                drilled.kill(1);
                drilled.more(300);
                drilled.kill(0);
            })
        }
        fault => panic!("no fault `{fault}`; known are {}", OF_A_MACHINE.join(", ")),
    }
}

/// Large requests at once until the service answers none of them any more, or for a time.
fn flood(drilled: &Drill) {
    let url = format!("http://127.0.0.1:{}/drill?n=0&wait=1ms", drilled.service_port());
    let body = vec![b'1'; 900 << 10];
    std::thread::scope(|scope| {
        for _ in 0..48 {
            scope.spawn(|| {
                for _ in 0..6 {
                    let _ = try_http("PUT", &url, &[("content-type", "application/json")], &body);
                }
            });
        }
    });
}

/// Two services and three nodes, each on a host of its own: the first service begins with the first node, the second with the second.
pub fn of_a_network(fault: &str, dir: &Path) -> Found {
    let network = Network::start(5).expect("a network");
    let node = |number: usize| Member::Host(number);
    let (first, second) = (Member::Host(3), Member::Host(4));
    let hosts: Vec<_> = (0..3).map(|number| network.host(number)).collect();
    let cluster = Cluster::start_on(&dir.join("database"), &hosts).expect("three nodes");
    cluster.nodes[0].fresh("kanzlei_drill").expect("database");
    let records = harbour(&cluster.nodes[2], "kanzlei_drill_harbour").expect("records");
    let ports = Ports::free().expect("ports");
    network.router_serves(&[ports.standins, ports.mail]).expect("ports");
    let databases = Databases::with_harbour(cluster.urls("kanzlei_drill", 0), &records, &cluster.nodes[2]);
    let folder = dir.join("office");
    let mut office = Office::start_on(network.host(3), &bins(), &folder, databases, ports, &SETTINGS).expect("office");
    drill::keep_outcomes(&cluster.nodes[0], "kanzlei_drill");
    let environment = vec![("KANZLEI_DATABASE_URL", cluster.urls("kanzlei_drill", 1))];
    let beside = Beside { environment, host: Some(network.host(4)) };
    let drilled = Drill::start(&mut office, vec![beside], 6, Duration::from_millis(10));
    drilled.more(200);
    match fault {
        // The first service loses its node, which the others still have.
        "lost-node" => network.part(&[first], &[node(0)]),
        // One node and the service that uses it are on the smaller side.
        "minority" => network.part(&[node(1), second], &[node(0), node(2), first]),
        // What a node says to the other two is lost, what they say arrives; and answers of a node to its service are lost.
        "one-way" => network
            .cut(node(0), node(1))
            .and_then(|()| network.cut(node(0), node(2)))
            .and_then(|()| network.cut(node(1), second)),
        "slow-links" => network
            .slow(3, 2_000)
            .and_then(|()| network.lose(node(0), node(1), 20))
            .and_then(|()| network.lose(node(1), node(0), 20))
            .and_then(|()| network.lose(second, node(1), 20)),
        // Services reach the database, and nothing that they call.
        "lost-services" => network
            .close(first, Member::Router, ports.standins)
            .and_then(|()| network.close(second, Member::Router, ports.standins)),
        fault => panic!("no fault `{fault}`; known are {}", OF_A_NETWORK.join(", ")),
    }
    .expect("the network changes");
    let before = drilled.accepted();
    std::thread::sleep(LASTS * 3);
    println!("{} jobs accepted in {:?} of it", drilled.accepted() - before, LASTS * 3);
    network.heal().expect("heals");
    let healed = Instant::now();
    let together = || {
        let size = cluster.nodes[0].sql("kanzlei", "SHOW STATUS LIKE 'wsrep_cluster_size'").ok()?;
        size.contains('3').then_some(())
    };
    wait::until(Duration::from_secs(120), together).expect("the nodes are together again");
    println!("three nodes are together again after {:.1?}", healed.elapsed());
    drilled.everywhere(100);
    let found = drilled.finish(&cluster.nodes[2], "kanzlei_drill", DRAIN);
    office.stop();
    found
}
