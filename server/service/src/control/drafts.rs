//! Drafts and revisions: saved over the version that was read, merged where two authors touched different lines.

use actix_web::http::header;
use actix_web::web::{Data, Json, Path};
use actix_web::{HttpRequest, HttpResponse};
use kanzlei_analysis::{compare, lines};
use kanzlei_api::drafts as api;
use kanzlei_api::workflows::Revision;
use kanzlei_compiler::beside;
use kanzlei_lang::document::yaml::MAX_SIZE;
use kanzlei_lang::document::{BESIDE, KINDS, reader::is_document_name};
use kanzlei_model::problem::Problem;
use kanzlei_runtime::clock::now;
use kanzlei_runtime::live::Live;
use kanzlei_store::drafts::Draft;
use serde_json::json;

use super::auth::Caller;
use super::deploys::name_of;
use crate::App;
use crate::error::{Error, Result};

/// The largest file that a draft brings along: an OpenAPI document.
const LARGEST_FILE: usize = 8 << 20;

/// The most drafts that are listed.
const MOST: usize = 2000;

/// How a draft stands, beside what is live.
pub(super) fn line(draft: &Draft, live: &Live) -> api::DraftLine {
    let deployed = live.documents.iter().find(|document| document.kind == draft.kind && document.name == draft.name);
    let steps = deployed
        .filter(|_| draft.kind == "workflow")
        .map(|deployed| compare::steps_of(&deployed.source, &draft.source));
    let differs = steps.map(|steps| steps.len() as u32);
    let same = deployed.is_some_and(|deployed| deployed.source == draft.source && deployed.file == draft.file);
    let state = match (deployed, differs) {
        (None, _) if BESIDE.contains(&draft.kind.as_str()) => "kept, never live".to_owned(),
        (None, _) => "not deployed".to_owned(),
        (Some(_), _) if same => "as it is live".to_owned(),
        (Some(_), Some(1)) => "differs from live by 1 step".to_owned(),
        (Some(_), Some(steps)) if steps > 0 => format!("differs from live by {steps} steps"),
        (Some(_), _) => "differs from live".to_owned(),
    };
    api::DraftLine {
        kind: draft.kind.clone(),
        name: draft.name.clone(),
        version: draft.version,
        base: draft.base,
        live: deployed.map(|deployed| deployed.number),
        differs,
        state,
        changed: draft.changed,
        operator: draft.operator.clone(),
    }
}

async fn shown(app: &App, draft: Draft) -> Result<HttpResponse> {
    let live = app.live.load_full();
    let etag = format!("\"{}\"", draft.version);
    let work = move || (line(&draft, &live), draft);
    let (line, draft) = app.background.run(work).await?;
    Ok(HttpResponse::Ok().insert_header((header::ETAG, etag)).json(api::Draft {
        line,
        path: draft.path,
        text: draft.source,
        file: draft.file,
    }))
}

/// Kind and name of a path.
fn known(path: &Path<(String, String)>) -> Result<(&str, &str)> {
    let (kind, name) = (path.0.as_str(), path.1.as_str());
    if !KINDS.contains(&kind) {
        return Err(Error::not_found(format!("there is no kind of document `{kind}`; kinds: {}", KINDS.join(", "))));
    }
    Ok((kind, name))
}

fn no_draft(kind: &str, name: &str) -> Error {
    Error::not_found(format!("there is no draft of the {kind} `{name}`"))
}

/// `GET /drafts`: all of them, at most [`MOST`].
pub async fn list(app: Data<App>) -> Result<HttpResponse> {
    let live = app.live.load_full();
    let mut lines: Vec<api::DraftLine> = Vec::new();
    while lines.len() < MOST {
        let last = lines.last().map_or(("", ""), |last| (last.kind.as_str(), last.name.as_str()));
        let some = app.store.drafts_behind(last.0, last.1).await?;
        if some.is_empty() {
            break;
        }
        let live = live.clone();
        let work = move || some.iter().map(|draft| line(draft, &live)).collect::<Vec<_>>();
        lines.extend(app.background.run(work).await?);
    }
    Ok(HttpResponse::Ok().json(api::Drafts { drafts: lines }))
}

