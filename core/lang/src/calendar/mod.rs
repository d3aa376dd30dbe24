//! When recurring jobs are due: patterns of five fields in a time zone, or a fixed grid.
//!
//! A pattern is minute, hour, day of month, month and weekday, as `cron` reads it, with names
//! (`MON-FRI`, `JAN`), ranges, lists, steps (`*/15`), the last day (`L`), the last weekday of its kind in
//! a month (`FRI#L`), the nth (`MON#2`) and the nearest workday (`15W`). Where both day fields are given,
//! a day fits when either does.
//!
//! Patterns whose minutes and hours are fixed values, lists or ranges of them go by the clock on the wall:
//! where clocks are put forward, a time that does not exist is due when the clocks jump; where they are put
//! back, a time that exists twice is due at its first. Patterns whose minute or hour is a wildcard or has
//! steps go by elapsed time instead: they leave out what does not exist, and come twice where the hour comes
//! twice. This module reads no clock: instants come in and go out.
//!
//! ```
//! use kanzlei_lang::calendar::{Calendar, Pattern, When, zone};
//! let calendar = Calendar {
//!     when: When::Patterns(vec![Pattern::parse("0 6 * * MON-FRI").unwrap()]),
//!     zone: zone("Europe/Oslo").unwrap(),
//!     from: None,
//!     until: None,
//! };
//! let next = calendar.next("2027-03-05T12:00:00Z".parse().unwrap());
//! assert_eq!(next, Some("2027-03-08T05:00:00Z".parse().unwrap()));
//! ```

mod pattern;

use std::time::Duration;

use jiff::tz::TimeZone;
use jiff::{SignedDuration, Timestamp};

pub use pattern::Pattern;

/// The most due instants that are listed at once.
pub const MOST: usize = 1000;

/// Why a pattern or a zone is invalid.
#[derive(Clone, Debug, thiserror::Error, PartialEq)]
pub enum Error {
    /// The pattern is invalid.
    #[error("`{pattern}` is no pattern: {why}")]
    Pattern {
        /// The pattern as written.
        pattern: String,
        /// Which field is invalid and why.
        why: String,
    },
    /// The zone is unknown.
    #[error("there is no time zone `{name}`{hint}")]
    Zone {
        /// Its name.
        name: String,
        /// A known zone with a similar name, as a sentence.
        hint: String,
    },
}

/// A time zone by its IANA name.
pub fn zone(name: &str) -> Result<TimeZone, Error> {
    TimeZone::get(name).map_err(|_| {
        let names: Vec<String> = jiff::tz::db().available().map(|name| name.as_str().to_owned()).collect();
        let near = crate::suggest::nearest(name, names.iter().map(String::as_str));
        let hint = near.map_or_else(
            || "; zones are named as the IANA does: `Europe/Oslo`, `UTC`".to_owned(),
            |near| format!("; did you mean `{near}`?"),
        );
        Error::Zone { name: name.to_owned(), hint }
    })
}

/// What makes a calendar due.
#[derive(Clone, Debug)]
pub enum When {
    /// Due when any of them fits.
    Patterns(Vec<Pattern>),
    /// Due every so often.
    Every(Duration),
}

/// When something is due.
#[derive(Clone, Debug)]
pub struct Calendar {
    /// What makes it due.
    pub when: When,
    /// The time zone that it follows.
    pub zone: TimeZone,
    /// Neither before nor after these.
    pub from: Option<Timestamp>,
    /// The first instant at which it is no longer due.
    pub until: Option<Timestamp>,
}

