//! `cargo xtask test`: everything that must pass.

use std::process::{Command, ExitCode};

use kanzlei_harness::packages;

use crate::{Done, build, fuzz, root, run};

pub fn run_all() -> Done {
    packages::install(&[
        packages::MARIADB,
        packages::CHROMIUM,
        packages::CHROMEDRIVER,
        packages::CURL,
        packages::WEASYPRINT,
        packages::FAKETIME,
    ])?;
    build::console()?;
    // Before the long tests: nothing else compiles these programs, and an effect added to the engine breaks them.
    fuzz::check()?;
    // The tests across processes start these programs.
    let bins = build::programs(false)?;
    let target = bins.parent().unwrap_or(&bins);
    run(kanzlei_harness::process::cargo()
        .args(["test", "--workspace", "--no-fail-fast"])
        .env("CARGO_TARGET_DIR", target))?;
    // A minute of looking for calls that take more time than they are charged for, the same ones each time.
    let mut search = kanzlei_harness::process::cargo();
    search.args(["test", "--package", "kanzlei-lang", "--test", "work", "generated"]);
    run(search.env("CARGO_TARGET_DIR", target).env("KANZLEI_ROUNDS", "8000").env("KANZLEI_SEED", "1"))?;
    build::packages_of_console()?;
    for script in ["check", "test"] {
        run(Command::new("npm").args(["--prefix", "console", "run", script, "--silent"]).env("PWD", root()))?;
    }
    Ok(ExitCode::SUCCESS)
}
