//! `runs` and `run`.

use kanzlei_api::Json;
use kanzlei_api::runs::{Run, RunComparison, RunFilter, RunPage, RunScope, ScopeQuery, Step};
use kanzlei_compiler::plan::Paragraph;
use kanzlei_model::run::{RunState, StepState};

use super::live::heading;
use super::{listing, print_json, segment};
use crate::api::Api;
use crate::args::RunArgs;
use crate::{Done, Error, draw};

/// Lists runs, newest first.
pub fn list(api: &Api, filter: &RunFilter, json: bool) -> Done {
    let page: RunPage = api.get(&listing("runs", filter))?;
    if json {
        print_json(&page);
        return Ok(());
    }
    if let (Some(next), Some(since)) = (page.next_before, page.searched_to) {
        let found = if page.runs.is_empty() { "no such run" } else { "these" };
        let note = format!("{found} since {}; search older runs with --before {next}", draw::utc(since));
        println!("{}", draw::dim(&note));
    }
    if page.runs.is_empty() && page.next_before.is_some() {
        return Ok(());
    }
    if page.runs.is_empty() {
        let open = RunFilter { limit: filter.limit, ..RunFilter::default() };
        let none = if *filter == open {
            "No runs yet. Send one with: kanzlei call NAME key=value …"
        } else {
            "No such runs."
        };
        println!("{none}");
        return Ok(());
    }
    let rows = page.runs.iter().map(|run| {
        vec![
            run.id.to_string(),
            draw::time(run.started),
            run.workflow.clone(),
            draw::state(run.state.name()),
            run.status.map(|status| status.to_string()).unwrap_or_default(),
            draw::took(run.duration_us),
            run.failure.as_deref().unwrap_or_default().chars().take(60).collect(),
        ]
    });
    draw::table(&["run", "started (UTC)", "workflow", "state", "status", "took", "why"], rows);
    if page.dropped > 0 {
        println!("{}", draw::dim(&format!("{} more runs were dropped under load", page.dropped)));
    }
    if let Some(next) = page.next_before.filter(|_| page.searched_to.is_none()) {
        println!("{}", draw::dim(&format!("older ones: add --before {next}")));
    }
    Ok(())
}

/// The id of a run, or of the newest for `last`.
pub fn meant(api: &Api, id: &str) -> Result<String, Error> {
    if id != "last" {
        return Ok(id.to_owned());
    }
    let page: RunPage = api.get("/runs?limit=1")?;
    let newest = page.runs.first().map(|run| run.id.to_string());
    newest.ok_or_else(|| Error::Failed("there are no runs yet".into()))
}

/// Whether a text is the id of a run, or stands for one.
pub fn is_run(text: &str) -> bool {
    text == "last" || text.parse::<uuid::Uuid>().is_ok()
}

/// Compares two runs step by step.
pub fn compare(api: &Api, before: &str, after: &str, json: bool) -> Done {
    let (before, after) = (meant(api, before)?, meant(api, after)?);
    let path = format!("/runs/{}/comparison/{}", segment(&before), segment(&after));
    let compared: RunComparison = api.get(&path)?;
    if json {
        print_json(&compared);
        return Ok(());
    }
    for (mark, run) in [("-", &compared.before), ("+", &compared.after)] {
        let state = draw::state(run.state.name());
        let when = draw::time(run.started);
        println!("{mark} {} · {when} · {} · revision {} · {state}", run.id, draw::bold(&run.workflow), run.revision);
    }
    println!();
    if compared.differences.is_empty() {
        println!("Nothing differs but when they ran.");
    }
    for difference in &compared.differences {
        let change = format!("{} → {}", difference.before, difference.now);
        match difference.what.len() + change.len() {
            0..100 => println!("  {}: {change}", draw::dim(&difference.what)),
            _ => {
                println!("  {}", draw::dim(&difference.what));
                println!("    - {}\n    + {}", difference.before, difference.now);
            }
        }
    }
    Ok(())
}

/// Shows what a step of a run knew when it began.
fn scope(api: &Api, id: &str, args: &RunArgs, json: bool) -> Done {
    let step = args.at.clone().unwrap_or_default();
    let query = ScopeQuery { step, items: args.item.clone(), expression: args.eval.clone() };
    let scope: RunScope = api.get(&listing(&format!("runs/{}/scope", segment(id)), &query))?;
    if json {
        print_json(&scope);
    } else if args.eval.is_some() {
        if scope.fault.is_none() {
            println!("{}", serde_json::to_string_pretty(&scope.value).unwrap_or_default());
        }
    } else {
        let items = scope.items.iter().flat_map(|items| items.split('.')).map(|item| format!("[{item}]"));
        println!("{}{} knew when it began:", draw::bold(&format!("step {}", scope.step)), items.collect::<String>());
        for name in &scope.names {
            print_value(&name.name, &name.value, 2, args.full);
        }
    }
    scope.notes.iter().filter(|_| !json).for_each(|note| eprintln!("note: {note}"));
    match scope.fault.filter(|_| !json) {
        Some(fault) => Err(Error::Failed(fault)),
        None => Ok(()),
    }
}

