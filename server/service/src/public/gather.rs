//! From path, query, headers and body to the input of the workflow.

use actix_web::HttpRequest;
use actix_web::http::header::{CONTENT_ENCODING, CONTENT_TYPE, COOKIE};
use actix_web::web::Bytes;
use kanzlei_compiler::input::{Body, Parts, form_pairs};
use kanzlei_model::file::File;
use kanzlei_model::problem::Problem;
use kanzlei_model::value::Value;

use super::cookies::without_ours;
use super::refusal::{Refusal, Sent};
use super::route::Route;

/// The media type of a body; one that is encoded is refused.
pub fn media<'r>(request: &'r HttpRequest, body: &Bytes, sent: &mut Sent) -> Result<&'r str, Refusal> {
    // What is encoded would be read as something else (RFC 9110, section 8.4).
    let encoding =
        request.headers().get(CONTENT_ENCODING).filter(|coding| !coding.as_bytes().eq_ignore_ascii_case(b"identity"));
    if encoding.is_some() {
        let problem =
            Problem::new(415, "Unsupported content encoding").detail("send the body without `Content-Encoding`");
        return Err(problem.into());
    }
    let media = request.headers().get(CONTENT_TYPE).and_then(|v| v.to_str().ok()).unwrap_or_default();
    sent.body(media, body);
    Ok(media)
}

/// Gathers the input of a request and checks it; 415 and 422 are refused.
pub fn input(request: &HttpRequest, route: &Route, body: &Bytes, sent: &mut Sent) -> Result<Value, Refusal> {
    let media = media(request, body, sent)?;
    let body = Body::read(media, body)?;
    sent.parsed();
    gathered(request, route, body, Vec::new())
}

/// The same of a body that is read already, and of the files that came in it.
pub fn gathered(
    request: &HttpRequest,
    route: &Route,
    body: Body,
    files: Vec<(String, File)>,
) -> Result<Value, Refusal> {
    let plan = &route.workflow.plan;
    let mut query = form_pairs(request.query_string().as_bytes());
    // The key is the caller's, not the workflow's.
    if let Some(name) = route.declared().access.key().and_then(|place| place.query.as_ref()) {
        query.retain(|(known, _)| known != name);
    }
    let parts = Parts { path: route.path.clone(), query, body, files };
    let first = |name: &str| request.headers().get(name).and_then(|v| std::str::from_utf8(v.as_bytes()).ok());
    let header = |name: &str| match name.eq_ignore_ascii_case("cookie") {
        // HTTP/2 may send the pairs one by one (RFC 9113, section 8.2.3).
        true => {
            let all = request.headers().get_all(COOKIE).filter_map(|value| value.to_str().ok());
            without_ours(&all.collect::<Vec<_>>().join("; "))
        }
        false => first(name).map(str::to_owned),
    };
    Ok(plan.input.gather(&route.declared().input, parts, &header)?)
}
