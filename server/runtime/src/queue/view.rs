//! A job as clients see it: state, progress, and an estimate of its end.

use std::collections::HashMap;
use std::sync::{Mutex, PoisonError};
use std::time::{Duration, Instant};

use kanzlei_api::jobs::{JobDocument, JobLinks, Note};
use kanzlei_model::run::RunState;
use kanzlei_model::time::{Span, Timestamp};
use kanzlei_store::queue::{JobPhase, JobRow};

use super::Jobs;
use crate::clock::now;

/// How long a measured duration is used before it is measured again.
const BELIEVED: Duration = Duration::from_secs(10);
/// The most workflows whose duration is cached.
const REMEMBERED: usize = 10_000;

/// Recent durations of the jobs of each workflow, in microseconds.
#[derive(Default)]
pub struct Usual(Mutex<HashMap<String, (Instant, Option<Span>)>>);

impl Jobs {
    /// The usual duration of a workflow's jobs, from the latest that succeeded.
    pub async fn usual(&self, workflow: &str) -> Option<Span> {
        {
            let known = self.usual.0.lock().unwrap_or_else(PoisonError::into_inner);
            if let Some((_, took)) = known.get(workflow).filter(|(at, _)| at.elapsed() < BELIEVED) {
                return *took;
            }
        }
        let took = self.store.usual_time(workflow).await.ok()?;
        let mut known = self.usual.0.lock().unwrap_or_else(PoisonError::into_inner);
        if known.len() >= REMEMBERED {
            known.clear();
        }
        known.insert(workflow.to_owned(), (Instant::now(), took));
        took
    }

    /// The estimated time until a job ends, in microseconds.
    pub async fn remaining(&self, job: &JobRow) -> Option<Span> {
        if job.phase.ended() {
            return None;
        }
        let usual = self.usual(&job.workflow).await;
        remaining(job, usual, now())
    }

    /// When a client should poll again, in seconds.
    pub fn retry_after(remaining: Option<Span>) -> i64 {
        remaining.map_or(2, |left| (left + Span::from_micros(999_999)).as_micros() / 1_000_000).clamp(1, 3600)
    }

    /// The document for clients, and the estimated time until the job's end in microseconds.
    pub async fn document(&self, job: &JobRow) -> (JobDocument, Option<Span>) {
        let at = now();
        let remaining = self.remaining(job).await;
        let state = job.state(at);
        let notes: Vec<Note> =
            job.notes.as_deref().and_then(|text| serde_json::from_str(text).ok()).unwrap_or_default();
        let address = format!("/~/jobs/{}", job.id);
        let waiting = state == RunState::Waiting;
        let document = JobDocument {
            id: job.id,
            workflow: job.workflow.clone(),
            state,
            queued: job.accepted,
            due: job.due,
            started: job.started,
            ended: job.ended,
            progress: job.progress,
            note: notes.last().map(|note| note.text.clone()),
            notes,
            remaining_s: remaining.map(|left| (left.as_secs_f64() * 10.0).round() / 10.0),
            answered: job.status.is_some(),
            links: JobLinks { result: format!("{address}/result"), events: format!("{address}/events"), own: address },
            stopping: job.stop && !job.phase.ended(),
            waits_for: job.waits_for.clone().filter(|_| waiting),
            until: job.ready_at.finite().filter(|_| waiting),
            result_until: job.expires,
        };
        (document, remaining)
    }
}

/// The estimate for a job that has not ended: from the usual duration or from its progress, and never less than
/// its current wait. `None` for a job that exceeds the usual duration and reports no progress.
fn remaining(job: &JobRow, usual: Option<Span>, at: Timestamp) -> Option<Span> {
    let waits = Some(job.ready_at - at).filter(|wait| *wait > Span::ZERO && job.phase == JobPhase::Ready);
    // A callback may arrive at any time.
    let waits = waits.filter(|_| job.ready_at.finite().is_some());
    let Some(started) = job.started else {
        return usual.map(|usual| waits.unwrap_or(Span::ZERO) + usual);
    };
    let elapsed = at - started;
    let by_progress = job
        .progress
        .filter(|progress| *progress > 0.05 && waits.is_none())
        .map(|progress| elapsed.mul_f64((1.0 - progress) / progress));
    let by_habit = usual.map(|usual| usual - elapsed).filter(|left| *left > Span::ZERO);
    by_progress.or(by_habit).max(waits)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_estimate_covers_what_is_waited_for() {
        const DAY: i64 = 86_400_000_000;
        let job = |started: Option<i64>, ready_at: i64, progress: Option<f64>| JobRow {
            phase: if ready_at > 0 { JobPhase::Ready } else { JobPhase::Running },
            started: started.map(Timestamp::from_micros),
            ready_at: Timestamp::from_micros(ready_at),
            progress,
            ..JobRow::default()
        };
        for (job, usual, at, wanted) in [
            (job(None, 50, None), Some(100), 20, Some(130)),
            (job(None, 50, None), None, 20, None),
            // A chain that waits for a day, although jobs of its workflow usually take a second.
            (job(Some(0), DAY, Some(0.5)), Some(1_000_000), 2_000_000, Some(DAY - 2_000_000)),
            (job(Some(0), DAY, None), None, 0, Some(DAY)),
            (job(Some(0), 0, Some(0.5)), Some(10), 40, Some(40)),
            (job(Some(0), 0, None), Some(100), 40, Some(60)),
            (job(Some(0), 0, None), Some(100), 140, None),
        ] {
            let (usual, wanted) = (usual.map(Span::from_micros), wanted.map(Span::from_micros));
            assert_eq!(remaining(&job, usual, Timestamp::from_micros(at)), wanted, "{job:?} at {at}");
        }
    }
}
