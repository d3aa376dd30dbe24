//! Issuers of tokens, and whether their keys are known.

use actix_web::HttpResponse;
use actix_web::web::Data;
use kanzlei_api::issuers::{IssuerLine, Issuers};
use kanzlei_model::time::Span;
use kanzlei_runtime::clock::now;

use crate::App;

/// `GET /issuers`: live issuers, with the keys that this process knows.
pub async fn issuers(app: Data<App>) -> HttpResponse {
    let live = app.live.load_full();
    let lines = live.issuers.values().map(|issuer| {
        let standing = app.issuers.standing(&live, issuer);
        let asks = live.workflows.values().filter(|workflow| workflow.plan.issuers().any(|name| name == issuer.name));
        IssuerLine {
            name: issuer.name.clone(),
            about: issuer.about.clone(),
            iss: issuer.iss.clone(),
            audience: issuer.audience.clone(),
            algorithms: issuer.algorithms.clone(),
            claims: issuer.listed().map(str::to_owned).collect(),
            service: issuer.keys.service().map(|service| service.text.clone()),
            allowance: issuer.allowance.clone(),
            workflows: asks.map(|workflow| workflow.plan.name.clone()).collect(),
            keys: standing.keys as u32,
            read: standing.age.map(|age| now() - Span::from(age)),
            skew_us: issuer.skew.into(),
            trouble: standing.trouble,
        }
    });
    HttpResponse::Ok().json(Issuers { issuers: lines.collect() })
}
