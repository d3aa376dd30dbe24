//! Compiled `render` and `mail` steps.

use std::sync::Arc;
use std::time::Duration;

use kanzlei_model::value::Str;
use kanzlei_reports::Templates;

use super::Maker;

/// A `render` step.
#[derive(Debug)]
pub struct Render {
    /// The template, with all that it needs.
    pub templates: Arc<Templates>,
    /// The values that it knows.
    pub with: Vec<(Str, Maker)>,
    /// Files that a page may show, by name.
    pub files: Option<Maker>,
    /// The name of the new file.
    pub name: Option<Maker>,
    /// The most pages.
    pub pages: u32,
    /// Timeout.
    pub within: Duration,
}

/// A `mail` step.
#[derive(Debug)]
pub struct Mail {
    /// Its parts, by the names of [`kanzlei_lang::document::keys::MAIL_PARTS`].
    pub parts: Vec<(&'static str, Maker)>,
    /// Timeout.
    pub within: Duration,
}

impl Mail {
    /// A part of the message.
    pub fn part(&self, name: &str) -> Option<&Maker> {
        self.parts.iter().find(|(known, _)| *known == name).map(|(_, maker)| maker)
    }
}
