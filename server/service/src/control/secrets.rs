//! Secrets by name: set, listed and removed, never shown.

use std::collections::BTreeMap;

use actix_web::HttpResponse;
use actix_web::web::{Data, Json, Path};
use kanzlei_api::secrets::{NewSecret, Secret, Secrets};
use kanzlei_lang::document::purpose::Purpose;
use kanzlei_lang::document::reader::is_document_name;
use kanzlei_runtime::secrets::{LONGEST, MOST_PURPOSES};

use super::auth::Caller;
use crate::App;
use crate::error::{Error, Result};

/// `GET /secrets`: names, when each was set, which services use it.
pub async fn list(app: Data<App>) -> Result<HttpResponse> {
    let kept = app.effects.store.secrets().await?;
    let live = app.live.load();
    let mut users: BTreeMap<&str, Vec<String>> = BTreeMap::new();
    for service in live.services.values() {
        for (secret, _) in service.secrets() {
            users.entry(&secret.text).or_default().push(service.name.clone());
        }
    }
    let readable = app.effects.secrets.purposes();
    let listed = kept.into_iter().map(|secret| Secret {
        set: secret.changed,
        readable: readable.contains_key(&secret.name),
        purposes: secret.purposes.split_whitespace().map(str::to_owned).collect(),
        services: users.remove(secret.name.as_str()).unwrap_or_default(),
        name: secret.name,
    });
    Ok(HttpResponse::Ok().json(Secrets { secrets: listed.collect() }))
}

/// `PUT /secrets/{name}`: sets or replaces a secret.
pub async fn set(app: Data<App>, caller: Caller, name: Path<String>, body: Json<NewSecret>) -> Result<HttpResponse> {
    let purposes = app.effects.secrets.purposes();
    let before = purposes.get(name.as_str()).map(|purposes| {
        let purposes: Vec<String> = purposes.iter().map(ToString::to_string).collect();
        format!("set, for {}", purposes.join(", "))
    });
    caller.notes.changed(format!("secret {name}"), before, Some("another value".into()));
    if !is_document_name(&name) {
        let detail = "lower-case letters, digits and hyphens, beginning with a letter: `rates-token`";
        return Err(Error::problem(422, "Not a name for a secret", detail));
    }
    let value = &body.value;
    // Certificates and their keys have several lines; they are never sent.
    let several_lines = value.contains(['\r', '\n']) && !value.starts_with("-----BEGIN ");
    if value.is_empty() || value.len() > LONGEST || value.contains('\0') || several_lines {
        let detail = format!("a secret is one line of 1 to {LONGEST} bytes, or a certificate with its key in PEM");
        return Err(Error::problem(422, "Not a secret", detail));
    }
    let read = |text: &String| text.parse::<Purpose>();
    let purposes = body.purposes.iter().map(read).collect::<std::result::Result<Vec<_>, _>>();
    let purposes = purposes.map_err(|why| Error::problem(422, "Not a purpose of a secret", why))?;
    if body.purposes.iter().map(|text| text.len() + 1).sum::<usize>() > MOST_PURPOSES {
        let detail = format!("all purposes have at most {MOST_PURPOSES} bytes");
        return Err(Error::problem(422, "Too many purposes of a secret", detail));
    }
    app.effects.secrets.set(&app.effects.store, &name, value, &purposes).await?;
    tracing::info!(name = name.as_str(), "a secret was set");
    Ok(HttpResponse::NoContent().finish())
}

/// `DELETE /secrets/{name}`: removes a secret that no live service uses.
pub async fn remove(app: Data<App>, caller: Caller, name: Path<String>) -> Result<HttpResponse> {
    caller.notes.changed(format!("secret {name}"), Some("set".into()), Some("removed".into()));
    let live = app.live.load();
    let user = live.services.values().find(|service| service.secrets().any(|(secret, _)| secret.text == *name));
    if let Some(service) = user {
        let detail = format!("the service `{}` needs it; deploy it without, or retire it", service.name);
        return Err(Error::problem(409, "The secret is in use", detail));
    }
    if let Some(workflow) = live.workflows.values().find(|workflow| workflow.plan.secrets().contains(name.as_str())) {
        let detail = format!(
            "the workflow `{}` signs or proves messages with it; deploy it without, or retire it",
            workflow.plan.name
        );
        return Err(Error::problem(409, "The secret is in use", detail));
    }
    if !app.effects.store.remove_secret(&name).await? {
        return Err(Error::not_found(format!("there is no secret `{name}`")));
    }
    app.effects.secrets.load(&app.effects.store).await?;
    tracing::info!(name = name.as_str(), "a secret was removed");
    Ok(HttpResponse::NoContent().finish())
}
