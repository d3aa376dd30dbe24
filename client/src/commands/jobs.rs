//! `start`, `jobs`, `job`.

use std::io::IsTerminal;
use std::time::Duration;

use kanzlei_api::jobs::{Group, Job, JobFilter, JobLine, JobPage, JobStart, JobStarted, Notice};
use kanzlei_api::workflows::Workflow;
use kanzlei_model::run::RunState;

use super::runs::print_steps;
use super::{listing, print_json, segment};
use crate::api::Api;
use crate::args::{Jobs, Select};
use crate::{Done, Error, draw};

/// How often what is followed is polled.
pub(super) const POLL: Duration = Duration::from_millis(700);

pub(super) fn filter(select: &Select) -> JobFilter {
    JobFilter {
        state: select.state.clone(),
        lane: select.lane.clone(),
        workflow: select.workflow.clone(),
        tag: select.tag.clone(),
        tag_prefix: select.tag_prefix.clone(),
        group: select.group.clone(),
        due_from: select.due_from.clone(),
        due_until: select.due_until.clone(),
        ended_from: select.ended_from.clone(),
        ended_until: select.ended_until.clone(),
        caller: select.caller.clone(),
        revision: select.revision,
        failure: select.failure.clone(),
        step: select.step.clone(),
        text: select.text.clone(),
        ..JobFilter::default()
    }
}

/// `start`: a live workflow as a job.
pub fn start(api: &Api, name: &str, inputs: &[String], follow: bool, json: bool) -> Done {
    let workflow: Workflow = api.get(&format!("/workflows/{}", segment(name)))?;
    let input = serde_json::Value::Object(super::call::values(&workflow.input, inputs)?);
    let started: JobStarted = api.post("/jobs", &JobStart { workflow: name.to_owned(), input })?;
    if follow {
        return show(api, &started.id.to_string(), true, false, json);
    }
    if json {
        print_json(&started);
        return Ok(());
    }
    println!("{} is started as the job {}", draw::bold(name), started.id);
    println!("{}", draw::dim(&format!("kanzlei job {} --follow", started.id)));
    println!("{}", draw::dim(&started.curl));
    Ok(())
}

/// Lists jobs, newest first.
pub fn list(api: &Api, args: &Jobs, json: bool) -> Done {
    let filter = JobFilter {
        limit: Some(args.limit),
        before: args.before.clone(),
        pseudonyms: args.names.pseudonyms(),
        ..filter(&args.select)
    };
    loop {
        let page: JobPage = api.get(&listing("jobs", &filter))?;
        if json {
            print_json(&page);
            return Ok(());
        }
        if args.follow && std::io::stdout().is_terminal() {
            print!("\x1b[2J\x1b[H");
        }
        print_page(&page);
        if let Some(group) = &args.select.group {
            print_group(&api.get(&format!("/groups/{}", segment(group)))?);
        }
        if !args.follow {
            return Ok(());
        }
        std::thread::sleep(POLL);
    }
}

/// The heads of [`row`].
pub(super) const HEAD: [&str; 8] = ["job", "workflow", "state", "lane", "due (UTC)", "delay", "took", "tags or why"];

fn print_page(page: &JobPage) {
    let counted: Vec<String> = RunState::NAMES
        .iter()
        .filter_map(|state| {
            let n = *page.counts.get(*state).filter(|n| **n > 0)?;
            let more = if n == page.counted_to { "+" } else { "" };
            Some(format!("{n}{more} {}", draw::state(state)))
        })
        .collect();
    if !counted.is_empty() {
        println!("{}\n", draw::dim("in all: ") + &counted.join(" · "));
    }
    if let (Some(next), Some(since)) = (page.next_before, page.searched_to) {
        let found = if page.jobs.is_empty() { "no such job was" } else { "these were" };
        let note = format!("{found} accepted since {}; search older ones with --before {next}", draw::utc(since));
        println!("{}", draw::dim(&note));
    }
    let Some(first) = page.jobs.first() else {
        if page.next_before.is_some() {
            return;
        }
        println!("No such jobs. Queue one with a request that prefers it: curl -H 'Prefer: respond-async' …");
        return;
    };
    draw::table(&HEAD, page.jobs.iter().map(row));
    println!("{}", draw::dim(&format!("poll the first: {}", first.curl)));
    if let Some(next) = page.next_before.filter(|_| page.searched_to.is_none()) {
        println!("{}", draw::dim(&format!("older ones: add --before {next}")));
    }
}

