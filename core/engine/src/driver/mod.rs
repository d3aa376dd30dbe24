//! The driver: one loop for every run, live, recovered, rehearsed or replayed.
//!
//! A [`Machine`] returns the next effect; a [`Performer`] performs it and reports its outcome; a [`Recorder`] keeps
//! what happened before the run sees it. The loop knows no runtime, no clock and no I/O: a performer decides
//! what time it is and what waiting means. [`Recorded`] answers from outcomes that were recorded before,
//! [`adopt`] compares what two revisions ask for, [`virtual_clock`] answers from stubs on a clock that jumps; performers with I/O are the server's.
//!
//! ```
//! use kanzlei_model::time::Timestamp;
//! use kanzlei_compiler::check::{Bundle, check};
//! use kanzlei_engine::driver::{Left, Nothing, Recorded, at_once, drive};
//! use kanzlei_engine::machine::{Machine, Start};
//! use kanzlei_model::value::Value;
//!
//! let bundle = Bundle::of([("w.yaml".to_owned(), "workflow: w\nsteps: [{reply: 204}]\n".to_owned())]);
//! let plan = check(&bundle).workflows.remove(0).1;
//! let start = Start::new("r1", Value::Undefined, Timestamp::EPOCH);
//! let mut machine = Machine::new(plan, start);
//! let left = at_once(drive(&mut machine, &mut Recorded::none(), &mut Nothing, Timestamp::EPOCH));
//! assert_eq!(left, Ok(Left::Ended));
//! ```

pub mod adopt;
pub mod virtual_clock;

use std::convert::Infallible;
use std::future::{Future, ready};
use std::iter::Peekable;
use std::pin::pin;
use std::task::{Context, Poll, Waker};
use std::time::Duration;

use kanzlei_model::problem::Problem;
use kanzlei_model::run::FailureKind;

use kanzlei_model::time::Timestamp;
use kanzlei_model::value::Value;

use crate::machine::{Effect, EffectId, Failure, Machine, Next, Outcome, Remark, Reply};

pub use virtual_clock::{MAX_EFFECTS, on_virtual_clock, on_virtual_clock_within};

/// What a run that waits is woken by.
#[derive(Debug)]
#[allow(missing_docs)]
pub enum Event {
    /// What came of an effect, and when.
    Outcome { id: EffectId, outcome: Outcome, at: Timestamp },
    /// The run took longer than it may.
    TimeUp { within: Duration, at: Timestamp },
    /// Somebody wants the run to stop.
    Stop { at: Timestamp },
    /// The run cannot continue because of a fault of Kanzlei itself.
    Broken { detail: String, at: Timestamp },
    /// The step that waits for an effect is to know another value by a name, in a trial.
    Set { id: EffectId, name: String, value: Value, at: Timestamp },
    /// Nothing comes for now: the run is left where it stands.
    Leave,
}

impl Event {
    /// When it happened; nothing for a run that is left.
    fn at(&self) -> Option<Timestamp> {
        match self {
            Event::Outcome { at, .. }
            | Event::TimeUp { at, .. }
            | Event::Stop { at }
            | Event::Broken { at, .. }
            | Event::Set { at, .. } => Some(*at),
            Event::Leave => None,
        }
    }
}

/// Performs the effects of one run.
pub trait Performer {
    /// Sees the run before an effect of it begins, and before it waits.
    fn observe(&mut self, _machine: &Machine, _effect: Option<EffectId>) {}

    /// Begins an effect; its outcome comes from [`Performer::wait`].
    fn begin(&mut self, id: EffectId, effect: Effect);

    /// Nothing waits for the outcome of this effect any more.
    fn cancel(&mut self, id: EffectId);

    /// Waits for the next event.
    fn wait(&mut self) -> impl Future<Output = Event>;

    /// The run performed many steps without waiting: it yields to other tasks, and may be ended.
    fn yield_now(&mut self) -> impl Future<Output = Option<Event>> {
        ready(None)
    }

    /// Has the run compute what it deferred, by [`Machine::compute`], where that may take its time. Returns an event
    /// when the run is to be ended or left instead; its watch interrupts a computation then.
    fn compute(&mut self, _id: EffectId, machine: &mut Machine) -> impl Future<Output = Option<Event>> {
        machine.compute();
        ready(None)
    }
}

/// Keeps what happens in one run.
pub trait Recorder {
    /// Why something could not be kept; the run is left then.
    type Error;

    /// The client's answer is ready.
    fn reply(&mut self, _reply: Reply) {}

    /// A note or the progress, at the time of the latest event.
    fn remark(&mut self, _remark: Remark, _at: Timestamp) {}

