//! A paragraph as a form: the keys it has and could have, each with what it means, what it wants and what stands there.

use kanzlei_compiler::check::relative;
use kanzlei_compiler::plan::sheet::inline;
use kanzlei_lang::document::keys::COMMON;
use kanzlei_lang::document::step::file;
use kanzlei_lang::document::yaml::{Kind, Node};
use kanzlei_lang::edit::{At, parse_path, path_text, steps};
use kanzlei_lang::types::schema;
use kanzlei_lang::types::{Text, Type};
use kanzlei_reports::{Format, Templates};
use serde::{Deserialize, Serialize};
use serde_json::Value as Json;

use super::{as_list, table, trimmed};
use crate::complete::{self, Range};
use crate::place::{node, read};
use crate::sent::{Parameter, bound, inputs, parameters};
use crate::{Workspace, hover, keys};

/// A paragraph as a form.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Form {
    /// Where the paragraph stands in the tree.
    pub at: String,
    /// The key that says what it is.
    pub kind: String,
    /// Its fields, those of a group behind the group.
    pub fields: Vec<Field>,
    /// Its text, without the indentation of its first line.
    pub source: String,
    /// Where its text stands.
    pub range: Range,
    /// What it calls, as Markdown.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub about: String,
}

/// A key of a form.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Field {
    /// Where its value stands in the tree, or would stand.
    pub at: String,
    /// The key.
    pub label: String,
    /// How many groups it lies in.
    pub depth: u8,
    /// How it is edited.
    pub shape: Shape,
    /// What it means.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub about: String,
    /// The type it wants, for people.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub expects: String,
    /// Whether it must be given.
    #[serde(default)]
    pub required: bool,
    /// Whether it is there.
    #[serde(default)]
    pub present: bool,
    /// Whether it is shown before it is there.
    #[serde(default)]
    pub shown: bool,
    /// Whether its name can be changed, and it can be removed, as the author likes.
    #[serde(default)]
    pub free: bool,
    /// What stands there: the text of a text, the expression of one that is nothing else, otherwise YAML.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub value: String,
    /// Whether `value` is an expression.
    #[serde(default)]
    pub expression: bool,
    /// Whether a constant is a text whatever it looks like.
    #[serde(default)]
    pub plain: bool,
    /// Values to choose from.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub choices: Vec<String>,
    /// Where the value stands.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[cfg_attr(feature = "schema", schemars(with = "Range"))]
    pub range: Option<Range>,
    /// The value as JSON, for an input.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[cfg_attr(feature = "schema", schemars(with = "Json"))]
    pub json: Option<Json>,
}

/// How a key is edited.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "snake_case")]
pub enum Shape {
    /// An expression, written as it is.
    Expression,
    /// Statements.
    Script,
    /// A text that may hold expressions, or an expression alone.
    Value,
    /// A text without expressions: a name, a span, a number.
    Constant,
    /// One of the choices.
    Choice,
    /// On or off.
    Switch,
    /// Several keys, which follow.
    Group,
    /// A group whose names the author chooses.
    Names,
    /// A list of steps by its name: an arm, a branch.
    Branch,
    /// An input with its JSON Schema.
    Input,
    /// Anything, as YAML.
    Yaml,
}

/// Groups are opened so deep.
const MOST_DEPTH: u8 = 6;
/// Fields of one form.
const MOST_FIELDS: usize = 600;

/// The form of a paragraph, by its place in the tree; the empty place is the head of the document.
pub fn form(workspace: &Workspace, path: &str, at: &[At]) -> Option<Form> {
    let text = workspace.text(path)?;
    let root = read(text)?;
    let found = node(&root, at)?;
    let mut made = Making { workspace, path, text, root: &root, fields: Vec::new() };
    let kind = made.paragraph(at, found);
    let range = match at {
        [] => Range { start: 0, end: 0 },
        _ => trimmed(text, found.at.into()),
    };
    let about = (kind == "call" || kind == "invoke" || kind == "enqueue")
        .then(|| found.get(&kind))
        .flatten()
        .and_then(|target| {
            // The operation, and not the service before the dot.
            let dot = target.as_text().and_then(|name| name.find('.')).map_or(0, |dot| dot + 1);
            hover::at(workspace, path, target.at.start as usize + dot + 1)
        })
        .map(|hover| hover.text)
        .unwrap_or_default();
    let mut fields = made.fields;
    // Texts that would be read as something else without quotes show them, unless nothing but a text is wanted.
    for field in fields.iter_mut().filter(|field| field.shape == Shape::Value && !field.plain && !field.expression) {
        let is_text = node(&root, &parse_path(&field.at)).is_some_and(|found| found.as_text().is_some());
        if is_text && (!is_plain(&field.value) || field.value.starts_with(['{', '[', '"'])) {
            field.value = Json::String(std::mem::take(&mut field.value)).to_string();
        }
    }
    Some(Form { at: path_text(at), kind, fields, source: lifted(text, range), range, about })
}

