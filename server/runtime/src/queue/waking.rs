//! Runs that wait by a key, and what `wake` steps pass on to them.
//!
//! Each side writes its own row first and then looks for the other one, so that the later of the two always finds the earlier. A value
//! for which no run waits yet is kept until its time is over.

use kanzlei_engine::machine::{EffectError, Key, Waking};
use kanzlei_model::run::FailureKind;
use kanzlei_model::time::Span;
use kanzlei_store::queue::NewWaking;
use uuid::Uuid;

use super::{Jobs, hash};
use crate::clock::now;

/// The most values that are kept for one key.
const MOST_OF_KEY: u64 = 100;
/// The most values that are kept for all keys before a run waits for them.
const MOST_KEPT: u64 = 100_000;
/// The most bytes of one value, as for a callback.
const MOST_BYTES: usize = 1 << 20;

impl Jobs {
    /// Passes a value on to the job that waits by its key; returns the job. It is passed on once, also where the run repeats the
    /// step after a crash.
    ///
    /// # Errors
    /// Where the value is too large, too many are kept, or the database is unavailable.
    pub async fn pass_on(&self, run: Uuid, effect: u64, waking: &Waking) -> Result<Option<String>, EffectError> {
        let body = waking.body.to_json();
        if body.len() > MOST_BYTES {
            let detail = format!("the value has {} bytes; at most {MOST_BYTES} are passed on", body.len());
            return Err(EffectError { kind: FailureKind::TooLarge, detail });
        }
        let unavailable =
            |error: kanzlei_store::Error| EffectError { kind: FailureKind::Database, detail: error.to_string() };
        let key = hash(&waking.by.key);
        // Workflows may have other names by now than in the revision of the run.
        let workflow = self.live.load().name_now(&waking.by.workflow, run).to_owned();
        let (of_key, all) = self.store.wakings_kept(&workflow, &key, MOST_KEPT).await.map_err(unavailable)?;
        if of_key >= MOST_OF_KEY || all >= MOST_KEPT {
            let detail = match of_key >= MOST_OF_KEY {
                true => format!("{of_key} values are kept for this key, and nobody waits for them"),
                false => format!("{all} values are kept for keys by which nobody waits"),
            };
            return Err(EffectError { kind: FailureKind::Full, detail });
        }
        let new = NewWaking {
            run,
            effect,
            workflow: &workflow,
            key: &key,
            at: waking.at,
            until: waking.at + Span::from(waking.keeps),
            body: body.as_bytes(),
        };
        let job = self.store.pass_on(&new, now()).await.map_err(unavailable)?;
        if let Some(job) = job {
            self.wake.notify_one();
            self.followers.changed(job);
        }
        Ok(job.map(|job| job.to_string()))
    }

    /// Lets a callback wait by a key too, and brings it what is kept for that key.
    ///
    /// # Errors
    /// When the database is unavailable.
    pub async fn wait_by(&self, run: Uuid, callback: &str, by: &Key) -> kanzlei_store::Result<()> {
        let workflow = self.live.load().name_now(&by.workflow, run).to_owned();
        self.store.wait_by(&hash(callback), &workflow, &hash(&by.key), now()).await
    }
}
