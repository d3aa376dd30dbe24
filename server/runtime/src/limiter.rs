//! Limits of a service: how many calls run at once, and how many start in an interval. A call waits for its turn
//! within its own timeout, so every wait has a bound.
//!
//! Limits hold for each process, or over all of them where the service says so: then its places are those of
//! [`places`](crate::places) and its turns those of [`paces`](crate::paces).

use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use kanzlei_store::Store;
use tokio::sync::{OwnedSemaphorePermit, Semaphore};
use tokio::time::Instant;

use crate::paces::Paces;
use crate::places::{self, NoPlace, Places};

/// What the limits of a service are.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Limits {
    /// The most calls at the same time.
    pub at_once: Option<u32>,
    /// A number of calls and an interval.
    pub pace: Option<(u32, Duration)>,
    /// The name under which all processes count together; nothing where each counts for itself.
    pub shared: Option<String>,
}

/// Counts over all processes.
pub struct Shared {
    /// Places among the calls that run at once.
    pub places: Arc<Places>,
    /// Turns of a pace.
    pub paces: Paces,
}

impl Shared {
    /// Counts by the records of all processes.
    pub fn new(store: Store) -> Self {
        Shared { places: Places::new(store.clone()), paces: Paces::new(store) }
    }

    /// For tests of limits that are not shared: there is no database.
    #[cfg(test)]
    pub fn nobody() -> Self {
        Shared::new(Store::connect("mysql://nobody@127.0.0.1:1/none", 1).expect("an address"))
    }
}

/// Bounds how many calls of one service run at once, and their pace.
#[derive(Debug)]
pub struct Limiter {
    limits: Limits,
    places: Option<Arc<Semaphore>>,
    /// When the next call may begin.
    next: Mutex<Option<Instant>>,
}

/// A place among the running calls; dropped when the call ends.
pub enum Place {
    /// Nothing bounds how many run.
    Free,
    /// One of this process.
    Own(OwnedSemaphorePermit),
    /// One of all processes.
    Shared(places::Place),
}

/// Why a call has no turn.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum HeldUp {
    /// Its turn would come too late.
    Full,
    /// The database is unavailable, which counts for all processes.
    Unavailable,
}

impl Limiter {
    /// Without limits every call passes.
    pub fn new(limits: Limits) -> Self {
        let own = limits.at_once.filter(|_| limits.shared.is_none());
        let places = own.map(|count| Arc::new(Semaphore::new(count as usize)));
        Limiter { limits, places, next: Mutex::default() }
    }

    /// What its limits are.
    pub fn limits(&self) -> &Limits {
        &self.limits
    }

    /// Waits for a place and for the pace.
    ///
    /// # Errors
    /// That this takes longer than `within`, or that nobody counts.
    pub async fn enter(&self, within: Duration, shared: &Shared) -> Result<Place, HeldUp> {
        if self.limits.at_once.is_none() && self.limits.pace.is_none() {
            return Ok(Place::Free);
        }
        let until = Instant::now() + within;
        let place = match (&self.limits.shared, self.limits.at_once, &self.places) {
            (Some(name), Some(most), _) => {
                let place = Box::pin(shared.places.enter(name, most, Some(until.into_std()))).await;
                Place::Shared(place.map_err(|why| match why {
                    NoPlace::Full => HeldUp::Full,
                    NoPlace::Unavailable => HeldUp::Unavailable,
                })?)
            }
            (_, _, Some(places)) => {
                let place = tokio::time::timeout_at(until, places.clone().acquire_owned()).await;
                Place::Own(place.ok().and_then(Result::ok).ok_or(HeldUp::Full)?)
            }
            _ => Place::Free,
        };
        if let Some((count, interval)) = self.limits.pace {
            let apart = interval / count;
            let turn = match &self.limits.shared {
                Some(name) => Box::pin(shared.paces.turn(name, apart, until.into_std())).await?.into(),
                None => self.turn(Instant::now(), until, apart).ok_or(HeldUp::Full)?,
            };
            tokio::time::sleep_until(turn).await;
        }
        Ok(place)
    }

    /// The next free turn; `None` when it is later than `until`.
    fn turn(&self, now: Instant, until: Instant, apart: Duration) -> Option<Instant> {
        let mut next = self.next.lock().unwrap_or_else(PoisonError::into_inner);
        let begins = next.map_or(now, |next| next.max(now));
        if begins > until {
            return None;
        }
        *next = Some(begins + apart);
        Some(begins)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test]
    async fn a_call_without_a_place_in_its_time_fails() {
        let shared = Shared::nobody();
        let places = Limiter::new(Limits { at_once: Some(1), ..Limits::default() });
        let first = places.enter(Duration::ZERO, &shared).await.expect("a place");
        assert_eq!(places.enter(Duration::from_millis(1), &shared).await.err(), Some(HeldUp::Full));
        drop(first);
        assert!(places.enter(Duration::from_secs(5), &shared).await.is_ok());
    }

    #[test]
    fn the_pace_spreads_calls_evenly() {
        let paced = Limiter::new(Limits { pace: Some((4, Duration::from_secs(1))), ..Limits::default() });
        let (now, quarter) = (Instant::now(), Duration::from_millis(250));
        let turn = |at: Instant| paced.turn(at, at + Duration::from_secs(1), quarter).map(|turn| turn - now);
        let turns: Vec<_> = (0..6).map(|_| turn(now)).collect();
        assert_eq!(turns[..5], [0, 250, 500, 750, 1000].map(|ms| Some(Duration::from_millis(ms))));
        assert_eq!(turns[5], None, "its turn would come too late");
        // Unused turns are not saved.
        let later = now + Duration::from_secs(10);
        assert_eq!((turn(later), turn(later)), (Some(Duration::from_secs(10)), Some(Duration::from_millis(10_250))));
    }
}
