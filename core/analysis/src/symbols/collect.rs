//! Where the names of a document stand: in its tree, and in its expressions by what the checker mentions.

use kanzlei_compiler::check::relative;
use kanzlei_compiler::check::watch::Mention;
use kanzlei_compiler::plan::FIXED;
use kanzlei_lang::diagnostic::Place;
use kanzlei_lang::document::alert::Subject;
use kanzlei_lang::document::library::Use;
use kanzlei_lang::document::proof::Proof;
use kanzlei_lang::document::reader::Named;
use kanzlei_lang::document::service::openapi_file;
use kanzlei_lang::document::step::{Action, Call, Step, Target};
use kanzlei_lang::document::yaml::{Kind, Node};
use kanzlei_lang::document::{Document, Library, Workflow};

use super::{Location, Occurrence, Symbol, workflow};
use crate::Workspace;
use crate::place::read;

pub(super) struct Collect<'w> {
    workspace: &'w Workspace,
    path: &'w str,
    text: &'w str,
    pub found: Vec<Occurrence>,
}

impl<'w> Collect<'w> {
    pub fn new(workspace: &'w Workspace, path: &'w str, text: &'w str) -> Self {
        Collect { workspace, path, text, found: Vec::new() }
    }

    /// Adds an occurrence; quotes around the name are no part of it.
    fn add(&mut self, symbol: Symbol, at: Place, declares: bool) {
        let raw = self.text.get(at.start as usize..at.end as usize).unwrap_or_default();
        let quoted = raw.len() > 1 && raw.starts_with(['"', '\'']);
        let (start, end) = if quoted { (at.start + 1, at.end - 1) } else { (at.start, at.end) };
        // A place that does not hold the name itself, such as one behind an alias, is no occurrence.
        if self.text.get(start as usize..end as usize) == Some(symbol.name()) {
            let range = crate::complete::Range { start, end };
            self.found.push(Occurrence { symbol, path: self.path.to_owned(), range, declares });
        }
    }

    /// A part of a text at a place.
    fn add_part(&mut self, symbol: Symbol, at: Place, offset: usize, declares: bool) {
        let raw = self.text.get(at.start as usize..at.end as usize).unwrap_or_default();
        let start = at.start as usize + usize::from(raw.starts_with(['"', '\''])) + offset;
        let place = Place::new(start, start + symbol.name().len());
        self.add(symbol, place, declares);
    }

    pub fn document(&mut self, document: &Document) {
        match document {
            Document::Workflow(workflow) => self.workflow(workflow),
            Document::Service(service) => {
                self.add(Symbol::Service(service.name.text.clone()), service.name.at, true);
                for secret in service.secrets() {
                    self.add(Symbol::Secret(secret.text.clone()), secret.at, false);
                }
                if let Some(issuer) = service.issuer() {
                    self.add(Symbol::Service(issuer.text.clone()), issuer.at, false);
                }
            }
            Document::Allowance(allowance) => {
                self.add(Symbol::Allowance(allowance.name.text.clone()), allowance.name.at, true);
            }
            Document::Alert(alert) => {
                self.add(Symbol::Alert(alert.name.text.clone()), alert.name.at, true);
                let of = alert.of.text.clone();
                let subject = match alert.subject {
                    Subject::Workflow | Subject::Timetable => Symbol::Workflow(of),
                    Subject::Lane => Symbol::Lane(of),
                    Subject::Service => Symbol::Service(of),
                    Subject::Allowance => Symbol::Allowance(of),
                };
                self.add(subject, alert.of.at, false);
                if let Some(run) = &alert.run {
                    self.add(Symbol::Workflow(run.text.clone()), run.at, false);
                }
            }
            Document::Issuer(issuer) => {
                self.add(Symbol::Issuer(issuer.name.text.clone()), issuer.name.at, true);
                if let Some(service) = issuer.keys.service() {
                    self.add(Symbol::Service(service.text.clone()), service.at, false);
                }
                if let Some(allowance) = &issuer.allowance {
                    self.add(Symbol::Allowance(allowance.text.clone()), allowance.at, false);
                }
            }
            Document::Lane(lane) => self.add(Symbol::Lane(lane.name.text.clone()), lane.name.at, true),
            Document::Database(database) => {
                self.add(Symbol::Database(database.name.text.clone()), database.name.at, true)
            }
            Document::Settings(settings) => {
                for property in &settings.values {
                    self.add(Symbol::Setting(property.name.text.clone()), property.name.at, true);
                }
            }
            Document::Library(library) => self.library(library),
            Document::Cases(_) => self.cases(),
        }
        self.settings_as_constants();
    }

