//! A performer on a virtual clock: effects last as long as their stubs say, and time jumps to the next one
//! that is done.

use std::collections::BTreeMap;
use std::future::{Future, ready};
use std::time::Duration;

use kanzlei_model::time::{Span, Timestamp};

use super::{Event, Nothing, Performer, at_once, drive};
use crate::machine::{Effect, EffectId, Machine, Outcome};

/// The most effects one rehearsed run may ask for.
pub const MAX_EFFECTS: usize = 1_000_000;

/// Answers effects by a function: how long each takes and what comes of it. Waits last as
/// long as they say.
pub struct Clock<A> {
    now: Timestamp,
    answer: A,
    /// How long the run may take, as an endpoint has it, and when that is over.
    limit: Option<(Duration, Timestamp)>,
    asked: usize,
    /// Ordered by time and then by id, so that the same answers give the same run.
    under_way: BTreeMap<(Timestamp, EffectId), Outcome>,
}

impl<A: FnMut(&Effect, Timestamp) -> (Span, Outcome)> Clock<A> {
    /// A clock that shows `begins`, for a run that lasts at most `limit`.
    pub fn new(begins: Timestamp, limit: Option<Duration>, answer: A) -> Self {
        let limit = limit.map(|limit| (limit, begins + limit));
        Clock { now: begins, answer, limit, asked: 0, under_way: BTreeMap::new() }
    }

    /// What the clock shows.
    pub fn now(&self) -> Timestamp {
        self.now
    }
}

impl<A: FnMut(&Effect, Timestamp) -> (Span, Outcome)> Performer for Clock<A> {
    fn begin(&mut self, id: EffectId, effect: Effect) {
        self.asked += 1;
        let (at, outcome) = match &effect {
            Effect::Wait { until } => ((*until).max(self.now), Outcome::Waited),
            effect => {
                let (takes, outcome) = (self.answer)(effect, self.now);
                (self.now + takes.max(Span::ZERO), outcome)
            }
        };
        self.under_way.insert((at, id), outcome);
    }

    fn cancel(&mut self, id: EffectId) {
        self.under_way.retain(|(_, known), _| *known != id);
    }

    fn wait(&mut self) -> impl Future<Output = Event> {
        let next = self.under_way.pop_first().filter(|_| self.asked < MAX_EFFECTS);
        ready(match (next, self.limit) {
            (None, _) => Event::Leave,
            (Some(((at, _), _)), Some((within, deadline))) if at > deadline => {
                self.now = deadline;
                Event::TimeUp { within, at: deadline }
            }
            (Some(((at, id), outcome)), _) => {
                self.now = at;
                Event::Outcome { id, outcome, at }
            }
        })
    }
}

/// Takes a run to its end on a virtual clock; returns what the clock shows then.
pub fn on_virtual_clock(
    machine: &mut Machine,
    begins: Timestamp,
    answer: impl FnMut(&Effect, Timestamp) -> (Span, Outcome),
) -> Timestamp {
    on_virtual_clock_within(machine, begins, None, answer)
}

/// The same with a limit to how long the run may take, as an endpoint has one.
pub fn on_virtual_clock_within(
    machine: &mut Machine,
    begins: Timestamp,
    limit: Option<Duration>,
    answer: impl FnMut(&Effect, Timestamp) -> (Span, Outcome),
) -> Timestamp {
    let mut clock = Clock::new(begins, limit, answer);
    let Ok(_) = at_once(drive(machine, &mut clock, &mut Nothing, begins));
    clock.now()
}
