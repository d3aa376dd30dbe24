//! Notices of ended jobs, signed according to Standard Webhooks and retried with growing pauses until the receiver
//! accepts them or [`PAUSES`] are used up.

use std::sync::Arc;
use std::time::Duration;

use kanzlei_lang::document::purpose::Purpose;
use kanzlei_model::time::Span;
use kanzlei_store::queue::Notice;

use crate::clock::now;
use crate::effects::http;
use crate::proof::standard_signature;
use crate::queue::Jobs;

/// Pauses between attempts, in seconds: about nine hours in all.
const PAUSES: [i64; 9] = [5, 30, 120, 300, 900, 1800, 3600, 7200, 18_000];
const POLL: Duration = Duration::from_secs(1);
/// Notices sent in one round, and the timeout of each.
const ROUND: u32 = 50;
const WITHIN: Duration = Duration::from_secs(15);

/// Sends due notices until the process ends.
pub async fn run(jobs: Arc<Jobs>) {
    loop {
        tokio::time::sleep(POLL).await;
        // Postponed for longer than a round lasts, so that no other process claims them meanwhile.
        let until = now() + 2 * WITHIN;
        let Ok(due) = jobs.store.due_notices(now(), until, ROUND).await else { continue };
        let sending = due.iter().map(|notice| send(&jobs, notice));
        futures_util::future::join_all(sending).await;
    }
}

async fn send(jobs: &Jobs, notice: &Notice) {
    let sent = match jobs.secrets.get(&notice.secret, Purpose::Signing) {
        Ok(secret) => {
            let at = now().as_secs();
            let signature = standard_signature(&secret, &notice.job.to_string(), at, notice.body.as_bytes());
            let headers = [
                ("webhook-id", notice.job.to_string()),
                ("webhook-timestamp", at.to_string()),
                ("webhook-signature", signature),
            ];
            http::post(&jobs.network, &notice.url, notice.private, &headers, &notice.body, WITHIN).await
        }
        Err(withheld) => Err(withheld.to_string()),
    };
    let (status, detail) = match sent {
        Ok(status) => (Some(status), (!(200..300).contains(&status)).then(|| format!("answered {status}"))),
        Err(detail) => (None, Some(jobs.secrets.mask(detail))),
    };
    // 410: the receiver wants no further notices.
    let next = match (&detail, status) {
        (None, _) | (_, Some(410)) => None,
        _ => PAUSES.get(notice.attempts as usize).map(|pause| now() + Span::from_secs(*pause)),
    };
    let good = detail.is_none().then(now);
    let detail = detail.map(|detail| detail.chars().take(500).collect::<String>());
    if let Err(error) = jobs.store.notice_attempted(notice.job, next, status, detail.as_deref(), good).await {
        tracing::warn!(%error, "how a notice went could not be written");
    }
}
