//! Purges old records, in small batches.

use std::sync::Arc;
use std::time::{Duration, Instant};

use kanzlei_model::time::{Span, Timestamp};
use kanzlei_runtime::clock;
use kanzlei_runtime::effects::{Effects, Outside};
use kanzlei_store::Store;
use uuid::Uuid;

use crate::config::Config;
use crate::public::uploads;

/// Days that markers outlive their jobs.
const MARKER_DAYS: i64 = 7;

/// Days that the meters of callers are kept that stopped asking: longer than any period.
const METER_DAYS: i64 = 40;
/// Days that the audit trail is kept.
const AUDIT_DAYS: i64 = 730;
/// Days that the usage of keys is kept.
const USAGE_DAYS: i64 = 400;

/// How often files of jobs are swept.
const SWEEP: Duration = Duration::from_secs(3600);
/// Files that are younger may be those of a job that is being queued.
const YOUNG: Span = Span::from_secs(3600);

/// The most trials that are kept.
const MOST_TRIALS: u64 = 10_000;

/// How long and how many are kept; times in days.
#[derive(Clone)]
pub struct Kept {
    /// The folder with notes of direct runs.
    pub begun: String,
    runs: i64,
    failed_runs: i64,
    most_runs: u64,
    bytes_of_runs: u64,
    jobs: i64,
    failed_jobs: i64,
    most: u64,
    deliveries: (i64, u64, u64),
}

impl Kept {
    pub fn new(config: &Config) -> Self {
        Kept {
            begun: config.journal.begun.clone(),
            runs: config.journal.days.into(),
            failed_runs: config.journal.failed_days.into(),
            most_runs: config.journal.most,
            bytes_of_runs: config.journal.disk,
            jobs: config.jobs.days.into(),
            failed_jobs: config.jobs.failed_days.into(),
            most: config.jobs.most,
            deliveries: (config.deliveries.days.into(), config.deliveries.most, config.deliveries.bytes),
        }
    }
}

/// Purges old records every minute, until the process ends.
pub async fn run(store: Store, effects: Arc<Effects>, kept: Kept) {
    let mut every = tokio::time::interval(Duration::from_secs(60));
    let mut swept = Instant::now();
    loop {
        every.tick().await;
        records(&store, &effects, &kept).await;
        let at = clock::now();
        if swept.elapsed() >= SWEEP {
            swept = Instant::now();
            sweep(&store, &effects, at).await;
        }
        let age = Duration::from_secs(86_400 * (kept.jobs.max(kept.failed_jobs) + MARKER_DAYS) as u64);
        for (name, Outside { database, .. }) in &effects.databases {
            match purge_markers(&store, database, &effects.installation, age).await {
                Ok(()) => {}
                Err(why) => tracing::debug!(database = name, why, "old markers could not be deleted"),
            }
        }
    }
}

