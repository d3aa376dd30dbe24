//! The worker: claims due jobs of each lane and drives them, keeps its lease, and reclaims the jobs of dead workers.
//!
//! A process is one worker; its lease is one row that it renews. Another process declares it dead when
//! the lease has expired *and* was not renewed for a while by that process's own monotonic clock, so that a clock
//! that jumps has no effect. Reclaimed jobs get a new fence.
//!
//! [`drive`] drives one job, [`write`] records what jobs do, [`lease`] and [`renewal`] keep the lease;
//! [`timetables`] and [`notices`] act on due times.

pub mod alerts;
pub mod changes;
pub mod drive;
pub mod gradual;
pub mod lease;
pub mod notices;
pub mod renewal;
mod shared;
pub mod timetables;
pub mod write;

use std::collections::{BTreeSet, HashMap};
use std::sync::atomic::{AtomicBool, AtomicI64, AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use kanzlei_compiler::plan::Lane;
use kanzlei_model::time::{Span, Timestamp};
use kanzlei_store::queue::{Claimed, Room};
use tokio::sync::{mpsc, watch};
use tokio_util::sync::CancellationToken;
use uuid::Uuid;

use crate::clock::now;
use crate::gathering::Gathering;
use crate::lines::{self, Lines};
use crate::live::Live;
use crate::queue::Jobs;
use crate::tally;
use lease::SILENT;
use renewal::Renewal;

pub use shared::Shared;

/// How often jobs that other processes queued are polled.
const POLL: Duration = Duration::from_millis(200);
/// The shortest time between two polls under load; jobs that arrive meanwhile are claimed together.
const YIELD_AFTER: Duration = Duration::from_millis(3);
/// How long a worker waits for more free places before it claims for a few, in microseconds.
const GATHERED: Span = Span::from_micros(10_000);
/// The most jobs claimed from one lane at once.
const BATCH: u32 = 200;
/// How long a job may stay claimed without running.
const UNBEGUN: Duration = Duration::from_secs(5);

/// Claims jobs of all lanes and drives them.
pub struct Worker {
    shared: Arc<Shared>,
    id: Uuid,
    name: String,
    /// The most jobs of one lane that run here at the same time.
    at_once: usize,
    running: Mutex<HashMap<Uuid, Running>>,
    by_lane: Mutex<HashMap<String, Arc<Here>>>,
    stamp: AtomicI64,
}

/// What this process knows of a lane.
#[derive(Default)]
struct Here {
    busy: AtomicUsize,
    /// When jobs were last claimed.
    claimed: AtomicI64,
    /// More jobs were due than there were places: a job that ends wakes the worker.
    crowded: AtomicBool,
}

struct Running {
    fence: u32,
    stop: Arc<AtomicBool>,
    handle: tokio::task::AbortHandle,
}

impl Worker {
    /// A worker with a new id; `at_once` bounds the jobs of one lane that run here.
    pub fn new(shared: Arc<Shared>, name: String, at_once: usize) -> Arc<Self> {
        Arc::new(Worker {
            shared,
            id: Uuid::new_v4(),
            name,
            at_once,
            running: Mutex::default(),
            by_lane: Mutex::default(),
            stamp: AtomicI64::new(0),
        })
    }

    /// The name of its process.
    pub fn name(&self) -> &str {
        &self.name
    }

    /// The renewal of this worker's lease.
    pub fn renewal(&self, urls: &str, dead: mpsc::Sender<Instant>, stop: CancellationToken) -> Renewal {
        Renewal { urls: urls.to_owned(), worker: self.id, shared: self.shared.clone(), dead, stop }
    }

    /// Works until it is stopped. `dead` reports renewals that found this worker unregistered.
    pub async fn run(self: Arc<Self>, stop: watch::Receiver<bool>, dead: mpsc::Receiver<Instant>) {
        let store = &self.shared.jobs.store;
        loop {
            let sent = Instant::now();
            match store.begin_worker(self.id, &self.name, now(), self.expires()).await {
                Ok(()) => break self.shared.lease.renewed(sent),
                Err(error) => tracing::warn!(%error, "the worker waits for the database"),
            }
            if *stop.borrow() {
                return;
            }
            tokio::time::sleep(Duration::from_millis(500)).await;
        }
        // A panic in one of them is a panic of the worker.
        tokio::select! {
            () = self.claim_jobs(stop) => {}
            () = self.keep(dead) => {}
            () = tally::sample(&self.shared.jobs.store, &self.shared.jobs.tally) => {}
        }
    }

    fn expires(&self) -> Timestamp {
        now() + self.shared.lease.length
    }

    /// The number of jobs that run here.
    pub fn running(&self) -> usize {
        self.running.lock().unwrap_or_else(PoisonError::into_inner).len()
    }

    /// Releases running jobs, so that others can claim them at once.
    pub async fn leave(&self) {
        self.drop_all();
        if let Err(error) = self.shared.jobs.store.reclaim(self.id, now()).await {
            tracing::warn!(%error, "running jobs could not be released; others reclaim them when the lease ends");
        }
    }

    fn drop_all(&self) {
        let mut running = self.running.lock().unwrap_or_else(PoisonError::into_inner);
        running.drain().for_each(|(_, one)| one.handle.abort());
    }

    /// A time that is unique among the claims of this worker.
    fn stamp(&self) -> Timestamp {
        let at = now();
        let after = |last: i64| at.max(Timestamp::from_micros(last + 1));
        let before =
            self.stamp.fetch_update(Ordering::Relaxed, Ordering::Relaxed, |last| Some(after(last).as_micros()));
        before.map_or(at, after)
    }

    async fn claim_jobs(self: &Arc<Self>, mut stop: watch::Receiver<bool>) {
        let jobs = &self.shared.jobs;
        let mut unavailable = false;
        let mut polled = tokio::time::Instant::now();
        let (mut searched, mut gathering) = (Searched::default(), Gathering::default());
        while !*stop.borrow() {
            tokio::select! {
                () = self.shared.lease.sure() => {}
                _ = stop.changed() => continue,
            }
            tokio::time::sleep_until(polled + YIELD_AFTER).await;
            gathering.pause().await;
            polled = tokio::time::Instant::now();
            let from = searched.next_from(jobs.wake.reset());
            let found = self.poll(from).await;
            searched.done(from, found.as_ref().ok().and_then(|found| found.complete));
            gathering.done(polled.into(), found.as_ref().map_or(0, |found| found.claimed));
            let next = match found.map(|found| found.pause) {
                Ok(next) => {
                    if std::mem::take(&mut unavailable) {
                        tracing::info!("the worker resumes");
                    }
                    next
                }
                Err(error) => {
                    if !std::mem::replace(&mut unavailable, true) {
                        tracing::warn!(%error, "the worker waits for the database");
                    }
                    Some(Duration::from_millis(500))
                }
            };
            match next {
                Some(pause) => {
                    tokio::select! {
                        () = jobs.wake.notified() => {}
                        () = tokio::time::sleep(pause.min(POLL)) => {}
                        _ = stop.changed() => {}
                    }
                }
                None => tokio::task::yield_now().await,
            }
        }
    }

    /// Claims due jobs of each lane that are ready from an instant on.
    async fn poll(self: &Arc<Self>, from: Timestamp) -> kanzlei_store::Result<Polled> {
        let jobs = &self.shared.jobs;
        let live = jobs.live.load_full();
        let (heads, holds) = jobs.store.heads(from).await?;
        let at = now();
        let mut next = at + POLL;
        let (mut more, mut complete, mut all) = (false, true, 0);
        for heads in heads.chunk_by(|a, b| a.lane == b.lane) {
            let name = heads[0].lane.as_str();
            if heads[0].held {
                continue;
            }
            let lane = live.lane(name);
            let room = room(&lane, live.generation);
            // A slot further ahead than one gap was assigned under a slower pace.
            let slot = room.gap.map_or(Timestamp::EPOCH, |gap| heads[0].next.min(at + gap));
            let open = heads.iter().map(|head| head.ready_at).min().unwrap_or(Timestamp::NEVER).max(slot);
            let due = heads.iter().filter(|head| head.ready_at <= at);
            let places: Vec<(u8, Timestamp)> = due.map(|head| (head.claim_rank, head.ready_at)).collect();
            if open > at {
                next = next.min(open);
                complete &= places.is_empty();
                continue;
            }
            let here = self.here(name);
            let free = self.at_once.saturating_sub(here.busy.load(Ordering::Relaxed));
            // Claiming for a few places pays off only when no more become free soon.
            let gathered = Timestamp::from_micros(here.claimed.load(Ordering::Relaxed)) + GATHERED;
            // The slots of a fast pace are claimed together; none is lost meanwhile.
            if room.gap.is_some_and(|gap| gap < GATHERED) && at < gathered {
                next = next.min(gathered);
                complete = false;
                continue;
            }
            if free == 0 || (free < self.at_once / 2 && at < gathered) {
                here.crowded.store(true, Ordering::Relaxed);
                next = if free > 0 { next.min(gathered) } else { next };
                complete = false;
                continue;
            }
            let claimed =
                jobs.store.claim(self.id, (name, &places), room, BATCH.min(free as u32), self.stamp()).await?;
            here.claimed.store(now().as_micros(), Ordering::Relaxed);
            // In a lane with a bound over all processes, a job that ends may make room for the next.
            here.crowded.store(claimed.more || room.at_once.is_some(), Ordering::Relaxed);
            more |= claimed.more && free > claimed.jobs.len();
            all += claimed.jobs.len();
            // A turn that passes to an older job makes that one due; jobs that are not claimed here stay due.
            let plain = !claimed.jobs.is_empty() && claimed.jobs.iter().all(|job| job.ordering_key.is_none());
            complete &= plain && !claimed.more && room.at_once.is_none() && room.gap.is_none();
            if !claimed.jobs.is_empty() && claimed.next.is_none() {
                // The next due time of this lane is not known yet.
                next = at;
            }
            next = claimed.next.map_or(next, |at| next.min(at));
            let free = self.without_held(&live, &holds, claimed.jobs).await?;
            self.begin(free, &here).await?;
        }
        let pause = (!more).then(|| Duration::from((next - now()).max(Span::from_micros(500))));
        Ok(Polled { pause, complete: complete.then_some(at), claimed: all })
    }

    /// Puts jobs of held workflows aside; returns the others.
    async fn without_held(
        &self,
        live: &Live,
        holds: &BTreeSet<String>,
        claimed: Vec<Claimed>,
    ) -> kanzlei_store::Result<Vec<Claimed>> {
        if holds.is_empty() {
            return Ok(claimed);
        }
        let of = |job: &Claimed| live.name_now(&job.workflow, job.id).to_owned();
        let (held, free): (Vec<_>, Vec<_>) = claimed.into_iter().partition(|job| holds.contains(&of(job)));
        for workflow in holds {
            let jobs: Vec<&Claimed> = held.iter().filter(|job| of(job) == *workflow).collect();
            let ids: Vec<Uuid> = jobs.iter().map(|job| job.id).collect();
            let store = &self.shared.jobs.store;
            if !ids.is_empty() && !store.put_aside(self.id, workflow, &ids).await? {
                let fences: Vec<(Uuid, u32)> = jobs.iter().map(|job| (job.id, job.fence)).collect();
                store.release(self.id, &fences, now()).await?;
            }
        }
        Ok(free)
    }

    fn here(&self, lane: &str) -> Arc<Here> {
        let mut all = self.by_lane.lock().unwrap_or_else(PoisonError::into_inner);
        all.entry(lane.to_owned()).or_default().clone()
    }

    async fn begin(self: &Arc<Self>, claimed: Vec<Claimed>, here: &Arc<Here>) -> kanzlei_store::Result<()> {
        if claimed.is_empty() {
            return Ok(());
        }
        let known: Vec<(Uuid, u32)> =
            claimed.iter().filter(|job| job.outcomes > 0).map(|job| (job.id, job.attempt)).collect();
        let mut outcomes: HashMap<Uuid, Vec<_>> = HashMap::new();
        let mut read = Ok(Vec::new());
        if !known.is_empty() {
            read = self.shared.jobs.store.outcomes(&known).await;
        }
        let read = match read {
            Ok(read) => read,
            Err(error) => {
                // They are claimed by this worker; without their recorded outcomes they must not run.
                for job in &claimed {
                    tracing::warn!(job = %job.id, "a job is released unread");
                }
                let claimed: Vec<(Uuid, u32)> = claimed.iter().map(|job| (job.id, job.fence)).collect();
                let _ = self.shared.jobs.store.release(self.id, &claimed, now()).await;
                return Err(error);
            }
        };
        for row in read {
            outcomes.entry(row.job).or_default().push(row);
        }
        let at = now();
        for job in claimed {
            if job.attempt == 1 && job.outcomes == 0 && job.retries == 0 {
                self.shared.jobs.tally.begun(&job, at);
            }
            here.busy.fetch_add(1, Ordering::Relaxed);
            self.shared.jobs.tally.entered(&job.lane);
            let (id, fence) = (job.id, job.fence);
            let stop = Arc::new(AtomicBool::new(job.stop));
            let written = outcomes.remove(&id).unwrap_or_default();
            let place = Place(here.clone(), self.shared.jobs.clone(), job.lane.clone());
            let (worker, flag) = (self.clone(), stop.clone());
            // The entry exists before the task can remove it.
            let mut running = self.running.lock().unwrap_or_else(PoisonError::into_inner);
            let lines = Lines::of_job(id, job.request_id.clone(), job.workflow.clone());
            if self.shared.jobs.telemetry.keeps(&job.trace) {
                lines.trace(job.trace.header(self.shared.jobs.span_of(id)));
            }
            // Boxed: the task is moved several times before it runs, and when it ends.
            let driven = Box::pin(drive::drive(worker.shared.clone(), job, written, flag));
            let task = tokio::spawn(async move {
                lines::within(Some(lines), driven).await;
                drop(place);
                let mut running = worker.running.lock().unwrap_or_else(PoisonError::into_inner);
                if running.get(&id).is_some_and(|one| one.fence == fence) {
                    running.remove(&id);
                }
            });
            if let Some(before) = running.insert(id, Running { fence, stop, handle: task.abort_handle() }) {
                // It was reclaimed and came back: writes under the old fence would be refused.
                before.handle.abort();
            }
        }
        Ok(())
    }

    /// Renews the lease, and polls for jobs to stop and workers that are dead.
    async fn keep(&self, mut dead: mpsc::Receiver<Instant>) {
        let store = &self.shared.jobs.store;
        let mut every = tokio::time::interval(POLL);
        every.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Delay);
        // A renewal that was sent before this instant may have preceded the registration.
        let mut registered = Instant::now();
        let mut polled = registered;
        let mut seen: HashMap<Uuid, (u64, Instant)> = HashMap::new();
        loop {
            tokio::select! {
                _ = every.tick() => {}
                () = self.shared.jobs.stop_asked.notified() => {}
            }
            if self.running() > 0
                && let Ok(ids) = store.to_stop(self.id).await
            {
                let running = self.running.lock().unwrap_or_else(PoisonError::into_inner);
                let mut stopped = false;
                for one in ids.iter().filter_map(|id| running.get(id)) {
                    stopped |= !one.stop.swap(true, Ordering::Relaxed);
                }
                drop(running);
                if stopped {
                    self.shared.jobs.stops.notify_waiters();
                }
            }
            if dead.try_recv().is_ok_and(|sent| sent >= registered) {
                match self.begin_again().await {
                    Ok(()) => registered = Instant::now(),
                    Err(error) => tracing::warn!(%error, "this worker was declared dead and cannot begin again"),
                }
            }
            if polled.elapsed() >= Duration::from_secs(1) {
                let Ok(workers) = store.workers().await else { continue };
                // After a gap in this worker's own renewals, no other worker is judged.
                if polled.elapsed() > Duration::from_secs(3) {
                    seen.clear();
                }
                polled = Instant::now();
                if let Err(error) = self.release_unbegun().await {
                    tracing::debug!(%error, "claimed jobs were not checked");
                }
                self.judge(workers, &mut seen).await;
            }
        }
    }

    /// Handles being declared dead: running jobs belong to others by now, and jobs claimed since are free.
    async fn begin_again(&self) -> kanzlei_store::Result<()> {
        let store = &self.shared.jobs.store;
        tracing::warn!(jobs = self.running(), "this worker was declared dead; its jobs are run by others");
        self.drop_all();
        store.reclaim(self.id, now()).await?;
        let sent = Instant::now();
        store.begin_worker(self.id, &self.name, now(), self.expires()).await?;
        self.shared.lease.renewed(sent);
        Ok(())
    }

    /// Releases jobs that are claimed here and do not run, because the connection broke between marking and
    /// reading them.
    async fn release_unbegun(&self) -> kanzlei_store::Result<()> {
        let claimed = self.shared.jobs.store.claimed_before(self.id, now() - Span::from(UNBEGUN)).await?;
        let unbegun: Vec<(Uuid, u32)> = {
            let running = self.running.lock().unwrap_or_else(PoisonError::into_inner);
            let here = |id: &Uuid, fence: u32| running.get(id).is_some_and(|one| one.fence == fence);
            claimed.into_iter().filter(|(id, fence)| !here(id, *fence)).collect()
        };
        if !unbegun.is_empty() {
            tracing::warn!(jobs = unbegun.len(), "claimed jobs that never began are released");
            self.shared.jobs.store.release(self.id, &unbegun, now()).await?;
            self.shared.jobs.wake.notify_one();
        }
        Ok(())
    }

    async fn judge(&self, workers: Vec<(Uuid, String, u64, Timestamp)>, seen: &mut HashMap<Uuid, (u64, Instant)>) {
        let store = &self.shared.jobs.store;
        seen.retain(|id, _| workers.iter().any(|(known, ..)| known == id));
        for (id, name, beat, expires) in workers {
            let (last, since) = seen.entry(id).or_insert((beat, Instant::now()));
            if *last != beat {
                (*last, *since) = (beat, Instant::now());
            }
            let silent = since.elapsed() >= self.shared.lease.length.mul_f64(SILENT);
            if id != self.id && expires < now() && silent {
                match store.reclaim(id, now()).await {
                    Ok(0) => {}
                    Ok(count) => tracing::warn!(worker = name, jobs = count, "a dead worker's jobs were reclaimed"),
                    Err(error) => tracing::warn!(%error, worker = name, "a dead worker's jobs wait"),
                }
                self.shared.jobs.wake.notify_one();
            }
        }
        if let Ok(expired_workers) = store.expired_workers().await {
            for id in expired_workers.into_iter().filter(|id| *id != self.id) {
                let _ = store.reclaim(id, now()).await;
            }
        }
        if store.free_turns(500).await.is_ok_and(|freed| freed > 0) {
            self.shared.jobs.wake.notify_one();
        }
    }
}

