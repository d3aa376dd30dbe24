//! The sheet of a text as an editor needs it: its paragraphs, whether or not it checks, and what each of them can be changed into.
//!
//! [`of`] lists the paragraphs with their places in the tree and the ends of lists where steps can be added; [`form`] makes a form
//! of one of them from the checker's tables and the schemas of what it calls; [`offers`] lists what could be added, with its YAML;
//! [`values`] what could be chosen for a field; [`evaluate`] computes an expression over sample values. Changes
//! are made by [`kanzlei_lang::edit`] at the places that these name.
//!
//! ```
//! use kanzlei_analysis::{Workspace, sheet};
//! let text = "workflow: w\nsteps:\n  - if: input.late\n    then:\n      - note: late\n  - reply: 200\n";
//! let workspace = Workspace::of([("w.yaml".to_owned(), text.to_owned())]);
//! let sheet = sheet::of(&workspace, "w.yaml").unwrap();
//! let shown: Vec<String> = sheet.parts.iter().map(|part| format!("{} {} {}", part.number, part.kind, part.title)).collect();
//! assert_eq!(shown, ["1 if input.late", "1.1 note late", "2 reply 200"]);
//! let ends: Vec<&str> = sheet.ends.iter().map(|end| end.at.as_str()).collect();
//! assert_eq!(ends, ["steps/0/then/1", "steps/0/else/0", "steps/2", "on_failure/0"]);
//! ```

mod evaluate;
mod form;
mod offers;
mod page;
mod values;

use std::collections::BTreeMap;

use kanzlei_compiler::example;
use kanzlei_compiler::plan::sheet::{inline, rows};
use kanzlei_lang::document::Document;
use kanzlei_lang::document::keys::STEP_KINDS;
use kanzlei_lang::document::yaml::{Kind, Node};
use kanzlei_lang::edit::steps::ON_FAILURE;
use kanzlei_lang::edit::{At, parse_path, path_text, steps};
use kanzlei_model::time::Timestamp;
use serde::{Deserialize, Serialize};
use serde_json::Value as Json;

use crate::Workspace;
use crate::complete::Range;
use crate::place::{node, read};

pub use evaluate::{Evaluated, evaluate};
pub use form::{Field, Form, Shape, form};
pub use offers::{Offer, offers};
pub use page::{Page, page};
pub use values::{Choice, Values, values};

/// A workflow's text as paragraphs.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Sheet {
    /// The name of the workflow.
    pub name: String,
    /// What it is for.
    pub about: String,
    /// Its inputs; none where the text cannot be read as a workflow.
    #[serde(default)]
    pub inputs: Vec<Wanted>,
    /// Entries, input and what else stands above the steps, then the steps.
    pub parts: Vec<Part>,
    /// Where lists of steps end, inner ones first.
    pub ends: Vec<End>,
}

/// An input that a request has to bring, or may.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Wanted {
    /// Its name.
    pub name: String,
    /// JSON Schema (2020-12).
    pub schema: Json,
    /// Whether it may not be missing.
    pub required: bool,
    /// Whether it is confidential.
    pub secret: bool,
    /// A value that fits the schema.
    pub sample: Json,
}

/// A paragraph.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Part {
    /// The number of a step: `2.1`; empty for what stands above the steps.
    pub number: String,
    /// Where it stands in the tree: `steps/2/then/0`, `entries/0`, `input`.
    pub at: String,
    /// The key that says what it is: `call`, `endpoint`, `input`; empty where none does.
    pub kind: String,
    /// What stands behind it, on one line.
    pub title: String,
    /// The name of its result.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub name: String,
    /// The branch it begins: `then`, an arm, `catch`.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub branch: String,
    /// How far it is indented.
    pub depth: u8,
    /// Names and what they are given.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub rows: Vec<(String, String)>,
    /// Its other keys, on one line: `within 2s`.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub notes: Vec<String>,
    /// What it does, in the author's words.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub about: String,
    /// Whether it is switched off.
    #[serde(default)]
    pub off: bool,
    /// Its text.
    pub range: Range,
    /// Its first line, from 1.
    pub line: u32,
}

