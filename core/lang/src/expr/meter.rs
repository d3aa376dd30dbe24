//! Metering: every evaluation has a budget of work and of bytes made, so that no expression runs without bound.
//!
//! A unit of work is about what one node costs, some tens of nanoseconds. Whatever takes longer is charged for what it
//! does: a comparison for the bytes it compares, a pattern for the bytes it reads and the places it keeps in
//! mind, a sort for its comparisons. An evaluation can also be deferred, and be interrupted from outside.

use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};

use super::eval::{ErrorKind, EvalError};
use super::marks::Marks;

/// Units between two looks at the watch.
const LOOK: u64 = 4096;

/// What one evaluation may use.
#[derive(Clone, Copy, Debug)]
pub struct Limits<'w> {
    /// Units of work; beyond them it fails.
    pub work: u64,
    /// Bytes of text and of list and object members made, whether kept or not.
    pub bytes: u64,
    /// Units after which it ends as [`ErrorKind::Deferred`], to be begun again where it may take its time.
    pub defer_after: Option<u64>,
    /// Counts its work and may interrupt it.
    pub watch: Option<&'w Watch>,
    /// The secret of the run, from which UUIDs are made.
    pub seed: Option<&'w str>,
    /// Where the statements of functions that it reaches are marked.
    pub marks: Option<&'w Marks>,
}

impl Default for Limits<'_> {
    fn default() -> Self {
        Limits { work: 5_000_000, bytes: 64 << 20, defer_after: None, watch: None, seed: None, marks: None }
    }
}

impl Limits<'_> {
    /// Counts work without a meter, if it is less than what a meter checks at; otherwise counts nothing and returns false.
    pub(super) fn spend(&self, units: u64) -> bool {
        let fits = units <= self.look_at();
        if let Some(watch) = self.watch.filter(|_| fits) {
            watch.add(units);
        }
        fits
    }

    /// The units after which to look first.
    fn look_at(&self) -> u64 {
        self.defer_after.unwrap_or(LOOK).min(self.work).min(LOOK)
    }

    /// What one script may use: its loops do more than an expression does.
    pub fn script() -> Self {
        Limits { work: 500_000_000, bytes: 1 << 30, ..Limits::default() }
    }
}

/// Watches evaluations from another thread.
#[derive(Debug, Default)]
pub struct Watch {
    interrupted: AtomicBool,
    work: AtomicU64,
}

impl Watch {
    /// Ends the evaluation that is in progress, and each one after it, as [`ErrorKind::Interrupted`].
    pub fn interrupt(&self) {
        self.interrupted.store(true, Ordering::Relaxed);
    }

    /// Counts work. One evaluation at a time has a watch, so nothing is lost between reading and writing.
    fn add(&self, units: u64) {
        self.work.store(self.work().wrapping_add(units), Ordering::Relaxed);
    }

    /// Units of work done so far by all evaluations that it watched.
    pub fn work(&self) -> u64 {
        self.work.load(Ordering::Relaxed)
    }
}

#[derive(Debug)]
pub(super) struct Meter<'w> {
    limits: Limits<'w>,
    work: u64,
    /// The work at which to look whether to go on.
    look_at: u64,
    bytes: u64,
}

impl<'w> Meter<'w> {
    pub fn new(limits: Limits<'w>) -> Self {
        Meter { limits, work: 0, look_at: limits.look_at(), bytes: limits.bytes }
    }

    #[inline]
    pub fn work(&mut self, units: u64) -> Result<(), Box<EvalError>> {
        self.work = self.work.saturating_add(units);
        if self.work <= self.look_at { Ok(()) } else { self.look() }
    }

    #[cold]
    fn look(&mut self) -> Result<(), Box<EvalError>> {
        let limits = &self.limits;
        if limits.watch.is_some_and(|watch| watch.interrupted.load(Ordering::Relaxed)) {
            return Err(EvalError::new(ErrorKind::Interrupted, "the evaluation was interrupted"));
        }
        if limits.defer_after.is_some_and(|most| self.work > most) {
            return Err(EvalError::new(ErrorKind::Deferred, "the evaluation was deferred"));
        }
        if self.work > limits.work {
            return Err(spent(format!("more than {} units of work", limits.work)));
        }
        let most = limits.defer_after.unwrap_or(u64::MAX).min(limits.work);
        self.look_at = (self.work + LOOK).min(most);
        Ok(())
    }

    /// The secret of the run, where there is one.
    pub fn seed(&self) -> Option<&'w str> {
        self.limits.seed
    }

    /// Where the statements of functions are marked, if they are.
    pub fn marks(&self) -> Option<&'w Marks> {
        self.limits.marks
    }

    pub fn bytes(&mut self, count: u64) -> Result<(), Box<EvalError>> {
        match self.bytes.checked_sub(count) {
            Some(left) => {
                self.bytes = left;
                Ok(())
            }
            None => Err(spent(format!("more than {} MiB of values", self.limits.bytes >> 20))),
        }
    }
}

impl Drop for Meter<'_> {
    fn drop(&mut self) {
        if let Some(watch) = self.limits.watch {
            watch.add(self.work);
        }
    }
}

fn spent(what: String) -> Box<EvalError> {
    EvalError::new(ErrorKind::Budget, format!("the expression takes {what} and was ended"))
}
