//! Names in expressions: those in scope with their types, members and methods of a value, functions.

use kanzlei_compiler::check::watch::Sight;
use kanzlei_lang::diagnostic::Place;
use kanzlei_lang::expr::functions::{self, Change, Static};
use kanzlei_lang::types::{self, Type};

use super::{Kind, Site, Suggestion};
use crate::expression::{Receiver, Within, type_of_name};
use crate::symbols;

const NAMESPACES: &[&str] = &["Math", "JSON", "Object", "Array", "Number", "String", "time", "list", "digest", "html"];
const WORDS: &[&str] = &["true", "false", "null", "undefined"];

pub(super) fn suggest(site: &Site, within: &Within, sight: &Sight) -> Vec<Suggestion> {
    let Some(ending) = within.ending(sight) else { return Vec::new() };
    let place = Place::new(within.begins + ending.start, within.begins + ending.end);
    let typed = &within.text[ending.start..within.at];
    let found = match &ending.member_of {
        Some(Receiver::Namespace(namespace)) => of_namespace(namespace, place),
        Some(Receiver::Value(of)) => {
            let mut found = members(site, of, place);
            if within.script && of.alternatives().iter().any(|one| matches!(one, Type::List(_))) {
                found.extend(Change::names().map(|name| method(name, place)));
            }
            found
        }
        None => {
            let mut found: Vec<Suggestion> = within
                .parameters(sight, ending.start, ending.end)
                .into_iter()
                .map(|(name, of)| {
                    Suggestion::new(Kind::Name, name, place).detail(of.to_string()).about(if within.script {
                        "A name of this script."
                    } else {
                        "A parameter of the function around."
                    })
                })
                .collect();
            found.extend(names(site, sight, place));
            found
        }
    };
    super::ranked(found, typed)
}

/// What a workflow's expressions know at a place.
fn names(site: &Site, sight: &Sight, place: Place) -> Vec<Suggestion> {
    let mut out: Vec<Suggestion> = Vec::new();
    let origins = symbols::Origins::of(site.workspace, site.document);
    // What was defined last is the most likely to be meant.
    let mut known: Vec<&str> = sight.scope.names().collect();
    known.reverse();
    for name in known {
        if out.iter().any(|one| one.label == name) {
            continue;
        }
        let of = type_of_name(sight, name).to_string();
        out.push(Suggestion::new(Kind::Name, name, place).detail(of).about(origins.get(name)));
    }
    for name in sight.scope.function_names() {
        let Some(function) = sight.scope.function(name) else { continue };
        out.push(
            call(Kind::Function, name, place).detail(function.text.to_string()).about("A function of this document."),
        );
    }
    for name in Static::names().filter(|name| !name.contains('.')) {
        out.push(function(name, name, place));
    }
    out.extend(
        NAMESPACES
            .iter()
            .map(|name| Suggestion::new(Kind::Function, *name, place).insert(format!("{name}.")).detail("functions")),
    );
    out.extend(WORDS.iter().map(|word| Suggestion::new(Kind::Value, *word, place)));
    out
}

fn call(kind: Kind, name: &str, place: Place) -> Suggestion {
    Suggestion::new(kind, name, place).snippet(format!("{name}($1)"))
}

fn function(full: &str, label: &str, place: Place) -> Suggestion {
    let found = kanzlei_lang::expr::about::function(full);
    let (signature, about) = found.map_or((String::new(), ""), |about| (about.signature(), about.about));
    call(Kind::Function, label, place).detail(signature).about(about)
}

fn of_namespace(namespace: &str, place: Place) -> Vec<Suggestion> {
    let prefix = format!("{namespace}.");
    let mut out: Vec<Suggestion> =
        Static::names().filter_map(|full| Some(function(full, full.strip_prefix(&prefix)?, place))).collect();
    for name in [
        "PI",
        "E",
        "LN2",
        "LN10",
        "LOG2E",
        "LOG10E",
        "SQRT2",
        "SQRT1_2",
        "MAX_SAFE_INTEGER",
        "MIN_SAFE_INTEGER",
        "EPSILON",
    ] {
        if let Some(value) = functions::constant(namespace, name) {
            out.push(Suggestion::new(Kind::Value, name, place).detail(value.to_string()));
        }
    }
    out
}

/// Members of a value, then its methods.
fn members(site: &Site, of: &Type, place: Place) -> Vec<Suggestion> {
    let mut out: Vec<Suggestion> = Vec::new();
    for one in of.alternatives() {
        match one {
            Type::Object(shape) => {
                for member in &shape.members {
                    if out.iter().any(|known| known.label == *member.name) {
                        continue;
                    }
                    let optional = if member.optional { " (may be missing)" } else { "" };
                    out.push(member_of(site, &member.name, place).detail(format!("{}{optional}", member.value)));
                }
            }
            Type::List(_) | Type::Text(_) if !out.iter().any(|known| known.label == "length") => {
                out.push(Suggestion::new(Kind::Member, "length", place).detail("number"));
            }
            _ => {}
        }
    }
    out.extend(types::methods(of).into_iter().map(|known| method(known.name(), place)));
    out
}

fn method(name: &str, place: Place) -> Suggestion {
    let found = kanzlei_lang::expr::about::method(name);
    let (signature, about) = found.map_or((String::new(), ""), |about| (about.signature(), about.about));
    call(Kind::Method, name, place).detail(signature).about(about)
}

/// A member by its name; one that is no name in expressions is read with brackets, in place of the dot.
fn member_of(site: &Site, name: &str, place: Place) -> Suggestion {
    let plain = kanzlei_lang::document::reader::is_identifier(name) || name.starts_with('$');
    if plain {
        return Suggestion::new(Kind::Member, name, place);
    }
    let dot = (place.start as usize).saturating_sub(1);
    let optional = site.text[..dot].ends_with('?');
    let start = if optional { dot + 1 } else { dot };
    let quoted = name.replace('\\', "\\\\").replace('\'', "\\'");
    Suggestion::new(Kind::Member, name, Place::new(start, place.end as usize)).insert(format!("['{quoted}']"))
}
