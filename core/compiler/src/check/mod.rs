//! Checking: documents that belong together to plans, or to everything that is wrong with them.
//!
//! [`check`] reads a bundle of documents, knows the services they declare, and walks each workflow with
//! the names in scope ([`steps`], [`calls`]). What passes is compiled: the walk that finds the faults
//! also makes the [`Plan`], so nothing is checked that is not what will run. Types are inferred on the same
//! walk, by `kanzlei_lang::types`.
//!
//! ```
//! use kanzlei_compiler::check::{Bundle, check};
//! let mut bundle = Bundle::default();
//! bundle.add("hello.yaml", "workflow: hello\nsteps:\n  - reply: 200\n    body: ${inptu.name}\n");
//! let checked = check(&bundle);
//! assert_eq!(checked.diagnostics[0].message, "there is no `inptu` here");
//! ```

mod actions;
pub mod alerts;
mod answers;
mod branches;
mod calls;
mod confidential;
mod entries;
mod files;
mod filled;
mod jobs;
mod libraries;
mod order;
mod render;
mod rows;
mod scope;
mod scripts;
mod services;
mod settings;
mod statements;
mod steps;
mod waking;
pub mod watch;
pub mod watches;
mod webhooks;

pub use settings::{Setting, Settings};

#[cfg(test)]
mod tests;

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use serde::{Deserialize, Serialize};

use crate::plan::{Alert, Allowance, Issuer, Lane, Maker, Plan};
use crate::sql;
use kanzlei_lang::diagnostic::{Diagnostic, Report, Severity};
pub use kanzlei_lang::document::database::Column;
use kanzlei_lang::document::purpose::Purpose;
use kanzlei_lang::document::settings::InForce;
use kanzlei_lang::document::yaml::{Kind, Node};
use kanzlei_lang::document::{self, Document, Service, Source, Workflow};
use kanzlei_lang::expr::{Counted, Fault};
use kanzlei_lang::types::{Finding, Type};
use kanzlei_model::address::Allowed;
use watch::{Mention, Question, Sight};

/// Documents that are checked together, and the files they name.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
pub struct Bundle {
    /// The documents, each with its path.
    pub documents: Vec<Source>,
    /// Documents that others refer to; their own faults are not reported.
    #[serde(default)]
    pub context: Vec<Source>,
    /// Texts of other files by path, such as OpenAPI documents.
    #[serde(default)]
    pub files: BTreeMap<String, String>,
    /// What the service that will run them has; not known offline.
    #[serde(skip)]
    pub known: Option<Known>,
}

/// What a service has, beside documents.
#[derive(Clone, Debug, Default)]
pub struct Known {
    /// The secrets by name, and what each may be used for.
    pub secrets: BTreeMap<String, Vec<Purpose>>,
    /// Networks in which services may be, beside the public one.
    pub network: Allowed,
    /// Base addresses that replace those of the documents, by service.
    pub bases: BTreeMap<String, String>,
    /// The databases by name, and what their settings allow.
    pub databases: BTreeMap<String, sql::Allowed>,
    /// The places by name.
    pub places: BTreeSet<String>,
    /// Why PDFs cannot be made; nothing where they can.
    pub no_printer: Option<String>,
    /// Whether there is a mail server.
    pub mail: bool,
    /// What databases reported of statements, by database and text with `?` in place of the parameters.
    pub statements: BTreeMap<(String, String), Result<Vec<Column>, String>>,
    /// Tables whose engine has no transactions, with the engine, by database.
    pub no_transactions: BTreeMap<String, Vec<(String, String)>>,
    /// Tables that entries of kind `change` watch, by database and table.
    pub watched: BTreeMap<(String, String), watches::Watched>,
    /// What databases lack to perform steps of jobs once.
    pub unprepared: BTreeMap<String, Vec<String>>,
}

