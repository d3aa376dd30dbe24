//! What operators return, and what they can be applied to.

use super::Type;
use super::infer::Infer;
use super::narrow::{falsy, overlap, truthy};
use crate::expr::ast::{BinaryOp, Expr, LogicalOp, Span, UnaryOp};
use crate::expr::ops;

impl Infer<'_> {
    pub(super) fn unary(&mut self, op: UnaryOp, operand: &Expr) -> Type {
        let of = self.expr(operand);
        match op {
            UnaryOp::Not => match (truthy(&of) == Type::Never, falsy(&of) == Type::Never) {
                (true, false) => Type::Bool(Some(true)),
                (false, true) => Type::Bool(Some(false)),
                _ => Type::BOOL,
            },
            UnaryOp::TypeOf => {
                Type::union(["undefined", "boolean", "number", "string", "object"].into_iter().map(Type::text))
            }
            UnaryOp::Void => Type::Undefined,
            UnaryOp::Plus => {
                let of = self.there(&of, operand, "which is no number");
                self.only(
                    &of,
                    operand,
                    |one| !matches!(one, Type::List(_) | Type::Object(_)),
                    "cannot become a number",
                );
                Type::NUMBER
            }
            UnaryOp::Minus => {
                let number = self.number(&of, operand);
                match number {
                    Type::Number(Some(n)) => Type::number(-n),
                    _ => Type::NUMBER,
                }
            }
            UnaryOp::BitNot => {
                self.number(&of, operand);
                Type::NUMBER
            }
        }
    }

    /// Reports alternatives that do not fit.
    pub(super) fn only(&mut self, of: &Type, expr: &Expr, fits: impl Fn(&Type) -> bool, says: &str) {
        let wrong = of.keep(|one| *one != Type::Unknown && !fits(one));
        if wrong != Type::Never {
            let verb = if wrong == *of { "is" } else { "may be" };
            let message = format!("{} {verb} {}, which {says}", self.source(expr.at), wrong.what());
            self.report("wrong-operand", message, expr.at);
        }
    }

    pub(super) fn number(&mut self, of: &Type, expr: &Expr) -> Type {
        let of = self.computable(of, expr, "which is no number");
        self.only(&of, expr, |one| matches!(one, Type::Number(_)), "is no number");
        if of.alternatives().iter().any(|one| matches!(one, Type::Text(_))) {
            self.help("turn it into a number with `Number(…)`");
        }
        of
    }

    pub(super) fn binary(&mut self, op: BinaryOp, left: &Expr, right: &Expr, at: Span) -> Type {
        let (a, b) = (self.expr(left), self.expr(right));
        match op {
            BinaryOp::Sub | BinaryOp::Mul | BinaryOp::Div | BinaryOp::Rem | BinaryOp::Pow => {
                let (a, b) = (self.number(&a, left), self.number(&b, right));
                self.computed(op, &a, &b)
            }
            BinaryOp::Shl | BinaryOp::Shr | BinaryOp::UShr | BinaryOp::BitOr | BinaryOp::BitXor | BinaryOp::BitAnd => {
                self.number(&a, left);
                self.number(&b, right);
                Type::NUMBER
            }
            BinaryOp::Add => self.add(&a, left, &b, right),
            BinaryOp::Lt | BinaryOp::Le | BinaryOp::Gt | BinaryOp::Ge => {
                let (a, b) = (
                    self.computable(&a, left, "which cannot be compared"),
                    self.computable(&b, right, "which cannot be compared"),
                );
                for (of, expr) in [(&a, left), (&b, right)] {
                    self.only(of, expr, |one| matches!(one, Type::Number(_) | Type::Text(_)), "cannot be compared");
                }
                let kinds = |of: &Type| {
                    let all = of.alternatives();
                    let text = all.iter().any(|one| matches!(one, Type::Text(_)));
                    let number = all.iter().any(|one| matches!(one, Type::Number(_)));
                    (text, number)
                };
                let ((text_a, number_a), (text_b, number_b)) = (kinds(&a), kinds(&b));
                if (text_a && number_b) || (number_a && text_b) {
                    let message = format!("{} is compared with {}", a.what(), b.what());
                    if self.report("wrong-operand", message, at) {
                        self.help("turn the text into a number with `Number(…)`");
                    }
                }
                Type::BOOL
            }
            BinaryOp::Eq | BinaryOp::Ne => {
                let equal = op == BinaryOp::Eq;
                if a == Type::Never || b == Type::Never {
                    return Type::BOOL;
                }
                if !overlap(&a, &b) {
                    let always = if equal { "never" } else { "always" };
                    let kinds_differ = !overlap(&a.widened(), &b.widened());
                    if kinds_differ && !a.may_be_missing() && !b.may_be_missing() {
                        let message = format!("{} is compared with {}: this {always} holds", a.what(), b.what());
                        self.report("never-equal", message, at);
                    } else {
                        let shown = self.source(left.at);
                        self.warn("constant-condition", format!("this {always} holds: {shown} is {}", brief(&a)), at);
                    }
                    return Type::Bool(Some(!equal));
                }
                Type::BOOL
            }
            BinaryOp::LooseEq | BinaryOp::LooseNe => {
                // Null and `undefined` are loosely equal to each other and to nothing else (ECMA-262 §7.2.14).
                let nothing = |of: &Type| *of != Type::Never && of.alternatives().iter().all(Type::is_nullish);
                let (of, expr) = match (nothing(&a), nothing(&b)) {
                    (_, true) => (&a, left),
                    (true, false) => (&b, right),
                    _ => return Type::BOOL,
                };
                let may_be = of.may_be_missing() || of.alternatives().contains(&Type::Unknown);
                if may_be || *of == Type::Never {
                    return Type::BOOL;
                }
                let equal = op == BinaryOp::LooseEq;
                let always = if equal { "never" } else { "always" };
                let shown = self.source(expr.at);
                self.warn("constant-condition", format!("this {always} holds: {shown} is {}", brief(of)), at);
                Type::Bool(Some(!equal))
            }
            BinaryOp::In => {
                let b = self.there(&b, right, "which has no members");
                self.only(&b, right, |one| matches!(one, Type::Object(_) | Type::List(_)), "has no members");
                Type::BOOL
            }
        }
    }

    /// Arithmetic on single values has a single value as its result.
    fn computed(&self, op: BinaryOp, a: &Type, b: &Type) -> Type {
        match (a, b) {
            (Type::Number(Some(a)), Type::Number(Some(b))) => {
                let value =
                    ops::binary(op, &kanzlei_model::value::Value::Num(*a), &kanzlei_model::value::Value::Num(*b));
                Type::of(&value)
            }
            _ => Type::NUMBER,
        }
    }

    fn add(&mut self, a: &Type, left: &Expr, b: &Type, right: &Expr) -> Type {
        let (a, b) =
            (self.computable(a, left, "which cannot be added"), self.computable(b, right, "which cannot be added"));
        for (of, expr) in [(&a, left), (&b, right)] {
            self.only(of, expr, |one| !matches!(one, Type::List(_) | Type::Object(_)), "cannot be added");
        }
        let is_text = |of: &Type| of.alternatives().iter().all(|one| matches!(one, Type::Text(_)));
        let is_number = |of: &Type| of.alternatives().iter().all(|one| matches!(one, Type::Number(_)));
        match () {
            _ if a == Type::Never || b == Type::Never => Type::Never,
            _ if is_text(&a) || is_text(&b) => Type::TEXT,
            _ if is_number(&a) && is_number(&b) => self.computed(BinaryOp::Add, &a, &b),
            _ => {
                for (of, expr) in [(&a, left), (&b, right)] {
                    self.only(of, expr, |one| !matches!(one, Type::Bool(_)), "cannot be added to a number");
                }
                let unknown = [&a, &b].into_iter().any(|of| of.alternatives().contains(&Type::Unknown));
                if unknown { Type::Unknown } else { Type::NUMBER.or(Type::TEXT) }
            }
        }
    }

    pub(super) fn logical(&mut self, op: LogicalOp, left: &Expr, right: &Expr) -> Type {
        let a = self.expr(left);
        match op {
            LogicalOp::And => {
                let b = self.under(left, true, |infer| infer.expr(right));
                if truthy(&a) == Type::Never { a } else { falsy(&a).or(b) }
            }
            LogicalOp::Or => {
                let b = self.under(left, false, |infer| infer.expr(right));
                if falsy(&a) == Type::Never { a } else { truthy(&a).or(b) }
            }
            LogicalOp::Coalesce => {
                let b = self.expr(right);
                if a.may_be_missing() || a.alternatives().contains(&Type::Unknown) {
                    a.without_nullish().or(b)
                } else {
                    a
                }
            }
        }
    }
}

fn brief(of: &Type) -> String {
    let shown = of.to_string();
    if shown.chars().count() > 80 { of.what() } else { shown }
}
