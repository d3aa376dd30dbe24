//! Documents from files and folders, as a bundle.

use std::path::{Path, PathBuf};

use kanzlei_compiler::beside;
use kanzlei_compiler::check::{Bundle, relative};
use kanzlei_lang::diagnostic::Report;
use kanzlei_lang::document::{self, Source};

use crate::Error;

/// The most files read below the given folders.
const MOST_FILES: usize = 20_000;

/// Reads documents. Folders are searched; for single files the services and workflows of the folder they
/// belong to come along as context.
pub fn bundle(paths: &[PathBuf]) -> Result<Bundle, Error> {
    let mut bundle = Bundle::default();
    let mut files = Vec::new();
    for path in paths {
        if path.is_dir() {
            search(path, &mut files)?;
        } else {
            let text = read(path)?;
            if document::kind_of(&text).is_none() {
                // Not one of ours by its first key: the checker says so at its place.
                bundle.documents.push(Source::new(name(path), text));
                continue;
            }
            files.push(path.clone());
            if let Some(office) = office(path) {
                let mut beside = Vec::new();
                search(&office, &mut beside)?;
                for file in beside {
                    let text = read(&file)?;
                    if document::kind_of(&text).is_some_and(|kind| kind != "cases") {
                        add_named_file(&mut bundle, &file, &text);
                        bundle.context.push(Source::new(name(&file), text));
                    }
                }
            }
        }
    }
    files.sort();
    files.dedup();
    for file in files {
        let text = read(&file)?;
        if document::kind_of(&text).is_some() {
            add_named_file(&mut bundle, &file, &text);
            bundle.documents.push(Source::new(name(&file), text));
        }
    }
    let given: Vec<String> = bundle.documents.iter().map(|d| d.path.clone()).collect();
    bundle.context.retain(|source| !given.contains(&source.path));
    if bundle.documents.is_empty() {
        let shown: Vec<_> = paths.iter().map(|p| p.display().to_string()).collect();
        return Err(Error::Usage(format!(
            "no documents in {}; they are .yaml files that begin with their kind: `workflow:`, `service:`, `lane:`, `settings:` or `cases:`",
            shown.join(", ")
        )));
    }
    Ok(bundle)
}

/// The texts of a folder of documents, with the files they name, by their paths; what cannot be read is left out.
pub fn texts_below(folder: &Path) -> Vec<(String, String)> {
    let mut files = Vec::new();
    if search(folder, &mut files).is_err() {
        return Vec::new();
    }
    files.sort();
    let mut bundle = Bundle::default();
    let mut texts = Vec::new();
    for file in files {
        let Ok(text) = read(&file) else { continue };
        if document::kind_of(&text).is_some() {
            add_named_file(&mut bundle, &file, &text);
            texts.push((name(&file), text));
        }
    }
    texts.extend(bundle.files);
    texts
}

/// The folder that holds all documents a file belongs together with.
pub fn folder_of(file: &Path) -> PathBuf {
    office(file).unwrap_or_else(|| match file.parent() {
        Some(folder) if folder != Path::new("") => folder.to_path_buf(),
        _ => PathBuf::from("."),
    })
}

pub fn name(path: &Path) -> String {
    path.strip_prefix(".").unwrap_or(path).to_string_lossy().into_owned()
}

fn read(path: &Path) -> Result<String, Error> {
    let bytes = std::fs::read(path).map_err(|error| Error::Usage(format!("{}: {error}", path.display())))?;
    String::from_utf8(bytes).map_err(|_| Error::Failed(format!("{} is not UTF-8", path.display())))
}

fn search(folder: &Path, files: &mut Vec<PathBuf>) -> Result<(), Error> {
    let entries = std::fs::read_dir(folder).map_err(|error| Error::Usage(format!("{}: {error}", folder.display())))?;
    for entry in entries.filter_map(Result::ok) {
        let path = entry.path();
        let hidden = entry.file_name().to_string_lossy().starts_with('.');
        if path.is_dir() && !hidden && !path.is_symlink() {
            search(&path, files)?;
        } else if path.extension().is_some_and(|e| e == "yaml" || e == "yml") && !hidden {
            files.push(path);
        }
        if files.len() > MOST_FILES {
            return Err(Error::Usage(format!("more than {MOST_FILES} files below {}", folder.display())));
        }
    }
    Ok(())
}

/// The folder that a file belongs to: the nearest one upwards that has a folder `services`.
fn office(file: &Path) -> Option<PathBuf> {
    let file = std::path::absolute(file).ok()?;
    let here = std::env::current_dir().ok()?;
    let found = file.ancestors().skip(1).find(|dir| dir.join("services").is_dir())?;
    match found.strip_prefix(&here) {
        Ok(own) if own == Path::new("") => Some(PathBuf::from(".")),
        Ok(below) => Some(below.to_path_buf()),
        Err(_) => Some(found.to_path_buf()),
    }
}