/// What a poll found.
struct Polled {
    /// How long to wait; `None` when there may be more.
    pause: Option<Duration>,
    /// The instant up to which all jobs that were searched and due are claimed; nothing where some are left.
    complete: Option<Timestamp>,
    /// How many jobs were claimed.
    claimed: usize,
}

/// How far jobs are searched: entries of those that were claimed before stay in the index for a while.
#[derive(Default)]
struct Searched {
    /// Jobs that are ready before are claimed, but for those that other processes queued since.
    up_to: Timestamp,
    /// When all jobs were searched last.
    whole: Option<Instant>,
}

impl Searched {
    /// The instant from which on jobs are searched next, when some that are ready from another one on were queued.
    fn next_from(&self, queued: Timestamp) -> Timestamp {
        match self.whole {
            Some(whole) if whole.elapsed() < POLL => self.up_to.min(queued),
            _ => Timestamp::EPOCH,
        }
    }

    fn done(&mut self, from: Timestamp, complete: Option<Timestamp>) {
        if from == Timestamp::EPOCH {
            self.whole = Some(Instant::now());
        }
        self.up_to = complete.unwrap_or(Timestamp::EPOCH);
    }
}

/// A place among the running jobs of a lane; dropping it frees the place.
struct Place(Arc<Here>, Arc<Jobs>, String);

