//! A compiled allowance: the arithmetic of rates and quotas, without a clock or records.
//!
//! What a caller has left is a [`Meter`]. Processes take portions of it ([`Allowance::take`]) and give them out request by
//! request, so no request is counted twice and the sum never exceeds the allowance.
//!
//! A rate is a bucket: it holds `burst` requests and fills evenly. A quota is a count that begins anew with each period.

use std::time::Duration;

use jiff::tz::TimeZone;
use jiff::{ToSpan, Unit};
use kanzlei_lang::document::allowance::{self as document, Period};
use kanzlei_model::time::{Span, Timestamp};

/// What a request is in a bucket, in parts of it.
const ONE: i64 = 1_000_000;
/// What may be missing of one: what was lost by rounding while the bucket was looked at. It is owed afterwards.
const ROUNDED: i64 = 10;

/// A compiled allowance.
#[derive(Clone, Debug)]
pub struct Allowance {
    /// Its name.
    pub name: String,
    /// Whom it is for.
    pub about: String,
    /// So many requests in so long.
    pub rate: Option<(u32, Duration)>,
    /// How many requests may come at once.
    pub burst: u32,
    /// So many requests in each period.
    pub quota: Option<(u64, Period)>,
    /// The zone of the calendar.
    pub zone: TimeZone,
    /// The most requests of one caller that are answered at the same time.
    pub at_once: Option<u32>,
    /// The largest body in bytes.
    pub body: Option<usize>,
    /// Its policies as `RateLimit-Policy` writes them (draft-ietf-httpapi-ratelimit-headers).
    pub policies: String,
    names: [String; 3],
}

/// A policy of an allowance.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Policy {
    /// So many requests in so long.
    Rate,
    /// So many requests in each period.
    Quota,
    /// So many requests at the same time.
    AtOnce,
}

/// What one caller has used.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Meter {
    /// What is in the bucket, in millionths of a request.
    pub bucket: i64,
    /// When that was so.
    pub at: Timestamp,
    /// When the period began that is counted.
    pub period: Timestamp,
    /// Requests in it.
    pub used: u64,
}

/// What a caller may do.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Taken {
    /// Requests that it may make now.
    pub granted: u32,
    /// Requests left in the bucket, beside those.
    pub left_of_rate: u64,
    /// How long until the bucket is full.
    pub full_in: Duration,
    /// Requests left in the period, beside those.
    pub left_of_quota: u64,
    /// How long until the next period.
    pub period_ends_in: Duration,
    /// Where nothing is granted: when to ask again.
    pub again_in: Duration,
    /// Where nothing is granted: whether the quota is used up, not the rate.
    pub quota_used_up: bool,
}

impl Allowance {
    /// Compiles a document.
    pub fn of(document: &document::Allowance) -> Self {
        let name = &document.name.text;
        let mut made = Allowance {
            name: name.clone(),
            about: document.about.clone(),
            rate: document.rate,
            burst: document.burst.or(document.rate.map(|(count, _)| count)).unwrap_or(0),
            quota: document.quota,
            zone: document.zone.clone(),
            at_once: document.at_once,
            body: document.body.map(|body| body as usize),
            policies: String::new(),
            names: [name.clone(), format!("{name}-quota"), format!("{name}-at-once")],
        };
        made.policies = made.described();
        made
    }

    /// The name of a policy.
    pub fn policy(&self, policy: Policy) -> &str {
        &self.names[policy as usize]
    }

    /// Whether requests are counted at all.
    pub fn counts(&self) -> bool {
        self.rate.is_some() || self.quota.is_some()
    }

    /// What a caller has before its first request.
    pub fn fresh(&self, now: Timestamp) -> Meter {
        Meter { bucket: i64::from(self.burst) * ONE, at: now, period: self.period(now).0, used: 0 }
    }

