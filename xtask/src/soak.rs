//! `cargo xtask soak`: an office of release programs at half of its capacity for hours, and a picture of what it used.

use std::process::{Command, ExitCode};

use kanzlei_harness::office::{Ports, Whole};
use kanzlei_harness::packages;

use crate::bench::deploy;
use crate::{Done, build, root, run};

/// Bounds that are met within minutes, so that the oldest runs and jobs are removed for most of the time.
const SETTINGS: [&str; 4] = ["workers=2", "log.level=warn", "journal.most=200000", "jobs.most=20000"];

pub fn soak(minutes: f64) -> Done {
    packages::install(&[packages::MARIADB, packages::CHROMIUM, packages::CHROMEDRIVER])?;
    build::console()?;
    let bins = build::programs(true)?;
    let dir = kanzlei_harness::scratch::folder("soak");
    let whole = Whole::start(&bins, &dir, Ports::free()?, &SETTINGS)?;
    deploy(&bins, &whole, &root().join("demo/harbour/services"))?;
    deploy(&bins, &whole, &root().join("testing/bench/workflows"))?;
    let figures = dir.join("soak.json");
    let mut command = Command::new(bins.join("kanzlei-soak"));
    command.args([whole.office.ports.public.to_string(), whole.database.url("kanzlei")]);
    command.args([whole.office.service.id().to_string(), whole.database.id().to_string()]);
    command.arg(minutes.to_string()).arg(&figures);
    let soaked = run(&mut command);
    if figures.exists() {
        let mut picture = Command::new(bins.join("kanzlei-shots"));
        run(picture.args(["series"]).arg(&figures).arg(root().join("docs/soak.png")))?;
    }
    if soaked.is_err() {
        eprintln!("the log of the service ends with:\n{}", whole.office.service.last_words(10));
    }
    whole.stop();
    soaked?;
    let _ = std::fs::remove_dir_all(&dir);
    Ok(ExitCode::SUCCESS)
}
