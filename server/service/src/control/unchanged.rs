//! Answers that have not changed are not sent again: a weak `ETag` from the body, and 304 where the caller has it (RFC 9110 §13).

use actix_web::body::{BodySize, BoxBody, MessageBody, to_bytes_limited};
use actix_web::dev::{ServiceRequest, ServiceResponse};
use actix_web::http::{Method, StatusCode, header};
use actix_web::middleware::Next;
use actix_web::{Error, HttpResponse};
use kanzlei_model::hex;
use sha2::{Digest, Sha256};

/// Larger answers are sent as they are.
const LARGEST: usize = 4 << 20;

/// Adds the tag to an answer to GET, or leaves its body away.
pub async fn tagged(request: ServiceRequest, next: Next<impl MessageBody + 'static>) -> Result<ServiceResponse, Error> {
    let known = request.headers().get(header::IF_NONE_MATCH).and_then(|tag| tag.to_str().ok()).map(str::to_owned);
    let is_get = request.method() == Method::GET;
    let response = next.call(request).await?.map_into_boxed_body();
    let sized = matches!(response.response().body().size(), BodySize::Sized(bytes) if bytes as usize <= LARGEST);
    if !is_get || !sized || response.status() != StatusCode::OK || response.headers().contains_key(header::ETAG) {
        return Ok(response);
    }
    let (request, response) = response.into_parts();
    let (mut response, body) = response.into_parts();
    let Ok(Ok(body)) = to_bytes_limited(body, LARGEST).await else {
        return Ok(ServiceResponse::new(request, HttpResponse::InternalServerError().finish()));
    };
    let tag = format!("W/\"{}\"", hex::of(&Sha256::digest(&body)[..12]));
    if known.is_some_and(|known| known.split(',').any(|one| one.trim() == tag)) {
        let unchanged = HttpResponse::NotModified().insert_header((header::ETAG, tag)).finish();
        return Ok(ServiceResponse::new(request, unchanged));
    }
    if let Ok(tag) = tag.parse() {
        response.headers_mut().insert(header::ETAG, tag);
    }
    Ok(ServiceResponse::new(request, response.set_body(BoxBody::new(body))))
}
