//! `cargo xtask bench --compare REV`: whether endpoints became faster or slower. The service of a former revision and that of the checkout
//! stand side by side, each with a database of its own, and are measured by turns.
//!
//! ```text
//! validate and reply       59386 req/s   17.7 + 1.0 µs   former   55617 req/s   19.1 + 1.3 µs   ratio 1.07, of processor time 0.92
//! ```
//!
//! Processor time is that of the service and of its database for one request. On a shared machine it is more reliable than the rate.

use std::process::ExitCode;

use kanzlei_harness::office::{Ports, Whole};
use kanzlei_harness::{packages, scratch};

use super::load::{Figure, NOTICES, QUOTES, Server, TOGETHER};
use super::{deploy, measure_jobs};
use crate::{Done, build, root};

/// Seconds of a round, and rounds of each.
const SECONDS: u32 = 6;
const ROUNDS: u32 = 5;

pub fn compare(revision: &str) -> Done {
    packages::install(&[packages::MARIADB, packages::WRK])?;
    build::console()?;
    let today = build::programs(true)?;
    eprintln!("Building {revision}, which takes as long as a release build from nothing …");
    let former = build::former(revision, true, &["kanzleid", "kanzlei", "kanzlei-standins"])?;
    let dir = scratch::folder("compare");
    let mut both = Vec::new();
    for (name, bins) in [("former", &former.programs), ("today", &today)] {
        let whole = Whole::start(bins, &dir.join(name), Ports::free()?, &["workers=1", "log.level=warn"])?;
        // Both serve the documents of the checkout.
        deploy(bins, &whole, &root().join("demo/harbour/services"))?;
        deploy(bins, &whole, &root().join("testing/bench/workflows"))?;
        both.push(whole);
    }
    println!(
        "One worker each, {SECONDS} s a round, {ROUNDS} rounds by turns; CPU µs of the service and of its database.\n"
    );
    for asked in [NOTICES, QUOTES, TOGETHER] {
        let servers = [Server::of(&both[0]), Server::of(&both[1])];
        let [former, today] = asked.by_turns(servers, &dir, (SECONDS, ROUNDS))?;
        println!("{}", line(asked.name, &former, &today));
    }
    for (name, whole) in ["former", "today"].iter().zip(&both) {
        println!("\nJobs, {name}:");
        measure_jobs(&today, whole, &dir, true)?;
    }
    both.into_iter().for_each(Whole::stop);
    let _ = std::fs::remove_dir_all(&dir);
    Ok(ExitCode::SUCCESS)
}

fn line(name: &str, former: &Figure, today: &Figure) -> String {
    let figure = |of: &Figure| format!("{:>7.0} req/s {:>6.1} + {:.1} µs", of.per_second, of.cpu, of.database);
    format!(
        "{name:<22} {}   former {}   ratio {:.2}, of processor time {:.2}",
        figure(today),
        figure(former),
        today.per_second / former.per_second,
        (today.cpu + today.database) / (former.cpu + former.database)
    )
}
