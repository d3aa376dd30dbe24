//! Checking: documents that belong together to plans, or to everything that is wrong with them.
//!
//! [`check`] reads a bundle of documents, knows the services they declare, and walks each workflow with
//! the names in scope ([`steps`], [`calls`]). What passes is compiled: the walk that finds the faults
//! also makes the [`Plan`], so nothing is checked that is not what will run. The inference of types
//! will walk the same plans; it belongs beside these as a module of its own.
//!
//! ```
//! use kanzlei_core::check::{Bundle, check};
//! let mut bundle = Bundle::default();
//! bundle.add("hello.yaml", "workflow: hello\nsteps:\n  - reply: 200\n    body: ${inptu.name}\n");
//! let checked = check(&bundle);
//! assert_eq!(checked.diagnostics[0].message, "there is no `inptu` here");
//! ```

mod calls;
mod entries;
mod steps;

#[cfg(test)]
pub(crate) mod tests;

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

use crate::diagnostic::{Diagnostic, Report, Severity};
use crate::document::{self, Document, Service, Source, Workflow};
use crate::plan::Plan;

/// Documents that are checked together, and the files they name.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
pub struct Bundle {
    pub documents: Vec<Source>,
    /// Documents that are there to be referred to; their own faults are not reported.
    #[serde(default)]
    pub context: Vec<Source>,
    /// Texts of other files by path, such as OpenAPI documents.
    #[serde(default)]
    pub files: BTreeMap<String, String>,
}

impl Bundle {
    pub fn add(&mut self, path: &str, text: &str) {
        self.documents.push(Source::new(path, text));
    }

    /// A file named relative to a document.
    pub fn file(&self, document: &str, name: &str) -> Option<String> {
        self.files.get(&relative(document, name)).cloned()
    }
}

/// The path of a file that a document names relative to itself.
pub fn relative(document: &str, name: &str) -> String {
    let mut parts: Vec<&str> = document.split('/').collect();
    parts.pop();
    for part in name.split('/') {
        match part {
            "." | "" => {}
            ".." if parts.last().is_some_and(|last| *last != "..") => {
                parts.pop();
            }
            part => parts.push(part),
        }
    }
    parts.join("/")
}

/// What came of a bundle.
#[derive(Debug, Default)]
pub struct Checked {
    pub services: BTreeMap<String, Service>,
    /// Plans of the workflows without errors, with the place of their document in the bundle.
    pub workflows: Vec<(usize, Plan)>,
    pub diagnostics: Vec<Diagnostic>,
}

impl Checked {
    pub fn errors(&self) -> usize {
        self.diagnostics.iter().filter(|d| d.severity == Severity::Error).count()
    }
}

/// Checks a bundle and compiles its workflows.
pub fn check(bundle: &Bundle) -> Checked {
    let mut checked = Checked::default();
    for source in &bundle.context {
        let (document, _) = document::read(source, &|name| bundle.file(&source.path, name));
        if let Some(Document::Service(service)) = document {
            checked.services.insert(service.name.text.clone(), *service);
        }
    }
    let mut reports: Vec<Report> = bundle.documents.iter().map(|s| Report::new(&s.path, &s.text)).collect();
    let mut workflows: Vec<(usize, Workflow)> = Vec::new();
    let mut names: BTreeMap<(&str, String), usize> = BTreeMap::new();
    for (index, (source, report)) in bundle.documents.iter().zip(&mut reports).enumerate() {
        let Some(document) = document::read_into(report, &|name| bundle.file(&source.path, name)) else { continue };
        let (kind, name) = match &document {
            Document::Workflow(workflow) => ("workflow", &workflow.name),
            Document::Service(service) => ("service", &service.name),
        };
        if let Some(first) = names.insert((kind, name.text.clone()), index) {
            report.error("duplicate-name", name.at, format!("there are two documents of the {kind} `{}`", name.text));
            report.help(format!("the other one is {}", bundle.documents[first].path));
        }
        match document {
            Document::Workflow(workflow) => workflows.push((index, *workflow)),
            Document::Service(service) => {
                checked.services.insert(service.name.text.clone(), *service);
            }
        }
    }
    let mut taken = entries::Taken::default();
    for (index, workflow) in &workflows {
        let report = &mut reports[*index];
        taken.claim(workflow, &bundle.documents[*index].path, report);
        if let Some(plan) = steps::compile(workflow, &checked.services, report)
            && !report.has_errors()
        {
            checked.workflows.push((*index, plan));
        }
    }
    checked.diagnostics = reports.into_iter().flat_map(Report::finish).collect();
    checked
}
