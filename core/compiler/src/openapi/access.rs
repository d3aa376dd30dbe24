//! Who may call, as OpenAPI describes it: security schemes, and what an operation requires.

use kanzlei_lang::document::access::Access;
use serde_json::{Value as Json, json};

/// The security schemes of an endpoint with their names; a caller uses one of them.
pub(super) fn schemes(access: &Access) -> Vec<(String, Json)> {
    let stands = |within: &str, name: &str, about: &str| json!({"type": "apiKey", "in": within, "name": name, "description": about});
    match access {
        Access::Open => Vec::new(),
        Access::Key(place) => {
            let bearer = json!({"type": "http", "scheme": "bearer", "description": "A key of the service."});
            let header = match &place.header {
                None => ("header".to_owned(), stands("header", "X-Api-Key", "A key of the service.")),
                Some(name) => {
                    (format!("header-{}", name.to_lowercase()), stands("header", name, "A key of the service."))
                }
            };
            let query = place.query.as_ref().map(|name| {
                let about = "A key of the service, for callers that can do nothing else.";
                (format!("query-{}", name.to_lowercase()), stands("query", name, about))
            });
            [("bearer".to_owned(), bearer), header].into_iter().chain(query).collect()
        }
        Access::Jwt(issuer) => {
            let name = &issuer.text;
            let about = format!("A token of the issuer `{name}` (RFC 7519).");
            let scheme = json!({"type": "http", "scheme": "bearer", "bearerFormat": "JWT", "description": about});
            vec![(format!("issuer-{name}"), scheme)]
        }
    }
}

/// What an operation requires: any one of its schemes.
pub(super) fn required(access: &Access) -> Option<Json> {
    let schemes: Vec<Json> = schemes(access).into_iter().map(|(name, _)| json!({name: []})).collect();
    (!schemes.is_empty()).then(|| schemes.into())
}

/// How callers are refused, by status.
pub(super) fn refusals(access: &Access, needs: bool) -> Vec<(&'static str, &'static str)> {
    let mut refusals = match access {
        Access::Open => return Vec::new(),
        Access::Key(_) => vec![("401", "A key is needed"), ("403", "The key does not fit")],
        Access::Jwt(_) => vec![("401", "A token is needed")],
    };
    if needs {
        refusals.push(("403", crate::plan::NOT_ALLOWED));
    }
    refusals
}