/// The end of a list of steps.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct End {
    /// Where the next step of the list would stand.
    pub at: String,
    /// The paragraph that it is drawn behind, by its position.
    pub behind: u32,
    /// How far it is indented.
    pub depth: u8,
    /// The branch, where it has no step yet.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub branch: String,
    /// Whether the list is not there yet.
    #[serde(default)]
    pub offered: bool,
}

/// Keys of a step whose members are rows of their own.
const MEMBERS: &[&str] = &["send", "body", "bind", "with", "headers"];
/// Keys that are shown elsewhere than among the notes.
const SHOWN: &[&str] = &["id", "about", "off", "then", "else", "arms", "steps", "catch", "together", "unless"];

/// Kinds of entries.
pub(crate) const ENTRIES: [&str; 5] = ["endpoint", "webhook", "change", "timetable", "every"];
/// Times that are shown of a timetable.
const MOST_DUE: usize = 5;

/// The longest title or value of a row, in characters.
const MOST: usize = 160;

pub(crate) fn short(text: String) -> String {
    match text.chars().count() > MOST {
        true => text.chars().take(MOST).chain(['…']).collect(),
        false => text,
    }
}

/// The sheet of a workflow; nothing where its text is no YAML.
pub fn of(workspace: &Workspace, path: &str) -> Option<Sheet> {
    let text = workspace.text(path)?;
    let root = read(text)?;
    let word = |key: &str| root.get(key).and_then(Node::as_text).unwrap_or_default().to_owned();
    let mut parts = above(text, &root);
    let first = parts.len();
    let found = steps::outline(text).unwrap_or_default();
    for step in &found {
        let Some(node) = node(&root, &step.at) else { continue };
        parts.push(step_part(text, step, node));
    }
    let mut ends = Vec::new();
    let end_of = |at: &[At], from: usize| {
        // The last paragraph of what lies below a path.
        let inside = parts[first..].iter().rposition(|part| parse_path(&part.at).starts_with(at));
        inside.map_or(from, |found| first + found) as u32
    };
    for (index, step) in found.iter().enumerate().rev() {
        let Some(node) = node(&root, &step.at) else { continue };
        let depth = parts[first + index].depth + 1;
        let mut own: Vec<End> = Vec::new();
        for (key, offered) in lists(node, &step.kind) {
            // As it is read back from its text: a label of digits is no key there.
            let at = parse_path(&path_text(&[step.at.as_slice(), &key].concat()));
            let count = crate::place::node(&root, &at).and_then(as_list).map_or(0, <[Node]>::len);
            let behind = match count {
                // Behind the list before it, if there is one.
                0 => own.last().map_or((first + index) as u32, |before| before.behind),
                _ => end_of(&at, first + index),
            };
            let branch =
                if count == 0 { key.last().map(crate::keys::key_name).unwrap_or_default() } else { String::new() };
            own.push(End { at: path_text(&[at, vec![At::Item(count)]].concat()), behind, depth, branch, offered });
        }
        ends.extend(own.into_iter().rev());
    }
    ends.reverse();
    // Those behind the same paragraph: the innermost first, and of one step in their order.
    ends.sort_by(|a, b| a.behind.cmp(&b.behind).then(b.depth.cmp(&a.depth)));
    let count = |key: &str| root.get(key).and_then(as_list).map_or(0, <[Node]>::len);
    let behind = parts.len().saturating_sub(1) as u32;
    let closing = parts.iter().position(|part| part.at.starts_with(ON_FAILURE));
    let branch = if closing.is_none() { ON_FAILURE.to_owned() } else { String::new() };
    let offered = root.get(ON_FAILURE).is_none();
    let at = format!("{ON_FAILURE}/{}", count(ON_FAILURE));
    ends.push(End {
        at: format!("steps/{}", count("steps")),
        behind: closing.map_or(behind, |first| (first as u32).saturating_sub(1)),
        depth: 0,
        branch: String::new(),
        offered: false,
    });
    ends.push(End { at, behind, depth: 0, branch, offered });
    Some(Sheet { name: word("workflow"), about: word("about"), inputs: inputs(workspace, path), parts, ends })
}

