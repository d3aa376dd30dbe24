//! Faults on purpose, for tests: connections to a database and services that break where they are asked to.
//!
//! ```no_run
//! # use kanzlei_faults::proxy::{Fault, Plan, start};
//! # use std::sync::Arc;
//! # async fn example() {
//! let plan = Arc::new(Plan::default());
//! let port = start(3306, plan.clone()).await;   // in front of the server at 3306
//! plan.set(Some((Fault::LostBehind, 2)));       // the third statement is executed, and its answer is lost
//! # }
//! ```

pub mod peer;
pub mod proxy;
