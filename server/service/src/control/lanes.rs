//! Lanes: their rules, how they stand, what they did; held, released and emptied.

use std::collections::BTreeMap;

use actix_web::HttpResponse;
use actix_web::web::{Data, Path, Query};
use kanzlei_api::lanes::{Lane, LaneAction, LaneChanged, Lanes, Recent, Sample, SampleFilter, Samples};
use kanzlei_compiler::plan::Order;
use kanzlei_lang::document::lane::MAIN;
use kanzlei_model::run::RunState;
use kanzlei_model::time::Span;
use kanzlei_runtime::clock::now;
use kanzlei_runtime::live::Live;
use kanzlei_runtime::queue::MOST_SELECTED;
use kanzlei_store::queue::{self, Filter};

use super::auth::Caller;
use crate::App;
use crate::error::{Error, Result};

/// `GET /lanes`: every lane with its rules, how it stands, and what it did in the last minutes.
pub async fn list(app: Data<App>) -> Result<HttpResponse> {
    let at = now();
    let live = app.live.load_full();
    let depths = app.store.lane_depths(at).await?;
    let states = app.store.lane_states().await?;
    let recent = app.store.samples(at - Span::from_secs(300)).await?;
    let mut names: Vec<String> = vec![MAIN.to_owned()];
    names.extend(live.lanes.keys().cloned());
    names.extend(depths.iter().map(|depth| depth.lane.clone()));
    names.sort();
    names.dedup();
    let listed = names
        .iter()
        .map(|name| {
            let lane = live.lane(name);
            let depth = depths.iter().find(|depth| depth.lane == *name).cloned().unwrap_or_default();
            let held = states.iter().any(|state| state.name == *name && state.held);
            let sum = recent.iter().filter(|sample| sample.lane == *name).fold(queue::Sample::default(), |sum, one| {
                queue::Sample {
                    begun: sum.begun + one.begun,
                    succeeded: sum.succeeded + one.succeeded,
                    rejected: sum.rejected + one.rejected,
                    failed: sum.failed + one.failed,
                    delay: sum.delay + one.delay,
                    max_delay: sum.max_delay.max(one.max_delay),
                    ..sum
                }
            });
            Lane {
                name: name.clone(),
                about: lane.about.clone(),
                declared: live.lanes.contains_key(name),
                held,
                at_once: lane.at_once,
                pace: lane.pace.map(|(count, span)| pace_text(count, span)),
                order: match &lane.order {
                    Order::Due => "due".to_owned(),
                    Order::Strict => "strict".to_owned(),
                    Order::Per(key) => format!("one at a time per {}", key.text()),
                },
                length: lane.length,
                full: lane.full,
                scheduled: depth.scheduled,
                queued: depth.queued,
                running: depth.running,
                waiting: depth.waiting,
                oldest_us: depth.oldest.map(|oldest| (at - oldest).max(Span::ZERO)),
                last_5min: Recent {
                    begun: sum.begun,
                    succeeded: sum.succeeded,
                    rejected: sum.rejected,
                    failed: sum.failed,
                    mean_delay_us: sum.delay.checked_div(sum.begun).map(|mean| Span::from_micros(mean as i64)),
                    max_delay_us: Span::from_micros(sum.max_delay as i64),
                },
            }
        })
        .collect();
    Ok(HttpResponse::Ok().json(Lanes { lanes: listed }))
}

/// A pace as people write it: `60/min`, `5 in 10s`.
pub(super) fn pace_text(count: u32, span: std::time::Duration) -> String {
    match span.as_secs_f64() {
        1.0 => format!("{count}/s"),
        60.0 => format!("{count}/min"),
        3600.0 => format!("{count}/h"),
        _ => format!("{count} in {}", kanzlei_model::duration::short(span)),
    }
}

/// `GET /lanes/samples`: depth, throughput and delay over time, by lane.
pub async fn samples(app: Data<App>, query: Query<SampleFilter>) -> Result<HttpResponse> {
    let minutes = query.minutes.unwrap_or(60).clamp(1, 2880);
    let found = app.store.samples(now() - Span::from_secs(60) * minutes).await?;
    let mut lanes: BTreeMap<String, Vec<Sample>> = BTreeMap::new();
    for sample in found {
        lanes.entry(sample.lane).or_default().push(Sample {
            at: sample.at.as_secs(),
            waiting: sample.waiting,
            begun: sample.begun,
            succeeded: sample.succeeded,
            rejected: sample.rejected,
            failed: sample.failed,
            mean_delay_ms: sample.delay.checked_div(sample.begun).unwrap_or(0) / 1000,
            max_delay_ms: sample.max_delay / 1000,
        });
    }
    Ok(HttpResponse::Ok().json(Samples { seconds: 10, lanes }))
}

/// Refuses the name of a lane that neither a document nor a job has.
pub(super) async fn known(app: &App, live: &Live, name: &str) -> Result<()> {
    let declared = name == MAIN || live.lanes.contains_key(name);
    if declared || app.store.lane_depths(now()).await?.iter().any(|depth| depth.lane == name) {
        return Ok(());
    }
    let near = kanzlei_lang::suggest::nearest(name, live.lanes.keys().map(String::as_str));
    let hint = near.map(|near| format!("; did you mean `{near}`?")).unwrap_or_default();
    Err(Error::not_found(format!("there is no lane `{name}`{hint}")))
}

/// `POST /lanes/{name}/{hold|release|empty}`.
pub async fn change(app: Data<App>, caller: Caller, path: Path<(String, String)>) -> Result<HttpResponse> {
    let (name, action) = path.into_inner();
    caller.notes.changed(format!("lane {name}"), None, Some(action.clone()));
    let Some(action) = super::word::<LaneAction>(&action) else {
        return Err(Error::not_found(format!("a lane cannot `{action}`; it can hold, release and empty")));
    };
    known(&app, &app.live.load_full(), &name).await?;
    let mut cancelled = 0;
    match action {
        LaneAction::Hold => app.store.hold_lane(&name, true).await?,
        LaneAction::Release => app.store.hold_lane(&name, false).await?,
        LaneAction::Empty => {
            for state in [RunState::Queued, RunState::Scheduled, RunState::Waiting] {
                let filter =
                    Filter { lane: Some(name.clone()), states: vec![state], limit: MOST_SELECTED, ..Filter::default() };
                let ids = app.store.job_ids(&filter, now()).await?;
                let (done, left) = app.jobs.cancel_most(ids, "an operator, emptying the lane").await?;
                cancelled += done.len() as u64;
                for id in left {
                    let by = "an operator, emptying the lane";
                    cancelled += u64::from(app.jobs.cancel_one(id, by).await?.is_some_and(|phase| !phase.ended()));
                }
            }
        }
    }
    app.jobs.wake.notify_one();
    Ok(HttpResponse::Ok().json(LaneChanged { lane: name, action, cancelled }))
}

#[cfg(test)]
mod tests {
    use std::time::Duration;

    use super::*;

    #[test]
    fn paces_are_written_as_people_do() {
        for (count, seconds, text) in [(5, 1, "5/s"), (60, 60, "60/min"), (7, 3600, "7/h"), (2, 90, "2 in 1m30s")] {
            assert_eq!(pace_text(count, Duration::from_secs(seconds)), text);
        }
    }
}
