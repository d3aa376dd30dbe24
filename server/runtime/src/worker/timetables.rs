//! Timetables: every process reads all of them, and the row of a due instant decides which process fires it. A due
//! instant queues a job; missed ones are made up for as the entry says.

use std::collections::HashMap;
use std::sync::Arc;
use std::time::Duration;

use kanzlei_compiler::plan::Timetable;
use kanzlei_lang::document::workflow::{Missed, Overlap};
use kanzlei_model::time::{Span, Timestamp};
use kanzlei_store::queue::{JobPhase, NewJob, TimetableState};
use uuid::Uuid;

use crate::clock::now;
use crate::error::{Error, Result};
use crate::live::{Live, Workflow};
use crate::queue::{Jobs, Origin};

/// How often timetables are checked.
const POLL: Duration = Duration::from_millis(200);
/// A due instant that is noticed later than this counts as missed.
const LATE: Span = Span::from_secs(60);
/// The most missed instants that are made up for, or recorded, at once.
const MOST_MISSED: usize = 1000;

/// Fires timetables until the process ends.
pub async fn run(jobs: Arc<Jobs>) {
    let mut every = tokio::time::interval(POLL);
    every.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Delay);
    // The next due instant of each, so that the database is not queried before.
    let mut next: HashMap<(String, u16), Timestamp> = HashMap::new();
    let mut generation = u64::MAX;
    let mut fresh = 0;
    loop {
        every.tick().await;
        let live = jobs.live.load_full();
        // Operators change states too; they are read again every two seconds.
        let due = next.values().any(|next| *next <= now());
        if live.generation == generation && !due && fresh > 0 {
            fresh -= 1;
            continue;
        }
        match fire_due(&jobs, &live, &mut next).await {
            Ok(()) => {
                generation = live.generation;
                fresh = 10;
            }
            Err(error) => tracing::debug!(%error, "timetables wait for the database"),
        }
    }
}

async fn fire_due(jobs: &Jobs, live: &Live, next: &mut HashMap<(String, u16), Timestamp>) -> Result<()> {
    next.clear();
    let mut entries = Vec::new();
    for workflow in live.workflows.values() {
        entries.extend((0..workflow.plan.timetables.len()).map(|index| (workflow.clone(), index)));
    }
    if entries.is_empty() {
        return Ok(());
    }
    let known = jobs.store.timetables().await?;
    let at = now();
    for (workflow, index) in entries {
        let (name, entry, timetable) = (&workflow.plan.name, index as u16, &workflow.plan.timetables[index]);
        let definition = definition(timetable);
        let state = known.iter().find(|state| state.workflow == *name && state.entry == entry);
        let Some(state) = state.filter(|state| state.definition == definition) else {
            jobs.store.begin_timetable(name, entry, &definition, at).await?;
            continue;
        };
        if state.paused {
            continue;
        }
        due(jobs, live, &workflow, timetable, state, at).await?;
        if let Some(coming) = timetable.calendar.next(at.into()) {
            next.insert((name.clone(), entry), coming.into());
        }
    }
    Ok(())
}

/// Pattern and bounds of an entry as they are recorded, so that a change is noticed.
pub fn definition(timetable: &Timetable) -> String {
    let calendar = &timetable.calendar;
    let bound = |at: Option<jiff::Timestamp>| at.map(|at| at.to_string()).unwrap_or_default();
    let text = format!("{} {} {}", calendar.text(), bound(calendar.from), bound(calendar.until));
    text.chars().take(500).collect()
}

