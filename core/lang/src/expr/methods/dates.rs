//! The `time` functions: instants (RFC 3339), dates (`2026-12-24`), spans, weeks and working days.
//!
//! Spans are ISO 8601 durations or the short form (`48h`, `2 days`), zones IANA names. A date is a day of the calendar, in no zone.
//! Nothing here reads a clock.

use std::collections::HashSet;

use jiff::civil::{Date, Weekday};
use jiff::tz::TimeZone;
use jiff::{Span, Timestamp, ToSpan, Unit, Zoned};

use crate::expr::eval::{Eval, Res, range_failure, type_failure};
use crate::expr::functions::Static;
use crate::expr::ops;
use kanzlei_model::value::Value;

/// The most working days that are counted at once, some 38 years.
const MOST_WORKING_DAYS: f64 = 10_000.0;

/// An instant or a date.
enum When {
    Instant(Timestamp),
    Date(Date),
}

/// The time between two instants in a unit, seconds by default.
fn between(from: Timestamp, to: Timestamp, unit: &str) -> Res {
    let seconds = (to.as_nanosecond() - from.as_nanosecond()) as f64 / 1e9;
    Ok(Value::Num(seconds / seconds_of(unit)?))
}

fn seconds_of(unit: &str) -> Res<f64> {
    Ok(match unit.trim_end_matches('s') {
        "second" => 1.0,
        "minute" => 60.0,
        "hour" => 3600.0,
        "day" => 86400.0,
        "week" => 604_800.0,
        _ => {
            return range_failure(format!(
                "`time.between` knows seconds, minutes, hours, days and weeks, not `{unit}`"
            ));
        }
    })
}

fn has_time(span: &Span) -> bool {
    span.get_hours() != 0
        || span.get_minutes() != 0
        || span.get_seconds() != 0
        || span.get_milliseconds() != 0
        || span.get_microseconds() != 0
        || span.get_nanoseconds() != 0
}

fn is_weekend(date: Date) -> bool {
    matches!(date.weekday(), Weekday::Saturday | Weekday::Sunday)
}

/// RFC 3339 with the zone's offset, `Z` for UTC.
fn written(zoned: &Zoned) -> String {
    if *zoned.time_zone() == TimeZone::UTC {
        zoned.timestamp().to_string()
    } else {
        zoned.timestamp().display_with_offset(zoned.offset()).to_string()
    }
}

fn outside<T>(what: Static) -> Res<T> {
    range_failure(format!("`{}` lies outside the years that instants have", what.name()))
}

