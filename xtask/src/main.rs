//! `cargo xtask …`: everything a developer starts with one command.

mod bench;
mod build;
mod contract;
mod demo;
mod fuzz;
mod package;
mod parts;
mod sbom;
mod shots;
mod sqlx;
mod test;

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
    #[command(subcommand)]
    Bench(bench::Bench),
    /// Feed a part of the core with what a fuzzer thinks of
    Fuzz {
        /// documents, editing, expressions, scripts, openapi or cases
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
        What::Drill { kills, processes, cluster } => drill(kills, processes, cluster),
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

/// Runs a command in the checkout; its failure is ours.
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
    run(command.current_dir(root()).env("CARGO_MANIFEST_DIR", root().join("testing/e2e")))?;
    Ok(ExitCode::SUCCESS)
}

fn drill(kills: usize, processes: usize, cluster: bool) -> Done {
    use kanzlei_harness::packages;
    packages::install(&[packages::MARIADB])?;
    if cluster {
        packages::install(&[packages::GALERA, packages::RSYNC, packages::LSOF])?;
    }
    build::console()?;
    let bins = build::programs(false)?;
    let mut command = Command::new(bins.join("kanzlei-drill"));
    if cluster {
        command.arg("cluster");
    } else {
        command.args([kills.to_string(), processes.to_string()]);
    }
    run(command.current_dir(root()).env("CARGO_MANIFEST_DIR", root().join("testing/e2e")))?;
    Ok(ExitCode::SUCCESS)
}
