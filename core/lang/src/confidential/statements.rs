//! Labels through statements.
//!
//! A name has one label in all of a script: what any assignment gives it. Names that may share a list or an object are in one class;
//! where something confidential is written through one of them, all that the others hold counts as confidential. The walk is
//! repeated until nothing changes.

use super::Label;
use super::flow::Flow;
use crate::expr::ast::{Arg, Assign, Assignee, ChangeCall, Expr, Kind, Target};
use crate::expr::functions::Change;
use crate::expr::script::{AssignOp, Body, Inline, Statement, StatementKind};
use kanzlei_model::value::{Str, Value};

/// How often a script is walked before everything in it counts as confidential.
const ROUNDS: usize = 8;

/// What is known of a script beside the labels of its names.
#[derive(Clone, Debug, Default, PartialEq)]
pub(super) struct Script {
    /// How many bodies are around.
    bodies: u32,
    /// The class of each local name, as a name that stands for it.
    classes: Vec<u32>,
    /// What is returned.
    returned: Label,
    /// What is thrown.
    pub thrown: Label,
    /// Whether something confidential is written into a list or an object.
    pub written: bool,
}

impl Script {
    /// Whether statements are walked.
    pub fn in_body(&self) -> bool {
        self.bodies > 0
    }
}

impl Flow<'_> {
    /// The statements of a script or a function: the label of what they return.
    pub(super) fn body(&mut self, body: &Body) -> Label {
        let returned = std::mem::take(&mut self.script.returned);
        self.script.bodies += 1;
        if self.script.bodies > 1 {
            self.block(&body.statements);
        } else {
            let mut stable = false;
            for _ in 0..ROUNDS {
                let before = (self.locals.clone(), self.script.clone());
                self.block(&body.statements);
                stable = before == (self.locals.clone(), self.script.clone());
                if stable {
                    break;
                }
            }
            if !stable {
                (self.script.returned, self.script.thrown) = (Label::Whole, Label::Whole);
            }
        }
        self.script.bodies -= 1;
        std::mem::replace(&mut self.script.returned, returned)
    }

    fn block(&mut self, statements: &[Statement]) {
        statements.iter().for_each(|statement| self.statement(statement));
    }

    fn statement(&mut self, statement: &Statement) {
        match &statement.kind {
            StatementKind::Define(target, value, _) => {
                let (label, from) = match value {
                    Some(value) => self.mentioning(value),
                    None => (Label::Clear, Vec::new()),
                };
                self.bind_shared(target, label, &from);
            }
            StatementKind::Run(expr) => _ = self.expr(expr),
            StatementKind::Block(statements) => self.block(statements),
            StatementKind::If(parts, _) => {
                let (test, then, or) = &**parts;
                self.expr(test);
                self.statement(then);
                if let Some(or) = or {
                    self.statement(or);
                }
            }
            StatementKind::Loop(inner) => {
                self.block(&inner.first);
                inner.test.iter().chain(&inner.update).for_each(|expr| _ = self.expr(expr));
                self.statement(&inner.body);
            }
            StatementKind::ForOf(inner) => {
                let (label, from) = self.mentioning(&inner.of);
                self.bind_shared(&inner.target, label.item(), &from);
                self.statement(&inner.body);
            }
            StatementKind::Switch(inner) => {
                self.expr(&inner.on);
                for (value, statements) in &inner.cases {
                    value.iter().for_each(|value| _ = self.expr(value));
                    self.block(statements);
                }
            }
            StatementKind::Return(value) => {
                let label = value.as_ref().map_or(Label::Clear, |value| self.expr(value));
                self.script.returned = std::mem::take(&mut self.script.returned).or(label);
            }
            StatementKind::Throw(value) => {
                let label = self.expr(value);
                self.script.thrown = std::mem::take(&mut self.script.thrown).or(label);
            }
            StatementKind::Try(inner) => {
                self.block(&inner.body);
                if let Some((target, statements)) = &inner.catch {
                    // The message of an error may show the value that it is about.
                    if let Some(target) = target {
                        self.bind(target, Label::Whole);
                    }
                    self.block(statements);
                }
                self.block(&inner.last);
            }
            StatementKind::Break(_) | StatementKind::Continue(_) => {}
        }
    }

    /// The label of an expression, and the names that it mentions.
    fn mentioning(&mut self, expr: &Expr) -> (Label, Vec<u32>) {
        let before = std::mem::take(&mut self.mentioned);
        let label = self.expr(expr);
        let found = std::mem::replace(&mut self.mentioned, before);
        self.mentioned.extend(&found);
        (label, found)
    }

    fn bind_shared(&mut self, target: &Target, label: Label, from: &[u32]) {
        self.bind(target, label);
        let mut bound = Vec::new();
        locals(target, &mut bound);
        for local in bound {
            from.iter().for_each(|other| self.share(local, *other));
        }
    }

    fn class(&self, local: u32) -> u32 {
        self.script.classes.get(local as usize).copied().unwrap_or(local)
    }

    /// Two names may hold the same list or object.
    fn share(&mut self, a: u32, b: u32) {
        let most = a.max(b) as usize + 1;
        for local in self.script.classes.len()..most {
            self.script.classes.push(local as u32);
        }
        let (one, other) = (self.class(a).min(self.class(b)), self.class(a).max(self.class(b)));
        self.script.classes.iter_mut().filter(|class| **class == other).for_each(|class| *class = one);
    }

    /// An assignment; the label of what is assigned.
    pub(super) fn assign(&mut self, assign: &Assign) -> Label {
        let (mut label, from) = self.mentioning(&assign.value);
        match &assign.to {
            Assignee::Local(local, _) => {
                let before = self.locals.get(*local as usize).cloned().unwrap_or_default();
                if let Some(AssignOp::Binary(_)) = assign.op {
                    label = Label::scalar(label.any() || before.any());
                }
                self.set_local(*local, label.clone());
                from.iter().for_each(|other| self.share(*local, *other));
            }
            Assignee::Member(of, key) => {
                let before = self.expr(of);
                if let Some(AssignOp::Binary(_)) = assign.op {
                    label = Label::scalar(label.any() || before.item().any());
                }
                let wrapped = match &key.kind {
                    Kind::Const(Value::Text(name)) => Label::object([(name.clone(), label.clone())], Label::Clear),
                    _ if label.any() => Label::Whole,
                    _ => Label::Clear,
                };
                self.write(of, wrapped, &from);
            }
            Assignee::Pattern(target) => self.bind_shared(target, label.clone(), &from),
        }
        label
    }

    /// Something is written into a list or an object.
    fn write(&mut self, of: &Expr, wrapped: Label, from: &[u32]) {
        let any = wrapped.any();
        self.script.written |= any;
        let Some((root, members)) = path(of) else {
            if any {
                self.locals.iter_mut().for_each(|label| *label = Label::Whole);
            }
            return;
        };
        let label = members.iter().rev().fold(wrapped, |label, name| match name {
            Some(name) => Label::object([(name.clone(), label)], Label::Clear),
            None if label.any() => Label::Whole,
            None => Label::Clear,
        });
        self.set_local(root, label);
        from.iter().for_each(|other| self.share(root, *other));
        if any {
            let class = self.class(root);
            for local in 0..self.locals.len() as u32 {
                if local != root && self.class(local) == class {
                    self.set_local(local, Label::Whole);
                }
            }
        }
    }

    /// A method that changes a list; the label of what it returns.
    pub(super) fn change(&mut self, call: &ChangeCall) -> Label {
        let (on, _) = self.mentioning(&call.on);
        let before = std::mem::take(&mut self.mentioned);
        let labels = self.args(&call.args);
        let from = std::mem::replace(&mut self.mentioned, before);
        let item = on.item();
        for arg in &call.args {
            if let Arg::Function(function) = arg {
                self.apply(function, &[item.clone(), item.clone(), on.clone()]);
            }
        }
        let written = labels.into_iter().fold(Label::Clear, Label::or);
        if matches!(call.change, Change::Push | Change::Unshift | Change::Splice | Change::Fill) {
            self.write(&call.on, Label::list(written), &from);
        }
        match call.change {
            Change::Pop | Change::Shift => item,
            Change::Push | Change::Unshift | Change::ForEach => Label::Clear,
            _ => on,
        }
    }

    /// Calls a function that the statements define.
    pub(super) fn inline(&mut self, function: &Inline, args: &[Arg]) -> Label {
        let before = std::mem::take(&mut self.mentioned);
        let labels = self.args(args);
        let from = std::mem::replace(&mut self.mentioned, before);
        let mut bound = Vec::new();
        function.arrow.params.iter().for_each(|param| locals(&param.target, &mut bound));
        for local in bound {
            from.iter().for_each(|other| self.share(local, *other));
        }
        self.mentioned.extend(from);
        self.arrow(&function.arrow, &labels)
    }
}