/// The declared inputs, each with a sample that fits it; none where the document cannot be read.
fn inputs(workspace: &Workspace, path: &str) -> Vec<Wanted> {
    let Some(Document::Workflow(workflow)) = workspace.document(path) else { return Vec::new() };
    let wanted = workflow.input.iter().map(|property| Wanted {
        name: property.name.text.clone(),
        schema: property.schema.clone(),
        required: !property.optional && property.default.is_none(),
        secret: property.secret,
        sample: example::of(&property.schema),
    });
    wanted.collect()
}

/// The next times of a workflow's timetables behind an instant, by the place of each.
pub fn due(workspace: &Workspace, path: &str, after: Timestamp) -> BTreeMap<String, Vec<Timestamp>> {
    let (Some(Document::Workflow(workflow)), Some(sheet)) = (workspace.document(path), of(workspace, path)) else {
        return BTreeMap::new();
    };
    let entries = sheet.parts.into_iter().filter(|part| matches!(part.kind.as_str(), "timetable" | "every"));
    let calendars = workflow.timetables.iter().map(|timetable| &timetable.calendar);
    entries
        .zip(calendars)
        .map(|(part, calendar)| {
            let next = |after: Timestamp| calendar.next(after.into()).map(Timestamp::from);
            (part.at, std::iter::successors(next(after), |after| next(*after)).take(MOST_DUE).collect())
        })
        .collect()
}

fn as_list(node: &Node) -> Option<&[Node]> {
    match &node.kind {
        Kind::List(items) => Some(items),
        _ => None,
    }
}

/// The lists of steps that a step has or could have, and whether each is not there yet.
fn lists(step: &Node, kind: &str) -> Vec<(Vec<At>, bool)> {
    let key = |name: &str| vec![At::Key(name.to_owned())];
    let below = |name: &str| {
        let members = step.get(name).and_then(Node::as_map).unwrap_or_default();
        members.iter().map(|(arm, _)| (vec![At::Key(name.to_owned()), At::Key(arm.name.clone())], false)).collect()
    };
    let listed = || {
        let arms = step.get("arms").and_then(as_list).unwrap_or_default().iter().enumerate();
        let with = arms.filter(|(_, arm)| arm.get("steps").is_some());
        with.map(|(index, _)| (vec![At::Key("arms".into()), At::Item(index), At::Key("steps".into())], false)).collect()
    };
    let mut out: Vec<(Vec<At>, bool)> = match kind {
        "if" => vec![(key("then"), false), (key("else"), step.get("else").is_none())],
        "each" | "await" => vec![(key("steps"), false)],
        "match" => [below("arms"), listed(), vec![(key("else"), step.get("else").is_none())]].concat(),
        "together" => below("together"),
        _ => Vec::new(),
    };
    // A branch of `together` may be one step, behind which nothing can be added.
    out.retain(|(at, _)| node(step, at).is_none_or(|found| !matches!(found.kind, Kind::Map(_))));
    if step.get("catch").is_some() {
        out.push((key("catch"), false));
    }
    out
}

fn line_of(text: &str, at: u32) -> u32 {
    text.as_bytes()[..(at as usize).min(text.len())].iter().filter(|byte| **byte == b'\n').count() as u32 + 1
}

/// A range without the white space behind it.
pub(crate) fn trimmed(text: &str, range: Range) -> Range {
    let raw = text.get(range.start as usize..range.end as usize).unwrap_or_default();
    Range { start: range.start, end: range.start + raw.trim_end().len() as u32 }
}

fn part(text: &str, at: &[At], kind: &str, node: &Node) -> Part {
    let range = trimmed(text, node.at.into());
    Part {
        number: String::new(),
        at: path_text(at),
        kind: kind.to_owned(),
        title: String::new(),
        name: String::new(),
        branch: String::new(),
        depth: 0,
        rows: Vec::new(),
        notes: Vec::new(),
        about: String::new(),
        off: false,
        range,
        line: line_of(text, range.start),
    }
}

