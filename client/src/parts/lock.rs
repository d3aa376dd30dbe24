//! The file `kanzlei.lock`: what was taken from where, with the digest of each file. JSON, so that other programs read it too.

use std::collections::BTreeMap;
use std::path::Path;

use kanzlei_lang::document::reader::is_document_name;
use serde::{Deserialize, Serialize};
use sha2::{Digest, Sha256};

use super::Files;
use super::git::Tag;
use super::source::{Source, sound_path};

/// The name of the file, beside the documents.
pub const NAME: &str = "kanzlei.lock";
/// The form of the file.
const FORM: u32 = 1;

/// What was taken.
#[derive(Clone, Debug, Deserialize, Serialize)]
pub struct Lock {
    /// The form of the file.
    pub form: u32,
    /// Parts by name.
    pub parts: BTreeMap<String, Part>,
}

/// One part.
#[derive(Clone, Debug, Deserialize, PartialEq, Serialize)]
pub struct Part {
    /// The address of the repository.
    pub from: String,
    /// The folder in it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub path: Option<String>,
    /// The tag that was asked for.
    pub tag: String,
    /// The commit that the tag named.
    pub commit: String,
    /// What stood under the name of the tag: the commit, or a tag with a message.
    pub object: String,
    /// The SHA-256 of each file, in hexadecimal digits, by its path below the part.
    pub files: BTreeMap<String, String>,
}

impl Part {
    /// What was taken at a commit.
    pub fn of(source: &Source, tag: Tag, files: &Files) -> Self {
        let files = files.iter().map(|(path, content)| (path.clone(), digest(content))).collect();
        let (from, path) = (source.url.clone(), source.path.clone());
        Part { from, path, tag: tag.name, commit: tag.commit, object: tag.object, files }
    }
}

impl Default for Lock {
    fn default() -> Self {
        Lock { form: FORM, parts: BTreeMap::new() }
    }
}

impl Lock {
    /// Reads the lock of a folder; an empty one where there is none.
    pub fn read(folder: &Path) -> Result<Self, String> {
        let path = folder.join(NAME);
        let text = match std::fs::read_to_string(&path) {
            Ok(text) => text,
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => return Ok(Lock::default()),
            Err(error) => return Err(format!("{} cannot be read: {error}", path.display())),
        };
        let lock: Lock =
            serde_json::from_str(&text).map_err(|error| format!("{} cannot be read: {error}", path.display()))?;
        if lock.form != FORM {
            return Err(format!("{} has the form {}, which this version does not know", path.display(), lock.form));
        }
        lock.sound().map_err(|why| format!("{}: {why}", path.display()))?;
        Ok(lock)
    }

    /// Checks names, addresses, tags and paths. The file is under version control, so anyone who proposes a change can write it.
    fn sound(&self) -> Result<(), String> {
        for (name, part) in &self.parts {
            sound_name(name)?;
            let source = Source { url: part.from.clone(), path: part.path.clone(), tag: part.tag.clone() };
            source.sound().map_err(|why| format!("{name}: {why}"))?;
            if let Some(path) = part.files.keys().find(|path| !sound_path(path)) {
                return Err(format!("{name}: `{path}` is no path below a part"));
            }
        }
        Ok(())
    }

    /// Writes the lock of a folder, whole or not at all.
    pub fn write(&self, folder: &Path) -> Result<(), String> {
        let path = folder.join(NAME);
        let text = serde_json::to_string_pretty(self).map_err(|error| error.to_string())?;
        let beside = folder.join(format!(".{NAME}.new"));
        let written = std::fs::write(&beside, text + "\n").and_then(|()| std::fs::rename(&beside, &path));
        written.map_err(|error| format!("{} cannot be written: {error}", path.display()))
    }
}

/// Whether a part can have this name; returns why not.
pub fn sound_name(name: &str) -> Result<(), String> {
    match is_document_name(name) {
        true => Ok(()),
        false => Err(format!("`{name}` cannot be the name of a part: lower-case letters, digits and hyphens")),
    }
}

/// The SHA-256 of a file, in hexadecimal digits.
pub fn digest(content: &[u8]) -> String {
    Sha256::digest(content).iter().map(|byte| format!("{byte:02x}")).collect()
}
