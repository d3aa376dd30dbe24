//! Sheets and findings: the core's own types.

pub use kanzlei_compiler::plan::Paragraph;
pub use kanzlei_lang::diagnostic::{Diagnostic, Fix, Severity};
