//! What keys asked for, by hour, and what they have left of their allowances.

use actix_web::HttpResponse;
use actix_web::web::{Data, Query};
use kanzlei_api::keys::{MeterRow, PolicyLeft, UsageFilter, UsageReport, UsageRow};
use kanzlei_compiler::plan::allowance::{Meter, Policy};
use kanzlei_model::time::{Span, Timestamp};
use kanzlei_runtime::clock::now;

use super::pseudonyms::Names;
use crate::App;
use crate::error::Result;

/// The most rows and meters of one answer.
const MOST: u32 = 20_000;
const MOST_METERS: u32 = 2_000;
/// The most days, and how many by default.
const LONGEST: u32 = 400;
const USUAL: u32 = 7;

/// `GET /usage`: requests of keys by hour and workflow.
pub async fn report(app: Data<App>, which: Query<UsageFilter>) -> Result<HttpResponse> {
    let which = which.into_inner();
    let names = Names::of(&app, which.pseudonyms)?;
    let at = now();
    let days = which.days.unwrap_or(USUAL).clamp(1, LONGEST);
    let since = (at - Span::from_days(days.into())).as_secs() / 3600;
    // What waits in this process counts too.
    app.usage.write(&app.store).await;
    let rows = app.store.usage(which.key.as_deref(), since, MOST).await?;
    let cut = rows.len() as u32 == MOST;
    let usage = rows.into_iter().map(|row| UsageRow {
        key: names.show(row.name),
        workflow: row.workflow,
        hour: Timestamp::from_micros(row.hour * 3_600_000_000),
        requests: row.requests,
        refused: row.refused,
        failed: row.failed,
    });
    let subject = format!("key {}", which.key.as_deref().unwrap_or_default());
    let live = app.live.load();
    let found = app.store.meters(&subject, MOST_METERS).await?;
    let meters = found.into_iter().filter_map(|(name, subject, row)| {
        let key = subject.strip_prefix("key ")?.to_owned();
        let allowance =
            live.allowances.get(&name).filter(|_| which.key.as_ref().is_none_or(|wanted| *wanted == key))?;
        // Taking nothing fills the bucket up to now.
        let mut meter = Meter { bucket: row.bucket, at: row.at, period: row.period, used: row.used };
        let taken = allowance.take(&mut meter, 0, 0, at);
        let counts = [
            allowance.rate.map(|_| (Policy::Rate, taken.left_of_rate, u64::from(allowance.burst))),
            allowance.quota.map(|(count, _)| (Policy::Quota, taken.left_of_quota, count)),
        ];
        let left = counts.into_iter().flatten();
        let left = left.map(|(policy, left, of)| PolicyLeft { policy: allowance.policy(policy).to_owned(), left, of });
        let left = left.collect();
        Some(MeterRow { key: names.show(key), allowance: name, left, used: row.at })
    });
    let (usage, meters) = (usage.collect(), meters.collect());
    Ok(HttpResponse::Ok().json(UsageReport { usage, meters, cut }))
}
