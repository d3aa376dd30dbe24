//! Changed rows of watched databases become jobs: read in their order, accepted, and only then removed.
//!
//! One process reads a database at a time; when it ends, another one goes on where it stopped. Changes are accepted with their jobs in one transaction of the
//! service's own records, which also keeps what was accepted: the next reader removes that and accepts it no more. A lane that is full, and records that are
//! unavailable, leave changes where they are.
//!
//! Bounds: [`MOST`] changes and about 8 MiB at a time for each database.

use std::collections::{BTreeSet, HashMap};
use std::sync::Arc;
use std::time::Duration;

use kanzlei_compiler::plan::Watch;
use kanzlei_compiler::plan::watch::Change;
use kanzlei_lang::document::change::Operation;
use kanzlei_model::hex;
use kanzlei_model::problem::Problem;
use kanzlei_model::time::{Span, Timestamp};
use kanzlei_model::value::Value;
use kanzlei_store::databases::Database;
use kanzlei_store::databases::changes::{Changed, Reader, Wanted};
use kanzlei_store::queue::{AcceptedChange, NewJob, Reading};
use kanzlei_store::refusals::Refusal;
use sha2::{Digest, Sha256};
use uuid::Uuid;

use crate::clock::{fresh_id, now};
use crate::effects::Effects;
use crate::journal;
use crate::live::{Live, Workflow};
use crate::queue::{Jobs, Origin};

/// The most changes that are accepted together.
const MOST: u32 = 500;
/// How long changes gather before the next are read, while fewer come than are accepted together: each read and each acceptance is a
/// transaction that writers wait beside.
const GATHERED: Duration = Duration::from_millis(50);
/// How often a database without changes is asked.
const POLL: Duration = Duration::from_millis(100);
/// How long a process waits before it asks again for a database that another one reads, or that is unavailable, and for a full lane.
const PAUSE: Duration = Duration::from_secs(1);
/// Waiting jobs of a lane whose document sets no bound.
const LENGTH: u64 = 1_000_000;

/// The tables of a database that live workflows watch.
pub fn wanted(live: &Live, database: &str) -> Wanted {
    let mut wanted = Wanted::new();
    let watches = live.workflows.values().flat_map(|workflow| &workflow.plan.watches);
    for watch in watches.filter(|watch| watch.database == database) {
        wanted.entry(watch.table.clone()).or_default().extend(watch.of.iter().map(|of| of.name()));
    }
    wanted
}

/// Accepts changes of all databases until the process ends.
pub async fn run(effects: Arc<Effects>, process: String, length: u64) {
    let each = effects.databases.iter().map(|(name, outside)| {
        let watched = Watched {
            name: name.clone(),
            database: outside.database.clone(),
            effects: effects.clone(),
            process: process.clone(),
            length: if length == 0 { LENGTH } else { length },
        };
        watched.run()
    });
    futures_util::future::join_all(each).await;
}

/// A database whose changes are accepted.
struct Watched {
    name: String,
    database: Database,
    effects: Arc<Effects>,
    process: String,
    length: u64,
}

impl Watched {
    fn jobs(&self) -> &Jobs {
        &self.effects.jobs
    }

    async fn run(self) {
        // A process that begins looks once for triggers that nobody wants any more.
        let mut looked = false;
        let mut told = false;
        loop {
            let live = self.jobs().live.load_full();
            if looked && wanted(&live, &self.name).is_empty() {
                tokio::time::sleep(PAUSE).await;
                continue;
            }
            match self.database.read_changes(&self.effects.installation).await {
                Ok(Some(reader)) => {
                    told = false;
                    match self.drain(reader).await {
                        Ok(()) => looked = true,
                        Err(why) => tracing::warn!(database = self.name, why, "changed rows wait for their database"),
                    }
                }
                Ok(None) => {}
                Err(why) => {
                    let needed = !wanted(&live, &self.name).is_empty();
                    if needed && !told {
                        tracing::warn!(database = self.name, ?why, "changed rows cannot be read");
                    }
                    (told, looked) = (true, looked || !needed);
                }
            }
            tokio::time::sleep(PAUSE).await;
        }
    }

