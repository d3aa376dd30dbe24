//! Whether what is recorded of a run fits another revision of its workflow, so that it can continue with that one.
//!
//! Both revisions are driven by the same outcomes. The other one fits when it asks for every effect whose outcome is recorded
//! exactly as the first one did, and has not ended before the last of them: what was done is what it would have done itself.
//! It knows no store and no queue.
//!
//! ```
//! use kanzlei_compiler::check::{Bundle, check};
//! use kanzlei_engine::driver::adopt::fits;
//! use kanzlei_engine::machine::{Outcome, Start};
//! use kanzlei_model::time::Timestamp;
//! use kanzlei_model::value::Value;
//!
//! let plan = |steps: &str| {
//!     let text = format!("workflow: w\nsteps: {steps}\n");
//!     check(&Bundle::of([("w.yaml".to_owned(), text)])).workflows.remove(0).1
//! };
//! let start = Start::new("r1", Value::Undefined, Timestamp::EPOCH);
//! let recorded = [(0, Outcome::Waited, Timestamp::from_micros(60_000_000))];
//! let was = plan("[{pause: 1min}, {fail: 500, title: Wrong}]");
//! assert!(fits(&was, &plan("[{pause: 1min}, {reply: 204}]"), &start, "", &recorded).is_ok());
//! let why = fits(&was, &plan("[{pause: 2min}, {reply: 204}]"), &start, "", &recorded).unwrap_err();
//! assert!(why.contains("step 1"), "{why}");
//! ```

use std::sync::Arc;

use kanzlei_compiler::plan::Plan;
use kanzlei_model::time::Timestamp;

use super::{Event, Left, Nothing, Performer, Recorded, at_once, drive};
use crate::machine::{Effect, EffectId, Machine, Outcome, Start};

/// A recorded outcome of an effect, with its time.
pub type Known = (EffectId, Outcome, Timestamp);

/// Whether another plan can continue a run with the outcomes that are recorded of it; `start` is as the run began.
///
/// # Errors
/// Why not, with the step.
pub fn fits(was: &Arc<Plan>, other: &Arc<Plan>, start: &Start, key: &str, known: &[Known]) -> Result<(), String> {
    if known.is_empty() {
        return Ok(());
    }
    if known.iter().any(|(_, outcome, _)| matches!(outcome, Outcome::Rows(_))) {
        return Err("its steps have read rows of files, which are not recorded".to_owned());
    }
    let before = asked(was, start.clone(), key, known);
    if let Some(why) = before.fault {
        return Err(format!("its own revision does not follow what is recorded of it: {why}"));
    }
    let after = asked(other, start.clone(), key, known);
    for (id, step, effect) in before.effects.iter().filter(|(id, ..)| known.iter().any(|(known, ..)| known == id)) {
        match after.effects.iter().find(|(other, ..)| other == id) {
            Some((.., asked)) if asked == effect => {}
            Some((_, number, asked)) => {
                let (did, does) = (effect.what(), asked.what());
                let how = if did == does { "otherwise".to_owned() } else { format!("{does} in place of {did}") };
                return Err(format!("step {step} is done, and step {number} of this revision asks for {how}"));
            }
            None => return Err(format!("step {step} is done, and this revision does not ask for it")),
        }
    }
    match after.fault {
        Some(why) => Err(why),
        None if after.ended => Err("this revision ends before what is recorded".to_owned()),
        None => Ok(()),
    }
}

/// What a run asked for until its outcomes were used up.
struct Asked {
    /// With the numbers of their steps.
    effects: Vec<(EffectId, String, Effect)>,
    fault: Option<String>,
    /// Whether it ended although outcomes were left.
    ended: bool,
}

fn asked(plan: &Arc<Plan>, start: Start, key: &str, known: &[Known]) -> Asked {
    let begins = start.now;
    let mut machine = Machine::new(plan.clone(), start).with_key(key.to_owned());
    let recorded = Recorded::new(known.iter().cloned().map(Ok));
    let mut noting = Noting { recorded, begun: None, effects: Vec::new() };
    let Ok(left) = at_once(drive(&mut machine, &mut noting, &mut Nothing, begins));
    let ended = left == Left::Ended && !noting.recorded.is_exhausted();
    Asked { effects: noting.effects, fault: noting.recorded.fault, ended }
}

/// Answers from what is recorded, and notes what was asked for.
struct Noting<I: Iterator> {
    recorded: Recorded<I>,
    begun: Option<String>,
    effects: Vec<(EffectId, String, Effect)>,
}

impl<I: Iterator<Item = Result<Known, String>>> Performer for Noting<I> {
    fn observe(&mut self, machine: &Machine, effect: Option<EffectId>) {
        self.begun = effect.and_then(|id| machine.waiting(id)).map(|waiting| waiting.number);
    }

    fn begin(&mut self, id: EffectId, effect: Effect) {
        let step = self.begun.take().unwrap_or_default();
        self.effects.push((id, step, effect.clone()));
        self.recorded.begin(id, effect);
    }

    fn cancel(&mut self, id: EffectId) {
        self.recorded.cancel(id);
    }

    async fn wait(&mut self) -> Event {
        self.recorded.wait().await
    }

    async fn yield_now(&mut self) -> Option<Event> {
        // A run without outcomes left is not driven on: it may compute without end.
        self.recorded.is_exhausted().then_some(Event::Leave)
    }

    async fn compute(&mut self, id: EffectId, machine: &mut Machine) -> Option<Event> {
        match self.recorded.is_exhausted() {
            true => Some(Event::Leave),
            false => self.recorded.compute(id, machine).await,
        }
    }
}
