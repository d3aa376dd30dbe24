//! Diagnostics: what is wrong with a document, where, and what to do about it.
//!
//! A diagnostic is a value; drawing it is the business of whoever shows it. Positions are byte ranges
//! in the document's text, with line and column (both from 1, columns in characters) worked out once.

use serde::{Deserialize, Serialize};

use crate::document::settings::InForce;
use crate::edit::Edit;

/// Whether a finding prevents a deploy.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "lowercase")]
pub enum Severity {
    /// Prevents a deploy.
    Error,
    /// Does not prevent a deploy.
    Warning,
}

/// A finding about a document.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Diagnostic {
    /// A stable name, such as `unknown-key`.
    pub code: String,
    /// Whether it prevents a deploy.
    pub severity: Severity,
    /// Path of the document.
    pub path: String,
    /// Line, counted from 1.
    pub line: u32,
    /// Column in characters, counted from 1.
    pub column: u32,
    /// Byte range in the document.
    pub start: u32,
    /// Byte offset of its end.
    pub end: u32,
    /// What is wrong, in a sentence.
    pub message: String,
    /// What to do about it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[cfg_attr(feature = "schema", schemars(with = "String"))]
    pub help: Option<String>,
    /// Changes of the text that would mend it, each on its own.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub fixes: Vec<Fix>,
}

/// A change of the text that mends a finding.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Fix {
    /// What it does, in a few words: ``write `harbour` ``.
    pub title: String,
    /// The change.
    pub edit: Edit,
}

/// A place in a document, in bytes.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Place {
    /// Byte offset of the start.
    pub start: u32,
    /// Byte offset of the end.
    pub end: u32,
}

impl Place {
    /// Makes a place from byte offsets.
    pub fn new(start: usize, end: usize) -> Self {
        Place { start: start as u32, end: end as u32 }
    }
}

/// Collects the diagnostics of one document.
#[derive(Debug)]
pub struct Report<'s> {
    path: &'s str,
    text: &'s str,
    /// Where each line begins, in bytes.
    lines: Vec<u32>,
    found: Vec<Diagnostic>,
    /// The settings that constants may name; nothing while they are not known.
    settings: Option<&'s InForce>,
    /// Whether a constant named a setting while none were known.
    deferred: bool,
}

/// The most findings that are reported of one document.
const MOST: usize = 200;

impl<'s> Report<'s> {
    /// Starts a report about the document at `path`.
    pub fn new(path: &'s str, text: &'s str) -> Self {
        let breaks = text.bytes().enumerate().filter(|(_, byte)| *byte == b'\n').map(|(at, _)| at as u32 + 1);
        let lines = std::iter::once(0).chain(breaks).collect();
        Report { path, text, lines, found: Vec::new(), settings: None, deferred: false }
    }

    /// Goes on with a report whose first findings were made before, by reading the same text.
    pub fn resume(path: &'s str, text: &'s str, found: Vec<Diagnostic>) -> Self {
        Report { found, ..Report::new(path, text) }
    }

    /// Sets what constants of the document may name as `${settings.NAME}`.
    pub fn with_settings(self, settings: &'s InForce) -> Self {
        Report { settings: Some(settings), ..self }
    }

    /// The settings that constants may name; notes that one did where they are not known yet.
    pub(crate) fn settings(&mut self) -> Option<&'s InForce> {
        self.deferred |= self.settings.is_none();
        self.settings
    }

    /// Whether the document was read without the settings that it names.
    pub fn deferred(&self) -> bool {
        self.deferred
    }

    /// Line and column of a byte position, both from 1; columns count characters.
    pub fn line_and_column(&self, byte: u32) -> (u32, u32) {
        let mut byte = (byte as usize).min(self.text.len());
        while !self.text.is_char_boundary(byte) {
            byte -= 1;
        }
        let line = self.line(byte as u32);
        let begins = self.lines.get(line.saturating_sub(1) as usize).copied().unwrap_or(0) as usize;
        (line, self.text.get(begins..byte).map_or(0, |before| before.chars().count() as u32) + 1)
    }

    /// The line of a byte position, from 1.
    pub fn line(&self, byte: u32) -> u32 {
        self.lines.partition_point(|begin| *begin <= byte) as u32
    }

    /// Returns the text of the document.
    pub fn text(&self) -> &'s str {
        self.text
    }

    /// Adds an error.
    pub fn error(&mut self, code: &str, at: Place, message: impl Into<String>) -> &mut Self {
        self.add(Severity::Error, code, at, message.into())
    }

    /// Adds a warning.
    pub fn warning(&mut self, code: &str, at: Place, message: impl Into<String>) -> &mut Self {
        self.add(Severity::Warning, code, at, message.into())
    }

    /// Adds advice to the latest diagnostic.
    pub fn help(&mut self, help: impl Into<String>) -> &mut Self {
        if let Some(last) = self.found.last_mut() {
            last.help = Some(help.into());
        }
        self
    }

    /// Suggests a known name in place of the text that the latest diagnostic is about.
    pub fn did_you_mean(&mut self, near: &str) -> &mut Self {
        self.did_you_mean_as(near, near)
    }

    /// The same where the name is only a part of that text, which becomes `whole`.
    pub fn did_you_mean_as(&mut self, near: &str, whole: &str) -> &mut Self {
        let place = self.found.last().map(|last| Place { start: last.start, end: last.end });
        self.help(format!("did you mean `{near}`?")).fix(format!("write `{whole}`"), place.unwrap_or_default(), whole)
    }

    /// Adds a change of the text that mends the latest diagnostic.
    pub fn fix(&mut self, title: impl Into<String>, at: Place, text: impl Into<String>) -> &mut Self {
        if let Some(last) = self.found.last_mut() {
            let edit = Edit { start: at.start, end: at.end, text: text.into() };
            last.fixes.push(Fix { title: title.into(), edit });
        }
        self
    }

    fn add(&mut self, severity: Severity, code: &str, at: Place, message: String) -> &mut Self {
        if self.found.len() < MOST {
            let (line, column) = self.line_and_column(at.start);
            self.found.push(Diagnostic {
                code: code.into(),
                severity,
                path: self.path.into(),
                line,
                column,
                start: at.start,
                end: at.end.max(at.start),
                message,
                help: None,
                fixes: Vec::new(),
            });
        }
        self
    }

    /// Whether it holds an error.
    pub fn has_errors(&self) -> bool {
        self.found.iter().any(|d| d.severity == Severity::Error)
    }

    /// The findings in the order of their places.
    pub fn finish(mut self) -> Vec<Diagnostic> {
        self.found.sort_by_key(|d| (d.start, d.severity));
        self.found.dedup();
        self.found
    }
}

/// Line and column of a byte position, both from 1; columns count characters.
pub fn line_and_column(text: &str, byte: usize) -> (u32, u32) {
    let mut byte = byte.min(text.len());
    while !text.is_char_boundary(byte) {
        byte -= 1;
    }
    let before = &text[..byte];
    let line_start = before.rfind('\n').map_or(0, |at| at + 1);
    let line = before.bytes().filter(|b| *b == b'\n').count() as u32 + 1;
    (line, before[line_start..].chars().count() as u32 + 1)
}
