//! Looking at a run where one of its steps begins or waits: the names it knows then, with their values.
//!
//! ```text
//! machine.look_at("3.1", Some(vec![2]));   // step 3.1 for the third item of the loop around it
//! … drive …
//! machine.seen()                            // what the step knew; nothing where it never began
//! ```

use std::sync::Arc;

use kanzlei_compiler::plan::{FAILURE, Plan};
use kanzlei_lang::expr::{Expression, Limits};
use kanzlei_model::value::Value;

use super::flow::Awaits;
use super::{EffectId, Machine, StepRecord};

/// A step to look at.
#[derive(Debug)]
pub(super) struct Look {
    /// Its number on the sheet of the run.
    number: String,
    /// Positions in the enclosing loops; `None` selects the first time it begins.
    items: Option<Vec<u32>>,
    seen: Option<Seen>,
}

/// What a step knew when it began.
#[derive(Clone, Debug)]
pub struct Seen {
    /// The positions in the loops around it.
    pub items: Vec<u32>,
    plan: Arc<Plan>,
    slots: Vec<Value>,
}

impl Machine {
    /// Keeps what a step knows when it begins: for these positions in the loops around it, or for the first time.
    pub fn look_at(&mut self, number: &str, items: Option<Vec<u32>>) {
        self.look = Some(Box::new(Look { number: number.to_owned(), items, seen: None }));
    }

    /// What the step that is looked at knew, once it has begun.
    pub fn seen(&self) -> Option<&Seen> {
        self.look.as_ref()?.seen.as_ref()
    }

    /// Keeps what a step knows, where it is the one that is looked at.
    pub(super) fn notice(&mut self, record: &StepRecord, slots: &[Value]) {
        let Some(look) = self.look.as_ref().filter(|look| look.seen.is_none()) else { return };
        if self.number(record) != look.number {
            return;
        }
        let items = self.items(record);
        if look.items.as_ref().is_some_and(|wanted| *wanted != items) {
            return;
        }
        let mut slots = slots.to_vec();
        if !self.is_caught(record) {
            slots[FAILURE as usize] = Value::Undefined;
        }
        let seen = Seen { items, plan: self.plan_of(record).clone(), slots };
        if let Some(look) = &mut self.look {
            look.seen = Some(seen);
        }
    }
}

impl Machine {
    /// Whether a step stands in a `catch` of its workflow: others do not know `failure`.
    fn is_caught(&self, record: &StepRecord) -> bool {
        let mut at = record;
        while let Some(around) = at.owner.and_then(|owner| self.records.get(owner as usize)) {
            if around.level != record.level {
                return false;
            }
            let (block, position) = around.place();
            let step = self.plan_of(around).blocks.get(block as usize).and_then(|block| block.get(position));
            if step.is_some_and(|step| step.catch == Some(at.place.0)) {
                return true;
            }
            at = around;
        }
        false
    }
}

/// A step that waits for an effect.
#[derive(Clone, Debug)]
pub struct Waiting {
    /// Its number on the sheet of the run.
    pub number: String,
    /// What it knew when it began, with its positions in the loops around it.
    pub seen: Seen,
}

impl Machine {
    /// The step that waits for an effect; nothing for what no step asked for.
    pub fn waiting(&self, effect: EffectId) -> Option<Waiting> {
        let fibre = self.fibres.get(self.fibre_of(effect)?)?.as_ref()?;
        let Awaits::Effect { record: Some(record), .. } = &fibre.awaits else { return None };
        let record = self.records.get(*record)?;
        let seen = Seen { items: self.items(record), plan: self.plan_of(record).clone(), slots: fibre.slots.clone() };
        Some(Waiting { number: self.number(record), seen })
    }

    /// Gives a name that the step which waits for an effect knows another value; what it asked for stays as it is. Returns
    /// whether there is such a name.
    pub fn set(&mut self, effect: EffectId, name: &str, value: Value) -> bool {
        let Some(fibre) = self.fibre_of(effect).and_then(|at| self.fibres.get_mut(at)?.as_mut()) else { return false };
        let plan = &self.levels[fibre.level as usize].plan;
        let known = plan.slots.iter().position(|known| **known == *name);
        let Some(slot) = known.and_then(|slot| fibre.slots.get_mut(slot)) else { return false };
        let known = !matches!(slot, Value::Undefined);
        if known {
            *slot = value;
        }
        known
    }

    fn fibre_of(&self, effect: EffectId) -> Option<usize> {
        self.waited_for.iter().find(|(known, _)| *known == effect).map(|(_, fibre)| *fibre)
    }
}

impl Seen {
    /// The workflow that the step is of.
    pub fn plan(&self) -> &Plan {
        &self.plan
    }

    /// The names that have values, in the order in which the workflow defines them.
    pub fn names(&self) -> impl Iterator<Item = (&str, &Value)> {
        self.known().map(|(_, name, value)| (name, value))
    }

    /// Slots that have values.
    fn known(&self) -> impl Iterator<Item = (usize, &str, &Value)> {
        let named = self.plan.slots.iter().zip(&self.slots).enumerate();
        let known = named.filter(|(_, (_, value))| !matches!(value, Value::Undefined));
        known.map(|(at, (name, value))| (at, &**name, value))
    }

    /// Evaluates an expression over these names and the functions of the document.
    pub fn evaluate(&self, text: &str) -> Result<Value, String> {
        let mut scope = self.plan.functions.clone();
        for (slot, name, _) in self.known() {
            scope.define_at(name, slot as u32);
        }
        let expression = Expression::compile(text, &scope).map_err(|faults| {
            let faults = faults.into_iter().map(|fault| match fault.help {
                Some(help) => format!("{}; {help}", fault.message),
                None => fault.message,
            });
            faults.collect::<Vec<_>>().join("; ")
        })?;
        expression.eval(&self.slots, Limits::default()).map_err(|failure| failure.message)
    }
}
