//! Methods of lists (ECMA-262 §23.1.3). Those that would change the list are not part of the language.

use std::cmp::Ordering;

use super::{arg, function, relative};
use crate::expr::ast::{Function, MethodCall};
use crate::expr::eval::{Eval, Res, range_failure, type_failure};
use crate::expr::functions::Method;
use crate::expr::ops;
use kanzlei_model::value::Value;

impl Eval<'_> {
    pub(super) fn list_method(&mut self, call: &MethodCall, on: &Value, items: &[Value]) -> Res {
        if let Some(function) = function(&call.args, 0) {
            let function = function.clone();
            return self.list_with_function(call, on, items, &function);
        }
        let args = self.arg_values(&call.args)?;
        let length = items.len();
        Ok(match call.method {
            Method::At => {
                let position = self.integer_at(&args, 0, 0.0)?;
                let index = if position < 0.0 { position + length as f64 } else { position };
                if index < 0.0 { Value::Undefined } else { items.get(index as usize).cloned().unwrap_or_default() }
            }
            Method::Concat => return self.concat(items, args),
            Method::Entries => {
                self.item_work(length)?;
                self.will_make(length * 64)?;
                let pair = |(index, item): (usize, &Value)| Value::list(vec![Value::Int(index as i64), item.clone()]);
                return self.make_rows(items.iter().enumerate().map(pair).collect());
            }
            Method::Keys => {
                self.item_work(length)?;
                return self.make_list((0..length as i64).map(Value::Int).collect());
            }
            Method::Values => {
                self.item_work(length)?;
                return self.make_list(items.to_vec());
            }
            Method::Flat => {
                let mut out = Vec::new();
                let depth = self.integer_at(&args, 0, 1.0)?;
                self.flatten(items, depth, &mut out)?;
                return self.make_list(out);
            }
            Method::Includes => {
                self.item_work(length)?;
                let from = relative(self.integer_at(&args, 1, 0.0)?, length);
                let wanted = arg(&args, 0);
                self.comparisons(items, &wanted)?;
                Value::Bool(items[from..].iter().any(|item| ops::same_value_zero(item, &wanted)))
            }
            Method::IndexOf => {
                self.item_work(length)?;
                let from = relative(self.integer_at(&args, 1, 0.0)?, length);
                let wanted = arg(&args, 0);
                self.comparisons(items, &wanted)?;
                let found = items[from..].iter().position(|item| ops::strict_equal(item, &wanted));
                Value::Int(found.map_or(-1, |at| (from + at) as i64))
            }
            Method::LastIndexOf => self.last_position(items, &args)?,
            Method::Join => return self.join(items, args.first()),
            Method::ToString => {
                let text = self.text_of(on)?;
                return self.make_text(text);
            }
            Method::ValueOf => on.clone(),
            Method::Slice => {
                let from = relative(self.integer_at(&args, 0, 0.0)?, length);
                let to = relative(self.integer_at(&args, 1, length as f64)?, length);
                self.item_work(to.saturating_sub(from))?;
                return self.make_list(items.get(from..to).unwrap_or_default().to_vec());
            }
            Method::ToReversed => {
                self.item_work(length)?;
                return self.make_list(items.iter().rev().cloned().collect());
            }
            Method::ToSorted => return self.sorted(items, None),
            Method::ToSpliced => return self.spliced(items, &args),
            Method::With => return self.with(items, &args),
            Method::HasOwnProperty => {
                let name = self.text_at(&args, 0)?;
                let here = kanzlei_model::value::array_index(&name).is_some_and(|index| (index as usize) < length);
                Value::Bool(here || &*name == "length")
            }
            method => return super::no_method(method, on),
        })
    }

    /// Charges for comparing all items with a value; texts of other lengths differ at once.
    fn comparisons(&mut self, items: &[Value], wanted: &Value) -> Res<()> {
        let Value::Text(wanted) = wanted else { return Ok(()) };
        let same = items.iter().filter(|item| item.as_text().is_some_and(|text| text.len() == wanted.len())).count();
        self.work(same as u64 * (wanted.len() as u64 / 16))
    }

    fn concat(&mut self, items: &[Value], args: Vec<Value>) -> Res {
        self.item_work(items.len())?;
        let mut out = items.to_vec();
        for value in args {
            match self.items(&value) {
                Some(items) => {
                    self.item_work(items.len())?;
                    out.extend_from_slice(&items);
                }
                None => out.push(value),
            }
        }
        self.make_list(out)
    }

    fn join(&mut self, items: &[Value], separator: Option<&Value>) -> Res {
        let separator = match separator {
            None | Some(Value::Undefined) => ",".into(),
            Some(separator) => self.text_of(separator)?,
        };
        self.will_make(separator.len() * items.len())?;
        let mut out = String::new();
        for (index, item) in items.iter().enumerate() {
            if index > 0 {
                out.push_str(&separator);
            }
            if !item.is_nullish() {
                self.append_text(item, &mut out)?;
            }
        }
        self.make_text(out)
    }

    fn spliced(&mut self, items: &[Value], args: &[Value]) -> Res {
        let length = items.len();
        let from = relative(self.integer_at(args, 0, 0.0)?, length);
        let removed = match args.len() {
            0 => 0,
            1 => length - from,
            _ => self.integer_at(args, 1, 0.0)?.clamp(0.0, (length - from) as f64) as usize,
        };
        let added = args.get(2..).unwrap_or_default();
        self.item_work(length + added.len())?;
        self.make_list([&items[..from], added, &items[from + removed..]].concat())
    }

    fn with(&mut self, items: &[Value], args: &[Value]) -> Res {
        let length = items.len();
        let position = self.integer_at(args, 0, 0.0)?;
        let index = if position < 0.0 { position + length as f64 } else { position };
        if index < 0.0 || index >= length as f64 {
            return range_failure(format!(
                "`with` was given the index {}, the array has {length} items",
                ops::number_text(position)
            ));
        }
        self.item_work(length)?;
        let mut out = items.to_vec();
        out[index as usize] = arg(args, 1);
        self.make_list(out)
    }

    fn last_position(&mut self, items: &[Value], args: &[Value]) -> Res {
        let length = items.len();
        self.item_work(length)?;
        let last = if args.len() > 1 { self.integer_at(args, 1, 0.0)? } else { f64::INFINITY };
        let end = if last < 0.0 { last + length as f64 + 1.0 } else { last + 1.0 };
        let end = end.clamp(0.0, length as f64) as usize;
        let wanted = arg(args, 0);
        self.comparisons(items, &wanted)?;
        let found = items[..end].iter().rposition(|item| ops::strict_equal(item, &wanted));
        Ok(Value::Int(found.map_or(-1, |at| at as i64)))
    }

    fn list_with_function(&mut self, call: &MethodCall, on: &Value, items: &[Value], function: &Function) -> Res {
        // Arrow functions rarely read the index or the list; those that do pay for them.
        let wanted_args = match function {
            Function::Arrow(arrow) if arrow.params.iter().any(|p| p.rest) => 3,
            Function::Arrow(arrow) => arrow.params.len().clamp(1, 3),
            Function::Named(function) if function.arrow.params.iter().any(|p| p.rest) => 3,
            Function::Named(function) => function.arrow.params.len().clamp(1, 3),
            Function::Inline(function) if function.arrow.params.iter().any(|p| p.rest) => 3,
            Function::Inline(function) => function.arrow.params.len().clamp(1, 3),
            Function::Static(_) => 3,
        };
        let args_of = |index: usize| {
            let mut args = [Value::Undefined, Value::Undefined, Value::Undefined];
            args[0] = items[index].clone();
            if wanted_args > 1 {
                args[1] = Value::Int(index as i64);
            }
            if wanted_args > 2 {
                args[2] = on.clone();
            }
            args
        };
        macro_rules! each {
            ($indexes:expr, |$index:ident, $result:ident| $body:expr) => {
                for $index in $indexes {
                    self.item_work(1)?;
                    let $result = if wanted_args == 1 {
                        self.apply_one(function, &items[$index])?
                    } else {
                        self.apply(function, &args_of($index)[..wanted_args])?
                    };
                    $body
                }
            };
        }
        let forwards = 0..items.len();
        match call.method {
            Method::Map => {
                let mut out = Vec::with_capacity(items.len());
                each!(forwards, |_index, result| out.push(result));
                self.make_list(out)
            }
            Method::Filter => {
                let mut out = Vec::new();
                each!(forwards, |index, keep| if ops::truthy(&keep) {
                    out.push(items[index].clone());
                });
                self.make_list(out)
            }
            Method::FlatMap => {
                let mut out = Vec::new();
                each!(forwards, |_index, result| self.flatten(&[result], 1.0, &mut out)?);
                self.make_list(out)
            }
            Method::Every => {
                each!(forwards, |_index, result| if !ops::truthy(&result) {
                    return Ok(Value::Bool(false));
                });
                Ok(Value::Bool(true))
            }
            Method::Some => {
                each!(forwards, |_index, result| if ops::truthy(&result) {
                    return Ok(Value::Bool(true));
                });
                Ok(Value::Bool(false))
            }
            Method::Find => {
                each!(forwards, |index, result| if ops::truthy(&result) {
                    return Ok(items[index].clone());
                });
                Ok(Value::Undefined)
            }
            Method::FindIndex => {
                each!(forwards, |index, result| if ops::truthy(&result) {
                    return Ok(Value::Int(index as i64));
                });
                Ok(Value::Int(-1))
            }
            Method::FindLast => {
                each!(forwards.rev(), |index, result| if ops::truthy(&result) {
                    return Ok(items[index].clone());
                });
                Ok(Value::Undefined)
            }
            Method::FindLastIndex => {
                each!(forwards.rev(), |index, result| if ops::truthy(&result) {
                    return Ok(Value::Int(index as i64));
                });
                Ok(Value::Int(-1))
            }
            Method::Reduce | Method::ReduceRight => self.reduce(call, on, items, function),
            Method::ToSorted => self.sorted(items, Some(function)),
            method => super::no_method(method, on),
        }
    }

    fn reduce(&mut self, call: &MethodCall, on: &Value, items: &[Value], function: &Function) -> Res {
        let mut indexes: Box<dyn Iterator<Item = usize>> =
            if call.method == Method::Reduce { Box::new(0..items.len()) } else { Box::new((0..items.len()).rev()) };
        let mut sum = if call.args.len() > 1 {
            arg(&self.arg_values(&call.args)?, 1)
        } else {
            match indexes.next() {
                Some(index) => items[index].clone(),
                None => {
                    return type_failure(format!("`{}` of an empty array needs an initial value", call.method.name()));
                }
            }
        };
        for index in indexes {
            self.item_work(1)?;
            sum = self.apply(function, &[sum, items[index].clone(), Value::Int(index as i64), on.clone()])?;
        }
        Ok(sum)
    }

    fn flatten(&mut self, items: &[Value], depth: f64, out: &mut Vec<Value>) -> Res<()> {
        self.item_work(items.len())?;
        for item in items {
            match self.items(item) {
                Some(inner) if depth >= 1.0 => self.flatten(&inner, depth - 1.0, out)?,
                _ => out.push(item.clone()),
            }
        }
        Ok(())
    }

    /// A stable merge sort; a comparison that contradicts itself returns some order, never a fault.
    pub(super) fn sorted(&mut self, items: &[Value], function: Option<&Function>) -> Res {
        let sorted = self.in_order(items, function)?;
        self.make_list(sorted)
    }

    /// Items in the order of a function, or of their texts.
    pub(in crate::expr) fn in_order(&mut self, items: &[Value], function: Option<&Function>) -> Res<Vec<Value>> {
        let (mut defined, undefined): (Vec<Value>, Vec<Value>) =
            items.iter().cloned().partition(|item| !matches!(item, Value::Undefined));
        if function.is_none() {
            defined = self.sort_by_text(defined)?;
        } else if let Some(function) = function {
            defined = self.merge_sort(defined, function)?;
        }
        defined.extend(undefined);
        Ok(defined)
    }

    fn merge_sort(&mut self, mut items: Vec<Value>, function: &Function) -> Res<Vec<Value>> {
        let mut width = 1;
        while width < items.len() {
            self.item_work(items.len())?;
            let mut merged = Vec::with_capacity(items.len());
            for pair in items.chunks(2 * width) {
                let (mut left, mut right) = pair.split_at(width.min(pair.len()));
                while let (Some(a), Some(b)) = (left.first(), right.first()) {
                    let order = self.apply(function, &[a.clone(), b.clone()])?;
                    if self.number_of(&order)?.partial_cmp(&0.0) == Some(Ordering::Greater) {
                        merged.push(b.clone());
                        right = &right[1..];
                    } else {
                        merged.push(a.clone());
                        left = &left[1..];
                    }
                }
                merged.extend_from_slice(left);
                merged.extend_from_slice(right);
            }
            items = merged;
            width *= 2;
        }
        Ok(items)
    }
}
