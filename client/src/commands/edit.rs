//! `edit`, `outline` and `rename`: changes of documents that keep their comments and layout, and what they go by.

use std::collections::BTreeMap;
use std::path::Path;

use kanzlei_analysis::symbols::{self, Symbol};
use kanzlei_analysis::{Workspace, extract, outline as steps_of, scope};
use kanzlei_lang::edit::{self, At, Change, apply, parse_path};

use crate::args::Edit;
use crate::{Done, Error, draw, files};

fn failed(error: impl std::fmt::Display) -> Error {
    Error::Failed(error.to_string())
}

/// The documents around a file, and its path among them.
fn around(path: &Path) -> Result<(Workspace, String), Error> {
    let text = std::fs::read_to_string(path).map_err(|error| Error::Usage(format!("{}: {error}", path.display())))?;
    let mut workspace = Workspace::of(files::texts_below(&files::folder_of(path)));
    let name = files::name(path);
    workspace.set(&name, &text);
    Ok((workspace, name))
}

pub fn outline(path: &Path, step: Option<&str>, json: bool) -> Done {
    let (workspace, name) = around(path)?;
    if let Some(number) = step {
        let Some(found) = scope::at_step(&workspace, &name, number) else {
            return Err(Error::Usage(format!(
                "{name} has no step {number} that can be checked; `kanzlei outline {name}` lists them"
            )));
        };
        if json {
            super::print_json(&found);
            return Ok(());
        }
        for name in &found.names {
            println!("{}: {}\n    {}", draw::bold(&name.name), name.of, draw::dim(&name.origin));
        }
        if !found.functions.is_empty() {
            println!("\nFunctions: {}", found.functions.join(", "));
        }
        return Ok(());
    }
    let entries = steps_of::of(&workspace, &name);
    if entries.is_empty() {
        return Err(Error::Failed(format!("{name} has no steps, or cannot be read; try `kanzlei check {name}`")));
    }
    if json {
        super::print_json(&entries);
        return Ok(());
    }
    let rows = entries.into_iter().map(|entry| {
        let indent = "  ".repeat(entry.number.matches('.').count());
        let branch = entry.branch.map(|branch| format!("{branch}: ")).unwrap_or_default();
        vec![
            format!("{indent}{}", entry.number),
            format!("{branch}{} {}", entry.kind, entry.title),
            entry.id.unwrap_or_default(),
        ]
    });
    draw::table(&["step", "does", "name"], rows);
    Ok(())
}

pub fn edit(path: &Path, what: Edit, dry_run: bool, json: bool) -> Done {
    let (workspace, name) = around(path)?;
    let text = workspace.text(&name).unwrap_or_default().to_owned();
    let entries = steps_of::of(&workspace, &name);
    let step = |number: &str| -> Result<Vec<At>, Error> {
        let found = entries.iter().find(|entry| entry.number == number || entry.id.as_deref() == Some(number));
        let found = found
            .ok_or_else(|| Error::Usage(format!("{name} has no step {number}; `kanzlei outline {name}` lists them")))?;
        Ok(parse_path(&found.at))
    };
    let beside = |before: Option<String>, behind: Option<String>| -> Result<Vec<At>, Error> {
        let mut at = step(before.as_deref().or(behind.as_deref()).unwrap_or_default())?;
        if behind.is_some()
            && let Some(At::Item(item)) = at.last_mut()
        {
            *item += 1;
        }
        Ok(at)
    };
    let key = |number: &str, key: &str| -> Result<Vec<At>, Error> {
        let mut at = step(number)?;
        at.extend(parse_path(key));
        Ok(at)
    };
    let change = match what {
        Edit::Move { step: from, before, behind } => Change::Move { from: step(&from)?, to: beside(before, behind)? },
        Edit::Insert { value, before, behind } => Change::Insert { at: beside(before, behind)?, value },
        Edit::Duplicate { step: at } => Change::Duplicate { at: step(&at)? },
        Edit::Delete { step: at } => Change::Remove { at: step(&at)? },
        Edit::Off { step: at } => Change::Set { at: key(&at, "off")?, value: "true".into() },
        Edit::On { step: at } => Change::Remove { at: key(&at, "off")? },
        Edit::Set { step: at, key: name, value } => Change::Set { at: key(&at, &name)?, value },
        Edit::Unset { step: at, key: name } => Change::Remove { at: key(&at, &name)? },
        Edit::Wrap { step: at, count, with, under } => Change::Wrap { at: step(&at)?, count, with, under },
        Edit::Unwrap { step: at, branch } => {
            let branch = match branch {
                Some(branch) => branch,
                None => ["then", "steps", "else", "catch"]
                    .into_iter()
                    .find(|name| key(&at, name).is_ok_and(|path| edit::exists(&text, &path)))
                    .ok_or_else(|| {
                        Error::Usage(format!("step {at} has no steps inside; name the branch with --branch"))
                    })?
                    .to_owned(),
            };
            Change::Unwrap { at: key(&at, &branch)? }
        }
        Edit::Extract { step: at, count, name: new } => {
            let extracted = extract(&workspace, &name, &step(&at)?, count, &new).map_err(failed)?;
            let beside = path.with_file_name(format!("{new}.yaml"));
            if beside.exists() {
                return Err(Error::Usage(format!("{} is there already", beside.display())));
            }
            let changed = apply(&text, &extracted.edits).map_err(failed)?;
            let texts =
                BTreeMap::from([(name, (text, changed)), (files::name(&beside), (String::new(), extracted.document))]);
            return write(texts, dry_run, json);
        }
    };
    let edits = edit::change(&text, &change).map_err(failed)?;
    let changed = apply(&text, &edits).map_err(failed)?;
    let before = workspace.diagnostics(&name);
    let mut workspace = workspace;
    workspace.set(&name, &changed);
    let mut new = workspace.diagnostics(&name);
    new.retain(|one| !before.iter().any(|known| known.message == one.message));
    write(BTreeMap::from([(name, (text, changed.clone()))]), dry_run, json)?;
    if !new.is_empty() && !json {
        println!("The workflow has new findings:");
        draw::diagnostics(&new, &|_| Some(changed.clone()));
    }
    Ok(())
}

