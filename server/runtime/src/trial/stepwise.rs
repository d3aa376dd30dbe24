//! Trials step by step: before each effect the trial stops, shows what would be asked, and does what its author decides.
//!
//! Decisions arrive through [`Control`]. The trial's clock stops while it waits; it waits at most
//! [`Control::patience`] for one decision.

use std::collections::VecDeque;
use std::time::Duration;

use kanzlei_engine::driver::Event;
use kanzlei_engine::machine::{Effect, EffectId, Machine, Outcome, Waiting};
use kanzlei_model::run::FailureKind;
use kanzlei_model::value::Value;
use kanzlei_rehearsal::simulate::{answered, failed, skipped};
use kanzlei_store::journal::Step;
use tokio::sync::mpsc;

use super::{Mode, Tried, Trying};
use crate::journal;
use crate::secrets::Secrets;

/// The longest value of a name that is shown, in bytes of JSON.
const SHOWN: usize = 64 << 10;

/// What an author decides.
#[derive(Clone, Debug)]
pub enum Command {
    /// What the trial would do without stopping.
    Usual,
    /// Performs it.
    Perform,
    /// Simulates it.
    Simulate,
    /// Performs nothing, and nothing comes back.
    Skip,
    /// Answers it by hand.
    Answer {
        /// The status, for a call.
        status: u16,
        /// The headers, for a call or a callback.
        headers: Vec<(String, String)>,
        /// The body, or the rows of statements.
        body: Option<Value>,
    },
    /// Lets it fail.
    Fail {
        /// How.
        kind: FailureKind,
        /// Why, for people.
        detail: String,
    },
    /// Gives a name that the step knows another value, and stops again.
    Set {
        /// The name.
        name: String,
        /// Its value.
        value: Value,
    },
    /// Does what is usual from here on, without stopping.
    Finish,
    /// Ends the trial.
    End,
}

/// A trial that stopped before an effect. Values are masked.
#[derive(Debug)]
pub struct Paused {
    /// The number of the step.
    pub number: String,
    /// Its positions in the loops around it.
    pub items: Vec<u32>,
    /// The effect: its name, what it is, and what the trial would do.
    pub effect: Tried,
    /// The names that the step knows, with their values as JSON.
    pub names: Vec<(String, String)>,
    /// What the steps did so far, that of the effect included.
    pub steps: Vec<Step>,
    /// The effects before.
    pub tried: Vec<Tried>,
    /// Why the last decision was not possible.
    pub refused: Option<String>,
}

/// The trial's ends of what passes between it and its author.
#[derive(Debug)]
pub struct Control {
    /// Receives each stop.
    pub stops: mpsc::Sender<Paused>,
    /// Holds the decisions.
    pub commands: mpsc::Receiver<Command>,
    /// The input, for masking.
    pub input: Value,
    /// How long a decision is waited for; the trial ends then.
    pub patience: Duration,
}

/// Effects that wait for decisions.
#[derive(Debug)]
pub(super) struct Stepwise {
    pub control: Control,
    queue: VecDeque<(EffectId, Effect)>,
    /// What the first one is shown with.
    shown: Option<Paused>,
    refused: Option<String>,
}

impl Stepwise {
    pub fn new(control: Control) -> Self {
        Stepwise { control, queue: VecDeque::new(), shown: None, refused: None }
    }

    /// Whether the trial stops before an effect: not where it asks for what no step does.
    pub fn stops_at(effect: &Effect) -> bool {
        !matches!(effect, Effect::Recall { .. } | Effect::Open { .. })
    }

    pub fn push(&mut self, id: EffectId, effect: Effect) {
        self.queue.push_back((id, effect));
    }

    pub fn cancel(&mut self, id: EffectId) {
        self.queue.retain(|(known, _)| *known != id);
    }

    pub fn is_waiting(&self) -> bool {
        !self.queue.is_empty()
    }

    fn show(&mut self, machine: &Machine, secrets: &Secrets, of: impl Fn(&Effect) -> Tried, tried: &[Tried]) {
        let Some((id, effect)) = self.queue.front() else { return };
        let Some(Waiting { number, seen }) = machine.waiting(*id) else { return };
        let mask = secrets.of_run(machine, &self.control.input);
        let names = seen.names().map(|(name, value)| {
            let json = match name {
                "input" => seen.plan().input.masked(value).to_json(),
                _ => value.to_json(),
            };
            (name.to_owned(), journal::cut(mask.text(json), SHOWN))
        });
        let mut effect = of(effect);
        effect.what = mask.text(effect.what);
        self.shown = Some(Paused {
            number,
            items: seen.items.clone(),
            effect,
            names: names.collect(),
            steps: journal::steps(machine, SHOWN, &mask),
            tried: tried.to_vec(),
            refused: self.refused.take(),
        });
    }
}

