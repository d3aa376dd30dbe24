//! Histories of jobs under faults: what clients, workers and operators ask of the queue while connections to the database break at
//! any statement, workers crash or are only slow, and what the queue promises is checked along the way and at the end.
//!
//! `KANZLEI_ROUNDS=100000 cargo test -p kanzlei-store histories` runs as many. Each is made of choices that shrink to a small one.

use std::collections::BTreeSet;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Duration;

use kanzlei_faults::proxy::{Fault, Plan, start};
use kanzlei_model::time::{Span, Timestamp};
use kanzlei_samples::{Dice, with_dice};
use kanzlei_store::Store;
use kanzlei_store::queue::{End, JobPhase, NewJob, NewOutcome, Room, Write};
use uuid::Uuid;

use super::queue::job;
use super::{Bed, every_rank, time, with};

const ALL: &[(u8, Timestamp)] = &every_rank();
/// Lock wait timeout, deadlock, read only, server shutdown.
const ERRORS: [u16; 4] = [1205, 1213, 1290, 1053];

/// The time between two beginnings of a lane with a pace, and how much unused time it may make up for.
const GAP: i64 = 1_000_000;
const UNUSED: i64 = 250_000;

/// A job as the history knows it.
#[derive(Debug, Default)]
struct Known {
    id: Uuid,
    key: Option<String>,
    asked: bool,
    due: Timestamp,
    /// Its position among the accepted jobs, once its client knows that it is queued.
    accepted: Option<usize>,
    /// The highest fence that a claim returned.
    fence: u32,
    /// Effects whose outcome is recorded, as their worker knows.
    recorded: BTreeSet<u64>,
    /// How it ended, as somebody knows.
    ended: Option<JobPhase>,
    /// Somebody may have changed it and does not know.
    doubtful: bool,
}

/// A job that a worker performs.
#[derive(Debug)]
struct Held {
    job: usize,
    fence: u32,
    next: u64,
    /// A write that may have counted; it is repeated.
    unknown: Option<Write>,
}

impl Held {
    /// Whether the job has ended or paused, for all that its worker knows.
    fn may_have_ended(&self) -> bool {
        self.unknown.as_ref().is_some_and(|write| write.end.is_some())
    }
}

#[derive(Debug, Default)]
struct Worker {
    id: Uuid,
    held: Vec<Held>,
}

/// One history.
struct History<'b> {
    /// Behind the faults.
    store: &'b Store,
    /// Without faults.
    clear: &'b Store,
    plan: &'b Plan,
    number: u64,
    lane: String,
    room: Room,
    at: i64,
    jobs: Vec<Known>,
    workers: [Worker; 2],
    /// Workers that others declare dead.
    dead: Vec<Uuid>,
    ever: Vec<Uuid>,
    accepted: usize,
    /// When jobs began.
    begun: Vec<i64>,
    told: Vec<String>,
    seen: Seen,
}

/// How often what matters came up.
#[derive(Clone, Copy, Debug, Default)]
struct Seen {
    claimed: u32,
    recorded: u32,
    ended: u32,
    /// Writes of a worker that had lost its job.
    stale: u32,
    /// Writes that were repeated because nobody knew whether they counted.
    repeated: u32,
    cancelled: u32,
}

impl std::ops::AddAssign for Seen {
    fn add_assign(&mut self, other: Seen) {
        self.claimed += other.claimed;
        self.recorded += other.recorded;
        self.ended += other.ended;
        self.stale += other.stale;
        self.repeated += other.repeated;
        self.cancelled += other.cancelled;
    }
}

