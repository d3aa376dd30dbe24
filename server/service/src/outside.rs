//! What runs reach outside: services, databases, and what their workflows remember. One effect in, one
//! outcome out; whoever drives a run knows no more than this.

use std::collections::HashMap;
use std::sync::Arc;
use std::time::Duration;

use kanzlei_engine::machine::{Effect, EffectError, EffectId, Keep, Kept, Outcome, Query, Rows};
use kanzlei_model::run::FailureKind;
use kanzlei_model::value::Value;
use kanzlei_store::Store;
use kanzlei_store::databases::once::{Marker, Sealing};
use kanzlei_store::databases::{Database, Given, Statement};
use sha2::{Digest, Sha256};
use tokio_util::task::AbortOnDropHandle;
use uuid::Uuid;

use crate::clock::now;
use crate::jobs::{self, Jobs};
use crate::live::Live;
use crate::perform::{self, Along};
use crate::secrets::Secrets;

/// The most bytes of JSON that one workflow remembers.
const MOST_KEPT: usize = 256 << 10;

/// The run for which something is done.
pub struct Run {
    pub id: Uuid,
    /// Whether it is a job: it can wait as long as it likes.
    pub job: bool,
    /// How often it began from the start.
    pub attempt: u32,
    /// Whether it handles confidential values.
    pub confidential: bool,
    pub traceparent: String,
    pub request_id: String,
    pub trace_id: String,
}

pub struct Outside {
    pub store: Store,
    pub jobs: Arc<Jobs>,
    pub databases: HashMap<String, Database>,
    /// Where statements run. Their connections belong to it, so it must end last: threads of listeners end
    /// while jobs still run.
    pub runtime: tokio::runtime::Handle,
    pub secrets: Arc<Secrets>,
    /// The largest answer of a service, in bytes.
    pub answer_limit: usize,
    /// Distinguishes this installation's markers from those of others in one database.
    pub installation: [u8; 16],
}

/// The mark of an installation, by its secret bytes.
pub fn mark_of(installation: &[u8]) -> [u8; 16] {
    let digest = Sha256::new().chain_update("markers").chain_update(installation).finalize();
    let mut mark = [0; 16];
    mark.copy_from_slice(&digest[..16]);
    mark
}

/// Results of statements as they lie beside their markers.
struct Sealed {
    secrets: Arc<Secrets>,
    confidential: bool,
}

impl Sealing for Sealed {
    fn seal(&self, text: String) -> Option<String> {
        self.secrets.guard(text, self.confidential)
    }

    fn open(&self, text: &str) -> Option<String> {
        self.secrets.unguard(text)
    }
}

impl Outside {
    /// Does what a machine asks for; `left` is what is left of the run's time.
    pub async fn perform(&self, live: &Live, run: &Run, id: EffectId, effect: &Effect, left: Duration) -> Outcome {
        match effect {
            Effect::Call(request) => {
                let service = live.services.get(&request.service);
                let along = Along { traceparent: &run.traceparent, request_id: &run.request_id };
                Outcome::Called(perform::call(service, request, &along, left, self.answer_limit, &self.secrets).await)
            }
            Effect::Wait { until } => {
                let pause = Duration::from(until.since(now()));
                tokio::time::sleep(pause).await;
                Outcome::Waited
            }
            Effect::Query(query) => Outcome::Queried(self.query(run, id, query, left).await),
            Effect::Enqueue(asked) => {
                let along = jobs::Along {
                    entry: format!("enqueued by {}", run.id),
                    caller: None,
                    request_id: run.request_id.clone(),
                    trace_id: run.trace_id.clone(),
                };
                Outcome::Queued(self.jobs.enqueue(run.id, id, asked, &along).await)
            }
            Effect::Cancel(asked) => Outcome::Cancelled(self.jobs.cancel(asked, &format!("the run {}", run.id)).await),
            Effect::Open if run.job => Outcome::Opened(self.jobs.open(run.id, id).await),
            Effect::Open => {
                let detail = "only a job can wait for a callback".to_owned();
                Outcome::Opened(Err(EffectError { kind: FailureKind::Input, detail }))
            }
            // Whoever drives a job sees to it; nothing else waits for one.
            Effect::Await { .. } => Outcome::Arrived(None),
            Effect::Recall { workflow } => Outcome::Kept(self.recall(workflow).await),
            Effect::Keep(keep) => Outcome::Kept(self.keep(keep).await),
        }
    }

    async fn query(&self, run: &Run, id: EffectId, query: &Query, left: Duration) -> Result<Vec<Rows>, EffectError> {
        let Some(database) = self.databases.get(&query.database) else {
            let detail = format!("the service knows no database `{}`", query.database);
            return Err(EffectError { kind: FailureKind::Sql, detail });
        };
        let statements: Vec<Statement> = query
            .statements
            .iter()
            .map(|sql| Statement { text: sql.text.clone(), values: sql.values.iter().map(Value::to_serde).collect() })
            .collect();
        let within = query.within.min(left);
        let (database, transaction) = (database.clone(), query.transaction);
        // Only jobs ask again.
        let marker = (query.once && run.job).then_some(Marker {
            installation: self.installation,
            job: run.id,
            attempt: run.attempt,
            effect: id,
        });
        let sealed = Sealed { secrets: self.secrets.clone(), confidential: run.confidential };
        let work = self.runtime.spawn(async move {
            match marker {
                Some(marker) => database.run_once(&marker, &statements, within, &sealed).await,
                None => database.run(&statements, transaction, within).await,
            }
        });
        let given = match AbortOnDropHandle::new(work).await {
            Ok(given) => given,
            Err(error) => {
                let detail = format!("{}: the statement was interrupted ({error})", query.database);
                return Err(EffectError { kind: FailureKind::Database, detail });
            }
        };
        given.map(|all| all.into_iter().map(rows).collect()).map_err(|refused| {
            let (kind, detail) = refused.reported();
            EffectError { kind, detail: format!("{}: {detail}", query.database) }
        })
    }

    async fn recall(&self, workflow: &str) -> Result<Kept, String> {
        let kept = self.store.kept(workflow).await.map_err(|error| error.to_string())?;
        let values = serde_json::from_str(&kept.value).map_err(|error| format!("what is kept is no JSON: {error}"))?;
        Ok(Kept { version: kept.version, values, stored: false })
    }

    async fn keep(&self, keep: &Keep) -> Result<Kept, String> {
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

fn rows(given: Given) -> Rows {
    Rows { rows: given.rows.iter().map(Value::from_json).collect(), count: given.count, id: given.id }
}
