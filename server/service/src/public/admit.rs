//! Letting a request in: as many as may be in flight, each for as long as its endpoint allows.
//!
//! Callers are authenticated here, and limited, before anything of the body is read.

use std::time::{Duration, Instant};

use kanzlei_model::problem::Problem;
use kanzlei_runtime::direct::InFlight;

use super::refusal::Refusal;
use super::route::Route;
use crate::App;

/// A request that was let in.
pub struct Admitted {
    /// Counts it out when dropped.
    pub in_flight: InFlight,
    /// When its time is up.
    pub deadline: Instant,
    pub within: Duration,
}

/// Lets a request in, or refuses it with 503 when too many are in flight.
pub fn enter(app: &App, route: &Route) -> Result<Admitted, Refusal> {
    let Some(in_flight) = InFlight::enter(&app.in_flight, app.most_in_flight) else {
        return Err(Problem::new(503, "The service is busy").detail("try again in a moment").into());
    };
    let within = route.declared().time;
    Ok(Admitted { in_flight, deadline: Instant::now() + within, within })
}