/// Writes the changed texts, and shows what changes.
fn write(texts: BTreeMap<String, (String, String)>, dry_run: bool, json: bool) -> Done {
    for (path, (before, after)) in &texts {
        if !json {
            draw::changes(path, before, after);
        }
        if !dry_run && before != after {
            std::fs::write(path, after).map_err(|error| Error::Failed(format!("{path}: {error}")))?;
        }
    }
    if json {
        let texts: BTreeMap<&String, &String> = texts.iter().map(|(path, (_, after))| (path, after)).collect();
        super::print_json(&texts);
    } else if dry_run {
        println!("Nothing is written.");
    }
    Ok(())
}

pub fn rename(folder: &Path, place: &str, new: &str, dry_run: bool, json: bool) -> Done {
    let workspace = Workspace::of(files::texts_below(folder));
    if workspace.paths().next().is_none() {
        return Err(Error::Usage(format!("no documents below {}", folder.display())));
    }
    let parts: Vec<&str> = place.split('.').collect();
    let owned = |text: &str| text.to_owned();
    let wanted: Vec<Symbol> = match parts.as_slice() {
        [name] => vec![Symbol::Workflow(owned(name)), Symbol::Service(owned(name)), Symbol::Lane(owned(name))],
        [of, "input", name] => vec![Symbol::Input(owned(of), owned(name))],
        ["settings", name] => vec![Symbol::Setting(owned(name))],
        [of, "kept", name] => vec![Symbol::Kept(owned(of), owned(name))],
        [of, name] => vec![
            Symbol::Name(owned(of), owned(name)),
            Symbol::Function(owned(of), owned(name)),
            Symbol::Input(owned(of), owned(name)),
        ],
        _ => {
            return Err(Error::Usage(format!(
                "`{place}` names nothing; write NAME, WORKFLOW.NAME or WORKFLOW.input.NAME"
            )));
        }
    };
    let found = wanted.iter().find_map(|symbol| symbols::declared(&workspace, symbol));
    let Some(at) = found else {
        return Err(Error::Usage(format!("`{place}` is declared in none of the documents below {}", folder.display())));
    };
    let edits =
        symbols::rename(&workspace, &at.path, at.range.start as usize, new).map_err(|refused| failed(refused.0))?;
    let mut texts = BTreeMap::new();
    for (path, edits) in edits {
        let text = workspace.text(&path).unwrap_or_default().to_owned();
        let changed = apply(&text, &edits).map_err(failed)?;
        texts.insert(path, (text, changed));
    }
    write(texts, dry_run, json)
}
