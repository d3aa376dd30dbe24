//! What stands at a position, in Markdown: what a key does, what a name holds, what an operation takes and answers.

use std::fmt::Write;

use kanzlei_compiler::check::Checked;
use kanzlei_compiler::check::watch::{Question, Sight};
use kanzlei_compiler::example;
use kanzlei_lang::document::{Document, Library, Workflow};
use kanzlei_lang::expr::about;
use kanzlei_lang::expr::functions::{self, Static};
use kanzlei_lang::types::{Type, schema};
use serde::{Deserialize, Serialize};

use crate::complete::Range;
use crate::expression::{self, Receiver, type_of_name};
use crate::place::{What, locate};
use crate::symbols::{self, Symbol};
use crate::{Workspace, explain, keys};

/// Tables that are listed of a database.
const MOST_TABLES: usize = 30;

/// What stands at a position.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Hover {
    /// What it is about.
    pub range: Range,
    /// The text, as Markdown.
    pub text: String,
}

/// Says what stands at a position of a document, given in bytes, findings there included.
pub fn at(workspace: &Workspace, path: &str, position: usize) -> Option<Hover> {
    // One check answers all: the names at the position, what expressions mention, and the findings.
    let index = workspace.index(path)?;
    let question = Question { only: Some(index), watch: Some((index, position as u32)), mentions: true };
    let checked = workspace.examine(None, question);
    let mut hover = what(workspace, path, position, &checked);
    let found = match workspace.document(path) {
        Some(Document::Cases(_)) => workspace.diagnostics(path),
        _ => checked.diagnostics,
    };
    let here = found.iter().filter(|found| (found.start as usize..=found.end as usize).contains(&position));
    let mut codes: Vec<&str> = Vec::new();
    for found in here {
        if codes.contains(&found.code.as_str()) {
            continue;
        }
        codes.push(&found.code);
        let Some(explained) = explain::of(&found.code) else { continue };
        let text = format!("`{}`: {}", found.code, explained.about);
        match &mut hover {
            Some(hover) => {
                let _ = write!(hover.text, "\n\n---\n\n{text}");
            }
            None => hover = Some(Hover { range: Range { start: found.start, end: found.end }, text }),
        }
    }
    hover
}

fn what(workspace: &Workspace, path: &str, position: usize, checked: &Checked) -> Option<Hover> {
    let text = workspace.text(path)?;
    let spot = locate(text, position)?;
    match &spot.what {
        What::Key { replace, .. } => {
            // Names that are declared have more to say than the table they stand in.
            if let Some(found) = symbol(workspace, path, position, checked) {
                return Some(found);
            }
            let key = keys::about(&spot.root, &spot.path)?;
            let mut text = format!("**`{}`**: {}", key.name, key.about);
            let values = keys::values(&spot.root, &spot.path);
            if !values.is_empty() && values.len() <= 12 {
                let _ = write!(
                    text,
                    "\n\n{}",
                    values.iter().map(|value| format!("`{value}`")).collect::<Vec<_>>().join(", ")
                );
            }
            Some(Hover { range: (*replace).into(), text })
        }
        What::Value { at: place, .. } => {
            if let Some((within, sight)) =
                expression::at_value(workspace, path, text, &spot, *place, position, checked.sight.clone())
            {
                return in_expression(workspace, path, &within, &sight, checked);
            }
            symbol(workspace, path, position, checked)
        }
    }
}

