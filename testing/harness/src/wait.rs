//! Waiting for a condition, with a bound.
//!
//! ```
//! use kanzlei_harness::wait::{Deadline, until};
//! use std::time::Duration;
//! assert_eq!(until(Duration::from_secs(1), || Some(7)), Some(7));
//! assert!(Deadline::after(Duration::ZERO).is_over());
//! ```

use std::time::{Duration, Instant};

/// The factor by which steal time extends a deadline at most.
const SLOWEST: f64 = 10.0;

/// Asks every 10 ms until there is an answer; nothing when `most` is over.
pub fn until<T>(most: Duration, mut ask: impl FnMut() -> Option<T>) -> Option<T> {
    let end = Deadline::after(most);
    loop {
        if let Some(answer) = ask() {
            return Some(answer);
        }
        if end.is_over() {
            return None;
        }
        std::thread::sleep(Duration::from_millis(10));
    }
}

/// A deadline that does not count the time in which the host of a virtual machine runs other machines (steal time, proc(5)): with a
/// quarter of the processors it ends four times later.
#[derive(Debug)]
pub struct Deadline {
    begun: Instant,
    most: Duration,
    before: Ticks,
}

impl Deadline {
    /// Ends after a time.
    pub fn after(most: Duration) -> Self {
        Deadline { begun: Instant::now(), most, before: Ticks::now() }
    }

    /// Whether the time is over.
    pub fn is_over(&self) -> bool {
        let elapsed = self.begun.elapsed();
        elapsed >= self.most && elapsed.mul_f64(Ticks::now().share_since(&self.before)) >= self.most
    }
}

/// Hundredths of seconds of all processors together, since the machine started.
#[derive(Debug, Default)]
pub struct Ticks {
    all: f64,
    /// In which a processor had work, and the host ran another machine.
    stolen: f64,
}

impl Ticks {
    /// Nothing where the system has no proc(5): no time is stolen there.
    pub fn now() -> Self {
        Ticks::parse(&std::fs::read_to_string("/proc/stat").unwrap_or_default())
    }

    fn parse(stat: &str) -> Self {
        let fields = stat.lines().next().unwrap_or_default().split_whitespace().skip(1).take(8);
        let fields: Vec<f64> = fields.filter_map(|field| field.parse().ok()).collect();
        Ticks { all: fields.iter().sum(), stolen: fields.get(7).copied().unwrap_or_default() }
    }

    /// The share of the time since `before` that was stolen.
    pub fn stolen_since(&self, before: &Ticks) -> f64 {
        let all = self.all - before.all;
        if all > 0.0 { (self.stolen - before.stolen) / all } else { 0.0 }
    }

    /// The share of it that was not, as far as deadlines count it.
    fn share_since(&self, before: &Ticks) -> f64 {
        (1.0 - self.stolen_since(before)).clamp(1.0 / SLOWEST, 1.0)
    }
}

#[cfg(test)]
mod tests {
    use super::Ticks;

    #[test]
    fn stolen_time_does_not_pass() {
        let before = Ticks::parse("cpu  100 0 50 800 10 0 0 40 0 0\ncpu0 1 2 3");
        for (stat, share) in [
            ("cpu  100 0 50 800 10 0 0 40 0 0", 1.0),
            ("cpu  150 0 50 850 10 0 0 40 7 7", 1.0),
            ("cpu  120 0 50 805 10 0 0 115 0 0", 0.25),
            ("cpu  100 0 50 800 10 0 0 900 0 0", 0.1),
            ("", 1.0),
        ] {
            assert_eq!(Ticks::parse(stat).share_since(&before), share, "{stat}");
        }
    }
}
