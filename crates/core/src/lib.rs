//! The core of Kanzlei: the language, its checker and the machine that runs it.
//!
//! No I/O, no async runtime, no clock and no interface code lives here. The rooms stand in the order
//! of a workflow's life: [`document`] (text to typed tree) → [`check`] (names, references,
//! diagnostics) → [`plan`] (compiled form) → [`machine`] (one run). [`calendar`] knows when recurring jobs
//! are due. [`expr`] is the expression
//! language, [`value`] what it computes with, [`input`] how requests become input.

pub mod calendar;
pub mod check;
pub mod diagnostic;
pub mod document;
pub mod duration;
pub mod example;
pub mod expr;
pub mod input;
pub mod machine;
pub mod openapi;
pub mod plan;
pub mod problem;
pub mod rehearse;
pub mod suggest;
pub mod types;
pub mod value;

#[cfg(test)]
extern crate self as kanzlei_core;
#[cfg(test)]
#[path = "../tests/demo/mod.rs"]
mod tests_demo;
