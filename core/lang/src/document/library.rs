//! Documents of kind `library`: functions, types and groups of steps that workflows share.
//!
//! ```
//! use kanzlei_lang::document::{self, Document, Source};
//! let text = "library: stays\nversion: 1.2.0\nfunctions:\n  dues: (length) => length * 3.2\n";
//! let (document, findings) = document::read(&Source::new("stays.yaml", text), &|_| None);
//! assert!(findings.is_empty());
//! assert!(matches!(document, Some(Document::Library(library)) if library.functions.len() == 1));
//! ```
//!
//! A workflow that [uses](Use) a library knows its functions and types by their names, and invokes a group as `stays.announce`.

use std::sync::Arc;

use semver::{Version, VersionReq};
use serde_json::{Map, Value as Json};

use super::keys::{VALUES, keys};
use super::reader::{KeySpec, Members, Named, is_document_name};
use super::step::valid_name;
use super::workflow::{MAX_STEPS, Workflow, property};
use super::yaml::Node;
use crate::diagnostic::{Place, Report};

/// The most libraries that a document uses directly.
const MOST_USED: usize = 50;

/// A library document.
#[derive(Clone, Debug)]
pub struct Library {
    /// The name of the library.
    pub name: Named,
    /// What it does, in the author's words.
    pub about: String,
    /// Its version (Semantic Versioning 2.0.0).
    pub version: Option<Version>,
    /// The libraries that it uses.
    pub uses: Vec<Use>,
    /// Named arrow functions, in order; each may use those before it.
    pub functions: Vec<(Named, Node)>,
    /// JSON Schemas by name.
    pub types: Vec<NamedType>,
    /// Groups of steps, each a workflow without entries whose name is `library.group`.
    pub groups: Vec<Arc<Workflow>>,
}

/// A library that a document uses.
#[derive(Clone, Debug)]
pub struct Use {
    /// The name of the library.
    pub name: Named,
    /// The versions that will do; any where the document names none.
    pub wanted: Option<VersionReq>,
}

/// A named type.
#[derive(Clone, Debug)]
pub struct NamedType {
    /// The name.
    pub name: Named,
    /// Its JSON Schema; `$ref: "#/types/NAME"` refers to other named types.
    pub schema: Json,
    /// Where the schema stands.
    pub at: Place,
}

/// Keys of a library document.
pub const LIBRARY: &[KeySpec] = keys! {
    "library", r#"{"type":"string","pattern":"^[a-z][a-z0-9-]*$"}"#, "The name of the library.";
    "about", r#"{"type":"string"}"#, "What it is for, in a sentence.";
    "version", r#"{"type":"string"}"#, "Its version: `1.4.0`; users may ask for one: `use: [stays@1.2]`.";
    "use", USES, "Libraries that it uses: `[dates, stays@1.2]`.";
    "types", TYPES, "JSON Schemas by name, for `as` in expressions, for annotations of scripts and for `$ref: \"#/types/NAME\"`.";
    "functions", r#"{"type":"object","additionalProperties":{"type":"string"}}"#, "Named functions: `dues: \"(length, nights) => length * 3.2 * nights\"`.";
    "groups", r##"{"type":"object","additionalProperties":{"$ref":"#/$defs/group"}}"##, "Groups of steps with an input, which workflows invoke as `library.group`.";
};
/// Keys of a group of steps.
pub const GROUP: &[KeySpec] = keys! {
    "about", r#"{"type":"string"}"#, "What it is for, in a sentence.";
    "input", VALUES, "Its input: JSON Schema by name. Required unless it has a `default` or `optional: true`.";
    "steps", r##"{"$ref":"#/$defs/steps"}"##, "What it does; what it replies is the result of `invoke`.";
};
/// The schema of `use`.
pub const USES: &str = r#"{"type":"array","items":{"type":"string"},"maxItems":50}"#;
/// The schema of `types`.
pub const TYPES: &str = r#"{"type":"object","additionalProperties":{"type":["object","boolean"]}}"#;