/// The text of a range whose first line begins behind its indentation, with the other lines indented as little.
pub(crate) fn lifted(text: &str, range: Range) -> String {
    let start = range.start as usize;
    let raw = text.get(start..range.end as usize).unwrap_or_default();
    let line = text[..start].rfind('\n').map_or(0, |found| found + 1);
    let indentation = start - line;
    let mut out = String::with_capacity(raw.len());
    for (index, line) in raw.split('\n').enumerate() {
        if index > 0 {
            out.push('\n');
        }
        let blank = line.len() - line.trim_start_matches(' ').len();
        out.push_str(if index == 0 { line } else { &line[blank.min(indentation)..] });
    }
    out
}

/// What a value at a path of a workflow should be, as far as something says so.
pub(crate) fn wanted(workspace: &Workspace, root: &Node, path: &[At]) -> Type {
    let Some((end, rest)) = keys::step_of(root, path) else { return Type::Unknown };
    let Some(step) = node(root, &path[..end]) else { return Type::Unknown };
    let kind = steps::kind(step);
    let name = |at: &At| match at {
        At::Key(key) => key.clone(),
        At::Item(item) => item.to_string(),
    };
    let names: Vec<String> = rest.iter().map(name).collect();
    let names: Vec<&str> = names.iter().map(String::as_str).collect();
    let target = step.get(kind).and_then(Node::as_text).unwrap_or_default();
    match (kind, names.as_slice()) {
        ("each" | "enqueue", ["in"]) => Type::list(Type::Unknown),
        ("fail", ["title" | "detail" | "type"]) | (_, ["about"]) => Type::TEXT,
        ("call", ["send", member, inner @ ..]) => {
            let found = parameters(workspace, target).into_iter().find(|one| one.name == *member);
            found.map_or(Type::Unknown, |one| inside(one.of, inner))
        }
        ("invoke" | "enqueue", ["send", member, inner @ ..]) => {
            let found = inputs(workspace, target).into_iter().find(|one| one.name == *member);
            found.map_or(Type::Unknown, |one| inside(one.of, inner))
        }
        ("reply", ["body", inner @ ..]) => {
            let status = step.get("reply").map(inline).unwrap_or_default();
            let said = root.get("replies").and_then(|replies| replies.get(&status));
            said.map_or(Type::Unknown, |said| inside(schema::read(&json(said)), inner))
        }
        _ => Type::Unknown,
    }
}

fn inside(of: Type, path: &[&str]) -> Type {
    path.iter().fold(of, |of, name| {
        let found = of.alternatives().iter().filter_map(|one| match one {
            Type::Object(shape) => shape.read(name),
            Type::List(items) => Some(items.of.clone()),
            _ => None,
        });
        found.reduce(Type::or).unwrap_or(Type::Unknown)
    })
}

fn json(node: &Node) -> Json {
    serde_json::from_str(&node.to_value().to_json()).unwrap_or_default()
}

/// Keys of steps that hold steps.
const LISTS: &[&str] = &["then", "else", "steps", "catch"];
/// Absent keys that are shown nevertheless, by kind.
const SHOWN: &[(&str, &[&str])] = &[
    ("call", &["id", "send"]),
    ("invoke", &["id", "send"]),
    ("enqueue", &["send"]),
    ("sql", &["id", "statement", "bind"]),
    ("file", &["id", "of", "to", "from", "format", "row"]),
    ("render", &["id", "template", "with", "name"]),
    ("mail", &["id"]),
    ("script", &["id"]),
    ("each", &["in", "collect", "id"]),
    ("await", &["by", "until"]),
    ("wake", &["id", "by", "body"]),
    ("reply", &["body"]),
    ("fail", &["title", "detail"]),
    ("endpoint", &["access", "answer"]),
    ("webhook", &["proof", "once_per", "send"]),
    ("change", &["database", "of", "when", "send"]),
    ("timetable", &["zone"]),
    ("", &["about"]),
];

