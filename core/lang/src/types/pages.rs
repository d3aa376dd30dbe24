//! What `html.*` returns, and what it is passed: selectors that a document writes down are read when it is checked.

use super::infer::Infer;
use super::{Shape, Text, Type};
use crate::expr::ADDRESS;
use crate::expr::ast::{Arg, Expr};
use crate::expr::functions::Static;
use kanzlei_pages::{Unpaid, selector};

impl Infer<'_> {
    /// A function over pages.
    pub(super) fn html(&mut self, function: Static, types: &[Type], args: &[Arg]) -> Type {
        use Static::*;
        let given = |index: usize| types.get(index).cloned().unwrap_or(Type::Undefined);
        let text_or_null = || Type::TEXT.or(Type::Null);
        let texts = if function == HtmlRows { 2 } else { args.len() };
        for (index, arg) in args.iter().enumerate().take(texts) {
            // A page may be the lines of a file.
            let lines = |of: &Type| index == 0 && matches!(of, Type::List(_));
            if let Arg::Value(expr) = arg {
                self.text_argument(&given(index).keep(|one| !lines(one)), &[Text::Any], expr);
            }
        }
        match function {
            HtmlSelect => {
                self.selector(args.get(1), &given(1), "");
                let members = [("tag", Type::TEXT), ("text", Type::TEXT), ("html", Type::TEXT)];
                let attributes = ("attributes", Type::record(Type::TEXT));
                Type::list(Type::object(members.into_iter().chain([attributes])))
            }
            HtmlRows => {
                self.selector(args.get(1), &given(1), "");
                let Type::Object(fields) = given(2) else {
                    if let Some(Arg::Value(expr)) = args.get(2) {
                        let of = self.there(&given(2), expr, "which has no fields");
                        self.only(&of, expr, |one| matches!(one, Type::Object(_)), "has no fields");
                    }
                    return Type::list(Type::record(text_or_null()));
                };
                let mut row = Shape { rest: fields.rest.as_ref().map(|_| text_or_null()), ..Shape::default() };
                for member in &fields.members {
                    if let Type::Text(Text::One(field)) = &member.value {
                        let of = field.rsplit_once('@').map_or(&**field, |(of, _)| of).trim();
                        if !of.is_empty() {
                            self.selector(args.get(2), &Type::text(of), &format!("`{}`: ", member.name));
                        }
                    }
                    row.members.push(super::Member { value: text_or_null(), ..member.clone() });
                }
                Type::list(Type::Object(row.into()))
            }
            HtmlLinks => Type::list(Type::object([("text", Type::TEXT), ("url", Type::TEXT)])),
            HtmlMeta => {
                let named = ["title", "description", "language", "canonical"].map(|name| (name, text_or_null()));
                Type::object(named.into_iter().chain([("properties", Type::record(Type::TEXT))]))
            }
            HtmlUrl => {
                let part = |name: &'static str| match name {
                    "href" | "scheme" | "path" => (name, Type::TEXT),
                    "port" => (name, Type::NUMBER.or(Type::Null)),
                    _ => (name, text_or_null()),
                };
                Type::object(ADDRESS.map(part)).or(Type::Null)
            }
            _ => Type::TEXT,
        }
    }

    /// Reports a selector that is written down and cannot be read.
    fn selector(&mut self, arg: Option<&Arg>, of: &Type, field: &str) {
        let Some(Arg::Value(Expr { at, .. })) = arg else { return };
        for one in of.alternatives() {
            if let Type::Text(Text::One(text)) = one
                && let Err(fault) = selector::<Unpaid>(text)
            {
                self.report("bad-selector", format!("{field}{fault}"), *at);
            }
        }
    }
}
