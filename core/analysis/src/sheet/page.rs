//! What the template of a `render` step makes of sample values, while it is being written.

use std::collections::BTreeMap;

use kanzlei_compiler::check::relative;
use kanzlei_lang::document::yaml::{Kind, Node};
use kanzlei_lang::edit::At;
use kanzlei_model::value::Value;
use kanzlei_reports::{Format, Templates, closure};
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value as Json};

use super::evaluate;
use crate::Workspace;
use crate::place::{node, read};

/// The templates of a step, and what they make.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Page {
    /// What is made: `html`, `text`, `pdf` or `csv`.
    pub format: String,
    /// The template of the step, relative to the document.
    pub template: String,
    /// The texts of the template and of those it names, by their names.
    pub templates: BTreeMap<String, String>,
    /// What they make; the page of a PDF is HTML.
    pub text: String,
    /// Why they make nothing.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub fault: String,
    /// The names whose values are made up from their types.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub made_up: Vec<String>,
}

/// Fills the template of the step at a place. Names that `values` does not have are made up from their types.
pub fn page(workspace: &Workspace, path: &str, at: &[At], values: &BTreeMap<String, Json>) -> Option<Page> {
    let root = read(workspace.text(path)?)?;
    let step = node(&root, at)?;
    let word = step.get("render")?.as_text()?;
    let template = step.get("template").and_then(Node::as_text).unwrap_or_default().to_owned();
    let mut page = Page { format: word.to_owned(), template: template.clone(), ..Page::default() };
    let text = |name: &str| workspace.text(&relative(path, name)).map(str::to_owned);
    let Some((format, _)) = Format::ALL.iter().find(|(_, known)| *known == word) else { return Some(page) };
    page.templates = closure(&template, &text).unwrap_or_default();
    let mut with = Map::new();
    for (key, value) in step.get("with").and_then(Node::as_map).unwrap_or_default() {
        let filled = filled(workspace, path, at, value, values, &mut page);
        with.insert(key.name.clone(), filled);
    }
    if !page.fault.is_empty() {
        return Some(page);
    }
    match Templates::load(&template, *format, &text)
        .and_then(|templates| templates.render(&Value::from_json(&Json::Object(with))))
    {
        Ok(text) => page.text = text,
        Err(fault) => page.fault = fault.to_string(),
    }
    page.made_up.sort();
    page.made_up.dedup();
    Some(page)
}

/// A value of `with`, its templates filled.
fn filled(
    workspace: &Workspace,
    path: &str,
    at: &[At],
    value: &Node,
    values: &BTreeMap<String, Json>,
    page: &mut Page,
) -> Json {
    match &value.kind {
        Kind::Text(text) if text.text.contains("${") => {
            let Some(found) = evaluate(workspace, path, at, &text.text, true, values) else { return Json::Null };
            if page.fault.is_empty() {
                page.fault.clone_from(&found.fault);
            }
            page.made_up.extend(found.made_up);
            found.value
        }
        Kind::List(items) => {
            items.iter().map(|item| filled(workspace, path, at, item, values, page)).collect::<Vec<_>>().into()
        }
        Kind::Map(members) => {
            let members =
                members.iter().map(|(key, value)| (key.name.clone(), filled(workspace, path, at, value, values, page)));
            Json::Object(members.collect())
        }
        _ => serde_json::from_str(&value.to_value().to_json()).unwrap_or_default(),
    }
}
