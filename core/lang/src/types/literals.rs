//! Object literals: their members, and what is spread into them.

use std::sync::Arc;

use super::infer::Infer;
use super::{Member, Shape, Text, Type};
use crate::expr::ast::Property;

impl Infer<'_> {
    pub(super) fn object(&mut self, properties: &[Property]) -> Type {
        // More than one form when something of several forms is spread into it.
        let mut forms = vec![Shape::default()];
        for property in properties {
            match property {
                Property::Named(name, value) => {
                    let value = self.expr(value);
                    forms.iter_mut().for_each(|form| form.set(name.clone(), value.clone(), false));
                }
                Property::Computed(key, value) => {
                    let key = self.expr(key);
                    let value = self.expr(value);
                    for form in &mut forms {
                        match &key {
                            Type::Text(Text::One(name)) => form.set(name.clone(), value.clone(), false),
                            _ => {
                                // It may be any member, also an existing one.
                                for member in &mut form.members {
                                    member.value = member.value.clone().or(value.clone());
                                }
                                form.rest = Some(form.rest.take().map_or(value.clone(), |rest| rest.or(value.clone())));
                            }
                        }
                    }
                }
                Property::Spread(of) => {
                    let spread = self.expr(of);
                    let mut next = Vec::new();
                    for form in &forms {
                        for one in spread.alternatives() {
                            next.push(spread_into(form, one));
                        }
                    }
                    if next.len() > 8 {
                        return Type::record(Type::Unknown);
                    }
                    forms = next;
                }
            }
        }
        Type::union(forms.into_iter().map(|form| Type::Object(Arc::new(form))))
    }
}

fn spread_into(form: &Shape, of: &Type) -> Shape {
    let mut out = form.clone();
    match of {
        Type::Object(shape) => {
            for member in &shape.members {
                match (member.optional, out.get(&member.name).cloned()) {
                    // It may be there, or leave what was there before.
                    (true, Some(before)) => {
                        let value = before.value.or(member.value.clone());
                        out.set(member.name.clone(), value, before.optional);
                    }
                    (optional, _) => out.set(member.name.clone(), member.value.clone(), optional),
                }
            }
            if let Some(rest) = &shape.rest {
                for member in out.members.iter_mut().filter(|member| shape.get(&member.name).is_none()) {
                    member.value = member.value.clone().or(rest.clone());
                }
                out.rest = Some(out.rest.take().map_or(rest.clone(), |known| known.or(rest.clone())));
            }
        }
        Type::Unknown | Type::List(_) | Type::Text(_) => {
            for Member { value, .. } in &mut out.members {
                *value = Type::Unknown;
            }
            out.rest = Some(Type::Unknown);
        }
        _ => {}
    }
    out
}
