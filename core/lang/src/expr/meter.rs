//! Metering: every evaluation has a budget of steps and of bytes made, so that no expression runs without bound.

use super::eval::{ErrorKind, EvalError};

/// What one evaluation may use.
#[derive(Clone, Copy, Debug)]
pub struct Limits {
    /// Nodes evaluated, plus one per item read by a method and one per 32 bytes of text.
    pub steps: u64,
    /// Bytes of text and of list and object members made, whether kept or not.
    pub bytes: u64,
}

impl Default for Limits {
    fn default() -> Self {
        Limits { steps: 5_000_000, bytes: 64 << 20 }
    }
}

#[derive(Debug)]
pub(super) struct Meter {
    limits: Limits,
    steps: u64,
    bytes: u64,
}

impl Meter {
    pub fn new(limits: Limits) -> Self {
        Meter { limits, steps: limits.steps, bytes: limits.bytes }
    }

    pub fn steps(&mut self, count: usize) -> Result<(), Box<EvalError>> {
        match self.steps.checked_sub(count as u64) {
            Some(left) => {
                self.steps = left;
                Ok(())
            }
            None => Err(spent(format!("more than {} steps", self.limits.steps))),
        }
    }

    pub fn bytes(&mut self, count: usize) -> Result<(), Box<EvalError>> {
        match self.bytes.checked_sub(count as u64) {
            Some(left) => {
                self.bytes = left;
                Ok(())
            }
            None => Err(spent(format!("more than {} MiB of values", self.limits.bytes >> 20))),
        }
    }
}

fn spent(what: String) -> Box<EvalError> {
    EvalError::new(ErrorKind::Budget, format!("the expression takes {what} and was ended"))
}