    /// Settings that stand where a constant does: `base: ${settings.tides_base}`. Expressions are checked and mention their own.
    fn settings_as_constants(&mut self) {
        const BEFORE: &str = "${settings.";
        for (at, _) in self.text.match_indices(BEFORE) {
            let start = at + BEFORE.len();
            let rest = &self.text[start..];
            let end = rest.find(|c: char| !c.is_ascii_alphanumeric() && c != '_').unwrap_or(rest.len());
            self.add(Symbol::Setting(rest[..end].to_owned()), Place::new(start, start + end), false);
        }
    }

    /// A library: its functions belong to it, and each group of steps is a workflow.
    fn library(&mut self, library: &Library) {
        let own = &library.name.text;
        self.add(Symbol::Library(own.clone()), library.name.at, true);
        self.uses(&library.uses);
        for (name, _) in &library.functions {
            self.add(Symbol::Function(own.clone(), name.text.clone()), name.at, true);
        }
        for group in &library.groups {
            let name = group.name.text.rsplit('.').next().unwrap_or_default();
            self.add(Symbol::Group(own.clone(), name.to_owned()), group.name.at, true);
            for property in &group.input {
                let input = Symbol::Input(group.name.text.clone(), property.name.text.clone());
                self.add(input, property.name.at, true);
            }
            self.steps(&group.name.text, &group.steps);
        }
    }

    fn uses(&mut self, uses: &[Use]) {
        for one in uses {
            self.add(Symbol::Library(one.name.text.clone()), one.name.at, false);
        }
    }

    fn workflow(&mut self, workflow: &Workflow) {
        let own = &workflow.name.text;
        self.add(Symbol::Workflow(own.clone()), workflow.name.at, true);
        self.uses(&workflow.uses);
        for property in &workflow.input {
            self.add(Symbol::Input(own.clone(), property.name.text.clone()), property.name.at, true);
        }
        for (name, _) in &workflow.functions {
            self.add(Symbol::Function(own.clone(), name.text.clone()), name.at, true);
        }
        for endpoint in &workflow.entries {
            if let Some(allowance) = &endpoint.allowance {
                self.add(Symbol::Allowance(allowance.text.clone()), allowance.at, false);
            }
            if let Some(issuer) = endpoint.access.issuer() {
                self.add(Symbol::Issuer(issuer.text.clone()), issuer.at, false);
            }
            for (name, _) in &endpoint.from {
                self.add(Symbol::Input(own.clone(), name.text.clone()), name.at, false);
            }
            let raw = self.text.get(endpoint.at.start as usize..endpoint.at.end as usize).unwrap_or_default();
            let raw = raw.trim_start_matches(['"', '\'']);
            for (at, _) in raw.match_indices('{') {
                let Some((name, _)) = raw[at + 1..].split_once('}') else { continue };
                self.add_part(Symbol::Input(own.clone(), name.to_owned()), endpoint.at, at + 1, false);
            }
        }
        for webhook in &workflow.webhooks {
            for (name, _) in webhook.send.iter().flatten() {
                self.add(Symbol::Input(own.clone(), name.text.clone()), name.at, false);
            }
            if let Proof::Jwt(issuer) = &webhook.proof {
                self.add(Symbol::Issuer(issuer.text.clone()), issuer.at, false);
            }
            for secret in webhook.proof.secrets() {
                self.add(Symbol::Secret(secret.text.clone()), secret.at, false);
            }
        }
        for timetable in &workflow.timetables {
            for (name, _) in &timetable.send {
                self.add(Symbol::Input(own.clone(), name.text.clone()), name.at, false);
            }
        }
        if let Some(lane) = &workflow.queue.lane {
            self.lane(lane);
        }
        if let Some(notify) = &workflow.queue.notify {
            self.add(Symbol::Secret(notify.secret.text.clone()), notify.secret.at, false);
        }
        workflow.lists().for_each(|steps| self.steps(own, steps));
    }

    /// A lane that is named; those among which an expression chooses are texts in it.
    fn lane(&mut self, node: &Node) {
        if let Some(name) = node.as_text().filter(|text| !text.contains("${")) {
            self.add(Symbol::Lane(name.to_owned()), node.at, false);
        }
    }

