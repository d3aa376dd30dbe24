//! Client libraries of another language: folders of this package with a `client.mjs` and its npm packages.

use std::fs::File;
use std::path::{Path, PathBuf};
use std::process::Command;

/// A folder of this package with its npm packages installed.
///
/// Tests that run at the same time, in one process or in several, share the folder: `npm ci` empties
/// `node_modules` first, so only one installs while the others wait, and the hidden lock file that npm writes
/// last says that the packages are complete.
pub fn folder(name: &str) -> PathBuf {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join(name);
    let lock = File::open(folder.join("package-lock.json")).expect("package-lock.json");
    lock.lock().expect("the lock on package-lock.json");
    if !folder.join("node_modules/.package-lock.json").is_file() {
        let mut install = Command::new("npm");
        install.args(["ci", "--ignore-scripts", "--loglevel", "error", "--no-audit", "--no-fund"]);
        let output = install.current_dir(&folder).output().expect("npm");
        let said = String::from_utf8_lossy(&output.stderr);
        assert!(output.status.success(), "the packages of {name} cannot be installed:\n{said}");
    }
    folder
}
