//! Past runs answered again by drafts, from what the journal has of them. Nothing is performed.

use std::collections::HashMap;
use std::collections::hash_map::Entry;
use std::sync::Arc;
use std::time::{Duration, Instant};

use actix_web::HttpResponse;
use actix_web::web::{Data, Json};
use kanzlei_api::trials::{Retrace, RetraceRequest, RetracedRun};
use kanzlei_compiler::plan::Plan;
use kanzlei_lang::confidential::MASK;
use kanzlei_lang::document::Source;
use kanzlei_rehearsal::Difference;
use kanzlei_rehearsal::retrace::{Retraced, Verdict, retrace};
use kanzlei_runtime::journal::opened;
use kanzlei_runtime::secrets::mask::RunMask;
use kanzlei_store::journal::Run;

use super::deploys::Given;
use super::record::past;
use super::runs::{difference, filter_of, plan_of, recorded};
use super::trials::prepare;
use crate::App;
use crate::error::{Error, Result};

/// Runs that are answered in one request.
const MOST: u32 = 1000;
/// Runs that are read and answered together.
const AT_ONCE: usize = 20;
/// How long a request may take.
const WITHIN: Duration = Duration::from_secs(30);

/// `POST /retraces`: which of the past runs of a workflow would be answered otherwise.
pub async fn retraced(app: Data<App>, body: Json<RetraceRequest>) -> Result<HttpResponse> {
    let begun = Instant::now();
    let asked = body.into_inner();
    let Some(workflow) = asked.runs.workflow.clone() else {
        return Err(Error::problem(422, "Missing workflow", "`runs.workflow` says whose runs are to be answered"));
    };
    let limit = asked.runs.limit.unwrap_or(100).clamp(1, MOST);
    let live = app.live.load_full();
    let filter = filter_of(&live, asked.runs, |id| app.jobs.of_request(id), limit)?;
    let documents = asked.documents.iter().map(|document| Source::new(&document.path, &document.text));
    let given = Given::of(documents, &asked.files, &asked.drafts);
    let (_, checked, _) = prepare(&app, &live, given, &workflow, "").await?;
    let checked = Arc::new(checked);
    app.journal.flush().await;
    let found = app.store.runs(&filter).await?;
    let mut answer =
        Retrace { workflow: workflow.clone(), same: 0, differs: 0, diverged: 0, skipped: 0, more: false, runs: vec![] };
    let mut plans: HashMap<u32, Option<Arc<Plan>>> = HashMap::new();
    for lines in found.runs.chunks(AT_ONCE) {
        if begun.elapsed() > WITHIN {
            answer.more = true;
            break;
        }
        let mut runs: Vec<(Run, Option<Arc<Plan>>)> = Vec::with_capacity(lines.len());
        for line in lines {
            // What was purged in between is no run any more.
            let Some(run) = recorded(&app, line.id).await? else { continue };
            if let Entry::Vacant(plan) = plans.entry(run.revision) {
                plan.insert(plan_of(&app, &workflow, run.revision).await?);
            }
            let plan = plans.get(&run.revision).cloned().flatten();
            runs.push((run, plan));
        }
        let (checked, read, secrets) = (checked.clone(), runs.len(), app.effects.secrets.clone());
        let jobs = app.jobs.clone();
        let answered = app.background.run(move || {
            // What takes long is not waited for: the rest is said to be more.
            let in_time = runs.into_iter().take_while(|_| begun.elapsed() <= WITHIN);
            let each = in_time.map(|(run, plan)| {
                let sealed = run.sealed.is_some();
                let (run, confidential) = opened(run, &secrets);
                let retraced = match plan {
                    Some(plan) => {
                        let retraced = retrace(&past(jobs.key_of(run.id), &run, &plan, String::new()), &checked);
                        if !sealed { retraced } else { masked(retraced, &secrets.of_values(confidential)) }
                    }
                    None => Retraced {
                        verdict: Verdict::Skipped,
                        why: Some(format!("revision {} cannot be read any more", run.revision)),
                        differences: Vec::new(),
                    },
                };
                (run, retraced)
            });
            each.collect::<Vec<_>>()
        });
        let answered = answered.await?;
        answer.more |= answered.len() < read;
        for (run, retraced) in answered {
            match retraced.verdict {
                Verdict::Same => answer.same += 1,
                Verdict::Differs => answer.differs += 1,
                Verdict::Diverged => answer.diverged += 1,
                Verdict::Skipped => answer.skipped += 1,
            }
            if retraced.verdict != Verdict::Same {
                answer.runs.push(shown(run, retraced));
            }
        }
    }
    Ok(HttpResponse::Ok().json(answer))
}

/// The same without values: it was made with confidential ones, and any value may be worked out from them.
fn masked(retraced: Retraced, mask: &RunMask) -> Retraced {
    let text = |text: String| mask.text(text);
    let differences = retraced.differences.into_iter().map(|one| {
        let said = matches!(one.what.as_str(), "state" | "reply.status" | "failure.kind");
        // Behind a status stands the body, behind a state the failure.
        let value = |value: String| match value.split(' ').next() {
            Some(first) if said => first.trim_end_matches(':').to_owned(),
            _ => MASK.to_owned(),
        };
        Difference { what: text(one.what.clone()), wanted: value(one.wanted), got: value(one.got), ..one }
    });
    Retraced { why: retraced.why.map(text), differences: differences.collect(), ..retraced }
}

fn shown(run: Run, retraced: Retraced) -> RetracedRun {
    RetracedRun {
        id: run.id,
        revision: run.revision,
        entry: run.entry,
        started: run.started,
        verdict: retraced.verdict.name().to_owned(),
        why: retraced.why,
        differences: retraced.differences.into_iter().map(difference).collect(),
    }
}