fn in_expression(
    workspace: &Workspace,
    path: &str,
    within: &expression::Within,
    sight: &Sight,
    checked: &Checked,
) -> Option<Hover> {
    let ending = within.ending(sight)?;
    let name = within.text.get(ending.start..ending.end).filter(|name| !name.is_empty())?;
    let range = Range { start: (within.begins + ending.start) as u32, end: (within.begins + ending.end) as u32 };
    let called = within.text[ending.end..].trim_start().starts_with('(');
    let described = |found: Option<&about::About>| {
        found.map(|about| Hover { range, text: format!("```\n{}\n```\n\n{}", about.signature(), about.about) })
    };
    match &ending.member_of {
        Some(Receiver::Namespace(namespace)) => {
            if let Some(value) = functions::constant(namespace, name) {
                return Some(Hover { range, text: format!("```\n{namespace}.{name} = {value}\n```") });
            }
            described(about::function(&format!("{namespace}.{name}")))
        }
        Some(Receiver::Value(_)) if called && about::method(name).is_some() => described(about::method(name)),
        Some(Receiver::Value(of)) => {
            let members = of.alternatives().iter().filter_map(|one| match one {
                Type::Object(shape) => shape.read(name),
                Type::List(_) | Type::Text(_) if name == "length" => Some(Type::NUMBER),
                _ => None,
            });
            let of = members.reduce(Type::or).unwrap_or(Type::Unknown);
            let declared = symbol(workspace, path, range.start as usize, checked).filter(|_| of != Type::Unknown);
            let more = declared.map(|found| format!("\n\n{}", found.text)).unwrap_or_default();
            Some(Hover { range, text: format!("{}{more}", typed(name, &of)) })
        }
        None if called => match sight.scope.function(name) {
            Some(function) => Some(Hover {
                range,
                text: format!("```\n{name} = {}\n```\n\nA function of this document.", function.text),
            }),
            None => described(about::function(name)),
        },
        None if sight.scope.slot(name).is_some() => {
            let of = type_of_name(sight, name);
            let origin = symbols::Origins::of(workspace, path).get(name).to_owned();
            Some(Hover { range, text: format!("{}\n\n{origin}", typed(name, &of)).trim_end().to_owned() })
        }
        None => {
            let parameters = within.parameters(sight, ending.start, ending.end);
            if let Some((_, of)) = parameters.into_iter().rev().find(|(known, _)| known == name) {
                return Some(Hover { range, text: typed(name, &of) });
            }
            if functions::is_namespace(name) {
                let names: Vec<&str> = Static::names().filter(|full| full.starts_with(&format!("{name}."))).collect();
                return Some(Hover {
                    range,
                    text: names.iter().map(|name| format!("`{name}`")).collect::<Vec<_>>().join(", "),
                });
            }
            described(about::function(name))
        }
    }
}

/// A name with its type, and an example of a value.
fn typed(name: &str, of: &Type) -> String {
    let mut text = format!("```\n{name}: {of}\n```");
    if let Some(sample) = sample(of) {
        let _ = write!(text, "\n\nFor example `{sample}`.");
    }
    text
}

/// A value that fits a type, on one line, where more is known than its kind.
fn sample(of: &Type) -> Option<String> {
    let first = of.without_nullish();
    let first =
        first.alternatives().iter().find(|one| matches!(one, Type::Object(_) | Type::List(_) | Type::Text(_)))?.clone();
    if matches!(&first, Type::Text(text) if text.what() == "text") {
        return None;
    }
    let sample = example::of(&schema::write(&first)).to_string();
    (sample.len() <= 160).then_some(sample)
}