pub(super) fn row(job: &JobLine) -> Vec<String> {
    let mut state = draw::state(job.state.name());
    if job.stopping {
        state.push_str(" (stopping)");
    }
    if let Some(progress) = job.progress.filter(|_| job.state == RunState::Running) {
        state.push_str(&format!(" {:.0}%", progress * 100.0));
    }
    if let Some(waits) = &job.waits_for {
        state.push_str(&draw::dim(&format!(" {waits}")));
    }
    let tags = job.tags.join(" ");
    let last = if tags.is_empty() { job.failure.clone().unwrap_or_default() } else { tags };
    vec![
        job.id.to_string(),
        job.workflow.clone() + if job.retired { " (retired)" } else { "" },
        state,
        job.lane.clone(),
        job.due.map_or_else(|| "open".into(), draw::time),
        job.delay_us.map(draw::took).unwrap_or_default(),
        job.duration_us.map(draw::took).unwrap_or_default(),
        last.chars().take(50).collect(),
    ]
}

fn print_group(group: &Group) {
    println!();
    println!(
        "{} {} · {} of {} succeeded, {} rejected, {} failed, {} cancelled, {} running, {} remaining{}",
        draw::dim("group"),
        group.id,
        group.succeeded,
        group.total,
        group.rejected,
        group.failed,
        group.cancelled,
        group.running,
        group.remaining,
        group.expected_end.map(|end| format!(" · expected end {}", draw::utc(end))).unwrap_or_default(),
    );
}

/// The id of a job, or of the newest for `last`.
pub(super) fn meant(api: &Api, id: &str) -> Result<String, Error> {
    if id != "last" {
        return Ok(id.to_owned());
    }
    let page: JobPage = api.get("/jobs?limit=1")?;
    let newest = page.jobs.first().map(|job| job.id.to_string());
    newest.ok_or_else(|| Error::Failed("there are no jobs yet".into()))
}

/// Shows a job, also while it changes.
pub fn show(api: &Api, id: &str, follow: bool, full: bool, json: bool) -> Done {
    let path = format!("/jobs/{}", segment(&meant(api, id)?));
    let mut job: Job = api.get(&path)?;
    if follow {
        let mut seen = None;
        loop {
            if seen != Some(job.changes) {
                println!("{}", follow_line(&job));
                seen = Some(job.changes);
            }
            if job.ended.is_some() {
                break;
            }
            std::thread::sleep(POLL);
            job = api.get(&path)?;
        }
        println!();
    }
    if json {
        print_json(&job);
        return Ok(());
    }
    print_job(&job, full);
    if matches!(job.state, RunState::Failed | RunState::Rejected) { Err(Error::Bad) } else { Ok(()) }
}

/// One line each time something changed.
fn follow_line(job: &Job) -> String {
    let mut line = draw::state(job.state.name());
    if let Some(waits) = &job.waits_for {
        let until = job.until.map(|until| format!(" until {}", draw::utc(until))).unwrap_or_default();
        line.push_str(&draw::dim(&format!(" {waits}{until}")));
    }
    if let Some(progress) = job.progress {
        let filled = ((progress * 20.0).round() as usize).min(20);
        line.push_str(&format!(" [{}{}] {:.0}%", "#".repeat(filled), "·".repeat(20 - filled), progress * 100.0));
    }
    if let Some(left) = job.remaining_us {
        line.push_str(&draw::dim(&format!(" about {} s left", seconds(left))));
    }
    if let Some(note) = job.notes.last() {
        line.push_str(&format!("  {}", note.text));
    }
    line
}

fn seconds(span: kanzlei_model::time::Span) -> i64 {
    (span.as_micros() + 500_000) / 1_000_000
}

