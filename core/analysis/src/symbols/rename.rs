//! Renaming: the edits of all documents, refused where they would break one.

use std::collections::BTreeMap;

use kanzlei_lang::diagnostic::{Diagnostic, Severity};
use kanzlei_lang::document::reader::{is_document_name, is_identifier};
use kanzlei_lang::edit::{Edit, apply};

use super::{Symbol, at, occurrences};
use crate::Workspace;

/// Why something cannot be renamed, in a sentence.
#[derive(Clone, Debug, PartialEq)]
pub struct Refused(pub String);

/// The edits, by document, that give what stands at a position another name wherever it is declared or used.
pub fn rename(
    workspace: &Workspace,
    path: &str,
    position: usize,
    new: &str,
) -> Result<BTreeMap<String, Vec<Edit>>, Refused> {
    let refused = |why: String| Err(Refused(why));
    let Some(found) = at(workspace, path, position) else {
        return refused("nothing with a name stands here".into());
    };
    let symbol = found.symbol;
    let (fits, rule) = match &symbol {
        Symbol::Workflow(_)
        | Symbol::Service(_)
        | Symbol::Lane(_)
        | Symbol::Allowance(_)
        | Symbol::Alert(_)
        | Symbol::Issuer(_)
        | Symbol::Library(_) => {
            (is_document_name(new), "lower-case letters, digits and hyphens, beginning with a letter")
        }
        Symbol::Operation(service, _) => {
            return refused(format!(
                "operations have the names of the API of `{service}`; they change in its description"
            ));
        }
        Symbol::Secret(_) | Symbol::Database(_) => {
            return refused(format!("`{}` is named in the service; it changes there first", symbol.name()));
        }
        _ => (is_identifier(new), "letters, digits and underscores, beginning with a letter"),
    };
    if !fits {
        return refused(format!("`{new}` cannot be its name: {rule}"));
    }
    let all = occurrences(workspace, None);
    if !all.iter().any(|one| one.symbol == symbol && one.declares) {
        return refused(format!("`{}` is declared in none of these documents", symbol.name()));
    }
    let mut edits: BTreeMap<String, Vec<Edit>> = BTreeMap::new();
    for one in all.into_iter().filter(|one| one.symbol == symbol) {
        let of = edits.entry(one.path).or_default();
        let edit = Edit { start: one.range.start, end: one.range.end, text: new.to_owned() };
        if !of.contains(&edit) {
            of.push(edit);
        }
    }
    let mut changed = Workspace::of(workspace.paths().chain(workspace.files()).filter_map(|path| {
        let text = workspace.text(path)?;
        let text = edits.get(path).map_or_else(|| Ok(text.to_owned()), |edits| apply(text, edits));
        Some((path.to_owned(), text.ok()?))
    }));
    changed.known.clone_from(&workspace.known);
    let errors = |workspace: &Workspace| -> Vec<Diagnostic> {
        workspace.all_diagnostics().into_iter().filter(|found| found.severity == Severity::Error).collect()
    };
    let (before, after) = (errors(workspace), errors(&changed));
    if after.len() > before.len() {
        let known =
            |one: &&Diagnostic| !before.iter().any(|known| known.message == one.message && known.path == one.path);
        if let Some(new_one) = after.iter().find(known) {
            return refused(format!("it would break {}, line {}: {}", new_one.path, new_one.line, new_one.message));
        }
    }
    for of in edits.values_mut() {
        of.sort_by_key(|edit| edit.start);
    }
    Ok(edits)
}
