//! Instants and spans as every layer passes them: microseconds, with a type each.
//!
//! ```
//! use kanzlei_model::time::{Span, Timestamp};
//! let start: Timestamp = "2027-03-04T06:00:00Z".parse().unwrap();
//! assert_eq!((start + Span::from_micros(1_500_000)).to_string(), "2027-03-04T06:00:01.5Z");
//! ```

use std::fmt;
use std::str::FromStr;

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
    /// The latest instant that stands for a time; what lies behind it stands for "never".
    const LATEST: i64 = i64::MAX / 4;

    /// The instant so many microseconds after 1970-01-01T00:00:00Z.
    pub fn from_micros(micros: i64) -> Self {
        Timestamp(micros)
    }

    /// Microseconds since 1970-01-01T00:00:00Z.
    pub fn as_micros(self) -> i64 {
        self.0
    }

    /// Nothing for what never comes.
    pub fn finite(self) -> Option<Self> {
        (self.0 < Self::LATEST).then_some(self)
    }
}

impl Span {
    /// A span of so many microseconds.
    pub fn from_micros(micros: i64) -> Self {
        Span(micros)
    }

    /// Its microseconds.
    pub fn as_micros(self) -> i64 {
        self.0
    }
}

impl std::ops::Sub for Timestamp {
    type Output = Span;

    fn sub(self, earlier: Timestamp) -> Span {
        Span(self.0.saturating_sub(earlier.0))
    }
}

impl std::ops::Add<Span> for Timestamp {
    type Output = Timestamp;

    fn add(self, span: Span) -> Timestamp {
        Timestamp(self.0.saturating_add(span.0))
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
        assert!("soon".parse::<Timestamp>().is_err() && serde_json::from_str::<Timestamp>("5").is_err());
    }
}