    /// Takes at most so many requests from a meter, and returns to it what an earlier portion left over.
    pub fn take(&self, meter: &mut Meter, wanted: u32, returned: u32, now: Timestamp) -> Taken {
        let mut taken = Taken { granted: wanted, left_of_rate: u64::MAX, left_of_quota: u64::MAX, ..Taken::default() };
        let full = i64::from(self.burst) * ONE;
        if let Some((count, every)) = self.rate {
            let elapsed = now.since(meter.at).as_micros().max(0);
            let filled = i128::from(elapsed) * i128::from(count) * i128::from(ONE) / (every.as_micros().max(1) as i128);
            let filled = i64::try_from(filled.min(i128::from(full))).unwrap_or(full);
            meter.bucket = (meter.bucket + filled + i64::from(returned) * ONE).min(full);
            let whole = (meter.bucket + ROUNDED).max(0) / ONE;
            taken.granted = taken.granted.min(u32::try_from(whole).unwrap_or(u32::MAX));
        }
        meter.at = meter.at.max(now);
        let (begins, ends) = self.period(now);
        if let Some((count, _)) = self.quota {
            if meter.period < begins {
                (meter.period, meter.used) = (begins, 0);
            } else {
                meter.used = meter.used.saturating_sub(returned.into());
            }
            let left = count.saturating_sub(meter.used);
            taken.granted = taken.granted.min(u32::try_from(left).unwrap_or(u32::MAX));
            taken.quota_used_up = left == 0;
            taken.left_of_quota = left - u64::from(taken.granted).min(left);
            taken.period_ends_in = between(now, ends);
        }
        meter.used = meter.used.saturating_add(taken.granted.into());
        if let Some((count, every)) = self.rate {
            meter.bucket -= i64::from(taken.granted) * ONE;
            taken.left_of_rate = ((meter.bucket + ROUNDED).max(0) / ONE) as u64;
            let one = every.as_secs_f64() / f64::from(count.max(1));
            let missing =
                |wanted: i64| Duration::from_secs_f64((wanted - meter.bucket).max(0) as f64 / ONE as f64 * one);
            taken.full_in = missing(full);
            taken.again_in = missing(ONE);
        }
        if taken.granted > 0 {
            taken.again_in = Duration::ZERO;
        } else if taken.quota_used_up {
            taken.again_in = taken.period_ends_in;
        }
        taken
    }

    /// The period of an instant, from its begin to the next one.
    pub fn period(&self, now: Timestamp) -> (Timestamp, Timestamp) {
        let Some((_, period)) = self.quota else { return (now, now) };
        let at = jiff::Timestamp::from(now).to_zoned(self.zone.clone());
        let (begin, long) = match period {
            Period::Hour => (at.start_of_hour(), 1.hour()),
            Period::Day => (at.start_of_day().ok(), 1.day()),
            Period::Week => {
                let days = i64::from(at.weekday().to_monday_zero_offset());
                (at.start_of_day().ok().and_then(|day| day.checked_sub(days.days()).ok()), 1.week())
            }
            Period::Month => (at.first_of_month().ok().and_then(|day| day.start_of_day().ok()), 1.month()),
        };
        let Some(begin) = begin else { return (now, now) };
        let end = begin.checked_add(long).unwrap_or_else(|_| begin.clone());
        (begin.timestamp().into(), end.timestamp().into())
    }

    /// Its limits as a document writes them: `120/min, 50000/month`.
    pub fn limits(&self) -> String {
        let rate = self.rate.map(|(count, every)| match kanzlei_model::duration::short(every).as_str() {
            "1min" => format!("{count}/min"),
            "1s" => format!("{count}/s"),
            other => format!("{count}/{other}"),
        });
        let quota = self.quota.map(|(count, period)| {
            let name = Period::NAMES.iter().find(|(_, known)| *known == period).map_or("", |(name, _)| name);
            format!("{count}/{name}")
        });
        let at_once = self.at_once.map(|most| format!("{most} at once"));
        let body = self.body.map(|body| format!("bodies of {body} bytes"));
        [rate, quota, at_once, body].into_iter().flatten().collect::<Vec<_>>().join(", ")
    }

    /// Each policy with its requests, and with its seconds or its unit.
    fn described(&self) -> String {
        let seconds = |period| match period {
            Period::Hour => 3600,
            Period::Day => 86_400,
            Period::Week => 7 * 86_400,
            Period::Month => 30 * 86_400,
        };
        let rate =
            self.rate.map(|(count, every)| (Policy::Rate, count.into(), format!("w={}", every.as_secs().max(1))));
        let quota = self.quota.map(|(count, period)| (Policy::Quota, count, format!("w={}", seconds(period))));
        let at_once = self.at_once.map(|most| (Policy::AtOnce, most.into(), "qu=\"concurrent-requests\"".to_owned()));
        let all = [rate, quota, at_once].into_iter().flatten();
        let all = all.map(|(policy, count, more): (_, u64, _)| format!("\"{}\";q={count};{more}", self.policy(policy)));
        all.collect::<Vec<_>>().join(", ")
    }
}

/// The start of the hour of an instant.
trait Hours {
    fn start_of_hour(&self) -> Option<jiff::Zoned>;
}

