//! Functions that are called: arrow functions as arguments, functions of the document, and how their
//! parameters destructure values.

use std::sync::Arc;

use super::infer::{Infer, items, names};
use super::narrow::{Root, read};
use super::{Text, Type};
use crate::expr::ast::{Arrow, Expr, Function, Named, Param, Span, Target};
use crate::suggest;

impl Infer<'_> {
    /// What a function returns for arguments of these types.
    pub(super) fn apply(&mut self, function: &Function, args: &[Type], at: Span) -> Type {
        match function {
            Function::Arrow(arrow) => self.arrow(arrow, args),
            Function::Named(named) => self.named(named, args, at),
            Function::Inline(inline) => self.arrow(&inline.arrow, args),
            Function::Static(function) => self.static_types(*function, args, &[], at),
        }
    }

    pub(super) fn named(&mut self, function: &Arc<Named>, args: &[Type], at: Span) -> Type {
        if self.inside > 40 {
            return Type::Unknown;
        }
        let locals = std::mem::replace(&mut self.locals, vec![Type::Unknown; function.locals as usize]);
        let facts = std::mem::take(&mut self.facts);
        let text = std::mem::replace(&mut self.text, function.text.clone());
        let before = self.findings.len();
        let writes = self.sites.writes;
        self.inside += 1;
        let of = self.arrow(&function.arrow, args);
        self.inside -= 1;
        self.locals = locals;
        self.facts = facts;
        self.text = text;
        if self.sites.writes != writes {
            self.forget_made();
        }
        // Reported once, at the call: the function itself may be right for other arguments.
        if self.findings.len() > before {
            self.findings.truncate(before + 1);
            if let Some(first) = self.findings.last_mut() {
                first.message = format!("in `{}`: {}", function.name, first.message);
                first.at = at;
            }
        }
        of
    }

    fn arrow(&mut self, arrow: &Arrow, args: &[Type]) -> Type {
        if self.flow.bodies > 0 {
            return self.repeatedly(arrow, args);
        }
        let facts = self.facts.clone();
        self.bind_params(arrow, args);
        let of = self.arrow_body(arrow);
        self.facts = facts;
        of
    }

    pub(super) fn bind_params(&mut self, arrow: &Arrow, args: &[Type]) {
        for (index, Param { target, default, rest, wanted }) in arrow.params.iter().enumerate() {
            let mut given = match rest {
                true => Type::list(Type::union(args.get(index..).unwrap_or_default().iter().cloned())),
                false => args.get(index).cloned().unwrap_or(Type::Undefined),
            };
            if let Some(wanted) = wanted {
                let there = if default.is_some() { given.keep(|one| *one != Type::Undefined) } else { given };
                given = self.declared(there, wanted, arrow.body.at);
            }
            self.bind(target, default.as_ref(), given);
        }
    }

    pub(super) fn set_local(&mut self, local: u32, of: Type) {
        if self.locals.len() <= local as usize {
            self.locals.resize(local as usize + 1, Type::Unknown);
        }
        self.locals[local as usize] = of;
        let key = super::sites::computed(local);
        self.facts.retain(|(path, _)| path.root != Root::Local(local) && !path.members.contains(&key));
    }

    pub(super) fn bind(&mut self, target: &Target, default: Option<&Expr>, given: Type) {
        let given = match default {
            Some(default) => {
                let otherwise = self.expr(default);
                let may_default = given.alternatives().contains(&Type::Undefined) || given == Type::Unknown;
                if may_default { given.keep(|one| *one != Type::Undefined).or(otherwise) } else { given }
            }
            None => given,
        };
        match target {
            Target::Local(local) => self.set_local(*local, given),
            Target::Object { members, rest } => {
                let at = members.first().map_or(Span::default(), |(key, _, _)| key.at);
                let given = self.taken_apart(&given, at);
                for (key, target, default) in members {
                    let key_type = self.expr(key);
                    let member = match &key_type {
                        Type::Text(Text::One(name)) => {
                            let name = name.clone();
                            let known = given.alternatives().iter().any(|one| match one {
                                Type::Object(shape) => shape.read(&name).is_some(),
                                _ => true,
                            });
                            if !known && given != Type::Never {
                                let names: Vec<&str> = given.alternatives().iter().flat_map(names).collect();
                                if self.report("unknown-member", format!("there is no `{name}` to destructure"), key.at)
                                    && let Some(near) = suggest::nearest(&name, names.iter().copied())
                                {
                                    self.did_you_mean(near);
                                }
                            }
                            given.map(|one| read(one, &name))
                        }
                        key => self.index(&given, &key.clone()),
                    };
                    self.bind(target, default.as_ref(), member);
                }
                if let Some(rest) = rest {
                    let of = self.made_at(Type::record(Type::Unknown), at, false);
                    self.set_local(*rest, of);
                }
            }
            Target::List { items: targets, rest } => {
                let at = Span::default();
                let given = self.taken_apart(&given, at);
                let wrong = given.keep(|one| !matches!(one, Type::Unknown | Type::List(_) | Type::Text(_)));
                if wrong != Type::Never {
                    self.report("wrong-operand", format!("{} cannot be destructured like a list", wrong.what()), at);
                }
                let item = items(&given);
                for (position, target) in targets.iter().enumerate() {
                    let Some((target, default)) = target else { continue };
                    let there = given.map(|one| match one {
                        Type::List(items) if items.of == Type::Unknown => Type::Unknown,
                        Type::List(items) => Type::at(items, Some(position as f64)),
                        Type::Text(_) => Type::TEXT.or(Type::Undefined),
                        _ => Type::Unknown,
                    });
                    self.bind(target, default.as_ref(), there);
                }
                if let Some(rest) = rest {
                    self.bind(rest, None, Type::list(item));
                }
            }
        }
    }

    fn taken_apart(&mut self, of: &Type, at: Span) -> Type {
        if of.may_be_missing() {
            let missing = of.keep(Type::is_nullish).what();
            self.report("maybe-missing", format!("what is taken apart here may be {missing}"), at);
        }
        of.without_nullish()
    }
}
