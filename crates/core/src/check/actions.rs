//! What each kind of step becomes: its line on the sheet, the names it defines, its compiled action.

use super::steps::{Answered, End, Numbers, Walk};
use super::{calls, statements};
use crate::document::reader::Named;
use crate::document::step::{Action, Pause, Step};
use crate::document::yaml::Node;
use crate::duration;
use crate::expr::Expression;
use crate::plan::sheet;
use crate::plan::{self, Maker};
use crate::suggest;
use crate::value::Value;

impl Walk<'_, '_, '_> {
    pub(super) fn action(
        &mut self,
        step: &Step,
        paragraph: usize,
        inside: &mut Numbers,
        answered: Answered,
    ) -> (Option<plan::Action>, End) {
        let mut end = End { ends: false, answered };
        let action = match &step.action {
            Action::Call(call) => {
                self.show(paragraph, "call", calls::title(&call.target), calls::rows(call));
                calls::compile(self, call).map(|call| plan::Action::Call(Box::new(call)))
            }
            Action::Let(values) => {
                let rows = values.iter().map(|(name, node)| (name.text.clone(), sheet::inline(node))).collect();
                self.show(paragraph, "let", String::new(), rows);
                let mut made = Vec::new();
                for (name, node) in values {
                    let maker = self.maker(node);
                    made.extend(self.define(name).zip(maker));
                }
                Some(plan::Action::Let(made))
            }
            Action::If { condition, then, otherwise } => {
                self.show(paragraph, "if", sheet::inline(condition), Vec::new());
                let compiled = self.condition("if", condition);
                if let Some(Value::Bool(b)) = compiled.as_ref().and_then(Expression::constant) {
                    let never = if *b { "`else` is never taken" } else { "`then` is never taken" };
                    self.report.warning("constant-condition", condition.at, format!("this is always {b}; {never}"));
                }
                let (first, names) = self.apart(|walk| walk.branch(then, inside, "then", answered));
                let second = (!otherwise.is_empty())
                    .then(|| self.apart(|walk| walk.branch(otherwise, inside, "else", answered)));
                let other_end = second.as_ref().map_or(end, |((_, end), _)| *end);
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
                for arm in arms {
                    let ((block, end), names) =
                        self.apart(|walk| walk.branch(&arm.steps, inside, &arm.label.text, answered));
                    compiled.push((arm.value.clone(), block));
                    all_names.extend(names);
                    join(end);
                }
                let otherwise = if otherwise.is_empty() {
                    join(End { ends: false, answered });
                    None
                } else {
                    let ((block, end), names) = self.apart(|walk| walk.branch(otherwise, inside, "else", answered));
                    all_names.extend(names);
                    join(end);
                    Some(block)
                };
                self.know(all_names);
                end = joined.unwrap_or(end);
                subject.map(|subject| plan::Action::Match { subject, arms: compiled, otherwise })
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
                self.apart_from_client += 1;
                let ((item, index, block, collect), _) = self.apart(|walk| {
                    let item = walk.define(&each.item);
                    let index = each.index.as_ref().map(|index| walk.define(index));
                    let (block, _) = walk.branch(&each.steps, inside, "each", answered);
                    let collect = each.collect.as_ref().map(|node| walk.maker(node));
                    (item, index, block, collect)
                });
                self.apart_from_client -= 1;
                let whole = list.zip(item).filter(|_| index != Some(None) && !matches!(collect, Some(None)));
                whole.map(|(list, item)| {
                    plan::Action::Each(Box::new(plan::Each {
                        list,
                        item,
                        index: index.flatten(),
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
                for branch in branches {
                    let ((block, branch_end), _) =
                        self.apart(|walk| walk.branch(&branch.steps, inside, &branch.name.text, answered));
                    end.ends |= branch_end.ends;
                    blocks.push(block);
                }
                self.apart_from_client -= 1;
                let compiled: Vec<_> = branches
                    .iter()
                    .zip(blocks)
                    .filter_map(|(branch, block)| {
                        let slot = self.define(&branch.name)?;
                        Some(plan::Branch { name: branch.name.text.as_str().into(), slot, block })
                    })
                    .collect();
                Some(plan::Action::Together { branches: compiled, settle: *settle })
            }
            Action::Invoke { workflow, send } => {
                let rows = send.iter().map(|(name, node)| (name.text.clone(), sheet::inline(node))).collect();
                self.show(paragraph, "invoke", workflow.text.clone(), rows);
                self.invoke(workflow, send).map(|invoke| plan::Action::Invoke(Box::new(invoke)))
            }
            Action::Sql(sql) => {
                let first = sql.statements.first().and_then(|s| s.text.as_text()).unwrap_or_default();
                let short: String = first.split_whitespace().collect::<Vec<_>>().join(" ").chars().take(80).collect();
                let more =
                    if sql.transaction { format!(" (transaction of {})", sql.statements.len()) } else { String::new() };
                let binds = sql.statements.iter().flat_map(|s| &s.bind);
                let mut rows = vec![("statement".to_owned(), short)];
                rows.extend(binds.map(|(name, node)| (format!(":{}", name.text), sheet::inline(node))));
                self.show(paragraph, "sql", format!("{}{more}", sql.database.text), rows);
                statements::compile(self, sql).map(|sql| plan::Action::Sql(Box::new(sql)))
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
                let maker = self.maker(node);
                if let Some(Maker::Const(value)) = &maker {
                    self.constant_pause(&crate::expr::ops::to_text(value), node);
                }
                maker.map(plan::Action::Pause)
            }
            Action::Pause(Pause::Until(node)) => {
                self.show(paragraph, "pause", format!("until {}", sheet::inline(node)), Vec::new());
                self.maker(node).map(plan::Action::Until)
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
                let status = self.status(status, 200, 599);
                let headers = self.named_makers(headers);
                let body = body.as_ref().and_then(|body| self.maker(body));
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
                let mut part = |node: &Option<Node>| node.as_ref().and_then(|node| self.maker(node));
                let (title, detail, problem_type, with) = (part(title), part(detail), part(problem_type), part(with));
                status.map(|status| {
                    plan::Action::Fail(Box::new(plan::Fail { status, title, detail, problem_type, with }))
                })
            }
        };
        (action, end)
    }

    fn invoke(&mut self, workflow: &Named, send: &[(Named, Node)]) -> Option<plan::Invoke> {
        let made: Vec<_> =
            send.iter().filter_map(|(name, node)| Some((name.text.as_str().into(), self.maker(node)?))).collect();
        let Some(plan) = self.plans.get(&workflow.text) else {
            self.report.error("unknown-workflow", workflow.at, format!("there is no workflow `{}`", workflow.text));
            if let Some(near) = suggest::nearest(&workflow.text, self.plans.keys().map(String::as_str)) {
                self.report.help(format!("did you mean `{near}`?"));
            }
            return None;
        };
        self.uses_run |= plan.uses_run;
        if !self.invokes.contains(&plan.name) {
            self.invokes.push(plan.name.clone());
        }
        let properties = &plan.input.properties;
        for (name, _) in send.iter().filter(|_| !plan.input.extra) {
            if !properties.iter().any(|p| p.name == name.text) {
                self.report.error("unknown-input", name.at, format!("`{}` takes no `{}`", plan.name, name.text));
                match suggest::nearest(&name.text, properties.iter().map(|p| p.name.as_str())) {
                    Some(near) => self.report.help(format!("did you mean `{near}`?")),
                    None => self.report.help(format!(
                        "it takes {}",
                        properties.iter().map(|p| p.name.as_str()).collect::<Vec<_>>().join(", ")
                    )),
                };
            }
        }
        for property in properties.iter().filter(|p| p.required) {
            if !send.iter().any(|(name, _)| name.text == property.name) {
                let message = format!("`{}` needs `{}`, which is not sent", plan.name, property.name);
                self.report.error("missing-input", workflow.at, message);
                self.report.help(format!("add it under `send`: `{}: …`", property.name));
            }
        }
        Some(plan::Invoke { plan: plan.clone(), send: made })
    }

    /// A pause whose length is written down must fit into the time of each endpoint.
    fn constant_pause(&mut self, text: &str, node: &Node) {
        let span = match duration::parse(text) {
            Ok(span) => span,
            Err(error) => {
                self.report.error("wrong-value", node.at, error.to_string());
                return;
            }
        };
        for endpoint in &self.workflow.entries {
            let time = endpoint.time.unwrap_or(super::entries::TIME);
            if span >= time {
                let limit = duration::short(time);
                let message =
                    format!("the pause is longer than `{} {}` may take ({limit})", endpoint.method, endpoint.path);
                self.report.error("pause-too-long", node.at, message);
                self.report.help("give the endpoint more time: `limits: {time: …}`, or pause for less");
            }
        }
    }
}