impl Trying<'_> {
    /// Keeps what a stop would show, before the trial waits.
    pub(super) fn observed(&mut self, machine: &Machine) {
        let Some(mut stepwise) = self.stepwise.take() else { return };
        stepwise.show(machine, &self.effects.secrets, |effect| self.usual(effect), &self.tried);
        self.stepwise = Some(stepwise);
    }

    /// Shows the first effect that waits, and does what the author decides. Nothing where the trial goes on to wait.
    pub(super) async fn decided(&mut self) -> Option<Event> {
        let mut stepwise = self.stepwise.take()?;
        let (id, effect) = stepwise.queue.pop_front()?;
        let began = std::time::Instant::now();
        let shown = stepwise.shown.take();
        let names: Vec<String> =
            shown.iter().flat_map(|shown| shown.names.iter().map(|(name, _)| name.clone())).collect();
        let command = match shown {
            // What no step waits for is not shown.
            None => Some(Command::Usual),
            Some(paused) => match stepwise.control.stops.send(paused).await {
                Ok(()) => tokio::time::timeout(stepwise.control.patience, stepwise.control.commands.recv())
                    .await
                    .ok()
                    .flatten(),
                Err(_) => None,
            },
        };
        // The clock stood still, and the time it may take too.
        self.deadline += began.elapsed();
        self.ahead = self.ahead - kanzlei_model::time::Span::from(began.elapsed());
        let at = self.now();
        // Either what comes of it, or why that is not possible.
        let given = |mode: Mode, outcome: Option<Outcome>, why: &str| match outcome {
            Some(outcome) => Ok((mode, outcome)),
            None => Err(why.to_owned()),
        };
        let decided = match command {
            None | Some(Command::End) => return Some(Event::Stop { at }),
            Some(Command::Finish) => {
                self.begin_as_usual(id, effect);
                let rest: Vec<_> = stepwise.queue.drain(..).collect();
                rest.into_iter().for_each(|(id, effect)| self.begin_as_usual(id, effect));
                return None;
            }
            Some(Command::Set { name, .. }) if !names.contains(&name) => {
                Err(format!("the step knows no `{name}`; it knows {}", names.join(", ")))
            }
            Some(Command::Set { name, value }) => {
                stepwise.queue.push_front((id, effect));
                self.stepwise = Some(stepwise);
                return Some(Event::Set { id, name, value, at });
            }
            Some(Command::Usual) => {
                self.begin_as_usual(id, effect);
                self.stepwise = Some(stepwise);
                return None;
            }
            Some(Command::Perform) if !self.can_perform(&effect) => {
                Err("a trial performs no waits and no callbacks; let it go on as usual, or skip it".to_owned())
            }
            Some(Command::Perform) => {
                self.tell(&effect, Mode::Real);
                let (.., reads) = super::of(&effect);
                self.perform(id, effect, reads);
                self.stepwise = Some(stepwise);
                return None;
            }
            Some(Command::Simulate) => Ok((Mode::Simulated, self.simulated(&effect))),
            Some(Command::Skip) => given(Mode::Simulated, skipped(&effect), "this cannot be skipped; simulate it"),
            Some(Command::Answer { status, headers, body }) => given(
                Mode::Stubbed,
                answered(&effect, status, &headers, body.as_ref()),
                "only calls, statements and callbacks are answered by hand; simulate it",
            ),
            Some(Command::Fail { kind, detail }) => {
                given(Mode::Stubbed, failed(&effect, kind, &detail), "this cannot fail; let it go on as usual")
            }
        };
        match decided {
            Ok((mode, outcome)) => {
                self.tell(&effect, mode);
                let at = self.end_of(&effect, kanzlei_model::time::Span::ZERO);
                self.ready.push((id, outcome, at));
                self.stepwise = Some(stepwise);
                None
            }
            Err(why) => {
                stepwise.refused = Some(why);
                stepwise.queue.push_front((id, effect));
                self.stepwise = Some(stepwise);
                Some(self.shown_again())
            }
        }
    }

    /// Changes nothing, so that the run is seen again before the next stop.
    pub(super) fn shown_again(&self) -> Event {
        Event::Set { id: EffectId::MAX, name: String::new(), value: Value::Undefined, at: self.now() }
    }
}
