//! Waiting for a condition, with a bound.

use std::time::{Duration, Instant};

/// Asks every 10 ms until there is an answer; nothing when `most` is over.
pub fn until<T>(most: Duration, mut ask: impl FnMut() -> Option<T>) -> Option<T> {
    let end = Instant::now() + most;
    loop {
        if let Some(answer) = ask() {
            return Some(answer);
        }
        if Instant::now() >= end {
            return None;
        }
        std::thread::sleep(Duration::from_millis(10));
    }
}
