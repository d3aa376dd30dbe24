//! Instants and spans as every layer passes them: microseconds, with a type each.
//!
//! ```
//! use kanzlei_model::time::{Span, Timestamp};
//! let start: Timestamp = "2027-03-04T06:00:00Z".parse().unwrap();
//! assert_eq!((start + Span::from_micros(1_500_000)).to_string(), "2027-03-04T06:00:01.5Z");
//! ```

use std::fmt;
use std::ops;
use std::str::FromStr;
use std::time::Duration;

use serde::{Deserialize, Deserializer, Serialize, Serializer, de};

/// An instant: microseconds since 1970-01-01T00:00:00Z. Written as RFC 3339 text in UTC.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Timestamp(i64);

/// A span of time in microseconds. Written as a number.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(transparent)]
pub struct Span(i64);

/// A text that is no instant.
#[derive(Clone, Debug, PartialEq, thiserror::Error)]
#[error("`{0}` is not an instant such as 2027-03-04T06:00:00Z")]
pub struct NotAnInstant(String);

impl Timestamp {
    /// 1970-01-01T00:00:00Z.
    pub const EPOCH: Timestamp = Timestamp(0);
    /// Later than every instant that stands for a time.
    pub const NEVER: Timestamp = Timestamp(i64::MAX / 2);
    /// The latest instant that stands for a time; what lies behind it stands for "never".
    const LATEST: i64 = i64::MAX / 4;

    /// The instant so many microseconds after 1970-01-01T00:00:00Z.
    pub const fn from_micros(micros: i64) -> Self {
        Timestamp(micros)
    }

    /// Microseconds since 1970-01-01T00:00:00Z.
    pub const fn as_micros(self) -> i64 {
        self.0
    }

    /// Seconds since 1970-01-01T00:00:00Z, rounded down.
    pub fn as_secs(self) -> i64 {
        self.0.div_euclid(1_000_000)
    }

    /// Minutes since 1970-01-01T00:00:00Z, rounded down.
    pub fn as_minutes(self) -> i64 {
        self.0.div_euclid(60_000_000)
    }

    /// Returns the last multiple of a span since 1970-01-01T00:00:00Z.
    pub fn floor(self, span: Span) -> Timestamp {
        Timestamp(self.0 - self.0.rem_euclid(span.0.max(1)))
    }

    /// Returns the span between two instants, zero when `earlier` is the later one.
    pub fn since(self, earlier: Timestamp) -> Span {
        (self - earlier).max(Span::ZERO)
    }

    /// Nothing for what never comes.
    pub fn finite(self) -> Option<Self> {
        (self.0 < Self::LATEST).then_some(self)
    }
}

impl Span {
    /// No time at all.
    pub const ZERO: Span = Span(0);

    /// A span of so many microseconds.
    pub const fn from_micros(micros: i64) -> Self {
        Span(micros)
    }

    /// A span of so many seconds.
    pub const fn from_secs(seconds: i64) -> Self {
        Span(seconds.saturating_mul(1_000_000))
    }

    /// A span of so many days of 24 hours.
    pub const fn from_days(days: i64) -> Self {
        Span::from_secs(days.saturating_mul(86_400))
    }

    /// Its microseconds.
    pub fn as_micros(self) -> i64 {
        self.0
    }

    /// Its seconds, with a fraction.
    pub fn as_secs_f64(self) -> f64 {
        self.0 as f64 / 1e6
    }

    /// The span so many times as long.
    pub fn mul_f64(self, times: f64) -> Span {
        Span((self.0 as f64 * times) as i64)
    }

    /// The same span without its sign.
    pub fn abs(self) -> Span {
        Span(self.0.saturating_abs())
    }
}

impl From<i64> for Timestamp {
    /// As the records hold it: microseconds since 1970-01-01T00:00:00Z.
    fn from(micros: i64) -> Timestamp {
        Timestamp(micros)
    }
}

impl From<jiff::Timestamp> for Timestamp {
    fn from(at: jiff::Timestamp) -> Timestamp {
        Timestamp(at.as_microsecond())
    }
}

impl From<Timestamp> for jiff::Timestamp {
    /// An instant that no calendar has becomes the first or the last one that it has.
    fn from(at: Timestamp) -> jiff::Timestamp {
        let beyond = if at.0 < 0 { jiff::Timestamp::MIN } else { jiff::Timestamp::MAX };
        jiff::Timestamp::from_microsecond(at.0).unwrap_or(beyond)
    }
}

impl From<i64> for Span {
    /// As the records hold it: microseconds.
    fn from(micros: i64) -> Span {
        Span(micros)
    }
}

impl From<Duration> for Span {
    fn from(duration: Duration) -> Span {
        Span(i64::try_from(duration.as_micros()).unwrap_or(i64::MAX))
    }
}

