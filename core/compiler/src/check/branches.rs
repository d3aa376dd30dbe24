//! Steps with steps inside: what is known on each way, and where the ways meet.

use super::actions::{At, Compiled};
use super::scope;
use super::steps::{Answered, End, Walk};
use crate::plan::{self, sheet};
use kanzlei_lang::document::step::arms::Test;
use kanzlei_lang::document::step::{Action, Arm, Branch, Each, Step};
use kanzlei_lang::document::yaml::Node;
use kanzlei_lang::expr::Expression;
use kanzlei_lang::types::{Env, Type};

impl Walk<'_, '_, '_> {
    /// `if`: two branches, of which one runs.
    pub(super) fn choice(&mut self, condition: &Node, then: &[Step], otherwise: &[Step], at: At) -> Compiled {
        let At { paragraph, inside, answered } = at;
        let around_end = End { ends: false, answered };
        self.show(paragraph, "if", sheet::inline(condition), Vec::new());
        let compiled = self.condition("if", condition);
        self.constant_condition(condition);
        let around = self.env.clone();
        let assuming = |holds| compiled.as_ref().map_or(around.clone(), |c| around.assuming(c, holds));
        self.env = assuming(true);
        let (first, names) = self.apart(|walk| walk.branch(then, inside, "then", answered));
        let after_then = std::mem::replace(&mut self.env, assuming(false));
        let second =
            (!otherwise.is_empty()).then(|| self.apart(|walk| walk.branch(otherwise, inside, "else", answered)));
        let other_end = second.as_ref().map_or(around_end, |((_, end), _)| *end);
        self.env = scope::meet(after_then, first.1.ends, self.env.clone(), other_end.ends);
        let end = End { ends: first.1.ends && other_end.ends, answered: first.1.answered.join(other_end.answered) };
        self.know(names);
        let otherwise = second.map(|((block, _), names)| {
            self.know(names);
            block
        });
        let action = compiled.map(|condition| plan::Action::If { condition, then: first.0, otherwise });
        (action, end, Type::Undefined)
    }

    /// `match`: a way for each value of the subject.
    pub(super) fn arms(&mut self, subject: &Node, arms: &[Arm], otherwise: &[Step], at: At) -> Compiled {
        let At { paragraph, inside, answered } = at;
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
                Some(joined.map_or(end, |j| End { ends: j.ends && end.ends, answered: j.answered.join(end.answered) }));
        };
        let mut open = subject_type.clone();
        for arm in arms {
            if !possible(&open, &arm.test) {
                let message = format!("this arm is never taken: the value is {}", short(&subject_type));
                self.report.warning("constant-condition", arm.label.at, message);
            }
            open = open.keep(|one| one.single().is_none_or(|value| !arm.test.fits(&value)));
            if let Some(subject) = &subject {
                (self.env, left) = assuming(&left, subject, &arm.test);
            }
            let ((block, end), names) = self.apart(|walk| walk.branch(&arm.steps, inside, &arm.label.text, answered));
            compiled.push((arm.test.clone(), block));
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
                self.report.warning("constant-condition", at, "`else` is never taken: there is an arm for each value");
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
        let end = joined.unwrap_or(End { ends: false, answered });
        let action =
            subject.map(|subject| plan::Action::Match { subject, arms: compiled, otherwise, complete: all_covered });
        (action, end, Type::Undefined)
    }

    /// `each`: its steps once for each item.
    pub(super) fn each(&mut self, each: &Each, at: At) -> Compiled {
        let At { paragraph, inside, answered } = at;
        let mut result = Type::Undefined;
        let title = format!("{} in {}", each.item.text, sheet::inline(&each.list));
        let mut rows = Vec::new();
        if each.at_once > 1 {
            rows.push(("at once".to_owned(), each.at_once.to_string()));
        }
        rows.extend(each.collect.iter().map(|node| ("collect".to_owned(), sheet::inline(node))));
        rows.extend(each.until.iter().map(|node| ("until".to_owned(), sheet::inline(node))));
        if each.settle {
            rows.push(("settle".to_owned(), "all".to_owned()));
        }
        self.show(paragraph, "each", title, rows);
        let rows = self.rows_in(&each.list, true);
        let (list, item_type) = match &rows {
            Some(rows) => (rows.expression(), rows.row.clone()),
            None => {
                let list = self.condition("in", &each.list);
                let item = self.list_item(&each.list);
                (list, item)
            }
        };
        if let (Some(_), Some(collect)) = (&rows, &each.collect) {
            self.report.error(
                "rows-collected",
                collect.at,
                "rows are never held as a whole, so nothing is collected of them",
            );
            self.report.help("read them with `whole: true` where they are few, or write them: `file: write`");
        }
        if let (Some(_), Some(until)) = (&rows, &each.until) {
            self.report.error("wrong-value", until.at, "`until` ends loops over lists; all rows of a file are read");
            self.report.help("read them with `whole: true` where they are few");
        }
        self.apart_from_client += 1;
        self.no_answer.push("a loop cannot answer the client: each of its items would");
        let around = self.env.clone();
        let ((item, index, block, collect, until), _) = self.apart(|walk| {
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
            let until = each.until.as_ref().map(|node| walk.condition("until", node));
            result = match &rows {
                Some(_) => Type::object([("count", Type::NUMBER), ("failed", Type::NUMBER)]),
                None => Type::list(if each.settle { scope::settled(kept) } else { kept }),
            };
            (item, index, block, collect, until)
        });
        self.env = around;
        self.apart_from_client -= 1;
        self.no_answer.pop();
        let whole = list.zip(item).filter(|_| index != Some(None) && !matches!(collect, Some(None)));
        let whole = whole.filter(|_| !matches!(until, Some(None)));
        let action = whole.map(|(list, item)| {
            plan::Action::Each(Box::new(plan::Each {
                list,
                rows: rows.map(|rows| rows.reading),
                item,
                position: index.flatten(),
                block,
                at_once: each.at_once,
                collect: collect.flatten(),
                until: until.flatten(),
                settle: each.settle,
            }))
        });
        (action, End { ends: false, answered }, result)
    }

    /// `together`: branches at the same time.
    pub(super) fn together(&mut self, branches: &[Branch], settle: bool, step: &Step, at: At) -> Compiled {
        let At { paragraph, inside, answered } = at;
        let mut end = End { ends: false, answered };
        let rows = if settle { vec![("settle".to_owned(), "all".to_owned())] } else { Vec::new() };
        self.show(paragraph, "together", String::new(), rows);
        if branches.is_empty() {
            self.report.error("wrong-value", step.at, "`together` has no branches");
            self.report.help("name at least one: `together: {tide: {call: tides.nextWindow}}`");
        }
        self.apart_from_client += 1;
        let mut blocks = Vec::with_capacity(branches.len());
        let around = self.env.clone();
        let mut types = Vec::with_capacity(branches.len());
        for (index, branch) in branches.iter().enumerate() {
            self.env = around.clone();
            self.result = Type::Undefined;
            let why = no_answer_of(branches, index);
            self.no_answer.extend(why);
            let ((block, branch_end), _) =
                self.apart(|walk| walk.branch(&branch.steps, inside, &branch.name.text, answered));
            if why.is_some() {
                self.no_answer.pop();
            }
            end.ends |= branch_end.ends;
            if branch_end.answered != answered {
                // A failure that is settled may have come before the reply.
                end.answered = if settle { Answered::Maybe } else { branch_end.answered };
            }
            blocks.push(block);
            let of = self.result.clone();
            types.push(if settle { scope::settled(of) } else { of });
        }
        self.env = around;
        self.apart_from_client -= 1;
        let result = Type::object(branches.iter().map(|b| b.name.text.as_str()).zip(types.iter().cloned()));
        let compiled: Vec<_> = branches
            .iter()
            .zip(blocks.into_iter().zip(types))
            .filter_map(|(branch, (block, of))| {
                let slot = self.define(&branch.name)?;
                self.env.set(slot, of);
                Some(plan::Branch { name: branch.name.text.as_str().into(), slot, block })
            })
            .collect();
        let action = Some(plan::Action::Together { branches: compiled, settle });
        (action, end, result)
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
                self.report.help("add a default: `?? []`");
            }
        }
        of.map(|one| match one {
            Type::List(item) => item.of.clone(),
            Type::Unknown => Type::Unknown,
            _ => Type::Never,
        })
    }
}

