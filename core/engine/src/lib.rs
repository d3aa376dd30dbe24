//! The engine: one run of one plan, without I/O, clock or async runtime.
//!
//! [`machine`] is a run as a value; [`driver`] is the loop that performs what a machine asks for; [`alert`] decides when an alert begins and ends,
//! [`forecast`] when a lane will be empty.

#![warn(missing_docs)]

pub mod alert;
pub mod driver;
pub mod forecast;
pub mod machine;
pub mod pack;
pub mod rows;
pub mod table;
