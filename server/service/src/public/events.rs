//! Event streams of jobs (server-sent events).

use std::time::{Duration, Instant};

use actix_web::web::{Bytes, Data};
use actix_web::{HttpRequest, HttpResponse};
use kanzlei_runtime::queue::event;
use uuid::Uuid;

use super::jobs::{followed, job_of};
use super::refusal::Refusal;
use crate::App;

/// An event stream: one event for each change, which carries the whole document. Its id is the number of
/// changes so far, so a client that reconnects with `Last-Event-ID` receives what it has not seen.
pub async fn events(app: &Data<App>, id: Uuid, request: &HttpRequest) -> Result<HttpResponse, Refusal> {
    let last = request.headers().get("last-event-id").and_then(|v| v.to_str().ok()).and_then(|v| v.parse::<u64>().ok());
    let mut follower = followed(app, id)?;
    let job = job_of(app, &mut follower, id).await?;
    if job.phase.ended() && last.is_some_and(|last| last >= job.changes) {
        // Has an EventSource not reconnect.
        return Ok(HttpResponse::NoContent().finish());
    }
    let app = app.clone();
    let stream = futures_util::stream::unfold(Some((follower, last, false)), move |state| {
        let app = app.clone();
        async move {
            let (mut follower, mut last, begun) = state?;
            if !begun {
                // The first line is sent at once, so that the client knows the stream is open.
                return Some((Bytes::from_static(b"retry: 2000\n\n"), Some((follower, last, true))));
            }
            loop {
                // The client comes back, by then to a process that runs.
                if follower.stopping() {
                    return Some((Bytes::from_static(b"retry: 1000\n: the service stops; come back\n\n"), None));
                }
                match follower.job().await {
                    Ok(Some(job)) if last.is_none_or(|last| last < job.changes) => {
                        last = Some(job.changes);
                        let (document, _) = app.jobs.document(&job).await;
                        let ended = job.phase.ended();
                        let name = if ended { "ended" } else { "changed" };
                        let bytes = event(job.changes, name, &serde_json::to_string(&document).unwrap_or_default());
                        return Some((bytes, (!ended).then_some((follower, last, true))));
                    }
                    Ok(Some(_)) => {}
                    Ok(None) => return None,
                    Err(_) => tokio::time::sleep(Duration::from_millis(500)).await,
                }
                let before = Instant::now();
                follower.changed(app.alive).await;
                if before.elapsed() >= app.alive {
                    return Some((Bytes::from_static(b": still there\n\n"), Some((follower, last, true))));
                }
            }
        }
    });
    let stream = futures_util::StreamExt::map(stream, Ok::<_, std::io::Error>);
    Ok(HttpResponse::Ok()
        .content_type("text/event-stream")
        .insert_header(("Cache-Control", "no-store"))
        .insert_header(("X-Accel-Buffering", "no"))
        .streaming(stream))
}
