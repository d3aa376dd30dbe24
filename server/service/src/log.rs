//! The log: lines on standard error, as text or JSON, at a level that can be changed while the process runs.
//!
//! A level is a word (`info`), or a list for parts of the program (`info,sqlx=warn`), as `tracing` reads them. A change holds for this
//! process until it ends, or for a span.

use std::sync::{Mutex, OnceLock, PoisonError};
use std::time::{Duration, Instant};

use kanzlei_runtime::lines;
use kanzlei_runtime::telemetry::LogLines;
use opentelemetry_appender_tracing::layer::{OpenTelemetryTracingBridge, TracingSpanAttributes};
use opentelemetry_sdk::logs::SdkLoggerProvider;
use tracing::{Event, Subscriber};
use tracing_subscriber::filter::filter_fn;
use tracing_subscriber::layer::{Context, SubscriberExt};
use tracing_subscriber::util::SubscriberInitExt;
use tracing_subscriber::{EnvFilter, Layer, reload};

use crate::config::{Config, Format};

/// The longest text of a level.
const LONGEST: usize = 500;

/// Puts another filter in force.
type Put = Box<dyn Fn(EnvFilter) -> Result<(), String> + Send + Sync>;

static PUT: OnceLock<Put> = OnceLock::new();

/// What is in force.
static LEVEL: Mutex<Option<Level>> = Mutex::new(None);

/// A level, and the one of the settings.
#[derive(Clone, Debug, PartialEq)]
pub struct Level {
    /// What is logged now.
    pub now: String,
    /// What the settings say.
    pub configured: String,
    /// When the level of the settings returns.
    pub until: Option<Instant>,
}

/// Begins to log. Lines also go to the collector of the settings, once it is known (`kanzlei_runtime::telemetry`).
pub fn begin(config: &Config) {
    let level = &config.log.level;
    let filter = EnvFilter::try_new(level).unwrap_or_else(|_| EnvFilter::new("info"));
    let (filter, handle) = reload::Layer::new(filter);
    let _ = PUT.set(Box::new(move |filter| handle.reload(filter).map_err(|error| error.to_string())));
    let lines = tracing_subscriber::fmt::layer().with_writer(std::io::stderr).with_target(false);
    let lines = match config.log.format {
        Format::Json => lines.json().boxed(),
        Format::Text => lines.with_ansi(std::io::IsTerminal::is_terminal(&std::io::stderr())).boxed(),
    };
    let collected = (!config.telemetry.endpoint.is_empty() && config.telemetry.logs).then(|| {
        let provider = SdkLoggerProvider::builder().with_log_processor(LogLines).build();
        // What the requests to the collector log would be sent with the next one.
        let own = |target: &str| !OF_REQUESTS.iter().any(|part| target.starts_with(part));
        OpenTelemetryTracingBridge::builder(&provider)
            .with_tracing_span_attributes(TracingSpanAttributes::all())
            .build()
            .with_filter(filter_fn(move |about| own(about.target())))
    });
    tracing_subscriber::registry().with(OnLine).with(filter).with(lines).with(collected).init();
    *held() = Some(Level { now: level.clone(), configured: level.clone(), until: None });
}

/// Before every line: its request or job is named.
struct OnLine;

impl<S: Subscriber> Layer<S> for OnLine {
    fn on_event(&self, _: &Event<'_>, _: Context<'_, S>) {
        lines::on_line();
    }
}

/// Parts of the program that log about requests.
const OF_REQUESTS: [&str; 6] = ["hyper", "h2", "reqwest", "rustls", "opentelemetry", "tower"];

fn held() -> std::sync::MutexGuard<'static, Option<Level>> {
    LEVEL.lock().unwrap_or_else(PoisonError::into_inner)
}

/// The level in force; nothing where nothing is logged.
pub fn level() -> Option<Level> {
    held().clone()
}

/// Changes the level, for a span or until the process ends.
///
/// # Errors
/// A level that cannot be read, and a process that logs nothing.
pub fn change(level: &str, span: Option<Duration>) -> Result<Level, String> {
    if level.len() > LONGEST {
        return Err(format!("a level has at most {LONGEST} bytes"));
    }
    let filter = read(level)?;
    let mut held = held();
    let (Some(known), Some(put)) = (held.as_mut(), PUT.get()) else {
        return Err("this process logs nothing".into());
    };
    put(filter)?;
    *known = Level { now: level.to_owned(), until: span.map(|span| Instant::now() + span), ..known.clone() };
    Ok(known.clone())
}

/// Reads a level as strictly as people mean it: a word that is none would be the name of a part otherwise.
fn read(level: &str) -> Result<EnvFilter, String> {
    const WORDS: [&str; 6] = ["off", "error", "warn", "info", "debug", "trace"];
    let single = level.split(',').map(str::trim).filter(|part| !part.contains(['=', '[']));
    for word in single {
        if !WORDS.contains(&word) {
            return Err(format!("`{word}` is no level; levels are {}", WORDS.join(", ")));
        }
    }
    EnvFilter::try_new(level).map_err(|error| format!("`{level}` is no level: {error}"))
}

/// Returns to the level of the settings when the span of a change is over, until the process ends.
pub async fn keep() {
    let mut every = tokio::time::interval(Duration::from_secs(1));
    every.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Delay);
    loop {
        every.tick().await;
        let over = held().as_ref().filter(|level| level.until.is_some_and(|until| until <= Instant::now())).cloned();
        if let Some(level) = over {
            match change(&level.configured, None) {
                Ok(_) => tracing::info!(level = level.configured, "the log is at the level of the settings again"),
                Err(why) => tracing::error!(why, "the level of the log cannot be changed back"),
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn levels_are_words_or_lists_for_parts() {
        for (level, good) in [
            ("info", true),
            ("debug", true),
            ("info,sqlx=warn", true),
            ("kanzlei_runtime=trace", true),
            ("verbose", false),
            ("", false),
            ("info,loud", false),
            ("sqlx=loud", false),
        ] {
            assert_eq!(read(level).is_ok(), good, "{level}");
        }
    }
}
