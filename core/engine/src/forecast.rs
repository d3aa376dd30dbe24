//! When a lane will be empty: its backlog is played on a clock that jumps, by the rules of lanes.
//!
//! A job begins when it is due, when the lane's pace has a slot, when a place is free, and when no job with its ordering key runs;
//! among several the more urgent goes first, then the one that was due first. How long a job occupies its place is drawn from times
//! that were measured, in a fixed order, so that the same backlog has the same forecast. New jobs arrive evenly. It knows no store
//! and no clock. Bounds: [`MOST`] jobs in all, [`HORIZON`] ahead.
//!
//! ```
//! use kanzlei_engine::forecast::{Backlog, Rules, Waiting, play};
//! use kanzlei_model::time::{Span, Timestamp};
//!
//! let second = Span::from_secs(1);
//! let waiting = (0..10).map(|_| Waiting { ready_at: Timestamp::EPOCH, rank: 5, key: None, of: 0 }).collect();
//! let backlog = Backlog { waiting, running: Vec::new(), times: vec![vec![second]], arriving: None };
//! let forecast = play(&backlog, &Rules { at_once: Some(2), places: 100, gap: None }, Timestamp::EPOCH);
//! assert_eq!(forecast.empty, Some(Timestamp::EPOCH + second * 5));
//! ```

use std::cmp::Reverse;
use std::collections::{BTreeSet, BinaryHeap, HashMap, VecDeque};

use kanzlei_model::time::{Span, Timestamp};

/// Jobs that are played, waiting and arriving.
pub const MOST: usize = 100_000;
/// How far a forecast looks.
pub const HORIZON: Span = Span::from_days(1);
/// Points of the curve.
const POINTS: i64 = 60;

/// The rules of a lane.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Rules {
    /// Most jobs at the same time, over all processes.
    pub at_once: Option<u32>,
    /// Jobs that all processes have room for.
    pub places: u32,
    /// The time between the starts of two jobs.
    pub gap: Option<Span>,
}

/// A job that waits.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Waiting {
    /// When it is due.
    pub ready_at: Timestamp,
    /// 0 for a job that has begun, else its priority.
    pub rank: u8,
    /// Jobs of one key run one after another.
    pub key: Option<u64>,
    /// The index of its times.
    pub of: usize,
}

/// What waits, runs and arrives in a lane.
#[derive(Clone, Debug, Default)]
pub struct Backlog {
    /// Jobs that wait, in any order.
    pub waiting: Vec<Waiting>,
    /// Jobs that run: since when, and the key and the index of the times of each.
    pub running: Vec<(Timestamp, Option<u64>, usize)>,
    /// How long jobs occupied their places, as quantiles in equal steps.
    pub times: Vec<Vec<Span>>,
    /// The time between two arrivals, and the index of the times of what arrives.
    pub arriving: Option<(Span, usize)>,
}

/// What is to be expected.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Forecast {
    /// When the last of the jobs that wait now begins.
    pub begun: Option<Timestamp>,
    /// When nothing that is due waits or runs any more; nothing where that is not within the horizon.
    pub empty: Option<Timestamp>,
    /// How much later than due the jobs that wait now begin, on average and at most.
    pub mean_delay: Span,
    /// The longest delay.
    pub max_delay: Span,
    /// The number of due jobs that wait, over time.
    pub curve: Vec<(Timestamp, u64)>,
}

/// What happens next; in this order where several happen at once.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
enum Happens {
    Ends(Option<u64>),
    Ready(usize),
    Arrives,
    Slot,
}

/// The state of a lane while it is played.
struct Lane<'b> {
    backlog: &'b Backlog,
    rules: Rules,
    jobs: Vec<Waiting>,
    events: BinaryHeap<Reverse<(Timestamp, Happens)>>,
    /// Due jobs in the order in which they begin.
    ready: BTreeSet<(u8, Timestamp, usize)>,
    busy: HashMap<u64, VecDeque<usize>>,
    running: usize,
    slot: Timestamp,
    drawn: u64,
    /// Due jobs that wait, also those behind another of their key.
    waiting: u64,
    delays: (Span, Span, u64),
    begun: Option<Timestamp>,
}

