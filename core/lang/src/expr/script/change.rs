//! Methods that change the list they are called on (ECMA-262 §23.1.3), and `forEach`.

use super::super::ast::{Arg, ChangeCall, Expr, Span};
use super::super::eval::{Eval, Res, Stop, type_failure};
use super::super::functions::Change;
use super::super::methods::relative;
use kanzlei_model::value::Value;

impl Eval<'_> {
    /// Calls a method that changes a list.
    pub(in crate::expr) fn change(&mut self, call: &ChangeCall, at: Span) -> Res {
        let on = self.expr(&call.on)?;
        if on.is_nullish() {
            return self.nothing(&on, call.optional, &call.on, &format!("`{}`", call.change.name()), at);
        }
        self.meter.work(2)?;
        let result = match call.change {
            Change::ForEach => self.for_each(call, &on),
            _ => self.change_list(call, &on),
        };
        result.map_err(|stop| match stop {
            Stop::Failed(mut failure) => {
                failure.at.get_or_insert(at);
                Stop::Failed(failure)
            }
            Stop::Nothing => Stop::Nothing,
        })
    }

    fn for_each(&mut self, call: &ChangeCall, on: &Value) -> Res {
        let (Some(items), [Arg::Function(function)]) = (self.items(on), call.args.as_slice()) else {
            return no_list(call.change, on);
        };
        for (index, item) in items.iter().enumerate() {
            self.meter.work(1)?;
            match function {
                super::super::ast::Function::Arrow(arrow) if arrow.params.len() < 2 => {
                    self.apply_one(function, item)?
                }
                _ => self.apply(function, &[item.clone(), Value::Int(index as i64), on.clone()])?,
            };
        }
        Ok(Value::Undefined)
    }

    fn change_list(&mut self, call: &ChangeCall, on: &Value) -> Res {
        let (Value::List(_), number) = (on, on.open()) else { return no_list(call.change, on) };
        let Some(number) = number else {
            return type_failure(format!(
                "`{}` comes from outside of the script and cannot change; copy it first: `[...list]`",
                self.source(call.on.at)
            ));
        };
        if let (Change::Push, [Arg::Value(value)]) = (call.change, call.args.as_slice()) {
            return self.push_one(number, value);
        }
        if call.change == Change::Sort {
            return self.sort(call, on, number);
        }
        let args = self.arg_values(&call.args)?;
        for arg in &args {
            self.heap.hold(arg)?;
        }
        let length = self.heap.items(number).map_or(0, |items| items.len());
        let moved = match call.change {
            Change::Push | Change::Pop => args.len(),
            _ => args.len() + length / 4,
        };
        self.meter.work(moved as u64)?;
        match call.change {
            Change::Splice => return self.splice(number, &args, length),
            Change::Fill => return self.fill(on, number, &args, length),
            _ => {}
        }
        let Some(items) = self.heap.items_mut(number) else { return Ok(Value::Undefined) };
        Ok(match call.change {
            Change::Pop => items.pop().unwrap_or_default(),
            Change::Shift if items.is_empty() => Value::Undefined,
            Change::Shift => items.remove(0),
            Change::Unshift => {
                items.splice(0..0, args);
                Value::Int(items.len() as i64)
            }
            Change::Reverse => {
                items.reverse();
                on.clone()
            }
            _ => {
                items.extend(args);
                Value::Int(items.len() as i64)
            }
        })
    }

    #[inline]
    fn push_one(&mut self, number: u32, value: &Expr) -> Res {
        let value = self.expr(value)?;
        self.heap.hold(&value)?;
        let Some(items) = self.heap.items_mut(number) else { return Ok(Value::Undefined) };
        items.push(value);
        Ok(Value::Int(items.len() as i64))
    }

    fn splice(&mut self, number: u32, args: &[Value], length: usize) -> Res {
        let from = relative(self.integer_at(args, 0, 0.0)?, length);
        let removed = match args.len() {
            1 => length - from,
            _ => self.integer_at(args, 1, 0.0)?.clamp(0.0, (length - from) as f64) as usize,
        };
        let added = args.get(2..).unwrap_or_default().to_vec();
        let Some(items) = self.heap.items_mut(number) else { return Ok(Value::Undefined) };
        let out: Vec<Value> = items.splice(from..from + removed, added).collect();
        self.make_list(out)
    }

    fn fill(&mut self, on: &Value, number: u32, args: &[Value], length: usize) -> Res {
        let from = relative(self.integer_at(args, 1, 0.0)?, length);
        let to = relative(self.integer_at(args, 2, length as f64)?, length);
        let value = args.first().cloned().unwrap_or_default();
        for _ in from..to {
            self.heap.hold(&value)?;
        }
        if let Some(items) = self.heap.items_mut(number)
            && let Some(filled) = items.get_mut(from..to.max(from))
        {
            filled.fill(value);
        }
        Ok(on.clone())
    }

    fn sort(&mut self, call: &ChangeCall, on: &Value, number: u32) -> Res {
        let function = match call.args.first() {
            Some(Arg::Function(function)) => Some(function),
            _ => None,
        };
        let Some(items) = self.heap.items(number).cloned() else { return Ok(Value::Undefined) };
        let sorted = self.in_order(&items, function)?;
        if let Some(items) = self.heap.items_mut(number) {
            *items = sorted;
        }
        Ok(on.clone())
    }
}

fn no_list<T>(change: Change, on: &Value) -> Res<T> {
    type_failure(format!("`{}` was called on {}, which has no such method", change.name(), on.kind()))
}
