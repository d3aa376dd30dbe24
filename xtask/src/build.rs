//! Builds the console and the programs.

use std::path::{Path, PathBuf};
use std::process::{Command, ExitCode, Stdio};
use std::time::{Instant, SystemTime};

use crate::{Done, Fault, root, run};

/// The folder the programs are built into: the one this program runs from.
pub fn bins(release: bool) -> Result<PathBuf, Fault> {
    let own = std::env::current_exe()?;
    let target = own.parent().and_then(Path::parent).ok_or("this program lies in no target folder")?;
    Ok(target.join(if release { "release" } else { "debug" }))
}

/// The packages with the programs that the demo starts.
pub const DEMO: &[&str] = &["kanzleid", "kanzlei", "kanzlei-standins"];

/// Builds all programs. The whole workspace, as tests build it: a selection of packages unifies features
/// differently and compiles some of them twice.
pub fn programs(release: bool) -> Result<PathBuf, Fault> {
    build(release, &[])
}

/// Builds what the demo starts, and nothing that only tests need.
pub fn demo(release: bool) -> Result<PathBuf, Fault> {
    build(release, DEMO)
}

/// The programs of a former revision.
pub struct Former {
    pub programs: PathBuf,
    dir: PathBuf,
    tree: PathBuf,
}

impl Drop for Former {
    fn drop(&mut self) {
        let _ = git(&["worktree", "remove", "--force", &self.tree.display().to_string()]);
        let _ = std::fs::remove_dir_all(&self.dir);
    }
}

fn git(args: &[&str]) -> Result<(), Fault> {
    run(Command::new("git").args(args))
}

/// Builds programs of a former revision, each named like its package, apart from the checkout.
pub fn former(revision: &str, release: bool, packages: &[&str]) -> Result<Former, Fault> {
    let dir = kanzlei_harness::scratch::folder("former");
    let (tree, target, programs) = (dir.join("tree"), dir.join("target"), dir.join("programs"));
    std::fs::create_dir_all(&programs)?;
    git(&["worktree", "add", "--quiet", "--detach", &tree.display().to_string(), revision])?;
    // From here on it is removed, whatever fails. A debug build reads its console from the tree.
    let former = Former { programs, dir, tree };
    // It includes the console of the checkout, which nothing here uses.
    run(Command::new("cp").arg("-r").arg(root().join("console/dist")).arg(former.tree.join("console/dist")))?;
    // In a target folder of its own: in a shared one, what was built last counts as what a tree holds.
    let mut build = kanzlei_harness::process::cargo();
    build.args(["build", "--quiet", "--manifest-path"]).arg(former.tree.join("Cargo.toml"));
    packages.iter().for_each(|package| _ = build.args(["--package", package]));
    run(build.args(release.then_some("--release")).env("CARGO_TARGET_DIR", &target))?;
    for program in packages {
        let built = target.join(if release { "release" } else { "debug" }).join(program);
        std::fs::copy(built, former.programs.join(program))?;
    }
    let _ = std::fs::remove_dir_all(&target);
    Ok(former)
}

fn build(release: bool, packages: &[&str]) -> Result<PathBuf, Fault> {
    let bins = bins(release)?;
    let mut command = kanzlei_harness::process::cargo();
    command.args(["build", "--bins"]).env("CARGO_TARGET_DIR", bins.parent().unwrap_or(&bins));
    match packages {
        [] => _ = command.arg("--workspace"),
        packages => packages.iter().for_each(|package| _ = command.args(["--package", package])),
    }
    if release {
        command.arg("--release");
    }
    run(&mut command)?;
    Ok(bins)
}

/// Builds the console when it is older than its sources.
pub fn console() -> Result<(), Fault> {
    let folder = root().join("console");
    let built = modified(&folder.join("dist/assets"));
    let newest = ["src", "index.html", "package-lock.json", "vite.config.ts"]
        .iter()
        .filter_map(|name| newest_below(&folder.join(name)))
        .max();
    if built.is_some() && built >= newest {
        return Ok(());
    }
    packages_of_console()?;
    step("Building the console", Command::new("npm").args(["run", "build", "--silent"]).current_dir(&folder))
}

/// Installs the console's npm packages when the lock file changed.
pub fn packages_of_console() -> Result<(), Fault> {
    let folder = root().join("console");
    let lock = modified(&folder.join("package-lock.json"));
    let installed = modified(&folder.join("node_modules/.package-lock.json"));
    if installed.is_some() && installed >= lock {
        return Ok(());
    }
    step(
        "Installing the console's npm packages",
        Command::new("npm")
            .args(["ci", "--no-audit", "--no-fund", "--ignore-scripts", "--silent"])
            .current_dir(&folder),
    )
}

/// Runs a quiet command with a line that names it and how long it took.
fn step(what: &str, command: &mut Command) -> Result<(), Fault> {
    eprint!("{what} … ");
    let begun = Instant::now();
    let output = command
        .stdin(Stdio::null())
        .output()
        .map_err(|e| format!("{:?}: {e}; is Node.js installed?", command.get_program()))?;
    if !output.status.success() {
        eprintln!("failed");
        return Err(
            format!("{}{}", String::from_utf8_lossy(&output.stdout), String::from_utf8_lossy(&output.stderr)).into()
        );
    }
    eprintln!("{:.1} s", begun.elapsed().as_secs_f64());
    Ok(())
}

fn modified(path: &Path) -> Option<SystemTime> {
    path.metadata().ok()?.modified().ok()
}

fn newest_below(path: &Path) -> Option<SystemTime> {
    if path.is_file() {
        return modified(path);
    }
    std::fs::read_dir(path).ok()?.filter_map(Result::ok).filter_map(|entry| newest_below(&entry.path())).max()
}

/// Writes `server/api/openapi.json` from the types of the control API, and the console's types from it.
pub fn api() -> Done {
    run(kanzlei_harness::process::cargo()
        .args(["test", "--quiet", "--package", "kanzlei-api"])
        .env("KANZLEI_WRITE", "1"))?;
    packages_of_console()?;
    run(Command::new("npm").args(["--prefix", "console", "run", "types", "--silent"]).env("PWD", root()))?;
    Ok(ExitCode::SUCCESS)
}
