//! What could be added at a place: steps of every kind, calls of every operation with what they send filled in as far as it is known.

use kanzlei_lang::document::keys::{STEP_KINDS, WORKFLOW};
use kanzlei_lang::document::yaml::quoted;
use kanzlei_lang::document::{Document, service::Response};
use kanzlei_lang::edit::{self, At, Change, steps};
use kanzlei_lang::types::schema::Reader;
use kanzlei_lang::types::{Text, Type, contradiction};
use serde::{Deserialize, Serialize};

use super::short;
use crate::expression::type_of_name;
use crate::place::{node, read};
use crate::sent::{Parameter, inputs, parameters};
use crate::workspace::Instead;
use crate::{Workspace, symbols};
use kanzlei_compiler::check::watch::{Question, Sight};
use kanzlei_compiler::plan::FIXED;

/// A step that could be added.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Offer {
    /// What it is called: `call tides.nextWindow`, `if`.
    pub label: String,
    /// What it does.
    pub about: String,
    /// What goes in, for people.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub takes: String,
    /// What comes out, for people.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub gives: String,
    /// The step, as YAML.
    pub value: String,
}

/// The steps that begin each kind, where no service is named.
const BEGINNINGS: &[(&str, &str)] = &[
    ("if", "if: \"\"\nthen: []"),
    ("let", "let:\n  value: \"\""),
    ("script", "id: result\nscript: |-\n  return 1;"),
    ("each", "each: item\nin: \"\"\nsteps: []"),
    ("together", "together:\n  first: []\n  second: []"),
    ("match", "match: \"\"\narms:\n  first: []"),
    ("render", "id: page\nrender: html\ntemplate: \"\"\nwith: {}"),
    ("mail", "id: sent\nmail:\n  to: \"\"\n  subject: \"\"\n  text: \"\""),
    ("reply", "reply: 200\nbody: {}"),
    ("fail", "fail: 422\ntitle: \"\""),
    ("keep", "keep:\n  value: \"\""),
    ("pause", "pause: 5s"),
    ("cancel", "cancel: {tag: \"\"}"),
    ("await", "await: answer\nsteps: []"),
    ("wake", "id: told\nwake: \"\"\nby: \"\"\nbody: {}"),
    ("note", "note: \"\""),
    ("progress", "progress: 0.5"),
    ("call", "call: GET https://\n"),
];

/// Lists what could be added at a place of a list of steps.
pub fn offers(workspace: &Workspace, path: &str, at: &[At]) -> Option<Vec<Offer>> {
    let text = workspace.text(path)?;
    let sight = sight_at(workspace, path, text, at);
    let names = taken(text, sight.as_ref());
    let mut out = Vec::new();
    let about = |kind: &str| {
        let table = STEP_KINDS.iter().find(|(name, _)| *name == kind).map_or(WORKFLOW, |(_, table)| *table);
        table.first().map(|spec| spec.about).unwrap_or_default()
    };
    for (_, _, document) in workspace.documents() {
        let Document::Service(service) = document else { continue };
        for (id, operation) in &service.operations {
            let target = format!("{}.{id}", service.name.text);
            let known = parameters(workspace, &target);
            let mut reader = Reader::new(&service.api);
            let gives = operation.responses.iter().find(|response| answers_well(response));
            let gives = gives.and_then(|response| response.content.first()).map(|(_, schema)| reader.read(schema));
            let name = unused(&result_name(id), &names);
            out.push(Offer {
                label: format!("call {target}"),
                about: match operation.about.is_empty() {
                    true => format!("{} {}", operation.method, operation.path),
                    false => operation.about.clone(),
                },
                takes: listed(&known),
                gives: gives.map(|of| short(of.to_string())).unwrap_or_default(),
                value: format!("id: {name}\ncall: {target}{}", sent(&known, sight.as_ref())),
            });
        }
    }
    let own = symbols_name(text);
    for (_, _, document) in workspace.documents() {
        let Document::Workflow(workflow) = document else { continue };
        let target = &workflow.name.text;
        if Some(target) == own.as_ref() {
            continue;
        }
        let known = inputs(workspace, target);
        let name = unused(&result_name(&target.replace('-', "_")), &names);
        let sends = sent(&known, sight.as_ref());
        let one = |verb: &str, value: String| Offer {
            label: format!("{verb} {target}"),
            about: workflow.about.clone(),
            takes: listed(&known),
            gives: String::new(),
            value,
        };
        out.push(one("invoke", format!("id: {name}\ninvoke: {target}{sends}")));
        out.push(one("enqueue", format!("enqueue: {target}{sends}")));
    }
    let known = workspace.known.iter().flat_map(|known| known.databases.keys().cloned());
    let mut databases: Vec<String> = known.chain(symbols::named_outside(workspace, true)).collect();
    databases.sort();
    databases.dedup();
    for database in databases {
        out.push(Offer {
            label: format!("sql {database}"),
            about: "A statement with named parameters.".into(),
            takes: String::new(),
            gives: "{rows, count, id}".into(),
            value: format!("id: {}\nsql: {database}\nstatement: SELECT 1 AS one", unused("found", &names)),
        });
    }
    out.extend(files(workspace, sight.as_ref(), &names));
    for (kind, value) in BEGINNINGS {
        out.push(Offer {
            label: (*kind).to_owned(),
            about: about(kind).to_owned(),
            takes: String::new(),
            gives: String::new(),
            value: (*value).to_owned(),
        });
    }
    Some(out)
}

