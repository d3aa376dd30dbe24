//! Values that workflows keep from run to run.

use kanzlei_engine::machine::{Keep, Kept};

use super::Effects;
use crate::clock::now;

/// The most bytes of JSON that one workflow keeps.
pub const MOST_KEPT: usize = 256 << 10;

impl Effects {
    /// Reads what a workflow keeps.
    pub(super) async fn recall(&self, workflow: &str) -> Result<Kept, String> {
        let kept = self.store.kept(workflow).await.map_err(|error| error.to_string())?;
        let values = serde_json::from_str(&kept.value).map_err(|error| format!("what is kept is no JSON: {error}"))?;
        Ok(Kept { version: kept.version, values, stored: false })
    }

    /// Keeps values unless another run was faster; the outcome holds what is kept afterwards.
    pub(super) async fn keep(&self, keep: &Keep) -> Result<Kept, String> {
        let json = keep.values.to_json();
        if json.len() > MOST_KEPT {
            return Err(format!("{} bytes to keep; at most {MOST_KEPT} are kept for one workflow", json.len()));
        }
        let stored = self.store.keep(&keep.workflow, keep.version, &json, now()).await;
        match stored.map_err(|error| error.to_string())? {
            true => Ok(Kept { version: keep.version + 1, values: keep.values.clone(), stored: true }),
            false => self.recall(&keep.workflow).await,
        }
    }
}
