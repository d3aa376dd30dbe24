//! Durations as documents write them: ISO 8601 (`PT48H`) or the short form (`48h`, `2 days`, `200ms`).

use std::time::Duration;

use jiff::{SignedDuration, Span};

/// A text that is no duration.
#[derive(Clone, Debug, PartialEq, thiserror::Error)]
#[error("`{0}` is not a duration; write `200ms`, `2s`, `48h`, `2 days` or ISO 8601 such as `PT48H`")]
pub struct NotADuration(String);

/// A calendar span, such as `1 month` or `P1M`.
pub fn parse_span(text: &str) -> Result<Span, NotADuration> {
    text.trim().parse().map_err(|_| NotADuration(text.to_owned()))
}

/// An exact span of time; days count 24 hours. Years and months have no exact length and are refused.
pub fn parse(text: &str) -> Result<Duration, NotADuration> {
    let span = parse_span(text)?;
    let exact = SignedDuration::try_from(span).or_else(|_| span.to_duration(jiff::SpanRelativeTo::days_are_24_hours()));
    exact.ok().and_then(|duration| Duration::try_from(duration).ok()).ok_or_else(|| NotADuration(text.to_owned()))
}

/// The short form of a span: `200ms`, `1.5s`, `2m`, `2m05s`, `26h00m`, `7d12h`; what is smaller is left out.
pub fn short(duration: Duration) -> String {
    let micros = duration.as_micros();
    match micros {
        0..1_000 => format!("{micros}µs"),
        1_000..10_000 => format!("{:.1}ms", micros as f64 / 1e3),
        10_000..1_000_000 => format!("{}ms", micros / 1000),
        1_000_000..60_000_000 if micros % 1_000_000 < 50_000 => format!("{}s", micros / 1_000_000),
        1_000_000..60_000_000 => format!("{:.1}s", micros as f64 / 1e6),
        60_000_000..3_600_000_000 if (micros / 1_000_000).is_multiple_of(60) => format!("{}m", micros / 60_000_000),
        60_000_000..3_600_000_000 => format!("{}m{:02}s", micros / 60_000_000, micros / 1_000_000 % 60),
        3_600_000_000..172_800_000_000 => format!("{}h{:02}m", micros / 3_600_000_000, micros / 60_000_000 % 60),
        _ => format!("{}d{:02}h", micros / 86_400_000_000, micros / 3_600_000_000 % 24),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn short_forms_are_short() {
        for (micros, text) in [
            (7, "7µs"),
            (1_500, "1.5ms"),
            (104_000, "104ms"),
            (2_000_000, "2s"),
            (2_500_000, "2.5s"),
            (120_000_000, "2m"),
            (125_000_000, "2m05s"),
            (7_689_000_000, "2h08m"),
            (648_000_000_000, "7d12h"),
        ] {
            assert_eq!(short(Duration::from_micros(micros)), text);
        }
    }

    #[test]
    fn both_forms_are_read() {
        for (text, millis) in [
            ("200ms", 200),
            ("2s", 2000),
            ("PT48H", 172_800_000),
            ("48h", 172_800_000),
            ("2 days", 172_800_000),
            ("1h 30m", 5_400_000),
        ] {
            assert_eq!(parse(text), Ok(Duration::from_millis(millis)), "{text}");
        }
        for text in ["", "soon", "-2s", "1 month", "5"] {
            assert!(parse(text).is_err(), "{text}");
        }
    }
}
