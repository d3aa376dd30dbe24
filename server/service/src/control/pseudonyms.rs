//! Lists for others: pseudonyms in the place of callers, tags and what tells messages apart.

use std::sync::Arc;

use actix_web::HttpResponse;
use actix_web::web::{Data, Path};
use kanzlei_api::keys::Pseudonym;
use kanzlei_runtime::secrets::Secrets;

use crate::App;
use crate::error::{Error, Result};

/// How names are shown in one list.
pub struct Names(Option<Arc<Secrets>>);

impl Names {
    /// As they are, or as pseudonyms where a request asks for them.
    ///
    /// # Errors
    /// Pseudonyms without a key of the secrets.
    pub fn of(app: &App, pseudonyms: Option<bool>) -> Result<Self> {
        if !pseudonyms.unwrap_or(false) {
            return Ok(Names(None));
        }
        let secrets = app.effects.secrets.clone();
        secrets.pseudonym("").ok_or_else(no_key)?;
        Ok(Names(Some(secrets)))
    }

    /// Whether pseudonyms are asked for.
    pub fn hidden(&self) -> bool {
        self.0.is_some()
    }

    pub fn show(&self, name: String) -> String {
        self.0.as_ref().and_then(|secrets| secrets.pseudonym(&name)).unwrap_or(name)
    }
}

/// `GET /pseudonyms/{name}`: the pseudonym of a name, to find it in a list that was passed on.
pub async fn show(app: Data<App>, name: Path<String>) -> Result<HttpResponse> {
    let name = name.into_inner();
    let pseudonym = app.effects.secrets.pseudonym(&name).ok_or_else(no_key)?;
    Ok(HttpResponse::Ok().json(Pseudonym { name, pseudonym }))
}

fn no_key() -> Error {
    let detail = "pseudonyms are made with the key of the secrets; set `secrets.key_file` or `secrets.key`";
    Error::problem(409, "No key", detail.to_owned())
}
