//! The steps of a workflow with their numbers on the sheet, and the cases of a document of cases.

use kanzlei_compiler::plan::sheet;
use kanzlei_lang::document::yaml::{Kind, Node};
use kanzlei_lang::edit::{At, path_text, steps};
use serde::{Deserialize, Serialize};

use crate::Workspace;
use crate::complete::Range;
use crate::place::{node, read};
use crate::sheet::trimmed;

/// A step of the outline, or a case.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Entry {
    /// Its number: `2.1`.
    pub number: String,
    /// The key that says what it does, or `case`; empty where none does.
    pub kind: String,
    /// What stands behind it, on one line.
    pub title: String,
    /// The name of its result.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[cfg_attr(feature = "schema", schemars(with = "String"))]
    pub id: Option<String>,
    /// The branch it begins: `then`, an arm, `catch`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[cfg_attr(feature = "schema", schemars(with = "String"))]
    pub branch: Option<String>,
    /// Where it stands in the tree: `steps/2/then/0`, `examples/0`.
    pub at: String,
    /// Its text.
    pub range: Range,
}

/// The most characters of a title.
const MOST: usize = 80;

fn short(title: &str) -> String {
    match title.chars().count() > MOST {
        true => title.chars().take(MOST).chain(['…']).collect(),
        false => title.to_owned(),
    }
}

/// The steps of a workflow, or the cases of a document of cases, in order; nothing where the text cannot be read.
pub fn of(workspace: &Workspace, path: &str) -> Vec<Entry> {
    let Some((text, root)) = workspace.text(path).and_then(|text| Some((text, read(text)?))) else { return Vec::new() };
    if root.get("cases").is_some() {
        return cases(text, &root);
    }
    let Ok(found) = steps::outline(text) else { return Vec::new() };
    found
        .into_iter()
        .map(|step| {
            let of = node(&root, &step.at).and_then(|found| found.get(&step.kind));
            Entry {
                title: of.map(sheet::inline).map(|title| short(&title)).unwrap_or_default(),
                number: step.number,
                kind: step.kind,
                id: step.id,
                branch: step.branch,
                at: path_text(&step.at),
                // A place of a mapping ends where the next thing begins.
                range: trimmed(text, step.place.into()),
            }
        })
        .collect()
}

fn cases(text: &str, root: &Node) -> Vec<Entry> {
    let Some(Kind::List(cases)) = root.get("examples").map(|examples| &examples.kind) else { return Vec::new() };
    let entries = cases.iter().enumerate().map(|(index, case)| Entry {
        number: (index + 1).to_string(),
        kind: "case".to_owned(),
        title: case.get("name").and_then(Node::as_text).unwrap_or_default().to_owned(),
        id: None,
        branch: None,
        at: path_text(&[At::Key("examples".to_owned()), At::Item(index)]),
        range: trimmed(text, case.at.into()),
    });
    entries.collect()
}
