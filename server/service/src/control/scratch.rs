//! Databases lent to rehearsals: made fresh with a case's tables and rows, asked a few statements, and
//! returned; at the latest after [`LONGEST`].

use std::collections::HashMap;
use std::time::{Duration, Instant};

use actix_web::HttpResponse;
use actix_web::web::{Data, Json, Path};
use kanzlei_api::scratch as api;
use kanzlei_store::databases::{Database, Refused, Statement};
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

/// `POST /scratch`: a fresh database with these tables and rows.
pub async fn lend(app: Data<App>, body: Json<api::Seed>) -> Result<HttpResponse> {
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
    let fresh = server.fresh(&name, &body.seed).await.map_err(problem)?;
    lent.insert(name.clone(), (fresh, Instant::now()));
    Ok(HttpResponse::Created().json(api::Lent { database: name }))
}

/// `POST /scratch/{name}`: runs statements on a lent database; a refusal is an answer like any other.
pub async fn ask(app: Data<App>, name: Path<String>, body: Json<api::Statements>) -> Result<HttpResponse> {
    let database = app.lent.0.lock().await.get(name.as_str()).map(|(database, _)| database.clone());
    let Some(database) = database else { return Err(Error::not_found("this database is not lent, or no longer")) };
    let ask = body.into_inner();
    let statements: Vec<Statement> =
        ask.statements.into_iter().map(|asked| Statement { text: asked.text, values: asked.values }).collect();
    let within = Duration::from_millis(ask.within_ms.clamp(1, 60_000));
    Ok(HttpResponse::Ok().json(match database.run(&statements, ask.transaction, within).await {
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
    if let Some((database, _)) = app.lent.0.lock().await.remove(name.as_str()) {
        database.discard(&name).await.map_err(problem)?;
    }
    Ok(HttpResponse::NoContent().finish())
}