/// What a name of the documents stands for.
fn symbol(workspace: &Workspace, path: &str, position: usize, checked: &Checked) -> Option<Hover> {
    let found = symbols::at_checked(workspace, path, position, checked)?;
    let document = |wanted: &dyn Fn(&Document) -> bool| {
        workspace.documents().map(|(_, _, document)| document).find(|document| wanted(document))
    };
    let text = match &found.symbol {
        Symbol::Workflow(name) => workflow(symbols::workflow(workspace, name)?),
        Symbol::Service(name) => {
            let Document::Service(service) = document(&|d| matches!(d, Document::Service(s) if s.name.text == *name))?
            else {
                return None;
            };
            format!("service **{name}**, `{}`\n\n{}", service.base, service.about)
        }
        Symbol::Operation(service, name) => {
            let (service, operation) = symbols::operation(workspace, service, name)?;
            let mut reader = schema::Reader::new(&service.api);
            let mut text = format!("```\n{} {}\n```\n\n{}", operation.method, operation.path, operation.about);
            for parameter in &operation.parameters {
                let of = reader.read(&parameter.schema);
                let needed = if parameter.required { "" } else { "?" };
                let _ = write!(text, "\n- `{}{needed}: {of}`", parameter.name);
            }
            if let Some(body) = &operation.body {
                let _ = write!(text, "\n- body `{}`", reader.read(body));
            }
            text.push('\n');
            for response in &operation.responses {
                let of = response
                    .content
                    .first()
                    .map_or("no body".into(), |(_, schema)| format!("`{}`", reader.read(schema)));
                let _ = write!(text, "\n{}: {of}  ", response.status);
            }
            if let Some(example) = operation.responses.iter().find_map(|response| response.example.as_ref()) {
                let _ = write!(text, "\n\nFor example `{example}`.");
            }
            text
        }
        Symbol::Allowance(name) => {
            let found = document(&|d| matches!(d, Document::Allowance(one) if one.name.text == *name))?;
            let Document::Allowance(one) = found else { return None };
            let rate = one.rate.map(|(n, span)| format!(", {n} in {}", kanzlei_model::duration::short(span)));
            let quota = one.quota.map(|(n, period)| format!(", {n} each {period:?}").to_lowercase());
            format!("allowance **{name}**{}{}\n\n{}", rate.unwrap_or_default(), quota.unwrap_or_default(), one.about)
        }
        Symbol::Alert(name) => {
            let found = document(&|d| matches!(d, Document::Alert(one) if one.name.text == *name))?;
            let Document::Alert(one) = found else { return None };
            let of = (one.subject.name(), &one.of.text);
            format!("alert **{name}**, of the {} `{}`\n\n{}", of.0, of.1, one.about)
        }
        Symbol::Issuer(name) => {
            let found = document(&|d| matches!(d, Document::Issuer(one) if one.name.text == *name))?;
            let Document::Issuer(one) = found else { return None };
            let audience = one.audience.join("`, `");
            format!("issuer **{name}**, `{}`, tokens for `{audience}`\n\n{}", one.iss, one.about)
        }
        Symbol::Lane(name) => {
            let Document::Lane(lane) = document(&|d| matches!(d, Document::Lane(l) if l.name.text == *name))? else {
                return None;
            };
            let at_once = lane.at_once.map_or(String::new(), |n| format!(", {n} at once"));
            let pace = lane
                .pace
                .map_or(String::new(), |(n, span)| format!(", {n} in {}", kanzlei_model::duration::short(span)));
            format!("lane **{name}**{at_once}{pace}\n\n{}", lane.about)
        }
        Symbol::Secret(name) => match workspace.known.as_ref().map(|known| known.secrets.get(name)) {
            Some(Some(purposes)) => {
                let shown: Vec<String> = purposes.iter().map(ToString::to_string).collect();
                format!("secret **{name}**, for {}", shown.join(", "))
            }
            Some(None) => format!("secret **{name}**, which is not set: `kanzlei secrets set {name} --for …`"),
            None => format!("secret **{name}**, set with `kanzlei secrets set {name} --for …`"),
        },
        Symbol::Setting(name) => {
            let checked = workspace.examine(None, Question { only: Some(usize::MAX), ..Question::default() });
            let setting = checked.settings.declared.get(name)?;
            let about = setting.schema.get("description").and_then(|text| text.as_str()).unwrap_or_default();
            let of = kanzlei_lang::types::schema::read(&setting.schema);
            let json = |value: &kanzlei_model::value::Value| value.to_json();
            let default =
                setting.default.as_ref().map_or("no default".into(), |value| format!("default `{}`", json(value)));
            let set = setting.set.as_ref().map_or(String::new(), |value| format!(", set to `{}`", json(value)));
            format!("setting **{name}**: `{of}`, {default}{set}\n\n{about}")
        }
        Symbol::Database(name) => {
            match document(&|d| matches!(d, Document::Database(found) if found.name.text == *name)) {
                Some(Document::Database(found)) => {
                    let mut text = format!("database **{name}**\n\n{}\n", found.about);
                    for (table, columns) in found.tables.iter().take(MOST_TABLES) {
                        let columns: Vec<&str> = columns.iter().map(|column| column.name.as_str()).collect();
                        let _ = write!(text, "\n- `{table}`: {}", columns.join(", "));
                    }
                    text
                }
                _ => format!(
                    "database **{name}**, as the configuration of the service names it; `kanzlei databases describe {name}` writes its tables beside the documents"
                ),
            }
        }
        Symbol::Input(of, name) => {
            let property =
                symbols::workflow(workspace, of)?.input.iter().find(|property| property.name.text == *name)?;
            let about = property.schema.get("description").and_then(|text| text.as_str()).unwrap_or_default();
            let needed = if property.optional || property.default.is_some() { "optional" } else { "required" };
            let secret = if property.secret { ", confidential" } else { "" };
            let sample = example::of(&property.schema);
            format!(
                "```\n{name}: {}\n```\n\nInput of `{of}`, {needed}{secret}. {about}\n\nFor example `{sample}`.",
                schema::read(&property.schema)
            )
        }
        Symbol::Name(of, name) => {
            let (path, text, _) = workspace.documents().find(
                |(_, _, document)| matches!(document, Document::Workflow(workflow) if workflow.name.text == *of),
            )?;
            let origin = symbols::Origins::of(workspace, path).get(name).to_owned();
            // Its type is known behind the step that defines it.
            let of = crate::scope::at(workspace, path, text.len())
                .and_then(|scope| scope.names.into_iter().find(|one| one.name == *name));
            match of {
                Some(known) => format!("```\n{name}: {}\n```\n\n{origin}", known.of),
                None => format!("**{name}**\n\n{origin}"),
            }
        }
        Symbol::Function(of, name) => {
            let functions = match symbols::workflow(workspace, of) {
                Some(workflow) => &workflow.functions,
                None => &symbols::library(workspace, of)?.functions,
            };
            let (_, node) = functions.iter().find(|(known, _)| known.text == *name)?;
            let from = if symbols::library(workspace, of).is_some() {
                format!("\n\nof the library `{of}`")
            } else {
                String::new()
            };
            format!("```\n{name} = {}\n```{from}", node.as_text().unwrap_or_default())
        }
        Symbol::Group(of, name) => workflow(symbols::workflow(workspace, &format!("{of}.{name}"))?),
        Symbol::Library(name) => library(symbols::library(workspace, name)?),
        Symbol::Kept(of, name) => format!("`kept.{name}`: what earlier runs of `{of}` kept"),
    };
    Some(Hover { range: found.range, text: text.trim_end().to_owned() })
}

fn library(found: &Library) -> String {
    let version = found.version.as_ref().map(|version| format!(" {version}")).unwrap_or_default();
    let mut text = format!("library **{}**{version}\n\n{}\n", found.name.text, found.about);
    for (name, _) in &found.functions {
        let _ = write!(text, "\n- function `{}`", name.text);
    }
    for one in &found.types {
        let _ = write!(text, "\n- type `{}`", one.name.text);
    }
    for group in &found.groups {
        let _ = write!(text, "\n- group `{}`: {}", group.name.text, group.about);
    }
    text
}

fn workflow(found: &Workflow) -> String {
    let mut text = format!("workflow **{}**\n\n{}\n", found.name.text, found.about);
    for endpoint in &found.entries {
        let _ = write!(text, "\n`{} {}`  ", endpoint.method, endpoint.address);
    }
    for webhook in &found.webhooks {
        let _ = write!(text, "\n`{} {}`  ", webhook.methods.join(", "), webhook.address);
    }
    for property in &found.input {
        let optional = if property.optional || property.default.is_some() { "?" } else { "" };
        let _ = write!(text, "\n- `{}{optional}: {}`", property.name.text, schema::read(&property.schema));
    }
    text
}
