//! Lists and objects that scripts make and change: each place that makes them has one description of what they may hold.
//!
//! Whatever is written into a list or an object is written into the description of the places where it may be from. The walk is
//! repeated until no description changes, so that names that share a list agree. What comes from outside has no such place, and
//! writing to it is reported.

use std::collections::HashMap;
use std::sync::Arc;

use super::flow::constant_key;
use super::infer::Infer;
use super::narrow::{Path, Root, path};
use super::{Items, Member, Shape, Text, Type};
use crate::expr::ast::{Arg, Assign, Assignee, ChangeCall, Expr, Kind, LogicalOp, Span, Update};
use crate::expr::functions::Change;
use crate::expr::script::AssignOp;
use kanzlei_model::value::Str;

/// How often a script is walked before what its lists and objects hold is unknown.
pub(super) const ROUNDS: usize = 8;
/// The deepest nesting at which a place keeps what it knows.
const DEEPEST: usize = 12;

/// What a place makes.
#[derive(Clone, Debug, Default, PartialEq)]
struct Content {
    /// What is written as items, or under names that are computed.
    rest: Option<Type>,
    /// What is written under names.
    members: Vec<(Str, Type)>,
    /// Names of members that are deleted.
    deleted: Vec<Str>,
    /// Whether items move or any member may be deleted.
    moved: bool,
}

/// The places of a script that make lists and objects.
#[derive(Debug, Default)]
pub(super) struct Sites {
    numbers: HashMap<(usize, u32, u32), u32>,
    known: Vec<Content>,
    next: Vec<Content>,
    /// How often something was written.
    pub writes: u64,
}

impl Sites {
    /// Takes over what was written in the walk before; whether that changed anything.
    pub fn settle(&mut self, round: usize) -> bool {
        let changed = self.known != self.next;
        if changed {
            for (before, now) in self.known.iter().zip(&mut self.next) {
                // What goes on changing is known less and less of.
                let less = |of: &Type| match round {
                    0 => of.clone(),
                    _ if round + 3 < ROUNDS => of.widened(),
                    _ => Type::Unknown,
                };
                if before.rest != now.rest {
                    now.rest = now.rest.as_ref().map(less);
                }
                for (name, of) in &mut now.members {
                    if before.members.iter().all(|(known, before)| known != name || before != of) {
                        *of = less(of);
                    }
                }
            }
            self.known = self.next.clone();
        }
        changed
    }

    pub fn clear(&mut self) {
        *self = Sites::default();
    }

    fn number(&mut self, key: (usize, u32, u32)) -> u32 {
        let next = self.next.len() as u32;
        let number = *self.numbers.entry(key).or_insert(next);
        if number == next {
            self.next.push(Content::default());
            self.known.push(Content::default());
        }
        number
    }

    /// A list or object that a place makes, with what is written into it elsewhere.
    fn made(&mut self, of: &Type, number: u32) -> Type {
        let content = self.known.get(number as usize).cloned().unwrap_or_default();
        match of {
            Type::List(items) => {
                let written = content.rest.is_some() || content.moved;
                let first = if written { Vec::new() } else { items.first.clone() };
                let item = items.of.clone().or(content.rest.unwrap_or(Type::Never));
                Type::List(Arc::new(Items { of: item, first, site: Some(number) }))
            }
            Type::Object(shape) if !shape.file && shape.rows.is_none() => {
                let mut made: Shape = (**shape).clone();
                made.site = Some(number);
                for member in &mut made.members {
                    if let Some(rest) = &content.rest {
                        member.value = member.value.clone().or(rest.clone());
                    }
                    member.optional |= content.moved || content.deleted.contains(&member.name);
                }
                for (name, of) in &content.members {
                    let known = made.members.iter_mut().find(|member| member.name == *name);
                    match known {
                        Some(member) => member.value = member.value.clone().or(of.clone()),
                        None => {
                            let value = of.clone().or(content.rest.clone().unwrap_or(Type::Never));
                            made.members.push(Member { name: name.clone(), value, optional: true });
                        }
                    }
                }
                made.rest = match (made.rest, content.rest) {
                    (Some(a), Some(b)) => Some(a.or(b)),
                    (a, b) => a.or(b),
                };
                Type::Object(made.into())
            }
            other => other.clone(),
        }
    }

