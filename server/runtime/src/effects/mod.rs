//! Effects of runs: calls of services, statements, jobs, waits and kept values. Each effect has one
//! outcome; drivers of runs depend on nothing else.
//!
//! [`http`] calls services over the [`client`] of a thread, with tokens of [`oauth`] where they ask for such, `sql` sends statements to databases of authors, `state` keeps the values of workflows;
//! jobs are queued and cancelled by [`Jobs`].
//!
//! ```text
//! effects.perform(&live, &context, id, &Effect::Wait { until }, left).await   // Outcome::Waited
//! ```

pub mod client;
mod files;
pub mod http;
mod network;
pub mod oauth;
mod sql;
mod state;

use std::collections::HashMap;
use std::sync::Arc;
use std::time::{Duration, Instant};

use kanzlei_compiler::sql::Allowed;
use kanzlei_engine::machine::{Effect, EffectError, EffectId, Outcome};
use kanzlei_model::caller::Caller;
use kanzlei_model::run::FailureKind;
use kanzlei_model::trace::Trace;
use kanzlei_store::Store;
use kanzlei_store::databases::Database;
use uuid::Uuid;

use crate::clock::now;
use crate::computing::Computing;
use crate::files::rows::Readings;
use crate::files::{Files, Holder};
use crate::limiter::Shared;
use crate::live::Live;
use crate::mail::Mailer;
use crate::metrics::class;
use crate::print::Printer;
use crate::queue::{self, Jobs};
use crate::secrets::Secrets;
use crate::telemetry::{Called, fresh_span, span_of_step};

pub use network::reach;
pub use sql::mark_of;
pub use state::MOST_KEPT;

/// The run for which an effect is performed.
pub struct Context {
    /// Its id.
    pub id: Uuid,
    /// Whether it is a job: it can wait as long as it likes.
    pub job: bool,
    /// How often it began from the start.
    pub attempt: u32,
    /// How many jobs stand between it and what began the chain.
    pub generation: u32,
    /// Its files.
    pub files: Arc<Holder>,
    /// What its loops over rows read from.
    pub readings: Readings,
    /// Who called; jobs that it queues belong to the same.
    pub caller: Caller,
    /// Whether it handles confidential values.
    pub confidential: bool,
    /// The trace it continues.
    pub trace: Trace,
    /// Its own span, below which those of its steps are.
    pub span: u64,
    /// The `X-Request-Id` of the request that it comes from.
    pub request_id: String,
}

/// A database that `sql` steps name.
#[derive(Clone, Debug)]
pub struct Outside {
    /// Its connections.
    pub database: Database,
    /// What its settings allow.
    pub allowed: Allowed,
}

/// Performs effects with I/O.
pub struct Effects {
    /// The records.
    pub store: Store,
    /// Queues and cancels jobs.
    pub jobs: Arc<Jobs>,
    /// Databases by the names that `sql` steps use.
    pub databases: HashMap<String, Outside>,
    /// Where statements run. Their connections belong to it, so it must end last: threads of listeners end
    /// while jobs still run.
    pub runtime: tokio::runtime::Handle,
    /// Seals results and signs calls.
    pub secrets: Arc<Secrets>,
    /// Files and places.
    pub files: Arc<Files>,
    /// Prints pages.
    pub printer: Printer,
    /// Sends mails.
    pub mailer: Mailer,
    /// The largest answer of a service, in bytes.
    pub answer_limit: usize,
    /// Evaluates what runs defer.
    pub computing: Computing,
    /// Counts calls of services and runs of endpoints over all processes.
    pub shared: Shared,
    /// Distinguishes this installation's markers from those of others in one database.
    pub installation: [u8; 16],
}

impl Effects {
    /// What bounds calls of services, whose answers have at most so many bytes.
    pub fn bounds(&self, most: usize) -> http::Bounds<'_> {
        http::Bounds { most, secrets: &self.secrets, allowed: &self.jobs.network, shared: &self.shared, files: None }
    }

    /// Does what a machine asks for; `left` is what is left of the run's time.
    ///
    /// The future of a call is moved often; larger ones are not part of it.
    pub async fn perform(&self, live: &Live, run: &Context, id: EffectId, effect: &Effect, left: Duration) -> Outcome {
        match effect {
            Effect::Call(request) => {
                let service = live.services.get(&request.service);
                let (span, began, begun) = (fresh_span(), now(), Instant::now());
                let traceparent = run.trace.header(span);
                let correlation = http::Correlation { traceparent: &traceparent, request_id: &run.request_id };
                let bounds = http::Bounds { files: Some(&run.files), ..self.bounds(self.answer_limit) };
                let answer = http::call(service, request, &correlation, left, &bounds).await;
                if let Some(service) = service {
                    let became = answer.as_ref().map_or_else(|fault| fault.kind.name(), |answer| class(answer.status));
                    service.calls.add(became, begun.elapsed());
                }
                self.jobs.telemetry.add_call(&Called {
                    trace: run.trace.within(span_of_step(run.span, request.step as usize)),
                    span,
                    service: &request.service,
                    operation: request.operation.as_deref(),
                    method: &request.method,
                    attempt: request.attempt,
                    became: answer.as_ref().map(|answer| answer.status).map_err(|fault| fault.kind.name()),
                    began,
                    ended: now(),
                });
                Outcome::Called(answer)
            }
            Effect::Wait { until } => {
                let pause = Duration::from(until.since(now()));
                tokio::time::sleep(pause).await;
                Outcome::Waited
            }
            Effect::Query(query) => match &query.into {
                Some(into) => Outcome::Filed(Box::pin(self.query_into(run, query, into, left)).await),
                None => Outcome::Queried(Box::pin(self.query(run, id, query, left)).await),
            },
            Effect::File(task) => Outcome::Filed(Box::pin(files::perform(run, self, task, left)).await),
            Effect::Mail(letter) => Outcome::Filed(Box::pin(self.mailer.send(run, id, letter, left)).await),
            Effect::Rows(task) => Outcome::Rows(Box::pin(files::batch(run, task, left)).await),
            Effect::Enqueue(asked) => {
                let origin = queue::Origin {
                    entry: format!("enqueued by {}", run.id),
                    caller: run.caller.clone(),
                    request_id: run.request_id.clone(),
                    trace: run.trace.within(run.span),
                    generation: run.generation + 1,
                    drawn: false,
                };
                Outcome::Queued(Box::pin(self.jobs.enqueue(run.id, id, asked, &origin, &run.files)).await)
            }
            Effect::Cancel(asked) => {
                Outcome::Cancelled(Box::pin(self.jobs.cancel(asked, &format!("the run {}", run.id))).await)
            }
            Effect::Open { accepts } if run.job => {
                Outcome::Opened(Box::pin(self.jobs.open(run.id, id, accepts.as_deref())).await)
            }
            Effect::Open { .. } => {
                let detail = "only a job can wait for a callback".to_owned();
                Outcome::Opened(Err(EffectError { kind: FailureKind::Input, detail }))
            }
            // The driver of a job waits for callbacks itself; direct runs have none.
            Effect::Await { .. } => Outcome::Arrived(None),
            Effect::Wake(waking) => Outcome::Woken(Box::pin(self.jobs.pass_on(run.id, id, waking)).await),
            Effect::Recall { workflow } => Outcome::Kept(Box::pin(self.recall(workflow)).await),
            Effect::Keep(keep) => Outcome::Kept(Box::pin(self.keep(keep)).await),
        }
    }
}
