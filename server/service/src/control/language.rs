//! What editors ask: the documents of an author among those that are live.

use std::collections::BTreeMap;
use std::sync::{Arc, Mutex, PoisonError, Weak};

use actix_web::HttpResponse;
use actix_web::web::{Data, Json};
use kanzlei_analysis::begin::{Beginning, begin};
use kanzlei_analysis::describe::{Refused, describe};
use kanzlei_analysis::sample::{Seen, openapi_of};
use kanzlei_analysis::{Workspace, complete, explain, extract, hover, outline, scope, sheet, symbols};
use kanzlei_api::deploys::Checked;
use kanzlei_api::language as api;
use kanzlei_api::services::{self, ServiceBeginning, ServiceBegun};
use kanzlei_lang::edit::{self, parse_path};
use kanzlei_model::problem::Problem;
use kanzlei_runtime::clock::now;
use kanzlei_runtime::live::{Live, bundle};

use super::deploys::name_of;
use crate::App;
use crate::error::{Error, Result};

/// Documents of one question.
const MOST_DOCUMENTS: usize = 2000;

/// Changes of one question.
const MOST_CHANGES: usize = 200;

/// Answers a question on a thread for long work: reading and checking take time.
async fn ask<T: Send + 'static>(
    app: &App,
    question: api::Question,
    answer: impl FnOnce(&Workspace, &api::Question) -> Result<T> + Send + 'static,
) -> Result<T> {
    if question.documents.len() > MOST_DOCUMENTS {
        let detail = format!("{} documents; at most {MOST_DOCUMENTS} go with a question", question.documents.len());
        return Err(Error::problem(400, "Too many documents", detail));
    }
    let given = question.documents.iter().map(|document| (document.path.as_str(), document.text.as_str()));
    let beside = super::deploys::templates_of(app, given, &question.files).await?;
    let (live, known, drawn) = (app.live.load_full(), super::deploys::known(app), app.workspace.clone());
    let work = move || {
        let mut workspace = (*drawn.of(&live)).clone();
        workspace.known = Some(known);
        let given: Vec<_> = question.documents.iter().filter_map(|document| name_of(&document.text)).collect();
        let replaced: Vec<String> = workspace
            .paths()
            .filter(|path| {
                let parts: Vec<&str> = path.split('/').collect();
                matches!(parts.as_slice(), ["live", kind, name, ..] if given.iter().any(|(k, n)| k == kind && n == name))
            })
            .map(str::to_owned)
            .collect();
        replaced.iter().for_each(|path| workspace.remove(path));
        let files = question.files.iter().chain(&beside);
        files.for_each(|(path, text)| workspace.set_file(path, text));
        question.documents.iter().for_each(|document| workspace.set_document(&document.path, &document.text));
        if workspace.text(&question.path).is_none() {
            return Err(Error::not_found(format!(
                "`{}` is none of the documents of the question, and none that is live",
                question.path
            )));
        }
        answer(&workspace, &question)
    };
    app.background.run(work).await?
}

fn ok(answer: impl serde::Serialize) -> Result<HttpResponse> {
    Ok(HttpResponse::Ok().json(answer))
}

/// `POST /language/diagnostics`: the findings of one document.
pub async fn diagnostics(app: Data<App>, body: Json<api::Question>) -> Result<HttpResponse> {
    ok(ask(&app, body.into_inner(), |workspace, question| {
        Ok(Checked { diagnostics: workspace.diagnostics(&question.path) })
    })
    .await?)
}

/// `POST /language/completion`: what can stand at a place.
pub async fn completion(app: Data<App>, body: Json<api::Question>) -> Result<HttpResponse> {
    ok(ask(&app, body.into_inner(), |workspace, question| {
        let (path, position) = (&question.path, question.position as usize);
        let suggestions = match question.at.as_str() {
            "" => complete::at(workspace, path, position),
            at => complete::within(workspace, path, &parse_path(at), &question.expression, position),
        };
        Ok(api::Suggestions { suggestions })
    })
    .await?)
}

/// `POST /language/hover`: what stands at a place.
pub async fn hovered(app: Data<App>, body: Json<api::Question>) -> Result<HttpResponse> {
    ok(ask(&app, body.into_inner(), |workspace, question| {
        Ok(api::Hovered { hover: hover::at(workspace, &question.path, question.position as usize) })
    })
    .await?)
}

/// `POST /language/definition`: where what stands at a place is declared.
pub async fn definition(app: Data<App>, body: Json<api::Question>) -> Result<HttpResponse> {
    ok(ask(&app, body.into_inner(), |workspace, question| {
        let locations = symbols::definition(workspace, &question.path, question.position as usize);
        Ok(api::Locations { locations })
    })
    .await?)
}

