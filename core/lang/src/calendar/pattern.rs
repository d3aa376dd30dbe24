//! Patterns of five fields: read field by field, so that a fault names its field and reason, and described
//! in a sentence that holds for every instant they fit.

use croner::Cron;
use croner::parser::{CronParser, Seconds, Year};
use jiff::tz::TimeZone;
use jiff::{SignedDuration, Timestamp};

use super::Error;

const MONTHS: [&str; 12] = [
    "January",
    "February",
    "March",
    "April",
    "May",
    "June",
    "July",
    "August",
    "September",
    "October",
    "November",
    "December",
];
const WEEKDAYS: [&str; 8] = ["Sunday", "Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday"];
const ORDINALS: [&str; 5] = ["first", "second", "third", "fourth", "fifth"];

/// A field: its name, its least and greatest value, and names of values from the least on.
struct Field {
    name: &'static str,
    least: u32,
    greatest: u32,
    names: &'static [&'static str],
}

const FIELDS: [Field; 5] = [
    Field { name: "minute", least: 0, greatest: 59, names: &[] },
    Field { name: "hour", least: 0, greatest: 23, names: &[] },
    Field { name: "day of month", least: 1, greatest: 31, names: &[] },
    Field { name: "month", least: 1, greatest: 12, names: &MONTHS },
    Field { name: "weekday", least: 0, greatest: 7, names: &WEEKDAYS },
];

/// One part of a field's list.
#[derive(Clone, Debug, PartialEq)]
enum Part {
    Any,
    Value(u32),
    Range(u32, u32),
    /// Every so many from a value to another; `*/15` goes over all values.
    Step {
        from: u32,
        to: u32,
        by: u32,
    },
    /// The last day of the month.
    Last,
    /// The workday nearest to a day.
    Nearest(u32),
    /// The nth weekday of its kind in the month; nothing for the last.
    Nth(u32, Option<u32>),
}

/// A pattern of five fields.
#[derive(Clone, Debug)]
pub struct Pattern {
    text: String,
    fields: [Vec<Part>; 5],
    cron: Cron,
}

impl Pattern {
    /// Reads a pattern; seconds and years are refused, and a pattern that no date fits.
    pub fn parse(text: &str) -> Result<Self, Error> {
        let wrong = |why: String| Error::Pattern { pattern: text.to_owned(), why };
        let written: Vec<&str> = text.split_whitespace().collect();
        let Ok(written) = <[&str; 5]>::try_from(written.as_slice()) else {
            return Err(wrong(format!("it has {} fields, not five", written.len())));
        };
        let mut fields: [Vec<Part>; 5] = Default::default();
        for ((into, field), written) in fields.iter_mut().zip(&FIELDS).zip(written) {
            let parts = written.split(',').map(|part| read(field, part));
            *into = parts.collect::<Result<_, String>>().map_err(|why| wrong(format!("{}: {why}", field.name)))?;
        }
        let parser = CronParser::builder().seconds(Seconds::Disallowed).year(Year::Disallowed).build();
        let cron = parser.parse(text).map_err(|error| wrong(error.to_string()))?;
        let epoch = Timestamp::UNIX_EPOCH.to_zoned(TimeZone::UTC);
        if cron.find_next_occurrence(&epoch, true).is_err() {
            return Err(wrong("no date fits it".into()));
        }
        Ok(Pattern { text: text.to_owned(), fields, cron })
    }

    /// The pattern as written.
    pub fn text(&self) -> &str {
        &self.text
    }

    /// Whether minute and hour are fixed values, so that it follows local time.
    fn fixed(&self) -> bool {
        let fixed = |part: &Part| matches!(part, Part::Value(_) | Part::Range(..));
        self.fields[..2].iter().flatten().all(fixed)
    }

    /// The first instant after this one that fits in a zone.
    ///
    /// With fixed minutes and hours, a local time that a jump of the clocks leaves out is due at the jump, and
    /// one that comes twice is due at its first. Others go by elapsed time.
    pub(super) fn next(&self, after: Timestamp, zone: &TimeZone) -> Option<Timestamp> {
        if !self.fixed() {
            let next = self.cron.find_next_occurrence(&after.to_zoned(zone.clone()), false).ok()?.timestamp();
            return Some(next).filter(|next| *next > after);
        }
        // Local times are searched as if they were UTC, from far enough before that none is passed over.
        let mut local = zone.to_datetime(after).checked_sub(SignedDuration::from_hours(26)).ok()?;
        loop {
            let found = self.cron.find_next_occurrence(&local.to_zoned(TimeZone::UTC).ok()?, false).ok()?;
            local = found.datetime();
            let due = instant(zone, local)?;
            if due > after {
                return Some(due);
            }
        }
    }

