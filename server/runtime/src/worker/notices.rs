//! Notices of ended jobs, signed according to Standard Webhooks and retried with growing pauses until the receiver
//! accepts them or [`PAUSES`] are used up.

use std::sync::Arc;
use std::time::Duration;

use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use hmac::{Hmac, Mac};
use kanzlei_lang::document::purpose::Purpose;
use kanzlei_model::time::Span;
use kanzlei_store::queue::Notice;
use sha2::Sha256;

use crate::clock::now;
use crate::effects::http;
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
            let signature = signature(&secret, &notice.job.to_string(), at, &notice.body);
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

/// `v1,` and the HMAC-SHA256 of id, time and body in base64 (Standard Webhooks, symmetric signatures). A
/// secret that begins with `whsec_` is base64, any other is used as it is.
pub fn signature(secret: &str, id: &str, at: i64, body: &str) -> String {
    let key = match secret.strip_prefix("whsec_") {
        Some(encoded) => STANDARD.decode(encoded).unwrap_or_else(|_| secret.as_bytes().to_vec()),
        None => secret.as_bytes().to_vec(),
    };
    let Ok(mut mac) = Hmac::<Sha256>::new_from_slice(&key) else { return String::new() };
    mac.update(format!("{id}.{at}.{body}").as_bytes());
    format!("v1,{}", STANDARD.encode(mac.finalize().into_bytes()))
}

#[cfg(test)]
mod tests {
    #[test]
    fn signatures_are_those_of_the_standard() {
        // The example in the specification.
        let signature = super::signature(
            "whsec_MfKQ9r8GKYqrTwjUPD8ILPZIo2LaLaSw",
            "msg_p5jXN8AQM9LWM0D4loKWxJek",
            1_614_265_330,
            r#"{"test": 2432232314}"#,
        );
        assert_eq!(signature, "v1,g0hM9SsE+OTPJTGt/tmIKtSyZlE3uFJELVlNIOLJ1OE=");
    }
}
