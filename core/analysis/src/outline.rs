//! The steps of a workflow with their numbers on the sheet.

use kanzlei_compiler::plan::sheet;
use kanzlei_lang::edit::{path_text, steps};
use serde::{Deserialize, Serialize};

use crate::Workspace;
use crate::complete::Range;
use crate::place::{node, read};

/// A step of the outline.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Entry {
    /// Its number: `2.1`.
    pub number: String,
    /// The key that says what it does; empty where none does.
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
    /// Where it stands in the tree: `steps/2/then/0`.
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

/// The steps of a workflow, in order; nothing where its text cannot be read.
pub fn of(workspace: &Workspace, path: &str) -> Vec<Entry> {
    let Some(text) = workspace.text(path) else { return Vec::new() };
    let (Ok(found), Some(root)) = (steps::outline(text), read(text)) else { return Vec::new() };
    found
        .into_iter()
        .map(|step| {
            let of = node(&root, &step.at).and_then(|found| found.get(&step.kind));
            // A place of a mapping ends where the next thing begins.
            let raw = text.get(step.place.start as usize..step.place.end as usize).unwrap_or_default();
            let end = step.place.start + raw.trim_end().len() as u32;
            Entry {
                title: of.map(sheet::inline).map(|title| short(&title)).unwrap_or_default(),
                number: step.number,
                kind: step.kind,
                id: step.id,
                branch: step.branch,
                at: path_text(&step.at),
                range: Range { start: step.place.start, end },
            }
        })
        .collect()
}