struct Making<'a> {
    workspace: &'a Workspace,
    path: &'a str,
    text: &'a str,
    root: &'a Node,
    fields: Vec<Field>,
}

fn key(at: &[At], name: &str) -> Vec<At> {
    [at, &[At::Key(name.to_owned())]].concat()
}

impl Making<'_> {
    /// Makes the fields of a paragraph; returns its kind.
    fn paragraph(&mut self, at: &[At], found: &Node) -> String {
        match at {
            [] => {
                for name in ["workflow", "about", "tags", "extra"] {
                    self.key(&[], "", name, true);
                }
                "workflow".into()
            }
            [At::Key(only)] if only == "input" => {
                for (member, schema) in found.as_map().unwrap_or_default() {
                    self.push(&key(at, &member.name), Shape::Input, 0, true, true);
                    if let Some(last) = self.fields.last_mut() {
                        (last.json, last.free) = (Some(json(schema)), true);
                    }
                }
                only.clone()
            }
            [At::Key(only)] if only == "functions" || only == "replies" => {
                let shape = if only == "functions" { Shape::Constant } else { Shape::Yaml };
                for (member, _) in found.as_map().unwrap_or_default() {
                    self.push(&key(at, &member.name), shape, 0, true, true);
                    self.fields
                        .iter_mut()
                        .last()
                        .into_iter()
                        .for_each(|field| (field.free, field.plain) = (true, true));
                }
                only.clone()
            }
            [At::Key(only)] if only == "queue" => {
                self.members(at, only, 0, true);
                only.clone()
            }
            [At::Key(list), _] if list == "entries" => {
                let kind = super::ENTRIES.into_iter().find(|kind| found.get(kind).is_some()).unwrap_or("");
                self.members(at, kind, 0, true);
                kind.to_owned()
            }
            _ => {
                let kind = steps::kind(found);
                self.members(at, kind, 0, true);
                kind.to_owned()
            }
        }
    }

    /// The keys of the mapping at a path: those that are there in the order of the table, and those that could be.
    fn members(&mut self, at: &[At], kind: &str, depth: u8, shown: bool) {
        let step = keys::step_of(self.root, at).is_some_and(|(_, rest)| rest.is_empty())
            && at.last().is_none_or(|last| keys::key_name(last) != "unless");
        let mut names: Vec<&str> = Vec::new();
        if step {
            // First what it does and what its result is called, then when; then its own keys, then those of all steps.
            let has_result = matches!(
                kind,
                "call"
                    | "script"
                    | "each"
                    | "together"
                    | "invoke"
                    | "sql"
                    | "file"
                    | "render"
                    | "mail"
                    | "await"
                    | "wake"
            );
            names.extend([kind].iter().filter(|kind| !kind.is_empty()));
            names.extend(has_result.then_some("id"));
            let word = node(self.root, at).and_then(|step| step.get("file")).and_then(Node::as_text);
            let fits = |name: &str| kind != "file" || word.is_none_or(|word| file::has(word, name));
            names.extend(table(kind).iter().map(|spec| spec.name).filter(|name| fits(name)));
            names.extend(["when", "about", "off"]);
            names.extend(COMMON.iter().map(|spec| spec.name).filter(|name| *name != "id" || has_result));
        } else {
            names.extend(keys::allowed(self.root, at).iter().map(|key| key.name));
            names.sort_by_key(|name| *name != kind);
        }
        let mut done: Vec<&str> = Vec::new();
        for name in names {
            if done.contains(&name) || LISTS.contains(&name) {
                continue;
            }
            done.push(name);
            self.key_at(at, kind, name, depth, shown);
        }
    }

    fn key(&mut self, at: &[At], kind: &str, name: &str, shown: bool) {
        self.key_at(at, kind, name, 0, shown);
    }

    fn key_at(&mut self, map: &[At], kind: &str, name: &str, depth: u8, shown: bool) {
        let at = key(map, name);
        let found = node(self.root, &at);
        let in_step = keys::step_of(self.root, map).is_some_and(|(_, rest)| rest.is_empty());
        let listed = SHOWN.iter().any(|(of, names)| *of == kind && names.contains(&name));
        let shown = shown && (depth > 0 || listed || name == kind);
        let target =
            || node(self.root, map).and_then(|step| step.get(kind)).and_then(Node::as_text).unwrap_or_default();
        if in_step {
            match (kind, name) {
                ("call", "send") => return self.sent(&at, parameters(self.workspace, target()), shown),
                ("invoke" | "enqueue", "send") => return self.sent(&at, inputs(self.workspace, target()), shown),
                ("sql", "bind") => {
                    let statement = node(self.root, map).and_then(|step| step.get("statement"));
                    let mut names = bound(statement.and_then(Node::as_text).unwrap_or_default());
                    // What is not bound is a member of the rows.
                    if node(self.root, map).is_some_and(|step| step.get("from").is_some()) {
                        let there = node(self.root, &at);
                        names.retain(|name| there.is_some_and(|bind| bind.get(&name.name).is_some()));
                    }
                    return self.sent(&at, names, shown);
                }
                // One that is there is a paragraph of its own.
                ("call", "unless") if found.is_some() => return,
                ("call", "unless") => return self.push(&at, Shape::Yaml, depth, false, false),
                ("let" | "keep", _) if name == kind => return self.named(&at, depth, shown),
                ("render", "with") => {
                    return self.sent(&at, mentioned(self.workspace, self.path, node(self.root, map)), shown);
                }
                ("render", "template") => return self.template(&at, shown),
                ("file", "to" | "from") => return self.named(&at, depth, shown),
                ("match", "arms") | ("together", "together") => return self.branches(&at),
                ("reply" | "call" | "wake", "body") | (_, "with" | "headers") => {
                    return self.anything(&at, depth, shown);
                }
                _ => {}
            }
        }
        if name == "send" && matches!(kind, "webhook" | "change" | "timetable" | "every") {
            let own = self.root.get("workflow").and_then(Node::as_text).unwrap_or_default();
            return self.sent(&at, inputs(self.workspace, own), shown);
        }
        if name == "from" && kind == "endpoint" {
            return self.anything(&at, depth, shown);
        }
        let schemas = keys::schemas(self.root, &at);
        let has = |key: &str| schemas.iter().any(|schema| schema.get(key).is_some());
        let is = |kind: &str| schemas.iter().any(|schema| schema.get("type").and_then(Json::as_str) == Some(kind));
        let mapping = found.is_none_or(|found| matches!(found.kind, Kind::Map(_) | Kind::Null));
        if has("properties") && mapping && !has("oneOf") && depth < MOST_DEPTH {
            self.push(&at, Shape::Group, depth, found.is_some(), shown);
            // Of a group that is there the missing keys are offered.
            return self.members(&at, name, depth + 1, found.is_none());
        }
        let collection = found.is_some_and(|found| matches!(found.kind, Kind::Map(_) | Kind::List(_)));
        let template = in_step && !CONSTANT.contains(&name) && name != kind;
        let shape = match () {
            () if keys::is_bare(self.root, &at) => Shape::Expression,
            () if keys::is_script(self.root, &at) => Shape::Script,
            () if is("boolean") => Shape::Switch,
            () if collection || is("object") || is("array") => Shape::Yaml,
            () if template || TEMPLATES.contains(&(kind, name)) => Shape::Value,
            () if REFERENCES.contains(&name) => Shape::Choice,
            () if schemas.iter().any(|schema| schema.get("enum").is_some()) => Shape::Choice,
            () => Shape::Constant,
        };
        self.push(&at, shape, depth, found.is_some(), shown);
        let about = keys::about(self.root, &at).map(|key| key.about);
        let choices = if shape == Shape::Choice { self.choices(&at) } else { Vec::new() };
        let of = wanted(self.workspace, self.root, &at);
        if let Some(field) = self.fields.last_mut() {
            field.expects = expected(&of);
            about.unwrap_or_default().clone_into(&mut field.about);
            field.choices = choices;
            field.plain = is("string") || matches!(name, "title" | "detail" | "about" | "statement" | "type");
        }
    }

    /// The template of a step: one of the files below the folder of the document.
    fn template(&mut self, at: &[At], shown: bool) {
        self.push(at, Shape::Choice, 0, node(self.root, at).is_some(), shown);
        let folder = self.path.rfind('/').map_or("", |end| &self.path[..=end]);
        let files = self.workspace.files().filter_map(|path| path.strip_prefix(folder));
        let choices = files.filter(|path| !path.ends_with(".sql")).map(str::to_owned).collect();
        if let Some(field) = self.fields.last_mut() {
            (field.choices, field.plain, field.required) = (choices, true, true);
        }
    }

    /// What may stand at a place whose value is missing or not.
    fn choices(&self, at: &[At]) -> Vec<String> {
        if let Some(found) = node(self.root, at) {
            let all = complete::at(self.workspace, self.path, found.at.start as usize);
            let named = all.into_iter().filter(|one| !one.insert.ends_with(' ') && !one.snippet);
            return named.map(|one| one.label).collect();
        }
        keys::values(self.root, at)
    }

    /// Members whose names are known: parameters and inputs, and whatever else is there.
    fn sent(&mut self, at: &[At], known: Vec<Parameter>, shown: bool) {
        let found = node(self.root, at);
        if found.is_some_and(|found| !matches!(found.kind, Kind::Map(_) | Kind::Null)) {
            return self.push(at, Shape::Value, 0, true, true);
        }
        if known.is_empty() {
            return self.named(at, 0, found.is_some() || shown);
        }
        self.push(at, Shape::Names, 0, found.is_some(), shown);
        for parameter in &known {
            let at = key(at, &parameter.name);
            self.any_member(&at, 1, true);
            let Some(field) = self.fields.iter_mut().rev().find(|field| field.at == path_text(&at)) else { continue };
            field.required = parameter.required;
            field.about.clone_from(&parameter.about);
            field.expects = expected(&parameter.of);
            field.plain = is_text(&parameter.of);
            field.free = false;
            if let Some(values) = parameter.schema.get("enum").and_then(Json::as_array) {
                field.choices =
                    values.iter().map(|v| v.as_str().map_or_else(|| v.to_string(), str::to_owned)).collect();
            }
        }
        for (member, _) in found.and_then(Node::as_map).unwrap_or_default() {
            if !known.iter().any(|one| one.name == member.name) {
                self.any_member(&key(at, &member.name), 1, true);
            }
        }
    }

    /// Members whose names the author chooses.
    fn named(&mut self, at: &[At], depth: u8, shown: bool) {
        let found = node(self.root, at);
        self.push(at, Shape::Names, depth, found.is_some(), shown);
        for (member, _) in found.and_then(Node::as_map).unwrap_or_default() {
            self.any_member(&key(at, &member.name), depth + 1, true);
        }
    }

    /// A member that holds anything.
    fn any_member(&mut self, at: &[At], depth: u8, shown: bool) {
        self.anything(at, depth, shown);
        if let Some(field) = self.fields.iter_mut().rev().find(|field| field.at == path_text(at)) {
            field.free = true;
        }
    }

    /// Anything: a value, or a mapping of further ones.
    fn anything(&mut self, at: &[At], depth: u8, shown: bool) {
        let found = node(self.root, at);
        match found.map(|found| &found.kind) {
            Some(Kind::Map(_)) if depth < MOST_DEPTH => self.named(at, depth, shown),
            Some(Kind::Map(_) | Kind::List(_)) => self.push(at, Shape::Yaml, depth, true, true),
            _ => {
                self.push(at, Shape::Value, depth, found.is_some(), shown);
                let of = wanted(self.workspace, self.root, at);
                if let Some(field) = self.fields.last_mut() {
                    (field.expects, field.plain) = (expected(&of), is_text(&of));
                }
            }
        }
    }

    /// Arms and branches by their names.
    fn branches(&mut self, at: &[At]) {
        if let Some(arms) = node(self.root, at).and_then(as_list) {
            self.push(at, Shape::Group, 0, true, true);
            for index in 0..arms.len() {
                let at = [at, &[At::Item(index)]].concat();
                self.push(&at, Shape::Group, 1, true, true);
                self.members(&at, "arm", 2, false);
            }
            return;
        }
        self.push(at, Shape::Names, 0, true, true);
        for (member, _) in node(self.root, at).and_then(Node::as_map).unwrap_or_default() {
            self.push(&key(at, &member.name), Shape::Branch, 1, true, true);
            self.fields.iter_mut().last().into_iter().for_each(|field| field.free = true);
        }
    }

    fn push(&mut self, at: &[At], shape: Shape, depth: u8, present: bool, shown: bool) {
        if self.fields.len() >= MOST_FIELDS {
            return;
        }
        let found = node(self.root, at).filter(|found| !matches!(found.kind, Kind::Null));
        let (mut value, mut expression, mut range) = (String::new(), false, None);
        if let Some(found) = found {
            let own = trimmed(self.text, found.at.into());
            range = Some(own);
            (value, expression) = match (&found.kind, shape) {
                (_, Shape::Group | Shape::Names | Shape::Branch) => (String::new(), false),
                (Kind::Text(text), Shape::Value) => match alone(&text.text) {
                    Some(inner) => (inner.to_owned(), true),
                    None => (text.text.clone(), false),
                },
                (Kind::Text(text), Shape::Yaml) if as_list(found).is_none() => (text.text.clone(), false),
                (Kind::Text(text), _) => (text.text.clone(), shape == Shape::Expression),
                (Kind::Map(_) | Kind::List(_), _) => (lifted(self.text, own), false),
                _ => (found.to_value().to_json(), shape == Shape::Expression),
            };
        }
        self.fields.push(Field {
            at: path_text(at),
            label: at
                .last()
                .map(|at| match at {
                    At::Key(name) => name.clone(),
                    At::Item(item) => item.to_string(),
                })
                .unwrap_or_default(),
            depth,
            shape,
            about: keys::about(self.root, at).map(|key| key.about.to_owned()).unwrap_or_default(),
            expects: String::new(),
            required: false,
            present,
            shown: shown || present,
            free: false,
            value,
            expression,
            plain: false,
            choices: Vec::new(),
            range,
            json: None,
        });
    }
}

