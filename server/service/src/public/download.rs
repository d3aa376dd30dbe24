//! Answers that are files: streamed as they are read, whole or in part (RFC 9110, section 14), with a validator and a digest (RFC 9530).

use std::ops::Range;

use actix_web::http::header::{
    ACCEPT_RANGES, CONTENT_RANGE, ETAG, HeaderName, HeaderValue, IF_NONE_MATCH, IF_RANGE, RANGE,
};
use actix_web::http::{Method, StatusCode};
use actix_web::{HttpRequest, HttpResponse, HttpResponseBuilder};
use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use kanzlei_model::file::File;
use kanzlei_model::problem::Problem;
use kanzlei_runtime::files::place::Stream;
use kanzlei_runtime::files::{Fault, Holder};

use crate::error::problem_response;

/// The parts of a file that a request asks for.
enum Asked {
    Whole,
    Part(Range<u64>),
    /// None of it: it begins behind the end.
    Beyond,
}

/// The range of a request; several ranges, and other units, are answered with the whole.
fn asked(request: &HttpRequest, size: u64, tag: &str) -> Asked {
    let field = |name: &HeaderName| request.headers().get(name).and_then(|value| value.to_str().ok());
    let Some(text) = field(&RANGE).and_then(|text| text.strip_prefix("bytes=")) else { return Asked::Whole };
    if field(&IF_RANGE).is_some_and(|known| known != tag) {
        return Asked::Whole;
    }
    let Some((from, to)) = text.trim().split_once('-').filter(|(_, to)| !to.contains(',')) else { return Asked::Whole };
    let range = match (from.parse::<u64>(), to.parse::<u64>()) {
        (Ok(from), Ok(to)) if from <= to => from..to.saturating_add(1).min(size),
        (Ok(from), Err(_)) if to.is_empty() => from..size,
        (Err(_), Ok(last)) if from.is_empty() => size.saturating_sub(last)..size,
        _ => return Asked::Whole,
    };
    if range.start >= size { Asked::Beyond } else { Asked::Part(range) }
}

/// Answers with a file: `begun` has the status and the header fields of the reply.
pub async fn answer(
    request: &HttpRequest,
    begun: &mut HttpResponseBuilder,
    ok: bool,
    file: &File,
    typed: bool,
    named: bool,
    holder: &Holder,
) -> HttpResponse {
    let tag = format!("\"{}\"", &file.digest[..file.digest.len().min(32)]);
    if !typed {
        begun.content_type(&*file.media);
    }
    if !named {
        begun.insert_header(("Content-Disposition", disposition(file.name.as_deref())));
    }
    begun.insert_header((ETAG, tag.clone()));
    let reads = matches!(*request.method(), Method::GET | Method::HEAD);
    let known = request.headers().get(IF_NONE_MATCH).and_then(|value| value.to_str().ok());
    let same = |one: &str| one.trim() == "*" || one.trim().trim_start_matches("W/") == tag;
    if ok && reads && known.is_some_and(|known| known.split(',').any(same)) {
        return HttpResponse::NotModified().insert_header((ETAG, tag)).finish();
    }
    let mut range = 0..file.size;
    if ok && reads {
        begun.insert_header((ACCEPT_RANGES, "bytes"));
        match asked(request, file.size, &tag) {
            Asked::Whole => {}
            Asked::Part(part) => {
                let shown = format!("bytes {}-{}/{}", part.start, part.end - 1, file.size);
                begun.status(StatusCode::PARTIAL_CONTENT).insert_header((CONTENT_RANGE, shown));
                range = part;
            }
            Asked::Beyond => {
                let problem = Problem::new(416, "Range not satisfiable").detail(format!("it has {} bytes", file.size));
                let mut response = problem_response(&problem);
                if let Ok(value) = HeaderValue::from_str(&format!("bytes */{}", file.size)) {
                    response.headers_mut().insert(CONTENT_RANGE, value);
                }
                return response;
            }
        }
    }
    if let Some(digest) = digest(&file.digest) {
        let whole = range == (0..file.size);
        begun.insert_header((if whole { "Content-Digest" } else { "Repr-Digest" }, digest));
    }
    let length = range.end - range.start;
    let bytes: Stream = match request.method() == Method::HEAD {
        true => Box::pin(futures_util::stream::empty()),
        false => match holder.open(file, Some(range)).await {
            Ok(bytes) => bytes,
            Err(why) => return gone(&why),
        },
    };
    begun.no_chunking(length).body(actix_web::body::SizedStream::new(length, bytes))
}

/// The answer where the bytes of a file are not there.
pub fn gone(why: &Fault) -> HttpResponse {
    let problem = match why {
        Fault::Gone => Problem::new(410, "The file is gone").detail(why.to_string()),
        other => {
            tracing::error!(why = %other, "a file cannot be read");
            Problem::new(503, "The file is unavailable").detail("try again in a moment")
        }
    };
    problem_response(&problem)
}

/// `Content-Disposition` of a download (RFC 6266): with a plain name, and the whole one where it has other characters.
pub fn disposition(name: Option<&str>) -> String {
    let Some(name) = name else { return "attachment".to_owned() };
    let plain: String =
        name.chars().map(|c| if c.is_ascii_graphic() && !"\"\\%".contains(c) || c == ' ' { c } else { '_' }).collect();
    match plain == name {
        true => format!("attachment; filename=\"{plain}\""),
        false => {
            let whole = kanzlei_compiler::input::encoded(name);
            format!("attachment; filename=\"{plain}\"; filename*=UTF-8''{whole}")
        }
    }
}

/// A digest as RFC 9530 writes it.
fn digest(hex: &str) -> Option<String> {
    let bytes: Option<Vec<u8>> =
        (0..hex.len() / 2).map(|at| u8::from_str_radix(hex.get(at * 2..at * 2 + 2)?, 16).ok()).collect();
    Some(format!("sha-256=:{}:", STANDARD.encode(bytes?)))
}

#[cfg(test)]
mod tests {
    use actix_web::test::TestRequest;

    use super::*;

    #[test]
    fn ranges_are_read_as_they_are_meant() {
        for (field, wanted) in [
            ("", Some(None)),
            ("bytes=0-0", Some(Some(0..1))),
            ("bytes=2-", Some(Some(2..10))),
            ("bytes=2-99", Some(Some(2..10))),
            ("bytes=-3", Some(Some(7..10))),
            ("bytes=-99", Some(Some(0..10))),
            ("bytes=10-", None),
            ("bytes=5-2", Some(None)),
            ("bytes=0-1,4-5", Some(None)),
            ("lines=1-2", Some(None)),
            ("bytes=x-y", Some(None)),
        ] {
            let request = TestRequest::default().insert_header((RANGE, field)).to_http_request();
            let found = match asked(&request, 10, "\"t\"") {
                Asked::Whole => Some(None),
                Asked::Part(range) => Some(Some(range)),
                Asked::Beyond => None,
            };
            assert_eq!(found, wanted, "{field}");
        }
    }

    #[test]
    fn names_of_downloads_cannot_add_fields() {
        for (name, wanted) in [
            (None, "attachment"),
            (Some("crew list.csv"), "attachment; filename=\"crew list.csv\""),
            (Some("året \"7\".pdf"), "attachment; filename=\"_ret _7_.pdf\"; filename*=UTF-8''%C3%A5ret%20%227%22.pdf"),
            (Some("a\r\nX: b"), "attachment; filename=\"a__X: b\"; filename*=UTF-8''a%0D%0AX%3A%20b"),
        ] {
            assert_eq!(disposition(name), wanted);
        }
    }
}
