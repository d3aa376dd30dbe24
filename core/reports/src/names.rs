//! Names in templates: the templates that others extend or include, and the values that they mention.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::LazyLock;

use regex::Regex;

use crate::templates::Fault;
use crate::{MOST_OF_TEMPLATES, MOST_TEMPLATES};

static HIDDEN: LazyLock<Option<Regex>> =
    LazyLock::new(|| Regex::new(r"(?s)\{#.*?#\}|\{%-?\s*raw\s*-?%\}.*?\{%-?\s*endraw\s*-?%\}").ok());
static OTHERS: LazyLock<Option<Regex>> =
    LazyLock::new(|| Regex::new(r#"\{%-?\s*(?:extends|include|import|from)\s+(?:"([^"]+)"|'([^']+)')"#).ok());
static SET: LazyLock<Option<Regex>> = LazyLock::new(|| Regex::new(r"\{%-?\s*(?:set|macro)\s+(\w+)").ok());
static TAG: LazyLock<Option<Regex>> = LazyLock::new(|| Regex::new(r"(?s)\{\{.*?\}\}|\{%.*?%\}").ok());

/// A value that a template mentions.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Mention {
    /// The template.
    pub template: String,
    /// Its line, counted from 1.
    pub line: usize,
    /// The name, with the members that are read of it.
    pub path: Vec<String>,
}

/// A template without what is not looked at, every line kept.
fn visible(text: &str) -> String {
    let blank = |hidden: &regex::Captures| "\n".repeat(hidden[0].matches('\n').count());
    match &*HIDDEN {
        Some(hidden) => hidden.replace_all(text, blank).into_owned(),
        None => text.to_owned(),
    }
}

/// The templates that one names, as it names them.
fn others(text: &str) -> Vec<String> {
    let text = visible(text);
    let Some(others) = &*OTHERS else { return Vec::new() };
    others
        .captures_iter(&text)
        .filter_map(|found| found.get(1).or(found.get(2)).map(|name| name.as_str().to_owned()))
        .collect()
}

/// The path of a template that another one names, relative to it; nothing where it leads out of the folder of the first.
pub(crate) fn beside(parent: &str, name: &str) -> Option<String> {
    let mut parts: Vec<&str> = parent.split('/').collect();
    parts.pop();
    for part in name.split('/') {
        match part {
            "" | "." => {}
            ".." => _ = parts.pop()?,
            part => parts.push(part),
        }
    }
    Some(parts.join("/"))
}

/// A template with all that it extends and includes, by their paths. `text` returns the text of a path.
///
/// # Errors
/// When one is missing or lies outside of the folder, or their number or size exceeds its bound.
pub fn closure(root: &str, text: &dyn Fn(&str) -> Option<String>) -> Result<BTreeMap<String, String>, Fault> {
    let root = beside("", root)
        .ok_or_else(|| Fault::plain(format!("`{root}` lies outside of the folder; templates lie below it")))?;
    let mut all = BTreeMap::new();
    let (mut open, mut bytes) = (vec![(root, None::<String>)], 0);
    while let Some((path, from)) = open.pop() {
        if all.contains_key(&path) {
            continue;
        }
        let named = from.map_or_else(String::new, |from| format!(", which `{from}` names"));
        let Some(found) = text(&path) else {
            return Err(Fault::plain(format!("there is no template `{path}`{named}")));
        };
        bytes += found.len();
        if all.len() >= MOST_TEMPLATES || bytes > MOST_OF_TEMPLATES {
            return Err(Fault::plain(format!(
                "the templates of a step are at most {MOST_TEMPLATES}, with {MOST_OF_TEMPLATES} bytes together"
            )));
        }
        for name in others(&found) {
            let Some(other) = beside(&path, &name) else {
                return Err(Fault::plain(format!("`{name}`, which `{path}` names, lies outside of the folder")));
            };
            open.push((other, Some(path.clone())));
        }
        all.insert(path, found);
    }
    Ok(all)
}

/// Names that templates set themselves.
pub(crate) fn set(texts: &BTreeMap<String, String>) -> BTreeSet<String> {
    let Some(set) = &*SET else { return BTreeSet::new() };
    texts
        .values()
        .flat_map(|text| set.captures_iter(text).map(|found| found[1].to_owned()).collect::<Vec<_>>())
        .collect()
}

/// The first line on which a template mentions a name.
pub(crate) fn line_of(text: &str, path: &[String]) -> usize {
    let text = visible(text);
    let name = path.iter().map(|part| regex::escape(part)).collect::<Vec<_>>().join(r"\s*\.\s*");
    let (Some(tags), Ok(name)) = (&*TAG, Regex::new(&format!(r"\b{name}\b"))) else { return 1 };
    let at = tags.find_iter(&text).find_map(|tag| name.find(tag.as_str()).map(|found| tag.start() + found.start()));
    at.map_or(1, |at| text[..at].matches('\n').count() + 1)
}