impl Lane<'_> {
    /// How long the next job occupies its place.
    fn time(&mut self, of: usize) -> Span {
        // A Weyl sequence spreads evenly over the quantiles.
        self.drawn = self.drawn.wrapping_add(0x9e37_79b9_7f4a_7c15);
        let times = self.backlog.times.get(of).map(Vec::as_slice).unwrap_or_default();
        let at = ((u128::from(self.drawn) * times.len() as u128) >> 64) as usize;
        times.get(at).copied().unwrap_or_default().max(Span::from_micros(1))
    }

    fn begin(&mut self, now: Timestamp) {
        let places = self.rules.at_once.map_or(self.rules.places, |most| most.min(self.rules.places)) as usize;
        while self.running < places && (self.rules.gap.is_none() || self.slot <= now) {
            let Some((.., index)) = self.ready.pop_first() else { return };
            let job = self.jobs[index];
            if let Some(behind) = job.key.and_then(|key| self.busy.get_mut(&key)) {
                behind.push_back(index);
                continue;
            }
            if let Some(key) = job.key {
                self.busy.insert(key, VecDeque::new());
            }
            if let Some(gap) = self.rules.gap {
                self.slot = self.slot.max(now) + gap;
                self.events.push(Reverse((self.slot, Happens::Slot)));
            }
            self.running += 1;
            self.waiting -= 1;
            if index < self.backlog.waiting.len() {
                let delay = now - job.ready_at;
                self.delays = (self.delays.0 + delay, self.delays.1.max(delay), self.delays.2 + 1);
                self.begun = Some(now);
            }
            let ends = now + self.time(job.of);
            self.events.push(Reverse((ends, Happens::Ends(job.key))));
        }
    }

    fn ends(&mut self, key: Option<u64>) {
        self.running -= 1;
        let Some(mut behind) = key.and_then(|key| self.busy.remove(&key)) else { return };
        // All of them are ready again; the first takes the key.
        for index in behind.drain(..) {
            self.ready.insert((self.jobs[index].rank, self.jobs[index].ready_at, index));
        }
    }
}

/// Plays a lane from now on.
pub fn play(backlog: &Backlog, rules: &Rules, now: Timestamp) -> Forecast {
    let until = now + HORIZON;
    let mut lane = Lane {
        backlog,
        rules: *rules,
        jobs: backlog.waiting.clone(),
        events: BinaryHeap::new(),
        ready: BTreeSet::new(),
        busy: HashMap::new(),
        running: 0,
        slot: now,
        drawn: 0,
        waiting: 0,
        delays: Default::default(),
        begun: None,
    };
    for (since, key, of) in &backlog.running {
        let left = (*since + lane.time(*of)).max(now);
        lane.running += 1;
        if let Some(key) = key {
            lane.busy.insert(*key, VecDeque::new());
        }
        lane.events.push(Reverse((left, Happens::Ends(*key))));
    }
    for (index, job) in backlog.waiting.iter().enumerate().take(MOST) {
        lane.events.push(Reverse((job.ready_at.max(now), Happens::Ready(index))));
    }
    if let Some((between, _)) = backlog.arriving {
        lane.events.push(Reverse((now + between, Happens::Arrives)));
    }
    let due_now = backlog.waiting.iter().filter(|job| job.ready_at <= now).count() as u64;
    let mut curve = vec![(now, due_now)];
    let mut forecast = Forecast::default();
    while let Some(Reverse((at, happens))) = lane.events.pop() {
        if at > until {
            break;
        }
        match happens {
            Happens::Ends(key) => lane.ends(key),
            Happens::Ready(index) => {
                lane.waiting += 1;
                let job = lane.jobs[index];
                lane.ready.insert((job.rank, job.ready_at, index));
            }
            Happens::Arrives => {
                if let Some((between, of)) = backlog.arriving.filter(|_| lane.jobs.len() < MOST) {
                    lane.ready.insert((5, at, lane.jobs.len()));
                    lane.jobs.push(Waiting { ready_at: at, rank: 5, key: None, of });
                    lane.waiting += 1;
                    lane.events.push(Reverse((at + between, Happens::Arrives)));
                }
            }
            Happens::Slot => {}
        }
        // What happens at one instant is one.
        if lane.events.peek().is_some_and(|Reverse((next, _))| *next == at) {
            continue;
        }
        lane.begin(at);
        curve.push((at, lane.waiting));
        // What is scheduled for later does not keep a lane from being empty.
        if lane.waiting == 0 && lane.running == 0 {
            forecast.empty = Some(at);
            break;
        }
    }
    let waits_still = backlog.waiting.iter().filter(|job| job.ready_at <= now).count() as u64;
    if waits_still == 0 && backlog.running.is_empty() {
        forecast.empty = Some(now);
    }
    forecast.begun = lane.begun.filter(|_| lane.delays.2 >= waits_still);
    forecast.mean_delay = lane.delays.0 / i64::try_from(lane.delays.2.max(1)).unwrap_or(1);
    forecast.max_delay = lane.delays.1;
    forecast.curve = thinned(curve);
    forecast
}

