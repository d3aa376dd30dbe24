//! Histories of jobs that make calls, performed by a whole worker: the connection to its database breaks at any statement, calls are
//! lost before or behind their effect, refused or late, and the worker crashes. Each call is compared with the records when it
//! arrives: a step whose outcome is recorded is never called again, and a job never begins before an earlier one of its key has ended.
//!
//! `KANZLEI_ROUNDS=2000 KANZLEI_SEED=1 cargo test -p kanzleid histories` plays as many. Those of the store play more kinds of
//! operations, and faster: see `server/store/tests/records/histories.rs`.

use std::collections::BTreeMap;
use std::sync::atomic::{AtomicU32, Ordering};
use std::sync::{Arc, Mutex};
use std::time::Duration;

use kanzlei_faults::peer::{self, Call, Fate};
use kanzlei_faults::proxy::{self, Fault, Plan};
use kanzlei_harness::wait::Deadline;
use kanzlei_samples::{Dice, with_dice};
use kanzlei_store::Store;
use kanzlei_store::queue::JobPhase;
use tokio_util::sync::CancellationToken;
use uuid::Uuid;

use super::{Bed, LONG, server, with};
use crate::config::Config;
use crate::serve::put_together;

const LANE: &str = "lane: chain\nat_once: 2\norder: {per: input.key}\nretry: {attempts: 90, first: 10ms, max: 20ms}\n";
/// Steps of the workflow, each a call.
const STEPS: usize = 3;
/// Lock wait timeout, deadlock, read only.
const ERRORS: [u16; 3] = [1205, 1213, 1290];

fn workflow(port: u16) -> String {
    let call = |step: usize| {
        format!(
            "  - {{call: \"POST http://127.0.0.1:{port}/{step}\", headers: {{X-Job: \"${{run.id}}\"}}, body: {{}}}}\n"
        )
    };
    let calls: String = (1..=STEPS).map(call).collect();
    format!(
        "workflow: chain\ninput: {{key: {{type: string}}}}\nqueue: {{lane: chain}}\nentries: [{{endpoint: POST /chain, access: open, answer: later}}]\nsteps:\n{calls}  - {{reply: 204}}\n"
    )
}

/// What arrived, and what was wrong with it.
#[derive(Default)]
struct Ledger {
    calls: BTreeMap<(Uuid, usize), u32>,
    /// Jobs of the history by the order in which they were accepted, with their keys.
    jobs: Vec<(Uuid, String)>,
    violations: Vec<String>,
}

impl Ledger {
    /// The jobs that go before one.
    fn earlier(&self, job: Uuid) -> Vec<Uuid> {
        let Some(at) = self.jobs.iter().position(|(id, _)| *id == job) else { return Vec::new() };
        let key = &self.jobs[at].1;
        self.jobs[..at].iter().filter(|(_, other)| other == key).map(|(id, _)| *id).collect()
    }
}

/// Compares a call with the records, and notes it.
async fn arrived(store: &Store, ledger: &Mutex<Ledger>, job: Uuid, step: usize) {
    let row = store.job(job).await.expect("records").expect("the job");
    let recorded = store.outcomes(&[(job, row.attempt)]).await.expect("outcomes").len();
    let mut wrong = Vec::new();
    if recorded >= step || row.phase.ended() {
        wrong.push(format!("step {step} of {job} is called when {recorded} are recorded, in phase {:?}", row.phase));
    }
    let earlier = ledger.lock().expect("no panic").earlier(job);
    for id in earlier {
        let other = store.job(id).await.expect("records").expect("the job");
        if !other.phase.ended() {
            wrong.push(format!("{job} begins before {id} of its key has ended: {:?}", other.phase));
        }
    }
    let mut ledger = ledger.lock().expect("no panic");
    *ledger.calls.entry((job, step)).or_default() += 1;
    ledger.violations.extend(wrong);
}

/// A worker with a runtime of its own, so that a crash ends everything it does.
struct Performer {
    runtime: tokio::runtime::Runtime,
    stop: CancellationToken,
}

