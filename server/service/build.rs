//! The console is built into the binary. Where it was not built yet, a page says how to.
//!
//! A release has its relocations packed and equal functions folded, where the linker of the toolchain can do it: 2.3 and 1.4 MB of the
//! program otherwise, much of which stays in memory.

use std::path::Path;
use std::process::Command;

fn main() {
    console();
    if std::env::var("PROFILE").is_ok_and(|profile| profile == "release") && links_with_lld() {
        println!("cargo:rustc-link-arg-bins=-Wl,-z,pack-relative-relocs,--icf=all");
    }
}

/// Whether the compiler brings its linker with it, and uses it: on this platform it does so unless another is named.
fn links_with_lld() -> bool {
    let var = |name: &str| std::env::var(name).unwrap_or_default();
    if var("TARGET") != "x86_64-unknown-linux-gnu" || !var("RUSTC_LINKER").is_empty() {
        return false;
    }
    let Ok(shown) = Command::new(var("RUSTC")).args(["--print", "sysroot"]).output() else { return false };
    let sysroot = String::from_utf8_lossy(&shown.stdout).trim().to_owned();
    Path::new(&sysroot).join("lib/rustlib/x86_64-unknown-linux-gnu/bin/gcc-ld").is_dir()
}

fn console() {
    let dist = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../console/dist");
    println!("cargo:rerun-if-changed={}", dist.display());
    let index = dist.join("index.html");
    if !index.exists() {
        let page = "<!doctype html><title>Kanzlei</title><p>The console was not built. Run <code>cargo xtask console</code> and build again.";
        if let Err(error) = std::fs::create_dir_all(&dist).and_then(|()| std::fs::write(&index, page)) {
            println!("cargo:warning=the console's folder cannot be made: {error}");
        }
    }
}
