//! Reading mappings key by key: unknown keys, wrong types and missing keys become diagnostics.
//!
//! Each mapping of a document has a table of its keys ([`KeySpec`]). From the same tables come the JSON
//! Schemas that editors use ([`super::schema`]), so what is documented is what is read.

use std::borrow::Cow;
use std::time::Duration;

use super::settings::InForce;
use super::yaml::{Key, Kind, Node};
use crate::diagnostic::{Place, Report};
use crate::suggest;
use kanzlei_model::duration;

/// One key that a mapping may have.
#[derive(Debug)]
pub struct KeySpec {
    /// The key.
    pub name: &'static str,
    /// What it does, in a sentence.
    pub about: &'static str,
    /// JSON Schema of its value, as JSON text.
    pub schema: &'static str,
}

/// Keys of earlier versions, and what each is called now.
const RENAMED: &[(&str, &str)] = &[
    ("rescue", "catch"),
    ("again", "retry"),
    ("times", "attempts"),
    ("most", "max"),
    ("jobs", "queue"),
    ("for_each", "each` and `in"),
    ("item", "each"),
    ("index", "position"),
];

/// Text with its place.
#[derive(Clone, Debug, PartialEq)]
pub struct Named {
    /// The name as written.
    pub text: String,
    /// Where it stands.
    pub at: Place,
}

/// A mapping being read.
pub struct Members<'n> {
    members: &'n [(Key, Node)],
    /// Where the map stands.
    pub at: Place,
}

impl<'n> Members<'n> {
    /// Takes a node as a mapping with the keys of these tables.
    pub fn new(node: &'n Node, what: &str, tables: &[&[KeySpec]], report: &mut Report) -> Option<Self> {
        let Some(members) = node.as_map() else {
            report.error("wrong-type", node.at, format!("{what} is a mapping, not {}", node.what()));
            return None;
        };
        for (key, _) in members {
            let mut known = tables.iter().flat_map(|table| table.iter()).map(|spec| spec.name);
            if !known.any(|name| name == key.name) {
                let has = |name: &str| tables.iter().flat_map(|table| table.iter()).any(|spec| spec.name == name);
                let renamed = RENAMED
                    .iter()
                    .find(|(was, now)| *was == key.name && now.split('`').all(|n| n == " and " || has(n)));
                if let Some((was, now)) = renamed {
                    report.error("renamed-key", key.at, format!("`{was}` is now `{now}`"));
                    report.help(format!("write `{now}`"));
                    if is_identifier(now) {
                        report.fix(format!("write `{now}`"), key.at, *now);
                    }
                    continue;
                }
                report.error("unknown-key", key.at, format!("{what} has no key `{}`", key.name));
                let names = tables.iter().flat_map(|table| table.iter()).map(|spec| spec.name);
                match suggest::nearest(&key.name, names.clone()) {
                    Some(near) => report.did_you_mean(near),
                    None => report.help(format!("its keys are {}", names.collect::<Vec<_>>().join(", "))),
                };
            }
        }
        Some(Members { members, at: node.at })
    }