impl Calendar {
    /// The first due instant after this one; nothing when there is none any more.
    pub fn next(&self, after: Timestamp) -> Option<Timestamp> {
        // An instant that is due exactly at `from` counts.
        let after = match self.from {
            Some(from) if from > after => from.checked_sub(SignedDuration::from_nanos(1)).ok()?,
            _ => after,
        };
        let next = match &self.when {
            When::Patterns(patterns) => patterns.iter().filter_map(|pattern| pattern.next(after, &self.zone)).min()?,
            When::Every(every) => {
                let origin = self.from.unwrap_or(Timestamp::UNIX_EPOCH);
                let every = SignedDuration::try_from(*every).ok()?.as_nanos().max(1);
                let passed = after.duration_since(origin).as_nanos();
                let next = (passed.div_euclid(every) + 1).checked_mul(every)?;
                origin.checked_add(SignedDuration::from_nanos_i128(next)).ok()?
            }
        };
        Some(next).filter(|next| self.until.is_none_or(|until| *next <= until))
    }

    /// Due instants after one, up to and including another; at most `most`, which [`MOST`] bounds.
    pub fn between(&self, after: Timestamp, until: Timestamp, most: usize) -> Vec<Timestamp> {
        let next = |after: &Timestamp| self.next(*after).filter(|next| *next <= until);
        std::iter::successors(next(&after), next).take(most.min(MOST)).collect()
    }

    /// As it is written: `0 6 * * MON-FRI · Europe/Oslo`, `every 30m`.
    pub fn text(&self) -> String {
        match &self.when {
            When::Every(every) => format!("every {}", kanzlei_model::duration::short(*every)),
            When::Patterns(patterns) => {
                let texts: Vec<&str> = patterns.iter().map(Pattern::text).collect();
                format!("{} · {}", texts.join(", "), self.zone_name())
            }
        }
    }

    /// In words, as far as a sentence can describe the pattern.
    pub fn words(&self) -> String {
        match &self.when {
            When::Every(every) => format!("Every {}.", kanzlei_model::duration::short(*every)),
            When::Patterns(patterns) => patterns.iter().map(Pattern::words).collect::<Vec<_>>().join(" Or: "),
        }
    }

