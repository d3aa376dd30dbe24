//! The language: texts of documents and expressions as typed trees, with positions on everything.
//!
//! [`document`] reads YAML into workflows, services, lanes and cases; [`expr`] compiles and evaluates
//! expressions; [`types`] infers what an expression returns; [`confidential`] follows
//! what must not be shown; [`calendar`] knows when a timetable is due;
//! [`diagnostic`] holds findings with positions and fixes. Nothing here compiles a workflow or runs one.

#![warn(missing_docs)]

pub mod calendar;
pub mod confidential;
pub mod diagnostic;
pub mod document;
pub mod edit;
pub mod expr;
pub mod suggest;
pub mod types;