impl Performer {
    fn start(config: &Config) -> Self {
        let runtime = tokio::runtime::Builder::new_multi_thread().worker_threads(1).enable_all().build();
        let runtime = runtime.expect("threads");
        let handle = runtime.handle().clone();
        let stop = runtime.block_on(async {
            let store = Store::open(&config.database.url, 4).await.expect("records");
            let service = put_together(config, store, handle).await.expect("a service");
            let (keep, stopped) = tokio::sync::watch::channel(false);
            service.work(config, stopped).expect("a worker");
            let stop = service.supervisor.stop();
            tokio::spawn(async move {
                let _alive = (service, keep);
                std::future::pending::<()>().await;
            });
            stop
        });
        Performer { runtime, stop }
    }

    /// Ends it in the middle of whatever it does.
    fn crash(self) {
        self.runtime.shutdown_background();
        self.stop.cancel();
    }
}

/// What the histories use.
struct Scene<'b> {
    bed: &'b Bed,
    config: &'b Config,
    plan: Arc<Plan>,
    calls: peer::Peer,
    ledger: Arc<Mutex<Ledger>>,
    crashes: AtomicU32,
    played: AtomicU32,
}

impl Scene<'_> {
    /// Crashes a worker and starts it again, when what it had sent has arrived.
    async fn again(&self, performer: Performer) -> Performer {
        self.plan.set(None);
        performer.crash();
        self.crashes.fetch_add(1, Ordering::Relaxed);
        for _ in 0..3 {
            while self.calls.open() > 0 {
                tokio::time::sleep(Duration::from_millis(1)).await;
            }
            tokio::time::sleep(Duration::from_millis(1)).await;
        }
        let config = self.config.clone();
        tokio::task::spawn_blocking(move || Performer::start(&config)).await.expect("it starts")
    }

    /// Waits until something arrives, or for a moment.
    async fn goes_on(&self) {
        let count = || self.ledger.lock().expect("no panic").calls.values().sum::<u32>();
        let before = count();
        for _ in 0..20 {
            if count() > before {
                break;
            }
            tokio::time::sleep(Duration::from_millis(1)).await;
        }
    }

    /// Plays one history; what it violates is an error.
    async fn play(&self, performer: &mut Option<Performer>, dice: &mut Dice) -> Result<(), String> {
        *self.ledger.lock().expect("no panic") = Ledger::default();
        let count = 1 + dice.below(4);
        let (mut told, mut queued) = (Vec::new(), 0);
        for _ in 0..count + 2 + dice.below(9) {
            match dice.below(5) {
                0 if queued < count => {
                    queued += 1;
                    self.queue(dice.below(2)).await;
                }
                0 | 1 => {
                    let kind = [Fault::LostBehind, Fault::LostBefore, Fault::Error(*dice.pick(&ERRORS)), Fault::Delay];
                    let fault = (*dice.pick(&kind), dice.below(12) as u32);
                    told.push(format!("{fault:?}"));
                    self.plan.set(Some(fault));
                }
                2 | 3 => {
                    let fate = *dice.pick(&[Fate::LostBehind, Fate::LostBefore, Fate::Refused, Fate::Slow]);
                    told.push(format!("{fate:?}"));
                    self.calls.fates.lock().expect("no panic").push_back(fate);
                }
                _ if dice.one_in(3) => {
                    told.push("crash".into());
                    let crashed = performer.take().expect("a worker");
                    *performer = Some(self.again(crashed).await);
                }
                _ => {}
            }
            self.goes_on().await;
        }
        while queued < count {
            queued += 1;
            self.queue(dice.below(2)).await;
        }
        self.plan.set(None);
        self.calls.fates.lock().expect("no panic").clear();
        self.ends().await.map_err(|why| format!("{why}; after {told:?}"))
    }

    async fn queue(&self, key: usize) {
        let key = format!("key-{}-{key}", self.played.load(Ordering::Relaxed));
        // Jobs are accepted in the order of these requests. The first call may arrive before the job is noted.
        let id = self.bed.queue("/chain", &format!("{{\"key\":\"{key}\"}}")).await;
        self.ledger.lock().expect("no panic").jobs.push((id, key));
    }

    /// Everything that was accepted succeeds, and nothing was wrong on the way.
    async fn ends(&self) -> Result<(), String> {
        let jobs = self.ledger.lock().expect("no panic").jobs.clone();
        for (id, _) in &jobs {
            let end = Deadline::after(LONG);
            loop {
                let job = self.bed.job(*id).await;
                if job.phase == JobPhase::Succeeded {
                    break;
                }
                if job.phase.ended() || end.is_over() {
                    return Err(format!("not succeeded: {job:?}"));
                }
                tokio::time::sleep(Duration::from_millis(2)).await;
            }
        }
        let ledger = self.ledger.lock().expect("no panic");
        if let Some(first) = ledger.violations.first() {
            return Err(first.clone());
        }
        for (id, _) in &jobs {
            if let Some(step) = (1..=STEPS).find(|step| !ledger.calls.contains_key(&(*id, *step))) {
                return Err(format!("step {step} of {id} was never called"));
            }
        }
        Ok(())
    }
}

