//! From a document of cases to what can be run: routes found, expressions compiled, values checked
//! against what operations answer by their descriptions.

use std::collections::BTreeMap;
use std::sync::Arc;

use super::case::*;
use kanzlei_compiler::check;
use kanzlei_compiler::input;
use kanzlei_compiler::plan::watch::Change;
use kanzlei_compiler::plan::{Action, Maker, Plan};
use kanzlei_lang::diagnostic::{Place, Report};
use kanzlei_lang::document::cases::{self, Cases, ExpectCalls, StubOutcome};
use kanzlei_lang::document::reader::{Named, unknown_setting};
use kanzlei_lang::document::service::{Operation, Service};
use kanzlei_lang::document::yaml::{Kind, Node};
use kanzlei_lang::expr::template::Template;
use kanzlei_lang::expr::{Expression, Fault, Scope};
use kanzlei_lang::suggest;
use kanzlei_lang::types::schema::Reader;
use kanzlei_lang::types::{Type, contradiction};
use kanzlei_model::file::File;
use kanzlei_model::time::Timestamp;
use kanzlei_model::value::Value;

/// The slot of `request` in stubs, and of `it` in expectations.
const REQUEST: &str = "request";

/// Compiles cases of a workflow; what is wrong with them goes to the report.
pub fn prepare(
    path: &str,
    document: &Cases,
    plan: &Arc<Plan>,
    services: &BTreeMap<String, Arc<Service>>,
    settings: &check::Settings,
    report: &mut Report,
) -> Prepared {
    let mut known = BTreeMap::new();
    for name in all_services(plan) {
        if let Some(service) = services.get(&name) {
            let described = Described { operations: service.operations.clone(), api: service.api.clone() };
            known.insert(name, Arc::new(described));
        }
    }
    let mut compiler = Compiler { plan, services: &known, settings, report };
    let stubs = document.stubs.iter().map(|stub| compiler.stub(stub)).collect();
    let cases = document.cases.iter().filter_map(|case| compiler.case(case)).collect();
    let databases = document.databases.iter().map(|(name, seed)| (name.text.clone(), seed.clone())).collect();
    Prepared { path: path.to_owned(), plan: plan.clone(), databases, stubs, cases, services: known }
}

/// Whether a plan, or one it invokes, makes a call of this name or asks this database.
fn reaches(plan: &Plan, name: &str, database: Option<&str>) -> bool {
    let own = match database {
        Some(database) => plan.statements.iter().any(|(known, _)| known == database),
        None => plan.blocks.iter().flatten().any(|step| match &step.action {
            Action::Call(call) => match &call.operation {
                Some(operation) => name == format!("{}.{operation}", call.service),
                // The path is known when it runs; service and method are known before.
                None => {
                    let by = format!("{} {}", call.service, call.method);
                    name == by || name.starts_with(&format!("{by} "))
                }
            },
            _ => false,
        }),
    };
    own || plan.invoked().any(|plan| reaches(plan, name, database))
}

/// The services that a workflow and those it invokes call.
fn all_services(plan: &Plan) -> Vec<String> {
    let mut names = plan.services.clone();
    for invoked in plan.invoked() {
        names.extend(all_services(invoked));
    }
    names.sort();
    names.dedup();
    names
}

struct Compiler<'a, 'r, 's> {
    plan: &'a Arc<Plan>,
    services: &'a BTreeMap<String, Arc<Described>>,
    settings: &'a check::Settings,
    report: &'r mut Report<'s>,
}

