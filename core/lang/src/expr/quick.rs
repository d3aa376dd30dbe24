//! Expressions that only read members, compare them and compute with numbers: most conditions do no more. No evaluation is set up for
//! them: they need no names, no heap and no failure.
//!
//! Where a value is missing, or a text or a list would be made, nothing comes of it, and the expression is
//! [evaluated](super::eval) from its beginning. What both return is the same (`tests::quick_values_are_those_of_the_evaluation`).
//!
//! ```
//! use kanzlei_lang::expr::{Expression, Limits, Scope};
//! use kanzlei_model::value::Value;
//! let mut scope = Scope::default();
//! scope.define("n");
//! let fits = Expression::compile("n > 2 && n * 3.2 < 500", &scope).unwrap();
//! assert_eq!(fits.eval(&[Value::Int(3)], Limits::default()), Ok(Value::Bool(true)));
//! ```

use kanzlei_model::value::Value;

use super::ast::*;
use super::eval::compared;
use super::ops::{self, Number};

/// Operators within each other that are computed as numbers before it is known whether all of them are: bounds what is done in vain.
const NESTED: u32 = 4;

/// The value of an expression: one that exists, or one that was computed.
pub(super) enum Found<'v> {
    There(&'v Value),
    Made(Value),
}

impl Found<'_> {
    fn get(&self) -> &Value {
        match self {
            Found::There(value) => value,
            Found::Made(value) => value,
        }
    }

    pub(super) fn into_value(self) -> Value {
        match self {
            Found::There(value) => value.clone(),
            Found::Made(value) => value,
        }
    }
}

/// Whether all parts of an expression are of the kinds that [`value`] computes.
pub(super) fn suits(expr: &Expr) -> bool {
    match &expr.kind {
        Kind::Const(_) | Kind::Slot(_) => true,
        Kind::Member { of, .. } | Kind::Chain(of) | Kind::Unary(UnaryOp::Not, of) => suits(of),
        Kind::Index { of, key, .. } => suits(of) && suits(key),
        Kind::Binary(op, sides) => *op != BinaryOp::In && suits(&sides.0) && suits(&sides.1),
        Kind::Logical(_, sides) => suits(&sides.0) && suits(&sides.1),
        Kind::Conditional(parts) => suits(&parts.0) && suits(&parts.1) && suits(&parts.2),
        _ => false,
    }
}

/// The value of an expression, with the units of work that it took; nothing where it must be evaluated.
pub(super) fn value<'v>(expr: &'v Expr, slots: &'v [Value], work: &mut u64) -> Option<Found<'v>> {
    match &expr.kind {
        Kind::Const(_) | Kind::Slot(_) | Kind::Member { .. } | Kind::Index { .. } => {
            place(expr, slots).map(Found::There)
        }
        Kind::Chain(of) => value(of, slots, work),
        Kind::Unary(UnaryOp::Not, of) => {
            *work += 1;
            Some(Found::Made(Value::Bool(!holds(of, slots, work)?)))
        }
        Kind::Binary(op, sides) => {
            if let Some((a, b)) = numbers(sides, slots, work) {
                match Number::compared(*op, a, b) {
                    Some(holds) => return Some(Found::Made(Value::Bool(holds))),
                    None => {
                        if let Some(number) = Number::computed(*op, a, b) {
                            return Some(Found::Made(number.value()));
                        }
                    }
                }
            }
            *work += 1;
            let (mut left, mut right) = (Value::Undefined, Value::Undefined);
            let a = operand(&sides.0, slots, work, &mut left)?;
            let b = operand(&sides.1, slots, work, &mut right)?;
            // Texts that are put together are metered by their bytes.
            let comparable = *op != BinaryOp::Add && *op != BinaryOp::In && a.depth() + b.depth() == 0;
            comparable.then(|| {
                *work += compared(a, b);
                Found::Made(ops::binary(*op, a, b))
            })
        }
        Kind::Logical(LogicalOp::And | LogicalOp::Or, sides) if compares(&sides.0) && compares(&sides.1) => {
            Some(Found::Made(Value::Bool(holds(expr, slots, work)?)))
        }
        Kind::Logical(op, sides) => {
            *work += 1;
            let left = value(&sides.0, slots, work)?;
            let right = match op {
                LogicalOp::And => ops::truthy(left.get()),
                LogicalOp::Or => !ops::truthy(left.get()),
                LogicalOp::Coalesce => left.get().is_nullish(),
            };
            if right { value(&sides.1, slots, work) } else { Some(left) }
        }
        Kind::Conditional(parts) => {
            *work += 1;
            let holds = holds(&parts.0, slots, work)?;
            value(if holds { &parts.1 } else { &parts.2 }, slots, work)
        }
        _ => None,
    }
}

