//! `cargo xtask …`: everything a developer starts with one command.

mod bench;
mod build;
mod contract;
mod demo;
mod fuzz;
mod package;
mod parts;
mod sbom;
mod scale;
mod shots;
mod soak;
mod sqlx;
mod test;

use kanzlei_harness::packages;
use std::path::{Path, PathBuf};
use std::process::{Command, ExitCode};

use clap::{Parser, Subcommand};

#[derive(Parser)]
#[command(name = "cargo xtask", about = "Start, test and measure Kanzlei", disable_help_subcommand = true)]
struct Args {
    #[command(subcommand)]
    what: What,
}

#[derive(Subcommand)]
enum What {
    /// Start the demo office: database, stand-ins, service, console; Ctrl-C stops it
    Demo(demo::Demo),
    /// Install what the tests need, then run all of them
    Test,
    /// Build the console
    Console,
    /// Take the pictures of docs/screenshots/ anew
    Shots,
    /// Measure against hand-written equivalents
    Bench(bench::Benches),
    /// Feed a part of the core with what a fuzzer thinks of
    Fuzz {
        /// documents, editing, expressions, scripts, openapi, cases or public
        target: String,
        #[arg(long, default_value_t = 10, value_parser = clap::value_parser!(u64).range(1..=600))]
        minutes: u64,
    },
    /// Have the published OpenAPI document validated, and its endpoints tried with requests made from it
    Contract {
        /// Requests of each kind that are thought of for each operation
        #[arg(long, default_value_t = 100)]
        examples: u32,
    },
    /// Kill services at random moments under load, and count what became of what they accepted
    Drill {
        #[arg(long, default_value_t = 200)]
        kills: usize,
        /// Services on one database
        #[arg(long, default_value_t = 3)]
        processes: usize,
        /// Two services on three nodes of a cluster; nodes are killed too
        #[arg(long, conflicts_with_all = ["kills", "processes"])]
        cluster: bool,
        /// Two services of this former revision of the checkout are upgraded one after the other
        #[arg(long, value_name = "REVISION", conflicts_with_all = ["kills", "processes", "cluster"])]
        upgrade: Option<String>,
        /// Ten times the load that a service has places for
        #[arg(long, conflicts_with_all = ["kills", "processes", "cluster", "upgrade"])]
        overload: bool,
        /// What the machine does: a database that may not write, full and slow disks, little memory, clocks that differ
        #[arg(long, group = "several", conflicts_with_all = ["kills", "processes", "cluster", "upgrade", "overload"])]
        faults: bool,
        /// Networks between two services and three nodes that part, lose packets or are slow (as root)
        #[arg(long, group = "several", conflicts_with_all = ["kills", "processes", "cluster", "upgrade", "overload", "faults"])]
        partition: bool,
        /// Only this one of the faults
        #[arg(long, value_name = "FAULT", requires = "several")]
        only: Option<String>,
    },
    /// Half of the capacity of this machine for hours: memory, descriptors and latency must stay flat
    Soak {
        #[arg(long, default_value_t = 120.0)]
        minutes: f64,
    },
    /// Attacks a fresh office on loopback and prints a table of what was held
    Attack,
    /// Renew the control API's OpenAPI document and the console's TypeScript, after a type of the API changed
    Api,
    /// Make the repository of parts that the demo holds, demo/parts/harbour-parts.bundle, from its sources
    Parts,
    /// Make the Debian package, with man pages and completions
    Package(package::Package),
    /// Write the bill of materials (CycloneDX) of the programs, and examine the licences
    Sbom,
    /// Renew what SQLx knows of the queries (.sqlx/), after a query or a migration changed
    Sqlx,
}