/// What stands above the steps.
fn above(text: &str, root: &Node) -> Vec<Part> {
    let mut parts = Vec::new();
    let entries = root.get("entries").and_then(as_list).unwrap_or_default();
    for (index, entry) in entries.iter().enumerate() {
        let kind = ENTRIES.into_iter().find(|kind| entry.get(kind).is_some()).unwrap_or("");
        let mut made = part(text, &[At::Key("entries".into()), At::Item(index)], kind, entry);
        made.title = short(entry.get(kind).map(inline).unwrap_or_default());
        if kind == "webhook" {
            made.rows = received(entry);
            made.notes = notes(entry, kind, &["proof", "once_per", "send"]);
        } else if kind == "change" {
            let send = entry.get("send").and_then(Node::as_map).unwrap_or_default();
            made.rows = send.iter().map(|(name, value)| (name.name.clone(), short(inline(value)))).collect();
            made.notes = notes(entry, kind, &["send"]);
        } else {
            made.notes = notes(entry, kind, &[]);
        }
        parts.push(made);
    }
    for kind in ["input", "functions", "queue", "replies"] {
        let Some(node) = root.get(kind) else { continue };
        let mut made = part(text, &[At::Key(kind.into())], kind, node);
        made.rows = match kind {
            "input" => {
                node.as_map().unwrap_or_default().iter().map(|(key, of)| (key.name.clone(), input_line(of))).collect()
            }
            _ => rows(kind, node).into_iter().map(|(name, value)| (name, short(value))).collect(),
        };
        parts.push(made);
    }
    parts
}

/// What a webhook asks of a message and takes from it.
fn received(entry: &Node) -> Vec<(String, String)> {
    let text = |node: Option<&Node>| node.map(inline).unwrap_or_default();
    let mut rows = Vec::new();
    if let Some(proof) = entry.get("proof") {
        let shown = match proof.as_map().and_then(|members| members.first()) {
            Some((kind, value)) if value.as_map().is_some() => {
                let place = text(value.get("header").or_else(|| value.get("name")));
                format!("{} {} in {place}", kind.name, text(value.get("secret")))
            }
            Some((kind, value)) => format!("{} {}", kind.name, inline(value)),
            None => inline(proof),
        };
        rows.push(("proof".to_owned(), short(shown)));
    }
    if let Some(once) = entry.get("once_per") {
        let shown = match once.as_map() {
            Some(_) => format!("{} for {}", text(once.get("key")), text(once.get("for"))),
            None => inline(once),
        };
        rows.push(("once per".to_owned(), short(shown.trim_end_matches(" for ").to_owned())));
    }
    let send = entry.get("send").and_then(Node::as_map).unwrap_or_default();
    rows.extend(send.iter().map(|(name, value)| (name.name.clone(), short(inline(value)))));
    rows
}

/// A declared input on one line: `LIN, NES`, `integer, 1 to 30, default 1`.
fn input_line(schema: &Node) -> String {
    let word = |key: &str| schema.get(key).map(inline).filter(|text| !text.is_empty());
    let mut out = Vec::new();
    match (schema.get("enum").and_then(as_list), word("format"), word("type")) {
        (Some(values), ..) => out.push(values.iter().map(inline).collect::<Vec<_>>().join(", ")),
        (None, Some(format), _) => out.push(format),
        (None, None, Some(of)) => out.push(match of.as_str() {
            "string" => "text".to_owned(),
            "array" => schema.get("items").map_or("list".to_owned(), |items| format!("list of {}", input_line(items))),
            _ => of,
        }),
        _ => {}
    }
    if let Some(media) = schema.get("media").and_then(as_list) {
        out.push(media.iter().map(inline).collect::<Vec<_>>().join(", "));
    }
    out.extend(word("max").map(|most| format!("at most {most}")));
    if schema.get("list").is_some_and(|list| inline(list) != "false") {
        out.push("several".into());
    }
    match (word("minimum"), word("maximum")) {
        (Some(least), Some(most)) => out.push(format!("{least} to {most}")),
        (Some(least), None) => out.push(format!("at least {least}")),
        (None, Some(most)) => out.push(format!("at most {most}")),
        (None, None) => {}
    }
    out.extend(word("pattern"));
    if let Some(fallback) = word("default") {
        out.push(format!("default {fallback}"));
    } else if word("optional").as_deref() == Some("true") {
        out.push("optional".into());
    }
    if word("secret").as_deref() == Some("true") {
        out.push("confidential".into());
    }
    short(out.join(", "))
}

