//! The walk over a compiled expression that finds its type, and what in it can never work.
//!
//! Reported are uses that would fail when they meet the values they can meet: a member of something that may
//! be missing, a method that a value of that type does not have, arithmetic on texts. Nothing is said of
//! values of which nothing is known.

use std::sync::Arc;

use super::flow::Flow;
use super::narrow::{Path, path};
use super::sites::Sites;
use super::{Text, Type};
use crate::expr::Expression;
use crate::expr::ast::{BinaryOp, Expr, Item, Kind, Span, UnaryOp};
use crate::expr::functions::{Method, Static};
use crate::expr::template::Template;
use crate::suggest;

/// Nodes read for one expression; beyond them nothing more is reported.
const MOST_NODES: u32 = 200_000;

/// What is known of the names at one place of a workflow.
#[derive(Clone, Debug, Default)]
pub struct Env {
    /// Types by slot.
    pub slots: Vec<Type>,
    facts: Vec<(Path, Type)>,
}

/// Something that cannot work.
#[derive(Clone, Debug, PartialEq)]
pub struct Finding {
    /// The code of the finding.
    pub code: &'static str,
    /// What is wrong, in a sentence.
    pub message: String,
    /// What to do about it.
    pub help: Option<String>,
    /// In the expression's text, or in the template's.
    pub at: Span,
    /// Whether it is only worth a warning.
    pub warning: bool,
    /// What to write in its place, where a known name is near.
    pub instead: Option<String>,
}

/// What is known of one part of an expression.
#[derive(Clone, Debug)]
pub struct Part {
    /// Where it stands in the expression's text.
    pub at: Span,
    /// What it returns.
    pub of: Type,
}

impl Env {
    /// The type of an expression, and what is wrong with it.
    pub fn infer(&self, expression: &Expression) -> (Type, Vec<Finding>) {
        let mut infer = Infer::new(self, expression.text());
        let found = infer.expr(expression.ast());
        (found, infer.findings)
    }

    /// The type of each part of an expression, of those inside others first; a part that is looked at several
    /// times, as the body of an arrow function is, occurs as often.
    pub fn parts(&self, expression: &Expression) -> Vec<Part> {
        let mut infer = Infer::new(self, expression.text());
        infer.quiet = 1;
        infer.parts = Some(Vec::new());
        infer.expr(expression.ast());
        infer.parts.unwrap_or_default()
    }

    /// The type of a text with expressions in it.
    pub fn template(&self, template: &Template) -> (Type, Vec<Finding>) {
        let mut findings = Vec::new();
        let mut single = Type::TEXT;
        for expression in template.expressions() {
            let (of, mut found) = self.infer(expression);
            if matches!(template, Template::Mixed(..)) {
                found.extend(in_text(&of, expression));
            } else {
                single = of;
            }
            let offset = expression.offset();
            findings.extend(found.into_iter().map(|mut finding| {
                finding.at.start += offset;
                finding.at.end += offset;
                finding
            }));
        }
        if let Template::Text(text) = template {
            return (Type::text(text.clone()), findings);
        }
        (single, findings)
    }

    /// What is known where a condition holds, or where it does not.
    pub fn assuming(&self, condition: &Expression, holds: bool) -> Env {
        let mut infer = Infer::new(self, condition.text());
        infer.quiet = 1;
        infer.assume(condition.ast(), holds);
        Env { slots: self.slots.clone(), facts: infer.facts }
    }

    /// What is known where a value is a certain one.
    pub fn assuming_value(&self, subject: &Expression, value: &kanzlei_model::value::Value, is: bool) -> Env {
        let constant = Expr { kind: Kind::Const(value.clone()), at: Span::default() };
        let test =
            Expr { kind: Kind::Binary(BinaryOp::Eq, Box::new((subject.ast().clone(), constant))), at: Span::default() };
        let mut infer = Infer::new(self, subject.text());
        infer.quiet = 1;
        infer.assume(&test, is);
        Env { slots: self.slots.clone(), facts: infer.facts }
    }

    /// What is known where a value is of the kind of another: a number, a text.
    pub fn assuming_kind(&self, subject: &Expression, like: &kanzlei_model::value::Value) -> Env {
        let at = Span::default();
        let kind = Expr { kind: Kind::Const(kanzlei_model::value::Value::text(crate::expr::ops::type_of(like))), at };
        let of = Expr { kind: Kind::Unary(UnaryOp::TypeOf, Box::new(subject.ast().clone())), at };
        let test = Expr { kind: Kind::Binary(BinaryOp::Eq, Box::new((of, kind))), at };
        let mut infer = Infer::new(self, subject.text());
        infer.quiet = 1;
        infer.assume(&test, true);
        Env { slots: self.slots.clone(), facts: infer.facts }
    }