fn print_job(job: &Job, full: bool) {
    println!(
        "{} · revision {}{} · {}{}",
        draw::bold(&job.workflow),
        job.revision,
        if job.retired { " (retired meanwhile)" } else { "" },
        draw::state(job.state.name()),
        if job.stopping { ", stops before its next step" } else { "" },
    );
    for (label, shown) in facts(job) {
        println!("{} {shown}", draw::dim(&format!("{label:<9}")));
    }
    println!();
    print_steps(&job.input, job.sheet.as_deref().unwrap_or_default(), job.steps.as_deref().unwrap_or_default(), full);
    println!();
    if let Some(status) = job.status {
        println!("  {} {status}", draw::dim("answer"));
        let body = match full {
            true => serde_json::to_string_pretty(&job.reply).unwrap_or_default(),
            false => draw::short_json(&job.reply, 100),
        };
        println!("  {} {body}", draw::dim("body  "));
        if let Some(until) = job.result_until {
            println!("  {} {}/result until {}", draw::dim("at    "), job.url, draw::utc(until));
        }
    }
    if let Some(failure) = &job.failure {
        println!("  {} {}: {}", draw::paint("31", "why"), failure.kind, failure.detail);
        if let Some(step) = &failure.step {
            println!("  {} {step}", draw::dim("step"));
        }
        if matches!(job.state, RunState::Failed | RunState::Rejected) {
            let live = if job.live { "" } else { " --live" };
            println!("  {} kanzlei retry {}{live}", draw::dim("retry "), job.id);
        }
    }
}

/// Labels and what stands beside them.
fn facts(job: &Job) -> Vec<(&'static str, String)> {
    let mut facts = vec![
        ("job", job.id.to_string()),
        ("poll", job.curl.clone()),
        ("entry", job.entry.clone()),
        ("lane", format!("{}{}, priority {}", job.lane, if job.held { " (held)" } else { "" }, job.priority)),
    ];
    facts.extend((!job.tags.is_empty()).then(|| ("tags", job.tags.join(" "))));
    facts.extend(job.group.map(|group| ("group", group.to_string())));
    facts.extend(job.callbacks.iter().map(|callback| {
        let until = callback.until.map(|until| format!(", until {}", draw::utc(until))).unwrap_or_default();
        ("callback", format!("step {} waits{until}: kanzlei answer {} --body …", callback.step, job.id))
    }));
    if let Some(late) = &job.late {
        facts.push(("late", late.clone()));
    }
    facts.extend(job.process.clone().map(|process| ("process", process)));
    facts.extend(job.caller.clone().map(|caller| ("caller", caller)));
    facts.push(("queued", draw::utc(job.queued)));
    facts.push(("due", draw::utc(job.due)));
    if let Some(started) = job.started {
        let late = job.delay_us.filter(|delay| delay.as_micros() >= 1000);
        let late = late.map(|delay| format!(" ({} after its due time)", draw::took(delay))).unwrap_or_default();
        facts.push(("started", draw::utc(started) + &late));
    }
    if let Some(waits) = &job.waits_for {
        let until = job.until.map(|until| format!(" until {}", draw::utc(until))).unwrap_or_default();
        facts.push(("waits for", format!("{waits}{until}")));
    }
    if let Some(ended) = job.ended {
        let took =
            job.duration_us.map_or_else(|| ", never begun".into(), |took| format!(", took {}", draw::took(took)));
        facts.push(("ended", draw::utc(ended) + &took));
    }
    facts.extend(job.remaining_us.map(|left| ("remaining", format!("about {} s", seconds(left)))));
    facts.extend(job.progress.map(|progress| ("progress", format!("{:.0}%", progress * 100.0))));
    facts.extend(job.notes.iter().map(|note| ("note", format!("{} {}", draw::dim(&draw::time(note.at)), note.text))));
    facts.extend(job.history.iter().map(|event| {
        let detail = event.detail.as_ref().map(|detail| format!(": {detail}")).unwrap_or_default();
        ("history", format!("{} {} by {}{detail}", draw::dim(&draw::time(event.at)), event.what, event.by))
    }));
    facts.extend(job.notice.as_ref().map(|notice| ("notifies", notified(notice))));
    facts
}

fn notified(notice: &Notice) -> String {
    let how = match (notice.delivered, notice.next) {
        (Some(at), _) => format!("delivered {}", draw::utc(at)),
        (None, Some(next)) => format!("{} attempts, next {}", notice.attempts, draw::utc(next)),
        (None, None) => format!("given up after {} attempts", notice.attempts),
    };
    let why = notice.detail.as_ref().map(|why| format!(" ({why})")).unwrap_or_default();
    format!("{} · {how}{why}", notice.url)
}
