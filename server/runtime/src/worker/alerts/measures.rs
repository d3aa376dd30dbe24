//! The measures of an alert, read from what all processes count.

use kanzlei_compiler::plan::{Action, Alert, Plan};
use kanzlei_lang::document::alert::Subject;
use kanzlei_model::histogram::Histogram;
use kanzlei_model::time::{Span, Timestamp};

use crate::error::Result;
use crate::live::Live;
use crate::queue::Jobs;

/// Measures by their names.
pub type Measures = Vec<(&'static str, f64)>;

/// How far back a success is looked for.
const SUCCESS: Span = Span::from_days(7);
const MINUTE: Span = Span::from_secs(60);

/// A measure by its name.
pub fn of(measures: &Measures, name: &str) -> Option<f64> {
    measures.iter().find(|(known, _)| *known == name).map(|(_, value)| *value)
}

/// Reads the measures of an alert.
///
/// # Errors
/// When the database is unavailable.
pub async fn read(jobs: &Jobs, live: &Live, alert: &Alert, at: Timestamp) -> Result<Measures> {
    let since = at - Span::from(alert.over);
    // Counts are by minutes; the first one belongs to the span with the part that lies in it, or more.
    let minute = since.floor(MINUTE).as_minutes();
    match alert.subject {
        Subject::Workflow => workflow(jobs, live, &alert.of, (since, minute), at).await,
        Subject::Lane => lane(jobs, &alert.of, since, at).await,
        Subject::Service => service(jobs, live, &alert.of, minute).await,
        Subject::Timetable => {
            let found = jobs.store.instants(&alert.of, since).await?;
            Ok(vec![
                ("queued", found.queued as f64),
                ("missed", found.missed as f64),
                ("skipped", found.skipped as f64),
                ("refused", found.refused as f64),
                ("failed", found.failed as f64),
            ])
        }
        Subject::Allowance => {
            let Some(allowance) = live.allowances.get(&alert.of) else { return Ok(Vec::new()) };
            let (begins, _) = allowance.period(at);
            let (callers, most) = jobs.store.most_used(&alert.of, begins).await?;
            let quota = allowance.quota.map_or(u64::MAX, |(count, _)| count.max(1));
            Ok(vec![("callers", callers as f64), ("used", most as f64 / quota as f64)])
        }
    }
}

async fn workflow(
    jobs: &Jobs,
    live: &Live,
    name: &str,
    (since, minute): (Timestamp, i64),
    at: Timestamp,
) -> Result<Measures> {
    let names = live.names_of(name);
    let mut sum = [0; 3];
    for counted in jobs.store.minutes(Some(&names), minute).await? {
        sum[0] += counted.runs;
        sum[1] += counted.rejected;
        sum[2] += counted.failed;
    }
    let [runs, rejected, failed] = sum;
    let mut times = Histogram::default();
    for (_, of) in jobs.store.run_times(&names, minute).await? {
        times.merge(&of);
    }
    let last = jobs.store.last_success(&names, (at - SUCCESS).as_minutes()).await?;
    // A workflow that was deployed a moment ago has had no time to succeed.
    let deployed = live.workflows.get(name).map_or(at, |workflow| workflow.since).max(at - SUCCESS);
    let last = last.map_or(deployed, |minute| Timestamp::EPOCH + MINUTE * (minute + 1)).max(deployed).min(at);
    let mut measures = vec![
        ("runs", runs as f64),
        ("succeeded", runs.saturating_sub(rejected + failed) as f64),
        ("rejected", rejected as f64),
        ("failed", failed as f64),
        ("denied", jobs.store.denied(name, since).await? as f64),
        ("since_success", (at - last).as_secs_f64()),
    ];
    measures.extend(quantiles(&times));
    Ok(measures)
}

async fn lane(jobs: &Jobs, name: &str, since: Timestamp, at: Timestamp) -> Result<Measures> {
    let depths = jobs.store.lane_depths(at).await?;
    let depth = depths.iter().find(|depth| depth.lane == name);
    let samples = jobs.store.samples(since).await?;
    let of = samples.iter().filter(|sample| sample.lane == name);
    let (mut begun, mut ended, mut delay, mut most) = (0, [0; 3], 0, 0);
    for sample in of {
        begun += sample.begun;
        ended[0] += sample.succeeded;
        ended[1] += sample.rejected;
        ended[2] += sample.failed;
        delay += sample.delay;
        most = most.max(sample.max_delay);
    }
    let oldest = depth.and_then(|depth| depth.oldest).map_or(0.0, |due| (at - due).max(Span::ZERO).as_secs_f64());
    let count = |pick: fn(&kanzlei_store::queue::LaneDepth) -> u64| depth.map_or(0, pick) as f64;
    Ok(vec![
        ("scheduled", count(|depth| depth.scheduled)),
        ("queued", count(|depth| depth.queued)),
        ("running", count(|depth| depth.running)),
        ("waiting", count(|depth| depth.waiting)),
        ("oldest", oldest),
        ("begun", begun as f64),
        ("succeeded", ended[0] as f64),
        ("rejected", ended[1] as f64),
        ("failed", ended[2] as f64),
        ("delay", if begun == 0 { 0.0 } else { delay as f64 / begun as f64 / 1e6 }),
        ("most_delay", most as f64 / 1e6),
    ])
}

/// The steps of all live workflows that call a service, as their live revisions have them.
async fn service(jobs: &Jobs, live: &Live, name: &str, minute: i64) -> Result<Measures> {
    let (mut calls, mut failed, mut times) = (0, 0, Histogram::default());
    for workflow in live.workflows.values() {
        let numbers = steps_that_call(&workflow.plan, name);
        if numbers.is_empty() {
            continue;
        }
        for (revision, steps) in jobs.store.step_counts(&live.names_of(&workflow.plan.name), minute).await? {
            for step in
                steps.iter().filter(|step| revision == workflow.revision && numbers.contains(&step.number.as_str()))
            {
                calls += step.runs;
                failed += step.failures;
                times.merge(&step.times);
            }
        }
    }
    let mut measures = vec![("calls", calls as f64), ("failed", failed as f64)];
    measures.extend(quantiles(&times));
    Ok(measures)
}

/// The numbers of the steps that call a service.
fn steps_that_call<'p>(plan: &'p Plan, service: &str) -> Vec<&'p str> {
    let steps = plan.blocks.iter().flatten();
    let calling = steps.filter(|step| matches!(&step.action, Action::Call(call) if call.service == service));
    calling.filter_map(|step| Some(plan.sheet.get(step.paragraph as usize)?.number.as_str())).collect()
}

fn quantiles(times: &Histogram) -> [(&'static str, f64); 3] {
    [("p50", 0.5), ("p95", 0.95), ("p99", 0.99)]
        .map(|(name, share)| (name, times.quantile(share).map_or(0.0, |us| us as f64 / 1e6)))
}