fn step_part(text: &str, step: &steps::Outlined, node: &Node) -> Part {
    let mut made = part(text, &step.at, &step.kind, node);
    made.number.clone_from(&step.number);
    made.depth = step.number.matches('.').count().min(255) as u8;
    made.name = step.id.clone().unwrap_or_default();
    // The name of a step that is a branch of `together` is that of the branch.
    if made.name.is_empty()
        && let [.., At::Key(holder), At::Key(branch)] = step.at.as_slice()
        && holder == "together"
    {
        made.name.clone_from(branch);
    }
    made.branch = step.branch.clone().filter(|branch| branch != "steps").unwrap_or_default();
    made.about = node.get("about").and_then(Node::as_text).unwrap_or_default().to_owned();
    made.off = matches!(node.get("off").map(|off| &off.kind), Some(Kind::Bool(true)));
    let behind = node.get(&step.kind);
    let mut own = Vec::new();
    match (step.kind.as_str(), behind) {
        ("let" | "keep", Some(values)) => own = rows(&step.kind, values),
        ("together", _) | (_, None) => {}
        ("mail", Some(parts)) => {
            made.title = short(parts.get("to").map(inline).unwrap_or_default());
            own = rows("mail", parts).into_iter().filter(|(name, _)| !name.ends_with("to")).collect();
        }
        ("script", Some(script)) => {
            own = kanzlei_compiler::check::script_lines(script.as_text().unwrap_or_default());
        }
        ("render", Some(word)) => {
            let template = node.get("template").map(inline).unwrap_or_default();
            made.title = short(format!("{} {template}", inline(word)).trim_end().to_owned());
        }
        ("each", Some(item)) => {
            made.title = format!("{} in {}", inline(item), node.get("in").map(inline).unwrap_or_default());
        }
        ("file", Some(word)) => {
            let of = node.get("of").map(inline).unwrap_or_default();
            made.title = short(format!("{} {of}", inline(word)).trim_end().to_owned());
            let places = ["to", "from"].iter().filter_map(|key| node.get(key)?.as_map()).flatten();
            own = places.map(|(place, path)| (place.name.clone(), inline(path))).collect();
        }
        (_, Some(behind)) => made.title = short(inline(behind)),
    }
    for key in MEMBERS {
        let Some(value) = node.get(key) else { continue };
        let of = match *key {
            "headers" => {
                value.as_map().unwrap_or_default().iter().map(|(n, v)| (format!("{}:", n.name), inline(v))).collect()
            }
            _ => rows(key, value),
        };
        own.extend(of);
    }
    if step.kind == "fail" {
        own.splice(
            0..0,
            ["title", "detail"].iter().filter_map(|key| Some(((*key).to_owned(), inline(node.get(key)?)))),
        );
    }
    if let Some(statement) = node.get("statement") {
        own.insert(0, (String::new(), inline(statement)));
    }
    if let Some(statements) = node.get("statements").and_then(as_list) {
        own.extend(statements.iter().filter_map(|one| Some((String::new(), inline(one.get("statement")?)))));
    }
    made.rows = own.into_iter().map(|(name, value)| (name, short(value))).collect();
    made.notes = notes(node, &step.kind, MEMBERS);
    made
}

/// The other keys of a mapping, on one line each.
fn notes(node: &Node, kind: &str, but: &[&str]) -> Vec<String> {
    let known = |name: &str| {
        name == kind
            || but.contains(&name)
            || SHOWN.contains(&name)
            || matches!(name, "statement" | "statements")
            || (kind == "each" && name == "in")
            || (kind == "render" && name == "template")
            || (kind == "file" && matches!(name, "of" | "to" | "from"))
            || (kind == "fail" && matches!(name, "title" | "detail"))
    };
    let other = node.as_map().unwrap_or_default().iter().filter(|(key, _)| !known(&key.name));
    let line = |value: &Node| match value.as_map() {
        Some(members) => {
            members.iter().map(|(key, value)| format!("{} {}", key.name, inline(value))).collect::<Vec<_>>().join(", ")
        }
        None => inline(value),
    };
    other.map(|(key, value)| short(format!("{} {}", key.name, line(value)))).collect()
}

/// The keys of a kind of step.
fn table(kind: &str) -> &'static [kanzlei_lang::document::reader::KeySpec] {
    STEP_KINDS.iter().find(|(name, _)| *name == kind).map_or(&[], |(_, table)| table)
}
