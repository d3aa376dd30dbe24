//! Renaming a live workflow: one deploy of it and of everything that names it. Its address stays, and its runs, jobs, revisions and
//! drafts are found under the new name.

use std::collections::BTreeMap;

use actix_web::HttpResponse;
use actix_web::web::{Data, Json, Path};
use kanzlei_analysis::{Workspace, symbols};
use kanzlei_api::workflows::{NewName, Renamed};
use kanzlei_compiler::check::Bundle;
use kanzlei_lang::document::{self, Source};
use kanzlei_lang::edit::apply;
use kanzlei_runtime::live::{Live, bundle};

use super::auth::Caller;
use super::deploys::{Renaming, Wish, perform};
use super::workflows::no_workflow;
use crate::App;
use crate::error::{Error, Result};

/// `POST /workflows/{name}/rename`: gives a workflow another name.
pub async fn rename(app: Data<App>, caller: Caller, name: Path<String>, body: Json<NewName>) -> Result<HttpResponse> {
    let _turn = app.deploying.lock().await;
    let (from, NewName { to, preview }) = (name.into_inner(), body.into_inner());
    let live = app.live.load_full();
    if !live.workflows.contains_key(&from) {
        return Err(no_workflow(&live, &from, "is live"));
    }
    let refused = |detail: String| Error::problem(409, "The workflow cannot be renamed", detail);
    if live.workflows.contains_key(&to) {
        return Err(refused(format!("a workflow `{to}` is live")));
    }
    for kind in ["workflow", "cases"] {
        if app.store.draft(kind, &to).await?.is_some() {
            return Err(refused(format!("there is a draft of the {kind} `{to}`; discard it first")));
        }
    }
    let (given, texts) = (live.clone(), (from.clone(), to.clone()));
    let changed = app.background.run(move || changed(&given, &texts.0, &texts.1)).await?.map_err(refused)?;
    let mut drafts = Vec::new();
    for kind in ["workflow", "cases"] {
        if let Some(draft) = app.store.draft(kind, &from).await? {
            drafts.push((kind.to_owned(), draft.version, document::with_name(&draft.source, &to)));
        }
    }
    // Drafts of others may be no documents yet: they are named, not changed.
    let mentions = |text: &str| text.split(|c: char| !c.is_ascii_alphanumeric() && c != '-').any(|word| word == from);
    let mut mentioning = Vec::new();
    let mut behind = (String::new(), String::new());
    loop {
        let page = app.store.drafts_behind(&behind.0, &behind.1).await?;
        let Some(last) = page.last() else { break };
        behind = (last.kind.clone(), last.name.clone());
        let named = page.iter().filter(|draft| draft.name != from && mentions(&draft.source));
        mentioning.extend(named.map(|draft| format!("{}/{}", draft.kind, draft.name)));
    }
    // Counts that are not written yet would stay with the old name.
    app.journal.flush().await;
    let rename = Some(Renaming { from: from.clone(), to: to.clone(), drafts });
    let deployed =
        perform(&app, &caller, &live, Wish { given: changed, drafts: Vec::new(), rename, preview, gradual: None })
            .await?;
    if !preview {
        tracing::info!(from, to, "renamed");
    }
    Ok(HttpResponse::Ok().json(Renamed { from, to, deployed: deployed.deployed, drafts: mentioning }))
}

/// The live documents that a rename changes, with their files, or why it is refused.
fn changed(live: &Live, from: &str, to: &str) -> std::result::Result<Bundle, String> {
    let all = bundle(&live.documents);
    let texts = all.documents.iter().map(|source| (source.path.clone(), source.text.clone()));
    let workspace = Workspace::of(texts.chain(all.files.clone()));
    let place = symbols::declared(&workspace, &symbols::Symbol::Workflow(from.to_owned()));
    let place = place.ok_or_else(|| format!("the document of `{from}` cannot be read"))?;
    let edits =
        symbols::rename(&workspace, &place.path, place.range.start as usize, to).map_err(|refused| refused.0)?;
    let paths: BTreeMap<&str, &str> = live
        .documents
        .iter()
        .zip(&all.documents)
        .map(|(document, source)| (source.path.as_str(), document.path.as_str()))
        .collect();
    let mut given = Bundle { files: all.files.clone(), ..Bundle::default() };
    for (path, edits) in edits {
        let text = workspace.text(&path).unwrap_or_default();
        let text = apply(text, &edits).map_err(|error| error.to_string())?;
        // Documents are kept with the paths of files: that of the renamed one may still have the old name.
        let from = paths.get(path.as_str()).copied().unwrap_or(&path);
        given.documents.push(Source::new(from, text));
    }
    Ok(given)
}
