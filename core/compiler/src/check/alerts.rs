//! Alerts: what they look at exists, their conditions are over its measures, their examples agree, and their notices can be queued.

use std::collections::BTreeMap;
use std::sync::Arc;

use kanzlei_lang::diagnostic::Report;
use kanzlei_lang::document::alert::{Alert, Subject, unknown_measure};
use kanzlei_lang::document::yaml::Kind;
use kanzlei_lang::expr::{Expression, Scope};
use kanzlei_lang::suggest;
use kanzlei_lang::types::{Env, Type};
use kanzlei_model::time::Timestamp;

use super::{Checked, entries, report_faults, report_findings, services};
use crate::plan::alert::Announced;
use crate::plan::{self, Plan};

/// What alerts refer to.
pub(super) struct Around<'c> {
    pub checked: &'c Checked,
    pub plans: &'c BTreeMap<String, Arc<Plan>>,
    /// All workflows, also those with errors.
    pub names: &'c [&'c str],
}

/// Compiles an alert and reports what is wrong with it; nothing where its condition cannot be compiled.
pub(super) fn alert(alert: &Alert, around: &Around<'_>, report: &mut Report) -> Option<plan::Alert> {
    known(alert, around, report);
    if let Some(run) = &alert.run {
        match around.plans.get(&run.text) {
            Some(plan) => receives(alert, plan, report),
            None if around.names.contains(&run.text.as_str()) => {}
            None => unknown("workflow", &run.text, run.at, around.names.iter().copied(), report),
        }
    }
    let when = condition(alert, report)?;
    let compiled = plan::Alert::of(alert, when);
    for example in &alert.examples {
        let mut wrong = false;
        for (name, _) in &example.measures {
            if alert.subject.measures().iter().all(|(known, _)| *known != name.text) {
                unknown_measure(&name.text, name.at, alert.subject, report);
                wrong = true;
            }
        }
        let value = |name: &str| example.measures.iter().find(|(known, _)| known.text == name).map(|(_, value)| *value);
        match compiled.holds(value) {
            _ if wrong => {}
            Ok(holds) if holds == example.holds => {}
            Ok(holds) => {
                let says = if holds {
                    "the condition holds for these measures"
                } else {
                    "the condition does not hold for these measures"
                };
                report.error("example-differs", example.at, says);
                report.help(format!("correct the condition, or say `holds: {holds}`"));
            }
            Err(why) => {
                report.error("example-differs", example.at, format!("the condition fails for these measures: {why}"));
            }
        }
    }
    Some(compiled)
}

/// Whether what it looks at is there.
fn known(alert: &Alert, around: &Around<'_>, report: &mut Report) {
    let (checked, name) = (around.checked, alert.of.text.as_str());
    let kind = alert.subject.name();
    match alert.subject {
        Subject::Workflow | Subject::Timetable => {
            if !around.names.contains(&name) {
                return unknown("workflow", name, alert.of.at, around.names.iter().copied(), report);
            }
            let plan = around.plans.get(name).filter(|_| alert.subject == Subject::Timetable);
            if plan.is_some_and(|plan| plan.timetables.is_empty()) {
                report.error("unknown-name", alert.of.at, format!("`{name}` has no timetable"));
                report.help("look at its runs: write `workflow` instead of `timetable`");
            }
        }
        // Jobs wait in `main` also where no document describes it.
        Subject::Lane if name == "main" || checked.lanes.contains_key(name) => {}
        Subject::Lane => {
            let known = checked.lanes.keys().map(String::as_str).chain(["main"]);
            unknown(kind, name, alert.of.at, known, report);
        }
        Subject::Service => services::known(&alert.of, &checked.services, report),
        Subject::Allowance => match checked.allowances.get(name) {
            Some(allowance) if allowance.quota.is_some() => {}
            Some(_) => {
                report.error("unknown-name", alert.of.at, format!("`{name}` has no quota that could be used up"));
                report.help("its `rate` refuses what is too much at once; refusals are rejected runs of a workflow");
            }
            None => entries::known_allowance(&alert.of, &checked.allowances, report),
        },
    }
}

fn unknown<'n>(
    kind: &str,
    name: &str,
    at: kanzlei_lang::diagnostic::Place,
    known: impl Iterator<Item = &'n str>,
    report: &mut Report,
) {
    report.error(&format!("unknown-{kind}"), at, format!("there is no {kind} `{name}`"));
    if let Some(near) = suggest::nearest(name, known) {
        report.did_you_mean(near);
    }
}

/// Whether a workflow can be the notice: its required inputs are what it is sent.
fn receives(alert: &Alert, plan: &Plan, report: &mut Report) {
    let Some(run) = &alert.run else { return };
    let sample = |state: &'static str, until: Option<Timestamp>| {
        let measures: Vec<_> = alert.subject.measures().iter().map(|(name, _)| (*name, 0.5)).collect();
        let one = Announced {
            name: &alert.name.text,
            about: &alert.about,
            subject: alert.subject,
            of: &alert.of.text,
            group: alert.group.as_deref(),
            state,
            since: Timestamp::EPOCH,
            until,
            measures: &measures,
        };
        plan.input.accept(&plan::alert::notice(plan, &[one]))
    };
    let faults = [sample("began", None), sample("ended", Some(Timestamp::EPOCH))];
    if let Some(problem) = faults.into_iter().find_map(Result::err) {
        let why =
            problem.errors.first().map_or(problem.title.clone(), |fault| format!("{} {}", fault.pointer, fault.detail));
        report.error("wrong-input", run.at, format!("`{}` does not accept a notice: {why}", run.text));
        report.help(
            "a notice has the input `alerts`, a list of objects, where the workflow declares it; others have a default",
        );
    }
    if alert.subject == Subject::Workflow && alert.of.text == run.text {
        report.error("wrong-value", run.at, "an alert whose notice is the workflow it looks at would announce itself");
        report.help("write a workflow for notices");
    }
}

fn condition(alert: &Alert, report: &mut Report) -> Option<Expression> {
    let node = &alert.when;
    let text = match &node.kind {
        Kind::Text(text) => text.text.clone(),
        Kind::Bool(_) => node.to_value().to_json(),
        _ => {
            report.error("wrong-type", node.at, format!("`when` takes an expression, not {}", node.what()));
            return None;
        }
    };
    if text.trim_start().starts_with("${") {
        report.error("expression-syntax", node.at, "`when` takes the bare expression");
        let bare = text.trim().trim_start_matches("${").trim_end_matches('}').trim();
        report.help(format!("write `{bare}`"));
        return None;
    }
    let (mut scope, mut env) = (Scope::default(), Env::default());
    for (name, _) in alert.subject.measures() {
        env.set(scope.define(name), Type::Number(None));
    }
    match Expression::compile(&text, &scope) {
        Ok(expression) => {
            let (_, findings) = env.infer(&expression);
            let sound = findings.iter().all(|finding| finding.warning);
            report_findings(report, node, findings);
            sound.then_some(expression)
        }
        Err(faults) => {
            report_faults(report, node, faults);
            None
        }
    }
}
