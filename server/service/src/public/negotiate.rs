//! Which format an answer has: the one of the endpoint's that a client likes best (`Accept`, RFC 9110 §12.5.1).

use std::sync::Arc;

use actix_web::HttpRequest;
use actix_web::http::header::{ACCEPT, VARY};
use actix_web::web::Bytes;
use actix_web::{HttpResponse, HttpResponseBuilder};
use futures_util::stream;
use kanzlei_compiler::plan::rows::{Reading, Writing};
use kanzlei_engine::rows::Fault;
use kanzlei_engine::table::{Csv, json_line};
use kanzlei_lang::document::formats::{Format, Formats};
use kanzlei_model::file::{File, files_of};
use kanzlei_model::problem::Problem;
use kanzlei_model::value::Value;
use kanzlei_runtime::files::{Holder, rows};

use crate::error::problem_response;

use super::download::disposition;
use super::refusal::Refusal;

/// Bytes of a part of an answer that is sent at a time, about.
const PIECE: usize = 64 << 10;

/// The format that a request is answered in; nothing for an endpoint that has JSON alone.
///
/// # Errors
/// 406 where the client accepts none of them.
pub fn format(request: &HttpRequest, formats: &Formats) -> Result<Option<Format>, Refusal> {
    let Some(first) = formats.of.first() else { return Ok(None) };
    let fields = request.headers().get_all(ACCEPT).filter_map(|value| value.to_str().ok());
    let accepted: Vec<(String, f32)> = fields.flat_map(|field| field.split(',')).filter_map(range).collect();
    if accepted.is_empty() {
        return Ok(Some(*first));
    }
    // The most specific range that fits counts; of equal ones the endpoint's order does.
    let quality = |format: Format| {
        let media = format.media();
        let kind = media.split('/').next().unwrap_or_default();
        let rank = |range: &str| match range {
            range if range == media => 3,
            range if range.strip_suffix("/*") == Some(kind) => 2,
            "*/*" => 1,
            _ => 0,
        };
        let fitting = accepted.iter().map(|(range, quality)| (rank(range), *quality)).filter(|(rank, _)| *rank > 0);
        fitting.max_by_key(|(rank, _)| *rank).map_or(0.0, |(_, quality)| quality)
    };
    let best = formats.of.iter().rev().copied().max_by(|a, b| quality(*a).total_cmp(&quality(*b)));
    match best.filter(|format| quality(*format) > 0.0) {
        Some(format) => Ok(Some(format)),
        None => {
            let all: Vec<&str> = formats.of.iter().map(|format| format.media()).collect();
            Err(Problem::new(406, "Not acceptable").detail(format!("it answers {}", all.join(", "))).into())
        }
    }
}

/// A media range with its quality, parameters left out.
fn range(text: &str) -> Option<(String, f32)> {
    let mut parts = text.split(';').map(str::trim);
    let range = parts.next()?.to_ascii_lowercase();
    let quality = parts.find_map(|part| part.strip_prefix("q=").or_else(|| part.strip_prefix("Q=")));
    let quality = quality.map_or(Some(1.0), |text| text.parse().ok().filter(|q| (0.0..=1.0).contains(q)))?;
    range.contains('/').then_some((range, quality))
}

/// Answers with a value as rows, written as they are sent; nothing where the format is JSON, or the value no list.
pub fn rows(
    begun: &mut HttpResponseBuilder,
    body: &Value,
    format: Option<Format>,
    formats: &Formats,
    head: bool,
) -> Option<HttpResponse> {
    let format = format?;
    begun.append_header((VARY, "Accept"));
    let list = match (format, body) {
        (Format::Json, _) => return None,
        (_, Value::List(_)) => body.clone(),
        // What is no list is its only row.
        (_, Value::Object(object)) if object.file().is_none() => Value::list(vec![body.clone()]),
        _ => return None,
    };
    describe(begun, format, formats);
    if head {
        return Some(begun.finish());
    }
    let columns: Vec<String> = formats.columns.iter().map(|(name, _)| name.clone()).collect();
    let csv = Csv::new(&list, &columns, formats.keep_formulas);
    let header = if format == Format::Csv { csv.header() } else { Vec::new() };
    let pieces = stream::unfold((list, csv, 0, header), move |(list, csv, mut at, mut piece)| async move {
        let rows = list.as_list().unwrap_or_default();
        while piece.len() < PIECE && at < rows.len() {
            match format {
                Format::Csv => piece.extend(csv.row(&rows[at])),
                _ => piece.extend(json_line(&rows[at])),
            }
            at += 1;
        }
        if piece.is_empty() {
            return None;
        }
        let sent = Ok::<_, std::io::Error>(Bytes::from(piece));
        Some((sent, (list, csv, at, Vec::new())))
    });
    Some(begun.streaming(Box::pin(pieces)))
}

