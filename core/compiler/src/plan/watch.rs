//! A compiled entry of kind `change`: the input that a changed row becomes.
//!
//! Expressions know three names: `before`, `after` and `change`. What they hold is made here, so that live changes and cases agree.

use kanzlei_lang::document::change::Operation;
use kanzlei_lang::expr::{Expression, Limits, ops};
use kanzlei_model::problem::Problem;
use kanzlei_model::value::{ObjectBuilder, Str, Value};

use super::{FIXED, Maker, Plan};

/// The first of the slots of `before`, `after` and `change`; those of workflows come before.
pub const SLOT: u32 = FIXED.len() as u32;
/// The names, in order.
pub const NAMES: [&str; 3] = ["before", "after", "change"];
/// The title of a change for which `when` does not hold.
pub const NOT_MEANT: &str = "The condition does not hold";

/// A compiled entry of kind `change`.
#[derive(Debug)]
pub struct Watch {
    /// The table.
    pub table: String,
    /// The database, as `sql` steps name it.
    pub database: String,
    /// What must happen to a row.
    pub of: Vec<Operation>,
    /// What must hold of a change.
    pub when: Option<Expression>,
    /// The input; by convention where there is none.
    pub send: Option<Vec<(Str, Maker)>>,
}

/// A changed row.
#[derive(Clone, Debug, PartialEq)]
pub struct Change {
    /// What happened.
    pub of: Operation,
    /// When, by the clock of its database.
    pub at: String,
    /// The row before; null for a new one.
    pub before: Value,
    /// The row after; null for one that is gone.
    pub after: Value,
}

impl Watch {
    /// How records call it: `change harbour.bill`.
    pub fn entry(&self) -> String {
        format!("change {}.{}", self.database, self.table)
    }

    /// The input that a change becomes; nothing where `when` does not hold.
    ///
    /// # Errors
    /// A problem with status 422: an expression that fails, or an input that the workflow does not accept.
    pub fn input(&self, plan: &Plan, change: &Change) -> Result<Option<Value>, Box<Problem>> {
        let mut slots = vec![Value::Undefined; FIXED.len()];
        let about = Value::object([("of", Value::text(change.of.name())), ("at", Value::text(change.at.as_str()))]);
        slots.extend([change.before.clone(), change.after.clone(), about]);
        let wrong = |what: &str, why: &dyn std::fmt::Display| {
            Box::new(Problem::new(422, "Unfit change").detail(format!("`{what}` cannot be worked out: {why}")))
        };
        if let Some(when) = &self.when
            && !ops::truthy(&when.eval(&slots, Limits::default()).map_err(|error| wrong("when", &error))?)
        {
            return Ok(None);
        }
        let mut input = ObjectBuilder::with_capacity(plan.input.properties.len());
        match &self.send {
            Some(send) => {
                for (name, maker) in send {
                    let value = maker.make(&slots, Limits::default());
                    let value = value.map_err(|error| wrong(&format!("send.{name}"), &error))?;
                    if !matches!(value, Value::Undefined) {
                        input.insert(name.clone(), value);
                    }
                }
            }
            None => {
                let row = if change.after.is_nullish() { &change.before } else { &change.after };
                for declared in &plan.input.properties {
                    // What is null in the row, the workflow may do without.
                    if let Some(value) = row.member(&declared.name).filter(|value| !value.is_nullish()) {
                        input.insert(declared.name.as_str().into(), value.clone());
                    }
                }
            }
        }
        plan.input.accept(&input.finish()).map(Some)
    }
}