impl<'b> History<'b> {
    fn new(bed: (&'b Store, &'b Store, &'b Plan), number: u64, dice: &mut Dice) -> Self {
        let keyed = dice.below(3);
        let jobs = 1 + dice.below(4);
        let gap = dice.one_in(4).then_some(Span::from_micros(GAP));
        let room = Room { at_once: *dice.pick(&[None, Some(1), Some(2)]), gap, generation: 1 };
        let jobs = (0..jobs).map(|at| Known {
            id: Uuid::from_u128((u128::from(number) << 16) + at as u128 + 1),
            key: (at < keyed).then(|| format!("key-{number}")),
            ..Known::default()
        });
        let mut history = History {
            store: bed.0,
            clear: bed.1,
            plan: bed.2,
            number,
            lane: format!("lane-{number}"),
            room,
            at: 1000,
            jobs: jobs.collect(),
            workers: Default::default(),
            dead: Vec::new(),
            ever: Vec::new(),
            accepted: 0,
            begun: Vec::new(),
            told: Vec::new(),
            seen: Seen::default(),
        };
        [0, 1].into_iter().for_each(|which| history.renew(which));
        history
    }

    /// Another process takes the place of a worker.
    fn renew(&mut self, which: usize) {
        let id = Uuid::from_u128((u128::from(self.number) << 16) + 0x8000 + self.ever.len() as u128);
        self.ever.push(id);
        self.workers[which].id = id;
    }

    fn row(&self, which: usize) -> NewJob {
        let Known { id, key, due, .. } = &self.jobs[which];
        NewJob { id: *id, ordering_key: key.clone(), accepted: *due, due: *due, ..job(1, &self.lane) }
    }

    fn violated(&self, why: &str) -> ! {
        panic!("{why}\n{}\n{:#?}\n{:#?}", self.told.join("\n"), self.jobs, self.workers)
    }

    /// Each job is asked for, some of them while something breaks.
    async fn first(&mut self, which: usize, dice: &mut Dice) {
        self.at += 10;
        let fault = dice.one_in(8).then(|| (Fault::LostBehind, dice.below(4) as u32));
        self.told.push(format!("{}: job {which} is queued, {fault:?}", self.at));
        self.plan.set(fault);
        self.enqueue(which).await;
        self.plan.set(None);
    }

    async fn step(&mut self, dice: &mut Dice) {
        let fault = dice.one_in(3).then(|| {
            let kind = dice.below(4);
            let error = *dice.pick(&ERRORS);
            let fault = [Fault::LostBehind, Fault::LostBefore, Fault::Error(error), Fault::Delay][kind];
            (fault, dice.below(7) as u32)
        });
        let (kind, which, worker) = (dice.below(13), dice.below(self.jobs.len()), dice.below(2));
        self.at += match self.room.gap {
            Some(_) => *dice.pick(&[10, 100_000, GAP]),
            None => 10,
        };
        self.told.push(format!("{}: operation {kind}, job {which}, worker {worker}, {fault:?}", self.at));
        self.plan.set(fault);
        match kind {
            0 => self.enqueue(which).await,
            1..=3 => self.claim(worker).await,
            4..=6 => self.record(worker).await,
            7 => self.end(worker, *dice.pick(&[JobPhase::Succeeded, JobPhase::Failed, JobPhase::Ready])).await,
            8 | 9 => self.lose(worker, dice.below(3) > 0).await,
            10 | 11 => self.recover(worker).await,
            _ => self.cancel(which).await,
        }
        self.plan.set(None);
        self.bounds().await;
    }

    async fn enqueue(&mut self, which: usize) {
        if !self.jobs[which].asked {
            self.jobs[which].due = time(self.at);
        }
        self.jobs[which].asked = true;
        // One that is queued again stays as it is.
        if self.store.enqueue(&[self.row(which)], None).await.is_ok() && self.jobs[which].accepted.is_none() {
            self.accepted += 1;
            self.jobs[which].accepted = Some(self.accepted);
        }
    }

    async fn claim(&mut self, which: usize) {
        let worker = self.workers[which].id;
        let Ok(claimed) = self.store.claim(worker, (&self.lane, ALL), self.room, 3, time(self.at)).await else {
            return;
        };
        for claimed in claimed.jobs {
            let at =
                self.jobs.iter().position(|known| known.id == claimed.id).unwrap_or_else(|| self.violated("unknown"));
            self.admitted(at, claimed.fence);
            self.begun.push(self.at);
            self.seen.claimed += 1;
            let outcomes = self.clear.outcomes(&[(claimed.id, claimed.attempt)]).await.expect("outcomes");
            let effects: BTreeSet<u64> = outcomes.iter().map(|outcome| outcome.effect).collect();
            if !self.jobs[at].recorded.is_subset(&effects) {
                self.violated("an outcome that was recorded is lost");
            }
            let held = Held { job: at, fence: claimed.fence, next: effects.len() as u64, unknown: None };
            self.workers[which].held.push(held);
        }
    }

    /// Checks that a job may run now, and that nobody else has it.
    fn admitted(&mut self, at: usize, fence: u32) {
        let known = &self.jobs[at];
        if known.ended.is_some() {
            self.violated("a job that ended runs again");
        }
        if fence <= known.fence {
            self.violated("a fence was used before");
        }
        let stands = |held: &&Held| self.jobs[held.job].fence == held.fence && !held.may_have_ended();
        let held = self.workers.iter().flat_map(|worker| &worker.held).filter(stands);
        for held in held.filter(|held| held.job != at) {
            let other = &self.jobs[held.job];
            if other.key.is_some() && other.key == known.key && !other.doubtful {
                self.violated("two jobs of one key run");
            }
        }
        let earlier = self.jobs.iter().enumerate().filter(|(other, _)| *other != at);
        let may_have_ended = |which: usize| {
            let held = self.workers.iter().flat_map(|worker| &worker.held);
            held.filter(|held| held.job == which).any(Held::may_have_ended)
        };
        for (which, other) in earlier {
            let first = matches!((other.accepted, known.accepted), (Some(a), Some(b)) if a < b);
            if first
                && other.due < known.due
                && known.key.is_some()
                && other.key == known.key
                && other.ended.is_none()
                && !other.doubtful
                && !may_have_ended(which)
            {
                self.violated("a job overtakes one of its key");
            }
        }
        self.jobs[at].fence = fence;
        self.jobs[at].doubtful = false;
    }

    /// Performs the next effect of a job and records it, or repeats a write that may have counted.
    async fn record(&mut self, which: usize) {
        let Some(held) = self.workers[which].held.first_mut() else { return };
        let write = held.unknown.take().unwrap_or_else(|| {
            let (seq, effect) = (held.next as u32, held.next);
            let outcome = NewOutcome { seq, effect, at: time(1), data: "1".into(), sealed: false, closing: false };
            Write {
                job: self.jobs[held.job].id,
                fence: held.fence,
                attempt: 1,
                outcomes: vec![outcome],
                progress: None,
                notes: None,
                reply: None,
                end: None,
            }
        });
        self.write(which, write).await;
    }

    async fn end(&mut self, which: usize, phase: JobPhase) {
        let Some(held) = self.workers[which].held.first_mut() else { return };
        let known = &self.jobs[held.job];
        let terminal = phase != JobPhase::Ready;
        let end = End {
            phase,
            claim_rank: if terminal { 5 } else { 0 },
            ready_at: time(self.at + if terminal { 0 } else { 30 }),
            waits_for: (!terminal).then_some("pause"),
            failure: None,
            retries: 0,
            expires: terminal.then(|| time(i64::MAX / 2)),
            void_last: false,
            history: None,
            ordering_key: known.key.clone().filter(|_| terminal),
            notice: None,
        };
        let write = held.unknown.take().unwrap_or_else(|| Write {
            job: known.id,
            fence: held.fence,
            attempt: 1,
            outcomes: Vec::new(),
            progress: None,
            notes: None,
            reply: None,
            end: Some(end),
        });
        self.write(which, write).await;
    }

    async fn write(&mut self, which: usize, write: Write) {
        let held = &self.workers[which].held[0];
        let (at, fence) = (held.job, held.fence);
        let own = self.workers[which].id;
        if let Some(outcome) = write.outcomes.first()
            && fence == self.jobs[at].fence
            && self.jobs[at].recorded.contains(&outcome.effect)
            && held.next > outcome.effect
        {
            self.violated("an effect is repeated after its record");
        }
        self.seen.stale += u32::from(fence < self.jobs[at].fence);
        let counted = self.store.write_jobs(&[&write], time(self.at)).await;
        let known = &self.jobs[at];
        match counted.as_deref() {
            Ok([true]) => {
                if fence < known.fence {
                    self.violated("a worker that lost a job writes to it");
                }
                if let Some(outcome) = write.outcomes.first() {
                    self.seen.recorded += 1;
                    self.jobs[at].recorded.insert(outcome.effect);
                    self.workers[which].held[0].next = outcome.effect + 1;
                }
                if let Some(end) = &write.end {
                    self.seen.ended += 1;
                    if known_end(&self.jobs[at], end.phase) {
                        self.violated("a job ends twice");
                    }
                    self.jobs[at].ended = (end.phase != JobPhase::Ready).then_some(end.phase);
                    self.workers[which].held.remove(0);
                }
            }
            Ok(_) => {
                // Refused is a worker that was declared dead, one whose job has another owner, and one whose end of the
                // job counted without its knowledge, so that the job could be cancelled meanwhile.
                let reclaimed = self.dead.contains(&own) || !self.ever.contains(&own);
                if fence == known.fence && !known.doubtful && known.ended.is_none() && !reclaimed {
                    self.violated("the owner of a job is refused");
                }
                self.workers[which].held.remove(0);
            }
            Err(_) => {
                self.seen.repeated += 1;
                self.workers[which].held[0].unknown = Some(write);
            }
        }
    }

    /// A worker crashes, or is only slow; another declares it dead.
    async fn lose(&mut self, which: usize, slow: bool) {
        let id = self.workers[which].id;
        if !slow {
            // What it did not know is lost with it.
            for held in self.workers[which].held.drain(..).filter(Held::may_have_ended) {
                self.jobs[held.job].doubtful = true;
            }
        }
        if !self.dead.contains(&id) {
            self.dead.push(id);
        }
        for held in &self.workers[which].held {
            self.jobs[held.job].doubtful = true;
        }
        self.renew(which);
        for dead in self.dead.clone() {
            if self.store.reclaim(dead, time(self.at)).await.is_ok() {
                self.dead.retain(|one| *one != dead);
            }
        }
    }

    /// A worker releases what it was given without knowing, as it does at each turn.
    async fn recover(&mut self, which: usize) {
        let worker = &self.workers[which];
        let _ = self.store.free_turns(100).await;
        let Ok(claimed) = self.store.claimed_before(worker.id, time(self.at)).await else { return };
        let knows = |id: &Uuid, fence: &u32| {
            worker.held.iter().any(|held| self.jobs[held.job].id == *id && held.fence == *fence)
        };
        let lost: Vec<(Uuid, u32)> = claimed.into_iter().filter(|(id, fence)| !knows(id, fence)).collect();
        let _ = self.store.release(worker.id, &lost, time(self.at)).await;
    }

    async fn cancel(&mut self, which: usize) {
        let id = self.jobs[which].id;
        match self.store.cancel_job(id, time(self.at), "").await {
            Ok(Some(JobPhase::Ready | JobPhase::Blocked)) => {
                if self.jobs[which].ended.is_some() {
                    self.violated("a job that ended is cancelled");
                }
                self.seen.cancelled += 1;
                self.jobs[which].ended = Some(JobPhase::Cancelled);
            }
            Ok(_) => {}
            Err(_) => self.jobs[which].doubtful = true,
        }
    }

    /// What holds after each operation.
    async fn bounds(&self) {
        if self.room.gap.is_some() {
            self.paced();
        }
        let Some(most) = self.room.at_once else { return };
        let stands = |held: &&Held| {
            let known = &self.jobs[held.job];
            known.fence == held.fence && !known.doubtful && !held.may_have_ended()
        };
        let running = self.workers.iter().flat_map(|worker| &worker.held).filter(stands).count();
        if running > most as usize {
            self.violated("more jobs run than the lane allows");
        }
    }

    /// Checks that no span has more beginnings than the pace allows.
    fn paced(&self) {
        for (first, from) in self.begun.iter().enumerate() {
            for (last, to) in self.begun.iter().enumerate().skip(first + 1) {
                if (last - first) as i64 > (to - from + UNUSED) / GAP {
                    self.violated("more jobs begin than the pace allows");
                }
            }
        }
    }

    /// Jobs of the history that have not ended.
    async fn open(&self) -> usize {
        let mut open = 0;
        for known in &self.jobs {
            let row = self.clear.job(known.id).await.expect("reads");
            open += usize::from(row.is_some_and(|row| !row.phase.ended()));
        }
        open
    }

    /// Without faults from here on: everything that was accepted ends, once.
    async fn drain(&mut self) {
        self.told.push("the faults are over".into());
        for id in self.ever.clone() {
            self.clear.reclaim(id, time(self.at)).await.expect("reclaims");
        }
        self.workers.iter_mut().for_each(|worker| worker.held.clear());
        self.jobs.iter_mut().for_each(|known| known.doubtful = true);
        let worker = Uuid::from_u128((u128::from(self.number) << 16) + 0xffff);
        for round in 0..40 {
            if round > 1 && self.open().await == 0 {
                break;
            }
            self.at += 1_000_000;
            self.clear.free_turns(100).await.expect("frees");
            let room = Room { at_once: None, ..self.room };
            let claimed = self.clear.claim(worker, (&self.lane, ALL), room, 9, time(self.at)).await.expect("claims");
            for claimed in claimed.jobs {
                let at = self
                    .jobs
                    .iter()
                    .position(|known| known.id == claimed.id)
                    .unwrap_or_else(|| self.violated("unknown"));
                self.admitted(at, claimed.fence);
                let outcomes = self.clear.outcomes(&[(claimed.id, claimed.attempt)]).await.expect("outcomes");
                let effects: BTreeSet<u64> = outcomes.iter().map(|outcome| outcome.effect).collect();
                if !self.jobs[at].recorded.is_subset(&effects) {
                    self.violated("an outcome that was recorded is lost");
                }
                self.workers[0].held = vec![Held { job: at, fence: claimed.fence, next: 0, unknown: None }];
                let store = std::mem::replace(&mut self.store, self.clear);
                self.end(0, JobPhase::Succeeded).await;
                self.store = store;
            }
        }
        if self.open().await > 0 {
            self.violated("a job is stuck");
        }
        for known in &self.jobs {
            let row = self.clear.job(known.id).await.expect("reads");
            match (&row, known.accepted) {
                (None, Some(_)) => self.violated("an accepted job is lost"),
                (Some(_), None) if !known.asked => self.violated("a job that nobody asked for"),
                (Some(row), _) if known.ended.is_some_and(|ended| ended != row.phase) => {
                    self.violated("a job ended in another way than it was said")
                }
                _ => {}
            }
        }
    }
}

fn known_end(known: &Known, phase: JobPhase) -> bool {
    known.ended.is_some_and(|ended| ended != phase)
}

/// A store behind a proxy, with its plan.
pub(super) async fn behind(bed: &Bed<'_>) -> (Store, Arc<Plan>) {
    let plan = Arc::new(Plan::default());
    plan.set(None);
    let port = start(bed.server.port(), plan.clone()).await;
    let url = bed.url.replace(&format!(":{}/", bed.server.port()), &format!(":{port}/"));
    assert_ne!(url, bed.url);
    (Store::open(&format!("{url}?ssl-mode=DISABLED"), 2).await.expect("opens"), plan)
}

#[test]
fn jobs_keep_their_promises_in_histories_with_faults() {
    with("histories", async |bed| {
        let (store, plan) = behind(bed).await;
        let (numbers, seen) = (AtomicU64::new(1), std::cell::Cell::new(Seen::default()));
        let runtime = tokio::runtime::Handle::current();
        tokio::task::block_in_place(|| {
            with_dice(300, 260, |dice| {
                let number = numbers.fetch_add(1, Ordering::Relaxed);
                let history = async {
                    let mut history = History::new((&store, &bed.store, &plan), number, dice);
                    for which in 0..history.jobs.len() {
                        history.first(which, dice).await;
                    }
                    for _ in 0..6 + dice.below(24) {
                        history.step(dice).await;
                    }
                    history.drain().await;
                    seen.set({
                        let mut all: Seen = seen.get();
                        all += history.seen;
                        all
                    });
                };
                let ended = runtime.block_on(async { tokio::time::timeout(Duration::from_secs(60), history).await });
                assert!(ended.is_ok(), "the history hangs");
            });
        });
        let (histories, faults) = (numbers.into_inner() - 1, plan.happened.load(Ordering::Relaxed));
        let seen = seen.get();
        println!("{histories} histories, {faults} faults, {seen:?}");
        assert!(u64::from(faults) > histories, "faults happen");
        let Seen { claimed, recorded, ended, stale, repeated, cancelled } = seen;
        let least = [claimed, recorded, ended, stale, repeated, cancelled].into_iter().min();
        assert!(u64::from(least.unwrap_or(0)) * 20 > histories, "{seen:?}");
        store.close().await;
    });
}
