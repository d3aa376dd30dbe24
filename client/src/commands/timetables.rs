//! `timetables` and `timetable`.

use kanzlei_api::timetables::{Timetable, TimetableAction, TimetableChanged, Timetables};
use kanzlei_api::watches::Watches;

use super::{print_json, segment, word};
use crate::api::Api;
use crate::{Done, args, draw};

/// Lists timetables with their next and last times.
pub fn list(api: &Api, json: bool) -> Done {
    let answer: Timetables = api.get("/timetables")?;
    if json {
        print_json(&answer);
        return Ok(());
    }
    if answer.timetables.is_empty() {
        println!("No timetables. A workflow has one with the entry `timetable: \"0 6 * * MON-FRI\"`.");
        return Ok(());
    }
    for (at, timetable) in answer.timetables.iter().enumerate() {
        if at > 0 {
            println!();
        }
        show(timetable);
    }
    Ok(())
}

fn show(timetable: &Timetable) {
    println!(
        "{} {} · {}{}",
        draw::bold(&timetable.workflow),
        timetable.number,
        timetable.when,
        if timetable.paused { draw::paint("33", " · paused") } else { String::new() }
    );
    println!("    {}", draw::dim(&timetable.words));
    println!("    {} {} · {} {}", draw::dim("missed"), timetable.missed, draw::dim("overlap"), timetable.overlap);
    if timetable.next.is_empty() {
        let why = if timetable.paused { "while it is paused" } else { "any more" };
        println!("    {} none {why}", draw::dim("next"));
    }
    for next in &timetable.next {
        println!("    {} {}  {}", draw::dim("next"), next.zone, draw::dim(&draw::utc(next.due)));
    }
    for last in timetable.last.iter().take(5) {
        let state = last.state.map_or_else(|| last.result.clone(), |state| draw::state(state.name()));
        let hand = if last.result == "by-hand" { " by hand" } else { "" };
        let job = last.job.map(|job| job.to_string()).unwrap_or_default();
        println!("    {} {}  {state}{hand}  {job}", draw::dim("last"), draw::utc(last.due));
    }
}

/// Pauses, resumes or fires a timetable.
pub fn change(api: &Api, workflow: &str, number: u16, action: args::TimetableAction, json: bool) -> Done {
    let action = match action {
        args::TimetableAction::Pause => TimetableAction::Pause,
        args::TimetableAction::Resume => TimetableAction::Resume,
        args::TimetableAction::Fire => TimetableAction::Fire,
    };
    let path = format!("/timetables/{}/{number}/{}", segment(workflow), word(&action));
    let answer: TimetableChanged = api.act(&path)?;
    if json {
        print_json(&answer);
        return Ok(());
    }
    match action {
        TimetableAction::Pause => {
            println!("{workflow} {number} is paused until `kanzlei timetable resume {workflow} {number}`.")
        }
        TimetableAction::Resume => {
            println!("{workflow} {number} is resumed; due times during the pause are skipped.")
        }
        TimetableAction::Fire => {
            let job = answer.job.map(|job| job.to_string()).unwrap_or_default();
            println!("queued: {}\nshow it with: kanzlei job {job}", answer.url.unwrap_or_default());
        }
    }
    Ok(())
}

/// Lists watched tables with their backlog.
pub fn watches(api: &Api, json: bool) -> Done {
    let answer: Watches = api.get("/watches")?;
    if json {
        print_json(&answer);
        return Ok(());
    }
    if answer.watches.is_empty() {
        println!("No table is watched. A workflow watches one with the entry `change: bill` and `database: harbour`.");
        return Ok(());
    }
    let number = |n: Option<u64>| n.map_or_else(|| "?".to_owned(), |n| n.to_string());
    let rows = answer.watches.iter().map(|watch| {
        vec![
            draw::bold(&format!("{}.{}", watch.database, watch.table)),
            watch.of.join(", "),
            watch.workflows.join(", "),
            number(watch.backlog),
            watch.lag_us.map(|lag| kanzlei_model::duration::short(lag.into())).unwrap_or_default(),
            watch.accepted.to_string(),
            watch.jobs.to_string(),
            watch.unfit.to_string(),
            watch.last.map_or_else(|| "none yet".to_owned(), draw::time),
        ]
    });
    let heads = ["table", "changes", "workflows", "waiting", "oldest", "accepted", "jobs", "unfit", "last (UTC)"];
    draw::table(&heads, rows);
    for watch in &answer.watches {
        let missing = watch.installed.as_ref().map(|found| watch.of.iter().filter(|of| !found.contains(of)).cloned());
        let missing: Vec<String> = missing.into_iter().flatten().collect();
        let table = format!("{}.{}", watch.database, watch.table);
        if let Some(trouble) = &watch.trouble {
            println!("{}", draw::paint("31", &format!("{table}: {trouble}")));
        } else if !missing.is_empty() {
            let line = format!(
                "{table}: the trigger for {} is missing or differs; deploy a workflow again",
                missing.join(", ")
            );
            println!("{}", draw::paint("31", &line));
        }
    }
    Ok(())
}
