//! Real databases for cases, lent by the service.

use kanzlei_engine::machine::{EffectError, Query, Rows};
use kanzlei_model::run::FailureKind;
use kanzlei_model::value::Value;
use kanzlei_rehearsal::{Lender, Lent};
use serde_json::{Value as Json, json};

use crate::Failure;
use crate::api::Api;

/// Asks the service for databases.
pub struct FromService<'a>(pub &'a Api);

struct Database {
    api: Api,
    name: String,
}

fn told(failure: Failure) -> String {
    match failure {
        Failure::Usage(why) | Failure::Told(why) | Failure::Away(why) => why,
        Failure::Bad => "it was refused".into(),
    }
}

impl Lender for FromService<'_> {
    fn lend(&self, seed: &str) -> Result<Box<dyn Lent>, String> {
        let answer = self.0.post("/scratch", &json!({"seed": seed})).map_err(told)?;
        let answer = answer.map_err(|refused| told(self.0.tell(refused)))?;
        let name = answer["database"].as_str().unwrap_or_default().to_owned();
        Ok(Box::new(Database { api: self.0.clone(), name }))
    }
}

impl Lent for Database {
    fn query(&mut self, query: &Query) -> Result<Vec<Rows>, EffectError> {
        let statements: Vec<Json> = query
            .statements
            .iter()
            .map(|sql| json!({"text": sql.text, "values": sql.values.iter().map(Value::to_serde).collect::<Vec<_>>()}))
            .collect();
        let body = json!({
            "statements": statements, "transaction": query.transaction, "within_ms": query.within.as_millis() as u64,
        });
        let away = |detail: String| EffectError { kind: FailureKind::Database, detail };
        let answer = self.api.post(&format!("/scratch/{}", self.name), &body).map_err(|failure| away(told(failure)))?;
        let answer = answer.map_err(|refused| away(told(self.api.tell(refused))))?;
        let text = |json: &Json| json.as_str().unwrap_or_default().to_owned();
        match answer["given"].as_array() {
            Some(given) => Ok(given
                .iter()
                .map(|one| Rows {
                    rows: one["rows"]
                        .as_array()
                        .map(|rows| rows.iter().map(Value::from_json).collect())
                        .unwrap_or_default(),
                    count: one["count"].as_u64().unwrap_or(0),
                    id: one["id"].as_i64(),
                })
                .collect()),
            None => {
                let kind = answer["kind"].as_str().and_then(FailureKind::of).unwrap_or(FailureKind::Sql);
                Err(EffectError { kind, detail: text(&answer["detail"]) })
            }
        }
    }
}

impl Drop for Database {
    fn drop(&mut self) {
        // What is not given back is taken back after two minutes.
        let _ = self.api.delete(&format!("/scratch/{}", self.name));
    }
}
