//! Steps that become a workflow of their own, invoked where they stood.
//!
//! What they read of the names around becomes the input of the new workflow, and what later steps read of theirs the body of
//! its reply. Where the result would not check, nothing is changed.

use std::collections::{BTreeMap, BTreeSet};
use std::fmt::Write;

use kanzlei_compiler::check::watch::{Mention, Question};
use kanzlei_compiler::plan::FIXED;
use kanzlei_lang::diagnostic::Severity;
use kanzlei_lang::document::reader::is_document_name;
use kanzlei_lang::document::{Document, Workflow, yaml};
use kanzlei_lang::edit::{self, At, Edit, apply, steps};
use kanzlei_lang::types::schema;
use serde::{Deserialize, Serialize};

use crate::expression::type_of_name;
use crate::symbols::{self, Symbol};
use crate::{Workspace, place};

/// The documents after an extraction.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Extracted {
    /// The text of the new workflow.
    pub document: String,
    /// The edits of the workflow that the steps stood in.
    pub edits: Vec<Edit>,
}

/// Makes a workflow of steps that follow each other; `at` is the first of them in the tree of the document.
pub fn extract(workspace: &Workspace, path: &str, at: &[At], count: usize, name: &str) -> Result<Extracted, String> {
    let text = workspace.text(path).ok_or("there is no such document")?;
    let Some(Document::Workflow(workflow)) = workspace.document(path) else {
        return Err("steps are part of a workflow that can be read".into());
    };
    if !is_document_name(name) {
        return Err(format!("`{name}` cannot be the name of a workflow: lower-case letters, digits and hyphens"));
    }
    if symbols::workflow(workspace, name).is_some() {
        return Err(format!("there is already a workflow `{name}`"));
    }
    let piece = edit::piece(text, at, count).map_err(|error| error.to_string())?;
    let inside = |start: u32| (piece.start..piece.end).contains(&(start as usize));
    if steps::outline(text).unwrap_or_default().iter().any(|step| step.kind == "reply" && inside(step.place.start)) {
        return Err("a step among them replies; a workflow that is invoked does not answer the client".into());
    }
    let index = workspace.index(path).ok_or("there is no such document")?;
    let watch = Some((
        index,
        place::node(&place::read(text).ok_or("the text cannot be read")?, at).map_or(0, |node| node.at.start),
    ));
    let checked = workspace.examine(None, Question { only: Some(index), watch, mentions: true });
    let sight = checked.sight.ok_or("the steps are in no workflow that can be checked")?;
    let around: BTreeSet<&str> = sight.scope.names().filter(|name| !FIXED.contains(name)).collect();

    let mut passed: BTreeMap<String, (serde_json::Value, String)> = BTreeMap::new();
    let mut rewritten: Vec<Edit> = Vec::new();
    let mut functions = false;
    for mention in checked.mentions.iter().filter(|mention| inside(mention.at.start)) {
        functions |= mention.function;
        match (mention.name.as_str(), &mention.member) {
            _ if mention.function => {}
            ("input", Some((member, _))) => {
                let declared = workflow.input.iter().find(|property| property.name.text == *member);
                let declared = declared.ok_or_else(|| format!("`input.{member}` is not declared"))?;
                passed.insert(member.clone(), (input_schema(declared), format!("input.{member}")));
            }
            ("input", None) => return Err("a step among them reads the whole `input`; name its members".into()),
            ("kept" | "failure", _) => {
                return Err(format!("a step among them reads `{}`, which belongs to this workflow", mention.name));
            }
            (name, _) if around.contains(name) => {
                let as_input = if workflow.input.iter().any(|property| property.name.text == name) {
                    format!("{name}_value")
                } else {
                    name.to_owned()
                };
                let of = schema::write(&type_of_name(&sight, name).without_nullish());
                rewritten.push(replace(mention, &format!("input.{as_input}"), piece.start));
                passed.insert(as_input, (of, name.to_owned()));
            }
            _ => {}
        }
    }
    let results = results(workspace, path, workflow, &checked.mentions, (piece.start, piece.end));
    let taken = apply(&text[piece.start..piece.end], &rewritten).map_err(|error| error.to_string())?;
    let document =
        document(name, workflow, text, &passed, functions, &edit::shifted(&taken, 2 - piece.column as isize), &results);

    let id = free_id(&name.replace('-', "_"), &sight.scope.names().map(str::to_owned).collect());
    let margin = " ".repeat(piece.column);
    let mut call = format!("{margin}- ");
    if !results.is_empty() {
        let _ = write!(call, "id: {id}\n{margin}  ");
    }
    let _ = writeln!(call, "invoke: {name}");
    if !passed.is_empty() {
        let send: Vec<String> = passed.iter().map(|(name, (_, from))| format!("{name}: \"${{{from}}}\"")).collect();
        let _ = writeln!(call, "{margin}  send: {{{}}}", send.join(", "));
    }
    let mut edits = vec![Edit { start: piece.start as u32, end: piece.end as u32, text: call }];
    for mention in checked.mentions.iter().filter(|mention| mention.at.start as usize >= piece.end && !mention.function)
    {
        if results.contains(&mention.name) {
            edits.push(replace(mention, &format!("{id}.body.{}", mention.name), 0));
        }
    }
    let extracted = Extracted { document, edits };
    verify(workspace, path, text, name, &extracted)?;
    Ok(extracted)
}

