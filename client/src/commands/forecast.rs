//! `forecast`: when a lane will be empty.

use kanzlei_api::lanes::{Forecast, ForecastQuery, Projection};
use kanzlei_model::time::Timestamp;

use super::{listing, print_json, segment};
use crate::api::Api;
use crate::{Done, draw};

/// Prints when a lane will be empty, as it is and with other rules.
pub fn show(api: &Api, lane: &str, query: &ForecastQuery, json: bool) -> Done {
    let forecast: Forecast = api.get(&listing(&format!("lanes/{}/forecast", segment(lane)), query))?;
    if json {
        print_json(&forecast);
        return Ok(());
    }
    println!(
        "{} · {} wait, {} run, {:.1} arrive in a minute",
        draw::bold(&forecast.lane),
        forecast.waiting,
        forecast.running,
        forecast.arriving_per_min
    );
    let from = match forecast.measured {
        0 => "no runs were measured in the last day: assumed for a job are".to_owned(),
        runs => format!("measured in {runs} runs of the last day: a job occupies its place for"),
    };
    println!(
        "{}",
        draw::dim(&format!("{from} {} on average; {} places", draw::took(forecast.mean_us), forecast.places))
    );
    if forecast.held {
        println!("The lane is held: kanzlei lane release {}", forecast.lane);
        return Ok(());
    }
    if forecast.places == 0 {
        println!("No process runs jobs at present.");
        return Ok(());
    }
    if forecast.more {
        println!("{}", draw::dim("only the first jobs are played; it takes longer"));
    }
    let rows = [("as it is", Some(&forecast.as_is)), ("changed", forecast.changed.as_ref())];
    let line = |(name, one): (&str, &Projection)| {
        vec![
            name.to_owned(),
            one.at_once.map_or_else(|| "any".into(), |most| most.to_string()),
            one.pace.clone().unwrap_or_else(|| "any".into()),
            one.begun.map_or_else(|| "—".into(), |at| until(forecast.at, at)),
            one.empty.map_or_else(|| "not within a day".into(), |at| until(forecast.at, at)),
            draw::took(one.mean_delay_us),
            draw::took(one.max_delay_us),
        ]
    };
    let head = ["", "at once", "pace", "last one begins", "empty", "mean delay", "max delay"];
    draw::table(&head, rows.into_iter().filter_map(|(name, one)| one.map(|one| line((name, one)))));
    Ok(())
}

/// An instant that lies ahead, with how far.
fn until(now: Timestamp, at: Timestamp) -> String {
    if at <= now {
        return "now".into();
    }
    format!("{} (in {})", draw::time(at), draw::took(at - now))
}
