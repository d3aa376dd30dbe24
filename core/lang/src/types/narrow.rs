//! What a condition says about the names in it.
//!
//! A *path* is a name with the members read from it: `vessel.body.name`. Where a condition holds, the
//! types of the paths it tests are narrower, and so are those they are read from: `vessel.status === 404`
//! leaves of the alternatives of `vessel` the ones whose `status` can be 404, and so narrows
//! `vessel.body` too.

use super::infer::Infer;
use super::sites::{FILLED, computed};
use super::{Shape, Text, Type};
use crate::expr::ast::{Arg, BinaryOp, Expr, Item, Kind, LogicalOp, UnaryOp};
use crate::expr::functions::{Method, Static};
use kanzlei_model::value::{Str, Value};

/// A name, and the members read from it.
#[derive(Clone, Debug, PartialEq)]
pub(super) struct Path {
    pub root: Root,
    pub members: Vec<Str>,
}

#[derive(Clone, Copy, Debug, PartialEq)]
pub(super) enum Root {
    Slot(u32),
    Local(u32),
}

/// The path an expression reads, if it is one.
pub(super) fn path(expr: &Expr) -> Option<Path> {
    match &expr.kind {
        Kind::Slot(slot) => Some(Path { root: Root::Slot(*slot), members: Vec::new() }),
        Kind::Local(local) | Kind::Growing(local) => Some(Path { root: Root::Local(*local), members: Vec::new() }),
        Kind::Chain(inner) => path(inner),
        Kind::Member { of, name, .. } => {
            let mut path = path(of)?;
            path.members.push(name.clone());
            Some(path)
        }
        Kind::Index { of, key, .. } => {
            let name = match &key.kind {
                Kind::Const(Value::Text(name)) => name.clone(),
                Kind::Local(local) | Kind::Growing(local) => computed(*local),
                _ => return None,
            };
            let mut path = path(of)?;
            path.members.push(name);
            Some(path)
        }
        _ => None,
    }
}

/// Whether two types have a value in common, as far as is known.
pub(super) fn overlap(a: &Type, b: &Type) -> bool {
    a.alternatives().iter().any(|a| {
        b.alternatives().iter().any(|b| match (a, b) {
            (Type::Unknown, _) | (_, Type::Unknown) => true,
            (Type::Bool(a), Type::Bool(b)) => a.is_none() || b.is_none() || a == b,
            (Type::Number(a), Type::Number(b)) => a.is_none() || b.is_none() || a == b,
            (Type::Text(a), Type::Text(b)) => a.meets(b),
            (Type::List(_), Type::List(_)) | (Type::Object(_), Type::Object(_)) => true,
            (a, b) => a == b,
        })
    })
}

/// Whether it is one single value.
fn is_single(of: &Type) -> bool {
    matches!(of, Type::Undefined | Type::Null | Type::Bool(Some(_)) | Type::Number(Some(_)) | Type::Text(Text::One(_)))
}

/// What is left of a type where it is equal to another.
fn equal_to(of: &Type, other: &Type) -> Type {
    of.map(|one| match one {
        Type::Unknown => other.clone(),
        one if !overlap(one, other) => Type::Never,
        one => {
            let single = other.keep(|other| is_single(other) && overlap(one, other));
            if single == Type::Never || !other.alternatives().iter().all(is_single) { one.clone() } else { single }
        }
    })
}

/// What is left of a type where a value of it counts as true.
pub(super) fn truthy(of: &Type) -> Type {
    of.map(|one| match one {
        Type::Undefined | Type::Null | Type::Bool(Some(false)) => Type::Never,
        Type::Number(Some(n)) if *n == 0.0 || n.is_nan() => Type::Never,
        Type::Text(Text::One(text)) if text.is_empty() => Type::Never,
        Type::Bool(None) => Type::Bool(Some(true)),
        one => one.clone(),
    })
}

