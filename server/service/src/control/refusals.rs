//! The control API's part for refusals: requests that were turned away before a run began.

use std::sync::atomic::Ordering;

use actix_web::HttpResponse;
use actix_web::web::{Data, Query};
use kanzlei_engine::machine::instant;
use kanzlei_store::refusals::{Filter, Refusal};
use serde::Deserialize;
use serde_json::{Value as Json, json};
use uuid::Uuid;

use crate::App;
use crate::error::Result;

/// The most refusals in one listing.
const MOST: u32 = 500;

/// Which refusals to list.
#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Which {
    workflow: Option<String>,
    status: Option<u16>,
    request_id: Option<String>,
    before: Option<Uuid>,
    limit: Option<u32>,
}

/// `GET /refusals`: refused requests, newest first.
pub async fn list(app: Data<App>, which: Query<Which>) -> Result<HttpResponse> {
    let which = which.into_inner();
    let limit = which.limit.unwrap_or(50).clamp(1, MOST);
    let filter = Filter {
        workflow: which.workflow,
        status: which.status,
        request_id: which.request_id,
        before: which.before,
        limit,
    };
    let found = app.store.refusals(&filter).await?;
    let next = (found.len() as u32 == limit).then(|| found.last().map(|refusal| refusal.id)).flatten();
    Ok(HttpResponse::Ok().json(json!({
        "refusals": found.iter().map(shown).collect::<Vec<_>>(),
        "next_before": next,
        "dropped": app.journal.refusals.dropped.load(Ordering::Relaxed),
    })))
}

fn shown(refusal: &Refusal) -> Json {
    json!({
        "id": refusal.id,
        "at": instant(refusal.at),
        "entry": refusal.entry,
        "workflow": refusal.workflow,
        "request_id": refusal.request_id,
        "caller": refusal.caller,
        "status": refusal.status,
        "problem": serde_json::from_str::<Json>(&refusal.problem).unwrap_or_default(),
        "body": {
            "media": refusal.media, "size": refusal.size, "digest": refusal.digest,
            "text": refusal.body,
        },
    })
}
