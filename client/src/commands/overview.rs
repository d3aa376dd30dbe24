//! `overview`.

use kanzlei_api::overview::{Bound, Ended, Overview, OverviewQuery};
use kanzlei_model::time::Span;

use super::{listing, print_json};
use crate::api::Api;
use crate::{Done, draw};

/// Shows runs, failures and times of the last minutes, and how full the process is.
pub fn show(api: &Api, minutes: u32, workflow: Option<String>, json: bool) -> Done {
    let query = OverviewQuery { minutes: Some(minutes), workflow };
    let found: Overview = api.get(&listing("overview", &query))?;
    if json {
        print_json(&found);
        return Ok(());
    }
    println!("{}", draw::bold(&format!("Runs of the last {minutes} min, all processes")));
    if found.workflows.is_empty() {
        println!("No run has ended since {} UTC.", draw::time(found.since));
    } else {
        draw::table(
            &["workflow", "runs", "a minute", "rejected", "failed", "p50", "p95", "p99"],
            found.workflows.iter().map(|one| row(&one.workflow, &one.ended, minutes)),
        );
    }
    if found.without_times > 0 {
        println!("{}", draw::dim(&format!("The times of {} more workflows are not read.", found.without_times)));
    }
    if !found.services.is_empty() {
        println!("\n{}", draw::bold("Calls by this process since it began"));
        let services = found.services.iter().map(|one| {
            vec![one.service.clone(), one.calls.to_string(), failed(one.failures, one.calls), draw::took(one.mean_us)]
        });
        draw::table(&["service", "calls", "failed", "mean"], services);
    }
    println!("\n{}", draw::bold("Bounds of this process"));
    draw::table(&["bound", "used", "of", ""], found.bounds.iter().map(bound));
    println!(
        "\nThe database is {}; it took {} to answer. The process began at {} UTC and dropped {} details.",
        found.database,
        draw::took(found.ping_us),
        draw::time(found.started),
        found.dropped
    );
    Ok(())
}

fn row(name: &str, ended: &Ended, minutes: u32) -> Vec<String> {
    let took = |span: Option<Span>| span.map(draw::took).unwrap_or_else(|| "—".into());
    vec![
        name.to_owned(),
        ended.runs.to_string(),
        format!("{:.1}", ended.runs as f64 / f64::from(minutes.max(1))),
        ended.rejected.to_string(),
        failed(ended.failed, ended.runs),
        took(ended.p50_us),
        took(ended.p95_us),
        took(ended.p99_us),
    ]
}

/// Failures with their share.
fn failed(failures: u64, all: u64) -> String {
    match failures {
        0 => "0".into(),
        _ => draw::paint("31", &format!("{failures} ({:.1} %)", failures as f64 * 100.0 / all.max(1) as f64)),
    }
}

fn amount(n: u64, unit: &str) -> String {
    match unit {
        "bytes" => format!("{} KiB", n.div_ceil(1024)),
        _ => n.to_string(),
    }
}

fn bound(bound: &Bound) -> Vec<String> {
    let share = bound.used as f64 * 100.0 / bound.bound.max(1) as f64;
    let shown = format!("{share:.0} %");
    vec![
        bound.name.clone(),
        amount(bound.used, &bound.unit),
        amount(bound.bound, &bound.unit),
        if share >= 80.0 { draw::paint("33", &shown) } else { shown },
    ]
}
