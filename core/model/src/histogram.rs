//! Histograms of durations: counts in buckets that grow with the duration, four to each power of two.
//!
//! A quantile is read with an error of at most an eighth; histograms of several minutes and processes are added up.
//!
//! ```
//! use kanzlei_model::histogram::Histogram;
//! let mut times = Histogram::default();
//! (1..=100).for_each(|ms| times.add(ms * 1000));
//! let p95 = times.quantile(0.95).expect("some") as f64;
//! assert!((p95 / 95_000.0 - 1.0).abs() < 0.13);
//! ```

/// Counts of durations in microseconds, by bucket.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Histogram {
    /// Bucket and count, in no order; few buckets are used of the 256.
    counts: Vec<(u8, u64)>,
}

/// The bucket of a duration in microseconds.
fn bucket(us: u64) -> u8 {
    if us < 4 {
        return us as u8;
    }
    let power = 63 - us.leading_zeros();
    (((power - 1) << 2) | ((us >> (power - 2)) & 3) as u32) as u8
}

/// The least duration of a bucket.
fn least(bucket: u8) -> u64 {
    if bucket < 4 {
        return bucket.into();
    }
    let power = u32::from(bucket >> 2) + 1;
    // Nothing is as long as the last buckets would be.
    let Some(first) = 1u64.checked_shl(power) else { return u64::MAX };
    first | (u64::from(bucket & 3) << (power - 2))
}

impl Histogram {
    /// A histogram of counts by bucket, as [`Histogram::counts`] returns them.
    pub fn of(counts: impl IntoIterator<Item = (u8, u64)>) -> Self {
        let mut all = Histogram::default();
        counts.into_iter().for_each(|(bucket, count)| all.count(bucket, count));
        all
    }

    /// Counts a duration in microseconds.
    pub fn add(&mut self, us: u64) {
        self.count(bucket(us), 1);
    }

    /// Adds the counts of another one.
    pub fn merge(&mut self, other: &Histogram) {
        other.counts.iter().for_each(|(bucket, count)| self.count(*bucket, *count));
    }

    fn count(&mut self, bucket: u8, count: u64) {
        match self.counts.iter_mut().find(|(known, _)| *known == bucket) {
            Some((_, known)) => *known += count,
            None => self.counts.push((bucket, count)),
        }
    }

    /// Buckets and their counts.
    pub fn counts(&self) -> &[(u8, u64)] {
        &self.counts
    }

    /// The duration in microseconds that a share of all, such as 0.95, does not exceed; nothing where there is none.
    pub fn quantile(&self, share: f64) -> Option<u64> {
        let mut counts = self.counts.clone();
        counts.sort_unstable();
        let all: u64 = counts.iter().map(|(_, count)| count).sum();
        let wanted = (all as f64 * share).ceil().max(1.0) as u64;
        let mut seen = 0;
        for (bucket, count) in counts {
            seen += count;
            if seen >= wanted {
                // The middle of the bucket.
                let (first, last) = (least(bucket), least(bucket.saturating_add(1)).saturating_sub(1));
                return Some(first + last.saturating_sub(first) / 2);
            }
        }
        None
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn buckets_cover_all_durations_in_order() {
        for number in 0..251 {
            assert_eq!((bucket(least(number)), bucket(least(number + 1) - 1)), (number, number));
        }
        assert_eq!((bucket(0), bucket(u64::MAX)), (0, 251));
    }

    #[test]
    fn quantiles_of_merged_histograms() {
        let mut all = Histogram::default();
        assert_eq!(all.quantile(0.5), None);
        for part in [vec![10, 20, 30], vec![1_000_000], vec![]] {
            let mut one = Histogram::default();
            part.into_iter().for_each(|us| one.add(us));
            all.merge(&Histogram::of(one.counts().to_vec()));
        }
        for (share, least, most) in [(0.0, 8, 12), (0.5, 18, 22), (0.75, 26, 34), (0.95, 880_000, 1_130_000)] {
            let found = all.quantile(share).expect("some");
            assert!((least..=most).contains(&found), "{share}: {found}");
        }
    }
}
