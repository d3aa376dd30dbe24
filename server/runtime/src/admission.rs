//! Requests in flight: a bound on all of them, and a fair part of it for each caller.
//!
//! The *part* of a caller is the places divided by the callers that have some, and one more who may come. A caller may have more than
//! its part while three quarters of the places are not occupied; beyond them, who sends most is refused first. Where one is refused
//! that has less than its part, for a second none is admitted beyond it, so that those who send much shrink to theirs. Callers are
//! counted in [`SLOTS`] slots by a hash with a random seed: two callers that share a slot share a part, and none can choose to.
//!
//! ```
//! use kanzlei_runtime::admission::Admission;
//! let admission = Admission::new(100);
//! let many: Vec<_> = (0..100).map_while(|_| admission.enter("many")).collect();
//! assert_eq!(many.len(), 75);
//! assert!(admission.enter("many").is_none() && admission.enter("few").is_some());
//! ```

use std::sync::Arc;
use std::sync::atomic::{AtomicU32, AtomicU64, AtomicUsize, Ordering};
use std::time::Instant;

/// Slots in which callers are counted.
const SLOTS: usize = 4096;
/// Bounds below this are not divided.
const DIVISIBLE: usize = 16;

/// How long callers are held to their part, in milliseconds.
const STRICT: u64 = 1000;

/// The places of requests in flight.
pub struct Admission {
    most: usize,
    all: AtomicUsize,
    /// Slots that are not empty.
    callers: AtomicUsize,
    slots: Box<[AtomicU32]>,
    hash: ahash::RandomState,
    began: Instant,
    /// Until when no caller is admitted beyond its part, in milliseconds since the beginning.
    strict_until: AtomicU64,
}

/// One of the requests in flight; dropping it ends its count.
pub struct Admitted {
    of: Arc<Admission>,
    slot: usize,
}

impl Admission {
    /// So many places.
    pub fn new(most: usize) -> Arc<Self> {
        let slots = (0..SLOTS).map(|_| AtomicU32::new(0)).collect();
        let (all, callers) = (AtomicUsize::new(0), AtomicUsize::new(0));
        let (hash, began, strict_until) = (ahash::RandomState::new(), Instant::now(), AtomicU64::new(0));
        Arc::new(Admission { most, all, callers, slots, hash, began, strict_until })
    }

    /// Requests in flight.
    pub fn count(&self) -> usize {
        self.all.load(Ordering::Relaxed)
    }

    /// The places.
    pub fn most(&self) -> usize {
        self.most
    }

    fn slot(&self, caller: &str) -> usize {
        self.hash.hash_one(caller) as usize % SLOTS
    }

    fn now(&self) -> u64 {
        self.began.elapsed().as_millis() as u64
    }

    /// Whether a request of a caller would be admitted now, before its body is read.
    pub fn has_place(&self, caller: &str) -> bool {
        let own = self.slots[self.slot(caller)].load(Ordering::Relaxed) as usize;
        self.fits(self.count(), own, self.now())
    }

    /// Whether there is a place for one more beside so many, of which the caller has some.
    fn fits(&self, all: usize, own: usize, now: u64) -> bool {
        if self.most < DIVISIBLE {
            return all < self.most;
        }
        let part = (self.most / (self.callers.load(Ordering::Relaxed) + 1)).max(1);
        let within = own < part;
        let scarce = all >= self.most - self.most / 4 || self.strict_until.load(Ordering::Relaxed) > now;
        if all < self.most && (within || !scarce) {
            return true;
        }
        if within {
            self.strict_until.store(now + STRICT, Ordering::Relaxed);
        }
        false
    }

    /// Occupies a place; `None` where all are occupied, or the caller has its part of them.
    pub fn enter(self: &Arc<Self>, caller: &str) -> Option<Admitted> {
        self.enter_at(caller, self.now())
    }

    fn enter_at(self: &Arc<Self>, caller: &str, now: u64) -> Option<Admitted> {
        let slot = self.slot(caller);
        let all = self.all.fetch_add(1, Ordering::Relaxed);
        let own = self.slots[slot].fetch_add(1, Ordering::Relaxed) as usize;
        if own == 0 {
            self.callers.fetch_add(1, Ordering::Relaxed);
        }
        let admitted = Admitted { of: self.clone(), slot };
        // Dropped, it returns what it has taken.
        self.fits(all, own, now).then_some(admitted)
    }
}

impl Drop for Admitted {
    fn drop(&mut self) {
        let of = &self.of;
        if of.slots[self.slot].fetch_sub(1, Ordering::Relaxed) == 1 {
            of.callers.fetch_sub(1, Ordering::Relaxed);
        }
        of.all.fetch_sub(1, Ordering::Relaxed);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn places_are_divided_when_they_are_scarce() {
        // Bound; who asks how often in a row, and how many are admitted.
        for (most, asked) in [
            (1, vec![("a", 2, 1), ("b", 1, 0)]),
            (15, vec![("a", 20, 15), ("b", 1, 0)]),
            (100, vec![("a", 1000, 75), ("b", 1000, 25)]),
            (100, vec![("a", 40, 40), ("b", 40, 35), ("c", 30, 25)]),
            // Newcomers find a place until all are occupied.
            (16, vec![("a", 99, 12), ("b", 1, 1), ("c", 1, 1), ("d", 1, 1), ("e", 1, 1), ("f", 1, 0)]),
        ] {
            let admission = Admission::new(most);
            let mut held = Vec::new();
            for (caller, times, wanted) in asked {
                let before = held.len();
                held.extend((0..times).filter_map(|_| admission.enter(caller)));
                assert_eq!(held.len() - before, wanted, "{most} places, {caller}");
                assert_eq!(admission.count(), held.len());
            }
            drop(held);
            assert_eq!((admission.count(), admission.callers.load(Ordering::Relaxed)), (0, 0));
        }
    }

    #[test]
    fn who_asks_most_does_not_keep_others_out() {
        // Each millisecond one of those in flight ends; one caller asks nine times as often as it could be served, nine others half as
        // often as their part allows.
        let admission = Admission::new(64);
        let mut held = std::collections::VecDeque::new();
        let (mut asked, mut admitted) = ([0u32; 10], [0u32; 10]);
        let mut dice = 7_u64;
        for ms in 0..20_000u64 {
            held.pop_front();
            for who in 0..10 {
                dice = dice.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1);
                let times = if who == 0 { 9 } else { u32::from((dice >> 33).is_multiple_of(20)) };
                for _ in 0..times {
                    let entered = admission.enter_at(&format!("caller-{who}"), ms);
                    if ms > 2000 {
                        asked[who] += 1;
                        admitted[who] += u32::from(entered.is_some());
                    }
                    held.extend(entered);
                }
            }
            assert!(held.len() <= 64);
        }
        let share = |who: usize| f64::from(admitted[who]) / f64::from(asked[who]);
        assert!((1..10).all(|who| share(who) > 0.8), "{admitted:?} of {asked:?}");
        // What the others leave is its own.
        let all: u32 = admitted.iter().sum();
        assert!(all > 17_000 && admitted[0] > 9_000, "{admitted:?}");
    }
}
