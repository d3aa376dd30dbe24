//! The compiler: documents that belong together become plans, or findings.
//!
//! [`check`] resolves names and types and makes the [`plan`]; [`input`] turns requests into the input of a
//! plan, [`sql`] judges statements, [`example`] makes a request that fits, [`openapi`] describes endpoints. Nothing here runs a plan.

#![warn(missing_docs)]

pub mod beside;
pub mod check;
pub mod example;
pub mod input;
pub mod openapi;
pub mod plan;
pub mod sql;