/// Keys of steps that hold no expressions.
const CONSTANT: &[&str] = &[
    "id",
    "about",
    "off",
    "within",
    "retry",
    "accept",
    "service",
    "at_once",
    "settle",
    "position",
    "once",
    "statement",
    "lane",
    "spacing",
    "priority",
    "each",
    "as",
    "format",
    "existing",
    "delimiter",
    "encoding",
    "element",
    "formulas",
    "into",
];
/// Keys that name their kind and hold values with expressions.
const TEMPLATES: &[(&str, &str)] = &[
    ("note", "note"),
    ("progress", "progress"),
    ("pause", "pause"),
    ("cancel", "cancel"),
    ("reply", "reply"),
    ("fail", "fail"),
    ("queue", "tag"),
    ("notify", "to"),
    ("webhook", "once_per"),
    ("webhook", "echo"),
    ("once_per", "key"),
    ("mail", "to"),
    ("mail", "cc"),
    ("mail", "bcc"),
    ("mail", "reply_to"),
    ("mail", "subject"),
    ("mail", "text"),
    ("mail", "html"),
    ("mail", "attach"),
];
/// Keys whose values name something that exists.
const REFERENCES: &[&str] =
    &["call", "invoke", "enqueue", "wake", "lane", "allowance", "timetable", "run", "jwt", "sql", "service", "secret"];

