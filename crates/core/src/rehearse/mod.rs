//! Rehearsal: runs without anything outside, on a virtual clock.

mod drive;

pub use drive::{MAX_EFFECTS, drive};