impl Bundle {
    /// A bundle of texts by path; what is no document is a file that documents name.
    pub fn of(texts: impl IntoIterator<Item = (String, String)>) -> Self {
        let mut bundle = Bundle::default();
        for (path, text) in texts {
            match document::kind_of(&text) {
                Some(_) => bundle.add(&path, &text),
                None => {
                    bundle.files.insert(path, text);
                }
            }
        }
        bundle
    }

    /// Adds a document.
    pub fn add(&mut self, path: &str, text: &str) {
        self.documents.push(Source::new(path, text));
    }

    /// A file named relative to a document.
    pub fn file(&self, document: &str, name: &str) -> Option<String> {
        self.files.get(&relative(document, name)).cloned()
    }
}

/// The path of a file that a document names relative to itself.
pub fn relative(document: &str, name: &str) -> String {
    let mut parts: Vec<&str> = document.split('/').collect();
    parts.pop();
    for part in name.split('/') {
        match part {
            "." | "" => {}
            ".." if parts.last().is_some_and(|last| *last != "..") => {
                parts.pop();
            }
            part => parts.push(part),
        }
    }
    parts.join("/")
}

/// What came of a bundle.
#[derive(Debug, Default)]
pub struct Checked {
    /// The services by name.
    pub services: BTreeMap<String, Arc<Service>>,
    /// The lanes by name.
    pub lanes: BTreeMap<String, Arc<Lane>>,
    /// The allowances by name.
    pub allowances: BTreeMap<String, Arc<Allowance>>,
    /// The alerts by name.
    pub alerts: BTreeMap<String, Arc<Alert>>,
    /// The issuers by name.
    pub issuers: BTreeMap<String, Arc<Issuer>>,
    /// Plans of the workflows without errors, with the place of their document in the bundle.
    pub workflows: Vec<(usize, Arc<Plan>)>,
    /// Documents of cases as read, with the place of each in the bundle.
    pub cases: Vec<(usize, Arc<document::Cases>)>,
    /// Plans by name, those of the documents for context too.
    pub plans: BTreeMap<String, Arc<Plan>>,
    /// The functions of libraries whose statements coverage counts, each with its line; only of libraries that have some.
    pub libraries: BTreeMap<String, Vec<(Counted, u32)>>,
    /// Names of all workflows, also of those with errors.
    pub names: BTreeSet<String>,
    /// The settings of all documents.
    pub settings: Settings,
    /// The findings, by document and place.
    pub diagnostics: Vec<Diagnostic>,
    /// What is known at the place that was asked about.
    pub sight: Option<Sight>,
    /// The names that expressions mention, where that was asked for.
    pub mentions: Vec<Mention>,
}

/// A document as it was read, on its own.
#[derive(Clone, Debug)]
pub struct Parsed {
    /// The document; nothing where it cannot be read.
    pub document: Option<Document>,
    /// What is wrong with its shape.
    pub findings: Vec<Diagnostic>,
    /// Whether a constant of it is a setting: it is read again where the settings are known.
    pub deferred: bool,
}

impl Parsed {
    /// Reads a document of a bundle.
    pub fn of(source: &Source, files: &BTreeMap<String, String>) -> Self {
        Parsed::read(source, files, Report::new(&source.path, &source.text))
    }

    /// Reads a document whose constants may be these settings.
    fn with_settings(source: &Source, files: &BTreeMap<String, String>, settings: &InForce) -> Self {
        Parsed::read(source, files, Report::new(&source.path, &source.text).with_settings(settings))
    }

    fn read(source: &Source, files: &BTreeMap<String, String>, mut report: Report) -> Self {
        let file = |name: &str| files.get(&relative(&source.path, name)).cloned();
        let document = document::read_into(&mut report, &file);
        let deferred = report.deferred();
        Parsed { document, deferred, findings: report.finish() }
    }
}

impl Checked {
    /// Returns the number of errors.
    pub fn errors(&self) -> usize {
        self.diagnostics.iter().filter(|d| d.severity == Severity::Error).count()
    }