/// The schema of an input, with the keys that are ours.
fn input_schema(property: &kanzlei_lang::document::workflow::Property) -> serde_json::Value {
    let mut schema = property.schema.clone();
    if property.secret {
        schema["secret"] = true.into();
    }
    if property.optional && property.default.is_none() {
        schema["optional"] = true.into();
    }
    schema
}

fn replace(mention: &Mention, with: &str, from: usize) -> Edit {
    Edit { start: mention.at.start - from as u32, end: mention.at.end - from as u32, text: with.to_owned() }
}

/// What the steps define and later ones read.
fn results(
    workspace: &Workspace,
    path: &str,
    workflow: &Workflow,
    mentions: &[Mention],
    (start, end): (usize, usize),
) -> Vec<String> {
    let within = |at: u32| (start..end).contains(&(at as usize));
    let declared: BTreeSet<String> = symbols::occurrences(workspace, Some(path))
        .into_iter()
        .filter(|one| one.declares && within(one.range.start))
        .filter_map(|one| match one.symbol {
            Symbol::Name(of, name) if of == workflow.name.text => Some(name),
            _ => None,
        })
        .collect();
    let later = mentions.iter().filter(|mention| mention.at.start as usize >= end && !mention.function);
    let read: BTreeSet<&str> = later.map(|mention| mention.name.as_str()).collect();
    declared.into_iter().filter(|name| read.contains(name.as_str())).collect()
}

fn free_id(wanted: &str, taken: &BTreeSet<String>) -> String {
    match taken.contains(wanted) {
        true => format!("{wanted}_result"),
        false => wanted.to_owned(),
    }
}

/// The text of the new workflow.
fn document(
    name: &str,
    from: &Workflow,
    text: &str,
    passed: &BTreeMap<String, (serde_json::Value, String)>,
    functions: bool,
    steps: &str,
    results: &[String],
) -> String {
    let mut out = format!("workflow: {name}\nabout: Steps of {}, invoked by it.\n", from.name.text);
    if !passed.is_empty() {
        out.push_str("\ninput:\n");
        for (name, (schema, _)) in passed {
            let _ = writeln!(out, "  {name}: {}", yaml::flow(schema));
        }
    }
    let root = place::read(text);
    // Expressions may read types, and functions of libraries.
    for key in ["use", "types", "functions"].into_iter().filter(|key| *key != "functions" || functions) {
        let lines = root.as_ref().and_then(|root| edit::key_lines(text, root, key));
        if let Some(lines) = lines {
            let _ = write!(out, "\n{lines}");
        }
    }
    let _ = write!(out, "\nsteps:\n{steps}");
    if !out.ends_with('\n') {
        out.push('\n');
    }
    if !results.is_empty() {
        let body: Vec<String> = results.iter().map(|name| format!("{name}: \"${{{name}}}\"")).collect();
        let _ = writeln!(out, "\n  - reply: 200\n    body: {{{}}}", body.join(", "));
    }
    out
}

/// Makes sure that all workflows check as they did. Cases that name a step by its number or id may have to follow.
fn verify(workspace: &Workspace, path: &str, text: &str, name: &str, extracted: &Extracted) -> Result<(), String> {
    let mut changed = Workspace::of(
        workspace
            .paths()
            .chain(workspace.files())
            .filter_map(|path| Some((path.to_owned(), workspace.text(path)?.to_owned()))),
    );
    changed.known.clone_from(&workspace.known);
    changed.set(path, &apply(text, &extracted.edits).map_err(|error| error.to_string())?);
    let beside = path.rsplit_once('/').map_or_else(String::new, |(folder, _)| format!("{folder}/"));
    changed.set(&format!("{beside}{name}.yaml"), &extracted.document);
    let errors = |workspace: &Workspace| {
        let cases = |path: &str| matches!(workspace.document(path), Some(Document::Cases(_)));
        let all = workspace.all_diagnostics().into_iter();
        all.filter(|found| found.severity == Severity::Error && !cases(&found.path)).collect::<Vec<_>>()
    };
    let (before, after) = (errors(workspace), errors(&changed));
    let new = after
        .into_iter()
        .find(|one| !before.iter().any(|known| known.message == one.message && known.path == one.path));
    match new {
        None => Ok(()),
        Some(found) => Err(format!(
            "the steps cannot be taken out as they are ({}, line {}): {}",
            found.path, found.line, found.message
        )),
    }
}
