//! Operator tokens by name: made, rotated, revoked. A token is shown once.

use actix_web::web::{Data, Json, Path};
use actix_web::{HttpMessage, HttpRequest, HttpResponse};
use kanzlei_api::operators::{Issued, NewOperator, Operator, Operators, Rotation};
use kanzlei_lang::document::reader::is_document_name;
use kanzlei_model::role::Role;
use kanzlei_model::time::Span;
use kanzlei_runtime::clock::now;
use kanzlei_store::access::MOST_TOKENS;

use super::auth::{Caller, made};
use crate::App;
use crate::error::{Error, Result};

/// The longest time until a token expires, in days.
const LONGEST: u32 = 3650;

/// `GET /operators`: every token with its last use.
pub async fn list(app: Data<App>, request: HttpRequest) -> Result<HttpResponse> {
    let caller = request.extensions().get::<Caller>().map(|caller| caller.name.clone());
    let operators = app.store.tokens().await?.into_iter().map(|token| Operator {
        yours: Some(&token.name) == caller.as_ref(),
        name: token.name,
        prefix: token.prefix,
        created: token.created,
        expires: token.expires,
        used: token.used,
        role: token.role,
    });
    Ok(HttpResponse::Ok().json(Operators { operators: operators.collect() }))
}

/// `POST /operators`: makes a token for a name.
pub async fn add(app: Data<App>, request: HttpRequest, body: Json<NewOperator>) -> Result<HttpResponse> {
    if !is_document_name(&body.name) {
        let detail = "lower-case letters, digits and hyphens, beginning with a letter: `berit`";
        return Err(Error::problem(422, "Not a name for an operator", detail));
    }
    let (token, row) = made(&body.name, expires(body.days)?, body.role.unwrap_or(Role::Operator));
    if !app.store.add_token(&row).await? {
        let detail = format!(
            "there is a token of `{0}` already; `kanzlei operators rotate {0}` replaces it ({MOST_TOKENS} tokens at most)",
            body.name
        );
        return Err(Error::problem(409, "The token was not made", detail));
    }
    changed(&app, &request, &format!("made, with the role {}", row.role.name()), &body.name).await;
    Ok(HttpResponse::Created().json(Issued { name: row.name, token, expires: row.expires }))
}

/// `POST /operators/{name}/rotate`: replaces a token; the old one and its sessions end.
pub async fn rotate(
    app: Data<App>,
    request: HttpRequest,
    name: Path<String>,
    body: Json<Rotation>,
) -> Result<HttpResponse> {
    let (token, row) = made(&name, expires(body.days)?, Role::Operator);
    if !app.store.replace_token(&row).await? {
        return Err(Error::not_found(format!("there is no token of `{name}`")));
    }
    changed(&app, &request, "rotated", &name).await;
    Ok(HttpResponse::Ok().json(Issued { name: row.name, token, expires: row.expires }))
}

/// `DELETE /operators/{name}`: removes a token and ends its sessions; another that is valid must remain.
pub async fn revoke(app: Data<App>, request: HttpRequest, name: Path<String>) -> Result<HttpResponse> {
    let tokens = app.store.tokens().await?;
    let valid = |token: &&kanzlei_store::access::Token| token.expires.is_none_or(|expires| expires > now());
    if !tokens.iter().filter(valid).any(|token| token.name != *name && token.role == Role::Operator) {
        let detail = "it is the last one that is valid; make another first: `kanzlei operators add NAME`";
        return Err(Error::problem(409, "The token was not revoked", detail));
    }
    if !app.store.remove_token(&name).await? {
        return Err(Error::not_found(format!("there is no token of `{name}`")));
    }
    changed(&app, &request, "revoked", &name).await;
    Ok(HttpResponse::NoContent().finish())
}

pub(super) fn expires(days: Option<u32>) -> Result<Option<kanzlei_model::time::Timestamp>> {
    match days {
        None => Ok(None),
        Some(days @ 1..=LONGEST) => Ok(Some(now() + Span::from_days(i64::from(days)))),
        Some(days) => {
            let detail = format!("it expires after 1 to {LONGEST} days, not after {days}");
            Err(Error::problem(422, "The time is out of range", detail))
        }
    }
}

/// Forgets what is known of tokens, and logs who changed one.
async fn changed(app: &App, request: &HttpRequest, what: &str, name: &str) {
    app.tokens.forget();
    if let Some(caller) = request.extensions().get::<Caller>() {
        caller.notes.changed(format!("operator {name}"), None, Some(what.to_owned()));
        tracing::info!(name, by = caller.name, "an operator token was {what}");
    }
}
