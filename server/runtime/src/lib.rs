//! Recorders and performers with I/O: what runs and jobs need around the engine, without any listener.
//!
//! [`direct`] drives runs that answer a request, [`worker`] those that were queued; both perform their effects
//! through [`effects`], which queues jobs by [`queue`]. [`live`] is what is deployed, [`gradual`] which revision serves a request, [`journal`] what is recorded of runs, [`refusals`] what is
//! recorded of requests that began none. [`proof`] checks and signs messages, [`tokens`] verifies those of callers, [`places`] keeps runs apart, [`paces`] spreads calls over time, [`admission`] bounds requests in flight, [`allowances`] counts callers and [`usage`] what keys ask for. [`print`] prints pages, [`mail`] sends mails. [`secrets`], [`limiter`], [`background`], [`computing`] and [`clock`] serve all of them.
//!
//! Nothing here may know of listeners, requests of the public or control API, or the configuration.
//!
//! ```no_run
//! # async fn example() -> kanzlei_runtime::Result<()> {
//! let background = kanzlei_runtime::background::Background::new(2);
//! assert_eq!(background.run(|| 6 * 7).await?, 42);
//! # Ok(())
//! # }
//! ```

#![warn(missing_docs)]

pub mod admission;
pub mod allowances;
pub mod background;
pub mod begun;
pub mod clock;
pub mod computing;
pub mod direct;
pub mod effects;
mod error;
pub mod files;
pub mod gathering;
pub mod gradual;
pub mod journal;
pub mod limiter;
pub mod lines;
pub mod live;
pub mod mail;
pub mod metrics;
pub mod paces;
pub mod places;
pub mod print;
pub mod proof;
pub mod queue;
pub mod refusals;
pub mod secrets;
pub mod step_counts;
pub mod tally;
pub mod telemetry;
pub mod tokens;
pub mod trial;
pub mod usage;
pub mod worker;

pub use error::{Error, Result};
