//! When a lane will be empty: its backlog and the measured times of steps, played by the rules of lanes.

use std::collections::HashMap;
use std::collections::hash_map::{DefaultHasher, Entry};
use std::hash::{Hash, Hasher};

use actix_web::HttpResponse;
use actix_web::web::{Data, Path, Query};
use kanzlei_api::lanes::{Depth, Forecast, ForecastQuery, Projection};
use kanzlei_compiler::plan::Plan;
use kanzlei_engine::forecast::{Backlog, HORIZON, Rules, Waiting, play};
use kanzlei_model::time::Span;
use kanzlei_runtime::clock::now;
use kanzlei_runtime::live::Live;
use kanzlei_store::queue::Sample;
use kanzlei_store::statistics::StepCount;

use super::lanes::{known, pace_text};
use super::pace_given;
use super::statistics::place;
use crate::App;
use crate::error::{Error, Result};

/// Jobs that are played.
const MOST: u32 = 50_000;
/// Quantiles of the time of a workflow.
const QUANTILES: usize = 20;
/// How far back times are measured.
const MEASURED: Span = Span::from_days(1);
/// What a step takes that nothing is known of.
const UNKNOWN: Span = Span::from_micros(50_000);
/// How far back arrivals are counted.
const ARRIVED: Span = Span::from_secs(300);

/// `GET /lanes/{name}/forecast`.
pub async fn forecast(app: Data<App>, name: Path<String>, query: Query<ForecastQuery>) -> Result<HttpResponse> {
    let (at, live, query) = (now(), app.live.load_full(), query.into_inner());
    known(&app, &live, &name).await?;
    let lane = live.lane(&name);
    let pace = match &query.pace {
        None => lane.pace,
        Some(text) => Some(pace_given(text)?),
    };
    let at_once = query.at_once.or(lane.at_once);
    if at_once == Some(0) || query.arriving.is_some_and(|rate| !(0.0..=1e6).contains(&rate)) {
        let detail = "`at_once` is at least 1, and `arriving` is 0 to 1000000 jobs in a minute";
        return Err(Error::problem(422, "Invalid rules", detail));
    }
    let rows = app.store.lane_backlog(&name, at + HORIZON, MOST).await?;
    let mut times = Times { app: &app, live: &live, of: HashMap::new(), times: Vec::new(), measured: 0 };
    let mut backlog = Backlog::default();
    for row in &rows {
        let of = times.index(&row.workflow).await?;
        let key = row.ordering_key.as_ref().map(hash);
        match row.running {
            true => backlog.running.push((row.ready_at, key, of)),
            false => backlog.waiting.push(Waiting { ready_at: row.ready_at, rank: row.rank, key, of }),
        }
    }
    let samples = app.store.samples(at - ARRIVED).await?;
    let samples: Vec<&Sample> = samples.iter().filter(|sample| sample.lane == *name).collect();
    let arriving = query.arriving.unwrap_or_else(|| arrivals_per_minute(&samples));
    // What arrives is like what waits now.
    backlog.arriving = (arriving > 0.0).then(|| {
        let between = Span::from_micros((60_000_000.0 / arriving) as i64).max(Span::from_micros(1));
        (between, backlog.waiting.first().map_or(0, |job| job.of))
    });
    let measured = times.measured;
    backlog.times = times.times;
    if backlog.times.is_empty() {
        backlog.times.push(vec![UNKNOWN]);
    }
    let every = backlog.times.iter().flatten();
    let mean = every.clone().fold(Span::ZERO, |sum, one| sum + *one) / (every.count().max(1) as i64);
    let processes = app.store.workers().await?.iter().filter(|(.., expires)| *expires > at).count();
    let places = u32::try_from(processes).unwrap_or(1).saturating_mul(app.places_of_lane);
    let held = app.store.lane_states().await?.iter().any(|state| state.held && state.name == *name);
    let due = backlog.waiting.iter().filter(|job| job.ready_at <= at).count() as u64;
    let (waiting, running) = (due, backlog.running.len() as u64);
    let changes = query.at_once.is_some() || query.pace.is_some();
    let project = move || {
        let of = |at_once: Option<u32>, pace: Option<(u32, std::time::Duration)>| {
            let gap = pace.map(|(count, span)| Span::from(span) / i64::from(count));
            let played = match held || places == 0 {
                true => Default::default(),
                false => play(&backlog, &Rules { at_once, places, gap }, at),
            };
            Projection {
                at_once,
                pace: pace.map(|(count, span)| pace_text(count, span)),
                begun: played.begun,
                empty: played.empty,
                mean_delay_us: played.mean_delay,
                max_delay_us: played.max_delay,
                curve: played.curve.into_iter().map(|(at, waiting)| Depth { at, waiting }).collect(),
            }
        };
        (of(lane.at_once, lane.pace), changes.then(|| of(at_once, pace)))
    };
    let (as_is, changed) = app.background.run(project).await?;
    Ok(HttpResponse::Ok().json(Forecast {
        lane: name.into_inner(),
        at,
        held,
        waiting,
        running,
        more: rows.len() as u32 == MOST,
        arriving_per_min: arriving,
        mean_us: mean,
        measured,
        places,
        as_is,
        changed,
    }))
}