    /// Returns the name of the zone in the IANA database.
    pub fn zone_name(&self) -> &str {
        self.zone.iana_name().unwrap_or("UTC")
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn calendar(patterns: &[&str], zone_name: &str) -> Calendar {
        let patterns = patterns.iter().map(|text| Pattern::parse(text).expect("pattern")).collect();
        Calendar { when: When::Patterns(patterns), zone: zone(zone_name).expect("zone"), from: None, until: None }
    }

    fn listed(calendar: &Calendar, after: &str, count: usize) -> Vec<String> {
        let far = "2100-01-01T00:00:00Z".parse().expect("instant");
        let due = calendar.between(after.parse().expect("instant"), far, count);
        due.iter().map(|at| at.to_string()).collect()
    }

    #[test]
    fn patterns_are_due_when_their_fields_fit() {
        for (pattern, after, wanted) in [
            ("0 6 * * MON-FRI", "2027-03-05T06:00:00Z", &["2027-03-08T06:00:00Z", "2027-03-09T06:00:00Z"][..]),
            ("*/20 8-9 * * *", "2027-03-05T09:30:00Z", &["2027-03-05T09:40:00Z", "2027-03-06T08:00:00Z"]),
            ("30 23 L * *", "2028-02-01T00:00:00Z", &["2028-02-29T23:30:00Z", "2028-03-31T23:30:00Z"]),
            // The 15th of May 2027 is a Saturday, that of August a Sunday.
            ("0 9 15W MAY,AUG *", "2027-05-01T00:00:00Z", &["2027-05-14T09:00:00Z", "2027-08-16T09:00:00Z"]),
            ("0 12 * * MON#1", "2027-03-01T13:00:00Z", &["2027-04-05T12:00:00Z"]),
            ("0 12 * * FRI#L", "2027-03-01T13:00:00Z", &["2027-03-26T12:00:00Z"]),
            ("0 0 29 2 *", "2027-03-01T00:00:00Z", &["2028-02-29T00:00:00Z", "2032-02-29T00:00:00Z"]),
            // Either day field.
            ("0 0 13 * FRI", "2027-03-06T00:00:00Z", &["2027-03-12T00:00:00Z", "2027-03-13T00:00:00Z"]),
        ] {
            assert_eq!(listed(&calendar(&[pattern], "UTC"), after, wanted.len()), wanted, "{pattern}");
        }
        let several = calendar(&["0 6 * * *", "0 6,18 * * SAT"], "UTC");
        assert_eq!(
            listed(&several, "2027-03-06T00:00:00Z", 3),
            ["2027-03-06T06:00:00Z", "2027-03-06T18:00:00Z", "2027-03-07T06:00:00Z"]
        );
    }

    #[test]
    fn gaps_and_overlaps_of_daylight_saving() {
        // Oslo: forward on 2027-03-28 at 02:00 (01:00 UTC), back on 2027-10-31 at 03:00 (01:00 UTC).
        for (pattern, after, wanted) in [
            ("30 2 * * *", "2027-03-27T12:00:00Z", &["2027-03-28T01:00:00Z", "2027-03-29T00:30:00Z"][..]),
            ("30 2 * * *", "2027-10-30T12:00:00Z", &["2027-10-31T00:30:00Z", "2027-11-01T01:30:00Z"]),
            // Lists and ranges as single values.
            ("45 2,14 * * *", "2027-03-27T20:00:00Z", &["2027-03-28T01:00:00Z", "2027-03-28T12:45:00Z"]),
            ("45 2,14 * * *", "2027-10-30T20:00:00Z", &["2027-10-31T00:45:00Z", "2027-10-31T13:45:00Z"]),
            (
                "30 1-3 * * *",
                "2027-03-28T00:00:00Z",
                &["2027-03-28T00:30:00Z", "2027-03-28T01:00:00Z", "2027-03-28T01:30:00Z"],
            ),
            (
                "0,30 2 * * *",
                "2027-10-30T20:00:00Z",
                &["2027-10-31T00:00:00Z", "2027-10-31T00:30:00Z", "2027-11-01T01:00:00Z"],
            ),
            ("0 6 * * *", "2027-03-27T06:00:00Z", &["2027-03-28T04:00:00Z"]),
            ("*/30 * * * *", "2027-03-28T00:15:00Z", &["2027-03-28T00:30:00Z", "2027-03-28T01:00:00Z"]),
            (
                "*/30 * * * *",
                "2027-10-31T00:15:00Z",
                &["2027-10-31T00:30:00Z", "2027-10-31T01:00:00Z", "2027-10-31T01:30:00Z", "2027-10-31T02:00:00Z"],
            ),
        ] {
            assert_eq!(listed(&calendar(&[pattern], "Europe/Oslo"), after, wanted.len()), wanted, "{pattern} {after}");
        }
    }

    #[test]
    fn a_grid_is_fixed_and_bounds_hold() {
        let instant = |text: &str| text.parse::<Timestamp>().expect("instant");
        let mut grid = Calendar {
            when: When::Every(Duration::from_secs(1800)),
            zone: TimeZone::UTC,
            from: None,
            until: Some(instant("2027-03-05T07:00:00Z")),
        };
        assert_eq!(
            listed(&grid, "2027-03-05T05:59:59.5Z", 9),
            ["2027-03-05T06:00:00Z", "2027-03-05T06:30:00Z", "2027-03-05T07:00:00Z"]
        );
        grid.from = Some(instant("2027-03-05T06:10:00Z"));
        assert_eq!(listed(&grid, "2027-01-01T00:00:00Z", 9), ["2027-03-05T06:10:00Z", "2027-03-05T06:40:00Z"]);
        assert_eq!(grid.text(), "every 30m");
    }

    #[test]
    fn what_is_no_zone_is_reported() {
        for (name, says) in [("Europe/Olso", "did you mean `Europe/Oslo`"), ("Nowhere/Atlantis-Nine", "IANA")] {
            assert!(zone(name).expect_err(name).to_string().contains(says), "{name}");
        }
    }
}
