//! Statistics of steps: what was counted of a revision over a span, with the headings of its sheet.

use std::cmp::Reverse;

use actix_web::HttpResponse;
use actix_web::web::{Data, Path, Query};
use kanzlei_api::statistics::{Counted, OtherRevision, Statistics, StatisticsQuery, StepStatistics};
use kanzlei_compiler::plan::{Paragraph, Plan};
use kanzlei_model::time::Span;
use kanzlei_runtime::clock::now;
use kanzlei_store::statistics::StepCount;

use super::runs::{past_of, plan_of};
use super::workflows::no_workflow;
use crate::App;
use crate::error::Result;

/// The span without `since`.
pub(super) const SPAN: Span = Span::from_days(1);

/// `GET /workflows/{name}/statistics`: what its steps did over a span.
pub async fn statistics(app: Data<App>, name: Path<String>, query: Query<StatisticsQuery>) -> Result<HttpResponse> {
    let StatisticsQuery { since, revision } = query.into_inner();
    let at = now();
    // Counts are of whole minutes, so the answer is the same within one.
    let since = since.map_or(Ok(at - SPAN), |since| past_of(&since, at))?.floor(Span::from_secs(60));
    let live = app.live.load_full();
    let revision = match (revision, live.workflows.get(name.as_str())) {
        (Some(revision), _) => revision,
        (None, Some(workflow)) => workflow.revision,
        (None, None) => return Err(no_workflow(&live, &name, "is live")),
    };
    app.journal.flush().await;
    let mut all = app.store.step_counts(&live.names_of(&name), since.as_minutes()).await?;
    let own = all.iter().position(|(known, _)| *known == revision);
    let mut own = own.map(|at| all.swap_remove(at).1).unwrap_or_default();
    let runs = |steps: &[StepCount]| steps.iter().find(|step| step.number.is_empty()).map_or(0, |step| step.runs);
    let others = all.iter().map(|(revision, steps)| OtherRevision { revision: *revision, runs: runs(steps) });
    let mut others: Vec<OtherRevision> = others.collect();
    others.sort_by_key(|other| Reverse(other.revision));
    let whole = own.iter().position(|step| step.number.is_empty()).map(|at| own.swap_remove(at));
    let plan = plan_of(&app, &name, revision).await?;
    let steps = own.iter().map(|step| {
        let heading = plan.as_ref().and_then(|plan| heading(plan, &step.number));
        StepStatistics {
            number: step.number.clone(),
            kind: heading.map(|found| found.kind.clone()).unwrap_or_default(),
            title: heading.map(|found| found.title.clone()).unwrap_or_default(),
            depth: step.number.matches('.').count().min(255) as u8,
            counted: counted(step),
        }
    });
    let mut steps: Vec<StepStatistics> = steps.collect();
    let order = |number: &str| number.split('.').map(|part| part.parse().unwrap_or(0)).collect::<Vec<u32>>();
    steps.sort_by_cached_key(|step| order(&step.number));
    Ok(HttpResponse::Ok().json(Statistics {
        workflow: name.into_inner(),
        revision,
        since,
        runs: counted(&whole.unwrap_or_default()),
        steps,
        others,
    }))
}

pub(super) fn counted(step: &StepCount) -> Counted {
    let quantile = |share| step.times.quantile(share).map(|us| Span::from_micros(us.try_into().unwrap_or(i64::MAX)));
    Counted { runs: step.runs, failures: step.failures, p50_us: quantile(0.5), p95_us: quantile(0.95) }
}

/// The paragraph of a step, also inside workflows that are invoked.
fn heading<'p>(plan: &'p Plan, number: &str) -> Option<&'p Paragraph> {
    place(plan, number).map(|(plan, paragraph)| &plan.sheet[paragraph as usize])
}

/// The plan that a step belongs to, also inside workflows that are invoked, and the position of its paragraph there.
pub(super) fn place<'p>(plan: &'p Plan, number: &str) -> Option<(&'p Plan, u32)> {
    if let Some(own) = plan.sheet.iter().position(|paragraph| paragraph.number == number && !number.is_empty()) {
        return Some((plan, own as u32));
    }
    plan.sheet.iter().filter(|paragraph| paragraph.kind == "invoke").find_map(|paragraph| {
        let inside = number.strip_prefix(&paragraph.number)?.strip_prefix('.')?;
        let invoked = plan.invoked().find(|invoked| invoked.name == paragraph.title)?;
        place(invoked, inside)
    })
}
