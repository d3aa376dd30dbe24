//! `retrace`: answers past runs again by a draft or a file, from what they recorded.

use std::collections::BTreeMap;

use kanzlei_api::runs::RunFilter;
use kanzlei_api::trials::{RetraceRequest, RetracedRun};

use super::print_json;
use super::trial::{answered, target};
use crate::api::Api;
use crate::args;
use crate::{Done, Error, draw};

/// Kinds of differences that are listed without `--full`.
const LISTED: usize = 20;

pub fn run(api: &Api, args: args::Retrace, json: bool) -> Done {
    let chosen = target(api, &args.target)?;
    let runs = RunFilter { workflow: Some(chosen.workflow), limit: Some(args.last), ..args.which.filter() };
    let request = RetraceRequest { documents: chosen.documents, files: chosen.files, drafts: chosen.drafts, runs };
    let retraced: kanzlei_api::trials::Retrace = answered(api, "/retraces", &request, &request.documents, json)?;
    if json {
        print_json(&retraced);
    } else {
        print(&retraced, args.full);
    }
    if retraced.differs + retraced.diverged > 0 { Err(Error::Bad) } else { Ok(()) }
}

fn print(retraced: &kanzlei_api::trials::Retrace, full: bool) {
    let all = retraced.same + retraced.differs + retraced.diverged + retraced.skipped;
    println!("{} · {all} runs answered again", draw::bold(&retraced.workflow));
    if all == 0 {
        println!("No such runs. `kanzlei runs {}` lists those that are there.", retraced.workflow);
        return;
    }
    let count = |count: u32, name: &str, why: &str| {
        if count > 0 {
            println!("  {count:>5}  {name:<9} {}", draw::dim(why));
        }
    };
    count(retraced.same, "same", "");
    count(retraced.differs, "differ", "another reply, other requests or another failure");
    count(retraced.diverged, "diverge", "ask for something of which nothing is recorded");
    count(retraced.skipped, "skipped", "recorded incompletely");
    if retraced.more {
        println!("{}", draw::dim("older runs were not reached in time; ask for fewer, or for a span"));
    }
    if full {
        retraced.runs.iter().for_each(one);
    } else {
        grouped(&retraced.runs);
    }
}

/// Each run with all that differs.
fn one(run: &RetracedRun) {
    println!("\n{} {} · {} · revision {}", draw::bold(&run.verdict), run.id, draw::time(run.started), run.revision);
    println!("  {}", draw::dim(&run.entry));
    if let Some(why) = &run.why {
        println!("  {why}");
    }
    for difference in &run.differences {
        println!("  {}: {} → {}", difference.what, difference.before, difference.now);
    }
}

/// What differs or why, with how many runs and the newest of them.
fn grouped(runs: &[RetracedRun]) {
    let mut groups: BTreeMap<(u8, String), Vec<(&RetracedRun, String)>> = BTreeMap::new();
    for run in runs {
        let order = ["differs", "diverged"].iter().position(|name| *name == run.verdict).unwrap_or(2) as u8;
        if let Some(why) = &run.why {
            groups.entry((order, format!("{}: {why}", run.verdict))).or_default().push((run, String::new()));
        }
        for difference in &run.differences {
            let change = format!("{} → {}", short(&difference.before), short(&difference.now));
            groups.entry((order, difference.what.clone())).or_default().push((run, change));
        }
    }
    if groups.is_empty() {
        return;
    }
    println!();
    let more = groups.len().saturating_sub(LISTED);
    let rows = groups.iter().take(LISTED).filter_map(|((_, what), runs)| {
        let (newest, change) = runs.first()?;
        Some(vec![what.clone(), runs.len().to_string(), change.clone(), newest.id.to_string()])
    });
    draw::table(&["what", "runs", "for example", "in run"], rows);
    let rest = if more > 0 { format!("{more} more kinds of differences; ") } else { String::new() };
    println!("{}", draw::dim(&format!("{rest}each run: --full")));
}

fn short(text: &str) -> String {
    match text.char_indices().nth(40) {
        Some((end, _)) => format!("{}…", &text[..end]),
        None => text.to_owned(),
    }
}
