//! The level of the log of this process, changed while it runs.

use std::time::{Duration, Instant};

use actix_web::HttpResponse;
use actix_web::web::Json;
use kanzlei_api::log::{LogLevel, NewLogLevel};
use kanzlei_model::time::Span;

use super::auth::Caller;
use crate::error::{Error, Result};
use crate::log::{self, Level};

/// The longest span of a change.
const LONGEST: Duration = Duration::from_secs(24 * 3600);

fn shown(level: Level) -> LogLevel {
    let left = level.until.map(|until| until.saturating_duration_since(Instant::now()));
    LogLevel { level: level.now, configured: level.configured, left_us: left.map(Span::from) }
}

/// `GET /log`.
pub async fn show() -> Result<HttpResponse> {
    let level = log::level().ok_or_else(|| Error::not_found("this process logs nothing"))?;
    Ok(HttpResponse::Ok().json(shown(level)))
}

/// `PUT /log`.
pub async fn change(caller: Caller, asked: Json<NewLogLevel>) -> Result<HttpResponse> {
    let NewLogLevel { level, span } = asked.into_inner();
    let wrong = |detail: String| Error::problem(422, "Not such a level", detail);
    let span = span.map(|text| {
        let span = kanzlei_model::duration::parse(&text).map_err(|why| wrong(format!("`for`: {why}")))?;
        match span <= LONGEST && !span.is_zero() {
            true => Ok(span),
            false => Err(wrong(format!("`for` is more than nothing and at most a day; it is {text}"))),
        }
    });
    let span = span.transpose()?;
    let before = log::level().map(|level| level.now);
    caller.notes.changed("log", before, Some(level.clone()));
    let changed = log::change(&level, span).map_err(wrong)?;
    tracing::info!(level, by = caller.name, "the level of the log is another one");
    Ok(HttpResponse::Ok().json(shown(changed)))
}
