//! Direct runs: driven until their first wait at once, and from there to their end in a task.

use std::convert::Infallible;
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::{Duration, Instant};

use futures_util::future::{AbortHandle, Abortable, BoxFuture, FutureExt};
use futures_util::stream::{FuturesUnordered, StreamExt};
use kanzlei_engine::driver::{self, Event, Left, Performer, Recorded, Recorder, at_once};
use kanzlei_engine::machine::{Effect, EffectId, Machine, Outcome, Reply};
use kanzlei_model::caller::Caller;
use kanzlei_model::time::Timestamp;
use kanzlei_model::trace::Trace;
use kanzlei_model::value::Value;
use tokio::sync::oneshot;
use uuid::Uuid;

use crate::admission::Admitted;
use crate::begun::{self, Noted, Notes};
use crate::clock::now;
use crate::effects::{Context, Effects};
use crate::files::Holder;
use crate::files::rows::Readings;
use crate::journal::{Announced, Finished, Journal};
use crate::live::{self, Workflow};
use crate::places::Place;

/// A run with everything that stays the same while it runs.
pub struct DirectRun {
    /// Its id.
    pub id: Uuid,
    /// The machine, which has not begun.
    pub machine: Box<Machine>,
    /// The workflow, as it was live when the request came.
    pub workflow: Arc<Workflow>,
    /// Everything that was live then: services and lanes.
    pub live: Arc<live::Live>,
    /// Performs its effects.
    pub effects: Arc<Effects>,
    /// Records it when it ends.
    pub journal: Arc<Journal>,
    /// What began it, such as `POST /harbours/{harbour}/quotes`.
    pub entry: Arc<str>,
    /// When it started.
    pub started: Timestamp,
    /// When its time is up.
    pub deadline: Instant,
    /// How long it may take in all.
    pub within: Duration,
    /// The `X-Request-Id` of the request.
    pub request_id: String,
    /// The trace it continues.
    pub trace: Trace,
    /// Who called, where that is known.
    pub caller: Caller,
    /// Its files.
    pub files: Arc<Holder>,
    /// The gathered input.
    pub input: Value,
    /// Bytes of the request's body.
    pub sent: usize,
    /// Counted down when the run ends.
    pub in_flight: Admitted,
    /// Its place among the runs of its endpoint, where their number is bounded.
    pub place: Option<Place>,
    /// Where it is noted before its first effect.
    pub notes: Arc<Notes>,
}

/// One of the requests in flight; dropping it ends the count.
pub struct InFlight(Arc<AtomicUsize>);

impl InFlight {
    /// Occupies a place; `None` when all `most` are occupied.
    pub fn enter(count: &Arc<AtomicUsize>, most: usize) -> Option<Self> {
        if count.fetch_add(1, Ordering::Relaxed) >= most {
            count.fetch_sub(1, Ordering::Relaxed);
            return None;
        }
        Some(InFlight(count.clone()))
    }
}

impl Drop for InFlight {
    fn drop(&mut self) {
        self.0.fetch_sub(1, Ordering::Relaxed);
    }
}

/// The state of a run after its first steps.
pub enum Begun {
    /// It has ended, with its reply if it has one, and is to be recorded.
    Over(Option<Reply>, Option<Unrecorded>),
    /// It waits for these effects; the reply is present if it has replied.
    Waits(Box<DirectRun>, Vec<(EffectId, Effect)>, Option<Reply>),
}

impl DirectRun {
    /// Drives the run until it needs I/O. Most short workflows end here.
    pub fn begin(mut self: Box<Self>) -> Begun {
        let mut asked = Recorded::none();
        let mut answer = Answer::default();
        let Ok(left) = at_once(driver::drive(&mut self.machine, &mut Pausing(&mut asked), &mut answer, self.started));
        match left {
            Left::Ended => Begun::Over(answer.reply, self.ended()),
            // A run that needs I/O continues in its own task.
            Left::Waiting => Begun::Waits(self, asked.asked, answer.reply),
        }
    }

