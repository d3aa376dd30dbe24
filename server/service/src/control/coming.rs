//! What is to come in the next hour, day or week: jobs that become due, waits that end, timetables.

use actix_web::HttpResponse;
use actix_web::web::{Data, Query};
use kanzlei_api::coming::{Coming, ComingKind, ComingLine, ComingQuery};
use kanzlei_model::time::{Span, Timestamp};
use kanzlei_runtime::clock::now;

use crate::App;
use crate::error::{Error, Result};

/// The furthest look, in minutes: a week.
const FURTHEST: u32 = 7 * 24 * 60;
/// Slots of a look.
const SLOTS: i64 = 60;
/// Lines that are shown.
const MOST: usize = 1000;
/// Due instants of one timetable that are read.
const INSTANTS: usize = 10_080;

/// `GET /coming`.
pub async fn coming(app: Data<App>, query: Query<ComingQuery>) -> Result<HttpResponse> {
    let minutes = query.minutes.unwrap_or(60);
    if !(1..=FURTHEST).contains(&minutes) {
        let detail = format!("`minutes` is {minutes}; from 1 to {FURTHEST} are possible");
        return Err(Error::problem(422, "Not such a span", detail));
    }
    let from = now();
    let long = Span::from_secs(60) * i64::from(minutes);
    let (until, slot) = (from + long, long / SLOTS);
    let live = app.live.load_full();
    let mut lines: Vec<ComingLine> = Vec::new();
    for row in app.store.coming(from, until, slot, MOST as u32 + 1).await? {
        lines.push(ComingLine {
            first: row.first,
            kind: match row.waits_for.as_deref() {
                None => ComingKind::Due,
                Some("pause") => ComingKind::Pause,
                Some("retry") => ComingKind::Retry,
                Some(_) => ComingKind::Callback,
            },
            workflow: row.workflow,
            lane: row.lane,
            count: row.count,
        });
    }
    let states = app.store.timetables().await?;
    for workflow in live.workflows.values() {
        for (index, timetable) in workflow.plan.timetables.iter().enumerate() {
            let name = &workflow.plan.name;
            let state = states.iter().find(|state| state.workflow == *name && usize::from(state.entry) == index);
            if state.is_some_and(|state| state.paused) {
                continue;
            }
            let lane = workflow.plan.queue.lane.as_ref().and_then(|lane| lane.lanes.first().cloned());
            let mut last = None;
            for due in timetable.calendar.between(from.into(), until.into(), INSTANTS) {
                let first = Timestamp::from(due);
                let at = (first - from).as_micros() / slot.as_micros().max(1);
                match lines.last_mut().filter(|_| last == Some(at)) {
                    Some(line) => line.count += 1,
                    None => lines.push(ComingLine {
                        first,
                        kind: ComingKind::Timetable,
                        workflow: name.clone(),
                        lane: lane.clone().unwrap_or_else(|| "main".into()),
                        count: 1,
                    }),
                }
                last = Some(at);
            }
        }
    }
    lines.sort_by(|a, b| (a.first, &a.workflow, a.kind).cmp(&(b.first, &b.workflow, b.kind)));
    let more = lines.len() > MOST;
    lines.truncate(MOST);
    Ok(HttpResponse::Ok().json(Coming { from, until, slot_us: slot, coming: lines, more }))
}