/// Why a branch cannot answer the client: only one of all may, and none beside it ends the run.
fn no_answer_of(branches: &[Branch], index: usize) -> Option<&'static str> {
    fn has(steps: &[Step], fits: fn(&Action) -> bool) -> bool {
        steps.iter().any(|step| fits(&step.action) || step.inside().into_iter().any(|steps| has(steps, fits)))
    }
    let mut others = branches.iter().enumerate().filter(|(other, _)| *other != index).map(|(_, branch)| &branch.steps);
    let answers = |action: &Action| matches!(action, Action::Reply { .. });
    let fails = |action: &Action| matches!(action, Action::Fail { .. });
    if others.clone().any(|steps| has(steps, answers)) {
        return Some("more than one of these branches answers the client, and the faster one would");
    }
    others
        .any(|steps| has(steps, fails))
        .then_some("another of these branches may `fail`, and the client would get what comes first")
}

/// Whether a value of a type may fit an arm.
fn possible(of: &Type, test: &Test) -> bool {
    match test {
        Test::Values(values) => values.iter().any(|value| of.can_be(&Type::of(value))),
        Test::Range { low, high } => {
            let bounds = if low.iter().chain(high).any(|(bound, _)| bound.as_text().is_some()) {
                Type::TEXT
            } else {
                Type::NUMBER
            };
            let alternatives = of.alternatives();
            alternatives.iter().any(|one| one.single().map_or(one.can_be(&bounds), |value| test.fits(&value)))
        }
    }
}

/// What is known where the value fits an arm, and where it does not.
fn assuming(env: &Env, subject: &Expression, test: &Test) -> (Env, Env) {
    match test {
        Test::Values(values) => {
            let mut fits: Option<Env> = None;
            let mut left = env.clone();
            for value in values {
                let one = left.assuming_value(subject, value, true);
                fits = Some(fits.map_or(one.clone(), |known| known.join(&one)));
                left = left.assuming_value(subject, value, false);
            }
            (fits.unwrap_or_else(|| env.clone()), left)
        }
        Test::Range { low, high } => {
            let mut fits = env.clone();
            for (bound, _) in low.iter().chain(high) {
                fits = fits.assuming_kind(subject, bound);
            }
            (fits, env.clone())
        }
    }
}

fn short(of: &Type) -> String {
    let shown = of.to_string();
    if shown.chars().count() > 80 { of.what() } else { shown }
}