    /// Accepts changes while the reader's connection lives and some table is watched.
    async fn drain(&self, mut reader: Reader) -> Result<(), String> {
        let mut reading = self.jobs().store.begin_reading(&self.name).await.map_err(|error| error.to_string())?;
        let mut generation = None;
        // Instants of jobs ascend, so that those of one row keep their order.
        let mut last = Timestamp::EPOCH;
        loop {
            let live = self.jobs().live.load_full();
            let wanted = wanted(&live, &self.name);
            if generation != Some(live.generation) {
                // A deploy does this too; here it is repaired, and what was retired ends.
                let removed = self.database.remove_watches(&self.effects.installation, &wanted).await;
                let installed = match wanted.is_empty() {
                    true => Ok(Vec::new()),
                    false => self.database.install_watches(&self.effects.installation, &wanted).await,
                };
                for done in installed.map_err(|why| format!("{why:?}"))? {
                    tracing::info!(database = self.name, done, "a table is watched");
                }
                let removed = removed.map_err(|why| format!("{why:?}"))?;
                if removed > 0 {
                    tracing::info!(database = self.name, removed, "triggers were removed");
                }
                generation = Some(live.generation);
            }
            let changes = reader.next(MOST).await.map_err(|why| format!("{why:?}"))?;
            if changes.is_empty() {
                if wanted.is_empty() {
                    return Ok(());
                }
                tokio::time::sleep(POLL).await;
                continue;
            }
            let whole = changes.len() >= MOST as usize;
            let (known, fresh): (Vec<_>, Vec<_>) =
                changes.into_iter().partition(|change| reading.accepted.remove(&(change.id, change.at)));
            let (accepted, full) = match fresh.is_empty() {
                true => (0, false),
                false => self.accepted(&live, &reading, &fresh, &mut last).await?,
            };
            if accepted > 0 {
                self.jobs().wake.notify_one();
            }
            let ids: Vec<u64> = known.iter().chain(&fresh[..accepted]).map(|change| change.id).collect();
            reader.remove(&ids).await.map_err(|why| format!("{why:?}"))?;
            if full {
                tokio::time::sleep(PAUSE).await;
            } else if !whole {
                tokio::time::sleep(GATHERED).await;
            }
        }
    }

