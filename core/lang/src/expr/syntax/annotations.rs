//! Types that are written in scripts: a part of TypeScript's, checked before anything runs and without effect when it does.

use oxc_ast::ast as js;

use super::{Lowering, span};
use crate::types::{Member, Shape, Type};

impl Lowering<'_> {
    /// The type that an annotation names; nothing where it is refused.
    pub(super) fn annotation(&mut self, wanted: &js::TSType) -> Option<Type> {
        use js::TSType as T;
        Some(match wanted {
            T::TSAnyKeyword(_) | T::TSUnknownKeyword(_) => Type::Unknown,
            T::TSBooleanKeyword(_) => Type::BOOL,
            T::TSNumberKeyword(_) => Type::NUMBER,
            T::TSStringKeyword(_) => Type::TEXT,
            T::TSNullKeyword(_) => Type::Null,
            T::TSUndefinedKeyword(_) | T::TSVoidKeyword(_) => Type::Undefined,
            T::TSNeverKeyword(_) => Type::Never,
            T::TSParenthesizedType(inner) => self.annotation(&inner.type_annotation)?,
            T::TSArrayType(list) => Type::list(self.annotation(&list.element_type)?),
            T::TSUnionType(union) => {
                let mut types = Vec::with_capacity(union.types.len());
                for one in &union.types {
                    types.push(self.annotation(one)?);
                }
                Type::union(types)
            }
            T::TSLiteralType(literal) => match &literal.literal {
                js::TSLiteral::BooleanLiteral(literal) => Type::Bool(Some(literal.value)),
                js::TSLiteral::NumericLiteral(literal) => Type::number(literal.value),
                js::TSLiteral::StringLiteral(literal) => Type::text(literal.value.as_str()),
                _ => return self.no_type(wanted),
            },
            T::TSTypeLiteral(object) => self.object_type(object)?,
            T::TSTypeReference(reference) => self.named_type(reference, wanted)?,
            _ => return self.no_type(wanted),
        })
    }

    fn no_type(&mut self, at: &js::TSType) -> Option<Type> {
        self.refuse("this form of a type is", at);
        self.help(
            "write it with `number`, `string`, `boolean`, `null`, `T[]`, `Record<string, T>`, `{name: T}` and `|`",
        );
        None
    }

    fn object_type(&mut self, object: &js::TSTypeLiteral) -> Option<Type> {
        let mut shape = Shape::default();
        for member in &object.members {
            match member {
                js::TSSignature::TSPropertySignature(property) => {
                    let name = property.key.static_name();
                    let (Some(name), false) = (name, property.computed) else {
                        self.refuse("a computed name in a type is", &**property);
                        return None;
                    };
                    let value = match &property.type_annotation {
                        Some(value) => self.annotation(&value.type_annotation)?,
                        None => Type::Unknown,
                    };
                    shape.members.push(Member { name: (*name).into(), value, optional: property.optional });
                }
                js::TSSignature::TSIndexSignature(index) => {
                    shape.rest = Some(self.annotation(&index.type_annotation.type_annotation)?);
                }
                other => {
                    self.refuse("a method in a type is", other);
                    return None;
                }
            }
        }
        Some(Type::Object(shape.into()))
    }

    fn named_type(&mut self, reference: &js::TSTypeReference, at: &js::TSType) -> Option<Type> {
        let js::TSTypeName::IdentifierReference(name) = &reference.type_name else { return self.no_type(at) };
        let arguments: &[js::TSType] = reference.type_arguments.as_ref().map_or(&[], |arguments| &arguments.params);
        match (name.name.as_str(), arguments) {
            ("Array" | "ReadonlyArray", [item]) => Some(Type::list(self.annotation(item)?)),
            ("Record", [js::TSType::TSStringKeyword(_), value]) => Some(Type::record(self.annotation(value)?)),
            (name, []) if self.scope.named_type(name).is_some() => self.scope.named_type(name).cloned(),
            (other, _) => {
                self.fault("unknown-name", format!("there is no type `{other}` here"), &reference.type_name);
                if let Some(fault) = self.faults.last_mut() {
                    fault.at = span(&reference.type_name);
                }
                let known: Vec<_> = self.scope.type_names().map(|name| format!("`{name}`, ")).collect();
                let help = format!(
                    "known are {}`Array<T>` and `Record<string, T>`; other types are written out",
                    known.concat()
                );
                self.help(help);
                None
            }
        }
    }
}