/// Takes along the files a document names.
fn add_named_file(bundle: &mut Bundle, document: &Path, text: &str) {
    let path = name(document);
    let mut report = Report::new(&path, text);
    let Some(root) = document::yaml::parse(&mut report) else { return };
    let Some(folder) = document.parent() else { return };
    let read = |named: &str, below: &Path| {
        let file = folder.join(named);
        stays_inside(document, below, &file).then(|| std::fs::read_to_string(&file).ok()).flatten()
    };
    for (named, content) in beside::files(&root, &|named| read(named, folder)) {
        bundle.files.insert(relative(&path, &named), content);
    }
    // Seeds are shared by folders of cases that lie beside each other.
    for named in document::cases::seed_files(&root).into_iter().filter(|named| named.ends_with(".sql")) {
        if let Some(content) = read(named, &folder.join("..")) {
            bundle.files.insert(relative(&path, named), content);
        }
    }
}

/// Whether a file that a document names lies in the folder of documents that the document belongs to, or else below
/// `root`: a document from elsewhere must not have other files of this machine sent to a service. Links are followed.
fn stays_inside(document: &Path, root: &Path, named: &Path) -> bool {
    let real = |path: &Path| Path::new(".").join(path).canonicalize();
    let inside = |root: &Path| real(root).is_ok_and(|root| real(named).is_ok_and(|named| named.starts_with(root)));
    // What is not there is reported as missing.
    office(document).is_some_and(|office| inside(&office)) || inside(root)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn folders_and_files_become_bundles() {
        let dir = std::env::temp_dir().join(format!("kanzlei-files-{}", std::process::id()));
        for folder in ["office/services", "office/workflows/deep", "office/.hidden"] {
            std::fs::create_dir_all(dir.join(folder)).expect("folder");
        }
        for (file, text) in [
            ("office/services/s.yaml", "service: s\nbase: http://s\nopenapi: s.openapi.yaml\n"),
            ("office/services/s.openapi.yaml", "openapi: 3.1.0\n"),
            ("office/workflows/deep/w.yaml", "# first\nworkflow: w\n"),
            ("office/workflows/notes.yaml", "just: notes\n"),
            ("office/.hidden/h.yaml", "workflow: h\n"),
        ] {
            std::fs::write(dir.join(file), text).expect("file");
        }
        let names = |bundle: &Bundle| {
            bundle.documents.iter().map(|d| d.path.rsplit('/').next().unwrap_or("").to_owned()).collect::<Vec<_>>()
        };
        let whole = bundle(&[dir.join("office")]).expect("bundle");
        assert_eq!(
            (names(&whole), whole.files.len(), whole.context.len()),
            (vec!["s.yaml".into(), "w.yaml".into()], 1, 0)
        );
        let one = bundle(&[dir.join("office/workflows/deep/w.yaml")]).expect("bundle");
        assert_eq!(
            (names(&one), one.files.len(), one.context.len()),
            (vec!["w.yaml".into()], 1, 1),
            "the services come along"
        );
        assert!(matches!(bundle(&[dir.join("office/.hidden/none")]), Err(Error::Usage(_))));
        std::fs::write(dir.join("key.yaml"), "a key").expect("file");
        std::fs::write(dir.join("seed.sql"), "SELECT 1").expect("file");
        std::os::unix::fs::symlink(dir.join("key.yaml"), dir.join("office/services/link.yaml")).expect("a link");
        for (named, found) in [
            ("s.openapi.yaml", true),
            ("../services/s.openapi.yaml", true),
            ("../workflows/notes.yaml", true),
            ("../../key.yaml", false),
            ("link.yaml", false),
            ("/etc/passwd", false),
            ("../workflows/../../key.yaml", false),
        ] {
            let text = format!("service: s\nbase: http://s\nopenapi: {named}\n");
            std::fs::write(dir.join("office/services/s.yaml"), text).expect("file");
            let files = bundle(&[dir.join("office")]).expect("bundle").files.len();
            assert_eq!(files == 1, found, "{named}");
        }
        for (named, found) in [("../../seed.sql", false), ("../seed.sql", true), ("../key.yaml", false)] {
            let text = format!("cases: w\ndatabases: {{d: {named}}}\n");
            let file = if named == "../seed.sql" { "cases/c.yaml" } else { "office/workflows/c.yaml" };
            std::fs::create_dir_all(dir.join("cases")).expect("folder");
            std::fs::write(dir.join(file), text).expect("file");
            assert_eq!(
                bundle(&[dir.join(file)]).expect("bundle").files.contains_key(&relative(&name(&dir.join(file)), named)),
                found,
                "{named}"
            );
        }
        let _ = std::fs::remove_dir_all(dir);
    }
}