    /// Sets the type of a slot, growing as needed.
    pub fn set(&mut self, slot: u32, of: Type) {
        let slot = slot as usize;
        if self.slots.len() <= slot {
            self.slots.resize(slot + 1, Type::Undefined);
        }
        self.slots[slot] = of;
        self.facts.retain(|(path, _)| path.root != super::narrow::Root::Slot(slot as u32));
    }

    /// What is known where two ways come together: types of both, facts of neither that are not the
    /// other's too.
    pub fn join(&self, other: &Env) -> Env {
        let most = self.slots.len().max(other.slots.len());
        let slots = (0..most)
            .map(|slot| match (self.slots.get(slot), other.slots.get(slot)) {
                (Some(one), Some(other)) if one.is_plainly(other) => one.clone(),
                (one, other) => {
                    let missing = Type::Undefined;
                    one.unwrap_or(&missing).clone().or(other.unwrap_or(&missing).clone())
                }
            })
            .collect();
        let facts = self.facts.iter().filter(|fact| other.facts.contains(fact)).cloned().collect();
        Env { slots, facts }
    }
}

/// Values that make no sensible text.
fn in_text(of: &Type, expression: &Expression) -> Option<Finding> {
    let at = Span { start: 0, end: expression.text().len() as u32 };
    let warning = |message: String, help: &str| Finding {
        code: "odd-text",
        message,
        help: Some(help.to_owned()),
        at,
        warning: true,
        instead: None,
    };
    if of.alternatives().contains(&Type::Undefined) {
        return Some(warning(
            "this may be missing, and the text would read `undefined`".into(),
            "say what then: `?? ''`",
        ));
    }
    of.alternatives().iter().find(|one| matches!(one, Type::Object(_))).map(|_| {
        warning(
            "this may be an object, which makes no text".into(),
            "write it with `JSON.stringify(…)`, or name a member",
        )
    })
}

pub(super) struct Infer<'e> {
    pub env: &'e Env,
    pub locals: Vec<Type>,
    pub facts: Vec<(Path, Type)>,
    pub text: Arc<str>,
    pub findings: Vec<Finding>,
    /// Above 0 nothing is reported.
    pub quiet: u32,
    nodes: u32,
    /// Set when an optional chain may end early.
    pub ends_early: bool,
    /// Functions of the document that are being looked into.
    pub inside: u32,
    /// What was found of each part, where that is wanted; at most [`MOST_NODES`].
    pub(super) parts: Option<Vec<Part>>,
    /// Where the walk stands among statements.
    pub(super) flow: Flow,
    /// What scripts write into lists and objects.
    pub(super) sites: Sites,
}

impl<'e> Infer<'e> {
    fn new(env: &'e Env, text: &str) -> Self {
        Infer {
            env,
            locals: Vec::new(),
            facts: env.facts.clone(),
            text: text.into(),
            findings: Vec::new(),
            quiet: 0,
            nodes: 0,
            ends_early: false,
            inside: 0,
            parts: None,
            flow: Flow::default(),
            sites: Sites::default(),
        }
    }
}

