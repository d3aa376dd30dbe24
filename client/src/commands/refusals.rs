//! `refusals` and `find`: requests that were turned away, and whatever a request led to.

use serde_json::Value as Json;

use super::{filtered, print_json, segment};
use crate::api::Api;
use crate::{Done, Failure, draw};

/// Lists refused requests, newest first.
pub fn list(api: &Api, filters: [(&str, Option<String>); 4], limit: u32, json: bool) -> Done {
    let answer = api.get(&filtered("refusals", limit, &filters))?;
    if json {
        print_json(&answer);
        return Ok(());
    }
    let none = Vec::new();
    let refusals = answer["refusals"].as_array().unwrap_or(&none);
    if refusals.is_empty() {
        let filtered = filters.iter().any(|(_, value)| value.is_some());
        println!("{}", if filtered { "No such refusals." } else { "No request was turned away yet." });
        return Ok(());
    }
    show(refusals);
    if let Some(dropped) = answer["dropped"].as_u64().filter(|n| *n > 0) {
        println!("{}", draw::dim(&format!("{dropped} more were counted only, under load")));
    }
    if let Some(next) = answer["next_before"].as_str() {
        println!("{}", draw::dim(&format!("older ones: add --before {next}")));
    }
    Ok(())
}

fn show(refusals: &[Json]) {
    let text = |value: &Json| value.as_str().unwrap_or_default().to_owned();
    let rows: Vec<Vec<String>> = refusals
        .iter()
        .map(|refusal| {
            let problem = &refusal["problem"];
            let first = &problem["errors"][0];
            let more = match problem["errors"].as_array().map_or(0, Vec::len) {
                0 | 1 => String::new(),
                all => format!(" (and {} more)", all - 1),
            };
            let why = match first["pointer"].as_str() {
                Some(pointer) => format!("{}: {pointer} {}{more}", text(&problem["title"]), text(&first["detail"])),
                None => format!("{} {}", text(&problem["title"]), text(&problem["detail"])),
            };
            vec![
                draw::time(&refusal["at"]),
                refusal["status"].to_string(),
                text(&refusal["entry"]),
                text(&refusal["caller"]),
                text(&refusal["request_id"]),
                why.chars().take(80).collect(),
            ]
        })
        .collect();
    draw::table(&["at (UTC)", "status", "entry", "caller", "request", "why"], &rows);
}

/// Finds the run, the job or the refusal of a request by its `X-Request-Id`.
pub fn find(api: &Api, request_id: &str, json: bool) -> Done {
    let id = segment(request_id);
    let jobs = api.get(&format!("/jobs?request_id={id}"))?["jobs"].clone();
    let runs = api.get(&format!("/runs?request_id={id}"))?["runs"].clone();
    let refusals = api.get(&format!("/refusals?request_id={id}"))?["refusals"].clone();
    if json {
        print_json(&serde_json::json!({"jobs": jobs, "runs": runs, "refusals": refusals}));
        return Ok(());
    }
    let none = Vec::new();
    let list = |value: &Json| value.as_array().unwrap_or(&none).clone();
    let (jobs, runs, refusals) = (list(&jobs), list(&runs), list(&refusals));
    let text = |value: &Json, key: &str| value[key].as_str().unwrap_or_default().to_owned();
    for job in &jobs {
        println!(
            "job  {} {}  kanzlei job {}",
            text(job, "workflow"),
            draw::state(&text(job, "state")),
            text(job, "id")
        );
    }
    // A job that has ended has a run of the same id.
    for run in runs.iter().filter(|run| jobs.iter().all(|job| job["id"] != run["id"])) {
        println!(
            "run  {} {}  kanzlei run {}",
            text(run, "workflow"),
            draw::state(&text(run, "state")),
            text(run, "id")
        );
    }
    if !refusals.is_empty() {
        show(&refusals);
    }
    if jobs.is_empty() && runs.is_empty() && refusals.is_empty() {
        return Err(Failure::Told(format!("no run, job or refusal has the request id {request_id}")));
    }
    Ok(())
}
