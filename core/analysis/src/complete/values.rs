//! Scalars: values that a key lists, and names of things that exist.

use kanzlei_lang::diagnostic::Place;
use kanzlei_lang::document::Document;
use kanzlei_lang::document::values::{FAILURE_KINDS, METHODS};
use kanzlei_lang::document::yaml::quoted;
use kanzlei_lang::edit::At;

use super::{Kind, Site, Suggestion};
use crate::keys::{self, key_name};

const TYPES: &[&str] = &["string", "integer", "number", "boolean", "array", "object", "null"];
const FORMATS: &[&str] =
    &["date", "date-time", "time", "duration", "email", "uri", "uri-reference", "uuid", "hostname", "ipv4", "ipv6"];

/// What may be a value at a place.
pub(super) fn suggest(site: &Site, replace: Place) -> Vec<Suggestion> {
    let (root, path) = (&site.spot.root, site.spot.path.as_slice());
    let plain = |kind, name: &str| Suggestion::new(kind, name, replace).insert(quoted(name));
    let listed = |names: &[&str]| names.iter().map(|name| plain(Kind::Value, name)).collect::<Vec<_>>();
    let last = path.iter().rev().find(|at| matches!(at, At::Key(_))).map(key_name).unwrap_or_default();
    let in_step = keys::step_of(root, path).map(|(_, rest)| rest.len());
    let mut out: Vec<Suggestion> = keys::values(root, path).iter().map(|value| plain(Kind::Value, value)).collect();
    match (keys::kind_of(root), in_step, last.as_str()) {
        (_, Some(1), "call") => {
            out.extend(operations(site, replace));
            let methods = METHODS.iter().filter(|method| **method != "HEAD");
            out.extend(methods.map(|method| plain(Kind::Value, method).insert(format!("{method} "))));
        }
        (_, Some(1), "service") => out.extend(named(site, replace, "service")),
        (_, Some(1), "invoke") => {
            out.extend(named(site, replace, "workflow"));
            out.extend(groups(site, replace));
        }
        (_, Some(1), "enqueue" | "wake") => out.extend(named(site, replace, "workflow")),
        (Some("workflow" | "library"), None, "use") => out.extend(named(site, replace, "library")),
        (Some("workflow" | "issuer"), None, "allowance") => out.extend(named(site, replace, "allowance")),
        (Some("workflow"), None, "jwt") => out.extend(named(site, replace, "issuer")),
        (Some("issuer"), None, "service") => out.extend(named(site, replace, "service")),
        (Some("alert"), None, "workflow" | "timetable" | "run") => out.extend(named(site, replace, "workflow")),
        (Some("alert"), None, kind @ ("service" | "allowance")) => out.extend(named(site, replace, kind)),
        (_, _, "lane") => out.extend(named(site, replace, "lane")),
        (_, Some(1), "sql") => out.extend(known(site, replace, true)),
        (_, Some(_), "on") => out.extend(listed(FAILURE_KINDS)),
        (Some("cases"), _, "fails") => out.extend(listed(FAILURE_KINDS)),
        (Some("cases"), _, "cases") => out.extend(named(site, replace, "workflow")),
        (Some("workflow"), None, "endpoint") => {
            out.extend(METHODS.iter().map(|method| plain(Kind::Value, method).snippet(format!("{method} /$1"))));
        }
        (Some("workflow"), None, "type") => out.extend(listed(TYPES)),
        (Some("workflow"), None, "format") => out.extend(listed(FORMATS)),
        (Some("workflow"), None, "secret" | "optional") => out.extend(listed(&["true", "false"])),
        (Some("workflow"), None, "to") => out.push(plain(Kind::Value, "${input.…}").snippet("\"\\${input.$1}\"")),
        (Some("workflow"), None, _) if path.len() == 4 && path.get(2) == Some(&At::Key("from".into())) => {
            out.extend(["header.", "query.", "body"].map(|source| plain(Kind::Value, source).insert(source)));
        }
        (Some("service"), None, "openapi") => {
            let files = site.workspace.files().filter_map(|file| beside(site.document, file));
            out.extend(files.map(|file| plain(Kind::Value, &file)));
        }
        (Some("service"), None, "bearer" | "password" | "value" | "secret" | "certificate") => {
            out.retain(|one| one.label != "true" && one.label != "false");
            out.extend(known(site, replace, false));
        }
        (Some("service"), None, "from") => out.extend(named(site, replace, "service")),
        _ => {}
    }
    let within = |key: &str| path.iter().any(|at| *at == At::Key(key.into()));
    let proves = (within("proof") || within("sign")) && matches!(last.as_str(), "standard" | "bearer" | "basic");
    if last == "secret" && (within("notify") || within("proof") || within("sign")) || proves {
        out.retain(|one| one.label != "true" && one.label != "false");
        out.extend(known(site, replace, false));
    }
    out
}

