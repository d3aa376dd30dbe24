//! The control API's part for refusals: requests that were refused before a run began.

use std::sync::atomic::Ordering;

use actix_web::HttpResponse;
use actix_web::web::{Data, Query};
use kanzlei_api::runs::{Refusal, RefusalFilter, RefusalPage, RefusedBody};
use kanzlei_model::problem::{Problem, phrase};
use kanzlei_store::refusals as kept;

use super::pseudonyms::Names;
use crate::App;
use crate::error::Result;

/// The most refusals in one listing.
const MOST: u32 = 500;

/// `GET /refusals`: refused requests, newest first.
pub async fn list(app: Data<App>, which: Query<RefusalFilter>) -> Result<HttpResponse> {
    let which = which.into_inner();
    let names = Names::of(&app, which.pseudonyms)?;
    let limit = which.limit.unwrap_or(50).clamp(1, MOST);
    let filter = kept::Filter {
        workflow: which.workflow.map(|name| app.live.load().names_of(&name)).unwrap_or_default(),
        status: which.status,
        request_id: which.request_id,
        before: which.before,
        limit,
    };
    let found = app.store.refusals(&filter).await?;
    let live = app.live.load();
    Ok(HttpResponse::Ok().json(RefusalPage {
        next_before: (found.len() as u32 == limit).then(|| found.last().map(|refusal| refusal.id)).flatten(),
        refusals: found.into_iter().map(|refusal| shown(refusal, &live, &names)).collect(),
        dropped: app.journal.refusals.dropped.load(Ordering::Relaxed),
    }))
}

fn shown(refusal: kept::Refusal, live: &kanzlei_runtime::live::Live, names: &Names) -> Refusal {
    let now = |name: String| live.name_now(&name, refusal.id).to_owned();
    Refusal {
        workflow: refusal.workflow.map(now),
        id: refusal.id,
        at: refusal.at,
        entry: refusal.entry,
        request_id: refusal.request_id,
        caller: refusal.caller.map(|caller| names.show(caller)),
        status: refusal.status,
        // One that was cut is a problem without details; and details may quote what was sent.
        problem: serde_json::from_str(&refusal.problem)
            .ok()
            .filter(|_| !names.hidden())
            .unwrap_or_else(|| Problem::new(refusal.status, phrase(refusal.status))),
        body: RefusedBody {
            media: refusal.media,
            size: refusal.size,
            // The digest of a short body can be undone by trying bodies.
            digest: refusal.digest.filter(|_| !names.hidden()),
            text: refusal.body.filter(|_| !names.hidden()),
        },
    }
}
