//! The reply of a run as an HTTP answer.

use actix_web::http::header::{HeaderName, HeaderValue};
use actix_web::http::{Method, StatusCode};
use actix_web::web::Bytes;
use actix_web::{HttpRequest, HttpResponse};
use kanzlei_engine::machine::Reply;
use kanzlei_lang::document::formats::{Format, Formats};
use kanzlei_model::file::File;
use kanzlei_model::run::HEADER;
use kanzlei_model::value::Value;
use kanzlei_runtime::files::Holder;
use std::sync::Arc;

use super::{cookies, download, negotiate};

/// Header fields that belong to the connection or to the service (RFC 9110 §7.6.1).
fn is_ours(name: &str) -> bool {
    [
        "connection",
        "content-length",
        "transfer-encoding",
        "keep-alive",
        "upgrade",
        "te",
        "trailer",
        HEADER,
        "x-request-id",
    ]
    .iter()
    .any(|own| name.eq_ignore_ascii_case(own))
}

/// The answer that a reply is; without its body for `HEAD`. Its file is one of these.
pub async fn respond(reply: Reply, request: &HttpRequest, files: &Arc<Holder>) -> HttpResponse {
    respond_as(reply, request, files, None).await
}

/// The same in the format that was negotiated.
pub async fn respond_as(
    reply: Reply,
    request: &HttpRequest,
    files: &Arc<Holder>,
    format: Option<&(Format, Formats)>,
) -> HttpResponse {
    let head = request.method() == Method::HEAD;
    let status = StatusCode::from_u16(reply.status).unwrap_or(StatusCode::INTERNAL_SERVER_ERROR);
    let mut response = HttpResponse::build(status);
    let mut typed = false;
    for (name, value) in &reply.headers {
        if is_ours(name) {
            continue;
        }
        if name.eq_ignore_ascii_case("set-cookie") && cookies::is_ours(value) {
            tracing::warn!("a workflow tried to set the console's cookie; it is left out of the answer");
            continue;
        }
        typed |= name.eq_ignore_ascii_case("content-type");
        if let (Ok(name), Ok(value)) = (HeaderName::try_from(name.as_str()), HeaderValue::from_bytes(value.as_bytes()))
        {
            response.append_header((name, value));
        }
    }
    if let Some(reading) = &reply.rows {
        return Box::pin(negotiate::read(&mut response, (&reply.body, reading), format, (typed, head), files)).await;
    }
    if let Some(file) = File::of(&reply.body) {
        let named = reply.headers.iter().any(|(name, _)| name.eq_ignore_ascii_case("content-disposition"));
        let ok = status == StatusCode::OK;
        return Box::pin(download::answer(request, &mut response, ok, file, typed, named, files)).await;
    }
    if let Some((format, formats)) = format.filter(|_| !reply.problem && !typed)
        && let Some(rows) = negotiate::rows(&mut response, &reply.body, Some(*format), formats, head)
    {
        return rows;
    }
    let (media, body) = match &reply.body {
        Value::Undefined => return response.finish(),
        Value::Text(text) => ("text/plain; charset=utf-8", text.as_bytes().to_vec()),
        other => ("application/json", other.to_json().into_bytes()),
    };
    if !typed {
        response.content_type(if reply.problem { "application/problem+json" } else { media });
    }
    if head {
        return response.no_chunking(body.len() as u64).body(actix_web::body::SizedStream::new(
            body.len() as u64,
            futures_util::stream::empty::<Result<Bytes, std::io::Error>>(),
        ));
    }
    response.body(body)
}
