//! The functions ECMAScript has no good answer for: `time.*` on RFC 3339 texts, `digest.*`, `list.*`.
//!
//! Instants are RFC 3339 texts, spans ISO 8601 durations or the short form (`48h`, `2 days`), zones
//! IANA names. Nothing here reads a clock.

use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use hmac::{Hmac, Mac};
use jiff::tz::TimeZone;
use jiff::{Timestamp, ToSpan, Unit, Zoned};
use sha2::{Digest, Sha256};

use super::{arg, function};
use crate::expr::ast::Arg;
use crate::expr::eval::{Eval, Res, range_failure, type_failure};
use crate::expr::functions::Static;
use crate::expr::ops;
use crate::expr::script::heap::Items;
use kanzlei_model::hex;
use kanzlei_model::value::{ObjectBuilder, Value};

/// The time between two instants in a unit, seconds by default.
fn between(from: Timestamp, to: Timestamp, unit: &str) -> Res {
    let seconds = (to.as_nanosecond() - from.as_nanosecond()) as f64 / 1e9;
    let per = match unit.trim_end_matches('s') {
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
    };
    Ok(Value::Num(seconds / per))
}

impl Eval<'_> {
    pub(super) fn ours(&mut self, what: Static, args: &[Value]) -> Res {
        use Static::*;
        self.work(50)?;
        Ok(match what {
            TimeAdd | TimeSubtract => {
                let at = self.instant(args, 0)?;
                let span = self.text_at(args, 1)?;
                let span = kanzlei_model::duration::parse_span(&span).or_else(|e| range_failure(e.to_string()))?;
                let span = if what == TimeSubtract { span.negate() } else { span };
                let zone = self.zone(args, 2)?;
                match at.to_zoned(zone).checked_add(span) {
                    Ok(sum) => return self.make_text(written(&sum)),
                    Err(_) => {
                        return range_failure(format!("`{}` lies outside the years that instants have", what.name()));
                    }
                }
            }
            TimeBetween => {
                let (from, to) = (self.instant(args, 0)?, self.instant(args, 1)?);
                let unit = match args.get(2) {
                    None | Some(Value::Undefined) => "seconds".into(),
                    Some(unit) => self.text_of(unit)?,
                };
                between(from, to, &unit)?
            }
            TimeCompare => Value::Int(self.instant(args, 0)?.cmp(&self.instant(args, 1)?) as i64),
            TimeFormat => {
                let zoned = self.instant(args, 0)?.to_zoned(self.zone(args, 2)?);
                return match jiff::fmt::strtime::format(&*self.text_at(args, 1)?, &zoned) {
                    Ok(out) => self.make_text(out),
                    Err(error) => range_failure(format!("`time.format`: {error}")),
                };
            }
            TimeFromUnix => {
                let seconds = self.number_at(args, 0, f64::NAN)?;
                let nanoseconds = (seconds * 1e9).round();
                match Timestamp::from_nanosecond(nanoseconds as i128) {
                    Ok(at) if seconds.is_finite() => return self.make_text(at.to_string()),
                    _ => return range_failure(format!("{} is not a time in seconds", ops::number_text(seconds))),
                }
            }
            TimeToUnix => Value::Num(self.instant(args, 0)?.as_nanosecond() as f64 / 1e9),
            TimeIn => {
                let zoned = self.instant(args, 0)?.to_zoned(self.zone(args, 1)?);
                return self.make_text(written(&zoned));
            }
            TimeStartOf => {
                let zoned = self.instant(args, 0)?.to_zoned(self.zone(args, 2)?);
                let unit = self.text_at(args, 1)?;
                return self.start_of(zoned, &unit);
            }
            DigestSha256 | DigestHmacSha256 | DigestBase64 | DigestFromBase64 => {
                let (first, second) = (self.text_at(args, 0)?, self.text_at(args, 1)?);
                return self.digest(what, &first, &second);
            }
            ListChunk => {
                let items = self.items_of(&arg(args, 0), what)?;
                let size = ops::to_integer(self.number_at(args, 1, f64::NAN)?);
                if size < 1.0 {
                    return range_failure("`list.chunk` takes a size of at least 1");
                }
                let size = size.min(items.len().max(1) as f64) as usize;
                return self.make_rows(items.chunks(size).map(|chunk| Value::list(chunk.to_vec())).collect());
            }
            ListRange => return self.range(args),
            ListZip => {
                let mut lists = Vec::with_capacity(args.len());
                for value in args {
                    lists.push(self.items_of(value, what)?);
                }
                let shortest = lists.iter().map(|list| list.len()).min().unwrap_or(0);
                self.will_make(shortest * lists.len() * 24)?;
                let row = |index: usize| Value::list(lists.iter().map(|list| list[index].clone()).collect());
                return self.make_rows((0..shortest).map(row).collect());
            }
            other => return range_failure(format!("`{}` needs a function", other.name())),
        })
    }

    fn instant(&mut self, args: &[Value], index: usize) -> Res<Timestamp> {
        let text = self.text_at(args, index)?;
        match text.parse() {
            Ok(at) => Ok(at),
            Err(_) => range_failure(format!("`{text}` is not an RFC 3339 instant such as 2027-03-04T06:00:00Z")),
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

    /// Digests of a text, and Base64.
    fn digest(&mut self, what: Static, first: &str, second: &str) -> Res {
        self.item_work((first.len() + second.len()) / 4)?;
        match what {
            Static::DigestSha256 => self.make_text(hex::of(&Sha256::digest(first.as_bytes()))),
            Static::DigestHmacSha256 => match Hmac::<Sha256>::new_from_slice(first.as_bytes()) {
                Ok(mut mac) => {
                    mac.update(second.as_bytes());
                    self.make_text(hex::of(&mac.finalize().into_bytes()))
                }
                Err(_) => range_failure("this key cannot be used"),
            },
            Static::DigestBase64 => self.make_text(STANDARD.encode(first.as_bytes())),
            _ => match STANDARD.decode(first.as_bytes()).ok().and_then(|bytes| String::from_utf8(bytes).ok()) {
                Some(decoded) => self.make_text(decoded),
                None => range_failure("`digest.fromBase64` was given text that is not Base64 of UTF-8"),
            },
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

    /// Numbers from one to another by a step.
    fn range(&mut self, args: &[Value]) -> Res {
        let first = self.number_at(args, 0, 0.0)?;
        let (from, to) = if args.len() == 1 { (0.0, first) } else { (first, self.number_at(args, 1, 0.0)?) };
        let step = self.number_at(args, 2, 1.0)?;
        let count = ((to - from) / step).ceil();
        if !count.is_finite() || !step.is_finite() {
            return range_failure("`list.range` takes finite numbers and a step that is not 0");
        }
        let count = count.clamp(0.0, 1e18) as usize;
        self.item_work(count)?;
        self.will_make(count.saturating_mul(24))?;
        self.make_list((0..count).map(|i| Value::Num(from + i as f64 * step)).collect())
    }

    /// The functions over lists that accept a function: group, sortBy, sum, unique.
    pub(super) fn list_function(&mut self, what: Static, args: &[Arg]) -> Res {
        let values = self.arg_values(args)?;
        let first = arg(&values, 0);
        let list = self.items_of(&first, what)?;
        let key_of = function(args, 1);
        let mut keyed = Vec::with_capacity(list.len());
        for item in list.iter() {
            self.item_work(1)?;
            let key = match key_of {
                Some(function) => self.apply(function, std::slice::from_ref(item))?,
                None => item.clone(),
            };
            keyed.push((key, item.clone()));
        }
        match what {
            Static::ListSum => {
                let mut sum = Value::Int(0);
                for (key, _) in &keyed {
                    let number = match key {
                        Value::Int(_) | Value::Num(_) => key.clone(),
                        other => Value::Num(self.number_of(other)?),
                    };
                    sum = ops::binary(crate::expr::ast::BinaryOp::Add, &sum, &number);
                }
                Ok(sum)
            }
            Static::ListSortBy => {
                // Sorting pairs by their first place; equal or incomparable keys keep their order.
                let bytes: u64 = keyed.iter().map(|(key, _)| 1 + key.weight() / 16).sum();
                self.work(bytes * (1 + u64::from(keyed.len().max(1).ilog2())))?;
                let positions = ranks(&keyed);
                self.make_list(positions.into_iter().map(|at| keyed[at].1.clone()).collect())
            }
            Static::ListGroup => {
                let mut groups: indexmap::IndexMap<kanzlei_model::value::Str, Vec<Value>> = indexmap::IndexMap::new();
                for (key, item) in keyed {
                    self.work(4)?;
                    groups.entry(self.text_of(&key)?).or_default().push(item);
                }
                let mut builder = ObjectBuilder::with_capacity(groups.len());
                let count = groups.len();
                for (key, group) in groups {
                    let group = self.make_list(group)?;
                    builder.insert(key, group);
                }
                self.make_object(builder, count)
            }
            _ => {
                let mut seen = std::collections::HashSet::new();
                let mut out = Vec::new();
                for (key, item) in keyed {
                    let key = self.settled(&key)?;
                    self.work(8 + key.weight() / 8)?;
                    self.will_make(key.weight().min(1 << 40) as usize)?;
                    if seen.insert((ops::type_of(&key), key.to_json())) {
                        out.push(item);
                    }
                }
                self.make_list(out)
            }
        }
    }
}

/// Item positions in the order of their keys: numbers before texts, the rest last.
fn ranks(keyed: &[(Value, Value)]) -> Vec<usize> {
    let rank = |value: &Value| match value {
        Value::Int(_) => 0,
        Value::Num(num) if !num.is_nan() => 0,
        Value::Text(_) => 1,
        Value::Bool(_) => 2,
        _ => 3,
    };
    let mut positions: Vec<usize> = (0..keyed.len()).collect();
    positions.sort_by(|a, b| {
        let (a, b) = (&keyed[*a].0, &keyed[*b].0);
        rank(a).cmp(&rank(b)).then_with(|| match (a, b) {
            (Value::Text(a), Value::Text(b)) => ops::compare_text(a, b),
            (Value::Bool(a), Value::Bool(b)) => a.cmp(b),
            _ if rank(a) == 0 => ops::plain_number(a).total_cmp(&ops::plain_number(b)),
            _ => std::cmp::Ordering::Equal,
        })
    });
    positions
}

impl Eval<'_> {
    fn items_of(&self, value: &Value, what: Static) -> Res<Items> {
        match self.items(value) {
            Some(items) => Ok(items),
            None => type_failure(format!("`{}` takes an array, not {}", what.name(), value.kind())),
        }
    }
}

/// RFC 3339 with the zone's offset, `Z` for UTC.
fn written(zoned: &Zoned) -> String {
    if *zoned.time_zone() == TimeZone::UTC {
        zoned.timestamp().to_string()
    } else {
        zoned.timestamp().display_with_offset(zoned.offset()).to_string()
    }
}
