//! Texts that stand for something: dates, instants and spans are types of their own.
//!
//! A schema says so with `format` (`date`, `date-time`, `duration`), a database with the type of a column, and
//! the `time` functions by what they return. A text of which nothing is known may be any of them.

use std::fmt;

use super::Type;
use kanzlei_model::duration;
use kanzlei_model::time::Timestamp;
use kanzlei_model::value::Str;

/// A set of texts.
#[derive(Clone, Debug, PartialEq)]
pub enum Text {
    /// Any text.
    Any,
    /// A single one.
    One(Str),
    /// A day of the calendar (RFC 3339 full-date): `2027-03-04`.
    Date,
    /// An instant (RFC 3339 date-time): `2027-03-04T06:00:00Z`.
    Instant,
    /// A span: ISO 8601, or the short form `48h`.
    Span,
}

impl Text {
    /// Whether a single text belongs to it.
    pub fn holds(&self, text: &str) -> bool {
        match self {
            Text::Any => true,
            Text::One(one) => **one == *text,
            Text::Date => text.len() == 10 && text.parse::<jiff::civil::Date>().is_ok(),
            Text::Instant => text.parse::<Timestamp>().is_ok(),
            Text::Span => duration::parse_span(text).is_ok(),
        }
    }

    /// Whether all of the other belong to it, where that is plain to see.
    pub(super) fn covers(&self, other: &Text) -> bool {
        match (self, other) {
            (Text::Any, _) => true,
            (of, Text::One(text)) => of.holds(text),
            (a, b) => a == b,
        }
    }

    /// Whether the two may have a text in common.
    pub(super) fn meets(&self, other: &Text) -> bool {
        match (self, other) {
            (Text::Any, _) | (_, Text::Any) => true,
            (Text::One(text), of) | (of, Text::One(text)) => of.holds(text),
            (a, b) => a == b,
        }
    }

    /// The `format` of JSON Schema that says the same.
    pub(super) fn format(&self) -> Option<&'static str> {
        match self {
            Text::Date => Some("date"),
            Text::Instant => Some("date-time"),
            Text::Span => Some("duration"),
            Text::Any | Text::One(_) => None,
        }
    }

    /// What a `format` says.
    pub(super) fn of_format(format: &str) -> Text {
        match format {
            "date" => Text::Date,
            "date-time" => Text::Instant,
            "duration" => Text::Span,
            _ => Text::Any,
        }
    }

    /// What a message calls it.
    pub fn what(&self) -> &'static str {
        match self {
            Text::Any | Text::One(_) => "a string",
            Text::Date => "a date",
            Text::Instant => "an instant",
            Text::Span => "a span",
        }
    }

    fn example(&self) -> &'static str {
        match self {
            Text::Date => " such as 2027-03-04",
            Text::Instant => " such as 2027-03-04T06:00:00Z",
            Text::Span => " such as `48h` or `PT48H`",
            Text::Any | Text::One(_) => "",
        }
    }
}

/// `string`, `'LIN'`, `date`.
impl fmt::Display for Text {
    fn fmt(&self, f: &mut fmt::Formatter) -> fmt::Result {
        match self {
            Text::Any => f.write_str("string"),
            Text::One(text) => write!(f, "'{text}'"),
            Text::Date => f.write_str("date"),
            Text::Instant => f.write_str("instant"),
            Text::Span => f.write_str("span"),
        }
    }
}

/// Why a value can never be one of the texts that are wanted, with help; nothing where it may be. What may be
/// missing is left to others.
pub fn misfit(given: &Type, wanted: &[Text]) -> Option<(String, Option<String>)> {
    let fits = |one: &Type| match one {
        Type::Unknown | Type::Undefined | Type::Null => true,
        Type::Text(text) => wanted.iter().any(|wanted| wanted.meets(text)),
        _ => false,
    };
    let wrong = given.keep(|one| !fits(one));
    if wrong == Type::Never {
        return None;
    }
    let needed: Vec<String> = wanted.iter().map(|wanted| format!("{}{}", wanted.what(), wanted.example())).collect();
    let verb = if wrong == *given { "is" } else { "may be" };
    let is = match wrong.alternatives() {
        [one @ Type::Text(Text::One(_))] => one.to_string(),
        _ => wrong.what(),
    };
    let help = (wanted.contains(&Text::Instant) && wrong.alternatives().contains(&Type::Text(Text::Date)))
        .then(|| "say at which time of the day: `` `${date}T00:00:00Z` ``".to_owned());
    Some((format!("this {verb} {is}, and {} is needed", needed.join(" or ")), help))
}
