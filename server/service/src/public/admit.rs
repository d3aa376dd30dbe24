//! Admission of a request: bounds the requests in flight and the time of each.
//!
//! Authentication and rate limits belong here, before any of the body is read.

use std::time::{Duration, Instant};

use kanzlei_model::problem::Problem;
use kanzlei_runtime::direct::InFlight;

use super::refusal::Refusal;
use super::route::Route;
use crate::App;

/// An admitted request.
pub struct Admitted {
    /// Ends its count when dropped.
    pub in_flight: InFlight,
    /// Its deadline.
    pub deadline: Instant,
    pub within: Duration,
}

/// Admits a request, or refuses it with 503 when too many are in flight.
pub fn enter(app: &App, route: &Route) -> Result<Admitted, Refusal> {
    let Some(in_flight) = InFlight::enter(&app.in_flight, app.most_in_flight) else {
        return Err(Problem::new(503, "The service is busy").detail("try again in a moment").into());
    };
    let within = route.declared().time;
    Ok(Admitted { in_flight, deadline: Instant::now() + within, within })
}