    /// Returns the value of a key.
    pub fn get(&self, name: &str) -> Option<&'n Node> {
        self.entry(name).map(|(_, node)| node)
    }

    /// Returns a key and its value.
    pub fn entry(&self, name: &str) -> Option<(&'n Key, &'n Node)> {
        self.members.iter().find(|(key, _)| key.name == name).map(|(key, node)| (key, node))
    }

    /// The value of a key that holds a constant: where it is `${settings.NAME}`, that setting's value.
    fn constant(&self, name: &str, report: &mut Report) -> Option<Cow<'n, Node>> {
        constant(self.get(name)?, report)
    }

    /// Reads a text that may be a setting.
    pub fn constant_text(&self, name: &str, report: &mut Report) -> Option<Named> {
        let node = self.constant(name, report)?;
        match node.as_text() {
            Some(text) => Some(Named { text: text.to_owned(), at: node.at }),
            None => {
                report.error("wrong-type", node.at, format!("`{name}` is text, not {}", node.what()));
                None
            }
        }
    }

    /// Reads a text.
    pub fn text(&self, name: &str, report: &mut Report) -> Option<Named> {
        let node = self.get(name)?;
        match node.as_text() {
            Some(text) => Some(Named { text: text.to_owned(), at: node.at }),
            None => {
                report.error("wrong-type", node.at, format!("`{name}` is text, not {}", node.what()));
                None
            }
        }
    }

    /// Reads a boolean; false when it is missing.
    pub fn boolean(&self, name: &str, report: &mut Report) -> bool {
        let Some(node) = self.constant(name, report) else { return false };
        if let Kind::Bool(found) = node.kind {
            return found;
        }
        report.error("wrong-type", node.at, format!("`{name}` is true or false, not {}", node.what()));
        false
    }

    /// A whole number within bounds.
    pub fn integer(&self, name: &str, least: i64, most: i64, report: &mut Report) -> Option<i64> {
        let node = self.constant(name, report)?;
        match node.kind {
            Kind::Int(int) if (least..=most).contains(&int) => Some(int),
            _ => {
                report.error("wrong-value", node.at, format!("`{name}` is a whole number from {least} to {most}"));
                None
            }
        }
    }

    /// Reads a span of at most `most`.
    pub fn duration(&self, name: &str, most: Duration, report: &mut Report) -> Option<Duration> {
        let node = self.constant(name, report)?;
        let text = match &node.kind {
            Kind::Text(text) => text.text.clone(),
            Kind::Int(int) => int.to_string(),
            _ => {
                report.error("wrong-type", node.at, format!("`{name}` is a duration, not {}", node.what()));
                return None;
            }
        };
        match duration::parse(&text) {
            Ok(found) if found <= most && !found.is_zero() => Some(found),
            Ok(_) => {
                let most = duration::short(most);
                report.error("wrong-value", node.at, format!("`{name}` lies above 0 and is at most {most}"));
                None
            }
            Err(error) => {
                report.error("wrong-value", node.at, error.to_string());
                None
            }
        }
    }

    /// The members of a mapping whose keys are free.
    pub fn mapping(&self, name: &str, report: &mut Report) -> Vec<(Named, &'n Node)> {
        match self.get(name) {
            None => Vec::new(),
            Some(node) => free_members(node, name, report),
        }
    }

    /// Reads a list; empty when it is missing.
    pub fn list(&self, name: &str, report: &mut Report) -> &'n [Node] {
        match self.get(name) {
            None => &[],
            Some(Node { kind: Kind::List(items), .. }) => items,
            Some(node) => {
                report.error("wrong-type", node.at, format!("`{name}` is a list, not {}", node.what()));
                &[]
            }
        }
    }
}

/// A constant of a document: the node itself or, where it is `${settings.NAME}`, the value of that setting. Nothing where the
/// setting is missing, which is reported, or has no value yet.
pub fn constant<'n>(node: &'n Node, report: &mut Report) -> Option<Cow<'n, Node>> {
    let inside = node.as_text().and_then(|text| text.strip_prefix("${")?.strip_suffix('}'));
    let Some(path) = inside.map(str::trim).and_then(|text| text.strip_prefix("settings.")) else {
        return Some(Cow::Borrowed(node));
    };
    let settings = report.settings()?;
    let mut names = path.split('.');
    let name = names.next().unwrap_or_default();
    let Some(value) = settings.get(name) else {
        unknown_setting(name, node.at, settings, report);
        return None;
    };
    let mut value = value.clone()?;
    for member in names {
        let Some(found) = value.member(member) else {
            report.error("unknown-setting", node.at, format!("the setting `{name}` has no `{member}`"));
            return None;
        };
        value = found.clone();
    }
    Some(Cow::Owned(Node::of(&value, node.at)))
}

/// Reports a setting that no document declares.
pub fn unknown_setting(name: &str, at: Place, settings: &InForce, report: &mut Report) {
    report.error("unknown-setting", at, format!("there is no setting `{name}`"));
    match suggest::nearest(name, settings.keys().map(String::as_str)) {
        Some(near) if report.text().get(at.start as usize..at.end as usize) == Some(name) => report.did_you_mean(near),
        Some(near) => report.help(format!("did you mean `settings.{near}`?")),
        None => report.help(format!(
            "declare it in a document of settings: `settings: office` with `values: {{{name}: {{type: string, default: …}}}}`"
        )),
    };
}

/// The members of a mapping whose keys are free.
pub fn free_members<'n>(node: &'n Node, name: &str, report: &mut Report) -> Vec<(Named, &'n Node)> {
    match &node.kind {
        Kind::Map(members) => {
            members.iter().map(|(key, node)| (Named { text: key.name.clone(), at: key.at }, node)).collect()
        }
        _ => {
            report.error("wrong-type", node.at, format!("`{name}` is a mapping, not {}", node.what()));
            Vec::new()
        }
    }
}

/// The most characters of a name.
pub const MAX_NAME: usize = 60;

/// Whether a text is a name for documents: `berth-quote`.
pub fn is_document_name(name: &str) -> bool {
    (1..=MAX_NAME).contains(&name.len())
        && name.starts_with(|c: char| c.is_ascii_lowercase())
        && name.bytes().all(|b| b.is_ascii_lowercase() || b.is_ascii_digit() || b == b'-')
        && !name.ends_with('-')
}

/// Whether a text can be a name in expressions.
pub fn is_identifier(name: &str) -> bool {
    (1..=MAX_NAME).contains(&name.len())
        && name.starts_with(|c: char| c.is_ascii_alphabetic() || c == '_')
        && name.bytes().all(|b| b.is_ascii_alphanumeric() || b == b'_')
}
