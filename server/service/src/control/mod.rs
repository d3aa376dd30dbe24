//! The control listener: the API under `/api/v1` and the console.
//!
//! The command line and the console are its two clients. Callers show an operator token (`Authorization:
//! Bearer`) or a session cookie; with a cookie, requests that change something must also show the
//! session's CSRF token.

mod alerts;
mod assistants;
pub mod audit;
pub mod auth;
mod changes;
mod coming;
mod console;
mod databases;
mod deliveries;
mod deploys;
mod drafts;
pub mod erase;
mod examples;
mod forecast;
mod gradual;
mod holds;
pub mod hosts;
mod issuers;
mod jobs;
mod keys;
mod lanes;
pub mod language;
mod late;
mod libraries;
mod log;
pub mod metrics;
pub mod openid;
mod operators;
mod overview;
pub mod previews;
mod pseudonyms;
mod record;
mod refusals;
mod rehearsals;
mod rename;
mod repair;
mod requests;
pub mod retraces;
mod roles;
pub mod rotation;
mod runs;
pub mod scope;
pub mod scratch;
mod secrets;
mod services;
mod sessions;
mod settings;
mod statistics;
mod status;
mod stepwise;
mod timetables;
pub mod transfer;
pub mod trials;
mod unchanged;
mod usage;
mod watches;
mod workflows;

use kanzlei_lang::document::service::pace_of;
use kanzlei_model::run::RunState;
use uuid::Uuid;

use crate::App;
use crate::error::{Error, Result};
use std::time::Duration;

use actix_web::http::header;
use actix_web::middleware::{DefaultHeaders, from_fn};
use actix_web::web;

pub use auth::first_token;
pub use changes::Operations;

/// What a word of a path stands for.
fn word<T: serde::de::DeserializeOwned>(text: &str) -> Option<T> {
    serde_json::from_value(serde_json::Value::from(text)).ok()
}

/// The largest request to the control API: all documents of a deploy.
const LARGEST: usize = 32 << 20;

/// Header fields of answers that are for programs: kept nowhere, shown in no page.
fn guarded() -> DefaultHeaders {
    DefaultHeaders::new()
        .add((header::CACHE_CONTROL, "no-store"))
        .add((header::X_CONTENT_TYPE_OPTIONS, "nosniff"))
        .add((header::REFERRER_POLICY, "no-referrer"))
        .add((header::X_FRAME_OPTIONS, "DENY"))
        .add((header::CONTENT_SECURITY_POLICY, "default-src 'none'; frame-ancestors 'none'"))
}

