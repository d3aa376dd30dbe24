//! The console is built into the binary. Where it was not built yet, a page says how to.

use std::path::Path;

fn main() {
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
