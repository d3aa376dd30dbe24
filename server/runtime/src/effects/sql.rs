//! Statements of `sql` steps, sent to the databases that the configuration names.

use std::sync::Arc;
use std::time::Duration;

use kanzlei_engine::machine::{EffectError, EffectId, Query, Rows, Sql};
use kanzlei_model::run::FailureKind;
use kanzlei_model::value::Value;
use kanzlei_store::databases::once::{Marker, Sealing};
use kanzlei_store::databases::{Refused, Statement, StatementResult};
use sha2::{Digest, Sha256};
use tokio_util::task::AbortOnDropHandle;

use super::{Context, Effects};
use crate::secrets::Secrets;

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

impl Effects {
    /// Sends the statements of a step; those of a job are performed once.
    pub(super) async fn query(
        &self,
        run: &Context,
        id: EffectId,
        query: &Query,
        left: Duration,
    ) -> Result<Vec<Rows>, EffectError> {
        let not_sent = |detail| Err(EffectError { kind: FailureKind::Sql, detail });
        let Some(outside) = self.databases.get(&query.database) else {
            return not_sent(format!("the service knows no database `{}`", query.database));
        };
        // The settings may allow less than they did when the workflow was deployed.
        if let Some(refused) = query.needs.refused_by(&query.database, &outside.allowed) {
            return not_sent(refused.message);
        }
        let statements = statements(query);
        let within = query.within.min(left);
        let (database, transaction) = (outside.database.clone(), query.transaction);
        let apart = query.needs.own_connection();
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
                None if apart => database.run_apart(&statements, transaction, within).await,
                None => database.run(&statements, transaction, within).await,
            }
        });
        self.given(&query.database, AbortOnDropHandle::new(work).await)
    }
}

impl Effects {
    /// Sends statements that read, in a transaction that can do nothing else.
    pub(crate) async fn read(&self, query: &Query, left: Duration) -> Result<Vec<Rows>, EffectError> {
        let Some(outside) = self.databases.get(&query.database) else {
            let detail = format!("the service knows no database `{}`", query.database);
            return Err(EffectError { kind: FailureKind::Sql, detail });
        };
        let statements = statements(query);
        let (database, within) = (outside.database.clone(), query.within.min(left));
        let work = self.runtime.spawn(async move { database.read(&statements, within).await });
        self.given(&query.database, AbortOnDropHandle::new(work).await)
    }

    /// What came of statements, as a run sees it.
    fn given(
        &self,
        database: &str,
        done: Result<Result<Vec<StatementResult>, Refused>, tokio::task::JoinError>,
    ) -> Result<Vec<Rows>, EffectError> {
        let given = match done {
            Ok(given) => given,
            Err(error) => {
                let detail = format!("{database}: the statement was interrupted ({error})");
                return Err(EffectError { kind: FailureKind::Database, detail });
            }
        };
        given.map(|all| all.into_iter().map(rows).collect()).map_err(|refused| {
            let (kind, detail) = refused.reported();
            EffectError { kind, detail: format!("{database}: {detail}") }
        })
    }
}

fn statements(query: &Query) -> Vec<Statement> {
    let one =
        |sql: &Sql| Statement { text: sql.text.clone(), values: sql.values.iter().map(Value::to_serde).collect() };
    query.statements.iter().map(one).collect()
}

fn rows(given: StatementResult) -> Rows {
    Rows { rows: given.rows.iter().map(Value::from_json).collect(), count: given.count, id: given.id }
}
