//! Trials: a run of a workflow that need not be live, by the driver of live traffic, with some effects performed and
//! others simulated.
//!
//! What changes nothing is real by default: GET and HEAD calls, statements that only read (in a read-only transaction), and
//! reading what was kept. Everything else is answered by a [`Simulation`], unless it is asked for. Waits are skipped: the
//! trial's own clock jumps.

pub mod stepwise;

use std::convert::Infallible;
use std::sync::Arc;
use std::time::{Duration, Instant};

use futures_util::future::{AbortHandle, Abortable, BoxFuture, FutureExt};
use futures_util::stream::{FuturesUnordered, StreamExt};
use kanzlei_compiler::sql::{Class, judge};
use kanzlei_engine::driver::{Event, Performer, drive};
use kanzlei_engine::machine::{Effect, EffectId, FileWork, Machine, Outcome};
use kanzlei_model::time::{Span, Timestamp};
use kanzlei_rehearsal::simulate::{Described, Simulation};

use self::stepwise::{Control, Stepwise};

use crate::clock::now;
use crate::effects::{Context, Effects};
use crate::live::Live;

/// The most effects of one trial that are listed.
const LISTED: usize = 1000;

/// What is performed and what is not.
#[derive(Clone, Debug, Default)]
pub struct Modes {
    /// Everything is performed.
    pub all: bool,
    /// Names of what is performed although it may change something: `customs.request`, `sql.harbour`, `keep`, `enqueue`, `cancel`.
    pub real: Vec<String>,
    /// Names of what is not performed although it only reads.
    pub simulated: Vec<String>,
}

/// How an effect was answered.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Mode {
    /// It was performed.
    Real,
    /// A stub answered.
    Stubbed,
    /// It was simulated.
    Simulated,
}

/// An effect of a trial.
#[derive(Clone, Debug)]
pub struct Tried {
    /// Its name, as [`Modes`] has it.
    pub name: String,
    /// What it is, on one line: `GET /vessels/9074720`.
    pub what: String,
    /// How it was answered.
    pub mode: Mode,
}

/// A trial with all it needs.
pub struct Trial<'t> {
    /// The machine, which has not begun.
    pub machine: Box<Machine>,
    /// The documents that it sees.
    pub live: Arc<Live>,
    /// Performs effects.
    pub effects: Arc<Effects>,
    /// What it identifies itself by to services.
    pub about: Context,
    /// What is performed.
    pub modes: Modes,
    /// Answers the rest.
    pub simulation: Simulation<'t>,
    /// When it begins, on its own clock.
    pub begins: Timestamp,
    /// How long it may take, waits that are skipped not counted.
    pub within: Duration,
    /// Who decides before each effect; nobody where it runs through.
    pub control: Option<Control>,
    /// The step that alone may be performed, by its number: everything else is simulated.
    pub only: Option<String>,
}

/// What came of a trial.
pub struct Ended {
    /// The machine at its end.
    pub machine: Box<Machine>,
    /// Its effects, in order.
    pub tried: Vec<Tried>,
}

impl Trial<'_> {
    /// Drives it to its end.
    pub async fn run(self) -> Ended {
        let mut machine = self.machine;
        let mut trying = Trying {
            live: self.live,
            effects: self.effects,
            about: Arc::new(self.about),
            modes: self.modes,
            simulation: self.simulation,
            tried: Vec::new(),
            ahead: self.begins - now(),
            deadline: Instant::now() + self.within,
            within: self.within,
            stepwise: self.control.map(Stepwise::new),
            only: self.only,
            alone: true,
            ready: Vec::new(),
            under_way: FuturesUnordered::new(),
            handles: Vec::new(),
        };
        let Ok(_) = drive(&mut machine, &mut trying, &mut Unrecorded, self.begins).await;
        Ended { machine, tried: trying.tried }
    }
}

/// Keeps nothing: what a trial did is in its machine.
struct Unrecorded;

impl kanzlei_engine::driver::Recorder for Unrecorded {
    type Error = Infallible;

    async fn record(&mut self, _: EffectId, _: &Outcome, _: Timestamp) -> Result<(), Infallible> {
        Ok(())
    }
}

struct Trying<'t> {
    live: Arc<Live>,
    effects: Arc<Effects>,
    about: Arc<Context>,
    modes: Modes,
    simulation: Simulation<'t>,
    tried: Vec<Tried>,
    /// How far the trial's clock is ahead of the real one: the waits it skipped, and where it began.
    ahead: Span,
    deadline: Instant,
    within: Duration,
    /// Effects before which it stops.
    stepwise: Option<Stepwise>,
    only: Option<String>,
    /// Whether the effect that begins is of the step that alone is performed, or there is none.
    alone: bool,
    /// Outcomes that did not have to be waited for, each with the time it comes at.
    ready: Vec<(EffectId, Outcome, Timestamp)>,
    under_way: FuturesUnordered<Abortable<BoxFuture<'static, (EffectId, Outcome)>>>,
    handles: Vec<(EffectId, AbortHandle)>,
}

