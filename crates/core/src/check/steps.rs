//! The walk over a workflow's steps: names in scope, expressions compiled, paragraphs numbered.

use std::collections::{BTreeMap, BTreeSet, HashMap};

use super::{calls, entries};
use crate::diagnostic::{Place, Report};
use crate::document::workflow::{Action, Step};
use crate::document::yaml::{Kind, Node};
use crate::document::{Service, Workflow, reader::Named};
use crate::expr::template::Template;
use crate::expr::{Expression, Fault, Scope, Use};
use crate::input::InputPlan;
use crate::plan::sheet::{self, Paragraph};
use crate::plan::{self, BlockId, FAILURE, FIXED, INPUT, Maker, Plan, RUN};
use crate::suggest;
use crate::value::Value;

/// Compiles a workflow; the plan is of use only when the report has no errors.
pub(super) fn compile(workflow: &Workflow, services: &BTreeMap<String, Service>, report: &mut Report) -> Option<Plan> {
    let mut scope = Scope::default();
    scope.define_at(FIXED[0], INPUT);
    scope.define_at(FIXED[1], RUN);
    let mut walk = Walk {
        workflow,
        services,
        scope,
        slots: FIXED.map(str::to_owned).to_vec(),
        by_name: HashMap::new(),
        blocks: Vec::new(),
        sheet: Vec::new(),
        used_inputs: BTreeSet::new(),
        uses_whole_input: false,
        uses_run: false,
        used_services: BTreeSet::new(),
        report,
    };
    walk.blocks.push(Vec::new());
    let mut numbers = Numbers { prefix: String::new(), next: 0, depth: 0 };
    let (steps, _) = walk.steps(&workflow.steps, &mut numbers, None, Answered::No);
    walk.blocks[0] = steps;
    walk.unused_inputs();
    let input = match InputPlan::new(&workflow.input, workflow.extra) {
        Ok(input) => Some(input),
        Err(faults) => {
            for (index, message) in faults {
                let at = workflow.input.get(index).map_or(workflow.name.at, |p| p.at);
                walk.report.error("bad-schema", at, message);
            }
            None
        }
    };
    let endpoints = workflow.entries.iter().filter_map(|e| entries::compile(e, &workflow.input, walk.report)).collect();
    Some(Plan {
        name: workflow.name.text.clone(),
        about: workflow.about.clone(),
        input: input?,
        endpoints,
        blocks: walk.blocks,
        slots: walk.slots,
        sheet: walk.sheet,
        uses_run: walk.uses_run,
        services: walk.used_services.into_iter().collect(),
    })
}

/// Whether the client already has its answer when a step begins.
#[derive(Clone, Copy, PartialEq)]
enum Answered {
    No,
    Maybe,
    Yes,
}

/// What is known at the end of a block.
#[derive(Clone, Copy)]
struct End {
    /// Every way through the block ends the run.
    ends: bool,
    answered: Answered,
}

/// Numbers the steps of one step's branches one after another.
struct Numbers {
    prefix: String,
    next: u32,
    depth: u8,
}

impl Numbers {
    fn take(&mut self) -> String {
        self.next += 1;
        format!("{}{}", self.prefix, self.next)
    }

    fn inside(&self, number: &str) -> Numbers {
        Numbers { prefix: format!("{number}."), next: 0, depth: self.depth + 1 }
    }
}

pub(super) struct Walk<'w, 'r, 's> {
    workflow: &'w Workflow,
    pub services: &'w BTreeMap<String, Service>,
    scope: Scope,
    slots: Vec<String>,
    by_name: HashMap<String, u32>,
    blocks: Vec<Vec<plan::Step>>,
    sheet: Vec<Paragraph>,
    used_inputs: BTreeSet<String>,
    uses_whole_input: bool,
    uses_run: bool,
    pub used_services: BTreeSet<String>,
    pub report: &'r mut Report<'s>,
}

