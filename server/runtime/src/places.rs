//! Runs of an endpoint that may not overlap, over all processes: each holds one of so many places.
//!
//! A process keeps a place for a second after the run that had it, so that a busy endpoint asks the database rarely. A run that finds all
//! places held, some of them by other processes, waits [`LEFT`] for one that is kept so. It renews what it
//! holds every [`RENEWED`]; places of a process that ended are free after [`LEASE`]. A process that cannot reach the database while
//! others can keeps its runs: they may overlap with those of others once its lease has expired.

use std::collections::HashMap;
use std::sync::{Arc, Mutex, PoisonError, Weak};
use std::time::{Duration, Instant};

use kanzlei_model::time::Span;
use kanzlei_store::Store;
use tokio::sync::Notify;
use uuid::Uuid;

use crate::clock::now;

/// How long a place is held without being renewed, and how often it is.
const LEASE: Span = Span::from_secs(15);
const RENEWED: Duration = Duration::from_secs(3);
/// How long a place is kept that no run has.
const KEPT: Duration = Duration::from_secs(1);
/// How long a run that may not wait waits all the same for a place that another process keeps unused.
const LEFT: Duration = Duration::from_millis(1600);
/// How often a run that waits asks for a place that another process returns.
const ASKED: Duration = Duration::from_millis(100);

/// The places of this process.
pub struct Places {
    store: Store,
    holder: Uuid,
    /// By name: places that no run has, since when, and who is notified of one that becomes free.
    held: Mutex<HashMap<String, Pool>>,
    own: Weak<Places>,
}

#[derive(Default)]
struct Pool {
    free: Vec<(u32, Instant)>,
    /// Places that runs of this process have.
    out: u32,
    freed: Arc<Notify>,
    /// Of the runs that wait, one at a time asks the records.
    asking: Arc<tokio::sync::Mutex<()>>,
}

/// A place that a run holds; dropping it frees it.
pub struct Place {
    of: Weak<Places>,
    name: String,
    slot: u32,
}

/// Why a run has no place.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum NoPlace {
    /// All are held.
    Full,
    /// The database is unavailable.
    Unavailable,
}

impl Places {
    /// A process that holds none yet.
    pub fn new(store: Store) -> Arc<Self> {
        Arc::new_cyclic(|own| Places { store, holder: Uuid::new_v4(), held: Mutex::default(), own: own.clone() })
    }

    /// Takes one of so many places; waits for it until an instant, where there is one.
    pub async fn enter(&self, name: &str, most: u32, until: Option<Instant>) -> Result<Place, NoPlace> {
        let begun = Instant::now();
        let mut turn = None;
        loop {
            let (freed, all_are_here, asking) = {
                let mut held = self.held();
                let pool = held.entry(name.to_owned()).or_default();
                if let Some((slot, _)) = pool.free.pop() {
                    pool.out += 1;
                    return Ok(Place { of: self.own.clone(), name: name.to_owned(), slot });
                }
                (pool.freed.clone(), pool.out >= most, pool.asking.clone())
            };
            let until = until.or_else(|| (!all_are_here).then_some(begun + LEFT));
            let notified = freed.notified();
            let at = now();
            let (store, own, holder, wanted) = (self.store.clone(), self.own.clone(), self.holder, name.to_owned());
            // A task of its own: when the client leaves meanwhile, a place that was claimed is freed, not renewed for ever.
            let claimed = tokio::spawn(async move {
                let slot = store.claim_place(&wanted, most, holder, at, at + LEASE).await?;
                Ok::<_, kanzlei_store::Error>(slot.map(|slot| {
                    if let Some(places) = own.upgrade() {
                        places.held().entry(wanted.clone()).or_default().out += 1;
                    }
                    Place { of: own, name: wanted, slot }
                }))
            });
            match claimed.await {
                Ok(Ok(Some(place))) => return Ok(place),
                Ok(Ok(None)) => {}
                Err(error) => {
                    tracing::error!(%error, name, "claiming a place failed");
                    return Err(NoPlace::Unavailable);
                }
                Ok(Err(error)) => {
                    tracing::warn!(%error, name, "no place can be claimed");
                    return Err(NoPlace::Unavailable);
                }
            }
            let Some(until) = until.filter(|until| *until > Instant::now()) else { return Err(NoPlace::Full) };
            let next = until.min(Instant::now() + ASKED);
            let _ = tokio::time::timeout_at(next.into(), notified).await;
            // Many that wait for one name must not ask the records each.
            if turn.is_none() {
                turn = tokio::time::timeout_at(until.into(), asking.lock_owned()).await.ok();
            }
        }
    }

    fn held(&self) -> std::sync::MutexGuard<'_, HashMap<String, Pool>> {
        self.held.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Returns places that no run has had for a while, and renews the others.
    async fn tidy(&self, kept: Duration, renew: bool) {
        let mut left = Vec::new();
        self.held().retain(|name, pool| {
            let (stay, go) = std::mem::take(&mut pool.free).into_iter().partition(|(_, since)| since.elapsed() < kept);
            pool.free = stay;
            let go: Vec<(u32, Instant)> = go;
            left.extend(go.into_iter().map(|(slot, _)| (name.clone(), slot)));
            // A run that waits holds the other half.
            !pool.free.is_empty() || pool.out > 0 || Arc::strong_count(&pool.freed) > 1
        });
        for (name, slot) in left {
            if let Err(error) = self.store.return_place(&name, slot, self.holder).await {
                tracing::debug!(%error, name, "a place could not be returned; it expires");
            }
        }
        if renew && let Err(error) = self.store.renew_places(self.holder, now() + LEASE).await {
            tracing::warn!(%error, "places could not be renewed");
        }
    }

    /// Returns all places that no run has.
    pub async fn leave(&self) {
        self.tidy(Duration::ZERO, false).await;
    }
}

impl Drop for Place {
    fn drop(&mut self) {
        let Some(places) = self.of.upgrade() else { return };
        let mut held = places.held();
        let pool = held.entry(self.name.clone()).or_default();
        pool.free.push((self.slot, Instant::now()));
        pool.out = pool.out.saturating_sub(1);
        pool.freed.notify_one();
    }
}

/// Renews and returns places until the process ends.
pub async fn run(places: Arc<Places>) {
    let mut renewed = Instant::now();
    loop {
        tokio::time::sleep(Duration::from_millis(500)).await;
        let renew = renewed.elapsed() >= RENEWED;
        places.tidy(KEPT, renew).await;
        if renew {
            renewed = Instant::now();
        }
    }
}