    /// Drives the run to its end, starting with the effects that it waits for; the reply is sent as soon as it
    /// exists.
    pub async fn go_on(
        mut self: Box<Self>,
        asked: Vec<(EffectId, Effect)>,
        sender: Option<oneshot::Sender<Option<Reply>>>,
    ) {
        let about = Context {
            id: self.id,
            job: false,
            attempt: 1,
            generation: 0,
            readings: Readings::default(),
            files: self.files.clone(),
            caller: self.caller.clone(),
            confidential: self.machine.plan().labels.any,
            trace: self.trace,
            span: self.effects.jobs.span_of(self.id),
            request_id: self.request_id.clone(),
        };
        let mut live = Performing {
            effects: self.effects.clone(),
            live: self.live.clone(),
            about: Arc::new(about),
            deadline: self.deadline,
            within: self.within,
            under_way: FuturesUnordered::new(),
            handles: Vec::new(),
            notes: self.notes.clone(),
            noted: None,
            workflow: self.workflow.clone(),
            entry: self.entry.clone(),
            started: self.started,
        };
        asked.into_iter().for_each(|(id, effect)| live.begin(id, effect));
        let mut answer = Answer { reply: None, sender };
        let Ok(_) = driver::drive(&mut self.machine, &mut live, &mut answer, self.started).await;
        // It is noted until it is recorded.
        let noted = live.noted.take();
        drop(live);
        if let Some(sender) = answer.sender.take() {
            let _ = sender.send(answer.reply.take());
        }
        if let Some(unrecorded) = self.ended() {
            // The answer is sent by another task of this thread.
            tokio::task::yield_now().await;
            unrecorded.record();
        }
        drop(noted);
    }

    /// What is to be recorded of the run, which has ended. Its place, its files and all else that it occupied are free again.
    fn ended(self: Box<Self>) -> Option<Unrecorded> {
        let ended = self.machine.ended()?.clone();
        let finished = Box::new(Finished {
            id: self.id,
            revision: self.workflow.revision,
            entry: self.entry,
            started: self.started,
            request_id: self.request_id,
            trace: self.trace,
            span: self.effects.jobs.span_if_kept(&self.trace, self.id),
            caller: self.caller,
            input: self.input,
            sent: self.sent,
            job: false,
            listed: true,
            ended,
            machine: self.machine,
        });
        let announced = self.journal.announce();
        Some(Unrecorded { finished, journal: self.journal, workflow: self.workflow, announced })
    }
}

/// An ended run that is recorded behind its answer. Readers wait for it.
pub struct Unrecorded {
    finished: Box<Finished>,
    journal: Arc<Journal>,
    workflow: Arc<Workflow>,
    announced: Announced,
}

impl Unrecorded {
    /// Records it.
    pub fn record(self) {
        self.journal.record(self.finished, &self.workflow.counters);
        drop(self.announced);
    }
}

/// The reply of a run, sent to the client as soon as it exists. Nobody follows a direct run, so nothing else is
/// recorded while it runs.
#[derive(Default)]
struct Answer {
    reply: Option<Reply>,
    sender: Option<oneshot::Sender<Option<Reply>>>,
}

impl Recorder for Answer {
    type Error = Infallible;

    fn reply(&mut self, reply: Reply) {
        match self.sender.take() {
            Some(sender) => _ = sender.send(Some(reply)),
            None => self.reply = Some(reply),
        }
    }

    async fn record(&mut self, _: EffectId, _: &Outcome, _: Timestamp) -> Result<(), Infallible> {
        Ok(())
    }
}

/// Collects effects, and stops the run at its first wait, its first computation or after many steps.
struct Pausing<'r, R>(&'r mut R);

impl<R: Performer> Performer for Pausing<'_, R> {
    fn begin(&mut self, id: EffectId, effect: Effect) {
        self.0.begin(id, effect);
    }

    fn cancel(&mut self, id: EffectId) {
        self.0.cancel(id);
    }

    async fn wait(&mut self) -> Event {
        Event::Leave
    }

    async fn yield_now(&mut self) -> Option<Event> {
        Some(Event::Leave)
    }

    async fn compute(&mut self, _: EffectId, _: &mut Machine) -> Option<Event> {
        Some(Event::Leave)
    }
}

