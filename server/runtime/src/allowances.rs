//! What callers may still ask for, counted over all processes.
//!
//! Each process takes portions of a caller's allowance from the records and gives them out in memory, so that a busy caller costs the
//! database a fraction of its requests. A portion is one request for callers that ask now and then, and doubles while it is used up
//! within a second, to a tenth of the burst at most. What is left of a portion returns with the next one.
//!
//! While the database answers, the sum never exceeds the allowance. It may stay below it by what other processes hold of the same caller: a tenth of the burst for
//! each. A process that is killed takes its portions with it. While the database does not answer in time each process keeps to the rate by itself,
//! and quotas are not counted.
//!
//! Bounds: [`MOST_HELD`] callers in memory; of more, those that asked longest ago begin anew, which costs the database a read.

use std::num::NonZeroU32;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use kanzlei_compiler::plan::Allowance;
use kanzlei_compiler::plan::allowance::{Meter, Policy, Taken};
use kanzlei_store::Store;
use kanzlei_store::meters::Row;
use moka::sync::Cache;

use crate::clock::now;
use crate::queue::accept::PATIENCE;

/// The most callers whose portions are held.
const MOST_HELD: u64 = 100_000;
/// How long a portion of a caller that stopped asking is held.
const IDLE: Duration = Duration::from_secs(600);
/// How long this process counts by itself once the database did not answer, so that callers do not wait for it one by one.
const ALONE: Duration = Duration::from_secs(5);
/// A portion that lasts longer than this is large enough.
const LASTS: Duration = Duration::from_secs(1);

/// Counts callers against their allowances.
pub struct Allowances {
    /// By allowance and caller.
    held: Cache<String, Arc<Held>>,
    /// Until when this process counts by itself.
    alone_until: Mutex<Option<Instant>>,
    /// How many requests it counted by itself since it started.
    pub alone: AtomicU64,
}

impl Default for Allowances {
    fn default() -> Self {
        let held = Cache::builder().max_capacity(MOST_HELD).time_to_idle(IDLE).build();
        Allowances { held, alone_until: Mutex::default(), alone: AtomicU64::new(0) }
    }
}

/// How a caller stands after a request.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Standing {
    /// Requests left of the rate, and the seconds until it is full.
    pub rate: Option<(u64, u64)>,
    /// Requests left of the quota, and the seconds until it begins anew.
    pub quota: Option<(u64, u64)>,
    /// Where the request is refused: seconds until another one is allowed, and the policy that refuses it.
    pub refused: Option<(NonZeroU32, Policy)>,
}

/// What this process holds of a caller's allowance.
#[derive(Default)]
struct Held {
    state: Mutex<State>,
    /// One request takes the next portion; others wait for it.
    taking: tokio::sync::Mutex<()>,
}

#[derive(Default)]
struct State {
    /// Requests that may be given out.
    left: u32,
    /// How many were taken last, and when.
    portion: u32,
    since: Option<Instant>,
    /// What the records said then.
    taken: Taken,
    /// Nothing is asked of the records before.
    closed_until: Option<Instant>,
    /// The meter of this process alone, while the records are unavailable.
    own: Option<Meter>,
}

impl Allowances {
    /// Counts a request of a caller, and says how it stands.
    pub async fn count(&self, store: &Store, allowance: &Allowance, subject: &str) -> Standing {
        // Names of allowances have no space.
        let key = format!("{} {subject}", allowance.name);
        let held = match self.held.get(&key) {
            Some(held) => held,
            None => self.held.get_with(key, Arc::default),
        };
        if let Some(standing) = held.give_out(allowance) {
            return standing;
        }
        let _turn = held.taking.lock().await;
        if let Some(standing) = held.give_out(allowance) {
            return standing;
        }
        if self.is_alone() {
            return self.by_itself(&held, allowance);
        }
        let (wanted, returned) = held.next_portion(allowance);
        let asked = store.change_meter(&allowance.name, subject, row(allowance.fresh(now())), |row| {
            let mut meter = meter(row);
            let taken = allowance.take(&mut meter, wanted, returned, now());
            *row = self::row(meter);
            taken
        });
        match tokio::time::timeout(PATIENCE, asked).await {
            Ok(Ok(taken)) => held.taken(allowance, taken),
            failed => {
                let why = failed.map_or_else(|_| "no answer in time".to_owned(), |error| format!("{:?}", error.err()));
                tracing::warn!(allowance = allowance.name, why, "callers are counted by this process alone");
                *self.alone_until.lock().unwrap_or_else(PoisonError::into_inner) = Some(Instant::now() + ALONE);
                self.by_itself(&held, allowance)
            }
        }
    }

