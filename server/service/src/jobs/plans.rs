//! Plans of jobs: each runs what was live when it was queued, with the workflows it invokes as they were
//! then. The latest generation is in the live table; older ones are compiled when they are needed, and
//! the [`KEPT`] used last are kept.

use std::sync::{Mutex, PoisonError};

use std::sync::Arc;

use kanzlei_compiler::check::check;
use kanzlei_compiler::plan::Plan;
use kanzlei_store::Store;

use crate::live::{Live, bundle};

/// Compiled workflows of former generations.
const KEPT: usize = 256;

type Known = (u64, String, Option<Arc<Plan>>);

#[derive(Default)]
pub struct Plans {
    /// The one used last stands last.
    former: Mutex<Vec<Known>>,
}

impl Plans {
    /// The plan of a workflow as it was live at a generation; nothing when it was not.
    pub async fn get(
        &self,
        store: &Store,
        live: &Live,
        workflow: &str,
        revision: u32,
        generation: u64,
    ) -> kanzlei_store::Result<Option<Arc<Plan>>> {
        if live.generation == generation
            && let Some(known) = live.workflows.get(workflow).filter(|known| known.revision == revision)
        {
            return Ok(Some(known.plan.clone()));
        }
        if let Some(known) = self.known(workflow, generation) {
            return Ok(known);
        }
        let documents = store.live_at(generation).await?;
        let checked = check(&bundle(&documents));
        let plan = checked.plan(workflow).cloned();
        let mut former = self.former.lock().unwrap_or_else(PoisonError::into_inner);
        if former.len() >= KEPT {
            former.remove(0);
        }
        former.push((generation, workflow.to_owned(), plan.clone()));
        Ok(plan)
    }

    fn known(&self, workflow: &str, generation: u64) -> Option<Option<Arc<Plan>>> {
        let mut former = self.former.lock().unwrap_or_else(PoisonError::into_inner);
        let at = former.iter().position(|(g, name, _)| *g == generation && name == workflow)?;
        let found = former.remove(at);
        let plan = found.2.clone();
        former.push(found);
        Some(plan)
    }
}