/// Reads a library.
pub fn read(root: &Node, report: &mut Report) -> Option<Library> {
    let members = Members::new(root, "a library", &[LIBRARY], report)?;
    let name = members.text("library", report)?;
    if !is_document_name(&name.text) {
        report.error("bad-name", name.at, format!("`{}` cannot be the name of a library", name.text));
        report.help("lower-case letters, digits and hyphens, beginning with a letter: `stay-rules`");
    }
    let version = members.text("version", report).and_then(|text| {
        let version = Version::parse(&text.text).ok();
        if version.is_none() {
            report.error("wrong-value", text.at, format!("`{}` is not a version such as `1.4.0`", text.text));
        }
        version
    });
    let uses = uses(&members, report);
    let types = types(&members, report);
    let functions = members.mapping("functions", report).into_iter();
    let functions: Vec<_> =
        functions.filter(|(name, _)| valid_name(name, report)).map(|(name, node)| (name, node.clone())).collect();
    let mut count = 0;
    let mut groups = Vec::new();
    for (own, node) in members.mapping("groups", report) {
        if !valid_name(&own, report) {
            continue;
        }
        let Some(members) = Members::new(node, "a group of steps", &[GROUP], report) else { continue };
        let about = members.text("about", report).map(|text| text.text).unwrap_or_default();
        let input = members.mapping("input", report).into_iter();
        let input = input.filter_map(|(name, node)| property("an input", name, node, report)).collect();
        let steps = match members.get("steps") {
            Some(node) => super::step::steps(node, "steps", &mut count, report),
            None => {
                report.error("missing-key", own.at, "a group of steps needs `steps`");
                Vec::new()
            }
        };
        let own = Named { text: format!("{}.{}", name.text, own.text), at: own.at };
        let mut uses: Vec<Use> = uses.iter().map(|one| Use { wanted: None, ..one.clone() }).collect();
        uses.push(Use { name: name.clone(), wanted: None });
        groups.push(Arc::new(Workflow { about, input, steps, uses, ..Workflow::named(own) }));
    }
    if count > MAX_STEPS {
        report.error("too-many-steps", name.at, format!("{count} steps; at most {MAX_STEPS} are allowed"));
    }
    let about = members.text("about", report).map(|text| text.text).unwrap_or_default();
    Some(Library { name, about, version, uses, functions, types, groups })
}

/// Reads `use`.
pub(super) fn uses(members: &Members, report: &mut Report) -> Vec<Use> {
    let nodes = members.list("use", report);
    if let Some(node) = nodes.get(MOST_USED) {
        report.error("wrong-value", node.at, format!("at most {MOST_USED} libraries are used"));
    }
    let mut out: Vec<Use> = Vec::new();
    for node in nodes {
        let Some(text) = node.as_text() else {
            report.error("wrong-type", node.at, format!("`use` is a list of names of libraries, not {}", node.what()));
            continue;
        };
        let (name, wanted) = match text.split_once('@') {
            Some((name, wanted)) => (name, Some(wanted)),
            None => (text, None),
        };
        let at = node.place_in(report.text(), 0, name.len());
        if !is_document_name(name) {
            report.error("bad-name", at, format!("`{name}` cannot be the name of a library"));
            continue;
        }
        let wanted = wanted.and_then(|wanted| {
            let found = VersionReq::parse(wanted).ok();
            if found.is_none() {
                report.error("wrong-value", node.at, format!("`{wanted}` names no versions"));
                report.help("write the least version that will do: `stays@1.2`");
            }
            found
        });
        if out.iter().any(|known| known.name.text == name) {
            report.error("wrong-value", at, format!("`{name}` is used twice"));
            continue;
        }
        out.push(Use { name: Named { text: name.to_owned(), at }, wanted });
    }
    out
}

/// Reads `types`.
pub(super) fn types(members: &Members, report: &mut Report) -> Vec<NamedType> {
    let mut out = Vec::new();
    for (name, node) in members.mapping("types", report) {
        if valid_name(&name, report) {
            out.push(NamedType { name, schema: node.to_value().to_serde(), at: node.at });
        }
    }
    out
}

/// A schema in which references to named types are those types; `found` returns the schema of a name. Returns what is wrong: a name
/// that is not known, or a type that contains itself.
pub fn resolved(schema: &Json, found: &dyn Fn(&str) -> Option<Json>) -> Result<Json, String> {
    fn inner(
        schema: &Json,
        found: &dyn Fn(&str) -> Option<Json>,
        around: &mut Vec<String>,
        left: &mut u32,
    ) -> Result<Json, String> {
        *left = left.checked_sub(1).ok_or("the types it refers to have too many parts")?;
        match schema {
            Json::Object(members) => {
                let name = members.get("$ref").and_then(Json::as_str).and_then(|to| to.strip_prefix("#/types/"));
                let mut out = Map::new();
                if let Some(name) = name {
                    if around.iter().any(|known| known == name) {
                        return Err(format!("the type `{name}` contains itself"));
                    }
                    let target = found(name).ok_or_else(|| format!("there is no type `{name}`"))?;
                    around.push(name.to_owned());
                    if let Json::Object(target) = inner(&target, found, around, left)? {
                        out = target;
                    }
                    around.pop();
                }
                for (key, value) in members.iter().filter(|(key, _)| name.is_none() || *key != "$ref") {
                    out.insert(key.clone(), inner(value, found, around, left)?);
                }
                Ok(Json::Object(out))
            }
            Json::Array(items) => items.iter().map(|item| inner(item, found, around, left)).collect(),
            other => Ok(other.clone()),
        }
    }
    inner(schema, found, &mut Vec::new(), &mut 20_000)
}