/// Shows a run with what each step did, or what one of them knew.
pub fn show(api: &Api, args: &RunArgs, json: bool) -> Done {
    let (id, full) = (meant(api, &args.id)?, args.full);
    if args.at.is_some() {
        return scope(api, &id, args, json);
    }
    let run: Run = api.get(&format!("/runs/{}", segment(&id)))?;
    if json {
        print_json(&run);
        return Ok(());
    }
    println!(
        "{} · revision {} · {} · {}",
        draw::bold(&run.workflow),
        run.revision,
        draw::state(run.state.name()),
        draw::took(run.duration_us)
    );
    println!("{} {}", draw::dim("run     "), run.id);
    println!("{} {}", draw::dim("entry   "), run.entry);
    println!("{} {} UTC", draw::dim("started "), draw::time(run.started));
    println!("{} {}", draw::dim("request "), run.request_id);
    println!("{} {}", draw::dim("trace   "), run.trace_id);
    if let Some(process) = &run.process {
        println!("{} {process}", draw::dim("process "));
    }
    if let Some(curl) = &run.curl {
        println!("{} {curl}", draw::dim("job     "));
    }
    if run.incomplete {
        println!("{}", draw::dim("it has more bytes than are kept (journal.run): its largest values are cut"));
    }
    println!();
    print_steps(&run.input, &run.sheet, &run.steps, full);
    println!();
    let status = run.status.map_or_else(|| "none".into(), |status| status.to_string());
    println!("  {} {status}", draw::dim("answer"));
    print_value("body  ", &run.reply, 2, full);
    if matches!(run.state, RunState::Failed | RunState::Rejected) { Err(Error::Bad) } else { Ok(()) }
}

pub fn print_value(label: &str, value: &Json, indent: usize, full: bool) {
    if value.is_null() {
        return;
    }
    let shown = if full {
        serde_json::to_string_pretty(value).unwrap_or_default()
    } else {
        draw::short_json(value, 100 - indent)
    };
    let gap = " ".repeat(indent);
    println!("{gap}{} {}", draw::dim(label), shown.replace('\n', &format!("\n{gap}")));
}

/// The input of a run or job and what each of its steps did.
pub fn print_steps(input: &Json, sheet: &[Paragraph], steps: &[Step], full: bool) {
    println!("  §   {}", draw::bold("Input"));
    print_value("in ", input, 6, full);
    for paragraph in sheet {
        let taken: Vec<&Step> = steps.iter().filter(|step| step.number == paragraph.number).collect();
        match full && taken.len() > 1 {
            true => taken.iter().for_each(|step| print_step(paragraph, &[step], true)),
            false => print_step(paragraph, &taken, full),
        }
    }
}

fn print_step(paragraph: &Paragraph, taken: &[&Step], full: bool) {
    let indent = 2 + 4 * paragraph.depth as usize;
    let gap = " ".repeat(indent);
    // In a loop the one that failed says most, else the last.
    let failed = taken.iter().find(|step| step.state == StepState::Failed);
    let Some(step) = failed.or(taken.last()) else {
        let plain = format!("{:<3} {} {}", paragraph.number, paragraph.kind, paragraph.title);
        let why = if paragraph.off { "off" } else { "not reached" };
        println!("{gap}{}", draw::dim(&format!("{plain} — {why}")));
        return;
    };
    let mut marks = vec![draw::state(step.state.name()), draw::took(step.duration_us)];
    if let Some(items) = &step.items {
        let item = items.split('.').map(|item| format!("[{item}]")).collect::<String>();
        let times = if taken.len() > 1 { format!("{} times; ", taken.len()) } else { String::new() };
        marks.insert(0, draw::dim(&format!("{times}{item}")));
    }
    if step.attempts > 1 {
        let before = step.earlier_attempts.as_deref().filter(|tries| !tries.is_empty());
        let before = before.map(|tries| format!(", before: {}", tries.join(", "))).unwrap_or_default();
        marks.push(draw::paint("33", &format!("{} attempts{before}", step.attempts)));
    }
    println!("{gap}{} — {}", heading(paragraph), marks.join(" · "));
    match step.sent.get("names").filter(|_| paragraph.kind == "script") {
        Some(names) => print_value("names", names, indent + 4, full),
        None => print_value("in ", &step.sent, indent + 4, full),
    }
    print_value("out", &step.outcome, indent + 4, full);
    if let Some(failure) = &step.failure {
        let succeeded = step.state == StepState::Succeeded;
        let label = if succeeded { draw::dim("earlier attempt") } else { draw::paint("31", "why") };
        println!("{gap}    {label} {}: {}", failure.kind, failure.detail);
    }
}
