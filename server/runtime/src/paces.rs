//! Turns of services whose pace holds over all processes.
//!
//! A process claims the turns of the next [`AHEAD`] together, so a fast pace asks the database rarely. A turn that passes unused is lost:
//! the pace is never exceeded, and stays behind by less than [`AHEAD`] each time a process becomes idle.
//!
//! Bounds: one claim at a time for each service, [`MOST_TURNS`] turns each; a call waits no longer than its own timeout.

use std::collections::HashMap;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use kanzlei_model::time::{Span, Timestamp};
use kanzlei_store::Store;

use crate::clock::now;
use crate::limiter::HeldUp;

/// How far ahead turns are claimed.
const AHEAD: Duration = Duration::from_millis(100);
/// The most turns of one claim.
const MOST_TURNS: u32 = 1000;

/// The turns of this process.
pub struct Paces {
    store: Store,
    claimed: Mutex<HashMap<String, Arc<tokio::sync::Mutex<Turns>>>>,
}

/// Turns that were claimed and not used yet.
#[derive(Default)]
struct Turns {
    next: Timestamp,
    left: u32,
}

impl Paces {
    /// A process that has claimed none yet.
    pub fn new(store: Store) -> Self {
        Paces { store, claimed: Mutex::default() }
    }

    /// When the next call may begin; turns of a name are `apart` from each other.
    ///
    /// # Errors
    /// That this would be after `until`, or that the database is unavailable.
    pub async fn turn(&self, name: &str, apart: Duration, until: Instant) -> Result<Instant, HeldUp> {
        let turns = {
            let mut claimed = self.claimed.lock().unwrap_or_else(PoisonError::into_inner);
            // Names of services that nobody calls now are forgotten with turns that have passed.
            claimed.retain(|known, turns| {
                known == name || Arc::strong_count(turns) > 1 || turns.try_lock().is_ok_and(|turns| turns.left > 0)
            });
            claimed.entry(name.to_owned()).or_default().clone()
        };
        let mut turns = tokio::time::timeout_at(until.into(), turns.lock()).await.map_err(|_| HeldUp::Full)?;
        let apart = Span::from_micros(apart.as_micros().max(1) as i64);
        let at = now();
        while turns.left > 0 && turns.next < at {
            turns.skip(apart);
        }
        let left = Span::from(until.saturating_duration_since(Instant::now()));
        if turns.left == 0 {
            let count = (AHEAD.as_micros() as i64 / apart.as_micros()).clamp(1, i64::from(MOST_TURNS)) as u32;
            let first = self.store.claim_turns(name, apart, count, at, at + left).await.map_err(|error| {
                tracing::warn!(%error, name, "no turn can be claimed");
                HeldUp::Unavailable
            })?;
            *turns = Turns { next: first.ok_or(HeldUp::Full)?, left: count };
        }
        let turn = turns.next;
        if turn > at + left {
            return Err(HeldUp::Full);
        }
        turns.skip(apart);
        Ok(Instant::now() + Duration::from(turn.since(now())))
    }
}

impl Turns {
    fn skip(&mut self, apart: Span) {
        (self.next, self.left) = (self.next + apart, self.left - 1);
    }
}