    /// Writes a value: under a name, or somewhere.
    fn write(&mut self, number: u32, name: Option<&Str>, value: &Type) {
        self.writes += 1;
        let Some(content) = self.next.get_mut(number as usize) else { return };
        let value = if depth(value) > DEEPEST { Type::Unknown } else { value.clone() };
        match name {
            Some(name) => match content.members.iter_mut().find(|(known, _)| known == name) {
                Some((_, of)) => *of = of.clone().or(value),
                None => content.members.push((name.clone(), value)),
            },
            None => content.rest = Some(content.rest.take().unwrap_or(Type::Never).or(value)),
        }
    }

    fn delete(&mut self, number: u32, name: Option<&Str>) {
        self.writes += 1;
        let Some(content) = self.next.get_mut(number as usize) else { return };
        match name {
            Some(name) if !content.deleted.contains(name) => content.deleted.push(name.clone()),
            Some(_) => {}
            None => content.moved = true,
        }
    }

    fn moves(&mut self, number: u32) {
        self.writes += 1;
        if let Some(content) = self.next.get_mut(number as usize) {
            content.moved = true;
        }
    }

    /// What is declared to be of a type: that type, made where the value is made.
    pub fn declare(&mut self, of: &Type, wanted: &Type) -> Type {
        let Some(number) = of.alternatives().iter().find_map(site) else {
            return if of.alternatives().contains(&Type::Unknown) { wanted.clone() } else { of.clone() };
        };
        for one in wanted.alternatives() {
            match one {
                Type::List(items) => self.write(number, None, &items.of),
                Type::Object(shape) => {
                    for member in &shape.members {
                        self.write(number, Some(&member.name), &member.value);
                    }
                    if let Some(rest) = &shape.rest {
                        self.write(number, None, rest);
                    }
                }
                _ => {}
            }
        }
        of.clone()
    }
}

fn depth(of: &Type) -> usize {
    match of {
        Type::List(items) => 1 + depth(&items.of),
        Type::Object(shape) => {
            1 + shape.members.iter().map(|member| &member.value).chain(&shape.rest).map(depth).max().unwrap_or(0)
        }
        Type::Union(all) => all.iter().map(depth).max().unwrap_or(0),
        _ => 0,
    }
}

fn site(of: &Type) -> Option<u32> {
    match of {
        Type::List(items) => items.site,
        Type::Object(shape) => shape.site,
        _ => None,
    }
}

/// What two types are together that describe what the same place of a script makes.
pub(super) fn merged(a: &Type, b: &Type) -> Option<Type> {
    if site(a).is_none() || site(a) != site(b) {
        return None;
    }
    match (a, b) {
        (Type::List(a), Type::List(b)) => {
            let first = if a.first == b.first { a.first.clone() } else { Vec::new() };
            Some(Type::List(Arc::new(Items { of: a.of.clone().or(b.of.clone()), first, site: a.site })))
        }
        (Type::Object(a), Type::Object(b)) => {
            let mut both: Shape = (**a).clone();
            for member in &mut both.members {
                match b.get(&member.name) {
                    Some(other) => {
                        member.value = member.value.clone().or(other.value.clone());
                        member.optional |= other.optional;
                    }
                    None => member.optional = true,
                }
            }
            let only = b.members.iter().filter(|member| a.get(&member.name).is_none());
            both.members.extend(only.map(|member| Member { optional: true, ..member.clone() }));
            both.rest = match (&a.rest, &b.rest) {
                (Some(a), Some(b)) => Some(a.clone().or(b.clone())),
                (a, b) => a.clone().or(b.clone()),
            };
            Some(Type::Object(both.into()))
        }
        _ => None,
    }
}

/// Whether a type has something of these sites in it.
fn mentions(of: &Type, sites: &[u32], depth: usize) -> bool {
    of.alternatives().iter().any(|one| {
        site(one).is_some_and(|site| sites.contains(&site))
            || depth > DEEPEST
            || match one {
                Type::List(items) => mentions(&items.of, sites, depth + 1),
                Type::Object(shape) => {
                    let mut inside = shape.members.iter().map(|member| &member.value).chain(&shape.rest);
                    inside.any(|of| mentions(of, sites, depth + 1))
                }
                _ => false,
            }
    })
}

impl Type {
    /// Whether it may be a list or an object that the script around makes.
    pub(super) fn is_made_here(&self) -> bool {
        self.alternatives().iter().any(|one| site(one).is_some())
    }

