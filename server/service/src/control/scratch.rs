//! Databases lent to rehearsals: made fresh with a case's tables and rows, asked a few statements, and
//! returned; at the latest after [`LONGEST`].

use std::collections::HashMap;
use std::time::{Duration, Instant};

use actix_web::HttpResponse;
use actix_web::web::{Data, Json, Path};
use kanzlei_api::scratch as api;
use kanzlei_engine::machine::{EffectError, Query, Rows};
use kanzlei_model::run::FailureKind;
use kanzlei_model::value::Value;
use kanzlei_rehearsal::{self as rehearsal, Lender};
use kanzlei_store::databases::{Database, Refused, Statement, StatementResult};
use tokio::sync::Mutex;

use crate::App;
use crate::error::{Error, Result};

/// How long a database is lent.
const LONGEST: Duration = Duration::from_secs(120);
/// What the names of databases that are lent begin with; a UUID that holds the time follows.
const PREFIX: &str = "kanzlei_scratch_";
/// Databases lent at the same time.
const MOST: usize = 32;

/// The databases that are lent, by name.
#[derive(Default)]
pub struct Lent(Mutex<HashMap<String, (Database, Instant)>>);

fn problem(refused: Refused) -> Error {
    let status = match &refused {
        Refused::Unavailable(_) => 503,
        Refused::Timeout => 504,
        _ => 422,
    };
    Error::problem(status, "The database refused it", refused.reported().1)
}

/// Drops databases that processes lent and did not live to drop.
pub async fn sweep(server: Option<&Database>) {
    let Some(server) = server else { return };
    match server.sweep(PREFIX, LONGEST * 2).await {
        Ok(swept) if swept.is_empty() => {}
        Ok(swept) => tracing::info!(databases = swept.len(), "orphaned databases of rehearsals were dropped"),
        Err(refused) => tracing::debug!(detail = refused.reported().1, "orphaned databases cannot be listed"),
    }
}

/// Makes a fresh database with these tables and rows, and returns its name.
async fn lent(app: &App, seed: &str) -> Result<String> {
    let mut lent = app.lent.0.lock().await;
    let old: Vec<String> =
        lent.iter().filter(|(_, (_, since))| since.elapsed() > LONGEST).map(|(name, _)| name.clone()).collect();
    for name in old {
        if let Some((database, _)) = lent.remove(&name) {
            let _ = database.discard(&name).await;
        }
    }
    if lent.len() >= MOST {
        return Err(Error::problem(503, "Too many databases are lent", "try again in a moment"));
    }
    let name = format!("{PREFIX}{}", uuid::Uuid::now_v7().simple());
    let Some(server) = &app.scratch else {
        let detail = "set `rehearsal.url` in the service's configuration to a user who can make databases named `kanzlei_scratch_…` and nothing else; a case with stubs needs none";
        return Err(Error::problem(422, "No database is lent", detail));
    };
    let fresh = server.fresh(&name, seed).await.map_err(problem)?;
    lent.insert(name.clone(), (fresh, Instant::now()));
    Ok(name)
}

/// Runs statements on a lent database.
async fn asked(
    app: &App,
    name: &str,
    ask: api::Statements,
) -> Result<std::result::Result<Vec<StatementResult>, Refused>> {
    let database = app.lent.0.lock().await.get(name).map(|(database, _)| database.clone());
    let Some(database) = database else { return Err(Error::not_found("this database is not lent, or no longer")) };
    let statements: Vec<Statement> =
        ask.statements.into_iter().map(|asked| Statement { text: asked.text, values: asked.values }).collect();
    let within = Duration::from_millis(ask.within_ms.clamp(1, 60_000));
    Ok(database.run(&statements, ask.transaction, within).await)
}

/// Drops a lent database.
async fn returned(app: &App, name: &str) -> Result<()> {
    match app.lent.0.lock().await.remove(name) {
        Some((database, _)) => database.discard(name).await.map_err(problem),
        None => Ok(()),
    }
}

/// `POST /scratch`: a fresh database with these tables and rows.
pub async fn lend(app: Data<App>, body: Json<api::Seed>) -> Result<HttpResponse> {
    let database = lent(&app, &body.seed).await?;
    Ok(HttpResponse::Created().json(api::Lent { database }))
}

/// `POST /scratch/{name}`: runs statements on a lent database; a refusal is an answer like any other.
pub async fn ask(app: Data<App>, name: Path<String>, body: Json<api::Statements>) -> Result<HttpResponse> {
    Ok(HttpResponse::Ok().json(match asked(&app, &name, body.into_inner()).await? {
        Ok(given) => {
            let rows = given.into_iter().map(|given| api::Rows { rows: given.rows, count: given.count, id: given.id });
            api::Ran::Returned { returned: rows.collect() }
        }
        Err(refused) => {
            let (kind, detail) = refused.reported();
            api::Ran::Refused { kind: kind.to_string(), detail }
        }
    }))
}

/// `DELETE /scratch/{name}`: drops a lent database.
pub async fn discard(app: Data<App>, name: Path<String>) -> Result<HttpResponse> {
    returned(&app, &name).await?;
    Ok(HttpResponse::NoContent().finish())
}

/// Lends databases to cases that are rehearsed in this process, on a thread that may wait.
pub struct Here(pub Data<App>);

struct LentHere {
    app: Data<App>,
    name: String,
}

fn said(error: Error) -> String {
    let problem = error.as_problem();
    problem.detail.unwrap_or(problem.title)
}

impl Lender for Here {
    fn lend(&self, seed: &str) -> std::result::Result<Box<dyn rehearsal::Lent>, String> {
        let name = self.0.runtime.block_on(lent(&self.0, seed)).map_err(said)?;
        Ok(Box::new(LentHere { app: self.0.clone(), name }))
    }
}

impl rehearsal::Lent for LentHere {
    fn query(&mut self, query: &Query) -> std::result::Result<Vec<Rows>, EffectError> {
        let statements = query.statements.iter().map(|sql| api::Statement {
            text: sql.text.clone(),
            values: sql.values.iter().map(Value::to_serde).collect(),
        });
        let within_ms = query.within.as_millis() as u64;
        let ask = api::Statements { statements: statements.collect(), transaction: query.transaction, within_ms };
        let failed = |kind, detail| EffectError { kind, detail };
        match self.app.runtime.block_on(asked(&self.app, &self.name, ask)) {
            Err(error) => Err(failed(FailureKind::Database, said(error))),
            Ok(Err(refused)) => {
                let (kind, detail) = refused.reported();
                Err(failed(kind, detail))
            }
            Ok(Ok(given)) => Ok(given
                .into_iter()
                .map(|one| Rows { rows: one.rows.iter().map(Value::from_json).collect(), count: one.count, id: one.id })
                .collect()),
        }
    }
}

impl Drop for LentHere {
    fn drop(&mut self) {
        // A database that is not returned is dropped after two minutes.
        let _ = self.app.runtime.block_on(returned(&self.app, &self.name));
    }
}
