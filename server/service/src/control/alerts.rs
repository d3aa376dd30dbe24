//! Alerts: how they stand over all processes, when they lasted, and their silences.

use std::collections::{BTreeMap, HashMap};
use std::time::Duration;

use actix_web::HttpResponse;
use actix_web::web::{Data, Json, Path};
use kanzlei_api::alerts::{Alert, AlertSilence, AlertSpan, AlertState, Alerts, NewSilence};
use kanzlei_compiler::plan;
use kanzlei_engine::alert::is_quiet;
use kanzlei_model::time::{Span, Timestamp};
use kanzlei_runtime::clock::now;
use kanzlei_runtime::live::Live;
use kanzlei_runtime::worker::alerts::definition;
use kanzlei_store::alerts::{self as records, AlertRow, Silence};

use super::auth::Caller;
use crate::App;
use crate::error::{Error, Result};

/// Times that are shown.
const SPANS: u32 = 50;
/// The longest silence.
const LONGEST: Duration = Duration::from_secs(30 * 86_400);
/// Characters of a reason.
const REASON: usize = 300;

/// `GET /alerts`.
pub async fn list(app: Data<App>) -> Result<HttpResponse> {
    let live = app.live.load_full();
    let mut rows: HashMap<String, AlertRow> =
        app.store.alerts().await?.into_iter().map(|row| (row.name.clone(), row)).collect();
    let at = now();
    let alerts = live.alerts.values().map(|alert| shown(alert, rows.remove(&alert.name), at)).collect();
    let round = app.store.last_alert_round().await?;
    let spans = app.store.alert_spans(None, SPANS).await?;
    Ok(HttpResponse::Ok().json(Alerts {
        alerts,
        checked: (round > Timestamp::EPOCH).then_some(round),
        spans: spans.into_iter().map(span).collect(),
    }))
}

fn shown(alert: &plan::Alert, row: Option<AlertRow>, at: Timestamp) -> Alert {
    let current = definition(alert);
    let row = row.filter(|row| row.definition == current).unwrap_or_default();
    let state = match (row.began, row.holds_since) {
        (Some(_), _) => AlertState::On,
        (None, Some(_)) => AlertState::Rising,
        (None, None) => AlertState::Off,
    };
    Alert {
        name: alert.name.clone(),
        about: alert.about.clone(),
        kind: alert.subject.name().into(),
        of: alert.of.clone(),
        when: alert.condition().into(),
        over_us: alert.over.into(),
        state,
        since: row.began.or(row.holds_since),
        announced: row.announced,
        measures: measures(&row.measures),
        fault: row.fault,
        run: alert.run.clone(),
        group: alert.group.clone(),
        quiet: alert.quiet.as_ref().is_some_and(|quiet| is_quiet(quiet, at)),
        silence: row.silence.filter(|silence| silence.until > at).map(|silence| AlertSilence {
            until: silence.until,
            by: silence.by,
            reason: silence.reason,
        }),
    }
}

fn span(span: records::AlertSpan) -> AlertSpan {
    let records::AlertSpan { alert, began, ended, measures: kept, notices } = span;
    AlertSpan { alert, began, ended, measures: measures(&kept), notices }
}

fn measures(json: &str) -> BTreeMap<String, f64> {
    serde_json::from_str(json).unwrap_or_default()
}

/// `DELETE /alerts/{name}`: retires an alert; what lasts of it ends.
pub async fn retire(app: Data<App>, caller: Caller, name: Path<String>) -> Result<HttpResponse> {
    known(&app.live.load(), &name)?;
    caller.notes.changed(format!("alert {name}"), None, Some("retired".into()));
    super::workflows::retire_one(&app, "alert", &name, &caller.name).await
}

/// Refuses to retire what alerts name.
pub(super) fn named_by_none(live: &Live, names: impl Fn(&plan::Alert) -> bool) -> Result<()> {
    let found: Vec<&str> = live.alerts.values().filter(|alert| names(alert)).map(|alert| alert.name.as_str()).collect();
    match found.is_empty() {
        true => Ok(()),
        false => {
            let detail = format!("alerts name it: {}; retire them first", found.join(", "));
            Err(Error::problem(409, "It is in use", detail))
        }
    }
}

/// `PUT /alerts/{name}/silence`.
pub async fn silence(
    app: Data<App>,
    caller: Caller,
    name: Path<String>,
    asked: Json<NewSilence>,
) -> Result<HttpResponse> {
    let NewSilence { span, reason } = asked.into_inner();
    let wrong = |detail: String| Error::problem(422, "Not such a silence", detail);
    known(&app.live.load(), &name)?;
    let long = kanzlei_model::duration::parse(&span).map_err(|why| wrong(format!("`for`: {why}")))?;
    if long > LONGEST || long.is_zero() {
        return Err(wrong(format!("`for` is more than nothing and at most 30 days; it is {span}")));
    }
    let reason = reason.trim();
    if reason.is_empty() || reason.chars().count() > REASON {
        return Err(wrong(format!("`reason` says why, in at most {REASON} characters")));
    }
    let silence = Silence { until: now() + Span::from(long), by: caller.name.clone(), reason: reason.to_owned() };
    caller.notes.changed(format!("silence of the alert {name}"), None, Some(format!("for {span}: {reason}")));
    if !app.store.silence_alert(&name, Some(&silence)).await? {
        return Err(not_yet(&name));
    }
    tracing::info!(alert = name.as_str(), by = caller.name, "an alert is silenced");
    Ok(HttpResponse::Ok().json(AlertSilence { until: silence.until, by: silence.by, reason: silence.reason }))
}

/// `DELETE /alerts/{name}/silence`.
pub async fn unsilence(app: Data<App>, caller: Caller, name: Path<String>) -> Result<HttpResponse> {
    known(&app.live.load(), &name)?;
    caller.notes.changed(format!("silence of the alert {name}"), None, Some("ended".into()));
    if !app.store.silence_alert(&name, None).await? {
        return Err(not_yet(&name));
    }
    Ok(HttpResponse::NoContent().finish())
}

fn not_yet(name: &str) -> Error {
    let detail = format!("`{name}` was not looked at yet; a process that works looks every ten seconds");
    Error::problem(409, "Not looked at yet", detail)
}

fn known(live: &Live, name: &str) -> Result<()> {
    if live.alerts.contains_key(name) {
        return Ok(());
    }
    let near = kanzlei_lang::suggest::nearest(name, live.alerts.keys().map(String::as_str));
    let hint = near.map(|near| format!("; did you mean `{near}`?")).unwrap_or_default();
    Err(Error::not_found(format!("no alert `{name}` is live{hint}")))
}