fn hash(key: impl Hash) -> u64 {
    let mut hasher = DefaultHasher::new();
    key.hash(&mut hasher);
    hasher.finish()
}

/// Jobs that arrived in a minute: those that began, and by how many more wait than before.
fn arrivals_per_minute(samples: &[&Sample]) -> f64 {
    let (Some(first), Some(last)) = (samples.first(), samples.last()) else { return 0.0 };
    let begun: u64 = samples.iter().map(|sample| sample.begun).sum();
    let arrived = (begun + last.waiting).saturating_sub(first.waiting);
    arrived as f64 / ARRIVED.as_secs_f64() * 60.0
}

/// How long the jobs of workflows occupy their places.
struct Times<'t> {
    app: &'t App,
    live: &'t Live,
    of: HashMap<String, usize>,
    times: Vec<Vec<Span>>,
    measured: u64,
}

impl Times<'_> {
    async fn index(&mut self, workflow: &str) -> Result<usize> {
        let index = self.times.len();
        match self.of.entry(workflow.to_owned()) {
            Entry::Occupied(known) => return Ok(*known.get()),
            Entry::Vacant(new) => new.insert(index),
        };
        let since = (now() - MEASURED).as_minutes();
        let counts = self.app.store.step_counts(&self.live.names_of(workflow), since).await?;
        let newest = counts.into_iter().max_by_key(|(revision, _)| *revision).map(|(_, steps)| steps);
        let plan = self.live.workflow(workflow).map(|live| live.plan.clone());
        let measured = newest.zip(plan).and_then(|(steps, plan)| occupied(&steps, &plan));
        let (times, runs) = measured.unwrap_or_else(|| (vec![UNKNOWN], 0));
        self.measured += runs;
        self.times.push(times);
        Ok(index)
    }
}

/// Quantiles of the time in which a run occupies its place, and from how many runs: its steps without those that only wait.
fn occupied(steps: &[StepCount], plan: &Plan) -> Option<(Vec<Span>, u64)> {
    let runs = steps.iter().find(|step| step.number.is_empty())?.runs.max(1);
    let kind = |number: &str| place(plan, number).map(|(plan, paragraph)| plan.sheet[paragraph as usize].kind.as_str());
    let waits = |number: &str| matches!(kind(number), Some("pause" | "await"));
    let inside = |outer: &str, inner: &str| inner.len() > outer.len() && inner.starts_with(&format!("{outer}."));
    let has_waits = |number: &str| steps.iter().any(|step| inside(number, &step.number) && waits(&step.number));
    // A step counts with all that is in it, unless something in it waits.
    let counted: Vec<&StepCount> = steps
        .iter()
        .filter(|step| !step.number.is_empty() && !waits(&step.number) && !has_waits(&step.number))
        .filter(|step| {
            let around = steps.iter().filter(|outer| !outer.number.is_empty() && inside(&outer.number, &step.number));
            !around.clone().any(|outer| !has_waits(&outer.number) && !waits(&outer.number))
        })
        .collect();
    let quantile = |at: usize| {
        let share = (at as f64 + 0.5) / QUANTILES as f64;
        let of = |step: &&StepCount| {
            let micros = step.times.quantile(share).unwrap_or(0) as f64;
            micros * step.runs as f64 / runs as f64
        };
        Span::from_micros(counted.iter().map(of).sum::<f64>() as i64)
    };
    Some(((0..QUANTILES).map(quantile).collect(), runs))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn arrivals_are_what_began_and_what_waits_more() {
        let sample = |waiting, begun| Sample { waiting, begun, ..Sample::default() };
        let samples = [sample(10, 20), sample(40, 50)];
        let of = |samples: &[Sample]| arrivals_per_minute(&samples.iter().collect::<Vec<_>>());
        assert_eq!((of(&samples), of(&[sample(100, 0), sample(0, 90)]), of(&[])), (20.0, 0.0, 0.0));
    }
}