/// `POST /language/references`: where it is used and declared.
pub async fn references(app: Data<App>, body: Json<api::Question>) -> Result<HttpResponse> {
    ok(ask(&app, body.into_inner(), |workspace, question| {
        let locations = symbols::references(workspace, &question.path, question.position as usize, true);
        Ok(api::Locations { locations })
    })
    .await?)
}

/// `POST /language/rename`: the edits that give it another name everywhere.
pub async fn rename(app: Data<App>, body: Json<api::Question>) -> Result<HttpResponse> {
    ok(ask(&app, body.into_inner(), |workspace, question| {
        let position = question.position as usize;
        let edits = symbols::rename(workspace, &question.path, position, &question.name)
            .map_err(|refused| Error::problem(409, "It cannot be renamed", refused.0))?;
        Ok(api::RenameEdits { edits })
    })
    .await?)
}

/// `POST /language/outline`: the steps of a workflow.
pub async fn outlined(app: Data<App>, body: Json<api::Question>) -> Result<HttpResponse> {
    ok(ask(&app, body.into_inner(), |workspace, question| {
        Ok(api::Outline { steps: outline::of(workspace, &question.path) })
    })
    .await?)
}

/// `POST /language/scope`: the names that a step knows.
pub async fn scope_of(app: Data<App>, body: Json<api::Question>) -> Result<HttpResponse> {
    ok(ask(&app, body.into_inner(), |workspace, question| {
        let found = match question.step.as_str() {
            "" => scope::at(workspace, &question.path, question.position as usize),
            step => scope::at_step(workspace, &question.path, step),
        };
        found.ok_or_else(|| {
            Error::not_found(format!(
                "`{}` has no step {} whose names are known; check it",
                question.path, question.step
            ))
        })
    })
    .await?)
}

/// `POST /language/extract`: makes a workflow of steps.
pub async fn extracted(app: Data<App>, body: Json<api::Question>) -> Result<HttpResponse> {
    ok(ask(&app, body.into_inner(), |workspace, question| {
        let (at, count) = (parse_path(&question.at), question.count.max(1) as usize);
        extract(workspace, &question.path, &at, count, &question.name)
            .map_err(|why| Error::problem(409, "The steps cannot be taken out", why))
    })
    .await?)
}

/// `POST /language/begin`: begins a workflow.
pub async fn begun(body: Json<Beginning>) -> Result<HttpResponse> {
    ok(begin(&body).map_err(|why| Error::problem(422, "The workflow cannot be begun like this", why))?)
}

/// `POST /language/service`: the documents of a service, from its description or from samples.
pub async fn described(app: Data<App>, body: Json<ServiceBeginning>) -> Result<HttpResponse> {
    let asked = body.into_inner();
    let description = match asked.description.trim().is_empty() {
        false => asked.description,
        true if asked.samples.is_empty() => {
            let detail = "give its OpenAPI document, or answers that were seen";
            return Err(Error::problem(422, "Nothing describes the service", detail));
        }
        true => {
            let seen = asked.samples.into_iter().map(|one| Seen {
                method: one.method,
                path: one.path,
                status: one.status,
                body: one.body,
            });
            let document = openapi_of(&asked.name, &seen.collect::<Vec<_>>());
            serde_json::to_string_pretty(&document).unwrap_or_default()
        }
    };
    let work = move || {
        let described = describe(&asked.name, &description, Some(&asked.base));
        described.map(|described| (described, description))
    };
    let (described, description) = app.background.run(work).await?.map_err(|refused| match refused {
        Refused::Because(why) => Error::problem(422, "The service cannot be described like this", why),
        Refused::Findings(found) => {
            let mut problem = Problem::new(422, "The description has errors").detail(
                found.first().map_or_else(String::new, |first| format!("{} (line {})", first.message, first.line)),
            );
            problem.with.insert("diagnostics".into(), serde_json::json!(found));
            Error::Runtime(kanzlei_runtime::Error::Problem(Box::new(problem)))
        }
    })?;
    let operations = described.service.iter().flat_map(|service| {
        service.operations.iter().map(|(id, operation)| services::described(&service.api, id, operation))
    });
    ok(ServiceBegun {
        operations: operations.collect(),
        document: described.document,
        beside: described.beside,
        private: described.private,
        warnings: described.warnings,
        description,
    })
}

