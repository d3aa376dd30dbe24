//! Which statements of the document's functions evaluations reach, for coverage.
//!
//! Functions are known by their texts: those with the same text are the same function. Scripts are marked apart from
//! them, see [`Expression::eval_marking`](super::Expression::eval_marking).
//!
//! ```
//! use kanzlei_lang::expr::{Expression, Limits, Marks, Scope};
//!
//! let mut scope = Scope::default();
//! scope.define_function("fee", "n => { if (n > 9) return 5; return 2; }").unwrap();
//! let marks = Marks::default();
//! let limits = Limits { marks: Some(&marks), ..Limits::default() };
//! Expression::compile("fee(3)", &scope).unwrap().eval(&[], limits).unwrap();
//! let function = &scope.counted(&Scope::default())[0];
//! let reached = marks.all().remove(function.text()).unwrap();
//! let missing: Vec<_> = function.points().into_iter().zip(reached).filter(|(_, there)| !there).map(|(name, _)| name).collect();
//! assert_eq!(missing, ["line 1, column 19"]);
//! ```

use std::collections::BTreeMap;
use std::sync::{Arc, Mutex, PoisonError};

use super::ast::{Kind, Named};
use kanzlei_model::value::Str;

/// The statements that evaluations reach, by the texts of functions.
///
/// There is one for a run; it grows with the functions of its documents, which are bounded.
#[derive(Debug, Default)]
pub struct Marks(Mutex<BTreeMap<Str, Vec<bool>>>);

impl Marks {
    /// Adds what one call of a function reached.
    pub(super) fn add(&self, text: &Str, reached: &[bool]) {
        let mut all = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        merge(all.entry(text.clone()).or_default(), reached);
    }

    /// What was reached, by the texts of functions; one that was not called is missing.
    pub fn all(&self) -> BTreeMap<Str, Vec<bool>> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).clone()
    }
}

/// Adds the points that another evaluation of the same text reached.
pub fn merge(into: &mut Vec<bool>, reached: &[bool]) {
    into.resize(into.len().max(reached.len()), false);
    into.iter_mut().zip(reached).for_each(|(known, new)| *known |= new);
}

/// A function of a document whose statements can be counted.
#[derive(Clone, Debug)]
pub struct Counted(pub(super) Arc<Named>);

impl Counted {
    /// Its name.
    pub fn name(&self) -> &Str {
        &self.0.name
    }

    /// Its text.
    pub fn text(&self) -> &Str {
        &self.0.text
    }

    /// The name of each of its points: `line 3`, `line 3, not`. It is made from the text each time.
    pub fn points(&self) -> Vec<String> {
        match &self.0.arrow.body.kind {
            Kind::Body(body) => body.point_names(&self.0.text),
            _ => Vec::new(),
        }
    }
}