impl Eval<'_> {
    /// A function of the namespace `time`.
    pub(super) fn time(&mut self, what: Static, args: &[Value]) -> Res {
        use Static::*;
        match what {
            TimeAdd | TimeSubtract => self.add_span(what, args),
            TimeBetween => self.time_between(args),
            TimeCompare => match (self.when(args, 0)?, self.when(args, 1)?) {
                (When::Instant(a), When::Instant(b)) => Ok(Value::Int(a.cmp(&b) as i64)),
                (When::Date(a), When::Date(b)) => Ok(Value::Int(a.cmp(&b) as i64)),
                _ => mixed(what),
            },
            TimeFormat => {
                let pattern = self.text_at(args, 1)?;
                let out = match self.when(args, 0)? {
                    When::Instant(at) => jiff::fmt::strtime::format(&*pattern, &at.to_zoned(self.zone(args, 2)?)),
                    When::Date(date) => jiff::fmt::strtime::format(&*pattern, date),
                };
                match out {
                    Ok(out) => self.make_text(out),
                    Err(error) => range_failure(format!("`time.format`: {error}")),
                }
            }
            TimeFromUnix => {
                let seconds = self.number_at(args, 0, f64::NAN)?;
                match Timestamp::from_nanosecond((seconds * 1e9).round() as i128) {
                    Ok(at) if seconds.is_finite() => self.make_text(at.to_string()),
                    _ => range_failure(format!("{} is not a time in seconds", ops::number_text(seconds))),
                }
            }
            TimeToUnix => Ok(Value::Num(self.instant(args, 0)?.as_nanosecond() as f64 / 1e9)),
            TimeIn => {
                let zoned = self.instant(args, 0)?.to_zoned(self.zone(args, 1)?);
                self.make_text(written(&zoned))
            }
            TimeDate => {
                let zoned = self.instant(args, 0)?.to_zoned(self.zone(args, 1)?);
                self.make_text(zoned.date().to_string())
            }
            TimeParse => self.time_parse(args),
            TimeStartOf => {
                let unit = self.text_at(args, 1)?;
                match self.when(args, 0)? {
                    When::Instant(at) => {
                        let zoned = at.to_zoned(self.zone(args, 2)?);
                        self.start_of(zoned, &unit)
                    }
                    When::Date(date) => {
                        let start = match &*unit {
                            "month" => date.first_of_month(),
                            "year" => date.first_of_year(),
                            "day" => date,
                            "week" => {
                                let days = i64::from(date.weekday().to_monday_zero_offset());
                                date.checked_sub(days.days()).or_else(|_| outside(what))?
                            }
                            other => {
                                return range_failure(format!(
                                    "`time.startOf` knows year, month, week and day for a date, not `{other}`"
                                ));
                            }
                        };
                        self.make_text(start.to_string())
                    }
                }
            }
            TimeWeek => Ok(Value::Int(self.date(args, 0)?.iso_week_date().week().into())),
            TimeWeekday => Ok(Value::Int(self.date(args, 0)?.weekday().to_monday_one_offset().into())),
            _ => self.working_days(what, args),
        }
    }

    fn add_span(&mut self, what: Static, args: &[Value]) -> Res {
        let span = self.text_at(args, 1)?;
        let span = kanzlei_model::duration::parse_span(&span).or_else(|e| range_failure(e.to_string()))?;
        let span = if what == Static::TimeSubtract { span.negate() } else { span };
        match self.when(args, 0)? {
            When::Instant(at) => match at.to_zoned(self.zone(args, 2)?).checked_add(span) {
                Ok(sum) => self.make_text(written(&sum)),
                Err(_) => outside(what),
            },
            When::Date(_) if has_time(&span) => {
                range_failure(format!("`{}` moves a date by days, weeks, months and years", what.name()))
            }
            When::Date(date) => match date.checked_add(span) {
                Ok(sum) => self.make_text(sum.to_string()),
                Err(_) => outside(what),
            },
        }
    }

    fn time_between(&mut self, args: &[Value]) -> Res {
        let unit = match args.get(2) {
            None | Some(Value::Undefined) => None,
            Some(unit) => Some(self.text_of(unit)?),
        };
        match (self.when(args, 0)?, self.when(args, 1)?) {
            (When::Instant(from), When::Instant(to)) => between(from, to, unit.as_deref().unwrap_or("seconds")),
            (When::Date(from), When::Date(to)) => {
                let days = match from.until(to) {
                    Ok(span) => f64::from(span.get_days()),
                    Err(_) => return outside(Static::TimeBetween),
                };
                Ok(Value::Num(days * 86400.0 / seconds_of(unit.as_deref().unwrap_or("days"))?))
            }
            _ => mixed(Static::TimeBetween),
        }
    }

    /// Reads a text by a pattern: a date, or an instant where the pattern has a time of day.
    fn time_parse(&mut self, args: &[Value]) -> Res {
        let (text, pattern) = (self.text_at(args, 0)?, self.text_at(args, 1)?);
        self.item_work(text.len() + pattern.len())?;
        let wrong = |error: jiff::Error| range_failure(format!("`{text}` does not read as `{pattern}`: {error}"));
        let parsed = match jiff::fmt::strtime::parse(&*pattern, &*text) {
            Ok(parsed) => parsed,
            Err(error) => return wrong(error),
        };
        if !pattern_has_time(&pattern) {
            return match parsed.to_date() {
                Ok(date) => self.make_text(date.to_string()),
                Err(error) => wrong(error),
            };
        }
        if let Ok(at) = parsed.to_timestamp() {
            return self.make_text(at.to_string());
        }
        let zone = self.zone(args, 2)?;
        match parsed.to_datetime().and_then(|at| at.to_zoned(zone)) {
            Ok(zoned) => self.make_text(written(&zoned)),
            Err(error) => wrong(error),
        }
    }

    fn working_days(&mut self, what: Static, args: &[Value]) -> Res {
        let counts = if what == Static::TimeIsWorkingDay { 1 } else { 2 };
        let date = self.date(args, 0)?;
        let free = self.holidays(what, args.get(counts))?;
        let works = |date: Date| !is_weekend(date) && !free.contains(&date);
        match what {
            Static::TimeIsWorkingDay => Ok(Value::Bool(works(date))),
            Static::TimeAddWorkingDays => {
                let count = self.number_at(args, 1, f64::NAN)?;
                if count.fract() != 0.0 || count.abs() > MOST_WORKING_DAYS {
                    return range_failure(format!(
                        "`time.addWorkingDays` takes a whole number of at most {MOST_WORKING_DAYS} days, not {}",
                        ops::number_text(count)
                    ));
                }
                // Free days before the first working day are not counted.
                let step = if count < 0.0 { -1 } else { 1 };
                let (mut at, mut left) = (date, count.abs());
                while left > 0.0 || !works(at) {
                    self.item_work(1)?;
                    at = at.checked_add(step.days()).or_else(|_| outside(what))?;
                    left -= f64::from(u8::from(left > 0.0 && works(at)));
                }
                self.make_text(at.to_string())
            }
            _ => {
                let to = self.date(args, 1)?;
                let (from, to, sign) = if to < date { (to, date, -1) } else { (date, to, 1) };
                let (mut at, mut count) = (from, 0);
                while at < to {
                    self.item_work(1)?;
                    count += i64::from(works(at));
                    at = at.checked_add(1.days()).or_else(|_| outside(what))?;
                }
                Ok(Value::Int(sign * count))
            }
        }
    }

    fn holidays(&mut self, what: Static, list: Option<&Value>) -> Res<HashSet<Date>> {
        let Some(list) = list.filter(|list| !list.is_nullish()) else { return Ok(HashSet::new()) };
        let Some(items) = self.items(list) else {
            return type_failure(format!("`{}` takes holidays as an array of dates, not {}", what.name(), list.kind()));
        };
        self.item_work(items.len() * 4)?;
        (0..items.len()).map(|index| self.date(&items, index)).collect()
    }

    fn when(&mut self, args: &[Value], index: usize) -> Res<When> {
        let text = self.text_at(args, index)?;
        if let Ok(at) = text.parse() {
            return Ok(When::Instant(at));
        }
        match text.parse() {
            Ok(date) if text.len() == 10 => Ok(When::Date(date)),
            _ => range_failure(format!(
                "`{text}` is neither an RFC 3339 instant such as 2027-03-04T06:00:00Z nor a date such as 2027-03-04"
            )),
        }
    }

    fn instant(&mut self, args: &[Value], index: usize) -> Res<Timestamp> {
        let text = self.text_at(args, index)?;
        match text.parse() {
            Ok(at) => Ok(at),
            Err(_) => range_failure(format!("`{text}` is not an RFC 3339 instant such as 2027-03-04T06:00:00Z")),
        }
    }

    fn date(&mut self, args: &[Value], index: usize) -> Res<Date> {
        let text = self.text_at(args, index)?;
        match text.parse() {
            Ok(date) if text.len() == 10 => Ok(date),
            _ => range_failure(format!("`{text}` is not a date such as 2027-03-04")),
        }
    }

    fn zone(&mut self, args: &[Value], index: usize) -> Res<TimeZone> {
        match args.get(index) {
            None | Some(Value::Undefined) => Ok(TimeZone::UTC),
            Some(name) => {
                let name = self.text_of(name)?;
                TimeZone::get(&name).or_else(|_| range_failure(format!("there is no time zone `{name}`")))
            }
        }
    }

    /// The start of the unit that an instant lies in, on the clocks of a zone.
    fn start_of(&mut self, zoned: Zoned, unit: &str) -> Res {
        let start = match unit {
            "month" => zoned.first_of_month().and_then(|z| z.start_of_day()),
            "year" => zoned.first_of_year().and_then(|z| z.start_of_day()),
            "week" => {
                let days = i64::from(zoned.weekday().to_monday_zero_offset());
                zoned.checked_sub(days.days()).and_then(|z| z.start_of_day())
            }
            "day" => zoned.start_of_day(),
            "hour" => zoned.round(jiff::ZonedRound::new().smallest(Unit::Hour).mode(jiff::RoundMode::Trunc)),
            "minute" => zoned.round(jiff::ZonedRound::new().smallest(Unit::Minute).mode(jiff::RoundMode::Trunc)),
            other => {
                return range_failure(format!(
                    "`time.startOf` knows year, month, week, day, hour and minute, not `{other}`"
                ));
            }
        };
        match start {
            Ok(start) => self.make_text(written(&start)),
            Err(error) => range_failure(format!("`time.startOf`: {error}")),
        }
    }
}

/// Whether a pattern reads a time of day.
pub fn pattern_has_time(pattern: &str) -> bool {
    pattern.split('%').skip(1).any(|part| {
        let directive = part.trim_start_matches(['-', '_', '0', '^', '#', '.', ':']);
        directive.starts_with(['H', 'I', 'k', 'l', 'M', 'S', 'T', 'R', 's', 'p', 'P', 'c', 'X', 'r'])
    })
}

fn mixed<T>(what: Static) -> Res<T> {
    range_failure(format!("`{}` takes two instants or two dates, not one of each", what.name()))
}
