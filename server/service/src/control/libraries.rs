//! Live libraries: listed with who uses them, and retired.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use actix_web::HttpResponse;
use actix_web::web::{Data, Path};
use kanzlei_api::libraries::{Libraries, LibraryLine};
use kanzlei_compiler::plan::Plan;
use kanzlei_lang::document::{self, Document, Library, Source};
use kanzlei_runtime::live::Live;
use kanzlei_store::documents::NewDocument;

use super::auth::Caller;
use super::workflows::retire_one;
use crate::App;
use crate::error::{Error, Result};

fn library(source: &str) -> Option<Arc<Library>> {
    match document::read(&Source::new("live", source), &|_| None).0 {
        Some(Document::Library(library)) => Some(library),
        _ => None,
    }
}

/// `GET /libraries`: live libraries with who uses them.
pub async fn libraries(app: Data<App>) -> HttpResponse {
    let live = app.live.load_full();
    let found = live.documents.iter().filter(|document| document.kind == "library");
    let lines = found.filter_map(|document| {
        let library = library(&document.source)?;
        let names = |all: &[(document::reader::Named, _)]| all.iter().map(|(name, _)| name.text.clone()).collect();
        Some(LibraryLine {
            name: document.name.clone(),
            about: library.about.clone(),
            version: library.version.as_ref().map(ToString::to_string),
            revision: document.number,
            since: document.since,
            functions: names(&library.functions),
            types: library.types.iter().map(|one| one.name.text.clone()).collect(),
            groups: library.groups.iter().map(|group| group.name.text.clone()).collect(),
            uses: library.uses.iter().map(|one| one.name.text.clone()).collect(),
            workflows: users(&live, &document.name),
        })
    });
    HttpResponse::Ok().json(Libraries { libraries: lines.collect() })
}

/// The live workflows that use a library, themselves or through others.
fn users(live: &Live, name: &str) -> Vec<String> {
    let uses = |plan: &Plan| plan.libraries.iter().any(|library| library == name);
    live.workflows.values().filter(|workflow| uses(&workflow.plan)).map(|workflow| workflow.plan.name.clone()).collect()
}

/// `DELETE /libraries/{name}`: retires a library that no live workflow and no other library uses.
pub async fn retire(app: Data<App>, caller: Caller, name: Path<String>) -> Result<HttpResponse> {
    caller.notes.changed(format!("library {name}"), None, Some("retired".into()));
    let live = app.live.load_full();
    let mut users = users(&live, &name);
    let others = live.documents.iter().filter(|document| document.kind == "library");
    users.extend(others.filter_map(|document| {
        let library = library(&document.source)?;
        library.uses.iter().any(|one| one.name.text == *name).then(|| format!("the library {}", document.name))
    }));
    if !users.is_empty() {
        return Err(Error::problem(409, "The library is in use", format!("it is used by {}", users.join(", "))));
    }
    retire_one(&app, "library", &name, &caller.name).await
}

/// The live workflows that a deploy puts live again because a library that they use changes, as they are.
pub(super) fn redeployed(new: &[NewDocument], live: &Live, plans: &BTreeMap<String, Arc<Plan>>) -> Vec<NewDocument> {
    let source = |name: &str| live.documents.iter().find(|one| one.kind == "library" && one.name == name);
    let changed: BTreeSet<&str> = new
        .iter()
        .filter(|document| document.kind == "library")
        .filter(|document| source(&document.name).is_some_and(|live| live.source != document.source))
        .map(|document| document.name.as_str())
        .collect();
    let given = |name: &str| new.iter().any(|document| document.kind == "workflow" && document.name == name);
    live.documents
        .iter()
        .filter(|document| document.kind == "workflow" && !given(&document.name))
        .filter(|document| {
            plans
                .get(&document.name)
                .is_some_and(|plan| plan.libraries.iter().any(|one| changed.contains(one.as_str())))
        })
        .map(|document| NewDocument {
            kind: document.kind.clone(),
            name: document.name.clone(),
            path: document.path.clone(),
            source: document.source.clone(),
            file: document.file.clone(),
            digest: String::new(),
        })
        .collect()
}

/// The texts of the libraries that a workflow uses, by name: they are part of what it is.
pub(super) fn texts<'t>(
    name: &str,
    new: &'t [NewDocument],
    live: &'t Live,
    plans: &BTreeMap<String, Arc<Plan>>,
) -> Vec<&'t str> {
    let Some(plan) = plans.get(name) else { return Vec::new() };
    let text = |name: &String| {
        let given = new.iter().find(|one| one.kind == "library" && one.name == *name).map(|one| one.source.as_str());
        let known = || live.documents.iter().find(|one| one.kind == "library" && one.name == *name);
        given.or_else(|| known().map(|one| one.source.as_str()))
    };
    plan.libraries.iter().filter_map(text).collect()
}
