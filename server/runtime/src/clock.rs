//! The time that all processes on one database share: the database's time, continued by this process's monotonic
//! clock between two comparisons. A wall clock that jumps on one machine has no effect: no job starts early or
//! late, no lease expires, no timetable fires twice.
//!
//! ```text
//! now() = the database's time when it was read last + monotonic clock since then
//! ```

use std::sync::OnceLock;
use std::sync::atomic::{AtomicI64, Ordering};
use std::time::{Duration, Instant};

use kanzlei_model::time::{Span, Timestamp};
use kanzlei_store::Store;
use tokio::time::MissedTickBehavior;
use uuid::Uuid;

/// How often the database's time is read.
const COMPARED: Duration = Duration::from_secs(2);
/// Smaller differences are ignored: a query takes about as long.
const LEFT_ALONE: Span = Span::from_micros(5_000);

/// Microseconds since 1970 UTC at the start of the monotonic clock.
static BEGAN: AtomicI64 = AtomicI64::new(0);
static STOPWATCH: OnceLock<Instant> = OnceLock::new();

fn elapsed() -> i64 {
    let stopwatch = STOPWATCH.get_or_init(|| {
        // Before the first query, the machine's own clock.
        let since = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH);
        BEGAN.store(since.map_or(0, |since| since.as_micros() as i64), Ordering::Relaxed);
        Instant::now()
    });
    stopwatch.elapsed().as_micros() as i64
}

/// The current time, the same in all processes of the installation.
pub fn now() -> Timestamp {
    let elapsed = elapsed();
    Timestamp::from_micros(BEGAN.load(Ordering::Relaxed) + elapsed)
}

/// An id that sorts by time, to a microsecond, and that nobody can guess (RFC 9562 §5.7 and §6.2 method 3: version 7,
/// 62 random bits).
pub fn fresh_id() -> Uuid {
    let random = Uuid::new_v4().into_bytes();
    id_at(now(), random)
}

/// An id of this instant whose last 62 bits are those of the given bytes.
pub(crate) fn id_at(at: Timestamp, last: [u8; 16]) -> Uuid {
    let micros = at.as_micros().max(0) as u64;
    // Twelve bits of the millisecond's part.
    let part = ((micros % 1000) * 4096 / 1000) as u16;
    let mut behind = [0; 10];
    behind[..2].copy_from_slice(&part.to_be_bytes());
    behind[2..].copy_from_slice(&last[8..]);
    uuid::Builder::from_unix_timestamp_millis(micros / 1000, &behind).into_uuid()
}

/// Reads the database's time once; returns the correction, if one was needed.
pub async fn compare(store: &Store) -> kanzlei_store::Result<Option<Span>> {
    let before = now();
    let theirs = store.clock().await?;
    let after = now();
    let off = correction(before, theirs, after);
    if let Some(off) = off {
        BEGAN.fetch_add(off.as_micros(), Ordering::Relaxed);
    }
    Ok(off)
}

/// The correction of the local time; the database's time was read at some moment between two local ones.
fn correction(before: Timestamp, theirs: Timestamp, after: Timestamp) -> Option<Span> {
    let off = theirs - (before + (after - before) / 2);
    // A slow answer is less precise than the monotonic clock.
    (off.abs() > LEFT_ALONE.max(after - before)).then_some(off)
}

/// Follows the database's time until the process ends.
pub async fn keep(store: Store) {
    let mut every = tokio::time::interval(COMPARED);
    every.set_missed_tick_behavior(MissedTickBehavior::Delay);
    loop {
        every.tick().await;
        if let Ok(Some(off)) = compare(&store).await
            && off.abs() > Span::from_secs(1)
        {
            tracing::warn!(seconds = off.as_secs_f64(), "the time was corrected to the database's");
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_time_is_corrected_where_the_answer_says_enough() {
        for (before, theirs, after, wanted) in [
            (1_000_000, 1_001_000, 1_002_000, None),
            (1_000_000, 9_001_000, 1_002_000, Some(8_000_000)),
            (9_000_000, 1_001_000, 9_002_000, Some(-8_000_000)),
            // The answer took three seconds, which may explain an offset of two.
            (1_000_000, 4_500_000, 4_000_000, None),
        ] {
            let [before, theirs, after] = [before, theirs, after].map(Timestamp::from_micros);
            assert_eq!(correction(before, theirs, after), wanted.map(Span::from_micros), "{before} {theirs} {after}");
        }
    }

    #[test]
    fn ids_hold_their_time_and_sort_by_it() {
        let (first, second) = (fresh_id(), now());
        let made = first.get_timestamp().expect("time").to_unix();
        assert!((second.as_secs() - made.0 as i64).abs() <= 1);
        let ids: Vec<Uuid> = (0..2_000).map(|at| id_at(Timestamp::from_micros(at), [!at as u8; 16])).collect();
        assert!(ids.is_sorted_by(|a, b| a < b), "{ids:?}");
        assert!(ids.iter().all(|id| id.get_version_num() == 7), "{ids:?}");
    }
}