/// What is left of a type where a value of it counts as false.
pub(super) fn falsy(of: &Type) -> Type {
    of.map(|one| match one {
        Type::List(_) | Type::Object(_) | Type::Bool(Some(true)) => Type::Never,
        Type::Number(Some(n)) if *n != 0.0 => Type::Never,
        Type::Text(Text::One(text)) if !text.is_empty() => Type::Never,
        Type::Text(Text::Date | Text::Instant | Text::Span) => Type::Never,
        Type::Bool(None) => Type::Bool(Some(false)),
        Type::Text(Text::Any) => Type::text(""),
        one => one.clone(),
    })
}

impl Infer<'_> {
    /// The type of a path by what is known of it here.
    pub(super) fn path_type(&self, path: &Path) -> Type {
        if let Some((_, known)) = self.facts.iter().rev().find(|(known, _)| known == path) {
            return known.clone();
        }
        match path.members.split_last() {
            None => match path.root {
                Root::Slot(slot) => self.env.slots.get(slot as usize).cloned().unwrap_or(Type::Unknown),
                Root::Local(local) => self.locals.get(local as usize).cloned().unwrap_or(Type::Unknown),
            },
            Some((name, before)) => {
                let parent = self.path_type(&Path { root: path.root, members: before.to_vec() });
                parent.map(|one| read(one, name))
            }
        }
    }

    /// Takes note of what an expression's being true, or not, says.
    pub(super) fn assume(&mut self, expr: &Expr, holds: bool) {
        match &expr.kind {
            Kind::Unary(UnaryOp::Not, inner) => self.assume(inner, !holds),
            Kind::Chain(inner) if path(expr).is_none() => self.assume(inner, holds),
            Kind::Logical(LogicalOp::And, sides) if holds => {
                self.assume(&sides.0, true);
                self.assume(&sides.1, true);
            }
            Kind::Logical(LogicalOp::Or, sides) if !holds => {
                self.assume(&sides.0, false);
                self.assume(&sides.1, false);
            }
            Kind::Logical(LogicalOp::Or, sides) => self.assume_either(&sides.0, true, &sides.1, true),
            Kind::Logical(LogicalOp::And, sides) => self.assume_either(&sides.0, false, &sides.1, false),
            Kind::Binary(op, sides) => self.assume_comparison(*op, &sides.0, &sides.1, holds),
            Kind::Static(Static::ArrayIsArray, args) => {
                if let [Arg::Value(arg)] = args.as_slice()
                    && let Some(path) = path(arg)
                {
                    self.narrow(&path, &|of| {
                        of.map(|one| match one {
                            Type::Unknown if holds => Type::list(Type::Unknown),
                            Type::Unknown => Type::Unknown,
                            one if matches!(one, Type::List(_)) == holds => one.clone(),
                            _ => Type::Never,
                        })
                    });
                }
            }
            Kind::Static(Static::Boolean, args) => {
                if let [Arg::Value(arg)] = args.as_slice() {
                    self.assume(arg, holds);
                }
            }
            Kind::Method(call) if call.method == Method::Includes && holds => {
                if let ([Arg::Value(arg)], Some(values)) = (call.args.as_slice(), constants(&call.on))
                    && let Some(path) = path(arg)
                {
                    self.narrow(&path, &|of| equal_to(of, &values));
                }
            }
            _ => {
                if let Some(path) = path(expr) {
                    self.narrow(&path, &|of| if holds { truthy(of) } else { falsy(of) });
                    if holds {
                        self.filled(expr);
                    }
                }
            }
        }
    }

    /// One of two conditions holds, it is not known which: what both say of the same path is joined.
    fn assume_either(&mut self, a: &Expr, a_holds: bool, b: &Expr, b_holds: bool) {
        let before = self.facts.len();
        self.assume(a, a_holds);
        let first = self.facts.split_off(before);
        // The second is only read where the first did not decide.
        self.assume(a, !a_holds);
        self.assume(b, b_holds);
        let second: Vec<(Path, Type)> = self.facts[before..].to_vec();
        let mut joined = Vec::new();
        for (path, one) in &first {
            if second.iter().any(|(known, _)| known == path) && !joined.iter().any(|(known, _)| known == path) {
                let last = first.iter().rev().find(|(known, _)| known == path).map_or(one, |(_, one)| one);
                let other = self.path_type(path);
                joined.push((path.clone(), last.clone().or(other)));
            }
        }
        self.facts.truncate(before);
        self.facts.extend(joined);
    }

    fn assume_comparison(&mut self, op: BinaryOp, left: &Expr, right: &Expr, holds: bool) {
        let equal = match op {
            BinaryOp::Lt | BinaryOp::Gt | BinaryOp::Le | BinaryOp::Ge if self.flow.bodies > 0 => {
                return self.assume_order(op, left, right, holds);
            }
            BinaryOp::Eq | BinaryOp::LooseEq => holds,
            BinaryOp::Ne | BinaryOp::LooseNe => !holds,
            BinaryOp::In => {
                if let (Kind::Const(Value::Text(name)), Some(path)) = (&left.kind, path(right)) {
                    self.narrow(&path, &|of| of.map(|one| with_member(one, name, holds)));
                }
                return;
            }
            _ => return,
        };
        let loose = matches!(op, BinaryOp::LooseEq | BinaryOp::LooseNe);
        for (side, other) in [(left, right), (right, left)] {
            if let (Kind::Unary(UnaryOp::TypeOf, of), Kind::Const(Value::Text(kind))) = (&side.kind, &other.kind) {
                if let Some(path) = path(of) {
                    self.narrow(&path, &|of| {
                        of.map(|one| match one {
                            Type::Unknown if equal => of_kind(kind),
                            Type::Unknown => Type::Unknown,
                            one if is_kind(one, kind) == equal => one.clone(),
                            _ => Type::Never,
                        })
                    });
                }
                continue;
            }
            let Some(path) = path(side) else { continue };
            let other = self.quietly(|infer| infer.expr(other));
            if loose {
                if other.alternatives().iter().all(Type::is_nullish) {
                    self.narrow(&path, &|of| {
                        of.map(|one| match one {
                            Type::Unknown if equal => Type::Undefined.or(Type::Null),
                            one if *one == Type::Unknown || one.is_nullish() == equal => one.clone(),
                            _ => Type::Never,
                        })
                    });
                }
            } else if equal {
                self.narrow(&path, &|of| equal_to(of, &other));
            } else if is_single(&other) {
                self.narrow(&path, &|of| of.keep(|one| *one != other));
            }
        }
    }

    /// `i < list.length` says that there is an item `list[i]`, `list.length > 0` that there is one at all.
    fn assume_order(&mut self, op: BinaryOp, left: &Expr, right: &Expr, holds: bool) {
        let (less, more) = match (op, holds) {
            (BinaryOp::Lt, true) | (BinaryOp::Ge, false) => (left, right),
            (BinaryOp::Gt, true) | (BinaryOp::Le, false) => (right, left),
            _ => return,
        };
        let Kind::Member { of, name, .. } = &more.kind else { return };
        if &**name != "length" {
            return;
        }
        match &less.kind {
            Kind::Local(local) | Kind::Growing(local) => {
                if let Some(mut path) = path(of) {
                    let list = self.path_type(&path);
                    path.members.push(computed(*local));
                    let item = list.map(|one| match one {
                        Type::List(items) => items.of.clone(),
                        Type::Text(_) => Type::TEXT,
                        _ => Type::Unknown,
                    });
                    self.facts.push((path, item));
                }
            }
            Kind::Const(Value::Int(least)) if *least >= 0 => self.filled(more),
            _ => {}
        }
    }

    /// A list whose length counts as true has items.
    fn filled(&mut self, length: &Expr) {
        if let Kind::Member { of, name, .. } = &length.kind
            && self.flow.bodies > 0
            && &**name == "length"
            && let Some(mut path) = path(of)
        {
            path.members.push(FILLED.into());
            self.facts.push((path, Type::BOOL));
        }
    }

    /// Narrows a path, and what it is read from to the alternatives that still can be.
    fn narrow(&mut self, path: &Path, change: &dyn Fn(&Type) -> Type) {
        let before = self.path_type(path);
        let after = change(&before);
        if let Some((name, above)) = path.members.split_last()
            && !name.starts_with('\0')
        {
            let parent = Path { root: path.root, members: above.to_vec() };
            self.narrow(&parent, &|of| {
                of.map(|one| match one {
                    Type::Unknown => Type::Unknown,
                    one => {
                        let member = read(one, name);
                        let left = change(&member);
                        match one {
                            _ if left == Type::Never => Type::Never,
                            Type::Object(shape) if left != member && shape.read(name).is_some() => {
                                let mut with: Shape = (**shape).clone();
                                let missing = left.alternatives().contains(&Type::Undefined);
                                let there = left.keep(|one| *one != Type::Undefined);
                                match (missing, there == Type::Never) {
                                    (true, false) => with.set(name.clone(), there, true),
                                    _ => with.set(name.clone(), left, false),
                                }
                                Type::Object(with.into())
                            }
                            one => one.clone(),
                        }
                    }
                })
            });
        }
        if after != before {
            self.facts.push((path.clone(), after));
        }
    }
}

