//! Embeds the documents of the demo office and of the gallery, by their paths.

use std::fmt::Write;
use std::path::{Path, PathBuf};

fn main() {
    let demo = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo");
    let mut out = String::from("&[\n");
    for (name, folders) in [
        (
            "harbour",
            &[
                "services",
                "lanes",
                "allowances",
                "alerts",
                "issuers",
                "settings",
                "databases",
                "libraries",
                "workflows",
                "cases",
                "seed",
            ][..],
        ),
        ("gallery", &["workflows", "cases"]),
    ] {
        for folder in folders {
            let root = demo.join(name);
            println!("cargo::rerun-if-changed={}", root.join(folder).display());
            let mut files = Vec::new();
            below(&root.join(folder), &mut files);
            files.sort();
            for file in files {
                let Ok(path) = file.strip_prefix(&root) else { continue };
                let shown = path.to_string_lossy().replace('\\', "/");
                let _ = writeln!(out, "    ({shown:?}, include_str!({:?})),", file.to_string_lossy());
            }
        }
    }
    out.push(']');
    let target = PathBuf::from(std::env::var("OUT_DIR").unwrap_or_default()).join("texts.rs");
    if let Err(error) = std::fs::write(&target, out) {
        println!("cargo::error={}: {error}", target.display());
    }
}

fn below(folder: &Path, files: &mut Vec<PathBuf>) {
    for entry in std::fs::read_dir(folder).into_iter().flatten().flatten() {
        let path = entry.path();
        if path.is_dir() {
            below(&path, files);
        } else if ["yaml", "html", "csv", "txt", "sql", "json", "css", "svg"]
            .iter()
            .any(|end| path.extension().is_some_and(|e| e == *end))
        {
            files.push(path);
        }
    }
}