/// Some points of a curve, evenly over its time.
fn thinned(curve: Vec<(Timestamp, u64)>) -> Vec<(Timestamp, u64)> {
    let (Some(first), Some(last)) = (curve.first().copied(), curve.last().copied()) else { return curve };
    let step = Span::from_micros(((last.0 - first.0).as_micros() / POINTS).max(1));
    let mut thin: Vec<(Timestamp, u64)> = Vec::new();
    for point in curve {
        let inside = thin.len() > 1;
        match thin.last_mut() {
            // The last one of a step stands for it.
            Some(before) if inside && point.0 - before.0 < step => before.1 = point.1,
            _ => thin.push(point),
        }
    }
    if thin.last().is_some_and(|end| end.0 != last.0) {
        thin.push(last);
    }
    thin
}

#[cfg(test)]
mod tests {
    use super::*;

    fn at(seconds: i64) -> Timestamp {
        Timestamp::EPOCH + Span::from_secs(seconds)
    }

    fn job(ready: i64, rank: u8, key: Option<u64>) -> Waiting {
        Waiting { ready_at: at(ready), rank, key, of: 0 }
    }

    fn backlog(waiting: Vec<Waiting>) -> Backlog {
        Backlog { waiting, times: vec![vec![Span::from_secs(2)]], ..Backlog::default() }
    }

    const FREE: Rules = Rules { at_once: None, places: 100, gap: None };

    #[test]
    fn lanes_are_played_by_their_rules() {
        let ten = || backlog((0..10).map(|_| job(-1, 5, None)).collect());
        let keyed = backlog((0..6).map(|n| job(-1, 5, Some(n % 2))).collect());
        let running = Backlog { running: vec![(at(-1), Some(1), 0)], ..backlog(vec![job(-1, 5, Some(1))]) };
        let arriving = Backlog { arriving: Some((Span::from_secs(4), 0)), ..ten() };
        let flood = Backlog { arriving: Some((Span::from_secs(1), 0)), ..ten() };
        let later = backlog(vec![job(-1, 5, None), job(3600, 5, None)]);
        for (name, backlog, rules, begun, empty) in [
            ("free", ten(), FREE, Some(0), Some(2)),
            ("two at once", ten(), Rules { at_once: Some(2), ..FREE }, Some(8), Some(10)),
            ("few places", ten(), Rules { places: 1, ..FREE }, Some(18), Some(20)),
            ("paced", ten(), Rules { gap: Some(Span::from_secs(3)), ..FREE }, Some(27), Some(29)),
            ("per key", keyed, FREE, Some(4), Some(6)),
            ("behind a running one", running, FREE, Some(1), Some(3)),
            ("arrivals", arriving, Rules { at_once: Some(1), ..FREE }, Some(18), Some(38)),
            ("more than it can do", flood, Rules { at_once: Some(1), ..FREE }, Some(18), None),
            ("scheduled", later, FREE, Some(0), Some(2)),
            ("nothing", backlog(Vec::new()), FREE, None, Some(0)),
        ] {
            let forecast = play(&backlog, &rules, at(0));
            assert_eq!((forecast.begun, forecast.empty), (begun.map(at), empty.map(at)), "{name}: {forecast:?}");
            assert!(forecast.curve.len() <= 63, "{name}");
            assert_eq!(forecast, play(&backlog, &rules, at(0)), "{name}");
        }
    }

    #[test]
    fn urgent_jobs_go_first_and_delays_are_counted() {
        let jobs = vec![job(-10, 9, None), job(-1, 1, None)];
        let one = Rules { at_once: Some(1), ..FREE };
        let forecast = play(&backlog(jobs), &one, at(0));
        assert_eq!((forecast.max_delay, forecast.mean_delay), (Span::from_secs(12), Span::from_micros(6_500_000)));
        let times = vec![(1..=4).map(Span::from_secs).collect()];
        let many = Backlog { times, ..backlog((0..1000).map(|_| job(0, 5, None)).collect()) };
        let took = play(&many, &one, at(0)).empty.expect("an end") - at(0);
        assert!((took.as_micros() - 2_500_000_000).abs() < 30_000_000, "the mean of the times: {took:?}");
    }
}