    /// In words: `At 06:00 on Monday to Friday.`
    pub fn words(&self) -> String {
        let [minutes, hours, days, months, weekdays] = &self.fields;
        let mut out = times(minutes, hours);
        let any = |parts: &[Part]| parts.iter().all(|part| *part == Part::Any);
        let day = |parts: &[Part]| joined(parts.iter().map(day_words), "and");
        let weekday = |parts: &[Part]| joined(parts.iter().map(weekday_words), "and");
        match (any(days), any(weekdays)) {
            (true, true) if any(months) => out.push_str(" every day"),
            (true, true) => out.push_str(" on every day"),
            (false, true) => out.push_str(&format!(" on {}", day(days))),
            (true, false) => out.push_str(&format!(" on {}", weekday(weekdays))),
            (false, false) => out.push_str(&format!(" on {}, or on {}", day(days), weekday(weekdays))),
        }
        if !any(months) {
            let named = |value: u32| MONTHS[(value.clamp(1, 12) - 1) as usize].to_owned();
            out.push_str(&format!(" in {}", joined(months.iter().map(|part| plain(part, &named, "month")), "and")));
        }
        out.push('.');
        out
    }
}

/// The instant of a local time: at the jump where the clocks leave it out, the first where it comes twice.
fn instant(zone: &TimeZone, local: jiff::civil::DateTime) -> Option<Timestamp> {
    use jiff::tz::AmbiguousOffset;
    match zone.to_ambiguous_timestamp(local).offset() {
        AmbiguousOffset::Unambiguous { offset } => offset.to_timestamp(local).ok(),
        AmbiguousOffset::Fold { before, .. } => before.to_timestamp(local).ok(),
        // By the offset after the jump it lies before the jump; what follows that is the jump itself.
        AmbiguousOffset::Gap { after, .. } => {
            let before = after.to_timestamp(local).ok()?;
            zone.following(before).next().map(|transition| transition.timestamp())
        }
    }
}

fn read(field: &Field, part: &str) -> Result<Part, String> {
    let (range, step) = part.split_once('/').map_or((part, None), |(range, step)| (range, Some(step)));
    let span = field.greatest - field.least + 1;
    let by = match step.map(str::parse::<u32>) {
        None => None,
        Some(Ok(by)) if (1..span).contains(&by) => Some(by),
        Some(Ok(by)) => {
            return Err(format!("the step {by} in `{part}` is not between 1 and {}", span - 1));
        }
        Some(Err(_)) => return Err(format!("`{part}` has no number as its step")),
    };
    if range == "*" {
        return Ok(by.map_or(Part::Any, |by| Part::Step { from: field.least, to: field.greatest, by }));
    }
    if let Some((from, to)) = range.split_once('-') {
        let (from, to) = (value(field, from)?, value(field, to)?);
        // Sunday may stand at the end of a week as well.
        let to = if field.name == "weekday" && to == 0 && from > 0 { 7 } else { to };
        if from > to {
            return Err(format!("`{range}` runs backwards; write it as two ranges with a comma between them"));
        }
        return Ok(by.map_or(Part::Range(from, to), |by| Part::Step { from, to, by }));
    }
    if by.is_some() {
        return Err(format!("`{part}`: a step needs `*` or a range, such as `{range}-{}/…`", field.greatest));
    }
    let special = match field.name {
        "day of month" if range.eq_ignore_ascii_case("L") => Some(Part::Last),
        "day of month" => range.strip_suffix(['W', 'w']).map(|day| value(field, day)).transpose()?.map(Part::Nearest),
        "weekday" => match range.split_once('#') {
            Some((day, nth)) => {
                let nth = match nth {
                    "L" | "l" => None,
                    nth => Some(nth.parse().ok().filter(|nth| (1..=5).contains(nth)).ok_or_else(|| {
                        format!("`{range}`: behind `#` stands a number from 1 to 5, or L for the last")
                    })?),
                };
                Some(Part::Nth(value(field, day)?, nth))
            }
            None => None,
        },
        _ => None,
    };
    match special {
        Some(part) => Ok(part),
        None => value(field, range).map(Part::Value),
    }
}

fn value(field: &Field, text: &str) -> Result<u32, String> {
    if let Ok(number) = text.parse::<u32>() {
        return match (field.least..=field.greatest).contains(&number) {
            true => Ok(number),
            false => Err(format!("{number} is not between {} and {}", field.least, field.greatest)),
        };
    }
    let named = |name: &&str| text.len() == 3 && name[..3].eq_ignore_ascii_case(text);
    match field.names.iter().position(named) {
        Some(at) => Ok(field.least + at as u32),
        None => Err(format!("`{text}` is no {}", field.name)),
    }
}

