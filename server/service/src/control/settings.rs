//! Settings: what documents declare, which values this installation has set, and who uses them.
//!
//! A value that is set belongs to the revision of the document that declares the setting, so that setting one is a deploy: what
//! is live is checked with it, and jobs that wait keep the values they were queued with.

use std::collections::BTreeMap;

use actix_web::HttpResponse;
use actix_web::web::Data;
use kanzlei_api::settings::{Setting, Settings};
use kanzlei_compiler::check::{Bundle, relative};
use kanzlei_lang::diagnostic::Report;
use kanzlei_lang::document::{self, Document, Source};
use kanzlei_lang::types::schema;
use kanzlei_runtime::live::Live;
use serde_json::{Map, Value as Json};

use super::deploys::name_of;
use crate::App;
use crate::error::{Error, Result};

/// `GET /settings`: every setting, with its value and its users.
pub async fn list(app: Data<App>) -> Result<HttpResponse> {
    let live = app.live.load();
    let settings = live.settings.declared.iter().map(|(name, setting)| Setting {
        name: name.clone(),
        document: setting.document.clone(),
        about: setting.schema.get("description").and_then(Json::as_str).unwrap_or_default().to_owned(),
        of: schema::read(&setting.schema).to_string(),
        schema: setting.schema.clone(),
        default: setting.default.as_ref().map(|value| value.to_serde()).unwrap_or_default(),
        set: setting.set.as_ref().map(|value| value.to_serde()).unwrap_or_default(),
        users: users(&live, name),
    });
    Ok(HttpResponse::Ok().json(Settings { settings: settings.collect() }))
}

/// The live documents that read a setting.
fn users(live: &Live, name: &str) -> Vec<String> {
    let reads =
        |kind: &str, document: &str, text: &str| match live.workflows.get(document).filter(|_| kind == "workflow") {
            Some(workflow) => {
                let own = workflow.plan.settings.as_ref().is_some_and(|settings| settings.member(name).is_some());
                own || mentions(text, name)
            }
            None => kind != "settings" && mentions(text, name),
        };
    let used = live.documents.iter().filter(|one| reads(&one.kind, &one.name, &one.source));
    used.map(|one| format!("{}/{}", one.kind, one.name)).collect()
}

/// Whether a constant of a text is a setting.
pub(super) fn mentions(text: &str, name: &str) -> bool {
    let ends = |rest: &str| !rest.starts_with(|c: char| c.is_ascii_alphanumeric() || c == '_');
    let wanted = format!("settings.{name}");
    text.match_indices(&wanted).any(|(at, _)| ends(&text[at + wanted.len()..]))
}

/// Adds to documents the values that the installation has set, with `wanted` in place of some; the documents that declare
/// those come along.
pub(super) fn carry(bundle: &mut Bundle, live: &Live, wanted: &BTreeMap<String, Json>) -> Result<()> {
    for name in wanted.keys() {
        let given = bundle.documents.iter().any(|source| declares(source, name));
        if given {
            continue;
        }
        let Some(setting) = live.settings.declared.get(name) else {
            let near = kanzlei_lang::suggest::nearest(name, live.settings.declared.keys().map(String::as_str));
            let hint = near.map(|near| format!("; did you mean `{near}`?")).unwrap_or_default();
            return Err(Error::problem(422, "Unknown setting", format!("there is no setting `{name}`{hint}")));
        };
        let own = live.documents.iter().find(|one| one.kind == "settings" && one.name == setting.document);
        if let Some(own) = own {
            let path = format!("settings/{}.yaml", own.name);
            if !bundle.documents.iter().any(|source| source.path == path) {
                bundle.documents.push(Source::new(path, own.source.clone()));
            }
        }
    }
    for source in &bundle.documents {
        let Some(("settings", name)) = name_of(&source.text) else { continue };
        let root = document::yaml::parse(&mut Report::new("", &source.text));
        let Some(file) = root.as_ref().and_then(document::settings::values_file) else { continue };
        let file = relative(&source.path, &file);
        let before = live.documents.iter().find(|one| one.kind == "settings" && one.name == name);
        let before = before.and_then(|one| one.file.as_deref()).and_then(|text| serde_json::from_str(text).ok());
        let mut values: Map<String, Json> = before.unwrap_or_default();
        for (name, value) in wanted.iter().filter(|(name, _)| declares(source, name)) {
            match value {
                Json::Null => _ = values.remove(name),
                value => _ = values.insert(name.clone(), value.clone()),
            }
        }
        // A setting that is no longer declared needs no value.
        values.retain(|name, _| declares(source, name));
        bundle.files.remove(&file);
        if !values.is_empty() {
            let text = serde_json::to_string_pretty(&values).unwrap_or_default();
            bundle.files.insert(file, text + "\n");
        }
    }
    Ok(())
}

fn declares(source: &Source, name: &str) -> bool {
    if document::kind_of(&source.text) != Some("settings") {
        return false;
    }
    let (document, _) = document::read(source, &|_| None);
    matches!(document, Some(Document::Settings(found)) if found.values.iter().any(|one| one.name.text == name))
}
