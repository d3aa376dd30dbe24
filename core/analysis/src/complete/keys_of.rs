//! Keys of mappings: those of the tables, and those that come from what is called: inputs, parameters, labels.

use std::collections::BTreeSet;

use kanzlei_lang::diagnostic::Place;
use kanzlei_lang::document::Document;
use kanzlei_lang::document::yaml::Node;
use kanzlei_lang::edit::At;
use kanzlei_lang::types::Type;
use serde_json::Value as Json;

use super::{Kind, Site, Suggestion};
use crate::keys;
use crate::place::{MARK, node};
use crate::sent::{Parameter, bound, inputs, parameters};

/// Steps with the keys they need, to be filled in.
const STEPS: &[(&str, &str)] = &[
    ("call", "call: ${1:service.operation}\nsend: {$2}"),
    ("let", "let:\n  ${1:name}: $0"),
    ("script", "id: ${1:result}\nscript: |\n  return ${0:1};"),
    ("if", "if: ${1:condition}\nthen:\n  - $0"),
    ("match", "match: ${1:value}\narms:\n  ${2:label}:\n    - $0"),
    ("each", "each: ${1:item}\nin: ${2:list}\nsteps:\n  - $0"),
    ("together", "together:\n  ${1:first}:\n    $2\n  ${3:second}:\n    $0"),
    ("invoke", "invoke: ${1:workflow}\nsend: {$2}"),
    ("sql", "sql: ${1:database}\nstatement: ${2:SELECT}\nbind: {$3}"),
    ("file", "file: ${1:store}\nof: $2"),
    ("render", "render: ${1:html}\ntemplate: ${2:reports/page.html}\nwith: {$3}"),
    ("mail", "mail:\n  to: $1\n  subject: $2\n  text: $3"),
    ("keep", "keep: {${1:name}: $2}"),
    ("pause", "pause: ${1:5s}"),
    ("enqueue", "enqueue: ${1:workflow}\nsend: {$2}"),
    ("cancel", "cancel: {tag: ${1:tag}}"),
    ("await", "await: ${1:name}\nsteps:\n  - $0"),
    ("wake", "wake: ${1:workflow}\nby: ${2:key}\nbody:\n  $0"),
    ("note", "note: $1"),
    ("progress", "progress: ${1:0.5}"),
    ("reply", "reply: ${1:200}\nbody:\n  $0"),
    ("fail", "fail: ${1:422}\ntitle: $2\ndetail: $3"),
];

/// Keys of an input, beside those of JSON Schema in general.
const INPUT: &[(&str, &str, &str)] = &[
    ("type", "type: ${1:string}", "The JSON type: `string`, `integer`, `number`, `boolean`, `array`, `object`."),
    ("description", "description: $1", "What it is, for those who call."),
    ("enum", "enum: [$1]", "The values it may have."),
    ("pattern", "pattern: \"^$1\\$\"", "A regular expression that text must match."),
    (
        "format",
        "format: ${1:date-time}",
        "The format of a text: `date`, `date-time`, `email`, `uri`, `uuid`, `duration`.",
    ),
    ("minimum", "minimum: $1", "The least number."),
    ("maximum", "maximum: $1", "The greatest number."),
    ("minLength", "minLength: $1", "The least number of characters."),
    ("maxLength", "maxLength: $1", "The greatest number of characters."),
    ("items", "items: {$1}", "What each item of an array is."),
    ("properties", "properties: {$1}", "The members of an object."),
    ("required", "required: [$1]", "The members an object must have."),
    ("default", "default: $1", "The value where none is given; it need not be given then."),
    ("examples", "examples: [$1]", "Values to show, and to try with."),
    ("optional", "optional: true", "It may be left out."),
    ("secret", "secret: true", "Its value is confidential: sealed in the journal and never shown."),
];