/// What reading a member of one alternative returns, without a word about whether that is right.
pub(super) fn read(of: &Type, name: &str) -> Type {
    match of {
        Type::Unknown => Type::Unknown,
        // A key that is known only when it runs.
        Type::Object(shape) if name.starts_with('\0') => {
            let members = shape.members.iter().map(|member| member.value.clone());
            Type::union(members.chain(shape.rest.clone()).chain([Type::Undefined]))
        }
        Type::List(items) if name.starts_with('\0') => items.of.clone().or(Type::Undefined),
        Type::Text(_) if name.starts_with('\0') => Type::TEXT.or(Type::Undefined),
        Type::Object(shape) => shape.read(name).unwrap_or(Type::Undefined),
        Type::List(_) | Type::Text(_) if name == "length" => Type::NUMBER,
        // The list that a pattern match returns has further members.
        Type::List(_) if matches!(name, "index" | "input" | "groups") => Type::Unknown,
        _ => Type::Undefined,
    }
}

fn with_member(of: &Type, name: &str, there: bool) -> Type {
    match of {
        Type::Object(shape) => match (shape.get(name), &shape.rest, there) {
            (Some(member), _, true) => {
                let mut with: Shape = (**shape).clone();
                with.set(member.name.clone(), member.value.clone(), false);
                Type::Object(with.into())
            }
            (Some(member), _, false) if !member.optional => Type::Never,
            (None, None, true) => Type::Never,
            (None, Some(rest), true) => {
                let mut with: Shape = (**shape).clone();
                with.set(name.into(), rest.clone(), false);
                Type::Object(with.into())
            }
            _ => of.clone(),
        },
        _ => of.clone(),
    }
}

fn is_kind(of: &Type, kind: &str) -> bool {
    match of {
        Type::Undefined => kind == "undefined",
        Type::Bool(_) => kind == "boolean",
        Type::Number(_) => kind == "number",
        Type::Text(_) => kind == "string",
        Type::Null | Type::List(_) | Type::Object(_) => kind == "object",
        _ => true,
    }
}

fn of_kind(kind: &str) -> Type {
    match kind {
        "undefined" => Type::Undefined,
        "boolean" => Type::BOOL,
        "number" => Type::NUMBER,
        "string" => Type::TEXT,
        _ => Type::Unknown,
    }
}

/// The values of a list that is written down.
fn constants(expr: &Expr) -> Option<Type> {
    let Kind::List(items) = &expr.kind else { return None };
    let values: Option<Vec<Type>> = items
        .iter()
        .map(|item| match item {
            Item::One(Expr { kind: Kind::Const(value), .. }) => Some(Type::of(value)),
            _ => None,
        })
        .collect();
    values.map(Type::union)
}