    /// Returns the plan of a workflow.
    pub fn plan(&self, name: &str) -> Option<&Arc<Plan>> {
        self.workflows.iter().map(|(_, plan)| plan).find(|plan| plan.name == name)
    }
}

/// Reports what is wrong with the expressions in a text of a document.
pub fn report_faults(report: &mut Report, node: &Node, faults: Vec<Fault>) {
    for fault in faults {
        let at = node.place_in(report.text(), fault.at.start as usize, fault.at.end as usize);
        report.error(fault.code, at, fault.message);
        if let Some(help) = fault.help {
            report.help(help);
        }
        if let Some(near) = fault.instead {
            report.fix(format!("write `{near}`"), at, near);
        }
    }
}

/// Reports what was inferred to be wrong with an expression or a template in a text of a document.
pub fn report_findings(report: &mut Report, node: &Node, findings: Vec<Finding>) {
    for finding in findings {
        let at = node.place_in(report.text(), finding.at.start as usize, finding.at.end as usize);
        match finding.warning {
            true => report.warning(finding.code, at, finding.message),
            false => report.error(finding.code, at, finding.message),
        };
        if let Some(help) = finding.help {
            report.help(help);
        }
        if let Some(near) = finding.instead {
            report.fix(format!("write `{near}`"), at, near);
        }
    }
}

/// What a value of a document becomes: its plan, and the type it will have.
pub type Made = (Option<Maker>, Type);

/// Makes a maker of any value of a document, with its type; `text` makes those of its texts.
pub fn maker(node: &Node, text: &mut dyn FnMut(&Node, &str) -> Made) -> Made {
    let constant = |maker: &Maker| matches!(maker, Maker::Const(_));
    match &node.kind {
        Kind::Text(found) => text(node, &found.text),
        Kind::List(items) => {
            let (made, types): (Vec<_>, Vec<_>) = items.iter().map(|item| maker(item, text)).unzip();
            let made = made.into_iter().collect::<Option<Vec<_>>>().map(|made| match made.iter().all(constant) {
                true => Maker::Const(node.to_value()),
                false => Maker::List(made),
            });
            (made, Type::list(Type::union(types)))
        }
        Kind::Map(members) => {
            let names = members.iter().map(|(key, _)| key.name.as_str());
            let (made, types): (Vec<_>, Vec<_>) = members.iter().map(|(_, node)| maker(node, text)).unzip();
            let made = made.into_iter().collect::<Option<Vec<_>>>().map(|made| match made.iter().all(constant) {
                true => Maker::Const(node.to_value()),
                false => Maker::Object(names.clone().map(Into::into).zip(made).collect()),
            });
            (made, Type::object(names.clone().zip(types)))
        }
        _ => {
            let value = node.to_value();
            let of = Type::of(&value);
            (Some(Maker::Const(value)), of)
        }
    }
}

pub use scripts::script_lines;

/// The longest chain of workflows that invoke each other.
pub const MAX_INVOKE_DEPTH: usize = 16;

/// Checks a bundle and compiles its workflows.
pub fn check(bundle: &Bundle) -> Checked {
    let sources: Vec<&Source> = bundle.documents.iter().chain(&bundle.context).collect();
    let parsed: Vec<Parsed> = sources.iter().map(|source| Parsed::of(source, &bundle.files)).collect();
    let known = bundle.known.as_ref();
    let parsed: Vec<&Parsed> = parsed.iter().collect();
    examine(&sources, &parsed, bundle.documents.len(), &bundle.files, known, Question::default())
}