    /// Whether the failure of a run stands ([`Machine::failing`]): its steps `on_failure` run then. Else the run ends at once,
    /// because it is retried.
    fn stands(&mut self, _machine: &Machine) -> bool {
        true
    }

    /// The run is about to wait: what it reported so far can be shown.
    fn settle(&mut self) -> impl Future<Output = Result<(), Self::Error>> {
        ready(Ok(()))
    }

    /// Keeps an outcome before the run sees it.
    fn record(
        &mut self,
        id: EffectId,
        outcome: &Outcome,
        at: Timestamp,
    ) -> impl Future<Output = Result<(), Self::Error>>;
}

/// How the driver left a run.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Left {
    /// [`Machine::ended`] says how it ended.
    Ended,
    /// It waits for what may come later.
    Waiting,
}

/// Drives a run until it ends or its performer leaves it. `begins` is the time until the first event.
pub async fn drive<P: Performer, R: Recorder>(
    machine: &mut Machine,
    performer: &mut P,
    recorder: &mut R,
    begins: Timestamp,
) -> Result<Left, R::Error> {
    let mut now = begins;
    loop {
        let event = match machine.next() {
            Next::Do(id, effect) => {
                performer.observe(machine, Some(id));
                performer.begin(id, effect);
                continue;
            }
            Next::Cancel(id) => {
                performer.cancel(id);
                continue;
            }
            Next::Answer(reply) => {
                recorder.reply(*reply);
                continue;
            }
            Next::Remark(remark) => {
                recorder.remark(remark, now);
                continue;
            }
            Next::Finished => return Ok(Left::Ended),
            Next::Failing => {
                let stands = recorder.stands(machine);
                machine.close_with(stands);
                continue;
            }
            Next::Yield => match performer.yield_now().await {
                Some(event) => event,
                None => continue,
            },
            Next::Compute(id) => match performer.compute(id, machine).await {
                Some(event @ Event::Leave) => event,
                Some(event) => {
                    recorder.record(id, &Outcome::Interrupted, event.at().unwrap_or(now)).await?;
                    event
                }
                None => continue,
            },
            Next::Idle => {
                recorder.settle().await?;
                performer.observe(machine, None);
                performer.wait().await
            }
        };
        match event {
            Event::Outcome { id, outcome, at } => {
                recorder.record(id, &outcome, at).await?;
                now = at;
                machine.feed(id, outcome, at);
            }
            Event::Set { id, name, value, .. } => _ = machine.set(id, &name, value),
            Event::TimeUp { within, at } => machine.time_is_up(within, at),
            Event::Stop { at } => machine.call_off(at),
            Event::Broken { detail, at } => {
                let failure = Failure::new(FailureKind::Internal, detail);
                machine.stop(failure, Problem::new(500, "Internal server error"), at);
            }
            Event::Leave => return Ok(Left::Waiting),
        }
    }
}

/// Keeps nothing.
pub struct Nothing;

impl Recorder for Nothing {
    type Error = Infallible;

    fn record(&mut self, _: EffectId, _: &Outcome, _: Timestamp) -> impl Future<Output = Result<(), Infallible>> {
        ready(Ok(()))
    }
}

/// Answers from outcomes that were recorded before, in their order; leaves the run behind the last one.
pub struct Recorded<I: Iterator> {
    rows: Peekable<I>,
    /// Effects that were asked for and have no outcome.
    pub asked: Vec<(EffectId, Effect)>,
    /// Why an outcome could not be used; the run is left before it.
    pub fault: Option<String>,
}

impl Recorded<std::iter::Empty<Result<(EffectId, Outcome, Timestamp), String>>> {
    /// No outcomes: runs up to the first effect that it waits for.
    pub fn none() -> Self {
        Recorded::new(std::iter::empty())
    }
}

impl<I: Iterator<Item = Result<(EffectId, Outcome, Timestamp), String>>> Recorded<I> {
    /// Outcomes in their order; one that cannot be read is an error that says why.
    pub fn new(rows: I) -> Self {
        Recorded { rows: rows.peekable(), asked: Vec::new(), fault: None }
    }

    /// Whether no outcome is left.
    pub fn is_exhausted(&mut self) -> bool {
        self.rows.peek().is_none()
    }

    /// When the computation of this id was interrupted; nothing for one that was not.
    pub fn interrupted(&mut self, id: EffectId) -> Option<Timestamp> {
        let wanted = |row: &I::Item| matches!(row, Ok((known, Outcome::Interrupted, _)) if *known == id);
        match self.rows.next_if(wanted) {
            Some(Ok((.., at))) => Some(at),
            _ => None,
        }
    }
}

