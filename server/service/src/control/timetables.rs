//! Timetables: when they are due next, what became of the last times; paused, resumed and fired.

use actix_web::HttpResponse;
use actix_web::web::{Data, Path};
use kanzlei_api::timetables::{Due, Firing, Timetable, TimetableAction, TimetableChanged, Timetables};
use kanzlei_lang::document::workflow::{Missed, Overlap};
use kanzlei_model::run::JobPhase;
use kanzlei_model::time::Timestamp;
use kanzlei_runtime::clock::now;
use kanzlei_runtime::worker::timetables;
use kanzlei_store::queue;

use super::auth::Caller;
use super::{poll_line, url_of};
use crate::App;
use crate::error::{Error, Result};

/// Times of a timetable that are shown, ahead and past.
const NEXT: usize = 5;
const LAST: u32 = 10;

/// `GET /timetables`: every timetable with its next due times and what became of the last ones.
pub async fn list(app: Data<App>) -> Result<HttpResponse> {
    let live = app.live.load_full();
    let states = app.store.timetables().await?;
    let at = jiff::Timestamp::from(now());
    let mut listed = Vec::new();
    for workflow in live.workflows.values() {
        for (index, timetable) in workflow.plan.timetables.iter().enumerate() {
            let (name, entry) = (&workflow.plan.name, index as u16);
            let state = states.iter().find(|state| state.workflow == *name && state.entry == entry);
            let paused = state.is_some_and(|state| state.paused);
            let calendar = &timetable.calendar;
            let ahead = if paused { 0 } else { NEXT };
            let next = calendar.between(at, jiff::Timestamp::MAX, ahead).into_iter().map(|due| Due {
                due: Timestamp::from_micros(due.as_microsecond()),
                zone: due.to_zoned(calendar.zone.clone()).strftime("%a %Y-%m-%d %H:%M:%S %:z").to_string(),
            });
            let last = app.store.firings(name, entry, LAST).await?;
            listed.push(Timetable {
                workflow: name.clone(),
                number: entry + 1,
                when: calendar.text().to_string(),
                words: calendar.words(),
                zone: calendar.zone_name().to_string(),
                missed: match timetable.missed {
                    Missed::Skip => "skip",
                    Missed::Once => "once",
                    Missed::All => "all",
                }
                .into(),
                overlap: match timetable.overlap {
                    Overlap::Allow => "allow",
                    Overlap::Skip => "skip",
                    Overlap::Wait => "wait",
                }
                .into(),
                paused,
                next: next.collect(),
                last: last.into_iter().map(|firing| shown(&app, firing)).collect(),
            });
        }
    }
    Ok(HttpResponse::Ok().json(Timetables { timetables: listed }))
}

fn shown(app: &App, firing: queue::Firing) -> Firing {
    let phase = firing.phase.and_then(JobPhase::of_code);
    Firing {
        due: firing.due,
        result: firing.result,
        curl: firing.job.map(|job| poll_line(app, job)),
        job: firing.job,
        state: phase.map(|phase| phase.state(false, false)),
    }
}

/// `POST /timetables/{workflow}/{number}/{pause|resume|fire}`.
pub async fn change(app: Data<App>, caller: Caller, path: Path<(String, u16, String)>) -> Result<HttpResponse> {
    let (workflow, number, action) = path.into_inner();
    caller.notes.changed(format!("timetable {number} of {workflow}"), None, Some(action.clone()));
    let Some(action) = super::word::<TimetableAction>(&action) else {
        return Err(Error::not_found(format!("a timetable cannot `{action}`; it can pause, resume and fire")));
    };
    let live = app.live.load_full();
    let known = live.workflows.get(&workflow).map(|w| w.plan.timetables.len()).unwrap_or(0);
    let Some(entry) = number.checked_sub(1).filter(|entry| usize::from(*entry) < known) else {
        return Err(Error::not_found(format!("`{workflow}` has no timetable {number}")));
    };
    let job = match action {
        TimetableAction::Fire => Some(timetables::fire_now(&app.jobs, &workflow, entry).await?),
        TimetableAction::Pause | TimetableAction::Resume => {
            app.store.pause_timetable(&workflow, entry, action == TimetableAction::Pause, now()).await?;
            None
        }
    };
    let url = job.map(|id| url_of(&app, id));
    Ok(HttpResponse::Ok().json(TimetableChanged { workflow, number, action, job, url }))
}