pub fn configure(config: &mut web::ServiceConfig) {
    config.service(
        web::scope("/api/v1")
            .wrap(guarded())
            .app_data(web::JsonConfig::default().limit(LARGEST).error_handler(|error, _| {
                crate::error::Error::problem(400, "Malformed body", error.to_string()).into()
            }))
            .app_data(web::QueryConfig::default().error_handler(|error, _| {
                crate::error::Error::problem(400, "Malformed query", error.to_string()).into()
            }))
            .wrap(from_fn(hosts::check))
            .route("/session", web::post().to(auth::sign_in))
            .route("/sign-in", web::get().to(openid::offered))
            .service(
                web::scope("")
                    .wrap(from_fn(unchanged::tagged))
                    .wrap(from_fn(auth::require))
                    .route("/session", web::get().to(auth::session))
                    .route("/session", web::delete().to(auth::sign_out))
                    .route("/sessions", web::get().to(sessions::list))
                    .route("/sessions", web::delete().to(sessions::end_all))
                    .route("/sessions/{id}", web::delete().to(sessions::end))
                    .route("/audit", web::get().to(audit::list))
                    .route("/status", web::get().to(status::status))
                    .route("/restoration", web::delete().to(status::resume))
                    .route("/check", web::post().to(deploys::check))
                    .route("/deploys", web::post().to(deploys::deploy))
                    .route("/drafts", web::get().to(drafts::list))
                    .route("/drafts/{kind}/{name}", web::get().to(drafts::show))
                    .route("/drafts/{kind}/{name}", web::put().to(drafts::save))
                    .route("/drafts/{kind}/{name}", web::delete().to(drafts::discard))
                    .route("/revisions/{kind}/{name}", web::get().to(drafts::revisions))
                    .route("/revisions/{kind}/{name}/{number}", web::get().to(drafts::revision_text))
                    .route("/compare", web::post().to(drafts::compared))
                    .route("/export", web::get().to(transfer::export))
                    .route("/kept/{workflow}", web::get().to(transfer::kept))
                    .route("/kept/{workflow}", web::put().to(transfer::keep))
                    .route("/retraces", web::post().to(retraces::retraced))
                    .route("/rehearsals", web::post().to(rehearsals::rehearse))
                    .route("/previews", web::post().to(previews::open))
                    .route("/previews", web::get().to(previews::list))
                    .route("/previews/{id}", web::delete().to(previews::close))
                    .route("/trials", web::post().to(trials::run))
                    .route("/trials", web::get().to(trials::kept::list))
                    .route("/trials/{id}", web::get().to(trials::kept::show))
                    .route("/trials/{id}/decisions", web::post().to(stepwise::decide))
                    .route("/trials/{id}/case", web::get().to(trials::kept::case))
                    .route("/trials/{id}/case", web::post().to(trials::kept::add_case))
                    .route("/language/diagnostics", web::post().to(language::diagnostics))
                    .route("/language/completion", web::post().to(language::completion))
                    .route("/language/hover", web::post().to(language::hovered))
                    .route("/language/definition", web::post().to(language::definition))
                    .route("/language/references", web::post().to(language::references))
                    .route("/language/rename", web::post().to(language::rename))
                    .route("/language/outline", web::post().to(language::outlined))
                    .route("/language/scope", web::post().to(language::scope_of))
                    .route("/language/begin", web::post().to(language::begun))
                    .route("/language/service", web::post().to(language::described))
                    .route("/language/sheet", web::post().to(language::composed))
                    .route("/language/offers", web::post().to(language::offered))
                    .route("/language/values", web::post().to(language::chosen))
                    .route("/language/evaluate", web::post().to(language::evaluated))
                    .route("/language/page", web::post().to(language::filled))
                    .route("/language/extract", web::post().to(language::extracted))
                    .route("/language/edit", web::post().to(language::changed))
                    .route("/language/findings", web::get().to(language::findings))
                    .route("/workflows", web::get().to(workflows::workflows))
                    .route("/workflows/{name}", web::get().to(workflows::workflow))
                    .route("/workflows/{name}/rename", web::post().to(rename::rename))
                    .route("/gradual", web::get().to(gradual::list))
                    .route("/workflows/{name}/gradual", web::get().to(gradual::show))
                    .route("/workflows/{name}/gradual", web::put().to(gradual::change))
                    .route("/workflows/{name}/gradual/finish", web::post().to(gradual::finish))
                    .route("/workflows/{name}/gradual/take-back", web::post().to(gradual::take_back))
                    .route("/workflows/{name}/statistics", web::get().to(statistics::statistics))
                    .route("/workflows/{name}", web::delete().to(workflows::retire))
                    .route("/log", web::get().to(log::show))
                    .route("/log", web::put().to(log::change))
                    .route("/overview", web::get().to(overview::overview))
                    .route("/watches", web::get().to(watches::list))
                    .route("/issuers", web::get().to(issuers::issuers))
                    .route("/mcp", web::route().to(assistants::message))
                    .route("/examples", web::get().to(examples::list))
                    .route("/examples/{name}", web::get().to(examples::show))
                    .route("/libraries", web::get().to(libraries::libraries))
                    .route("/libraries/{name}", web::delete().to(libraries::retire))
                    .route("/services", web::get().to(services::services))
                    .route("/services/{name}", web::get().to(services::service))
                    .route("/openapi.json", web::get().to(status::control_api))
                    .route("/openapi", web::get().to(status::public_api))
                    .route("/services/{name}", web::delete().to(services::retire_service))
                    .route("/settings", web::get().to(settings::list))
                    .route("/databases", web::get().to(databases::list))
                    .route("/databases/{name}", web::get().to(databases::show))
                    .route("/databases/{name}/description", web::get().to(databases::describe))
                    .route("/databases/{name}/prepare", web::post().to(databases::prepare))
                    .route("/usage", web::get().to(usage::report))
                    .route("/keys", web::get().to(keys::list))
                    .route("/keys", web::post().to(keys::add))
                    .route("/keys/{name}/rotate", web::post().to(keys::rotate))
                    .route("/keys/{name}", web::delete().to(keys::revoke))
                    .route("/operators", web::get().to(operators::list))
                    .route("/operators", web::post().to(operators::add))
                    .route("/operators/{name}/rotate", web::post().to(operators::rotate))
                    .route("/operators/{name}", web::delete().to(operators::revoke))
                    .route("/secrets/rotation", web::post().to(rotation::begin))
                    .route("/secrets/rotation", web::get().to(rotation::show))
                    .route("/secrets", web::get().to(secrets::list))
                    .route("/secrets/{name}", web::put().to(secrets::set))
                    .route("/secrets/{name}", web::delete().to(secrets::remove))
                    .route("/scratch", web::post().to(scratch::lend))
                    .route("/scratch/{name}", web::post().to(scratch::ask))
                    .route("/scratch/{name}", web::delete().to(scratch::discard))
                    .route("/requests", web::post().to(requests::send))
                    .route("/runs", web::get().to(runs::runs))
                    .route("/runs/{id}", web::get().to(runs::run))
                    .route("/runs/{id}/case", web::get().to(record::case))
                    .route("/runs/{id}/case", web::post().to(record::add_case))
                    .route("/runs/{id}/scope", web::get().to(scope::scope))
                    .route("/runs/{id}/comparison/{other}", web::get().to(runs::comparison))
                    .route("/refusals", web::get().to(refusals::list))
                    .route("/deliveries", web::get().to(deliveries::list))
                    .route("/deliveries/process", web::post().to(deliveries::process))
                    .route("/deliveries/input", web::post().to(deliveries::propose))
                    .route("/deliveries/sign", web::post().to(deliveries::sign))
                    .route("/deliveries/{id}", web::get().to(deliveries::show))
                    .route("/deliveries/{id}/case", web::post().to(record::add_case_of_delivery))
                    .route("/jobs", web::get().to(jobs::list))
                    .route("/jobs", web::post().to(jobs::start))
                    .route("/jobs/actions", web::post().to(changes::act))
                    .route("/jobs/actions/{id}", web::get().to(changes::operation))
                    .route("/jobs/{id}", web::get().to(jobs::show))
                    .route("/jobs/{id}/input", web::put().to(repair::change_input))
                    .route("/jobs/{id}/callback", web::put().to(repair::answer))
                    .route("/pseudonyms/{name:.+}", web::get().to(pseudonyms::show))
                    .route("/erasures", web::post().to(erase::erase))
                    .route("/erasures/{id}", web::get().to(erase::show))
                    .route("/holds", web::get().to(holds::list))
                    .route("/holds/{workflow}", web::put().to(holds::hold))
                    .route("/holds/{workflow}", web::delete().to(holds::release))
                    .route("/groups/{id}", web::get().to(jobs::group))
                    .route("/lanes", web::get().to(lanes::list))
                    .route("/lanes/samples", web::get().to(lanes::samples))
                    .route("/lanes/{name}/forecast", web::get().to(forecast::forecast))
                    .route("/lanes/{name}/{action}", web::post().to(lanes::change))
                    .route("/coming", web::get().to(coming::coming))
                    .route("/alerts", web::get().to(alerts::list))
                    .route("/alerts/{name}", web::delete().to(alerts::retire))
                    .route("/alerts/{name}/silence", web::put().to(alerts::silence))
                    .route("/alerts/{name}/silence", web::delete().to(alerts::unsilence))
                    .route("/timetables", web::get().to(timetables::list))
                    .route("/timetables/{workflow}/{number}/{action}", web::post().to(timetables::change))
                    .default_service(web::to(status::nothing)),
            ),
    );
    config.service(
        web::scope("/sign-in")
            .wrap(from_fn(hosts::check))
            .route("/openid", web::get().to(openid::begin))
            .route("/openid/return", web::get().to(openid::returned)),
    );
    config.service(
        web::scope("/~")
            .route("/live", web::get().to(async || metrics::live()))
            .route("/ready", web::get().to(async |app: web::Data<App>| metrics::ready(&app))),
    );
    config.service(
        web::resource("/metrics")
            .wrap(from_fn(auth::require))
            .wrap(from_fn(hosts::check))
            .wrap(guarded())
            .route(web::get().to(metrics::metrics)),
    );
    config.default_service(web::to(console::file));
}

/// The state of a name, for filters.
pub fn state_named(name: &str) -> Result<RunState> {
    RunState::of(name).ok_or_else(|| {
        let near = kanzlei_lang::suggest::nearest(name, RunState::NAMES.iter().copied());
        let hint = near.map_or_else(|| RunState::NAMES.join(", "), |near| format!("did you mean `{near}`?"));
        Error::problem(422, "Unknown state", format!("there is no state `{name}`; {hint}"))
    })
}

/// A pace that a caller gives: a count and an interval.
pub fn pace_given(text: &str) -> Result<(u32, Duration)> {
    let wrong = || Error::problem(422, "Invalid pace", format!("`{text}` is not a pace such as `10/s` or `100/min`"));
    pace_of(text).ok_or_else(wrong)
}

/// Where clients poll a job.
pub fn url_of(app: &App, id: Uuid) -> String {
    format!("{}/~/jobs/{id}", app.public_url)
}

/// The line that polls a job in a terminal.
pub fn poll_line(app: &App, id: Uuid) -> String {
    format!("curl -s '{}' -H 'Prefer: wait=30'", url_of(app, id))
}