    fn steps(&mut self, own: &str, steps: &[Step]) {
        for step in steps {
            let name = |named: &Named| Symbol::Name(own.to_owned(), named.text.clone());
            if let Some(id) = &step.id {
                self.add(name(id), id.at, true);
            }
            match &step.action {
                Action::Call(call) => {
                    self.call(call);
                    for secret in call.sign.iter().flat_map(|sign| sign.secrets()) {
                        self.add(Symbol::Secret(secret.text.clone()), secret.at, false);
                    }
                }
                Action::Let(values) => values.iter().for_each(|(named, _)| self.add(name(named), named.at, true)),
                Action::Keep(values) => {
                    let kept = |named: &Named| Symbol::Kept(own.to_owned(), named.text.clone());
                    values.iter().for_each(|(named, _)| self.add(kept(named), named.at, true));
                }
                Action::Each(each) => {
                    self.add(name(&each.item), each.item.at, true);
                    each.position.iter().for_each(|position| self.add(name(position), position.at, true));
                }
                Action::Await(wait) => self.add(name(&wait.name), wait.name.at, true),
                Action::Wake(wake) => self.sent(&wake.workflow, &[]),
                Action::Invoke { workflow, send } => self.sent(workflow, send),
                Action::Enqueue(enqueue) => {
                    self.sent(&enqueue.workflow, &enqueue.send);
                    if let Some(lane) = &enqueue.lane {
                        self.lane(lane);
                    }
                    if let Some((_, item)) = &enqueue.each {
                        self.add(name(item), item.at, true);
                    }
                }
                Action::Sql(sql) => {
                    self.add(Symbol::Database(sql.database.text.clone()), sql.database.at, false);
                }
                _ => {}
            }
            step.inside().into_iter().for_each(|steps| self.steps(own, steps));
        }
    }

    fn call(&mut self, call: &Call) {
        match &call.target {
            Target::Operation { service, operation, at } => {
                self.add_part(Symbol::Service(service.clone()), *at, 0, false);
                self.add_part(Symbol::Operation(service.clone(), operation.clone()), *at, service.len() + 1, false);
            }
            Target::Url { service: Some(service), .. } => {
                self.add(Symbol::Service(service.text.clone()), service.at, false);
            }
            Target::Url { .. } => {}
        }
    }

    fn sent(&mut self, target: &Named, send: &[(Named, Node)]) {
        match target.text.split_once('.') {
            Some((library, group)) => {
                self.add_part(Symbol::Library(library.to_owned()), target.at, 0, false);
                let symbol = Symbol::Group(library.to_owned(), group.to_owned());
                self.add_part(symbol, target.at, library.len() + 1, false);
            }
            None => self.add(Symbol::Workflow(target.text.clone()), target.at, false),
        }
        for (name, _) in send {
            self.add(Symbol::Input(target.text.clone(), name.text.clone()), name.at, false);
        }
    }

    /// Cases name their workflow, its inputs and steps, and what it calls.
    fn cases(&mut self) {
        let Some(root) = read(self.text) else { return };
        let Some(named) = root.get("cases") else { return };
        let own = named.as_text().unwrap_or_default().to_owned();
        self.add(Symbol::Workflow(own.clone()), named.at, false);
        self.stubs(root.get("stubs"));
        let Some(Kind::List(examples)) = root.get("examples").map(|node| &node.kind) else { return };
        for case in examples {
            self.stubs(case.get("stubs"));
            let declared = workflow(self.workspace, &own);
            let mut members = |node: Option<&Node>, symbol: &dyn Fn(&str) -> Symbol| {
                for (key, _) in node.and_then(Node::as_map).unwrap_or_default() {
                    self.add(symbol(&key.name), key.at, false);
                }
            };
            let input = |name: &str| Symbol::Input(own.clone(), name.to_owned());
            members(case.get("input"), &input);
            let declares = |name: &str| declared.is_some_and(|known| known.input.iter().any(|p| p.name.text == name));
            if case
                .get("body")
                .and_then(Node::as_map)
                .is_some_and(|body| body.iter().all(|(key, _)| declares(&key.name)))
            {
                members(case.get("body"), &input);
            }
            // Names in a query, as they are written: one that is percent-encoded is no name of an input.
            if let Some((node, target)) = case.get("request").and_then(|node| Some((node, node.as_text()?))) {
                let query = target.split_once('?').map_or("", |(_, query)| query);
                let mut at = target.len() - query.len();
                for pair in query.split('&') {
                    let name = pair.split('=').next().unwrap_or_default();
                    if declares(name) {
                        self.add_part(input(name), node.at, at, false);
                    }
                    at += pair.len() + 1;
                }
            }
            let mut members = |node: Option<&Node>, symbol: &dyn Fn(&str) -> Symbol| {
                for (key, _) in node.and_then(Node::as_map).unwrap_or_default() {
                    self.add(symbol(&key.name), key.at, false);
                }
            };
            let kept = |name: &str| Symbol::Kept(own.clone(), name.to_owned());
            members(case.get("kept"), &kept);
            members(case.get("settings"), &|name| Symbol::Setting(name.to_owned()));
            let Some(expect) = case.get("expect") else { continue };
            members(expect.get("kept"), &kept);
            members(expect.get("jobs"), &|name| Symbol::Workflow(name.to_owned()));
            members(expect.get("steps"), &|name| Symbol::Name(own.clone(), name.to_owned()));
            self.stubs(expect.get("calls"));
        }
    }

