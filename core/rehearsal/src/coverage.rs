//! Which steps and branches cases reach, by the numbers of the sheet.
//!
//! The statements of a script count as branches of its step, those of a function as branches under its name. The functions of a
//! library have a coverage of their own: what the cases of all workflows reach in them.

use std::collections::{BTreeMap, BTreeSet};

use serde::Serialize;

use kanzlei_compiler::plan::{Action, Plan, Step};
use kanzlei_engine::machine::{Machine, State, StepRecord};
use kanzlei_lang::expr::marks::merge;
use kanzlei_lang::expr::{Counted, Marks};
use kanzlei_model::value::{Str, Value};

/// What one run reached: paragraphs and branches by workflow.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Reached {
    steps: BTreeMap<String, BTreeSet<u32>>,
    branches: BTreeMap<String, BTreeSet<(u32, String)>>,
    /// Points of functions, by their texts.
    functions: BTreeMap<Str, Vec<bool>>,
}

impl Reached {
    /// Adds what another case reached.
    pub fn add(&mut self, other: &Reached) {
        for (name, steps) in &other.steps {
            self.steps.entry(name.clone()).or_default().extend(steps);
        }
        for (name, branches) in &other.branches {
            self.branches.entry(name.clone()).or_default().extend(branches.iter().cloned());
        }
        for (text, points) in &other.functions {
            merge(self.functions.entry(text.clone()).or_default(), points);
        }
    }
}

/// How much of one workflow, or of the functions of a library, was reached.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct Coverage {
    /// The name of the workflow or of the library.
    pub workflow: String,
    /// Whether it is a library.
    pub library: bool,
    /// All its steps but those that are off.
    pub steps: usize,
    /// Steps that some case reached.
    pub steps_reached: usize,
    /// All its branches.
    pub branches: usize,
    /// Branches that some case reached.
    pub branches_reached: usize,
    /// What was not reached, in the order of the sheet.
    pub missing: Vec<Missing>,
    /// For each paragraph of the sheet whether it was reached; nothing for one that is off.
    pub paragraphs: Vec<Option<bool>>,
}

#[derive(Clone, Debug, PartialEq, Serialize)]
/// A step or branch that no case reached.
pub struct Missing {
    /// The step's number on the sheet, or the name of a function.
    pub number: String,
    /// Nothing when the step itself was not reached.
    pub branch: Option<String>,
    /// What the step does: `if vessel.status === 404`.
    pub what: String,
    /// Its line in the workflow, from 1.
    pub line: u32,
}

impl Coverage {
    /// Branches reached of a hundred; all of them when there are none.
    pub fn percent(&self) -> f64 {
        let (all, reached) = (self.steps + self.branches, self.steps_reached + self.branches_reached);
        if all == 0 { 100.0 } else { reached as f64 * 100.0 / all as f64 }
    }

    /// The coverage of a plan.
    pub fn of(plan: &Plan, reached: &Reached) -> Self {
        let none = BTreeSet::new();
        let steps = reached.steps.get(&plan.name).unwrap_or(&none);
        let no_branches = BTreeSet::new();
        let branches = reached.branches.get(&plan.name).unwrap_or(&no_branches);
        let mut out = Coverage::new(&plan.name);
        out.paragraphs = vec![None; plan.sheet.len()];
        let mut all: Vec<&Step> = Vec::new();
        collect(plan, 0, &mut all);
        plan.on_failure.iter().for_each(|block| collect(plan, *block, &mut all));
        all.sort_by_key(|step| step.paragraph);
        for step in all {
            let paragraph = &plan.sheet[step.paragraph as usize];
            let what = format!("{} {}", paragraph.kind, paragraph.title).trim().to_owned();
            let missing = |branch: Option<String>| Missing {
                number: paragraph.number.clone(),
                branch,
                what: what.clone(),
                line: paragraph.line,
            };
            let there = steps.contains(&step.paragraph);
            out.steps += 1;
            out.steps_reached += usize::from(there);
            out.paragraphs[step.paragraph as usize] = Some(there);
            if !there {
                out.missing.push(missing(None));
            }
            for branch in branches_of(step) {
                out.branches += 1;
                if branches.contains(&(step.paragraph, branch.clone())) {
                    out.branches_reached += 1;
                } else if there {
                    out.missing.push(missing(Some(branch)));
                }
            }
        }
        out.count(&plan.counted, reached);
        out
    }