/// Checks documents that were read before. The first `own` of them are checked; the others are what they refer to. Those with
/// settings as constants are read again, with the `files` that they name.
pub fn examine(
    sources: &[&Source],
    parsed: &[&Parsed],
    own: usize,
    files: &BTreeMap<String, String>,
    known: Option<&Known>,
    question: Question,
) -> Checked {
    let mut checked = Checked::default();
    let (settings, faults) = settings::of(parsed, known.is_some());
    let again: Vec<Option<Parsed>> = sources
        .iter()
        .zip(parsed)
        .map(|(source, parsed)| parsed.deferred.then(|| Parsed::with_settings(source, files, &settings.in_force)))
        .collect();
    let parsed: Vec<&Parsed> =
        parsed.iter().zip(&again).map(|(first, again)| again.as_ref().unwrap_or(first)).collect();
    let mut reports: Vec<Report> = Vec::with_capacity(sources.len());
    for (source, parsed) in sources.iter().zip(&parsed) {
        reports.push(Report::resume(&source.path, &source.text, parsed.findings.clone()));
    }
    faults.report(&mut reports);
    let mut workflows: Vec<(usize, Arc<Workflow>)> = Vec::new();
    let mut cases: Vec<(usize, Arc<document::Cases>)> = Vec::new();
    let mut names: BTreeMap<(&str, String), usize> = BTreeMap::new();
    let mut issuers: Vec<(usize, Arc<document::Issuer>)> = Vec::new();
    let mut alerts: Vec<(usize, Arc<document::Alert>)> = Vec::new();
    let mut databases: BTreeMap<String, Arc<document::Database>> = BTreeMap::new();
    let mut shared: Vec<(usize, Arc<document::Library>)> = Vec::new();
    for (index, (parsed, report)) in parsed.iter().zip(&mut reports).enumerate() {
        let Some(document) = &parsed.document else { continue };
        let (kind, name) = match document {
            Document::Workflow(workflow) => ("workflow", &workflow.name),
            Document::Service(service) => ("service", &service.name),
            Document::Lane(lane) => ("lane", &lane.name),
            Document::Allowance(allowance) => ("allowance", &allowance.name),
            Document::Alert(alert) => ("alert", &alert.name),
            Document::Issuer(issuer) => ("issuer", &issuer.name),
            Document::Settings(settings) => ("settings", &settings.name),
            Document::Database(database) => ("database", &database.name),
            Document::Library(library) => ("library", &library.name),
            Document::Cases(found) => {
                // A workflow may have cases in several documents.
                if index < own {
                    cases.push((index, found.clone()));
                }
                continue;
            }
        };
        let key = (kind, name.text.clone());
        if index >= own && names.contains_key(&key) {
            continue;
        }
        if let Some(first) = names.insert(key, index) {
            report.error("duplicate-name", name.at, format!("there are two documents of the {kind} `{}`", name.text));
            report.help(format!("the other one is {}", sources[first].path));
        }
        match document {
            Document::Workflow(workflow) => workflows.push((index, workflow.clone())),
            Document::Service(service) => {
                services::check(service, known, report);
                checked.services.insert(service.name.text.clone(), service.clone());
            }
            Document::Allowance(allowance) => {
                let compiled = Arc::new(Allowance::of(allowance));
                checked.allowances.insert(compiled.name.clone(), compiled);
            }
            Document::Alert(alert) => alerts.push((index, alert.clone())),
            Document::Issuer(issuer) => match Issuer::of(issuer) {
                Ok(compiled) => {
                    checked.issuers.insert(compiled.name.clone(), Arc::new(compiled));
                    issuers.push((index, issuer.clone()));
                }
                Err(faults) => {
                    for (claim, message) in faults {
                        let at = issuer.claims.get(claim).map_or(issuer.name.at, |claim| claim.at);
                        report.error("bad-schema", at, message);
                    }
                }
            },
            Document::Lane(lane) => {
                if let Some(compiled) = jobs::lane(lane, report) {
                    checked.lanes.insert(compiled.name.clone(), Arc::new(compiled));
                }
            }
            Document::Database(database) => _ = databases.insert(database.name.text.clone(), database.clone()),
            Document::Library(library) => shared.push((index, library.clone())),
            Document::Cases(_) | Document::Settings(_) => {}
        }
    }
    let libraries = libraries::read(&shared, question.watch, &mut checked.sight, &mut reports);
    let counted = libraries.iter().filter(|(_, shared)| !shared.counted.is_empty());
    checked.libraries = counted.map(|(name, shared)| (name.clone(), shared.counted.clone())).collect();
    for (index, library) in &shared {
        workflows.extend(library.groups.iter().map(|group| (*index, group.clone())));
    }
    for (index, workflow) in &mut workflows {
        *workflow = libraries::with_types(workflow, &libraries, &mut reports[*index]).into_owned();
    }
    for (parsed, report) in parsed.iter().zip(&mut reports) {
        if let Some(Document::Service(service)) = &parsed.document {
            services::issuer(service, &checked.services, known, report);
        }
    }
    for (index, issuer) in &issuers {
        let report = &mut reports[*index];
        if let Some(service) = issuer.keys.service() {
            services::known(service, &checked.services, report);
        }
        if let Some(allowance) = &issuer.allowance {
            entries::known_allowance(allowance, &checked.allowances, report);
        }
    }
    let mut taken = entries::PathsInUse::default();
    for (index, workflow) in workflows.iter().filter(|(index, _)| *index < own) {
        taken.claim(workflow, &sources[*index].path, &mut reports[*index]);
    }
    let by_name: BTreeMap<&str, &Workflow> = workflows.iter().map(|(_, w)| (w.name.text.as_str(), &**w)).collect();
    let needed = question.only.map(|only| order::reached(&workflows, only));
    let mut plans = BTreeMap::new();
    for at in order::callees_first(&workflows, &mut reports) {
        let (index, workflow) = &workflows[at];
        if needed.as_ref().is_some_and(|needed| !needed.contains(&at)) {
            continue;
        }
        let report = &mut reports[*index];
        let watched = question.watch.filter(|(document, _)| document == index).map(|(_, at)| at);
        let text_beside = |name: &str| files.get(&relative(&sources[*index].path, name)).cloned();
        let around = steps::Around {
            text_beside: &text_beside,
            services: &checked.services,
            plans: &plans,
            workflows: &by_name,
            libraries: &libraries,
            lanes: &checked.lanes,
            allowances: &checked.allowances,
            issuers: &checked.issuers,
            settings: &settings,
            databases: &databases,
            known,
            watch: watch::Watch { at: watched, mentions: question.mentions, document: *index },
        };
        let compiled = steps::compile(workflow, &around, &mut checked.sight, &mut checked.mentions, report);
        if let Some(plan) = compiled.filter(|_| !report.has_errors()) {
            let plan = Arc::new(plan);
            plans.insert(plan.name.clone(), plan.clone());
            if *index < own && !plan.is_group() {
                checked.workflows.push((*index, plan));
            }
        }
    }
    let called: Vec<&str> = by_name.keys().copied().filter(|name| !name.contains('.')).collect();
    for (index, alert) in &alerts {
        let around = alerts::Around { checked: &checked, plans: &plans, names: &called };
        if let Some(compiled) = alerts::alert(alert, &around, &mut reports[*index]) {
            checked.alerts.insert(compiled.name.clone(), Arc::new(compiled));
        }
    }
    if let Some(known) = known {
        statements::unprepared(known, &workflows, &plans, &mut reports);
    }
    jobs::chains(&workflows, &plans, &mut reports);
    confidential::queued_results(&workflows, &plans, &mut reports);
    checked.workflows.retain(|(index, _)| !reports[*index].has_errors());
    checked.workflows.sort_by_key(|(index, _)| *index);
    let names = workflows.iter().map(|(_, workflow)| workflow.name.text.clone());
    checked.names = names.filter(|name| !name.contains('.')).collect();
    checked.settings = settings;
    checked.plans = plans;
    checked.cases = cases;
    let reports = reports.into_iter().take(own).enumerate();
    let asked = reports.filter(|(index, _)| question.only.is_none_or(|only| only == *index));
    checked.diagnostics = asked.flat_map(|(_, report)| report.finish()).collect();
    checked
}
