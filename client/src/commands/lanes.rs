//! `lanes` and `lane`.

use kanzlei_api::lanes::{Lane, LaneAction, LaneChanged, Lanes};

use super::{print_json, segment, word};
use crate::api::Api;
use crate::{Done, args, draw};

/// Lists lanes with their rules and how they stand.
pub fn list(api: &Api, json: bool) -> Done {
    let answer: Lanes = api.get("/lanes")?;
    if json {
        print_json(&answer);
        return Ok(());
    }
    draw::table(
        &[
            "lane",
            "queued",
            "running",
            "waiting",
            "scheduled",
            "oldest",
            "at once",
            "pace",
            "order",
            "room",
            "last 5 min",
            "max delay",
        ],
        answer.lanes.iter().map(row),
    );
    Ok(())
}

fn row(lane: &Lane) -> Vec<String> {
    let dash = |value: Option<String>| value.unwrap_or_else(|| "—".into());
    let held = if lane.held { draw::paint("33", " held") } else { String::new() };
    let recent = &lane.last_5min;
    vec![
        draw::bold(&lane.name) + &held,
        lane.queued.to_string(),
        lane.running.to_string(),
        lane.waiting.to_string(),
        lane.scheduled.to_string(),
        lane.oldest_us.map(draw::took).unwrap_or_default(),
        dash(lane.at_once.map(|most| most.to_string())),
        dash(lane.pace.clone()),
        lane.order.clone(),
        dash(lane.length.map(|most| most.to_string())),
        format!("{} succeeded, {} rejected, {} failed", recent.succeeded, recent.rejected, recent.failed),
        draw::took(recent.max_delay_us),
    ]
}

/// Holds, releases or empties a lane.
pub fn change(api: &Api, name: &str, action: args::LaneAction, json: bool) -> Done {
    let action = match action {
        args::LaneAction::Hold => LaneAction::Hold,
        args::LaneAction::Release => LaneAction::Release,
        args::LaneAction::Empty => LaneAction::Empty,
    };
    let answer: LaneChanged = api.act(&format!("/lanes/{}/{}", segment(name), word(&action)))?;
    if json {
        print_json(&answer);
        return Ok(());
    }
    match action {
        LaneAction::Hold => println!("{name} is held: its jobs wait until `kanzlei lane release {name}`."),
        LaneAction::Release => println!("{name} is released; its jobs are claimed again."),
        LaneAction::Empty => {
            println!("{} jobs of {name} were cancelled; started ones continue.", answer.cancelled)
        }
    }
    Ok(())
}