/// What may be a key at a place.
pub(super) fn suggest(site: &Site, replace: Place, item: bool, colon: bool) -> Vec<Suggestion> {
    let spot = site.spot;
    // The mark stands for the key; a word that is no key yet stands where the mapping belongs.
    let (map, at_key) = match spot.path.last() {
        Some(At::Key(key)) if key == MARK || spot_is_key(site) => (&spot.path[..spot.path.len() - 1], true),
        _ => (spot.path.as_slice(), false),
    };
    let here = node(&spot.root, map);
    let typed_key = spot.path.last().filter(|_| at_key);
    let present: BTreeSet<&str> = here
        .and_then(Node::as_map)
        .unwrap_or_default()
        .iter()
        .map(|(key, _)| key.name.as_str())
        .filter(|name| typed_key != Some(&At::Key((*name).to_owned())))
        .collect();
    let indent = site.text[..replace.start as usize]
        .rfind('\n')
        .map_or(replace.start as usize, |at| replace.start as usize - at - 1);
    let mut out = free_keys(site, map, replace);
    let named: Vec<keys::KeyAllowed> = keys::allowed(&spot.root, map);
    let is_step = keys::step_of(&spot.root, map).is_some_and(|(_, rest)| rest.is_empty());
    let undecided = is_step && here.is_none_or(|step| kanzlei_lang::edit::steps::kind(step).is_empty());
    for key in named {
        let step = STEPS.iter().find(|(name, _)| undecided && *name == key.name);
        let one = match step {
            Some((name, snippet)) => Suggestion::new(Kind::Step, *name, replace).snippet(*snippet),
            None => Suggestion::new(Kind::Key, key.name, replace).snippet(skeleton(key.name, key.schema)),
        };
        out.push(one.about(key.about));
    }
    if matches!(map, [At::Key(input), At::Key(_)] if input == "input") && keys::kind_of(&spot.root) == Some("workflow")
    {
        out.extend(
            INPUT.iter().map(|(name, snippet, about)| {
                Suggestion::new(Kind::Key, *name, replace).snippet(*snippet).about(*about)
            }),
        );
    }
    let in_braces = site.text[..replace.start as usize].rsplit('\n').next().is_some_and(|line| line.contains('{'));
    out.retain(|one| !present.contains(one.label.as_str()));
    for one in &mut out {
        if colon {
            (one.insert, one.snippet) = (one.label.clone(), false);
        } else if in_braces {
            one.insert = one.insert.lines().next().unwrap_or_default().to_owned();
        } else {
            let depth = if item { indent + 2 } else { indent };
            one.insert = one.insert.replace('\n', &format!("\n{}", " ".repeat(depth)));
        }
        if item {
            one.insert.insert_str(0, "- ");
        }
    }
    out
}

fn spot_is_key(site: &Site) -> bool {
    matches!(site.spot.what, crate::place::What::Key { .. })
}

/// What is written for a key: itself, and the beginning of its value.
fn skeleton(name: &str, schema: &Json) -> String {
    let refers = schema.get("$ref").and_then(Json::as_str).unwrap_or_default();
    let kind = schema.get("type").and_then(Json::as_str).unwrap_or_default();
    if refers.ends_with("/steps") {
        return format!("{name}:\n  - $0");
    }
    match kind {
        "array" if name == "entries" || name == "examples" || name == "statements" => format!("{name}:\n  - $0"),
        "array" => format!("{name}: [$1]"),
        "object"
            if matches!(name, "input" | "functions" | "replies" | "arms" | "together" | "let" | "stubs" | "body") =>
        {
            format!("{name}:\n  $0")
        }
        "object" => format!("{name}: {{$1}}"),
        "boolean" => format!("{name}: ${{1:true}}"),
        _ if !refers.is_empty() => format!("{name}: {{$1}}"),
        _ => format!("{name}: $1"),
    }
}