/// The name of an effect, what it is, and whether it only reads.
fn of(effect: &Effect) -> (String, String, bool) {
    let named = |name: &str, what: String, reads: bool| (name.to_owned(), what, reads);
    match effect {
        Effect::Call(request) => {
            let name = match &request.operation {
                Some(operation) => format!("{}.{operation}", request.service),
                None => request.service.clone(),
            };
            let reads = matches!(request.method.as_str(), "GET" | "HEAD");
            (name, format!("{} {}", request.method, request.target), reads)
        }
        Effect::Query(query) => {
            let reads = query.statements.iter().all(|sql| {
                judge(&sql.text, sql.values.len(), query.transaction).is_ok_and(|judged| judged.class == Class::Reads)
            });
            let first = query.statements.first().map_or("", |sql| sql.text.as_str());
            let words: Vec<&str> = first.split_whitespace().take(12).collect();
            (format!("sql.{}", query.database), words.join(" "), reads)
        }
        Effect::File(task) => {
            let (word, name, reads) = match &task.work {
                FileWork::Store { to, .. } => ("store in", to.first().map_or("", |(place, _)| place), false),
                FileWork::Fetch { place, .. } => ("fetch from", place.as_str(), true),
                FileWork::List { place, .. } => ("list", place.as_str(), true),
                FileWork::Remove { place, .. } => ("remove from", place.as_str(), false),
                FileWork::Link { place, .. } => ("link to", place.as_str(), true),
                FileWork::Zip { .. } => ("zip", "", true),
                FileWork::Unzip { .. } => ("unzip", "", true),
                FileWork::Read { .. } => ("read", "", true),
                FileWork::Write { .. } => ("write", "", true),
                FileWork::Keep { .. } => ("keep", "", true),
                FileWork::Print { .. } => ("print", "", true),
            };
            let of = if name.is_empty() { word } else { name };
            named(&format!("file.{of}"), format!("{word} {name}").trim_end().to_owned(), reads)
        }
        Effect::Mail(letter) => named("mail", format!("{} to {}", letter.subject, letter.to.join(", ")), false),
        Effect::Rows(task) => named("file.read", format!("rows from {}", task.from), true),
        Effect::Wait { until } => named("wait", format!("until {until}"), false),
        Effect::Enqueue(enqueue) => named("enqueue", format!("{} of {}", enqueue.jobs.len(), enqueue.workflow), false),
        Effect::Cancel(_) => named("cancel", "jobs".into(), false),
        Effect::Wake(waking) => {
            named("wake", format!("what waits in {} by {}", waking.by.workflow, waking.by.key), false)
        }
        Effect::Open { .. } => named("callback", "an address to be called back at".into(), false),
        Effect::Await { .. } => named("callback", "waits to be called back".into(), false),
        Effect::Recall { workflow } => named("recall", format!("what {workflow} kept"), true),
        Effect::Keep(keep) => named("keep", format!("for later runs of {}", keep.workflow), false),
    }
}

impl Trying<'_> {
    fn now(&self) -> Timestamp {
        now() + self.ahead
    }

    /// Whether an effect is performed. Waits, callbacks, and what was kept or stored in this trial never are.
    fn is_real(&self, effect: &Effect, name: &str, reads: bool) -> bool {
        let within_trial = match effect {
            Effect::Wait { .. } | Effect::Open { .. } | Effect::Await { .. } => true,
            Effect::Recall { workflow } => self.simulation.kept(workflow),
            Effect::File(task) => self.simulation.holds(&task.work),
            _ => false,
        };
        if within_trial || !self.alone || self.modes.simulated.iter().any(|known| known == name) {
            return false;
        }
        self.modes.all || reads || self.modes.real.iter().any(|known| known == name)
    }

    /// The time at which a simulated effect comes to its end.
    fn end_of(&self, effect: &Effect, takes: Span) -> Timestamp {
        match effect {
            Effect::Wait { until } => (*until).max(self.now()),
            Effect::Await { until: Some(until), .. } => (*until).max(self.now()),
            _ => self.now() + takes,
        }
    }

    /// What the trial does about an effect where nobody decides otherwise, stubs not counted.
    fn usual(&self, effect: &Effect) -> Tried {
        let (name, what, reads) = of(effect);
        let mode = if self.is_real(effect, &name, reads) { Mode::Real } else { Mode::Simulated };
        Tried { name, what, mode }
    }

    /// Whether an effect can be performed in a trial at all.
    fn can_perform(&self, effect: &Effect) -> bool {
        !matches!(effect, Effect::Wait { .. } | Effect::Open { .. } | Effect::Await { .. })
    }

    fn simulated(&mut self, effect: &Effect) -> Outcome {
        let now = self.now();
        let described: Option<Described> = match effect {
            Effect::Call(request) => self
                .live
                .services
                .get(&request.service)
                .and_then(|service| Some((service.operations.get(request.operation.as_ref()?)?, &*service.api))),
            _ => None,
        };
        self.simulation.outcome(effect, described, now)
    }

    /// Lists an effect.
    fn tell(&mut self, effect: &Effect, mode: Mode) {
        if self.tried.len() < LISTED && !matches!(effect, Effect::Recall { .. }) {
            let (name, what, _) = of(effect);
            self.tried.push(Tried { name, what, mode });
        }
    }

    fn begin_as_usual(&mut self, id: EffectId, effect: Effect) {
        let at = self.now();
        let usual = self.usual(&effect);
        let (mode, answered) = match self.simulation.stubbed(&effect, at) {
            Some((takes, outcome)) => (Mode::Stubbed, Some((takes, outcome))),
            None if usual.mode == Mode::Real => (Mode::Real, None),
            None => (Mode::Simulated, Some((Span::ZERO, self.simulated(&effect)))),
        };
        self.tell(&effect, mode);
        match answered {
            Some((takes, outcome)) => {
                let at = self.end_of(&effect, takes);
                self.ready.push((id, outcome, at));
            }
            None => {
                let (.., reads) = of(&effect);
                self.perform(id, effect, reads);
            }
        }
    }

    fn perform(&mut self, id: EffectId, effect: Effect, reads: bool) {
        let (effects, live, about) = (self.effects.clone(), self.live.clone(), self.about.clone());
        let left = self.deadline.saturating_duration_since(Instant::now());
        let work = async move {
            let outcome = match &effect {
                Effect::Query(query) if reads && query.into.is_none() => {
                    Outcome::Queried(effects.read(query, left).await)
                }
                effect => effects.perform(&live, &about, id, effect, left).await,
            };
            (id, outcome)
        };
        let (handle, registration) = AbortHandle::new_pair();
        self.under_way.push(Abortable::new(work.boxed(), registration));
        self.handles.push((id, handle));
    }
}

