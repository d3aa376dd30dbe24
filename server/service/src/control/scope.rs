//! What steps of past runs knew: the run is made again from the journal, up to the step.

use std::sync::Arc;

use actix_web::HttpResponse;
use actix_web::web::{Data, Path, Query};
use kanzlei_api::runs::{NamedValue, RunScope, ScopeQuery};
use kanzlei_rehearsal::known::known_at;

use super::record::past;
use super::runs::{checked_of, gone, past_run};
use crate::App;
use crate::error::{Error, Result};

/// The longest expression, in bytes.
const LONGEST: usize = 16 << 10;

/// `GET /runs/{id}/scope`: the names that a step knew, and what an expression is there.
pub async fn scope(app: Data<App>, id: Path<String>, query: Query<ScopeQuery>) -> Result<HttpResponse> {
    let query = query.into_inner();
    let unprocessable = |title: &str, why: String| Error::problem(422, title, why);
    if query.expression.as_ref().is_some_and(|text| text.len() > LONGEST) {
        return Err(unprocessable("Expression too long", format!("an expression has at most {LONGEST} bytes here")));
    }
    let items = query.items.as_deref().filter(|items| !items.is_empty()).map(positions).transpose()?;
    let run = past_run(&app, &id).await?;
    let checked = checked_of(&app, &run.workflow, run.revision).await?;
    let checked = Arc::new(checked.ok_or_else(|| gone(&run))?);
    // A revision from before a rename has the name of its time.
    let plan =
        checked.workflows.iter().find(|(at, _)| *at == 0).map(|(_, plan)| plan.clone()).ok_or_else(|| gone(&run))?;
    let invokes = !plan.invokes.is_empty();
    let key = app.jobs.key_of(run.id);
    let looked = app.background.run(move || {
        let past = past(key, &run, &plan, String::new());
        let seen = known_at(&past, &checked, &query.step, items)?;
        let names = seen.names().map(|(name, value)| NamedValue { name: name.to_owned(), value: value.to_serde() });
        let evaluated = query.expression.as_deref().map(|text| seen.evaluate(text));
        let (value, fault) = match evaluated {
            None => Default::default(),
            Some(Ok(value)) => (value.to_serde(), None),
            Some(Err(why)) => (Default::default(), Some(why)),
        };
        let mut notes = Vec::new();
        let whole = serde_json::to_string(&past.input).unwrap_or_default();
        if whole.contains("\"$cut\"") || past.steps.iter().any(|step| step.outcome.get("$cut").is_some()) {
            notes.push("some values were too long for the journal and are cut".to_owned());
        }
        if invokes {
            notes.push("workflows that it invokes are those that are live now".to_owned());
        }
        let items: Vec<String> = seen.items.iter().map(u32::to_string).collect();
        let items = (!items.is_empty()).then(|| items.join("."));
        Ok::<_, String>(RunScope { step: query.step, items, names: names.collect(), value, fault, notes })
    });
    let looked = looked.await?.map_err(|why| unprocessable("Nothing to look at", why))?;
    Ok(HttpResponse::Ok().json(looked))
}

/// Positions such as `2.0`.
fn positions(text: &str) -> Result<Vec<u32>> {
    text.split('.').map(str::parse).collect::<std::result::Result<_, _>>().map_err(|_| {
        Error::problem(422, "Invalid positions", format!("`{text}` is no list of positions such as `2.0`"))
    })
}