/// The values that the template of a step mentions.
fn mentioned(workspace: &Workspace, path: &str, step: Option<&Node>) -> Vec<Parameter> {
    let template = step.and_then(|step| step.get("template")).and_then(Node::as_text).unwrap_or_default();
    let text = |name: &str| workspace.text(&relative(path, name)).map(str::to_owned);
    let Ok(templates) = Templates::load(template, Format::Text, &text) else { return Vec::new() };
    let mut names: Vec<String> = templates.mentions().iter().filter_map(|one| one.path.first().cloned()).collect();
    names.sort();
    names.dedup();
    let one = |name: String| Parameter {
        name,
        required: true,
        about: "The template mentions it.".to_owned(),
        of: Type::Unknown,
        schema: Json::Null,
    };
    names.into_iter().map(one).collect()
}

/// The expression of a text that is nothing else.
fn alone(text: &str) -> Option<&str> {
    let inner = text.trim().strip_prefix("${")?;
    let end = crate::place::skip_expression(inner, 0);
    (end == inner.len() && inner.ends_with('}')).then(|| inner[..end - 1].trim())
}

/// Whether a text reads as itself without quotes.
fn is_plain(text: &str) -> bool {
    read(text).is_none_or(|found| found.as_text().is_some() || found.as_map().is_some() || as_list(&found).is_some())
}

fn expected(of: &Type) -> String {
    match of {
        Type::Unknown => String::new(),
        of => super::short(of.to_string()),
    }
}

/// Whether nothing but texts are wanted.
fn is_text(of: &Type) -> bool {
    of.alternatives().iter().all(|one| matches!(one, Type::Text(_))) && !matches!(of, Type::Text(Text::One(_)))
}
