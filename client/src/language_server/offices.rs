//! The documents an editor works on: those that are open as it has them, all others as they are on disk.
//!
//! Documents that belong together are one office: the nearest folder above them that has a folder `services`, or else the
//! folder they lie in. An office is read when its first document is opened.

use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};

use kanzlei_analysis::Workspace;
use lsp_types::{TextDocumentContentChangeEvent, Uri};

use super::position::{self, Encoding};
use crate::files;

pub(super) struct Offices {
    pub encoding: Encoding,
    all: BTreeMap<PathBuf, Workspace>,
    open: BTreeSet<PathBuf>,
}

/// A document that is open, with those around it.
pub(super) struct Place<'o> {
    pub workspace: &'o Workspace,
    pub path: String,
    pub encoding: Encoding,
}

impl Place<'_> {
    pub fn text(&self) -> &str {
        self.workspace.text(&self.path).unwrap_or_default()
    }
}

impl Offices {
    pub fn new(encoding: Encoding) -> Self {
        Offices { encoding, all: BTreeMap::new(), open: BTreeSet::new() }
    }

    /// The office of a file; it is read from disk where it is not known yet.
    fn office(&mut self, file: &Path) -> &mut Workspace {
        let root = root_of(file);
        self.all.entry(root).or_insert_with_key(|root| Workspace::of(files::texts_below(root)))
    }

    pub fn open(&mut self, uri: &Uri, text: String) {
        let Some(file) = path_of(uri) else { return };
        self.office(&file).set(&file.to_string_lossy(), &text);
        self.open.insert(file);
    }

    pub fn change(&mut self, uri: &Uri, changes: Vec<TextDocumentContentChangeEvent>) {
        let Some(file) = path_of(uri) else { return };
        let encoding = self.encoding;
        let workspace = self.office(&file);
        let name = file.to_string_lossy();
        let mut text = workspace.text(&name).unwrap_or_default().to_owned();
        for change in changes {
            match change.range {
                None => text = change.text,
                Some(range) => {
                    let start = position::byte(&text, range.start, encoding);
                    let end = position::byte(&text, range.end, encoding).max(start);
                    text.replace_range(start..end, &change.text);
                }
            }
        }
        workspace.set(&name, &text);
    }

    pub fn close(&mut self, uri: &Uri) {
        let Some(file) = path_of(uri) else { return };
        self.open.remove(&file);
        self.reread(uri);
    }

    /// Reads a file from disk again, unless an editor has it open.
    pub fn reread(&mut self, uri: &Uri) {
        let Some(file) = path_of(uri).filter(|file| !self.open.contains(file)) else { return };
        let name = file.to_string_lossy().into_owned();
        let workspace = self.office(&file);
        match std::fs::read_to_string(&file) {
            Ok(text) => workspace.set(&name, &text),
            Err(_) => workspace.remove(&name),
        }
    }

    /// A document with those around it.
    pub fn place(&mut self, uri: &Uri) -> Option<Place<'_>> {
        let file = path_of(uri)?;
        let encoding = self.encoding;
        let workspace = &*self.office(&file);
        Some(Place { workspace, path: file.to_string_lossy().into_owned(), encoding })
    }
}

fn root_of(file: &Path) -> PathBuf {
    let found = file.ancestors().skip(1).find(|folder| folder.join("services").is_dir());
    found.or(file.parent()).unwrap_or(file).to_path_buf()
}

/// The file of a `file` URI.
pub(super) fn path_of(uri: &Uri) -> Option<PathBuf> {
    let rest = uri.as_str().strip_prefix("file://")?;
    let path = &rest[rest.find('/')?..];
    Some(PathBuf::from(percent_encoding::percent_decode_str(path).decode_utf8().ok()?.into_owned()))
}

/// The `file` URI of a path.
pub(super) fn uri_of(path: &str) -> Option<Uri> {
    const KEPT: &percent_encoding::AsciiSet =
        &percent_encoding::NON_ALPHANUMERIC.remove(b'/').remove(b'-').remove(b'.').remove(b'_').remove(b'~');
    format!("file://{}", percent_encoding::utf8_percent_encode(path, KEPT)).parse().ok()
}
