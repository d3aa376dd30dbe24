//! Admission of a request: bounds the bodies that arrive, the requests in flight and the time of each.
//!
//! A request in flight has arrived as a whole: clients that send slowly occupy none of these places. Bodies that
//! arrive are bounded by their number, in all and for each peer, by their bytes together, and each by a least pace
//! ([`super::read`]). Authentication and rate limits belong here, before any of the body is read.

use std::collections::HashMap;
use std::net::IpAddr;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use actix_web::HttpRequest;
use kanzlei_model::problem::Problem;
use kanzlei_runtime::admission;

use super::access::Caller;
use super::refusal::Refusal;
use crate::App;

/// Bodies that arrive.
pub struct Arrivals {
    most: usize,
    most_of_peer: usize,
    most_bytes: usize,
    bytes: AtomicUsize,
    /// How many arrive from each peer, and in all.
    peers: Mutex<(ByPeer, usize)>,
}

/// Bodies that arrive by peer.
type ByPeer = HashMap<Option<IpAddr>, usize, ahash::RandomState>;

impl Arrivals {
    /// Bounds in all, for each peer, and in bytes.
    pub fn new(most: usize, most_of_peer: usize, most_bytes: usize) -> Arc<Self> {
        Arc::new(Arrivals { most, most_of_peer, most_bytes, bytes: AtomicUsize::new(0), peers: Mutex::default() })
    }

    /// Occupies a place; `None` when those of all or of the peer are occupied.
    fn enter(self: &Arc<Self>, peer: Option<IpAddr>) -> Option<Arrival> {
        let mut guard = self.peers.lock().unwrap_or_else(PoisonError::into_inner);
        let (peers, all) = &mut *guard;
        let of_peer = peers.get(&peer).copied().unwrap_or(0);
        if *all >= self.most || of_peer >= self.most_of_peer {
            return None;
        }
        *all += 1;
        peers.insert(peer, of_peer + 1);
        Some(Arrival { of: self.clone(), peer, bytes: 0 })
    }
}

/// A body that arrives; dropping it ends its count.
pub struct Arrival {
    of: Arc<Arrivals>,
    peer: Option<IpAddr>,
    bytes: usize,
}

impl Arrival {
    /// Counts bytes that arrived; false when all bodies that arrive have too many together.
    pub fn received(&mut self, bytes: usize) -> bool {
        self.bytes += bytes;
        self.of.bytes.fetch_add(bytes, Ordering::Relaxed) + bytes <= self.of.most_bytes
    }
}

impl Drop for Arrival {
    fn drop(&mut self) {
        self.of.bytes.fetch_sub(self.bytes, Ordering::Relaxed);
        let mut guard = self.of.peers.lock().unwrap_or_else(PoisonError::into_inner);
        let (peers, all) = &mut *guard;
        *all -= 1;
        if let Some(count) = peers.get_mut(&self.peer) {
            *count -= 1;
            if *count == 0 {
                peers.remove(&self.peer);
            }
        }
    }
}

/// Occupies a place among the bodies that arrive, or refuses the request with 503.
pub fn arrive(app: &App, request: &HttpRequest, caller: &Caller) -> Result<Arrival, Refusal> {
    // Nothing of a body is read for a request that would be refused after it.
    if !app.in_flight.has_place(caller.counted_as()) {
        return Err(busy());
    }
    app.arrivals.enter(super::address::client(app, request)).ok_or_else(busy)
}

/// A request in flight.
pub struct Admitted {
    /// Ends its count when dropped.
    pub in_flight: admission::Admitted,
    /// Its deadline.
    pub deadline: Instant,
}

/// Admits a request whose body has arrived, or refuses it with 503 when too many are in flight, or too many of its caller while
/// places are scarce. Its time began when it arrived.
pub fn enter(app: &App, caller: &Caller, arrived: Instant, within: Duration) -> Result<Admitted, Refusal> {
    let in_flight = app.in_flight.enter(caller.counted_as()).ok_or_else(busy)?;
    Ok(Admitted { in_flight, deadline: arrived + within })
}

/// Too many requests at once.
pub fn busy() -> Refusal {
    Problem::new(503, "The service is busy").detail("try again in a moment").into()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn places_and_bytes_are_bounded_and_returned() {
        let arrivals = Arrivals::new(3, 2, 100);
        let peer = |n: u8| Some(IpAddr::from([127, 0, 0, n]));
        let mut first = arrivals.enter(peer(1)).expect("a place");
        let second = arrivals.enter(peer(1)).expect("a place");
        assert!(arrivals.enter(peer(1)).is_none(), "its peer has two");
        let mut third = arrivals.enter(peer(2)).expect("a place");
        assert!(arrivals.enter(peer(3)).is_none(), "there are three");
        assert!(first.received(60) && !third.received(60), "together they have too many bytes");
        drop((first, second));
        assert!(third.received(30), "90 are left");
        drop(third);
        let guard = arrivals.peers.lock().expect("no panic");
        assert_eq!((guard.0.len(), guard.1, arrivals.bytes.load(Ordering::Relaxed)), (0, 0, 0));
    }
}
