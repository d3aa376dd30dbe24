//! The files that belong to a document: the OpenAPI document of a service, the values of settings, the templates of a workflow.
//! Records keep them with the document as one text; here is how that text is made, and read again.
//!
//! ```
//! use kanzlei_compiler::beside;
//! let workflow = "workflow: bill\nsteps:\n  - {render: html, template: bill.html}\n";
//! let text = |name: &str| (name == "bill.html").then(|| "<p>Bill".to_owned());
//! let kept = beside::pack(workflow, &text).unwrap();
//! assert_eq!(beside::unpack(workflow, &kept), [("bill.html".to_owned(), "<p>Bill".to_owned())]);
//! ```

use std::collections::BTreeMap;

use kanzlei_lang::diagnostic::Report;
use kanzlei_lang::document::step::render;
use kanzlei_lang::document::yaml::{self, Node};
use kanzlei_lang::document::{service, settings};

/// What stands beside a document.
enum Beside {
    Nothing,
    /// One file, kept as it is.
    One(String),
    /// Templates by name, with all that they name, kept as an object.
    Templates(Vec<String>),
}

fn of(root: &Node) -> Beside {
    if let Some(name) = service::openapi_file(root).map(str::to_owned).or_else(|| settings::values_file(root)) {
        return Beside::One(name);
    }
    let templates: Vec<String> = match root.get("workflow") {
        Some(_) => render::templates(root).into_iter().map(str::to_owned).collect(),
        None => Vec::new(),
    };
    if templates.is_empty() { Beside::Nothing } else { Beside::Templates(templates) }
}

fn read(source: &str) -> Option<Node> {
    yaml::parse(&mut Report::new("", source))
}

/// The files of a document by their names, relative to it; those that are missing are left out.
pub fn files(root: &Node, text: &dyn Fn(&str) -> Option<String>) -> BTreeMap<String, String> {
    match of(root) {
        Beside::Nothing => BTreeMap::new(),
        Beside::One(name) => text(&name).map(|text| (name, text)).into_iter().collect(),
        Beside::Templates(names) => {
            let found = names.iter().filter_map(|name| kanzlei_reports::closure(name, text).ok());
            found.flatten().collect()
        }
    }
}

/// The text in which records keep the files of a document; `text` returns that of a name relative to it.
pub fn pack(source: &str, text: &dyn Fn(&str) -> Option<String>) -> Option<String> {
    let root = read(source)?;
    let files = files(&root, text);
    match of(&root) {
        Beside::Templates(_) if !files.is_empty() => serde_json::to_string(&files).ok(),
        Beside::Templates(_) => None,
        _ => files.into_values().next(),
    }
}

/// The text that records keep of a draft that is saved: its new files over those that it had. One that is saved without any keeps them.
pub fn merged(source: &str, given: Option<String>, before: Option<String>) -> Option<String> {
    let (Some(given), Some(before)) = (&given, &before) else { return given.or(before) };
    if !matches!(read(source).as_ref().map(of), Some(Beside::Templates(_))) {
        return Some(given.clone());
    }
    let mut all: BTreeMap<String, String> = unpack(source, before).into_iter().collect();
    all.extend(unpack(source, given));
    serde_json::to_string(&all).ok()
}

/// The files of a document, by their names relative to it, from the text that records keep.
pub fn unpack(source: &str, kept: &str) -> Vec<(String, String)> {
    match read(source).as_ref().map(of) {
        Some(Beside::One(name)) => vec![(name, kept.to_owned())],
        Some(Beside::Templates(_)) => {
            let files: BTreeMap<String, String> = serde_json::from_str(kept).unwrap_or_default();
            // A template never lies outside of the folder.
            let inside = |name: &String| name.split('/').all(|part| !matches!(part, "" | "." | ".."));
            files.into_iter().filter(|(name, _)| inside(name)).collect()
        }
        _ => Vec::new(),
    }
}
