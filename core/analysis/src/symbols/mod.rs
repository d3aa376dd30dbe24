//! Names of documents: where each is declared and used, and how it is renamed everywhere at once.

mod collect;
mod rename;

use std::collections::HashMap;

use kanzlei_compiler::check::Checked;
use kanzlei_compiler::check::watch::{Mention, Question};
use kanzlei_lang::document::service::{Operation, Service};
use kanzlei_lang::document::step::{Action, Step, Target};
use kanzlei_lang::document::{Document, Library, Workflow};
use serde::{Deserialize, Serialize};

use crate::Workspace;
use crate::complete::Range;

pub use rename::{Refused, rename};

/// Something that has a name.
#[derive(Clone, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Symbol {
    /// A workflow.
    Workflow(String),
    /// A service.
    Service(String),
    /// An operation of a service.
    Operation(String, String),
    /// A lane.
    Lane(String),
    /// An allowance.
    Allowance(String),
    /// An alert.
    Alert(String),
    /// An issuer of tokens.
    Issuer(String),
    /// A secret.
    Secret(String),
    /// A database.
    Database(String),
    /// An input of a workflow.
    Input(String, String),
    /// What a step of a workflow defines: a result, a `let` name, an item.
    Name(String, String),
    /// A function of a workflow.
    Function(String, String),
    /// What a workflow keeps.
    Kept(String, String),
    /// A setting of the installation.
    Setting(String),
    /// A library.
    Library(String),
    /// A group of steps of a library.
    Group(String, String),
}

/// A place where a symbol is declared or used.
#[derive(Clone, Debug, PartialEq)]
pub struct Occurrence {
    /// What it is.
    pub symbol: Symbol,
    /// The document or file.
    pub path: String,
    /// Where it stands.
    pub range: Range,
    /// Whether it is declared there.
    pub declares: bool,
}

/// A place in a document or file.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Location {
    /// The document or file.
    pub path: String,
    /// Where.
    pub range: Range,
}

impl Symbol {
    /// Its own name, without that of what it belongs to.
    pub fn name(&self) -> &str {
        match self {
            Symbol::Workflow(name)
            | Symbol::Service(name)
            | Symbol::Lane(name)
            | Symbol::Allowance(name)
            | Symbol::Alert(name)
            | Symbol::Issuer(name)
            | Symbol::Secret(name)
            | Symbol::Database(name)
            | Symbol::Setting(name)
            | Symbol::Library(name)
            | Symbol::Operation(_, name)
            | Symbol::Input(_, name)
            | Symbol::Name(_, name)
            | Symbol::Function(_, name)
            | Symbol::Group(_, name)
            | Symbol::Kept(_, name) => name,
        }
    }
}

/// All occurrences, or those in one document.
pub(crate) fn occurrences(workspace: &Workspace, only: Option<&str>) -> Vec<Occurrence> {
    let question =
        Question { only: only.and_then(|path| workspace.index(path)), mentions: true, ..Question::default() };
    mentioned(workspace, only, &workspace.examine(None, question).mentions)
}

/// The same with what expressions mention.
fn mentioned(workspace: &Workspace, only: Option<&str>, mentions: &[Mention]) -> Vec<Occurrence> {
    let mut out = Vec::new();
    for (path, text, document) in workspace.documents() {
        if only.is_some_and(|only| only != path) {
            continue;
        }
        let index = workspace.index(path);
        let mut collect = collect::Collect::new(workspace, path, text);
        collect.document(document);
        let own = mentions.iter().filter(|mention: &&Mention| Some(mention.document) == index);
        collect.mentions(document, own);
        out.extend(collect.found);
    }
    out
}

/// What stands at a position.
pub fn at(workspace: &Workspace, path: &str, position: usize) -> Option<Occurrence> {
    narrowest(occurrences(workspace, Some(path)), position)
}

/// What stands at a position of a document that was checked with its mentions.
pub(crate) fn at_checked(workspace: &Workspace, path: &str, position: usize, checked: &Checked) -> Option<Occurrence> {
    narrowest(mentioned(workspace, Some(path), &checked.mentions), position)
}

fn narrowest(all: Vec<Occurrence>, position: usize) -> Option<Occurrence> {
    let covers = |one: &Occurrence| (one.range.start as usize..=one.range.end as usize).contains(&position);
    all.into_iter().filter(covers).min_by_key(|one| one.range.end - one.range.start)
}

/// Where what stands at a position is declared.
pub fn definition(workspace: &Workspace, path: &str, position: usize) -> Vec<Location> {
    let Some(found) = at(workspace, path, position) else { return Vec::new() };
    declarations(workspace, &found.symbol)
}

/// Where something is declared first.
pub fn declared(workspace: &Workspace, symbol: &Symbol) -> Option<Location> {
    declarations(workspace, symbol).into_iter().next()
}

pub(crate) fn declarations(workspace: &Workspace, symbol: &Symbol) -> Vec<Location> {
    if let Symbol::Operation(service, operation) = symbol {
        return collect::operation_in_file(workspace, service, operation).into_iter().collect();
    }
    let mut out = Vec::new();
    for (path, text, document) in workspace.documents() {
        let mut collect = collect::Collect::new(workspace, path, text);
        collect.document(document);
        let declared = collect.found.into_iter().filter(|one| one.declares && one.symbol == *symbol);
        out.extend(declared.map(|one| Location { path: one.path, range: one.range }));
    }
    out
}

/// Where what stands at a position is used, and declared where that is wanted too.
pub fn references(workspace: &Workspace, path: &str, position: usize, declarations: bool) -> Vec<Location> {
    let Some(found) = at(workspace, path, position) else { return Vec::new() };
    let mut out: Vec<Location> = occurrences(workspace, None)
        .into_iter()
        .filter(|one| one.symbol == found.symbol && (declarations || !one.declares))
        .map(|one| Location { path: one.path, range: one.range })
        .collect();
    out.sort();
    out.dedup();
    out
}

