//! Drives a machine on a virtual clock: effects take as long as they are said to, and time jumps to the
//! next one that is done.

use std::collections::BTreeMap;
use std::time::Duration;

use crate::machine::{Effect, EffectId, Machine, Micros, Next, Outcome};

/// The most effects one rehearsed run may ask for.
pub const MAX_EFFECTS: usize = 1_000_000;

/// Takes a run to its end. `answer` says, for each effect but a wait, how long it takes in microseconds
/// and what comes of it; it is told the time at which the effect was asked for. Gives the time of the
/// end.
pub fn drive(
    machine: &mut Machine,
    begins: Micros,
    answer: impl FnMut(&Effect, Micros) -> (Micros, Outcome),
) -> Micros {
    drive_within(machine, begins, None, answer)
}

/// The same with a limit to how long the run may take, as an endpoint has one.
pub fn drive_within(
    machine: &mut Machine,
    begins: Micros,
    limit: Option<Duration>,
    mut answer: impl FnMut(&Effect, Micros) -> (Micros, Outcome),
) -> Micros {
    let mut now = begins;
    let mut asked = 0;
    let deadline = limit.map(|limit| begins.saturating_add(limit.as_micros() as Micros));
    // Ordered by time and then by id, so that the same answers give the same run.
    let mut under_way: BTreeMap<(Micros, EffectId), Outcome> = BTreeMap::new();
    loop {
        match machine.next() {
            Next::Do(id, effect) => {
                asked += 1;
                let (at, outcome) = match &effect {
                    Effect::Wait { until } => ((*until).max(now), Outcome::Waited),
                    effect => {
                        let (takes, outcome) = answer(effect, now);
                        (now.saturating_add(takes.max(0)), outcome)
                    }
                };
                under_way.insert((at, id), outcome);
            }
            Next::Cancel(id) => under_way.retain(|(_, known), _| *known != id),
            Next::Answer(_) | Next::Tell(_) | Next::Breathe => {}
            Next::Idle => {
                let Some(((at, id), outcome)) = under_way.pop_first().filter(|_| asked < MAX_EFFECTS) else {
                    return now;
                };
                match (deadline, limit) {
                    (Some(deadline), Some(limit)) if at > deadline => {
                        now = deadline;
                        machine.time_is_up(limit, now);
                    }
                    _ => {
                        now = at;
                        machine.feed(id, outcome, now);
                    }
                }
            }
            Next::Finished => return now,
        }
    }
}
