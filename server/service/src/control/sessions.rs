//! Lists and ends sessions of the console.

use actix_web::web::{Data, Path};
use actix_web::{HttpRequest, HttpResponse};
use kanzlei_api::session::{SessionLine, Sessions, SessionsEnded};
use kanzlei_model::role::Role;
use kanzlei_runtime::clock::now;
use kanzlei_runtime::queue::hash;
use kanzlei_store::access::Session;

use super::auth::{Caller, cookie_of};
use crate::App;
use crate::error::{Error, Result};

/// Characters of a hash that name a session.
const ID: usize = 16;

/// Those that somebody may see: an operator all, others their own.
async fn seen(app: &App, caller: &Caller) -> Result<Vec<Session>> {
    let mut sessions = app.store.sessions(None, now()).await?;
    sessions.retain(|session| caller.role == Role::Operator || session.name == caller.name);
    Ok(sessions)
}

/// `GET /sessions`: sessions that have not ended.
pub async fn list(app: Data<App>, request: HttpRequest, caller: Caller) -> Result<HttpResponse> {
    let own = cookie_of(&app, &request).map(|cookie| hash(cookie.value()));
    let lines = seen(&app, &caller).await?.into_iter().map(|session| SessionLine {
        id: session.hash.chars().take(ID).collect(),
        yours: own.as_ref() == Some(&session.hash),
        by_provider: session.token.is_none(),
        name: session.name,
        role: session.role,
        created: session.created,
        expires: session.expires,
        address: session.address,
        agent: session.agent,
    });
    Ok(HttpResponse::Ok().json(Sessions { sessions: lines.collect() }))
}

/// `DELETE /sessions/{id}`: ends a session.
pub async fn end(app: Data<App>, caller: Caller, id: Path<String>) -> Result<HttpResponse> {
    let found =
        seen(&app, &caller).await?.into_iter().find(|session| id.len() == ID && session.hash.starts_with(id.as_str()));
    let Some(session) = found else {
        return Err(Error::not_found(format!("there is no session `{id}`; it has ended, or is somebody else's")));
    };
    app.store.end_session(&session.hash).await?;
    caller.notes.changed(format!("session of {}", session.name), None, None);
    Ok(HttpResponse::NoContent().finish())
}

/// `DELETE /sessions`: signs out everywhere.
pub async fn end_all(app: Data<App>, caller: Caller) -> Result<HttpResponse> {
    let ended = app.store.end_sessions(&caller.name).await?;
    caller.notes.changed(format!("sessions of {}", caller.name), None, None);
    Ok(HttpResponse::Ok().json(SessionsEnded { ended: ended as u32 }))
}
