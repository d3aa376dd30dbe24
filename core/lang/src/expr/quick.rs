//! Expressions that only read members, compare them and compute with numbers: most conditions do no more, and neither do most functions
//! that are called for each item. No evaluation is set up for them: they need no names but the item's, no heap and no failure.
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

/// What the names of an expression stand for.
#[derive(Clone, Copy)]
pub(super) struct Names<'v> {
    slots: &'v [Value],
    /// The parameter of the function that is called, and what it is called with.
    item: Option<(u32, &'v Value)>,
}

impl<'v> Names<'v> {
    /// The names of the workflow.
    pub fn of(slots: &'v [Value]) -> Self {
        Names { slots, item: None }
    }

    /// The same with a parameter.
    pub fn and(self, parameter: u32, item: &'v Value) -> Self {
        Names { item: Some((parameter, item)), ..self }
    }

    #[inline]
    fn local(&self, local: u32) -> Option<&'v Value> {
        self.item.filter(|(parameter, _)| *parameter == local).map(|(_, item)| item)
    }
}

/// Whether all parts of an expression are of the kinds that [`value`] computes, in a function of one parameter if it is in one.
pub(super) fn suits(expr: &Expr, parameter: Option<u32>) -> bool {
    let suits = |expr: &Expr| suits(expr, parameter);
    match &expr.kind {
        Kind::Const(_) | Kind::Slot(_) => true,
        Kind::Local(local) => parameter == Some(*local),
        Kind::Member { of, .. } | Kind::Chain(of) | Kind::Unary(UnaryOp::Not, of) => suits(of),
        Kind::Index { of, key, .. } => suits(of) && suits(key),
        Kind::Binary(op, sides) => *op != BinaryOp::In && suits(&sides.0) && suits(&sides.1),
        Kind::Logical(_, sides) => suits(&sides.0) && suits(&sides.1),
        Kind::Conditional(parts) => suits(&parts.0) && suits(&parts.1) && suits(&parts.2),
        _ => false,
    }
}

/// The parameter of a function that is called with one item, where [`value`] computes what it returns.
pub(super) fn parameter(params: &[Param], body: &Expr) -> Option<u32> {
    match params {
        [Param { target: Target::Local(local), default: None, rest: false, .. }] => {
            Some(*local).filter(|local| suits(body, Some(*local)))
        }
        _ => None,
    }
}

/// The value of an expression, with the units of work that it took; nothing where it must be evaluated.
pub(super) fn value<'v>(expr: &'v Expr, names: &Names<'v>, work: &mut u64) -> Option<Found<'v>> {
    match &expr.kind {
        Kind::Const(_) | Kind::Slot(_) | Kind::Local(_) | Kind::Member { .. } | Kind::Index { .. } => {
            place(expr, names).map(Found::There)
        }
        Kind::Chain(of) => value(of, names, work),
        Kind::Unary(UnaryOp::Not, of) => {
            *work += 1;
            Some(Found::Made(Value::Bool(!holds(of, names, work)?)))
        }
        Kind::Binary(op, sides) => {
            if let Some((a, b)) = numbers(sides, names, work) {
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
            let a = operand(&sides.0, names, work, &mut left)?;
            let b = operand(&sides.1, names, work, &mut right)?;
            // Texts that are put together are metered by their bytes.
            let comparable = *op != BinaryOp::Add && *op != BinaryOp::In && a.depth() + b.depth() == 0;
            comparable.then(|| {
                *work += compared(a, b);
                Found::Made(ops::binary(*op, a, b))
            })
        }
        Kind::Logical(LogicalOp::And | LogicalOp::Or, sides) if compares(&sides.0) && compares(&sides.1) => {
            Some(Found::Made(Value::Bool(holds(expr, names, work)?)))
        }
        Kind::Logical(op, sides) => {
            *work += 1;
            let left = value(&sides.0, names, work)?;
            let right = match op {
                LogicalOp::And => ops::truthy(left.get()),
                LogicalOp::Or => !ops::truthy(left.get()),
                LogicalOp::Coalesce => left.get().is_nullish(),
            };
            if right { value(&sides.1, names, work) } else { Some(left) }
        }
        Kind::Conditional(parts) => {
            *work += 1;
            let holds = holds(&parts.0, names, work)?;
            value(if holds { &parts.1 } else { &parts.2 }, names, work)
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
fn holds(expr: &Expr, names: &Names, work: &mut u64) -> Option<bool> {
    match &expr.kind {
        Kind::Binary(op, sides) => {
            if op.compares()
                && let Some((a, b)) = numbers(sides, names, work)
                && let Some(holds) = Number::compared(*op, a, b)
            {
                return Some(holds);
            }
            Some(ops::truthy(value(expr, names, work)?.get()))
        }
        Kind::Logical(op @ (LogicalOp::And | LogicalOp::Or), sides) => {
            *work += 1;
            let left = holds(&sides.0, names, work)?;
            if left == (*op == LogicalOp::Or) { Some(left) } else { holds(&sides.1, names, work) }
        }
        _ => Some(ops::truthy(value(expr, names, work)?.get())),
    }
}

/// Both operands, where they are numbers.
#[inline]
fn numbers(sides: &(Expr, Expr), names: &Names, work: &mut u64) -> Option<(Number, Number)> {
    let mut units = 1;
    let b = number(&sides.1, names, &mut units, NESTED)?;
    let a = number(&sides.0, names, &mut units, NESTED)?;
    *work += units;
    Some((a, b))
}

/// The number that an expression names, or makes of others with so many operators in each other.
fn number(expr: &Expr, names: &Names, work: &mut u64, nested: u32) -> Option<Number> {
    match &expr.kind {
        Kind::Binary(op, sides) if nested > 0 => {
            *work += 1;
            let b = number(&sides.1, names, work, nested - 1)?;
            let a = number(&sides.0, names, work, nested - 1)?;
            Number::computed(*op, a, b)
        }
        _ => Number::of(place(expr, names)?),
    }
}

/// The value of an operand: one that exists, or one that is computed into `made`.
#[inline]
fn operand<'v>(expr: &'v Expr, names: &Names<'v>, work: &mut u64, made: &'v mut Value) -> Option<&'v Value> {
    if let Kind::Const(value) = &expr.kind {
        return Some(value);
    }
    match value(expr, names, work)? {
        Found::There(value) => Some(value),
        Found::Made(value) => {
            *made = value;
            Some(made)
        }
    }
}

/// The value that an expression names, where it exists. What an evaluation holds open looks empty, so that nothing is found in it.
#[inline]
fn place<'v>(expr: &'v Expr, names: &Names<'v>) -> Option<&'v Value> {
    match &expr.kind {
        Kind::Const(value) => Some(value),
        Kind::Slot(slot) => names.slots.get(*slot as usize),
        Kind::Local(local) => names.local(*local),
        _ => within(expr, names),
    }
}

/// The value that an expression names within another.
fn within<'v>(expr: &'v Expr, names: &Names<'v>) -> Option<&'v Value> {
    match &expr.kind {
        Kind::Chain(of) => place(of, names),
        Kind::Member { of, name, .. } => match place(of, names)? {
            Value::Object(object) => object.get(name),
            _ => None,
        },
        Kind::Index { of, key, .. } => match (place(of, names)?, place(key, names)?) {
            (Value::List(list), Value::Int(at)) => list.items().get(usize::try_from(*at).ok()?),
            _ => None,
        },
        _ => None,
    }
}