/// A file's name relative to a document in the same folder or one beside it.
fn beside(document: &str, file: &str) -> Option<String> {
    let folder = document.rsplit_once('/').map_or("", |(folder, _)| folder);
    match folder.is_empty() {
        true => Some(file.to_owned()),
        false => file.strip_prefix(folder)?.strip_prefix('/').map(str::to_owned),
    }
}

/// All operations of all services.
fn operations(site: &Site, replace: Place) -> Vec<Suggestion> {
    let mut out = Vec::new();
    for (_, _, document) in site.workspace.documents() {
        let Document::Service(service) = document else { continue };
        for (id, operation) in &service.operations {
            let label = format!("{}.{id}", service.name.text);
            out.push(
                Suggestion::new(Kind::Operation, label, replace)
                    .detail(format!("{} {}", operation.method, operation.path))
                    .about(operation.about.clone()),
            );
        }
        if service.operations.is_empty() && !service.base.is_empty() {
            let label = format!("GET {}/", service.base);
            out.push(Suggestion::new(Kind::Operation, label, replace).detail(format!("service {}", service.name.text)));
        }
    }
    out
}

/// The groups of steps of all libraries.
fn groups(site: &Site, replace: Place) -> Vec<Suggestion> {
    let libraries = site.workspace.documents().filter_map(|(_, _, document)| match document {
        Document::Library(library) => Some(library),
        _ => None,
    });
    let groups = libraries.flat_map(|library| &library.groups);
    groups
        .map(|group| {
            Suggestion::new(Kind::Reference, &group.name.text, replace)
                .detail("group of steps")
                .about(group.about.clone())
        })
        .collect()
}

/// Documents of a kind by name.
fn named(site: &Site, replace: Place, kind: &str) -> Vec<Suggestion> {
    let found = site.workspace.documents().filter_map(|(_, _, document)| match document {
        Document::Workflow(workflow) if kind == "workflow" => Some((&workflow.name.text, workflow.about.clone())),
        Document::Service(service) if kind == "service" => Some((&service.name.text, service.about.clone())),
        Document::Allowance(one) if kind == "allowance" => Some((&one.name.text, one.about.clone())),
        Document::Issuer(one) if kind == "issuer" => Some((&one.name.text, one.about.clone())),
        Document::Lane(lane) if kind == "lane" => Some((&lane.name.text, lane.about.clone())),
        Document::Library(library) if kind == "library" => Some((&library.name.text, library.about.clone())),
        _ => None,
    });
    let one =
        |(name, about): (&String, String)| Suggestion::new(Kind::Reference, name, replace).detail(kind).about(about);
    found.map(one).collect()
}

/// Databases or secrets: those of the service that is asked, and those that documents name.
fn known(site: &Site, replace: Place, databases: bool) -> Vec<Suggestion> {
    let mut names = std::collections::BTreeSet::new();
    if let Some(known) = &site.workspace.known {
        match databases {
            true => names.extend(known.databases.keys().cloned()),
            false => names.extend(known.secrets.keys().cloned()),
        }
    }
    names.extend(crate::symbols::named_outside(site.workspace, databases));
    let kind = if databases { "database" } else { "secret" };
    names.into_iter().map(|name| Suggestion::new(Kind::Reference, name, replace).detail(kind)).collect()
}
