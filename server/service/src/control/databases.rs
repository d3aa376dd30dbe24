//! Databases of authors: which there are, and whether jobs can perform steps once in them.

use std::collections::BTreeMap;

use actix_web::HttpResponse;
use actix_web::web::{Data, Path};
use kanzlei_api::databases::{self as api, Databases};
use kanzlei_lang::document::database::{Column, MAX_TABLES, write};
use kanzlei_store::databases::{Database, Described, Refused, once};

use super::auth::Caller;
use crate::App;
use crate::error::{Error, Result};

/// `GET /databases`: every database that `sql` steps can name, and what it lacks.
pub async fn list(app: Data<App>) -> Result<HttpResponse> {
    let mut names: Vec<&String> = app.effects.databases.keys().collect();
    names.sort();
    let mut databases = Vec::with_capacity(names.len());
    for name in names {
        databases.push(shown(&app, name).await?);
    }
    Ok(HttpResponse::Ok().json(Databases { databases }))
}

/// `GET /databases/{name}`: one database, with the statement that prepares it.
pub async fn show(app: Data<App>, name: Path<String>) -> Result<HttpResponse> {
    Ok(HttpResponse::Ok().json(shown(&app, &name).await?))
}

/// `GET /databases/{name}/description`: its tables as a document that stays beside the others.
pub async fn describe(app: Data<App>, name: Path<String>) -> Result<HttpResponse> {
    let database = known(&app, &name)?;
    let refused = |refused: Refused| Error::problem(503, "The database cannot be described", refused.reported().1);
    let found = on(&app, async move { database.tables(MAX_TABLES).await }).await?.map_err(refused)?;
    let column = |c: Described| Column { name: c.name, type_name: c.type_name, nullable: c.nullable };
    let tables = found.into_iter().map(|(name, columns)| (name, columns.into_iter().map(column).collect()));
    let tables: BTreeMap<String, Vec<Column>> = tables.collect();
    let (count, document) = (tables.len(), write(&name, &tables));
    let shown = |c: Column| api::TableColumn { name: c.name, of: c.type_name, nullable: c.nullable };
    let columns = tables.into_iter().map(|(name, columns)| (name, columns.into_iter().map(shown).collect()));
    Ok(HttpResponse::Ok().json(api::Description { tables: count, document, columns: columns.collect() }))
}

/// `POST /databases/{name}/prepare`: makes the table of markers, where the service's user may.
pub async fn prepare(app: Data<App>, caller: Caller, name: Path<String>) -> Result<HttpResponse> {
    caller.notes.changed(format!("database {name}"), None, Some("prepared".into()));
    let database = known(&app, &name)?;
    let refused = |refused: Refused| {
        let status = if matches!(refused, Refused::Unavailable(_) | Refused::Timeout) { 503 } else { 409 };
        let detail = format!(
            "{}; an administrator can run the statement that `kanzlei databases prepare {name}` prints",
            refused.reported().1
        );
        Error::problem(status, "The database was not prepared", detail)
    };
    on(&app, async move { database.prepare().await }).await?.map_err(refused)?;
    tracing::info!(database = name.as_str(), "prepared for steps that jobs perform once");
    Ok(HttpResponse::Ok().json(shown(&app, &name).await?))
}

fn known(app: &App, name: &str) -> Result<Database> {
    app.effects.databases.get(name).map(|outside| outside.database.clone()).ok_or_else(|| {
        let near = kanzlei_lang::suggest::nearest(name, app.effects.databases.keys().map(String::as_str));
        let hint = near.map(|near| format!("; did you mean `{near}`?"));
        let hint = hint.unwrap_or_else(|| format!("; name it in the service's configuration: `databases.{name}.url`"));
        Error::not_found(format!("the service knows no database `{name}`{hint}"))
    })
}

/// Statements run where their connections belong.
async fn on<T: Send + 'static>(app: &App, work: impl Future<Output = T> + Send + 'static) -> Result<T> {
    app.runtime.spawn(work).await.map_err(|error| Error::problem(503, "Interrupted", error.to_string()))
}

async fn shown(app: &App, name: &str) -> Result<api::Database> {
    let database = known(app, name)?;
    let missing = match on(app, async move { database.unprepared().await }).await? {
        Ok(missing) => missing,
        Err(refused) => vec![format!("it cannot be asked: {}", refused.reported().1)],
    };
    Ok(api::Database {
        name: name.to_owned(),
        prepared: missing.is_empty(),
        missing,
        statement: format!("{};", once::TABLE),
    })
}