fn describe(begun: &mut HttpResponseBuilder, format: Format, formats: &Formats) {
    if format == Format::Csv {
        begun.insert_header(("Content-Disposition", disposition(formats.file.as_deref().or(Some("rows.csv")))));
        begun.content_type("text/csv; charset=utf-8; header=present");
    } else {
        begun.content_type(format.media());
    }
}

/// Answers with rows that are read from files while they are sent. What is wrong with the first ones is answered as a problem; a fault
/// further on breaks the answer off.
pub async fn read(
    begun: &mut HttpResponseBuilder,
    (body, reading): (&Value, &Arc<Reading>),
    format: Option<&(Format, Formats)>,
    (typed, head): (bool, bool),
    holder: &Arc<Holder>,
) -> HttpResponse {
    let json = (Format::Json, Formats::default());
    let (format, formats) = format.unwrap_or(&json);
    if !formats.of.is_empty() {
        begun.append_header((VARY, "Accept"));
    }
    if !typed {
        describe(begun, *format, formats);
    }
    if head {
        return begun.finish();
    }
    let writing = Writing {
        format: *format,
        columns: formats.columns.iter().map(|(name, _)| name.clone()).collect(),
        keep_formulas: formats.keep_formulas,
    };
    let files: Vec<File> = files_of(body).into_iter().map(|(_, file)| file.clone()).collect();
    let rows = rows::rows(holder, &files, reading).map(|row| row.map(|row| row.value));
    match rows::send(rows, &writing).await {
        Ok(bytes) => begun.streaming(bytes),
        Err(why @ Fault::Io(_)) => {
            tracing::error!(%why, "the rows of an answer cannot be read");
            problem_response(&Problem::new(503, "The file is unavailable").detail("try again in a moment"))
        }
        Err(why) => problem_response(&Problem::new(422, "The rows cannot be read").detail(why.to_string())),
    }
}

#[cfg(test)]
mod tests {
    use actix_web::test::TestRequest;

    use super::*;

    #[test]
    fn clients_choose_a_format() {
        let all = Formats { of: vec![Format::Json, Format::Csv, Format::Ndjson], ..Formats::default() };
        for (accept, wanted) in [
            ("", Some(Format::Json)),
            ("*/*", Some(Format::Json)),
            ("text/csv", Some(Format::Csv)),
            ("Text/CSV; charset=utf-8", Some(Format::Csv)),
            ("text/*", Some(Format::Csv)),
            ("application/json;q=0.4, text/csv;q=0.9", Some(Format::Csv)),
            ("application/*", Some(Format::Json)),
            ("application/x-ndjson, */*;q=0.1", Some(Format::Ndjson)),
            ("*/*, application/json;q=0", Some(Format::Csv)),
            ("image/png", None),
            ("text/csv;q=0", None),
            ("nonsense", Some(Format::Json)),
        ] {
            let request = TestRequest::default().insert_header((ACCEPT, accept)).to_http_request();
            let found = format(&request, &all).map_err(|refusal| refusal.problem.status);
            assert_eq!(found, wanted.map(Some).ok_or(406), "{accept}");
        }
        let request = TestRequest::default().insert_header((ACCEPT, "image/png")).to_http_request();
        assert!(matches!(format(&request, &Formats::default()), Ok(None)), "JSON alone is not negotiated");
    }
}
