//! A job as clients see it: its state, how far it is, how long it may take.

use std::collections::HashMap;
use std::sync::{Mutex, PoisonError};
use std::time::{Duration, Instant};

use kanzlei_engine::machine::instant;
use kanzlei_store::queue::JobRow;
use serde_json::{Value as Json, json};

use super::{Jobs, state_of};
use crate::clock::now;

/// How long it is believed how long the jobs of a workflow take.
const BELIEVED: Duration = Duration::from_secs(10);
/// Workflows of which that is remembered.
const REMEMBERED: usize = 10_000;

/// How long jobs of each workflow took lately, in microseconds.
#[derive(Default)]
pub struct Usual(Mutex<HashMap<String, (Instant, Option<i64>)>>);

impl Jobs {
    /// How long a job of a workflow usually takes, from the latest that went well.
    pub async fn usual(&self, workflow: &str) -> Option<i64> {
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

    /// How long until a job ends, in microseconds, as far as it can be told.
    pub async fn left(&self, job: &JobRow) -> Option<i64> {
        let at = now();
        if job.phase.ended() {
            return None;
        }
        let begun = job.started.unwrap_or(at);
        if let Some(progress) = job.progress.filter(|progress| *progress > 0.05 && job.started.is_some()) {
            return Some(((at - begun) as f64 * (1.0 - progress) / progress) as i64);
        }
        let usual = self.usual(&job.workflow).await?;
        Some(match job.started {
            Some(started) => (usual - (at - started)).max(0),
            None => (job.wake - at).max(0) + usual,
        })
    }

    /// When it is worth asking again, in seconds.
    pub fn retry_after(left: Option<i64>) -> i64 {
        left.map_or(2, |left| (left + 999_999) / 1_000_000).clamp(1, 3600)
    }

    /// The document that clients get.
    pub async fn document(&self, job: &JobRow) -> (Json, Option<i64>) {
        let at = now();
        let left = self.left(job).await;
        let state = state_of(job.phase, job.waits.as_deref(), job.started.is_some(), job.wake, at);
        let notes: Vec<Json> =
            job.notes.as_deref().and_then(|text| serde_json::from_str(text).ok()).unwrap_or_default();
        let address = format!("/-/jobs/{}", job.id);
        let mut document = json!({
            "id": job.id,
            "workflow": job.workflow,
            "state": state,
            "queued": instant(job.accepted),
            "due": instant(job.due),
            "started": job.started.map(instant),
            "ended": job.ended.map(instant),
            "progress": job.progress,
            "note": notes.last().map(|note| note["text"].clone()),
            "notes": notes,
            "left_s": left.map(|left| (left as f64 / 1e5).round() / 10.0),
            "answered": job.status.is_some(),
            "links": {"self": address, "result": format!("{address}/result"), "events": format!("{address}/events")},
        });
        if job.stop && !job.phase.ended() {
            document["stopping"] = true.into();
        }
        if state == "waiting" {
            document["waits_for"] = job.waits.as_deref().into();
            if job.wake < i64::MAX / 4 {
                document["until"] = instant(job.wake).into();
            }
        }
        if let Some(expires) = job.expires {
            document["result_until"] = instant(expires).into();
        }
        (document, left)
    }
}