/// What the names of a workflow come from, each in a sentence.
pub(crate) struct Origins(HashMap<String, String>);

impl Origins {
    /// Of the names that a document declares.
    pub fn of(workspace: &Workspace, path: &str) -> Self {
        let mut found = HashMap::new();
        let Some((_, text, document @ Document::Workflow(_))) =
            workspace.documents().find(|(known, ..)| *known == path)
        else {
            return Origins(found);
        };
        let mut collect = collect::Collect::new(workspace, path, text);
        collect.document(document);
        let outline = crate::outline::of(workspace, path);
        for one in collect.found.into_iter().filter(|one| one.declares) {
            let Symbol::Name(_, name) = one.symbol else { continue };
            // The innermost step that holds the place; steps are in the order of the text.
            let before = outline.partition_point(|step| step.range.start <= one.range.start);
            let around = outline[..before].iter().rfind(|step| one.range.start < step.range.end);
            if let Some(step) = around {
                let title = if step.title.is_empty() { String::new() } else { format!(" {}", step.title) };
                found.entry(name).or_insert_with(|| format!("From step {}: `{}{title}`.", step.number, step.kind));
            }
        }
        Origins(found)
    }

    /// Where a name comes from; empty where that is not known.
    pub fn get(&self, name: &str) -> &str {
        match name {
            "input" => "The input of the workflow.",
            "run" => "This run: its id, attempt, generation, start and caller.",
            "caller" => "Who calls: its name, its key and owner, the claims of its token.",
            "kept" => "What earlier runs of this workflow kept.",
            "settings" => "What differs between installations, and is no secret.",
            "failure" => "How the step failed that this catches.",
            "request" => "The request that the stub answers.",
            name => self.0.get(name).map_or("", String::as_str),
        }
    }
}

/// An operation of a service, with the service.
pub(crate) fn operation<'w>(
    workspace: &'w Workspace,
    service: &str,
    operation: &str,
) -> Option<(&'w Service, &'w Operation)> {
    workspace.documents().find_map(|(_, _, document)| match document {
        Document::Service(found) if found.name.text == service => Some((&**found, found.operations.get(operation)?)),
        _ => None,
    })
}

pub(crate) fn workflow<'w>(workspace: &'w Workspace, name: &str) -> Option<&'w Workflow> {
    if let Some((of, _)) = name.split_once('.') {
        return library(workspace, of)?.groups.iter().map(|group| &**group).find(|group| group.name.text == name);
    }
    workspace.documents().find_map(|(_, _, document)| match document {
        Document::Workflow(found) if found.name.text == name => Some(&**found),
        _ => None,
    })
}

/// A library by its name.
pub(crate) fn library<'w>(workspace: &'w Workspace, name: &str) -> Option<&'w Library> {
    workspace.documents().find_map(|(_, _, document)| match document {
        Document::Library(found) if found.name.text == name => Some(&**found),
        _ => None,
    })
}

/// What the stubs of a workflow's cases are called, those of what it invokes included.
pub(crate) fn stubs_of(workspace: &Workspace, name: &str) -> Vec<String> {
    fn walk(workspace: &Workspace, steps: &[Step], depth: u32, out: &mut Vec<String>) {
        for step in steps {
            match &step.action {
                Action::Call(call) => match &call.target {
                    Target::Operation { service, operation, .. } => out.push(format!("{service}.{operation}")),
                    Target::Url { service: Some(service), method, .. } => {
                        out.push(format!("{} {method} /", service.text))
                    }
                    Target::Url { .. } => {}
                },
                Action::Sql(sql) => out.push(format!("sql.{}", sql.database.text)),
                Action::Await(_) => out.push("callback".into()),
                Action::Wake(_) => out.push("wake".into()),
                Action::Invoke { workflow: name, .. } if depth < 8 => {
                    if let Some(invoked) = workflow(workspace, &name.text) {
                        invoked.lists().for_each(|steps| walk(workspace, steps, depth + 1, out));
                    }
                }
                _ => {}
            }
            step.inside().into_iter().for_each(|steps| walk(workspace, steps, depth, out));
        }
    }
    let mut out = Vec::new();
    if let Some(found) = workflow(workspace, name) {
        found.lists().for_each(|steps| walk(workspace, steps, 0, &mut out));
    }
    out.sort();
    out.dedup();
    out
}

/// Places that documents name.
pub(crate) fn places(workspace: &Workspace) -> Vec<String> {
    fn walk(steps: &[Step], out: &mut Vec<String>) {
        for step in steps {
            if let Action::File(file) = &step.action {
                out.extend(file.work.places().iter().map(|(name, _)| name.text.clone()));
            }
            step.inside().into_iter().for_each(|steps| walk(steps, out));
        }
    }
    let mut out = Vec::new();
    for (_, _, document) in workspace.documents() {
        if let Document::Workflow(workflow) = document {
            workflow.lists().for_each(|steps| walk(steps, &mut out));
        }
    }
    out
}

/// Databases or secrets that documents name.
pub(crate) fn named_outside(workspace: &Workspace, databases: bool) -> Vec<String> {
    let mut out = Vec::new();
    for (path, text, document) in workspace.documents() {
        let mut collect = collect::Collect::new(workspace, path, text);
        collect.document(document);
        out.extend(collect.found.into_iter().filter_map(|one| match one.symbol {
            Symbol::Database(name) if databases => Some(name),
            Symbol::Secret(name) if !databases => Some(name),
            _ => None,
        }));
    }
    out
}
