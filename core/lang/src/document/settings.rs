//! Documents of kind `settings`: named values that differ between installations and are no secrets.
//!
//! A document declares names, types and defaults; each installation may set other values. They are known to expressions
//! as `settings.NAME`, and stand where services and lanes have a constant: `base: ${settings.tides_base}`.
//!
//! ```
//! use kanzlei_lang::document::{self, Document, Source};
//! let text = "settings: office\nvalues:\n  free_days: {type: integer, default: 3}\n";
//! let (document, findings) = document::read(&Source::new("office.yaml", text), &|_| None);
//! assert!(findings.is_empty());
//! assert!(matches!(document, Some(Document::Settings(found)) if found.values[0].name.text == "free_days"));
//! ```

use std::collections::BTreeMap;

use super::keys::keys;
use super::reader::{KeySpec, Members, Named, free_members, is_document_name};
use super::workflow::{Property, property};
use super::yaml::Node;
use crate::diagnostic::Report;
use kanzlei_model::value::Value;

/// A document of settings.
#[derive(Clone, Debug)]
pub struct Settings {
    /// The name of the document.
    pub name: Named,
    /// What the settings are for, in the author's words.
    pub about: String,
    /// The settings, in the order of the text.
    pub values: Vec<Property>,
    /// The values that the installation has set.
    pub set: BTreeMap<String, Value>,
}

/// Settings by name, with the value in force; nothing where none is known.
pub type InForce = BTreeMap<String, Option<Value>>;

/// Keys of a document of settings.
pub const SETTINGS: &[KeySpec] = keys! {
    "settings", r#"{"type":"string","pattern":"^[a-z][a-z0-9-]*$"}"#, "The name of the document; expressions use the names under `values`.";
    "about", r#"{"type":"string"}"#, "What the settings are for, in a sentence.";
    "values", r#"{"type":"object","additionalProperties":{"type":"object"}}"#, "The settings by name: the JSON Schema of each, and its `default`. `kanzlei settings set NAME VALUE` sets another value on one installation.";
};

/// The most settings of one document.
pub const MAX_SETTINGS: usize = 500;

/// The file, relative to the document, that holds what the installation has set.
pub fn values_file(root: &Node) -> Option<String> {
    root.get("settings")?.as_text().filter(|name| is_document_name(name)).map(|name| format!("{name}.values.json"))
}

/// Reads a document of settings; `file` returns the text of a file named relative to the document.
pub fn read(root: &Node, file: &dyn Fn(&str) -> Option<String>, report: &mut Report) -> Option<Settings> {
    let members = Members::new(root, "a document of settings", &[SETTINGS], report)?;
    let name = members.text("settings", report)?;
    if !is_document_name(&name.text) {
        report.error("bad-name", name.at, format!("`{}` cannot be the name of a document of settings", name.text));
        report.help("lower-case letters, digits and hyphens, beginning with a letter: `office`");
    }
    let mut values = Vec::new();
    match members.get("values") {
        None => {
            report.error("missing-key", name.at, "a document of settings needs `values`");
            report.help("for example `values: {free_days: {type: integer, default: 3}}`");
        }
        Some(node) => {
            for (name, node) in free_members(node, "values", report) {
                values.extend(property("a setting", name, node, report).filter(|one| fits(one, node, report)));
            }
        }
    }
    if values.len() > MAX_SETTINGS {
        report.error("wrong-value", name.at, format!("{} settings; at most {MAX_SETTINGS} are allowed", values.len()));
    }
    let set = values_file(root).and_then(|name| file(&name)).and_then(|text| serde_json::from_str(&text).ok());
    let set: serde_json::Map<String, serde_json::Value> = set.unwrap_or_default();
    let set = set.into_iter().map(|(name, value)| (name, Value::from_json(&value))).collect();
    Some(Settings { name, about: members.text("about", report).map(|a| a.text).unwrap_or_default(), values, set })
}

/// A setting is neither a secret nor optional.
fn fits(property: &Property, node: &Node, report: &mut Report) -> bool {
    for (wrong, key, help) in [
        (property.secret, "secret", "secrets are set with `kanzlei secrets set NAME`; no expression can read them"),
        (property.optional, "optional", "leave it out: an installation sets what has no `default`"),
    ] {
        if let Some(key) = node.as_map().and_then(|m| m.iter().find(|(k, _)| k.name == key)).filter(|_| wrong) {
            report.error("wrong-value", key.0.at, format!("a setting is not `{}`", key.0.name));
            report.help(help);
            return false;
        }
    }
    true
}

impl Settings {
    /// The value in force of one of its settings: the one that is set, or the default.
    pub fn value(&self, property: &Property) -> Option<Value> {
        self.set.get(&property.name.text).or(property.default.as_ref()).cloned()
    }
}
