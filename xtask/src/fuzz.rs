//! Runs the fuzz targets: built with coverage marks on the stable compiler, begun with the demo's
//! documents, with the corpus of the checkout and with what earlier runs found, ended by time.

use std::path::Path;
use std::process::{Command, ExitCode};

use crate::{Done, root, run};

pub const TARGETS: &[&str] = &["documents", "expressions", "scripts", "openapi", "cases", "editing", "public"];

/// Compiler flags that put libFuzzer's coverage marks in.
const FLAGS: &str = "-Cpasses=sancov-module -Cllvm-args=-sanitizer-coverage-level=3 \
     -Cllvm-args=-sanitizer-coverage-inline-8bit-counters -Cllvm-args=-sanitizer-coverage-pc-table \
     -Cllvm-args=-sanitizer-coverage-trace-compares --cfg fuzzing";

pub fn fuzz(target: &str, minutes: u64) -> Done {
    if !TARGETS.contains(&target) {
        return Err(format!("there is no fuzz target `{target}`; targets: {}", TARGETS.join(", ")).into());
    }
    let fuzz = root().join("fuzz");
    let built = target_dir();
    let features = if target == "public" { "service" } else { "" };
    run(kanzlei_harness::process::cargo()
        .args(["build", "--release", "--manifest-path", "fuzz/Cargo.toml", "--bin", target, "--target", host()])
        .args(["--features", features])
        .env("CARGO_TARGET_DIR", &built)
        .env("RUSTFLAGS", FLAGS))?;
    let corpus = std::env::temp_dir().join(format!("kanzlei-fuzz-{target}"));
    std::fs::create_dir_all(&corpus)?;
    seed(target, &corpus)?;
    let findings = fuzz.join("findings").join(target);
    std::fs::create_dir_all(&findings)?;
    let program = Path::new(&built).join(host()).join("release").join(target);
    let before = processor_time_of_children();
    let status = Command::new(program)
        .arg(&corpus)
        .arg(&findings)
        .arg(format!("-max_total_time={}", minutes * 60))
        // Time and memory are findings like panics are.
        .args(["-timeout=5", "-rss_limit_mb=1024", "-malloc_limit_mb=256", "-max_len=6000", "-print_final_stats=1"])
        .arg(format!("-artifact_prefix={}/", findings.display()))
        .status()?;
    println!("{:.1} minutes of the processor", (processor_time_of_children() - before) / 60.0);
    Ok(if status.success() { ExitCode::SUCCESS } else { ExitCode::FAILURE })
}

/// Seconds of processor time of processes that were started here and have ended (proc(5)).
fn processor_time_of_children() -> f64 {
    let stat = std::fs::read_to_string("/proc/self/stat").unwrap_or_default();
    let fields = stat.rsplit_once(") ").map_or("", |(_, rest)| rest).split(' ').skip(13).take(2);
    fields.filter_map(|field| field.parse::<f64>().ok()).sum::<f64>() / 100.0
}

/// Real documents to begin from.
fn seed(target: &str, corpus: &Path) -> Result<(), Box<dyn std::error::Error>> {
    copy(&root().join("fuzz/corpus").join(target), corpus)?;
    let demo = root().join("demo/harbour");
    let folder = match target {
        "documents" | "editing" => {
            for folder in ["lanes", "allowances", "alerts", "issuers", "settings", "databases", "libraries"] {
                copy(&demo.join(folder), corpus)?;
            }
            demo.join("workflows")
        }
        "openapi" => demo.join("services"),
        "cases" => demo.join("cases"),
        // Requests are made of choices; none is a text.
        "public" => return Ok(()),
        _ => {
            let written = root().join(format!("core/lang/tests/differential/{target}.txt"));
            let written = std::fs::read_to_string(written)?;
            let between = if target == "scripts" { "\n---\n" } else { "\n" };
            for (index, line) in written.split(between).filter(|line| !line.trim().is_empty()).enumerate() {
                std::fs::write(corpus.join(format!("seed-{index}")), line)?;
            }
            return Ok(());
        }
    };
    copy(&folder, corpus)
}

/// Copies the files of a folder, where there is one.
fn copy(folder: &Path, corpus: &Path) -> Result<(), Box<dyn std::error::Error>> {
    if !folder.is_dir() {
        return Ok(());
    }
    for entry in std::fs::read_dir(folder)? {
        let path = entry?.path();
        if let Some(name) = path.file_name().filter(|_| path.is_file()) {
            std::fs::copy(&path, corpus.join(name))?;
        }
    }
    Ok(())
}

/// Checks that the targets still fit the core, without the marks; fuzzing itself takes minutes.
pub fn check() -> Result<(), crate::Fault> {
    run(kanzlei_harness::process::cargo()
        .args(["check", "--quiet", "--all-features", "--manifest-path", "fuzz/Cargo.toml"])
        .env("CARGO_TARGET_DIR", target_dir()))
}

fn target_dir() -> String {
    std::env::var("CARGO_TARGET_DIR").unwrap_or_else(|_| "target".into()) + "-fuzz"
}

fn host() -> &'static str {
    match std::env::consts::ARCH {
        "aarch64" => "aarch64-unknown-linux-gnu",
        _ => "x86_64-unknown-linux-gnu",
    }
}