/// Purges all old records.
pub(crate) async fn records(store: &Store, effects: &Effects, kept: &Kept) {
    const DAY: Span = Span::from_days(1);
    let at = clock::now();
    let mut before = at - DAY * kept.jobs;
    let mut failed_before = at - DAY * kept.failed_jobs;
    if let Ok(Some(beyond)) = store.ended_beyond(kept.most).await {
        before = before.max(beyond);
        failed_before = failed_before.max(beyond);
    }
    let mut failed = Vec::new();
    let (old, old_failed) = (at - DAY * kept.runs, at - DAY * kept.failed_runs);
    all(100, &mut failed, || store.purge_segments(old, old_failed, 100)).await;
    let (most, bytes) = (kept.most_runs, kept.bytes_of_runs);
    all(100, &mut failed, || store.purge_beyond(most, bytes, 100)).await;
    all(500, &mut failed, || store.purge_jobs(before, failed_before, 500)).await;
    all(500, &mut failed, || store.purge_groups(failed_before.min(before))).await;
    all(5000, &mut failed, || store.purge_firings(at - DAY * kept.jobs)).await;
    all(5000, &mut failed, || store.purge_answers(at)).await;
    all(5000, &mut failed, || store.purge_meters(at - DAY * METER_DAYS)).await;
    all(5000, &mut failed, || store.purge_usage((at - DAY * USAGE_DAYS).as_secs() / 3600)).await;
    all(5000, &mut failed, || store.purge_audit(at - DAY * AUDIT_DAYS)).await;
    all(5000, &mut failed, || store.purge_refusals(at - DAY * kept.runs)).await;
    let (days, most, bytes) = kept.deliveries;
    all(500, &mut failed, || store.purge_deliveries(at - DAY * days, most, bytes)).await;
    all(5000, &mut failed, || store.purge_delivery_keys(at)).await;
    all(5000, &mut failed, || store.purge_wakings(at)).await;
    all(5000, &mut failed, || store.purge_step_counts(at - DAY * kept.runs)).await;
    all(500, &mut failed, || store.purge_trials(at, MOST_TRIALS)).await;
    let live = effects.jobs.live.load_full();
    let alerts: Vec<&str> = live.alerts.keys().map(String::as_str).collect();
    all(5000, &mut failed, || store.purge_alerts(&alerts, at - DAY * kept.runs)).await;
    all(ONCE, &mut failed, || store.purge_previews(at)).await;
    all(5000, &mut failed, || store.purge_samples(at - DAY * 2)).await;
    all(ONCE, &mut failed, || store.purge_paces(at - DAY)).await;
    all(5000, &mut failed, || store.purge_retried(at - DAY)).await;
    all(500, &mut failed, || uploads::expire(store, &effects.files, 500)).await;
    if let Some(error) = failed.first() {
        tracing::warn!(%error, failed = failed.len(), "old records could not be deleted; the next attempt is in a minute");
    }
}

/// Deletes markers of jobs that were purged long ago. The marker of an existing job stays, however old it is.
async fn purge_markers(
    store: &Store,
    database: &kanzlei_store::databases::Database,
    installation: &[u8; 16],
    age: Duration,
) -> std::result::Result<(), String> {
    let detail = |refused: kanzlei_store::databases::Refused| refused.reported().1;
    let mut gone = Vec::new();
    for job in database.old_markers(installation, age).await.map_err(detail)? {
        if !store.has_job(job).await.map_err(|error| error.to_string())? {
            gone.push(job);
        }
    }
    database.remove_markers(installation, &gone).await.map_err(detail)
}

/// Removes files of jobs that exist no more.
async fn sweep(store: &Store, effects: &Effects, at: Timestamp) {
    let known = |ids: Vec<Uuid>| {
        let store = store.clone();
        async move {
            let mut known = Vec::with_capacity(ids.len());
            for id in ids {
                if store.has_job(id).await? {
                    known.push(id);
                }
            }
            Ok::<_, kanzlei_store::Error>(known)
        }
    };
    match effects.files.sweep((at - YOUNG).as_micros(), known).await {
        Ok(0) => {}
        Ok(removed) => tracing::info!(removed, "files of jobs that exist no more were removed"),
        Err(why) => tracing::warn!(%why, "files of jobs could not be swept"),
    }
}

/// The portion of a deletion that has no limit.
const ONCE: u64 = u64::MAX;

/// How often a deletion is repeated that loses against other work, and the first pause before that; each is twice as long as the one before.
const TRIES: u32 = 6;
const PAUSE: Duration = Duration::from_millis(20);

/// Deletes portions until one is not full. A deletion that loses against other work is repeated, another error is kept for the log.
async fn all<T: Into<u64>, F: Future<Output = kanzlei_store::Result<T>>>(
    portion: u64,
    failed: &mut Vec<kanzlei_store::Error>,
    delete: impl Fn() -> F,
) {
    let mut lost = 0;
    loop {
        match delete().await.map(T::into) {
            Ok(count) if count >= portion => lost = 0,
            Ok(_) => return,
            Err(error) if error.is_contention() && lost < TRIES => {
                tokio::time::sleep(PAUSE * 2_u32.pow(lost)).await;
                lost += 1;
            }
            Err(error) => return failed.push(error),
        }
    }
}
