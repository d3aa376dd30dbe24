//! `export` and `import`: what is live, into a folder or a ZIP archive, and from there into another installation.

use std::collections::BTreeMap;
use std::io::{Cursor, Read, Write};
use std::path::{Component, Path, PathBuf};

use kanzlei_api::secrets::Secrets;
use kanzlei_api::transfer::{Export, ExportQuery, ExportedSecret, KeptValues};
use kanzlei_compiler::check::Bundle;
use kanzlei_lang::document::{Source, kind_of};
use serde::{Deserialize, Serialize};
use zip::write::SimpleFileOptions;

use super::documents::{How, deploy_bundle};
use super::{listing, print_json, segment};
use crate::api::Api;
use crate::args::{Exporting, Importing};
use crate::{Done, Error, draw};

/// Beside the documents: what is no document.
const MANIFEST: &str = "export.json";
/// The most files and bytes that an import reads.
const MOST_FILES: usize = 5_000;
const MOST_BYTES: u64 = 128 << 20;

/// What is no document of an export.
#[derive(Default, Serialize, Deserialize)]
#[serde(default)]
struct Manifest {
    /// What the workflows remember.
    kept: BTreeMap<String, serde_json::Value>,
    /// Secrets that must be set first.
    secrets: Vec<ExportedSecret>,
}

/// Writes what is live.
pub fn export(api: &Api, args: &Exporting, json: bool) -> Done {
    let (target, names) =
        args.what.split_last().ok_or_else(|| Error::Usage("say where to: a folder or a .zip".into()))?;
    let target = PathBuf::from(target);
    let names = (!names.is_empty()).then(|| names.join(","));
    let export: Export = api.get(&listing("export", &ExportQuery { names, kept: args.kept }))?;
    if export.documents.is_empty() {
        return Err(Error::Failed("nothing is live; there is nothing to export".into()));
    }
    let mut files: BTreeMap<String, String> = export.files.clone();
    files.extend(export.documents.iter().map(|document| (document.path.clone(), document.text.clone())));
    let manifest = Manifest { kept: export.kept.clone(), secrets: export.secrets.clone() };
    let written = serde_json::to_string_pretty(&manifest).unwrap_or_default();
    files.insert(MANIFEST.to_owned(), written + "\n");
    if is_zip(&target) {
        write_zip(&target, &files)?;
    } else {
        write_folder(&target, &files, args.over)?;
    }
    if json {
        print_json(&export);
        return Ok(());
    }
    let mut counts: BTreeMap<&str, usize> = BTreeMap::new();
    export.documents.iter().for_each(|document| *counts.entry(&document.kind).or_default() += 1);
    // `cases` is a plural already.
    let plural = |kind: &str, count: usize| if count == 1 || kind == "cases" { "" } else { "s" };
    let counts = counts.iter().map(|(kind, count)| format!("{count} {kind}{}", plural(kind, *count)));
    let counts: Vec<String> = counts.collect();
    println!("{} {}", draw::bold(&target.display().to_string()), counts.join(", "));
    if args.kept {
        println!("  what {} of the workflows remember", export.kept.len());
    }
    if !export.secrets.is_empty() {
        println!("Secrets are not contained. The other installation sets first:");
        export.secrets.iter().for_each(to_set);
    }
    println!("{}", draw::dim(&format!("To take it over there: kanzlei import {}", target.display())));
    Ok(())
}

fn to_set(secret: &ExportedSecret) {
    let purposes: String = secret.purposes.iter().map(|purpose| format!(" --for {purpose}")).collect();
    println!(
        "  kanzlei secrets set {}{purposes}   {}",
        secret.name,
        draw::dim(&format!("# {}", secret.users.join(", ")))
    );
}

/// Deploys an export, and sets what workflows remember where that is wanted.
pub fn import(api: &Api, args: &Importing, json: bool) -> Done {
    let files = if args.from.is_dir() { read_folder(&args.from)? } else { read_zip(&args.from)? };
    let manifest: Manifest = match files.get(MANIFEST) {
        Some(text) => serde_json::from_str(text).map_err(|error| Error::Failed(format!("{MANIFEST}: {error}")))?,
        None => Manifest::default(),
    };
    let mut bundle = Bundle::default();
    for (path, text) in &files {
        match kind_of(text).filter(|_| path.ends_with(".yaml") || path.ends_with(".yml")) {
            Some(_) => bundle.documents.push(Source::new(path, text.as_str())),
            None if path != MANIFEST => _ = bundle.files.insert(path.clone(), text.clone()),
            None => {}
        }
    }
    if bundle.documents.is_empty() {
        return Err(Error::Usage(format!("{} holds no documents", args.from.display())));
    }
    let known: Secrets = api.get("/secrets")?;
    let missing: Vec<&ExportedSecret> =
        manifest.secrets.iter().filter(|wanted| !known.secrets.iter().any(|known| known.name == wanted.name)).collect();
    if !missing.is_empty() {
        println!("Secrets that this installation must set first:");
        missing.iter().for_each(|secret| to_set(secret));
        return Err(Error::Failed("nothing was imported".into()));
    }
    let how =
        How { unrehearsed: args.unrehearsed, over: false, preview: args.dry_run, set: args.set.clone(), gradual: None };
    deploy_bundle(api, bundle, Vec::new(), &args.from.display().to_string(), &how, json)?;
    if !args.kept || args.dry_run {
        return Ok(());
    }
    for (workflow, values) in &manifest.kept {
        let path = format!("/kept/{}", segment(workflow));
        let here: KeptValues = api.get(&path)?;
        if here.version > 0 {
            eprintln!("{workflow} remembers something here already; left as it is");
            continue;
        }
        api.put(&path, &KeptValues { version: here.version, values: values.clone() })?;
        eprintln!("{workflow} remembers what it did there");
    }
    Ok(())
}