    /// The type as it is outside of the script that makes it: nothing changes it any more.
    pub(super) fn outside(&self) -> Type {
        match self {
            Type::List(items) => Type::List(Arc::new(Items {
                of: items.of.outside(),
                first: items.first.iter().map(Type::outside).collect(),
                site: None,
            })),
            Type::Object(shape) if !shape.file && shape.rows.is_none() => {
                let members =
                    shape.members.iter().map(|member| Member { value: member.value.outside(), ..member.clone() });
                let rest = shape.rest.as_ref().map(Type::outside);
                Type::Object(Arc::new(Shape { members: members.collect(), rest, site: None, ..(**shape).clone() }))
            }
            Type::Union(all) => Type::union(all.iter().map(Type::outside)),
            other => other.clone(),
        }
    }
}

impl Infer<'_> {
    /// Gives what an expression of a script makes its place; `inner` for lists within it.
    pub(super) fn made_at(&mut self, of: Type, at: Span, inner: bool) -> Type {
        if self.flow.bodies == 0 {
            return of;
        }
        let text = Arc::as_ptr(&self.text).cast::<u8>() as usize;
        let number = self.sites.number((text, at.start, 0));
        let within = inner.then(|| self.sites.number((text, at.start, 1)));
        of.map(|one| match (one, within) {
            (one, _) if site(one).is_some() => one.clone(),
            (Type::List(items), Some(within)) => {
                let of = items
                    .of
                    .map(|item| if site(item).is_none() { self.sites.made(item, within) } else { item.clone() });
                self.sites.made(&Type::list(of), number)
            }
            (one, _) => self.sites.made(one, number),
        })
    }

    /// Gives a copy its places, all the way down.
    pub(super) fn copied_at(&mut self, of: &Type, at: Span, next: &mut u32) -> Type {
        let of = of.map(|one| match one {
            Type::List(items) => Type::list(self.copied_at(&items.of, at, next)),
            Type::Object(shape) if !shape.file && shape.rows.is_none() => {
                let mut copy: Shape = (**shape).clone();
                for member in &mut copy.members {
                    member.value = self.copied_at(&member.value, at, next);
                }
                copy.rest = copy.rest.map(|rest| self.copied_at(&rest, at, next));
                Type::Object(copy.into())
            }
            other => other.clone(),
        });
        *next += 1;
        let text = Arc::as_ptr(&self.text).cast::<u8>() as usize;
        let number = self.sites.number((text, at.start, 1 + *next));
        of.map(|one| self.sites.made(one, number))
    }

    fn frozen(&mut self, of: &Expr) {
        let shown = self.source(of.at);
        if self.report("assignment", format!("{shown} comes from outside of the script and cannot change"), of.at) {
            self.help("copy it first: `structuredClone(…)`, `{...object}` or `[...list]`");
        }
    }

    /// Writes a member or an item.
    fn write(&mut self, object: &Type, of: &Expr, key: &Expr, key_type: &Type, value: &Type) {
        let object = self.there(object, of, "which has no members to set");
        let name = constant_key(key).or_else(|| match key_type {
            Type::Text(Text::One(name)) => Some(name.clone()),
            _ => None,
        });
        let (mut frozen, mut wrong) = (false, Type::Never);
        for one in object.alternatives() {
            match (one, site(one)) {
                (Type::Unknown, _) => {}
                (Type::List(_), Some(number)) => match &name {
                    Some(name) if &**name == "length" => self.sites.moves(number),
                    Some(name) if kanzlei_model::value::array_index(name).is_none() => wrong = wrong.or(one.clone()),
                    _ => self.sites.write(number, None, value),
                },
                (Type::Object(_), Some(number)) => self.sites.write(number, name.as_ref(), value),
                (Type::List(_) | Type::Object(_), None) => frozen = true,
                _ => wrong = wrong.or(one.clone()),
            }
        }
        if frozen {
            self.frozen(of);
        }
        if wrong != Type::Never {
            let shown = self.source(of.at);
            self.report("assignment", format!("{shown} is {}, which has no such member to set", wrong.what()), of.at);
        }
        let at = path(of);
        self.forget(name.as_ref(), &object, at.as_ref());
        if let Some(mut path) = at {
            match (&key.kind, name) {
                (_, Some(name)) => path.members.push(name),
                (Kind::Local(local) | Kind::Growing(local), None) => path.members.push(computed(*local)),
                _ => return,
            }
            self.set_path(path, value.clone());
        }
    }

    /// Forgets what is known of local names that a write to an object may have changed: members of that name, and
    /// what may be the same object, but for the path that is written.
    fn forget(&mut self, name: Option<&Str>, object: &Type, written: Option<&Path>) {
        let sites: Vec<u32> = object.alternatives().iter().filter_map(site).collect();
        let anything = object.alternatives().contains(&Type::Unknown);
        self.facts.retain(|(path, of)| match path.root {
            Root::Slot(_) => true,
            Root::Local(_) => {
                let members = match name {
                    None => path.members.is_empty(),
                    Some(name) => path.members.iter().all(|member| member != name && !member.starts_with('\0')),
                };
                members && (written == Some(path) || !(anything && of.is_made_here() || mentions(of, &sites, 0)))
            }
        });
    }

    /// Forgets what is known of everything that a function may have written to.
    pub(super) fn forget_made(&mut self) {
        self.facts.retain(|(path, of)| match path.root {
            Root::Slot(_) => true,
            Root::Local(_) => path.members.is_empty() && !of.is_made_here(),
        });
    }

    /// Knows a member by what was written to it, and the object it belongs to.
    fn set_path(&mut self, path: Path, value: Type) {
        if let Some((name, above)) = path.members.split_last()
            && !name.starts_with('\0')
        {
            let parent = Path { root: path.root, members: above.to_vec() };
            let before = self.path_type(&parent);
            let after = before.map(|one| match one {
                Type::Object(shape) => {
                    let mut with: Shape = (**shape).clone();
                    with.set(name.clone(), value.clone(), false);
                    Type::Object(with.into())
                }
                other => other.clone(),
            });
            if after != before {
                self.facts.push((parent, after));
            }
        }
        self.facts.push((path, value));
    }

    /// An assignment; returns what is assigned.
    pub(super) fn assign(&mut self, assign: &Assign) -> Type {
        let target = match &assign.to {
            Assignee::Local(local, _) => Expr { kind: Kind::Local(*local), at: assign.at },
            Assignee::Member(of, key) => member_of(of, key, assign.at),
            Assignee::Pattern(target) => {
                let of = self.expr(&assign.value);
                self.bind(target, None, of.clone());
                self.may_fail();
                return of;
            }
        };
        let value = match assign.op {
            None => None,
            Some(AssignOp::Binary(op)) => Some(self.binary(op, &target, &assign.value, assign.at)),
            Some(AssignOp::Logical(op)) => {
                let before = self.expr(&target);
                // The value is computed, and written, only where the operator asks for it.
                let state = self.state();
                match op {
                    LogicalOp::And => self.quietly(|infer| infer.assume(&target, true)),
                    LogicalOp::Or => self.quietly(|infer| infer.assume(&target, false)),
                    LogicalOp::Coalesce => {}
                }
                let value = self.expr(&assign.value);
                let end = self.state();
                let joined = self.join(state, end);
                self.set_state(joined);
                Some(match op {
                    LogicalOp::And => super::narrow::falsy(&before).or(value),
                    LogicalOp::Or => super::narrow::truthy(&before).or(value),
                    LogicalOp::Coalesce => before.without_nullish().or(value),
                })
            }
        };
        let of = match &assign.to {
            Assignee::Local(local, _) => {
                let value = value.unwrap_or_else(|| self.expr(&assign.value));
                self.set_local(*local, value.clone());
                value
            }
            Assignee::Member(of, key) => {
                let object = self.quietly_again(of, assign.op.is_some());
                let key_type = self.quietly_again(key, assign.op.is_some());
                let value = value.unwrap_or_else(|| self.expr(&assign.value));
                self.write(&object, of, key, &key_type, &value);
                value
            }
            Assignee::Pattern(_) => Type::Unknown,
        };
        self.may_fail();
        of
    }

    /// The type of an expression, without reports where it was looked at before.
    fn quietly_again(&mut self, expr: &Expr, again: bool) -> Type {
        match again {
            true => self.quietly(|infer| infer.expr(expr)),
            false => self.expr(expr),
        }
    }

    /// `++` and `--`.
    pub(super) fn update(&mut self, update: &Update) -> Type {
        let target = match &update.to {
            Assignee::Local(local, _) => Expr { kind: Kind::Local(*local), at: update.at },
            Assignee::Member(of, key) => member_of(of, key, update.at),
            Assignee::Pattern(_) => return Type::NUMBER,
        };
        let before = self.expr(&target);
        self.number(&before, &target);
        match &update.to {
            Assignee::Local(local, _) => self.set_local(*local, Type::NUMBER),
            Assignee::Member(of, key) => {
                let object = self.quietly_again(of, true);
                let key_type = self.quietly_again(key, true);
                self.write(&object, of, key, &key_type, &Type::NUMBER);
            }
            Assignee::Pattern(_) => {}
        }
        self.may_fail();
        Type::NUMBER
    }

    /// `delete a.b`.
    pub(super) fn delete(&mut self, of: &Expr, key: &Expr) -> Type {
        let object = self.expr(of);
        self.expr(key);
        let object = self.there(&object, of, "which has no members");
        let name = constant_key(key);
        self.only(&object, of, |one| matches!(one, Type::Object(_)), "has no members to delete");
        let mut frozen = false;
        for one in object.alternatives() {
            match (one, site(one)) {
                (Type::Object(_), Some(number)) => self.sites.delete(number, name.as_ref()),
                (Type::Object(_), None) => frozen = true,
                _ => {}
            }
        }
        if frozen {
            self.frozen(of);
        }
        self.forget(name.as_ref(), &object, None);
        self.may_fail();
        Type::BOOL
    }

    /// A method that changes a list.
    pub(super) fn change(&mut self, call: &ChangeCall, at: Span) -> Type {
        let on = self.expr(&call.on);
        let on = match call.optional {
            true => self.optionally(&on),
            false => self.there(&on, &call.on, &format!("which has no `{}`", call.change.name())),
        };
        let args = self.args(&call.args);
        let wrong = on.keep(|one| !matches!(one, Type::Unknown | Type::List(_)));
        if wrong != Type::Never {
            let verb = if wrong == on { "is" } else { "may be" };
            let shown = self.source(call.on.at);
            let name = call.change.name();
            self.report("unknown-method", format!("{shown} {verb} {}, which has no `{name}`", wrong.what()), at);
        }
        let item = on.map(|one| match one {
            Type::List(items) => items.of.clone(),
            _ => Type::Unknown,
        });
        let function =
            call.args.iter().find_map(|arg| if let Arg::Function(function) = arg { Some(function) } else { None });
        if let Some(function) = function {
            let given = match call.change {
                Change::Sort => vec![item.clone(), item.clone()],
                _ => vec![item.clone(), Type::NUMBER, on.clone()],
            };
            self.apply(function, &given, at);
        }
        if call.change == Change::ForEach {
            return Type::Undefined;
        }
        let written: &[Type] = match call.change {
            Change::Push | Change::Unshift => &args,
            Change::Splice => args.get(2..).unwrap_or_default(),
            Change::Fill => args.get(..1).unwrap_or_default(),
            _ => &[],
        };
        let mut frozen = false;
        for one in on.alternatives() {
            match (one, site(one)) {
                (Type::List(_), Some(number)) => {
                    written.iter().for_each(|value| self.sites.write(number, None, value));
                    if call.change != Change::Push {
                        self.sites.moves(number);
                    }
                }
                (Type::List(_), None) => frozen = true,
                _ => {}
            }
        }
        if frozen {
            self.frozen(&call.on);
        }
        let filled = self.is_filled(&call.on);
        if call.change != Change::Push {
            self.forget(None, &on, None);
        } else if !written.is_empty() {
            self.forget(Some(&"length".into()), &on, None);
        }
        self.may_fail();
        match call.change {
            Change::Push | Change::Unshift => Type::NUMBER,
            Change::Pop | Change::Shift if filled => item,
            Change::Pop | Change::Shift => item.or(Type::Undefined),
            Change::Splice => self.made_at(Type::list(item), at, false),
            _ => on,
        }
    }

    /// Whether a list is known to have items.
    fn is_filled(&self, list: &Expr) -> bool {
        let Some(mut path) = path(list) else { return false };
        path.members.push(FILLED.into());
        self.facts.iter().any(|(known, _)| *known == path)
    }
}

/// A member that stands for there being items.
pub(super) const FILLED: &str = "\0filled";

/// The name of a member whose key is a local name.
pub(super) fn computed(local: u32) -> Str {
    format!("\0{local}").into()
}

fn member_of(of: &Expr, key: &Expr, at: Span) -> Expr {
    let of = Box::new(of.clone());
    let kind = match constant_key(key) {
        Some(name) => Kind::Member { of, name, optional: false },
        None => Kind::Index { of, key: Box::new(key.clone()), optional: false },
    };
    Expr { kind, at }
}