impl Walk<'_, '_, '_> {
    fn steps(
        &mut self,
        steps: &[Step],
        numbers: &mut Numbers,
        branch: Option<&str>,
        answered: Answered,
    ) -> (Vec<plan::Step>, End) {
        let mut out = Vec::with_capacity(steps.len());
        let mut end = End { ends: false, answered };
        let mut told = false;
        for (index, step) in steps.iter().enumerate() {
            if end.ends && !told && !step.off {
                self.report.warning(
                    "unreachable-step",
                    step.at,
                    "this step is never reached: the one before always ends the run",
                );
                told = true;
            }
            let branch = if index == 0 { branch } else { None };
            let (compiled, step_end) = self.step(step, numbers, branch, end.answered);
            if !step.off {
                end = End { ends: end.ends || step_end.ends, answered: step_end.answered };
            }
            out.extend(compiled);
        }
        (out, end)
    }

    /// Compiles the steps of a branch into a block of their own. Names defined in it stay known.
    fn branch(&mut self, steps: &[Step], numbers: &mut Numbers, label: &str, answered: Answered) -> (BlockId, End) {
        let id = self.blocks.len() as BlockId;
        self.blocks.push(Vec::new());
        let (compiled, end) = self.steps(steps, numbers, Some(label), answered);
        self.blocks[id as usize] = compiled;
        (id, end)
    }

    /// Runs `inner` and takes the names it defined out of the scope again; gives them back.
    fn apart<T>(&mut self, inner: impl FnOnce(&mut Self) -> T) -> (T, Vec<String>) {
        let open = self.scope.open();
        let result = inner(self);
        let names = self.scope.names().skip(open).map(str::to_owned).collect();
        self.scope.close(open);
        (result, names)
    }

    fn step(
        &mut self,
        step: &Step,
        numbers: &mut Numbers,
        branch: Option<&str>,
        answered: Answered,
    ) -> (Option<plan::Step>, End) {
        let number = numbers.take();
        let mut inside = numbers.inside(&number);
        let paragraph = self.sheet.len();
        let (line, _) = crate::diagnostic::line_and_column(self.report.text(), step.begins as usize);
        self.sheet.push(Paragraph {
            number,
            depth: numbers.depth,
            kind: String::new(),
            title: String::new(),
            name: step.id.as_ref().map(|id| id.text.clone()),
            branch: branch.map(str::to_owned),
            rows: Vec::new(),
            about: step.about.clone(),
            when: step.when.as_ref().map(sheet::inline),
            off: step.off,
            line,
        });
        let when = step.when.as_ref().and_then(|node| self.condition("when", node));
        let before = self.scope.open();
        let (action, mut end) = self.action(step, paragraph, &mut inside, answered);
        let id = match (&step.id, &step.action) {
            (Some(id), Action::Call(_)) => self.define(id),
            (Some(id), _) => {
                self.report.error(
                    "no-result",
                    id.at,
                    format!("a `{}` step has no result to name", self.sheet[paragraph].kind),
                );
                None
            }
            (None, _) => None,
        };
        let mut rescue = None;
        if !step.rescue.is_empty() {
            // The step's own names are not there when it failed; rescue steps may define them.
            let own: Vec<String> = self.scope.names().skip(before).map(str::to_owned).collect();
            self.scope.close(before);
            self.scope.define_at(FIXED[2], FAILURE);
            let ((block, rescue_end), names) =
                self.apart(|walk| walk.branch(&step.rescue, &mut inside, "rescue", Answered::Maybe.min(answered)));
            self.scope.close(before);
            self.know(own.into_iter().chain(names));
            rescue = Some(block);
            end = End { ends: end.ends && rescue_end.ends, answered: end.answered.join(rescue_end.answered) };
        }
        if step.when.is_some() {
            end = End { ends: false, answered: end.answered.join(answered) };
        }
        let compiled =
            action.map(|action| plan::Step { paragraph: paragraph as u32, id, when, off: step.off, rescue, action });
        (compiled, end)
    }

    fn action(
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
            Action::Note(node) => {
                self.show(paragraph, "note", sheet::inline(node), Vec::new());
                self.maker(node).map(plan::Action::Note)
            }
            Action::Reply { status, headers, body } => {
                let rows = body.as_ref().map(|body| sheet::rows("body", body)).unwrap_or_default();
                self.show(paragraph, "reply", sheet::inline(status), rows);
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

    fn show(&mut self, paragraph: usize, kind: &str, title: String, rows: Vec<(String, String)>) {
        let shown = &mut self.sheet[paragraph];
        shown.kind = kind.into();
        shown.title = title;
        shown.rows = rows;
    }

    /// Gives a name its slot; the same name on another branch shares it.
    fn define(&mut self, name: &Named) -> Option<u32> {
        if self.scope.slot(&name.text).is_some() {
            self.report.error("name-taken", name.at, format!("`{}` already has a value here", name.text));
            self.report.help("values never change; choose another name");
            return None;
        }
        let slot = *self.by_name.entry(name.text.clone()).or_insert_with(|| {
            self.slots.push(name.text.clone());
            self.slots.len() as u32 - 1
        });
        self.scope.define_at(&name.text, slot);
        Some(slot)
    }

    /// Brings names that branches defined into scope, once each.
    fn know(&mut self, names: impl IntoIterator<Item = String>) {
        for name in names {
            if self.scope.slot(&name).is_none()
                && let Some(slot) = self.by_name.get(&name)
            {
                self.scope.define_at(&name, *slot);
            }
        }
    }

    /// A slot that holds a bare expression.
    fn condition(&mut self, what: &str, node: &Node) -> Option<Expression> {
        let text = match &node.kind {
            Kind::Text(text) => text.text.clone(),
            Kind::Bool(_) | Kind::Int(_) | Kind::Float(_) => node.to_value().to_json(),
            _ => {
                self.report.error("wrong-type", node.at, format!("`{what}` takes an expression, not {}", node.what()));
                return None;
            }
        };
        if text.trim_start().starts_with("${") && text.trim_end().ends_with('}') {
            self.report.error("expression-syntax", node.at, format!("`{what}` takes the bare expression"));
            self.report.help(format!("write `{}`", text.trim().trim_start_matches("${").trim_end_matches('}').trim()));
            return None;
        }
        let compiled = Expression::compile(&text, &self.scope);
        match compiled {
            Ok(expression) => {
                self.note_uses(expression.uses().to_vec(), node);
                Some(expression)
            }
            Err(faults) => {
                self.faults(faults, node);
                None
            }
        }
    }

    /// Any value with templates in its texts.
    pub fn maker(&mut self, node: &Node) -> Option<Maker> {
        Some(match &node.kind {
            Kind::Text(text) => match Template::compile(&text.text, &self.scope) {
                Ok(Template::Text(text)) => Maker::Const(Value::Text(text)),
                Ok(template) => {
                    let uses = template.expressions().iter().flat_map(|e| e.uses().to_vec()).collect();
                    self.note_uses(uses, node);
                    Maker::Text(template)
                }
                Err(faults) => {
                    self.faults(faults, node);
                    return None;
                }
            },
            Kind::List(items) => {
                let made: Vec<_> = items.iter().map(|item| self.maker(item)).collect();
                let made = made.into_iter().collect::<Option<Vec<_>>>()?;
                if made.iter().all(|m| matches!(m, Maker::Const(_))) {
                    Maker::Const(node.to_value())
                } else {
                    Maker::List(made)
                }
            }
            Kind::Map(members) => {
                let made: Vec<_> =
                    members.iter().map(|(key, node)| Some((key.name.as_str().into(), self.maker(node)?))).collect();
                let made: Vec<(crate::value::Str, Maker)> = made.into_iter().collect::<Option<_>>()?;
                if made.iter().all(|(_, m)| matches!(m, Maker::Const(_))) {
                    Maker::Const(node.to_value())
                } else {
                    Maker::Object(made)
                }
            }
            _ => Maker::Const(node.to_value()),
        })
    }

    pub fn named_makers(&mut self, members: &[(Named, Node)]) -> Vec<(String, Maker)> {
        members.iter().filter_map(|(name, node)| Some((name.text.clone(), self.maker(node)?))).collect()
    }

    fn status(&mut self, node: &Node, least: i64, most: i64) -> Option<Maker> {
        let maker = self.maker(node)?;
        let fits = match &maker {
            Maker::Const(Value::Int(status)) => (least..=most).contains(status),
            Maker::Const(_) => false,
            _ => true,
        };
        if !fits {
            self.report.error("wrong-value", node.at, format!("a status from {least} to {most} belongs here"));
            return None;
        }
        Some(maker)
    }

    pub fn faults(&mut self, faults: Vec<Fault>, node: &Node) {
        for fault in faults {
            let at = node.place_in(self.report.text(), fault.at.start as usize, fault.at.end as usize);
            self.report.error(fault.code, at, fault.message);
            if let Some(help) = fault.help {
                self.report.help(help);
            }
        }
    }

    fn note_uses(&mut self, uses: Vec<Use>, node: &Node) {
        for used in uses {
            match (used.slot, used.member) {
                (INPUT, Some(member)) => {
                    let known = self.workflow.input.iter().any(|p| p.name.text == *member);
                    if !known && !self.workflow.extra {
                        let at: Place = node.place_in(self.report.text(), used.at.start as usize, used.at.end as usize);
                        self.report.error("unknown-input", at, format!("the input has no `{member}`"));
                        match suggest::nearest(&member, self.workflow.input.iter().map(|p| p.name.text.as_str())) {
                            Some(near) => self.report.help(format!("did you mean `{near}`?")),
                            None => self.report.help(format!("declare it under `input`: `{member}: {{type: string}}`")),
                        };
                    }
                    self.used_inputs.insert(member.to_string());
                }
                (INPUT, None) => self.uses_whole_input = true,
                (RUN, _) => self.uses_run = true,
                _ => {}
            }
        }
    }

    fn unused_inputs(&mut self) {
        if self.uses_whole_input || self.report.has_errors() {
            return;
        }
        for property in &self.workflow.input {
            if !self.used_inputs.contains(&property.name.text) {
                self.report.warning(
                    "unused-input",
                    property.name.at,
                    format!("the input `{}` is never used", property.name.text),
                );
            }
        }
    }
}

impl Answered {
    /// What is known when either of two ways was taken.
    fn join(self, other: Answered) -> Answered {
        if self == other { self } else { Answered::Maybe }
    }

    /// In a rescue the failed step may have answered or not.
    fn min(self, before: Answered) -> Answered {
        if before == Answered::Yes { Answered::Yes } else { self }
    }
}