    /// The coverage of a library's functions.
    pub fn of_library(name: &str, functions: &[(Counted, u32)], reached: &Reached) -> Self {
        let mut out = Coverage { library: true, ..Coverage::new(name) };
        out.count(functions, reached);
        out
    }

    fn new(name: &str) -> Self {
        Coverage {
            workflow: name.to_owned(),
            library: false,
            steps: 0,
            steps_reached: 0,
            branches: 0,
            branches_reached: 0,
            missing: Vec::new(),
            paragraphs: Vec::new(),
        }
    }

    /// Counts the statements of functions; one that is never called is missing as a whole.
    fn count(&mut self, functions: &[(Counted, u32)], reached: &Reached) {
        for (function, line) in functions {
            let missing = |branch: Option<&String>| Missing {
                number: function.name().to_string(),
                branch: branch.cloned(),
                what: format!("function {}", function.name()),
                line: *line,
            };
            let points = function.points();
            self.branches += points.len();
            let Some(found) = reached.functions.get(function.text()) else {
                self.missing.push(missing(None));
                continue;
            };
            for (name, there) in points.iter().zip(found) {
                self.branches_reached += usize::from(*there);
                if !there {
                    self.missing.push(missing(Some(name)));
                }
            }
        }
    }
}

/// The steps of a block and of those inside it, without those that are off.
fn collect<'p>(plan: &'p Plan, block: u32, out: &mut Vec<&'p Step>) {
    for step in plan.blocks[block as usize].iter().filter(|step| !step.off) {
        out.push(step);
        for block in step.action.blocks().into_iter().chain(step.catch) {
            collect(plan, block, out);
        }
    }
}

/// The branches of a step; empty for a step with one path.
fn branches_of(step: &Step) -> Vec<String> {
    let mut out = Vec::new();
    if step.when.is_some() {
        out.extend(["taken".to_owned(), "skipped".to_owned()]);
    }
    match &step.action {
        Action::If { .. } => out.extend(["then".to_owned(), "else".to_owned()]),
        Action::Match { arms, otherwise, complete, .. } => {
            out.extend(arms.iter().map(|(test, _)| test.to_string()));
            if otherwise.is_some() || !complete {
                out.push("else".to_owned());
            }
        }
        Action::Script(script) => {
            out.extend(script.point_names());
        }
        _ => {}
    }
    if step.catch.is_some() {
        out.push("catch".to_owned());
    }
    out
}

/// What a run reached.
pub fn reached(machine: &Machine) -> Reached {
    let mut out = Reached::default();
    for (index, record) in machine.records().iter().enumerate() {
        let plan = machine.plan_of(record);
        let Some(step) = machine.step_of(index) else { continue };
        let steps = out.steps.entry(plan.name.clone()).or_default();
        let skipped = record.state == State::Skipped;
        // A step that is only ever skipped is not reached; its being skipped is a branch.
        if !skipped {
            steps.insert(record.paragraph);
        }
        let branches = out.branches.entry(plan.name.clone()).or_default();
        for branch in taken(machine, index, record, step) {
            branches.insert((record.paragraph, branch));
        }
    }
    out.functions = machine.function_marks().map(Marks::all).unwrap_or_default();
    out
}

fn taken(machine: &Machine, index: usize, record: &StepRecord, step: &Step) -> Vec<String> {
    let mut out = Vec::new();
    let skipped = record.state == State::Skipped;
    if step.when.is_some() {
        out.push(if skipped { "skipped" } else { "taken" }.to_owned());
    }
    if skipped {
        return out;
    }
    match (&step.action, &*record.outcome(machine.plan_of(record))) {
        (Action::If { .. }, Value::Bool(truth)) => out.push(if *truth { "then" } else { "else" }.to_owned()),
        (Action::Match { arms, .. }, value) if !matches!(value, Value::Undefined) || record.failure.is_none() => {
            let taken = arms.iter().find(|(test, _)| test.fits(value));
            out.push(taken.map_or("else".to_owned(), |(test, _)| test.to_string()));
        }
        (Action::Script(script), _) => {
            let marks = machine.marks(index).unwrap_or_default();
            let names = script.point_names().into_iter().zip(marks);
            out.extend(names.filter(|(_, reached)| **reached).map(|(name, _)| name));
        }
        _ => {}
    }
    if let Some(catch) = step.catch {
        let caught = record.state == State::Caught
            || machine.records().iter().any(|inner| inner.owner == Some(index as u32) && inner.place().0 == catch);
        if caught {
            out.push("catch".to_owned());
        }
    }
    out
}