/// The local names that a pattern binds.
fn locals(target: &Target, out: &mut Vec<u32>) {
    match target {
        Target::Local(local) => out.push(*local),
        Target::Object { members, rest } => {
            members.iter().for_each(|(_, target, _)| locals(target, out));
            out.extend(rest);
        }
        Target::List { items, rest } => {
            items.iter().flatten().for_each(|(target, _)| locals(target, out));
            rest.iter().for_each(|rest| locals(rest, out));
        }
    }
}

/// The local name that an expression reads members of, with their names where they are known.
fn path(expr: &Expr) -> Option<(u32, Vec<Option<Str>>)> {
    match &expr.kind {
        Kind::Local(local) | Kind::Growing(local) => Some((*local, Vec::new())),
        Kind::Chain(inner) => path(inner),
        Kind::Member { of, name, .. } => {
            let (root, mut members) = path(of)?;
            members.push(Some(name.clone()));
            Some((root, members))
        }
        Kind::Index { of, .. } => {
            let (root, mut members) = path(of)?;
            members.push(None);
            Some((root, members))
        }
        // `(groups[key] ??= [])` is a member of `groups`.
        Kind::Assign(assign) => match &assign.to {
            Assignee::Local(local, _) => Some((*local, Vec::new())),
            Assignee::Member(of, _) => {
                let (root, mut members) = path(of)?;
                members.push(None);
                Some((root, members))
            }
            Assignee::Pattern(_) => None,
        },
        _ => None,
    }
}
