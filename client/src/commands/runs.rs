//! `runs` and `run`.

use kanzlei_api::Json;
use kanzlei_api::runs::{Run, RunFilter, RunPage, Step};
use kanzlei_compiler::plan::Paragraph;
use kanzlei_model::run::{RunState, StepState};

use super::live::heading;
use super::{listing, print_json, segment};
use crate::api::Api;
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
        println!("{}", draw::dim(&format!("details of {} more runs were dropped under load", page.dropped)));
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

/// Shows a run with what each step did.
pub fn show(api: &Api, id: &str, full: bool, json: bool) -> Done {
    let id = meant(api, id)?;
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
        print_step(paragraph, &taken, full);
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
        marks.insert(0, draw::dim(&format!("{} times; {item}", taken.len())));
    }
    if step.attempts > 1 {
        let before = step.earlier_attempts.as_deref().filter(|tries| !tries.is_empty());
        let before = before.map(|tries| format!(", before: {}", tries.join(", "))).unwrap_or_default();
        marks.push(draw::paint("33", &format!("{} attempts{before}", step.attempts)));
    }
    println!("{gap}{} — {}", heading(paragraph), marks.join(" · "));
    print_value("in ", &step.sent, indent + 4, full);
    print_value("out", &step.outcome, indent + 4, full);
    if let Some(failure) = &step.failure {
        let succeeded = step.state == StepState::Succeeded;
        let label = if succeeded { draw::dim("earlier attempt") } else { draw::paint("31", "why") };
        println!("{gap}    {label} {}: {}", failure.kind, failure.detail);
    }
}
