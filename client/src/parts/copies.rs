//! The copies of parts on disk: written whole or not at all, and compared with the lock.

use std::collections::BTreeSet;
use std::path::{Path, PathBuf};

use super::Files;
use super::lock::{Part, digest};

/// The folder of the copies.
pub const FOLDER: &str = "parts";

/// Where the copies of a part stand.
pub fn folder(root: &Path, name: &str) -> PathBuf {
    root.join(FOLDER).join(name)
}

/// Writes the files of a part in place of those that were there.
pub fn write(root: &Path, name: &str, files: &Files) -> Result<(), String> {
    let target = folder(root, name);
    let fresh = root.join(FOLDER).join(format!(".{name}.new"));
    let old = root.join(FOLDER).join(format!(".{name}.old"));
    let made = || -> std::io::Result<()> {
        let _ = std::fs::remove_dir_all(&fresh);
        for (path, content) in files {
            let at = fresh.join(path);
            if let Some(parent) = at.parent() {
                std::fs::create_dir_all(parent)?;
            }
            std::fs::write(at, content)?;
        }
        let _ = std::fs::remove_dir_all(&old);
        if target.exists() {
            std::fs::rename(&target, &old)?;
        }
        std::fs::rename(&fresh, &target)?;
        let _ = std::fs::remove_dir_all(&old);
        Ok(())
    };
    made().map_err(|error| format!("{} cannot be written: {error}", target.display()))
}

/// Removes the copies of a part.
pub fn remove(root: &Path, name: &str) -> Result<(), String> {
    let target = folder(root, name);
    match std::fs::remove_dir_all(&target) {
        Err(error) if error.kind() != std::io::ErrorKind::NotFound => {
            Err(format!("{} cannot be removed: {error}", target.display()))
        }
        _ => Ok(()),
    }
}

/// How the copies of a part differ from what was taken: `changed`, `missing` or `not from there`, with the path.
pub fn differences(root: &Path, name: &str, part: &Part) -> Vec<(&'static str, String)> {
    let folder = folder(root, name);
    let mut found = Vec::new();
    for (path, wanted) in &part.files {
        let at = folder.join(path);
        // A link in place of a file is not what was taken, wherever it leads.
        let plain = std::fs::symlink_metadata(&at).is_ok_and(|facts| facts.is_file());
        match std::fs::read(&at) {
            Ok(content) if plain && digest(&content) == *wanted => {}
            Ok(_) => found.push(("changed", path.clone())),
            Err(_) => found.push(("missing", path.clone())),
        }
    }
    let known: BTreeSet<&str> = part.files.keys().map(String::as_str).collect();
    let mut open = vec![folder.clone()];
    while let Some(inside) = open.pop() {
        for entry in std::fs::read_dir(&inside).into_iter().flatten().flatten() {
            let at = entry.path();
            match entry.file_type() {
                Ok(of) if of.is_dir() => open.push(at),
                _ => {
                    let path = at.strip_prefix(&folder).unwrap_or(&at).to_string_lossy().into_owned();
                    if !known.contains(path.as_str()) {
                        found.push(("not from there", path));
                    }
                }
            }
        }
    }
    found
}