    /// Accepts the first of these changes, as many as their lanes have room for; returns their number, and whether a lane was full.
    async fn accepted(
        &self,
        live: &Arc<Live>,
        reading: &Reading,
        changes: &[Changed],
        last: &mut Timestamp,
    ) -> Result<(usize, bool), String> {
        let mut room: HashMap<String, u64> = HashMap::new();
        let mut accepted = Vec::with_capacity(changes.len());
        let mut full = false;
        'changes: for (index, change) in changes.iter().enumerate() {
            let at = now().max(*last + Span::from_micros(1));
            let made = self.of_change(live, change, index, at);
            for job in &made.jobs {
                let left = match room.get_mut(&job.lane) {
                    Some(left) => left,
                    None => {
                        let most = live.lane(&job.lane).length.unwrap_or(self.length);
                        let waiting = self.jobs().store.waiting_in(&job.lane, most.saturating_add(1)).await;
                        let waiting = waiting.map_err(|error| error.to_string())?;
                        room.entry(job.lane.clone()).or_insert(most.saturating_sub(waiting))
                    }
                };
                if *left == 0 {
                    full = true;
                    break 'changes;
                }
                *left -= 1;
            }
            *last = at;
            accepted.push(made);
        }
        if !accepted.is_empty() {
            let store = &self.jobs().store;
            let done = store.accept_changes(&self.name, reading, &accepted, &self.process, now()).await;
            if !done.map_err(|error| error.to_string())? {
                return Err("another process reads them now".to_owned());
            }
        }
        Ok((accepted.len(), full))
    }

    /// What comes of a change; `index` is its place among those that are accepted together.
    fn of_change(&self, live: &Arc<Live>, changed: &Changed, index: usize, at: Timestamp) -> AcceptedChange {
        let name = &self.name;
        let mark = (changed.id, changed.at);
        let mut made = AcceptedChange { mark, table: changed.table.clone(), ..AcceptedChange::default() };
        let Some(of) = Operation::of_name(&changed.of) else { return made };
        let row = |text: &Option<String>| {
            let json = text.as_deref().and_then(|text| serde_json::from_str::<serde_json::Value>(text).ok());
            json.map_or(Value::Null, |json| Value::from_json(&json))
        };
        let change = Change {
            of,
            at: Timestamp::from_micros(changed.at).to_string(),
            before: row(&changed.before),
            after: row(&changed.after),
        };
        for workflow in live.workflows.values() {
            let fits =
                |watch: &&Watch| watch.database == *name && watch.table == changed.table && watch.of.contains(&of);
            for (entry, watch) in workflow.plan.watches.iter().enumerate().filter(|(_, watch)| fits(watch)) {
                let input = match watch.input(&workflow.plan, &change) {
                    Ok(Some(input)) => input,
                    Ok(None) => continue,
                    Err(problem) => {
                        made.unfit.push(self.unfit(workflow, watch, changed, &problem, at));
                        continue;
                    }
                };
                match self.job(live, workflow, watch, changed, (entry, index), &input, at) {
                    Ok(job) => made.jobs.push(job),
                    Err(problem) => made.unfit.push(self.unfit(workflow, watch, changed, &problem, at)),
                }
            }
        }
        made
    }

    #[allow(clippy::too_many_arguments)]
    fn job(
        &self,
        live: &Arc<Live>,
        workflow: &Arc<Workflow>,
        watch: &Watch,
        changed: &Changed,
        (entry, index): (usize, usize),
        input: &Value,
        at: Timestamp,
    ) -> Result<NewJob, Box<Problem>> {
        let jobs = self.jobs();
        let seed = Sha256::digest(format!("{} {}", self.name, workflow.plan.name));
        let seed = Uuid::from_slice(&seed[..16]).unwrap_or_default();
        let id = jobs.id_of(seed, changed.id.wrapping_mul(64) + entry as u64, index, at);
        let request = fresh_id();
        let origin = Origin {
            entry: watch.entry(),
            caller: Default::default(),
            request_id: request.to_string(),
            trace: jobs.telemetry.fresh(request),
            generation: 0,
            drawn: false,
        };
        let row = jobs.row(live, workflow, id, input, &origin).map_err(|error| Box::new(error.as_problem()))?;
        // Jobs of one row run one after another, unless their lane orders them by itself.
        let of_row = format!("change {} {} {}", watch.entry(), workflow.plan.name, changed.key);
        let ordering_key = row.ordering_key.clone().or_else(|| Some(of_row.chars().take(300).collect()));
        Ok(NewJob { accepted: at, due: at, ordering_key, unattended: true, listed: false, ..row })
    }

    /// A change that a workflow does not accept, as it is kept among refused requests: nothing of it is lost.
    fn unfit(
        &self,
        workflow: &Workflow,
        watch: &Watch,
        changed: &Changed,
        problem: &Problem,
        at: Timestamp,
    ) -> Refusal {
        let confidential = workflow.plan.input.label.any();
        let row = |text: &Option<String>| text.clone().unwrap_or_else(|| "null".into());
        let (of, before, after) = (&changed.of, row(&changed.before), row(&changed.after));
        let body = format!("{{\"of\":\"{of}\",\"before\":{before},\"after\":{after}}}");
        let id = fresh_id();
        Refusal {
            id,
            at,
            entry: Some(watch.entry()),
            workflow: Some(workflow.plan.name.clone()),
            request_id: id.to_string(),
            caller: None,
            status: problem.status,
            problem: journal::cut(self.effects.secrets.mask(problem.to_json()), journal::MOST_REFUSED),
            media: Some("application/json".into()),
            size: Some(body.len() as u64),
            digest: Some(hex::of(&Sha256::digest(&body))),
            body: (!confidential).then(|| journal::cut(self.effects.secrets.mask(body), journal::MOST_REFUSED)),
        }
    }
}

/// Databases of which live workflows watch a table.
pub fn databases(live: &Live) -> BTreeSet<String> {
    live.workflows.values().flat_map(|workflow| &workflow.plan.watches).map(|watch| watch.database.clone()).collect()
}
