//! Watched tables: what is checked and made in their databases, and how far behind they are.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use actix_web::HttpResponse;
use actix_web::web::Data;
use kanzlei_api::trials::TrialChange;
use kanzlei_api::watches::{Watch, Watches};
use kanzlei_compiler::check::Column;
use kanzlei_compiler::check::watches::Watched;
use kanzlei_compiler::plan::Plan;
use kanzlei_compiler::plan::watch::{self, Change, NOT_MEANT};
use kanzlei_lang::document::change::Operation;
use kanzlei_model::time::Span;
use kanzlei_model::value::Value;
use kanzlei_runtime::clock::now;
use kanzlei_runtime::live::Live;
use kanzlei_runtime::worker::changes;
use kanzlei_store::databases::Refused;
use kanzlei_store::databases::changes::Wanted;
use serde_json::Value as Json;

use crate::App;
use crate::error::{Error, Result};

/// `GET /watches`: watched tables with their backlog.
pub async fn list(app: Data<App>) -> Result<HttpResponse> {
    let live = app.live.load_full();
    let states = app.store.watched_tables().await?;
    let mut watches = Vec::new();
    for name in changes::databases(&live) {
        let wanted = changes::wanted(&live, &name);
        let standing = standing(&app, &name, &wanted).await;
        for (table, of) in wanted {
            let state = states.iter().find(|state| state.database == name && state.table == table);
            let (installed, backlog, lag, trouble) = match &standing {
                Ok((installed, backlog)) => {
                    let waits = backlog.iter().find(|one| one.table == table);
                    let installed = installed.get(&table).map(|found| found.iter().cloned().collect());
                    let lag = waits.map(|one| Span::from_micros(one.waited));
                    (installed, Some(waits.map_or(0, |one| one.count)), lag, None)
                }
                Err(why) => (None, None, None, Some(why.clone())),
            };
            watches.push(Watch {
                workflows: watching(&live, &name, &table),
                database: name.clone(),
                of: of.into_iter().map(str::to_owned).collect(),
                installed,
                backlog,
                lag_us: lag,
                accepted: state.map_or(0, |state| state.accepted),
                jobs: state.map_or(0, |state| state.jobs),
                unfit: state.map_or(0, |state| state.unfit),
                last: state.map(|state| state.last),
                process: state.map(|state| state.process.clone()),
                trouble,
                table,
            });
        }
    }
    Ok(HttpResponse::Ok().json(Watches { watches }))
}

fn watching(live: &Live, database: &str, table: &str) -> Vec<String> {
    let watches = |plan: &Plan| plan.watches.iter().any(|watch| watch.database == database && watch.table == table);
    live.workflows.values().filter(|one| watches(&one.plan)).map(|one| one.plan.name.clone()).collect()
}

type Standing = (BTreeMap<String, BTreeSet<String>>, Vec<kanzlei_store::databases::changes::Backlog>);

/// What the database says of its watched tables, or why it says nothing.
async fn standing(app: &App, name: &str, wanted: &Wanted) -> std::result::Result<Standing, String> {
    let Some(outside) = app.effects.databases.get(name) else {
        return Err(format!("the service knows no database `{name}`"));
    };
    let (database, mark, wanted) = (outside.database.clone(), app.effects.installation, wanted.clone());
    let asked = async move { Ok((database.watches(&mark, &wanted).await?, database.backlog(&mark).await?)) };
    let asked: std::result::Result<std::result::Result<Standing, Refused>, _> = app.runtime.spawn(asked).await;
    asked.map_err(|error| error.to_string())?.map_err(|refused| refused.reported().1)
}

/// What databases report of the tables that these workflows watch; one that is unavailable reports nothing.
pub(super) async fn reported<'p>(
    app: &App,
    plans: impl Iterator<Item = &'p Arc<Plan>>,
) -> BTreeMap<(String, String), Watched> {
    let tables: BTreeSet<(String, String)> =
        plans.flat_map(|plan| &plan.watches).map(|watch| (watch.database.clone(), watch.table.clone())).collect();
    let mut found = BTreeMap::new();
    for (name, table) in tables {
        let Some(outside) = app.effects.databases.get(&name) else { continue };
        let (database, asked) = (outside.database.clone(), table.clone());
        let Ok(Ok(reported)) = app.runtime.spawn(async move { database.watchable(&asked).await }).await else {
            continue;
        };
        let column = |c: kanzlei_store::databases::Described| Column {
            name: c.name,
            type_name: c.type_name,
            nullable: c.nullable,
        };
        let columns = reported.columns.into_iter().map(column).collect();
        found.insert((name, table), Watched { columns, faults: reported.faults });
    }
    found
}

