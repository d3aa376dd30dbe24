//! How much a caller may ask for: its allowance, by its key or by the entry, counted before anything of the body is read.

use std::fmt::Write;
use std::sync::Arc;

use actix_web::HttpResponse;
use actix_web::http::header::{HeaderName, HeaderValue};
use kanzlei_compiler::plan::Allowance;
use kanzlei_compiler::plan::allowance::Policy;
use kanzlei_model::problem::Problem;
use kanzlei_runtime::allowances::Standing;
use kanzlei_runtime::places::NoPlace;
use kanzlei_runtime::queue::hash;

use super::access::Caller;
use super::refusal::{Refusal, Sent, unavailable};
use super::route::Route;
use crate::App;

/// How a caller stands, and the allowance that this is about.
pub type Stands = (Arc<Allowance>, Standing);

/// Counts a request; returns the largest body that its caller may send.
///
/// # Errors
/// 429 with `Retry-After` where the allowance is used up.
pub async fn count(app: &App, route: &Route<'_>, caller: &Caller, sent: &mut Sent) -> Result<usize, Refusal> {
    let declared = route.declared();
    let name = caller.allowance.as_ref().or(declared.allowance.as_ref());
    let Some(allowance) = name.and_then(|name| route.live.allowances.get(name)) else { return Ok(declared.body) };
    let body = allowance.body.map_or(declared.body, |most| most.min(declared.body));
    sent.standing = Some((allowance.clone(), Standing::default()));
    // First: a request beyond those at once is not counted by the rate.
    if let Some(most) = allowance.at_once {
        // Names of callers are longer than those of places.
        let name = format!("allowance {} {}", allowance.name, hash(&caller.subject()));
        let place = Box::pin(app.effects.shared.places.enter(&name, most, None)).await;
        sent.place = Some(place.map_err(|why| match why {
            NoPlace::Unavailable => unavailable(),
            NoPlace::Full => {
                let detail = format!("at most {most} requests of one caller at once; try again when one is answered");
                violated(allowance.policy(Policy::AtOnce), 1, detail)
            }
        })?);
    }
    if !allowance.counts() {
        return Ok(body);
    }
    let standing = Box::pin(app.allowances.count(&app.store, allowance, &caller.subject())).await;
    let refused = standing.refused;
    sent.standing = Some((allowance.clone(), standing));
    match refused {
        None => Ok(body),
        Some((wait, policy)) => {
            let policy = allowance.policy(policy);
            Err(violated(policy, wait.get(), format!("the allowance `{policy}` is used up; try again in {wait} s")))
        }
    }
}

/// The refusal of a request beyond a policy; `wait` is when to try again, in seconds.
fn violated(policy: &str, wait: u32, detail: String) -> Refusal {
    let mut problem = Problem::new(429, "Too many requests").detail(detail);
    problem.with.insert("violated-policies".into(), serde_json::json!([policy]));
    Refusal { retry_after: Some(wait), ..problem.into() }
}

/// Writes how a caller stands (draft-ietf-httpapi-ratelimit-headers).
pub fn show((allowance, standing): &Stands, response: &mut HttpResponse) {
    let mut left = String::new();
    for (policy, stands) in [(Policy::Rate, standing.rate), (Policy::Quota, standing.quota)] {
        if let Some((requests, seconds)) = stands {
            let separator = if left.is_empty() { "" } else { ", " };
            let _ = write!(left, "{separator}\"{}\";r={requests};t={seconds}", allowance.policy(policy));
        }
    }
    for (name, text) in [("ratelimit-policy", &allowance.policies), ("ratelimit", &left)] {
        if let Ok(value) = HeaderValue::from_str(text)
            && !text.is_empty()
        {
            response.headers_mut().insert(HeaderName::from_static(name), value);
        }
    }
}
