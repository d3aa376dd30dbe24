//! `cancel`, `run-now`, `postpone`, `retry`, `undo`, `answer`, `correct`, `hold`, `release`: what is done to jobs.

use std::io::{IsTerminal, Read};
use std::path::Path;

use kanzlei_api::Json;
use kanzlei_api::jobs::{
    CallbackAnswer, InputChange, JobAction, JobChange, JobsChanged, Preview, RetryFrom, RetryWith,
};
use kanzlei_api::workflows::{Hold, HoldReason, Holds, Released};

use super::jobs::{self, HEAD, POLL, filter, meant, row};
use super::{print_json, segment};
use crate::api::Api;
use crate::args::{JobCommand, WhichJobs};
use crate::{Done, Error, draw};

/// Runs a command about jobs.
pub fn run(api: &Api, command: JobCommand, json: bool) -> Done {
    match command {
        JobCommand::Jobs(args) => jobs::list(api, &args, json),
        JobCommand::Job { id, follow, full } => jobs::show(api, &id, follow, full, json),
        JobCommand::Cancel { which } => act(api, change(JobAction::Cancel), &which, json),
        JobCommand::RunNow { which, pace } => act(api, JobChange { pace, ..change(JobAction::RunNow) }, &which, json),
        JobCommand::Postpone { due, which } => {
            act(api, JobChange { due: Some(due), ..change(JobAction::Postpone) }, &which, json)
        }
        JobCommand::Retry { which, from_start, live, pace } => {
            let from = Some(if from_start { RetryFrom::Start } else { RetryFrom::FailedStep });
            let revision = live.then_some(RetryWith::Live);
            act(api, JobChange { from, revision, pace, ..change(JobAction::Retry) }, &which, json)
        }
        JobCommand::Undo { change: undone, ids } => {
            changed(api, JobChange { change: Some(undone), ids, ..change(JobAction::Undo) }, json)
        }
        JobCommand::Answer { id, body, step } => answer(api, &id, step, &body),
        JobCommand::Correct { id, inputs } => correct(api, &id, &inputs),
        JobCommand::Hold { workflow: None, .. } => holds(api, json),
        JobCommand::Hold { workflow: Some(workflow), reason } => hold(api, &workflow, reason, json),
        JobCommand::Release { workflow } => release(api, &workflow, json),
    }
}

/// A change of jobs, without the jobs.
fn change(action: JobAction) -> JobChange {
    JobChange {
        action,
        ids: Vec::new(),
        select: None,
        due: None,
        from: None,
        revision: None,
        pace: None,
        change: None,
        preview: false,
    }
}

/// Does something to jobs, by id or by what they have in common; `change` is without them.
fn act(api: &Api, change: JobChange, which: &WhichJobs, json: bool) -> Done {
    let WhichJobs { ids, select, preview } = which;
    if ids.is_empty() && select.is_empty() {
        return Err(Error::Usage(
            "no jobs are selected; pass ids, or select them with --tag, --lane, --group, --state …".into(),
        ));
    }
    let change = JobChange { preview: *preview, ..change };
    let change = match ids.is_empty() {
        true => JobChange { select: Some(filter(select)), ..change },
        false => JobChange { ids: ids.iter().map(|id| meant(api, id)).collect::<Result<_, _>>()?, ..change },
    };
    changed(api, change, json)
}

/// Makes a change, waits for its end and prints what came of it.
fn changed(api: &Api, change: JobChange, json: bool) -> Done {
    let mut answer: JobsChanged = api.post("/jobs/actions", &change)?;
    while let Some(operation) = answer.operation.as_ref().filter(|operation| !operation.ended) {
        if std::io::stderr().is_terminal() && !json {
            eprint!("\r{} of {} jobs", operation.done + operation.refused, operation.total);
        }
        std::thread::sleep(POLL);
        answer = api.get(&format!("/jobs/actions/{}", operation.id))?;
        if answer.operation.as_ref().is_none_or(|operation| operation.ended) && std::io::stderr().is_terminal() {
            // The progress makes room for the outcome.
            eprint!("\r\x1b[K");
        }
    }
    if json {
        print_json(&answer);
        return Ok(());
    }
    let did = match change.action {
        JobAction::Cancel => "cancelled, or asked to stop",
        JobAction::RunNow => "due now",
        JobAction::Postpone => "postponed",
        JobAction::Retry => "retried",
        JobAction::Undo => "as they were before the retry",
    };
    if let Some(preview) = &answer.preview {
        return previewed(&answer, preview, did);
    }
    if let Some(operation) = &answer.operation {
        match operation.done == operation.total {
            true => println!("{} jobs {did}", operation.total),
            false => println!("{} of {} jobs {did}", operation.done, operation.total),
        }
        if let Some(why) = &operation.failure {
            return Err(Error::Failed(format!("the change broke off: {why}; ask for it again")));
        }
        if operation.refused > 0 {
            println!("{} were not changed, among them:", operation.refused);
        }
    }
    match answer.done.as_slice() {
        _ if answer.operation.is_some() => {}
        [] if answer.refused.is_empty() => println!("No job fits this selection."),
        [] => {}
        [one] => println!("{one} {did}"),
        many => println!("{} jobs {did}", many.len()),
    }
    print_refused(&answer);
    if let Some(id) = answer.change.filter(|_| change.action == JobAction::Retry) {
        println!("{}", draw::dim(&format!("while they have not begun: kanzlei undo {id}")));
    }
    if answer.refused.is_empty() { Ok(()) } else { Err(Error::Bad) }
}