/// What could be done with files: the one that is known last, in the places that are known.
fn files(workspace: &Workspace, sight: Option<&Sight>, names: &[String]) -> Vec<Offer> {
    let known = workspace.known.iter().flat_map(|known| known.places.iter().cloned());
    let mut places: Vec<String> = known.chain(symbols::places(workspace)).collect();
    places.sort();
    places.dedup();
    let place = places.first().map_or("archive", String::as_str);
    let of = sight.and_then(a_file).map_or("\"\"".to_owned(), |name| format!("${{{name}}}"));
    let one = |word: &str, about: &str, gives: &str, name: &str, rest: String| Offer {
        label: format!("file {word}"),
        about: about.to_owned(),
        takes: String::new(),
        gives: gives.to_owned(),
        value: format!("id: {}\nfile: {word}\n{rest}", unused(name, names)),
    };
    vec![
        one(
            "store",
            "Stores a file in places.",
            "the path in each",
            "stored",
            format!("of: {of}\nto: {{{place}: \"\"}}"),
        ),
        one("fetch", "Reads a file of a place.", "file", "fetched", format!("from: {{{place}: \"\"}}")),
        one(
            "list",
            "Lists the files below a path.",
            "{path, size, stored}[]",
            "found",
            format!("from: {{{place}: \"\"}}"),
        ),
        one("remove", "Removes files of a place.", "{removed}", "gone", format!("from: {{{place}: \"\"}}")),
        one("link", "Makes an address for downloads.", "{url, until}", "link", format!("from: {{{place}: \"\"}}")),
        one("zip", "Packs files into one.", "file", "packed", format!("of: {{first.txt: {of}}}")),
        one("unzip", "Unpacks a file.", "{path, file}[]", "parts", format!("of: {of}")),
        one("read", "Reads the rows of a file.", "rows", "rows", format!("of: {of}\nformat: csv\nrow: {{}}")),
        one("write", "Writes rows into a new file.", "file", "written", "of: \"\"\nformat: csv".to_owned()),
    ]
}

/// The name of a file that is known, the last one.
fn a_file(sight: &Sight) -> Option<String> {
    let names: Vec<&str> = sight.scope.names().collect();
    let named = names.iter().rev().find(|name| type_of_name(sight, name).is_file()).map(|name| (*name).to_owned());
    named.or_else(|| {
        let Type::Object(shape) = type_of_name(sight, "input") else { return None };
        shape.members.iter().find(|member| member.value.is_file()).map(|member| format!("input.{}", member.name))
    })
}

fn symbols_name(text: &str) -> Option<String> {
    Some(read(text)?.get("workflow")?.as_text()?.to_owned())
}

fn answers_well(response: &Response) -> bool {
    response.status.starts_with('2')
}

