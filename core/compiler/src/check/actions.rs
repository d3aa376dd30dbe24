//! What each kind of step becomes: its line on the sheet, the names it defines, its compiled action.

use super::steps::{Answered, End, Numbers, Walk};
use super::{calls, scope, statements};
use crate::plan::sheet;
use crate::plan::{self, Maker};
use kanzlei_lang::diagnostic::Place;
use kanzlei_lang::document::reader::Named;
use kanzlei_lang::document::step::{Action, Cancel, Pause, Step};
use kanzlei_lang::document::workflow::Answer;
use kanzlei_lang::document::yaml::Node;
use kanzlei_lang::suggest;
use kanzlei_lang::types::{Env, Text, Type, contradiction, schema};
use kanzlei_model::duration;

impl Walk<'_, '_, '_> {
    pub(super) fn action(
        &mut self,
        step: &Step,
        paragraph: usize,
        inside: &mut Numbers,
        answered: Answered,
    ) -> (Option<plan::Action>, End, Type) {
        let mut end = End { ends: false, answered };
        let mut gives = Type::Undefined;
        let action = match &step.action {
            Action::Call(call) => {
                self.show(paragraph, "call", calls::title(&call.target), calls::rows(call));
                let compiled = calls::compile(self, call);
                gives = calls::result(self, call);
                compiled.map(|call| plan::Action::Call(Box::new(call)))
            }
            Action::Let(values) => {
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
                gives = Type::object(types);
                Some(plan::Action::Let(made))
            }
            Action::If { condition, then, otherwise } => {
                self.show(paragraph, "if", sheet::inline(condition), Vec::new());
                let compiled = self.condition("if", condition);
                self.constant_condition(condition);
                let around = self.env.clone();
                let assuming = |holds| compiled.as_ref().map_or(around.clone(), |c| around.assuming(c, holds));
                self.env = assuming(true);
                let (first, names) = self.apart(|walk| walk.branch(then, inside, "then", answered));
                let after_then = std::mem::replace(&mut self.env, assuming(false));
                let second = (!otherwise.is_empty())
                    .then(|| self.apart(|walk| walk.branch(otherwise, inside, "else", answered)));
                let other_end = second.as_ref().map_or(end, |((_, end), _)| *end);
                self.env = scope::meet(after_then, first.1.ends, self.env.clone(), other_end.ends);
                end = End { ends: first.1.ends && other_end.ends, answered: first.1.answered.join(other_end.answered) };
                self.know(names);
                let otherwise = second.map(|((block, _), names)| {
                    self.know(names);
                    block
                });
                compiled.map(|condition| plan::Action::If { condition, then: first.0, otherwise })
            }
            Action::Match { subject, arms, otherwise } => {
                self.show(paragraph, "match", sheet::inline(subject), Vec::new());
                let subject = self.condition("match", subject);
                let subject_type = self.last.clone();
                let mut left = self.env.clone();
                let mut after: Option<(Env, bool)> = None;
                let mut meet = |env: Env, ends: bool| {
                    after = Some(match after.take() {
                        None => (env, ends),
                        Some((known, known_ends)) => (scope::meet(known, known_ends, env, ends), known_ends && ends),
                    });
                };
                let mut compiled = Vec::new();
                let mut all_names = Vec::new();
                let mut joined: Option<End> = None;
                let mut join = |end: End| {
                    joined =
                        Some(joined.map_or(end, |j| End {
                            ends: j.ends && end.ends,
                            answered: j.answered.join(end.answered),
                        }));
                };
                let mut open = subject_type.clone();
                for arm in arms {
                    let value = Type::of(&arm.value);
                    if !open.can_be(&value) {
                        let message = format!("this arm is never taken: the value is {}", short(&subject_type));
                        self.report.warning("constant-condition", arm.label.at, message);
                    }
                    open = open.keep(|one| *one != value);
                    if let Some(subject) = &subject {
                        self.env = left.assuming_value(subject, &arm.value, true);
                        left = left.assuming_value(subject, &arm.value, false);
                    }
                    let ((block, end), names) =
                        self.apart(|walk| walk.branch(&arm.steps, inside, &arm.label.text, answered));
                    compiled.push((arm.value.clone(), block));
                    all_names.extend(names);
                    meet(self.env.clone(), end.ends);
                    join(end);
                }
                // With an arm for each value there is no other way.
                let all_covered = open == Type::Never;
                self.env = left;
                let otherwise = if otherwise.is_empty() {
                    if !all_covered {
                        meet(self.env.clone(), false);
                        join(End { ends: false, answered });
                    }
                    None
                } else {
                    if all_covered {
                        let at = otherwise[0].at;
                        self.report.warning(
                            "constant-condition",
                            at,
                            "`else` is never taken: there is an arm for each value",
                        );
                    }
                    let ((block, end), names) = self.apart(|walk| walk.branch(otherwise, inside, "else", answered));
                    all_names.extend(names);
                    meet(self.env.clone(), end.ends);
                    join(end);
                    Some(block)
                };
                if let Some((env, _)) = after {
                    self.env = env;
                }
                self.know(all_names);
                end = joined.unwrap_or(end);
                subject.map(|subject| plan::Action::Match { subject, arms: compiled, otherwise, complete: all_covered })
            }
            Action::Each(each) => {
                let title = format!("{} in {}", each.item.text, sheet::inline(&each.list));
                let mut rows = Vec::new();
                if each.at_once > 1 {
                    rows.push(("at once".to_owned(), each.at_once.to_string()));
                }
                rows.extend(each.collect.iter().map(|node| ("collect".to_owned(), sheet::inline(node))));
                if each.settle {
                    rows.push(("settle".to_owned(), "all".to_owned()));
                }
                self.show(paragraph, "each", title, rows);
                let list = self.condition("in", &each.list);
                let item_type = self.list_item(&each.list);
                self.apart_from_client += 1;
                let around = self.env.clone();
                let ((item, index, block, collect), _) = self.apart(|walk| {
                    let item = walk.define(&each.item);
                    let index = each.position.as_ref().map(|position| walk.define(position));
                    if let Some(slot) = item {
                        walk.env.set(slot, item_type);
                    }
                    if let Some(Some(slot)) = index {
                        walk.env.set(slot, Type::NUMBER);
                    }
                    walk.result = Type::Undefined;
                    let (block, _) = walk.branch(&each.steps, inside, &format!("each {}", each.item.text), answered);
                    let mut kept = walk.result.clone();
                    let collect = each.collect.as_ref().map(|node| {
                        let (maker, of) = walk.typed(node);
                        kept = of;
                        maker
                    });
                    gives = Type::list(if each.settle { scope::settled(kept) } else { kept });
                    (item, index, block, collect)
                });
                self.env = around;
                self.apart_from_client -= 1;
                let whole = list.zip(item).filter(|_| index != Some(None) && !matches!(collect, Some(None)));
                whole.map(|(list, item)| {
                    plan::Action::Each(Box::new(plan::Each {
                        list,
                        item,
                        position: index.flatten(),
                        block,
                        at_once: each.at_once,
                        collect: collect.flatten(),
                        settle: each.settle,
                    }))
                })
            }
            Action::Together { branches, settle } => {
                let rows = if *settle { vec![("settle".to_owned(), "all".to_owned())] } else { Vec::new() };
                self.show(paragraph, "together", String::new(), rows);
                if branches.is_empty() {
                    self.report.error("wrong-value", step.at, "`together` has no branches");
                    self.report.help("name at least one: `together: {tide: {call: tides.nextWindow}}`");
                }
                self.apart_from_client += 1;
                let mut blocks = Vec::with_capacity(branches.len());
                let around = self.env.clone();
                let mut types = Vec::with_capacity(branches.len());
                for branch in branches {
                    self.env = around.clone();
                    self.result = Type::Undefined;
                    let ((block, branch_end), _) =
                        self.apart(|walk| walk.branch(&branch.steps, inside, &branch.name.text, answered));
                    end.ends |= branch_end.ends;
                    blocks.push(block);
                    let of = self.result.clone();
                    types.push(if *settle { scope::settled(of) } else { of });
                }
                self.env = around;
                self.apart_from_client -= 1;
                gives = Type::object(branches.iter().map(|b| b.name.text.as_str()).zip(types.iter().cloned()));
                let compiled: Vec<_> = branches
                    .iter()
                    .zip(blocks.into_iter().zip(types))
                    .filter_map(|(branch, (block, of))| {
                        let slot = self.define(&branch.name)?;
                        self.env.set(slot, of);
                        Some(plan::Branch { name: branch.name.text.as_str().into(), slot, block })
                    })
                    .collect();
                Some(plan::Action::Together { branches: compiled, settle: *settle })
            }
            Action::Invoke { workflow, send } => {
                let rows = send.iter().map(|(name, node)| (name.text.clone(), sheet::inline(node))).collect();
                self.show(paragraph, "invoke", workflow.text.clone(), rows);
                gives = self.plans.get(&workflow.text).map_or(Type::Unknown, |plan| plan.result());
                self.invoke(workflow, send).map(|invoke| plan::Action::Invoke(Box::new(invoke)))
            }
            Action::Sql(sql) => {
                let more =
                    if sql.transaction { format!(" (transaction of {})", sql.statements.len()) } else { String::new() };
                let mut rows = Vec::new();
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
                gives = match &compiled {
                    Some(sql) => statements::result(self, sql),
                    None => Type::Unknown,
                };
                compiled.map(|sql| plan::Action::Sql(Box::new(sql)))
            }
            Action::Keep(values) => {
                let rows = values.iter().map(|(name, node)| (name.text.clone(), sheet::inline(node))).collect();
                self.show(paragraph, "keep", String::new(), rows);
                self.uses_kept = true;
                let made: Vec<_> = values
                    .iter()
                    .filter_map(|(name, node)| Some((name.text.as_str().into(), self.maker(node)?)))
                    .collect();
                Some(plan::Action::Keep(made))
            }
            Action::Pause(Pause::For(node)) => {
                self.show(paragraph, "pause", sheet::inline(node), Vec::new());
                let maker = self.timed(node, &[Text::Span]);
                if let Some(Maker::Const(value)) = &maker {
                    self.constant_pause(&kanzlei_lang::expr::ops::to_text(value), node);
                }
                maker.map(plan::Action::Pause)
            }
            Action::Pause(Pause::Until(node)) => {
                self.show(paragraph, "pause", format!("until {}", sheet::inline(node)), Vec::new());
                self.timed(node, &[Text::Instant]).map(plan::Action::Until)
            }
            Action::Enqueue(enqueue) => {
                gives = self.enqueued(enqueue, paragraph);
                self.enqueue(enqueue).map(|enqueue| plan::Action::Enqueue(Box::new(enqueue)))
            }
            Action::Cancel(cancel) => {
                let (title, node, by) = match cancel {
                    Cancel::Ids(node) => (sheet::inline(node), node, plan::Cancel::Ids as fn(Maker) -> plan::Cancel),
                    Cancel::Tag(node) => (format!("tag {}", sheet::inline(node)), node, plan::Cancel::Tag as _),
                };
                self.show(paragraph, "cancel", title, Vec::new());
                let ids = Type::list(Type::TEXT);
                gives = Type::object(["cancelled", "begun", "done", "unknown"].map(|name| (name, ids.clone())));
                self.maker(node).map(by).map(plan::Action::Cancel)
            }
            Action::Await(wait) => {
                let title = wait
                    .until
                    .as_ref()
                    .map_or("callback".to_owned(), |until| format!("callback until {}", sheet::inline(until)));
                self.show(paragraph, "await", title, Vec::new());
                self.durable = true;
                let around = self.env.clone();
                let ((slot, block), names) = self.apart(|walk| {
                    let slot = walk.define(&wait.name);
                    if let Some(slot) = slot {
                        walk.env.set(slot, Type::object([("url", Type::TEXT), ("id", Type::TEXT)]));
                    }
                    let (block, inner) = walk.branch(&wait.steps, inside, "give out", answered);
                    end = inner;
                    (slot, block)
                });
                // The address is of no use any more; what the steps gave is.
                self.know(names.into_iter().filter(|name| *name != wait.name.text));
                if end.ends {
                    self.env = around;
                }
                let until = wait.until.as_ref().map(|node| self.timed(node, &[Text::Span, Text::Instant]));
                gives = Type::Unknown;
                let until = match until {
                    None => Some(None),
                    Some(maker) => maker.map(Some),
                };
                slot.zip(until).map(|(slot, until)| plan::Action::Await(Box::new(plan::Await { slot, block, until })))
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
                maker.map(plan::Action::Progress)
            }
            Action::Note(node) => {
                self.show(paragraph, "note", sheet::inline(node), Vec::new());
                self.maker(node).map(plan::Action::Note)
            }
            Action::Reply { status, headers, body } => {
                let rows = body.as_ref().map(|body| sheet::rows("body", body)).unwrap_or_default();
                self.show(paragraph, "reply", sheet::inline(status), rows);
                if self.apart_from_client > 0 {
                    self.report.error("reply-apart", step.at, "a loop or a parallel branch cannot answer the client");
                    self.report.help("collect what it gives and put the `reply` behind it");
                }
                match answered {
                    Answered::Yes => {
                        self.report.error(
                            "second-reply",
                            step.at,
                            "the client already has its answer from a `reply` before this one",
                        );
                    }
                    Answered::No | Answered::Maybe => {}
                }
                end.answered = Answered::Yes;
                let at = body.as_ref().map_or(status.at, |body| body.at);
                let status = self.status(status, 200, 599);
                let code = match &self.last {
                    Type::Number(Some(code)) => Some(*code as u16),
                    _ => None,
                };
                let names = headers.iter().map(|(name, _)| name.text.clone()).collect();
                let headers = self.named_makers(headers);
                let (body, of) = body.as_ref().map_or((None, Type::Undefined), |body| self.typed(body));
                let declared = self.declared(code, &of, at);
                let shape = plan::ReplyShape { status: code, body: of, headers: names, declared };
                if !step.off && !self.replies.contains(&shape) {
                    self.replies.push(shape);
                }
                status.map(|status| plan::Action::Reply(Box::new(plan::Reply { status, headers, body })))
            }
            Action::Fail { status, title, detail, problem_type, with } => {
                let shown =
                    |label: &str, node: &Option<Node>| node.as_ref().map(|n| (label.to_owned(), sheet::inline(n)));
                let named = title.as_ref().map(|t| format!("{} {}", sheet::inline(status), sheet::inline(t)));
                let rows = shown("detail", detail)
                    .into_iter()
                    .chain(shown("type", problem_type))
                    .chain(shown("with", with))
                    .collect();
                self.show(paragraph, "fail", named.unwrap_or_else(|| sheet::inline(status)), rows);
                end.ends = true;
                let status = self.status(status, 400, 599);
                if let (Type::Number(Some(code)), false) = (&self.last, step.off) {
                    self.fails.push((*code as u16, title.as_ref().and_then(|t| t.as_text().map(str::to_owned))));
                }
                let mut part = |node: &Option<Node>| node.as_ref().and_then(|node| self.maker(node));
                let (title, detail, problem_type, with) = (part(title), part(detail), part(problem_type), part(with));
                status.map(|status| {
                    plan::Action::Fail(Box::new(plan::Fail { status, title, detail, problem_type, with }))
                })
            }
        };
        (action, end, gives)
    }

    fn invoke(&mut self, workflow: &Named, send: &[(Named, Node)]) -> Option<plan::Invoke> {
        let given: Vec<_> = send.iter().map(|(name, node)| (name, node, self.typed(node))).collect();
        let types: Vec<(&Named, &Node, Type)> =
            given.iter().map(|(name, node, (_, of))| (*name, *node, of.clone())).collect();
        let made: Vec<_> =
            given.into_iter().filter_map(|(name, _, (maker, _))| Some((name.text.as_str().into(), maker?))).collect();
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
            self.report.help(format!("did you mean `{near}`?"));
        }
    }

    /// What is sent against what a workflow takes.
    pub(super) fn sent_to(&mut self, workflow: &Named, takes: &[Takes], extra: bool, sent: &[(&Named, &Node, Type)]) {
        for (name, _, _) in sent.iter().filter(|_| !extra) {
            if !takes.iter().any(|(known, _, _)| *known == name.text) {
                self.report.error("unknown-input", name.at, format!("`{}` takes no `{}`", workflow.text, name.text));
                match suggest::nearest(&name.text, takes.iter().map(|(known, _, _)| *known)) {
                    Some(near) => self.report.help(format!("did you mean `{near}`?")),
                    None if takes.is_empty() => self.report.help("it takes no input"),
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
                let message = format!("`{}` does not take this{pointer}: {why}", workflow.text);
                self.report.error("wrong-argument", node.at, message);
            }
        }
    }

    /// A condition that every value it can have answers the same way.
    fn constant_condition(&mut self, node: &Node) {
        let always = match (self.last.can_be_true(), self.last.can_be_false()) {
            (true, false) => "true; `else` is never taken",
            (false, true) => "false; `then` is never taken",
            _ => return,
        };
        if !self.told_constant {
            self.report.warning("constant-condition", node.at, format!("this is always {always}"));
        }
    }

    /// The type of the items of the list that a loop goes through.
    pub(super) fn list_item(&mut self, node: &Node) -> Type {
        let of = self.last.clone();
        let wrong = of.keep(|one| !matches!(one, Type::List(_) | Type::Unknown));
        if wrong != Type::Never {
            let verb = if wrong == of { "is" } else { "may be" };
            let code = if wrong.may_be_missing() { "maybe-missing" } else { "wrong-operand" };
            self.report.error(code, node.at, format!("this {verb} {}, and a loop goes through an array", wrong.what()));
            if wrong.may_be_missing() {
                self.report.help("say what to take instead: `?? []`");
            }
        }
        of.map(|one| match one {
            Type::List(item) => item.of.clone(),
            Type::Unknown => Type::Unknown,
            _ => Type::Never,
        })
    }

    /// The schema that the document declares for a status; a body that contradicts it is told.
    fn declared(&mut self, status: Option<u16>, body: &Type, at: Place) -> Option<serde_json::Value> {
        if self.workflow.replies.is_empty() {
            return None;
        }
        let status = status?;
        let Some((_, declared, _)) = self.workflow.replies.iter().find(|(known, _, _)| *known == status) else {
            self.report.error(
                "undeclared-reply",
                at,
                format!("the status {status} is not among the declared `replies`"),
            );
            self.report.help(format!("declare it: `{status}: {{type: object, …}}`"));
            return None;
        };
        if let Some((pointer, why)) = contradiction(body, &schema::read(declared)) {
            let pointer = if pointer.is_empty() { "the body".to_owned() } else { format!("`{pointer}`") };
            self.report.error("wrong-reply", at, format!("{pointer} contradicts the declared reply {status}: {why}"));
        }
        Some(declared.clone())
    }

    /// A pause whose length is written down must fit into the time of each endpoint.
    fn constant_pause(&mut self, text: &str, node: &Node) {
        let Ok(span) = duration::parse(text) else { return };
        self.durable |= span > kanzlei_lang::document::workflow::MAX_TIME;
        for endpoint in self.workflow.entries.iter().filter(|endpoint| endpoint.answer != Answer::Later) {
            let time = endpoint.time.unwrap_or(super::entries::TIME);
            if span >= time {
                let limit = duration::short(time);
                let message =
                    format!("the pause is longer than `{} {}` may take ({limit})", endpoint.method, endpoint.path);
                self.report.error("pause-too-long", node.at, message);
                self.report
                    .help("give the endpoint more time: `limits: {time: …}`, pause for less, or say `answer: later`");
            }
        }
    }
}

/// A declared input: its name, schema, and whether it must be there.
pub(super) type Takes<'a> = (&'a str, &'a serde_json::Value, bool);

fn short(of: &Type) -> String {
    let shown = of.to_string();
    if shown.chars().count() > 80 { of.what() } else { shown }
}
