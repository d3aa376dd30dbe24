//! Plans of jobs. A job runs the revision that was live when it was queued, or that served a share of its workflow then, with the workflows it invokes at that
//! time. The newest generation is in the live table; older ones are compiled on demand, once for concurrent
//! callers, and the [`KEPT`] most used ones are cached.

use std::sync::Arc;

use kanzlei_compiler::check::check;
use kanzlei_compiler::plan::Plan;
use kanzlei_store::Store;
use kanzlei_store::documents::LiveDocument;
use moka::future::Cache;

use crate::background::Background;
use crate::gradual::beside;
use crate::live::{Live, bundle};

/// Compiled workflows of former generations.
const KEPT: u64 = 256;

/// The cache of plans.
pub struct Plans {
    /// By generation, name and revision; `None` for a plan that cannot be compiled.
    former: Cache<(u64, String, u32), Option<Arc<Plan>>>,
    background: Background,
}

impl Plans {
    /// An empty cache; plans are compiled by `background`.
    pub fn new(background: Background) -> Self {
        Plans { former: Cache::new(KEPT), background }
    }

    /// The plan of a workflow at a generation; `None` when it was not live then.
    pub async fn get(
        &self,
        store: &Store,
        live: &Live,
        workflow: &str,
        revision: u32,
        generation: u64,
    ) -> crate::error::Result<Option<Arc<Plan>>> {
        let known = live.workflows.get(workflow).into_iter();
        let mut known = known.chain(live.gradual(workflow).map(|gradual| &gradual.workflow));
        if live.generation == generation
            && let Some(known) = known.find(|known| known.revision == revision)
        {
            return Ok(Some(known.plan.clone()));
        }
        let compile = async {
            let mut documents = store.live_at(generation).await?;
            let is = |one: &LiveDocument| one.kind == "workflow" && one.name == workflow && one.number == revision;
            if !documents.iter().any(is)
                && let Some(gradual) = store.gradual_at(generation).await?.into_iter().find(is)
            {
                documents = beside(&documents, &gradual);
            }
            let name = workflow.to_owned();
            let compile = move || check(&bundle(&documents)).plan(&name).cloned();
            self.background.run(compile).await
        };
        Ok(self.former.try_get_with((generation, workflow.to_owned(), revision), compile).await?)
    }
}