    fn stubs(&mut self, node: Option<&Node>) {
        for (key, _) in node.and_then(Node::as_map).unwrap_or_default() {
            match key.name.split_once('.') {
                Some(("sql", database)) => {
                    self.add_part(Symbol::Database(database.to_owned()), key.at, 4, false);
                }
                Some((service, operation)) if !service.contains(' ') => {
                    self.add_part(Symbol::Service(service.to_owned()), key.at, 0, false);
                    let symbol = Symbol::Operation(service.to_owned(), operation.to_owned());
                    self.add_part(symbol, key.at, service.len() + 1, false);
                }
                _ => {}
            }
        }
    }

    /// What the expressions of a workflow mention.
    pub fn mentions<'m>(&mut self, document: &Document, mentions: impl Iterator<Item = &'m Mention>) {
        for mention in mentions {
            // Those of a library stand in one of its groups.
            let (own, functions, uses) = match document {
                Document::Workflow(workflow) => (&workflow.name.text, &workflow.functions, &workflow.uses),
                Document::Library(library) => {
                    let mut groups = library.groups.iter().rev();
                    let group = groups.find(|group| group.name.at.start <= mention.at.start);
                    let own = group.map_or(&library.name.text, |group| &group.name.text);
                    (own, &library.functions, &library.uses)
                }
                _ => return,
            };
            if mention.function {
                let has = |functions: &[(Named, Node)]| functions.iter().any(|(name, _)| name.text == mention.name);
                let of_library = || {
                    uses.iter().find(|one| {
                        super::library(self.workspace, &one.name.text).is_some_and(|library| has(&library.functions))
                    })
                };
                let owner = match has(functions) {
                    true => own.split('.').next().unwrap_or(own),
                    false => of_library().map_or(own.as_str(), |one| one.name.text.as_str()),
                };
                self.add(Symbol::Function(owner.to_owned(), mention.name.clone()), mention.at, false);
                continue;
            }
            match (mention.name.as_str(), &mention.member) {
                ("input", Some((member, at))) => self.add(Symbol::Input(own.clone(), member.clone()), *at, false),
                ("kept", Some((member, at))) => self.add(Symbol::Kept(own.clone(), member.clone()), *at, false),
                ("settings", Some((member, at))) => self.add(Symbol::Setting(member.clone()), *at, false),
                (name, _) if FIXED.contains(&name) => {}
                (name, _) => self.add(Symbol::Name(own.clone(), name.to_owned()), mention.at, false),
            }
        }
    }
}

/// Where the OpenAPI document of a service declares an operation.
pub(super) fn operation_in_file(workspace: &Workspace, service: &str, operation: &str) -> Option<Location> {
    let (path, text, _) = workspace
        .documents()
        .find(|(_, _, document)| matches!(document, Document::Service(found) if found.name.text == service))?;
    let root = read(text)?;
    let file = relative(path, openapi_file(&root)?);
    let api = read(workspace.text(&file)?)?;
    for (_, item) in api.get("paths")?.as_map()? {
        for (method, found) in item.as_map().unwrap_or_default() {
            if found.get("operationId").and_then(Node::as_text) == Some(operation) {
                let at = found.get("operationId").map_or(method.at, |node| node.at);
                return Some(Location { path: file, range: at.into() });
            }
        }
    }
    None
}
