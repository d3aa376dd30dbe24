//! Renews the lease on a thread and a connection of its own, so that a busy process keeps its jobs as long as it
//! lives.

use std::sync::Arc;
use std::time::{Duration, Instant};

use kanzlei_store::Store;
use tokio::sync::{mpsc, oneshot};
use tokio_util::sync::CancellationToken;
use uuid::Uuid;

use super::shared::Shared;
use crate::clock::now;

/// The pause before a failed renewal is retried.
const RETRY: Duration = Duration::from_millis(200);

/// Everything that the thread needs.
pub struct Renewal {
    /// Addresses of the database.
    pub urls: String,
    /// The worker whose lease it is.
    pub worker: Uuid,
    /// The lease and the records.
    pub shared: Arc<Shared>,
    /// Receives the time of a renewal that found this worker unregistered: others declared it dead.
    pub dead: mpsc::Sender<Instant>,
    /// Ends the renewal.
    pub stop: CancellationToken,
}

impl Renewal {
    /// Starts the thread; the returned future ends with it.
    pub fn start(self) -> std::io::Result<oneshot::Receiver<()>> {
        let (alive, ended) = oneshot::channel();
        std::thread::Builder::new().name("lease".into()).spawn(move || {
            let _alive = alive;
            match tokio::runtime::Builder::new_current_thread().enable_all().build() {
                Ok(runtime) => runtime.block_on(self.run()),
                Err(error) => tracing::error!(%error, "the lease cannot be renewed"),
            }
        })?;
        Ok(ended)
    }

    async fn run(self) {
        // The pool belongs to the runtime of this thread.
        let store = match Store::connect(&self.urls, 1) {
            Ok(store) => store,
            Err(error) => return tracing::error!(%error, "the lease cannot be renewed"),
        };
        let length = self.shared.lease.length;
        loop {
            let sent = Instant::now();
            let expires = now() + length;
            let renewed = tokio::select! {
                renewed = tokio::time::timeout(length / 4, store.heartbeat(self.worker, expires)) => renewed,
                () = self.stop.cancelled() => break,
            };
            let pause = match renewed {
                Ok(Ok(true)) => {
                    self.shared.lease.renewed(sent);
                    length / 4
                }
                Ok(Ok(false)) => {
                    // The worker registers again; until then there is nothing to renew.
                    let _ = self.dead.try_send(sent);
                    RETRY
                }
                Ok(Err(error)) => {
                    tracing::debug!(%error, "the lease was not renewed");
                    let _ = store.fail_over().await;
                    RETRY
                }
                Err(_) => RETRY,
            };
            tokio::select! {
                () = tokio::time::sleep(pause.saturating_sub(sent.elapsed())) => {}
                () = self.stop.cancelled() => break,
            }
        }
        store.close().await;
    }
}