impl Performer for Trying<'_> {
    fn observe(&mut self, machine: &Machine, effect: Option<EffectId>) {
        match effect {
            Some(id) => {
                let of = |number: &String| machine.waiting(id).is_some_and(|waiting| waiting.number == *number);
                self.alone = self.only.as_ref().is_none_or(of);
            }
            None => self.observed(machine),
        }
    }

    fn begin(&mut self, id: EffectId, effect: Effect) {
        match &mut self.stepwise {
            Some(stepwise) if Stepwise::stops_at(&effect) => stepwise.push(id, effect),
            _ => self.begin_as_usual(id, effect),
        }
    }

    fn cancel(&mut self, id: EffectId) {
        if let Some(stepwise) = &mut self.stepwise {
            stepwise.cancel(id);
        }
        self.ready.retain(|(known, ..)| *known != id);
        self.handles.retain(|(known, handle)| {
            if *known == id {
                handle.abort();
            }
            *known != id
        });
    }

    async fn wait(&mut self) -> Event {
        loop {
            // A loop of simulated steps leaves the thread to others, and meets the deadline too.
            tokio::task::yield_now().await;
            if self.deadline <= Instant::now() {
                return Event::TimeUp { within: self.within, at: self.now() };
            }
            if self.stepwise.as_ref().is_some_and(Stepwise::is_waiting) {
                let event = self.decided().await;
                let more = self.stepwise.as_ref().is_some_and(Stepwise::is_waiting);
                match event {
                    Some(event) => return event,
                    None if more => return self.shown_again(),
                    None => continue,
                }
            }
            let next = self.ready.iter().enumerate().min_by_key(|(_, (.., at))| *at);
            let next = next.map(|(index, (.., at))| (index, at.since(self.now())));
            let mut patience = self.deadline;
            if let Some((index, behind)) = next {
                // The clock is moved on only where nothing real is under way: that may come first.
                if behind <= Span::ZERO || self.under_way.is_empty() {
                    let (id, outcome, at) = self.ready.remove(index);
                    self.ahead += behind.max(Span::ZERO);
                    return Event::Outcome { id, outcome, at };
                }
                patience = patience.min(Instant::now() + Duration::from(behind));
            }
            return match tokio::time::timeout_at(patience.into(), self.under_way.next()).await {
                Ok(Some(Ok((id, outcome)))) => {
                    self.handles.retain(|(known, _)| *known != id);
                    Event::Outcome { id, outcome, at: self.now() }
                }
                Ok(Some(Err(_))) => continue,
                Ok(None) => Event::Broken { detail: "the trial waits for nothing".into(), at: self.now() },
                Err(_) => continue,
            };
        }
    }

    async fn yield_now(&mut self) -> Option<Event> {
        if self.deadline <= Instant::now() {
            return Some(Event::TimeUp { within: self.within, at: self.now() });
        }
        tokio::task::yield_now().await;
        None
    }

    async fn compute(&mut self, _: EffectId, machine: &mut Machine) -> Option<Event> {
        let (deadline, within, at) = (self.deadline, self.within, self.now());
        let time_up = async move {
            tokio::time::sleep_until(deadline.into()).await;
            Event::TimeUp { within, at }
        };
        let computing = self.effects.computing.clone();
        computing.compute(machine, time_up).await
    }
}