type Work = Abortable<BoxFuture<'static, (EffectId, Outcome)>>;

/// Performs effects with I/O, several of one run at the same time, within the run's time.
struct Performing {
    effects: Arc<Effects>,
    live: Arc<live::Live>,
    about: Arc<Context>,
    deadline: Instant,
    within: Duration,
    under_way: FuturesUnordered<Work>,
    handles: Vec<(EffectId, AbortHandle)>,
    notes: Arc<Notes>,
    noted: Option<Noted>,
    workflow: Arc<Workflow>,
    entry: Arc<str>,
    started: Timestamp,
}

impl Performing {
    /// Notes the run before its first effect that changes something.
    fn note(&self, change: String) -> Option<Noted> {
        let about = &self.about;
        self.notes.note(|| {
            let run = (about.id, self.workflow.plan.name.as_str(), self.workflow.revision);
            begun::about(run, &self.entry, self.started, &about.request_id, (&about.trace, &about.caller), change)
        })
    }

    fn time_up(&self) -> Event {
        Event::TimeUp { within: self.within, at: now() }
    }
}

impl Performer for Performing {
    fn begin(&mut self, id: EffectId, effect: Effect) {
        if self.noted.is_none()
            && let Some(change) = begun::change(&effect)
        {
            self.noted = self.note(change);
        }
        let (effects, live, about) = (self.effects.clone(), self.live.clone(), self.about.clone());
        let left = self.deadline.saturating_duration_since(Instant::now());
        let work = async move { (id, effects.perform(&live, &about, id, &effect, left).await) };
        let (handle, registration) = AbortHandle::new_pair();
        self.under_way.push(Abortable::new(work.boxed(), registration));
        self.handles.push((id, handle));
    }

    fn cancel(&mut self, id: EffectId) {
        self.handles.retain(|(known, handle)| {
            if *known == id {
                handle.abort();
            }
            *known != id
        });
    }

    async fn wait(&mut self) -> Event {
        loop {
            return match tokio::time::timeout_at(self.deadline.into(), self.under_way.next()).await {
                Ok(Some(Ok((id, outcome)))) => {
                    self.handles.retain(|(known, _)| *known != id);
                    if self.deadline <= Instant::now() && !succeeded(&outcome) {
                        self.time_up()
                    } else {
                        Event::Outcome { id, outcome, at: now() }
                    }
                }
                // A cancelled effect.
                Ok(Some(Err(_))) => continue,
                Ok(None) => {
                    tracing::error!("a run waits for nothing");
                    Event::Broken { detail: "the run waits for nothing".into(), at: now() }
                }
                Err(_) => self.time_up(),
            };
        }
    }

    async fn yield_now(&mut self) -> Option<Event> {
        if self.deadline <= Instant::now() {
            return Some(self.time_up());
        }
        tokio::task::yield_now().await;
        None
    }

    async fn compute(&mut self, _: EffectId, machine: &mut Machine) -> Option<Event> {
        let (deadline, within) = (self.deadline, self.within);
        let time_up = async move {
            tokio::time::sleep_until(deadline.into()).await;
            Event::TimeUp { within, at: now() }
        };
        let computing = self.effects.computing.clone();
        computing.compute(machine, time_up).await
    }
}

fn succeeded(outcome: &Outcome) -> bool {
    match outcome {
        Outcome::Called(result) => result.is_ok(),
        Outcome::Queried(result) => result.is_ok(),
        Outcome::Filed(result) => result.is_ok(),
        Outcome::Rows(result) => result.is_ok(),
        Outcome::Kept(result) => result.is_ok(),
        Outcome::Queued(result) => result.is_ok(),
        Outcome::Cancelled(result) => result.is_ok(),
        Outcome::Opened(result) => result.is_ok(),
        Outcome::Arrived(arrival) => arrival.is_some(),
        Outcome::Woken(result) => result.is_ok(),
        Outcome::Waited => true,
        Outcome::Interrupted => false,
    }
}
