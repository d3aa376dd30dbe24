//! Callers with a token (JWT): verified with the keys of its issuer before anything else of the request is read.

use std::sync::Arc;

use actix_web::HttpRequest;
use base64::Engine;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use kanzlei_model::caller::Caller as Known;
use kanzlei_model::problem::Problem;
use kanzlei_runtime::live::Live;
use kanzlei_runtime::tokens::Rejected;

use super::access::{Caller, bearer, refused};
use super::refusal::Refusal;
use crate::App;

/// The caller that a request's token names.
///
/// # Errors
/// 401 without a valid token, 503 while the keys of its issuer are not known.
pub async fn caller(app: &App, request: &HttpRequest, live: &Arc<Live>, issuer: &str) -> Result<Caller, Refusal> {
    let Some(token) = bearer(request) else {
        let detail = format!("send one of the issuer `{issuer}` as `Authorization: Bearer TOKEN`");
        return Err(refused(401, "A token is needed", &detail, "Bearer"));
    };
    let wrong = |why: &str| refused(401, "The token is not valid", why, "Bearer error=\"invalid_token\"");
    let Some(issuer) = live.issuers.get(issuer) else {
        return Err(wrong("its issuer is no longer known here"));
    };
    match app.issuers.verify(&app.effects, live, issuer, token).await {
        Ok(valid) => {
            let name = format!("{}/{}", issuer.name, valid.subject);
            let known = Known { name: Some(name), claims: Some(valid.claims), ..Known::default() };
            Ok(Caller { known, key: None, token: true, allowance: issuer.allowance.clone() })
        }
        Err(Rejected::Token(why)) => Err(wrong(&why)),
        Err(Rejected::UnknownKey) => Err(wrong("its issuer has no such key")),
        Err(Rejected::NoKeys) => {
            let problem = Problem::new(503, "The token cannot be verified").detail("try again in a moment");
            Err(Refusal { retry_after: Some(10), ..problem.into() })
        }
    }
}

/// The name of the issuer that an unverified token states.
pub fn issuer_of(live: &Live, token: &str) -> Option<String> {
    let claims = URL_SAFE_NO_PAD.decode(token.split('.').nth(1)?).ok()?;
    let claims: serde_json::Value = serde_json::from_slice(&claims).ok()?;
    let iss = claims.get("iss")?.as_str()?;
    live.issuers.values().find(|issuer| issuer.iss == iss).map(|issuer| issuer.name.clone())
}