#[test]
fn jobs_with_calls_keep_their_promises_in_histories_with_faults() {
    let ledger = Arc::new(Mutex::new(Ledger::default()));
    with("calls_histories", &[], &[], async |bed| {
        let (sender, store) = std::sync::mpsc::channel();
        let url = bed.config.database.url.clone();
        // Calls ask the records from threads of their own.
        std::thread::spawn(move || {
            let runtime = tokio::runtime::Builder::new_multi_thread().worker_threads(1).enable_all().build();
            let runtime = runtime.expect("threads");
            let entered = runtime.enter();
            let store = Store::connect(&url, 4).expect("records");
            drop(entered);
            sender.send((runtime.handle().clone(), store)).expect("a receiver");
            runtime.block_on(std::future::pending::<()>());
        });
        let (handle, store) = store.recv().expect("records");
        let noted = ledger.clone();
        let calls = peer::Peer::start(move |call: &Call| {
            let (job, step) = (call.header("x-job").parse(), call.path.trim_start_matches('/').parse());
            let (Ok(job), Ok(step)) = (job, step) else { return };
            handle.block_on(arrived(&store, &noted, job, step));
        });
        let service = format!("service: ledger\nbase: http://127.0.0.1:{}\nnetwork: private\n", calls.port);
        let answer = bed.deploy(&[&service, LANE, &workflow(calls.port)]).await;
        assert_eq!(answer.status, 200, "{}", answer.body);
        let plan = Arc::new(Plan::default());
        plan.set(None);
        let port = server().port();
        let between = proxy::start(port, plan.clone()).await;
        let mut config = bed.config.clone();
        config.database.url = config.database.url.replace(&format!(":{port}/"), &format!(":{between}/"));
        config.process.process = "performer".into();
        let started = config.clone();
        let first = tokio::task::spawn_blocking(move || Performer::start(&started)).await.expect("it starts");
        let (crashes, number) = (AtomicU32::new(0), AtomicU32::new(0));
        let scene = Scene { bed, config: &config, plan, calls, ledger: ledger.clone(), crashes, played: number };
        // Choices are drawn, and shrunk where they fail, on a thread of their own.
        let (ask, mut asked) = tokio::sync::mpsc::channel::<(Dice, std::sync::mpsc::Sender<_>)>(1);
        let drawing = std::thread::spawn(move || {
            with_dice(40, 60, |dice| {
                let (answer, answered) = std::sync::mpsc::channel::<Result<(), String>>();
                ask.blocking_send((dice.clone(), answer)).expect("the histories are played");
                answered.recv().expect("an answer").unwrap_or_else(|why| panic!("{why}"));
            });
        });
        let mut performer = Some(first);
        while let Some((mut dice, answer)) = asked.recv().await {
            let played = scene.play(&mut performer, &mut dice).await;
            scene.played.fetch_add(1, Ordering::Relaxed);
            let _ = answer.send(played);
        }
        performer.take().expect("a worker").crash();
        drawing.join().expect("the promises are kept");
        let number = |count: &AtomicU32| count.load(Ordering::Relaxed);
        let (played, faults) = (number(&scene.played), number(&scene.plan.happened));
        let crashes = number(&scene.crashes);
        println!("{played} histories, {faults} faults of the database, {crashes} crashes");
        assert!(faults * 2 > played && crashes * 4 > played, "{faults} faults and {crashes} crashes in {played}");
    });
}
