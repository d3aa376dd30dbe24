//! The core of Kanzlei: the language, its checker and the machine that runs it, without any I/O.

pub mod diagnostic;
pub mod document;
pub mod duration;
pub mod expr;
pub mod suggest;
pub mod value;
