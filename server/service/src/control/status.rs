//! The service itself, and the OpenAPI documents that it publishes.

use std::sync::OnceLock;
use std::sync::atomic::Ordering;

use actix_web::HttpResponse;
use actix_web::web::{Bytes, Data};
use kanzlei_api::workflows::{JournalStatus, Status};

use super::auth::Caller;
use crate::App;
use crate::error::{Error, Result};

/// Whatever has no place in the API.
pub async fn nothing() -> Result<HttpResponse> {
    Err(Error::not_found("there is no such thing in the control API"))
}

/// `GET /status`: how the service stands.
pub async fn status(app: Data<App>) -> HttpResponse {
    let live = app.live.load_full();
    // Zero while the database does not answer, which `database` says.
    let (runs, bytes) = app.journal.size(&app.store).await.unwrap_or_default();
    HttpResponse::Ok().json(Status {
        version: env!("CARGO_PKG_VERSION").into(),
        public_url: app.public_url.clone(),
        run_header: app.run_header.clone(),
        started: app.started,
        restored: app.store.restored().await.unwrap_or_default(),
        database: app.database_state().into(),
        workflows: live.workflows.len(),
        services: live.services.len(),
        in_flight: app.in_flight.count(),
        journal: JournalStatus { dropped: app.journal.dropped.load(Ordering::Relaxed), runs, bytes },
    })
}

/// `DELETE /restoration`: a restored installation begins its work.
pub async fn resume(app: Data<App>, caller: Caller) -> Result<HttpResponse> {
    caller.notes.changed("restored installation", None, Some("resumed".into()));
    if !app.store.set_restored(None).await? {
        return Err(Error::problem(
            409,
            "Nothing to resume",
            "this installation was not restored, or was resumed already",
        ));
    }
    tracing::warn!(operator = caller.name, "the restored installation begins its work");
    Ok(HttpResponse::NoContent().finish())
}

/// `GET /openapi`: the OpenAPI document of all endpoints, as clients read it.
pub async fn public_api(app: Data<App>) -> Result<HttpResponse> {
    Ok(HttpResponse::Ok().content_type("application/json").body(app.openapi("").await?))
}

/// `GET /openapi.json`: the OpenAPI document of this API.
pub async fn control_api() -> HttpResponse {
    static DOCUMENT: OnceLock<Bytes> = OnceLock::new();
    let document = DOCUMENT.get_or_init(|| Bytes::from(kanzlei_api::openapi::document().to_string()));
    HttpResponse::Ok().content_type("application/json").body(document.clone())
}