fn print_refused(answer: &JobsChanged) {
    for one in answer.refused.iter().take(20) {
        println!("{} {}: {}", draw::paint("31", "not"), one.id, one.why);
    }
    if answer.refused.len() > 20 {
        println!("{}", draw::dim(&format!("and {} more", answer.refused.len() - 20)));
    }
}

/// Prints what a change would do.
fn previewed(answer: &JobsChanged, preview: &Preview, did: &str) -> Done {
    if preview.total == 0 {
        println!("No job fits this selection.");
        return Ok(());
    }
    let of = match preview.examined == preview.total {
        true => format!("{} of {}", preview.fit, preview.total),
        false => format!("{} of the first {} of {}", preview.fit, preview.examined, preview.total),
    };
    println!("{of} jobs would be {did}; nothing was changed");
    if let Some(last) = preview.last_due {
        println!("{}", draw::dim(&format!("the last one would be due {}", draw::utc(last))));
    }
    if !preview.first.is_empty() {
        draw::table(&HEAD, preview.first.iter().map(row));
    }
    print_refused(answer);
    Ok(())
}

/// JSON from the command line, a file or standard input.
fn json_of(text: &str) -> Result<Json, Error> {
    let read = match text {
        "-" => {
            let mut all = String::new();
            let read = std::io::stdin().lock().read_to_string(&mut all);
            read.map_err(|error| Error::Usage(format!("standard input: {error}")))?;
            all
        }
        path if Path::new(path).is_file() => {
            std::fs::read_to_string(path).map_err(|error| Error::Usage(format!("{path}: {error}")))?
        }
        text => text.to_owned(),
    };
    serde_json::from_str(&read)
        .map_err(|error| Error::Usage(format!("`{text}` is neither JSON nor a file with JSON: {error}")))
}

fn answer(api: &Api, id: &str, step: Option<String>, body: &str) -> Done {
    let id = meant(api, id)?;
    let body = json_of(body)?;
    api.put(&format!("/jobs/{}/callback", segment(&id)), &CallbackAnswer { step, body })?;
    println!("The callback of {id} is answered; the job goes on.");
    println!("{}", draw::dim(&format!("kanzlei job {id} --follow")));
    Ok(())
}

fn correct(api: &Api, id: &str, inputs: &[String]) -> Done {
    let id = meant(api, id)?;
    let mut members = serde_json::Map::new();
    for input in inputs {
        let Some((key, value)) = input.split_once('=') else {
            return Err(Error::Usage(format!("`{input}` is not KEY=VALUE")));
        };
        let value = serde_json::from_str(value).unwrap_or_else(|_| Json::String(value.to_owned()));
        members.insert(key.to_owned(), value);
    }
    let change = InputChange { input: Json::Null, members: Json::Object(members) };
    api.put(&format!("/jobs/{}/input", segment(&id)), &change)?;
    println!("The input of {id} is corrected.");
    Ok(())
}

fn holds(api: &Api, json: bool) -> Done {
    let Holds { holds } = api.get("/holds")?;
    if json {
        print_json(&holds);
        return Ok(());
    }
    if holds.is_empty() {
        println!("No workflow is held. Hold one with kanzlei hold NAME --reason TEXT");
        return Ok(());
    }
    let line = |hold: &Hold| vec![hold.workflow.clone(), draw::utc(hold.since), hold.by.clone(), hold.reason.clone()];
    draw::table(&["workflow", "since (UTC)", "by", "reason"], holds.iter().map(line));
    Ok(())
}

fn hold(api: &Api, workflow: &str, reason: Option<String>, json: bool) -> Done {
    let Some(reason) = reason else {
        return Err(Error::Usage("say why, for the others: --reason TEXT".into()));
    };
    let hold: Hold = api.put_for(&format!("/holds/{}", segment(workflow)), &HoldReason { reason })?;
    if json {
        print_json(&hold);
        return Ok(());
    }
    println!("{} is held: its jobs wait, and its endpoints that answer at once refuse requests.", draw::bold(workflow));
    println!("{}", draw::dim(&format!("kanzlei release {workflow}")));
    Ok(())
}

fn release(api: &Api, workflow: &str, json: bool) -> Done {
    let released: Released = api.delete_for(&format!("/holds/{}", segment(workflow)))?;
    if json {
        print_json(&released);
        return Ok(());
    }
    println!("{} is released; {} of its jobs go on.", draw::bold(workflow), released.jobs);
    Ok(())
}

/// Resumes an installation that was restored from a backup.
pub fn resume(api: &Api) -> Done {
    api.delete("/restoration")?;
    println!("Resumed: jobs, timetables and notices begin.");
    Ok(())
}
