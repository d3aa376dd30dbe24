//! The service's own paths below `/~/`: health, description, jobs, callbacks, drafts, uploads, links.

use std::sync::atomic::Ordering;

use actix_web::web::{Data, Payload};
use actix_web::{HttpRequest, HttpResponse};
use kanzlei_model::problem::Problem;
use kanzlei_runtime::files::link;

use super::refusal::Refusal;
use super::{callbacks, jobs, links, preview, uploads};
use crate::control::metrics;
use crate::{App, host};

/// Serves a path below `/~/`.
pub async fn serve(
    path: &str,
    request: &HttpRequest,
    payload: &mut Payload,
    app: &Data<App>,
) -> Result<HttpResponse, Refusal> {
    if let Some(rest) = path.strip_prefix("jobs/") {
        return jobs::path(rest, request, app).await;
    }
    if let Some(rest) = path.strip_prefix("drafts/") {
        return preview::serve(rest, request, payload, app).await;
    }
    if let Some(token) = path.strip_prefix("callbacks/") {
        return callbacks::arrive(token, request, payload, app).await;
    }
    if let Some(token) = path.strip_prefix("uploads/") {
        return uploads::one(token, request, app).await;
    }
    if let Some(token) = path.strip_prefix(link::PATH) {
        return links::serve(token, request, app).await;
    }
    match (path, request.method().as_str()) {
        ("uploads", "POST") => uploads::receive(request, payload, app).await,
        ("uploads", _) => Err(Refusal::not_allowed("POST")),
        ("health", "GET" | "HEAD") => {
            let database = app.database_state();
            let status = if database == "available" { "pass" } else { "warn" };
            let journal = serde_json::json!({"dropped": app.journal.dropped.load(Ordering::Relaxed)});
            Ok(HttpResponse::Ok()
                .content_type("application/json")
                .body(serde_json::json!({"status": status, "database": database, "journal": journal}).to_string()))
        }
        ("live", "GET" | "HEAD") => Ok(metrics::live()),
        ("ready", "GET" | "HEAD") => Ok(metrics::ready(app)),
        ("openapi.json", "GET" | "HEAD") => {
            let document = app.openapi(&host::of(request.uri(), request.headers())).await?;
            Ok(HttpResponse::Ok()
                .content_type("application/json")
                .insert_header(("Cache-Control", "no-cache"))
                .body(document))
        }
        ("health" | "live" | "ready" | "openapi.json", _) => Err(Refusal::not_allowed("GET, HEAD")),
        _ => Err(Problem::new(404, "Not found").detail(format!("there is no /~/{path}")).into()),
    }
}