impl<I: Iterator<Item = Result<(EffectId, Outcome, Timestamp), String>>> Performer for Recorded<I> {
    fn begin(&mut self, id: EffectId, effect: Effect) {
        self.asked.push((id, effect));
    }

    fn cancel(&mut self, id: EffectId) {
        self.asked.retain(|(known, _)| *known != id);
    }

    fn wait(&mut self) -> impl Future<Output = Event> {
        ready(match self.rows.next() {
            None => Event::Leave,
            Some(Ok((id, outcome, at))) if self.asked.iter().any(|(known, _)| *known == id) => {
                self.cancel(id);
                Event::Outcome { id, outcome, at }
            }
            Some(Ok((id, ..))) => {
                self.fault = Some(format!("the run asks for no effect {id}"));
                Event::Leave
            }
            Some(Err(why)) => {
                self.fault = Some(why);
                Event::Leave
            }
        })
    }

    fn compute(&mut self, id: EffectId, machine: &mut Machine) -> impl Future<Output = Option<Event>> {
        let interrupted = self.interrupted(id);
        if interrupted.is_none() {
            machine.compute();
        }
        ready(interrupted.map(|at| Event::Stop { at }))
    }
}

/// The result of a future that never waits: of a drive whose performer and recorder do no I/O.
///
/// # Panics
///
/// When the future waits, which is a fault of the performer.
pub fn at_once<T>(future: impl Future<Output = T>) -> T {
    match pin!(future).poll(&mut Context::from_waker(Waker::noop())) {
        Poll::Ready(result) => result,
        Poll::Pending => unreachable!("a performer without I/O waits"),
    }
}

#[cfg(test)]
mod tests {
    use std::sync::Arc;

    use kanzlei_compiler::check::{Bundle, check};
    use kanzlei_compiler::plan::Plan;
    use kanzlei_model::run::RunState;
    use kanzlei_model::value::Value;

    use super::*;
    use crate::machine::Start;

    fn plan(steps: &str) -> Arc<Plan> {
        let text = format!("workflow: w\nsteps:\n{steps}");
        let checked = check(&Bundle::of([("w.yaml".to_owned(), text)]));
        assert_eq!(checked.errors(), 0, "{:?}", checked.diagnostics);
        checked.workflows[0].1.clone()
    }

    fn machine(plan: &Arc<Plan>) -> Box<Machine> {
        let start = Start::new("r", Value::Undefined, Timestamp::EPOCH);
        Machine::new(plan.clone(), start)
    }

    /// Keeps what it is given, in order.
    #[derive(Default)]
    struct Log(Vec<String>, Vec<(EffectId, Outcome, Timestamp)>, Option<usize>);

    impl Recorder for Log {
        type Error = &'static str;

        fn reply(&mut self, reply: Reply) {
            self.0.push(format!("reply {}", reply.status));
        }

        fn remark(&mut self, remark: Remark, at: Timestamp) {
            self.0.push(format!("{remark:?} at {}", at.as_micros()));
        }

