//! The order in which workflows are compiled: each after those it invokes, and none that invokes itself.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use super::MAX_INVOKE_DEPTH;
use kanzlei_lang::diagnostic::Report;
use kanzlei_lang::document::Workflow;
use kanzlei_lang::document::reader::Named;
use kanzlei_lang::document::step::{Action, Step};

/// Indexes of the workflows, callees first; those in a cycle are reported and left out.
pub(super) fn callees_first(workflows: &[(usize, Arc<Workflow>)], reports: &mut [Report]) -> Vec<usize> {
    let by_name: BTreeMap<&str, usize> =
        workflows.iter().enumerate().map(|(at, (_, w))| (w.name.text.as_str(), at)).collect();
    let calls: Vec<Vec<(usize, &Named)>> = workflows
        .iter()
        .map(|(_, workflow)| {
            let mut found = Vec::new();
            workflow.lists().for_each(|steps| invoked(steps, &mut found));
            found.into_iter().filter_map(|name| Some((*by_name.get(name.text.as_str())?, name))).collect()
        })
        .collect();
    // Workflows whose callees are all placed come next, until none is left that could.
    let mut depth: Vec<Option<usize>> = vec![None; workflows.len()];
    let mut order = Vec::with_capacity(workflows.len());
    loop {
        let before = order.len();
        for (at, callees) in calls.iter().enumerate() {
            if depth[at].is_none() && callees.iter().all(|(callee, _)| depth[*callee].is_some()) {
                let deepest = callees.iter().filter_map(|(callee, _)| depth[*callee]).max().map_or(0, |d| d + 1);
                depth[at] = Some(deepest);
                order.push(at);
                if deepest == MAX_INVOKE_DEPTH {
                    let (index, workflow) = &workflows[at];
                    let message = format!("workflows invoke each other more than {MAX_INVOKE_DEPTH} deep");
                    reports[*index].error("invoke-depth", workflow.name.at, message);
                }
            }
        }
        if order.len() == before {
            break;
        }
    }
    for (at, callees) in calls.iter().enumerate().filter(|(at, _)| depth[*at].is_none()) {
        let Some((callee, name)) = callees.iter().find(|(callee, _)| depth[*callee].is_none()) else { continue };
        let chain = cycle(at, &calls, &depth);
        let (index, _) = &workflows[at];
        if chain.contains(callee) && chain.contains(&at) {
            let names: Vec<&str> = chain.iter().map(|at| workflows[*at].1.name.text.as_str()).collect();
            let message = format!("this workflow would invoke itself: {} → {}", names.join(" → "), names[0]);
            reports[*index].error("invoke-cycle", name.at, message);
        } else {
            let message = format!("`{}` cannot be invoked: it invokes itself", name.text);
            reports[*index].error("invoke-cycle", name.at, message);
        }
    }
    order
}

/// Places of the workflows of a document and of those that it invokes or queues, directly or through others; of all
/// that cases are for, where it is a document of cases.
pub(super) fn reached(workflows: &[(usize, Arc<Workflow>)], document: usize) -> BTreeSet<usize> {
    let by_name: BTreeMap<&str, usize> =
        workflows.iter().enumerate().map(|(at, (_, w))| (w.name.text.as_str(), at)).collect();
    let mut found = BTreeSet::new();
    let mut open: Vec<usize> =
        workflows.iter().enumerate().filter(|(_, (index, _))| *index == document).map(|(at, _)| at).collect();
    while let Some(at) = open.pop() {
        if found.insert(at) {
            let mut names = Vec::new();
            workflows[at].1.lists().for_each(|steps| referred(steps, &mut names));
            open.extend(names.into_iter().filter_map(|name| by_name.get(name.text.as_str())));
        }
    }
    found
}

fn referred<'w>(steps: &'w [Step], found: &mut Vec<&'w Named>) {
    for step in steps {
        match &step.action {
            Action::Invoke { workflow, .. } => found.push(workflow),
            Action::Enqueue(enqueue) => found.push(&enqueue.workflow),
            _ => {}
        }
        step.inside().into_iter().for_each(|steps| referred(steps, found));
    }
}

/// The workflows of a cycle that is reached from one, beginning with it where it is part of it.
fn cycle(from: usize, calls: &[Vec<(usize, &Named)>], depth: &[Option<usize>]) -> Vec<usize> {
    let mut chain = vec![from];
    loop {
        let last = chain[chain.len() - 1];
        let Some((next, _)) = calls[last].iter().find(|(callee, _)| depth[*callee].is_none()) else { return chain };
        if let Some(begin) = chain.iter().position(|known| known == next) {
            return chain.split_off(begin);
        }
        chain.push(*next);
    }
}

fn invoked<'w>(steps: &'w [Step], found: &mut Vec<&'w Named>) {
    for step in steps {
        if let Action::Invoke { workflow, .. } = &step.action {
            found.push(workflow);
        }
        step.inside().into_iter().for_each(|steps| invoked(steps, found));
    }
}