impl Drop for Place {
    fn drop(&mut self) {
        self.0.busy.fetch_sub(1, Ordering::Relaxed);
        self.1.tally.left(&self.2);
        if self.0.crowded.load(Ordering::Relaxed) {
            self.1.wake.notify_one();
        }
    }
}

fn room(lane: &Lane, generation: u64) -> Room {
    let gap = lane.pace.map(|(count, span)| (Span::from(span) / i64::from(count)).max(Span::from_micros(1)));
    Room { at_once: lane.at_once, gap, generation }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn jobs_are_searched_from_where_the_others_are_claimed() {
        let at = Timestamp::from_micros;
        let mut searched = Searched::default();
        assert_eq!(searched.next_from(at(5)), Timestamp::EPOCH, "nothing was searched yet");
        searched.done(Timestamp::EPOCH, Some(at(100)));
        for (queued, from) in [(Timestamp::NEVER, 100), (at(170), 100), (at(50), 50), (Timestamp::EPOCH, 0)] {
            assert_eq!(searched.next_from(queued), at(from));
        }
        searched.done(at(100), Some(at(130)));
        assert_eq!(searched.next_from(Timestamp::NEVER), at(130));
        searched.done(at(130), None);
        assert_eq!(searched.next_from(at(170)), Timestamp::EPOCH, "some were left");
        let whole = Instant::now().checked_sub(POLL);
        let searched = Searched { up_to: at(100), whole };
        assert_eq!(searched.next_from(Timestamp::NEVER), Timestamp::EPOCH, "others may have queued some");
    }
}
