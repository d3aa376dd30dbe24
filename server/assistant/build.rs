//! Embeds the chapters of the handbook.

use std::fmt::Write;
use std::path::{Path, PathBuf};

fn main() {
    let docs = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs");
    println!("cargo::rerun-if-changed={}", docs.display());
    let mut chapters: Vec<PathBuf> = std::fs::read_dir(&docs)
        .into_iter()
        .flatten()
        .flatten()
        .map(|entry| entry.path())
        .filter(|path| path.extension().is_some_and(|end| end == "md"))
        .collect();
    chapters.sort();
    let mut out = String::from("&[\n");
    for path in chapters {
        let name = path.file_stem().unwrap_or_default().to_string_lossy().into_owned();
        let _ = writeln!(out, "    ({name:?}, include_str!({:?})),", path.to_string_lossy());
    }
    out.push(']');
    let target = PathBuf::from(std::env::var("OUT_DIR").unwrap_or_default()).join("chapters.rs");
    if let Err(error) = std::fs::write(&target, out) {
        println!("cargo::error={}: {error}", target.display());
    }
}
