//! Reports: templates (MiniJinja) filled with values, and charts in them. Works on texts alone and knows neither documents nor files;
//! what a template may do is bounded, so that the worst one costs a second and not a service.
//!
//! ```
//! use kanzlei_model::value::Value;
//! use kanzlei_reports::{Format, Templates};
//!
//! let texts = |name: &str| (name == "bill.html").then(|| "<p>{{ vessel }}: {{ dues | fixed(2) }}".to_owned());
//! let templates = Templates::load("bill.html", Format::Html, &texts).unwrap();
//! let values = Value::object([("vessel", Value::text("Kvikk & Co")), ("dues", Value::Num(390.4))]);
//! assert_eq!(templates.render(&values).unwrap(), "<p>Kvikk &amp; Co: 390.40");
//! ```

mod chart;
mod fill;
mod names;
mod templates;

#[cfg(test)]
mod tests;

pub use names::{Mention, closure};
pub use templates::{Fault, Format, Templates};

/// The most bytes of a text that a template makes.
pub const MOST_OF_TEXT: usize = 8 << 20;
/// The most bytes of all templates of a step.
pub const MOST_OF_TEMPLATES: usize = 1 << 20;
/// The most templates of a step.
pub const MOST_TEMPLATES: usize = 50;
/// Instructions that filling a template may take.
pub const FUEL: u64 = 5_000_000;
/// The most points of a chart.
pub const MOST_POINTS: usize = 5_000;
