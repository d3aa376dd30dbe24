//! From path, query, headers and body to the input of the workflow.

use actix_web::HttpRequest;
use actix_web::http::header::CONTENT_TYPE;
use actix_web::web::Bytes;
use kanzlei_compiler::input::{Body, Parts, form_pairs};
use kanzlei_model::value::Value;

use super::refusal::{Refusal, Sent};
use super::route::Route;

/// Gathers the input of a request and checks it; 415 and 422 are refused.
pub fn input(request: &HttpRequest, route: &Route, body: &Bytes, sent: &mut Sent) -> Result<Value, Refusal> {
    let media = request.headers().get(CONTENT_TYPE).and_then(|v| v.to_str().ok()).unwrap_or_default();
    sent.body(media, body);
    let plan = &route.workflow.plan;
    let body = Body::read(media, body)?;
    sent.parsed();
    let parts = Parts { path: route.path.clone(), query: form_pairs(request.query_string().as_bytes()), body };
    let header = |name: &str| request.headers().get(name).and_then(|v| v.to_str().ok()).map(str::to_owned);
    Ok(plan.input.gather(&route.declared().input, parts, &header)?)
}