/// `POST /language/sheet`: changes a document, and returns it as a sheet.
pub async fn composed(app: Data<App>, body: Json<api::Question>) -> Result<HttpResponse> {
    let mut question = body.into_inner();
    if question.changes.len() > MOST_CHANGES {
        let detail = format!("{} changes; at most {MOST_CHANGES} are made at once", question.changes.len());
        return Err(Error::problem(400, "Too many changes", detail));
    }
    let path = question.path.clone();
    let Some(place) = question.documents.iter().position(|document| document.path == path) else {
        return Err(Error::not_found(format!("`{path}` is none of the documents of the question")));
    };
    let (mut text, changes) = (question.documents[place].text.clone(), std::mem::take(&mut question.changes));
    let work = move || {
        for change in &changes {
            text = edit::apply(&text, &edit::change(&text, change)?)?;
        }
        Ok::<_, edit::Error>(text)
    };
    let changed = app.background.run(work).await?;
    question.documents[place].text =
        changed.map_err(|error| Error::problem(422, "The text cannot be changed like this", error.to_string()))?;
    ok(ask(&app, question, |workspace, question| {
        let at = parse_path(&question.at);
        let wanted = !question.at.is_empty();
        Ok(api::Composed {
            text: workspace.text(&question.path).unwrap_or_default().to_owned(),
            sheet: sheet::of(workspace, &question.path),
            form: wanted.then(|| sheet::form(workspace, &question.path, head(&at))).flatten(),
            due: sheet::due(workspace, &question.path, now()),
            diagnostics: workspace.diagnostics(&question.path),
        })
    })
    .await?)
}

/// The head of the document is asked for as `head`.
fn head(at: &[edit::At]) -> &[edit::At] {
    match at {
        [edit::At::Key(key)] if key == "head" => &[],
        at => at,
    }
}

/// `POST /language/offers`: what could be added at a place of a list of steps.
pub async fn offered(app: Data<App>, body: Json<api::Question>) -> Result<HttpResponse> {
    ok(ask(&app, body.into_inner(), |workspace, question| {
        let offers = sheet::offers(workspace, &question.path, &parse_path(&question.at));
        Ok(api::Offers { offers: offers.unwrap_or_default() })
    })
    .await?)
}

/// `POST /language/values`: what could be chosen for a field.
pub async fn chosen(app: Data<App>, body: Json<api::Question>) -> Result<HttpResponse> {
    ok(ask(&app, body.into_inner(), |workspace, question| {
        let found = sheet::values(workspace, &question.path, &parse_path(&question.at));
        found.ok_or_else(|| nothing_known(question))
    })
    .await?)
}

/// `POST /language/evaluate`: the value of an expression over samples.
pub async fn evaluated(app: Data<App>, body: Json<api::Question>) -> Result<HttpResponse> {
    ok(ask(&app, body.into_inner(), |workspace, question| {
        let at = parse_path(&question.at);
        let (text, template) = (&question.expression, question.template);
        let found = sheet::evaluate(workspace, &question.path, &at, text, template, &question.values);
        found.ok_or_else(|| nothing_known(question))
    })
    .await?)
}

/// `POST /language/page`: what the template of a step makes of samples.
pub async fn filled(app: Data<App>, body: Json<api::Question>) -> Result<HttpResponse> {
    ok(ask(&app, body.into_inner(), |workspace, question| {
        let found = sheet::page(workspace, &question.path, &parse_path(&question.at), &question.values);
        found.ok_or_else(|| nothing_known(question))
    })
    .await?)
}

fn nothing_known(question: &api::Question) -> Error {
    Error::not_found(format!("nothing is known at `{}` of `{}`; check the document", question.at, question.path))
}

/// `POST /language/edit`: changes a text.
pub async fn changed(app: Data<App>, body: Json<api::EditRequest>) -> Result<HttpResponse> {
    let api::EditRequest { text, change } = body.into_inner();
    let work = move || {
        let edits = edit::change(&text, &change)?;
        let (new, undo) = (edit::apply(&text, &edits)?, edit::undo(&text, &edits));
        Ok::<_, edit::Error>(api::Edited { text: new, edits, undo })
    };
    let edited = app.background.run(work).await?;
    ok(edited.map_err(|error| Error::problem(422, "The text cannot be changed like this", error.to_string()))?)
}

/// `GET /language/findings`: what the codes of findings mean.
pub async fn findings() -> Result<HttpResponse> {
    let all = explain::all().iter().map(|one| api::Explanation {
        code: one.code.to_owned(),
        about: one.about.to_owned(),
        wrong: one.wrong.unwrap_or_default().to_owned(),
        corrected: one.corrected.unwrap_or_default().to_owned(),
    });
    ok(api::Explanations { findings: all.collect() })
}

/// The live documents, read once for each table of what is live.
#[derive(Debug, Default)]
pub struct LiveWorkspace(Mutex<Option<(Weak<Live>, Arc<Workspace>)>>);

impl LiveWorkspace {
    fn of(&self, live: &Arc<Live>) -> Arc<Workspace> {
        let mut kept = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some((_, workspace)) = kept.as_ref().filter(|(of, _)| of.as_ptr() == Arc::as_ptr(live)) {
            return workspace.clone();
        }
        let bundle = bundle(&live.documents);
        let mut texts: BTreeMap<String, String> = bundle.files;
        texts.extend(bundle.documents.into_iter().map(|source| (source.path, source.text)));
        let workspace = Arc::new(Workspace::of(texts));
        *kept = Some((Arc::downgrade(live), workspace.clone()));
        workspace
    }
}
