//! Customs: takes a request for clearance, decides seconds later and calls back. Who does not know whether a request was
//! taken can ask by the address for the decision.

use std::collections::VecDeque;
use std::sync::Mutex;
use std::time::Duration;

use actix_web::HttpResponse;
use actix_web::web::{self, Data, Query, ServiceConfig};
use serde::Deserialize;
use serde_json::json;

use super::{State, lock, problem};

/// How long customs take to decide, unless their delay says otherwise.
const DECIDES_AFTER: Duration = Duration::from_secs(4);
/// The most requests that are remembered; the oldest are forgotten.
const REMEMBERED: usize = 10_000;

/// What customs remember.
#[derive(Default)]
pub struct Customs {
    taken: Mutex<Taken>,
}

#[derive(Default)]
struct Taken {
    count: u64,
    /// References of the latest requests, by the address for the decision.
    known: VecDeque<(String, String)>,
}

pub fn routes(config: &mut ServiceConfig) {
    config.route("/customs/requests", web::post().to(request)).route("/customs/requests", web::get().to(find));
}

#[derive(Deserialize)]
struct Clearance {
    imo: String,
    cargo: String,
    reply_to: String,
}

/// Takes a request. Weapons are held, all else is cleared. A failure in the middle of the answer does not undo it.
async fn request(state: Data<State>, customs: Data<Customs>, body: web::Json<Clearance>) -> HttpResponse {
    let (failure, _) = state.behave("customs").await;
    if let Some(failure) = &failure
        && !failure.status().is_success()
    {
        return problem(failure.status().as_u16(), "The stand-in is set to fail");
    }
    let request = body.into_inner();
    let reference = {
        let mut taken = lock(&customs.taken);
        taken.count += 1;
        let reference = format!("C-{}-{}", std::process::id(), 1000 + taken.count);
        taken.known.push_back((request.reply_to.clone(), reference.clone()));
        if taken.known.len() > REMEMBERED {
            taken.known.pop_front();
        }
        reference
    };
    let answer = reference.clone();
    tokio::spawn(async move {
        tokio::time::sleep(DECIDES_AFTER).await;
        let decision = if request.cargo.to_lowercase().contains("weapon") { "held" } else { "cleared" };
        let body = json!({
            "reference": reference, "imo": request.imo, "decision": decision, "at": jiff::Timestamp::now().to_string(),
        });
        // Again and again, as a real authority would, at most ten times.
        for _ in 0..10 {
            let (to, body) = (request.reply_to.clone(), body.clone());
            let sent = tokio::task::spawn_blocking(move || ureq::post(&to).send_json(&body).is_ok()).await;
            if sent.unwrap_or(false) {
                return;
            }
            tokio::time::sleep(Duration::from_secs(2)).await;
        }
    });
    failure.unwrap_or_else(|| HttpResponse::Accepted().json(json!({"reference": answer})))
}

#[derive(Deserialize)]
struct Wanted {
    reply_to: String,
}

/// The request that came with an address for the decision.
async fn find(customs: Data<Customs>, wanted: Query<Wanted>) -> HttpResponse {
    let taken = lock(&customs.taken);
    match taken.known.iter().find(|(to, _)| *to == wanted.reply_to) {
        Some((_, reference)) => HttpResponse::Ok().json(json!({"reference": reference})),
        None => problem(404, "No request came with this address"),
    }
}