/// Queues the jobs of one timetable that became due since the last check.
async fn due(
    jobs: &Jobs,
    live: &Live,
    workflow: &Workflow,
    timetable: &Timetable,
    state: &TimetableState,
    at: Timestamp,
) -> Result<()> {
    let (name, entry) = (&workflow.plan.name, state.entry);
    let passed = timetable.calendar.between(state.handled_until.into(), at.into(), MOST_MISSED);
    let passed: Vec<Timestamp> = passed.into_iter().map(Timestamp::from).collect();
    let Some(last) = passed.last().copied() else { return Ok(()) };
    let newest_missed = passed.iter().rposition(|due| *due < at - LATE);
    for (index, due) in passed.iter().enumerate() {
        let missed = *due < at - LATE;
        let made_up = match timetable.missed {
            Missed::Skip => false,
            Missed::Once => Some(index) == newest_missed,
            Missed::All => true,
        };
        if missed && !made_up {
            note(jobs, name, entry, *due, "missed", None).await?;
            continue;
        }
        if timetable.overlap == Overlap::Skip && busy(jobs, name, entry).await? {
            note(jobs, name, entry, *due, "skipped", None).await?;
            continue;
        }
        fire(jobs, live, workflow, entry, *due, "queued").await?;
    }
    jobs.store.timetable_handled(name, entry, last).await?;
    Ok(())
}

/// Whether the last job of a timetable has not ended.
async fn busy(jobs: &Jobs, workflow: &str, entry: u16) -> Result<bool> {
    let last = jobs.store.firings(workflow, entry, 20).await?.into_iter().find(|firing| firing.job.is_some());
    Ok(last.and_then(|firing| firing.phase).and_then(JobPhase::of_code).is_some_and(|phase| !phase.ended()))
}

/// Records what became of a due instant, and counts it in the process that was first.
async fn note(
    jobs: &Jobs,
    workflow: &str,
    entry: u16,
    due: Timestamp,
    became: &'static str,
    job: Option<Uuid>,
) -> Result<()> {
    if jobs.store.fire(workflow, entry, due, became, job, now()).await? {
        jobs.totals.timetables.add(became);
    }
    Ok(())
}

/// Queues the job of one due instant, once over all processes. The job is a row before the firing is:
/// its id follows from the instant, so a second process changes nothing.
async fn fire(
    jobs: &Jobs,
    live: &Live,
    workflow: &Workflow,
    entry: u16,
    due: Timestamp,
    result: &'static str,
) -> Result<Uuid> {
    let plan = &workflow.plan;
    let Some(timetable) = plan.timetables.get(usize::from(entry)) else {
        return Err(Error::not_found(format!("`{}` has no timetable {}", plan.name, entry + 1)));
    };
    let wrong = |detail: String| Error::problem(422, "The timetable's input does not fit", detail);
    let given = timetable.input(&due.to_string()).map_err(|failure| wrong(failure.message))?;
    let input = plan.input.accept(&given).map_err(|problem| {
        wrong(problem.errors.first().map_or(problem.title.clone(), |e| format!("{} {}", e.pointer, e.detail)))
    });
    let input = match input {
        Ok(input) => input,
        Err(error) => {
            tracing::error!(workflow = plan.name, %error, "a timetable could not queue its job");
            note(jobs, &plan.name, entry, due, "refused", None).await?;
            return Err(error);
        }
    };
    let firing = jobs.id_of(Uuid::nil(), due.as_micros() as u64, usize::from(entry), due);
    // As if somebody had requested it; services see the id of the request.
    let request = jobs.id_for(&plan.name, firing);
    let id = jobs.id_of_request(request);
    let origin = Origin {
        entry: timetable.calendar.text(),
        caller: Default::default(),
        request_id: request.to_string(),
        trace: jobs.telemetry.fresh(request),
        generation: 0,
        drawn: false,
    };
    let row = jobs.row(live, workflow, id, &input, &origin)?;
    let ordering_key = match timetable.overlap {
        Overlap::Wait => Some(format!("timetable {} {entry}", plan.name)),
        _ => row.ordering_key.clone(),
    };
    let row = NewJob { due: if result == "by-hand" { row.due } else { due }, ordering_key, unattended: true, ..row };
    jobs.accept(vec![row], None).await?;
    note(jobs, &plan.name, entry, due, result, Some(id)).await?;
    Ok(id)
}

/// Queues the job of a timetable now, as if it were due.
pub async fn fire_now(jobs: &Jobs, workflow: &str, entry: u16) -> Result<Uuid> {
    let live = jobs.live.load_full();
    let Some(workflow) = live.workflows.get(workflow) else {
        return Err(Error::not_found(format!("no workflow `{workflow}` is live")));
    };
    fire(jobs, &live, workflow, entry, now(), "by-hand").await
}