/// Makes the triggers of the tables that these workflows watch, before they are live: no change behind the deploy is missed.
///
/// # Errors
/// A problem where a database is unavailable or refuses one.
pub(super) async fn install(app: &App, plans: &BTreeMap<String, Arc<Plan>>) -> Result<()> {
    let mut wanted: BTreeMap<String, Wanted> = BTreeMap::new();
    for watch in plans.values().flat_map(|plan| &plan.watches) {
        let tables = wanted.entry(watch.database.clone()).or_default();
        tables.entry(watch.table.clone()).or_default().extend(watch.of.iter().map(|of| of.name()));
    }
    for (name, wanted) in wanted {
        let Some(outside) = app.effects.databases.get(&name) else { continue };
        let (database, mark) = (outside.database.clone(), app.effects.installation);
        let made = app.runtime.spawn(async move { database.install_watches(&mark, &wanted).await }).await;
        let made = made.unwrap_or_else(|error| Err(Refused::Unavailable(error.to_string())));
        let made = made.map_err(|refused| {
            let status = if matches!(refused, Refused::Unavailable(_) | Refused::Timeout) { 503 } else { 409 };
            let detail = format!("`{name}`: {}; nothing was deployed", refused.reported().1);
            Error::problem(status, "A table cannot be watched", detail)
        })?;
        for done in made {
            tracing::info!(database = name, done, "a table is watched");
        }
    }
    Ok(())
}

/// What a deploy does in databases: the tables that are watched from then on, or no longer.
pub(super) fn consequences(before: Option<&Plan>, after: Option<&Plan>) -> Vec<String> {
    let of = |plan: Option<&Plan>| -> BTreeSet<(String, &'static str)> {
        let watches = plan.into_iter().flat_map(|plan| &plan.watches);
        watches
            .flat_map(|watch| watch.of.iter().map(move |of| (format!("{}.{}", watch.database, watch.table), of.name())))
            .collect()
    };
    let (was, will) = (of(before), of(after));
    let by_table = |pairs: Vec<&(String, &'static str)>| {
        let mut tables: BTreeMap<String, Vec<&str>> = BTreeMap::new();
        pairs.into_iter().for_each(|(table, of)| tables.entry(table.clone()).or_default().push(of));
        tables
    };
    let begun = by_table(will.difference(&was).collect());
    let ended = by_table(was.difference(&will).collect());
    let begun = begun.into_iter().map(|(table, of)| format!("makes a trigger on {table} for {}", of.join(", ")));
    let ended = ended.into_iter().map(|(table, of)| {
        format!("removes its trigger on {table} for {}, unless another workflow watches it", of.join(", "))
    });
    begun.chain(ended).collect()
}

/// The input that a workflow makes of a changed row that a trial supposes.
///
/// # Errors
/// 422 where it watches no such table, where its entry is not for such a change, and where the row does not fit.
pub(super) fn input_of(plan: &Plan, change: &TrialChange) -> Result<Json> {
    let bad = |title: &str, detail: String| Error::problem(422, title, detail);
    let named = |watch: &&watch::Watch| change.table.is_empty() || watch.entry() == format!("change {}", change.table);
    let watch = plan.watches.iter().find(named).ok_or_else(|| {
        let detail = match change.table.as_str() {
            "" => format!("`{}` has no entry of kind `change`", plan.name),
            table => format!("`{}` does not watch `{table}`", plan.name),
        };
        bad("No changed row", detail)
    })?;
    let of = match (change.before.is_null(), change.after.is_null()) {
        (true, true) => {
            return Err(bad("No changed row", "`before` and `after` are null: one of them is a row".into()));
        }
        (true, false) => Operation::Insert,
        (false, true) => Operation::Delete,
        (false, false) => Operation::Update,
    };
    if !watch.of.contains(&of) {
        let meant: Vec<&str> = watch.of.iter().map(|of| of.name()).collect();
        return Err(bad(
            "No such change",
            format!("the row is changed by {}; the entry is for {}", of.name(), meant.join(", ")),
        ));
    }
    let (before, after) = (Value::from_json(&change.before), Value::from_json(&change.after));
    let input = watch.input(plan, &Change { of, at: now().to_string(), before, after });
    match input.map_err(|problem| Error::Runtime(kanzlei_runtime::Error::Problem(problem)))? {
        Some(input) => Ok(input.to_serde()),
        None => Err(bad(NOT_MEANT, "the entry's `when` is false for this row: it begins nothing".into())),
    }
}
