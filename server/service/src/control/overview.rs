//! The overview of operation: runs by minute and workflow over all processes, and how full this one is.

use std::cmp::Reverse;
use std::collections::BTreeMap;
use std::sync::atomic::Ordering;

use actix_web::HttpResponse;
use actix_web::web::{Data, Query};
use kanzlei_api::overview::{Bound, Ended, Minute, Overview, OverviewQuery, ServiceCalls, WorkflowMinutes};
use kanzlei_model::histogram::Histogram;
use kanzlei_model::time::Span;
use kanzlei_runtime::clock::now;
use kanzlei_runtime::metrics::Timed;

use super::workflows::no_workflow;
use crate::App;
use crate::error::{Error, Result};

/// Workflows whose times are read: the busiest.
const WITH_TIMES: usize = 20;
/// The longest span, in minutes.
const LONGEST: u32 = 1440;

/// `GET /overview`.
pub async fn overview(app: Data<App>, query: Query<OverviewQuery>) -> Result<HttpResponse> {
    let OverviewQuery { minutes, workflow } = query.into_inner();
    let span = minutes.unwrap_or(60);
    if !(1..=LONGEST).contains(&span) {
        let detail = format!("`minutes` is {span}; from 1 to {LONGEST} are possible");
        return Err(Error::problem(422, "Not such a span", detail));
    }
    let live = app.live.load_full();
    if let Some(name) = workflow.as_ref().filter(|name| !live.workflows.contains_key(*name)) {
        return Err(no_workflow(&live, name, "is live"));
    }
    // The current minute is one of them.
    let since = (now() - Span::from_secs(60) * i64::from(span - 1)).floor(Span::from_secs(60));
    app.journal.flush().await;
    let names = workflow.as_ref().map(|name| live.names_of(name));
    let counted = app.store.minutes(names.as_deref(), since.as_minutes()).await?;
    let mut summaries = app.store.summaries(since.as_minutes()).await?;
    summaries.retain(|summary| workflow.as_ref().is_none_or(|name| summary.workflow == *name));
    summaries.sort_by_key(|summary| Reverse(summary.runs));
    let mut by_minute: BTreeMap<i64, Histogram> = BTreeMap::new();
    let mut workflows = Vec::with_capacity(summaries.len());
    for (index, summary) in summaries.iter().enumerate() {
        let mut times = Histogram::default();
        if index < WITH_TIMES {
            let found = app.store.run_times(&live.names_of(&summary.workflow), since.as_minutes()).await?;
            for (minute, of) in found {
                times.merge(&of);
                by_minute.entry(minute).or_default().merge(&of);
            }
        }
        let ended = ended((summary.runs, summary.rejected, summary.failed), &times);
        workflows.push(WorkflowMinutes { workflow: summary.workflow.clone(), ended });
    }
    let none = Histogram::default();
    let minutes = counted.iter().map(|minute| Minute {
        at: minute.minute * 60,
        ended: ended((minute.runs, minute.rejected, minute.failed), by_minute.get(&minute.minute).unwrap_or(&none)),
    });
    let services = live.services.iter().filter_map(|(name, service)| calls(name, &service.calls));
    Ok(HttpResponse::Ok().json(Overview {
        since,
        minutes: minutes.collect(),
        without_times: summaries.len().saturating_sub(WITH_TIMES) as u32,
        workflows,
        bounds: bounds(&app),
        services: services.collect(),
        database: app.database_state().into(),
        ping_us: Span::from_micros(app.pulse.took().as_micros() as i64),
        dropped: app.journal.dropped.load(Ordering::Relaxed) + app.journal.refusals.dropped.load(Ordering::Relaxed),
        started: app.started,
    }))
}

fn ended((runs, rejected, failed): (u64, u64, u64), times: &Histogram) -> Ended {
    let quantile = |share| times.quantile(share).map(|us| Span::from_micros(us.try_into().unwrap_or(i64::MAX)));
    Ended { runs, rejected, failed, p50_us: quantile(0.5), p95_us: quantile(0.95), p99_us: quantile(0.99) }
}

/// What is used of each bound of the process; metrics show the same.
pub fn bounds(app: &App) -> Vec<Bound> {
    let (idle, open, most) = app.store.connections();
    let pairs = [
        ("requests", (app.in_flight.count(), app.in_flight.most()), ""),
        ("background", app.background.busy(), ""),
        ("computing", app.effects.computing.busy(), ""),
        ("connections", ((open - idle) as usize, most as usize), ""),
        ("journal", app.journal.waiting(), "bytes"),
        ("acceptances", app.jobs.waiting(), "bytes"),
        ("telemetry", app.jobs.telemetry.waiting(), "bytes"),
    ];
    let bound = |(name, (used, bound), unit): (&str, (usize, usize), &str)| Bound {
        name: name.into(),
        used: used as u64,
        bound: bound as u64,
        unit: unit.into(),
    };
    pairs.map(bound).into()
}

/// Calls of a service; nothing where there were none.
fn calls(service: &str, timed: &Timed) -> Option<ServiceCalls> {
    let calls = timed.count();
    let failed = |word: &str| !matches!(word, "1xx" | "2xx" | "3xx" | "4xx");
    let failures = timed.words.all().iter().filter(|(word, _)| failed(word)).map(|(_, count)| count).sum();
    (calls > 0).then(|| ServiceCalls {
        service: service.to_owned(),
        calls,
        failures,
        mean_us: Span::from_micros(timed.mean().as_micros() as i64),
    })
}