/// What a step at a place would know: a text with a step there is checked in place of this one.
fn sight_at(workspace: &Workspace, path: &str, text: &str, at: &[At]) -> Option<Sight> {
    let edits = edit::change(text, &Change::Insert { at: at.to_vec(), value: "note: \"\"".into() }).ok()?;
    let with = edit::apply(text, &edits).ok()?;
    let place = node(&read(&with)?, at)?.at.start;
    let index = workspace.index(path)?;
    let question = Question { only: Some(index), watch: Some((index, place)), mentions: false };
    workspace.examine(Some(Instead { path, text: &with }), question).sight
}

/// Names that a new result cannot have.
fn taken(text: &str, sight: Option<&Sight>) -> Vec<String> {
    let mut names: Vec<String> =
        steps::outline(text).unwrap_or_default().into_iter().filter_map(|step| step.id).collect();
    names.extend(sight.into_iter().flat_map(|sight| sight.scope.names().map(str::to_owned).collect::<Vec<_>>()));
    names
}

/// A name for a result: the last word of what is called.
fn result_name(id: &str) -> String {
    let begins = id.rfind(|c: char| c.is_ascii_uppercase() || c == '_' || c == '-').unwrap_or(0);
    let word: String = id[begins..].chars().filter(char::is_ascii_alphanumeric).collect();
    match word.chars().next() {
        Some(first) if first.is_ascii_alphabetic() => word.to_lowercase(),
        _ => "result".into(),
    }
}

fn unused(name: &str, names: &[String]) -> String {
    let free = |name: &String| !names.contains(name) && !FIXED.contains(&name.as_str());
    let numbered = (2..1000).map(|number| format!("{name}{number}"));
    std::iter::once(name.to_owned()).chain(numbered).find(free).unwrap_or_else(|| name.to_owned())
}

fn listed(known: &[Parameter]) -> String {
    let one = |parameter: &Parameter| format!("{}{}", parameter.name, if parameter.required { "" } else { "?" });
    known.iter().map(one).collect::<Vec<_>>().join(", ")
}

/// What is required, each with the value of the same name that fits, if there is one.
fn sent(known: &[Parameter], sight: Option<&Sight>) -> String {
    let required: Vec<String> = known
        .iter()
        .filter(|parameter| parameter.required)
        .map(|parameter| {
            let value = sight.and_then(|sight| value_named(parameter, sight));
            let value = value.map_or("\"\"".to_owned(), |expression| format!("\"${{{expression}}}\""));
            format!("{}: {value}", quoted(&parameter.name))
        })
        .collect();
    match required.is_empty() {
        true => String::new(),
        false => format!("\nsend: {{{}}}", required.join(", ")),
    }
}

/// The value in scope that is likely to be meant by a parameter: an input or name that is called like it, a member of an answer
/// that is, or the only input of its particular type.
fn value_named(parameter: &Parameter, sight: &Sight) -> Option<String> {
    let fits = |of: &Type| contradiction(of, &parameter.of).is_none();
    let called = |name: &str| {
        name == parameter.name || name.strip_prefix(&parameter.name).is_some_and(|rest| rest.starts_with('_'))
    };
    let member = |of: &Type| match of {
        Type::Object(shape) => {
            let mut fitting = shape.members.iter().filter(|member| !member.optional && fits(&member.value));
            fitting.find(|member| called(&member.name)).map(|member| member.name.to_string())
        }
        _ => None,
    };
    let input = type_of_name(sight, "input");
    if let Some(name) = member(&input) {
        return Some(format!("input.{name}"));
    }
    let names: Vec<&str> = sight.scope.names().collect();
    if names.contains(&parameter.name.as_str()) && fits(&type_of_name(sight, &parameter.name)) {
        return Some(parameter.name.clone());
    }
    let of_an_answer = names.iter().rev().find_map(|name| {
        let Type::Object(shape) = type_of_name(sight, name) else { return None };
        let found = member(&shape.get("body")?.value)?;
        Some(format!("{name}.body.{found}"))
    });
    if of_an_answer.is_some() {
        return of_an_answer;
    }
    let particular = matches!(&parameter.of, Type::Text(text) if !matches!(text, Text::Any | Text::One(_)));
    let Type::Object(shape) = input else { return None };
    let mut alike = shape.members.iter().filter(|member| member.value == parameter.of);
    match (particular, alike.next(), alike.next()) {
        (true, Some(only), None) => Some(format!("input.{}", only.name)),
        _ => None,
    }
}
