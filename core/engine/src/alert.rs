//! When an alert begins, is announced and ends: a machine that is stepped with whether its condition holds.
//!
//! It knows no measures, no clock and no records. A round steps it, records what it returns, and queues the notice; a step that is
//! repeated because a process died in between returns the same notice again, whose id follows from the standing.
//!
//! ```
//! use kanzlei_engine::alert::{Notice, Standing, Terms, step};
//! use kanzlei_model::time::{Span, Timestamp};
//! let terms = Terms { lasting: Span::from_secs(60), ..Terms::default() };
//! let at = |second| Timestamp::EPOCH + Span::from_secs(second);
//! let first = step(&Standing::default(), &terms, Some(true), false, at(0));
//! assert_eq!((first.standing.began, first.notice), (None, None), "it must last a minute");
//! let second = step(&first.standing, &terms, Some(true), false, at(60));
//! assert_eq!((second.standing.began, second.notice), (Some(at(60)), Some(Notice::Began)));
//! ```

use kanzlei_lang::document::alert::Quiet;
use kanzlei_model::time::{Span, Timestamp};

/// How an alert stands.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Standing {
    /// Since when its condition holds.
    pub holds_since: Option<Timestamp>,
    /// Since when the condition of an alert that has begun does not hold.
    pub calm_since: Option<Timestamp>,
    /// When it began; nothing where it has not.
    pub began: Option<Timestamp>,
    /// When it was announced last since it began.
    pub announced: Option<Timestamp>,
}

/// The terms of an alert.
#[derive(Clone, Debug, Default)]
pub struct Terms {
    /// How long the condition must hold before it begins.
    pub lasting: Span,
    /// How long it must not hold before it ends.
    pub calm: Span,
    /// After how long it is announced again.
    pub repeat: Option<Span>,
    /// Hours in which nothing is announced.
    pub quiet: Option<Quiet>,
}

/// What is to be announced.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Notice {
    /// It has begun.
    Began,
    /// It still lasts.
    Lasts,
    /// It has ended, after it was announced.
    Ended,
}

impl Notice {
    /// The word of a notice.
    pub fn name(self) -> &'static str {
        match self {
            Notice::Began => "began",
            Notice::Lasts => "lasts",
            Notice::Ended => "ended",
        }
    }
}

/// What a step returns.
#[derive(Clone, Debug, PartialEq)]
pub struct Step {
    /// How the alert stands from now on, once what is to be announced is.
    pub standing: Standing,
    /// What is to be announced.
    pub notice: Option<Notice>,
    /// When it began, where it ends now.
    pub ended: Option<Timestamp>,
}

/// Steps an alert. `holds` is nothing where its measures are unavailable: it stands as it is then. A silenced alert begins and ends, and announces nothing.
pub fn step(before: &Standing, terms: &Terms, holds: Option<bool>, silenced: bool, now: Timestamp) -> Step {
    let mut standing = before.clone();
    let mut ended = None;
    match holds {
        None => {}
        Some(true) => {
            standing.calm_since = None;
            let since = *standing.holds_since.get_or_insert(now);
            if standing.began.is_none() && now - since >= terms.lasting {
                standing.began = Some(now);
            }
        }
        Some(false) => {
            standing.holds_since = None;
            if let Some(began) = standing.began {
                let since = *standing.calm_since.get_or_insert(now);
                if now - since >= terms.calm {
                    ended = Some(began);
                }
            }
        }
    }
    let muted = silenced || terms.quiet.as_ref().is_some_and(|quiet| is_quiet(quiet, now));
    if ended.is_some() {
        // An end is announced where the beginning was.
        let notice = (before.announced.is_some() && !muted).then_some(Notice::Ended);
        return Step { standing: Standing::default(), notice, ended };
    }
    let notice = match (standing.began, standing.announced) {
        (None, _) => None,
        _ if muted => None,
        (Some(_), None) => Some(Notice::Began),
        (Some(_), Some(last)) => terms.repeat.is_some_and(|repeat| now - last >= repeat).then_some(Notice::Lasts),
    };
    if notice.is_some() {
        standing.announced = Some(now);
    }
    Step { standing, notice, ended }
}

/// Whether an instant lies in quiet hours.
pub fn is_quiet(quiet: &Quiet, now: Timestamp) -> bool {
    let time = jiff::Timestamp::from(now).to_zoned(quiet.zone.clone()).time();
    match quiet.from < quiet.until {
        true => quiet.from <= time && time < quiet.until,
        false => quiet.from <= time || time < quiet.until,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A minute each: `+` the condition holds, `-` it does not, `?` its measures are unavailable, `s` it holds while the alert is silenced.
    fn played(terms: &Terms, minutes: &str, from: Timestamp) -> String {
        let mut standing = Standing::default();
        let mut said = String::new();
        for (at, minute) in minutes.chars().enumerate() {
            let holds = match minute {
                '+' | 's' => Some(true),
                '-' => Some(false),
                _ => None,
            };
            let done = step(&standing, terms, holds, minute == 's', from + Span::from_secs(60) * at as i64);
            said.push(match (done.notice, done.ended, done.standing.began) {
                (Some(Notice::Began), ..) => 'B',
                (Some(Notice::Lasts), ..) => 'L',
                (Some(Notice::Ended), ..) => 'E',
                (None, Some(_), _) => 'e',
                (None, None, Some(_)) => '|',
                (None, None, None) => '.',
            });
            standing = done.standing;
        }
        said
    }

    #[test]
    fn alerts_begin_last_and_end_by_their_terms() {
        let minutes = |count: i64| Span::from_secs(60) * count;
        let plain = Terms::default();
        let patient = Terms { lasting: minutes(2), calm: minutes(2), ..Terms::default() };
        let again = Terms { repeat: Some(minutes(3)), ..Terms::default() };
        for (terms, given, wanted) in [
            (&plain, "--++--", "..B|E."),
            (&plain, "+-+-", "BEBE"),
            (&plain, "+?-", "B|E"),
            (&plain, "??+", "..B"),
            (&patient, "++-+++-+---", ".....B||||E"),
            (&again, "+++++++-", "B||L||LE"),
            (&plain, "ss+-", "||BE"),
            (&plain, "ss-", "||e"),
        ] {
            assert_eq!(played(terms, given, Timestamp::EPOCH), wanted, "{given}");
        }
    }

    #[test]
    fn quiet_hours_put_off_what_still_lasts_afterwards() {
        let time = |hour| jiff::civil::Time::constant(hour, 0, 0, 0);
        let quiet = |from, until| Terms {
            quiet: Some(Quiet { from: time(from), until: time(until), zone: jiff::tz::TimeZone::UTC }),
            ..Terms::default()
        };
        // Three minutes before the hour.
        let at = |hour: i64| Timestamp::EPOCH + Span::from_secs(hour * 3600 - 180);
        for (terms, from, given, wanted) in [
            (quiet(22, 6), at(6), "+++++", "|||B|"),
            (quiet(22, 6), at(6), "++-++", "||eB|"),
            (quiet(22, 6), at(22), "+++++-", "B||||e"),
            (quiet(12, 13), at(13), "++++", "|||B"),
            (quiet(12, 13), at(3), "++++", "B|||"),
        ] {
            assert_eq!(played(&terms, given, from), wanted, "{given}");
        }
    }
}
