//! The texts that belong together, each read once.

use std::collections::BTreeMap;
use std::sync::Arc;

use kanzlei_compiler::check::watch::Question;
use kanzlei_compiler::check::{Bundle, Checked, Known, Parsed, examine, relative};
use kanzlei_lang::diagnostic::Diagnostic;
use kanzlei_lang::document::{self, Document, Source};

/// Documents and the files they name, by path. A text that is set replaces the one before; what was read of the others
/// is kept.
#[derive(Clone, Debug, Default)]
pub struct Workspace {
    documents: BTreeMap<String, Entry>,
    files: BTreeMap<String, String>,
    /// What the service has that will run them; nothing offline.
    pub known: Option<Known>,
}

#[derive(Clone, Debug)]
struct Entry {
    source: Arc<Source>,
    parsed: Arc<Parsed>,
}

/// One document that is read in place of the workspace's own.
pub(crate) struct Instead<'a> {
    pub path: &'a str,
    pub text: &'a str,
}

impl Workspace {
    /// A workspace of texts by path; what is no document is a file that documents name.
    pub fn of(texts: impl IntoIterator<Item = (String, String)>) -> Self {
        let mut workspace = Workspace::default();
        let (documents, files): (Vec<_>, Vec<_>) =
            texts.into_iter().partition(|(_, text)| document::kind_of(text).is_some());
        workspace.files.extend(files);
        for (path, text) in documents {
            workspace.set(&path, &text);
        }
        workspace
    }

    /// Sets the text of a document or file.
    pub fn set(&mut self, path: &str, text: &str) {
        let is_document = document::kind_of(text).is_some() || self.documents.contains_key(path);
        match is_document && !self.files.contains_key(path) {
            true => self.set_document(path, text),
            false => self.set_file(path, text),
        }
    }

    /// Sets the text of a document, whether or not it says that it is one.
    pub fn set_document(&mut self, path: &str, text: &str) {
        let source = Arc::new(Source::new(path, text));
        let parsed = Arc::new(Parsed::of(&source, &self.files));
        self.documents.insert(path.to_owned(), Entry { source, parsed });
    }

    /// Sets the text of a file that documents name.
    pub fn set_file(&mut self, path: &str, text: &str) {
        if self.files.get(path).is_none_or(|before| before != text) {
            self.files.insert(path.to_owned(), text.to_owned());
            self.read_again(path);
        }
    }

    /// Removes a text.
    pub fn remove(&mut self, path: &str) {
        self.documents.remove(path);
        if self.files.remove(path).is_some() {
            self.read_again(path);
        }
    }

    /// Reads the documents again that name a file.
    fn read_again(&mut self, file: &str) {
        let files = &self.files;
        for entry in self.documents.values_mut() {
            let named = match &entry.parsed.document {
                Some(
                    Document::Workflow(_)
                    | Document::Lane(_)
                    | Document::Allowance(_)
                    | Document::Alert(_)
                    | Document::Issuer(_)
                    | Document::Library(_)
                    | Document::Database(_),
                ) => false,
                Some(Document::Settings(settings)) => {
                    relative(&entry.source.path, &format!("{}.values.json", settings.name.text)) == file
                }
                _ => entry.source.text.lines().any(|line| {
                    line.split_once(':').is_some_and(|(_, name)| {
                        relative(&entry.source.path, name.trim().trim_matches(['"', '\''])) == file
                    })
                }),
            };
            if named {
                entry.parsed = Arc::new(Parsed::of(&entry.source, files));
            }
        }
    }

    /// Returns the text of a document or file.
    pub fn text(&self, path: &str) -> Option<&str> {
        let document = self.documents.get(path).map(|entry| entry.source.text.as_str());
        document.or_else(|| self.files.get(path).map(String::as_str))
    }

    /// Returns the paths of the documents.
    pub fn paths(&self) -> impl Iterator<Item = &str> {
        self.documents.keys().map(String::as_str)
    }

    /// Returns the paths of the files that are no documents.
    pub fn files(&self) -> impl Iterator<Item = &str> {
        self.files.keys().map(String::as_str)
    }

    /// Returns a document as it was read, with its path.
    pub(crate) fn documents(&self) -> impl Iterator<Item = (&str, &str, &Document)> {
        self.documents.values().filter_map(|entry| {
            Some((entry.source.path.as_str(), entry.source.text.as_str(), entry.parsed.document.as_ref()?))
        })
    }

    pub(crate) fn document(&self, path: &str) -> Option<&Document> {
        self.documents.get(path)?.parsed.document.as_ref()
    }

    /// The place of a document among the sources of [`Workspace::examine`].
    pub(crate) fn index(&self, path: &str) -> Option<usize> {
        self.documents.keys().position(|known| known == path)
    }

    /// Checks the documents, one of them perhaps with another text.
    pub(crate) fn examine(&self, instead: Option<Instead>, question: Question) -> Checked {
        let changed = instead.map(|instead| {
            let source = Source::new(instead.path, instead.text);
            let parsed = Parsed::of(&source, &self.files);
            (source, parsed)
        });
        let pick = |entry: &'_ Entry| changed.as_ref().is_some_and(|(source, _)| source.path == entry.source.path);
        let mut sources: Vec<&Source> = Vec::with_capacity(self.documents.len());
        let mut parsed: Vec<&Parsed> = Vec::with_capacity(self.documents.len());
        for entry in self.documents.values() {
            match &changed {
                Some((source, read)) if pick(entry) => {
                    sources.push(source);
                    parsed.push(read);
                }
                _ => {
                    sources.push(&entry.source);
                    parsed.push(&entry.parsed);
                }
            }
        }
        examine(&sources, &parsed, sources.len(), &self.files, self.known.as_ref(), question)
    }

    /// The findings of one document: of a workflow with what it invokes, of cases with the workflow they are for.
    pub fn diagnostics(&self, path: &str) -> Vec<Diagnostic> {
        let Some(index) = self.index(path) else { return Vec::new() };
        match self.document(path) {
            Some(Document::Cases(cases)) => {
                let of = |(_, _, document): &(&str, &str, &Document)| matches!(document, Document::Workflow(workflow) if workflow.name.text == cases.workflow.text);
                let workflow = self.documents().find(of).map(|(path, ..)| path.to_owned());
                let wanted = workflow.and_then(|path| self.index(&path)).unwrap_or(index);
                let mut checked = self.examine(None, Question { only: Some(wanted), ..Question::default() });
                let entry = &self.documents[path];
                checked.diagnostics = entry.parsed.findings.clone();
                let (_, found) = kanzlei_rehearsal::prepare_cases(&entry.source, cases, &checked);
                checked.diagnostics.extend(found);
                checked.diagnostics
            }
            _ => self.examine(None, Question { only: Some(index), ..Question::default() }).diagnostics,
        }
    }

    /// The findings of all documents, in the order of their paths and places.
    pub fn all_diagnostics(&self) -> Vec<Diagnostic> {
        kanzlei_rehearsal::check(&self.bundle()).0.diagnostics
    }

    /// The workspace as a bundle, to be checked or deployed.
    pub fn bundle(&self) -> Bundle {
        Bundle {
            documents: self.documents.values().map(|entry| (*entry.source).clone()).collect(),
            files: self.files.clone(),
            known: self.known.clone(),
            ..Bundle::default()
        }
    }
}