fn main() -> ExitCode {
    let done = match Args::parse().what {
        What::Demo(demo) => demo::run(demo),
        What::Test => test::run_all(),
        What::Console => build::console().map(|()| ExitCode::SUCCESS),
        What::Shots => shots::take(),
        What::Bench(bench) => bench::run_bench(bench),
        What::Fuzz { target, minutes } => fuzz::fuzz(&target, minutes),
        What::Contract { examples } => contract::run_contract(examples),
        What::Drill { upgrade: Some(revision), .. } => upgrade(&revision),
        What::Drill { overload: true, .. } => drill(&["overload".into()], &[]),
        What::Drill { faults: true, only, .. } => faults(&FAULTS, only, &[packages::FAKETIME]),
        What::Drill { partition: true, only, .. } => faults(
            &PARTITIONS,
            only,
            &[packages::GALERA, packages::RSYNC, packages::LSOF, packages::NFTABLES, packages::IPROUTE],
        ),
        What::Drill { cluster: true, .. } => {
            drill(&["cluster".into()], &[packages::GALERA, packages::RSYNC, packages::LSOF])
        }
        What::Drill { kills, processes, .. } => drill(&[kills.to_string(), processes.to_string()], &[]),
        What::Soak { minutes } => soak::soak(minutes),
        What::Attack => attack(),
        What::Api => build::api(),
        What::Parts => parts::bundle(&root()).map(|()| ExitCode::SUCCESS).map_err(Into::into),
        What::Package(package) => package::package(&package),
        What::Sbom => sbom::sbom(),
        What::Sqlx => sqlx::prepare(),
    };
    match done {
        Ok(code) => code,
        Err(error) => {
            eprintln!("error: {error}");
            ExitCode::FAILURE
        }
    }
}

type Fault = Box<dyn std::error::Error>;
type Done = Result<ExitCode, Fault>;

/// The checkout: the one cargo runs us in, which need not be the one we were compiled in when several
/// share a target folder.
fn root() -> PathBuf {
    let own = std::env::var("CARGO_MANIFEST_DIR").unwrap_or_else(|_| env!("CARGO_MANIFEST_DIR").into());
    Path::new(&own).parent().map(Path::to_path_buf).unwrap_or_default()
}

/// The target folder: the one this program runs from.
fn bins_folder() -> Result<PathBuf, Fault> {
    let bins = build::bins(false)?;
    Ok(bins.parent().unwrap_or(&bins).to_path_buf())
}

/// Runs a command in the checkout, wherever else it was to run; its failure is ours.
fn run(command: &mut Command) -> Result<(), Fault> {
    let status = command.current_dir(root()).status().map_err(|e| format!("{:?}: {e}", command.get_program()))?;
    if status.success() {
        Ok(())
    } else {
        Err(format!("{} failed ({status})", command.get_program().to_string_lossy()).into())
    }
}

fn attack() -> Done {
    use kanzlei_harness::packages;
    packages::install(&[packages::MARIADB])?;
    build::console()?;
    let bins = build::programs(false)?;
    let mut command = Command::new(bins.join("kanzlei-attack"));
    run(command.env("CARGO_MANIFEST_DIR", root().join("testing/e2e")))?;
    Ok(ExitCode::SUCCESS)
}

/// Builds the service of a former revision, and drills the upgrade from it.
fn upgrade(revision: &str) -> Done {
    packages::install(&[packages::MARIADB])?;
    build::console()?;
    let former = build::former(revision, false, &["kanzleid", "kanzlei-standins"])?;
    let bins = build::programs(false)?;
    let mut command = Command::new(bins.join("kanzlei-drill"));
    command.arg("upgrade").arg(&former.programs);
    run(command.env("CARGO_MANIFEST_DIR", root().join("testing/e2e")))?;
    Ok(ExitCode::SUCCESS)
}

/// What machines and networks do; each is drilled in a process of its own.
const FAULTS: [&str; 6] = ["read-only", "full-database", "full-office", "slow-disk", "memory", "clocks"];
const PARTITIONS: [&str; 5] = ["lost-node", "minority", "one-way", "slow-links", "lost-services"];

fn faults(known: &[&str], only: Option<String>, needed: &[(&str, &str)]) -> Done {
    let chosen: Vec<&str> =
        known.iter().copied().filter(|fault| only.as_deref().is_none_or(|only| only == *fault)).collect();
    if chosen.is_empty() {
        return Err(format!("there is no such fault; known are {}", known.join(", ")).into());
    }
    for fault in chosen {
        println!("\n{fault}");
        drill(&["fault".into(), fault.into()], needed)?;
    }
    Ok(ExitCode::SUCCESS)
}

fn drill(args: &[String], needed: &[(&str, &str)]) -> Done {
    packages::install(&[packages::MARIADB])?;
    packages::install(needed)?;
    build::console()?;
    let bins = build::programs(false)?;
    let mut command = Command::new(bins.join("kanzlei-drill"));
    command.args(args);
    run(command.env("CARGO_MANIFEST_DIR", root().join("testing/e2e")))?;
    Ok(ExitCode::SUCCESS)
}