/// Keys that no table lists: names of inputs and parameters, labels of arms.
fn free_keys(site: &Site, map: &[At], replace: Place) -> Vec<Suggestion> {
    let root = &site.spot.root;
    let last = map.last().map(keys::key_name).unwrap_or_default();
    if let Some((end, rest)) = keys::step_of(root, map) {
        let Some(step) = node(root, &map[..end]) else { return Vec::new() };
        let text = |name: &str| step.get(name).and_then(Node::as_text).unwrap_or_default();
        return match (kanzlei_lang::edit::steps::kind(step), rest.len(), last.as_str()) {
            ("call", 1, "send") => suggested(parameters(site.workspace, text("call")), replace),
            ("invoke", 1, "send") => suggested(inputs(site.workspace, text("invoke")), replace),
            ("enqueue", 1, "send") => suggested(inputs(site.workspace, text("enqueue")), replace),
            ("sql", _, "bind") => {
                let statement = node(root, &map[..map.len() - 1]).and_then(|holder| holder.get("statement"));
                suggested(bound(statement.and_then(Node::as_text).unwrap_or_default()), replace)
            }
            ("match", 1, "arms") => labels(site, &map[..end], replace),
            _ => Vec::new(),
        };
    }
    match (keys::kind_of(root), map.len(), last.as_str()) {
        (Some("workflow"), 3, "send" | "from") => {
            let name = root.get("workflow").and_then(Node::as_text).unwrap_or_default();
            suggested(inputs(site.workspace, name), replace)
        }
        (Some("cases"), _, "input") => {
            suggested(inputs(site.workspace, root.get("cases").and_then(Node::as_text).unwrap_or_default()), replace)
        }
        (Some("cases"), _, "stubs" | "calls") => stubs(site, replace),
        (Some("cases"), _, "steps") => steps_of_cases(site, replace),
        _ => Vec::new(),
    }
}

fn value_snippet(name: &str) -> String {
    format!("{}: $1", kanzlei_lang::document::yaml::quoted(name))
}

/// Keys of what can be sent, each with its type and whether it is needed.
fn suggested(known: Vec<Parameter>, replace: Place) -> Vec<Suggestion> {
    let one = |parameter: Parameter| {
        let needed = if parameter.required { "required" } else { "optional" };
        let detail = match parameter.of {
            Type::Unknown => String::new(),
            of => format!("{of}, {needed}"),
        };
        Suggestion::new(Kind::Input, &parameter.name, replace)
            .snippet(value_snippet(&parameter.name))
            .detail(detail)
            .about(parameter.about)
    };
    known.into_iter().map(one).collect()
}

/// The values that the subject of a `match` can have.
fn labels(site: &Site, step: &[At], replace: Place) -> Vec<Suggestion> {
    let Some(subject) = node(&site.spot.root, step).and_then(|step| step.get("match")) else { return Vec::new() };
    let Some(text) = subject.as_text() else { return Vec::new() };
    let Some(sight) = crate::expression::sight(site.workspace, site.document, subject.at.start, Some(&site.spot.text))
    else {
        return Vec::new();
    };
    let of = crate::expression::type_of_name(&sight, text);
    of.alternatives()
        .iter()
        .filter_map(|one| match one {
            kanzlei_lang::types::Type::Text(kanzlei_lang::types::Text::One(text)) => Some(text.to_string()),
            kanzlei_lang::types::Type::Bool(Some(_)) | kanzlei_lang::types::Type::Number(Some(_)) => {
                Some(one.to_string())
            }
            _ => None,
        })
        .map(|label| Suggestion::new(Kind::Value, &label, replace).snippet(format!("{label}:\n  - $0")))
        .collect()
}

/// What the workflow of cases calls.
fn stubs(site: &Site, replace: Place) -> Vec<Suggestion> {
    let name = site.spot.root.get("cases").and_then(Node::as_text).unwrap_or_default();
    let names = crate::symbols::stubs_of(site.workspace, name);
    names
        .into_iter()
        .map(|name| Suggestion::new(Kind::Operation, &name, replace).snippet(format!("{name}: {{$1}}")))
        .collect()
}

/// The named steps of the workflow of cases.
fn steps_of_cases(site: &Site, replace: Place) -> Vec<Suggestion> {
    let name = site.spot.root.get("cases").and_then(Node::as_text).unwrap_or_default();
    let path = site
        .workspace
        .documents()
        .find(|(_, _, document)| matches!(document, Document::Workflow(workflow) if workflow.name.text == name));
    let Some((_, text, _)) = path else { return Vec::new() };
    let steps = kanzlei_lang::edit::steps::outline(text).unwrap_or_default();
    let mut out = Vec::new();
    for step in steps {
        let label = step.id.clone().unwrap_or_else(|| step.number.clone());
        out.push(
            Suggestion::new(Kind::Name, &label, replace)
                .snippet(format!("{}: ${{1:succeeded}}", kanzlei_lang::document::yaml::quoted(&label)))
                .detail(format!("step {} ({})", step.number, step.kind)),
        );
    }
    out
}
