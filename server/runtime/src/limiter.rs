//! Limits of a service: how many calls run at once, and how many start in an interval. A call waits for its turn
//! within its own timeout, so every wait has a bound.

use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use tokio::sync::{OwnedSemaphorePermit, Semaphore};
use tokio::time::Instant;

/// Bounds how many calls of one service run at once, and their pace.
#[derive(Debug)]
pub struct Limiter {
    at_once: Option<u32>,
    places: Option<Arc<Semaphore>>,
    pace: Option<(u32, Duration)>,
    /// When the next call may begin.
    next: Mutex<Option<Instant>>,
}

/// A place among the running calls; dropped when the call ends.
pub type Place = Option<OwnedSemaphorePermit>;

impl Limiter {
    /// `pace` is a number of calls and an interval; without bounds every call passes.
    pub fn new(at_once: Option<u32>, pace: Option<(u32, Duration)>) -> Self {
        let places = at_once.map(|count| Arc::new(Semaphore::new(count as usize)));
        Limiter { at_once, places, pace, next: Mutex::default() }
    }

    /// Whether these are its limits.
    pub fn is(&self, at_once: Option<u32>, pace: Option<(u32, Duration)>) -> bool {
        self.at_once == at_once && self.pace == pace
    }

    /// Waits for a place and for the pace; `None` when that takes longer than `within`.
    pub async fn enter(&self, within: Duration) -> Option<Place> {
        if self.places.is_none() && self.pace.is_none() {
            return Some(None);
        }
        let until = Instant::now() + within;
        let place = match &self.places {
            Some(places) => Some(tokio::time::timeout_at(until, places.clone().acquire_owned()).await.ok()?.ok()?),
            None => None,
        };
        if let Some((count, interval)) = self.pace {
            tokio::time::sleep_until(self.turn(Instant::now(), until, interval / count)?).await;
        }
        Some(place)
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
        let places = Limiter::new(Some(1), None);
        let first = places.enter(Duration::ZERO).await.expect("a place");
        assert!(places.enter(Duration::from_millis(1)).await.is_none(), "the only place is taken");
        drop(first);
        assert!(places.enter(Duration::from_secs(5)).await.is_some());
    }

    #[test]
    fn the_pace_spreads_calls_evenly() {
        let paced = Limiter::new(None, Some((4, Duration::from_secs(1))));
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
