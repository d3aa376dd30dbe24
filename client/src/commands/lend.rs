//! Real databases for cases, lent by the service.

use kanzlei_api::scratch as api;
use kanzlei_engine::machine::{EffectError, Query, Rows};
use kanzlei_model::run::FailureKind;
use kanzlei_model::value::Value;
use kanzlei_rehearsal::{Lender, Lent};

use crate::Error;
use crate::api::Api;

/// Asks the service for databases.
pub struct FromService<'a>(pub &'a Api);

struct Database {
    api: Api,
    name: String,
}

fn text(failure: Error) -> String {
    match failure {
        Error::Usage(why) | Error::Failed(why) | Error::Unavailable(why) => why,
        Error::Bad => "it was refused".into(),
    }
}

impl Lender for FromService<'_> {
    fn lend(&self, seed: &str) -> Result<Box<dyn Lent>, String> {
        let lent: api::Lent = self.0.post("/scratch", &api::Seed { seed: seed.to_owned() }).map_err(text)?;
        Ok(Box::new(Database { api: self.0.clone(), name: lent.database }))
    }
}

impl Lent for Database {
    fn query(&mut self, query: &Query) -> Result<Vec<Rows>, EffectError> {
        let statements = query.statements.iter().map(|sql| api::Statement {
            text: sql.text.clone(),
            values: sql.values.iter().map(Value::to_serde).collect(),
        });
        let statements = api::Statements {
            statements: statements.collect(),
            transaction: query.transaction,
            within_ms: query.within.as_millis() as u64,
        };
        let unavailable = |failure| EffectError { kind: FailureKind::Database, detail: text(failure) };
        match self.api.post(&format!("/scratch/{}", self.name), &statements).map_err(unavailable)? {
            api::Ran::Returned { returned } => Ok(returned
                .into_iter()
                .map(|one| Rows { rows: one.rows.iter().map(Value::from_json).collect(), count: one.count, id: one.id })
                .collect()),
            api::Ran::Refused { kind, detail } => {
                Err(EffectError { kind: FailureKind::of(&kind).unwrap_or(FailureKind::Sql), detail })
            }
        }
    }
}

impl Drop for Database {
    fn drop(&mut self) {
        // A database that is not returned is dropped after two minutes.
        let _ = self.api.delete(&format!("/scratch/{}", self.name));
    }
}
