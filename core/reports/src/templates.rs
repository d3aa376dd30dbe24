//! A template with all that it needs, parsed.

use std::collections::BTreeMap;
use std::fmt;

use kanzlei_model::value::Value;
use minijinja::{AutoEscape, Environment, UndefinedBehavior};

use crate::names::{self, Mention, beside, closure};
use crate::{FUEL, chart, fill};

/// What a template makes; it decides how values are escaped.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Format {
    /// A page: `&`, `<`, `>` and quotes are escaped.
    Html,
    /// Nothing is escaped.
    Text,
    /// A page that is printed.
    Pdf,
    /// Fields of lines (RFC 4180): quoted where they need to be, and no formulas of spreadsheets.
    Csv,
}

impl Format {
    /// All of them with their words.
    pub const ALL: [(Format, &str); 4] =
        [(Format::Html, "html"), (Format::Text, "text"), (Format::Pdf, "pdf"), (Format::Csv, "csv")];

    /// The word of documents.
    pub fn word(self) -> &'static str {
        Self::ALL.iter().find(|(format, _)| *format == self).map_or("", |(_, word)| *word)
    }

    /// The media type of the file.
    pub fn media(self) -> &'static str {
        match self {
            Format::Html => "text/html",
            Format::Text => "text/plain",
            Format::Pdf => "application/pdf",
            Format::Csv => "text/csv",
        }
    }

    /// The ending of its name.
    pub fn ending(self) -> &'static str {
        match self {
            Format::Html => "html",
            Format::Text => "txt",
            Format::Pdf => "pdf",
            Format::Csv => "csv",
        }
    }
}

/// What is wrong with a template, or with filling it.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub struct Fault {
    /// The template; nothing where it concerns all of them.
    pub template: Option<String>,
    /// The line in it.
    pub line: Option<usize>,
    /// What is wrong.
    pub message: String,
}

impl Fault {
    pub(crate) fn plain(message: String) -> Self {
        Fault { template: None, line: None, message }
    }

    pub(crate) fn of(error: &minijinja::Error) -> Self {
        use std::error::Error;
        // The innermost error says what is wrong, and where.
        let mut inner = error;
        while let Some(next) = inner.source().and_then(|source| source.downcast_ref::<minijinja::Error>()) {
            inner = next;
        }
        let kind = inner.kind().to_string();
        let message = match inner.detail() {
            _ if inner.kind() == minijinja::ErrorKind::OutOfFuel => {
                format!("it takes more than {FUEL} steps to fill the template")
            }
            Some(detail) => format!("{kind}: {detail}"),
            None => kind,
        };
        let name = inner.name().or(error.name()).map(str::to_owned);
        Fault { template: name, line: inner.line().or(error.line()), message }
    }
}

impl fmt::Display for Fault {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match (&self.template, self.line) {
            (Some(template), Some(line)) => write!(f, "{template}, line {line}: {}", self.message),
            (Some(template), None) => write!(f, "{template}: {}", self.message),
            _ => f.write_str(&self.message),
        }
    }
}

/// A template with those it extends and includes.
pub struct Templates {
    environment: Environment<'static>,
    root: String,
    format: Format,
    texts: BTreeMap<String, String>,
}

impl fmt::Debug for Templates {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Templates").field("root", &self.root).field("format", &self.format).finish_non_exhaustive()
    }
}

impl PartialEq for Templates {
    fn eq(&self, other: &Self) -> bool {
        (&self.root, self.format, &self.texts) == (&other.root, other.format, &other.texts)
    }
}

impl Templates {
    /// Parses a template and all that it names. `text` returns the text of a path.
    ///
    /// # Errors
    /// When one is missing or cannot be parsed.
    pub fn load(root: &str, format: Format, text: &dyn Fn(&str) -> Option<String>) -> Result<Self, Fault> {
        let texts = closure(root, text)?;
        let root = beside("", root).unwrap_or_default();
        let mut environment = Environment::new();
        environment.set_undefined_behavior(UndefinedBehavior::SemiStrict);
        environment.set_fuel(Some(FUEL));
        environment.set_recursion_limit(64);
        environment.set_debug(false);
        environment.set_auto_escape_callback(move |_| match format {
            Format::Html | Format::Pdf => AutoEscape::Html,
            Format::Csv => fill::CSV,
            Format::Text => AutoEscape::None,
        });
        environment.set_formatter(fill::format);
        environment.set_path_join_callback(|name, parent| beside(parent, name).unwrap_or_default().into());
        fill::filters(&mut environment);
        chart::functions(&mut environment);
        for (path, text) in &texts {
            environment.add_template_owned(path.clone(), text.clone()).map_err(|error| Fault::of(&error))?;
        }
        Ok(Templates { environment, root, format, texts })
    }

    /// What it makes.
    pub fn format(&self) -> Format {
        self.format
    }

    /// The path of the template.
    pub fn root(&self) -> &str {
        &self.root
    }

    /// The texts by path.
    pub fn texts(&self) -> &BTreeMap<String, String> {
        &self.texts
    }

    /// The values that the templates mention and do not set, each once for a template.
    pub fn mentions(&self) -> Vec<Mention> {
        let set = names::set(&self.texts);
        let known: Vec<&str> = self.environment.globals().map(|(name, _)| name).collect();
        let mut all = Vec::new();
        for (path, text) in &self.texts {
            let Ok(template) = self.environment.get_template(path) else { continue };
            let mut found: Vec<String> = template.undeclared_variables(true).into_iter().collect();
            found.sort();
            for name in found {
                let parts: Vec<String> = name.split('.').map(str::to_owned).collect();
                let own = parts.first().is_some_and(|first| set.contains(first) || known.contains(&first.as_str()));
                if !own {
                    all.push(Mention { template: path.clone(), line: names::line_of(text, &parts), path: parts });
                }
            }
        }
        all
    }

    /// Fills the template with the members of an object.
    ///
    /// # Errors
    /// When a value is missing where one is needed, or a bound is met.
    pub fn render(&self, values: &Value) -> Result<String, Fault> {
        let template = self.environment.get_template(&self.root).map_err(|error| Fault::of(&error))?;
        let mut out = fill::Bounded::default();
        match template.render_captured_to(fill::value(values), &mut out) {
            Ok(_) => String::from_utf8(out.bytes).map_err(|error| Fault::plain(error.to_string())),
            Err(_) if out.full => Err(Fault::plain(format!("the text has more than {} bytes", crate::MOST_OF_TEXT))),
            Err(error) => Err(Fault::of(&error)),
        }
    }
}
