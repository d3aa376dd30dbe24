//! Taking gradual deploys back: every few seconds each process compares the two revisions, and the first one that finds the new one
//! worse than its margins allow ends the deploy.

use std::sync::Arc;
use std::time::Duration;

use kanzlei_model::time::Span;
use kanzlei_store::audit::Audited;
use kanzlei_store::gradual::{End, Outcome};

use crate::clock::{fresh_id, now};
use crate::gradual::{Gradual, figures};
use crate::live::Live;
use crate::queue::Jobs;

/// The pause between two looks.
const EVERY: Duration = Duration::from_secs(5);
/// What is compared: the runs of this span, or since the deploy began.
const WINDOW: Span = Span::from_secs(6 * 3600);
/// Who takes back, in records.
pub const BY: &str = "the service";

/// Compares until the process ends.
pub async fn run(jobs: Arc<Jobs>) {
    let mut every = tokio::time::interval(EVERY);
    every.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Delay);
    loop {
        every.tick().await;
        let live = jobs.live.load_full();
        for gradual in live.graduals.values() {
            if let Err(error) = look(&jobs, &live, gradual).await {
                let workflow = &gradual.workflow.plan.name;
                tracing::debug!(%error, workflow, "two revisions are compared later");
            }
        }
    }
}

/// Ends a gradual deploy whose revision is worse than its margins allow; returns why.
///
/// # Errors
/// When the database is unavailable.
pub async fn look(jobs: &Jobs, live: &Live, gradual: &Gradual) -> kanzlei_store::Result<Option<String>> {
    let (name, number) = (&gradual.workflow.plan.name, gradual.workflow.revision);
    if gradual.rules.margin.is_none() && gradual.rules.slower.is_none() {
        return Ok(None);
    }
    let Some(before) = live.workflows.get(name) else { return Ok(None) };
    let since = gradual.since.max(now() - WINDOW);
    let [was, is] = figures(&jobs.store, live, name, since, [before.revision, number]).await?;
    let Some(why) = gradual.rules.worse(&was.side(), &is.side()) else { return Ok(None) };
    let at = now();
    let end = End { at, outcome: Outcome::TakenBack, by: BY.into(), reason: why.clone() };
    if !jobs.store.end_gradual(name, number, &end).await? {
        return Ok(None);
    }
    tracing::warn!(workflow = name, revision = number, why, "a gradual deploy was taken back");
    let line = Audited {
        id: fresh_id(),
        at,
        who: BY.into(),
        what: "take back".into(),
        subject: format!("workflow {name}"),
        before: Some(format!("revision {number} serves a share")),
        after: Some(why.clone()),
        ..Audited::default()
    };
    if let Err(error) = jobs.store.audit(&[line]).await {
        tracing::error!(%error, workflow = name, "the audit trail misses that a gradual deploy was taken back");
    }
    Ok(Some(why))
}