        async fn record(&mut self, id: EffectId, outcome: &Outcome, at: Timestamp) -> Result<(), &'static str> {
            if self.2 == Some(self.1.len()) {
                return Err("the database is unavailable");
            }
            self.0.push(format!("outcome at {}", at.as_micros()));
            self.1.push((id, outcome.clone(), at));
            Ok(())
        }
    }

    const STEPS: &str = "  - pause: 1s\n  - note: a\n  - pause: 2s\n  - progress: 0.5\n  - reply: 204\n";

    fn on_clock(machine: &mut Machine, log: &mut Log) -> Result<Left, &'static str> {
        let mut clock = virtual_clock::Clock::new(Timestamp::EPOCH, None, |_: &Effect, _| unreachable!());
        at_once(drive(machine, &mut clock, log, Timestamp::EPOCH))
    }

    #[test]
    fn what_is_recorded_makes_the_same_run() {
        let plan = plan(STEPS);
        let (mut live, mut log) = (machine(&plan), Log::default());
        assert_eq!(on_clock(&mut live, &mut log), Ok(Left::Ended));
        assert_eq!(
            log.0,
            [
                "outcome at 1000000",
                "Note(Text(\"a\")) at 1000000",
                "outcome at 3000000",
                "Progress(0.5) at 3000000",
                "reply 204"
            ]
        );
        for known in 0..=log.1.len() {
            let (mut again, mut second) = (machine(&plan), Log::default());
            let mut recorded = Recorded::new(log.1[..known].iter().cloned().map(Ok));
            let left = at_once(drive(&mut again, &mut recorded, &mut second, Timestamp::EPOCH));
            assert_eq!(left == Ok(Left::Ended), known == log.1.len(), "{known} outcomes");
            assert_eq!((recorded.asked.len(), recorded.fault), (usize::from(known < log.1.len()), None));
            assert!(log.0.starts_with(&second.0), "{:?}", second.0);
        }
    }

    #[test]
    fn an_outcome_that_is_not_kept_is_not_seen() {
        let plan = plan(STEPS);
        let (mut run, mut log) = (machine(&plan), Log(Vec::new(), Vec::new(), Some(1)));
        assert_eq!(on_clock(&mut run, &mut log), Err("the database is unavailable"));
        assert!(run.ended().is_none() && run.reply().is_none());
    }

    #[test]
    fn a_run_is_stopped_broken_or_left_by_its_performer() {
        struct Once(Option<Event>);
        impl Performer for Once {
            fn begin(&mut self, _: EffectId, _: Effect) {}
            fn cancel(&mut self, _: EffectId) {}
            async fn wait(&mut self) -> Event {
                self.0.take().unwrap_or(Event::Leave)
            }
        }
        let plan = plan("  - pause: 1s\n");
        for (event, left, state) in [
            (Event::Stop { at: Timestamp::from_micros(5) }, Left::Ended, Some(RunState::Cancelled)),
            (Event::Broken { detail: "so".into(), at: Timestamp::from_micros(5) }, Left::Ended, Some(RunState::Failed)),
            (
                Event::TimeUp { within: Duration::from_secs(1), at: Timestamp::from_micros(5) },
                Left::Ended,
                Some(RunState::Failed),
            ),
            (Event::Leave, Left::Waiting, None),
        ] {
            let shown = format!("{event:?}");
            let mut run = machine(&plan);
            assert_eq!(
                at_once(drive(&mut run, &mut Once(Some(event)), &mut Nothing, Timestamp::EPOCH)),
                Ok(left),
                "{shown}"
            );
            assert_eq!(run.ended().map(|ended| ended.state), state, "{shown}");
        }
    }

    #[test]
    fn an_interruption_is_recorded_and_replayed() {
        /// Has a computation interrupted at an instant.
        struct Interrupts(Option<Timestamp>);
        impl Performer for Interrupts {
            fn begin(&mut self, _: EffectId, _: Effect) {}
            fn cancel(&mut self, _: EffectId) {}
            async fn wait(&mut self) -> Event {
                Event::Leave
            }
            async fn compute(&mut self, _: EffectId, machine: &mut Machine) -> Option<Event> {
                machine.watch().interrupt();
                machine.compute();
                self.0.map(|at| Event::Stop { at })
            }
        }
        let steps = "  - let: {n: \"${list.range(100000).map(i => i).length}\"}\n  - pause: 1s\n  - note: ${n}\n";
        let plan = plan(steps);
        let at = Timestamp::from_micros(77);
        let (mut run, mut log) = (machine(&plan), Log::default());
        let left = at_once(drive(&mut run, &mut Interrupts(Some(at)), &mut log, Timestamp::EPOCH));
        assert_eq!((left, log.1.len()), (Ok(Left::Ended), 1), "{:?}", log.1);
        let mut again = machine(&plan);
        let mut recorded = Recorded::new(log.1.into_iter().map(Ok));
        let left = at_once(drive(&mut again, &mut recorded, &mut Nothing, Timestamp::EPOCH));
        assert_eq!((left, recorded.fault, recorded.asked.len()), (Ok(Left::Ended), None, 0));
        assert_eq!(format!("{:?}", again.ended()), format!("{:?}", run.ended()));
        assert_eq!(format!("{:?}", again.records()), format!("{:?}", run.records()));
        // Without the interruption it goes on to its pause.
        let mut whole = Recorded::none();
        let left = at_once(drive(&mut machine(&plan), &mut whole, &mut Nothing, Timestamp::EPOCH));
        assert_eq!((left, whole.asked.len()), (Ok(Left::Waiting), 1));
    }

    #[test]
    fn outcomes_that_do_not_fit_are_refused() {
        let plan = plan("  - pause: 1s\n");
        for (row, fault) in [
            (Ok((77, Outcome::Waited, Timestamp::EPOCH)), "asks for no effect 77"),
            (Err("sealed with another key".to_owned()), "sealed with another key"),
        ] {
            let mut recorded = Recorded::new([row].into_iter());
            let left = at_once(drive(&mut machine(&plan), &mut recorded, &mut Nothing, Timestamp::EPOCH));
            assert_eq!(left, Ok(Left::Waiting));
            assert!(recorded.fault.expect("a fault").contains(fault));
        }
    }
}