/// `GET /drafts/{kind}/{name}`: one with its text.
pub async fn show(app: Data<App>, path: Path<(String, String)>) -> Result<HttpResponse> {
    let (kind, name) = known(&path)?;
    let draft = app.store.draft(kind, name).await?.ok_or_else(|| no_draft(kind, name))?;
    shown(&app, draft).await
}

/// What a request says about the version it knows.
enum Precondition {
    None,
    First,
    Version(u64),
}

fn precondition(request: &HttpRequest) -> Result<Precondition> {
    let text = |name: header::HeaderName| request.headers().get(name).and_then(|value| value.to_str().ok());
    if text(header::IF_NONE_MATCH).is_some_and(|value| value.trim() == "*") {
        return Ok(Precondition::First);
    }
    match text(header::IF_MATCH) {
        None => Ok(Precondition::None),
        Some(value) => {
            let version = value.trim().trim_start_matches("W/").trim_matches('"').parse().ok();
            let version = version.filter(|version| (1..u64::MAX).contains(version)).map(Precondition::Version);
            version.ok_or_else(|| {
                Error::problem(400, "Malformed If-Match", "it is the `ETag` of the draft that was read: `\"3\"`")
            })
        }
    }
}

/// `PUT /drafts/{kind}/{name}`: saves a draft over the version that was read (RFC 9110 §13.1).
pub async fn save(
    app: Data<App>,
    path: Path<(String, String)>,
    request: HttpRequest,
    caller: Caller,
    body: Json<api::DraftText>,
) -> Result<HttpResponse> {
    let (kind, name) = known(&path)?;
    caller.notes.changed(format!("draft of the {kind} {name}"), None, Some("saved".into()));
    let given = body.into_inner();
    if !is_document_name(name) {
        let why = format!("`{name}` cannot be the name of a document: lower-case letters, digits and hyphens");
        return Err(Error::problem(422, "The draft cannot be saved", why));
    }
    if given.text.len() > MAX_SIZE || given.file.as_ref().is_some_and(|file| file.len() > LARGEST_FILE) {
        let why = format!("a document has at most {MAX_SIZE} bytes, and the file it names {LARGEST_FILE}");
        return Err(Error::problem(422, "The draft is too large", why));
    }
    // A text that cannot be read yet is a draft all the same.
    if let Some((of, called)) = name_of(&given.text).filter(|found| (found.0, found.1.as_str()) != (kind, name)) {
        let why = format!("the text is the {of} `{called}`, and not the {kind} `{name}`");
        return Err(Error::problem(422, "The draft has another name", why));
    }
    let expected = match precondition(&request)? {
        Precondition::First => 0,
        Precondition::Version(version) => version,
        Precondition::None => {
            let why =
                "send `If-Match` with the `ETag` of the draft that was read, or `If-None-Match: *` for a first one";
            return Err(Error::problem(428, "Which version is this based on?", why));
        }
    };
    let live = app.live.load_full();
    let deployed = live.documents.iter().find(|document| document.kind == kind && document.name == name);
    let before = app.store.draft(kind, name).await?;
    let base = match &before {
        Some(before) if before.version == expected => before.base,
        _ => deployed.map(|deployed| deployed.number),
    };
    let kept = before.and_then(|before| before.file).or_else(|| deployed.and_then(|deployed| deployed.file.clone()));
    let file = beside::merged(&given.text, given.file.clone(), kept);
    let draft = Draft {
        kind: kind.to_owned(),
        name: name.to_owned(),
        version: expected + 1,
        base,
        path: given.path.chars().take(500).collect(),
        source: given.text.clone(),
        file,
        changed: now(),
        operator: caller.name,
    };
    if app.store.save_draft(&draft).await? {
        return shown(&app, draft).await;
    }
    Err(conflict(&app, kind, name, given).await?)
}