impl Hours for jiff::Zoned {
    fn start_of_hour(&self) -> Option<jiff::Zoned> {
        self.round(jiff::ZonedRound::new().smallest(Unit::Hour).mode(jiff::RoundMode::Trunc)).ok()
    }
}

fn between(from: Timestamp, to: Timestamp) -> Duration {
    let span: Span = to.since(from);
    Duration::from_micros(span.as_micros().max(0) as u64)
}

#[cfg(test)]
mod tests {
    use kanzlei_lang::document::{self, Document, Source};

    use super::*;

    fn allowance(rest: &str) -> Allowance {
        let source = Source::new("a.yaml", format!("allowance: partners\n{rest}"));
        match document::read(&source, &|_| None) {
            (Some(Document::Allowance(read)), findings) if findings.is_empty() => Allowance::of(&read),
            (_, findings) => panic!("{findings:?}"),
        }
    }

    fn at(text: &str) -> Timestamp {
        text.parse().expect("an instant")
    }

    #[test]
    fn a_bucket_empties_and_fills_evenly() {
        let two = allowance("rate: 2/min\n");
        let begin = at("2027-03-04T06:00:00Z");
        let mut meter = two.fresh(begin);
        for (seconds, granted, left, again) in
            [(0, 1, 1, 0), (1, 1, 0, 0), (2, 0, 0, 28), (29, 0, 0, 1), (30, 1, 0, 0), (600, 1, 1, 0)]
        {
            let taken = two.take(&mut meter, 1, 0, begin + Span::from_secs(seconds));
            assert_eq!(
                (taken.granted, taken.left_of_rate, taken.again_in.as_secs()),
                (granted, left, again),
                "{seconds}"
            );
        }
        // A portion is part of the bucket; what is left of it comes back.
        let many = allowance("rate: 60/min\nburst: 10\n");
        let mut meter = many.fresh(begin);
        assert_eq!(many.take(&mut meter, 8, 0, begin).granted, 8);
        assert_eq!(many.take(&mut meter, 8, 5, begin).granted, 7);
        assert_eq!(many.take(&mut meter, 8, 0, begin).granted, 0);
        // A clock that goes back fills nothing.
        assert_eq!(many.take(&mut meter, 8, 0, begin - Span::from_secs(60)).granted, 0);
        assert_eq!(many.take(&mut meter, 100, 0, begin + Span::from_days(1)).granted, 10, "no more than the burst");
    }

    #[test]
    fn a_quota_begins_anew_with_its_period() {
        for (rest, now, begins, ends) in [
            (
                "quota: 3/month\nzone: Europe/Oslo\n",
                "2027-03-31T21:59:59Z",
                "2027-02-28T23:00:00Z",
                "2027-03-31T22:00:00Z",
            ),
            ("quota: 3/day\n", "2027-03-04T23:59:59Z", "2027-03-04T00:00:00Z", "2027-03-05T00:00:00Z"),
            ("quota: 3/week\n", "2027-03-04T06:00:00Z", "2027-03-01T00:00:00Z", "2027-03-08T00:00:00Z"),
            ("quota: 3/hour\n", "2027-03-04T06:59:59Z", "2027-03-04T06:00:00Z", "2027-03-04T07:00:00Z"),
        ] {
            let three = allowance(rest);
            let now = at(now);
            assert_eq!(three.period(now), (at(begins), at(ends)), "{rest}");
            let mut meter = three.fresh(now);
            assert_eq!(three.take(&mut meter, 2, 0, now).granted, 2);
            let last = three.take(&mut meter, 2, 0, now);
            assert_eq!((last.granted, last.left_of_quota), (1, 0));
            let none = three.take(&mut meter, 1, 0, now);
            assert!(none.granted == 0 && none.quota_used_up && none.again_in == none.period_ends_in, "{none:?}");
            assert_eq!(three.take(&mut meter, 5, 0, at(ends)).granted, 3, "{rest}");
        }
    }

    #[test]
    fn both_bounds_hold() {
        let both = allowance("rate: 10/s\nquota: 12/day\n");
        let begin = at("2027-03-04T06:00:00Z");
        let mut meter = both.fresh(begin);
        assert_eq!(both.take(&mut meter, 20, 0, begin).granted, 10);
        let later = both.take(&mut meter, 20, 0, begin + Span::from_secs(10));
        assert_eq!((later.granted, later.left_of_quota), (2, 0));
        let none = both.take(&mut meter, 1, 0, begin + Span::from_secs(20));
        assert!(none.quota_used_up && none.left_of_rate > 0);
        assert_eq!(both.policies, "\"partners\";q=10;w=1, \"partners-quota\";q=12;w=86400");
    }
}