fn is_zip(path: &Path) -> bool {
    path.extension().is_some_and(|extension| extension.eq_ignore_ascii_case("zip"))
}

fn failed(path: &Path, error: impl std::fmt::Display) -> Error {
    Error::Failed(format!("{}: {error}", path.display()))
}

fn write_zip(target: &Path, files: &BTreeMap<String, String>) -> Done {
    let mut archive = zip::ZipWriter::new(Cursor::new(Vec::new()));
    for (path, text) in files {
        archive.start_file(path.as_str(), SimpleFileOptions::default()).map_err(|error| failed(target, error))?;
        archive.write_all(text.as_bytes()).map_err(|error| failed(target, error))?;
    }
    let bytes = archive.finish().map_err(|error| failed(target, error))?.into_inner();
    std::fs::write(target, bytes).map_err(|error| failed(target, error))
}

/// Writes files below a folder, which must be new or empty.
fn write_folder(target: &Path, files: &BTreeMap<String, String>, over: bool) -> Done {
    let full = std::fs::read_dir(target).is_ok_and(|mut entries| entries.next().is_some());
    if full && !over {
        return Err(Error::Usage(format!("{} is not empty; name another folder, or add --over", target.display())));
    }
    for (path, text) in files {
        let file = target.join(inside(path)?);
        if let Some(folder) = file.parent() {
            std::fs::create_dir_all(folder).map_err(|error| failed(folder, error))?;
        }
        std::fs::write(&file, text).map_err(|error| failed(&file, error))?;
    }
    Ok(())
}

/// A relative path that leads nowhere else.
fn inside(path: &str) -> Result<PathBuf, Error> {
    let path = Path::new(path);
    match path.components().all(|component| matches!(component, Component::Normal(_))) {
        true => Ok(path.to_owned()),
        false => Err(Error::Failed(format!("{} leads out of the folder", path.display()))),
    }
}

fn read_zip(from: &Path) -> Result<BTreeMap<String, String>, Error> {
    let bytes = std::fs::read(from).map_err(|error| Error::Usage(format!("{}: {error}", from.display())))?;
    let mut archive = zip::ZipArchive::new(Cursor::new(bytes)).map_err(|error| failed(from, error))?;
    if archive.len() > MOST_FILES {
        return Err(failed(from, format!("{} files; at most {MOST_FILES} are read", archive.len())));
    }
    let (mut files, mut left) = (BTreeMap::new(), MOST_BYTES);
    for index in 0..archive.len() {
        let entry = archive.by_index(index).map_err(|error| failed(from, error))?;
        if entry.is_dir() {
            continue;
        }
        let name = entry.name().map_err(|error| failed(from, error))?.into_owned();
        inside(&name)?;
        let mut text = String::new();
        // What is packed small may be large: what it says of itself does not count.
        entry.take(left + 1).read_to_string(&mut text).map_err(|error| failed(from, format!("{name}: {error}")))?;
        left = left.checked_sub(text.len() as u64).ok_or_else(|| failed(from, too_large()))?;
        files.insert(name, text);
    }
    Ok(files)
}

fn too_large() -> String {
    format!("more than {} MiB", MOST_BYTES >> 20)
}

fn read_folder(from: &Path) -> Result<BTreeMap<String, String>, Error> {
    let (mut files, mut open, mut bytes) = (BTreeMap::new(), vec![from.to_owned()], 0);
    while let Some(folder) = open.pop() {
        for entry in std::fs::read_dir(&folder).map_err(|error| failed(&folder, error))?.filter_map(Result::ok) {
            let path = entry.path();
            if entry.file_name().to_string_lossy().starts_with('.') || path.is_symlink() {
                continue;
            }
            if path.is_dir() {
                open.push(path);
                continue;
            }
            bytes += entry.metadata().map_or(0, |about| about.len());
            if bytes > MOST_BYTES {
                return Err(failed(from, too_large()));
            }
            if files.len() >= MOST_FILES {
                return Err(failed(from, format!("more than {MOST_FILES} files")));
            }
            // What is no text is nothing that documents name.
            if let Ok(text) = std::fs::read_to_string(&path) {
                let name = path.strip_prefix(from).unwrap_or(&path).to_string_lossy().replace('\\', "/");
                files.insert(name, text);
            }
        }
    }
    Ok(files)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn archives_are_read_as_they_were_written_and_lead_nowhere_else() {
        let file = std::env::temp_dir().join(format!("kanzlei-transfer-{}.zip", std::process::id()));
        let files = BTreeMap::from([("workflows/å.yaml".to_owned(), "workflow: a\n".repeat(2_000))]);
        write_zip(&file, &files).expect("written");
        assert!(std::fs::metadata(&file).expect("a file").len() < 2_000);
        assert_eq!(read_zip(&file).expect("read"), files);
        for path in ["../a.yaml", "/etc/a.yaml", "a/../../b.yaml"] {
            assert!(inside(path).is_err(), "{path}");
            write_zip(&file, &BTreeMap::from([(path.to_owned(), String::new())])).expect("written");
            assert!(read_zip(&file).is_err(), "{path}");
        }
        std::fs::remove_file(file).expect("removed");
    }
}