/// Whether what an expression returns is a boolean, whatever it reads.
#[inline]
fn compares(expr: &Expr) -> bool {
    match &expr.kind {
        Kind::Binary(op, _) => op.compares(),
        Kind::Unary(UnaryOp::Not, _) => true,
        Kind::Logical(LogicalOp::And | LogicalOp::Or, sides) => compares(&sides.0) && compares(&sides.1),
        _ => false,
    }
}

/// Whether a condition holds.
fn holds(expr: &Expr, slots: &[Value], work: &mut u64) -> Option<bool> {
    match &expr.kind {
        Kind::Binary(op, sides) => {
            if op.compares()
                && let Some((a, b)) = numbers(sides, slots, work)
                && let Some(holds) = Number::compared(*op, a, b)
            {
                return Some(holds);
            }
            Some(ops::truthy(value(expr, slots, work)?.get()))
        }
        Kind::Logical(op @ (LogicalOp::And | LogicalOp::Or), sides) => {
            *work += 1;
            let left = holds(&sides.0, slots, work)?;
            if left == (*op == LogicalOp::Or) { Some(left) } else { holds(&sides.1, slots, work) }
        }
        _ => Some(ops::truthy(value(expr, slots, work)?.get())),
    }
}

/// Both operands, where they are numbers.
#[inline]
fn numbers(sides: &(Expr, Expr), slots: &[Value], work: &mut u64) -> Option<(Number, Number)> {
    let mut units = 1;
    let b = number(&sides.1, slots, &mut units, NESTED)?;
    let a = number(&sides.0, slots, &mut units, NESTED)?;
    *work += units;
    Some((a, b))
}

/// The number that an expression names, or makes of others with so many operators in each other.
fn number(expr: &Expr, slots: &[Value], work: &mut u64, nested: u32) -> Option<Number> {
    match &expr.kind {
        Kind::Binary(op, sides) if nested > 0 => {
            *work += 1;
            let b = number(&sides.1, slots, work, nested - 1)?;
            let a = number(&sides.0, slots, work, nested - 1)?;
            Number::computed(*op, a, b)
        }
        _ => Number::of(place(expr, slots)?),
    }
}

/// The value of an operand: one that exists, or one that is computed into `made`.
#[inline]
fn operand<'v>(expr: &'v Expr, slots: &'v [Value], work: &mut u64, made: &'v mut Value) -> Option<&'v Value> {
    if let Kind::Const(value) = &expr.kind {
        return Some(value);
    }
    match value(expr, slots, work)? {
        Found::There(value) => Some(value),
        Found::Made(value) => {
            *made = value;
            Some(made)
        }
    }
}

/// The value that an expression names, where it exists. What an evaluation holds open looks empty, so that nothing is found in it.
#[inline]
fn place<'v>(expr: &'v Expr, slots: &'v [Value]) -> Option<&'v Value> {
    match &expr.kind {
        Kind::Const(value) => Some(value),
        Kind::Slot(slot) => slots.get(*slot as usize),
        _ => within(expr, slots),
    }
}

/// The value that an expression names within another.
fn within<'v>(expr: &'v Expr, slots: &'v [Value]) -> Option<&'v Value> {
    match &expr.kind {
        Kind::Chain(of) => place(of, slots),
        Kind::Member { of, name, .. } => match place(of, slots)? {
            Value::Object(object) => object.get(name),
            _ => None,
        },
        Kind::Index { of, key, .. } => match (place(of, slots)?, place(key, slots)?) {
            (Value::List(list), Value::Int(at)) => list.items().get(usize::try_from(*at).ok()?),
            _ => None,
        },
        _ => None,
    }
}
