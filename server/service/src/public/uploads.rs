//! Uploads: files that a caller sends before the request that they belong to. Each has a token, which is good for the same caller for a time.

use actix_web::http::header::{CONTENT_DISPOSITION, CONTENT_TYPE};
use actix_web::web::{Data, Payload};
use actix_web::{HttpRequest, HttpResponse};
use kanzlei_engine::machine::file_name;
use kanzlei_model::file::File;
use kanzlei_model::problem::{InputError, Problem};
use kanzlei_model::time::{Span, Timestamp};
use kanzlei_runtime::clock::now;
use kanzlei_runtime::files::{Files, Holder};
use kanzlei_store::Store;
use kanzlei_store::uploads::Upload;
use serde_json::json;
use uuid::Uuid;

use super::access::{self, Caller};
use super::refusal::{Refusal, from_store, timely};
use super::{admit, intake};
use crate::App;

/// What tokens begin with.
const BEGINS: &str = "kzf_";

/// `POST /~/uploads`: one file as the body, or several as parts; returns their tokens.
pub async fn receive(request: &HttpRequest, payload: &mut Payload, app: &Data<App>) -> Result<HttpResponse, Refusal> {
    let caller = access::any_caller(app, request).await?;
    let owner = caller.subject();
    let arrival = admit::arrive(app, request, &caller)?;
    let holder = Holder::direct(app.effects.files.clone());
    holder.count_for(owner.clone());
    let bounds = &app.effects.files.bounds;
    let media = request.headers().get(CONTENT_TYPE).and_then(|value| value.to_str().ok()).unwrap_or_default();
    let files = match kanzlei_model::file::essence(media) == "multipart/form-data" {
        true => intake::all_parts(app, request, payload, &holder).await?,
        false => {
            let name =
                request.headers().get(CONTENT_DISPOSITION).and_then(|value| value.to_str().ok()).and_then(file_name);
            let media = Some(media).filter(|media| !media.is_empty());
            intake::raw(request, payload, &holder, "", name, media, bounds.file).await?.into_iter().collect()
        }
    };
    drop(arrival);
    if files.is_empty() {
        let detail = "send a file as the body, or several as parts of `multipart/form-data`";
        return Err(Problem::new(400, "No file came").detail(detail).into());
    }
    let used =
        timely(app, app.store.upload_bytes(&owner, now())).await?.map_err(|e| from_store("counting uploads", e))?;
    let size: u64 = files.iter().map(|file| file.size).sum();
    if used.saturating_add(size) > bounds.upload_bytes {
        let most = bounds.upload_bytes;
        let detail =
            format!("uploads of one caller have at most {most} bytes together; remove some, or wait until they expire");
        return Err(Problem::new(413, "Too many uploads").detail(detail).into());
    }
    let work = app.effects.files.work().map_err(|why| intake::refused("", why))?;
    let expires = now() + Span::from(bounds.upload_time);
    let mut made = Vec::with_capacity(files.len());
    for file in &files {
        // Random, so that a token cannot be guessed.
        let id = Uuid::new_v4();
        holder.store(file, &work, &path_of(id), true).await.map_err(|why| intake::refused("", why))?;
        made.push(Upload { id, owner: owner.clone(), file: file.clone(), expires });
    }
    timely(app, app.store.add_uploads(&made)).await?.map_err(|error| from_store("keeping uploads", error))?;
    let shown: Vec<_> = made.iter().map(shown).collect();
    Ok(HttpResponse::Created().insert_header(("Cache-Control", "no-store")).json(json!({"files": shown})))
}

fn shown(upload: &Upload) -> serde_json::Value {
    let file = &upload.file;
    json!({
        "token": token_of(upload.id), "name": file.name.as_deref(), "media": &*file.media, "size": file.size,
        "digest": &*file.digest, "expires": upload.expires.to_string(),
    })
}

fn token_of(id: Uuid) -> String {
    format!("{BEGINS}{}", id.simple())
}

fn path_of(id: Uuid) -> String {
    format!("uploads/{id}")
}

fn id_of(token: &str) -> Option<Uuid> {
    let digits = token.strip_prefix(BEGINS).filter(|digits| digits.len() == 32)?;
    Uuid::parse_str(digits).ok()
}

/// The upload of a token, where it is one of the caller's and not over.
async fn found(app: &App, caller: &Caller, token: &str, at: Timestamp) -> Result<Option<Upload>, Refusal> {
    let Some(id) = id_of(token) else { return Ok(None) };
    let found = timely(app, app.store.upload(id)).await?.map_err(|error| from_store("looking for an upload", error))?;
    Ok(found.filter(|upload| upload.owner == caller.subject() && upload.expires > at))
}

/// The file of a token in a request.
///
/// # Errors
/// 422 where there is none that the caller may use.
pub async fn file_of(app: &App, caller: &Caller, holder: &Holder, input: &str, token: &str) -> Result<File, Refusal> {
    let Some(upload) = found(app, caller, token, now()).await? else {
        let mut problem = Problem::new(422, "Invalid input").detail("1 invalid value");
        let detail = "is no token of an upload of this caller, or its time is over; see `POST /~/uploads`".to_owned();
        problem.errors = vec![InputError { within: "body".into(), pointer: format!("/{input}"), detail }];
        return Err(problem.into());
    };
    let file = File { id: upload.id.to_string().into(), ..upload.file };
    holder.know_work(&file, path_of(upload.id));
    Ok(file)
}

/// `GET` and `DELETE /~/uploads/TOKEN`.
pub async fn one(token: &str, request: &HttpRequest, app: &Data<App>) -> Result<HttpResponse, Refusal> {
    let caller = access::any_caller(app, request).await?;
    let unknown = || Problem::new(404, "No such upload").detail("it is over, or another caller's");
    let upload = found(app, &caller, token, now()).await?.ok_or_else(unknown)?;
    match request.method().as_str() {
        "GET" | "HEAD" => Ok(HttpResponse::Ok().insert_header(("Cache-Control", "no-store")).json(shown(&upload))),
        "DELETE" => {
            remove(&app.store, &app.effects.files, &[upload.id]).await;
            Ok(HttpResponse::NoContent().finish())
        }
        _ => Err(Refusal::not_allowed("GET, HEAD, DELETE")),
    }
}

/// Removes uploads: their bytes first, so that none is left that nothing names.
pub async fn remove(store: &Store, files: &Files, ids: &[Uuid]) {
    // The place is not opened for nothing.
    let Some(work) = (!ids.is_empty()).then(|| files.work().ok()).flatten() else { return };
    let mut removed = Vec::with_capacity(ids.len());
    for id in ids {
        match work.remove(&path_of(*id)).await {
            Ok(_) => removed.push(*id),
            Err(why) => tracing::warn!(%why, "an upload cannot be removed"),
        }
    }
    if let Err(error) = store.remove_uploads(&removed).await {
        tracing::warn!(%error, "uploads could not be forgotten");
    }
}

/// Removes uploads whose time is over.
pub async fn expire(store: &Store, files: &Files, most: u32) -> kanzlei_store::Result<u64> {
    let over = store.uploads_over(now(), most).await?;
    remove(store, files, &over).await;
    Ok(over.len() as u64)
}