impl From<Span> for Duration {
    /// A negative span becomes zero.
    fn from(span: Span) -> Duration {
        Duration::from_micros(u64::try_from(span.0).unwrap_or(0))
    }
}

impl ops::Sub for Timestamp {
    type Output = Span;

    fn sub(self, earlier: Timestamp) -> Span {
        Span(self.0.saturating_sub(earlier.0))
    }
}

impl ops::Add<Span> for Timestamp {
    type Output = Timestamp;

    fn add(self, span: Span) -> Timestamp {
        Timestamp(self.0.saturating_add(span.0))
    }
}

impl ops::Add<Duration> for Timestamp {
    type Output = Timestamp;

    fn add(self, duration: Duration) -> Timestamp {
        self + Span::from(duration)
    }
}

impl ops::Sub<Span> for Timestamp {
    type Output = Timestamp;

    fn sub(self, span: Span) -> Timestamp {
        Timestamp(self.0.saturating_sub(span.0))
    }
}

impl ops::Add for Span {
    type Output = Span;

    fn add(self, other: Span) -> Span {
        Span(self.0.saturating_add(other.0))
    }
}

impl ops::AddAssign for Span {
    fn add_assign(&mut self, other: Span) {
        *self = *self + other;
    }
}

impl ops::Sub for Span {
    type Output = Span;

    fn sub(self, other: Span) -> Span {
        Span(self.0.saturating_sub(other.0))
    }
}

impl ops::Mul<i64> for Span {
    type Output = Span;

    fn mul(self, times: i64) -> Span {
        Span(self.0.saturating_mul(times))
    }
}

impl ops::Div<i64> for Span {
    type Output = Span;

    /// Division by zero returns the span itself.
    fn div(self, by: i64) -> Span {
        Span(self.0.checked_div(by).unwrap_or(self.0))
    }
}

impl fmt::Display for Timestamp {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match jiff::Timestamp::from_microsecond(self.0) {
            Ok(at) => at.fmt(f),
            // Beyond what a calendar can say.
            Err(_) => f.write_str(if self.0 < 0 { "-9999-01-01T00:00:00Z" } else { "9999-12-31T23:59:59Z" }),
        }
    }
}

impl FromStr for Timestamp {
    type Err = NotAnInstant;

    fn from_str(text: &str) -> Result<Self, NotAnInstant> {
        let at: jiff::Timestamp = text.parse().map_err(|_| NotAnInstant(text.to_owned()))?;
        Ok(Timestamp(at.as_microsecond()))
    }
}

impl Serialize for Timestamp {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}

impl<'de> Deserialize<'de> for Timestamp {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        std::borrow::Cow::<str>::deserialize(deserializer)?.parse().map_err(de::Error::custom)
    }
}

#[cfg(feature = "schema")]
impl schemars::JsonSchema for Timestamp {
    fn schema_name() -> std::borrow::Cow<'static, str> {
        "Timestamp".into()
    }

    fn json_schema(_: &mut schemars::SchemaGenerator) -> schemars::Schema {
        schemars::json_schema!({"type": "string", "format": "date-time", "description": "An instant (RFC 3339), in UTC."})
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn instants_are_text_and_spans_are_numbers() {
        for (micros, text) in [
            (0, "1970-01-01T00:00:00Z"),
            (1_804_140_000_000_001, "2027-03-04T06:00:00.000001Z"),
            (-1, "1969-12-31T23:59:59.999999Z"),
        ] {
            let at = Timestamp::from_micros(micros);
            assert_eq!((at.to_string().as_str(), text.parse::<Timestamp>()), (text, Ok(at)));
            assert_eq!(
                serde_json::from_str::<Timestamp>(&serde_json::to_string(&at).expect("json")).expect("read"),
                at
            );
        }
        assert_eq!(
            serde_json::to_string(&(Timestamp::from_micros(5) - Timestamp::from_micros(2))).ok().as_deref(),
            Some("3")
        );
        assert_eq!(
            (Timestamp::from_micros(i64::MAX).finite(), Timestamp::from_micros(i64::MAX).to_string().as_str()),
            (None, "9999-12-31T23:59:59Z")
        );
        let at = Timestamp::from_micros(125_000_001);
        assert_eq!((at.as_secs(), at.as_minutes(), at.floor(Span::from_secs(10))), (125, 2, (120_000_000).into()));
        assert_eq!((at.since(at + Span::from_secs(1)), Timestamp::from_micros(-1).as_minutes()), (Span::ZERO, -1));
        assert_eq!(jiff::Timestamp::from(Timestamp::NEVER), jiff::Timestamp::MAX);
        assert!("soon".parse::<Timestamp>().is_err() && serde_json::from_str::<Timestamp>("5").is_err());
    }
}