/// When on a day.
fn times(minutes: &[Part], hours: &[Part]) -> String {
    let values = |parts: &[Part]| -> Option<Vec<u32>> {
        let mut all: Vec<u32> = Vec::new();
        for part in parts {
            match part {
                Part::Value(value) => all.push(*value),
                Part::Range(from, to) => all.extend(*from..=*to),
                _ => return None,
            }
        }
        all.sort_unstable();
        all.dedup();
        Some(all)
    };
    if let (Some(minutes), Some(hours)) = (values(minutes), values(hours))
        && minutes.len() * hours.len() <= 6
    {
        let all = hours.iter().flat_map(|hour| minutes.iter().map(move |minute| format!("{hour:02}:{minute:02}")));
        return format!("At {}", joined(all, "and"));
    }
    let number = |value: u32| value.to_string();
    let every = |parts: &[Part]| parts.iter().all(|part| *part == Part::Any);
    let minute = match minutes {
        parts if every(parts) => "Every minute".to_owned(),
        [Part::Step { from: 0, to: 59, by }] if 60 % by == 0 => format!("Every {by} minutes"),
        parts => format!("At minute {}", joined(parts.iter().map(|part| plain(part, &number, "minute")), "and")),
    };
    match hours {
        parts if every(parts) => format!("{minute} of every hour"),
        parts => format!("{minute} of hour {}", joined(parts.iter().map(|part| plain(part, &number, "hour")), "and")),
    }
}

/// A part whose values have names.
fn plain(part: &Part, name: &dyn Fn(u32) -> String, unit: &str) -> String {
    match part {
        Part::Value(value) => name(*value),
        Part::Range(from, to) => format!("{} to {}", name(*from), name(*to)),
        Part::Step { from, to, by } => format!("every {by}. {unit} from {} to {}", name(*from), name(*to)),
        _ => format!("every {unit}"),
    }
}

fn day_words(part: &Part) -> String {
    match part {
        Part::Last => "the last day of the month".into(),
        Part::Nearest(day) => format!("the workday nearest to day {day}"),
        Part::Value(day) => format!("day {day}"),
        Part::Range(from, to) => format!("days {from} to {to}"),
        part => plain(part, &|value| value.to_string(), "day"),
    }
}

fn weekday_words(part: &Part) -> String {
    let name = |value: u32| WEEKDAYS[(value % 8) as usize].to_owned();
    match part {
        Part::Nth(day, None) => format!("the last {} of the month", name(*day)),
        Part::Nth(day, Some(nth)) => {
            format!("the {} {} of the month", ORDINALS[(nth.clamp(&1, &5) - 1) as usize], name(*day))
        }
        part => plain(part, &name, "weekday"),
    }
}

/// `a`, `a and b`, `a, b and c`.
fn joined(parts: impl Iterator<Item = String>, last: &str) -> String {
    let all: Vec<String> = parts.collect();
    match all.as_slice() {
        [] => String::new(),
        [one] => one.clone(),
        [most @ .., end] => format!("{} {last} {end}", most.join(", ")),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn sentences_say_when() {
        for (pattern, words) in [
            ("0 6 * * *", "At 06:00 every day."),
            ("0 6 * * MON-FRI", "At 06:00 on Monday to Friday."),
            ("45 2,14 * * *", "At 02:45 and 14:45 every day."),
            ("*/15 * * * *", "Every 15 minutes of every hour every day."),
            ("*/7 8-9 * * *", "At minute every 7. minute from 0 to 59 of hour 8 to 9 every day."),
            ("30 23 L * *", "At 23:30 on the last day of the month."),
            ("0 9 15W MAY,AUG *", "At 09:00 on the workday nearest to day 15 in May and August."),
            ("0 12 * * MON#1", "At 12:00 on the first Monday of the month."),
            ("0 12 * * FRI#L", "At 12:00 on the last Friday of the month."),
            ("0 0 13 * FRI", "At 00:00 on day 13, or on Friday."),
            ("0 0 * 2-4 *", "At 00:00 on every day in February to April."),
            ("* * 1-7 * *", "Every minute of every hour on days 1 to 7."),
        ] {
            assert_eq!(Pattern::parse(pattern).expect(pattern).words(), words, "{pattern}");
        }
    }

    #[test]
    fn a_fault_names_its_field_and_reason() {
        for (pattern, says) in [
            ("61 6 * * *", "minute: 61 is not between 0 and 59"),
            ("0 22-2 * * *", "hour: `22-2` runs backwards"),
            ("5/15 * * * *", "minute: `5/15`: a step needs `*` or a range"),
            ("*/90 * * * *", "minute: the step 90 in `*/90` is not between 1 and 59"),
            ("0 6 * * FRI-MON", "weekday: `FRI-MON` runs backwards"),
            ("0 6 * * MOONDAY", "weekday: `MOONDAY` is no weekday"),
            ("0 6 31 2 *", "no date fits it"),
            ("0 6 * * MON#6", "weekday: `MON#6`: behind `#` stands"),
            ("0 6 * *", "it has 4 fields, not five"),
            ("@daily", "it has 1 fields, not five"),
        ] {
            let error = Pattern::parse(pattern).expect_err(pattern).to_string();
            assert!(error.contains(says), "{pattern}: {error}");
        }
        assert!(Pattern::parse("0 6 * * FRI-SUN").is_ok());
    }
}
