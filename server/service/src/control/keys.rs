//! Keys of callers by name: made, rotated, revoked. A key is shown once.

use std::collections::BTreeSet;

use actix_web::HttpResponse;
use actix_web::web::{Data, Json, Path};
use kanzlei_api::keys::{Key, KeyRotation, Keys, MadeKey, NewKey};
use kanzlei_lang::document::reader::is_document_name;
use kanzlei_lang::suggest;
use kanzlei_model::time::{Span, Timestamp};
use kanzlei_runtime::clock::now;
use kanzlei_runtime::queue::hash;
use kanzlei_store::keys::{self as store, MOST_KEYS};

use super::auth::{Caller, random};
use super::operators::expires;
use crate::App;
use crate::error::{Error, Result};
use crate::public::access::fresh_key;

/// The longest name of an owner and the longest note, in characters.
const LONGEST_OWNER: usize = 200;
const LONGEST_NOTE: usize = 500;
/// The most workflows that one key names.
const MOST_WORKFLOWS: usize = 200;
/// How long a former key is valid by default, and at most, in hours.
const OVERLAP: u32 = 24;
const LONGEST_OVERLAP: u32 = 720;

/// `GET /keys`: every key with its last use.
pub async fn list(app: Data<App>) -> Result<HttpResponse> {
    let at = now();
    let keys = app.store.keys().await?.into_iter().map(|key| Key {
        former_until: key.former.map(|(_, until)| until).filter(|until| *until > at),
        name: key.name,
        prefix: key.prefix,
        owner: key.owner,
        note: key.note,
        workflows: key.workflows,
        tags: key.tags,
        allowance: key.allowance,
        created: key.created,
        expires: key.expires,
        used: key.used,
    });
    Ok(HttpResponse::Ok().json(Keys { keys: keys.collect() }))
}

/// `POST /keys`: makes a key.
pub async fn add(app: Data<App>, caller: Caller, body: Json<NewKey>) -> Result<HttpResponse> {
    let asked = body.into_inner();
    let bad = |title: &str, detail: String| Err(Error::problem(422, title, detail));
    if !is_document_name(&asked.name) {
        return bad(
            "Not a name for a key",
            "lower-case letters, digits and hyphens, beginning with a letter: `northern-line`".into(),
        );
    }
    if asked.owner.chars().count() > LONGEST_OWNER || asked.note.chars().count() > LONGEST_NOTE {
        return bad("Too long", format!("an owner has at most {LONGEST_OWNER} characters, a note {LONGEST_NOTE}"));
    }
    if asked.workflows.len() + asked.tags.len() > MOST_WORKFLOWS {
        let detail = format!("a key names at most {MOST_WORKFLOWS} workflows and tags; without any it is for all");
        return bad("Too many workflows", detail);
    }
    let live = app.live.load_full();
    if let Some(unknown) = asked.workflows.iter().find(|name| live.workflow(name).is_none()) {
        let near = suggest::nearest(unknown, live.workflows.keys().map(String::as_str));
        let hint = near.map(|near| format!("; did you mean `{near}`?")).unwrap_or_default();
        return bad("Unknown workflow", format!("no workflow `{unknown}` is live{hint}"));
    }
    let tags: BTreeSet<&str> =
        live.workflows.values().flat_map(|workflow| &workflow.plan.tags).map(String::as_str).collect();
    if let Some(unknown) = asked.tags.iter().find(|tag| !tags.contains(tag.as_str())) {
        let near = suggest::nearest(unknown, tags.iter().copied());
        let hint = near.map(|near| format!("; did you mean `{near}`?")).unwrap_or_default();
        return bad("Unknown tag", format!("no live workflow has the tag `{unknown}`{hint}"));
    }
    if let Some(unknown) = asked.allowance.as_ref().filter(|name| !live.allowances.contains_key(*name)) {
        let near = suggest::nearest(unknown, live.allowances.keys().map(String::as_str));
        let hint = near.map(|near| format!("; did you mean `{near}`?")).unwrap_or_default();
        return bad("Unknown allowance", format!("no allowance `{unknown}` is live{hint}"));
    }
    let key = fresh_key(&random());
    let row = store::Key {
        allowance: asked.allowance,
        owner: asked.owner,
        note: asked.note,
        workflows: asked.workflows,
        tags: asked.tags,
        ..row(&asked.name, &key, expires(asked.days)?)
    };
    if !app.store.add_key(&row).await? {
        let detail = format!(
            "there is a key `{0}` already; `kanzlei keys rotate {0}` replaces it ({MOST_KEYS} keys at most)",
            row.name
        );
        return Err(Error::problem(409, "The key was not made", detail));
    }
    let of = [
        format!("made for {}", row.owner),
        format!("workflows {}", row.workflows.join(", ")),
        format!("tags {}", row.tags.join(", ")),
    ];
    changed(&app, &caller, &of.join("; "), &row.name);
    Ok(HttpResponse::Created().json(MadeKey { name: row.name, key, expires: row.expires, former_until: None }))
}

/// `POST /keys/{name}/rotate`: puts another key in place of one, which is valid beside it for a while.
pub async fn rotate(
    app: Data<App>,
    caller: Caller,
    name: Path<String>,
    body: Json<KeyRotation>,
) -> Result<HttpResponse> {
    let hours = body.overlap_hours.unwrap_or(OVERLAP);
    if hours > LONGEST_OVERLAP {
        let detail = format!("a former key is valid for 0 to {LONGEST_OVERLAP} hours more, not for {hours}");
        return Err(Error::problem(422, "The time is out of range", detail));
    }
    let key = fresh_key(&random());
    let row = row(&name, &key, expires(body.days)?);
    let until = row.created + Span::from_secs(i64::from(hours) * 3600);
    if !app.store.rotate_key(&row, until).await? {
        return Err(unknown(&name));
    }
    changed(&app, &caller, "rotated", &name);
    let former_until = (hours > 0).then_some(until);
    Ok(HttpResponse::Ok().json(MadeKey { name: row.name, key, expires: row.expires, former_until }))
}

/// `DELETE /keys/{name}`: revokes a key, and the one before it.
pub async fn revoke(app: Data<App>, caller: Caller, name: Path<String>) -> Result<HttpResponse> {
    if !app.store.remove_key(&name).await? {
        return Err(unknown(&name));
    }
    changed(&app, &caller, "revoked", &name);
    Ok(HttpResponse::NoContent().finish())
}

fn row(name: &str, key: &str, expires: Option<Timestamp>) -> store::Key {
    store::Key {
        name: name.to_owned(),
        hash: hash(key),
        former: None,
        prefix: key.chars().take(8).collect(),
        owner: String::new(),
        note: String::new(),
        workflows: Vec::new(),
        tags: Vec::new(),
        allowance: None,
        created: now(),
        expires,
        used: None,
    }
}

fn unknown(name: &str) -> Error {
    Error::not_found(format!("there is no key `{name}`"))
}

/// Forgets what is known of keys, and logs who changed one.
fn changed(app: &App, caller: &Caller, what: &str, name: &str) {
    app.keys.forget();
    caller.notes.changed(format!("key {name}"), None, Some(what.to_owned()));
    tracing::info!(name, by = caller.name, "a key was {what}");
}
