//! The rotation of the key of the secrets: begun, and polled.

use std::sync::{Arc, Mutex, PoisonError};

use actix_web::HttpResponse;
use actix_web::web::Data;
use kanzlei_api::secrets::Rotation;
use kanzlei_runtime::clock::now;
use kanzlei_runtime::secrets::rotate::Progress;

use super::auth::Caller;
use crate::App;
use crate::error::{Error, Result};

/// The last rotation of this process.
#[derive(Default)]
pub struct Last(Mutex<Option<Arc<Mutex<Rotation>>>>);

fn read(rotation: &Mutex<Rotation>) -> Rotation {
    rotation.lock().unwrap_or_else(PoisonError::into_inner).clone()
}

fn shown(rotation: Rotation, progress: Progress) -> Rotation {
    let Progress { sealed, examined, unopened } = progress;
    Rotation { sealed, examined, unopened, ..rotation }
}

/// `POST /secrets/rotation`: seals everything with the key of today; it goes on behind the answer.
pub async fn begin(app: Data<App>, caller: Caller) -> Result<HttpResponse> {
    caller.notes.changed("key of the secrets", None, Some("rotated".into()));
    if !app.effects.secrets.rotates() {
        let detail = "set `secrets.key_file` to the new key and `secrets.other_key_file` to the former one, in all processes, and start them again";
        return Err(Error::problem(409, "No key to rotate to", detail));
    }
    let begun = Rotation { begun: now(), ended: false, failure: None, sealed: 0, examined: 0, unopened: 0 };
    let current = {
        let mut last = app.rotation.0.lock().unwrap_or_else(PoisonError::into_inner);
        if last.as_ref().is_some_and(|one| !read(one).ended) {
            return Err(Error::problem(409, "A rotation is under way", "wait for its end"));
        }
        let current = Arc::new(Mutex::new(begun.clone()));
        *last = Some(current.clone());
        current
    };
    let behind = app.clone();
    app.runtime.spawn(async move {
        let set = |progress: Progress| {
            let mut rotation = current.lock().unwrap_or_else(PoisonError::into_inner);
            *rotation = shown(rotation.clone(), progress);
        };
        let done = behind.effects.secrets.rotate(&behind.store, set).await;
        let mut rotation = current.lock().unwrap_or_else(PoisonError::into_inner);
        rotation.ended = true;
        match done {
            Ok(progress) => {
                *rotation = shown(rotation.clone(), progress);
                tracing::info!(
                    sealed = rotation.sealed,
                    unopened = rotation.unopened,
                    "the key of the secrets is rotated"
                );
            }
            Err(error) => {
                tracing::error!(%error, "the rotation of the key broke off");
                rotation.failure = Some(error.to_string());
            }
        }
    });
    Ok(HttpResponse::Accepted().json(begun))
}

/// `GET /secrets/rotation`: how the last rotation of this process stands.
pub async fn show(app: Data<App>) -> Result<HttpResponse> {
    let last = app.rotation.0.lock().unwrap_or_else(PoisonError::into_inner).clone();
    let none = || Error::not_found("no rotation was begun in this process");
    let last = last.ok_or_else(none)?;
    Ok(HttpResponse::Ok().json(read(&last)))
}