/// 412 with both versions, and with the text that has the changes of both where they do not touch.
async fn conflict(app: &App, kind: &str, name: &str, given: api::DraftText) -> Result<Error> {
    let Some(current) = app.store.draft(kind, name).await? else {
        let why = "there is no draft any more: it was deployed or discarded; save it with `If-None-Match: *`";
        return Ok(Error::problem(412, "The draft is gone", why));
    };
    let ancestor = match (given.ancestor, current.base) {
        (Some(ancestor), _) => Some(ancestor),
        (None, Some(base)) => app.store.source(kind, name, base).await?.map(|(source, _)| source),
        (None, None) => None,
    };
    let (theirs, yours) = (current.source.clone(), given.text.clone());
    let work = move || ancestor.and_then(|ancestor| lines::merge(&ancestor, &theirs, &yours));
    let merged = app.background.run(work).await?;
    let how = match merged {
        Some(_) => "your changes and theirs do not touch: `merged` has both; save it with `If-Match` of this version",
        None => "both changed the same lines, or very many; compare `current` with your text",
    };
    let detail = format!("{} saved version {} in the meantime; {how}", current.operator, current.version);
    let mut problem = Problem::new(412, "Another author saved this draft").detail(detail);
    problem.with.insert("version".into(), json!(current.version));
    problem.with.insert("operator".into(), json!(current.operator));
    problem.with.insert("current".into(), json!(current.source));
    problem.with.insert("yours".into(), json!(given.text));
    problem.with.insert("merged".into(), json!(merged));
    Ok(Error::Runtime(kanzlei_runtime::Error::Problem(Box::new(problem))))
}

/// `DELETE /drafts/{kind}/{name}`: discards a draft, of the version of `If-Match` where that is sent.
pub async fn discard(
    app: Data<App>,
    caller: Caller,
    path: Path<(String, String)>,
    request: HttpRequest,
) -> Result<HttpResponse> {
    let (kind, name) = known(&path)?;
    caller.notes.changed(format!("draft of the {kind} {name}"), None, Some("discarded".into()));
    let version = match precondition(&request)? {
        Precondition::Version(version) => Some(version),
        Precondition::None | Precondition::First => None,
    };
    if app.store.discard_draft(kind, name, version).await? {
        return Ok(HttpResponse::NoContent().finish());
    }
    match app.store.draft(kind, name).await? {
        Some(current) => {
            let why = format!("{} saved version {} in the meantime", current.operator, current.version);
            Err(Error::problem(412, "Another author saved this draft", why))
        }
        None => Err(no_draft(kind, name)),
    }
}

/// `GET /revisions/{kind}/{name}`: the revisions of a document, newest first.
pub async fn revisions(app: Data<App>, path: Path<(String, String)>) -> Result<HttpResponse> {
    let (kind, name) = known(&path)?;
    let found = app.store.revisions(kind, name).await?;
    if found.is_empty() {
        return Err(Error::not_found(format!("the {kind} `{name}` was never deployed")));
    }
    let revisions = found.into_iter().map(revision).collect();
    Ok(HttpResponse::Ok().json(api::Revisions { kind: kind.to_owned(), name: name.to_owned(), revisions }))
}

pub(super) fn revision(found: kanzlei_store::documents::Revision) -> Revision {
    Revision { revision: found.number, created: found.created, operator: found.operator, live: found.live }
}

/// `GET /revisions/{kind}/{name}/{number}`: the text of one revision.
pub async fn revision_text(app: Data<App>, path: Path<(String, String, u32)>) -> Result<HttpResponse> {
    let (kind, name, number) = (path.0.as_str(), path.1.as_str(), path.2);
    let Some((text, file)) = app.store.source(kind, name, number).await? else {
        return Err(Error::not_found(format!("the {kind} `{name}` has no revision {number}")));
    };
    let (kind, name) = (kind.to_owned(), name.to_owned());
    Ok(HttpResponse::Ok().json(api::RevisionText { kind, name, revision: number, text, file }))
}

/// `POST /compare`: how two texts differ.
pub async fn compared(app: Data<App>, body: Json<api::Texts>) -> Result<HttpResponse> {
    let api::Texts { before, after } = body.into_inner();
    if before.len().max(after.len()) > MAX_SIZE {
        return Err(Error::problem(422, "The texts are too large", format!("at most {MAX_SIZE} bytes are compared")));
    }
    let work = move || api::Comparison {
        steps: compare::steps_of(&before, &after),
        diff: lines::patch(("original", "modified"), &before, &after),
    };
    Ok(HttpResponse::Ok().json(app.background.run(work).await?))
}
