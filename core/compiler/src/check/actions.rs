//! What each kind of step becomes: its line on the sheet, the names it defines, its compiled action. Steps with
//! steps inside are in `branches`, those that answer the client in `answers`.

use super::steps::{Answered, End, Numbers, Walk};
use super::{calls, statements};
use crate::plan::sheet;
use crate::plan::{self, Maker};
use kanzlei_lang::document::reader::Named;
use kanzlei_lang::document::step::{Action, Cancel, Pause, Sql, Step};
use kanzlei_lang::document::workflow::Answer;
use kanzlei_lang::document::yaml::Node;
use kanzlei_lang::suggest;
use kanzlei_lang::types::{Text, Type, contradiction, schema};
use kanzlei_model::duration;

/// Where a step stands.
pub(super) struct At<'n> {
    /// Its paragraph on the sheet.
    pub paragraph: usize,
    /// Numbers for the steps inside.
    pub inside: &'n mut Numbers,
    /// Whether the client has its answer by now.
    pub answered: Answered,
}

/// What a step becomes: its action, how it ends, and the type of its result.
pub(super) type Compiled = (Option<plan::Action>, End, Type);

impl Walk<'_, '_, '_> {
    /// Compiles what a step does; returns how it ends and the type of its result.
    pub(super) fn action(&mut self, step: &Step, at: At) -> Compiled {
        let At { paragraph, answered, .. } = at;
        let end = End { ends: false, answered };
        let plain = |action: Option<plan::Action>| (action, end, Type::Undefined);
        match &step.action {
            Action::If { condition, then, otherwise } => self.choice(condition, then, otherwise, at),
            Action::Match { subject, arms, otherwise } => self.arms(subject, arms, otherwise, at),
            Action::Each(each) => self.each(each, at),
            Action::Together { branches, settle } => self.together(branches, *settle, step, at),
            Action::Await(wait) => self.awaited(wait, at),
            Action::Wake(wake) => self.wake(wake, at),
            Action::Reply { status, headers, body } => self.reply(status, headers, body, step, at),
            Action::Fail { .. } => self.fail(step, at),
            Action::Sql(sql) => self.sql(sql, at),
            Action::File(file) => self.file(file, at),
            Action::Render(render) => self.render(render, at),
            Action::Mail(mail) => self.mail(mail, at),
            Action::Let(values) => self.lets(values, at),
            Action::Script(node) => self.script(node, at),
            Action::Call(call) => {
                self.show(paragraph, "call", calls::title(&call.target), calls::rows(call));
                let mut compiled = calls::compile(self, call);
                let mut result = calls::result(self, call);
                if let Some((unless, answer)) = calls::unless(self, call, at.inside, answered) {
                    result = result.or(answer);
                    compiled = compiled.zip(unless).map(|(call, unless)| plan::Call { unless: Some(unless), ..call });
                }
                (compiled.map(|call| plan::Action::Call(Box::new(call))), end, result)
            }
            Action::Invoke { workflow, send } => {
                let rows = send.iter().map(|(name, node)| (name.text.clone(), sheet::inline(node))).collect();
                self.show(paragraph, "invoke", workflow.text.clone(), rows);
                let result = self.plans.get(&workflow.text).map_or(Type::Unknown, |plan| plan.result());
                (self.invoke(workflow, send).map(|invoke| plan::Action::Invoke(Box::new(invoke))), end, result)
            }
            Action::Enqueue(enqueue) => {
                let result = self.enqueued(enqueue, paragraph);
                (self.enqueue(enqueue).map(|enqueue| plan::Action::Enqueue(Box::new(enqueue))), end, result)
            }
            Action::Cancel(cancel) => {
                let (title, node, by) = match cancel {
                    Cancel::Ids(node) => (sheet::inline(node), node, plan::Cancel::Ids as fn(Maker) -> plan::Cancel),
                    Cancel::Tag(node) => (format!("tag {}", sheet::inline(node)), node, plan::Cancel::Tag as _),
                };
                self.show(paragraph, "cancel", title, Vec::new());
                let ids = Type::list(Type::TEXT);
                let result = Type::object(["cancelled", "begun", "done", "unknown"].map(|name| (name, ids.clone())));
                (self.maker(node).map(by).map(plan::Action::Cancel), end, result)
            }
            Action::Keep(values) => {
                let rows = values.iter().map(|(name, node)| (name.text.clone(), sheet::inline(node))).collect();
                self.show(paragraph, "keep", String::new(), rows);
                self.uses_kept = true;
                let made: Vec<_> = values
                    .iter()
                    .filter_map(|(name, node)| Some((name.text.as_str().into(), self.maker(node)?)))
                    .collect();
                plain(Some(plan::Action::Keep(made)))
            }
            Action::Pause(Pause::For(node)) => {
                self.show(paragraph, "pause", sheet::inline(node), Vec::new());
                let maker = self.timed(node, &[Text::Span]);
                if let Some(Maker::Const(value)) = &maker {
                    self.constant_pause(&kanzlei_lang::expr::ops::to_text(value), node);
                }
                plain(maker.map(plan::Action::Pause))
            }
            Action::Pause(Pause::Until(node)) => {
                self.show(paragraph, "pause", format!("until {}", sheet::inline(node)), Vec::new());
                plain(self.timed(node, &[Text::Instant]).map(plan::Action::Until))
            }
            Action::Progress(node) => {
                self.show(paragraph, "progress", sheet::inline(node), Vec::new());
                let (maker, of) = self.typed(node);
                let fits = match &of {
                    Type::Number(Some(number)) => (0.0..=1.0).contains(number),
                    of => of.can_be(&Type::NUMBER),
                };
                if !fits {
                    self.report.error(
                        "wrong-value",
                        node.at,
                        format!("progress is a number from 0 to 1, not {}", of.what()),
                    );
                }
                plain(maker.map(plan::Action::Progress))
            }
            Action::Note(node) => {
                self.show(paragraph, "note", sheet::inline(node), Vec::new());
                plain(self.maker(node).map(plan::Action::Note))
            }
        }
    }

    /// `let`: values under names.
    fn lets(&mut self, values: &[(Named, Node)], at: At) -> Compiled {
        let At { paragraph, answered, .. } = at;
        let rows = values.iter().map(|(name, node)| (name.text.clone(), sheet::inline(node))).collect();
        self.show(paragraph, "let", String::new(), rows);
        let mut made = Vec::new();
        let mut types = Vec::new();
        for (name, node) in values {
            let (maker, of) = self.typed(node);
            let slot = self.define(name);
            types.push((name.text.as_str(), of.clone()));
            if let Some(slot) = slot {
                self.env.set(slot, of);
            }
            made.extend(slot.zip(maker));
        }
        (Some(plan::Action::Let(made)), End { ends: false, answered }, Type::object(types))
    }

    /// `sql`: statements for a database.
    fn sql(&mut self, sql: &Sql, at: At) -> Compiled {
        let At { paragraph, answered, .. } = at;
        let more = if sql.transaction { format!(" (transaction of {})", sql.statements.len()) } else { String::new() };
        let mut rows = Vec::new();
        if let Some(from) = &sql.from {
            rows.push(("from".to_owned(), sheet::inline(from)));
        }
        if let Some(into) = &sql.into {
            rows.push(("into".to_owned(), into.format.word().to_owned()));
        }
        for statement in &sql.statements {
            let words = statement.text.as_text().unwrap_or_default().split_whitespace();
            let mut short = words.collect::<Vec<_>>().join(" ");
            if short.chars().count() > 160 {
                short = short.chars().take(160).chain(['…']).collect();
            }
            rows.push(("statement".to_owned(), short));
            let binds = statement.bind.iter();
            rows.extend(binds.map(|(name, node)| (format!(":{}", name.text), sheet::inline(node))));
        }
        self.show(paragraph, "sql", format!("{}{more}", sql.database.text), rows);
        let compiled = statements::compile(self, sql);
        let result = match &compiled {
            Some(sql) => statements::result(self, sql),
            None => Type::Unknown,
        };
        let action = compiled.map(|sql| plan::Action::Sql(Box::new(sql)));
        (action, End { ends: false, answered }, result)
    }

    fn invoke(&mut self, workflow: &Named, send: &[(Named, Node)]) -> Option<plan::Invoke> {
        let given: Vec<_> = send.iter().map(|(name, node)| (name, node, self.typed(node))).collect();
        let types: Vec<(&Named, &Node, Type)> =
            given.iter().map(|(name, node, (_, of))| (*name, *node, of.clone())).collect();
        let made: Vec<_> =
            given.into_iter().filter_map(|(name, _, (maker, _))| Some((name.text.as_str().into(), maker?))).collect();
        let of_library = workflow.text.split_once('.').map(|(library, _)| library);
        if let Some(library) =
            of_library.filter(|library| self.workflow.uses.iter().all(|one| one.name.text != *library))
        {
            let message = format!("the library `{library}` is not used here");
            self.report.error("unknown-workflow", workflow.at, message);
            self.report.help(format!("say so at the top: `use: [{library}]`"));
            return None;
        }
        let Some(plan) = self.plans.get(&workflow.text) else {
            self.unknown_workflow(workflow);
            return None;
        };
        self.uses_run |= plan.uses_run;
        self.durable |= plan.durable;
        if !self.invokes.contains(&plan.name) {
            self.invokes.push(plan.name.clone());
        }
        let takes: Vec<Takes> =
            plan.input.properties.iter().map(|p| (p.name.as_str(), &p.schema, p.required)).collect();
        self.sent_to(workflow, &takes, plan.input.extra, &types);
        Some(plan::Invoke { plan: plan.clone(), send: made })
    }

    pub(super) fn unknown_workflow(&mut self, workflow: &Named) {
        self.report.error("unknown-workflow", workflow.at, format!("there is no workflow `{}`", workflow.text));
        if let Some(near) = suggest::nearest(&workflow.text, self.workflows.keys().copied()) {
            self.report.did_you_mean(near);
        }
    }

    /// What is sent against the input of a workflow.
    pub(super) fn sent_to(&mut self, workflow: &Named, takes: &[Takes], extra: bool, sent: &[(&Named, &Node, Type)]) {
        for (name, _, _) in sent.iter().filter(|_| !extra) {
            if !takes.iter().any(|(known, _, _)| *known == name.text) {
                self.report.error(
                    "unknown-input",
                    name.at,
                    format!("`{}` has no input `{}`", workflow.text, name.text),
                );
                match suggest::nearest(&name.text, takes.iter().map(|(known, _, _)| *known)) {
                    Some(near) => self.report.did_you_mean(near),
                    None if takes.is_empty() => self.report.help("it has no input"),
                    None => self.report.help(format!(
                        "it takes {}",
                        takes.iter().map(|(known, _, _)| *known).collect::<Vec<_>>().join(", ")
                    )),
                };
            }
        }
        for (known, _, _) in takes.iter().filter(|(_, _, required)| *required) {
            if !sent.iter().any(|(name, _, _)| name.text == *known) {
                let message = format!("`{}` needs `{known}`, which is not sent", workflow.text);
                self.report.error("missing-input", workflow.at, message);
                self.report.help(format!("add it under `send`: `{known}: …`"));
            }
        }
        for (name, node, of) in sent {
            let Some((_, wanted, required)) = takes.iter().find(|(known, _, _)| *known == name.text) else { continue };
            let wanted = schema::read(wanted);
            let of = if *required { of.clone() } else { of.keep(|one| *one != Type::Undefined) };
            if let Some((pointer, why)) = contradiction(&of, &wanted) {
                let pointer = if pointer.is_empty() { String::new() } else { format!(" at `{pointer}`") };
                let message = format!("`{}` does not accept this{pointer}: {why}", workflow.text);
                self.report.error("wrong-argument", node.at, message);
            }
        }
    }

    /// A pause whose length is written down must fit into the time of each endpoint.
    fn constant_pause(&mut self, text: &str, node: &Node) {
        let Ok(span) = duration::parse(text) else { return };
        self.durable |= span > kanzlei_lang::document::workflow::MAX_TIME;
        let endpoints = self.workflow.entries.iter().map(|one| (one.answer, one.time, &one.address));
        let webhooks = self.workflow.webhooks.iter().map(|one| (one.answer, one.time, &one.address));
        for (_, time, path) in endpoints.chain(webhooks).filter(|(answer, ..)| *answer != Answer::Later) {
            let time = time.unwrap_or(super::entries::TIME);
            if span >= time {
                let limit = duration::short(time);
                let message = format!("the pause is longer than `{path}` may take ({limit})");
                self.report.error("pause-too-long", node.at, message);
                self.report.help("raise the limit: `limits: {time: …}`, pause for less, or set `answer: later`");
            }
        }
    }
}

/// A declared input: its name, schema, and whether it must be there.
pub(super) type Takes<'a> = (&'a str, &'a serde_json::Value, bool);