    fn is_alone(&self) -> bool {
        let until = *self.alone_until.lock().unwrap_or_else(PoisonError::into_inner);
        until.is_some_and(|until| until > Instant::now())
    }

    fn by_itself(&self, held: &Held, allowance: &Allowance) -> Standing {
        self.alone.fetch_add(1, Ordering::Relaxed);
        held.taken(allowance, held.alone(allowance))
    }
}

impl Held {
    fn state(&self) -> std::sync::MutexGuard<'_, State> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Gives out a request of the portion, or refuses it where the records said when to ask again.
    fn give_out(&self, allowance: &Allowance) -> Option<Standing> {
        let mut state = self.state();
        if state.left > 0 {
            state.left -= 1;
            return Some(standing(allowance, &state.taken, state.left, None));
        }
        let wait = state.closed_until?.checked_duration_since(Instant::now())?;
        Some(standing(allowance, &state.taken, 0, Some(wait)))
    }

    /// How many requests to take, and how many return.
    fn next_portion(&self, allowance: &Allowance) -> (u32, u32) {
        let mut state = self.state();
        let largest = match (allowance.rate, allowance.quota) {
            (None, Some((count, _))) => (count / 1000).clamp(1, 1000) as u32,
            _ => (allowance.burst / 10).max(1),
        };
        let quick = state.since.is_some_and(|since| since.elapsed() < LASTS);
        state.portion = if quick { (state.portion * 2).min(largest) } else { 1 };
        (state.portion, std::mem::take(&mut state.left))
    }

    /// Holds a portion, of which one request is given out at once: others may take the rest before its turn comes again.
    fn taken(&self, allowance: &Allowance, taken: Taken) -> Standing {
        let mut state = self.state();
        state.left = taken.granted.saturating_sub(1);
        state.taken = taken;
        state.since = Some(Instant::now());
        // At least a moment, so that callers that are refused do not ask the records each time.
        let wait = taken.again_in.max(Duration::from_millis(1));
        let closed = taken.granted == 0;
        state.closed_until = closed.then(|| Instant::now() + wait);
        standing(allowance, &taken, state.left, closed.then_some(wait))
    }

    /// Counts by this process alone, one request at a time.
    fn alone(&self, allowance: &Allowance) -> Taken {
        let mut without_quota = allowance.clone();
        without_quota.quota = None;
        let mut state = self.state();
        let meter = state.own.get_or_insert_with(|| without_quota.fresh(now()));
        without_quota.take(meter, 1, 0, now())
    }
}

/// How a caller stands, with so many of its portion left; `refused` for how long it is refused.
fn standing(allowance: &Allowance, taken: &Taken, left: u32, refused: Option<Duration>) -> Standing {
    let seconds = |span: Duration| span.as_secs() + u64::from(span.subsec_nanos() > 0);
    let left = u64::from(left);
    let rate = allowance.rate.map(|_| (taken.left_of_rate + left, seconds(taken.full_in)));
    // A process that counts by itself does not know the quota.
    let quota = allowance.quota.filter(|_| taken.left_of_quota != u64::MAX);
    let quota = quota.map(|_| (taken.left_of_quota.saturating_add(left), seconds(taken.period_ends_in)));
    let policy = if taken.quota_used_up || rate.is_none() { Policy::Quota } else { Policy::Rate };
    let refused = refused.map(|wait| {
        let wait = u32::try_from(seconds(wait)).unwrap_or(u32::MAX);
        (NonZeroU32::new(wait).unwrap_or(NonZeroU32::MIN), policy)
    });
    Standing { rate, quota, refused }
}

fn meter(row: &Row) -> Meter {
    Meter { bucket: row.bucket, at: row.at, period: row.period, used: row.used }
}

fn row(meter: Meter) -> Row {
    Row { bucket: meter.bucket, at: meter.at, period: meter.period, used: meter.used }
}