impl Compiler<'_, '_, '_> {
    fn at(&self, place: Place) -> At {
        let (line, column) = self.report.line_and_column(place.start);
        At { line, column }
    }

    fn case(&mut self, case: &cases::Case) -> Option<Case> {
        let entered = match &case.entered {
            cases::Entered::Input(input, at) => {
                if let Err(problem) = self.plan.input.accept(&self.plan.input.hold(input)) {
                    for error in &problem.errors {
                        let message = format!(
                            "`{}` does not accept this input: {} {}",
                            self.plan.name, error.pointer, error.detail
                        );
                        self.report.error("wrong-input", *at, message);
                    }
                    if case.expect.reply.is_some() {
                        self.report.help("to see the answer of a client, write a `request` in place of the `input`");
                    }
                }
                Entered::Input(input.clone())
            }
            cases::Entered::Change { table, of, before, after, at } => {
                let watches = self.plan.watches.iter();
                let found = watches.enumerate().find(|(_, watch)| watch.table == *table && watch.of.contains(of));
                let Some((watch, _)) = found else {
                    let message = format!("`{}` does not watch `{table}` for {}", self.plan.name, of.name());
                    self.report.error("unknown-endpoint", *at, message);
                    return None;
                };
                let (at, before, after) = (case.clock.to_string(), before.clone(), after.clone());
                Entered::Change(watch, Change { of: *of, at, before, after })
            }
            cases::Entered::Request { method, target, headers, body, delivered, at } => {
                let (path, query) = target.split_once('?').unwrap_or((target, ""));
                let Some((endpoint, path)) = self.route(method, path) else {
                    self.report.error(
                        "unknown-endpoint",
                        *at,
                        format!("`{}` has no endpoint for this", self.plan.name),
                    );
                    let known: Vec<String> =
                        self.plan.endpoints.iter().map(|e| format!("{} {}", e.method, e.address.path)).collect();
                    self.report.help(match known.is_empty() {
                        true => "it has none; write its `input` instead".to_owned(),
                        false => format!("it has {}", known.join(", ")),
                    });
                    return None;
                };
                let webhook = self.plan.endpoints[endpoint].webhook.as_ref();
                if webhook.is_some_and(|webhook| webhook.accepts(method)) != *delivered {
                    let (is, key) =
                        if *delivered { ("is no webhook", "request") } else { ("is a webhook", "delivery") };
                    self.report.error("wrong-value", *at, format!("`{method} {target}` {is}"));
                    self.report.help(format!("write `{key}: {method} {target}`"));
                    return None;
                }
                Entered::Request { endpoint, path, query: query.into(), headers: headers.clone(), body: body.clone() }
            }
        };
        Some(Case {
            name: case.name.text.clone(),
            line: self.at(case.name.at).line,
            entered,
            clock: Timestamp::from_micros(case.clock.as_micros()),
            caller: case.caller.clone(),
            kept: case.kept.clone(),
            places: self.places(case),
            settings: self.settings_of(case),
            stubs: case.stubs.iter().map(|stub| self.stub(stub)).collect(),
            expect: self.expect(&case.expect),
        })
    }

    /// The settings of a case: those of the workflow with what the case says.
    fn settings_of(&mut self, case: &cases::Case) -> Option<Value> {
        let mut members = Vec::new();
        for (name, value) in &case.settings {
            match self.settings.misfit(&name.text, value) {
                None => members.push((name.text.as_str(), value.clone())),
                Some(why) if self.settings.declared.contains_key(&name.text) => {
                    self.report.error("wrong-value", name.at, format!("the setting `{}` cannot be {why}", name.text));
                }
                Some(_) => unknown_setting(&name.text, name.at, &self.settings.in_force, self.report),
            }
        }
        let own = self.plan.settings.as_ref().and_then(Value::as_object)?;
        let own = own.iter().map(|(name, value)| (&**name, value.clone()));
        (!members.is_empty()).then(|| Value::object(own.chain(members)))
    }

    /// The endpoint a request goes to, and the parts of its path by name.
    fn route(&self, method: &str, path: &str) -> Option<(usize, Vec<(String, String)>)> {
        let given: Vec<&str> = path.split('/').collect();
        self.plan.endpoints.iter().enumerate().find_map(|(index, endpoint)| {
            let parts: Vec<&str> = endpoint.address.path.split('/').collect();
            if endpoint.method != method || parts.len() != given.len() {
                return None;
            }
            let mut found = Vec::new();
            for (part, given) in parts.iter().zip(&given) {
                match part.strip_prefix('{').and_then(|p| p.strip_suffix('}')) {
                    Some(name) => found.push((name.to_owned(), input::decoded(given))),
                    None if part == given => {}
                    None => return None,
                }
            }
            Some((index, found))
        })
    }

    fn stub(&mut self, stub: &cases::Stub) -> Stub {
        let operation = self.operation(stub);
        let answers = stub
            .answers
            .iter()
            .map(|answer| {
                let outcome = match &answer.outcome {
                    StubOutcome::Answer { status, headers, body } => {
                        let body = body.as_ref().and_then(|node| {
                            let maker = self.maker(node);
                            if let (Some(Maker::Const(value)), Some((service, operation))) = (&maker, &operation) {
                                self.answer_fits(service, operation, *status, value, node.at);
                            }
                            maker
                        });
                        CompiledOutcome::Answer { status: *status, headers: headers.clone(), body }
                    }
                    StubOutcome::Rows { rows, count, id } => {
                        let rows = rows.as_ref().and_then(|node| self.maker(node));
                        CompiledOutcome::Rows { rows, count: *count, id: *id }
                    }
                    StubOutcome::Fails { kind, detail } => {
                        CompiledOutcome::Fails { kind: kind.clone(), detail: detail.clone() }
                    }
                };
                Answer {
                    when: answer.when.as_ref().and_then(|node| self.condition(node)),
                    times: answer.times,
                    takes: answer.takes,
                    outcome,
                }
            })
            .collect();
        Stub { name: stub.name.text.clone(), answers }
    }

    /// The operation a stub stands for; one that matches nothing is reported.
    fn operation(&mut self, stub: &cases::Stub) -> Option<(Arc<Described>, Operation)> {
        let name = &stub.name;
        self.used(name);
        let (service, operation) = match name.text.split_once(['.', ' ']) {
            Some(("sql", _)) => return None,
            None if [QUEUE, MAIL, CANCEL, CALLBACK, WAKE].contains(&name.text.as_str()) => return None,
            Some((service, operation)) => (service, operation),
            None => (name.text.as_str(), ""),
        };
        let Some(known) = self.services.get(service) else {
            let message = format!("`{}` calls no service `{service}`", self.plan.name);
            self.report.error("unknown-service", name.at, message);
            match suggest::nearest(service, self.services.keys().map(String::as_str)) {
                Some(near) => self.report.did_you_mean(near),
                None => self.report.help("stubs are named `service.operation`, `sql.DATABASE` or `service GET /path`"),
            };
            return None;
        };
        if name.text.contains(' ') {
            return None;
        }
        let found = known.operations.get(operation).cloned();
        if found.is_none() {
            let message = format!("the service `{service}` has no operation `{operation}`");
            let near = suggest::nearest(operation, known.operations.keys().map(String::as_str)).map(str::to_owned);
            self.report.error("unknown-operation", name.at, message);
            if let Some(near) = near {
                self.report.did_you_mean(&near);
            }
        }
        found.map(|operation| (known.clone(), operation))
    }

    /// A name that no step of the workflow, or of those it invokes, leads to is a slip.
    fn used(&mut self, name: &Named) {
        let database = name.text.strip_prefix("sql.");
        let known = !name.text.contains(['.', ' ']);
        if known || reaches(self.plan, &name.text, database) {
            return;
        }
        let what = if database.is_some() { "asks no database of this name" } else { "makes no such call" };
        self.report.warning("unused-stub", name.at, format!("`{}` {what}: `{}`", self.plan.name, name.text));
        self.report.help("remove it, or name what the workflow calls");
    }

    /// A stub must not answer what the real service never would.
    fn answer_fits(&mut self, service: &Described, operation: &Operation, status: u16, body: &Value, at: Place) {
        let described =
            operation.responses.iter().find(|r| r.statuses().is_some_and(|(from, to)| (from..=to).contains(&status)));
        let Some(schema) =
            described.and_then(|response| response.content.iter().find(|(media, _)| media.contains("json")))
        else {
            return;
        };
        let wanted = Reader::new(&service.api).read(&schema.1);
        if let Some((pointer, why)) = contradiction(&Type::of(body), &wanted) {
            let pointer = if pointer.is_empty() { String::new() } else { format!(" `{pointer}`") };
            let message = format!("the operation answers {status} with something else:{pointer} {why}");
            self.report.warning("odd-stub", at, message);
        }
    }

    fn scope(name: &str) -> Scope {
        let mut scope = Scope::default();
        scope.define(name);
        scope
    }

    fn condition(&mut self, node: &Node) -> Option<Expression> {
        let text = match &node.kind {
            Kind::Text(text) => text.text.clone(),
            _ => node.to_value().to_json(),
        };
        match Expression::compile(&text, &Self::scope(REQUEST)) {
            Ok(expression) => Some(expression),
            Err(faults) => {
                self.faults(faults, node);
                None
            }
        }
    }

    fn maker(&mut self, node: &Node) -> Option<Maker> {
        let scope = Self::scope(REQUEST);
        let mut text = |node: &Node, text: &str| match Template::compile(text, &scope) {
            Ok(Template::Text(text)) => (Some(Maker::Const(Value::Text(text))), Type::TEXT),
            Ok(template) => (Some(Maker::Text(template)), Type::Unknown),
            Err(faults) => {
                self.faults(faults, node);
                (None, Type::Unknown)
            }
        };
        check::maker(node, &mut text).0
    }

    /// Files that are in places when a case begins.
    fn places(&mut self, case: &cases::Case) -> Vec<(String, String, File)> {
        let mut files = Vec::with_capacity(case.places.len());
        for (place, path, described, at) in &case.places {
            match input::described(described).as_ref().and_then(File::of) {
                Some(file) => files.push((place.clone(), path.clone(), file.clone())),
                None => {
                    self.report.error(
                        "wrong-value",
                        *at,
                        "a file is described by its `text`, or its bytes as `base64`",
                    );
                    self.report.help("for example `{text: \"imo,name\", media: text/csv}`");
                }
            }
        }
        files
    }

    fn faults(&mut self, faults: Vec<Fault>, node: &Node) {
        check::report_faults(self.report, node, faults);
    }

    fn expect(&mut self, expect: &cases::Expect) -> Expect {
        let mut out = Expect {
            at: self.at(expect.at),
            state: expect.state.as_ref().map(|state| (state.text.clone(), self.at(state.at))),
            ..Expect::default()
        };
        out.failure = expect.failure.as_ref().and_then(|node| self.expected(node));
        out.kept = expect.kept.as_ref().and_then(|node| self.expected(node));
        out.places = expect.places.as_ref().and_then(|node| self.expected(node));
        out.took = expect.took.as_ref().and_then(|node| self.expected(node));
        out.reply = expect.reply.as_ref().map(|reply| Reply {
            at: self.at(reply.at),
            status: reply.status.map(|(status, at)| (status, self.at(at))),
            headers: reply
                .headers
                .iter()
                .filter_map(|(name, node)| Some((name.text.clone(), self.expected(node)?)))
                .collect(),
            body: reply.body.as_ref().and_then(|node| self.expected(node)),
            exactly: reply.exactly,
        });
        for (name, step) in &expect.steps {
            // `2[0]` is the first item of a loop.
            let number = name.text.split('[').next().unwrap_or_default();
            let known = self.plan.sheet.iter().any(|p| p.number == number || p.name.as_deref() == Some(number))
                || self.plan.sheet.iter().any(|p| p.kind == "invoke" && number.starts_with(&format!("{}.", p.number)));
            if !known {
                self.report.error("unknown-step", name.at, format!("`{}` has no step `{number}`", self.plan.name));
                let ids = self.plan.sheet.iter().filter_map(|p| p.name.as_deref());
                match suggest::nearest(number, ids) {
                    Some(near) => self.report.did_you_mean(near),
                    None => self.report.help("steps go by their number on the sheet, or by their id"),
                };
            }
            let compiled = Step {
                at: self.at(step.at),
                state: step.state.as_ref().map(|state| state.text.clone()),
                times: step.times,
                attempts: step.attempts,
            };
            out.steps.push((name.text.clone(), compiled));
        }
        for (name, jobs) in &expect.jobs {
            if !self.queues(self.plan, &name.text) {
                let message = format!("`{}` queues no `{}`", self.plan.name, name.text);
                self.report.error("unknown-workflow", name.at, message);
                if let Some(near) = suggest::nearest(&name.text, self.plan.enqueues.iter().map(String::as_str)) {
                    self.report.did_you_mean(near);
                }
            }
            let compiled = self.expected_calls(jobs);
            out.jobs.push((name.text.clone(), compiled));
        }
        out.mails = expect.mails.as_ref().map(|mails| self.expected_calls(mails));
        for (name, calls) in &expect.calls {
            let compiled = self.expected_calls(calls);
            let stub = cases::Stub { name: name.clone(), answers: Vec::new() };
            self.operation(&stub);
            out.calls.push((name.text.clone(), compiled));
        }
        out
    }

    /// Whether a workflow, or one it invokes, queues jobs of another.
    fn queues(&self, plan: &Plan, name: &str) -> bool {
        plan.enqueues.iter().any(|known| known == name) || plan.invoked().any(|plan| self.queues(plan, name))
    }

    fn expected_calls(&mut self, calls: &ExpectCalls) -> Calls {
        match calls {
            ExpectCalls::Times(times, at) => Calls::Times(*times, self.at(*at)),
            ExpectCalls::Each(nodes, at) => {
                let each = nodes.iter().filter_map(|node| self.expected(node)).collect();
                Calls::Each(each, self.at(*at))
            }
        }
    }

    fn expected(&mut self, node: &Node) -> Option<Expected> {
        let at = self.at(node.at);
        Some(match &node.kind {
            Kind::Text(text) => match Template::compile(&text.text, &Self::scope("it")) {
                Ok(Template::Text(text)) => Expected::Value(Value::Text(text), at),
                Ok(Template::Single(test)) => Expected::Holds(Box::new(test), at),
                Ok(Template::Mixed(..)) => {
                    self.report.error(
                        "wrong-value",
                        node.at,
                        "an expectation is a value, or one whole `${…}` over `it`",
                    );
                    self.report.help("for example `${it.startsWith('2027-')}`");
                    return None;
                }
                Err(faults) => {
                    self.faults(faults, node);
                    return None;
                }
            },
            Kind::List(items) => Expected::List(items.iter().filter_map(|item| self.expected(item)).collect(), at),
            Kind::Map(members) => {
                let members =
                    members.iter().filter_map(|(key, node)| Some((key.name.clone(), self.expected(node)?))).collect();
                Expected::Object(members, at)
            }
            _ => Expected::Value(node.to_value(), at),
        })
    }
}
