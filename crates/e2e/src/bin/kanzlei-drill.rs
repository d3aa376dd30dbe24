//! `cargo xtask drill`: services killed at random moments, as often as wanted, under load.

use std::time::Duration;

use kanzlei_e2e::{bins, drill};
use kanzlei_harness::mariadb::Mariadb;
use kanzlei_harness::office::{Office, Ports, harbour};

fn main() {
    let number = |at: usize, unsaid: usize| std::env::args().nth(at).and_then(|n| n.parse().ok()).unwrap_or(unsaid);
    let (rounds, processes) = (number(1, 200), number(2, 3));
    let dir = std::env::temp_dir().join(format!("kanzlei-drill-{}", std::process::id()));
    let server = Mariadb::start(&dir.join("database")).expect("MariaDB starts");
    let url = server.fresh("kanzlei_drill").expect("database");
    let records = harbour(&server, "kanzlei_drill_harbour").expect("records");
    let settings = ["jobs.lease=2s", "log.level=warn"];
    let ports = Ports::free().expect("ports");
    let databases = format!("harbour={records}");
    let mut office = Office::start(&bins(), &dir.join("office"), &url, &databases, ports, &settings).expect("office");
    let mut drilled = drill::Drill::start(&mut office, processes, 8, Duration::from_millis(4));
    // A fixed seed: the same moments each time, as far as the machine allows.
    let mut dice: u64 = 0x5eed;
    for round in 0..rounds {
        dice = dice.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1);
        std::thread::sleep(Duration::from_millis((dice >> 33) % 1200));
        drilled.kill(round);
        if (round + 1) % 20 == 0 {
            eprintln!("{} of {rounds} kills, {} jobs accepted", round + 1, drilled.accepted());
        }
    }
    let found = drilled.finish(&server, "kanzlei_drill", Duration::from_secs(180));
    println!("{found}");
    office.stop();
    drop(server);
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