impl Infer<'_> {
    pub(super) fn report(&mut self, code: &'static str, message: impl Into<String>, at: Span) -> bool {
        if self.quiet > 0 || self.nodes > MOST_NODES {
            return false;
        }
        self.findings.push(Finding { code, message: message.into(), help: None, at, warning: false, instead: None });
        true
    }

    /// Whether nothing more is looked at.
    pub(super) fn exhausted(&self) -> bool {
        self.nodes > MOST_NODES
    }

    pub(super) fn warn(&mut self, code: &'static str, message: impl Into<String>, at: Span) {
        if self.report(code, message, at)
            && let Some(last) = self.findings.last_mut()
        {
            last.warning = true;
        }
    }

    pub(super) fn help(&mut self, help: impl Into<String>) {
        if let Some(last) = self.findings.last_mut().filter(|_| self.quiet == 0) {
            last.help = Some(help.into());
        }
    }

    /// Suggests a known name in place of what was reported.
    pub(super) fn did_you_mean(&mut self, near: &str) {
        if let Some(last) = self.findings.last_mut().filter(|_| self.quiet == 0) {
            last.help = Some(format!("did you mean `{near}`?"));
            last.instead = Some(near.to_owned());
        }
    }

    pub(super) fn quietly<T>(&mut self, inner: impl FnOnce(&mut Self) -> T) -> T {
        self.quiet += 1;
        let result = inner(self);
        self.quiet -= 1;
        result
    }

    pub(super) fn source(&self, at: Span) -> String {
        let text = self.text.get(at.start as usize..at.end as usize).unwrap_or_default();
        if text.is_empty() || text.len() > 60 { "this".into() } else { format!("`{text}`") }
    }

    /// The type without what may be missing, which is reported.
    pub(super) fn there(&mut self, of: &Type, expr: &Expr, use_of: &str) -> Type {
        if of.may_be_missing() {
            let shown = self.source(expr.at);
            let missing = of.keep(Type::is_nullish);
            let always = missing == *of;
            let verb = if always { "is" } else { "may be" };
            if self.report("maybe-missing", format!("{shown} {verb} {}, {use_of}", missing.what()), expr.at) {
                self.help(match always {
                    true => "there is nothing here to use".to_owned(),
                    false => "test it first, read it with `?.`, or add a default: `?? …`".to_owned(),
                });
            }
        }
        of.without_nullish()
    }

    /// The same where something is computed. In scripts an item that is a number and read by its position counts as
    /// there: loops over positions are full of them, and a missing one makes NaN, no failure.
    pub(super) fn computable(&mut self, of: &Type, expr: &Expr, use_of: &str) -> Type {
        if let Kind::Index { of: list, optional: false, .. } = &expr.kind
            && self.flow.bodies > 0
        {
            let there = of.without_nullish();
            let number = |one: &Type| matches!(one, Type::Number(_));
            let list = self.quietly(|infer| infer.expr(list)).without_nullish();
            let by_position = list.alternatives().iter().all(|one| matches!(one, Type::List(_)));
            if by_position && there != Type::Never && there.alternatives().iter().all(number) {
                return there;
            }
        }
        self.there(of, expr, use_of)
    }

    pub(super) fn expr(&mut self, expr: &Expr) -> Type {
        self.nodes += 1;
        if self.nodes > MOST_NODES {
            return Type::Unknown;
        }
        let of = self.of(expr);
        // Functions of the document have texts of their own.
        if self.inside == 0
            && let Some(parts) = &mut self.parts
        {
            parts.push(Part { at: expr.at, of: of.clone() });
        }
        of
    }

    fn of(&mut self, expr: &Expr) -> Type {
        match &expr.kind {
            Kind::Const(value) => Type::of(value),
            Kind::Slot(_) | Kind::Local(_) | Kind::Growing(_) => {
                let of = path(expr).map_or(Type::Unknown, |path| self.path_type(&path));
                if of.may_be_rows() {
                    let name = self.source(expr.at);
                    self.report(
                        "rows-in-expression",
                        format!("{name} are rows of a file, which no expression reads"),
                        expr.at,
                    );
                    self.help("`each`, `file: write`, `from` of `sql` and the body of a reply read them; `whole: true` makes them a list");
                    return Type::Unknown;
                }
                of
            }
            Kind::Template(_, parts) => {
                for part in parts {
                    let of = self.expr(part);
                    if of.alternatives().contains(&Type::Undefined) {
                        self.warn(
                            "odd-text",
                            format!("{} may be missing, and the text would read `undefined`", self.source(part.at)),
                            part.at,
                        );
                    }
                }
                Type::TEXT
            }
            Kind::List(items) => {
                let mut types = Vec::with_capacity(items.len());
                let mut rest = Type::Never;
                // Where something is spread, positions are not known any more.
                let mut spread_before = false;
                for item in items {
                    match item {
                        Item::One(one) if spread_before => rest = rest.or(self.expr(one)),
                        Item::One(one) => types.push(self.expr(one)),
                        Item::Spread(of) => {
                            let spread = self.expr(of);
                            rest = rest.or(self.items_of(&spread, of));
                            spread_before = true;
                        }
                    }
                }
                let of = Type::beginning(types, rest);
                self.made_at(of, expr.at, false)
            }
            Kind::Object(properties) => {
                let of = self.object(properties);
                self.made_at(of, expr.at, false)
            }
            Kind::Member { of, name, optional } => {
                let object = self.expr(of);
                let read = self.member(&object, name, *optional, of, expr.at);
                self.narrowed(expr, read)
            }
            Kind::Index { of, key, optional } => {
                let object = self.expr(of);
                let key_type = self.expr(key);
                let object = match optional {
                    true => self.optionally(&object),
                    false => self.there(&object, of, "which has no elements"),
                };
                let read = self.index(&object, &key_type);
                self.narrowed(expr, read)
            }
            Kind::Chain(inner) => {
                let before = std::mem::replace(&mut self.ends_early, false);
                let of = self.expr(inner);
                let ended = std::mem::replace(&mut self.ends_early, before);
                if ended { of.or(Type::Undefined) } else { of }
            }
            Kind::As(inner, wanted) => {
                let of = self.expr(inner);
                // A value that may be of another type is checked when it is there.
                if !super::narrow::overlap(&of, &wanted.of) {
                    let message = format!("this is {}, which is never `{}`", of.what(), wanted.name);
                    self.report("wrong-operand", message, expr.at);
                }
                // What a script makes can change, so it has to be of the type in every way.
                if of.is_made_here() { self.declared(of, &wanted.of, expr.at) } else { wanted.of.clone() }
            }
            Kind::Unary(op, operand) => self.unary(*op, operand),
            Kind::Binary(op, sides) => self.binary(*op, &sides.0, &sides.1, expr.at),
            Kind::Logical(op, sides) => self.logical(*op, &sides.0, &sides.1),
            Kind::Conditional(parts) => {
                self.expr(&parts.0);
                let then = self.under(&parts.0, true, |infer| infer.expr(&parts.1));
                let otherwise = self.under(&parts.0, false, |infer| infer.expr(&parts.2));
                then.or(otherwise)
            }
            Kind::Method(call) => {
                let on = self.expr(&call.on);
                let on = match call.optional {
                    true => self.optionally(&on),
                    false => self.there(&on, &call.on, &format!("which has no `{}`", call.method.name())),
                };
                let of = self.method(call, &on, expr.at);
                match makes(call.method) {
                    true => self.made_at(of, expr.at, call.method == Method::Entries),
                    false => of,
                }
            }
            Kind::Match { text, test, .. } => {
                let of = self.expr(text);
                self.there(&of, text, "and no text to search");
                if *test { Type::BOOL } else { Type::list(Type::TEXT.or(Type::Undefined)).or(Type::Null) }
            }
            Kind::Call(function, args) => {
                let args = self.args(args);
                self.named(function, &args, expr.at)
            }
            Kind::Static(function, args) => {
                let of = self.static_call(*function, args, expr.at);
                let inner = matches!(function, Static::ObjectEntries | Static::ListChunk | Static::ListZip);
                match function {
                    Static::StructuredClone if self.flow.bodies > 0 => self.copied_at(&of.outside(), expr.at, &mut 0),
                    Static::JsonParse | Static::Reveal | Static::StructuredClone => of,
                    _ => self.made_at(of, expr.at, inner),
                }
            }
            Kind::Body(body) => self.body(body),
            Kind::Assign(assign) => self.assign(assign),
            Kind::Update(update) => self.update(update),
            Kind::Delete(parts) => self.delete(&parts.0, &parts.1),
            Kind::Change(call) => self.change(call, expr.at),
            Kind::Inline(function, args) => {
                let args = self.args(args);
                self.inline(function, &args)
            }
            Kind::Error(name, message) => {
                self.expr(message);
                let of = Type::object([("name", Type::text(*name)), ("message", Type::TEXT)]);
                self.made_at(of, expr.at, false)
            }
            Kind::Sequence(parts) => parts.iter().fold(Type::Undefined, |_, part| self.expr(part)),
        }
    }

    /// What is known of the path an expression reads, where that is more than its parts say.
    fn narrowed(&self, expr: &Expr, read: Type) -> Type {
        let Some(path) = path(expr) else { return read };
        match self.facts.iter().rev().find(|(known, _)| *known == path) {
            Some((_, known)) => known.clone(),
            None => read,
        }
    }

    /// Infers where a condition holds, or where it does not.
    pub(super) fn under<T>(&mut self, condition: &Expr, holds: bool, inner: impl FnOnce(&mut Self) -> T) -> T {
        let before = self.state();
        self.quietly(|infer| infer.assume(condition, holds));
        let result = inner(self);
        if self.flow.bodies > 0 && self.locals != before.locals {
            // What is assigned inside may be assigned or not.
            let after = self.state();
            let joined = self.join(before, after);
            self.set_state(joined);
        } else {
            self.set_state(before);
        }
        result
    }

    pub(super) fn optionally(&mut self, of: &Type) -> Type {
        self.ends_early |= of.may_be_missing();
        of.without_nullish()
    }

    fn member(&mut self, object: &Type, name: &str, optional: bool, of: &Expr, at: Span) -> Type {
        let object = match optional {
            true => self.optionally(object),
            false => self.there(object, of, &format!("which has no `{name}`")),
        };
        let lacks = |one: &Type| match one {
            Type::Unknown => false,
            Type::Object(shape) => shape.read(name).is_none(),
            Type::List(_) => !matches!(name, "length" | "index" | "input" | "groups"),
            Type::Text(_) => name != "length",
            _ => true,
        };
        let all = object.alternatives();
        let missing = all.iter().filter(|one| lacks(one)).count();
        if missing > 0 && missing == all.len() {
            let reported =
                self.report("unknown-member", format!("{} has no `{name}`", self.source(of.at)), end_of(at, name));
            if reported {
                let mut known: Vec<&str> = Vec::new();
                for name in all.iter().flat_map(names) {
                    if !known.contains(&name) {
                        known.push(name);
                    }
                }
                match suggest::nearest(name, known.iter().copied()) {
                    Some(near) => self.did_you_mean(near),
                    None if known.is_empty() => self.help(format!("it is {}", object.what())),
                    None => self.help(format!("it has {}", known.join(", "))),
                }
            }
            return Type::Unknown;
        } else if missing > 0 && !optional {
            let shown = self.source(of.at);
            if self.report(
                "unknown-member",
                format!("`{name}` is not in every form that {shown} can have"),
                end_of(at, name),
            ) {
                let without = all.iter().filter(|one| lacks(one)).map(Type::to_string).collect::<Vec<_>>();
                let without: String = without.join(" or ").chars().take(120).collect();
                self.help(format!("it may be {without}; test which one it is, or read it with `?.`"));
            }
            return object.keep(|one| !lacks(one)).map(|one| super::narrow::read(one, name));
        }
        object.map(|one| super::narrow::read(one, name))
    }

    pub(super) fn index(&mut self, object: &Type, key: &Type) -> Type {
        object.map(|one| match one {
            Type::Unknown => Type::Unknown,
            Type::List(item) => match key {
                Type::Text(Text::One(name)) if &**name == "length" => Type::NUMBER,
                // A negative index names a member that does not exist.
                Type::Number(Some(n)) if *n < 0.0 => Type::Undefined,
                Type::Number(n) => Type::at(item, *n),
                _ => Type::Unknown,
            },
            Type::Text(_) => Type::TEXT.or(Type::Undefined),
            Type::Object(shape) => match key {
                Type::Text(Text::One(name)) => shape.read(name).unwrap_or(Type::Undefined),
                _ => {
                    let members = shape.members.iter().map(|member| member.value.clone());
                    Type::union(members.chain(shape.rest.clone()).chain([Type::Undefined]))
                }
            },
            _ => Type::Undefined,
        })
    }

    /// The type of what `...of` adds to a list.
    pub(super) fn items_of(&mut self, of: &Type, expr: &Expr) -> Type {
        let of = self.there(of, expr, "which cannot be spread");
        self.only(&of, expr, |one| matches!(one, Type::List(_) | Type::Text(_)), "cannot be spread into a list");
        items(&of)
    }
}

/// Whether a method makes a list of its own.
fn makes(method: Method) -> bool {
    use Method::*;
    matches!(
        method,
        Map | Filter
            | Flat
            | FlatMap
            | Concat
            | Entries
            | Keys
            | Values
            | Slice
            | Split
            | MatchAll
            | ToReversed
            | ToSorted
            | ToSpliced
            | With
    )
}

/// The item type of lists and texts.
pub(super) fn items(of: &Type) -> Type {
    of.map(|one| match one {
        Type::List(item) => item.of.clone(),
        Type::Text(_) => Type::TEXT,
        _ => Type::Unknown,
    })
}

pub(super) fn names(of: &Type) -> Vec<&str> {
    match of {
        Type::Object(shape) => shape.members.iter().map(|member| &*member.name).collect(),
        Type::List(_) | Type::Text(_) => vec!["length"],
        _ => Vec::new(),
    }
}

/// The place of a member's name at the end of an expression.
fn end_of(at: Span, name: &str) -> Span {
    Span { start: at.end.saturating_sub(name.len() as u32).max(at.start), end: at.end }
}
