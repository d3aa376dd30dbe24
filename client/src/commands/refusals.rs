//! `refusals` and `find`: requests that were refused, and whatever a request led to.

use kanzlei_api::jobs::{JobFilter, JobPage};
use kanzlei_api::runs::{Refusal, RefusalFilter, RefusalPage, RunFilter, RunPage};

use super::{listing, print_json};
use crate::api::Api;
use crate::{Done, Error, draw};

/// Lists refused requests, newest first.
pub fn list(api: &Api, filter: &RefusalFilter, json: bool) -> Done {
    let page: RefusalPage = api.get(&listing("refusals", filter))?;
    if json {
        print_json(&page);
        return Ok(());
    }
    if page.refusals.is_empty() {
        let open = RefusalFilter { limit: filter.limit, ..RefusalFilter::default() };
        println!("{}", if *filter == open { "No request was refused yet." } else { "No such refusals." });
        return Ok(());
    }
    show(&page.refusals);
    if page.dropped > 0 {
        println!("{}", draw::dim(&format!("{} more were counted only, under load", page.dropped)));
    }
    if let Some(next) = page.next_before {
        println!("{}", draw::dim(&format!("older ones: add --before {next}")));
    }
    Ok(())
}

fn show(refusals: &[Refusal]) {
    let rows = refusals.iter().map(|refusal| {
        let problem = &refusal.problem;
        let more = match problem.errors.len() {
            0 | 1 => String::new(),
            all => format!(" (and {} more)", all - 1),
        };
        let why = match problem.errors.first() {
            Some(first) => format!("{}: {} {}{more}", problem.title, first.pointer, first.detail),
            None => format!("{} {}", problem.title, problem.detail.as_deref().unwrap_or_default()),
        };
        vec![
            draw::time(refusal.at),
            refusal.status.to_string(),
            refusal.entry.clone().unwrap_or_default(),
            refusal.caller.clone().unwrap_or_default(),
            refusal.request_id.clone(),
            why.chars().take(80).collect(),
        ]
    });
    draw::table(&["at (UTC)", "status", "entry", "caller", "request", "why"], rows);
}

/// Finds the run, the job or the refusal of a request by its `X-Request-Id`.
pub fn find(api: &Api, request_id: &str, json: bool) -> Done {
    let request = Some(request_id.to_owned());
    let jobs = JobFilter { request_id: request.clone(), ..JobFilter::default() };
    let runs = RunFilter { request_id: request.clone(), ..RunFilter::default() };
    let refusals = RefusalFilter { request_id: request, ..RefusalFilter::default() };
    let jobs = api.get::<JobPage>(&listing("jobs", &jobs))?.jobs;
    let runs = api.get::<RunPage>(&listing("runs", &runs))?.runs;
    let refusals = api.get::<RefusalPage>(&listing("refusals", &refusals))?.refusals;
    if json {
        print_json(&serde_json::json!({"jobs": jobs, "runs": runs, "refusals": refusals}));
        return Ok(());
    }
    for job in &jobs {
        println!("job  {} {}  kanzlei job {}", job.workflow, draw::state(job.state.name()), job.id);
    }
    // A job that has ended has a run of the same id.
    for run in runs.iter().filter(|run| jobs.iter().all(|job| job.id != run.id)) {
        println!("run  {} {}  kanzlei run {}", run.workflow, draw::state(run.state.name()), run.id);
    }
    if !refusals.is_empty() {
        show(&refusals);
    }
    if jobs.is_empty() && runs.is_empty() && refusals.is_empty() {
        return Err(Error::Failed(format!("no run, job or refusal has the request id {request_id}")));
    }
    Ok(())
}
